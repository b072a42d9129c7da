"""Laying out, packing and another mode: forms in the panel that show on the tapes what would come of them."""

from __future__ import annotations

from msgspec import Struct
from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import Asks
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.moves import Moves
from welvo.app.widgets.painting import clear_layout, column_of_widgets, make_button, make_label
from welvo.app.widgets.panels import Title
from welvo.checks.foresee import Foreseen
from welvo.patch.index import Index
from welvo.patch.laying import (
    ORDERS,
    LaidOut,
    Laying,
    Pattern,
    how_many,
    items_that_follow_layout,
    lay_out_tracks,
    steps_that_change,
    take_layout,
)
from welvo.patch.mode_edits import change_mode
from welvo.patch.repack import repack_universe
from welvo.patch.steps import PatchStep, apply_steps, footprint_of
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig
from welvo.rig.lookup import mode_of, name_of_item, universe_by_number, universe_ids, universes_in_order
from welvo.rig.notation import read_numbers, read_place, say_count, say_place
from welvo.rig.readers import read_whole_number
from welvo.survey.effect_words import say_all
from welvo.survey.effects import say_places

PATTERNS: dict[Pattern, str] = {
    "packed": "packed, one behind the other",
    "spacing": "spacing: start to start",
    "gap": "gap: free slots between",
    "round": "round starts: every …",
}


MANY = 500
"""Above so many items a preview waits for a pause in typing."""


class Ghost(Struct, frozen=True):
    """What a form shows on a tape: an item where it would stand."""

    universe: str
    first: int
    last: int
    words: str


def ghosts_of(rig: Rig, found: Foreseen) -> list[Ghost]:
    """Where everything would stand that an edit places or moves: what the edit is about first, then the others."""
    ids = universe_ids(rig)
    moved = [e for e in found.effects if e.after and e.kind in ("moves", "slots", "placed", "made")]
    return [
        Ghost(ids[number], first, last, e.who)
        for e in sorted(moved, key=lambda e: not e.own)
        for number, first, last in e.after
        if number in ids
    ]


class Proposal(QWidget, Asks):
    """Base: a title, fields, what would happen, and the two ways out. Emits `closed` when it is over."""

    closed = Signal()

    def __init__(self, session: Session, title: str, act: str) -> None:
        super().__init__()
        self.session = session
        self.lines = column_of_widgets(spacing=8)
        self.lines.addWidget(Title(title))
        self.go = make_button(act, self.do, primary=True)
        self.saying = make_label("", 11, wrap=True)
        self._list = column_of_widgets(spacing=0)
        self._built = False
        self.setLayout(self.lines)

    def note_words(self, words: str) -> None:
        self.lines.addWidget(make_label(words, 11, quiet=True, wrap=True))

    def finish(self) -> None:
        """Put what follows the fields below them."""
        self.lines.addWidget(self.saying)
        leave = make_button("Leave it", self.leave, "Closes this and changes nothing.   Esc")
        self.lines.addWidget(self.go)  # each has the panel's width: a mode may have a long name
        self.lines.addLayout(flow_of_widgets(None, leave))
        self.lines.addLayout(self._list)
        self._built = True
        self.update_preview()

    def foresee(self, edit: Edit | None) -> Foreseen:
        """Show in the strip and on the tapes what an edit would do."""
        if edit is None:
            self.session.show_foreseen(None)
            return Foreseen(self.session.rig, Change("", {}))
        found = self.session.show_foreseen(edit)
        assert found is not None
        return found

    def say_effects(self, found: Foreseen, act: str) -> None:
        """Say everything that would be different, the edited items included, and offer to do it."""
        rows = [
            (e.who, say_places(e.before) if e.before else "new", say_places(e.after) if e.kind != "gone" else "gone")
            for e in found.effects
            if e.kind in ("moves", "slots", "placed", "unplaced", "made", "gone")
        ]
        self.say(say_all(found.effects), rows, act, True)

    def say(self, words: str, rows: list[tuple[str, str, str]], act: str, possible: bool) -> None:
        self.saying.setText(words)
        clear_layout(self._list)
        if rows:
            self._list.addWidget(Moves(rows))
        self.go.setText(act)
        self.go.setEnabled(possible)

    def look(self) -> None:
        if self._built:
            self.update_preview()

    def update_preview(self) -> None:
        """Work out again what would happen, and show it."""

    def do(self) -> None:
        """Do it."""

    def leave(self) -> None:
        self.session.show_foreseen(None)
        self.closed.emit()


