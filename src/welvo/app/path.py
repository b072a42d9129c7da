"""The path along the bottom: the selection's chain as hops, with what agrees and what differs between them."""

from __future__ import annotations

import re
from functools import partial

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from welvo.app.jobs.live_path import chain_of
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.fitting import fit_parts, fit_words
from welvo.app.widgets.literal import literal_text, rows_tip
from welvo.app.widgets.painting import CENTRE, draw_frame, draw_text_line, fitting_size, width_of
from welvo.app.widgets.theme import THEME
from welvo.matching.planned import compare_device
from welvo.observed.presence import presence_of
from welvo.rig.buses import NO_BUS
from welvo.rig.lookup import name_of_item, used_by
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of, split_owner
from welvo.rig.protocol import PROTOCOLS, say_wire
from welvo.rig.refs import Goto, PortRef
from welvo.settings.compare import SettingLine
from welvo.survey.path import Hop, Joint, Light, Path, path_to_target, state_of_presence
from welvo.survey.target import Target, of_item

ROLES = ("level", "universe", "feed", "device", "port", "line", "lamp")


STUB, NARROWEST, WIDEST = 28.0, 96.0, 232.0
"""How wide a hop is of which only the first letter is seen; below which width another one becomes such; at most."""


def _joint_room(joint: Joint) -> float:
    """What stands at the join of two hops that differ is what must be read: it has the room that it needs."""
    if joint.mark != "differs" or not (joint.sends or joint.takes):
        return STUB
    return max(72.0, width_of(joint.sends, 11, True) + 10, width_of(joint.takes, 11, True) + 10)


def _hop_must(hop: Hop) -> float:
    """How wide a hop is at least: its number whole, or the beginning of its name."""
    most = NARROWEST if hop.role in ("device", "devices") else WIDEST
    return min(most, max(60.0, width_of(_value_as_seen(hop.value, 0), 11, True) + 18))


def _hop_need(hop: Hop) -> float:
    words = (width_of(hop.role, 11), width_of(hop.value, 11, True), width_of(hop.fact, 11))
    return min(WIDEST, max(60.0, max(words) + 18))


NAMED = ("universe", "bridge", "converter", "gear")
"""Hops whose fact is a name that somebody gave: it may be shortened."""


def _fact_as_seen(hop: Hop, room: float) -> str:
    """What a hop says below its number: in whole parts, or nothing, for the tooltip says it all."""
    fits = fit_parts(hop.fact, room, partial(width_of, size=11))
    return fits if "…" not in fits or hop.role in NAMED else ""


def _value_as_seen(value: str, room: float) -> str:
    """Several names that have no room beside each other: the first, and how many more there are."""
    first, *more = re.split(r", | and ", value)
    if not more or width_of(value, 11, True) <= room or re.fullmatch(r"[\d, and]+", value):
        return value
    behind = f" + {len(more)}"
    if not room:
        return first + behind
    return fit_words(first, room - width_of(behind, 11, True), partial(width_of, size=11, bold=True)) + behind


def _share_room(room: float, musts: list[float], needs: list[float]) -> list[float]:
    """Room for each hop: what it must have, then towards what it needs, then an even share of the rest."""
    widths = list(musts)
    left = room - sum(widths)
    if left < 0:  # nothing more can be hidden: all lose alike
        return [w * room / sum(musts) for w in musts]
    lacks = [max(0.0, n - w) for n, w in zip(needs, widths)]
    part = min(1.0, left / sum(lacks)) if any(lacks) else 0.0
    widths = [w + lack * part for w, lack in zip(widths, lacks)]
    left = max(0.0, room - sum(widths))
    return [min(WIDEST, w + left / len(widths)) for w in widths]


