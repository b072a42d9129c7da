"""Talking to responders by RDM through the ports of Art-Net gateways (ArtTodRequest, ArtTodControl, ArtRdm).

A gateway puts one request after the other on its line, so each port has one question open at a time; ports are asked
side by side. Nothing waits for ever: a question is put three times, an answer that is promised for later is fetched a
few times, and a table that is not ready is waited for half a minute. Whoever broke off is told in words.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from msgspec.structs import replace

from welvo.live.links import LinkError
from welvo.live.listener import Listener
from welvo.observed.values import Lamp, PortAt
from welvo.patience import patient, rest, steady
from welvo.protocols import artnet, rdm
from welvo.protocols.rdm import RdmPacket
from welvo.protocols.wire import WireError

if TYPE_CHECKING:
    import asyncio

ANSWER, TRIES = 0.8, 3
"""Seconds in which an answer must come, and how often a question is put."""
MOST_PROMISED, MOST_FETCHED = 6.0, 12
"""Seconds for which a responder may put off its answer, and how often it is asked for it then."""
MOST_PARTS = 64
"""Parts of one answer that is too long for a packet."""
TABLE, TABLE_AGAIN = 30.0, 0.5
"""Seconds that a gateway may search, and between two looks at its table."""
MOST_SILENT = 20
"""Responders in a row without a proper answer, after which the rest of a table is not asked: each costs some seconds,
and a gateway may list thousands that are not there."""
MOST_ANSWER = 16_384
MOST_SUBS = 512
"""Sub-devices that a responder can have (E1.20, 9.1)."""
OWN_UID = 0x7FF0 << 32 | int.from_bytes(os.urandom(4), "big") & 0xFFFF_FFFE
"""Ours, out of the range for prototypes (E1.20, 5)."""


class RdmRefused(LinkError):
    """A responder said no; the message says why."""

    def __init__(self, why: str, reason: int) -> None:
        super().__init__(why)
        self.reason = reason


class RdmPort(Protocol):
    """A line with responders, by whatever way it is reached."""

    async def ask(self, request: RdmPacket) -> RdmPacket: ...
    async def table(self, anew: bool) -> list[int]: ...


@dataclass
class _Waiting:
    future: asyncio.Future[RdmPacket]
    loop: asyncio.AbstractEventLoop
    request: RdmPacket


@dataclass
class _Table:
    event: asyncio.Event
    total: int = -1
    blocks: dict[int, tuple[int, ...]] = field(default_factory=dict)
    ready: bool = False


class Gateways:
    """Sends from the listener's socket and sorts what comes back to who asked for it."""

    def __init__(self, listener: Listener) -> None:
        self._listener = listener
        self._waiting: dict[tuple[str, int, int, int], _Waiting] = {}
        self._tables: dict[PortAt, tuple[_Table, asyncio.AbstractEventLoop]] = {}
        self._locks: dict[PortAt, asyncio.Lock] = {}
        self._transaction = 0
        listener.on_rdm = self._take_packet

    def port_at(self, ip: str, address: int) -> ArtRdmPort:
        return ArtRdmPort(self, ip, address)

    # ---- what comes back: called in the listener's thread

    def _take_packet(self, packet: artnet.TodData | artnet.Rdm, ip: str) -> None:
        at = (ip, packet.net << 8 | packet.address)
        if isinstance(packet, artnet.TodData):
            kept = self._tables.get(at)
            if kept:
                kept[1].call_soon_threadsafe(self._take_table, kept[0], packet)
            return
        frame = rdm.from_artnet(packet.frame)  # a WireError is counted as noise by the listener
        waiting = self._waiting.get((*at, frame.source, frame.transaction))
        if waiting and frame.command == waiting.request.command + 1:
            waiting.loop.call_soon_threadsafe(_resolve_future, waiting.future, frame)

    def _take_table(self, table: _Table, packet: artnet.TodData) -> None:
        if not packet.available:
            return
        if packet.total != table.total:
            table.total, table.blocks = packet.total, {}
        table.blocks[packet.block] = packet.uids
        if sum(map(len, table.blocks.values())) >= packet.total:
            table.ready = True
            table.event.set()

    # ---- asking

    async def ask_port(self, ip: str, address: int, request: RdmPacket) -> RdmPacket:
        import asyncio

        lock = self._locks.setdefault((ip, address), asyncio.Lock())
        async with lock:
            for _ in range(TRIES):
                self._transaction = (self._transaction + 1) & 0xFF
                frame = RdmPacket(
                    request.to, OWN_UID, request.command, request.pid, request.data,
                    self._transaction, port=1, sub=request.sub,
                )  # fmt: skip
                loop = asyncio.get_running_loop()
                key = (ip, address, request.to, self._transaction)
                waiting = self._waiting[key] = _Waiting(loop.create_future(), loop, frame)
                try:
                    packet = artnet.Rdm(address >> 8, address & 0xFF, rdm.for_artnet(frame))
                    self._listener.send_artnet(packet, ip)
                    async with patient(ANSWER):
                        return await waiting.future
                except TimeoutError:
                    continue
                finally:
                    self._waiting.pop(key, None)
        raise LinkError(f"{rdm.say_uid(request.to)} does not answer.")

    async def table_of_port(self, ip: str, address: int, anew: bool) -> list[int]:
        """The responders of a port; `anew` lets the gateway search first. Raises LinkError when it has no table."""
        import asyncio

        loop = asyncio.get_running_loop()
        at = (ip, address)
        table = _Table(asyncio.Event())
        self._tables[at] = (table, loop)
        end = loop.time() + TABLE
        try:
            if anew:
                self._listener.send_artnet(artnet.TodControl(address >> 8, address & 0xFF), ip)
            while loop.time() < end:
                self._listener.send_artnet(artnet.TodRequest(address >> 8, (address & 0xFF,)), ip)
                try:
                    async with patient(TABLE_AGAIN):
                        await table.event.wait()
                except TimeoutError:
                    if not anew and table.total < 0 and loop.time() > end - TABLE + 4 * TABLE_AGAIN:
                        break  # nobody there at all: a search would have been announced
                    continue
                return rdm.responders_of_table(uid for n in sorted(table.blocks) for uid in table.blocks[n])
        finally:
            self._tables.pop(at, None)
        raise LinkError(f"{ip} gives no table of its responders.")


