"""A thousand universes: sent, heard while the window is looked at, and how soon a fader is on the wire."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import psutil

from welvo.live.engine import EngineProcess
from welvo.live.messages import UniverseOut
from welvo.protocols import sacn

Say = Callable[..., None]
COUNT, RATE = 1000, 44.0
TARGET = "127.0.0.2"

_COLLECT = r"""
import json, socket, struct, sys, time
import numpy as np
sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
sock.setsockopt(socket.SOL_SOCKET, 35, 1)
sock.setsockopt(socket.SOL_SOCKET, 33, 1 << 26)  # SO_RCVBUFFORCE
sock.bind((sys.argv[1], 5568))
sock.settimeout(0.5)
found = []
print("ready", flush=True)
silent = 0
while silent < 3:
    try:
        data, more, _, _ = sock.recvmsg(128, 64)
    except TimeoutError:
        silent += bool(found)
        continue
    if data[112] & 0x40:
        continue
    s, n = struct.unpack_from("qq", more[0][2])
    found.append((data[113] << 8 | data[114], data[111], s + n / 1e9))
np.save(sys.argv[2], np.array(found))
"""

_PACED = r"""
import socket, sys, time
from welvo.protocols import sacn
rate, seconds, count = float(sys.argv[1]), float(sys.argv[2]), int(sys.argv[3])
sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton("127.0.0.1"))
sock.bind(("127.0.0.1", 0))
frames = [sacn.Data(b"P" * 16, u + 1, bytes(512), "Paced", sequence=0) for u in range(count)]
packets = [bytearray(sacn.encode_sacn(f)) for f in frames]
groups = [(sacn.group_of_universe(u + 1), 5568) for u in range(count)]
begun, sent, n = time.monotonic(), 0, 0
while time.monotonic() - begun < seconds:
    due = int((time.monotonic() - begun) * rate)
    while sent < due:
        p = packets[n]
        p[111] = (p[111] + 1) & 255
        sock.sendto(p, groups[n])
        n = (n + 1) % count
        sent += 1
    time.sleep(0.0005)
print(sent)
"""


def _specs(to: str | None) -> list[UniverseOut]:
    return [
        UniverseOut(f"w{n}", "sacn", n + 1, (to or sacn.group_of_universe(n + 1),), row=n, rate=RATE, rule="always")
        for n in range(COUNT)
    ]


def sending(say: Say, seconds: float) -> None:
    """A thousand universes leave: packets missed, schedule kept, and what it costs beside a bare loop."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "found.npy"
        collect = subprocess.Popen(
            [sys.executable, "-c", _COLLECT, TARGET, str(file)], stdout=subprocess.PIPE, text=True
        )
        assert collect.stdout and collect.stdout.readline() == "ready\n"
        engine = EngineProcess("127.0.0.1", COUNT, "bench")
        try:
            engine.write(os.urandom(COUNT * 512))
            engine.set_streams(_specs(TARGET))
            told = engine.wait_for(lambda answer: answer.groups is not None, 3.0)
            assert told
            process = psutil.Process(engine.pid)
            before, begun = process.cpu_times(), time.monotonic()
            time.sleep(seconds)
            cpu, wall = process.cpu_times(), time.monotonic() - begun
            busy = (cpu.user + cpu.system - before.user - before.system) / wall
        finally:
            engine.stop()
        collect.wait(30)
        found = np.load(file)
    offsets = {int(i[1:]) + 1: g.after for g in told.groups or () for i in g.ids}
    missed, late = 0, []
    order = np.argsort(found[:, 0], kind="stable")
    universes, first = np.unique(found[order, 0], return_index=True)
    for u, mine in zip(universes, np.split(found[order], first[1:])):
        steps = np.diff(mine[:, 1].astype(int)) % 256
        missed += int((steps - 1).sum())
        count = np.concatenate([[0], np.cumsum(steps)])
        late.append(np.abs(mine[:, 2] - (told.start + offsets[int(u)] + count / RATE)))
    ms = 1000 * np.concatenate(late)
    say(f"output: {COUNT} universes at {RATE:.0f} Hz for {seconds:.0f} s", f"{len(found)} packets")
    say("    packets missed", str(missed), "0", missed == 0)
    say("    |arrival − schedule| p50 / p99", f"{np.percentile(ms, 50):.2f} / {np.percentile(ms, 99):.2f} ms")
    bare = _bare(min(5.0, seconds))
    say("    CPU of the streaming process", f"{100 * busy:.0f} % of a core", "under 20 %", busy < 0.2)
    say("    a bare loop of as many packets takes", f"{100 * bare:.0f} % of a core, ratio {busy / bare:.2f}")


