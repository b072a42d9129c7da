"""Where each item starts: typed, anchored to another item, or made by its place on a cable."""

from __future__ import annotations

from collections import defaultdict

from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.lookup import mode_of
from welvo.rig.patched import Place
from welvo.rig.refs import PortRef
from welvo.runs.cable import Cables

Start = tuple[str, int]


class Resolver:
    """Answers `start(item, break)` and remembers who depends on whom."""

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self._known: dict[tuple[str, int], Start | None] = {}
        self._followers: dict[str, set[str]] = defaultdict(set)
        self._anchors: dict[str, set[str]] = {}
        self._on_runs: set[str] = set()
        self.cables = Cables(rig)
        for key, fixture in rig.fixtures.items():
            for p in fixture.at:
                if p.after or p.from_run:
                    self._note_places(key)
                    break
        for key in rig.elements:
            self._note_places(key)

    def _places_of_item(self, key: str) -> tuple[Place, ...]:
        fixture = self.rig.fixtures.get(key)
        if fixture:
            return fixture.at
        element = self.rig.elements.get(key)
        return (element.at,) if element else ()

    def _note_places(self, key: str) -> None:
        places = self._places_of_item(key)
        anchors = {p.after for p in places if p.origin_of_place == "anchored"}
        for anchor in self._anchors.get(key, set()) - anchors:
            self._followers[anchor].discard(key)
        for anchor in anchors:
            self._followers[anchor].add(key)
        if anchors:
            self._anchors[key] = anchors
        else:
            self._anchors.pop(key, None)
        if any(p.origin_of_place == "run" for p in places):
            self._on_runs.add(key)
        else:
            self._on_runs.discard(key)

    def start_of_break(self, key: str, break_no: int) -> Start | None:
        """Universe id and address, or None when it is nowhere (not patched, lost anchor, loop)."""
        return self._resolve_start(key, break_no, frozenset())

    def _resolve_start(self, key: str, break_no: int, trail: frozenset[tuple[str, int]]) -> Start | None:
        places = self._places_of_item(key)
        if break_no >= len(places):
            return None
        place = places[break_no]
        origin = place.origin_of_place
        if origin == "typed" and place.address is not None:
            return (place.universe, place.address) if place.universe in self.rig.universes else None
        me = (key, break_no)
        if me in self._known:
            return self._known[me]
        if me in trail:
            return None
        found: Start | None = None
        if origin == "anchored":
            found = self._start_behind(place, break_no, trail | {me})
        elif origin == "run":
            found = self.cables.start_on_cable(key, break_no)
        if not trail or found:
            self._known[me] = found
        return found

    def _start_behind(self, place: Place, break_no: int, trail: frozenset[tuple[str, int]]) -> Start | None:
        fixture = self.rig.fixtures.get(place.after)
        if fixture:
            mode = mode_of(self.rig, fixture)
            if mode is None:
                return None
            b = break_no if break_no < len(mode.breaks) else 0
            start = self._resolve_start(place.after, b, trail)
            address = start[1] + mode.breaks[b].slots + place.gap if start else 0
            return (start[0], address) if start and address <= SLOTS else None
        element = self.rig.elements.get(place.after)
        start = self._resolve_start(place.after, 0, trail) if element else None
        if not element or not start:
            return None
        if element.at.origin_of_place == "run":
            last = self.cables.element_parts(place.after)[-1][0]
            number, address = last.universe, last.last + 1 + place.gap
        else:
            parts, _ = self.cables.stretch_element(element, self.rig.universes[start[0]].number, start[1])
            if not parts:
                return None
            number, address = parts[-1].universe, parts[-1].last + 1 + place.gap
        uid = self.cables.universe_with_number(number)
        return (uid, address) if uid and address <= SLOTS else None

    def items_that_follow(self, keys: set[str]) -> list[str]:
        found: dict[str, None] = {}
        todo = list(keys)
        while todo:
            for follower in sorted(self._followers.get(todo.pop(), ())):
                if follower not in found and follower not in keys:
                    found[follower] = None
                    todo.append(follower)
        return list(found)

    def follow_change(self, rig: Rig, keys: set[str], cables_too: bool) -> tuple[set[str], set[PortRef], set[str]]:
        """Take over a new rig; gives all items whose start may be another one now, `keys` among them, the ports whose
        sums are new, and what is attached to those, now or before."""
        self.rig = rig
        for key in keys:
            self._note_places(key)
        touched = keys | set(self.items_that_follow(keys))
        ports: set[PortRef] = set()
        attached: set[str] = set()
        if cables_too or any(self.cables.ports_of_item(k) for k in touched):
            moved, ports, attached = self.cables.follow_rig(rig)
            touched |= moved & self._on_runs
            touched |= set(self.items_that_follow(touched))
        else:
            self.cables.rig = rig
        for known in (
            [k for k in self._known if k[0] in touched]
            if len(touched) > 50
            else [(key, b) for key in touched for b in range(64) if (key, b) in self._known]
        ):
            del self._known[known]
        return touched, ports, attached
