from __future__ import annotations

import contextlib
import os
import signal
import socket
import subprocess
import sys
import time

import pytest

from tests.conftest import slowed
from welvo.live.interfaces import Interface, interface_of, list_interfaces
from welvo.live.links import LinkError
from welvo.live.listener import Listener, ListenError
from welvo.live.output import streams_to_send, subscribed_nodes
from welvo.live.status import read_status
from welvo.observed.values import Heard, HeardPort
from welvo.patience import wait_until
from welvo.protocols import artnet, sacn
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.settings.artnet import address_packets

HERE = Interface("lo", "127.0.0.72", "255.0.0.0")
CID = bytes(range(1, 17))


@pytest.fixture
def listener() -> Listener:  # type: ignore[misc]
    made = Listener(HERE, [1, 2], poll=False)
    yield made
    made.close()


def data(
    universe: int = 1, level: int = 5, sequence: int = 0, priority: int = 100, cid: bytes = CID, options: int = 0
) -> bytes:
    return sacn.encode_sacn(sacn.Data(cid, universe, bytes([level] * 512), "desk", priority, sequence, options))


def reply(page: int, wire: int, good: int = 0x80) -> bytes:
    net, sub, universe = wire >> 8, wire >> 4 & 15, wire & 15
    return artnet.encode_artnet(
        artnet.PollReply(
            ip=(127, 0, 0, 9),
            short_name="BOX",
            net=net,
            sub=sub,
            port_types=(0x80,),
            good_input=(0,),
            good_output=(good,),
            sw_in=(0,),
            sw_out=(universe,),
            bind_index=page,
        )
    )


def test_sources_are_told_apart_and_lost_after_their_own_time(listener: Listener) -> None:
    listener.take_datagram(data(level=5), "127.0.0.5", 100.0)
    listener.take_datagram(data(level=9, priority=120, cid=bytes(range(2, 18))), "127.0.0.6", 100.1)
    listener.take_datagram(artnet.encode_artnet(artnet.Dmx(4, b"\1\2")), "127.0.0.7", 100.0)
    assert [(s.protocol, s.wire, s.name, s.ip, s.priority) for s in listener.heard_sources(100.2)] == [
        ("sacn", 1, "desk", "127.0.0.5", 100), ("sacn", 1, "desk", "127.0.0.6", 120),
        ("artnet", 4, "", "127.0.0.7", 100),
    ]  # fmt: skip
    assert listener.levels_on_wire("sacn", 1) == bytes([9] * 512) and listener.levels_on_wire("sacn", 3) is None
    own = [listener.source_levels(s.protocol, s.wire, s.key) for s in listener.heard_sources(100.2)]
    assert own == [bytes([5] * 512), bytes([9] * 512), b"\1\2"]  # each its own, whoever wins
    assert (
        len(listener.heard_sources(102.55)) == 2 and len(listener.heard_sources(102.7)) == 1
    )  # sACN: 2.5 s; Art-Net: 10 s
    assert listener.heard_sources(110.1) == []


def test_old_sequence_numbers_previews_and_other_start_codes_are_not_levels(listener: Listener) -> None:
    listener.take_datagram(data(level=5, sequence=50), "127.0.0.5", 100.0)
    listener.take_datagram(data(level=6, sequence=45), "127.0.0.5", 100.1)
    listener.take_datagram(data(level=7, sequence=51, options=sacn.PREVIEW), "127.0.0.5", 100.1)
    assert listener.levels_on_wire("sacn", 1) == bytes([5] * 512)
    listener.take_datagram(data(sequence=52, options=sacn.TERMINATED), "127.0.0.5", 100.2)
    (only,) = listener.heard_sources(100.2)
    assert only.preview and listener.levels_on_wire("sacn", 1) is None  # it is there, and nobody shows it
    assert listener.heard_sources(102.7) == []


def test_rates_are_counted(listener: Listener) -> None:
    for n in range(88):
        listener.take_datagram(data(sequence=n), "127.0.0.5", 100.0 + n / 44)
    assert 42 <= listener.heard_sources(102.0)[0].rate <= 46


