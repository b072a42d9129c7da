"""Recording what is heard, and what receivers had at any moment of it; and what the listener counts of each source."""

from __future__ import annotations

import random
import socket
from pathlib import Path

import pytest

from welvo.formats.files import RigFileError
from welvo.formats.pcap import Datagram
from welvo.live.interfaces import Interface, dropped_by
from welvo.live.listener import Listener
from welvo.live.recording import Recorder, Recording, frame_of, in_use, load_recording
from welvo.protocols import artnet, sacn

CID = bytes(range(16))
LO = Interface("lo", "127.0.0.86", "255.0.0.0")


def data(sequence: int, *levels: int, universe: int = 3, cid: bytes = CID, **more: object) -> bytes:
    return sacn.encode_sacn(sacn.Data(cid, universe, bytes(levels), "Desk", sequence=sequence, **more))  # type: ignore[arg-type]


def at(seconds: float, payload: bytes, ip: str = "127.0.0.5") -> Datagram:
    return Datagram(1000.0 + seconds, ip, 5568, "239.255.0.3", 5568, payload)


def test_what_receivers_had_at_any_moment(tmp_path: Path) -> None:
    other = bytes(range(16, 32))
    recording = Recording(
        [
            at(1.0, data(1, 50, 60)),
            at(0.0, data(0, 10, 20)),
            at(2.0, data(0, 5, 99, cid=other)),
            at(2.5, artnet.encode_artnet(artnet.Dmx(4, bytes((7, 8)), 1))),
            at(3.0, data(2, 0, 0, options=sacn.TERMINATED)),
            at(3.1, b"noise"),
        ]
    )
    assert recording.length_in_seconds == pytest.approx(3.1) and recording.recorded_wires == [
        ("artnet", 4),
        ("sacn", 3),
    ]
    assert recording.levels_at(-1) == {}
    assert recording.levels_at(0.5)["sacn", 3] == b"\x0a\x14"
    assert recording.levels_at(2.2)["sacn", 3] == bytes((50, 99)) and recording.levels_at(2.2, "latest")[
        "sacn", 3
    ] == bytes((5, 99))
    assert recording.levels_at(3.05)["sacn", 3] == bytes((5, 99))  # the first one ended
    assert recording.levels_at(4.9) == {("artnet", 4): bytes((7, 8))}  # the other one is gone for receivers by then
    assert in_use(recording.frames) == {("sacn", 3): (1, 2), ("artnet", 4): (1, 2)}
    file = tmp_path / "x.pcap"
    recording.save_recording(file)
    assert load_recording(file).frames == recording.frames and load_recording(file).left_out == 0


def test_jumps_give_what_going_through_gives() -> None:
    chance = random.Random(3)
    datagrams = [
        at(t / 20, data(t % 256, *(chance.randint(0, 255) for _ in range(4)), universe=chance.randint(1, 3)))
        for t in range(800)
    ]
    whole = Recording(datagrams)
    for _ in range(60):
        moment = chance.uniform(0, 42)
        shorter = Recording([d for d in datagrams if d.at - 1000.0 <= moment])
        assert whole.levels_at(moment) == shorter.levels_at(moment)


def test_packets_like_the_last_one_are_read_as_if_they_were_looked_at_whole() -> None:
    chance = random.Random(8)
    options = (0, 0, sacn.TERMINATED, sacn.PREVIEW)
    made = [
        *(data(n % 256, 1, 2, n % 200, universe=3) for n in range(300)),
        *(artnet.encode_artnet(artnet.Dmx(n % 3, bytes((n % 256, 1)), 1 + n % 255)) for n in range(300)),
        *(data(n % 256, 1, 2, universe=3, options=chance.choice(options)) for n in range(99)),
    ]
    for n in range(0, len(made), 3):  # damaged at one place, or cut
        raw = bytearray(made[n])
        at_octet = chance.randrange(len(raw))
        raw[at_octet] ^= 1 << chance.randrange(8)
        made.append(bytes(raw[: chance.randrange(len(raw))] if n % 5 == 0 else raw))
    chance.shuffle(made)
    datagrams = [at(n / 44, raw, chance.choice(("127.0.0.5", "127.0.0.6"))) for n, raw in enumerate(made)]
    recording = Recording(datagrams)
    plain = [frame_of(d, d.at - recording.begun) for d in recording.datagrams]
    assert recording.frames == [f for f in plain if f] and len(recording.frames) > 500


def test_a_capture_of_sources_that_come_and_go_is_kept_small() -> None:
    """Each mark held every source ever seen; half a million of them filled the memory."""
    datagrams = [at(6.0 * n, data(0, 9, cid=n.to_bytes(16, "big"))) for n in range(1, 400)]
    recording = Recording(datagrams)
    assert max(len(m.newest) for m in recording._marks) <= 2
    assert recording.levels_at(6.0 * 300 + 0.1)["sacn", 3] == b"\x09" and recording.levels_at(6.0 * 300 + 3) == {}


