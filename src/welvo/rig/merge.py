"""The work of two people on one rig, made one: three-way, field by field, from the version both began with.

What only one of them touched is taken from that one. What both touched, and left different, is a meeting: it is listed
with all three values and waits for a decision. Members of groups and columns are sets, so two people may each add some.
Entries that both added are told apart: nothing of either may be lost because both counted on to the same inner id. Two
new lamps of one number both stay, and who keeps the number is a meeting as well.

At the end nothing may refer to what is gone. What one removed and the other has begun to use is brought back; where the
other only still had it, or had it in a list, it goes there as well, as if it had been removed there too. Either is
said. Which field refers to what stands in `rig/reference_table.py`, and nowhere here.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import replace

from welvo.rig.base import Refused
from welvo.rig.diff import BESIDE, Touch, list_differences, set_places, value_at
from welvo.rig.document import PARTS, Change, Edit, Rig, fresh_id
from welvo.rig.reference_table import (
    BY_PART,
    DROPPED,
    Reference,
    entries_of,
    lost_references,
    references_of,
    with_references,
)
from welvo.rig.references import broken_references
from welvo.rig.renaming import Names, with_ids
from welvo.rig.tested import TestRecord

Side = Literal["mine", "theirs"]
Where = tuple[str, str, tuple[str, ...]]
_SETS = {("groups", "members"), ("uses", "universes_off"), ("uses", "devices_off")}


class MergeMeeting(Struct, frozen=True):
    """A place that both changed, each to something else. An empty path is the entry as a whole: one removed it."""

    part: str
    id: str
    path: tuple[str, ...]
    base: Any
    mine: Any
    theirs: Any
    twin: str = ""
    """For two new lamps of one number: the id of mine; `id` is theirs."""

    @property
    def meeting_place(self) -> Where:
        return self.part, self.id, self.path


class MergedRig(Struct, frozen=True):
    """`rig` has everything that does not meet, and each meeting as it was decided: mine, where nothing was."""

    rig: Rig
    meetings: tuple[MergeMeeting, ...]
    taken: tuple[Touch, ...]
    """What came from the other side."""
    notes: tuple[str, ...]
    theirs: Rig
    """The other side's rig as it was merged, with ids that do not collide."""
    mended: frozenset[tuple[str, str]] = frozenset()
    """Entries (part and id) that are otherwise than either side had them, so that nothing refers to what is gone; the
    notes say each."""


def merge_rigs(base: Rig, mine: Rig, theirs: Rig, decided: Mapping[Where, Side] | None = None) -> MergedRig:
    """Merge two rigs that both come from `base`. Raises Refused where no rig can come of it."""
    decided = decided or {}
    theirs = _told_apart(base, mine, theirs)
    ours = {t.touched_place: t for t in list_differences(base, mine)}
    below: dict[tuple[str, str], list[Touch]] = {}
    for t in ours.values():
        below.setdefault((t.part, t.id), []).append(t)
    meetings: list[MergeMeeting] = []
    taken: list[Touch] = []
    wanted: dict[Where, Any] = {}
    for t in list_differences(base, theirs):
        same = ours.get(t.touched_place)
        if same is not None and _are_equal(same.after, t.after):
            continue
        if same is not None and _is_set(t):
            wanted[t.touched_place] = _join_lists(t.before, same.after, t.after)
            taken.append(t)
            continue
        meets = [o for o in below.get((t.part, t.id), ()) if _places_overlap(o.path, t.path)]
        if not meets:
            wanted[t.touched_place] = t.after
            taken.append(t)
            continue
        shorter = min((t, *meets), key=lambda x: len(x.path)).path
        place = (t.part, t.id, shorter)
        if any(m.meeting_place == place for m in meetings):
            continue
        meeting = MergeMeeting(*place, value_at(base, *place), value_at(mine, *place), value_at(theirs, *place))
        meetings.append(meeting)
        if decided.get(place) == "theirs":
            wanted[place] = meeting.theirs
    twins = _find_twins(base, mine, theirs)
    meetings += twins
    try:
        made, _ = set_places(mine, "merge", ((*place, value) for place, value in wanted.items()))
    except KeyError as e:
        raise Refused(f"These two rigs cannot be merged: {e} is not in both.") from None
    made = _renumber_twins(made, twins, decided)
    whole = _Whole(made, base, mine, theirs)
    made = replace(whole.rig, tests=_join_test_records(mine, theirs), versions=_join_versions(mine, theirs))
    problems = broken_references(made)
    if problems:
        raise Refused(f"These two rigs cannot be merged as decided: {problems[0]}")
    return MergedRig(made, tuple(meetings), tuple(taken), tuple(whole.notes), theirs, frozenset(whole.mended))


