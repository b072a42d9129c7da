from __future__ import annotations

import pytest
from msgspec.structs import replace

from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.history import History
from welvo.rig.layout import lay_out_ring, lay_out_row, lay_out_rows, two_rings
from welvo.rig.lookup import bench_sender, code_for, lowest_free_tint, name_of_item
from welvo.rig.patched import Place, Share
from welvo.rig.plan import planned_settings, port_of_fixture, say_setting
from welvo.rig.profile import Profile


def test_an_edit_gives_a_new_rig_and_leaves_the_old_one(rig: Rig) -> None:
    new, change = edits.move_item(rig, "a", 0, "u2", 200)
    assert rig.fixtures["a"].at[0].address == 1 and new.fixtures["a"].at[0].address == 200
    assert change.label == "move 101 to 2.200" and change.changed_ids("fixtures") == {"a"}
    assert new.fixtures["b"] is rig.fixtures["b"]  # what did not change is shared


def test_a_locked_place_is_moved_by_nobody(rig: Rig) -> None:
    locked, _ = put_entries(
        rig, "", fixtures={"a": replace(rig.fixtures["a"], at=(Place(universe="u1", address=1, locked=True),))}
    )
    with pytest.raises(Refused, match="101 is locked"):
        edits.move_item(locked, "a", 0, "u1", 50)


def test_taking_something_out_takes_it_out_of_shares_and_cables_too(rig: Rig) -> None:
    shared, _ = put_entries(rig, "", shares={"x": Share(members=("a", "b", "c")), "y": Share(members=("a", "b"))})
    new, _ = edits.take_out_items(shared, ["a", "e"])
    assert "a" not in new.fixtures and "e" not in new.elements
    assert new.shares["x"].members == ("b", "c") and "y" not in new.shares
    assert new.devices["d"].ports["A"].run[0].fixtures == ("b",)


def test_removing_a_universe_unpatches_and_unfeeds(rig: Rig) -> None:
    new, _ = edits.remove_universe(rig, "u1")
    assert "u1" not in new.universes and "w1" not in new.feeds
    assert (
        new.fixtures["a"].place_of_break(0).origin_of_place == "none"
        and new.fixtures["c"].place_of_break(0).origin_of_place == "typed"
    )
    assert new.devices["d"].ports["A"].feed == ""


def test_universes_have_numbers_of_their_own(rig: Rig) -> None:
    assert edits.add_universe(rig)[0].universes[edits.add_universe(rig)[1].made[0]].number == 3
    for number, says in ((1, "already"), (0, "run from 1 to 63999"), (64000, "run from 1 to 63999")):
        with pytest.raises(Refused, match=says):
            edits.add_universe(rig, number)
    with pytest.raises(Refused, match="already"):
        edits.set_universe(rig, "u1", "", number=2)


@pytest.mark.parametrize(
    ("fields", "says"),
    [
        ({"wire": 0}, "no sACN universe 0"), ({"wire": 64000}, "no sACN universe"),
        ({"to": "broadcast"}, "cannot be sent"), ({"to": "10.0.40"}, "3 parts"), (
            {"to": "0.0.0.0"}, "no address yet"
        ), ({"protocol": "artnet", "wire": 40000}, "32767"),
    ],
)  # fmt: skip
def test_feeds_that_no_wire_can_carry_are_refused(rig: Rig, fields: dict[str, object], says: str) -> None:
    with pytest.raises(Refused, match=says):
        edits.set_feed(rig, "w1", "", **fields)


def test_changing_the_protocol_changes_the_destination_that_would_not_fit(rig: Rig) -> None:
    assert edits.set_feed(rig, "w1", "", protocol="artnet")[0].feeds["w1"].to == "subscribers"
    assert edits.set_feed(rig, "w2", "", protocol="sacn")[0].feeds["w2"].to == "multicast"
    one = edits.set_feed(rig, "w1", "", to="127.0.0.5")[0]
    assert edits.set_feed(one, "w1", "", protocol="artnet")[0].feeds["w1"].to == "127.0.0.5"


def test_a_first_feed_makes_the_bench_a_sender() -> None:
    rig, change = edits.add_universe(Rig())
    uid = change.made[0]
    rig, change = edits.add_feed(rig, uid)
    fid = change.made[0]
    assert rig.senders[bench_sender(rig)].kind == "bench" and rig.feeds[fid].wire == 1
    assert change.changed_ids("senders") and change.changed_ids("feeds") == {fid}


