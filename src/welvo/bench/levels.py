"""What the operator holds on the Bench, and the frames that follow from it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from welvo.patch.index import Index
from welvo.rig.attributes import family_of, word_for
from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.lookup import mode_of
from welvo.rig.profile import Channel

Frame = npt.NDArray[np.uint8]

LETTERS = {
    "R": "ColorAdd_R", "G": "ColorAdd_G", "B": "ColorAdd_B", "W": "ColorAdd_W", "A": "ColorAdd_RY",
    "U": "ColorAdd_UV", "C": "ColorAdd_CW", "D": "ColorAdd_WW", "V": "Dimmer",
}  # fmt: skip
"""Component letters of an element's order as functions."""


@dataclass(frozen=True)
class Fader:
    """One function of a selection: all its channels move together. `top` is the value at full."""

    function: str
    word: str
    short: str
    slots: int
    top: int
    default: int
    family: str


class Levels:
    """Held values by thing and function (0..1 of full), raw slots by universe and address, and what they make."""

    def __init__(self) -> None:
        self.held: dict[tuple[str, str], float] = {}
        self.raw: dict[tuple[str, int], int] = {}
        self.blackout = False

    def hold(self, keys: list[str], function: str, value: float) -> None:
        for key in keys:
            self.held[key, function] = min(1.0, max(0.0, value))

    def hold_slot(self, universe: str, address: int, level: int) -> None:
        """Hold one raw slot. Raises ValueError for a level outside 0..255 or an address outside 1..512."""
        if not 0 <= level <= 255 or not 1 <= address <= SLOTS:
            raise ValueError(f"slot {address} at {level}: addresses run from 1 to 512, levels from 0 to 255")
        self.raw[universe, address] = level

    def release(self, keys: list[str] | None = None) -> None:
        """Give back what is held, of some things or altogether; their channels go to their defaults."""
        if keys is None:
            self.held.clear()
            self.raw.clear()
            return
        gone = set(keys)
        self.held = {k: v for k, v in self.held.items() if k[0] not in gone}

    def zero(self, rig: Rig, keys: list[str]) -> None:
        """Hold every function of some things at zero; what moves the head stays where it is."""
        for key in keys:
            for fader in faders(rig, [key]):
                if fader.family != "position":
                    self.held[key, fader.function] = 0.0

    def value(self, keys: list[str], function: str) -> float | None:
        """What is held for a function if all the things agree, else None."""
        values = {self.held.get((k, function)) for k in keys}
        return values.pop() if len(values) == 1 else None

    def frames(self, index: Index, defaults_only: bool = False) -> dict[str, Frame]:
        """Levels of every universe in which anything is patched or held: defaults, then what is held, then raw slots.

        At blackout, intensity, colour and shutter are zero; the rest keeps its place so that heads do not swing.
        """
        rig = index.rig
        found: dict[str, Frame] = {uid: np.zeros(SLOTS, np.uint8) for uid in rig.universes}
        held = {} if defaults_only else self.held
        functions: dict[str, dict[str, float]] = {}
        for (key, function), value in held.items():
            functions.setdefault(key, {})[function] = value
        for key, fixture in rig.fixtures.items():
            mode = mode_of(rig, fixture)
            spans = index.spans(key)
            if mode is None or not spans:
                continue
            starts = {s.brk: s for s in spans}
            mine = functions.get(key, {})
            for c in mode.channels:
                span = starts.get(c.brk)
                level = mine.get(function_key(c))
                value = c.default if level is None else round(level * c.top)
                if self.blackout and not defaults_only and family_of(c.function) in ("intensity", "colour", "shutter"):
                    value = 0
                if span is None or (value == 0 and level is None):
                    continue
                _write(found[span.universe], span.first, c, value)
        for key, mine in functions.items():
            if key in rig.elements and not self.blackout:
                self._element(index, key, mine, found)
        for (universe, address), level in {} if defaults_only else self.raw.items():
            if universe in found and not self.blackout:
                found[universe][address - 1] = level
        return found

    def _element(self, index: Index, key: str, mine: dict[str, float], found: dict[str, Frame]) -> None:
        """Every pixel of an element gets the held components."""
        element = index.rig.elements[key]
        spans = index.spans(key)
        if not spans or element.kind == "block":
            return
        pixel = np.array([round(255 * mine.get(LETTERS[x], 0.0)) for x in element.order], np.uint8)
        stream = np.tile(pixel, element.pixels)
        for span in spans:
            last = min(span.last, SLOTS)
            found[span.universe][span.first - 1 : last] = stream[span.offset : span.offset + last - span.first + 1]


def function_key(c: Channel) -> str:
    """Channels that one fader moves together: same function, or the same undescribed slot."""
    return c.function or f"?{c.brk}.{c.slots[0]}"


def _write(frame: Frame, start: int, c: Channel, value: int) -> None:
    for n, slot in enumerate(c.slots):
        at = start + slot - 2
        if at < SLOTS:
            frame[at] = value >> 8 * (len(c.slots) - 1 - n) & 255


def faders(rig: Rig, keys: list[str]) -> list[Fader]:
    """The functions of a selection in channel order; the functions of pixels stand once, for all pixels."""
    found: dict[str, Fader] = {}
    kinds: set[tuple[str, str]] = set()
    for key in keys:
        fixture = rig.fixtures.get(key)
        element = rig.elements.get(key)
        if fixture:
            if (fixture.profile, fixture.mode) in kinds:
                continue
            kinds.add((fixture.profile, fixture.mode))
            mode = mode_of(rig, fixture)
            for c in sorted(mode.channels, key=lambda c: (c.brk, c.slots[0])) if mode else ():
                name = function_key(c)
                if name not in found and c.function != "NoFeature":
                    word = word_for(c.function, c.name or "?")
                    found[name] = Fader(name, word, c.short, len(c.slots), c.top, c.default, family_of(c.function))
        elif element and element.kind != "block":
            for letter in element.order:
                name = LETTERS[letter]
                if name not in found:
                    found[name] = Fader(name, word_for(name), letter, 1, 255, 0, family_of(name))
    return list(found.values())
