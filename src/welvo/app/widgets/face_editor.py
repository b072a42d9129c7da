"""Arranging the pixels of a mode: as rows, rings or a line, or placed by hand over a picture of the fixture's front."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace
from PySide6.QtCore import QTimer
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from welvo.app.disk import wait_for
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.face import places_of_pixels
from welvo.app.widgets.face_canvas import Canvas
from welvo.app.widgets.fields import Tick
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.forms import CaptionBeside, Form, Row, Subject, Ticked, Together, Typed, ValueChoice
from welvo.app.widgets.painting import column_of_widgets, make_button, make_label, row_of_widgets
from welvo.formats.files import read_bytes
from welvo.rig.base import Refused
from welvo.rig.layout import spots_of, strip_facts
from welvo.rig.notation import say_count
from welvo.rig.profile import Arrangement, Backdrop, Mode
from welvo.rig.readers import Number, Percent, read_decimal, read_whole_number

TOOLS = ("Move", "Place", "Number", "Line", "Arc")
SAYS = {
    "Move": "Drag pixels, or a frame around several; the arrows nudge by a tenth of a pitch, with Shift by a "
    "whole one.",
    "Place": "Click where pixel 1 sits, then pixel 2 and so on.",
    "Number": "Click the pixels in the order of their numbers; those left out keep their order behind.",
    "Line": "Click the first and the last place; the selected pixels (or all) go evenly between. Then as many of "
    "the next.",
    "Arc": "Click the first place, one on the way and the last; the selected pixels (or all) go evenly along.",
}
MOST_PICTURE = 24 * 2**20


class _Numbers(Struct, frozen=True):
    """Several numbers with blanks between. `say_value` writes each with so many figures."""

    count: int
    what: str
    figures: int = 3

    def read_text(self, text: str) -> list[float]:
        parts = text.replace("%", " ").replace(";", " ").split()
        if len(parts) != self.count:
            raise Refused(self.what)
        return [read_decimal(x, -10_000, 10_000) for x in parts]

    def say_value(self, value: list[float]) -> str:
        return " ".join(f"{x:.{self.figures}g}" for x in value)


class _Rings(Struct, frozen=True):
    """`16 8 1` → pixels of each ring, from the outside in."""

    def read_text(self, text: str) -> tuple[int, ...]:
        return tuple(read_whole_number(x, 1, 10_000) for x in text.replace(",", " ").split())

    def say_value(self, value: tuple[int, ...]) -> str:
        return " ".join(map(str, value))


KIND = ValueChoice(
    "Sits in",
    "How the pixels sit. Choosing another one places them all anew.",
    "kind",
    (("rows", "rows and columns"), ("rings", "rings"), ("line", "a line"), ("free", "by hand")),
    name="Arrangement",
)
ROWS = Typed("Rows", "How many rows there are. The pixels are spread anew.", "rows", width=64)
COLUMNS = Typed("Columns", "How many pixels stand in one row. The pixels are spread anew.", "columns", width=64)
CORNERS = tuple((c, c) for c in ("top left", "top right", "bottom left", "bottom right"))
IN_ROWS = (
    Together("Rows", (ROWS, CaptionBeside("columns"), COLUMNS, None)),
    ValueChoice(
        "Pixel 1",
        "In which corner pixel number one sits. Look at the lamp: a wrong corner mirrors every picture.",
        "corner",
        CORNERS,
    ),
    ValueChoice(
        "Counted",
        "Whether the numbers run along rows or along columns.",
        "along",
        (("rows", "along rows"), ("columns", "along columns")),
    ),
    Ticked(
        "There and back",
        "Every second row (or column) is counted backwards, as a folded cable does.",
        "serpentine",
    ),
    Together(
        "Staggered",
        (
            Typed(
                "Staggered by",
                "How far every second row is shifted, in pitches: 0.5 for half a pixel.",
                "stagger",
                width=56,
            ),
            CaptionBeside("of a pitch"),
            None,
        ),
    ),
)
IN_RINGS = (
    Typed(
        "Rings",
        "How many pixels each ring has, from the outside in: 16 8 1.",
        "rings",
        _Rings(),
        width=120,
        name="Pixels a ring",
    ),
    Together(
        "First at",
        (
            Typed(
                "First at",
                "Where pixel one sits on its ring, in degrees from the top, clockwise.",
                "angle",
                width=56,
            ),
            CaptionBeside("°"),
            Ticked("Clockwise", "Which direction the numbers run on rings, seen from the front.", "clockwise"),
            None,
        ),
    ),
)
PIXEL = Together(
    "Pixel",
    (
        ValueChoice(
            "Pixel",
            "What one pixel looks like. Only for the drawing.",
            "pixel_shape",
            (("round", "round"), ("square", "square"), ("bar", "bar")),
        ),
        CaptionBeside("fills"),
        Typed(
            "Fills",
            "How much of a pitch one pixel fills, 0.05 to 1. Count × width cannot be more than the whole.",
            "pixel_size",
            width=56,
        ),
    ),
)


class FaceEditor(Dialog):
    """Works on a copy of the mode; `mode` and `picture` are what the operator left, when it was accepted."""

    def __init__(self, mode: Mode, picture: bytes | None, parent: QWidget) -> None:
        super().__init__(parent, "Arrange the pixels", wide=1040, high=700)
        self.canvas = Canvas(mode, picture)
        self.canvas.edited.connect(self.refresh)
        self.media = "image/png"
        self._walk = QTimer(self, interval=250)
        self._walk.timeout.connect(self._step_walk)
        self._tools: dict[str, QPushButton] = {}
        for name in TOOLS:
            b = make_button(name, lambda name=name: self.set_tool(name), SAYS[name])
            b.setCheckable(True)
            b.setProperty("segment", True)
            self._tools[name] = b
        self.walk_button = make_button(
            "Walk", self.walk_pixels, "Lights the pixels in number order, to compare with the real lamp."
        )
        self.labels = Tick(
            "Show slots", "Writes the slots of every pixel under it. Only shown; nothing is changed.", self._show_labels
        )
        left = column_of_widgets(spacing=6)
        top = flow_of_widgets(*self._tools.values(), spacing=0)
        top.addSpacing(12)
        top.addWidget(self.labels)
        top.addStretch()
        top.addWidget(self.walk_button)
        left.addLayout(top)
        left.addWidget(self.canvas, 1)
        self.forms: list[Form] = []
        self._groups: dict[str, QWidget] = {}
        right = column_of_widgets(spacing=6)
        self._build_fields(right)
        right.addStretch(1)
        holder = QWidget()
        holder.setLayout(right)
        keep_width(holder, 330)
        middle = row_of_widgets(spacing=16)
        middle.addLayout(left, 1)
        middle.addWidget(holder)
        self.body.addLayout(middle, 1)
        self.done_button = make_button(f"Place {say_count(mode.count_pixels, 'pixel')}", self.accept, primary=True)
        self.finish(self.done_button, room=18)
        self.set_tool("Move")

    @property
    def mode(self) -> Mode:
        return self.canvas.mode

    @property
    def picture(self) -> bytes | None:
        return self.canvas.picture

    def field_of_name(self, name: str) -> Any:
        """The field, choice or tick of that name."""
        return next(f.fields[name] for f in self.forms if name in f.fields)

    # ---- the forms

    def _wished_arrangement(self) -> Arrangement:
        return self.mode.arrangement or Arrangement(columns=max(1, self.mode.count_pixels))

    def _build_fields(self, body: QVBoxLayout) -> None:
        self._title = make_label("", 16, True)
        body.addWidget(self._title)
        placed = Subject(self._wished_arrangement, lambda _, **fields: self.arrange_pixels(**fields))
        self._group_of_rows(body, "", placed, Arrangement, KIND)
        self._group_of_rows(body, "rows", placed, Arrangement, *IN_ROWS)
        self._group_of_rows(body, "rings", placed, Arrangement, *IN_RINGS)
        self._group_of_rows(body, "line", placed, Arrangement, self._length_row())
        self._group_of_rows(
            body, "", Subject(lambda: self.mode, lambda _, **fields: self._look_for_picture(**fields)), Mode, PIXEL
        )
        self._by_hand = make_label(
            "Pixels stand where they were put, one by one. Place, Line and Arc put them over the picture.",
            11,
            quiet=True,
            wrap=True,
        )
        body.addWidget(self._by_hand)
        body.addSpacing(8)
        load = make_button(
            "Load…",
            self.load_picture,
            "A PNG or JPEG of the fixture's front, from the manual. It travels with the rig.",
        )
        remove = make_button("Remove", self.drop_picture, "Takes the picture away; the pixels stay.")
        body.addLayout(flow_of_widgets(make_label("Reference picture", 13, True), None, load, remove))
        behind = Subject(lambda: self.mode.backdrop, lambda _, **fields: self.show_background(**fields))
        self._group_of_rows(body, "picture", behind, Backdrop, *self._picture_rows())
        self._no_picture = make_label(
            "None yet. With a photo or the manual's drawing behind them, pixels are placed where they really sit.",
            11,
            quiet=True,
            wrap=True,
        )
        body.addWidget(self._no_picture)

    def _group_of_rows(
        self, body: QVBoxLayout, kind: str, subject: Subject, of: type[Struct], *rows: Row | Together
    ) -> None:
        """Rows that are only there for one kind of arrangement, or while there is a picture."""
        holder = QWidget()
        lines = column_of_widgets(spacing=6)
        holder.setLayout(lines)
        self.forms.append(Form(lines, subject, of).add(*rows))
        if kind:
            self._groups[kind] = holder
        body.addWidget(holder)

    def _length_row(self) -> Together:
        length = Typed(
            "Length",
            "How long the strip is, in millimetres. Count, pitch and density follow.",
            "length",
            Number(Arrangement, "length", empty=0.0, shown_empty=True),
            width=72,
        )

        def facts(a: Arrangement) -> str:
            if not a.length or not self.mode.count_pixels:
                return ""
            _, _, pitch, density = strip_facts(length=a.length, count=self.mode.count_pixels)
            return f"pitch {pitch:.4g} mm · {density:.4g} a metre"

        return Together("Length", (length, CaptionBeside("mm"), CaptionBeside(facts)))

    def _picture_rows(self) -> tuple[Together, ...]:
        def middle(typed: str) -> object:
            x, y = place.read_text(typed)
            return self.show_background(x=x, y=y)

        def crop(typed: str) -> object:
            left, top, right, bottom = (n / 100 for n in edges.read_text(typed))
            if min(left, top, right, bottom) < 0 or left + right >= 1 or top + bottom >= 1:
                raise Refused(edges.what)
            return self.show_background(left=left, top=top, right=1 - right, bottom=1 - bottom)

        place = _Numbers(2, "Two numbers, in pitches: 3 1.5.")
        edges = _Numbers(4, "Four percentages: left, top, right, bottom, such as 10 0 10 25.")
        strength = Typed("Strength", "How strongly the picture is shown, 0 to 100 %.", "fade", Percent(), width=58)
        turned = Typed(
            "Turned",
            "How far the picture is turned clockwise, in degrees.",
            "turn",
            Number(Backdrop, "turn", "°"),
            width=58,
        )
        wide = Typed(
            "Wide", "How many pitches wide the picture is. Make it fit the distance of two pixels.", "wide", width=76
        )
        at = Typed(
            "Middle at",
            "Where the picture's middle sits, in pitches: 3 1.5.",
            width=80,
            shown=lambda b: place.say_value([b.x, b.y]),
            take=middle,
        )
        cut = Typed(
            "Crop",
            "What is cut off at left, top, right and bottom, in percent: 10 0 10 25.",
            width=110,
            shown=lambda b: edges.say_value([100 * b.left, 100 * b.top, 100 * (1 - b.right), 100 * (1 - b.bottom)]),
            take=crop,
        )
        locked = Ticked(
            "Locked",
            "Keeps the picture as it is; only the pixels move.",
            "locked",
            take=lambda on: self.show_background(True, locked=on),
        )
        return (
            Together("Strength", (strength, CaptionBeside("turned"), turned, None)),
            Together("Wide", (wide, CaptionBeside("middle"), at)),
            Together("Crop", (cut, locked)),
        )

    def refresh(self) -> None:
        m, a = self.mode, self._wished_arrangement()
        self._title.setText(f"{m.name}: {say_count(m.count_pixels, 'pixel')}")
        for form in self.forms:
            form.refresh()
        for kind, group in self._groups.items():
            group.setVisible(kind == a.kind or (kind == "picture" and m.backdrop is not None))
        self._by_hand.setVisible(a.kind == "free")
        self._no_picture.setVisible(m.backdrop is None)
        for name in ("Strength", "Turned", "Wide", "Crop", "Middle at"):
            self.field_of_name(name).setEnabled(m.backdrop is not None and not m.backdrop.locked)
        for name, t in self._tools.items():
            t.setChecked(name == self.canvas.tool)

    def set_tool(self, tool: str) -> None:
        self.canvas.finish_numbers()
        self.canvas.set_tool(tool)
        self.say(SAYS[tool])
        self.refresh()

    def arrange_pixels(self, **fields: Any) -> object:
        """Place all pixels anew by an arrangement. Raises Refused when rings do not add up."""
        m = self.mode
        a = replace(self._wished_arrangement(), **fields)
        if "rows" in fields:
            a = replace(a, columns=-(-m.count_pixels // a.rows))
        elif "columns" in fields:
            a = replace(a, rows=-(-m.count_pixels // a.columns))
        if a.kind == "rows" and a.rows * a.columns < m.count_pixels:
            a = replace(a, columns=-(-m.count_pixels // a.rows))
        if a.kind == "rings" and not a.rings:
            a = replace(a, rings=(m.count_pixels,))
        if "rings" in fields and sum(a.rings) != m.count_pixels:
            sum_ = " + ".join(map(str, a.rings)) or "nothing"
            raise Refused(f"The rings must have {m.count_pixels} pixels together; {sum_} is {sum(a.rings)}.")
        spots = m.spots or places_of_pixels(m) if a.kind == "free" else spots_of(a, m.count_pixels)
        self.canvas.set_mode(replace(m, arrangement=a, spots=tuple(spots)))
        self.refresh()
        return a

    def _look_for_picture(self, **fields: object) -> object:
        self.canvas.mode = replace(self.mode, **fields)
        self.canvas.refresh()
        self.refresh()
        return True

    # ---- picture

    def load_picture(self) -> None:
        name = FileDialog.ask_to_open(
            self, "A picture of the fixture's front", str(Path.home()), "Pictures (*.png *.jpg *.jpeg)"
        )
        if name:
            self.load_path(Path(name))

    def load_path(self, path: Path) -> None:
        """Take a PNG or JPEG as reference. What is none, or too large, is refused with the reason."""
        data = wait_for(lambda: read_bytes(path, MOST_PICTURE, "a reference picture"))
        kind = "image/png" if data[:8] == b"\x89PNG\r\n\x1a\n" else "image/jpeg" if data[:3] == b"\xff\xd8\xff" else ""
        image = QImage.fromData(data) if kind else QImage()
        if image.isNull():
            raise Refused(f"{path.name} is no PNG or JPEG that can be shown.")
        self.media = kind
        self.canvas.picture = data
        xs, ys = [s.x for s in self.canvas.spots] or [0.0], [s.y for s in self.canvas.spots] or [0.0]
        wide = max(xs) - min(xs) + 2
        back = Backdrop(picture="new", x=(max(xs) + min(xs)) / 2, y=(max(ys) + min(ys)) / 2, wide=max(2.0, wide))
        self.canvas.mode = replace(self.mode, backdrop=back)
        self.canvas.refresh(True)
        self.refresh()

    def drop_picture(self) -> None:
        self.canvas.picture = None
        self.canvas.mode = replace(self.mode, backdrop=None)
        self.canvas.refresh(True)
        self.refresh()

    def show_background(self, even_locked: bool = False, **fields: object) -> object:
        b = self.mode.backdrop
        if b is None or (b.locked and not even_locked):
            return True
        self.canvas.mode = replace(self.mode, backdrop=replace(b, **fields))
        self.canvas.refresh(True)
        self.refresh()
        return True

    # ---- looking

    def _show_labels(self, on: bool) -> None:
        self.canvas.labels = on
        self.canvas.update()

    def walk_pixels(self) -> None:
        self._walk.stop() if self._walk.isActive() else self._walk.start()
        self.walk_button.setText("Stop" if self._walk.isActive() else "Walk")

    def _step_walk(self) -> None:
        if self.canvas.spots:
            self.canvas.lit = self.canvas.lit % len(self.canvas.spots) + 1
            self.canvas.update()

    def accept(self) -> None:
        self.canvas.finish_numbers()
        super().accept()
