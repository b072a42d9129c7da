"""The patch as a table: series, shifts, turns, filters, and rows from a spreadsheet."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.conftest import profile
from welvo.patch import table
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import lock_items, put_in_groups, set_columns, take_out_items
from welvo.rig.patched import Fixture, Place
from welvo.survey import spreadsheet


def typed(rig: Rig, keys: list[str], column: str, text: str) -> Rig:
    return table.change_cells(Index(rig), keys, column, text)[0]


def where(rig: Rig, key: str) -> str:
    return table.text_of_cell(Index(rig), key, "first")


def test_series_and_shifts_of_numbers_and_names(rig: Rig) -> None:
    abc = ["a", "b", "c"]
    assert [f.number for f in typed(rig, abc, "number", "301 +10").fixtures.values()] == [301, 311, 321]
    assert [f.number for f in typed(rig, abc, "number", "+8").fixtures.values()] == [109, 110, 209]
    with pytest.raises(Refused, match="Number 201 is taken already by “Bar”"):
        typed(rig, ["a", "b"], "number", "200+")
    with pytest.raises(Refused, match="-1 is out of reach"):
        typed(rig, abc, "number", "-102")
    assert [f.name for f in typed(rig, abc, "name", "Kelp ##9 (&)").fixtures.values()] == [
        "Kelp 09 (101)",
        "Kelp 10 (102)",
        "Kelp 11 (201)",
    ]
    assert [f.fields for f in typed(rig, abc, "own:Circuit", "C#").fixtures.values()] == [
        {"Circuit": "C1"},
        {"Circuit": "C2"},
        {"Circuit": "C3"},
    ]


def test_addresses_move_by_slots_and_by_universes(rig: Rig) -> None:
    on = typed(rig, ["a", "b"], "first", "+20")
    assert (where(on, "a"), where(on, "b")) == ("1.021", "1.029")
    up = typed(rig, ["a", "e"], "first", "after 102 + 4")
    assert where(up, "a") == "1.021" and up.elements["e"].at == Place(after="b", gap=4)
    assert where(typed(rig, ["a"], "first", "+1.0"), "a") == "2.001"
    for text, why in (
        ("-9", "before 1.001"),
        ("+505", "1.506 and no longer fit"),
        ("+2.0", "universe 3, which is not there"),
        ("1.600", "no address 600"),
    ):
        with pytest.raises(Refused, match=why):
            typed(rig, ["a"], "first", text)
    locked, _ = lock_items(rig, ["a", "e"], True)
    for text in ("+1", "", "after 102", "free"):
        with pytest.raises(Refused, match="101 is locked|ribbon is locked"):
            typed(locked, ["a"], "first", text)
    assert where(typed(rig, ["a", "e"], "first", ""), "e") == "not patched"


def test_breaks_are_typed_with_commas_and_half_a_fixture_shows(rig: Rig) -> None:
    split = replace(
        rig, profiles={**rig.profiles, "split": profile("Split", "break head: pan, tilt\nbreak pixels: 4 x (red)")}
    )
    split = replace(split, fixtures={**split.fixtures, "s": Fixture(number=9, profile="split", mode="m")})
    both = typed(split, ["s"], "first", "1.101, 2.201")
    assert where(both, "s") == "1.101, 2.201" and table.text_of_cell(Index(both), "s", "last") == "1.102, 2.204"
    half = typed(both, ["s"], "first", "1.101, –")
    assert where(half, "s") == "1.101, –" and "s" in Index(half).open and table.row_matches(Index(half), "s", "is:half")
    with pytest.raises(Refused, match="3 addresses for 2 breaks"):
        typed(split, ["s"], "first", "1.1, 1.2, 1.3")


def test_turns_spots_groups_and_own_columns(rig: Rig) -> None:
    turned = typed(rig, ["a"], "turns", "swap, pan")
    assert (
        turned.fixtures["a"].turns == ("pan inverted", "pan and tilt swapped")
        and table.text_of_cell(Index(turned), "a", "turns") == "pan, swap"
    )
    attached = typed(rig, ["a"], "spot", "2.5; 0; 4")
    assert (
        attached.fixtures["a"].spot == (2.5, 0.0, 4.0)
        and table.text_of_cell(Index(attached), "a", "spot") == "2.5, 0, 4"
    )
    for column, text in (
        ("turns", "roll"),
        ("spot", "left"),
        ("spot", "1 2 3 4"),
        ("slots", "8"),
        ("profile", "Nobody"),
    ):
        with pytest.raises(Refused):
            typed(rig, ["a"], column, text)
    grouped = typed(typed(rig, ["a", "e"], "groups", "Left, All"), ["b"], "groups", "all")
    assert table.text_of_cell(Index(grouped), "b", "groups") == "All" and len(grouped.groups) == 2
    moved = typed(typed(grouped, ["a"], "number", "7"), ["a"], "first", "2.200")
    assert table.text_of_cell(Index(moved), "a", "groups") == "Left, All"  # groups survive edits
    gone, _ = take_out_items(moved, ["a"])
    assert all("a" not in g.members for g in gone.groups.values())
    alone, _ = put_in_groups(gone, ["e"], [])
    assert [g.name for g in alone.groups.values()] == ["All"] and not put_in_groups(alone, ["b"], [])[
        0
    ].groups  # emptied ones go
    with pytest.raises(Refused, match="Two columns"):
        set_columns(rig, ["Gel", "gel"])


@pytest.mark.parametrize(
    "wanted, found",
    [
        ("", "abce"), ("left", "a"), ("head", "ab"), ("head -right", "a"), ("name:bar", "c"), ("u:2", "ce"),
        ("first:1.0", "ab"), ("is:element", "e"), ("is:locked", ""), ('name:"right"', "b"), ("groups:x", ""),
        ("nosuch:x", ""), ("is:free", ""), ("-u:1", "ce"),
    ]
)  # fmt: skip
def test_filters(rig: Rig, wanted: str, found: str) -> None:
    index = Index(rig)
    assert "".join(k for k in "abce" if table.row_matches(index, k, wanted)) == found


def test_sorting_counts_numbers_within_words(rig: Rig) -> None:
    named = typed(typed(rig, ["a"], "name", "Kelp 10"), ["b"], "name", "Kelp 9")
    index = Index(named)
    assert sorted("abc", key=lambda k: table.rank_of_row(index, k, "name")) == ["c", "b", "a"]
    assert sorted("abce", key=lambda k: table.rank_of_row(index, k, "last")) == ["a", "b", "c", "e"]


# ---- spreadsheets


def test_rows_change_known_numbers_and_add_new_ones(rig: Rig) -> None:
    text = "No.\tName\tProfile\tMode\tUniverse\tAddress\tGroups\tCircuit\tWeather\n" + "\n".join(
        [
            "101\tLeft wing\tHead\tonly\t1\t33\tWings\tC4\tfine", "102\tRight\tHead\tonly\t1\t9\t\t\train",
            "301\tNew one\tBar\t\t3\t1\tWings\t\t", "302\t\t\t\t1\t1\t\t\t", "303\tX\tNo such\t\t1\t1\t\t\t",
            "x\t\t\t\t\t\t\t\t", "101\tagain\t\t\t\t\t\t\t",
        ]
    )  # fmt: skip
    found = spreadsheet.paste_rows(Index(rig), text)
    assert (len(found.new_rows), found.changed_rows, found.count_unchanged, found.unread) == (
        1,
        ("a",),
        1,
        ("Weather",),
    )
    assert [r.split(": ")[0] for r in found.refused_rows] == ["row 5", "row 6", "row 7", "row 8"] and "303" not in str(
        found.rig.fixtures
    )
    new = found.rig.fixtures[found.new_rows[0]]
    assert (where(found.rig, found.new_rows[0]), new.name, found.rig.fixtures["a"].fields) == (
        "3.001",
        "New one",
        {"Circuit": "C4"},
    )
    assert where(found.rig, "a") == "1.033" and {g.name: len(g.members) for g in found.rig.groups.values()} == {
        "Wings": 2
    }
    index = Index(rig)
    follow = index.follow_change(found.rig, found.change)  # the change says all that was touched
    assert {"a", found.new_rows[0]} <= follow.items and index.spans_of(found.new_rows[0]) == Index(found.rig).spans_of(
        found.new_rows[0]
    )


def test_what_was_copied_pastes_back_as_it_was(rig: Rig) -> None:
    rig = typed(typed(rig, ["a", "b"], "groups", "Wings"), ["c"], "first", "after 102 + 300")
    rig, _ = lock_items(rig, ["a"], True)
    again = spreadsheet.paste_rows(
        Index(rig), "\n".join(map("\t".join, spreadsheet.cells_of_items(Index(rig), ["a", "b", "c"])))
    )
    assert (again.new_rows, again.changed_rows, again.count_unchanged, again.refused_rows) == ((), (), 3, ())
    moved = spreadsheet.paste_rows(Index(rig), "Number;First\n101;1.200\n102;1.200")
    assert moved.changed_rows == ("b",) and moved.refused_rows == ("row 2: 101 is locked at another address",)


@pytest.mark.parametrize("text", ["", "  \n", "a\tb\n1\t2", "No.\n1", '"open\n'])
def test_what_is_no_table_is_refused(rig: Rig, text: str) -> None:
    with pytest.raises(Refused):
        spreadsheet.paste_rows(Index(rig), text)
