"""The engine as the rest of the program sees it: start, streams, levels, how it goes, stop.

Nothing here waits for the streaming process but what says so. A thread of its own carries commands to it and takes
its reports, so that a process that is stopped, or does not read, is seen by its silence and never holds up the window.
"""

from __future__ import annotations

import contextlib
import os
import select
import signal
import subprocess
import sys
import threading
import time
import uuid
from collections import deque
from collections.abc import Callable, Sequence
from typing import Literal

from msgspec import Struct, field

from welvo.live.beside import Act
from welvo.live.frames import SLOTS, Frames
from welvo.live.messages import EngineAnswer, EngineCommand, Opening, Out, line_of, read_answer
from welvo.patience import crowding, wait_for_news

SILENT_AFTER = 0.35
"""Seconds without a report (one comes every 0.1 s) after which the process counts as not answering; more on a busy
computer."""
START_WITHIN = 5.0
"""Seconds that a new process may take to be ready."""
BY_KEY = "it was disarmed by key"
END_WITHIN = 1.0
"""Seconds for each step of ending: to end when told, to end when asked by a signal; then it is killed."""


class EngineError(Exception):
    """The engine could not be started; the message says why."""


class EngineState(Struct, frozen=True):
    """How output goes. `wrong` says by stream what keeps it from leaving."""

    kind: Literal["starting", "sending", "silent", "failed", "ended"] = "starting"
    wrong: dict[str, str] = field(default_factory=dict)
    why: str = ""
    silent_for: float = 0.0


