"""Work with devices that never answer rightly: stopped, it is over within half a second; it ends with the window."""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from tests.conftest import slowed
from tests.live.test_rdm_serial import Jabbering
from welvo.app.computer import Computer
from welvo.app.main import make_window
from welvo.app.session import Session
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.formats.rigfile import save_rig_file
from welvo.live import rdm_serial
from welvo.live.recording import Recorder
from welvo.observed.values import Heard
from welvo.patience import steady, wait_until
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef

DRIP = b"HTTP/1.1 200 OK\r\nContent-Length: 100000\r\n\r\n{"


@contextlib.contextmanager
def dripping(places: set[tuple[str, int]]) -> Iterator[None]:
    """Devices that take every question and give an octet of the answer now and then."""
    stop = threading.Event()
    servers = [socket.create_server(place) for place in places]

    def answer(peer: socket.socket) -> None:
        with peer, contextlib.suppress(OSError):
            peer.recv(4000)
            for octet in DRIP * 100:
                peer.sendall(bytes([octet]))
                if stop.wait(0.05):
                    return

    def serve(server: socket.socket) -> None:
        while not stop.is_set():
            with contextlib.suppress(OSError):
                peer, _ = server.accept()
                threading.Thread(target=answer, args=(peer,), daemon=True).start()

    for server in servers:
        server.settimeout(0.1)
        threading.Thread(target=serve, args=(server,), daemon=True).start()
    try:
        yield
    finally:
        stop.set()
        for server in servers:
            server.close()


@pytest.fixture
def deaf(tmp_path: Path, qtbot: QtBot) -> Iterator[Window]:
    """The gallery's window; every device of it takes questions and never ends an answer."""
    rig = make_gallery()
    models = {k: model_of(rig, k) for k in rig.devices}
    places = {(d.ip, m.status_port) for k, d in rig.devices.items() if (m := models[k]) and m.status_port and d.ip}
    window = make_window(Session(rig), Computer(), "127.0.0.1", tmp_path)
    window.files.may_leave = lambda: True  # type: ignore[method-assign]
    window.show()
    with dripping(places):
        window.network.start_network()
        try:
            yield window
        finally:
            window.end_everything()
            window.close()
            window.deleteLater()


def device(window: Window, name: str) -> str:
    return next(k for k, d in window.session.rig.devices.items() if d.name == name)


def push(window: Window) -> tuple[Callable[[], object], Callable[[], object]]:
    key = device(window, "PENSTOCK")
    window.network.devices.begin_push(key, {"name": "x", "1.universe": 9})
    return lambda: window.network.devices.stop_push(key), lambda: window.network.devices.push_under_way(key)


def bus(window: Window) -> tuple[Callable[[], object], Callable[[], object]]:
    ref = PortRef(device(window, "LEAT"), "BUS 1")
    window.network.buses.search_bus(ref)
    return lambda: window.network.buses.stop_work(ref), lambda: window.network.buses.words_if_busy(ref)


def bus_addressed(window: Window) -> tuple[Callable[[], object], Callable[[], object]]:
    ref = PortRef(device(window, "LEAT"), "BUS 1")
    window.network.buses.address_gear(ref, 0)
    return lambda: window.network.buses.stop_work(ref), lambda: window.network.buses.words_if_busy(ref)


def lamps(window: Window) -> tuple[Callable[[], object], Callable[[], object]]:
    work, key = window.network.lamps, device(window, "WEIR-2")
    ip = window.session.rig.devices[key].ip
    heard = Heard(ip, "W", "W", "02:00:00:00:00:01", "1", "", (), steady(), steady())
    window.session.observe(heard={ip: heard})
    at = work.place_of_port(PortRef(key, "A"))
    work.search_ports([PortRef(key, "A")])
    return lambda: work.stop_work(at), lambda: work.words_if_busy(at)


Kind = Callable[[Window], tuple[Callable[[], object], Callable[[], object]]]
"""Begins a piece of work; gives how it is stopped, and what says that it is under way."""
KINDS: list[Kind] = [push, bus, bus_addressed, lamps]


@pytest.mark.parametrize("kind", KINDS, ids=lambda k: k.__name__)
def test_it_is_over_half_a_second_after_stop(deaf: Window, qtbot: QtBot, kind: Kind) -> None:
    stop, busy = kind(deaf)
    qtbot.wait(300)
    assert busy()
    begun, most = time.monotonic(), slowed(0.5)
    stop()
    qtbot.waitUntil(lambda: not busy(), timeout=20_000)
    assert time.monotonic() - begun < max(most, slowed(0.5)) + 0.2  # the window looks at its jobs ten times a second


def test_everything_under_way_ends_with_the_window(deaf: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    line = Jabbering()
    monkeypatch.setattr(rdm_serial.SerialRdm, "__init__", _opened_as(line))
    for kind in (push, bus, lamps):
        kind(deaf)
    runner = deaf.network.runner
    runner.start(deaf, lambda: rdm_serial.SerialRdm("x").table(True), lambda _: None)
    assert deaf.network.hearing.listener
    deaf.network.hearing.listener.record_into(Recorder())
    deaf.show_station("Sheets")
    qtbot.waitUntil(lambda: bool(line.requests), timeout=5000)
    names = {"device jobs", "listener", "status pages", "making sheets", "drawing pages", "serial search"}
    assert {"device jobs", "listener", "status pages"} <= {t.name for t in threading.enumerate()}
    begun = time.monotonic()
    deaf.end_everything()
    assert time.monotonic() - begun < slowed(1.5)
    assert wait_until(lambda: not names & {t.name for t in threading.enumerate()}, 2.0)
    asked = len(line.requests)
    time.sleep(0.1)
    assert len(line.requests) == asked and line.open == 0


def _opened_as(line: Jabbering) -> Callable[..., None]:
    begin = rdm_serial.SerialRdm.__init__

    def made(self: rdm_serial.SerialRdm, name: str, *_: object, **__: object) -> None:
        def opened(_: str) -> Jabbering:
            line.open += 1
            return line

        begin(self, name, opened, within=0.005)

    return made


LOOKED_AT_AND_CLOSED = """
import sys
from pathlib import Path
from PySide6.QtCore import QTimer
import welvo.app.main as main
from welvo.app.window import Window

def made(*args, make=main.make_window, **more):
    window = make(*args, **more)
    def look():
        window.session.select_items(["f207"])  # its card offers fixes, which show what they would do
        window.toggle_findings()
        QTimer.singleShot(600, window, window.close)
    QTimer.singleShot(900, window, look)
    return window

main.make_window = made
sys.exit(main.run([sys.argv[1]]))
"""


def test_a_window_that_was_looked_at_ends_without_a_crash(tmp_path: Path) -> None:
    rig = tmp_path / "hall.welvo"
    save_rig_file(make_gallery(), rig)
    own = {n: str(tmp_path) for n in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME", "XDG_RUNTIME_DIR")}
    words = [sys.executable, "-c", LOOKED_AT_AND_CLOSED, str(rig)]
    done = subprocess.run(words, env={**os.environ, **own}, capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, (done.returncode, done.stderr[-600:])
