"""The rig file: a ZIP with readable, versioned JSON. The bare JSON is read wherever a `.welvo` is.

See docs/rig-format.md. What is written is read back before it takes the place of the former file, so that nothing is
ever saved that could not be opened; and what an older program wrote beyond today's limits is opened, mended and told.
"""

from __future__ import annotations

import io
import os
import re
import struct
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, cast, get_args, get_type_hints
from urllib.parse import quote, unquote

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from welvo.formats.archive import ArchiveBounds, is_zip, pack_archive, unpack_archive
from welvo.formats.files import (
    RigFileError,
    Stamp,
    backup_of,
    backup_words,
    check_unchanged,
    read_bytes,
    shown_name,
    stamp_of,
    sweep_leftovers,
    write_atomic,
)
from welvo.formats.mending import Mended, mend_values
from welvo.formats.migrate import migrate_rig
from welvo.formats.plain import Wild, read_json
from welvo.formats.schema import schema_of
from welvo.formats.unknown import gather_unknown, to_plain
from welvo.rig.document import FORMAT, PARTS, Rig
from welvo.rig.references import broken_references

RIG_ENTRY = "rig.json"
MOST_FILE = 256 * 2**20
BOUNDS = ArchiveBounds("a rig", 256 * 2**20, 64 * 2**20, 4096, lambda inside: inside == RIG_ENTRY)
OWN_ENTRIES = ("pictures", "versions", "scenes")
"""Parts of the rig whose `data` stands in entries of the ZIP of their own."""
MOST_ID = 400
"""Letters of an id; the names of a profile's kept files are held to the same."""
NAMES_QUOTED_SINCE = 6
"""From this format on, the names of the ZIP's entries hold ids in a form that no id can break."""


class Opened(Struct, frozen=True):
    """A rig from a file, what had to be mended in it, and how the file can be recognised later."""

    rig: Rig
    mended: tuple[str, ...] = ()
    mended_count: int = 0
    stamp: Stamp | None = None

    @property
    def words_of_mending(self) -> str:
        """What was mended, in one sentence; empty when nothing was."""
        if not self.mended:
            return ""
        more = f", and {self.mended_count - 3} more" if self.mended_count > 3 else ""
        return f"Values beyond their limits were mended: {'; '.join(self.mended[:3])}{more}."


# ---- reading


def load_rig_file(path: Path) -> Rig:
    """Open a `.welvo` or a bare JSON file. Raises RigFileError; the file itself is never changed."""
    return open_rig(path).rig


def open_rig(path: Path) -> Opened:
    """Open a file, mending what breaks a limit. Raises RigFileError; the file itself is never changed.

    Where a backup stands beside it that can be opened, the refusal says so.
    """
    try:
        data = read_bytes(path, MOST_FILE, "a rig")
        return replace(read_rig(data, shown_name(path)), stamp=stamp_of(path, data))
    except RigFileError as e:
        if _can_be_opened(backup_of(path)):
            raise RigFileError(f"{e} Its backup, {backup_words(path)}, can be opened.") from e
        raise


def _can_be_opened(path: Path) -> bool:
    try:
        read_rig(read_bytes(path, MOST_FILE, "a rig"))
    except RigFileError:
        return False
    return True


def rig_from_bytes(data: bytes, name: str = "the file") -> Rig:
    """A rig from the bytes of a `.welvo` or of bare JSON."""
    return read_rig(data, name).rig


def read_rig(data: bytes, name: str = "the file") -> Opened:
    entries: dict[str, bytes] = {}
    if is_zip(data):
        entries = unpack_archive(
            data,
            name,
            BOUNDS,
            "is damaged ({why}).",
            lambda inside: (
                inside == RIG_ENTRY or inside.startswith(tuple(f"{kind}/" for kind in (*OWN_ENTRIES, "kept")))
            ),
        )
        if RIG_ENTRY not in entries:
            raise RigFileError(f"{name} is a ZIP without {RIG_ENTRY}; it is no rig.")
        data = entries.pop(RIG_ENTRY)
    text = data.removeprefix(b"\xef\xbb\xbf").lstrip()
    if not text.startswith(b"{"):
        kind = "empty" if not text else "neither a .welvo file nor JSON"
        raise RigFileError(f"{name} is {kind}. Open a .welvo file, or a rig as JSON.")
    return opened_from_plain(read_json(text, name), name, entries)


def from_plain(raw: object, name: str = "the file", entries: dict[str, bytes] | None = None) -> Rig:
    """A rig from a decoded JSON object, as `opened_from_plain` gives it."""
    return opened_from_plain(raw, name, entries).rig