_BARE = r"""
import resource, socket, sys, time
to, count, rate, seconds = sys.argv[1], int(sys.argv[2]), float(sys.argv[3]), float(sys.argv[4])
sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
sock.bind(("127.0.0.1", 0))
packets = [bytes(638) for _ in range(count)]
begun, phases = time.monotonic(), 8
for n in range(int(seconds * rate * phases)):
    due = begun + n / (rate * phases)
    time.sleep(max(0.0, due - time.monotonic()))
    for packet in packets[n % phases :: phases]:
        sock.sendto(packet, (to, 5568))
used = resource.getrusage(resource.RUSAGE_SELF)
print((used.ru_utime + used.ru_stime) / (time.monotonic() - begun))
"""


def _bare(seconds: float) -> float:
    """The share of a core that a bare loop takes for as many packets at the same pace, with a receiver reading."""
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-c", _COLLECT, TARGET, f"{folder}/x.npy"]
        collect = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert collect.stdout and collect.stdout.readline() == "ready\n"
        asked = [sys.executable, "-c", _BARE, TARGET, str(COUNT), str(RATE), str(seconds)]
        done = subprocess.run(asked, capture_output=True, text=True, check=True)
        collect.wait(30)
    return float(done.stdout)


def hearing(say: Say, seconds: float) -> None:
    """A thousand universes arrive while the Wire page is looked at; then as many packets as there is no loss of."""
    from PySide6.QtCore import QEventLoop, Qt, QTimer
    from PySide6.QtWidgets import QApplication

    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.session import Session
    from welvo.rig.document import Rig
    from welvo.rig.wiring import Feed, Sender, Universe

    app = QApplication.instance() or QApplication(["bench"])
    rig = Rig(
        name="Thousand",
        universes={f"u{n}": Universe(number=n) for n in range(1, COUNT + 1)},
        senders={"b": Sender(name="Bench", kind="bench")},
        feeds={f"w{n}": Feed(universe=f"u{n}", sender="b", wire=n) for n in range(1, COUNT + 1)},
    )
    with tempfile.TemporaryDirectory() as folder:
        window = make_window(Session(rig), Computer(), "127.0.0.1", Path(folder))
        window.files.may_leave = lambda: True  # type: ignore[method-assign]
        window.resize(1280, 800)
        window.show()
        window.network.start_network()
        window.show_station("Bench")
        window.bench.show_page("Wire")
        window.bench.wire._pick_wire(("sacn", 7))
        listener = window.network.hearing.listener
        assert listener
        beats: list[float] = []
        beat, loop = QTimer(interval=2), QEventLoop()  # a pause is what comes on top of that
        beat.setTimerType(Qt.TimerType.PreciseTimer)
        beat.timeout.connect(lambda: beats.append(time.perf_counter()))

        def spin(how_long: float) -> None:
            QTimer.singleShot(int(1000 * how_long), loop.quit)
            loop.exec()

        spin(1.0)
        engine = EngineProcess("127.0.0.1", COUNT, "Desk")
        try:
            engine.write(os.urandom(COUNT * 512))
            engine.set_streams(_specs(None))
            spin(2.0)
            me = psutil.Process()
            listening = next(t for t in _threads() if t[1].startswith("listener"))[0]
            cpu, heard, begun = _thread_time(listening), listener.packets, time.monotonic()
            before = me.cpu_times()
            beat.start()
            spin(seconds)
            beat.stop()
            wall = time.monotonic() - begun
            used = (_thread_time(listening) - cpu) / wall
            after = me.cpu_times()
            whole = (after.user + after.system - before.user - before.system) / wall
            rate = (listener.packets - heard) / wall
            lost = sum(s.lost for s in listener.heard_sources(time.time()))
        finally:
            engine.stop()
        gaps = np.sort(1000 * np.diff(beats))
        share = float((gaps > 16).mean()) if len(gaps) else 1.0
        say(f"{COUNT} universes heard, the Wire page looked at", f"{rate:,.0f} packets a second")
        say("    receiving", f"{100 * used:.0f} % of a core", "under 35 %", used < 0.35)
        say("    the whole window", f"{100 * whole:.0f} % of a core")
        say("    frames lost", str(lost), "0", lost == 0)
        p99 = float(np.percentile(gaps, 99)) if len(gaps) else 0.0
        say("    the window's pauses, 99 of 100", f"{p99:.1f} ms", "under 16 ms", p99 < 16)
        say("    pauses above 16 ms", f"{100 * share:.2f} % of them, the longest {gaps[-1] if len(gaps) else 0:.0f} ms")
        spin(0.5)
        for wanted in (40_000, 60_000, 80_000):
            listener.count_anew()
            heard = listener.packets
            paced = subprocess.Popen(
                [sys.executable, "-c", _PACED, str(wanted), "3", str(COUNT)], stdout=subprocess.PIPE, text=True
            )
            while paced.poll() is None:
                spin(0.2)
            spin(1.0)
            assert paced.stdout
            sent = int(paced.stdout.read())
            got = listener.packets - heard
            judged = wanted <= 60_000
            say(
                f"    {sent / 3:,.0f} packets a second for 3 s: lost",
                f"{max(0, sent - got)}",
                "0" if judged else "",
                got >= sent or not judged,
            )
        window.end_everything()
        window.close()
        app.processEvents()


