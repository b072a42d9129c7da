"""Pasting from a spreadsheet: what it would do, said before it is done."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QPlainTextEdit, QWidget

from welvo.app.patch.laying_form import Moves
from welvo.app.session import Session
from welvo.app.widgets.fields import set_help
from welvo.app.widgets.painting import button, clear, column, label, row
from welvo.patch import spreadsheet, table
from welvo.rig.base import Refused
from welvo.rig.notation import plural

EXAMPLE = "No.\tName\tProfile\tMode\tUniverse\tAddress\n101\tKelp 1\tBar 9\t38 slot\t1\t1"


class PasteRows(QDialog):
    """The text, what is new, changed and refused, and the one act."""

    def __init__(self, session: Session, text: str, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.pasted: spreadsheet.Pasted | None = None
        self.setWindowTitle("Paste from a spreadsheet")
        self.resize(720, 560)
        body = column((20, 16, 20, 16), 10)
        body.addWidget(label("Paste from a spreadsheet", 16, True))
        body.addWidget(
            label(
                "Rows with headings; the number says which fixture. Known numbers are changed, new ones added, nothing is taken away.",
                11,
                quiet=True,
                wrap=True,
            )
        )
        self.text = QPlainTextEdit()
        set_help(
            self.text,
            "Cells between tabs, semicolons or commas. Headings such as No., Name, Profile, Mode, Universe, Address, Groups.",
        )
        self.text.setPlaceholderText(EXAMPLE)
        self.text.setAccessibleName("Table")
        self.text.setPlainText(text)
        self.text.setMinimumHeight(150)
        body.addWidget(self.text, 1)
        self.saying = label("", 13, wrap=True)
        body.addWidget(self.saying)
        self._rows = column(spacing=0)
        body.addLayout(self._rows)
        self.go = button("Paste", self.do, primary=True)
        body.addLayout(row(None, button("Cancel", self.reject), self.go))
        self.setLayout(body)
        self.text.textChanged.connect(self.preview)
        self.preview()

    def preview(self) -> None:
        """Read the text again and say what it would do."""
        clear(self._rows)
        self.pasted = None
        try:
            found = spreadsheet.paste(self._session.index, self.text.toPlainText())
        except Refused as e:
            self.saying.setText(str(e))
            self.go.setEnabled(False)
            return
        self.pasted = found
        words = [f"{len(found.new)} new, {len(found.changed)} changed, {found.same} as they are."]
        if found.unread:
            words.append(f"Not read: {', '.join(found.unread[:6])}.")
        if found.refused:
            words.append(f"{plural(len(found.refused), 'row')} left out:")
        self.saying.setText(" ".join(words))
        shown = []
        for r in found.refused[:8]:
            where, _, why = r.partition(": ")
            shown.append((where, "", why))
        for fid in (*found.new, *found.changed)[: 10 - len(shown)]:
            f = found.rig.fixtures[fid]
            old = table.cell(self._session.index, fid, "first") or "new"
            place = f.place(0)
            uni = found.rig.universes.get(place.universe)
            new = f"{uni.number}.{place.address:03d} {f.name}" if uni and place.address else f.name
            shown.append((str(f.number), old, new))
        if shown:
            self._rows.addWidget(Moves(shown, 10))
        count = len(found.new) + len(found.changed)
        self.go.setText(f"Paste {plural(count, 'row')}" if count else "Paste")
        self.go.setEnabled(bool(count))

    def do(self) -> None:
        if self.pasted:
            self._session.take((self.pasted.rig, self.pasted.change))
            self._session.select_items([*self.pasted.new, *self.pasted.changed])
            self.accept()
