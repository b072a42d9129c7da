"""The window on a real network of stand-ins on loopback: heard, wrong, pushed, armed, and light at the lamp."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from welvo.app.computer import Computer
from welvo.app.main import Demo, make_window
from welvo.app.session import Session
from welvo.demo.gallery import EXPECTED_LIVE


@pytest.fixture
def demo() -> Demo:  # type: ignore[misc]
    made = Demo()
    made.stand_ins.wait_ready()
    yield made
    made.stop()


def test_from_dark_to_light_in_the_window(demo: Demo, qtbot: QtBot, tmp_path: Path) -> None:
    window = make_window(Session(demo.rig), Computer(), "127.0.0.1", tmp_path)
    window.may_leave = lambda: True  # type: ignore[method-assign]
    window.show()
    window.network.start()
    try:
        live(window, qtbot)
    finally:
        window.shut()
        window.close()
        window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def live(window: object, qtbot: QtBot) -> None:
    from welvo.app.window import Window

    assert isinstance(window, Window)
    session, network = window.session, window.network

    def until(condition: Callable[[], bool]) -> None:
        qtbot.waitUntil(condition, timeout=15_000)

    def dimmer_at_the_lamp() -> int:
        given = network.port_gives("d1", "A")
        return given[149] if given else -1

    until(lambda: len(session.observed.heard) == 5)
    until(lambda: dimmer_at_the_lamp() == 0)
    session.select_items(["f207"])
    window.show_station("Bench")
    qtbot.mouseClick(window.head.arm, Qt.MouseButton.LeftButton)
    assert network.armed and "Forgotten laptop sends there now (sACN 6)" in window.message.words
    for function, value in (("Dimmer", 1.0), ("Shutter1", 1.0), ("ColorAdd_R", 1.0)):
        network.levels.hold(["f207"], function, value)
    network.touch()
    until(lambda: (network.on_wire("u3") or bytes(512))[149] == 255)
    until(lambda: session.report.codes == EXPECTED_LIVE)
    time.sleep(0.5)
    until(lambda: window.bench._sentence.text().startswith("Port A of WEIR-2 puts out other levels"))
    assert dimmer_at_the_lamp() != 255
    assert window.ribbon.shown and any(j.mark == "differs" and j.takes == "takes 2" for j in window.ribbon.shown.joints)
    push = next(b for b in window.bench.panel.findChildren(QPushButton) if b.text() == "Push sACN 3" and b.isVisible())
    qtbot.mouseClick(push, Qt.MouseButton.LeftButton)
    until(lambda: "WIRE-01" not in session.report.codes)
    until(lambda: dimmer_at_the_lamp() == 255)
    until(lambda: window.bench._sentence.text() == "What you mean is on the wire and at the port.")
    wanted = [
        "matches",
        "matches",
        "matches",
        "matches",
        "claimed",
        "matches",
    ]  # the port's own, once the device was read again
    until(lambda: bool(window.ribbon.shown) and [j.mark for j in window.ribbon.shown.joints] == wanted)
    engine = network.engine
    assert engine
    network.disarm()
    until(lambda: not engine.alive)
    until(lambda: not [s for s in session.observed.sources if s.own and s.protocol == "sacn"])