def _both_numbers(universe: SettingLine, way: SettingLine | None) -> tuple[str, str]:
    """The universe that a port is planned for and the one that it takes, each as its protocol says it. Where both
    protocols are one that counts plainly, the bare numbers are enough."""
    ways = [str(v) for v in (way.plan, way.reported)] if way else ["", ""]
    said = [
        say_wire(p, wire) if p in PROTOCOLS and isinstance(wire, int) else str(wire)
        for p, wire in zip(ways, (universe.plan, universe.reported))
    ]
    if ways[0] == ways[1] and ways[0] in PROTOCOLS and PROTOCOLS[ways[0]].is_plain:
        return str(universe.plan), str(universe.reported)
    return said[0], said[1]


class Ribbon(QWidget):
    """Click or Enter on a hop goes to where it is set: `go` carries (kind, id)."""

    go = Signal(object)

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session = session
        self._network = network
        self.setFixedHeight(84)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Path of the selection")
        self._path: Path | None = None
        self._rects: list[QRectF] = []
        self._focus = 0
        self.which_feed = 0
        self.station = ""
        session.selection_changed.connect(self._reset)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self.refresh)
        network.ticked.connect(self.refresh)
        self.refresh()

    def _reset(self) -> None:
        self.which_feed = 0
        self._focus = 0
        self.refresh()

    @property
    def path_shown(self) -> Path | None:
        return self._path

    def refresh(self) -> None:
        found = self._make_path()
        if found != self._path:
            self._path = found
            self._rects = []  # where the former path's hops were painted says nothing of this one's
            self._focus = min(self._focus, max(0, len(found.hops) - 1) if found else 0)
            self.update()

    def _make_path(self) -> Path | None:
        s = self._session
        kind = s.selection.kind
        if kind == "port" and s.selection.lamp and (lamp := self._lamp_target()):
            return chain_of(s, self._network, lamp, self.which_feed)
        if kind == "item" and len(s.selection.ids) > 1:
            return self._path_of_many(s.selection.ids)
        if kind in ("device", "port"):
            return self._path_of_device(s.selection.first_selected)
        if kind in ("universe", "feed"):
            uid = s.selection.first_selected if kind == "universe" else s.rig.feeds[s.selection.first_selected].universe
            return self._path_of_universe(uid)
        if kind == "profile" and s.selection.first_selected in s.rig.profiles:
            return self._path_of_profile(s.selection.first_selected)
        target = s.target_of_path()
        if target is None:
            return None
        return chain_of(s, self._network, target, self.which_feed)

    def _lamp_target(self) -> Target | None:
        """The fixture that the selected lamp of a port is."""
        s = self._session
        pairs = s.pairs_on_port(PortRef(*s.selection.ids[:2]))
        found = next((p for p in pairs if p.lamp and p.lamp.uid == s.selection.lamp), None)
        return of_item(s.index, found.fixture) if found and found.fixture and not found.doubt else None

    def _path_of_many(self, ids: tuple[str, ...]) -> Path:
        """Counts where many items are selected; each joint shows its worst member."""
        s = self._session
        index = s.index
        worst = {"differs": 5, "upstream": 4, "unknown": 3, "claimed": 2, "silent": 1, "matches": 0}
        now, light = s.now(), Light(armed=self._network.output.is_armed)
        chains = [
            path_to_target(index, s.observed, of_item(index, k), now, light, in_every_way=False) for k in ids[:200]
        ]
        longest = max(chains, key=lambda c: len(c.hops))
        hops: list[Hop] = []
        joints: list[Joint] = []
        for n, hop in enumerate(longest.hops):
            values = list(dict.fromkeys(c.hops[n].value for c in chains if n < len(c.hops)))
            if hop.role == "universe":
                values = list(dict.fromkeys(v.split(".")[0] for v in values))
            value = (
                values[0] if len(values) == 1 else " and ".join(values[:2]) if len(values) == 2 else f"{len(values)}"
            )
            hops.append(Hop(hop.role, value, hop.fact if len(values) == 1 else "several", hop.goes_to))
            if n:
                joints.append(
                    max((c.joints[n - 1] for c in chains if n - 1 < len(c.joints)), key=lambda j: worst[j.mark])
                )
        return Path(
            say_count(len(ids), "item"),
            ", ".join(name_of_item(s.rig, i) for i in ids[:4]) + (" …" if len(ids) > 4 else ""),
            tuple(hops),
            tuple(joints),
        )

    def _path_of_profile(self, pid: str) -> Path | None:
        """Where the fixtures of a profile are: counts along the way, worst joints."""
        s = self._session
        users = used_by(s.rig, pid)
        if not users:
            return None
        many = self._path_of_many(tuple(users))
        return Path(s.rig.profiles[pid].code, f"{say_count(len(users), 'fixture')} of it", many.hops, many.joints)

    def _path_of_universe(self, uid: str) -> Path:
        s = self._session
        universe = s.rig.universes[uid]
        target, light = Target("", 0, uid, 1, str(universe.number)), Light(armed=self._network.output.is_armed)
        chain = path_to_target(s.index, s.observed, target, s.now(), light, self.which_feed)
        items = {x.key for x in s.index.spans_on_universe(uid)}
        hops = [
            Hop(h.role, str(universe.number), say_count(len(items), "item"), h.goes_to) if h.role == "universe" else h
            for h in chain.hops
        ]
        return Path(
            f"{universe.number}", universe.name or "universe", tuple(hops), chain.joints, chain.ways, "", chain.feeds
        )

    def _path_of_device(self, device_id: str) -> Path | None:
        from welvo.settings.compare import lines_that_differ

        s = self._session
        device = s.rig.devices.get(device_id)
        if device is None:
            return None
        taken = {p.feed: s.rig.feeds[p.feed] for p in device.ports.values() if p.feed in s.rig.feeds}
        streams = [v for k, v in s.index.cables_and_sums.streams.items() if k[0] == device_id]
        through = {n for v in streams for n, _ in v.used}
        taken |= {k: f for k, f in s.rig.feeds.items() if through and s.rig.universes[f.universe].number in through}
        feeds = list(taken.values())
        numbers = sorted({s.rig.universes[f.universe].number for f in feeds} | through)
        lines = compare_device(s.index, s.observed, device_id, s.now())
        off = [x for x in lines_that_differ(lines) if x.port]
        presence = presence_of(s.observed, device.ip, s.now())
        heard, state = presence.is_there, state_of_presence(presence)
        label = (
            s.selection.ids[1] if len(s.selection.ids) > 1 else (off[0].port if off else next(iter(device.ports), ""))
        )
        label = split_owner(label)[0]
        model = model_of(s.rig, device_id)
        serial = model is not None and model.kind == "serial"
        hops = [
            Hop(
                "universes",
                say_count(len(numbers), "universe") if len(numbers) > 2 else " and ".join(map(str, numbers)) or "none",
                "" if numbers else "it takes no universe yet",
                Goto("patch", ""),
            ),
            Hop(
                "feeds",
                str(len(feeds) or "none"),
                ", ".join(say_wire(f.protocol, f.wire) for f in feeds[:4]) + (" …" if len(feeds) > 4 else ""),
                Goto("feed", ""),
            ),
            Hop(
                "device",
                device.name,
                "serial" if serial else f"{device.ip or 'no address'} · {state.value}",
                Goto("device", device_id),
            ),
            Hop(
                "port",
                label or "–",
                (f"{say_count(len(off), 'setting')} differ" if len(off) > 1 else "1 setting differs") if off else "",
                Goto("port", device_id, label),
            ),
        ]
        attached = {k for v in streams for p in v.pieces for k in (p.key, *p.segment.fixtures) if k}
        on = len(attached | {x.key for f in feeds for x in s.index.spans_on_universe(f.universe)})
        gear = sum(len((p.bus or NO_BUS).gear) for p in device.ports.values())
        if gear:
            hops.append(Hop("gear", f"{gear} gear", "on all its buses", Goto("bus", device_id, label)))
        else:
            hops.append(Hop("lamps", say_count(on, "item"), "on all its ports", Goto("patch", "")))
        joints = [Joint("matches"), Joint("matches" if heard else "unknown")]
        by_key = {x.key: x for x in lines}
        universe = by_key.get(f"{label}.universe")
        if universe and universe.mark == "differs":
            way = by_key.get(f"{label}.protocol") or by_key.get("protocol")
            sends, takes = _both_numbers(universe, way)
            joints.append(Joint("differs", f"sends {sends}", f"takes {takes}"))
            joints.append(Joint("upstream"))
        else:
            joints.append(Joint("differs" if off else ("matches" if heard else "unknown")))
            joints.append(Joint("unknown"))
        return Path(device.name, device.ip, tuple(hops), tuple(joints))

    # ---- painting

    def _lay_out_hops(self) -> None:
        path_ = self._path
        self._rects = []
        if not path_:
            return
        joints = [_joint_room(j) for j in path_.joints]
        room = self.width() - 148 - 16 - sum(joints)
        n = len(path_.hops)
        stub: set[int] = set()
        keep = {0, n - 1} | {k for i, j in enumerate(path_.joints) if j.mark == "differs" for k in (i, i + 1)}
        middle = sorted((i for i in range(n) if i not in keep), key=lambda i: abs(i - n / 2))
        while True:
            seen = [h for i, h in enumerate(path_.hops) if i not in stub]
            left = room - STUB * len(stub) - sum(_hop_must(h) for h in seen)
            if left >= 0 or not middle:
                break
            stub.add(middle.pop(0))
        shares = _share_room(room - STUB * len(stub), [_hop_must(h) for h in seen], [_hop_need(h) for h in seen])
        widths = iter(shares)
        x = 148.0
        for i in range(n):
            w = STUB if i in stub else next(widths)
            self._rects.append(QRectF(x, 10, w, 64))
            x += w + (joints[i] if i < len(joints) else 0)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("raised"))
        p.fillRect(0, 0, self.width(), 1, THEME.color("edge"))
        path_ = self._path
        if not path_:
            self._draw_empty(p)
            return
        draw_text_line(p, QRectF(16, 8, 128, 16), "Path of", "quiet", 11)
        size = fitting_size(path_.target, 126, (22, 16, 13))
        draw_text_line(p, QRectF(16, 24, 128, 28), path_.target, size=size, bold=True)
        draw_text_line(p, QRectF(16, 54, 126, 18), path_.name, "quiet", 11)
        self._lay_out_hops()
        for i, (hop, r) in enumerate(zip(path_.hops, self._rects)):
            self._draw_hop(p, hop, r, i)
            if i < len(path_.joints):
                nxt = self._rects[i + 1]
                self._draw_joint(p, path_.joints[i], QRectF(r.right(), 10, nxt.left() - r.right(), 64))

    def _draw_hop(self, p: QPainter, hop: Hop, r: QRectF, i: int) -> None:
        here = hop.goes_to.kind == {
            "Patch": "universe",
            "Devices": "device",
            "Bench": "bench",
            "Profiles": "profile",
        }.get(self.station)
        draw_frame(
            p,
            r,
            "select" if here else "station",
            "accent" if here or (self.hasFocus() and i == self._focus) else "line",
            4,
            2 if self.hasFocus() and i == self._focus else 1,
        )
        if r.width() < 40:
            draw_text_line(p, r.adjusted(0, 0, 0, -20), hop.role[:1], "quiet", 11, align=CENTRE)
            return
        inner = r.adjusted(10, 0, -6, 0)
        if width_of(hop.role, 11) <= inner.width():  # else its value says what it is
            draw_text_line(p, QRectF(inner.left(), r.top() + 6, inner.width(), 16), hop.role, "quiet", 11)
        value = _value_as_seen(hop.value, inner.width())
        size = fitting_size(value, inner.width())
        draw_text_line(p, QRectF(inner.left(), r.top() + 22, inner.width(), 22), value, size=size, bold=True)
        fact = _fact_as_seen(hop, inner.width())
        draw_text_line(p, QRectF(inner.left(), r.top() + 44, inner.width(), 16), fact, "quiet", 11)

    def _draw_joint(self, p: QPainter, joint: Joint, r: QRectF) -> None:
        loud = joint.mark == "differs"
        y = r.center().y()
        if loud and r.width() > 40:
            p.fillRect(r, THEME.color("error_wash"))
            draw_text_line(
                p,
                QRectF(r.left() + 2, r.top() + 4, r.width() - 4, 18),
                joint.sends,
                size=fitting_size(joint.sends, r.width() - 4, (13, 11)),
                bold=True,
                align=CENTRE,
            )
            draw_text_line(
                p,
                QRectF(r.left() + 2, r.bottom() - 22, r.width() - 4, 18),
                joint.takes,
                size=fitting_size(joint.takes, r.width() - 4, (13, 11)),
                bold=True,
                align=CENTRE,
            )
        p.setPen(QPen(THEME.color("error" if loud else "edge"), 2 if loud else 1.5))
        p.drawLine(int(r.left()), int(y), int(r.center().x() - 9), int(y))
        p.drawLine(int(r.center().x() + 9), int(y), int(r.right()), int(y))
        marks.draw_mark(p, joint.mark, r.center().x() - 6, y - 6, 12)

    def _draw_empty(self, p: QPainter) -> None:
        draw_text_line(p, QRectF(16, 8, 128, 16), "Path", "quiet", 11)
        draw_text_line(p, QRectF(16, 26, 128, 20), "select anything")
        draw_text_line(p, QRectF(16, 48, 128, 16), "to see its way out", "quiet", 11)
        wide = (self.width() - 148 - 16 - 28 * (len(ROLES) - 1)) / len(ROLES)
        for n, role in enumerate(ROLES):
            r = QRectF(148 + n * (wide + 28), 10, wide, 64)
            draw_frame(p, r, None, "line", 4, 1, dashed=True)
            draw_text_line(p, QRectF(r.left() + 10, r.top() + 6, wide - 12, 16), role, "quiet", 11)
            if n:
                p.setPen(QPen(THEME.color("line"), 1))
                p.drawLine(int(r.left() - 28), 42, int(r.left()), 42)

    # ---- acting

    def _hop_at(self, x: float) -> int:
        return next((i for i, r in enumerate(self._rects) if r.left() <= x <= r.right()), -1)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        i = self._hop_at(e.position().x())
        self.setCursor(Qt.CursorShape.PointingHandCursor if i >= 0 else Qt.CursorShape.ArrowCursor)
        if self._path and i >= 0:
            hop = self._path.hops[i]
            words = rows_tip(f"{hop.role} {hop.value}", hop.ways, hop.fact)
            QToolTip.showText(e.globalPosition().toPoint(), words, self)
        elif self._path:
            j = next(
                (
                    k
                    for k in range(len(self._rects) - 1)
                    if self._rects[k].right() < e.position().x() < self._rects[k + 1].left()
                ),
                -1,
            )
            if j >= 0:
                joint = self._path.joints[j]
                words = f"{joint.sends}, {joint.takes}: " if joint.sends else ""
                QToolTip.showText(
                    e.globalPosition().toPoint(),
                    literal_text(
                        words + marks.WORDS[joint.mark] + (f" ({joint.word_for_joint})" if joint.word_for_joint else "")
                    ),
                    self,
                )

    def mousePressEvent(self, e: QMouseEvent) -> None:
        i = self._hop_at(e.position().x())
        if self._path and i >= 0:
            self._focus = i
            self.go.emit(self._path.hops[i].goes_to)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if not self._path:
            return super().keyPressEvent(e)
        if e.key() == Qt.Key.Key_Left:
            self._focus = max(0, self._focus - 1)
        elif e.key() == Qt.Key.Key_Right:
            self._focus = min(len(self._path.hops) - 1, self._focus + 1)
        elif e.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and len(self._path.feeds) > 1:
            self.which_feed += 1 if e.key() == Qt.Key.Key_Down else -1
            self.refresh()
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.go.emit(self._path.hops[self._focus].goes_to)
        else:
            return super().keyPressEvent(e)
        self.update()
        return None