def test_a_file_without_frames_is_said(tmp_path: Path) -> None:
    file = tmp_path / "x.pcap"
    Recording([at(0, b"noise")]).save_recording(file)
    with pytest.raises(RigFileError, match="no frame of sACN or Art-Net"):
        load_recording(file)
    file.write_bytes(b"nothing of the kind")
    with pytest.raises(RigFileError, match="no capture file"):
        load_recording(file)


def test_the_listener_keeps_what_it_hears_until_it_is_full() -> None:
    listener = Listener(LO, poll=False)
    try:
        recorder = Recorder(most=len(data(0, 1)) * 3)
        listener.record_into(recorder)
        for n in range(5):
            listener.take_datagram(data(n, n), "127.0.0.5", 1000.0 + n)
        listener.record_into(None)
        listener.take_datagram(data(6, 9), "127.0.0.5", 1006.0)
        assert recorder.count_taken == 3 and recorder.full
        frames = recorder.finish_recording().frames
        assert [f.levels for f in frames] == [b"\0", b"\x01", b"\x02"] and frames[0].ip == "127.0.0.5"
    finally:
        listener.close()


def test_lost_late_and_silent_are_counted() -> None:
    listener = Listener(LO, poll=False)
    try:
        now = 1000.0
        for n in (0, 1, 2, 5, 6, 4, 7):  # two never came in time, one came late
            now += 0.025
            listener.take_datagram(data(n, 1), "127.0.0.5", now)
        now += 1.5
        listener.take_datagram(data(8, 1), "127.0.0.5", now)
        ((seen, levels),) = listener.sources_of_universe("sacn", 3, now)
        assert (seen.frames, seen.lost, seen.disordered, levels) == (7, 2, 1, b"\x01")
        assert seen.gap == pytest.approx(1.5) and seen.jitter > 0.01
        listener.count_anew()
        listener.take_datagram(data(9, 1), "127.0.0.5", now + 0.025)
        ((seen, _),) = listener.sources_of_universe("sacn", 3, now + 0.025)
        assert (seen.lost, seen.disordered) == (0, 0) and seen.gap < 0.1
        for sequence in (254, 255, 1, 3):  # Art-Net goes from 255 to 1
            listener.take_datagram(artnet.encode_artnet(artnet.Dmx(4, b"\0\0", sequence)), "127.0.0.6", now)
        ((seen, _),) = listener.sources_of_universe("artnet", 4, now)
        assert seen.lost == 1
        listener.take_datagram(data(10, 1, options=sacn.TERMINATED), "127.0.0.5", now + 0.05)
        assert [e[1:] for e in listener.ended] == [(3, "Desk")]
    finally:
        listener.close()


def test_packets_like_the_last_one_are_taken_as_if_they_were_looked_at_whole() -> None:
    """The short way and the long one give the same, whatever comes: losses, late ones, ends, silences, other fields."""
    chance = random.Random(11)
    short, long = Listener(LO, poll=False), Listener(LO, poll=False)
    long._like_the_last = lambda *_: False  # type: ignore[method-assign]
    try:
        now, sequence = 1000.0, 0
        for n in range(3000):
            now += chance.choice([0.02, 0.025, 0.03, 0.3] + [3.0] * (n % 97 == 0))
            sequence += chance.choice([1, 1, 1, 1, 2, 3, 0, -1, -5, 100])
            more = chance.choice(
                [{}] * 30 + [{"priority": 120}, {"options": sacn.TERMINATED}, {"sync": 9}, {"options": 0x80}]
            )
            raw = data(sequence % 256, chance.randint(0, 255), 7, universe=chance.choice([3, 3, 4]), **more)
            if n % 211 == 0:
                raw = raw[:-1] if n % 2 else raw[:125] + b"\x17" + raw[126:]
            for listener in (short, long):
                listener.take_datagram(raw, "127.0.0.5" if n % 50 else "127.0.0.6", now)
            if n % 20 == 0:
                assert [short.sources_of_universe("sacn", u, now) for u in (3, 4)] == [
                    long.sources_of_universe("sacn", u, now) for u in (3, 4)
                ]
                assert short.heard_sources(now) == long.heard_sources(now)
        assert short.noise == long.noise and list(short.ended) == list(long.ended)
    finally:
        short.close()
        long.close()


def test_what_is_lost_in_this_computer_is_counted_apart(tmp_path: Path) -> None:
    listener = Listener(LO, poll=False)
    try:
        assert listener.own_drops() == 0
        assert listener._acn
        listener._acn.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 2048)
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
            out.bind(("127.0.0.1", 0))
            for n in range(200):  # nobody takes them: the listener was not started
                out.sendto(data(n % 256, 1), (LO.ip, 5568))
        assert 100 < listener.own_drops() < 200
        listener.count_anew()
        assert listener.own_drops() == 0
    finally:
        listener.close()
    table = tmp_path / "udp"
    table.write_text("head\nnonsense\n")
    assert dropped_by({1}, str(table)) == 0 == dropped_by({1}, str(tmp_path / "none"))
