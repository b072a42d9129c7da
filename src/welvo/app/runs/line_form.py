"""Forms for what stands behind bridges and converters, and for DMX lines."""

from __future__ import annotations

import re
from collections.abc import Callable

from welvo.app.runs.common import INSTEAD, Here, own_start, say_what_it_is
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import CaptionBeside, Subject, Together, Typed, ValueChoice
from welvo.app.widgets.painting import make_button
from welvo.app.widgets.panels import Rows
from welvo.formats.models import shipped_models
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.lookup import fixtures_by_number, name_of_item
from welvo.rig.notation import metric, read_numbers, say_count, say_numbers_in_order, say_place
from welvo.rig.readers import LevelList, Number, Percent, read_decimal, read_whole_number
from welvo.rig.refs import PortRef
from welvo.rig.runs import Segment, dmx_key, dmx_owner
from welvo.runs.along import components_of
from welvo.runs.bridge import Slots, colour_in_its_place, demands_of_bridge, first_free, rows_behind_bridge, set_right
from welvo.runs.cable import Piece, PortStream
from welvo.runs.edits import set_bridge_model, set_guidance
from welvo.runs.lamps import channels_driven, read_functions, say_functions, slot_map, slots_of_lamp
from welvo.survey.lines import LineSum, contacts_of_adapter, line_sum, plug_of

MOST_LAMPS = 24
"""Lamps behind a bridge that get a field of their own in the panel."""
MOST_SLOTS = 96
"""Slots of a converter that its table lists."""
BRIDGE_NAME = Typed("Name", "What the crew calls this bridge. Free words.", "name")
LINE_NAME = Typed("Name", "What the crew calls this line. Free words.", "name")
WIDTH = Typed(
    "Width",
    "How many slots of the stream become DMX, 1 to 512. Lamps above it get nothing.",
    "width",
    width=84,
)
BRIDGE_LEVEL = Typed(
    "Brightness",
    "Brightness of this segment in per cent. All on the way must come to 100, or this one stand in for them at 100.",
    "brightness",
    Percent(),
    width=84,
)
CHANNELS = Typed(
    "Channels",
    "What each channel of a lamp does, in order: dimmer red green blue white, or a fixed value such as =128.",
    shown=lambda one: say_functions(one.functions),
)
FAR_END = ValueChoice(
    "Far end",
    "Whether the last lamp has a terminator. An open end echoes.",
    "terminated",
    (("", "not known"), ("yes", "terminated"), ("no", "open")),
    read=lambda key: {"": None, "yes": True, "no": False}[key],
    say=lambda value: {None: "", True: "yes", False: "no"}[value],
)


# ---- bridges


def show_bridge(here: Here) -> None:
    """A bridge, the fixtures behind it with their DMX addresses, and what must hold for DMX to come out right."""
    panel, s = here.panel, here.session
    model = ValueChoice(
        "Model",
        "What kind of bridge it is. The model says how many slots it has and whether anything may follow it.",
        options=lambda: [("", "not known"), *_bridges(s.rig).items()],
        shown=lambda one: str(one.model),
        take=lambda key: _set_model(here, key),
    )
    panel.new_form(here.subject, Segment).add(BRIDGE_NAME, model, WIDTH, _fixtures(here))
    say_what_it_is(here)
    panel.rule()
    addresses = panel.new_form(here.subject, Segment).add(BRIDGE_LEVEL, INSTEAD, own_start(here))
    piece = here.piece
    if piece is None:
        return
    for r in rows_behind_bridge(s.index.cables_and_sums, *piece)[:MOST_LAMPS]:
        addresses.add(_dmx_line(here, r.key, r.break_no, r.name))
    panel.table("For DMX to come out right", lambda: _terms(here))
    right = make_button(
        "Set it right",
        lambda: s.make_edit(set_right, here.device_id, here.at.label, here.at.n),
        "Sets every brightness on the way to 100 % and takes away what would change the bytes.",
    )

    def wrong() -> None:
        live = here.piece
        right.setEnabled(
            live is not None and any(not d.holds and d.edit for d in demands_of_bridge(s.index.cables_and_sums, *live))
        )

    panel.refreshers.append(wrong)
    panel.body.addLayout(flow_of_widgets(None, right))
    _substitution(here)
    panel.rule()
    _daisy_chain(here)
    panel.table("The line behind it, lamp by lamp", lambda: _stops(here))
    panel.table("Adapters, contact by contact", lambda: _contacts(here))


