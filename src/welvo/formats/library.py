"""Profiles to take from: generics that ship with Welvo, and the user's own folder (`.gdtf` and Welvo's own `.json`)."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Iterable
from functools import cache
from importlib.resources import files
from pathlib import Path

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from welvo.formats.chart import read_chart
from welvo.formats.files import RigFileError, read_bytes, read_text_file, shown_name, write_atomic
from welvo.formats.plain import read_json
from welvo.formats.unknown import gather_unknown, to_plain
from welvo.rig.attributes import word_for
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.door import check_whole_value
from welvo.rig.edits import pack_profile
from welvo.rig.layout import spots_of
from welvo.rig.modes import compare_modes
from welvo.rig.profile import CARRIED_PICTURES, Arrangement, Mode, Profile

MOST_JSON = 32 * 2**20


class Book(Struct, frozen=True):
    """One profile of the library. `where` is `built in`, `your folder` or `this rig`; `source` tells it from others."""

    source: str
    where: str
    profile: Profile
    file: Path | None = None

    @property
    def searched_words(self) -> str:
        """What a search looks in: maker, name, footprints, functions, notes."""
        p = self.profile
        functions = {word_for(c.function, c.name) for m in p.modes.values() for c in m.channels}
        prints = " ".join(f"{m.slots_needed} {m.slots_needed}ch {m.name}" for m in p.modes.values())
        return " ".join([p.maker, p.name, prints, *sorted(functions), p.notes, self.where]).lower()


@cache
def generic_books() -> tuple[Book, ...]:
    """The built-in profiles."""
    raw = tomllib.loads((files("welvo") / "data" / "library.toml").read_text("utf-8"))
    return tuple(Book(f"library:{key}", "built in", _make_generic(key, entry)) for key, entry in raw.items())


def _make_generic(key: str, entry: dict[str, object]) -> Profile:
    modes: dict[str, Mode] = {}
    charts = entry["modes"]
    assert isinstance(charts, dict)
    for n, (name, chart) in enumerate(charts.items(), 1):
        mode = read_chart(str(chart)).mode_of_chart(name)
        face = face_of(str(entry.get("face", "")), mode.count_pixels)
        if face and mode.count_pixels:
            mode = replace(mode, arrangement=face, spots=spots_of(face, mode.count_pixels))
        modes[f"m{n}"] = mode
    return Profile(
        name=str(entry["name"]),
        maker="Generic",
        notes=str(entry.get("about", "")),
        revision="1",
        source=f"library:{key}",
        modes=modes,
    )


def face_of(words: str, pixels: int) -> Arrangement | None:
    """`rows 2`, `rings 16 8`, `line` as an arrangement for a number of pixels."""
    kind, *numbers = words.split()[:1] + [int(n) for n in re.findall(r"\d+", words)] if words else [""]
    if kind == "line":
        return Arrangement(kind="line", columns=max(1, pixels))
    if kind == "rows" and numbers:
        count = int(numbers[0])
        return Arrangement(rows=count, columns=max(1, -(-pixels // count)))
    if kind == "rings" and numbers:
        return Arrangement(kind="rings", rings=tuple(int(n) for n in numbers))
    return None


def find_generic(name: str) -> Profile | None:
    """The built-in profile of a name, however it is written."""
    wanted = name.strip().lower()
    return next(
        (b.profile for b in generic_books() if wanted in (b.profile.name.lower(), f"generic {b.profile.name}".lower())),
        None,
    )


# ---- the user's own folder


def read_profile(path: Path) -> Profile:
    """A profile from a file of the user's folder: `.gdtf`, or Welvo's own `.json`. Raises RigFileError."""
    if path.suffix.lower() == ".gdtf":
        from welvo.formats.gdtf import read_gdtf  # its XML library is loaded when there is XML to read

        return read_gdtf(path).profile
    data = read_bytes(path, MOST_JSON, "a profile")
    return profile_from_plain(read_json(data, shown_name(path)), shown_name(path))


def open_any(path: Path) -> tuple[Profile, list[str]]:
    """A profile from `.gdtf`, `.json`, `.csv` (a channel table) or `.txt` (a chart), and every doubt in words."""
    kind = path.suffix.lower()
    if kind == ".gdtf":
        from welvo.formats.gdtf import read_gdtf

        imported = read_gdtf(path)
        return imported.profile, [f"{d.where}: {d.message}" for d in imported.doubts]
    if kind not in (".csv", ".txt", ".tsv"):
        return read_profile(path), []
    text = read_text_file(path, 4 * 2**20, "a channel table")
    if kind == ".csv":
        from welvo.formats.channel_csv import read_csv

        mode, problems = read_csv(text, "mode 1")
    else:
        chart = read_chart(text)
        mode, problems = chart.mode_of_chart("mode 1"), [f"line {p.line + 1}: {p.message}" for p in chart.problems]
    return check_profile(Profile(name=Path(shown_name(path)).stem, modes={"m1": mode}), shown_name(path)), problems


def check_profile(profile: Profile, name: str) -> Profile:
    """A profile that was made of what a file says, held against its types. Raises RigFileError."""
    try:
        check_whole_value(profile)
    except Refused as e:
        raise RigFileError(f"{name} says what no lamp can have. {e}") from e
    return profile


def profile_from_plain(raw: object, name: str = "the file") -> Profile:
    if not isinstance(raw, dict) or "modes" not in raw:
        raise RigFileError(f"{name} holds no profile: it must be an object with modes.")
    try:
        return msgspec.convert(gather_unknown({k: v for k, v in raw.items() if k != "welvo_profile"}, Profile), Profile)
    except (msgspec.ValidationError, RecursionError, TypeError, AttributeError) as e:
        raise RigFileError(f"{name}: {e}.") from e


def profile_json(profile: Profile) -> bytes:
    """A profile as indented JSON, without what belongs to a rig (tint, what it revises); its pictures go along."""
    pictures = {k: v for k, v in profile.kept.items() if k.startswith(CARRIED_PICTURES)}
    plain = to_plain(replace(profile, tint=0, revises="", kept=pictures))
    return msgspec.json.format(msgspec.json.encode({"welvo_profile": 1, **plain}), indent=1)


def save_profile(folder: Path, profile: Profile) -> Path:
    """Put a profile into the user's folder, under its maker and name; an older one of that name is kept as `NAME~`."""
    stem = re.sub(r"[^\w \-.]+", "", f"{profile.maker} {profile.name}".strip()).strip(" .") or "profile"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise RigFileError(f"The library folder cannot be made: {e.strerror or e}.") from e
    path = folder / f"{stem}.json"
    write_atomic(path, profile_json(replace(profile, source=f"folder:{stem}")), keep=True)
    return path


