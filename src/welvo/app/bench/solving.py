"""A solver on the screen: the next test is lit from here, its answers stand as buttons, what is left stands below."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtWidgets import QWidget

from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import clear_layout, column_of_widgets, make_button, make_label
from welvo.bench.levels import Hold, reveal_item
from welvo.bench.picking import pixels_in
from welvo.bench.solvers import (
    PRIMARIES,
    Solver,
    bridge_of,
    bridge_slots,
    fold_and_direction,
    solve_colour_order,
    solve_substitution,
    start_address,
    universe_base,
    which_device,
)
from welvo.patch.index import Index
from welvo.patch.slot_words import letters_of
from welvo.rig.base import Refused
from welvo.rig.colours import FUNCTIONS
from welvo.rig.lookup import feeds_of, universe_by_number
from welvo.rig.notation import say_count
from welvo.rig.protocol import PROTOCOLS

KINDS = {
    "order": ("Colour order…", "Which colour shows for which slot: two or three sights tell the order."),
    "address": ("Address…", "At which address it answers, by lighting a few slots."),
    "lies": ("Fold and ends…", "How the string lies: where it turns back, and at which end data comes in."),
    "bridge": ("Plain pixel…", "A plain pixel in the bridge's place tells on which side of the bridge the fault is."),
    "base": ("From 0 or 1…", "Whether sender and device count universes from the same number."),
    "device": ("Which device…", "Which of the planned devices this one is, by what it shows."),
}


def fitting_solvers(index: Index, key: str) -> list[str]:
    """The solvers that say something about an item."""
    many = pixels_in(index, key)
    found = ["order"] if many and len(_letters_of_order(index, key)) > 2 else []
    found += (
        ["address"]
        if key in index.rig.fixtures and index.spans_of(key) and not index.cables_and_sums.on_runs(key)
        else []
    )
    found += ["lies"] if many > 1 and key in index.rig.elements else []
    found += ["bridge"] if bridge_of(index, key) else []
    return [*found, "base"] + (["device"] if len(index.rig.devices) > 1 else [])


def _letters_of_order(index: Index, key: str) -> str:
    span = index.span_of_break(key)
    element = index.rig.elements.get(key)
    return letters_of(index, span) if span else element.order if element else ""


def solver_for(index: Index, kind: str, key: str) -> Solver[Any]:
    """Raises Refused where there is nothing to find out."""
    rig = index.rig
    if kind == "order":
        return solve_colour_order(_letters_of_order(index, key))
    if kind == "address":
        return start_address(index, key)
    if kind == "lies":
        return fold_and_direction(pixels_in(index, key), [rig.elements[key].fold] if rig.elements[key].fold else [])
    if kind == "bridge":
        return solve_substitution(index, key)
    if kind == "device":
        return which_device(index, list(rig.devices))
    span = index.span_of_break(key)
    feeds = [rig.feeds[f] for f in feeds_of(rig, span.universe)] if span else []
    feed = next((f for f in feeds if PROTOCOLS[f.protocol].has_universe_numbers), None)
    if feed is None:
        raise Refused("Its universe has no number on the wire.")
    return universe_base([feed.wire - 1, feed.wire, feed.wire + 1])


def hold_for(index: Index, kind: str, key: str, test: str) -> tuple[Hold, list[str]]:
    """What lights a test, and the items that it takes over."""
    rig = index.rig
    span = index.span_of_break(key)
    if kind == "order":
        letter = _letters_of_order(index, key)[int(test.partition(" ")[2]) - 1]
        return Hold(pixels={key: {(1, FUNCTIONS[letter]): 1.0}}), [key]
    if kind == "address" and span:
        _, first, _, last = test.split(" ")
        slots = {(span.universe, a): 255 if int(first) <= a <= int(last) else 0 for a in range(1, 513)}
        return Hold(slots=slots), index.items_on(span.universe)
    if kind == "bridge":
        return Hold(slots=bridge_slots(index, key, PRIMARIES[test])), [key]
    if kind == "lies":
        n = int(test.partition(" ")[2])
        return Hold(pixels={key: {(n, f): 1.0 for f in (FUNCTIONS[x] for x in _letters_of_order(index, key))}}), [key]
    wire = int(test.partition(" ")[2])
    feed = next((f for f in rig.feeds.values() if f.wire == wire and PROTOCOLS[f.protocol].has_universe_numbers), None)
    uid = feed.universe if feed else universe_by_number(rig, wire)
    keys = index.items_on(uid) if uid in rig.universes else []
    return Hold({(k, f): v for k in keys for f, v in reveal_item(index, k).items()}), keys


class Solving(Dialog):
    """Sights told one by one. The light goes out as before when it is closed."""

    def __init__(
        self, session: Session, network: Network, kind: str, key: str, parent: QWidget, moved: Callable[[], object]
    ) -> None:
        self.solver = solver_for(session.index, kind, key)
        note = "" if network.output.is_armed else "Not armed: nothing is lit. The answers count all the same."
        super().__init__(parent, self.solver.question, note=note, wide=520, high=420)
        self._session, self._network, self._kind, self._key, self._moved = session, network, kind, key, moved
        self._offered = column_of_widgets((0, 0, 0, 0), 8)
        self.body.addLayout(self._offered)
        self.body.addStretch(1)
        self.finish(None, leave="Close", room=54)
        self.finished.connect(lambda _: self._darken_others())
        self._show_test()

    def _darken_others(self) -> None:
        self._network.meant.levels.end_test()
        self._moved()

    def _show_test(self) -> None:
        clear_layout(self._offered)
        solver, test = self.solver, self.solver.next_test
        if test and len(solver.still_possible) > 1:
            hold, keys = hold_for(self._session.index, self._kind, self._key, test)
            self._network.meant.levels.start_test(hold, keys)
            self._moved()
            self._offered.addWidget(make_label(f"Lit now: {test}. What is seen?", 16, True, wrap=True))
            answers = sorted(solver.possible_answers(test).items(), key=lambda x: -x[1])
            for n in range(0, min(12, len(answers)), 3):
                here = [
                    make_button(
                        seen,
                        partial(self._answer_test, test, seen),
                        f"Leaves {say_count(count, 'possibility', 'possibilities')}.",
                    )
                    for seen, count in answers[n : n + 3]
                ]
                self._offered.addLayout(flow_of_widgets(*here, None))
        else:
            self._darken_others()
        for s in solver.sights:
            back = make_button("Take back", partial(self._take_back, s.test), "This sight does not count any more.")
            self._offered.addLayout(flow_of_widgets(make_label(f"{s.test}: {s.seen}"), None, back))
        self.say(solver.words_of_verdict)

    def _answer_test(self, test: str, seen: str) -> None:
        self.solver = self.solver.after_sight(test, seen)
        self._show_test()

    def _take_back(self, test: str) -> None:
        self.solver = self.solver.without_sight(test)
        self._show_test()
