"""Programs that are killed while they save: the file is the former or the new one, whole, and nothing piles up."""

from __future__ import annotations

import os
import random
import signal
import sys
import time
from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace

from welvo.demo.gallery import make_gallery
from welvo.formats.files import backup_of
from welvo.formats.rigfile import load_rig_file, save_rig_file


def saver(file: Path) -> None:
    """Save two states in turn until the end."""
    rig = make_gallery()
    states = [replace(rig, name=n) for n in ("first", "second")]
    print("saving", flush=True)
    n = 0
    while True:
        save_rig_file(states[n % 2], file)
        n += 1


def knock(seed: str, count: int, go_on: Callable[[], bool], folder: Path) -> tuple[int, str]:
    """How many were killed, and what broke. Children are forked, so that a kill costs no start of Python."""
    chance = random.Random(seed)
    file = folder / "hall.welvo"
    rig = replace(make_gallery(), name="first")
    save_rig_file(rig, file)
    for n in range(1, count + 1):
        pid = os.fork()
        if pid == 0:
            try:
                os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
                saver(file)
            finally:
                os._exit(1)
        time.sleep(chance.uniform(0.0, 0.09))
        os.kill(pid, signal.SIGKILL)
        os.waitpid(pid, 0)
        for f in (file, backup_of(file)):
            if f.exists():
                found = load_rig_file(f)
                if replace(found, name="first") != rig or found.name not in ("first", "second"):
                    return n, f"{f.name} reads as another rig after kill {n} of seed {seed}"
        if not file.exists():
            return n, f"the file is gone after kill {n} of seed {seed}"
        if not go_on():
            break
    save_rig_file(rig, file)
    left = sorted(p.name for p in folder.iterdir())
    return n, "" if set(left) <= {"hall.welvo", "hall.welvo~"} else f"left behind: {left}"


if __name__ == "__main__":
    done, wrong = knock(sys.argv[1], int(sys.argv[2]), lambda: True, Path(sys.argv[3]))
    print(f"{done} kills; {wrong or 'nothing lost'}")
    sys.exit(1 if wrong else 0)
