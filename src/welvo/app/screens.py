"""Draws the pictures of the documentation from the demo rig: `python -m welvo.app.screens FOLDER`."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QApplication

from welvo.app.computer import Computer
from welvo.app.main import Demo, make_window
from welvo.app.session import Selection, Session
from welvo.app.window import Window
from welvo.rig.document import Rig


def wait(condition: Callable[[], bool] | None = None, seconds: float = 6.0) -> bool:
    """Run the event loop until a condition holds, or for a moment when there is none."""
    until = time.monotonic() + (seconds if condition else 0.15)
    while time.monotonic() < until:
        QApplication.processEvents()
        if condition and condition():
            return True
        time.sleep(0.01)
    return condition is None


def _profiles(w: Window) -> None:
    w.session.select(Selection("profile", ("p5",)))
    w.show_station("Profiles")
    w.profiles.ruler.pick(0, 8)


def _patch(w: Window) -> None:
    w.show_station("Patch")
    w.session.select_things(["f207"])
    w.patch.tapes.set_level("Fit")
    w.patch.tapes.toggle_lens("u3", 145)


def _patch_block(w: Window) -> None:
    w.patch.tapes.lens = None
    w.patch.tapes.set_level("Block")


def _patch_slot(w: Window) -> None:
    w.patch.tapes.set_level("Slot")


def _findings(w: Window) -> None:
    w.patch.tapes.set_level("Fit")
    w.toggle_findings()
    w.drawer.open_finding(next(f for f in w.session.report.findings if f.code == "PATCH-01"))


def _devices(w: Window) -> None:
    w.drawer.toggle()
    w.go("port", "d1 A")


def _bench(w: Window) -> None:
    w.session.select_things(["f207"])
    w.show_station("Bench")
    w.wire.arm()
    w.wire.levels.hold(["f207"], "Dimmer", 1.0)
    w.wire.levels.hold(["f207"], "Shutter1", 247 / 255)
    w.wire.levels.hold(["f207"], "ColorAdd_G", 1.0)
    w.wire.levels.hold(["f207"], "ColorAdd_B", 0.4)
    w.wire.touch()
    wait(seconds=2.0, condition=lambda: False)


def _paper(w: Window) -> None:
    w.wire.disarm()
    w.wire.levels.release()
    w.show_station("Patch")
    w.session.select_things(["f207"])
    w.set_look("paper", 0)
    w.patch.tapes.toggle_lens("u3", 145)


def _empty(w: Window) -> None:
    w.set_look("dusk", 0)
    w.session.replace(Rig(), None)
    w.show_station("Patch")


SHOTS: dict[str, Callable[[Window], None]] = {
    "profiles": _profiles, "patch": _patch, "patch-block": _patch_block, "patch-slot": _patch_slot, "findings": _findings,
    "devices": _devices, "bench": _bench, "patch-paper": _paper, "empty": _empty,
}  # fmt: skip


def main(folder: Path, only: list[str] | None = None, size: tuple[int, int] = (1280, 800)) -> int:
    """Write one PNG per main view. Gives 1 when the stand-ins were not heard."""
    app = QApplication.instance() or QApplication(["screens"])
    assert isinstance(app, QApplication)
    app.setStyle("Fusion")
    folder.mkdir(parents=True, exist_ok=True)
    demo = Demo()
    with tempfile.TemporaryDirectory() as state:
        try:
            demo.stand_ins.wait_ready()
            os.environ["XDG_CONFIG_HOME"] = state  # the pictures' own settings, not the user's
            computer = Computer(width=size[0], height=size[1])
            window = make_window(Session(demo.rig), computer, "127.0.0.1", Path(state))
            window.show()
            window.wire.start()
            heard = wait(
                lambda: len(window.session.observed.heard) == 4 and "DEV-02" in window.session.report.codes, 15
            )
            for name, act in SHOTS.items():
                act(window)
                window.message.hide()
                wait()
                if not only or name in only:
                    window.grab().save(str(folder / f"{name}.png"))
            window.shut()
        finally:
            demo.stop()
    return 0 if heard else 1


if __name__ == "__main__":
    where = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("docs/screenshots")
    wide = next((a for a in sys.argv[2:] if "x" in a and a.replace("x", "").isdigit()), "1280x800")
    width, height = (int(n) for n in wide.split("x"))
    sys.exit(main(where, [a for a in sys.argv[2:] if a != wide], (width, height)))
