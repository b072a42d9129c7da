"""Edits of modes of profiles, and of which mode a fixture stands in."""

from __future__ import annotations

from msgspec.structs import replace

from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig, join_changes, put_entries
from welvo.rig.edits import take_out, unpack_profile
from welvo.rig.lookup import mode_of, name_of_item
from welvo.rig.notation import say_count
from welvo.rig.patched import Fixture, Place
from welvo.rig.profile import Mode, Profile
from welvo.runs.edits import keep_locked


def with_mode(rig: Rig, pid: str, mid: str, mode: Mode, label: str) -> Edit:
    """Put a mode into a profile: a new one, or another in place of the old."""
    profile = rig.profiles[pid]
    return put_entries(rig, label, profiles={pid: replace(profile, modes={**profile.modes, mid: mode})})


def remove_mode(rig: Rig, pid: str, mid: str, into: str = "") -> Edit:
    """Take a mode out. Fixtures in it go over to mode `into`; without one a mode in use is refused."""
    profile = rig.profiles[pid]
    if len(profile.modes) == 1:
        raise Refused(f"“{profile.modes[mid].name}” is the only mode of {profile.name}.")
    users = [f for f in rig.fixtures if rig.fixtures[f].profile == pid and rig.fixtures[f].mode == mid]
    if users and (into == mid or into not in profile.modes):
        raise Refused(
            f"{say_count(len(users), 'fixture')} stand in mode “{profile.modes[mid].name}”. Say which mode they go "
            "over to."
        )
    modes = {k: m for k, m in profile.modes.items() if k != mid}
    fixtures = {f: in_mode(rig, f, pid, into) for f in users}
    return put_entries(
        rig, f"remove mode {profile.modes[mid].name}", profiles={pid: replace(profile, modes=modes)}, fixtures=fixtures
    )


def order_modes(rig: Rig, pid: str, order: list[str]) -> Edit:
    profile = rig.profiles[pid]
    modes = {k: profile.modes[k] for k in (*order, *profile.modes) if k in profile.modes}
    return put_entries(rig, f"order the modes of {profile.name}", profiles={pid: replace(profile, modes=modes)})


def in_mode(rig: Rig, fixture: str, pid: str, mid: str) -> Fixture:
    """A fixture in another mode or profile: breaks of the same name keep their place, others by their turn."""
    f = rig.fixtures[fixture]
    old, new = mode_of(rig, f), rig.profiles[pid].modes[mid]
    names = {b.name: n for n, b in enumerate(old.breaks) if b.name} if old else {}
    places = tuple(
        f.place_of_break(names.get(b.name, n)) if b.name in names or not names else f.place_of_break(n)
        for n, b in enumerate(new.breaks)
    )
    return replace(f, profile=pid, mode=mid, at=places if any(p != Place() for p in places) else ())


def change_mode(rig: Rig, fixtures: list[str], pid: str, mid: str) -> Edit:
    """Put fixtures into another mode (of any profile)."""
    who = name_of_item(rig, fixtures[0]) if len(fixtures) == 1 else say_count(len(fixtures), "fixture")
    label = f"put {who} into {rig.profiles[pid].modes[mid].name}"
    return keep_locked(rig, put_entries(rig, label, fixtures={f: in_mode(rig, f, pid, mid) for f in fixtures}))


def revise_profile(rig: Rig, pid: str, new: Profile, move: bool) -> Edit:
    """Bring a newer revision in beside the one in use; `move` brings all fixtures over to it in the same act.

    Modes are matched by name, then by turn. The older one stays in the rig while anything uses it.
    """
    from welvo.rig.document import fresh_id

    old = rig.profiles[pid]
    nid = fresh_id(rig.profiles, "p")
    new, pictures = unpack_profile(rig, new)
    fresh = replace(
        new,
        tint=old.tint,
        code=old.code if not any(p.code == old.code for k, p in rig.profiles.items() if k != pid) else new.code,
        revises="" if move else pid,
    )
    label = f"revise {old.name}"
    made, change = put_entries(rig, label, profiles={nid: fresh}, pictures=pictures)
    if move:
        fixtures = {
            f: in_mode(made, f, nid, matching_mode(old, v.mode, new))
            for f, v in rig.fixtures.items()
            if v.profile == pid
        }
        made, moved = put_entries(made, label, fixtures=fixtures)
        made, gone = take_out(made, label, "profiles", [pid])
        change = join_changes(label, change, moved, gone)
    return made, Change(label, change.touched, (nid,))


def matching_mode(old: Profile, mid: str, new: Profile) -> str:
    """The mode of a newer revision that answers to one of the older."""
    if mid in old.modes:
        named = next((k for k, m in new.modes.items() if m.name == old.modes[mid].name), "")
        turn = list(old.modes).index(mid)
        return named or list(new.modes)[min(turn, len(new.modes) - 1)]
    return next(iter(new.modes))