class LayForm(Proposal):
    """Give addresses to many items in one act."""

    def __init__(self, session: Session, keys: list[str]) -> None:
        super().__init__(session, f"Lay out {say_count(len(keys), 'item')}", "Lay out")
        self.keys = keys
        self.laid = LaidOut(())
        self._soon = QTimer(self, singleShot=True)
        self._soon.timeout.connect(self.update_preview)
        self.start = self.ask_for_line(
            "From",
            "Where the first one starts, such as 3.1; free for the first free place. A click on a tape sets it.",
            "free",
            96,
        )
        self.pattern = self.ask_for_choice(
            "Pattern",
            "How one follows the other. Spacing counts from start to start, gap the free slots between.",
            list(PATTERNS.items()),
            "packed",
        )
        self.by = self.ask_for_line(
            "By", "How many slots: from start to start, free between, or between round starts.", width=64
        )
        self.order = self.ask_for_choice(
            "Order",
            "In which order they are laid out. List is the order of the list's selection.",
            [(o, o) for o in ORDERS],
            "list",
        )
        self.into = self.ask_for_line(
            "Into", "Which universes, such as 3-6, 9. Empty: from the first on, as many as it takes."
        )
        self.which = self.ask_for_choice(
            "Breaks", "Fixtures with several breaks: all of them one after the other, or one break of each.", []
        )
        self._show_breaks()
        self.headroom = self.ask_for_line(
            "Headroom", "Slots that stay free at the end of each universe, for what comes later.", "0", 64
        )
        self.together = self.ask_for_tick(
            "Keep groups together", "Each group in one universe; items of no group count as one."
        )
        self.over = self.ask_for_tick(
            "Over what is there",
            "Lays them over other items, which will clash; locked ones are still gone around.",
        )
        self.finish()

    def look(self) -> None:
        """Many items wait for a pause in typing."""
        if self._built:
            self._soon.start(250 if len(self.keys) > MANY else 0)

    def choose_items(self, keys: list[str]) -> None:
        """Lay out other items: what was selected meanwhile."""
        self.keys = keys
        self._show_breaks()
        self.update_preview()

    def from_here(self, universe: str, address: int) -> None:
        """Start at a slot that was clicked."""
        self.start.setText(say_place(self.session.rig.universes[universe].number, address))
        self.update_preview()

    def breaks_to_lay(self) -> list[tuple[str, int]]:
        """The breaks to lay out, item by item: all, or those of one turn."""
        rig, found = self.session.rig, []
        only = str(self.which.currentData())
        for key in self.keys:
            fixture = rig.fixtures.get(key)
            mode = mode_of(rig, fixture) if fixture else None
            if mode is None:
                found += [(key, 0)] if key in rig.elements else []
            else:
                found += [(key, b) for b, part in enumerate(mode.breaks) if part.slots and only in ("all", str(b))]
        return found

    def _show_breaks(self) -> None:
        rig = self.session.rig
        most: tuple[str, ...] = ()
        for key in self.keys:
            fixture = rig.fixtures.get(key)
            mode = mode_of(rig, fixture) if fixture else None
            if mode and len(mode.breaks) > max(1, len(most)):
                most = tuple(b.name or f"break {n}" for n, b in enumerate(mode.breaks, 1))
        self.which.set_options(
            [("all", "all breaks"), *((str(n), w) for n, w in enumerate(most))], str(self.which.currentData() or "all")
        )
        self.which.setEnabled(bool(most))

    def wished_laying(self) -> Laying:
        """What the fields ask for. Raises Refused."""
        rig = self.session.rig
        start = None
        words = self.start.text().strip()
        if words and words.lower() != "free":
            number, address = read_place(words)
            uid = universe_by_number(rig, number)
            if not uid:
                raise Refused(f"There is no universe {number} in this rig yet.")
            start = (uid, address)
        pattern = next(w for w in PATTERNS if w == str(self.pattern.currentData()))
        by = read_whole_number(self.by.text(), 0, 512) if pattern != "packed" else 0
        into: tuple[str, ...] = ()
        if self.into.text().strip():
            wanted = read_numbers(self.into.text())
            missing = next((n for n in wanted if not universe_by_number(rig, n)), None)
            if missing is not None:
                raise Refused(f"There is no universe {missing} in this rig yet.")
            into = tuple(universe_by_number(rig, n) for n in wanted)
            if start and start[0] not in into:
                raise Refused(
                    f"{say_place(rig.universes[start[0]].number, start[1])} lies in none of the universes "
                    f"{self.into.text().strip()}."
                )
        order = next(o for o in ORDERS if o == str(self.order.currentData()))
        room = read_whole_number(self.headroom.text(), 0, 512) if self.headroom.text().strip() else 0
        return Laying(start, pattern, by, order, into, room, self.together.isChecked(), self.over.isChecked())

    def update_preview(self) -> None:
        s = self.session
        counted = str(self.pattern.currentData()) != "packed"
        self.by.setEnabled(counted)
        if counted and not self.by.text() and not self.by.hasFocus() and self.breaks_to_lay():
            width = footprint_of(s.rig, *self.breaks_to_lay()[0])
            self.by.setText("0" if str(self.pattern.currentData()) == "gap" else str(width))
        try:
            laying = self.wished_laying()
            self.laid = lay_out_tracks(s.index, self.breaks_to_lay(), laying)
        except Refused as e:
            self.laid = LaidOut(())
            self.say(str(e), [], "Lay out", False)
            self.foresee(None)
            return
        rig = s.rig
        words = []
        if self.laid.steps:
            first, last = self.laid.steps[0], self.laid.last
            words.append(
                f"{say_count(len(self.laid.steps), 'place')} from "
                f"{say_place(rig.universes[first.universe].number, first.address)} "
                f"to {say_place(rig.universes[last[0]].number, last[2])}; {say_count(self.laid.free_after, 'slot')} "
                "free behind the last."
            )
        if self.laid.left:
            words.append(f"{len(self.laid.left)} found no place: {self.laid.why}")
        if self.laid.stays:
            words.append(f"Locked or on a cable, and stays: {_names_of_items(rig, list(self.laid.stays))}.")
        if self.laid.freed:
            words.append(
                f"Stood behind others and gets an address of its own: {_names_of_items(rig, list(self.laid.freed))}."
            )
        behind = items_that_follow_layout(s.index, self.laid)
        if behind:
            words.append(f"Anchored, so it moves too: {_names_of_items(rig, behind)}.")
        if self.laid.steps and not self.laid.left and not laying.over:
            words.append(self._more_fit(laying))
        now = {k: {x.break_no: x for x in s.index.spans_of(k)} for k in {step.key for step in self.laid.steps}}
        rows = []
        for step in steps_that_change(s.index, self.laid):
            old = now[step.key].get(step.break_no)
            was = say_place(rig.universes[old.universe].number, old.first) if old else "not patched"
            rows.append(
                (name_of_item(rig, step.key), was, say_place(rig.universes[step.universe].number, step.address))
            )
        if self.laid.steps and not rows:
            words.append("All of them stand there already.")
        self.say(" ".join(words), rows, f"Lay out {len(rows)}" if rows else "Lay out", bool(rows))
        self.foresee(take_layout(rig, self.laid) if self.laid.steps else None)

    def _more_fit(self, laying: Laying) -> str:
        """How many more of the last kind would fit behind."""
        s = self.session
        after, _ = take_layout(s.rig, self.laid)
        last = self.laid.steps[-1]
        width = footprint_of(s.rig, last.key, last.break_no)
        order = list(laying.into) or universes_in_order(s.rig)
        here = Laying(self.laid.last[:2], laying.pattern, laying.by, into=(last.universe,), headroom=laying.headroom)
        first, end = self.laid.last[1:]
        behind = (first, end - first + 1)
        fit = how_many(Index(after) if len(s.rig.fixtures) < 2000 else s.index, width, here, behind=behind)
        number = s.rig.universes[last.universe].number
        more = "; the next universes go on" if order[-1] != last.universe else ""
        if not fit.count:
            return f"No more of {say_count(width, 'slot')} fits into universe {number}{more}."
        where = f"the last {fit.first}–{fit.last}, {say_count(fit.left_over, 'slot')} left over"
        return f"{fit.count} more of {say_count(width, 'slot')} would fit into universe {number} ({where}){more}."

    def do(self) -> None:
        if self._soon.isActive():  # something was typed and not yet looked at
            self._soon.stop()
            self.update_preview()
        if self.laid.steps and self.session.make_edit(lambda rig: take_layout(rig, self.laid)) is not None:
            self.leave()
            self.session.say_done(f"Laid out {say_count(len(self.laid.steps), 'place')}.")


