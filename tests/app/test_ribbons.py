"""21 ribbons, two panels and a bridge on a 12-port controller, from nothing to a checked plan, with keys and clicks
counted. More fails."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.test_manual_page import Hand
from welvo.app.widgets.add_device import AddDevice
from welvo.app.window import Window
from welvo.checks.checker import check_rig
from welvo.rig.document import Rig
from welvo.runs.pixels import universes_of


def plan(hand: Hand, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    """Answer the dialog that plans a device: a Penstock 12 under the name it proposes."""

    def answer(dialog: AddDevice) -> int:
        dialog.show()
        at = next(i for i in range(dialog.model.count()) if "Penstock 12" in dialog.model.itemText(i))
        hand.clicks += 2  # open the list, choose
        dialog.model.setCurrentIndex(at)
        dialog.look()
        hand.click(dialog.go)
        return int(bool(dialog.made))

    monkeypatch.setattr(AddDevice, "exec", answer)
    hand.press("Add device…")


def test_ribbons_panels_and_a_bridge_from_nothing(
    make: Callable[[Rig], Window], qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = make(Rig())
    hand = Hand(window, qtbot)
    session = window.session

    # the lamps that will are attached behind the bridge, without an address
    window.show_station("Patch")
    hand.clicks += 1
    hand.type(window.patch.wish, "5 x RGBW")

    window.show_station("Runs")
    hand.clicks += 1
    plan(hand, qtbot, monkeypatch)
    runs = window.runs
    for line in (
        "21 x 55 RGB ribbon, 3 to a port, there and back",
        "2 x 8x8 panel, fold 8 on 8",
        "bridge: 101-105 on 7",
    ):
        hand.click(runs.attach)
        qtbot.keyClicks(runs.attach, line)
        assert "port" in runs.preview.text(), runs.preview.text()
        hand.keys += len(line) + 1
        qtbot.keyClick(runs.attach, Qt.Key.Key_Return)
        QApplication.processEvents()
    # the finding of the first port has the way out in one click
    hand.click(runs.riser, QPoint(int(runs.riser.column_of_port("1").center().x()), 15))
    fix = next(
        b
        for b in window.runs.panel.findChildren(QPushButton)
        if b.text().startswith("Each port its own") and b.isVisible()
    )
    hand.click(fix)

    rig = session.rig
    (device_id,) = rig.devices
    cables = session.index.cables_and_sums
    streams = [s for k, s in cables.streams.items() if k[0] == device_id]
    assert [(s.label, s.leds or s.pixels) for s in streams] == [
        *((str(n), 165) for n in range(1, 7)),
        ("7", 172),
        ("8", 128),
    ]
    assert [p.segment.reverse for p in streams[0].pieces] == [False, True, False]
    # 7 ports of 495 slots each in a universe of its own; the bridge's 21 slots do not fit behind 495 on the seventh
    assert universes_of(cables, device_id) == {**dict.fromkeys(range(1, 7), 495), 7: 510, 8: 6, 9: 384}
    lamps = [session.index.spans_of(k)[0] for k in rig.fixtures]
    assert [(rig.universes[s.universe].number, s.first) for s in lamps] == [
        (7, 496),
        (7, 500),
        (7, 504),
        (7, 508),
        (8, 2),
    ]
    errors = [f for f in session.report.findings if f.severity == "error"]
    assert [f.code for f in errors] == ["RUN-21"]  # the fourth lamp lies across the universe's end: one click more
    assert errors[0].possible_fixes[0].edit
    hand.clicks += 2
    session.make_edit(errors[0].possible_fixes[0].edit)
    assert [f.title for f in session.report.findings if f.severity == "error"] == []
    assert session.report == check_rig(session.rig)
    print(f"{hand.clicks} clicks, {hand.keys} keys")
    assert hand.clicks <= 14 and hand.keys <= 125
    while session.history.undo_label:
        session.undo_edit()
    assert session.rig == Rig()
