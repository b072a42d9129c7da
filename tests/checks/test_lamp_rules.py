"""What is found when lamps were asked by RDM."""

from __future__ import annotations

from msgspec.structs import replace

from tests.conftest import small_rig
from tests.matching.test_lamps import lamp
from welvo.checks.checker import Checker, check_rig
from welvo.checks.registry import Finding
from welvo.matching.lamps import bind_responder, say_seen_on_stage
from welvo.observed.values import Lamp, Observed
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.document import Rig
from welvo.rig.refs import Goto, PortRef

PORT = ("127.0.0.60", 1)
A, B = 0x7FF000000005, 0x7FF000000006


def known() -> Rig:
    """101 and 102 hang on port A; their UIDs stand in the rig."""
    return bind_responder(bind_responder(small_rig(), "a", A)[0], "b", B)[0]


def seen(*lamps: Lamp) -> Observed:
    return Observed(lamps={PORT: lamps})


def found(rig: Rig, *lamps: Lamp) -> dict[str, Finding]:
    findings = [f for f in check_rig(rig, seen(*lamps)).findings if f.code.startswith("LAMP")]
    assert len({(f.code, f.subject) for f in findings}) == len(findings)
    return {f.code: f for f in findings}


def test_lamps_that_are_as_planned_are_no_finding() -> None:
    assert not found(known(), lamp(A, 1), lamp(B, 9))
    assert not found(known())  # searched, and nobody speaks RDM there


def test_another_address_is_an_error_that_can_be_planned() -> None:
    here = found(known(), lamp(A, 1), lamp(B, 17))
    assert set(here) == {"LAMP-01"}
    f = here["LAMP-01"]
    assert f.title == "102 Right stands at 017, planned at 009" and f.items == ("b",)
    assert f.goes_to == Goto("lamps", "d", "A", B) and f.severity == "error"
    push, fix = f.possible_fixes
    assert push.label == "Push address 009" and push.lamp == (PortRef("d", "A"), B, "address")
    assert fix.label == "Plan 1.017" and fix.changes == (("102 Right", "1.009", "1.017"),) and fix.edit
    assert Index(fix.edit(known())[0]).spans_of("b")[0].first == 17
    locked, _ = edits.set_fixtures(known(), "lock", {"b": {"at": (replace(known().fixtures["b"].at[0], locked=True),)}})
    assert not found(locked, lamp(A, 1), lamp(B, 17))["LAMP-01"].possible_fixes[1:]


def test_a_lamp_on_another_port_than_planned() -> None:
    rig, _ = bind_responder(known(), "c", 77)  # 201 stands in universe 2, on port B
    here = found(rig, lamp(A, 1), lamp(B, 9), lamp(77, 1, "Bar", 14))
    assert here["LAMP-08"].title == "201 Bar answers on NODE · A" and here["LAMP-08"].items == ("c",)
    assert set(here) == {"LAMP-08"}  # that it sits on 101 there follows from it


def test_another_mode_says_what_is_seen_on_stage() -> None:
    two = replace(lamp(B, 9, slots=4), names=((1, 8, "only"), (2, 4, "short")), personality=2)
    here = found(known(), lamp(A, 1), two)
    assert here["LAMP-02"].title == "102 Right works in short (4), planned only (8)"
    assert here["LAMP-02"].possible_fixes[0].lamp == (PortRef("d", "A"), B, "personality")
    assert here["LAMP-02"].reason == (
        "What each of its 4 slots does there, the profile does not say. It never looks at its slots 5–8."
    )
    wide = replace(two, footprint=16, names=((1, 8, "only"), (2, 16, "long")))
    assert say_seen_on_stage(Index(known()), "b", wide).endswith("It also takes slots 17–24, which are not its own.")
    rig = known()
    head = rig.profiles["head"]
    mode = head.modes["m"]
    short = replace(mode, name="short", channels=tuple(c for c in mode.channels if c.function != "Pan"))
    short = replace(short, channels=tuple(replace(c, slots=tuple(s - 2 for s in c.slots)) for c in short.channels))
    rig = replace(rig, profiles={**rig.profiles, "head": replace(head, modes={**head.modes, "s": short})})
    six = replace(two, footprint=6, names=((1, 8, "only"), (2, 6, "short")))
    assert say_seen_on_stage(Index(rig), "b", six) == (
        "From slot 1 on it does something else: pan is sent, tilt is done. It never looks at its slots 7–8."
    )


def test_the_missing_the_strange_the_dumb_and_those_at_one_address() -> None:
    here = found(known(), lamp(A, 1), lamp(77, 300, "Eel", 3))
    assert here["LAMP-03"].title == "1 lamp of port A did not answer" and here["LAMP-03"].items == ("b",)
    assert here["LAMP-04"].reason == "0000:0000004D answers there and takes slots 300–302."
    dumb = found(known(), lamp(A, 1), Lamp(B, failed="7FF0:00000006 does not answer."))
    assert dumb["LAMP-03"].title == "7FF0:00000006 is found, and does not answer" and set(dumb) == {"LAMP-03"}
    both = found(known(), lamp(A, 1), lamp(B, 1))
    assert set(both) == {"LAMP-01", "LAMP-05"}
    assert both["LAMP-05"].title == "2 lamps of port A stand at address 001" and both["LAMP-05"].facts["address"] == 1
    meant, _ = edits.set_fixtures(known(), "both at 1", {"b": {"at": known().fixtures["a"].at}})
    assert "LAMP-05" not in found(meant, lamp(A, 1), lamp(B, 1))


def test_a_guess_with_rivals_makes_no_error_and_says_so() -> None:
    here = found(small_rig(), lamp(A, 300), lamp(B, 300))
    assert set(here) == {"LAMP-05", "LAMP-07"} and here["LAMP-07"].items == ("a", "b")


def test_a_profile_that_is_not_what_the_lamp_says() -> None:
    here = found(known(), replace(lamp(A, 1), names=((1, 8, "only"), (2, 31, "wide"))), lamp(B, 9))
    assert here["LAMP-06"].reason == "The profile lacks its personality 2, wide, of 31 slots."
    assert here["LAMP-06"].goes_to == Goto("profile", "head")


def test_following_edits_and_observations_finds_the_same() -> None:
    rig = small_rig()
    index = Index(rig)
    checker = Checker(index)
    for observed in (seen(lamp(A, 1), lamp(B, 17)), seen(lamp(A, 1), lamp(B, 1)), seen()):
        checker.take_observations(observed, 5.0)
        assert checker.report_findings == check_rig(index.rig, observed, 5.0)
    checker.take_observations(seen(lamp(A, 300), lamp(B, 300)), 6.0)
    steps = [
        lambda r: bind_responder(r, "a", B),
        lambda r: edits.set_fixtures(r, "x", {"a": {"at": replace_at(r, "a", 300)}}),
        lambda r: edits.set_fixtures(r, "name", {"b": {"name": "302"}}),
        lambda r: bind_responder(r, "b", A),
    ]
    for step in steps:
        after, change = step(index.rig)
        checker.follow_edit(change, index.follow_change(after, change))
        assert checker.report_findings == check_rig(after, checker.context.observed, 6.0)


def replace_at(rig: Rig, key: str, address: int) -> tuple[object, ...]:
    return (replace(rig.fixtures[key].at[0], address=address),)
