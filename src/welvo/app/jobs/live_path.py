"""The path of an item with what the Bench holds and what the ports were seen to give."""

from __future__ import annotations

from functools import partial

from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.bench.seeing import chain_to_target, port_for
from welvo.bench.why import Evidence
from welvo.survey.path import Path
from welvo.survey.target import Target, of_item

SETTLE = 0.6
"""Seconds after a change of levels in which a difference on the way is none yet: packets take their time."""


def look_at(session: Session, network: Network, key: str, known: Path | None = None) -> Evidence:
    """Everything that is known about why an item is dark or wrong."""
    index = session.index
    span = index.span_of_break(key)
    uid = span.universe if span else ""
    port = port_for(session.rig, uid, key) if uid else None

    return Evidence(
        index=index,
        observed=session.observed,
        now=session.now(),
        key=key,
        chain=known or chain_of(session, network, of_item(index, key)),
        report=session.report,
        levels=network.meant.levels,
        armed=network.output.is_armed,
        trouble=network.output.sending.trouble if network.output.is_armed else "",
        borrowed=network.output.borrowed,
        meant=partial(_meant, network),
        wire=network.hearing.on_wire,
        port=network.hearing.port_gives(*port) if port else None,
        sources=tuple(network.hearing.sources_on(uid)),
        listening=session.observed.listening,
        settled=network.meant.stood_for() > SETTLE,
    )


def _meant(network: Network, universe: str) -> bytes | None:
    frame = network.meant.meant_frame(universe)
    return frame.tobytes() if frame is not None else None


class _WindowSight:
    """What the parts of the network see, asked for as one (see `bench.seeing.Sight`)."""

    def __init__(self, network: Network) -> None:
        self.meant = partial(_meant, network)
        self.on_wire = network.hearing.on_wire
        self.port_gives = network.hearing.port_gives
        self.port_leaves = network.hearing.port_leaves
        self.sources_on = network.hearing.sources_on


def chain_of(session: Session, network: Network, target: Target, which_feed: int = 0) -> Path:
    sight = _WindowSight(network)
    return chain_to_target(
        session.index, session.observed, session.now(), sight, target, network.output.is_armed, which_feed
    )
