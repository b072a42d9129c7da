"""Looks at a window as a pair of eyes would, and says what is cut, covered, outside of its parent or too pale to read.

Widgets are asked for the room that their style gives to their words, so that what is measured is what is drawn. Views
that paint for themselves are painted once while `painting.WATCHERS` listens: every text of theirs goes through one
function, which knows what it left out. A name that somebody gave may end in “…”; nothing else may.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

import msgspec
import numpy as np
from PySide6.QtCore import QPoint, QRect, QRectF, Qt
from PySide6.QtGui import QFontMetrics, QImage
from PySide6.QtWidgets import (
    QAbstractItemView,
    QAbstractScrollArea,
    QApplication,
    QCheckBox,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QListView,
    QMenuBar,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QScrollBar,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionButton,
    QStyleOptionComboBox,
    QStyleOptionFrame,
    QTableView,
    QWidget,
)

from welvo.app.findings import Drawer
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.fitting import fit_words
from welvo.app.widgets.message import Message
from welvo.app.widgets.painting import WATCHERS, Painted
from welvo.app.widgets.theme import THEME, contrast_of_colours
from welvo.rig.document import Rig

READABLE = 4.5
"""The least contrast of text on its ground (WCAG AA)."""
_GIVEN = {
    "name", "maker", "note", "notes", "hang", "position", "circuit", "use", "code", "description", "columns", "fields",
    "reason",
}  # fmt: skip
"""Keys of a rig file whose values people gave."""


TOGETHER = 3.0
"""Pixels between two numbers below which they read as one."""


class Seen(NamedTuple):
    """One thing that is wrong on the screen. `kind`: cut, outside, overlap, half, pale, accents, left over."""

    kind: str
    words: str
    where: str

    def __str__(self) -> str:
        return f"{self.kind}: {self.words}  ({self.where})"


def names_given(rig: Rig) -> frozenset[str]:
    """Every text of a rig that people gave: these may end in “…” where there is no room."""
    found: set[str] = set()

    def walk(value: object, given: bool) -> None:
        if isinstance(value, dict):
            for key, inner in value.items():
                walk(inner, given or key in _GIVEN)
        elif isinstance(value, list | tuple):
            for inner in value:
                walk(inner, given)
        elif isinstance(value, str) and given and value.strip():
            found.add(value)

    walk(msgspec.to_builtins(rig), False)
    return frozenset(found)


class Eyes:
    """Looks at one state after another; `found` is what was wrong, each once with the first state that showed it."""

    def __init__(self) -> None:
        self.found: dict[Seen, str] = {}
        self.states = 0
        self.texts = 0
        self.names: frozenset[str] = frozenset()
        self._state = ""
        self.former_rig = ""
        """Words that only the rig has that was open before; empty: nothing is known of it."""
        self._former = ""
        self._pictures: list[int] = []
        """On which picture each text was painted that was not painted on a widget."""

    def look_at(self, root: QWidget, state: str, rig: Rig, *, colours: bool = False) -> None:
        """Look at a window or dialog that is shown, in its present state."""
        self.states += 1
        self._state, self.names = state, names_given(rig)
        self._former = self.former_rig
        painted: list[Painted] = []
        on: list[QWidget | None] = []

        def listen(one: Painted) -> None:
            # the painter itself goes with the event: kept longer, it would outlive what it paints on
            painted.append(one._replace(painter=None, ink=one.painter.transform().mapRect(one.ink)))
            device = one.painter.device()
            on.append(device if isinstance(device, QWidget) else None)
            self._pictures.append(id(device))
            pens.append(one.painter.pen().color().name())

        pens: list[str] = []
        self._pictures = []
        WATCHERS.append(listen)
        try:
            image = root.grab().toImage()
        finally:
            WATCHERS.remove(listen)
        for one, at in zip(painted, on):
            self._check_painted(one, at or root)
            self._check_left_over(one.words, at or root)
        self._check_painted_apart(root, painted, on)
        every = [w for w in (root, *root.findChildren(QWidget)) if w.isVisible() and (w is root or not w.isWindow())]
        for w in every:
            self._check_words(w)
            self._check_inside(w, root)
        self._check_apart(every)
        self._check_accents(every)
        if colours:
            self._check_colours(image, root, every, [(o, x, c) for o, x, c in zip(painted, on, pens) if x])

    def _say(self, kind: str, words: str, at: QWidget | None) -> None:
        self.found.setdefault(Seen(kind, words, path_of_widget(at)), self._state)

    # ---- what was cut

    def _cut(self, words: str, seen: str, at: QWidget | None, kind: str = "cut") -> None:
        if not self._may_end(words, seen):
            self._say(kind, f"“{words}” reads “{seen}”" if seen != words else f"“{words}”", at)

    def _may_end(self, words: str, seen: str) -> bool:
        """Whether all that is missing belongs to a name that somebody gave, of which the beginning is seen."""
        before, _, behind = seen.partition("…")
        first, last = len(before.rstrip()), len(words) - len(behind)
        if first < 1:
            return False
        last = min(last, len(words.rstrip(" ”).")))
        for name in self.names:
            at = words.find(name)
            while at >= 0:
                if at <= first and at + len(name) >= last:
                    return True
                at = words.find(name, at + 1)
        return False

    def _check_painted(self, one: Painted, at: QWidget) -> None:
        self.texts += 1
        if "…" in one.seen and "…" not in one.words:
            self._cut(one.words, one.seen, at)

    def _check_painted_apart(self, root: QWidget, painted: list[Painted], on: list[QWidget | None]) -> None:
        """Texts of one view lie over no other, and none reaches out of the view where that does not scroll."""
        views: dict[QWidget, list[Painted]] = {}
        pictures: dict[int, list[Painted]] = {}
        for one, w, picture in zip(painted, on, self._pictures):
            if w is not None:
                views.setdefault(w, []).append(one)
            else:
                pictures.setdefault(picture, []).append(one)
        for texts in pictures.values():
            self._check_ink(root, texts)
        for w, texts in views.items():
            wide, high = _scrolls(w)
            room = QRectF(w.rect()).adjusted(-1, -1, 2, 1)
            for one in texts:
                ink = one.ink
                if not ink.intersects(room):
                    continue
                if not wide and (ink.left() < room.left() or ink.right() > room.right()):
                    self._say("cut", f"“{one.words}” reaches out of its view", w)
                if not high and (ink.top() < room.top() - 2 or ink.bottom() > room.bottom() + 2):
                    self._say("cut", f"“{one.words}” is higher than its view", w)
            self._check_ink(w, texts)

    def _check_ink(self, w: QWidget, texts: list[Painted]) -> None:
        if len(texts) < 2 or len(texts) > 3000:
            return
        box = np.array([[t.ink.left(), t.ink.top(), t.ink.right(), t.ink.bottom()] for t in texts])
        wide = np.minimum(box[:, None, 2], box[None, :, 2]) - np.maximum(box[:, None, 0], box[None, :, 0])
        high = np.minimum(box[:, None, 3], box[None, :, 3]) - np.maximum(box[:, None, 1], box[None, :, 1])
        for a, b in np.argwhere(np.triu((wide > 1.5) & (high > 4), 1)):
            if texts[a].words != texts[b].words:
                self._say("overlap", f"“{texts[a].words}” and “{texts[b].words}”", w)
        gap = box[None, :, 0] - box[:, None, 2]  # of b behind a
        for a, b in np.argwhere((gap >= 0) & (gap < TOGETHER) & (high > 8)):
            if texts[a].words[-1:].isdigit() and texts[b].words[:1].isdigit():
                self._say("overlap", f"“{texts[a].words}” and “{texts[b].words}” run together", w)

    def _check_words(self, w: QWidget) -> None:
        if w.width() < 1 or w.height() < 1:
            return
        for words, need, room in _words_of_widget(w):
            if not words.strip():
                continue
            self.texts += 1
            self._check_left_over(words, w)
            if need.width() > room.width() + 1:
                self._cut_in_widget(w, words, room.width())
            elif need.height() > room.height() + 2:
                self._say("cut", f"“{words}” needs {need.height()} of {room.height()} pixels of height", w)
        if isinstance(w, QComboBox):
            self._check_list_of_choice(w)

    def _check_left_over(self, words: str, w: QWidget) -> None:
        """Nothing that is shown comes from the rig that was open before."""
        if self._former and self._former in words:
            self._say("left over", f"“{words}” is of the rig before", w)

    def _cut_in_widget(self, w: QWidget, words: str, room: int) -> None:
        seen = fit_words(words, room, w.fontMetrics().horizontalAdvance)
        self._cut(words, seen if seen != words else words[:-1] + "…", w)

    def _check_list_of_choice(self, w: QComboBox) -> None:
        if not w.count():
            return
        metrics = w.view().fontMetrics()
        widest = max((w.itemText(i) for i in range(w.count())), key=metrics.horizontalAdvance)
        if metrics.horizontalAdvance(widest) + 24 > max(w.view().minimumWidth(), w.width()):
            self._cut(widest, widest[:-1] + "…", w)

    def _check_inside(self, w: QWidget, root: QWidget) -> None:
        """What holds words or takes clicks is wholly inside of everything around it, but for what can be scrolled."""
        if w is root or not _matters(w):
            return
        inside = QRect(QPoint(0, 0), w.size())
        part, at = inside, w
        wide = high = True
        while at is not root:
            parent = at.parentWidget()
            if parent is None:
                break
            area = parent.parentWidget()
            inside, part = inside.translated(at.pos()), part.translated(at.pos())
            if isinstance(area, QAbstractScrollArea) and area.viewport() is parent:
                wide &= area.horizontalScrollBarPolicy() == Qt.ScrollBarPolicy.ScrollBarAlwaysOff
                high &= area.verticalScrollBarPolicy() == Qt.ScrollBarPolicy.ScrollBarAlwaysOff
            part = part.intersected(parent.rect())
            at = parent
        if part.isEmpty() and not (wide and high):
            return  # it is scrolled away
        if (wide and part.width() < inside.width() - 1) or (high and part.height() < inside.height() - 1):
            first = next((words for words, *_ in _words_of_widget(w) if words), "") or w.accessibleName()
            self._say("outside", f"“{first}” is seen {part.width()} × {part.height()} of {w.width()} × {w.height()}", w)

    def _check_apart(self, every: Iterable[QWidget]) -> None:
        """No two that matter lie one over the other, but for what is laid over a window on purpose."""
        by_parent: dict[int, list[QWidget]] = {}
        for w in every:
            if w.parentWidget() is not None and not w.isWindow() and not isinstance(w, Drawer | Message | QScrollBar):
                by_parent.setdefault(id(w.parentWidget()), []).append(w)
        for siblings in by_parent.values():
            for n, a in enumerate(siblings):
                for b in siblings[n + 1 :]:
                    both = a.geometry().intersected(b.geometry())
                    if both.width() > 1 and both.height() > 1 and not _is_over_on_purpose(a, b):
                        self._say("overlap", f"{_name_of_widget(a)} and {_name_of_widget(b)}", a.parentWidget())

    # ---- one accent

    def _check_accents(self, every: list[QWidget]) -> None:
        """One button at most is accented: what is to be done next. Two of them say nothing."""
        accented = [
            w
            for w in every
            if isinstance(w, QPushButton) and w.property("primary") and w.isEnabled()
            if not w.visibleRegion().isEmpty()
        ]
        if len(accented) > 1:
            words = " and ".join(f"“{w.text()}”" for w in accented)
            self._say("accents", f"{words} are all accented", accented[0])

    # ---- what is too pale

    def _check_colours(
        self, image: QImage, root: QWidget, every: list[QWidget], painted: list[tuple[Painted, QWidget, str]]
    ) -> None:
        image = image.convertToFormat(QImage.Format.Format_RGB32)
        high, wide = image.height(), image.width()
        pixels = np.frombuffer(image.constBits(), np.uint32).reshape(high, -1)[:, :wide] & 0xFFFFFF

        def ground(r: QRect) -> str:
            part = pixels[max(0, r.top()) : r.bottom() + 1, max(0, r.left()) : r.right() + 1]
            if part.size < 9:
                return ""
            colours, counts = np.unique(part, return_counts=True)
            return f"#{colours[counts.argmax()]:06x}"

        for w in every:
            if not w.isEnabled() or isinstance(w, QAbstractItemView | QHeaderView | QScrollBar):
                continue
            words = next((words for words, *_ in _words_of_widget(w) if words.strip()), "")
            part = w.visibleRegion().boundingRect()
            if words and 2 * part.height() >= w.height():  # not what is scrolled half away
                on = ground(part.translated(w.mapTo(root, QPoint(0, 0))))
                pen = w.palette().color(w.foregroundRole()).name()
                if on and contrast_of_colours(pen, on) < READABLE:
                    self._say("pale", f"“{words}” in {pen} on {on}", w)
        for one, at, pen in painted:
            r = one.ink.toRect().intersected(at.visibleRegion().boundingRect()).translated(at.mapTo(root, QPoint(0, 0)))
            if 2 * r.height() < one.ink.height():
                continue  # a row that is scrolled half away: its edge is no ground to read on
            on = ground(r.intersected(QRect(0, 0, wide, high)))
            if on and on != pen and contrast_of_colours(pen, on) < READABLE:
                self._say("pale", f"“{one.words}” in {pen} on {on}", at)


def path_of_widget(w: QWidget | None) -> str:
    """Where a widget stands: its class and name, and those around it that have a name."""
    parts: list[str] = []
    while w is not None and len(parts) < 3:
        name = w.accessibleName()
        kind = type(w).__name__
        if not parts or (not kind.startswith("Q") and kind != "QWidget"):
            parts.append(f"{kind} {name[:40]}".strip())
        w = w.parentWidget()
    return " in ".join(parts)


def _name_of_widget(w: QWidget) -> str:
    words = next((words for words, *_ in _words_of_widget(w) if words), "") or w.accessibleName()
    return f"{type(w).__name__} “{words[:40]}”"


def _matters(w: QWidget) -> bool:
    """Whether a widget shows words or takes clicks: what only holds others may reach out of what holds it."""
    if isinstance(w, QScrollBar | QScrollArea):
        return False
    kinds = (QLabel, QPushButton, QCheckBox, QComboBox, QLineEdit, QProgressBar)
    return isinstance(w, kinds) or (type(w).paintEvent is not QWidget.paintEvent and not w.findChildren(QWidget))


def _is_over_on_purpose(a: QWidget, b: QWidget) -> bool:
    """A narrow window's panel stands over the station, and pages of a stack over each other."""
    names = {a.accessibleName(), b.accessibleName()}
    return bool(names & {"Panel over the station"}) or a.property("over") is True or b.property("over") is True


