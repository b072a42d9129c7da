"""The engine on a clock that the test holds, with recorders for sockets: what goes out when, octet by octet."""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterator
from typing import Any

import pytest
from msgspec.structs import replace

from welvo.live.engine_main import Engine
from welvo.live.frames import Frames
from welvo.live.messages import EngineAnswer, OctetPart, OctetsOut, UniverseOut
from welvo.protocols import artnet, ddp, sacn

CID = bytes(range(1, 17))


class Wire:
    def __init__(self) -> None:
        self.sent: list[tuple[bytes, tuple[str, int]]] = []
        self.broken: set[str] = set()

    def sendto(self, data: bytes | bytearray, address: tuple[str, int], /) -> int:
        if address[0] in self.broken:
            raise OSError(101, "Network is unreachable")
        self.sent.append((bytes(data), address))
        return len(data)

    def take(self) -> list[Any]:
        found = [
            (
                ddp.decode_ddp(d)
                if a[1] == ddp.PORT
                else sacn.decode_sacn(d)
                if d[:2] == b"\0\x10"
                else artnet.decode_artnet(d),
                a,
            )
            for d, a in self.sent
        ]
        self.sent = []
        return found


class Rigged:
    """An engine with two universes; `at(t)` moves the clock there in steps of a millisecond, ticking."""

    def __init__(self) -> None:
        self.now = 1000.0
        self.frames = Frames.make_frames(2)
        self.engine = Engine(self.frames, -1, lambda: self.now)
        self.engine.cid, self.engine.name, self.engine.interface = CID, "Bench", "127.0.0.1"
        self.wire = Wire()
        self.engine.udp = self.engine.art = self.wire
        self.said: list[EngineAnswer] = []
        self.engine.answer_parent = self.said.append  # type: ignore[method-assign]

    def run(self, seconds: float) -> list[Any]:
        until = self.now + seconds
        while self.now < until:
            self.now += 0.001
            self.engine.send_due()
        return [x for x in self.wire.take() if not isinstance(x[0], sacn.Discovery)]

    def levels(self, row: int, first: int) -> None:
        data = bytearray(2 * 512)
        data[row * 512] = first
        self.frames.write_frame(bytes(data))


def spec(**more: Any) -> UniverseOut:
    return replace(UniverseOut("w", "sacn", 7, ("239.255.0.7",)), **more)


@pytest.fixture
def rigged() -> Iterator[Rigged]:
    made = Rigged()
    yield made
    made.frames.close()


def test_three_unchanged_packets_then_one_every_nine_tenths_of_a_second(rigged: Rigged) -> None:
    rigged.engine.set_streams([spec()])
    sent = rigged.run(0.5)
    assert len(sent) == 4 and [p.sequence for p, _ in sent] == [0, 1, 2, 3]
    assert {(p.universe, p.priority, p.name, p.cid, p.options) for p, _ in sent} == {(7, 100, "Bench", CID, 0)}
    assert sent[0][1] == ("239.255.0.7", 5568)
    assert 4 <= len(rigged.run(4.5)) <= 5  # keep-alive only
    rigged.levels(0, 99)
    changed = rigged.run(0.3)
    assert len(changed) == 4 and {p.slots[0] for p, _ in changed} == {99}


def test_keep_alive_comes_between_800_and_1000_milliseconds(rigged: Rigged) -> None:
    rigged.engine.set_streams([spec(), spec(id="a", protocol="artnet", to=("127.0.0.5",))])
    rigged.run(1.0)
    times: dict[type, list[float]] = {}
    for _ in range(5000):
        for packet, _ in rigged.run(0.001):
            times.setdefault(type(packet), []).append(rigged.now)
    for kind, at in times.items():
        gaps = [b - a for a, b in itertools.pairwise(at)]
        assert len(gaps) >= 4 and all(0.8 <= g <= 1.0 for g in gaps), kind


def test_always_means_every_frame_at_the_rate(rigged: Rigged) -> None:
    rigged.engine.set_streams([spec(rule="always"), spec(id="x", wire=8, to=("239.255.0.8",), rule="always", rate=10)])
    sent = rigged.run(2.0)
    assert 86 <= sum(p.universe == 7 for p, _ in sent) <= 88 and 19 <= sum(p.universe == 8 for p, _ in sent) <= 20


