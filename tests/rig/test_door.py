"""The door: what an edit sets is refused where no file could hold it, and nothing else is."""

from __future__ import annotations

from typing import Any

import pytest
from msgspec.structs import replace

from welvo.formats.rigfile import rig_from_bytes, rig_to_bytes
from welvo.rig.base import Refused
from welvo.rig.document import Picture, Rig, put_entries, put_rig
from welvo.rig.edits import add_element, set_fixtures, set_profile, set_universe
from welvo.rig.patched import Element, Place
from welvo.rig.profile import Facts


@pytest.mark.parametrize(
    ("fields", "why"),
    [
        ({"facts": Facts(kelvin=56000)}, "kelvin cannot be that: expected a number of 50000 at most"),
        ({"facts": Facts(angle=361)}, "angle"),
        ({"facts": Facts(weight=float("inf"))}, "weight"),
        ({"facts": Facts(watts=float("nan"))}, "watts"),
        ({"name": 5}, "name cannot be that: expected text, got a whole number"),
        ({"name": "lone \ud800"}, "characters that are no text"),
        ({"tint": -1}, "tint"),
        ({"tint": 10**30}, "tint"),
        ({"code": "LONGER"}, "code"),
        ({"modes": {}}, "modes"),
    ],
)
def test_what_a_profile_cannot_hold_is_refused_with_its_place(rig: Rig, fields: dict[str, Any], why: str) -> None:
    with pytest.raises(Refused, match=why):
        set_profile(rig, "head", "x", **fields)


def test_one_wrong_entry_of_many_is_named_and_nothing_is_taken(rig: Rig) -> None:
    wrong = {f: {"at": (Place(universe="u1", address=1, gap=70_000 if f == "a" else 0),)} for f in rig.fixtures}
    with pytest.raises(Refused, match=rf"^{rig.fixtures['a'].number}: gap cannot be that"):
        set_fixtures(rig, "x", wrong)


def test_optional_numbers_take_nothing_that_reads_back_otherwise(rig: Rig) -> None:
    mode = next(iter(rig.profiles["head"].modes.values()))
    channel = replace(mode.channels[0], low=float("inf"))  # JSON knows no infinity: it would come back as “none”
    with pytest.raises(Refused, match="no finite number"):
        set_profile(rig, "head", "x", modes={"m": replace(mode, channels=(channel,))})


def test_new_entries_and_the_rig_itself_are_looked_at_too(rig: Rig) -> None:
    with pytest.raises(Refused, match="Moss: pixels"):
        add_element(rig, Element(name="Moss", pixels=100_001))
    with pytest.raises(Refused, match="another form"):
        add_element(rig, Element(name="Moss", order="XYZ"))
    with pytest.raises(Refused, match="line metres"):
        put_rig(rig, "x", line_metres=0.0)
    with pytest.raises(Refused, match="size"):
        set_universe(rig, "u1", "x", size=513)


def test_what_passes_the_door_opens_again(rig: Rig) -> None:
    taken, change = put_entries(
        rig, "x", pictures={"any id / at all": Picture(name="p", data=b"\x00\xff")}, made=("k",)
    )
    assert change.made == ("k",) and change.changed_ids("pictures") == {"any id / at all"}
    assert rig_from_bytes(rig_to_bytes(taken)).pictures == taken.pictures
    gone, _ = put_entries(taken, "x", pictures={"any id / at all": None})
    assert not gone.pictures
