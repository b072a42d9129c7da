"""Hanging by typing, moving, splitting, feeding: what is done, what is refused, and that nothing is lost."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.checks.run_examples import _lamps, cabled, px, reef
from tests.runs.test_sums import box, strip
from welvo.checks.checker import Checker, check_rig
from welvo.formats.models import shipped_models
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import add_device, remove_device
from welvo.rig.patched import Element, Place
from welvo.rig.refs import PortRef
from welvo.rig.runs import Segment
from welvo.runs.along import cable_order, part_name
from welvo.runs.cable import Cables
from welvo.runs.cut import cut_segments
from welvo.runs.edits import (
    add_supply,
    attach_segments,
    begin_and_make,
    begin_at,
    change_segment,
    fix_addresses,
    follow_runs,
    insert_at_pixel,
    insert_pixels,
    make_to_fit,
    move_segment,
    remove_supply,
    set_device_way,
    set_stream,
    split_over_ports,
    split_shares,
    take_down,
    what_follows,
)  # fmt: skip
from welvo.runs.geometry import course_of
from welvo.runs.pixels import universes_of
from welvo.runs.wish import attach_wish, read_attach
from welvo.survey.effects import effects_of


@pytest.fixture
def twelve() -> Rig:
    """An empty rig with a 12-port controller `d1`."""
    return add_device(Rig(), shipped_models()["penstock-12"], "PEN")[0]


def test_ribbons_are_hung_three_to_a_port_there_and_back(twelve: Rig) -> None:
    rig, change = attach_wish(
        twelve, "d1", "2", "7 x 55 GRB ribbon, 3 to a port, there and back; null 4 on 3; cable 2,5 m on 3"
    )
    made = list(change.made)
    assert len(made) == 7 and [e.name for e in rig.elements.values()] == [f"ribbon {n}" for n in range(1, 8)]
    assert {e.order for e in rig.elements.values()} == {"GRB"} and "7 × 55 pixels on ports 2 to 4" in change.label
    ports = rig.devices["d1"].ports
    assert [len(ports[p].run) for p in "1234"] == [0, 3, 5, 1]
    assert [s.reverse for s in ports["2"].run] == [False, True, False]
    assert [(s.kind, s.count, s.length) for s in ports["3"].run[3:]] == [("null", 4, 0.0), ("extension", 0, 2.5)]
    more, change = attach_wish(rig, "d1", "12", "10 ribbon")
    again = list(change.made)
    assert more.elements[again[0]].name == "ribbon"
    more, change = attach_wish(more, "d1", "12", "2 x 10 ribbon")
    again = list(change.made)
    assert [more.elements[k].name for k in again] == ["ribbon 8", "ribbon 9"]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "Say what is to attach"), ("99 x 55 RGB, 3 to a port", "need 33 ports from 1 on; PEN has 12"),
        ("0 RGB", "1 to 100 000 pixels"), ("5 RGB on 13", "no port 13; it has 1"), ("wobble", "nothing of this rig"),
        ("bridge 600", "1 to 512 slots"), ("bridge: 7", "no fixture 7"), ("line: 1", "no fixture 1"),
        ("line", "gives pixel data: a DMX line needs a bridge"), ("lamps 600", "1 to 512 lamps"),
        ("3 x 55 RGB, 0 to a port", "0 to a port"), ("lamps 3: red wobble", "no function"),
        ("9999 x 5 RGB", "too many"),
    ],
)  # fmt: skip
def test_what_cannot_be_hung_is_refused_with_the_reason(twelve: Rig, text: str, words: str) -> None:
    with pytest.raises(Refused, match=words):
        attach_wish(twelve, "d1", "1", text)


def test_a_port_that_a_mode_switches_off_is_refused_by_name(twelve: Rig) -> None:
    with pytest.raises(Refused, match="no mode “8 ports”; it has “12 ports”, “6 long ports”"):
        set_device_way(twelve, "d1", "", mode="8 ports")
    long, _ = set_device_way(twelve, "d1", "", mode="6 long ports")
    with pytest.raises(Refused, match="Mode “6 long ports” switches port 2 of PEN off"):
        attach_wish(long, "d1", "2", "55 RGB")
    # several ports: the dead ones are left out
    rig, _ = attach_wish(long, "d1", "1", "4 x 55 RGB, 1 to a port")
    assert [p for p, v in rig.devices["d1"].ports.items() if v.run] == ["1", "3", "5", "7"]
    with pytest.raises(Refused, match="has no port X"):
        attach_segments(twelve, "d1", "X", [Segment(kind="null", count=1)])
    node, change = add_device(Rig(), shipped_models()["sluice-4"], "S")
    device_id = change.made[0]
    with pytest.raises(Refused, match="gives DMX"):
        attach_wish(node, device_id, "1", "55 RGB")
    four, change = add_device(Rig(), shipped_models()["culvert-4"], "C")
    device_id = change.made[0]
    with pytest.raises(Refused, match="takes 510 slots of a universe, never 512"):
        set_device_way(four, device_id, "", size=512)
    with pytest.raises(Refused, match="keep them whole"):
        set_device_way(four, device_id, "", packs="dense")


def test_hanging_patches_what_has_no_address_and_leaves_the_rest(rig: Rig) -> None:
    made, _ = cabled("", reef(), element=replace(px(10), at=Place(universe="u12", address=7)))(rig)
    have = what_follows(made, "p")
    assert (have.new, have.typed) == ((), ("r",))
    with pytest.raises(Refused, match="Nothing to patch"):
        follow_runs(made, "p")
    every, _ = follow_runs(made, "p", all_of_them=True)
    assert every.elements["r"].at.origin_of_place == "run" and Index(every).spans_of("r")[0].first == 1
    kept, _ = fix_addresses(every, Cables(every), ["r"])
    assert kept.elements["r"].at == Place(universe="u11", address=1)
    locked, _ = cabled("", reef(), element=replace(px(10), at=Place(universe="u12", address=7, locked=True)))(rig)
    assert what_follows(locked, "p").locked == ("r",)


def test_taking_down_gives_the_address_back_only_when_it_hangs_nowhere_else(rig: Rig) -> None:
    made, _ = cabled("", reef(count=4), reef(first=5))(rig)
    half, _ = take_down(made, "p", "1", [0])
    assert half.elements["r"].at.origin_of_place == "run"
    none, _ = take_down(half, "p", "1", [0])
    assert none.elements["r"].at == Place() and not Cables(none).ports_of_item("r")


def test_inserting_at_a_pixel_cuts_what_is_there_and_moves_the_rest(rig: Rig) -> None:
    made, _ = cabled("", reef(), rig={"elements": {"q": replace(px(3), name="spar")}})(rig)
    new, _ = insert_at_pixel(made, "p", "1", 5, [Segment(kind="pixels", element="q")])
    run = new.devices["p"].ports["1"].run
    assert [(s.element, s.first, s.count) for s in run] == [("r", 1, 4), ("q", 1, 0), ("r", 5, 6)]
    spans = [(s.first, s.last, s.offset) for s in Index(new).spans_of("r")]
    assert spans == [(1, 12, 0), (22, 39, 12)]
    assert Cables(new).streams[PortRef("p", "1")].slots == Cables(made).streams[PortRef("p", "1")].slots + 9
    end, _ = insert_at_pixel(made, "p", "1", 99, [Segment(kind="pixels", element="q")])
    assert [s.element for s in end.devices["p"].ports["1"].run] == ["r", "q"]
    with pytest.raises(Refused, match="inside a bridge"):
        insert_at_pixel(
            cabled("", Segment(kind="bridge", width=30))(rig)[0], "p", "1", 5, [Segment(kind="null", count=1)]
        )
    with pytest.raises(Refused, match="inside a converter"):
        insert_at_pixel(
            cabled("", Segment(kind="lamps", count=9))(rig)[0], "p", "1", 5, [Segment(kind="null", count=1)]
        )
    with pytest.raises(Refused, match="inside a block of slots"):  # it has no pixels between which it could be cut
        block = cabled("", reef(), element=Element(name="r", kind="block", slots=24))(rig)[0]
        insert_at_pixel(block, "p", "1", 5, [Segment(kind="null", count=1)])
    with pytest.raises(Refused, match="every 4 pixels only"):
        sends = cabled("", reef(), element=px(10, fold=2, unfolds="sender"))(rig)[0]
        insert_at_pixel(sends, "p", "1", 4, [Segment(kind="null", count=1)])


def test_an_element_begins_where_its_first_pixel_is(rig: Rig) -> None:
    made, _ = cabled("", reef(reverse=True), element=px(10))(rig)
    new, _ = insert_at_pixel(made, "p", "1", 5, [Segment(kind="null", count=2)])
    parts = Cables(new).streams["p", "1"].pieces
    assert [part_name(new, p) for p in parts] == ["reef 7–10", "2 null", "reef 1–6"]
    place = parts[2].place_of_slot(1)
    assert place and Cables(new).start_on_cable("r", 0) == (f"u{place[0]}", place[1])
    assert [(x.first, x.offset) for x in Index(new).spans_of("r")] == [
        (place[1], 0),
        (parts[0].place_of_slot(1)[1], 18),
    ]
    fixed, _ = fix_addresses(new, Cables(new), ["r"])
    assert (fixed.elements["r"].at.universe, fixed.elements["r"].at.address) == (f"u{place[0]}", place[1])


def test_a_folded_string_is_cut_inside_a_stretch_and_nothing_is_folded_wrong(rig: Rig) -> None:
    made, _ = cabled("", reef(fold=5), element=px(20, fold=5))(rig)
    new, _ = insert_at_pixel(made, "p", "1", 9, [Segment(kind="null", count=3)])
    run = new.devices["p"].ports["1"].run
    assert [(s.kind, s.first, s.count, s.fold, s.reverse) for s in run] == [
        ("pixels", 1, 5, 0, False),
        ("pixels", 8, 3, 0, True),
        ("null", 1, 3, 0, False),
        ("pixels", 6, 2, 0, True),
        ("pixels", 11, 10, 5, False),
    ]
    names = [part_name(new, p) for p in Cables(new).streams["p", "1"].pieces]
    assert names == ["reef 1–5", "reef 8–10", "3 null", "reef 6–7", "reef 11–20"]
    codes = {f.code for f in check_rig(new).findings}
    assert not codes & {"RUN-09", "RUN-10", "RUN-16", "RUN-17", "RUN-18"}
    # a stretch that lies folded and is folded nowhere is still told
    run = (*run[:4], replace(run[4], fold=0))
    device = new.devices["p"]
    wrong = replace(new, devices={"p": replace(device, ports={"1": replace(device.ports["1"], run=run)})})
    assert [f.subject for f in check_rig(wrong).findings if f.code == "RUN-09"] == ["p 1/4"]


@given(
    st.integers(2, 60), st.integers(0, 59), st.integers(0, 14), st.booleans(), st.sampled_from([1, 1, 2, 3]),
    st.integers(0, 9),
)  # fmt: skip
def test_a_cut_leaves_every_led_its_number(
    leds: int, before: int, fold: int, reverse: bool, group: int, first: int
) -> None:
    """The LEDs of a cable are where they are: whatever is put between them, each shows the pixel that it showed."""
    before = 1 + before % (leds - 1)
    element = Element(name="r", pixels=80)
    whole = Segment(
        kind="pixels", element="r", first=first + 1, count=leds, fold=fold, reverse=reverse, group=group, length=3,
        supply="v",
    )  # fmt: skip

    def shows(s: Segment, n: int) -> list[tuple[int, int]]:
        """For every LED of the cable: the first LED of the element that shares its data pixel, and how many do."""
        data = (cable_order(s, n) - 1).tolist()
        return [(s.first + d * s.group, min(s.group, n - d * s.group)) for d in data]

    try:
        front, behind = cut_segments(whole, leds, before, element)
    except Refused as e:
        assert group > 1 and "part them" in str(e)
        return
    assert sum(s.count for s in front) == before and sum(s.count for s in behind) == leds - before
    assert [x for s in (*front, *behind) for x in shows(s, s.count)] == shows(whole, leds)
    assert [(s.length, s.supply) for s in (*front, *behind)] == [(3, "v")] + [(0, "")] * (len(front) + len(behind) - 1)
    # a string that does not fold is cut in two, a folded one never in more than whole stretches and the two halves
    assert len(front) <= 2 and len(behind) <= (3 if 0 < fold < leds else 1)


def test_moving_a_segment_says_what_moves_before_it_is_done() -> None:
    elements = {"a": strip(10), "b": strip(20), "c": strip(30)}
    run = tuple(Segment(kind="pixels", element=k) for k in "ab")
    rig = box(run, (Segment(kind="pixels", element="c"),), elements=elements)
    movers = lambda edit: [e.key for e in effects_of(Index(rig), edit) if e.kind == "moves"]  # noqa: E731
    new, change = move_segment(rig, "d", "1", 0, "2", 1)
    assert movers((new, change)) == ["a", "b", "c"] and [s.element for s in new.devices["d"].ports["1"].run] == ["b"]
    assert [s.element for s in new.devices["d"].ports["2"].run] == ["c", "a"]
    assert movers(insert_pixels(rig, "d", "1", 0, 10)) == ["b", "c"]
    assert movers(insert_pixels(rig, "d", "2", 0, 10)) == []


def test_universes_are_made_and_fed_to_fit_with_headroom(twelve: Rig) -> None:
    rig, _ = attach_wish(twelve, "d1", "1", "3 x 171 RGB, 1 to a port")
    with pytest.raises(Refused, match="has a universe to begin at yet"):
        make_to_fit(rig, "d1")
    each, _ = begin_and_make(rig, "d1", 5, "universe", headroom=1)
    assert universes_of(Cables(each), "d1") == {5: 510, 6: 3, 7: 510, 8: 3, 9: 510, 10: 3}
    assert sorted(u.number for u in each.universes.values()) == [5, 6, 7, 8, 9, 10, 11]
    assert sorted((f.protocol, f.wire) for f in each.feeds.values()) == [("sacn", n) for n in range(5, 12)]
    packed, _ = begin_and_make(rig, "d1", 1, "packed")
    assert universes_of(Cables(packed), "d1") == {1: 510, 2: 510, 3: 510, 4: 9}
    assert "RUN-03" not in check_rig(packed).codes_found
    with pytest.raises(Refused, match="there and fed"):
        make_to_fit(packed, "d1")
    with pytest.raises(Refused, match="they end at 63999"):
        begin_and_make(rig, "d1", 63999, "universe")
    with pytest.raises(Refused, match="attach something first"):
        begin_at(twelve, "d1", 1, "packed")


def test_two_ports_that_share_slots_are_told_exactly(rig: Rig) -> None:
    from welvo.rig.wiring import Port

    second = Port(feed="w11", start=31, run=(Segment(kind="pixels", element="q"),))
    elements = {"q": replace(px(5), name="spar")}
    made, _ = cabled("", reef(), second=second, rig={"elements": elements}, p_pixels=12)(rig)
    found = [f for f in check_rig(made).findings if f.code in ("RUN-04", "RUN-20")]
    assert [(f.code, f.severity) for f in found] == [("RUN-20", "note")]  # what is only configured lights nothing
    assert found[0].reason.endswith("it would show the light of port 2 from pixel 11 on.")
    longer, _ = put_entries(made, "", elements={"r": replace(made.elements["r"], pixels=12)})
    both = [f for f in check_rig(longer).findings if f.code == "RUN-04"]
    assert [(f.title, f.facts["first"]) for f in both] == [
        ("Reef on port 1 and spar on port 2 share 6 slots", "11.031")
    ]
    mended, _ = found[0].possible_fixes[0].edit(made)  # type: ignore[misc]
    assert "RUN-20" not in check_rig(mended).codes_found
    few, _ = set_stream(made, "p", "1", "", pixels=4)
    dark = next(f for f in check_rig(few).findings if f.code == "RUN-32")
    assert dark.severity == "error" and "The last 6 pixels of port 1 get nothing" in dark.title


def test_splitting_by_rows_there_and_back() -> None:
    shares = split_shares(640, ["1", "2", "3"], row=64, rows_each=4, there_and_back=True)
    assert [(s.label, s.first, s.pixels, s.reverse) for s in shares] == [
        ("1", 1, 256, False), ("2", 257, 256, True), ("3", 513, 128, False),
    ]  # fmt: skip
    assert [(s.label, s.first) for s in split_shares(100, ["a", "b"], last_first=True)] == [("a", 51), ("b", 1)]
    for args, words in (
        ((100, []), "No port"),
        ((100, ["1"], 30), "10 are left over"),
        ((100, ["1"], 10, 5), "hold 5 of 10 rows"),
    ):
        with pytest.raises(Refused, match=words):
            split_shares(*args)  # type: ignore[arg-type]
    rig = box((Segment(kind="pixels", element="w"), Segment(kind="null", count=2)), (), (), elements={"w": strip(640)})
    new, _ = split_over_ports(rig, "w", "d", shares, fold=64)
    ports = new.devices["d"].ports
    assert [[(s.kind, s.first, s.count) for s in ports[p].run] for p in "123"] == [
        [("null", 1, 2), ("pixels", 1, 256)], [("pixels", 257, 256)], [("pixels", 513, 128)],
    ]  # fmt: skip
    assert not {"RUN-16", "RUN-17"} & check_rig(new).codes_found


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 2000), st.integers(1, 9), st.integers(0, 60), st.booleans(), st.booleans())
def test_a_split_covers_every_pixel_once(pixels: int, ports: int, row: int, back: bool, last: bool) -> None:
    row = row if row and pixels % row == 0 else 0
    found = split_shares(pixels, [str(n) for n in range(ports)], row, 0, back, last)
    covered = sorted(n for s in found for n in range(s.first, s.first + s.pixels))
    assert covered == list(range(1, pixels + 1)) and len({s.label for s in found}) == len(found)


def test_supplies_come_and_go(rig: Rig) -> None:
    made, change = add_supply(rig, " Tin ", 5, 20)
    sid = change.made[0]
    assert made.supplies[sid].name == "Tin"
    attached, _ = cabled("", reef(supply=sid))(made)
    gone, _ = remove_supply(attached, sid)
    assert not gone.supplies and gone.devices["p"].ports["1"].run[0].supply == ""
    for name, volts, amps in (("", 5, 5), ("x", 0, 5), ("x", 5, 5000)):
        with pytest.raises(Refused):
            add_supply(rig, name, volts, amps)


def test_a_cable_lies_as_it_bends() -> None:
    """Down 55, back up 55, down again: three lanes of 55, none deeper than that."""
    elements = {"e": strip(55)}
    run = tuple(Segment(kind="pixels", element="e", reverse=n == 1) for n in range(3))
    rig = box(run, (Segment(kind="pixels", element="e", fold=20),), elements=elements)
    cables = Cables(rig)
    straight = course_of(cables.streams["d", "1"])
    assert (straight.lanes, straight.leds) == (3, 55) and [s.up for s in straight.strokes] == [False, True, False]
    fold = course_of(cables.streams["d", "2"])
    assert [(s.first, s.leds, s.up) for s in fold.strokes] == [(1, 20, False), (21, 20, True), (41, 15, False)]
    assert fold.leds == 20


@pytest.mark.parametrize("seed", range(8))
def test_following_edits_of_runs_finds_what_checking_anew_finds(rig: Rig, seed: int) -> None:
    import random

    pick = random.Random(seed)
    made, _ = cabled(
        "",
        reef(),
        Segment(kind="bridge", width=30, fixtures=("g1", "g2")),
        rig={**_lamps(2), "elements": {"q": replace(px(200), name="spar")}},
    )(rig)
    index = Index(made)
    checker = Checker(index)
    rig = made
    for _ in range(40):
        run = rig.devices["p"].ports["1"].run
        at = pick.randrange(len(run)) if run else 0
        acts = [
            lambda: attach_segments(
                rig,
                "p",
                pick.choice(["1", "2"]),
                [Segment(kind="pixels", element=pick.choice(["r", "q"]), count=pick.choice([0, 3]))],
                pick.choice([0, None]),
            ),
            lambda at=at: take_down(rig, "p", "1", [at]) if run else begin_at(rig, "p", 12, "packed"),
            lambda at=at: change_segment(
                rig,
                "p",
                "1",
                at,
                brightness=pick.choice([1.0, 0.5]),
                fold=pick.choice([0, 4]),
                group=pick.choice([1, 2]),
            ),
            lambda: set_stream(
                rig,
                "p",
                pick.choice(["1", "2"]),
                "",
                pixels=pick.choice([0, 5, 300]),
                follows=pick.choice(["", "packed", "universe"]),
            ),
            lambda: set_device_way(rig, "p", "", packs=pick.choice(["whole", "dense"]), size=pick.choice([0, 510])),
            lambda: make_to_fit(rig, "p"),
            lambda: follow_runs(rig, "p", all_of_them=True),
            lambda: fix_addresses(rig, index.cables_and_sums, [pick.choice(["r", "q"])]),
            lambda at=at: (
                move_segment(rig, "p", "1", at, pick.choice(["1", "2"]), pick.randint(0, 3))
                if run
                else follow_runs(rig, "p")
            ),
            lambda: _resize(rig, pick.choice(["r", "q"]), pick.randint(1, 400)),
        ]
        try:
            rig, change = pick.choice(acts)()
        except (Refused, IndexError):  # an IndexError: there is no segment left to change
            continue
        checker.follow_edit(change, index.follow_change(rig, change))
        fresh = Index(rig)
        assert {k: set(index.spans_of(k)) for k in rig.elements} == {k: set(fresh.spans_of(k)) for k in rig.elements}, (
            change.label
        )
        anew = check_rig(rig)
        assert checker.report_findings.codes_found == anew.codes_found, change.label
        assert checker.report_findings == anew, change.label


def _resize(rig: Rig, key: str, pixels: int) -> tuple[Rig, object]:

    return put_entries(rig, "resize", elements={key: replace(rig.elements[key], pixels=pixels)})


def test_reading_only_plans_and_changes_nothing(twelve: Rig) -> None:
    wish = read_attach(twelve, "d1", "1", "2 x 8x8 panel; 165 ribbon fold 55 on 5")
    assert {p: len(s) for p, s in wish.ports.items()} == {"1": 2, "5": 1} and len(wish.elements) == 3
    panel: Element = next(iter(wish.elements.values()))
    assert (panel.kind, panel.pixels, len(panel.spots)) == ("rows", 64, 64)
    assert wish.says == "2 panels of 8 × 8 pixels, 64 each on port 1; 165 pixels, folded every 55 on port 5"


def test_a_lamp_hung_as_itself_takes_its_own_slots_and_no_more(rig: Rig) -> None:
    """A bar of one dimmer, one shutter and 4 × RGB takes 14 slots; the reef behind it begins at slot 15."""
    bar = replace(rig.fixtures["c"], number=250, at=(Place(from_run=True),))
    made, _ = cabled("", Segment(kind="pixels", element="k"), reef(), rig={"fixtures": {"k": bar}})(rig)
    index = Index(made)
    first, second = index.cables_and_sums.streams["p", "1"].pieces
    assert (first.slots, first.leds, second.stream) == (14, 5, 15)
    assert [(s.universe, s.first, s.last) for s in (*index.spans_of("k"), *index.spans_of("r"))] == [
        ("u11", 1, 14),
        ("u11", 15, 44),
    ]


def test_parts_of_an_element_are_told_in_its_own_order(rig: Rig) -> None:
    made, _ = cabled("", reef(first=6), reef(count=5))(rig)
    assert [(s.first, s.last, s.offset) for s in Index(made).spans_of("r")] == [(16, 30, 0), (1, 15, 15)]


def test_removing_a_box_leaves_nothing_on_a_cable_that_is_gone(rig: Rig) -> None:
    made, _ = cabled("", reef(), Segment(kind="bridge", width=30, fixtures=("g1",)), rig=_lamps(1))(rig)
    gone, change = remove_device(made, "p")
    assert gone.elements["r"].at == Place() and gone.fixtures["g1"].at == (Place(),)
    assert change.changed_ids("elements") == {"r"} and "PATCH-05" not in check_rig(gone).codes_found
