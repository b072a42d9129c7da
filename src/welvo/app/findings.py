"""The findings drawer: grouped by cause or place, each explains itself, goes to its place and offers its fix."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from PySide6.QtCore import QEvent, QObject, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QApplication, QFrame, QPushButton, QScrollArea, QVBoxLayout, QWidget

from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import dialogs, marks
from welvo.app.widgets.fields import LineField, set_help
from welvo.app.widgets.fixes import IN_DRAWER, fix_button
from welvo.app.widgets.flow import flow_of_widgets, keep_least
from welvo.app.widgets.literal import literal_text
from welvo.app.widgets.painting import (
    RIGHT,
    break_lines,
    clear_layout,
    column_of_widgets,
    draw_text_block,
    draw_text_line,
    finish_building,
    make_button,
    make_label,
    width_of,
)
from welvo.app.widgets.tables import copy_cells
from welvo.app.widgets.theme import THEME
from welvo.checks.checker import Report
from welvo.checks.registry import RULES, Finding
from welvo.checks.together import fix_for_all, in_bundles
from welvo.rig.edits import end_waiver, waive_finding
from welvo.rig.notation import say_count


class FindingRow(QWidget):
    """One finding as a line of the list."""

    clicked = Signal()

    def __init__(self, finding: Finding, waived: bool = False) -> None:
        super().__init__()
        self.finding = finding
        self._waived = waived
        self._lines = 1
        self.setFixedHeight(32)
        self.setToolTip(literal_text(finding.title))
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(f"{finding.severity}: {finding.title}")

    def resizeEvent(self, _: QResizeEvent) -> None:
        """A sentence that is too long for one line takes more, with the place below it: it is what was found."""
        self._lines = 1 if width_of(self.finding.title) <= self._room() else 2
        words = break_lines(self.finding.title, self.width() - 56).count("\n") + 1
        line = THEME.metrics(13).lineSpacing()
        high = 32 + THEME.step if self._lines == 1 else line * words + 30 + THEME.step
        if self.minimumHeight() != high:
            self.setFixedHeight(high)

    def _room(self) -> int:
        """How wide the sentence may be where place and code stand behind it."""
        behind = min(width_of(self.finding.where, 11), THEME.scale_length(140)) + width_of(self.finding.code, 11)
        return self.width() - 40 - behind - 48

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w, h, token = self.width(), self.height(), "quiet" if self._waived else "text"
        p.fillRect(0, h - 1, w, 1, THEME.color("line"))
        if self.hasFocus():
            p.setPen(THEME.color("accent"))
            p.drawRect(0, 0, w - 1, h - 2)
        marks.draw_mark(p, self.finding.severity, 16, 9, 14, none=self._waived)
        below = 24 + THEME.step
        y, high = (0, h) if self._lines == 1 else (h - below, below)
        code = width_of(self.finding.code, 11) + 2
        if self._lines == 1:
            draw_text_line(p, QRectF(40, 0, self._room() + 2, h), self.finding.title, token)
        else:
            draw_text_block(p, QRectF(40, 4, w - 56, h - below - 4), self.finding.title, token)
        start = 40 + self._room() + 8 if self._lines == 1 else 40
        place = QRectF(start, y, w - 32 - code - start, high)
        draw_text_line(p, place, self.finding.where, "quiet", 11, align=RIGHT)
        draw_text_line(p, QRectF(w - 16 - code, y, code, high), self.finding.code, "quiet", 11, align=RIGHT)

    def mousePressEvent(self, _: QMouseEvent) -> None:
        self.clicked.emit()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.clicked.emit()
        else:
            super().keyPressEvent(e)


class BundleRow(FindingRow):
    """Many findings of one kind as one line, which opens."""

    def __init__(self, members: list[Finding], is_open: bool) -> None:
        first = members[0]
        count = f"{len(members)} {'shown' if is_open else 'of them'}"
        super().__init__(replace(first, title=RULES[first.code].title, where=count))
        self.members = members
        self.setAccessibleName(f"{first.severity}: {RULES[first.code].title}, {say_count(len(members), 'finding')}")
        self.setToolTip("Click shows them one by one." if not is_open else "Click shows them as one line.")


class OpenedFinding(QFrame):
    """The open finding: its reason, what the fix changes, the fix, and the way there."""

    go = Signal(object)

    def __init__(self, session: Session, network: Network, finding: Finding, in_bundle: bool = False) -> None:
        """`in_bundle` says that one fix for all stands above it, which is the accented one."""
        super().__init__()
        self._finding = finding
        c = THEME.color
        self.setObjectName("opened")
        self.setStyleSheet(
            f"#opened {{ background: {c('station').name()}; border-left: 4px solid {c(finding.severity).name()}; }}"
        )
        body = column_of_widgets((12, 10, 16, 12), 6)
        title = make_label(finding.title, 13, True, wrap=True)
        code = make_label(finding.code, 11, quiet=True)
        head = flow_of_widgets(marks.MarkLabel(finding.severity), title, code)
        body.addLayout(head)
        body.addWidget(make_label(finding.reason, 11, wrap=True))
        why = RULES[finding.code]
        body.addWidget(make_label(why.matters, 11, quiet=True, wrap=True))
        shown = finding.possible_fixes[0] if finding.possible_fixes else None
        if shown:
            body.addWidget(make_label("What the fix changes", 11, quiet=True))
            for what, old, new in shown.changes:
                body.addWidget(_ChangeLine(what, old, new))
        buttons: list[QWidget | int | None] = []
        for n, fix in enumerate(finding.possible_fixes[:5]):
            buttons.append(fix_button(session, network, fix, primary=n == 0 and not in_bundle, room=IN_DRAWER))
        if len(buttons) > 1:
            for b in buttons:
                body.addLayout(flow_of_widgets(b, None))
            buttons = []
        if finding.goes_to:
            buttons.append(make_button("Go there", lambda: self.go.emit(finding.goes_to)))
        if finding.severity == "error":
            buttons += [None, make_label("an error cannot be waived", 11, quiet=True)]
        else:
            buttons += [
                make_button(
                    "Waive…",
                    lambda: self._waive_finding(session),
                    "Accept it with a reason. It wakes when its facts change.",
                ),
                None,
            ]
        body.addLayout(flow_of_widgets(*buttons))
        if not finding.possible_fixes:
            body.insertWidget(3, make_label("To put it right: " + why.put_right, 11, wrap=True))
        self.setLayout(body)

    def _waive_finding(self, session: Session) -> None:
        f = self._finding
        dialogs.ask_line(
            self,
            "Waive",
            f"Why is “{f.title}” fine here?",
            lambda reason: session.make_edit(waive_finding, f.code, f.subject, f.fingerprint_of_facts, reason),
            go="Waive",
            help_text="The reason, for whoever reads this later. It wakes when its facts change.",
        )


class _ChangeLine(QWidget):
    def __init__(self, what: str, old: str, new: str) -> None:
        super().__init__()
        self._parts = (what, old, new)
        self.setFixedHeight(26 + THEME.step)
        self.setAccessibleName(f"{what}: {old} becomes {new}")
        self.setToolTip(literal_text(f"{what}: {old} becomes {new}"))

    def _is_wide(self) -> bool:
        """Whether what is changed, and from what to what, need a line each."""
        what, old, new = self._parts
        return width_of(what, 11) + width_of(old) + width_of(new, 13, True) + 66 > self.width()

    def resizeEvent(self, _: QResizeEvent) -> None:
        high = (26 + THEME.step) * (2 if self._is_wide() else 1)
        if self.minimumHeight() != high:
            self.setFixedHeight(high)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w = self.width()
        p.fillRect(self.rect().adjusted(0, 1, 0, -1), THEME.color("field"))
        what, old, new = self._parts
        line = 26 + THEME.step
        y, left = (line, 20.0) if self._is_wide() else (0, width_of(what, 11) + 24.0)
        draw_text_line(p, QRectF(8, 0, w - 14 if y else left - 16, line), what, size=11)
        wide = min(width_of(new, 13, True) + 2.0, (w - left - 50) / 2 if y else w)
        before = min(width_of(old) + 2.0, w - left - wide - 48)
        x = max(left, w - 10 - wide - 36 - before)
        draw_text_line(p, QRectF(x, y, before, line), old, "quiet", align=RIGHT)
        p.setPen(THEME.color("quiet"))
        at, middle = int(x + before + 6), y + line // 2
        p.drawLine(at, middle, at + 24, middle)
        p.drawLine(at + 19, middle - 4, at + 24, middle)
        p.drawLine(at + 19, middle + 4, at + 24, middle)
        draw_text_line(p, QRectF(at + 30, y, w - at - 34, line), new, bold=True)


class Drawer(QFrame):
    """600 wide from the right, over the panel and part of the station."""

    go = Signal(object)
    closed = Signal()

    def __init__(self, session: Session, network: Network, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self._network = network
        self.setObjectName("drawer")
        self.setAccessibleName("Findings")
        self.by = "cause"
        self.open_subject: tuple[str, str] | None = None
        self._open_bundles: set[tuple[str, str]] = set()
        """Groups and codes whose findings are shown one by one."""
        self._at = 0
        """Which of the findings shown was gone to last, from 0."""
        self._shown: object = None
        self._report_shown: Report | None = None
        """What was told of last: while it stays the same, and how it is shown, nothing is built anew."""
        self.filter = LineField()
        self.filter.setPlaceholderText("Filter by word or code")
        keep_least(self.filter, 190)
        set_help(self.filter, "Shows only findings with this word or code. Hides the others; they still count.")
        self.filter.textChanged.connect(lambda _: self.refresh())
        self._by_buttons: dict[str, QPushButton] = {}
        bar: list[QWidget | int | None] = [make_label("Findings", 16, True), 8, self.filter, None]
        for key, words in (("cause", "By cause"), ("place", "By place"), ("waived", "Waived")):
            b = make_button(words, lambda key=key: self._set_by(key))
            b.setProperty("segment", True)
            b.setCheckable(True)
            self._by_buttons[key] = b
            bar.append(b)
        bar.append(
            make_button("Copy", self.copy_findings, "Puts the findings shown here on the clipboard, as a table.")
        )
        top = flow_of_widgets(*bar, spacing=4)
        top.setContentsMargins(16, 10, 12, 6)
        self._body = QVBoxLayout()
        self._body.setContentsMargins(0, 0, 0, 16)
        self._body.setSpacing(0)
        inner = QWidget()
        inner.setLayout(self._body)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setWidget(inner)
        self._scroll.installEventFilter(self)  # arrows go from finding to finding instead of scrolling
        layout = column_of_widgets(spacing=0)
        layout.addLayout(top)
        layout.addWidget(self._scroll, 1)
        self.setLayout(layout)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self.refresh)
        self.hide()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("raised"))
        p.fillRect(0, 0, 1, self.height(), THEME.color("edge"))

    def _set_by(self, key: str) -> None:
        self.by = key
        self.refresh()

    def forget(self) -> None:
        """Another rig: no filter of the former one hides its findings."""
        self.filter.clear()
        self.open_subject = None
        self._open_bundles.clear()
        self.refresh()

    def listed_findings(self) -> list[Finding]:
        word = self.filter.text().strip().lower()
        report = self._session.report
        source: Iterable[Finding] = [f for f, _ in report.waived] if self.by == "waived" else report.findings
        found = [f for f in source if not word or word in f"{f.code} {f.title} {f.where} {f.reason}".lower()]
        if self.by == "waived":
            return found
        return [f for members in self._in_groups(found).values() for bundle in in_bundles(members) for f in bundle]

    def _in_groups(self, found: list[Finding]) -> dict[str, list[Finding]]:
        groups: dict[str, list[Finding]] = {}
        for f in found:
            groups.setdefault((f.cause or f.code) if self.by != "place" else f.where, []).append(f)
        return groups

    def copy_findings(self) -> None:
        rows = [(f.code, str(f.severity), f.where, f.title, f.reason) for f in self.listed_findings()]
        self._session.say(copy_cells([("Code", "Severity", "Where", "Finding", "Reason"), *rows]))

    def refresh(self) -> None:
        for key, b in self._by_buttons.items():
            b.setChecked(key == self.by)
        if not self.isVisible():
            return
        waived = len(self._session.report.waived)
        self._by_buttons["waived"].setText(f"Waived {waived}" if waived else "Waived")
        report, before = self._session.report, self._report_shown
        same = before is report or (
            before is not None and (before.findings, before.waived) == (report.findings, report.waived)
        )
        bundles = frozenset(self._open_bundles)
        state = (self.by, self.open_subject, bundles, self.filter.text(), THEME.name, THEME.step)
        self._report_shown = report
        if same and state == self._shown:
            return
        self._shown = state
        found = self.listed_findings()
        at = self._scroll.verticalScrollBar().value()
        clear_layout(self._body)
        if not found:
            self._say_nothing_found()
        for name, members in self._in_groups(found).items():
            items = len({t for f in members for t in f.items})
            extra = f" · {say_count(items, 'fixture')}" if items > 1 and self.by == "cause" else ""
            head = make_label(name + extra, 11, quiet=True, wrap=True)
            head.setContentsMargins(16, 10, 16, 4)
            self._body.addWidget(head)
            for bundle in in_bundles(members) if self.by != "waived" else [[f] for f in members]:
                self._add_bundle(name, bundle)
        self._body.addStretch(1)
        # Without this the new rows would stand squeezed into the old height until the next turn of the event loop.
        finish_building()
        self._body.activate()
        inner, view = self._scroll.widget(), self._scroll.viewport()
        if inner is not None:
            inner.resize(view.width(), max(view.height(), self._body.totalMinimumSize().height()))
        self._scroll.verticalScrollBar().setValue(at)

    def _add_bundle(self, group: str, members: list[Finding]) -> None:
        """A finding, or many of one kind as one line with one fix for all; opened, they stand below it."""
        if len(members) == 1:
            self._add_finding(members[0])
            return
        key = (group, members[0].code)
        is_open = key in self._open_bundles or any((f.code, f.subject) == self.open_subject for f in members)
        line = BundleRow(members, is_open)
        line.clicked.connect(lambda: self._turn_bundle(key, is_open))
        self._body.addWidget(line)
        if not is_open:
            return
        fix = fix_for_all(members)
        if fix is not None:
            act = flow_of_widgets(fix_button(self._session, self._network, fix, primary=True, room=IN_DRAWER), None)
            act.setContentsMargins(40, 6, 16, 6)
            self._body.addLayout(act)
        for f in members:
            self._add_finding(f, in_bundle=fix is not None)

    def _turn_bundle(self, key: tuple[str, str], is_open: bool) -> None:
        """Open a bundle, or close it; an opened finding within closes with it."""
        if is_open:
            self._open_bundles.discard(key)
            self.open_subject = None
        else:
            self._open_bundles.add(key)
        self.refresh()

    def _add_finding(self, f: Finding, in_bundle: bool = False) -> None:
        if self.by == "waived":
            why = next(w for x, w in self._session.report.waived if x is f)
            line = FindingRow(f, True)
            line.setToolTip(literal_text(f"Waived: {why}. Click wakes it."))
            line.clicked.connect(lambda f=f: self._session.attempt_edit(end_waiver, f.code, f.subject))
            self._body.addWidget(line)
        elif (f.code, f.subject) == self.open_subject:
            opened = OpenedFinding(self._session, self._network, f, in_bundle)
            opened.go.connect(self.go)
            self._body.addWidget(opened)
        else:
            line = FindingRow(f)
            line.clicked.connect(lambda f=f: self.open_finding(f))
            self._body.addWidget(line)

    def _say_nothing_found(self) -> None:
        total = len(self._session.report.findings)
        if self.filter.text() and self.by != "waived":
            words = (f"No finding matches “{self.filter.text()}”", f"{total} are hidden by the filter.")
        elif self.by == "waived":
            words = ("Nothing is waived", "A warning or note can be waived with a reason; it then stands here.")
        else:
            words = (
                "Nothing is wrong",
                f"{len(RULES)} checks ran on {say_count(len(self._session.rig.fixtures), 'fixture')} just now. What no "
                "check can see: whether the lamp lights.",
            )
        for words_, size in zip(words, (22, 13)):
            made = make_label(words_, size, size == 22, quiet=size == 13, wrap=True)
            made.setContentsMargins(16, 16 if size == 22 else 4, 16, 0)
            self._body.addWidget(made)

    def open_finding(self, f: Finding) -> None:
        """Open one finding and go to its place."""
        focus = QApplication.focusWidget()
        by_keys = focus is not None and self.isAncestorOf(focus)
        self.open_subject = (f.code, f.subject)
        self.refresh()
        self.go.emit(f.goes_to)
        if by_keys:
            self._focus_opened()

    def step_to_finding(self, back: bool) -> None:
        """F8: the next or previous finding, and its place."""
        found = self.listed_findings()
        if not found:
            return
        now = next((i for i, f in enumerate(found) if (f.code, f.subject) == self.open_subject), -1)
        if now >= 0:
            self._at = (now + (-1 if back else 1)) % len(found)
        else:  # the one that was open is put right: the next stands in its place now
            self._at = min(max(0, self._at - back), len(found) - 1) if self.open_subject else -1 if back else 0
        self.open_finding(found[self._at])
        self._focus_opened()

    def _focus_opened(self) -> None:
        """Then Enter does the first fix of the opened finding, or goes there where there is none."""
        opened = next((w for w in self._shown_rows() if isinstance(w, OpenedFinding)), None)
        acts = opened.findChildren(QPushButton) if opened else []
        if opened and acts:
            finish_building()
            opened.show()  # else it is shown in the next turn of the event loop only, and takes no focus before
            self._scroll.ensureWidgetVisible(opened)
            acts[0].setFocus()

    def toggle_drawer(self) -> None:
        if self.isVisible():
            self.hide()
            self.closed.emit()
        else:
            self.show()
            self.raise_()
            self._shown = None
            self.refresh()
            self.filter.setFocus()

    def eventFilter(self, watched: QObject, e: QEvent) -> bool:
        if watched is self._scroll and isinstance(e, QKeyEvent) and e.type() == QEvent.Type.KeyPress:
            if e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                self.keyPressEvent(e)
                return True
        return super().eventFilter(watched, e)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        focus = QApplication.focusWidget()
        if e.key() == Qt.Key.Key_Escape:
            self.hide()
            self.closed.emit()
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and isinstance(focus, QPushButton):
            focus.click()
        elif e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self._walk_findings(1 if e.key() == Qt.Key.Key_Down else -1)
        else:
            super().keyPressEvent(e)

    def _shown_rows(self) -> list[FindingRow | OpenedFinding]:
        items = (self._body.itemAt(n) for n in range(self._body.count()))
        found = (item.widget() for item in items if item)
        return [w for w in found if isinstance(w, FindingRow | OpenedFinding)]

    def _walk_findings(self, by: int) -> None:
        """The arrows: from finding to finding, without going to their places; Enter opens one."""
        rows: list[QWidget] = []
        for w in self._shown_rows():
            rows += w.findChildren(QPushButton)[:1] if isinstance(w, OpenedFinding) else [w]
        focus = QApplication.focusWidget()
        now = next((n for n, w in enumerate(rows) if w is focus), -1 if by > 0 else len(rows))
        if 0 <= now + by < len(rows):
            rows[now + by].setFocus(Qt.FocusReason.TabFocusReason)
            self._scroll.ensureWidgetVisible(rows[now + by])
        elif now + by < 0:
            self.filter.setFocus()