def _threads() -> list[tuple[int, str]]:
    """Threads of this process by number and name; Python names them in the kernel only where it can."""
    import threading

    return [(t.native_id or 0, t.name) for t in threading.enumerate()]


def _thread_time(number: int) -> float:
    """Seconds of processor time that a thread has used."""
    parts = Path(f"/proc/self/task/{number}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(parts[11]) + int(parts[12])) / os.sysconf("SC_CLK_TCK")


def fader(say: Say, times: int = 300) -> None:
    """From a fader's move to the level on the wire."""
    from PySide6.QtWidgets import QApplication

    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.session import Session
    from welvo.demo.gallery import make_gallery

    app = QApplication.instance() or QApplication(["bench"])
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.bind((TARGET, sacn.PORT))
    sock.setblocking(False)
    rig = make_gallery()
    from msgspec.structs import replace

    feed = next(k for k, f in rig.feeds.items() if f.universe == "u1" and f.protocol == "sacn")
    rig = replace(rig, feeds={feed: replace(rig.feeds[feed], to=TARGET)})
    took = []
    with tempfile.TemporaryDirectory() as folder:
        window = make_window(Session(rig), Computer(), "127.0.0.1", Path(folder))
        window.files.may_leave = lambda: True  # type: ignore[method-assign]
        window.show()
        window.network.start_network()
        window.network.output.arm_output()
        at = rig.fixtures["f101"].at[0].address or 1
        until = time.monotonic() + 1.5
        while time.monotonic() < until:
            app.processEvents()
        for n in range(times):
            level = 1 + n % 250
            while True:
                try:
                    sock.recv(700)
                except BlockingIOError:
                    break
            begun = time.perf_counter()
            window.network.meant.levels.hold_function(["f101"], "Dimmer", level / 255)
            window.network.meant.note_touched()
            while time.perf_counter() - begun < 0.5:
                app.processEvents()
                try:
                    data = sock.recv(700)
                except BlockingIOError:
                    continue
                if data[125 + at] == level:
                    took.append(1000 * (time.perf_counter() - begun))
                    break
            pause = time.perf_counter() + 0.011 + 0.0001 * (n % 37)
            while time.perf_counter() < pause:
                app.processEvents()
        window.end_everything()
        window.close()
    sock.close()
    p99 = float(np.percentile(took, 99))
    say(f"a fader on the wire, {len(took)} times: p50", f"{np.percentile(took, 50):.1f} ms")
    say("    p99", f"{p99:.1f} ms", "under 25 ms", p99 < 25 and len(took) == times)


def wire(say: Say, seconds: float) -> None:
    fader(say)
    sending(say, seconds)
    hearing(say, seconds)
