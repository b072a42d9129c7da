"""Rows to and from a spreadsheet: copied with their headings, pasted by number, and said before it is done."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from msgspec.structs import replace

from welvo.patch.index import Index
from welvo.patch.table import cell, columns, read_mode, read_spot, read_turns, title
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Change, Rig, fresh_id, put
from welvo.rig.lookup import universe_ids
from welvo.rig.notation import plural, read_place
from welvo.rig.patched import Fixture, Place
from welvo.rig.readers import whole
from welvo.rig.wiring import Universe

ALIASES = {
    "number": ("no", "no.", "nr", "nr.", "number", "num", "id", "channel", "unit", "fixture"),
    "name": ("name", "label", "description"),
    "profile": ("profile", "type", "fixture type", "model", "profile · mode"),
    "mode": ("mode", "personality"),
    "universe": ("universe", "uni", "univ"),
    "break": ("break",),
    "first": ("first", "address", "addr", "dmx", "start", "dmx address", "patch"),
    "groups": ("groups", "group"),
    "turns": ("turned", "turns"),
    "spot": ("spot", "position"),
    "note": ("remark", "note", "notes", "comment"),
    "last": ("last",),
    "slots": ("slots", "footprint"),
}
NOT_READ = ("last", "slots", "break")


def cells_of(index: Index, keys: Sequence[str]) -> list[list[str]]:
    """Headings and rows of items, as `paste` reads them back."""
    shown = columns(index.rig)
    return [[title(c) for c in shown], *([cell(index, key, c) for c in shown] for key in keys)]


def read_cells(text: str) -> list[list[str]]:
    """Rows of cells between tabs, semicolons or commas, whichever the first line has."""
    lines = text.replace("\r\n", "\n").replace("\r", "\n").strip("\n")
    if not lines.strip():
        raise Refused("There is nothing to paste.")
    head = lines.split("\n", 1)[0]
    mark = next((m for m in ("\t", ";", ",") if m in head), "\t")
    try:
        rows = [[c.strip() for c in row] for row in csv.reader(io.StringIO(lines), delimiter=mark)]
    except csv.Error as e:
        raise Refused(f"This cannot be read as a table: {e}.") from None
    rows = [r for r in rows if any(r)]
    if len(rows) > 20_000:
        raise Refused(f"{plural(len(rows), 'row')} are more than 20 000; paste them in parts.")
    return rows


@dataclass(frozen=True)
class Pasted:
    """What a paste would do: the new rig, how many rows are new and changed, what was left out and why."""

    rig: Rig
    change: Change
    new: tuple[str, ...] = ()
    changed: tuple[str, ...] = ()
    same: int = 0
    refused: tuple[str, ...] = ()
    unread: tuple[str, ...] = ()


@dataclass
class _Pasting:
    rig: Rig
    fixtures: dict[str, Fixture] = field(default_factory=dict)
    universes: dict[str, Universe] = field(default_factory=dict)
    groups: list[tuple[str, str]] = field(default_factory=list)


def paste(index: Index, text: str) -> Pasted:
    """Rows with headings, matched by number: known numbers are changed, new ones added. Nothing else is touched.

    Raises Refused when there are no headings to go by.
    """
    rig = index.rig
    rows = read_cells(text)
    own = {c.lower(): f"own:{c}" for c in rig.columns}
    known = {alias: column for column, aliases in ALIASES.items() for alias in aliases} | own
    heads = [known.get(h.lower(), "") for h in rows[0]]
    if "number" not in heads or len({h for h in heads if h}) < 2:
        raise Refused(
            "The first row must hold headings, with the number among them: No., Name, Profile, Mode, Universe, "
            "Address …"
        )
    at = _Pasting(rig)
    by_number = {f.number: fid for fid, f in rig.fixtures.items()}
    uni_by_number = universe_ids(rig)
    new: list[str] = []
    touched: list[str] = []
    refused: list[str] = []
    same = 0
    seen: set[int] = set()
    for n, row in enumerate(rows[1:], 2):
        cells = {h: row[i] for i, h in enumerate(heads) if h and i < len(row)}
        try:
            if cells.get("number", "") in ("", "–"):
                raise Refused("it has no number")
            number = whole(cells["number"], 1, 999_999)
            if number in seen:
                raise Refused(f"number {number} stands in the table twice")
            seen.add(number)
            fid = by_number.get(number, "")
            made = _read_row(at, cells, number, rig.fixtures.get(fid), uni_by_number)
            if fid and made == rig.fixtures[fid] and not _regrouped(rig, fid, cells.get("groups")):
                same += 1
                continue
            if not fid:
                fid = fresh_id({**rig.fixtures, **at.fixtures}, "f")
                new.append(fid)
            else:
                touched.append(fid)
            at.fixtures[fid] = made
            if "groups" in cells:
                at.groups.append((fid, cells["groups"]))
        except Refused as e:
            refused.append(f"row {n}: {e}")
    label = f"paste {plural(len(at.fixtures), 'row')}"
    made_rig, change = put(rig, label, fixtures=at.fixtures, universes=at.universes)
    groups: frozenset[str] = frozenset()
    for fid, names in at.groups:
        made_rig, more = edits.put_in_groups(made_rig, [fid], [w for w in names.split(",") if w.strip()])
        groups |= more.ids("groups")
    if groups:
        change = Change(label, {**change.touched, "groups": groups})
    unread = tuple(rows[0][i] for i, h in enumerate(heads) if (not h or h in NOT_READ) and rows[0][i])
    return Pasted(made_rig, change, tuple(new), tuple(touched), same, tuple(refused), unread)


def _regrouped(rig: Rig, fid: str, typed: str | None) -> bool:
    if typed is None:
        return False
    return {w.strip().lower() for w in typed.split(",") if w.strip()} != {g.lower() for g in edits.groups_of(rig, fid)}


def _read_row(
    at: _Pasting, cells: dict[str, str], number: int, old: Fixture | None, numbers: dict[int, str]
) -> Fixture:
    rig = at.rig
    if old is None:
        words = cells.get("profile", "")
        if not words:
            raise Refused(f"{number} is new and has no profile")
        mode = cells.get("mode", "")
        pid, mid = read_mode(rig, f"{words} ({mode})" if mode and "·" not in words and "(" not in words else words)
        old = Fixture(number=number, name=rig.profiles[pid].name, profile=pid, mode=mid)
    elif cells.get("profile") or cells.get("mode"):
        words, mode = cells.get("profile", ""), cells.get("mode", "")
        text = f"{words} ({mode})" if words and mode and "·" not in words and "(" not in words else words or mode
        pid, mid = read_mode(rig, text, old.profile)
        if (pid, mid) != (old.profile, old.mode) and (mode or words.lower() != rig.profiles[old.profile].name.lower()):
            old = replace(old, profile=pid, mode=mid)
    fields: dict[str, Any] = {}
    if "name" in cells:
        fields["name"] = cells["name"] or old.name
    if "note" in cells:
        fields["note"] = cells["note"]
    if "turns" in cells:
        fields["turns"] = read_turns(cells["turns"])
    if "spot" in cells:
        fields["spot"] = read_spot(cells["spot"])
    own = {h[4:]: v for h, v in cells.items() if h.startswith("own:")}
    if own:
        fields["fields"] = {k: v for k, v in {**old.fields, **own}.items() if v}
    if "first" in cells or "universe" in cells:
        fields["at"] = _read_places(at, cells.get("first", ""), cells.get("universe", ""), old, numbers)
    return replace(old, **fields)


def _read_places(at: _Pasting, text: str, universe: str, old: Fixture, numbers: dict[int, str]) -> tuple[Place, ...]:
    """Places of the breaks out of `3.045`, or 45 beside a universe of 3; what is unchanged keeps its anchor and
    lock."""
    if text in ("", "not patched"):
        return old.at if not text else ()
    places: list[Place] = []
    for break_no, part in enumerate(p.strip() for p in text.split(",")):
        if part in ("–", "-", ""):
            places.append(Place())
            continue
        number, address = read_place(part if re.search(r"[./]", part) or not universe else f"{universe}.{part}")
        uid = numbers.get(number)
        if uid is None:
            uid = fresh_id({**at.rig.universes, **at.universes}, "u")
            at.universes[uid] = Universe(number=number)
            numbers[number] = uid
        before = old.place(break_no)
        if before.origin in ("anchored", "run") and (uid, address) == _where(at, old, break_no):
            places.append(before)
            continue
        if before.locked and (before.universe, before.address) != (uid, address):
            raise Refused(f"{old.number} is locked at another address")
        places.append(Place(universe=uid, address=address, locked=before.locked))
    return tuple(places)


def _where(at: _Pasting, old: Fixture, break_no: int) -> tuple[str, int] | None:
    from welvo.patch.resolve import Resolver

    key = next((k for k, f in at.rig.fixtures.items() if f is old or f.number == old.number), "")
    return Resolver(at.rig).start(key, break_no) if key else None
