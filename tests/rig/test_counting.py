"""Every number here was worked out by hand."""

import pytest

from welvo.rig.counting import net_sub_universe, place_of, port_address, running_of


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


def test_port_addresses_are_net_sub_universe() -> None:
    assert port_address(1, 2, 3) == 0x123
    assert port_address(127, 15, 15) == 32767
    assert net_sub_universe(0x7A5) == (7, 10, 5)
