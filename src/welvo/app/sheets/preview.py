"""The pages of a sheet as they will be printed: the very PDF, drawn page by page by a thread of its own."""

from __future__ import annotations

import threading

from PySide6.QtCore import QObject, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFocusEvent, QImage, QKeyEvent, QPainter, QPaintEvent, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QAbstractScrollArea

from welvo.app.disk import Newest
from welvo.app.widgets.painting import CENTRE, draw_frame, draw_text_line
from welvo.app.widgets.theme import PAPER, THEME
from welvo.live.worker import WorkerFaults
from welvo.sheets import pages
from welvo.sheets.pages import Pages

pages.guard = threading.Lock()
GAP = 14
SCREEN = 96.0
"""Dots an inch at 100 %."""
STEPS = (0.25, 0.35, 0.5, 0.7, 1.0, 1.4, 2.0, 3.0)
KEPT = 12
"""Pictures of pages that are kept; a page of A3 at 300 % is some 50 MB."""


class _Drawn(QObject):
    came = Signal(object, object)


class SheetPreview(QAbstractScrollArea):
    """`turned` carries the page that is in the middle of the view, from 1."""

    turned = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Pages")
        self.setWhatsThis("The pages as they will be printed. Ctrl+wheel zooms, PgUp and PgDn turn pages.")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.pages: Pages | None = None
        self.words = ""
        """What is said where there are no pages."""
        self.waits_for = ""
        """What is being made in place of what is shown; said over it while it is dimmed."""
        self.is_dimmed = False
        self.fit = "page"
        self._zoom = 1.0
        self._images: dict[tuple[int, int], QImage] = {}
        self._asked: set[tuple[int, int]] = set()
        self._page = 1
        self.faults = WorkerFaults()
        self._drawer = Newest("drawing pages", self.faults)
        self._drawn = _Drawn()
        self._drawn.came.connect(self._take_picture, Qt.ConnectionType.QueuedConnection)
        self.verticalScrollBar().valueChanged.connect(self._follow_scroll)
        self.verticalScrollBar().setSingleStep(40)

    # ---- what is shown

    def wait_for_others(self, words: str, *, at_once: bool = False) -> None:
        """Other pages are being made. `at_once` says that those shown are of something else: they are dimmed now, and
        otherwise only when `dim_pages` is called, so that a quick change does not flicker."""
        self.waits_for = words
        self.is_dimmed = self.is_dimmed or at_once
        if self.is_dimmed:
            self.viewport().update()

    def dim_pages(self) -> None:
        self.is_dimmed = True
        self.viewport().update()

    def show_pdf(self, data: bytes) -> None:
        """Show other pages; the place in them stays, as far as it is still there."""
        at = self.verticalScrollBar().value()
        old, self.pages = self.pages, Pages(data)
        self.waits_for, self.is_dimmed = "", False
        self._images.clear()
        self._asked.clear()
        if old is not None:
            self._drawer.wait_until_settled(1.0)
            old.close_pages()
        self._lay_out()
        self.verticalScrollBar().setValue(at)
        self._follow_scroll()
        self.viewport().update()

    def say(self, words: str) -> None:
        """Show no pages, but why there are none."""
        if self.pages is not None:
            self._drawer.wait_until_settled(1.0)
            self.pages.close_pages()
        self.pages, self.words = None, words
        self.waits_for, self.is_dimmed = "", False
        self._lay_out()
        self.viewport().update()

    def close_pages(self) -> None:
        self._drawer.finish_and_stop(2.0)
        if self.pages is not None:
            self.pages.close_pages()
            self.pages = None

    @property
    def count_pages(self) -> int:
        return len(self.pages) if self.pages else 0

    @property
    def page_in_view(self) -> int:
        return self._page

    # ---- sizes

    @property
    def zoom_in_use(self) -> float:
        """Of the size on paper, on a screen of 96 dots an inch."""
        if not self.pages or not self.fit:
            return self._zoom
        wide, high = self.pages.sizes[min(self._page, self.count_pages) - 1]
        room = max(50, self.viewport().width() - 2 * GAP)
        by_width: float = room / (wide / 25.4 * SCREEN)
        if self.fit == "width":
            return by_width
        by_height: float = max(50, self.viewport().height() - 2 * GAP) / (high / 25.4 * SCREEN)
        return min(by_width, by_height)

    def set_zoom(self, zoom: float) -> None:
        at = self._page
        self.fit, self._zoom = "", max(STEPS[0], min(STEPS[-1], zoom))
        self._lay_out()
        self.go_to(at)

    def set_fit(self, fit: str) -> None:
        at = self._page
        self.fit = fit
        self._lay_out()
        self.go_to(at)

    def step_pages(self, by: int) -> None:
        now = self.zoom_in_use
        wanted = [s for s in STEPS if (s > now * 1.02 if by > 0 else s < now * 0.98)]
        if wanted:
            self.set_zoom(wanted[0] if by > 0 else wanted[-1])

    def _size_of_page(self, n: int) -> QSize:
        assert self.pages
        scale = self.zoom_in_use * SCREEN / 25.4
        wide, high = self.pages.sizes[n]
        return QSize(round(wide * scale), round(high * scale))

    def _tops_of_pages(self) -> list[int]:
        tops, at = [], GAP
        for n in range(self.count_pages):
            tops.append(at)
            at += self._size_of_page(n).height() + GAP
        return [*tops, at]

    def _lay_out(self) -> None:
        tops = self._tops_of_pages()
        view = self.viewport().size()
        widest = max((self._size_of_page(n).width() for n in range(self.count_pages)), default=0) + 2 * GAP
        self.verticalScrollBar().setRange(0, max(0, tops[-1] - view.height()))
        self.verticalScrollBar().setPageStep(view.height())
        self.horizontalScrollBar().setRange(0, max(0, widest - view.width()))
        self.horizontalScrollBar().setPageStep(view.width())
        self.viewport().update()

    def go_to(self, page: int) -> None:
        """Turn to a page, from 1."""
        if self.pages:
            self._page = max(1, min(self.count_pages, page))
            self.verticalScrollBar().setValue(self._tops_of_pages()[self._page - 1] - GAP)
            self._follow_scroll()

    def _follow_scroll(self, _: int = 0) -> None:
        middle = self.verticalScrollBar().value() + self.viewport().height() / 2
        tops = self._tops_of_pages()
        self._page = max(1, sum(t <= middle for t in tops[:-1]))
        self.turned.emit(self._page)
        self.viewport().update()

    # ---- Qt's side

    def resizeEvent(self, e: QResizeEvent) -> None:
        at = self._page
        super().resizeEvent(e)
        self._lay_out()
        if self.fit:
            self.go_to(at)

    def wheelEvent(self, e: QWheelEvent) -> None:
        if e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.step_pages(1 if e.angleDelta().y() > 0 else -1)
        else:
            super().wheelEvent(e)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        turn = {Qt.Key.Key_PageDown: 1, Qt.Key.Key_PageUp: -1}.get(Qt.Key(e.key()))
        if turn:
            self.go_to(self._page + turn)
        elif e.key() in (Qt.Key.Key_Home, Qt.Key.Key_End):
            self.go_to(1 if e.key() == Qt.Key.Key_Home else self.count_pages)
        else:
            super().keyPressEvent(e)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self.viewport())
        view = QRectF(self.viewport().rect())
        p.fillRect(view, THEME.color("ground"))
        if not self.pages:
            draw_text_line(p, view, self.waits_for or self.words, "quiet", 13, align=CENTRE)
            self._draw_focus(p, view)
            return
        dy, dx = self.verticalScrollBar().value(), self.horizontalScrollBar().value()
        tops = self._tops_of_pages()
        dots = round(self.zoom_in_use * SCREEN * self.devicePixelRatioF())
        wanted: list[tuple[int, int]] = []
        for n in range(self.count_pages):
            size = self._size_of_page(n)
            left = max(GAP, (view.width() - size.width()) / 2) - dx
            r = QRectF(left, tops[n] - dy, size.width(), size.height())
            if not r.intersects(view):
                continue
            p.fillRect(r, PAPER)
            image = self._images.get((n, dots)) or next((i for (m, _), i in self._images.items() if m == n), None)
            if image is not None:
                p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
                p.drawImage(r, image)
            draw_frame(p, r.adjusted(-1, -1, 1, 1), None, "edge", 0)
            if (n, dots) not in self._images:
                wanted.append((n, dots))
        self._draw_focus(p, view)
        if self.is_dimmed:
            veil = QColor(THEME.color("ground"))
            veil.setAlpha(205)
            p.fillRect(view, veil)
            draw_text_line(p, view, self.waits_for, "text", 16, bold=True, align=CENTRE)
        if wanted and set(wanted) - self._asked:
            self._asked = set(wanted)
            shown = self.pages
            self._drawer.put_job(lambda: self._draw_wanted(shown, wanted))

    def _draw_focus(self, p: QPainter, view: QRectF) -> None:
        if self.hasFocus():
            draw_frame(p, view.adjusted(0, 0, -1, -1), None, "accent", 0, 2)

    def focusInEvent(self, e: QFocusEvent) -> None:
        super().focusInEvent(e)
        self.viewport().update()

    def focusOutEvent(self, e: QFocusEvent) -> None:
        super().focusOutEvent(e)
        self.viewport().update()

    def _draw_wanted(self, shown: Pages, wanted: list[tuple[int, int]]) -> None:
        for n, dots in wanted:
            if shown is not self.pages:
                return
            picture = shown.picture_of_page(n, dots).convert("RGB")
            image = QImage(
                picture.tobytes(), picture.width, picture.height, picture.width * 3, QImage.Format.Format_RGB888
            ).copy()
            self._drawn.came.emit((shown, n, dots), image)

    def _take_picture(self, what: tuple[Pages, int, int], image: QImage) -> None:
        shown, n, dots = what
        if shown is not self.pages:
            return
        self._images = {k: v for k, v in self._images.items() if k[0] != n}
        self._images[n, dots] = image
        while len(self._images) > KEPT:
            self._images.pop(next(iter(self._images)))
        self._asked.discard((n, dots))
        self.viewport().update()

    def is_drawn(self) -> bool:
        """Whether what is in view has its picture."""
        return bool(self.pages) and not self._asked and bool(self._images)
