"""The computer's clock is put forward and back by an hour and a year while everything runs."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime

import pytest

from tests.app.conftest import Recorder
from welvo import patience
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.formats.versions import name_version
from welvo.live.interfaces import Interface
from welvo.live.listener import Listener
from welvo.patience import clock_moved, steady
from welvo.protocols import sacn
from welvo.rig.document import Rig

JUMPS = (3600.0, -3600.0, 365 * 86400.0, -365 * 86400.0)


@pytest.fixture(params=JUMPS, ids=lambda s: f"{s / 3600:+.0f} h")
def jump(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Callable[[], float]:
    real = time.time

    def go() -> float:
        monkeypatch.setattr(time, "time", lambda: real() + request.param)
        return float(request.param)

    return go


def test_ages_stay_true_and_what_is_written_down_has_the_new_time(jump: Callable[[], float]) -> None:
    before = steady()
    assert clock_moved() == 0.0 and abs(before - time.time()) < 1
    by = jump()
    assert 0 <= steady() - before < 5 and clock_moved() == pytest.approx(by, abs=1)


def test_who_sends_is_heard_and_who_ended_is_gone(jump: Callable[[], float]) -> None:
    listener = Listener(Interface("lo", "127.0.0.87", "255.0.0.0"), poll=False, quiet=True)
    try:
        listener.take_datagram(
            sacn.encode_sacn(sacn.Data(b"c" * 16, 9, b"\x07", "Desk")), "127.0.0.9", listener._clock()
        )
        jump()
        assert [s.wire for s in listener.heard_sources(steady())] == [9]
        assert listener.heard_sources(steady() + sacn.DATA_LOSS + 0.1) == []
    finally:
        listener.close()


def test_armed_everything_goes_on_and_records_have_the_new_time(
    make: Callable[[Rig], Window],
    engines: list[Recorder],
    jump: Callable[[], float],
) -> None:
    window = make(make_gallery())
    network, session = window.network, window.session
    listener = network.hearing.listener = Listener(Interface("lo", "127.0.0.87", "255.0.0.0"), poll=False, quiet=True)
    assert network.output.arm_output()
    listener.take_datagram(sacn.encode_sacn(sacn.Data(b"c" * 16, 9, b"\x07", "Desk")), "127.0.0.9", steady())
    for _ in range(6):
        network._on_tick()
    before = network.output.sending
    jump()
    for _ in range(6):
        network._on_tick()
    assert network.output.is_armed and engines[0].revived == 0 and network.output.sending == before
    assert [s.wire for s in session.observed.sources] == [9]
    session.make_edit(name_version, "Issue 9", "Ines", "", session.clock_time())
    (made,) = [v for v in session.rig.versions.values() if v.name == "Issue 9"]
    assert datetime.fromtimestamp(made.at, UTC).year == datetime.fromtimestamp(time.time(), UTC).year
    window.keeper.write_journal()
    assert window.keeper.wait_until_settled() and window.keeper.problem == ""


def test_a_limit_is_not_spent_by_a_jump(jump: Callable[[], float]) -> None:
    limit = patience.PatienceLimit(0.5)
    jump()
    assert limit.lasts() and limit.waited < 0.5
