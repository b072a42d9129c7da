"""Responders beside the plan: pairing, the order of setting, taking back, what a lamp tells of itself."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import small_rig
from welvo.checks.checker import Checker, check_rig
from welvo.demo.gallery import make_gallery
from welvo.matching.lamps import (
    address_by_rdm,
    against_profile,
    bind_all,
    bind_responder,
    draft_profile,
    lamp_lines,
    mode_for,
    order_of_moves,
    pair_responders,
    personality_for,
    port_lamps,
    ports_with_lamps,
    searched_ports,
    take_addresses,
    unbind_responder,
)
from welvo.observed.values import Lamp, Observed
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.refs import Goto, PortRef
from welvo.rig.wiring import Device, DeviceModel, Feed, Port
from welvo.survey.path import Light, path_to_target
from welvo.survey.target import of_item

HEAD, BAR = (1, 8, "only"), (1, 14, "only")


def lamp(uid: int, address: int, name: str = "Head", slots: int = 8, label: str = "", **more: object) -> Lamp:
    return Lamp(uid, 1, footprint=slots, personality=1, personalities=1, address=address, label=label, model_name=name,
                names=((1, slots, "only"),), **more)  # type: ignore[arg-type]  # fmt: skip


def test_responders_are_paired_by_what_they_say_with_the_doubt_said() -> None:
    index = Index(small_rig())
    found = pair_responders(index, ["a", "b", "c"], [lamp(5, 9), lamp(6, 1, "Bar", 14), lamp(7, 300, "Eel", 3)])
    by_uid = {p.lamp.uid: p for p in found if p.lamp}
    assert (by_uid[5].fixture, by_uid[5].why) == ("b", "by its model, address and footprint") and not by_uid[5].sure
    assert by_uid[6].fixture == "c" and not by_uid[7].fixture
    assert [p.fixture for p in found if p.lamp is None] == ["a"]
    twins = pair_responders(index, ["a", "b"], [lamp(5, 300), lamp(6, 300)])
    assert "other would do as well" in twins[0].why and {p.fixture for p in twins} == {"a", "b"}
    named = pair_responders(index, ["a", "b"], [lamp(5, 1, label="102 Right"), lamp(6, 1, label="101")])
    assert {p.lamp.uid: p.fixture for p in named if p.lamp} == {5: "b", 6: "a"}


def test_a_uid_that_is_known_is_sure_and_moves_with_the_fixture() -> None:
    rig, change = bind_responder(small_rig(), "b", 0x7FF000000005)
    assert change.label == "102 is 7FF0:00000005" and rig.fixtures["b"].uid == "7FF0:00000005"
    found = pair_responders(Index(rig), ["a", "b"], [lamp(0x7FF000000005, 1), lamp(6, 9)])
    assert [(p.fixture, p.sure) for p in found] == [("a", False), ("b", True)]  # along the cable
    again, _ = bind_responder(rig, "a", 0x7FF000000005)
    assert again.fixtures["b"].uid == "" and unbind_responder(again, "a")[0].fixtures["a"].uid == ""
    with pytest.raises(Refused):
        edits.set_fixtures(rig, "x", {"a": {"uid": "nonsense"}})
    all_, _ = bind_all(small_rig(), pair_responders(Index(small_rig()), ["a"], [lamp(9, 1)]))
    assert all_.fixtures["a"].uid == "0000:00000009"
    with pytest.raises(Refused, match="no guess"):
        bind_all(all_, pair_responders(Index(all_), ["a"], [lamp(9, 1)]))


def test_plan_and_reported_stand_side_by_side() -> None:
    index = Index(small_rig())
    said = {x.key: (x.plan, x.reported, x.mark) for x in lamp_lines(index, "b", lamp(5, 17, label="102 Right"))}
    assert said == {
        "address": ("009", "017", "differs"), "personality": ("only (8)", "only (8)", "matches"),
        "label": ("102 Right", "102 Right", "matches"),
    }  # fmt: skip
    other = replace(lamp(5, 9, slots=16), names=((1, 8, "short"), (2, 16, "long")), personality=2, footprint=16)
    assert lamp_lines(index, "b", other)[1].mark == "differs"
    mode = index.rig.profiles["head"].modes["m"]
    assert personality_for(mode, other) == 1 and mode_for(index.rig.profiles["head"], lamp(5, 1)) == "m"
    assert personality_for(mode, replace(other, names=((1, 8, "a"), (2, 8, "b")), personality=2)) == 2


def test_addresses_of_lamps_are_taken_into_the_plan() -> None:
    rig = small_rig()
    index = Index(rig)
    found = pair_responders(index, ["a", "b"], [lamp(5, 1), lamp(6, 100, label="102")])
    moved, change = take_addresses(index, found)
    assert moved.fixtures["b"].at[0].address == 100 and change.label == "take 1 address from lamps"
    with pytest.raises(Refused, match="Every lamp has"):
        take_addresses(Index(moved), pair_responders(Index(moved), ["a", "b"], [lamp(5, 1), lamp(6, 100, label="102")]))
    locked, _ = edits.lock_items(rig, ["b"], True)
    with pytest.raises(Refused, match="102 is locked"):
        take_addresses(Index(locked), pair_responders(Index(locked), ["a", "b"], [lamp(6, 100, label="102")]))
    hall = Index(make_gallery())
    behind = [replace(lamp(1, 99, "Lagoon flood"), label="531 Lagoon, sill 1")]
    with pytest.raises(Refused, match="from its cable"):
        take_addresses(hall, pair_responders(hall, ["f531"], behind))


@given(st.lists(st.tuples(st.integers(1, 60), st.integers(1, 60)), min_size=1, max_size=16), st.integers(1, 12))
def test_no_two_lamps_meet_on_the_way_where_that_can_be_avoided(places: list[tuple[int, int]], width: int) -> None:
    """Whatever the start, what was one lamp alone on an address never gets another one beside it, unless two are wanted
    there in the end."""
    lamps = [lamp(n, a, slots=width) for n, (a, _) in enumerate(places)]
    wanted = {n: b for n, (_, b) in enumerate(places)}
    at = {x.uid: x.address for x in lamps}
    for move in order_of_moves(lamps, wanted):
        others = [a for u, a in at.items() if u != move.uid]
        if move.address in others:
            stays = [u for u, a in at.items() if a == move.address and u != move.uid]
            assert all(wanted[u] == move.address for u in stays)  # planned to share, not met on the way
        at[move.uid] = move.address
    assert at == wanted


def test_twelve_at_one_and_two_that_change_places() -> None:
    lamps = [lamp(n, 1) for n in range(12)]
    moves = order_of_moves(lamps, {n: 1 + 8 * n for n in range(12)})
    assert len(moves) == 11 and not any(m.parks for m in moves)
    moves = order_of_moves([lamp(1, 10), lamp(2, 20)], {1: 20, 2: 10})
    assert [(m.uid, m.parks) for m in moves] == [(1, True), (2, False), (1, False)] and moves[0].address == 505


def test_what_a_lamp_tells_is_held_against_the_profile_and_drafted() -> None:
    index = Index(small_rig())
    head = index.rig.profiles["head"]
    slots = ((0, 0, 0x0101, "Pan"), (1, 1, 0, ""), (2, 0, 0x0102, "Tilt"), (3, 1, 2, ""), (4, 0, 0x0205, "Red"),
             (9, 0, 0xFFFF, "Fan"))  # fmt: skip
    told = replace(lamp(5, 1), slots=slots, names=((1, 8, "only"), (2, 30, "pixels")), maker="Osmer")
    assert against_profile(head, told) == [
        "The profile lacks its personality 2, pixels, of 30 slots.",
        "Slot 5 is Dimmer here, the lamp says Red.",
        "Slot 10 is Fan there, and nothing here.",
    ]
    assert "has 8 slots here, the lamp says 9" in against_profile(head, replace(told, names=((1, 9, "only"),)))[0]
    made = draft_profile(told)
    mode = made.modes["m1"]
    assert (made.name, made.maker, mode.slots_needed, made.modes["m2"].slots_needed) == ("Head", "Osmer", 10, 30)
    assert [(c.function, c.slots, c.name) for c in mode.channels] == [
        ("Pan", (1, 2), ""), ("Tilt", (3, 4), ""), ("ColorAdd_R", (5,), ""), ("", (10,), "Fan"),
    ]  # fmt: skip
    rig, _ = edits.add_profile(small_rig(), made)
    assert any(p.name == "Head" and p.notes.startswith("Drafted") for p in rig.profiles.values())


def test_which_ports_have_lamps_and_where_they_are_reached() -> None:
    rig = make_gallery()
    index = Index(rig)
    ports = ports_with_lamps(index)
    weir = next(k for k, d in rig.devices.items() if d.name == "WEIR-2")
    assert PortRef(weir, "A") in ports and len(port_lamps(index, weir, "A")) == 12
    sluice = next(k for k, d in rig.devices.items() if d.name == "SLUICE-N")
    first = next(iter(rig.devices[sluice].ports))
    assert [rig.fixtures[k].number for k in port_lamps(index, sluice, first)] == list(range(101, 113))
    assert address_by_rdm(rig, Observed(), weir, "A") == ("127.0.0.21", 3)
    assert address_by_rdm(rig, Observed(), weir, "Z") is None


def test_the_lamps_hop_is_what_the_lamp_says() -> None:
    rig, _ = bind_responder(small_rig(), "b", 5)
    index = Index(rig)

    def last(*lamps: Lamp, seen: str = "") -> tuple[str, str, str, Goto]:
        observed = Observed(lamps={("127.0.0.60", 1): lamps})
        chain = path_to_target(index, observed, of_item(index, "b"), 1.0, Light(lamp=seen))
        return chain.hops[-1].fact, chain.joints[-1].mark, chain.joints[-1].takes, chain.hops[-1].goes_to

    there = Goto("lamps", "d", "A", 5)
    assert last(lamp(5, 9)) == ("says 009 itself", "matches", "", there)
    assert last(lamp(5, 17)) == ("says 017", "differs", "has 017", there)
    wide = replace(lamp(5, 9, slots=16), names=((1, 8, "only"), (2, 16, "long")), personality=2)
    assert last(wide) == ("says long (16)", "differs", "has long (16)", there)
    assert last(lamp(5, 9), seen="port gives 0")[0] == "port gives 0"
    assert last(Lamp(5, failed="silent"))[:2] == ("not read", "unknown") == last(lamp(6, 9))[:2]


def test_a_serial_line_of_this_computer_is_a_port_as_well() -> None:
    rig = small_rig()
    model = DeviceModel(name="Rush", kind="serial", ports=("DMX",))
    line = Feed(universe="u1", sender="s", protocol="serial", wire=7, to="")
    device = Device(name="RUSH", model="rush", ports={"DMX": Port(feed="w7")})
    node = replace(rig.devices["d"], ports={"A": Port(), "B": Port(feed="w2")})
    rig = replace(
        rig, device_models={**rig.device_models, "rush": model}, feeds={**rig.feeds, "w7": line},
        devices={"d": node, "r": device},
    )  # fmt: skip
    index = Index(rig)
    assert PortRef("r", "DMX") in ports_with_lamps(index) and port_lamps(index, "r", "DMX") == ["a", "b"]
    assert address_by_rdm(rig, Observed(), "r", "DMX") == ("line", 7)
    observed = Observed(lamps={("line", 7): (lamp(5, 1), lamp(6, 300))})
    assert searched_ports(rig, observed) == [PortRef("r", "DMX")]
    found = [f for f in check_rig(rig, observed).findings if f.code == "LAMP-01"]
    assert found[0].goes_to == Goto("lamps", "r", "DMX", 6) and found[0].where == "RUSH · DMX"
    checker = Checker(Index(rig))
    checker.take_observations(observed, 1.0)
    after, change = bind_responder(rig, "b", 5)
    checker.follow_edit(change, checker.context.index.follow_change(after, change))
    assert checker.report_findings == check_rig(after, observed, 1.0)
