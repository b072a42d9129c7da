"""Every rule: how severe it is, where it leads, how many fixes it offers; and a fix removes exactly its finding.

The cases are the deliberate faults of the demo and one worked example for each code that the demo has no fault for. The
rules about the network have theirs in test_rules.py.
"""

from __future__ import annotations

import pytest

from tests.checks.examples import EXAMPLES
from welvo.checks.checker import Report, check_rig
from welvo.checks.registry import RULES, Finding
from welvo.demo.gallery import EXPECTED_LIVE, EXPECTED_ON_PAPER, make_gallery
from welvo.rig.document import Rig
from welvo.rig.edits import rename_rig

DECLARED = {
    "DEV-01": ("error", "device", 0), "DEV-05": ("error", "device", 0), "DEV-06": ("warning", "device", 0),
    "FEED-01": ("error", "feed", 1), "FEED-02": ("warning", "universe", 1), "FEED-03": ("note", "feed", 0),
    "FEED-04": ("warning", "feed", 1), "FEED-05": ("warning", "feed", 0), "FEED-06": ("warning", "feed", 1),
    "FEED-07": ("note", "feed", 0), "FEED-08": ("error", "feed", 0), "FEED-09": ("warning", "universe", 1),
    "FEED-10": ("note", "feed", 0), "FEED-11": ("note", "universe", 0), "FEED-12": ("warning", "feed", 1),
    "FEED-13": ("note", "feed", 0), "FEED-14": ("warning", "feed", 1), "FEED-15": ("warning", "feed", 0),
    "FEED-16": ("warning", "feed", 0), "FEED-17": ("error", "feed", 1), "LINE-01": ("warning", "run", 1),
    "LINE-02": ("warning", "run", 1), "LINE-03": ("note", "run", 0), "LINE-04": ("note", "run", 0),
    "LINE-05": ("warning", "run", 1), "PATCH-01": ("error", "item", 3), "PATCH-02": ("error", "item", 1),
    "PATCH-03": ("warning", "item", 2), "PATCH-04": ("error", "item", 1), "PATCH-05": ("warning", "item", 0),
    "PATCH-06": ("note", "item", 0), "PATCH-07": ("warning", "item", 2), "PATCH-08": ("error", "item", 1),
    "PATCH-09": ("note", "item", 0), "PATCH-10": ("warning", "item", 1), "PATCH-11": ("warning", "item", 1),
    "PATCH-12": ("note", "item", 1), "PATCH-13": ("warning", "item", 1), "PATCH-14": ("warning", "item", 1),
    "PROF-01": ("warning", "profile", 0), "PROF-02": ("error", "profile", 0), "PROF-03": ("error", "profile", 0),
    "PROF-04": ("note", "profile", 0), "PROF-05": ("note", "profile", 0), "PROF-06": ("error", "profile", 0),
    "PROF-07": ("error", "profile", 0), "PROF-08": ("warning", "profile", 0), "PROF-09": ("warning", "profile", 0),
    "PROF-10": ("warning", "profile", 0), "PROF-11": ("warning", "profile", 0), "PROF-12": ("warning", "profile", 0),
    "PROF-13": ("note", "profile", 0), "PROF-14": ("warning", "profile", 0), "PROF-15": ("warning", "profile", 0),
    "PROF-16": ("error", "profile", 0), "PROF-17": ("note", "profile", 1), "PROF-18": ("note", "profile", 0),
    "PROF-19": ("warning", "profile", 0), "PROF-20": ("warning", "profile", 0),
    "PROF-21": ("note", "profile", 0), "PWR-01": ("error", "supply", 0),
    "PWR-02": ("warning", "run", 0), "PWR-03": ("error", "run", 0), "PWR-04": ("warning", "run", 0),
    "RUN-01": ("error", "run", 0), "RUN-02": ("error", "run", 0), "RUN-03": ("error", "run", 1),
    "RUN-04": ("error", "run", 1), "RUN-05": ("error", "run", 1), "RUN-06": ("error", "run", 1),
    "RUN-07": ("error", "run", 1), "RUN-08": ("error", "run", 1), "RUN-09": ("error", "run", 1),
    "RUN-10": ("note", "run", 0), "RUN-11": ("error", "run", 0), "RUN-12": ("error", "run", 0),
    "RUN-13": ("warning", "run", 1), "RUN-14": ("error", "run", 1), "RUN-15": ("error", "run", 1),
    "RUN-16": ("error", "run", 1), "RUN-17": ("warning", "run", 0), "RUN-18": ("warning", "run", 1),
    "RUN-19": ("error", "run", 2), "RUN-20": ("note", "run", 1), "RUN-21": ("error", "run", 1),
    "RUN-22": ("warning", "device", 1), "RUN-23": ("warning", "run", 0), "RUN-24": ("error", "run", 0),
    "RUN-25": ("error", "feed", 0), "RUN-26": ("error", "run", 0), "RUN-27": ("note", "run", 0),
    "RUN-28": ("note", "unattached", 0), "RUN-29": ("warning", "run", 1), "RUN-30": ("error", "run", 0),
    "RUN-33": ("error", "run", 1), "RUN-34": ("warning", "run", 1), "PATCH-15": ("warning", "item", 1),
    "PATCH-16": ("warning", "item", 1), "PATCH-17": ("warning", "item", 1), "DEV-13": ("warning", "device", 1),
    "RUN-35": ("note", "run", 1), "RUN-36": ("error", "run", 0), "RUN-37": ("error", "run", 1),
    "RUN-31": ("note", "run", 1), "RUN-32": ("error", "run", 1), "USE-01": ("note", "use", 0),
}  # fmt: skip
"""Severity, the kind of place it leads to, and how many fixes its findings offer together."""

