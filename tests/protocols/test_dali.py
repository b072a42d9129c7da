"""DALI frames against the tables of the standard; gear is found and addressed over random addresses."""

from __future__ import annotations

import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from welvo.protocols import dali
from welvo.protocols.dali import To
from welvo.protocols.wire import WireError


def test_address_octets_and_commands_by_the_table() -> None:
    assert dali.level_frame(To(short=5), 254).octets_of_frame() == bytes([0x0A, 254])
    assert dali.command_frame(To(short=63), dali.QUERY_LEVEL).octets_of_frame() == bytes([0x7F, 0xA0])
    assert (
        dali.level_frame(To(group=15), 0).octets_of_frame() == bytes([0x9E, 0])
        and dali.level_frame(dali.EVERYBODY, 1).octets_of_frame() == b"\xfe\x01"
    )
    assert dali.command_frame(To(unaddressed=True), dali.OFF).octets_of_frame() == b"\xfd\x00"
    assert dali.command_frame(dali.EVERYBODY, dali.GO_TO_SCENE + 15).octets_of_frame() == b"\xff\x1f"
    assert [f.octets_of_frame().hex() for f in dali.setting_frames(To(short=1), dali.SET_FADE_TIME, 4)] == [
        "a304",
        "032e",
    ]
    assert [f.octets_of_frame().hex() for f in dali.initialise_frames()] == ["a100", "a500", "a700"]
    assert [f.octets_of_frame().hex() for f in dali.set_search(0x123456)] == ["b112", "b334", "b556"]
    tc = dali.colour_frames(To(short=0), dali.SET_TC, (0x72, 0x01))  # 370 mirek
    assert [f.octets_of_frame().hex() for f in tc] == ["a372", "c301", "c108", "01e7"]
    for wrong in (
        lambda: dali.level_frame(To(short=64), 0), lambda: dali.level_frame(To(group=16), 0),
        lambda: dali.level_frame(To(), 256),
        lambda: dali.special_frame(0xA2), lambda: dali.command_frame(To(), 256),
    ):  # fmt: skip
        with pytest.raises(WireError):
            wrong()


def test_what_is_sent_twice_and_what_is_answered() -> None:
    twice = {c for c in range(256) if dali.command_frame(To(), c).twice}
    assert twice == set(range(0x20, 0x81))
    assert (
        dali.special_frame(dali.INITIALISE).twice
        and dali.special_frame(dali.RANDOMISE).twice
        and not dali.special_frame(dali.DTR0).twice
    )
    assert (
        dali.command_frame(To(short=1), dali.QUERY_STATUS).answers
        and not dali.command_frame(To(short=1), dali.OFF).answers
    )
    assert dali.special_frame(dali.COMPARE).answers and not dali.special_frame(dali.WITHDRAW).answers


@pytest.mark.parametrize(
    ("n", "percent"),
    [(1, 0.1), (60, 0.5), (85, 1), (126, 3), (144, 5), (170, 10), (195, 20), (210, 30), (220, 40), (229, 50), (235, 60),
     (241, 70), (246, 80), (250, 90), (254, 100)],
)  # fmt: skip
def test_the_standard_curve(n: int, percent: float) -> None:
    assert dali.percent_of(n) == pytest.approx(percent, rel=0.05)
    assert dali.level_of(dali.percent_of(n)) == n


@pytest.mark.parametrize(
    ("x", "time", "rate"),
    [(1, 0.7, 358), (2, 1.0, 253), (3, 1.4, 179), (4, 2.0, 127), (7, 5.7, 44.7), (10, 16.0, 15.8), (15, 90.5, 2.8)],
)
def test_fades_by_the_table(x: int, time: float, rate: float) -> None:
    assert dali.fade_time(x) == pytest.approx(time, abs=0.05) and dali.fade_rate(x) == pytest.approx(rate, rel=0.01)
    assert dali.nearest_time(time) == x and dali.nearest_rate(rate) == x
    assert dali.fade_time(0) == 0 and dali.nearest_time(0.2) == 0


def test_levels_at_the_ends() -> None:
    assert dali.percent_of(0) == 0 and dali.level_of(0) == 0 and dali.level_of(200) == 254
    assert dali.percent_of(127, linear=True) == 50 and dali.level_of(50, linear=True) == 127
    assert dali.percent_of(255) == 100  # DMX 255 goes out as 254
    frames = [dali.level_frame(To(short=n), 100) for n in range(64)]
    assert dali.seconds_of(frames) == pytest.approx(64 / dali.FRAMES_A_SECOND, rel=0.02)


@settings(max_examples=40)
@given(st.sets(st.integers(0, 0xFFFFFF), max_size=64), st.integers(0, 2**32))
def test_every_gear_gets_an_address_in_the_order_of_its_random_one(randoms: set[int], seed: int) -> None:
    shorts: dict[int, int] = {}
    search, out = 0, set[int]()
    before = {r: n for n, r in enumerate(sorted(randoms, key=lambda r: r * 7919 % 65537))}
    free = list(range(64))
    random.Random(seed).shuffle(free)
    going = dali.address_in_turn(free)
    frames, answer = next(going), None
    try:
        while True:
            for f in frames:
                answer = None
                if f.address in (dali.SEARCH_H, dali.SEARCH_M, dali.SEARCH_L):
                    shift = {dali.SEARCH_H: 16, dali.SEARCH_M: 8, dali.SEARCH_L: 0}[f.address]
                    search = search & ~(255 << shift) | f.data << shift
                elif f.address == dali.COMPARE:
                    answer = 255 if any(r <= search for r in randoms - out) else None
                elif f.address == dali.QUERY_SHORT:
                    had = [before[r] for r in randoms - out if r == search]
                    answer = had[0] << 1 | 1 if had else None
                elif f.address == dali.PROGRAM_SHORT:
                    shorts |= {r: f.data >> 1 for r in randoms - out if r == search}
                elif f.address == dali.VERIFY_SHORT:
                    answer = 255 if f.data >> 1 in shorts.values() else None
                elif f.address == dali.WITHDRAW:
                    out |= {r for r in randoms if r == search}
            frames = going.send(answer)
    except StopIteration as e:
        assert e.value == [(before[r], s) for r, s in zip(sorted(randoms), free)]
    assert [shorts[r] for r in sorted(randoms)] == free[: len(randoms)]
