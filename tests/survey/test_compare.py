"""Two rigs compared, one change taken back, two people's work merged."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from msgspec.structs import replace

from tests.conftest import at, small_rig
from tests.rig.test_reference_table import whole
from welvo.demo.gallery import make_gallery
from welvo.formats.files import RigFileError
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.formats.versions import (
    drop_version,
    in_time,
    latest_version,
    name_version,
    next_version_name,
    unpack_version,
)
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig import tested as record
from welvo.rig.base import Refused
from welvo.rig.diff import GONE, list_differences
from welvo.rig.document import Rig
from welvo.rig.merge import as_edit, merge_rigs
from welvo.rig.patched import Fixture, Place
from welvo.rig.references import broken_references
from welvo.rig.runs import Supply
from welvo.rig.wiring import Universe
from welvo.runs.edits import change_segment, remove_supply
from welvo.survey.compare import compare_rigs, count_differences, say_meeting, take_back


def changed(rig: Rig, *acts: object) -> Rig:
    for act, *args in acts:  # type: ignore[misc]
        rig, _ = act(rig, *args)
    return rig


def said(a: Rig, b: Rig) -> list[tuple[str, str, str, str, str]]:
    return [(d.kind, d.who, d.what, d.before, d.after) for d in compare_rigs(Index(a), Index(b))]


def test_each_kind_of_difference_is_said_in_its_words() -> None:
    rig = small_rig()
    fixtures = {
        **rig.fixtures,
        "a": replace(rig.fixtures["a"], number=111, fields={"Hang point": "Bar 2"}),
        "b": replace(rig.fixtures["b"], at=at(1, 20), note="dented"),
        "d": Fixture(number=301, name="New", profile="bar", mode="m", at=at(2, 50)),
    }
    del fixtures["c"]
    other = replace(rig, fixtures=fixtures, universes={**rig.universes, "u2": Universe(number=2, name="Two", size=510)})
    assert said(rig, other) == [
        ("re-addressed", "102", "address", "1.009", "1.020"),
        ("changed", "102", "note", "nothing", "dented"),
        ("renamed", "111", "number", "101", "111"),
        ("re-hung", "111", "Hang point", "nothing", "Bar 2"),
        ("removed", "201", "fixture", "Bar, Bar · only, 2.001", ""),
        ("added", "301", "fixture", "", "New, Bar · only, 2.050"),
        ("re-planned", "Universe 2", "size", "512", "510"),
    ]
    found = compare_rigs(Index(rig), Index(other))
    assert (
        count_differences(found) == "1 added, 1 removed, 1 re-addressed, 1 renamed, 1 re-hung, 1 re-planned, 1 changed"
    )
    assert count_differences([]) == "nothing is different" and not compare_rigs(Index(rig), Index(small_rig()))


def test_what_only_moves_along_is_said_and_names_no_touch_of_its_own() -> None:
    rig = small_rig()
    rig = replace(rig, fixtures={**rig.fixtures, "b": replace(rig.fixtures["b"], at=(Place(after="a", gap=2),))})
    other = changed(rig, (edits.move_item, "a", 0, "u1", 101))
    found = compare_rigs(Index(rig), Index(other))
    assert [(d.who, d.before, d.after, bool(d.touches)) for d in found] == [
        ("101", "1.001", "1.101", True),
        ("102", "1.011", "1.111", False),
    ]
    with pytest.raises(Refused, match="102 only moved along"):
        take_back(other, found[1])
    back, _ = take_back(other, found[0])
    assert back == rig


def test_settings_modes_and_cables_of_the_demo_rig_are_compared() -> None:
    rig = make_gallery()
    device = next(k for k, d in rig.devices.items() if d.name == "PENSTOCK")
    other = changed(
        rig,
        (edits.plan_setting, device, "description", "Under the drum"),
        (
            change_segment,
            device,
            "1",
            1,
            "fold",
        ),
    )
    other, _ = change_segment(other, device, "1", 1, fold=7)
    found = {(d.kind, d.what) for d in compare_rigs(Index(rig), Index(other))}
    assert ("re-planned", "Description") in found and ("re-hung", "port 1") in found
    hung = next(d for d in compare_rigs(Index(rig), Index(other)) if d.kind == "re-hung")
    assert hung.before.endswith("fold 0") and hung.after.endswith("fold 7")
    f = rig.fixtures["f207"]
    mode = next(m for m in rig.profiles[f.profile].modes if m != f.mode)
    other = replace(rig, fixtures={**rig.fixtures, "f207": replace(f, mode=mode)})
    first = compare_rigs(Index(rig), Index(other))[0]
    assert (first.kind, first.who) == ("re-moded", "207") and first.before != first.after
    assert take_back(other, first)[0] == rig


def test_every_difference_of_random_edits_can_be_taken_back_to_the_first_rig() -> None:
    rng = random.Random(5)
    for _ in range(6):
        rig = make_gallery()
        now = rig
        for _ in range(12):
            key = rng.choice(list(now.fixtures))
            act = rng.randrange(4)
            try:
                if act == 0:
                    now, _ = edits.move_item(now, key, 0, rng.choice(list(now.universes)), rng.randint(1, 400))
                elif act == 1:
                    now, _ = edits.set_fixtures(now, "n", {key: {"note": str(rng.random())}})
                elif act == 2:
                    now, _ = edits.set_field(now, [key], now.columns[0], [str(rng.randint(1, 9))])
                else:
                    now, _ = edits.add_universe(now)
            except Refused:
                continue
        for _ in range(40):
            found = [d for d in compare_rigs(Index(rig), Index(now)) if d.touches]
            if not found:
                break
            now, _ = take_back(now, rng.choice(found))
        assert now == rig and not list_differences(rig, now)


def test_a_difference_that_has_gone_on_is_not_taken_back() -> None:
    rig = small_rig()
    other = changed(rig, (edits.move_item, "a", 0, "u1", 101))
    found = compare_rigs(Index(rig), Index(other))[0]
    later = changed(other, (edits.move_item, "a", 0, "u1", 201))
    with pytest.raises(Refused, match="changed since; compare again"):
        take_back(later, found)
    added = compare_rigs(Index(rig), Index(changed(rig, (edits.add_universe, 9))))[0]
    assert take_back(changed(rig, (edits.add_universe, 9)), added)[0] == rig


# ---- merging


def test_what_does_not_meet_is_merged_down_to_single_fields() -> None:
    base = small_rig()
    mine = changed(base, (edits.move_item, "a", 0, "u1", 101), (edits.set_field, ["b"], "Circuit", ["C4"]))
    theirs = changed(
        base, (edits.set_fixtures, "n", {"a": {"note": "lens cracked"}}), (edits.set_field, ["b"], "Hang point", ["P2"])
    )
    found = merge_rigs(base, mine, theirs)
    assert not found.meetings and len(found.taken) == 2
    assert found.rig.fixtures["a"].note == "lens cracked" and found.rig.fixtures["a"].at[0].address == 101
    assert found.rig.fixtures["b"].fields == {"Circuit": "C4", "Hang point": "P2"}
    assert merge_rigs(base, theirs, mine).rig == found.rig  # whoever merges, the same comes out


def test_what_meets_waits_for_a_decision() -> None:
    base = small_rig()
    mine = changed(base, (edits.move_item, "a", 0, "u1", 101), (edits.take_out_items, ["c"]))
    theirs = changed(base, (edits.move_item, "a", 0, "u1", 301), (edits.set_fixtures, "n", {"c": {"note": "keep"}}))
    found = merge_rigs(base, mine, theirs)
    assert {m.meeting_place for m in found.meetings} == {("fixtures", "a", ("at",)), ("fixtures", "c", ())}
    assert found.rig.fixtures["a"].at[0].address == 101 and "c" not in found.rig.fixtures
    words = [say_meeting(Index(mine), Index(found.theirs), m) for m in found.meetings]
    assert ("101", "address", "1.101", "1.301") in words
    assert ("201", "fixture", "removed", "kept and changed") in words
    other = merge_rigs(base, mine, theirs, {m.meeting_place: "theirs" for m in found.meetings}).rig
    assert other.fixtures["a"].at[0].address == 301 and other.fixtures["c"].note == "keep"
    assert merge_rigs(base, mine, mine).rig == mine  # the same change on both sides is no meeting


def test_two_people_add_under_the_same_id_and_both_stay() -> None:
    base = small_rig()
    first, second = (
        replace(
            base,
            fixtures={**base.fixtures, "f4": Fixture(number=n, name="X", profile="bar", mode="m", at=at(2, 200 + n))},
            universes={**base.universes, key: Universe(number=7, name=name)},
        )
        for n, key, name in ((11, "u3", "Pool"), (12, "u9", "Pool"))
    )
    second, _ = edits.put_in_groups(second, ["f4"], ["Front"])
    found = merge_rigs(base, first, second)
    assert sorted(f.number for f in found.rig.fixtures.values()) == [11, 12, 101, 102, 201]
    (group,) = found.rig.groups.values()
    assert [found.rig.fixtures[m].number for m in group.members] == [12]
    assert [u.number for u in found.rig.universes.values()].count(7) == 1 and not broken_references(found.rig)


def test_what_one_removed_and_the_other_uses_comes_back_and_is_said() -> None:
    base = replace(small_rig(), universes={**small_rig().universes, "u5": Universe(number=5, name="Spare")})
    mine = changed(base, (edits.remove_universe, "u5"))
    theirs = changed(base, (edits.move_item, "a", 0, "u5", 1))
    found = merge_rigs(base, mine, theirs)
    assert "u5" in found.rig.universes and found.notes == ("Spare stays: fixture 101 uses it.",)
    lamp = changed(base, (edits.take_out_items, ["a"]))
    grouped = changed(base, (edits.put_in_groups, ["a", "b"], ["Front"]))
    left = merge_rigs(base, lamp, grouped).rig
    assert next(iter(left.groups.values())).members == ("b",)


def test_members_of_a_group_are_merged_and_test_records_joined() -> None:
    base = changed(small_rig(), (edits.put_in_groups, ["a"], ["Front"]))
    mine = changed(base, (edits.put_in_groups, ["b"], ["Front"]))
    theirs = changed(base, (edits.put_in_groups, ["c"], ["Front"]))
    one, two = (record.TestRecord(tests=(record.Tested(at=t, who=w),)) for t, w in ((5.0, "Ines"), (3.0, "Bo")))
    found = merge_rigs(base, replace(mine, tests={"item/a": one}), replace(theirs, tests={"item/a": two})).rig
    assert next(iter(found.groups.values())).members == ("a", "b", "c")
    assert [t.who for t in found.tests["item/a"].tests] == ["Bo", "Ines"]
    rig, change = as_edit(mine, found, "merge")
    index = Index(mine)
    index.follow_change(rig, change)
    assert sorted(index.all_spans(), key=str) == sorted(Index(found).all_spans(), key=str)
    assert change.changed_ids("tests") == {"item/a"} and change.changed_ids("groups") == set(found.groups)


# ---- versions


def test_versions_are_kept_in_the_file_and_open_again(tmp_path: Path) -> None:
    rig = make_gallery()
    assert next_version_name(rig) == "Issue 1" and latest_version(rig) is None
    one, _ = name_version(rig, " Issue 1 ", "Ines", "to the crew", 100.0)
    moved = changed(one, (edits.set_fixtures, "n", {"f207": {"note": "swapped"}}))
    two, _ = name_version(moved, next_version_name(moved), "Ines", "", 200.0)
    file = tmp_path / "hall.welvo"
    save_rig_file(two, file)
    again = load_rig_file(file)
    assert again == two and [again.versions[v].name for v in in_time(again)] == ["Issue 1", "Issue 2"]
    assert unpack_version(again.versions[in_time(again)[0]], again) == replace(rig, scenes=again.scenes)
    last = latest_version(again)
    assert last and unpack_version(last, again).fixtures["f207"].note == "swapped"
    for wrong, why in ((" ", "needs a name"), ("issue 2", "is a version “issue 2” already")):
        with pytest.raises(Refused, match=why):
            name_version(again, wrong, "", "", 1.0)
    assert in_time(drop_version(again, in_time(again)[0])[0]) == in_time(again)[1:]
    for data in (b"", b"junk", last.data[:-9]):
        with pytest.raises(RigFileError, match="“Issue 2” is damaged"):
            unpack_version(replace(last, data=data))


def test_touches_know_what_is_gone() -> None:
    rig = small_rig()
    without = changed(rig, (edits.set_fixtures, "n", {"a": {"fields": {"Use": "x"}}}))
    (t,) = list_differences(without, rig)
    assert (t.path, t.before, t.after) == (("fields", "Use"), "x", GONE)
    assert list_differences(rig, replace(rig, name="Other"))[0][:3] == ("rig", "name", ())


def test_what_one_takes_out_and_the_other_begins_to_use_is_not_lost_in_silence() -> None:
    """A fixture, a kind of pixels and a supply go on one side; on the other a lamp stands after that fixture, an
    element gets that kind and a segment that supply."""
    base = whole()
    base = replace(base, fixtures={**base.fixtures, "b": replace(base.fixtures["b"], at=at(1, 9))},
                   elements={**base.elements, "e2": replace(base.elements["e2"], type="")})  # fmt: skip
    device = base.devices["d"]
    run = device.ports["A"].run
    plain = {**device.ports, "A": replace(device.ports["A"], run=(run[0], replace(run[1], at=Place())))}
    base = replace(base, devices={"d": replace(device, ports=plain)})
    base = replace(base, pixel_types={**base.pixel_types, "k2": replace(base.pixel_types["silk"], name="Silk 2")},
                   supplies={**base.supplies, "v2": Supply(name="Right")})  # fmt: skip
    taken = ((edits.take_out, "", "pixel_types", ["k2"]), (remove_supply, "v2"))
    mine = changed(base, (edits.take_out_items, ["c"]), *taken)
    theirs = changed(base, (edits.set_fixtures, "", {"b": {"at": (Place(after="c"),)}}))
    theirs = replace(theirs, elements={**theirs.elements, "e2": replace(theirs.elements["e2"], type="k2")})
    run = theirs.devices["d"].ports["A"].run
    ports = {**theirs.devices["d"].ports, "A": replace(theirs.devices["d"].ports["A"],
                                                       run=(replace(run[0], supply="v2"), run[1]))}  # fmt: skip
    theirs = replace(theirs, devices={"d": replace(theirs.devices["d"], ports=ports)})
    found = merge_rigs(base, mine, theirs)
    assert {"c", "b"} <= found.rig.fixtures.keys() and "k2" in found.rig.pixel_types and "v2" in found.rig.supplies
    assert any("Bar stays: fixture 102 uses it" in n for n in found.notes), found.notes
    assert any("Silk 2 stays" in n for n in found.notes) and any("Right stays" in n for n in found.notes)


def test_new_lamps_of_both_under_one_inner_id_keep_their_own_gear() -> None:
    base = whole()
    lamp = Fixture(number=301, name="Niche left", profile="bar", mode="m", at=at(2, 300))
    mine = replace(base, fixtures={**base.fixtures, "f9": lamp})
    theirs = replace(base, fixtures={**base.fixtures, "f9": replace(lamp, number=302, name="Niche right")})
    port = theirs.devices["d"].ports["B"]
    bus = replace(port.bus, gear=(replace(port.bus.gear[0], fixture="f9"),))  # type: ignore[union-attr]
    ports = {**theirs.devices["d"].ports, "B": replace(port, bus=bus)}
    theirs = replace(theirs, devices={"d": replace(theirs.devices["d"], ports=ports)})
    found = merge_rigs(base, mine, theirs)
    drives = found.rig.devices["d"].ports["B"].bus.gear[0].fixture  # type: ignore[union-attr]
    assert found.rig.fixtures[drives].name == "Niche right" and found.rig.fixtures["f9"].name == "Niche left"


def test_two_new_lamps_of_one_number_are_asked_about_and_none_is_dropped() -> None:
    base = small_rig()
    lamp = Fixture(number=301, name="Left", profile="bar", mode="m", at=at(2, 300))
    mine = replace(base, fixtures={**base.fixtures, "f4": lamp})
    theirs = replace(base, fixtures={**base.fixtures, "f4": replace(lamp, name="Right", at=at(2, 400))})
    found = merge_rigs(base, mine, theirs)
    (asked,) = found.meetings
    assert say_meeting(Index(mine), Index(found.theirs), asked)[:2] == ("301", "number, on two new lamps")
    for side, names in (("mine", {301: "Left", 302: "Right"}), ("theirs", {301: "Right", 302: "Left"})):
        made = merge_rigs(base, mine, theirs, {asked.meeting_place: side}).rig  # type: ignore[dict-item]
        assert {f.number: f.name for f in made.fixtures.values() if f.number > 300} == names
    same = merge_rigs(base, mine, mine)
    assert same.rig == mine and not same.meetings


def test_versions_of_both_under_one_id_both_stay() -> None:
    base = small_rig()
    mine, theirs = (name_version(base, name, "", "", 1e9)[0] for name in ("Issue 1", "To the house"))
    assert mine.versions.keys() == theirs.versions.keys()
    found = merge_rigs(base, mine, theirs).rig
    assert sorted(v.name for v in found.versions.values()) == ["Issue 1", "To the house"]
