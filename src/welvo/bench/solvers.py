"""What two or three sights say: which of all possible mistakes are left, and which test would tell most.

Every solver works the same way. There is a list of what could be the case; each of them predicts what is seen for a
test; what was seen strikes out those that predict otherwise. The best next test is the one whose predictions divide
what is left most evenly.
"""

from __future__ import annotations

import math
import operator
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, replace
from itertools import permutations
from typing import Generic, TypeVar

from msgspec import Struct

from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.rig.attributes import word_for
from welvo.rig.base import Refused
from welvo.rig.colours import FUNCTIONS
from welvo.rig.counting import SLOTS
from welvo.rig.lookup import universe_by_number
from welvo.rig.notation import say_count
from welvo.runs.bridge import colour_in_its_place
from welvo.runs.cable import Piece, PortStream, place_in

T = TypeVar("T", bound=Hashable)


class SeenTest(Struct, frozen=True):
    """A test that was made, and what was seen."""

    test: str
    seen: str


@dataclass(frozen=True)
class Solver(Generic[T]):
    """`possible` is what could be the case, the likeliest first; `predict` says what each would show for a test."""

    question: str
    possible: tuple[T, ...]
    tests: tuple[str, ...]
    predict: Callable[[T, str], str]
    say: Callable[[T], str]
    sights: tuple[SeenTest, ...] = ()
    agrees: Callable[[str, str], bool] = operator.eq
    """Whether what was seen may be what was predicted."""
    ends: str = "it is {}"
    """The words for the one that is left."""

    def after_sight(self, test: str, seen: str) -> Solver[T]:
        """With one more sight. Raises Refused for a test that there is not."""
        if test not in self.tests:
            raise Refused(f"There is no test “{test}”.")
        kept = tuple(s for s in self.sights if s.test != test)
        return replace(self, sights=(*kept, SeenTest(test, seen)))

    def without_sight(self, test: str) -> Solver[T]:
        """With a sight taken back."""
        kept = tuple(s for s in self.sights if s.test != test)
        return replace(self, sights=kept)

    @property
    def still_possible(self) -> tuple[T, ...]:
        """What is still possible after all that was seen."""
        return tuple(p for p in self.possible if all(self.agrees(self.predict(p, s.test), s.seen) for s in self.sights))

    def possible_answers(self, test: str) -> dict[str, int]:
        """What may be seen for a test, and for how many of those that are left."""
        found: dict[str, int] = {}
        for p in self.still_possible:
            seen = self.predict(p, test)
            found[seen] = found.get(seen, 0) + 1
        return found

    @property
    def next_test(self) -> str:
        """The test that decides most; empty when one is left, or none tells them apart."""
        made = {s.test for s in self.sights}
        best, most = "", 1e-9
        for test in self.tests:
            counts = list(self.possible_answers(test).values())
            total = sum(counts)
            bits = -sum(c / total * math.log2(c / total) for c in counts) if total else 0.0
            if test not in made and bits > most:
                best, most = test, bits
        return best

    @property
    def words_of_verdict(self) -> str:
        left = self.still_possible
        if not left:
            return "No single mistake of this kind shows what was seen. Take a sight back, or look for another cause."
        if len(left) == 1:
            words = self.ends.format(self.say(left[0]))
            return f"{words[:1].upper()}{words[1:]}."
        names = ", ".join(self.say(p) for p in left[:4])
        return f"{say_count(len(left), 'possibility', 'possibilities')} left: {names}{' …' if len(left) > 4 else '.'}"


def _word_for_letter(letter: str) -> str:
    return word_for(FUNCTIONS[letter]) if letter in FUNCTIONS else letter


def solve_colour_order(sent: str) -> Solver[str]:
    """Which order is the string's, when the sender sends `sent`: light one component, say which colour shows."""

    def predict(real: str, test: str) -> str:
        slot = int(test.partition(" ")[2]) - 1
        return _word_for_letter(real[slot])

    orders = tuple("".join(p) for p in permutations(sent))
    tests = tuple(f"slot {n + 1}" for n in range(len(sent)))
    return Solver("In which order does the string take its colours?", orders, tests, predict, lambda o: o)


