"""The index: every span of slots that anything takes, kept live as the rig changes."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from welvo.patch.resolve import Resolver
from welvo.rig.counting import SLOTS, stretches
from welvo.rig.document import Change, Rig
from welvo.rig.lookup import mode_of
from welvo.rig.patched import Element

Ints = npt.NDArray[np.int32]
_PITCH = 1024
"""Distance between universes on the flat line of the sweep; wider than a universe, so none touches the next."""


class Span(NamedTuple):
    """Slots `first`..`last` of a universe taken by one break of a fixture or one stretch of an element.

    `offset` is how many slots of the thing itself come before. `last` may lie past the universe's end.
    """

    key: str
    brk: int
    universe: str
    first: int
    last: int
    offset: int


class Clash(NamedTuple):
    a: Span
    b: Span
    first: int
    last: int


class Followed(NamedTuple):
    """What following a change touched: universes and things whose spans are not what they were."""

    universes: frozenset[str]
    things: frozenset[str]


class Index:
    """Columns of spans: `uni`, `first`, `last` (NumPy, one row per span) and the spans by thing and by universe."""

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self._resolver = Resolver(rig)
        self._spans: dict[str, tuple[Span, ...]] = {}
        self._rows: dict[str, list[int]] = {}
        self._on: dict[str, dict[int, Span]] = {}
        self._uni_row: dict[str, int] = {}
        self._free: list[int] = []
        self._used = 0
        self.missing: dict[str, int] = {}
        """Elements that run on into a universe the rig does not have, with its number."""
        self.uni: Ints = np.full(64, -1, np.int32)
        self.first: Ints = np.zeros(64, np.int32)
        self.last: Ints = np.zeros(64, np.int32)
        self._numbers = {u.number: uid for uid, u in rig.universes.items()}
        for key in (*rig.fixtures, *rig.elements):
            self._insert(key)

    # ---- building and following

    def _make(self, key: str) -> tuple[Span, ...]:
        fixture = self.rig.fixtures.get(key)
        self.missing.pop(key, None)
        if fixture:
            mode = mode_of(self.rig, fixture)
            if mode is None:
                return ()
            spans = []
            for b, part in enumerate(mode.breaks):
                start = self._resolver.start(key, b)
                if start and part.slots:
                    spans.append(Span(key, b, start[0], start[1], start[1] + part.slots - 1, 0))
            return tuple(spans)
        element = self.rig.elements.get(key)
        start = self._resolver.start(key, 0) if element else None
        return self._element(key, element, *start) if element and start else ()

    def _element(self, key: str, element: Element, universe: str, address: int) -> tuple[Span, ...]:
        size = self.rig.universes[universe].size
        number = self.rig.universes[universe].number
        unit = 1 if element.kind == "block" else len(element.order)
        spans = []
        for ahead, first, last, done in stretches(address, element.footprint, unit, size, element.whole):
            uid = self._numbers.get(number + ahead)
            if uid is None:
                self.missing[key] = number + ahead
                break
            spans.append(Span(key, 0, uid, first, last, done))
        return tuple(spans)

    def _insert(self, key: str) -> None:
        spans = self._make(key)
        if not spans:
            return
        self._spans[key] = spans
        rows = []
        for span in spans:
            row = self._free.pop() if self._free else self._used
            if row == self._used:
                self._used += 1
                if row >= len(self.uni):
                    self._grow()
            uni = self._uni_row.setdefault(span.universe, len(self._uni_row))
            self.uni[row], self.first[row], self.last[row] = uni, span.first, span.last
            self._on.setdefault(span.universe, {})[row] = span
            rows.append(row)
        self._rows[key] = rows

    def _grow(self) -> None:
        more = len(self.uni)
        self.uni = np.concatenate([self.uni, np.full(more, -1, np.int32)])
        self.first = np.concatenate([self.first, np.zeros(more, np.int32)])
        self.last = np.concatenate([self.last, np.zeros(more, np.int32)])

    def _remove(self, key: str) -> None:
        for row, span in zip(self._rows.pop(key, []), self._spans.pop(key, ())):
            self.uni[row] = -1
            del self._on[span.universe][row]
            self._free.append(row)

    def follow(self, rig: Rig, change: Change) -> Followed:
        """Take over a new rig that differs from the present one by `change`."""
        if change.ids("universes"):
            before = {s.universe for spans in self._spans.values() for s in spans}
            self.__init__(rig)  # type: ignore[misc]
            after = {s.universe for spans in self._spans.values() for s in spans}
            return Followed(frozenset(before | after | change.ids("universes")), frozenset(self._spans))
        things = set(change.ids("fixtures")) | set(change.ids("elements"))
        if change.ids("profiles"):
            things |= {fid for fid, f in rig.fixtures.items() if f.profile in change.ids("profiles")}
        self.rig = rig
        things |= self._resolver.follow(rig, things, bool(change.ids("devices") or change.ids("feeds")))
        universes: set[str] = set()
        for key in things:
            universes.update(s.universe for s in self._spans.get(key, ()))
            self._remove(key)
        for key in things:
            if key in rig.fixtures or key in rig.elements:
                self._insert(key)
                universes.update(s.universe for s in self._spans.get(key, ()))
            else:
                self.missing.pop(key, None)
        return Followed(frozenset(universes), frozenset(things))

    # ---- questions

    def spans(self, key: str) -> tuple[Span, ...]:
        return self._spans.get(key, ())

    def all_spans(self) -> Iterable[Span]:
        for spans in self._spans.values():
            yield from spans

    def on(self, universe: str) -> list[Span]:
        """Spans of one universe by first slot; ties by thing."""
        return sorted(self._on.get(universe, {}).values(), key=lambda s: (s.first, s.last, s.key, s.brk))

    def at(self, universe: str, address: int) -> list[Span]:
        return [s for s in self.on(universe) if s.first <= address <= s.last]

    def loop(self, key: str) -> bool:
        """Whether a thing's anchor leads back to itself or to something that is nowhere."""
        return self._resolver.is_lost(key)

    def dependents(self, key: str) -> list[str]:
        """Things whose place follows, directly or not, from this one's."""
        return self._resolver.dependents({key})

    def occupancy(self, universe: str) -> npt.NDArray[np.int16]:
        """How many things are on each slot: 512 counts, slot 1 at index 0."""
        edge = np.zeros(SLOTS + 1, np.int16)
        for s in self._on.get(universe, {}).values():
            if s.first <= SLOTS:
                edge[s.first - 1] += 1
                edge[min(s.last, SLOTS)] -= 1
        return np.cumsum(edge[:SLOTS], dtype=np.int16)

    def free_slots(self, universe: str) -> int:
        size = self.rig.universes[universe].size
        return int(np.count_nonzero(self.occupancy(universe)[:size] == 0))

    def flagged(self) -> set[str]:
        """Universes in which anything overlaps anything: one sort and one running maximum over all spans."""
        live = np.flatnonzero(self.uni[: self._used] >= 0)
        if live.size < 2:
            return set()
        base = self.uni[live].astype(np.int64) * _PITCH
        starts = base + self.first[live]
        ends = base + np.minimum(self.last[live], SLOTS)
        order = np.argsort(starts, kind="stable")
        reach = np.maximum.accumulate(ends[order])
        hit = starts[order][1:] <= reach[:-1]
        rows = set(np.unique(self.uni[live][order][1:][hit]).tolist())
        return {uid for uid, row in self._uni_row.items() if row in rows}

    def clashes(self, universe: str, most: int = 500) -> list[Clash]:
        """Pairs that overlap in one universe, at most `most`; pairs declared as a share are left out."""
        found: list[Clash] = []
        shared = self._shares()
        open_: list[Span] = []
        for span in self.on(universe):
            open_ = [o for o in open_ if o.last >= span.first]
            for o in open_:
                if not (o.key in shared and shared[o.key] & shared.get(span.key, frozenset()) and _same(o, span)):
                    found.append(Clash(o, span, span.first, min(o.last, span.last)))
                    if len(found) >= most:
                        return found
            open_.append(span)
        return found

    def _shares(self) -> dict[str, frozenset[str]]:
        member: dict[str, frozenset[str]] = {}
        for sid, share in self.rig.shares.items():
            for key in share.members:
                member[key] = member.get(key, frozenset()) | {sid}
        return member

    def shared_with(self, key: str) -> list[str]:
        """The other members of the shares a thing belongs to."""
        return sorted({m for s in self.rig.shares.values() if key in s.members for m in s.members if m != key})


def _same(a: Span, b: Span) -> bool:
    return (a.first, a.last) == (b.first, b.last)
