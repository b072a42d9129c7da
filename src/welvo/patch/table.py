"""The patch as a table: what each cell says, what typing into it does, and pasting from a spreadsheet."""

from __future__ import annotations

import re
from typing import Any

from msgspec.structs import replace

from welvo.patch.adding import patch_series
from welvo.patch.arrange import shift_breaks
from welvo.patch.index import Index
from welvo.patch.positions import place_fixtures
from welvo.patch.steps import apply_steps
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig, put_entries
from welvo.rig.lookup import find_item_named, mode_of, name_of_item
from welvo.rig.notation import count_names, natural_sort_key, read_series, read_shift, say_count, say_place
from welvo.rig.patched import Fixture, Place, Turn
from welvo.rig.readers import read_whole_number

FIXED = ("number", "name", "profile", "first", "last", "slots", "groups", "turns", "spot", "note")
TITLES = {
    "number": "No.",
    "name": "Name",
    "profile": "Profile · mode",
    "first": "First",
    "last": "Last",
    "slots": "Slots",
    "groups": "Groups",
    "turns": "Turned",
    "spot": "Spot",
    "note": "Remark",
}
HELP = {
    "number": "The crew's number. 101+ numbers a selection upwards, 101 +10 in tens, +8 or -8 moves each number.",
    "name": "What it is or where it hangs. In a selection # becomes 1, 2, 3; ## 01, 02; #7 begins at 7; & the number.",
    "profile": "Profile and mode, such as Bar 9 (38 slot). Another mode takes other slots: look at what it would meet.",
    "first": "Where it starts. 3.1 +8 every 8 slots, 3.1 gap 2, free; +8 moves each on, +1.0 a universe on; breaks by "
    "comma.",
    "groups": "Names of groups, with commas between. A group keeps its items through renumbering and moving.",
    "turns": "What the sender does to its movement: pan, tilt, swap, or nothing. The lamp's own menu must not do it "
    "again.",
    "spot": "Where it hangs in metres, from the left, the front, the floor: 2.5, 0, 4; 0, 2, 4 to 10, 2, 4 spreads.",
    "note": "A remark for whoever reads the list next. Nothing depends on it.",
}
"""What typing into a column does; columns without a text are not typed into."""
TURNS: dict[str, Turn] = {"pan": "pan inverted", "tilt": "tilt inverted", "swap": "pan and tilt swapped"}


def keys_of_columns(rig: Rig) -> tuple[str, ...]:
    """Keys of all columns; the rig's own stand before the remark, as `own:NAME`."""
    return (*FIXED[:7], *(f"own:{c}" for c in rig.columns), *FIXED[7:])


def title_of_column(column: str) -> str:
    return column[4:] if column.startswith("own:") else TITLES.get(column, column)


def help_for(column: str) -> str:
    if column.startswith("own:"):
        return f"{column[4:]}, in your own words. In a selection # becomes 1, 2, 3. Nothing depends on it."
    return HELP.get(column, "")


def text_of_cell(index: Index, key: str, column: str) -> str:
    """What one cell says."""
    rig = index.rig
    f, e = rig.fixtures.get(key), rig.elements.get(key)
    if f is None and e is None:
        return ""
    if column == "number":
        return str(f.number) if f else "–"
    if column == "name":
        return f.name if f else e.name if e else ""
    if column == "profile":
        if e:
            return f"element · {say_count(e.slots, 'slot') if e.kind == 'block' else f'{e.pixels} px {e.order}'}"
        profile = rig.profiles.get(f.profile) if f else None
        mode = mode_of(rig, f) if f else None
        return f"{profile.name if profile else '?'} · {mode.name if mode else '?'}"
    if column in ("first", "last"):
        return _say_places(index, key, column == "first")
    if column == "slots":
        mode = mode_of(rig, f) if f else None
        return str(mode.slots_needed if mode else e.slots_needed if e else 0)
    if column == "groups":
        return ", ".join(edits.groups_of(rig, key)) if rig.groups else ""
    if column == "note":
        return f.note if f else e.note if e else ""
    if f is None:
        return ""
    if column == "turns":
        return ", ".join(k for k, v in TURNS.items() if v in f.turns)
    if column == "spot":
        return ", ".join(f"{v:g}" for v in f.spot) if f.spot else ""
    return f.fields.get(column[4:], "")


