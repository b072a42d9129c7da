"""Small helpers for painting text and boxes in the theme."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import NamedTuple

import shiboken6
from PySide6.QtCore import QCoreApplication, QEvent, QObject, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import QAction, QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QApplication,
    QHBoxLayout,
    QLabel,
    QLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from welvo.app.widgets.fitting import fit_words
from welvo.app.widgets.literal import literal_text, menu_words, visible_letters
from welvo.app.widgets.refusals import GONE, do_guarded
from welvo.app.widgets.theme import THEME
from welvo.patience import crowding

LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
CENTRE = Qt.AlignmentFlag.AlignCenter


class Painted(NamedTuple):
    """A text that was painted: where, all of it, what is seen of it (with “…” where it was too long), and its ink.

    `room` and `ink` are in the coordinates of what it is painted on, in pixels.
    """

    painter: QPainter
    words: str
    seen: str
    room: QRectF
    ink: QRectF


WATCHERS: list[Callable[[Painted], object]] = []
"""Who is told of every text that is painted: an audit of the screens. Nobody while people work."""


def draw_text_line(
    p: QPainter,
    r: QRectF,
    words: str,
    token: str | QColor = "text",
    size: int = 13,
    bold: bool = False,
    align: Qt.AlignmentFlag = LEFT,
    elide: bool = True,
) -> None:
    """Draw one line of text in a rectangle; too long a text is elided."""
    p.setFont(THEME.font(size, bold))
    p.setPen(THEME.color(token) if isinstance(token, str) else token)
    seen = _elide_words(words, size, bold, int(r.width()) + 1, THEME.step) if elide else visible_letters(words)
    p.drawText(r, align, seen)
    _tell_watchers(p, r, words, seen, align.value)


def draw_text_block(
    p: QPainter, r: QRectF, words: str, token: str = "text", size: int = 13, bold: bool = False,
    align: Qt.AlignmentFlag = LEFT
) -> None:  # fmt: skip
    """Draw text in a rectangle in as many lines as it needs; the rectangle is made for it."""
    p.setFont(THEME.font(size, bold))
    p.setPen(THEME.color(token))
    seen = visible_letters(words)
    p.drawText(r, align.value | Qt.TextFlag.TextWordWrap.value, seen)
    _tell_watchers(p, r, words, seen, align.value | Qt.TextFlag.TextWordWrap.value)


def _tell_watchers(p: QPainter, r: QRectF, words: str, seen: str, align: int) -> None:
    if WATCHERS and seen:
        ink = QRectF(p.fontMetrics().boundingRect(r.toRect(), align, seen))
        for watcher in WATCHERS:
            watcher(Painted(p, words, seen, r, ink))


@lru_cache(8192)
def _elide_words(words: str, size: int, bold: bool, room: int, step: int) -> str:
    """Words as they fit; the same ones are painted again and again. `step` is the text size of the window."""
    return fit_words(visible_letters(words), room, THEME.metrics(size, bold).horizontalAdvance)


def width_of(words: str, size: int = 13, bold: bool = False) -> int:
    return THEME.metrics(size, bold).horizontalAdvance(words)


def break_lines(words: str, room: float, size: int = 13) -> str:
    """Words in as many lines as they need for a room, for buttons, which do not break theirs."""
    lines = [""]
    for word in words.split(" "):
        longer = f"{lines[-1]} {word}".strip()
        if lines[-1] and width_of(longer, size) > room:
            lines.append(word)
        else:
            lines[-1] = longer
    return "\n".join(lines)


def fitting_size(words: str, room: float, sizes: tuple[int, ...] = (16, 13, 11)) -> int:
    """The largest type size at which a bold word fits."""
    for size in sizes:
        if width_of(words, size, True) <= room:
            return size
    return sizes[-1]


def draw_frame(
    p: QPainter,
    r: QRectF,
    fill: str | None,
    outline: str | None,
    radius: float = 4,
    width: float = 1,
    dashed: bool = False,
) -> None:
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.setBrush(THEME.color(fill) if fill else Qt.BrushStyle.NoBrush)
    if outline:
        pen = QPen(THEME.color(outline), width)
        if dashed:
            pen.setStyle(Qt.PenStyle.DashLine)
        p.setPen(pen)
        r = r.adjusted(width / 2, width / 2, -width / 2, -width / 2)
    else:
        p.setPen(Qt.PenStyle.NoPen)
    p.drawRoundedRect(r, radius, radius)
    p.setRenderHint(QPainter.RenderHint.Antialiasing, False)


class LiteralLabel(QLabel):
    """Shows its text letter by letter."""

    def __init__(self, words: str = "") -> None:
        super().__init__(visible_letters(words))
        self.setTextFormat(Qt.TextFormat.PlainText)

    def setText(self, words: str) -> None:
        super().setText(visible_letters(words))


class NameLabel(QWidget):
    """One line with a name that somebody gave, which may be long: it is shortened where there is no room for it."""

    def __init__(self, words: str = "", size: int = 13, bold: bool = False) -> None:
        super().__init__()
        self._words, self._size, self._bold = words, size, bold
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    def text(self) -> str:
        return self._words

    def setText(self, words: str) -> None:
        if words != self._words:
            self._words = words
            self.setAccessibleName(words)
            self.setToolTip(literal_text(words))
            self.updateGeometry()
            self.update()

    def sizeHint(self) -> QSize:
        high = THEME.metrics(self._size, self._bold).height()
        return QSize(width_of(self._words, self._size, self._bold) + 2, high)

    def minimumSizeHint(self) -> QSize:
        hint = self.sizeHint()
        return QSize(min(hint.width(), THEME.scale_length(160)), hint.height())

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        draw_text_line(p, QRectF(self.rect()), self._words, size=self._size, bold=self._bold)


def make_label(words: str = "", size: int = 13, bold: bool = False, quiet: bool = False, wrap: bool = False) -> QLabel:
    """A text label; its size, weight and colour are properties, so that a change of theme reaches it.

    Small print that wraps is an explanation, and is as dark as text: quiet is for what stands beside a value.
    """
    quiet = quiet and not (wrap and size <= 11)
    made = LiteralLabel(words)
    made.setFont(THEME.font(size, bold))
    made.setProperty("px", str(size))
    made.setProperty("bold", bold)
    made.setProperty("quiet", quiet)
    made.setWordWrap(wrap)
    made.setTextInteractionFlags(Qt.TextInteractionFlag.NoTextInteraction)
    return made


def make_button(
    words: str, act: object = None, help_text: str = "", *, primary: bool = False, strong: bool = False,
    made: QPushButton | None = None
) -> QPushButton:  # fmt: skip
    """A button with its words, act and help; `made` is one of a kind of its own."""
    made = made or QPushButton()
    made.setText(menu_words(words))
    made.setProperty("primary", primary)
    made.setProperty("strong", strong)
    if callable(act):
        made.clicked.connect(lambda *_: do_guarded(made, act))
    if help_text:
        made.setToolTip(literal_text(help_text))
    made.setMinimumHeight(28)
    return made


def menu_entry(to: QMenu, words: str, act: Callable[[], object]) -> QAction:
    """An entry of a menu that pops up; what its act refuses is said as a button's is."""
    made = to.addAction(menu_words(words))
    made.triggered.connect(lambda *_: do_guarded(to, act))
    return made


