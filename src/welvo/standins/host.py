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
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from welvo.buses.plan import bus_at, bus_ports
from welvo.formats.files import RigFileError, read_text_file
from welvo.formats.plain import read_toml
from welvo.matching.lamps import port_lamps
from welvo.matching.planned import full_plan
from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.protocols import artnet, ddp, sacn
from welvo.protocols.wire import WireError
from welvo.rig.buses import Gear
from welvo.rig.document import Rig
from welvo.rig.entered import SettingValue
from welvo.rig.protocol import PROTOCOLS
from welvo.rig.refs import PortRef
from welvo.rig.wiring import BY_ARTNET, DeviceModel
from welvo.runs.along import components_of, piece_name
from welvo.standins.faults import FAULTS, OF_GEAR, OF_LAMPS, OF_NODES, StandinFaults
from welvo.standins.gateway import BUS_SPEED, Gateway
from welvo.standins.gear import GEAR_FAULTS, SimGear, Wire
from welvo.standins.lamps import LAMP_FAULTS, LampPort, Responder, responder_of
from welvo.standins.line import LineEnd
from welvo.standins.node import Node, known_settings
from welvo.standins.pixel import Attached, PixelDevice
from welvo.standins.process import OBEYED
from welvo.standins.store import Store

BROADCAST = "127.255.255.255"
IP_MULTICAST_ALL = 49
"""Linux: switched off, a socket gets only what it joined itself. Python has no name for it."""
ASKS_WITHIN = 10.0
"""Seconds within which a client puts its question, whole."""
KEPT, ENDS = 5.0, 0.2
"""Seconds that a connection of somebody who says no more is kept, and that one in use may hold up the end."""


class StandInError(Exception):
    """Stand-ins that cannot be started; the message says which and why."""


Simulated = Node | PixelDevice


class Described(NamedTuple):
    """One stand-in to be: where it is, what it is, what it is set to, what is attached to its ports, what is wrong."""

    ip: str
    model: DeviceModel
    settings: dict[str, SettingValue]
    cables: dict[str, tuple[Attached, ...]] = {}
    faults: dict[str, Any] = {}
    password: str = ""
    lamps: dict[str, tuple[Responder, ...]] = {}
    """The responders on each port of a node."""
    gear: dict[str, tuple[SimGear, ...]] = {}
    """The gear on each bus of a gateway."""
    bus_speed: float = BUS_SPEED


OWN_KEYS = ("model", "off", "faults", "password", "instead", "planned", "lamps", "gear", "bus_speed")
"""Entries of a state's table that are no settings. `instead`: the address it has in place of the planned one."""


def describe_devices(
    rig: Rig, state: dict[str, Any], models: dict[str, DeviceModel], as_planned: bool = False
) -> list[Described]:
    """What to simulate: each device of the rig on 127.x, and further devices of the state.

    `state` is the TOML beside a rig: a table per IP address with what that device has, `model` for devices that are not
    in the rig, `off = true` for one that does not answer, `planned = true` for one that was set as planned, `faults`
    for what is wrong with it. `lamps` is for lamps of its ports: `planned = true` for all set as planned, and by their
    number `address`, `personality`, `fault`, `gone = true`. `gear` is for gear of its buses, by label and planned
    place: `short` (255: none), `kinds`, `fault`, `gone = true`, and `extra` for how many more there are; `bus_speed`
    says how many times faster than a real bus its buses are. What is attached to ports of pixels is what the rig says.
    """
    found = []
    known: set[str] = set()
    index = Index(rig)
    for device_id, device in rig.devices.items():
        model = rig.device_models[device.model]
        if not device.ip or not ipaddress.ip_address(device.ip).is_loopback or device.ip in known:
            continue
        known.add(device.ip)
        table = state.get(device.ip, {})
        own = _settings_from_table(table, model, device.ip)
        if table.get("off"):
            continue
        pixels = model.kind != "node"
        plan = as_planned or table.get("planned") is True
        base: dict[str, SettingValue] = full_plan(index, device_id) if plan else {}
        base = {k: v for k, v in base.items() if k != "ip" and (pixels or k in known_settings(model))}
        at = str(table.get("instead", device.ip))
        found.append(
            Described(
                at,
                model=model,
                settings={**base, **own},
                cables=attached_to_ports(index, device_id) if pixels else {},
                faults=table.get("faults", {}),
                password=str(table.get("password", "")),
                lamps={} if pixels else responders_on_ports(index, device_id, table.get("lamps", {}), plan),
                gear=gear_of(rig, device_id, table.get("gear", {}), plan) if model.kind == "gateway" else {},
                bus_speed=float(table.get("bus_speed", BUS_SPEED)),
            )
        )
    for ip, table in state.items():
        if not isinstance(table, dict) or "model" not in table or ip in known:
            continue
        model = models.get(str(table["model"]))  # type: ignore[assignment]
        if model is None:
            raise StandInError(f"{ip}: there is no device model “{table['model']}”.")
        if not ipaddress.ip_address(ip).is_loopback:
            raise StandInError(f"{ip} is not in 127.0.0.0/8; stand-ins live nowhere else.")
        faults = table.get("faults", {})
        found.append(
            Described(ip, model, _settings_from_table(table, model, ip), {}, faults, str(table.get("password", "")))
        )
    return found


