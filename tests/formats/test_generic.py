"""Generic device models."""

from __future__ import annotations

import pytest

from welvo.formats.generic import generic_model
from welvo.formats.models import check_model, read_model, write_model
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import add_device, set_port


def test_a_generic_node_ends_its_universes_where_it_was_said_to(rig: Rig) -> None:
    model = generic_model("node", 8, 96, ("sacn", "artnet"))
    assert model.ports == tuple("12345678") and model.links == ("artnet",) and model.spec_of_setting("universe")
    check_model(model)
    assert read_model(write_model(model), "generic") == model
    planned, change = add_device(rig, model, "NODE 8", "")
    taken, _ = set_port(planned, change.made[0], "3", "", feed="w1")
    free, _ = set_port(taken, "d", "A", "", feed="")
    assert Index(free).limit_of_universe("u1") == (96, "port 3 of NODE 8 puts out 96")


def test_a_generic_pixel_controller_has_room_for_its_pixels() -> None:
    model = generic_model("pixel", 4, 680, ("ddp",))
    assert (model.kind, model.pixels_per_port, model.universes, model.links) == ("pixel", 680, 16, ())


@pytest.mark.parametrize(
    ("ports", "limit", "protocols", "says"),
    [
        (0, 512, ("sacn",), "1 to 512 ports"),
        (4, 600, ("sacn",), "1 to 512 slots"),
        (4, 512, (), "one protocol at least"),
    ],
)
def test_what_no_device_has_is_refused(ports: int, limit: int, protocols: tuple[str, ...], says: str) -> None:
    with pytest.raises(Refused, match=says):
        generic_model("node", ports, limit, protocols)  # type: ignore[arg-type]
