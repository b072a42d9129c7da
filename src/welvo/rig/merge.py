"""The work of two people on one rig, made one: three-way, field by field, from the version both began with.

What only one of them touched is taken from that one. What both touched, and left different, is a meeting: it is listed
with all three values and waits for a decision. Members of groups and columns are sets, so two people may each add some.
Entries that both added under one id are told apart by what the crew calls them, and the newer one moves to a free id.
At the end nothing may refer to what is gone: what one removed and the other still uses is brought back, and said.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from msgspec.structs import replace

from welvo.rig.base import Refused
from welvo.rig.diff import BESIDE, Touch, set_places, touches, value_at
from welvo.rig.document import PARTS, Change, Edit, Rig, fresh_id
from welvo.rig.references import broken
from welvo.rig.renaming import Names, with_ids
from welvo.rig.tested import TestRecord

Side = Literal["mine", "theirs"]
Where = tuple[str, str, tuple[str, ...]]
_SETS = {("groups", "members"), ("uses", "universes_off"), ("uses", "devices_off")}


@dataclass(frozen=True)
class Meeting:
    """A place that both changed, each to something else. An empty path is the entry as a whole: one removed it."""

    part: str
    id: str
    path: tuple[str, ...]
    base: Any
    mine: Any
    theirs: Any

    @property
    def place(self) -> Where:
        return self.part, self.id, self.path


@dataclass(frozen=True)
class Merged:
    """`rig` has everything that does not meet, and each meeting as it was decided: mine, where nothing was."""

    rig: Rig
    meetings: tuple[Meeting, ...]
    taken: tuple[Touch, ...]
    """What came from the other side."""
    notes: tuple[str, ...]
    theirs: Rig
    """The other side's rig as it was merged, with ids that do not collide."""


def merge(base: Rig, mine: Rig, theirs: Rig, decided: Mapping[Where, Side] | None = None) -> Merged:
    """Merge two rigs that both come from `base`. Raises Refused where no rig can come of it."""
    decided = decided or {}
    theirs = _told_apart(base, mine, theirs)
    ours = {t.place: t for t in touches(base, mine)}
    below: dict[tuple[str, str], list[Touch]] = {}
    for t in ours.values():
        below.setdefault((t.part, t.id), []).append(t)
    meetings: list[Meeting] = []
    taken: list[Touch] = []
    wanted: dict[Where, Any] = {}
    for t in touches(base, theirs):
        same = ours.get(t.place)
        if same is not None and _equal(same.after, t.after):
            continue
        if same is not None and _is_set(t):
            wanted[t.place] = _joined(t.before, same.after, t.after)
            taken.append(t)
            continue
        meets = [o for o in below.get((t.part, t.id), ()) if _overlap(o.path, t.path)]
        if not meets:
            wanted[t.place] = t.after
            taken.append(t)
            continue
        shorter = min((t, *meets), key=lambda x: len(x.path)).path
        place = (t.part, t.id, shorter)
        if any(m.place == place for m in meetings):
            continue
        meeting = Meeting(*place, *(value_at(r, *place) for r in (base, mine, theirs)))
        meetings.append(meeting)
        if decided.get(place) == "theirs":
            wanted[place] = meeting.theirs
    try:
        made, _ = set_places(mine, "merge", ((*place, value) for place, value in wanted.items()))
    except KeyError as e:
        raise Refused(f"These two rigs cannot be merged: {e} is not in both.") from None
    made, notes = _whole(made, base, mine, theirs)
    made = replace(made, tests=_records(mine, theirs), versions={**theirs.versions, **mine.versions})
    problems = broken(made)
    if problems:
        raise Refused(f"These two rigs cannot be merged as decided: {problems[0]}")
    return Merged(made, tuple(meetings), tuple(taken), tuple(notes), theirs)


def as_edit(before: Rig, after: Rig, label: str) -> Edit:
    """A whole rig as one edit of another one; what it touched is what is different."""
    ids: dict[str, set[str]] = {}
    for t in touches(before, after):
        ids.setdefault(t.part, set()).add(t.id)
    for part in BESIDE:
        a, b = getattr(before, part), getattr(after, part)
        ids[part] = {k for k in {**a, **b} if a.get(k) != b.get(k)}
    return after, Change(label, {part: frozenset(of) for part, of in ids.items() if of})


def _overlap(a: tuple[str, ...], b: tuple[str, ...]) -> bool:
    short = min(len(a), len(b))
    return a[:short] == b[:short]


def _equal(a: Any, b: Any) -> bool:
    return a is b or bool(a == b)


def _is_set(t: Touch) -> bool:
    return (t.part == "rig" and t.id == "columns") or (bool(t.path) and (t.part, t.path[0]) in _SETS)