def responders_on_ports(index: Index, device_id: str, told: Any, as_planned: bool) -> dict[str, tuple[Responder, ...]]:
    """The lamps on each port of a node, with what a state says of them by number. Raises StandInError."""
    rig = index.rig
    found: dict[str, tuple[Responder, ...]] = {}
    known = {str(f.number) for f in rig.fixtures.values()}
    unknown = next((n for n in told if n not in known and n != "planned"), "") if isinstance(told, dict) else "lamps"
    if unknown:
        raise StandInError(f"There is no lamp {unknown} in this rig.")
    as_planned = told.get("planned") is True or as_planned
    for label in rig.devices[device_id].ports:
        made = []
        for key in port_lamps(index, device_id, label):
            own = told.get(str(rig.fixtures[key].number), {})
            lamp = responder_of(rig, key, set_on(index, key).address, as_planned, time.monotonic)
            if lamp is None or own.get("gone"):
                continue
            lamp.address = int(own.get("address", lamp.address))
            lamp.personality = min(len(lamp.personalities), max(1, int(own.get("personality", lamp.personality))))
            lamp.fault = str(own.get("fault", ""))
            if lamp.fault and lamp.fault not in LAMP_FAULTS:
                raise StandInError(f"A lamp has no fault “{lamp.fault}”; there are {', '.join(LAMP_FAULTS)}.")
            made.append(lamp)
        if made:
            found[label] = tuple(made)
    return found


def gear_of(rig: Rig, device_id: str, told: Any, as_planned: bool) -> dict[str, tuple[SimGear, ...]]:
    """The gear on each bus of a gateway, as planned or as it leaves the factory (without a short address), with what a
    state says of it. Raises StandInError."""
    found: dict[str, tuple[SimGear, ...]] = {}
    labels = bus_ports(rig, device_id)
    unknown = next((x for x in told if x not in labels), "") if isinstance(told, dict) else "gear"
    if unknown:
        raise StandInError(f"{rig.devices[device_id].name} has no bus “{unknown}”.")
    for label in labels:
        own = dict(told.get(label, {}))
        made = []
        for gear in bus_at(rig, PortRef(device_id, label)).gear:
            table = own.pop(str(gear.at), {})
            if table.get("gone"):
                continue
            kinds = tuple(table.get("kinds", [gear.kind if gear.kind >= 0 else 6]))
            sim = SimGear(gear.name or f"gear {gear.at}", kinds=kinds, fault=str(table.get("fault", "")))
            if as_planned or "short" in table:
                sim.short = int(table.get("short", gear.at))
            if as_planned:
                _store_planned(sim, gear)
            made.append(sim)
        made += [SimGear(f"extra {n + 1}") for n in range(int(own.pop("extra", 0)))]
        wrong = next((g.fault for g in made if g.fault and g.fault not in GEAR_FAULTS), "")
        if own or wrong:
            what = f"gear {next(iter(own))} is not planned on {label}" if own else f"gear has no fault “{wrong}”"
            raise StandInError(f"{rig.devices[device_id].name}: {what}.")
        found[label] = tuple(made)
    return found


def _store_planned(sim: SimGear, gear: Gear) -> None:
    """Give simulated gear the settings that are planned for it."""
    sim.groups = sum(1 << g for g in gear.groups or ())
    for scene, value in gear.scenes:
        sim.scenes[scene] = value
    for key in ("least", "greatest", "power_on", "failure", "fade_time", "fade_rate"):
        value = getattr(gear, key)
        if value is not None:
            setattr(sim, key, value)


Lines = dict[int, tuple[Responder, ...]]
"""DMX lines by their number, with the lamps on each that speak RDM."""


