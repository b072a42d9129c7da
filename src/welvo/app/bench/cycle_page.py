"""The Test page: a cycle over what is picked, step by step, with what must be seen and a place for what was seen.

It is made for a ladder: the step stands in large letters, and every act has a key of its own.
"""

from __future__ import annotations

import time
from functools import partial

from PySide6.QtCore import QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QPushButton, QWidget

from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets.fields import Field, LineField, Tick, set_help
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.painting import column_of_widgets, draw_frame, make_button, make_label, row_of_widgets
from welvo.app.widgets.who import name_of_user
from welvo.bench.cycles import KINDS, Cycle, CycleStep, Halving, begin_halving, steps_of_cycle
from welvo.bench.record import record_tests, subject_of_test
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.lookup import universes_in_order
from welvo.rig.notation import read_numbers, say_count
from welvo.rig.readers import read_decimal
from welvo.rig.tested import TestResult

BEAT = 40
"""Milliseconds between two looks at the clock."""
SPEEDS = (0.02, 25.0)
"""The fewest and the most steps a second."""
KEYS = "→ next · ← back · Space holds and goes on · P passed · F failed · D doubtful · + − speed · Esc ends"


class CyclePage(QWidget):
    """`changed` when another step is sent."""

    changed = Signal()

    def paintEvent(self, _: QPaintEvent) -> None:
        """The keys walk the test while the page itself has the focus: that is seen."""
        if self.hasFocus():
            draw_frame(QPainter(self), QRectF(self.rect()).adjusted(1, 1, -2, -2), None, "accent", 2, 2)

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.cycle: Cycle | None = None
        self.search: Halving | None = None
        self.kind = ""
        self.keys: list[str] = []
        self._at = 0.0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Test cycle")
        left = column_of_widgets((16, 4, 8, 8), 4)
        left.addWidget(make_label("Cycles", 13, True))
        self.kinds: dict[str, QPushButton] = {}
        for kind, of in KINDS.items():
            b = make_button(of.words[:1].upper() + of.words[1:], partial(self.begin_cycle, kind), of.finds)
            b.setCheckable(True)
            self.kinds[kind] = b
            left.addWidget(b)
        left.addWidget(make_label("A lamp that answers somewhere", 13, True))
        self.where = Field("The universes in which it may answer, such as 1–4. Empty: all.", lambda _: True)
        self.where.setPlaceholderText("all universes")
        self.where.setAccessibleName("Search in universes")
        self.halve = make_button(
            "Halving search", self.begin_search, "Lights half of all slots; your answers find the one it answers on."
        )
        left.addLayout(flow_of_widgets(self.where, self.halve))
        left.addStretch(1)
        self.finds = make_label("", 11, quiet=True, wrap=True)
        left.addWidget(self.finds)
        holder = QWidget()
        holder.setLayout(left)
        keep_width(holder, 264)
        right = column_of_widgets((16, 4, 16, 8), 8)
        self.of = make_label("", 13, quiet=True)
        self.words = make_label("", 22, True, wrap=True)
        self.see = make_label("", 16, wrap=True)
        self.back = make_button("Back", lambda: self.step_by(-1), "The step before this one.   ←")
        self.hold = make_button("Hold", self.toggle_hold, "Stays at this step until you go on.   Space")
        self.next = make_button("Next", lambda: self.step_by(1), "The step after this one.   →", primary=True)
        self.speed = Field("Steps a second, 0.02 to 25.", self._set_speed)
        keep_width(self.speed, 56)
        self.speed.setAccessibleName("Steps a second")
        self.speed.set_value("1")
        self.repeat = Tick("Round and round", "Begins again after the last step.", self._set_repeat)
        self.repeat.setChecked(True)
        self.end = make_button("End", self.stop_cycle, "Ends the test; what you hold goes out again.   Esc")
        right.addWidget(self.of)
        right.addWidget(self.words)
        right.addWidget(self.see)
        right.addSpacing(8)
        right.addLayout(
            flow_of_widgets(
                self.back,
                self.hold,
                self.next,
                12,
                self.speed,
                make_label("steps a second", 11, quiet=True),
                self.repeat,
                None,
                self.end,
            )
        )
        self.asked = flow_of_widgets(
            make_button("It reacts", lambda: self.answer_halving(True), "The lamp is on one of the lit slots."),
            make_button("Nothing", lambda: self.answer_halving(False), "The lamp is on one of the others."),
            None,
        )
        self.search_row = QWidget()
        self.asked.setContentsMargins(0, 0, 0, 0)
        self.search_row.setLayout(self.asked)
        right.addWidget(self.search_row)
        right.addSpacing(12)
        right.addWidget(make_label("What was seen", 13, True))
        self.note = LineField()
        self.note.setPlaceholderText("a remark")
        set_help(self.note, "A remark that is kept with the result.")
        self.passed = make_button(
            "Passed", lambda: self.record_result("passed"), "Everything picked did what it must.   P"
        )
        self.failed = make_button(
            "Failed", lambda: self.record_result("failed"), "Something did not; say what in the remark.   F"
        )
        self.doubt = make_button("Doubtful", lambda: self.record_result("doubtful"), "To be looked at again.   D")
        right.addLayout(flow_of_widgets(self.passed, self.failed, self.doubt, self.note))
        self.said = make_label("", 11, wrap=True)
        right.addWidget(self.said)
        right.addStretch(1)
        right.addWidget(make_label(KEYS, 11, quiet=True, wrap=True))
        body = row_of_widgets(spacing=0)
        body.setContentsMargins(0, 0, 0, 0)
        body.addWidget(holder)
        body.addLayout(right, 1)
        self.setLayout(body)
        self._clock = QTimer(self, interval=BEAT)
        self._clock.timeout.connect(self._on_clock)
        self.show_step()

    # ---- beginning and ending

    def begin_cycle(self, kind: str) -> None:
        """Begin a cycle over what is selected. Raises Refused."""
        s = self._session
        keys = (
            [k for k in s.selection.ids if k in s.rig.fixtures or k in s.rig.elements]
            if s.selection.kind == "item"
            else []
        )
        try:
            made = steps_of_cycle(s.index, kind, keys)
        except Refused:
            self.kinds[kind].setChecked(self.kind == kind)
            raise
        if not self.speed.commit():
            raise Refused(f"“{self.speed.text()}” is no number of steps a second; they go from 0.02 to 25.")
        speed = read_decimal(self.speed.value or "1", *SPEEDS)
        if kind == "numbers":
            speed = max(speed, 4.0)
            self.speed.set_value("4")
        self.cycle, self.search, self.keys, self.kind = (
            Cycle(made, speed, repeat=self.repeat.isChecked()),
            None,
            keys,
            kind,
        )
        self._note_beginning()

    def begin_search(self) -> None:
        """Begin the halving search. Raises Refused."""
        rig = self._session.rig
        self.where.commit()
        typed = self.where.text().strip()
        wanted = set(read_numbers(typed)) if typed else None
        universes = [u for u in universes_in_order(rig) if wanted is None or rig.universes[u].number in wanted]
        self.search, self.cycle, self.keys, self.kind = (
            begin_halving(self._session.index, universes),
            None,
            [],
            "halving",
        )
        self._note_beginning()

    def _note_beginning(self) -> None:
        self._at = time.monotonic()
        self._clock.start()
        self._send_step()
        self.setFocus()
        if not self._network.output.is_armed:
            self.said.setText("Not armed: nothing leaves this computer. Arm in the head to see it.")
        else:
            self.said.setText("")

    def stop_cycle(self) -> None:
        """End the test; what is held goes out again."""
        self.cycle = self.search = None
        self.kind = ""
        self._clock.stop()
        self._network.meant.levels.end_test()
        self._network.meant.note_touched()
        self.show_step()
        self.changed.emit()

    @property
    def is_running(self) -> bool:
        return self.cycle is not None or self.search is not None

    # ---- walking

    def present_step(self) -> CycleStep | None:
        if self.search is not None:
            return self.search.step_to_show(self._session.index)
        return self.cycle.present_step if self.cycle else None

    def _send_step(self) -> None:
        step = self.present_step()
        if step:
            self._network.meant.levels.start_test(step.hold, self.keys)
            self._network.meant.note_touched()
        self.show_step()
        self.changed.emit()

    def step_by(self, by: int) -> None:
        if self.cycle:
            self.cycle.step_forward() if by > 0 else self.cycle.step_back()
            self._send_step()

    def toggle_hold(self) -> None:
        if self.cycle:
            self.cycle.held = not self.cycle.held
            self.show_step()

    def answer_halving(self, reacts: bool) -> None:
        """The lamp reacts to what is lit, or not."""
        if self.search is None:
            return
        self.search = self.search.with_answer(reacts)
        self._send_step()

    def _on_clock(self) -> None:
        now = time.monotonic()
        passed, self._at = now - self._at, now
        if self.cycle and self.cycle.let_time_pass(min(passed, 1.0)):  # a computer that slept does not skip ahead
            self._send_step()

    def _set_speed(self, typed: str) -> None:
        speed = read_decimal(typed, *SPEEDS)
        if self.cycle:
            self.cycle.set_speed(speed)
        else:
            Cycle([CycleStep("", "")]).set_speed(speed)

    def _change_speed(self, by: float) -> None:
        if self.cycle:
            self.cycle.set_speed(min(25.0, max(0.02, self.cycle.speed * by)))
            self.speed.set_value(f"{self.cycle.speed:.3g}")

    def _set_repeat(self, on: bool) -> None:
        if self.cycle:
            self.cycle.repeat = on

    # ---- what is shown

    def show_step(self) -> None:
        step, cycle, search = self.present_step(), self.cycle, self.search
        for kind, b in self.kinds.items():
            b.setChecked(kind == self.kind)
        self.search_row.setVisible(search is not None and len(search.possible) > 1)
        for b in (self.back, self.hold, self.next):
            b.setVisible(search is None)
            b.setEnabled(cycle is not None)
        self.end.setEnabled(self.is_running)
        for b in (self.passed, self.failed, self.doubt):
            b.setEnabled(bool(self.keys or self._picked_keys()))
        self.hold.setText("Go on" if cycle and cycle.held else "Hold")
        if step is None:
            self.of.setText("")
            self.words.setText("No test runs")
            self.see.setText("Pick lamps above, then choose a cycle. Each step says what must be seen.")
            self.finds.setText("")
            return
        if cycle:
            words = KINDS[self.kind].words
            over = f"{words[:1].upper()}{words[1:]} over {say_count(len(self.keys), 'item')}"
            self.of.setText(f"{over} · step {cycle.at + 1} of {len(cycle.steps)}")
            self.finds.setText(KINDS[self.kind].finds)
        elif search is not None:
            self.of.setText(f"Halving search · {say_count(len(search.possible), 'slot')} possible")
            self.finds.setText("")
        if search is not None and len(search.possible) == 1:
            self.words.setText(f"It answers at {step.words.split(' to ')[0]}")
            self.see.setText("That is the first slot it reacts to. Set it anew, or plan this address.")
        elif search is not None and not search.possible:
            self.words.setText("It answers nowhere here")
            self.see.setText("Look for it in other universes, or at its power and its line.")
        else:
            self.words.setText(step.words)
            self.see.setText(step.see)

    def _picked_keys(self) -> list[str]:
        s = self._session
        return list(s.selection.ids) if s.selection.kind == "item" else []

    def record_result(self, what: TestResult) -> None:
        """Keep what was seen, for everything under test. Raises Refused."""
        s = self._session
        keys = self.keys or self._picked_keys()
        name = KINDS[self.kind].words if self.kind in KINDS else "by hand"
        made = record_tests(
            s.index,
            [subject_of_test("item", k) for k in keys],
            what,
            name,
            name_of_user(),
            s.clock_time(),
            self.note.text(),
        )
        s.amend_record("tests", made)
        self.note.clear()
        self.said.setText(f"{say_count(len(made), 'item')} recorded as {what}.")

    def keyPressEvent(self, e: QKeyEvent) -> None:
        acts = {
            Qt.Key.Key_Right: lambda: self.step_by(1),
            Qt.Key.Key_Left: lambda: self.step_by(-1),
            Qt.Key.Key_Space: self.toggle_hold,
            Qt.Key.Key_P: lambda: self.record_result("passed"),
            Qt.Key.Key_F: lambda: self.record_result("failed"),
            Qt.Key.Key_D: lambda: self.record_result("doubtful"),
            Qt.Key.Key_Plus: lambda: self._change_speed(1.5),
            Qt.Key.Key_Minus: lambda: self._change_speed(1 / 1.5),
            Qt.Key.Key_Y: lambda: self.answer_halving(True),
            Qt.Key.Key_N: lambda: self.answer_halving(False),
            Qt.Key.Key_Escape: self.stop_cycle,
        }
        act = acts.get(Qt.Key(e.key()))
        if act and not e.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier):
            self._session.attempt_act(act)
        else:
            super().keyPressEvent(e)

    def index(self) -> Index:
        return self._session.index
