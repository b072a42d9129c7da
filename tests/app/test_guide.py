"""The guide in the program: pages, links that stay inside, words that are found."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt, QUrl
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from welvo.app.guide import Guide
from welvo.app.window import Window
from welvo.formats import handbook as handbook_module
from welvo.formats.handbook import handbook_folder
from welvo.rig.document import Rig


def opened(window: Window) -> Guide:
    window.menus.actions["guide"].trigger()
    return next(g for g in window.findChildren(Guide))


def test_help_opens_the_guide_beside_the_window(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    window = make(Rig())
    guide = opened(window)
    assert not guide.isModal() and "Drift Gallery" in guide.text.toPlainText()
    QTest.keyClicks(guide.field, "busbar")
    QTest.keyClick(guide.field, Qt.Key.Key_Return)
    assert guide.isVisible() and "does not stand" in guide.saying.text()
    guide.field.setText("universe")
    QTest.keyClick(guide.field, Qt.Key.Key_Return)
    first = guide.text.textCursor().position()
    assert guide.text.textCursor().selectedText().lower() == "universe" and not guide.saying.text()
    QTest.keyClick(guide.field, Qt.Key.Key_Return)
    assert guide.text.textCursor().position() != first
    guide.close()


def test_links_lead_to_pages_of_the_handbook_and_nowhere_else(
    make: Callable[[Rig], Window], qtbot: QtBot, tmp_path: Path
) -> None:
    guide = opened(make(Rig()))
    start = guide.text.source()
    for bad in (
        "https://example.invalid/x.md",
        "file:///etc/passwd",
        "../README.md",
        str(tmp_path / "x.md"),
        "none.md",
    ):
        guide.text.follow_link(QUrl(bad))
        assert guide.text.source() == start, bad
    guide.text.follow_link(QUrl("chart.md"))
    assert guide.text.source().fileName() == "chart.md" and "chart" in guide.text.toPlainText()
    guide.text.backward()
    assert guide.text.source() == start
    guide.close()


def test_without_a_guide_it_says_where_it_is(
    make: Callable[[Rig], Window], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    assert handbook_folder() is not None
    monkeypatch.setattr(handbook_module, "__file__", str(tmp_path / "a" / "b" / "c" / "handbook.py"))
    window = make(Rig())
    window.menus.actions["guide"].trigger()
    assert not window.findChildren(Guide) and "docs/guide.md" in window.message.words
