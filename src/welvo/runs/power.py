"""Power along a run: currents, what supplies and ports carry, and the voltage that is left pixel by pixel."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from welvo.rig.document import Rig
from welvo.rig.plan import model_of
from welvo.rig.runs import PixelType, Segment
from welvo.runs.along import part_name
from welvo.runs.brightness import on_the_device, product_of_factors
from welvo.runs.cable import Cables, Piece, PortStream

COPPER = 0.0175
"""Resistivity of copper wire in Ω·mm²/m, as cable tables take it."""


def voltage_drop(metres: float, amps: float, area: float) -> float:
    """Volts lost in a pair of conductors there and back: ΔU = 2·ρ·l·I / A. An unknown cross-section loses nothing."""
    return 2 * COPPER * metres * amps / area if area > 0 else 0.0


def pixel_amps(kind: PixelType, brightness: float = 1.0, levels: dict[str, float] | None = None) -> float:
    """Amperes one pixel takes: every component's own current at full times its level, times brightness, plus idle."""
    total = 0.0
    for letter, ma in zip(kind.order, kind.currents):
        total += ma * (1.0 if levels is None else levels.get(letter, 0.0))
    return (total * brightness + kind.idle) / 1000


def type_of(rig: Rig, piece: Piece) -> PixelType | None:
    element = rig.elements.get(piece.key)
    return rig.pixel_types.get(element.type) if element else None


class Stretch(NamedTuple):
    """One segment with power: amperes it takes, amperes that pass its beginning, volts at its beginning and end.

    `below` is its first LED (from 1, along the cable) whose voltage is under its chip's minimum, 0: none. `fed` is the
    supply (or an empty id for the port) that feeds it.
    """

    piece: Piece
    kind: PixelType | None
    amps: float
    through: float
    volts: float
    end: float
    below: int
    fed: str


def brightness_at(rig: Rig, stream: PortStream, piece: Piece) -> float:
    """Brightness the device itself limits a segment to: controller × port × segment. What the sender does is no
    safety."""
    return float(product_of_factors(on_the_device(rig, stream, piece)))


def stretches_of_port(cables: Cables, stream: PortStream) -> list[Stretch]:
    """Segment by segment, currents and voltages of a port's run, all pixels white at the device's brightness.

    Power begins at the port and again at every segment with a supply. In a string the current falls from pixel to
    pixel; each takes the same, whatever its voltage.
    """
    rig = cables.rig
    kinds = [type_of(rig, p) for p in stream.pieces]
    amps = [p.leds * pixel_amps(k, brightness_at(rig, stream, p)) if k else 0.0 for p, k in zip(stream.pieces, kinds)]
    found: list[Stretch] = []
    sections: list[list[int]] = []
    for p in stream.pieces:
        if not sections or p.segment.supply:
            sections.append([])
        sections[-1].append(p.n)
    for section in sections:
        first = stream.pieces[section[0]].segment
        supply = rig.supplies.get(first.supply)
        known = next((kinds[n] for n in section if kinds[n]), None)
        volts = supply.volts if supply else known.volts if known else 0.0
        left = sum(amps[n] for n in section)
        for n in section:
            p, kind = stream.pieces[n], kinds[n]
            through, left = left, left - amps[n]
            volts -= voltage_drop(p.segment.length, through, p.segment.area)
            begin, below = volts, 0
            if kind and p.leds:
                behind = through - amps[n]
                along = along_string(kind, p.leds, amps[n] / p.leds, behind, begin)
                low = np.flatnonzero(along < kind.least) if kind.least else np.zeros(0, np.int64)
                below = int(low[0]) + 1 if low.size else 0
                volts = float(along[-1])
            found.append(Stretch(p, kind, amps[n], through, begin, volts, below, first.supply))
    return found


def along_string(kind: PixelType, leds: int, each: float, behind: float, volts: float) -> npt.NDArray[np.float64]:
    """Volts at each pixel of a string fed at its beginning: `each` ampere per pixel, `behind` more flow on at its
    end."""
    if not kind.area or not kind.pitch:
        return np.full(leds, volts)
    carried = behind + each * np.arange(leds, 0, -1)
    carried[0] = 0.0  # the first pixel sits where the power comes in
    return np.asarray(volts - np.cumsum(carried) * 2 * COPPER * kind.pitch / 1000 / kind.area)


class Load(NamedTuple):
    """What a port, a device or a supply has to carry, of what it is rated for (0: nobody said).

    `id` is the device's or the supply's; `port` the label of the port, empty for the whole.
    """

    kind: str
    id: str
    name: str
    amps: float
    rated: float
    port: str = ""


