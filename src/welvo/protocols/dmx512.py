"""DMX512-A (ANSI E1.11) on a serial line: what a packet is, how long its parts take, and how a receiver reads them.

A packet is a break, a mark, a start code and 0 to 512 slots. Times are in seconds.
"""

from __future__ import annotations

from collections.abc import Callable

from welvo.protocols.wire import WireError

BAUD = 250_000
SLOT = 44e-6
"""One start bit, eight data bits, two stop bits."""
BREAK = 176e-6
"""What is sent; the standard's typical break. A computer's timer makes it longer, never shorter."""
MARK = 16e-6
SHORTEST_BREAK_SENT, SHORTEST_MARK_SENT = 92e-6, 12e-6
SHORTEST_BREAK_TAKEN, SHORTEST_MARK_TAKEN = 88e-6, 8e-6
SHORTEST_PACKET = 1204e-6
"""From break to break, at the least."""
LONGEST_PACKET = 1.0
"""From break to break, at the most: repeats cannot be left out for longer."""
SLOTS = 512
NULL, TEXT, TEST = 0x00, 0x17, 0x55
"""Start codes: levels, a text, 512 slots of 0x55."""


def dmx_packet(slots: bytes, start_code: int = NULL) -> bytes:
    """What goes out after break and mark. Raises WireError for more than 512 slots or an impossible start code."""
    if len(slots) > SLOTS:
        raise WireError("slots", f"a packet holds {SLOTS} at most, not {len(slots)}")
    if not 0 <= start_code <= 255:
        raise WireError("start code", f"{start_code} is none")
    return bytes((start_code,)) + slots


def packet_duration(slots: int, line_break: float = SHORTEST_BREAK_SENT, mark: float = SHORTEST_MARK_SENT) -> float:
    """Seconds that a packet of so many slots takes at least, from its break to the next one."""
    return max(SHORTEST_PACKET, line_break + mark + SLOT * (slots + 1))


class LineReader:
    """What a receiver makes of a line: packets are complete when the next break comes.

    `take` gets the start code and slots of each. A break that is too short is none, as the standard has it: what
    follows it is read as further slots.
    """

    def __init__(self, take: Callable[[int, bytes], None]) -> None:
        self._take = take
        self._octets: bytearray | None = None
        self.short_breaks = 0
        self.overruns = 0

    def line_break(self, seconds: float, mark: float) -> None:
        """A break and the mark after it."""
        if seconds < SHORTEST_BREAK_TAKEN or mark < SHORTEST_MARK_TAKEN:
            self.short_breaks += 1
            return
        if self._octets:
            self._take(self._octets[0], bytes(self._octets[1:]))
        self._octets = bytearray()

    @property
    def packet_begun(self) -> bytes:
        """The packet that is still coming, its start code first."""
        return bytes(self._octets or b"")

    def take_octets(self, got: bytes) -> None:
        """Octets as they come, the start code among them. Before the first break they belong to nothing."""
        if self._octets is None:
            return
        room = SLOTS + 1 - len(self._octets)
        if len(got) > room:
            self.overruns += 1
        self._octets += got[:room]
