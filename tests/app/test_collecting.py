"""Garbage is collected in the window's thread and in no other."""

from __future__ import annotations

import ast
import gc
import threading
import time
import weakref
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.fuzz.litter import Knot, littering
from welvo.app.collecting import OLDER, YOUNG, Collector, collect_here
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.rig.document import Rig

SOURCE = Path(__file__).parents[2] / "src" / "welvo"


@pytest.fixture
def seen() -> Iterator[list[int]]:
    """The thread of each collection."""
    found: list[int] = []

    def note(phase: str, _: dict[str, int]) -> None:
        if phase == "start":
            found.append(threading.get_ident())

    gc.callbacks.append(note)
    yield found
    gc.callbacks.remove(note)


def test_a_worker_cannot_collect_while_a_window_lives(
    make: Callable[[Rig], Window], qtbot: QtBot, seen: list[int]
) -> None:
    gc.enable()  # as a process begins: the window itself has to see to it
    make(make_gallery())
    try:
        collect_here(QApplication.instance()).parent()  # type: ignore[arg-type]
        del seen[:]
        knot = Knot()
        gone = weakref.ref(knot)
        del knot
        with littering(0.001):
            qtbot.waitUntil(lambda: len(seen) > 3, timeout=20_000)
        assert set(seen) == {threading.get_ident()} and gone() is None
    finally:
        gc.disable()


def test_a_worker_would_collect_if_it_were_allowed_to(seen: list[int]) -> None:
    """What the test above would see without the remedy."""
    gc.enable()
    try:
        with littering(0.001):
            time.sleep(0.001)
            until = time.monotonic() + 20
            while not set(seen) - {threading.get_ident()} and time.monotonic() < until:
                time.sleep(0.005)
    finally:
        gc.disable()
    assert set(seen) - {threading.get_ident()}


def test_generations_come_in_their_turn(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    collector = Collector(QApplication.instance())  # type: ignore[arg-type]
    done: list[int] = []
    monkeypatch.setattr(collector, "_has_grown", lambda: True)
    monkeypatch.setattr(gc, "collect", lambda generation: done.append(generation))
    counts = [YOUNG - 1]
    monkeypatch.setattr(gc, "get_count", lambda: (counts[0], 0, 0))
    collector.collect_what_is_due()
    assert done == []  # nothing is due
    counts[0] = YOUNG
    for _ in range((OLDER + 1) * (OLDER + 1)):
        collector.collect_what_is_due()
    assert done[:11] == [0] * OLDER + [1] and done.count(1) == OLDER and done[-1] == 2
    assert [g for g, _ in collector.pauses] == done
    collector.deleteLater()


def test_what_was_looked_through_is_only_looked_through_again_when_there_is_more(qtbot: QtBot) -> None:
    collector = Collector(QApplication.instance())  # type: ignore[arg-type]
    collector.settle_after_start()
    assert not collector._has_grown()
    kept = [Knot() for _ in range(20_000)]
    collector.collect_generation(1)
    assert collector._has_grown() and kept
    begun = time.perf_counter()
    collector.collect_generation(2)
    assert collector.pauses[-1] == (2, pytest.approx(time.perf_counter() - begun, abs=0.05))
    collector.deleteLater()


def test_nothing_else_in_the_program_switches_or_starts_the_collector() -> None:
    allowed = {SOURCE / "app" / "collecting.py"}
    for file in SOURCE.rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text("utf-8"))):
            if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "gc":
                # a command without a window leaves out the values of a large rig; one begins the window's process
                also = {("base.py", "freeze"), ("opening.py", "disable")}
                assert file in allowed or (file.parent.name == "cli" and (file.name, node.attr) in also), file
