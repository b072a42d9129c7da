"""What several sources on one wire universe make together: what a receiver gets, whose each slot is, who should close.

A receiver follows the highest priority (sACN). Of those it takes the highest level of each slot, or the newest frame
whole, by its own setting; Art-Net receivers know no priority. Preview streams are shown by nobody.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct

from welvo.observed.values import SourceSeen
from welvo.rig.protocol import PROTOCOLS, say_wire

Takes = Literal["highest", "latest"]
CLOSE_TO_LOST = 0.5
"""From this share of the time-out on, a gap is worth a word."""


class MergedLevels(Struct, frozen=True):
    """Levels that a receiver gets, and for each slot which of the sources it comes from; -1: nobody's."""

    levels: bytes
    owners: tuple[int, ...]


def merge_sources(sources: Sequence[tuple[SourceSeen, bytes]], takes: Takes = "highest") -> MergedLevels:
    """What a receiver gets out of sources and their levels. Where levels are equal, the earlier one owns the slot."""
    live = [n for n, (s, _) in enumerate(sources) if not s.preview]
    if not live:
        return MergedLevels(b"", ())
    top = max(sources[n][0].priority for n in live)
    mine = [n for n in live if sources[n][0].priority == top]
    if takes == "latest":
        newest = max(mine, key=lambda n: sources[n][0].at)
        levels = sources[newest][1]
        return MergedLevels(levels, (newest,) * len(levels))
    width = max(len(sources[n][1]) for n in mine)
    highest, owners = bytearray(width), [-1] * width
    for n in mine:
        for i, level in enumerate(sources[n][1]):
            if owners[i] < 0 or level > highest[i]:
                highest[i], owners[i] = level, n
    return MergedLevels(bytes(highest), tuple(owners))


def rival_sources(sources: Sequence[SourceSeen]) -> tuple[SourceSeen, ...]:
    """Sources that share the highest priority of one universe; empty when a single one leads."""
    live = [s for s in sources if not s.preview]
    top = max((s.priority for s in live), default=0)
    leading = tuple(s for s in live if s.priority == top)
    return leading if len(leading) > 1 else ()


def name_of_source(s: SourceSeen) -> str:
    """What a source is called where somebody has to find it."""
    return f"{s.name} at {s.ip}" if s.name else s.ip


def judge_sources(sources: Sequence[SourceSeen]) -> list[tuple[str, str]]:
    """What is to be said of the sources of one universe: (severity, sentence), the worst first."""
    found: list[tuple[str, str]] = []
    leading = rival_sources(sources)
    if leading:
        others = [s for s in leading if not s.own]
        close = " or ".join(name_of_source(s) for s in (others if len(others) < len(leading) else leading))
        wire = say_wire(leading[0].protocol, leading[0].wire)
        rank = f" at priority {leading[0].priority}" if PROTOCOLS[leading[0].protocol].has_priority else ""
        names = " and ".join("the Bench" if s.own else name_of_source(s) for s in leading)
        found.append(("error", f"{names} both send {wire}{rank}: receivers merge them, or jump. Close {close}."))
    for s in sources:
        who = "The Bench" if s.own else name_of_source(s)
        limit = PROTOCOLS[s.protocol].lost_after
        if s.preview:
            found.append(("note", f"{who} sends for preview only: no receiver shows it."))
        if s.gap > CLOSE_TO_LOST * limit:
            found.append(
                ("warning", f"{who} was silent for {s.gap:.1f} s; after {limit:g} s receivers take it for gone.")
            )
        if s.lost:
            share = 100 * s.lost / max(1, s.lost + s.frames)
            found.append(("warning", f"{s.lost} frames of {who} were lost on the way ({share:.1f} %)."))
        if s.disordered:
            found.append(("warning", f"{s.disordered} frames of {who} came too late, behind a newer one."))
        if s.sync:
            found.append(("note", f"{who} waits for synchronisation {s.sync} before its levels show."))
    order = {"error": 0, "warning": 1, "note": 2}
    return sorted(found, key=lambda x: order[x[0]])