def test_sequence_numbers_wrap_as_each_standard_wants(rigged: Rigged) -> None:
    rigged.engine.set_streams(
        [spec(rule="always", rate=1000), spec(id="a", protocol="artnet", to=("127.0.0.5",), rule="always", rate=1000)]
    )
    sent = rigged.run(0.6)
    acn = [p.sequence for p, _ in sent if isinstance(p, sacn.Data)]
    art = [p.sequence for p, _ in sent if isinstance(p, artnet.Dmx)]
    assert acn[:3] == [0, 1, 2] and acn[255:258] == [255, 0, 1]
    assert art[:3] == [1, 2, 3] and art[254:257] == [255, 1, 2] and 0 not in art  # 0 would switch sequencing off


def test_disarming_terminates_sacn_three_times_and_leaves_artnet_its_last_frame(rigged: Rigged) -> None:
    rigged.levels(0, 50)
    last = bytes([9] * 512)
    rigged.engine.set_streams(
        [
            spec(),
            spec(id="a", protocol="artnet", to=("127.0.0.5",), last=None),
            spec(id="b", protocol="artnet", wire=9, to=("127.0.0.6",), last=last),
        ]
    )
    rigged.run(0.2)
    rigged.engine.set_streams([])
    sent = rigged.wire.take()
    ended = [p for p, _ in sent if isinstance(p, sacn.Data)]
    assert len(ended) == 3 and all(p.is_terminated for p in ended) and [p.sequence for p in ended] == [4, 5, 6]
    assert [(p.address, p.slots[:2]) for p, _ in sent if isinstance(p, artnet.Dmx)] == [(9, b"\x09\x09")]
    assert rigged.run(3.0) == []


def test_a_stream_that_changes_keeps_its_sequence_and_leaves_the_old_target_properly(rigged: Rigged) -> None:
    rigged.engine.set_streams(
        [
            spec(
                to=(
                    "127.0.0.5",
                    "127.0.0.6",
                )
            )
        ]
    )
    rigged.run(0.2)
    rigged.engine.set_streams([spec(to=("127.0.0.6",), priority=120)])
    left = rigged.wire.take()
    assert len(left) == 3 and all(p.is_terminated and a[0] == "127.0.0.5" for p, a in left)
    first, address = rigged.run(0.1)[0]
    assert (first.sequence, first.priority, first.is_terminated, address[0]) == (7, 120, False, "127.0.0.6")
    rigged.engine.set_streams([spec(wire=70)])
    assert {(p.universe, p.is_terminated) for p, _ in rigged.wire.take()} == {(7, True)}


def test_universes_are_announced_every_ten_seconds_in_ascending_pages(rigged: Rigged) -> None:
    rigged.engine.set_streams(
        [spec(id=str(n), wire=n, to=("239.0.0.1",)) for n in range(600, 0, -1)]
        + [spec(id="a", protocol="artnet", to=("127.0.0.5",))]
    )
    pages = []
    for _ in range(21_000):
        rigged.now += 0.001
        rigged.engine.send_due()
        pages += [(p, a) for p, a in rigged.wire.take() if isinstance(p, sacn.Discovery)]
    assert len(pages) == 6 and {a for _, a in pages} == {("239.255.250.214", 5568)}
    assert pages[0][0].universes == tuple(range(1, 513)) and pages[1][0].universes == tuple(range(513, 601))
    assert (pages[1][0].page, pages[1][0].last_page) == (1, 1)


def test_a_target_that_cannot_be_reached_does_not_stop_the_others(rigged: Rigged) -> None:
    rigged.wire.broken = {"127.0.0.5"}
    rigged.engine.set_streams(
        [
            spec(
                to=(
                    "127.0.0.5",
                    "127.0.0.6",
                )
            )
        ]
    )
    assert {a[0] for _, a in rigged.run(0.2)} == {"127.0.0.6"} and rigged.engine.errors == 4


def test_after_a_sleep_there_is_no_burst_of_old_frames(rigged: Rigged) -> None:
    rigged.engine.set_streams([spec(rule="always")])
    rigged.run(0.5)
    rigged.now += 30.0
    assert len(rigged.run(0.1)) <= 8


def test_only_the_slots_a_universe_uses_are_sent(rigged: Rigged) -> None:
    rigged.engine.set_streams([spec(slots=510)])
    assert len(rigged.run(0.1)[0][0].slots) == 510


def test_a_frame_is_read_whole_and_only_once() -> None:
    frames = Frames.make_frames(2)
    number, levels = frames.read_frame()
    assert (number, levels) == (0, bytes(1024))
    frames.write_frame(b"\x07" * 1024)
    known = frames.read_frame()
    assert known == (1, b"\x07" * 1024) and frames.read_frame(known) is known
    other = Frames(os.dup(frames.handle), 2)
    assert other.read_frame() == known
    other.close()
    frames.close()


