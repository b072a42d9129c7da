"""The detail panel: name line, what it is, the fields, findings with fixes, every way it is said."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QFrame, QScrollArea, QVBoxLayout, QWidget

from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.fixes import fix_button
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import Form, Row, Subject
from welvo.app.widgets.literal import literal_text
from welvo.app.widgets.painting import (
    RIGHT,
    break_lines,
    clear_layout,
    column_of_widgets,
    draw_text_block,
    draw_text_line,
    fitting_size,
    make_label,
    width_of,
)
from welvo.app.widgets.theme import THEME
from welvo.app.widgets.tints import draw_spine
from welvo.checks.registry import Finding

Rows = tuple[tuple[str, str], ...]
"""Lines of a table in a panel: what is said, and what it says."""


class Ways(QWidget):
    """A table of all the ways one number is said, a line each; two lines where both sides are long."""

    def __init__(self, title: str, ways: Rows) -> None:
        super().__init__()
        self.say(title, ways)

    def say(self, title: str, ways: Rows) -> None:
        """Another title and other lines."""
        self._title, self._ways = title, ways
        self.setAccessibleName("; ".join(f"{a} {b}" for a, b in ways))
        self.setToolTip(literal_text("\n".join(f"{a}: {b}" for a, b in ways)))
        self._fit()
        self.update()

    def _line(self) -> int:
        return 24 + THEME.step

    def _needs_two(self, a: str, b: str) -> bool:
        return width_of(a, 11) + 10 + width_of(b) > self.width()

    def _lines_of(self, a: str, b: str) -> int:
        if not self._needs_two(a, b):
            return 1
        return self._lines_of_label(a) + 1 + break_lines(b, self.width() - 12).count("\n")

    def _lines_of_label(self, a: str) -> int:
        return 1 + break_lines(a, self.width() - 2, 11).count("\n")

    def _fit(self) -> None:
        high = self._line() * (1 + sum(self._lines_of(a, b) for a, b in self._ways))
        if self.minimumHeight() != high:
            self.setFixedHeight(high)

    def resizeEvent(self, _: QResizeEvent) -> None:
        self._fit()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w, line = self.width(), self._line()
        draw_text_line(p, QRectF(0, 0, w, line - 4), self._title, "quiet", 11)
        y = line - 2
        for a, b in self._ways:
            if self._needs_two(a, b):
                label = self._lines_of_label(a)
                more = self._lines_of(a, b) - label
                draw_text_block(p, QRectF(0, y, w, line * label), a, "quiet", 11)
                draw_text_block(p, QRectF(10, y + line * label, w - 10, line * more), b, align=RIGHT)
                y += line * (label + more - 1)
            else:
                wide = width_of(b) + 2
                draw_text_line(p, QRectF(0, y, w - wide - 4, line), a, "quiet", 11)
                draw_text_line(p, QRectF(w - wide, y, wide, line), b, align=RIGHT)
            y += line
            p.fillRect(QRectF(0, y - 1, w, 1), THEME.color("line"))


class Title(QWidget):
    """The name line: spine, number or name at 22, the rest beside it, or below where there is no room beside."""

    def __init__(self, big: str, beside: str = "", tint: int | None = None) -> None:
        super().__init__()
        self.say(big, beside, tint)

    def say(self, big: str, beside: str = "", tint: int | None = None) -> None:
        """Another name."""
        self._big, self._beside, self._tint = big, beside, tint
        self.setAccessibleName(f"{big} {beside}")
        self.setToolTip(literal_text(f"{big} {beside}".strip()))
        self._fit()
        self.update()

    @property
    def _left(self) -> int:
        return 0 if self._tint is None else 12

    def _is_below(self) -> bool:
        wide = width_of(self._big, 22, True) + 8 + width_of(self._beside)
        return bool(self._beside) and wide > self.width() - self._left

    def _fit(self) -> None:
        high = 30 + THEME.step + (20 + THEME.step if self._is_below() else 0)
        if self.minimumHeight() != high:
            self.setFixedHeight(high)

    def resizeEvent(self, _: QResizeEvent) -> None:
        self._fit()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        if self._tint is not None:
            draw_spine(p, 0, 3, 22, self._tint, THEME.colours_of_tint(self._tint)[0])
        x, high = self._left, 28 + THEME.step
        room = self.width() - x
        size = fitting_size(self._big, room, (22, 16))
        draw_text_line(p, QRectF(x, 0, room, high), self._big, size=size, bold=True)
        if self._is_below():
            draw_text_line(p, QRectF(x, high, room, 20 + THEME.step), self._beside)
        elif self._beside:
            wide = width_of(self._big, 22, True) + 8
            draw_text_line(p, QRectF(x + wide, 5, room - wide, 20 + THEME.step), self._beside)


def finding_card(session: Session, network: Network, finding: Finding) -> QWidget:
    """A card with a bar in the severity's colour, the reason and the fixes."""
    card = QFrame()
    card.setObjectName("card")
    c = THEME.color
    card.setStyleSheet(
        f"#card {{ background: {c('station').name()}; border-left: 4px solid {c(finding.severity).name()}; }}"
    )
    body = column_of_widgets((10, 8, 10, 10), 6)
    head = flow_of_widgets(marks.MarkLabel(finding.severity), make_label(finding.title, 13, True, wrap=True), spacing=6)
    body.addLayout(head)
    body.addWidget(make_label(finding.reason, 11, wrap=True))
    for fix in finding.possible_fixes[:5]:
        body.addWidget(fix_button(session, network, fix))
    card.setLayout(body)
    return card


