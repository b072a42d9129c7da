"""Output under load: jitter by kernel receive timestamps, packets missed, packets per second against a bare loop."""

from __future__ import annotations

import os
import select
import socket
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable

import numpy as np
import psutil

from welvo.live.engine import EngineProcess
from welvo.live.engine_main import Engine
from welvo.live.frames import Frames
from welvo.live.messages import Opening, UniverseOut
from welvo.protocols import sacn

UNIVERSES, RATE = 64, 44.0
TARGET = "127.0.0.2"
_SO_TIMESTAMPNS = 35


def _receiver() -> socket.socket:
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.SOL_SOCKET, _SO_TIMESTAMPNS, 1)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 24)
    sock.bind((TARGET, sacn.PORT))
    sock.setblocking(False)
    return sock


def _specs(rate: float) -> list[UniverseOut]:
    return [UniverseOut(f"w{n}", "sacn", n + 1, (TARGET,), row=n, rate=rate, rule="always") for n in range(UNIVERSES)]


class _Collect(threading.Thread):
    """Takes (universe, sequence, kernel time) of every packet until told to stop."""

    def __init__(self, sock: socket.socket) -> None:
        super().__init__(daemon=True)
        self.sock = sock
        self.found: list[tuple[int, int, float]] = []
        self.done = threading.Event()

    def run(self) -> None:
        while not self.done.is_set():
            if not select.select([self.sock], [], [], 0.1)[0]:
                continue
            for _ in range(1000):
                try:
                    data, ancillary, _, _ = self.sock.recvmsg(700, 64)
                except BlockingIOError:
                    break
                if len(data) < 126 or data[sacn.OPTIONS_AT] & sacn.TERMINATED:
                    continue
                seconds, nanos = struct.unpack("qq", ancillary[0][2][:16])
                self.found.append((data[113] << 8 | data[114], data[sacn.SEQUENCE_AT], seconds + nanos / 1e9))


_WATCH = """
import sys, time
late, until = [], time.monotonic() + float(sys.argv[1])
due = time.monotonic()
while time.monotonic() < until:
    due += 0.005
    time.sleep(max(0.0, due - time.monotonic()))
    late.append(time.monotonic() - due)
late.sort()
print(1000 * late[int(len(late) * 0.99)], 1000 * late[-1])
"""


def _paint_for(seconds: float) -> int:
    """Paint a window sixty times a second, as the operator's own does; gives how many frames were painted."""
    from PySide6.QtWidgets import QApplication

    from welvo.app.patch.tapes import Tapes
    from welvo.app.session import Session
    from welvo.demo.gallery import make_gallery

    app = QApplication.instance() or QApplication(["bench"])
    tapes = Tapes(Session(make_gallery()))
    tapes.resize(1280, 800)
    tapes.show()
    until, painted, due = time.monotonic() + seconds, 0, time.monotonic()
    while time.monotonic() < until:
        tapes.viewport().repaint()
        app.processEvents()
        painted += 1
        due += 1 / 60
        time.sleep(max(0.0, due - time.monotonic()))
    return painted


