"""The frame of the tapes: zoom, layout and scrolling, and what is under a point."""

from __future__ import annotations

from msgspec import Struct
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtGui import (
    QPixmap,
    QResizeEvent,
    QShowEvent,
)
from PySide6.QtWidgets import QAbstractScrollArea, QFrame

from welvo.app.patch.laying_form import Ghost
from welvo.app.patch.tape_painting import BLOCK, FIELD, SLOT, SLOT_TOP, Block, blocks_of, level_for
from welvo.app.session import Session
from welvo.app.widgets.painting import width_of
from welvo.app.widgets.theme import THEME
from welvo.patch.index import Span, Taker
from welvo.rig.counting import SLOTS
from welvo.rig.document import Change
from welvo.rig.lookup import universes_in_order
from welvo.rig.protocol import say_wire

GUTTER = 260
MARGIN = 12
HEADER = 24
COLUMN = 176
TILE = 360
"""Height of one kept picture of the Field: 30 rows."""


class RowAt(Struct, frozen=True):
    """Where a universe is drawn, in content coordinates."""

    universe: str
    x: float
    y: float
    height: float
    lanes: int


class TapeFrame(QAbstractScrollArea):
    """Where every universe stands, at which zoom, and what is under a point. Emits `zoomed` with the level's name."""

    zoomed = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._step = 1
        self.x0 = 0.0
        self.gutter = float(GUTTER)
        """How wide is what stands beside the tapes."""
        self.number_of_field = 38.0
        """Room for a universe's number before its bar in the Field."""
        self.free_right = self.feed_left = self.feed_room = self.mark_left = self.name_left = 0.0
        self._rows: list[RowAt] = []
        self._cache: dict[str, QPixmap] = {}
        self._cached_for: object = None
        self._block_cache: dict[str, tuple[list[Block], int, list[Span]]] = {}
        self._worst_cache: tuple[object, dict[str, str]] = (None, {})
        self._shown_on: set[str] = set()
        self._chosen: tuple[object, object, list[Span], frozenset[Taker], frozenset[str]] = (
            None,
            None,
            [],
            frozenset(),
            frozenset(),
        )
        """The selection and the rig that was worked out for, the slots of what is selected, who takes them, and which
        of these are items."""
        self.lens: tuple[str, int] | None = None
        self.ghosts: dict[str, list[Ghost]] = {}
        self._field: dict[int, tuple[object, QPixmap]] = {}
        self._tiles: dict[int, tuple[tuple[int, RowAt], ...]] = {}
        self._gutters: dict[str, tuple[object, QPixmap]] = {}
        self._feeds_of: tuple[object, dict[str, list[str]]] = (None, {})
        self._tops: list[float] = []
        self._steps: tuple[float, list[float]] = (0.0, [])
        self._slept = False
        self._fresh: set[str] = set()
        """Universes that changed since the whole Field was drawn into one picture."""
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Tapes")
        self.viewport().setMouseTracking(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        self.horizontalScrollBar().valueChanged.connect(self._follow_scroll)
        self.verticalScrollBar().valueChanged.connect(lambda _: self.viewport().update())
        session.changed.connect(self._on_change)
        session.selection_changed.connect(self._on_selection)
        session.observed_changed.connect(self.viewport().update)
        session.since_changed.connect(self.restyle)

    # ---- geometry

    @property
    def tape_width(self) -> float:
        return max(100.0, self.viewport().width() - self.gutter - 2 * MARGIN)

    def zoom_steps(self) -> list[float]:
        """Pixels per slot of each zoom step; those closer than 1.3× to the previous are left out."""
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
    def pixels_per_slot(self) -> float:
        steps = self.zoom_steps()
        return steps[min(self._step, len(steps) - 1)]

    @property
    def level_name(self) -> str:
        return "Fit" if self._step == 1 else level_for(self.pixels_per_slot).name

    def set_level(self, name: str) -> None:
        """Go to one of the four named levels, keeping what is selected in view."""
        want = {"Field": 0.25, "Fit": self.tape_width / SLOTS, "Block": 5.0, "Slot": 36.0}[name]
        steps = self.zoom_steps()
        self._set_step(min(range(len(steps)), key=lambda n: abs(steps[n] - want)))

    def zoom_by(self, by: int) -> None:
        self._set_step(self._step + by)

    def _set_step(self, step: int) -> None:
        middle = self._middle_slot()
        self._step = max(0, min(len(self.zoom_steps()) - 1, step))
        self._cache.clear()
        self._lay_out_tapes()
        if level_for(self.pixels_per_slot) in (BLOCK, SLOT):
            self._centre_on_slot(middle)
        self._show_selection()
        self.zoomed.emit(self.level_name)
        self.viewport().update()

    def _middle_slot(self) -> float:
        spans = self._selected_spans()
        if spans:
            return (spans[0].first + spans[0].last) / 2
        return (self.x0 + self.tape_width / 2) / max(self.pixels_per_slot, 0.01)

    def _centre_on_slot(self, slot: float) -> None:
        wide = SLOTS * self.pixels_per_slot
        self.x0 = (
            max(0.0, min(wide - self.tape_width, slot * self.pixels_per_slot - self.tape_width / 2))
            if wide > self.tape_width
            else 0.0
        )
        self.horizontalScrollBar().setValue(int(self.x0))

    def _follow_scroll(self, value: int) -> None:
        if value != int(self.x0):
            self.x0 = float(value)
            self._cache.clear()
            self.viewport().update()

    def _measure_gutter(self) -> None:
        """How wide number, name, feed and free slots are beside the tapes: as wide as the longest feed needs it."""
        rig = self._session.rig
        said = {say_wire(f.protocol, f.wire) for f in rig.feeds.values()}
        longest = sorted(said, key=len)[-3:]
        several = len({x.universe for x in rig.feeds.values()}) < len(rig.feeds)
        feed = max(width_of(w, 11) for w in (*longest, "not in use")) + (width_of(" +9", 11) if several else 0) + 4
        free = width_of("512", 11) + 2
        digits = max((len(str(u.number)) for u in rig.universes.values()), default=1)
        number = max(43.0, width_of("8" * digits, 13, True))
        self.number_of_field = max(38.0, width_of("8" * digits, 11) + 6)
        left = number + 5
        need = left + THEME.scale_length(84) + 24 + feed + 8 + free + 10
        self.gutter = max(float(GUTTER), need)
        self.free_right = self.gutter - 10
        self.feed_left = self.free_right - free - 8 - feed
        self.feed_room, self.mark_left, self.name_left = feed, self.feed_left - 18, left

    @property
    def column_of_field(self) -> float:
        """How wide a universe is in the Field: its number, its bar, its mark."""
        return COLUMN - 38 + self.number_of_field

    def _lay_out_tapes(self) -> None:
        self._measure_gutter()
        level = level_for(self.pixels_per_slot)
        order = universes_in_order(self._session.rig)
        self._rows = []
        if level is FIELD:
            wide = self.viewport().width() - 2 * MARGIN
            column = self.column_of_field
            columns = max(1, int(wide // (column + 4)))
            per = max(1, -(-len(order) // columns), int((self.viewport().height() - HEADER) // FIELD.pitch))
            for n, uid in enumerate(order):
                c, r = divmod(n, per)
                self._rows.append(
                    RowAt(uid, MARGIN + c * (column + 4) + self.number_of_field, r * FIELD.pitch, FIELD.pitch, 1)
                )
            height = float(per * FIELD.pitch)
        else:
            y = 4.0
            for uid in order:
                lanes = self._blocks_of_universe(uid)[1]
                h = level.pitch + (lanes - 1) * level.more
                self._rows.append(RowAt(uid, self.gutter + MARGIN, y, h, lanes))
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
        wide_ = SLOTS * self.pixels_per_slot - self.tape_width
        self.horizontalScrollBar().setRange(
            0, max(0, int(wide_)) if level in (BLOCK, SLOT) or self.pixels_per_slot > 2 else 0
        )
        self.horizontalScrollBar().setPageStep(int(self.tape_width))
        self.horizontalScrollBar().setSingleStep(int(self.pixels_per_slot * 4))
        self.x0 = float(self.horizontalScrollBar().value())

    def resizeEvent(self, e: QResizeEvent) -> None:
        self._cache.clear()
        self._lay_out_tapes()
        self.zoomed.emit(self.level_name)
        super().resizeEvent(e)

    def showEvent(self, e: QShowEvent) -> None:
        super().showEvent(e)
        if self._slept:
            self._slept = False
            self._cache.clear()
            self._block_cache.clear()
            self._fresh |= set(self._session.rig.universes)
            self._shown_on = {x.universe for x in self._selected_spans()}
            self._let_go()
            if self.lens and self.lens[0] not in self._session.rig.universes:
                self.lens = None
            self._lay_out_tapes()

    def _on_change(self, change: Change) -> None:
        if self.window().isVisible() and not self.isVisible():
            self._slept = True  # another station is looked at: all is worked out when this one is shown again
            return
        touched = set(self._session.followed.universes)
        all_anew = bool(
            change.changed_ids("profiles") or change.changed_ids("shares") or change.changed_ids("universes")
        )
        if all_anew:
            touched |= self._cache.keys() | self._block_cache.keys()
        if change.changed_ids("tests"):
            touched |= self._cache.keys()  # the marks of what was tested
        lanes: dict[str, int | None] = {}
        for uid in touched:
            self._cache.pop(uid, None)
            old = self._block_cache.get(uid)
            if old is None or all_anew or old[2] != self._session.index.spans_on_universe(uid):  # names move no lane
                lanes[uid] = old[1] if old else None
                self._block_cache.pop(uid, None)
        self._fresh |= touched
        now = {x.universe for x in self._selected_spans()}
        for uid in now ^ self._shown_on:
            self._cache.pop(uid, None)
        self._shown_on = now
        self._let_go()
        if self.lens and self.lens[0] not in self._session.rig.universes:
            self.lens = None
        if change.changed_ids("feeds"):
            before_ = self.gutter
            self._measure_gutter()
            if self.gutter != before_:
                self.restyle()
        if change.changed_ids("universes") or any(
            self._blocks_of_universe(uid)[1] != before
            for uid, before in lanes.items()
            if uid in self._session.rig.universes
        ):
            self._lay_out_tapes()  # only what changes the height or the order of the rows moves them
        self.viewport().update()

    def _blocks_of_universe(self, uid: str) -> tuple[list[Block], int]:
        """Blocks and number of lanes of a universe, kept until an edit touches it."""
        found = self._block_cache.get(uid)
        if found is None:
            blocks, lanes = blocks_of(self._session.index, uid)
            found = self._block_cache[uid] = (blocks, lanes, list(self._session.index.spans_on_universe(uid)))
        return found[0], found[1]

    def _on_selection(self) -> None:
        now = {x.universe for x in self._selected_spans()}
        for uid in now | self._shown_on:  # what is selected leaves its comb
            self._cache.pop(uid, None)
        self._shown_on = now
        self._show_selection()
        self.viewport().update()

    def restyle(self) -> None:
        self._cache.clear()
        self._gutters.clear()
        self._lay_out_tapes()
        self.viewport().update()

    def row_of(self, universe: str) -> RowAt | None:
        return next((r for r in self._rows if r.universe == universe), None)

    def place_of(self, universe: str, address: int) -> QPointF | None:
        """Where a slot is drawn, in viewport coordinates: the middle of its first lane."""
        r = self.row_of(universe)
        if r is None:
            return None
        top = SLOT_TOP if level_for(self.pixels_per_slot) is SLOT else 0
        return QPointF(
            r.x + (address - 0.5) * self.pixels_per_slot - self.x0,
            r.y + top + 8 - self.verticalScrollBar().value() + HEADER,
        )

    def _show_selection(self) -> None:
        """Scroll so that what is selected is seen."""
        s = self._session.selection
        spans = self._selected_spans()
        uid = s.first_selected if s.kind == "universe" else spans[0].universe if spans else s.slot[0] if s.slot else ""
        r = self.row_of(uid)
        if r is None:
            return
        bar = self.verticalScrollBar()
        room = self.viewport().height() - HEADER
        if r.y < bar.value():
            bar.setValue(int(r.y) - 4)
        elif r.y + r.height > bar.value() + room:
            bar.setValue(int(r.y + r.height - room) + 4)
        if spans and level_for(self.pixels_per_slot) in (BLOCK, SLOT):
            x = (spans[0].first - 1) * self.pixels_per_slot - self.x0
            if x < 0 or x + min(120, (spans[0].last - spans[0].first) * self.pixels_per_slot) > self.tape_width:
                self._centre_on_slot((spans[0].first + min(spans[0].last, spans[0].first + 10)) / 2)
                self._cache.clear()

    def _selected_spans(self) -> list[Span]:
        """The slots of what is selected; worked out once for a selection and an index, for each row asks."""
        s, index = self._session.selection, self._session.index
        if self._chosen[0] is not s or self._chosen[1] is not self._session.rig:
            spans: list[Span] = []
            if s.kind == "segment" and s.on:
                spans = list(index.spans_of(s.on))
            elif s.kind == "item":
                spans = [x for k in s.ids for x in index.spans_of(k)]
            items = frozenset(s.ids) if s.kind == "item" else frozenset[str]()
            takers = frozenset((s.on,)) if s.kind == "segment" and s.on else items
            self._chosen = (s, self._session.rig, spans, takers, items)
        return self._chosen[2]

    def _selected_on(self, universe: str) -> list[Span]:
        """Those of them in one universe."""
        self._selected_spans()
        chosen = self._chosen[3]
        return [x for x in self._session.index.spans_on_universe(universe) if x.key in chosen] if chosen else []

    def _focused_items(self) -> frozenset[str]:
        """The ids of the items that are selected."""
        self._selected_spans()
        return self._chosen[4]

    def _let_go(self) -> None:
        """Give back what is carried, if anything is: the rig changed under it."""

    def _lens_pp(self) -> float:
        return 16.0 if self.viewport().width() > 1300 else 14.0

    def _lens_height(self, uid: str) -> int:
        lanes = self._blocks_of_universe(uid)[1]
        return SLOT_TOP + 14 + (lanes - 1) * SLOT.more + SLOT.lane + 12

    # ---- hit test

    def slot_at_point(self, pos: QPointF) -> tuple[str, int] | None:
        """Universe and slot under a point of the viewport (0 in the gutter), or None."""
        y = pos.y() + self.verticalScrollBar().value() - HEADER
        if pos.y() < HEADER:
            return None
        level = level_for(self.pixels_per_slot)
        for r in self._rows:
            if level is FIELD and not r.x - self.number_of_field <= pos.x() <= r.x + 140:
                continue
            if r.y <= y < r.y + r.height:
                if pos.x() < r.x:
                    return r.universe, 0
                if level is SLOT and y - r.y < 12:
                    return r.universe, max(1, min(SLOTS, int((pos.x() - r.x) / self.tape_width * SLOTS) + 1))
                pp, x0 = (0.25, 0.0) if level is FIELD else (self.pixels_per_slot, self.x0)
                slot = int((pos.x() - r.x + x0) / pp) + 1
                return r.universe, slot if 1 <= slot <= SLOTS else 0
            if self.lens and self.lens[0] == r.universe and level not in (FIELD, SLOT):
                if r.y + r.height <= y < r.y + r.height + self._lens_height(r.universe):
                    slot = self.lens[1] + int((pos.x() - self.gutter - MARGIN) / self._lens_pp())
                    return r.universe, slot if pos.x() >= self.gutter + MARGIN and slot <= SLOTS else 0
        return None

    def _span_at(self, pos: QPointF) -> Span | None:
        found = self.slot_at_point(pos)
        if not found or not found[1]:
            return None
        r = self.row_of(found[0])
        level = level_for(self.pixels_per_slot)
        here = self._session.index.spans_at_slot(*found)
        if not here or r is None or level is FIELD:
            return here[0] if here else None
        blocks = {(x.key, x.break_no): b for b in self._blocks_of_universe(found[0])[0] for x in b.spans}
        y = pos.y() + self.verticalScrollBar().value() - HEADER - r.y - (SLOT_TOP if level is SLOT else 0)
        if y > r.height:
            y = y - r.height - 8 - SLOT_TOP
            lane = int(y // SLOT.more)
        else:
            lane = int(y // (level.more or level.pitch))
        return next((x for x in here if blocks[x.key, x.break_no].lane == lane), here[0])
