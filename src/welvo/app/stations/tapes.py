"""The tapes: every universe as a strip of 512 slots, at any zoom, with a lens, drags and keys."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
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
from welvo.app.paint import RIGHT, box, fitting, text, width_of
from welvo.app.session import Selection, Session
from welvo.app.stations.lay_form import Ghost
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
from welvo.checks.checker import Report
from welvo.patch.allocate import Landing, Step, apply_steps, landing
from welvo.patch.arrange import copy_things, swap_things
from welvo.patch.index import Span
from welvo.patch.path import of_slot, place_ways
from welvo.rig.counting import SLOTS
from welvo.rig.document import Change
from welvo.rig.edits import move
from welvo.rig.lookup import call, universe_by_number, universes_in_order, used
from welvo.rig.notation import NotationError, plural, read_place, say_place, say_wire
from welvo.rig.wiring import Universe

GUTTER = 260
MARGIN = 12
HEADER = 24
COLUMN = 168
TILE = 360
"""Height of one kept picture of the Field: 30 rows."""
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
    """A thing on its way, with others that go along by the same step: where they would land."""

    key: str
    brk: int
    grab: int
    land: Landing
    by_keys: bool = False
    typed: str = ""
    along: tuple[Span, ...] = ()
    landings: tuple[Landing, ...] = ()
    """Of what goes along, in its order; empty when one of them would land in no universe."""


class Tapes(QAbstractScrollArea):
    """Emits `zoomed` with the name of the level, `edit_address` when Enter asks for the address field."""

    zoomed = Signal(str)
    edit_address = Signal()
    menu_wanted = Signal(QPoint)

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
        self._when_let_go: list[str] | None = None
        self.lens: tuple[str, int] | None = None
        self.ghosts: dict[str, list[Ghost]] = {}
        self._field: dict[int, tuple[object, QPixmap]] = {}
        self._tiles: dict[int, tuple[tuple[int, RowAt], ...]] = {}
        self._gutters: dict[str, tuple[object, QPixmap]] = {}
        self._feeds_of: tuple[object, dict[str, list[str]]] = (None, {})
        self._tops: list[float] = []
        self._steps: tuple[float, list[float]] = (0.0, [])
        self._fresh: set[str] = set()
        """Universes that changed since the whole Field was drawn into one picture."""
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
        wide = self.tape_width
        if self._steps[0] == wide:
            return self._steps[1]
        found = [0.25, wide / SLOTS]
        for pp in (2.5, 5.0, 9.0, 14.0, 22.0, 36.0):
            if pp >= 1.3 * found[-1]:
                found.append(pp)
        self._steps = (wide, found)
        return found

    @property
    def pp(self) -> float:
        steps = self.steps()
        return steps[min(self._step, len(steps) - 1)]

    @property
    def level_name(self) -> str:
        return "Fit" if self._step == 1 else level_for(self.pp).name

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
            columns = max(1, int(wide // (COLUMN + 4)))
            per = max(1, -(-len(order) // columns), int((self.viewport().height() - HEADER) // FIELD.pitch))
            for n, uid in enumerate(order):
                c, r = divmod(n, per)
                self._rows.append(RowAt(uid, MARGIN + c * (COLUMN + 4) + 30, r * FIELD.pitch, FIELD.pitch, 1))
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
        self._tops = [r.y for r in self._rows]
        tiles: dict[int, list[tuple[int, RowAt]]] = {}
        for n, row_ in enumerate(self._rows if level is FIELD else ()):
            tiles.setdefault(int(row_.y) // TILE, []).append((n, row_))
        self._tiles = {k: tuple(v) for k, v in tiles.items()}
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
        self.zoomed.emit(self.level_name)
        super().resizeEvent(e)

    def _on_change(self, change: Change) -> None:
        touched = set(self._session.followed.universes)
        if change.ids("profiles") or change.ids("shares") or change.ids("universes"):
            touched |= self._cache.keys() | self._block_cache.keys()
        lanes = {uid: self._block_cache[uid][1] for uid in touched if uid in self._block_cache}
        for uid in touched:
            self._cache.pop(uid, None)
            self._block_cache.pop(uid, None)
        self._fresh |= touched
        now = {x.universe for x in self._selected_spans()}
        for uid in now ^ self._shown_on:
            self._cache.pop(uid, None)
        self._shown_on = now
        self._carry = None
        if self.lens and self.lens[0] not in self._session.rig.universes:
            self.lens = None
        if change.ids("universes") or any(
            self._blocks(uid)[1] != lanes.get(uid) for uid in touched if uid in self._session.rig.universes
        ):
            self._layout()  # only what changes the height or the order of the rows moves them
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

    def show_ghosts(self, ghosts: list[Ghost]) -> None:
        """Draw where things would stand, over what is there; an empty list takes them away."""
        first = bool(ghosts) and not self.ghosts
        self.ghosts = {}
        for g in ghosts:
            self.ghosts.setdefault(g.universe, []).append(g)
        if first:
            r = self.row_of(ghosts[0].universe)
            bar = self.verticalScrollBar()
            if r and not bar.value() <= r.y <= bar.value() + self.viewport().height() - HEADER - r.height:
                bar.setValue(int(r.y) - 4)
        self.viewport().update()

    def _paint_ghosts(self, p: QPainter, r: RowAt, y: float) -> None:
        level = level_for(self.pp)
        pp, x0 = (0.25, 0.0) if level is FIELD else (self.pp, self.x0)
        top = y + (SLOT_TOP if level is SLOT else 0)
        here = self.ghosts.get(r.universe, [])
        for n, g in enumerate(here):
            x = r.x + (g.first - 1) * pp - x0
            wide = max(2.0, (min(g.last, SLOTS) - g.first + 1) * pp - 1)
            if x > self.viewport().width() or x + wide < r.x:
                continue
            shape = QRectF(x, top, wide, level.lane)
            if level is FIELD:
                p.fillRect(shape, THEME.color("accent"))
                continue
            box(p, shape, "accent_wash", "accent", 0, 1.5, dashed=True)
            room = (here[n + 1].first - g.last - 1) * pp - 4 if n + 1 < len(here) else 60.0
            if width_of(g.words, 11, True) + 6 <= wide:
                text(p, shape.adjusted(4, 0, 0, 0), g.words, size=11, bold=True)
            elif width_of(g.words, 11, True) <= room and self._is_bare(g, width_of(g.words, 11, True) + 6):
                text(p, QRectF(shape.right() + 3, top, room, level.lane), g.words, size=11, bold=True)

    def _is_bare(self, g: Ghost, wide: float) -> bool:
        """Whether nothing is drawn right behind a ghost, so that its name can stand there."""
        behind = g.last + int(wide / self.pp) + 1
        return not any(s.first <= behind and g.last < s.last for s in self._session.index.on(g.universe))

    # ---- painting

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self.viewport())
        p.fillRect(self.viewport().rect(), THEME.color("station"))
        level = level_for(self.pp)
        state = (self.pp, self.x0, self.tape_width, THEME.name, THEME.step)
        if state != self._cached_for:
            self._cache.clear()
            self._gutters.clear()
            self._cached_for = state
        off = self.verticalScrollBar().value() - HEADER
        p.setClipRect(0, HEADER, self.viewport().width(), self.viewport().height() - HEADER)
        if level is FIELD:
            self._paint_field(p, off)
        high = self.viewport().height()
        visible = (
            self._rows
            if level is FIELD
            else self._rows[bisect_left(self._tops, off - 500.0) : bisect_left(self._tops, off + high)]
        )
        for r in visible if level is not FIELD or self.ghosts else ():
            y = r.y - off
            lens = (
                self._lens_height(r.universe)
                if self.lens and self.lens[0] == r.universe and level not in (FIELD, SLOT)
                else 0
            )
            if y + r.height + lens < HEADER or y > high:
                continue
            if level is FIELD:
                self._paint_ghosts(p, r, y)
            else:
                self._row(p, r, y)
                self._paint_ghosts(p, r, y)
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

    def _worst_of(self, report: Report) -> dict[str, str]:
        """The severest finding of each universe, gathered once for each report."""
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
        return self._worst_cache[1]

    def _worst(self, uid: str) -> str:
        return self._worst_of(self._session.report).get(uid, "")

    def _pixmap(self, uid: str, width: float, height: float, pp: float, x0: float) -> QPixmap:
        found = self._cache.get(uid)
        if found is None:
            ratio = self.devicePixelRatioF()
            found = QPixmap(int(width * ratio) + 1, int(height * ratio) + 1)
            found.setDevicePixelRatio(ratio)
            found.fill(Qt.GlobalColor.transparent)
            q = QPainter(found)
            paint_tape(
                q, self._session.index, uid, pp, x0, width, frozenset(self._session.selection.ids), self._blocks(uid)
            )
            q.end()
            self._cache[uid] = found
        return found

    def _row(self, p: QPainter, r: RowAt, y: float) -> None:
        s = self._session
        level = level_for(self.pp)
        chosen = s.selection.kind == "universe" and r.universe in s.selection.ids
        self._gutter(p, r, y, chosen or r.universe in self._shown_on)
        pix = self._pixmap(r.universe, self.tape_width, r.height, self.pp, self.x0)
        p.drawPixmap(QPointF(r.x, y), pix)
        self._outline_selected(p, r, y)
        if self.lens and self.lens[0] == r.universe and level is not SLOT:
            first, slots = self.lens[1], int((self.viewport().width() - GUTTER - 2 * MARGIN) / self._lens_pp())
            frame = QRectF(r.x + (first - 1) * self.pp - self.x0, y - 2, slots * self.pp, r.height - 2)
            p.setPen(QPen(THEME.color("accent"), 1))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(frame)

    def _gutter(self, p: QPainter, r: RowAt, y: float, chosen: bool) -> None:
        """Number, name, worst mark, feed and free slots of a universe, kept as a picture until one of them changes."""
        s = self._session
        universe = s.rig.universes[r.universe]
        feeds = self._feeds().get(r.universe, [])
        f = s.rig.feeds[feeds[0]] if feeds else None
        more = f" +{len(feeds) - 1}" if len(feeds) > 1 else ""
        words = say_wire(f.protocol, f.wire) + more if f else "no feed"
        off = not used(s.rig, "universes", r.universe)
        state = (
            universe,
            chosen,
            self._worst(r.universe),
            words,
            off,
            s.index.free_slots(r.universe),
            bool(s.index.on(r.universe)),
            r.height,
        )
        kept = self._gutters.get(r.universe)
        if kept is None or kept[0] != state:
            ratio = self.devicePixelRatioF()
            picture = QPixmap(int(GUTTER * ratio) + 1, int((r.height + 6) * ratio) + 1)
            picture.setDevicePixelRatio(ratio)
            picture.fill(Qt.GlobalColor.transparent)
            q = QPainter(picture)
            self._paint_gutter(q, r, state)
            q.end()
            kept = self._gutters[r.universe] = (state, picture)
        p.drawPixmap(QPointF(0, y - 3), kept[1])

    def _feeds(self) -> dict[str, list[str]]:
        """Feeds by universe, gathered once for each table of feeds."""
        feeds = self._session.rig.feeds
        if self._feeds_of[0] is not feeds:
            found: dict[str, list[str]] = {}
            for fid, f in feeds.items():
                found.setdefault(f.universe, []).append(fid)
            self._feeds_of = (feeds, found)
        return self._feeds_of[1]

    def _paint_gutter(
        self, q: QPainter, r: RowAt, state: tuple[Universe, bool, str, str, bool, int, bool, float]
    ) -> None:
        universe, chosen, worst, words, off, free, something, _ = state
        if chosen:
            q.fillRect(QRectF(8, 0, GUTTER - 8, r.height - 2), THEME.color("select"))
            q.fillRect(QRectF(8, 0, 3, r.height - 2), THEME.color("accent"))
        top = 3 + (SLOT_TOP if level_for(self.pp) is SLOT else 0)
        text(
            q,
            QRectF(8, top, 32, 20),
            str(universe.number),
            "quiet" if off else "text",
            fitting(str(universe.number), 32),
            True,
            align=RIGHT,
        )
        text(q, QRectF(48, top, GUTTER - 176, 20), universe.name or "–", "quiet" if off else "text", size=13)
        if worst:
            marks.draw(q, worst, 138, top + 4, 12)
        if off:
            text(q, QRectF(156, top, 68, 20), "not in use", "quiet", 11)
        elif words == "no feed":
            text(q, QRectF(156, top, 68, 20), words, "warning" if something else "quiet", 11)
        else:
            text(q, QRectF(156, top, 68, 20), words, "quiet", 11)
        text(q, QRectF(214, top, 36, 20), str(free), "quiet", 11, align=RIGHT)

    def _outline_selected(self, p: QPainter, r: RowAt, y: float) -> None:
        slot = self._session.selection.slot
        if r.universe not in self._shown_on and not (slot and slot[0] == r.universe):
            return
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

    def _paint_field(self, p: QPainter, off: float) -> None:
        """All universes at once, kept as pictures of 30 rows; only rows that changed are drawn again."""
        view, ratio = self.viewport(), self.devicePixelRatioF()
        state = (view.width(), ratio, THEME.name, THEME.step, len(self._rows), self._cached_for)
        mine = {x.universe for x in self._selected_spans()} | set(self._session.selection.ids)
        worst = self._worst_of(self._session.report)
        first = max(0, int(off + HEADER - FIELD.pitch) // TILE)
        for tile in range(first, int(off + view.height()) // TILE + 1):
            rows = self._tiles.get(tile, ())
            if not rows:
                continue
            kept = self._field.get(tile)
            if kept is None or kept[0] != state:
                picture = QPixmap(int(view.width() * ratio) + 1, int(TILE * ratio) + 1)
                picture.setDevicePixelRatio(ratio)
                picture.fill(Qt.GlobalColor.transparent)
                if len(self._field) > 24:
                    self._field.clear()
                kept = self._field[tile] = (state, picture)
                wanted = rows
            else:
                wanted = tuple(x for x in rows if x[1].universe in self._fresh) if self._fresh else ()
            if wanted:
                q = QPainter(kept[1])
                for n, r in wanted:
                    self._field_row(q, n, r, r.y - tile * TILE)
                q.end()
            self._fresh -= {x[1].universe for x in wanted}
            p.drawPixmap(QPointF(0, tile * TILE - off), kept[1])
            for n, r in rows:
                if r.universe in mine:
                    box(p, QRectF(r.x - 30, r.y - off, COLUMN, FIELD.pitch), None, "text", 0, 1)
                    if n % 5:
                        text(
                            p,
                            QRectF(r.x - 30, r.y - off - 2, 26, 14),
                            str(self._session.rig.universes[r.universe].number),
                            "quiet",
                            11,
                            align=RIGHT,
                        )
                if worst.get(r.universe) in ("error", "warning"):
                    marks.draw(p, worst[r.universe], r.x + 131, r.y - off + 1, 9)

    def _field_row(self, q: QPainter, n: int, r: RowAt, y: float) -> None:
        q.setCompositionMode(QPainter.CompositionMode.CompositionMode_Clear)
        q.fillRect(QRectF(r.x - 32, y, COLUMN + 2, FIELD.pitch), THEME.color("station"))
        q.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceOver)
        if n % 5 == 0:
            text(
                q,
                QRectF(r.x - 30, y - 2, 26, 14),
                str(self._session.rig.universes[r.universe].number),
                "quiet",
                11,
                align=RIGHT,
            )
        q.save()
        q.translate(r.x, y + 1)
        paint_tape(q, self._session.index, r.universe, 0.25, 0, 128, frozenset(), self._blocks(r.universe))
        q.restore()

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
        chosen = s.selection.kind == "thing" and span.key in s.selection.ids
        self._when_let_go = None
        if add and s.selection.kind == "thing":
            if chosen:  # it may be the start of a drag: taken out only when the button is let go where it was
                self._when_let_go = [k for k in s.selection.ids if k != span.key]
            else:
                s.select_things([*s.selection.ids, span.key])
        elif chosen and len(s.selection.ids) > 1:
            self._when_let_go = [span.key]
        else:
            s.select_things([span.key], span.brk, slot)
        self._press = (e.position(), span)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self._press and not self._carry and e.buttons() & Qt.MouseButton.LeftButton:
            if (e.position() - self._press[0]).manhattanLength() >= QApplication.startDragDistance():
                span = self._press[1]
                grabbed = self.at(self._press[0])
                self._take_up(span, (grabbed[1] if grabbed else span.first) - span.first)
        if self._carry:
            found = self.at(e.position())
            if found and found[1]:
                self._carry_to(found[0], found[1] - self._carry.grab)
            self.viewport().update()

    def mouseReleaseEvent(self, e: QMouseEvent) -> None:
        pressed, self._press = self._press, None
        if self._carry and not self._carry.by_keys:
            self._drop(*_how(e.modifiers()))
        elif pressed and self._when_let_go is not None:
            self._session.select_things(self._when_let_go)
        self._when_let_go = None

    def mouseDoubleClickEvent(self, e: QMouseEvent) -> None:
        found = self.at(e.position())
        if found and found[1] and level_for(self.pp) is not SLOT:
            self.toggle_lens(found[0], found[1])

    def _take_up(self, span: Span, grab: int, by_keys: bool = False) -> None:
        """Begin to carry a span, and with it all else that is selected."""
        s = self._session
        ids = s.selection.ids if s.selection.kind == "thing" and span.key in s.selection.ids else (span.key,)
        along = tuple(
            x for k in ids for x in s.index.spans(k)
            if (x.key, x.brk) != (span.key, span.brk) and x.offset == 0 and (x.key != span.key or len(ids) > 1)
        )  # fmt: skip
        land = landing(s.index, span.key, span.brk, span.universe, span.first)
        self._carry = Carry(span.key, span.brk, grab, land, by_keys, "", along)
        self._carry_to(span.universe, span.first)

    def _carry_to(self, universe: str, address: int) -> None:
        c, s = self._carry, self._session
        assert c
        width = c.land.last - c.land.first + 1
        size = s.index.limit(universe).slots
        if c.key in s.rig.fixtures:
            address = min(address, size - width + 1)
        address = max(1, min(SLOTS, address))
        moving = frozenset({c.key, *(x.key for x in c.along)}) if c.along else frozenset[str]()
        c.land = landing(s.index, c.key, c.brk, universe, address, moving)
        start = next((x for x in s.index.spans(c.key) if x.brk == c.brk), None)
        if not c.along or start is None:
            c.landings = ()
            return
        step = s.rig.universes[universe].number - s.rig.universes[start.universe].number
        found = []
        for x in c.along:
            uid = universe_by_number(s.rig, s.rig.universes[x.universe].number + step)
            to = x.first + address - start.first
            if not uid or not 1 <= to <= SLOTS:
                c.landings = ()
                return
            found.append(landing(s.index, x.key, x.brk, uid, to, moving))
        c.landings = tuple(found)

    def _drop(self, copy: bool = False, exchange: bool = False) -> None:
        """Put down what is carried: moved, as a copy, or changing places with the one it lies on."""
        carry, self._carry = self._carry, None
        self.viewport().update()
        if not carry:
            return
        s = self._session
        lands = (carry.land, *carry.landings)
        if carry.along and not carry.landings:
            s.say("Some of them would leave the universes there; all stay where they are.", "warning")
            return
        refused = next((x.refused for x in lands if x.refused), "")
        over = next(
            (
                k
                for k, x in zip((carry.key, *(y.key for y in carry.along)), lands)
                if x.past_end and k in s.rig.fixtures
            ),
            "",
        )
        if refused and not copy:
            s.say(f"{refused}; it stays where it is.", "warning")
        elif over:
            s.say(f"{call(s.rig, over)} would end past the universe; it stays where it is.", "warning")
        elif exchange:
            self._exchange(carry)
        else:
            steps = [Step(carry.key, carry.brk, carry.land.universe, carry.land.first)]
            steps += [Step(x.key, x.brk, y.universe, y.first) for x, y in zip(carry.along, carry.landings)]
            keys = list(dict.fromkeys(x.key for x in steps))
            if copy:
                made = s.edit(copy_things, keys, steps)
                if made:
                    s.select_things(made)
            elif len(steps) == 1:
                s.edit(move, carry.key, carry.brk, carry.land.universe, carry.land.first)
            else:
                where = say_place(s.rig.universes[carry.land.universe].number, carry.land.first)
                s.edit(apply_steps, steps, f"move {plural(len(keys), 'thing')} to {where}")

    def _exchange(self, carry: Carry) -> None:
        """Change places with the one thing that lies where it would land."""
        s = self._session
        met = list(dict.fromkeys(m[0] for m in carry.land.meets))
        other = (
            next((x for x in s.index.spans(met[0]) if x.universe == carry.land.universe), None)
            if len(met) == 1
            else None
        )
        if carry.along or other is None:
            s.say("To swap, carry one thing onto one other; it stays where it is.", "warning")
            return
        s.edit(lambda _: swap_things(s.index, (carry.key, carry.brk), (other.key, other.brk)))

    def carry_words(self, land: Landing) -> tuple[str, str]:
        """Mark and sentence of the card beside what is carried."""
        rig = self._session.rig
        if land.refused:
            return "error", land.refused
        if self._carry and self._carry.along:
            if not self._carry.landings:
                return "error", "some would leave the universes there"
            lands = (land, *self._carry.landings)
            keys = (self._carry.key, *(x.key for x in self._carry.along))
            hit = [(k, x) for k, x in zip(keys, lands) if x.meets or x.past_end]
            if hit:
                who, where = hit[0]
                met = f"meets {call(rig, where.meets[0][0])}" if where.meets else "ends past the universe"
                return "error", f"{call(rig, who)} {met}" + (
                    f" · {len(hit)} of {len(lands)} do not fit" if len(hit) > 1 else ""
                )
            return "agrees", f"free for all {len(lands)}"
        if land.past_end:
            return "warning", f"ends {plural(land.past_end, 'slot')} past " + (land.why or "the universe")
        if land.meets:
            key, uid, first, last = land.meets[0]
            more = f" and {len(land.meets) - 1} more" if len(land.meets) > 1 else ""
            slots = say_place(rig.universes[uid].number, first) + (f"–{last:03d}" if last > first else "")
            return "error", f"meets {call(rig, key)} on {plural(last - first + 1, 'slot')}: {slots}{more}"
        if land.needs:
            return "error", f"needs universe {land.needs}, which is not there"
        if land.cuts:
            return "warning", f"cuts pixel {land.cuts[0]} at {rig.universes[land.universe].size}"
        if land.goes_on:
            return "agrees", f"free · goes on into universe {land.goes_on}"
        return "agrees", f"free · {plural(land.free_before, 'slot')} before, {land.free_after} after"

    def carry_more(self) -> str:
        """What else the drop would do: who follows, and the other ways to drop."""
        assert self._carry
        s = self._session
        behind = s.index.dependents(self._carry.key)
        follow = (
            f"{', '.join(call(s.rig, k) for k in behind[:3])}{' …' if len(behind) > 3 else ''} moves along · "
            if behind
            else ""
        )
        met = {m[0] for m in self._carry.land.meets}
        swap = f" · Shift swaps with {call(s.rig, next(iter(met)))}" if len(met) == 1 and not self._carry.along else ""
        return f"{follow}Ctrl drops a copy{swap}"

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
        for x in self._carry.landings:
            at = self.row_of(x.universe)
            if at:
                top = at.y - off + (SLOT_TOP if level is SLOT else 0)
                wide = (min(x.last, SLOTS) - x.first + 1) * self.pp
                box(
                    p,
                    QRectF(at.x + (x.first - 1) * self.pp - self.x0, top, wide, level.lane),
                    "accent_wash",
                    "accent",
                    0,
                    1.5,
                    dashed=True,
                )
        box(p, ghost, "accent_wash", "accent", 0, 2, dashed=True)
        text(p, ghost.adjusted(4, 0, 0, 0), call(self._session.rig, self._carry.key), size=11, bold=True)
        number = self._session.rig.universes[land.universe].number
        mark, sentence = self.carry_words(land)
        card = QRectF(min(ghost.left(), self.viewport().width() - 320), ghost.bottom() + 8, 310, 90)
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
        text(p, QRectF(card.left() + 12, card.top() + 50, 290, 16), self.carry_more(), "quiet", 11)
        text(p, QRectF(card.left() + 12, card.top() + 68, 290, 16), f"{keys} gives it back to {back}", "quiet", 11)

    def contextMenuEvent(self, e: QContextMenuEvent) -> None:
        span = self._span_at(QPointF(e.pos()))
        s = self._session
        if span and span.key not in s.selection.ids:
            s.select_things([span.key], span.brk)
        self.menu_wanted.emit(e.globalPos())

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
            self._take_up(spans[0], 0, by_keys=True)
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
            self._drop(*_how(e.modifiers()))
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


def _how(modifiers: Qt.KeyboardModifier) -> tuple[bool, bool]:
    """How to drop: as a copy (Ctrl), changing places (Shift)."""
    return bool(modifiers & Qt.KeyboardModifier.ControlModifier), bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