def popup_menu(parent: QWidget, words: str = "") -> QMenu:
    """A menu that pops up: it goes when it is closed, after what was picked in it is done."""
    made = QMenu(menu_words(words), parent)
    made.aboutToHide.connect(lambda: QTimer.singleShot(0, made.deleteLater))
    return made


def row_of_widgets(*widgets: QWidget | int | None, spacing: int = 8) -> QHBoxLayout:
    """Widgets side by side; None stretches, a number is a fixed space."""
    made = QHBoxLayout()
    made.setContentsMargins(0, 0, 0, 0)
    made.setSpacing(spacing)
    for w in widgets:
        if w is None:
            made.addStretch(1)
        elif isinstance(w, int):
            made.addSpacing(w)
        else:
            made.addWidget(w)
    return made


def touching_widgets(widgets: Sequence[QWidget | int | None]) -> QWidget:
    """Widgets without gaps between them, as one."""
    made = QWidget()
    made.setLayout(row_of_widgets(*widgets, spacing=0))
    return made


def tall_page(page: QWidget) -> QScrollArea:
    """A page that scrolls up and down where the window is too low for it, instead of laying its parts over another."""
    made = QScrollArea()
    made.setWidgetResizable(True)
    made.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    made.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    made.setWidget(page)
    return made


