"""Test cycles: what to send one step after the other, and what must be seen at each.

A step is a whole state of the items under test, not a change to the one before: it can be held, left out, gone back to.
Each says first what should happen in the light, so that whoever stands there can say what happens instead.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from msgspec import Struct, field

from welvo.bench.levels import Hold, faders_of_selection, light_up, pixel_functions
from welvo.bench.picking import pixels_in
from welvo.patch.index import Index
from welvo.patch.slot_words import slot_word
from welvo.rig.attributes import family_of, word_for
from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_count, say_place
from welvo.runs.along import piece_name

MOST_STEPS = 20_000
COLOURS = ("ColorAdd_R", "ColorAdd_G", "ColorAdd_B", "ColorAdd_W")


class CycleStep(Struct, frozen=True):
    """One state of the items: its name, what must be seen, what is held, and which item it is about where it is one."""

    words: str
    see: str
    hold: Hold = field(default_factory=Hold)
    item: str = ""


class CycleKind(Struct, frozen=True):
    """A kind of cycle: what it is called, what it finds, and what makes its steps over some items."""

    words: str
    finds: str
    make_steps: Callable[[Index, list[str]], list[CycleStep]]


def steps_of_cycle(index: Index, kind: str, keys: list[str]) -> list[CycleStep]:
    """The steps of a cycle over some items. Raises Refused when there is nothing to test."""
    if not keys:
        raise Refused("Pick what is to be tested first.")
    if kind not in KINDS:
        raise Refused(f"There is no cycle “{kind}”; there are {', '.join(KINDS)}.")
    found = KINDS[kind].make_steps(index, keys)
    if not found:
        raise Refused("Nothing of what is picked has anything that this cycle could show.")
    if len(found) > MOST_STEPS:
        raise Refused(f"That would be {len(found)} steps; pick less.")
    return found


def _with_capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def _open_channels(index: Index, keys: list[str], colour: bool = False) -> dict[tuple[str, str], float]:
    """What lets light out of the items without giving it a colour: dimmer and shutter."""
    found: dict[tuple[str, str], float] = {}
    for key in keys:
        if key in index.rig.elements:
            continue
        for function, value in light_up(index, key).items():
            if colour or family_of(function) in ("intensity", "shutter"):
                found[key, function] = value
    return found


def _of_colour(index: Index, keys: list[str]) -> dict[str, list[tuple[str, str]]]:
    """By function: which items have it as an emitter, in order."""
    found: dict[str, list[tuple[str, str]]] = {}
    for key in keys:
        for f in faders_of_selection(index, [key]):
            if f.family == "colour" and f.function.startswith("ColorAdd"):
                found.setdefault(f.function, []).append((key, f.function))
    return found


def _dark_channels(index: Index, keys: list[str]) -> dict[tuple[str, str], float]:
    """All emitters of the items at zero: what a step wants lit comes on top."""
    return {place: 0.0 for places in _of_colour(index, keys).values() for place in places}


def _component_steps(index: Index, keys: list[str]) -> list[CycleStep]:
    emitters, shut = _of_colour(index, keys), _dark_channels(index, keys)
    found = []
    for function, places in emitters.items():
        word = word_for(function)
        hold = Hold({**shut, **_open_channels(index, keys), **dict.fromkeys(places, 1.0)})
        found.append(
            CycleStep(_with_capital(word), f"{say_count(len(places), 'item')} in {word.lower()}, the rest dark.", hold)
        )
    plain = [k for k in keys if not any(p[0] == k for places in emitters.values() for p in places)]
    if plain:
        hold = Hold({**shut, **_open_channels(index, plain)})
        found.append(
            CycleStep("Dimmer", f"{say_count(len(plain), 'item')} without colours of their own at full.", hold)
        )
    return [*found, CycleStep("Off", "All of them dark.", _zero_hold(index, keys))]


def _zero_hold(index: Index, keys: list[str]) -> Hold:
    return Hold(
        {
            (k, f.function): 0.0
            for k in keys
            for f in faders_of_selection(index, [k])
            if f.family in ("intensity", "colour")
        }
    )


def _colour_steps(index: Index, keys: list[str]) -> list[CycleStep]:
    shut, out = _dark_channels(index, keys), _open_channels(index, keys)
    emitters = _of_colour(index, keys)
    found = []
    for function in COLOURS[:3]:
        if function in emitters:
            word = word_for(function)
            hold = Hold({**shut, **out, **dict.fromkeys(emitters[function], 1.0)})
            found.append(
                CycleStep(_with_capital(word), f"Everything is {word.lower()}; what is not has another order.", hold)
            )
    mixed = {p: 1.0 for f in COLOURS[:3] for p in emitters.get(f, ())}
    white = dict.fromkeys(emitters.get("ColorAdd_W", ()), 1.0)
    own = {k for k, _ in white}
    hold = Hold({**shut, **out, **{p: v for p, v in mixed.items() if p[0] not in own}, **white})
    if mixed or white:
        found.append(CycleStep("White", "Everything is white: by its own white, or by red, green and blue.", hold))
    return [*found, CycleStep("Off", "All of them dark.", _zero_hold(index, keys))] if found else []


def _all_on(index: Index, keys: list[str]) -> list[CycleStep]:
    on = _lit_hold(index, keys)
    return [
        CycleStep("On", f"{say_count(len(keys), 'item')} at full.", on),
        CycleStep("Off", "All dark.", _zero_hold(index, keys)),
    ]


def _lit_hold(index: Index, keys: list[str], level: float = 1.0) -> Hold:
    """Items at a level: by their dimmer, or by their colours where they have none."""
    functions: dict[tuple[str, str], float] = {}
    for key in keys:
        mine = light_up(index, key)
        dims = [f for f in mine if family_of(f) == "intensity"]
        for function, value in mine.items():
            scaled = function in dims or (not dims and family_of(function) == "colour")
            functions[key, function] = value * level if scaled else value
    return Hold(functions)


def _ramp_steps(index: Index, keys: list[str]) -> list[CycleStep]:
    found = []
    for n in range(17):
        percent = round(100 * n / 16)
        found.append(
            CycleStep(f"{percent} %", f"All at {percent} %, evenly, without flicker.", _lit_hold(index, keys, n / 16))
        )
    return found


def _slot_steps(index: Index, keys: list[str]) -> list[CycleStep]:
    found = []
    for key in keys:
        for span in index.spans_of(key):
            number = index.rig.universes[span.universe].number
            mine = {(span.universe, a): 0 for a in range(span.first, min(span.last, SLOTS) + 1)}
            for address in range(span.first, min(span.last, SLOTS) + 1):
                what = slot_word(index, span, address)
                within = span.offset + address - span.first + 1
                found.append(
                    CycleStep(
                        f"{name_of_item(index.rig, key)} slot {within} · {say_place(number, address)}",
                        f"{_with_capital(what)}: this alone reacts.",
                        Hold(slots={**mine, (span.universe, address): 255}),
                        key,
                    )
                )
    return found


def _pixel_white(index: Index, key: str, pixels: dict[int, float], colour: str = "") -> dict[tuple[int, str], float]:
    """Values of single pixels: white, or one colour (a function)."""
    functions = _pixel_functions(index, key)
    wanted = [colour] if colour in functions else [f for f in functions if f in COLOURS[:3]] or list(functions)
    return {(n, f): level for n, level in pixels.items() for f in wanted}


def _pixel_functions(index: Index, key: str) -> tuple[str, ...]:
    return tuple(n for n in pixel_functions(index, key) if family_of(n) in ("colour", "intensity"))


def _pixel_steps(index: Index, keys: list[str]) -> list[CycleStep]:
    found = []
    for key in keys:
        many = pixels_in(index, key)
        base = Hold({**_dark_channels(index, [key]), **_open_channels(index, [key])})
        for n in range(1, many + 1):
            hold = Hold(base.functions, {key: _pixel_white(index, key, {n: 1.0})})
            found.append(
                CycleStep(f"{name_of_item(index.rig, key)} pixel {n}", f"Pixel {n} of {many} alone.", hold, key)
            )
    return found


def _end_steps(index: Index, keys: list[str]) -> list[CycleStep]:
    """Of each item, and of each segment on a cable: its first pixel green, its last red."""
    functions: dict[tuple[str, str], float] = {}
    pixels: dict[str, dict[tuple[int, str], float]] = {}
    named = []
    for key in keys:
        many = pixels_in(index, key)
        if not many:
            continue
        functions |= {**_dark_channels(index, [key]), **_open_channels(index, [key])}
        places: dict[int, str] = {}
        for _, piece in index.cables_and_sums.on_runs(key):
            if piece.key == key and piece.leds:
                first = piece.segment.first or 1
                places.setdefault(first, COLOURS[1])
                places[min(many, first + piece.pixels - 1)] = COLOURS[0]
                named.append(piece_name(index.rig, piece))
        if not places:
            places = {1: COLOURS[1], many: COLOURS[0]}
        mine: dict[tuple[int, str], float] = {}
        for n, colour in places.items():
            mine |= _pixel_white(index, key, {n: 1.0}, colour)
        pixels[key] = mine
    if not pixels:
        return []
    see = f"{say_count(len(pixels), 'item')}: the first pixel green, the last red, each segment by itself."
    return [
        CycleStep("First and last", see, Hold(functions, pixels)),
        CycleStep("Off", "All dark.", _zero_hold(index, keys)),
    ]


def _number_steps(index: Index, keys: list[str]) -> list[CycleStep]:
    """Each lamp blinks the digits of its number: a long light before each digit, then as many short ones; ten for 0.

    All lamps begin together, so that one look tells neighbours apart.
    """
    rig = index.rig
    patterns: dict[str, list[bool]] = {}
    for key in keys:
        if key in rig.fixtures:
            beats: list[bool] = []
            for digit in str(rig.fixtures[key].number):
                beats += [True, True, True, False, False]
                beats += [True, False] * (int(digit) or 10)
                beats += [False, False]
            patterns[key] = beats
    longest = max(map(len, patterns.values()), default=0)
    found = []
    for n in range(longest):
        lit = [k for k, beats in patterns.items() if n < len(beats) and beats[n]]
        dark = [k for k in patterns if k not in lit]
        hold = Hold({**_zero_hold(index, dark).functions, **_lit_hold(index, lit).functions})
        see = "Each lamp blinks its number: a long light before each digit, then short ones; ten of them are a 0."
        found.append(CycleStep(f"beat {n + 1} of {longest}", see, hold))
    return found


def _burn_in(index: Index, keys: list[str]) -> list[CycleStep]:
    colours = _colour_steps(index, keys)
    see = "Everything at full for minutes: what dies when it gets warm, what flickers."
    on = CycleStep("All on", see, _lit_hold(index, keys))
    back = CycleStep("Off", "All dark: what still glows is stuck.", _zero_hold(index, keys))
    return [on, *[s for s in colours if s.words != "Off"], back]


KINDS: dict[str, CycleKind] = {
    "components": CycleKind(
        "every component alone",
        "Each emitter of each lamp by itself: what is dead, and what is swapped.",
        _component_steps,
    ),
    "colours": CycleKind(
        "red, green, blue, white, off", "Whole colours over everything: orders that differ stand out.", _colour_steps
    ),
    "all on": CycleKind("all on", "Everything at full, then off: what stays dark or stays lit.", _all_on),
    "ramp": CycleKind(
        "ramp", "From dark to full in 16 steps: flicker, steps, a curve that is not the same.", _ramp_steps
    ),
    "slots": CycleKind("slot by slot", "Each slot of the lamp alone at full: what reacts to it.", _slot_steps),
    "pixels": CycleKind("pixel by pixel", "One pixel after the other: order, count, fold.", _pixel_steps),
    "ends": CycleKind(
        "first and last pixels",
        "The first pixel of each segment green, the last red: where a cable begins and ends.",
        _end_steps,
    ),
    "numbers": CycleKind(
        "blink numbers", "Each lamp blinks its own number, digit by digit: which lamp is which.", _number_steps
    ),
    "burn-in": CycleKind(
        "burn-in", "All on, white, then each colour: pixels that are stuck or die when they get warm.", _burn_in
    ),
}
"""All of them. The halving search stands by itself: its next step depends on an answer."""


@dataclass
class Cycle:
    """A cycle in progress. `speed` is steps a second; `let_time_pass` moves it on, unless it is held."""

    steps: list[CycleStep]
    speed: float = 1.0
    at: int = 0
    held: bool = False
    repeat: bool = True
    _since: float = 0.0

    @property
    def present_step(self) -> CycleStep:
        return self.steps[self.at]

    def step_forward(self) -> None:
        self._go_by(1)

    def step_back(self) -> None:
        self._go_by(-1)

    def _go_by(self, by: int) -> None:
        self._since = 0.0
        to = self.at + by
        self.at = to % len(self.steps) if self.repeat else min(len(self.steps) - 1, max(0, to))

    def set_speed(self, speed: float) -> None:
        """Steps a second. Raises Refused outside 0.02 to 25."""
        if not 0.02 <= speed <= 25:
            raise Refused("A speed is 0.02 to 25 steps a second.")
        self.speed = speed

    def let_time_pass(self, seconds: float) -> bool:
        """Time went by. Gives whether another step begins."""
        if self.held:
            return False
        self._since += seconds
        if self._since * self.speed < 1.0:
            return False
        self._go_by(1)
        return True

    @property
    def items_touched(self) -> frozenset[str]:
        """Every item that any of its steps touches."""
        found: set[str] = set()
        for s in self.steps:
            found |= {k for k, _ in s.hold.functions} | set(s.hold.pixels) | ({s.item} if s.item else set())
        return frozenset(found)


class Halving(Struct, frozen=True):
    """A search for the slot a lamp answers on: half of what is possible is lit, and the answer keeps one half.

    `possible` are starts of stretches, as (universe id, address); `slots_asked` is the half that is lit now.
    """

    possible: tuple[tuple[str, int], ...]

    @property
    def slots_asked(self) -> tuple[tuple[str, int], ...]:
        return self.possible[: (len(self.possible) + 1) // 2]

    def with_answer(self, lit: bool) -> Halving:
        half = len(self.slots_asked)
        return Halving(self.possible[:half] if lit else self.possible[half:])

    @property
    def answers_left(self) -> int:
        """How many more answers are needed at the most."""
        return max(0, len(self.possible) - 1).bit_length()

    def step_to_show(self, index: Index) -> CycleStep:
        lit = dict.fromkeys(self.slots_asked, 255)
        dark = dict.fromkeys(self.possible[len(self.slots_asked) :], 0)
        numbers = index.rig.universes
        a, b = self.slots_asked[0], self.slots_asked[-1]
        words = f"{say_place(numbers[a[0]].number, a[1])} to {say_place(numbers[b[0]].number, b[1])}"
        see = (
            f"Does the lamp react? {say_count(len(self.possible), 'slot')} are possible, {self.answers_left} "
            f"answers to go."
        )
        return CycleStep(words, see, Hold(slots={**dark, **lit}))


def begin_halving(index: Index, universes: list[str]) -> Halving:
    """Begin to look for a lamp that answers somewhere in these universes. Raises Refused for none."""
    places = [(u, a) for u in universes for a in range(1, index.rig.universes[u].size + 1)]
    if not places:
        raise Refused("Choose the universes in which it may answer.")
    return Halving(tuple(places))
