"""The rig file: a ZIP with readable, versioned JSON. The bare JSON is read wherever a `.welvo` is.

See docs/rig-format.md. Writing is atomic and keeps the previous file as a backup.
"""

from __future__ import annotations

import io
import json
import os
import re
import tempfile
import zipfile
import zlib
from pathlib import Path
from typing import Any, get_args, get_type_hints

import msgspec
from msgspec.structs import replace

from welvo.formats.migrate import migrate
from welvo.formats.unknown import gather, to_plain
from welvo.rig.base import Refused
from welvo.rig.document import FORMAT, PARTS, Rig
from welvo.rig.edits import check_feed
from welvo.rig.notation import read_ip

RIG_ENTRY = "rig.json"
MOST_FILE = 256 * 2**20
MOST_OPEN = 512 * 2**20
MOST_ENTRIES = 4096


class RigFileError(Refused):
    """A file that cannot be opened or written; the message says what, why and what to do."""


# ---- reading


ZIP_FAULTS = (
    zipfile.BadZipFile,
    zipfile.LargeZipFile,
    EOFError,
    NotImplementedError,
    RuntimeError,
    OSError,
    ValueError,
    zlib.error,
)
"""What Python raises while it reads a ZIP that is damaged, encrypted or made to mislead."""


def load(path: Path) -> Rig:
    """Open a `.welvo` or a bare JSON file. Raises RigFileError; the file itself is never changed."""
    data = read_bytes(path, MOST_FILE, "a rig")
    return loads(data, path.name)


def read_bytes(path: Path, most: int, what: str) -> bytes:
    """All of a file that must not be larger than `most` bytes. Raises RigFileError with the reason."""
    try:
        size = path.stat().st_size
        if size > most:
            raise RigFileError(f"{path.name} is {size >> 20} MiB large; {what} is never above {most >> 20} MiB.")
        return path.read_bytes()
    except OSError as e:
        raise RigFileError(f"{path.name} cannot be read: {e.strerror or e}.") from e


def loads(data: bytes, name: str = "the file") -> Rig:
    """A rig from the bytes of a `.welvo` or of bare JSON."""
    pictures: dict[str, bytes] = {}
    if data[:2] == b"PK":
        data, pictures = _unzip(data, name)
    text = data.removeprefix(b"\xef\xbb\xbf").lstrip()
    if not text.startswith(b"{"):
        kind = "empty" if not text else "neither a .welvo file nor JSON"
        raise RigFileError(f"{name} is {kind}. Open a .welvo file, or a rig as JSON.")
    try:
        raw = msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError, ValueError) as e:
        raise RigFileError(f"{name} holds damaged JSON: {e}. The backup beside it (.welvo~) may be whole.") from e
    return from_plain(raw, name, pictures)


def from_plain(raw: Any, name: str = "the file", pictures: dict[str, bytes] | None = None) -> Rig:
    """A rig from a decoded JSON object: older formats are migrated, unknown fields kept, references checked."""
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
    try:
        gathered = gather(migrate(raw), Rig)
        rig = msgspec.convert(gathered, Rig)
    except msgspec.ValidationError as e:
        raise RigFileError(f"{name}: {_plain_error(*_locate(gathered, str(e)))}") from e
    except (RecursionError, AttributeError, TypeError, KeyError) as e:
        raise RigFileError(f"{name} does not have the shape of a rig ({e}).") from e
    if pictures:
        rig = _with_files(rig, pictures)
    problems = problems_of(rig)
    if problems:
        more = f" And {len(problems) - 3} more like it." if len(problems) > 3 else ""
        raise RigFileError(f"{name}: " + " ".join(problems[:3]) + more)
    return rig


def _with_files(rig: Rig, files: dict[str, bytes]) -> Rig:
    """Put the ZIP's own entries back: pictures, and files of imported fixture types."""
    shown = {k: replace(p, data=files.get(f"pictures/{k}", p.data)) for k, p in rig.pictures.items()}
    profiles = {}
    for pid, p in rig.profiles.items():
        mine = {name.split("/", 2)[2]: data for name, data in files.items() if name.startswith(f"kept/{pid}/")}
        profiles[pid] = replace(p, kept={**p.kept, **mine}) if mine else p
    return replace(rig, pictures=shown, profiles=profiles)


def _locate(raw: dict[str, Any], error: str) -> tuple[str, str]:
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


def _unzip(data: bytes, name: str) -> tuple[bytes, dict[str, bytes]]:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = archive.infolist()
            if len(entries) > MOST_ENTRIES or sum(e.file_size for e in entries) > MOST_OPEN:
                raise RigFileError(f"{name} unpacks to more than a rig can hold, and was not opened.")
            for e in entries:
                if e.filename.startswith(("/", "\\")) or ".." in e.filename.replace("\\", "/").split("/"):
                    raise RigFileError(f"{name} holds an entry that points outside of it (“{e.filename}”); refused.")
            if RIG_ENTRY not in archive.namelist():
                raise RigFileError(f"{name} is a ZIP without {RIG_ENTRY}; it is no rig.")
            pictures = {
                e.filename: _entry(archive, e, name) for e in entries if e.filename.startswith(("pictures/", "kept/"))
            }
            return _entry(archive, archive.getinfo(RIG_ENTRY), name), pictures
    except RigFileError:
        raise  # it is a ValueError itself, and says more than that something is damaged
    except ZIP_FAULTS as e:
        raise RigFileError(f"{name} is damaged ({e}). The backup beside it (.welvo~) may be whole.") from e


