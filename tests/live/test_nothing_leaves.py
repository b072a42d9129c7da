"""Nothing that carries levels leaves before arming: every button of every station is pressed, with the network watched.

In a network of its own, with a real capture of all packets on its interface.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys

import pytest

from tests.conftest import own_network

ALONE = r"""
import json, os, socket, subprocess, sys, tempfile, threading, time
run = lambda *a: subprocess.run(a, check=True, capture_output=True)
run("ip", "link", "set", "lo", "up")
run("ip", "link", "add", "stage0", "type", "veth", "peer", "name", "far0")
run("ip", "addr", "add", "10.9.8.7/24", "dev", "stage0")
run("ip", "link", "set", "stage0", "up")
run("ip", "link", "set", "far0", "up")
folder = tempfile.mkdtemp()
for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
    os.environ[name] = folder
seen, done = [], threading.Event()
raw = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.ntohs(3))
raw.bind(("far0", 0))
raw.settimeout(0.2)
def capture():
    while not done.is_set():
        try:
            seen.append(raw.recv(4096))
        except TimeoutError:
            pass
thread = threading.Thread(target=capture)
thread.start()
from PySide6.QtWidgets import QApplication, QColorDialog, QPushButton
from PySide6.QtGui import QColor
from PySide6.QtTest import QTest
app = QApplication([])
from PySide6.QtCore import QTimer
def close_what_opened():
    for opened in (app.activePopupWidget(), app.activeModalWidget()):
        if opened is not None:
            opened.close()
closing = QTimer(interval=30)
closing.timeout.connect(close_what_opened)
closing.start()
from welvo.app.widgets.file_dialog import FileDialog
FileDialog.ask_to_open = staticmethod(lambda *a, **k: "")
FileDialog.ask_to_save = staticmethod(lambda *a, **k: "")
QColorDialog.getColor = staticmethod(lambda *a, **k: QColor())
from pathlib import Path
from welvo.app.computer import Computer
from welvo.app.main import make_window
from welvo.app.session import Selection, Session
from welvo.demo.gallery import make_gallery
quiet = len(sys.argv) > 1 and sys.argv[1] == "quiet"
window = make_window(Session(make_gallery()), Computer(quiet=quiet), "10.9.8.7", Path(folder))
window.files.may_leave = lambda: True
window.resize(1280, 800)
window.show()
window.network.start_network()
pressed = 0
for station in window.stations.all_stations():
    for kind, key in (("", ""), ("item", "f207"), ("device", "d1"), ("universe", "u3")):
        chosen = Selection(kind, (key,)) if kind else Selection()
        window.show_station(station)
        window.session.change_selection(chosen)
        QTest.qWait(30)
        known = set()
        for _ in range(3):
            for b in window.findChildren(QPushButton):
                try:
                    if id(b) in known or not (b.isVisible() and b.isEnabled()):
                        continue
                    known.add(id(b))
                    if not window.network.output.is_armed and pressed < 1500:
                        b.click()
                        pressed += 1
                        app.processEvents()
                except RuntimeError:
                    pass  # another act took it away
        assert not window.network.output.is_armed
QTest.qWait(1500)
window.end_everything()
done.set()
thread.join()
kinds = {}
for frame in seen:
    kind = "other"
    if frame[12:14] == b"\x08\x00" and frame[23] == 17:
        payload = frame[14 + (frame[14] & 15) * 4 + 8:]
        port = int.from_bytes(frame[14 + (frame[14] & 15) * 4 + 2:][:2], "big")
        if payload[:8] == b"Art-Net\0":
            kind = f"Art-Net {payload[9]:02x}{payload[8]:02x}"
        elif port == 5568:
            kind = f"sACN {payload[21]}"
        elif port == 4048:
            kind = f"DDP {payload[0] & 2}"
        else:
            kind = f"UDP {port}"
    elif frame[12:14] == b"\x08\x00":
        kind = {1: "ICMP", 2: "IGMP", 6: "TCP"}.get(frame[23], "IP")
    elif frame[12:14] == b"\x08\x06":
        kind = "ARP"
    elif frame[12:14] == b"\x86\xdd":
        kind = "IPv6 of the kernel"
    kinds[kind] = kinds.get(kind, 0) + 1
print(json.dumps({"pressed": pressed, "kinds": kinds}))
os._exit(0)
"""


@pytest.mark.parametrize("how", ["asking", "quiet"])
def test_no_level_leaves_before_arming_whatever_is_pressed(how: str) -> None:
    own_network()
    env = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    command = ["unshare", "-n", sys.executable, "-c", ALONE, how]
    done = subprocess.run(command, capture_output=True, text=True, timeout=300, env=env)
    assert done.returncode == 0, done.stderr[-3000:]
    found = json.loads(done.stdout.splitlines()[-1])
    kinds = set(found["kinds"])
    assert found["pressed"] > 150
    levels = {k for k in kinds if k in ("Art-Net 5000", "Art-Net 5200", "sACN 4", "DDP 0")}
    assert not levels, found
    if how == "asking":
        assert "Art-Net 2000" in kinds  # it asks who is there; so the capture does see what leaves
    else:
        assert not {k for k in kinds if k.startswith(("sACN", "IGMP", "UDP"))}, found
