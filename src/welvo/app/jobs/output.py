"""Output: the streaming process, what it is to send, what of that leaves, and what is in the way of the rest.

What is shown as armed is what leaves: ten times a second the state of the streaming process is looked at, and whatever
keeps a stream from leaving is said and stands in the head, on the path and on the Bench.
"""

from __future__ import annotations

import time
from collections.abc import Callable

from msgspec import Struct
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QGuiApplication

from welvo.app.jobs.hearing import Hearing
from welvo.app.jobs.meant import MeantLevels
from welvo.app.session import Session
from welvo.bench.borrowing import lent_universes, say_arming
from welvo.live.beside import Act
from welvo.live.engine import BY_KEY, SILENT_AFTER, EngineProcess, EngineState
from welvo.live.engine_main import NOBODY
from welvo.live.messages import OctetsOut, Out, rows_in
from welvo.live.output import kept_back, rows_of, sent_feeds, streams_to_send
from welvo.patience import crowding
from welvo.rig.base import Refused
from welvo.rig.document import Change
from welvo.rig.notation import say_count

REPLACE_AFTER = 2.0
"""Seconds without a word after which a streaming process that does not answer is replaced by a new one."""
MOST_REPLACED = 3
"""So often in one arming; a process that never answers is no output."""
BUSY, JUST_BUSY = 0.3, 1.0
"""Seconds without a tick after which the window counts as busy, and for which it counts as just busy afterwards."""
FLUSH = 4
"""Milliseconds within which a change of levels is handed to the streaming process."""


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
    def is_stuck(self) -> bool:
        return self.armed and not self.starting and bool(self.trouble or self.partly or self.leaving < self.universes)


