"""The head: menus, the jump box, the arm switch, the count of findings; and the rail of stations."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from itertools import chain
from typing import NamedTuple

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QFrame, QListWidget, QListWidgetItem, QMenuBar, QSizePolicy, QWidget

from welvo.app.commands import STATIONS, said_keys
from welvo.app.jobs.network import Network
from welvo.app.session import NO_PORT, Session
from welvo.app.widgets import marks
from welvo.app.widgets.fields import LineField, set_help
from welvo.app.widgets.literal import literal_text, visible_letters
from welvo.app.widgets.painting import CENTRE, RIGHT, draw_frame, draw_text_line, row_of_widgets, width_of
from welvo.app.widgets.theme import THEME
from welvo.formats.files import path_to_text, shown_name
from welvo.rig.base import Refused
from welvo.rig.lookup import name_of_item, universes_in_order
from welvo.rig.notation import natural_sort_key, say_place
from welvo.rig.plan import model_of
from welvo.rig.protocol import say_wire
from welvo.rig.refs import Goto
from welvo.survey.target import find_target


class ArmSwitch(QWidget):
    """Says whether output leaves the computer, and through which interface. Click or Enter arms and disarms."""

    toggled = Signal()
    choose = Signal()
    HELP = (
        "Arm lets levels leave this computer through the interface shown; disarming ends all streams. "
        "A receiver may jump to what you hold. Right click chooses the interface."
    )

    def __init__(self, network: Network) -> None:
        super().__init__()
        self._network = network
        self.setFixedHeight(30)
        self.setMinimumWidth(212)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Arm switch")
        network.armed_changed.connect(self._follow_output)
        self._follow_output()

    def words_of_switch(self) -> tuple[str, str]:
        """What the switch says, and the name of the interface beside it."""
        going, network = self._network.output.sending, self._network
        name = f"{network.hearing.missing} is gone" if network.hearing.missing else network.hearing.interface.name
        if not going.armed:
            return "Not armed", network.hearing.trouble or name
        if going.starting:
            return "Arming …", name
        if going.trouble and not going.leaving:
            return "Armed, nothing leaves", ""
        if going.leaving < going.universes:
            return f"Armed · {going.leaving} of {going.universes} leave", name
        return f"Armed · {going.universes} univ", name

    def _follow_output(self) -> None:
        going = self._network.output.sending
        why = "\n".join(dict.fromkeys(w for w in (going.trouble, going.partly, *going.reasons) if w))
        self.setToolTip(literal_text(f"{why}\n\n{self.HELP}" if why else self.HELP))
        words, beside = self.words_of_switch()
        self.setAccessibleDescription(" · ".join(w for w in (words, beside) if w))
        room = 32 + width_of(words, 13, True) + 10 + width_of(beside) + 18
        self.setMinimumWidth(max(212, min(330, room)))
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        going = self._network.output.sending
        armed = going.armed
        colour = (
            ("error" if going.trouble or going.partly else "warning")
            if going.is_stuck
            else "accent"
            if armed
            else "quiet"
        )
        r = QRectF(self.rect())
        outline = (
            colour if armed else "error" if self._network.hearing.trouble or self._network.hearing.missing else "edge"
        )
        if self.hasFocus() and not going.is_stuck:
            outline = "accent"
        wash = "field" if not armed else f"{colour}_wash"
        draw_frame(p, r, wash, outline, 15, 2 if armed or self.hasFocus() else 1)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        c = THEME.color(colour)
        if going.is_stuck:
            marks.draw_mark(p, colour, 10, 8, 14)
        elif armed and not going.starting:
            p.setPen(c)
            p.setBrush(c)
            p.drawEllipse(10, 8, 14, 14)
        else:
            pen = QPen(c, 2)
            p.setPen(pen)
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawEllipse(11, 9, 12, 12)
        words, name = self.words_of_switch()
        draw_text_line(p, r.adjusted(32, 0, -10, 0), words, bold=True)
        beside = r.adjusted(32 + width_of(words, 13, True) + 10, 0, -14, 0)
        draw_text_line(p, beside, name, "quiet", align=RIGHT)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        if e.button() == Qt.MouseButton.RightButton:
            self.choose.emit()
        elif e.button() == Qt.MouseButton.LeftButton:
            self.toggled.emit()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.toggled.emit()
        else:
            super().keyPressEvent(e)


class Counts(QWidget):
    """The three counts of findings; click opens the drawer."""

    clicked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setFixedHeight(30)
        self.setMinimumWidth(190)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Findings")
        self.setToolTip(f"Errors, warnings and notes. Click or {said_keys('findings')} opens the findings.")
        session.changed.connect(lambda _: self.update())
        session.observed_changed.connect(self.update)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.setPen(THEME.color("line"))
        p.drawLine(0, 4, 0, 26)
        draw_text_line(p, QRectF(10, 0, 64, 30), "Findings", "quiet")
        x = 10 + width_of("Findings") + 12
        report = self._session.report
        for kind in ("error", "warning", "note"):
            n = report.count_findings(kind)
            marks.draw_mark(p, kind, x, 8, 14, none=not n)
            words = str(n)
            draw_text_line(p, QRectF(x + 20, 0, 40, 30), words, "text" if n else "quiet", 13, bool(n))
            x += 20 + width_of(words, 13, True) + 12
        if self.minimumWidth() != int(x) + 4:
            self.setMinimumWidth(int(x) + 4)
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()).adjusted(2, 1, -1, -1), None, "accent", 4, 2)

    def mousePressEvent(self, _: QMouseEvent) -> None:
        self.clicked.emit()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.clicked.emit()
        else:
            super().keyPressEvent(e)


class Hit(NamedTuple):
    """Something that the typed text may mean: its words, what kind of thing it is, where that is, and going there."""

    words: str
    kind: str
    where: str
    act: Callable[[], object]

    def __str__(self) -> str:
        return "  ·  ".join(part for part in self[:3] if part)


def _nearness_of_name(typed: str, *names: str) -> int:
    """0: one of the names is the text; 1: one begins with it; 2: it stands inside one; 3: in none."""
    if typed in names:
        return 0
    if any(name.startswith(typed) for name in names):
        return 1
    return 2 if any(typed in name for name in names) else 3


PLACEHOLDERS = ("Go to 207, 3.045, an address, a name", "Go to 207, 3.045, a name", "Go to 207, 3.045", "Go to")


class JumpBox(LineField):
    """Takes a fixture number, a place however it is said, an IP address, a name or a command, and goes there."""

    SHOWN = 9
    jumped = Signal()
    """Somebody went somewhere, and the next key is meant for what is there."""

    def __init__(
        self, session: Session, commands: Callable[[], dict[str, Callable[[], object]]], go: Callable[[Goto], None]
    ) -> None:
        super().__init__()
        self._session = session
        self._commands = commands
        self._go = go
        self.setPlaceholderText(PLACEHOLDERS[0])
        set_help(
            self,
            "Goes to a fixture number, 3.045, ribbon/27, an IP address, a name, or runs a command. Changes nothing "
            "by itself.",
        )
        self.setMinimumWidth(180)
        self.setMaximumWidth(420)
        self._list = QListWidget(self)
        self._list.setWindowFlags(Qt.WindowType.ToolTip)
        self._list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._list.itemClicked.connect(self._take_hit)
        self.textEdited.connect(self._offer_hits)
        self._found: list[Hit] = []

    def resizeEvent(self, e: QResizeEvent) -> None:
        """It says as much of what can be typed as there is room for."""
        super().resizeEvent(e)
        room = self.width() - 26
        fits = (w for w in PLACEHOLDERS if self.fontMetrics().horizontalAdvance(w) <= room)
        self.setPlaceholderText(next(fits, PLACEHOLDERS[-1]))

    def matching_hits(self, typed: str) -> list[Hit]:
        """What the text may mean, nearest first; at most as many as are shown."""
        return self._search_hits(typed)[0]

    def _search_hits(self, typed: str) -> tuple[list[Hit], int]:
        """The first hits, and how many there are in all."""
        t = typed.strip().lower()
        if not t:
            return [], 0
        near: list[tuple[int, Callable[[], Hit]]] = []
        for names, hit in chain(self._named_things(), self._named_parts(t)):
            n = _nearness_of_name(t, *names)
            if n < 3:
                near.append((n, hit))
        near.sort(key=lambda entry: entry[0])
        place = None if near and near[0][0] == 0 else self._hit_by_place(typed.strip())
        found = [place] if place else []
        found += [hit() for _, hit in near[: self.SHOWN - len(found)]]
        return found, len(near) + (1 if place else 0)

    def _hit_by_place(self, typed: str) -> Hit | None:
        """The place that a text says: an address, a slot of an item, a pixel, a running number."""
        s = self._session
        try:
            found = find_target(s.index, typed)
        except Refused:
            return None
        at = say_place(s.rig.universes[found.universe].number, found.address) if found.universe else ""
        what = name_of_item(s.rig, found.key) if found.key else "nothing patched there"
        return Hit(typed, f"slot of {what}" if found.key else what, at, lambda: s.go_to(typed) and self._go(Goto()))

    def _named_things(self) -> Iterator[tuple[tuple[str, ...], Callable[[], Hit]]]:
        """Everything that has a name, with what it answers to; the words of a hit are only made for those shown."""
        rig = self._session.rig
        for fid, f in sorted(rig.fixtures.items(), key=lambda entry: entry[1].number):
            yield (str(f.number), f.name.lower()), partial(self._hit_of_item, fid, f"{f.number}  {f.name}", "fixture")
        for eid, e in sorted(rig.elements.items(), key=lambda entry: natural_sort_key(entry[1].name)):
            yield (e.name.lower(),), partial(self._hit_of_item, eid, e.name, "element")
        for uid in universes_in_order(rig):
            u = rig.universes[uid]
            yield (
                (f"universe {u.number}", f"u{u.number}", u.name.lower()),
                partial(Hit, u.name, f"universe {u.number}", "", partial(self._go, Goto("universe", uid))),
            )
        for feed_id, feed in rig.feeds.items():
            wire, number = say_wire(feed.protocol, feed.wire), rig.universes[feed.universe].number
            go = partial(self._go, Goto("feed", feed_id))
            yield (wire.lower(),), partial(Hit, wire, "feed", f"of universe {number}", go)
        for device_id, d in sorted(rig.devices.items(), key=lambda entry: natural_sort_key(entry[1].name)):
            yield (
                (d.name.lower(), d.ip),
                partial(Hit, d.name, "device", d.ip or "no address", partial(self._go, Goto("device", device_id))),
            )
        for pid, profile in rig.profiles.items():
            go = partial(self._go, Goto("profile", pid))
            yield (profile.name.lower(),), partial(Hit, profile.name, "profile", profile.maker, go)
        for words, act in self._commands().items():
            yield (words.lower(),), partial(Hit, words, "command", "", act)

    def _named_parts(self, typed: str) -> Iterator[tuple[tuple[str, ...], Callable[[], Hit]]]:
        """Ports and gear: “PENSTOCK 1”, “PENSTOCK port 1”, “bus 1 gear 3”, “gear Arch 2L”. Ports only once a second
        word is typed: the name of a device alone means the device."""
        for device_id, d in self._session.rig.devices.items():
            model = model_of(self._session.rig, device_id)
            for label in dict.fromkeys((*d.ports, *(model.ports if model and " " in typed else ()))):
                port = d.ports.get(label, NO_PORT)
                name, there = d.name.lower(), label.lower()
                if " " in typed:
                    goes = Goto("bus", device_id, label, -1) if port.bus else Goto("port", device_id, label)
                    what = "bus" if port.bus else "port"
                    words = partial(Hit, f"{d.name} {label}", what, d.ip or "no address", partial(self._go, goes))
                    yield (f"{name} {there}", f"{name} port {there}"), words
                for g in port.bus.gear if port.bus else ():
                    names = [f"{there} gear {g.at}", f"{name} {there} gear {g.at}"] if " " in typed else []
                    names += [f"gear {g.name.lower()}", g.name.lower()] if g.name else []
                    goes = Goto("bus", device_id, label, g.at)
                    said = f"{g.at}  {g.name}".strip()
                    where = f"{d.name} {label}"
                    yield tuple(names), partial(Hit, said, "gear", where, partial(self._go, goes))

    def _hit_of_item(self, key: str, words: str, kind: str) -> Hit:
        spans = self._session.index.spans_of(key)
        universes = self._session.rig.universes
        where = say_place(universes[spans[0].universe].number, spans[0].first) if spans else "not patched"
        return Hit(words.strip(), kind, where, partial(self._go, Goto("item", key)))

    def _offer_hits(self, typed: str) -> None:
        self._found, total = self._search_hits(typed)
        self._list.clear()
        for hit in self._found:
            self._line_of_hit(visible_letters(str(hit)))
        if total > len(self._found):
            self._line_of_hit(f"and {total - len(self._found)} more: type on to find them", quiet=True)
        if typed.strip() and not self._found:
            self._line_of_hit(
                f"Nothing called “{typed.strip()}”. A fixture number, 3.045, an IP address, a name or a command.", True
            )
        if not typed.strip():
            self._list.hide()
            return
        self._list.setCurrentRow(0)
        self._list.setGeometry(
            self.mapToGlobal(QPoint(0, self.height())).x(),
            self.mapToGlobal(QPoint(0, self.height() + 2)).y(),
            max(self.width(), 420),
            self._row_height() * self._list.count() + 8,
        )
        self._list.show()

    def _row_height(self) -> int:
        return max(26, self._list.fontMetrics().height() + 8)

    def _line_of_hit(self, words: str, quiet: bool = False) -> None:
        item = QListWidgetItem(words)
        item.setSizeHint(QSize(0, self._row_height()))
        if quiet:
            item.setFlags(Qt.ItemFlag.NoItemFlags)
        self._list.addItem(item)

    def _take_hit(self, _: object = None) -> None:
        n = self._list.currentRow()
        self._list.hide()
        if 0 <= n < len(self._found):
            act = self._found[n].act
            self.clear()
            act()
            if self.hasFocus():
                self.jumped.emit()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() == Qt.Key.Key_Down:
            self._list.setCurrentRow(min(max(0, len(self._found) - 1), self._list.currentRow() + 1))
        elif e.key() == Qt.Key.Key_Up:
            self._list.setCurrentRow(max(0, self._list.currentRow() - 1))
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._take_hit()
        elif e.key() == Qt.Key.Key_Escape:
            self._list.hide()
            self.clear()
        else:
            super().keyPressEvent(e)

    def focusOutEvent(self, e: object) -> None:
        self._list.hide()
        super().focusOutEvent(e)  # type: ignore[arg-type]


class RigName(QWidget):
    """The rig's name and file; an amber ring and “not saved” beside them while the file is older than the rig."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setFixedHeight(30)
        session.changed.connect(lambda _: self._fit_name())
        session.replaced.connect(self._fit_name)
        self._fit_name()

    def _parts_of_name(self) -> tuple[str, str]:
        path = self._session.path
        file = shown_name(path) if path else ""
        return self._session.rig.name or "no name", "not saved" if self._session.has_unsaved_edits else file

    def _fit_name(self) -> None:
        name, file = self._parts_of_name()
        self.setAccessibleName(f"Rig {name}, {file}".rstrip(", "))
        self.setToolTip(literal_text(path_to_text(self._session.path)) or "in no file yet")
        self.setMaximumWidth(10 + min(200, width_of(name, 13, True)) + 8 + 14 + min(160, width_of(file, 11)) + 10)
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        name, file = self._parts_of_name()
        ring = 14 if self._session.has_unsaved_edits else 0
        beside = min(width_of(file, 11) + 2, 160, max(0, self.width() // 2)) if file else 0
        wide = min(width_of(name, 13, True) + 2, self.width() - 18 - ring - beside)
        if wide < 40:
            return  # no room for a name; the window's title says it
        draw_text_line(p, QRectF(10, 0, wide, 30), name, bold=True)
        x = 10 + wide + 8
        if ring:
            p.setRenderHint(QPainter.RenderHint.Antialiasing)
            pen = p.pen()
            pen.setColor(THEME.color("warning"))
            pen.setWidthF(2)
            p.setPen(pen)
            p.drawEllipse(QRectF(x, 11, 8, 8))
        draw_text_line(p, QRectF(x + ring, 0, beside, 30), file, "quiet", 11)


class HeadBar(QFrame):
    def __init__(self, session: Session, network: Network, menus: QMenuBar, jump: JumpBox) -> None:
        super().__init__()
        self.setFixedHeight(44)
        self.setObjectName("head")
        self.setAutoFillBackground(True)
        self.arm = ArmSwitch(network)
        self.counts = Counts(session)
        self.rig_name = RigName(session)
        self.menus = menus
        menus.setFixedHeight(30)
        menus.setSizePolicy(QSizePolicy.Policy.Minimum, QSizePolicy.Policy.Fixed)
        layout = row_of_widgets(menus, spacing=0)
        layout.addWidget(self.rig_name, 2)
        layout.addStretch(1)
        layout.setContentsMargins(8, 0, 16, 0)
        layout.addWidget(jump, 3)
        layout.addStretch(0)
        layout.addSpacing(16)
        layout.addWidget(self.arm)
        layout.addSpacing(12)
        layout.addWidget(self.counts)
        layout.setAlignment(Qt.AlignmentFlag.AlignVCenter)
        self.setLayout(layout)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("raised"))
        p.fillRect(0, self.height() - 1, self.width(), 1, THEME.color("edge"))


class Rail(QWidget):
    """The stations, in the order of the work."""

    picked = Signal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(72)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Stations")
        self.current = STATIONS[0]
        self._hover = ""
        self.setMouseTracking(True)

    def set_station(self, name: str) -> None:
        self.current = name
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("ground"))
        for n, name in enumerate(STATIONS):
            r = QRectF(0, 8 + 64 * n, 72, 60)
            on = name == self.current
            if on:
                p.fillRect(r, THEME.color("station"))
                p.fillRect(QRectF(0, r.top(), 4, 60), THEME.color("accent"))
            elif name == self._hover:
                p.fillRect(r, THEME.color("raised"))
            token = "accent" if on else "quiet"
            marks.station_icon(p, name, 24, r.top() + 12, THEME.color(token))
            draw_text_line(p, QRectF(2, r.top() + 36, 70, 18), name, "text" if on else "quiet", 11, on, CENTRE)
            if on and self.hasFocus():
                draw_frame(p, r.adjusted(5, 1, -1, -1), None, "accent", 2, 2)

    def _station_at(self, y: float) -> str:
        n = int((y - 8) // 64)
        return STATIONS[n] if 0 <= n < len(STATIONS) and (y - 8) % 64 <= 60 else ""

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        self._hover = self._station_at(e.position().y())
        self.setToolTip(f"{self._hover}   {said_keys('station.' + self._hover)}" if self._hover else "")
        self.update()

    def leaveEvent(self, _: object) -> None:
        self._hover = ""
        self.update()

    def mousePressEvent(self, e: QMouseEvent) -> None:
        name = self._station_at(e.position().y())
        if name:
            self.picked.emit(name)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        n = STATIONS.index(self.current)
        if e.key() == Qt.Key.Key_Down and n + 1 < len(STATIONS):
            self.picked.emit(STATIONS[n + 1])
        elif e.key() == Qt.Key.Key_Up and n:
            self.picked.emit(STATIONS[n - 1])
        else:
            super().keyPressEvent(e)
