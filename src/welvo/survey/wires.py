"""The table of all numbers on the wire, in every way of counting, and which of them are easily taken for each other."""

from __future__ import annotations

from dataclasses import dataclass

from welvo.patch.index import Index
from welvo.rig.lookup import is_in_use, universe_ids
from welvo.rig.plan import nothing_out
from welvo.rig.protocol import NUMBERED, PROTOCOLS, Protocol, say_wire
from welvo.rig.refs import PortRef
from welvo.survey.traffic import Traffic, traffic_of_rig


@dataclass(frozen=True)
class WireRow:
    """One feed. `from_zero`, `from_one` and `hexadecimal` say the same number as other pages write it."""

    feed: str
    wire: str
    from_zero: str
    from_one: str
    hexadecimal: str
    universe: int
    name: str
    sender: str
    shown: str
    """The number on the sender's own pages."""
    to: str
    takers: str
    rate: float
    packets: float
    bits: float
    in_use: bool
    beware: str = ""


def ports_by_feed(index: Index) -> dict[str, list[PortRef]]:
    """The ports planned to take each feed, and those whose streams run on into its universe from one before it.

    A port that its device's mode switches off, or that its model lacks, takes nothing.
    """
    rig = index.rig
    found: dict[str, list[PortRef]] = {}
    for device_id, device in rig.devices.items():
        for label, port in device.ports.items():
            if port.feed and not nothing_out(rig, device_id, label):
                found.setdefault(port.feed, []).append(PortRef(device_id, label))
    by_universe: dict[str, list[str]] = {}
    for fid, feed in rig.feeds.items():
        by_universe.setdefault(feed.universe, []).append(fid)
    numbers = universe_ids(rig)
    for ref, stream in index.cables_and_sums.streams.items():
        for number, _ in () if nothing_out(rig, *ref) else stream.used:
            for fid in by_universe.get(numbers.get(number, ""), ()):
                if ref not in (ports := found.setdefault(fid, [])):
                    ports.append(ref)
    return found


def wire_table(index: Index, known: Traffic | None = None) -> list[WireRow]:
    """All feeds by protocol and number. `beware` names what an off-by-one, or the other protocol, would hit."""
    rig = index.rig
    loads = (known or traffic_of_rig(index)).feeds
    takers = {
        fid: [f"{rig.devices[p.device].name} {p.port}" for p in ports] for fid, ports in ports_by_feed(index).items()
    }
    on_wire: dict[tuple[Protocol, int], set[int]] = {}
    for feed in rig.feeds.values():
        if feed.universe in rig.universes:
            on_wire.setdefault((feed.protocol, feed.wire), set()).add(rig.universes[feed.universe].number)
    order = {key: n for n, key in enumerate(PROTOCOLS)}
    rows = []
    for fid in sorted(rig.feeds, key=lambda f: (order[rig.feeds[f].protocol], rig.feeds[f].wire, f)):
        feed = rig.feeds[fid]
        if feed.universe not in rig.universes:
            continue
        universe = rig.universes[feed.universe]
        sender = rig.senders.get(feed.sender)
        numbered = PROTOCOLS[feed.protocol].has_universe_numbers
        zero = PROTOCOLS[feed.protocol].from_zero(feed.wire)
        load = loads.get(fid)
        rows.append(
            WireRow(
                fid,
                wire=say_wire(feed.protocol, feed.wire),
                from_zero=str(zero) if numbered else "",
                from_one=str(zero + 1) if numbered else "",
                hexadecimal=f"0x{feed.wire:04X}" if numbered else "",
                universe=universe.number,
                name=universe.name,
                sender=sender.name if sender else "?",
                shown=str(zero + sender.counts_from) if numbered and sender else "",
                to=feed.to or "–",
                takers=", ".join(takers.get(fid, [])) or "–",
                rate=feed.rate,
                packets=load.one.packets * load.copies if load else 0,
                bits=load.one.bits * load.copies if load else 0,
                in_use=is_in_use(rig, "universes", feed.universe),
                beware=_beware_of_number(feed.protocol, feed.wire, universe.number, on_wire) if numbered else "",
            )
        )
    return rows


def _beware_of_number(protocol: Protocol, wire: int, number: int, on_wire: dict[tuple[Protocol, int], set[int]]) -> str:
    same = on_wire[protocol, wire] - {number}
    if same:
        return f"universe {min(same)} goes out under it too"
    if wire != number:
        other = on_wire.get((protocol, number), set()) - {number}
        if other:
            return f"number {number} on the wire is universe {min(other)}"
        if abs(wire - number) == 1:
            return f"one {'more' if wire > number else 'less'} than universe {number}'s number"
    for elsewhere in NUMBERED:
        crossed = on_wire.get((elsewhere, wire), set()) - {number} if elsewhere != protocol else set()
        if crossed:
            record = PROTOCOLS[elsewhere]
            return f"{record.word} {record.write(wire)} is universe {min(crossed)}"
    if PROTOCOLS[protocol].base == 0:
        behind = on_wire.get((protocol, wire + 1), set()) - {number}
        if behind:
            return f"counted from 1 it is {wire + 1}; {wire + 1} from 0 is universe {min(behind)}"
    return ""
