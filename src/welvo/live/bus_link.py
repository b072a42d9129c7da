"""Frames on a lamp bus behind a gateway, and all that is done with them: search, addressing, settings, scenes.

Everything is made of frames that the gateway puts on its wire one after the other (docs/device-settings.md). A search
only asks. Whatever changes gear is read back afterwards, and what it says then is what counts. A frame that gear obeys
only when it comes twice goes out as two in one request, so that nothing gets between them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from msgspec.structs import replace

from welvo.live.device_link import HttpLink
from welvo.live.links import LinkError
from welvo.observed.values import BusSeen, GearSeen
from welvo.patience import steady
from welvo.protocols import dali
from welvo.protocols.dali import SEVERAL, YES, Forward, To
from welvo.rig.buses import Gear
from welvo.rig.steps import Stopped

AT_ONCE = 24
"""Frames of one request: with answers they take a second and a little on the wire."""
MOST_ROUNDS = 3
"""So often gear that shares a random address is told to choose another one."""


class Told(Protocol):
    """Called with what is done, and how far."""

    def __call__(self, doing: str, done: int = 0, of: int = 0) -> object: ...


class BusLine(Protocol):
    """A wire with gear, by whatever way frames get onto it."""

    async def put(self, frames: Sequence[Forward]) -> list[int | None]:
        """Put frames on the wire; the answer to each, None for silence. Raises LinkError."""


class HttpBus:
    """A gateway's bus over its settings protocol."""

    def __init__(self, link: HttpLink, label: str) -> None:
        self._link, self._label = link, label

    async def put(self, frames: Sequence[Forward]) -> list[int | None]:
        answers: list[int | None] = []
        part: list[Forward] = []
        size = 0
        for f in frames:
            cost = 2 if f.twice else 1
            if size + cost > AT_ONCE:
                answers += await self._put_with_retry(part)
                part, size = [], 0
            part.append(f)
            size += cost
        return answers + (await self._put_with_retry(part) if part else [])

    async def _put_with_retry(self, frames: list[Forward]) -> list[int | None]:
        sent = [f.octets_of_frame() for f in frames for _ in range(2 if f.twice else 1)]
        came = await self._link.put_frames(self._label, [octets.hex() for octets in sent])
        if len(came) != len(sent):
            raise LinkError(f"{self._link.ip} answers {len(came)} of {len(sent)} frames.")
        for a in came:
            if a is not None and not SEVERAL <= a <= 255:
                raise LinkError(f"{self._link.ip} answers a frame with {a}, which is no octet of a lamp bus.")
        found, at = [], 0
        for f in frames:
            at += 2 if f.twice else 1
            found.append(came[at - 1])
        return found


@dataclass
class BusProgress:
    """How far a piece of work on a bus is. Written by the thread that works, read by the window."""

    doing: str = "begins"
    done: int = 0
    of: int = 0
    stopped: bool = False

    def tell_progress(self, doing: str, done: int = 0, of: int = 0) -> None:
        self.doing, self.done, self.of = doing, done, of
        if self.stopped:
            raise Stopped("Stopped between two steps.")

    @property
    def words_of_progress(self) -> str:
        return f"{self.doing[:1].upper()}{self.doing[1:]}{f' · {self.done} of {self.of}' if self.of else ''} …"


def tell_nobody(doing: str, done: int = 0, of: int = 0) -> None:
    """Told to nobody."""


# ---- asking


async def search_bus(line: BusLine, deep: bool = False, told: Told = tell_nobody) -> BusSeen:
    """Everything that answers on a bus, read. It changes nothing: only questions go out."""
    there: list[int] = []
    for first in range(0, dali.SHORT_ADDRESSES, 16):
        told("asks all 64 places", first, dali.SHORT_ADDRESSES)
        asked = [dali.command_frame(To(short=n), dali.QUERY_PRESENT) for n in range(first, first + 16)]
        there += [first + n for n, a in enumerate(await line.put(asked)) if a in (YES, SEVERAL)]
    strays = (await line.put([dali.command_frame(To(unaddressed=True), dali.QUERY_PRESENT)]))[0] in (YES, SEVERAL)
    found = []
    for n, short in enumerate(there):
        told(f"reads gear {short}", n, len(there))
        found.append(await read_gear(line, short, deep))
    return BusSeen(tuple(found), strays, steady())


