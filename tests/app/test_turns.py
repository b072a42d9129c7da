"""Threads hand over sooner while something big is done beside the window, and as usual afterwards."""

from __future__ import annotations

import sys

import pytest

from welvo.app.turns import HAND_OVER, Turns


def test_as_long_as_anything_goes_on_and_not_longer() -> None:
    usual = sys.getswitchinterval()
    turns = Turns()
    with turns:
        assert sys.getswitchinterval() == pytest.approx(HAND_OVER)
        turns.begin_busy()
        turns.end_busy()
        assert sys.getswitchinterval() == pytest.approx(HAND_OVER)
    assert sys.getswitchinterval() == pytest.approx(usual)
