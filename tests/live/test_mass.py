"""Many packets in one call: the same packets as one by one, and a target that fails costs nobody else anything."""

from __future__ import annotations

import socket
import time

import pytest

from welvo.live.engine_main import Engine
from welvo.live.frames import Frames
from welvo.live.mass import Gather, Mass, can_send_in_mass
from welvo.live.messages import Opening, SendRule, UniverseOut
from welvo.protocols import sacn

PORT = sacn.PORT
IP = "127.0.0.88"


def receiver() -> socket.socket:
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
    sock.bind((IP, PORT))
    sock.setblocking(False)
    return sock


def engine_of(specs: list[UniverseOut], rows: int) -> Engine:
    frames = Frames.make_frames(rows)
    frames.write_frame(bytes(range(256)) * 2 * rows)
    engine = Engine(frames, -1)
    engine.answer_parent = lambda message: None  # type: ignore[method-assign]
    engine.open_sockets(Opening("127.0.0.1", "test", bytes(range(1, 17)).hex()))
    engine.set_streams(specs)
    return engine


def spec(n: int, to: tuple[str, ...] = (IP,), rule: SendRule = "always") -> UniverseOut:
    return UniverseOut(f"w{n}", "sacn", n + 1, to, row=n, rate=1, rule=rule)


def due(engine: Engine) -> None:
    """Everything is due once."""
    now = time.monotonic()
    engine.heap = [(now - 1e-6, order, 1000.0, group) for _, order, _, group in engine.heap]
    engine.send_due()


def everything(sock: socket.socket) -> list[bytes]:
    gather, found = Gather(), []
    until = time.monotonic() + 2
    while time.monotonic() < until:
        got = gather.take_datagrams(sock)
        if not got and found:
            return found
        assert all(ip == "127.0.0.1" for _, ip in got)
        found += [raw for raw, _ in got]
    return found


def test_the_same_packets_leave_as_one_by_one() -> None:
    sock = receiver()
    try:
        specs = [spec(n, rule="always" if n % 3 else "change") for n in range(70)]
        one, many = engine_of(specs, 70), engine_of(specs, 70)
        assert many.masses
        one.masses = {}
        seen = []
        for engine in (one, many):
            rounds = []
            for step in range(8):
                if step == 6:
                    engine.frames.write_frame(bytes([step]) * 512 * 70)
                due(engine)
                rounds.append(sorted(everything(sock), key=lambda raw: raw[113:115]))
            seen.append(rounds)
        assert seen[0] == seen[1] and len(seen[0][0]) == 70
        assert len(seen[0][5]) < 70 == len(seen[0][6])  # those on change are silent after their repeats
        for engine in (one, many):
            for stream in engine.streams.values():
                stream.end_stream(time.monotonic())
    finally:
        sock.close()


def test_a_target_that_fails_is_said_and_the_others_get_theirs() -> None:
    """Broadcast is refused to a socket that may not broadcast: nothing leaves for it."""
    sock = receiver()
    try:
        specs = [spec(n, to=("127.255.255.255",) if n in (4, 9) else (IP, IP) if n == 6 else (IP,)) for n in range(72)]
        engine = engine_of(specs, 72)
        assert engine.masses
        due(engine)
        got = everything(sock)
        assert len(got) == 71  # seventy, one of them to two targets
        wrong = {k: s.wrong for k, s in engine.streams.items() if s.wrong}
        assert set(wrong) == {"w4", "w9"} and "ermission" in wrong["w4"] and engine.errors == 2
        stream = engine.streams["w0"]
        stream.wrong = "was gone for a while"
        due(engine)
        assert stream.wrong == "" and engine.errors == 4
    finally:
        sock.close()


def test_small_groups_and_stand_ins_of_sockets_go_one_by_one() -> None:
    assert not can_send_in_mass(object(), range(100)) and not can_send_in_mass(None, range(100))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        assert not can_send_in_mass(sock, range(7)) and can_send_in_mass(sock, range(8))
        assert Mass(sock, []).send_due(0, b"", 0.0) == 0


def test_what_waits_is_taken_in_order_and_a_closed_socket_gives_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    sock = receiver()
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as out:
        out.bind(("127.0.0.1", 0))
        for n in range(100):
            out.sendto(n.to_bytes(2, "big") * 9, (IP, PORT))
        gather = Gather()
        first = gather.take_datagrams(sock)
        assert len(first) == 64 and first[0] == (b"\0\0" * 9, "127.0.0.1") and first[63][0][:2] == b"\0\x3f"
        assert len(gather.take_datagrams(sock)) == 36 and gather.take_datagrams(sock) == []
        out.sendto(b"x" * 3000, (IP, PORT))
        assert len(gather.take_datagrams(sock)[0][0]) == 2048  # nothing that long is ours
        out.sendto(b"again", (IP, PORT))
        monkeypatch.setattr("welvo.live.mass._receive", None)
        assert gather.take_datagrams(sock) == [(b"again", "127.0.0.1")]
        monkeypatch.undo()
        sock.close()
        assert gather.take_datagrams(sock) == []
