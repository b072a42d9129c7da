"""Limits, capacity, traffic, streams, wires, swaps and blocks, with sums worked out by hand."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.conftest import at
from welvo.demo.gallery import make_gallery
from welvo.patch.adding import patch_series
from welvo.patch.arrange import (
    copy_items,
    make_copies,
    next_copy_name,
    numbers_from,
    renumber_universes,
    swap_items,
    swap_places,
)
from welvo.patch.index import Index
from welvo.patch.landing import foresee_landing
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import (
    add_feed,
    change_show,
    declare_overlay,
    lock_items,
    set_feed,
    set_port,
    set_show,
    set_universe,
    share_places,
)
from welvo.rig.patched import Element, Fixture, Place
from welvo.rig.wiring import Feed
from welvo.survey import capacity
from welvo.survey.octets import StreamTo, octet_feeds, stream_of
from welvo.survey.place_ways import place_ways
from welvo.survey.spreadsheet import Mapping, understand_table
from welvo.survey.target import of_item
from welvo.survey.traffic import dmx_rate, frame_octets, say_bits, traffic_of_rig
from welvo.survey.wires import wire_table


def test_a_port_told_to_put_out_96_slots_ends_the_universe_there(rig: Rig) -> None:
    short, _ = set_port(rig, "d", "A", "", settings={"slots": 96})
    index = Index(short)
    assert index.limit_of_universe("u1") == (96, "port A of NODE puts out 96") and index.limit_of_universe("u2") == (
        512,
        "",
    )
    assert index.free_slots("u1") == 96 - 16 and index.free_stretches("u1") == [(17, 96)]
    assert foresee_landing(index, "a", 0, "u1", 90).past_end == 1
    both, _ = set_port(short, "d", "B", "", feed="w1")  # a second port puts out all of it
    assert Index(both).limit_of_universe("u1").slots == 512


def test_capacity_counts_used_reserved_and_possible_exactly(rig: Rig) -> None:
    kept, _ = set_universe(rig, "u1", "", reserve=((10, 20), (501, 512)))
    rows = {r.name: r for r in capacity.universe_rows(Index(kept))}
    assert (rows["1 One"].used, rows["1 One"].reserved, rows["1 One"].free_slots) == (16, 4 + 12, 512 - 16 - 16)
    assert [(r.used, r.possible) for r in capacity.total_capacity(Index(rig))] == [(16 + 14 + 30, 1024), (2, 2), (2, 2)]
    assert [(r.unit, r.used, r.possible) for r in capacity.device_rows(Index(rig))] == [
        ("ports", 2, 2),
        ("universes", 2, 2),
    ]
    with pytest.raises(Refused, match="Nothing to trim"):
        capacity.trim_universes(Index(rig))
    empty, _ = put_entries(rig, "", fixtures={"a": None, "b": None})
    assert capacity.empty_universes(Index(empty)) == [("u1", "with its feed sACN 1, which port A of NODE takes")]
    trimmed, _ = capacity.trim_universes(Index(empty))
    assert (
        set(trimmed.universes) == {"u2"} and set(trimmed.feeds) == {"w2"} and trimmed.devices["d"].ports["A"].feed == ""
    )


def test_octets_on_the_cable() -> None:
    assert frame_octets("sacn", 512) == (1, 638 + 66) and frame_octets("artnet", 511) == (1, 18 + 512 + 66)
    assert (
        frame_octets("ddp", 1440) == (1, 1440 + 76)
        and frame_octets("ddp", 1441) == (2, 1441 + 152)
        and frame_octets("serial", 512) == (0, 0)
    )
    assert (
        round(dmx_rate(512), 1) == 44.1
        and round(dmx_rate(1)) == 831
        and say_bits(247_808) == "248 kbit/s"
        and say_bits(2e6) == "2.0 Mbit/s"
    )


def test_what_each_box_gets_by_unicast_multicast_and_broadcast(rig: Rig) -> None:
    one = 44 * 8 * (638 + 66)  # an sACN universe of 512 slots at 44 a second
    art = 44 * 8 * (18 + 512 + 66)
    found = traffic_of_rig(Index(rig))
    assert found.feeds["w1"].one.bits == one and found.feeds["w1"].how == "multicast"
    assert (found.feeds["w2"].copies, found.feeds["w2"].how) == (1, "unicast to 1") and found.total.bits == one + art
    box = found.devices["d"]
    assert (box.own.bits, box.multicast.bits, box.broadcast.bits, box.if_broadcast.bits) == (one + art, 0, 0, one + art)
    assert box.share_of_link == (one + art) / 100e6
    wide, _ = set_feed(rig, "w2", "", to="broadcast")
    away, _ = set_port(wide, "d", "A", "", feed="")
    box = traffic_of_rig(Index(away)).devices["d"]
    assert (box.own.bits, box.multicast.bits, box.broadcast.bits) == (0, one, art)
    used, change = change_show(rig, "", "", name="Matinee", universes_off=("u1",))
    key = change.made[0]
    assert set(traffic_of_rig(Index(set_show(used, key)[0])).feeds) == {"w2"}


def test_a_ddp_stream_with_and_without_running_numbers(rig: Rig) -> None:
    feeds = {f"x{n}": Feed(universe=f"u{n}", sender="s", protocol="ddp", wire=1, to="127.0.0.70") for n in (1, 2)}
    kept, _ = put_entries(rig, "", feeds=feeds)
    pieces, octets = stream_of(Index(kept), octet_feeds(Index(kept))[StreamTo("ddp", "127.0.0.70", 1)])
    assert octets == 1024 and {(p.key, p.offset, p.octets) for p in pieces} == {
        ("a", 0, 8),
        ("b", 8, 8),
        ("c", 512, 14),
        ("e", 612, 30),
    }
    dense, _ = put_entries(kept, "", feeds={k: replace(f, keeps=False) for k, f in feeds.items()})
    pieces, octets = stream_of(Index(dense), octet_feeds(Index(dense))[StreamTo("ddp", "127.0.0.70", 1)])
    assert octets == 60 and {(p.key, p.offset) for p in pieces} == {("a", 0), ("b", 8), ("c", 16), ("e", 30)}
    double, _ = declare_overlay(
        put_entries(dense, "", elements={"o": Element(name="over", pixels=2, order="RGB", at=at(1, 5)[0])})[0],
        ["a", "o"],
    )
    pieces, octets = stream_of(Index(double), octet_feeds(Index(double))[StreamTo("ddp", "127.0.0.70", 1)])
    assert octets == 60 and next(p for p in pieces if p.key == "o")[4:] == (
        4,
        6,
    )  # what lies on something takes no more octets
    assert (
        traffic_of_rig(Index(dense)).feeds["x1"].one.packets == 44
        and traffic_of_rig(Index(dense)).feeds["x2"].one.packets == 0
    )


def test_wire_numbers_in_all_countings_and_what_they_are_taken_for(rig: Rig) -> None:
    rows = {r.feed: r for r in wire_table(Index(rig))}
    assert (rows["w1"].from_zero, rows["w1"].from_one, rows["w1"].hexadecimal, rows["w1"].takers) == (
        "0",
        "1",
        "0x0001",
        "NODE A",
    )
    assert (rows["w2"].wire, rows["w2"].from_zero, rows["w2"].from_one, rows["w2"].shown) == (
        "Art 0/0/2",
        "2",
        "3",
        "3",
    )
    odd, change = add_feed(rig, "u2", "sacn", 1)
    fid = change.made[0]
    assert {r.feed: r.beware for r in wire_table(Index(odd))}[fid] == "universe 1 goes out under it too"
    off, _ = set_feed(rig, "w2", "", wire=1)
    assert {r.feed: r.beware for r in wire_table(Index(off))}["w2"] == "one less than universe 2's number"
    assert {r.feed: r.beware for r in wire_table(Index(off))}["w1"] == "Art-Net 0/0/1 is universe 2"


def test_swapping_copying_and_a_block_with_another_number(rig: Rig) -> None:
    index = Index(rig)
    swapped, change = swap_items(index, ("a", 0), ("c", 0))
    assert (swapped.fixtures["a"].at, swapped.fixtures["c"].at) == (
        at(2, 1),
        at(1, 1),
    ) and change.label == "swap 101 and 201"
    high, _ = put_entries(rig, "", fixtures={"a": replace(rig.fixtures["a"], at=at(1, 505))})
    with pytest.raises(Refused, match="201 would end past universe 1"):
        swap_places(Index(high), ("a", 0), ("c", 0))
    with pytest.raises(Refused, match="101 is locked"):
        swap_places(Index(lock_items(rig, ["a"], True)[0]), ("a", 0), ("b", 0))
    copied, change = copy_items(rig, ["a", "e"])
    made = list(change.made)
    assert (
        copied.fixtures[made[0]].number == 202
        and copied.fixtures[made[0]].at == ()
        and copied.elements[made[1]].name == "ribbon 2"
    )
    block, _, said = renumber_universes(rig, ["u1", "u2"], 11, True)
    assert [u.number for u in block.universes.values()] == [11, 12] and [f.wire for f in block.feeds.values()] == [
        11,
        12,
    ]
    assert ("its feed Art 0/0/2", "Art 0/0/2", "Art 0/0/12") in said and block.devices == rig.devices
    with pytest.raises(Refused, match="Universe 2 is there already"):
        renumber_universes(rig, ["u1"], 2, False)
    with pytest.raises(Refused, match="cannot go 2 lower|There is no sACN universe 0"):
        renumber_universes(
            put_entries(rig, "", universes={"u1": replace(rig.universes["u1"], number=3)})[0], ["u1"], 1, True
        )


def test_landings_of_elements_say_cuts_and_missing_universes(rig: Rig) -> None:
    dense, _ = put_entries(rig, "", elements={"e": replace(rig.elements["e"], pixels=200, whole=False)})
    index = Index(dense)
    land = foresee_landing(index, "e", 0, "u1", 101)  # 412 slots in universe 1 are 137 pixels and one slot
    assert land.cuts == (138,) and land.goes_on == 2 and {m[0] for m in land.meets} == {"c"} and not land.is_clean
    assert foresee_landing(index, "e", 0, "u2", 101).needs == 3
    assert foresee_landing(index, "a", 0, "u1", 9, frozenset({"b"})).meets == ()
    shared, _ = share_places(
        put_entries(rig, "", fixtures={"b": replace(rig.fixtures["b"], at=at(1, 1))})[0], ["a", "b"]
    )
    assert (
        foresee_landing(Index(shared), "a", 0, "u1", 1).meets == ()
        and foresee_landing(Index(shared), "a", 0, "u1", 3).meets
    )


def test_overlays_may_meet_in_any_way_and_shares_only_as_declared(rig: Rig) -> None:
    on, _ = put_entries(
        rig, "", fixtures={"z": Fixture(number=300, profile="bar", mode="m", at=(Place(universe="u1", address=5),))}
    )
    assert len(Index(on).clashes_in_universe("u1")) == 2
    laid, _ = declare_overlay(on, ["a", "z"])
    assert [(c.a.key, c.b.key) for c in Index(laid).clashes_in_universe("u1")] == [("z", "b")]


def test_names_of_copies_count_on(rig: Rig) -> None:
    assert next_copy_name("Kelp 4", {"Kelp 5"}) == "Kelp 6" and next_copy_name("Kelp 09", ()) == "Kelp 10"
    assert next_copy_name("wall", {"wall 2"}) == "wall 3"
    one, _ = put_entries(rig, "", fixtures={"a": replace(rig.fixtures["a"], name="Left 1")})
    (new, change), left = make_copies(Index(one), ["a"], 3)
    assert [new.fixtures[k].name for k in change.made] == ["Left 2", "Left 3", "Left 4"] and not left
    assert [Index(new).spans_of(k)[0].first for k in change.made] == [17, 25, 33]  # behind 102, which ends at 016
    small, _ = set_universe(one, "u1", "", size=30)
    none, _ = put_entries(
        small, "", universes={"u2": None}, feeds={"w2": None}, fixtures={"c": None}, elements={"e": None}
    )
    (_, change), left = make_copies(Index(none), ["a"], 3)
    assert len(change.made) == 3 and len(left) == 2  # 017–024 holds one more


def test_free_places_what_fits_and_names_what_is_left(rig: Rig) -> None:
    small, _ = set_universe(rig, "u1", "", size=32)
    few, _ = put_entries(
        small, "", universes={"u2": None}, feeds={"w2": None}, fixtures={"c": None}, elements={"e": None}
    )
    lamps = {f"n{n}": replace(rig.fixtures["a"], number=300 + n, at=()) for n in range(1, 4)}
    more, _ = put_entries(few, "", fixtures=lamps)
    new, change = patch_series(Index(more), [(k, 0) for k in lamps], "free")
    assert [Index(new).spans_of(k)[0].first for k in ("n1", "n2")] == [17, 25] and not Index(new).spans_of("n3")
    assert change.note == "2 of 3 found a place. Left: 303. Add a universe for them."
    with pytest.raises(Refused, match="No place is free for 303"):
        patch_series(Index(new), [("n3", 0)], "free")


def test_free_numbers_are_as_many_as_were_asked_for_and_go_around_the_taken() -> None:
    rig = make_gallery()
    assert numbers_from(rig, 101, 0) == [] and numbers_from(rig, 9001, 3) == [9001, 9002, 9003]
    found = numbers_from(rig, 117, 3)
    assert len(found) == 3 and not {f.number for f in rig.fixtures.values()} & set(found) and found == sorted(found)


def test_the_default_of_a_slot_is_said_where_a_channel_is_and_not_in_a_gap() -> None:
    rig = make_gallery()
    index = Index(rig)
    ways = dict(place_ways(index, of_item(index, "f207")))
    assert ways["Default"] == "32768 of 65535"  # pan of 16 bit rests in the middle
    element = next(k for k, e in rig.elements.items() if e.name == "ribbon")
    assert "Default" not in dict(place_ways(index, of_item(index, element)))


def test_a_row_that_is_shorter_than_its_headings_is_read_as_far_as_it_goes() -> None:
    rig = make_gallery()
    rows = [["No.", "Name", "Note"], ["207", "short"], ["208"]]
    pasted = understand_table(Index(rig), rows, Mapping(("number", "name", "note")))
    assert {r.who: r.state for r in pasted.rows} == {"207": "changed", "208": "same"}
    assert pasted.rig.fixtures["f207"].name == "short"