def _say_places(index: Index, key: str, first: bool) -> str:
    """Starts (or ends) of all breaks; a break without an address is said."""
    rig = index.rig
    spans = index.spans_of(key)
    fixture = rig.fixtures.get(key)
    mode = mode_of(rig, fixture) if fixture else None
    if not fixture or not mode or len(mode.breaks) == 1:
        if not spans:
            return "not patched" if first else ""
        s = spans[0] if first else spans[-1]
        return say_place(rig.universes[s.universe].number, s.first if first else s.last)
    if not spans:
        return "not patched" if first else ""
    by_break = {max(0, s.break_no): s for s in spans}
    said = []
    for b, part in enumerate(mode.breaks):
        at = by_break.get(b)
        if part.slots:
            said.append(say_place(rig.universes[at.universe].number, at.first if first else at.last) if at else "–")
    return ", ".join(said)


def rank_of_row(index: Index, key: str, column: str) -> tuple[Any, ...]:
    """What a column is sorted by."""
    rig = index.rig
    if column in ("first", "last"):
        spans = index.spans_of(key)
        if not spans:
            return (1, 0, 0)
        s = spans[0] if column == "first" else spans[-1]
        return (0, rig.universes[s.universe].number, s.first if column == "first" else s.last)
    if column == "number":
        f = rig.fixtures.get(key)
        return (0, f.number, "") if f else (1, 0, rig.elements[key].name if key in rig.elements else "")
    if column == "slots":
        return (int(text_of_cell(index, key, column) or 0),)
    words = text_of_cell(index, key, column).lower()
    return (not words, natural_sort_key(words))


# ---- typing into cells


def change_cells(index: Index, keys: list[str], column: str, typed: str) -> Edit:
    """What typing into a column of one or several rows does; a series counts through them in this order.

    Raises Refused with the reason when it cannot be read or done.
    """
    rig = index.rig
    fixtures = [k for k in keys if k in rig.fixtures]
    if column == "first":
        return change_first(index, keys, typed)
    if column == "groups":
        return edits.put_in_groups(rig, keys, [n.strip() for n in typed.split(",") if n.strip()])
    if column == "note":
        words = count_names(typed, len(keys))
        return put_entries(
            rig,
            f"remark on {edits.names_of_few(rig, keys)}",
            fixtures={k: replace(rig.fixtures[k], note=w) for k, w in zip(keys, words) if k in rig.fixtures},
            elements={k: replace(rig.elements[k], note=w) for k, w in zip(keys, words) if k in rig.elements},
        )
    if not fixtures:
        raise Refused(
            f"{name_of_item(rig, keys[0]) if keys else 'Nothing'} is no fixture and has no "
            f"{title_of_column(column).lower()}."
        )
    if column == "number":
        return number_series(rig, fixtures, typed)
    if column == "name":
        return name_series(rig, fixtures, typed)
    if column == "turns":
        turns = read_turns(typed)
        label = f"turn {edits.names_of_few(rig, fixtures)}"
        return edits.set_fixtures(rig, label, {k: {"turns": turns} for k in fixtures})
    if column == "spot":
        return place_fixtures(rig, fixtures, typed)
    if column == "profile":
        from welvo.patch.mode_edits import change_mode

        return change_mode(rig, fixtures, *read_mode(rig, typed, rig.fixtures[fixtures[0]].profile))
    if column.startswith("own:"):
        return edits.set_field(rig, fixtures, column[4:], count_names(typed, len(fixtures)))
    raise Refused(f"{title_of_column(column)} follows from the rest and is not typed.")


def change_first(index: Index, keys: list[str], typed: str) -> Edit:
    """Addresses: a place, a series, a shift, `free`, `after X + n`, nothing; with commas one for each break."""
    rig = index.rig
    text = typed.strip()
    parts = [p.strip() for p in text.split(",")]
    if len(parts) > 1:
        most = max(
            (len(m.breaks) for k in keys if k in rig.fixtures and (m := mode_of(rig, rig.fixtures[k]))), default=1
        )
        if len(parts) > most:
            raise Refused(f"{say_count(len(parts), 'address', 'addresses')} for {say_count(most, 'break')}.")
        made, touched, label = rig, frozenset[str](), ""
        own: Index | None = None
        for break_no, part in enumerate(parts):
            here = own or index
            wanting = [(k, break_no) for k in keys if k in rig.fixtures and _has_break(rig, k, break_no)]
            if part in ("", "–", "-"):
                made, change = unpatch_breaks(made, wanting)
            else:
                made, change = _place_breaks(here, wanting, part)
            # The next break looks for room beside this one. The index given is the window's and stays as it is: one of
            # our own is built for the second break and follows for all behind it.
            if own:
                own.follow_change(made, change)
            elif break_no < len(parts) - 1:
                own = Index(made)
            touched |= change.changed_ids("fixtures")
            label = label or change.label
        return made, Change(label, {"fixtures": touched})
    return _place_breaks(index, [(k, 0) for k in keys], text)


