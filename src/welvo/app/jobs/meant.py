"""The levels that are meant for each universe: what the Bench holds, made into frames.

A frame is worked out when somebody asks for it and kept until something that it is made from changes, because it is
asked for twenty-five times a second by what is painted and by what is sent.
"""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import QObject, Signal

from welvo.app.session import Session
from welvo.bench.levels import Frame, Levels
from welvo.live.output import rows_of
from welvo.rig.document import Change


class MeantLevels(QObject):
    """`touched` says that levels changed. A frame is 512 levels, 0 to 255, of one universe."""

    touched = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.levels = Levels()
        self._frames: dict[str, Frame] = {}
        self._frames_outdated = True
        self._moved_at = 0.0
        self._stays: dict[str, np.ndarray] = {}
        self.stays_outdated = False
        """Whether what a blackout leaves lit has to be told to the streaming process again."""
        self.unwritten = True
        """Whether something changed since the streaming process was last given levels."""

    def note_touched(self) -> None:
        """Levels changed: they go out with the next flush."""
        self.unwritten = self._frames_outdated = True
        self._moved_at = time.monotonic()
        self.touched.emit()

    def advance_fades(self, seconds: float) -> None:
        """Bring levels that move by themselves forward."""
        self.levels.advance_moves(seconds)
        self.unwritten = self._frames_outdated = True

    def start_to_settle(self) -> None:
        """Output was armed: what is on the wire takes a moment to be what is meant."""
        self.unwritten = True
        self._moved_at = time.monotonic()

    def stood_for(self) -> float:
        """Seconds since levels were changed or output was armed."""
        return time.monotonic() - self._moved_at

    def meant_frames(self) -> dict[str, Frame]:
        """The levels meant for each universe, by id."""
        rig = self._session.rig
        self._drop_outdated()
        missing = rig.universes.keys() - self._frames.keys()
        if len(missing) > 40:  # one walk over all fixtures is then faster than one for each universe
            self._frames = self.levels.frames_of_rig(self._session.index)
        else:
            self._frames.update({uid: self.levels.frame_of_universe(self._session.index, uid) for uid in missing})
        return self._frames

    def meant_frame(self, universe: str) -> Frame | None:
        """The levels meant for one universe; the others are not worked out for it."""
        self._drop_outdated()
        if universe not in self._frames and universe in self._session.rig.universes:
            self._frames[universe] = self.levels.frame_of_universe(self._session.index, universe)
        return self._frames.get(universe)

    def level(self, universe: str, address: int) -> int | None:
        """What is meant for one slot."""
        frame = self.meant_frame(universe)
        return None if frame is None else int(frame[address - 1])

    def default_frames(self) -> dict[str, bytes]:
        """What each universe carries while nothing is held."""
        frames = self.levels.frames_of_rig(self._session.index, defaults_only=True)
        return {uid: f.tobytes() for uid, f in frames.items()}

    def _drop_outdated(self) -> None:
        if self._frames_outdated:
            self._frames.clear()
            self._frames_outdated = False

    def stays_lit(self) -> bytes:
        """One bit a slot, universe after universe in the order of rows: whether a blackout leaves it lit."""
        self.stays_outdated = False
        rows = rows_of(self._session.rig)
        for uid in rows.keys() - self._stays.keys():
            self._stays[uid] = self.levels.slots_staying_lit(self._session.index, uid)
        bits = np.concatenate([self._stays[uid] for uid in rows]) if rows else np.zeros(0, np.bool_)
        return np.packbits(bits, bitorder="little").tobytes()

    def follow_change(self, change: Change) -> None:
        """Drop the frames that an edit made untrue."""
        self.unwritten = True
        if change.changed_ids("universes") or change.changed_ids("profiles"):
            self._frames_outdated = True
            self._stays.clear()
        self.stays_outdated = True
        for uid in self._session.followed.universes:
            self._frames.pop(uid, None)
            self._stays.pop(uid, None)
        for key in change.changed_ids("fixtures"):  # another mode may lie on the same slots
            for span in self._session.index.spans_of(key):
                self._stays.pop(span.universe, None)
                if not self._frames_outdated:
                    self._frames.pop(span.universe, None)
