"""One process that hosts many stand-ins, one 127.0.0.x address each."""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import os
import signal
import socket
import sys
import time
import traceback
from pathlib import Path
from typing import Any

from welvo.formats.files import RigFileError, read_text
from welvo.formats.plain import read_toml
from welvo.protocols import artnet, sacn
from welvo.protocols.wire import WireError
from welvo.rig.document import Rig
from welvo.rig.plan import planned
from welvo.rig.wiring import DeviceModel, SettingValue
from welvo.standins.node import Node, known_settings

BROADCAST = "127.255.255.255"


class StandInError(Exception):
    """Stand-ins that cannot be started; the message says which and why."""


def describe(
    rig: Rig, state: dict[str, Any], models: dict[str, DeviceModel], as_planned: bool = False
) -> list[tuple[str, DeviceModel, dict[str, SettingValue]]]:
    """(ip, model, settings the device has) for each device of the rig on 127.x, and for `extra` devices of the state.

    `state` is the TOML beside a rig: a table per IP address with what that device has, `model` for devices that are
    not in the rig, `off = true` for one that does not answer.
    """
    found = []
    known: set[str] = set()
    for device_id, device in rig.devices.items():
        model = rig.device_models[device.model]
        if not device.ip or not ipaddress.ip_address(device.ip).is_loopback or device.ip in known:
            continue
        known.add(device.ip)
        own = _settings(state.get(device.ip, {}), model, device.ip)
        if state.get(device.ip, {}).get("off"):
            continue
        base: dict[str, SettingValue] = planned(rig, device_id) if as_planned else {}
        found.append((device.ip, model, {**base, **own}))
    for ip, table in state.items():
        if not isinstance(table, dict) or "model" not in table or ip in known:
            continue
        model = models.get(str(table["model"]))  # type: ignore[assignment]
        if model is None:
            raise StandInError(f"{ip}: there is no device model “{table['model']}”.")
        if not ipaddress.ip_address(ip).is_loopback:
            raise StandInError(f"{ip} is not in 127.0.0.0/8; stand-ins live nowhere else.")
        found.append((ip, model, _settings(table, model, ip)))
    return found


def _settings(table: dict[str, Any], model: DeviceModel, ip: str) -> dict[str, SettingValue]:
    own: dict[str, SettingValue] = {}
    for key, value in table.items():
        if key in ("model", "off"):
            continue
        if isinstance(value, dict):
            own |= {f"{key}.{k}": v for k, v in value.items()}
        else:
            own[key] = value
    unknown = set(own) - known_settings(model)
    if unknown:
        raise StandInError(f"{ip}: {model.name} has no setting “{sorted(unknown)[0]}”.")
    return own


def read_state(path: Path) -> dict[str, Any]:
    try:
        return read_toml(read_text(path, 1 << 20, "a description of stand-ins"), path.name)
    except RigFileError as e:
        raise StandInError(str(e)) from e