class PackForm(Proposal):
    """Close the gaps of a universe with the fewest moves."""

    def __init__(self, session: Session, universe: str) -> None:
        number = session.rig.universes[universe].number
        super().__init__(session, f"Pack universe {number}", "Pack")
        self.universe = universe
        self.steps: list[PatchStep] = []
        self.note_words(
            "Closes the gaps with as few moves as can be. What is locked, shared, anchored or on a cable stays."
        )
        self.finish()

    def update_preview(self) -> None:
        s, rig = self.session, self.session.rig
        if self.universe not in rig.universes:
            self.leave()
            return
        packing = repack_universe(s.index, self.universe)
        self.steps = list(packing.steps)
        number = rig.universes[self.universe].number
        now = {(x.key, x.break_no): x.first for x in s.index.spans_on_universe(self.universe)}
        rows = [
            (name_of_item(rig, x.key), say_place(number, now[x.key, x.break_no]), say_place(number, x.address))
            for x in self.steps
        ]
        if rows:
            words = f"{say_count(len(rows), 'move')}: the last one ends at {packing.after} instead of {packing.before}."
            words += (
                "" if packing.exact else " There may be a way with fewer moves; this many items were not all tried."
            )
        else:
            words = "Nothing to gain: there is no gap that could be closed."
        if packing.fixed:
            kinds: dict[str, list[str]] = {}
            for who, why in packing.fixed:
                kinds.setdefault(why, []).append(who)
            words += (
                " Stays: "
                + "; ".join(f"{', '.join(w[:6])}{' …' if len(w) > 6 else ''} ({k})" for k, w in kinds.items())
                + "."
            )
        self.say(words, rows, f"Move {len(rows)}" if rows else "Pack", bool(rows))
        self.foresee(apply_steps(rig, self.steps, f"pack universe {number}") if self.steps else None)

    def do(self) -> None:
        number = self.session.rig.universes[self.universe].number
        steps = self.steps
        if steps and self.session.make_edit(lambda rig: apply_steps(rig, steps, f"pack universe {number}")) is not None:
            self.leave()
            self.session.say_done(f"Universe {number} packed: {say_count(len(steps), 'item')} moved.")


