"""How one universe is drawn as a tape, at every zoom.

What is drawn depends on pixels per slot alone, not on a named zoom, so that steps between the zooms, the lens and a
window of any width need no rules of their own. Overlapping spans go into lanes first (`blocks_of`), for two fixtures
on the same slots must both stay readable; clashes are hatched last, over the lanes they share, and labels keep to the
widest stretch that no hatch covers. Text is painted after all shapes, because changing the font is what costs time in
Qt.
"""

from __future__ import annotations

from msgspec import Struct
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from welvo.app.session import NOT_COMPARED, Since
from welvo.app.widgets import marks
from welvo.app.widgets.painting import CENTRE, draw_text_line, width_of
from welvo.app.widgets.theme import LIGHT, THEME
from welvo.app.widgets.tints import draw_body, draw_spine
from welvo.bench.record import all_standings
from welvo.patch.index import Clash, Index, Span
from welvo.patch.slot_words import channel_words
from welvo.rig.attributes import family_of
from welvo.rig.counting import SLOTS
from welvo.rig.tints import code_of, kind_name, tint_of


class Level(Struct, frozen=True):
    """Sizes of one level: lane height, pitch of the first lane and of each further one."""

    name: str
    lane: int
    pitch: int
    more: int


FIELD = Level("Field", 9, 12, 0)
FIT = Level("Fit", 20, 26, 20)
BLOCK = Level("Block", 38, 46, 40)
SLOT = Level("Slot", 66, 106, 70)
SLOT_TOP = 34
"""Overview and ruler above the cells at slot level."""


def level_for(pp: float) -> Level:
    """What is drawn depends only on pixels per slot."""
    if pp < 1:
        return FIELD
    if pp < 4:
        return FIT
    return BLOCK if pp < 12 else SLOT


class Block(Struct, frozen=True):
    """What is drawn as one: a span, or the spans of a share that lie on each other."""

    spans: tuple[Span, ...]
    lane: int

    @property
    def span_of_block(self) -> Span:
        return self.spans[0]


def blocks_of(index: Index, universe: str) -> tuple[list[Block], int]:
    """Blocks of a universe in lanes so that none overlap in one lane, and how many lanes there are."""
    found: list[Block] = []
    ends: list[int] = []
    taken: set[tuple[str, int]] = set()
    spans = index.spans_on_universe(universe)
    for n, s in enumerate(spans):
        if (s.key, s.break_no) in taken:
            continue
        group = [s]
        partners = set(index.shared_with(s.item_of_span)) if index.rig.shares and s.item_of_span else set()
        if partners:
            for o in spans[n + 1 :]:
                if o.first != s.first:
                    break
                if o.key in partners and o.last == s.last:
                    group.append(o)
                    taken.add((o.key, o.break_no))
        lane = next((i for i, end in enumerate(ends) if end < s.first), len(ends))
        if lane == len(ends):
            ends.append(0)
        ends[lane] = s.last
        found.append(Block(tuple(group), lane))
    return found, max(1, len(ends))


def title_of(index: Index, block: Block) -> str:
    return " + ".join(index.name_of_taker(s.key) for s in block.spans)