def _has_break(rig: Rig, key: str, break_no: int) -> bool:
    mode = mode_of(rig, rig.fixtures[key])
    return bool(mode and break_no < len(mode.breaks))


def _place_breaks(index: Index, keys: list[tuple[str, int]], text: str) -> Edit:
    rig = index.rig
    if not text:
        return unpatch_breaks(rig, keys)
    shift = read_shift(text)
    if shift:
        steps = shift_breaks(index, keys, shift)
        return apply_steps(rig, steps, f"move {edits.names_of_few(rig, [k for k, _ in keys])} by {text}")
    if text.lower().startswith("after"):
        place = read_anchor(rig, text)
        return _set_places(rig, keys, place, f"place {edits.names_of_few(rig, [k for k, _ in keys])} {text}")
    return patch_series(index, keys, text)


def unpatch_breaks(rig: Rig, keys: list[tuple[str, int]]) -> Edit:
    """Take the address of breaks away. Locked ones are refused."""
    return _set_places(
        rig, keys, Place(), f"unpatch {edits.names_of_few(rig, list(dict.fromkeys(k for k, _ in keys)))}"
    )


def _set_places(rig: Rig, keys: list[tuple[str, int]], place: Place, label: str) -> Edit:
    fixtures: dict[str, Fixture] = {}
    elements = {}
    for key, break_no in keys:
        if key in rig.elements:
            if rig.elements[key].at.locked:
                raise Refused(f"{rig.elements[key].name} is locked. Unlock it first.")
            elements[key] = replace(rig.elements[key], at=place)
            continue
        f = fixtures.get(key, rig.fixtures[key])
        if f.place_of_break(break_no).locked:
            raise Refused(f"{f.number} is locked. Unlock it first.")
        if place.after == key:
            raise Refused(f"{f.number} cannot stand behind itself.")
        fixtures[key] = replace(f, at=edits.with_place(f, break_no, place))
    return put_entries(rig, label, fixtures=fixtures, elements=elements)


def read_anchor(rig: Rig, text: str) -> Place:
    """`after 207 + 4`: behind a fixture (by number) or an element (by name), with so many free slots between."""
    m = re.fullmatch(r"after\s+(.+?)(?:\s*\+\s*(\d{1,5}))?", text.strip(), re.IGNORECASE)
    name = m[1].strip() if m else ""
    found = find_item_named(rig, name)
    if not m or not found:
        raise Refused(f"“{text}” names nothing to stand behind. Write: after 207 + 4")
    return Place(after=found, gap=int(m[2] or 0))


def number_series(rig: Rig, keys: list[str], typed: str) -> Edit:
    """Number fixtures in order: `101+`, `101 +10`, `+8`. Numbers that others have are refused."""
    shift = read_shift(typed)
    if shift and not shift.universes:
        wanted = [rig.fixtures[k].number + shift.by for k in keys]
    else:
        series = read_series(typed)
        start, step = read_whole_number(series.start, 1, 999_999), series.spacing or 1
        wanted = [start + n * step for n in range(len(keys))]
    if wanted and (min(wanted) < 1 or max(wanted) > 999_999):
        raise Refused(
            f"Numbers run from 1 to 999 999; {min(wanted) if min(wanted) < 1 else max(wanted)} is out of reach."
        )
    mine = set(keys)
    others = {f.number: f.name for k, f in rig.fixtures.items() if k not in mine}
    taken = next((n for n in wanted if n in others), None)
    if taken is not None:
        raise Refused(f"Number {taken} is taken already by “{others[taken]}”.")
    label = f"number {edits.names_of_few(rig, keys)}"
    return edits.set_fixtures(rig, label, {k: {"number": n} for k, n in zip(keys, wanted)})


