"""The tapes: every universe as a strip of 512 slots, at any zoom, with a lens, drags and keys."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QWheelEvent,
)
from PySide6.QtWidgets import QApplication, QToolTip

from welvo.app.patch.tape_frame import HEADER
from welvo.app.patch.tape_painting import BLOCK, SLOT, SLOT_TOP, level_for
from welvo.app.patch.tape_view import TapeView
from welvo.app.session import Selection, Session
from welvo.app.widgets import marks
from welvo.app.widgets.literal import rows_tip
from welvo.app.widgets.painting import draw_frame, draw_text_line
from welvo.patch.arrange import copy_items, swap_items
from welvo.patch.index import BY_PIXEL, Span
from welvo.patch.landing import Landing, foresee_landing
from welvo.patch.steps import PatchStep, apply_steps
from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS
from welvo.rig.document import Edit
from welvo.rig.edits import move_item
from welvo.rig.lookup import name_of_item, universe_by_number
from welvo.rig.notation import read_place, say_count, say_place
from welvo.survey.place_ways import place_ways
from welvo.survey.target import of_slot


@dataclass
class Carry:
    """An item on its way, with others that go along by the same step: where they would land."""

    key: str
    break_no: int
    grab: int
    land: Landing
    by_keys: bool = False
    typed: str = ""
    along: tuple[Span, ...] = ()
    landings: tuple[Landing, ...] = ()
    """Of what goes along, in its order; empty when one of them would land in no universe."""


class Tapes(TapeView):
    """What a hand does on the tapes. Emits `edit_address` when Enter asks for the address field, `menu_wanted` with a
    place."""

    edit_address = Signal()
    menu_wanted = Signal(QPoint)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._carry: Carry | None = None
        self._press: tuple[QPointF, Span] | None = None
        self._when_let_go: list[str] | None = None

    def _let_go(self) -> None:
        if self._carry:
            self._carry = None
            self._session.show_foreseen(None)

    # ---- mouse

    def mousePressEvent(self, e: QMouseEvent) -> None:
        if e.button() != Qt.MouseButton.LeftButton:
            return
        if self._carry and self._carry.by_keys:
            self._drop_carried()
            return
        found = self.slot_at_point(e.position())
        span = self._span_at(e.position())
        s = self._session
        if span is None:
            if found and not found[1]:
                s.change_selection(Selection("universe", (found[0],)))
            elif found:
                if level_for(self.pixels_per_slot) is SLOT:
                    r = self.row_of(found[0])
                    if r and e.position().y() + self.verticalScrollBar().value() - HEADER - r.y < 12:
                        self._centre_on_slot(found[1])
                        return
                s.change_selection(Selection("slot", (), slot=found))
            return
        slot = found if level_for(self.pixels_per_slot) in (BLOCK, SLOT) else None
        if not span.item_of_span:
            s.select_taker(span.key)
            return
        add = e.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        chosen = s.selection.kind == "item" and span.item_of_span in s.selection.ids
        self._when_let_go = None
        if e.modifiers() & Qt.KeyboardModifier.ShiftModifier and s.selection.kind == "item" and not chosen:
            s.select_items(self._range_to(span))
        elif add and s.selection.kind == "item":
            if chosen:  # it may be the start of a drag: taken out only when the button is let go where it was
                self._when_let_go = [k for k in s.selection.ids if k != span.item_of_span]
            else:
                s.select_items([*s.selection.ids, span.item_of_span])
        elif chosen and len(s.selection.ids) > 1:
            self._when_let_go = [span.item_of_span]
        else:
            s.select_items([span.item_of_span], max(0, span.break_no), slot)
        self._press = (e.position(), span)

    def _range_to(self, span: Span) -> list[str]:
        """What is selected, and everything from the last of it to a span, over the tapes in their order."""
        s = self._session
        before = self._selected_spans()
        order = [r.universe for r in self._rows]
        if not before or before[-1].universe not in order or span.universe not in order:
            return [*s.selection.ids, span.item_of_span]
        ends = sorted((order.index(x.universe), x.first) for x in (before[-1], span))
        between = [
            x.item_of_span
            for n in range(ends[0][0], ends[1][0] + 1)
            for x in s.index.spans_on_universe(order[n])
            if x.item_of_span and ends[0] <= (n, x.first) <= ends[1]
        ]
        return list(dict.fromkeys([*s.selection.ids, *between]))

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self._press and not self._carry and e.buttons() & Qt.MouseButton.LeftButton:
            if (e.position() - self._press[0]).manhattanLength() >= QApplication.startDragDistance():
                span = self._press[1]
                grabbed = self.slot_at_point(self._press[0])
                self._take_up(span, (grabbed[1] if grabbed else span.first) - span.first)
        if self._carry:
            found = self.slot_at_point(e.position())
            if found and found[1]:
                self._carry_to(found[0], found[1] - self._carry.grab)
            self.viewport().update()

    def mouseReleaseEvent(self, e: QMouseEvent) -> None:
        pressed, self._press = self._press, None
        if self._carry and not self._carry.by_keys:
            self._drop_carried(*_how_to_drop(e.modifiers()))
        elif pressed and self._when_let_go is not None:
            self._session.select_items(self._when_let_go)
        self._when_let_go = None

    def mouseDoubleClickEvent(self, e: QMouseEvent) -> None:
        found = self.slot_at_point(e.position())
        if found and found[1] and level_for(self.pixels_per_slot) is not SLOT:
            self.toggle_lens(found[0], found[1])

    def _take_up(self, span: Span, grab: int, by_keys: bool = False) -> None:
        """Begin to carry a span, and with it all else that is selected."""
        s = self._session
        if not span.item_of_span or span.break_no == BY_PIXEL:
            return  # it moves with its cable
        ids = (
            s.selection.ids
            if s.selection.kind == "item" and span.item_of_span in s.selection.ids
            else (span.item_of_span,)
        )
        along = tuple(
            x
            for k in ids
            for x in s.index.spans_of(k)
            if (x.key, x.break_no) != (span.key, span.break_no)
            and x.offset == 0
            and x.break_no != BY_PIXEL
            and (x.key != span.key or len(ids) > 1)
        )
        land = foresee_landing(s.index, span.item_of_span, span.break_no, span.universe, span.first)
        self._carry = Carry(span.item_of_span, span.break_no, grab, land, by_keys, "", along)
        self._carry_to(span.universe, span.first)

    def _carry_to(self, universe: str, address: int) -> None:
        c, s = self._carry, self._session
        assert c
        width = c.land.last - c.land.first + 1
        size = s.index.limit_of_universe(universe).slots
        if c.key in s.rig.fixtures:
            address = min(address, size - width + 1)
        address = max(1, min(SLOTS, address))
        moving = frozenset({c.key, *(x.item_of_span for x in c.along)}) if c.along else frozenset[str]()
        c.land = foresee_landing(s.index, c.key, c.break_no, universe, address, moving)
        start = s.index.span_of_break(c.key, c.break_no)
        if not c.along or start is None:
            c.landings = ()
            self._foresee_drop(c)
            return
        step = s.rig.universes[universe].number - s.rig.universes[start.universe].number
        found = []
        for x in c.along:
            uid = universe_by_number(s.rig, s.rig.universes[x.universe].number + step)
            to = x.first + address - start.first
            if not uid or not 1 <= to <= SLOTS:
                c.landings = ()
                return
            found.append(foresee_landing(s.index, x.item_of_span, x.break_no, uid, to, moving))
        c.landings = tuple(found)
        self._foresee_drop(c)

    def _foresee_drop(self, carry: Carry) -> None:
        """Show what putting it down here would do to others, in the way that the keys held now ask for."""
        try:
            edit = self._edit_of_drop(carry, *_how_to_drop(QApplication.keyboardModifiers()))
        except Refused:
            edit = None
        self._session.show_foreseen(edit)

    def _drop_carried(self, copy: bool = False, exchange: bool = False) -> None:
        """Put down what is carried: moved, as a copy, or changing places with the one it lies on."""
        carry = self._carry
        self._let_go()
        self.viewport().update()
        if not carry:
            return
        s = self._session
        try:
            change = s.take_over_edit(self._edit_of_drop(carry, copy, exchange))
        except Refused as e:
            s.say(str(e), "warning")
            return
        if copy:
            s.select_items(list(change.made))

    def _edit_of_drop(self, carry: Carry, copy: bool, exchange: bool) -> Edit:
        """What putting it down does. Raises Refused where it would not."""
        s = self._session
        lands = (carry.land, *carry.landings)
        if carry.along and not carry.landings:
            raise Refused("Some of them would leave the universes there; all stay where they are.")
        refused = next((x.refused for x in lands if x.refused), "")
        if refused and not copy:
            raise Refused(f"{refused}; it stays where it is.")
        for key, land in zip((carry.key, *(y.item_of_span for y in carry.along)), lands):
            if land.past_end and key in s.rig.fixtures:
                raise Refused(f"{name_of_item(s.rig, key)} would end past the universe; it stays where it is.")
        if exchange:
            return self._exchange_places(carry)
        steps = [PatchStep(carry.key, carry.break_no, carry.land.universe, carry.land.first)]
        steps += [
            PatchStep(x.item_of_span, x.break_no, y.universe, y.first) for x, y in zip(carry.along, carry.landings)
        ]
        keys = list(dict.fromkeys(x.key for x in steps))
        if copy:
            return copy_items(s.rig, keys, steps)
        if len(steps) == 1:
            return move_item(s.rig, carry.key, carry.break_no, carry.land.universe, carry.land.first)
        where = say_place(s.rig.universes[carry.land.universe].number, carry.land.first)
        return apply_steps(s.rig, steps, f"move {say_count(len(keys), 'item')} to {where}")

    def _exchange_places(self, carry: Carry) -> Edit:
        """Change places with the one item that lies where it would land."""
        s = self._session
        met = list(dict.fromkeys(m[0] for m in carry.land.meets))
        other = (
            next((x for x in s.index.spans_of(met[0]) if x.universe == carry.land.universe), None)
            if len(met) == 1 and isinstance(met[0], str)
            else None
        )
        if carry.along or other is None:
            raise Refused("To swap, carry one item onto one other; it stays where it is.")
        return swap_items(s.index, (carry.key, carry.break_no), (other.item_of_span, max(0, other.break_no)))

    def carry_words(self, land: Landing) -> tuple[str, str]:
        """Mark and sentence of the card beside what is carried."""
        s = self._session
        rig = s.rig
        if land.refused:
            return "error", land.refused
        if self._carry and self._carry.along:
            if not self._carry.landings:
                return "error", "some would leave the universes there"
            lands = (land, *self._carry.landings)
            keys = (self._carry.key, *(x.item_of_span for x in self._carry.along))
            hit = [(k, x) for k, x in zip(keys, lands) if x.meets or x.past_end]
            if hit:
                who, where = hit[0]
                met = f"meets {s.index.word_for_taker(where.meets[0][0])}" if where.meets else "ends past the universe"
                return "error", f"{name_of_item(rig, who)} {met}" + (
                    f" · {len(hit)} of {len(lands)} do not fit" if len(hit) > 1 else ""
                )
            return "matches", f"free for all {len(lands)}"
        if land.past_end:
            return "warning", f"ends {say_count(land.past_end, 'slot')} past " + (land.why or "the universe")
        if land.meets:
            key, uid, first, last = land.meets[0]
            more = f" and {len(land.meets) - 1} more" if len(land.meets) > 1 else ""
            slots = say_place(rig.universes[uid].number, first) + (f"–{last:03d}" if last > first else "")
            return (
                "error",
                f"meets {s.index.word_for_taker(key)} on {say_count(last - first + 1, 'slot')}: {slots}{more}",
            )
        if land.needs:
            return "error", f"needs universe {land.needs}, which is not there"
        if land.cuts:
            return "warning", f"cuts pixel {land.cuts[0]} at {rig.universes[land.universe].size}"
        if land.goes_on:
            return "matches", f"free · goes on into universe {land.goes_on}"
        return "matches", f"free · {say_count(land.free_before, 'slot')} before, {land.free_after} after"

    def carry_more(self) -> str:
        """What else the drop would do: who follows, and the other ways to drop."""
        assert self._carry
        s = self._session
        behind = s.index.items_that_follow(self._carry.key)
        follow = (
            f"{', '.join(name_of_item(s.rig, k) for k in behind[:3])}{' …' if len(behind) > 3 else ''} moves along · "
            if behind
            else ""
        )
        met = {m[0] for m in self._carry.land.meets}
        one = next(iter(met)) if len(met) == 1 and not self._carry.along else None
        swap = f" · Shift swaps with {name_of_item(s.rig, one)}" if isinstance(one, str) else ""
        return f"{follow}Ctrl puts down a copy{swap}"

    def _paint_over(self, p: QPainter, off: float) -> None:
        if not self._carry:
            return
        land = self._carry.land
        r = self.row_of(land.universe)
        if r is None:
            return
        level = level_for(self.pixels_per_slot)
        lane = 0
        others = [b for b in self._blocks_of_universe(land.universe)[0] if b.span_of_block.key != self._carry.key]
        while any(
            b.lane == lane and b.span_of_block.first <= land.last and land.first <= b.span_of_block.last for b in others
        ):
            lane += 1
        y = r.y - off + (SLOT_TOP if level is SLOT else 0) + lane * (level.more or level.pitch)
        ghost = QRectF(
            r.x + (land.first - 1) * self.pixels_per_slot - self.x0,
            y,
            (land.last - land.first + 1) * self.pixels_per_slot,
            level.lane,
        )
        for x in self._carry.landings:
            at = self.row_of(x.universe)
            if at:
                top = at.y - off + (SLOT_TOP if level is SLOT else 0)
                wide = (min(x.last, SLOTS) - x.first + 1) * self.pixels_per_slot
                draw_frame(
                    p,
                    QRectF(at.x + (x.first - 1) * self.pixels_per_slot - self.x0, top, wide, level.lane),
                    "accent_wash",
                    "accent",
                    0,
                    1.5,
                    dashed=True,
                )
        draw_frame(p, ghost, "accent_wash", "accent", 0, 2, dashed=True)
        draw_text_line(
            p, ghost.adjusted(4, 0, 0, 0), name_of_item(self._session.rig, self._carry.key), size=11, bold=True
        )
        number = self._session.rig.universes[land.universe].number
        mark, sentence = self.carry_words(land)
        card = QRectF(min(ghost.left(), self.viewport().width() - 320), ghost.bottom() + 8, 310, 90)
        if card.bottom() > self.viewport().height():
            card.moveBottom(ghost.top() - 8)
        draw_frame(p, card, "raised", "accent", 4, 1)
        draw_text_line(
            p,
            QRectF(card.left() + 12, card.top() + 6, 270, 22),
            f"{say_place(number, land.first)} – {say_place(number, land.last)}",
            size=16,
            bold=True,
        )
        marks.draw_mark(p, mark, card.left() + 12, card.top() + 32, 12)
        draw_text_line(p, QRectF(card.left() + 30, card.top() + 28, 254, 20), sentence, size=11)
        spans = [x for x in self._session.index.spans_of(self._carry.key) if x.break_no == self._carry.break_no]
        back = say_place(self._session.rig.universes[spans[0].universe].number, spans[0].first) if spans else "nowhere"
        keys = (
            f"Enter puts it down · typed {self._carry.typed}"
            if self._carry.typed
            else "Enter puts it down · Esc"
            if self._carry.by_keys
            else "Esc"
        )
        draw_text_line(p, QRectF(card.left() + 12, card.top() + 50, 290, 16), self.carry_more(), "quiet", 11)
        draw_text_line(
            p, QRectF(card.left() + 12, card.top() + 68, 290, 16), f"{keys} gives it back to {back}", "quiet", 11
        )

    def contextMenuEvent(self, e: QContextMenuEvent) -> None:
        span = self._span_at(QPointF(e.pos()))
        s = self._session
        if span and span.item_of_span not in s.selection.ids:
            s.select_taker(span.key, span.break_no)
        self.menu_wanted.emit(e.globalPos())

    def leaveEvent(self, _: QEvent) -> None:
        QToolTip.hideText()

    def viewportEvent(self, e: QEvent) -> bool:
        if e.type() == QEvent.Type.ToolTip and isinstance(e, QHelpEvent):
            found = self.slot_at_point(QPointF(e.pos()))
            if found and found[1]:
                target = of_slot(self._session.index, *found)
                here = self._session.index.spans_at_slot(*found)
                names = ", ".join(self._session.index.word_for_taker(s.key) for s in here) or "free"
                words = rows_tip(names, place_ways(self._session.index, target))
                QToolTip.showText(e.globalPos(), words, self.viewport())
            else:
                QToolTip.hideText()
            return True
        return super().viewportEvent(e)

    def wheelEvent(self, e: QWheelEvent) -> None:
        if e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom_by(1 if e.angleDelta().y() > 0 else -1)
        else:
            super().wheelEvent(e)

    # ---- keys

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if self._carry and self._carry.by_keys and self._carry_key(e):
            return None
        key, shift = e.key(), bool(e.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        if key == Qt.Key.Key_Escape and (self._carry or self.lens):
            if self._carry:
                self._let_go()
            else:
                self.toggle_lens()
        elif key == Qt.Key.Key_Space:
            self.toggle_lens()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.edit_address.emit()
        elif key == Qt.Key.Key_M and e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.pick_up()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Home, Qt.Key.Key_End):
            self._walk_to_fixture(key, shift)
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._walk_tape(-1 if key == Qt.Key.Key_Up else 1)
        else:
            return super().keyPressEvent(e)
        self._lay_out_tapes()
        self.viewport().update()
        return None

    def pick_up(self) -> None:
        """Ctrl+M: what is selected is carried by the keys until Enter puts them down."""
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
            self._drop_carried(*_how_to_drop(e.modifiers()))
        elif key == Qt.Key.Key_Escape:
            self._let_go()
        elif e.text() and e.text() in "0123456789.":
            self._carry.typed += e.text()
            try:
                number, address = read_place(
                    self._carry.typed
                    if "." in self._carry.typed
                    else f"{self._session.rig.universes[land.universe].number}.{self._carry.typed}"
                )
                uid = universe_by_number(self._session.rig, number)
                if uid:
                    self._carry_to(uid, address)
            except Refused:
                pass
        else:
            return False
        self.viewport().update()
        return True

    def _walk_to_fixture(self, key: int, extend: bool) -> None:
        """To the fixture before or after on its tape; Home and End to the first and last."""
        spans = self._selected_spans()
        uid = spans[-1].universe if spans else (self._rows[0].universe if self._rows else "")
        on = self._session.index.spans_on_universe(uid) if uid else []
        if not on:
            return
        now = next(
            (i for i, s in enumerate(on) if spans and (s.key, s.break_no) == (spans[-1].key, spans[-1].break_no)), -1
        )
        n = {
            Qt.Key.Key_Home: 0,
            Qt.Key.Key_End: len(on) - 1,
            Qt.Key.Key_Left: max(0, now - 1),
            Qt.Key.Key_Right: min(len(on) - 1, now + 1),
        }[Qt.Key(key)]
        if extend and spans:
            lo, hi = sorted((max(now, 0), n))
            self._session.select_items(
                list(
                    dict.fromkeys(
                        [*self._session.selection.ids, *(s.item_of_span for s in on[lo : hi + 1] if s.item_of_span)]
                    )
                )
            )
        else:
            self._session.select_taker(on[n].key, on[n].break_no)

    def _walk_tape(self, by: int) -> None:
        spans = self._selected_spans()
        order = [r.universe for r in self._rows]
        s = self._session.selection
        now = spans[-1].universe if spans else s.first_selected if s.kind == "universe" else ""
        n = order.index(now) + by if now in order else 0
        if not 0 <= n < len(order):
            return
        on = self._session.index.spans_on_universe(order[n])
        at = spans[-1].first if spans else 1
        if on:
            near = min(on, key=lambda x: abs(x.first - at))
            self._session.select_taker(near.key, near.break_no)
        else:
            self._session.change_selection(Selection("universe", (order[n],)))


def _how_to_drop(modifiers: Qt.KeyboardModifier) -> tuple[bool, bool]:
    """How to drop: as a copy (Ctrl), changing places (Shift)."""
    return bool(modifiers & Qt.KeyboardModifier.ControlModifier), bool(modifiers & Qt.KeyboardModifier.ShiftModifier)
