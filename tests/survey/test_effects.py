"""What an edit does to others, on rigs whose right answer was reckoned by hand."""

from __future__ import annotations

from typing import get_args

import pytest
from msgspec.structs import replace

from tests.conftest import node_model
from welvo.checks.checker import Checker
from welvo.checks.foresee import Foreseen, Foreseer, foresee_once
from welvo.formats.chart import read_chart
from welvo.patch.index import Index
from welvo.patch.mode_edits import change_mode
from welvo.patch.table import change_cells
from welvo.rig import edits
from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.patched import Element, Fixture, Place, Share
from welvo.rig.profile import Profile
from welvo.rig.refs import PortRef
from welvo.rig.runs import Segment
from welvo.rig.wiring import Device, Feed, Port, Sender, Universe
from welvo.runs.edits import change_segment, set_pixels
from welvo.survey.effect_words import _WORDS, line_of_effect, say_strip
from welvo.survey.effects import Effect, EffectKind, effects_between


def rig_of_runs() -> Rig:
    """A string of 10 RGB pixels, then a bridge of 24 slots with lamps 301 (8 slots) and 302 (8), then lamp 303 alone.

    All on port 1 from 1.001 on: the string takes 1 to 30, the bridge 31 to 54: 301 at 31, 302 at 39.
    """
    modes = {"m": read_chart("8 x (dimmer)").mode_of_chart("eight"), "w": read_chart("gap 20").mode_of_chart("twenty")}
    lamp = lambda n, at: Fixture(number=n, profile="p", mode="m", at=(at,))  # noqa: E731
    return Rig(
        profiles={"p": Profile(name="Lamp", modes=modes)},
        universes={f"u{n}": Universe(number=n) for n in (1, 2)},
        senders={"s": Sender(name="Desk")},
        feeds={f"w{n}": Feed(universe=f"u{n}", sender="s", protocol="sacn", wire=n) for n in (1, 2)},
        fixtures={
            "a": lamp(301, Place(from_run=True)), "b": lamp(302, Place(from_run=True)),
            "c": lamp(303, Place(universe="u1", address=60)), "d": lamp(304, Place(after="c", gap=2)),
        },
        elements={"e": Element(name="string", pixels=10, at=Place(from_run=True))},
        device_models={"m": replace(node_model(), kind="pixel", ports=("1", "2"))},
        devices={
            "n": Device(
                name="BOX", model="m",
                ports={"1": Port(feed="w1", run=(Segment(kind="pixels", element="e"),
                                                 Segment(kind="bridge", width=24, fixtures=("a", "b"))))},
            )
        },
    )  # fmt: skip


def foreseen(rig: Rig, edit: Edit) -> Foreseen:
    """By both ways, which must say the same."""
    once, followed = foresee_once(rig, edit), Foreseer().foresee(Checker(Index(rig)), edit)
    assert (once.effects, once.comes, once.goes) == (followed.effects, followed.comes, followed.goes)
    return followed


def said(found: Foreseen, *kinds: EffectKind) -> list[tuple[str, str, str]]:
    return [(e.who, e.was_at, e.is_at) for e in found.effects if e.kind in kinds]


def test_a_longer_string_moves_every_lamp_behind_its_bridge_to_a_place_of_its_own() -> None:
    rig = rig_of_runs()
    found = foreseen(rig, set_pixels(rig, "e", "longer", pixels=11))
    assert said(found, "moves") == [
        ("301", "1.031–038", "1.034–041"),
        ("302", "1.039–046", "1.042–049"),
    ]
    assert said(found, "slots") == [("string", "1.001–030", "1.001–033")]
    assert [(e.kind, e.own) for e in found.effects] == [("moves", False), ("moves", False), ("slots", True)]
    assert found.strip == "2 move: 301 from 1.031 to 1.034, 302 from 1.039 to 1.042."
    assert not said(found, "set")  # behind the bridge they keep their addresses 1 and 9