class Output(QObject):
    """No level leaves before `arm_output`. `changed` tells that what is armed, or what is in its way, is another
    now."""

    changed = Signal()
    blackout_changed = Signal()

    def __init__(self, session: Session, hearing: Hearing, meant: MeantLevels) -> None:
        super().__init__()
        self._session, self._hearing, self._meant = session, hearing, meant
        self.sending = Sending()
        self.engine: EngineProcess | None = None
        """The streaming process, while armed."""
        self._ended: list[EngineProcess] = []
        """Processes that were told to end, and may still be doing so."""
        self._kept_back: tuple[object, frozenset[str], dict[str, str]] = (None, frozenset(), {})
        """Why feeds are kept back, by id, with the rig and the borrowed universes that it was worked out for."""
        self.lines: dict[str, str] = {}
        """Which serial port of this computer is which DMX line of the rig, by its number."""
        self.remember_lines: Callable[[dict[str, str]], None] = lambda _: None
        self.borrowed: frozenset[str] = frozenset()
        """Universes that are sent by the routes of another sender while armed."""
        self._sent: list[Out] = []
        """The streams that the process was last told to send."""
        self._advanced_at = time.monotonic()
        self._write_from = 0.0
        """Levels are not written before this moment."""
        self._beat_at = self._busy_until = time.monotonic()
        self._flush = QTimer(self, interval=FLUSH)
        self._flush.timeout.connect(self._write_levels)

    def end_output(self) -> None:
        self.disarm_output()
        for engine in self._ended:
            engine.stop()
        self._ended.clear()

    @property
    def is_ending(self) -> bool:
        """Whether a process that was told to end still runs, and may hold its port."""
        return any(e.alive for e in self._ended)

    # ---- arming

    @property
    def is_armed(self) -> bool:
        return self.engine is not None

    def arm_output(self) -> bool:
        """Let output leave the computer. Gives False, with the reason said, when it cannot."""
        self._session.commit_pending()
        if self.engine:
            return True
        if self._hearing.missing:
            self._session.say(
                f"The interface {self._hearing.missing} is not there. Choose one under Output › Interface.", "error"
            )
            return False
        specs = self._streams_to_send()
        if not specs:
            self._say_nothing_to_arm()
            return False
        fd = self._hearing.listener.artnet_fd if self._hearing.listener else -1
        try:
            rows = max(1, len(self._session.rig.universes))
            keys = QGuiApplication.platformName() == "xcb"
            self.engine = EngineProcess(self._hearing.interface.ip, rows, "Welvo Bench", fd, wait=False, keys=keys)
        except OSError as e:
            self._session.say(f"Output stays closed: {e.strerror or e}.", "error")
            self.engine = None
            return False
        if self._hearing.listener:
            self._hearing.listener.own_streams(self.engine.cid.bytes)
        self._meant.start_to_settle()
        if self._meant.levels.from_rest(self._session.index):
            self._session.say("Heads move now, slowly. Keep clear of them.", "warning")
        self._write_levels()
        self._sent = specs
        self.engine.set_streams(specs)
        self._tell_what_stays()
        self._flush.start()
        self._look_at_output()
        self.changed.emit()
        said = say_arming(
            self._session.rig,
            (f for _, f in sent_feeds(self._session.rig, self.borrowed)),
            self._hearing.heard_sources(),
        )
        if said:
            self._session.say(f"Armed. {said}", "warning")
        return True

    def _say_nothing_to_arm(self) -> None:
        others = lent_universes(self._session.rig)
        self._session.say(
            "Nothing to arm: no universe has a feed from the Bench. Other senders feed "
            f"{say_count(len(others), 'universe')}: type those to be tested under Borrowed on the Bench."
            if others
            else "Nothing to arm: no universe has a feed from the Bench yet. Add one in Patch.",
            "warning",
        )

    def _tell_what_stays(self) -> None:
        """Tell the streaming process what a blackout leaves lit, for one that is asked for beside this window."""
        if self.engine:
            self.engine.set_stays(self._meant.stays_lit())
        else:
            self._meant.stays_outdated = False

    def toggle_blackout(self) -> None:
        """Take intensity, colour and shutter of everything to 0, or end that."""
        self._meant.levels.blackout = not self._meant.levels.blackout
        self._meant.note_touched()
        self.blackout_changed.emit()

    def press_key(self, act: Act) -> None:
        """Do what a key asks for, unless the streaming process did it already by the same press.

        It hears the keys as well, and does what a window that is busy leaves undone for too long. The press comes here
        all the same, as soon as the window is free: within a moment after that it is the same one.
        """
        if self.engine:
            if self._just_busy() and self.engine.was_done(act):
                return
            self.engine.dealt_with(act)
        self.disarm_output() if act == "disarm" else self.toggle_blackout()

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
            self._write_levels()
            engine.lighten()
            words = "Blackout was asked for" if self._meant.levels.blackout else "The end of the blackout was asked for"
            self._session.say(f"{words} while the window was busy.", "warning")

    @property
    def nothing_fed(self) -> bool:
        """Whether arming would be in vain only for want of feeds, and there are some to borrow."""
        return not self._hearing.missing and not self._streams_to_send() and bool(lent_universes(self._session.rig))

    def borrow_universes(self, universes: frozenset[str]) -> None:
        """Choose what is sent by the routes of others. Raises Refused for more while armed: that is said at arming."""
        if self.engine and universes - self.borrowed:
            raise Refused("Disarm first: universes are borrowed before arming, so that nothing more leaves unasked.")
        self.borrowed = universes
        if self.engine:
            self.refresh_streams()
        self.changed.emit()

    def set_line(self, number: int, port: str) -> None:
        """Choose the serial port of a line (empty: none); a port is one line's only."""
        self.lines = {k: v for k, v in self.lines.items() if k != str(number) and v != port}
        if port:
            self.lines[str(number)] = port
        self.remember_lines(self.lines)
        if self.engine:
            self.refresh_streams()
        self.changed.emit()

    def disarm_output(self) -> None:
        """End all streams properly. It does not wait: the process that sends is gone a moment afterwards."""
        if self.engine:
            self._flush.stop()
            self._ended = [e for e in self._ended if e.alive]
            self._ended.append(self.engine)
            self.engine.end()
            self.engine = None
            self._sent = []
            self._look_at_output()
            self.changed.emit()

    def _streams_to_send(self) -> list[Out]:
        defaults = self._meant.default_frames()
        heard = self._hearing.listener.heard_devices() if self._hearing.listener else {}
        return streams_to_send(
            self._session.rig,
            self._hearing.interface,
            heard,
            defaults,
            self._session.index,
            self._session.now(),
            self.borrowed,
            self.lines,
        )

    def _look_at_output(self) -> None:
        """Bring `sending` up to date, and act on a process that failed, ended or does not answer."""
        state = self.engine.state if self.engine else None
        if state and state.kind == "failed":
            why = state.why
            self.disarm_output()
            self._session.say(f"Output could not be opened on {self._hearing.interface.ip}: {why}.", "error")
            return
        gone = state is not None and state.kind == "ended"
        if gone and state and state.why == BY_KEY:
            self.disarm_output()
            self._session.say("Disarmed beside the window: by key, or by a command.", "warning")
            return
        # silence is said first, and lasts as long again before it is acted on; a busy computer is given more of it.
        # How busy it is changes from one look to the next, so the time alone does not keep that order.
        patience = max(REPLACE_AFTER, 2 * SILENT_AFTER * crowding())
        silent = state is not None and state.kind == "silent" and state.silent_for > patience and self.sending.silent
        if self.engine and state and (gone or silent):
            if self.engine.revived >= MOST_REPLACED:
                self.disarm_output()
                does = "ends by itself" if gone else "does not answer"
                self._session.say(f"The output process {does}, whatever is tried. Output is disarmed.", "error")
                return
            try:
                self.engine.revive()
            except OSError as e:
                self.disarm_output()
                self._session.say(f"A new output process cannot be started: {e}. Output is disarmed.", "error")
                return
            did = "was ended from outside" if gone else "did not answer"
            self._session.say(
                f"The output process {did} and was replaced by a new one; what is armed goes on.", "error"
            )
            state = self.engine.state
        found = self._sending_by_state(state)
        if found != self.sending:
            words = found.trouble or found.partly
            new = words and words not in (self.sending.trouble, self.sending.partly)
            self.sending = found
            if new and found.armed and words != self._hearing.trouble:
                self._session.say(f"{words}.", "error" if found.trouble else "warning")
            self.changed.emit()

    def _sending_by_state(self, state: EngineState | None) -> Sending:
        if state is None:
            self._observe_stuck({})
            return Sending(trouble=self._hearing.trouble)
        by_reason: dict[str, set[int]] = {}
        stuck: dict[str, str] = {}
        rig = self._session.rig
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
        trouble = self._hearing.trouble
        partly = ""
        if state.kind == "silent":
            trouble = "The output process does not answer: nothing leaves"
        elif stuck and not trouble:
            ranked = sorted(by_reason, key=lambda w: (w != NOBODY, len(by_reason[w])), reverse=True)
            why = ranked[0] if ranked else next(iter(stuck.values()))
            if going:
                count = len(rows) - len(going)
                which = f"{say_count(count, 'universe')} of {len(rows)}" if count else say_count(len(stuck), "feed")
                others = f", and {say_count(len(ranked) - 1, 'other reason')}" if len(ranked) > 1 else ""
                partly = f"{which} cannot leave: {why}{others}"
            else:
                trouble = f"Nothing leaves: {why}"
        reasons = tuple(f"{say_count(len(n), 'universe')}: {why}" for why, n in sorted(by_reason.items()))
        starting, silent = state.kind == "starting", state.kind == "silent"
        return Sending(True, len(rows), len(going), trouble, partly, starting, reasons, silent)

    def _observe_stuck(self, stuck: dict[str, str]) -> None:
        if stuck != self._session.observed.stuck:
            self._session.observe(stuck=stuck)

    def refresh_streams(self) -> None:
        specs = self._streams_to_send()
        if self.engine and specs != self._sent:
            self._sent = specs
            self.engine.set_streams(specs)
            self._look_at_output()
            self.changed.emit()

    # ---- handing over

    def _write_levels(self) -> None:
        """Hand levels that changed to the streaming process."""
        if self._meant.levels.moving:
            now = time.monotonic()
            self._meant.advance_fades(min(0.1, now - self._advanced_at))
            self._advanced_at = now
        else:
            self._advanced_at = time.monotonic()
        begun = time.monotonic()
        if not self.engine or not self._meant.unwritten or begun < self._write_from:
            return
        frames = self._meant.meant_frames()
        rows = rows_of(self._session.rig)
        if len(rows) == self.engine.rows:
            self.engine.write(b"".join(frames[uid].tobytes() for uid in rows))
        self._meant.unwritten = False
        now = time.monotonic()
        self._write_from = now + 2 * (now - begun)  # of a large rig: a third of the window's time at the most

    def follow_change(self, change: Change) -> None:
        """Send what an edit made of the streams. Rows are the universes in their order: with others, output ends."""
        if not self.engine:
            return
        routes = any(
            change.changed_ids(part) for part in ("universes", "feeds", "senders", "uses")
        ) or "use" in change.changed_ids("rig")
        wired = change.changed_ids("fixtures") or change.changed_ids("elements")
        if routes or (wired and any(isinstance(s, OctetsOut) for s in self._sent)):
            if len(self._session.rig.universes) != self.engine.rows:
                self.disarm_output()
                self._session.say("Disarmed: the rig has other universes now. Arm again when you are ready.", "warning")
                return
            self.refresh_streams()

    def look_after(self) -> None:
        """Once a tick: follow what was done beside the window, and what the streaming process says."""
        self._follow_what_was_done_beside()
        self._look_at_output()
        if self._meant.stays_outdated:
            self._tell_what_stays()