def _joined(base: Any, mine: Any, theirs: Any) -> tuple[Any, ...]:
    """Mine, without what they took out and with what they added."""
    gone = set(base) - set(theirs)
    return (*(x for x in mine if x not in gone), *(x for x in theirs if x not in base and x not in mine))


# ---- entries that both added


def _natural(part: str, entry: Any) -> Any:
    """What the crew knows an entry by."""
    if part in ("fixtures", "universes"):
        return entry.number
    if part == "profiles":
        return (entry.maker.lower(), entry.name.lower())
    name = getattr(entry, "name", "")
    return name.lower() if name else None


def _told_apart(base: Rig, mine: Rig, theirs: Rig) -> Rig:
    """Their rig, with ids under which everything that both added stands once, and nothing stands for two things."""
    names: Names = {}
    for part in PARTS:
        old, left, right = getattr(base, part), getattr(mine, part), getattr(theirs, part)
        if part in ("tests", "versions"):
            continue
        added = {_natural(part, v): k for k, v in left.items() if k not in old}
        taken = {*old, *left, *right}
        for key, entry in right.items():
            if key in old:
                continue
            known = _natural(part, entry)
            twin = added.get(known, "") if known is not None else ""
            if twin and (part in ("universes", "profiles") or twin == key):
                if twin != key and twin not in right:
                    names.setdefault(part, {})[key] = twin
            elif key in left and left[key] != entry:
                free = fresh_id(taken, key.rstrip("0123456789") or key)
                taken.add(free)
                names.setdefault(part, {})[key] = free
    return with_ids(theirs, names)


# ---- nothing may refer to what is gone


def _whole(made: Rig, base: Rig, mine: Rig, theirs: Rig) -> tuple[Rig, list[str]]:
    notes: list[str] = []

    def back(part: str, key: str, why: str) -> None:
        nonlocal made
        entries = getattr(made, part)
        if not key or key in entries:
            return
        found = next((getattr(r, part)[key] for r in (mine, theirs, base) if key in getattr(r, part)), None)
        if found is not None:
            made = replace(made, **{part: {**entries, key: found}})
            notes.append(f"{getattr(found, 'name', '') or key} stays: {why} uses it.")

    for fixture in list(made.fixtures.values()):
        back("profiles", fixture.profile, f"fixture {fixture.number}")
        profile = made.profiles.get(fixture.profile)
        if profile and fixture.mode not in profile.modes:
            modes = next(
                (
                    p.modes
                    for r in (mine, theirs, base)
                    if (p := r.profiles.get(fixture.profile)) and fixture.mode in p.modes
                ),
                {},
            )
            if fixture.mode in modes:
                kept = replace(profile, modes={**profile.modes, fixture.mode: modes[fixture.mode]})
                made = replace(made, profiles={**made.profiles, fixture.profile: kept})
                notes.append(f"Mode {modes[fixture.mode].name} stays: fixture {fixture.number} uses it.")
        for place in fixture.at:
            back("universes", place.universe, f"fixture {fixture.number}")
    for element in list(made.elements.values()):
        back("universes", element.at.universe, element.name)
    for feed in list(made.feeds.values()):
        back("universes", feed.universe, "a feed")
        back("senders", feed.sender, "a feed")
    for device in list(made.devices.values()):
        back("device_models", device.model, device.name)
        for port in device.ports.values():
            back("feeds", port.feed, device.name)
    for feed in list(made.feeds.values()):  # some came back just now
        back("universes", feed.universe, "a feed")
        back("senders", feed.sender, "a feed")
    return _without_lost(made), notes


def _without_lost(rig: Rig) -> Rig:
    """Groups, shares and cables without items that neither side kept."""
    there = rig.fixtures.keys() | rig.elements.keys()
    keep: Callable[[tuple[str, ...]], tuple[str, ...]] = lambda members: tuple(m for m in members if m in there)  # noqa: E731
    groups = {k: replace(g, members=keep(g.members)) for k, g in rig.groups.items()}
    shares = {k: s if len(m := keep(s.members)) == len(s.members) else replace(s, members=m)
              for k, s in rig.shares.items() if len(keep(s.members)) > 1}  # fmt: skip
    devices = {
        k: replace(
            d,
            ports={
                label: replace(
                    p,
                    run=tuple(
                        replace(s, fixtures=keep(s.fixtures)) for s in p.run if not s.element or s.element in there
                    ),
                )
                for label, p in d.ports.items()
            },
        )
        for k, d in rig.devices.items()
    }
    return replace(rig, groups={k: g for k, g in groups.items() if g.members}, shares=shares, devices=devices)


def _records(mine: Rig, theirs: Rig) -> dict[str, TestRecord]:
    """The tests of both, each once, in their order."""
    found = dict(mine.tests)
    for key, record in theirs.tests.items():
        every = {*record.tests, *(found[key].tests if key in found else ())}
        found[key] = TestRecord(tests=tuple(sorted(every, key=lambda t: (t.at, t.who, t.result))))
    return found