class Host:
    """Sockets for all nodes of the process."""

    def __init__(self, nodes: list[Node]) -> None:
        self.nodes = nodes
        self._art: dict[str, socket.socket] = {}
        self._groups: dict[int, socket.socket] = {}
        self._runners: list[Any] = []
        self._open: list[socket.socket] = []
        self.faults = 0

    async def start(self) -> None:
        loop = asyncio.get_running_loop()
        for node in self.nodes:
            self._art[node.ip] = self._socket(node.ip, artnet.PORT)
            loop.add_reader(self._art[node.ip], self._artnet, self._art[node.ip], [node])
            direct = self._socket(node.ip, sacn.PORT)
            loop.add_reader(direct, self._sacn, direct, [node])
        shared = self._socket(BROADCAST, artnet.PORT, reuse=True)
        loop.add_reader(shared, self._artnet, shared, self.nodes)
        self._join()
        await self._pages()
        for node in self.nodes:  # a node announces itself at power-on
            self._answer(node, node.replies(), BROADCAST)

    def _socket(self, ip: str, port: int, reuse: bool = False) -> socket.socket:
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        if reuse:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 21)
        try:
            sock.bind((ip, port))
        except OSError as e:
            sock.close()
            raise StandInError(
                f"UDP {port} on {ip} cannot be had: {e.strerror}. Is another set of stand-ins running?"
            ) from e
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)  # from now on others may listen to groups beside it
        sock.setblocking(False)
        self._open.append(sock)
        return sock

    def _join(self) -> None:
        """Hear the sACN groups that any port takes at present."""
        loop = asyncio.get_running_loop()
        wanted = set().union(*(n.sacn_universes() for n in self.nodes)) if self.nodes else set()
        for universe in self._groups.keys() - wanted:
            sock = self._groups.pop(universe)
            loop.remove_reader(sock)
            sock.close()
        for universe in wanted - self._groups.keys():
            sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            sock.setsockopt(socket.IPPROTO_IP, 49, 0)  # IP_MULTICAST_ALL off: only what this socket joined
            sock.bind((sacn.group(universe), sacn.PORT))
            member = socket.inet_aton(sacn.group(universe)) + socket.inet_aton("127.0.0.1")
            sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, member)
            sock.setblocking(False)
            self._groups[universe] = sock
            loop.add_reader(sock, self._sacn, sock, self.nodes)

    def _artnet(self, sock: socket.socket, nodes: list[Node]) -> None:
        for raw, sender in _drain(sock):
            try:
                packet = artnet.decode(raw)
                for node in nodes:
                    replies = node.take_artnet(packet, sender[0])
                    if replies:
                        self._answer(node, replies, sender[0])
                if isinstance(packet, artnet.Address):
                    self._join()
            except WireError:
                for node in nodes:
                    node.noise += 1
            except Exception:  # a fault of ours: the packets behind this one are taken all the same
                self._fault()

    def _answer(self, node: Node, replies: list[bytes], to: str) -> None:
        for raw in replies:
            with contextlib.suppress(OSError):
                self._art[node.ip].sendto(raw, (to, artnet.PORT))

    def _sacn(self, sock: socket.socket, nodes: list[Node]) -> None:
        for raw, sender in _drain(sock):
            try:
                packet = sacn.decode(raw)
                for node in nodes:
                    node.take_sacn(packet, sender[0])
            except WireError:
                for node in nodes:
                    node.noise += 1
            except Exception:
                self._fault()

    def _fault(self) -> None:
        """Print the trace of an unexpected error, for the first few: whoever started this reads along."""
        self.faults += 1
        if self.faults <= 5:
            traceback.print_exc()

    async def _pages(self) -> None:
        from aiohttp import web

        for node in self.nodes:
            if not node.model.status_port:
                continue
            app = web.Application()

            def show(_: web.Request, node: Node = node) -> web.Response:
                return web.json_response(node.status())

            async def handler(request: web.Request, show: Any = show) -> web.Response:
                return show(request)  # type: ignore[no-any-return]

            app.router.add_get("/status", handler)
            runner = web.AppRunner(app, access_log=None)
            await runner.setup()
            try:
                await web.TCPSite(runner, node.ip, node.model.status_port).start()
            except OSError as e:
                raise StandInError(f"{node.ip}:{node.model.status_port} cannot be had: {e.strerror}.") from e
            self._runners.append(runner)

    async def stop(self) -> None:
        loop = asyncio.get_running_loop()
        for sock in [*self._open, *self._groups.values()]:
            loop.remove_reader(sock)
            sock.close()
        for runner in self._runners:
            await runner.cleanup()


def _drain(sock: socket.socket) -> list[tuple[bytes, tuple[str, int]]]:
    found = []
    for _ in range(512):
        try:
            found.append(sock.recvfrom(2048))
        except (BlockingIOError, OSError):
            break
    return found


async def rival(universe: int, name: str, priority: int, level: int) -> None:
    """A second source that sends one universe: the fault behind random flicker, switched on in the state file."""
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton("127.0.0.1"))
    sock.bind(("127.0.0.90", 0))
    cid = bytes([0x7E]) * 16
    sequence = 0
    try:
        while True:
            packet = sacn.Data(cid, universe, bytes([level]) * 512, name, priority, sequence)
            with contextlib.suppress(OSError):
                sock.sendto(sacn.encode(packet), (sacn.group(universe), sacn.PORT))
            sequence = (sequence + 1) & 255
            await asyncio.sleep(0.2)
    finally:
        sock.close()


async def run(
    described: list[tuple[str, DeviceModel, dict[str, SettingValue]]], state: dict[str, Any], until_eof: bool
) -> None:
    """Host the nodes until SIGTERM, SIGINT, or (when a parent holds the pipe) the end of standard input."""
    host = Host([Node(ip, model, settings, time.monotonic) for ip, model, settings in described])
    await host.start()
    loop = asyncio.get_running_loop()
    done = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, done.set)
    if until_eof:
        loop.add_reader(sys.stdin.fileno(), lambda: None if os.read(sys.stdin.fileno(), 64) else done.set())
    rivals = state.get("rival")
    tasks = [asyncio.create_task(rival(**r)) for r in (rivals if isinstance(rivals, list) else [])]
    print(f"{len(host.nodes)} stand-ins ready: " + ", ".join(f"{n.name} at {n.ip}" for n in host.nodes), flush=True)
    await done.wait()
    for task in tasks:
        task.cancel()
    await host.stop()
