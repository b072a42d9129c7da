"""The test record: kept apart from the plan, saved with the rig, woken by changes."""

from __future__ import annotations

from pathlib import Path

import pytest

from welvo.app.session import Session
from welvo.bench.record import (
    MOST,
    count_standings,
    facts_of_subject,
    name_of_subject,
    record_lines,
    record_tests,
    standing_of_subject,
    subject_exists,
    subject_of_test,
)
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig

A, PORT, ONE, NODE = (
    subject_of_test("item", "a"),
    subject_of_test("port", "d", "A"),
    subject_of_test("universe", "u1"),
    subject_of_test("device", "d"),
)


def record_it(session: Session, *subjects: str, result: str = "passed", **more: str) -> None:
    made = record_tests(session.index, subjects, result, "all on", "Ann", 1000.0, **more)  # type: ignore[arg-type]
    session.amend_record("tests", made)


def test_undo_never_takes_a_test_away_and_saving_keeps_it(rig: Rig, tmp_path: Path) -> None:
    session = Session(rig)
    session.make_edit(edits.set_fixtures, "name", {"b": {"name": "X"}})
    record_it(session, A, result="failed", note=" no light ")
    session.make_edit(edits.set_fixtures, "name", {"b": {"name": "Y"}})
    assert session.has_unsaved_edits
    session.undo_edit()
    session.undo_edit()
    assert session.rig.fixtures["b"].name == "Right" and session.rig.tests[A].tests[0].note == "no light"
    session.redo_edit()
    session.redo_edit()
    assert session.rig.fixtures["b"].name == "Y" and standing_of_subject(session.index, A) == "failed"
    assert session.history.undo_label == "name"  # recording is no step of its own
    save_rig_file(session.rig, tmp_path / "x.welvo")
    assert load_rig_file(tmp_path / "x.welvo").tests == session.rig.tests


def test_what_changes_what_was_tested_wakes_it(rig: Rig) -> None:
    session = Session(rig)
    every = (A, PORT, ONE, NODE, subject_of_test("item", "e"))
    record_it(session, *every)
    assert count_standings(session.index, every) == {"passed": 5}
    session.make_edit(edits.set_fixtures, "", {"a": {"note": "words change nothing"}})
    assert standing_of_subject(session.index, A) == "passed"
    session.make_edit(edits.move_item, "a", 0, "u1", 101)
    assert standing_of_subject(session.index, A) == "woken"
    session.undo_edit()
    assert standing_of_subject(session.index, A) == "passed"
    session.make_edit(edits.set_feed, "w1", "", wire=9)
    assert (standing_of_subject(session.index, ONE), standing_of_subject(session.index, PORT)) == ("woken", "woken")
    session.make_edit(edits.move_item, "e", 0, "u2", 200)
    assert standing_of_subject(session.index, subject_of_test("item", "e")) == "woken"
    record_it(session, ONE)
    assert standing_of_subject(session.index, ONE) == "passed" and len(session.rig.tests[ONE].tests) == 2


def test_names_lines_and_what_is_not_there(rig: Rig) -> None:
    session = Session(rig)
    assert [name_of_subject(rig, of) for of in (A, PORT, ONE, NODE, "item/e")] == [
        "101",
        "NODE port A",
        "universe 1",
        "NODE",
        "ribbon",
    ]
    gone = subject_of_test("item", "nobody")
    assert (
        not subject_exists(rig, gone)
        and facts_of_subject(Index(rig), gone) == ""
        and standing_of_subject(Index(rig), gone) == ""
    )
    with pytest.raises(Refused, match="nothing to record"):
        record_it(session, gone)
    with pytest.raises(Refused, match="no result"):
        record_it(session, A, result="perhaps")
    record_it(session, A, gone)
    (line, other) = record_lines(session.index, [A, PORT, gone])
    assert (line.name, line.standing, line.tested and line.tested.who) == ("101", "passed", "Ann")
    assert (other.standing, other.tested) == ("", None)
    for _ in range(MOST + 5):
        record_it(session, A)
    assert len(session.rig.tests[A].tests) == MOST
