"""The index: every span of slots that anything takes, kept live as the rig changes.

A rig of ten thousand fixtures is edited by dragging, and after each step the program has to know again whom everything
meets. Therefore spans stand twice. As tuples by item and by universe, for those who ask about one of them; and as three
columns of numbers, so that the question “which universes have an overlap at all?” is one sort and one running maximum
over all spans instead of a look at each pair. Only the universes that it flags are searched for pairs.

`_build_columns` enters the usual fixture (one break, typed address) without calling a function for it: at a start
that is most of the work. `follow_change` takes an edit over by the items that `Change` names, and gives which
universes and items it really moved: an anchored fixture moves with the one it stands behind, and one on a cable with
what was inserted before it. A row that is freed is used again, so the columns never shrink or shift.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from welvo.buses.plan import bus_of, buses_of
from welvo.patch.limits import SlotLimit, limits_of_universes
from welvo.patch.resolve import Resolver
from welvo.rig.counting import SLOTS, free_between
from welvo.rig.document import Change, Rig
from welvo.rig.lookup import name_of_item, universe_ids
from welvo.rig.patched import Element
from welvo.rig.refs import BUS, PortRef, SegmentRef
from welvo.runs.along import piece_name
from welvo.runs.cable import Cables, Piece

Ints = npt.NDArray[np.int32]
_PITCH = 1024
_NO_SPAN = -(1 << 42)
"""Distance between universes on the flat line of the sweep; wider than a universe, so none touches the next."""


BY_PIXEL = -1
"""The `break_no` of a lamp behind a converter: what stands in the universe is the pixel that drives it."""

Taker = str | SegmentRef
"""What takes slots: an item by its id, or a segment whose stretch of its port's stream is no item's."""


class Span(NamedTuple):
    """Slots `first`..`last` of a universe taken by one break of a fixture, one stretch of an element, or by a segment.

    `offset` is how many slots of the item itself (of the segment's stretch) come before. `last` may lie past the
    universe's end.
    """

    key: Taker
    break_no: int
    universe: str
    first: int
    last: int
    offset: int

    @property
    def item_of_span(self) -> str:
        """The fixture or element; empty where a segment takes the slots."""
        return self.key if isinstance(self.key, str) else ""


_new_span = tuple.__new__
"""Makes a Span at twice the speed of calling it."""


def span_sort_key(s: Span) -> tuple[int, int, str, int, str]:
    """To sort the spans of a universe by: first slot, last slot, then who it is."""
    return (s.first, s.last, s.key, s.break_no, "") if isinstance(s.key, str) else (s.first, s.last, "", 0, str(s.key))


class Clash(NamedTuple):
    a: Span
    b: Span
    first: int
    last: int


class Followed(NamedTuple):
    """What following a change touched: universes and items whose spans are not what they were."""

    universes: frozenset[str]
    items: frozenset[str]
    ports: frozenset[PortRef] = frozenset()
    """Ports whose streams were summed anew."""
    on_ports: frozenset[str] = frozenset()
    """Everything that is attached to these ports, or attached there before."""


def _distinct_rows(rows: npt.NDArray[Any]) -> list[int]:
    """The different row numbers, in order. NumPy's own function for it would import all of its masked arrays, which is
    a thirtieth of a second of every start."""
    rows = np.sort(rows)
    return list(rows[np.diff(rows, prepend=rows[:1] - 1) != 0].tolist())


class Index:
    """Columns of spans: `uni`, `first`, `last` (NumPy, one row per span) and the spans by item and by universe.

    `missing` holds the elements that run on into a universe the rig does not have, with its number; `open` the
    fixtures with breaks that have no address (or one in a universe that is gone); `lost` the items whose anchor or
    cable leads nowhere.
    """

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self._resolver = Resolver(rig)
        self._spans: dict[Taker, tuple[Span, ...]] = {}
        self._on: dict[str, dict[int, Span]] = {}
        self._sorted: dict[str, list[Span]] = {}
        self._uni_row: dict[str, int] = {uid: n for n, uid in enumerate(rig.universes)}
        self._uni_name: list[str] = list(rig.universes)
        self._free: list[int] = []
        self._widths: dict[tuple[str, str], tuple[int, ...]] = {}
        self._limits: dict[str, SlotLimit] | None = None
        self._partners: dict[str, frozenset[str]] | None = None
        self.missing: dict[str, int] = {}
        self.open: set[str] = set()
        self.lost: set[str] = set()
        self._stretches: set[SegmentRef] = set()
        self._numbers = universe_ids(rig)
        self._build_columns()
        self._stretches = {k for k in self._spans if isinstance(k, SegmentRef)}

    # ---- building and following

    def _build_columns(self) -> None:
        """All items at once: the columns are made in one go."""
        uni: list[int] = []
        first: list[int] = []
        last: list[int] = []
        row_of, on = self._uni_row, self._on
        row = 0
        spans_of, widths = self._spans, self._widths
        for key, fixture in self.rig.fixtures.items():
            at = fixture.at
            if len(at) == 1:
                place = at[0]
                first_ = place.address
                if first_ is not None and not place.after and not place.from_run:
                    universe = place.universe
                    uni_ = row_of.get(universe)
                    kind = (fixture.profile, fixture.mode)
                    width = widths.get(kind)
                    if width is None:
                        width = self._slots_of_mode(*kind)
                    if uni_ is not None and len(width) == 1 and width[0]:
                        # What nearly every fixture is: one break at a typed address. No function is called for it.
                        last_ = first_ + width[0] - 1
                        span = _new_span(Span, (key, 0, universe, first_, last_, 0))
                        spans_of[key] = (span,)
                        uni.append(uni_)
                        first.append(first_)
                        last.append(last_)
                        here = on.get(universe)
                        if here is None:
                            on[universe] = {row: span}
                        else:
                            here[row] = span
                        row += 1
                        continue
            row = self._enter_columns(key, row, uni, first, last)
        for key in self.rig.elements:
            row = self._enter_columns(key, row, uni, first, last)
        self.buses = buses_of(self.rig)
        for ref in (*self._segments_of_ports(self.cables_and_sums.streams), *self.buses):
            row = self._enter_columns(ref, row, uni, first, last)
        self._used = row
        room = max(64, row + row // 4)
        self.uni: Ints = np.full(room, -1, np.int32)
        self.first: Ints = np.zeros(room, np.int32)
        self.last: Ints = np.zeros(room, np.int32)
        self.uni[:row], self.first[:row], self.last[:row] = uni, first, last
        self._flat: npt.NDArray[np.int64] = np.full(room, _NO_SPAN, np.int64)
        ends = np.minimum(self.last[:row], SLOTS) - np.minimum(self.first[:row], SLOTS)
        self._flat[:row] = (self.uni[:row].astype(np.int64) * _PITCH + self.first[:row] << 10) + ends

    def _enter_columns(self, key: Taker, row: int, uni: list[int], first: list[int], last: list[int]) -> int:
        """Enter whatever else an item may be while the columns are being built; gives the next row."""
        spans = self._make_spans(key) if isinstance(key, str) else self._stretch_of_segment(key)
        if not spans:
            return row
        self._spans[key] = spans
        for span in spans:
            uni.append(self._uni_row[span.universe])
            first.append(span.first)
            last.append(span.last)
            self._on.setdefault(span.universe, {})[row] = span
            row += 1
        return row

    def _slots_of_mode(self, profile: str, mode: str) -> tuple[int, ...]:
        """Slots of each break of a mode; empty when the rig does not have it."""
        found = self._widths.get((profile, mode))
        if found is None:
            p = self.rig.profiles.get(profile)
            m = p.modes.get(mode) if p else None
            found = self._widths[profile, mode] = tuple(b.slots for b in m.breaks) if m else ()
        return found

    def _make_spans(self, key: str) -> tuple[Span, ...]:
        fixture = self.rig.fixtures.get(key)
        if fixture is None:
            self.missing.pop(key, None)
            element = self.rig.elements.get(key)
            start = self._resolver.start_of_break(key, 0) if element else None
            origin = element.at.origin_of_place if element else "none"
            lost = start is None and (
                origin == "anchored" or (origin == "run" and not self.cables_and_sums.element_parts(key))
            )
            (self.lost.add if lost else self.lost.discard)(key)
            if element and origin == "run":
                return self._on_cable(key)
            return self._spans_of_element(key, element, *start) if element and start else ()
        widths = self._slots_of_mode(fixture.profile, fixture.mode)
        at = fixture.at
        if len(widths) == 1 and len(at) == 1 and at[0].address is not None and widths[0] and not at[0].after:
            place = at[0]  # what nearly every fixture is: one break at a typed address
            if place.universe in self.rig.universes and not place.from_run:
                self.open.discard(key)
                self.lost.discard(key)
                first = at[0].address
                assert first is not None
                return (Span(key, 0, place.universe, first, first + widths[0] - 1, 0),)
        spans = []
        open_ = lost = False
        for b, slots in enumerate(widths):
            place = fixture.place_of_break(b)
            start = self._resolver.start_of_break(key, b)
            if start and slots:
                spans.append(Span(key, b, start[0], start[1], start[1] + slots - 1, 0))
            elif start is None and place.origin_of_place in ("anchored", "run"):
                driven = self._by_pixel(key) if b == 0 else ()
                spans += driven
                lost = lost or not (driven or (b and spans and spans[0].break_no == BY_PIXEL))
            elif start is None and slots:
                open_ = True
        (self.open.add if open_ else self.open.discard)(key)
        (self.lost.add if lost else self.lost.discard)(key)
        return tuple(spans)

    def _spans_of_element(self, key: str, element: Element, universe: str, address: int) -> tuple[Span, ...]:
        parts, _ = self.cables_and_sums.stretch_element(element, self.rig.universes[universe].number, address)
        spans = []
        for part in parts:
            uid = self._numbers.get(part.universe)
            if uid is None:
                self.missing[key] = part.universe
                break
            spans.append(Span(key, 0, uid, part.first, part.last, part.done))
        if (
            parts
            and key not in self.missing
            and parts[-1].done + parts[-1].last - parts[-1].first + 1 < element.slots_needed
        ):
            self.missing[key] = parts[-1].universe + 1  # past the highest universe that any protocol numbers
        return tuple(spans)

    def _on_cable(self, key: str) -> tuple[Span, ...]:
        """The spans of an element that its cables place, on as many ports as it is attached."""
        spans = []
        for part, done in self.cables_and_sums.element_parts(key):
            uid = self._numbers.get(part.universe)
            if uid is None:
                self.missing.setdefault(key, part.universe)
            else:
                spans.append(Span(key, 0, uid, part.first, part.last, done))
        return tuple(spans)

    def _by_pixel(self, key: str) -> tuple[Span, ...]:
        """Where the pixel stands that drives a lamp behind a converter."""
        lamp = self.cables_and_sums.converter_of_fixture(key)
        if lamp is None:
            return ()
        piece, first = lamp.piece, (lamp.number - 1) * lamp.piece.k
        spans = []
        for part in piece.parts:
            low, high = max(first, part.done), min(first + piece.k, part.done + part.last - part.first + 1)
            uid = self._numbers.get(part.universe)
            if low < high and uid is not None:
                at = part.first - part.done
                spans.append(Span(key, BY_PIXEL, uid, at + low, at + high - 1, low - first))
        return tuple(spans)

    def _segments_of_ports(self, ports: Iterable[PortRef]) -> Iterable[SegmentRef]:
        """The segments of some ports that may take slots which are no item's."""
        for ref in ports:
            stream = self.cables_and_sums.streams.get(ref)
            for piece in stream.pieces if stream else ():
                if piece.segment.kind in ("bridge", "lamps") or piece.key in self.rig.fixtures:
                    yield SegmentRef(*ref, piece.n)

    def _stretch_of_segment(self, ref: SegmentRef) -> tuple[Span, ...]:
        """What a segment takes of the universes besides the slots of the items on it.

        A bridge turns its whole width into DMX, so the addresses between and behind its lamps are taken as well; a
        converter takes a pixel also for a lamp that nobody named.
        """
        if ref.place == BUS:
            return self._behind_gateway(ref)
        piece = self.piece_of_taker(ref)
        if piece is None or (piece.segment.kind not in ("bridge", "lamps") and piece.key not in self.rig.fixtures):
            return ()
        own = [s for k in {piece.key, *piece.segment.fixtures} for s in self._spans.get(k, ())]
        spans = []
        for part in piece.parts:
            uid = self._numbers.get(part.universe)
            if uid is None:
                continue
            taken = [(max(s.first, part.first), min(s.last, part.last)) for s in own if s.universe == uid]
            for a, b in free_between([t for t in taken if t[0] <= t[1]], part.last):
                if b >= part.first:
                    a = max(a, part.first)
                    spans.append(Span(ref, 0, uid, a, b, part.done + a - part.first))
        return tuple(spans)

    def _behind_gateway(self, ref: SegmentRef) -> tuple[Span, ...]:
        """What a lamp bus takes of its universe besides the slots of fixtures that its gear drive."""
        found = bus_of(self.rig, ref)
        if found is None:
            return ()
        first, last = found.first, found.first + found.bus.slots_needed - 1
        own = [s for g in found.bus.gear if g.fixture for s in self._spans.get(g.fixture, ())]
        taken = [
            (max(s.first, first), min(s.last, last))
            for s in own
            if s.universe == found.universe and s.first <= last and s.last >= first
        ]
        return tuple(
            Span(ref, 0, found.universe, max(a, first), b, max(a, first) - first)
            for a, b in free_between(sorted(taken), last)
            if b >= first
        )

    def _insert_item(self, key: Taker) -> None:
        spans = self._make_spans(key) if isinstance(key, str) else self._stretch_of_segment(key)
        if not spans:
            return
        self._spans[key] = spans
        for span in spans:
            row = self._free.pop() if self._free else self._used
            if row == self._used:
                self._used += 1
                if row >= len(self.uni):
                    self._grow_columns()
            uni = self._uni_row[span.universe]
            self.uni[row], self.first[row], self.last[row] = uni, span.first, span.last
            self._flat[row] = (uni * _PITCH + span.first << 10) + min(span.last, SLOTS) - min(span.first, SLOTS)
            self._on.setdefault(span.universe, {})[row] = span
            self._sorted.pop(span.universe, None)

    def _grow_columns(self) -> None:
        more = len(self.uni)
        self.uni = np.concatenate([self.uni, np.full(more, -1, np.int32)])
        self.first = np.concatenate([self.first, np.zeros(more, np.int32)])
        self.last = np.concatenate([self.last, np.zeros(more, np.int32)])
        self._flat = np.concatenate([self._flat, np.full(more, _NO_SPAN, np.int64)])

    def _remove_item(self, key: Taker) -> None:
        for span in self._spans.pop(key, ()):
            here = self._on[span.universe]
            row = next(n for n, s in here.items() if s is span)
            self.uni[row] = -1
            self._flat[row] = _NO_SPAN
            del here[row]
            self._sorted.pop(span.universe, None)
            self._free.append(row)

    def follow_change(self, rig: Rig, change: Change) -> Followed:
        """Take over a new rig that differs from the present one by `change`."""
        if change.changed_ids("universes") and self._follow_universes(rig, change.changed_ids("universes")):
            before = {s.universe for spans in self._spans.values() for s in spans}
            self.__init__(rig)  # type: ignore[misc]
            after = {s.universe for spans in self._spans.values() for s in spans}
            everything = frozenset((*rig.fixtures, *rig.elements))  # also what has no span now: it may have lost it
            return Followed(
                frozenset(before | after | change.changed_ids("universes")),
                everything,
                frozenset(self.cables_and_sums.streams),
            )
        items = self._placed_anew(rig, change.changed_ids("fixtures")) | set(change.changed_ids("elements"))
        if change.changed_ids("profiles"):
            self._widths.clear()
            items |= {fid for fid, f in rig.fixtures.items() if f.profile in change.changed_ids("profiles")}
        self.rig = rig
        if any(change.changed_ids(p) for p in ("devices", "feeds", "universes", "device_models")):
            self._limits = None
        if change.changed_ids("shares"):
            self._partners = None
        wiring = any(change.changed_ids(p) for p in ("devices", "feeds", "device_models", "profiles"))
        moved, ports, attached = self._resolver.follow_change(rig, items, wiring)
        items |= moved
        stayed = (
            change.changed_ids("fixtures") - items
        )  # called otherwise, perhaps: whoever names them has to look again
        universes = {s.universe for key in stayed for s in self._spans.get(key, ())}
        segments = {k for k in self._stretches if PortRef(k.device, k.port) in ports}
        segments |= {SegmentRef(*port, n) for key in items for port, n in self.cables_and_sums.ports_of_item(key)}
        segments.update(self._segments_of_ports(ports))
        if wiring or self.buses:
            segments |= self._buses_touched(rig, items, wiring)
        takers: list[Taker] = [*items, *segments]  # segments last: what they take is what the items on them leave
        for taker in takers:
            universes.update(s.universe for s in self._spans.get(taker, ()))
            self._remove_item(taker)
        for taker in takers:
            if isinstance(taker, SegmentRef) or taker in rig.fixtures or taker in rig.elements:
                self._insert_item(taker)
                universes.update(s.universe for s in self._spans.get(taker, ()))
            else:
                self.missing.pop(taker, None)
                self.open.discard(taker)
                self.lost.discard(taker)
        self._stretches -= segments
        self._stretches |= {k for k in segments if k in self._spans}
        behind = self._resolver.items_that_follow(set(stayed))
        return Followed(frozenset(universes), frozenset((*items, *behind)), frozenset(ports), frozenset(attached))

    def _buses_touched(self, rig: Rig, items: set[str], wiring: bool) -> set[SegmentRef]:
        """The lamp buses that an edit can have moved, brought or taken away, or whose fixtures it moved."""
        before, now = self.buses, buses_of(rig) if wiring else self.buses
        self.buses = now
        return {
            ref
            for ref in before | now
            if wiring or ((b := bus_of(rig, ref)) and any(g.fixture in items for g in b.bus.gear))
        }

    def _placed_anew(self, rig: Rig, fixtures: frozenset[str]) -> set[str]:
        """The fixtures of which anything may be another that places them: address, mode, cable. A name is nothing of
        that, and is often given to a hundred thousand at once."""
        before, after, attached = self.rig.fixtures, rig.fixtures, self.cables_and_sums.listed_items()
        return {
            fid
            for fid in fixtures
            if fid in attached
            or (old := before.get(fid)) is None
            or (new := after.get(fid)) is None
            or (old.at is not new.at and old.at != new.at)
            or old.mode != new.mode
            or old.profile != new.profile
        }

    def _follow_universes(self, rig: Rig, touched: frozenset[str]) -> bool:
        """Whether universes came, went, or changed in what places items: number and size."""
        for uid in touched:
            old, new = self.rig.universes.get(uid), rig.universes.get(uid)
            if old is None or new is None or (old.number, old.size) != (new.number, new.size):
                return True
        return False

    # ---- questions

    @property
    def cables_and_sums(self) -> Cables:
        """What is attached to ports, and the sums of their streams."""
        return self._resolver.cables

    def spans_of(self, key: Taker) -> tuple[Span, ...]:
        return self._spans.get(key, ())

    def span_of_break(self, key: str, break_no: int = 0) -> Span | None:
        """Where a break begins: its first span; of a lamp behind a converter that of the pixel that drives it."""
        for s in self._spans.get(key, ()):
            if s.break_no == break_no or (s.break_no == BY_PIXEL and not break_no):
                return s
        return None

    def all_spans(self) -> Iterable[Span]:
        for spans in self._spans.values():
            yield from spans

    def items_on(self, universe: str) -> list[str]:
        """The fixtures and elements with slots in a universe, each once, by first slot."""
        return list(dict.fromkeys(s.item_of_span for s in self.spans_on_universe(universe) if s.item_of_span))

    def piece_of_taker(self, taker: Taker) -> Piece | None:
        """The piece of a stream that takes slots as a segment; None: an item does, or it is gone."""
        if isinstance(taker, str) or taker.place == BUS:
            return None
        stream = self.cables_and_sums.streams.get(PortRef(taker.device, taker.port))
        return stream.pieces[taker.place] if stream and taker.place < len(stream.pieces) else None

    def name_of_taker(self, taker: Taker) -> str:
        """What the crew calls what takes slots, in a word."""
        if isinstance(taker, str):
            return name_of_item(self.rig, taker)
        if taker.place == BUS:
            return taker.port
        piece = self.piece_of_taker(taker)
        return piece_name(self.rig, piece) if piece else "?"

    def word_for_taker(self, taker: Taker) -> str:
        """What the crew calls what takes slots: an item as always, a segment with its port and device."""
        if isinstance(taker, str):
            return name_of_item(self.rig, taker)
        device = self.rig.devices.get(taker.device)
        if taker.place == BUS:
            return f"{taker.port} of {device.name if device else taker.device}"
        return f"{self.name_of_taker(taker)} on port {taker.port} of {device.name if device else taker.device}"

    def spans_on_universe(self, universe: str) -> list[Span]:
        """Spans of one universe by first slot; ties by item. The list is the index's own: do not change it."""
        found = self._sorted.get(universe)
        if found is None:
            here = self._on.get(universe)
            found = sorted(here.values(), key=span_sort_key) if here else []
            self._sorted[universe] = found
        return found

    def limit_of_universe(self, universe: str) -> SlotLimit:
        """The last slot of a universe that counts, and why when that is not its own size."""
        found = self._all_limits().get(universe)
        return found if found else SlotLimit(self.rig.universes[universe].size)

    @property
    def low_limits(self) -> dict[str, SlotLimit]:
        """The limits of the universes that have one below their size; the same object until one can be another."""
        return self._all_limits()

    def spans_at_slot(self, universe: str, address: int) -> list[Span]:
        return [s for s in self.spans_on_universe(universe) if s.first <= address <= s.last]

    def _all_limits(self) -> dict[str, SlotLimit]:
        if self._limits is None:
            self._limits = limits_of_universes(self.rig)
        return self._limits

    def is_empty(self, universe: str) -> bool:
        """Whether nothing stands in a universe."""
        return not self._on.get(universe)

    def items_that_follow(self, key: str) -> list[str]:
        """Items whose place follows, directly or not, from this one's."""
        return self._resolver.items_that_follow({key})

    def occupancy_of_universe(self, universe: str) -> npt.NDArray[np.int16]:
        """How many items are on each slot: 512 counts, slot 1 at index 0."""
        edge = np.zeros(SLOTS + 1, np.int16)
        for s in self._on.get(universe, {}).values():
            if s.first <= SLOTS:
                edge[s.first - 1] += 1
                edge[min(s.last, SLOTS)] -= 1
        return np.cumsum(edge[:SLOTS], dtype=np.int16)

    def free_slots(self, universe: str) -> int:
        """Slots up to the limit that nothing is on; the declared reserve is not free."""
        size = self.limit_of_universe(universe).slots
        free = self.occupancy_of_universe(universe)[:size] == 0
        for first, last in self.rig.universes[universe].reserve:
            free[first - 1 : last] = False
        return int(np.count_nonzero(free))

    def free_stretches(self, universe: str) -> list[tuple[int, int]]:
        """The free stretches of a universe up to its limit, (first, last), reserve counted as taken."""
        taken = [(s.first, s.last) for s in self.spans_on_universe(universe)]
        return free_between([*taken, *self.rig.universes[universe].reserve], self.limit_of_universe(universe).slots)

    def universes_with_overlaps(self) -> set[str]:
        """Universes in which anything overlaps anything: one sort and one running maximum over all spans.

        A span is kept as one number, start · 1024 + length − 1, so that nothing but these numbers is sorted.
        """
        keys = np.sort(self._flat[: self._used])
        ends = keys & 1023
        ends <<= 10
        ends += keys
        ends |= 1023  # the last slot, with room for any length behind it, so that starts need not be taken out
        np.maximum.accumulate(ends, out=ends)
        hits = (keys[1:] <= ends[:-1]).nonzero()[0]
        if not hits.size:
            return set()
        rows = keys[1:][hits] >> 20  # _PITCH is 2 ** 10
        found = set(rows.tolist()) if hits.size < 2000 else set(_distinct_rows(rows))
        return {self._uni_name[n] for n in found if n >= 0}

    def past_the_end(self) -> set[str]:
        """Universes in which something ends past the limit."""
        rig = self.rig
        limits_ = self._all_limits()
        most = np.array([u.size for u in rig.universes.values()] or [SLOTS], np.int32)
        for uid, limit in limits_.items():
            most[self._uni_row[uid]] = limit.slots
        uni, last = self.uni[: self._used], self.last[: self._used]
        return {self._uni_name[n] for n in _distinct_rows(uni[(uni >= 0) & (last > most[uni])])}

    def starting_above(self, address: int) -> list[Span]:
        """Spans that start above an address."""
        rows = self.uni[: self._used][(self.uni[: self._used] >= 0) & (self.first[: self._used] > address)]
        return [s for n in _distinct_rows(rows) for s in self.spans_on_universe(self._uni_name[n]) if s.first > address]

    def clashes_in_universe(self, universe: str, most: int = 500) -> list[Clash]:
        """Pairs that overlap in one universe, at most `most`; declared shares and overlays are left out."""
        found: list[Clash] = []
        open_: list[Span] = []
        reach = 0
        for span in self.spans_on_universe(universe):
            if span.first > reach:
                open_ = [span]
                reach = span.last
                continue
            open_ = [o for o in open_ if o.last >= span.first]
            for o in open_:
                if not self.is_meant_overlap(o, span):
                    found.append(Clash(o, span, span.first, min(o.last, span.last)))
                    if len(found) >= most:
                        return found
            open_.append(span)
            reach = max(reach, span.last)
        return found

    def is_meant_overlap(self, a: Span, b: Span) -> bool:
        """Whether two spans lie on each other on purpose: an overlay, or a share that stands as declared."""
        if not isinstance(a.key, str) and not isinstance(b.key, str) and a.key.place == BUS == b.key.place:
            return False  # two buses on the same slots: each drives the other's gear
        if not a.item_of_span or not b.item_of_span:
            # Two segments: told by the rule of their device, and on two devices a split, which is no fault. A lamp that
            # hangs on it has its own slots, so a segment never meets what is its own.
            return not (a.item_of_span or b.item_of_span)
        if BY_PIXEL in (a.break_no, b.break_no):
            lamp, other = (a, b) if a.break_no == BY_PIXEL else (b, a)
            on = self.cables_and_sums.converter_of_fixture(lamp.item_of_span)
            return (
                on is not None and on.piece.key == other.item_of_span
            )  # an element of pixels, and the lamps that they drive
        together = self._shares_of_items()
        if a.item_of_span not in together or b.item_of_span not in together:
            return False
        for sid in together[a.item_of_span] & together[b.item_of_span]:
            if self.rig.shares[sid].kind == "overlay" or (a.first, a.last) == (b.first, b.last):
                return True
        return False

    def _shares_of_items(self) -> dict[str, frozenset[str]]:
        if self._partners is None:
            member: dict[str, frozenset[str]] = {}
            for sid, share in self.rig.shares.items():
                for key in share.members:
                    member[key] = member.get(key, frozenset()) | {sid}
            self._partners = member
        return self._partners

    def shared_with(self, key: str) -> list[str]:
        """The other members of the shares and overlays an item belongs to."""
        shares = self.rig.shares
        return sorted({m for sid in self._shares_of_items().get(key, ()) for m in shares[sid].members if m != key})
