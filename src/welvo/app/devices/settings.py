"""The settings of one device as plan | reported | action lines; only what differs is loud."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QVBoxLayout, QWidget

from welvo.app.network import Network
from welvo.app.session import Selection, Session
from welvo.app.widgets import marks
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.literal import literal
from welvo.app.widgets.painting import box, button, clear, label, row, text
from welvo.app.widgets.theme import THEME
from welvo.patch.planned import compared
from welvo.rig.document import Rig
from welvo.rig.edits import plan_setting, set_port
from welvo.rig.notation import plural
from welvo.rig.plan import say_setting
from welvo.rig.protocol import say_wire
from welvo.rig.wiring import Port
from welvo.settings.compare import SettingLine, differing


def said(line: SettingLine, lines: dict[str, SettingLine]) -> tuple[str, str]:
    """Plan and reported of a line in words; a universe is said in the protocol of its own side."""
    protocol = lines.get(f"{line.port}.protocol")
    plan_p = str(protocol.plan) if protocol and protocol.plan else "sacn"
    has_p = str(protocol.reported) if protocol and protocol.reported else plan_p
    return say_setting(line.spec, line.plan, plan_p), say_setting(line.spec, line.reported, has_p)


class SettingRow(QFrame):
    """One setting. Its buttons name the value they push or plan."""

    picked = Signal()

    def __init__(
        self,
        line: SettingLine,
        plan: str,
        has: str,
        crowded: bool,
        push: Callable[[], object],
        take: Callable[[], object],
    ) -> None:
        super().__init__()
        self.line = line
        self._plan, self._has = plan, has
        self._loud = line.mark == "differs"
        self._wash = self._loud and not crowded
        self.chosen = False
        self.setFixedHeight((36 if self._loud else 28) + THEME.step)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"{line.spec.label}: plan {plan}, reported {has}, {marks.WORDS[line.mark]}")
        self.setToolTip(literal(line.spec.help))
        parts: list[QWidget | int | None] = [None]
        if self._loud:
            if line.spec.writable:
                parts.append(self._small(f"Push {plan}", push, f"Sends {plan} to the device. {line.spec.help}"))
            parts.append(
                self._small(
                    f"Plan {has}",
                    take,
                    f"Makes {has} the plan, as the device has it. Everything that follows from it moves too.",
                )
            )
        made = row(*parts, spacing=4)
        made.setContentsMargins(0, 0, 4, 0)
        self.setLayout(made)

    def _small(self, words: str, act: Callable[[], object], help_text: str) -> QWidget:
        made = button(words, act, help_text)
        made.setStyleSheet("padding: 0 8px;")
        made.setFixedHeight(28)
        made.setMaximumWidth(124)
        return made

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        r = QRectF(self.rect())
        if self._wash:
            p.fillRect(r, THEME.color("error_wash"))
        elif self.chosen:
            p.fillRect(r, THEME.color("select"))
        if self._loud:
            p.fillRect(QRectF(0, 0, 4, r.height()), THEME.color("error"))
        p.fillRect(QRectF(0, r.bottom() - 1, r.width(), 1), THEME.color("line"))
        h = r.height()
        size, bold = (16, True) if self._loud else (13, False)
        token = "text" if self._loud else "quiet"
        at = _columns(r.width())
        text(p, QRectF(10, 0, at[0] - 12, h), self.line.spec.label)
        silent = self.line.mark == "silent"
        text(
            p,
            QRectF(at[0], 0, at[1] - at[0] - 6, h),
            "not planned" if silent else self._plan,
            "quiet" if silent else token,
            13 if silent else size,
            bold and not silent,
        )
        marks.draw(p, self.line.mark, at[1], h / 2 - 6, 12)
        text(p, QRectF(at[1] + 20, 0, at[2] - at[1] - 24, h), self._has, token, size, bold)
        if self.line.mark == "claimed":
            text(p, QRectF(at[2], 0, r.width() - at[2], h), "pushed, not read back yet", "quiet", 11)
        if self.chosen or self.hasFocus():
            box(p, r.adjusted(0, 0, 0, -1), None, "accent" if self.hasFocus() else "text", 2, 2)

    def mousePressEvent(self, _: QMouseEvent) -> None:
        self.setFocus()
        self.picked.emit()

    def focusInEvent(self, e: object) -> None:
        super().focusInEvent(e)  # type: ignore[arg-type]
        self.update()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.picked.emit()
        elif e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            table = self.parentWidget()
            rows = [w for w in table.findChildren(SettingRow) if w.isVisible()] if table else [self]
            n = rows.index(self) + (1 if e.key() == Qt.Key.Key_Down else -1)
            if 0 <= n < len(rows):
                rows[n].setFocus()
                rows[n].picked.emit()
        else:
            super().keyPressEvent(e)


def _columns(width: float) -> tuple[float, float, float]:
    """Where plan, mark and action begin."""
    wide = min(width, 760.0)
    plan = max(100.0, wide * 0.22)
    mark = plan + max(96.0, wide * 0.19)
    return plan, mark, mark + 20 + max(92.0, wide * 0.18)


class Settings(QWidget):
    """The table of one device, rebuilt only when a value or a mark is another one."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.device_id = ""
        self._state: object = None
        self.lines: list[SettingLine] = []
        self._body = QVBoxLayout()
        self._body.setContentsMargins(16, 8, 16, 16)
        self._body.setSpacing(0)
        self.setLayout(self._body)
        self.setMaximumWidth(792)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self.refresh)
        session.selection_changed.connect(self._mark_chosen)

    def show_device(self, device_id: str) -> None:
        self.device_id = device_id
        self.refresh()

    def refresh(self) -> None:
        s = self._session
        if self.device_id not in s.rig.devices:
            self.lines, self._state = [], None
            clear(self._body)
            return
        self.lines = compared(s.index, s.observed, self.device_id, s.now())
        device = s.rig.devices[self.device_id]
        feeds = tuple((fid, f.protocol, f.wire, s.rig.universes[f.universe].name) for fid, f in s.rig.feeds.items())
        state = (
            self.device_id,
            [(x.key, x.plan, x.reported, x.mark) for x in self.lines],
            [(k, p.feed) for k, p in device.ports.items()],
            feeds,
            THEME.name,
            THEME.step,
        )
        if state != self._state:
            self._state = state
            self._build(device.ports)

    def _build(self, ports: dict[str, Port]) -> None:
        focus = next((w.line.key for w in self.findChildren(SettingRow) if w.hasFocus()), "")
        clear(self._body)
        crowded = 3 * len(differing(self.lines)) > len(self.lines)
        by_key = {x.key: x for x in self.lines}
        self._body.addWidget(_Heading())
        for section in dict.fromkeys(x.port for x in self.lines):
            mine = [x for x in self.lines if x.port == section]
            off = len(differing(mine))
            agree = sum(x.mark == "matches" for x in mine)
            words = (
                f"{off} of {len(mine)} {'differs' if off == 1 else 'differ'}"
                if off
                else f"{agree} match"
                if agree
                else ""
            )
            parts: list[QWidget | int | None] = [label(f"Port {section}" if section else "Network", 13, True)]
            if section:
                parts += [
                    label("listens to", 11, quiet=True),
                    self._feed_choice(section, ports.get(section, Port()).feed),
                ]
            head = row(*parts, None, label(words, 11, quiet=not off))
            head.setContentsMargins(4, 12, 4, 4)
            self._body.addLayout(head)
            for x in mine:
                plan, has = said(x, by_key)
                push = partial(self._network.push, self.device_id, (x.key,))
                take = partial(self._session.edit, plan_setting, self.device_id, x.key, x.reported)
                line = SettingRow(x, plan, has, crowded, push, take)
                line.picked.connect(partial(self._pick, x))
                self._body.addWidget(line)
                if x.key == focus:
                    line.setFocus()
        self._body.addStretch(1)
        self._mark_chosen()

    def _feed_choice(self, port: str, feed: str) -> Choice:
        rig = self._session.rig

        def take(fid: str) -> None:
            f = rig.feeds.get(fid)
            words = f"put out {say_wire(f.protocol, f.wire)} on {port}" if f else f"put out nothing on {port}"
            self._session.edit(set_port, self.device_id, port, words, feed=fid)

        made = Choice("Which feed this port is planned to put out. Its protocol and universe follow from it.", take)
        made.setAccessibleName(f"Feed of port {port}")
        made.set_options(feed_options(rig), feed)
        made.setMinimumWidth(200)
        return made

    def _pick(self, line: SettingLine) -> None:
        s = self._session
        kind = (
            Selection("port", (self.device_id, line.port), setting=line.key)
            if line.port
            else Selection("device", (self.device_id,), setting=line.key)
        )
        s.select(kind)

    def _mark_chosen(self) -> None:
        wanted = self._session.selection.setting
        for w in self.findChildren(SettingRow):
            if w.chosen != (w.line.key == wanted):
                w.chosen = w.line.key == wanted
                w.update()