def name_series(rig: Rig, keys: list[str], typed: str) -> Edit:
    """Name fixtures by a pattern with counters."""
    names = count_names(typed, len(keys), [rig.fixtures[k].number for k in keys])
    label = f"name {edits.names_of_few(rig, keys)}"
    return edits.set_fixtures(rig, label, {k: {"name": n} for k, n in zip(keys, names)})


def read_turns(text: str) -> tuple[Turn, ...]:
    words = [w for w in re.split(r"[,\s]+", text.lower().strip()) if w]
    unknown = next((w for w in words if w not in TURNS), "")
    if unknown:
        raise Refused(f"“{unknown}” is no turn. Write pan, tilt, swap, or nothing.")
    return tuple(v for k, v in TURNS.items() if k in words)


def read_mode(rig: Rig, text: str, profile: str = "") -> tuple[str, str]:
    """Profile and mode ids for `Bar 9 (38 slot)`, `Bar 9 · 38 slot`, `Bar 9` or, in a profile known, `38 slot`."""
    m = re.fullmatch(r"\s*(.+?)\s*(?:\(\s*([^)]*?)\s*\)|·\s*(.+?))?\s*", text)
    if not m:
        raise Refused("Write a profile and its mode, such as Bar 9 (38 slot).")
    name, mode = m[1].lower(), (m[2] or m[3] or "").lower()
    pid = next(
        (k for k, p in rig.profiles.items() if name in (p.name.lower(), f"{p.maker} {p.name}".strip().lower())), ""
    )
    if not pid and not mode and profile in rig.profiles:
        pid, mode = profile, name
    if not pid:
        raise Refused(f"There is no profile “{m[1]}” in this rig.")
    modes = rig.profiles[pid].modes
    if not mode:
        return pid, next(iter(modes))
    mid = next((k for k, v in modes.items() if v.name.lower() == mode), "")
    if not mid:
        raise Refused(
            f"{rig.profiles[pid].name} has no mode “{mode}”. It has: {', '.join(v.name for v in modes.values())}."
        )
    return pid, mid


# ---- filtering


def row_matches(index: Index, key: str, wanted: str, worst: str = "") -> bool:
    """Whether a row answers a filter: words that all must occur, `column:word`, `-word`, `is:locked` and the like.

    `on:BOX` and `on:BOX/PORT` are what is attached there; `is:` knows locked, free (not patched), half, shared,
    grouped, error, warning, note, fixture, element.
    """
    for term in re.findall(r'-?(?:[^\s:"]+:)?"[^"]*"|\S+', wanted.lower()):
        refuse = term.startswith("-") and len(term) > 1
        term = (term[1:] if refuse else term).replace('"', "")
        if _answers_term(index, key, term, worst) == refuse:
            return False
    return True


def _answers_term(index: Index, key: str, term: str, worst: str) -> bool:
    head, colon, word = term.partition(":")
    if colon and head == "is":
        return _answers_word(index, key, word, worst)
    if colon and head == "on":
        return is_on(index, key, word)
    if colon and head in ("u", "universe"):
        return any(str(index.rig.universes[s.universe].number) == word for s in index.spans_of(key))
    if colon:
        wanted = next(
            (c for c in keys_of_columns(index.rig) if title_of_column(c).lower().replace(".", "").startswith(head)), ""
        )
        return bool(wanted) and word in text_of_cell(index, key, wanted).lower()
    return any(term in text_of_cell(index, key, c).lower() for c in keys_of_columns(index.rig))


def is_on(index: Index, key: str, word: str) -> bool:
    """Whether an item is attached to a device, or on one of its ports: `penstock`, `penstock/6`, in small letters."""
    box, _, port = word.partition("/")
    return any(
        index.rig.devices[device_id].name.lower() == box and (not port or label.lower() == port)
        for (device_id, label), _ in index.cables_and_sums.ports_of_item(key)
    )


def _answers_word(index: Index, key: str, word: str, worst: str) -> bool:
    rig = index.rig
    f = rig.fixtures.get(key)
    if word == "locked":
        return any(p.locked for p in (f.at if f else (rig.elements[key].at,)))
    if word in ("free", "unpatched"):
        return not index.spans_of(key)
    if word == "half":
        return bool(index.spans_of(key)) and key in index.open
    if word == "shared":
        return bool(index.shared_with(key))
    if word == "grouped":
        return any(key in g.members for g in rig.groups.values())
    if word in ("error", "warning", "note"):
        return worst == word
    return word == ("fixture" if f else "element")