class ModeForm(Proposal):
    """What another mode would do to fixtures, and everything it would hit, before it is done."""

    def __init__(self, session: Session, keys: list[str], profile: str, mode: str) -> None:
        name = session.rig.profiles[profile].modes[mode].name
        super().__init__(session, f"Mode “{name}”?", "Change")
        self.keys, self.profile, self.mode = keys, profile, mode
        self.quiet = True
        """One fixture that would take other slots and meet nobody: nothing that has to be looked at first."""
        self.note_words(
            "Every item whose slots would be others, before it is done. The lamps' own menus must be set as well."
        )
        self.finish()

    def _edit(self, rig: Rig) -> Edit:
        return change_mode(rig, self.keys, self.profile, self.mode)

    def update_preview(self) -> None:
        rig = self.session.rig
        self.keys = [k for k in self.keys if k in rig.fixtures]
        if not self.keys or self.profile not in rig.profiles or self.mode not in rig.profiles[self.profile].modes:
            self.leave()
            return
        found = self.foresee(self._edit(rig))
        self.quiet = len(self.keys) == 1 and not found.strip
        name = rig.profiles[self.profile].modes[self.mode].name
        others = sum((rig.fixtures[k].profile, rig.fixtures[k].mode) != (self.profile, self.mode) for k in self.keys)
        self.say_effects(found, f"Change {others} to mode “{name}”")

    def do(self) -> None:
        if self.session.make_edit(self._edit) is not None:
            self.leave()


def _names_of_items(rig: Rig, keys: list[str]) -> str:
    return ", ".join(name_of_item(rig, k) for k in keys[:8]) + (f" and {len(keys) - 8} more" if len(keys) > 8 else "")