def _entry(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, name: str) -> bytes:
    """One entry, never more than it announced: a lying header must not fill the memory."""
    try:
        with archive.open(entry) as f:
            data = f.read(entry.file_size + 1)
    except zlib.error as e:
        raise RigFileError(f"{name} is damaged: {entry.filename} cannot be unpacked.") from e
    if len(data) > entry.file_size:
        raise RigFileError(f"{name} holds an entry that is larger than it says; refused.")
    return data


def problems_of(rig: Rig) -> list[str]:
    """References that lead nowhere and values no wire can carry, in words."""
    found: list[str] = []
    for fid, f in rig.fixtures.items():
        profile = rig.profiles.get(f.profile)
        if profile is None:
            found.append(f"Fixture {f.number} ({fid}) uses profile “{f.profile}”, which is not in the file.")
        elif f.mode not in profile.modes:
            found.append(f"Fixture {f.number} ({fid}) uses mode “{f.mode}”, which {profile.name} does not have.")
        for p in f.at:
            if p.universe and p.universe not in rig.universes:
                found.append(f"Fixture {f.number} ({fid}) stands in universe “{p.universe}”, which is not in the file.")
    for eid, e in rig.elements.items():
        if e.at.universe and e.at.universe not in rig.universes:
            found.append(f"Element {e.name} ({eid}) stands in universe “{e.at.universe}”, which is not in the file.")
    numbers: dict[int, str] = {}
    for uid, u in rig.universes.items():
        if u.number in numbers:
            found.append(f"Universes “{numbers[u.number]}” and “{uid}” both have number {u.number}.")
        numbers[u.number] = uid
    for wid, w in rig.feeds.items():
        if w.universe not in rig.universes:
            found.append(f"Feed {wid} carries universe “{w.universe}”, which is not in the file.")
        if w.sender not in rig.senders:
            found.append(f"Feed {wid} comes from sender “{w.sender}”, which is not in the file.")
        try:
            check_feed(w)
        except Refused as e:
            found.append(f"Feed {wid}: {e}")
    for device_id, d in rig.devices.items():
        if d.model not in rig.device_models:
            found.append(f"Device {d.name} ({device_id}) is of model “{d.model}”, which is not in the file.")
        if d.ip:
            try:
                read_ip(d.ip)
            except Refused as e:
                found.append(f"Device {d.name} ({device_id}): {e}")
    return found


# ---- writing


def to_json(rig: Rig, pictures: bool = True) -> bytes:
    """The rig as indented JSON. Without pictures their data, and kept files, are left to the ZIP's own entries."""
    value = rig
    if not pictures:
        bare = {k: replace(p, kept={}) if p.kept else p for k, p in rig.profiles.items()}
        value = replace(rig, pictures={k: replace(p, data=b"") for k, p in rig.pictures.items()}, profiles=bare)
    plain = to_plain(value)
    ordered = {"format": FORMAT, "name": rig.name, **{k: v for k, v in plain.items() if k not in ("format", "name")}}
    return msgspec.json.format(msgspec.json.encode(ordered), indent=1)


def dumps(rig: Rig) -> bytes:
    """The bytes of a `.welvo` file."""
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        archive.writestr(RIG_ENTRY, to_json(rig, pictures=False))
        for key, picture in rig.pictures.items():
            archive.writestr(f"pictures/{key}", picture.data)
        for pid, profile in rig.profiles.items():
            for name, data in profile.kept.items():
                archive.writestr(f"kept/{pid}/{name}", data)
    return buffer.getvalue()


def backup_of(path: Path) -> Path:
    return path.with_name(path.name + "~")


def save(rig: Rig, path: Path) -> None:
    """Write a rig: temporary file, fsync, rename. What stood there before becomes `NAME~`.

    Raises RigFileError; then the file at `path` is still the previous one.
    """
    data = to_json(rig) if path.suffix == ".json" else dumps(rig)
    write_atomic(path, data, keep=True)


def write_atomic(path: Path, data: bytes, keep: bool = False, flush: bool = True) -> None:
    """Write a file whole or not at all. `keep` leaves the previous one as `NAME~`; `flush` waits for the disk."""
    temporary = ""
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as f:
            f.write(data)
            f.flush()
            if flush:
                os.fsync(f.fileno())
        if keep and path.exists():
            spare = Path(temporary + "~")
            os.link(path, spare)
            os.replace(spare, backup_of(path))
            os.chmod(temporary, path.stat().st_mode & 0o777)
        else:
            mask = os.umask(0)
            os.umask(mask)
            os.chmod(temporary, 0o666 & ~mask)
        os.replace(temporary, path)
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as e:
        if temporary and os.path.exists(temporary):
            os.unlink(temporary)
        raise RigFileError(
            f"{path.name} could not be written: {e.strerror or e}. Nothing was lost: save it somewhere else."
        ) from e


def schema() -> dict[str, Any]:
    """The JSON Schema of a rig (draft 2020-12), made from the values themselves."""
    made = msgspec.json.schema(Rig)
    for definition in made.get("$defs", {}).values():
        definition.get("properties", {}).pop("extra", None)
    made["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    made["title"] = f"Welvo rig, format {FORMAT}"
    return json.loads(json.dumps(made))  # type: ignore[no-any-return]
