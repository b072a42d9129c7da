"""The real window on real platforms: X11 at three scales, and Wayland where a compositor can be had."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from welvo.patience import wait_until

SCRIPT = """
import json, os, sys
from pathlib import Path
from PySide6.QtWidgets import QApplication
from welvo.app.computer import Computer
from welvo.app.main import make_window, program_icon
from welvo.app.session import Session
from welvo.demo.gallery import make_gallery
from welvo.patience import PatienceLimit
app = QApplication([])
app.setStyle("Fusion")
app.setWindowIcon(program_icon())
window = make_window(Session(make_gallery()), Computer(theme="dark", text_step=0), "127.0.0.1", Path(sys.argv[1]))
window.files.may_leave = lambda: True
window.show()
limit = PatienceLimit(20)
while limit.lasts() and not (window.windowHandle() and window.windowHandle().isExposed()):
    app.processEvents()
cut = []
for name in window.stations.all_stations():
    window.show_station(name)
    window.session.select_items(["f207"])
    for _ in range(10):
        app.processEvents()
    station = window.stations.stack.currentWidget()
    if station.minimumSizeHint().width() > station.width():
        cut.append(name)
    if name == "Patch" and len(sys.argv) > 2:
        window.grab().save(sys.argv[2])
print(json.dumps({"platform": app.platformName(), "ratio": window.devicePixelRatio(), "size": window.size().toTuple(),
                  "exposed": window.windowHandle().isExposed(), "icon": not window.windowIcon().isNull(), "cut": cut}))
sys.stdout.flush()
window.end_everything()
os._exit(0)
"""


def opened(folder: Path, env: dict[str, str]) -> dict[str, Any]:
    """What a window tells of itself that is opened in a process of its own."""
    kept = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")}
    own = {n: str(folder / "home") for n in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME")}
    picture = [os.environ["WELVO_PICTURE"]] if "WELVO_PICTURE" in os.environ else []
    done = subprocess.run([sys.executable, "-c", SCRIPT, str(folder), *picture], env={**kept, **own, **env},
                          capture_output=True, text=True, timeout=300)  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    found: dict[str, Any] = json.loads(done.stdout)
    return found


@contextmanager
def x_server(size: str) -> Iterator[str]:
    if not shutil.which("Xvfb"):
        pytest.skip("no Xvfb on this machine")
    reader, writer = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(writer), "-screen", "0", f"{size}x24", "-nolisten", "tcp"],
        pass_fds=[writer], stderr=subprocess.DEVNULL,
    )  # fmt: skip
    os.close(writer)
    try:
        with os.fdopen(reader) as said:
            yield f":{said.readline().strip()}"
    finally:
        server.terminate()
        server.wait()


@pytest.mark.parametrize("scale", [1.0, 1.5, 2.0])
def test_on_x11_every_station_is_whole_at_every_scale(scale: float, tmp_path: Path) -> None:
    with x_server("1920x1080") as display:
        found = opened(tmp_path, {"DISPLAY": display, "QT_QPA_PLATFORM": "xcb", "QT_SCALE_FACTOR": str(scale)})
    assert found["platform"] == "xcb" and found["ratio"] == scale and found["exposed"] and found["icon"]
    assert found["cut"] == []
    wide, high = found["size"]
    assert wide <= max(960, 1920 / scale) and high <= max(540, 1080 / scale)


def test_on_wayland_the_window_opens_and_is_whole(tmp_path: Path) -> None:
    weston = shutil.which("weston")
    if not weston:
        pytest.skip("no Wayland compositor (weston) on this machine")
    run = tmp_path / "run"
    run.mkdir(mode=0o700)
    env = {"XDG_RUNTIME_DIR": str(run), "WAYLAND_DISPLAY": "wayland-welvo"}
    words = [
        "--backend=headless-backend.so",
        "--socket=wayland-welvo",
        "--width=1920",
        "--height=1080",
        "--idle-time=0",
    ]
    server = subprocess.Popen(
        [weston, *words], env={**os.environ, **env}, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    try:
        assert wait_until(lambda: (run / "wayland-welvo").exists() or server.poll() is not None, 20)
        if server.poll() is not None:
            pytest.skip("weston does not start here")
        found = opened(tmp_path, {**env, "QT_QPA_PLATFORM": "wayland"})
    finally:
        server.terminate()
        server.wait()
    assert found["platform"] == "wayland" and found["exposed"] and found["cut"] == []
