"""Which field of a rig refers to what, once; and going through all such fields.

An id stands in many places: a lamp names its profile, a gear on a bus the lamp it drives, a cable the lamps along it
and the addresses that were typed for them. Whoever gives an entry another id, takes one out, or makes one rig of two
has to know all of these places. They were listed three times, each time another list; now they are rows of this table,
and files, edits, renaming, removing and merging walk it.

A path leads from an entry to the field: names of fields, `*` for each item of a list or value of a mapping, `#` for
the keys of a mapping.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator
from typing import Any, Final, Literal

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from welvo.rig.document import Rig
from welvo.rig.patched import NOWHERE, Place
from welvo.rig.runs import dmx_key, dmx_owner

Path = tuple[str, ...]
WhenGone = Literal["refuse", "entry", "segment", "nowhere", "empty", "leave"]
"""What becomes of the holder when what it refers to is taken out: it cannot be (`refuse`), the whole entry goes along
(`entry`), the segment of the cable goes (`segment`), the place becomes nowhere (`nowhere`), the field becomes empty
(`empty`), or the list or mapping loses it (`leave`)."""


class Reference(Struct, frozen=True):
    """One field, or each of many, that holds ids of another part. `words` tell it for a refusal, with {} for the id."""

    part: str
    path: Path
    to: tuple[str, ...]
    gone: WhenGone
    words: str

    @property
    def is_needed(self) -> bool:
        """Whether no rig may be without what it refers to."""
        return self.gone in ("refuse", "entry") or self.path[-1] == "universe"


ITEMS = ("fixtures", "elements")
_RUN: Path = ("ports", "*", "run", "*")

TABLE: tuple[Reference, ...] = (
    Reference("profiles", ("revises",), ("profiles",), "empty", "revises profile “{}”"),
    Reference("profiles", ("modes", "*", "backdrop", "picture"), ("pictures",), "empty", "shows picture “{}”"),
    Reference("fixtures", ("profile",), ("profiles",), "refuse", "uses profile “{}”"),
    Reference("fixtures", ("at", "*", "universe"), ("universes",), "nowhere", "stands in universe “{}”"),
    Reference("fixtures", ("at", "*", "after"), ITEMS, "nowhere", "stands after “{}”"),
    Reference("elements", ("type",), ("pixel_types",), "empty", "is of the kind of pixels “{}”"),
    Reference("elements", ("at", "universe"), ("universes",), "nowhere", "stands in universe “{}”"),
    Reference("elements", ("at", "after"), ITEMS, "nowhere", "stands after “{}”"),
    Reference("feeds", ("universe",), ("universes",), "entry", "carries universe “{}”"),
    Reference("feeds", ("sender",), ("senders",), "entry", "comes from sender “{}”"),
    Reference("devices", ("model",), ("device_models",), "refuse", "is of model “{}”"),
    Reference("devices", ("ports", "*", "feed"), ("feeds",), "empty", "listens to feed “{}”"),
    Reference("devices", (*_RUN, "element"), ITEMS, "segment", "has “{}” on a cable"),
    Reference("devices", (*_RUN, "at", "universe"), ("universes",), "nowhere", "has a segment in universe “{}”"),
    Reference("devices", (*_RUN, "at", "after"), ITEMS, "nowhere", "has a segment after “{}”"),
    Reference("devices", (*_RUN, "fixtures", "*"), ("fixtures",), "leave", "has “{}” on a line"),
    Reference("devices", (*_RUN, "model"), ("device_models",), "empty", "has a bridge of model “{}”"),
    Reference("devices", (*_RUN, "dmx", "#"), ("fixtures",), "leave", "has an address for “{}” on a line"),
    Reference("devices", (*_RUN, "lengths", "#"), ("fixtures",), "leave", "has a length before “{}”"),
    Reference("devices", (*_RUN, "boosters", "*"), ("fixtures",), "leave", "has a booster before “{}”"),
    Reference("devices", (*_RUN, "supply"), ("supplies",), "empty", "is fed by supply “{}”"),
    Reference("devices", ("ports", "*", "bus", "gear", "*", "fixture"), ("fixtures",), "empty", "drives “{}”"),
    Reference("shares", ("members", "*"), ITEMS, "leave", "has the member “{}”"),
    Reference("groups", ("members", "*"), ITEMS, "leave", "has the member “{}”"),
    Reference("uses", ("universes_off", "*"), ("universes",), "leave", "leaves out universe “{}”"),
    Reference("uses", ("devices_off", "*"), ("devices",), "leave", "leaves out device “{}”"),
    Reference("rig", ("use",), ("uses",), "empty", "is in show “{}”"),
    Reference("rig", ("ground", "picture"), ("pictures",), "empty", "shows picture “{}”"),
)
BY_PART: dict[str, tuple[Reference, ...]] = {
    part: tuple(r for r in TABLE if r.part == part) for part in dict.fromkeys(r.part for r in TABLE)
}
MENTIONS: tuple[tuple[str, Path], ...] = (("tests", ("#",)), ("waivers", ("subject",)))
"""Texts that name ids among other words (`port/d1/6`). They follow when an id becomes another one; they are records, so
they stay when what they name is gone."""


class Dropped:
    """Stands for a value that is to be taken out of what holds it."""


DROPPED: Final = Dropped()
Visit = Callable[[Reference, str], Any]
"""Given a reference and the id that stands there; gives the id that is to stand there, or DROPPED."""


# ---- reading


def references_of(part: str, entry: Any) -> Iterator[tuple[Reference, str]]:
    """Every reference that an entry holds, with the id. Empty fields refer to nothing."""
    for reference in BY_PART.get(part, ()):
        for value in _values_at_path(entry, reference.path):
            if value:
                yield reference, value


def _values_at_path(value: Any, path: Path) -> Iterator[str]:
    if not path:
        yield value
        return
    step, rest = path[0], path[1:]
    if step == "*":
        for inner in value.values() if isinstance(value, dict) else value:
            yield from _values_at_path(inner, rest)
    elif step == "#":
        yield from value
    else:
        inner = getattr(value, step)
        if inner is None:
            return
        if rest == ("#",) and step == "dmx":
            yield from (dmx_owner(key, value.fixtures) or key.partition(":")[0] for key in inner)
        else:
            yield from _values_at_path(inner, rest)


def leads_somewhere(rig: Rig, reference: Reference, key: str) -> bool:
    return any(key in getattr(rig, part) for part in reference.to)


def lost_references(rig: Rig, part: str, entry: Any) -> Iterator[tuple[Reference, str]]:
    """The references of an entry that lead nowhere in a rig."""
    return ((r, key) for r, key in references_of(part, entry) if not leads_somewhere(rig, r, key))


def entries_of(rig: Rig, part: str) -> Iterator[tuple[str, Any]]:
    """The entries of a part by id; the rig's own fields are an entry of the part `rig`."""
    return iter((("", rig),)) if part == "rig" else iter(getattr(rig, part).items())