def lines_of(rig: Rig, state: dict[str, Any], as_planned: bool = False) -> Lines:
    """The DMX lines of a rig that leave from a computer's serial ports. A state's table `line N` says of their lamps
    what a node's says. Raises StandInError."""
    found: Lines = {f.wire: () for f in rig.feeds.values() if PROTOCOLS[f.protocol].carries == "line"}
    index = Index(rig) if found else None
    for device_id, device in rig.devices.items() if index else ():
        numbers = {label: f.wire for label, p in device.ports.items()
                   if (f := rig.feeds.get(p.feed)) and PROTOCOLS[f.protocol].carries == "line"}  # fmt: skip
        for label, number in numbers.items():
            table = state.get(f"line {number}", {})
            plan = as_planned or table.get("planned") is True
            assert index
            found[number] = responders_on_ports(index, device_id, table.get("lamps", {}), plan).get(label, ())
    return dict(sorted(found.items()))


def read_fault(text: str, state: dict[str, Any]) -> dict[str, Any]:
    """A state with one more fault, written `ADDRESS:FAULT` or `ADDRESS:FAULT=VALUE`, the value as JSON or bare text.
    Raises StandInError."""
    import msgspec

    ip, _, rest = text.partition(":")
    name, given, value = rest.partition("=")
    try:
        ipaddress.ip_address(ip)
        what: object = msgspec.json.decode(value) if given else True
    except msgspec.DecodeError:
        what = value
    except ValueError:
        raise StandInError(f"“{text}” is no fault; write ADDRESS:FAULT or ADDRESS:FAULT=VALUE.") from None
    known = (*FAULTS, "test", *OF_LAMPS, *OF_GEAR)
    if name not in known:
        raise StandInError(f"There is no fault “{name}”; there are {', '.join(known)}.")
    table = state.get(ip, {})
    return {**state, ip: {**table, "faults": {**table.get("faults", {}), name: what}}}


def attached_to_ports(index: Index, device_id: str) -> dict[str, tuple[Attached, ...]]:
    """What hangs on each port's cable, as it would be there if the crew had done as planned."""
    found: dict[str, tuple[Attached, ...]] = {}
    for (device, label), stream in index.cables_and_sums.streams.items():
        if device != device_id:
            continue
        k = next((p.k for p in stream.pieces if p.leds and p.segment.takes_slots), 3)
        items = []
        for p in stream.pieces:
            s = p.segment
            if s.kind == "extension":
                continue
            octets = k if s.kind == "null" else p.k
            places = p.pixels if s.kind in ("bridge", "lamps") else p.leds
            step = s.lamp_step
            items.append(
                Attached(
                    s.kind,
                    leds=places,
                    octets=octets,
                    name=piece_name(index.rig, p),
                    place=p.n,
                    width=s.width,
                    order=components_of(index.rig, p),
                    functions=s.functions,
                    start=s.start,
                    step=step,
                )
            )
        found[label] = tuple(items)
    return found


def _settings_from_table(table: dict[str, Any], model: DeviceModel, ip: str) -> dict[str, SettingValue]:
    own: dict[str, SettingValue] = {}
    for key, value in table.items():
        if key in OWN_KEYS:
            continue
        if isinstance(value, dict):
            own |= {f"{key}.{k}": v for k, v in value.items()}
        else:
            own[key] = value
    unknown = (
        set(own) - known_settings(model)
        if model.kind == "node"
        else {k for k in own if not Store(model, {}).spec_of_setting(k)}
    )
    if unknown:
        raise StandInError(f"{ip}: {model.name} has no setting “{sorted(unknown)[0]}”.")
    return own


def read_state(path: Path) -> dict[str, Any]:
    try:
        return read_toml(read_text_file(path, 1 << 20, "a description of stand-ins"), path.name)
    except RigFileError as e:
        raise StandInError(str(e)) from e


def make_simulated(described: Described, clock: Callable[[], float]) -> Simulated:
    """The device itself, with its faults switched on."""
    made: Simulated
    if described.model.kind == "gateway":
        wires = {label: Wire(gear, n) for n, (label, gear) in enumerate(described.gear.items(), 1)}
        d = described
        made = Gateway(d.ip, d.model, d.settings, clock, wires, d.bus_speed, d.password)
    elif described.model.kind == "node":
        made = Node(described.ip, described.model, described.settings, clock)
        made.lines = {label: LampPort(lamps) for label, lamps in described.lamps.items()}
    else:
        made = PixelDevice(
            described.ip, described.model, described.settings, clock, described.cables, described.password
        )
    for name, value in described.faults.items():
        set_fault(made, name, value)
    return made


