"""Two rigs held against each other, in the words of the work: added, removed, re-addressed, re-moded, renamed, re-hung,
re-planned.

Addresses are compared as they come out, not as they are written: a lamp that stands behind another one moves with it
without a letter of its own entry changing. Then the difference names no touch, and is taken back at its cause.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Literal, get_args

from msgspec import Struct

from welvo.patch.index import Index
from welvo.patch.removing import remove_items
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.diff import GONE, Touch, list_differences, set_places, value_at
from welvo.rig.document import HANG_POINT, Edit, Rig
from welvo.rig.entered import SettingValue
from welvo.rig.lookup import name_of_item
from welvo.rig.merge import MergeMeeting
from welvo.rig.notation import natural_sort_key, say_count, say_place
from welvo.rig.plan import model_of, say_key, say_setting, setting_key, spec_of
from welvo.rig.protocol import say_wire
from welvo.rig.refs import NOWHERE, Goto
from welvo.rig.runs import Segment
from welvo.runs.along import say_run, segment_name

Kind = Literal["added", "removed", "re-addressed", "re-moded", "renamed", "re-hung", "re-planned", "changed"]
KINDS: tuple[Kind, ...] = get_args(Kind)
PART_WORDS = {
    "profiles": "profile",
    "pictures": "picture",
    "fixtures": "fixture",
    "elements": "element",
    "universes": "universe",
    "senders": "sender",
    "feeds": "feed",
    "device_models": "device model",
    "devices": "device",
    "pixel_types": "kind of pixels",
    "supplies": "supply",
    "shares": "share",
    "groups": "group",
    "waivers": "waiver",
    "scenes": "scene",
    "uses": "show",
    "rig": "rig",
}
_ORDER = {part: n for n, part in enumerate(("rig", "fixtures", "elements", "universes", "feeds", "devices"))}
_MODED = ("profile", "mode", "pixels", "order", "slots", "kind")
_HUNG = ("spot", "run")
_PLANNED = ("universes", "senders", "feeds", "devices")


class Difference(Struct, frozen=True):
    """One difference: of what, in which way, and both values in words. `touches` are what taking it back sets; empty
    where it only follows from another one."""

    kind: Kind
    part: str
    id: str
    who: str
    what: str
    before: str
    after: str
    touches: tuple[Touch, ...] = ()
    goes_to: Goto = NOWHERE


def compare_rigs(old: Index, new: Index) -> list[Difference]:
    """Everything that is different from one rig to another: by part, and in each in the order of numbers and names."""
    found: list[Difference] = []
    moved = _moved_items(old, new)
    by_entry: dict[tuple[str, str], list[Touch]] = {}
    for t in list_differences(old.rig, new.rig):
        by_entry.setdefault((t.part, t.id), []).append(t)
    for (part, key), of in by_entry.items():
        whole = next((t for t in of if not t.path), None)
        if part == "rig":
            t = of[0]
            found.append(Difference("changed", part, key, "Rig", key.replace("_", " "), *_both_values(t), (t,)))
        elif whole is not None:
            found.append(_whole_entry(old, new, whole))
        else:
            found += _differences_of_entry(old, new, part, key, of, key in moved)
            moved.discard(key)
    for key in moved:
        if key in old.rig.fixtures or key in old.rig.elements:
            part = "fixtures" if key in new.rig.fixtures else "elements"
            if key in getattr(new.rig, part):
                found.append(_say_readdressed(old, new, part, key, ()))
    return sorted(found, key=lambda d: (_ORDER.get(d.part, 9), d.part, natural_sort_key(d.who), KINDS.index(d.kind)))


def count_differences(found: Iterable[Difference]) -> str:
    """`3 added, 12 re-addressed`; for none, that nothing is different."""
    count = dict.fromkeys(KINDS, 0)
    for d in found:
        count[d.kind] += 1
    return ", ".join(f"{n} {k}" for k, n in count.items() if n) or "nothing is different"


def take_back(rig: Rig, difference: Difference) -> Edit:
    """Set what a difference changed back to what it was. The rig must be the later one of the two that were compared.

    Raises Refused where it only follows from another difference, or where the rig has gone on since.
    """
    d = difference
    if not d.touches:
        raise Refused(f"{d.who} only moved along with what it follows; take that back.")
    for t in d.touches:
        if value_at(rig, *t.touched_place) != t.after:
            raise Refused(f"{d.who} has changed since; compare again.")
    label = f"take back: {d.who} {d.kind}"
    remove = _REMOVERS.get(d.part)
    if d.kind == "added" and remove:
        made, change = remove(rig, d.id)
        return made, type(change)(label, change.touched)
    return set_places(rig, label, ((*t.touched_place, t.before) for t in d.touches))


_REMOVERS: dict[str, Callable[[Rig, str], Edit]] = {
    "fixtures": lambda rig, key: remove_items(rig, [key]),
    "elements": lambda rig, key: remove_items(rig, [key]),
    "universes": edits.remove_universe,
    "feeds": edits.remove_feed,
    "devices": edits.remove_device,
    "senders": edits.remove_sender,
    "profiles": edits.remove_profile,
    "uses": edits.remove_show,
}


# ---- addresses as they come out


def _places_of_items(index: Index) -> dict[str, tuple[tuple[str, int, int], ...]]:
    found: dict[str, list[tuple[str, int, int]]] = {}
    for s in index.all_spans():
        if isinstance(s.key, str):
            found.setdefault(s.key, []).append((s.universe, s.first, s.last))
    return {k: tuple(sorted(v)) for k, v in found.items()}


def _moved_items(old: Index, new: Index) -> set[str]:
    """Items of both rigs whose slots begin elsewhere."""
    a, b = _places_of_items(old), _places_of_items(new)
    both = (old.rig.fixtures.keys() & new.rig.fixtures.keys()) | (old.rig.elements.keys() & new.rig.elements.keys())
    return {k for k in both if a.get(k) != b.get(k) and [p[:2] for p in a.get(k, ())] != [p[:2] for p in b.get(k, ())]}


def say_start(index: Index, key: str) -> str:
    """Where an item begins: all its breaks, with commas between."""
    spans = [s for s in index.spans_of(key) if s.break_no >= 0 or s.offset == 0]
    if key in index.rig.elements:
        spans = spans[:1]
    said = [say_place(index.rig.universes[s.universe].number, s.first) for s in spans]
    return ", ".join(said) or "not patched"


def _say_readdressed(old: Index, new: Index, part: str, key: str, of: tuple[Touch, ...]) -> Difference:
    who = name_of_item(new.rig, key)
    return Difference(
        "re-addressed",
        part=part,
        id=key,
        who=who,
        what="address",
        before=say_start(old, key),
        after=say_start(new, key),
        touches=of,
        goes_to=Goto("item", key),
    )


# ---- entries


def _whole_entry(old: Index, new: Index, t: Touch) -> Difference:
    kind: Kind = "added" if t.before is GONE else "removed"
    index = new if kind == "added" else old
    who, words = name_of_entry_in(index.rig, t.part, t.id), _said_entry(index, t.part, t.id)
    said = ("", words) if kind == "added" else (words, "")
    goes = _goto_entry(t.part, t.id, new.rig) if kind == "added" else NOWHERE
    return Difference(kind, t.part, t.id, who, PART_WORDS.get(t.part, t.part), *said, (t,), goes)


def _said_entry(index: Index, part: str, key: str) -> str:
    rig = index.rig
    if part == "fixtures":
        f = rig.fixtures[key]
        return f"{f.name}, {_say_mode(rig, f.profile, f.mode)}, {say_start(index, key)}"
    if part == "elements":
        e = rig.elements[key]
        return (
            f"{say_count(e.slots, 'slot') if e.kind == 'block' else f'{e.pixels} px {e.order}'}, "
            f"{say_start(index, key)}"
        )
    if part == "devices":
        model = model_of(rig, key)
        return ", ".join(w for w in (model.name if model else "", rig.devices[key].ip) if w)
    return getattr(getattr(rig, part)[key], "name", "") or ""


def _differences_of_entry(
    old: Index, new: Index, part: str, key: str, of: list[Touch], moved: bool
) -> list[Difference]:
    who, goes = name_of_entry_in(new.rig, part, key), _goto_entry(part, key, new.rig)
    found: list[Difference] = []
    moded = [t for t in of if part in ("fixtures", "elements") and t.path[0] in _MODED]
    if moded:
        found.append(
            Difference(
                "re-moded",
                part=part,
                id=key,
                who=who,
                what="mode",
                before=_say_kind(old.rig, key),
                after=_say_kind(new.rig, key),
                touches=tuple(moded),
                goes_to=goes,
            )
        )
    placed = [t for t in of if part in ("fixtures", "elements") and t.path[0] == "at"]
    if moved:
        found.append(_say_readdressed(old, new, part, key, tuple(placed)))
        placed = []
    for t in of:
        if t in moded or (moved and t.path[0] == "at"):
            continue
        kind, what, before, after = _say_touch(old, new, part, key, t)
        found.append(
            Difference(
                kind, part=part, id=key, who=who, what=what, before=before, after=after, touches=(t,), goes_to=goes
            )
        )
    return found


def _say_touch(old: Index, new: Index, part: str, key: str, t: Touch) -> tuple[Kind, str, str, str]:
    field = t.path[0]
    if field in ("number", "name") and part != "device_models":
        return "renamed", field, *_both_values(t)
    if field == "at":
        return "changed", "how its address is given", _say_origin(old, t.before), _say_origin(new, t.after)
    if part in ("fixtures", "elements"):
        own = field == "fields" and len(t.path) > 1
        hung = field in _HUNG or (own and t.path[1] == HANG_POINT)
        return "re-hung" if hung else "changed", t.path[1] if own else field.replace("_", " "), *_both_values(t)
    if part == "devices":
        return _said_device(old, new, key, t)
    if part == "feeds" and field == "wire":
        a, b = old.rig.feeds[key], new.rig.feeds[key]
        return "re-planned", "on the wire", say_wire(a.protocol, a.wire), say_wire(b.protocol, b.wire)
    if field == "members":
        return "changed", "members", _say_members(old.rig, t.before), _say_members(new.rig, t.after)
    kind: Kind = "re-planned" if part in _PLANNED else "changed"
    return kind, " ".join(t.path).replace("_", " "), *_both_values(t)


def _said_device(old: Index, new: Index, key: str, t: Touch) -> tuple[Kind, str, str, str]:
    path = t.path
    label = path[1] if path[0] == "ports" and len(path) > 1 else ""
    inner = path[2:] if label else path
    model = model_of(new.rig, key)
    if not inner:
        return "re-planned", f"port {label}", "there" if t.before is not GONE else "", "gone" if t.after is GONE else ""
    if inner[0] == "run":
        return "re-hung", f"port {label}", *_say_runs(old.rig, _run_of_value(t.before), new.rig, _run_of_value(t.after))
    if inner[0] == "feed":
        return "re-planned", f"port {label} listens to", _say_feed(old.rig, t.before), _say_feed(new.rig, t.after)
    if inner[0] == "settings" and len(inner) > 1:
        full = setting_key(label, inner[1])
        spec = spec_of(model, full) if model else None
        before, after = (say_setting(spec, _setting_value(v)) for v in (t.before, t.after))
        return "re-planned", say_key(model, full), before, after
    if path[0] in ("snapshots", "entered"):
        return "changed", "snapshots" if path[0] == "snapshots" else f"tick of {' '.join(path[1:])}", *_both_values(t)
    words = f"{' '.join(inner).replace('_', ' ')}{f' of port {label}' if label else ''}"
    return "re-planned", words, *_both_values(t)


def _say_runs(old: Rig, a: tuple[Segment, ...], new: Rig, b: tuple[Segment, ...]) -> tuple[str, str]:
    """What hangs on a port; where that is the same, what is other about it: `ceiling 2 fold 0`, `ceiling 2 fold 5`."""
    before, after = say_run(old, a), say_run(new, b)
    if before != after:
        return before, after
    said: tuple[list[str], list[str]] = ([], [])
    for x, y in zip(a, b):
        name = segment_name(new, y, y.element)
        for field in x.__struct_fields__:
            values = getattr(x, field), getattr(y, field)
            if values[0] != values[1]:
                for words, value in zip(said, values):
                    words.append(f"{name} {field.replace('_', ' ')} {_plain_value(value)}")
    return ", ".join(said[0]), ", ".join(said[1])


def _setting_value(value: object) -> SettingValue | None:
    return value if isinstance(value, SettingValue) else None


def _say_members(rig: Rig, value: object) -> str:
    return _plain_value(tuple(name_of_item(rig, k) for k in value)) if isinstance(value, tuple) else _plain_value(value)


def _run_of_value(value: object) -> tuple[Segment, ...]:
    return value if isinstance(value, tuple) else ()


def _say_feed(rig: Rig, fid: object) -> str:
    feed = rig.feeds.get(fid) if isinstance(fid, str) else None
    return say_wire(feed.protocol, feed.wire) if feed else "nothing"


def _say_mode(rig: Rig, pid: str, mid: str) -> str:
    profile = rig.profiles.get(pid)
    mode = profile.modes.get(mid) if profile else None
    return f"{profile.name if profile else '?'} · {mode.name if mode else '?'}"


def _say_kind(rig: Rig, key: str) -> str:
    f = rig.fixtures.get(key)
    if f:
        return _say_mode(rig, f.profile, f.mode)
    e = rig.elements[key]
    return say_count(e.slots, "slot") if e.kind == "block" else f"{e.kind}, {e.pixels} px {e.order}"


def _say_origin(index: Index, value: object) -> str:
    places = value if isinstance(value, tuple) else (value,)
    said = []
    for p in places:
        origin = getattr(p, "origin_of_place", "none")
        words = {"typed": "typed", "run": "from its cable", "none": "none"}.get(origin, "")
        if origin == "anchored":
            words = f"after {name_of_item(index.rig, p.after)} + {p.gap}"
        said.append(words + (", locked" if getattr(p, "locked", False) else ""))
    return "; ".join(said) or "none"


def name_of_entry_in(rig: Rig, part: str, key: str) -> str:
    """What somebody calls an entry of a part."""
    if part in ("fixtures", "elements"):
        return name_of_item(rig, key)
    entry = getattr(rig, part).get(key)
    if part == "universes":
        return f"Universe {entry.number}"
    if part == "feeds":
        universe = rig.universes.get(entry.universe)
        return f"Feed of universe {universe.number if universe else '?'} by {say_wire(entry.protocol, entry.wire)}"
    if part == "shares":
        return f"{entry.kind.capitalize()} of {edits.names_of_few(rig, list(entry.members))}"
    if part == "waivers":
        return f"Waiver of {entry.code}"
    return getattr(entry, "name", "") or key


_GOES: dict[str, str] = {
    "fixtures": "item",
    "elements": "item",
    "universes": "universe",
    "feeds": "feed",
    "devices": "device",
    "senders": "sender",
    "uses": "use",
    "profiles": "profile",
}


def _goto_entry(part: str, key: str, rig: Rig) -> Goto:
    kind = _GOES.get(part)
    return Goto(kind, key) if kind and key in getattr(rig, part) else NOWHERE  # type: ignore[arg-type]


def _both_values(t: Touch) -> tuple[str, str]:
    return _plain_value(t.before), _plain_value(t.after)


def _plain_value(value: object) -> str:
    if value is GONE or value is None or value == "":
        return "nothing"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, float):
        return f"{value:g}"
    if isinstance(value, str | int):
        return str(value)
    if isinstance(value, tuple | list):
        if all(isinstance(v, str | int | float) for v in value):
            return ", ".join(_plain_value(v) for v in value[:6]) + (f" … {len(value)} in all" if len(value) > 6 else "")
        return say_count(len(value), "entry", "entries")
    if isinstance(value, dict):
        return say_count(len(value), "entry", "entries")
    return getattr(value, "name", "") or "set"


def say_meeting(mine: Index, theirs: Index, m: MergeMeeting) -> tuple[str, str, str, str]:
    """What two people both changed: of what, which field, and what each made of it."""
    if m.twin:
        a, b = _said_entry(mine, m.part, m.twin), _said_entry(theirs, m.part, m.id)
        return str(m.mine), "number, on two new lamps", a, b
    side = mine if m.id in getattr(mine.rig, m.part, {}) else theirs
    who = "Rig" if m.part == "rig" else name_of_entry_in(side.rig, m.part, m.id)
    if m.part == "rig":
        return who, m.id.replace("_", " "), _plain_value(m.mine), _plain_value(m.theirs)
    if not m.path:
        a, b = ("removed" if v is GONE else "kept and changed" for v in (m.mine, m.theirs))
        return who, PART_WORDS.get(m.part, m.part), a, b
    _, what, a, b = _say_touch(mine, theirs, m.part, m.id, Touch(m.part, m.id, m.path, m.mine, m.theirs))
    if m.path[0] == "at":
        return who, "address", say_start(mine, m.id), say_start(theirs, m.id)
    if m.part == "fixtures" and m.path[0] in ("profile", "mode"):
        return who, "mode", _say_kind(mine.rig, m.id), _say_kind(theirs.rig, m.id)
    return who, what, a, b