def as_edit(before: Rig, after: Rig, label: str) -> Edit:
    """A whole rig as one edit of another one; what it touched is what is different."""
    ids: dict[str, set[str]] = {}
    for t in list_differences(before, after):
        ids.setdefault(t.part, set()).add(t.id)
    for part in BESIDE:
        a, b = getattr(before, part), getattr(after, part)
        ids[part] = {k for k in {**a, **b} if a.get(k) != b.get(k)}
    return after, Change(label, {part: frozenset(of) for part, of in ids.items() if of})


def _places_overlap(a: tuple[str, ...], b: tuple[str, ...]) -> bool:
    short = min(len(a), len(b))
    return a[:short] == b[:short]


def _are_equal(a: Any, b: Any) -> bool:
    return a is b or bool(a == b)


def _is_set(t: Touch) -> bool:
    return (t.part == "rig" and t.id == "columns") or (bool(t.path) and (t.part, t.path[0]) in _SETS)


def _join_lists(base: Any, mine: Any, theirs: Any) -> tuple[Any, ...]:
    """Mine, without what they took out and with what they added."""
    gone = set(base) - set(theirs)
    return (*(x for x in mine if x not in gone), *(x for x in theirs if x not in base and x not in mine))


# ---- entries that both added


def _natural_name(part: str, entry: Any) -> Any:
    """What the crew knows an entry by."""
    if part in ("fixtures", "universes"):
        return entry.number
    if part == "profiles":
        return (entry.maker.lower(), entry.name.lower())
    name = getattr(entry, "name", "")
    return name.lower() if name else None


_OWN = ("fixtures", "elements", "profiles")
"""Of these nobody's new one is ever taken for another's: the same only where all of it is the same."""


def _told_apart(base: Rig, mine: Rig, theirs: Rig) -> Rig:
    """Their rig, with ids under which everything that both added stands once, and nothing stands for two things."""
    names: Names = {}
    for part in PARTS:
        old, left, right = getattr(base, part), getattr(mine, part), getattr(theirs, part)
        if part in BESIDE:
            continue
        added = {_natural_name(part, v): k for k, v in left.items() if k not in old}
        taken = {*old, *left, *right}
        for key, entry in right.items():
            if key in old:
                continue
            known = _natural_name(part, entry)
            twin = added.get(known, "") if known is not None else ""
            one = bool(twin) and (left[twin] == entry or part == "universes" or (twin == key and part not in _OWN))
            if one:
                if twin != key and twin not in right:
                    names.setdefault(part, {})[key] = twin
            elif key in left and left[key] != entry:
                free = fresh_id(taken, key.rstrip("0123456789") or key)
                taken.add(free)
                names.setdefault(part, {})[key] = free
    return with_ids(theirs, names)


def _find_twins(base: Rig, mine: Rig, theirs: Rig) -> list[MergeMeeting]:
    """New lamps of both sides under one number: both stay, and who keeps the number has to be decided."""
    own = {f.number: k for k, f in mine.fixtures.items() if k not in base.fixtures}
    return [
        MergeMeeting("fixtures", k, ("number",), None, f.number, f.number, own[f.number])
        for k, f in theirs.fixtures.items()
        if k not in base.fixtures and f.number in own and own[f.number] != k
    ]


def _renumber_twins(rig: Rig, twins: list[MergeMeeting], decided: Mapping[Where, Side]) -> Rig:
    """The rig with another number for each lamp that loses its own, as it was decided."""
    fixtures = dict(rig.fixtures)
    for m in sorted(twins, key=lambda m: m.mine):  # whoever merges whom, the same lamp gets the same number
        side = decided.get(m.meeting_place)
        loser = m.id if side == "mine" else m.twin if side == "theirs" else ""
        if loser in fixtures:
            number = max(f.number for f in fixtures.values()) + 1
            fixtures[loser] = replace(fixtures[loser], number=number)
    return replace(rig, fixtures=fixtures)


# ---- nothing may refer to what is gone


