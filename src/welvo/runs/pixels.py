"""Every pixel of a port's stream at once: where it is in the stream, in the universes and on the cable."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from msgspec import Struct
from msgspec.structs import replace

from welvo.rig.document import Rig
from welvo.rig.plan import universe_size
from welvo.runs.along import element_pixel, piece_name
from welvo.runs.cable import Cables, Piece, PortStream, UniversePart, lay_slots

Ints = npt.NDArray[np.int64]


class PixelTable(Struct, frozen=True):
    """One row per data pixel of a stream, in the order the sender sends them.

    `piece` is its segment's place in the run, `px` its number there (from 1), `slot` the stream slot of its first
    component. `universe` and `address` are where that is, `last_universe` and `last_address` where its last component
    is; `cut_pixels` says that they are not in one universe. Universe 0: nothing carries it.
    """

    piece: Ints
    px: Ints
    slot: Ints
    universe: Ints
    address: Ints
    last_universe: Ints
    last_address: Ints

    @property
    def cut_pixels(self) -> npt.NDArray[np.bool_]:
        return np.asarray(self.universe != self.last_universe)


def places_of_slots(parts: tuple[UniversePart, ...], within: Ints) -> tuple[Ints, Ints]:
    """Universe numbers and addresses of slots `within` (from 1) of a segment; 0 where nothing carries them."""
    if not parts:
        nowhere = np.zeros(len(within), np.int64)
        return nowhere, nowhere
    table = np.array(parts, np.int64)
    at = np.searchsorted(table[:, 3], within - 1, "right") - 1
    universe, first, last, done = table[at].T
    address = first + within - 1 - done
    lost = address > last
    return np.where(lost, 0, universe), np.where(lost, 0, address)


def pixel_table(stream: PortStream) -> PixelTable:
    """The table of all data pixels of a stream, worked out for the whole port at once."""
    pieces = [p for p in stream.pieces if p.pixels]
    none = np.zeros(0, np.int64)
    if not pieces:
        return PixelTable(*[none] * 7)
    shape = np.array([(p.n, p.pixels, p.k, p.stream, p.slots, p.px) for p in pieces], np.int64)
    n, k, stream_, slots, px_ = (np.repeat(c, shape[:, 1]) for c in shape.T[[0, 2, 3, 4, 5]])
    px = np.arange(1, len(n) + 1, dtype=np.int64) - px_ + 1
    first = stream_ + (px - 1) * k
    last = np.minimum(first + k - 1, stream_ + slots - 1)
    parts = tuple(part._replace(done=p.stream - 1 + part.done) for p in pieces for part in p.parts)
    universe, address = places_of_slots(parts, first)
    last_universe, last_address = places_of_slots(parts, last)
    return PixelTable(n, px, first, universe, address, last_universe, last_address)


# ---- sums of a device


class PortSum(NamedTuple):
    """What one port needs: `running` is the device's running number of its first data pixel, `slot` of its first
    slot."""

    stream: PortStream
    running: int
    slot: int
    universes: int
    ends: int


def device_sums(cables: Cables, device_id: str) -> list[PortSum]:
    """The ports of a device in the order printed on it, with running numbers over the whole device."""
    found: list[PortSum] = []
    running = slot = 1
    for stream in streams_of(cables, device_id):
        ends = stream.used[-1][1] if stream.used else 0
        found.append(PortSum(stream, running, slot, len(stream.used), ends))
        running += stream.pixels
        slot += stream.slots
    return found


def streams_of(cables: Cables, device_id: str) -> list[PortStream]:
    """The streams of a device, in the order of the ports printed on it."""
    return [s for (d, _), s in cables.streams.items() if d == device_id]


def universes_of(cables: Cables, device_id: str) -> dict[int, int]:
    """Universes that a device's streams go through: number to the last slot needed of it."""
    need: dict[int, int] = {}
    for stream in streams_of(cables, device_id):
        for number, last in stream.used:
            need[number] = max(need.get(number, 0), last)
    return dict(sorted(need.items()))


# ---- universe sizes


class Cut(NamedTuple):
    """A data pixel that a universe's end cuts: which one, and where its first and last component are."""

    label: str
    name: str
    pixel: int
    first: tuple[int, int]
    last: tuple[int, int]


class PackingCost(Struct, frozen=True):
    """What one way of laying pixels over universes costs: universes, slots left empty in them, pixels cut."""

    words: str
    packs: str
    size: int
    universes: int
    padding: int
    cut: tuple[Cut, ...]


def packing_choices(rig: Rig, device_id: str) -> list[PackingCost]:
    """Every usual way of laying a device's pixels over universes, worked out for what is attached to it."""
    found: list[PackingCost] = []
    for words, packs, size in (
        ("whole pixels of 512", "whole", 512),
        ("510 slots each", "whole", 510),
        ("512, dense", "dense", 512),
    ):
        trial = _as_if(rig, device_id, packs, size)
        streams = streams_of(trial, device_id)
        need = universes_of(trial, device_id)
        used = sum(p.last - p.first + 1 for s in streams for piece in s.pieces for p in piece.parts)
        room = sum(min(last, 512) for last in need.values())
        found.append(PackingCost(words, packs, size, len(need), max(0, room - used), cuts_of_device(trial, device_id)))
    return found


