"""What gear keeps for a scene, and what each contact of a gateway does: lists that are sorted, copied and exported."""

from __future__ import annotations

from collections.abc import Iterable

from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.buses.inputs import ContactInput, truth_table
from welvo.matching.gear import GearPlace, say_level
from welvo.protocols.dali import MASK


def planned_level(place: GearPlace, scene: int) -> str:
    """The planned level as it is typed: a number, `none` for gear that is no part of the scene, empty for no plan."""
    planned = dict(place.planned.scenes).get(scene) if place.planned else None
    return "" if planned is None else "none" if planned == MASK else str(planned)


def _row_of_place(place: GearPlace, scene: int) -> ListRow:
    planned = dict(place.planned.scenes).get(scene) if place.planned else None
    stored = place.seen.scenes[scene] if place.seen and place.seen.scenes else None
    if planned is None:
        mark = "silent"
    elif stored is None:
        mark = "unknown"
    else:
        mark = "matches" if planned == stored else "differs"
    now = place.seen.level if place.seen else -1
    cells = (
        f"{place.at}  {place.planned.name if place.planned else ''}".strip(),
        say_level(now) if place.seen else "–",
        planned_level(place, scene),
        mark,
        "–" if stored is None else say_level(stored, "not part of it"),
    )
    ranks = (place.at, now, -1 if planned is None else planned, mark, -1 if stored is None else stored)
    return ListRow(place.at, cells, ranks, bold=mark == "differs")


class SceneList(RowList):
    """The gear of a bus with its levels for one scene: now, planned, stored."""

    def __init__(self) -> None:
        heads = (
            Column("Gear", 140),
            Column("Level now", 98),
            Column("Plan", 56, "number"),
            Column("", 28, "mark"),
            Column("Stored", 130),
        )
        super().__init__("Levels of the scene", heads)

    def show_scene(self, places: Iterable[GearPlace], scene: int, chosen: int) -> None:
        self.show_lines([_row_of_place(p, scene) for p in places], chosen if chosen >= 0 else None)


class InputList(RowList):
    """Every state of every contact, a broken wire included, with what follows from it."""

    def __init__(self) -> None:
        heads = (
            Column("Input", 70),
            Column("", 26, "mark"),
            Column("Contact", 128),
            Column("What follows", 140),
            Column("Remark", 120),
        )
        super().__init__("What each contact does", heads)

    def show_inputs(self, inputs: Iterable[ContactInput]) -> None:
        rows = []
        for i in inputs:
            for n, case in enumerate(truth_table(i)):
                contact = f"{case.what}, {case.loop}" if case.loop in ("open", "closed") else case.what
                mark = "matches" if case.good else "warning"
                cells = (f"{i.number} · {i.use}", mark, contact, case.does, case.remark)
                rows.append(ListRow((i.number, n), cells, (i.number, *cells[1:])))
        self.show_lines(rows)
