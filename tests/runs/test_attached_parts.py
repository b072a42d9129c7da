"""An element that is attached in part is gone on with where it was left off."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.survey.test_effects import rig_of_runs
from welvo.checks.checker import check_rig
from welvo.patch.index import Index
from welvo.patch.table import change_first
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Element, Place
from welvo.rig.wiring import Universe
from welvo.runs.along import pixel_places
from welvo.runs.cable import Cables
from welvo.runs.wish import attach_wish, read_attach


@pytest.fixture
def rig() -> Rig:
    """“long” has 100 pixels; the first 50 are on port 1, behind the bridge."""
    made, _ = put_entries(rig_of_runs(), "", elements={"l": Element(name="long", pixels=100, at=Place(from_run=True))})
    return attach_wish(made, "n", "1", "long 1-50")[0]


def parts(rig: Rig, port: str) -> list[tuple[int, int]]:
    return [(s.first, s.count) for s in rig.devices["n"].ports[port].run if s.element == "l"]


def test_the_name_alone_attaches_what_is_left(rig: Rig) -> None:
    assert parts(rig, "1") == [(1, 50)]
    made, _ = attach_wish(rig, "n", "2", "long")
    assert parts(made, "2") == [(51, 50)] and "RUN-16" not in {f.code for f in check_rig(made).findings}
    assert read_attach(rig, "n", "2", "long").says == "long 51–100 on port 2"
    places = {px: len(pixel_places(Cables(made), "l", px)) for px in (1, 50, 51, 100)}
    assert places == {1: 1, 50: 1, 51: 1, 100: 1}


def test_a_part_is_named_by_its_pixels(rig: Rig) -> None:
    made, _ = attach_wish(rig, "n", "2", "long 61–70")
    assert parts(made, "2") == [(61, 10)]
    rest, _ = attach_wish(made, "n", "2", "long")
    assert parts(rest, "2") == [(61, 10), (51, 10), (71, 30)]
    for wrong in ("long 51-101", "long 0-5", "long 9-3"):
        with pytest.raises(Refused, match="long has pixels 1 to 100"):
            attach_wish(rig, "n", "2", wrong)


def test_a_series_of_elements_counts_from_start_to_start() -> None:
    strips = {f"s{n}": Element(name=f"strip {n}", pixels=30) for n in range(5)}
    rig = Rig(universes={f"u{n}": Universe(number=n) for n in range(3, 9)}, elements=strips)

    def starts(text: str) -> list[tuple[int, int]]:
        index = Index(change_first(Index(rig), list(strips), text)[0])
        return [(index.rig.universes[s.universe].number, s.first) for k in strips for s in index.spans_of(k)[:1]]

    assert starts("3.1 +100") == [(3, 1), (3, 101), (3, 201), (3, 301), (3, 401)]
    assert starts("3.1 +600") == [(3, 1), (4, 89), (5, 177), (6, 265), (7, 353)]
    assert starts("3.301 +110") == [(3, 301), (3, 411), (4, 9), (4, 119), (4, 229)]
    long = replace(rig, elements={k: replace(e, pixels=200) for k, e in strips.items()})
    with pytest.raises(Refused, match="does not fit any more|found no place|fit"):
        change_first(Index(long), list(strips), "7.1 +700")
