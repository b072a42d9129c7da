"""What limits a universe, what a port can do, and slots found by the pixel of a port."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.checks.run_examples import cabled, px, reef
from welvo.checks.checker import check_rig
from welvo.patch.index import Index
from welvo.patch.limits import limits_of_universes, slots_of_port
from welvo.rig.abilities import ability_of_port, port_gives_what
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.wiring import Feed, Firmware, OutputMode, Port, Sender
from welvo.survey.target import of_port_pixel


def narrow(rig: Rig, slots: int, second: int = 0) -> Rig:
    """Port A of the node puts out so many slots; a second port for the same feed so many."""
    node = rig.devices["d"]
    ports = {**node.ports, "A": replace(node.ports["A"], settings={"slots": slots})}
    if second:
        ports["B"] = Port(feed=node.ports["A"].feed, settings={"slots": second})
    return put_entries(rig, "", devices={"d": replace(node, ports=ports)})[0]


def test_a_universe_is_as_long_as_its_longest_port(rig: Rig) -> None:
    universe = rig.feeds[rig.devices["d"].ports["A"].feed].universe
    assert universe not in limits_of_universes(rig)
    assert limits_of_universes(narrow(rig, 96))[universe] == (96, "port A of NODE puts out 96")
    assert limits_of_universes(narrow(rig, 96, 128))[universe].slots == 128
    assert universe not in limits_of_universes(narrow(rig, 96, 512))
    assert slots_of_port(narrow(rig, 600), "d", "A") == 512 and slots_of_port(narrow(rig, 0), "d", "A") == 512


def test_the_smallest_stated_limit_of_a_port_holds_and_is_named(rig: Rig) -> None:
    def able(**fields: object) -> tuple[int, str]:
        made, _ = cabled("", reef(), element=px(10), m_pixels_per_port=680, **fields)(rig)
        found = ability_of_port(made, "p", "1")
        return found.pixels, found.of

    assert able() == (680, "Penstock 2")
    lean = (OutputMode(name="lean", pixels_per_port=340), OutputMode(name="wide", pixels_per_port=900))
    assert able(m_modes=lean, d_mode="lean") == (340, "mode “lean”")
    assert able(m_modes=lean, d_mode="wide") == (680, "Penstock 2")
    assert able(m_firmwares=(Firmware(version="2", pixels_per_port=100),), d_firmware="2") == (100, "firmware 2")
    assert (
        port_gives_what(cabled("", reef(), element=px(10))(rig)[0], "p", "1") == "pixels"
        and port_gives_what(rig, "d", "A") == "dmx"
    )


@pytest.mark.parametrize(("pixel", "place"), [(1, ("u11", 1)), (2, ("u11", 4)), (170, ("u11", 508)), (172, ("u12", 2))])
def test_a_pixel_of_a_port_is_found_at_its_first_slot(rig: Rig, pixel: int, place: tuple[str, int]) -> None:
    made, _ = cabled("", reef(), element=px(200), d_packs="dense")(rig)
    found = of_port_pixel(Index(made), " pen ", "1", pixel)
    assert (found.universe, found.address) == place


@pytest.mark.parametrize(
    ("name", "port", "pixel"), [("PEN", "1", 0), ("PEN", "1", 201), ("PEN", "9", 1), ("X", "1", 1)]
)
def test_a_pixel_that_is_not_there_is_refused(rig: Rig, name: str, port: str, pixel: int) -> None:
    made, _ = cabled("", reef(), element=px(200))(rig)
    with pytest.raises(Refused, match="200 pixels|no port"):
        of_port_pixel(Index(made), name, port, pixel)


def test_two_senders_of_a_universe_that_is_not_in_use_tonight_are_no_fault(rig: Rig) -> None:
    feed = next(iter(rig.feeds.values()))
    both, _ = put_entries(rig, "", senders={"x": Sender(name="Desk")}, feeds={"x": replace(feed, sender="x")})
    codes = {f.code for f in check_rig(both).findings}
    assert "FEED-06" in codes
    alone, _ = put_entries(rig, "", feeds={"x": Feed(universe=feed.universe, sender=feed.sender, wire=feed.wire + 90)})
    assert "FEED-06" not in {f.code for f in check_rig(alone).findings}
