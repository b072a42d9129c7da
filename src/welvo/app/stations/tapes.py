"""The tapes: every universe as a strip of 512 slots, at any zoom, with a lens, drags and keys."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QApplication, QFrame, QToolTip

from welvo.app import marks
from welvo.app.paint import RIGHT, box, text
from welvo.app.session import Selection, Session
from welvo.app.stations.tape_paint import (
    BLOCK,
    FIELD,
    SLOT,
    SLOT_TOP,
    Block,
    blocks_of,
    level_for,
    paint_tape,
)  # fmt: skip
from welvo.app.theme import THEME
from welvo.patch.allocate import Landing, landing
from welvo.patch.index import Span
from welvo.patch.path import of_slot, place_ways
from welvo.rig.counting import SLOTS
from welvo.rig.document import Change
from welvo.rig.edits import move
from welvo.rig.lookup import call, feeds_of, universes_in_order
from welvo.rig.notation import NotationError, plural, read_place, say_place, say_wire

GUTTER = 260
MARGIN = 12
HEADER = 24
COLUMN = 168
NAMED = ("Field", "Fit", "Block", "Slot")


@dataclass(frozen=True)
class RowAt:
    """Where a universe is drawn, in content coordinates."""

    universe: str
    x: float
    y: float
    height: float
    lanes: int


@dataclass
class Carry:
    """A thing on its way: where it would land."""

    key: str
    brk: int
    grab: int
    land: Landing
    by_keys: bool = False
    typed: str = ""


class Tapes(QAbstractScrollArea):
    """Emits `zoomed` with the name of the level, `edit_address` when Enter asks for the address field."""

    zoomed = Signal(str)
    edit_address = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._step = 1
        self.x0 = 0.0
        self._rows: list[RowAt] = []
        self._cache: dict[str, QPixmap] = {}
        self._cached_for: object = None
        self._block_cache: dict[str, tuple[list[Block], int]] = {}
        self._worst_cache: tuple[object, dict[str, str]] = (None, {})
        self._shown_on: set[str] = set()
        self._carry: Carry | None = None
        self._press: tuple[QPointF, Span] | None = None
        self.lens: tuple[str, int] | None = None
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Tapes")
        self.viewport().setMouseTracking(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.horizontalScrollBar().valueChanged.connect(self._scrolled)
        self.verticalScrollBar().valueChanged.connect(lambda _: self.viewport().update())
        session.changed.connect(self._on_change)
        session.selection_changed.connect(self._on_selection)
        session.observed_changed.connect(self.viewport().update)

    # ---- geometry

    @property
    def tape_width(self) -> float:
        return max(100.0, self.viewport().width() - GUTTER - 2 * MARGIN)

    def steps(self) -> list[float]:
        """Pixels per slot of each zoom step; those closer than 1.3× to the former are left out."""
        found = [0.25, self.tape_width / SLOTS]
        for pp in (2.5, 5.0, 9.0, 14.0, 22.0, 36.0):
            if pp >= 1.3 * found[-1]:
                found.append(pp)
        return found

    @property
    def pp(self) -> float:
        steps = self.steps()
        return steps[min(self._step, len(steps) - 1)]

    @property
    def level_name(self) -> str:
        return level_for(self.pp).name

    def set_level(self, name: str) -> None:
        """Go to one of the four named levels, keeping what is selected in view."""
        want = {"Field": 0.25, "Fit": self.tape_width / SLOTS, "Block": 5.0, "Slot": 36.0}[name]
        steps = self.steps()
        self._set_step(min(range(len(steps)), key=lambda n: abs(steps[n] - want)))

    def zoom(self, by: int) -> None:
        self._set_step(self._step + by)

    def _set_step(self, step: int) -> None:
        middle = self._middle_slot()
        self._step = max(0, min(len(self.steps()) - 1, step))
        self._cache.clear()
        self._layout()
        if level_for(self.pp) in (BLOCK, SLOT):
            self._centre(middle)
        self._show_selection()
        self.zoomed.emit(self.level_name)
        self.viewport().update()

    def _middle_slot(self) -> float:
        spans = self._selected_spans()
        if spans:
            return (spans[0].first + spans[0].last) / 2
        return (self.x0 + self.tape_width / 2) / max(self.pp, 0.01)

    def _centre(self, slot: float) -> None:
        wide = SLOTS * self.pp
        self.x0 = (
            max(0.0, min(wide - self.tape_width, slot * self.pp - self.tape_width / 2))
            if wide > self.tape_width
            else 0.0
        )
        self.horizontalScrollBar().setValue(int(self.x0))

    def _scrolled(self, value: int) -> None:
        if value != int(self.x0):
            self.x0 = float(value)
            self._cache.clear()
            self.viewport().update()

    def _layout(self) -> None:
        level = level_for(self.pp)
        order = universes_in_order(self._session.rig)
        self._rows = []
        if level is FIELD:
            wide = self.viewport().width() - 2 * MARGIN
            columns = max(1, int(wide // (COLUMN + 8)))
            per = max(1, -(-len(order) // columns), int((self.viewport().height() - HEADER) // FIELD.pitch))
            for n, uid in enumerate(order):
                c, r = divmod(n, per)
                self._rows.append(RowAt(uid, MARGIN + c * (COLUMN + 8) + 30, r * FIELD.pitch, FIELD.pitch, 1))
            height = float(per * FIELD.pitch)
        else:
            y = 4.0
            for uid in order:
                lanes = self._blocks(uid)[1]
                h = level.pitch + (lanes - 1) * level.more
                self._rows.append(RowAt(uid, GUTTER + MARGIN, y, h, lanes))
                y += h
                if self.lens and self.lens[0] == uid and level is not SLOT:
                    y += self._lens_height(uid)
            height = y
        self.verticalScrollBar().setPageStep(self.viewport().height() - HEADER)
        self.verticalScrollBar().setRange(0, max(0, int(height) - self.viewport().height() + HEADER))
        self.verticalScrollBar().setSingleStep(26)
        wide_ = SLOTS * self.pp - self.tape_width
        self.horizontalScrollBar().setRange(0, max(0, int(wide_)) if level in (BLOCK, SLOT) or self.pp > 2 else 0)
        self.horizontalScrollBar().setPageStep(int(self.tape_width))
        self.horizontalScrollBar().setSingleStep(int(self.pp * 4))
        self.x0 = float(self.horizontalScrollBar().value())

    def resizeEvent(self, e: QResizeEvent) -> None:
        self._cache.clear()
        self._layout()
        super().resizeEvent(e)

    def _on_change(self, change: Change) -> None:
        touched = set(self._session.followed.universes)
        if change.ids("profiles") or change.ids("shares") or change.ids("universes"):
            touched |= self._cache.keys() | self._block_cache.keys()
        for uid in touched:
            self._cache.pop(uid, None)
            self._block_cache.pop(uid, None)
        self._carry = None
        if self.lens and self.lens[0] not in self._session.rig.universes:
            self.lens = None
        self._layout()
        self.viewport().update()

    def _blocks(self, uid: str) -> tuple[list[Block], int]:
        """Blocks and number of lanes of a universe, kept until an edit touches it."""
        found = self._block_cache.get(uid)
        if found is None:
            found = self._block_cache[uid] = blocks_of(self._session.index, uid)
        return found

    def _on_selection(self) -> None:
        now = {x.universe for x in self._selected_spans()}
        for uid in now | self._shown_on:  # what is selected leaves its comb
            self._cache.pop(uid, None)
        self._shown_on = now
        self._show_selection()
        self.viewport().update()

    def restyle(self) -> None:
        self._cache.clear()
        self._layout()
        self.viewport().update()

    def row_of(self, universe: str) -> RowAt | None:
        return next((r for r in self._rows if r.universe == universe), None)

    def place_of(self, universe: str, address: int) -> QPointF | None:
        """Where a slot is drawn, in viewport coordinates: the middle of its first lane."""
        r = self.row_of(universe)
        if r is None:
            return None
        top = SLOT_TOP if level_for(self.pp) is SLOT else 0
        return QPointF(
            r.x + (address - 0.5) * self.pp - self.x0, r.y + top + 8 - self.verticalScrollBar().value() + HEADER
        )

    def _show_selection(self) -> None:
        """Scroll so that what is selected is seen."""
        s = self._session.selection
        spans = self._selected_spans()
        uid = s.first if s.kind == "universe" else spans[0].universe if spans else s.slot[0] if s.slot else ""
        r = self.row_of(uid)
        if r is None:
            return
        bar = self.verticalScrollBar()
        room = self.viewport().height() - HEADER
        if r.y < bar.value():
            bar.setValue(int(r.y) - 4)
        elif r.y + r.height > bar.value() + room:
            bar.setValue(int(r.y + r.height - room) + 4)
        if spans and level_for(self.pp) in (BLOCK, SLOT):
            x = (spans[0].first - 1) * self.pp - self.x0
            if x < 0 or x + min(120, (spans[0].last - spans[0].first) * self.pp) > self.tape_width:
                self._centre((spans[0].first + min(spans[0].last, spans[0].first + 10)) / 2)
                self._cache.clear()

    def _selected_spans(self) -> list[Span]:
        s = self._session.selection
        return [x for k in s.ids for x in self._session.index.spans(k)] if s.kind == "thing" else []

    # ---- painting

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self.viewport())
        p.fillRect(self.viewport().rect(), THEME.color("station"))
        level = level_for(self.pp)
        state = (self.pp, self.x0, self.tape_width, THEME.name, THEME.step)
        if state != self._cached_for:
            self._cache.clear()
            self._cached_for = state
        off = self.verticalScrollBar().value() - HEADER
        p.setClipRect(0, HEADER, self.viewport().width(), self.viewport().height() - HEADER)
        for r in self._rows:
            y = r.y - off
            lens = (
                self._lens_height(r.universe)
                if self.lens and self.lens[0] == r.universe and level not in (FIELD, SLOT)
                else 0
            )
            if y + r.height + lens < HEADER or y > self.viewport().height():
                continue
            if level is FIELD:
                self._field_row(p, r, y)
            else:
                self._row(p, r, y)
                if lens:
                    self._paint_lens(p, r.universe, y + r.height)
        p.setClipping(False)
        self._header(p)
        if self._carry:
            self._paint_carry(p, off)
        if self.hasFocus():
            box(p, QRectF(self.viewport().rect()), None, "accent", 2, 2)

    def _header(self, p: QPainter) -> None:
        level = level_for(self.pp)
        w = self.viewport().width()
        p.fillRect(0, 0, w, HEADER, THEME.color("station"))
        if level is FIELD:
            text(p, QRectF(MARGIN, 0, w, HEADER), f"{len(self._rows)} universes, one bar each", "quiet", 11)
            return
        text(p, QRectF(12, 0, 100, HEADER), "Universe", "quiet", 11)
        text(p, QRectF(158, 0, 60, HEADER), "Feed", "quiet", 11)
        text(p, QRectF(200, 0, 50, HEADER), "Free", "quiet", 11, align=RIGHT)
        if level is SLOT:
            return
        for n in (1, *range(64, 513, 64)):
            x = GUTTER + MARGIN + (n - 1) * self.pp - self.x0
            if GUTTER + MARGIN - 1 <= x <= w - MARGIN:
                r = QRectF(x if n == 1 else x - 30, 0, 40 if n == 1 else 32, HEADER)
                text(
                    p,
                    r,
                    str(n),
                    "quiet",
                    11,
                    align=Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter if n == 1 else RIGHT,
                )

    def _worst(self, uid: str) -> str:
        """The severest finding of a universe, gathered once for each report."""
        report = self._session.report
        if self._worst_cache[0] is not report:
            rig, worst = self._session.rig, {}
            for f in reversed(report.findings):  # they stand severest first
                kind, where = f.goes_to
                feed = rig.feeds.get(where) if kind == "feed" else None
                for owner in {
                    where if kind == "universe" else "",
                    f.subject.split(":")[0],
                    feed.universe if feed else "",
                }:
                    worst[owner] = str(f.severity)
            self._worst_cache = (report, worst)
        return self._worst_cache[1].get(uid, "")

    def _pixmap(self, uid: str, width: float, height: float, pp: float, x0: float) -> QPixmap:
        found = self._cache.get(uid)
        if found is None:
            ratio = self.devicePixelRatioF()
            found = QPixmap(int(width * ratio) + 1, int(height * ratio) + 1)
            found.setDevicePixelRatio(ratio)
            found.fill(Qt.GlobalColor.transparent)
            q = QPainter(found)
            paint_tape(q, self._session.index, uid, pp, x0, width, frozenset(self._session.selection.ids))
            q.end()
            self._cache[uid] = found
        return found

    def _row(self, p: QPainter, r: RowAt, y: float) -> None:
        s = self._session
        level = level_for(self.pp)
        universe = s.rig.universes[r.universe]
        chosen = s.selection.kind == "universe" and r.universe in s.selection.ids
        mine = {x.universe for x in self._selected_spans()}
        if chosen or r.universe in mine:
            p.fillRect(QRectF(8, y - 3, GUTTER, r.height - 2), THEME.color("select"))
            p.fillRect(QRectF(8, y - 3, 3, r.height - 2), THEME.color("accent"))
        top = y + (SLOT_TOP if level is SLOT else 0)
        line = QRectF(0, top, GUTTER, 20)
        text(p, QRectF(8, top, 32, 20), str(universe.number), size=16, bold=True, align=RIGHT)
        text(p, line.adjusted(48, 0, -128, 0), universe.name or "–", size=13)
        worst = self._worst(r.universe)
        if worst:
            marks.draw(p, worst, 138, top + 4, 12)
        feeds = feeds_of(s.rig, r.universe)
        if feeds:
            f = s.rig.feeds[feeds[0]]
            more = f" +{len(feeds) - 1}" if len(feeds) > 1 else ""
            text(p, QRectF(156, top, 68, 20), say_wire(f.protocol, f.wire) + more, "quiet", 11)
        else:
            text(p, QRectF(156, top, 68, 20), "no feed", "warning" if s.index.on(r.universe) else "quiet", 11)
        text(p, QRectF(214, top, 36, 20), str(s.index.free_slots(r.universe)), "quiet", 11, align=RIGHT)
        pix = self._pixmap(r.universe, self.tape_width, r.height, self.pp, self.x0)
        p.drawPixmap(QPointF(r.x, y), pix)
        self._outline_selected(p, r, y)
        if self.lens and self.lens[0] == r.universe and level is not SLOT:
            first, slots = self.lens[1], int((self.viewport().width() - GUTTER - 2 * MARGIN) / self._lens_pp())
            frame = QRectF(r.x + (first - 1) * self.pp - self.x0, y - 2, slots * self.pp, r.height - 2)
            p.setPen(QPen(THEME.color("accent"), 1))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(frame)

    def _outline_selected(self, p: QPainter, r: RowAt, y: float) -> None:
        level = level_for(self.pp)
        blocks = {(x.key, x.brk): b for b in self._blocks(r.universe)[0] for x in b.spans}
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("text"), 2))
        for span in self._selected_spans():
            block = blocks.get((span.key, span.brk))
            if span.universe != r.universe or block is None:
                continue
            top = y + (SLOT_TOP if level is SLOT else 0) + block.lane * (level.more or level.pitch)
            x = r.x + (span.first - 1) * self.pp - self.x0
            w = (min(span.last, SLOTS) - span.first + 1) * self.pp
            box_ = QRectF(x - 1, top - 1, w + 1, level.lane + 2).intersected(
                QRectF(r.x - 2, 0, self.tape_width + 4, 1e6)
            )
            if box_.width() > 0:
                p.drawRect(box_)
        slot = self._session.selection.slot
        if slot and slot[0] == r.universe:
            x = r.x + (slot[1] - 1) * self.pp - self.x0
            if r.x <= x <= r.x + self.tape_width:
                p.fillRect(QRectF(x, y + r.height - 6, max(2.0, self.pp), 2), THEME.color("text"))

    def _field_row(self, p: QPainter, r: RowAt, y: float) -> None:
        n = self._rows.index(r)
        number = self._session.rig.universes[r.universe].number
        mine = {x.universe for x in self._selected_spans()} | set(self._session.selection.ids)
        if r.universe in mine:
            p.fillRect(QRectF(r.x - 28, y, COLUMN, FIELD.pitch), THEME.color("select"))
        if n % 5 == 0 or r.universe in mine:
            text(p, QRectF(r.x - 30, y - 2, 26, 14), str(number), "quiet", 11, align=RIGHT)
        pix = self._pixmap(r.universe, 128, FIELD.pitch, 0.25, 0)
        p.drawPixmap(QPointF(r.x, y + 1), pix)
        worst = self._worst(r.universe)
        if worst in ("error", "warning"):
            marks.draw(p, worst, r.x + 131, y + 1, 9)

    # ---- lens

    def _lens_pp(self) -> float:
        return 16.0 if self.viewport().width() > 1300 else 14.0

    def _lens_height(self, uid: str) -> int:
        lanes = self._blocks(uid)[1]
        return SLOT_TOP + 14 + (lanes - 1) * SLOT.more + SLOT.lane + 12

    def toggle_lens(self, universe: str = "", address: int = 0) -> None:
        """Open the lens on a stretch, or close it."""
        if self.lens and not address:
            self.lens = None
        else:
            spans = self._selected_spans()
            uid = universe or (spans[0].universe if spans else "")
            if not uid:
                return
            at = address or (spans[0].first if spans else 1)
            slots = int(self.tape_width / self._lens_pp())
            self.lens = (uid, max(1, min(SLOTS - slots + 1, at - 4)))
        self._layout()
        self._show_selection()
        self.viewport().update()

    def _paint_lens(self, p: QPainter, uid: str, y: float) -> None:
        assert self.lens
        pp = self._lens_pp()
        number = self._session.rig.universes[uid].number
        slots = int(self.tape_width / pp)
        h = self._lens_height(uid) - 8
        box(p, QRectF(8, y, self.viewport().width() - 16, h), "ground", "accent", 4, 1)
        last = min(SLOTS, self.lens[1] + slots - 1)
        text(p, QRectF(20, y + 6, 200, 16), "Lens", "quiet", 11)
        text(p, QRectF(20, y + 22, 220, 22), f"{say_place(number, self.lens[1])} – {last}", size=16, bold=True)
        text(p, QRectF(20, y + 46, 230, 16), "Space opens and closes it", "quiet", 11)
        clashes = [c for c in self._session.index.clashes(uid, 50) if c.last >= self.lens[1] and c.first <= last]
        if clashes:
            c = clashes[0]
            marks.draw(p, "error", 20, y + 72, 14)
            text(p, QRectF(42, y + 68, 210, 20), f"{plural(c.last - c.first + 1, 'slot')} meet", bold=True)
            text(p, QRectF(42, y + 88, 210, 16), f"{say_place(number, c.first)}–{c.last:03d}", size=11)
        p.save()
        p.translate(GUTTER + MARGIN, y + 8)
        p.setClipRect(QRectF(-4, -2, self.tape_width + 6, h))
        paint_tape(
            p,
            self._session.index,
            uid,
            pp,
            (self.lens[1] - 1) * pp,
            self.tape_width,
            frozenset(self._session.selection.ids),
        )
        blocks = {(x.key, x.brk): b for b in self._blocks(uid)[0] for x in b.spans}
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("text"), 2))
        for span in self._selected_spans():
            block = blocks.get((span.key, span.brk))
            if span.universe == uid and block:
                p.drawRect(
                    QRectF(
                        (span.first - self.lens[1]) * pp - 1,
                        SLOT_TOP + block.lane * SLOT.more - 1,
                        (span.last - span.first + 1) * pp + 1,
                        SLOT.lane + 2,
                    )
                )
        p.restore()

    # ---- hit test

    def at(self, pos: QPointF) -> tuple[str, int] | None:
        """Universe and slot under a point of the viewport (0 in the gutter), or None."""
        y = pos.y() + self.verticalScrollBar().value() - HEADER
        if pos.y() < HEADER:
            return None
        level = level_for(self.pp)
        for r in self._rows:
            if level is FIELD and not r.x - 30 <= pos.x() <= r.x + 140:
                continue
            if r.y <= y < r.y + r.height:
                if pos.x() < r.x:
                    return r.universe, 0
                if level is SLOT and y - r.y < 12:
                    return r.universe, max(1, min(SLOTS, int((pos.x() - r.x) / self.tape_width * SLOTS) + 1))
                pp, x0 = (0.25, 0.0) if level is FIELD else (self.pp, self.x0)
                slot = int((pos.x() - r.x + x0) / pp) + 1
                return r.universe, slot if 1 <= slot <= SLOTS else 0
            if self.lens and self.lens[0] == r.universe and level not in (FIELD, SLOT):
                if r.y + r.height <= y < r.y + r.height + self._lens_height(r.universe):
                    slot = self.lens[1] + int((pos.x() - GUTTER - MARGIN) / self._lens_pp())
                    return r.universe, slot if pos.x() >= GUTTER + MARGIN and slot <= SLOTS else 0
        return None

    def _span_at(self, pos: QPointF) -> Span | None:
        found = self.at(pos)
        if not found or not found[1]:
            return None
        r = self.row_of(found[0])
        level = level_for(self.pp)
        here = self._session.index.at(*found)
        if not here or r is None or level is FIELD:
            return here[0] if here else None
        blocks = {(x.key, x.brk): b for b in self._blocks(found[0])[0] for x in b.spans}
        y = pos.y() + self.verticalScrollBar().value() - HEADER - r.y - (SLOT_TOP if level is SLOT else 0)
        if y > r.height:
            y = y - r.height - 8 - SLOT_TOP
            lane = int(y // SLOT.more)
        else:
            lane = int(y // (level.more or level.pitch))
        return next((x for x in here if blocks[x.key, x.brk].lane == lane), here[0])

    # ---- mouse

    def mousePressEvent(self, e: QMouseEvent) -> None:
        if e.button() != Qt.MouseButton.LeftButton:
            return
        if self._carry and self._carry.by_keys:
            self._drop()
            return
        found = self.at(e.position())
        span = self._span_at(e.position())
        s = self._session
        if span is None:
            if found and not found[1]:
                s.select(Selection("universe", (found[0],)))
            elif found:
                if level_for(self.pp) is SLOT:
                    r = self.row_of(found[0])
                    if r and e.position().y() + self.verticalScrollBar().value() - HEADER - r.y < 12:
                        self._centre(found[1])
                        return
                s.select(Selection("slot", (), slot=found))
            return
        slot = found if level_for(self.pp) in (BLOCK, SLOT) else None
        add = e.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        if add and s.selection.kind == "thing":
            ids = [k for k in s.selection.ids if k != span.key]
            s.select_things(ids if len(ids) < len(s.selection.ids) else [*s.selection.ids, span.key])
        else:
            s.select_things([span.key], span.brk, slot)
        self._press = (e.position(), span)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self._press and not self._carry and e.buttons() & Qt.MouseButton.LeftButton:
            if (e.position() - self._press[0]).manhattanLength() >= QApplication.startDragDistance():
                span = self._press[1]
                grabbed = self.at(self._press[0])
                grab = (grabbed[1] if grabbed else span.first) - span.first
                self._carry = Carry(
                    span.key,
                    span.brk,
                    grab,
                    landing(self._session.index, span.key, span.brk, span.universe, span.first),
                )
        if self._carry:
            found = self.at(e.position())
            if found and found[1]:
                self._carry_to(found[0], found[1] - self._carry.grab)
            self.viewport().update()

    def mouseReleaseEvent(self, e: QMouseEvent) -> None:
        self._press = None
        if self._carry and not self._carry.by_keys:
            self._drop()

    def mouseDoubleClickEvent(self, e: QMouseEvent) -> None:
        found = self.at(e.position())
        if found and found[1] and level_for(self.pp) is not SLOT:
            self.toggle_lens(found[0], found[1])

    def _carry_to(self, universe: str, address: int) -> None:
        assert self._carry
        width = self._carry.land.last - self._carry.land.first + 1
        size = self._session.rig.universes[universe].size
        if self._carry.key in self._session.rig.fixtures:
            address = min(address, size - width + 1)
        address = max(1, min(SLOTS, address))
        self._carry.land = landing(self._session.index, self._carry.key, self._carry.brk, universe, address)

    def _drop(self) -> None:
        carry, self._carry = self._carry, None
        self.viewport().update()
        if not carry:
            return
        land = carry.land
        if land.refused:
            self._session.say(f"{land.refused}; it stays where it is.", "warning")
        elif land.past_end and carry.key in self._session.rig.fixtures:
            self._session.say("It would end past the universe; it stays where it is.", "warning")
        else:
            self._session.edit(move, carry.key, carry.brk, land.universe, land.first)

    def carry_words(self, land: Landing) -> tuple[str, str]:
        """Mark and sentence of the card beside what is carried."""
        rig = self._session.rig
        number = rig.universes[land.universe].number
        if land.refused:
            return "error", land.refused
        if land.past_end:
            return "warning", f"ends {plural(land.past_end, 'slot')} past the universe"
        if land.meets:
            key, first, last = land.meets[0]
            more = f" and {len(land.meets) - 1} more" if len(land.meets) > 1 else ""
            return (
                "error",
                f"meets {call(rig, key)} on {plural(last - first + 1, 'slot')}: {say_place(number, first)}–{last:03d}{more}",
            )
        return "agrees", f"free · {plural(land.free_before, 'slot')} before, {land.free_after} after"

    def _paint_carry(self, p: QPainter, off: float) -> None:
        assert self._carry
        land = self._carry.land
        r = self.row_of(land.universe)
        if r is None:
            return
        level = level_for(self.pp)
        lane = 0
        others = [b for b in self._blocks(land.universe)[0] if b.span.key != self._carry.key]
        while any(b.lane == lane and b.span.first <= land.last and land.first <= b.span.last for b in others):
            lane += 1
        y = r.y - off + (SLOT_TOP if level is SLOT else 0) + lane * (level.more or level.pitch)
        ghost = QRectF(
            r.x + (land.first - 1) * self.pp - self.x0, y, (land.last - land.first + 1) * self.pp, level.lane
        )
        box(p, ghost, "accent_wash", "accent", 0, 2, dashed=True)
        text(p, ghost.adjusted(4, 0, 0, 0), call(self._session.rig, self._carry.key), size=11, bold=True)
        number = self._session.rig.universes[land.universe].number
        mark, sentence = self.carry_words(land)
        card = QRectF(min(ghost.left(), self.viewport().width() - 300), ghost.bottom() + 8, 290, 72)
        if card.bottom() > self.viewport().height():
            card.moveBottom(ghost.top() - 8)
        box(p, card, "raised", "accent", 4, 1)
        text(
            p,
            QRectF(card.left() + 12, card.top() + 6, 270, 22),
            f"{say_place(number, land.first)} – {say_place(number, land.last)}",
            size=16,
            bold=True,
        )
        marks.draw(p, mark, card.left() + 12, card.top() + 32, 12)
        text(p, QRectF(card.left() + 30, card.top() + 28, 254, 20), sentence, size=11)
        spans = [x for x in self._session.index.spans(self._carry.key) if x.brk == self._carry.brk]
        back = say_place(self._session.rig.universes[spans[0].universe].number, spans[0].first) if spans else "nowhere"
        keys = (
            f"Enter drops · typed {self._carry.typed}"
            if self._carry.typed
            else "Enter drops it · Esc"
            if self._carry.by_keys
            else "Esc"
        )
        text(p, QRectF(card.left() + 12, card.top() + 50, 270, 16), f"{keys} gives it back to {back}", "quiet", 11)

    def leaveEvent(self, _: QEvent) -> None:
        QToolTip.hideText()

    def viewportEvent(self, e: QEvent) -> bool:
        if e.type() == QEvent.Type.ToolTip and isinstance(e, QHelpEvent):
            found = self.at(QPointF(e.pos()))
            if found and found[1]:
                target = of_slot(self._session.index, *found)
                here = self._session.index.at(*found)
                names = ", ".join(f"{call(self._session.rig, s.key)}" for s in here) or "free"
                rows = "".join(
                    f"<tr><td>{a}&nbsp;&nbsp;</td><td align='right'>{b}</td></tr>"
                    for a, b in place_ways(self._session.index, target)
                )
                QToolTip.showText(e.globalPos(), f"<b>{names}</b><table>{rows}</table>", self.viewport())
            else:
                QToolTip.hideText()
            return True
        return super().viewportEvent(e)

    def wheelEvent(self, e: QWheelEvent) -> None:
        if e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(1 if e.angleDelta().y() > 0 else -1)
        else:
            super().wheelEvent(e)

    # ---- keys

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if self._carry and self._carry.by_keys and self._carry_key(e):
            return None
        key, shift = e.key(), bool(e.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key == Qt.Key.Key_Escape and (self._carry or self.lens):
            if self._carry:
                self._carry = None
            else:
                self.toggle_lens()
        elif key == Qt.Key.Key_Space:
            self.toggle_lens()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.edit_address.emit()
        elif key == Qt.Key.Key_M and e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.pick_up()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Home, Qt.Key.Key_End):
            self._walk(key, shift)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._walk_tape(-1 if key == Qt.Key.Key_Up else 1)
        else:
            return super().keyPressEvent(e)
        self._layout()
        self.viewport().update()
        return None

    def pick_up(self) -> None:
        """Ctrl+M: what is selected is carried by the keys until Enter drops it."""
        spans = self._selected_spans()
        if spans:
            s = spans[0]
            self._carry = Carry(
                s.key, s.brk, 0, landing(self._session.index, s.key, s.brk, s.universe, s.first), by_keys=True
            )
            self.viewport().update()

    def _carry_key(self, e: QKeyEvent) -> bool:
        assert self._carry
        land, key = self._carry.land, e.key()
        by = 16 if e.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        order = [r.universe for r in self._rows]
        if key == Qt.Key.Key_Left:
            self._carry_to(land.universe, land.first - by)
        elif key == Qt.Key.Key_Right:
            self._carry_to(land.universe, land.first + by)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            n = order.index(land.universe) + (1 if key == Qt.Key.Key_Down else -1)
            if 0 <= n < len(order):
                self._carry_to(order[n], land.first)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._drop()
        elif key == Qt.Key.Key_Escape:
            self._carry = None
        elif e.text() and e.text() in "0123456789.":
            self._carry.typed += e.text()
            try:
                number, address = read_place(
                    self._carry.typed
                    if "." in self._carry.typed
                    else f"{self._session.rig.universes[land.universe].number}.{self._carry.typed}"
                )
                uid = next((u for u in order if self._session.rig.universes[u].number == number), "")
                if uid:
                    self._carry_to(uid, address)
            except NotationError:
                pass
        else:
            return False
        self.viewport().update()
        return True

    def _walk(self, key: int, extend: bool) -> None:
        """To the fixture before or after on its tape; Home and End to the first and last."""
        spans = self._selected_spans()
        uid = spans[-1].universe if spans else (self._rows[0].universe if self._rows else "")
        on = self._session.index.on(uid) if uid else []
        if not on:
            return
        now = next((i for i, s in enumerate(on) if spans and (s.key, s.brk) == (spans[-1].key, spans[-1].brk)), -1)
        n = {
            Qt.Key.Key_Home: 0,
            Qt.Key.Key_End: len(on) - 1,
            Qt.Key.Key_Left: max(0, now - 1),
            Qt.Key.Key_Right: min(len(on) - 1, now + 1),
        }[Qt.Key(key)]
        if extend and spans:
            lo, hi = sorted((max(now, 0), n))
            self._session.select_things(
                list(dict.fromkeys([*self._session.selection.ids, *(s.key for s in on[lo : hi + 1])]))
            )
        else:
            self._session.select_things([on[n].key], on[n].brk)

    def _walk_tape(self, by: int) -> None:
        spans = self._selected_spans()
        order = [r.universe for r in self._rows]
        s = self._session.selection
        now = spans[-1].universe if spans else s.first if s.kind == "universe" else ""
        n = order.index(now) + by if now in order else 0
        if not 0 <= n < len(order):
            return
        on = self._session.index.on(order[n])
        at = spans[-1].first if spans else 1
        if on:
            near = min(on, key=lambda x: abs(x.first - at))
            self._session.select_things([near.key], near.brk)
        else:
            self._session.select(Selection("universe", (order[n],)))
