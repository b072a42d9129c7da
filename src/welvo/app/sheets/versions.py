"""Versions of the rig: named ones inside its file, and other files. Any two are compared, one change is taken back, and
the work of two people is merged."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QWidget

from welvo.app.disk import wait_for
from welvo.app.session import NOT_COMPARED, Session, Since
from welvo.app.sheets.merging import MergeRigs
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.fields import Choice, LineField, Tick, set_help
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.flow import flow_of_widgets, keep_least, keep_width
from welvo.app.widgets.painting import clear_layout, column_of_widgets, make_button, make_label
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.app.widgets.who import name_of_user, say_when
from welvo.formats.rigfile import load_rig_file
from welvo.formats.versions import drop_version, in_time, name_version, next_version_name, unpack_version
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Change, Rig, join_changes
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_count
from welvo.survey.compare import KINDS, Difference, compare_rigs, count_differences, take_back

NOW = "now"


class NameVersion(WishDialog):
    """Asks for the name and the note of a version."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(
            parent, "Name this version", "Name it",
            note="The rig as it is now is kept under this name, inside its file. Sheets carry the last one's name.",
        )  # fmt: skip
        self._session = session
        self.name = self.ask_for_line("Name", "What it is called, such as Issue 2.", next_version_name(session.rig))
        self.note = self.ask_for_line("Note", "What it was handed out for. It may stay empty.")
        self.finish()

    def foresee(self) -> tuple[str, str]:
        name = self.name.text().strip()
        name_version(self._session.rig, name, "", "", 0.0)  # refused where it cannot be called so
        return "", f"Name it {name}"

    def do(self) -> object:
        s = self._session
        return s.make_edit(name_version, self.name.text(), name_of_user(), self.note.text(), s.clock_time())


class DifferencePanel(QWidget):
    """Both values of one difference, whole; in the list there is no room for them."""

    def __init__(self) -> None:
        super().__init__()
        self._lines = column_of_widgets((16, 12, 16, 12), 8)
        self.setLayout(self._lines)
        self.show_difference(None)

    def show_difference(self, d: Difference | None) -> None:
        clear_layout(self._lines)
        if d is None:
            self._lines.addWidget(make_label("Versions", 22, True))
            words = "Name a version when paper goes out. Later the list says what has changed since, and a sheet of it "
            words += "can be printed. Choose a line to see it here."
            self._lines.addWidget(make_label(words, 11, quiet=True, wrap=True))
        else:
            self._lines.addWidget(make_label(d.who, 22, True, wrap=True))
            self._lines.addWidget(make_label(f"{d.kind}: {d.what}", 11, quiet=True, wrap=True))
            for name, value in (("Before", d.before), ("After", d.after)):
                self._lines.addWidget(make_label(name, 11, quiet=True))
                self._lines.addWidget(make_label(value or "–", 16, True, wrap=True))
            if not d.touches:
                words = "It only moved along with what it follows; take that back."
                self._lines.addWidget(make_label(words, 11, quiet=True, wrap=True))
        self._lines.addStretch(1)


