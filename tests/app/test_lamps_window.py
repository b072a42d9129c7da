"""Lamps that answer by RDM in the real window: a line of twelve at address 1 comes to its places, clicks and keys
counted; told apart, set one by one, taken over, drafted from."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TypeVar

import pytest
from PySide6.QtCore import QEventLoop, QPoint, Qt, QTimer
from PySide6.QtWidgets import QPushButton, QWidget
from pytestqt.qtbot import QtBot

from tests.app.conftest import beside_stand_ins
from tests.app.test_manual_page import Hand
from welvo.app.devices.lamp_list import HEAD
from welvo.app.widgets.fields import CommandLine, Field
from welvo.app.widgets.fixes import run_fix
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.matching.lamps import LampWish
from welvo.patch.set_on import set_on
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.refs import Goto
from welvo.standins.lamps import uid_of

W = TypeVar("W", bound=QWidget)
STATE = """
["127.0.0.21"]
"A.universe" = 3
"A.protocol" = "sacn"
lamps = { LAMPS }
"""
MOST_CLICKS, MOST_KEYS = 6, 48


def hall(tmp_path: Path, lamps: str = "") -> Iterator[Window]:
    with beside_stand_ins(make_gallery(), STATE.replace("LAMPS", lamps), tmp_path) as (window, _):
        window.resize(1280, 800)
        yield window


@pytest.fixture
def new(tmp_path: Path, qtbot: QtBot) -> Iterator[Window]:
    """The gallery with all lamps as they left the factory."""
    yield from hall(tmp_path)


@pytest.fixture
def faulty(tmp_path: Path, qtbot: QtBot) -> Iterator[Window]:
    """202 stands elsewhere and locked, 203 works in another mode, 204 is gone."""
    places = {k: set_on_of(k) for k in (201, 205, 206, 207, 208, 304, 305, 306, 307)}
    rest = ", ".join(f'"{n}" = {{ address = {a} }}' for n, a in places.items())
    odd = '"202" = { address = 401, fault = "stubborn" }, "203" = { address = 49, personality = 2 }'
    yield from hall(tmp_path, f'{rest}, {odd}, "204" = {{ gone = true }}')


def set_on_of(number: int) -> int:
    from welvo.patch.index import Index

    index = Index(make_gallery())
    return set_on(index, key_of(index.rig, number)).address or 1


def key_of(rig: Rig, number: int) -> str:
    return next(k for k, f in rig.fixtures.items() if f.number == number)


def device(window: Window) -> str:
    return next(k for k, d in window.session.rig.devices.items() if d.name == "WEIR-2")


def until(qtbot: QtBot, condition: Callable[[], bool]) -> None:
    qtbot.waitUntil(condition, timeout=15_000)


def press(of: QWidget, words: str) -> None:
    found(of, QPushButton, words).click()


def found(of: QWidget, kind: type[W], words: str = "") -> W:
    """What is shown of a kind; it may take a moment until what was made anew is."""
    for _ in range(200):
        loop = QEventLoop()  # unlike a wait of QTest's it lets other threads of Python work
        QTimer.singleShot(10, loop.quit)
        loop.exec()
        for w in of.findChildren(kind):
            if w.isVisible() and w.isEnabled() and (not words or w.text().startswith(words)):  # type: ignore[attr-defined]
                return w
    raise AssertionError(f"There is no {kind.__name__} “{words}”.")


def named(qtbot: QtBot, of: QWidget, name: str) -> Field:
    """The field of a name, as soon as it is shown: what is built anew is a moment later."""
    here: list[Field] = []

    def there() -> bool:
        here[:] = [f for f in of.findChildren(Field) if f.accessibleName() == name and f.isVisible()]
        return bool(here)

    until(qtbot, there)
    return here[0]


def searched(window: Window, qtbot: QtBot) -> None:
    until(qtbot, lambda: "127.0.0.21" in window.session.observed.heard)
    window.go(Goto("lamps", device(window), "A"))
    press(window.devices.lamps, "Search")
    until(qtbot, lambda: bool(window.devices.lamps.pairs) and not window.network.lamps.searches)


def pick(window: Window, qtbot: QtBot, number: int) -> None:
    page = window.devices.lamps
    rig = window.session.rig
    n = next(n for n, p in enumerate(page.pairs) if p.fixture and rig.fixtures[p.fixture].number == number)
    at = QPoint(80, HEAD + page.list.height_of_row * n + 10)
    qtbot.mouseClick(page.list, Qt.MouseButton.LeftButton, pos=at)


def test_twelve_lamps_at_address_one_come_to_their_places(new: Window, qtbot: QtBot) -> None:
    """The page of lamps, a search, each lamp's number as it blinks, one push. More clicks or keys fail."""
    session, page = new.session, new.devices.lamps
    hand = Hand(new, qtbot)
    until(qtbot, lambda: "127.0.0.21" in session.observed.heard)
    new.show_station("Devices")
    hand.clicks += 1
    new.devices.choose_first()  # as coming there does
    hand.click(next(b for b in new.devices.findChildren(QPushButton) if b.text() == "Lamps"))
    hand.click(page.search)
    until(qtbot, lambda: len(page.pairs) == 12)
    assert {p.lamp.address for p in page.pairs if p.lamp} == {1} and "12 at address 001" in page._counts.text()
    hand.click(found(page, QPushButton, "Tell apart"))
    who = {uid_of(make_gallery(), k): f.number for k, f in session.rig.fixtures.items()}
    while page._apart:
        uid = page._apart[0]
        until(qtbot, lambda uid=uid: page.work.blinking == (page.place_of_port, uid))
        field = found(page, CommandLine)
        number = str(who[uid])
        qtbot.keyClicks(field, number)
        qtbot.keyClick(field, Qt.Key.Key_Return)
        hand.keys += len(number) + 1
    assert page.work.blinking is None and all(p.sure for p in page.pairs)
    hand.click(found(page, QPushButton, "Push 11 changes"))
    assert page.work.pushes
    until(qtbot, lambda: not page.work.pushes)
    assert page._counts.text() == "12 answered · all as planned"
    for p in page.pairs:
        assert p.lamp and p.lamp.address == set_on(session.index, p.fixture).address
        assert uid_of(make_gallery(), p.fixture) == p.lamp.uid
    assert not any(f.code.startswith("LAMP") and f.severity == "error" for f in session.report.findings)
    pick(new, qtbot, 207)
    assert new.ribbon.path_shown and new.ribbon.path_shown.hops[-1].fact in ("says 145 itself", "port gives 0")
    print(f"{hand.clicks} clicks, {hand.keys} keys")
    assert hand.clicks <= MOST_CLICKS and hand.keys <= MOST_KEYS
    while session.history.undo_label:
        session.undo_edit()
    assert session.rig == make_gallery()


