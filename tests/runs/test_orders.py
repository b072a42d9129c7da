"""Colour orders from the sender to the chip, with letters followed by hand."""

from __future__ import annotations

from itertools import permutations

import pytest
from msgspec.structs import replace

from tests.checks.run_examples import SILK, cabled, px, reef
from welvo.checks.checker import check_rig
from welvo.rig.document import Rig
from welvo.rig.refs import PortRef
from welvo.runs.cable import Cables
from welvo.runs.orders import Names, orders_of, put_out, setting_for
from welvo.runs.wish import read_item


@pytest.mark.parametrize(
    ("sent", "set_to", "names", "out"),
    [
        ("RGB", "", "out", "RGB"),
        ("RGB", "GRB", "out", "GRB"),
        ("RGB", "GRB", "in", "GRB"),  # a swap is the same both ways
        ("RGB", "BRG", "out", "BRG"),  # set to what it puts out
        ("RGB", "BRG", "in", "GBR"),  # takes the first for blue: red leaves last, green first, blue second
        ("GRB", "GRB", "out", "RGB"),  # it takes green to be red and swaps the two a second time
        ("GRB", "RGB", "out", "GRB"),
        ("RGBW", "GRBW", "out", "GRBW"),
        ("RGB", "GRBW", "out", "RGB"),  # a setting of other components is told elsewhere; nothing is made up
    ],
)
def test_what_a_controller_puts_out(sent: str, set_to: str, names: Names, out: str) -> None:
    assert put_out(sent, set_to, names) == out


@pytest.mark.parametrize("names", ["out", "in"])
def test_for_every_chip_there_is_one_setting(names: Names) -> None:
    for sent in map("".join, permutations("RGB")):
        for taken in map("".join, permutations("RGB")):
            assert put_out(sent, setting_for(sent, taken, names), names) == taken


def _codes(rig: Rig, sent: str, set_to: str, takes: str, names: Names = "out") -> tuple[str, str]:
    silk = replace(SILK, order=takes)
    made, _ = cabled(
        "",
        reef(order=set_to),
        element=px(10, sent, type="silk"),
        m_order_names=names,
        rig={"pixel_types": {"silk": silk}},
    )(rig)
    found = [f for f in check_rig(made).findings if f.code == "RUN-08"]
    return (found[0].title.rsplit("set at ", 1)[-1], found[0].possible_fixes[0].label) if found else ("", "")


def test_an_order_applied_twice_or_nowhere_is_found(rig: Rig) -> None:
    assert _codes(rig, "RGB", "GRB", "GRB") == ("", "") == _codes(rig, "GRB", "", "GRB")
    assert _codes(rig, "GRB", "GRB", "GRB") == ("both ends", "Set the order straight here")
    assert _codes(rig, "RGB", "", "GRB") == ("neither end", "Set the controller to GRB here")
    assert _codes(rig, "RGB", "BRG", "GBR") == ("one end, wrongly", "Set the controller to GBR here")
    assert _codes(rig, "RGB", "BRG", "GBR", "in") == ("", "")
    assert _codes(rig, "RGB", "GBR", "GBR", "in") == ("one end, wrongly", "Set the controller to BRG here")


def test_the_orders_of_a_segment_say_what_lights(rig: Rig) -> None:
    made, _ = cabled("", reef(order="GRB"), element=px(10, type="silk"))(rig)
    orders = orders_of(made, "p", Cables(made).streams[PortRef("p", "1")].pieces[0])
    assert orders and not orders.is_right and orders.shown_components == (("R", "G"), ("G", "R"), ("B", "B"))


def test_what_is_attached_new_is_set_as_its_device_names_it(rig: Rig) -> None:
    kinds = {"k": replace(SILK, name="Kelp 30", order="GBR")}
    assert read_item(rig, "10 RGB weed of Kelp 30", kinds).segments[0].order == "GBR"
    assert read_item(rig, "10 RGB weed of Kelp 30", kinds, "in").segments[0].order == "BRG"
