"""Planned and heard devices as pairs, joined where they are the same thing."""

from __future__ import annotations

import time

from msgspec import Struct
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.session import Selection, Session
from welvo.app.widgets import marks
from welvo.app.widgets.flow import keep_width
from welvo.app.widgets.painting import CENTRE, draw_frame, draw_text_line
from welvo.app.widgets.theme import THEME
from welvo.matching.planned import compare_device
from welvo.observed.presence import presence_of
from welvo.rig.notation import natural_sort_key, say_count
from welvo.rig.plan import device_at, devices_at, model_of
from welvo.settings.compare import Mark, SettingLine, lines_that_differ

ROW = 60
KINDS = {"pixel": "pixel controller", "serial": "serial line"}


class DevicePair(Struct, frozen=True):
    """A planned device (`device_id`) and what was heard at its address; one of the two may be missing."""

    device_id: str
    ip: str
    planned: tuple[str, str, str]
    heard: tuple[str, str, str]
    mark: Mark


def pairs_of(session: Session) -> list[DevicePair]:
    """Planned devices in the rig's order, then the strangers by address."""
    rig, observed, now = session.rig, session.observed, session.now()
    found: list[DevicePair] = []
    for device_id, d in rig.devices.items():
        model = model_of(rig, device_id)
        kind = KINDS.get(model.kind, model.kind) if model else "unknown model"
        serial = model is not None and model.kind == "serial"
        place = "on the sender's computer" if serial else d.ip or "no address planned"
        planned = (d.name, place, f"{kind} · {say_count(len(d.ports), 'port')}")
        if serial:
            found.append(DevicePair(device_id, "", planned, ("a cable", "tells nothing back", ""), "unknown"))
            continue
        twin = next((rig.devices[o].name for o in devices_at(rig, d.ip) if o != device_id), "")
        if twin and device_at(rig, d.ip) != device_id:
            found.append(
                DevicePair(device_id, d.ip, planned, ("who answers?", d.ip, f"same address as {twin}"), "upstream")
            )
            continue
        heard = observed.heard.get(d.ip) if d.ip else None
        told = observed.said.get(d.ip) if d.ip else None
        mark: Mark
        presence = presence_of(observed, d.ip, now)
        if not presence.is_there:
            ago = f"last heard {clock_words(presence.last)}" if presence.last else "never heard here"
            found.append(
                DevicePair(device_id, d.ip, planned, ("silent" if d.ip else "–", ago if d.ip else "", ""), "unknown")
            )
            continue
        mark, third = _state_of_device(device_id, compare_device(session.index, observed, device_id, now))
        found.append(
            DevicePair(
                device_id,
                d.ip,
                planned,
                ((heard.name if heard else told.name if told else "") or "no name", d.ip, third),
                mark,
            )
        )
    for ip in sorted((ip for ip in {*observed.heard, *observed.said} if not device_at(rig, ip)), key=natural_sort_key):
        h, told = observed.heard.get(ip), observed.said.get(ip)
        name = (h.name if h else "") or (told.name if told else "") or "no name"
        presence = presence_of(observed, ip, now)
        words = "not in the plan" if presence.is_there else f"last heard {clock_words(presence.last)}"
        found.append(DevicePair("", ip, ("", "", ""), (name, ip, words), "unknown"))
    return found


def clock_words(at: float) -> str:
    return time.strftime("%H:%M", time.localtime(at))


_known: dict[str, tuple[list[SettingLine], tuple[Mark, str]]] = {}


def _state_of_device(device_id: str, lines: list[SettingLine]) -> tuple[Mark, str]:
    """How a device stands as a whole, in a mark and in words. The same lines are asked about three times a second."""
    known = _known.get(device_id)
    if known and known[0] is lines:
        return known[1]
    off = len(lines_that_differ(lines))
    claimed = any(x.mark == "claimed" for x in lines)
    agree = sum(x.mark == "matches" for x in lines)
    words = f"{say_count(off, 'setting')} {'differ' if off > 1 else 'differs'}" if off else f"all {agree} planned match"
    mark: Mark = "differs" if off else "claimed" if claimed else "matches"
    _known[device_id] = (lines, (mark, words))
    return mark, words