def feed_options(rig: Rig) -> list[tuple[str, str]]:
    """Feeds as choices, in the order of the rig's universes."""
    order = sorted(rig.feeds, key=lambda fid: (rig.universes[rig.feeds[fid].universe].number, fid))
    found = [("", "nothing")]
    for fid in order:
        f = rig.feeds[fid]
        u = rig.universes[f.universe]
        found.append((fid, f"{say_wire(f.protocol, f.wire)} · universe {u.number}{' ' + u.name if u.name else ''}"))
    return found


class _Heading(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(24)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        at = _columns(self.width())
        for x, words in zip((10.0, at[0], at[1] + 20, at[2]), ("Setting", "Plan", "Reported", "Action")):
            text(p, QRectF(x, 0, 120, 24), words, "quiet", 11)
        p.fillRect(0, 23, self.width(), 1, THEME.color("edge"))


def summary(lines: list[SettingLine]) -> str:
    """`2 of 14 settings differ`, in words."""
    off = len(differing(lines))
    if off:
        return f"{off} of {plural(len(lines), 'setting')} {'differs' if off == 1 else 'differ'}"
    agree = sum(x.mark == "matches" for x in lines)
    return (
        f"{agree} of {plural(len(lines), 'setting')} read back and equal" if agree else "nothing known of its settings"
    )
