"""Measures what Welvo promises, in one run, and prints it: `make bench`. `--seconds 5` shortens the output part."""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import time

import msgspec

from welvo.checks.checker import Checker
from welvo.formats.chart import read_chart
from welvo.patch.index import Index
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import move_item
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
        name="Bar",
        code="BAR",
        modes={"m": read_chart("dimmer, shutter = 255, 9 x (red green blue white)").mode_of_chart("m")},
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
    rig, _ = put_entries(
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
            state, change = move_item(state, f"f{n * 7}", 0, *place)
            checker.follow_edit(change, index.follow_change(state, change))
            _ = checker.report_findings
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
import gc, time, sys, os
gc.disable()  # as the command does that opens the window
t0 = float(os.environ["WELVO_T0"])
a = time.time()
from welvo.app.main import make_window
from PySide6.QtWidgets import QApplication
from welvo.app.session import Session
from welvo.app.computer import Computer
b = time.time()
app = QApplication(["bench"]); app.setStyle("Fusion")
from pathlib import Path
from welvo.formats.rigfile import load_rig_file
rig = load_rig_file(Path(sys.argv[1]))
c = time.time()
w = make_window(Session(rig), Computer(), "127.0.0.1", Path(sys.argv[2]))
d = time.time()
w.show(); app.processEvents(); w.network.start_network(); app.processEvents()
e = time.time()
print(e - t0, a - t0, b - a, c - b, d - c, e - d)
import psutil
print(psutil.Process().memory_info().rss / 2**20)
w.end_everything(); os._exit(0)
"""


def _process(code: list[str]) -> float:
    begun = time.perf_counter()
    subprocess.run([sys.executable, *code], env={**os.environ, **PLAIN}, capture_output=True, timeout=60, check=True)
    return time.perf_counter() - begun


def imports() -> None:
    """What the core costs to import beside the two packages it stands on, and what help costs. Paired: one of each in
    turn, so that both meet the same machine."""
    under = "import numpy, msgspec"
    kinds = {
        "import welvo.rig, welvo.patch, welvo.checks": f"{under}, welvo.rig, welvo.patch, welvo.checks",
        "    with every module that a check needs": f"{under}, welvo.checks.checker",
    }
    ratios: dict[str, list[float]] = {name: [] for name in kinds}
    for n in range(9):
        alone = _process(["-c", under])
        for name, code in kinds.items():
            ratio = _process(["-c", code]) / alone
            if n:
                ratios[name].append(ratio)
    packages, everything = (statistics.median(r) for r in ratios.values())
    words = list(kinds)
    say(words[0], f"{packages:.2f} × NumPy and msgspec", "at most 1.3", packages <= 1.3)
    say(words[1], f"{everything:.2f} ×")
    _process(["-m", "welvo.cli", "--help"])
    took = statistics.median(_process(["-m", "welvo.cli", "--help"]) for _ in range(5))
    say("welvo --help", f"{took:.2f} s", "under 0.25 s", took < 0.25)


def pauses() -> None:
    """What collecting garbage in the window's thread costs: the demo's window, walked through its stations."""
    import tempfile
    from pathlib import Path

    from PySide6.QtWidgets import QApplication

    from welvo.app.collecting import collect_here
    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.session import Session
    from welvo.demo.gallery import make_gallery

    app = QApplication.instance() or QApplication(["bench"])
    with tempfile.TemporaryDirectory() as folder:
        window = make_window(Session(make_gallery()), Computer(), "127.0.0.1", Path(folder))
        window.files.may_leave = lambda: True  # type: ignore[method-assign]
        window.show()
        collector = collect_here(app)
        for name in window.stations.all_stations():
            window.show_station(name)
            app.processEvents()
        collector.settle_after_start()
        collector.pauses.clear()
        keys = list(window.session.rig.fixtures)
        for n in range(600):
            window.show_station(list(window.stations.all_stations())[n // 100])
            window.session.select_items([keys[n % len(keys)]])
            app.processEvents()
            collector.collect_what_is_due()
        collector.collect_generation(2)
        for generation, words in ((0, "youngest"), (1, "next"), (2, "all")):
            took = [1e3 * s for g, s in collector.pauses if g == generation] or [0.0]
            most = 50 if generation == 2 else 16  # the last one is seldom, and never while a button is held
            say(f"collecting the {words} generation", f"{statistics.median(took):.1f} ms, at most {max(took):.1f} "
                f"({len(took)} times)", f"under {most} ms", max(took) < most)  # fmt: skip
        window.end_everything()
        window.close()
        window.deleteLater()


def start() -> None:
    """Warm start to a usable window with the demo rig, and its parts."""
    import tempfile
    from pathlib import Path

    from welvo.demo.gallery import make_gallery
    from welvo.formats.rigfile import save_rig_file

    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "demo.welvo"
        save_rig_file(make_gallery(), file)
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
                say("start", "failed", "under 0.7 s", False)
                print(done.stderr)
                return
            runs.append([float(x) for x in lines[0].split()])
            memory = float(lines[1])
        quickest = min(runs[1:])
        say("warm start to a usable window, demo rig loaded", f"{quickest[0]:.2f} s", "under 0.7 s", quickest[0] < 0.7)
        alone = min(_process(["-c", "import PySide6.QtWidgets, numpy, msgspec"]) for _ in range(6))
        say("    beside the import of Qt, NumPy and msgspec", f"{quickest[0] / alone:.1f} ×")
        for words, value in zip(
            ("Python itself", "imports", "Qt application and rig", "window built", "shown and listening"), quickest[1:]
        ):
            say(f"    {words}", f"{value:.2f} s")
        say("    memory of that process", f"{memory:.0f} MB")


def painting() -> None:
    from PySide6.QtWidgets import QApplication

    from welvo.app.patch.tapes import Tapes
    from welvo.app.session import Session
    from welvo.demo.gallery import make_gallery

    _app = QApplication.instance() or QApplication(["bench"])
    for name, rig in (("demo", make_gallery()), ("10 000 fixtures, 834 universes", big_rig(10_000))):
        tapes = Tapes(Session(rig))
        tapes.resize(908, 420)
        tapes.show()
        for level in ("Field", "Fit", "Slot"):
            tapes.set_level(level)
            cold = best(lambda: (tapes._cache.clear(), tapes.viewport().grab()), 3)  # noqa: B023
            warm = best(lambda: tapes.viewport().grab(), 3)  # noqa: B023
            say(f"tapes at {level}, {name}: all anew / from the cache", f"{cold:.1f} / {warm:.1f} ms")
    del _app


FORTY = "\n".join(
    f"CH{n}\t{word}\t000-255"
    for n, word in enumerate(
        [
            "Pan",
            "Pan fine",
            "Tilt",
            "Tilt fine",
            "Pan/tilt speed",
            "Dimmer",
            "Dimmer fine",
            "Strobe",
            "Red",
            "Red fine",
            "Green",
            "Green fine",
            "Blue",
            "Blue fine",
            "White",
            "White fine",
            "Amber",
            "UV",
            "Cold white",
            "Warm white",
            "Colour wheel",
            "CTO",
            "Gobo wheel",
            "Gobo rotation",
            "Gobo 2",
            "Prism",
            "Prism rotation",
            "Frost",
            "Zoom",
            "Zoom fine",
            "Focus",
            "Focus fine",
            "Iris",
            "Animation wheel",
            "Macro",
            "Macro speed",
            "Fan",
            "Control",
            "Reset",
            "Effects",
        ],
        1,
    )
)


def profiles() -> None:
    from pathlib import Path
    from tempfile import TemporaryDirectory

    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent
    from PySide6.QtWidgets import QApplication

    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.profiles.station import read_once
    from welvo.app.session import Session
    from welvo.app.widgets.face_editor import Canvas
    from welvo.demo.gallery import make_gallery
    from welvo.formats.gdtf import loads_gdtf
    from welvo.formats.gdtf_write import dumps_gdtf
    from welvo.rig.layout import lay_out_rows
    from welvo.rig.profile import Break, Channel, Mode

    app = QApplication.instance() or QApplication(["bench"])
    took = best(lambda: read_chart(FORTY), 10)
    say("chart of 40 rows, parsed", f"{took:.1f} ms")
    with TemporaryDirectory() as folder:
        window = make_window(Session(make_gallery()), Computer(), "127.0.0.1", Path(folder))
        window.show()
        window.show_station("Profiles")
        station = window.profiles
        found = []
        for _ in range(6):
            station.new_profile("dimmer")
            app.processEvents()
            read_once.cache_clear()  # as if it had never been seen
            begun = time.perf_counter()
            station.line.setPlainText(FORTY)
            station.line.commit()
            station.ruler.grab()
            found.append(1000 * (time.perf_counter() - begun))
            rows_read = len(station.mode.channels) if station.mode else 0
        say(
            f"the same pasted: rig, checks, station, {rows_read} channels drawn",
            f"{min(found):.1f} ms",
            "under 30 ms",
            min(found) < 30,
        )
        window.end_everything()

    for count, moved in ((2000, 1), (2000, 200), (10_000, 200)):
        channels = tuple(
            Channel(function="Dimmer", break_no=n // 500, slots=(n % 500 + 1,), pixel=n + 1) for n in range(count)
        )
        mode = Mode(
            name="wall",
            breaks=tuple(Break(slots=500) for _ in range(-(-count // 500))),
            channels=channels,
            spots=lay_out_rows(count, count // 50),
        )
        canvas = Canvas(mode, None)
        canvas.resize(660, 575)
        canvas.show()
        canvas.selected = set(range(1, moved + 1))
        at = canvas.view.point_of_spot(canvas.spots[0])

        def mouse(kind: QEvent.Type, by: float) -> None:
            point = QPointF(at.x() + by, at.y() + by / 2)  # noqa: B023
            left = Qt.MouseButton.LeftButton
            QApplication.sendEvent(canvas, QMouseEvent(kind, point, point, left, left, Qt.KeyboardModifier.NoModifier))  # noqa: B023

        begun = time.perf_counter()
        mouse(QEvent.Type.MouseButtonPress, 0)
        canvas.grab()
        first = 1000 * (time.perf_counter() - begun)
        begun = time.perf_counter()
        for n in range(100):
            mouse(QEvent.Type.MouseMove, 1 + n % 40)
            canvas.grab()
        rate = 100 / (time.perf_counter() - begun)
        begun = time.perf_counter()
        mouse(QEvent.Type.MouseButtonRelease, 20)
        canvas.grab()
        last = 1000 * (time.perf_counter() - begun)
        say(f"face of {count:,} pixels, {moved} dragged: frames", f"{rate:.0f} /s", "over 50 /s", rate > 50)
        say("    taking hold / letting go", f"{first:.0f} / {last:.0f} ms")

    head = read_chart(FORTY).mode_of_chart("m")
    twenty = Profile(
        name="Twenty",
        maker="Bench",
        modes={f"m{n}": msgspec.structs.replace(head, name=f"mode {n}") for n in range(20)},
    )
    data, _ = dumps_gdtf(twenty)
    took = best(lambda: loads_gdtf(data), 3)
    say(f"GDTF with 20 modes, {20 * len(head.channels)} channels, opened", f"{took:.0f} ms", "under 300 ms", took < 300)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--seconds", type=float, default=60.0, help="how long output is measured")
    parser.add_argument(
        "--only",
        default="",
        help="one part: core, patch, imports, start, pauses, painting, profiles, window, runs, output, devices, lamps, "
        "sheets or wire",
    )
    asked = parser.parse_args()
    from cables import cables  # beside this file, like those below
    from devices import devices
    from lamps import lamps
    from output import output
    from patching import patching, tapes
    from sheets import sheets
    from window import whole
    from wire import wire

    parts = {
        "core": core,
        "patch": lambda: (patching(say), tapes(say)),
        "imports": imports,
        "start": start,
        "pauses": pauses,
        "painting": painting,
        "profiles": profiles,
        "window": lambda: whole(say),
        "runs": lambda: cables(say, best),
        "output": lambda: output(say, asked.seconds),
        "devices": lambda: devices(say),
        "sheets": lambda: sheets(say),
        "lamps": lambda: lamps(say),
        "wire": lambda: wire(say, asked.seconds),
    }
    for name, part in parts.items():
        if asked.only in ("", name):
            part()
    if FAILED:
        print("Goals missed: " + "; ".join(FAILED))
    return 1 if FAILED else 0


if __name__ == "__main__":
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    sys.exit(main())
