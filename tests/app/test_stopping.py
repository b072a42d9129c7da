"""Long work in the window: what it is and how far it has come is shown, and it is stopped within half a second."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QPushButton

from tests.app.conftest import make  # noqa: F401
from tests.conftest import slowed
from welvo.app import disk
from welvo.app.disk import Progress, Waiting, wait_for
from welvo.app.patch.import_table import ImportTable
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.formats import files
from welvo.formats.files import write_atomic
from welvo.rig.document import Rig
from welvo.rig.steps import Stopped, take_step


@pytest.fixture
def small(make: Callable[[Rig], Window]) -> Window:  # noqa: F811
    return make(make_gallery())


def endless(ended: threading.Event | None = None) -> None:
    try:
        for n in range(10**9):
            take_step("rows", n, 10**9)
            time.sleep(0.001)
    finally:
        if ended:
            ended.set()


def press_stop(seen: list[tuple[str, str, float]]) -> None:
    """Press *Stop* as soon as it is there; what was shown, and when it was pressed, is kept."""

    def look() -> None:
        shown = next((w for w in QApplication.topLevelWidgets() if isinstance(w, Waiting) and w.isVisible()), None)
        if shown is None or not shown.far.text():
            QTimer.singleShot(10, look)
            return
        seen.append((shown.windowTitle(), shown.far.text(), time.monotonic()))
        next(b for b in shown.findChildren(QPushButton) if b.text() == "Stop").click()

    QTimer.singleShot(10, look)


def test_work_says_how_far_it_is_and_stops_at_once(small: Window) -> None:
    seen: list[tuple[str, str, float]] = []
    ended = threading.Event()
    press_stop(seen)
    with pytest.raises(Stopped, match="Nothing has changed"):
        wait_for(lambda: endless(ended), "Reading x.csv")
    assert time.monotonic() - seen[0][2] < slowed(0.5)
    assert seen[0][0] == "Reading x.csv" and seen[0][1].startswith("Rows ") and "of 1\u202f000" in seen[0][1]
    assert ended.wait(slowed(0.5))  # and the thread does not go on in secret


def test_an_import_that_is_stopped_changes_nothing(
    small: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "x.csv"
    file.write_text("Number,Name\n1,a\n")
    monkeypatch.setattr("welvo.app.patch.import_table.read_grid", lambda _: endless())
    before = small.session.rig
    press_stop([])
    with pytest.raises(Stopped):
        ImportTable(small.session, small.computer, file, small)
    assert small.session.rig is before


def test_short_work_shows_nothing_and_gives_its_result(small: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(disk, "Waiting", None)  # to be shown it would have to be called
    assert wait_for(lambda: time.sleep(0.05) or 7, "Reading") == 7
    with pytest.raises(KeyError):
        wait_for(lambda: {}["x"], "Reading")


def test_what_is_being_written_is_written_to_its_end(
    small: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Stopped is only said of what has not happened."""
    flush = files.os.fsync
    monkeypatch.setattr(files.os, "fsync", lambda fd: (time.sleep(0.9), flush(fd)))
    file, words = tmp_path / "x.txt", []

    def look() -> None:
        shown = next((w for w in QApplication.topLevelWidgets() if isinstance(w, Waiting) and w.isVisible()), None)
        if shown is None:
            QTimer.singleShot(10, look)
            return
        shown.reject()
        words.append(shown.far.text())

    QTimer.singleShot(10, look)
    wait_for(lambda: write_atomic(file, b"all of it"), "Writing x.txt")
    assert file.read_bytes() == b"all of it" and words == ["It is being written now, and is done in a moment."]


def test_what_was_stopped_before_is_not_written(tmp_path: Path) -> None:
    from welvo.rig.steps import watch_steps

    progress = Progress()
    assert progress.stop()
    with pytest.raises(Stopped), watch_steps(progress):
        write_atomic(tmp_path / "x.txt", b"no")
    assert list(tmp_path.iterdir()) == []
