"""The levels of one universe as 512 cells, or of many as rows; what changed is lit for a second."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QImage, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.painting import CENTRE, RIGHT, draw_text_line, width_of
from welvo.app.widgets.theme import THEME

COLUMNS = 32
SMALLEST = 7
"""The smallest size in which levels are written."""
LIT = 1.0
"""Seconds for which a changed level stands out."""
OWNER_TINTS = (0, 3, 6, 9, 1, 4)


class Cells(QWidget):
    """512 cells of 32 in a row, or of 16 where they would be too narrow. `picked` gives a slot from 1."""

    picked = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.levels = b""
        self.owners: tuple[int, ...] = ()
        self.kept: bytes | None = None
        """Levels of a moment that were held, to compare with."""
        self._changed = np.zeros(512)
        self.words: list[str] = []
        self._fit_height()
        self.setAccessibleName("Levels of 512 slots")
        self.setMouseTracking(True)

    @property
    def columns(self) -> int:
        """Cells in a row: half as many where three digits would not keep apart from the next."""
        return COLUMNS if (self.width() - 34) / COLUMNS >= width_of("255", SMALLEST) + 4 else COLUMNS // 2

    def _fit_height(self) -> None:
        rows = 512 // self.columns
        self.setMinimumHeight(rows * (22 if rows == 16 else 16) + 4)

    def resizeEvent(self, e: QResizeEvent) -> None:
        super().resizeEvent(e)
        self._fit_height()

    def show_levels(self, levels: bytes, owners: tuple[int, ...], fresh: bool = False) -> None:
        """`fresh`: another universe, of which nothing counts as changed."""
        now = time.monotonic()
        if fresh:
            self._changed[:] = 0
        elif levels != self.levels:
            before = np.frombuffer(self.levels.ljust(512, b"\0"), np.uint8)
            self._changed[before != np.frombuffer(levels.ljust(512, b"\0"), np.uint8)] = now
        lit = bool((now - self._changed < LIT + 0.2).any())
        if fresh or lit or (levels, owners) != (self.levels, self.owners):
            self.levels, self.owners = levels, owners
            self.update()

    def differing_slots(self) -> list[int]:
        """Slots from 1 that are not as they were when they were held."""
        if self.kept is None:
            return []
        return [
            n for n, (a, b) in enumerate(zip(self.kept.ljust(512, b"\0"), self.levels.ljust(512, b"\0")), 1) if a != b
        ]

    def paintEvent(self, e: QPaintEvent) -> None:
        p = QPainter(self)
        gutter = 34
        columns = self.columns
        wide = (self.width() - gutter) / columns
        high = min(30.0, self.height() / (512 // columns))
        # three digits and a little air between them and the next: else two levels read as one number
        size = next((n for n in (11, 9, 8) if width_of("255", n) + 4 <= wide), SMALLEST)
        now = time.monotonic()
        off = set(self.differing_slots())
        for n in range(512):
            r, c = divmod(n, columns)
            if c == 0:
                draw_text_line(p, QRectF(0, r * high, gutter - 6, high), str(n + 1), "quiet", 11, align=RIGHT)
            cell = QRectF(gutter + c * wide, r * high, wide - 1, high - 1)
            known = n < len(self.levels)
            value = self.levels[n] if known else 0
            p.fillRect(cell, THEME.color("field"))
            if value:
                p.fillRect(
                    QRectF(
                        cell.left(),
                        cell.bottom() - cell.height() * value / 255,
                        cell.width(),
                        cell.height() * value / 255,
                    ),
                    THEME.color("accent_wash"),
                )
            if now - self._changed[n] < LIT:
                p.fillRect(cell, THEME.color("select"))
            owner = self.owners[n] if n < len(self.owners) else -1
            if owner > 0:
                p.fillRect(
                    QRectF(cell.left(), cell.bottom() - 2, cell.width(), 2),
                    THEME.colours_of_tint(OWNER_TINTS[owner % len(OWNER_TINTS)])[0],
                )
            if n + 1 in off:
                p.setPen(THEME.color("error"))
                p.drawRect(cell.adjusted(0, 0, -1, -1))
            if value:
                draw_text_line(p, cell, str(value), "text", size, align=CENTRE, elide=False)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        slot = self.slot_at(e.position().x(), e.position().y())
        if slot:
            self.picked.emit(slot)

    def slot_at(self, x: float, y: float) -> int:
        columns, rows = self.columns, 512 // self.columns
        wide = (self.width() - 34) / columns
        high = min(30.0, self.height() / rows)
        c, r = int((x - 34) // wide), int(y // high)
        return r * columns + c + 1 if 0 <= c < columns and 0 <= r < rows else 0


class LevelRows(QWidget):
    """Many universes, one strip of 512 levels for each. `picked` gives the number of the row."""

    picked = Signal(int)
    HIGH = 14

    def __init__(self) -> None:
        super().__init__()
        self.names: list[str] = []
        self._image = QImage()
        self._frames: list[bytes] = []
        self.setAccessibleName("Levels of all universes")

    def show_frames(self, names: list[str], frames: list[bytes]) -> None:
        if (names, frames) == (self.names, self._frames):
            return
        self.names, self._frames = names, frames
        self.setMinimumHeight(self.HIGH * max(1, len(frames)))
        data = b"".join(f[:512].ljust(512, b"\0") for f in frames)
        grey = np.frombuffer(data, np.uint8).reshape(len(frames), 512) if frames else np.zeros((1, 512), np.uint8)
        base, full = THEME.color("field"), THEME.color("accent")
        share = grey[..., None].astype(np.float32) / 255
        low = np.array([base.red(), base.green(), base.blue()], np.float32)
        top = np.array([full.red(), full.green(), full.blue()], np.float32)
        rgb = np.ascontiguousarray((low + (top - low) * share).astype(np.uint8))
        self._image = QImage(rgb.data, 512, rgb.shape[0], 512 * 3, QImage.Format.Format_RGB888).copy()
        self.update()

    def paintEvent(self, e: QPaintEvent) -> None:
        p = QPainter(self)
        for n, name in enumerate(self.names):
            draw_text_line(p, QRectF(0, n * self.HIGH, 84, self.HIGH), name, "quiet", 11, align=RIGHT)
        if self._frames:
            p.drawImage(QRectF(92, 0, self.width() - 92, self.HIGH * len(self._frames)), self._image)
        p.setPen(THEME.color("station"))
        for n in range(1, len(self._frames)):
            p.drawLine(92, n * self.HIGH, self.width(), n * self.HIGH)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        n = int(e.position().y() // self.HIGH)
        if e.button() == Qt.MouseButton.LeftButton and 0 <= n < len(self.names):
            self.picked.emit(n)
