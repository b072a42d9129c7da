"""What leaves a port at one place of its cable, as the device itself says it, held against what was sent there.

A controller that tells which octets leave each port proves the whole middle of a path: order, fold, null pixels,
brightness. Behind a bridge a slot must come out as it was sent; a pixel may be dimmed on purpose, and is held against
what the plan makes of the level.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from welvo.protocols.status_page import LevelsBehind
from welvo.rig.document import Rig
from welvo.runs.along import cable_order, components_of
from welvo.runs.brightness import on_the_device, product_of_factors, scale_byte
from welvo.runs.cable import Cables, Piece, PortStream
from welvo.runs.orders import names_of_orders, put_out
from welvo.settings.compare import Mark


class Proof(Struct, frozen=True):
    """What was seen to leave a port at a target's place: the words for the hop there, and how that stands to what was
    sent. `lamp` is what reaches the lamp."""

    fact: str
    mark: Mark
    sends: str = ""
    takes: str = ""
    lamp: str = ""


def octets_before(stream: PortStream, piece: Piece) -> int:
    """How many octets of a port's cable come before a segment. Null pixels are as wide as the port's other ones."""
    k = next((p.k for p in stream.pieces if p.segment.takes_slots), 3)
    before = (p for p in stream.pieces if p.n < piece.n)
    return sum(p.leds * (k if p.segment.kind == "null" else p.k) for p in before)


def octet_on_cable(rig: Rig, stream: PortStream, piece: Piece, within: int) -> int:
    """Where on its port's cable slot `within` (from 1) of a segment leaves, from 0; -1: nowhere."""
    first = octets_before(stream, piece)
    if piece.segment.kind != "pixels" or not piece.leds:
        return first + within - 1
    data, component = divmod(within - 1, piece.k)
    along = np.flatnonzero(cable_order(piece.segment, piece.leds) == data + 1)
    if not along.size:
        return -1
    sent = components_of(rig, piece)
    out = put_out(sent, piece.segment.order, names_of_orders(rig, stream.device_id)) if len(sent) == piece.k else sent
    at = out.index(sent[component]) if component < len(sent) else component
    return first + int(along[0]) * piece.k + at


def proof_of_pixel(
    cables: Cables,
    attached: tuple[PortStream, Piece, int],
    octets: bytes,
    behind: Sequence[LevelsBehind],
    sent: int | None,
) -> Proof | None:
    """What was seen at the place of slot `within` of a segment, for a level that was sent there (None: nobody knows).

    `octets` are all that leave the port, `behind` what is measured behind its bridges and converters.
    """
    stream, piece, within = attached
    rig = cables.rig
    s = piece.segment
    if s.kind == "lamps":
        return None
    at = octet_on_cable(rig, stream, piece, within)
    if not 0 <= at < len(octets):
        return (
            Proof("", "differs", f"slot {within}", "nothing leaves there", "nothing leaves there") if octets else None
        )
    has = octets[at]
    if s.kind == "bridge":
        line = next((b.levels for b in behind if b.place == piece.n and b.kind == "bridge"), ())
        has = line[within - 1] if within <= len(line) else has
        words = f"DMX {within} gives {has}"
        if sent is None:
            return Proof(words, "unknown", lamp=words)
        return Proof(words, "matches" if has == sent else "differs", f"sends {sent}", f"gives {has}", words)
    colour = _colour_leaving(rig, stream, piece, within, octets)
    if sent is None:
        return Proof(colour, "unknown", lamp=colour)
    want = scale_byte(sent, product_of_factors(on_the_device(rig, stream, piece)))[1]
    gamma = rig.devices[stream.device_id].ports[stream.label].gamma
    bent = gamma != 1 or s.gamma != 1
    mark = "matches" if has == want else "unknown" if bent else "differs"
    return Proof(colour, mark, f"sends {want}", f"gives {has}", colour)  # type: ignore[arg-type]


def _colour_leaving(rig: Rig, stream: PortStream, piece: Piece, within: int, octets: bytes) -> str:
    """The whole pixel as it leaves: `R 255 G 0 B 12`."""
    sent = components_of(rig, piece)
    first = (within - 1) // piece.k * piece.k + 1
    if len(sent) != piece.k:
        return f"gives {octets[octet_on_cable(rig, stream, piece, within)]}"
    found = []
    for n, letter in enumerate(sent):
        at = octet_on_cable(rig, stream, piece, first + n)
        found.append(f"{letter} {octets[at] if 0 <= at < len(octets) else '–'}")
    return " ".join(found)
