"""Five hidden faults in the rehearsed gallery, found and put right with the Bench alone: clicks and keys counted.

What a person would do: pick the lamp, light it up, read why it is dark, press what the panel offers, look at the light.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import aiohttp  # noqa: F401  importing it takes a while, which is no part of the job
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import beside_stand_ins
from welvo.app.jobs.live_path import look_at
from welvo.app.window import Window
from welvo.bench.why import diagnose_item
from welvo.demo.gallery import make_gallery
from welvo.live.engine import EngineProcess
from welvo.live.messages import UniverseOut
from welvo.rig.lookup import find_item_named
from welvo.runs.bridge import set_right
from welvo.standins.process import StandIns

MOST_CLICKS, MOST_KEYS = 10, 23

STATE = """
["127.0.0.21"]
planned = true
["127.0.0.21".A]
universe = 9
["127.0.0.31"]
planned = true
["127.0.0.31"."1"]
protocol = "artnet"
["127.0.0.32"]
planned = true
["127.0.0.50"]
planned = true
"""
"""A port on another universe, a port on another protocol; the pixel controller's faults are put in by order."""


@pytest.fixture
def hidden(tmp_path: Path, qtbot: QtBot) -> Iterator[tuple[Window, StandIns]]:
    rig = make_gallery()
    pen = next(k for k, d in rig.devices.items() if d.name == "PENSTOCK")
    rig, _ = set_right(rig, pen, "6", 2)
    with beside_stand_ins(rig, STATE, tmp_path) as (window, stand_ins):
        window.show_station("Bench")
        yield window, stand_ins


def test_five_hidden_faults_with_the_bench_alone(hidden: tuple[Window, StandIns], qtbot: QtBot) -> None:
    window, stand_ins = hidden
    session, network, bench = window.session, window.network, window.bench
    clicks = keys = 0

    def until(condition: Callable[[], bool], seconds: float = 20) -> None:
        qtbot.waitUntil(condition, timeout=int(1000 * seconds))

    def press(words: str) -> None:
        nonlocal clicks

        def found() -> list[QPushButton]:
            every = [*bench.findChildren(QPushButton), *bench.panel.findChildren(QPushButton)]
            return [b for b in every if b.text().startswith(words) and b.isVisible() and b.isEnabled()]

        until(lambda: bool(found()))
        qtbot.mouseClick(found()[0], Qt.MouseButton.LeftButton)
        clicks += 1

    def ask(number: str) -> None:
        """Pick a lamp and light it up."""
        nonlocal keys
        bench.pick.setFocus()
        bench.pick.selectAll()
        qtbot.keyClicks(bench.pick, number)
        qtbot.keyClick(bench.pick, Qt.Key.Key_Return)
        keys += len(number) + 1
        press("Reveal")

    def first(number: str) -> tuple[str, str]:
        found = diagnose_item(look_at(session, network, find_item_named(session.rig, number)))
        return (found[0].stage, found[0].code) if found else ("", "")

    until(lambda: len(session.observed.heard) >= 4 and "127.0.0.50" in session.observed.said)
    qtbot.mouseClick(window.head.arm, Qt.MouseButton.LeftButton)
    clicks += 1

    # 1: a node's port listens to another universe
    ask("203")
    until(lambda: first("203") == ("port", "other universe"))
    press("Push sACN 3")
    until(lambda: first("203") == ("", ""))

    # 2: another one listens to the other protocol
    ask("107")
    until(lambda: first("107") == ("port", "other universe"))
    press("Push sACN 1")
    until(lambda: first("107") == ("", ""))

    # 3: the pixel controller was left in its test pattern
    stand_ins.order_fault("127.0.0.50", "test", "red")
    assert stand_ins.wait_until_settled()
    ask("534")
    until(lambda: first("534") == ("test pattern", "test"))
    assert "End the test in Devices" in " ".join(c.do for c in diagnose_item(look_at(session, network, "f534")))
    press("End the test")
    until(lambda: first("534") == ("", ""))

    # 4: somebody else sends the same universe
    ask("ribbon")
    laptop = EngineProcess("127.0.0.1", 1, "Forgotten laptop")
    try:
        laptop.set_streams([UniverseOut("x", "sacn", 5, ("239.255.0.5",), priority=150, rule="always")])
        until(lambda: first("ribbon") == ("wire", "overridden"))
        cause = diagnose_item(look_at(session, network, find_item_named(session.rig, "ribbon")))[0]
        assert cause.do == "Close Forgotten laptop at 127.0.0.1."
    finally:
        laptop.stop()
    until(lambda: first("ribbon")[1] != "overridden")

    # 5: the first string before the bridge is shorter than set: what is behind it moves
    stand_ins.order_fault("127.0.0.50", "short", 1)
    assert stand_ins.wait_until_settled()
    ask("534")
    until(lambda: first("534") == ("output", "output"))
    press("Drive")
    stand_ins.order_fault("127.0.0.50", "short", 0)  # the missing LED is put back
    assert stand_ins.wait_until_settled()
    until(lambda: first("534") == ("", ""))
    network.output.disarm_output()
    assert (clicks <= MOST_CLICKS, keys <= MOST_KEYS) == (True, True), (clicks, keys)
    print(f"{clicks} clicks, {keys} keys")
