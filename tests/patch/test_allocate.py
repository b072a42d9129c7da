from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import profile
from welvo.patch.adding import AddWish, add_fixtures, fit_from, patch_series, read_wish
from welvo.patch.index import Index
from welvo.patch.landing import foresee_landing
from welvo.patch.laying import Laying, lay_out_items, next_free
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Element, Fixture, Place
from welvo.rig.wiring import Device, DeviceModel, Port, Universe


def starts(rig: Rig, *keys: str) -> list[tuple[int, int]]:
    index = Index(rig)
    return [(rig.universes[s.universe].number, s.first) for k in keys for s in index.spans_of(k)]


def test_the_next_free_place_is_the_first_that_holds_it_whole(rig: Rig) -> None:
    index = Index(rig)
    assert next_free(index, 8, "u1") == ("u1", 17) and next_free(index, 8, "u2") == ("u2", 15)
    assert next_free(index, 87, "u2") == ("u2", 131)
    assert next_free(index, 496, "u1") == ("u1", 17)
    assert next_free(index, 497, "u1") is None and next_free(index, 600, "u1") is None
    assert next_free(index, 8, "u1", moving=frozenset({("a", 0)})) == ("u1", 1)
    assert next_free(index, 8, "u1", highest=16) == ("u2", 15)  # 1.017 is too high a start: on in the next universe
    assert next_free(Index(Rig()), 1) is None


@settings(max_examples=100, deadline=None)
@given(
    st.lists(st.tuples(st.integers(1, 512), st.integers(1, 60)), max_size=12), st.integers(1, 80), st.integers(1, 512)
)
def test_the_next_free_place_agrees_with_looking_slot_by_slot(
    taken: list[tuple[int, int]], width: int, start: int
) -> None:
    elements = {
        f"e{n}": Element(
            name=str(n), kind="block", slots=min(w, 513 - a), whole=False, at=Place(universe="u1", address=a)
        )
        for n, (a, w) in enumerate(taken)
    }
    index = Index(Rig(universes={"u1": Universe(number=1)}, elements=elements))
    busy = {s for a, w in taken for s in range(a, a + w)}
    wanted = next((s for s in range(start, 514 - width) if not busy & set(range(s, s + width))), None)
    assert next_free(index, width, "u1", start) == (wanted and ("u1", wanted))


def test_series_in_every_writing(rig: Rig) -> None:
    keys = [("a", 0), ("b", 0)]
    index = Index(rig)
    assert starts(patch_series(index, keys, "2.200")[0], "a", "b") == [(2, 200), (2, 208)]
    assert starts(patch_series(index, keys, "2.200 +20")[0], "a", "b") == [(2, 200), (2, 220)]
    assert starts(patch_series(index, keys, "2.200 gap 2")[0], "a", "b") == [(2, 200), (2, 210)]
    assert starts(patch_series(index, keys, "1.500 +10")[0], "a", "b") == [(1, 500), (2, 1)]  # 510 + 7 is past 512
    assert starts(patch_series(index, [("c", 0)], "free")[0], "c") == [(1, 17)]


def test_typing_goes_by_the_same_limits_as_laying_out(rig: Rig) -> None:
    """Eight of 40 slots on a port of 256: six fit behind each other, two go on in the next universe, by either way."""
    model = DeviceModel(name="Short node", ports=("A",), slots_per_port=256)
    node = Device(name="N", model="m", ports={"A": Port(feed="w1")})
    bars = {f"b{n}": Fixture(number=200 + n, profile="bar40", mode="m") for n in range(8)}
    made, _ = put_entries(
        rig, "", device_models={"m": model}, devices={**dict.fromkeys(rig.devices), "n": node},
        fixtures={**dict.fromkeys(rig.fixtures), **bars}, profiles={"bar40": profile("Bar 40", "40 x (dimmer)")},
    )  # fmt: skip
    keys = [(k, 0) for k in bars]
    typed, _ = patch_series(Index(made), keys, "1.1")
    assert starts(typed, *bars) == [(1, 1 + 40 * n) for n in range(6)] + [(2, 1), (2, 41)]
    laid = lay_out_items(Index(made), keys, Laying(("u1", 1), over=True))
    assert [(made.universes[s.universe].number, s.address) for s in laid.steps] == starts(typed, *bars)
    with pytest.raises(Refused, match="past 256 .port A of N puts out 256.. The highest start is 217"):
        patch_series(Index(made), keys[:1], "1.218")


def test_a_typed_start_is_taken_as_it_is_typed_and_a_spacing_below_the_footprint_is_refused(rig: Rig) -> None:
    over, _ = patch_series(
        Index(rig), [("a", 0), ("b", 0)], "2.10 +8"
    )  # the ribbon is there: a clash, and shown as one
    assert starts(over, "a", "b") == [(2, 10), (2, 18)] and "u2" in Index(over).universes_with_overlaps()
    with pytest.raises(Refused, match=r"A spacing of 7 is less than the 8 slots one takes.*Write \+8"):
        patch_series(Index(rig), [("a", 0), ("b", 0)], "2.200 +7")


