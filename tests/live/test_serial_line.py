"""DMX lines on serial ports: frames, what is said when a port fails, and the engine with a line among its streams."""

from __future__ import annotations

import os
import pty
import threading
import time
from collections.abc import Callable, Iterator
from itertools import pairwise

import pytest

from welvo.live.engine import EngineProcess
from welvo.live.engine_main import KEEP_ALIVE, NO_PORT, LineStream
from welvo.live.interfaces import LOOPBACK
from welvo.live.messages import LineOut, SendRule
from welvo.live.output import streams_to_send
from welvo.live.serial_line import Layer, LineError, OfferedLine, is_rehearsed, open_layer, serial_ports
from welvo.patience import wait_until
from welvo.protocols import dmx512
from welvo.rig.document import Rig
from welvo.rig.wiring import Feed, Sender, Universe
from welvo.standins.line import LineEnd, ask_line_end


class Recorded:
    """A lowest layer that keeps what it is given."""

    def __init__(self) -> None:
        self.events: list[tuple[float, object]] = []
        self.closed = False
        self.fail: OSError | None = None

    def line_break(self, seconds: float, mark: float) -> None:
        if self.fail:
            raise self.fail
        self.events.append((time.monotonic(), (seconds, mark)))

    def write(self, octets: bytes) -> None:
        self.events.append((time.monotonic(), octets))

    def close(self) -> None:
        self.closed = True

    @property
    def frames(self) -> list[bytes]:
        return [e for _, e in self.events if isinstance(e, bytes)]


def until(condition: Callable[[], bool], seconds: float = 5.0) -> None:
    assert wait_until(condition, seconds), "it did not happen in time"


def test_a_frame_is_break_mark_start_code_and_slots() -> None:
    layer = Recorded()
    line = OfferedLine("x", lambda _: layer)
    line.offer_frame(b"\x0a\x0b")
    until(lambda: line.sent == 1)
    assert [e for _, e in layer.events] == [(dmx512.BREAK, dmx512.MARK), b"\x00\x0a\x0b"]
    for n in range(50):
        line.offer_frame(bytes((n,)))
    line.close()
    assert layer.closed and layer.frames[-2:] == 2 * [b"\x00\x31"]  # the newest one, however many came in between
    breaks = [at for at, e in layer.events if isinstance(e, tuple)]
    assert all(b - a >= dmx512.SHORTEST_PACKET for a, b in pairwise(breaks))


def test_a_port_that_fails_is_said_and_tried_again(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("welvo.live.serial_line.TRY_AGAIN", 0.05)
    layers: list[Recorded] = []
    there = threading.Event()

    def opened(_: str) -> Layer:
        if not there.is_set():
            raise LineError("serial port x is not there")
        layers.append(Recorded())
        return layers[-1]

    line = OfferedLine("x", opened)
    until(lambda: line.wrong == "serial port x is not there")
    there.set()
    line.offer_frame(b"\x01")
    until(lambda: line.sent == 1)
    assert line.wrong == ""
    layers[0].fail = OSError(5, "Input/output error")
    there.clear()
    line.offer_frame(b"\x02")
    until(lambda: "x" in line.wrong and layers[0].closed)
    there.set()
    line.offer_frame(b"\x03")
    until(lambda: line.sent == 2)
    assert layers[1].frames == [b"\x00\x03"] and line.wrong == ""
    line.close()


@pytest.mark.parametrize(
    "name, words",
    [
        ("/dev/no-such-port", "is not there"),
        ("/dev/null", "is no serial port"),
        ("rehearsal:998", "no simulated line 998 is running"),
    ],
)
def test_why_a_port_cannot_be_opened(name: str, words: str) -> None:
    with pytest.raises(LineError, match=words):
        open_layer(name)


def test_a_port_that_another_program_has() -> None:
    leader, follower = pty.openpty()
    name = os.ttyname(follower)
    try:
        first = open_layer(name)
    except LineError as e:
        pytest.skip(f"a pseudo-terminal is no port here: {e}")
    try:
        with pytest.raises(LineError, match="used by another program"):
            open_layer(name)
    finally:
        first.close()
        os.close(leader)
        os.close(follower)


def test_repeats_are_left_out_within_the_standards_limit_only() -> None:
    layer = Recorded()
    line = OfferedLine("x", lambda _: layer)
    rules: dict[SendRule, float] = {"change": KEEP_ALIVE, "bare": KEEP_ALIVE, "always": 1 / 40}
    for rule, most in rules.items():
        stream = LineStream(LineOut("x", 1, 0, slots=2, rate=40, rule=rule), line)
        offered: list[float] = []
        line.offer_frame = lambda _, o=offered: o.append(now)  # type: ignore[method-assign, misc]
        levels = b"\x05\x06" + bytes(510)
        for tick in range(200):
            now = tick / 40
            stream.send_due(1, levels, now)
        gaps = [b - a for a, b in pairwise(offered)]
        assert offered[0] == 0 and max(gaps) <= most + 1 / 40 < dmx512.LONGEST_PACKET, rule
        assert min(gaps) >= most - 1e-9, rule
    line.close()


@pytest.fixture
def far_end() -> Iterator[LineEnd]:
    end = LineEnd(971)
    done = threading.Event()

    def read() -> None:
        while not done.wait(0.002):
            end.take_waiting()

    thread = threading.Thread(target=read)
    thread.start()
    yield end
    done.set()
    thread.join()
    end.close()


def rig_with_line(**feed: object) -> Rig:
    return Rig(
        universes={"u": Universe(number=1, size=20), "v": Universe(number=2)},
        senders={"b": Sender(name="Bench", kind="bench")},
        feeds={
            "s": Feed(universe="u", sender="b", protocol="serial", wire=971, to="", **feed),  # type: ignore[arg-type]
            "n": Feed(universe="v", sender="b", wire=2, to="127.0.0.1"),
        },
    )


def test_the_engine_puts_a_universe_out_on_a_line(far_end: LineEnd) -> None:
    rig = rig_with_line(at_disarm="zero")
    assert is_rehearsed(971) and not is_rehearsed(972)
    engine = EngineProcess("127.0.0.1", 2)
    try:
        engine.write(bytes(range(1, 21)) + bytes(1004))
        engine.set_streams(streams_to_send(rig, LOOPBACK, {}, {}, lines={"971": "rehearsal:971"}))
        until(lambda: bytes(far_end.levels) == bytes(range(1, 21)))
        said = ask_line_end(971)
        assert said["levels"] == list(range(1, 21)) and said["short_breaks"] == 0 and said["start_code"] == 0
        engine.set_streams(streams_to_send(rig, LOOPBACK, {}, {}, lines={}))
        until(lambda: engine.state.wrong.get("s") == NO_PORT)
        assert "n" not in engine.state.wrong  # the rest goes on
        engine.set_streams(streams_to_send(rig, LOOPBACK, {}, {}, lines={"971": "/dev/no-such-port"}))
        until(lambda: "not there" in engine.state.wrong.get("s", ""))
        engine.set_streams(streams_to_send(rig, LOOPBACK, {}, {}, lines={"971": "rehearsal:971"}))
        until(lambda: "s" not in engine.state.wrong)
        before = far_end.packets
        until(lambda: far_end.packets > before)
    finally:
        engine.stop()
    until(lambda: not any(far_end.levels))  # the last frame that was chosen


def test_ports_are_listed_without_an_error() -> None:
    assert all(p.name and p.words for p in serial_ports())
