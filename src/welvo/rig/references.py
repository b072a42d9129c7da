"""References of a rig that lead nowhere: what is held against a file that is opened, and against an edit.

The door (`rig/door.py`) sees one entry at a time; whether a fixture's mode is there is a matter of two. A file with
such a reference is refused, so an edit that makes one must be refused as well, or a rig could be saved that cannot be
opened. After an edit only what it touched is looked at, and who used what it took away.
"""

from __future__ import annotations

from collections.abc import Collection
from typing import TypeVar

from welvo.rig.base import Refused
from welvo.rig.document import Change, Rig
from welvo.rig.edits import check_feed
from welvo.rig.notation import read_ip

Entry = TypeVar("Entry")


def broken(rig: Rig) -> list[str]:
    """References that lead nowhere and values no wire can carry, in words."""
    return (
        _fixtures(rig, rig.fixtures)
        + _elements(rig, rig.elements)
        + _universes(rig)
        + _feeds(rig, rig.feeds)
        + _devices(rig, rig.devices)
    )


def broken_by(before: Rig, rig: Rig, change: Change) -> list[str]:
    """The same, as far as an edit can have broken it."""

    def gone(part: str) -> bool:
        return any(k not in getattr(rig, part) for k in change.ids(part) if k in getattr(before, part))

    lost_modes = any(
        pid in before.profiles
        and (pid not in rig.profiles or not before.profiles[pid].modes.keys() <= rig.profiles[pid].modes.keys())
        for pid in change.ids("profiles")
    )
    no_universe = gone("universes")
    found = _fixtures(rig, rig.fixtures if lost_modes or no_universe else change.ids("fixtures"))
    found += _elements(rig, rig.elements if no_universe else change.ids("elements"))
    if change.ids("universes"):
        found += _universes(rig)
    found += _feeds(rig, rig.feeds if no_universe or gone("senders") else change.ids("feeds"))
    found += _devices(rig, rig.devices if gone("device_models") else change.ids("devices"))
    return found


def _there(entries: dict[str, Entry], ids: Collection[str]) -> list[tuple[str, Entry]]:
    """The entries of those ids that an edit did not take out."""
    return [(i, entries[i]) for i in ids if i in entries]


def _fixtures(rig: Rig, ids: Collection[str]) -> list[str]:
    found: list[str] = []
    for fid, f in _there(rig.fixtures, ids):
        profile = rig.profiles.get(f.profile)
        if profile is None:
            found.append(f"Fixture {f.number} ({fid}) uses profile “{f.profile}”, which is not in the rig.")
        elif f.mode not in profile.modes:
            found.append(f"Fixture {f.number} ({fid}) uses mode “{f.mode}”, which {profile.name} does not have.")
        for p in f.at:
            if p.universe and p.universe not in rig.universes:
                found.append(f"Fixture {f.number} ({fid}) stands in universe “{p.universe}”, which is not in the rig.")
    return found


def _elements(rig: Rig, ids: Collection[str]) -> list[str]:
    return [
        f"Element {e.name} ({eid}) stands in universe “{e.at.universe}”, which is not in the rig."
        for eid, e in _there(rig.elements, ids)
        if e.at.universe and e.at.universe not in rig.universes
    ]


def _universes(rig: Rig) -> list[str]:
    found: list[str] = []
    numbers: dict[int, str] = {}
    for uid, u in rig.universes.items():
        if u.number in numbers:
            found.append(f"Universes “{numbers[u.number]}” and “{uid}” both have number {u.number}.")
        numbers[u.number] = uid
    return found


def _feeds(rig: Rig, ids: Collection[str]) -> list[str]:
    found: list[str] = []
    for wid, w in _there(rig.feeds, ids):
        if w.universe not in rig.universes:
            found.append(f"Feed {wid} carries universe “{w.universe}”, which is not in the rig.")
        if w.sender not in rig.senders:
            found.append(f"Feed {wid} comes from sender “{w.sender}”, which is not in the rig.")
        try:
            check_feed(w)
        except Refused as e:
            found.append(f"Feed {wid}: {e}")
    return found


def _devices(rig: Rig, ids: Collection[str]) -> list[str]:
    found: list[str] = []
    for device_id, d in _there(rig.devices, ids):
        if d.model not in rig.device_models:
            found.append(f"Device {d.name} ({device_id}) is of model “{d.model}”, which is not in the rig.")
        if d.ip:
            try:
                read_ip(d.ip)
            except Refused as e:
                found.append(f"Device {d.name} ({device_id}): {e}")
    return found
