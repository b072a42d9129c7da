"""Work on a lamp bus against gear that obeys frame by frame, and through a simulated gateway on loopback."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Sequence
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from welvo.live import bus_link
from welvo.live.bus_link import (
    BusProgress,
    HttpBus,
    address_gear,
    frames_for_gear,
    identify_gear,
    move_gear,
    moves_back,
    moves_in_order,
    read_levels,
    recall_scene,
    search_bus,
    set_level,
    store_scene,
    write_gear,
)
from welvo.live.device_link import HttpLink
from welvo.live.links import LinkError
from welvo.matching.gear import gear_wishes
from welvo.observed.values import BusSeen, GearSeen
from welvo.protocols import dali
from welvo.protocols.dali import SEVERAL, Forward, To
from welvo.rig.buses import Bus, Gear
from welvo.rig.steps import Stopped
from welvo.standins.gear import SimGear, Wire


class Line:
    """Frames straight onto a simulated wire; what was sent twice is sent twice."""

    def __init__(self, *gear: SimGear) -> None:
        self.wire = Wire(gear)
        self.sent: list[bytes] = []

    async def put(self, frames: Sequence[Forward]) -> list[int | None]:
        answers = []
        for f in frames:
            answer = None
            for _ in range(2 if f.twice else 1):
                self.sent.append(f.octets_of_frame())
                answer = self.wire.put_octets(f.octets_of_frame())
            answers.append(answer)
        return answers


def run(coroutine: Any) -> Any:
    return asyncio.run(coroutine)


def bus(*shorts: int, **more: Any) -> tuple[Line, list[SimGear]]:
    made = [SimGear(f"lamp {n}", short=s, **more) for n, s in enumerate(shorts)]
    return Line(*made), made


QUESTIONS = {*range(0x90, 0x9B), *range(0xA0, 0xA8), *range(0xB0, 0xC5), 0xF9}


def test_a_search_only_asks() -> None:
    line, made = bus(3, 7, 63, 255, 255)
    made[1].kinds, made[2].kinds, made[2].fault, made[0].groups = (6, 8), (8,), "lamp", 0b1001
    before = [(g.short, g.level, g.random, g.groups) for g in made]
    seen = run(search_bus(line, deep=True))
    assert [g.at for g in seen.gear] == [3, 7, 63] and seen.strays
    assert [g.kinds for g in seen.gear] == [(6,), (6, 8), (8,)] and seen.gear[2].status >> 1 & 1
    assert seen.gear[0].groups == (0, 3) and seen.gear[0].level == 254 and seen.gear[0].random == made[0].random
    assert (seen.gear[0].physical, seen.gear[0].fade_rate, seen.gear[0].scenes) == (85, 7, (255,) * 16)
    assert seen.gear[2].colours == 0x82
    assert [(g.short, g.level, g.random, g.groups) for g in made] == before
    commands = {raw[1] for raw in line.sent if raw[0] & 1 and raw[0] != dali.ENABLE_TYPE}
    assert commands <= QUESTIONS


def test_two_gear_of_one_address_are_told_and_set_apart() -> None:
    line, made = bus(4, 4, 9)
    seen = run(search_bus(line))
    assert [g.doubled for g in seen.gear] == [True, False]
    done = run(address_gear(line, 4 << 1 | 1, [4, 0]))
    assert sorted(c.now for c in done.changes) == [0, 4] and {c.before for c in done.changes} == {4}
    assert sorted(g.short for g in made) == [0, 4, 9] and made[2].short == 9
    assert not any(g.doubled for g in run(search_bus(line)).gear)


@settings(max_examples=25, deadline=None)
@given(st.lists(st.integers(0, 63) | st.just(255), min_size=1, max_size=64), st.integers(0, 999))
def test_initialising_addresses_all_and_tells_what_each_had(shorts: list[int], seed: int) -> None:
    line, made = bus(*shorts)
    line.wire._dice = random.Random(seed)
    had = [g.short for g in made]
    done = run(address_gear(line, 0, list(range(64))))
    assert sorted(g.short for g in made) == list(range(len(made))) and not done.strays
    told = {c.now: c.before for c in done.changes}
    for g, before in zip(made, had):
        assert told[g.short] == (None if before == 255 else before)
    assert not any(g.addressing for g in made)


def test_only_new_gear_is_addressed_and_a_full_bus_leaves_some_over() -> None:
    line, made = bus(0, 1, 255, 255)
    done = run(address_gear(line, 0xFF, [2, 3, 4]))
    assert [g.short for g in made[:2]] == [0, 1] and sorted(g.short for g in made[2:]) == [2, 3]
    assert {c.before for c in done.changes} == {None}
    line, made = bus(*[255] * 3)
    assert run(address_gear(line, 0xFF, [62, 63])).strays and sorted(g.short for g in made) == [62, 63, 255]
    line, made = bus(5, 255)
    made[1].fault = "stubborn"
    left = run(address_gear(line, 0xFF, [6]))
    assert left.strays and not left.changes


@given(st.permutations(range(12)), st.integers(12, 64))
def test_moves_never_bring_two_gear_to_one_address(order: list[int], count: int) -> None:
    wanted = dict(enumerate(order))
    at = {n: n for n in range(count)}  # who (by first address) is where; None: nowhere
    moves = moves_in_order(range(count), wanted)
    assert count == 64 or all(a is not None and b is not None for a, b in moves)
    for a, b in moves:
        who = next(k for k, v in at.items() if v == (a if a is not None else -1))
        assert b is None or b not in at.values()
        at[who] = -1 if b is None else b
        assert list(at.values()).count(-1) <= 1
    assert all(at[k] == v for k, v in wanted.items())


def test_moves_that_cannot_be_are_refused_and_done_ones_are_looked_at() -> None:
    with pytest.raises(ValueError, match="one address"):
        moves_in_order([1, 2, 3], {1: 3})
    line, made = bus(0, 1, 2)
    run(move_gear(line, moves_in_order([0, 1, 2], {0: 1, 1: 2, 2: 0})))
    assert [g.short for g in made] == [1, 2, 0]
    made[0].fault = "stubborn"
    with pytest.raises(LinkError, match="Gear 1 did not take address 9"):
        run(move_gear(line, [(1, 9), (2, 8)]))
    assert [g.short for g in made] == [1, 2, 0]


@settings(max_examples=25, deadline=None)
@given(st.lists(st.integers(0, 63) | st.just(255), min_size=1, max_size=63, unique_by=lambda n: n if n < 64 else -1))
def test_an_initialising_can_be_put_back(shorts: list[int]) -> None:
    shorts += [255] * (63 - len(shorts) if len(shorts) > 60 else 2)
    line, made = bus(*shorts[:63])
    had = [g.short for g in made]
    done = run(address_gear(line, 0, list(range(64))))
    changes = [(-1 if c.before is None else c.before, c.now) for c in done.changes]
    run(move_gear(line, moves_back([g.short for g in made], changes)))
    assert [g.short for g in made] == had


def test_settings_are_written_in_an_order_that_gear_takes_and_read_back() -> None:
    line, made = bus(0, 1)
    planned = (
        Gear(at=0, least=170, greatest=200, power_on=255, failure=0, fade_time=4, fade_rate=9, groups=(1, 15),
             scenes=((0, 120), (5, 255))),
        Gear(at=1, greatest=100, least=90),
    )  # fmt: skip
    made[0].groups, made[0].scenes[5], made[1].least = 0b101, 33, 150
    seen = run(search_bus(line, deep=True))
    wishes = gear_wishes(Bus(gear=planned), seen)
    assert set(wishes[0]) == {"least", "greatest", "power_on", "failure", "fade_time", "fade_rate", "groups", "scenes"}
    after = run(write_gear(line, {g.at: g for g in planned}, seen, wishes))
    g = made[0]
    assert (g.least, g.greatest, g.power_on, g.failure, g.fade_time, g.fade_rate) == (170, 200, 255, 0, 4, 9)
    assert g.groups == 1 << 1 | 1 << 15 and g.scenes[0] == 120 and g.scenes[5] == 255
    assert (made[1].least, made[1].greatest) == (90, 100)
    assert not gear_wishes(Bus(gear=planned), BusSeen(tuple(after.values())))
    made[1].fault = "stubborn"
    again = run(write_gear(line, {1: Gear(at=1, fade_time=2)}, seen, {1: ["fade_time"]}))
    assert again[1].fade_time == 0


def test_settings_are_literally_these_frames() -> None:
    frames = frames_for_gear(Gear(at=5, fade_time=4, groups=(2,), scenes=((3, 200),)), GearSeen(5, groups=(7,)),
                            ["fade_time", "groups", "scenes"])  # fmt: skip
    assert [f.octets_of_frame().hex() for f in frames] == ["a304", "0b2e", "0b62", "0b77", "a3c8", "0b43"]
    assert [f.twice for f in frames] == [False, True, True, True, False, True]


def test_scenes_are_stored_from_present_levels_and_recalled() -> None:
    line, made = bus(0, 1, 2)
    run(set_level(line, To(short=0), 200))
    run(set_level(line, To(short=1), 120))
    after = run(store_scene(line, 7, [0, 1]))
    assert (made[0].scenes[7], made[1].scenes[7], made[2].scenes[7]) == (200, 120, 255)
    assert after[0].scenes[7] == 200
    run(set_level(line, dali.EVERYBODY, 0))
    run(recall_scene(line, 7))
    assert run(read_levels(line, [0, 1, 2, 9])) == {0: 200, 1: 120, 2: 0}
    run(identify_gear(line, 1))
    assert [g.blinks_until > line.wire.now for g in made] == [False, True, False]


def test_it_can_be_stopped_and_leaves_no_gear_in_the_middle_of_addressing() -> None:
    line, made = bus(*range(8))
    progress = BusProgress()

    def told(doing: str, done: int = 0, of: int = 0) -> None:
        progress.tell_progress(doing, done, of)
        progress.stopped = "3 so far" in doing

    with pytest.raises(Stopped):
        run(address_gear(line, 0, list(range(64)), told))
    assert progress.words_of_progress.startswith("Gear by gear, 3 so far") and not any(g.addressing for g in made)


class Pages:
    """Stands in for a gateway's pages; keeps how many frames came in each request."""

    ip = "127.0.0.70"

    def __init__(self, wire: Wire, lose: int = 0) -> None:
        self.wire, self.lose, self.sizes = wire, lose, list[int]()

    async def put_frames(self, label: str, frames: list[str]) -> list[int | None]:
        self.sizes.append(len(frames))
        return [self.wire.put_octets(bytes.fromhex(f)) for f in frames][self.lose :]


