"""The chart line: a mode's layout as text, live with the ruler under it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtGui import QFocusEvent, QTextCharFormat, QTextCursor
from PySide6.QtWidgets import QPlainTextEdit, QTextEdit

from welvo.app.widgets.fields import set_help
from welvo.app.widgets.theme import THEME
from welvo.formats.chart import Problem


class ChartLine(QPlainTextEdit):
    """The layout as text. Live with the ruler: a pause in typing takes it over; unknown words are underlined.

    `commit` is called with the text, and with whether this is only a pause. It gives False when a pause is too early,
    because something made by hand would be lost; then the text stays pending until the line is left.
    """

    def __init__(self, commit: Callable[[str, bool], bool]) -> None:
        super().__init__()
        self._commit = commit
        self._committed = ""
        self.setMinimumHeight(60)
        self.setMaximumHeight(190)
        self.setTabChangesFocus(True)
        self.setAccessibleName("Chart line")
        set_help(
            self,
            "The mode's channels in slot order, typed or pasted from the manual. A wrong line shifts every slot "
            "behind it.",
        )
        self._pause = QTimer(self, singleShot=True, interval=350)
        self._pause.timeout.connect(self._judge_typed)
        self.textChanged.connect(self._note_typed)

    def set_text(self, words: str) -> None:
        """Show a chart, unless another one is being typed."""
        self._committed = words
        if self.toPlainText() != words:
            self.blockSignals(True)
            self.setPlainText(words)
            self.blockSignals(False)
        self._fit_height()

    @property
    def pending(self) -> bool:
        return self.toPlainText() != self._committed

    def _fit_height(self) -> None:
        lines = max(2, min(8, self.document().lineCount()))
        self.setFixedHeight(int(lines * self.fontMetrics().lineSpacing() + 18))

    def _note_typed(self) -> None:
        self._fit_height()
        self._pause.start()

    def _judge_typed(self) -> None:
        words = self.toPlainText()
        if words != self._committed and self._commit(words, True):
            self._committed = words

    def commit(self) -> None:
        self._pause.stop()
        words = self.toPlainText()
        if words != self._committed:
            self._committed = words
            self._commit(words, False)

    def focusOutEvent(self, e: QFocusEvent) -> None:
        self.commit()
        super().focusOutEvent(e)

    def underline_problems(self, problems: list[Problem]) -> None:
        """A wave of 2 px under every word that was not understood."""
        marked = []
        for p in problems:
            block = self.document().findBlockByNumber(p.line)
            if not block.isValid():
                continue
            selection = QTextEdit.ExtraSelection()
            form = QTextCharFormat()
            form.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            form.setUnderlineColor(THEME.color("error" if p.error else "warning"))
            selection.format = form
            cursor = QTextCursor(block)
            cursor.movePosition(
                QTextCursor.MoveOperation.Right, QTextCursor.MoveMode.MoveAnchor, min(p.column, block.length() - 1)
            )
            cursor.movePosition(
                QTextCursor.MoveOperation.Right,
                QTextCursor.MoveMode.KeepAnchor,
                min(p.length, block.length() - 1 - p.column),
            )
            selection.cursor = cursor
            marked.append(selection)
        self.setExtraSelections(marked)