async def read_gear(line: BusLine, short: int, deep: bool = True) -> GearSeen:
    """What one gear says of itself; `deep` asks for all that is stored in it."""
    to = To(short=short)

    async def ask(*codes: int) -> list[int]:
        came = await line.put([dali.command_frame(to, c) for c in codes])
        return [-2 if a is None else a for a in came]

    first = await ask(
        dali.QUERY_RANDOM_H, dali.QUERY_RANDOM_M, dali.QUERY_RANDOM_L, dali.QUERY_TYPE, dali.QUERY_STATUS,
        dali.QUERY_LEVEL, dali.QUERY_GROUPS_LOW, dali.QUERY_GROUPS_HIGH,
    )  # fmt: skip
    h, m, low, kind, status, level, groups_low, groups_high = first
    seen = GearSeen(short, doubled=SEVERAL in first)
    if -2 not in (h, m, low) and SEVERAL not in (h, m, low):
        seen = replace(seen, random=h << 16 | m << 8 | low)
    bits = max(0, groups_low) | max(0, groups_high) << 8
    seen = replace(
        seen, kinds=await _read_device_types(line, to, kind), status=_level_or_unknown(status),
        level=_level_or_unknown(level),
        groups=tuple(g for g in range(dali.GROUPS) if bits >> g & 1),
    )  # fmt: skip
    if dali.COLOUR in seen.kinds:
        enabled = [
            dali.special_frame(dali.ENABLE_TYPE, dali.COLOUR),
            dali.command_frame(to, dali.QUERY_COLOUR_FEATURES),
        ]
        features = (await line.put(enabled))[1]
        seen = replace(seen, colours=_level_or_unknown(-2 if features is None else features))
    if not deep:
        return seen
    physical, least, greatest, power_on, failure, fade = await ask(
        dali.QUERY_PHYSICAL_MIN, dali.QUERY_MIN, dali.QUERY_MAX, dali.QUERY_POWER_ON, dali.QUERY_FAILURE,
        dali.QUERY_FADE,
    )  # fmt: skip
    scenes = await ask(*(dali.QUERY_SCENE + s for s in range(dali.SCENES)))
    several = seen.doubled or SEVERAL in (physical, least, greatest, power_on, failure, fade, *scenes)
    return replace(
        seen, physical=_level_or_unknown(physical), least=_level_or_unknown(least),
        greatest=_level_or_unknown(greatest), power_on=_level_or_unknown(power_on),
        failure=_level_or_unknown(failure), fade_time=fade >> 4 if fade >= 0 else -1,
        fade_rate=fade & 15 if fade >= 0 else -1,
        scenes=tuple(_level_or_unknown(s) for s in scenes), deep=True, doubled=several,
    )  # fmt: skip


def _level_or_unknown(answer: int) -> int:
    return max(-1, answer)


async def _read_device_types(line: BusLine, to: To, kind: int) -> tuple[int, ...]:
    """The device types: 255 says that there are several, which are then told one after the other (edition 2)."""
    if kind != 255:
        return (kind,) if 0 <= kind < 254 else ()
    found: list[int] = []
    for _ in range(8):
        (answer,) = await line.put([dali.command_frame(to, dali.QUERY_NEXT_TYPE)])
        if answer is None or answer in (SEVERAL, 254, 255):
            break
        found.append(answer)
    return tuple(found)


async def identify_gear(line: BusLine, short: int) -> None:
    """Let one gear show itself for about ten seconds (edition 2)."""
    await line.put([dali.command_frame(To(short=short), dali.IDENTIFY)])


# ---- addresses


@dataclass
class Addressed:
    """What addressing anew did: what each gear had before (None: nothing) and has now; `left` still has none."""

    changes: list[dali.Readdressed] = field(default_factory=list)
    strays: bool = False