def test_frames_go_in_requests_that_keep_pairs_together() -> None:
    pages = Pages(Wire([SimGear(short=0)]))
    line = HttpBus(pages, "BUS 1")  # type: ignore[arg-type]
    frames = [dali.command_frame(To(short=0), dali.QUERY_LEVEL), *(dali.command_frame(To(short=0),
    dali.ADD_TO_GROUP + g)
              for g in range(16))]  # fmt: skip
    assert run(line.put(frames))[0] == 254 and pages.wire.gear[0].groups == 0xFFFF
    assert max(pages.sizes) <= bus_link.AT_ONCE and sum(pages.sizes) == 33
    with pytest.raises(LinkError, match="answers 0 of 1 frames"):
        run(HttpBus(Pages(Wire(), lose=1), "x").put(frames[:1]))  # type: ignore[arg-type]


@pytest.mark.parametrize("answer", [256, 7000, -2])
def test_an_answer_that_is_no_octet_is_refused(answer: int, monkeypatch: pytest.MonkeyPatch) -> None:
    pages = Pages(Wire())
    monkeypatch.setattr(pages.wire, "put_octets", lambda octets: answer)
    with pytest.raises(LinkError, match=f"answers a frame with {answer}, which is no octet"):
        run(HttpBus(pages, "x").put([dali.command_frame(To(short=0), dali.QUERY_LEVEL)]))  # type: ignore[arg-type]


def test_who_answers_something_else_than_yes_is_no_gear() -> None:
    class Odd:
        async def put(self, frames: Sequence[Forward]) -> list[int | None]:
            said = {
                dali.command_frame(To(short=n), dali.QUERY_PRESENT).octets_of_frame(): a
                for n, a in ((3, 37), (5, 255), (9, SEVERAL))
            }
            return [said.get(f.octets_of_frame()) for f in frames]

    seen = run(search_bus(Odd()))
    assert [g.at for g in seen.gear] == [5, 9] and not seen.strays
    assert HttpLink  # what it stands in for
