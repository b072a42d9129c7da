"""The rig from above: fixtures where they hang, dragged, typed, snapped to a grid, over a reference picture."""

from __future__ import annotations

import math
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPixmap, QResizeEvent, QWheelEvent
from PySide6.QtWidgets import QWidget

from welvo.app.disk import wait_for
from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.painting import (
    CENTRE,
    column_of_widgets,
    draw_frame,
    draw_text_line,
    make_button,
    make_label,
    row_of_widgets,
    width_of,
)
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.app.widgets.theme import THEME
from welvo.formats.files import read_bytes
from welvo.patch.positions import in_number_order, move_fixtures, place_fixtures, put_down, snap_to_grid
from welvo.rig.base import Refused
from welvo.rig.document import Change, Picture, Rig, fresh_id, join_changes, put_entries, put_rig
from welvo.rig.lookup import profile_of
from welvo.rig.readers import read_decimal
from welvo.rig.scene import Ground

GRIDS = {"0": "no grid", "0.1": "0.1 m", "0.25": "0.25 m", "0.5": "0.5 m", "1": "1 m"}
SIDE = 0.5
"""Metres a fixture is drawn wide, as far as that leaves its number readable."""
MOST_PICTURE = 16 * 2**20


class Plan(QWidget):
    """Draws the rig from above. `pointed` carries what stands under the hand, in words."""

    pointed = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.grid = 0.5
        self._scale = 40.0
        """Pixels of a metre."""
        self._middle = QPointF(0, 0)
        self._touched = False
        self._press: QPointF | None = None
        self._grab: str = ""
        self._carry = QPointF(0, 0)
        """How far what is dragged was carried, in metres."""
        self._frame: QRectF | None = None
        self._pan: QPointF | None = None
        self._ground: tuple[str, QPixmap] | None = None
        self.setMinimumSize(300, 200)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Rig from above")
        self.setWhatsThis(
            "Every fixture where it hangs, seen from above; the front is below. Drag to move, arrows move by one step "
            "of the grid, Ctrl and a click choose several."
        )
        session.changed.connect(self._follow_change)
        session.selection_changed.connect(self.update)

    # ---- where things are

    @property
    def spots_of_fixtures(self) -> dict[str, tuple[float, float, float]]:
        return {k: f.spot for k, f in self._session.rig.fixtures.items() if f.spot}

    def fit_everything(self) -> None:
        """Show everything that has a place, and the picture."""
        xs, ys = [p[0] for p in self.spots_of_fixtures.values()], [p[1] for p in self.spots_of_fixtures.values()]
        g = self._session.rig.ground
        if g:
            tall = self._height_of_picture(g)
            xs += [g.left, g.left + g.wide]
            ys += [g.front, g.front + tall]
        if not xs:
            xs, ys = [0.0, 10.0], [0.0, 6.0]
        wide, high = max(xs) - min(xs) + 2, max(ys) - min(ys) + 2
        self._scale = max(2.0, min(160.0, (self.width() - 40) / wide, (self.height() - 40) / high))
        self._middle = QPointF((min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2)
        self._touched = False
        self.update()

    def point_of_metres(self, x: float, y: float) -> QPointF:
        """Where a place in metres is on the screen."""
        return QPointF(
            self.width() / 2 + (x - self._middle.x()) * self._scale,
            self.height() / 2 - (y - self._middle.y()) * self._scale,
        )

    def metres_of_point(self, at: QPointF) -> QPointF:
        return QPointF(
            self._middle.x() + (at.x() - self.width() / 2) / self._scale,
            self._middle.y() - (at.y() - self.height() / 2) / self._scale,
        )

    def _box(self, key: str, spot: tuple[float, float, float]) -> QRectF:
        side = max(12.0, min(34.0, SIDE * self._scale))
        words = str(self._session.rig.fixtures[key].number)
        wide = max(side, width_of(words, 11) + 8) if self._scale >= 14 else side
        at = self.point_of_metres(spot[0], spot[1])
        if key in self._carried_fixtures():
            at += QPointF(self._carry.x() * self._scale, -self._carry.y() * self._scale)
        return QRectF(at.x() - wide / 2, at.y() - side / 2, wide, side)

    def _carried_fixtures(self) -> set[str]:
        return set(self._session.selection.ids) if self._grab and self._session.selection.kind == "item" else set()

    def fixture_under(self, at: QPointF) -> str:
        """The fixture under a point; the one drawn last where they overlap."""
        found = ""
        for key, spot in self.spots_of_fixtures.items():
            if self._box(key, spot).adjusted(-2, -2, 2, 2).contains(at):
                found = key
        return found

    def _follow_change(self, change: Change) -> None:
        if (
            change.changed_ids("fixtures")
            or change.changed_ids("rig")
            or change.changed_ids("profiles")
            or change.changed_ids("pictures")
        ):
            self.update()

    def zoom_by(self, factor: float, around: QPointF | None = None) -> None:
        at = around or QPointF(self.width() / 2, self.height() / 2)
        before = self.metres_of_point(at)
        self._scale = max(1.0, min(400.0, self._scale * factor))
        self._middle += before - self.metres_of_point(at)
        self._touched = True
        self.update()

    # ---- the hand

    def mousePressEvent(self, e: QMouseEvent) -> None:
        at = e.position()
        if e.button() in (Qt.MouseButton.MiddleButton, Qt.MouseButton.RightButton):
            self._pan = at
            return
        key = self.fixture_under(at)
        chosen = list(self._session.selection.ids) if self._session.selection.kind == "item" else []
        if e.modifiers() & Qt.KeyboardModifier.ControlModifier and key:
            self._session.select_items([k for k in chosen if k != key] if key in chosen else [*chosen, key])
            return
        self._press = at
        if key:
            if key not in chosen:
                self._session.select_items([key])
            self._grab, self._carry = key, QPointF(0, 0)
        else:
            self._frame = QRectF(at, at)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        at = e.position()
        if self._pan is not None:
            self._middle -= QPointF((at.x() - self._pan.x()) / self._scale, -(at.y() - self._pan.y()) / self._scale)
            self._pan, self._touched = at, True
        elif self._grab and self._press is not None and self._grab in self.spots_of_fixtures:
            x, y, _ = self.spots_of_fixtures[self._grab]
            hand = self.metres_of_point(at) - self.metres_of_point(self._press)
            free = e.modifiers() & Qt.KeyboardModifier.AltModifier
            grid = 0.0 if free else self.grid
            far = (at - self._press).manhattanLength() > 4
            if far or self._carry != QPointF(0, 0):
                self._carry = QPointF(snap_to_grid(x + hand.x(), grid) - x, snap_to_grid(y + hand.y(), grid) - y)
                self.pointed.emit(f"{x + self._carry.x():.2f}, {y + self._carry.y():.2f} m")
        elif self._frame is not None:
            self._frame.setBottomRight(at)
        else:
            self._say_position(at)
            return
        self.update()

    def _say_position(self, at: QPointF) -> None:
        key = self.fixture_under(at)
        here = self.metres_of_point(at)
        words = f"{here.x():.2f} from the left, {here.y():.2f} m from the front"
        if key:
            f = self._session.rig.fixtures[key]
            assert f.spot
            words = f"{f.number} {f.name}: " + ", ".join(f"{v:g}" for v in f.spot)
        self.pointed.emit(words)

    def mouseReleaseEvent(self, e: QMouseEvent) -> None:
        self._pan = None
        frame, grab, carry = self._frame, self._grab, self._carry
        chosen = [k for k in self._session.selection.ids if k in self.spots_of_fixtures]
        self._frame, self._grab, self._press, self._carry = None, "", None, QPointF(0, 0)
        if grab and carry != QPointF(0, 0):
            self._session.attempt_edit(move_fixtures, chosen, carry.x(), carry.y())
        elif frame is not None:
            r = frame.normalized()
            if r.width() > 4 or r.height() > 4:
                inside = [k for k, s in self.spots_of_fixtures.items() if r.contains(self.point_of_metres(s[0], s[1]))]
                self._session.select_items(in_number_order(self._session.rig, inside))
            else:
                self._session.select_items([])
        self.update()

    def wheelEvent(self, e: QWheelEvent) -> None:
        self.zoom_by(1.2 if e.angleDelta().y() > 0 else 1 / 1.2, e.position())

    def keyPressEvent(self, e: QKeyEvent) -> None:
        step = self.grid or 0.1
        if e.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            step *= 4
        way = {
            Qt.Key.Key_Left: (-step, 0.0),
            Qt.Key.Key_Right: (step, 0.0),
            Qt.Key.Key_Up: (0.0, step),
            Qt.Key.Key_Down: (0.0, -step),
        }.get(Qt.Key(e.key()))
        chosen = [k for k in self._session.selection.ids if k in self.spots_of_fixtures]
        if e.key() == Qt.Key.Key_Escape and (self._grab or self._frame is not None):
            self._frame, self._grab, self._press, self._carry = None, "", None, QPointF(0, 0)
            self.update()
        elif way and chosen:
            self._session.attempt_edit(move_fixtures, chosen, *way)
        elif e.key() == Qt.Key.Key_Home:
            self.fit_everything()
        else:
            super().keyPressEvent(e)

    def resizeEvent(self, e: QResizeEvent) -> None:
        super().resizeEvent(e)
        if not self._touched:
            self.fit_everything()

    # ---- drawing

    def _ground_picture(self, g: Ground) -> QPixmap | None:
        picture = self._session.rig.pictures.get(g.picture)
        if picture is None:
            return None
        if self._ground is None or self._ground[0] != g.picture:
            made = QPixmap()
            made.loadFromData(picture.data)
            self._ground = (g.picture, made)
        return self._ground[1]

    def _height_of_picture(self, g: Ground) -> float:
        made = self._ground_picture(g)
        return g.wide * made.height() / made.width() if made and made.width() else g.wide

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("field"))
        g = self._session.rig.ground
        made = self._ground_picture(g) if g else None
        if g and made and not made.isNull():
            corner = self.point_of_metres(g.left, g.front + self._height_of_picture(g))
            p.setOpacity(g.fade)
            p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            shown = QRectF(corner.x(), corner.y(), g.wide * self._scale, self._height_of_picture(g) * self._scale)
            p.drawPixmap(shown, made, QRectF(made.rect()))
            p.setOpacity(1.0)
        self._paint_grid(p)
        chosen = set(self._session.selection.ids) if self._session.selection.kind == "item" else set()
        rig = self._session.rig
        for key, spot in sorted(self.spots_of_fixtures.items(), key=lambda x: x[0] in chosen):
            profile = profile_of(rig, rig.fixtures[key])
            line, fill = THEME.colours_of_tint(profile.tint if profile else 0)
            r = self._box(key, spot)
            if not r.intersects(QRectF(self.rect())):
                continue
            p.fillRect(r, fill)
            p.setPen(QPen(line, 1.5))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(r)
            if key in chosen:
                draw_frame(p, r.adjusted(-3, -3, 3, 3), None, "text", 2, 2)
        if self._scale >= 14:
            self._paint_numbers(p, chosen)
        if self._frame is not None:
            draw_frame(p, self._frame.normalized(), None, "accent", 0, 1, dashed=True)
        if not self.spots_of_fixtures:
            words = "No fixture has a place yet. Choose some on the left and place them here."
            draw_text_line(p, QRectF(self.rect()), words, "quiet", 13, align=CENTRE)
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()), None, "accent", 0, 2)

    def _paint_numbers(self, p: QPainter, chosen: set[str]) -> None:
        """The numbers of fixtures that there is room for, those chosen first; zooming in brings the others."""
        taken: list[QRectF] = []
        for key, spot in sorted(self.spots_of_fixtures.items(), key=lambda x: x[0] not in chosen):
            number, bold = str(self._session.rig.fixtures[key].number), key in chosen
            wide, middle = width_of(number, 11, bold) / 2 + 1, self._box(key, spot).center()
            room = QRectF(middle.x() - wide - 2, middle.y() - 8, 2 * wide + 4, 16)  # two numbers never read as one
            if room.intersects(QRectF(self.rect())) and not any(room.intersects(o) for o in taken):
                taken.append(room)
                draw_text_line(p, room, number, size=11, bold=bold, align=CENTRE, elide=False)

    def _paint_grid(self, p: QPainter) -> None:
        """Lines at a step that leaves room for their numbers: metres from the left below, from the front beside."""
        step = next((s for s in (0.5, 1.0, 2.0, 5.0, 10.0, 50.0, 100.0) if s * self._scale >= 34), 500.0)
        low, high = self.metres_of_point(QPointF(0, self.height())), self.metres_of_point(QPointF(self.width(), 0))
        p.setPen(QPen(THEME.color("line"), 1))
        first_x, last_x = math.ceil(low.x() / step), math.floor(high.x() / step)
        first_y, last_y = math.ceil(low.y() / step), math.floor(high.y() / step)
        for n in range(first_x, last_x + 1):
            x = self.point_of_metres(n * step, 0).x()
            p.drawLine(QPointF(x, 0), QPointF(x, self.height() - 16))
        for n in range(first_y, last_y + 1):
            y = self.point_of_metres(0, n * step).y()
            p.drawLine(QPointF(34, y), QPointF(self.width(), y))
        for n in range(first_x, last_x + 1):
            x = self.point_of_metres(n * step, 0).x()
            if 50 <= x <= self.width() - 20:  # a number at the edge would be half of one
                r = QRectF(x - 20, self.height() - 16, 40, 16)
                draw_text_line(p, r, f"{n * step:g}", "quiet", 11, align=CENTRE)
        for n in range(first_y, last_y + 1):
            y = self.point_of_metres(0, n * step).y()
            if 8 <= y <= self.height() - 24:
                draw_text_line(p, QRectF(2, y - 8, 30, 16), f"{n * step:g}", "quiet", 11)


