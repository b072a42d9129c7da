"""Files on disk: read within bounds, written whole or not at all, and told apart from what somebody else put there.

A crew saves on sticks, over shared folders and through links. So a file is written beside the real target, never
through a hard link alone (FAT has none), its owner and mode are kept where the system allows it, and what a killed
program left half written is swept away by the next saving.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import shutil
import stat
import tempfile
from pathlib import Path
from urllib.parse import unquote_to_bytes

from msgspec import Struct

from welvo.rig.base import Refused
from welvo.rig.steps import last_step

OLD_PART = 24 * 3600
"""Seconds after which a half written file is swept whoever wrote it."""


class RigFileError(Refused):
    """A file that cannot be opened or written; the message says what, why and what to do."""


class ChangedOnDisk(RigFileError):
    """The file is not the one that was opened: another program, or another window, wrote or removed it."""


# ---- reading


def read_bytes(path: Path, most: int, what: str) -> bytes:
    """All of a file that must not be larger than `most` bytes. Raises RigFileError with the reason.

    Pipes, sockets and devices are refused before anything waits for them.
    """
    name = shown_name(path)
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except (OSError, ValueError) as e:
        raise RigFileError(f"{name} cannot be read: {getattr(e, 'strerror', '') or e}.") from e
    try:
        found = os.fstat(handle)
        if stat.S_ISDIR(found.st_mode):
            raise RigFileError(f"{name} is a folder, not {what}.")
        if not stat.S_ISREG(found.st_mode):
            raise RigFileError(f"{name} is no ordinary file, so it is not {what}.")
        if found.st_size > most:
            size = found.st_size >> 20
            raise RigFileError(f"{name} is {size} MiB large; {what} is never above {most >> 20} MiB.")
        with os.fdopen(handle, "rb", closefd=False) as f:
            data = f.read(most + 1)
    except OSError as e:
        raise RigFileError(f"{name} cannot be read: {e.strerror or e}.") from e
    finally:
        os.close(handle)
    if len(data) > most:
        raise RigFileError(f"{name} grows while it is read; {what} is never above {most >> 20} MiB.")
    return data


def read_text_file(path: Path, most: int, what: str) -> str:
    """All of a text file in UTF-8, within bounds. Raises RigFileError."""
    try:
        return read_bytes(path, most, what).decode("utf-8").removeprefix("\ufeff")
    except UnicodeDecodeError as e:
        raise RigFileError(f"{shown_name(path)} is no text in UTF-8.") from e


def shown_name(path: Path) -> str:
    """A file's name as it can be shown: what is no UTF-8 in it becomes a mark."""
    return os.fsencode(path.name or path).decode("utf-8", "replace")


def path_to_text(path: Path | None) -> str:
    """A path as text that any file can hold; a name that is no UTF-8 becomes a `file:` address."""
    if path is None:
        return ""
    try:
        str(path).encode("utf-8")
    except UnicodeEncodeError:
        return Path(os.path.abspath(path)).as_uri()
    return str(path)


def text_to_path(text: str) -> Path | None:
    if not text:
        return None
    if text.startswith("file:///"):
        return Path(os.fsdecode(unquote_to_bytes(text[7:])))
    return Path(text)


# ---- telling files apart


class Stamp(Struct, frozen=True):
    """What a file was when it was read or written: enough to see that it is another one now."""

    size: int
    changed: int
    inode: int
    digest: bytes


def stamp_of(path: Path, data: bytes) -> Stamp | None:
    """The stamp of a file whose content is `data`; None when it cannot be looked at."""
    try:
        found = os.stat(path)
    except OSError:
        return None
    return Stamp(found.st_size, found.st_mtime_ns, found.st_ino, hashlib.sha256(data).digest())


def check_unchanged(path: Path, expected: Stamp) -> None:
    """Raises ChangedOnDisk when the file is gone or holds something else than it did."""
    name = shown_name(path)
    try:
        found = os.stat(path)
    except FileNotFoundError as e:
        raise ChangedOnDisk(f"{name} is no longer there: it was moved or removed since it was opened.") from e
    except OSError:
        return  # it cannot be looked at; writing will say why
    if (found.st_size, found.st_mtime_ns, found.st_ino) == (expected.size, expected.changed, expected.inode):
        return
    if found.st_size == expected.size:
        with contextlib.suppress(OSError), open(path, "rb") as f:
            if hashlib.file_digest(f, "sha256").digest() == expected.digest:
                return
    raise ChangedOnDisk(f"{name} was changed by another program or window since it was opened.")


# ---- writing


def free_name(path: Path) -> Path:
    """A name beside a file that nothing has yet: `hall 2.welvo`."""
    n = 2
    while os.path.exists(made := path.with_name(f"{path.stem} {n}{path.suffix}")):
        n += 1
    return made


