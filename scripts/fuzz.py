"""Hard knocks by chance, for as long as it is told: `make fuzz SECONDS=600 SEED=1`.

Each kind gets its share of the time and is made of cases, each with a seed of its own. A case that fails is printed
with the command that repeats it alone, and the trial goes on. Exits with 1 when any failed.

    make fuzz SECONDS=3600                      everything
    make fuzz KINDS=merges,files SECONDS=60     some kinds
    make fuzz KINDS=merges SEED=7 CASE=123      one case again
"""

from __future__ import annotations

import os
import random
import subprocess
import sys
import tempfile
import time
import traceback
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp(prefix="welvo-fuzz-home-")
for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
    os.environ[name] = HOME  # before anything asks where settings and journals are kept
ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT))

MOST_FAILURES = 5
"""So many failures of a kind are printed; then the next kind has its turn."""
ALWAYS = lambda: True  # noqa: E731

Case = Callable[[str], tuple[int, str]]
"""One case by its seed: how much was tried, and what is wrong (empty: nothing)."""


class Kind(NamedTuple):
    what: str
    share: float
    whole: int
    """How many a whole trial asks for; with these the kind is over before its time."""
    case: Case


def packets(seed: str) -> tuple[int, str]:
    from tests.fuzz.packets import knock

    return knock(seed, 20_000, ALWAYS)


def files(seed: str) -> tuple[int, str]:
    return _knocks().one(seed)


@cache
def _knocks() -> Any:
    from tests.fuzz.files import Knocks

    return Knocks()


def texts(seed: str) -> tuple[int, str]:
    from tests.fuzz.texts import hunt_channels, hunt_model, hunt_text

    for hunt in (hunt_text, hunt_channels, hunt_model):
        if found := hunt(random.Random(seed)):
            return 3, f"{hunt.__name__}: {found}"
    return 3, ""


def edits(seed: str) -> tuple[int, str]:
    from tests.fuzz.random_edits import Trail

    trail = Trail(seed)
    for step in range(25):
        trail.step()
        if wrong := trail.wrong(findings=step % 5 == 4):
            return trail.made, wrong
    return trail.made, ""


def foreseen(seed: str) -> tuple[int, str]:
    from tests.fuzz.foreseen import knock

    return knock(seed, 60, ALWAYS)


def merges(seed: str) -> tuple[int, str]:
    from tests.fuzz.merges import hostile, wrong

    return 1, hostile(seed) if random.Random(seed).randrange(10) == 0 else wrong(seed)


def imports(seed: str) -> tuple[int, str]:
    from tests.fuzz.tables import case

    return case(seed)


def pages(seed: str) -> tuple[int, str]:
    from tests.fuzz.pages import ask

    return ask(seed)


def servers(seed: str) -> tuple[int, str]:
    from tests.fuzz.pages import serve

    return serve(seed)


def lamps(seed: str) -> tuple[int, str]:
    from tests.fuzz.gateways import case

    return case(seed)


def captures(seed: str) -> tuple[int, str]:
    from tests.fuzz.captures import case

    return case(seed)


def _beside(module: str, *words: str, alone: bool = False) -> str:
    """What a trial in a process of its own says is wrong; `alone`: in a network of its own."""
    command = [*(["unshare", "-n"] if alone else []), sys.executable, "-m", module, *words]
    done = subprocess.run(command, capture_output=True, text=True, cwd=ROOT)
    return "" if done.returncode == 0 else done.stdout + done.stderr


def kills(seed: str) -> tuple[int, str]:
    with tempfile.TemporaryDirectory(prefix="welvo-fuzz-") as folder:
        return 20, _beside("tests.fuzz.kills", seed, "20", folder)


def killed_edits(seed: str) -> tuple[int, str]:
    with tempfile.TemporaryDirectory(prefix="welvo-fuzz-") as folder:
        return 5, _beside("tests.fuzz.killed_edits", seed, "5", folder)


def links(seed: str) -> tuple[int, str]:
    longest = random.Random(seed).choice(("1", "1", "1", "1", "4", "4", "40"))
    return 10, _beside("tests.live.pulled_links", "10", longest, seed, alone=True)


def noise(seed: str) -> tuple[int, str]:
    from tests.fuzz.noise import knock

    return 1, knock(seed, 8.0, 20_000, Path(tempfile.mkdtemp(prefix="welvo-fuzz-")))[1]


