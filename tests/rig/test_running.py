"""Running numbers follow the real size of every universe, both ways."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner

from welvo.cli import app
from welvo.formats.rigfile import save_rig_file
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.lookup import place_of_running, running_number
from welvo.rig.wiring import Universe
from welvo.survey.place_ways import place_ways
from welvo.survey.target import find_target


def sized(*sizes: tuple[int, int]) -> Rig:
    return Rig(universes={f"u{n}": Universe(number=n, size=s) for n, s in sizes})


def test_worked_out_by_hand() -> None:
    of_510 = sized((1, 510), (2, 510), (7, 510))
    assert running_number(of_510, 7, 90) == 6 * 510 + 90 == 3150
    assert place_of_running(of_510, 3150) == (7, 90) and place_of_running(of_510, 1021) == (3, 1)
    mixed = sized((1, 96), (2, 120), (3, 512))
    assert [running_number(mixed, n, 1) for n in (1, 2, 3, 4)] == [1, 97, 217, 729]
    assert place_of_running(mixed, 97) == (2, 1) and place_of_running(mixed, 96) == (1, 96)
    assert place_of_running(mixed, 729) == (4, 1)
    assert running_number(Rig(), 3, 5) == 1029 and place_of_running(Rig(), 1029) == (3, 5)


def test_there_and_back_whatever_the_sizes() -> None:
    rig = sized((2, 96), (3, 510), (5, 120), (9, 512))
    for number in range(1, 12):
        size = rig.universes[f"u{number}"].size if f"u{number}" in rig.universes else 512
        for address in (1, 2, size):
            assert place_of_running(rig, running_number(rig, number, address)) == (number, address)
    run = [running_number(rig, n, 1) for n in range(1, 12)]
    assert run == sorted(run)


def test_list_path_and_jump_agree(rig: Rig, tmp_path: Path) -> None:
    small, _ = put_entries(rig, "", universes={"u1": Universe(number=1, size=96), "u2": Universe(number=2, size=120)})
    index = Index(small)
    ways = dict(place_ways(index, find_target(index, "201")))
    assert ways["Running in the rig"] == "97 (each with its own size)" and ways["Running in device"] == "97"
    for typed in ("run 97", "NODE run 97"):
        found = find_target(index, typed)
        assert (found.universe, found.address) == ("u2", 1), typed
    with pytest.raises(Refused, match="universe 3, which is not there"):
        find_target(index, "run 217")
    with pytest.raises(Refused, match="behind the last"):
        find_target(index, "NODE run 217")
    save_rig_file(small, tmp_path / "r.json")
    rows = json.loads(CliRunner().invoke(app, ["patch", str(tmp_path / "r.json"), "--json"]).output)
    assert {r["number"]: r["running"] for r in rows}[201] == 97
    all_510, _ = edits.set_universe(rig, "u1", "", size=510)
    all_510, _ = edits.set_universe(all_510, "u2", "", size=510)
    index = Index(all_510)
    assert dict(place_ways(index, find_target(index, "201")))["Running in the rig"] == "511 (of 510)"
