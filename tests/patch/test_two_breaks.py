"""Lamps with two breaks in two universes: every act takes both along, each to its own universe."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from welvo.formats.chart import read_chart
from welvo.patch.adding import add_fixtures, read_wish
from welvo.patch.arrange import make_copies, swap_items
from welvo.patch.index import Index
from welvo.patch.laying import Laying, lay_out_tracks, take_layout
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.patched import Fixture, Place
from welvo.rig.profile import AddressSetting, Profile
from welvo.rig.wiring import Universe
from welvo.survey.place_ways import place_ways
from welvo.survey.target import of_item

HEAD = "break Move: pan, tilt, dimmer, shutter\nbreak Pixels: 4 x (red green blue)"


@pytest.fixture
def rig() -> Rig:
    """Two heads: four slots of movement in universe 2, twelve of pixels in universe 5."""
    at = lambda n: (Place(universe="u2", address=n), Place(universe="u5", address=100 + n))  # noqa: E731
    head = Fixture(number=1, name="Head 1", profile="p", mode="m", at=at(1))
    return Rig(
        profiles={"p": Profile(name="Head", modes={"m": read_chart(HEAD).mode_of_chart("m")},
                               address=AddressSetting(by="switches"))},
        universes={f"u{n}": Universe(number=n) for n in (1, 2, 5, 6)},
        fixtures={"a": head, "b": replace(head, number=2, name="Head 2", at=at(41))},
    )  # fmt: skip


def starts(rig: Rig, *keys: str) -> list[list[str]]:
    index = Index(rig)
    found = []
    for key in keys:
        spans = [index.span_of_break(key, b) for b in (0, 1)]
        found.append([f"{s.universe[1:]}.{s.first}" if s else "–" for s in spans])
    return found


def test_swapping_takes_both_breaks(rig: Rig) -> None:
    swapped, _ = swap_items(Index(rig), ("a", 0), ("b", 0))
    assert starts(swapped, "a", "b") == [["2.41", "5.141"], ["2.1", "5.101"]]


def test_copies_stay_in_the_universes_of_their_originals(rig: Rig) -> None:
    (made, change), left = make_copies(Index(rig), ["a", "b"], 2)
    assert not left and [p[0].split(".")[0] for p in starts(made, *change.made)] == ["2"] * 4
    assert {p[1].split(".")[0] for p in starts(made, *change.made)} == {"5"}
    assert not Index(made).universes_with_overlaps()


def test_laying_out_keeps_the_second_break_where_it_belongs(rig: Rig) -> None:
    keys = [(k, b) for k in "ab" for b in (0, 1)]
    laid = lay_out_tracks(Index(rig), keys, Laying(("u1", 100), "spacing", 8))
    made, _ = take_layout(rig, laid)
    assert starts(made, "a", "b") == [["1.100", "5.101"], ["1.108", "5.113"]]  # pixels packed: 8 is too little for them
    one = replace(rig.fixtures["a"], at=(Place(universe="u2", address=1), Place(universe="u2", address=5)))
    together = replace(rig, fixtures={"a": one})
    made, _ = take_layout(together, lay_out_tracks(Index(together), [("a", 0), ("a", 1)], Laying(("u1", 1))))
    assert starts(made, "a") == [["1.1", "1.5"]]  # what stood together stays together


def test_adding_takes_an_address_for_each_break(rig: Rig) -> None:
    wish = read_wish(rig, "3 x Head at 6.1, 1.100")
    made, change = add_fixtures(Index(rig), wish)
    assert starts(made, *change.made) == [["6.1", "1.100"], ["6.5", "1.112"], ["6.9", "1.124"]]
    fresh, change = add_fixtures(Index(rig), read_wish(rig, "2 x Head at 7.1, 8.1 +20"))
    assert starts(fresh, *change.made) != [] and {u.number for u in fresh.universes.values()} >= {7, 8}
    with pytest.raises(Refused, match="3 addresses for 2 breaks of Head"):
        add_fixtures(Index(rig), read_wish(rig, "2 x Head at 7.1, 8.1, 9.1"))


def test_what_is_set_on_it_is_said_for_both(rig: Rig) -> None:
    index = Index(rig)
    ways = dict(place_ways(index, of_item(index, "b")))
    assert "41" in ways["Set on it · Move"] or ways["Set on it · Move"]
    assert {k for k in ways if k.startswith("Set on it")} == {"Set on it · Move", "Set on it · Pixels"}