class VersionsPage(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._files: dict[str, tuple[str, Rig]] = {}
        """Other files that were opened to compare with: by path, their name and rig."""
        self.found: list[Difference] = []
        self._pair: tuple[str, str] = ("", NOW)
        self.list = RowList(
            "Versions", (Column("Version", 130), Column("When", 110), Column("By", 100), Column("Note", 300))
        )
        self.list.picked.connect(lambda key: self.choose_versions(str(key), NOW))
        words = "Keeps the rig as it is now, as Issue 1, Issue 2 …"
        self.name = make_button("Name this version…", self.ask_name, words, primary=True)
        self.drop = make_button(
            "Drop", self.drop_chosen, "Takes the chosen version out of the file. Undo brings it back."
        )
        self.merge = make_button(
            "Merge…", self.ask_merge, "Takes over what somebody else changed in a copy of this rig."
        )
        self.before = Choice(
            "What it is compared with: a version, or another file.", lambda k: self._pick_version(0, k)
        )
        self.before.setAccessibleName("From")
        self.after = Choice(
            "The later one of the two: the rig as it is now, a version, or a file.", lambda k: self._pick_version(1, k)
        )
        self.after.setAccessibleName("To")
        for c in (self.before, self.after):
            keep_least(c, 170)
        self.kind = Choice("Lists only differences of one kind.", lambda _: self._fill_differences())
        self.kind.setAccessibleName("Kind")
        self.filter = LineField()
        self.filter.setPlaceholderText("Filter")
        keep_width(self.filter, 120)
        set_help(self.filter, "Lists only differences with this word.")
        self.on_tapes = Tick(
            "On the tapes", "Marks on the tapes what has changed, and where it stood before.", self._mark_in_stations
        )
        self.counts = make_label("", 13)
        self.differences = RowList(
            "Differences",
            (Column("Kind", 100), Column("Of", 150), Column("What", 140), Column("Before", 190), Column("After", 190)),
        )
        self.differences.picked.connect(self._go_to_difference)
        self.filter.textChanged.connect(self.differences.rows.set_filter)
        self.panel = DifferencePanel()
        self.back = make_button("Take back", self.take_back, "Sets what the chosen rows changed back to what it was.")
        body = column_of_widgets((16, 4, 16, 8), 8)
        body.addLayout(flow_of_widgets(make_label("Named versions", 13, True), None, self.name, self.drop, self.merge))
        body.addWidget(self.list)
        pair = (make_label("Compare", 13, True), self.before, make_label("with"), self.after)
        body.addLayout(flow_of_widgets(*pair, 8, self.kind, self.filter, None, self.on_tapes))
        body.addWidget(self.differences, 1)
        body.addLayout(flow_of_widgets(self.counts, None, self.back))
        self.differences.setSelectionMode(RowList.SelectionMode.ExtendedSelection)
        self.setLayout(body)
        session.changed.connect(self._follow_change)
        self.refresh()

    # ---- versions

    def _follow_change(self, change: Change) -> None:
        if self.isVisible() and change.touched:
            self.refresh()
        elif self.on_tapes.isChecked():
            self.on_tapes.setChecked(False)
            self._mark_in_stations(False)

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def refresh(self) -> None:
        """Show the versions there are, and compare what is chosen."""
        rig = self._session.rig
        order = in_time(rig)
        rows = [
            ListRow(k, (v.name, say_when(v.at), v.who, v.note), (v.name, v.at, v.who, v.note))
            for k in reversed(order)
            if (v := rig.versions[k])
        ]
        before, after = self._pair
        if before not in self._known_versions():
            before = order[-1] if order else ""
        if after not in self._known_versions():
            after = NOW
        self._pair = before, after
        self.list.show_lines(rows, before)
        self.list.setFixedHeight(30 + 24 * max(1, min(5, len(rows))))
        versions = [(k, rig.versions[k].name) for k in reversed(order)]
        files = [(k, name) for k, (name, _) in self._files.items()]
        other = [("file", "another file…")]
        there = [*versions, (NOW, "as it is now"), *files, *other]
        self.before.set_options(there if before else [("", "choose"), *there], before)
        self.after.set_options([(NOW, "as it is now"), *versions, *files, *other], after)
        self._compare_chosen()

    def _known_versions(self) -> set[str]:
        return {NOW, *self._session.rig.versions, *self._files}

    def ask_name(self) -> None:
        NameVersion(self._session, self).exec()

    def drop_chosen(self) -> None:
        chosen = self.list.chosen_ids()
        if not chosen:
            raise Refused("Choose a version in the list first.")
        self._session.make_edit(drop_version, str(chosen[0]))

    def ask_merge(self) -> None:
        MergeRigs(self._session, self).exec()

    # ---- comparing

    def choose_versions(self, before: str, after: str) -> None:
        """Compare two of what there is: ids of versions, `now`, or paths of files that were opened."""
        self._pair = (before, after)
        self.refresh()

    def _pick_version(self, which: int, key: str) -> None:
        if key == "file":
            name = FileDialog.ask_to_open(self, "Compare with a rig", str(Path.home()), "Rigs (*.welvo *.json)")
            if not name:
                self.refresh()
                return
            key = self.add_file(Path(name))
        pair = (key, self._pair[1]) if which == 0 else (self._pair[0], key)
        self.choose_versions(*pair)

    def add_file(self, path: Path) -> str:
        """Open another file to compare with. Raises Refused where it cannot be read."""
        rig = wait_for(lambda: load_rig_file(path), f"Opening {path.name}")
        self._files[str(path)] = (path.name, rig)
        return str(path)

    def _index_of_version(self, key: str) -> Index:
        if key == NOW:
            return self._session.index
        if key in self._files:
            return Index(self._files[key][1])
        return Index(unpack_version(self._session.rig.versions[key], self._session.rig))

    def name_of_version(self, key: str) -> str:
        if key == NOW:
            return "now"
        return self._files[key][0] if key in self._files else self._session.rig.versions[key].name

    def _compare_chosen(self) -> None:
        before, after = self._pair
        self.found = []
        self.panel.show_difference(None)
        words = ""
        if not before:
            words = "Name a version, or choose another file, to see what has changed since."
        else:
            try:
                self.found = compare_rigs(self._index_of_version(before), self._index_of_version(after))
                words = (
                    f"From {self.name_of_version(before)} to {self.name_of_version(after)}: "
                    f"{count_differences(self.found)}."
                )
            except Refused as e:
                words = str(e)
        self.counts.setText(words)
        kinds = [k for k in KINDS if any(d.kind == k for d in self.found)]
        chosen = str(self.kind.currentData() or "")
        self.kind.set_options([("", "all kinds"), *((k, k) for k in kinds)], chosen if chosen in kinds else "")
        self._fill_differences()
        self._mark_in_stations(self.on_tapes.isChecked())

    def _fill_differences(self) -> None:
        kind = str(self.kind.currentData() or "")
        rows = [
            ListRow(n, (d.kind, d.who, d.what, d.before or "–", d.after or "–"), quiet=not d.touches)
            for n, d in enumerate(self.found)
            if not kind or d.kind == kind
        ]
        self.differences.show_lines(rows)
        self.back.setEnabled(self._pair[1] == NOW)
        self.back.setToolTip(
            self.back.toolTip()
            if self._pair[1] == NOW
            else "Only changes up to the rig as it is now can be taken back."
        )

    def _go_to_difference(self, n: object) -> None:
        """Select in the window what a difference is about, and show both its values whole."""
        d = self.found[int(str(n))]
        self.panel.show_difference(d)
        if d.part in ("fixtures", "elements") and name_of_item(self._session.rig, d.id) != d.id:
            self._session.select_items([d.id])

    def take_back(self) -> None:
        """Take the chosen differences back. Raises Refused where none is chosen, or one cannot be."""
        chosen = [self.found[int(str(n))] for n in self.differences.chosen_ids()]
        if not chosen:
            raise Refused("Choose what to take back first.")
        if self._pair[1] != NOW:
            raise Refused("Only changes up to the rig as it is now can be taken back.")
        s = self._session
        rig, done = s.rig, []
        for d in chosen:
            rig, change = take_back(rig, d)
            done.append(change)
        words = done[0].label if len(done) == 1 else f"take back {say_count(len(done), 'change')}"
        s.take_over_edit((rig, join_changes(words, *done)))

    # ---- on the tapes

    def _mark_in_stations(self, on: bool) -> None:
        if not on or not self.found or self._pair[1] != NOW:
            self._session.show_since(NOT_COMPARED)
            return
        self._session.show_since(
            changes_since(self._index_of_version(self._pair[0]), self.name_of_version(self._pair[0]), self.found)
        )

    def forget(self) -> None:
        self._files.clear()
        self._pair = ("", NOW)
        self.on_tapes.setChecked(False)
        self._session.show_since(NOT_COMPARED)
        self.refresh()


def changes_since(old: Index, name: str, found: list[Difference]) -> Since:
    """What tapes draw: the kind by item, the strongest where there are several, and where things stood before."""
    kinds: dict[str, str] = {}
    before: dict[str, list[tuple[int, int, str]]] = {}
    for d in sorted(found, key=lambda d: KINDS.index(d.kind)):
        if d.part not in ("fixtures", "elements"):
            continue
        kinds.setdefault(d.id, d.kind)
        if d.kind in ("removed", "re-addressed"):
            for s in old.spans_of(d.id):
                before.setdefault(s.universe, []).append((s.first, s.last, d.who))
    return Since(name, kinds, {u: tuple(v) for u, v in before.items()})
