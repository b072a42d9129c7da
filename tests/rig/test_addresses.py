from __future__ import annotations

import pytest

from welvo.rig.addresses import differing_part, free_address, same_network, say_network
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import plan_setting
from welvo.rig.notation import read_mask
from welvo.rig.plan import read_setting
from welvo.rig.wiring import SettingSpec


@pytest.mark.parametrize(
    ("ip", "at", "part"),
    [
        ("10.0.40.21", "10.0.40.7/255.255.255.0", ""),
        ("10.0.41.21", "10.0.40.7/255.255.255.0", "the third part is 41, and must be 40"),
        ("10.1.40.21", "10.0.40.7/255.255.0.0", "the second part is 1, and must be 0"),
        ("10.0.64.1", "10.0.40.7/255.255.224.0", "the third part is 64, and must be 32 to 63"),
        ("192.168.0.5", "2.0.0.7/255.0.0.0", "the first part is 192, and must be 2"),
        ("10.0.40.200", "10.0.40.7/255.255.255.128", "the fourth part is 200, and must be 0 to 127"),
    ],
)
def test_the_part_that_differs_is_named(ip: str, at: str, part: str) -> None:
    assert differing_part(ip, at) == part and same_network(ip, at) == (not part)


def test_a_free_address_is_nobodys() -> None:
    at = "10.0.40.7/255.255.255.248"  # .1 to .6 are hosts, and .7 is the broadcast address
    assert free_address("10.0.40.2/255.255.255.248", ["10.0.40.1", "10.0.40.3"]) == "10.0.40.4"
    assert free_address("10.0.40.2/255.255.255.248", [], near="10.0.40.4") == "10.0.40.5"
    assert free_address("10.0.40.2/255.255.255.248", [f"10.0.40.{n}" for n in range(1, 7)]) == ""
    assert free_address("10.0.40.2/255.255.255.248", ["10.0.40.5", "10.0.40.6"], near="10.0.40.4") == "10.0.40.1"
    assert say_network(at) == "10.0.40.7 with mask 255.255.255.248"


@pytest.mark.parametrize("typed", ["255.255.255.0", "255.0.0.0", "255.255.254.0", "128.0.0.0"])
def test_masks(typed: str) -> None:
    assert read_mask(f" {typed} ") == typed


@pytest.mark.parametrize("typed", ["10.0.40.21", "255.0.255.0", "0.0.0.0", "255.255.255", "255.255.255.256", ""])
def test_what_is_no_mask_is_refused_in_words(typed: str) -> None:
    with pytest.raises(Refused, match="no mask"):
        read_mask(typed)


def test_an_address_that_means_everybody_or_nobody_is_refused(rig: Rig) -> None:
    masked, _ = plan_setting(rig, "d", "mask", "255.255.255.0")
    assert plan_setting(masked, "d", "ip", "10.0.40.254")[0].devices["d"].ip == "10.0.40.254"
    for ip, why in (("10.0.40.255", "broadcast address"), ("10.0.40.0", "name of its network")):
        with pytest.raises(Refused, match=why):
            plan_setting(masked, "d", "ip", ip)
    assert plan_setting(rig, "d", "ip", "10.0.40.255")[0].devices["d"].ip == "10.0.40.255", "no mask, no verdict"


def test_a_universe_that_the_device_cannot_count_is_refused() -> None:
    spec = SettingSpec(key="universe", label="Universe", type="universe", low=1, high=256, help="x")
    assert read_setting(spec, "256") == 256
    with pytest.raises(Refused, match="takes universes 1 to 256; 300 is out"):
        read_setting(spec, "300")
    with pytest.raises(Refused, match="sub-net is a number from 0 to 15"):
        read_setting(spec, "255.255.255.0", "artnet")
