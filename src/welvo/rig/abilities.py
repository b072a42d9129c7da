"""What a port of a device can do: its model's limits, as its output mode and its firmware leave them."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from welvo.rig.document import Rig
from welvo.rig.plan import model_of
from welvo.rig.wiring import DeviceModel

Gives = Literal["dmx", "pixels", "bus"]
_BY_KIND: dict[str, Gives] = {"pixel": "pixels", "gateway": "bus", "converter": "pixels"}


class Ability(Struct, frozen=True):
    """Limits of one port; 0 is no limit. `off` names the mode that switches it off."""

    gives: Gives
    pixels: int = 0
    slots: int = 0
    universes: int = 0
    off: str = ""
    of: str = ""
    """What sets the pixel limit: the model, the mode or the firmware."""


def gives_by(model: DeviceModel, mode: str, label: str) -> Gives:
    """What a port puts out: as its mode says, else its model, else the kind of device."""
    chosen = model.output_mode(mode)
    if chosen and chosen.gives:
        return chosen.gives
    return model.gives.get(label) or _BY_KIND.get(model.kind, "dmx")


def port_gives_what(rig: Rig, device_id: str, label: str) -> Gives:
    """What a port of a planned device puts out; devices of an unknown model give DMX."""
    model = model_of(rig, device_id)
    return gives_by(model, rig.devices[device_id].mode, label) if model else "dmx"


def ability_of_port(rig: Rig, device_id: str, label: str) -> Ability:
    """The limits that hold for a port with the planned mode and firmware: the smallest that is stated."""
    model = model_of(rig, device_id)
    device = rig.devices[device_id]
    if model is None:
        return Ability("dmx", slots=512)
    mode = model.output_mode(device.mode)
    firmware = next((f for f in model.firmwares if f.version == device.firmware), None)
    pixels = [
        (n, of)
        for n, of in (
            (mode.pixels_per_port if mode else 0, f"mode “{device.mode}”"),
            (firmware.pixels_per_port if firmware else 0, f"firmware {device.firmware}"),
            (model.pixels_per_port, f"{model.name}"),
        )
        if n
    ]
    most, of = min(pixels, key=lambda p: p[0]) if pixels else (0, "")
    universes = [
        n for n in (mode.universes if mode else 0, firmware.universes if firmware else 0, model.universes) if n
    ]
    what = gives_by(model, device.mode, label)
    if what == "pixels":
        slots = (mode.stream_slots if mode else 0) or model.stream_slots
    else:
        slots = (mode.slots_per_port if mode else 0) or model.slots_per_port
    off = device.mode if mode and label in mode.off else ""
    return Ability(what, most, slots, min(universes) if universes else 0, off, of)
