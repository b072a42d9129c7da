"""From feeds to streams: what is in use, who is subscribed, and one stream for each DDP device."""

from __future__ import annotations

from welvo.live.interfaces import Interface
from welvo.live.messages import LineOut, OctetPart, rows_in
from welvo.live.output import kept_back, rows_of, streams_to_send, subscribed_nodes
from welvo.observed.values import Heard, HeardPort
from welvo.patch.index import Index
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import add_feed, change_show, set_feed, set_show
from welvo.rig.wiring import Feed

LO = Interface("lo", "127.0.0.1", "255.0.0.0")


def test_feeds_of_the_bench_become_streams_with_their_destinations(rig: Rig) -> None:
    heard = {"127.0.0.9": Heard("127.0.0.9", "X", ports=(HeardPort(1, 0, True, "artnet", 2),))}
    found = {s.id: s for s in streams_to_send(rig, LO, heard, {})}
    assert found["w1"].to == ("239.255.0.1",) and found["w2"].to == tuple(subscribed_nodes(heard, 2)) == ("127.0.0.9",)
    wide, _ = set_feed(rig, "w2", "", to="broadcast", sync=1, rule="bare")
    found = {s.id: s for s in streams_to_send(wide, LO, heard, {})}
    assert (found["w2"].to, found["w2"].sync_to, found["w2"].rule) == (
        ("127.255.255.255",),
        "127.255.255.255",
        "bare",
    )
    line, _ = put_entries(rig, "", feeds={"w1": Feed(universe="u1", sender="s", protocol="serial", wire=1, to="")})
    found = {s.id: s for s in streams_to_send(line, LO, heard, {}, Index(line), lines={"1": "/dev/x", "2": "/dev/y"})}
    assert isinstance(found["w1"], LineOut) and found["w1"].line == "/dev/x"
    found = {s.id: s for s in streams_to_send(line, LO, heard, {}, Index(line))}
    assert found["w1"].line == ""  # no port of this computer is chosen for it


def test_all_that_goes_to_one_ddp_box_is_one_stream_and_what_is_not_in_use_stays_dark(rig: Rig) -> None:
    feeds = {
        f"w{n}": Feed(universe=f"u{n}", sender="s", protocol="ddp", wire=1, to="127.0.0.70", rate=30) for n in (1, 2)
    }
    fed, _ = put_entries(rig, "", feeds=feeds)
    (box,) = streams_to_send(fed, LO, {}, {}, Index(fed))
    rows = rows_of(fed)
    assert (box.id, box.length, box.rate, box.to) == ("ddp 127.0.0.70 1", 1024, 30, ("127.0.0.70",))
    assert OctetPart(rows["u2"], 100, 30, 612) in box.parts and len(box.parts) == 4
    assert streams_to_send(fed, LO, {}, {}) == []  # without the index no stream can be put together
    used, change = change_show(fed, "", "", name="Matinee", universes_off=("u1",))
    key = change.made[0]
    used, _ = set_show(used, key)
    (box,) = streams_to_send(used, LO, {}, {}, Index(used))
    assert rows_in(box) == {rows["u2"]} and box.length == 1024  # every octet keeps its place
    nowhere, _ = put_entries(
        fed,
        "",
        feeds={k: Feed(universe=f.universe, sender="s", protocol="ddp", wire=1, to="") for k, f in feeds.items()},
    )
    assert streams_to_send(nowhere, LO, {}, {}, Index(nowhere)) == []


def test_one_wire_universe_is_one_stream_to_all_its_targets(rig: Rig) -> None:
    added, change = add_feed(rig, "u1", wire=1, sender="s")
    twice, _ = set_feed(added, change.made[0], "", to="127.0.0.9")
    (first, _) = streams_to_send(twice, LO, {}, {})
    assert first.to == ("239.255.0.1", "127.0.0.9") and len(first.feeds) == 2 and kept_back(twice) == {}
    made = first.feeds[1]
    other, _ = set_feed(twice, made, "", priority=90)
    assert kept_back(other) == {made: "sACN 1 goes out at priority 100 already, not at 90"}
    clash, change = add_feed(rig, "u2", wire=1, sender="s")
    assert kept_back(clash) == {change.made[0]: "sACN 1 carries universe 1 already"}
    assert [s.id for s in streams_to_send(clash, LO, {}, {})] == ["w1", "w2"]
