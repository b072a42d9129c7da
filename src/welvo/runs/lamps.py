"""Pixel data turned into DMX by a converter: one pixel drives each lamp, each of its channels by a function."""

from __future__ import annotations

from typing import NamedTuple

from welvo.rig.attributes import word_for
from welvo.rig.base import Refused
from welvo.rig.colours import FUNCTIONS, letter_of, word_of
from welvo.rig.document import Rig
from welvo.rig.lookup import mode_of
from welvo.rig.patched import Fixture
from welvo.runs.cable import Cables, Piece, PortStream

DIMMER = "V"
"""The letter of the function that takes the brightness instead of a colour."""


def read_functions(text: str) -> tuple[str, ...]:
    """`dimmer red green blue warm white 128` or `V R G B D =128` → one function per channel of a lamp.

    Raises Refused with the word that is none.
    """
    found: list[str] = []
    words = text.replace(",", " ").lower().split()
    while words:
        pair = letter_of(" ".join(words[:2])) if len(words) > 1 else ""
        fixed = words[0].removeprefix("=")
        if fixed.isdecimal():
            if int(fixed) > 255:
                raise Refused(f"A fixed value runs from 0 to 255; {fixed} is too high.")
            found.append(f"={int(fixed)}")
        elif not pair and not letter_of(words[0]):
            raise Refused(
                f"“{words[0]}” is no function of a lamp's channel. Write dimmer, red, green, blue, white, another "
                "emitter's name, or a fixed value such as =128."
            )
        else:
            found.append(pair or letter_of(words[0]))
        words = words[2 if pair and not fixed.isdecimal() else 1 :]
    if not found:
        raise Refused("A lamp behind a converter has one channel at least.")
    return tuple(found)


def say_functions(functions: tuple[str, ...]) -> str:
    return " ".join(f if f.startswith("=") else word_of(f) for f in functions)


class LampSlot(NamedTuple):
    """One channel of one lamp: the sender's pixel, where the pixel is, and the DMX address on the converter's line."""

    lamp: int
    function: str
    dmx: int
    pixel: int
    place: tuple[int, int] | None
    fixture: str


def count_lamps(piece: Piece) -> int:
    return piece.pixels


def slot_map(cables: Cables, stream: PortStream, piece: Piece) -> list[LampSlot]:
    """Every slot the converter puts out. A lamp that would end past 512 is left out; `lamps_past_end` counts those."""
    s = piece.segment
    found: list[LampSlot] = []
    for lamp in range(1, count_lamps(piece) + 1):
        start = s.lamp_address(lamp)
        if start + len(s.functions) - 1 > 512:
            break
        key = s.fixtures[lamp - 1] if lamp <= len(s.fixtures) else ""
        place = piece.place_of_slot((lamp - 1) * piece.k + 1)
        for n, function in enumerate(s.functions):
            found.append(LampSlot(lamp, function, start + n, piece.px + lamp - 1, place, key))
    return found


def lamps_past_end(piece: Piece) -> int:
    """How many lamps would end past DMX address 512."""
    s = piece.segment
    if not s.functions:
        return 0
    fits = max(0, (512 - len(s.functions) - s.start + 1) // max(1, s.lamp_step) + 1)
    return max(0, count_lamps(piece) - fits)


def slots_of_lamp(functions: tuple[str, ...], colour: dict[str, int], brightness: int) -> list[int]:
    """What one lamp's slots get for a colour (level by component letter) and a brightness, all 0…255.

    With a dimmer among the functions it takes the brightness and colours go out as they are; without one the colours
    are scaled and cut off. White, where the pixel has none, is what red, green and blue have in common.
    """
    has_dimmer = DIMMER in functions
    levels = dict(colour)
    if "W" not in levels and {"R", "G", "B"} <= levels.keys():
        levels["W"] = min(levels["R"], levels["G"], levels["B"])
    out: list[int] = []
    for f in functions:
        if f.startswith("="):
            out.append(int(f[1:]))
        elif f == DIMMER:
            out.append(brightness)
        else:
            value = levels.get(f, 0)
            out.append(value if has_dimmer else value * brightness // 255)
    return out


class Driven(NamedTuple):
    """One channel of a lamp's profile: its slot, its name, what it gets, and whether that is what it wants."""

    slot: int
    name: str
    gets: str
    fits: bool


def channels_driven(rig: Rig, fixture: Fixture, functions: tuple[str, ...], letters: str) -> list[Driven]:
    """Channel by channel, what a fixture behind a converter gets from a pixel of the components `letters`.

    What nothing drives has an empty `gets`. A component that the pixel does not have is never sent; white alone is made
    of what red, green and blue have in common, so that it cannot be driven by itself.
    """
    mode = mode_of(rig, fixture)
    found: list[Driven] = []
    for c in sorted(mode.channels if mode else (), key=lambda c: c.slots):
        if c.break_no:
            continue
        name = c.name or word_for(c.function)
        slot = c.slots[0]
        f = functions[slot - 1] if slot <= len(functions) else ""
        gets = f"{f[1:]} always" if f.startswith("=") else word_of(f) if f in FUNCTIONS else ""
        fits = f.startswith("=") or (bool(f) and FUNCTIONS.get(f, "") == c.function)
        if f in FUNCTIONS and f != DIMMER and f not in letters:
            made = f == "W" and {"R", "G", "B"} <= set(letters)
            gets, fits = "what red, green and blue have in common" if made else "", False
        found.append(Driven(slot, f"{name}{f' of pixel {c.pixel}' if c.pixel else ''}", gets, fits))
    return found


def not_driven(rig: Rig, fixture: Fixture, functions: tuple[str, ...], letters: str) -> list[str]:
    """The channels of a fixture that a converter cannot drive by themselves, by name."""
    return [d.name for d in channels_driven(rig, fixture, functions, letters) if not d.fits]


def too_close(rig: Rig, piece: Piece) -> tuple[str, int]:
    """The first lamp behind a converter whose channels reach into the next one's, and how many it has; else nothing."""
    s = piece.segment
    for key in s.fixtures[:-1]:
        fixture = rig.fixtures.get(key)
        mode = mode_of(rig, fixture) if fixture else None
        if mode and mode.breaks and mode.breaks[0].slots > s.lamp_step:
            return key, mode.breaks[0].slots
    return "", 0
