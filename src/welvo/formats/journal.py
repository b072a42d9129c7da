"""The recovery journal: the present rig, written beside the user's state after every edit.

It is there for a program that dies, so it does not wait for the disk. Each window writes a journal of its own, and
holds a lock on a file beside it for as long as it lives; the system lets go of the lock when the program ends, however
it ends. A journal whose lock can be had is offered back. Process numbers say nothing here: programs in containers all
have the same ones.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import uuid
from pathlib import Path

import msgspec

from welvo.formats.files import RigFileError, path_to_text, text_to_path, write_atomic
from welvo.formats.plain import read_json
from welvo.formats.rigfile import opened_from_plain, to_json
from welvo.rig.document import Rig

MOST_JOURNAL = 512 * 2**20


class Entry(msgspec.Struct, frozen=True):
    """What a journal holds: the rig, where it belongs, when it was written (seconds since the epoch).

    `pid` and `started` are of journals that were written before there were locks.
    """

    written: float
    path: str
    name: str
    rig: msgspec.Raw
    pid: int = 0
    started: float = 0.0


class Recovered(msgspec.Struct, frozen=True):
    file: Path
    name: str
    path: Path | None
    written: float
    rig: Rig


class Journal:
    """One window's journal in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.file = folder / f"journal-{uuid.uuid4().hex}.json"
        self._lock = -1

    def write_journal(self, rig: Rig, path: Path | None, now: float) -> None:
        """Write the present rig. Raises RigFileError when the folder cannot be written."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            if self._lock < 0:
                self._lock = os.open(_lock_of(self.file), os.O_CREAT | os.O_RDWR | os.O_CLOEXEC, 0o600)
                with contextlib.suppress(OSError):  # some network folders have no locks: then it is offered too often
                    fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as e:
            raise RigFileError(f"The recovery journal cannot be written: {e.strerror}.") from e
        entry = Entry(now, path_to_text(path), rig.name, msgspec.Raw(to_json(rig)))
        write_atomic(self.file, msgspec.json.encode(entry), flush=False)

    def discard_journal(self) -> None:
        """Give the journal up: what it holds is saved, or not wanted any more."""
        remove_journal(self.file)
        if self._lock >= 0:
            os.close(self._lock)
            self._lock = -1


def _lock_of(file: Path) -> Path:
    return file.with_suffix(".lock")


def remove_journal(file: Path) -> None:
    """Remove a journal, whoever wrote it."""
    for f in (file, _lock_of(file)):
        with contextlib.suppress(OSError):
            f.unlink()


def _writer_is_alive(file: Path, entry: Entry) -> bool:
    """Whether the window that wrote a journal still runs."""
    lock = _lock_of(file)
    if os.path.exists(lock):
        try:
            handle = os.open(lock, os.O_RDWR | os.O_CLOEXEC)
        except OSError:
            return False
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return True
        except OSError:
            return False
        finally:
            os.close(handle)
        return False
    return bool(entry.pid) and _runs_since(entry.pid, entry.started)


def _runs_since(pid: int, started: float) -> bool:
    import psutil

    try:
        return bool(abs(psutil.Process(pid).create_time() - started) < 5.0)
    except (psutil.Error, ValueError, OverflowError):
        return False


def find_abandoned(folder: Path) -> tuple[list[Recovered], list[Path]]:
    """Journals whose window is gone, newest first; and those that are damaged, which are left alone."""
    found: list[Recovered] = []
    damaged: list[Path] = []
    for file in sorted(folder.glob("journal-*.json")) if os.path.isdir(folder) else []:
        try:
            if file.stat().st_size > MOST_JOURNAL:
                raise RigFileError("far too large")
            entry = msgspec.json.decode(file.read_bytes(), type=Entry)
            if _writer_is_alive(file, entry):
                continue
            rig = opened_from_plain(read_json(bytes(entry.rig), "the recovery journal"), "the recovery journal").rig
            found.append(Recovered(file, entry.name, text_to_path(entry.path), entry.written, rig))
        except FileNotFoundError:
            continue  # its window has just given it up
        except (OSError, ValueError, RecursionError, msgspec.MsgspecError):  # RigFileError is a ValueError
            damaged.append(file)
    return sorted(found, key=lambda r: -r.written), damaged
