"""Work on lamp buses in progress beside the window: searching, addressing, moving, writing, scenes.

A bus does one piece of work at a time, since its gear hears everything. What was found goes into the observations; what
addressing changed goes into the rig, so that it can be put back on another day. Moves are staged first and done in one
go: until then the board shows where gear will be, and nothing has happened.
"""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Iterable, Mapping
from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QObject, Signal

from welvo.app.runner import Job, JobRunner
from welvo.app.session import Session
from welvo.buses.edits import remember_addressing
from welvo.buses.plan import bus_at
from welvo.live import bus_link
from welvo.live.bus_link import BusLine, BusProgress, HttpBus
from welvo.live.device_link import HttpLink
from welvo.live.device_link import open_session as http_session
from welvo.live.links import LinkError
from welvo.matching.gear import bus_where, gear_wishes, seen_on
from welvo.observed.values import BusSeen, Event, GearSeen
from welvo.protocols import dali
from welvo.protocols.dali import To
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef
from welvo.rig.steps import Stopped

BLINKS_FOR = 10.0
"""Seconds for which gear shows itself when it is asked to (edition 2 of -102)."""
Do = Callable[[BusLine, BusProgress], Awaitable[Any]]


def _whatever_becomes_of(do: Do) -> Do:
    """Work that changes addresses, and a search after it in any case: what broke off has done a part. Gives what was
    found, and why it broke off."""

    async def work(line: BusLine, p: BusProgress) -> tuple[BusSeen, str]:
        broke = ""
        try:
            await do(line, p)
        except Stopped:
            broke = "Stopped. "
        except LinkError as e:
            if p.stopped:
                raise Stopped from e  # who does not answer cannot be searched either
            broke = f"{e} "
        p.stopped = False
        return await bus_link.search_bus(line, True, p.tell_progress), broke

    return work


