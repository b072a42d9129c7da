"""What was tested: kept with the rig and apart from its plan, so that undoing an edit never takes a test away.

A subject is an item, a port, a universe or a device, written `item/f1`, `port/d1/6`. A test holds for what was planned
then. When that changes the record wakes: it is shown as what it was, and counts as not tested.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from welvo.matching.planned import full_plan
from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.kept import table_of
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_place
from welvo.rig.tested import RESULTS, Tested, TestRecord, TestResult

MOST = 50
"""Tests kept of one subject; the oldest go."""
Standing = Literal["", "passed", "failed", "doubtful", "woken"]


def subject_of_test(kind: str, key: str, port: str = "") -> str:
    return f"{kind}/{key}/{port}" if port else f"{kind}/{key}"


def split_subject(of: str) -> tuple[str, str, str]:
    """Kind, id and port of a subject."""
    kind, _, rest = of.partition("/")
    key, _, port = rest.partition("/")
    return kind, key, port


def subject_exists(rig: Rig, of: str) -> bool:
    kind, key, port = split_subject(of)
    if kind == "item":
        return key in rig.fixtures or key in rig.elements
    if kind == "port":
        return key in rig.devices and port in rig.devices[key].ports
    return key in (rig.universes if kind == "universe" else rig.devices if kind == "device" else {})


def name_of_subject(rig: Rig, of: str) -> str:
    """What a subject is called."""
    kind, key, port = split_subject(of)
    if kind == "item":
        return name_of_item(rig, key)
    if kind == "universe" and key in rig.universes:
        return f"universe {rig.universes[key].number}"
    if key in rig.devices:
        return f"{rig.devices[key].name} port {port}" if port else rig.devices[key].name
    return of


def facts_of_subject(index: Index, of: str) -> str:
    """What a test of a subject depends on, in one line: mode, places and line of an item; settings of a port."""
    rig = index.rig
    kind, key, port = split_subject(of)
    if kind == "item" and key in rig.fixtures:
        f = rig.fixtures[key]
        places = [say_place(rig.universes[s.universe].number, s.first) for s in index.spans_of(key)]
        breaks = sorted({max(0, s.break_no) for s in index.spans_of(key)}) or [0]
        on = [set_on(index, key, b) for b in breaks]
        return " ".join([f.profile, f.mode, *places, *(str(x.address) for x in on), on[0].behind])
    if kind == "item" and key in rig.elements:
        e = rig.elements[key]
        places = [say_place(rig.universes[s.universe].number, s.first) for s in index.spans_of(key)]
        return " ".join(
            [str(e.pixels), e.order, *places, *(f"{d.label}:{p.px}" for d, p in index.cables_and_sums.on_runs(key))]
        )
    if kind == "universe" and key in rig.universes:
        feeds = sorted(f"{f.protocol} {f.wire} {f.to}" for f in rig.feeds.values() if f.universe == key)
        return " ".join([str(rig.universes[key].size), *feeds])
    if key in rig.devices:
        plan = full_plan(index, key)
        mine = sorted(
            (k, v) for k, v in plan.items() if not port or k.partition(".")[0].partition("/")[0] in ("", port)
        )
        return f"{zlib.crc32(repr(mine).encode()):08x}"
    return ""


@dataclass(frozen=True)
class SubjectResult:
    """The newest test of a subject, and how it stands now."""

    of: str
    name: str
    tested: Tested | None
    standing: Standing


def newest_test(rig: Rig, of: str) -> Tested | None:
    """The last test of a subject."""
    kept = rig.tests.get(of)
    return kept.tests[-1] if kept and kept.tests else None


def standing_of_subject(index: Index, of: str) -> Standing:
    """How a subject stands: by its newest test, as long as nothing it depends on has changed since."""
    last = newest_test(index.rig, of)
    if last is None:
        return ""
    return last.result if last.facts == facts_of_subject(index, of) else "woken"


def all_standings(index: Index) -> dict[str, Standing]:
    """How everything stands that was ever tested. Worked out once for each rig: tapes ask for it at every painting."""
    last: dict[str, tuple[Rig, dict[str, Standing]]] = table_of("tests of a rig", 1)
    known = last.get("")
    if known is None or known[0] is not index.rig:
        known = last[""] = (index.rig, {of: standing_of_subject(index, of) for of in index.rig.tests})
    return known[1]


def record_lines(index: Index, subjects: Iterable[str]) -> list[SubjectResult]:
    rig = index.rig
    return [
        SubjectResult(of, name_of_subject(rig, of), newest_test(rig, of), standing_of_subject(index, of))
        for of in subjects
        if subject_exists(rig, of)
    ]


def count_standings(index: Index, subjects: Iterable[str]) -> dict[Standing, int]:
    """How many of some subjects stand how."""
    found: dict[Standing, int] = {}
    for of in subjects:
        how = standing_of_subject(index, of)
        found[how] = found.get(how, 0) + 1
    return found


def record_tests(
    index: Index,
    subjects: Iterable[str],
    result: TestResult,
    what: str,
    who: str,
    at: float,
    note: str = "",
) -> dict[str, TestRecord]:
    """Entries of the record with one more test for each subject. Raises Refused for an unknown result or none."""
    if result not in RESULTS:
        raise Refused(f"“{result}” is no result. It is one of {', '.join(RESULTS)}.")
    found = {}
    for of in dict.fromkeys(subjects):
        if subject_exists(index.rig, of):
            one = Tested(at=at, result=result, what=what, who=who, note=note.strip(), facts=facts_of_subject(index, of))
            before = index.rig.tests.get(of, TestRecord()).tests
            found[of] = TestRecord(tests=(*before, one)[-MOST:])
    if not found:
        raise Refused("There is nothing to record: pick what was tested.")
    return found
