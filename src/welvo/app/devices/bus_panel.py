"""A lamp bus in the panel: how it follows its universe; or one of its places, plan and reported side by side."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import asdict
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from welvo.app.devices.bus_page import BusPage
from welvo.app.devices.notices import BothLine
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.forms import Row, Subject, Together, Typed, ValueChoice
from welvo.app.widgets.painting import CENTRE, draw_text_line, make_button, make_label
from welvo.app.widgets.panels import FormPanel, Title, Ways, finding_card
from welvo.app.widgets.theme import THEME
from welvo.buses.edits import copy_gear, remove_gear, set_bus, set_gear
from welvo.buses.plan import arc_level, bus_at, bus_of, curve_table, light_of_level, timing_of_bus
from welvo.matching.gear import (
    LABELS,
    GearPlace,
    read_gear_level,
    read_groups,
    read_rate,
    read_time,
    say_groups,
    say_kind,
    say_rate,
    say_time,
    status_words,
)
from welvo.observed.values import GearSeen
from welvo.protocols import dali
from welvo.rig.base import Refused
from welvo.rig.buses import ADDRESSINGS, CONTROLS, CURVES, Bus, Gear
from welvo.rig.counting import SLOTS
from welvo.rig.edits import set_port
from welvo.rig.notation import say_count, say_numbers, say_place
from welvo.rig.refs import BUS, SegmentRef

SEVERAL = "several"
"""The choice that stands for different values of several gear."""


def show_bus(panel: FormPanel, page: BusPage) -> None:
    """How the bus follows its universe: address, addressing, control, curve; what follows from it, in numbers."""
    s, ref = panel.session, page.bus_shown
    bus = bus_at(s.rig, ref)
    port = s.rig.devices[ref.device].ports[ref.port]
    panel.body.addWidget(Title(ref.port, s.rig.devices[ref.device].name))
    here = bus_of(s.rig, SegmentRef(*ref, BUS))
    if here is None:
        panel.words("It follows no universe yet. Choose its feed under Settings.", quiet=False)

    def change(what: str, **fields: object) -> object:
        return s.make_edit(set_bus, ref, f"{what} of {ref.port}", **fields)

    def begin(typed: str) -> object:
        if not typed.strip().isdecimal() or not 1 <= int(typed) <= SLOTS:
            raise Refused(f"The first slot is a number from 1 to {SLOTS}.")
        return s.make_edit(set_port, ref.device, ref.port, f"begin {ref.port} at {int(typed)}", start=int(typed))

    panel.new_form(Subject(lambda: bus_at(s.rig, ref), change), Bus).add(
        Typed(
            "First slot",
            "The slot of its universe from which the bus takes its levels. One off shifts every gear by one.",
            shown=lambda _: str(s.rig.devices[ref.device].ports[ref.port].start),
            take=begin,
            width=72,
        ),
        ValueChoice(
            "Addressing",
            "Whether its slots speak to each gear, to the sixteen groups, or to all at once. Moves every slot.",
            "addressing",
            tuple((k, f"{words} ({n})") for k, (n, words) in ADDRESSINGS.items()),
        ),
        ValueChoice(
            "Control",
            "What the slots of a place do. Colour reaches only gear of the colour type.",
            "control",
            tuple((k, f"{words} ({len(parts)})") for k, (words, parts) in CONTROLS.items()),
        ),
        ValueChoice(
            "Curve",
            "How a slot's level becomes a level on the bus. Bent here and at the sender, dimming is bent twice.",
            "curve",
            tuple(CURVES.items()),
        ),
        Typed(
            "Least level",
            "The least level that is sent for a slot above zero, 1 to 254. Set high, lamps cannot be dimmed low.",
            "least",
            width=72,
        ),
        Typed(
            "May take (s)",
            "How many seconds a change of everything may take. Longer than that is a finding.",
            "every",
            width=72,
        ),
    )
    for f in [x for x in s.report.findings if (x.goes_to.kind, x.goes_to.id, x.goes_to.port) == ("bus", *ref)][:3]:
        panel.body.addWidget(finding_card(s, panel.network, f))
    t = timing_of_bus(bus)
    last = port.start + bus.slots_needed - 1
    number = s.rig.universes[here.universe].number if here else 0
    ends = f"{say_place(number, min(last, SLOTS))}{f', {last - SLOTS} past' if last > SLOTS else ''}" if here else "–"
    panel.body.addWidget(
        Ways(
            "What follows from it",
            (
                ("Slots", f"{bus.count_places} × {bus.slots_per_place} = {bus.slots_needed}"),
                ("Begins", say_place(number, port.start) if here else "–"),
                ("Ends", ends),
                ("To change all", f"{say_count(t.frames, 'frame')}, {t.seconds:.1f} s"),
            ),
        )
    )
    panel.body.addWidget(CurvePicture(bus))
    rows = tuple((f"slot {v}", f"level {n} · {lit:.1f} %") for v, n, lit in curve_table(bus.curve, bus.least))
    panel.body.addWidget(Ways("Slot, level on the bus, light", rows))


class CurvePicture(QWidget):
    """Light over slot: what the gear gives for each level that is sent, with the numbers at its ends and its middle."""

    def __init__(self, bus: Bus) -> None:
        super().__init__()
        self._bus = bus
        self.setFixedHeight(120)
        middle = light_of_level(arc_level(128, bus.curve, bus.least), bus.curve)
        self.setAccessibleName(f"Curve: slot 128 gives {middle:.1f} % light")

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        left = 38.0 + 4 * THEME.step
        area = QRectF(left, 8, self.width() - left - 18, self.height() - 30)
        p.fillRect(area, THEME.color("field"))
        for share, words in ((0.0, "0"), (0.5, "50 %"), (1.0, "100 %")):
            y = area.bottom() - share * area.height()
            p.fillRect(QRectF(area.x(), y, area.width(), 1), THEME.color("line"))
            draw_text_line(p, QRectF(0, y - 9, left - 4, 18), words, "quiet", 11)
        for slot in (0, 128, 255):
            x = area.x() + area.width() * slot / 255
            p.fillRect(QRectF(x, area.y(), 1, area.height()), THEME.color("line"))
            draw_text_line(p, QRectF(x - 20, area.bottom() + 3, 40, 16), str(slot), "quiet", 11, align=CENTRE)
        at = [
            QPointF(
                area.x() + area.width() * v / 255,
                area.bottom()
                - light_of_level(arc_level(v, self._bus.curve, self._bus.least), self._bus.curve) / 100 * area.height(),
            )
            for v in range(256)
        ]
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(THEME.color("accent"), 2))
        p.drawPolyline(at)


def show_place(panel: FormPanel, page: BusPage, place: GearPlace) -> None:
    """One place: what is planned there, where the gear is to go, plan and reported, what it says of itself."""
    s, ref = panel.session, page.bus_shown
    gear, seen = place.planned, place.seen
    panel.body.addWidget(Title(f"Gear {place.at}", gear.name if gear else "not planned"))
    model_base = page.counted_from()
    more = f", {place.at + model_base} on its page" if model_base else ""
    panel.words(f"{ref.port} of {s.rig.devices[ref.device].name}, short address {place.at}{more}.")
    _planned_fields(panel, page, [place.at])
    if seen:
        to = Field(
            "The place at which this gear belongs. Who is there comes here; nothing happens until it is written.",
            lambda typed: page.move_to(page.work.staged.get(ref, {}).get(place.at, place.at), typed),
        )
        to.setAccessibleName("Move to place")
        to.setPlaceholderText(str(page.work.staged.get(ref, {}).get(place.at, place.at)))
        keep_width(to, 64)
        panel.body.addLayout(flow_of_widgets(make_label("Move to place", quiet=True), to, None))
        level = Field(
            "A level for this gear alone: 0 to 254, or a share such as 10 %.", lambda t: _level_field(page, place, t)
        )
        level.setAccessibleName("Level now")
        level.set_value(str(seen.level) if seen.level >= 0 else "")
        keep_width(level, 64)
        panel.body.addLayout(flow_of_widgets(make_label("Level now", quiet=True), level, None))
        blink = make_button(
            "Let it blink", lambda: page.blink_gear(place.at), "It shows itself for about ten seconds.   Space"
        )
        again = make_button(
            "Read again", lambda: page.work.read_gear(ref, place.at), "Asks this gear for everything.   F5"
        )
        panel.body.addLayout(flow_of_widgets(blink, again))
    elif gear:
        panel.words("It did not answer." if page.board.searched else "The bus was not searched yet.", quiet=False)
    goes = ("bus", *ref, place.at)
    for f in [x for x in s.report.findings if tuple(x.goes_to) == goes][:3]:
        panel.body.addWidget(finding_card(s, panel.network, f))
    off = any(x.mark == "differs" and x.key != "kind" for x in place.lines)
    for line in place.lines:
        panel.body.addWidget(BothLine(LABELS[line.key], line.plan, line.reported, line.mark, "gear"))
    if off:
        write = make_button(
            "Write what is planned", lambda: page.work.write_planned(ref, [place.at]), "Sets this gear as planned."
        )
        take = make_button(
            "Plan what it has",
            lambda: _plan_what_is_there(panel, page, place),
            "Takes what it has stored into the plan.",
        )
        panel.body.addWidget(write)
        panel.body.addWidget(take)
    elif seen and gear is None:
        take = make_button(
            "Plan this gear", lambda: _plan_what_is_there(panel, page, place), "Plans it with what it has stored."
        )
        panel.body.addLayout(flow_of_widgets(take, None))
    if seen:
        panel.body.addWidget(Ways("What it says of itself", _facts_of_gear(seen)))
    if gear:
        _copy_to_others(panel, page, place)


def show_places(panel: FormPanel, page: BusPage, places: list[int]) -> None:
    """Several gear at once: what is typed is planned for all of them, and written to all of them."""
    s, ref = panel.session, page.bus_shown
    bus = bus_at(s.rig, ref)
    planned = [g for g in bus.gear if g.at in places]
    panel.body.addWidget(Title(f"Gear {say_numbers(places)}", say_count(len(places), "place")))
    panel.words("What is typed here is planned for all of them. An empty field stands for different values.")
    _planned_fields(panel, page, places)
    if planned:
        ats = [g.at for g in planned]
        write = make_button(
            f"Write what is planned to {len(ats)} gear",
            lambda: page.work.write_planned(ref, ats),
            "Sets them as planned.",
        )
        panel.body.addLayout(flow_of_widgets(write, None))
        gone = make_button("Take out of the plan", lambda: s.make_edit(remove_gear, ref, ats), "Undo brings them back.")
        panel.body.addLayout(flow_of_widgets(gone, None))


def _in_common(places: list[int], bus: Bus) -> Gear:
    """What is planned alike for several gear; where they differ, as if the plan did not care."""
    first, *others = [bus.gear_at(n) or Gear(at=n) for n in places]
    alike = {k: v for k, v in asdict(first).items() if k != "at" and all(getattr(g, k) == v for g in others)}
    return Gear(at=first.at, **alike)


def _level_field(page: BusPage, place: GearPlace, typed: str) -> None:
    level = read_gear_level(typed)
    if level is None:
        raise Refused("Type a level: 0 to 254, or a share such as 10 %.")
    page.work.set_level(page.bus_shown, place.at, level)


def _planned_fields(panel: FormPanel, page: BusPage, places: list[int]) -> None:
    """The fields of what is planned at a place, or at several."""
    s, ref, at, one = panel.session, page.bus_shown, places[0], len(places) == 1
    who = f"gear {at}" if one else f"{len(places)} gear"

    def change(what: str, **fields: object) -> object:
        return s.make_edit(set_gear, ref, places, f"{what} of {who}", **fields)

    def value() -> Gear | None:
        return _in_common(places, bus_at(s.rig, ref))

    def kind_shown(g: Gear) -> str:
        kinds = {(bus_at(s.rig, ref).gear_at(n) or g).kind for n in places}
        return str(g.kind) if len(kinds) == 1 else SEVERAL

    def drives(typed: str) -> object:
        number = typed.strip()
        key = next((k for k, f in s.rig.fixtures.items() if str(f.number) == number), "")
        if number and not key:
            raise Refused(f"There is no fixture {number} in this rig.")
        return s.make_edit(set_gear, ref, [at], f"gear {at} drives {number or 'nothing'}", fixture=key)

    def typed(
        key: str,
        words: str,
        help_text: str,
        read: Callable[[str], object],
        say: Callable[[Gear], str],
        nearest: Callable[[str], str] | None = None,
    ) -> Typed:
        return Typed(
            words, help_text, shown=say, width=96, preview=nearest,
            take=lambda t: s.make_edit(set_gear, ref, places, f"{words.lower()} of {who}", **{key: read(t)}),
        )  # fmt: skip

    def level(g: Gear, key: str, mask: str = "") -> str:
        n = getattr(g, key)
        return "" if n is None else mask if n == dali.MASK else str(n)

    def kinds() -> list[tuple[str, str]]:
        options = [("-1", "not planned"), *((str(k), f"{w} ({k})") for k, w in dali.TYPES.items() if k < 254)]
        found = value()
        return [(SEVERAL, "several types"), *options] if found and kind_shown(found) == SEVERAL else options

    def take_kind(key: str) -> object:
        return None if key == SEVERAL else change("type", kind=int(key))

    own: list[Row | Together] = [
        Typed("Name", "What the crew calls this gear. Free words; nothing depends on them.", "name"),
        Typed(
            "Drives",
            "The number of the fixture that this gear drives: it is patched on the slots of its place then.",
            shown=lambda g: str(s.rig.fixtures[g.fixture].number) if g.fixture in s.rig.fixtures else "",
            take=drives,
            width=72,
        ),
    ]
    panel.new_form(Subject(value, change), Gear).add(
        *(own if one else []),
        ValueChoice(
            "Type",
            "What kind of gear is planned here. Only the colour type follows colour.",
            options=kinds,
            shown=kind_shown,
            take=take_kind,
        ),
        typed("groups", "Groups", "Groups from 0 to 15, such as 0, 3; or none. Empty: the plan does not care.",
              read_groups, lambda g: "" if g.groups is None else say_groups(g.groups)),
        typed("fade_time", "Fade time", "Seconds, as the nearest time the standard has; or no fade.",
              read_time, lambda g: "" if g.fade_time is None else say_time(g.fade_time),
              lambda t: _nearest_step(t, read_time, say_time)),
        typed("fade_rate", "Fade rate", "Steps a second, as the nearest rate the standard has.",
              read_rate, lambda g: "" if g.fade_rate is None else say_rate(g.fade_rate),
              lambda t: _nearest_step(t, read_rate, say_rate)),
        typed("least", "Least level", "The least level it gives, 1 to 254 or a share. Too high, lamps jump on.",
              _read_light, lambda g: level(g, "least")),
        typed("greatest", "Greatest level", "The greatest level it gives, 1 to 254 or a share.",
              _read_light, lambda g: level(g, "greatest")),
        typed("power_on", "At power-on", "The level it takes when power comes: 0 to 254, a share, or last.",
              lambda t: read_gear_level(t, "last"), lambda g: level(g, "power_on", "last")),
        typed("failure", "At bus failure", "The level it takes when the bus fails: 0 to 254, a share, or last.",
              lambda t: read_gear_level(t, "last"), lambda g: level(g, "failure", "last")),
    )  # fmt: skip
    if one and bus_at(s.rig, ref).gear_at(at):
        gone = make_button("Take out of the plan", lambda: s.make_edit(remove_gear, ref, [at]), "Undo brings it back.")
        panel.body.addLayout(flow_of_widgets(gone, None))


def _nearest_step(typed: str, read: Callable[[str], int | None], say: Callable[[int | None], str]) -> str:
    """What is typed, and the step of the standard that it becomes; nothing while it is none."""
    try:
        step = read(typed)
    except Refused:
        return ""
    return f"{typed.strip()} becomes {say(step)}, the nearest there is." if step is not None else ""


def _read_light(typed: str) -> int | None:
    level = read_gear_level(typed)
    if level == 0:
        raise Refused("A limit is at least 1: 0 is off.")
    return level


def _plan_what_is_there(panel: FormPanel, page: BusPage, place: GearPlace) -> None:
    """Plan what a gear says of itself."""
    seen = place.seen
    assert seen
    fields: dict[str, object] = {"groups": seen.groups}
    if len(seen.kinds) == 1:
        fields["kind"] = seen.kinds[0]
    if seen.deep:
        fields |= {
            "least": seen.least, "greatest": seen.greatest, "power_on": seen.power_on, "failure": seen.failure,
            "fade_time": seen.fade_time, "fade_rate": max(1, seen.fade_rate),
            "scenes": tuple((n, v) for n, v in enumerate(seen.scenes) if v not in (dali.MASK, -1)),
        }  # fmt: skip
    panel.session.make_edit(set_gear, page.bus_shown, [place.at], f"plan what gear {place.at} has", **fields)


def _copy_to_others(panel: FormPanel, page: BusPage, place: GearPlace) -> None:
    """Give what is planned here to other gear, of this bus or another."""
    s = panel.session

    def copy(which: str) -> None:
        targets = []
        for label_ in page.labels_of_buses(page.device_id) if which == "all" else [page.port]:
            ref = page.bus_shown._replace(port=label_)
            targets += [(ref, g.at) for g in bus_at(s.rig, ref).gear]
        s.make_edit(copy_gear, page.bus_shown, place.at, targets)

    choice = Choice("Gives levels, fades, groups and scenes planned here to other planned gear.", copy)
    choice.setAccessibleName("Copy to")
    here = len(bus_at(s.rig, page.bus_shown).gear) - 1
    options = [("", "nobody"), ("bus", f"the {here} others of {page.port}"), ("all", "all planned gear of the gateway")]
    choice.set_options(options, "")
    panel.body.addLayout(flow_of_widgets(make_label("Copy to", quiet=True), choice))


def _facts_of_gear(seen: GearSeen) -> tuple[tuple[str, str], ...]:
    rows = [
        ("Type", " and ".join(map(say_kind, seen.kinds)) or "–"),
        ("Status", status_words(seen)),
        ("Random address", f"{seen.random:06X}" if seen.random >= 0 else "–"),
    ]
    if seen.deep:
        rows.append(("Least it can give", str(seen.physical)))
    return tuple(rows)
