"""The window's side of the network: listening, arming, pushing, and what ports put out.

What is shown as armed is what leaves: ten times a second the state of the streaming process and of the interface is
looked at, and whatever keeps a stream from leaving is said and stands in the head, on the path and on the Bench.
"""

from __future__ import annotations

import math
import threading
import time
from collections import deque
from collections.abc import Callable
from typing import Any

import numpy as np
from msgspec import Struct
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QGuiApplication

from welvo.app.bus_work import BusWork
from welvo.app.device_work import DeviceWork, by_http, speaks_http
from welvo.app.lamp_work import LampWork
from welvo.app.session import Session
from welvo.bench.borrowing import lent, say_arming
from welvo.bench.levels import Frame, Levels
from welvo.live.beside import Act
from welvo.live.device_link import USUAL_PORT
from welvo.live.engine import BY_KEY, SILENT_AFTER, EngineProcess, EngineState
from welvo.live.engine_main import NOBODY
from welvo.live.interfaces import LOOPBACK, Interface, interface_of, trouble_of
from welvo.live.links import ArtNetLink, port_levels, port_octets
from welvo.live.listener import Listener
from welvo.live.messages import OctetsOut, Out, rows_in
from welvo.live.output import kept_back, rows_of, sent_feeds, streams
from welvo.live.status import StatusWatch
from welvo.live.worker import Fault
from welvo.matching.planned import full_plan
from welvo.observed.values import Event, SourceSeen
from welvo.patience import crowding, steady
from welvo.rig.base import Refused
from welvo.rig.document import Change
from welvo.rig.entered import SettingValue
from welvo.rig.lookup import feeds_of, joined_wires
from welvo.rig.notation import plural
from welvo.rig.plan import model_of, say_setting, split_key
from welvo.rig.protocol import PROTOCOLS, USUAL
from welvo.rig.wiring import BY_ARTNET
from welvo.settings.artnet import TakenAlong, whole_pages

REPLACE_AFTER = 2.0
"""Seconds without a word after which a streaming process that does not answer is replaced by a new one."""
MOST_REPLACED = 3
"""So often in one arming; a process that never answers is no output."""
MOST_STRANGERS = 64
"""Devices that nobody planned and that are asked for their settings at the most."""
FOLLOW_FOR = 8.0
"""Seconds beyond its usual restart for which a device is awaited at its new address."""
BUSY, JUST_BUSY = 0.3, 1.0
"""Seconds without a tick after which the window counts as busy, and for which it counts as just busy afterwards."""
FLUSH = 4
"""Milliseconds within which a change of levels is handed to the streaming process."""
SLOW_START = 2.5
"""Seconds after which a port that was just let go is no longer held by the process that was ending."""


class Sending(Struct, frozen=True):
    """How output goes: how many universes are armed, how many of them leave, and what is in the way of the others."""

    armed: bool = False
    universes: int = 0
    leaving: int = 0
    trouble: str = ""
    """What is wrong with the whole of it, in words; empty when nothing is."""
    partly: str = ""
    """What keeps a part of it from leaving, in words."""
    starting: bool = False
    reasons: tuple[str, ...] = ()
    silent: bool = False
    """Whether the output process does not answer."""

    @property
    def stuck(self) -> bool:
        return self.armed and not self.starting and bool(self.trouble or self.partly or self.leaving < self.universes)


