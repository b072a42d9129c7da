"""A rig with its devices and its wire in one process, without sockets: what is sent reaches simulated devices, and what
they say is what is observed. Faults can be put in anywhere; `look` gives what is known then."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from msgspec.structs import replace

from tests.conftest import small_rig
from welvo.bench.levels import Levels, reveal_item
from welvo.bench.seeing import chain_to_target, port_for
from welvo.bench.why import Cause, Evidence, diagnose_item
from welvo.checks.checker import check_rig
from welvo.demo.gallery import make_gallery
from welvo.matching.planned import full_plan
from welvo.observed.values import DeviceAnswer, Heard, HeardPort, Observed, SourceSeen
from welvo.observed.wire import merge_sources
from welvo.patch.index import Index
from welvo.protocols import artnet, sacn
from welvo.protocols.status_page import LevelsBehind
from welvo.rig.document import Rig
from welvo.rig.lookup import bench_sender, feeds_of
from welvo.rig.plan import feed_reaches
from welvo.rig.wiring import Feed
from welvo.runs.bridge import set_right
from welvo.standins.host import attached_to_ports
from welvo.standins.node import Node
from welvo.standins.pixel import PixelDevice
from welvo.survey.target import of_item

MACS = "02:57:7f:00:00"


@dataclass
class Other:
    """Somebody else who sends."""

    name: str
    wire: int
    priority: int = 100
    level: int = 0
    protocol: str = "sacn"
    preview: bool = False
    gap: float = 0.0
    lost: int = 0


@dataclass
class World:
    rig: Rig
    key: str
    levels: Levels = field(default_factory=Levels)
    armed: bool = True
    trouble: str = ""
    stuck: dict[str, str] = field(default_factory=dict)
    others: list[Other] = field(default_factory=list)
    silent: set[str] = field(default_factory=set)
    """Addresses that do not answer."""
    macs: dict[str, tuple[str, ...]] = field(default_factory=dict)
    now: float = 1000.0
    devices: dict[str, Node | PixelDevice] = field(default_factory=dict)
    bench_gap: float = 0.0

    def __post_init__(self) -> None:
        index = Index(self.rig)
        for device_id, d in self.rig.devices.items():
            model = self.rig.device_models[d.model]
            plan = {k: v for k, v in full_plan(index, device_id).items() if k != "ip"}
            if model.kind == "node":
                self.devices[d.ip] = Node(d.ip, model, plan, lambda: self.now)
            elif model.kind == "pixel":
                self.devices[d.ip] = PixelDevice(
                    d.ip, model, plan, lambda: self.now, attached_to_ports(index, device_id)
                )
        self.reveal()

    def reveal(self) -> None:
        for function, value in reveal_item(Index(self.rig), self.key).items():
            self.levels.hold_function([self.key], function, value)

    # ---- the wire

    def _own(self, feed: Feed) -> bool:
        return self.armed and not self.trouble and feed.sender == bench_sender(self.rig)

    def sources(self, protocol: str, wire: int) -> list[tuple[SourceSeen, bytes]]:
        index = Index(self.rig)
        found = []
        for fid, feed in self.rig.feeds.items():
            if (feed.protocol, feed.wire) == (protocol, wire) and self._own(feed) and fid not in self.stuck:
                use = self.rig.uses.get(self.rig.use)
                if use and feed.universe in use.universes_off:
                    continue
                levels = self.levels.frame_of_universe(index, feed.universe).tobytes()
                seen = SourceSeen(protocol, wire, "own", "Bench", "127.0.0.1", feed.priority, 44.0, True, self.now)  # type: ignore[arg-type]
                found.append((replace(seen, frames=500, gap=self.bench_gap), levels))
                break  # a second universe under this number is kept back
        for o in self.others:
            if (o.protocol, o.wire) == (protocol, wire):
                seen = SourceSeen(
                    protocol, wire, o.name, o.name, "127.0.0.9", o.priority, 44.0, False, self.now, o.preview
                )  # type: ignore[arg-type]
                found.append((replace(seen, frames=500, gap=o.gap, lost=o.lost), bytes((o.level,)) * 512))
        return found

    def on_wire(self, universe: str) -> bytes | None:
        for fid in feeds_of(self.rig, universe):
            feed = self.rig.feeds[fid]
            found = merge_sources(self.sources(feed.protocol, feed.wire)).levels
            if found:
                return found
        return None

    def _deliver(self) -> None:
        sent = {(f.protocol, f.wire, f.to) for f in self.rig.feeds.values()}
        sent |= {(o.protocol, o.wire, "multicast") for o in self.others}
        for protocol, wire, to in sorted(sent):
            for n, (seen, levels) in enumerate(self.sources(protocol, wire)):
                for ip, device in self.devices.items():
                    reached = feed_reaches(Feed(universe="", sender="", wire=wire, to=to), ip) or not seen.own
                    if not reached or ip in self.silent:
                        continue
                    if protocol == "sacn":
                        cid = seen.key.encode().ljust(16, b"-")[:16]
                        options = sacn.PREVIEW if seen.preview else 0
                        packet = sacn.Data(
                            cid, wire, levels, seen.name, seen.priority, int(self.now) % 256, options=options
                        )
                        device.take_sacn(packet, seen.ip)
                    elif protocol == "artnet":
                        device.take_dmx(artnet.Dmx(wire, levels, 0), f"{seen.ip[:-1]}{n}")

    # ---- what is seen

    def meant(self, universe: str) -> bytes:
        return self.levels.frame_of_universe(Index(self.rig), universe).tobytes()

    def _device(self, device: str) -> Node | PixelDevice | None:
        found = self.devices.get(self.rig.devices[device].ip)
        return None if found is None or found.ip in self.silent else found

    def port_gives(self, device: str, label: str) -> bytes | None:
        node = self._device(device)
        if not isinstance(node, Node):
            return None
        return next((p.merged_levels(self.now) for p in node.ports if p.label == label), None)

    def port_leaves(self, device: str, label: str) -> tuple[bytes, tuple[LevelsBehind, ...]] | None:
        found = self._device(device)
        return (found.octets_of_port(label), found.levels_behind(label)) if isinstance(found, PixelDevice) else None

    def sources_on(self, universe: str) -> list[tuple[SourceSeen, bytes]]:
        feed = next((self.rig.feeds[f] for f in feeds_of(self.rig, universe)), None)
        return self.sources(feed.protocol, feed.wire) if feed else []

    def observed(self) -> Observed:
        heard, said = {}, {}
        for ip, device in self.devices.items():
            if ip in self.silent:
                continue
            mac = f"{MACS}:{int(ip.rpartition('.')[2]):02x}"
            macs = self.macs.get(ip, (mac,))
            if isinstance(device, Node):
                ports = tuple(
                    HeardPort(page + 1, n, True, p.protocol, p.universe, True, len(p.sources) > 1, p.merge == "latest")  # type: ignore[arg-type]
                    for page, ports in enumerate(device.pages_of_ports())
                    for n, p in enumerate(ports)
                )
                heard[ip] = Heard(ip, device.name, mac=macs[0], ports=ports, at=self.now, first=1.0, macs=macs)
            else:
                values = device.all_values()
                waits = {k: tuple(v) for k, v in device.store.waiting_settings().items()}
                heard[ip] = Heard(ip, device.name, mac=macs[0], at=self.now, first=1.0, macs=macs)
                said[ip] = DeviceAnswer(
                    at=self.now, active=values["active"], saved=values["saved"], entered=values["entered"],  # type: ignore[arg-type]
                    waits=waits, test=device.test, mac=macs[0],
                )  # fmt: skip
        stuck = self.stuck if self.armed else {}
        return Observed(heard=heard, said=said, listening=True, stuck=stuck, network="127.0.0.1/255.0.0.0")

    def look(self, bench: bool = True) -> Evidence:
        self._deliver()
        index, observed = Index(self.rig), self.observed()
        target = of_item(index, self.key)
        span = index.span_of_break(self.key)
        uid = span.universe if span else ""
        at = port_for(self.rig, uid, self.key) if uid else None
        chain_ = chain_to_target(index, observed, self.now, self, target, self.armed)
        return Evidence(
            index=index,
            observed=observed,
            now=self.now,
            key=self.key,
            chain=chain_,
            report=check_rig(self.rig, observed, self.now),
            levels=self.levels if bench else None,
            armed=self.armed,
            trouble=self.trouble if self.armed else "",
            meant=lambda u: self.levels.frame_of_universe(index, u).tobytes(),
            wire=self.on_wire,
            port=self.port_gives(*at) if at else None,
            sources=tuple(self.sources_on(uid)) if uid else (),
        )

    def causes(self, bench: bool = True) -> list[Cause]:
        return diagnose_item(self.look(bench))


Act = Callable[[World], None]


def dmx_world() -> World:
    """A head on port A of a node, fed by sACN."""
    return World(small_rig(), "a")


def pixel_world(key: str) -> World:
    """An item on a cable of the gallery's pixel controller, with everything there as planned."""
    rig = make_gallery()
    pen = next(k for k, d in rig.devices.items() if d.name == "PENSTOCK")
    rig, _ = set_right(rig, pen, "6", 2)
    keep = {pen: rig.devices[pen]}
    rig = replace(rig, devices=keep)
    return World(rig, key)


def settle(world: World, **settings: object) -> None:
    """Have the pixel controller work by other settings than were planned: `p6_brightness=80` is `6.brightness`."""
    device = next(d for d in world.devices.values() if isinstance(d, PixelDevice))
    for name, value in settings.items():
        key = (
            name.removeprefix("p").replace("__", "/").replace("_", ".", 1)
            if name.startswith("p") and name[1].isdigit()
            else name
        )
        device.store.active[key] = value  # type: ignore[assignment]
        device.store.saved[key] = value  # type: ignore[assignment]
