"""Findings about items that use the same slots: by mistake, as a share, or laid over each other on purpose."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from functools import partial

from welvo.buses.plan import bus_of
from welvo.checks.patch_rules import move_fix
from welvo.checks.registry import Context, Fix, Found, declare_rule, goto_of, subject_of
from welvo.patch.index import BY_PIXEL, Clash, Span, Taker
from welvo.patch.laying import Laying, lay_out_items
from welvo.patch.mode_edits import change_mode
from welvo.patch.slot_words import letters_of, words_on
from welvo.patch.steps import apply_steps
from welvo.rig.attributes import family_of, word_for
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig
from welvo.rig.edits import declare_overlay, end_share, move_item, set_port, share_places
from welvo.rig.lookup import mode_of, name_of_item, universes_in_order
from welvo.rig.notation import say_count, say_place
from welvo.rig.refs import BUS, Goto, SegmentRef
from welvo.runs.edits import change_segment

SEEN = {
    "intensity": "goes brighter and darker",
    "shutter": "flickers or goes dark",
    "colour": "changes colour",
    "position": "swings round",
    "beam": "changes its beam",
    "control": "may reset, or start a programme of its own",
}
"""What a looker-on sees of a lamp when a function of each family is moved by somebody else."""
WORST_FIRST = ("control", "position", "shutter", "intensity", "colour", "beam")


def _say_range(first: int, last: int, number: int) -> str:
    return say_place(number, first) if first == last else f"{say_place(number, first)}–{last:03d}"


def _words_on_span(ctx: Context, span: Span, first: int, last: int) -> str:
    words = words_on(ctx.index, span, first, last)
    return ", ".join(words[:3]) + (" …" if len(words) > 3 else "")


def _functions_on_span(ctx: Context, span: Span, first: int, last: int) -> list[tuple[str, str]]:
    """(family, word) of what an item has on slots `first`..`last` of its universe, without repeats."""
    fixture = ctx.rig.fixtures.get(span.item_of_span)
    if fixture is None or span.break_no == BY_PIXEL:
        return [("colour", "a pixel's colour")] if letters_of(ctx.index, span) else []
    mode = mode_of(ctx.rig, fixture)
    low, high = first - span.first + 1, last - span.first + 1
    found = [
        (family_of(c.function), word_for(c.function, "a channel"))
        for c in (mode.channels if mode else ())
        if c.break_no == span.break_no and any(low <= s <= high for s in c.slots) and c.function != "NoFeature"
    ]
    return list(dict.fromkeys(found))


def say_clash_on_stage(ctx: Context, c: Clash) -> str:
    """What the clash looks like: the most striking thing each of the two does when the other is driven."""
    said = []
    for victim, driver in ((c.a, c.b), (c.b, c.a)):
        suffers = sorted(_functions_on_span(ctx, victim, c.first, c.last), key=lambda f: WORST_FIRST.index(f[0]))
        drives = _functions_on_span(ctx, driver, c.first, c.last)
        if suffers and drives:
            said.append(
                f"{ctx.index.word_for_taker(victim.key)} {SEEN[suffers[0][0]]} when {drives[0][1]} of "
                f"{ctx.index.word_for_taker(driver.key)} moves"
            )
    return f"On stage: {'; '.join(said)}." if said else ""


@declare_rule(
    "PATCH-01",
    severity="error",
    scope="universe",
    group="Clashes",
    stage="patch",
    title="Two items meet",
    means="Two items that were not declared as a share or an overlay use the same slots of one universe.",
    matters="Moving one of them also moves the other, usually another function of it.",
    put_right="Move one of them to a free place, put it into a shorter mode, or declare a share or an overlay if it is "
    "meant.",
    candidates=lambda ctx: ctx.index.universes_with_overlaps(),
)
def find_clashes(ctx: Context, uid: str) -> Iterator[Found]:
    number = ctx.rig.universes[uid].number
    by_pair: dict[tuple[Taker, Taker], list[Clash]] = defaultdict(list)
    for c in ctx.index.clashes_in_universe(uid):
        by_pair[c.a.key, c.b.key].append(c)
    for (a, b), clashes in by_pair.items():
        c = clashes[0]
        slots = sum(x.last - x.first + 1 for x in clashes)
        one, two = ctx.index.word_for_taker(a), ctx.index.word_for_taker(b)
        names = f"{one} and {two}" if a != b else f"Two breaks of {one}"
        yield Found(
            title=f"{names} meet on {say_count(slots, 'slot')}",
            reason=f"{_say_range(c.first, c.last, number)}: {_words_on_span(ctx, c.a, c.first, c.last)} of {one} "
            f"also moves {_words_on_span(ctx, c.b, c.first, c.last)} of {two}. {say_clash_on_stage(ctx, c)}".rstrip(),
            facts={"a": one, "b": two, "universe": number, "first": c.first, "last": c.last, "slots": slots},
            subject=f"{uid}:{'+'.join(sorted((subject_of(a), subject_of(b))))}",
            where=_say_range(c.first, c.last, number),
            goes_to=Goto("item", c.b.item_of_span or c.a.item_of_span)
            if c.b.item_of_span or c.a.item_of_span
            else goto_of(c.b.key),
            items=tuple(dict.fromkeys(k for k in (c.a.item_of_span, c.b.item_of_span) if k)),
            fixes=partial(_clash_fixes, ctx, c, names),
        )


def _clash_fixes(ctx: Context, c: Clash, names: str) -> list[Fix]:
    fixes = [fix for fix in (move_fix(ctx, c.b), move_fix(ctx, c.a)) if fix]
    if len(fixes) == 2:
        fixes += _move_both(ctx, c, names)
    fixes += [fix for span, other in ((c.b, c.a), (c.a, c.b)) for fix in _shorter_mode(ctx, span, other)]
    a, b = c.a.item_of_span, c.b.item_of_span
    if not isinstance(c.b.key, str) and c.b.key.place == BUS and not a:
        return _move_bus(ctx, c.b.key)
    if a == b or not a or not b:
        return fixes + _attach_fixes(ctx, c)
    rig = ctx.index.rig
    fa, fb = rig.fixtures.get(a), rig.fixtures.get(b)
    if fa and fb and (fa.profile, fa.mode) == (fb.profile, fb.mode):
        if c.a.first == c.b.first:
            edit = partial(share_places, members=[a, b])
            fixes.append(Fix(f"Share: {names} move together", ((names, "clash", "share"),), edit))
    else:
        edit = partial(declare_overlay, members=[a, b])
        fixes.append(Fix(f"Overlay of {names}", ((names, "clash", "overlay"),), edit))
    return fixes


def _move_bus(ctx: Context, ref: SegmentRef) -> list[Fix]:
    """Let a bus begin at the first place of its universe that holds it whole and meets nobody."""
    rig, here = ctx.index.rig, bus_of(ctx.index.rig, ref)
    if here is None:
        return []
    need = here.bus.slots_needed
    start = next((a for a, b in ctx.index.free_stretches(here.universe) if b - a + 1 >= need), 0)
    if not start:
        return []
    number, name = rig.universes[here.universe].number, ctx.index.word_for_taker(ref)
    old, new = say_place(number, here.first), say_place(number, start)
    edit = partial(set_port, device_id=ref.device, port=ref.port, label=f"begin {ref.port} at {start}", start=start)
    return [Fix(f"Begin {name} at {new}", ((f"{name} · first slot", old, new),), edit)]


def _attach_fixes(ctx: Context, c: Clash) -> list[Fix]:
    """Put a fixture that lies wholly within a bridge's stretch behind that bridge: its address is there already."""
    segment, lamp = (c.a, c.b) if isinstance(c.a.key, SegmentRef) else (c.b, c.a)
    fixture = ctx.index.rig.fixtures.get(lamp.item_of_span)
    ref, piece = segment.key, ctx.index.piece_of_taker(segment.key)
    if isinstance(ref, str) or piece is None or fixture is None or piece.segment.kind != "bridge":
        return []
    number = ctx.index.rig.universes[lamp.universe].number
    dmx, last = piece.slot_at_place(number, lamp.first), piece.slot_at_place(number, lamp.last)
    if not 0 < dmx <= last <= piece.segment.width or len(fixture.at) != 1:
        return []
    who, name = name_of_item(ctx.index.rig, lamp.item_of_span), ctx.index.word_for_taker(ref)
    edit = partial(change_segment, fixtures=(*piece.segment.fixtures, lamp.item_of_span))

    def attach(rig: Rig) -> Edit:
        return edit(rig, ref.device, ref.port, ref.place)[:2]

    return [Fix(f"Attach {who} behind {name}", ((f"{who} · attached", "nowhere", f"DMX {dmx} behind it"),), attach)]


