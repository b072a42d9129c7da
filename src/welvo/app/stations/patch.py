"""The Patch station: tapes above, the roll below."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QDialog, QLineEdit, QSplitter, QStackedWidget, QWidget

from welvo.app.fields import Choice, Field, set_help
from welvo.app.paint import RIGHT, box, button, column, label, row, text
from welvo.app.panel import PatchPanel, field_row
from welvo.app.session import Selection, Session
from welvo.app.stations.roll import Roll
from welvo.app.stations.tapes import NAMED, Tapes
from welvo.app.wire import Wire
from welvo.patch.allocate import Wish, add_fixtures, read_wish
from welvo.rig.counting import how_many_fit
from welvo.rig.edits import add_element, add_universe
from welvo.rig.notation import NotationError, plural, read_place, read_series
from welvo.rig.patched import Element, Place


class AddFixtures(QDialog):
    """How many of what, from which number, where the first one starts. Says what will happen before it does."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Add fixtures")
        self.setMinimumWidth(460)
        body = column((20, 16, 20, 16), 10)
        body.addWidget(label("Add fixtures", 16, True))
        rig = session.rig
        self._profile = Choice(
            "Which fixture type. It must be in the rig; make it in Profiles first.", lambda _: self._modes()
        )
        self._profile.set_options(
            [(k, f"{p.maker} {p.name}".strip()) for k, p in rig.profiles.items()], next(iter(rig.profiles), "")
        )
        self._mode = Choice("Which mode the lamps stand in. Their own menu must say the same.", lambda _: self._say())
        self._count = self._line("12", "How many to add, 1 to 10 000.", 84)
        self._number = self._line(
            str(max((f.number for f in rig.fixtures.values()), default=100) + 1),
            "The first number; the others count up from it.",
            84,
        )
        self._name = self._line("", "A name for all of them; # becomes 1, 2, 3.")
        self._start = self._line(
            "free",
            "Where the first one starts: 1.1 packed, 1.1 +40 every 40 slots, free for the next free places, or empty.",
        )
        for words, w in (
            ("Profile", self._profile),
            ("Mode", self._mode),
            ("How many", self._count),
            ("From number", self._number),
            ("Name", self._name),
            ("Starts at", self._start),
        ):
            w.setAccessibleName(words)
            body.addLayout(field_row(words, w, None) if w.maximumWidth() < 1000 else field_row(words, w))
        self._saying = label("", 11, quiet=True, wrap=True)
        self._saying.setMinimumHeight(34)
        body.addWidget(self._saying)
        self._go = button("Add 12", self._add, primary=True)
        self._go.setDefault(True)
        body.addLayout(row(None, button("Cancel", self.reject), self._go))
        self.setLayout(body)
        self.made: list[str] = []
        self._modes()
        self._count.setFocus()
        self._count.selectAll()

    def _line(self, text: str, help_text: str, width: int = 0) -> QLineEdit:
        made = QLineEdit(text)
        set_help(made, help_text)
        if width:
            made.setFixedWidth(width)
        made.textChanged.connect(lambda _: self._say())
        return made

    def _modes(self) -> None:
        profile = self._session.rig.profiles.get(str(self._profile.currentData()))
        if profile:
            self._mode.set_options(
                [(k, f"{m.name} · {plural(m.footprint, 'slot')}") for k, m in profile.modes.items()],
                next(iter(profile.modes)),
            )
        self._say()

    def wish(self) -> tuple[Wish, int]:
        """What is asked for, or a NotationError."""
        try:
            count, number = int(self._count.text()), int(self._number.text())
        except ValueError:
            raise NotationError("How many, and from which number? Both are whole numbers.") from None
        if not 1 <= count <= 10_000 or not 1 <= number <= 999_999:
            raise NotationError("Add 1 to 10 000 at a time; numbers run from 1 to 999 999.")
        return Wish(
            count, str(self._profile.currentData()), str(self._mode.currentData()), self._start.text().strip()
        ), number

    def _say(self) -> None:
        try:
            wish, _ = self.wish()
            mode = self._session.rig.profiles[wish.profile].modes[wish.mode]
            words = f"{wish.count} × {mode.footprint} slots = {wish.count * mode.footprint} slots."
            if wish.start and wish.start.lower() != "free":
                series = read_series(wish.start)
                _, address = read_place(series.start)
                width = mode.breaks[0].slots
                spacing = series.spacing or width + (series.gap or 0)
                fits = how_many_fit(address, spacing, width)
                words += f" From there {fits} fit into the universe" + (
                    ", the rest goes on in the next." if fits < wish.count else "."
                )
            self._saying.setText(words)
            self._go.setText(f"Add {wish.count}")
            self._go.setEnabled(True)
        except (NotationError, KeyError, ValueError) as e:
            self._saying.setText(str(e))
            self._go.setEnabled(False)

    def _add(self) -> None:
        try:
            wish, number = self.wish()
            result = add_fixtures(self._session.index, wish, number, self._name.text().strip())
        except NotationError as e:
            self._saying.setText(str(e))
            return
        self.made = self._session.take(result) or []
        self._session.select_things(self.made)
        self.accept()


