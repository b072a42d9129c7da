"""The one alphabet of colour components: which letter stands for which function, wherever components are written.

An element's `order`, a chip's order, a strip's components and the functions of a converter's lamps are all spelled with
these letters, so that a letter means the same at both ends of every comparison. Words, families and light come from the
attribute: a new emitter is a row there and a letter here.
"""

from __future__ import annotations

import re
from typing import Annotated

from msgspec import Meta, Struct

from welvo.rig.attributes import ATTRIBUTES, BY_KEY
from welvo.rig.base import Refused


def linear_light(value: float) -> float:
    """A component as it is written in a picture, 0 to 1, as light."""
    return value / 12.92 if value <= 0.04045 else ((value + 0.055) / 1.055) ** 2.4


def linear_rgb(hex_colour: str) -> tuple[float, float, float]:
    """`#ffb000`, as it is written in a picture, as linear light of red, green and blue, 0 to 1 each."""
    r, g, b = (linear_light(int(hex_colour[n : n + 2], 16) / 255) for n in (1, 3, 5))
    return r, g, b


class Component(Struct, frozen=True):
    """One letter of the alphabet, and the function (a GDTF attribute) that it stands for."""

    letter: str
    function: str

    @property
    def word(self) -> str:
        return BY_KEY[self.function].word


COMPONENTS: tuple[Component, ...] = (
    Component("R", "ColorAdd_R"),
    Component("G", "ColorAdd_G"),
    Component("B", "ColorAdd_B"),
    Component("W", "ColorAdd_W"),
    Component("A", "ColorAdd_RY"),
    Component("U", "ColorAdd_UV"),
    Component("C", "ColorAdd_CW"),
    Component("D", "ColorAdd_WW"),
    Component("V", "Dimmer"),
    Component("L", "ColorAdd_GY"),
    Component("N", "ColorAdd_C"),
)
"""In straight order: the one in which components stand where nothing says otherwise."""

STRAIGHT = "".join(c.letter for c in COMPONENTS)
FUNCTIONS: dict[str, str] = {c.letter: c.function for c in COMPONENTS}
"""Function by letter."""
LETTERS: dict[str, str] = {c.function: c.letter for c in COMPONENTS}
"""Letter by function."""
MOST = 6
"""Components of one pixel at the most."""
Components = Annotated[str, Meta(pattern=f"^[{STRAIGHT}]{{1,{MOST}}}$")]
"""The order of one pixel's components, as a value of the rig."""
ComponentsOrNone = Annotated[str, Meta(pattern=f"^[{STRAIGHT}]{{0,{MOST}}}$")]
"""The same, or empty where none is set."""

_BY_WORD: dict[str, str] = {
    word: LETTERS[a.key] for a in ATTRIBUTES if a.key in LETTERS for word in (a.word, *a.also) if len(word) > 1
}


def straight_order(order: str) -> str:
    """The same letters in straight order."""
    return "".join(sorted(order, key=STRAIGHT.index))


def letter_of(word: str) -> str:
    """The letter that a letter or a plain word (`red`, `warm white`, `brightness`) means; empty when none does."""
    w = word.strip()
    return w.upper() if w.upper() in FUNCTIONS else _BY_WORD.get(w.lower(), "")


def word_of(letter: str) -> str:
    return BY_KEY[FUNCTIONS[letter]].word


def read_order(text: str, empty: bool = False) -> str:
    """`grb` → `GRB`: letters of the alphabet, each once. With `empty`, nothing and “straight” are read as no order."""
    t = text.strip().upper()
    if empty and t in ("", "STRAIGHT"):
        return ""
    if not re.fullmatch(f"[{STRAIGHT}]{{1,{MOST}}}", t) or len(set(t)) < len(t):
        or_empty = ", or leave it empty" if empty else ""
        raise Refused(f"“{text.strip()}” is no colour order. Write letters such as RGB or GRBW, each once{or_empty}.")
    return t
