"""DALI (IEC 62386-101, -102, -209): frames, commands, levels, fades and the search for gear, without I/O.

A forward frame is an address octet and a data octet; a backward frame is one octet. Where several gear answer at once
the line only tells that somebody did: that counts as yes.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from typing import NamedTuple

from msgspec import Struct

from welvo.protocols.wire import WireError

SHORT_ADDRESSES, GROUPS, SCENES = 64, 16, 16
MASK = 255
"""As a level: stop a fade, otherwise no change; as a stored one: not part of it, or the last level (9.4)."""
YES = 255
"""The only answer of gear to a question that is answered with yes or silence (IEC 62386-102)."""
HIGHEST_LEVEL = 254

FORWARD_S, BACKWARD_S, PAUSE_S = 0.01417, 0.0075, 0.0135
"""Seconds of a forward frame, a backward frame, and between two forward frames (edition 2)."""
FRAMES_A_SECOND = 36

# commands: the second octet with S = 1 (table 15 of -102)
OFF, UP, DOWN, STEP_UP, STEP_DOWN, RECALL_MAX, RECALL_MIN = 0x00, 0x01, 0x02, 0x03, 0x04, 0x05, 0x06
GO_TO_SCENE, RESET, STORE_ACTUAL_LEVEL, IDENTIFY = 0x10, 0x20, 0x21, 0x25
SET_MAX, SET_MIN, SET_FAILURE, SET_POWER_ON, SET_FADE_TIME, SET_FADE_RATE = 0x2A, 0x2B, 0x2C, 0x2D, 0x2E, 0x2F
SET_SCENE, REMOVE_FROM_SCENE, ADD_TO_GROUP, REMOVE_FROM_GROUP, SET_SHORT_ADDRESS = 0x40, 0x50, 0x60, 0x70, 0x80
QUERY_STATUS, QUERY_PRESENT, QUERY_LAMP_FAILURE, QUERY_LAMP_ON = 0x90, 0x91, 0x92, 0x93
QUERY_NO_ADDRESS, QUERY_DTR0, QUERY_TYPE, QUERY_PHYSICAL_MIN = 0x96, 0x98, 0x99, 0x9A
QUERY_LEVEL, QUERY_MAX, QUERY_MIN, QUERY_POWER_ON, QUERY_FAILURE, QUERY_FADE = 0xA0, 0xA1, 0xA2, 0xA3, 0xA4, 0xA5
QUERY_NEXT_TYPE, QUERY_SCENE, QUERY_GROUPS_LOW, QUERY_GROUPS_HIGH = 0xA7, 0xB0, 0xC0, 0xC1
QUERY_RANDOM_H, QUERY_RANDOM_M, QUERY_RANDOM_L = 0xC2, 0xC3, 0xC4
TWICE = range(0x20, 0x81)
"""Commands that are only taken when they come twice within 100 ms."""

# special commands: the first octet
TERMINATE, DTR0, INITIALISE, RANDOMISE, COMPARE, WITHDRAW = 0xA1, 0xA3, 0xA5, 0xA7, 0xA9, 0xAB
SEARCH_H, SEARCH_M, SEARCH_L = 0xB1, 0xB3, 0xB5
PROGRAM_SHORT, VERIFY_SHORT, QUERY_SHORT, ENABLE_TYPE, DTR1, DTR2 = 0xB7, 0xB9, 0xBB, 0xC1, 0xC3, 0xC5

# device type 8 (-209)
SET_X, SET_Y, ACTIVATE, SET_TC, SET_PRIMARY, SET_RGB, SET_WAF, SET_RGBWAF = (
    0xE0,
    0xE1,
    0xE2,
    0xE7,
    0xEA,
    0xEB,
    0xEC,
    0xED,
)
QUERY_COLOUR_STATUS, QUERY_COLOUR_FEATURES = 0xF8, 0xF9
COLOUR = 8

TYPES = {
    0: "fluorescent", 1: "emergency", 2: "discharge", 3: "low-voltage halogen", 4: "incandescent",
    5: "conversion to DC", 6: "LED", 7: "relay", 8: "colour", 254: "none", 255: "several",
}  # fmt: skip
STATUS_BITS = (
    "gear failure", "lamp failure", "lamp on", "limit error", "fade running", "reset state", "no short address",
    "power cycled",
)  # fmt: skip


class Forward(NamedTuple):
    """A forward frame; `twice` when it must be sent twice, `answers` when a backward frame may come."""

    address: int
    data: int
    twice: bool = False
    answers: bool = False

    def octets_of_frame(self) -> bytes:
        return bytes([self.address, self.data])


def _check_short(address: int) -> int:
    if not 0 <= address < SHORT_ADDRESSES:
        raise WireError("short address", f"{address} is not in 0..63")
    return address << 1


def _check_group(group: int) -> int:
    if not 0 <= group < GROUPS:
        raise WireError("group", f"{group} is not in 0..15")
    return 0x80 | group << 1


class To(Struct, frozen=True):
    """Who a frame is for: one short address, one group, or everybody (`unaddressed`: those without an address)."""

    short: int | None = None
    group: int | None = None
    unaddressed: bool = False

    @property
    def address_octet(self) -> int:
        """The address octet with S = 0."""
        if self.short is not None:
            return _check_short(self.short)
        if self.group is not None:
            return _check_group(self.group)
        return 0xFC if self.unaddressed else 0xFE


EVERYBODY = To()


def level_frame(to: To, value: int) -> Forward:
    """Direct arc power. Raises WireError for a number that is no level."""
    if not 0 <= value <= MASK:
        raise WireError("level", f"{value} is not in 0..255")
    return Forward(to.address_octet, value)


def command_frame(to: To, code: int) -> Forward:
    """A command; which ones are sent twice and which are answered follows from its code."""
    if not 0 <= code <= 0xFF:
        raise WireError("command", f"0x{code:X} is none")
    return Forward(to.address_octet | 1, code, code in TWICE, 0x90 <= code <= 0xC4 or code >= 0xF0)


def special_frame(code: int, data: int = 0) -> Forward:
    if not 0xA1 <= code <= 0xC9 or not code & 1:
        raise WireError("special command", f"0x{code:X} is none")
    return Forward(code, data, code in (INITIALISE, RANDOMISE), code in (COMPARE, VERIFY_SHORT, QUERY_SHORT))


def setting_frames(to: To, code: int, value: int) -> list[Forward]:
    """A setting: its value into DTR0, then the command, twice."""
    return [special_frame(DTR0, value), command_frame(to, code)]


def colour_frames(to: To, code: int, dtrs: tuple[int, ...]) -> list[Forward]:
    """A command of device type 8: its values into DTR0, DTR1 and DTR2 (lowest first), the type enabled, the command."""
    loads = [special_frame(reg, v) for reg, v in zip((DTR0, DTR1, DTR2), dtrs)]
    return [*loads, special_frame(ENABLE_TYPE, COLOUR), command_frame(to, code)]


# ---- levels and fades


def percent_of(n: int, linear: bool = False) -> float:
    """Light of a level in percent: the standard's curve, or the linear one of device type 6 (9.3)."""
    if n <= 0:
        return 0.0
    n = min(n, HIGHEST_LEVEL)
    return n / HIGHEST_LEVEL * 100 if linear else 10 ** ((n - 1) / (253 / 3) - 1)


