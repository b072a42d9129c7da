"""Universes that another sender feeds: borrowed to be tested, and what is said of who else sends there."""

from __future__ import annotations

import pytest

from welvo.bench.borrowing import choose_borrowed, lent_universes, say_arming, say_borrowed
from welvo.live.interfaces import LOOPBACK
from welvo.live.output import sent_feeds, streams_to_send
from welvo.observed.values import SourceSeen
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.wiring import Feed, Sender


@pytest.fixture
def desk(rig: Rig) -> Rig:
    """Universe 1 is fed by the Bench on sACN 1, universe 2 by a desk on sACN 2 at priority 120."""
    return put_entries(
        rig,
        "",
        senders={"desk": Sender(name="Desk", kind="desk")},
        feeds={"w2": Feed(universe="u2", sender="desk", wire=2, priority=120)},
    )[0]


def seen(wire: int, priority: int = 120, protocol: str = "sacn", **more: object) -> SourceSeen:
    return SourceSeen(protocol, wire, "cid", "Desk", "127.0.0.5", priority, 40.0, False, 0.0, **more)  # type: ignore[arg-type]


def test_what_the_bench_does_not_feed_itself_can_be_borrowed(desk: Rig) -> None:
    assert lent_universes(desk) == {"u2": "desk"}
    assert (
        choose_borrowed(desk, "2") == choose_borrowed(desk, "all") == {"u2"}
        and choose_borrowed(desk, "") == frozenset()
    )
    assert say_borrowed(desk, {"u2", "gone"}) == "2"
    for typed, why in (("1", "has a feed from the Bench already"), ("9", "no universe 9"), ("x", "no number")):
        with pytest.raises(Refused, match=why):
            choose_borrowed(desk, typed)
    with pytest.raises(Refused, match="no feed to borrow"):
        choose_borrowed(put_entries(desk, "", feeds={"w2": None})[0], "2")


def test_a_borrowed_universe_goes_out_as_its_own_sender_sends_it(desk: Rig) -> None:
    assert [s.id for s in streams_to_send(desk, LOOPBACK, {}, {})] == ["w1"]
    _, borrowed = streams_to_send(desk, LOOPBACK, {}, {}, borrowed=frozenset({"u2"}))
    assert (borrowed.id, borrowed.wire, borrowed.priority, borrowed.to) == ("w2", 2, 120, ("239.255.0.2",))


@pytest.mark.parametrize(
    ("there", "said"),
    [
        (seen(2, 120), "Desk sends there now (sACN 2): both at priority 120, so receivers merge the two, or show"),
        (seen(2, 150), "receivers follow it (priority 150), not the Bench (120)"),
        (seen(2, 90), "receivers follow the Bench (priority 120), not it (90)"),
        (seen(2, 120, preview=True), "Nobody else is heard on them now."),
        (seen(7), "Nobody else is heard on them now."),
    ],
)
def test_arming_says_whose_routes_are_borrowed_and_who_is_heard(desk: Rig, there: SourceSeen, said: str) -> None:
    feeds = [f for _, f in sent_feeds(desk, frozenset({"u2"}))]
    words = say_arming(desk, feeds, [there])
    assert words.startswith("1 universe borrowed from Desk. ") and said in words
    assert say_arming(desk, [f for _, f in sent_feeds(desk)], [there]) == ""


def test_art_net_has_no_priority_so_nodes_merge(desk: Rig) -> None:
    feed = Feed(universe="u2", sender="desk", protocol="artnet", wire=1, to="127.0.0.9")
    there = SourceSeen("artnet", 1, "127.0.0.5", "", "127.0.0.5", 0, 40.0, False, 0.0)
    assert "127.0.0.5 sends there now" in (words := say_arming(desk, [feed], [there])) and "priority" not in words
