"""The riser: a device as a bar, its cables attached to it to scale, with real bends at the folds."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QMimeData, QPointF, Qt, Signal
from PySide6.QtGui import (
    QDragEnterEvent,
    QDragLeaveEvent,
    QDragMoveEvent,
    QDropEvent,
    QKeyEvent,
    QMouseEvent,
)
from PySide6.QtWidgets import QToolTip

from welvo.app.runs.riser_drawing import At, RiserDrawing
from welvo.app.session import Session
from welvo.app.widgets.literal import literal_text
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_count, say_place
from welvo.rig.runs import Segment
from welvo.runs.along import cable_order, element_pixel, piece_name
from welvo.runs.edits import attach_segments, insert_at_pixel, move_segment

MIME = "application/x-welvo-segment"
"""What is dragged: `item KEY`, or `segment DEVICE LABEL N`."""


class Riser(RiserDrawing):
    """Emits `picked` (port, segment or −1, LED or 0) for what was clicked or walked to, `attached` for a port."""

    picked = Signal(str, int, int)
    attached = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._drag_from: tuple[QPointF, At] | None = None
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Riser: the device and its cables")

    def place_at_point(self, pos: QPointF) -> At:
        """What is under a point."""
        for label in self.labels_of_ports:
            c = self.column_of_port(label)
            if not c.left() <= pos.x() < c.right():
                continue
            course = self.courses.get(label)
            near: At | None = None
            for s in course.strokes if course else ():
                r = self.rect_of(label, s)
                if r.adjusted(-2, 0, 2, 0).contains(pos):
                    if not s.leds:
                        return At(label, s.n, 0)
                    offset = (r.bottom() - pos.y() if s.up else pos.y() - r.top()) / max(0.001, self.pixels_per_led)
                    near = At(label, s.n, s.first + min(s.leds - 1, max(0, int(offset))))
            if near:
                return near
            port = self._session.rig.devices[self.device_id].ports.get(label)
            line = next((n for n, s in enumerate(port.run) if s.kind == "line"), -1) if port and not course else -1
            return At(label, line, 0)
        return At("", -1, 0)

    def pixel_at(self, at: At) -> int:
        """Which pixel of the port (from 1) something would begin at that is put in at a place; 0 when there is none."""
        stream = self._of.get(at.label)
        if stream is None or at.n < 0 or not at.led:
            return 0
        piece = stream.pieces[at.n]
        return piece.px + (at.led - 1) // piece.segment.group if piece.pixels else 0

    def words_at(self, at: At) -> str:
        """One sentence on a place, for the tooltip."""
        stream = self._of.get(at.label)
        if stream is None:
            return f"Port {at.label}" if at.label else ""
        if at.n < 0:
            needs = f", {say_count(len(stream.used), 'universe')}" if stream.used else ""
            return (
                f"Port {at.label}: {say_count(stream.leds, 'pixel')} on the cable, "
                f"{say_count(stream.slots, 'slot')}{needs}"
            )
        piece = stream.pieces[at.n]
        name = piece_name(self._session.rig, piece)
        if not at.led or not piece.pixels:
            return f"Port {at.label} · {name}"
        px = int(cable_order(piece.segment, piece.leds)[at.led - 1])
        place = piece.place_of_slot((px - 1) * piece.k + 1)
        own = element_pixel(self._session.rig, piece, px) or px
        where = f" · {say_place(*place)}" if place else ""
        return f"Port {at.label} · {name}/{own}{where} · slot {piece.stream + (px - 1) * piece.k} of the stream"

    def mousePressEvent(self, e: QMouseEvent) -> None:
        at = self.place_at_point(e.position())
        self.setFocus()
        if at.label:
            self._drag_from = (e.position(), at)
            self.picked.emit(at.label, at.n, at.led)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        at = self.place_at_point(e.position())
        if self._drag_from and e.buttons() & Qt.MouseButton.LeftButton:
            start, what = self._drag_from
            if what.n >= 0 and (e.position() - start).manhattanLength() > 8:
                self._ghost = self._say_move(what, at)
                self.update()
            return
        QToolTip.showText(e.globalPosition().toPoint(), literal_text(self.words_at(at)), self)

    def mouseReleaseEvent(self, e: QMouseEvent) -> None:
        drag, self._drag_from = self._drag_from, None
        if self._ghost and drag:
            self._ghost = None
            self._session.show_foreseen(None)
            self.update()
            self.drop_segment(drag[1], self.place_at_point(e.position()))

    def _landing_place(self, at: At) -> int:
        """Before which segment of a port something dropped here goes: by the half of a string, behind a device."""
        stream = self._of.get(at.label)
        port = self._session.rig.devices[self.device_id].ports.get(at.label)
        if at.n < 0 or stream is None:
            return len(port.run) if port else 0
        piece = stream.pieces[at.n]
        return at.n + (1 if not at.led or at.led > piece.leds / 2 else 0)

    def _say_move(self, what: At, at: At) -> tuple[At, str, bool]:
        name = self._name_of_carried(what)
        try:
            self._session.show_foreseen(self._move_edit(what, at))
        except Refused as e:
            self._session.show_foreseen(None)
            return at, str(e), False
        return at, f"{name} to port {at.label}, place {self._landing_place(at) + 1}", True

    def _name_of_carried(self, what: At) -> str:
        stream = self._of.get(what.label)
        return piece_name(self._session.rig, stream.pieces[what.n]) if stream else "the line"

    def _move_edit(self, what: At, at: At) -> Edit:
        to = self._landing_place(at)
        if what.label == at.label and to > what.n:
            to -= 1
        if not at.label:
            raise Refused("Drop it on a port; Esc gives it back.")
        return move_segment(self._session.rig, self.device_id, what.label, what.n, at.label, to)

    def drop_segment(self, what: At, at: At) -> bool:
        """Move a segment to where it was dropped."""
        return self._session.attempt_edit(lambda _: self._move_edit(what, at)) is not None

    def _attach_dropped(self, at: At, segments: list[Segment]) -> tuple[At, str, Callable[[Rig], Edit]]:
        """Where something dropped would go, also in words, and the edit: between segments, or inside a long one."""
        px, stream = self.pixel_at(at), self._of.get(at.label)
        if stream and px:
            leds = stream.pieces[at.n].leds
            reach = 8 / max(0.001, self.pixels_per_led)
            if reach < at.led < leds - reach:
                return at, f"pixel {px}", lambda rig: insert_at_pixel(rig, self.device_id, at.label, px, segments)
        to = self._landing_place(at)
        return (
            at._replace(led=0),
            f"place {to + 1}",
            lambda rig: attach_segments(rig, self.device_id, at.label, segments, to),
        )

    def _say_attach(self, keys: list[str], at: At) -> tuple[At, str, bool]:
        if not at.label:
            return at, "Drop it on a port; Esc gives it back.", False
        at, where, edit = self._attach_dropped(at, [self.segment_for(k) for k in keys])
        try:
            self._session.show_foreseen(edit(self._session.rig))
        except Refused as e:
            self._session.show_foreseen(None)
            return at, str(e), False
        what = name_of_item(self._session.rig, keys[0]) if len(keys) == 1 else say_count(len(keys), "item")
        return at, f"{what} to port {at.label}, {where}", True

    def drop_items(self, keys: list[str], at: At, make: Callable[[str], Segment]) -> bool:
        """Attach items where they were dropped: between segments, or at the very pixel inside a long one."""
        *_, edit = self._attach_dropped(at, [make(k) for k in keys])
        if self._session.attempt_edit(edit) is None:
            return False
        self.attached.emit(at.label)
        return True

    def dragEnterEvent(self, e: QDragEnterEvent) -> None:
        if e.mimeData().hasFormat(MIME):
            e.acceptProposedAction()

    def dragMoveEvent(self, e: QDragMoveEvent) -> None:
        at = self.place_at_point(e.position())
        keys = read_mime(e.mimeData())
        if keys and (self._ghost is None or self._ghost[0] != at):
            self._ghost = self._say_attach(keys, at)
        self.update()
        e.acceptProposedAction()

    def dragLeaveEvent(self, _: QDragLeaveEvent) -> None:
        self._ghost = None
        self._session.show_foreseen(None)
        self.update()

    def dropEvent(self, e: QDropEvent) -> None:
        self._ghost = None
        self._session.show_foreseen(None)
        keys = read_mime(e.mimeData())
        at = self.place_at_point(e.position())
        if keys and at.label:
            self.drop_items(keys, at, self.segment_for)
            e.acceptProposedAction()

    def segment_for(self, key: str) -> Segment:
        """How an item is attached when it is dropped: all of it, folded as it lies."""
        element = self._session.rig.elements.get(key)
        fold = element.fold if element and element.unfolds == "box" else 0
        return Segment(kind="pixels", element=key, fold=fold)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        labels = self.labels_of_ports
        if not labels:
            return
        at = self.chosen if self.chosen.label in labels else At(labels[0], -1, 0)
        stream = self._of.get(at.label)
        k = e.key()
        if k == Qt.Key.Key_Escape and self._ghost:
            self._ghost = self._drag_from = None
            self._session.show_foreseen(None)
            self.update()
        elif e.modifiers() & Qt.KeyboardModifier.ShiftModifier and k in _WAYS and at.n >= 0:
            self._carry_segment(at, *_WAYS[Qt.Key(k)])
        elif k in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            n = labels.index(at.label) + (1 if k == Qt.Key.Key_Right else -1)
            if 0 <= n < len(labels):
                self.picked.emit(labels[n], -1, 0)
        elif k in (Qt.Key.Key_Up, Qt.Key.Key_Down) and stream:
            n = at.n + (1 if k == Qt.Key.Key_Down else -1)
            if -1 <= n < len(stream.pieces):
                self.picked.emit(at.label, n, 0)
        elif k == Qt.Key.Key_N and stream and at.n >= 0 and stream.pieces[at.n].leds:
            leds = stream.pieces[at.n].leds
            back = bool(e.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self.picked.emit(at.label, at.n, max(1, at.led - 1) if back else min(leds, at.led + 1))
        else:
            super().keyPressEvent(e)

    def _carry_segment(self, at: At, ports: int, places: int) -> None:
        """Move the chosen segment by so many ports, or by so many places in its run."""
        labels = self.labels_of_ports
        to = labels.index(at.label) + ports
        if not 0 <= to < len(labels):
            return
        port = self._session.rig.devices[self.device_id].ports.get(labels[to])
        place = max(0, at.n + places) if not ports else len(port.run) if port else 0
        if not ports and port and place >= len(port.run):
            return
        if self._session.attempt_edit(move_segment, self.device_id, at.label, at.n, labels[to], place):
            self.picked.emit(labels[to], place, 0)


_WAYS = {
    Qt.Key.Key_Left: (-1, 0),
    Qt.Key.Key_Right: (1, 0),
    Qt.Key.Key_Up: (0, -1),
    Qt.Key.Key_Down: (0, 1),
}
"""Shift and an arrow: ports and places to move by."""


def write_mime(keys: list[str]) -> QMimeData:
    made = QMimeData()
    made.setData(MIME, "\n".join(keys).encode())
    return made


def read_mime(mime: QMimeData) -> list[str]:
    data = mime.data(MIME).data() if mime.hasFormat(MIME) else b""
    return [k for k in bytes(data).decode().split("\n") if k]
