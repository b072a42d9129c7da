"""The one door for ZIP archives: rigs, fixture types and scenes. Nothing is unpacked before its bounds are known.

A few kilobytes can unpack to gigabytes, an entry can lie about its size or point outside, and some compressions of ZIP
need memory that no limit here would hold. So everything is refused by what the archive says of itself first, and held
to it while it is unpacked.
"""

from __future__ import annotations

import io
import zipfile
import zlib
from collections.abc import Callable, Collection, Iterable

from msgspec import Struct

from welvo.formats.files import RigFileError

_FAULTS = (
    zipfile.BadZipFile,
    zipfile.LargeZipFile,
    EOFError,
    NotImplementedError,
    RuntimeError,
    OSError,
    ValueError,
    OverflowError,
    zlib.error,
)
"""What Python raises while it reads a ZIP that is damaged, encrypted or made to mislead."""
_COMPRESSIONS = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)


class ArchiveBounds(Struct, frozen=True):
    """What an archive may hold: `what` names it, sizes in bytes; `texts` bounds entries that are parsed."""

    what: str
    whole: int
    texts: int
    entries: int
    is_text: Callable[[str], bool]


def is_zip(data: bytes) -> bool:
    return data[:2] == b"PK"


NO_TIME = (1980, 1, 1, 0, 0, 0)
"""The time of every entry that is written: none, so that the same content gives the same bytes whenever it is."""


def pack_archive(entries: Iterable[tuple[str, bytes]], level: int | None = None, stored: Collection[str] = ()) -> bytes:
    """An archive of entries in their order; those that are `stored` are not compressed."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries:
            entry = zipfile.ZipInfo(name, NO_TIME)
            entry.compress_type = zipfile.ZIP_STORED if name in stored else zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            archive.writestr(entry, data, compresslevel=level)
    return buffer.getvalue()


def holds_entry(data: bytes, name: str) -> bool:
    """Whether bytes are an archive that lists an entry of that name."""
    try:
        return is_zip(data) and name in zipfile.ZipFile(io.BytesIO(data)).namelist()
    except (zipfile.BadZipFile, ValueError, OSError, NotImplementedError):
        return False


def unpack_archive(
    data: bytes, name: str, bounds: ArchiveBounds, damaged: str, wanted: Callable[[str], bool]
) -> dict[str, bytes]:
    """The wanted entries of an archive by name, with `/` between folders. Raises RigFileError in one sentence.

    `damaged` is said of an archive that cannot be read; it may name the backup.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = [e for e in archive.infolist() if not e.is_dir()]
            if len(entries) > bounds.entries or sum(e.file_size for e in entries) > bounds.whole:
                raise RigFileError(f"{name} unpacks to more than {bounds.what} can hold, and was not opened.")
            found: dict[str, bytes] = {}
            for e in entries:
                inside = e.filename.replace("\\", "/")
                _check_entry(e, inside, name, bounds)
                if inside in found:
                    raise RigFileError(f"{name} holds “{inside}” twice; refused.")
                if wanted(inside):
                    found[inside] = _read_entry(archive, e, name)
            return found
    except RigFileError:
        raise  # it is a ValueError itself, and says more than that something is damaged
    except _FAULTS as e:
        raise RigFileError(f"{name} {damaged.format(why=str(e)[:120] or type(e).__name__)}") from e


def _check_entry(e: zipfile.ZipInfo, inside: str, name: str, bounds: ArchiveBounds) -> None:
    if inside.startswith("/") or ".." in inside.split("/") or (len(inside) > 1 and inside[1] == ":"):
        raise RigFileError(f"{name} holds an entry that points outside of it (“{e.filename}”); refused.")
    if e.flag_bits & 1:
        raise RigFileError(f"{name} holds an encrypted entry (“{inside}”); {bounds.what} is never encrypted.")
    if e.compress_type not in _COMPRESSIONS:
        raise RigFileError(f"{name} holds an entry packed in a way that {bounds.what} never is (“{inside}”); refused.")
    if bounds.is_text(inside) and e.file_size > bounds.texts:
        raise RigFileError(
            f"{name}: {inside} has {e.file_size >> 20} MiB; {bounds.what} never needs that much. Refused."
        )


def _read_entry(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, name: str) -> bytes:
    """One entry, never more than it announced: a lying header must not fill the memory."""
    try:
        with archive.open(entry) as f:
            data = f.read(entry.file_size + 1)
    except zlib.error as e:
        raise RigFileError(f"{name} is damaged: {entry.filename} cannot be unpacked.") from e
    if len(data) > entry.file_size:
        raise RigFileError(f"{name} holds an entry that is larger than it says; refused.")
    return data