def set_fault(device: Simulated, name: str, value: object) -> None:
    """Switch a fault on or off. Raises StandInError for one that there is not."""
    if name == "test" and isinstance(device, PixelDevice):
        device.test = str(value or "")
        return
    if name in OF_LAMPS and isinstance(device, Node):
        lamps = [r for line in device.lines.values() for r in line.responders]
        _spread_fault(lamps, lambda r: r.name, OF_LAMPS[name], value)
        return
    if name in OF_GEAR and isinstance(device, Gateway):
        gear = [g for wire in device.wires.values() for g in wire.gear]
        _spread_fault(gear, lambda g: str(g.short), OF_GEAR[name], value)
        return
    possible = (
        (*FAULTS, "test", *(OF_GEAR if isinstance(device, Gateway) else ()))
        if isinstance(device, PixelDevice)
        else (*OF_NODES, *OF_LAMPS)
    )
    if name not in possible:
        raise StandInError(f"{device.name} has no fault “{name}”; there are {', '.join(possible)}.")
    kind = type(getattr(StandinFaults(), name))
    setattr(device.faults, name, tuple(value) if kind is tuple else kind(value))  # type: ignore[arg-type]


T = TypeVar("T", Responder, SimGear)


def _spread_fault(parts: list[T], name: Callable[[T], str], fault: str, value: object) -> None:
    """Give a fault to those that are named, and take it from all others. Raises StandInError for one that is not
    there."""
    wanted = [str(v) for v in value] if isinstance(value, list | tuple) else [str(value)] if value else []
    unknown = sorted(set(wanted) - {name(p) for p in parts})
    if unknown:
        raise StandInError(f"There is no {unknown[0]} here; there are {', '.join(map(name, parts)) or 'none'}.")
    for part in parts:
        if fault == "new":
            if name(part) in wanted:
                part.as_new()
        elif name(part) in wanted:
            part.fault = fault
        elif part.fault == fault:
            part.fault = ""