@pytest.mark.parametrize(
    ("start", "width", "fit"),
    [
        ("1.1 +40", 38, 12),  # the twelfth starts at 441 and ends at 478; the thirteenth would end at 518
        ("1.1", 38, 13), ("1.500", 8, 1), ("1.506", 8, 0), ("1.505", 8, 1), ("9.1", 38, 13), ("1.1 gap 2", 8, 51),
    ],
)  # fmt: skip
def test_how_many_fit_from_a_typed_start_is_exact_to_one_slot(rig: Rig, start: str, width: int, fit: int) -> None:
    assert fit_from(Index(rig), width, start) == fit


def test_free_places_do_not_overlap_each_other(rig: Rig) -> None:
    new, change = patch_series(Index(rig), [("c", 0), ("a", 0), ("b", 0)], "free")
    assert Index(new).universes_with_overlaps() == set() and change.changed_ids("fixtures") == {"a", "b", "c"}


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ("3.1", "no universe 3"), ("1.506", "highest start is 505"), ("1.513", "no address 513"),
        ("0.1", "no universe 0"), ("x", "no address"),
    ],
)  # fmt: skip
def test_places_that_cannot_be_are_refused(rig: Rig, typed: str, says: str) -> None:
    with pytest.raises(Refused, match=says):
        patch_series(Index(rig), [("a", 0)], typed)


def test_when_the_universes_run_out_it_says_how_many_fit(rig: Rig) -> None:
    with pytest.raises(Refused, match="1 of 3 fit. Add universe 3"):
        patch_series(Index(rig), [("a", 0), ("b", 0), ("c", 0)], "2.500 +14")


def test_a_landing_says_whom_it_would_meet(rig: Rig) -> None:
    index = Index(rig)
    clean = foresee_landing(index, "a", 0, "u2", 20)
    assert clean.is_clean and (clean.first, clean.last, clean.free_before, clean.free_after) == (20, 27, 5, 73)
    meets = foresee_landing(index, "a", 0, "u2", 10)
    assert meets.meets == (("c", "u2", 10, 14),) and not meets.is_clean
    assert foresee_landing(index, "a", 0, "u1", 508).past_end == 3
    locked, _ = edits.set_fixtures(rig, "", {"a": {"at": (Place(universe="u1", address=1, locked=True),)}})
    assert "locked" in foresee_landing(Index(locked), "a", 0, "u1", 100).refused


def test_wishes_are_read_as_they_are_said(rig: Rig) -> None:
    wish = read_wish(rig, "12 x Bar at 1.001 +40")
    assert (wish.count, wish.profile, wish.mode, wish.start) == (12, "bar", "m", "1.001 +40")
    assert read_wish(rig, "head").count == 1 and read_wish(rig, "2 × Head (only)").mode == "m"
    for bad, says in (
        ("", "how many"),
        ("3 x Hed", "Did you mean Head"),
        ("0 x Head", "between 1"),
        ("Head (22)", "has no mode"),
    ):
        with pytest.raises(Refused, match=says):
            read_wish(rig, bad)


def test_adding_numbers_names_and_places_many_at_once(rig: Rig) -> None:
    new, change = add_fixtures(Index(rig), read_wish(rig, "3 x Head at 4.1 +10"), 301, "Wing #")
    made = list(change.made)
    assert [new.fixtures[k].number for k in made] == [301, 302, 303] and new.fixtures[made[2]].name == "Wing 3"
    assert (
        starts(new, *made) == [(4, 1), (4, 11), (4, 21)] and len(change.changed_ids("universes")) == 1
    )  # universe 4 was made
    with pytest.raises(Refused, match="101 is taken"):
        add_fixtures(Index(rig), read_wish(rig, "2 x Head"), 100)


def test_adding_to_an_empty_rig_makes_its_first_universe(rig: Rig) -> None:
    bare = Rig(profiles=dict(rig.profiles))
    new, change = add_fixtures(Index(bare), read_wish(bare, "2 x Head at free"))
    made = list(change.made)
    assert starts(new, *made) == [(1, 1), (1, 9)]


def test_every_break_is_placed(rig: Rig) -> None:
    from tests.conftest import profile

    split, _ = put_entries(
        rig, "", profiles={"split": profile("Split", "break head: pan, tilt\nbreak pixels: 4 x (red green blue)")}
    )
    new, change = add_fixtures(Index(split), read_wish(split, "2 x Split at 1.100 +2"))
    made = list(change.made)
    index = Index(new)
    assert [(s.break_no, s.first) for s in index.spans_of(made[0])] == [
        (0, 100),
        (1, 17),
    ] and index.universes_with_overlaps() == set()


def test_two_breaks_never_land_on_each_other(rig: Rig) -> None:
    split = replace(
        rig,
        profiles={"split": profile("Split", "break head: pan, tilt\nbreak pixels: 4 x (red)")},
        fixtures={},
        elements={},
        shares={},
    )
    made, change = add_fixtures(Index(split), AddWish(200, "split", "m", "1.1"))
    keys = list(change.made)
    index = Index(made)
    assert (
        not index.universes_with_overlaps() and not index.open and len(keys) == 200
    )  # 400 slots of heads, 800 of pixels: a third universe
    assert [u.number for u in made.universes.values()] == [1, 2, 3] and change.changed_ids("universes") == set(
        made.universes
    ) - set(split.universes)
