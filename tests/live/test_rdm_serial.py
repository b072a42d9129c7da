"""RDM on a serial line: the search by halves with collisions, questions and answers, echo and damage."""

from __future__ import annotations

import asyncio
import select
import threading
import time
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import slowed
from welvo.live import rdm_serial
from welvo.live.links import LinkError
from welvo.live.rdm_link import ResponderTalk, find_responders
from welvo.live.rdm_serial import SerialRdm
from welvo.live.serial_line import LineError
from welvo.protocols import rdm
from welvo.protocols.rdm import RdmPacket
from welvo.standins.lamps import LampPort, Responder
from welvo.standins.line import LineEnd


class Cable:
    """The lowest layer of a line with lamps on it: they answer at once. `echo` gives back what was sent as well."""

    def __init__(self, *uids: int, echo: bool = False, lumps: int = 0) -> None:
        self.lamps = LampPort(Responder(u, 1, "Eel", "Osmer", [("one", 4, []), ("two", 8, [])]) for u in uids)
        self.echo, self.lumps, self.damage, self.lose = echo, lumps, 0, 0
        self.came = b""
        self.breaks = 0
        self.requests: list[bytes] = []

    def line_break(self, seconds: float, mark: float) -> None:
        assert seconds >= 176e-6 and mark >= 12e-6
        self.breaks += 1
        self.came = b""

    def write(self, octets: bytes) -> None:
        self.requests.append(octets)
        request = rdm.decode_rdm(octets)
        if request.pid == rdm.DISC_UNIQUE_BRANCH:
            bounds = int.from_bytes(request.data[:6], "big"), int.from_bytes(request.data[6:], "big")
            said = self.lamps.answer_branch(*bounds)
        else:
            answer = self.lamps.ask_line(request)
            said = b"\0" + rdm.encode_rdm(answer) if answer else None
        if said and self.damage:
            self.damage -= 1
            said = said[:-1] + bytes([said[-1] ^ 1])
        if self.lose:
            self.lose -= 1
            said = None
        self.came = (b"\0" + octets if self.echo else b"") + (said or b"")

    def read(self, most: int, seconds: float) -> bytes:
        size = min(most, self.lumps or most)
        got, self.came = self.came[:size], self.came[size:]
        return got

    def close(self) -> None:
        pass


def line(cable: Cable) -> SerialRdm:
    return SerialRdm("x", lambda _: cable, within=0.005)


def run(coroutine: Any) -> Any:
    return asyncio.run(coroutine)


@settings(max_examples=20, deadline=None)
@given(st.sets(st.integers(0, rdm.HIGHEST_UID), min_size=1, max_size=40), st.booleans(), st.sampled_from([0, 1, 7]))
def test_everybody_on_a_line_is_found(uids: set[int], echo: bool, lumps: int) -> None:
    assert sorted(run(line(Cable(*uids, echo=echo, lumps=lumps)).table(True))) == sorted(uids)


def test_the_first_questions_are_literally_these() -> None:
    cable = Cable()
    assert run(line(cable).table(True)) == []
    first = cable.requests[0]
    # to everybody, DISC_UN_MUTE (0x0003) of command class 0x10, without data
    assert first[:3].hex() == "cc0118" and first[3:9] == b"\xff" * 6 and first[20:24].hex() == "10000300"
    branch = next(r for r in cable.requests if r[21:23].hex() == "0001")
    assert branch[23] == 12 and branch[24:36].hex() == "000000000000fffffffffffe"
    assert cable.breaks == len(cable.requests)


def test_lamps_are_read_and_set_and_damage_is_asked_for_again() -> None:
    cable = Cable(0x7FF200000001, 0x7FF200000002, lumps=5)
    port = line(cable)
    found = run(find_responders(port, True))
    assert [x.names for x in found] == [((1, 4, "one"), (2, 8, "two"))] * 2 and not any(x.failed for x in found)
    cable.damage = cable.lose = 1
    run(ResponderTalk(port).set_address(0x7FF200000002, 33))
    assert cable.lamps.responders[1].address == 33
    cable.lamps.responders[0].fault = "deaf"
    with pytest.raises(LinkError, match="7FF2:00000001 does not answer"):
        run(ResponderTalk(port).get_parameter(0x7FF200000001, rdm.DEVICE_INFO))


