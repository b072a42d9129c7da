"""The riser: a box as a bar, its cables hanging from it to scale, with real bends at the folds."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from PySide6.QtCore import QMimeData, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QDragEnterEvent,
    QDragLeaveEvent,
    QDragMoveEvent,
    QDropEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
)  # fmt: skip
from PySide6.QtWidgets import QToolTip, QWidget

from welvo.app import marks
from welvo.app.paint import CENTRE, LEFT, box, text, width_of
from welvo.app.session import Session
from welvo.app.stations.riser_layout import PortLayout, Room, lay_out, rect_of, room_for
from welvo.app.stations.tape_paint import tint_of
from welvo.app.theme import THEME
from welvo.patch.along import cable_order, element_pixel, piece_name
from welvo.patch.cable import Piece, Stream
from welvo.rig.abilities import ability
from welvo.rig.document import Change, Rig
from welvo.rig.lookup import call
from welvo.rig.notation import NotationError, plural, say_place, thousands
from welvo.rig.plan import model_of
from welvo.rig.runs import Segment
from welvo.runs.consequences import moved
from welvo.runs.edits import hang, insert_at_pixel, move_segment
from welvo.runs.geometry import Lie, Stroke, lie, place_along

BAR = 58
"""Height of the box's bar with the loads under it."""
NARROW = 44
"""Columns narrower than that have room for a port's label alone."""
FEW = 400
"""Segments of a box up to which everything that would move is worked out while the hand still drags."""
MIME = "application/x-welvo-segment"
"""What is dragged: `thing KEY`, or `segment DEVICE LABEL N`."""


class At(NamedTuple):
    """A place on the riser: port, segment (−1: none), LED along the segment (from 1; 0: none)."""

    label: str
    n: int
    led: int


class Header(NamedTuple):
    """What stands at a port: its load in words and as a share of what it takes (below 0: no limit), whether that is too
    much, and the mode that switches it off."""

    words: str
    share: float
    over: bool
    off: str


