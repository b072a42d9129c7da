"""Programs that are killed while somebody edits: what stood there a second before is found again, whole.

Run as `python -m tests.fuzz.killed_edits SEED COUNT FOLDER`: it forks, so that a kill costs no start of Python.
"""

from __future__ import annotations

import contextlib
import os
import random
import shutil
import signal
import sys
import time
from pathlib import Path

from PySide6.QtCore import QCoreApplication, QTimer

from tests.fuzz.random_edits import EDITS, Chance
from welvo.app.recovery import Keeper
from welvo.app.session import Session
from welvo.demo.gallery import make_gallery
from welvo.formats import journal
from welvo.patience import crowding
from welvo.rig.base import Refused
from welvo.rig.edits import rename_rig

WITHIN = 1.0
"""Seconds within which an edit stands on disk."""


def editor(seed: str, folder: Path, told: int) -> None:
    """Edit by chance, and count the edits in the rig's own name; each count is told when it is made."""
    _app = QCoreApplication([])
    session, chance = Session(make_gallery()), Chance(seed)
    keeper = Keeper(session, folder)
    count = 0

    def edit() -> None:
        nonlocal count
        name = chance.choice(list(EDITS))
        with contextlib.suppress(Refused, IndexError):
            session.take_over_edit(EDITS[name](chance, session.rig, session.index))
        count += 1
        session.make_edit(rename_rig, f"edit {count}")
        os.write(told, f"{count} {time.monotonic()}\n".encode())

    timer = QTimer(interval=15)
    timer.timeout.connect(edit)
    timer.start()
    _app.exec()
    keeper.close()


def case(seed: str, folder: Path) -> str:
    """One program, killed at some moment; gives what was lost, empty when nothing was."""
    c = random.Random(seed)
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True)
    reader, told = os.pipe()
    pid = os.fork()
    if pid == 0:
        try:
            os.close(reader)
            editor(seed, folder, told)
        finally:
            os._exit(1)
    os.close(told)
    with os.fdopen(reader) as lines:
        first = lines.readline()  # from here on it edits
        pause = c.uniform(0.0, 2.5)
        time.sleep(pause)
        patience = WITHIN * 2 * crowding()
        killed = time.monotonic()
        os.kill(pid, signal.SIGKILL)
        os.waitpid(pid, 0)
        made = [(int(n), float(at)) for n, at in (line.split() for line in [first, *lines] if line.endswith("\n"))]
    due = max((n for n, at in made if killed - at > patience), default=0)
    found, damaged = journal.find_abandoned(folder)
    if damaged:
        return f"seed “{seed}”: the journal is damaged"
    if not found:
        return f"seed “{seed}”: edit {due} is lost" if due else ""
    last = int(found[0].rig.name.removeprefix("edit "))
    return "" if due <= last <= made[-1][0] + 1 else f"seed “{seed}”: edit {last} is found, {due} was due"


def main(seed: str, count: int, folder: Path) -> int:
    for n in range(count):
        if wrong := case(f"{seed} {n}", folder / "journal"):
            print(wrong)
            return 1
    print(f"{count} kills, nothing lost")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2]), Path(sys.argv[3])))