def _scrolls(w: QWidget) -> tuple[bool, bool]:
    """Whether a view can be scrolled sideways, and up and down: then what its edge cuts is still there."""
    at: QWidget | None = w
    wide = high = bool(w.property("scrolls"))
    while at is not None:
        parent = at.parentWidget()
        if isinstance(parent, QAbstractScrollArea) and parent.viewport() is at:
            wide |= parent.horizontalScrollBar().maximum() > 0
            high |= parent.verticalScrollBar().maximum() > 0
        at = parent
    return wide, high


def _size(metrics: QFontMetrics, words: str) -> QRect:
    lines = words.split("\n")
    wide = max(metrics.horizontalAdvance(x) for x in lines)
    return QRect(0, 0, wide, metrics.height() + metrics.lineSpacing() * (len(lines) - 1))


def _words_of_widget(w: QWidget) -> Iterator[tuple[str, QRect, QRect]]:
    """The words of a widget, the room that each needs, and the room that its style gives it."""
    metrics = w.fontMetrics()
    if isinstance(w, QLabel):
        yield from _words_of_label(w)
    elif isinstance(w, QPushButton):
        option = QStyleOptionButton()
        w.initStyleOption(option)
        room = w.style().subElementRect(QStyle.SubElement.SE_PushButtonContents, option, w)
        room.setHeight(w.height())
        yield w.text().replace("&&", "\0").replace("&", "").replace("\0", "&"), _size(metrics, w.text()), room
    elif isinstance(w, QCheckBox):
        option = QStyleOptionButton()
        w.initStyleOption(option)
        room = w.style().subElementRect(QStyle.SubElement.SE_CheckBoxContents, option, w)
        yield w.text(), _size(metrics, w.text()), room
    elif isinstance(w, QComboBox):
        choice = QStyleOptionComboBox()
        w.initStyleOption(choice)
        seen = w.words_as_seen() if isinstance(w, Choice) else w.currentText()
        words = w.currentText() if "…" in seen else seen
        yield words, _size(metrics, words), QRect(0, 0, w.width() - 34, w.height())
    elif isinstance(w, QLineEdit) and not isinstance(w.parentWidget(), QComboBox):
        frame = QStyleOptionFrame()
        w.initStyleOption(frame)
        room = w.style().subElementRect(QStyle.SubElement.SE_LineEditContents, frame, w).adjusted(2, 0, -2, 0)
        for words in (w.text(), "" if w.text() else w.placeholderText()):
            yield words, _size(metrics, words), QRect(0, 0, room.width(), w.height())
    elif isinstance(w, QProgressBar) and w.isTextVisible():
        yield w.text(), _size(metrics, w.text()), w.rect()
    elif isinstance(w, QHeaderView):
        yield from _words_of_header(w)
    elif isinstance(w, QMenuBar):
        for act in w.actions():
            r = w.actionGeometry(act)
            words = act.text().replace("&", "")
            yield words, _size(metrics, words), r.intersected(w.rect())
    elif isinstance(w, QTableView | QListView) and type(w.itemDelegate()) is QStyledItemDelegate:
        yield from _words_of_cells(w)


