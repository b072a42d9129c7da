"""A simulated node: takes Art-Net and sACN, answers polls, can be programmed, shows what its ports put out."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from welvo.protocols import artnet, rdm, sacn
from welvo.protocols.status_page import PortStatus, SourceOnPort, StatusPage
from welvo.protocols.wire import WireError
from welvo.rig.counting import net_sub_universe
from welvo.rig.entered import SettingValue
from welvo.rig.wiring import DeviceModel
from welvo.standins.faults import StandinFaults
from welvo.standins.lamps import LampPort
from welvo.standins.receiver import ReceivedUniverse, Receiver


@dataclass
class NodePort(ReceivedUniverse):
    """One DMX output of the device with its own settings, as the device has them."""

    label: str = ""


class Node(Receiver):
    """The device's mind, without sockets: datagrams in, datagrams out. `clock` gives seconds."""

    def __init__(
        self, ip: str, model: DeviceModel, settings: dict[str, SettingValue], clock: Callable[[], float]
    ) -> None:
        super().__init__(clock)
        self.ip = ip
        self.model = model
        self.name = str(settings.get("name", _factory_value(model, "name") or model.name))[:17]
        self.long_name = str(settings.get("long_name", f"{model.maker} {model.name} (simulated)"))
        self.mac = bytes([0x02, 0x57, *(int(p) for p in ip.split("."))])
        self.faults = StandinFaults()
        self.requests = 0
        self.silent_until = 0.0
        self.next_ip = ip
        """Where it will be after it restarted."""
        self.counter = 0
        self.report = "power-on ok"
        self.identify = False
        self.lines: dict[str, LampPort] = {}
        """The responders on its ports, by the label of the port."""
        self.search_takes = 0.2
        self.slots_out = int(settings.get("slots", model.slots_per_port))
        self.ports: list[NodePort] = []
        for n, label in enumerate(model.ports):
            universe = settings.get(f"{label}.universe", int(_factory_value(model, "universe") or 1) + n)
            self.ports.append(
                NodePort(
                    str(settings.get(f"{label}.protocol", _factory_value(model, "protocol") or artnet.KEY)),
                    int(universe),
                    str(settings.get(f"{label}.merge", "highest")),
                    self.slots_out,
                    label=label,
                )
            )

    # ---- Art-Net

    @property
    def is_silent(self) -> bool:
        return self.faults.unreachable or self.clock() < self.silent_until

    def take_artnet(self, packet: artnet.Packet, ip: str) -> list[bytes]:
        """What the device answers to one packet, if anything."""
        if isinstance(packet, artnet.Poll | artnet.Address):
            self.requests += 1
            if self.faults.lossy and self.requests % self.faults.lossy == 0:
                return []
        if isinstance(packet, artnet.Poll):
            return self.poll_replies()
        if isinstance(packet, artnet.IpProg):
            return self._program_ip(packet)
        if isinstance(packet, artnet.Address):
            self._take_program(packet)
            return self.poll_replies()
        if isinstance(packet, artnet.Dmx):
            self.take_dmx(packet, ip)
        if isinstance(packet, artnet.TodRequest | artnet.TodControl | artnet.Rdm):
            return self._take_rdm(packet)
        return []

    # ---- RDM

    def _take_rdm(self, packet: artnet.TodRequest | artnet.TodControl | artnet.Rdm) -> list[bytes]:
        """As a gateway: tables of responders, and requests put on the line."""
        if isinstance(packet, artnet.Rdm):
            try:
                request = rdm.from_artnet(packet.frame)
            except WireError:
                self.noise += 1
                return []
            for line, *_ in self._lines_at_addresses(packet.net, (packet.address,)):
                said = line.ask_line(request)
                if said is not None:
                    return [artnet.encode_artnet(artnet.Rdm(packet.net, packet.address, rdm.for_artnet(said)))]
            return []
        addresses = packet.addresses if isinstance(packet, artnet.TodRequest) else (packet.address,)
        found = []
        for line, port, bind, address in self._lines_at_addresses(packet.net, addresses):
            if not line.searched or (isinstance(packet, artnet.TodControl) and packet.command == 1):
                line.search_line()
                line.ready_at = self.clock() + self.search_takes
            found += self._table_of_devices(line, packet.net, port, bind, address)
        return found

    def _table_of_devices(self, line: LampPort, net: int, port: int, bind: int, address: int) -> list[bytes]:
        if self.clock() < line.ready_at:
            return [artnet.encode_artnet(artnet.TodData(port, bind, net, address, 0, 0, (), False))]
        table, most = line.table, artnet.MOST_UIDS
        blocks = [table[n : n + most] for n in range(0, len(table), most)] or [[]]
        return [
            artnet.encode_artnet(artnet.TodData(port, bind, net, address, len(table), n, tuple(b)))
            for n, b in enumerate(blocks)
        ]

    def _lines_at_addresses(self, net: int, addresses: Iterable[int]) -> list[tuple[LampPort, int, int, int]]:
        """Lines at Port-Addresses of a Net: the line, its port of the page from 1, the page, the low octet."""
        found = []
        for page, ports in enumerate(self.pages_of_ports(), 1):
            for n, p in enumerate(ports, 1):
                low = p.universe & 0xFF
                if p.universe >> 8 == net and low in addresses:
                    found.append((self.lines.setdefault(p.label, LampPort()), n, page, low))
        return found

    def _program_ip(self, packet: artnet.IpProg) -> list[bytes]:
        """Answer with the address it has or will have; a changed one takes a restart, which it makes by itself."""
        if packet.command & 0x80 and packet.command & 0x04 and "ip" not in self.faults.refuses:
            self.next_ip = ".".join(str(p) for p in packet.ip)
            self.silent_until = self.clock() + self.model.restart_takes
        a, b, c, d = (int(p) for p in self.next_ip.split("."))
        return [artnet.encode_artnet(artnet.IpProgReply((a, b, c, d), (255, 0, 0, 0)))]

    @property
    def inputs(self) -> list[ReceivedUniverse]:
        return [*self.ports]

    def pages_of_ports(self) -> list[list[NodePort]]:
        """The ports of each page, up to four; Net and Sub-Net are common to a page."""
        size = self.model.page_ports
        return [self.ports[n : n + size] for n in range(0, len(self.ports), size)]

    def poll_replies(self) -> list[bytes]:
        """One ArtPollReply for each page."""
        found = []
        self.counter = (self.counter + 1) % 10000
        a, b, c, d = (int(p) for p in self.ip.split("."))
        ip = (a, b, c, d)
        mac = bytes([0x02, 0x99, *self.mac[2:]]) if self.faults.twin and self.counter % 2 else self.mac
        for n, ports in enumerate(self.pages_of_ports()):
            net, sub, _ = net_sub_universe(ports[0].universe)
            found.append(
                artnet.encode_artnet(
                    artnet.PollReply(
                        ip=ip,
                        short_name=self.name,
                        long_name=self.long_name,
                        report=f"#0001 [{self.counter:04d}] {self.report}",
                        firmware=0x0103,
                        net=net,
                        sub=sub,
                        status1=0x50 if self.identify else 0xD0,
                        port_types=(0x80,) * len(ports),
                        good_input=(0,) * len(ports),
                        good_output=tuple(self._good_output(port) for port in ports),
                        sw_in=(0,) * len(ports),
                        sw_out=tuple(port.universe & 0x0F for port in ports),
                        mac=mac,
                        bind_ip=ip,
                        bind_index=n + 1,
                    )
                )
            )
        return found

    def _good_output(self, port: NodePort) -> int:
        live = [s for s in port.sources.values() if self.clock() - s.at < artnet.DATA_LOSS]
        merging = (0x80 if live else 0) | (0x08 if len(live) > 1 else 0)
        return merging | (0x02 if port.merge == "latest" else 0) | (0x01 if port.protocol == sacn.KEY else 0)

    def _take_program(self, p: artnet.Address) -> None:
        if p.short_name and "name" not in self.faults.refuses:
            self.name, self.report = p.short_name, "short name ok"
        if p.long_name:
            self.long_name, self.report = p.long_name, "long name ok"
        pages = self.pages_of_ports()
        page = max(1, p.bind_index) - 1
        if page >= len(pages):
            self.report = "config error"
            return
        ports = pages[page]
        before = [(port.universe, port.protocol, port.merge) for port in ports]
        for n, port in enumerate(ports):
            net, sub, universe = net_sub_universe(port.universe)
            net = p.net & 0x7F if p.net & 0x80 else net
            sub = p.sub & 0x0F if p.sub & 0x80 else sub
            universe = p.sw_out[n] & 0x0F if p.sw_out[n] & 0x80 else universe
            port.universe = net << 8 | sub << 4 | universe
        self._obey_command(p.command, ports)
        for port, (universe, protocol, merge) in zip(ports, before):
            mine = {key.partition(".")[2] for key in self.faults.refuses if key.startswith(f"{port.label}.")}
            port.universe = universe if "universe" in mine else port.universe
            port.protocol = protocol if "protocol" in mine else port.protocol
            port.merge = merge if "merge" in mine else port.merge
        for port, (universe, protocol, _) in zip(ports, before):
            if (port.universe, port.protocol) != (universe, protocol):
                port.sources.clear()

    def _obey_command(self, command: int, ports: list[NodePort]) -> None:
        if command == artnet.COMMAND_LOCATE:
            self.identify = True
        elif command == artnet.COMMAND_NORMAL:
            self.identify = False
        kind, n = command & 0xF0, command & 0x0F
        if n < len(ports):
            if kind in (artnet.COMMAND_TAKE_ARTNET, artnet.COMMAND_TAKE_SACN):
                ports[n].protocol = artnet.KEY if kind == artnet.COMMAND_TAKE_ARTNET else sacn.KEY
            elif kind in (artnet.COMMAND_MERGE_LTP, artnet.COMMAND_MERGE_HTP):
                ports[n].merge = "latest" if kind == artnet.COMMAND_MERGE_LTP else "highest"

    # ---- what anyone may see

    def status_page(self) -> StatusPage:
        """The status page: settings as the device has them and what each port puts out."""
        now = self.clock()
        return StatusPage(
            name=self.name,
            long_name=self.long_name,
            ip=self.ip,
            model=self.model.name,
            identify=self.identify,
            noise=self.noise,
            ports=tuple(
                PortStatus(
                    p.label,
                    protocol=p.protocol,
                    universe=p.universe,
                    merge=p.merge,
                    slots=p.slots,
                    frames=p.frames,
                    levels=tuple(p.merged_levels(now)),
                    sources=tuple(
                        SourceOnPort(s.ip, s.name, s.priority, round(now - s.at, 3)) for s in p.sources.values()
                    ),
                )
                for p in self.ports
            ),
        )


def _factory_value(model: DeviceModel, key: str) -> SettingValue | None:
    spec = model.spec_of_setting(key)
    return spec.factory if spec else None


def known_settings(model: DeviceModel) -> set[str]:
    """Setting keys that a stand-in's description may give for a model."""
    keys = {"name", "long_name", "slots"}
    for label in model.ports:
        keys |= {f"{label}.{k}" for k in ("protocol", "universe", "merge")}
    return keys
