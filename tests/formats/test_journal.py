from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import msgspec
import psutil

from welvo.formats import journal
from welvo.formats.journal import Entry, Journal
from welvo.formats.rigfile import to_json
from welvo.rig.document import Rig

LEFT_BEHIND = """
import sys
from pathlib import Path
from welvo.demo.gallery import make_gallery
from welvo.formats.journal import Journal
made = Journal(Path(sys.argv[1]))
made.write_journal(make_gallery(), Path("/home/x/hall.welvo"), 1000.0)
print("written", flush=True)
input()
"""


def old(folder: Path, rig: Rig, pid: int, started: float, name: str) -> None:
    """A journal as it was written before there were locks."""
    folder.mkdir(exist_ok=True)
    entry = Entry(1.0, "", rig.name, msgspec.Raw(to_json(rig)), pid, started)
    (folder / name).write_bytes(msgspec.json.encode(entry))


def test_a_journal_is_offered_back_when_its_window_is_gone_and_not_before(tmp_path: Path) -> None:
    window = subprocess.Popen(
        [sys.executable, "-c", LEFT_BEHIND, str(tmp_path)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert window.stdout and window.stdout.readline() == "written\n"
    assert journal.find_abandoned(tmp_path) == ([], [])
    window.kill()
    window.communicate()
    ((found,), damaged) = journal.find_abandoned(tmp_path)
    assert (found.name, found.path, found.written, damaged) == ("Drift Gallery", Path("/home/x/hall.welvo"), 1000.0, [])
    journal.remove_journal(found.file)
    assert list(tmp_path.iterdir()) == []


def test_windows_of_one_process_number_keep_and_offer_their_own(rig: Rig, tmp_path: Path) -> None:
    """In containers every program may be process 7."""
    first, second = Journal(tmp_path), Journal(tmp_path)
    first.write_journal(rig, None, 1.0)
    second.write_journal(rig, Path("b.welvo"), 2.0)
    assert first.file != second.file and journal.find_abandoned(tmp_path)[0] == []
    os.close(first._lock)  # as the system does when a program ends
    first._lock = -1
    (left,), _ = journal.find_abandoned(tmp_path)
    assert left.file == first.file and left.path is None
    second.discard_journal()
    assert not second.file.exists()


def test_journals_from_before_there_were_locks_are_still_offered(rig: Rig, tmp_path: Path) -> None:
    started = psutil.Process().create_time()
    old(tmp_path, rig, os.getpid(), started, "journal-1.json")
    assert journal.find_abandoned(tmp_path)[0] == []
    old(tmp_path, rig, os.getpid(), started - 3600, "journal-1.json")  # the number was used again
    assert [r.rig for r in journal.find_abandoned(tmp_path)[0]] == [rig]


def test_damaged_journals_are_told_left_alone_and_hide_no_other(rig: Rig, tmp_path: Path) -> None:
    (tmp_path / "journal-1.json").write_text('{"pid": 1, "rig": ')
    (tmp_path / "journal-2.json").write_text("{}")
    (tmp_path / "journal-3.json").write_bytes(b"\xff\xfe" * 40)
    (tmp_path / "journal-4.json").write_text('{"written": 1, "path": "", "name": "x", "rig": ' + "[" * 5000 + "}")
    (tmp_path / "journal-5.json").write_text('{"written": 1, "path": "", "name": "x", "rig": {"fixtures": 5}}')
    (tmp_path / "journal-6.json").mkdir()
    made = Journal(tmp_path)
    made.write_journal(rig, None, 5.0)
    os.close(made._lock)
    made._lock = -1
    found, damaged = journal.find_abandoned(tmp_path)
    assert [r.rig for r in found] == [rig]
    assert [d.name for d in damaged] == [f"journal-{n}.json" for n in range(1, 7)] and all(d.exists() for d in damaged)
    assert journal.find_abandoned(tmp_path / "nowhere") == ([], [])


def test_a_path_that_is_no_utf8_comes_back(rig: Rig, tmp_path: Path) -> None:
    path = Path(os.fsdecode(b"/home/x/\xff hall.welvo"))
    made = Journal(tmp_path)
    made.write_journal(rig, path, 1.0)
    os.close(made._lock)
    made._lock = -1
    assert journal.find_abandoned(tmp_path)[0][0].path == path


def test_what_breaks_a_limit_comes_back_from_the_journal_too(rig: Rig, tmp_path: Path) -> None:
    text = to_json(rig).replace(b'"line_metres"', b'"x"').replace(b"{", b'{"line_metres": 99999999,', 1)
    entry = Entry(1.0, "", "x", msgspec.Raw(text))
    (tmp_path / "journal-1.json").write_bytes(msgspec.json.encode(entry))
    ((found,), damaged) = journal.find_abandoned(tmp_path)
    assert found.rig.line_metres == 1e4 and damaged == []


KILLED = """
import sys, time
from pathlib import Path
from PySide6.QtWidgets import QApplication
from welvo.app.computer import Computer
from welvo.app.main import make_window
from welvo.app.session import Session
from welvo.demo.gallery import make_gallery
from welvo.rig.edits import move_item
app = QApplication([])
w = make_window(Session(make_gallery()), Computer(), "127.0.0.1", Path(sys.argv[1]))
w.show()
w.session.make_edit(move_item, "f101", 0, "u10", 77)
for _ in range(100):  # a second; on a machine that others keep busy, as much longer as all else takes
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
    ((found,), _) = journal.find_abandoned(tmp_path / "state")
    assert found.name == "Drift Gallery" and found.rig.fixtures["f101"].at[0].address == 77
