"""What is different between two states of a rig for all that is in it: who moves, meets, runs past an end, falls off.

Nearly every edit moves somebody else: a string that grows pushes the lamps behind it, another size of a universe shifts
every running number behind it. Each form once worked that out for itself, and each forgot something else. This is the
one place: it is given the index of the rig as it is and the index of the rig as it would be, knows nothing of which
edit lies between them, and compares what they say. `near` bounds the work for an edit that was followed: outside of it
nothing can be different, as the index knows what it moved. Without it everything is compared, with the same list.

Places stay numbers until somebody reads them: with ten thousand items that move, words would take longer than all of
the rest.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from typing import Literal, NamedTuple, get_args

from msgspec import Struct

from welvo.patch.index import Index, Span, Taker
from welvo.patch.set_on import set_on
from welvo.rig.abilities import ability_of_port
from welvo.rig.document import Change, Edit, Rig
from welvo.rig.lookup import feeds_of, name_of_item, running_number
from welvo.rig.notation import quick_sort_key, say_place
from welvo.rig.protocol import say_wire
from welvo.rig.refs import PortRef
from welvo.survey.octets import octet_feeds, stream_of

EffectKind = Literal[
    "unplaced", "past", "lock", "share", "meets", "moves", "slots", "set", "octet", "running", "gone", "placed", "made",
    "universe made", "universe gone", "universe emptied", "universe filled", "universe fed", "parts",
]  # fmt: skip
"""What can happen to somebody, what matters most first."""
_RANKS: dict[EffectKind, int] = {kind: n for n, kind in enumerate(get_args(EffectKind))}

End = Literal["", "universe", "rig", "port", "bridge"]
Places = tuple[tuple[int, int, int], ...]
"""Stretches of slots: number of the universe, first slot, last slot."""


class Effect(Struct, frozen=True):
    """One thing that is different afterwards. `who` is what the crew calls it; `own`: the edit is about it.

    `slots` counts what the kind is about: slots past an end, slots on which two meet. `with_whom` names the other of
    two that meet, or what ends where something runs past it.
    """

    kind: EffectKind
    key: str
    """The id of an item or a universe, or a port's or segment's reference as text."""
    who: str
    own: bool = False
    break_no: int = 0
    before: Places = ()
    after: Places = ()
    slots: int = 0
    with_whom: str = ""
    was: str = ""
    """What stood there before, where that is no place: a running number, an octet, an address that is set."""
    becomes: str = ""
    other: str = ""
    """The key of the other of two that meet."""
    end: End = ""
    """Past which end it runs: a universe's, the last universe of the rig, what a port puts out, a bridge's width."""

    @property
    def was_at(self) -> str:
        return self.was or say_places(self.before)

    @property
    def is_at(self) -> str:
        return self.becomes or say_places(self.after)


class Near(NamedTuple):
    """Where an edit can have changed anything: items, universes and ports, by id."""

    items: frozenset[str]
    universes: frozenset[str]
    ports: frozenset[PortRef]


def say_places(places: Places) -> str:
    """`3.145–166`; every stretch of several; “not patched” for none."""
    return ", ".join(f"{say_place(u, a)}–{b:03d}" for u, a, b in places) or "not patched"


def effects_between(old: Index, new: Index, change: Change, near: Near | None = None) -> tuple[Effect, ...]:
    """Everything that is different between the two, in order of what matters and of names."""
    own = own_of_change(change)
    items = near.items if near else {*old.rig.fixtures, *old.rig.elements, *new.rig.fixtures, *new.rig.elements}
    universes = near.universes if near else {*old.rig.universes, *new.rig.universes}
    ports = near.ports if near else {*old.cables_and_sums.streams, *new.cables_and_sums.streams}
    found: list[Effect] = []
    for key in _plain_moves(old, new, items, own, found):
        found += _effects_on_item(old, new, key, key in own)
    found += _past_ends(old, new, universes, ports, own)
    found += _meetings(old, new, universes, own)
    found += _shares_broken(old, new, items, change)
    if old.rig.universes is not new.rig.universes:
        found += _universes_made_and_gone(old.rig, new.rig, change)
        found += _running_numbers(old.rig, new.rig, change)
    found += _universes_emptied_and_filled(old, new, universes)
    if old.rig.feeds is not new.rig.feeds or old.rig.universes is not new.rig.universes:
        found += _universes_fed(old.rig, new.rig, change)
    found += _octets(old, new, universes, own)
    return tuple(sorted(found, key=_order_of_effect))


def effects_of(index: Index, edit: Edit) -> tuple[Effect, ...]:
    """Everything that an edit of the index's rig would make different."""
    return effects_between(index, Index(edit[0]), edit[1])


def own_of_change(change: Change) -> frozenset[str]:
    """The items that an edit is about: those it touched itself, and those it made."""
    return change.changed_ids("fixtures") | change.changed_ids("elements") | frozenset(change.made)


