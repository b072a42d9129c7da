"""The real process on loopback: it sends what it should and ends when it must."""

from __future__ import annotations

import os
import select
import signal
import socket
import subprocess
import sys

import psutil
import pytest

from welvo.live.engine import EngineError, EngineProcess
from welvo.live.messages import UniverseOut
from welvo.patience import PatienceLimit
from welvo.protocols import sacn

TARGET = "127.0.0.71"


@pytest.fixture
def ear() -> socket.socket:  # type: ignore[misc]
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.bind((TARGET, sacn.PORT))
    yield sock
    sock.close()


def collect(sock: socket.socket, seconds: float, until: int = 10_000) -> list[sacn.Data]:
    found: list[sacn.Data] = []
    limit = PatienceLimit(seconds)
    while len(found) < until and limit.lasts():
        if select.select([sock], [], [], 0.02)[0]:
            packet = sacn.decode_sacn(sock.recv(2048))
            assert isinstance(packet, sacn.Data)
            found.append(packet)
            if packet.is_terminated and sum(p.is_terminated for p in found) == 3:
                break
    return found


SPEC = UniverseOut("w", "sacn", 5, (TARGET,), rule="always")


def test_levels_go_out_under_one_cid_and_end_in_termination(ear: socket.socket) -> None:
    engine = EngineProcess("127.0.0.1", 1, "Test")
    try:
        engine.write(b"\x2a" * 512)
        engine.set_streams([SPEC])
        first = collect(ear, 3.0, 5)
        assert first[0].slots == b"\x2a" * 512 and {p.cid for p in first} == {engine.cid.bytes}
        assert engine.status().sent >= 5
        with pytest.raises(ValueError, match="instead of 512"):
            engine.write(b"short")
    finally:
        engine.stop()
    assert not engine.alive
    assert sum(p.is_terminated for p in collect(ear, 2.0)) == 3
    assert collect(ear, 0.3) == []


def test_an_interface_that_is_not_there_is_an_error_in_words() -> None:
    with pytest.raises(EngineError, match="could not be opened on 192.0.2.1"):
        EngineProcess("192.0.2.1", 1)


ORPHAN = """
import sys, time
from welvo.live.engine import EngineProcess
from welvo.live.messages import UniverseOut
e = EngineProcess("127.0.0.1", 1, "Orphan")
e.set_streams([%r])
e.wait_for(lambda answer: answer.groups is not None, 3)
print(e.pid, flush=True)
time.sleep(60)
"""


def test_when_its_parent_is_killed_it_terminates_its_streams_and_ends(ear: socket.socket) -> None:
    parent = subprocess.Popen([sys.executable, "-c", ORPHAN % SPEC], stdout=subprocess.PIPE, text=True)
    assert parent.stdout
    pid = int(parent.stdout.readline())
    child = psutil.Process(pid)
    assert collect(ear, 3.0, 3)
    os.kill(parent.pid, signal.SIGKILL)
    parent.wait()
    parent.stdout.close()
    assert sum(p.is_terminated for p in collect(ear, 3.0)) == 3
    _gone, alive = psutil.wait_procs([child], timeout=3)
    assert not alive or child.status() == psutil.STATUS_ZOMBIE