def test_a_string_that_grows_into_somebody_meets_him_and_is_told_by_how_much() -> None:
    rig = rig_of_runs()
    found = foreseen(rig, set_pixels(rig, "e", "longer", pixels=18))  # the bridge ends at 78 then
    meets = [(e.who, e.with_whom, e.slots, e.is_at) for e in found.effects if e.kind == "meets"]
    assert meets == [
        ("301", "303", 3, "1.060–062"),
        ("302", "303", 5, "1.063–067"),
        ("302", "304", 1, "1.070–070"),
        ("304", "bridge 24 on port 1 of BOX", 7, "1.071–077"),
    ]
    assert found.strip == (
        "4 pairs meet: 301 and 303 at 1.060 (3 slots), 302 and 303 at 1.063 (5 slots) and 2 more; "
        "2 move: 301 from 1.031 to 1.055, 302 from 1.039 to 1.063."
    )


def test_a_narrower_bridge_says_which_lamp_falls_off() -> None:
    rig = rig_of_runs()
    found = foreseen(rig, change_segment(rig, "n", "1", 1, "width", width=12))
    assert [(e.who, e.slots, e.end) for e in found.effects if e.kind == "past"] == [("302", 4, "bridge")]
    assert found.strip.startswith("1 runs past an end: 302 by 4 slots (the bridge on port 1 of BOX).")
    assert [e.who for e in found.harms] == ["302"]


def test_another_mode_moves_the_follower_and_pushes_it_past_the_end() -> None:
    rig = rig_of_runs()
    high = replace(rig.fixtures["c"], at=(Place(universe="u1", address=490),))
    rig, _ = put_entries(rig, "", fixtures={"c": high})
    found = foreseen(rig, change_mode(rig, ["c"], "p", "w"))  # 490 to 509, and 304 stands at 512 to 519 then
    assert said(found, "moves") == [("304", "1.500–507", "1.512–519")]
    assert said(found, "slots") == [("303", "1.490–497", "1.490–509")]
    (past,) = [e for e in found.effects if e.kind == "past"]
    assert (past.who, past.slots, past.with_whom, past.own) == ("304", 7, "universe 1", False)
    assert found.strip.startswith("1 runs past an end: 304 by 7 slots (universe 1); 1 moves: 304 from 1.500")
    assert [e.who for e in found.harms] == ["304"]


def test_another_size_shifts_running_numbers_of_every_universe_behind_it() -> None:
    rig = rig_of_runs()
    found = foreseen(rig, edits.set_universe(rig, "u1", "size", size=500))
    assert said(found, "running") == [("2", "513", "501")]
    assert found.strip == (
        "1 universe gets other running numbers: universe 2 from 513 to 501. "
        "1 warning more: Desk uses 512 slots of universe 1, the plan 500."
    )


def test_octets_of_a_stream_shift_behind_a_shorter_universe() -> None:
    rig = rig_of_runs()
    feeds = {f"o{n}": Feed(universe=f"u{n}", sender="s", protocol="ddp", wire=1, to="127.0.0.9") for n in (1, 2)}
    block = Element(name="block", kind="block", slots=4, at=Place(universe="u2", address=1))
    rig, _ = put_entries(rig, "", feeds=feeds, elements={"k": block})
    found = foreseen(rig, edits.set_universe(rig, "u1", "size", size=500))
    (octet,) = [e for e in found.effects if e.kind == "octet"]
    assert (octet.who, octet.was, octet.becomes) == ("block", "512", "500")


def test_a_share_that_comes_apart_is_told() -> None:
    rig = rig_of_runs()
    twin = replace(rig.fixtures["c"], number=305)
    rig, _ = put_entries(rig, "", fixtures={"t": twin}, shares={"h": Share(members=("c", "t"))})
    moved = put_entries(rig, "move", fixtures={"t": replace(twin, at=(Place(universe="u1", address=61),))})
    found = foreseen(rig, moved)
    assert [(e.who, e.with_whom) for e in found.effects if e.kind == "share"] == [("303", "305")]
    assert [(e.who, e.with_whom, e.slots) for e in found.effects if e.kind == "meets"] == [("303", "305", 7)]


def test_a_lock_that_would_not_hold_is_told() -> None:
    rig = rig_of_runs()
    locked = replace(rig.fixtures["d"], at=(replace(rig.fixtures["d"].at[0], locked=True),))
    rig, _ = put_entries(rig, "", fixtures={"d": locked})
    found = foreseen(rig, change_cells(Index(rig), ["c"], "first", "+10"))
    assert [e.who for e in found.effects if e.kind == "lock"] == ["304"] and "304" in found.strip


