"""Measures what Welvo promises, in one run, and prints it: `make bench`. `--seconds 5` shortens the output part."""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import time

from welvo.checks.checker import Checker
from welvo.formats.chart import read_chart
from welvo.patch.index import Index
from welvo.rig.document import Rig, put
from welvo.rig.edits import move
from welvo.rig.patched import Fixture, Place
from welvo.rig.profile import Profile
from welvo.rig.wiring import Feed, Sender, Universe

FAILED: list[str] = []


def say(what: str, value: str, goal: str = "", met: bool = True) -> None:
    print(
        f"{what:58} {value:>16}  {goal and ('goal ' + goal):22} {'' if not goal else 'met' if met else 'MISSED'}",
        flush=True,
    )
    if goal and not met:
        FAILED.append(what)


def big_rig(count: int) -> Rig:
    """`count` fixtures of 40 slots, twelve to a universe, one clash every hundred."""
    profile = Profile(
        name="Bar", code="BAR", modes={"m": read_chart("dimmer, shutter = 255, 9 x (red green blue white)").mode("m")}
    )
    universes = {f"u{n}": Universe(number=n + 1) for n in range(count // 12 + 1)}
    fixtures = {
        f"f{n}": Fixture(
            number=n + 1, name=f"Bar {n}", profile="p", mode="m",
            at=(Place(universe=f"u{n // 12}", address=1 + n % 12 * 40 - (10 if n % 100 == 99 and n % 12 else 0)),),
        )
        for n in range(count)
    }  # fmt: skip
    feeds = {f"w{n}": Feed(universe=u, sender="s", wire=v.number) for n, (u, v) in enumerate(universes.items())}
    rig = Rig(name="big")
    rig, _ = put(
        rig,
        "",
        profiles={"p": profile},
        universes=universes,
        fixtures=fixtures,
        feeds=feeds,
        senders={"s": Sender(name="Bench", kind="bench")},
    )
    return rig


def best(run: object, times: int = 5) -> float:
    """Milliseconds of the quickest of some runs."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        run()  # type: ignore[operator]
        found.append(1000 * (time.perf_counter() - begun))
    return min(found)


def core() -> None:
    rig = big_rig(1000)
    took = best(lambda: Checker(Index(rig)))
    say("index + check of 1 000 fixtures", f"{took:.1f} ms", "under 50 ms", took < 50)
    index = Index(rig)
    checker = Checker(index)
    for words, every in (
        ("one moved fixture, checked again, median of 40", 7),
        ("    the same, all of them moved onto one universe", 0),
    ):
        state, moves = rig, []
        for n in range(40):
            place = (f"u{n * 2}", 1 + n) if every else ("u3", 1 + n)
            begun = time.perf_counter()
            state, change = move(state, f"f{n * 7}", 0, *place)
            checker.follow(change, index.follow(state, change))
            _ = checker.report
            moves.append(1000 * (time.perf_counter() - begun))
        took = statistics.median(moves)
        say(words, f"{took:.2f} ms", "under 5 ms" if every else "", took < 5)
        index = Index(rig)
        checker = Checker(index)
    large = big_rig(10_000)
    say("index + check of 10 000 fixtures", f"{best(lambda: Checker(Index(large)), 2):.0f} ms")


PLAIN = {"PYTHONDONTWRITEBYTECODE": ""}
"""A warm start has its bytecode, whatever this shell says."""

START = """
import time, sys, os
t0 = float(os.environ["WELVO_T0"])
a = time.time()
from welvo.app.main import make_window
from PySide6.QtWidgets import QApplication
from welvo.app.session import Session
from welvo.app.computer import Computer
b = time.time()
app = QApplication(["bench"]); app.setStyle("Fusion")
from pathlib import Path
from welvo.formats.rigfile import load
rig = load(Path(sys.argv[1]))
c = time.time()
w = make_window(Session(rig), Computer(), "127.0.0.1", Path(sys.argv[2]))
d = time.time()
w.show(); app.processEvents(); w.wire.start(); app.processEvents()
e = time.time()
print(e - t0, a - t0, b - a, c - b, d - c, e - d)
import psutil
print(psutil.Process().memory_info().rss / 2**20)
w.shut(); os._exit(0)
"""


def start() -> None:
    """Warm start to a usable window with the demo rig, and its parts."""
    import tempfile
    from pathlib import Path

    from welvo.demo.gallery import gallery
    from welvo.formats.rigfile import save

    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "demo.welvo"
        save(gallery(), file)
        runs = []
        memory = 0.0
        for _ in range(6):
            env = {
                **os.environ,
                **PLAIN,
                "WELVO_T0": repr(time.time()),
                "XDG_CONFIG_HOME": folder,
                "XDG_STATE_HOME": folder,
            }
            done = subprocess.run(
                [sys.executable, "-c", START, str(file), folder], env=env, capture_output=True, text=True, timeout=60
            )
            lines = done.stdout.splitlines()
            if len(lines) < 2:
                say("start", "failed", "under 1.0 s", False)
                print(done.stderr)
                return
            runs.append([float(x) for x in lines[0].split()])
            memory = float(lines[1])
        quickest = min(runs[1:])
        say("warm start to a usable window, demo rig loaded", f"{quickest[0]:.2f} s", "under 1.0 s", quickest[0] < 1.0)
        for words, value in zip(
            ("Python itself", "imports", "Qt application and rig", "window built", "shown and listening"), quickest[1:]
        ):
            say(f"    {words}", f"{value:.2f} s")
        say("    memory of that process", f"{memory:.0f} MB")


def painting() -> None:
    from PySide6.QtWidgets import QApplication

    from welvo.app.session import Session
    from welvo.app.stations.tapes import Tapes
    from welvo.demo.gallery import gallery

    _app = QApplication.instance() or QApplication(["bench"])
    for name, rig in (("demo", gallery()), ("10 000 fixtures, 834 universes", big_rig(10_000))):
        tapes = Tapes(Session(rig))
        tapes.resize(908, 420)
        tapes.show()
        for level in ("Field", "Fit", "Slot"):
            tapes.set_level(level)
            cold = best(lambda: (tapes._cache.clear(), tapes.viewport().grab()), 3)  # noqa: B023
            warm = best(lambda: tapes.viewport().grab(), 3)  # noqa: B023
            say(f"tapes at {level}, {name}: all anew / from the cache", f"{cold:.1f} / {warm:.1f} ms")
    del _app


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=60.0, help="how long output is measured")
    seconds = parser.parse_args().seconds
    from output import output  # beside this file

    core()
    start()
    painting()
    output(say, seconds)
    if FAILED:
        print("Goals missed: " + "; ".join(FAILED))
    return 1 if FAILED else 0


if __name__ == "__main__":
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    sys.exit(main())
