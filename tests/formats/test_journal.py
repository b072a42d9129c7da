from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import psutil

from welvo.formats import journal
from welvo.rig.document import Rig


def test_a_journal_of_a_process_that_is_gone_is_offered_back(rig: Rig, tmp_path: Path) -> None:
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    journal.write(tmp_path, rig, "/home/x/hall.welvo", gone.pid, 1.0, 1000.0)
    (found,) = journal.abandoned(tmp_path)
    assert found.rig == rig and (found.name, found.path, found.written) == ("Test rig", "/home/x/hall.welvo", 1000.0)
    journal.discard(tmp_path, gone.pid)
    assert journal.abandoned(tmp_path) == []


def test_the_journal_of_a_living_window_is_left_alone(rig: Rig, tmp_path: Path) -> None:
    other = subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE)
    try:
        started = psutil.Process(other.pid).create_time()
        journal.write(tmp_path, rig, "", os.getpid(), 0.0, time.time())
        journal.write(tmp_path, rig, "", other.pid, started, time.time())
        assert journal.abandoned(tmp_path) == []
        journal.write(tmp_path, rig, "", other.pid, started - 3600, time.time())  # the number was used again
        assert len(journal.abandoned(tmp_path)) == 1
    finally:
        other.communicate(b"\n")


def test_damaged_journals_are_not_offered_and_not_deleted(tmp_path: Path) -> None:
    (tmp_path / "journal-1.json").write_text('{"pid": 1, "rig": ')
    (tmp_path / "journal-2.json").write_text("{}")
    assert journal.abandoned(tmp_path) == [] and len(list(tmp_path.iterdir())) == 2
    assert journal.abandoned(tmp_path / "nowhere") == []


KILLED = """
import sys, time
from pathlib import Path
from PySide6.QtWidgets import QApplication
from welvo.app.computer import Computer
from welvo.app.main import make_window
from welvo.app.session import Session
from welvo.demo.gallery import gallery
from welvo.rig.edits import move
app = QApplication([])
w = make_window(Session(gallery()), Computer(), "127.0.0.1", Path(sys.argv[1]))
w.show()
w.session.edit(move, "f101", 0, "u10", 77)
until = time.monotonic() + 1.0
while time.monotonic() < until:
    app.processEvents(); time.sleep(0.01)
print("edited", flush=True)
while True:
    app.processEvents(); time.sleep(0.01)
"""


def test_after_a_kill_every_edit_older_than_a_second_is_offered_back(tmp_path: Path) -> None:
    env = {
        **os.environ,
        "QT_QPA_PLATFORM": "offscreen",
        "XDG_CONFIG_HOME": str(tmp_path),
        "XDG_STATE_HOME": str(tmp_path),
    }
    window = subprocess.Popen(
        [sys.executable, "-c", KILLED, str(tmp_path / "state")], stdout=subprocess.PIPE, text=True, env=env
    )
    try:
        assert window.stdout and window.stdout.readline() == "edited\n"
    finally:
        window.kill()
        window.wait()
        if window.stdout:
            window.stdout.close()
    (found,) = journal.abandoned(tmp_path / "state")
    assert found.name == "Drift Gallery" and found.rig.fixtures["f101"].at[0].address == 77