# ---- changing


def with_references(part: str, entry: Any, visit: Visit) -> Any:
    """An entry with other ids where it refers to something; itself where none is other, DROPPED where it goes along."""
    for reference in BY_PART.get(part, ()):
        entry = _change_at_path(entry, reference.path, reference, visit)
        if entry is DROPPED:
            return DROPPED
    return entry


def _change_at_path(value: Any, path: Path, reference: Reference, visit: Visit) -> Any:
    """The value with what `visit` says at the end of the path; DROPPED is answered where the table says it ends."""
    step, rest = path[0], path[1:]
    if step == "*":
        return _changed_items(value, rest, reference, visit)
    inner = getattr(value, step)
    if inner is None or inner == "":
        return value
    if rest == ("#",):
        made = _changed_keys(value, step, inner, reference, visit)
    elif not rest:
        made = visit(reference, inner)
        if made is DROPPED:
            return _drop_reference(value, step, reference)
    else:
        made = _change_at_path(inner, rest, reference, visit)
        if made is DROPPED:
            return DROPPED
    return value if made is inner or made == inner else replace(value, **{step: made})


def _changed_items(value: Any, rest: Path, reference: Reference, visit: Visit) -> Any:
    pairs = list(value.items()) if isinstance(value, dict) else list(enumerate(value))
    made = [(k, _change_at_path(v, rest, reference, visit) if rest else visit(reference, v)) for k, v in pairs]
    if all(new is old or new == old for (_, new), (_, old) in zip(made, pairs)):
        return value
    if any(new is DROPPED for _, new in made) and reference.gone == "entry":
        return DROPPED
    kept = [(k, v) for k, v in made if v is not DROPPED]
    return dict(kept) if isinstance(value, dict) else tuple(v for _, v in kept)


