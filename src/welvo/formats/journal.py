"""The recovery journal: the present rig, written beside the user's state after every edit.

It is there for a program that dies, so it does not wait for the disk. One file per running window, named after its
process; a file whose process is gone is offered back.
"""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from welvo.formats.rigfile import RigFileError, from_plain, to_json, write_atomic
from welvo.rig.document import Rig


class Entry(msgspec.Struct, frozen=True):
    """What a journal holds: the rig, where it belongs, when it was written (seconds since the epoch)."""

    pid: int
    started: float
    written: float
    path: str
    name: str
    rig: msgspec.Raw


class Recovered(msgspec.Struct, frozen=True):
    file: Path
    name: str
    path: str
    written: float
    rig: Rig


def journal_file(folder: Path, pid: int) -> Path:
    return folder / f"journal-{pid}.json"


def write(folder: Path, rig: Rig, path: str, pid: int, started: float, now: float) -> None:
    """Write the present rig. Raises RigFileError when the folder cannot be written."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise RigFileError(f"The recovery journal cannot be written: {e.strerror}.") from e
    entry = Entry(pid, started, now, path, rig.name, msgspec.Raw(to_json(rig)))
    write_atomic(journal_file(folder, pid), msgspec.json.encode(entry))  # in a thread: it may wait for the disk


def discard(folder: Path, pid: int) -> None:
    journal_file(folder, pid).unlink(missing_ok=True)


def _alive(pid: int, started: float) -> bool:
    """Whether the process that wrote a journal still runs; a reused process number counts as gone."""
    import psutil

    if pid == os.getpid():
        return True
    try:
        return bool(abs(psutil.Process(pid).create_time() - started) < 5.0)
    except psutil.Error:
        return False


def abandoned(folder: Path) -> list[Recovered]:
    """Journals whose process is gone, newest first. Damaged ones are left alone and not offered."""
    found = []
    for file in sorted(folder.glob("journal-*.json")) if folder.is_dir() else []:
        try:
            entry = msgspec.json.decode(file.read_bytes(), type=Entry)
            if _alive(entry.pid, entry.started):
                continue
            rig = from_plain(msgspec.json.decode(entry.rig), "the recovery journal")
        except (OSError, msgspec.DecodeError, RigFileError):
            continue
        found.append(Recovered(file, entry.name, entry.path, entry.written, rig))
    return sorted(found, key=lambda r: -r.written)
