"""What the program and its streaming process say to each other: one JSON object a line, read by both as these structs.

What is not said stands at its default and is left out of the line.
"""

from __future__ import annotations

from typing import Literal

import msgspec
from msgspec import Struct

from welvo.live.beside import Act
from welvo.live.frames import SLOTS
from welvo.rig.protocol import Protocol

SendRule = Literal["change", "always", "bare"]
"""When a frame goes out: when it changes and every second, at every turn, or only when it changes."""


class UniverseOut(Struct, frozen=True, tag_field="carries", tag="universe", omit_defaults=True):
    """One universe under a number of its own, by packets to `to` (IPv4 addresses, groups among them)."""

    id: str
    protocol: Protocol
    wire: int
    to: tuple[str, ...]
    row: int = 0
    """Which row of the shared frame it is, from 0."""
    feeds: tuple[str, ...] = ()
    """The feeds of the rig that it stands for, by id."""
    priority: int = 100
    rate: float = 44.0
    """Frames a second at the most."""
    rule: SendRule = "change"
    slots: int = SLOTS
    sync: int = 0
    """The synchronization universe; 0: receivers show each frame as it comes."""
    sync_to: str = ""
    """Where the signal goes that shows a frame, for protocols that send it to an address."""
    last: bytes | None = None
    """The frame that receivers are left with; None: the one they have."""


class OctetPart(Struct, frozen=True, array_like=True):
    """A piece of a stream of octets: `octets` of a row from slot `first` (from 0) on, at `offset` in the stream."""

    row: int
    first: int
    octets: int
    offset: int


class OctetsOut(Struct, frozen=True, tag_field="carries", tag="octets", omit_defaults=True):
    """One running stream of octets to a device, gathered out of several universes."""

    id: str
    protocol: Protocol
    wire: int
    to: tuple[str, ...]
    parts: tuple[OctetPart, ...]
    length: int
    feeds: tuple[str, ...] = ()
    rate: float = 44.0
    rule: SendRule = "change"
    dark_at_end: bool = False
    """Whether it ends with zeros; else the device keeps what it has."""


class LineOut(Struct, frozen=True, tag_field="carries", tag="line", omit_defaults=True):
    """One universe on a DMX line of this computer."""

    id: str
    wire: int
    row: int
    line: str = ""
    """The serial port; empty: none is chosen."""
    feeds: tuple[str, ...] = ()
    rate: float = 44.0
    rule: SendRule = "change"
    slots: int = SLOTS
    last: bytes | None = None


Out = UniverseOut | OctetsOut | LineOut


def rows_in(out: Out) -> set[int]:
    """The rows of the shared frame that a stream takes levels from."""
    return {p.row for p in out.parts} if isinstance(out, OctetsOut) else {out.row}


class Opening(Struct, frozen=True, omit_defaults=True):
    """Where the process sends from, and who it says it is. `cid` as hex."""

    interface: str
    name: str
    cid: str
    keys: bool = False
    """Whether it listens for the keys that work beside a window."""


class EngineCommand(Struct, frozen=True, omit_defaults=True):
    """To the process: whatever is given is to be done."""

    open: Opening | None = None
    streams: tuple[Out, ...] | None = None
    stays: bytes | None = None
    """What stays lit at a blackout: a bit for each slot of all rows, the lowest first."""
    seen: Act | None = None
    """What the window itself did of what a key asks for."""
    dark: bool | None = None
    status: bool = False
    stop: bool = False


class StreamGroup(Struct, frozen=True):
    """Streams that leave at one moment: `after` seconds from the start, then every `period` seconds."""

    after: float
    period: float
    ids: tuple[str, ...]


class EngineAnswer(Struct, frozen=True, omit_defaults=True):
    """From the process: what happened, or how it goes."""

    ready: bool = False
    failed: str = ""
    """Why it cannot send at all."""
    groups: tuple[StreamGroup, ...] | None = None
    """The schedule of a new set of streams."""
    start: float = 0.0
    """When the schedule begins, in seconds since the epoch."""
    beat: int = 0
    """The number of a report that comes by itself, from 1."""
    status: bool = False
    """Whether it answers a question for its counts."""
    sent: int = 0
    errors: int = 0
    late: float = 0.0
    """Seconds by which the latest packet left too late."""
    wrong: dict[str, str] | None = None
    """What keeps streams from leaving, by stream; None: as it was."""
    did: Act | None = None
    """What it did by itself, because a key or a signal asked for it."""
    ended: bool = False


_write = msgspec.json.Encoder().encode
_read_command = msgspec.json.Decoder(EngineCommand).decode
_read_answer = msgspec.json.Decoder(EngineAnswer).decode


def line_of(message: EngineCommand | EngineAnswer) -> bytes:
    return _write(message) + b"\n"


def read_command(line: bytes) -> EngineCommand:
    """Raises msgspec.DecodeError when the line is no command."""
    return _read_command(line)


def read_answer(line: bytes) -> EngineAnswer:
    """Raises msgspec.DecodeError when the line is no answer."""
    return _read_answer(line)
