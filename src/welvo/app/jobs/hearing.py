"""What is heard: the listener on the chosen interface, and the pages that devices are asked for.

Both are threads of their own, which fill tables; what the window shows of them is taken over a few times a second.
"""

from __future__ import annotations

import math
import time
from collections import deque

from PySide6.QtCore import QObject, Signal

from welvo.app.jobs.device_work import DeviceWork, speaks_http
from welvo.app.runner import begin_thread
from welvo.app.session import Session
from welvo.live.device_link import USUAL_PORT
from welvo.live.interfaces import LOOPBACK, Interface, interface_of, trouble_of
from welvo.live.listener import Listener
from welvo.live.status import StatusWatch
from welvo.live.worker import Fault
from welvo.observed.values import SILENT_AFTER, SourceSeen
from welvo.patience import steady
from welvo.protocols.status_page import LevelsBehind, StatusPage
from welvo.rig.document import Change
from welvo.rig.lookup import feeds_of, joined_wires
from welvo.rig.plan import model_of
from welvo.rig.protocol import PROTOCOLS

MOST_STRANGERS = 64
"""Devices that nobody planned and that are asked for their settings at the most."""
SLOW_START = 2.5
"""Seconds after which a port that was just let go is no longer held by the process that was ending."""
FRESH_FOR = 2.0
"""Seconds for which what a page said of a port holds, beyond the time between two askings."""


TAKEN_EVERY = 0.3
"""Seconds between two turns in which what was heard is taken over."""
FORGOTTEN_AFTER = 30.0


class Lateness:
    """How late this program itself is: a device is not silent while its answer waits for us to read it.

    A turn that should have come after `every` seconds and came later adds what it was late to the time that a device
    may take, in whole steps of five seconds so that nothing flickers, and for half a minute.
    """

    def __init__(self, every: float) -> None:
        self._every = every
        self._last = 0.0
        self._late: deque[tuple[float, float]] = deque()

    def patience_at(self, now: float) -> float:
        """Seconds after which a device counts as silent, by the monotonic clock; asked once a turn."""
        late = now - self._last - self._every if self._last else 0.0
        self._last = now
        if late > 1.0:
            self._late.append((now, late))
        while self._late and now - self._late[0][0] > FORGOTTEN_AFTER:
            self._late.popleft()
        worst = max((w for _, w in self._late), default=0.0)
        return SILENT_AFTER + 5.0 * math.ceil(worst / 5.0)