def loads_of_supplies(cables: Cables) -> list[Load]:
    """Amperes of every port and device that hands power on, and of every supply."""
    rig = cables.rig
    found: list[Load] = []
    by_supply = dict.fromkeys(rig.supplies, 0.0)
    by_device: dict[str, float] = {}
    if not rig.pixel_types:
        return [Load("supply", sid, s.name, 0.0, s.amps) for sid, s in rig.supplies.items()]
    for (device_id, label), stream in cables.streams.items():
        model = model_of(rig, device_id)
        own, fed = 0.0, ""
        for p in stream.pieces:
            fed = p.segment.supply or fed
            kind = type_of(rig, p)
            amps = p.leds * pixel_amps(kind, brightness_at(rig, stream, p)) if kind else 0.0
            if fed in by_supply:
                by_supply[fed] += amps
            else:
                own += amps
        if own:
            found.append(
                Load(
                    "port",
                    device_id,
                    f"{rig.devices[device_id].name} {label}",
                    own,
                    model.port_amps if model else 0.0,
                    label,
                )
            )
            by_device[device_id] = by_device.get(device_id, 0.0) + own
    for device_id, amps in by_device.items():
        model = model_of(rig, device_id)
        found.append(Load("device", device_id, rig.devices[device_id].name, amps, model.amps if model else 0.0))
    found += [Load("supply", sid, s.name, by_supply[sid], s.amps) for sid, s in rig.supplies.items()]
    return found


# ---- joints


class WireJoint(NamedTuple):
    """Where two items on a cable meet: who is on each side, function by function which wire, and what is wrong."""

    n: int
    one: str
    other: str
    wires: tuple[tuple[str, str, str], ...]
    wrong: tuple[str, ...]


_OTHER = {"male": "female", "female": "male"}


class _Side(NamedTuple):
    name: str
    connector: str
    sex: str
    wires: tuple[tuple[str, str], ...]


def joints_of_port(cables: Cables, stream: PortStream) -> list[WireJoint]:
    """Every joint along a run: connector family and sex, wire colour → function on both sides.

    Parts of one string that follow each other are one string; of what is of no known kind nothing is said.
    """
    rig = cables.rig
    model = model_of(rig, stream.device_id)
    last = _Side(
        f"port {stream.label}",
        model.connector if model else "",
        model.sex if model else "",
        model.wires if model else (),
    )
    found: list[WireJoint] = []
    before: Piece | None = None
    for p in stream.pieces:
        if p.segment.kind in ("null", "extension"):
            before = None  # what it joins is joined all the same
            continue
        side = _side_of_joint(rig, p, p.segment)
        one_string = before is not None and before.key == p.key and p.segment.kind == "pixels" == before.segment.kind
        if side and not one_string:
            found.append(
                WireJoint(p.n, last.name, side.name, _pairs_of_wires(last, side), tuple(_wrong_pairs(last, side)))
            )
        # a string's other end takes the next of its kind
        last = side._replace(sex=_OTHER.get(side.sex, "")) if side else _Side(part_name(rig, p), "", "", ())
        before = p
    return found


def _side_of_joint(rig: Rig, piece: Piece, segment: Segment) -> _Side | None:
    kind = type_of(rig, piece)
    if kind:
        return _Side(part_name(rig, piece), kind.connector, kind.sex, kind.wires)
    model = rig.device_models.get(segment.model)
    if model:
        return _Side(part_name(rig, piece), "", "", model.wires)  # its connector is the one of its DMX side
    return None


def _pairs_of_wires(a: _Side, b: _Side) -> tuple[tuple[str, str, str], ...]:
    theirs = dict(b.wires)
    ours = dict(a.wires)
    return tuple((f, ours.get(f, "—"), theirs.get(f, "—")) for f in dict.fromkeys((*ours, *theirs)))


def _wrong_pairs(a: _Side, b: _Side) -> list[str]:
    found = []
    if a.connector and b.connector and a.connector != b.connector:
        found.append(f"{a.connector} meets {b.connector}")
    elif a.sex and a.sex == b.sex:
        found.append(f"both sides are {a.sex}")
    by_colour = {colour: f for f, colour in a.wires}
    for f, colour in b.wires:
        if by_colour.get(colour, f) != f:
            found.append(
                f"{colour} is {by_colour[colour]} on one side and {f} on the other: join by function, not by colour"
            )
            break
    return found


# ---- frame time


def frame_ms(cables: Cables, stream: PortStream) -> float:
    """How long one frame of a port takes on its cable: every component's time, nulls and groups too, and the pause."""
    rig = cables.rig
    total, pauses = 0.0, []
    us, k = 10.0, 3
    for p in stream.pieces:
        kind = type_of(rig, p)
        if kind:
            us, k = kind.slot_us, len(kind.order)
            pauses.append(kind.reset_us)
        if p.segment.kind == "null":
            total += p.leds * k * us
        elif p.segment.takes_slots:
            total += (p.leds * p.k if p.leds and p.segment.kind == "pixels" else p.slots) * us
    pause = max(pauses, default=300.0 if total else 0.0)  # a kind may need none at all
    return (total + pause) / 1000