def _changed_keys(holder: Any, step: str, inner: dict[str, Any], reference: Reference, visit: Visit) -> Any:
    made: dict[str, Any] = {}
    for key, v in inner.items():
        owner = (dmx_owner(key, holder.fixtures) or key.partition(":")[0]) if step == "dmx" else key
        new = visit(reference, owner)
        if new is DROPPED:
            continue
        number = int(key.rpartition(":")[2]) if owner != key else 0
        made[dmx_key(new, number) if step == "dmx" else new] = v
    return made


def _drop_reference(holder: Any, step: str, reference: Reference) -> Any:
    """What holds a reference, without it."""
    if reference.gone == "nowhere":
        return NOWHERE if isinstance(holder, Place) else DROPPED
    if reference.gone == "empty":
        return replace(holder, **{step: ""})
    return DROPPED


# ---- taking out


def drop_entries(rig: Rig, gone: dict[str, Collection[str]]) -> dict[str, dict[str, Any]]:
    """The entries that have to be other, or gone (None), when entries are taken out: by part, ready for `put`.

    What goes along takes others along in turn. Fields of the rig itself stand under `rig`.
    """
    taken: dict[str, set[str]] = {part: set(ids) for part, ids in gone.items()}
    changes: dict[str, dict[str, Any]] = {part: dict.fromkeys(ids) for part, ids in taken.items()}

    def visit(reference: Reference, key: str) -> Any:
        left = [part for part in reference.to if key in getattr(rig, part) and key not in taken.get(part, ())]
        was = any(key in getattr(rig, part) for part in reference.to)
        return DROPPED if was and not left else key

    again = True
    while again:
        again = False
        for part in BY_PART:
            if not any(taken.get(p) for r in BY_PART[part] for p in r.to):
                continue
            for key, entry in entries_of(rig, part):
                if changes.get(part, {}).get(key, entry) is None:
                    continue
                made = with_references(part, entry, visit)
                if made is not entry:
                    made = _tidy_entry(part, made)
                if made is DROPPED:
                    changes.setdefault(part, {})[key] = None
                    taken.setdefault(part, set()).add(key)
                    again = True
                elif made is not entry:
                    changes.setdefault(part, {})[key] = made
    own = changes.pop("rig", {}).get("")
    if own is not None:
        changes["rig"] = {"use": own.use, "ground": own.ground}
    return changes


def _tidy_entry(part: str, entry: Any) -> Any:
    """An entry that is nothing any more without its members goes along."""
    if part == "shares" and entry is not DROPPED and len(entry.members) < 2:
        return DROPPED
    if part == "groups" and entry is not DROPPED and not entry.members:
        return DROPPED
    return entry


def held_by(rig: Rig, part: str, key: str) -> list[str]:
    """What keeps an entry from being taken out, in words: those whose reference the table says to refuse."""
    return [
        holder
        for p in BY_PART
        for holder, entry in entries_of(rig, p)
        for r, value in references_of(p, entry)
        if r.gone == "refuse" and value == key and part in r.to
    ]


# ---- texts that mention ids


def with_mentions(text: str, known: Callable[[str], str]) -> str:
    """A text with other ids where it names some: the words between `/`, `:`, `+` and blanks."""
    word, out = "", ""
    for c in (*text, ""):
        if c and c not in "/:+ ":
            word += c
            continue
        out += (known(word) if word else "") + c
        word = ""
    return out


def text_fields(kind: Any, path: Path = ()) -> Iterator[tuple[Any, str, Path]]:
    """Every field of text inside of a type: the struct that has it, the field's name, and the way there."""
    import types
    import typing

    origin, args = typing.get_origin(kind), typing.get_args(kind)
    if origin is typing.Annotated:
        yield from text_fields(args[0], path)
    elif isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        hints = typing.get_type_hints(kind, include_extras=True)
        for name in kind.__struct_fields__:
            if name != "extra":
                yield from ((s or kind, f or name, p) for s, f, p in text_fields(hints[name], (*path, name)))
    elif origin in (typing.Union, types.UnionType):
        for a in args:
            yield from text_fields(a, path)
    elif origin is dict:
        yield from text_fields(args[0], (*path, "#"))
        yield from text_fields(args[1], (*path, "*"))
    elif origin in (tuple, list):
        for a in dict.fromkeys(a for a in args if a is not Ellipsis):
            yield from text_fields(a, (*path, "*"))
    elif kind is str:
        yield None, "", path
