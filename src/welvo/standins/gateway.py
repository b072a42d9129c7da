"""A simulated gateway to lamp buses: it follows its universe, and puts frames on its wires for who asks.

What it passes on is worked out from its own settings, in the frames that the standard has for it, and no faster than a
bus carries them: with many places changing, the last one comes late, as on a real bus.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from welvo.buses.plan import address_of_place, frames_of
from welvo.protocols import dali
from welvo.protocols.status_page import GearOnBus, PortStatus, StatusPage
from welvo.rig.buses import ADDRESSINGS, CONTROLS, CURVES, Bus
from welvo.rig.wiring import DeviceModel
from welvo.standins.gear import NO_ADDRESS, Wire
from welvo.standins.pixel import PixelDevice
from welvo.standins.store import Values

AT_A_TIME = 0.05
"""Seconds of frames that are put on a wire before the universe is looked at again."""
BUS_SPEED = 25.0
"""So many times faster than a real bus the simulated ones are, unless a state says otherwise."""


class Gateway(PixelDevice):
    """The device's mind, without sockets."""

    def __init__(
        self,
        ip: str,
        model: DeviceModel,
        settings: Values,
        clock: Callable[[], float],
        wires: dict[str, Wire],
        bus_speed: float = BUS_SPEED,
        password: str = "",
    ) -> None:
        super().__init__(ip, model, settings, clock, {}, password)
        self.wires = {label: wires.get(label, Wire()) for label in model.ports}
        self.bus_speed = max(0.1, bus_speed)
        self._passed: dict[str, bytes] = {}
        """The slots of each bus as they were passed on last."""
        self._free_at: dict[str, float] = {}
        """When each wire has carried what was put on it."""

    def bus_by_settings(self, label: str) -> Bus:
        """How a bus follows its universe, by the settings it works by."""
        addressing, control = (
            str(self._active_value(f"{label}.addressing", "gear")),
            str(self._active_value(f"{label}.control", "")),
        )
        curve = str(self._active_value(f"{label}.curve", "off"))
        return Bus(
            addressing=addressing if addressing in ADDRESSINGS else "gear",
            control=control if control in CONTROLS else "intensity",
            curve=curve if curve in CURVES else "off",
            least=self._active_number(f"{label}.least", 1) or 1,
        )

    def put_frames(self, label: str, frames: list[bytes]) -> tuple[list[int | None], float]:
        """Put frames on a bus: the answers, and the seconds it took on a real one."""
        wire = self.wires[label]
        before = wire.now
        answers = [wire.put_octets(f) for f in frames]
        return answers, wire.now - before

    def follow_universes(self) -> None:
        """Pass on what changed in the universes, as far as the wires are free."""
        now = self.clock()
        by_universe = {(i.protocol, i.universe): i for i in self.inputs}
        for label, wire in self.wires.items():
            source = by_universe.get((self._protocol_by_settings(label), self._active_number(f"{label}.universe", 1)))
            if source is None or not source.frames or self._free_at.get(label, 0.0) > now:
                continue
            bus, first = self.bus_by_settings(label), self._active_number(f"{label}.slot", 1)
            slots = source.merged_levels(now)[first - 1 : first - 1 + bus.slots_needed]
            before, began = self._passed.get(label, b""), wire.now
            for place in range(min(bus.count_places, len(slots) // bus.slots_per_place)):
                here = slice(place * bus.slots_per_place, place * bus.slots_per_place + bus.slots_per_place)
                if slots[here] == before[here]:
                    continue
                for f in frames_of(address_of_place(bus, place), bus.control, slots[here], bus.curve, bus.least):
                    wire.put_octets(f.octets_of_frame())
                before = before.ljust(bus.slots_needed, b"\0")
                before = before[: here.start] + slots[here] + before[here.stop :]
                self._free_at[label] = now + (wire.now - began) / self.bus_speed
                if wire.now - began > AT_A_TIME * self.bus_speed:
                    break  # the wire is busy until then: what else changed is looked at afterwards
            self._passed[label] = before

    def start_test(self, pattern: str) -> str:
        """A press of the test button: all gear to its greatest level, or its least."""
        why = super().start_test(pattern)
        if not why:
            code = {"all full": dali.RECALL_MAX, "all least": dali.RECALL_MIN, "": dali.OFF}[pattern]
            for label in self.wires:
                self.put_frames(label, [dali.command_frame(dali.EVERYBODY, code).octets_of_frame()])
        return why

    def status_page(self) -> StatusPage:
        """What each bus does: the levels of its gear, and what is seen at them (simulated gateways only)."""
        return replace(
            super().status_page(),
            ports=tuple(
                PortStatus(
                    label,
                    protocol=self._protocol_by_settings(label),
                    universe=self._active_number(f"{label}.universe", 1),
                    gear=tuple(
                        GearOnBus(
                            g.short if g.short != NO_ADDRESS else None, g.level, g.name, g.blinks_until > wire.now
                        )
                        for g in wire.gear
                    ),
                )
                for label, wire in self.wires.items()
            ),
        )
