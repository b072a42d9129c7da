"""Work beside the window: one door out, one way back, and nothing left when the window is gone."""

from __future__ import annotations

import ast
import asyncio
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import psutil
import pytest
from PySide6.QtCore import QEvent
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

import welvo
from tests.app.test_lamps_window import until
from welvo.app.computer import Computer, load_passwords, save_passwords
from welvo.app.disk import SMALL_FILES, SmallFiles
from welvo.app.faults import FaultLog
from welvo.app.main import make_window
from welvo.app.runner import Job, JobRunner
from welvo.app.session import Session
from welvo.demo.gallery import make_gallery
from welvo.live.worker import Fault
from welvo.patience import wait_until

SOURCE = Path(welvo.__file__).parent


@pytest.fixture
def runner() -> Iterator[JobRunner]:
    made = JobRunner()
    yield made
    made.close()


async def _give(value: int, after: float = 0.0) -> int:
    await asyncio.sleep(after)
    return value


async def _break() -> int:
    raise ValueError("no answer")


def test_a_result_comes_back_in_the_thread_that_takes_it_over(runner: JobRunner) -> None:
    came: list[tuple[int, int]] = []
    runner.start("owner", lambda: _give(7), lambda job: came.append((job.result, threading.get_ident())))
    assert wait_until(lambda: runner.take_over("owner") == 1, 5.0)
    assert came == [(7, threading.get_ident())]
    assert runner.take_over("owner") == 0 and len(came) == 1  # it is taken over once


def test_each_owner_takes_over_its_own_as_many_as_it_wants_at_a_time(runner: JobRunner) -> None:
    one, two = object(), object()
    came: list[object] = []
    begun = [
        runner.start(owner, lambda: _give(1), lambda job: came.append(job.owner)) for owner in (one, two, one, one)
    ]
    assert wait_until(lambda: all(j.is_over for j in begun), 5.0)
    assert runner.take_over(one, most=2) == 2 and came == [one, one]
    assert runner.take_over(two) == 1 and runner.take_over(one) == 1 and came == [one, one, two, one]


def test_what_broke_off_says_why_and_what_was_cancelled_gives_nothing(runner: JobRunner) -> None:
    ended: list[Job[int]] = []
    runner.start("owner", _break, ended.append)
    slow = runner.start("owner", lambda: _give(1, 60.0), ended.append)
    assert slow.error is None and not slow.is_over
    slow.cancel()
    assert wait_until(lambda: runner.take_over("owner") < 3 and len(ended) == 2, 5.0)
    broken = next(j for j in ended if j is not slow)
    assert str(broken.error) == "no answer" and slow.was_cancelled and slow.error is None
    with pytest.raises(ValueError, match="no answer"):
        _ = broken.result


def test_an_owner_that_is_gone_takes_over_nothing(runner: JobRunner) -> None:
    ended: list[Job[int]] = []
    job = runner.start("owner", lambda: _give(1), ended.append)
    runner.forget("owner")
    assert wait_until(lambda: job.is_over, 5.0)
    assert runner.take_over("owner") == 0 and not ended


def test_a_result_that_cannot_be_taken_over_costs_no_other_and_one_that_ends_its_owner_is_the_last(
    runner: JobRunner,
) -> None:
    came: list[str] = []

    def fail(_: Job[int]) -> None:
        raise LookupError("the lamp is gone")

    def leave(_: Job[int]) -> None:
        came.append("leave")
        runner.forget("leaves")

    jobs = [
        runner.start("fails", lambda: _give(1), fail),
        runner.start("fails", lambda: _give(1), lambda _: came.append("b")),
    ]
    jobs += [runner.start("leaves", lambda: _give(1), leave), runner.start("leaves", lambda: _give(1), leave)]
    assert wait_until(lambda: all(j.is_over for j in jobs), 5.0)
    with pytest.raises(LookupError, match="gone"):
        runner.take_over("fails")
    assert came == [] and runner.take_over("fails") == 1 and came == ["b"]
    assert runner.take_over("leaves") == 1 and came == ["b", "leave"]


