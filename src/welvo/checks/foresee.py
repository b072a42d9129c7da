"""What an edit would do, worked out with the very function that will do it, and shown before it is done.

`Foreseer` keeps an index and a checker of its own beside those of the rig that is shown. For each question it makes the
edit on the side, lets both follow, and compares them with the present ones: about as much work as the edit itself, and
nothing is built anew, so that it can be asked with every key that is typed. Between two questions the rig may have
become another one by edits, undo or opening: what differs is found by identity, as all that an edit leaves alone is
shared between two rigs.
"""

from __future__ import annotations

from collections import Counter

from msgspec import Struct

from welvo.checks.checker import Checker
from welvo.checks.registry import Finding
from welvo.observed.values import NOTHING, Observed
from welvo.patch.index import Index
from welvo.rig.document import PARTS, Change, Edit, Rig
from welvo.rig.notation import say_count
from welvo.rig.refs import PortRef
from welvo.runs.cable import PortStream
from welvo.survey.effect_words import Line, line_of_effect, say_strip
from welvo.survey.effects import Effect, Near, effects_between, own_of_change

TOLD_AS_EFFECTS = ("PATCH-01", "PATCH-02")
"""Who meets whom and who ends past a universe is told as such; the findings about it would only say it again."""
NOWHERE_NEAR = Near(frozenset(), frozenset(), frozenset())


class Foreseen(Struct, frozen=True):
    """What an edit would do: the rig it would make, everything that would be different, findings that come and go."""

    rig: Rig
    change: Change
    effects: tuple[Effect, ...] = ()
    comes: tuple[Finding, ...] = ()
    goes: tuple[Finding, ...] = ()
    streams: dict[PortRef, PortStream] = {}
    """What would be attached to each port, for whoever draws it."""

    @property
    def strip(self) -> str:
        """What it does to others, in a few words; empty when nobody else is touched."""
        words = say_strip(self.effects)
        for severity in ("error", "warning"):
            found = [f for f in self.comes if f.severity == severity and f.code not in TOLD_AS_EFFECTS]
            if found:
                named = found[0].title + (f" and {len(found) - 1} more" if len(found) > 1 else "")
                words += f"{' ' if words else ''}{say_count(len(found), severity)} more: {named}."
        return words

    @property
    def lines(self) -> list[Line]:
        """The whole list: everything that would be different, then findings that come and go."""
        found = [line_of_effect(e) for e in self.effects]
        found += [(f.where, f"{f.severity} comes", "", f"{f.code} {f.title}") for f in self.comes]
        return found + [(f.where, f"{f.severity} goes", f"{f.code} {f.title}", "") for f in self.goes]

    @property
    def harms(self) -> list[Effect]:
        """What would run past an end, or lose its place."""
        own = own_of_change(self.change)
        return [e for e in self.effects if e.kind == "past" or (e.kind == "unplaced" and e.key not in own)]


def foresee_once(rig: Rig, edit: Edit, observed: Observed = NOTHING) -> Foreseen:
    """The same for one question, with everything built anew: for the command line, and as a judge of the other way."""
    made, change = edit
    before, after = Checker(Index(rig), observed), Checker(Index(made), observed)
    effects = effects_between(before.context.index, after.context.index, change)
    comes, goes = _compare_findings(before, after)
    return Foreseen(made, change, effects, comes, goes, after.context.index.cables_and_sums.streams)


MANY = 1500
"""Items of an edit from which on an index built anew is there sooner than one that follows them one by one."""


class Foreseer:
    """Answers for one rig after another. Belongs to one thread, like the index that it is given.

    The own index is not led back after a question: the next one, mostly the next key that is typed into the same field,
    differs from this one by as little as from the rig itself. `_near` is where the two may be apart.
    """

    def __init__(self) -> None:
        self._checker: Checker | None = None
        self._base: Rig | None = None
        self._near = NOWHERE_NEAR

    def foresee(self, now: Checker, edit: Edit, findings: bool = True) -> Foreseen:
        """What an edit of the rig of `now` would do. `findings`: also which would come and go."""
        made, change = edit
        before = now.context.index
        if sum(len(change.changed_ids(p)) for p in ("fixtures", "elements")) > MANY:
            index = Index(made)
            checker = Checker(index, now.context.observed, now.context.now) if findings else None
            effects = effects_between(before, index, change)
        else:
            try:
                checker = self._follow(now, made)
            except BaseException:
                self._checker = None  # half followed: built anew at the next question
                raise
            effects = effects_between(before, checker.context.index, change, self._near)
        comes, goes = _compare_findings(now, checker) if checker and findings else ((), ())
        streams = (checker.context.index if checker else index).cables_and_sums.streams
        return Foreseen(made, change, effects, comes, goes, streams)

    def _follow(self, now: Checker, made: Rig) -> Checker:
        """The own checker, with its index, led to what the edit would make."""
        base = now.context.rig
        if self._checker is None:
            self._checker = Checker(Index(base), now.context.observed, now.context.now)
        if self._base is not base:
            self._lead_to(base)
            self._base, self._near = base, NOWHERE_NEAR
        if self._checker.context.observed is not now.context.observed:
            self._checker.take_observations(now.context.observed, now.context.now)
        self._lead_to(made)
        return self._checker

    def _lead_to(self, rig: Rig) -> None:
        assert self._checker is not None
        index = self._checker.context.index
        before = index.rig
        if before is rig:
            return
        change = change_between(before, rig)
        limits = index.low_limits
        shared = _universes_of_shares(index, change)
        followed = index.follow_change(rig, change)
        self._checker.follow_edit(change, followed)
        universes = followed.universes | change.changed_ids("universes") | shared | _universes_of_shares(index, change)
        if index.low_limits is not limits:  # ports put out more or fewer slots of their universes
            universes |= {u for u in {*limits, *index.low_limits} if limits.get(u) != index.low_limits.get(u)}
        items = followed.items | followed.on_ports | change.changed_ids("fixtures") | change.changed_ids("elements")
        near = self._near
        self._near = Near(near.items | items, near.universes | universes, near.ports | followed.ports)


def change_between(old: Rig, new: Rig) -> Change:
    """What is different between two rigs, by identity: an edit shares all that it leaves alone."""
    touched: dict[str, frozenset[str]] = {}
    for part in PARTS:
        a, b = getattr(old, part), getattr(new, part)
        if a is b:
            continue
        ids = {k for k, v in b.items() if a.get(k) is not v} | (a.keys() - b.keys())
        if ids:
            touched[part] = frozenset(ids)
    own = {k for k in Rig.__struct_fields__ if k not in PARTS and getattr(old, k) is not getattr(new, k)}
    if own:
        touched["rig"] = frozenset(own)
    return Change("", touched)


def _universes_of_shares(index: Index, change: Change) -> frozenset[str]:
    """Where members of changed shares stand: nothing moves, and yet what was meant may meet now."""
    shares = (index.rig.shares.get(sid) for sid in change.changed_ids("shares"))
    return frozenset(s.universe for share in shares if share for m in share.members for s in index.spans_of(m))


def _compare_findings(before: Checker, after: Checker) -> tuple[tuple[Finding, ...], tuple[Finding, ...]]:
    """Findings that come and go: by what was found about what, so that another count in a title is no new finding."""
    a, b = before.report_findings.findings, after.report_findings.findings
    known, left = Counter(_identity(f) for f in a), Counter(_identity(f) for f in b)
    comes = tuple(f for f in b if not known[_identity(f)])
    goes = tuple(f for f in a if not left[_identity(f)])
    return comes, goes


def _identity(f: Finding) -> tuple[str, str]:
    return f.code, f.subject
