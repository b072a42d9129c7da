"""What the operator holds on the Bench, and the frames that follow from it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from welvo.patch.index import BY_PIXEL, Index, Span
from welvo.patch.slot_words import letters_of
from welvo.rig.attributes import family_of, word_for
from welvo.rig.colours import FUNCTIONS
from welvo.rig.counting import SLOTS
from welvo.rig.lamp import revealed
from welvo.rig.lookup import mode_of
from welvo.rig.patched import Fixture
from welvo.rig.profile import Channel, Mode

Frame = npt.NDArray[np.uint8]

DARK = ("intensity", "colour", "shutter")
"""Families that a blackout takes to zero."""


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
    """Held values by item and function (0..1 of full), raw slots by universe and address, and what they make."""

    def __init__(self) -> None:
        self.held: dict[tuple[str, str], float] = {}
        self.raw: dict[tuple[str, int], int] = {}
        self.blackout = False
        self._templates: dict[tuple[int, int, bool, bool], tuple[Mode, npt.NDArray[np.intp], Frame]] = {}

    def hold(self, keys: list[str], function: str, value: float) -> None:
        for key in keys:
            self.held[key, function] = min(1.0, max(0.0, value))

    def hold_slot(self, universe: str, address: int, level: int) -> None:
        """Hold one raw slot. Raises ValueError for a level outside 0..255 or an address outside 1..512."""
        if not 0 <= level <= 255 or not 1 <= address <= SLOTS:
            raise ValueError(f"slot {address} at {level}: addresses run from 1 to 512, levels from 0 to 255")
        self.raw[universe, address] = level

    def release(self, keys: list[str] | None = None) -> None:
        """Give back what is held, of some items or altogether; their channels go to their defaults."""
        if keys is None:
            self.held.clear()
            self.raw.clear()
            return
        gone = set(keys)
        self.held = {k: v for k, v in self.held.items() if k[0] not in gone}

    def zero(self, index: Index, keys: list[str]) -> None:
        """Hold every function of some items at zero; what moves the head stays where it is."""
        for key in keys:
            for fader in faders(index, [key]):
                if fader.family != "position":
                    self.held[key, fader.function] = 0.0

    def value(self, keys: list[str], function: str) -> float | None:
        """What is held for a function if all the items agree, else None."""
        values = {self.held.get((k, function)) for k in keys}
        return values.pop() if len(values) == 1 else None

    def frames(self, index: Index, defaults_only: bool = False) -> dict[str, Frame]:
        """Levels of every universe: defaults, then what is held, then raw slots. With `defaults_only`, what receivers
        are left with when output is given back: the profiles' release values, or else defaults.

        At blackout, intensity, colour and shutter are zero, and whatever else its profile lets follow a master; the
        rest keeps its place so that heads do not swing.
        """
        held = self._held(defaults_only)
        return {uid: self._frame(index, uid, held, defaults_only) for uid in index.rig.universes}

    def frame(self, index: Index, universe: str) -> Frame:
        """The levels of one universe."""
        return self._frame(index, universe, self._held(False), False)

    def _held(self, defaults_only: bool) -> dict[str, dict[str, float]]:
        functions: dict[str, dict[str, float]] = {}
        for (key, function), value in {}.items() if defaults_only else self.held.items():
            functions.setdefault(key, {})[function] = value
        return functions

    def _frame(self, index: Index, uid: str, functions: dict[str, dict[str, float]], defaults_only: bool) -> Frame:
        rig = index.rig
        found: Frame = np.zeros(SLOTS, np.uint8)
        dark = self.blackout and not defaults_only
        spans = index.on(uid)
        for span in spans:
            fixture = rig.fixtures.get(span.item)
            mode = mode_of(rig, fixture) if fixture and span.break_no != BY_PIXEL else None
            if mode is None or fixture is None:
                continue
            at, values = self._template(mode, span.break_no, dark, defaults_only)
            if span.last > SLOTS:
                at, values = at[at < SLOTS - span.first + 1], values[at < SLOTS - span.first + 1]
            found[at + (span.first - 1)] = values
            if fixture.turns:
                for c in mode.channels:
                    if c.break_no == span.break_no and c.default and turned(fixture, c.function, 0.0)[1]:
                        _write(found, span.first, c, c.top - c.default)
        driven: list[tuple[Span, dict[str, float]]] = []
        for span in spans:
            mine = functions.get(span.item)
            if not mine:
                continue
            fixture = rig.fixtures.get(span.item)
            mode = mode_of(rig, fixture) if fixture and span.break_no != BY_PIXEL else None
            if fixture and mode:
                for c in mode.channels:
                    if c.break_no != span.break_no or (dark and goes_dark(c)):
                        continue
                    function, _ = turned(fixture, function_key(c), 0.0)
                    level = mine.get(function)
                    if level is not None:
                        _write(found, span.first, c, round(turned(fixture, function_key(c), level)[1] * c.top))
            elif span.break_no == BY_PIXEL:
                driven.append((span, mine))
            elif not dark:
                _pixels(letters_of(index, span), mine, span, found)
        for span, mine in () if dark else driven:  # last: a lamp held by itself, and the element of its pixel as well
            _pixels(letters_of(index, span), mine, span, found)
        for (universe, address), level_ in {}.items() if defaults_only or dark else self.raw.items():
            if universe == uid:
                found[address - 1] = level_
        return found

    def _template(self, mode: Mode, break_no: int, dark: bool, let_go: bool) -> tuple[npt.NDArray[np.intp], Frame]:
        """Offsets within a break and the levels of what nobody holds there; kept for as long as the mode lives."""
        key = (id(mode), break_no, dark, let_go)
        kept = self._templates.get(key)
        if kept is None or kept[0] is not mode:
            at, values = [], []
            for c in mode.channels:
                value = 0 if dark and goes_dark(c) else released(c) if let_go else c.default
                for n, slot in enumerate(c.slots if c.break_no == break_no and value else ()):
                    at.append(slot - 1)
                    values.append(value >> 8 * (len(c.slots) - 1 - n) & 255)
            kept = self._templates[key] = (mode, np.array(at, np.intp), np.array(values, np.uint8))
            if len(self._templates) > 500:
                self._templates = {key: kept}
        return kept[1], kept[2]


def _pixels(order: str, mine: dict[str, float], span: Span, found: Frame) -> None:
    """Every pixel of a span gets the held components, as far as they stand in this universe."""
    if not order:
        return
    pixel = np.array([round(255 * mine.get(FUNCTIONS[x], 0.0)) for x in order], np.uint8)
    last = min(span.last, SLOTS)
    found[span.first - 1 : last] = np.resize(np.roll(pixel, -(span.offset % len(pixel))), last - span.first + 1)


def goes_dark(c: Channel) -> bool:
    """Whether a blackout takes a channel to zero: as its profile says, else as usual for its function."""
    return c.master == "yes" or (c.master == "auto" and family_of(c.function) in DARK)


def released(c: Channel) -> int:
    """The value of a channel when output is given back."""
    return c.default if c.release is None else c.release


def light_up(index: Index, key: str) -> dict[str, float]:
    """What makes an item easy to find, by function as shares of full: its profile's highlight values.

    What moves the lamp is left out, and of the rest whatever stands at its default anyway.
    """
    span, element = index.place(key), index.rig.elements.get(key)
    if element or (span and span.break_no == BY_PIXEL):
        return {f.function: 1.0 for f in faders(index, [key])}
    fixture = index.rig.fixtures.get(key)
    mode = mode_of(index.rig, fixture) if fixture else None
    found: dict[str, float] = {}
    for n, value in revealed(mode).items() if mode else ():
        c = mode.channels[n] if mode else None
        if c and family_of(c.function) != "position" and (value != c.default or c.function == "Dimmer"):
            found.setdefault(function_key(c), value / c.top)
    return found


def turned(fixture: Fixture, function: str, level: float) -> tuple[str, float]:
    """Which function drives a channel of a fixture, and at which level: movement may be swapped and inverted."""
    if function not in ("Pan", "Tilt") or not fixture.turns:
        return function, level
    if f"{function.lower()} inverted" in fixture.turns:
        level = 1.0 - level
    if "pan and tilt swapped" in fixture.turns:
        function = "Tilt" if function == "Pan" else "Pan"
    return function, level


def function_key(c: Channel) -> str:
    """Channels that one fader moves together: same function, or the same undescribed slot."""
    return c.function or f"?{c.break_no}.{c.slots[0]}"


def _write(frame: Frame, start: int, c: Channel, value: int) -> None:
    for n, slot in enumerate(c.slots):
        at = start + slot - 2
        if at < SLOTS:
            frame[at] = value >> 8 * (len(c.slots) - 1 - n) & 255


def faders(index: Index, keys: list[str]) -> list[Fader]:
    """The functions of a selection in channel order; the functions of pixels stand once, for all pixels.

    Of a lamp behind a converter there are the components of its pixel: what else it has, the converter makes of these.
    """
    rig = index.rig
    found: dict[str, Fader] = {}
    kinds: set[tuple[str, str]] = set()
    for key in keys:
        fixture = rig.fixtures.get(key)
        element = rig.elements.get(key)
        span = index.place(key)
        if element or (span and span.break_no == BY_PIXEL):
            for letter in (
                letters_of(index, span) if span else element.order if element and element.kind != "block" else ""
            ):
                name = FUNCTIONS[letter]
                if name not in found:
                    found[name] = Fader(name, word_for(name), letter, 1, 255, 0, family_of(name))
        elif fixture:
            if (fixture.profile, fixture.mode) in kinds:
                continue
            kinds.add((fixture.profile, fixture.mode))
            mode = mode_of(rig, fixture)
            for c in sorted(mode.channels, key=lambda c: (c.break_no, c.slots[0])) if mode else ():
                name = function_key(c)
                if name not in found and c.function != "NoFeature":
                    word = word_for(c.function, c.name or "?")
                    found[name] = Fader(name, word, c.short, len(c.slots), c.top, c.default, family_of(c.function))
    return list(found.values())