def _bridges(rig: Rig) -> dict[str, str]:
    """Models of bridges: those of the rig by id, those that ship with a plus before their key."""
    have = {k: f"{v.maker} {v.name}".strip() for k, v in rig.device_models.items() if v.kind == "bridge"}
    more = {
        f"+{k}": f"{v.maker} {v.name}".strip()
        for k, v in shipped_models().items()
        if v.kind == "bridge" and v not in rig.device_models.values()
    }
    return {**have, **more}


def _set_model(here: Here, key: str) -> object:
    model = shipped_models()[key[1:]] if key.startswith("+") else None
    return here.session.make_edit(set_bridge_model, here.device_id, here.at.label, here.at.n, key, model)


def _terms(here: Here) -> Rows:
    live = here.piece
    found = demands_of_bridge(here.session.index.cables_and_sums, *live) if live else []
    return tuple((d.what, "yes" if d.holds else "no") for d in found)


def _fixtures(here: Here) -> Typed:
    """The lamps behind a bridge or a converter, or on a line, by number."""
    rig = here.session.rig

    def take_typed(typed: str) -> object:
        keys = fixtures_by_number(here.session.rig, read_numbers(typed))
        left = {k: v for k, v in here.segment.dmx.items() if dmx_owner(k, keys)}
        return here.change("fixtures", fixtures=tuple(dict.fromkeys(keys)), dmx=left)

    assert here.device_id in rig.devices
    return Typed(
        "Fixtures",
        "The lamps behind it in cable order, by number: 201-205, 301. Those without an address get theirs from here.",
        placeholder="201-205",
        shown=lambda one: say_numbers_in_order(
            here.session.rig.fixtures[f].number for f in one.fixtures if f in here.session.rig.fixtures
        ),
        take=take_typed,
    )


def _dmx_line(here: Here, key: str, break_no: int, name: str) -> Together:
    """The DMX address of one break behind the bridge, and beside it where the stream carries it."""
    s = here.session
    own = dmx_key(key, break_no)

    def mine() -> tuple[list[Slots], Slots | None]:
        live = here.piece
        found = rows_behind_bridge(s.index.cables_and_sums, *live) if live else []
        return found, next((r for r in found if (r.key, r.break_no) == (key, break_no)), None)

    def dmx(_: Segment) -> str:
        r = mine()[1]
        return str(r.dmx) if r else ""

    def carried(_: Segment) -> str:
        r = mine()[1]
        return (say_place(*r.places[0][0]) if r.places else "not carried") if r else ""

    def take_typed(typed: str) -> object:
        t = typed.strip().lower()
        now = here.segment.dmx
        if not t:
            return here.change(f"{name} follows", dmx={k: v for k, v in now.items() if k != own})
        if s.rig.fixtures[key].place_of_break(break_no).origin_of_place != "run":
            raise Refused(f"{name} has an address of its own; let it follow the cable first.")
        found, r = mine()
        if t == "free" and r:
            return here.change(f"{name} to a gap", dmx={**now, own: first_free(found, r.last - r.dmx + 1, r)})
        return here.change(f"{name} to DMX {t}", dmx={**now, own: read_whole_number(t, 1, 512)})

    label = f"{name} DMX"
    help_text = (
        "Its DMX address behind the bridge, 1 to 512; empty: right behind the one before it; free: the first gap."
    )
    return Together(
        label, (Typed(label, help_text, width=64, shown=dmx, take=take_typed), CaptionBeside(carried), None)
    )


def _substitution(here: Here) -> None:
    """Which colour a plain pixel shows in the bridge's place, for levels of its first three slots."""
    panel = here.panel
    panel.rule()
    panel.words(
        "Substitution test: put a plain RGB pixel in the bridge's place. With these levels on its first three DMX "
        "addresses it shows …",
        quiet=False,
    )
    levels = _Tried(panel.refresh, [255, 0, 0], LevelList(3, "three levels", "255 0 0"))
    panel.new_form(Subject(lambda: levels, lambda *_, **__: None)).add(
        Typed(
            "Levels",
            "Levels of the first three slots behind the bridge, 0 to 255 each. Nothing is sent from here.",
            width=110,
            shown=lambda tried: tried.words_tried,
            take=levels.take_tried,
            acts=True,
        )
    )

    def shown() -> Rows:
        live = here.piece
        if live is None:
            return ()
        red, green, blue = levels.values
        got = colour_in_its_place(here.session.index.cables_and_sums, *live, (red, green, blue))
        return ((f"red {got.red} · green {got.green} · blue {got.blue}", got.word),)

    panel.table("The plain pixel shows", shown)