def test_settings_are_written_beside_the_window_and_read_as_they_were_last_saved(
    qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    held, writes = threading.Event(), []
    files = SmallFiles()
    files.write_soon("x", lambda: (held.wait(10), writes.append("first")))
    begun = time.monotonic()
    for n in range(20):  # the disk stands: nobody waits, and only the newest is written afterwards
        files.write_soon("x", lambda n=n: writes.append(f"{n}, by {threading.current_thread().name}"))  # type: ignore[misc]
    assert time.monotonic() - begun < 1.0 and not writes
    held.set()
    assert files.settle(5.0) and writes == ["first", "19, by writing x"]
    files.close()
    assert wait_until(lambda: not [t for t in threading.enumerate() if t.name == "writing x"], 2.0)
    computer = Computer(theme="light")
    computer.save_settings()
    computer.theme = "dark"
    computer.save_settings()
    save_passwords({"127.0.0.9": "kelp"})
    assert Computer.load_settings().theme == "dark" and load_passwords() == {"127.0.0.9": "kelp"}
    SMALL_FILES.close()


def test_a_trace_whose_disk_stands_is_not_waited_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    log, held = FaultLog(tmp_path / "errors.log"), threading.Event()
    write = log._write_fault
    monkeypatch.setattr(log, "_write_fault", lambda *a: held.wait(10) and write(*a))
    begun = time.monotonic()
    words = log.take_fault(Fault("listening", ValueError("deaf")))
    assert time.monotonic() - begun < 5.0 and words.endswith(f"The trace is being written to {log.file}.")
    held.set()
    assert wait_until(lambda: log.file.exists() and "deaf" in log.file.read_text(), 5.0)


def _what_runs() -> tuple[set[str], set[int], set[tuple[str, object]]]:
    """Threads of ours by name, processes begun by this one, and its sockets."""
    me = psutil.Process()
    sockets = {(str(c.type), c.laddr) for c in me.net_connections() if c.laddr}
    return {t.name for t in threading.enumerate()}, {c.pid for c in me.children()}, sockets


def test_everything_that_a_window_begins_ends_with_it(tmp_path: Path, qtbot: QtBot) -> None:
    """Listening, pages, output with its process, lamps, sheets, the journal and settings: all begun, then all gone."""
    before = _what_runs()
    window = make_window(Session(make_gallery()), Computer(), "127.0.0.1", tmp_path)
    window.files.may_leave = lambda: True  # type: ignore[method-assign]
    window.show()
    window.network.start_network()
    assert window.network.output.arm_output()
    until(qtbot, lambda: window.network.output.sending.leaving > 0)
    window.network.runner.start(window, lambda: _give(1, 60.0), lambda _: None)
    window.show_station("Sheets")
    window.computer.save_settings()
    until(qtbot, lambda: {"listener", "status pages", "device jobs"} <= {t.name for t in threading.enumerate()})
    during = _what_runs()
    assert len(during[0] - before[0]) >= 4 and len(during[1] - before[1]) == 1 and len(during[2] - before[2]) >= 2
    window.end_everything()
    window.close()
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    left: Callable[[], list[set[object]]] = lambda: [set(a) - set(b) for a, b in zip(_what_runs(), before, strict=True)]  # noqa: E731
    assert wait_until(lambda: not any(left()), 5.0), left()


def test_the_window_begins_threads_in_one_place_alone() -> None:
    """Everything else hands its work over there, so that it is ended and brought back as all work is."""
    for file in (SOURCE / "app").rglob("*.py"):
        if file.name in ("runner.py", "disk.py"):
            continue
        for node in ast.walk(ast.parse(file.read_text("utf-8"))):
            if isinstance(node, ast.Call):
                name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
                assert name not in {"Thread", "Worker", "QThread", "Popen", "Jobs", "ThreadPoolExecutor"}, file
