from __future__ import annotations

import re

import msgspec
import pytest
from msgspec.structs import replace

from tests.checks.examples import EXAMPLES
from tests.checks.run_examples import cabled, px, reef
from tests.checks.test_every_rule import SEEN_ON_A_NETWORK
from tests.conftest import at, profile
from welvo.checks.checker import Checker, check_rig
from welvo.checks.registry import RULES, SEVERITIES, Finding
from welvo.demo.gallery import EXPECTED_LIVE, EXPECTED_ON_PAPER, make_gallery
from welvo.observed.values import NOTHING, DeviceAnswer, Heard, HeardPort, Observed, SourceSeen
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.document import Change, Rig, put_entries
from welvo.rig.patched import Element, Fixture, Place, Share
from welvo.rig.refs import Goto
from welvo.rig.runs import Segment
from welvo.rig.wiring import OutputMode


def only(rig: Rig, code: str, observed: Observed | None = None) -> Finding:
    found = [f for f in (check_rig(rig, observed, 100.0) if observed else check_rig(rig)).findings if f.code == code]
    assert len(found) == 1, found
    return found[0]


def test_the_plain_rig_has_nothing_wrong(rig: Rig) -> None:
    assert check_rig(rig).findings == ()


def test_every_rule_is_documented_and_has_a_deliberate_fault_in_the_demo() -> None:
    assert set(RULES) >= EXPECTED_LIVE and set(RULES) - EXPECTED_LIVE - SEEN_ON_A_NETWORK <= set(EXAMPLES)
    for rule in RULES.values():
        assert re.fullmatch(r"[A-Z]+-\d\d", rule.code) and rule.severity in SEVERITIES
        for words in (rule.title, rule.means, rule.matters, rule.put_right):
            assert len(words) > 10, rule.code
    assert check_rig(make_gallery()).codes_found == EXPECTED_ON_PAPER


def test_a_boxs_universes_count_with_those_its_streams_run_through(rig: Rig) -> None:
    """200 RGB pixels go through two universes; a device that takes one is told."""
    made, _ = cabled("", reef(), element=px(200), m_universes=1)(rig)
    assert "PEN takes 2 universes and can take 1" in only(made, "DEV-05").title
    lean, _ = cabled(
        "", reef(), element=px(200), m_universes=9, m_modes=(OutputMode(name="lean", universes=1),), d_mode="lean"
    )(rig)
    assert "can take 1" in only(lean, "DEV-05").title


def test_fixes_of_the_demo_clear_what_they_promise() -> None:
    rig = make_gallery()
    for finding in check_rig(rig).findings:
        for fix in finding.possible_fixes:
            assert fix.changes and fix.label
            if fix.edit:
                new, _ = fix.edit(rig)
                left = [(f.code, f.subject) for f in check_rig(new).findings]
                assert (finding.code, finding.subject) not in left, fix.label
                assert sum(c == "PATCH-01" for c, _ in left) <= sum(
                    f.code == "PATCH-01" for f in check_rig(rig).findings
                )


def test_a_clash_names_functions_slots_and_a_free_place(rig: Rig) -> None:
    near, _ = edits.move_item(rig, "b", 0, "u1", 7)
    f = only(near, "PATCH-01")
    assert f.title == "101 and 102 meet on 2 slots" and f.where == "1.007–008" and f.facts["slots"] == 2
    assert "zoom, gobo of 101 also moves pan of 102" in f.reason
    assert [x.label for x in f.possible_fixes] == [
        "Move 102 to 1.009 (next free)", "Move 101 to 1.015 (next free)", "Move both, from 1.015",
    ]  # fmt: skip
    same, _ = edits.move_item(rig, "b", 0, "u1", 1)
    assert [x.label for x in only(same, "PATCH-01").possible_fixes][-1] == "Share: 101 and 102 move together"


def test_past_the_end_says_how_far(rig: Rig) -> None:
    short, _ = edits.set_universe(rig, "u1", "", size=12)
    f = only(short, "PATCH-02")
    assert f.title == "102 ends 4 slots past universe 1" and f.facts["size"] == 12