class PositionsPage(QWidget):
    """What has no place yet on the left, the plan beside it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.plan = Plan(session)
        self.list = RowList("Without a place", (Column("No.", 54, "number"), Column("Without a place", 120)))
        self.list.setSelectionMode(RowList.SelectionMode.ExtendedSelection)
        keep_width(self.list, 200)
        self.put = make_button("Place them", self.put_chosen, "Puts the chosen ones, or all, in a row in the view.")
        self.spot = Field(
            "Where the selected fixtures hang: 2.5, 0, 4 (metres from the left, the front, the floor). With two ends, "
            "0, 2, 4 to 10, 2, 4, they are spread evenly in the order of their numbers. Empty takes their places away.",
            self._take_typed,
        )
        self.spot.setAccessibleName("Place")
        self.spot.setPlaceholderText("2.5, 0, 4")
        keep_width(self.spot, 190)
        self.grid = Choice("To which grid things snap while they are dragged; Alt leaves it.", self._take_grid)
        self.grid.setAccessibleName("Grid")
        self.grid.set_options(list(GRIDS.items()), "0.5")
        self.words = make_label("", 11, quiet=True)
        picture = make_button("Picture…", self.ask_picture, "A drawing of the hall under the rig, to its own scale.")
        bar = flow_of_widgets(
            make_label("Place", 11, quiet=True), self.spot, make_label("Grid", 11, quiet=True), self.grid, picture,
            None,
            self.words,
            make_button("−", lambda: self.plan.zoom_by(1 / 1.4), "Smaller."),
            make_button("+", lambda: self.plan.zoom_by(1.4), "Larger."),
            make_button("Fit", self.plan.fit_everything, "Everything that has a place.   Home"),
            spacing=6,
        )  # fmt: skip
        bar.setContentsMargins(16, 0, 16, 6)
        left = column_of_widgets((16, 0, 8, 8), 6)
        left.addWidget(self.list, 1)
        left.addWidget(self.put)
        middle = row_of_widgets(spacing=0)
        middle.addLayout(left)
        middle.addWidget(self.plan, 1)
        body = column_of_widgets(spacing=0)
        body.addLayout(bar)
        body.addLayout(middle, 1)
        self.setLayout(body)
        self.plan.pointed.connect(self.words.setText)
        session.changed.connect(self._follow_change)
        session.selection_changed.connect(self._follow_selection)

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def _follow_change(self, _: Change) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        rig = self._session.rig
        left = in_number_order(rig, (k for k, f in rig.fixtures.items() if f.spot is None))
        self.list.show_lines([ListRow(k, (str(rig.fixtures[k].number), rig.fixtures[k].name)) for k in left])
        self.put.setEnabled(bool(left))
        self._follow_selection()

    def _chosen_fixtures(self) -> list[str]:
        s = self._session.selection
        return [k for k in s.ids if k in self._session.rig.fixtures] if s.kind == "item" else []

    def _follow_selection(self) -> None:
        rig = self._session.rig
        spots = {rig.fixtures[k].spot for k in self._chosen_fixtures()}
        one = next(iter(spots)) if len(spots) == 1 else None
        self.spot.set_value(", ".join(f"{v:g}" for v in one) if one else "")
        self.spot.setEnabled(bool(self._chosen_fixtures()))
        self.spot.setPlaceholderText("2.5, 0, 4" if len(spots) < 2 else "0, 2, 4 to 10, 2, 4")

    def _take_typed(self, typed: str) -> None:
        self._session.make_edit(place_fixtures, self._chosen_fixtures(), typed)

    def _take_grid(self, key: str) -> None:
        self.plan.grid = float(key)

    def put_chosen(self) -> None:
        """Put the chosen ones, or all that are listed, in a row on the plan."""
        keys = [str(k) for k in self.list.chosen_ids()] or [str(k) for k in self.list.rows.ids]
        middle = self.plan.metres_of_point(QPointF(self.plan.width() / 2, self.plan.height() / 2))
        step = max(1.0, self.plan.grid)
        x = snap_to_grid(middle.x() - step * (len(keys) - 1) / 2, self.plan.grid)
        self._session.make_edit(put_down, keys, x, snap_to_grid(middle.y(), self.plan.grid), step)
        self._session.select_items(keys)

    def ask_picture(self) -> None:
        GroundPicture(self._session, self).exec()

    def restyle(self) -> None:
        self.plan.update()


class GroundPicture(WishDialog):
    """The picture under the plan: which one, how wide it is in metres, where its lower left corner lies."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(
            parent, "Picture under the rig", "Use it",
            note="A drawing or photo of the hall from above. It travels with the rig.",
        )  # fmt: skip
        self._session = session
        g = session.rig.ground
        self.picture = session.rig.pictures.get(g.picture) if g else None
        self._key = g.picture if g else ""
        self.which = make_label(self.picture.name if self.picture else "no picture chosen", 13)
        self.body.addLayout(
            flow_of_widgets(make_button("Choose…", self._ask_for_file, "A PNG or JPEG."), self.which, None)
        )
        wide = f"{g.wide:g}" if g else "10"
        self.wide = self.ask_for_line("Width", "How wide the picture is in reality, in metres.", wide, 80, after="m")
        left, front = (f"{g.left:g}", f"{g.front:g}") if g else ("0", "0")
        self.left = self.ask_for_line("From the left", "Where its left edge lies, in metres.", left, 80, after="m")
        self.front = self.ask_for_line("From the front", "Where its lower edge lies, in metres.", front, 80, after="m")
        self.fade = self.ask_for_line(
            "Strength", "How strongly it is shown.", f"{100 * g.fade:g}" if g else "50", 80, after="%"
        )
        self.drop = make_button("Without picture", self._drop_picture, "Takes the picture away; the places stay.")
        self.drop.setEnabled(g is not None)
        self.finish(None, self.drop)

    def _ask_for_file(self) -> None:
        name = FileDialog.ask_to_open(self, "A picture", str(Path.home()), "Pictures (*.png *.jpg *.jpeg)")
        if name:
            self.load_picture(Path(name))

    def load_picture(self, path: Path) -> None:
        """Take a picture. Raises Refused when the file is no picture."""
        data = wait_for(lambda: read_bytes(path, MOST_PICTURE, "a picture"))
        made = QPixmap()
        if not made.loadFromData(data) or not made.width():
            raise Refused(f"{path.name} is no picture that can be shown.")
        media = "image/jpeg" if data.startswith(b"\xff\xd8\xff") else "image/png"
        self.picture, self._key = Picture(name=path.name, media=media, data=data), ""
        self.which.setText(path.name)
        self.look()

    def _make_ground(self, key: str) -> Ground:
        wide, left, front, fade = (
            read_decimal(line.text(), low, high)
            for line, low, high in (
                (self.wide, 0.01, 1e5), (self.left, -1e5, 1e5), (self.front, -1e5, 1e5), (self.fade, 0.0, 100.0),
            )
        )  # fmt: skip
        return Ground(picture=key, left=left, front=front, wide=wide, fade=fade / 100)

    def foresee(self) -> tuple[str, str]:
        self._make_ground("x")
        return "", "Use it" if self.picture else ""

    def do(self) -> object:
        assert self.picture
        rig: Rig = self._session.rig
        key = self._key or fresh_id(rig.pictures, "pic")
        made, first = put_entries(rig, "picture", pictures={key: self.picture})
        made, second = put_rig(made, "picture", ground=self._make_ground(key))
        return self._session.take_over_edit((made, join_changes("put a picture under the rig", first, second)))

    def _drop_picture(self) -> None:
        self._session.make_edit(put_rig, "take the picture away", ground=None)
        self.accept()
