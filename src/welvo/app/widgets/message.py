"""What the program says: a line of its own below everything else, so that it covers nothing.

What is said in quick succession waits for its turn: each stands long enough to be seen, an error longer. A message of
more than a line takes more lines while it is read, and is folded afterwards. All of them can be read again in a list.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable

from msgspec import Struct
from PySide6.QtCore import QEvent, QPoint, QRect, Qt, QTimer, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QSizePolicy, QToolTip, QWidget

from welvo.app.widgets import marks
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.literal import literal_text, visible_letters
from welvo.app.widgets.painting import make_button, make_label, row_of_widgets
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.app.widgets.theme import THEME
from welvo.rig.notation import say_count

KEPT = 500
"""How many messages can be read again."""
WAITING = 20
"""How many wait for their turn at most; what comes beyond goes straight into the list."""
LEAST = {"error": 4_000, "warning": 2_500}
LEAST_OF_NOTE = 1_200
"""Milliseconds that a message stands before another one may take its place."""
FRESH = {"error": 12_000}
FRESH_OF_NOTE = 6_000
"""Milliseconds after which a message becomes quiet."""
LONGEST = 420
"""Letters of a message that are shown in the line; the list has all of them."""
EDGE = 96
"""Where the words begin: below those of the path."""
NO_POINT = QPoint()


class Said(Struct, frozen=True):
    """One message: when it was said, its words, and which mark it has."""

    at: float
    words: str
    severity: str
    undo: bool = False


class Message(QWidget):
    """One message at a time; a click on it goes on to the next. What says that something was done offers `undo`."""

    undo = Signal()

    def __init__(self, clock: Callable[[], float] = time.time) -> None:
        super().__init__()
        self._clock = clock
        self.said: deque[Said] = deque(maxlen=KEPT)
        self.waiting: deque[Said] = deque()
        self.shown: Said | None = None
        self.is_fresh = False
        """Whether the message shown is still to be read: afterwards it is quiet."""
        self._least = QTimer(self, singleShot=True)
        self._least.timeout.connect(self._go_on)
        self._fading = QTimer(self, singleShot=True)
        self._fading.timeout.connect(self._fade)
        self.label = make_label("", 12, wrap=True)
        self.label.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.more = make_label("", 11, quiet=True)
        self.back = make_button("Undo", self._take_back, "Takes back what was just done.   Ctrl+Z")
        self.all = make_button(
            "Messages…", self.show_all, "Lists every message since the window was opened, with its time."
        )
        for b in (self.back, self.all):
            b.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # the keys stay where they were; Ctrl+Z and the menu do the same
            b.setMinimumHeight(0)
            b.setProperty("slim", True)
        self.back.hide()
        self.all.hide()
        row = row_of_widgets(self.label, self.more, self.back, self.all, spacing=8)
        row.setStretch(0, 1)
        row.setContentsMargins(EDGE, 4, 12, 4)
        self.setLayout(row)
        self.setAccessibleName("Message")
        self._keep_height()

    @property
    def words(self) -> str:
        """What was said last, whether it is shown by now or still waits."""
        return self.said[-1].words if self.said else ""

    @property
    def severity(self) -> str:
        return self.said[-1].severity if self.said else "note"

    # ---- saying

    def say(self, words: str, severity: str, undo: bool = False) -> None:
        """Say something as soon as what is being said has been seen. What was done by hand is said at once, so that it
        can be taken back at once: whoever did it has gone on from what was said before."""
        said = Said(self._clock(), visible_letters(words), severity, undo)
        again = self.shown is not None and self.is_fresh and self.shown.words == said.words and not self.waiting
        self._keep(said)
        if again or undo or not self._least.isActive():
            self._show(said)
        elif len(self.waiting) < WAITING:
            self.waiting.append(said)
            self._say_how_many()

    def _keep(self, said: Said) -> None:
        """Keep it in the list; what is said again and again stands there once, with its last time."""
        if self.said and (self.said[-1].words, self.said[-1].severity) == (said.words, said.severity):
            self.said.pop()
        self.said.append(said)
        self.all.show()

    def say_now(self, words: str, severity: str = "note") -> None:
        """Say something before the window is busy: it cannot wait, and is drawn at once."""
        said = Said(self._clock(), visible_letters(words), severity)
        self._keep(said)
        self._show(said)
        above = self.parentWidget()
        layout = above.layout() if above else None
        if layout is not None:
            layout.activate()
        self.repaint()

    def no_undo(self) -> None:
        """Something else was done since: the button would take back that."""
        self.back.hide()
        self.waiting = deque(Said(s.at, s.words, s.severity) for s in self.waiting)

    def forget_shown(self) -> None:
        """Nothing is being said; what was said stays in the list."""
        self.waiting.clear()
        self._least.stop()
        self._fading.stop()
        self.shown = None
        self.is_fresh = False
        self.label.setText("")
        self.back.hide()
        self._say_how_many()
        self.update()

    def go_on(self) -> None:
        """It has been read: the next one, or quiet."""
        self._least.stop()
        if self.waiting:
            self._show(self.waiting.popleft())
        elif self.is_fresh:
            self._fading.stop()
            self._fade()

    def _go_on(self) -> None:
        if self.waiting:
            self._show(self.waiting.popleft())

    def _show(self, said: Said) -> None:
        self.shown, self.is_fresh = said, True
        self.label.setText(said.words if len(said.words) <= LONGEST else said.words[:LONGEST].rstrip() + " …")
        self.back.setVisible(said.undo)
        self._say_how_many()
        self._least.start(LEAST.get(said.severity, LEAST_OF_NOTE))
        self._fading.start(FRESH.get(said.severity, FRESH_OF_NOTE))
        self._colour(said.severity == "error")
        self.update()

    def _fade(self) -> None:
        """It is quiet now. What took more than a line is folded, so that the station has its room again."""
        self.is_fresh = False
        if self.shown is None:
            return
        self._colour(False)
        room = self.label.width()
        when = time.strftime("%H:%M", time.localtime(self.shown.at))
        whole = f"{when}  {self.shown.words}"
        if self.label.fontMetrics().horizontalAdvance(whole) > room:
            whole = f"{when}  A long message: see Messages."
        self.label.setText(whole)
        self.back.hide()
        self.update()

    def _colour(self, wrong: bool) -> None:
        self.label.setProperty("bold", wrong)
        self.label.setProperty("quiet", not self.is_fresh)
        self.label.style().unpolish(self.label)
        self.label.style().polish(self.label)

    def _say_how_many(self) -> None:
        count = len(self.waiting)
        self.more.setText(f"and {count} more" if count else "")
        self.more.setVisible(bool(count))

    def _take_back(self) -> None:
        self.back.hide()
        self.undo.emit()

    # ---- reading again

    def show_all(self) -> None:
        AllSaid(list(self.said), self.window()).exec()

    # ---- drawing

    def _keep_height(self) -> None:
        self.setMinimumHeight(max(26, self.label.fontMetrics().lineSpacing() + 10))

    def changeEvent(self, e: QEvent) -> None:
        super().changeEvent(e)
        if e.type() in (QEvent.Type.FontChange, QEvent.Type.StyleChange):
            self._keep_height()

    def event(self, e: QEvent) -> bool:
        if e.type() == QEvent.Type.ToolTip and self.shown is not None:
            QToolTip.showText(self.mapToGlobal(NO_POINT), literal_text(self.shown.words), self, QRect())
            return True
        return super().event(e)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("raised" if self.is_fresh else "station"))
        p.fillRect(0, 0, self.width(), 1, THEME.color("line"))
        if self.shown is not None and self.is_fresh:
            p.fillRect(0, 0, 4, self.height(), THEME.color(self.shown.severity))
            marks.draw_mark(p, self.shown.severity, EDGE - 22, (self.height() - 12) / 2)

    def mousePressEvent(self, _: QMouseEvent) -> None:
        self.go_on()


HEADS = (Column("Time", 80), Column("What was said", 640))
KINDS = {"error": "Error", "warning": "Warning"}


class AllSaid(Dialog):
    """Everything that was said since the window was opened, the newest first."""

    def __init__(self, said: list[Said], parent: QWidget) -> None:
        note = "The newest first. Rows can be copied." if said else "There are none yet."
        super().__init__(parent, "Messages", say_count(len(said), "message"), note,
                         wide=820, high=480)  # fmt: skip
        self.list = RowList("Messages", HEADS)
        self.list.show_lines([ListRow(n, _row_of(s)) for n, s in enumerate(reversed(said))])
        self.body.addWidget(self.list, 1)
        self.whole = make_label("", 12, wrap=True)
        self.body.addWidget(self.whole)
        self._said = said[::-1]
        self.list.picked.connect(self._show_whole)
        self.finish(None, leave="Close", room=0)

    def _show_whole(self, row: int) -> None:
        """A row has one line; what takes more is read below."""
        self.whole.setText(self._said[row].words)


def _row_of(said: Said) -> tuple[str, str]:
    kind = KINDS.get(said.severity, "")
    words = f"{kind}: {said.words}" if kind else said.words
    return time.strftime("%H:%M:%S", time.localtime(said.at)), words
