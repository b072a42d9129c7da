"""Arranging the pixels of a mode: as rows, rings or a line, or placed by hand over a picture of the fixture's front."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PySide6.QtCore import QTimer
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QDialog, QFileDialog, QPushButton, QWidget

from welvo.app.widgets.face import places
from welvo.app.widgets.face_canvas import Canvas
from welvo.app.widgets.fields import Choice, Field, Tick
from welvo.app.widgets.forms import field_row
from welvo.app.widgets.painting import button, column, label, row
from welvo.rig.base import Refused
from welvo.rig.layout import spots_of, strip_facts
from welvo.rig.notation import plural
from welvo.rig.profile import Arrangement, Backdrop, Mode

TOOLS = ("Move", "Place", "Number", "Line", "Arc")
SAYS = {
    "Move": "Drag pixels, or a frame around several; the arrows nudge by a tenth of a pitch, with Shift by a whole one.",
    "Place": "Click where pixel 1 sits, then pixel 2 and so on.",
    "Number": "Click the pixels in the order of their numbers; those left out keep their order behind.",
    "Line": "Click the first and the last place; the selected pixels (or all) go evenly between. Then as many of the next.",
    "Arc": "Click the first place, one on the way and the last; the selected pixels (or all) go evenly along.",
}
MOST_PICTURE = 24 * 2**20


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
            raise Refused(
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
            raise Refused("Four percentages: left, top, right, bottom, such as 10 0 10 25.")
        return self.back(left=n[0], top=n[1], right=1 - n[2], bottom=1 - n[3])

    def _offset(self, typed: str) -> object:
        n = [float(x) for x in re.findall(r"-?\d+(?:\.\d+)?", typed)]
        if len(n) != 2:
            raise Refused("Two numbers, in pitches: 3 1.5.")
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
        raise Refused(f"“{typed.strip()}” is no number.") from None
    if not low <= value <= high:
        raise Refused(f"{value:g} is out of reach: {low:g} to {high:g}.")
    return value