class Network(QObject):
    """No level leaves before `arm`. `armed_changed` tells the head; `ticked` comes ten times a second with news."""

    armed_changed = Signal()
    ticked = Signal()
    blackout_changed = Signal()
    failed = Signal(object)
    """A Fault: something unexpected in one of the threads."""

    def __init__(self, session: Session, interface: str = LOOPBACK.ip, quiet: bool = False) -> None:
        super().__init__()
        self.session = session
        found = interface_of(interface)
        self.missing = "" if found else interface
        """The address of the interface that was chosen last time and is not there: another one has to be chosen."""
        self.interface: Interface = found or LOOPBACK
        self.quiet = quiet
        """Whether nothing at all leaves before arming: no question for devices, no joining of groups."""
        self.sending = Sending()
        self.trouble = ""
        """What keeps the interface from being used; empty when nothing does."""
        self._ended: list[Any] = []
        self._kept_back: tuple[Any, frozenset[str], dict[str, str]] = (None, frozenset(), {})
        self._said: deque[str] = deque()
        self._say_at = math.inf
        self.levels = Levels()
        self.lines: dict[str, str] = {}
        """Which serial port of this computer is which DMX line of the rig, by its number."""
        self.remember_lines: Callable[[dict[str, str]], None] = lambda _: None
        self.borrowed: frozenset[str] = frozenset()
        """Universes that are sent by the routes of another sender while armed."""
        self.listener: Listener | None = None
        self.engine: EngineProcess | None = None
        self._sent: list[Out] = []
        self._dirty = True
        self._moved_at = 0.0
        self._advanced_at = time.monotonic()
        self._write_from = 0.0
        self._stale = True
        self._stays: dict[str, Any] = {}
        """By universe: which slots a blackout leaves lit."""
        self._stays_stale = False
        self._beat_at = self._busy_until = time.monotonic()
        self._gathered: tuple[SourceSeen, ...] = ()
        self._moving: dict[str, tuple[str, str, float]] = {}
        """Devices that were given another address: their MAC and address before, and until when they are awaited."""
        self._watch = StatusWatch()
        self.work = DeviceWork(session)
        self.lamps = LampWork(session, lambda: self.listener, lambda: self.lines)
        self.buses = BusWork(
            session, lambda: self.interface.ip, self.work.password, lambda: self.quiet or bool(self.missing)
        )
        self._frames: dict[str, Frame] = {}
        self._tick = QTimer(self, interval=100)
        self._tick.timeout.connect(self._on_tick)
        self._flush = QTimer(self, interval=FLUSH)
        self._flush.timeout.connect(self._write)
        self._count = 0
        session.changed.connect(self._on_change)

    # ---- listening

    def start(self) -> None:
        """Begin to listen on the interface in use; what is in the way is said."""
        self._watch.start()
        self._tick.start()
        if not self.missing:
            self._listen()

    def _listen(self) -> None:
        self.lamps.forget()
        self.buses.forget()
        if self.listener:
            self.listener.close()
        self.listener = Listener(self.interface, self._universes(), quiet=self.quiet)
        # a process that ends may still hold the port, and the listener tries again by itself
        ending = self.listener.taken and any(e.alive for e in self._ended)
        self._say_at = time.monotonic() + (SLOW_START if ending else 0.0)
        self.listener.start()
        self.session.observe(heard={}, sources=(), lamps={}, buses={}, listening=True)

    def _say_problems(self, listener: Listener) -> None:
        """Say what is in the way of listening; who holds a port is looked up out of the window's way."""
        for problem in listener.known_problems:
            self.session.say(problem, "error")
        if listener.taken:
            threading.Thread(target=lambda: self._said.extend(listener.problems), daemon=True).start()

    def _universes(self) -> list[int]:
        return joined_wires(self.session.rig)

    def use(self, interface: Interface) -> None:
        """Change the interface: output is disarmed first, then everything is heard anew."""
        self.disarm()
        self.interface, self.missing, self.trouble = interface, "", ""
        if self._tick.isActive():
            self._listen()
        self.armed_changed.emit()

    def set_quiet(self, quiet: bool) -> None:
        """Let nothing out before arming, or ask for devices and join groups again."""
        self.disarm()
        self.quiet = quiet
        if self._tick.isActive() and not self.missing:
            self._listen()
        self.armed_changed.emit()

    def close(self) -> None:
        self.disarm()
        self._tick.stop()
        self._watch.stop()
        self.work.close()
        self.lamps.close()
        self.buses.close()
        if self.listener:
            self.listener.close()
            self.listener = None
        for engine in self._ended:
            engine.stop()
        self._ended.clear()

    def read_again(self) -> None:
        """Ask all devices at once instead of waiting for the next poll."""
        if self.listener:
            self.listener.poll()

    # ---- arming

    @property
    def armed(self) -> bool:
        return self.engine is not None

    def arm(self) -> bool:
        """Let output leave the computer. Gives False, with the reason said, when it cannot."""
        self.session.commit_pending()
        if self.engine:
            return True
        if self.missing:
            self.session.say(
                f"The interface {self.missing} is not there. Choose one under Output › Interface.", "error"
            )
            return False
        specs = self._streams()
        if not specs:
            others = lent(self.session.rig)
            self.session.say(
                "Nothing to arm: no universe has a feed from the Bench. Other senders feed "
                f"{plural(len(others), 'universe')}: type those to be tested under Borrowed on the Bench."
                if others
                else "Nothing to arm: no universe has a feed from the Bench yet. Add one in Patch.",
                "warning",
            )
            return False
        fd = self.listener.artnet_fd if self.listener else -1
        try:
            rows = max(1, len(self.session.rig.universes))
            keys = QGuiApplication.platformName() == "xcb"
            self.engine = EngineProcess(self.interface.ip, rows, "Welvo Bench", fd, wait=False, keys=keys)
        except OSError as e:
            self.session.say(f"Output stays closed: {e.strerror or e}.", "error")
            self.engine = None
            return False
        if self.listener:
            self.listener.own(self.engine.cid.bytes)
        self._dirty = True
        self._moved_at = time.monotonic()
        if self.levels.from_rest(self.session.index):
            self.session.say("Heads move now, slowly. Keep clear of them.", "warning")
        self._write()
        self._sent = specs
        self.engine.set_streams(specs)
        self._tell_what_stays()
        self._flush.start()
        self._look_at_output()
        self.armed_changed.emit()
        said = say_arming(
            self.session.rig, (f for _, f in sent_feeds(self.session.rig, self.borrowed)), self._sources()
        )
        if said:
            self.session.say(f"Armed. {said}", "warning")
        return True

    def _tell_what_stays(self) -> None:
        """Tell the streaming process what a blackout leaves lit, for one that is asked for beside this window."""
        self._stays_stale = False
        if self.engine:
            rows = rows_of(self.session.rig)
            for uid in rows.keys() - self._stays.keys():
                self._stays[uid] = self.levels.stays(self.session.index, uid)
            bits = np.concatenate([self._stays[uid] for uid in rows]) if rows else np.zeros(0, np.bool_)
            self.engine.set_stays(np.packbits(bits, bitorder="little").tobytes())

    def toggle_blackout(self) -> None:
        """Take intensity, colour and shutter of everything to 0, or end that."""
        self.levels.blackout = not self.levels.blackout
        self.touch()
        self.blackout_changed.emit()

    def press(self, act: Act) -> None:
        """Do what a key asks for, unless the streaming process did it already by the same press.

        It hears the keys as well, and does what a window that is busy leaves undone for too long. The press comes here
        all the same, as soon as the window is free: within a moment after that it is the same one.
        """
        if self.engine:
            if self._just_busy() and self.engine.was_done(act):
                return
            self.engine.dealt_with(act)
        self.disarm() if act == "disarm" else self.toggle_blackout()

    def _just_busy(self) -> bool:
        now = time.monotonic()
        return now - self._beat_at > BUSY or now - self._busy_until < JUST_BUSY

    def _follow_what_was_done_beside(self) -> None:
        """Take over what a key or a signal had the streaming process do while this window was busy."""
        now, engine = time.monotonic(), self.engine
        if now - self._beat_at > BUSY:
            self._busy_until = now
        self._beat_at = now
        if engine is None:
            return
        if not self._just_busy():
            engine.forget_presses()
        for act in engine.take_done():
            if act == "disarm":
                continue  # its end is seen by itself
            self.toggle_blackout()
            self._write_from = 0.0
            self._write()
            engine.lighten()
            words = "Blackout was asked for" if self.levels.blackout else "The end of the blackout was asked for"
            self.session.say(f"{words} while the window was busy.", "warning")

    def _sources(self) -> list[SourceSeen]:
        return self.listener.sources(self.session.now()) if self.listener else []

    @property
    def nothing_fed(self) -> bool:
        """Whether arming would be in vain only for want of feeds, and there are some to borrow."""
        return not self.missing and not self._streams() and bool(lent(self.session.rig))

    def borrow(self, universes: frozenset[str]) -> None:
        """Choose what is sent by the routes of others. Raises Refused for more while armed: that is said at arming."""
        if self.engine and universes - self.borrowed:
            raise Refused("Disarm first: universes are borrowed before arming, so that nothing more leaves unasked.")
        self.borrowed = universes
        if self.engine:
            self._refresh_streams()
        self.armed_changed.emit()

    def set_line(self, number: int, port: str) -> None:
        """Choose the serial port of a line (empty: none); a port is one line's only."""
        self.lines = {k: v for k, v in self.lines.items() if k != str(number) and v != port}
        if port:
            self.lines[str(number)] = port
        self.remember_lines(self.lines)
        if self.engine:
            self._refresh_streams()
        self.armed_changed.emit()

    def disarm(self) -> None:
        """End all streams properly. It does not wait: the process that sends is gone a moment afterwards."""
        if self.engine:
            self._flush.stop()
            self._ended = [e for e in self._ended if e.alive]
            self._ended.append(self.engine)
            self.engine.end()
            self.engine = None
            self._sent = []
            self._look_at_output()
            self.armed_changed.emit()

    def _streams(self) -> list[Out]:
        defaults = {uid: f.tobytes() for uid, f in self.levels.frames(self.session.index, defaults_only=True).items()}
        heard = self.listener.heard() if self.listener else {}
        return streams(
            self.session.rig,
            self.interface,
            heard,
            defaults,
            self.session.index,
            self.session.now(),
            self.borrowed,
            self.lines,
        )

    def _look_at_output(self) -> None:
        """Bring `sending` up to date, and act on a process that failed, ended or does not answer."""
        state = self.engine.state if self.engine else None
        if state and state.kind == "failed":
            why = state.why
            self.disarm()
            self.session.say(f"Output could not be opened on {self.interface.ip}: {why}.", "error")
            return
        gone = state is not None and state.kind == "ended"
        if gone and state and state.why == BY_KEY:
            self.disarm()
            self.session.say("Disarmed beside the window: by key, or by a command.", "warning")
            return
        # silence is said first, and lasts as long again before it is acted on; a busy computer is given more of it.
        # How busy it is changes from one look to the next, so the time alone does not keep that order.
        patience = max(REPLACE_AFTER, 2 * SILENT_AFTER * crowding())
        silent = state is not None and state.kind == "silent" and state.silent_for > patience and self.sending.silent
        if self.engine and state and (gone or silent):
            if self.engine.revived >= MOST_REPLACED:
                self.disarm()
                does = "ends by itself" if gone else "does not answer"
                self.session.say(f"The output process {does}, whatever is tried. Output is disarmed.", "error")
                return
            try:
                self.engine.revive()
            except OSError as e:
                self.disarm()
                self.session.say(f"A new output process cannot be started: {e}. Output is disarmed.", "error")
                return
            did = "was ended from outside" if gone else "did not answer"
            self.session.say(f"The output process {did} and was replaced by a new one; what is armed goes on.", "error")
            state = self.engine.state
        found = self._sending(state)
        if found != self.sending:
            words = found.trouble or found.partly
            new = words and words not in (self.sending.trouble, self.sending.partly)
            self.sending = found
            if new and found.armed and words != self.trouble:
                self.session.say(f"{words}.", "error" if found.trouble else "warning")
            self.armed_changed.emit()

    def _sending(self, state: EngineState | None) -> Sending:
        if state is None:
            self._observe_stuck({})
            return Sending(trouble=self.trouble)
        by_reason: dict[str, set[int]] = {}
        stuck: dict[str, str] = {}
        rig = self.session.rig
        row_of = rows_of(rig)
        rows: set[int] = set()
        held: set[int] = set()
        for spec in self._sent:
            mine = rows_in(spec)
            rows |= mine
            why = state.wrong.get(spec.id, "")
            if not why and state.kind == "silent":
                why = "the output process does not answer"
            if why:
                held |= mine
                by_reason.setdefault(why, set()).update(mine)
                if why != NOBODY:
                    stuck |= dict.fromkeys(spec.feeds, why)
        going = rows - held
        if self._kept_back[0] is not rig or self._kept_back[1] != self.borrowed:
            self._kept_back = (rig, self.borrowed, kept_back(rig, self.borrowed))
        for fid, why in self._kept_back[2].items():
            row = row_of[rig.feeds[fid].universe]
            stuck[fid] = why
            rows.add(row)
            if row not in going:
                held.add(row)
                by_reason.setdefault(why, set()).add(row)
        self._observe_stuck(stuck)
        trouble = self.trouble
        partly = ""
        if state.kind == "silent":
            trouble = "The output process does not answer: nothing leaves"
        elif stuck and not trouble:
            why = max(by_reason, key=lambda w: (w != NOBODY, len(by_reason[w])), default=next(iter(stuck.values())))
            if going:
                count = len(by_reason.get(why, ()))
                which = f"{plural(count, 'universe')} of {len(rows)}" if count else plural(len(stuck), "feed")
                partly = f"{which} cannot leave: {why}"
            else:
                trouble = f"Nothing leaves: {why}"
        reasons = tuple(f"{plural(len(n), 'universe')}: {why}" for why, n in sorted(by_reason.items()))
        starting, silent = state.kind == "starting", state.kind == "silent"
        return Sending(True, len(rows), len(going), trouble, partly, starting, reasons, silent)

    def _observe_stuck(self, stuck: dict[str, str]) -> None:
        if stuck != self.session.observed.stuck:
            self.session.observe(stuck=stuck)

    def touch(self) -> None:
        """Levels changed: they go out with the next flush."""
        self._dirty = self._stale = True
        self._moved_at = time.monotonic()
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
        if self.levels.moving:
            now = time.monotonic()
            self.levels.advance(min(0.1, now - self._advanced_at))
            self._advanced_at = now
            self._dirty = self._stale = True
        else:
            self._advanced_at = time.monotonic()
        begun = time.monotonic()
        if not self.engine or not self._dirty or begun < self._write_from:
            return
        frames = self.frames()
        rows = rows_of(self.session.rig)
        if len(rows) == self.engine.rows:
            self.engine.write(b"".join(frames[uid].tobytes() for uid in rows))
        self._dirty = False
        now = time.monotonic()
        self._write_from = now + 2 * (now - begun)  # of a large rig: a third of the window's time at the most

    # ---- changes and ticks

    def _on_change(self, change: Change) -> None:
        self._dirty = True
        if change.ids("universes") or change.ids("profiles"):
            self._stale = True
            self._stays.clear()
        self._stays_stale = True
        for uid in self.session.followed.universes:
            self._frames.pop(uid, None)
            self._stays.pop(uid, None)
        for key in change.ids("fixtures"):  # another mode may lie on the same slots
            for span in self.session.index.spans(key):
                self._stays.pop(span.universe, None)
                if not self._stale:
                    self._frames.pop(span.universe, None)
        if change.ids("feeds") and self.listener:
            self.listener.join(self._universes())
        if self.engine and (
            change.ids("universes")
            or change.ids("feeds")
            or change.ids("senders")
            or change.ids("uses")
            or "use" in change.ids("rig")
            or (
                (change.ids("fixtures") or change.ids("elements")) and any(isinstance(s, OctetsOut) for s in self._sent)
            )
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
            self._look_at_output()
            self.armed_changed.emit()

    def _on_tick(self) -> None:
        self._count += 1
        while self._said:
            self.session.say(self._said.popleft(), "error")
        self._look_at_interface()
        self._follow_what_was_done_beside()
        self._look_at_output()
        if self._stays_stale:
            self._tell_what_stays()
        if self.listener and self._count % 3 == 0:
            self._gathered = tuple(self._sources())
        elif self.listener and self._count % 3 == 1:  # of a thousand sources each of the two takes its time
            said = dict(self.session.observed.said)
            for ip, told in list(self._watch.said.items()):
                if ip not in said or told.at > said[ip].at:  # what a push read back may be newer
                    said[ip] = told
            at = f"{self.interface.ip}/{self.interface.mask}"
            self.session.observe(heard=self.listener.heard(), sources=self._gathered, said=said, network=at)
            self._ask()
            if self.engine:
                self._refresh_streams()
        if self.levels.moving and not self.engine:
            self.levels.advance(self._tick.interval() / 1000)
            self._dirty = self._stale = True
        self.work.tick()
        if self._count % 3 != 1:  # what was heard is taken over in that turn, which is enough for one
            self.lamps.tick()
        self.buses.tick()
        self._follow_moves()
        for fault in self._faults():
            self.failed.emit(fault)
        self.ticked.emit()

    def _ask(self) -> None:
        """Whom to ask over HTTP: devices that were heard for what they put out, planned ones also for their settings,
        and others that announce a page of their own in their Art-Net reply.

        Quiet, nobody is asked. A planned address beyond the interface's own network is not asked either: a question
        would leave through somebody else's.
        """
        if self.quiet:
            self._watch.wanted, self._watch.asked = (), ()
            return
        rig, heard = self.session.rig, self.session.observed.heard
        wanted, asked = [], []
        for device_id, d in rig.devices.items():
            model = model_of(rig, device_id)
            if not model or not model.status_port or not d.ip or not self.interface.holds(d.ip):
                continue
            known = d.ip in heard or d.ip in self._watch.said
            if known:
                wanted.append((d.ip, model.status_port))
            if speaks_http(model):
                asked.append((d.ip, model.status_port, self.work.password(d.ip)))
        planned = {d.ip for d in rig.devices.values()}
        strangers = [ip for ip, h in heard.items() if h.page and ip not in planned and self.interface.holds(ip)]
        asked += [(ip, USUAL_PORT, self.work.password(ip)) for ip in strangers[:MOST_STRANGERS]]
        self._watch.strangers = frozenset(strangers)
        self._watch.interface = self.work.interface = self.interface.ip
        self._watch.wanted, self._watch.asked = tuple(wanted), tuple(asked)

    def _look_at_interface(self) -> None:
        """Say when an interface goes away and when it is back; the listener and the output look after themselves."""
        if self.missing or not self.listener:
            return
        trouble = trouble_of(self.interface)
        if trouble != self.trouble:
            if trouble:
                self.session.say(f"{trouble[:1].upper()}{trouble[1:]}. Nothing is heard or sent there.", "error")
            else:
                self.session.say(f"{self.interface.label} is back.", "warning")  # takes the place of the error
            self.trouble = trouble
            self.armed_changed.emit()
        if time.monotonic() >= self._say_at:
            self._say_at = math.inf
            self._say_problems(self.listener)

    def _faults(self) -> list[Fault]:
        found = self._watch.faults.take()
        if self.listener:
            found += self.listener.faults.take()
        return found

    # ---- looking

    def level(self, universe: str, address: int) -> int | None:
        """What is meant for one slot."""
        frame = self.frame(universe)
        return None if frame is None else int(frame[address - 1])

    def on_wire(self, universe: str) -> bytes | None:
        """Levels heard on the wire of the Bench's feed of a universe."""
        for feed in self.session.rig.feeds.values():
            if feed.universe == universe and self.listener:
                found = self.listener.levels(feed.protocol, feed.wire)
                if found is not None:
                    return found
        return None

    def sources_on(self, universe: str) -> list[tuple[SourceSeen, bytes]]:
        """Who sends on the wire universe of a universe's first feed that has a number, with what."""
        rig = self.session.rig
        feed = next(
            (f for f in map(rig.feeds.get, feeds_of(rig, universe)) if f and PROTOCOLS[f.protocol].numbered), None
        )
        return self.listener.universe(feed.protocol, feed.wire, steady()) if feed and self.listener else []

    def stood_for(self) -> float:
        """Seconds since levels were changed or output was armed."""
        return time.monotonic() - self._moved_at

    def port_gives(self, device: str, label: str) -> bytes | None:
        """What a port was last seen to put out, not older than two seconds."""
        d = self.session.rig.devices.get(device)
        found = self._watch.found.get(d.ip) if d else None
        if not found or steady() - found[0] > 2.0 + 2 * self._watch.every:
            return None
        return port_levels(found[1], label)

    def port_leaves(self, device: str, label: str) -> tuple[bytes, list[dict[str, Any]]] | None:
        """Every octet that was last seen to leave a port of pixels, and what is measured behind its bridges."""
        d = self.session.rig.devices.get(device)
        found = self._watch.found.get(d.ip) if d else None
        if not found or steady() - found[0] > 2.0 + 2 * self._watch.every:
            return None
        return port_octets(found[1], label)

    def why_unread(self, ip: str) -> str:
        """Why the settings of a device could not be read lately; empty when they could, or were not asked for."""
        return self._watch.silent.get(ip, "")

    # ---- pushing

    def whole_push(self, device: str, keys: tuple[str, ...]) -> tuple[dict[str, SettingValue], list[TakenAlong]]:
        """What a push of planned values sends, and which ports it takes along. Raises Refused when it cannot go."""
        rig = self.session.rig
        model = model_of(rig, device)
        d = rig.devices[device]
        plan = full_plan(self.session.index, device)
        values: dict[str, SettingValue] = {k: plan[k] for k in keys if k in plan}
        heard = self.listener.heard().get(d.ip) if self.listener else None
        if not model or heard is None or BY_ARTNET not in model.links:
            return values, []
        return whole_pages(model, heard, values, plan)

    def push(self, device: str, keys: tuple[str, ...]) -> bool:
        """Push planned values to a device. Afterwards they are claimed until the device says them itself."""
        self.session.commit_pending()
        rig = self.session.rig
        model = model_of(rig, device)
        d = rig.devices[device]
        plan = full_plan(self.session.index, device)
        if not model or not self.listener:
            return False
        over_http = {k: plan[k] for k in keys if k in plan and by_http(model, k)}
        if over_http:
            try:
                self.work.begin(device, over_http)
            except Refused as e:
                self.session.say(str(e), "error")
                return False
            keys = tuple(k for k in keys if k not in over_http)
            if not keys:
                return True
        try:
            values, _ = self.whole_push(device, keys)
            if not values:
                return False
            ArtNetLink(self.listener).push(model, self.listener.heard().get(d.ip), d.ip, values)
        except Refused as e:
            self.session.say(str(e), "error")
            self.session.observe(
                log=self.session.observed.note(Event(self.session.today(), device, keys[0], f"push failed: {e}")).log
            )
            return False
        names = ", ".join(
            f"{k} {say_setting(model.spec(split_key(k)[1]), v, str(plan.get(split_key(k)[0] + '.protocol', USUAL)))}"
            for k, v in values.items()
        )
        self.session.note_written(device, values, f"pushed {names}")
        QTimer.singleShot(150, self, self.read_again)
        return True

    def give_address(self, device: str, at: str) -> None:
        """Have a device that was found elsewhere take its planned address by Art-Net; then it is followed there."""
        rig = self.session.rig
        d, model = rig.devices[device], model_of(rig, device)
        if not self.listener or model is None or not d.ip:
            raise Refused(f"{d.name} has no address yet, or nothing is listened to.")
        heard = self.listener.heard().get(at)
        ArtNetLink(self.listener).give_address(model, at, d.ip, str(d.settings.get("mask", "")))
        self._note(device, "ip", f"address {d.ip} sent to {at}; it restarts")
        self._moving[device] = (heard.mac if heard else "", at, self.session.now() + model.restart_takes + FOLLOW_FOR)

    def _follow_moves(self) -> None:
        """Tell what became of devices that were given another address: there, there with another MAC, or silent."""
        for device, (mac, at, until) in list(self._moving.items()):
            d = self.session.rig.devices.get(device)
            heard = self.listener.heard().get(d.ip) if d and self.listener else None
            now = self.session.now()
            if d and heard and now - heard.at < 2.0:
                same = not mac or not heard.mac or heard.mac == mac
                words = f"{d.name} answers at {d.ip} now" + ("." if same else f", with another MAC than at {at}.")
                self.session.say(words, "note" if same else "error")
            elif d and now < until:
                if self.listener and self._count % 10 == 0:
                    self.listener.poll_one(d.ip)
                continue
            elif d:
                words = f"{d.name} does not answer at {d.ip} after its new address was sent to {at}. Find it again."
                self.session.say(words, "error")
            else:
                words = ""
            del self._moving[device]
            if words:
                self._note(device, "ip", words)

    def _note(self, device: str, setting: str, words: str) -> None:
        self.session.observe(log=self.session.observed.note(Event(self.session.today(), device, setting, words)).log)

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
