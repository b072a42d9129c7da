"""Stream sums: where every segment of every cable stands in its port's stream and in the universes.

Counting along a cable: a port's stream begins at one slot of one universe; each segment takes its slots right behind
the one before. What the sender sends is counted in *slots of the stream* and *data pixels*; null pixels and grouping
make the cable longer, not the stream. Padding at a universe's end belongs to the universe, never to the stream.

All sums stand here because each of them has been asked for by two callers that then differed: typed elements and
elements on a port are stretched over universes by the one function `lay_slots`, and whoever wants a pixel's slot, a
port's last universe or the place of a cut asks a `Piece`. An edit sums all ports again (one costs microseconds), but
a stream that comes out equal keeps its object: `follow_rig` compares by identity, so that what stands on an untouched
port is not looked at again by the index, the checks or the drawings.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import NamedTuple

from welvo.rig.abilities import port_gives_what
from welvo.rig.counting import HIGHEST_SACN
from welvo.rig.document import Rig
from welvo.rig.lookup import mode_of, universe_ids
from welvo.rig.patched import Element
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef
from welvo.rig.runs import Segment, dmx_key
from welvo.rig.wiring import Port


class UniversePart(NamedTuple):
    """Slots `first`..`last` of the universe numbered `universe`; `done` slots of the segment come before."""

    universe: int
    first: int
    last: int
    done: int


def place_in(parts: tuple[UniversePart, ...], within: int) -> tuple[int, int] | None:
    """Universe number and address of slot `within` (from 1) of what was laid in parts; None past its end."""
    for p in parts:
        if p.done < within <= p.done + p.last - p.first + 1:
            return p.universe, p.first + within - p.done - 1
    return None


class Piece(NamedTuple):
    """One segment in its port's stream.

    `stream` is its first slot in the stream and `px` its first data pixel, both from 1; `led` the first place on the
    cable, from 1, with null pixels and grouped ones counted. It takes `slots` slots as `pixels` data pixels of `k`
    components, and `leds` places of the cable. `parts` is where they are in the universes; empty without a feed.
    """

    n: int
    segment: Segment
    key: str
    stream: int
    slots: int
    px: int
    pixels: int
    led: int
    leds: int
    k: int
    parts: tuple[UniversePart, ...]

    def place_of_slot(self, within: int) -> tuple[int, int] | None:
        """Universe number and address of slot `within` (from 1) of the segment."""
        return place_in(self.parts, within)

    def slot_at_place(self, universe: int, address: int) -> int:
        """Which slot of the segment (from 1) is at an address; 0: none."""
        for p in self.parts:
            if p.universe == universe and p.first <= address <= p.last:
                return p.done + address - p.first + 1
        return 0


class PortStream(NamedTuple):
    """A port's stream: its pieces in cable order and its sums.

    `start` is (universe number, address) of its first slot, None without a feed; `after` the slot right behind its last
    one, `ends` where what is configured ends if that reaches further. `whole` says whether pixels stay whole.
    """

    device_id: str
    label: str
    start: tuple[int, int] | None
    pieces: tuple[Piece, ...]
    slots: int
    pixels: int
    leds: int
    after: tuple[int, int] | None
    ends: tuple[int, int] | None
    whole: bool
    used: tuple[tuple[int, int], ...]
    """Universes it goes through, lowest first, each with the last slot that is needed of it."""


class DmxLine(NamedTuple):
    """A DMX line on a port: the universe it carries, its segment and place in the run, and what it is made of."""

    universe: str
    segment: Segment
    n: int
    items: tuple[object, ...]


class Behind(NamedTuple):
    """One break of a fixture on a bridge's or a port's DMX line: `slots` from DMX address `dmx` on; 0: not reached."""

    key: str
    break_no: int
    dmx: int
    slots: int


class ConverterLamp(NamedTuple):
    """A lamp behind a converter: its port's stream, the converter's piece, and which lamp of it, from 1."""

    stream: PortStream
    piece: Piece
    number: int


def lay_slots(
    number: int, address: int, slots: int, k: int, size: Callable[[int], int], whole: bool
) -> tuple[tuple[UniversePart, ...], int, int]:
    """Lay `slots` slots in pixels of `k` from an address on. Gives the parts and the place right behind them.

    With `whole`, what is left of a universe that cannot hold a pixel stays empty. A pixel wider than a universe
    fits nowhere: nothing is laid from there on. Nothing is laid past the highest universe that any protocol numbers.
    """
    parts: list[UniversePart] = []
    done = 0
    while done < slots and number <= HIGHEST_SACN:
        room = max(0, size(number) - address + 1)
        if whole and k > 1:
            room -= room % k
        take = min(room, slots - done)
        if take:
            parts.append(UniversePart(number, address, address + take - 1, done))
            done += take
        elif address == 1:
            break
        if done < slots:
            number, address = number + 1, 1
        else:
            address += take
    if address > size(number):
        number, address = number + 1, 1
    return tuple(parts), number, address


def own_size(rig: Rig, segment: Segment) -> tuple[int, int, int]:
    """(LEDs on the cable, data pixels, components of one) of a segment, before null pixels are told apart."""
    if segment.kind == "pixels":
        element = rig.elements.get(segment.element)
        if element:
            if element.kind == "block":
                left = max(0, element.slots - segment.first + 1)
                slots = min(segment.count or left, left)
                return 0, slots, 1
            left = max(0, element.pixels - segment.first + 1)
            leds = min(segment.count or left, left)
            return leds, -(-leds // segment.group), len(element.order)
        fixture = rig.fixtures.get(segment.element)
        mode = mode_of(rig, fixture) if fixture else None
        if mode and mode.breaks:
            slots = mode.breaks[0].slots
            if mode.count_pixels and slots % mode.count_pixels == 0:
                return mode.count_pixels, mode.count_pixels, slots // mode.count_pixels
            return -(-slots // 3), -(-slots // 3), 3  # no plain pixels: as many RGB pixels as its slots fill
        return 0, 0, 1
    k = len(segment.order) or 3
    if segment.kind == "bridge":
        return 0, -(-segment.width // k), k
    if segment.kind == "lamps":
        element = rig.elements.get(segment.element)
        if element and element.kind != "block":
            return 0, segment.count or element.pixels, len(element.order)
        return 0, segment.count or len(segment.fixtures), k
    return (segment.count if segment.kind == "null" else 0), 0, 1


class Cables:
    """All streams of a rig, and which items are attached where. `follow_rig` keeps every stream that did not change."""

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self._known: dict[PortRef, tuple[tuple[object, ...], PortStream]] = {}
        self.streams: dict[PortRef, PortStream] = {}
        self._where: dict[str, list[tuple[PortRef, int]]] = {}
        self._sum_up_runs()

    def _sum_up_runs(self) -> None:
        rig = self.rig
        self._sizes = {u.number: u.size for u in rig.universes.values()}
        self._ids = universe_ids(rig)
        known, self._known, self.streams = self._known, {}, {}
        for device_id, device in rig.devices.items():
            model = model_of(rig, device_id)
            order = model.ports if model else tuple(device.ports)
            before: tuple[int, int] | None = None
            for label in (*order, *(p for p in device.ports if p not in order)):
                port = device.ports.get(label)
                if (
                    port is None
                    or not (port.run or port.pixels or port.feed)
                    or port_gives_what(rig, device_id, label) != "pixels"
                ):
                    continue
                start = self._start_of_port(port, before)
                facts = (
                    port,
                    start,
                    device.size,
                    device.packs,
                    self._sizes_near(start),
                    *self._items_behind_sum(port.run),
                )
                old = known.get(PortRef(device_id, label))
                if old and len(old[0]) == len(facts) and all(_are_same_sums(a, b) for a, b in zip(old[0], facts)):
                    stream = old[1]
                else:
                    stream = self._stream_of_port(device_id, label, start)
                ref = PortRef(device_id, label)
                self._known[ref] = (facts, stream)
                self.streams[ref] = stream
                before = stream.ends or before
        self._find_items()

    def _start_of_port(self, port: Port, before: tuple[int, int] | None) -> tuple[int, int] | None:
        """Universe and slot where a port's stream begins; `before` is the first slot behind the port before it."""
        if not port.follows:
            feed = self.rig.feeds.get(port.feed)
            universe = self.rig.universes.get(feed.universe) if feed else None
            return (universe.number, port.start) if universe else None
        if port.follows == "universe" and before and before[1] > 1:
            return before[0] + 1, 1  # a universe begun is left to the port before: this one takes the next
        return before

    def _find_items(self) -> None:
        """Which items are on which ports: along the streams, behind bridges and converters, and on DMX lines."""
        rig = self.rig
        where: dict[str, list[tuple[PortRef, int]]] = {}
        for key, stream in self.streams.items():
            for piece in stream.pieces:
                if piece.key:
                    where.setdefault(piece.key, []).append((key, piece.n))
                for member in piece.segment.fixtures:
                    where.setdefault(member, []).append((key, piece.n))
        self.lines: dict[PortRef, DmxLine] = {}
        """DMX lines of ports, by port; the first of each."""
        for device_id, device in rig.devices.items():
            for label, port in device.ports.items():
                for n, segment in enumerate(port.run):
                    ref = PortRef(device_id, label)
                    if segment.kind == "line" and ref not in self.lines:
                        feed = rig.feeds.get(port.feed)
                        self.lines[ref] = DmxLine(
                            feed.universe if feed else "", segment, n, tuple(self._items_behind_sum((segment,)))
                        )
                        for member in segment.fixtures:
                            where.setdefault(member, []).append((ref, n))
        self._where = where

    def _items_behind_sum(self, run: tuple[Segment, ...]) -> Iterable[object]:
        """What the sums of a run are made of besides the run itself."""
        rig = self.rig
        for s in run:
            if s.element:
                fixture = rig.fixtures.get(s.element)
                yield (mode_of(rig, fixture) if fixture else rig.elements.get(s.element))
            if s.model:
                yield rig.device_models.get(s.model)
            for f in s.fixtures:
                fixture = rig.fixtures.get(f)
                yield fixture
                yield (mode_of(rig, fixture) if fixture else None)

    def _sizes_near(self, start: tuple[int, int] | None) -> tuple[int, ...]:
        """Sizes of all universes, as far as they are not all one: then that one."""
        if start is None:
            return ()
        sizes = set(self._sizes.values())
        return (sizes.pop(),) if len(sizes) == 1 else tuple(v for _, v in sorted(self._sizes.items()))

    def size_of_universe(self, number: int, first: int) -> int:
        """Slots the sender uses of a universe; of one the rig does not have, as many as of the first."""
        return self._sizes.get(number) or self._sizes.get(first, 512)

    def _stream_of_port(self, device_id: str, label: str, start: tuple[int, int] | None) -> PortStream:
        rig = self.rig
        device = rig.devices[device_id]
        port = device.ports[label]
        whole = device.packs == "whole"
        first = start[0] if start else 0

        def size_of_universe(number: int) -> int:
            return self.size_of_universe(number, first)

        pieces: list[Piece] = []
        cursor = start
        slots = pixels = leds = 0
        need: dict[int, int] = {}
        for n, segment in enumerate(port.run):
            own_leds, data, k = own_size(rig, segment)
            takes = data * k
            if segment.kind == "bridge" and self._passed_on_words(segment) == "slot":
                takes = segment.width
            elif segment.element in rig.fixtures:
                mode = mode_of(rig, rig.fixtures[segment.element])
                takes = min(takes, mode.breaks[0].slots) if mode and mode.breaks else takes
            parts: tuple[UniversePart, ...] = ()
            if segment.takes_slots:
                own = segment.at
                if own.origin_of_place == "typed" and own.universe in rig.universes and own.address:
                    cursor = (rig.universes[own.universe].number, own.address)
                if cursor and takes:
                    parts, *rest = lay_slots(*cursor, takes, k, size_of_universe, whole)
                    cursor = (rest[0], rest[1])
                    for part in parts:
                        need[part.universe] = max(need.get(part.universe, 0), part.last)
            on_cable = own_leds or (data if segment.takes_slots and segment.kind != "pixels" else own_leds)
            pieces.append(
                Piece(n, segment, segment.element, slots + 1, takes, pixels + 1, data, leds + 1, on_cable, k, parts)
            )
            slots += takes
            pixels += data
            leds += on_cable
        ends = cursor
        if port.pixels and start:
            k = pieces[0].k if pieces else 3
            _, *rest = lay_slots(*start, port.pixels * k, k, size_of_universe, whole)
            if cursor is None or (rest[0], rest[1]) > cursor:
                ends = (rest[0], rest[1])
        return PortStream(
            device_id,
            label,
            start,
            tuple(pieces),
            slots,
            pixels,
            leds,
            cursor,
            ends,
            whole,
            tuple(sorted(need.items())),
        )

    def _passed_on_words(self, segment: Segment) -> str:
        model = self.rig.device_models.get(segment.model)
        return model.passes if model else "nothing"

    # ---- questions

    def universe_with_number(self, number: int) -> str:
        """The id of the universe with a number; empty when the rig has none."""
        return self._ids.get(number, "")

    def stretch_element(
        self, element: Element, number: int, address: int
    ) -> tuple[tuple[UniversePart, ...], tuple[int, int]]:
        """An element laid over universes from an address on, and the place right behind it.

        Every universe counts with its own size; one that the rig does not have, with that of the first.
        """
        parts, *behind = lay_slots(
            number,
            address,
            element.slots_needed,
            element.slots_per_pixel,
            lambda n: self.size_of_universe(n, number),
            element.whole,
        )
        return parts, (behind[0], behind[1])

    def on_runs(self, key: str) -> list[tuple[PortStream, Piece]]:
        """The pieces an item is attached as, or behind whose bridge it is attached, in the order of devices and
        ports."""
        return [(self.streams[k], self.streams[k].pieces[n]) for k, n in self._where.get(key, ()) if k in self.streams]

    def ports_of_item(self, key: str) -> list[tuple[PortRef, int]]:
        """Every port and place in its run where an item is listed."""
        return self._where.get(key, [])

    def listed_items(self) -> dict[str, list[tuple[PortRef, int]]]:
        """All items that a run lists, each with its ports and places. The dictionary is its own: do not change it."""
        return self._where

    def fixtures_behind(self, segment: Segment, piece: Piece | None = None, universe: str = "") -> list[Behind]:
        """The fixtures of a bridge or a line with their DMX addresses.

        A break that follows the cable stands right behind what is before it, or where `dmx` puts it. One with an
        address of its own stands there: on a line of `universe` at that address, behind a bridge where the stream
        carries it, 0 when it does not.
        """
        rig = self.rig
        found: list[Behind] = []
        cursor = 1
        for member in segment.fixtures:
            fixture = rig.fixtures.get(member)
            mode = mode_of(rig, fixture) if fixture else None
            if fixture is None or mode is None:
                continue
            for b, break_no in enumerate(mode.breaks):
                place = fixture.place_of_break(b)
                if place.origin_of_place == "run":
                    dmx = segment.dmx.get(dmx_key(member, b), cursor)
                elif place.origin_of_place == "typed" and place.address and piece is not None:
                    home = rig.universes.get(place.universe)
                    dmx = piece.slot_at_place(home.number, place.address) if home else 0
                elif place.origin_of_place == "typed" and place.address:
                    if place.universe != universe:
                        continue
                    dmx = place.address
                else:
                    continue
                found.append(Behind(member, b, dmx, break_no.slots))
                if dmx:
                    cursor = max(cursor, dmx + break_no.slots)
        return found

    def start_on_cable(self, key: str, break_no: int) -> tuple[str, int] | None:
        """Universe id and address that an item which follows its cable gets from it; None when it gets none.

        An element that is attached in parts begins where the part with its lowest pixels does.
        """
        if key in self.rig.elements:
            own = [p for _, p in self.on_runs(key) if p.key == key and p.parts]
            first = min(own, key=lambda p: p.segment.first).parts[0] if own else None
            uid = self._ids.get(first.universe) if first else None
            return (uid, first.first) if first and uid else None
        for port, n in self._where.get(key, ()):
            stream = self.streams.get(port)
            if stream is None:
                line = self.lines.get(port)
                if line is None or line.n != n or line.universe not in self.rig.universes:
                    continue
                for b in self.fixtures_behind(line.segment, None, line.universe):
                    if (b.key, b.break_no) == (key, break_no):
                        return (line.universe, b.dmx) if 0 < b.dmx <= 512 else None
                continue
            piece = stream.pieces[n]
            if piece.key == key:
                place = piece.place_of_slot(1)
            elif piece.segment.kind == "bridge":
                dmx = next(
                    (
                        b.dmx
                        for b in self.fixtures_behind(piece.segment, piece)
                        if (b.key, b.break_no) == (key, break_no)
                    ),
                    0,
                )
                place = piece.place_of_slot(dmx) if dmx else None
            else:
                place = None
            if place:
                uid = self._ids.get(place[0])
                return (uid, place[1]) if uid else None
        return None

    def converter_of_fixture(self, key: str) -> ConverterLamp | None:
        """The converter that drives a fixture with one of its pixels; None: there is none."""
        for stream, piece in self.on_runs(key):
            if piece.segment.kind == "lamps" and key in piece.segment.fixtures:
                return ConverterLamp(stream, piece, piece.segment.fixtures.index(key) + 1)
        return None

    def element_parts(self, key: str) -> list[tuple[UniversePart, int]]:
        """The parts of an element over all ports it is attached to, each with how many data slots of it come before."""
        found = []
        for _, piece in self.on_runs(key):
            if piece.key == key:
                s = piece.segment
                before = s.first - 1 if piece.k == 1 and not piece.leds else (s.first - 1) // s.group * piece.k
                found += [(part, before + part.done) for part in piece.parts]
        return sorted(found, key=lambda p: p[1])

    # ---- following

    def follow_rig(self, rig: Rig) -> tuple[set[str], set[PortRef], set[str]]:
        """Take over a new rig; gives the items whose place may be another one, the ports that were summed anew, and
        everything that is attached to these, now or before."""
        old_streams, old_lines, old_where = self.streams, self.lines, self._where
        self.rig = rig
        self._sum_up_runs()
        changed = {k for k in {*old_streams, *self.streams} if old_streams.get(k) is not self.streams.get(k)}
        changed |= {k for k in {*old_lines, *self.lines} if not _same_line(old_lines.get(k), self.lines.get(k))}
        old, new = _place_of_ports(changed, old_streams, old_lines), _place_of_ports(changed, self.streams, self.lines)
        items = {k for k in {*old, *new} if old.get(k) != new.get(k)}
        if old_where.keys() != self._where.keys():
            items |= old_where.keys() ^ self._where.keys()
        return items, changed, items | old.keys() | new.keys()