def test_an_answer_to_somebody_else_is_none() -> None:
    cable = Cable(5)

    class Old(Cable):
        def write(self, octets: bytes) -> None:
            super().write(octets)
            request = rdm.decode_rdm(octets)
            self.came = rdm.encode_rdm(
                rdm.answer_to(RdmPacket(6, request.source, request.command, request.pid), 6, b"")
            )

    with pytest.raises(LinkError):
        run(ResponderTalk(line(Old(5))).get_parameter(5, rdm.DMX_START_ADDRESS))
    assert cable.lamps.responders


def test_a_port_that_is_busy_or_gone_is_said() -> None:
    def busy(_: str) -> Any:
        raise LineError("serial port x is used by another program")

    with pytest.raises(LinkError, match="used by another program. Disarm first"):
        run(SerialRdm("x", busy).table(True))

    class Pulled(Cable):
        def write(self, octets: bytes) -> None:
            raise OSError(5, "Input/output error")

    with pytest.raises(LinkError, match="The line failed: Input/output error"):
        run(SerialRdm("x", lambda _: Pulled()).table(True))
    assert rdm_serial.WITHIN > 0.0028


def test_a_simulated_line_answers_like_a_real_one() -> None:
    """Through the local socket that stands in for the port, break and octets apart."""
    lamps = [Responder(0x7FF300000000 + 977 * n, 1, "Eel", "Osmer", [("one", 4, [])]) for n in range(5)]
    end = LineEnd(973, lamps)
    stop = threading.Event()

    def serve() -> None:
        while not stop.is_set():
            if select.select([end.socket], [], [], 0.05)[0]:
                end.take_waiting()

    thread = threading.Thread(target=serve)
    thread.start()
    try:
        port = SerialRdm("rehearsal:973")
        assert sorted(run(port.table(True))) == sorted(r.uid for r in lamps)
        run(ResponderTalk(port).set_address(lamps[3].uid, 101))
        assert lamps[3].address == 101
    finally:
        stop.set()
        thread.join()
        end.close()
    with pytest.raises(LinkError, match="no simulated line 973 is running"):
        run(SerialRdm("rehearsal:973").table(True))


class Jabbering(Cable):
    """A line on which something talks all the time."""

    def __init__(self) -> None:
        super().__init__()
        self.open = 0

    def read(self, most: int, seconds: float) -> bytes:
        time.sleep(0.001)
        return b"\x55\xaa\x33" * 9

    def close(self) -> None:
        self.open -= 1


def test_a_disturbed_line_is_called_that_and_what_to_look_at() -> None:
    cable = Jabbering()
    with pytest.raises(LinkError, match=r"The line x is disturbed: 400 questions .* terminator .* talk all the time"):
        run(line(cable).table(True))
    assert len(cable.requests) < rdm.MOST_FRUITLESS + 10


def test_a_search_ends_when_it_is_cancelled_and_leaves_the_line_free() -> None:
    cable = Jabbering()
    opened: list[str] = []

    def open_(name: str) -> Cable:
        opened.append(name)
        cable.open += 1
        assert cable.open == 1  # the one before has let go of it
        return cable

    port = SerialRdm("x", open_, within=0.005)

    async def main() -> float:
        looking = asyncio.create_task(port.table(True))
        while not cable.requests:
            await asyncio.sleep(0.005)
        begun = time.monotonic()
        looking.cancel()
        with pytest.raises(asyncio.CancelledError):
            await looking
        took = time.monotonic() - begun
        asked = len(cable.requests)
        await asyncio.sleep(0.1)
        assert len(cable.requests) == asked and cable.open == 0  # and it asks no more
        return took

    assert run(main()) < slowed(0.5)


def test_whoever_waits_for_the_line_can_be_stopped_too() -> None:
    cable = Jabbering()
    port = line(cable)

    async def main() -> None:
        first = asyncio.create_task(port.table(True))
        while not cable.requests:
            await asyncio.sleep(0.005)
        second = asyncio.create_task(port.ask(RdmPacket(5, 1, rdm.GET, rdm.DMX_START_ADDRESS)))
        await asyncio.sleep(0.02)
        for task in (second, first):
            begun = time.monotonic()
            task.cancel()
            with pytest.raises(asyncio.CancelledError):
                await task
            assert time.monotonic() - begun < slowed(0.5)

    run(main())