def paint_tape(
    p: QPainter,
    index: Index,
    universe: str,
    pp: float,
    x0: float,
    width: float,
    focus: frozenset[str] = frozenset(),
    known: tuple[list[Block], int] | None = None,
    since: Since = NOT_COMPARED,
) -> None:
    """Draw one universe in a device of `width` with slot 1 at −x0; lanes below one another from y = 0."""
    rig = index.rig
    level = level_for(pp)
    blocks, lanes = known or blocks_of(index, universe)
    size = rig.universes[universe].size
    top = SLOT_TOP if level is SLOT else 0
    for lane in range(lanes):
        y = top + lane * (level.more or level.pitch)
        p.fillRect(QRectF(0, y, min(width, SLOTS * pp - x0), level.lane), THEME.color("field"))
    p.setPen(QPen(THEME.color("line"), 1))
    if level is not SLOT:
        for n in range(64, SLOTS, 64):
            x = n * pp - x0
            if 0 <= x <= width:
                p.drawLine(QPointF(x, 0), QPointF(x, level.lane + (lanes - 1) * level.more))
    if size < SLOTS:
        marks.draw_hatch(p, QRectF(size * pp - x0, top, (SLOTS - size) * pp, level.lane), THEME.color("line"), 6, 1)
    for first, last in rig.universes[universe].reserve:
        kept = QRectF((first - 1) * pp - x0, top, (last - first + 1) * pp, level.lane)
        if kept.right() > 0 and kept.left() < width:
            within = min(
                (b.span_of_block.first for b in blocks if first <= b.span_of_block.first <= last), default=last + 1
            )
            _draw_reserve(p, kept, level, (within - first) * pp)
    for first, last, who in since.before.get(universe, ()):
        if (last - 1) * pp - x0 > 0 and (first - 1) * pp - x0 < width:
            _stood_here(p, QRectF((first - 1) * pp - x0, top, (last - first + 1) * pp, level.lane), who, level)
    clashes = index.clashes_in_universe(universe, 200)
    combs = _combs_of_blocks(index, blocks, pp, focus) if level is FIT else {}
    done: set[int] = set()
    tested = all_standings(index) if rig.tests else {}
    for n, block in enumerate(blocks):
        s = block.span_of_block
        x, w = (s.first - 1) * pp - x0, (min(s.last, SLOTS) - s.first + 1) * pp
        if x > width or x + w < 0:
            continue
        y = top + block.lane * (level.more or level.pitch)
        r = QRectF(x, y, max(1.0, w - (0 if level is SLOT else min(1.0, w * 0.15))), level.lane)
        k = tint_of(rig, s.key)
        if n in combs:
            draw_body(p, QRectF(r.left(), y + level.lane - 6, r.width(), 6), k)
            group = combs[n]
            if group not in done:
                done.add(group)
                members = [i for i, g in combs.items() if g == group]
                a, b = blocks[members[0]].span_of_block, blocks[members[-1]].span_of_block
                words = f"{index.name_of_taker(a.key)}–{index.name_of_taker(b.key)}"
                room = (b.last - a.first + 1) * pp
                draw_text_line(p, QRectF(x, y, max(room, width_of(words, 11) + 2), 13), words, size=11)
                wide = width_of(words, 11)
                if wide + width_of(" " + code_of(rig, a.key), 11) < room:
                    draw_text_line(p, QRectF(x + wide + 5, y, room - wide, 13), code_of(rig, a.key), "quiet", 11)
            continue
        if level is FIELD:
            _field_block(p, r, k)
        elif level is FIT:
            draw_body(p, r, k)
            words = title_of(index, block)
            left, right = _label_room(s, clashes, pp, x0, width)
            room = right - left - 5
            if width_of(words, 11) + 4 <= room:  # behind it the next number may begin
                draw_text_line(p, QRectF(left + 5, y, room, level.lane), words, size=11)
                wide = width_of(words, 11)
                code = "share" if len(block.spans) > 1 else code_of(rig, s.key)
                if wide + 6 + width_of(code, 11) <= room:
                    draw_text_line(p, QRectF(left + 11 + wide, y, room - wide, level.lane), code, size=11)
        elif level is BLOCK:
            draw_body(p, r, k)
            _function_comb(p, index, s, x, y + level.lane, pp, width)
            _draw_title(p, index, block, y, *_label_room(s, clashes, pp, x0, width))
        else:
            _slot_block(p, index, block, r, pp, x0, width, k)
            _draw_title(p, index, block, y, *_label_room(s, clashes, pp, x0, width))
        if len(block.spans) > 1:
            _share_outline(p, r)
        if s.item_of_span in since.kinds:
            marks.draw_changed_corner(
                p, since.kinds[s.item_of_span], r.left(), r.top(), min(r.width(), 14.0), level is FIELD
            )
        if tested and level is not FIELD:
            how = tested.get(f"item/{s.item_of_span}", "")
            if how:
                marks.draw_tested(p, how, min(r.right(), width) - 9, r.top() + 2)
    if lanes > 1 and level is not FIELD:
        _draw_overlays(p, index, blocks, pp, x0, width, top, level)
    _draw_clashes(p, clashes, blocks, pp, x0, width, top, level)
    if level is SLOT:
        _slot_ruler(p, index, blocks, pp, x0, width, size)