def _as_if(rig: Rig, device_id: str, packs: str, size: int) -> Cables:
    device = replace(rig.devices[device_id], packs=packs)
    universes = {uid: replace(u, size=size) for uid, u in rig.universes.items()}
    return Cables(replace(rig, devices={device_id: device}, universes=universes))


def cut_pixels(cables: Cables, device_id: str) -> list[tuple[PortStream, Piece, int]]:
    """Which data pixels of a device a universe's end cuts: stream, piece, number of the pixel in it."""
    found: list[tuple[PortStream, Piece, int]] = []
    for stream in streams_of(cables, device_id):
        if stream.whole or len(stream.used) < 2:
            continue
        for piece in stream.pieces:
            if len(piece.parts) > 1:
                found += [(stream, piece, part.done // piece.k + 1) for part in piece.parts[1:] if part.done % piece.k]
    return found


def cuts_of_device(cables: Cables, device_id: str, most: int = 10_000) -> tuple[Cut, ...]:
    """The pixels of a device that a universe's end cuts in two, in words; at most `most`."""
    found: list[Cut] = []
    for stream, piece, px in cut_pixels(cables, device_id)[:most]:
        first, last = piece.place_of_slot((px - 1) * piece.k + 1), piece.place_of_slot(min(piece.slots, px * piece.k))
        if first and last:
            own = element_pixel(cables.rig, piece, px) or px
            found.append(Cut(stream.label, piece_name(cables.rig, piece), own, first, last))
    return tuple(found)


class Astray(NamedTuple):
    """The first slot of a port that the device takes from elsewhere than the sender puts it: at both ends."""

    label: str
    slot: int
    """Slot of the port's stream, from 1."""
    pixel: int
    piece: Piece
    sender: tuple[int, int]
    box: tuple[int, int]
    sender_size: int
    device_size: int
    pixels: int
    """How many data pixels from there on are shifted."""

    @property
    def landmark(self) -> tuple[int, int]:
        """A place that the two number otherwise: the later one, as up to the first universe's end both count alike."""
        return max(self.sender, self.box)

    @property
    def running_slots(self) -> tuple[int, int]:
        """The running slot of the landmark, as each end counts it with its own size."""
        universe, address = self.landmark
        return (universe - 1) * self.sender_size + address, (universe - 1) * self.device_size + address


def ports_led_astray(cables: Cables, device_id: str) -> list[Astray]:
    """Port by port, where sender and device part when they assume another universe size.

    A port that follows the one before it begins where *the device* comes to an end there, so once a port is shifted all
    that follow it are, from their first slot on.
    """
    size = universe_size(cables.rig, device_id)
    found: list[Astray] = []
    behind: tuple[int, int] | None = None
    for stream in streams_of(cables, device_id) if size else ():
        port = cables.rig.devices[device_id].ports[stream.label]
        begins = behind if port.follows else stream.start
        if port.follows == "universe" and begins and begins[1] > 1:
            begins = (begins[0] + 1, 1)
        if begins is None or stream.start is None:
            continue
        first, ends = _as_the_device(cables, stream, size, begins)
        if first:
            found.append(first)
        if port.pixels > stream.pixels:  # it counts on to what it is configured for
            k = stream.pieces[0].k if stream.pieces else 3
            ends = max(ends, lay_slots(*begins, port.pixels * k, k, lambda _: size, stream.whole)[1:])
        behind = ends
    return found


def _as_the_device(
    cables: Cables, stream: PortStream, size: int, begins: tuple[int, int]
) -> tuple[Astray | None, tuple[int, int]]:
    """The first slot of a port that differs when the device lays it from its own start, and where that ends."""
    cursor, found = begins, None
    start = stream.start or begins
    for piece in stream.pieces:
        if not piece.parts:
            continue
        if piece.segment.at.origin_of_place == "typed":
            cursor = (piece.parts[0].universe, piece.parts[0].first)
        theirs, *rest = lay_slots(*cursor, piece.slots, piece.k, lambda _: size, stream.whole)
        cursor = (rest[0], rest[1])
        if found or theirs == piece.parts:
            continue
        within = np.arange(1, piece.slots + 1, dtype=np.int64)
        ours_at, theirs_at = places_of_slots(piece.parts, within), places_of_slots(theirs, within)
        n = int(np.argmax((ours_at[0] != theirs_at[0]) | (ours_at[1] != theirs_at[1])))
        pixel = piece.px + n // piece.k
        before = int(ours_at[0][n - 1]) if n else start[0] if stream.start == begins else int(ours_at[0][0]) - 1
        found = Astray(
            stream.label,
            slot=piece.stream + n,
            pixel=pixel,
            piece=piece,
            sender=(int(ours_at[0][n]), int(ours_at[1][n])),
            box=(int(theirs_at[0][n]), int(theirs_at[1][n])),
            sender_size=cables.size_of_universe(before, start[0]),
            device_size=size,
            pixels=stream.pixels - pixel + 1,
        )
    return found, cursor