def test_breaks_without_an_address(rig: Rig) -> None:
    bare, _ = edits.set_fixtures(rig, "", {"a": {"at": ()}})
    f = only(bare, "PATCH-03")
    assert f.title == "101 is not patched" and f.possible_fixes[0].label == "Patch 101 at 1.001 (next free)"


def test_numbers_used_twice_and_anchors_that_lead_nowhere(rig: Rig) -> None:
    twice, _ = edits.set_fixtures(rig, "", {"b": {"number": 101}})
    assert only(twice, "PATCH-04").possible_fixes[0].label == "Number Right 202"
    lost, _ = edits.set_fixtures(rig, "", {"b": {"at": (Place(after="nobody"),)}})
    assert only(lost, "PATCH-05").facts["thing"] == "102"


def test_shares_that_hold_and_shares_that_came_apart(rig: Rig) -> None:
    same, _ = edits.move_item(rig, "b", 0, "u1", 1)
    held, _ = put_entries(same, "", shares={"x": Share(members=("a", "b"), reason="Both over the door.")})
    assert only(held, "PATCH-06").reason == "Both over the door."
    apart, _ = edits.move_item(held, "b", 0, "u1", 3)
    assert {f.code for f in check_rig(apart).findings} == {"PATCH-01", "PATCH-07"}


def test_an_element_that_runs_out_of_universes(rig: Rig) -> None:
    long, _ = put_entries(rig, "", elements={"e": replace(rig.elements["e"], pixels=200)})
    f = only(long, "PATCH-08")
    assert f.facts["slots without a place"] == 600 - 411 and f.possible_fixes[0].label == "Add universe 3"
    last, _ = edits.set_universe(long, "u2", "", number=63999)
    assert only(last, "PATCH-08").possible_fixes == ()  # there is no universe 64000 to add


def test_feeds(rig: Rig) -> None:
    same, _ = edits.set_feed(rig, "w2", "", protocol="sacn", to="multicast", wire=1)
    f = only(same, "FEED-01")
    assert f.title == "Universes 1 and 2 both go out as sACN 1" and f.possible_fixes[0].label == "Send 2 as sACN 2"
    unicast, _ = edits.set_feed(same, "w2", "", to="127.0.0.7")
    split, _ = edits.set_feed(unicast, "w1", "", to="127.0.0.8")
    assert "FEED-01" not in check_rig(split).codes_found  # one number, two devices: they never meet
    unfed, _ = edits.remove_feed(rig, "w1")
    assert only(unfed, "FEED-02").possible_fixes[0].label == "Feed 1 by sACN 1"
    empty, _ = edits.take_out_items(rig, ["a", "b"])
    assert only(empty, "FEED-03").facts["universe"] == 1
    loud, _ = edits.set_feed(rig, "w2", "", to="broadcast")
    assert only(loud, "FEED-04").possible_fixes[0].label == "Send to subscribers"
    zero, _ = edits.set_feed(rig, "w2", "", wire=0)
    assert only(zero, "FEED-05").severity == "warning"
    off, _ = edits.set_port(rig, "d", "A", "", feed="")
    assert only(off, "FEED-07").facts["wire"] == "sACN 1"


def test_two_boxes_at_one_address(rig: Rig) -> None:
    twin, _ = edits.add_device(rig, rig.device_models["mod"], "TWIN", "127.0.0.60")
    assert only(twin, "DEV-01").facts["ip"] == "127.0.0.60"


def heard(wire: int = 1, merge_latest: bool = False) -> Observed:
    ports = (HeardPort(1, 0, True, "sacn", wire, ltp=merge_latest), HeardPort(2, 0, True, "artnet", 2))
    return Observed(heard={"127.0.0.60": Heard("127.0.0.60", "NODE", ports=ports, at=95.0)}, listening=True)


