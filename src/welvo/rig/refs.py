"""References as values: a port, a place on a cable, a place in the program to go to.

Ids and labels are any text, blanks and tabs included, so nothing that names two of them is ever one joined string.
"""

from __future__ import annotations

from typing import Literal, NamedTuple


class PortRef(NamedTuple):
    """One port of one device: the device's id, and the label printed at the port."""

    device: str
    port: str

    def __str__(self) -> str:
        """As one word for a file (a waiver's subject): a blank inside the id is escaped, so that no two are alike."""
        escaped = self.device.replace("\\", "\\\\").replace(" ", "\\ ")
        return f"{escaped} {self.port}"


class SegmentRef(NamedTuple):
    """One segment: its port, and its place in the port's run, counted from 0."""

    device: str
    port: str
    place: int
    """`BUS`: no segment, but the lamp bus behind the port."""


BUS = -1
"""As the place of what takes slots: the lamp bus of a port."""

GotoKind = Literal[
    "",
    "item",
    "universe",
    "slot",
    "feed",
    "wire",
    "device",
    "port",
    "lamps",
    "bus",
    "run",
    "unattached",
    "supply",
    "heard",
    "sender",
    "use",
    "profile",
    "devices",
    "bench",
    "patch",
]
"""What can be gone to. `wire` is a protocol and its number, `lamps` what answers on a port, `bus` its lamp bus, `run` a
device, port or segment on its cables."""


class Goto(NamedTuple):
    """Where something is set: a kind, the id there, and for ports, segments and wire numbers the rest of the way."""

    kind: GotoKind = ""
    id: str = ""
    port: str = ""
    place: int = -1
    """Place in a port's run from 0, or the number on a wire, the UID of a lamp, or a short address; −1: none."""

    def __bool__(self) -> bool:
        return bool(self.kind)


NOWHERE = Goto()


def to_run(device: str, port: str = "", place: int = -1) -> Goto:
    """A device's cables, one of its ports there, or one segment of that."""
    return Goto("run", device, port, place)
