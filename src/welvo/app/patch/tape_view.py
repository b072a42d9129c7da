"""How the tapes are painted: gutters, rows, the Field in tiles, ghosts, selection and the lens."""

from __future__ import annotations

from bisect import bisect_left

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
)

from welvo.app.patch.laying_form import Ghost
from welvo.app.patch.tape_frame import HEADER, MARGIN, TILE, RowAt, TapeFrame
from welvo.app.patch.tape_painting import FIELD, SLOT, SLOT_TOP, level_for, paint_tape
from welvo.app.widgets import marks
from welvo.app.widgets.painting import RIGHT, draw_frame, draw_text_line, fitting_size, width_of
from welvo.app.widgets.theme import THEME
from welvo.checks.checker import Report
from welvo.rig.counting import SLOTS
from welvo.rig.lookup import is_in_use
from welvo.rig.notation import say_count, say_place
from welvo.rig.protocol import say_wire
from welvo.rig.wiring import Universe


class TapeView(TapeFrame):
    """Paints what the frame lays out. Pictures of rows are kept until an edit touches them."""

    def show_ghosts(self, ghosts: list[Ghost]) -> None:
        """Draw where items would stand, over what is there; an empty list takes them away."""
        first = bool(ghosts) and not self.ghosts
        self.ghosts = {}
        for g in ghosts:
            self.ghosts.setdefault(g.universe, []).append(g)
        if first and self.isVisible():  # behind another station it stays where it was left
            r = self.row_of(ghosts[0].universe)
            bar = self.verticalScrollBar()
            if r and not bar.value() <= r.y <= bar.value() + self.viewport().height() - HEADER - r.height:
                bar.setValue(int(r.y) - 4)
        self.viewport().update()

    def _paint_ghosts(self, p: QPainter, r: RowAt, y: float) -> None:
        level = level_for(self.pixels_per_slot)
        pp, x0 = (0.25, 0.0) if level is FIELD else (self.pixels_per_slot, self.x0)
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
            draw_frame(p, shape, "accent_wash", "accent", 0, 1.5, dashed=True)
            room = (here[n + 1].first - g.last - 1) * pp - 4 if n + 1 < len(here) else 60.0
            if width_of(g.words, 11, True) + 6 <= wide:
                draw_text_line(p, shape.adjusted(4, 0, 0, 0), g.words, size=11, bold=True)
            elif width_of(g.words, 11, True) <= room and self._is_bare(g, width_of(g.words, 11, True) + 6):
                draw_text_line(p, QRectF(shape.right() + 3, top, room, level.lane), g.words, size=11, bold=True)

    def _is_bare(self, g: Ghost, wide: float) -> bool:
        """Whether nothing is drawn right behind a ghost, so that its name can stand there."""
        behind = g.last + int(wide / self.pixels_per_slot) + 1
        return not any(s.first <= behind and g.last < s.last for s in self._session.index.spans_on_universe(g.universe))

    # ---- painting

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self.viewport())
        p.fillRect(self.viewport().rect(), THEME.color("station"))
        level = level_for(self.pixels_per_slot)
        state = (self.pixels_per_slot, self.x0, self.tape_width, THEME.name, THEME.step)
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
                self._draw_row(p, r, y)
                self._paint_ghosts(p, r, y)
                if lens:
                    self._paint_lens(p, r.universe, y + r.height)
        p.setClipping(False)
        self._draw_header(p)
        self._paint_over(p, off)
        if self.hasFocus():
            draw_frame(p, QRectF(self.viewport().rect()), None, "accent", 2, 2)

    def _draw_header(self, p: QPainter) -> None:
        level = level_for(self.pixels_per_slot)
        w = self.viewport().width()
        p.fillRect(0, 0, w, HEADER, THEME.color("station"))
        if level is FIELD:
            draw_text_line(p, QRectF(MARGIN, 0, w, HEADER), f"{len(self._rows)} universes, one bar each", "quiet", 11)
            return
        draw_text_line(p, QRectF(12, 0, self.mark_left - 14, HEADER), "Universe", "quiet", 11)
        draw_text_line(p, QRectF(self.feed_left, 0, self.feed_room, HEADER), "Feed", "quiet", 11)
        draw_text_line(p, QRectF(self.free_right - 60, 0, 60, HEADER), "Free", "quiet", 11, align=RIGHT)
        if level is SLOT:
            return
        for n in (1, *range(64, 513, 64)):
            x = self.gutter + MARGIN + (n - 1) * self.pixels_per_slot - self.x0
            if self.gutter + MARGIN - 1 <= x <= w - MARGIN:
                r = QRectF(x if n == 1 else x - 30, 0, 40 if n == 1 else 32, HEADER)
                draw_text_line(
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
                to = f.goes_to
                feed = rig.feeds.get(to.id) if to.kind == "feed" else None
                for owner in {
                    to.id if to.kind == "universe" else "",
                    f.universe,
                    feed.universe if feed else "",
                }:
                    worst[owner] = str(f.severity)
            self._worst_cache = (report, worst)
        return self._worst_cache[1]

    def _worst_severity(self, uid: str) -> str:
        return self._worst_of(self._session.report).get(uid, "")

    def _pixmap_of_tape(self, uid: str, width: float, height: float, pp: float, x0: float) -> QPixmap:
        found = self._cache.get(uid)
        if found is None:
            ratio = self.devicePixelRatioF()
            found = QPixmap(int(width * ratio) + 1, int(height * ratio) + 1)
            found.setDevicePixelRatio(ratio)
            found.fill(Qt.GlobalColor.transparent)
            q = QPainter(found)
            paint_tape(
                q,
                index=self._session.index,
                universe=uid,
                pp=pp,
                x0=x0,
                width=width,
                focus=self._focused_items(),
                known=self._blocks_of_universe(uid),
                since=self._session.since,
            )
            q.end()
            self._cache[uid] = found
        return found

    def _draw_row(self, p: QPainter, r: RowAt, y: float) -> None:
        s = self._session
        level = level_for(self.pixels_per_slot)
        chosen = s.selection.kind == "universe" and r.universe in s.selection.ids
        self._draw_gutter(p, r, y, chosen or r.universe in self._shown_on)
        pix = self._pixmap_of_tape(r.universe, self.tape_width, r.height, self.pixels_per_slot, self.x0)
        p.drawPixmap(QPointF(r.x, y), pix)
        self._outline_selected(p, r, y)
        if self.lens and self.lens[0] == r.universe and level is not SLOT:
            first, slots = self.lens[1], int((self.viewport().width() - self.gutter - 2 * MARGIN) / self._lens_pp())
            frame = QRectF(
                r.x + (first - 1) * self.pixels_per_slot - self.x0, y - 2, slots * self.pixels_per_slot, r.height - 2
            )
            p.setPen(QPen(THEME.color("accent"), 1))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(frame)

    def _draw_gutter(self, p: QPainter, r: RowAt, y: float, chosen: bool) -> None:
        """Number, name, worst mark, feed and free slots of a universe, kept as a picture until one of them changes."""
        s = self._session
        universe = s.rig.universes[r.universe]
        feeds = self._feeds_by_universe().get(r.universe, [])
        f = s.rig.feeds[feeds[0]] if feeds else None
        more = f" +{len(feeds) - 1}" if len(feeds) > 1 else ""
        words = say_wire(f.protocol, f.wire) + more if f else "no feed"
        off = not is_in_use(s.rig, "universes", r.universe)
        state = (
            universe,
            chosen,
            self._worst_severity(r.universe),
            words,
            off,
            s.index.free_slots(r.universe),
            bool(s.index.spans_on_universe(r.universe)),
            r.height,
        )
        kept = self._gutters.get(r.universe)
        if kept is None or kept[0] != state:
            ratio = self.devicePixelRatioF()
            picture = QPixmap(int(self.gutter * ratio) + 1, int((r.height + 6) * ratio) + 1)
            picture.setDevicePixelRatio(ratio)
            picture.fill(Qt.GlobalColor.transparent)
            q = QPainter(picture)
            self._paint_gutter(q, r, state)
            q.end()
            kept = self._gutters[r.universe] = (state, picture)
        p.drawPixmap(QPointF(0, y - 3), kept[1])

    def _feeds_by_universe(self) -> dict[str, list[str]]:
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
            q.fillRect(QRectF(8, 0, self.gutter - 8, r.height - 2), THEME.color("select"))
            q.fillRect(QRectF(8, 0, 3, r.height - 2), THEME.color("accent"))
        top = 3 + (SLOT_TOP if level_for(self.pixels_per_slot) is SLOT else 0)
        draw_text_line(
            q,
            QRectF(1, top, self.name_left - 4, 20),
            str(universe.number),
            "quiet" if off else "text",
            fitting_size(str(universe.number), self.name_left - 5, (16, 13)),
            True,
            align=RIGHT,
        )
        draw_text_line(
            q,
            QRectF(self.name_left, top, self.mark_left - self.name_left - 4, 20),
            universe.name or "–",
            "quiet" if off else "text",
            size=13,
        )
        if worst:
            marks.draw_mark(q, worst, self.mark_left, top + 4, 12)
        # a number right behind it would be read as a part of it
        room = self.free_right - self.feed_left - width_of(str(free), 11) - 8
        if width_of(words, 11) > room:
            words = words.split(" +")[0]
        token = "warning" if words == "no feed" and something and not off else "quiet"
        draw_text_line(q, QRectF(self.feed_left, top, room, 20), "not in use" if off else words, token, 11)
        draw_text_line(q, QRectF(self.free_right - 60, top, 60, 20), str(free), "quiet", 11, align=RIGHT)

    def _outline_selected(self, p: QPainter, r: RowAt, y: float) -> None:
        slot = self._session.selection.slot
        if r.universe not in self._shown_on and not (slot and slot[0] == r.universe):
            return
        level = level_for(self.pixels_per_slot)
        blocks = {(x.key, x.break_no): b for b in self._blocks_of_universe(r.universe)[0] for x in b.spans}
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("text"), 2))
        for span in self._selected_on(r.universe):
            block = blocks.get((span.key, span.break_no))
            if block is None:
                continue
            top = y + (SLOT_TOP if level is SLOT else 0) + block.lane * (level.more or level.pitch)
            x = r.x + (span.first - 1) * self.pixels_per_slot - self.x0
            w = (min(span.last, SLOTS) - span.first + 1) * self.pixels_per_slot
            box_ = QRectF(x - 1, top - 1, w + 1, level.lane + 2).intersected(
                QRectF(r.x - 2, 0, self.tape_width + 4, 1e6)
            )
            if box_.width() > 0:
                p.drawRect(box_)
        slot = self._session.selection.slot
        if slot and slot[0] == r.universe:
            x = r.x + (slot[1] - 1) * self.pixels_per_slot - self.x0
            if r.x <= x <= r.x + self.tape_width:
                p.fillRect(QRectF(x, y + r.height - 6, max(2.0, self.pixels_per_slot), 2), THEME.color("text"))

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
                    draw_frame(
                        p,
                        QRectF(r.x - self.number_of_field + 8, r.y - off, self.column_of_field, FIELD.pitch),
                        None,
                        "text",
                        0,
                        1,
                    )
                    if n % 5:
                        draw_text_line(
                            p,
                            QRectF(r.x - self.number_of_field - 2, r.y - off - 2, self.number_of_field - 1, 14),
                            str(self._session.rig.universes[r.universe].number),
                            "quiet",
                            11,
                            align=RIGHT,
                        )
                if worst.get(r.universe) in ("error", "warning"):
                    marks.draw_mark(p, worst[r.universe], r.x + 131, r.y - off + 1, 9)

    def _field_row(self, q: QPainter, n: int, r: RowAt, y: float) -> None:
        q.setCompositionMode(QPainter.CompositionMode.CompositionMode_Clear)
        q.fillRect(
            QRectF(r.x - self.number_of_field - 2, y, self.column_of_field + 2, FIELD.pitch), THEME.color("station")
        )
        q.setCompositionMode(QPainter.CompositionMode.CompositionMode_SourceOver)
        if n % 5 == 0:
            draw_text_line(
                q,
                QRectF(r.x - self.number_of_field - 2, y - 2, self.number_of_field - 1, 14),
                str(self._session.rig.universes[r.universe].number),
                "quiet",
                11,
                align=RIGHT,
            )
        q.save()
        q.translate(r.x, y + 1)
        paint_tape(q, self._session.index, r.universe, 0.25, 0, 128, frozenset(), self._blocks_of_universe(r.universe))
        q.restore()

    def _paint_over(self, p: QPainter, off: float) -> None:
        """What is painted over everything else: something that is being carried."""

    # ---- lens

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
        self._lay_out_tapes()
        self._show_selection()
        self.viewport().update()

    def _paint_lens(self, p: QPainter, uid: str, y: float) -> None:
        assert self.lens
        pp = self._lens_pp()
        number = self._session.rig.universes[uid].number
        slots = int(self.tape_width / pp)
        h = self._lens_height(uid) - 8
        draw_frame(p, QRectF(8, y, self.viewport().width() - 16, h), "ground", "accent", 4, 1)
        last = min(SLOTS, self.lens[1] + slots - 1)
        draw_text_line(p, QRectF(20, y + 6, 200, 16), "Lens", "quiet", 11)
        draw_text_line(
            p, QRectF(20, y + 22, 220, 22), f"{say_place(number, self.lens[1])} – {last}", size=16, bold=True
        )
        draw_text_line(p, QRectF(20, y + 46, 230, 16), "Space opens and closes it", "quiet", 11)
        clashes = [
            c for c in self._session.index.clashes_in_universe(uid, 50) if c.last >= self.lens[1] and c.first <= last
        ]
        if clashes:
            c = clashes[0]
            marks.draw_mark(p, "error", 20, y + 72, 14)
            draw_text_line(p, QRectF(42, y + 68, 210, 20), f"{say_count(c.last - c.first + 1, 'slot')} meet", bold=True)
            draw_text_line(p, QRectF(42, y + 88, 210, 16), f"{say_place(number, c.first)}–{c.last:03d}", size=11)
        p.save()
        p.translate(self.gutter + MARGIN, y + 8)
        p.setClipRect(QRectF(-4, -2, self.tape_width + 6, h))
        paint_tape(
            p,
            self._session.index,
            uid,
            pp,
            (self.lens[1] - 1) * pp,
            self.tape_width,
            self._focused_items(),
        )
        blocks = {(x.key, x.break_no): b for b in self._blocks_of_universe(uid)[0] for x in b.spans}
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("text"), 2))
        for span in self._selected_on(uid):
            block = blocks.get((span.key, span.break_no))
            if block:
                p.drawRect(
                    QRectF(
                        (span.first - self.lens[1]) * pp - 1,
                        SLOT_TOP + block.lane * SLOT.more - 1,
                        (span.last - span.first + 1) * pp + 1,
                        SLOT.lane + 2,
                    )
                )
        p.restore()
