"""Sixty fixtures of five modes over four universes from an empty rig, with keys and clicks counted. More fails."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.app.test_manual_page import Hand
from welvo.app.window import Window
from welvo.patch.index import Index
from welvo.rig.document import Rig

FIRST = "16 x Batten of 12 at 1.1"
REST = (
    "14 x Moving head, spot at 3.1 +20",
    "13 x RGBW at 3.300",
    "10 x Strobe at 3.400",
    "7 x Rings of 16 and 8 at 4.1",
)


def test_sixty_fixtures_of_five_modes_from_an_empty_rig(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    window = make(Rig())
    hand = Hand(window, qtbot)
    window.show_station("Patch")
    hand.clicks += 1  # Patch in the rail
    station, session = window.patch, window.session

    # the first line into the empty station's own field, the others into the field of the list
    hand.type(station.wish, FIRST)
    assert len(session.rig.fixtures) == 16 and len(session.rig.universes) == 2
    for line in REST:
        hand.click(station.quick)
        hand.keys += len(line) + 1
        qtbot.keyClicks(station.quick, line)
        qtbot.keyClick(station.quick, Qt.Key.Key_Return)
    QApplication.processEvents()
    rig = session.rig
    assert len(rig.fixtures) == 60 and len({(f.profile, f.mode) for f in rig.fixtures.values()}) == 5
    used = {s.universe for s in Index(rig).all_spans()}
    assert sorted(rig.universes[u].number for u in used) == [1, 2, 3, 4]

    # what was found wrong is put right with the findings' own fixes: each universe gets its feed
    while True:
        fixes = [f.possible_fixes[0] for f in session.report.findings if f.code == "FEED-02" and f.possible_fixes]
        if not fixes:
            break
        hand.clicks += 1
        assert fixes[0].edit
        session.make_edit(fixes[0].edit)
    assert [f.title for f in session.report.findings if f.severity == "error"] == []
    print(f"{hand.clicks} clicks, {hand.keys} keys")
    assert hand.clicks <= 11 and hand.keys <= 130
    while session.history.undo_label:
        session.undo_edit()
    assert session.rig == Rig()