def own_books(folder: Path) -> tuple[list[Book], list[str]]:
    """The profiles of the user's folder, and what is wrong with those that could not be read."""
    found, problems = [], []
    for path in sorted(folder.iterdir()) if os.path.isdir(folder) else []:
        if path.suffix.lower() in (".gdtf", ".json") and not path.name.startswith("."):
            try:
                p = read_profile(path)
            except RigFileError as e:
                problems.append(str(e))
                continue
            source = f"folder:{path.stem}"
            found.append(
                Book(
                    source, "your folder", replace(p, source=p.source if p.source.startswith("gdtf:") else source), path
                )
            )
    return found, problems


def rig_books(rig: Rig) -> list[Book]:
    return [Book(f"rig:{pid}", "this rig", pack_profile(rig, p)) for pid, p in rig.profiles.items()]


def search_books(books: Iterable[Book], text: str) -> list[Book]:
    """Books that have every word of a text: maker, name, footprint (`44`, `44ch`), function; best match first."""
    words = text.lower().split()

    def rank(b: Book) -> tuple[int, str]:
        name = f"{b.profile.maker} {b.profile.name}".lower()
        return (0 if words and name.startswith(words[0]) else 1 if all(w in name for w in words) else 2, name)

    return sorted((b for b in books if all(w in b.searched_words for w in words)), key=rank)


def newest_revisions(books: Iterable[Book]) -> dict[str, str]:
    """Revision of each library profile by its source, for the finding about newer revisions."""
    return {b.source: b.profile.revision for b in books if b.where != "this rig"}


def list_revision_differences(old: Profile, new: Profile) -> list[str]:
    """What differs between two revisions, mode by mode, in words."""
    found = []
    for what, was, now in (
        ("maker", old.maker, new.maker),
        ("name", old.name, new.name),
        ("notes", old.notes, new.notes),
    ):
        if was != now:
            found.append(f"{what}: {was or '–'} → {now or '–'}")
    before, after = {m.name: m for m in old.modes.values()}, {m.name: m for m in new.modes.values()}
    for name in dict.fromkeys((*before, *after)):
        if name not in after:
            found.append(f"mode {name}: gone")
        elif name not in before:
            found.append(f"mode {name}: new, {after[name].slots_needed} slots")
        else:
            a, b = before[name], after[name]
            if a.slots_needed != b.slots_needed:
                found.append(f"mode {name}: {a.slots_needed} → {b.slots_needed} slots")
            found += [
                f"mode {name}, {r.word}: slot {r.left} → {r.right}"
                if r.left != r.right
                else f"mode {name}, {r.word}: other values"
                for r in compare_modes(a, b)
                if not r.same
            ]
            if a.spots != b.spots:
                found.append(f"mode {name}: pixels sit otherwise")
    return found
