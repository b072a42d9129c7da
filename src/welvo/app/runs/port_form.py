"""The form of a port: what it listens to, where its stream begins, what it is configured for."""

from __future__ import annotations

from welvo.app.runs.common import show_cards
from welvo.app.runs.riser_drawing import At
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import Row, Subject, Ticked, Together, Typed, ValueChoice
from welvo.app.widgets.painting import make_button
from welvo.app.widgets.panels import FormPanel, Rows, Title
from welvo.patch.limits import slots_of_port
from welvo.rig.abilities import ability_of_port
from welvo.rig.buses import ADDRESSINGS, CONTROLS
from welvo.rig.counting import SLOTS
from welvo.rig.edits import set_port
from welvo.rig.lookup import universe_by_number
from welvo.rig.notation import say_place, say_thousands
from welvo.rig.plan import model_of
from welvo.rig.protocol import PROTOCOLS, say_wire
from welvo.rig.readers import Percent, read_whole_number
from welvo.rig.refs import Goto, PortRef
from welvo.rig.wiring import Port
from welvo.runs.cable import PortStream
from welvo.runs.edits import follow_runs, set_stream, what_follows
from welvo.runs.power import frame_ms, loads_of_supplies

PUTS_OUT = {"dmx": "puts out DMX", "pixels": "puts out pixel data", "bus": "puts out a lamp bus"}
STREAM: tuple[Row | Together, ...] = (
    ValueChoice(
        "Begins",
        "Where its stream begins: at the feed's universe, right behind the port before, or at the next universe.",
        "follows",
        (
            ("", "at its own universe"),
            ("packed", "right behind the port before"),
            ("universe", "at the next universe"),
        ),
        words="where it begins",
    ),
    Typed("At slot", "The slot of that universe at which the stream begins, 1 to 512.", "start", width=84),
    Typed(
        "Configured",
        "How many pixels the device is configured for on this port; 0: as many as are connected. Too many reach into "
        "what comes behind.",
        "pixels",
        width=84,
        words="configured pixels",
    ),
    Typed(
        "Brightness",
        "Brightness of the port in per cent, one factor of the product. With a bridge on it, it must be 100.",
        "brightness",
        Percent(),
        width=84,
    ),
    Ticked(
        "Instead of the device's",
        "The port's brightness stands in for that of the whole device; off: the two are multiplied.",
        "overrides",
    ),
    Typed("Gamma", "The gamma curve of the port; 1 is none. With a bridge on it, it must be 1.", "gamma", width=84),
    Ticked("Dithering", "Trembles the lowest bit for finer steps. With a bridge on it, it must be off.", "dither"),
)


def _slots_field(panel: FormPanel, ref: PortRef) -> Typed:
    """How many slots a DMX port puts out, where that is less than its model can."""
    s = panel.session

    def take_typed(typed: str) -> object:
        now = s.rig.devices[ref.device].ports.get(ref.port, Port()).settings
        settings = {k: v for k, v in now.items() if k != "slots"}
        if typed.strip():
            settings["slots"] = read_whole_number(typed, 1, SLOTS)
        return s.make_edit(set_port, ref.device, ref.port, f"slots of port {ref.port}", settings=settings)

    return Typed(
        "Slots put out",
        "How many slots this port puts out; what is patched above them stays dark. Empty: as many as its model can.",
        width=84,
        placeholder=str(slots_of_port(s.rig, *ref)),
        shown=lambda port: str(port.settings.get("slots", "")),
        take=take_typed,
    )


def show_port(panel: FormPanel, ref: PortRef) -> None:
    s = panel.session
    able = ability_of_port(s.rig, *ref)
    limit = f", {say_thousands(able.pixels)} pixels at most ({able.of})" if able.pixels else ""
    off = f" Mode “{able.off}” switches it off." if able.off else ""

    def now() -> Port | None:
        device = s.rig.devices.get(ref.device)
        return device.ports.get(ref.port, Port()) if device else None

    def change(words: str, **fields: object) -> object:
        return s.make_edit(set_stream, *ref, f"{words} of port {ref.port}", **fields)

    panel.body.addWidget(Title(f"Port {ref.port}", s.rig.devices[ref.device].name))
    panel.words(f"It {PUTS_OUT[able.gives]}{limit}.{off}")
    takes = ValueChoice(
        "Listens to",
        "Which feed's universe the port begins with. It runs on over the universes behind it.",
        options=lambda: [
            ("", "nothing"),
            *(
                (k, f"{say_wire(f.protocol, f.wire)} · {s.rig.universes[f.universe].number}")
                for k, f in s.rig.feeds.items()
                if f.universe in s.rig.universes
            ),
        ],
        shown=lambda port: str(port.feed),
        take=lambda fid: change("feed", feed=fid, follows=""),
    )
    form = panel.new_form(Subject(now, change), Port).add(takes)
    if able.gives == "bus":
        _show_bus(panel, ref)
        return
    if able.gives == "dmx":
        form.add(_slots_field(panel, ref))
    if able.gives == "pixels":
        model = model_of(s.rig, ref.device)
        own = (t.chip for t in s.rig.pixel_types.values() if t.chip)
        chips = list(dict.fromkeys((*(model.chips if model else ()), *own)))
        chip = ValueChoice(
            "Chip type",
            "Which chip type the port is set to speak. Empty: the string's own.",
            "chip",
            [("", "the string's"), *((c, c) for c in chips)],
        )
        form.add(*STREAM, chip)
    show_cards(panel, ref.device, At(ref.port, -1, 0))
    panel.table("Its stream", lambda: _facts_of_stream(panel, ref))
    patch_buttons(panel, *ref)


