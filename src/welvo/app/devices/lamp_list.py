"""Lamps of a port as rows: what is planned, what answered, and where the two differ."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.jobs.device_work import OUTCOMES
from welvo.app.jobs.lamp_work import LampWork
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.painting import draw_frame, draw_text_line, width_of
from welvo.app.widgets.theme import THEME
from welvo.matching.lamps import LampPair, LampSettingLine
from welvo.protocols.rdm import say_uid
from welvo.rig.notation import say_count

HEAD = 24


def key_of(pair: LampPair) -> int | str:
    """What a row is known by: its responder, or the fixture that did not answer."""
    return pair.lamp.uid if pair.lamp else pair.fixture


def mark_of_pair(pair: LampPair) -> str:
    """The mark of a row as a whole."""
    if pair.lamp is None or pair.lamp.failed:
        return "warning"
    if not pair.fixture:
        return "note"
    if pair.differs_from_plan:
        return "differs"
    return "unknown" if pair.doubt else "matches"


class LampList(QWidget):
    """`picked` carries the UID of a row's responder or the id of its fixture; `blink` the UID for which Space was
    pressed."""

    picked = Signal(object)
    blink = Signal(object)

    def __init__(self, session: Session, work: LampWork) -> None:
        super().__init__()
        self._session, self._work = session, work
        self.pairs: list[LampPair] = []
        self.chosen: int | str = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Lamps of the port")
        self.reveal: Callable[[int, int], object] = lambda top, height: None
        """Scrolls a row into view."""

    @property
    def height_of_row(self) -> int:
        return 44 + 2 * THEME.step

    def show_pairs(self, pairs: list[LampPair]) -> None:
        if pairs is not self.pairs:
            self.pairs = pairs
            self.setAccessibleDescription("; ".join(self._words_of_pair(p) for p in pairs[:40]))
        self.setMinimumWidth(THEME.scale_length(440))  # where there is less room, it is moved sideways
        self.setMinimumHeight(HEAD + self.height_of_row * max(1, len(pairs)))  # the text size may be another one
        self.update()

    def choose_pair(self, key: int | str) -> None:
        if key != self.chosen:
            self.chosen = key
            n = self._row_chosen()
            if n >= 0:
                self.reveal(HEAD + self.height_of_row * n, self.height_of_row)
            self.update()

    def _row_chosen(self) -> int:
        return next((n for n, p in enumerate(self.pairs) if key_of(p) == self.chosen), -1)

    def _words_of_pair(self, p: LampPair) -> str:
        f = self._session.rig.fixtures.get(p.fixture)
        who = f"{f.number} {f.name}".strip() if f else "not in the plan"
        lines = ", ".join(f"{x.key} plan {x.plan} lamp {x.reported}" for x in p.lines if x.mark == "differs")
        return f"{who}: {lines or marks.WORDS[mark_of_pair(p)]}"

    def _columns_of_row(self) -> tuple[float, float, float, float]:
        """Where address, mode and the words at the end begin, and where the row ends."""
        wide = min(self.width(), 900.0)
        return wide * 0.40, wide * 0.56, wide * 0.82, wide

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w = self.width()
        address, mode, known, _end = self._columns_of_row()
        for x, words in ((34.0, "Lamp"), (address, "Address"), (mode, "Mode"), (known, "Known by")):
            draw_text_line(p, QRectF(x, 0, 140, HEAD), words, "quiet", 11)
        p.fillRect(0, HEAD - 1, w, 1, THEME.color("edge"))
        for n, pair in enumerate(self.pairs):
            self._draw_row(p, pair, HEAD + self.height_of_row * n, w)
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()).adjusted(0, 0, -1, 0), None, "accent", 2, 2)

    def _draw_row(self, p: QPainter, pair: LampPair, y: int, w: int) -> None:
        h = self.height_of_row
        if key_of(pair) == self.chosen:
            p.fillRect(0, y, w, h - 1, THEME.color("select"))
            p.fillRect(0, y, 3, h - 1, THEME.color("accent"))
        p.fillRect(0, y + h - 1, w, 1, THEME.color("line"))
        address, mode, known, end = self._columns_of_row()
        marks.draw_mark(p, mark_of_pair(pair), 12, y + h / 2 - 6, 12)
        half = h / 2
        f = self._session.rig.fixtures.get(pair.fixture)
        if f:
            number = str(f.number)
            draw_text_line(p, QRectF(34, y + 3, address - 40, half - 2), number, bold=True)
            beside = 34 + width_of(number, 13, True) + 8
            draw_text_line(p, QRectF(beside, y + 3, address - beside - 6, half - 2), f.name)
        else:
            draw_text_line(p, QRectF(34, y + 3, address - 40, half - 2), "not in the plan", "quiet")
        if pair.lamp is None:
            draw_text_line(p, QRectF(34, y + half, address - 40, half - 3), "did not answer", "text", 11)
            return
        lamp = pair.lamp
        said = f"{say_uid(lamp.uid)}{' · ' if lamp.model_name else ''}{lamp.model_name}"
        draw_text_line(p, QRectF(34, y + half, address - 40, half - 3), said, "quiet", 11)
        if lamp.failed:
            draw_text_line(p, QRectF(address, y, end - address, h), "does not answer what it is asked", "text", 11)
            return
        lines = {x.key: x for x in pair.lines}
        if pair.fixture:
            self._draw_value(p, lines["address"], address, y, mode - address - 8)
            self._draw_value(p, lines["personality"], mode, y, known - mode - 8)
        else:
            draw_text_line(
                p, QRectF(address, y, mode - address, h), f"{lamp.address:03d}" if lamp.address else "–", "quiet"
            )
            draw_text_line(p, QRectF(mode, y, known - mode, h), say_count(lamp.footprint, "slot"), "quiet")
        self._draw_end(p, pair, known, y, end - known - 8)

    def _draw_value(self, p: QPainter, line: LampSettingLine, x: float, y: int, room: float) -> None:
        """A value once and quiet where both agree; else the plan above and what the lamp says below."""
        h = self.height_of_row
        if line.mark == "matches" or line.plan == line.reported:
            draw_text_line(p, QRectF(x, y, room, h), line.reported, "quiet")
            return
        draw_text_line(p, QRectF(x, y + 3, room, h / 2 - 2), f"plan {line.plan}", "quiet", 11)
        if line.mark != "differs":  # not known which lamp it is
            draw_text_line(p, QRectF(x, y + h / 2 - 1, room, h / 2 - 2), line.reported)
            return
        marks.draw_mark(p, "differs", x, y + h * 0.72 - 6, 11)
        draw_text_line(p, QRectF(x + 16, y + h / 2 - 1, room - 16, h / 2 - 2), line.reported, bold=True)

    def _draw_end(self, p: QPainter, pair: LampPair, x: float, y: int, room: float) -> None:
        """How it is known which lamp this is, and what became of what was sent to it."""
        assert pair.lamp
        h = self.height_of_row
        blinking = self._work.blinking
        result = self._work.results.get(pair.lamp.uid, {})
        worst = next((r for r in result.values() if r.outcome != "taken"), None)
        said = "UID" if pair.sure else "one of several" if pair.doubt else "what it says" if pair.fixture else "–"
        blinks = bool(blinking and blinking[1] == pair.lamp.uid)
        alone = not blinks and not result
        draw_text_line(
            p, QRectF(x, y + 3, room, h - 6 if alone else h / 2 - 2), said, "text" if pair.doubt else "quiet", 11
        )
        if blinks:
            p.setBrush(THEME.color("accent"))
            p.setPen(Qt.PenStyle.NoPen)
            p.drawEllipse(QRectF(x, y + h * 0.72 - 4, 8, 8))
            draw_text_line(p, QRectF(x + 13, y + h / 2 - 1, room - 13, h / 2 - 2), "blinks", "accent", 11, True)
        elif worst:
            draw_text_line(p, QRectF(x, y + h / 2 - 1, room, h / 2 - 2), OUTCOMES[worst.outcome], "error", 11)
        elif result:
            draw_text_line(p, QRectF(x, y + h / 2 - 1, room, h / 2 - 2), "read back", "quiet", 11)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        n = int((e.position().y() - HEAD) // self.height_of_row)
        if e.position().y() >= HEAD and 0 <= n < len(self.pairs):
            self.picked.emit(key_of(self.pairs[n]))

    def keyPressEvent(self, e: QKeyEvent) -> None:
        n = self._row_chosen()
        if e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.pairs:
            n += 1 if e.key() == Qt.Key.Key_Down else -1
            self.picked.emit(key_of(self.pairs[max(0, min(len(self.pairs) - 1, n))]))
        elif e.key() == Qt.Key.Key_Space and n >= 0:
            lamp = self.pairs[n].lamp
            if lamp:
                self.blink.emit(lamp.uid)
        else:
            super().keyPressEvent(e)