def _draw_reserve(p: QPainter, r: QRectF, level: Level, free: float) -> None:
    """A stretch that is kept free: a dashed outline, and the word where it fits before what stands in it after all."""
    pen = QPen(THEME.color("edge"), 1)
    pen.setStyle(Qt.PenStyle.DashLine)
    p.setPen(pen)
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawRect(r.adjusted(0.5, 0.5, -0.5, -0.5))
    if level is not FIELD and min(r.width(), free) > width_of("reserve", 11) + 8:
        draw_text_line(p, r.adjusted(5, 0, 0, 0), "reserve", "quiet", 11)


def _stood_here(p: QPainter, r: QRectF, who: str, level: Level) -> None:
    """Where something stood in the version that is compared: an empty dashed place, with who it was."""
    pen = QPen(THEME.color("note"), 1)
    pen.setStyle(Qt.PenStyle.DotLine)
    p.setPen(pen)
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawRect(r.adjusted(0.5, 0.5, -0.5, -0.5))
    if level is not FIELD and r.width() > width_of(f"was {who}", 11) + 6:
        draw_text_line(p, r.adjusted(4, 0, 0, 0), f"was {who}", "note", 11)


def _label_room(span: Span, clashes: list[Clash], pp: float, x0: float, width: float) -> tuple[float, float]:
    """From where to where a block's label may stand: its widest stretch in view that no clash covers."""
    cuts = [(max(c.first, span.first), min(c.last, span.last)) for c in clashes if span in (c.a, c.b)]
    stretches, at = [], span.first
    for first, last in [*sorted(cuts), (span.last + 1, span.last + 1)]:
        if first > at:
            stretches.append((max(0.0, (at - 1) * pp - x0), min(width, (first - 1) * pp - x0)))
        at = max(at, last + 1)
    return max(stretches, key=lambda s: s[1] - s[0], default=(0.0, 0.0))


def _draw_title(p: QPainter, index: Index, block: Block, y: float, left: float, right: float) -> None:
    """Number in bold and what it is, as far as there is room."""
    words = title_of(index, block)
    wide = width_of(words, 13, True)
    if right - left - 8 < min(wide, 24):
        return
    draw_text_line(p, QRectF(left + 8, y + 1, right - left - 10, 17), words, bold=True)
    if right - left - 18 - wide > 20:
        draw_text_line(
            p,
            QRectF(left + 15 + wide, y + 1, right - left - 18 - wide, 17),
            kind_name(index.rig, block.span_of_block.key),
            size=11,
        )


def _field_block(p: QPainter, r: QRectF, k: int) -> None:
    line, fill = THEME.colours_of_tint(k)
    p.fillRect(r, fill if r.width() >= 4 else line)
    if r.width() >= 4:
        p.fillRect(QRectF(r.left(), r.top(), 1.5, r.height()), line)


def _share_outline(p: QPainter, r: QRectF) -> None:
    p.setPen(QPen(THEME.color("text"), 1))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawRect(r.adjusted(0.5, 0.5, -0.5, -0.5))
    if r.height() > 9 and r.width() > 8:
        p.drawRect(r.adjusted(2.5, 2.5, -2.5, -2.5))


