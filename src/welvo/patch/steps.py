"""One line of a layout: which break of an item goes where; and the edit that does a list of them."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.edits import with_place
from welvo.rig.lookup import mode_of
from welvo.rig.patched import Element, Fixture, Place

Breaks = frozenset[tuple[str, int]]
"""Breaks of items that are on the move, so that their present places do not count as taken."""


class PatchStep(Struct, frozen=True):
    """One line of a preview: what moves from where to where."""

    key: str
    break_no: int
    universe: str
    address: int


def footprint_of(rig: Rig, key: str, break_no: int = 0) -> int:
    fixture = rig.fixtures.get(key)
    if fixture:
        mode = mode_of(rig, fixture)
        return mode.breaks[break_no].slots if mode and break_no < len(mode.breaks) else 0
    element: Element | None = rig.elements.get(key)
    return element.slots_needed if element else 0


def place_of(rig: Rig, key: str, break_no: int) -> Place:
    fixture = rig.fixtures.get(key)
    return fixture.place_of_break(break_no) if fixture else rig.elements[key].at


def is_locked(rig: Rig, key: str, break_no: int) -> bool:
    return place_of(rig, key, break_no).locked


def apply_steps(rig: Rig, steps: list[PatchStep], label: str) -> Edit:
    fixtures: dict[str, Fixture] = {}
    elements: dict[str, Element] = {}
    for step in steps:
        place = Place(universe=step.universe, address=step.address)
        if step.key in rig.elements:
            elements[step.key] = replace(rig.elements[step.key], at=place)
        else:
            old = fixtures.get(step.key, rig.fixtures[step.key])
            fixtures[step.key] = replace(old, at=with_place(old, step.break_no, place))
    return put_entries(rig, label, fixtures=fixtures, elements=elements)
