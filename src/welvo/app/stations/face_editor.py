"""Arranging the pixels of a mode: as rows, rings or a line, or placed by hand over a picture of the fixture's front."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QHelpEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QDialog, QFileDialog, QPushButton, QToolTip, QWidget

from welvo.app.fields import Choice, Field, Tick
from welvo.app.paint import CENTRE, box, button, column, label, row, text
from welvo.app.panel import field_row
from welvo.app.stations.face import View, backdrop_area, paint_backdrop, paint_pixels, pixel_words, places
from welvo.app.theme import THEME
from welvo.rig.layout import along_arc, along_line, pitch_of, renumbered, spots_of, strip_facts
from welvo.rig.notation import NotationError, plural
from welvo.rig.profile import Arrangement, Backdrop, Mode, Spot

TOOLS = ("Move", "Place", "Number", "Line", "Arc")
SAYS = {
    "Move": "Drag pixels, or a frame around several; the arrows nudge by a tenth of a pitch, with Shift by a whole one.",
    "Place": "Click where pixel 1 sits, then pixel 2 and so on.",
    "Number": "Click the pixels in the order of their numbers; those left out keep their order behind.",
    "Line": "Click the first and the last place; the selected pixels (or all) go evenly between. Then as many of the next.",
    "Arc": "Click the first place, one on the way and the last; the selected pixels (or all) go evenly along.",
}
MOST_PICTURE = 24 * 2**20


class Canvas(QWidget):
    """The face at full size. `edited` comes after every finished act; the mode at hand is `mode`."""

    edited = Signal()

    def __init__(self, mode: Mode, picture: bytes | None) -> None:
        super().__init__()
        self.mode = mode
        self.picture = picture
        self.spots = list(places(mode))
        self.selected: set[int] = set()
        self.tool = "Move"
        self.clicked: list[int] = []
        self.points: list[Spot] = []
        self.placing = 0
        self.lit = 1
        self.labels = False
        self._view: View | None = None
        self._still: QPixmap | None = None
        self._grab: QPointF | None = None
        self._frame: tuple[QPointF, QPointF] | None = None
        self._before: list[Spot] = []
        self.setMinimumSize(520, 420)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Face, full size")

    # ---- state

    def set_mode(self, mode: Mode) -> None:
        """Another arrangement, shape or picture; the spots come from the mode."""
        self.mode = mode
        self.spots = list(places(mode))
        self.refresh(True)

    def set_tool(self, tool: str) -> None:
        self.tool = tool
        self.clicked, self.points, self.placing = [], [], 0
        self.refresh()

    def refresh(self, anew: bool = False) -> None:
        if anew:
            self._view = None
        self._still = None
        self.update()

    @property
    def view(self) -> View:
        if self._view is None:
            room = QRectF(self.rect()).adjusted(16, 16, -16, -16)
            around = backdrop_area(self.mode.backdrop, self.picture)
            self._view = View(room, self.spots, 60.0 if around is None else 400.0, around)
        return self._view

    def resizeEvent(self, e: QResizeEvent) -> None:
        self.refresh(True)
        super().resizeEvent(e)

    # ---- painting: everything that stands still is kept as a picture, so that a drag of a few among thousands is fluid

    def _layer(self) -> QPixmap:
        if self._still is None:
            ratio = self.devicePixelRatioF()
            made = QPixmap(int(self.width() * ratio), int(self.height() * ratio))
            made.setDevicePixelRatio(ratio)
            made.fill(THEME.color("field"))
            p = QPainter(made)
            paint_backdrop(p, self.view, self.mode.backdrop, self.picture)
            moving = self.selected if self._grab is not None else set()
            points = [self.view.point(s) for s in self.spots]
            if self.view.scale >= 6 and not moving:
                pen = QPen(THEME.color("edge"), 1)
                pen.setStyle(Qt.PenStyle.DashLine)
                p.setPen(pen)
                p.drawPolyline(QPolygonF(points))
            renamed = set(self.clicked)
            paint_pixels(
                p,
                self.mode,
                points,
                self.view.scale,
                0,
                True,
                [n for n in range(len(points)) if n + 1 not in moving and n + 1 not in renamed],
                self.mode.backdrop is not None,
            )
            p.end()
            self._still = made
        return self._still

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.drawPixmap(0, 0, self._layer())
        view = self.view
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._grab is not None and self.selected:
            some = [view.point(self.spots[n - 1]) for n in sorted(self.selected)]
            paint_pixels(p, self.mode, some, view.scale, 0, False)
        radius = max(4.0, view.scale * self.mode.pixel_size / 2 + 2)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("text"), 2))
        for n in list(self.selected)[:3000]:
            p.drawEllipse(view.point(self.spots[n - 1]), radius, radius)
        if 0 < self.lit <= len(self.spots):
            p.setPen(QPen(THEME.color("accent"), 3))
            p.drawEllipse(view.point(self.spots[self.lit - 1]), radius + 1, radius + 1)
        if self.clicked:  # already in their new order: a full disc with the new number
            p.setPen(QPen(THEME.color("accent"), 1))
            p.setBrush(THEME.color("accent"))
            for order, n in enumerate(self.clicked, 1):
                at = view.point(self.spots[n - 1])
                p.drawEllipse(at, max(9.0, radius - 3), max(9.0, radius - 3))
                text(
                    p, QRectF(at.x() - 20, at.y() - 9, 40, 18), str(order), "accent_ink", 13, True, CENTRE, elide=False
                )
            p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("accent"), 2))
        for s in self.points:
            at = view.point(s)
            p.drawLine(at + QPointF(-6, 0), at + QPointF(6, 0))
            p.drawLine(at + QPointF(0, -6), at + QPointF(0, 6))
        if self.labels and view.scale >= 20:
            for n, s in enumerate(self.spots[:800], 1):
                words = " ".join(b.removeprefix("slot ") for _, b in pixel_words(self.mode, n)[:4])
                at = view.point(s)
                text(
                    p,
                    QRectF(at.x() - 40, at.y() + radius, 80, 14),
                    words,
                    "text",
                    11,
                    align=Qt.AlignmentFlag.AlignCenter,
                    elide=False,
                )
        if self._frame:
            box(p, QRectF(*self._frame).normalized(), None, "accent", 0, 1, dashed=True)
        if self.hasFocus():
            box(p, QRectF(self.rect()), None, "accent", 2, 2)

    # ---- acting

    def pixel_at(self, at: QPointF) -> int:
        view = self.view
        reach = max(6.0, view.scale * 0.55)
        near = [
            (abs(q.x() - at.x()) + abs(q.y() - at.y()), n) for n, q in enumerate((view.point(s) for s in self.spots), 1)
        ]
        best = min(near, default=(99.0, 0))
        return best[1] if best[0] <= reach * 1.3 else 0

    def _take(self, spots: list[Spot]) -> None:
        """A finished act: the arrangement is by hand from now on."""
        self.spots = spots
        free = replace(self.mode.arrangement or Arrangement(), kind="free")
        self.mode = replace(self.mode, spots=tuple(spots), arrangement=free)
        self.refresh()
        self.edited.emit()

    def mousePressEvent(self, e: QMouseEvent) -> None:
        self.setFocus()
        at, n = e.position(), self.pixel_at(e.position())
        if self.tool == "Place" and self.spots:
            spots = list(self.spots)
            spots[self.placing] = self.view.spot(at)
            self.placing = (self.placing + 1) % len(spots)
            self.lit = self.placing + 1
            self._take(spots)
            if self.placing == 0:
                self.measure()
        elif self.tool == "Number" and n:
            self.clicked = [x for x in self.clicked if x != n] if n in self.clicked else [*self.clicked, n]
            if len(self.clicked) == len(self.spots):
                self.finish_numbers()
            self.refresh()
        elif self.tool in ("Line", "Arc"):
            self.points.append(self.view.spot(at))
            if len(self.points) == (2 if self.tool == "Line" else 3):
                self.series(self.points)
            self.update()
        elif n:
            if e.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self.selected ^= {n}
            elif n not in self.selected:
                self.selected = {n}
            self.lit = n
            self._grab, self._before = at, list(self.spots)
            self.refresh()
        else:
            self.selected = set()
            self._frame = (at, at)
            self.refresh()

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self._grab is not None:
            by = (e.position() - self._grab) / self.view.scale
            for n in self.selected:
                s = self._before[n - 1]
                self.spots[n - 1] = Spot(x=round(s.x + by.x(), 3), y=round(s.y + by.y(), 3))
            self.update()
        elif self._frame:
            self._frame = (self._frame[0], e.position())
            r = QRectF(*self._frame).normalized()
            self.selected = {n for n, s in enumerate(self.spots, 1) if r.contains(self.view.point(s))}
            self.update()

    def mouseReleaseEvent(self, _: QMouseEvent) -> None:
        moved = self._grab is not None and self.spots != self._before
        self._grab = self._frame = None
        if moved:
            self._take(list(self.spots))
        self.refresh()

    def finish_numbers(self) -> None:
        """Take the clicked order over; pixels that were not clicked keep their order behind."""
        if self.clicked:
            order, self.clicked = self.clicked, []
            self._take(list(renumbered(self.spots, order)))

    def series(self, ends: list[Spot]) -> None:
        """Put the selected pixels (or all) evenly along a line or an arc."""
        which = sorted(self.selected) or list(range(1, len(self.spots) + 1))
        found = (
            along_line(ends[0], ends[1], len(which))
            if len(ends) == 2
            else along_arc(ends[0], ends[1], ends[2], len(which))
        )
        spots = list(self.spots)
        for n, s in zip(which, found):
            spots[n - 1] = s
        self.points = []
        if len(which) < len(spots):  # the next row has as many: it is already chosen for the next two clicks
            self.selected = set(range(which[-1] + 1, which[-1] + 1 + len(which))) & set(range(1, len(spots) + 1))
        self._take(spots)
        self.measure()

    def measure(self) -> None:
        """Make the usual distance of neighbours one pitch again, the picture along with it: nothing moves on it."""
        by = pitch_of(self.spots)
        if not by or abs(by - 1) < 0.001:
            return
        b = self.mode.backdrop
        self.mode = replace(
            self.mode, backdrop=replace(b, x=b.x / by, y=b.y / by, wide=b.wide / by) if b is not None else None
        )
        self._view = None
        self._take([Spot(x=round(s.x / by, 3), y=round(s.y / by, 3)) for s in self.spots])

    def nudge(self, dx: float, dy: float) -> None:
        if self.selected:
            self._take(
                [
                    Spot(x=round(s.x + dx, 3), y=round(s.y + dy, 3)) if n in self.selected else s
                    for n, s in enumerate(self.spots, 1)
                ]
            )

    def keyPressEvent(self, e: QKeyEvent) -> None:
        step = 1.0 if e.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.1
        by = {
            Qt.Key.Key_Left: (-step, 0.0),
            Qt.Key.Key_Right: (step, 0.0),
            Qt.Key.Key_Up: (0.0, -step),
            Qt.Key.Key_Down: (0.0, step),
        }.get(Qt.Key(e.key()))
        if by:
            self.nudge(*by)
        elif e.key() == Qt.Key.Key_N and self.spots:
            self.lit = self.lit % len(self.spots) + 1
            self.selected = {self.lit}
            self.refresh()
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.clicked:
            self.finish_numbers()
        elif e.key() == Qt.Key.Key_A and e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.selected = set(range(1, len(self.spots) + 1))
            self.refresh()
        else:
            super().keyPressEvent(e)

    def event(self, e: object) -> bool:
        if isinstance(e, QHelpEvent):
            n = self.pixel_at(QPointF(e.pos()))
            if n:
                rows = "".join(f"<tr><td>{a}&nbsp;&nbsp;</td><td>{b}</td></tr>" for a, b in pixel_words(self.mode, n))
                QToolTip.showText(e.globalPos(), f"<b>pixel {n}</b><table>{rows}</table>", self)
            else:
                QToolTip.hideText()
            return True
        return super().event(e)  # type: ignore[arg-type]


class FaceEditor(QDialog):
    """Works on a copy of the mode; `mode` and `picture` are what the operator left, when it was accepted."""

    def __init__(self, mode: Mode, picture: bytes | None, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Arrange the pixels")
        self.resize(1040, 660)
        self.canvas = Canvas(mode, picture)
        self.canvas.edited.connect(self.refresh)
        self.media = "image/png"
        self._walk = QTimer(self, interval=250)
        self._walk.timeout.connect(self._step)
        self._tools: dict[str, QPushButton] = {}
        tools: list[QWidget | int | None] = []
        for name in TOOLS:
            b = button(name, lambda name=name: self.set_tool(name), SAYS[name])
            b.setCheckable(True)
            b.setProperty("segment", True)
            self._tools[name] = b
            tools.append(b)
        self._says = label("", 11, quiet=True)
        self.walk_button = button(
            "Walk", self.walk, "Lights the pixels in number order, to compare with the real lamp."
        )
        self.labels = Tick(
            "Show slots", "Writes the slots of every pixel under it. Only shown; nothing is changed.", self._labels
        )
        left = column(spacing=6)
        top = row(*tools, spacing=0)
        top.addSpacing(12)
        top.addWidget(self.labels)
        top.addStretch(1)
        top.addWidget(self.walk_button)
        left.addLayout(top)
        left.addWidget(self.canvas, 1)
        left.addWidget(self._says)
        self._lines: list[tuple[str, QWidget]] = []
        right = column(spacing=6)
        self._form(right)
        right.addStretch(1)
        self.done_button = button(f"Place {plural(mode.pixels, 'pixel')}", self.accept, primary=True)
        right.addLayout(row(None, button("Cancel", self.reject), self.done_button))
        body = row(spacing=16)
        body.setContentsMargins(16, 16, 16, 16)
        body.addLayout(left, 1)
        holder = QWidget()
        holder.setLayout(right)
        holder.setFixedWidth(330)
        body.addWidget(holder)
        self.setLayout(body)
        for b in self.findChildren(QPushButton):
            b.setAutoDefault(False)  # Enter takes a typed number over, and presses nothing
            b.setDefault(False)
        self.set_tool("Move")
        self.refresh()

    @property
    def mode(self) -> Mode:
        return self.canvas.mode

    @property
    def picture(self) -> bytes | None:
        return self.canvas.picture

    # ---- the form

    def _field(self, words: str, help_text: str, apply: Callable[[str], object], wide: int = 64) -> Field:
        made = Field(help_text, apply, right=True)
        made.setAccessibleName(words)
        made.setFixedWidth(wide)
        made.say = self._says.setText
        return made

    def _choice(
        self, words: str, help_text: str, options: list[tuple[str, str]], apply: Callable[[str], object]
    ) -> Choice:
        made = Choice(help_text, apply)
        made.setAccessibleName(words)
        made.set_options(options, options[0][0])
        return made

    def _form(self, body: object) -> None:
        add = body.addLayout  # type: ignore[attr-defined]
        self._title = label("", 16, True)
        add(row(self._title))
        self.kind = self._choice(
            "Arrangement",
            "How the pixels sit. Choosing another one places them all anew.",
            [("rows", "rows and columns"), ("rings", "rings"), ("line", "a line"), ("free", "by hand")],
            lambda v: self.arrange(kind=v),
        )
        self.rows = self._field(
            "Rows", "How many rows there are. The pixels are spread anew.", lambda t: self._grid("rows", t)
        )
        self.columns = self._field(
            "Columns",
            "How many pixels stand in one row. The pixels are spread anew.",
            lambda t: self._grid("columns", t),
        )
        corners = [(c, c) for c in ("top left", "top right", "bottom left", "bottom right")]
        self.corner = self._choice(
            "Pixel 1",
            "In which corner pixel number one sits. Look at the lamp: a wrong corner mirrors every picture.",
            corners,
            lambda v: self.arrange(corner=v),
        )
        self.along = self._choice(
            "Counted",
            "Whether the numbers run along rows or along columns.",
            [("rows", "along rows"), ("columns", "along columns")],
            lambda v: self.arrange(along=v),
        )
        self.serpentine = Tick(
            "There and back",
            "Every second row (or column) is counted backwards, as a folded cable does.",
            lambda on: self.arrange(serpentine=on),
        )
        self.stagger = self._field(
            "Staggered by",
            "How far every second row is shifted, in pitches: 0.5 for half a pixel.",
            lambda t: self.arrange(stagger=_float(t, -1, 1)),
            56,
        )
        self.rings = self._field(
            "Pixels a ring", "How many pixels each ring has, from the outside in: 16 8 1.", self._rings, 120
        )
        self.angle = self._field(
            "First at",
            "Where pixel one sits on its ring, in degrees from the top, clockwise.",
            lambda t: self.arrange(angle=_float(t, -360, 360)),
            56,
        )
        self.clockwise = Tick(
            "Clockwise",
            "Which way round the numbers run on rings, seen from the front.",
            lambda on: self.arrange(clockwise=on),
        )
        self.length = self._field(
            "Length", "How long the strip is, in millimetres. Count, pitch and density follow.", self._length, 72
        )
        self._strip = label("", 11, quiet=True)
        self.shape = self._choice(
            "Pixel",
            "What one pixel looks like. Only for the drawing.",
            [("round", "round"), ("square", "square"), ("bar", "bar")],
            lambda v: self._look(pixel_shape=v),
        )
        self.fills = self._field(
            "Fills",
            "How much of a pitch one pixel fills, 0.05 to 1. Count × width cannot be more than the whole.",
            lambda t: self._look(pixel_size=_float(t, 0.05, 1)),
            56,
        )
        rows: tuple[tuple[str, str, tuple[QWidget | None, ...]], ...] = (
            ("", "Sits in", (self.kind,)), ("rows", "Rows", (self.rows, label("columns", 11, quiet=True), self.columns, None)), ("rows", "Pixel 1", (self.corner,)),
            ("rows", "Counted", (self.along,)), ("rows", "", (self.serpentine, None)), ("rows", "Staggered", (self.stagger, label("of a pitch", 11, quiet=True), None)),
            ("rings", "Rings", (self.rings, None)), ("rings", "First at", (self.angle, label("°"), self.clockwise, None)),
            ("line", "Length", (self.length, label("mm", 11, quiet=True), self._strip)), ("", "Pixel", (self.shape, label("fills", 11, quiet=True), self.fills)),
        )  # fmt: skip
        for kind, words, widgets in rows:
            self._line(body, kind, words, *widgets)
        self._by_hand = label(
            "Pixels stand where they were put, one by one. Place, Line and Arc put them over the picture.",
            11,
            quiet=True,
            wrap=True,
        )
        body.addWidget(self._by_hand)  # type: ignore[attr-defined]
        body.addSpacing(8)  # type: ignore[attr-defined]
        add(
            row(
                label("Reference picture", 13, True),
                None,
                button(
                    "Load…",
                    self.load,
                    "A PNG or JPEG of the fixture's front, from the manual. It travels with the rig.",
                ),
                button("Remove", self.drop, "Takes the picture away; the pixels stay."),
            )
        )
        self.fade = self._field(
            "Strength",
            "How strongly the picture is shown, 0 to 100 %.",
            lambda t: self.back(fade=_float(t.rstrip(" %"), 0, 100) / 100),
            48,
        )
        self.turn = self._field(
            "Turned",
            "How far the picture is turned clockwise, in degrees.",
            lambda t: self.back(turn=_float(t.rstrip(" °"), -360, 360)),
            48,
        )
        self.wide = self._field(
            "Wide",
            "How many pitches wide the picture is. Make it fit the distance of two pixels.",
            lambda t: self.back(wide=_float(t, 0.5, 10000)),
            56,
        )
        self.crop = self._field(
            "Crop", "What is cut off at left, top, right and bottom, in percent: 10 0 10 25.", self._crop, 110
        )
        self.offset = self._field("Middle at", "Where the picture's middle sits, in pitches: 3 1.5.", self._offset, 80)
        self.lock = Tick(
            "Locked", "Keeps the picture as it is; only the pixels move.", lambda on: self.back(True, locked=on)
        )
        for kind, words, widgets in (
            ("picture", "Strength", (self.fade, label("turned", 11, quiet=True), self.turn, None)),
            ("picture", "Wide", (self.wide, label("middle", 11, quiet=True), self.offset)),
            ("picture", "Crop", (self.crop, self.lock)),
        ):
            self._line(body, kind, words, *widgets)
        self._no_picture = label(
            "None yet. With a photo or the manual's drawing behind them, pixels are placed where they really sit.",
            11,
            quiet=True,
            wrap=True,
        )
        body.addWidget(self._no_picture)  # type: ignore[attr-defined]

    def _line(self, body: object, kind: str, words: str, *widgets: QWidget | None) -> None:
        """A row of the form that is only there for one kind of arrangement, or while there is a picture."""
        holder = QWidget()
        line = field_row(words, *widgets)
        line.setContentsMargins(0, 0, 0, 0)
        holder.setLayout(line)
        self._lines.append((kind, holder))
        body.addWidget(holder)  # type: ignore[attr-defined]

    def refresh(self) -> None:
        m = self.mode
        a = m.arrangement or Arrangement(columns=max(1, m.pixels))
        self._title.setText(f"{m.name}: {plural(m.pixels, 'pixel')}")
        self.kind.set_options(
            [("rows", "rows and columns"), ("rings", "rings"), ("line", "a line"), ("free", "by hand")], a.kind
        )
        self.corner.set_options([(c, c) for c in ("top left", "top right", "bottom left", "bottom right")], a.corner)
        self.along.set_options([("rows", "along rows"), ("columns", "along columns")], a.along)
        self.serpentine.setChecked(a.serpentine)
        self.clockwise.setChecked(a.clockwise)
        self.rows.set_value(str(a.rows))
        self.columns.set_value(str(a.columns))
        self.stagger.set_value(f"{a.stagger:g}")
        self.rings.set_value(" ".join(map(str, a.rings)))
        self.angle.set_value(f"{a.angle:g}")
        self.length.set_value(f"{a.length:g}" if a.length else "")
        self._strip.setText("")
        if a.length and m.pixels:
            _, _, pitch, density = strip_facts(length=a.length, count=m.pixels)
            self._strip.setText(f"pitch {pitch:.4g} mm · {density:.4g} a metre")
        for kind, line in self._lines:
            line.setVisible(kind in ("", a.kind) or (kind == "picture" and m.backdrop is not None))
        self._by_hand.setVisible(a.kind == "free")
        self._no_picture.setVisible(m.backdrop is None)
        self.shape.set_options([("round", "round"), ("square", "square"), ("bar", "bar")], m.pixel_shape)
        self.fills.set_value(f"{m.pixel_size:g}")
        b = m.backdrop
        for w in (self.fade, self.turn, self.wide, self.crop, self.offset):
            w.setEnabled(b is not None and not b.locked)
        self.lock.setEnabled(b is not None)
        self.lock.setChecked(b is not None and b.locked)
        self.fade.set_value(f"{100 * b.fade:.0f}" if b else "")
        self.turn.set_value(f"{b.turn:g}" if b else "")
        self.wide.set_value(f"{b.wide:.4g}" if b else "")
        self.offset.set_value(f"{b.x:.3g} {b.y:.3g}" if b else "")
        self.crop.set_value(
            f"{100 * b.left:.0f} {100 * b.top:.0f} {100 * (1 - b.right):.0f} {100 * (1 - b.bottom):.0f}" if b else ""
        )
        for name, t in self._tools.items():
            t.setChecked(name == self.canvas.tool)

    def set_tool(self, tool: str) -> None:
        self.canvas.finish_numbers()
        self.canvas.set_tool(tool)
        self._says.setText(SAYS[tool])
        self.refresh()

    def arrange(self, **fields: object) -> object:
        """Place all pixels anew by an arrangement."""
        m = self.mode
        a = replace(m.arrangement or Arrangement(columns=max(1, m.pixels)), **fields)
        if a.kind == "rows" and a.rows * a.columns < m.pixels:
            a = replace(a, columns=-(-m.pixels // a.rows))
        if a.kind == "rings" and not a.rings:
            a = replace(a, rings=(m.pixels,))
        spots = m.spots or places(m) if a.kind == "free" else spots_of(a, m.pixels)
        self.canvas.set_mode(replace(m, arrangement=a, spots=tuple(spots)))
        self.refresh()
        return True

    def _grid(self, key: str, typed: str) -> object:
        n = int(_float(typed, 1, 1000 if key == "rows" else 10000))
        other = -(-self.mode.pixels // n)
        return self.arrange(**({"rows": n, "columns": other} if key == "rows" else {"columns": n, "rows": other}))

    def _rings(self, typed: str) -> object:
        counts = tuple(int(x) for x in re.findall(r"\d+", typed))
        if sum(counts) != self.mode.pixels or 0 in counts:
            raise NotationError(
                f"The rings must have {self.mode.pixels} pixels together; {' + '.join(map(str, counts)) or 'nothing'} is {sum(counts)}."
            )
        return self.arrange(rings=counts)

    def _length(self, typed: str) -> object:
        return self.arrange(length=_float(typed, 1, 1e6) if typed.strip() else 0.0)

    def _look(self, **fields: object) -> object:
        self.canvas.mode = replace(self.mode, **fields)
        self.canvas.refresh()
        self.refresh()
        return True

    # ---- picture

    def load(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self, "A picture of the fixture's front", str(Path.home()), "Pictures (*.png *.jpg *.jpeg)"
        )
        if name:
            self.load_path(Path(name))

    def load_path(self, path: Path) -> bool:
        """Take a PNG or JPEG as reference. What is none, or too large, is refused with the reason."""
        try:
            if path.stat().st_size > MOST_PICTURE:
                self._says.setText(
                    f"{path.name} has {path.stat().st_size >> 20} MiB; a reference picture has {MOST_PICTURE >> 20} at most."
                )
                return False
            data = path.read_bytes()
        except OSError as e:
            self._says.setText(f"{path.name} cannot be read: {e.strerror}.")
            return False
        kind = "image/png" if data[:8] == b"\x89PNG\r\n\x1a\n" else "image/jpeg" if data[:3] == b"\xff\xd8\xff" else ""
        image = QImage.fromData(data) if kind else QImage()
        if image.isNull():
            self._says.setText(f"{path.name} is no PNG or JPEG that can be shown.")
            return False
        self.media = kind
        self.canvas.picture = data
        xs, ys = [s.x for s in self.canvas.spots] or [0.0], [s.y for s in self.canvas.spots] or [0.0]
        wide = max(xs) - min(xs) + 2
        back = Backdrop(picture="new", x=(max(xs) + min(xs)) / 2, y=(max(ys) + min(ys)) / 2, wide=max(2.0, wide))
        self.canvas.mode = replace(self.mode, backdrop=back)
        self.canvas.refresh(True)
        self.refresh()
        return True

    def drop(self) -> None:
        self.canvas.picture = None
        self.canvas.mode = replace(self.mode, backdrop=None)
        self.canvas.refresh(True)
        self.refresh()

    def back(self, even_locked: bool = False, **fields: object) -> object:
        b = self.mode.backdrop
        if b is None or (b.locked and not even_locked):
            return True
        self.canvas.mode = replace(self.mode, backdrop=replace(b, **fields))
        self.canvas.refresh(True)
        self.refresh()
        return True

    def _crop(self, typed: str) -> object:
        n = [float(x) / 100 for x in re.findall(r"\d+(?:\.\d+)?", typed)]
        if len(n) != 4 or n[0] + n[2] >= 1 or n[1] + n[3] >= 1:
            raise NotationError("Four percentages: left, top, right, bottom, such as 10 0 10 25.")
        return self.back(left=n[0], top=n[1], right=1 - n[2], bottom=1 - n[3])

    def _offset(self, typed: str) -> object:
        n = [float(x) for x in re.findall(r"-?\d+(?:\.\d+)?", typed)]
        if len(n) != 2:
            raise NotationError("Two numbers, in pitches: 3 1.5.")
        return self.back(x=n[0], y=n[1])

    # ---- looking

    def _labels(self, on: bool) -> None:
        self.canvas.labels = on
        self.canvas.update()

    def walk(self) -> None:
        self._walk.stop() if self._walk.isActive() else self._walk.start()
        self.walk_button.setText("Stop" if self._walk.isActive() else "Walk")

    def _step(self) -> None:
        if self.canvas.spots:
            self.canvas.lit = self.canvas.lit % len(self.canvas.spots) + 1
            self.canvas.update()

    def accept(self) -> None:
        self.canvas.finish_numbers()
        super().accept()


def _float(typed: str, low: float, high: float) -> float:
    try:
        value = float(typed.strip().replace(",", "."))
    except ValueError:
        raise NotationError(f"“{typed.strip()}” is no number.") from None
    if not low <= value <= high:
        raise NotationError(f"{value:g} is out of reach: {low:g} to {high:g}.")
    return value