class EngineProcess:
    """One run of streaming, from arm to disarm, with one CID.

    `artnet_fd` is the program's own socket on UDP 6454, so that ArtDmx leaves from that port; -1 for none. With
    `wait`, the process is ready when this returns; raises EngineError when it could not be started.
    """

    def __init__(
        self,
        interface: str,
        rows: int,
        name: str = "Welvo",
        artnet_fd: int = -1,
        *,
        wait: bool = True,
        keys: bool = False,
    ) -> None:
        self.frames = Frames.make_frames(max(1, rows))
        self.rows = max(1, rows)
        self.cid = uuid.uuid4()
        self.revived = 0
        self._interface, self._name, self._artnet_fd, self._keys = interface, name, artnet_fd, keys
        self._stays = b""
        self._specs: tuple[Out, ...] | None = None
        self._closing = False
        try:
            self._spawn_process()
        except OSError:
            self.frames.close()
            raise
        if wait:
            self.wait_ready()

    def _spawn_process(self) -> None:
        handles = [self.frames.handle] + ([self._artnet_fd] if self._artnet_fd >= 0 else [])
        process = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "welvo.live.engine_main",
                str(self.frames.handle),
                str(self.rows),
                str(self._artnet_fd),
            ],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            pass_fds=handles,
            bufsize=0,
        )
        self._talk = EngineTalk(process)
        self._talk.send_line(EngineCommand(open=Opening(self._interface, self._name, self.cid.hex, self._keys)))
        if self._stays:
            self._talk.send_line(EngineCommand(stays=self._stays), "stays")
        if self._specs is not None:
            self._talk.send_line(EngineCommand(streams=self._specs), "streams")

    def wait_ready(self, seconds: float = START_WITHIN) -> None:
        """Wait until the process can send. Raises EngineError with the reason when it cannot; it is ended then."""
        self._talk.wait_for_condition(lambda t: t.ready or bool(t.failed) or t.ended, seconds)
        state = self.state
        if state.kind != "sending":
            self.stop()
            raise EngineError(f"Output could not be opened on {self._interface}: {state.why or 'it did not answer'}.")

    @property
    def alive(self) -> bool:
        return not self._talk.ended

    @property
    def pid(self) -> int:
        return self._talk.process.pid

    @property
    def state(self) -> EngineState:
        """How it goes now, without asking the process: by its last report, and by how long ago that was."""
        talk = self._talk
        # by when it was last looked for: while this whole program stood still nobody can have heard anything
        quiet = max(0.0, talk.looked_at - talk.heard_at)
        if talk.failed:
            return EngineState("failed", why=talk.failed)
        if talk.ended:
            return EngineState("ended", why=BY_KEY if talk.by_key else "it ended by itself")
        if not talk.ready:
            late = quiet > START_WITHIN * crowding()
            return EngineState("silent" if late else "starting", why="it did not answer", silent_for=quiet)
        wrong = talk.wrong
        silent = quiet > SILENT_AFTER and quiet > SILENT_AFTER * crowding()
        return EngineState("silent" if silent else "sending", wrong, silent_for=quiet)

    def set_streams(self, specs: Sequence[Out]) -> None:
        """Say what goes out. Only the newest set counts: one that was not yet taken is replaced by it."""
        self._specs = tuple(specs)
        self._talk.send_line(EngineCommand(streams=self._specs), "streams")

    def set_stays(self, bits: bytes) -> None:
        """Say what stays as it is at a blackout that is asked for beside the window: a bit for each slot of all rows,
        the lowest first."""
        self._stays = bits
        self._talk.send_line(EngineCommand(stays=bits), "stays")

    def dealt_with(self, act: Act) -> None:
        """Say that the window itself did what a key asks for."""
        self._talk.send_line(EngineCommand(seen=act))

    def was_done(self, act: Act) -> bool:
        """Whether the process did what a key asks for, and nobody has said yet that this is the same press. What it has
        said by now is read first: while this program stood still nobody did."""
        self._talk.catch_up(0.3)
        if act in self._talk.unmatched:
            self._talk.unmatched.remove(act)
            return True
        return False

    def forget_presses(self) -> None:
        """What was done by now came from presses that the window never gets."""
        self._talk.unmatched.clear()

    def take_done(self) -> list[Act]:
        """What the process did by itself since this was asked last, because a key or a signal asked for it."""
        found: list[Act] = []
        while self._talk.did:
            found.append(self._talk.did.popleft())
        return found

    def lighten(self) -> None:
        """End a blackout that the process made by itself; the levels are dark now, or are not to be."""
        self._talk.send_line(EngineCommand(dark=False))

    def write(self, levels: bytes) -> None:
        """Levels of all rows, rows × 512 octets."""
        if len(levels) != self.rows * SLOTS:
            raise ValueError(f"{len(levels)} octets instead of {self.rows * SLOTS}")
        self.frames.write_frame(levels)

    def wait_for(self, wanted: Callable[[EngineAnswer], object], seconds: float) -> EngineAnswer | None:
        """The next answer of a kind, or None when none comes in time."""
        found: list[EngineAnswer] = []

        def look(talk: EngineTalk) -> bool:
            for n, answer in enumerate(talk.answers):
                if wanted(answer):
                    found.append(answer)
                    del talk.answers[n]
                    return True
            return False

        self._talk.wait_for_condition(look, seconds)
        return found[0] if found else None

    def status(self, seconds: float = 1.0) -> EngineAnswer:
        """What was sent so far, and what went wrong, asked anew; waits for the answer. All is 0 when none comes."""
        self._talk.send_line(EngineCommand(status=True))
        return self.wait_for(lambda answer: answer.status, seconds) or EngineAnswer()

    def revive(self) -> None:
        """Put a new process in place of one that does not answer, with the same identity, streams and levels."""
        self.revived += 1
        self._talk.kill_process()
        self._spawn_process()

    def end(self) -> None:
        """Begin to end all streams properly, and give up what is held when the process is gone; does not wait."""
        if not self._closing:
            self._closing = True
            self._talk.end_process(self.frames.close)

    def stop(self) -> None:
        """End all streams properly and wait until the process is gone; three seconds or so, more when it is busy."""
        self.end()
        self._talk.join_thread(4 * END_WITHIN * crowding())


