"""Merging the work of two people: what does not meet is taken, what meets is listed field by field and decided."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QWidget

from welvo.app.disk import wait_for
from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.flow import flow_of_widgets, keep_least
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.strip import Strip
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.formats.rigfile import load_rig_file
from welvo.formats.versions import in_time, unpack_version
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.merge import MergedRig, MergeMeeting, Side, Where, as_edit, merge_rigs
from welvo.rig.notation import say_count
from welvo.survey.compare import say_meeting


class MergeRigs(WishDialog):
    """Asks for the version both began with and for the other one's file; every place both changed is decided here."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(
            parent,
            "Merge somebody's work",
            "Merge",
            note="The common version is what both began with. What only one changed is taken from that one; what both "
            "changed stands in the list, and waits for your word.",
            wide=860,
            high=560,
        )
        self._session = session
        self._base: Rig | None = None
        self._theirs: Rig | None = None
        self.decided: dict[Where, Side] = {}
        self.found: MergedRig | None = None
        self._shown: tuple[MergeMeeting, ...] = ()
        rig = session.rig
        versions = [(k, rig.versions[k].name) for k in reversed(in_time(rig))]
        self.common = Choice("What both of you began with: a version in this rig, or a file.", self._take_common)
        self.common.setAccessibleName("Common version")
        keep_least(self.common, 200)
        self.common.set_options([("", "choose"), *versions, ("file", "another file…")], "")
        self.other = make_button("Their file…", self._ask_theirs, "The rig of the other one.")
        self.which = make_label("", 13)
        self.body.addLayout(
            flow_of_widgets(make_label("Common version"), self.common, 12, self.other, self.which, None)
        )
        self.list = RowList(
            "What both changed",
            (Column("Of", 170), Column("What", 150), Column("Mine", 190), Column("Theirs", 190), Column("Taken", 80)),
        )
        self.list.setSelectionMode(RowList.SelectionMode.ExtendedSelection)
        self.body.addWidget(self.list, 1)
        self.mine = make_button(
            "Take mine", lambda: self.decide("mine"), "For the chosen rows, or for all when none is chosen."
        )
        self.theirs = make_button(
            "Take theirs", lambda: self.decide("theirs"), "For the chosen rows, or for all when none is."
        )
        self.show_effects(Strip(session, 30))
        self.finish(None, self.mine, self.theirs, room=34)

    # ---- what is merged

    def _take_common(self, key: str) -> None:
        if key == "file":
            name = FileDialog.ask_to_open(self, "The common version", str(Path.home()), "Rigs (*.welvo *.json)")
            if name:
                self.set_common(wait_for(lambda: load_rig_file(Path(name)), f"Opening {Path(name).name}"))
        elif key:
            self.set_common(unpack_version(self._session.rig.versions[key], self._session.rig))

    def set_common(self, rig: Rig) -> None:
        self._base = rig
        self.decided = {}
        self.look()

    def _ask_theirs(self) -> None:
        name = FileDialog.ask_to_open(self, "The rig of the other one", str(Path.home()), "Rigs (*.welvo *.json)")
        if name:
            self.set_theirs(Path(name))

    def set_theirs(self, path: Path) -> None:
        """Read the other one's rig; a version that is in both files is offered as the common one."""
        self._theirs = wait_for(lambda: load_rig_file(path), f"Opening {path.name}")
        self.which.setText(path.name)
        self.decided = {}
        if self._base is None:
            mine = self._session.rig
            names = {v.name: v.data for v in self._theirs.versions.values()}
            both = [k for k in in_time(mine) if names.get(mine.versions[k].name) == mine.versions[k].data]
            if both:
                self.common.set_options(
                    [(k, mine.versions[k].name) for k in both] + [("file", "another file…")], both[-1]
                )
                self._base = unpack_version(mine.versions[both[-1]], mine)
        self.look()

    def decide(self, side: Side) -> None:
        chosen = [int(str(n)) for n in self.list.chosen_ids()] or list(range(len(self._shown)))
        for n in chosen:
            self.decided[self._shown[n].meeting_place] = side
        self.look()

    # ---- what comes of it

    def foresee(self) -> tuple[str, str]:
        self.found = None
        if self._base is None or self._theirs is None:
            self.list.show_lines([])
            return "Choose the common version and the other one's file.", ""
        mine = self._session.rig
        found = merge_rigs(self._base, mine, self._theirs, self.decided)
        self._shown = found.meetings
        indexes = Index(mine), Index(found.theirs)
        rows = []
        for n, m in enumerate(found.meetings):
            who, what, a, b = say_meeting(*indexes, m)
            rows.append(ListRow(n, (who, what, a, b, self.decided.get(m.meeting_place, "?"))))
        chosen = self.list.chosen_ids()
        self.list.show_lines(rows, chosen[0] if chosen else None)
        left = sum(m.meeting_place not in self.decided for m in found.meetings)
        self.found = found
        both = say_count(len(found.meetings), "place")
        words = f"{say_count(len(found.taken), 'change')} of theirs taken, {both} changed by both."
        if found.notes:
            words += " " + " ".join(found.notes[:2])
        if left:
            return f"{words} {left} still to be decided.", ""
        return words, "Merge"

    def do(self) -> object:
        if self.found is None:
            raise Refused("There is nothing to merge yet.")
        s = self._session
        return s.take_over_edit(as_edit(s.rig, self.found.rig, "merge"))
