"""Undo and redo: earlier values are kept whole and share what did not change."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from welvo.rig.document import Change, Edit, Rig, put_entries


class History:
    """The rigs before and after the present one. `saved` marks the rig that stands in the file."""

    def __init__(self, rig: Rig, depth: int = 500) -> None:
        self.rig = rig
        self.saved: Rig | None = rig
        self._depth = depth
        self._past: list[Edit] = []
        self._future: list[Edit] = []

    @property
    def has_unsaved_edits(self) -> bool:
        return self.rig is not self.saved

    @property
    def undo_label(self) -> str:
        return self._past[-1][1].label if self._past else ""

    @property
    def redo_label(self) -> str:
        return self._future[-1][1].label if self._future else ""

    def push_change(self, rig: Rig, change: Change) -> None:
        self._past.append((self.rig, change))
        del self._past[: -self._depth]
        self._future.clear()
        self.rig = rig

    def amend_all(self, part: str, entries: Mapping[str, object]) -> Change:
        """Set entries of a part in the present rig and in every one before and after it: it is no step to undo."""
        rig, change = put_entries(self.rig, "record", **{part: entries})
        mapping = getattr(rig, part)
        self._past = [(replace(r, **{part: mapping}), c) for r, c in self._past]
        self._future = [(replace(r, **{part: mapping}), c) for r, c in self._future]
        self.rig = rig
        return change

    def undo_edit(self) -> Change | None:
        """Go back one edit; gives the change that says what is different now."""
        if not self._past:
            return None
        rig, change = self._past.pop()
        self._future.append((self.rig, change))
        self.rig = rig
        return change

    def redo_edit(self) -> Change | None:
        if not self._future:
            return None
        rig, change = self._future.pop()
        self._past.append((self.rig, change))
        self.rig = rig
        return change