class EngineTalk:
    """Carries lines to and from one process, in a thread that nobody has to wait for."""

    def __init__(self, process: subprocess.Popen[bytes]) -> None:
        self.process = process
        self.ready = False
        self.failed = ""
        self.ended = False
        self.wrong: dict[str, str] = {}
        self.heard_at = self.looked_at = time.monotonic()
        self.answers: deque[EngineAnswer] = deque(maxlen=200)
        self.did: deque[Act] = deque()
        self.unmatched: deque[Act] = deque(maxlen=64)
        self.by_key = False
        """Whether the process ended because it was asked to, beside the window."""
        self._outgoing: dict[object, bytes] = {}
        self._count = 0
        self._passes = 0
        self._news = threading.Condition()
        self._wake_read, self._wake_write = os.pipe2(os.O_NONBLOCK | os.O_CLOEXEC)
        self._ending_since = 0.0
        self._killed = False
        self._then: Callable[[], object] | None = None
        self._thread = threading.Thread(target=self._carry_lines, name="engine-talk", daemon=True)
        self._thread.start()

    def send_line(self, message: EngineCommand, kind: str = "") -> None:
        """Have a line carried over; one of the same kind that still waits is replaced."""
        with self._news:
            self._count += 1
            key: object = kind or self._count
            self._outgoing.pop(key, None)
            self._outgoing[key] = line_of(message)
            self._wake_thread()

    def _wake_thread(self) -> None:
        with self._news:
            if not self.ended:
                with contextlib.suppress(BlockingIOError):  # full: it is awake anyway
                    os.write(self._wake_write, b"!")

    def wait_for_condition(self, condition: Callable[[EngineTalk], object], seconds: float) -> bool:
        with self._news:
            return wait_for_news(self._news, lambda: bool(condition(self)), seconds)

    def end_process(self, then: Callable[[], object]) -> None:
        self._then = then
        self.send_line(EngineCommand(stop=True))
        with self._news:
            self._ending_since = time.monotonic()
            self._wake_thread()

    def catch_up(self, seconds: float) -> None:
        """Wait until everything was read that the process has said by now."""
        with self._news:
            wanted = self._passes + 3  # the one that is under way may have looked before; a pass counts when it begins
            self._wake_thread()
            self._news.wait_for(lambda: self._passes >= wanted or self.ended, seconds)

    def kill_process(self) -> None:
        """End the process at once, whatever it does."""
        self._killed = True
        with contextlib.suppress(OSError):
            self.process.kill()
        self._wake_thread()

    def join_thread(self, seconds: float) -> None:
        self._thread.join(seconds)

    # ---- the thread

    def _carry_lines(self) -> None:
        stdin, stdout = self.process.stdin, self.process.stdout
        assert stdin and stdout
        os.set_blocking(stdin.fileno(), False)
        os.set_blocking(stdout.fileno(), False)
        incoming, outgoing = b"", b""
        try:
            while True:
                with self._news:
                    if not outgoing and self._outgoing:
                        outgoing = self._outgoing.pop(next(iter(self._outgoing)))
                    closing = bool(self._ending_since)
                if closing and not outgoing and not stdin.closed:
                    stdin.close()  # the end of the pipe is the end of the parent, for a process that missed the line
                ready = select.poll()  # not select.select, which takes no descriptor above 1023
                ready.register(stdout, select.POLLIN)
                ready.register(self._wake_read, select.POLLIN)
                if outgoing and not stdin.closed:
                    ready.register(stdin, select.POLLOUT)
                begun = time.monotonic()
                now = {fd for fd, _ in ready.poll(100)}
                with self._news:
                    self._passes += 1
                    self._news.notify_all()
                if not now:
                    self.looked_at = begun  # this thread may have had to wait since
                if self._wake_read in now:
                    with contextlib.suppress(BlockingIOError):
                        os.read(self._wake_read, 4096)
                if not stdin.closed and stdin.fileno() in now:
                    try:
                        outgoing = outgoing[os.write(stdin.fileno(), outgoing) :]
                    except BlockingIOError:
                        pass
                    except OSError:
                        outgoing = b""
                if stdout.fileno() in now:
                    got = os.read(stdout.fileno(), 1 << 16)
                    if not got:
                        break
                    *lines, incoming = (incoming + got).split(b"\n")
                    self._hear_lines(lines)
                if self._killed or (closing and self._hurry_process()):
                    break
        finally:
            self._reap_process()

    def _hear_lines(self, lines: list[bytes]) -> None:
        with self._news:
            self.heard_at = time.monotonic()
            for line in lines:
                answer = read_answer(line)
                if answer.beat:
                    self.wrong = self.wrong if answer.wrong is None else answer.wrong
                    continue
                if answer.did:
                    self.did.append(answer.did)
                    self.unmatched.append(answer.did)
                    self.by_key = self.by_key or answer.did == "disarm"
                    continue
                self.ready = self.ready or answer.ready
                self.failed = self.failed or answer.failed
                self.answers.append(answer)
            self._news.notify_all()

    def _hurry_process(self) -> bool:
        """End a process that takes too long: first by a signal it can obey, woken if it is stopped; then for good."""
        for_so_long = (time.monotonic() - self._ending_since) / crowding()
        with contextlib.suppress(OSError):
            if for_so_long > 2 * END_WITHIN:
                self.process.kill()
                return True
            if for_so_long > END_WITHIN:
                self.process.terminate()
                self.process.send_signal(signal.SIGCONT)
        return False

    def _reap_process(self) -> None:
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe:
                with contextlib.suppress(OSError):
                    pipe.close()
        try:
            self.process.wait(END_WITHIN)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()
        with self._news:
            self.ended = True
            os.close(self._wake_read)
            os.close(self._wake_write)
            self._news.notify_all()
        if self._then:
            self._then()
