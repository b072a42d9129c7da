"""What is set on a lamp itself: the one answer for panels, switch pictures, the path, the rules and the command line.

A lamp knows nothing of universes. On a DMX line of its universe its address is its first slot there; behind a bridge or
a converter it is its address on the line that begins there, whatever slots of the universe the stream puts it on.
"""

from __future__ import annotations

from typing import NamedTuple

from welvo.patch.index import Index
from welvo.runs.cable import Piece, PortStream


class SetOn(NamedTuple):
    """A DMX address from 1 to 512, 0 where the lamp has none; `behind` says of which line, empty: the universe's."""

    address: int
    behind: str = ""
    place: tuple[str, str, int] | None = None
    """The bridge or converter it is behind: device, port, and place in its run."""


def set_on(index: Index, key: str, break_no: int = 0) -> SetOn:
    """The address to set on a fixture, for one of its breaks."""
    cables = index.cables_and_sums
    for stream, piece in cables.on_runs(key):
        if piece.segment.kind == "bridge" and key in piece.segment.fixtures:
            behind = cables.fixtures_behind(piece.segment, piece)
            dmx = next((b.dmx for b in behind if (b.key, b.break_no) == (key, break_no)), 0)
            return _set_on_behind(index, stream, piece, dmx, "bridge")
        if piece.segment.kind == "lamps" and key in piece.segment.fixtures and break_no == 0:
            dmx = piece.segment.lamp_address(piece.segment.fixtures.index(key) + 1)
            return _set_on_behind(index, stream, piece, dmx if dmx <= 512 else 0, "converter")
    span = index.span_of_break(key, break_no)
    return SetOn(span.first if span and span.first <= 512 else 0)


def _set_on_behind(index: Index, stream: PortStream, piece: Piece, dmx: int, what: str) -> SetOn:
    device = index.rig.devices[stream.device_id].name
    place = (stream.device_id, stream.label, piece.n)
    return SetOn(dmx, f"behind the {what} on port {stream.label} of {device}", place)
