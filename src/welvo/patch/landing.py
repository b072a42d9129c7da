"""What placing an item somewhere would mean, before it is done: whom it meets, what is free around it."""

from __future__ import annotations

from msgspec import Struct

from welvo.buses.plan import bus_of
from welvo.patch.index import Index, Span, Taker
from welvo.patch.steps import footprint_of
from welvo.rig.lookup import name_of_item, universe_by_number
from welvo.rig.patched import Place
from welvo.rig.refs import BUS


class Landing(Struct, frozen=True):
    """What placing an item somewhere would mean, before it is done.

    `meets` lists (who, universe id, first, last) of what it would lie on; `cuts` the pixels it would have in two
    universes, `goes_on` the number of the last universe it runs into, `needs` one that the rig does not have.
    """

    universe: str
    first: int
    last: int
    meets: tuple[tuple[Taker, str, int, int], ...]
    free_before: int
    free_after: int
    past_end: int
    refused: str = ""
    cuts: tuple[int, ...] = ()
    goes_on: int = 0
    needs: int = 0
    why: str = ""
    """What sets the end, in words, where it comes before the universe's own: a device that takes fewer slots."""

    @property
    def is_clean(self) -> bool:
        return not self.meets and not self.past_end and not self.refused and not self.cuts and not self.needs


def foresee_landing(
    index: Index, key: str, break_no: int, universe: str, address: int, ignore: frozenset[str] = frozenset()
) -> Landing:
    """Consequences of moving one break of an item to an address: whom it meets, what is free around it.

    Items in `ignore` move along and are not met.
    """
    rig = index.rig
    limit = index.limit_of_universe(universe)
    size = limit.slots
    element = rig.elements.get(key)
    fixture = rig.fixtures.get(key)
    cuts: tuple[int, ...] = ()
    goes_on = needs = 0
    skipped = False
    if element:
        number = rig.universes[universe].number
        parts, _ = index.cables_and_sums.stretch_element(element, number, address)
        last = parts[0].last if parts else address
        skipped = bool(parts) and parts[0].universe != number
        mine = []
        for part in parts:
            uid = universe_by_number(rig, part.universe)
            if not uid:
                needs = part.universe
                break
            mine.append((uid, part.first, part.last))
            goes_on = part.universe if part.universe != number else 0
            if part.done % element.slots_per_pixel:
                cuts += (part.done // element.slots_per_pixel + 1,)
    else:
        last = address + footprint_of(rig, key, break_no) - 1
        mine = [(universe, address, last)]
    found = []
    for uid, a, b in mine:
        for s in index.spans_on_universe(uid):
            if s.first > b:
                break
            if (
                s.last < a
                or (s.key, s.break_no) == (key, break_no)
                or s.item_of_span in ignore
                or (element and s.key == key)
            ):
                continue
            if not isinstance(s.key, str) and s.key.place == BUS:
                bus = bus_of(rig, s.key)
                if bus and any(g.fixture == key for g in bus.bus.gear):
                    continue  # a gear of this bus drives it
            piece = index.piece_of_taker(s.key)
            if piece and key in piece.segment.fixtures:
                continue  # its own bridge: what it leaves there is taken by it again
            if index.is_meant_overlap(Span(key, break_no, uid, a, b, 0), s):
                continue
            found.append((s.key, uid, max(a, s.first), min(b, s.last)))
    others = [
        s for s in index.spans_on_universe(universe) if (s.key, s.break_no) != (key, break_no) and s.key not in ignore
    ]
    before_ = address - 1 - max((s.last for s in others if s.last < address), default=0)
    after = min((s.first for s in others if s.first > last), default=size + 1) - last - 1
    place = fixture.place_of_break(break_no) if fixture else element.at if element else Place()
    refused = f"{name_of_item(rig, key)} is locked" if place.locked else ""
    if place.origin_of_place == "run":
        refused = refused or f"{name_of_item(rig, key)} follows its cable"
    if skipped and element:
        highest = rig.universes[universe].size - element.slots_per_pixel + 1
        refused = refused or f"no whole pixel fits there; the highest start is {highest}"
    return Landing(
        universe,
        first=address,
        last=last,
        meets=tuple(found),
        free_before=max(0, before_),
        free_after=max(0, after),
        past_end=max(0, last - size),
        refused=refused,
        cuts=cuts,
        goes_on=goes_on,
        needs=needs,
        why=limit.why,
    )