async def address_gear(
    line: BusLine, which: int, free: Sequence[int], told: Told = tell_nobody, made: Addressed | None = None
) -> Addressed:
    """Give gear short addresses: 0 all of it, 255 those without one, or `short << 1 | 1` those at one address.

    A bus on which one random address was chosen twice is gone through again, for those that are left only. When it is
    broken off, what was done so far stands in the `made` that was handed in.
    """
    made = made or Addressed()
    left = list(free)
    for turn in range(MOST_ROUNDS):
        told("lets gear choose random addresses")
        await line.put(dali.initialise_frames(which if turn == 0 else 0xFF))
        await line.put([dali.special_frame(dali.DTR1, 0)] * 4)  # four frames last longer than the 100 ms they may take
        going = dali.address_in_turn(left, made.changes)
        frames = next(going)
        try:
            while True:
                told(f"gear by gear, {len(made.changes)} so far")
                frames = going.send((await line.put(frames))[-1])
        except StopIteration:
            pass
        except BaseException:
            await line.put([dali.special_frame(dali.TERMINATE)])
            raise
        taken = {c.now for c in made.changes}
        left = [n for n in left if n not in taken]
        made.strays = (await line.put([dali.command_frame(To(unaddressed=True), dali.QUERY_PRESENT)]))[0] in (
            YES,
            SEVERAL,
        )
        if not made.strays or not left or which not in (0, 0xFF):
            break  # gear that had no address before is not meant when others are set apart
    return made


def moves_in_order(at: Iterable[int], wanted: Mapping[int, int]) -> list[tuple[int | None, int | None]]:
    """Short addresses in which order: (from, to) pairs, so that no two gear ever have one address.

    Who goes to a free address goes first. Where all that are left wait for each other, one waits at an address that
    nobody has or wants; on a full bus it gives its address up meanwhile: (from, None), and later (None, to). Raises
    ValueError when two are to have one address.
    """
    goes = {a: b for a, b in wanted.items() if a != b}
    here = set(at)
    if len(set(goes.values())) < len(goes) or (here - goes.keys()) & set(goes.values()):
        raise ValueError("two gear would have one address")
    moves: list[tuple[int | None, int | None]] = []
    parked: int | None = None
    while goes or parked is not None:
        free = next((a for a, b in goes.items() if b not in here), None)
        spare = next((n for n in range(dali.SHORT_ADDRESSES) if n not in here and n not in goes.values()), None)
        if free is not None:
            to = goes.pop(free)
            moves.append((free, to))
            here = here - {free} | {to}
        elif parked is not None:
            moves.append((None, parked))
            here, parked = here | {parked}, None
        else:
            first = next(iter(goes))
            to = goes.pop(first)
            moves.append((first, spare))
            here = here - {first}
            if spare is None:
                parked = to
            else:
                here, goes[spare] = here | {spare}, to
    return moves


def gear_of_moves(moves: Sequence[tuple[int | None, int | None]]) -> int:
    """How many gear moves in order are of: one that steps aside for another is one gear in two moves."""
    who: dict[int | None, object] = {}
    found: set[object] = set()
    for a, b in moves:
        gear = who.pop(a, a)
        found.add(gear)
        who[b] = gear
    return len(found)


def moves_back(at: Iterable[int], changes: Iterable[tuple[int, int]]) -> list[tuple[int | None, int | None]]:
    """The moves that undo an addressing, out of its (before, now) pairs; −1 as `before` is gear that had no address.
    That gear gives its address up again, at the end."""
    here = set(at)
    told = [(before, now) for before, now in changes if now in here]
    wanted = {now: before for before, now in told if before >= 0}
    new = [now for before, now in told if before < 0]
    for now in new:
        if now in wanted.values():  # somebody wants its place: it steps aside until all are where they were
            spare = (n for n in range(dali.SHORT_ADDRESSES) if n not in here and n not in wanted.values())
            wanted[now] = next(spare, now)
    moves = moves_in_order(here, {a: b for a, b in wanted.items() if a != b})
    return moves + [(wanted.get(now, now), None) for now in new]