class Hearing(QObject):
    """`changed` tells that the interface, or what is wrong with it, is another one."""

    changed = Signal()

    def __init__(self, session: Session, interface: str, quiet: bool, devices: DeviceWork) -> None:
        super().__init__()
        self._session, self._devices = session, devices
        found = interface_of(interface)
        self.missing = "" if found else interface
        """The address of the interface that was chosen last time and is not there: another one has to be chosen."""
        self.interface: Interface = found or LOOPBACK
        self.quiet = quiet
        """Whether nothing at all leaves before arming: no question for devices, no joining of groups."""
        self.trouble = ""
        """What keeps the interface from being used; empty when nothing does."""
        self.listener: Listener | None = None
        self._watch = StatusWatch()
        self._gathered: tuple[SourceSeen, ...] = ()
        self._looked_up: deque[str] = deque()
        """What is in the way of listening, as it was looked up beside the window and is not yet said."""
        self._say_at = math.inf
        self._lateness = Lateness(TAKEN_EVERY)

    # ---- beginning and ending

    def start_asking(self) -> None:
        self._watch.start_watching()

    def listen_anew(self, port_still_held: bool) -> None:
        """Listen anew. A process that ends may still hold the port: the listener tries again by itself, and what is in
        the way is said later than otherwise."""
        if self.listener:
            self.listener.close()
        self.listener = Listener(self.interface, joined_wires(self._session.rig), quiet=self.quiet)
        held = self.listener.taken and port_still_held
        self._say_at = time.monotonic() + (SLOW_START if held else 0.0)
        self.listener.start_listening()
        self._session.observe(heard={}, sources=(), lamps={}, buses={}, listening=True)

    def choose_interface(self, interface: Interface) -> None:
        self.interface, self.missing, self.trouble = interface, "", ""

    def stop_hearing(self) -> None:
        self._watch.stop_watching()
        if self.listener:
            self.listener.close()
            self.listener = None

    def read_again(self) -> None:
        """Ask all devices at once instead of waiting for the next poll."""
        if self.listener:
            self.listener.poll_everybody()

    # ---- following

    def follow_change(self, change: Change) -> None:
        if change.changed_ids("feeds") and self.listener:
            self.listener.join_universes(joined_wires(self._session.rig))

    def gather_sources(self) -> None:
        """Have the listener sum up who sends; it is taken over a turn later, since each of the two takes its time."""
        self._gathered = tuple(self.heard_sources())

    def take_over(self) -> None:
        """Bring the observations up to date, and ask again."""
        if not self.listener:
            return
        said = dict(self._session.observed.said)
        for ip, told in list(self._watch.said.items()):
            if ip not in said or told.at > said[ip].at:  # what a push read back may be newer
                said[ip] = told
        at = f"{self.interface.ip}/{self.interface.mask}"
        patience = self._lateness.patience_at(time.monotonic())
        self._session.observe(
            heard=self.listener.heard_devices(), sources=self._gathered, said=said, network=at, patience=patience
        )
        self._ask_pages()

    def _ask_pages(self) -> None:
        """Whom to ask over HTTP: devices that were heard for what they put out, planned ones also for their settings,
        and others that announce a page of their own in their Art-Net reply.

        Quiet, nobody is asked. A planned address beyond the interface's own network is not asked either: a question
        would leave through somebody else's.
        """
        if self.quiet:
            self._watch.wanted, self._watch.asked = (), ()
            return
        rig, heard = self._session.rig, self._session.observed.heard
        wanted, asked = [], []
        for device_id, d in rig.devices.items():
            model = model_of(rig, device_id)
            if not model or not model.status_port or not d.ip or not self.interface.holds_address(d.ip):
                continue
            known = d.ip in heard or d.ip in self._watch.said
            if known:
                wanted.append((d.ip, model.status_port))
            if speaks_http(model):
                asked.append((d.ip, model.status_port, self._devices.password_of(d.ip)))
        planned = {d.ip for d in rig.devices.values()}
        strangers = [ip for ip, h in heard.items() if h.page and ip not in planned and self.interface.holds_address(ip)]
        asked += [(ip, USUAL_PORT, self._devices.password_of(ip)) for ip in strangers[:MOST_STRANGERS]]
        self._watch.strangers = frozenset(strangers)
        self._watch.interface = self._devices.interface = self.interface.ip
        self._watch.wanted, self._watch.asked = tuple(wanted), tuple(asked)

    def look_at_interface(self) -> None:
        """Say when an interface goes away and when it is back; the listener and the output look after themselves."""
        while self._looked_up:
            self._session.say(self._looked_up.popleft(), "error")
        if self.missing or not self.listener:
            return
        trouble = trouble_of(self.interface)
        if trouble != self.trouble:
            if trouble:
                self._session.say(f"{trouble[:1].upper()}{trouble[1:]}. Nothing is heard or sent there.", "error")
            else:
                self._session.say(f"{self.interface.label} is back.", "warning")  # takes the place of the error
            self.trouble = trouble
            self.changed.emit()
        if time.monotonic() >= self._say_at:
            self._say_at = math.inf
            self._say_problems(self.listener)

    def _say_problems(self, listener: Listener) -> None:
        """Say what is in the way of listening; who holds a port is looked up out of the window's way."""
        for problem in listener.known_problems:
            self._session.say(problem, "error")
        if listener.taken:
            begin_thread("who holds the port", lambda: self._looked_up.extend(listener.find_problems))

    def take_faults(self) -> list[Fault]:
        """What went wrong unexpectedly in the threads; each is given once."""
        found = self._watch.faults.take_faults()
        if self.listener:
            found += self.listener.faults.take_faults()
        return found

    # ---- looking

    def heard_sources(self) -> list[SourceSeen]:
        return self.listener.heard_sources(self._session.now()) if self.listener else []

    def on_wire(self, universe: str) -> bytes | None:
        """Levels heard on the wire of the Bench's feed of a universe."""
        for feed in self._session.rig.feeds.values():
            if feed.universe == universe and self.listener:
                found = self.listener.levels_on_wire(feed.protocol, feed.wire)
                if found is not None:
                    return found
        return None

    def sources_on(self, universe: str) -> list[tuple[SourceSeen, bytes]]:
        """Who sends on the wire universe of a universe's first feed that has a number, with what."""
        rig = self._session.rig
        feed = next(
            (
                f
                for f in map(rig.feeds.get, feeds_of(rig, universe))
                if f and PROTOCOLS[f.protocol].has_universe_numbers
            ),
            None,
        )
        return self.listener.sources_of_universe(feed.protocol, feed.wire, steady()) if feed and self.listener else []

    def _fresh_page(self, device: str) -> StatusPage | None:
        """What the page of a device last said of its ports, or None when that is too old to hold."""
        d = self._session.rig.devices.get(device)
        found = self._watch.found.get(d.ip) if d else None
        if not found or steady() - found[0] > FRESH_FOR + 2 * self._watch.seconds_between:
            return None
        return found[1]

    def port_gives(self, device: str, label: str) -> bytes | None:
        """What a port was last seen to put out, not older than two seconds."""
        page = self._fresh_page(device)
        return page.levels_of_port(label) if page else None

    def port_leaves(self, device: str, label: str) -> tuple[bytes, tuple[LevelsBehind, ...]] | None:
        """Every octet that was last seen to leave a port of pixels, and what is measured behind its bridges."""
        page = self._fresh_page(device)
        return page.octets_of_port(label) if page else None

    def why_unread(self, ip: str) -> str:
        """Why the settings of a device could not be read lately; empty when they could, or were not asked for."""
        return self._watch.silent.get(ip, "")
