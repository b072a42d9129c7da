"""The one field class: commits on Enter, Tab, focus loss, station change, save and arm; lets undo through."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QEvent, QObject, QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QKeySequence, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QStyle,
    QStyleOptionButton,
    QStyleOptionComboBox,
    QStylePainter,
    QWidget,
)

from welvo.app.widgets.fitting import fit_parts
from welvo.app.widgets.flow import WIDEST, need_of_words
from welvo.app.widgets.literal import literal_text, visible_letters
from welvo.app.widgets.painting import make_label
from welvo.app.widgets.refusals import do_guarded, show_refusal
from welvo.app.widgets.theme import THEME
from welvo.rig.base import Refused


def set_help(widget: QWidget, text: str) -> None:
    """One plain sentence on what a field does and what it risks: tooltip, F1 and screen readers."""
    widget.setToolTip(literal_text(text))
    widget.setWhatsThis(text)
    widget.setAccessibleDescription(text)


def restyle(widget: QWidget) -> None:
    widget.style().unpolish(widget)
    widget.style().polish(widget)


def show_foreseen(widget: QWidget, act: Callable[[], object] | None) -> None:
    """Show what an act would do to others, wherever that is shown around a widget; None: it is not about to be done."""
    at: QWidget | None = widget
    while at is not None:
        show = getattr(at, "foresee_act", None)
        if callable(show):
            show(act)
            return
        at = at.parentWidget()


class LineField(QLineEdit):
    """A line to type into. While nothing was typed, undo and redo belong to the rig, not to it."""

    @property
    def idle(self) -> bool:
        return not self.isUndoAvailable() or not self.text()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if self.idle and (e.matches(QKeySequence.StandardKey.Undo) or e.matches(QKeySequence.StandardKey.Redo)):
            e.ignore()  # nothing of the rig is left to undo: what was typed and taken over long ago does not come back
            return
        super().keyPressEvent(e)

    def event(self, e: QEvent) -> bool:
        # Qt's line edits swallow undo and redo, whether there is anything of theirs to undo or not.
        if e.type() == QEvent.Type.ShortcutOverride and isinstance(e, QKeyEvent) and self.idle:
            if e.matches(QKeySequence.StandardKey.Undo) or e.matches(QKeySequence.StandardKey.Redo):
                e.ignore()
                return False
        return super().event(e)


class Field(LineField):
    """A line that knows its committed value.

    `apply(text)` takes the new value and raises Refused when it cannot; then the text stays, marked wrong, and why is
    said in `refusal`, the line under the field, or where that is not laid out, by whatever stands around the field.
    """

    def __init__(
        self, help_text: str, apply: Callable[[str], Any], parent: QWidget | None = None, *, right: bool = False
    ) -> None:
        super().__init__(parent)
        self._apply = apply
        self._value = ""
        self._busy = False
        self.apply_to_all: Callable[[str], object] | None = None
        self.held = False
        """Whether it keeps what is typed without taking it over, though it loses the keys: something is looked up."""
        self.try_apply: Callable[[str], object] | None = None
        """What taking the text over would do, for whoever shows what comes of it before Enter; None: nobody asks."""
        self._refusal: QLabel | None = None
        set_help(self, help_text)
        self._help = help_text
        if right:
            self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.textEdited.connect(self._mark)
        self.textEdited.connect(self._foresee)
        self.editingFinished.connect(self.commit)
        self.textChanged.connect(lambda _: self.updateGeometry())

    def minimumSizeHint(self) -> QSize:
        """It is as wide as its text as far as that goes: a number of which the end cannot be seen is another number."""
        least = super().minimumSizeHint()
        return QSize(max(least.width(), min(need_of_words(self), THEME.scale_length(WIDEST))), least.height())

    @property
    def value(self) -> str:
        return self._value

    @property
    def refusal(self) -> QLabel:
        """The line that says why what was typed is refused; hidden while nothing is."""
        if self._refusal is None:
            self._refusal = make_label("", 11, wrap=True)
            self._refusal.setProperty("refusal", True)
            self._refusal.hide()
        return self._refusal

    @property
    def pending(self) -> bool:
        return self.text() != self._value

    def set_value(self, text: str) -> None:
        """Show a committed value, unless the operator is typing another one."""
        if self.pending and self.hasFocus() and not self._busy:
            self._value = text
            return
        self._value = text
        if self.text() != text:
            self.setText(text)
            if not self.hasFocus():
                self.setCursorPosition(0)  # a long text shows how it begins
        self._mark()

    def _foresee(self) -> None:
        """Show what the text would do, as soon as the key that was typed is painted."""
        if self.try_apply is not None:
            QTimer.singleShot(0, self, self._foresee_now)

    def _foresee_now(self) -> None:
        if self.try_apply is not None:
            act = partial(self.try_apply, self.text()) if self.pending and self.hasFocus() else None
            show_foreseen(self, act)

    def commit(self) -> bool:
        """Take the text over. Gives False when it was refused."""
        if self._busy or self.held or not self.pending:
            return True
        if self.try_apply is not None:
            show_foreseen(self, None)
        self._busy = True
        text = self.text()
        try:
            self._apply(text)
        except Refused as e:
            self._wrong(str(e))
            return False
        finally:
            self._busy = False
        if self.text() == text:
            self._value = text
        self._mark()
        return True

    def revert(self) -> None:
        if self.try_apply is not None and self.pending:
            show_foreseen(self, None)
        self.setText(self._value)
        self._mark()

    def _wrong(self, why: str) -> None:
        self.setProperty("wrong", True)
        restyle(self)
        self.setToolTip(literal_text(why))
        if self._refusal is not None and self._refusal.parent() is not None:
            self._refusal.setText(why)
            self._refusal.show()
        else:
            show_refusal(self, why)

    def _mark(self) -> None:
        if self.property("wrong") or self.property("pending") != self.pending:
            self.setProperty("wrong", False)
            if self._refusal is not None:
                self._refusal.hide()
            self.setProperty("pending", self.pending)
            self.setToolTip(literal_text(self._help))
            restyle(self)

    @property
    def idle(self) -> bool:
        return not self.pending

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() == Qt.Key.Key_Escape and self.pending:
            self.revert()
            return
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            if self.apply_to_all:
                do_guarded(self, self.apply_to_all, self.text())
                return
        typed = self.pending
        super().keyPressEvent(e)
        if typed and e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            e.accept()  # it took the text over, or said why not; a dialog's own act is the next Enter's


class CommandLine(Field):
    """A line that does something with what is typed: only Enter or its button does it, never leaving it or saving."""

    def __init__(self, help_text: str, apply: Callable[[str], object], parent: QWidget | None = None) -> None:
        super().__init__(help_text, apply, parent)
        self.editingFinished.disconnect(self.commit)
        self.returnPressed.connect(self.commit)


class Choice(QComboBox):
    """A choice among named values; `apply(value)` is called when the operator picks another one."""

    def __init__(self, help_text: str, apply: Callable[[str], object], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._apply = apply
        set_help(self, help_text)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(6)  # long options must not widen the panel; the open list shows them whole
        self.try_apply: Callable[[str], object] | None = None
        """What taking an option over would do, for whoever shows what comes of it while the list is open."""
        self.activated.connect(lambda _: self._take_choice())
        self.highlighted.connect(self._foresee)
        self.currentTextChanged.connect(lambda _: self.updateGeometry())
        self._value = ""

    def set_options(self, options: list[tuple[str, str]], value: str) -> None:
        """Options as (value, words); the present one is shown without calling `apply`."""
        if [(self.itemData(i), self.itemText(i)) for i in range(self.count())] != options:
            self.clear()
            for data, words in options:
                self.addItem(visible_letters(words), data)
            widest = max((self.fontMetrics().horizontalAdvance(w) for _, w in options), default=0)
            self.view().setMinimumWidth(min(420, widest + 40))
        self._value = value
        self.setCurrentIndex(max(0, self.findData(value)))

    def _foresee(self, index: int) -> None:
        if self.try_apply is not None and self.view().isVisible():  # filling it highlights too
            key = str(self.itemData(index))
            show_foreseen(self, partial(self.try_apply, key) if key != self._value else None)

    def hidePopup(self) -> None:
        super().hidePopup()
        if self.try_apply is not None:
            show_foreseen(self, None)

    def _take_choice(self) -> None:
        """What was refused is not shown as taken: the previous choice comes back."""
        if not do_guarded(self, self._apply, str(self.currentData())):
            self.setCurrentIndex(max(0, self.findData(self._value)))

    def minimumSizeHint(self) -> QSize:
        """It is wide enough for the first part of what is chosen: “sACN 31” of “sACN 31 · universe 31 Tunnel walk”."""
        least = super().minimumSizeHint()
        return QSize(max(least.width(), min(need_of_words(self), THEME.scale_length(WIDEST))), least.height())

    def words_as_seen(self) -> str:
        """The words of the present option as they fit; its tooltip and the open list have all of them."""
        return fit_parts(self.currentText(), self.width() - 34, self.fontMetrics().horizontalAdvance)

    def event(self, e: QEvent) -> bool:
        if e.type() == QEvent.Type.ToolTip:
            whole = "" if self.words_as_seen() == self.currentText() else f"{self.currentText()}\n\n"
            self.setToolTip(literal_text(whole + self.whatsThis()))
        return super().event(e)

    def paintEvent(self, _: QPaintEvent) -> None:
        """As the style draws it, but words that are too long are made to fit instead of ending in half a letter."""
        p = QStylePainter(self)
        option = QStyleOptionComboBox()
        self.initStyleOption(option)
        option.currentText = self.words_as_seen()
        p.drawComplexControl(QStyle.ComplexControl.CC_ComboBox, option)
        p.drawControl(QStyle.ControlElement.CE_ComboBoxLabel, option)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(self.palette().text().color(), 1.5))
        x, y = self.width() - 15, self.height() / 2 - 2
        p.drawPolyline([QPointF(x, y), QPointF(x + 4, y + 4), QPointF(x + 8, y)])

    def wheelEvent(self, e: Any) -> None:
        e.ignore()  # a wheel over a closed box must never change a setting


class Tick(QCheckBox):
    def __init__(
        self, words: str, help_text: str, apply: Callable[[bool], object], parent: QWidget | None = None
    ) -> None:
        super().__init__(words, parent)
        set_help(self, help_text)
        self._apply = apply
        self.clicked.connect(self._take_tick)

    def paintEvent(self, e: QPaintEvent) -> None:
        """A ticked box has a tick: its colour alone would be told by colour alone."""
        super().paintEvent(e)
        if not self.isChecked():
            return
        option = QStyleOptionButton()
        self.initStyleOption(option)
        r = QRectF(self.style().subElementRect(QStyle.SubElement.SE_CheckBoxIndicator, option, self))
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        pen = QPen(THEME.color("accent_ink" if self.isEnabled() else "station"), max(2.0, r.width() / 7))
        pen.setCapStyle(Qt.PenCapStyle.RoundCap)
        pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
        p.setPen(pen)
        x, y, w, h = r.x(), r.y(), r.width(), r.height()
        corners = ((0.22, 0.52), (0.43, 0.72), (0.8, 0.3))
        p.drawPolyline([QPointF(x + a * w, y + b * h) for a, b in corners])

    def _take_tick(self, on: bool) -> None:
        if not do_guarded(self, self._apply, on):
            self.setChecked(not on)


def commit_focus() -> bool:
    """Commit what is being typed in the field that has the focus; False when it was refused."""
    widget: QObject | None = QApplication.focusWidget()
    if isinstance(widget, CommandLine):
        return True
    if isinstance(widget, Field):
        return widget.commit()
    commit = getattr(widget, "commit", None)
    if isinstance(widget, QPlainTextEdit) and callable(commit):
        commit()
    return True


def editable_fields(root: QWidget) -> list[QWidget]:
    """All editable fields below a widget, for the test that walks them."""
    kinds = (QLineEdit, QPlainTextEdit, QComboBox, QCheckBox)
    return [
        w
        for w in root.findChildren(QWidget)
        if isinstance(w, kinds) and not (isinstance(w, QLineEdit) and isinstance(w.parent(), QComboBox))
    ]