def backup_of(path: Path) -> Path:
    """Where the former content of a file is kept: beside the file itself, also when `path` is a link to it.

    In a git repository it lies in the repository's own folder, where nobody commits it by mistake.
    """
    target = Path(os.path.realpath(path))
    name = target.name + "~"
    for folder in target.parents:
        # by os.path: what Path asks raises where a share has gone, and then there is no repository to be found either
        if os.path.isdir(own := folder / ".git") and os.path.isfile(own / "HEAD"):
            inside = str(target.parent.relative_to(folder)).replace(os.sep, "__")
            return own / "welvo" / (name if inside == "." else f"{inside}__{name}")
    return target.with_name(name)


def backup_words(path: Path) -> str:
    """The backup of a file as it is told: its name, with the folder where it does not lie beside the file."""
    backup = backup_of(path)
    return shown_name(backup) if backup.parent == Path(os.path.realpath(path)).parent else str(backup)


def write_atomic(path: Path, data: bytes, keep: bool = False, flush: bool = True) -> None:
    """Write a file whole or not at all. `keep` leaves the previous one as `NAME~`; `flush` waits for the disk.

    A link stays a link, and its target is written. Raises RigFileError; then the file at `path` is still the former.
    """
    last_step()
    target = Path(os.path.realpath(path))
    temporary = ""
    try:
        if target.exists() and not target.is_file():
            raise OSError(0, "it is no ordinary file")
        sweep_leftovers(target)
        handle, temporary = tempfile.mkstemp(prefix=_stem_of_parts(target) + f"{os.getpid()}.", dir=target.parent)
        with os.fdopen(handle, "wb") as f:
            f.write(data)
            f.flush()
            if flush:
                os.fsync(f.fileno())
        _take_over_rights(target, temporary)
        if keep and target.exists():
            backup = backup_of(target)
            if backup.parent != target.parent:
                backup.parent.mkdir(exist_ok=True)
            _keep_former(target, backup, temporary + "~", flush)
        os.replace(temporary, target)
        temporary = ""
        if flush:
            _flush_folder(target.parent)
    except OSError as e:
        raise RigFileError(
            f"{shown_name(path)} could not be written: {e.strerror or e}. Nothing was lost: save it somewhere else."
        ) from e
    finally:
        for left in (temporary, temporary + "~") if temporary else ():
            with contextlib.suppress(OSError):
                os.unlink(left)


def _stem_of_parts(target: Path) -> str:
    """How the names of half written files begin; a long name is cut, so that there is room for the rest."""
    name = os.fsencode(target.name)
    short = name if len(name) < 180 else name[:120] + hashlib.sha256(name).hexdigest()[:16].encode()
    return f".{os.fsdecode(short)}.part-"


def sweep_leftovers(target: Path) -> None:
    """Remove what programs that were killed while saving left beside a file."""
    stem = _stem_of_parts(target)
    with contextlib.suppress(OSError), os.scandir(target.parent) as entries:
        for entry in entries:
            if not entry.name.startswith(stem):
                continue
            writer = entry.name[len(stem) :].split(".")[0]
            with contextlib.suppress(OSError):
                old = entry.stat().st_mtime + OLD_PART < os.stat(target.parent).st_mtime
                if old or (writer.isdigit() and not _process_runs(int(writer))):
                    os.unlink(entry.path)


def _process_runs(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True
    return True


def _take_over_rights(target: Path, temporary: str) -> None:
    """Mode, owner and group of the former file, as far as the system and the medium allow it."""
    try:
        former = os.stat(target)
    except OSError:
        mask = os.umask(0)
        os.umask(mask)
        with contextlib.suppress(OSError):
            os.chmod(temporary, 0o666 & ~mask)
        return
    now = os.stat(temporary)
    if former.st_uid != now.st_uid:
        with contextlib.suppress(OSError):
            os.chown(temporary, former.st_uid, -1)
    if former.st_gid != now.st_gid:
        with contextlib.suppress(OSError):
            os.chown(temporary, -1, former.st_gid)
    with contextlib.suppress(OSError):
        os.chmod(temporary, stat.S_IMODE(former.st_mode))


def _keep_former(target: Path, backup: Path, spare: str, flush: bool) -> None:
    """Leave the present file as the backup too: as a second name of it, else as a copy, else by moving it there.

    FAT and exFAT have no second names, and a full stick has no room for a copy.
    """
    try:
        os.link(target, spare)
    except OSError:
        try:
            with open(target, "rb") as source, open(spare, "wb") as copy:
                shutil.copyfileobj(source, copy)
                copy.flush()
                if flush:
                    os.fsync(copy.fileno())
            with contextlib.suppress(OSError):
                shutil.copystat(target, spare)
        except OSError:
            with contextlib.suppress(OSError):
                os.unlink(spare)
            os.replace(target, backup)  # for a moment only the backup is there; the new file follows at once
            return
    os.replace(spare, backup)
    with contextlib.suppress(FileNotFoundError):
        os.unlink(spare)  # where both were names of one file already (a save killed right here), replacing does nothing


def _flush_folder(folder: Path) -> None:
    """Have the new name written to the disk as well; some media cannot, and have it all the same."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