def _show_bus(panel: FormPanel, ref: PortRef) -> None:
    """A lamp bus has no pixels and no cable to be drawn: what is planned on it, and the way to its board."""
    s = panel.session

    def facts() -> Rows:
        device = s.rig.devices.get(ref.device)
        bus = device.ports.get(ref.port, Port()).bus if device else None
        if bus is None:
            return (("Gear", "none planned"),)
        return (
            ("Gear", f"{len(bus.gear)} planned"),
            ("Addressing", ADDRESSINGS[bus.addressing][1]),
            ("Control", CONTROLS[bus.control][0]),
            ("Slots", str(bus.slots_needed)),
        )

    panel.table("Its bus", facts)
    goes = Goto("bus", ref.device, ref.port, -1)
    help_text = "Goes to the board of this bus in Devices: its gear, groups and scenes."
    panel.body.addLayout(
        flow_of_widgets(make_button("Show the bus", lambda: s.place_wanted.emit(goes), help_text), None)
    )


def _facts_of_stream(panel: FormPanel, ref: PortRef) -> Rows:
    s = panel.session
    cables = s.index.cables_and_sums
    stream = cables.streams.get(ref)
    if stream is None:
        return ()
    able = ability_of_port(s.rig, *ref)
    amps = next((x for x in loads_of_supplies(cables) if (x.id, x.port) == ref), None)
    used = stream.used
    last = used[-1] if used else (0, 0)
    through = f"{len(used)}: {used[0][0]}–{last[0]}" if len(used) > 1 else f"1: {last[0]}" if used else "none"
    of = f" of {say_thousands(able.pixels)}" if able.pixels else ""
    rated = f" of {amps.rated:g}" if amps and amps.rated else ""
    return (
        ("Begins", say_place(*stream.start) if stream.start else "no universe yet"),
        *_own_page(panel, ref, stream),
        ("Pixels on the cable", f"{say_thousands(stream.leds)}{of}"),
        ("Slots of the stream", say_thousands(stream.slots)),
        ("Universes", through),
        ("Needed of the last", f"{last[1]} slots" if used else "—"),
        ("One frame takes", f"{frame_ms(cables, stream):.1f} ms"),
        *((("From the port at white", f"{amps.amps:.1f} A{rated}"),) if amps else ()),
    )


def _own_page(panel: FormPanel, ref: PortRef, stream: PortStream) -> Rows:
    """The first universe and slot in the counting of the device's own pages."""
    rig = panel.session.rig
    model = model_of(rig, ref.device)
    if model is None or stream.start is None or not model.counts:
        return ()
    uid = universe_by_number(rig, stream.start[0])
    feed = next(
        (f for f in rig.feeds.values() if f.universe == uid and PROTOCOLS[f.protocol].has_universe_numbers), None
    )
    if feed is None:
        return ()
    record = PROTOCOLS[feed.protocol]
    shown = record.from_zero(feed.wire) + model.counts.get(feed.protocol, record.base)
    return (("On its own page", f"universe {shown}, slot {stream.start[1] + model.counts.get('slot', 1) - 1}"),)


def patch_buttons(panel: FormPanel, device_id: str, port: str = "") -> None:
    """Unpatched only, or replace all: a clear choice, with the counts on it."""
    s = panel.session
    new = make_button(
        "Patch",
        lambda: s.make_edit(follow_runs, device_id, port),
        "Lets what has no address yet take it from the cable.",
    )
    every = make_button(
        "Replace all",
        lambda: s.make_edit(follow_runs, device_id, port, True),
        "Lets everything take its address from the cable, typed addresses included; locked ones stay.",
    )

    def say() -> None:
        if device_id in s.rig.devices:
            have = what_follows(s.rig, device_id, port)
            locked = f", {len(have.locked)} locked stay" if have.locked else ""
            new.setText(f"Patch {len(have.new)} unpatched")
            new.setVisible(bool(have.new))
            every.setText(f"Replace all {len(have.new) + len(have.typed)}{locked}")
            every.setVisible(bool(have.typed))

    panel.refreshers.append(say)
    panel.body.addLayout(flow_of_widgets(new, None))
    panel.body.addLayout(flow_of_widgets(every, None))