class PairList(QWidget):
    """Rows of 60; `plan` carries the address of a stranger whose dashed place was clicked."""

    plan = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        keep_width(self, 372)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Planned and heard devices")
        self.pairs: list[DevicePair] = []
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self.refresh)
        session.selection_changed.connect(self.update)
        self.refresh()

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def refresh(self) -> None:
        if not self.isVisible() and self.pairs:
            return  # worked out when it is looked at
        found = pairs_of(self._session)
        if found != self.pairs:
            self.pairs = found
            self.setMinimumHeight(24 + ROW * max(3, len(found)))
            self.update()

    def _pair_is_chosen(self, pair: DevicePair) -> bool:
        s = self._session.selection
        if pair.device_id:
            return s.kind in ("device", "port") and s.first_selected == pair.device_id
        return s.kind == "heard" and s.first_selected == pair.ip

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w = self.width()
        p.fillRect(0, 0, w, 24, THEME.color("raised"))
        draw_text_line(p, QRectF(12, 0, 150, 24), "Planned", "quiet", 11)
        draw_text_line(p, QRectF(204, 0, 150, 24), "Heard", "quiet", 11)
        p.fillRect(w - 1, 0, 1, self.height(), THEME.color("line"))
        for n in range(3) if not self.pairs else ():
            y = 24 + ROW * n
            draw_frame(p, QRectF(12, y + 8, 146, 44), None, "line", 4, 1, dashed=True)
            draw_frame(p, QRectF(204, y + 8, 146, 44), None, "line", 4, 1, dashed=True)
        for n, pair in enumerate(self.pairs):
            self._draw_row(p, pair, 24 + ROW * n, w)
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()).adjusted(0, 0, -1, 0), None, "accent", 2, 2)

    def _draw_row(self, p: QPainter, pair: DevicePair, y: int, w: int) -> None:
        if self._pair_is_chosen(pair):
            p.fillRect(0, y, w - 1, ROW - 1, THEME.color("select"))
            p.fillRect(0, y, 3, ROW - 1, THEME.color("accent"))
        p.fillRect(0, y + ROW - 1, w, 1, THEME.color("line"))
        if pair.device_id:
            for line, words, size in zip((6, 24, 40), pair.planned, (13, 11, 11)):
                draw_text_line(
                    p, QRectF(12, y + line, 154, 18), words, "text" if line == 6 else "quiet", size, line == 6
                )
        else:
            draw_frame(p, QRectF(10, y + 8, 150, 44), None, "edge", 4, 1, dashed=True)
            draw_text_line(p, QRectF(10, y + 8, 150, 44), "Plan this device", "accent", align=CENTRE)
        p.setPen(THEME.color("edge"))
        p.drawLine(168, y + 30, 174, y + 30)
        p.drawLine(192, y + 30, 198, y + 30)
        marks.draw_mark(p, pair.mark, 177, y + 24, 12)
        quiet = pair.heard[0] in ("silent", "–")
        draw_text_line(p, QRectF(204, y + 6, w - 216, 18), pair.heard[0], "quiet" if quiet else "text")
        draw_text_line(p, QRectF(204, y + 24, w - 216, 18), pair.heard[1], "quiet", 11)
        draw_text_line(
            p, QRectF(204, y + 40, w - 216, 18), pair.heard[2], "text" if pair.mark == "differs" else "quiet", 11
        )

    def _select_pair(self, pair: DevicePair) -> None:
        self._session.change_selection(
            Selection("device", (pair.device_id,)) if pair.device_id else Selection("heard", (pair.ip,))
        )

    def mousePressEvent(self, e: QMouseEvent) -> None:
        n = int((e.position().y() - 24) // ROW)
        if e.position().y() < 24 or not 0 <= n < len(self.pairs):
            return
        pair = self.pairs[n]
        self._select_pair(pair)
        if not pair.device_id and e.position().x() < 165:
            self.plan.emit(pair.ip)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        now = next((n for n, x in enumerate(self.pairs) if self._pair_is_chosen(x)), -1)
        if e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.pairs:
            n = now + (1 if e.key() == Qt.Key.Key_Down else -1)
            self._select_pair(self.pairs[max(0, min(len(self.pairs) - 1, n))])
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and now >= 0 and not self.pairs[now].device_id:
            self.plan.emit(self.pairs[now].ip)
        else:
            super().keyPressEvent(e)