def _resolve_future(future: asyncio.Future[RdmPacket], frame: RdmPacket) -> None:
    if not future.done():
        future.set_result(frame)


class ArtRdmPort:
    """One Port-Address of one gateway."""

    def __init__(self, gateways: Gateways, ip: str, address: int) -> None:
        self._gateways, self.ip, self.address = gateways, ip, address

    async def ask(self, request: RdmPacket) -> RdmPacket:
        return await self._gateways.ask_port(self.ip, self.address, request)

    async def table(self, anew: bool) -> list[int]:
        return await self._gateways.table_of_port(self.ip, self.address, anew)


# ---- one responder


class ResponderTalk:
    """Questions to responders of a port, with all that may come instead of a plain answer."""

    def __init__(self, port: RdmPort, sleep: Callable[[float], object] | None = None) -> None:
        self._port = port
        self._sleep = sleep

    async def get_parameter(self, uid: int, pid: int, data: bytes = b"", sub: int = rdm.ROOT) -> bytes:
        return await self._do_request(RdmPacket(uid, OWN_UID, rdm.GET, pid, data, sub=sub))

    async def set_parameter(self, uid: int, pid: int, data: bytes = b"", sub: int = rdm.ROOT) -> bytes:
        return await self._do_request(RdmPacket(uid, OWN_UID, rdm.SET, pid, data, sub=sub))

    async def _do_request(self, request: RdmPacket) -> bytes:
        """The data of the answer. Raises RdmRefused for a no, LinkError when no proper answer comes in time."""
        got = b""
        for _ in range(MOST_PARTS):
            said = await self._port.ask(request)
            if said.port == rdm.ACK_TIMER:
                said = await self._fetch_put_off(request, said)
            if said.port == rdm.NACK:
                raise _refusal_of_request(request, said)
            if said.pid != request.pid:
                raise LinkError(f"{rdm.say_uid(request.to)} answers something else than it was asked.")
            got += said.data
            if said.port == rdm.ACK:
                return got
            if said.port != rdm.ACK_OVERFLOW or len(got) > MOST_ANSWER:
                break
        raise LinkError(f"{rdm.say_uid(request.to)} never comes to the end of its answer.")

    async def _fetch_put_off(self, request: RdmPacket, promise: RdmPacket) -> RdmPacket:
        """The answer that was put off (E1.20, 6.3.2): it is waited for, then taken out of the queue."""
        tenths = struct.unpack(">H", promise.data)[0] if len(promise.data) == 2 else 1
        if tenths / 10 > MOST_PROMISED:
            raise LinkError(f"{rdm.say_uid(request.to)} wants {tenths / 10:g} s for its answer, which is too long.")
        await self._pause_between(max(0.02, tenths / 10))
        for _ in range(MOST_FETCHED):
            said = await self._port.ask(RdmPacket(request.to, OWN_UID, rdm.GET, rdm.QUEUED_MESSAGE, b"\x04"))
            if said.port == rdm.ACK_TIMER:
                await self._pause_between(0.1)
                continue
            if said.pid == request.pid or said.port == rdm.NACK:
                return said
            if said.pid == rdm.STATUS_MESSAGES and not said.data:
                await self._pause_between(0.1)  # its queue is empty: not ready yet
        raise LinkError(f"{rdm.say_uid(request.to)} promised an answer that never came.")

    async def _pause_between(self, seconds: float) -> None:
        if self._sleep:
            self._sleep(seconds)
        else:
            await rest(seconds)

    # ---- whole responders

    async def read_responder(self, uid: int, deep: bool = False) -> Lamp:
        """Who a responder is and where it listens; `deep` asks for everything it knows. One that does not answer is
        given back with why."""
        try:
            i = rdm.decode_info(await self.get_parameter(uid, rdm.DEVICE_INFO))
        except (LinkError, WireError) as e:
            return Lamp(uid, failed=str(e), at=steady())
        lamp = Lamp(
            uid, i.model, i.category, i.footprint, i.personality, i.personalities, i.address, i.subs, at=steady()
        )
        lamp = replace(lamp, label=await self._read_text(uid, rdm.DEVICE_LABEL))
        lamp = replace(lamp, model_name=await self._read_text(uid, rdm.DEVICE_MODEL_DESCRIPTION))
        lamp = replace(lamp, names=await self._read_personalities(uid, i.personalities))
        return await self._read_all(lamp, i.sensors) if deep else lamp

    async def _read_text(self, uid: int, pid: int) -> str:
        try:
            return rdm.decode_text(await self.get_parameter(uid, pid))
        except RdmRefused:
            return ""
        except LinkError:
            return ""

    async def _read_personalities(self, uid: int, count: int) -> tuple[tuple[int, int, str], ...]:
        found = []
        for n in range(1, min(count, 255) + 1):
            try:
                p = rdm.decode_personality(await self.get_parameter(uid, rdm.DMX_PERSONALITY_DESCRIPTION, bytes([n])))
            except (LinkError, WireError):
                continue
            found.append((p.number, p.slots, p.name))
        return tuple(found)

    async def _read_all(self, lamp: Lamp, sensors: int) -> Lamp:
        uid = lamp.uid
        try:
            knows = set(rdm.decode_pids(await self.get_parameter(uid, rdm.SUPPORTED_PARAMETERS)))
        except (LinkError, WireError):
            knows = set()
        counters = {}
        for pid in (rdm.DEVICE_HOURS, rdm.LAMP_HOURS, rdm.LAMP_STRIKES, rdm.DEVICE_POWER_CYCLES):
            if pid in knows:
                try:
                    counters[rdm.NAMES[pid]] = rdm.unpack_numbers(
                        ">I", await self.get_parameter(uid, pid), rdm.NAMES[pid]
                    )[0]
                except (LinkError, WireError):
                    continue
        measured = []
        for n in range(sensors):
            try:
                s = rdm.decode_sensor(await self.get_parameter(uid, rdm.SENSOR_DEFINITION, bytes([n])))
                value = rdm.unpack_numbers(
                    ">Bhhhh", await self.get_parameter(uid, rdm.SENSOR_VALUE, bytes([n])), "SENSOR_VALUE"
                )[1]
                measured.append((s.name or f"sensor {n + 1}", rdm.say_sensor(s, value)))
            except (LinkError, WireError):
                continue
        slots: list[tuple[int, int, int, str]] = []
        if rdm.SLOT_INFO in knows:
            try:
                for slot in rdm.decode_slots(await self.get_parameter(uid, rdm.SLOT_INFO)):
                    words = ""
                    if rdm.SLOT_DESCRIPTION in knows:
                        raw = await self.get_parameter(uid, rdm.SLOT_DESCRIPTION, struct.pack(">H", slot.offset))
                        words = rdm.decode_text(raw[2:])
                    slots.append((slot.offset, slot.kind, slot.label, words))
            except (LinkError, WireError):
                pass
        try:
            identify = await self.get_parameter(uid, rdm.IDENTIFY_DEVICE) == b"\x01"
        except LinkError:
            identify = False
        return replace(
            lamp,
            parts=await self._read_sub_devices(uid, lamp.subs),
            maker=await self._read_text(uid, rdm.MANUFACTURER_LABEL),
            software=await self._read_text(uid, rdm.SOFTWARE_VERSION_LABEL),
            counters=counters,
            sensors=tuple(measured),
            slots=tuple(slots),
            identify=identify,
            deep=True,
        )

    async def _read_sub_devices(self, uid: int, count: int) -> tuple[tuple[int, int, int], ...]:
        """The sub-devices (E1.20, 9.1): what each is asked for by its number. Numbers may have gaps, so all are tried
        until as many as announced were found."""
        found: list[tuple[int, int, int]] = []
        for n in range(1, MOST_SUBS + 1):
            if len(found) >= count:
                break
            try:
                i = rdm.decode_info(await self.get_parameter(uid, rdm.DEVICE_INFO, sub=n))
            except RdmRefused:
                continue
            except (LinkError, WireError):
                break
            found.append((n, i.address, i.footprint))
        return tuple(found)

    async def set_address(self, uid: int, address: int) -> None:
        await self.set_parameter(uid, rdm.DMX_START_ADDRESS, struct.pack(">H", address))

    async def set_personality(self, uid: int, number: int) -> None:
        await self.set_parameter(uid, rdm.DMX_PERSONALITY, bytes([number]))

    async def set_label(self, uid: int, words: str) -> None:
        await self.set_parameter(uid, rdm.DEVICE_LABEL, rdm.encode_text(words))

    async def identify_responder(self, uid: int, on: bool) -> None:
        await self.set_parameter(uid, rdm.IDENTIFY_DEVICE, bytes([on]))


