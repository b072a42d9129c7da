from __future__ import annotations

import pytest
from msgspec.structs import replace

from welvo.observed.values import NOTHING, Heard, HeardPort, Observed
from welvo.patch.index import Index
from welvo.patch.slot_words import slot_word, words_on
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Place
from welvo.rig.wiring import Feed
from welvo.survey.path import Light, path_to_target
from welvo.survey.place_ways import place_ways
from welvo.survey.target import find_target


def seen(wire_a: int = 1, protocol: str = "sacn") -> Observed:
    ports = (HeardPort(1, 0, True, protocol, wire_a), HeardPort(2, 0, True, "artnet", 2))  # type: ignore[arg-type]
    return Observed(heard={"127.0.0.60": Heard("127.0.0.60", "NODE", ports=ports, at=100.0)}, listening=True)


def test_targets_in_every_writing(rig: Rig) -> None:
    index = Index(rig)
    assert (
        find_target(index, "102").key == "b"
        and find_target(index, "1.9").key == "b"
        and find_target(index, "RIBBON").key == "e"
    )
    pixel = find_target(index, "ribbon/4")
    assert (pixel.universe, pixel.address, pixel.label) == ("u2", 110, "ribbon/4")  # 101 + 3 · 3
    assert find_target(index, "1.400").key == ""
    for bad, says in (
        ("999", "no fixture 999"),
        ("5.1", "no universe 5"),
        ("ribbon/11", "no pixel 11"),
        ("wall/1", "no element"),
        ("?", "is no fixture number"),
    ):
        with pytest.raises(Refused, match=says):
            find_target(index, bad)


def test_words_for_slots(rig: Rig) -> None:
    index = Index(rig)
    head, bar, ribbon = index.spans_of("a")[0], index.spans_of("c")[0], index.spans_of("e")[0]
    assert slot_word(index, head, 2) == "pan, byte 2 of 2" and slot_word(index, head, 5) == "dimmer"
    assert slot_word(index, bar, 3) == "red of pixel 1" and slot_word(index, ribbon, 105) == "G of pixel 2"
    assert words_on(index, head, 1, 5) == ["pan", "tilt", "dimmer"]


def test_every_way_of_saying_a_place(rig: Rig) -> None:
    index = Index(rig)
    ways = dict(path_to_target(index, NOTHING, find_target(index, "201"), 0.0).ways)
    assert ways["Universe.address"] == "2.001" and ways["Running in the rig"] == "513"
    assert (
        ways["Running in device"] == "513"
        and ways["Art-Net net/sub/uni"] == "0/0/2"
        and ways["Hexadecimal"] == "0x0002"
    )


def test_a_path_that_agrees_from_end_to_end(rig: Rig) -> None:
    index = Index(rig)
    chain = path_to_target(index, seen(), find_target(index, "102"), 101.0, Light("Dim 255", True, "port gives 255"))
    assert [h.role for h in chain.hops] == ["level", "universe", "feed", "device", "port", "line", "lamp"]
    assert [h.value for h in chain.hops] == ["Dim 255", "1.009", "sACN 1", "NODE", "A", "2nd on A", "9"]
    assert [j.mark for j in chain.joints] == ["matches", "matches", "matches", "matches", "claimed", "matches"]


def test_the_joint_that_differs_says_both_sides_and_the_rest_only_suffers(rig: Rig) -> None:
    index = Index(rig)
    chain = path_to_target(
        index, seen(wire_a=2), find_target(index, "101"), 101.0, Light(armed=True, lamp="port gives 0")
    )
    port = chain.joints[3]
    assert (port.mark, port.sends, port.takes) == ("differs", "sends 1", "takes 2")
    assert "differs" not in [j.mark for j in chain.joints[4:]] and chain.joints[-1].mark == "upstream"
    other = path_to_target(index, seen(protocol="artnet"), find_target(index, "101"), 101.0)
    assert (other.joints[3].sends, other.joints[3].takes) == ("sends sACN 1", "takes Art 0/0/1")


