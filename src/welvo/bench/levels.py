"""What the operator holds on the Bench, and the frames that follow from it.

Layers, each over the one before: the profiles' defaults; what is held by item, by pixel and by raw slot; *only these*,
which silences what is held elsewhere; a test, which takes its items over while it runs; the master and blackout.
Movement does not jump: what is held for pan and tilt is where the head is going, and `advance_moves` brings it there.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import numpy.typing as npt
from msgspec import Struct
from msgspec.structs import replace

from welvo.patch.index import BY_PIXEL, Index, Span
from welvo.patch.slot_words import letters_of
from welvo.rig.attributes import family_of, word_for
from welvo.rig.base import Refused
from welvo.rig.colours import FUNCTIONS
from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.lamp import highlight_values, physical_value
from welvo.rig.lookup import mode_of
from welvo.rig.patched import Fixture
from welvo.rig.profile import Channel, Mode

Frame = npt.NDArray[np.uint8]

DARK = ("intensity", "colour", "shutter")
"""Families that a blackout takes to zero."""


class Fader(Struct, frozen=True):
    """One function of a selection: all its channels move together. `top` is the value at full."""

    function: str
    word: str
    short: str
    slots: int
    top: int
    default: int
    family: str
    degrees: tuple[float, float] | None = None
    """Where it points at 0 and at full, where all that is selected knows that and agrees."""

    def degrees_at(self, share: float) -> float | None:
        """Where it points at a share of full."""
        return None if self.degrees is None else self.degrees[0] + (self.degrees[1] - self.degrees[0]) * share


MOVES = ("Pan", "Tilt")
"""Functions that are ramped: a head that jumps tears at its belt, and at whoever stands beside it."""
FASTEST = 0.25
"""How much of its whole range a head moves in a second at the most."""
Others = Literal["held", "default", "zero"]
"""What everything but the chosen items does: what is held for it, its defaults, nothing."""


@dataclass
class Hold:
    """What is held: functions of items and of single pixels as shares of full, raw slots as levels."""

    functions: dict[tuple[str, str], float] = field(default_factory=dict)
    pixels: dict[str, dict[tuple[int, str], float]] = field(default_factory=dict)
    slots: dict[tuple[str, int], int] = field(default_factory=dict)


class Levels:
    """Held values by item and function (0..1 of full), by pixel, raw slots by universe and address, and what they
    make."""

    def __init__(self) -> None:
        self.held: dict[tuple[str, str], float] = {}
        self.pixels: dict[str, dict[tuple[int, str], float]] = {}
        """By item: values of single pixels, counted from 1 in the order of their slots."""
        self.raw: dict[tuple[str, int], int] = {}
        self.blackout = False
        self.master = 1.0
        self.only: frozenset[str] = frozenset()
        """With items here, only what is held for them counts."""
        self.others: Others = "held"
        self.test: Hold | None = None
        """What a running test holds, and nothing else of `test_items`."""
        self.test_items: frozenset[str] = frozenset()
        self.playback: dict[str, bytes] = {}
        """By universe: whole frames of a recording that stand in place of what is held there."""
        self.moving: dict[tuple[str, str], float] = {}
        """Where a head is at present, by item and function, as long as it is not where it is held."""
        self._templates: dict[tuple[int, int, bool, bool], tuple[Mode, npt.NDArray[np.intp], Frame]] = {}
        self._stays: dict[tuple[int, int], tuple[Mode, npt.NDArray[np.intp], npt.NDArray[np.intp]]] = {}

    def hold_function(self, keys: Iterable[str], function: str, value: float) -> None:
        for key in keys:
            self.held[key, function] = min(1.0, max(0.0, value))

    def hold_pixels(self, key: str, pixels: Iterable[int], function: str, value: float) -> None:
        """Hold one function of single pixels of an item, counted from 1."""
        mine = self.pixels.setdefault(key, {})
        for n in pixels:
            mine[n, function] = min(1.0, max(0.0, value))

    def start_test(self, hold: Hold, items: Iterable[str]) -> None:
        """Have a test take its items over, until `end_test`."""
        self.test, self.test_items = hold, frozenset(items)

    def end_test(self) -> None:
        self.test, self.test_items = None, frozenset()

    def only_these(self, keys: Iterable[str], others: Others = "default") -> None:
        """Let only these items do what is held for them; with none, everything does again."""
        self.only = frozenset(keys)
        self.others = others if self.only else "held"

    def move_from(self, index: Index, keys: Iterable[str], function: str) -> bool:
        """Note where heads are before they are held elsewhere. Gives whether any of them begins to move."""
        begun = False
        for key in keys if function in MOVES else ():
            fixture = index.rig.fixtures.get(key)
            mode = mode_of(index.rig, fixture) if fixture else None
            c = next((c for c in mode.channels if function_key(c) == function), None) if mode else None
            if c and (key, function) not in self.moving:
                self.moving[key, function] = self.held.get((key, function), c.default / c.highest_value)
                begun = True
        return begun

    def from_rest(self, index: Index) -> bool:
        """Let every head begin at its default, where it stands before anything is sent. Gives whether one moves."""
        for key, function in [place for place in self.held if place[1] in MOVES]:
            held = self.held.pop((key, function))
            self.moving.pop((key, function), None)
            self.move_from(index, [key], function)
            self.held[key, function] = held
        return self.advance_moves(0.0)

    def advance_moves(self, seconds: float) -> bool:
        """Let heads go on to where they are held. Gives whether any of them still moves."""
        step = FASTEST * seconds
        for place, at in list(self.moving.items()):
            goal = self.held.get(place)
            if goal is None or abs(goal - at) <= step:
                del self.moving[place]
            else:
                self.moving[place] = at + (step if goal > at else -step)
        return bool(self.moving)

    def hold_slot(self, universe: str, address: int, level: int) -> None:
        """Hold one raw slot. Raises ValueError for a level outside 0..255 or an address outside 1..512."""
        if not 0 <= level <= 255 or not 1 <= address <= SLOTS:
            raise ValueError(f"slot {address} at {level}: addresses run from 1 to 512, levels from 0 to 255")
        self.raw[universe, address] = level

    def release_items(self, keys: list[str] | None = None) -> None:
        """Give back what is held, of some items or altogether; their channels go to their defaults."""
        if keys is None:
            self.held.clear()
            self.pixels.clear()
            self.raw.clear()
            self.moving.clear()
            self.only_these(())
            return
        gone = set(keys)
        self.held = {k: v for k, v in self.held.items() if k[0] not in gone}
        self.moving = {k: v for k, v in self.moving.items() if k[0] not in gone}
        for key in gone:
            self.pixels.pop(key, None)

    def hold_at_zero(self, index: Index, keys: list[str]) -> None:
        """Hold every function of some items at zero; what moves the head stays where it is."""
        for key in keys:
            for fader in faders_of_selection(index, [key]):
                if fader.family != "position":
                    self.held[key, fader.function] = 0.0

    def held_value(self, keys: list[str], function: str) -> float | None:
        """What is held for a function if all the items agree, else None."""
        values = {self.held.get((k, function)) for k in keys}
        return values.pop() if len(values) == 1 else None

    def frames_of_rig(self, index: Index, defaults_only: bool = False) -> dict[str, Frame]:
        """Levels of every universe: defaults, then what is held, then raw slots. With `defaults_only`, what receivers
        are left with when output is given back: the profiles' release values, or else defaults.

        At blackout, intensity, colour and shutter are zero, and whatever else its profile lets follow a master; the
        rest keeps its place so that heads do not swing.
        """
        held = self._held_functions(defaults_only)
        return {uid: self._make_frame(index, uid, held, defaults_only) for uid in index.rig.universes}

    def frame_of_universe(self, index: Index, universe: str) -> Frame:
        """The levels of one universe."""
        return self._make_frame(index, universe, self._held_functions(False), False)

    def slots_staying_lit(self, index: Index, universe: str) -> npt.NDArray[np.bool_]:
        """Which slots of a universe a blackout leaves as they are: those of channels that do not go dark, unless
        another item stands there with one that does."""
        found, dark = np.zeros(SLOTS, np.bool_), np.zeros(SLOTS, np.bool_)
        rig = index.rig
        for span in index.spans_on_universe(universe):
            fixture = rig.fixtures.get(span.item_of_span)
            mode = mode_of(rig, fixture) if fixture and span.break_no != BY_PIXEL else None
            if mode:
                for marked, at in zip((found, dark), self._stay_and_go(mode, span.break_no)):
                    marked[(at if span.last <= SLOTS else at[at <= SLOTS - span.first]) + (span.first - 1)] = True
        return found & ~dark

    def _stay_and_go(self, mode: Mode, break_no: int) -> tuple[npt.NDArray[np.intp], npt.NDArray[np.intp]]:
        """Offsets within a break of what stays lit at a blackout, and of what goes dark; kept as `_template_of_mode`
        does."""
        kept = self._stays.get((id(mode), break_no))
        if kept is None or kept[0] is not mode:
            mine = [c for c in mode.channels if c.break_no == break_no]
            stay, go = (
                np.array([slot - 1 for c in mine if goes_dark(c) == dark for slot in c.slots], np.intp)
                for dark in (False, True)
            )
            if len(self._stays) > 500:
                self._stays.clear()
            kept = self._stays[id(mode), break_no] = (mode, stay, go)
        return kept[1], kept[2]

    def _held_functions(self, defaults_only: bool) -> dict[str, dict[str, float]]:
        functions: dict[str, dict[str, float]] = {}
        if defaults_only:
            return functions
        for (key, function), value in self.held.items():
            if self._goes_out(key):
                functions.setdefault(key, {})[function] = self.moving.get((key, function), value)
        for (key, function), value in self.test.functions.items() if self.test else ():
            functions.setdefault(key, {})[function] = value
        return functions

    def _goes_out(self, key: str) -> bool:
        """Whether what is held for an item goes out: not while a test has it, nor beside chosen ones."""
        return key not in self.test_items and (not self.only or key in self.only)

    def _held_pixels(self, key: str) -> dict[tuple[int, str], float]:
        """What is held for single pixels of an item."""
        if self.test and key in self.test_items:
            return self.test.pixels.get(key, {})
        return self.pixels.get(key, {}) if self._goes_out(key) else {}

    def _make_frame(self, index: Index, uid: str, functions: dict[str, dict[str, float]], defaults_only: bool) -> Frame:
        """One layer over the other: what every lamp is at rest, functions held, pixels held, playback, slots held."""
        found: Frame = np.zeros(SLOTS, np.uint8)
        dark = self.blackout and not defaults_only
        spans = index.spans_on_universe(uid)
        self._write_rest(index.rig, spans, found, dark, defaults_only)
        self._write_functions(index, spans, functions, found, dark)
        if defaults_only:
            return found
        for span in spans if (self.pixels or self.test) and not dark else ():
            single = self._held_pixels(span.item_of_span)
            if single:
                self._write_single(index, span, single, found)
        if uid in self.playback and not dark:
            played = np.frombuffer(self.playback[uid][:SLOTS].ljust(SLOTS, b"\0"), np.uint8)
            found[:] = played
        raw = {} if dark or self.only else self.raw
        for (universe, address), level_ in [*raw.items(), *(self.test.slots.items() if self.test and not dark else ())]:
            if universe == uid:
                found[address - 1] = level_
        if self.only and self.others == "zero":
            chosen = [x for x in spans if x.item_of_span in self.only or x.item_of_span in self.test_items]
            kept = np.zeros(SLOTS, bool)
            for span in chosen:
                kept[span.first - 1 : min(span.last, SLOTS)] = True
            found[~kept] = 0
        if self.master < 1.0:
            self._dim_followers(index, spans, found)
        return found

    def _write_rest(self, rig: Rig, spans: Sequence[Span], found: Frame, dark: bool, defaults_only: bool) -> None:
        for span in spans:
            fixture = rig.fixtures.get(span.item_of_span)
            mode = mode_of(rig, fixture) if fixture and span.break_no != BY_PIXEL else None
            if mode is None or fixture is None:
                continue
            at, values = self._template_of_mode(mode, span.break_no, dark, defaults_only)
            if span.last > SLOTS:  # a lamp patched past the end: what fits is sent all the same
                at, values = at[at < SLOTS - span.first + 1], values[at < SLOTS - span.first + 1]
            found[at + (span.first - 1)] = values
            if fixture.turns:
                # the template is one for all lamps of a mode; an inverted axis rests at the other end of its own
                for c in mode.channels:
                    if c.break_no == span.break_no and c.default and turned_function(fixture, c.function, 0.0)[1]:
                        _write_value(found, span.first, c, c.highest_value - c.default)

    def _write_functions(
        self, index: Index, spans: Sequence[Span], functions: dict[str, dict[str, float]], found: Frame, dark: bool
    ) -> None:
        driven: list[tuple[Span, dict[str, float]]] = []
        for span in spans:
            mine = functions.get(span.item_of_span)
            if not mine:
                continue
            fixture = index.rig.fixtures.get(span.item_of_span)
            mode = mode_of(index.rig, fixture) if fixture and span.break_no != BY_PIXEL else None
            if fixture and mode:
                for c in mode.channels:
                    if c.break_no != span.break_no or (dark and goes_dark(c)):
                        continue
                    function, _ = turned_function(fixture, function_key(c), 0.0)
                    level = mine.get(function)
                    if level is not None:
                        turned = turned_function(fixture, function_key(c), level)[1]
                        _write_value(found, span.first, c, round(turned * c.highest_value))
            elif span.break_no == BY_PIXEL:
                driven.append((span, mine))
            elif not dark:
                _fill_pixels(letters_of(index, span), mine, span, found)
        for span, mine in () if dark else driven:  # last: a lamp held by itself, and the element of its pixel as well
            _fill_pixels(letters_of(index, span), mine, span, found)

    def _write_single(self, index: Index, span: Span, single: dict[tuple[int, str], float], found: Frame) -> None:
        fixture = index.rig.fixtures.get(span.item_of_span)
        mode = mode_of(index.rig, fixture) if fixture and span.break_no != BY_PIXEL else None
        if mode:
            for c in mode.channels:
                value = single.get((c.pixel, function_key(c))) if c.pixel and c.break_no == span.break_no else None
                if value is not None:
                    _write_value(found, span.first, c, round(value * c.highest_value))
            return
        order = letters_of(index, span)
        for n, letter in enumerate(order):
            for (pixel, function), value in single.items():
                at = span.first + (pixel - 1) * len(order) + n - span.offset
                if function == FUNCTIONS[letter] and span.first <= at <= min(span.last, SLOTS):
                    found[at - 1] = round(255 * value)

    def _dim_followers(self, index: Index, spans: Iterable[Span], found: Frame) -> None:
        """Take everything that follows a master down to its share."""
        for span in spans:
            fixture = index.rig.fixtures.get(span.item_of_span)
            mode = mode_of(index.rig, fixture) if fixture and span.break_no != BY_PIXEL else None
            if mode is None:
                if letters_of(index, span):
                    part = found[span.first - 1 : min(span.last, SLOTS)]
                    part[:] = np.rint(part * self.master).astype(np.uint8)
                continue
            for c in mode.channels:
                at = [span.first + slot - 2 for slot in c.slots]
                if c.break_no == span.break_no and at[-1] < SLOTS and follows_master(mode, c):
                    value = 0
                    for n in at:
                        value = value << 8 | int(found[n])
                    _write_value(found, span.first, c, round(value * self.master))

    def _template_of_mode(
        self, mode: Mode, break_no: int, dark: bool, let_go: bool
    ) -> tuple[npt.NDArray[np.intp], Frame]:
        """Offsets within a break and the levels of what nobody holds there; kept for as long as the mode lives."""
        key = (id(mode), break_no, dark, let_go)
        kept = self._templates.get(key)
        if kept is None or kept[0] is not mode:
            at, values = [], []
            for c in mode.channels:
                value = 0 if dark and goes_dark(c) else released_value(c) if let_go else c.default
                for n, slot in enumerate(c.slots if c.break_no == break_no and value else ()):
                    at.append(slot - 1)
                    values.append(value >> 8 * (len(c.slots) - 1 - n) & 255)
            kept = self._templates[key] = (mode, np.array(at, np.intp), np.array(values, np.uint8))
            if len(self._templates) > 500:
                self._templates = {key: kept}
        return kept[1], kept[2]


def _fill_pixels(order: str, mine: dict[str, float], span: Span, found: Frame) -> None:
    """Every pixel of a span gets the held components, as far as they stand in this universe."""
    if not order:
        return
    pixel = np.array([round(255 * mine.get(FUNCTIONS[x], 0.0)) for x in order], np.uint8)
    last = min(span.last, SLOTS)
    found[span.first - 1 : last] = np.resize(np.roll(pixel, -(span.offset % len(pixel))), last - span.first + 1)


def goes_dark(c: Channel) -> bool:
    """Whether a blackout takes a channel to zero: as its profile says, else as usual for its function."""
    return c.master == "yes" or (c.master == "auto" and family_of(c.function) in DARK)


def follows_master(mode: Mode, c: Channel) -> bool:
    """Whether the master takes a channel down: as its profile says, else its intensity, or its colours where a lamp
    has no intensity of its own."""
    if c.master != "auto":
        return c.master == "yes"
    if any(family_of(x.function) == "intensity" for x in mode.channels):
        return family_of(c.function) == "intensity"
    return family_of(c.function) == "colour"


def released_value(c: Channel) -> int:
    """The value of a channel when output is given back."""
    return c.default if c.release is None else c.release


def reveal_item(index: Index, key: str) -> dict[str, float]:
    """What makes an item visible in one act: as `light_up`, and what moves it goes to the middle of its range."""
    found = light_up(index, key)
    fixture = index.rig.fixtures.get(key)
    mode = mode_of(index.rig, fixture) if fixture else None
    for c in mode.channels if mode else ():
        if c.function in MOVES:
            found[function_key(c)] = 0.5
    return found


def spread_values(keys: list[str], first: float, last: float, how: str = "first to last") -> dict[str, float]:
    """A value for each of a selection: from `first` to `last` along it, from its centre out, or `first` on every 2nd,
    3rd … and `last` on the others. Raises Refused for another word."""
    n = len(keys)
    if how == "first to last":
        return {k: first + (last - first) * i / max(1, n - 1) for i, k in enumerate(keys)}
    if how == "centre out":
        half = (n - 1) / 2
        return {k: first + (last - first) * abs(i - half) / max(0.5, half) for i, k in enumerate(keys)}
    m = re.fullmatch(r"every (\d+)(?:st|nd|rd|th)?", how.strip())
    if m and int(m[1]) > 0:
        return {k: first if i % int(m[1]) == 0 else last for i, k in enumerate(keys)}
    raise Refused(f"“{how}” is no spread. Write first to last, centre out, or every 2nd.")


def light_up(index: Index, key: str) -> dict[str, float]:
    """What makes an item easy to find, by function as shares of full: its profile's highlight values.

    What moves the lamp is left out, and of the rest whatever stands at its default anyway.
    """
    span, element = index.span_of_break(key), index.rig.elements.get(key)
    if element or (span and span.break_no == BY_PIXEL):
        return {f.function: 1.0 for f in faders_of_selection(index, [key])}
    fixture = index.rig.fixtures.get(key)
    mode = mode_of(index.rig, fixture) if fixture else None
    found: dict[str, float] = {}
    for n, value in highlight_values(mode).items() if mode else ():
        c = mode.channels[n] if mode else None
        if c and family_of(c.function) != "position" and (value != c.default or c.function == "Dimmer"):
            found.setdefault(function_key(c), value / c.highest_value)
    return found


def turned_function(fixture: Fixture, function: str, level: float) -> tuple[str, float]:
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


def _write_value(frame: Frame, start: int, c: Channel, value: int) -> None:
    for n, slot in enumerate(c.slots):
        at = start + slot - 2
        if at < SLOTS:
            frame[at] = value >> 8 * (len(c.slots) - 1 - n) & 255


def faders_of_selection(index: Index, keys: list[str]) -> list[Fader]:
    """The functions of a selection in channel order; the functions of pixels stand once, for all pixels.

    Of a lamp behind a converter there are the components of its pixel: what else it has, the converter makes of these.
    """
    rig = index.rig
    found: dict[str, Fader] = {}
    kinds: set[tuple[str, str]] = set()
    for key in keys:
        fixture = rig.fixtures.get(key)
        element = rig.elements.get(key)
        span = index.span_of_break(key)
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
                reach = degrees_of_channel(c)
                if name in found and found[name].degrees != reach:
                    found[name] = replace(found[name], degrees=None)
                if name not in found and c.function != "NoFeature":
                    word = word_for(c.function, c.name or "?")
                    found[name] = Fader(
                        name, word, c.short, len(c.slots), c.highest_value, c.default, family_of(c.function), reach
                    )
    return list(found.values())


def degrees_of_channel(c: Channel) -> tuple[float, float] | None:
    """Where a channel that moves the lamp points at its two ends; None where the profile does not say it."""
    if family_of(c.function) != "position" or c.ranges:
        return None
    low, high = physical_value(c, 0), physical_value(c, c.highest_value)
    return (low, high) if low is not None and high is not None and low != high else None


def count_having(index: Index, keys: Iterable[str]) -> dict[str, int]:
    """How many of a selection have each function; lamps of one mode are looked at once."""
    found: dict[str, int] = {}
    known: dict[tuple[str, str], list[str]] = {}
    for key in keys:
        fixture = index.rig.fixtures.get(key)
        kind = (fixture.profile, fixture.mode) if fixture else ("", key)
        if kind not in known:
            known[kind] = [f.function for f in faders_of_selection(index, [key])]
        for function in known[kind]:
            found[function] = found.get(function, 0) + 1
    return found


def pixel_functions(index: Index, key: str) -> tuple[str, ...]:
    """The functions that each pixel of an item has of its own."""
    span, fixture = index.span_of_break(key), index.rig.fixtures.get(key)
    if fixture and not (span and span.break_no == BY_PIXEL):
        mode = mode_of(index.rig, fixture)
        return tuple(dict.fromkeys(function_key(c) for c in mode.channels if c.pixel)) if mode else ()
    element = index.rig.elements.get(key)
    order = letters_of(index, span) if span else element.order if element else ""
    return tuple(FUNCTIONS[x] for x in order)


def read_function_value(index: Index, key: str, function: str, text: str) -> float:
    """`128`, `50 %` or `45°` for one function of an item, as a share of full. Raises Refused."""
    t = text.strip().replace(",", ".")
    m = re.fullmatch(r"(-?\d+(?:\.\d+)?)\s*(%|°|deg|degrees)?", t)
    if not m:
        raise Refused(f"“{text.strip()}” is no value. Write 128, 50 %, or 45° for what has degrees.")
    number, unit = float(m[1]), m[2] or ""
    fixture = index.rig.fixtures.get(key)
    mode = mode_of(index.rig, fixture) if fixture else None
    c = next((c for c in mode.channels if function_key(c) == function), None) if mode else None
    if unit == "%":
        share = number / 100
    elif unit:
        low, high = (physical_value(c, 0), physical_value(c, c.highest_value)) if c else (None, None)
        if low is None or high is None or low == high:
            raise Refused("The profile does not say how many degrees that is.")
        share = (number - low) / (high - low)
        if not 0 <= share <= 1:
            raise Refused(f"It reaches {low:g}° to {high:g}°.")
    else:
        share = number / (c.highest_value if c else 255)
    if not 0 <= share <= 1:
        raise Refused(f"That is outside 0 to {c.highest_value if c else 255}, or 0 to 100 %.")
    return share
