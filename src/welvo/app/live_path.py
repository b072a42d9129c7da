"""The path of an item with what the Bench holds and what the ports were seen to give."""

from __future__ import annotations

from welvo.app.network import Network
from welvo.app.session import Session
from welvo.bench.why import Look
from welvo.patch.path import Path, Target, of_item, on_cable, path
from welvo.rig.lookup import feeds_of
from welvo.rig.plan import port_of_fixture, ports_taking
from welvo.runs.leaving import proof as seen_leaving


def port_for(session: Session, universe: str, key: str) -> tuple[str, str] | None:
    """Device id and label of the port that puts out an item's levels: its own line's, else its universe's."""
    rig = session.rig
    on = port_of_fixture(rig, key) if key in rig.fixtures else None
    if on:
        return on[0], on[1]
    return next((p for fid in feeds_of(rig, universe) for p in ports_taking(rig, fid)), None)


SETTLE = 0.6
"""Seconds after a change of levels in which a difference on the way is none yet: packets take their time."""


def look_at(session: Session, network: Network, key: str, chain: Path | None = None) -> Look:
    """Everything that is known about why an item is dark or wrong."""
    index = session.index
    span = index.place(key)
    uid = span.universe if span else ""
    port = port_for(session, uid, key) if uid else None

    def meant(universe: str) -> bytes | None:
        frame = network.frame(universe)
        return frame.tobytes() if frame is not None else None

    return Look(
        index=index,
        observed=session.observed,
        now=session.now(),
        key=key,
        chain=chain or chain_of(session, network, of_item(index, key)),
        report=session.report,
        levels=network.levels,
        armed=network.armed,
        trouble=network.sending.trouble if network.armed else "",
        borrowed=network.borrowed,
        meant=meant,
        wire=network.on_wire,
        port=network.port_gives(*port) if port else None,
        sources=tuple(network.sources_on(uid)),
        listening=session.observed.listening,
        settled=network.stood_for() > SETTLE,
    )


def chain_of(session: Session, network: Network, target: Target, which_feed: int = 0) -> Path:
    level, lamp = "", ""
    proof = None
    if target.universe and target.address:
        frame = network.frame(target.universe)
        if frame is not None:
            level = str(int(frame[target.address - 1]))
        port = port_for(session, target.universe, target.key)
        given = network.port_gives(*port) if port else None
        if given is not None and target.address <= 512:
            lamp = f"port gives {given[target.address - 1]}"
        on = on_cable(session.index, target)
        leaves = network.port_leaves(on[0].device_id, on[0].label) if on else None
        if on and leaves is not None:
            wire = network.on_wire(target.universe)
            sent = wire[target.address - 1] if wire and target.address <= len(wire) else None
            proof = seen_leaving(session.index.cables, on, *leaves, sent)
    return path(
        session.index, session.observed, target, session.now(), level, network.armed, lamp, which_feed, proof=proof
    )
