"""Paper and interchange at scale: a PDF of a thousand fixtures and what the window does meanwhile, two rigs compared, a
scene of a thousand."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from itertools import pairwise

from msgspec.structs import replace

from patching import hall
from welvo.formats.mvr import loads_mvr
from welvo.formats.mvr_take import take_scene
from welvo.formats.mvr_write import dumps_mvr
from welvo.formats.workbooks import grid_of
from welvo.patch.index import Index
from welvo.rig.document import Rig
from welvo.sheets.catalogue import make_pdf
from welvo.sheets.lists import Material
from welvo.sheets.paper import Choices
from welvo.sheets.tables import list_bytes
from welvo.survey.compare import compare_rigs
from welvo.survey.spreadsheet import Mapping, guess_mapping, understand_table

Say = Callable[..., None]


def _timed(act: Callable[[], object], times: int = 3) -> float:
    best = 1e9
    for _ in range(times):
        begun = time.perf_counter()
        act()
        best = min(best, time.perf_counter() - begun)
    return best


def _spots(rig: Rig) -> Rig:
    return replace(
        rig, fixtures={k: replace(f, spot=(n % 40, n // 40, 4.0)) for n, (k, f) in enumerate(rig.fixtures.items())}
    )


def _pauses(rig: Rig) -> tuple[float, float]:
    """Seconds until the pages of a thousand fixtures stand in the window, and its longest pause meanwhile (ms)."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtCore import QEventLoop, QTimer
    from PySide6.QtWidgets import QApplication

    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.session import Session

    app = QApplication.instance() or QApplication(["bench"])
    assert isinstance(app, QApplication)
    window = make_window(Session(rig), Computer(), "127.0.0.1")
    window.show()
    window.show_station("Sheets")
    station = window.sheets
    until = time.monotonic() + 60
    while station.is_making and time.monotonic() < until:
        app.processEvents()
        time.sleep(0.002)
    station.choices.key = "numbers"
    station.refresh()
    beats: list[float] = []
    loop, timer, ends = QEventLoop(), QTimer(), QTimer()
    timer.setInterval(1)
    timer.timeout.connect(lambda: beats.append(time.perf_counter()))
    ends.setInterval(5)
    ends.timeout.connect(lambda: None if station.is_making and time.monotonic() < until else loop.quit())
    begun = time.perf_counter()
    timer.start()
    ends.start()
    loop.exec()
    took = time.perf_counter() - begun
    longest = max((b - a for a, b in pairwise(beats)), default=0.0) * 1000
    window.end_everything()
    window.close()
    return took, longest


def sheets(say: Say) -> None:
    rig = _spots(hall(1000))
    m = Material(Index(rig), now=time.time())
    for key in ("numbers", "patch", "labels", "lamps"):
        took = _timed(lambda key=key: make_pdf(m, key, Choices()), 2)  # type: ignore[misc]
        say(f"PDF of 1,000 fixtures: {key}", f"{took:.2f} s", "3 s", took < 3)
    took, longest = _pauses(rig)
    say("the same in the window: pages stand after", f"{took:.2f} s", "3 s", took < 3)
    say("the same in the window: longest pause", f"{longest:.0f} ms")
    big = hall(10_000)
    moved = {k: replace(f, note="x") if n % 10 == 0 else f for n, (k, f) in enumerate(big.fixtures.items())}
    other = replace(big, fixtures=moved)
    a, b = Index(big), Index(other)
    took = _timed(lambda: compare_rigs(a, b))
    say("two rigs of 10,000 fixtures compared, 1,000 differ", f"{took * 1000:.0f} ms", "500 ms", took < 0.5)
    took = _timed(lambda: compare_rigs(Index(big), Index(other)))
    say("the same, both indexes built anew", f"{took * 1000:.0f} ms", "500 ms", took < 0.5)
    data, _ = dumps_mvr(m.index)
    took = _timed(lambda: dumps_mvr(m.index))
    say("MVR of 1,000 fixtures written", f"{took:.2f} s", "2 s", took < 2)
    took = _timed(lambda: take_scene(Index(Rig()), loads_mvr(data)))
    say("MVR of 1,000 fixtures taken in", f"{took:.2f} s", "2 s", took < 2)
    for suffix in (".xlsx", ".ods"):
        table, _ = list_bytes(m, "patch", suffix)
        took = _timed(lambda suffix=suffix: list_bytes(m, "patch", suffix), 2)  # type: ignore[misc]
        say(f"1,000 rows written as {suffix}", f"{took:.2f} s")

        def read(table: bytes = table) -> object:
            grid = grid_of(table, "x")
            return understand_table(m.index, grid.rows, Mapping(guess_mapping(rig, grid.rows[0])), grid.loose)

        say(f"1,000 rows taken in from {suffix}", f"{_timed(read, 2):.2f} s")
