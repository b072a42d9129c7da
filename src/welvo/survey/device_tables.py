"""The tables of a device's own pages, worked out from the plan in its own counting; and a table of its pages held
against them.

What is typed off a page, or pasted from it, need not have every column: those that carry the same heading are compared,
row by row. The first row that differs is what everything behind it is shifted by, so that one is named, with a slot
worked out at both ends.
"""

from __future__ import annotations

import csv
import io

from msgspec import Struct

from welvo.matching.planned import feed_at, full_plan, segments_of
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.lookup import running_number, universe_by_number
from welvo.rig.notation import say_place, say_thousands
from welvo.rig.plan import model_of, segment_owner, setting_key
from welvo.rig.protocol import USUAL
from welvo.rig.refs import PortRef
from welvo.runs.pixels import universes_of
from welvo.settings.card import as_on_page

KINDS = {"universes": "Universes", "ports": "Ports", "segments": "Segments"}
MOST_ROWS = 20_000


class Table(Struct, frozen=True):
    """Headings, and rows of what stands in each cell."""

    heads: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]

    def write_csv(self) -> str:
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(self.heads)
        writer.writerows(self.rows)
        return out.getvalue()


def device_table(index: Index, device_id: str, kind: str) -> Table:
    """One of the tables `universes`, `ports` and `segments`."""
    return {"universes": _universes_table, "ports": _ports_table, "segments": _segments_table}[kind](index, device_id)


def _universes_table(index: Index, device_id: str) -> Table:
    rig = index.rig
    model = model_of(rig, device_id)
    rows = []
    for n, (number, last) in enumerate(universes_of(index.cables_and_sums, device_id).items(), 1):
        uid = universe_by_number(rig, number)
        feed = feed_at(rig, number, None)
        size = rig.universes[uid].size if uid else 512
        spec = next((s for s in model.settings if s.type == "universe"), None) if model else None
        wire = as_on_page(model, spec, feed.wire, feed.protocol) if model and spec and feed else "–"
        rows.append((str(n), wire, feed.protocol if feed else "–", str(size), str(last)))
    return Table(("row", "universe", "protocol", "slots", "used to"), tuple(rows))


def _ports_table(index: Index, device_id: str) -> Table:
    return _of_plan(index, device_id, "port")


def _segments_table(index: Index, device_id: str) -> Table:
    return _of_plan(index, device_id, "segment")


def _of_plan(index: Index, device_id: str, scope: str) -> Table:
    rig = index.rig
    model = model_of(rig, device_id)
    if model is None:
        return Table((), ())
    plan = full_plan(index, device_id)
    specs = [s for s in model.settings if s.scope == scope]
    rows = []
    for label in model.ports:
        stream = index.cables_and_sums.streams.get(PortRef(device_id, label))
        owners = [label] if scope == "port" else []
        if scope == "segment" and stream:
            owners = [segment_owner(label, s.number) for s in segments_of(stream)]
        protocol = str(plan.get(setting_key(label, "protocol"), USUAL))
        for owner in owners:
            cells = [as_on_page(model, s, plan.get(setting_key(owner, s.key)), protocol) for s in specs]
            if any(c != "—" for c in cells):
                rows.append((owner, *cells))
    return Table((scope, *(s.label for s in specs)), tuple(rows))


def read_table(text: str) -> Table:
    """A table as it was pasted or stands in a CSV file: tabs, semicolons or commas between cells, headings first."""
    lines = [line for line in text.replace("\r\n", "\n").replace("\r", "\n").split("\n") if line.strip()]
    if len(lines) < 2:
        raise Refused("A table needs a line of headings and at least one row.")
    if len(lines) > MOST_ROWS:
        raise Refused(f"{say_thousands(len(lines))} rows are more than any device's page has.")
    between = next((c for c in "\t;," if c in lines[0]), ",")
    cells = [tuple(c.strip() for c in row) for row in csv.reader(lines, delimiter=between)]
    heads = cells[0]
    if len({h.lower() for h in heads if h}) < len([h for h in heads if h]):
        raise Refused("Two columns carry one heading.")
    return Table(heads, tuple(row + ("",) * (len(heads) - len(row)) for row in cells[1:]))


class Off(Struct, frozen=True):
    """The first place where a table of the device's pages differs from the plan."""

    row: int
    column: str
    plan: str
    has: str
    landmark: str = ""
    """One slot worked out at both ends; empty where the difference shifts nothing."""


def first_difference(planned: Table, typed: Table) -> Off | None:
    """Row (from 1) and column of the first cell that differs; None: everything that both have is equal.

    Raises Refused where the two have no column in common.
    """
    names = {h.lower(): n for n, h in enumerate(planned.heads) if h}
    common = [(n, names[h.lower()]) for n, h in enumerate(typed.heads) if h.lower() in names]
    if not common:
        raise Refused(f"None of the headings is one of {', '.join(planned.heads)}.")
    for n in range(max(len(planned.rows), len(typed.rows))):
        if n >= len(typed.rows):
            return Off(n + 1, planned.heads[0], planned.rows[n][0], "no such row")
        if n >= len(planned.rows):
            return Off(n + 1, planned.heads[0], "no such row", typed.rows[n][0])
        for theirs, ours in common:
            want, has = planned.rows[n][ours], typed.rows[n][theirs]
            if not _are_equal_cells(want, has):
                return Off(n + 1, planned.heads[ours], want, has)
    return None


def _are_equal_cells(want: str, has: str) -> bool:
    def plain(text: str) -> str:
        words = text.replace("\u202f", "").replace(" ", "").lower().removesuffix("%")
        return {"—": "", "–": "", "off": "0", "no": "0", "false": "0", "on": "1", "yes": "1", "true": "1"}.get(
            words, words
        )

    return plain(want) == plain(has)


def hold_against_plan(index: Index, device_id: str, kind: str, typed: Table) -> Off | None:
    """A table of the device's pages held against the plan, with a landmark where universes have other sizes."""
    planned = device_table(index, device_id, kind)
    found = first_difference(planned, typed)
    if found is None or kind != "universes" or found.column != "slots" or not found.has.isdecimal():
        return found
    numbers = list(universes_of(index.cables_and_sums, device_id))
    behind = numbers[found.row] if found.row < len(numbers) else 0
    if not behind:
        return found
    sizes = {h.lower(): n for n, h in enumerate(typed.heads)}
    theirs = [int(r[sizes["slots"]]) for r in typed.rows[: found.row] if r[sizes["slots"]].isdecimal()]
    first = numbers[0]
    here = running_number(index.rig, behind, 1) - running_number(index.rig, first, 1) + 1
    there = sum(theirs) + 1
    words = (
        f"{say_place(behind, 1)} is running slot {say_thousands(here)} of this device here and "
        f"{say_thousands(there)} there: "
        f"{abs(here - there)} slots {'early' if there < here else 'late'}"
    )
    return Off(found.row, found.column, found.plan, found.has, words)
