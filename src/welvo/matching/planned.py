"""What the rig says every setting of a device is, with all that follows from what is attached to its ports.

Pixel counts, colour orders, starts and folds are facts of a run, entered there once. A device has each of them as a
setting of its own pages, often in a list of segments that looks nothing like the cable. Here the one becomes the other:
a row for each setting that a run decides. A setting that no row names, and that nothing else in the rig decides, is
planned by hand, in Devices.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from welvo.buses.plan import bus_ports
from welvo.observed.presence import is_recent
from welvo.observed.values import Observed
from welvo.patch.index import Index
from welvo.rig.abilities import port_gives_what
from welvo.rig.buses import NO_BUS
from welvo.rig.colours import STRAIGHT, straight_order
from welvo.rig.document import Rig
from welvo.rig.entered import SettingValue
from welvo.rig.kept import keep_last_two, table_of
from welvo.rig.lookup import feeds_of, universe_by_number
from welvo.rig.plan import model_of, planned_settings, segment_owner, setting_key, universe_size
from welvo.rig.refs import PortRef
from welvo.rig.wiring import Device, DeviceModel, Feed, Port
from welvo.runs.cable import Piece, PortStream
from welvo.settings.compare import SettingLine, compare_settings


class OnDevice(NamedTuple):
    """One segment of a port as the device's own list has it: what is null before it belongs to it."""

    number: int
    piece: Piece
    nulls: int


class _At(NamedTuple):
    """What a row is asked about."""

    seen: Index
    device_id: str
    label: str
    port: Port
    stream: PortStream | None
    feed: Feed | None
    """The feed of the port's first universe, also where the port follows the one before."""


def segments_of(stream: PortStream) -> list[OnDevice]:
    """The segments of a stream that a device has to know of, numbered from 1, with the null pixels before each."""
    found: list[OnDevice] = []
    nulls = 0
    for piece in stream.pieces:
        if piece.segment.kind == "null":
            nulls += piece.segment.count
        elif piece.segment.takes_slots:
            found.append(OnDevice(len(found) + 1, piece, nulls))
            nulls = 0
    return found


def as_percent(fraction: float) -> SettingValue:
    """0.8 as 80; a fraction of a percent stays one."""
    value = round(100 * fraction, 4)
    return int(value) if value == int(value) else value


def feed_at(rig: Rig, number: int, like: Feed | None) -> Feed | None:
    """The feed of the universe with a number: of the same sender and protocol as another, if there is one."""
    uid = universe_by_number(rig, number)
    mine = [rig.feeds[f] for f in feeds_of(rig, uid)] if uid else []
    alike = [f for f in mine if like and (f.sender, f.protocol) == (like.sender, like.protocol)]
    return next(iter(alike or mine), None)


def _wire_at(at: _At, number: int) -> SettingValue | None:
    feed = feed_at(at.seen.rig, number, at.feed)
    if feed:
        return feed.wire
    if at.feed is None or at.stream is None or at.stream.start is None:
        return None
    return at.feed.wire + number - at.stream.start[0]  # not made yet: devices count on by themselves


def _size_at(at: _At) -> SettingValue | None:
    own = universe_size(at.seen.rig, at.device_id)
    rig = at.seen.rig
    fed = (f for p in rig.devices[at.device_id].ports.values() if (f := rig.feeds.get(p.feed)))
    first = next((rig.universes[f.universe] for f in fed if f.universe in rig.universes), None)
    return own or (first.size if first else None)


def _chip_at(at: _At) -> SettingValue | None:
    if at.port.chip:
        return at.port.chip
    rig = at.seen.rig
    for piece in at.stream.pieces if at.stream else ():
        element = rig.elements.get(piece.key)
        kind = rig.pixel_types.get(element.type) if element else None
        if kind and kind.chip:
            return kind.chip
    return None


def _order_at(at: _At, s: OnDevice) -> SettingValue:
    element = at.seen.rig.elements.get(s.piece.key)
    own = element.order if element and element.kind != "block" else STRAIGHT[: max(1, s.piece.k)]
    return s.piece.segment.order or straight_order(own)


OF_DEVICE: dict[str, Callable[[_At], SettingValue | None]] = {
    "mode": lambda at: at.seen.rig.devices[at.device_id].mode or None,
    "size": _size_at,
    "packs": lambda at: at.seen.rig.devices[at.device_id].packs,
    "brightness": lambda at: as_percent(at.seen.rig.devices[at.device_id].brightness),
}
OF_PORT: dict[str, Callable[[_At], SettingValue | None]] = {
    "protocol": lambda at: at.feed.protocol if at.feed else None,
    "universe": lambda at: _wire_at(at, at.stream.start[0]) if at.stream and at.stream.start else None,
    "slot": lambda at: at.stream.start[1] if at.stream and at.stream.start else None,
    "segments": lambda at: len(segments_of(at.stream)) if at.stream else None,
    "chip": _chip_at,
    "brightness": lambda at: as_percent(at.port.brightness) if at.stream else None,
    "gamma": lambda at: at.port.gamma if at.stream else None,
}
OF_SEGMENT: dict[str, Callable[[_At, OnDevice], SettingValue | None]] = {
    "universe": lambda at, s: _wire_at(at, s.piece.parts[0].universe) if s.piece.parts else None,
    "slot": lambda at, s: s.piece.parts[0].first if s.piece.parts else None,
    "pixels": lambda at, s: s.piece.leds or s.piece.pixels,
    "nulls": lambda at, s: s.nulls,
    "order": _order_at,
    "group": lambda at, s: s.piece.segment.group,
    "fold": lambda at, s: s.piece.segment.fold,
    "reverse": lambda at, s: s.piece.segment.reverse,
    "brightness": lambda at, s: as_percent(s.piece.segment.brightness),
}