def test_what_the_network_shows(rig: Rig) -> None:
    assert check_rig(rig, heard(), 100.0).codes_found == set()
    f = only(rig, "WIRE-01", heard(wire=9))
    assert (
        f.title == "Port A takes sACN 9, the plan sends sACN 1"
        and f.items == ("a", "b")
        and f.possible_fixes[0].push == ("d", ("A.universe",))
    )
    assert check_rig(rig, heard(wire=9), 106.0).codes_found == {
        "DEV-02"
    }  # ten seconds after its last word it is silent
    planned, _ = edits.plan_setting(rig, "d", "A.merge", "highest")
    assert only(planned, "DEV-04", heard(merge_latest=True)).possible_fixes[0].label == "Push Merge: highest"
    stranger = msgspec.structs.replace(
        heard(), heard={**heard().heard, "127.0.0.61": Heard("127.0.0.61", "WHO", at=99.0)}
    )
    assert only(rig, "DEV-03", stranger).goes_to == Goto("heard", "127.0.0.61")
    two = tuple(SourceSeen("sacn", 1, k, k, "127.0.0.9", 100, 44.0, k == "a", 99.0) for k in "ab")
    assert only(rig, "WIRE-02", msgspec.structs.replace(heard(), sources=two)).facts["priority"] == 100
    lower = (two[0], msgspec.structs.replace(two[1], priority=90))
    assert "WIRE-02" not in check_rig(rig, msgspec.structs.replace(heard(), sources=lower), 100.0).codes_found


def test_what_kind_of_levels_are_heard_and_what_does_not_leave(rig: Rig) -> None:
    preview = SourceSeen("sacn", 1, "a", "desk", "127.0.0.9", 100, 0.0, False, 99.0, preview=True)
    seen = msgspec.structs.replace(heard(), sources=(preview,))
    assert only(rig, "WIRE-03", seen).title == "sACN 1 is sent for preview only"
    live = msgspec.structs.replace(preview, key="b", preview=False, sync=7000)
    seen = msgspec.structs.replace(heard(), sources=(preview, live))
    assert only(rig, "WIRE-04", seen).facts["sync"] == 7000
    assert check_rig(rig, seen, 100.0).codes_found == {"WIRE-04"}  # a preview is no rival
    stuck = msgspec.structs.replace(heard(), stuck={"w1": "Network is unreachable"})
    f = only(rig, "OUT-01", stuck)
    assert f.reason == "Universe 1: Network is unreachable." and f.goes_to == Goto("feed", "w1")


def test_what_comes_into_a_universe_is_told_by_the_device_that_gives_it_out(rig: Rig) -> None:
    """Found by chance: the count of fixtures behind a wrong port stayed what it had been."""
    checker = Checker(Index(rig), heard(wire=9), 100.0)
    more, change = edits.move_item(rig, "c", 0, "u1", 300)
    checker.follow_edit(change, checker.context.index.follow_change(more, change))
    f = next(f for f in checker.report_findings.findings if f.code == "WIRE-01")
    assert f.items == ("a", "b", "c") and checker.report_findings == check_rig(more, heard(wire=9), 100.0)


def test_profiles(rig: Rig) -> None:
    from tests.conftest import profile

    odd, _ = put_entries(rig, "", profiles={"x": profile("Odd", "dimmer, wobble")})
    assert only(odd, "PROF-01").facts["word"] == "wobble"
    long, _ = put_entries(rig, "", profiles={"x": profile("Long", "200 x (red green blue)")})
    assert only(long, "PROF-03").facts["slots"] == 600


def test_a_waiver_is_bound_to_the_facts_and_wakes_when_they_change(rig: Rig) -> None:
    unfed, _ = edits.remove_feed(rig, "w1")
    f = only(unfed, "FEED-02")
    waived, _ = edits.waive_finding(unfed, f.code, f.subject, f.fingerprint_of_facts, "the desk feeds it")
    report = check_rig(waived)
    assert report.findings == () and report.waived[0][1] == "the desk feeds it"
    more, _ = put_entries(
        waived, "", fixtures={"z": Fixture(number=9, profile="head", mode="m", at=(Place(universe="u1", address=99),))}
    )
    assert only(more, "FEED-02").facts["things"] == 3


