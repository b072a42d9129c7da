"""What the forms of the Runs panel have in common: the place they are about, and what is said of it."""

from __future__ import annotations

from typing import Protocol

import numpy as np
from msgspec import Struct

from welvo.app.runs.riser_drawing import At
from welvo.app.session import Session
from welvo.app.widgets.forms import Subject, Ticked, Typed
from welvo.app.widgets.panels import FormPanel, Rows, finding_card
from welvo.checks.registry import Finding
from welvo.rig.base import Refused
from welvo.rig.lookup import universe_by_number
from welvo.rig.notation import read_place, say_count, say_place, say_thousands
from welvo.rig.patched import NOWHERE, Place
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef, SegmentRef
from welvo.rig.runs import Segment
from welvo.rig.wiring import Port
from welvo.runs.along import cable_order, element_pixel, piece_name
from welvo.runs.cable import Piece, PortStream
from welvo.runs.edits import change_segment, insert_pixels
from welvo.runs.pixels import device_sums

MANY = 400
"""Segments of a device above which nothing is worked out that would sum all of them anew."""


class CableView(Protocol):
    """What the panel asks of the station: where it stands, and what its list shows."""

    device_id: str
    at: At

    @property
    def picked_pixel(self) -> int: ...

    def pick_pixel(self, number: int) -> None: ...

    def segments_of_kind(self, kind: str) -> list[SegmentRef]: ...


class Here(Struct, frozen=True):
    """One segment of a cable, as the forms about it see it: read anew each time, changed by edits."""

    panel: FormPanel
    view: CableView
    device_id: str
    at: At

    @property
    def session(self) -> Session:
        return self.panel.session

    @property
    def stream(self) -> PortStream | None:
        return self.session.index.cables_and_sums.streams.get(PortRef(self.device_id, self.at.label))

    @property
    def piece(self) -> tuple[PortStream, Piece] | None:
        stream = self.stream
        return (stream, stream.pieces[self.at.n]) if stream and self.at.n < len(stream.pieces) else None

    @property
    def segment(self) -> Segment:
        device = self.session.rig.devices.get(self.device_id)
        run = device.ports.get(self.at.label, Port()).run if device else ()
        return run[self.at.n] if self.at.n < len(run) else Segment(kind="null")

    @property
    def subject(self) -> Subject:
        return Subject(lambda: self.segment, self.change)

    def change(self, words: str = "", **fields: object) -> object:
        return self.session.make_edit(change_segment, self.device_id, self.at.label, self.at.n, words, **fields)


def cards_at(session: Session, device_id: str, at: At) -> list[Finding]:
    """The findings of a segment, of a port with its segments, or of a device with its ports."""
    found = []
    for f in session.report.findings:
        to = f.goes_to
        here = not at.label or (to.port == at.label and (at.n < 0 or to.place == at.n))
        if to.kind == "run" and to.id == device_id and here:
            found.append(f)
    return found


def show_cards(panel: FormPanel, device_id: str, at: At, most: int = 3) -> None:
    for f in cards_at(panel.session, device_id, at)[:most]:
        panel.body.addWidget(finding_card(panel.session, panel.network, f))


def say_what_it_is(here: Here) -> None:
    """What is wrong with a segment, every number it has, and what a longer one would move."""
    show_cards(here.panel, here.device_id, here.at)
    if here.segment.kind != "line":
        here.panel.table("Every way it is said", lambda: _ways(here))
        here.panel.table("Ten pixels more behind it would move", lambda: _longer(here))


INSTEAD = Ticked(
    "Instead of port and device",
    "This brightness stands in for the port's and the device's; off: all are multiplied.",
    "overrides",
)


def own_start(here: Here) -> Typed:
    """An address of a segment's own, where its device can do that."""
    rig = here.session.rig

    def shown(one: Segment) -> str:
        universe = here.session.rig.universes.get(one.at.universe)
        return say_place(universe.number, one.at.address or 1) if one.at.origin_of_place == "typed" and universe else ""

    def take_typed(typed: str) -> object:
        if not typed.strip() or typed.strip().lower() in ("follows", "behind"):
            return here.change("let it follow", at=NOWHERE)
        number, address = read_place(typed)
        uid = universe_by_number(here.session.rig, number)
        if not uid:
            raise Refused(f"There is no universe {number} in this rig.")
        model = model_of(here.session.rig, here.device_id)
        if model and not model.own_starts:
            raise Refused(f"On a {model.name} segments only follow one another; it has no starts of their own.")
        return here.change(f"start at {say_place(number, address)}", at=Place(universe=uid, address=address))

    assert here.device_id in rig.devices
    return Typed(
        "Starts at",
        "An address of its own, such as 6.241, where the model can do that; empty: right behind the segment before it.",
        width=110,
        placeholder="follows",
        shown=shown,
        take=take_typed,
    )