async def move_gear(line: BusLine, moves: Sequence[tuple[int | None, int | None]], told: Told = tell_nobody) -> None:
    """Do moves that were put in order. Raises LinkError where a gear is not at its new address afterwards."""
    for n, (a, b) in enumerate(moves):
        told(f"gear {a if a is not None else '–'} becomes {b if b is not None else 'nobody'}", n, len(moves))
        to = To(unaddressed=True) if a is None else To(short=a)
        value = dali.MASK if b is None else b << 1 | 1
        await line.put(dali.setting_frames(to, dali.SET_SHORT_ADDRESS, value))
        asked = To(unaddressed=True) if b is None else To(short=b)
        (there,) = await line.put([dali.command_frame(asked, dali.QUERY_PRESENT)])
        if there is None:
            raise LinkError(
                f"Gear {a} did not take address {b if b is not None else 'none'}; nothing further was moved."
            )


# ---- settings

_CODES = {
    "least": dali.SET_MIN, "greatest": dali.SET_MAX, "power_on": dali.SET_POWER_ON, "failure": dali.SET_FAILURE,
    "fade_time": dali.SET_FADE_TIME, "fade_rate": dali.SET_FADE_RATE,
}  # fmt: skip


def frames_for_gear(gear: Gear, has: GearSeen, keys: Iterable[str]) -> list[Forward]:
    """The frames that give a gear what is planned for it."""
    to = To(short=gear.at)
    frames: list[Forward] = []
    wanted = set(keys)
    # a least level above the greatest is not taken: which of the two goes first depends on the way they go
    order = ["greatest", "least"] if (gear.greatest or 0) >= has.greatest else ["least", "greatest"]
    for key in (*order, "power_on", "failure", "fade_time", "fade_rate"):
        value = getattr(gear, key)
        if key in wanted and value is not None:
            frames += dali.setting_frames(to, _CODES[key], value)
    if "groups" in wanted and gear.groups is not None:
        for g in range(dali.GROUPS):
            if (g in gear.groups) != (g in has.groups):
                code = dali.ADD_TO_GROUP if g in gear.groups else dali.REMOVE_FROM_GROUP
                frames.append(dali.command_frame(to, code + g))
    if "scenes" in wanted:
        for s, value in gear.scenes:
            if value == dali.MASK:
                frames.append(dali.command_frame(to, dali.REMOVE_FROM_SCENE + s))
            elif not has.scenes or has.scenes[s] != value:
                frames += dali.setting_frames(to, dali.SET_SCENE + s, value)
    return frames


async def write_gear(
    line: BusLine, planned: Mapping[int, Gear], seen: BusSeen, wishes: Mapping[int, Iterable[str]],
    told: Told = tell_nobody,
) -> dict[int, GearSeen]:  # fmt: skip
    """Give gear what is planned for it, and read each back."""
    after: dict[int, GearSeen] = {}
    for n, (short, keys) in enumerate(wishes.items()):
        told(f"writes gear {short}", n, len(wishes))
        has = seen.gear_at(short) or GearSeen(short)
        await line.put(frames_for_gear(planned[short], has, keys))
        after[short] = await read_gear(line, short)
    return after


async def store_scene(
    line: BusLine, scene: int, shorts: Iterable[int], told: Told = tell_nobody
) -> dict[int, GearSeen]:
    """Keep the levels that gear have now as a scene: each stores its own, without a value on the wire."""
    after: dict[int, GearSeen] = {}
    wanted = list(shorts)
    for n, short in enumerate(wanted):
        told(f"gear {short} stores scene {scene}", n, len(wanted))
        to = To(short=short)
        await line.put(
            [dali.command_frame(to, dali.STORE_ACTUAL_LEVEL), dali.command_frame(to, dali.SET_SCENE + scene)]
        )
        after[short] = await read_gear(line, short)
    return after


async def recall_scene(line: BusLine, scene: int) -> None:
    """Let all gear go to a scene."""
    await line.put([dali.command_frame(dali.EVERYBODY, dali.GO_TO_SCENE + scene)])


async def set_level(line: BusLine, to: To, value: int) -> None:
    await line.put([dali.level_frame(to, value)])


async def read_levels(line: BusLine, shorts: Sequence[int]) -> dict[int, int]:
    """The present level of each of some gear; those that do not say it are left out."""
    came = await line.put([dali.command_frame(To(short=n), dali.QUERY_LEVEL) for n in shorts])
    return {n: a for n, a in zip(shorts, came) if a is not None and a >= 0}
