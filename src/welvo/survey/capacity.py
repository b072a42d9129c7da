"""What is used, reserved and possible: slots, universes and ports, by universe, sender and device; and the trim."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.edits import take_out
from welvo.rig.lookup import is_in_use, universe_ids, universes_in_order
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of, nothing_out
from welvo.rig.protocol import say_wire
from welvo.rig.refs import PortRef
from welvo.runs.cable import PortStream
from welvo.survey.wires import ports_by_feed


class CapacityLine(Struct, frozen=True):
    """One line: `possible` is what there is, of it `used` and `reserved`; `free_slots` is the rest."""

    kind: str
    id: str
    name: str
    unit: str
    used: int
    reserved: int
    possible: int
    note: str = ""

    @property
    def free_slots(self) -> int:
        return max(0, self.possible - self.used - self.reserved)


def universe_rows(index: Index) -> list[CapacityLine]:
    """Slots of every universe up to its limit; slots taken twice count once."""
    rig = index.rig
    rows = []
    for uid in universes_in_order(rig):
        u = rig.universes[uid]
        limit = index.limit_of_universe(uid)
        taken = index.occupancy_of_universe(uid)[: limit.slots] > 0
        kept = np.zeros(limit.slots, bool)
        for first, last in u.reserve:
            kept[first - 1 : last] = True
        notes = [limit.why] if limit.why else []
        if not is_in_use(rig, "universes", uid):
            notes.insert(0, "not in use")
        free = index.free_stretches(uid)
        if free:
            widest = max(free, key=lambda s: s[1] - s[0])
            notes.append(f"widest gap {widest[0]}–{widest[1]}")
        rows.append(
            CapacityLine(
                "universe",
                uid,
                f"{u.number} {u.name}".strip(),
                "slots",
                int(taken.sum()),
                int((kept & ~taken).sum()),
                limit.slots,
                " · ".join(notes),
            )
        )
    return rows


def universes_taken(index: Index, device: str) -> int:
    """Different universes that a device takes: on the wire by its DMX ports, and those its streams run through."""
    rig, streams = index.rig, index.cables_and_sums.streams
    numbers = universe_ids(rig)
    taken: set[tuple[str, int]] = set()
    fed: dict[str, tuple[str, int]] = {}
    for feed in rig.feeds.values() if any(d == device for d, _ in streams) else ():
        fed.setdefault(feed.universe, (feed.protocol, feed.wire))
    for label, port in rig.devices[device].ports.items():
        own = rig.feeds.get(port.feed)
        if own:
            taken.add((own.protocol, own.wire))
        stream = streams.get(PortRef(device, label))
        for number, _ in stream.used if stream else ():
            taken.add(fed.get(numbers.get(number, ""), ("universe", number)))
    return len(taken)


def device_rows(index: Index) -> list[CapacityLine]:
    rig = index.rig
    rows = []
    for device_id, device in rig.devices.items():
        model = model_of(rig, device_id)
        alive = [p for p in (model.ports if model else device.ports) if not nothing_out(rig, device_id, p)]
        ports = len(alive)
        off = "" if is_in_use(rig, "devices", device_id) else "not in use"
        streams = index.cables_and_sums.streams
        taking = sum(
            bool(p.feed) or bool((device_id, label) in streams and streams[PortRef(device_id, label)].used)
            for label, p in device.ports.items()
            if label in alive
        )
        rows.append(CapacityLine("device", device_id, device.name, "ports", taking, 0, ports, off))
        most = (model.universes or ports) if model else ports
        rows.append(
            CapacityLine("device", device_id, device.name, "universes", universes_taken(index, device_id), 0, most, off)
        )
    return rows


def sender_rows(rig: Rig) -> list[CapacityLine]:
    """Universes each sender feeds, of those it can number."""
    rows = []
    for sid, s in rig.senders.items():
        fed = {f.universe for f in rig.feeds.values() if f.sender == sid and f.universe in rig.universes}
        note = f"numbers {s.lowest} to {s.highest}, {s.universe_size} slots each"
        rows.append(CapacityLine("sender", sid, s.name, "universes", len(fed), 0, s.highest - s.lowest + 1, note))
    return rows


def total_capacity(index: Index) -> list[CapacityLine]:
    """The whole rig in four lines."""
    rig = index.rig
    slots = universe_rows(index)
    ports = [r for r in device_rows(index) if r.unit == "ports"]
    something = sum(bool(index.spans_on_universe(u)) for u in rig.universes)
    return [
        CapacityLine(
            "rig",
            "",
            "Slots",
            "slots",
            sum(r.used for r in slots),
            sum(r.reserved for r in slots),
            sum(r.possible for r in slots),
        ),
        CapacityLine("rig", "", "Universes", "universes", something, 0, len(rig.universes)),
        CapacityLine("rig", "", "Ports", "ports", sum(r.used for r in ports), 0, sum(r.possible for r in ports)),
    ]


def empty_universes(index: Index) -> list[tuple[str, str]]:
    """Universes in which nothing stands and nothing is reserved, lowest first: (id, what goes with it from whom)."""
    rig = index.rig
    takers = ports_by_feed(index)
    found = []
    for uid in universes_in_order(rig):
        u = rig.universes[uid]
        if index.spans_on_universe(uid) or u.reserve:
            continue
        feeds = [fid for fid, f in rig.feeds.items() if f.universe == uid]
        said = [say_wire(rig.feeds[f].protocol, rig.feeds[f].wire) for f in feeds]
        words = [f"with its {'feed' if len(said) == 1 else 'feeds'} {', '.join(said)}" if said else "no feed"]
        ports = dict.fromkeys(p for f in feeds for p in takers.get(f, ()))
        if ports:
            words.append(f"which {_name_ports(rig, list(ports))} {'takes' if len(ports) == 1 else 'take'}")
        ahead = [
            r for r, s in index.cables_and_sums.streams.items() if r not in ports and _configured_into(s, u.number)
        ]
        if ahead:
            words.append(f"for which {_name_ports(rig, ahead)} {'is' if len(ahead) == 1 else 'are'} configured")
        found.append((uid, ", ".join(words)))
    return found


def _name_ports(rig: Rig, ports: list[PortRef]) -> str:
    named = [f"port {p.port} of {rig.devices[p.device].name}" for p in ports[:3]]
    return ", ".join(named) + (f" and {len(ports) - 3} more" if len(ports) > 3 else "")


def _configured_into(stream: PortStream, number: int) -> bool:
    """Whether a port is set to more pixels than hang on it, so that its stream would reach a universe."""
    if stream.after is None or stream.ends is None or stream.ends == stream.after:
        return False
    last = stream.ends[0] if stream.ends[1] > 1 else stream.ends[0] - 1
    return stream.after[0] <= number <= last


def trim_universes(index: Index) -> Edit:
    """Take out the empty universes with their feeds; ports that took them take nothing then."""
    rig = index.rig
    gone = [uid for uid, _ in empty_universes(index)]
    if not gone:
        raise Refused("Nothing to trim: every universe holds something or is reserved.")
    return take_out(rig, f"trim {say_count(len(gone), 'empty universe')}", "universes", gone)
