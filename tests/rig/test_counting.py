"""Every number here was worked out by hand."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from welvo.rig.counting import (
    how_many_fit,
    last_slot,
    net_sub_universe,
    pixel_place,
    pixel_slot,
    place_of,
    port_address,
    running_of,
    stretches,
)  # fmt: skip


def test_a_fixture_of_22_slots_from_145_ends_at_166() -> None:
    assert last_slot(145, 22) == 166


@pytest.mark.parametrize(
    ("running", "size", "where"),
    [
        (1, 512, (0, 1)),
        (512, 512, (0, 512)),
        (513, 512, (1, 1)),
        (510, 510, (0, 510)),
        (511, 510, (1, 1)),
        (1169, 512, (2, 145)),
    ],
)
def test_running_slots_fall_on_universes(running: int, size: int, where: tuple[int, int]) -> None:
    assert place_of(running, size) == where
    assert running_of(*where, size) == running


@pytest.mark.parametrize(
    ("start", "spacing", "footprint", "size", "fit"),
    [
        (1, 40, 38, 512, 12),  # the twelfth starts at 441 and ends at 478; the thirteenth would end at 518
        (1, 38, 38, 512, 13),  # 13 × 38 = 494
        (1, 12, 12, 96, 8),  # a port told to put out 96 slots
        (500, 8, 8, 512, 1), (506, 8, 8, 512, 0), (505, 8, 8, 512, 1), (1, 1, 513, 512, 0),
    ],
)  # fmt: skip
def test_how_many_fit_is_exact_to_one_slot(start: int, spacing: int, footprint: int, size: int, fit: int) -> None:
    assert how_many_fit(start, spacing, footprint, size) == fit


@given(st.integers(1, 512), st.integers(1, 60), st.integers(1, 60))
def test_how_many_fit_agrees_with_counting_one_by_one(start: int, spacing: int, footprint: int) -> None:
    count = 0
    while start + count * spacing + footprint - 1 <= 512:
        count += 1
    assert how_many_fit(start, spacing, footprint) == count


def test_port_addresses_are_net_sub_universe() -> None:
    assert port_address(1, 2, 3) == 0x123
    assert port_address(127, 15, 15) == 32767
    assert net_sub_universe(0x7A5) == (7, 10, 5)


def test_components_of_pixels_follow_each_other() -> None:
    assert pixel_slot(241, 4, 61, 1) == 481  # S + (p−1)·k + (c−1)
    assert pixel_slot(1, 3, 170, 3) == 510


def test_dense_rgb_cuts_the_pixel_at_511() -> None:
    red, green, blue = (pixel_place(1, 171, c, 3, 512, False) for c in (1, 2, 3))
    assert (red, green, blue) == ((0, 511), (0, 512), (1, 1))


def test_whole_rgb_pixels_leave_the_last_two_slots_free() -> None:
    assert pixel_place(1, 170, 3, 3, 512, True) == (0, 510)
    assert pixel_place(1, 171, 1, 3, 512, True) == (1, 1)
    assert pixel_place(481, 9, 1, 4, 512, True) == (1, 1)  # 481…512 holds eight RGBW pixels


@given(st.integers(1, 512), st.integers(1, 6), st.integers(1, 700), st.sampled_from([510, 512, 96]), st.booleans())
def test_stretches_hold_every_slot_once_and_in_order(
    address: int, unit: int, pixels: int, size: int, whole: bool
) -> None:
    found = stretches(address, pixels * unit, unit, size, whole)
    covered = [(u, a) for u, first, last, _ in found for a in range(first, last + 1)]
    assert covered == sorted(set(covered))
    wanted = [pixel_place(address, p, c, unit, size, whole) for p in range(1, pixels + 1) for c in range(1, unit + 1)]
    if address <= size:
        assert covered == wanted


def test_a_pixel_wider_than_its_universe_fits_nowhere() -> None:
    assert stretches(1, 12, 6, 4, True) == []