def test_the_order_of_findings_and_waivers_does_not_tell_what_was_edited_before(rig: Rig) -> None:
    checker = Checker(Index(rig))

    def follow(edit: tuple[Rig, Change]) -> None:
        checker.follow_edit(edit[1], checker.context.index.follow_change(*edit))

    for feed in list(rig.feeds):
        follow(edits.remove_feed(checker.context.rig, feed))
    found = [f for f in checker.report_findings.findings if f.code == "FEED-02"]
    assert len(found) == 2
    for f in found:
        follow(edits.waive_finding(checker.context.rig, f.code, f.subject, f.fingerprint_of_facts, "the desk feeds it"))
    follow(put_entries(checker.context.rig, "", feeds={"w1": rig.feeds["w1"]}))
    assert len(checker.report_findings.waived) == 1
    follow(edits.remove_feed(checker.context.rig, "w1"))  # the first had gone, and is the last that was found
    assert len(checker.report_findings.waived) == 2 and checker.report_findings == check_rig(checker.context.rig)


def test_an_error_cannot_be_waived(rig: Rig) -> None:
    near, _ = edits.move_item(rig, "b", 0, "u1", 7)
    f = only(near, "PATCH-01")
    waived, _ = edits.waive_finding(near, f.code, f.subject, f.fingerprint_of_facts, "never mind")
    assert only(waived, "PATCH-01").severity == "error"


@pytest.mark.parametrize("seed", range(12))
def test_following_edits_finds_what_checking_anew_finds(rig: Rig, seed: int) -> None:
    import random

    pick = random.Random(seed)
    index = Index(rig)
    checker = Checker(index)
    for _ in range(30):
        key = pick.choice(["a", "b", "c"])
        acts = [
            lambda key=key: edits.set_fixtures(
                rig, "", {key: {"at": (Place(universe=pick.choice(["u1", "u2"]), address=pick.randint(1, 512)),)}}
            ),
            lambda key=key: edits.set_fixtures(rig, "", {key: {"number": pick.choice([101, 102, 201])}}),
            lambda: (
                edits.set_feed(rig, "w1", "", wire=pick.choice([1, 2]))
                if "w1" in rig.feeds
                else edits.add_feed(rig, "u1")
            ),
            lambda: edits.remove_feed(rig, pick.choice(list(rig.feeds))) if rig.feeds else edits.add_feed(rig, "u2"),
            lambda: put_entries(
                rig, "", elements={"e": Element(name="ribbon", pixels=pick.randint(1, 300), at=Place(after="a"))}
            ),
            lambda: put_entries(rig, "", shares={"x": Share(members=("a", "b"))} if not rig.shares else {"x": None}),
            lambda: edits.set_universe(rig, "u1", "", size=pick.choice([16, 512])),
            lambda: (
                edits.add_universe(rig) if len(rig.universes) < 4 else edits.remove_universe(rig, max(rig.universes))
            ),
            lambda: edits.set_fixtures(
                rig, "", {"b": {"at": (Place(after=pick.choice(["a", "c"]), gap=pick.randint(0, 500)),)}}
            ),
            lambda: edits.set_port(rig, "d", "A", "", feed=pick.choice(["", *rig.feeds])),
        ]
        rig, change = pick.choice(acts)()
        checker.follow_edit(change, index.follow_change(rig, change))
        anew = check_rig(rig)
        assert checker.report_findings.codes_found == anew.codes_found, change
        assert checker.report_findings == anew, change


@pytest.mark.parametrize("code", EXAMPLES)
def test_worked_examples(rig: Rig, code: str) -> None:
    before = check_rig(rig)
    assert code not in before.codes_found
    after, says = EXAMPLES[code](rig)
    f = only(after, code)
    assert says in f"{f.title} {f.reason}", f