def _order_of_effect(e: Effect) -> tuple[object, ...]:
    whom = order_of_name(e.with_whom) if e.with_whom else ()
    return (_RANKS[e.kind], order_of_name(e.who), e.break_no, whom, e.key, e.becomes)


def order_of_name(name: str) -> tuple[int, int, object]:
    """People's order: numbers by their value, then names. A number costs no look at its letters."""
    return (0, int(name), ()) if name.isdecimal() else (1, 0, quick_sort_key(name))


# ---- items


def _places_of(index: Index, key: str) -> dict[int, Places]:
    """The places of an item by break."""
    found: dict[int, Places] = {}
    for s in index.spans_of(key):
        b = max(0, s.break_no)
        found[b] = (*found.get(b, ()), _stretch(index.rig, s))
    return found


def _stretch(rig: Rig, span: Span) -> tuple[int, int, int]:
    return (rig.universes[span.universe].number, span.first, span.last)


def _plain_moves(
    old: Index, new: Index, items: Collection[str], own: frozenset[str], found: list[Effect]
) -> Iterator[str]:
    """Adds the moves of what nearly everything is, one break in one stretch and on no cable; gives all other items.

    Ten thousand may move with one key: nothing is called for each of them that need not be.
    """
    if old.rig.universes is not new.rig.universes:
        yield from items
        return
    numbers = {uid: u.number for uid, u in new.rig.universes.items()}
    before, after = old.rig.fixtures, new.rig.fixtures
    cabled = {*old.cables_and_sums.listed_items(), *new.cables_and_sums.listed_items()}
    for key in items:
        f, g = before.get(key), after.get(key)
        a, b = old.spans_of(key), new.spans_of(key)
        if f is None or g is None or len(a) != 1 or len(b) != 1 or key in cabled or a[0].break_no or b[0].break_no:
            yield key
            continue
        x, y = a[0], b[0]
        if x == y:
            continue
        kind: EffectKind = "slots" if (x.universe, x.first) == (y.universe, y.first) else "moves"
        was, is_ = ((numbers[x.universe], x.first, x.last),), ((numbers[y.universe], y.first, y.last),)
        found.append(Effect(kind, key, str(g.number), key in own, 0, was, is_))
        if kind == "moves" and f.at and f.at[0].locked and g.at and g.at[0].locked:
            found.append(Effect("lock", key, str(g.number), key in own, 0, was, is_))


def _effects_on_item(old: Index, new: Index, key: str, own: bool) -> Iterator[Effect]:
    was = key in old.rig.fixtures or key in old.rig.elements
    is_ = key in new.rig.fixtures or key in new.rig.elements
    a, b = _places_of(old, key), _places_of(new, key)
    if not (was and is_):
        if was:
            yield Effect("gone", key, name_of_item(old.rig, key), own, before=_all_places(a))
        elif is_:
            yield Effect("made", key, name_of_item(new.rig, key), own, after=_all_places(b))
        return
    if a != b:
        for n in sorted({*a, *b}):
            if a.get(n) != b.get(n):
                yield from _moved(old, new, key, own, n, a.get(n, ()), b.get(n, ()))
    yield from _set_otherwise(old, new, key, own, sorted(a.keys() & b.keys()))


def _moved(
    old: Index, new: Index, key: str, own: bool, break_no: int, before: Places, after: Places
) -> Iterator[Effect]:
    who = name_of_item(new.rig, key)
    kind: EffectKind = "placed" if not before else "unplaced" if not after else "moves"
    if kind == "moves" and before[0][:2] == after[0][:2]:
        kind = "slots"  # it begins where it did, and takes more or fewer, or goes on elsewhere
    yield Effect(kind, key, who, own, break_no, before, after)
    if kind in ("moves", "unplaced") and _is_locked(old.rig, key, break_no) and _is_locked(new.rig, key, break_no):
        yield Effect("lock", key, who, own, break_no, before, after)


def _set_otherwise(old: Index, new: Index, key: str, own: bool, breaks: Iterable[int]) -> Iterator[Effect]:
    """Other addresses to set on lamps behind a bridge or a converter: elsewhere the address is the place itself."""
    for n in breaks if key in new.rig.fixtures else ():
        a, b = set_on(old, key, n), set_on(new, key, n)
        if (a.behind or b.behind) and a.address != b.address:
            yield Effect("set", key, name_of_item(new.rig, key), own, n, with_whom=b.behind or a.behind,
                         was=_say_set(a.address), becomes=_say_set(b.address))  # fmt: skip


def _all_places(by_break: dict[int, Places]) -> Places:
    return tuple(p for n in sorted(by_break) for p in by_break[n])


def _say_set(address: int) -> str:
    return f"{address:03d}" if address else "none"


