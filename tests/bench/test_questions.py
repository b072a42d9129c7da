"""Questions where facts end: every possibility is found by its own sights, and each question decides something."""

from __future__ import annotations

import pytest

from welvo.bench import questions as asked
from welvo.bench.questions import ANY, Possibility, behind_the_facts, on_pixels, questions_about
from welvo.patch.index import Index
from welvo.rig.document import Rig


@pytest.mark.parametrize("key", ["a", "e"])
def test_every_possibility_is_found_by_what_would_be_seen(rig: Rig, key: str) -> None:
    index = Index(rig)
    assert on_pixels(index, key) == (key == "e")
    for real in behind_the_facts(index, key).possible:
        solver, count = behind_the_facts(index, key), 0
        while solver.next_test and len(solver.still_possible) > 1:
            question = solver.next_test
            seen = solver.predict(real, question)
            if seen == ANY:
                seen = questions_about(index, key)[solver.tests.index(question)].answers[0]
            solver, count = solver.after_sight(question, seen), count + 1
        assert real in solver.still_possible and count <= 5
        assert len(solver.still_possible) <= 2, (real.name, [p.name for p in solver.still_possible])


def test_tables_and_words_fit_together() -> None:
    for possible, table, of in (
        (asked.LAMP_POSSIBLE, asked._LAMP, asked.LAMP_QUESTIONS),
        (asked.PIXEL_POSSIBLE, asked._PIXEL, asked.PIXEL_QUESTIONS),
    ):
        assert [p.name for p in possible] == list(table)
        for row in table.values():
            assert len(row) == len(of) and all(a == ANY or a in q.answers for a, q in zip(row, of, strict=True))
        assert all(isinstance(p, Possibility) and p.do.endswith(".") for p in possible)
        assert all(q.words.endswith("?") for q in of)


def test_an_answer_is_taken_back(rig: Rig) -> None:
    solver = behind_the_facts(Index(rig), "a").after_sight("life", "no")
    assert solver.words_of_verdict == "It has no power."
    assert len(solver.without_sight("life").still_possible) == 8
