"""Somebody else's table taken into a rig."""

from __future__ import annotations

import time

import pytest

from tests.formats.test_workbooks import workbook
from welvo.formats.workbooks import MOST_ROWS, grid_of, table_bytes
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.references import broken_references
from welvo.survey.spreadsheet import DRAFT, Mapping, Pasted, cells_of_items, guess_mapping, understand_table


def take(rig: Rig, text: str, columns: tuple[str, ...] = (), types: dict[str, str] | None = None) -> Pasted:
    grid = grid_of(text.encode(), "x")
    return understand_table(
        Index(rig), grid.rows, Mapping(columns or guess_mapping(rig, grid.rows[0]), types or {}), grid.loose
    )


OTHERS = """Chan;Instrument Type;DMX Uni;DMX Addr;Purpose;Truss
301;B4-RGB;2;50;wash;T1
302;B4-RGB;2;64;wash;T1
101;H8;1;1;key;T2
303;Mystery;1;8;spot;T2
"""


def test_every_row_says_what_becomes_of_it(rig: Rig) -> None:
    columns = ("number", "profile", "universe", "first", "", "own:Truss")
    first = take(rig, OTHERS, columns)
    assert [r.state for r in first.rows] == ["refused"] * 4 and dict(first.unknown) == {
        "B4-RGB": 2,
        "H8": 1,
        "Mystery": 1,
    }
    types = {"B4-RGB": "bar\tm", "H8": "head\tm", "Mystery": "head\tm"}
    found = take(rig, OTHERS, columns, types)
    rows = {r.who: r for r in found.rows}
    assert rows["301"].state == "new" and rows["301"].after == "2.050 Bar" and not rows["301"].meets
    assert rows["101"].state == "changed" and rows["101"].before == "1.001 Left"
    assert rows["303"].meets == ("101", "102")  # 1.008–015 lies on 101 (1–8) and 102 (9–16)
    assert found.unread == ("Purpose",) and found.rig.columns[-1] == "Truss"
    new = next(f for f in found.rig.fixtures.values() if f.number == 302)
    assert new.fields == {"Truss": "T1"} and new.at[0].address == 64
    assert not broken_references(found.rig) and rig.columns == ("Hang point", "Circuit", "Use")


def test_an_unknown_type_becomes_a_draft_as_wide_as_its_footprint(rig: Rig) -> None:
    text = "No.,Type,Footprint,Universe,Address\n1,Eel 12,12,2,200\n2,Eel 12,12,2,212\n3,Ray,,2,230\n"
    found = take(rig, text, types={"Eel 12": DRAFT, "Ray": DRAFT})
    eel = next(p for p in found.rig.profiles.values() if p.name == "Eel 12")
    assert [m.slots_needed for m in eel.modes.values()] == [12] and eel.code and eel.tint == 3
    assert [r.state for r in found.rows] == ["new", "new", "refused"]
    assert "no footprint is said for “Ray”" in found.rows[2].why
    assert [(s.first, s.last) for f in ("f4", "f5") for s in Index(found.rig).spans_of(f)] == [(200, 211), (212, 223)]


def test_an_address_that_a_spreadsheet_made_a_fraction_of_is_not_guessed(rig: Rig) -> None:
    grid = grid_of(workbook([["No.", "Address"], [101, 2.1], [102, 2.045]]), "x")
    found = understand_table(Index(rig), grid.rows, Mapping(guess_mapping(rig, grid.rows[0])), grid.loose)
    assert "may be 2.1 or 2.10 or 2.100" in found.rows[0].why and found.rows[1].state == "changed"


@pytest.mark.parametrize("suffix", [".csv", ".xlsx", ".ods"])
def test_the_patch_goes_out_and_comes_back_unchanged(rig: Rig, suffix: str) -> None:
    rig, _ = edits.move_item(rig, "a", 0, "u1", 100)  # 1.100, the address that loses its zeros
    rig, _ = edits.set_field(rig, ["a"], "Circuit", ["=C1"])
    rig, _ = edits.put_in_groups(rig, ["a", "b"], ["Front"])
    index = Index(rig)
    heads, *rows = cells_of_items(index, ["a", "b", "c", "e"])
    assert rows[0][heads.index("Universe")] == "1" and rows[0][heads.index("Address")] == "100"
    grid = grid_of(table_bytes(suffix, "Patch", heads, rows, [0, 3, 4]), "x")
    found = understand_table(index, grid.rows, Mapping(guess_mapping(rig, grid.rows[0])), grid.loose)
    assert [r.state for r in found.rows] == ["same"] * 4 and not found.unknown
    moved = [list(r) for r in grid.rows]
    moved[4][list(moved[0]).index("Address")] = "200"
    again = understand_table(index, moved, Mapping(guess_mapping(rig, grid.rows[0])))
    assert again.rows[3].state == "changed" and again.rig.elements["e"].at.address == 200


def test_a_mapping_that_makes_no_sense_is_refused(rig: Rig) -> None:
    with pytest.raises(Refused, match="which column is the number"):
        take(rig, "a,b\n1,2", ("", "name"))
    with pytest.raises(Refused, match="Two columns are taken for name"):
        take(rig, "a,b,c\n1,2,3", ("number", "name", "name"))
    bad = take(
        rig,
        "No.,Universe,Address\n101,0,5\n102,1,900\n102,1,5\nx,1,1\n,1,1\n",
    )
    assert [r.state for r in bad.rows] == ["refused"] * 5
    assert "stands in the table twice" in bad.rows[2].why


@pytest.mark.parametrize("groups", ["all", "g{n}", "all, g{n}"])
def test_twenty_thousand_rows_on_one_address_are_worked_out_in_seconds(rig: Rig, groups: str) -> None:
    """With a group each it took minutes: each row copied all that the rows before it had made."""
    lines = [f"{n + 1000},Bar,only,1.001,{groups.format(n=n)}" for n in range(MOST_ROWS - 1)]
    columns = ("number", "profile", "mode", "first", "groups")
    begun = time.process_time()
    found = take(rig, "\n".join(["No.;Type;Mode;Address;Groups".replace(";", ","), *_quoted(lines)]), columns)
    assert time.process_time() - begun < 40  # a bound that only what grows with the square meets
    assert len(found.rows_in_state("new")) == MOST_ROWS - 1
    members = [len(g.members) for g in found.rig.groups.values()]
    assert sum(members) == (MOST_ROWS - 1) * (1 + groups.count(",")) and not broken_references(found.rig)


def _quoted(lines: list[str]) -> list[str]:
    return [",".join([*line.split(",", 4)[:4], f'"{line.split(",", 4)[4]}"']) for line in lines]


def test_rows_that_join_groups_are_as_one_after_the_other(rig: Rig) -> None:
    rig, _ = edits.put_in_groups(rig, ["f1", "f2"], ["Left", "Old"])
    rig, _ = edits.put_in_groups(rig, ["f3"], ["Old"])
    wishes = {"f1": ["left", "New"], "f2": [], "f3": ["New", "LEFT", ""]}
    at_once, _ = edits.put_each_in_groups(rig, wishes)
    by_turns = rig
    for key, names in wishes.items():
        by_turns, _ = edits.put_in_groups(by_turns, [key], names)
    seen = {g.name: g.members for g in at_once.groups.values()}
    assert seen == {g.name: g.members for g in by_turns.groups.values()}
    assert seen == {"Left": ("f1", "f3"), "New": ("f1", "f3")}
    assert edits.groups_by_member(at_once) == {"f1": ["Left", "New"], "f3": ["Left", "New"]}
