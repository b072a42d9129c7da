"""Versions inside a rig: packed when one is named, opened again through every migration that came since."""

from __future__ import annotations

import zlib

from msgspec.structs import replace

from welvo.formats.files import RigFileError
from welvo.formats.plain import read_json
from welvo.formats.rigfile import from_plain, to_json
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig, fresh_id, put_entries
from welvo.rig.notation import natural_sort_key
from welvo.rig.versions import Version

MOST = 256 * 2**20


def pack_version(rig: Rig) -> bytes:
    """A rig without its versions, scenes and pictures' data, small enough to keep many of them."""
    return zlib.compress(to_json(replace(rig, versions={}, scenes={}), pictures=False), 6)


def unpack_version(version: Version, of: Rig | None = None) -> Rig:
    """The rig of a version. Pictures and scenes that the rig still has are put back into it. Raises RigFileError."""
    name = f"version “{version.name}”"
    try:
        opener = zlib.decompressobj()
        text = opener.decompress(version.data, MOST)
    except zlib.error as e:
        raise RigFileError(f"{name} is damaged and cannot be opened: {e}.") from e
    if opener.unconsumed_tail or not opener.eof:
        raise RigFileError(f"{name} is damaged, or larger than any rig.")
    made = from_plain(read_json(text, name), name)
    if of is None:
        return made
    pictures = {k: replace(p, data=of.pictures[k].data if k in of.pictures else b"") for k, p in made.pictures.items()}
    profiles = {k: replace(p, kept=of.profiles[k].kept) if k in of.profiles else p for k, p in made.profiles.items()}
    return replace(made, pictures=pictures, profiles=profiles, scenes=of.scenes)


def in_time(rig: Rig) -> list[str]:
    """Ids of the versions, the oldest first."""
    return sorted(rig.versions, key=lambda v: (rig.versions[v].at, natural_sort_key(rig.versions[v].name)))


def latest_version(rig: Rig) -> Version | None:
    order = in_time(rig)
    return rig.versions[order[-1]] if order else None


def next_version_name(rig: Rig) -> str:
    """`Issue 1`, or one more than the highest there is."""
    numbers = [int(v.name[6:]) for v in rig.versions.values() if v.name.startswith("Issue ") and v.name[6:].isdecimal()]
    return f"Issue {max(numbers, default=0) + 1}"


def name_version(rig: Rig, name: str, who: str, note: str, now: float) -> Edit:
    """Keep the rig as it is under a name. Raises Refused for a name that is empty or taken."""
    words = name.strip()
    if not words:
        raise Refused("A version needs a name, such as Issue 2.")
    if any(v.name.lower() == words.lower() for v in rig.versions.values()):
        raise Refused(f"There is a version “{words}” already.")
    made = Version(name=words, at=max(0.0, now), who=who, note=note.strip(), data=pack_version(rig))
    key = fresh_id(rig.versions, "v")
    return put_entries(rig, f"name version {words}", versions={key: made}, made=(key,))


def drop_version(rig: Rig, key: str) -> Edit:
    return put_entries(rig, f"drop version {rig.versions[key].name}", versions={key: None})
