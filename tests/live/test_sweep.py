"""Looking further on loopback: pages and DDP displays, and how far is looked at most."""

from __future__ import annotations

import asyncio
from pathlib import Path

import pytest

from welvo.demo.gallery import make_gallery, state_file
from welvo.formats.rigfile import save_rig_file
from welvo.live.interfaces import LOOPBACK, Interface
from welvo.live.sweep import MOST, addresses_to_ask, look_further
from welvo.standins.process import StandIns


@pytest.mark.parametrize(
    ("mask", "count"), [("255.255.255.0", 253), ("255.255.252.0", 1021), ("255.255.0.0", 253), ("255.0.0.0", 253)]
)
def test_a_large_network_is_only_looked_at_nearby(mask: str, count: int) -> None:
    found = addresses_to_ask(Interface("stage0", "10.0.40.7", mask))
    assert len(found) == count <= MOST and "10.0.40.7" not in found and "10.0.40.21" in found


def test_only_addresses_of_the_own_network_are_asked() -> None:
    found = addresses_to_ask(Interface("stage0", "10.0.40.7", "255.255.255.0"), ["10.0.41.9", "10.0.40.9", ""])
    assert "10.0.41.9" not in found and found.count("10.0.40.9") == 1
    assert "127.0.1.12" in addresses_to_ask(LOOPBACK, ["127.0.1.12"])


def test_devices_are_found_by_their_pages_and_as_displays(tmp_path: Path) -> None:
    save_rig_file(make_gallery(), tmp_path / "g.welvo")
    (tmp_path / "s.toml").write_text(
        state_file().read_text() + '\n["127.0.1.12"]\nmodel = "penstock-32"\nname = "NEW"\n'
    )
    stand_ins = StandIns(tmp_path / "g.welvo", tmp_path / "s.toml")
    try:
        stand_ins.wait_ready()
        found = asyncio.run(look_further(LOOPBACK, [8421], ["127.0.1.12"]))
        assert found["127.0.0.50"].name == "PENSTOCK" and found["127.0.0.50"].active["6.brightness"] == 80
        assert found["127.0.1.12"].model == "Penstock 32"
        assert asyncio.run(look_further(LOOPBACK, [], ["127.0.1.12"]))["127.0.1.12"].mac == "02:57:7f:00:01:0c"
        stand_ins.order_fault("127.0.1.12", "unreachable")
        assert stand_ins.wait_until_settled()
        assert "127.0.0.50" in asyncio.run(look_further(LOOPBACK, [8421]))
    finally:
        stand_ins.stop_process()