class Panel(QScrollArea):
    """Base of all panels: a column that is built anew for another selection and refreshed for another value."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self.session = session
        self.network = network
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Details")
        inner = QWidget()
        inner.setObjectName("panelInner")
        self.body = QVBoxLayout(inner)
        self.body.setContentsMargins(16, 12, 12, 16)
        self.body.setSpacing(8)
        self.setWidget(inner)
        self.restyle()

    def restyle(self) -> None:
        ground = THEME.color("raised").name()
        self.setStyleSheet(f"#panelInner {{ background: {ground}; }}")

    def nothing(self) -> None:
        self.body.addWidget(Title("Nothing selected"))
        self.body.addWidget(
            make_label(
                "What you select stands here with its settings, its findings and every way to say its place.",
                11,
                quiet=True,
                wrap=True,
            )
        )
        self.body.addStretch(1)


class FormPanel(Panel):
    """A panel made of forms and of parts that are shown anew: `refresh` brings all of them up to date."""

    tries = False
    """Whether its forms edit the rig and nothing else, so that what they would do can be tried and shown."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__(session, network)
        self.refreshers: list[Callable[[], None]] = []

    def new_form(
        self,
        subject: Subject,
        kind: type[msgspec.Struct] | None = None,
        to_all: Callable[[Row, object], object] | None = None,
    ) -> Form:
        """A form in the panel's column, over a subject whose value is of `kind`."""
        return Form(self.body, subject, kind, to_all, self.refreshers, tries=self.tries)

    def shown(self, make: Callable[[QVBoxLayout], None]) -> None:
        """A part that is made anew with every refresh."""
        holder = QVBoxLayout()
        holder.setSpacing(8)
        self.body.addLayout(holder)

        def again() -> None:
            clear_layout(holder)
            make(holder)

        self.refreshers.append(again)

    def table(self, title: str, rows: Callable[[], Rows]) -> None:
        """A table of what is said of the subject, made again only when it says something else."""
        holder = QVBoxLayout()
        self.body.addLayout(holder)
        shown: list[Rows] = []

        def again() -> None:
            now = rows()
            if shown and shown[-1] == now:
                return
            shown[:] = [now]
            item = holder.itemAt(0)
            table = item.widget() if item else None
            if now and isinstance(table, Ways):
                table.say(title, now)
                return
            clear_layout(holder)
            if now:
                holder.addWidget(Ways(title, now))

        self.refreshers.append(again)

    def words(self, text: str, *, quiet: bool = True, bold: bool = False, size: int = 11) -> None:
        self.body.addWidget(make_label(text, size, bold, quiet=quiet, wrap=True))

    def rule(self) -> None:
        """A hairline between two parts."""
        line = QFrame()
        line.setFixedHeight(1)
        line.setStyleSheet(f"background: {THEME.color('line').name()};")
        self.body.addWidget(line)

    def refresh(self) -> None:
        for again in self.refreshers:
            again()
