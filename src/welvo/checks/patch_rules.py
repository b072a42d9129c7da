"""Findings about fixtures, elements and addresses."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator
from functools import partial

from welvo.checks.registry import Context, Finding, Fix, just, rule
from welvo.patch.allocate import apply_steps, footprint_of, lay_out, next_free_anywhere
from welvo.patch.index import Clash, Index, Span
from welvo.patch.path import words_on
from welvo.rig.counting import HIGHEST_SACN
from welvo.rig.document import Change, Rig
from welvo.rig.edits import add_universe, move, set_fixtures, share
from welvo.rig.lookup import call, mode_of
from welvo.rig.notation import NotationError, plural, say_place


def _range(first: int, last: int, number: int) -> str:
    return say_place(number, first) if first == last else f"{say_place(number, first)}–{last:03d}"


def _words(ctx: Context, span: Span, first: int, last: int) -> str:
    words = words_on(ctx.rig, span, first, last)
    return ", ".join(words[:3]) + (" …" if len(words) > 3 else "")


def _move_fix(ctx: Context, span: Span) -> Fix | None:
    """Move one of two to the next place that is free of clashes."""
    rig = ctx.index.rig
    if span.key not in rig.fixtures and span.key not in rig.elements:
        return None
    if span.key in rig.fixtures:
        place = rig.fixtures[span.key].place(span.brk)
    else:
        place = rig.elements[span.key].at
    if place.locked or place.way != "typed" or ctx.index.dependents(span.key):
        return None  # what follows it would move too, perhaps into the next clash
    spot = next_free_anywhere(
        ctx.index, footprint_of(rig, span.key, span.brk), span.universe, span.first, frozenset({span.key})
    )
    if not spot:
        return None
    new = say_place(rig.universes[spot[0]].number, spot[1])
    old = say_place(rig.universes[span.universe].number, span.first)
    who = call(rig, span.key)
    edit: Callable[[Rig], tuple[Rig, Change]] = partial(
        move, key=span.key, brk=span.brk, universe=spot[0], address=spot[1]
    )
    return Fix(f"Move {who} to {new} (next free)", ((f"{who} · address", old, new),), edit)


@rule(
    "PATCH-01", "error", "universe", "Two fixtures meet",
    "Two things that were not declared as a share use the same slots of one universe.",
    "Moving one of them also moves the other, usually another function of it.",
    "Move one of them to a free place, or declare a share if it is meant.",
)  # fmt: skip
def clash(ctx: Context, uid: str) -> Iterator[Finding]:
    number = ctx.rig.universes[uid].number
    by_pair: dict[tuple[str, str], list[Clash]] = defaultdict(list)
    for c in ctx.index.clashes(uid):
        if c.a.key != c.b.key or c.a.brk != c.b.brk:
            by_pair[c.a.key, c.b.key].append(c)
    for (a, b), clashes in by_pair.items():
        c = clashes[0]
        slots = sum(x.last - x.first + 1 for x in clashes)
        names = f"{call(ctx.rig, a)} and {call(ctx.rig, b)}"
        yield Finding(
            "PATCH-01", "error", f"{uid}:{min(a, b)}+{max(a, b)}", _range(c.first, c.last, number),
            f"{names} meet on {plural(slots, 'slot')}",
            f"{_range(c.first, c.last, number)}: {_words(ctx, c.a, c.first, c.last)} of {call(ctx.rig, a)} "
            f"also moves {_words(ctx, c.b, c.first, c.last)} of {call(ctx.rig, b)}.",
            {"a": call(ctx.rig, a), "b": call(ctx.rig, b), "universe": number, "first": c.first, "last": c.last, "slots": slots},
            "Clashes", ("thing", b), (a, b), partial(_clash_fixes, ctx, c, names),
        )  # fmt: skip


def _clash_fixes(ctx: Context, c: Clash, names: str) -> list[Fix]:
    fixes = [fix for fix in (_move_fix(ctx, c.b), _move_fix(ctx, c.a)) if fix]
    fa, fb = ctx.index.rig.fixtures.get(c.a.key), ctx.index.rig.fixtures.get(c.b.key)
    if fa and fb and fa is not fb and (fa.profile, fa.mode) == (fb.profile, fb.mode) and c.a.first == c.b.first:
        edit = partial(share, members=[c.a.key, c.b.key])
        fixes.append(Fix(f"Share: {names} move together", ((names, "clash", "share"),), edit))
    return fixes


@rule(
    "PATCH-02", "error", "universe", "A fixture ends past its universe",
    "A fixture starts so high that its last slots lie past the universe's end.",
    "A fixture cannot leave its universe: the functions past the end never get a level.",
    "Move it to the next free place that holds it whole.",
)  # fmt: skip
def past_the_end(ctx: Context, uid: str) -> Iterator[Finding]:
    universe = ctx.rig.universes[uid]
    for span in ctx.index.on(uid):
        if span.last > universe.size:
            who = call(ctx.rig, span.key)
            lost = span.last - max(universe.size, span.first - 1)
            yield Finding(
                "PATCH-02", "error", f"{uid}:{span.key}/{span.brk}", say_place(universe.number, span.first),
                f"{who} ends {plural(lost, 'slot')} past universe {universe.number}",
                f"{who} would take {say_place(universe.number, span.first)} to {span.last}; the universe ends at {universe.size}.",
                {"fixture": who, "universe": universe.number, "first": span.first, "last": span.last, "size": universe.size},
                "Clashes", ("thing", span.key), (span.key,), partial(_move_fixes, ctx, span),
            )  # fmt: skip


def _move_fixes(ctx: Context, span: Span) -> list[Fix]:
    fix = _move_fix(ctx, span)
    return [fix] if fix else []


def _patch_fixes(ctx: Context, key: str, breaks: list[int]) -> list[Fix]:
    """Patch all breaks that have no address at the next free places."""
    rig = ctx.index.rig
    if key not in rig.fixtures:
        return []
    try:
        steps = lay_out(ctx.index, [(key, b) for b in breaks], None, None, None)
    except NotationError:
        return []  # the rig is full
    if ctx.index.dependents(key):  # what follows it lands somewhere as well, and must land clean
        after = Index(apply_steps(rig, steps, "")[0])
        if any(
            {c.a.key, c.b.key} & {key, *after.dependents(key)} for uid in after.flagged() for c in after.clashes(uid)
        ):
            return []
    who = call(rig, key)
    where = [say_place(rig.universes[s.universe].number, s.address) for s in steps]
    names = [f"{who} · address" if len(steps) == 1 else f"{who} · break {s.brk + 1}" for s in steps]
    label = f"Patch {who} at {' and '.join(where)} (next free)"
    return [
        Fix(
            label,
            tuple((n, "none", w) for n, w in zip(names, where)),
            partial(apply_steps, steps=steps, label=f"patch {who}"),
        )
    ]


@rule(
    "PATCH-03", "warning", "thing", "A fixture is not patched, or only in part",
    "A fixture, or one break of it, has no address.",
    "It gets no levels at all, or only half of its functions move.",
    "Type an address, or take the next free place.",
)  # fmt: skip
def unpatched(ctx: Context, key: str) -> Iterator[Finding]:
    fixture = ctx.rig.fixtures.get(key)
    mode = mode_of(ctx.rig, fixture) if fixture else None
    if not fixture or not mode:
        return
    open_ = [b for b, part in enumerate(mode.breaks) if part.slots and fixture.place(b).way == "none"]
    if not open_:
        return
    part_word = (
        "not patched" if len(open_) == len(mode.breaks) else f"half patched: break {open_[0] + 1} has no address"
    )
    yield Finding(
        "PATCH-03", "warning", key, f"fixture {fixture.number}", f"{fixture.number} is {part_word}",
        f"{fixture.number} {fixture.name} needs {plural(mode.breaks[open_[0]].slots, 'slot')} and has no address for them.",
        {"fixture": fixture.number, "open breaks": len(open_), "slots": mode.breaks[open_[0]].slots},
        "Not patched", ("thing", key), (key,), partial(_patch_fixes, ctx, key, open_),
    )  # fmt: skip


@rule(
    "PATCH-04", "error", "rig", "A number is used twice",
    "Two fixtures carry the same number.",
    "Whoever calls for that number gets one of the two, and nobody knows which.",
    "Give one of them another number.",
)  # fmt: skip
def number_twice(ctx: Context, _: str) -> Iterator[Finding]:
    seen: dict[int, str] = {}
    for fid, f in ctx.rig.fixtures.items():
        if f.number in seen:
            free = max(x.number for x in ctx.rig.fixtures.values()) + 1
            edit = partial(set_fixtures, label=f"renumber {f.number}", changes={fid: {"number": free}})
            yield Finding(
                "PATCH-04", "error", fid, f"fixture {f.number}", f"Number {f.number} is used twice",
                f"“{ctx.rig.fixtures[seen[f.number]].name}” and “{f.name}” both carry number {f.number}.",
                {"number": f.number, "first": ctx.rig.fixtures[seen[f.number]].name, "second": f.name},
                "Numbers", ("thing", fid), (seen[f.number], fid),
                just(Fix(f"Number {f.name} {free}", ((f"{f.name} · number", str(f.number), str(free)),), edit)),
            )  # fmt: skip
        else:
            seen[f.number] = fid


@rule(
    "PATCH-05", "warning", "thing", "An address follows something that leads nowhere",
    "The start is anchored to a thing that has no place itself, or stands on no cable, or the anchors run in a circle.",
    "The fixture has no address, although its place looks settled.",
    "Patch the thing it follows, or type an address.",
)  # fmt: skip
def lost_anchor(ctx: Context, key: str) -> Iterator[Finding]:
    if not ctx.index.loop(key):
        return
    places = ctx.rig.fixtures[key].at if key in ctx.rig.fixtures else (ctx.rig.elements[key].at,)
    after = next((p.after for p in places if p.after), "")
    behind = f"behind {call(ctx.rig, after)}" if after else "on a cable that does not list it"
    yield Finding(
        "PATCH-05", "warning", key, call(ctx.rig, key), f"{call(ctx.rig, key)} follows something that is nowhere",
        f"{call(ctx.rig, key)} stands {behind}, and that leads to no address.",
        {"thing": call(ctx.rig, key), "after": call(ctx.rig, after) if after else "its cable"},
        "Not patched", ("thing", key), (key,),
    )  # fmt: skip


@rule(
    "PATCH-06", "note", "rig", "A share, on purpose",
    "Fixtures were declared to use the same slots.",
    "They always move together. Worth knowing when one of them is to be used alone.",
    "Nothing, if it is meant.",
)  # fmt: skip
def shares(ctx: Context, _: str) -> Iterator[Finding]:
    for sid, s in ctx.rig.shares.items():
        spans = [ctx.index.spans(m) for m in s.members]
        if _alike(ctx, s.members):
            first = spans[0][0]
            at = say_place(ctx.rig.universes[first.universe].number, first.first)
            names = " and ".join(call(ctx.rig, m) for m in s.members)
            yield Finding(
                "PATCH-06", "note", sid, at, f"{names} share {at} on purpose", s.reason or "They always move together.",
                {"members": names, "at": at}, "Worth knowing", ("thing", s.members[0]), s.members,
            )  # fmt: skip


@rule(
    "PATCH-07", "warning", "rig", "A share whose members differ",
    "Fixtures declared as a share no longer stand at the same start in the same mode.",
    "They were meant to move together and no longer do; where they still touch, they clash.",
    "Put them on one address and mode again, or take the share away.",
)  # fmt: skip
def share_broken(ctx: Context, _: str) -> Iterator[Finding]:
    for sid, s in ctx.rig.shares.items():
        if _alike(ctx, s.members):
            continue
        names = " and ".join(call(ctx.rig, m) for m in s.members)
        starts = ", ".join(
            say_place(ctx.rig.universes[sp[0].universe].number, sp[0].first) if sp else "nowhere"
            for sp in (ctx.index.spans(m) for m in s.members)
        )
        yield Finding(
            "PATCH-07", "warning", sid, names, f"The share of {names} has come apart",
            f"Their starts are {starts}; a share needs one start, one profile and one mode.",
            {"members": names, "starts": starts}, "Clashes", ("thing", s.members[0]), s.members,
        )  # fmt: skip


def _alike(ctx: Context, members: tuple[str, ...]) -> bool:
    found = [ctx.rig.fixtures.get(m) for m in members]
    if any(f is None for f in found):
        return False
    kinds = {(f.profile, f.mode) for f in found if f}
    places = [tuple((s.universe, s.first, s.brk) for s in ctx.index.spans(m)) for m in members]
    return len(kinds) == 1 and len(set(places)) == 1 and bool(places[0])


@rule(
    "PATCH-08", "error", "thing", "An element runs on into a universe that is not there",
    "The pixels of an element need more universes than the rig has behind its start.",
    "All pixels past the last universe get no data.",
    "Add the missing universe, or start lower.",
)  # fmt: skip
def runs_out(ctx: Context, key: str) -> Iterator[Finding]:
    number = ctx.index.missing.get(key)
    if number is None:
        return
    element = ctx.rig.elements[key]
    covered = sum(s.last - s.first + 1 for s in ctx.index.spans(key))

    def edit(rig: Rig) -> tuple[Rig, Change]:
        new, change, _ = add_universe(rig, number, element.name)
        return new, change

    fix = Fix(f"Add universe {number}", ((f"universe {number}", "none", "512 slots"),), edit)
    yield Finding(
        "PATCH-08", "error", key, element.name, f"{element.name} needs universe {number}, which is not there",
        f"{element.footprint - covered} of its {element.footprint} slots lie past the rig's last universe.",
        {"element": element.name, "universe": number, "slots without a place": element.footprint - covered},
        "Not patched", ("thing", key), (key,),
        just(fix) if number <= HIGHEST_SACN else None,
    )  # fmt: skip