class BusWork(QObject):
    """`changed` whenever something in progress is further, ended, or was staged; `take_over_ended` has to be called a
    few times a second. `interface` and `password` say through what and with what a gateway is asked."""

    changed = Signal()

    def __init__(
        self,
        session: Session,
        runner: JobRunner,
        interface: Callable[[], str],
        password: Callable[[str], str],
        quiet: Callable[[], bool],
    ) -> None:
        super().__init__()
        self._runner = runner
        self._session, self._interface, self._password, self._quiet = session, interface, password, quiet
        self.progress: dict[PortRef, BusProgress] = {}
        self.failed: dict[PortRef, str] = {}
        """Why the last work on a bus broke off."""
        self.staged: dict[PortRef, dict[int, int]] = {}
        """By bus: short addresses as they are, and as they shall be; only those that change."""
        self.blinking: tuple[PortRef, int] | None = None
        self._blinks_until = 0.0
        self._shown: object = None
        session.replaced.connect(self.forget)

    def stop_all(self) -> None:
        for p in self.progress.values():
            p.stopped = True

    def forget(self) -> None:
        """Another rig: nothing that was staged or said holds."""
        for p in self.progress.values():
            p.stopped = True
        self._runner.forget(self)  # a device of the next rig may have the same id: nothing of this one may end there
        self.progress, self.failed, self.staged, self.blinking = {}, {}, {}, None
        self.changed.emit()

    # ---- beginning

    def words_if_busy(self, ref: PortRef) -> str:
        """What is in progress on a bus, in words; empty when nothing is."""
        p = self.progress.get(ref)
        return p.words_of_progress if p else ""

    def stop_work(self, ref: PortRef) -> None:
        """End it at its next step; what was done stays done, and gear is left in no half state."""
        if ref in self.progress:
            self.progress[ref].stopped = True

    def _begin_work(self, ref: PortRef, do: Do, then: Callable[[Any], None]) -> None:
        """Begin a piece of work that the bus is busy with until `then` is given what it gave."""
        progress = BusProgress()
        self._start_job(ref, do, progress, lambda job: self._take_over_job(ref, job, then, progress))
        self.progress[ref] = progress
        self.failed.pop(ref, None)
        self.changed.emit()

    def _start_job(self, ref: PortRef, do: Do, progress: BusProgress, then: Callable[[Job[Any]], None]) -> None:
        """Do something on a bus, beside the window. Raises Refused while it is busy, or cannot be asked."""
        s = self._session
        d, model = s.rig.devices[ref.device], model_of(s.rig, ref.device)
        if model is None or not d.ip or not model.status_port:
            raise Refused(f"{d.name} has no address yet, so its buses cannot be asked.")
        if self._quiet():
            raise Refused("Nothing is asked while nothing may be sent, or no interface is chosen (see Output).")
        if ref in self.progress:
            raise Refused(f"{ref.port} is busy: {self.progress[ref].doing}. Wait, or stop it.")
        ip, port, password, interface = d.ip, model.status_port, self._password(d.ip), self._interface()

        async def work() -> Any:
            async with http_session(interface) as opened:
                link = HttpLink(opened, ip, port, password, lambda: progress.stopped)
                return await do(HttpBus(link, ref.port), progress)

        self._runner.start(self, work, then)

    # ---- what can be done

    def search_bus(self, ref: PortRef) -> None:
        """Ask who is there, and everything they know. It changes nothing."""
        self._begin_work(
            ref,
            lambda line, p: bus_link.search_bus(line, True, p.tell_progress),
            lambda seen: self._observe_bus(ref, seen),
        )

    def read_gear(self, ref: PortRef, short: int) -> None:
        self._begin_work(
            ref, lambda line, p: bus_link.read_gear(line, short), lambda seen: self._gear_found(ref, {short: seen})
        )  # fmt: skip

    def address_gear(self, ref: PortRef, which: int) -> None:
        """Address gear anew: 0 all of it, 255 what has no address, or `short << 1 | 1` what shares one."""
        seen = seen_on(self._session.rig, self._session.observed, ref)
        there = {g.at for g in seen.gear} if seen else set()
        free = [n for n in range(dali.SHORT_ADDRESSES) if which == 0 or n not in there]
        if which not in (0, 0xFF):
            free = [which >> 1, *free]

        done = bus_link.Addressed()

        def then(result: tuple[BusSeen, str]) -> None:
            now, broke = result
            s = self._session
            pairs = [(-1 if c.before is None else c.before, c.now) for c in done.changes]
            self.staged.pop(ref, None)
            if pairs:
                s.make_edit(remember_addressing, ref, s.clock_time(), pairs)
            self._observe_bus(ref, now)
            moved = sum(a != b for a, b in pairs)
            words = f"{say_count(len(pairs), 'gear', 'gear')} addressed on {ref.port}, {moved} otherwise than before."
            s.say(f"{broke}{words}", "error" if broke else "note")

        async def do(line: BusLine, p: BusProgress) -> None:
            await bus_link.address_gear(line, which, free, p.tell_progress, done)

        self._begin_work(ref, _whatever_becomes_of(do), then)

    def put_back(self, ref: PortRef, changes: Iterable[tuple[int, int]]) -> None:
        """Give gear the short addresses that it had before an addressing."""
        there = self._gear_there(ref)
        moves = bus_link.moves_back(there, changes)
        if not moves:
            raise Refused("All gear has the short addresses that it had before.")
        self._move_gear(ref, moves, "put back", ())

    def write_moves(self, ref: PortRef) -> None:
        """Do what was staged."""
        try:
            moves = bus_link.moves_in_order(self._gear_there(ref), self.staged.get(ref, {}))
        except ValueError:
            raise Refused("Two gear would have one short address. Search the bus again.") from None
        if not moves:
            raise Refused("Nothing was moved.")
        self._move_gear(ref, moves, "moved", tuple(self.staged.get(ref, {}).items()))

    def _move_gear(
        self, ref: PortRef, moves: list[tuple[int | None, int | None]], word: str, changes: tuple[tuple[int, int], ...]
    ) -> None:
        """Do moves; `changes` are what can be put back afterwards."""
        count = bus_link.gear_of_moves(moves)

        def then(result: tuple[BusSeen, str]) -> None:
            seen, broke = result
            self.staged.pop(ref, None)
            if not broke:
                self._session.make_edit(remember_addressing, ref, self._session.clock_time(), changes)
            self._observe_bus(ref, seen)
            words = f"{say_count(count, 'gear', 'gear')} {word} on {ref.port}, and found there."
            self._session.say(broke or words, "error" if broke else "note")

        async def do(line: BusLine, p: BusProgress) -> None:
            await bus_link.move_gear(line, moves, p.tell_progress)

        self._begin_work(ref, _whatever_becomes_of(do), then)

    def write_planned(self, ref: PortRef, shorts: Iterable[int] | None = None) -> None:
        """Write what is planned for gear and differs, and read it back."""
        s = self._session
        bus, seen = bus_at(s.rig, ref), seen_on(s.rig, s.observed, ref)
        wishes = gear_wishes(bus, seen, shorts) if seen else {}
        if not seen or not wishes:
            raise Refused("Search the bus first." if not seen else "All gear is set as planned.")
        planned = {g.at: g for g in bus.gear}
        before = seen

        def then(after: dict[int, GearSeen]) -> None:
            self._gear_found(ref, after)
            left = gear_wishes(bus, BusSeen(tuple(after.values())))
            count = sum(len(k) for k in wishes.values())
            bad = sum(len(k) for k in left.values())
            words = f"{say_count(count - bad, 'setting')} taken and read back on {ref.port}"
            more = f", {bad} read back otherwise: gear {', '.join(map(str, left))}" if bad else ""
            s.say(f"{words}{more}.", "error" if bad else "note")

        self._begin_work(ref, lambda line, p: bus_link.write_gear(line, planned, before, wishes, p.tell_progress), then)

    def store_scene(self, ref: PortRef, scene: int, shorts: Iterable[int]) -> None:
        wanted = list(shorts)
        if not wanted:
            raise Refused("Search the bus first: nothing is known to store a scene.")

        def then(after: dict[int, GearSeen]) -> None:
            self._gear_found(ref, after)
            self._session.say(f"{say_count(len(after), 'gear', 'gear')} stored scene {scene} on {ref.port}.")

        self._begin_work(ref, lambda line, p: bus_link.store_scene(line, scene, wanted, p.tell_progress), then)

    def recall_scene(self, ref: PortRef, scene: int) -> None:
        self._with_levels(ref, lambda line: bus_link.recall_scene(line, scene))

    def set_level(self, ref: PortRef, short: int | None, value: int) -> None:
        """Set the level of one gear, or of all (None)."""
        to = To(short=short) if short is not None else dali.EVERYBODY
        self._with_levels(ref, lambda line: bus_link.set_level(line, to, value))

    def identify_gear(self, ref: PortRef, short: int) -> None:
        """Let one gear show itself for ten seconds."""
        # so short that the bus is not busy with it
        self._start_job(
            ref,
            lambda line, _: bus_link.identify_gear(line, short),
            BusProgress(),
            lambda job: self._take_over_job(ref, job, lambda _: None, None),
        )
        self.blinking, self._blinks_until = (ref, short), time.monotonic() + BLINKS_FOR
        self.changed.emit()

    def _with_levels(self, ref: PortRef, act: Callable[[BusLine], Awaitable[None]]) -> None:
        there = self._gear_there(ref)

        async def do(line: BusLine, _: BusProgress) -> dict[int, int]:
            await act(line)
            return await bus_link.read_levels(line, there)

        def then(levels: Mapping[int, int]) -> None:
            s = self._session
            seen = seen_on(s.rig, s.observed, ref)
            if seen:
                self._gear_found(
                    ref, {g.at: replace(g, level=levels[g.at]) for g in seen.gear if g.at in levels}
                )  # fmt: skip

        self._begin_work(ref, do, then)

    def _gear_there(self, ref: PortRef) -> list[int]:
        seen = seen_on(self._session.rig, self._session.observed, ref)
        return [g.at for g in seen.gear] if seen else []

    # ---- staging

    def stage_move(self, ref: PortRef, one: int, two: int) -> None:
        """Let the gear that is to be at a place go to another; who is there comes in exchange."""
        there = self._gear_there(ref)
        arranged = {a: self.staged.get(ref, {}).get(a, a) for a in there}
        first = next((a for a, b in arranged.items() if b == one), None)
        second = next((a for a, b in arranged.items() if b == two), None)
        if first is None:
            raise Refused(f"No gear was found at place {one}.")
        if not 0 <= two < dali.SHORT_ADDRESSES:
            raise Refused(f"There is no place {two}; there are 0 to 63.")
        arranged[first] = two
        if second is not None:
            arranged[second] = one
        self.staged[ref] = {a: b for a, b in arranged.items() if a != b}
        self.changed.emit()

    def drop_staged(self, ref: PortRef) -> None:
        self.staged.pop(ref, None)
        self.changed.emit()

    # ---- following

    def take_over_ended(self) -> None:
        """Take over what has ended; tell whoever shows progress."""
        if self.blinking and time.monotonic() > self._blinks_until:
            self.blinking = None
            self.changed.emit()
        ended = self._runner.take_over(self)
        shown = {ref: (p.doing, p.done) for ref, p in self.progress.items()}
        if ended or shown != self._shown:
            self._shown = shown
            self.changed.emit()

    def _take_over_job(
        self, ref: PortRef, job: Job[Any], then: Callable[[Any], None], progress: BusProgress | None
    ) -> None:
        """Take over what a piece of work gave; `progress` is None for one that the bus was not busy with."""
        if progress and self.progress.get(ref) is progress:
            del self.progress[ref]
        error = job.error
        if isinstance(error, Stopped) or (progress and progress.stopped and isinstance(error, LinkError)):
            self._session.say(f"Stopped on {ref.port}: {progress.doing if progress else ''}.", "warning")
        elif error or job.was_cancelled:
            self.failed[ref] = str(error) if error else "It was stopped."
            self._session.say(self.failed[ref], "error")
        elif ref.device in self._session.rig.devices:
            self._session.attempt_act(lambda: then(job.result))

    def _observe_bus(self, ref: PortRef, seen: BusSeen) -> None:
        s = self._session
        at = bus_where(s.rig, ref)
        if at:
            words = f"{say_count(len(seen.gear), 'gear', 'gear')} found on {ref.port}"
            log = s.observed.note_event(Event(s.clock_time(), ref.device, "bus", words)).log
            s.observe(buses={**s.observed.buses, at: seen}, log=log)

    def _gear_found(self, ref: PortRef, gear: Mapping[int, GearSeen]) -> None:
        s = self._session
        at, seen = bus_where(s.rig, ref), seen_on(s.rig, s.observed, ref)
        if at and gear:
            known = {g.at: g for g in seen.gear} if seen else {}
            merged = {**known, **gear}
            made = BusSeen(tuple(merged[k] for k in sorted(merged)), seen.strays if seen else False, s.now())
            s.observe(buses={**s.observed.buses, at: made})