def _move_both(ctx: Context, c: Clash, names: str) -> list[Fix]:
    """Both next to each other at the first place behind them that holds them."""
    rig = ctx.index.rig
    keys = [(c.a.item_of_span, c.a.break_no), (c.b.item_of_span, c.b.break_no)]
    order = universes_in_order(rig)
    universe, behind = c.a.universe, max(c.a.last, c.b.last) + 1
    if behind > ctx.index.limit_of_universe(universe).slots:
        following = order[order.index(universe) + 1 :]
        if not following:
            return []
        universe, behind = following[0], 1
    try:
        laid = lay_out_items(ctx.index, keys, Laying(start=(universe, behind)))
    except Refused:
        return []
    if len(laid.steps) < 2:
        return []
    changes = tuple(
        (
            f"{name_of_item(rig, s.key)} · address",
            say_place(rig.universes[o.universe].number, o.first),
            say_place(rig.universes[s.universe].number, s.address),
        )
        for s, o in zip(laid.steps, (c.a, c.b))
        if (s.universe, s.address) != (o.universe, o.first)
    )
    if len(changes) < 2:
        return []
    first = say_place(rig.universes[laid.steps[0].universe].number, laid.steps[0].address)
    edit = partial(apply_steps, steps=list(laid.steps), label=f"move {names}")
    return [Fix(f"Move both, from {first}", changes, edit)]