def test_universes_made_fed_and_emptied() -> None:
    rig = rig_of_runs()
    made = foreseen(rig, edits.add_universe(rig, 7))
    assert [(e.kind, e.who, e.own) for e in made.effects if e.kind == "universe made"] == [("universe made", "7", True)]
    fed = foreseen(rig, edits.set_feed(rig, "w2", "wire", wire=9))
    assert said(fed, "universe fed") == [
        ("2", "sACN 2 to multicast", "sACN 9 to multicast")
    ] and not fed.strip.startswith("1 universe")
    gone = foreseen(rig, put_entries(rig, "", elements={"e": None}, fixtures=dict.fromkeys("abcd"),
                                     devices={"n": replace(rig.devices["n"], ports={})}))  # fmt: skip
    assert [e.who for e in gone.effects if e.kind == "universe emptied"] == ["1"]
    assert {e.kind for e in gone.effects} >= {"gone"} and "1 universe is emptied: 1" in gone.strip


def test_nobody_touched_makes_no_strip() -> None:
    rig = rig_of_runs()
    found = foreseen(rig, put_entries(rig, "name", fixtures={"c": replace(rig.fixtures["c"], name="left")}))
    assert found.effects == () and found.strip == "" and found.lines == []


def test_findings_that_come_and_go_stand_in_the_list() -> None:
    rig = rig_of_runs()
    edit = put_entries(rig, "", fixtures={"c": replace(rig.fixtures["c"], at=(Place(universe="u1", address=45),))})
    found = foreseen(rig, edit)
    assert [f.code for f in found.comes if f.severity == "error"] == ["PATCH-01", "PATCH-01"]
    assert "error" not in found.strip  # who meets whom is told already
    back = foreseen(edit[0], put_entries(edit[0], "", fixtures={"c": rig.fixtures["c"]}))
    assert {(f.code, f.subject) for f in back.goes} == {(f.code, f.subject) for f in found.comes}
    assert len(found.lines) == len(found.effects) + len(found.comes) + len(found.goes)


@pytest.mark.parametrize("kind", get_args(EffectKind))
def test_every_kind_has_its_words_in_the_strip_and_in_the_list(kind: EffectKind) -> None:
    places = ((3, 1, 8),)
    e = Effect(kind, "k", "304", before=places, after=places, slots=3, with_whom="305", was="12", becomes="14")
    assert kind in _WORDS and all(isinstance(w, str) for w in line_of_effect(e))
    counted, one = _WORDS[kind]
    assert counted(1) != counted(2) and one(e)


def test_the_sentence_names_two_and_counts_the_rest_of_the_list() -> None:
    moves = [Effect("moves", f"f{n}", str(n), before=((1, n, n),), after=((2, n, n),)) for n in range(1, 8)]
    assert say_strip(moves) == "7 move: 1 from 1.001 to 2.001, 2 from 1.002 to 2.002 and 5 more."
    assert say_strip([replace(moves[0], own=True)]) == ""


def test_asking_many_times_gives_what_asking_anew_gives() -> None:
    """The own index goes from one question to the next, and the rig changes under it in between."""
    rig, foreseer = rig_of_runs(), Foreseer()
    for pixels in (11, 12, 3, 40, 10):
        edit = set_pixels(rig, "e", "", pixels=pixels)
        assert foreseer.foresee(Checker(Index(rig)), edit).effects == foresee_once(rig, edit).effects
        if pixels in (12, 40):
            rig = edit[0]
    again = effects_between(Index(rig), Index(rig), edits.add_universe(rig, 9)[1])
    assert again == ()


def test_ports_are_told_past_what_they_put_out() -> None:
    rig = rig_of_runs()
    model = replace(rig.device_models["m"], stream_slots=60)
    rig, _ = put_entries(rig, "", device_models={"m": model})
    found = foreseen(rig, set_pixels(rig, "e", "", pixels=20))  # 60 slots and the bridge's 24 behind it
    assert [(e.who, e.slots) for e in found.effects if e.end == "port"] == [("port 1 of BOX", 24)]
    assert str(PortRef("n", "1")) in {e.key for e in found.effects}
