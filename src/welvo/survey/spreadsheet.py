"""Rows to and from a spreadsheet: copied with their headings, taken in by number, and said before it is done.

Somebody else's table has other headings and other names for lamps. So a table is taken in by a mapping: which of its
columns is which of ours, and which of its types is which mode of which profile. It is guessed from words that tables
use, shown, and changed by hand; the same mapping then does for the next table of that kind.

A universe and an address stand in two columns on the way out: one cell of `3.100` would come back from a spreadsheet as
3.1, and nobody could tell that it was another lamp's place.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Collection, Sequence
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import replace

from welvo.patch.index import Index
from welvo.patch.positions import read_spot
from welvo.patch.table import keys_of_columns, read_mode, read_turns, text_of_cell, title_of_column
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig, fresh_ids, join_changes, put_entries, put_rig
from welvo.rig.lookup import mode_of, universe_ids
from welvo.rig.notation import read_place, say_count
from welvo.rig.patched import NOWHERE, Element, Fixture, Place
from welvo.rig.profile import Break, Mode, Profile
from welvo.rig.readers import read_whole_number
from welvo.rig.steps import take_step
from welvo.rig.wiring import Universe
from welvo.survey.compare import say_start
from welvo.survey.effects import effects_between, order_of_name

ALIASES = {
    "number": (
        "no",
        "no.",
        "nr",
        "nr.",
        "number",
        "num",
        "id",
        "channel",
        "unit",
        "fixture",
        "unit number",
        "fixture no",
        "fid",
    ),
    "name": ("name", "label", "description"),
    "profile": ("profile", "type", "fixture type", "model", "profile · mode", "instrument", "lamp"),
    "mode": ("mode", "personality", "dmx mode"),
    "universe": ("universe", "uni", "univ", "dmx universe", "u"),
    "break": ("break",),
    "first": (
        "first",
        "address",
        "addr",
        "dmx",
        "start",
        "dmx address",
        "patch",
        "dmx start",
        "start address",
        "channel start",
    ),
    "groups": ("groups", "group"),
    "turns": ("turned", "turns"),
    "spot": ("spot", "position"),
    "note": ("remark", "note", "notes", "comment", "comments", "remarks"),
    "last": ("last",),
    "slots": ("slots", "footprint", "channels", "dmx channels", "num channels"),
}
"""Headings that tables use, in small letters, for each of our columns."""
DRAFT = "draft"
"""A type that becomes a new profile without channels, as wide as its footprint says."""


def cells_of_items(index: Index, keys: Sequence[str]) -> list[list[str]]:
    """Headings and rows of items, as they come back: universe and address in columns of their own."""
    shown = keys_of_columns(index.rig)
    heads = [w for c in shown for w in (("Universe", "Address") if c == "first" else (title_of_column(c),))]
    rows = []
    for key in keys:
        row: list[str] = []
        for c in shown:
            if c == "first":
                row += _two_cells(index, key)
            elif c == "last":
                spans = index.spans_of(key)
                row.append(str(spans[-1].last) if spans else "")
            else:
                row.append(text_of_cell(index, key, c))
        rows.append(row)
    return [heads, *rows]


def _two_cells(index: Index, key: str) -> tuple[str, str]:
    rig = index.rig
    spans = index.spans_of(key)
    fixture = rig.fixtures.get(key)
    mode = mode_of(rig, fixture) if fixture else None
    if (mode and len(mode.breaks) > 1) or not spans:
        return "", text_of_cell(index, key, "first")
    return str(rig.universes[spans[0].universe].number), str(spans[0].first)


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
        raise Refused(f"{say_count(len(rows), 'row')} are more than 20 000; paste them in parts.")
    return rows


State = Literal["new", "changed", "same", "refused"]


class Row(Struct, frozen=True):
    """What becomes of one row of a table: `n` is its place in it, from 2 (1 are the headings). `meets` names those that
    it would stand on top of."""

    n: int
    state: State
    who: str
    before: str = ""
    after: str = ""
    why: str = ""
    key: str = ""
    meets: tuple[str, ...] = ()


class Mapping(Struct, frozen=True):
    """Which of our columns each column of a table is (empty: not read; `own:NAME` may be a new one), and which mode
    each type is that the rig does not know: `profile id, tab, mode id`, or DRAFT."""

    columns: tuple[str, ...]
    types: dict[str, str] = {}


class Pasted(Struct, frozen=True):
    """What taking a table in would do: the new rig, row by row what becomes of it, and which headings are not read."""

    rig: Rig
    change: Change
    rows: tuple[Row, ...] = ()
    unread: tuple[str, ...] = ()
    unknown: tuple[tuple[str, int], ...] = ()
    """Types that the rig has no profile for, with how many rows are of them."""

    def rows_in_state(self, state: State) -> list[Row]:
        return [r for r in self.rows if r.state == state]

    @property
    def new_rows(self) -> tuple[str, ...]:
        return tuple(r.key for r in self.rows_in_state("new"))

    @property
    def changed_rows(self) -> tuple[str, ...]:
        return tuple(r.key for r in self.rows_in_state("changed"))

    @property
    def count_unchanged(self) -> int:
        return len(self.rows_in_state("same"))

    @property
    def refused_rows(self) -> tuple[str, ...]:
        return tuple(f"row {r.n}: {r.why}" for r in self.rows_in_state("refused"))


def readable_columns(rig: Rig) -> list[tuple[str, str]]:
    """(key, words) of everything that a column of a table can be taken for."""
    plain = ("number", "name", "profile", "mode", "universe", "first", "slots", "groups", "turns", "spot", "note")
    words = {"mode": "Mode", "universe": "Universe", "first": "Address", "profile": "Profile or type"}
    return [(k, words.get(k, title_of_column(k))) for k in plain] + [(f"own:{c}", c) for c in rig.columns]


def guess_mapping(rig: Rig, heads: Sequence[str]) -> tuple[str, ...]:
    """Which of our columns each heading is; each of ours once, the first that fits."""
    own = {c.lower(): f"own:{c}" for c in rig.columns}
    known = {alias: column for column, aliases in ALIASES.items() for alias in aliases} | own
    found: list[str] = []
    for h in heads:
        column = known.get(h.strip().lower(), "")
        if column in ("last", "break") or column in found:
            column = ""
        found.append(column)
    return tuple(found)


def paste_rows(index: Index, text: str) -> Pasted:
    """Rows with headings, matched by number: known numbers are changed, new ones added. Nothing else is touched.

    Raises Refused when there are no headings to go by.
    """
    rows = read_cells(text)
    heads = guess_mapping(index.rig, rows[0])
    if "number" not in heads or len({h for h in heads if h}) < 2:
        raise Refused(
            "The first row must hold headings, with the number among them: No., Name, Profile, Mode, Universe, "
            "Address …"
        )
    return understand_table(index, rows, Mapping(heads))


class _Pasting:
    """A table while it is read: what of the rig its rows are matched with, and what they made so far."""

    def __init__(self, index: Index, rig: Rig, types: dict[str, str]) -> None:
        self.index = index
        self.rig = rig
        self.types = types
        """Profiles by the words of the column of types."""
        self.fixtures: dict[str, Fixture] = {}
        self.elements: dict[str, Element] = {}
        self.universes: dict[str, Universe] = {}
        self.groups: list[tuple[str, str]] = []
        """Ids of fixtures, and the names of the groups that their rows ask for."""
        self.unknown: dict[str, int] = {}
        """Types that no profile has, and how many rows say so."""
        self.by_number: dict[int, list[str]] = {}
        for fid, f in rig.fixtures.items():
            self.by_number.setdefault(f.number, []).append(fid)
        self.by_name = {e.name.lower(): eid for eid, e in rig.elements.items()}
        self.numbers = universe_ids(rig)
        """Ids of universes by number, those that rows make included."""
        self.times: dict[int, int] = {}
        """How often each number stood in the table so far."""
        self.fresh = fresh_ids("f", rig.fixtures)
        self.groups_now = edits.groups_by_member(rig)


def _take_line(at: _Pasting, n: int, cells: dict[str, str], odd: set[str]) -> Row:
    """Take in line n. Raises Refused for one that cannot be read."""
    who = cells.get("number", "")
    if who in ("–", "-") and cells.get("name", "").lower() in at.by_name:
        return _read_element_row(at, at.index, n, cells, at.by_name[cells["name"].lower()], at.numbers)
    if who in ("", "–"):
        raise Refused("it has no number")
    _check_loose(cells, odd)
    number = read_whole_number(who, 1, 999_999)
    known = at.by_number.get(number, [])  # a rig may hold a number twice; then it is the nth of them
    time = at.times[number] = at.times.get(number, 0) + 1
    if time > max(1, len(known)):
        raise Refused(f"number {number} stands in the table twice")
    fid = known[time - 1] if known else ""
    old = at.rig.fixtures.get(fid)
    made = _read_row(at, cells, number, old, at.numbers)
    if fid and made == old and not _groups_differ(at.groups_now.get(fid, ()), cells.get("groups")):
        return Row(n, "same", who, key=fid)
    before = f"{say_start(at.index, fid)} {old.name}" if old else ""
    fid = fid or next(at.fresh)
    at.fixtures[fid] = made
    if "groups" in cells:
        at.groups.append((fid, cells["groups"]))
    return Row(n, "changed" if old else "new", who, before, made.name, key=fid)


def understand_table(
    index: Index, rows: Sequence[Sequence[str]], mapping: Mapping, loose: Collection[tuple[int, int]] = ()
) -> Pasted:
    """Take a table in by a mapping. The first row are headings; `loose` cells were fractions in a spreadsheet.

    Raises Refused when no column is the number, or one of ours is there twice.
    """
    taken = [c for c in mapping.columns if c]
    if "number" not in taken:
        raise Refused("Say which column is the number: it tells which fixture a row is about.")
    twice = next((c for c in taken if taken.count(c) > 1), "")
    if twice:
        raise Refused(f"Two columns are taken for {dict(readable_columns(index.rig)).get(twice, twice).lower()}.")
    rig, begun, types = _prepare_rig(index.rig, rows, mapping)
    at = _Pasting(index, rig, types)
    found: list[Row] = []
    odd_in: dict[int, set[str]] = {}
    for r, c in loose:
        if c < len(mapping.columns):
            odd_in.setdefault(r, set()).add(mapping.columns[c])
    for n, row in enumerate(rows[1:], 2):
        take_step("rows", n, len(rows))
        cells = {h: row[i].strip() for i, h in enumerate(mapping.columns) if h and i < len(row)}
        try:
            found.append(_take_line(at, n, cells, odd_in.get(n - 1, set())))
        except Refused as e:
            found.append(Row(n, "refused", cells.get("number", ""), why=str(e).rstrip(".")))
    count = len(at.fixtures) + len(at.elements)
    label = f"paste {say_count(count, 'row')}"
    made_rig, change = put_entries(rig, label, fixtures=at.fixtures, elements=at.elements, universes=at.universes)
    done = [*begun, change]
    if at.groups:
        made_rig, more = edits.put_each_in_groups(made_rig, {fid: names.split(",") for fid, names in at.groups})
        done.append(more)
    unread = tuple(h for h, c in zip(rows[0], mapping.columns) if not c and h)
    change = join_changes(label, *done)
    shown = tuple(with_meets(index, (made_rig, change), found))
    return Pasted(made_rig, change, shown, unread, tuple(at.unknown.items()))


def _prepare_rig(rig: Rig, rows: Sequence[Sequence[str]], mapping: Mapping) -> tuple[Rig, list[Change], dict[str, str]]:
    """The rig with the own columns and the draft profiles that a mapping asks for, and the types with these drafts."""
    done: list[Change] = []
    types = dict(mapping.types)
    wanted = [c[4:] for c in mapping.columns if c.startswith("own:") and c[4:] not in rig.columns]
    if wanted:
        rig, change = put_rig(rig, "columns", columns=(*rig.columns, *wanted))
        done.append(change)
    drafts = [name for name, to in mapping.types.items() if to == DRAFT]
    at = {c: n for n, c in enumerate(mapping.columns) if c}
    for name in drafts:
        like = (r for r in rows[1:] if _type_words(r, at) == name)
        widths = [r[at["slots"]] for r in like if "slots" in at and at["slots"] < len(r) and r[at["slots"]].isdecimal()]
        if not widths or not 1 <= int(widths[0]) <= 512:
            continue  # its rows are refused, with the reason
        slots = int(widths[0])
        mode = Mode(name=f"{slots} slot", breaks=(Break(slots=slots),))
        rig, change = edits.add_profile(
            rig, Profile(name=name, notes="From a table; its channels are not known yet.", modes={"m1": mode})
        )
        types[name] = f"{change.made[0]}\tm1"
        done.append(change)
    return rig, done, types


def _type_words(row: Sequence[str], at: dict[str, int]) -> str:
    parts = [row[at[c]].strip() for c in ("profile", "mode") if c in at and at[c] < len(row)]
    return " · ".join(p for p in parts if p)


def _check_loose(cells: dict[str, str], odd: set[str]) -> None:
    """A place that a spreadsheet took for a fraction has lost its zeros."""
    said = cells.get("first", "")
    if "first" in odd and len(said.partition(".")[2]) < 3:
        whole_, _, rest = said.partition(".")
        could = " or ".join(f"{whole_}.{rest.ljust(k, '0')}" for k in range(len(rest), 4))
        raise Refused(f"the address {said} stood as a fraction: it may be {could}; format the column as text")


def with_meets(index: Index, edit: Edit, rows: list[Row]) -> list[Row]:
    """The rows with whom they would newly meet, and with where they would stand."""
    if not any(r.state in ("new", "changed") for r in rows):
        return rows
    then = Index(edit[0])
    meets: dict[str, set[str]] = {}
    for e in effects_between(index, then, edit[1]):
        if e.kind == "meets":
            meets.setdefault(e.key, set()).add(e.with_whom)
            meets.setdefault(e.other, set()).add(e.who)
    found = []
    for r in rows:
        if r.state in ("new", "changed"):
            after_words = f"{say_start(then, r.key)} {r.after}".strip()
            hits = tuple(sorted(meets.get(r.key, ()), key=order_of_name))
            r = Row(r.n, r.state, r.who, r.before, after_words, "", r.key, hits)
        found.append(r)
    return found


def _read_element_row(
    at: _Pasting, index: Index, n: int, cells: dict[str, str], eid: str, numbers: dict[int, str]
) -> Row:
    """A row about an element, known by its name: its place and its remark can be other ones."""
    old = at.rig.elements[eid]
    made = replace(old, note=cells["note"]) if "note" in cells else old
    text, universe = cells.get("first", ""), cells.get("universe", "")
    if text and text != "not patched":
        number, address = read_place(text if re.search(r"[./]", text) or not universe else f"{universe}.{text}")
        spans = index.spans_of(eid)
        now = (index.rig.universes[spans[0].universe].number, spans[0].first) if spans else None
        if now != (number, address):
            if old.at.locked:
                raise Refused(f"{old.name} is locked at another address")
            made = replace(made, at=Place(universe=_read_universe(at, number, numbers), address=address))
    if made == old:
        return Row(n, "same", old.name, key=eid)
    at.elements[eid] = made
    return Row(n, "changed", old.name, f"{say_start(index, eid)} {old.name}", old.name, key=eid)


def _read_universe(at: _Pasting, number: int, numbers: dict[int, str]) -> str:
    uid = numbers.get(number)
    if uid is None:
        made = Universe(number=number) if 1 <= number <= 63999 else None
        if made is None:
            raise Refused(f"there is no universe {number}: they run from 1 to 63999")
        uid = next(fresh_ids("u", at.rig.universes, at.universes))
        at.universes[uid] = made
        numbers[number] = uid
    return uid


def _groups_differ(groups: Sequence[str], typed: str | None) -> bool:
    if typed is None:
        return False
    return {w.strip().lower() for w in typed.split(",") if w.strip()} != {g.lower() for g in groups}


def _read_row(
    at: _Pasting, cells: dict[str, str], number: int, old: Fixture | None, numbers: dict[int, str]
) -> Fixture:
    rig = at.rig
    words, mode = cells.get("profile", ""), cells.get("mode", "")
    if old is None:
        if not words:
            raise Refused(f"{number} is new and has no profile")
        pid, mid = _find_kind(at, words, mode)
        old = Fixture(number=number, name=rig.profiles[pid].name, profile=pid, mode=mid)
    elif words or mode:
        pid, mid = _find_kind(at, words, mode, old.profile)
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


def _find_kind(at: _Pasting, words: str, mode: str, profile: str = "") -> tuple[str, str]:
    """Profile and mode for what a table calls them: as the mapping says, else by their names here."""
    called = " · ".join(w for w in (words, mode) if w)
    mapped = at.types.get(called, "")
    if "\t" in mapped:
        pid, _, mid = mapped.partition("\t")
        if pid in at.rig.profiles and mid in at.rig.profiles[pid].modes:
            return pid, mid
    text = f"{words} ({mode})" if words and mode and "·" not in words and "(" not in words else words or mode
    try:
        return read_mode(at.rig, text, profile)
    except Refused:
        at.unknown[called] = at.unknown.get(called, 0) + 1
        if mapped == DRAFT:
            raise Refused(f"no footprint is said for “{called}”, so no profile can be drafted") from None
        raise


def _read_places(at: _Pasting, text: str, universe: str, old: Fixture, numbers: dict[int, str]) -> tuple[Place, ...]:
    """Places of the breaks out of `3.045`, or 45 beside a universe of 3; what is unchanged keeps its anchor and
    lock."""
    if text == "not patched":  # what leads nowhere is not patched either, and stays what it is
        return () if any(_old_place(at, old, n) for n in range(len(old.at))) else old.at
    if not text:
        return old.at
    places: list[Place] = []
    for break_no, part in enumerate(p.strip() for p in text.split(",")):
        if part in ("–", "-", ""):
            before = old.place_of_break(break_no)
            places.append(Place() if _old_place(at, old, break_no) else before)
            continue
        number, address = read_place(part if re.search(r"[./]", part) or not universe else f"{universe}.{part}")
        uid = _read_universe(at, number, numbers)
        before = old.place_of_break(break_no)
        if before.origin_of_place in ("anchored", "run") and (uid, address) == _old_place(at, old, break_no):
            places.append(before)
            continue
        if before.locked and (before.universe, before.address) != (uid, address):
            raise Refused(f"{old.number} is locked at another address")
        places.append(Place(universe=uid, address=address, locked=before.locked))
    while places and places[-1] == NOWHERE and len(places) > len(old.at):
        places.pop()
    return tuple(places)


def _old_place(at: _Pasting, old: Fixture, break_no: int) -> tuple[str, int] | None:
    from welvo.patch.resolve import Resolver

    same = next((k for k, f in at.rig.fixtures.items() if f is old), "")
    key = same or next((k for k, f in at.rig.fixtures.items() if f.number == old.number), "")
    return Resolver(at.rig).start_of_break(key, break_no) if key else None
