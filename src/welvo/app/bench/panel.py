"""The panel of the Bench: why it is dark, what puts it right, and every hop on the way."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.bench.solving import KINDS as SOLVERS
from welvo.app.bench.solving import Solving, fitting
from welvo.app.jobs.live_path import chain_of, look_at
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.fixes import run_fix
from welvo.app.widgets.painting import button, clear, label, row, text
from welvo.app.widgets.panels import Panel, Title
from welvo.app.widgets.theme import THEME
from welvo.bench.questions import behind_the_facts, questions
from welvo.bench.solvers import Sight
from welvo.bench.why import diagnose, why
from welvo.rig.lookup import call
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
            marks.draw(p, mark, 10, y + 6, 12)
            text(p, QRectF(36, y + 2, self.width() - 40, 20), role, bold=True)
            text(p, QRectF(36, y + 21, self.width() - 40, 18), fact, "text" if mark == "differs" else "quiet", 11)


class BenchPanel(Panel):
    """Why the first of the picked items is dark: the cause, its fix, then the hops."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__(session, network)
        self._state: object = None
        self._answers: dict[str, tuple[Sight, ...]] = {}
        """What was answered for each item, where facts end."""
        for signal in (session.selection_changed, session.observed_changed, network.ticked, network.armed_changed):
            signal.connect(self.refresh)
        session.changed.connect(lambda _: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        s, network = self.session, self.network
        key = s.selection.first if s.selection.kind == "item" else ""
        if not key or (key not in s.rig.fixtures and key not in s.rig.elements):
            if self._state != "nothing":
                self._state = "nothing"
                clear(self.body)
                self.nothing()
            return
        chain = chain_of(s, network, of_item(s.index, key))
        causes = diagnose(look_at(s, network, key, chain))
        cause = causes[0] if causes else why(look_at(s, network, key, chain))
        fixes = list(cause.fixes[:2])
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
        state = (key, causes[:4], hops, [x.label for x in fixes], known, THEME.name, THEME.step)
        if state == self._state:
            return
        self._state = state
        clear(self.body)
        who = call(s.rig, key)
        self.body.addWidget(Title(f"Why is {who} dark?" if cause.certain else f"The way to {who}"))
        self.body.addWidget(label(cause.sentence, 13, True, wrap=True))
        for fix in fixes:
            self.body.addWidget(
                button(
                    fix.label,
                    lambda fix=fix: run_fix(s, network, fix),
                    "; ".join(f"{a}: {b} → {c}" for a, b, c in fix.changes),
                    primary=True,
                )
            )
        if cause.proof:
            self.body.addWidget(label(cause.proof, 11, wrap=True))
        if cause.do and not fixes:
            self.body.addWidget(label(cause.do, 13, wrap=True))
        for other in causes[1:4]:
            self.body.addWidget(label(f"Then: {other.sentence}", 11, quiet=True, wrap=True))
        if not causes and network.output.armed:
            self._ask(key)
        offers = [
            button(words, partial(self._solve, kind, key), help_text)
            for kind, (words, help_text) in SOLVERS.items()
            if kind in fitting(s.index, key)
        ]
        self.body.addWidget(label("Find out by light", 11, quiet=True))
        for n in range(0, len(offers), 2):
            self.body.addLayout(row(*offers[n : n + 2], None, spacing=4))
        self.body.addWidget(Hops(hops))
        self.body.addStretch(1)

    def _ask(self, key: str) -> None:
        """Where facts end: one question, chosen for what its answer decides; what is left, and what to do."""
        index = self.session.index
        solver = behind_the_facts(index, key)
        for sight in self._answers.get(key, ()):
            solver = solver.after(sight.test, sight.seen)
        asked = {q.name: q for q in questions(index, key)}
        test = solver.next_test
        if test and len(solver.left) > 1:
            self.body.addWidget(label(asked[test].words, 13, True, wrap=True))
            for answer in asked[test].answers:
                left = solver.after(test, answer).left
                words = "Then: " + ("; ".join(p.words for p in left[:3]) or "none of these") + "."
                self.body.addWidget(button(answer, partial(self._answer, key, test, answer), words))
        self.body.addWidget(label(solver.verdict, 13, len(solver.left) == 1, wrap=True))
        if len(solver.left) == 1:
            self.body.addWidget(label(solver.left[0].do, 13, wrap=True))
        for sight in solver.sights:
            back = button(
                "Take back", partial(self._take_back, key, sight.test), "This answer does not count any more."
            )
            self.body.addLayout(row(label(f"{sight.test}: {sight.seen}", 11, quiet=True, wrap=True), None, back))

    def _answer(self, key: str, test: str, seen: str) -> None:
        kept = tuple(a for a in self._answers.get(key, ()) if a.test != test)
        self._answers[key] = (*kept, Sight(test, seen))
        self.refresh()

    def _take_back(self, key: str, test: str) -> None:
        self._answers[key] = tuple(a for a in self._answers.get(key, ()) if a.test != test)
        self.refresh()

    def _solve(self, kind: str, key: str) -> None:
        Solving(self.session, self.network, kind, key, self, self.network.meant.touch).exec()