OF_BUS: dict[str, Callable[[Port], SettingValue | None]] = {
    "slot": lambda port: port.start,
    "addressing": lambda port: (port.bus or NO_BUS).addressing,
    "control": lambda port: (port.bus or NO_BUS).control,
    "curve": lambda port: (port.bus or NO_BUS).curve,
    "least": lambda port: (port.bus or NO_BUS).least,
}
"""Settings of a port with a lamp bus, as the bus is planned."""


@keep_last_two
def _plans_of_rig(rig: Rig) -> dict[str, dict[str, SettingValue]]:
    return {}


def full_plan(index: Index, device_id: str) -> dict[str, SettingValue]:
    """All planned settings of a device by full key; what the plan does not care about is absent."""
    known = _plans_of_rig(index.rig)
    if device_id not in known:
        known[device_id] = _work_out(index, device_id)
    return known[device_id]


def _work_out(index: Index, device_id: str) -> dict[str, SettingValue]:
    rig = index.rig
    plan = planned_settings(rig, device_id)
    model = model_of(rig, device_id)
    device = rig.devices[device_id]
    if model is None:
        return plan
    has = {(s.scope, s.key) for s in model.settings}

    def take_value(key: str, value: SettingValue | None) -> None:
        if value is not None:
            plan.setdefault(key, value)

    whole = _At(index, device_id, "", Port(), None, None)
    for key, of_device in OF_DEVICE.items():
        if ("device", key) in has:
            take_value(key, of_device(whole))
    for label in bus_ports(rig, device_id):
        port = device.ports[label]
        for key, of_bus in OF_BUS.items():
            if ("port", key) in has and port.feed:
                take_value(setting_key(label, key), of_bus(port))
    for label, port in device.ports.items():
        stream = index.cables_and_sums.streams.get(PortRef(device_id, label))
        if port_gives_what(rig, device_id, label) != "pixels" or stream is None:
            continue
        first = next((rig.feeds[p.feed] for p in device.ports.values() if p.feed in rig.feeds), None)
        feed = rig.feeds.get(port.feed) or (feed_at(rig, stream.start[0], first) if stream.start else None)
        at = _At(index, device_id, label, port, stream, feed)
        for key, of_port in OF_PORT.items():
            if ("port", key) in has:
                take_value(setting_key(label, key), of_port(at))
        for segment in segments_of(stream):
            for key, of_segment in OF_SEGMENT.items():
                if ("segment", key) in has:
                    take_value(setting_key(segment_owner(label, segment.number), key), of_segment(at, segment))
    return plan


class _Facts(NamedTuple):
    """All that the comparison of a device is made of. Equal facts give equal lines."""

    device: Device
    model: DeviceModel | None
    plan: dict[str, SettingValue]
    heard: tuple[object, ...]
    told: tuple[object, ...]
    results: object
    live: bool


def compare_device(index: Index, observed: Observed, device_id: str, now: float) -> list[SettingLine]:
    """Every setting of a device, plan beside reported. Stations, path and rules ask this in turn, three times a second,
    and mostly nothing is another: so the last answer about each device is kept. Do not change it."""
    rig = index.rig
    device = rig.devices[device_id]
    heard, told = observed.heard.get(device.ip), observed.said.get(device.ip)
    plan = full_plan(index, device_id)
    if observed.written.get(device_id):
        return compare_settings(rig, observed, device_id, now, plan)  # what was pushed is claimed until a later answer
    at = max(heard.at if heard else 0.0, told.at if told else 0.0)
    facts = _Facts(
        device,
        model_of(rig, device_id),
        plan,
        (heard.ports, heard.name, heard.long_name, heard.ip) if heard else (),
        (told.active, told.saved, told.entered, told.waits, is_recent(observed, told.at, now)) if told else (),
        observed.results.get(device_id),
        is_recent(observed, at, now),
    )
    answers: dict[str, tuple[_Facts, list[SettingLine]]] = table_of("settings compared", 1000)
    known = answers.get(device_id)
    if known and known[0] == facts:
        return known[1]
    lines = compare_settings(rig, observed, device_id, now, plan)
    answers[device_id] = (facts, lines)
    return lines
