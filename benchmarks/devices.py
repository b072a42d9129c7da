"""Devices: how fast many are found, held, compared and set, with simulated ones on loopback."""

from __future__ import annotations

import asyncio
import tempfile
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

from welvo.app.computer import Computer
from welvo.app.main import make_window
from welvo.app.session import Session
from welvo.formats.models import shipped_models
from welvo.formats.rigfile import save_rig_file
from welvo.live.device_link import HttpLink, Push, open_session
from welvo.matching.planned import compare_device, full_plan
from welvo.observed.values import DeviceAnswer, Heard, HeardPort, Observed
from welvo.patch.index import Index
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import add_device
from welvo.rig.wiring import Feed, Port, Sender, Universe
from welvo.standins.process import StandIns

Say = Callable[..., None]


def rig_of(model: str, count: int, net: str) -> Rig:
    """So many devices of a model, each port with a feed of its own as far as there are universes."""
    rig = Rig(name="Bench")
    kind = shipped_models()[model]
    rig, _ = put_entries(rig, "", senders={"s": Sender(name="Bench", kind="bench")})
    universes = {f"u{n}": Universe(number=n) for n in range(1, 65)}
    feeds = {f"w{n}": Feed(universe=f"u{n}", sender="s", wire=n) for n in range(1, 65)}
    rig, _ = put_entries(rig, "", universes=universes, feeds=feeds)
    for n in range(count):
        rig, change = add_device(rig, kind, f"D{n}", f"{net}.{n // 250}.{n % 250 + 1}")
        device_id = change.made[0]
        ports = {p: Port(feed=f"w{k % 64 + 1}") for k, p in enumerate(kind.ports)}
        rig, _ = put_entries(rig, "", devices={device_id: _with(rig, device_id, ports)})
    return rig


def _with(rig: Rig, device_id: str, ports: dict[str, Port]) -> object:
    from msgspec.structs import replace

    return replace(rig.devices[device_id], ports=ports)


def compare(say: Say) -> None:
    rig = rig_of("penstock-32", 64, "127.3")
    index = Index(rig)
    now = 100.0

    def seen(at: float, anew: int = 0) -> Observed:
        ports = tuple(HeardPort(n + 1, 0, True, "sacn", n + 1) for n in range(32))
        heard = {d.ip: Heard(d.ip, d.name, ports=ports, at=at) for d in rig.devices.values()}
        said = {
            d.ip: DeviceAnswer(at, {**full_plan(index, k), "description": f"{at} {anew}"})
            for k, d in rig.devices.items()
        }
        return Observed(heard=heard, said=said)

    lines = sum(len(compare_device(index, seen(now), d, now)) for d in rig.devices)

    def best(changed: bool) -> float:
        took = []
        for n in range(7):
            observed = seen(now, n + 1 if changed else 0)
            begun = time.perf_counter()
            for device_id in rig.devices:
                compare_device(index, observed, device_id, now)
            took.append(1000 * (time.perf_counter() - begun))
        return min(took)

    same, other = best(False), best(True)
    what = f"64 devices of 32 ports compared ({lines:,} settings), all changed"
    say(what, f"{other:.1f} ms", "under 20 ms", other < 20)
    say("    the same when none of them says anything new", f"{same:.1f} ms")


def many(say: Say) -> None:
    from PySide6.QtCore import QEventLoop, QTimer
    from PySide6.QtWidgets import QApplication

    app = QApplication.instance() or QApplication([])
    app.setApplicationName("welvo")
    rig = rig_of("weir-2", 200, "127.4")
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "rig.welvo"
        save_rig_file(rig, file)
        stand_ins = StandIns(file, None, as_planned=True)
        window = None
        try:
            stand_ins.wait_ready(60)
            window = make_window(Session(rig), Computer(), "127.0.0.1", Path(folder) / "own")
            window.files.may_leave = lambda: True  # type: ignore[method-assign]
            window.show()
            window.show_station("Devices")
            loop, beats = QEventLoop(), []
            beat = QTimer(interval=4)
            beat.timeout.connect(lambda: beats.append(time.perf_counter()))
            begun = time.perf_counter()
            found_after = 0.0

            def look() -> None:
                nonlocal found_after
                if not found_after and len(window.session.observed.heard) >= 200:
                    found_after = time.perf_counter() - begun
                if time.perf_counter() - begun > 15:
                    loop.quit()

            check = QTimer(interval=20)
            check.timeout.connect(look)
            window.network.start_network()
            beat.start()
            check.start()
            loop.exec()
            settled = [b for b in beats if b > begun + 6]
            gaps = sorted(1000 * (b - a) for a, b in pairwise(settled))
            say("200 simulated devices found after", f"{found_after:.2f} s", "under 3 s", 0 < found_after < 3)
            worst = gaps[-1] if gaps else 0.0
            say("    the window's longest pause while they are held", f"{worst:.1f} ms", "under 16 ms", worst < 16)
            say("    99 of 100 pauses are under", f"{gaps[int(0.99 * len(gaps))]:.1f} ms" if gaps else "–")
        finally:
            if window:
                window.end_everything()
                window.close()
            stand_ins.stop_process()


def pushes(say: Say) -> None:
    rig = rig_of("penstock-12", 1, "127.5")
    device_id = next(iter(rig.devices))
    ip = rig.devices[device_id].ip
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "rig.welvo"
        save_rig_file(rig, file)
        stand_ins = StandIns(file)
        try:
            stand_ins.wait_ready(30)
            values = {f"{p}/{n}.pixels": 10 * p + n for p in range(1, 11) for n in range(1, 5)}
            push = Push(dict(values), ("save", "apply"))

            async def work() -> None:
                async with open_session("127.0.0.1") as opened:
                    await push.run_push(HttpLink(opened, ip, 8421))

            begun = time.perf_counter()
            asyncio.run(work())
            took = time.perf_counter() - begun
            taken = sum(r.outcome == "taken" for r in push.results.values())
            what = f"{taken} settings pushed, saved, applied, read back"
            say(what, f"{took:.2f} s", "under 2 s", taken == 40 and took < 2)
        finally:
            stand_ins.stop_process()


def devices(say: Say) -> None:
    compare(say)
    pushes(say)
    many(say)