def test_a_number_that_cannot_be_is_refused_and_leaving_ends_the_blinking(new: Window, qtbot: QtBot) -> None:
    searched(new, qtbot)
    page = new.devices.lamps
    press(page, "Tell apart")
    first = page._apart[0]
    with pytest.raises(Refused, match="There is no lamp 999 on this port"):
        page._confirm_lamp("999")
    page._skip_lamp()
    assert page._apart[0] != first and page.work.blinking == (page.place_of_port, page._apart[0])
    page._confirm_lamp("201")
    with pytest.raises(Refused, match="201 is 7FF1:"):
        page._confirm_lamp("201")
    new.show_station("Patch")
    assert not page._apart and page.work.blinking is None


def test_one_lamp_after_the_other_is_looked_at_and_set(faulty: Window, qtbot: QtBot) -> None:
    searched(faulty, qtbot)
    session, page, panel = faulty.session, faulty.devices.lamps, faulty.devices.panel
    assert "1 did not" in page._counts.text()
    codes = {f.code for f in session.report.findings if f.code.startswith("LAMP")}
    assert {"LAMP-02", "LAMP-03"} <= codes
    mode = next(f for f in session.report.findings if f.code == "LAMP-02")
    run_fix(session, faulty.network, mode.possible_fixes[0])
    until(qtbot, lambda: "LAMP-02" not in {f.code for f in session.report.findings})
    page.work.push_wishes(page.work.place_of_port(page.port_shown), {mode.goes_to.place: LampWish(personality=2)})
    until(qtbot, lambda: "LAMP-02" in {f.code for f in session.report.findings})
    pick(faulty, qtbot, 203)
    until(qtbot, lambda: bool(page.chosen_pair() and page.chosen_pair().lamp.deep))  # type: ignore[union-attr]
    assert "Tarnwick" in {b for a, b in _ways(panel)} and ("slot 3", "tilt") not in _ways(panel)
    press(panel, "Push mode 22 slot")
    until(qtbot, lambda: _lines(page)["personality"] == "matches")
    assert "taken and read back" in faulty.message.words
    page.work.set_items(())
    assert faulty.message.words.startswith("Select fixtures first")
    page.work.set_items(key_of(session.rig, n) for n in (202, 203))
    assert faulty.message.words.startswith("None of 2 lamps is known by RDM yet")
    pick(faulty, qtbot, 202)
    press(panel, "Yes, it is 202")
    page.work.set_items(key_of(session.rig, n) for n in (202, 203))
    assert faulty.message.words == "1 lamp to be set. 1 other is not known by RDM yet."
    until(qtbot, lambda: "refused" in faulty.message.words and not page.work.pushes)
    press(panel, "Push address 025")
    until(qtbot, lambda: "locked against writing" in faulty.message.words)
    assert _lines(page)["address"] == "differs"
    press(panel, "Plan 401")
    assert set_on(session.index, key_of(session.rig, 202)).address == 401 and _lines(page)["address"] == "matches"
    field = named(qtbot, panel, "It is number")
    field.setText("888")
    assert not field.commit() and "There is no lamp 888" in field.refusal.text()
    field.setText("")
    assert field.commit() and not session.rig.fixtures[key_of(session.rig, 202)].uid
    page.list.setFocus()
    qtbot.keyClick(page.list, Qt.Key.Key_Space)
    assert page.work.blinking
    qtbot.keyClick(page.list, Qt.Key.Key_Space)
    assert page.work.blinking is None
    before = len(session.rig.profiles)
    press(panel, "Draft a profile of it")
    assert len(session.rig.profiles) == before + 1 and faulty.station == "Profiles"