def test_pages_of_a_box_are_put_together(listener: Listener) -> None:
    listener.take_datagram(reply(1, 0x123), "127.0.0.9", 100.0)
    listener.take_datagram(reply(2, 3, good=0x8B), "127.0.0.9", 100.5)
    (box,) = listener.heard_devices().values()
    assert [(p.page, p.protocol, p.wire, p.merging, p.ltp) for p in box.ports] == [
        (1, "artnet", 0x123, False, False),
        (2, "sacn", 3, True, True),
    ]
    assert (box.name, box.at) == ("BOX", 100.5)


def test_noise_is_counted_and_changes_nothing(listener: Listener) -> None:
    for n in range(300):
        listener.take_datagram(os.urandom(n % 200), "127.0.0.5", 100.0)
        listener.take_datagram(artnet.IDENTIFIER + os.urandom(n % 60), "127.0.0.5", 100.0)
    listener.take_datagram(bytearray(data())[:100] + b"!", "127.0.0.5", 100.0)
    assert (
        listener.noise >= 300 and listener.heard_sources(100.0) == [] and listener.last_noise.startswith("127.0.0.5: ")
    )


def test_it_hears_multicast_broadcast_and_unicast_and_answers_polls() -> None:
    listener = Listener(HERE, [7], poll=True)
    listener.start_listening()
    ear = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    ear.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(HERE.ip))
    ear.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
    ear.bind(("127.0.0.73", artnet.PORT))
    ear.settimeout(30)
    try:
        ear.sendto(data(universe=7), (sacn.group_of_universe(7), sacn.PORT))
        ear.sendto(data(universe=8), (sacn.group_of_universe(8), sacn.PORT))  # not joined
        ear.sendto(data(universe=9), (HERE.ip, sacn.PORT))
        ear.sendto(artnet.encode_artnet(artnet.Poll()), (HERE.broadcast_address, artnet.PORT))
        answer = artnet.decode_artnet(ear.recv(2048))
        assert isinstance(answer, artnet.PollReply) and answer.style == 1 and answer.count_ports == 0
        wait_until(lambda: len(listener.heard_sources(time.time())) >= 2, 3)
        assert sorted(s.wire for s in listener.heard_sources(time.time())) == [7, 9]
        listener.join_universes([8])
        ear.sendto(data(universe=8), (sacn.group_of_universe(8), sacn.PORT))
        wait_until(lambda: bool(listener.levels_on_wire("sacn", 8)), 3)
        assert listener.levels_on_wire("sacn", 8) and HERE.ip not in listener.heard_devices()
    finally:
        ear.close()
        listener.close()


def test_a_port_that_is_taken_is_named_by_its_role(listener: Listener) -> None:
    second = Listener(HERE, [], poll=False)
    try:
        assert len(second.find_problems) == 2 and second.artnet_fd == -1
        assert "The Art-Net port (UDP 6454) on 127.0.0.72 is held by Welvo itself" in second.find_problems[0]
        assert "sACN port (UDP 5568)" in second.find_problems[1] and "End that program" not in second.find_problems[0]
        with pytest.raises(ListenError, match="Art-Net port"):
            second.send_artnet(artnet.Poll(), "127.0.0.9")
    finally:
        second.close()


def test_another_program_that_holds_a_port_is_named() -> None:
    code = "import socket,time; s=socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind(('127.0.0.74', 6454))"
    # by way of a shell that ends: so that it is nobody's child here
    command = f"{sys.executable} -c \"{code}; print('held', flush=True); time.sleep(60)\" & echo $!"
    shell = subprocess.Popen(["sh", "-c", command], stdout=subprocess.PIPE, text=True)
    assert shell.stdout
    told = {shell.stdout.readline().strip(), shell.stdout.readline().strip()} - {"held"}
    pid = int(told.pop())
    shell.wait()
    try:
        heard = Listener(Interface("lo", "127.0.0.74", "255.0.0.0"), poll=False)
        (problem,) = heard.find_problems
        heard.close()
        assert problem.startswith("The Art-Net port (UDP 6454) on 127.0.0.74 is taken by python"), problem
        assert f"(process {pid})" in problem and "End that program" in problem
    finally:
        os.kill(pid, signal.SIGKILL)
        shell.stdout.close()


def test_interfaces_begin_with_the_one_that_lets_nothing_out() -> None:
    assert list_interfaces()[0].ip == "127.0.0.1" and list_interfaces()[0].broadcast_address == "127.255.255.255"
    assert (
        interface_of("127.0.0.44") == Interface("lo", "127.0.0.44", "255.0.0.0") and interface_of("192.0.2.1") is None
    )
    assert Interface("x", "10.1.2.3", "255.255.240.0").broadcast_address == "10.1.15.255"


