"""The status page of a device: what one end writes the other reads, and what nonsense costs."""

from __future__ import annotations

import base64
import json

import pytest

from welvo.protocols.status_page import (
    GearOnBus,
    LevelsBehind,
    PortStatus,
    SourceOnPort,
    StatusPage,
    decode_status_page,
    encode_status_page,
)  # fmt: skip
from welvo.protocols.wire import WireError

NODE = PortStatus(
    "A", protocol="sacn", universe=3, merge="HTP", slots=512, frames=7, levels=(1, 2, 255),
    sources=(SourceOnPort("127.0.0.5", "desk", 100, 0.25),),
)  # fmt: skip
PIXELS = PortStatus("4", octets=bytes(range(256)) * 8, behind=(LevelsBehind(2, "bridge", (9, 8), "Halo"),))
BUS = PortStatus("BUS 1", gear=(GearOnBus(None, 254, "Niche", True),))


def test_what_is_written_is_read() -> None:
    page = StatusPage(name="WEIR", ip="127.0.0.21", model="Weir 2", test="green", ports=(NODE, PIXELS, BUS))
    read = decode_status_page(encode_status_page(page))
    assert read.ports == page.ports and read.test == "green"
    assert read.levels_of_port("A") == b"\x01\x02\xff" + bytes(509)
    assert read.octets_of_port("4") == (PIXELS.octets, PIXELS.behind)
    assert read.levels_of_port("4") is None and read.octets_of_port("A") is None and read.levels_of_port("Z") is None


def test_every_octet_of_a_long_cable_arrives() -> None:
    """A port of six hundred pixels was cut after 375 octets: a good pixel behind counted as dark."""
    octets = bytes(n % 251 for n in range(1800))
    page = decode_status_page(encode_status_page(StatusPage(ports=(PortStatus("1", octets=octets),))))
    assert page.octets_of_port("1") == (octets, ())


def test_the_json_is_the_one_of_the_handbook() -> None:
    """Octets are base64, what a device does not tell is not there, and keys of others do not matter."""
    told = json.loads(encode_status_page(StatusPage(name="PENSTOCK", ports=(PIXELS,))))
    assert base64.b64decode(told["ports"][0]["octets"]) == PIXELS.octets
    assert "levels" not in told["ports"][0] and "gear" not in told["ports"][0] and "test" not in told
    told["ports"][0]["volts"] = 4.9
    told["more"] = [1, {"x": None}]
    assert decode_status_page(json.dumps(told).encode()).octets_of_port("4") == (PIXELS.octets, PIXELS.behind)


BAD = [
    {"label": "A", "levels": [300]}, {"label": "A", "levels": ["x"]}, {"label": "A", "levels": [1] * 513},
    {"label": "A", "levels": -1}, {"label": 5, "levels": [1]}, {"levels": [1]}, 5, None, [], "A",
    {"label": "A", "octets": "no base64!"}, {"label": "A", "octets": "AAA"},
    {"label": "A", "behind": [{"place": 1, "kind": "bridge", "levels": [256]}]},
]  # fmt: skip


@pytest.mark.parametrize("bad", BAD, ids=range(len(BAD)))
def test_a_port_that_says_nonsense_says_nothing_and_leaves_the_others(bad: object) -> None:
    page = decode_status_page(json.dumps({"ports": [bad, {"label": "B", "levels": [4]}]}).encode())
    assert page.levels_of_port("A") is None and page.octets_of_port("A") is None
    assert page.levels_of_port("B") == b"\x04" + bytes(511)


NO_PAGES = [
    b"", b"{", b"[]", b"null", b"5", b'{"ports": 5}', b'{"ports": null}', b'{"levels": []}', b"\xff\xfe",
    b'{"ports": [], "test": 5}', b"[" * 5000 + b"]" * 5000, b'{"ports": [' + b"5," * 5000 + b"5]}",
]  # fmt: skip


@pytest.mark.parametrize("raw", NO_PAGES, ids=range(len(NO_PAGES)))
def test_what_is_no_page_is_refused(raw: bytes) -> None:
    with pytest.raises(WireError, match="status"):
        decode_status_page(raw)
