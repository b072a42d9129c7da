"""What must not end listening, stop output or hold up the window: bad packets, faults, full pipes, stopped children."""

from __future__ import annotations

import contextlib
import os
import resource
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from msgspec.structs import replace

from tests.conftest import own_network, slowed
from tests.live.test_engine_process import SPEC, collect, ear  # noqa: F401
from tests.live.test_listener import CID, HERE, data, listener, reply  # noqa: F401
from welvo.demo.gallery import make_gallery
from welvo.formats.rigfile import save_rig_file
from welvo.live import groups
from welvo.live.engine import EngineProcess
from welvo.live.frames import Frames
from welvo.live.groups import Ears, Groups, free_descriptors
from welvo.live.interfaces import LOOPBACK, Interface, trouble_of
from welvo.live.listener import MOST_LIST_PAGES, Listener
from welvo.live.messages import EngineCommand, Opening, line_of
from welvo.live.output import subscribed_nodes
from welvo.live.worker import Worker, WorkerFaults
from welvo.patience import wait_until
from welvo.protocols import artnet, sacn
from welvo.standins.process import StandIns


def until(condition: Callable[[], object], seconds: float = 5.0) -> bool:
    return wait_until(lambda: bool(condition()), seconds)


def sender() -> socket.socket:
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(HERE.ip))
    return sock


# ---- listening goes on


def test_work_that_fails_begins_again_and_is_told_once() -> None:
    faults = WorkerFaults()
    rounds: list[int] = []

    def work() -> None:
        rounds.append(1)
        raise ZeroDivisionError("by nothing")

    worker = Worker("a thread", work, faults)
    worker.start_thread()
    assert until(lambda: len(rounds) >= 3)
    worker.stop_thread()
    assert not worker.is_alive and worker.restarts >= 3
    (told,) = faults.take_faults()
    assert told.where == "a thread" and "ZeroDivisionError: by nothing" in told.words and "work()" in told.trace
    assert faults.take_faults() == [] and faults.count >= 3