def _is_locked(rig: Rig, key: str, break_no: int) -> bool:
    fixture = rig.fixtures.get(key)
    return fixture.place_of_break(break_no).locked if fixture else rig.elements[key].at.locked


# ---- ends


class _PastEnd(NamedTuple):
    end: End
    key: str
    who: str
    break_no: int
    slots: int
    what: str
    """The end in words; it may be called otherwise after an edit and be the same."""


def _past_ends(
    old: Index, new: Index, universes: Collection[str], ports: Collection[PortRef], own: frozenset[str]
) -> Iterator[Effect]:
    """What ends further past an end than it did."""
    before = {(p.end, p.key, p.break_no): p.slots for p in _all_past(old, universes, ports)}
    for p in _all_past(new, universes, ports):
        was = before.get((p.end, p.key, p.break_no), 0)
        if p.slots > was:
            yield Effect("past", p.key, p.who, p.key in own, p.break_no, slots=p.slots, with_whom=p.what,
                         was=str(was) if was else "", end=p.end)  # fmt: skip


def _all_past(index: Index, universes: Collection[str], ports: Collection[PortRef]) -> Iterator[_PastEnd]:
    rig = index.rig
    for uid in index.past_the_end():
        if uid not in universes:
            continue
        limit = index.limit_of_universe(uid)
        for s in index.spans_on_universe(uid):
            if s.last > limit.slots:
                end = limit.why or f"universe {rig.universes[uid].number}"
                yield _PastEnd(
                    "universe",
                    _key_of_taker(s.key),
                    index.word_for_taker(s.key),
                    max(0, s.break_no),
                    s.last - limit.slots,
                    end,
                )
    for key, number in index.missing.items():
        element = rig.elements.get(key)
        if element is None:
            continue
        lack = element.slots_needed - sum(s.last - s.first + 1 for s in index.spans_of(key))
        if lack > 0:
            yield _PastEnd("rig", key, element.name, 0, lack, f"universe {number} is not there")
    cables = index.cables_and_sums
    for ref in ports:
        stream = cables.streams.get(ref)
        if stream is None:
            continue
        able = ability_of_port(rig, *ref)
        name = f"port {ref.port} of {rig.devices[ref.device].name}"
        if able.slots and stream.slots > able.slots:
            yield _PastEnd("port", str(ref), name, 0, stream.slots - able.slots, f"the {able.slots} slots it puts out")
        for piece in stream.pieces:
            if piece.segment.kind != "bridge":
                continue
            behind = cables.fixtures_behind(piece.segment, piece)
            last = max((x.dmx + x.slots - 1 for x in behind if x.dmx), default=0)
            if last > piece.segment.width:
                who = index.word_for_taker(next((x.key for x in reversed(behind) if x.dmx), ""))
                yield _PastEnd(
                    "bridge", f"{ref} {piece.n}", who, 0, last - piece.segment.width, f"the bridge on {name}"
                )


def _key_of_taker(taker: Taker) -> str:
    return taker if isinstance(taker, str) else str(taker)


# ---- two on the same slots


def _meetings(old: Index, new: Index, universes: Collection[str], own: frozenset[str]) -> Iterator[Effect]:
    """Pairs that overlap on more slots than before, and pairs that do no longer."""
    before, after = _pairs(old, universes), _pairs(new, universes)
    for pair, (slots, place, two) in after.items():
        was = before.get(pair)
        if was is None or slots > was[0]:
            yield Effect("meets", two[0][1], two[0][0], _is_own(two, own), after=(place,), slots=slots,
                         with_whom=two[1][0], other=two[1][1], was=str(was[0]) if was else "")  # fmt: skip
    for pair, (slots, place, two) in before.items():
        if pair not in after:
            yield Effect("parts", two[0][1], two[0][0], _is_own(two, own), before=(place,), slots=slots,
                         with_whom=two[1][0], other=two[1][1])  # fmt: skip


def _is_own(two: _Two, own: frozenset[str]) -> bool:
    return two[0][1] in own or two[1][1] in own


_Two = tuple[tuple[str, str], tuple[str, str]]
"""Two that meet, in people's order: what the crew calls each, and its key."""
_Pairs = dict[tuple[str, str], tuple[int, tuple[int, int, int], _Two]]


def _pairs(index: Index, universes: Collection[str]) -> _Pairs:
    """Who overlaps whom: on how many slots in all, where first, and both.

    A pair is known by the ids of its items. A segment has none: its place in the run is another one as soon as
    something is attached before it, so it is known by its name and port.
    """
    found: _Pairs = {}
    for uid in sorted(index.universes_with_overlaps() & set(universes)):
        number = index.rig.universes[uid].number
        for c in index.clashes_in_universe(uid, most=10_000):
            a, b = sorted(
                ((index.word_for_taker(x.key), _key_of_taker(x.key), isinstance(x.key, str)) for x in (c.a, c.b)),
                key=lambda t: (order_of_name(t[0]), t[1]),
            )
            one, other = sorted((a[1] if a[2] else a[0], b[1] if b[2] else b[0]))  # whatever their numbers become
            pair = (one, other)
            before = found.get(pair)
            slots = (before[0] if before else 0) + c.last - c.first + 1
            found[pair] = (slots, before[1] if before else (number, c.first, c.last), (a[:2], b[:2]))
    return found