class Host:
    """Sockets for all devices of the process."""

    def __init__(self, nodes: Sequence[Simulated], lines: Sequence[LineEnd] = ()) -> None:
        self.nodes = list(nodes)
        self._sites: dict[str, asyncio.Server] = {}
        self._moving: set[str] = set()
        self._art: dict[str, socket.socket] = {}
        self._by_ip: dict[str, list[socket.socket]] = {}
        self._groups: dict[int, socket.socket] = {}
        self._runners: list[Any] = []
        self._open: list[socket.socket] = []
        self.lines = list(lines)
        self.faults = 0

    async def start_hosting(self) -> None:
        loop = asyncio.get_running_loop()
        for line in self.lines:
            loop.add_reader(line.socket, line.take_waiting)
        for node in self.nodes:
            self._enter_address(node)
        shared = self._open_socket(BROADCAST, artnet.PORT, reuse=True)
        loop.add_reader(shared, self._take_artnet, shared, self.nodes)
        self._join_groups()
        await self._serve_pages()
        for node in self.nodes:  # a node announces itself at power-on
            self._announce_node(node)
        self._settling = loop.create_task(self._settle_restarted())

    def _announce_node(self, node: Simulated) -> None:
        if BY_ARTNET in node.model.links and not _is_silent(node):
            self._answer_poll(node, node.poll_replies(), BROADCAST)

    def _enter_address(self, node: Simulated) -> None:
        """Sockets of a device at its address."""
        loop = asyncio.get_running_loop()
        self._art[node.ip] = self._open_socket(node.ip, artnet.PORT)
        loop.add_reader(self._art[node.ip], self._take_artnet, self._art[node.ip], [node])
        direct = self._open_socket(node.ip, sacn.PORT)
        loop.add_reader(direct, self._take_sacn, direct, [node])
        self._by_ip[node.ip] = [self._art[node.ip], direct]
        if isinstance(node, PixelDevice):
            shown = self._open_socket(node.ip, ddp.PORT)
            loop.add_reader(shown, self._answer_ddp, shown, node)
            self._by_ip[node.ip].append(shown)

    async def _leave_address(self, ip: str) -> None:
        """Close what a device has at an address that it leaves."""
        loop = asyncio.get_running_loop()
        for sock in self._by_ip.pop(ip, []):
            loop.remove_reader(sock)
            sock.close()
            self._open.remove(sock)
        self._art.pop(ip, None)
        site = self._sites.pop(ip, None)
        if site:
            site.close()

    async def _settle_restarted(self) -> None:
        """Devices that restarted come back, where their saved address says; ports that changed hear other groups."""
        waiting: set[Simulated] = set()
        while True:
            await asyncio.sleep(0.05)
            for node in self.nodes:
                if isinstance(node, Gateway) and not node.is_silent:
                    node.follow_universes()
                if node.clock() < node.silent_until:
                    waiting.add(node)
                elif node in waiting:
                    waiting.discard(node)
                    await self._come_back(node)
            with contextlib.suppress(OSError):
                self._join_groups()

    async def _come_back(self, node: Simulated) -> None:
        new = node.next_ip
        if new != node.ip and new not in self._by_ip and ipaddress.ip_address(new).is_loopback:
            old, node.ip = node.ip, new
            await self._leave_address(old)
            try:
                self._enter_address(node)
            except StandInError:
                node.ip = old
                self._enter_address(node)
            await self._open_site(node)
        self._announce_node(node)

    def _answer_ddp(self, sock: socket.socket, node: PixelDevice) -> None:
        for raw, sender in _drain_socket(sock):
            if _is_silent(node):
                continue
            try:
                for answer in node.take_ddp(ddp.decode_ddp(raw)):
                    with contextlib.suppress(OSError):
                        sock.sendto(answer, sender)
            except WireError:
                node.noise += 1
            except Exception:
                self._print_fault()

    def _open_socket(self, ip: str, port: int, reuse: bool = False) -> socket.socket:
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

    def _join_groups(self) -> None:
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
            sock.setsockopt(socket.IPPROTO_IP, IP_MULTICAST_ALL, 0)
            sock.bind((sacn.group_of_universe(universe), sacn.PORT))
            member = socket.inet_aton(sacn.group_of_universe(universe)) + socket.inet_aton("127.0.0.1")
            sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, member)
            sock.setblocking(False)
            self._groups[universe] = sock
            loop.add_reader(sock, self._take_sacn, sock, self.nodes)

    def _take_artnet(self, sock: socket.socket, nodes: list[Simulated]) -> None:
        for raw, sender in _drain_socket(sock):
            try:
                packet = artnet.decode_artnet(raw)
                for node in nodes:
                    if _is_silent(node) or (BY_ARTNET not in node.model.links and not isinstance(packet, artnet.Dmx)):
                        continue
                    replies = node.take_artnet(packet, sender[0])
                    if replies:
                        self._answer_poll(node, replies, sender[0])
                if isinstance(packet, artnet.Address):
                    self._join_groups()
            except WireError:
                for node in nodes:
                    node.noise += 1
            except Exception:  # a fault of ours: the packets behind this one are taken all the same
                self._print_fault()

    def _answer_poll(self, node: Simulated, replies: list[bytes], to: str) -> None:
        if node.faults.slow:
            asyncio.get_running_loop().call_later(min(10.0, node.faults.slow), self._send_replies, node, replies, to)
        else:
            self._send_replies(node, replies, to)

    def _send_replies(self, node: Simulated, replies: list[bytes], to: str) -> None:
        for raw in replies:
            with contextlib.suppress(OSError, KeyError):  # it may have left its address meanwhile
                self._art[node.ip].sendto(raw, (to, artnet.PORT))

    def _take_sacn(self, sock: socket.socket, nodes: list[Simulated]) -> None:
        for raw, sender in _drain_socket(sock):
            try:
                packet = sacn.decode_sacn(raw)
                for node in nodes:
                    if not _is_silent(node):
                        node.take_sacn(packet, sender[0])
            except WireError:
                for node in nodes:
                    node.noise += 1
            except Exception:
                self._print_fault()

    def _print_fault(self) -> None:
        """Print the trace of an unexpected error, for the first few: whoever started this reads along."""
        self.faults += 1
        if self.faults <= 5:
            traceback.print_exc()

    async def _serve_pages(self) -> None:
        for node in self.nodes:
            if node.model.status_port:
                await self._open_site(node)

    async def _open_site(self, node: Simulated) -> None:
        """The device's pages at its address."""
        from aiohttp import web

        from welvo.standins.guard import Door, quiet_logger
        from welvo.standins.pages import settings_application

        door = Door(ASKS_WITHIN)
        pages = settings_application(node)
        pages.middlewares.append(door.middleware)
        runner = web.AppRunner(
            pages, access_log=None, logger=quiet_logger(), keepalive_timeout=KEPT, shutdown_timeout=ENDS
        )
        await runner.setup()
        assert runner.server is not None
        try:
            site = await asyncio.get_running_loop().create_server(
                door.guard_protocol(runner.server), node.ip, node.model.status_port, reuse_address=True
            )
        except OSError as e:
            raise StandInError(f"{node.ip}:{node.model.status_port} cannot be had: {e.strerror}.") from e
        self._sites[node.ip] = site
        self._runners.append(runner)

    async def stop_hosting(self) -> None:
        loop = asyncio.get_running_loop()
        self._settling.cancel()
        for sock in [*self._open, *self._groups.values()]:
            loop.remove_reader(sock)
            sock.close()
        for line in self.lines:
            loop.remove_reader(line.socket)
            line.close()
        for site in self._sites.values():
            site.close()
        for runner in self._runners:
            await runner.cleanup()


