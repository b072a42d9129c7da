"""One alphabet: a letter means the same in an order, in a strip and behind a converter."""

from __future__ import annotations

import pytest

from welvo.rig.attributes import BY_KEY
from welvo.rig.base import Refused
from welvo.rig.colours import COMPONENTS, FUNCTIONS, LETTERS, letter_of, read_order, straight_order, word_of
from welvo.runs.lamps import read_functions


def test_every_letter_stands_for_one_known_function_and_back() -> None:
    assert len({c.letter for c in COMPONENTS}) == len({c.function for c in COMPONENTS}) == len(COMPONENTS)
    for c in COMPONENTS:
        assert BY_KEY[c.function].word == c.word == word_of(c.letter)
        assert LETTERS[FUNCTIONS[c.letter]] == c.letter and letter_of(c.word) == c.letter


def test_words_and_letters_are_read_alike() -> None:
    assert read_functions("brightness red w, D =7 8") == ("V", "R", "W", "D", "=7", "=8")
    assert (letter_of("w"), letter_of("warm white"), letter_of("brightness"), letter_of("green?")) == (
        "W",
        "D",
        "V",
        "",
    )


def test_orders_are_read_in_any_case_and_refused_with_what_would_do() -> None:
    assert read_order(" grbw ") == "GRBW" and straight_order("WBGR") == "RGBW"
    assert read_order("straight", empty=True) == read_order("", empty=True) == ""
    for wrong in ("RGX", "RR", "", "RGBWAUC"):
        with pytest.raises(Refused, match="each once"):
            read_order(wrong)
