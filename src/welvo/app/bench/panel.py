"""The panel of the Bench: why it is dark, what puts it right, and every hop on the way."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.bench.solving import KINDS as SOLVERS
from welvo.app.bench.solving import Solving, fitting_solvers
from welvo.app.jobs.live_path import chain_of, look_at
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.fixes import fix_button
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import clear_layout, draw_text_line, make_button, make_label
from welvo.app.widgets.panels import Panel, Title
from welvo.app.widgets.theme import THEME
from welvo.bench.questions import behind_the_facts, questions_about
from welvo.bench.solvers import SeenTest
from welvo.bench.why import diagnose_item, first_cause
from welvo.rig.lookup import name_of_item
from welvo.survey.target import of_item


class Hops(QWidget):
    """The way to the lamp as a vertical list; what lies behind the break is not known, not red."""

    def __init__(self, hops: list[tuple[str, str, str]]) -> None:
        super().__init__()
        self._hops = hops
        self.setFixedHeight(46 * len(hops))
        self.setAccessibleName("; ".join(f"{role} {fact}: {marks.WORDS[mark]}" for mark, role, fact in hops))

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        for n, (mark, role, fact) in enumerate(self._hops):
            y = 46 * n
            if mark == "differs":
                p.fillRect(QRectF(0, y, self.width(), 44), THEME.color("error_wash"))
                p.fillRect(QRectF(0, y, 4, 44), THEME.color("error"))
            if n + 1 < len(self._hops):
                p.setPen(THEME.color("edge"))
                p.drawLine(16, y + 22, 16, y + 46)
            marks.draw_mark(p, mark, 10, y + 6, 12)
            draw_text_line(p, QRectF(36, y + 2, self.width() - 40, 20), role, bold=True)
            draw_text_line(
                p, QRectF(36, y + 21, self.width() - 40, 18), fact, "text" if mark == "differs" else "quiet", 11
            )


class BenchPanel(Panel):
    """Why the first of the picked items is dark: the cause, its fix, then the hops."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__(session, network)
        self._state: object = None
        self._answers: dict[str, tuple[SeenTest, ...]] = {}
        """What was answered for each item, where facts end."""
        for signal in (session.selection_changed, session.observed_changed, network.ticked, network.armed_changed):
            signal.connect(self.refresh)
        session.changed.connect(lambda _: self.refresh())
        self.refresh()

    def forget_answers(self) -> None:
        """Another rig: what was answered was said of the items of the former one."""
        self._answers.clear()

    def refresh(self) -> None:
        s, network = self.session, self.network
        key = s.selection.first_selected if s.selection.kind == "item" else ""
        if not key or (key not in s.rig.fixtures and key not in s.rig.elements):
            if self._state != "nothing":
                self._state = "nothing"
                clear_layout(self.body)
                self.nothing()
            return
        chain = chain_of(s, network, of_item(s.index, key))
        causes = diagnose_item(look_at(s, network, key, chain))
        cause = causes[0] if causes else first_cause(look_at(s, network, key, chain))
        fixes = list(cause.possible_fixes[:2])
        hops: list[tuple[str, str, str]] = []
        broken = False
        for n, hop in enumerate(chain.hops):
            mark: str = "matches" if n == 0 else chain.joints[n - 1].mark
            if n == cause.hop and cause.certain:
                mark, broken = "differs", True
            elif broken:
                mark = "unknown"
            hops.append((mark, hop.role.capitalize(), f"{hop.value} · {hop.fact}" if hop.fact else hop.value))
        known = self._answers.get(key, ())
        state = (
            key,
            causes[:4],
            hops,
            network.meant.levels.test is None,
            [x.label for x in fixes],
            known,
            THEME.name,
            THEME.step,
        )
        if state == self._state:
            return
        self._state = state
        clear_layout(self.body)
        who = name_of_item(s.rig, key)
        self.body.addWidget(Title(f"Why is {who} dark?" if cause.certain else f"The way to {who}"))
        self.body.addWidget(make_label(cause.sentence, 13, True, wrap=True))
        for n, fix in enumerate(fixes):
            # while a test runs, its next step is what is to be done next
            self.body.addWidget(fix_button(s, network, fix, primary=n == 0 and network.meant.levels.test is None))
        if cause.proof:
            self.body.addWidget(make_label(cause.proof, 11, wrap=True))
        if cause.do and not fixes:
            self.body.addWidget(make_label(cause.do, 13, wrap=True))
        for other in causes[1:4]:
            self.body.addWidget(make_label(f"Then: {other.sentence}", 11, quiet=True, wrap=True))
            for fix in other.fixes:
                self.body.addLayout(flow_of_widgets(fix_button(s, network, fix), None))
        if not causes and network.output.is_armed:
            self._ask_question(key)
        offers = [
            make_button(words, partial(self._open_solver, kind, key), help_text)
            for kind, (words, help_text) in SOLVERS.items()
            if kind in fitting_solvers(s.index, key)
        ]
        self.body.addWidget(make_label("Find out by light", 11, quiet=True))
        for n in range(0, len(offers), 2):
            self.body.addLayout(flow_of_widgets(*offers[n : n + 2], None, spacing=4))
        self.body.addWidget(Hops(hops))
        self.body.addStretch(1)

    def _ask_question(self, key: str) -> None:
        """Where facts end: one question, chosen for what its answer decides; what is left, and what to do."""
        index = self.session.index
        solver = behind_the_facts(index, key)
        for sight in self._answers.get(key, ()):
            solver = solver.after_sight(sight.test, sight.seen)
        asked = {q.name: q for q in questions_about(index, key)}
        test = solver.next_test
        if test and len(solver.still_possible) > 1:
            self.body.addWidget(make_label(asked[test].words, 13, True, wrap=True))
            for answer in asked[test].answers:
                left = solver.after_sight(test, answer).still_possible
                words = "Then: " + ("; ".join(p.words for p in left[:3]) or "none of these") + "."
                self.body.addWidget(make_button(answer, partial(self._answer_question, key, test, answer), words))
        self.body.addWidget(make_label(solver.words_of_verdict, 13, len(solver.still_possible) == 1, wrap=True))
        if len(solver.still_possible) == 1:
            self.body.addWidget(make_label(solver.still_possible[0].do, 13, wrap=True))
        for sight in solver.sights:
            back = make_button(
                "Take back", partial(self._take_back, key, sight.test), "This answer does not count any more."
            )
            self.body.addLayout(
                flow_of_widgets(make_label(f"{sight.test}: {sight.seen}", 11, quiet=True, wrap=True), None, back)
            )

    def _answer_question(self, key: str, test: str, seen: str) -> None:
        kept = tuple(a for a in self._answers.get(key, ()) if a.test != test)
        self._answers[key] = (*kept, SeenTest(test, seen))
        self.refresh()

    def _take_back(self, key: str, test: str) -> None:
        self._answers[key] = tuple(a for a in self._answers.get(key, ()) if a.test != test)
        self.refresh()

    def _open_solver(self, kind: str, key: str) -> None:
        Solving(self.session, self.network, kind, key, self, self.network.meant.note_touched).exec()