def _place_of_ports(
    ports: set[PortRef], streams: dict[PortRef, PortStream], lines: dict[PortRef, DmxLine]
) -> dict[str, list[object]]:
    """What places the items of some ports, by item: equal lists mean that it stays where it was."""
    found: dict[str, list[object]] = {}
    for key in sorted(ports):
        stream = streams.get(key)
        for p in stream.pieces if stream else ():
            if p.key:
                found.setdefault(p.key, []).append((p.parts, p.segment.first, p.segment.group, p.slots))
            for member in p.segment.fixtures:
                # A lamp behind a bridge stands behind the lamps before it, so their modes and addresses place it too.
                # The stream was summed anew for one of them: its being another object says so, and tells more than
                # enough.
                found.setdefault(member, []).append((p.parts, id(stream)))
        line = lines.get(key)
        for member in line.segment.fixtures if line else ():
            found.setdefault(member, []).append((line, [id(t) for t in line.items] if line else 0))
    return found


def _are_same_sums(a: object, b: object) -> bool:
    return a is b or (type(a) in (tuple, int, str) and a == b)


def _same_line(a: DmxLine | None, b: DmxLine | None) -> bool:
    if a is None or b is None:
        return a is b
    return len(a.items) == len(b.items) and all(
        _are_same_sums(x, y) for x, y in zip((*a[:3], *a.items), (*b[:3], *b.items))
    )