def level_of(percent: float, linear: bool = False) -> int:
    """The nearest level for so much light."""
    if percent <= 0:
        return 0
    if linear:
        return max(1, min(HIGHEST_LEVEL, round(percent * HIGHEST_LEVEL / 100)))
    return max(1, min(HIGHEST_LEVEL, round(1 + 253 / 3 * (math.log10(percent) + 1))))


def fade_time(x: int) -> float:
    """Seconds of fade time register X; 0 is no fade (9.5)."""
    return 0.0 if x == 0 else 0.5 * math.sqrt(2**x)


def fade_rate(x: int) -> float:
    """Steps a second of fade rate register X, 1 to 15."""
    return 506 / math.sqrt(2**x)


def nearest_time(seconds: float) -> int:
    """The register whose fade time is nearest."""
    return min(range(16), key=lambda x: abs(fade_time(x) - seconds))


def nearest_rate(steps: float) -> int:
    return min(range(1, 16), key=lambda x: abs(fade_rate(x) - steps))


# ---- sums of time


def seconds_of(frames: list[Forward]) -> float:
    """How long frames take on a bus, with the pauses between them and the answers that may come."""
    total = 0.0
    for f in frames:
        times = 2 if f.twice else 1
        total += times * (FORWARD_S + PAUSE_S) + (BACKWARD_S + 0.0105 if f.answers else 0.0)
    return total


# ---- finding and addressing gear


def initialise_frames(which: int = 0x00) -> list[Forward]:
    """Begin commissioning: 0x00 all gear, 0xFF gear without short address, 0AAAAAA1 one address."""
    return [special_frame(TERMINATE), special_frame(INITIALISE, which), special_frame(RANDOMISE)]


def set_search(address: int) -> list[Forward]:
    return [
        special_frame(SEARCH_H, address >> 16 & 255),
        special_frame(SEARCH_M, address >> 8 & 255),
        special_frame(SEARCH_L, address & 255),
    ]


class Readdressed(NamedTuple):
    """One gear that was given a short address: the one it had before (None: none), and the new one."""

    before: int | None
    now: int


SEVERAL = -1
"""As an answer: more than one gear answered, and not the same; any activity counts as yes."""


def address_in_turn(
    free: list[int], given: list[Readdressed] | None = None
) -> Generator[list[Forward], int | None, list[Readdressed]]:
    """Gives every gear that takes part an address of `free`, in the order of their random ones (annex A of -102).

    After `initialise_frames` and its pause, each list of frames it yields is to be put on the bus; it must be sent
    what was answered to the last of them (None: silence). A gear keeps its former short address until it is given
    another one, so it is asked for it just before: what was where is known afterwards. Two gear with one random
    address take one short address together: that shows in the search for present ones, and is mended by beginning
    anew. What was done so far stands in `given` at any time, for whoever breaks it off.
    """
    given = [] if given is None else given
    for short in free:
        if (yield [*set_search(0xFFFFFF), special_frame(COMPARE)]) is None:
            break
        low, high = 0, 0xFFFFFF
        while low < high:
            middle = (low + high) // 2
            if (yield [*set_search(middle), special_frame(COMPARE)]) is not None:
                high = middle
            else:
                low = middle + 1
        before = yield [*set_search(low), special_frame(QUERY_SHORT)]
        yield [special_frame(PROGRAM_SHORT, short << 1 | 1)]
        if (yield [special_frame(VERIFY_SHORT, short << 1 | 1)]) is None:
            break
        known = before is not None and before not in (MASK, SEVERAL)
        given.append(Readdressed(before >> 1 if known and before is not None else None, short))
        yield [special_frame(WITHDRAW)]
    yield [special_frame(TERMINATE)]
    return given