def _ways(here: Here) -> Rows:
    """All numbers of a segment, or of the pixel of it that is chosen."""
    sums = {x.stream.label: x for x in device_sums(here.session.index.cables_and_sums, here.device_id)}
    port = sums.get(here.at.label)
    if port is None or here.at.n >= len(port.stream.pieces):
        return ()
    p = port.stream.pieces[here.at.n]
    if not p.pixels:
        return (("Place on the cable", f"{p.led}" if p.leds <= 1 else f"{p.led} – {p.led + p.leds - 1}"),)
    if here.at.led:
        return _pixel_ways(here, p, port.stream, port.running, port.slot)
    first, last = p.place_of_slot(1), p.place_of_slot(p.slots)
    address = f"{say_place(*first)} – {say_place(*last)}" if first and last else "no universe yet"
    running = f"px {say_thousands(port.running + p.px - 1)} · slot {say_thousands(port.slot + p.stream - 1)}"
    ways = [
        ("Universe.address", address),
        ("Slot in the stream", f"{say_thousands(p.stream)} – {say_thousands(p.stream + p.slots - 1)}"),
        ("On the port", f"{say_thousands(p.px)} – {say_thousands(p.px + p.pixels - 1)}"),
        ("Running in device", running),
    ]
    if p.leds:
        ways.append(("Place on the cable", f"{say_thousands(p.led)} – {say_thousands(p.led + p.leds - 1)}"))
    return tuple(ways)


def _pixel_ways(here: Here, p: Piece, stream: PortStream, running: int, slots_before: int) -> Rows:
    rig = here.session.rig
    px = int(cable_order(p.segment, p.leds)[here.at.led - 1])
    slot = (px - 1) * p.k + 1
    own = element_pixel(rig, p, px) or px
    first, last = p.place_of_slot(slot), p.place_of_slot(slot + p.k - 1)
    address = f"{say_place(*first)} – {say_place(*last)}" if first and last else "no universe yet"
    ways = [(f"{piece_name(rig, p)}/{own}", address)]
    element = rig.elements.get(p.key)
    if element and element.kind != "block":
        places = [(c, p.place_of_slot(slot + n)) for n, c in enumerate(element.order)]
        home = places[0][1][0] if places[0][1] else 0
        said = [
            f"{c} {w[1]:03d}" if w and w[0] == home else f"{c} {say_place(*w)}" if w else f"{c} —" for c, w in places
        ]
        ways.append(("Components", "  ".join(said)))
    if first and last and first[0] != last[0]:
        ways.append(("Cut by the universe's end", f"{first[0]} and {last[0]}"))
    model = model_of(rig, here.device_id)
    base = model.counts.get("pixel", 1) if model else 1
    on_port = f"{say_thousands(p.px + px - 1)} of {say_thousands(stream.pixels)}"
    if base != 1:
        on_port += f" · device says {p.px + px - 1 + base - 1}"
    in_device = (
        f"px {say_thousands(running + p.px + px - 2)} · slot {say_thousands(slots_before + p.stream + slot - 2)}"
    )
    return (
        *ways,
        ("Slot in the stream", f"{say_thousands(p.stream + slot - 1)} – {say_thousands(p.stream + slot + p.k - 2)}"),
        ("On the port", on_port),
        ("Running in device", in_device),
        ("Place on the cable", f"{_places_of_pixel(p, px)} of {say_thousands(stream.leds)}"),
    )


def _places_of_pixel(p: Piece, px: int) -> str:
    """Where on the cable a pixel is: with several LEDs to a pixel the first of them and the last."""
    at = np.flatnonzero(cable_order(p.segment, p.leds) == px)
    first, last = p.led + int(at.min()), p.led + int(at.max())
    return say_thousands(first) if first == last else f"{say_thousands(first)} to {say_thousands(last)}"


def _longer(here: Here) -> Rows:
    cables = here.session.index.cables_and_sums
    segments = sum(len(x.pieces) for k, x in cables.streams.items() if k.device == here.device_id)
    if here.stream is None or segments > MANY:
        return ()
    try:
        found = here.session.foresee_edit(insert_pixels(here.session.rig, here.device_id, here.at.label, here.at.n, 10))
    except Refused:
        return ()  # a device that takes no more of them
    moves = [e for e in found.effects if e.kind in ("moves", "unplaced") and not e.own]
    names = ", ".join(e.who for e in moves[:2]) + (" …" if len(moves) > 2 else "")
    ways = [(names or "nothing behind it", say_count(len(moves), "item") if moves else "stays")]
    ways += [(f"{e.who} past its end", f"by {say_count(e.slots, 'slot')}") for e in found.effects if e.kind == "past"]
    return tuple(ways)