@cache
def _stand_ins() -> Any:
    """Stand-ins, live on loopback for as long as the trial lasts."""
    from PySide6.QtCore import qInstallMessageHandler
    from PySide6.QtWidgets import QApplication

    from welvo.app.main import Demo

    qInstallMessageHandler(lambda *_: None)  # what the platform cannot do here is said with every act
    demo = Demo()
    demo.stand_ins.wait_ready()
    return QApplication.instance() or QApplication([]), demo


def acts(seed: str) -> tuple[int, str]:
    """In the real window, with stand-ins live."""
    from PySide6.QtCore import QEvent
    from tests.fuzz.acts import Acts
    from tests.fuzz.litter import littering

    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.session import Session
    from welvo.demo.gallery import make_gallery

    app, _ = _stand_ins()
    window = make_window(Session(make_gallery()), Computer(), "127.0.0.1", Path(HOME) / "state")
    window.resize(1280, 800)
    window.files.may_leave = lambda: True  # type: ignore[method-assign]
    window.show()
    window.network.start_network()
    knocks = Acts(window, seed)
    with littering():  # beside a worker in which Python would collect every 10 ms, if it might
        wrong = knocks.run(500, 60.0)
    window.end_everything()
    window.close()
    window.deleteLater()
    app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    return knocks.count, wrong


KINDS = {
    "packets": Kind("packets", 0.07, 2_000_000, packets),
    "files": Kind("files", 0.12, 20_000, files),
    "texts": Kind("charts and models", 0.07, 100_000, texts),
    "edits": Kind("edits, undone and done again in between", 0.12, 15_000, edits),
    "foreseen": Kind("edits foreseen, held against what they do", 0.12, 100_000, foreseen),
    "merges": Kind("merges of two people's work", 0.08, 20_000, merges),
    "imports": Kind("tables and scenes", 0.08, 20_000, imports),
    "pages": Kind("devices' pages", 0.05, 5000, pages),
    "servers": Kind("hostile clients", 0.03, 10_000, servers),
    "lamps": Kind("searches for lamps", 0.06, 2000, lamps),
    "captures": Kind("captures", 0.05, 20_000, captures),
    "kills": Kind("kills while saving", 0.03, 200, kills),
    "killed-edits": Kind("kills while editing", 0.04, 200, killed_edits),
    "links": Kind("interfaces that went away", 0.06, 200, links),
    "noise": Kind("rounds of 20,000 packets of noise a second", 0.02, 2, noise),
    "acts": Kind("acts in the window", 0.22, 50_000, acts),
}


def run(name: str, kind: Kind, seed: int, seconds: float, only: int | None) -> int:
    """Go through cases of one kind; gives how many failed."""
    begun = time.monotonic()
    total = failed = 0
    n = only or 0
    while True:
        try:
            count, wrong = kind.case(f"{seed} {n}")
        except Exception:
            count, wrong = 1, traceback.format_exc()
        total += count
        if wrong:
            failed += 1
            print(f"{name}: {wrong.strip()[-2500:]}", flush=True)
            print(f"    again: make fuzz KINDS={name} SEED={seed} CASE={n}", flush=True)
        n += 1
        over = time.monotonic() - begun >= seconds or total >= kind.whole
        if over or failed >= MOST_FAILURES or only is not None:
            break
    words = f"{failed} failed" if failed else "nothing broke"
    print(f"{name:12} {total} {kind.what} in {time.monotonic() - begun:.0f} s: {words}", flush=True)
    return failed


def main() -> int:
    words = [*sys.argv[1:], "", "", "", ""]
    seconds, seed = float(words[0] or 120), int(words[1] or time.time())
    names = words[2].split(",") if words[2] else list(KINDS)
    only = int(words[3]) if words[3] else None
    if unknown := [n for n in names if n not in KINDS]:
        print(f"There is no kind {unknown[0]}. Kinds: {', '.join(KINDS)}.")
        return 2
    print(f"seed {seed}, {seconds:g} seconds", flush=True)
    shares = sum(KINDS[n].share for n in names)
    failed = sum(run(n, KINDS[n], seed, seconds * KINDS[n].share / shares, only) for n in names)
    if "acts" in names:
        _stand_ins()[1].stop()
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
