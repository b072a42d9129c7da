"""The whole window with ten and a hundred thousand fixtures: from an act to its last repaint."""

from __future__ import annotations

import gc
import time
from collections.abc import Callable
from typing import Any

from patching import hall

Say = Callable[..., None]


def _until_idle(app: Any) -> None:
    """Run the event loop until nothing is left to do: what an act put off to a timer of no time is part of it."""
    from PySide6.QtCore import QEvent

    for _ in range(3):
        app.processEvents()
        app.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def _timed(app: Any, act: Callable[[], object], times: int) -> float:
    """The quickest of some runs in ms, from the act to the last repaint."""
    found = []
    for _ in range(times):
        _until_idle(app)
        gc.collect()
        begun = time.perf_counter()
        act()
        _until_idle(app)
        found.append((time.perf_counter() - begun) * 1e3)
    return min(found)


def whole(say: Say) -> None:
    import tempfile
    from pathlib import Path

    from PySide6.QtWidgets import QApplication

    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.session import Session

    app = QApplication.instance() or QApplication(["bench"])
    for count, times in ((10_000, 3), (100_000, 1)):
        with tempfile.TemporaryDirectory() as folder:
            window = make_window(Session(hall(count)), Computer(), "127.0.0.1", Path(folder))
            window.files.may_leave = lambda: True  # type: ignore[method-assign]
            window.resize(1280, 800)
            window.show()
            window.show_station("Patch")
            _acts(app, window.session, count, times, say)
            window.end_everything()
            window.close()
            window.deleteLater()
            _until_idle(app)


def _acts(app: Any, s: Any, count: int, times: int, say: Say) -> None:
    from welvo.rig.edits import set_fixtures

    _until_idle(app)
    keys = list(s.rig.fixtures)
    at = iter(range(10, 10_000, 7))
    words = f"{count // 1000} 000 fixtures in the whole window"
    small = count == 10_000
    first = _timed(app, lambda: s.select_items([keys[next(at)]]), 5)  # five kinds, each for the first time
    one = _timed(app, lambda: s.select_items([keys[next(at)]]), 15)
    say(f"{words}: select one", f"{one:.1f} ms", "under 16 ms" if small else "", one < 16 or not small)
    say("    the first of its kind", f"{first:.1f} ms")

    def all_of_them() -> None:
        s.select_items([])
        _until_idle(app)
        s.select_items(keys)

    every = _timed(app, all_of_them, times)
    most = 100 if small else 1000
    say("    select all", f"{every:.0f} ms", f"under {most} ms", every < most)
    names = iter("ABCDEFGH")

    def rename() -> None:
        name = next(names)
        s.make_edit(set_fixtures, "name", {key: {"name": name} for key in keys})

    edit = _timed(app, rename, times)
    most = 250 if small else 3000
    say("    an edit of all", f"{edit:.0f} ms", f"under {most} ms", edit < most)
    back = _timed(app, s.undo_edit, min(times, 2))
    say("    undo of it", f"{back:.0f} ms", f"under {most} ms", back < most)
