"""The path of an item with what the Bench holds and what the ports were seen to give."""

from __future__ import annotations

from welvo.app.network import Network
from welvo.app.session import Session
from welvo.patch.path import Path, Target, on_cable, path
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