def start_address(index: Index, key: str, slots: Sequence[int] = ()) -> Solver[int]:
    """At which address a lamp answers: slots around the planned one are lit by themselves, and it reacts or not.

    What a mistake makes of an address stands first: one more or less, a digit, a switch; then all others.
    """
    fixture = index.rig.fixtures.get(key)
    spans = index.spans_of(key)
    if fixture is None or not spans:
        raise Refused("That works for a lamp with an address.")
    meant = set_on(index, key).address or spans[0].first
    width = spans[0].last - spans[0].first + 1
    likely = [meant, meant - 1, meant + 1, meant + 10, meant - 10, meant + 100, meant - 100, 1]
    likely += [meant ^ (1 << n) for n in range(9)]
    possible = tuple(a for a in dict.fromkeys([*likely, *range(1, SLOTS + 1)]) if 1 <= a <= SLOTS)
    edges = sorted({min(SLOTS, max(1, a + d)) for a in possible[:20] for d in (0, width - 1)} | set(slots))
    halves = [SLOTS // 2, SLOTS // 4, 3 * SLOTS // 4]

    def predict(real: int, test: str) -> str:
        _, first, _, last = test.split(" ")
        a, b = int(first), int(last)
        return "it reacts" if real <= b and real + width - 1 >= a else "nothing"

    tests = [f"slots {a} to {a}" for a in edges] + [f"slots 1 to {h}" for h in halves]
    return Solver(
        f"Where does {fixture.number} answer?", possible, tuple(dict.fromkeys(tests)), predict, lambda a: f"address {a}"
    )


class Counting(Struct, frozen=True):
    """How two ends count one universe: the sender's number and the device's, each from 0 or 1."""

    shift: int

    @property
    def words_of_counting(self) -> str:
        if self.shift == 0:
            return "the same count at both ends"
        more = "one more" if self.shift > 0 else "one less"
        return f"the device counting {more} than the sender: one counts from 0, the other from 1"


def universe_base(wires: Sequence[int]) -> Solver[Counting]:
    """Whether sender and device count from 0 and 1: each of some universes is sent alone, and one of the ports shows
    it."""

    def predict(real: Counting, test: str) -> str:
        sent = int(test.partition(" ")[2])
        shown = sent + real.shift
        return f"the port set to {shown}" if shown in wires else "no port"

    tests = tuple(f"universe {w}" for w in wires)
    possible = tuple(Counting(n) for n in (0, 1, -1))
    return Solver("From what does each end count?", possible, tests, predict, lambda c: c.words_of_counting)


class StringFold(Struct, frozen=True):
    """How a string lies: after how many pixels it turns back (0: never), and which end is data in."""

    fold: int
    reverse: bool

    @property
    def words_of_laying(self) -> str:
        way = "data comes in at the far end" if self.reverse else "data comes in at the near end"
        return f"{way}, {f'folded every {self.fold}' if self.fold else 'not folded'}"


def fold_and_direction(pixels: int, folds: Sequence[int] = ()) -> Solver[StringFold]:
    """How a string of pixels lies: one pixel is lit, and it is said at which place from the near end it shows."""
    if pixels < 2:
        raise Refused("A string of one pixel lies in one way only.")
    divisors = [n for n in range(2, pixels // 2 + 1) if pixels % n == 0]
    every = dict.fromkeys([0, *folds, *divisors])
    possible = tuple(StringFold(f, r) for f in every for r in (False, True))

    def predict(real: StringFold, test: str) -> str:
        n = int(test.partition(" ")[2]) - 1
        at = pixels - 1 - n if real.reverse else n
        if real.fold:
            row, within = divmod(at, real.fold)
            here = min(real.fold, pixels - row * real.fold)
            at = row * real.fold + (here - 1 - within if row % 2 else within)
        return f"place {at + 1}"

    marks = {1, 2, pixels, pixels // 2, *(f + 1 for f in every if f), *(f for f in every if f)}
    tests = tuple(f"pixel {n}" for n in sorted(marks) if 1 <= n <= pixels)
    return Solver("How does the string lie?", possible, tests, predict, lambda x: x.words_of_laying)


def which_device(index: Index, candidates: Sequence[str]) -> Solver[str]:
    """Which planned device a found one is: devices are told apart by what their ports take."""
    rig = index.rig

    def takes(device: str) -> set[int]:
        return {rig.feeds[p.feed].wire for p in rig.devices[device].ports.values() if p.feed in rig.feeds} | {
            n for s in _streams_of_device(index, device) for n, _ in s.used
        }

    wires = {d: takes(d) for d in candidates}

    def predict(real: str, test: str) -> str:
        return "it shows it" if int(test.partition(" ")[2]) in wires[real] else "dark"

    tests = tuple(f"universe {w}" for w in sorted(set().union(*wires.values()) if wires else set()))
    return Solver("Which device is it?", tuple(candidates), tests, predict, lambda d: rig.devices[d].name)


def _streams_of_device(index: Index, device: str) -> list[PortStream]:
    return [s for ref, s in index.cables_and_sums.streams.items() if ref[0] == device]


PRIMARIES = {"red": (255, 0, 0), "green": (0, 255, 0), "blue": (0, 0, 255)}


def solve_substitution(index: Index, key: str) -> Solver[str]:
    """A plain pixel is put in the place of the bridge that an item hangs behind: what it shows tells on which side the
    fault is. Raises Refused where there is no bridge."""
    found = bridge_of(index, key)
    if found is None:
        raise Refused("That works for what hangs behind a bridge.")
    stream, piece = found

    def predict(side: str, test: str) -> str:
        shown = colour_in_its_place(index.cables_and_sums, stream, piece, PRIMARIES[test]).word
        return shown if side == BEHIND else "another colour, or nothing"

    sides = (BEHIND, "before the bridge: what leaves the controller is not what was sent")
    question = "Put a plain RGB pixel in the bridge's place. What does it show?"
    return Solver(question, sides, tuple(PRIMARIES), predict, lambda side: side)


BEHIND = "the bridge, or what is behind it: up to there everything is right"


def bridge_of(index: Index, key: str) -> tuple[PortStream, Piece] | None:
    """The bridge that an item hangs behind, in its port's stream."""
    on = index.cables_and_sums.on_runs(key)
    return next(((s, p) for s, p in on if p.segment.kind == "bridge" and key in p.segment.fixtures), None)


def bridge_slots(index: Index, key: str, levels: Sequence[int]) -> dict[tuple[str, int], int]:
    """Levels for the first slots of the bridge that an item hangs behind, by universe id and address."""
    found = bridge_of(index, key)
    slots: dict[tuple[str, int], int] = {}
    for n, level in enumerate(levels, 1) if found else ():
        place = place_in(found[1].parts, n) if found else None
        uid = universe_by_number(index.rig, place[0]) if place else ""
        if place and uid:
            slots[uid, place[1]] = level
    return slots