class Riser(QWidget):
    """Emits `picked` (port, segment or −1, LED or 0) for what was clicked or walked to."""

    picked = Signal(str, int, int)
    hung = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.did = ""
        self._shown: object = None
        self.chosen = At("", -1, 0)
        self.lies: dict[str, Lie] = {}
        self._of: dict[str, Stream] = {}
        self._picture: QPixmap | None = None
        self._scale: float | None = None
        self._rooms: dict[str, Room] = {}
        self._layouts: dict[str, tuple[Stream, Room, PortLayout]] = {}
        self._drag_from: tuple[QPointF, At] | None = None
        self._ghost: tuple[At, str, bool] | None = None
        self.setMouseTracking(True)
        self.setAcceptDrops(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(150)
        self.setAccessibleName("Riser: the box and its cables")

    # ---- what is shown

    @property
    def labels(self) -> list[str]:
        rig = self._session.rig
        if self.did not in rig.devices:
            return []
        model = model_of(rig, self.did)
        return list(model.ports if model else rig.devices[self.did].ports)

    def show_device(self, did: str, chosen: At) -> None:
        """Show a box with a place of it chosen; only streams that changed are laid out anew."""
        streams = {k[1]: s for k, s in self._session.index.cables.streams.items() if k[0] == did}
        same = did == self.did
        for label, stream in streams.items():
            if not same or self._of.get(label) is not stream:
                self.lies[label] = lie(stream)
        for label in [x for x in self.lies if x not in streams]:
            del self.lies[label]
        shown = (did, len(streams), self._session.rig.devices.get(did), self._session.report, THEME.name)
        fresh = not same or shown != self._shown or any(self._of.get(k) is not v for k, v in streams.items())
        self.did, self._of, self.chosen = did, streams, chosen
        self._shown = shown
        if fresh:
            self._forget()
        self.update()

    def restyle(self) -> None:
        self._forget()
        self.update()

    def column(self, label: str) -> QRectF:
        """The room of a port: below the bar, from side to side of its share of the width."""
        return self.room(label).column

    @property
    def scale(self) -> float:
        """Pixels of the screen per LED, one for all cables: the longest fits."""
        if self._scale is None:
            room = self.height() - BAR - (32 if any(s.start is None and s.slots for s in self._of.values()) else 14)
            best = 12.0
            for lie_ in self.lies.values():
                if lie_.leds:
                    best = min(best, max(8.0, room - lie_.fixed) / lie_.leds)
            self._scale = best
        return self._scale

    def room(self, label: str) -> Room:
        """Where a port's cable may lie; kept until the widget or the streams change."""
        found = self._rooms.get(label)
        if found is None:
            labels = self.labels
            wide = (self.width() - 24) / max(1, len(labels))
            column = QRectF(12 + wide * labels.index(label), BAR, wide, self.height() - BAR - 8)
            found = self._rooms[label] = room_for(column, self.lies.get(label), self.scale)
        return found

    def rect_of(self, label: str, s: Stroke) -> QRectF:
        """Where a stroke is drawn."""
        return rect_of(self.room(label), s)

    def _layout(self, label: str) -> PortLayout:
        """What is painted for a port; kept as long as its stream and its room are the same."""
        stream, room = self._of[label], self.room(label)
        kept = self._layouts.get(label)
        if kept is None or kept[0] is not stream or kept[1] != room:
            tints = {x.key: tint_of(self._session.rig, x.key) for x in stream.pieces if x.key}
            kept = (stream, room, lay_out(stream, self.lies[label], room, tints))
            self._layouts[label] = kept
        return kept[2]

    def _forget(self) -> None:
        self._picture, self._scale = None, None
        self._rooms.clear()

    # ---- painting

    def paintEvent(self, _: QPaintEvent) -> None:
        ratio = self.devicePixelRatioF()
        if self._picture is None or self._picture.size() != self.size() * ratio:
            self._picture = QPixmap(self.size() * ratio)
            self._picture.setDevicePixelRatio(ratio)
            self._draw(self._picture)
        p = QPainter(self)
        p.drawPixmap(0, 0, self._picture)
        self._draw_chosen(p)
        if self._ghost:
            self._draw_ghost(p)
        if self.hasFocus():
            box(p, QRectF(self.rect()).adjusted(1, 1, -1, -1), None, "accent", 2, 2)

    def _draw(self, target: QPixmap) -> None:
        target.fill(THEME.color("station"))
        if self.did not in self._session.rig.devices:
            return
        p = QPainter(target)
        labels = self.labels
        box(p, QRectF(8, 4, self.width() - 16, 26), "raised", "edge", 3)
        self._draw_ports(p, labels)
        shown = [label for label in labels if label in self._of]
        for label in shown:
            self._draw_cable(p, label)
        self._draw_strings(p, shown)
        ends = [line for label in shown for line in self._layout(label).seams]
        if ends:
            p.setPen(QPen(THEME.color("text"), 2))
            p.drawLines(ends)
        for label in labels:
            if label not in self._of:
                self._draw_line(p, label)

    def _worst(self) -> dict[str, str]:
        """The worst severity at each port of the box."""
        order = {"error": 3, "warning": 2, "note": 1}
        found: dict[str, str] = {}
        for f in self._session.report.findings:
            kind, where = f.goes_to
            did, label = (*where.split("\t"), "")[:2]
            if kind == "run" and did == self.did and label and order[f.severity] > order.get(found.get(label, ""), 0):
                found[label] = f.severity
        return found

    def _draw_ports(self, p: QPainter, labels: list[str]) -> None:
        """The labels on the bar and the loads under it, one kind of thing after the other: fonts change twice in all."""
        worst = self._worst()
        heads = [self._head(label) for label in labels]
        narrow = self.column(labels[0]).width() < NARROW if labels else False
        bold, small = THEME.font(11 if narrow else 13, True), THEME.font(11)
        wide = THEME.metrics(11 if narrow else 13, True)
        p.setFont(bold)
        for label, head in zip(labels, heads):
            c = self.column(label)
            room = wide.horizontalAdvance(label)
            words = label if room <= c.width() - 2 else label[-2:]
            p.setPen(THEME.color("quiet" if head.off else "text"))
            p.drawText(QRectF(c.left(), 6, c.width(), 20), CENTRE, words)
            if head.off:
                p.drawLine(QPointF(c.left() + 6, 17), QPointF(c.right() - 6, 17))
            if label in worst and narrow:  # many ports: the mark stands where the load has no room
                marks.draw(p, worst[label], c.center().x() - 5, 32, 10)
            elif label in worst:
                marks.draw(p, worst[label], c.center().x() + min(room, c.width()) / 2 + 3, 11, 11)
        p.setFont(small)
        grounds: list[QRectF] = []
        fills: dict[str, list[QRectF]] = {}
        for label, head in zip(labels, heads):
            c = self.column(label)
            if head.words and (not narrow or label not in worst):
                p.setPen(THEME.color("error" if head.over else "quiet"))
                p.drawText(QRectF(c.left() - 4, 31, c.width() + 8, 14), CENTRE, head.words)
            if head.share >= 0:
                bar = QRectF(c.left() + 8, 47, c.width() - 16, 4)
                grounds.append(bar)
                part = QRectF(bar.left(), bar.top(), bar.width() * min(1.0, head.share), 4)
                fills.setdefault("error" if head.over else "quiet", []).append(part)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(THEME.color("field"))
        p.drawRects(grounds)
        for token, rects in fills.items():
            p.setBrush(THEME.color(token))
            p.drawRects(rects)
        p.setBrush(Qt.BrushStyle.NoBrush)

    def _head(self, label: str) -> Header:
        """What stands under a port's label: its load, of what it can take."""
        able = ability(self._session.rig, self.did, label)
        stream = self._of.get(label)
        leds = (stream.leds or stream.pixels) if stream else 0
        narrow = (self.width() - 24) / max(1, len(self.labels)) < NARROW
        if leds:
            over = bool(able.pixels and leds > able.pixels)
            return Header(
                _short(leds) if narrow else f"{thousands(leds)} px",
                leds / able.pixels if able.pixels else -1.0,
                over,
                able.off,
            )
        words = "" if narrow or stream or able.gives == "pixels" else "DMX" if able.gives == "dmx" else "bus"
        return Header(words, -1.0, False, able.off)

    def _draw_strings(self, p: QPainter, labels: list[str]) -> None:
        """The strings of all ports, one tint after the other: few calls for many of them."""
        p.setPen(Qt.PenStyle.NoPen)
        bodies: dict[int, list[QRectF]] = {}
        spines: dict[int, list[QRectF]] = {}
        for label in labels:
            made = self._layout(label)
            for own, by_tint in ((made.strings, bodies), (made.spines, spines)):
                for tint, rects in own.items():
                    by_tint.setdefault(tint, []).extend(rects)
        for which, by_tint in ((1, bodies), (0, spines)):
            for tint, rects in by_tint.items():
                p.setBrush(THEME.tint(tint)[which])
                p.drawRects(rects)

    def _draw_cable(self, p: QPainter, label: str) -> None:
        made = self._layout(label)
        p.setPen(QPen(THEME.color("edge"), 1.5))
        if made.cables:
            p.drawLines(made.cables)
        if made.bare:
            p.setPen(QPen(THEME.color("edge"), 1.5, Qt.PenStyle.DotLine))
            p.drawLines(made.bare)
        p.setBrush(Qt.BrushStyle.NoBrush)
        if made.nulls:
            p.setPen(QPen(THEME.color("edge"), 1))
            p.drawRects([r.adjusted(0.5, 0.5, -0.5, -0.5) for r in made.nulls])
        for r, piece in made.boxes:
            self._draw_box(p, r, piece, label)
        stream, c = self._of[label], self.column(label)
        if stream.start is None and stream.slots:
            text(
                p, QRectF(c.left() + 2, c.bottom() - 16, c.width() - 4, 16), "no universe", "warning", 11, align=CENTRE
            )

    def _draw_box(self, p: QPainter, r: QRectF, piece: Piece, label: str) -> None:
        s = piece.segment
        wrong = (
            any(
                f.code == "RUN-14" and f.goes_to[1] == f"{self.did}\t{label}\t{piece.n}"
                for f in self._session.report.findings
            )
            if s.kind == "bridge"
            else False
        )
        box(p, r, "raised", "error" if wrong else "text", 3, 2)
        words = s.kind
        text(
            p,
            r.adjusted(3, 0, -3, 0),
            _bridge_words(s.width, r.width() - 6) if s.kind == "bridge" else words,
            "text",
            11,
            True,
            CENTRE,
        )
        if s.fixtures and s.kind == "bridge":
            y = r.bottom() + 2
            for n, key in enumerate(s.fixtures[: int(r.width() // 6)]):
                p.fillRect(QRectF(r.left() + 2 + 6 * n, y, 4, 4), THEME.tint(tint_of(self._session.rig, key))[0])

    def _draw_line(self, p: QPainter, label: str) -> None:
        """A DMX line on a port: its lamps as beads along the cable."""
        rig = self._session.rig
        port = rig.devices[self.did].ports.get(label)
        c = self.column(label)
        for s in port.run if port else ():
            if s.kind != "line" or not s.fixtures:
                continue
            room = c.height() - 10
            step = min(22.0, room / len(s.fixtures))
            x = c.center().x() - (18 if c.width() > 60 else 0)
            p.setPen(QPen(THEME.color("edge"), 1.5))
            p.drawLine(QPointF(x, 53), QPointF(x, c.top() + step * (len(s.fixtures) - 0.5)))
            for n, key in enumerate(s.fixtures):
                spine, body = THEME.tint(tint_of(rig, key))
                r = QRectF(x - 5, c.top() + step * n + 2, 10, max(2.0, min(14.0, step - 4)))
                p.fillRect(r, body)
                p.fillRect(QRectF(r.left(), r.top(), 3, r.height()), spine)
                fixture = rig.fixtures.get(key)
                if step >= 14 and fixture and c.width() > 60:
                    text(
                        p,
                        QRectF(x + 10, r.top() - 3, c.right() - x - 12, 18),
                        str(fixture.number),
                        "text",
                        11,
                        align=LEFT,
                    )

    def _draw_chosen(self, p: QPainter) -> None:
        if not self.chosen.label or self.chosen.label not in self.labels:
            return
        c = self.column(self.chosen.label)
        p.fillRect(QRectF(c.left() + 2, 27, c.width() - 4, 3), THEME.color("accent"))
        lie_ = self.lies.get(self.chosen.label)
        if lie_ is None or self.chosen.n < 0:
            return
        pen = QPen(THEME.color("text"), 2)
        p.setBrush(Qt.BrushStyle.NoBrush)
        for s in lie_.strokes:
            if s.n == self.chosen.n:
                p.setPen(pen)
                p.drawRect(self.rect_of(self.chosen.label, s).adjusted(-3, -2, 3, 2))
        at = place_along(lie_, self.chosen.n, self.chosen.led) if self.chosen.led else None
        if at:
            s, led = at
            y = c.top() + s.fixed + self.scale * led
            r = self.rect_of(self.chosen.label, s)
            p.fillRect(QRectF(r.left() - 5, y - 2, r.width() + 10, 4), THEME.color("accent"))

    def _draw_ghost(self, p: QPainter) -> None:
        assert self._ghost
        at, words, fits = self._ghost
        if at.label not in self.labels:
            return
        c = self.column(at.label)
        box(p, c.adjusted(1, -28, -1, 0), None, "accent" if fits else "error", 3, 2, dashed=True)
        found = place_along(self.lies[at.label], at.n, at.led) if at.led and at.label in self.lies else None
        if found:
            y = c.top() + found[0].fixed + self.scale * found[1]
            r = self.rect_of(at.label, found[0])
            p.fillRect(QRectF(r.left() - 3, y - 2, r.width() + 6, 4), THEME.color("accent"))
        wide = min(self.width() - 16.0, width_of(words) + 40.0)
        x = min(max(8.0, c.center().x() - wide / 2), self.width() - wide - 8)
        r = QRectF(x, self.height() - 40, wide, 30)
        box(p, r, "raised", "accent" if fits else "error", 4, 1)
        text(p, r.adjusted(10, 0, -10, 0), words, "text", 13)

    # ---- hands

    def at(self, pos: QPointF) -> At:
        """What is under a point."""
        for label in self.labels:
            c = self.column(label)
            if not c.left() <= pos.x() < c.right():
                continue
            lie_ = self.lies.get(label)
            near: At | None = None
            for s in lie_.strokes if lie_ else ():
                r = self.rect_of(label, s)
                if r.adjusted(-2, 0, 2, 0).contains(pos):
                    if not s.leds:
                        return At(label, s.n, 0)
                    offset = (r.bottom() - pos.y() if s.up else pos.y() - r.top()) / max(0.001, self.scale)
                    near = At(label, s.n, s.first + min(s.leds - 1, max(0, int(offset))))
            if near:
                return near
            port = self._session.rig.devices[self.did].ports.get(label)
            line = next((n for n, s in enumerate(port.run) if s.kind == "line"), -1) if port and not lie_ else -1
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
            needs = f", {plural(len(stream.used), 'universe')}" if stream.used else ""
            return (
                f"Port {at.label}: {plural(stream.leds, 'pixel')} on the cable, {plural(stream.slots, 'slot')}{needs}"
            )
        piece = stream.pieces[at.n]
        name = piece_name(self._session.rig, piece)
        if not at.led or not piece.pixels:
            return f"Port {at.label} · {name}"
        px = int(cable_order(piece.segment, piece.leds)[at.led - 1])
        place = piece.place((px - 1) * piece.k + 1)
        own = element_pixel(self._session.rig, piece, px) or px
        where = f" · {say_place(*place)}" if place else ""
        return f"Port {at.label} · {name}/{own}{where} · slot {piece.stream + (px - 1) * piece.k} of the stream"

    def mousePressEvent(self, e: QMouseEvent) -> None:
        at = self.at(e.position())
        self.setFocus()
        if at.label:
            self._drag_from = (e.position(), at)
            self.picked.emit(at.label, at.n, at.led)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        at = self.at(e.position())
        if self._drag_from and e.buttons() & Qt.MouseButton.LeftButton:
            start, what = self._drag_from
            if what.n >= 0 and (e.position() - start).manhattanLength() > 8:
                self._ghost = self._say_move(what, at)
                self.update()
            return
        QToolTip.showText(e.globalPosition().toPoint(), self.words_at(at), self)

    def mouseReleaseEvent(self, e: QMouseEvent) -> None:
        drag, self._drag_from = self._drag_from, None
        if self._ghost and drag:
            self._ghost = None
            self.update()
            self.drop_segment(drag[1], self.at(e.position()))

    def _landing(self, at: At) -> int:
        """Before which segment of a port something dropped here goes: by the half of a string, behind a box."""
        stream = self._of.get(at.label)
        port = self._session.rig.devices[self.did].ports.get(at.label)
        if at.n < 0 or stream is None:
            return len(port.run) if port else 0
        piece = stream.pieces[at.n]
        return at.n + (1 if not at.led or at.led > piece.leds / 2 else 0)

    def _say_move(self, what: At, at: At) -> tuple[At, str, bool]:
        name = self._name(what)
        try:
            rig, _ = self._move(what, at)
        except NotationError as e:
            return at, str(e), False
        return at, f"{name} to port {at.label}, place {self._landing(at) + 1}{self._moved(rig)}", True

    def _moved(self, rig: Rig) -> str:
        """What would move, in words; nothing for a box so long that it could not be said at once."""
        few = sum(len(x.pieces) for x in self._of.values()) <= FEW
        return f" · {moved(self._session.index.cables, rig, self.did).words}" if few else ""

    def _name(self, what: At) -> str:
        stream = self._of.get(what.label)
        return piece_name(self._session.rig, stream.pieces[what.n]) if stream else "the line"

    def _move(self, what: At, at: At) -> tuple[Rig, Change]:
        to = self._landing(at)
        if what.label == at.label and to > what.n:
            to -= 1
        if not at.label:
            raise NotationError("Drop it on a port; Esc gives it back.")
        return move_segment(self._session.rig, self.did, what.label, what.n, at.label, to)

    def drop_segment(self, what: At, at: At) -> bool:
        """Move a segment to where it was dropped."""
        try:
            result = self._move(what, at)
        except NotationError as e:
            self._session.say(str(e), "error")
            return False
        self._session.take(result)
        return True

    def _hang(self, at: At, segments: list[Segment]) -> tuple[At, str, Callable[[Rig], tuple[Rig, Change]]]:
        """Where something dropped would go, also in words, and the edit: between segments, or inside a long one."""
        px, stream = self.pixel_at(at), self._of.get(at.label)
        if stream and px:
            leds = stream.pieces[at.n].leds
            reach = 8 / max(0.001, self.scale)
            if reach < at.led < leds - reach:
                return at, f"pixel {px}", lambda rig: insert_at_pixel(rig, self.did, at.label, px, segments)
        to = self._landing(at)
        return at._replace(led=0), f"place {to + 1}", lambda rig: hang(rig, self.did, at.label, segments, to)

    def _say_hang(self, keys: list[str], at: At) -> tuple[At, str, bool]:
        if not at.label:
            return at, "Drop it on a port; Esc gives it back.", False
        at, where, edit = self._hang(at, [self.segment_for(k) for k in keys])
        try:
            rig, _ = edit(self._session.rig)
        except NotationError as e:
            return at, str(e), False
        what = call(rig, keys[0]) if len(keys) == 1 else plural(len(keys), "thing")
        return at, f"{what} to port {at.label}, {where}{self._moved(rig)}", True

    def drop_things(self, keys: list[str], at: At, make: Callable[[str], Segment]) -> bool:
        """Hang things where they were dropped: between segments, or at the very pixel inside a long one."""
        *_, edit = self._hang(at, [make(k) for k in keys])
        if self._session.edit(edit) is None:
            return False
        self.hung.emit(at.label)
        return True

    def dragEnterEvent(self, e: QDragEnterEvent) -> None:
        if e.mimeData().hasFormat(MIME):
            e.acceptProposedAction()

    def dragMoveEvent(self, e: QDragMoveEvent) -> None:
        at = self.at(e.position())
        keys = read_mime(e.mimeData())
        if keys and (self._ghost is None or self._ghost[0] != at):
            self._ghost = self._say_hang(keys, at)
        self.update()
        e.acceptProposedAction()

    def dragLeaveEvent(self, _: QDragLeaveEvent) -> None:
        self._ghost = None
        self.update()

    def dropEvent(self, e: QDropEvent) -> None:
        self._ghost = None
        keys = read_mime(e.mimeData())
        at = self.at(e.position())
        if keys and at.label:
            self.drop_things(keys, at, self.segment_for)
            e.acceptProposedAction()

    def segment_for(self, key: str) -> Segment:
        """How a thing is hung when it is dropped: all of it, folded as it lies."""
        element = self._session.rig.elements.get(key)
        fold = element.fold if element and element.unfolds == "box" else 0
        return Segment(kind="pixels", element=key, fold=fold)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        labels = self.labels
        if not labels:
            return
        at = self.chosen if self.chosen.label in labels else At(labels[0], -1, 0)
        stream = self._of.get(at.label)
        k = e.key()
        if k == Qt.Key.Key_Escape and self._ghost:
            self._ghost = self._drag_from = None
            self.update()
        elif e.modifiers() & Qt.KeyboardModifier.ShiftModifier and k in _WAYS and at.n >= 0:
            self._carry(at, *_WAYS[Qt.Key(k)])
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

    def _carry(self, at: At, ports: int, places: int) -> None:
        """Move the chosen segment by so many ports, or by so many places in its run."""
        labels = self.labels
        to = labels.index(at.label) + ports
        if not 0 <= to < len(labels):
            return
        port = self._session.rig.devices[self.did].ports.get(labels[to])
        place = max(0, at.n + places) if not ports else len(port.run) if port else 0
        if not ports and port and place >= len(port.run):
            return
        if self._session.edit(move_segment, self.did, at.label, at.n, labels[to], place) is not None:
            self.picked.emit(labels[to], place, 0)

    def focusInEvent(self, e: QFocusEvent) -> None:
        super().focusInEvent(e)
        self.update()

    def resizeEvent(self, e: QResizeEvent) -> None:
        self._forget()
        super().resizeEvent(e)


_WAYS = {
    Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1),
}  # fmt: skip
"""Shift and an arrow: ports and places to move by."""


def _short(n: int) -> str:
    """A count for little room: `850`, `3.1k`."""
    return str(n) if n < 1000 else f"{n / 1000:.1f}k" if n < 10_000 else f"{n // 1000}k"


def _bridge_words(width: int, room: float) -> str:
    """As much of `bridge 64` as there is room for."""
    return next((w for w in (f"bridge {width}", "bridge") if width_of(w, 11, True) <= room), "br")


def write_mime(keys: list[str]) -> QMimeData:
    made = QMimeData()
    made.setData(MIME, "\n".join(keys).encode())
    return made


def read_mime(mime: QMimeData) -> list[str]:
    data = mime.data(MIME).data() if mime.hasFormat(MIME) else b""
    return [k for k in bytes(data).decode().split("\n") if k]