def test_a_clash_can_be_mended_by_moving_both_by_a_shorter_mode_or_be_meant(rig: Rig) -> None:
    full = {f"x{n}": Fixture(number=300 + n, profile="bar", mode="m", at=at(1, 17 + 14 * n)) for n in range(3)}
    near, _ = put_entries(rig, "", fixtures={**full, "b": replace(rig.fixtures["b"], at=at(1, 5))})
    fixes = only(near, "PATCH-01").possible_fixes
    assert [x.label for x in fixes] == [
        "Move 102 to 1.009 (next free)",
        "Move 101 to 1.059 (next free)",
        "Move both, from 1.059",
    ]
    both = fixes[2]
    assert both.changes == (("101 · address", "1.001", "1.059"), ("102 · address", "1.005", "1.067"))
    assert both.edit and not Index(both.edit(near)[0]).universes_with_overlaps()
    two = profile("Two", "dimmer, red, green, blue")
    two = replace(two, modes={**two.modes, "s": profile("S", "dimmer").modes["m"]})
    mixed, _ = put_entries(
        rig,
        "",
        profiles={"two": two},
        fixtures={
            "t": Fixture(number=9, profile="two", mode="m", at=at(1, 20)),
            "z": Fixture(number=10, profile="bar", mode="m", at=at(1, 22)),
        },
    )
    found = only(mixed, "PATCH-01")
    shorter = next(x for x in found.possible_fixes if x.label.startswith("Put 9 into mode"))
    assert shorter.edit and not [f for f in check_rig(shorter.edit(mixed)[0]).findings if f.code == "PATCH-01"]
    meant = next(x for x in found.possible_fixes if x.label == "Overlay of 9 and 10")
    assert meant.edit and [f.title for f in check_rig(meant.edit(mixed)[0]).findings if f.code == "PATCH-06"] == [
        "9 and 10 lie over each other on purpose"
    ]


def test_a_share_that_came_apart_is_brought_together_or_ended(rig: Rig) -> None:
    on, _ = put_entries(rig, "", fixtures={"b": replace(rig.fixtures["b"], at=at(1, 1))})
    on, _ = edits.share_places(on, ["a", "b"])
    apart, _ = edits.move_item(on, "b", 0, "u2", 300)
    fixes = only(apart, "PATCH-07").possible_fixes
    assert [x.label for x in fixes] == ["Bring them to 1.001 again", "End the share of 101 and 102"]
    assert fixes[0].edit and fixes[0].edit(apart)[0].fixtures["b"].at == at(1, 1)
    assert fixes[1].edit and not fixes[1].edit(apart)[0].shares


def test_a_device_that_is_called_otherwise_is_so_in_the_findings_of_what_is_on_it(rig: Rig) -> None:
    """Found by chance: an item attached twice went on naming the device by its former name."""
    line = Segment(kind="line", fixtures=("a",))
    ports = {p: replace(v, run=(line,)) for p, v in rig.devices["d"].ports.items()}
    twice, _ = put_entries(rig, "", devices={"d": replace(rig.devices["d"], ports=ports)})
    checker = Checker(Index(twice), NOTHING, 0.0)
    assert "NODE" in next(f for f in checker.report_findings.findings if f.code == "RUN-16").reason
    new, change = edits.set_device(twice, "d", "", name="STILT")
    checker.follow_edit(change, checker.context.index.follow_change(new, change))
    assert checker.report_findings.findings == check_rig(new).findings


def test_one_name_for_two_colours_is_told_as_well(rig: Rig) -> None:
    made = {}
    for n, word in enumerate(("amber", "lime")):
        p = profile(f"Odd {n}", f"dimmer, {word}", 7 + n)
        mode = p.modes["m"]
        made[f"o{n}"] = replace(p, modes={"m": replace(mode, channels=(replace(mode.channels[1], name="Gold"),))})
    new, _ = put_entries(rig, "", profiles=made)
    assert only(new, "PROF-21").title == "“gold” is lime in Odd 1 and amber in Odd 0"
    alone, _ = put_entries(new, "", profiles={"o1": None})
    assert "PROF-21" not in check_rig(alone).codes_found