class PatchStation(QWidget):
    name = "Patch"

    def __init__(self, session: Session, wire: Wire) -> None:
        super().__init__()
        self._session = session
        self.panel = PatchPanel(session, wire)
        self.tapes = Tapes(session)
        self.roll = Roll(session)
        self.add = button(
            "Add fixtures…", self.add_fixtures, "How many of what, and where the first one starts.   Ctrl+Shift+I"
        )
        self.add_uni = button("Add universe", self._add_universe, "One more universe behind the last.")
        self.add_elem = button(
            "Add element", self._add_element, "A pixel thing that is no lamp: a ribbon, a wall, a ring."
        )
        self._zoom = {}
        zooms: list[QWidget | int | None] = []
        for n, name in enumerate(NAMED):
            b = button(name, lambda name=name: self.tapes.set_level(name), f"Ctrl+{n + 1}")
            b.setCheckable(True)
            b.setProperty("segment", True)
            self._zoom[name] = b
            zooms.append(b)
        self.tapes.zoomed.connect(self._zoomed)
        self.tapes.edit_address.connect(self.edit_address)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Filter")
        self.filter.setFixedWidth(130)
        set_help(
            self.filter, "Shows only rows of the roll with this word. Hides the others; nothing is changed.   Ctrl+F"
        )
        self.filter.textChanged.connect(self.roll.roll.set_filter)
        bar = row(
            label("Patch", 16, True),
            8,
            self.add,
            self.add_uni,
            self.add_elem,
            None,
            label("Zoom", 11, quiet=True),
            row_of(zooms),
        )
        bar.setContentsMargins(16, 8, 16, 8)
        self.wish = Field(
            "Says how many of what and where: 12 x Bar 9 at 1.001. Adds them at once; undo takes them away.",
            self._wished,
        )
        self.wish.setPlaceholderText("12 x Bar 9 at 1.001")
        self.wish.say = lambda why: session.say(why, "error")
        self.wish.setFixedWidth(340)
        self._tapes_or_empty = QStackedWidget()
        self._tapes_or_empty.addWidget(self.tapes)
        self._tapes_or_empty.addWidget(self._empty())
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self._tapes_or_empty)
        below = QWidget()
        under = column(spacing=0)
        strip = row(
            label("Roll", 13, True),
            self.filter,
            None,
            label("Enter or F2 edits · Ctrl+Enter gives it to all selected", 11, quiet=True),
        )
        strip.setContentsMargins(16, 4, 16, 4)
        under.addLayout(strip)
        under.addWidget(self.roll, 1)
        below.setLayout(under)
        self._below = below
        split.addWidget(below)
        split.setStretchFactor(0, 64)
        split.setStretchFactor(1, 36)
        split.setSizes([400, 226])
        split.setChildrenCollapsible(False)
        below.setMinimumHeight(216)
        layout = column(spacing=0)
        layout.addLayout(bar)
        layout.addWidget(split, 1)
        self.setLayout(layout)
        session.changed.connect(lambda _: self._which())
        self._zoomed(self.tapes.level_name)
        self._which()

    def _empty(self) -> QWidget:
        """What an empty rig shows: what a fixture is, and one field to begin with."""
        made = _EmptyTapes()
        body = column((40, 40, 40, 40), 10)
        body.addStretch(1)
        for words, size in (
            ("No fixtures yet", 22),
            ("A fixture is one lamp of a profile, at an address.", 13),
            ("Say how many of what, and where the first one starts.", 13),
        ):
            line = label(words, size, size == 22)
            line.setAlignment(Qt.AlignmentFlag.AlignCenter)
            body.addWidget(line)
        self._add_primary = button("Add", self.wish.commit, primary=True)
        body.addLayout(row(None, self.wish, self._add_primary, None))
        self._hint = label("", 11, quiet=True)
        self._hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        body.addWidget(self._hint)
        body.addStretch(2)
        made.setLayout(body)
        return made

    def _which(self) -> None:
        rig = self._session.rig
        empty = not rig.fixtures and not rig.elements
        self._tapes_or_empty.setCurrentIndex(1 if empty else 0)
        self._below.setVisible(not empty)
        names = ", ".join(p.name for p in list(rig.profiles.values())[:4])
        self._hint.setText(
            f"This rig's profiles: {names}"
            if names
            else "There is no profile yet: make one in Profiles first (Alt+1), or open a rig (Ctrl+O)."
        )

    def _zoomed(self, name: str) -> None:
        for key, b in self._zoom.items():
            b.setChecked(key == name)

    def _wished(self, text: str) -> object:
        if not text.strip():
            return True
        made = self._session.take(add_fixtures(self._session.index, read_wish(self._session.rig, text)))
        self.wish.set_value("")
        self._session.select_things(made)
        return True

    def add_fixtures(self) -> None:
        self._session.commit_pending()
        if not self._session.rig.profiles:
            self._session.say("There is no profile yet. Make one in Profiles first (Alt+1).", "warning")
            return
        AddFixtures(self._session, self).exec()

    def _add_universe(self) -> None:
        uid = self._session.edit(add_universe)
        if uid:
            self._session.select(Selection("universe", (uid,)))

    def _add_element(self) -> None:
        rig = self._session.rig
        taken = {e.name for e in rig.elements.values()}
        name = next(f"ribbon {n}" for n in range(1, 10_000) if f"ribbon {n}" not in taken)
        eid = self._session.edit(add_element, Element(name=name, pixels=60, order="RGB", at=Place()))
        if eid:
            self._session.select_things([eid])

    def edit_address(self) -> None:
        if self.panel.address:
            self.panel.address.setFocus()
            self.panel.address.selectAll()

    def restyle(self) -> None:
        self.tapes.restyle()
        self.panel.restyle()
        self.panel.build()


class _EmptyTapes(QWidget):
    """Where there is nothing yet the tapes stay as empty shapes."""

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        for n in range(3):
            text(p, QRectF(16, 12 + 26 * n, 24, 20), str(n + 1), "line", 16, True, RIGHT)
            box(p, QRectF(272, 12 + 26 * n, self.width() - 296, 20), None, "line", 0, 1, dashed=True)


def row_of(widgets: list[QWidget | int | None]) -> QWidget:
    """Widgets without gaps between them, as one."""
    made = QWidget()
    made.setLayout(row(*widgets, spacing=0))
    return made