def _combs_of_blocks(index: Index, blocks: list[Block], pp: float, focus: frozenset[str]) -> dict[int, int]:
    """Block number → first block of its comb: three or more evenly spaced neighbours too narrow for their number."""
    rig = index.rig
    found: dict[int, int] = {}
    n = 0
    while n < len(blocks):
        a = blocks[n]
        run = [n]
        gap = 0
        for m in range(n + 1, len(blocks)):
            b, before = blocks[m], blocks[run[-1]]
            step = b.span_of_block.first - before.span_of_block.first
            same = (
                b.lane == a.lane
                and tint_of(rig, b.span_of_block.key) == tint_of(rig, a.span_of_block.key)
                and code_of(rig, b.span_of_block.key) == code_of(rig, a.span_of_block.key)
                and len(b.spans) == 1
                and (not gap or step == gap)
                and b.span_of_block.last - b.span_of_block.first == a.span_of_block.last - a.span_of_block.first
            )
            if not same or b.span_of_block.key in focus:
                break
            gap = gap or step
            run.append(m)
        narrow = (a.span_of_block.last - a.span_of_block.first + 1) * pp < width_of(
            index.name_of_taker(a.span_of_block.key), 11
        ) + 6
        if len(run) >= 3 and narrow and len(a.spans) == 1 and a.span_of_block.key not in focus:
            for m in run:
                found[m] = n
            n = run[-1] + 1
        else:
            n += 1
    return found


def _function_comb(p: QPainter, index: Index, span: Span, x: float, foot: float, pp: float, width: float) -> None:
    """One tooth per channel: tall for intensity and shutter, middle for colour, low for the rest."""
    tall = {"intensity": 11, "shutter": 11, "colour": 7}
    line = THEME.colours_of_tint(tint_of(index.rig, span.key))[0]
    for first, slots, _, _, function in channel_words(index, span):
        at = x + (first - 1 - span.offset) * pp
        if at > width or at + slots * pp < 0:
            continue
        h = tall.get(family_of(function), 3)
        p.fillRect(QRectF(at + 1, foot - 1 - h, max(1.0, slots * pp - 2), h), line)


def _slot_block(p: QPainter, index: Index, block: Block, r: QRectF, pp: float, x0: float, width: float, k: int) -> None:
    """Title strip, pixel strip and one cell per channel."""
    span = block.span_of_block
    line, fill = THEME.colours_of_tint(k)
    p.fillRect(r, fill)
    draw_spine(p, r.left(), r.top(), r.height(), k, line)
    channels = channel_words(index, span)
    pixel_before = 0
    cells = r.top() + 32
    for first, slots, short, pixel, function in channels:
        x = (span.first - 1 + first - 1 - span.offset) * pp - x0
        w = slots * pp
        if x > width or x + w < 0:
            pixel_before = pixel
            continue
        p.setPen(QPen(line, 1))
        p.drawLine(QPointF(x, cells), QPointF(x, r.bottom()))
        if pixel and pixel != pixel_before:
            p.setPen(QPen(THEME.color("text"), 1))
            p.drawLine(QPointF(x, cells - 13), QPointF(x, cells))
            label = f"px {pixel}" if not pixel_before and pixel == 1 else str(pixel)
            draw_text_line(p, QRectF(x + 3, cells - 14, 40, 14), label, size=11, elide=False)
        pixel_before = pixel
        cell = QRectF(x, cells, w, r.bottom() - cells)
        light = LIGHT.get(function)
        if width_of(short, 11) + 4 <= w:
            draw_text_line(p, cell.adjusted(0, 0, 0, -4 if light else 0), short, size=11, align=CENTRE)
        else:
            _draw_upright(p, cell, short)
        if light:
            p.fillRect(QRectF(x + 3, r.bottom() - 6, w - 6, 3), QColor(light))
    p.fillRect(QRectF(r.left(), r.bottom() - 1, r.width(), 1), line)


def _draw_upright(p: QPainter, r: QRectF, words: str) -> None:
    p.save()
    p.translate(r.center().x(), r.center().y())
    p.rotate(-90)
    draw_text_line(p, QRectF(-r.height() / 2, -r.width() / 2, r.height(), r.width()), words, size=11, align=CENTRE)
    p.restore()