def test_a_port_that_listens_where_nobody_sends_is_told_once_a_device(rig: Rig) -> None:
    ports = tuple(
        HeardPort(page=1, index=n, output=True, protocol="artnet", wire=w) for n, w in enumerate((1, 2, 77, 78))
    )
    spare = Heard(ip="127.0.0.80", name="Spare", ports=ports, at=99.0)
    seen = Observed(heard={spare.ip: spare}, listening=True)
    told = only(rig, "WIRE-05", seen)
    assert told.title == "Spare listens to Art 0/0/1, Art 0/4/13, Art 0/4/14, which nobody sends"
    source = SourceSeen("artnet", 77, "k", "Desk", "127.0.0.9", 0, 40.0, False, 99.0)
    more = msgspec.structs.replace(seen, sources=(source,))
    assert "Art 0/4/13" not in only(rig, "WIRE-05", more).title
    assert "WIRE-05" not in check_rig(rig, msgspec.structs.replace(seen, listening=False), 100.0).codes_found


def said(**more: object) -> Observed:
    told = DeviceAnswer(99.0, {"name": "NODE"}, mac="02:00:00:00:00:01", **more)  # type: ignore[arg-type]
    return msgspec.structs.replace(heard(), said={"127.0.0.60": told})


def test_what_a_device_says_of_its_settings(rig: Rig) -> None:
    f = only(rig, "DEV-11", said(waits={"name": ("save",), "A.universe": ("save", "apply")}))
    assert f.title == "NODE has 2 settings waiting: 2 to save, 1 to apply" and f.severity == "warning"
    f = only(rig, "DEV-12", said(test="red"))
    assert f.facts["test"] == "red" and f.severity == "error" and f.possible_fixes[0].end_test == "d"
    later = check_rig(rig, said(test="red"), 120.0).codes_found
    assert "DEV-12" not in later and "DEV-02" in later, "what it said half a minute ago is not known to be so now"


def test_two_macs_another_mac_and_addresses_that_cannot_be(rig: Rig) -> None:
    node = heard().heard["127.0.0.60"]
    twins = msgspec.structs.replace(node, macs=("02:00:00:00:00:01", "02:00:00:00:00:02"))
    f = only(rig, "DEV-07", msgspec.structs.replace(heard(), heard={node.ip: twins}))
    assert f.title == "2 devices answer at 127.0.0.60" and f.goes_to == Goto("device", "d")
    planned, _ = edits.plan_setting(rig, "d", "mac", "02:00:00:00:00:09")
    f = only(planned, "DEV-08", said())
    assert f.facts["heard"] == "02:00:00:00:00:01"
    (fix,) = f.possible_fixes
    assert fix.edit and "DEV-08" not in check_rig(fix.edit(planned)[0], said(), 100.0).codes_found
    outside = msgspec.structs.replace(heard(), network="10.0.40.7/255.255.255.0")
    f = only(rig, "DEV-09", outside)
    assert "the first part is 127, and must be 10" in f.reason
    assert (
        "DEV-09"
        not in check_rig(rig, msgspec.structs.replace(heard(), network="127.0.0.1/255.0.0.0"), 100.0).codes_found
    )
    new = msgspec.structs.replace(rig.device_models["mod"], factory_ip="127.0.0.60")
    f = only(put_entries(rig, "", device_models={"mod": new})[0], "DEV-10", heard())
    assert "factory address of a Node" in f.title
    away = msgspec.structs.replace(node, ip="169.254.7.7", name="LOST")
    f = next(
        f
        for f in check_rig(rig, msgspec.structs.replace(heard(), heard={away.ip: away}), 100.0).findings
        if f.code == "DEV-10"
    )
    assert f.title == "LOST chose a temporary address, 169.254.7.7"
