"""The memory through which levels reach the engine: two banks and a sequence word against torn reads."""

from __future__ import annotations

import mmap
import os
import struct

SLOTS = 512
_HEADER = 64
_WORD = struct.Struct("<Q")


def size_for(rows: int) -> int:
    return _HEADER + 2 * rows * SLOTS


class Frames:
    """`rows` universes of 512 levels. One process writes whole frames, one reads them; neither waits."""

    def __init__(self, handle: int, rows: int) -> None:
        self.handle = handle
        self.rows = rows
        self._map = mmap.mmap(handle, size_for(rows))

    @classmethod
    def make_frames(cls, rows: int) -> Frames:
        handle = os.memfd_create("welvo-levels", os.MFD_CLOEXEC)
        os.ftruncate(handle, size_for(rows))
        return cls(handle, rows)

    def write_frame(self, levels: bytes) -> None:
        """Put a whole frame of rows × 512 octets: into the bank nobody reads, then turn to it."""
        sequence: int = _WORD.unpack_from(self._map)[0]
        at = _HEADER + ((sequence + 1) & 1) * self.rows * SLOTS
        self._map[at : at + self.rows * SLOTS] = levels
        _WORD.pack_into(self._map, 0, sequence + 1)

    def frame_number(self) -> int:
        found: int = _WORD.unpack_from(self._map)[0]
        return found

    def read_frame(self, known: tuple[int, bytes] | None = None) -> tuple[int, bytes]:
        """The newest whole frame and its number; `known` itself when it is still the newest.

        Read again when the writer moved on meanwhile: it may already be filling the bank that was copied.
        """
        while True:
            before = self.frame_number()
            if known and known[0] == before:
                return known
            at = _HEADER + (before & 1) * self.rows * SLOTS
            data = self._map[at : at + self.rows * SLOTS]
            if self.frame_number() == before:
                return before, data

    def close(self) -> None:
        self._map.close()
        os.close(self.handle)
