"""Searching ports for lamps by RDM and setting what is found, in progress beside the window.

Whatever is asked here is asked by another thread; the window takes over what came a few times a second. A lamp blinks
only while somebody asked for it: another one, another rig, the end of the program put it out.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Coroutine, Iterable
from dataclasses import dataclass
from functools import partial
from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QObject, Signal

from welvo.app.runner import Job, JobRunner
from welvo.app.session import Session
from welvo.app.turns import TURNS
from welvo.live.lamp_push import LampPush, LampResult
from welvo.live.links import LinkError
from welvo.live.listener import Listener
from welvo.live.rdm_link import Gateways, ResponderTalk, find_responders
from welvo.live.rdm_serial import SerialRdm
from welvo.matching.lamps import LINE, LampWish, address_by_rdm, searched_ports, wishes_for_lamps
from welvo.observed.values import Event, Lamp, PortAt
from welvo.protocols.rdm import say_uid
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.refs import PortRef

STARTED_AT_ONCE = 4
AT_A_TIME = 1
"""Pieces of work whose results are taken over in one turn of the window: thirty ports may be done at once."""


@dataclass
class Looking:
    """A search of one port: how many lamps are read of how many. Written by the thread that searches."""

    ref: PortRef
    done: int = 0
    of: int = 0

    def tell_progress(self, done: int, of: int) -> None:
        self.done, self.of = done, of

    @property
    def words_of_progress(self) -> str:
        return f"Reading {self.done + 1} of {self.of} lamps …" if self.of else "Searching …"


class LampWork(QObject):
    """`changed` whenever something in progress is further; `take_over_ended` has to be called a few times a second."""

    changed = Signal()

    def __init__(
        self,
        session: Session,
        runner: JobRunner,
        listener: Callable[[], Listener | None],
        lines: Callable[[], dict[str, str]],
    ) -> None:
        super().__init__()
        self._runner = runner
        self._lines = lines
        self._on_line: dict[str, SerialRdm] = {}
        self._session, self._listener = session, listener
        self._known: Listener | None = None
        self._gateways: Gateways | None = None
        self.searches: dict[PortAt, Looking] = {}
        self.pushes: dict[PortAt, LampPush] = {}
        self.results: dict[int, dict[str, LampResult]] = {}
        """What became of the last settings of each lamp, by UID."""
        self.failed: dict[PortAt, str] = {}
        """Why a port could not be searched."""
        self.blinking: tuple[PortAt, int] | None = None
        self._searching: dict[PortAt, Job[list[Lamp]]] = {}
        self._reading: list[Job[Lamp]] = []
        self._news: dict[PortAt, tuple[Lamp, ...]] = {}
        """What the work that has just ended found, until it is observed."""
        self._shown: object = None
        self._told: list[Event] = []
        self._waiting: list[tuple[PortAt, Callable[[], Coroutine[Any, Any, list[Lamp]]]]] = []
        session.replaced.connect(self.forget)

    def stop_all(self) -> None:
        """The program ends: pushes end after the lamp they are at, and what blinks is put out."""
        for push in self.pushes.values():
            push.stop_push()
        put_out = self._put_out()
        if put_out:
            with contextlib.suppress(TimeoutError, LinkError, OSError):
                put_out.wait(0.5)
        self._drop_all()
        self.searches = {}

    def _drop_all(self) -> None:
        """Nobody takes over what ends from now on: it is about something else."""
        for _ in self.searches:
            TURNS.end_busy()
        for search in self._searching.values():
            search.cancel()
        for reading in self._reading:
            reading.cancel()
        self._runner.forget(self)
        self._searching, self._reading, self._waiting, self._told = {}, [], [], []

    def forget(self) -> None:
        """Another rig or interface: nothing of what was found holds."""
        for push in self.pushes.values():
            push.stop_push()
        self._put_out()
        self._drop_all()
        self.searches, self.pushes, self.results, self.failed = {}, {}, {}, {}
        self.changed.emit()

    # ---- where

    def place_of_port(self, ref: PortRef) -> PortAt:
        """Where a port is reached. Raises Refused when it cannot be."""
        s = self._session
        name = s.rig.devices[ref.device].name
        at = address_by_rdm(s.rig, s.observed, *ref)
        if at is None:
            raise Refused(f"Port {ref.port} of {name} has no address or no universe, so its lamps cannot be asked.")
        return at

    def _way_to_port(self, at: PortAt) -> Any:
        if at[0] == LINE:
            name = self._lines().get(str(at[1]), "")
            if not name:
                raise Refused(f"Choose the serial port of line {at[1]} first; it stands in the panel of the device.")
            return self._on_line.setdefault(name, SerialRdm(name))
        listener = self._listener()
        if listener is None:
            raise Refused("Nothing is asked while no interface is in use (see Output).")
        if listener.quiet:
            raise Refused("Nothing is asked while nothing may be sent (see Output).")
        if self._gateways is None or self._known is not listener:
            self._gateways, self._known = Gateways(listener), listener
        return self._gateways.port_at(*at)

    def words_if_busy(self, at: PortAt) -> str:
        """What is in progress on a port, in words; empty when nothing is."""
        if at in self.searches:
            return self.searches[at].words_of_progress
        push = self.pushes.get(at)
        return f"{push.doing[:1].upper()}{push.doing[1:]} · {push.done} of {push.of} …" if push else ""

    # ---- asking

    def search_ports(self, refs: Iterable[PortRef], anew: bool = True) -> int:
        """Begin to search ports; gives how many. Raises Refused when none of them can be asked."""
        ats: dict[PortAt, PortRef] = {}
        why = ""
        for ref in refs:
            try:
                ats.setdefault(self.place_of_port(ref), ref)
            except Refused as e:
                why = str(e)
        if not ats:
            raise Refused(why or "No port has lamps on it. Attach a DMX line, or let its universe hold fixtures.")
        for at, ref in ats.items():
            if self.words_if_busy(at):
                continue
            port = self._way_to_port(at)
            looking = self.searches[at] = Looking(ref)
            self.failed.pop(at, None)
            self._waiting.append((at, partial(find_responders, port, anew, looking.tell_progress)))
            TURNS.begin_busy()
        self._start_some()
        self.changed.emit()
        return len(ats)

    def _start_some(self) -> None:
        """Begin a few of the searches that wait: starting thirty at once would hold the window up."""
        for at, search in self._waiting[:STARTED_AT_ONCE]:
            self._searching[at] = self._runner.start(self, search, partial(self._search_ended, at))
        del self._waiting[:STARTED_AT_ONCE]

    def stop_work(self, at: PortAt) -> None:
        """End a search, or a push after the lamp that is on its way."""
        while self._waiting:
            self._start_some()
        if at in self._searching:
            self._searching[at].cancel()
        if at in self.pushes:
            self.pushes[at].stop_push()

    def read_lamp(self, at: PortAt, uid: int) -> None:
        """Ask one lamp for everything it knows."""
        port = self._way_to_port(at)
        self._reading.append(
            self._runner.start(
                self, lambda: ResponderTalk(port).read_responder(uid, deep=True), partial(self._read_ended, at)
            )
        )

    def push_wishes(self, at: PortAt, wishes: dict[int, LampWish]) -> None:
        """Set lamps of a port. Raises Refused while it is busy, or when there is nothing to be set."""
        if self.words_if_busy(at):
            raise Refused("This port is busy. Wait until it is done, or stop it.")
        if not wishes:
            raise Refused("Every lamp is as planned already.")
        port = self._way_to_port(at)
        push = self.pushes[at] = LampPush(self._session.observed.lamps.get(at, ()), wishes)
        self._runner.start(self, lambda: push.run_push(port), partial(self._push_ended, at))
        self.changed.emit()

    def set_items(self, items: Iterable[str]) -> None:
        """Set the lamps of fixtures as planned, wherever they answer; what has no known lamp is said, not guessed."""
        s = self._session
        wanted = {k for k in items if k in s.rig.fixtures}
        if not wanted:
            s.say("Select fixtures first: their lamps are set as planned.", "warning")
            return
        todo: dict[PortAt, dict[int, LampWish]] = {}
        known: set[str] = set()
        for ref in searched_ports(s.rig, s.observed):
            here = [p for p in s.pairs_on_port(ref) if p.fixture in wanted and p.sure and p.lines]
            known |= {p.fixture for p in here}
            todo.setdefault(self.place_of_port(ref), {}).update(wishes_for_lamps(s.index, here))
        unknown = len(wanted - known)
        if not known:
            words = f"None of {say_count(len(wanted), 'lamp')} is known by RDM yet."
            s.say(f"{words} Search its port in Devices, and confirm which lamp is which.", "warning")
            return
        begun = sum(len(w) for w in todo.values())
        for at, wished in todo.items():
            if wished:
                self.push_wishes(at, wished)
        left = f" {say_count(unknown, 'other is', 'others are')} not known by RDM yet." if unknown else ""
        begins = f"{say_count(begun, 'lamp')} to be set." if begun else "They are as planned already."
        s.say(begins + left)

    def identify_lamp(self, at: PortAt, uid: int) -> None:
        """Let one lamp blink, and whichever blinked before no more; UID 0: none."""
        self._put_out()
        if uid:
            port = self._way_to_port(at)
            self.blinking = (at, uid)
            self._runner.start(
                self, lambda: ResponderTalk(port).identify_responder(uid, True), partial(self._blink_ended, at)
            )
        self.changed.emit()

    def _put_out(self) -> Job[None] | None:
        if self.blinking is None:
            return None
        (at, uid), self.blinking = self.blinking, None
        try:
            port = self._way_to_port(at)
        except Refused:
            return None
        return self._runner.start(self, lambda: ResponderTalk(port).identify_responder(uid, False), self._say_error)

    # ---- following

    def take_over_ended(self) -> None:
        """Take over what has ended; tell whoever shows progress."""
        self._start_some()
        ended = self._runner.take_over(self, AT_A_TIME)
        found, self._news = self._news, {}
        if found or self._told:
            s, log = self._session, self._session.observed
            for event in self._told:
                log = log.note_event(event)
            self._told.clear()
            s.observe(lamps={**s.observed.lamps, **found}, log=log.log)
        shown = (
            {at: (x.done, x.of) for at, x in self.searches.items()},
            {at: (x.done, x.doing) for at, x in self.pushes.items()},
        )
        news, self._shown = ended > 0 or shown != self._shown, shown
        if news and not found:  # with something found, all that is shown was brought up to date already
            self.changed.emit()

    def _search_ended(self, at: PortAt, job: Job[list[Lamp]]) -> None:
        del self.searches[at], self._searching[at]
        TURNS.end_busy()
        if job.was_cancelled:
            self.failed[at] = "The search was stopped."
        elif job.error:
            self.failed[at] = str(job.error)
            self._session.say(str(job.error), "error")
        else:
            self._news[at] = self._with_known(at, job.result)

    def _read_ended(self, at: PortAt, job: Job[Lamp]) -> None:
        self._reading = [x for x in self._reading if x is not job]
        self._say_error(job)
        if not job.error and not job.was_cancelled:
            lamp = job.result
            now = self._news.get(at) or self._session.observed.lamps.get(at, ())
            self._news[at] = tuple(_keep_known_lamp(x, lamp) if x.uid == lamp.uid else x for x in now)

    def _push_ended(self, at: PortAt, job: Job[None]) -> None:
        self._news[at] = self._take_over_push(at, self.pushes.pop(at), job.error)

    def _blink_ended(self, at: PortAt, job: Job[None]) -> None:
        self._say_error(job)
        if job.error and self.blinking and self.blinking[0] == at:
            self.blinking = None

    def _say_error(self, job: Job[Any]) -> None:
        if job.error:
            self._session.say(str(job.error), "error")

    def _with_known(self, at: PortAt, lamps: list[Lamp]) -> tuple[Lamp, ...]:
        """What was asked in full before stays known, where the lamp still works as it did."""
        before = {x.uid: x for x in self._session.observed.lamps.get(at, ()) if x.deep}
        return tuple(
            replace(
                before[x.uid], address=x.address, label=x.label, names=x.names or before[x.uid].names, at=x.at
            )
            if x.uid in before and not x.failed and before[x.uid].personality == x.personality
            else x
            for x in lamps
        )  # fmt: skip

    def _take_over_push(self, at: PortAt, push: LampPush, error: BaseException | None) -> tuple[Lamp, ...]:
        for (uid, key), result in push.results.items():
            self.results.setdefault(uid, {})[key] = result
        words, bad = push.summary_of_push
        if error:
            words, bad = f"It broke off: {error}.", True
        self._session.say(f"{say_count(len(push.wishes), 'lamp')}: {words}", "error" if bad else "note")
        rig = self._session.rig
        device = next(
            (ref.device for ref in searched_ports(rig, self._session.observed) if self.place_of_port(ref) == at), ""
        )
        for uid in push.wishes if device else ():
            told = [f"{k} {r.outcome}{f', {r.why}' if r.why else ''}" for k, r in self.results.get(uid, {}).items()]
            self._log_words(device, f"{say_uid(uid)}: {'; '.join(told) or 'not sent'}")
        return tuple(push.lamps.values())

    def _log_words(self, device: str, words: str) -> None:
        self._told.append(Event(self._session.clock_time(), device, "lamps", words))


def _keep_known_lamp(before: Lamp, now: Lamp) -> Lamp:
    """A lamp that could not be read is the one that was known, with why."""
    return replace(before, failed=now.failed) if now.failed else now