def _shorter_mode(ctx: Context, span: Span, other: Span) -> list[Fix]:
    """Put one of the two into a mode of its profile that ends before the other begins."""
    rig = ctx.index.rig
    fixture = rig.fixtures.get(span.item_of_span)
    profile = rig.profiles.get(fixture.profile) if fixture and span.break_no != BY_PIXEL else None
    if fixture is None or profile is None or len(ctx.index.spans_of(span.key)) != 1 or span.first >= other.first:
        return []
    room = other.first - span.first
    fitting = [
        (m.slots_needed, mid) for mid, m in profile.modes.items() if len(m.breaks) == 1 and 0 < m.slots_needed <= room
    ]
    if not fitting:
        return []
    _, mid = max(fitting)
    old, new = mode_of(rig, fixture), profile.modes[mid]
    edit = partial(change_mode, fixtures=[span.item_of_span], pid=fixture.profile, mid=mid)
    words = f"{old.name} ({old.slots_needed})" if old else "?"
    return [
        Fix(
            f"Put {fixture.number} into mode “{new.name}”",
            ((f"{fixture.number} · mode", words, f"{new.name} ({new.slots_needed})"),),
            edit,
        )
    ]


def _shares_touched(before: Rig, after: Rig, change: Change) -> bool:
    return bool(before.shares or after.shares)