class _Whole:
    """A merged rig, made whole: `rig`, with a note for each entry that is otherwise than somebody had it."""

    def __init__(self, made: Rig, base: Rig, mine: Rig, theirs: Rig) -> None:
        self.rig = made
        self.notes: list[str] = []
        self.mended: set[tuple[str, str]] = set()
        self._sources = (mine, theirs, base)
        self._base = base
        again = True
        while again:  # what comes back may refer to something that is gone, too
            again = False
            for part in BY_PART:
                for key, _ in list(entries_of(self.rig, part)):
                    again = self._look_at_entry(part, key) or again
            again = self._restore_modes() or again
        self._empty_groups()

    def _look_at_entry(self, part: str, key: str) -> bool:
        """Look at one entry; whether something is other now."""
        entry = self.rig if part == "rig" else getattr(self.rig, part)[key]
        again = False
        for reference, to in list(lost_references(self.rig, part, entry)):
            if self._follow_reference(reference, to) is None:
                continue  # nobody had it: it led nowhere before, and stays as it was
            begun = reference.gone != "leave" and not self._was_there_before(part, key, reference, to)
            if reference.is_needed or begun:
                again = self._bring_back(reference, to, _say_holder(part, key, entry)) or again
            else:
                self._leave_out(part, key, reference, to)
                entry = self.rig if part == "rig" else getattr(self.rig, part).get(key)
                again = True
                if entry is None:
                    break
        return again

    def _follow_reference(self, reference: Reference, to: str) -> tuple[str, Any] | None:
        """What a reference led to, and in which part, on either side or before both."""
        for rig in self._sources:
            for part in reference.to:
                if to in getattr(rig, part):
                    return part, getattr(rig, part)[to]
        return None

    def _was_there_before(self, part: str, key: str, reference: Reference, to: str) -> bool:
        """Whether the entry referred to it from the beginning: then nobody has begun to use it."""
        entry = self._base if part == "rig" else getattr(self._base, part).get(key)
        return entry is not None and (reference, to) in set(references_of(part, entry))

    def _bring_back(self, reference: Reference, to: str, who: str) -> bool:
        found = self._follow_reference(reference, to)
        if found is None:
            return False
        part, entry = found
        if part == "universes" and any(u.number == entry.number for u in self.rig.universes.values()):
            return False  # another universe has its number: that is refused in words
        self.rig = replace(self.rig, **{part: {**getattr(self.rig, part), to: entry}})
        self._note_words(part, to, f"{name_of_entry(entry, to)} stays: {who} uses it.")
        return True

    def _leave_out(self, part: str, key: str, reference: Reference, to: str) -> None:
        def visit(other: Reference, value: str) -> Any:
            return DROPPED if other is reference and value == to else value

        entry = self.rig if part == "rig" else getattr(self.rig, part)[key]
        found = self._follow_reference(reference, to)
        what = name_of_entry(found[1], to) if found else to
        made = with_references(part, entry, visit)
        if part == "rig":
            self.rig = made
        else:
            entries = {k: v for k, v in getattr(self.rig, part).items() if k != key or made is not DROPPED}
            if made is not DROPPED:
                entries[key] = made
            self.rig = replace(self.rig, **{part: entries})
        self._note_words(part, key, f"{what} was removed: {_say_holder(part, key, entry)} is without it now.")

    def _restore_modes(self) -> bool:
        """Modes that lamps use and one side took out of their profile."""
        again = False
        for key, f in list(self.rig.fixtures.items()):
            profile = self.rig.profiles.get(f.profile)
            if profile is None or f.mode in profile.modes:
                continue
            known = [p for r in self._sources if (p := r.profiles.get(f.profile)) and f.mode in p.modes]
            mode = known[0].modes[f.mode] if known else None
            if mode is not None:
                kept = replace(profile, modes={**profile.modes, f.mode: mode})
                self.rig = replace(self.rig, profiles={**self.rig.profiles, f.profile: kept})
                self._note_words(
                    "profiles", f.profile, f"Mode {mode.name} stays: {_say_holder('fixtures', key, f)} uses it."
                )
                again = True
        return again

    def _empty_groups(self) -> None:
        """Groups of nobody, and shares of one, that were none before both."""
        for part, least in (("groups", 1), ("shares", 2)):
            for key, entry in list(getattr(self.rig, part).items()):
                if len(entry.members) < least:
                    entries = {k: v for k, v in getattr(self.rig, part).items() if k != key}
                    self.rig = replace(self.rig, **{part: entries})
                    self._note_words(part, key, f"{_say_holder(part, key, entry)} has no members any more and is gone.")

    def _note_words(self, part: str, key: str, words: str) -> None:
        self.mended.add((part, key))
        if words not in self.notes:
            self.notes.append(words)


def name_of_entry(entry: Any, key: str) -> str:
    """What an entry is called in a note."""
    number = getattr(entry, "number", None)
    return getattr(entry, "name", "") or (str(number) if number is not None else key)


def _say_holder(part: str, key: str, entry: Any) -> str:
    """Who holds a reference, in a note."""
    if part == "fixtures":
        return f"fixture {entry.number}"
    words = {"groups": "group ", "uses": "show ", "shares": "a share", "feeds": "a feed", "rig": "the rig"}
    return words.get(part, "") + (getattr(entry, "name", "") if part not in ("shares", "feeds", "rig") else "")


def _join_versions(mine: Rig, theirs: Rig) -> dict[str, Any]:
    """The versions of both; two that have one id and are not the same both stay."""
    found = dict(mine.versions)
    for key, version in theirs.versions.items():
        if key in found and found[key] != version:
            key = fresh_id({**found, **theirs.versions}, key.rstrip("0123456789") or key)
        found[key] = version
    return found


def _join_test_records(mine: Rig, theirs: Rig) -> dict[str, TestRecord]:
    """The tests of both, each once, in their order."""
    found = dict(mine.tests)
    for key, record in theirs.tests.items():
        every = {*record.tests, *(found[key].tests if key in found else ())}
        found[key] = TestRecord(tests=tuple(sorted(every, key=lambda t: (t.at, t.who, t.result))))
    return found