def test_synchronized_streams_leave_together_and_are_released_once() -> None:
    r = Rigged()
    r.engine.set_streams(
        [
            UniverseOut("a", "sacn", 1, ("239.255.0.1",), row=0, rate=40, rule="always", sync=7000),
            UniverseOut("b", "sacn", 2, ("239.255.0.2",), row=1, rate=40, rule="always", sync=7000),
            UniverseOut("c", "artnet", 5, ("127.0.0.9",), rate=40, rule="always", sync=7000, sync_to="127.255.255.255"),
        ]
    )
    sent = r.run(0.26)
    kinds = [
        type(p).__name__ if not isinstance(p, sacn.Data) else p.universe
        for p, _ in sent
        if not isinstance(p, artnet.Dmx | artnet.ArtSync)
    ]
    assert kinds[:6] == [1, 2, "SyncPacket", 1, 2, "SyncPacket"]  # both frames, then the signal
    frames = [p for p, _ in sent if isinstance(p, sacn.Data)]
    assert all(p.sync == 7000 and p.options & sacn.FORCE_SYNC for p in frames)
    signals = [(p, a) for p, a in sent if isinstance(p, sacn.SyncPacket)]
    assert [p.sequence for p, _ in signals[:3]] == [0, 1, 2] and {(p.address, a) for p, a in signals} == {
        (7000, ("239.255.27.88", 5568))
    }
    art = [(type(p).__name__, a[0]) for p, a in sent if isinstance(p, artnet.Dmx | artnet.ArtSync)]
    assert art[:4] == [("Dmx", "127.0.0.9"), ("ArtSync", "127.255.255.255")] * 2


def test_on_change_only_is_silent_while_nothing_changes() -> None:
    r = Rigged()
    r.engine.set_streams([UniverseOut("a", "sacn", 1, ("239.255.0.1",), rate=40, rule="bare", sync=9)])
    r.run(1.0)
    assert r.run(4.0) == []  # neither keep-alive nor a signal
    r.levels(0, 7)
    assert {type(p).__name__ for p, _ in r.run(0.5)} == {"Data", "SyncPacket"}


def test_a_ddp_box_gets_one_stream_out_of_two_universes_and_is_pushed_once_a_frame() -> None:
    r = Rigged()
    parts = (OctetPart(0, 0, 3, 0), OctetPart(1, 9, 2, 3), OctetPart(1, 0, 500, 1005))
    r.engine.set_streams([OctetsOut("x", "ddp", 1, ("127.0.0.70",), parts, 1505, rate=40, dark_at_end=True)])
    frame = bytearray(1024)
    frame[0:3], frame[512 + 9 : 512 + 11] = b"\x01\x02\x03", b"\x08\x09"
    r.frames.write_frame(bytes(frame))
    sent = r.run(0.1)
    assert [(p.offset, len(p.data), p.push) for p, _ in sent[:2]] == [(0, 1440, False), (1440, 65, True)]
    assert (
        sent[0][0].data[:5] == b"\x01\x02\x03\x08\x09"
        and sent[0][0].data[1005 + 9] == 8
        and sent[0][1] == ("127.0.0.70", 4048)
    )
    assert [p.sequence for p, _ in sent[:2]] == [1, 2] and len(sent) == 2  # nothing changed since
    assert len(r.run(2.0)) in (2, 4)  # kept alive
    r.engine.set_streams([])
    last = r.wire.take()
    assert [p.push for p, _ in last] == [False, True] and not any(last[0][0].data)


def test_each_report_says_what_leaves_and_what_does_not(rigged: Rigged) -> None:
    rigged.wire.broken = {"127.0.0.8"}
    rigged.engine.set_streams(
        [
            spec(rule="always"),
            spec(id="v", wire=8, to=("127.0.0.8",), rule="always"),
            spec(id="x", protocol="artnet", wire=1, to=()),
        ]
    )
    rigged.run(0.3)
    reports = [m for m in rigged.said if m.beat]
    assert 2 <= len(reports) <= 4 and reports[-1].errors > 0
    assert [m.wrong for m in reports if m.wrong is not None][-1] == {
        "v": "Network is unreachable",
        "x": "no node asks for it",
    }
    rigged.wire.broken = set()
    rigged.run(0.3)
    assert [m.wrong for m in rigged.said if m.wrong is not None][-1] == {"x": "no node asks for it"}
