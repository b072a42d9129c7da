"""The test record: kept apart from the plan, saved with the rig, woken by changes."""

from __future__ import annotations

from pathlib import Path

import pytest

from welvo.app.session import Session
from welvo.bench.record import MOST, exists, facts, lines, named, progress, recorded, standing, subject
from welvo.formats.rigfile import load, save
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig

A, PORT, ONE, NODE = subject("item", "a"), subject("port", "d", "A"), subject("universe", "u1"), subject("device", "d")


def record_it(session: Session, *subjects: str, result: str = "passed", **more: str) -> None:
    made = recorded(session.index, subjects, result, "all on", "Ann", 1000.0, **more)  # type: ignore[arg-type]
    session.amend("tests", made)


def test_undo_never_takes_a_test_away_and_saving_keeps_it(rig: Rig, tmp_path: Path) -> None:
    session = Session(rig)
    session.edit(edits.set_fixtures, "name", {"b": {"name": "X"}})
    record_it(session, A, result="failed", note=" no light ")
    session.edit(edits.set_fixtures, "name", {"b": {"name": "Y"}})
    assert session.dirty
    session.undo()
    session.undo()
    assert session.rig.fixtures["b"].name == "Right" and session.rig.tests[A].tests[0].note == "no light"
    session.redo()
    session.redo()
    assert session.rig.fixtures["b"].name == "Y" and standing(session.index, A) == "failed"
    assert session.history.undo_label == "name"  # recording is no step of its own
    save(session.rig, tmp_path / "x.welvo")
    assert load(tmp_path / "x.welvo").tests == session.rig.tests


def test_what_changes_what_was_tested_wakes_it(rig: Rig) -> None:
    session = Session(rig)
    every = (A, PORT, ONE, NODE, subject("item", "e"))
    record_it(session, *every)
    assert progress(session.index, every) == {"passed": 5}
    session.edit(edits.set_fixtures, "", {"a": {"note": "words change nothing"}})
    assert standing(session.index, A) == "passed"
    session.edit(edits.move, "a", 0, "u1", 101)
    assert standing(session.index, A) == "woken"
    session.undo()
    assert standing(session.index, A) == "passed"
    session.edit(edits.set_feed, "w1", "", wire=9)
    assert (standing(session.index, ONE), standing(session.index, PORT)) == ("woken", "woken")
    session.edit(edits.move, "e", 0, "u2", 200)
    assert standing(session.index, subject("item", "e")) == "woken"
    record_it(session, ONE)
    assert standing(session.index, ONE) == "passed" and len(session.rig.tests[ONE].tests) == 2


def test_names_lines_and_what_is_not_there(rig: Rig) -> None:
    session = Session(rig)
    assert [named(rig, of) for of in (A, PORT, ONE, NODE, "item/e")] == [
        "101",
        "NODE port A",
        "universe 1",
        "NODE",
        "ribbon",
    ]
    gone = subject("item", "nobody")
    assert not exists(rig, gone) and facts(Index(rig), gone) == "" and standing(Index(rig), gone) == ""
    with pytest.raises(Refused, match="nothing to record"):
        record_it(session, gone)
    with pytest.raises(Refused, match="no result"):
        record_it(session, A, result="perhaps")
    record_it(session, A, gone)
    (line, other) = lines(session.index, [A, PORT, gone])
    assert (line.name, line.standing, line.tested and line.tested.who) == ("101", "passed", "Ann")
    assert (other.standing, other.tested) == ("", None)
    for _ in range(MOST + 5):
        record_it(session, A)
    assert len(session.rig.tests[A].tests) == MOST