@declare_rule(
    "PATCH-06",
    severity="note",
    scope="rig",
    group="Worth knowing",
    title="A share or an overlay, on purpose",
    means="Items were declared to use the same slots.",
    matters="They move together. Worth knowing when one of them is to be used alone.",
    put_right="Nothing, if it is meant.",
    touched=_shares_touched,
)
def find_broken_shares(ctx: Context, _: str) -> Iterator[Found]:
    for sid, s in ctx.rig.shares.items():
        if not _share_holds(ctx, sid):
            continue
        first = ctx.index.spans_of(s.members[0])[0]
        at = say_place(ctx.rig.universes[first.universe].number, first.first)
        names = " and ".join(name_of_item(ctx.rig, m) for m in s.members)
        if s.kind == "share":
            title, reason = f"{names} share {at} on purpose", s.reason or "They always move together."
        else:
            title, reason = (
                f"{names} lie over each other on purpose",
                s.reason or f"From {at} on; the highest level or the last one written counts at the sender.",
            )
        yield Found(
            title=title,
            reason=reason,
            facts={"members": names, "at": at, "kind": s.kind},
            subject=sid,
            where=at,
            goes_to=Goto("item", s.members[0]),
            items=s.members,
        )


@declare_rule(
    "PATCH-07",
    severity="warning",
    scope="rig",
    group="Clashes",
    title="A share whose members differ",
    means="Fixtures declared as a share no longer stand at the same start in the same mode.",
    matters="They were meant to move together and no longer do; where they still touch, they clash.",
    put_right="Put them on one address and mode again, or take the share away.",
    touched=_shares_touched,
)
def share_broken(ctx: Context, _: str) -> Iterator[Found]:
    for sid, s in ctx.rig.shares.items():
        if s.kind == "overlay" or _share_holds(ctx, sid):
            continue
        names = " and ".join(name_of_item(ctx.rig, m) for m in s.members)
        starts = ", ".join(
            say_place(ctx.rig.universes[sp[0].universe].number, sp[0].first) if sp else "nowhere"
            for sp in (ctx.index.spans_of(m) for m in s.members)
        )
        modes = {
            m.name if m else "?"
            for m in (mode_of(ctx.rig, f) for f in (ctx.rig.fixtures.get(x) for x in s.members) if f)
        }
        more = f" and their modes {', '.join(sorted(modes))}" if len(modes) > 1 else ""
        yield Found(
            title=f"The share of {names} has come apart",
            reason=f"Their starts are {starts}{more}; a share needs one start, one profile and one mode.",
            facts={"members": names, "starts": starts, "modes": " ".join(sorted(modes))},
            subject=sid,
            where=names,
            goes_to=Goto("item", s.members[0]),
            items=s.members,
            fixes=partial(_share_fixes, ctx, sid),
        )


def _share_fixes(ctx: Context, sid: str) -> list[Fix]:
    """Bring the members onto the first one's start again where that is all that is wrong; or end the share."""
    rig = ctx.index.rig
    s = rig.shares.get(sid)
    if s is None:
        return []
    names = " and ".join(name_of_item(rig, m) for m in s.members)
    end = Fix(f"End the {s.kind} of {names}", ((names, s.kind, "on their own"),), partial(end_share, sid=sid))
    first = ctx.index.spans_of(s.members[0])
    lamps = [rig.fixtures.get(m) for m in s.members]
    if (
        s.kind == "overlay"
        or not first
        or any(f is None for f in lamps)
        or len({(f.profile, f.mode) for f in lamps if f}) > 1
    ):
        return [end]
    from welvo.patch.steps import PatchStep

    lead = {x.break_no: x for x in first}
    steps, changes = [], []
    for m in s.members[1:]:
        for span in ctx.index.spans_of(m):
            to = lead.get(span.break_no)
            if (
                to
                and (span.universe, span.first) != (to.universe, to.first)
                and not rig.fixtures[m].place_of_break(span.break_no).locked
            ):
                steps.append(PatchStep(m, span.break_no, to.universe, to.first))
                new = say_place(rig.universes[to.universe].number, to.first)
                changes.append(
                    (
                        f"{name_of_item(rig, m)} · address",
                        say_place(rig.universes[span.universe].number, span.first),
                        new,
                    )
                )
    if not steps:
        return [end]
    back = partial(apply_steps, steps=steps, label=f"bring {names} together")
    return [Fix(f"Bring them to {changes[0][2]} again", tuple(changes), back), end]


