"""References of a rig that lead nowhere: what is held against a file that is opened, and against an edit.

The door (`rig/door.py`) sees one entry at a time; whether a fixture's mode is there is a matter of two. A file with a
reference that is needed and leads nowhere is refused, so an edit that makes one must be refused as well, or a rig could
be saved that cannot be opened. An edit is refused too when it takes something out and leaves anything that refers to
it. After an edit only what it touched is looked at, and who used what it took away. Which field refers to what stands
in `rig/reference_table.py`.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Any

from welvo.rig.base import Refused
from welvo.rig.document import Change, Rig
from welvo.rig.edits import check_feed
from welvo.rig.notation import read_ip
from welvo.rig.reference_table import BY_PART, entries_of, leads_somewhere, references_of


def broken_references(rig: Rig) -> list[str]:
    """References that are needed and lead nowhere, and values no wire can carry, in words."""
    found = [words for part in BY_PART for words in _needing_entries(rig, part, None)]
    return (
        found
        + _broken_modes(rig, rig.fixtures)
        + _broken_universes(rig)
        + _impossible_values(rig, rig.feeds, rig.devices)
    )


def broken_by(before: Rig, rig: Rig, change: Change) -> list[str]:
    """The same, as far as an edit can have broken it; and what else refers to something that it took out."""
    gone = {part: {k for k in ids if k in getattr(before, part, ()) and k not in getattr(rig, part)}
            for part, ids in change.touched.items() if part != "rig"}  # fmt: skip
    gone = {part: ids for part, ids in gone.items() if ids}
    found: list[str] = []
    for part, references in BY_PART.items():
        looked = any(r.is_needed and set(r.to) & gone.keys() for r in references)
        found += _needing_entries(rig, part, None if looked else change.changed_ids(part))
        if gone:
            found += _left_behind(rig, part, gone)
    lost_modes = any(
        pid in before.profiles
        and (pid not in rig.profiles or not before.profiles[pid].modes.keys() <= rig.profiles[pid].modes.keys())
        for pid in change.changed_ids("profiles")
    )
    found += _broken_modes(rig, rig.fixtures if lost_modes else change.changed_ids("fixtures"))
    if change.changed_ids("universes"):
        found += _broken_universes(rig)
    return found + _impossible_values(rig, change.changed_ids("feeds"), change.changed_ids("devices"))


def _needing_entries(rig: Rig, part: str, ids: Collection[str] | None) -> Iterator[str]:
    """Entries of a part whose needed references lead nowhere; with no ids those of all."""
    if not any(r.is_needed for r in BY_PART[part]):
        return
    every = entries_of(rig, part)
    for key, entry in every if ids is None else ((k, e) for k, e in every if k in ids):
        for reference, to in references_of(part, entry):
            if reference.is_needed and not leads_somewhere(rig, reference, to):
                yield f"{name_of_holder(part, key, entry)} {reference.words.format(to)}, which is not in the rig."


def _left_behind(rig: Rig, part: str, gone: dict[str, set[str]]) -> Iterator[str]:
    """Entries that refer to what was just taken out."""
    concerned = [r for r in BY_PART[part] if not r.is_needed and set(r.to) & gone.keys()]
    if not concerned:
        return
    ids = set().union(*(gone.get(p, set()) for r in concerned for p in r.to))
    for key, entry in entries_of(rig, part):
        if part == "fixtures" and not any(p.after for p in entry.at):
            continue  # nearly all of them, and there may be a hundred thousand
        for reference, to in references_of(part, entry):
            if to in ids and not reference.is_needed and not leads_somewhere(rig, reference, to):
                yield (
                    f"{name_of_holder(part, key, entry)} {reference.words.format(to)}, which is not in the rig any "
                    f"more."
                )


def name_of_holder(part: str, key: str, entry: Any) -> str:
    """Who holds a reference, as a refusal names it."""
    if part == "rig":
        return "The rig"
    words = "Show" if part == "uses" else part.rstrip("s").replace("_", " ").capitalize()
    if part == "fixtures":
        return f"{words} {entry.number} ({key})"
    name = getattr(entry, "name", "")
    return f"{words} {name} ({key})" if name else f"{words} {key}"


def _broken_modes(rig: Rig, ids: Collection[str]) -> list[str]:
    found: list[str] = []
    for fid in ids:
        f = rig.fixtures.get(fid)
        profile = rig.profiles.get(f.profile) if f else None
        if f and profile and f.mode not in profile.modes:
            found.append(f"Fixture {f.number} ({fid}) uses mode “{f.mode}”, which {profile.name} does not have.")
    return found


def _broken_universes(rig: Rig) -> list[str]:
    found: list[str] = []
    numbers: dict[int, str] = {}
    for uid, u in rig.universes.items():
        if u.number in numbers:
            found.append(f"Universes “{numbers[u.number]}” and “{uid}” both have number {u.number}.")
        numbers[u.number] = uid
    return found


def _impossible_values(rig: Rig, feeds: Collection[str], devices: Collection[str]) -> list[str]:
    """Values that no wire can carry."""
    found: list[str] = []
    for wid in feeds:
        if wid in rig.feeds:
            try:
                check_feed(rig.feeds[wid])
            except Refused as e:
                found.append(f"Feed {wid}: {e}")
    for device_id in devices:
        d = rig.devices.get(device_id)
        if d and d.ip:
            try:
                read_ip(d.ip)
            except Refused as e:
                found.append(f"Device {d.name} ({device_id}): {e}")
    return found