def _draw_overlays(
    p: QPainter, index: Index, blocks: list[Block], pp: float, x0: float, width: float, top: float, level: Level
) -> None:
    """A dashed seam between two that lie over each other on purpose: no hatch, for nothing is wrong."""
    step = level.more or level.pitch
    for n, a in enumerate(blocks):
        for b in blocks[n + 1 :]:
            if b.span_of_block.first > a.span_of_block.last:
                break
            if b.lane == a.lane or not index.is_meant_overlap(a.span_of_block, b.span_of_block):
                continue
            x = (b.span_of_block.first - 1) * pp - x0
            w = (min(a.span_of_block.last, b.span_of_block.last) - b.span_of_block.first + 1) * pp
            if x > width or x + w < 0:
                continue
            seam = top + max(a.lane, b.lane) * step - (step - level.lane) / 2
            p.setPen(QPen(THEME.color("text"), 1))
            for end in (x + 0.5, x + w - 0.5):
                p.drawLine(QPointF(end, seam - 5), QPointF(end, seam + 5))
            pen = QPen(THEME.color("text"), 1)
            pen.setStyle(Qt.PenStyle.DashLine)
            p.setPen(pen)
            p.drawLine(QPointF(x, seam), QPointF(x + w, seam))


def _draw_clashes(
    p: QPainter,
    clashes: list[Clash],
    blocks: list[Block],
    pp: float,
    x0: float,
    width: float,
    top: float,
    level: Level,
) -> None:
    """Hatched plate and outline across the lanes that two items share; never over text."""
    lane_of = {(s.key, s.break_no): b.lane for b in blocks for s in b.spans}
    for c in clashes:
        x, w = (c.first - 1) * pp - x0, max((c.last - c.first + 1) * pp, 6 if level is FIELD else 2)
        if x > width or x + w < 0:
            continue
        a, b = sorted((lane_of[c.a.key, c.a.break_no], lane_of[c.b.key, c.b.break_no]))
        step = level.more or level.pitch
        r = QRectF(x, top + a * step, w, (b - a) * step + level.lane)
        plate = QColor(THEME.color("ground"))
        plate.setAlphaF(0.6)
        if level is SLOT:
            for lane in {a, b}:
                strip = QRectF(x, top + lane * step, w, 18)
                p.fillRect(strip, plate)
                marks.draw_hatch(p, strip, THEME.color("error"), 7, 2)
        else:
            p.fillRect(r, plate)
            marks.draw_hatch(p, r, THEME.color("error"), 5, 2)
        edge = 2 if level is SLOT else 1
        p.setPen(QPen(THEME.color("error"), edge))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRect(r.adjusted(edge / 2, edge / 2, -edge / 2, -edge / 2))


def _slot_ruler(p: QPainter, index: Index, blocks: list[Block], pp: float, x0: float, width: float, size: int) -> None:
    """An overview of the whole universe with the window framed, and slot numbers under it."""
    rig = index.rig
    k = width / SLOTS
    p.fillRect(QRectF(0, 0, width, 8), THEME.color("field"))
    for block in blocks:
        s = block.span_of_block
        p.fillRect(
            QRectF((s.first - 1) * k, 0, max(1.0, (min(s.last, SLOTS) - s.first + 1) * k - 0.5), 8),
            THEME.colours_of_tint(tint_of(rig, s.key))[0],
        )
    frame = QRectF(x0 / pp * k, -1, min(width / pp, SLOTS) * k, 10)
    p.setPen(QPen(THEME.color("accent"), 1.5))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawRect(frame)
    every = 4 if pp >= 14 else 8
    n = int(x0 / pp) // every * every + 1
    while (n - 1) * pp - x0 < width and n <= size:
        x = (n - 1) * pp - x0
        if x >= 0:
            draw_text_line(p, QRectF(x + 2, 12, 40, 18), str(n), "quiet", 11, elide=False)
            p.setPen(QPen(THEME.color("edge"), 1))
            p.drawLine(QPointF(x, 28), QPointF(x, SLOT_TOP))
        n += every
