"""Tables as the device's pages show them, and pages held against them."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.standins.test_pixel import INDEX, PENSTOCK, RIG
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import put_entries
from welvo.survey.device_tables import KINDS, Off, device_table, first_difference, hold_against_plan, read_table


def test_tables_are_what_the_pages_show() -> None:
    universes = device_table(INDEX, PENSTOCK, "universes")
    assert universes.rows[0] == ("1", "201", "sacn", "512", "495") and len(universes.rows) == 9
    segments = device_table(INDEX, PENSTOCK, "segments")
    assert segments.heads[:4] == ("segment", "Universe", "Slot", "LEDs")
    assert segments.rows[1][:4] == ("1/2", "201", "166", "55")
    assert device_table(INDEX, PENSTOCK, "ports").rows[5][0] == "6"
    for kind in KINDS:
        made = device_table(INDEX, PENSTOCK, kind)
        assert read_table(made.write_csv()) == made, "what is saved reads back"
        assert hold_against_plan(INDEX, PENSTOCK, kind, made) is None


def test_the_first_row_that_differs_is_named_with_a_landmark() -> None:
    made = device_table(INDEX, PENSTOCK, "universes")
    rows = [list(r) for r in made.rows]
    for r in rows[2:]:
        r[3] = "510"
    typed = read_table("\n".join("\t".join(r) for r in [list(made.heads), *rows]))
    assert hold_against_plan(INDEX, PENSTOCK, "universes", typed) == Off(
        3,
        "slots",
        "512",
        "510",
        "204.001 is running slot 1\u202f537 of this device here and 1\u202f535 there: 2 slots early",
    )
    few = read_table("universe;slots\n201;512\n202;512")
    assert hold_against_plan(INDEX, PENSTOCK, "universes", few) == Off(3, "row", "3", "no such row")
    segments = device_table(INDEX, PENSTOCK, "segments")
    page = read_table("SEGMENT,LEDs,Reversed\n1/1,55,no\n1/2,55,no\n")
    assert first_difference(segments, page) == Off(2, "Reversed", "on", "no")


def test_what_is_no_table_is_refused() -> None:
    for text, why in (
        ("", "needs a line of headings"), ("a,b", "needs a line"), ("a,a\n1,2", "Two columns"),
        ("a\n" + "1\n" * 20_001, "more than any device"),
    ):  # fmt: skip
        with pytest.raises(Refused, match=why):
            read_table(text)
    with pytest.raises(Refused, match="None of the headings"):
        hold_against_plan(INDEX, PENSTOCK, "ports", read_table("colour\nred"))


def test_a_device_without_a_model_has_no_tables() -> None:
    bare, _ = put_entries(RIG, "", devices={PENSTOCK: replace(RIG.devices[PENSTOCK], model="gone")})
    assert device_table(Index(bare), PENSTOCK, "ports").rows == ()
