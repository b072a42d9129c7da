"""The path of an item with what is seen of it: the one place where levels, wire and outputs are put onto the hops.

The window sees through its network, the command line through what it asked itself, tests through simulated devices.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from welvo.bench.light import words_of_light
from welvo.matching.leaving import proof_of_pixel as seen_leaving
from welvo.observed.values import Observed, SourceSeen
from welvo.patch.index import Index
from welvo.protocols.status_page import LevelsBehind
from welvo.rig.document import Rig
from welvo.rig.lookup import feeds_of
from welvo.rig.plan import port_of_fixture, ports_taking
from welvo.survey.path import Light, Path, path_to_target
from welvo.survey.place_ways import on_cable
from welvo.survey.target import Target, of_item


class Sight(Protocol):
    """What can be seen of a rig at present. Each is None where nobody knows."""

    def meant(self, universe: str) -> bytes | None:
        """What the Bench means for a universe."""

    def on_wire(self, universe: str) -> bytes | None: ...

    def port_gives(self, device: str, label: str) -> bytes | None: ...

    def port_leaves(self, device: str, label: str) -> tuple[bytes, tuple[LevelsBehind, ...]] | None: ...

    def sources_on(self, universe: str) -> Sequence[tuple[SourceSeen, bytes]]: ...


def port_for(rig: Rig, universe: str, key: str) -> tuple[str, str] | None:
    """Device id and label of the port that puts out an item's levels: its own line's, else its universe's."""
    on = port_of_fixture(rig, key) if key in rig.fixtures else None
    if on:
        return on[0], on[1]
    return next((p for fid in feeds_of(rig, universe) for p in ports_taking(rig, fid)), None)


def chain_to_target(
    index: Index, observed: Observed, now: float, sight: Sight, target: Target, armed: bool, which_feed: int = 0
) -> Path:
    """The path of a target with everything that is seen of it."""
    level, lamp, proof = "", "", None
    if target.universe and target.address:
        meant = sight.meant(target.universe)
        level = str(meant[target.address - 1]) if meant and target.address <= len(meant) else ""
        if target == of_item(index, target.key, target.break_no) and target.key:
            level = words_of_light(index, target.key, sight.meant) or level
        port = port_for(index.rig, target.universe, target.key)
        given = sight.port_gives(*port) if port else None
        if given is not None and target.address <= 512:
            lamp = f"port gives {given[target.address - 1]}"
        on = on_cable(index, target)
        leaves = sight.port_leaves(on[0].device_id, on[0].label) if on else None
        if on and leaves is not None:
            wire = sight.on_wire(target.universe)
            sent = wire[target.address - 1] if wire and target.address <= len(wire) else None
            proof = seen_leaving(index.cables_and_sums, on, *leaves, sent)
    return path_to_target(index, observed, target, now, Light(level, armed, lamp, proof), which_feed)