def test_a_packet_that_makes_our_own_code_fail_is_one_packet_less(
    listener: Listener,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    good = sacn.decode_sacn

    def decode(raw: bytes) -> sacn.Packet:
        if raw.startswith(b"boom"):
            raise KeyError("not documented")
        return good(raw)

    monkeypatch.setattr(sacn, "decode_sacn", decode)
    listener.start_listening()
    with sender() as out:
        for n in range(20):
            out.sendto(b"boom", (HERE.ip, sacn.PORT))
            out.sendto(data(1, 7, n), (HERE.ip, sacn.PORT))
        assert until(lambda: listener.packets == 40)
    assert listener.levels_on_wire("sacn", 1) == bytes([7] * 512) and listener.is_running
    assert listener.faults.count == 20 and [f.where for f in listener.faults.take_faults()] == ["listening"]


def test_damaged_lists_are_noise_and_announced_universes_age(listener: Listener) -> None:  # noqa: F811
    raw = bytearray(sacn.encode_sacn(sacn.Discovery(CID, "desk", (1, 2))))
    raw[112:114] = b"\x70\x03"
    listener.take_datagram(bytes(raw), "127.0.0.5", 100.0)
    assert listener.noise == 1 and listener.faults.count == 0
    listener.take_datagram(sacn.encode_sacn(sacn.Discovery(CID, "desk", (1, 2), 0, 1)), "127.0.0.5", 100.0)
    listener.take_datagram(sacn.encode_sacn(sacn.Discovery(CID, "desk", (9,), 1, 1)), "127.0.0.5", 100.0)
    assert listener.announced_universes(110.0) == {CID.hex(): (1, 2, 9)}
    listener.take_datagram(sacn.encode_sacn(sacn.Discovery(CID, "desk", (3,))), "127.0.0.5", 111.0)  # one page now
    assert listener.announced_universes(111.0) == {CID.hex(): (3,)}
    assert listener.announced_universes(111.0 + sacn.DISCOVERY_LOSS + 0.1) == {}


def test_what_is_kept_of_the_wire_is_bounded(listener: Listener) -> None:  # noqa: F811
    page = tuple(range(1, 513))
    for n in range(MOST_LIST_PAGES + 300):
        cid = (n + 1).to_bytes(16, "big")
        listener.take_datagram(sacn.encode_sacn(sacn.Discovery(cid, "x", page)), "127.0.0.5", 100.0)
    assert listener._list_pages == len(listener._lists) <= MOST_LIST_PAGES
    for n in range(4500):
        listener.take_datagram(reply(1, 3), f"127.1.{n >> 8}.{n & 255}", 100.0 + n)
    assert len(listener.heard_devices()) <= 4096 and "127.1.17.147" in listener.heard_devices()
    for n in range(20_500):
        listener.take_datagram(data(1, 1, 0, cid=(n + 1).to_bytes(16, "big")), "127.0.0.5", 100.0 + n * 1e-5)
    assert 18_000 <= len(listener._sources) <= 20_000


def test_a_late_frame_of_artnet_is_not_shown(listener: Listener) -> None:  # noqa: F811
    for level, sequence, at in ((5, 50, 100.0), (6, 45, 100.1), (7, 51, 100.2)):
        listener.take_datagram(artnet.encode_artnet(artnet.Dmx(4, bytes([level, 0]), sequence)), "127.0.0.7", at)
        assert (listener.levels_on_wire("artnet", 4) or b"")[0] == (5 if level < 7 else 7)
    listener.take_datagram(
        artnet.encode_artnet(artnet.Dmx(4, b"\x09\0", 45)), "127.0.0.7", 111.0
    )  # after its silence it began anew
    assert (listener.levels_on_wire("artnet", 4) or b"")[0] == 9


def test_a_node_that_fell_silent_gets_no_more_unicast(listener: Listener) -> None:  # noqa: F811
    listener.take_datagram(reply(1, 3), "127.0.0.9", 100.0)
    assert (
        subscribed_nodes(listener.heard_devices(), 3, 109.9) == ["127.0.0.9"]
        and subscribed_nodes(listener.heard_devices(), 3, 110.1) == []
    )


def test_a_synchronization_is_noticed(listener: Listener) -> None:  # noqa: F811
    listener.take_datagram(sacn.encode_sacn(sacn.Data(CID, 1, b"\1\2", sync=7000)), "127.0.0.5", 100.0)
    assert listener.heard_sources(100.0)[0].sync == 7000


def test_quiet_nothing_leaves(monkeypatch: pytest.MonkeyPatch) -> None:
    ear_ = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    ear_.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    ear_.bind((HERE.broadcast_address, artnet.PORT))
    ear_.settimeout(0.3)
    quiet = Listener(HERE, [1, 2, 3], quiet=True)
    try:
        quiet.start_listening()
        assert quiet._groups.joined_universes == set()
        with sender() as out:
            out.bind(("127.0.0.73", artnet.PORT))
            out.settimeout(0.3)
            out.sendto(artnet.encode_artnet(artnet.Poll()), (HERE.ip, artnet.PORT))
            out.sendto(data(1, 7), (HERE.ip, sacn.PORT))
            assert until(lambda: quiet.packets == 2) and quiet.levels_on_wire("sacn", 1)
            with pytest.raises(TimeoutError):
                out.recv(100)
        with pytest.raises(TimeoutError):
            ear_.recv(100)
    finally:
        quiet.close()
        ear_.close()


# ---- many groups on few sockets


def test_groups_share_sockets_where_descriptors_are_few_and_hear_only_groups(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sacn, "PORT", 15568)  # on the usual one others may not share: see below
    heard = Listener(HERE, poll=False)  # this one takes a socket of its own for the list of universes
    heard._groups.room = 3
    heard._groups.free = lambda: 5  # of which four are kept for sharing ten groups by threes
    heard.join_universes(range(1, 11))
    assert (
        heard._groups.count_sockets == 2 + 3
        and len(heard._groups.joined_universes) == 11
        and heard.known_problems == []
    )
    heard.start_listening()
    try:
        with sender() as out:
            for universe in range(1, 13):
                out.sendto(data(universe, universe), (sacn.group_of_universe(universe), sacn.PORT))
            assert until(lambda: len(heard.heard_sources(time.time())) >= 10)
            out.sendto(data(21, 1), ("127.0.0.99", sacn.PORT))  # to another address of this computer
            out.sendto(data(1, 77, 1), (sacn.group_of_universe(1), sacn.PORT))
            assert until(lambda: (heard.levels_on_wire("sacn", 1) or b"\0")[0] == 77)  # what came after it is here
            assert sorted(s.wire for s in heard.heard_sources(time.time())) == list(range(1, 11))
            heard.join_universes([9, 10])
            assert heard._groups.joined_universes == {9, 10, sacn.DISCOVERY_UNIVERSE}
            out.sendto(data(4, 200, 1), (sacn.group_of_universe(4), sacn.PORT))
            out.sendto(data(9, 201, 1), (sacn.group_of_universe(9), sacn.PORT))
            assert until(lambda: (heard.levels_on_wire("sacn", 9) or b"\0")[0] == 201)
            assert (heard.levels_on_wire("sacn", 4) or b"\0")[0] == 4
    finally:
        heard.close()


@pytest.mark.parametrize("first", ["they", "we"])
def test_many_groups_and_programs_that_want_the_port_for_themselves_do_not_meet(first: str) -> None:
    """From the 65th group on a socket was once bound to all addresses: who came second was deaf, or did not start."""
    theirs = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    if first == "they":
        theirs.bind(("127.0.0.66", sacn.PORT))  # for themselves: without SO_REUSEADDR
    heard = Listener(HERE, range(1, 301), poll=False)
    heard.start_listening()
    try:
        if first == "we":
            theirs.bind(("127.0.0.66", sacn.PORT))
        assert heard.find_problems == [] and heard._groups.count_sockets == 301
        with sender() as out:
            for universe in (1, 64, 65, 66, 300):
                out.sendto(data(universe, 9), (sacn.group_of_universe(universe), sacn.PORT))
        assert until(lambda: sorted(s.wire for s in heard.heard_sources(time.time())) == [1, 64, 65, 66, 300])
    finally:
        heard.close()
        theirs.close()


def test_where_sharing_is_refused_groups_get_sockets_of_their_own() -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as theirs, contextlib.closing(Ears()) as ears:
        theirs.bind(("127.0.0.66", sacn.PORT))
        made = Groups(HERE, ears)
        made.free, made.room = lambda: 4, 2  # three would share two by two, were it not for them
        try:
            assert made.join_universes(range(1, 5)) == []
            assert made.joined_universes == {1, 2, 3, 4}
        finally:
            made.close()


def test_a_port_that_becomes_free_is_taken_without_being_told_to() -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as theirs:
        theirs.bind((HERE.ip, artnet.PORT))
        heard = Listener(HERE, poll=False)
        heard.start_listening()
        assert (
            heard.taken == [artnet.PORT] and "held by Welvo itself" in heard.find_problems[0]
        )  # it is our own process
    try:
        assert until(lambda: heard.artnet_fd >= 0 and heard.taken == [], 10)
        with sender() as out:
            out.sendto(artnet.encode_artnet(artnet.Dmx(3, bytes(8), 1)), (HERE.ip, artnet.PORT))
        assert until(lambda: heard.heard_sources(time.time()))
    finally:
        heard.close()


def test_what_no_descriptor_is_left_for_is_said() -> None:
    ears = Ears()
    made = Groups(HERE, ears)
    made.free = lambda: 3 - made.count_sockets
    made.room = 2
    try:
        assert made.join_universes([1, 2]) == []
        (problem,) = made.join_universes(range(1, 9))
        assert problem.startswith("sACN 4 universes, 5 to 8, cannot be heard as multicast: no more files"), problem
        assert made.joined_universes == {1, 2, 3, 4}
        made.free = lambda: 0
        assert made.join_universes([1, 50])[0].startswith("sACN universe 50 cannot be heard as multicast")
    finally:
        made.close()
        ears.close()


FOUR_THOUSAND = """
import resource, sys, time, socket
from pathlib import Path
resource.setrlimit(resource.RLIMIT_NOFILE, (1024, 1024))
from welvo.demo.gallery import make_gallery
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.live.interfaces import Interface
from welvo.live.listener import Listener
from welvo.protocols import sacn
here = Interface("lo", "127.0.0.77", "255.0.0.0")
listener = Listener(here, range(1, 4001), poll=False)
assert listener.find_problems == [], listener.find_problems
listener.start_listening()
out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
out.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(here.ip))
wanted = (1, 63, 64, 65, 999, 2000, 4000)
from welvo.patience import PatienceLimit
limit = PatienceLimit(8)
while limit.lasts() and len(listener.heard_sources(time.time())) < len(wanted):
    for u in wanted:
        data = sacn.Data(bytes([u & 127 or 1] * 16), u, bytes([u & 255]) * 8)
        out.sendto(sacn.encode_sacn(data), (sacn.group_of_universe(u), 5568))
    time.sleep(0.05)
assert sorted(s.wire for s in listener.heard_sources(time.time())) == sorted(wanted)
file = Path(sys.argv[1])
save_rig_file(make_gallery(), file)
assert load_rig_file(file) == make_gallery()
from welvo.live.engine import EngineProcess
from welvo.live.frames import Frames
engine = EngineProcess("127.0.0.1", 1)
engine.stop()
listener.close()
print("heard and saved")
"""


def test_four_thousand_universes_are_heard_and_saved_with_1024_descriptors(tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-c", FOUR_THOUSAND, str(tmp_path / "r.welvo")], capture_output=True, text=True, timeout=300
    )
    assert done.stdout.strip() == "heard and saved", done.stderr


def test_the_limit_is_raised_as_far_as_it_may(monkeypatch: pytest.MonkeyPatch) -> None:
    set_to: list[tuple[int, int]] = []
    monkeypatch.setattr(resource, "getrlimit", lambda _: (1024, 4096))
    monkeypatch.setattr(resource, "setrlimit", lambda _, limits: set_to.append(limits))
    assert groups.raise_limit() == 4096 and set_to == [(4096, 4096)]
    assert free_descriptors() < 1024 - groups.RESERVE


# ---- the streaming process


def test_two_thousand_changes_of_streams_that_nobody_reads_are_taken(ear: socket.socket) -> None:  # noqa: F811
    engine = EngineProcess("127.0.0.1", 1, "Test")
    try:
        os.kill(engine.pid, signal.SIGSTOP)
        begun = time.monotonic()
        for n in range(2000):
            engine.set_streams([replace(SPEC, priority=1 + n % 200)])
        assert time.monotonic() - begun < slowed(1.0)
        assert until(lambda: engine.state.kind == "silent", 2.0)
        os.kill(engine.pid, signal.SIGCONT)
        assert {p.priority for p in collect(ear, 3.0, 3)} == {1 + 1999 % 200}
        assert until(lambda: engine.state.kind == "sending", 1.0)
        for n in range(300):
            engine.set_streams([replace(SPEC, priority=1 + n % 200)])
            time.sleep(0.001)
        assert len(collect(ear, 2.0, 5)) == 5
    finally:
        engine.stop()
    assert sum(p.is_terminated for p in collect(ear, 2.0)) == 3


def test_a_parent_that_never_reads_does_not_stop_the_light(ear: socket.socket) -> None:  # noqa: F811
    """The pipe fills up after some hundred answers; then answers are dropped, and packets go on leaving."""
    frames = Frames.make_frames(1)
    child = subprocess.Popen(
        [sys.executable, "-m", "welvo.live.engine_main", str(frames.handle), "1", "-1"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, pass_fds=[frames.handle], bufsize=0,
    )  # fmt: skip
    assert child.stdin and child.stdout
    try:
        child.stdin.write(line_of(EngineCommand(open=Opening("127.0.0.1", "x", "5a" * 16))))
        for n in range(1500):
            spec = replace(SPEC, priority=1 + n % 200, id=f"w{'x' * 200}")
            child.stdin.write(line_of(EngineCommand(streams=(spec,))))
            if n % 50 == 0:
                time.sleep(0.002)
        assert until(lambda: any(p.priority == 1 + 1499 % 200 for p in collect(ear, 0.1)), 5.0)
        child.stdin.close()
        assert sum(p.is_terminated for p in collect(ear, 3.0)) == 3
        assert child.wait(3) == 0
    finally:
        child.kill()
        child.wait()
        child.stdout.close()
        frames.close()


def test_a_process_that_is_stopped_is_woken_to_end_its_streams(ear: socket.socket) -> None:  # noqa: F811
    engine = EngineProcess("127.0.0.1", 1, "Test")
    engine.set_streams([SPEC])
    assert collect(ear, 3.0, 3)
    os.kill(engine.pid, signal.SIGSTOP)
    begun = time.monotonic()
    engine.end()
    assert time.monotonic() - begun < slowed(0.05)  # it is not waited for
    engine.stop()
    assert not engine.alive
    ear.setblocking(False)
    got: list[sacn.Data] = []
    with pytest.raises(BlockingIOError):
        while True:
            packet = sacn.decode_sacn(ear.recv(2048))
            assert isinstance(packet, sacn.Data)
            got.append(packet)
    assert sum(p.is_terminated for p in got) == 3


def test_a_process_that_does_not_answer_is_replaced_with_its_identity(ear: socket.socket) -> None:  # noqa: F811
    engine = EngineProcess("127.0.0.1", 1, "Test")
    try:
        engine.write(b"\x21" * 512)
        engine.set_streams([SPEC])
        assert collect(ear, 3.0, 3)
        first = engine.pid
        os.kill(first, signal.SIGSTOP)
        assert until(lambda: engine.state.kind == "silent", 2.0)
        begun = time.monotonic()
        engine.revive()
        assert time.monotonic() - begun < slowed(0.1)
        engine.wait_ready()
        while collect(ear, 0.0, 1):
            pass
        packets = collect(ear, 3.0, 3)
        assert {(p.cid, p.slots[0]) for p in packets} == {(engine.cid.bytes, 0x21)} and engine.pid != first
        assert engine.state.kind == "sending"
    finally:
        engine.stop()


UNREACHABLE = """
import subprocess, sys, time
from welvo.patience import PatienceLimit
from welvo.live.engine import EngineProcess
from welvo.live.messages import UniverseOut
def ip(*words): subprocess.run(["ip", *words], check=True)
ip("link", "set", "lo", "up")
ip("link", "add", "stage0", "type", "veth", "peer", "name", "stage1")
ip("link", "set", "stage1", "up")
ip("addr", "add", "10.9.8.7/24", "dev", "stage0")
ip("link", "set", "stage0", "up")
engine = EngineProcess("10.9.8.7", 1)
engine.set_streams([UniverseOut("g", "sacn", 5, ("239.255.0.5",)), UniverseOut("u", "sacn", 6, ("10.9.8.9",))])
def until(kind, condition):
    begun = time.monotonic()
    limit = PatienceLimit(3)
    while limit.lasts():
        if condition(engine.state.wrong):
            print(kind, round(time.monotonic() - begun, 2), sorted(engine.state.wrong.items()))
            return
        time.sleep(0.005)
    print("never", kind, engine.state)
wait = PatienceLimit(3)
while wait.lasts() and engine.state.kind != "sending": time.sleep(0.01)
time.sleep(1.5)  # the link has to be seen up by the kernel before anything can be said of it
until("good", lambda w: not w)
from welvo.live.interfaces import Interface, trouble_of
stage = Interface("stage0", "10.9.8.7", "255.255.255.0")
print(repr(trouble_of(stage)))
ip("link", "set", "stage0", "down")
until("down", lambda w: set(w) == {"g", "u"})
print(trouble_of(stage))
ip("link", "set", "stage0", "up")
until("up", lambda w: not w)
ip("link", "del", "stage0")
until("gone", lambda w: set(w) == {"g", "u"})
print(trouble_of(stage))
engine.stop()
"""


def test_a_network_that_takes_nothing_is_said_within_half_a_second() -> None:
    own_network()
    done = subprocess.run(
        ["unshare", "-n", sys.executable, "-c", UNREACHABLE], capture_output=True, text=True, timeout=300
    )
    good, fine, down, off, up, gone, away = done.stdout.splitlines()
    assert good.startswith("good") and fine == "''", done.stdout + done.stderr
    assert (off, away) == ("stage0 is switched off", "stage0 is gone")
    for line, kind in ((down, "down"), (up, "up"), (gone, "gone")):
        assert line.startswith(kind) and float(line.split()[1]) < 0.5, done.stdout
    assert "unreachable" in down


def test_an_address_that_is_not_there_is_trouble() -> None:
    assert trouble_of(LOOPBACK) == ""
    assert trouble_of(Interface("lo", "192.0.2.1", "255.0.0.0")) == "lo no longer has the address 192.0.2.1"
    assert trouble_of(Interface("nowhere9", "192.0.2.1", "255.0.0.0")) == "nowhere9 is gone"


# ---- the stand-ins


def test_stand_ins_that_complain_at_length_are_read_along(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "r.welvo"
    save_rig_file(make_gallery(), file)
    script = "import sys, time\nprint('ready', flush=True)\nsys.stderr.write('a trace\\n' * 60_000)\n"
    script += "sys.stderr.flush()\nprint('went on', flush=True)\nsys.stdin.read()\n"
    popen = subprocess.Popen
    monkeypatch.setattr(subprocess, "Popen", lambda command, **more: popen([sys.executable, "-c", script], **more))
    made = StandIns(file, None)
    try:
        made.wait_ready()
        assert until(lambda: made._said[-1] == "went on", 5.0) and made.is_running
    finally:
        made.stop_process()
    assert made.why_failed() == "a trace\n" * 39 + "a trace"


def test_threads_of_the_talk_end_with_it() -> None:
    engine = EngineProcess("127.0.0.1", 1)
    engine.stop()
    assert not [t for t in threading.enumerate() if t.name == "engine-talk" and t is engine._talk._thread]