def _refusal_of_request(request: RdmPacket, said: RdmPacket) -> RdmRefused:
    reason = struct.unpack(">H", said.data)[0] if len(said.data) == 2 else -1
    why = rdm.NACKS.get(reason, f"reason 0x{reason:04X}" if reason >= 0 else "it gives no reason")
    what = rdm.NAMES.get(request.pid, f"parameter 0x{request.pid:04X}")
    return RdmRefused(f"{rdm.say_uid(request.to)} refuses {what}: {why}.", reason)


async def find_responders(
    port: RdmPort, anew: bool, told: Callable[[int, int], object] = lambda done, of: None
) -> list[Lamp]:
    """Every responder of a port, read. `told` is called with how many are read of how many."""
    talk = ResponderTalk(port)
    uids = await port.table(anew)
    found: list[Lamp] = []
    silent = 0
    for n, uid in enumerate(uids):
        told(n, len(uids))
        if silent >= MOST_SILENT:
            why = f"{rdm.say_uid(uid)} was not asked: the {MOST_SILENT} before it in the table gave no proper answer."
            found.append(Lamp(uid, failed=why, at=steady()))
            continue
        found.append(await talk.read_responder(uid))
        silent = silent + 1 if found[-1].failed else 0
    told(len(uids), len(uids))
    return found