# ---- streams and links


def test_streams_follow_from_the_benchs_feeds(rig: Rig) -> None:
    heard = {
        "127.0.0.60": Heard("127.0.0.60", ports=(HeardPort(1, 0, True, "artnet", 2),)),
        "127.0.0.61": Heard("127.0.0.61", ports=(HeardPort(1, 0, True, "sacn", 2),)),
    }
    assert subscribed_nodes(heard, 2) == ["127.0.0.60"] and subscribed_nodes(heard, 3) == []
    first, second = streams_to_send(rig, HERE, heard, {"u2": b"\5" * 512})
    assert (first.to, first.row, first.last) == (("239.255.0.1",), 0, None)
    assert (second.to, second.row, second.last) == (("127.0.0.60",), 1, None)
    zero, _ = edits.set_feed(rig, "w2", "", at_disarm="zero", to="broadcast")
    assert streams_to_send(zero, HERE, heard, {})[1].to == ("127.255.255.255",) and streams_to_send(
        zero, HERE, heard, {}
    )[1].last == bytes(512)
    defaults, _ = edits.set_feed(rig, "w2", "", at_disarm="defaults")
    assert streams_to_send(defaults, HERE, heard, {"u2": b"\5" * 512})[1].last == b"\5" * 512


def test_a_push_is_one_packet_per_page_and_command(rig: Rig) -> None:
    model = rig.device_models["mod"]
    heard = Heard("127.0.0.60", ports=(HeardPort(1, 0, True, "artnet", 1), HeardPort(2, 0, True, "artnet", 2)))
    packets = address_packets(
        model, heard, {"A.universe": 0x123, "A.protocol": "sacn", "A.merge": "latest", "B.universe": 4, "name": "STAGE"}
    )
    assert [p.short_name for p in packets] == ["STAGE", "", "", ""]
    assert (packets[1].net, packets[1].sub, packets[1].sw_out[0], packets[1].command) == (0x81, 0x82, 0x83, 0x70)
    assert (packets[2].bind_index, packets[2].command, packets[2].net) == (1, 0x10, artnet.NO_CHANGE)
    assert packets[3].bind_index == 2
    for values, says in (
        ({"A.universe": 40000}, "out of its reach"),
        ({"ip": "1.2.3.4"}, "set it on the device"),
        ({"Z.universe": 1}, "no port Z"),
    ):
        with pytest.raises(Refused, match=says):
            address_packets(model, heard, values)


def test_a_status_page_that_is_rubbish_is_an_error_in_words() -> None:
    import threading

    answers = [
        b"HTTP/1.0 200 OK\r\n\r\n[1]",
        b"HTTP/1.0 500 No\r\n\r\n",
        b"HTTP/1.0 302 Found\r\nLocation: http://127.0.0.76:8499/status\r\n\r\n",
        b"HTTP/1.0 200 OK\r\n\r\nnot json",
        b"\x00\x01\x02\r\n\r\n",
    ]
    server = socket.create_server(("127.0.0.74", 8499))

    def serve() -> None:
        for answer in answers:
            peer, _ = server.accept()
            peer.recv(1000)
            peer.sendall(answer)
            peer.close()
        peer, _ = server.accept()  # the last one drips: one limit holds for the whole answer
        peer.recv(1000)
        with contextlib.suppress(OSError):
            peer.sendall(b"HTTP/1.0 200 OK\r\n\r\n")
            for _ in range(400):  # until it is given up
                peer.sendall(b" ")
                time.sleep(0.1)
        peer.close()

    threading.Thread(target=serve, daemon=True).start()
    elsewhere = socket.create_server(("127.0.0.76", 8499))
    elsewhere.settimeout(0.05)
    for says in ("no status", "error 500", "error 302", "no status", "does not show"):
        with pytest.raises(LinkError, match=says):
            read_status("127.0.0.74", 8499)
    with elsewhere, pytest.raises(TimeoutError):
        elsewhere.accept()  # nobody followed the page to where it pointed
    begun = time.monotonic()
    with pytest.raises(LinkError, match="takes too long"):
        read_status("127.0.0.74", 8499)
    assert time.monotonic() - begun < slowed(1.5)
    server.close()
    with pytest.raises(LinkError, match="does not show its status"):
        read_status("127.0.0.74", 8499)