def _words_of_label(w: QLabel) -> Iterator[tuple[str, QRect, QRect]]:
    words, metrics = w.text(), w.fontMetrics()
    if not words or (w.textFormat() == Qt.TextFormat.RichText) or (not w.pixmap().isNull()):
        return
    room = w.contentsRect().adjusted(w.margin(), 0, -w.margin(), 0)
    if not w.wordWrap():
        yield words, _size(metrics, words), room
        return
    need = metrics.boundingRect(QRect(0, 0, max(1, room.width()), 100_000), Qt.TextFlag.TextWordWrap.value, words)
    longest = max((metrics.horizontalAdvance(x) for x in words.split()), default=0)
    yield words, QRect(0, 0, longest, need.height()), room


def _words_of_header(w: QHeaderView) -> Iterator[tuple[str, QRect, QRect]]:
    if w.orientation() != Qt.Orientation.Horizontal or w.model() is None:
        return
    for n in range(w.count()):
        words = str(w.model().headerData(n, Qt.Orientation.Horizontal) or "")
        if words and not w.isSectionHidden(n):
            yield words, _size(THEME.metrics(11), words), QRect(0, 0, w.sectionSize(n) - 12, w.height())


def _words_of_cells(w: QTableView | QListView) -> Iterator[tuple[str, QRect, QRect]]:
    model = w.model()
    if model is None:
        return
    metrics = w.fontMetrics()
    for row in range(min(model.rowCount(), 60)):
        for column in range(model.columnCount()):
            index = model.index(row, column)
            r = w.visualRect(index)
            if r.isEmpty() or not r.intersects(w.viewport().rect()):
                continue
            words = str(index.data() or "")
            yield words, _size(metrics, words), r.adjusted(3, 0, -3, 0)


def settle(times: int = 4) -> None:
    """Let the window lay itself out."""
    for _ in range(times):
        QApplication.processEvents()