def _drain_socket(sock: socket.socket) -> list[tuple[bytes, tuple[str, int]]]:
    found = []
    for _ in range(512):
        try:
            found.append(sock.recvfrom(2048))
        except (BlockingIOError, OSError):
            break
    return found


async def send_as_rival(universe: int, name: str, priority: int, level: int) -> None:
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
                sock.sendto(sacn.encode_sacn(packet), (sacn.group_of_universe(universe), sacn.PORT))
            sequence = (sequence + 1) & 255
            await asyncio.sleep(0.2)
    finally:
        sock.close()


def _is_silent(node: Simulated) -> bool:
    return node.is_silent


def obey_order(host: Host, line: str) -> str:
    """One line of orders: `ADDRESS FAULT [VALUE]`, the value as JSON; without one the fault is switched on. Gives what
    was wrong with it."""
    import msgspec

    ip, _, rest = line.strip().partition(" ")
    name, _, value = rest.strip().partition(" ")
    device = next((n for n in host.nodes if n.ip == ip), None)
    if device is None:
        return f"There is no stand-in at {ip}."
    try:
        set_fault(device, name, msgspec.json.decode(value) if value.strip() else True)
    except (StandInError, ValueError, TypeError, msgspec.DecodeError) as e:
        return str(e)
    return ""


def _read_orders(host: Host, done: asyncio.Event) -> Callable[[], None]:
    """Reads orders as they come; the end of the pipe ends the host."""
    pending = bytearray()

    def read() -> None:
        got = os.read(sys.stdin.fileno(), 4096)
        if not got:
            done.set()
        pending.extend(got)
        while (end := pending.find(b"\n")) >= 0:
            line = pending[:end].decode(errors="replace")
            del pending[: end + 1]
            wrong = obey_order(host, line) if line.strip() else ""
            if wrong:
                print(wrong, file=sys.stderr, flush=True)
            if line.strip():
                print(OBEYED, flush=True)

    return read


def line_ends(lines: Lines) -> list[LineEnd]:
    """The far ends of DMX lines. Raises StandInError for one that is there already."""
    found: list[LineEnd] = []
    for number, lamps in lines.items():
        try:
            found.append(LineEnd(number, lamps))
        except OSError as e:
            raise StandInError(f"Simulated line {number} is running already: {e.strerror}.") from e
    return found


async def run_host(
    described: list[Described],
    state: dict[str, Any],
    until_eof: bool,
    lines: Lines = {},  # noqa: B006
    ready: Callable[[list[str]], None] = lambda names: None,
) -> None:
    """Host the devices and the far ends of DMX `lines` until SIGTERM, SIGINT, or (when a parent holds the pipe) the end
    of standard input. `ready` is called once with the names of all that answer.

    Lines on that pipe switch faults (see `obey_order`).
    """
    host = Host([make_simulated(d, time.monotonic) for d in described], line_ends(lines))
    await host.start_hosting()
    loop = asyncio.get_running_loop()
    done = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, done.set)
    if until_eof:
        loop.add_reader(sys.stdin.fileno(), _read_orders(host, done))
    rivals = state.get("rival")
    tasks = [asyncio.create_task(send_as_rival(**r)) for r in (rivals if isinstance(rivals, list) else [])]
    names = [f"{n.name} at {n.ip}" for n in host.nodes] + [f"line {line.number}" for line in host.lines]
    ready(names)
    await done.wait()
    for task in tasks:
        task.cancel()
    await host.stop_hosting()