def opened_from_plain(raw: object, name: str = "the file", entries: dict[str, bytes] | None = None) -> Opened:
    """A rig from a decoded JSON object: older formats are migrated, unknown fields kept, limits mended, references
    checked."""
    if not isinstance(raw, dict):
        raise RigFileError(f"{name} holds no rig: the outermost item must be an object.")
    number = raw.get("format", FORMAT)
    if not isinstance(number, int) or isinstance(number, bool) or number < 1:
        raise RigFileError(f"{name}: “format” is {number!r}; it must be a number from 1 to {FORMAT}.")
    if number > FORMAT:
        raise RigFileError(
            f"{name} was written by a newer Welvo (format {number}; this one reads up to {FORMAT}). "
            "Update Welvo to open it. The file is unchanged."
        )
    _check_ids(raw, name)
    mended = Mended()
    try:
        gathered = gather_unknown(migrate_rig(raw), Rig)
        try:
            gathered = mend_values(gathered, Rig, mended) if isinstance(raw, Wild) else gathered
            rig = msgspec.convert(gathered, Rig)
        except msgspec.ValidationError:
            gathered = mend_values(gathered, Rig, mended)
            rig = msgspec.convert(gathered, Rig)
    except msgspec.ValidationError as e:
        raise RigFileError(f"{name}: {_plain_error(*_locate_error(cast(dict[str, object], gathered), str(e)))}") from e
    except RigFileError as e:  # a value that cannot be mended
        raise RigFileError(f"{name}: {e}") from e
    except (RecursionError, AttributeError, TypeError, KeyError, ValueError) as e:
        raise RigFileError(f"{name} does not have the shape of a rig ({e}).") from e
    if entries:
        rig = _with_files(rig, _by_id(entries, number >= NAMES_QUOTED_SINCE))
    problems = broken_references(rig)
    if problems:
        more = f" And {len(problems) - 3} more like it." if len(problems) > 3 else ""
        raise RigFileError(f"{name}: " + " ".join(problems[:3]) + more)
    return Opened(rig, tuple(mended.told), mended.count)


def _check_ids(raw: dict[str, object], name: str) -> None:
    """Ids stand in names of the archive's entries, which have an end."""
    for part in PARTS:
        entries = raw.get(part)
        for key in entries if isinstance(entries, dict) else ():
            if len(key) > MOST_ID:
                raise RigFileError(f"{name}: an id in {part} is {len(key)} letters long; {MOST_ID} are the most.")


def _by_id(entries: dict[str, bytes], quoted: bool) -> dict[tuple[str, ...], bytes]:
    """The ZIP's own entries by kind and ids: (`pictures`, id) and the like, and (`kept`, profile, name)."""
    found: dict[tuple[str, ...], bytes] = {}
    for name, data in entries.items():
        kind, _, rest = name.partition("/")
        if quoted:
            found[kind, *(unquote(part[1:]) for part in rest.split("/"))] = data
        else:
            found[(kind, *rest.split("/", 1)) if kind == "kept" else (kind, rest)] = data
    return found


def _entry_name(kind: str, *ids: str) -> str:
    """A name for an entry, from ids that are any text: blanks, slashes and dots included."""
    return "/".join([kind, *("=" + quote(i, safe="") for i in ids)])


def _with_files(rig: Rig, files: dict[tuple[str, ...], bytes]) -> Rig:
    """Put the ZIP's own entries back: pictures and the like, and files of imported fixture types."""
    parts = {
        part: {k: replace(v, data=files.get((part, k), v.data)) for k, v in getattr(rig, part).items()}
        for part in OWN_ENTRIES
    }
    kept: dict[str, dict[str, bytes]] = {}
    for ids, data in files.items():
        if ids[0] == "kept" and len(ids) == 3:
            kept.setdefault(ids[1], {})[ids[2]] = data
    profiles = {pid: replace(p, kept={**p.kept, **kept[pid]}) if pid in kept else p for pid, p in rig.profiles.items()}
    return replace(rig, profiles=profiles, **parts)


def _locate_error(raw: dict[str, object], error: str) -> tuple[str, str]:
    """The error again, with the id of the entry it is about: msgspec itself says only `[...]`."""
    hints = get_type_hints(Rig)
    for part in PARTS:
        entries = raw.get(part)
        for key, entry in entries.items() if isinstance(entries, dict) else ():
            try:
                msgspec.convert(entry, get_args(hints[part])[1])
            except msgspec.ValidationError as e:
                return str(e), f"{part}.{key}"
    return error, ""


def _plain_error(text: str, entry: str) -> str:
    """msgspec's words in ours: what was expected, what stands there, and where."""
    m = re.fullmatch(r"(.*?)(?: - at `(.*)`)?", text, re.DOTALL)
    what, where = (m[1], m[2] or "$") if m else (text, "$")
    for theirs, ours in (
        ("`str`", "text"),
        ("`int`", "a whole number"),
        ("`float`", "a number"),
        ("`array`", "a list"),
        ("`object`", "an object"),
    ):
        what = what.replace(theirs, ours)
    place = where.removeprefix("$").removeprefix(".")
    return f"at {'.'.join(p for p in (entry, place) if p) or 'the top'}: {what.replace('`', '“', 1).replace('`', '”')}."


