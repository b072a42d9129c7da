"""What several sources make together, and what is said of them."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from welvo.observed.values import SourceSeen
from welvo.observed.wire import judge_sources, merge_sources, rival_sources


def source(name: str = "Desk", priority: int = 100, at: float = 0.0, **more: Any) -> SourceSeen:
    return replace(SourceSeen("sacn", 3, name, name, "127.0.0.5", priority, 44.0, False, at, frames=100), **more)


def test_by_priority_then_the_highest_of_each_slot_or_the_newest_whole() -> None:
    low = (source("Low", 90, 9.0), b"\xff\xff\xff")
    one, two = (source("One", 100, 1.0), b"\x05\x09\x00\x07"), (source("Two", 100, 2.0), b"\x06\x02\x00")
    found = merge_sources([low, one, two])
    assert found.levels == b"\x06\x09\x00\x07" and found.owners == (2, 1, 1, 1)
    assert merge_sources([low, one, two], "latest").levels == b"\x06\x02\x00"
    assert merge_sources([low]).levels == b"\xff\xff\xff"
    preview = (source("P", 200, preview=True), b"\x01")
    assert (
        merge_sources([preview, one]).levels == one[1]
        and merge_sources([preview]).levels == b""
        and merge_sources([]).owners == ()
    )


def test_two_that_lead_are_named_with_whom_to_close() -> None:
    one, own = source("One"), source("Bench", own=True)
    assert rival_sources([one, own, source("Low", 50)]) == (one, own)
    assert rival_sources([one, source("High", 101)]) == () == rival_sources([one])
    (said,) = judge_sources([one, own])
    assert said == (
        "error",
        "One at 127.0.0.5 and the Bench both send sACN 3 at priority 100: receivers merge them, or jump. Close One at "
        "127.0.0.5.",
    )
    art = [replace(s, protocol="artnet") for s in (one, source("Two", ip="127.0.0.6"))]
    assert (
        "both send Art 0/0/3: receivers" in judge_sources(art)[0][1]
        and "Close One at 127.0.0.5 or Two" in judge_sources(art)[0][1]
    )


def test_gaps_losses_previews_and_synchronisation_are_said() -> None:
    assert judge_sources([source()]) == []
    odd = source(gap=1.9, lost=25, disordered=3, sync=40)
    assert [s for s, _ in judge_sources([odd])] == ["warning", "warning", "warning", "note"]
    words = " ".join(w for _, w in judge_sources([odd]))
    assert (
        "silent for 1.9 s; after 2.5 s" in words
        and "25 frames of Desk at 127.0.0.5 were lost on the way (20.0 %)" in words
    )
    assert "waits for synchronisation 40" in words
    assert judge_sources([source(gap=1.2)]) == [] and "preview only" in judge_sources([source(preview=True)])[0][1]