def _share_holds(ctx: Context, sid: str) -> bool:
    """Whether a share stands as declared: one start, profile and mode; an overlay: each meets another of it."""
    s = ctx.rig.shares[sid]
    spans = [ctx.index.spans_of(m) for m in s.members]
    if s.kind == "overlay":
        return all(
            any(
                a.universe == b.universe and a.first <= b.last and b.first <= a.last
                for a in mine
                for n, others in enumerate(spans)
                if n != i
                for b in others
            )
            for i, mine in enumerate(spans)
        )
    found = [ctx.rig.fixtures.get(m) for m in s.members]
    if any(f is None for f in found):
        return False
    kinds = {(f.profile, f.mode) for f in found if f}
    places = [tuple((x.universe, x.first, x.break_no) for x in mine) for mine in spans]
    return len(kinds) == 1 and len(set(places)) == 1 and bool(places[0])


@declare_rule(
    "PATCH-14",
    severity="warning",
    scope="rig",
    group="Clashes",
    title="An overlay whose members no longer meet",
    means="Items that were laid over each other on purpose no longer use common slots.",
    matters="Levels set through the one no longer reach the other; and a new clash of the two would go unseen.",
    put_right="Lay them over each other again, or end the overlay.",
    touched=_shares_touched,
)
def overlay_apart(ctx: Context, _: str) -> Iterator[Found]:
    for sid, s in ctx.rig.shares.items():
        if s.kind == "share" or _share_holds(ctx, sid):
            continue
        names = " and ".join(name_of_item(ctx.rig, m) for m in s.members)
        yield Found(
            title=f"The overlay of {names} has come apart",
            reason="At least one of them meets none of the others any more.",
            facts={"members": names},
            subject=sid,
            where=names,
            goes_to=Goto("item", s.members[0]),
            items=s.members,
            fixes=partial(_share_fixes, ctx, sid),
        )


@declare_rule(
    "PATCH-16",
    severity="warning",
    scope="rig",
    group="Clashes",
    title="An overlay shifted by one slot",
    means="Items that were laid over each other on purpose begin one slot apart.",
    matters="Every level set through the one then reaches the next function of the other: red shows as green.",
    put_right="Begin them at one slot; or leave it, if the first slot of one is meant to be skipped.",
    touched=_shares_touched,
)
def overlay_shifted(ctx: Context, _: str) -> Iterator[Found]:
    rig = ctx.rig
    for sid, s in rig.shares.items():
        firsts = {m: spans[0] for m in s.members if (spans := ctx.index.spans_of(m))}
        if s.kind == "share" or len(firsts) < 2 or not _share_holds(ctx, sid):
            continue
        lead = min(firsts.values(), key=lambda x: (x.first, x.item_of_span))
        for m, span in firsts.items():
            if span.universe != lead.universe or span.first != lead.first + 1:
                continue
            number = rig.universes[lead.universe].number
            old, new = say_place(number, span.first), say_place(number, lead.first)
            fixture, element = rig.fixtures.get(m), rig.elements.get(m)
            place = fixture.place_of_break(0) if fixture else element.at if element else None
            fixes = []
            if place and place.origin_of_place == "typed" and not place.locked:
                edit = partial(move_item, key=m, break_no=0, universe=lead.universe, address=lead.first)
                fixes.append(
                    Fix(
                        f"Begin {name_of_item(rig, m)} at {new}",
                        ((f"{name_of_item(rig, m)} · address", old, new),),
                        edit,
                    )
                )
            yield Found(
                title=f"{name_of_item(rig, m)} lies one slot behind {name_of_item(rig, lead.item_of_span)}",
                reason=f"{name_of_item(rig, lead.item_of_span)} begins at {new}, {name_of_item(rig, m)} at {old}.",
                facts={"one": name_of_item(rig, lead.item_of_span), "other": name_of_item(rig, m), "at": old},
                subject=f"{sid}/{m}",
                where=old,
                goes_to=Goto("item", m),
                items=(lead.item_of_span, m),
                fixes=fixes,
            )