class _Tried:
    """Levels that are only tried in the panel: nothing of them is kept, and nothing is sent."""

    def __init__(self, again: Callable[[], None], values: list[int], reader: LevelList) -> None:
        self.values, self._again, self._reader = values, again, reader

    @property
    def words_tried(self) -> str:
        return self._reader.say_value(self.values)

    def take_tried(self, typed: str) -> None:
        self.values = self._reader.read_text(typed)
        self._again()


# ---- converters


def show_converter(here: Here) -> None:
    """A converter: one pixel for each lamp, what each channel of it gets, and what nothing drives."""
    panel = here.panel
    channels = Typed(
        CHANNELS.label,
        CHANNELS.help,
        shown=CHANNELS.shown,
        take=lambda t: here.change("channels", functions=read_functions(t)),
    )
    every = Typed(
        "Spacing",
        "Start to start of two lamps in slots; 0: packed.",
        "spacing",
        width=48,
        shown=lambda one: str(one.spacing or len(one.functions)),
    )
    first = Typed(
        "First address",
        "DMX address of the first lamp on the converter's line, and how many slots from start to start.",
        "start",
        width=64,
    )
    panel.new_form(here.subject, Segment).add(
        channels, Together("First · every", (first, every, None)), _fixtures(here)
    )
    say_what_it_is(here)
    panel.rule()
    colour = _Tried(panel.refresh, [255, 160, 0, 255], LevelList(4, "red, green, blue and brightness", "255 160 0 200"))
    panel.new_form(Subject(lambda: colour, lambda *_, **__: None)).add(
        Typed(
            "Colour",
            "A colour and a brightness, 0 to 255 each, to see what every slot gets. Nothing is sent from here.",
            width=140,
            shown=lambda tried: tried.words_tried,
            take=colour.take_tried,
            acts=True,
        )
    )
    panel.table("The first lamp's slots get", lambda: _first_lamp(here, colour.values))
    panel.table("Slot map: lamp's side, sender's side", lambda: _slot_map(here))
    panel.table("Channels of the first lamp", lambda: _driven(here))


def _first_lamp(here: Here, colour: list[int]) -> Rows:
    one = here.segment
    letters = components_of(here.session.rig, here.piece[1]) if here.piece else "RGB"
    values = slots_of_lamp(one.functions, {c: v for c, v in zip("RGB", colour) if c in letters}, colour[3])
    return tuple(
        (f"DMX {one.start + n} · {say_functions((f,))}", str(v)) for n, (f, v) in enumerate(zip(one.functions, values))
    )


def _slot_map(here: Here) -> Rows:
    live = here.piece
    slots = slot_map(here.session.index.cables_and_sums, *live) if live else []
    found = [
        (
            f"DMX {x.dmx} · {say_functions((x.function,))}",
            f"lamp {x.lamp} · px {x.pixel}" + (f" · {say_place(*x.place)}" if x.place else ""),
        )
        for x in slots[:MOST_SLOTS]
    ]
    more = len(slots) - MOST_SLOTS
    return (*found, *((("and so on", f"{more} more slots"),) if more > 0 else ()))


def _driven(here: Here) -> Rows:
    one, rig = here.segment, here.session.rig
    first = rig.fixtures.get(one.fixtures[0]) if one.fixtures else None
    letters = components_of(rig, here.piece[1]) if here.piece else "RGB"
    found = channels_driven(rig, first, one.functions, letters) if first else []
    return tuple((f"{d.slot} {d.name}", d.gets if d.fits else f"{d.gets or 'nothing'} — not driven") for d in found)


# ---- DMX lines