def _ways(panel: QWidget) -> set[tuple[str, str]]:
    from welvo.app.widgets.panels import Ways

    return {row for w in panel.findChildren(Ways) for row in w._ways}


def _lines(page: object) -> dict[str, str]:
    pair = page.chosen_pair()  # type: ignore[attr-defined]
    return {x.key: x.mark for x in pair.lines}


def test_a_port_that_cannot_be_searched_says_why(new: Window, qtbot: QtBot) -> None:
    page = new.devices.lamps
    until(qtbot, lambda: "127.0.0.21" in new.session.observed.heard)
    new.go(Goto("lamps", device(new), "A"))
    assert page._counts.text() == "Not searched yet. Searching changes nothing on the lamps."
    page.search.click()
    assert "Searching" in page.work.words_if_busy(page.place_of_port) and not page.search.isEnabled()  # type: ignore[arg-type]
    press(page, "Stop")
    until(qtbot, lambda: page._counts.text() == "The search was stopped.")
    page.search.click()
    new.network.lamps.forget()  # another rig, or another interface
    assert not page.work.searches and sys.getswitchinterval() > 0.001
    page.search.click()
    assert sys.getswitchinterval() < 0.001  # the window has its turn while answers come
    new.network.lamps.stop_all()
    new.network.lamps.take_over_ended()  # one that comes late finds nothing to take over
    assert sys.getswitchinterval() > 0.001
    new.network.hearing.quiet = True
    new.network.hearing.listener.quiet = True  # type: ignore[union-attr]
    with pytest.raises(Refused, match="nothing may be sent"):
        page._search_port()
    with pytest.raises(Refused, match="as planned already"):
        page.work.push_wishes(page.work.place_of_port(page.port_shown), {})
