"""Hard knocks by chance, for as long as it is told: `make fuzz SECONDS=600 SEED=1`.

Each kind gets its share of the time; the counts that a whole trial asks for are reached with about 25 minutes. What
broke is printed with its seed, and can be had again with it. Exits with 1 when anything did.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp(prefix="welvo-fuzz-home-")
for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
    os.environ[name] = HOME  # before anything asks where settings and journals are kept
sys.path.insert(0, str(Path(__file__).parent.parent))

WHOLE = {"packets": 2_000_000, "files": 20_000, "kills": 200, "acts": 50_000, "texts": 100_000, "edits": 15_000,
         "merges": 20_000}  # fmt: skip
"""What a whole trial asks for."""
SHARES = {"packets": 0.10, "files": 0.18, "texts": 0.10, "edits": 0.16, "merges": 0.08, "kills": 0.04, "acts": 0.30,
          "noise": 0.04}  # fmt: skip


def budget(seconds: float) -> Callable[[], bool]:
    until = time.monotonic() + seconds
    return lambda: time.monotonic() < until


def packets(seed: int, seconds: float) -> tuple[str, str]:
    from tests.fuzz.packets import knock

    count, wrong = knock(seed, WHOLE["packets"], budget(seconds))
    return f"{count} packets", wrong


def files(seed: int, seconds: float) -> tuple[str, str]:
    from tests.fuzz.files import knock

    count, wrong = knock(seed, WHOLE["files"], budget(seconds))
    return f"{count} files", wrong


def texts(seed: int, seconds: float) -> tuple[str, str]:
    import random

    from tests.fuzz.texts import hunt_channels, hunt_model, hunt_text

    total = 0
    for hunt in (hunt_text, hunt_channels, hunt_model):
        go_on = budget(seconds / 3)
        for n in range(WHOLE["texts"]):
            found = hunt(random.Random(f"{seed} {n}"))
            total += 1
            if found:
                return f"{total} charts and models", f"{hunt.__name__}, seed “{seed} {n}”: {found[:1500]}"
            if not go_on():
                break
    return f"{total} charts and models", ""


def edits(seed: int, seconds: float) -> tuple[str, str]:
    from tests.fuzz.random_edits import Trail

    go_on, total, n = budget(seconds), 0, 0
    while go_on() and total < WHOLE["edits"]:
        trail = Trail(seed * 100_000 + n)
        n += 1
        for step in range(25):
            trail.step()
            wrong = trail.wrong(findings=step % 5 == 4)
            if wrong:
                return f"{total + trail.made} edits", f"seed {seed * 100_000 + n - 1}: {wrong[:1500]}"
        total += trail.made
    return f"{total} edits, undone and done again in between", ""


def merges(seed: int, seconds: float) -> tuple[str, str]:
    from tests.fuzz.merges import knock

    count, wrong = knock(seed, WHOLE["merges"], budget(seconds))
    return f"{count} merges of two people's work", wrong


def kills(seed: int, seconds: float) -> tuple[str, str]:
    folder = tempfile.mkdtemp(prefix="welvo-fuzz-")
    count = max(10, min(WHOLE["kills"], int(seconds / 0.1)))
    command = [sys.executable, "-m", "tests.fuzz.kills", str(seed), str(count), folder]  # it forks: in its own process
    done = subprocess.run(command, capture_output=True, text=True, cwd=Path(__file__).parent.parent)
    return f"{count} kills while saving", "" if done.returncode == 0 else (done.stdout + done.stderr)[-1500:]


def noise(seed: int, seconds: float) -> tuple[str, str]:
    from tests.fuzz.noise import knock

    return knock(seed, max(3.0, min(20.0, seconds)), 20_000, Path(tempfile.mkdtemp(prefix="welvo-fuzz-")))


def acts(seed: int, seconds: float) -> tuple[str, str]:
    """In the real window, with stand-ins live on loopback."""
    from PySide6.QtCore import QEvent, qInstallMessageHandler
    from PySide6.QtWidgets import QApplication
    from tests.fuzz.acts import Acts, widgets
    from tests.fuzz.litter import littering

    from welvo.app.computer import Computer
    from welvo.app.main import Demo, make_window
    from welvo.app.session import Session
    from welvo.demo.gallery import gallery

    qInstallMessageHandler(lambda *_: None)  # what the platform cannot do here is said with every act
    app = QApplication.instance() or QApplication([])
    demo = Demo()
    demo.stand_ins.wait_ready()
    go_on, total, n, slowest, least, most = budget(seconds), 0, 0, 0.0, 10**9, 0
    try:
        while go_on() and total < WHOLE["acts"]:
            window = make_window(Session(gallery()), Computer(), "127.0.0.1", Path(HOME) / "state")
            window.resize(1280, 800)
            window.may_leave = lambda: True  # type: ignore[method-assign]
            window.show()
            window.network.start()
            knocks = Acts(window, seed * 100_000 + n)
            n += 1
            with littering():  # beside a worker in which Python would collect every 10 ms, if it might
                wrong = knocks.run(500, min(60.0, seconds))
            count = widgets(window)
            least, most = min(least, count), max(most, count)
            slowest = max(slowest, knocks.slowest)
            total += knocks.count
            window.shut()
            window.close()
            window.deleteLater()
            app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
            if wrong:
                return f"{total} acts", f"seed {seed * 100_000 + n - 1}: {wrong[:2500]}"
    finally:
        demo.stop()
    return f"{total} acts in {n} windows of {least} to {most} widgets, the slowest act {slowest:.2f} s", ""


KINDS = {
    "packets": packets,
    "files": files,
    "texts": texts,
    "edits": edits,
    "merges": merges,
    "kills": kills,
    "noise": noise,
    "acts": acts,
}


def main() -> int:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 120.0
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    only = sys.argv[3].split(",") if len(sys.argv) > 3 else list(KINDS)
    failed = False
    print(f"seed {seed}, {seconds:g} seconds", flush=True)
    for name in only:
        begun = time.monotonic()
        words, wrong = KINDS[name](seed, seconds * (SHARES[name] if len(only) > 1 else 1.0))
        print(f"{name:8} {words}, in {time.monotonic() - begun:.0f} s: {wrong or 'nothing broke'}", flush=True)
        failed = failed or bool(wrong)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
