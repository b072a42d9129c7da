"""Every number here was worked out by hand."""

from welvo.rig.counting import net_sub_universe, port_address


def test_port_addresses_are_net_sub_universe() -> None:
    assert port_address(1, 2, 3) == 0x123
    assert port_address(127, 15, 15) == 32767
    assert net_sub_universe(0x7A5) == (7, 10, 5)
