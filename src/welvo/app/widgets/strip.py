"""What is about to be done would do to others: one strip with the same words in every station, before Enter.

It stands above the path and is there only while somebody else is touched. *Show all…* opens the whole list.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QApplication, QSizePolicy, QWidget

from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.effect_list import EffectList
from welvo.app.widgets.fields import Field
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.theme import THEME
from welvo.checks.foresee import Foreseen
from welvo.rig.notation import say_count


class Strip(QWidget):
    """Shows what `session.foreseen` tells, in words; hidden while nobody else is touched."""

    def __init__(self, session: Session, inset: int = 96) -> None:
        super().__init__()
        self._session, self._inset = session, inset
        self.shown: Foreseen | None = None
        self.words = make_label("", 12, wrap=True)
        self.words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.all = make_button("Show all…", self.show_all, "Lists everything that would be different, line by line.")
        self.all.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # the keys stay in the field that is typed into
        self.setAccessibleName("What this would do to others")
        row = flow_of_widgets(self.words, self.all)
        row.setContentsMargins(inset, 5, 12, 5)
        self.setLayout(row)
        session.foreseen.connect(self._follow_foreseen)
        session.changed.connect(self._follow_change)
        self.hide()

    def foresee_act(self, act: Callable[[], object] | None) -> None:
        """Show what the edit that an act would make does to others; None: it is not about to be done any more."""
        self._session.show_foreseen(self._session.edit_of_act(act) if act else None)

    def _follow_change(self, _: object) -> None:
        """What was about to be done is done, or would do something else now. Bound: it goes with a dialog's strip."""
        self._follow_foreseen(None)

    def _follow_foreseen(self, found: Foreseen | None) -> None:
        self.shown = found
        words = found.strip if found else ""
        self.words.setText(words)
        self.setVisible(bool(words))

    def show_all(self) -> None:
        if not self.shown:
            return
        field = QApplication.focusWidget()
        if isinstance(field, Field):  # looking at what Enter would do must not do it
            field.held = True
        AllEffects(self._session, self.shown, self).exec()
        if isinstance(field, Field):
            field.held = False
            field.setFocus()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("raised"))
        p.fillRect(0, 0, self.width(), 1, THEME.color("line"))
        marks.draw_mark(p, "warning", self._inset - 22, (self.height() - 12) / 2)


class AllEffects(Dialog):
    """Everything that an edit would make different, and the findings that would come and go."""

    def __init__(self, session: Session, found: Foreseen, parent: QWidget) -> None:
        lines = session.foresee_edit((found.rig, found.change)).lines  # an edit of very many came without its findings
        super().__init__(
            parent, "What this would do", f"What this would do: {say_count(len(lines), 'line')}",
            "Nothing of it is done yet. Places are said as universe.address, before and after.", wide=820, high=520,
        )  # fmt: skip
        self.list = EffectList(lines)
        self.body.addWidget(self.list)
        self.finish(None, leave="Close", room=0)