CONSEQUENCES: dict[str, set[str]] = {
    "RUN-04": {"PATCH-01"},  # the clash of the two ports' lamps is the same fault seen from the patch
    "RUN-05": {"FEED-03"}, "RUN-18": {"FEED-03", "FEED-07"}, "RUN-29": {"FEED-03"}, "PATCH-02": {"FEED-03"},
    "RUN-34": {"FEED-03"}, "PATCH-15": {"PATCH-09"}, "PATCH-16": {"PATCH-06"},
    "RUN-19": {"FEED-09"},  # the plan has another size now; the sender must be set as well
    "RUN-16": {"RUN-17"},  # what is attached once less may lie nowhere in part
    "PATCH-03": {"PATCH-05"},  # what stood behind it has a place again
    "PATCH-08": {"FEED-02", "PATCH-09"}, "PATCH-11": {"PATCH-12"}, "PATCH-12": {"PATCH-11"},
    "PATCH-01": {"PATCH-06"}, "PATCH-07": {"PATCH-06"},  # meant on purpose: a note says so
    "FEED-01": {"FEED-13"}, "FEED-02": {"FEED-07"}, "FEED-06": {"FEED-10"}, "RUN-15": {"PATCH-01"},
    "RUN-21": {"FEED-03", "PATCH-02"},
}  # fmt: skip
"""Other findings that a fix of a code takes away or brings, because they are about the same thing or follow from it."""


SEEN_ON_A_NETWORK = {"WIRE-03", "WIRE-04", "OUT-01", *(f"DEV-{n:02}" for n in range(7, 13)),
                     *(f"LAMP-{n:02}" for n in range(1, 9)), *(f"BUS-{n:02}" for n in range(1, 11))}  # fmt: skip
"""What the demo's network does not show; test_rules.py, test_lamp_rules.py and test_bus_rules.py do."""


def case(code: str, rig: Rig) -> tuple[Rig, Report, list[Finding]]:
    faulty = EXAMPLES[code](rig)[0] if code in EXAMPLES else make_gallery()
    report = check_rig(faulty)
    return faulty, report, [f for f in report.findings if f.code == code]


def test_every_rule_has_its_case() -> None:
    assert (
        set(DECLARED) | EXPECTED_LIVE | SEEN_ON_A_NETWORK == set(RULES)
        and set(DECLARED) <= set(EXAMPLES) | EXPECTED_ON_PAPER
    )


@pytest.mark.parametrize("code", DECLARED)
def test_severity_place_and_number_of_fixes(rig: Rig, code: str) -> None:
    severity, kind, fixes = DECLARED[code]
    _, _, found = case(code, rig)
    assert {f.severity for f in found} == {severity} == {RULES[code].severity}
    assert {f.goes_to.kind for f in found} == {kind}
    assert sum(len(f.possible_fixes) for f in found) == fixes


@pytest.mark.parametrize("code", DECLARED)
def test_it_leads_to_something_that_is_there(rig: Rig, code: str) -> None:
    faulty, _, found = case(code, rig)
    parts = {
        "item": {*faulty.fixtures, *faulty.elements}, "universe": faulty.universes, "feed": faulty.feeds,
        "device": faulty.devices, "run": faulty.devices, "supply": {"", *faulty.supplies}, "use": faulty.uses,
        "profile": faulty.profiles, "unattached": {""},
    }  # fmt: skip
    for f in found:
        to = f.goes_to
        assert to.id in parts[to.kind], to
        if to.port:
            port = faulty.devices[to.id].ports.get(to.port)
            assert port is None or to.place < len(port.run), to
        assert all(key in parts["item"] for key in f.items)


@pytest.mark.parametrize("code", [c for c, (_, _, fixes) in DECLARED.items() if fixes])
def test_a_fix_removes_exactly_its_finding_says_what_it_changes_and_is_undone(rig: Rig, code: str) -> None:
    faulty, report, found = case(code, rig)
    before = {(f.code, f.subject) for f in report.findings}
    may = CONSEQUENCES.get(code, set())
    for f in found:
        for fix in f.possible_fixes:
            assert fix.label and fix.changes and all(old != new for _, old, new in fix.changes)
            assert fix.edit
            fixed, change = fix.edit(faulty)
            after = {(g.code, g.subject) for g in check_rig(fixed).findings}
            assert (code, f.subject) not in after, fix.label
            assert {c for c, _ in before - after - {(code, f.subject)}} <= may, fix.label
            assert {c for c, _ in after - before} <= may, fix.label
            assert change.label and fixed is not faulty


def test_what_a_fix_changes_is_all_it_changes(rig: Rig) -> None:
    """An edit beside it is not lost: a fix works on the rig it is given, not on the one it was found in."""
    faulty, _, found = case("PATCH-02", rig)
    renamed, _ = rename_rig(faulty, "Second night")
    edit = found[0].possible_fixes[0].edit
    assert edit and edit(renamed)[0].name == "Second night"
