"""Limits that grow with how busy this computer is."""

from __future__ import annotations

import asyncio
import threading
import time

import pytest

from welvo import patience
from welvo.patience import LONGEST, TURN, PatienceLimit, crowding, patient, wait_for_news, wait_until


class Clock:
    def __init__(self) -> None:
        self.now = 100.0

    def __call__(self) -> float:
        return self.now


def spent_after(limit: PatienceLimit, clock: Clock, step: float) -> float:
    """How long a limit lasts by the clock when each turn takes `step`."""
    begun = clock.now
    while limit.lasts():
        clock.now += step
    return clock.now - begun


def test_on_a_quiet_machine_a_limit_is_its_plain_seconds() -> None:
    clock = Clock()
    limit = PatienceLimit(2.0, clock, lambda: 1.0)
    assert spent_after(limit, clock, TURN) == pytest.approx(2.0, abs=2 * TURN)
    assert not limit.stretched


def test_turns_that_come_late_count_as_turns() -> None:
    clock = Clock()
    limit = PatienceLimit(2.0, clock, lambda: 1.0)
    # every turn is 0.2 s late: each counts for two turns and no more, so a hundred turns last ten seconds
    assert spent_after(limit, clock, 0.2) == pytest.approx(2.0 / (2 * TURN) * 0.2, abs=0.4)
    assert limit.stretched


def test_where_four_want_each_processor_a_limit_lasts_four_times_as_long() -> None:
    clock = Clock()
    assert spent_after(PatienceLimit(2.0, clock, lambda: 4.0), clock, TURN) == pytest.approx(8.0, abs=0.2)


def test_no_limit_lasts_for_ever() -> None:
    clock = Clock()
    assert spent_after(PatienceLimit(2.0, clock, lambda: 1000.0), clock, 1.0) == pytest.approx(2.0 * LONGEST, abs=1.0)


def test_crowding_is_told_by_the_system_and_never_below_one(monkeypatch: pytest.MonkeyPatch) -> None:
    assert 1.0 <= crowding() <= patience.MOST_CROWDED
    monkeypatch.setattr(patience.os, "cpu_count", lambda: 1000)
    assert crowding() == 1.0
    monkeypatch.setattr("builtins.open", lambda *_: (_ for _ in ()).throw(OSError()))
    assert crowding() == 1.0


def test_something_is_waited_for_and_no_longer_than_it_takes() -> None:
    begun = time.monotonic()
    assert wait_until(lambda: time.monotonic() > begun + 0.05, 5.0)
    assert time.monotonic() - begun < 4.0
    assert not wait_until(lambda: False, 0.05)
    news = threading.Condition()
    with news:
        assert not wait_for_news(news, lambda: False, 0.05)
        assert wait_for_news(news, lambda: True, 0.0)


def test_what_is_awaited_ends_with_the_limit() -> None:
    async def both() -> None:
        async with patient(5.0):
            await asyncio.sleep(0.01)
        with pytest.raises(TimeoutError):
            async with patient(0.05):
                await asyncio.sleep(60)
        with pytest.raises(TimeoutError):
            async with patient(0.0):  # as when the computer stood still before the first turn
                await asyncio.sleep(60)
        async with patient(0.0):
            pass  # what is there already is not too late

    asyncio.run(both())
