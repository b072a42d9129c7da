"""Lamps and buses that answer: discovery of 250 on one line, 32 ports searched at once while the window works, and what
twenty and sixty-four gear cost on a real bus."""

from __future__ import annotations

import asyncio
import os
import random
import tempfile
import time
from collections.abc import Callable, Sequence
from itertools import pairwise
from pathlib import Path

from msgspec.structs import replace

from welvo.formats.models import shipped_models
from welvo.formats.rigfile import save_rig_file
from welvo.live import bus_link
from welvo.protocols import rdm
from welvo.protocols.dali import Forward
from welvo.protocols.rdm import RdmPacket
from welvo.rig.document import Rig
from welvo.rig.edits import add_device
from welvo.rig.patched import Fixture, Place
from welvo.rig.profile import Profile
from welvo.rig.wiring import Feed, Port, Sender, Universe
from welvo.standins.gear import SimGear, Wire
from welvo.standins.lamps import LampPort, Responder
from welvo.standins.process import StandIns

Say = Callable[..., None]
NODES, LAMPS = 8, 12
BRANCH_S, MUTE_S = 0.0058, 0.0035
"""Seconds that a branch and a muting take on a line, as a rule: request, answer and the pauses the standard wants."""


def _wire(n: int) -> int:
    """The wire universe of port `n`, counted through: the four ports of a node share a page, and with it a sub-net."""
    return 16 * ((n - 1) // 4) + (n - 1) % 4 + 1


def _hall() -> Rig:
    """Eight nodes of four ports, each with twelve lamps on a universe of its own."""
    from welvo.formats.chart import read_chart

    profile = Profile(
        name="Eel", maker="Osmer", code="EEL", modes={"m": read_chart("dimmer, red, green, blue").mode_of_chart("m")}
    )
    rig = Rig(name="lamps", profiles={"p": profile}, senders={"s": Sender(name="Bench", kind="bench")})
    rig = replace(
        rig,
        universes={f"u{n}": Universe(number=_wire(n)) for n in range(1, 4 * NODES + 1)},
        feeds={f"w{n}": Feed(universe=f"u{n}", sender="s", wire=_wire(n)) for n in range(1, 4 * NODES + 1)},
        fixtures={
            f"f{n}-{m}": Fixture(
                number=100 * n + m, name="Eel", profile="p", mode="m", at=(Place(universe=f"u{n}", address=1 + 4 * m),)
            )
            for n in range(1, 4 * NODES + 1)
            for m in range(LAMPS)
        },
    )  # fmt: skip
    for node in range(NODES):
        rig, change = add_device(rig, shipped_models()["sluice-4"], f"NODE {node + 1}", f"127.0.0.{100 + node}")
        device = rig.devices[change.made[0]]
        ports = {str(p): Port(feed=f"w{4 * node + p}") for p in range(1, 5)}
        rig = replace(rig, devices={**rig.devices, change.made[0]: replace(device, ports=ports)})
    return rig


class _Counted(LampPort):
    """A line that counts what it is asked."""

    branches = asked = 0

    def branch(self, low: int, high: int) -> bytes | None:
        self.branches += 1
        return super().answer_branch(low, high)

    def ask(self, request: RdmPacket) -> RdmPacket | None:
        self.asked += 1
        return super().ask_line(request)


def _discovery(say: Say) -> None:
    for words, uids in (
        ("neighbours", [0x7FF000000000 + n for n in range(250)]),
        ("anywhere", random.Random(1).sample(range(rdm.HIGHEST_UID), 250)),
    ):
        line = _Counted(Responder(u, 1, "Eel", "Osmer", [("one", 4, [])]) for u in uids)
        begun = time.perf_counter()
        found = line.search_line()
        took = time.perf_counter() - begun
        say(f"250 lamps, {words}: found", f"{len(found)}", "250", sorted(found) == sorted(uids))
        real = line.branches * BRANCH_S + line.asked * MUTE_S
        say(f"250 lamps, {words}: branches and mutings asked", f"{line.branches} + {line.asked}")
        say(f"250 lamps, {words}: computed / on a real line", f"{took:.1f} / {real:.0f} s")


def _window(say: Say) -> None:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QEventLoop, QTimer
    from PySide6.QtWidgets import QApplication

    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.session import Session
    from welvo.matching.lamps import ports_with_lamps
    from welvo.rig.refs import Goto

    app = QApplication.instance() or QApplication(["bench"])
    assert isinstance(app, QApplication)
    rig = _hall()
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "rig.welvo"
        save_rig_file(rig, file)
        stand_ins = StandIns(file, as_planned=True)
        stand_ins.wait_ready(30)
        window = make_window(Session(rig), Computer(), "127.0.0.1", Path(folder) / "own")
        window.files.may_leave = lambda: True  # type: ignore[method-assign]
        window.show()
        window.network.start_network()
        try:
            session = window.session

            def run(until: Callable[[], bool], seconds: float) -> tuple[float, float]:
                """Seconds until it holds, and the longest pause of the window meanwhile in milliseconds."""
                beats: list[float] = []
                loop, timer, look = QEventLoop(), QTimer(), QTimer()
                timer.setInterval(1)
                timer.timeout.connect(lambda: beats.append(time.perf_counter()))
                end = time.monotonic() + seconds
                look.setInterval(5)
                look.timeout.connect(lambda: loop.quit() if until() or time.monotonic() > end else None)
                begun = time.perf_counter()
                timer.start()
                look.start()
                loop.exec()
                return time.perf_counter() - begun, max((b - a for a, b in pairwise(beats)), default=0.0) * 1000

            run(lambda: len(session.observed.heard) == NODES, 15)
            window.go(Goto("lamps", next(iter(rig.devices)), "1"))
            _, idle = run(lambda: False, 3)
            work = window.network.lamps
            count = work.search_ports(ports_with_lamps(session.index))
            took, longest = run(lambda: not work.searches, 60)
            lamps = sum(map(len, session.observed.lamps.values()))
            all_ = count * LAMPS
            say(f"{count} ports searched at once: lamps found and read", f"{lamps}", f"{all_}", lamps == all_)
            say("the same: took", f"{took:.1f} s")
            say("the same: longest pause of the window", f"{longest:.0f} ms", "16 ms", longest <= 16)
            say("the same window doing nothing: longest pause", f"{idle:.0f} ms")
        finally:
            window.end_everything()
            window.close()
            stand_ins.stop_process()


class _Line:
    """A simulated wire without a gateway before it: its own clock tells what a real one takes."""

    def __init__(self, count: int) -> None:
        self.wire = Wire(SimGear(f"gear {n}", short=n) for n in range(count))

    async def put(self, frames: Sequence[Forward]) -> list[int | None]:
        found = []
        for f in frames:
            answer = None
            for _ in range(2 if f.twice else 1):
                answer = self.wire.put_octets(f.octets_of_frame())
            found.append(answer)
        return found


def _buses(say: Say) -> None:
    for count in (20, 64):
        line = _Line(count)

        def spent(do: Callable[[], object], line: _Line = line) -> float:
            before = line.wire.now
            do()
            return line.wire.now - before

        took = spent(lambda line=line: asyncio.run(bus_link.search_bus(line, deep=True)))  # type: ignore[misc]
        say(f"{count} gear on a real bus: searched and read in full", f"{took:.0f} s")
        took = spent(lambda line=line: asyncio.run(bus_link.address_gear(line, 0, list(range(64)))))  # type: ignore[misc]
        say(f"{count} gear on a real bus: addressed anew", f"{took:.0f} s")
        took = spent(lambda line=line, count=count: asyncio.run(bus_link.store_scene(line, 3, range(count))))  # type: ignore[misc]
        say(f"{count} gear on a real bus: a scene stored and read back", f"{took:.0f} s")
        asyncio.run(bus_link.recall_scene(line, 3))
        stored = sum(g.scenes[3] == g.level for g in line.wire.gear)
        say(f"{count} gear: scene stored and recalled by", f"{stored}", f"{count}", stored == count)


def lamps(say: Say) -> None:
    _discovery(say)
    _window(say)
    _buses(say)