def _jitter(say: Callable[..., None], seconds: float) -> None:
    sock = _receiver()
    collect = _Collect(sock)
    collect.start()
    engine = EngineProcess("127.0.0.1", UNIVERSES, "bench")
    try:
        engine.write(os.urandom(UNIVERSES * 512))
        engine.set_streams(_specs(RATE))
        told = engine.wait_for(lambda answer: answer.groups is not None, 3.0)
        assert told
        watch = subprocess.Popen([sys.executable, "-c", _WATCH, str(seconds)], stdout=subprocess.PIPE, text=True)
        process = psutil.Process(engine.pid)
        before = process.cpu_times()
        begun = time.monotonic()
        painted = _paint_for(seconds)
        cpu = process.cpu_times()
        wall = time.monotonic() - begun
        busy = (cpu.user + cpu.system - before.user - before.system) / wall
    finally:
        engine.stop()
        time.sleep(0.3)
        collect.done.set()
        collect.join(2)
        sock.close()
    offsets = {int(i[1:]) + 1: g.after for g in told.groups or () for i in g.ids}
    own_p99, own_max = (float(x) for x in watch.communicate(timeout=30)[0].split())
    late, missed, skipped, worst_gap = [], 0, 0, 0.0
    for universe, offset in offsets.items():
        mine = [(s, t) for u, s, t in collect.found if u == universe]
        count, last = -1, None
        for sequence, at in mine:
            step = 1 if last is None else (sequence - last) & 255
            missed += step - 1
            count, last = count + step, sequence
            behind = at - (told.start + offset + count / RATE)
            if behind > 0.25:  # the engine leaves out what is older than that, instead of a burst
                count += int(behind * RATE)
                skipped += int(behind * RATE)
                behind = at - (told.start + offset + count / RATE)
            late.append(abs(behind))
        times = np.array([t for _, t in mine])
        worst_gap = max(worst_gap, float(np.max(np.diff(times))) if len(times) > 1 else 0.0)
    ms = 1000 * np.array(late)
    p99 = float(np.percentile(ms, 99))
    say(
        f"output: {UNIVERSES} universes at {RATE:.0f} Hz for {seconds:.0f} s, window painting",
        f"{len(ms)} packets",
        "",
        True,
    )
    say("    |arrival − schedule| p50", f"{np.percentile(ms, 50):.3f} ms")
    quiet = own_p99 < 1.0 and own_max < 20.0
    goal = "under 3 ms" if quiet else ""
    say("    |arrival − schedule| p99", f"{p99:.3f} ms", goal, p99 < 3)
    say("    |arrival − schedule| max", f"{ms.max():.2f} ms")
    say("    longest gap in one universe", f"{1000 * worst_gap:.1f} ms")
    say("    packets missed", str(missed), "0", missed == 0)
    say("    frames left out after a stall of the machine", str(skipped))
    words = "the machine is quiet" if quiet else "the machine is not quiet: the goal is not judged"
    say(f"    a bare sleeping loop beside it is late by p99 / max ({words})", f"{own_p99:.2f} / {own_max:.1f} ms")
    say("    CPU of the streaming process", f"{100 * busy:.0f} % of a core")
    say("    window painted meanwhile", f"{painted / seconds:.0f} a second")


def _throughput(say: Callable[..., None]) -> None:
    """The engine flat out against a bare loop over the same packets, in alternating rounds of half a second."""
    sink = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sink.bind((TARGET, sacn.PORT))
    frames = Frames.make_frames(UNIVERSES)
    frames.write_frame(os.urandom(UNIVERSES * 512))
    engine = Engine(frames, -1)
    engine.answer_parent = lambda message: None  # type: ignore[method-assign]
    engine.open_sockets(Opening("127.0.0.1", "bench", bytes(range(16)).hex()))
    engine.set_streams(_specs(0.001))
    packets = [bytes(s.packet) for s in engine.streams.values()]
    bare = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    bare.bind(("127.0.0.1", 0))
    ours, theirs, spent, spent_bare = 0, 0, 0.0, 0.0
    time.sleep(0.05)
    for _ in range(6):
        sent = sum(s.sent for s in engine.streams.values())
        begun = time.perf_counter()
        due = 0.0
        while time.perf_counter() - begun < 0.5:
            if time.perf_counter() >= due:  # new levels come 44 times a second, as from the window
                frames.write_frame(os.urandom(UNIVERSES * 512))
                due = time.perf_counter() + 1 / RATE
            now = time.monotonic()  # everything is due once; the next time lies 1000 s ahead
            engine.heap = [(now - 1e-6, n, period, group) for n, (_, _, period, group) in enumerate(engine.heap)]
            engine.send_due()
        spent += time.perf_counter() - begun
        ours += sum(s.sent for s in engine.streams.values()) - sent
        begun = time.perf_counter()
        while time.perf_counter() - begun < 0.5:
            for packet in packets:
                bare.sendto(packet, (TARGET, sacn.PORT))
            theirs += len(packets)
        spent_bare += time.perf_counter() - begun
    sink.close()
    bare.close()
    a, b = ours / spent, theirs / spent_bare
    say("output flat out: packets a second", f"{a:,.0f}")
    say("    bare sendto loop of the same packets", f"{b:,.0f}")
    say("    ratio", f"{a / b:.2f}", "at least 0.7", a / b >= 0.7)


def output(say: Callable[..., None], seconds: float) -> None:
    _throughput(say)
    _jitter(say, seconds)
