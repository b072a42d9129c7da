"""Pasting from a spreadsheet: what it would do, said before it is done."""

from __future__ import annotations

from PySide6.QtWidgets import QPlainTextEdit, QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.fields import set_help
from welvo.app.widgets.moves import Moves
from welvo.app.widgets.painting import clear_layout, column_of_widgets
from welvo.app.widgets.strip import Strip
from welvo.rig.notation import say_count
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
        self._rows = column_of_widgets(spacing=0)
        self.body.addLayout(self._rows)
        self.text.textChanged.connect(self.look)
        self.show_effects(Strip(session, 30))
        self.finish()

    def foresee(self) -> tuple[str, str]:
        clear_layout(self._rows)
        self.pasted = None
        self.pasted = found = spreadsheet.paste_rows(self._session.index, self.text.toPlainText())
        words = [f"{len(found.new_rows)} new, {len(found.changed_rows)} changed, {found.count_unchanged} as they are."]
        if found.unread:
            words.append(f"Not read: {', '.join(found.unread[:6])}.")
        refused = found.rows_in_state("refused")
        if refused:
            words.append(f"{say_count(len(refused), 'row')} left out:")
        shown = [(f"row {r.n}", "", r.why) for r in refused[:8]]
        for r in (*found.rows_in_state("new"), *found.rows_in_state("changed"))[: 10 - len(shown)]:
            shown.append((r.who, r.before or "new", r.after))
        if shown:
            self._rows.addWidget(Moves(shown, 10))
        count = len(found.new_rows) + len(found.changed_rows)
        return " ".join(words), f"Paste {say_count(count, 'row')}" if count else ""

    def do(self) -> object:
        assert self.pasted  # the button is only there with something to paste
        done = self._session.take_over_edit((self.pasted.rig, self.pasted.change))
        self._session.select_items([*self.pasted.new_rows, *self.pasted.changed_rows])
        return done
