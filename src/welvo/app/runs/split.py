"""Splitting one element over several ports in one step: rows, order and direction are shown on a drawing first."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.painting import CENTRE, draw_frame, draw_text_line
from welvo.app.widgets.strip import Strip
from welvo.app.widgets.theme import THEME
from welvo.rig.abilities import ability_of_port
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.notation import say_count, say_thousands
from welvo.rig.plan import model_of
from welvo.rig.readers import read_whole_number
from welvo.runs.edits import PortShare, split_over_ports, split_shares


def read_ports(text: str, ports: list[str]) -> list[str]:
    """`1-4`, `A1-A4, B2` → labels, in the order printed on the device."""
    found: list[str] = []
    for part in text.replace("–", "-").replace(";", ",").split(","):
        t = part.strip()
        if not t:
            continue
        if t in ports:
            found.append(t)
            continue
        first, dash, last = (x.strip() for x in t.partition("-"))
        if not dash or first not in ports or last not in ports:
            raise Refused(f"There is no port {t}. It has {', '.join(ports[:6])}{' …' if len(ports) > 6 else ''}.")
        a, b = ports.index(first), ports.index(last)
        if b < a:
            raise Refused(f"“{t}” runs backwards.")
        found += ports[a : b + 1]
    return list(dict.fromkeys(found))


class SplitDrawing(QWidget):
    """The element as its rows, each share in its port's room, with arrows in the direction its cable counts."""

    def __init__(self) -> None:
        super().__init__()
        self.shares: list[PortShare] = []
        self.pixels, self.row = 0, 0
        self.fold = 0
        self.setMinimumHeight(210)
        self.setAccessibleName("How the element is split")

    def show_shares(self, shares: list[PortShare], pixels: int, row_: int, fold: int) -> None:
        self.shares, self.pixels, self.row, self.fold = shares, pixels, row_, fold
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("ground"))
        if not self.pixels or not self.shares:
            return
        per = self.row or max(1, -(-self.pixels // max(1, len(self.shares))))
        rows = -(-self.pixels // per)
        high = min(26.0, (self.height() - 16) / rows)
        left, wide = 64.0, self.width() - 84.0
        for s in self.shares:
            for n in range((s.first - 1) // per, -(-(s.first + s.pixels - 1) // per)):
                a, b = max(s.first - 1, n * per), min(s.first - 1 + s.pixels, (n + 1) * per)
                r = QRectF(left + wide * (a - n * per) / per, 8 + n * high, wide * (b - a) / per, max(1.0, high - 2))
                spine, body = THEME.colours_of_tint(self.shares.index(s))
                p.fillRect(r, body)
                p.fillRect(QRectF(r.left(), r.top(), 3, r.height()), spine)
                stretch = (a - (s.first - 1)) // (self.fold or self.pixels)
                back = s.reverse != (bool(self.fold) and stretch % 2 == 1)
                self._draw_arrow(p, r, back)
                if a == s.first - 1:
                    draw_text_line(p, QRectF(4, r.top(), 54, max(14.0, r.height())), f"port {s.label}", "text", 11)
                    if r.height() >= 13:
                        words = f"{say_thousands(s.first)}–{say_thousands(s.first + s.pixels - 1)}"
                        draw_text_line(p, r, words, "text", 11, align=CENTRE)
        draw_frame(p, QRectF(left - 1, 7, wide + 2, rows * high), None, "edge", 0)

    def _draw_arrow(self, p: QPainter, r: QRectF, back: bool) -> None:
        if r.width() < 24 or r.height() < 6:
            return
        p.setPen(QPen(THEME.color("text"), 1.5))
        d = -4 if back else 4
        for part in (0.12, 0.88):
            x, y = r.left() + r.width() * part, r.center().y()
            p.drawPolyline([QPointF(x - d, y - 3), QPointF(x, y), QPointF(x - d, y + 3)])


class SplitElement(WishDialog):
    """Which element, over which ports, by rows or in equal parts, there and back or not."""

    def __init__(self, session: Session, parent: QWidget, device_id: str, first_port: str = "") -> None:
        rig = session.rig
        heading = f"Split an element over ports of {rig.devices[device_id].name}"
        super().__init__(parent, "Split an element", "Split", heading, wide=620, high=540)
        self._session, self._did = session, device_id
        self._ports = _pixel_ports(rig, device_id)
        chosen = (
            session.selection.first_selected
            if session.selection.first_selected in rig.elements
            else next(iter(rig.elements), "")
        )
        self.element = self.ask_for_choice(
            "Element",
            "Which element is split. Wherever it is attached to this device now, it is detached there.",
            [(k, f"{e.name} · {say_count(e.pixels, 'pixel')}") for k, e in rig.elements.items() if e.kind != "block"],
            chosen,
            self._fill_in,
        )
        free = [
            p for p in self._ports if not (rig.devices[device_id].ports.get(p) and rig.devices[device_id].ports[p].run)
        ]
        start = first_port if first_port in self._ports else (free or self._ports or [""])[0]
        at = self._ports.index(start) if start in self._ports else 0
        ports = self._ports[at : at + 4]
        self.ports = self.ask_for_line(
            "Ports",
            "The ports in order, such as 1-4 or 1, 3, 5.",
            f"{ports[0]}-{ports[-1]}" if len(ports) > 1 else start,
        )
        self.row_ = self.ask_for_line(
            "Row of", "How many pixels one row has; 0: equal parts without rows.", "0", 84, after="pixels"
        )
        self.each = self.ask_for_line(
            "Each port", "How many rows go to each port; 0: as evenly as they come out.", "0", 84, after="rows"
        )
        self.fold = self.ask_for_line(
            "Folded every",
            "After how many LEDs each port's cable turns back; 0: it does not. Set it in one place only.",
            "0",
            84,
            after="pixels",
        )
        self.back = self.ask_for_tick(
            "Every second part there and back", "Every second port's cable comes in at the far end."
        )
        self.last = self.ask_for_tick(
            "Begin with the last pixels", "The first port gets the last rows: the cable comes in from that side."
        )
        self.drawing = SplitDrawing()
        self.body.addWidget(self.drawing, 1)
        self._fill_in()
        self.show_effects(Strip(session, 30))
        self.finish()

    def _fill_in(self) -> None:
        """Another element: what is known of its rows is filled in."""
        element = self._session.rig.elements.get(str(self.element.currentData()))
        if element:
            across = len({round(s.x, 3) for s in element.spots}) if element.kind == "rows" and element.spots else 0
            self.row_.setText(str(across if across and element.pixels % across == 0 else element.fold or 0))
            self.fold.setText(str(element.fold if element.unfolds == "box" else 0))

    def asked_shares(self) -> tuple[list[PortShare], int, int, int]:
        """The shares as they are asked for, with the element's pixels, row and fold. Raises Refused."""
        element = self._session.rig.elements.get(str(self.element.currentData()))
        if element is None:
            raise Refused("There is no element of pixels in this rig yet.")
        row_, each, fold = (
            read_whole_number(w.text().strip() or "0", 0, 100_000) for w in (self.row_, self.each, self.fold)
        )
        ports = read_ports(self.ports.text(), self._ports)
        found = split_shares(element.pixels, ports, row_, each, self.back.isChecked(), self.last.isChecked())
        return found, element.pixels, row_, fold

    def foresee(self) -> tuple[str, str]:
        self.drawing.show_shares([], 0, 0, 0)
        found, pixels, row_, fold = self.asked_shares()
        self.drawing.show_shares(found, pixels, row_, fold)
        most = max(s.pixels for s in found)
        limits = {s.label: ability_of_port(self._session.rig, self._did, s.label).pixels for s in found}
        over = [s.label for s in found if limits[s.label] and s.pixels > limits[s.label]]
        words = f"{say_count(len(found), 'port')}, up to {say_thousands(most)} pixels each."
        if over:
            words += f" Port {over[0]} cannot take that many."
        return words, f"Split over {say_count(len(found), 'port')}"

    def do(self) -> object:
        found, _, _, fold = self.asked_shares()
        return self._session.make_edit(split_over_ports, str(self.element.currentData()), self._did, found, fold)


def _pixel_ports(rig: Rig, device_id: str) -> list[str]:
    model = model_of(rig, device_id)
    labels = model.ports if model else rig.devices[device_id].ports
    able = {p: ability_of_port(rig, device_id, p) for p in labels}
    return [p for p in labels if able[p].gives == "pixels" and not able[p].off]
