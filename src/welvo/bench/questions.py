"""Where facts end: what may be wrong behind the last thing that can be measured, and which look at it decides most.

Each possibility says what would be seen for each question. They are held against each other by the same solver as
colour orders and addresses: an answer strikes out what would look otherwise, and can be taken back.
"""

from __future__ import annotations

from msgspec import Struct

from welvo.bench.solvers import Solver
from welvo.patch.index import BY_PIXEL, Index

ANY = "*"
"""In a table: this possibility says nothing about the question; any answer leaves it."""


class Possibility(Struct, frozen=True):
    """What may be wrong: its words, and what puts it right."""

    name: str
    words: str
    do: str


class Question(Struct, frozen=True):
    """What somebody has to look at, and what may be answered."""

    name: str
    words: str
    answers: tuple[str, ...]


LAMP_QUESTIONS = (
    Question("life", "Is there any life in the lamp: a display, a fan, a light on its back?", ("yes", "no")),
    Question(
        "neighbours",
        "Do its neighbours on the same line do what they are told?",
        ("all of them", "none of them", "only those before it", "some flicker"),
    ),
    Question("display", "Does its display say that data arrives?", ("yes", "no", "it has none")),
    Question(
        "all slots",
        "Does it react when every slot of the universe is raised (test “all on” on the universe)?",
        ("yes", "no"),
    ),
    Question(
        "wrong",
        "Does it do something else than it is told?",
        ("no, it stays dark", "yes, something else", "it flickers"),
    ),
)
LAMP_POSSIBLE = (
    Possibility("power", "it has no power", "Look at its plug, its fuse, the breaker and the dimmer it may hang on."),
    Possibility(
        "address", "it is set to another address", "Set its address anew; the halving search finds the one it has."
    ),
    Possibility("mode", "it is set to another mode", "Set the planned mode; slot by slot shows what reacts instead."),
    Possibility(
        "own program",
        "it runs a program of its own, or is a follower of another lamp",
        "Set it to DMX, first in the line.",
    ),
    Possibility(
        "line before", "the line is broken before the first lamp", "Look at the plug at the port and the first cable."
    ),
    Possibility("line here", "the cable to this lamp is broken", "Change the cable before it, then the one behind."),
    Possibility(
        "end", "the line has no terminator, or too many lamps", "Put a terminator at the far end; count the unit loads."
    ),
    Possibility(
        "light", "its light itself is broken", "Change the lamp, or its source; let it be seen by somebody who mends."
    ),
)
_LAMP = {
    #            life   neighbours               display       all slots  wrong
    "power": ("no", "all of them", "no", "no", "no, it stays dark"),
    "address": ("yes", "all of them", "yes", "yes", ANY),
    "mode": ("yes", "all of them", "yes", "yes", "yes, something else"),
    "own program": ("yes", "all of them", ANY, "no", "yes, something else"),
    "line before": ("yes", "none of them", "no", "no", "no, it stays dark"),
    "line here": ("yes", "only those before it", "no", "no", "no, it stays dark"),
    "end": ("yes", "some flicker", "yes", "yes", "it flickers"),
    "light": ("yes", "all of them", "yes", "no", "no, it stays dark"),
}
PIXEL_QUESTIONS = (
    Question("supply", "Measure at the string: is the supply's voltage there?", ("yes", "no", "too low")),
    Question(
        "how far",
        "Raise the whole string: how far does it light?",
        ("nowhere", "up to some pixel", "everywhere", "everywhere, reddish at the end"),
    ),
    Question("arrow", "Does the arrow printed on the string point away from the controller?", ("yes", "no")),
    Question("neighbours", "Do the other ports of the controller light?", ("yes", "no")),
    Question("colours", "Is the colour right where it lights?", ("yes", "no", "random colours")),
)
PIXEL_POSSIBLE = (
    Possibility("supply", "the string has no supply", "Look at the supply, its fuse and the injection at this string."),
    Possibility("weak", "the voltage falls along the string", "Feed power in again; see Power in the port's panel."),
    Possibility("direction", "data goes in at the wrong end", "Turn the string round, or plan it reversed."),
    Possibility(
        "pixel",
        "a pixel or a joint is broken",
        "Mend it at the first dark pixel; the one before it may be the dead one.",
    ),
    Possibility(
        "data",
        "the data wire is not connected",
        "Look at the data wire and at the ground between controller and string.",
    ),
    Possibility(
        "chip", "the chips are of another type or speed", "Set the chip type of the port to what is on the string."
    ),
    Possibility("controller", "the controller's outputs are dead", "Restart it; look at its fuses; try another port."),
    Possibility("order", "the colour order is another", "The solver for colour orders finds it with two sights."),
)
_PIXEL = {
    #             supply   how far                          arrow  neighbours colours
    "supply": ("no", "nowhere", "yes", "yes", ANY),
    "weak": ("too low", "everywhere, reddish at the end", "yes", "yes", ANY),
    "direction": ("yes", "nowhere", "no", "yes", ANY),
    "pixel": ("yes", "up to some pixel", "yes", "yes", "yes"),
    "data": ("yes", "nowhere", "yes", "yes", ANY),
    "chip": ("yes", "everywhere", "yes", "yes", "random colours"),
    "controller": ("yes", "nowhere", "yes", "no", ANY),
    "order": ("yes", "everywhere", "yes", "yes", "no"),
}


def on_pixels(index: Index, key: str) -> bool:
    """Whether an item is pixels on a cable, and not a lamp on a DMX line."""
    span = index.span_of_break(key)
    return key in index.rig.elements or bool(span and span.break_no == BY_PIXEL)


def questions_about(index: Index, key: str) -> tuple[Question, ...]:
    return PIXEL_QUESTIONS if on_pixels(index, key) else LAMP_QUESTIONS


def behind_the_facts(index: Index, key: str) -> Solver[Possibility]:
    """What may be wrong behind the last thing that can be measured, for an item."""
    pixels = on_pixels(index, key)
    asked = PIXEL_QUESTIONS if pixels else LAMP_QUESTIONS
    table = _PIXEL if pixels else _LAMP
    names = [q.name for q in asked]

    def predict(p: Possibility, question: str) -> str:
        return table[p.name][names.index(question)]

    return Solver(
        "What is wrong behind the port?",
        PIXEL_POSSIBLE if pixels else LAMP_POSSIBLE,
        tuple(names),
        predict,
        lambda p: p.words,
        agrees=lambda predicted, seen: predicted in (seen, ANY),
        ends="{}",
    )