def test_profiles_get_the_lowest_free_tint_and_a_code_of_their_own(rig: Rig) -> None:
    assert lowest_free_tint(rig) == 3
    new, change = edits.add_profile(rig, Profile(name="Headlight", modes=rig.profiles["head"].modes))
    pid = change.made[0]
    assert new.profiles[pid].tint == 3 and new.profiles[pid].code not in ("HEA", "BAR", "RIB")
    assert code_for(rig, "Zeta") == "ZET"
    with pytest.raises(Refused, match="2 fixtures"):
        edits.remove_profile(rig, "head")


def test_a_ports_universe_is_planned_at_its_feed_and_nowhere_else(rig: Rig) -> None:
    assert planned_settings(rig, "d") == {
        "ip": "127.0.0.60",
        "A.protocol": "sacn",
        "A.universe": 1,
        "B.protocol": "artnet",
        "B.universe": 2,
    }
    new, _ = edits.plan_setting(rig, "d", "A.universe", 7)
    assert new.feeds["w1"].wire == 7 and planned_settings(new, "d")["A.universe"] == 7
    both, _ = edits.set_port(rig, "d", "B", "", feed="w1")
    assert edits.who_else(both, "d", "A") == ["NODE B"]
    free, _ = edits.set_port(rig, "d", "A", "", feed="")
    with pytest.raises(Refused, match="takes no feed"):
        edits.plan_setting(free, "d", "A.universe", 3)


def test_other_settings_are_kept_in_the_device(rig: Rig) -> None:
    new, _ = edits.plan_setting(rig, "d", "A.merge", "latest")
    assert planned_settings(new, "d")["A.merge"] == "latest"
    assert "A.merge" not in planned_settings(edits.plan_setting(new, "d", "A.merge", None)[0], "d")
    named, _ = edits.plan_setting(rig, "d", "name", "STAGE")
    assert named.devices["d"].name == "STAGE"
    with pytest.raises(Refused, match="parts"):
        edits.plan_setting(rig, "d", "ip", "1.2.3")
    assert say_setting(rig.device_models["mod"].spec_of_setting("universe"), 3, "artnet") == "0/0/3"


def test_waivers_need_a_reason_and_can_be_woken(rig: Rig) -> None:
    with pytest.raises(Refused, match="reason"):
        edits.waive_finding(rig, "FEED-07", "w1", "", "  ")
    waived, _ = edits.waive_finding(rig, "FEED-07", "w1", "x=1", "spare line")
    assert len(waived.waivers) == 1 and not edits.end_waiver(waived, "FEED-07", "w1")[0].waivers


def test_where_a_fixture_hangs(rig: Rig) -> None:
    assert port_of_fixture(rig, "b") == ("d", "A", 2) and port_of_fixture(rig, "c") is None
    assert name_of_item(rig, "a") == "101" and name_of_item(rig, "e") == "ribbon"


def test_history_goes_back_and_forth_and_knows_what_is_saved(rig: Rig) -> None:
    history = History(rig, depth=2)
    for n in (20, 30, 40):
        history.push_change(*edits.move_item(history.rig, "a", 0, "u1", n))
    assert history.has_unsaved_edits and history.undo_label == "move 101 to 1.040"
    assert history.undo_edit() and history.undo_edit() and history.undo_edit() is None  # only two are kept
    assert history.rig.fixtures["a"].at[0].address == 20
    assert history.redo_edit() and history.rig.fixtures["a"].at[0].address == 30
    history.push_change(*edits.move_item(history.rig, "b", 0, "u1", 60))
    assert history.redo_edit() is None
    history.saved = history.rig
    assert not history.has_unsaved_edits and history.undo_edit() and history.has_unsaved_edits


def test_layouts_put_every_pixel_somewhere_of_its_own() -> None:
    for spots in (lay_out_row(14), lay_out_rows(14, 3), lay_out_ring(14), two_rings(14)):
        assert len({(round(s.x, 3), round(s.y, 3)) for s in spots}) == 14
    assert [(s.x, s.y) for s in lay_out_rows(6, 2)] == [(0, 0), (1, 0), (2, 0), (0, 1), (1, 1), (2, 1)]
    assert [(s.x, s.y) for s in lay_out_rows(6, 2, serpentine=True)][3:] == [(2, 1), (1, 1), (0, 1)]
    assert (lay_out_ring(4)[0].x, round(lay_out_ring(4)[0].y, 3)) == (0.0, -0.707)
    assert len(two_rings(14)) == 14