# ---- writing


def to_json(rig: Rig, pictures: bool = True) -> bytes:
    """The rig as indented JSON. Without pictures their data, and kept files, are left to the ZIP's own entries."""
    value = rig
    if not pictures:
        bare = {k: replace(p, kept={}) if p.kept else p for k, p in rig.profiles.items()}
        parts = {part: {k: replace(v, data=b"") for k, v in getattr(rig, part).items()} for part in OWN_ENTRIES}
        value = replace(rig, profiles=bare, **parts)
    plain = to_plain(value)
    ordered = {"format": FORMAT, "name": rig.name, **{k: v for k, v in plain.items() if k not in ("format", "name")}}
    return msgspec.json.format(msgspec.json.encode(ordered), indent=1)


def rig_to_bytes(rig: Rig) -> bytes:
    """The bytes of a `.welvo` file. The same rig gives the same bytes whenever it is written."""
    return pack_archive(_entries_of_archive(rig), level=1)


def _entries_of_archive(rig: Rig) -> Iterator[tuple[str, bytes]]:
    """The files of the ZIP by name."""
    yield RIG_ENTRY, to_json(rig, pictures=False)
    for part in OWN_ENTRIES:
        for key, entry in getattr(rig, part).items():
            yield _entry_name(part, key), entry.data
    for pid, profile in rig.profiles.items():
        for name, data in profile.kept.items():
            yield _entry_name("kept", pid, name), data


def _bytes_on_disk(path: Path, data: bytes) -> bytes | None:
    """What stands at `path` where it is those very bytes, or a ZIP that unpacks to the same (another computer may pack
    otherwise); else None."""
    try:
        there = path.read_bytes() if os.path.isfile(path) and path.stat().st_size <= MOST_FILE else b""
        if there == data or (there and is_zip(there) and is_zip(data) and _unpack_rig(there) == _unpack_rig(data)):
            return there
    except (OSError, zipfile.BadZipFile, NotImplementedError, ValueError, zlib.error, RuntimeError, MemoryError):
        return None
    return None


def _unpack_rig(data: bytes) -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        if sum(e.file_size for e in archive.infolist()) > BOUNDS.whole:
            raise ValueError("it unpacks to too much")
        return {e.filename: archive.read(e) for e in archive.infolist()}


_NOT_WRITTEN = (
    ValueError,
    TypeError,
    RecursionError,
    OverflowError,
    zipfile.LargeZipFile,
    msgspec.MsgspecError,
    struct.error,
)
"""What a rig that no file can hold ends in while it is written."""


def bytes_of(rig: Rig, path: Path) -> bytes:
    """What is to be written for a rig, read back and found equal. Raises RigFileError when it would not open again."""
    name = shown_name(path)
    try:
        data = to_json(rig) if path.suffix == ".json" else rig_to_bytes(rig)
        again = rig_from_bytes(data, name)
    except RigFileError as e:
        raise RigFileError(f"{name} was not written, because it could not be opened again. {e}") from e
    except _NOT_WRITTEN as e:
        raise RigFileError(f"{name} was not written, because it could not be opened again: {e}.") from e
    if again != rig:
        parts = [p for p in (*PARTS, "name", "note", "columns") if getattr(again, p) != getattr(rig, p)]
        raise RigFileError(
            f"{name} was not written, because it would read as another rig ({', '.join(parts) or 'its own fields'})."
        )
    return data


def save_rig_file(rig: Rig, path: Path, expected: Stamp | None = None) -> Stamp | None:
    """Write a rig: read back, temporary file, fsync, rename. What stood there before becomes `NAME~`. A file that holds
    this very rig already is left as it is, to the byte.

    With `expected`, the file at `path` must still be that one. Gives the stamp of the new file. Raises ChangedOnDisk
    when it is not, and RigFileError for all else; then the file at `path` is still the previous one.
    """
    data = bytes_of(rig, path)
    if expected is not None:
        check_unchanged(path, expected)
    if (there := _bytes_on_disk(path, data)) is not None:
        sweep_leftovers(Path(os.path.realpath(path)))
        return stamp_of(path, there)
    write_atomic(path, data, keep=True)
    return stamp_of(path, data)


def rig_schema() -> dict[str, Any]:
    """The JSON Schema of a rig, made from the values themselves. It refuses keys that the program would only keep."""
    made = schema_of(Rig, f"urn:welvo:rig:format-{FORMAT}", f"Welvo rig, format {FORMAT}")
    made["$defs"]["Rig"]["properties"]["format"] = {
        "type": "integer",
        "minimum": 1,
        "maximum": FORMAT,
        "default": FORMAT,
    }
    return made
