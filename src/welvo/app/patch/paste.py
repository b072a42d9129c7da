"""Pasting from a spreadsheet: what it would do, said before it is done."""

from __future__ import annotations

from PySide6.QtWidgets import QPlainTextEdit, QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.fields import set_help
from welvo.app.widgets.moves import Moves
from welvo.app.widgets.painting import clear, column
from welvo.rig.notation import plural
from welvo.survey import spreadsheet

EXAMPLE = "No.\tName\tProfile\tMode\tUniverse\tAddress\n101\tKelp 1\tBar 9\t38 slot\t1\t1"


class PasteRows(WishDialog):
    """The text, what is new, changed and refused, and the one act."""

    def __init__(self, session: Session, text: str, parent: QWidget) -> None:
        super().__init__(
            parent,
            "Paste from a spreadsheet",
            "Paste",
            note="Rows with headings; the number says which fixture. Known numbers are changed, new ones added, "
            "nothing is taken away.",
            wide=720,
            high=560,
        )
        self._session = session
        self.pasted: spreadsheet.Pasted | None = None
        self.text = QPlainTextEdit()
        set_help(
            self.text,
            "Cells between tabs, semicolons or commas. Headings such as No., Name, Profile, Mode, Universe, Address, "
            "Groups.",
        )
        self.text.setPlaceholderText(EXAMPLE)
        self.text.setAccessibleName("Table")
        self.text.setPlainText(text)
        self.text.setMinimumHeight(150)
        self.body.addWidget(self.text, 1)
        self._rows = column(spacing=0)
        self.body.addLayout(self._rows)
        self.text.textChanged.connect(self.look)
        self.finish()

    def foresee(self) -> tuple[str, str]:
        clear(self._rows)
        self.pasted = None
        self.pasted = found = spreadsheet.paste(self._session.index, self.text.toPlainText())
        words = [f"{len(found.new)} new, {len(found.changed)} changed, {found.same} as they are."]
        if found.unread:
            words.append(f"Not read: {', '.join(found.unread[:6])}.")
        refused = found.of("refused")
        if refused:
            words.append(f"{plural(len(refused), 'row')} left out:")
        shown = [(f"row {r.n}", "", r.why) for r in refused[:8]]
        for r in (*found.of("new"), *found.of("changed"))[: 10 - len(shown)]:
            shown.append((r.who, r.before or "new", r.after))
        if shown:
            self._rows.addWidget(Moves(shown, 10))
        count = len(found.new) + len(found.changed)
        return " ".join(words), f"Paste {plural(count, 'row')}" if count else ""

    def do(self) -> object:
        assert self.pasted  # the button is only there with something to paste
        done = self._session.take((self.pasted.rig, self.pasted.change))
        self._session.select_items([*self.pasted.new, *self.pasted.changed])
        return done