def _shares_broken(old: Index, new: Index, items: Collection[str], change: Change) -> Iterator[Effect]:
    """Shares whose members stood on the same slots and do no longer."""
    touched = change.changed_ids("shares")
    for sid, share in old.rig.shares.items():
        if share.kind != "share" or not (sid in touched or any(m in items for m in share.members)):
            continue
        if _stand_together(old, share.members) and not _stand_together(new, share.members):
            names = sorted((name_of_item(old.rig, m) for m in share.members), key=order_of_name)
            yield Effect("share", sid, names[0], sid in touched, with_whom=", ".join(names[1:]))


def _stand_together(index: Index, members: Iterable[str]) -> bool:
    places = {tuple(_places_of(index, m).items()) for m in members if index.spans_of(m)}
    return len(places) == 1


# ---- universes


def _universes_made_and_gone(old: Rig, new: Rig, change: Change) -> Iterator[Effect]:
    own = change.changed_ids("universes")
    for uid, u in new.universes.items():
        if uid not in old.universes:
            yield Effect("universe made", uid, str(u.number), uid in own)
    for uid, u in old.universes.items():
        if uid not in new.universes:
            yield Effect("universe gone", uid, str(u.number), uid in own)


def _universes_emptied_and_filled(old: Index, new: Index, universes: Collection[str]) -> Iterator[Effect]:
    for uid in universes:
        if uid in old.rig.universes and uid in new.rig.universes and old.is_empty(uid) != new.is_empty(uid):
            kind: EffectKind = "universe emptied" if new.is_empty(uid) else "universe filled"
            yield Effect(kind, uid, str(new.rig.universes[uid].number))


def _universes_fed(old: Rig, new: Rig, change: Change) -> Iterator[Effect]:
    touched = change.changed_ids("feeds")
    for uid, u in new.universes.items():
        before, after = _say_feeds(old, uid), _say_feeds(new, uid)
        if before != after:
            own = any(f in touched for rig in (old, new) for f in feeds_of(rig, uid))
            yield Effect("universe fed", uid, str(u.number), own, was=before, becomes=after)


def _say_feeds(rig: Rig, uid: str) -> str:
    feeds = (rig.feeds[f] for f in feeds_of(rig, uid))
    said = sorted(say_wire(f.protocol, f.wire) + (f" to {f.to}" if f.to else "") for f in feeds)
    return ", ".join(said) or "nothing"


def _running_numbers(old: Rig, new: Rig, change: Change) -> Iterator[Effect]:
    """Universes whose slots get other running numbers: what is patched there has its own moved by as many."""
    own = change.changed_ids("universes")
    for uid, u in new.universes.items():
        before = old.universes.get(uid)
        if before is None:
            continue
        a, b = running_number(old, before.number, 1), running_number(new, u.number, 1)
        if a != b:
            yield Effect("running", uid, str(u.number), uid in own, slots=abs(b - a), was=str(a), becomes=str(b))


def _octets(old: Index, new: Index, universes: Collection[str], own: frozenset[str]) -> Iterator[Effect]:
    """What stands elsewhere in a stream of octets."""
    a, b = octet_feeds(old), octet_feeds(new)
    for stream in sorted(a.keys() & b.keys()):
        carried = {index.rig.feeds[f].universe for index, fids in ((old, a), (new, b)) for f in fids[stream]}
        if a[stream] == b[stream] and old.rig.feeds is new.rig.feeds and not carried & set(universes):
            continue
        before = _first_octets(old, a[stream])
        where = f"{say_wire(stream.protocol, stream.wire)} to {stream.to}"
        for (taker, break_no), octet in _first_octets(new, b[stream]).items():
            was = before.get((taker, break_no), octet)
            if was != octet:
                key = _key_of_taker(taker)
                yield Effect("octet", key, new.word_for_taker(taker), key in own, break_no, slots=abs(octet - was),
                             was=str(was), becomes=str(octet), with_whom=where)  # fmt: skip


def _first_octets(index: Index, feeds: list[str]) -> dict[tuple[Taker, int], int]:
    """Where each break of each item begins in a stream, in octets from 0."""
    found: dict[tuple[Taker, int], int] = {}
    for piece in stream_of(index, feeds)[0]:
        found.setdefault((piece.key, max(0, piece.break_no)), piece.offset)
    return found