def test_what_nobody_has_said_is_not_known(rig: Rig) -> None:
    index = Index(rig)
    for observed, now in ((NOTHING, 0.0), (seen(), 120.0)):  # never heard; silent for longer than ten seconds
        chain = path_to_target(index, observed, find_target(index, "101"), now)
        assert chain.joints[2].mark == "unknown" and chain.joints[3].mark == "unknown"


def test_paths_that_end_early_say_where(rig: Rig) -> None:
    unpatched, _ = edits.set_fixtures(rig, "", {"a": {"at": ()}})
    assert (
        path_to_target(Index(unpatched), NOTHING, find_target(Index(unpatched), "101"), 0.0).hops[-1].value
        == "not patched"
    )
    unfed, _ = edits.remove_feed(rig, "w1")
    assert path_to_target(Index(unfed), NOTHING, find_target(Index(unfed), "101"), 0.0).hops[-1].value == "no feed"
    off, _ = edits.set_port(rig, "d", "B", "", feed="")
    assert path_to_target(Index(off), NOTHING, find_target(Index(off), "201"), 0.0).hops[-1].value == "none"


def test_a_feed_to_another_address_never_reaches_the_box(rig: Rig) -> None:
    away, _ = edits.set_feed(rig, "w1", "", to="127.0.0.99")
    joint = path_to_target(Index(away), seen(), find_target(Index(away), "101"), 101.0).joints[2]
    assert (joint.mark, joint.sends, joint.takes) == ("differs", "to 127.0.0.99", "127.0.0.60")


@pytest.mark.parametrize(
    "text, universe, address, key",
    [
        ("run 9", "u1", 9, "b"), ("run 513", "u2", 1, "c"), ("NODE run 514", "u2", 2, "c"), ("101:3", "u1", 3, "a"),
        ("201/2", "u2", 6, "c"), ("ribbon:4", "u2", 104, "e"),
    ]
)  # fmt: skip
def test_a_place_is_found_however_it_is_said(rig: Rig, text: str, universe: str, address: int, key: str) -> None:
    found = find_target(Index(rig), text)
    assert (found.universe, found.address, found.key) == (universe, address, key)


@pytest.mark.parametrize(
    "text, why",
    [
        ("run 0", "count from 1"), ("run 9999", "universe 20"), ("NODE run 5000", "2 ports"),
        ("NOBODY run 1", "no device"), ("101:99", "no slot 99"), ("201/9", "no pixel 9"),
        ("777:1", "no fixture or element"), ("777/1", "no fixture 777"),
    ]
)  # fmt: skip
def test_a_place_that_is_not_there_says_why(rig: Rig, text: str, why: str) -> None:
    with pytest.raises(Refused, match=why):
        find_target(Index(rig), text)


def test_a_slot_is_said_with_default_pixel_octet_and_whether_it_moves(rig: Rig) -> None:
    fed, _ = put_entries(
        rig, "", feeds={"w2": Feed(universe="u2", sender="s", protocol="ddp", wire=1, to="127.0.0.60", keeps=False)}
    )
    index = Index(fed)
    ways = dict(place_ways(index, find_target(index, "2.105")))
    assert ways["Pixel · component"] == "ribbon/2 · G, 2 of 3" and ways["Octet in the stream"] == "18 (from 0)"
    assert (
        ways["If one grows"] == "stays: typed"
        and dict(place_ways(index, find_target(index, "101")))["Default"] == "32768 of 65535"
    )
    chain = path_to_target(index, NOTHING, find_target(index, "ribbon/2"), 0.0)
    assert [(h.role, h.value) for h in chain.hops][2:4] == [("feed", "DDP 1"), ("device", "NODE")]
    behind, _ = put_entries(rig, "", fixtures={"b": replace(rig.fixtures["b"], at=(Place(after="a", gap=4),))})
    assert dict(place_ways(Index(behind), find_target(Index(behind), "102")))["If one grows"] == "moves: behind 101 + 4"