def show_line(here: Here) -> None:
    """A DMX line on a port: its lamps in cable order, unit loads, metres and adapters."""
    panel, s = here.panel, here.session
    panel.new_form(here.subject, Segment).add(LINE_NAME, _fixtures(here))
    _daisy_chain(here)
    metres = Number(Rig, "line_metres", "m")
    panel.new_form(Subject(lambda: s.rig, lambda *_, **__: None), Rig).add(
        Typed(
            "Guidance",
            "How many metres of DMX line are worth a finding in this rig; 300 is a common one.",
            width=84,
            shown=lambda rig: metres.say_value(rig.line_metres),
            take=lambda t: s.make_edit(set_guidance, metres.read_text(t)),
        )
    )
    panel.table("Lamp by lamp", lambda: _stops(here))
    panel.table("Adapters, contact by contact", lambda: _contacts(here))
    say_what_it_is(here)


def _daisy_chain(here: Here) -> None:
    """What is said of a daisy chain: cables, boosters, its far end."""

    def lengths(typed: str) -> object:
        parts = [p for p in re.split(r"[;\s]+|,\s+", metric(typed).replace("m", " ").strip()) if p]
        values = [read_decimal(p, 0, 10_000) for p in parts]
        lamps = here.segment.fixtures
        if len(values) == 1:
            return here.change("cables", lengths=dict.fromkeys(lamps, values[0]) if values[0] else {})
        if len(values) != len(lamps):
            raise Refused(
                f"{len(values)} lengths for {say_count(len(lamps), 'lamp')}: write one for all, or one for each in "
                "cable order."
            )
        return here.change("cables", lengths={k: v for k, v in zip(lamps, values) if v})

    def say_lengths(one: Segment) -> str:
        values = [one.lengths.get(f, 0.0) for f in one.fixtures]
        return f"{values[0]:g}" if len(set(values)) == 1 else "; ".join(f"{v:g}" for v in values) if values else "0"

    def boosters(typed: str) -> object:
        rig = here.session.rig
        by_number = {rig.fixtures[k].number: k for k in here.segment.fixtures if k in rig.fixtures}
        wanted = read_numbers(typed)
        missing = next((n for n in wanted if n not in by_number), None)
        if missing is not None:
            raise Refused(f"{missing} is not on this line.")
        return here.change("boosters", boosters=tuple(by_number[n] for n in wanted))

    here.panel.new_form(here.subject, Segment).add(
        Typed(
            "Cables m",
            "Metres of cable before each lamp: one number for all, or one for each in cable order, such as 12; 3; 3.",
            shown=say_lengths,
            take=lengths,
        ),
        Typed(
            "Boosters",
            "Before which lamps a splitter or booster stands, by number. It begins unit loads and length anew.",
            placeholder="none",
            shown=lambda one: ", ".join(name_of_item(here.session.rig, k) for k in one.boosters),
            take=boosters,
        ),
        FAR_END,
    )


def _line_sum(here: Here) -> LineSum | None:
    """The sums of a line, on a port of its own or behind a bridge."""
    s, one = here.session, here.segment
    live: tuple[PortStream, Piece] | None = here.piece
    if live:
        return line_sum(s.index, one, live[1], "", plug_of(s.rig, here.device_id, one) if one.model else "")
    line = s.index.cables_and_sums.lines.get(PortRef(here.device_id, here.at.label))
    return line_sum(s.index, one, None, line.universe, plug_of(s.rig, here.device_id)) if line else None


def _stops(here: Here) -> Rows:
    total = _line_sum(here)
    if total is None or not total.stops:
        return ()
    ways = [
        ("Unit loads · metres", f"{total.heaviest:g} of 32 · {total.longest:g} m"),
        ("Order", "by address" if total.in_order else "not by address"),
    ]
    for x in total.stops[:40]:
        name = f"{x.turn}. {x.name}{' · booster' if x.booster else ''}"
        facts = [f"set {x.dmx or '—'}", f"{x.metres:g} m" if x.metres else "", x.adapter]
        ways.append((name, " · ".join(f for f in facts if f)))
    return tuple(ways)


def _contacts(here: Here) -> Rows:
    total = _line_sum(here)
    found: list[tuple[str, str]] = []
    for need in total.adapters if total else ():
        a, b = need.split(" to ")
        found += [
            (f"{need} · {function}", f"{mine} → {theirs}") for function, mine, theirs in contacts_of_adapter(a, b)
        ]
    return tuple(found)
