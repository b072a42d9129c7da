"""The inputs of a simulated device: sources of each universe it takes, merged as the standards say."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from welvo.protocols import artnet, sacn
from welvo.rig.protocol import PROTOCOLS


@dataclass
class Source:
    key: str
    name: str
    ip: str
    priority: int
    at: float
    levels: bytes
    sequence: int | None = None


@dataclass
class ReceivedUniverse:
    """One universe that a device takes, with its sources."""

    protocol: str = artnet.KEY
    universe: int = 1
    merge: str = "highest"
    slots: int = 512
    sources: dict[str, Source] = field(default_factory=dict)
    frames: int = 0

    def merged_levels(self, now: float) -> bytes:
        """What the sources of the highest priority make together, merged as the device is set.

        A device without any source holds its last frame, as real ones do by default.
        """
        lost = PROTOCOLS[self.protocol].lost_after
        live = {k: s for k, s in self.sources.items() if now - s.at <= lost}
        if not live:
            held = max(self.sources.values(), key=lambda s: s.at, default=None)
            self.sources = {held.key: held} if held else {}
            return (held.levels if held else b"")[: self.slots].ljust(512, b"\0")
        self.sources = live
        top = max(s.priority for s in live.values())
        best = [s for s in live.values() if s.priority == top]
        if self.merge == "latest" or len(best) == 1:
            newest = max(best, key=lambda s: s.at)
            out = newest.levels
        else:
            rows = [s.levels.ljust(512, b"\0") for s in best]
            out = bytes(max(column) for column in zip(*rows))
        return out[: self.slots].ljust(512, b"\0")


class Receiver:
    """Whatever takes universes: subclasses say which through `inputs`. `clock` gives seconds."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self.clock = clock
        self.noise = 0

    @property
    def inputs(self) -> list[ReceivedUniverse]:
        raise NotImplementedError

    def take_dmx(self, packet: artnet.Dmx, ip: str) -> None:
        for port in self.inputs:
            if port.protocol == artnet.KEY and port.universe == packet.address:
                key = f"{ip}/{packet.physical}"
                old = port.sources.get(key)
                if old is None and len(port.sources) >= 2:
                    self.noise += 1  # a third source is ignored
                    continue
                late = old and self.clock() - old.at <= artnet.DATA_LOSS
                if old and late and not artnet.artnet_accepts(old.sequence, packet.sequence):
                    continue
                port.sources[key] = Source(key, "", ip, 100, self.clock(), packet.slots, packet.sequence)
                port.frames += 1

    def take_sacn(self, packet: sacn.Packet, ip: str) -> None:
        if not isinstance(packet, sacn.Data) or packet.is_preview or packet.start_code:
            return
        for port in self.inputs:
            if port.protocol != sacn.KEY or port.universe != packet.universe:
                continue
            key = packet.cid.hex()
            old = port.sources.get(key)
            if old and not sacn.sacn_accepts(old.sequence, packet.sequence):
                continue
            if packet.is_terminated:
                if old and len(port.sources) > 1:
                    del port.sources[key]
                elif old:
                    old.at = -1e9  # the only source ended: its last frame is held
                continue
            port.sources[key] = Source(
                key, packet.name, ip, packet.priority, self.clock(), packet.slots, packet.sequence
            )
            port.frames += 1

    def sacn_universes(self) -> set[int]:
        return {p.universe for p in self.inputs if p.protocol == sacn.KEY and p.universe}
