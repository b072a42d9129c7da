"""The window's side of the network: listening, arming, pushing, and what ports put out."""

from __future__ import annotations

import time
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from welvo.app.session import Session
from welvo.bench.levels import Frame, Levels
from welvo.live.engine import EngineError, EngineProcess
from welvo.live.interfaces import LOOPBACK, Interface, interface_of
from welvo.live.links import ArtNetLink, port_levels
from welvo.live.listener import Listener
from welvo.live.output import rows_of, streams
from welvo.live.status import StatusWatch
from welvo.observed.values import Event
from welvo.rig.base import Refused
from welvo.rig.document import Change
from welvo.rig.plan import model_of, planned, say_setting, split_key
from welvo.rig.protocol import PROTOCOLS, say_wire
from welvo.rig.wiring import SettingValue


class Network(QObject):
    """Nothing is sent before `arm`. `armed_changed` tells the head; `ticked` comes ten times a second with news."""

    armed_changed = Signal()
    ticked = Signal()

    def __init__(self, session: Session, interface: str = LOOPBACK.ip) -> None:
        super().__init__()
        self.session = session
        self.interface: Interface = interface_of(interface) or LOOPBACK
        self.levels = Levels()
        self.listener: Listener | None = None
        self.engine: EngineProcess | None = None
        self._sent: list[dict[str, Any]] = []
        self._dirty = True
        self._stale = True
        self._watch = StatusWatch()
        self._frames: dict[str, Frame] = {}
        self._tick = QTimer(self, interval=100)
        self._tick.timeout.connect(self._on_tick)
        self._flush = QTimer(self, interval=20)
        self._flush.timeout.connect(self._write)
        self._count = 0
        session.changed.connect(self._on_change)

    # ---- listening

    def start(self) -> None:
        """Begin to listen on the interface in use; what is in the way is said."""
        self._listen()
        self._watch.start()
        self._tick.start()

    def _listen(self) -> None:
        if self.listener:
            self.listener.close()
        self.listener = Listener(self.interface, self._universes())
        for problem in self.listener.problems:
            self.session.say(problem, "error")
        self.listener.start()
        self.session.observe(heard={}, sources=(), listening=True)

    def _universes(self) -> list[int]:
        return [f.wire for f in self.session.rig.feeds.values() if f.protocol == "sacn"]

    def use(self, interface: Interface) -> None:
        """Change the interface: output is disarmed first, then everything is heard anew."""
        self.disarm()
        self.interface = interface
        if self.listener:
            self._listen()
        self.armed_changed.emit()

    def close(self) -> None:
        self.disarm()
        self._tick.stop()
        self._watch.stop()
        if self.listener:
            self.listener.close()
            self.listener = None

    def read_again(self) -> None:
        """Ask all devices at once instead of waiting for the next poll."""
        if self.listener:
            self.listener.poll()

    # ---- arming

    @property
    def armed(self) -> bool:
        return self.engine is not None

    @property
    def armed_universes(self) -> int:
        rows = {s["row"] for s in self._sent}
        return len(rows | {p[0] for s in self._sent for p in s.get("parts", ())})

    def arm(self) -> bool:
        """Let output leave the computer. Gives False, with the reason said, when it cannot."""
        self.session.commit_pending()
        if self.engine:
            return True
        specs = self._streams()
        if not specs:
            self.session.say("Nothing to arm: no universe has a feed from the Bench yet. Add one in Patch.", "warning")
            return False
        fd = self.listener.artnet_fd if self.listener else -1
        try:
            self.engine = EngineProcess(self.interface.ip, max(1, len(self.session.rig.universes)), "Welvo Bench", fd)
        except (EngineError, OSError) as e:
            self.session.say(f"Output stays closed: {e}", "error")
            self.engine = None
            return False
        if self.listener:
            self.listener.own(self.engine.cid.bytes)
        self._dirty = True
        self._write()
        self._sent = specs
        self.engine.set_streams(specs)
        self._flush.start()
        self.armed_changed.emit()
        lines = [
            say_wire(f.protocol, f.wire) for f in self.session.rig.feeds.values() if not PROTOCOLS[f.protocol].sent
        ]
        if lines:
            self.session.say(
                f"Not sent: {', '.join(lines[:4])}. The Bench sends "
                f"{', '.join(r.word for r in PROTOCOLS.values() if r.sent)}.",
                "warning",
            )
        return True

    def disarm(self) -> None:
        """End all streams properly; the process that sends is gone afterwards."""
        if self.engine:
            self._flush.stop()
            self.engine.stop()
            self.engine = None
            self._sent = []
            self.armed_changed.emit()

    def _streams(self) -> list[dict[str, Any]]:
        defaults = {uid: f.tobytes() for uid, f in self.levels.frames(self.session.index, defaults_only=True).items()}
        heard = self.listener.heard() if self.listener else {}
        return streams(self.session.rig, self.interface, heard, defaults, self.session.index)

    def touch(self) -> None:
        """Levels changed: they go out with the next flush."""
        self._dirty = self._stale = True
        if not self.engine:
            self.ticked.emit()

    def frames(self) -> dict[str, Frame]:
        """The levels meant for each universe, by id."""
        rig = self.session.rig
        if self._stale:
            self._frames.clear()
            self._stale = False
        missing = rig.universes.keys() - self._frames.keys()
        if len(missing) > 40:
            self._frames = self.levels.frames(self.session.index)
        else:
            self._frames.update({uid: self.levels.frame(self.session.index, uid) for uid in missing})
        return self._frames

    def frame(self, universe: str) -> Frame | None:
        """The levels meant for one universe; the others are not worked out for it."""
        if self._stale:
            self._frames.clear()
            self._stale = False
        if universe not in self._frames and universe in self.session.rig.universes:
            self._frames[universe] = self.levels.frame(self.session.index, universe)
        return self._frames.get(universe)

    def _write(self) -> None:
        if not self.engine or not self._dirty:
            return
        frames = self.frames()
        rows = rows_of(self.session.rig)
        if len(rows) == self.engine.rows:
            self.engine.write(b"".join(frames[uid].tobytes() for uid in rows))
        self._dirty = False

    # ---- changes and ticks

    def _on_change(self, change: Change) -> None:
        self._dirty = True
        if change.ids("universes") or change.ids("profiles"):
            self._stale = True
        for uid in self.session.followed.universes:
            self._frames.pop(uid, None)
        if change.ids("fixtures") and not self._stale:
            for key in change.ids("fixtures"):
                for span in self.session.index.spans(key):
                    self._frames.pop(span.universe, None)
        if change.ids("feeds") and self.listener:
            self.listener.join(self._universes())
        if self.engine and (
            change.ids("universes")
            or change.ids("feeds")
            or change.ids("senders")
            or change.ids("uses")
            or "use" in change.ids("rig")
            or ((change.ids("fixtures") or change.ids("elements")) and any("parts" in s for s in self._sent))
        ):
            if len(self.session.rig.universes) != self.engine.rows:
                self.disarm()
                self.session.say("Disarmed: the rig has other universes now. Arm again when you are ready.", "warning")
                return
            self._refresh_streams()

    def _refresh_streams(self) -> None:
        specs = self._streams()
        if self.engine and specs != self._sent:
            self._sent = specs
            self.engine.set_streams(specs)
            self.armed_changed.emit()

    def _on_tick(self) -> None:
        self._count += 1
        if not self.listener:
            return
        if self._count % 3 == 0:
            now = self.session.now()
            self.session.observe(heard=self.listener.heard(), sources=tuple(self.listener.sources(now)))
            self._watch.wanted = tuple(
                (d.ip, m.status_port)
                for device_id, d in self.session.rig.devices.items()
                if (m := model_of(self.session.rig, device_id))
                and m.status_port
                and d.ip in self.session.observed.heard
            )
            if self.engine:
                self._refresh_streams()
                if not self.engine.alive:
                    self.disarm()
                    self.session.say("The output process ended by itself. Output is disarmed.", "error")
        self.ticked.emit()

    # ---- looking

    def on_wire(self, universe: str) -> bytes | None:
        """Levels heard on the wire of the Bench's feed of a universe."""
        for feed in self.session.rig.feeds.values():
            if feed.universe == universe and self.listener:
                found = self.listener.levels(feed.protocol, feed.wire)
                if found is not None:
                    return found
        return None

    def port_gives(self, device: str, label: str) -> bytes | None:
        """What a port was last seen to put out, not older than two seconds."""
        d = self.session.rig.devices.get(device)
        found = self._watch.found.get(d.ip) if d else None
        if not found or time.time() - found[0] > 2.0:
            return None
        return port_levels(found[1], label)

    # ---- pushing

    def push(self, device: str, keys: tuple[str, ...]) -> bool:
        """Push planned values to a device. Afterwards they are claimed until the device says them itself."""
        self.session.commit_pending()
        rig = self.session.rig
        model = model_of(rig, device)
        d = rig.devices[device]
        plan = planned(rig, device)
        values: dict[str, SettingValue] = {k: plan[k] for k in keys if k in plan}
        if not model or not values or not self.listener:
            return False
        names = ", ".join(
            f"{k} {say_setting(model.spec(split_key(k)[1]), v, str(plan.get(split_key(k)[0] + '.protocol', 'sacn')))}"
            for k, v in values.items()
        )
        try:
            ArtNetLink(self.listener).push(model, self.listener.heard().get(d.ip), d.ip, values)
        except Refused as e:
            self.session.say(str(e), "error")
            self.session.observe(
                log=self.session.observed.note(Event(self.session.now(), device, keys[0], f"push failed: {e}")).log
            )
            return False
        self.session.note_written(device, values, f"pushed {names}")
        QTimer.singleShot(150, self.read_again)
        return True

    def identify(self, ip: str, on: bool) -> bool:
        """Let a device blink, or stop it."""
        if not self.listener:
            return False
        try:
            ArtNetLink(self.listener).identify(ip, on)
        except Refused as e:
            self.session.say(str(e), "error")
            return False
        return True
