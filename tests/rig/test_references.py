from __future__ import annotations

from typing import Any

import pytest
from msgspec.structs import replace

from tests.conftest import at
from welvo.formats.files import RigFileError
from welvo.formats.rigfile import rig_from_bytes, rig_to_bytes
from welvo.patch.mode_edits import remove_mode
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Element, Fixture
from welvo.rig.references import broken_by, broken_references
from welvo.rig.wiring import Device, Feed, Universe


@pytest.mark.parametrize(
    ("parts", "words"),
    [
        ({"profiles": {"head": None}}, "Fixture 101 (a) uses profile “head”, which is not in the rig."),
        ({"universes": {"u2": None}}, "Fixture 201 (c) stands in universe “u2”, which is not in the rig."),
        ({"fixtures": {"z": Fixture(number=9, profile="none", mode="m")}}, "Fixture 9 (z) uses profile “none”"),
        ({"fixtures": {"z": Fixture(number=9, profile="head", mode="x")}}, "Fixture 9 (z) uses mode “x”, which Head"),
        ({"elements": {"y": Element(name="reef", pixels=1, at=replace(at(1, 1)[0], universe="no"))}}, "Element reef"),
        ({"universes": {"v": Universe(number=1)}}, "Universes “u1” and “v” both have number 1."),
        ({"senders": {"s": None}}, "Feed w1 comes from sender “s”, which is not in the rig."),
        ({"feeds": {"w": Feed(universe="u9", sender="s", wire=7)}}, "Feed w carries universe “u9”"),
        ({"feeds": {"w": Feed(universe="u1", sender="s", wire=0)}}, "Feed w: "),
        ({"device_models": {"mod": None}}, "Device NODE (d) is of model “mod”, which is not in the rig."),
        ({"devices": {"x": Device(name="ODD", model="mod", ip="127.0.0.300")}}, "Device ODD (x): "),
    ],
)
def test_what_no_file_may_hold_is_found_after_an_edit_too(rig: Rig, parts: dict[str, Any], words: str) -> None:
    assert broken_references(rig) == []
    bad, change = put_entries(rig, "", **parts)
    found = broken_by(rig, bad, change)
    assert found and found[0].startswith(words) and set(found) <= set(broken_references(bad))
    with pytest.raises(RigFileError):
        rig_from_bytes(rig_to_bytes(bad))


def test_an_edit_that_loses_modes_is_looked_at_and_one_that_does_not_is_left_alone(rig: Rig) -> None:
    head = rig.profiles["head"]
    less, change = put_entries(rig, "", profiles={"head": replace(head, modes={"n": head.modes["m"]})})
    assert len(broken_by(rig, less, change)) == 2
    more, change = put_entries(rig, "", profiles={"head": replace(head, modes={**head.modes, "n": head.modes["m"]})})
    assert broken_by(rig, more, change) == []


@pytest.mark.parametrize("into", ["", "m", "gone"])
def test_a_mode_in_use_goes_only_when_its_fixtures_have_another(rig: Rig, into: str) -> None:
    """Found by chance: they were sent over into the very mode that went, and the saved rig could not be opened."""
    head = rig.profiles["head"]
    two, _ = put_entries(rig, "", profiles={"head": replace(head, modes={**head.modes, "n": head.modes["m"]})})
    with pytest.raises(Refused, match="2 fixtures stand in mode .* Say which mode they go over to"):
        remove_mode(two, "head", "m", into)
    gone, _ = remove_mode(two, "head", "m", "n")
    assert broken_references(gone) == [] and gone.fixtures["a"].mode == "n"