def column_of_widgets(margins: tuple[int, int, int, int] = (0, 0, 0, 0), spacing: int = 8) -> QVBoxLayout:
    made = QVBoxLayout()
    made.setContentsMargins(*margins)
    made.setSpacing(spacing)
    return made


class _Building(QObject):
    """Lays out what is built anew once, when all of it is there.

    Qt lays a shown widget out again for each child that is put into it and shown: a page of forty rows forty times. So
    while a page is built its layout rests. The end is an event that is posted before those that show the children, so
    that nobody sees them unlaid.
    """

    DONE = QEvent.Type(QEvent.registerEventType())

    def __init__(self) -> None:
        super().__init__()
        self._held: list[QWidget] = []

    def hold(self, root: QWidget) -> None:
        """Let the layout of a widget rest until all events at hand are done."""
        layout = root.layout()
        if layout is None or not layout.isEnabled() or not root.isVisible():
            return
        layout.setEnabled(False)
        self._held.append(root)
        if len(self._held) == 1:
            QCoreApplication.postEvent(self, QEvent(self.DONE))

    def event(self, e: QEvent) -> bool:
        if e.type() == self.DONE:
            self.finish()
            return True
        return super().event(e)

    def finish(self) -> None:
        """Show what was put in, and lay it out; for those as well who have to know at once where it stands."""
        held, self._held = self._held, []
        for root in held:
            layout = root.layout() if shiboken6.isValid(root) else None
            if layout is None:
                continue
            for w in _widgets_of(layout):
                if not (w.isHidden() and w.testAttribute(Qt.WidgetAttribute.WA_WState_ExplicitShowHide)):
                    w.setVisible(True)
            layout.setEnabled(True)
            layout.invalidate()
            layout.activate()
            around = root.parentWidget()
            while around is not None and (outer := around.layout()) is not None:  # what it stands in may need more room
                outer.activate()
                around = around.parentWidget()


_BUILDING = _Building()


def finish_building() -> None:
    """Lay out at once what was just built: for those who ask where something in it stands."""
    _BUILDING.finish()


def clear_layout(layout: QLayout) -> None:
    """Take everything out of a layout. Widgets go when the event at hand is over: one of them may be its sender.

    The focus goes to what is built in its place under the same name, if there is such, and else to nothing: Qt would
    hand it on to the next widget of the window, which then swallows what is typed.
    """
    root, focus = layout.parentWidget(), QApplication.focusWidget()
    if root is not None:
        _BUILDING.hold(root)
    if root is not None and focus is not None and focus is not root and root.isAncestorOf(focus):
        if any(w is not None and (w is focus or w.isAncestorOf(focus)) for w in _widgets_of(layout)):
            name, kind = focus.accessibleName(), type(focus)
            focus.clearFocus()
            _due[:] = [time.monotonic() + SOON * crowding()]
            # two turns of the event loop: what is put into a layout is only shown in the next one
            QTimer.singleShot(0, root, lambda: QTimer.singleShot(0, root, lambda: focus_again(root, name, kind)))
    while layout.count():
        item = layout.takeAt(0)
        if item is None:
            return
        widget, inner = item.widget(), item.layout()
        if widget:
            drop_widget(widget)
        elif inner:
            clear_layout(inner)


def drop_widget(widget: QWidget) -> None:
    """Take a widget out of the window for good: it does nothing any more, and goes when the event at hand is over."""
    widget.setProperty(GONE, True)
    widget.hide()
    widget.deleteLater()


def _widgets_of(layout: QLayout) -> list[QWidget]:
    found: list[QWidget] = []
    for n in range(layout.count()):
        item = layout.itemAt(n)
        widget, inner = (item.widget(), item.layout()) if item else (None, None)
        if widget:
            found.append(widget)
        elif inner:
            found += _widgets_of(inner)
    return found


SOON = 1.0
"""Seconds within which what was built anew has its focus back; a large form takes a while on a busy computer."""
_due: list[float] = []


def focus_is_due() -> bool:
    """Whether a focus that was taken away with a layout is about to come back: then nobody else should have it."""
    return bool(_due) and time.monotonic() < _due[0]


def focus_again(root: QWidget, name: str, kind: type[QWidget]) -> None:
    """Give the focus to the widget of a name below a root, unless something else has it by now."""
    _due.clear()
    if QApplication.focusWidget() is None and name:
        alike = (w for w in root.findChildren(kind) if w.accessibleName() == name and w.isVisibleTo(root))
        found = next(alike, None)
        if found is not None:
            found.setFocus()
