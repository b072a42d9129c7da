"""A simulated pixel controller or converter: takes universes and DDP, holds settings, and gives out what really leaves.

What leaves a port is worked out here from the device's own settings alone, octet by octet along the cable, as a real
controller does it; the planning code of Welvo has no part in it. What is attached to the cable is a physical fact that
the device does not know: strings, bridges and converters just take the octets that arrive at their place. So a pixel
count that is one short moves everything behind it, a bridge behind a port at 80 % gives out 204 for 255, and each of
Welvo's sums can be held against something that was reached in another way.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from fractions import Fraction

from msgspec import Struct

from welvo.protocols import artnet, ddp, sacn
from welvo.protocols.status_page import LevelsBehind, PortStatus, StatusPage
from welvo.rig.colours import STRAIGHT
from welvo.rig.counting import net_sub_universe
from welvo.rig.entered import SettingValue
from welvo.rig.plan import segment_owner
from welvo.rig.wiring import DeviceModel
from welvo.standins.faults import StandinFaults
from welvo.standins.receiver import ReceivedUniverse, Receiver
from welvo.standins.store import Store, Values

SPEAKS = 1
"""The version of the settings protocol (docs/device-settings.md)."""
MOST_OCTETS = 400_000


class Attached(Struct, frozen=True):
    """One item on a cable: `octets` of each of its `leds` places, and what it does with them.

    A `bridge` gives its first `width` octets out as DMX. A converter makes DMX of each pixel by `functions` (`V`, a
    component's letter of `order`, or `=128`), lamps from DMX address `start` on, every `step` slots.
    """

    kind: str
    leds: int
    octets: int = 3
    name: str = ""
    place: int = 0
    width: int = 0
    order: str = "RGB"
    functions: tuple[str, ...] = ()
    start: int = 1
    step: int = 0


@dataclass
class ActiveSegment:
    """A segment as the device's active settings have it."""

    pixels: int
    nulls: int
    order: str
    group: int
    fold: int
    reverse: bool
    scale: Fraction
    gamma: float
    universe: int
    slot: int
    own: bool
    octets: list[int] = field(default_factory=list)


class PowerLost(Exception):
    """The device lost power in the middle of a write: whoever asked hears nothing more."""


class PixelDevice(Receiver):
    """The device's mind, without sockets: datagrams and requests in, answers out. `clock` gives seconds."""

    def __init__(
        self,
        ip: str,
        model: DeviceModel,
        settings: Values,
        clock: Callable[[], float],
        cables: dict[str, tuple[Attached, ...]] | None = None,
        password: str = "",
    ) -> None:
        super().__init__(clock)
        self.ip = ip
        """Where it is on the network now; a changed setting shows only after its restart."""
        self.model = model
        self.store = Store(model, {"ip": ip, **settings})
        self.cables = cables or {}
        self.password = password
        self.faults = StandinFaults()
        self.mac = bytes([0x02, 0x57, *(int(p) for p in ip.split("."))])
        self.serial = "".join(f"{b:02X}" for b in self.mac[2:])
        self.begun = clock()
        self.silent_until = 0.0
        self.test = ""
        self.identify = False
        self.requests = 0
        self.report = "power-on ok"
        self.counter = 0
        self._inputs: dict[tuple[str, int], ReceivedUniverse] = {}
        self._memory = bytearray()
        """What came by DDP and was shown by its push."""
        self._coming = bytearray()
        self.sequences: dict[str, int] = {}

    # ---- settings as it works by them

    def _active_value(self, key: str, default: SettingValue) -> SettingValue:
        value = self.store.active.get(key, default)
        return default if value == "" else value

    def _active_number(self, key: str, default: int) -> int:
        value = self._active_value(key, default)
        return int(value) if isinstance(value, int | float) else default

    @property
    def name(self) -> str:
        return str(self._active_value("name", self.model.name))[:17]

    @property
    def universe_size(self) -> int:
        return self._active_number("size", 0) or self.model.universe_size or 512

    @property
    def is_silent(self) -> bool:
        return self.faults.unreachable or self.clock() < self.silent_until

    def _active_percent(self, key: str) -> Fraction:
        return Fraction(str(self._active_value(key, 100))) / 100

    def segments_by_settings(self, label: str) -> list[ActiveSegment]:
        """The segments of a port by the settings it works by."""
        found: list[ActiveSegment] = []
        whole = self._active_percent("brightness") * self._active_percent(f"{label}.brightness")
        gamma = float(self._active_value(f"{label}.gamma", 1.0))
        for n in range(1, self._active_number(f"{label}.segments", 0) + 1):
            own = segment_owner(label, n)
            pixels = max(0, self._active_number(f"{own}.pixels", 0) - (self.faults.short if n == 1 else 0))
            found.append(
                ActiveSegment(
                    pixels,
                    self._active_number(f"{own}.nulls", 0),
                    str(self._active_value(f"{own}.order", "RGB")),
                    max(1, self._active_number(f"{own}.group", 1)),
                    self._active_number(f"{own}.fold", 0),
                    bool(self._active_value(f"{own}.reverse", False)),
                    whole * self._active_percent(f"{own}.brightness"),
                    gamma,
                    self._active_number(f"{own}.universe", self._active_number(f"{label}.universe", 1)),
                    self._active_number(f"{own}.slot", 1),
                    self.model.own_starts and f"{own}.universe" in self.store.active,
                )
            )
        return found

    def _protocol_by_settings(self, label: str) -> str:
        return str(self._active_value(f"{label}.protocol", sacn.KEY))

    # ---- inputs

    @property
    def inputs(self) -> list[ReceivedUniverse]:
        wanted: set[tuple[str, int]] = set()
        for label in self.model.ports:
            protocol = self._protocol_by_settings(label)
            if protocol in (sacn.KEY, artnet.KEY):
                wanted.add((protocol, self._active_number(f"{label}.universe", 1)))
                for universe, _, _ in self._universes_read(label):
                    wanted.add((protocol, universe))
        for gone in self._inputs.keys() - wanted:
            del self._inputs[gone]
        for key in wanted - self._inputs.keys():
            self._inputs[key] = ReceivedUniverse(*key)
        return list(self._inputs.values())

    def take_ddp(self, packet: ddp.Packet) -> list[bytes]:
        """Data into its memory, shown by the push; status and configuration where they are asked for."""
        if packet.flags & ddp.QUERY:
            return self._ddp_answer(packet.destination)
        if packet.destination not in (ddp.DISPLAY, ddp.ALL):
            return []
        end = packet.offset + len(packet.data)
        if end > MOST_OCTETS:
            self.noise += 1
            return []
        if len(self._coming) < end:
            self._coming.extend(bytes(end - len(self._coming)))
        self._coming[packet.offset : end] = packet.data
        if packet.push:
            self._memory = bytearray(self._coming)
        return []

    def _ddp_answer(self, destination: int) -> list[bytes]:
        import msgspec

        if destination == ddp.STATUS:
            mac = self.mac.hex(":")
            body: dict[str, object] = {
                "status": {
                    "man": self.model.maker,
                    "mod": self.model.name,
                    "ver": self.firmware_version,
                    "mac": mac,
                    "push": True,
                }
            }
        elif destination == ddp.CONFIG:
            ports = []
            first = 0
            for n, label in enumerate(self.model.ports):
                leds = sum(s.pixels for s in self.segments_by_settings(label))
                ports.append({"port": n, "ts": 1, "l": leds, "ss": first})
                first += leds
            body = {
                "config": {
                    "ip": self.ip,
                    "nm": self._active_value("mask", ""),
                    "gw": self._active_value("gateway", ""),
                    "ports": ports,
                }
            }
        else:
            return []
        data = msgspec.json.encode(body)
        return [ddp.encode_ddp(ddp.Packet(data[: ddp.MOST], destination=destination, flags=ddp.REPLY, push=True))]

    @property
    def firmware_version(self) -> str:
        good = [f.version for f in self.model.firmwares if f.good]
        return good[-1] if good else "1.0"

    # ---- what leaves

    def _universes_read(self, label: str) -> list[tuple[int, int, int]]:
        """(universe, first slot, slots) that the port's segments read, in the order of the stream."""
        found: list[tuple[int, int, int]] = []
        universe, slot = self._active_number(f"{label}.universe", 1), self._active_number(f"{label}.slot", 1)
        whole = str(self._active_value("packs", "whole")) == "whole" or not self.model.straddles
        for s in self.segments_by_settings(label):
            if s.own:
                universe, slot = s.universe, s.slot
            left = -(-s.pixels // s.group) * len(s.order)
            while left > 0 and universe <= 63999:
                room = max(0, self.universe_size - slot + 1)
                if whole:
                    room -= room % len(s.order)
                take = min(room, left)
                if take:
                    found.append((universe, slot, take))
                    left -= take
                elif slot == 1:
                    break
                universe, slot = (
                    (universe + 1, 1) if left or slot + take > self.universe_size else (universe, slot + take)
                )
        return found

    def _stream_of_port(self, label: str) -> bytes:
        """The octets that the port's segments get, one behind the other."""
        protocol = self._protocol_by_settings(label)
        if protocol == ddp.KEY:
            first = sum(
                -(-s.pixels // s.group) * len(s.order)
                for before in self.model.ports[: self.model.ports.index(label)]
                for s in self.segments_by_settings(before)
            )
            return bytes(self._memory[first:])
        now = self.clock()
        by_universe = {i.universe: i for i in self.inputs if i.protocol == protocol}
        parts = []
        for universe, slot, count in self._universes_read(label):
            source = by_universe.get(universe)
            levels = source.merged_levels(now) if source else bytes(512)
            parts.append(levels[slot - 1 : slot - 1 + count])
        return b"".join(parts)

    def _is_dead(self, label: str) -> bool:
        mode = self.model.output_mode(str(self._active_value("mode", "")))
        return bool(mode and label in mode.off)

    def octets_of_port(self, label: str) -> bytes:
        """Every octet that leaves a port for its cable, in order."""
        if self._is_dead(label):
            return b""
        stream = self._stream_of_port(label)
        out = bytearray()
        at = 0
        for s in self.segments_by_settings(label):
            k = len(s.order)
            data = -(-s.pixels // s.group)
            mine = stream[at : at + data * k].ljust(data * k, b"\0")
            at += data * k
            pixels = [self._test_pattern(s.order, n) or mine[n * k : n * k + k] for n in range(data)]
            straight = sorted(s.order, key=STRAIGHT.index)
            swap = [straight.index(c) for c in s.order]
            if self.model.order_names == "in":
                swap = [swap.index(n) for n in range(k)]
            if self.faults.swapped and k > 1:
                swap[0], swap[1] = swap[1], swap[0]
            out += bytes(k * s.nulls)
            table = bytes(_scaled_level(v, s.scale, s.gamma) for v in range(256))
            for led in self._order_along_cable(s):
                pixel = pixels[led // s.group]
                out += bytes(pixel[n] for n in swap).translate(table)
        return bytes(out)

    @staticmethod
    def _order_along_cable(s: ActiveSegment) -> list[int]:
        """For each LED along the cable, which LED of the data it shows: turned round first, then folded."""
        order = list(range(s.pixels - 1, -1, -1)) if s.reverse else list(range(s.pixels))
        if not 0 < s.fold < s.pixels:
            return order
        found: list[int] = []
        for first in range(0, s.pixels, s.fold):
            stretch = order[first : first + s.fold]
            found += stretch[::-1] if (first // s.fold) % 2 else stretch
        return found

    def _test_pattern(self, order: str, n: int) -> bytes:
        """What the on-board test shows at a pixel; empty when none runs."""
        if not self.test:
            return b""
        lit = {"red": "R", "green": "G", "blue": "B", "white": "RGBW", "chase": "RGBW"}[self.test]
        on = self.test != "chase" or n % 10 == int(self.clock() * 10) % 10
        return bytes(255 if c in lit and on else 0 for c in sorted(order, key=STRAIGHT.index))

    def levels_behind(self, label: str) -> tuple[LevelsBehind, ...]:
        """What each bridge and converter on a cable gives to its lamps, measured behind it."""
        octets = self.octets_of_port(label)
        found = []
        at = 0
        for item in self.cables.get(label, ()):
            here = octets[at : at + item.leds * item.octets]
            at += item.leds * item.octets
            if item.kind == "bridge":
                levels = here[: item.width].ljust(item.width, b"\0")
                found.append(LevelsBehind(item.place, "bridge", tuple(levels), item.name))
            elif item.kind == "lamps":
                found.append(LevelsBehind(item.place, "lamps", tuple(_convert_pixels(item, here)), item.name))
        return tuple(found)

    # ---- Art-Net

    def take_artnet(self, packet: artnet.Packet, ip: str) -> list[bytes]:
        if isinstance(packet, artnet.Poll):
            return self.poll_replies()
        if isinstance(packet, artnet.IpProg):
            return self._program_ip(packet)
        if isinstance(packet, artnet.Address):
            self.identify = {artnet.COMMAND_LOCATE: True, artnet.COMMAND_NORMAL: False}.get(
                packet.command, self.identify
            )
            return self.poll_replies()
        if isinstance(packet, artnet.Dmx):
            self.take_dmx(packet, ip)
        return []

    @property
    def next_ip(self) -> str:
        """Where it is after its restart."""
        return str(self.store.active.get("ip") or self.ip)

    def _program_ip(self, packet: artnet.IpProg) -> list[bytes]:
        """Answer with what it has; a changed address takes a restart, which it makes by itself."""
        four = ".".join(str(p) for p in packet.ip)
        if packet.command & 0x80 and "ip" in {s.key for s in self.model.settings}:
            if packet.command & 0x04:
                self.store.saved["ip"] = four
            if packet.command & 0x02:
                self.store.saved["mask"] = ".".join(str(p) for p in packet.mask)
            if packet.command & 0x40:
                self.store.saved["dhcp"] = True
        ip, mask = (tuple(int(p) for p in str(self._active_value(k, "0.0.0.0")).split(".")) for k in ("ip", "mask"))
        status = 0x40 if self._active_value("dhcp", False) else 0
        raw = artnet.encode_artnet(artnet.IpProgReply(ip, mask, status))  # type: ignore[arg-type]
        if packet.command & 0x80:
            self.restart_device()
        return [raw]

    def poll_replies(self) -> list[bytes]:
        """One ArtPollReply for each port; with a twin at its address, two of them take turns."""
        self.counter = (self.counter + 1) % 10000
        a, b, c, d = (int(p) for p in self.ip.split("."))
        mac = bytes([0x02, 0x99, *self.mac[2:]]) if self.faults.twin and self.counter % 2 else self.mac
        long_name = str(self._active_value("description", "")) or f"{self.model.maker} {self.model.name} (simulated)"
        found = []
        for n, label in enumerate(self.model.ports):
            universe = self._active_number(f"{label}.universe", 1) & 0x7FFF
            net, sub, low = net_sub_universe(universe)
            sacn_in = self._protocol_by_settings(label) == sacn.KEY
            live = any(i.frames for i in self._inputs.values() if i.universe == universe)
            found.append(
                artnet.encode_artnet(
                    artnet.PollReply(
                        ip=(a, b, c, d),
                        short_name=self.name,
                        long_name=long_name,
                        report=f"#0001 [{self.counter:04d}] {self.report}",
                        firmware=0x0200,
                        net=net,
                        sub=sub,
                        status1=0x50 if self.identify else 0xD0,
                        port_types=(0x80,),
                        good_input=(0,),
                        good_output=((0x80 if live else 0) | (1 if sacn_in else 0),),
                        sw_in=(0,),
                        sw_out=(low,),
                        mac=mac,
                        bind_ip=(a, b, c, d),
                        bind_index=n + 1,
                        status2=0x1D | (0x02 if self._active_value("dhcp", False) else 0),
                    )
                )
            )
        return found

    # ---- the settings protocol

    def about_device(self) -> dict[str, object]:
        waits = self.store.waiting_settings()
        return {
            "protocol": SPEAKS,
            "name": self.name,
            "maker": self.model.maker,
            "model": self.model.name,
            "mac": self.mac.hex(":"),
            "serial": self.serial,
            "firmware": self.firmware_version,
            "uptime": round(self.clock() - self.begun, 1),
            "test": self.test,
            "identify": self.identify,
            "waits": {k: list(v) for k, v in sorted(waits.items())},
        }

    def all_values(self) -> dict[str, Values]:
        """Active, saved and entered settings. A secret is never told."""
        hidden = {s.key for s in self.model.settings if s.secret}

        def open_(values: Values) -> Values:
            return {k: v for k, v in sorted(values.items()) if k.rpartition(".")[2] not in hidden}

        return {
            "active": open_(self.store.active),
            "saved": open_(self.store.saved),
            "entered": open_(self.store.entered),
        }

    def stage_values(self, values: dict[str, SettingValue]) -> dict[str, dict[str, object]]:
        """Enter settings one by one; each gets its own answer. Raises PowerLost where a fault says so."""
        results: dict[str, dict[str, object]] = {}
        self.store.refuses = dict.fromkeys(self.faults.refuses, "this device refuses it")
        for n, (key, value) in enumerate(values.items()):
            if self.faults.halts and n >= self.faults.halts:
                self.faults.halts = 0
                self.restart_device()
                raise PowerLost
            why = self.store.enter_value(key, value)
            spec = self.store.spec_of_setting(key)
            results[key] = (
                {"taken": False, "why": why}
                if why
                else {"taken": True, "needs": list(self.store.waiting_settings().get(key, ())) if spec else []}
            )
        return results

    def save_settings(self) -> None:
        self.store.save_entered()

    def apply_settings(self) -> None:
        self.store.apply_entered()

    def restart_device(self) -> None:
        """Silent for a while, then at its saved address with its saved settings."""
        if self.faults.forgets:
            own = [s for s in self.model.settings if s.scope == "device" and s.factory != "" and s.key != "ip"]
            self.store.saved.update({s.key: s.factory for s in own})
        self.store.restart_with_saved()
        self.silent_until = self.clock() + self.model.restart_takes
        self.begun = self.silent_until
        self.test, self.identify = "", False
        self._memory, self._coming = bytearray(), bytearray()

    def start_test(self, pattern: str) -> str:
        """Begin or end (empty) an on-board test; gives why not."""
        if pattern and pattern not in self.model.tests:
            return f"there is no test “{pattern}”"
        self.test = pattern
        return ""

    def status_page(self) -> StatusPage:
        """What each port puts out, and what is measured behind its bridges."""
        return StatusPage(
            name=self.name,
            ip=self.ip,
            model=self.model.name,
            identify=self.identify,
            test=self.test,
            noise=self.noise,
            ports=tuple(
                PortStatus(
                    label,
                    protocol=self._protocol_by_settings(label),
                    universe=self._active_number(f"{label}.universe", 1),
                    octets=self.octets_of_port(label),
                    behind=self.levels_behind(label),
                )
                for label in self.model.ports
                if self._active_number(f"{label}.segments", 0)
            ),
        )


def _scaled_level(value: int, scale: Fraction, gamma: float) -> int:
    bent = round(255 * (value / 255) ** gamma) if gamma != 1 else value
    return int(bent * scale)


def _convert_pixels(item: Attached, octets: bytes) -> bytes:
    """The DMX line of a converter: each pixel makes one lamp's slots; the dimmer is open while the pixel is lit."""
    out = bytearray(512)
    k = item.octets
    for lamp in range(item.leds):
        pixel = octets[lamp * k : lamp * k + k].ljust(k, b"\0")
        level = dict(zip(item.order, pixel))
        for n, function in enumerate(item.functions):
            at = item.start + lamp * item.step + n - 1
            if at >= 512:
                continue
            if function.startswith("="):
                out[at] = int(function[1:])
            elif function == "V":
                out[at] = 255 if any(pixel) else 0  # the colours carry how bright it is
            else:
                out[at] = level.get(function, 0)
    return bytes(out)
