"""The Tested page: what was tested of the rig, when, by whom and with which result; what is left, what woke."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.fields import Choice, LineField, set_help
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import column_of_widgets, make_button, make_label
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.app.widgets.who import name_of_user, say_when
from welvo.bench.record import SubjectResult as RecordLine
from welvo.bench.record import record_lines, record_tests, split_subject, subject_of_test
from welvo.rig.document import Change, Rig
from welvo.rig.notation import say_count
from welvo.rig.tested import TestResult

KINDS = {"item": "lamps and elements", "port": "ports", "universe": "universes", "device": "devices"}
WORDS = {"": "not tested", "passed": "passed", "failed": "failed", "doubtful": "doubtful", "woken": "changed since"}
SHOW = {"all": "all", "left": "what is left", "failed": "failed and doubtful", "woken": "changed since"}


def subjects_of_kind(rig: Rig, kind: str) -> list[str]:
    """Everything of a kind that can be tested, in order."""
    if kind == "item":
        numbered = sorted(rig.fixtures, key=lambda k: rig.fixtures[k].number)
        return [subject_of_test("item", k) for k in (*numbered, *rig.elements)]
    if kind == "port":
        return [subject_of_test("port", d, p) for d, v in rig.devices.items() for p in v.ports]
    if kind == "universe":
        return [subject_of_test("universe", u) for u in sorted(rig.universes, key=lambda u: rig.universes[u].number)]
    return [subject_of_test("device", d) for d in rig.devices]


class RecordPage(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._lines: list[RecordLine] = []
        self._state: object = None
        self.kind = Choice(
            "What the list is of: lamps and elements, ports, universes or devices.", lambda _: self.refresh()
        )
        self.kind.setAccessibleName("Record of")
        self.kind.set_options(list(KINDS.items()), "item")
        self.show_ = Choice(
            "Which of them are listed: all, what is left, what failed, what has changed since.",
            lambda _: self.refresh(),
        )
        self.show_.setAccessibleName("Listed")
        self.show_.set_options(list(SHOW.items()), "all")
        self.progress = make_label("", 13)
        self.list = RowList(
            "Test record",
            (
                Column("What", 150), Column("Standing", 110), Column("When", 110), Column("By", 90),
                Column("Test", 170), Column("Remark", 180),
            ),
        )  # fmt: skip
        self.list.setSelectionMode(RowList.SelectionMode.ExtendedSelection)
        self.list.picked.connect(self._go_to_subject)
        self.note = LineField()
        self.note.setPlaceholderText("a remark")
        set_help(self.note, "A remark that is kept with the result.")
        body = column_of_widgets((16, 4, 16, 8), 8)
        body.addLayout(
            flow_of_widgets(
                make_label("Record of", 11, quiet=True),
                self.kind,
                make_label("Listed", 11, quiet=True),
                self.show_,
                None,
                self.progress,
            )
        )
        body.addWidget(self.list, 1)
        words = "Records it for the chosen rows, tested by hand."
        body.addLayout(
            flow_of_widgets(
                make_button("Passed", lambda: self.record_result("passed"), words),
                make_button("Failed", lambda: self.record_result("failed"), words),
                make_button("Doubtful", lambda: self.record_result("doubtful"), words),
                self.note,
            )
        )
        self.setLayout(body)
        session.changed.connect(self._on_change)

    def _on_change(self, _: Change) -> None:
        self.refresh()

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def refresh(self) -> None:
        if not self.isVisible():
            return
        s = self._session
        kind, show = str(self.kind.currentData()), str(self.show_.currentData())
        every = record_lines(s.index, subjects_of_kind(s.rig, kind))
        wanted = {"left": ("", "woken"), "failed": ("failed", "doubtful"), "woken": ("woken",)}.get(show)
        self._lines = [x for x in every if wanted is None or x.standing in wanted]
        rows = []
        for x in self._lines:
            t = x.tested
            said = WORDS[x.standing] + (f", was {t.result}" if x.standing == "woken" and t else "")
            cells = (
                x.name,
                said,
                say_when(t.at) if t else "",
                t.who if t else "",
                t.what if t else "",
                t.note if t else "",
            )
            rows.append(ListRow(x.of, cells, (x.name, said, t.at if t else 0.0, *cells[3:]), x.standing == "passed"))
        self.list.show_lines(rows)
        count = {k: sum(x.standing == k for x in every) for k in WORDS}
        parts = [f"{count[k]} {WORDS[k]}" for k in ("failed", "doubtful", "woken") if count[k]]
        self.progress.setText(
            f"{count['passed']} of {say_count(len(every), 'thing')} passed" + "".join(f", {p}" for p in parts)
        )

    def _go_to_subject(self, of: object) -> None:
        kind, key, _ = split_subject(str(of))
        if kind == "item":
            self._session.select_items([key])

    def record_result(self, what: TestResult) -> None:
        """Record the chosen rows. Raises Refused for none."""
        s = self._session
        chosen = [str(self.list.rows.ids[i.row()]) for i in self.list.selectionModel().selectedRows()]
        s.amend_record(
            "tests", record_tests(s.index, chosen, what, "by hand", name_of_user(), s.clock_time(), self.note.text())
        )
        self.note.clear()
