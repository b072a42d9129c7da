"""Findings about fixtures, elements and addresses."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

from msgspec.structs import replace

from welvo.checks.registry import Context, Fix, Found, declare_rule, goto_of, subject_of
from welvo.patch.index import Index, Span
from welvo.patch.laying import Laying, lay_out_items, next_free
from welvo.patch.set_on import set_on
from welvo.patch.slot_words import words_on
from welvo.patch.steps import apply_steps, footprint_of
from welvo.rig.base import Refused
from welvo.rig.counting import HIGHEST_SACN, SLOTS
from welvo.rig.document import Change, Edit, Rig, put_entries
from welvo.rig.edits import add_universe, move_item, set_fixtures
from welvo.rig.lookup import mode_of, name_of_item
from welvo.rig.notation import say_count, say_place
from welvo.rig.patched import Element
from welvo.rig.refs import Goto
from welvo.rig.switches import reach_of_switches
from welvo.survey.fixture_card import steps_to_repeat, untick_lamps


def move_fix(
    ctx: Context, span: Span, highest: int = SLOTS, reach: Callable[[str], int] = lambda _: SLOTS
) -> Fix | None:
    """Move one of two to the next place that is free of clashes, starts no higher than `highest` and ends within what
    `reach` says of its universe."""
    rig = ctx.index.rig
    key = span.item_of_span
    if key not in rig.fixtures and key not in rig.elements:
        return None
    place = rig.fixtures[key].place_of_break(max(0, span.break_no)) if key in rig.fixtures else rig.elements[key].at
    if place.locked or place.origin_of_place != "typed" or ctx.index.items_that_follow(key):
        return None  # what follows it would move too, perhaps into the next clash
    width = footprint_of(rig, key, span.break_no)
    spot = next_free(ctx.index, width, span.universe, span.first, frozenset({(key, span.break_no)}), highest, reach)
    if not spot:
        return None
    new = say_place(rig.universes[spot[0]].number, spot[1])
    old = say_place(rig.universes[span.universe].number, span.first)
    who = name_of_item(rig, key)
    edit: Callable[[Rig], Edit] = partial(move_item, key=key, break_no=span.break_no, universe=spot[0], address=spot[1])
    return Fix(f"Move {who} to {new} (next free)", ((f"{who} · address", old, new),), edit)


@declare_rule(
    "PATCH-02",
    severity="error",
    scope="universe",
    group="Clashes",
    stage="patch",
    title="A fixture ends past its universe",
    means="A fixture starts so high that its last slots lie past the universe's end.",
    matters="A fixture cannot leave its universe: the functions past the end never get a level.",
    put_right="Move it to the next free place that holds it whole.",
    candidates=lambda ctx: ctx.index.past_the_end(),
)
def find_past_the_end(ctx: Context, uid: str) -> Iterator[Found]:
    universe = ctx.rig.universes[uid]
    limit = ctx.index.limit_of_universe(uid)
    for span in ctx.index.spans_on_universe(uid):
        if span.last > limit.slots:
            who = ctx.index.word_for_taker(span.key)
            lost = span.last - limit.slots
            end = f"{limit.why}" if limit.why else f"the universe ends at {limit.slots}"
            title = f"{who} ends {say_count(lost, 'slot')} past " + (
                "what its port puts out" if limit.why else f"universe {universe.number}"
            )
            yield Found(
                title=title,
                reason=f"{who} would take {say_place(universe.number, span.first)} to {span.last}; {end}.",
                facts={
                    "fixture": who,
                    "universe": universe.number,
                    "first": span.first,
                    "last": span.last,
                    "size": limit.slots,
                },
                subject=f"{uid}:{subject_of(span.key)}/{max(0, span.break_no)}",
                where=say_place(universe.number, span.first),
                goes_to=goto_of(span.key),
                items=(span.item_of_span,) if span.item_of_span else (),
                fixes=partial(_move_fixes, ctx, span),
            )


def _move_fixes(
    ctx: Context, span: Span, highest: int = SLOTS, reach: Callable[[str], int] = lambda _: SLOTS
) -> list[Fix]:
    """Move it to a free place that is of help."""
    fix = move_fix(ctx, span, highest, reach)
    return [fix] if fix else []


def _patch_fixes(ctx: Context, key: str, breaks: list[int]) -> list[Fix]:
    """Patch all breaks that have no address at the next free places."""
    rig = ctx.index.rig
    if key not in rig.fixtures:
        return []
    try:
        laid = lay_out_items(ctx.index, [(key, b) for b in breaks], Laying())
    except Refused:
        return []  # there is no universe at all
    if laid.left:
        return []  # the rig is full
    steps = list(laid.steps)
    if ctx.index.items_that_follow(key):  # what follows it lands somewhere as well, and must land clean
        after = Index(apply_steps(rig, steps, "")[0])
        if any(
            {c.a.key, c.b.key} & {key, *after.items_that_follow(key)}
            for uid in after.universes_with_overlaps()
            for c in after.clashes_in_universe(uid)
        ):
            return []
    who = name_of_item(rig, key)
    where = [say_place(rig.universes[s.universe].number, s.address) for s in steps]
    names = [f"{who} · address" if len(steps) == 1 else f"{who} · break {s.break_no + 1}" for s in steps]
    label = f"Patch {who} at {' and '.join(where)} (next free)"
    return [
        Fix(
            label,
            tuple((n, "none", w) for n, w in zip(names, where)),
            partial(apply_steps, steps=steps, label=f"patch {who}"),
        )
    ]


@declare_rule(
    "PATCH-03",
    severity="warning",
    scope="item",
    group="Not patched",
    stage="patch",
    title="A fixture is not patched, or only in part",
    means="A fixture, or one break of it, has no address.",
    matters="It gets no levels at all, or only half of its functions move.",
    put_right="Type an address, or take the next free place.",
    candidates=lambda ctx: list(ctx.index.open),
)
def find_unpatched_items(ctx: Context, key: str) -> Iterator[Found]:
    fixture = ctx.rig.fixtures.get(key)
    mode = mode_of(ctx.rig, fixture) if fixture else None
    if not fixture or not mode:
        return
    if key not in ctx.index.open:
        return
    have = {max(0, s.break_no) for s in ctx.index.spans_of(key)}
    open_ = [
        b
        for b, part in enumerate(mode.breaks)
        if part.slots and b not in have and fixture.place_of_break(b).origin_of_place in ("none", "typed")
    ]
    if not open_:
        return
    name = mode.breaks[open_[0]].name or f"break {open_[0] + 1}"
    part_word = "not patched" if len(open_) == len(mode.breaks) else f"half patched: {name} has no address"
    yield Found(
        title=f"{fixture.number} is {part_word}",
        reason=f"{fixture.number} {fixture.name} needs {say_count(mode.breaks[open_[0]].slots, 'slot')} and has no "
        "address for them.",
        facts={"fixture": fixture.number, "open breaks": len(open_), "slots": mode.breaks[open_[0]].slots},
        where=f"fixture {fixture.number}",
        goes_to=Goto("item", key),
        items=(key,),
        fixes=partial(_patch_fixes, ctx, key, open_),
    )


def _numbers_changed(before: Rig, after: Rig, change: Change) -> bool:
    old, new = before.fixtures, after.fixtures
    return any(
        f not in old or f not in new or (old[f].number, old[f].name) != (new[f].number, new[f].name)
        for f in change.changed_ids("fixtures")
    )


@declare_rule(
    "PATCH-04",
    severity="error",
    scope="rig",
    group="Numbers",
    stage="patch",
    title="A number is used twice",
    means="Two fixtures carry the same number.",
    matters="Whoever calls for that number gets one of the two, and nobody knows which.",
    put_right="Give one of them another number.",
    touched=_numbers_changed,
)
def number_twice(ctx: Context, _: str) -> Iterator[Found]:
    seen: dict[int, str] = {}
    for fid, f in ctx.rig.fixtures.items():
        if f.number in seen:
            free = max(x.number for x in ctx.rig.fixtures.values()) + 1
            edit = partial(set_fixtures, label=f"renumber {f.number}", changes={fid: {"number": free}})
            yield Found(
                title=f"Number {f.number} is used twice",
                reason=f"“{ctx.rig.fixtures[seen[f.number]].name}” and “{f.name}” both carry number {f.number}.",
                facts={"number": f.number, "first": ctx.rig.fixtures[seen[f.number]].name, "second": f.name},
                subject=fid,
                where=f"fixture {f.number}",
                goes_to=Goto("item", fid),
                items=(seen[f.number], fid),
                fixes=[Fix(f"Number {f.name} {free}", ((f"{f.name} · number", str(f.number), str(free)),), edit)],
            )
        else:
            seen[f.number] = fid


@declare_rule(
    "PATCH-05",
    severity="warning",
    scope="item",
    group="Not patched",
    title="An address follows something that leads nowhere",
    means="The start is anchored to an item that has no place itself, or stands on no cable, or the anchors run in a "
    "circle.",
    matters="The fixture has no address, although its place looks settled.",
    put_right="Patch the item it follows, or type an address.",
    candidates=lambda ctx: list(ctx.index.lost),
)
def lost_anchor(ctx: Context, key: str) -> Iterator[Found]:
    if key not in ctx.index.lost:
        return
    places = ctx.rig.fixtures[key].at if key in ctx.rig.fixtures else (ctx.rig.elements[key].at,)
    if ctx.index.cables_and_sums.ports_of_item(key) and all(p.origin_of_place == "run" for p in places):
        return  # its cable lists it: that the port has no universe is told once, there (RUN-03)
    after = next((p.after for p in places if p.after), "")
    behind = f"behind {name_of_item(ctx.rig, after)}" if after else "on a cable that does not list it"
    yield Found(
        title=f"{name_of_item(ctx.rig, key)} follows something that is nowhere",
        reason=f"{name_of_item(ctx.rig, key)} stands {behind}, and that leads to no address.",
        facts={"thing": name_of_item(ctx.rig, key), "after": name_of_item(ctx.rig, after) if after else "its cable"},
        where=name_of_item(ctx.rig, key),
        goes_to=Goto("item", key),
        items=(key,),
    )


@declare_rule(
    "PATCH-08",
    severity="error",
    scope="item",
    group="Not patched",
    stage="patch",
    title="An element runs on into a universe that is not there",
    means="The pixels of an element need more universes than the rig has behind its start.",
    matters="All pixels past the last universe get no data.",
    put_right="Add the missing universe, or start lower.",
    candidates=lambda ctx: list(ctx.index.missing),
)
def runs_out(ctx: Context, key: str) -> Iterator[Found]:
    number = ctx.index.missing.get(key)
    if (
        number is None or ctx.rig.elements[key].at.origin_of_place == "run"
    ):  # of a cable it is told once, at its port (RUN-03)
        return
    element = ctx.rig.elements[key]
    covered = sum(s.last - s.first + 1 for s in ctx.index.spans_of(key))

    def edit(rig: Rig) -> Edit:
        new, change = add_universe(rig, number, element.name)
        return new, change

    fix = Fix(f"Add universe {number}", ((f"universe {number}", "none", "512 slots"),), edit)
    yield Found(
        title=f"{element.name} needs universe {number}, which is not there",
        reason=f"{element.slots_needed - covered} of its {element.slots_needed} slots lie past the rig's last "
        f"universe.",
        facts={"element": element.name, "universe": number, "slots without a place": element.slots_needed - covered},
        where=element.name,
        goes_to=Goto("item", key),
        items=(key,),
        fixes=[fix] if number <= HIGHEST_SACN else [],
    )


@declare_rule(
    "PATCH-09",
    severity="note",
    scope="item",
    group="Worth knowing",
    title="An element runs over several universes",
    means="A pixel item needs more slots than one universe has and goes on in the next.",
    matters="Each of those universes needs a feed and must reach the same device; with another universe size at the "
    "device all is shifted.",
    put_right="Nothing, if it is meant; else start it lower or make it shorter.",
    candidates=lambda ctx: list(ctx.rig.elements),
)
def spans_universes(ctx: Context, key: str) -> Iterator[Found]:
    element = ctx.rig.elements.get(key)
    spans = ctx.index.spans_of(key)
    if element is None or len(spans) < 2 or element.at.origin_of_place == "run":
        return
    first, last = ctx.rig.universes[spans[0].universe].number, ctx.rig.universes[spans[-1].universe].number
    per = [
        f"{(s.last - s.first + 1) // len(element.order)} px in {ctx.rig.universes[s.universe].number}"
        for s in spans[:4]
    ]
    words = ", ".join(per) if element.kind != "block" else say_count(element.slots_needed, "slot")
    yield Found(
        title=f"{element.name} runs over universes {first} to {last}",
        reason=f"It is split {words}{' …' if len(spans) > 4 else ''}; sender and device must use the same "
        "universe size.",
        facts={"element": element.name, "universes": len(spans), "first": first, "last": last},
        where=element.name,
        goes_to=Goto("item", key),
        items=(key,),
    )


@declare_rule(
    "PATCH-10",
    severity="warning",
    scope="item",
    group="Clashes",
    title="A pixel is cut by the universe's end",
    means="An element is packed without gaps, and one pixel has components in two universes.",
    matters="Some receivers cannot take a cut pixel; a lost or late packet shows it in a wrong colour.",
    put_right="Keep pixels whole, or start the element so that the end falls between two pixels.",
    candidates=lambda ctx: list(ctx.rig.elements),
    for_all="Keep the pixels of {n} elements whole",
)
def find_cut_pixels(ctx: Context, key: str) -> Iterator[Found]:
    element = ctx.rig.elements.get(key)
    if element is None or element.whole or element.kind == "block" or element.at.origin_of_place == "run":
        return
    k = len(element.order)
    cuts = [s for s in ctx.index.spans_of(key)[1:] if s.offset % k]
    if not cuts:
        return
    pixels = [str(s.offset // k + 1) for s in cuts]
    number = ctx.rig.universes[cuts[0].universe].number

    def edit(rig: Rig) -> Edit:
        return put_entries(
            rig, f"keep the pixels of {element.name} whole", elements={key: replace(rig.elements[key], whole=True)}
        )

    yield Found(
        title=f"{element.name} has {say_count(len(cuts), 'pixel')} in two universes",
        reason=f"Pixel {', '.join(pixels[:4])}{' …' if len(pixels) > 4 else ''} begins before and ends after the "
        f"start of universe {number}"
        f"{' and others' if len(cuts) > 1 else ''}.",
        facts={"element": element.name, "pixels": " ".join(pixels[:9])},
        where=element.name,
        goes_to=Goto("item", key),
        items=(key,),
        fixes=[Fix("Keep pixels whole", ((f"{element.name} · pixels", "cut at the end", "whole"),), edit)],
    )


def _short_reach(ctx: Context) -> list[str]:
    """Fixtures that may stand above what the lamps of their profile reach: in a universe, or on a line behind something
    on a cable."""
    high = {p: reach_of_switches(v.address)[1] for p, v in ctx.rig.profiles.items() if v.address}
    if not high:
        return []
    found = []
    for span in ctx.index.starting_above(min(high.values())):
        fixture = ctx.rig.fixtures.get(span.item_of_span)
        if fixture and span.first > high.get(fixture.profile, SLOTS):
            found.append(span.item_of_span)
    for stream in ctx.index.cables_and_sums.streams.values():
        for piece in stream.pieces:
            found += [
                k for k in piece.segment.fixtures if k in ctx.rig.fixtures and ctx.rig.fixtures[k].profile in high
            ]
    return list(dict.fromkeys(found))


@declare_rule(
    "PATCH-11",
    severity="warning",
    scope="item",
    group="Switches",
    stage="lamp",
    title="An address the lamp cannot be set to",
    means="The fixture's switches or menu do not reach the address that the plan gives it.",
    matters="Nobody can set it; somebody will set something near it.",
    put_right="Move the fixture to an address within reach.",
    candidates=_short_reach,
)
def find_unreachable_addresses(ctx: Context, key: str) -> Iterator[Found]:
    fixture = ctx.rig.fixtures.get(key)
    profile = ctx.rig.profiles.get(fixture.profile) if fixture else None
    if fixture is None or profile is None or profile.address is None:
        return
    low, high = reach_of_switches(profile.address)
    spans = {x.break_no: x for x in ctx.index.spans_of(key)}
    for break_no in range(max(1, len(fixture.at))):
        on = set_on(ctx.index, key, break_no)
        if not on.address or low <= on.address <= high:
            continue
        span = spans.get(break_no)
        where = say_place(ctx.rig.universes[span.universe].number, span.first) if span else f"DMX {on.address}"
        yield Found(
            title=f"{fixture.number} cannot be set to {on.address}",
            reason=f"The {'switches' if profile.address.by == 'switches' else 'menu'} of {profile.name} reach {low} "
            f"to {high}{f'; {on.address} is its address {on.behind}' if on.behind else ''}.",
            facts={"fixture": fixture.number, "address": on.address, "highest": high},
            subject=f"{key}/{break_no}",
            where=where,
            goes_to=Goto("item", key),
            items=(key,),
            fixes=partial(_move_fixes, ctx, span, high) if span and not on.place else (),
        )


@declare_rule(
    "PATCH-12",
    severity="note",
    scope="universe",
    group="Worth knowing",
    title="Something stands in the reserve",
    means="Slots that were declared as reserve are used.",
    matters="The reserve was kept for something; when that comes it will clash.",
    put_right="Move the item, or make the reserve smaller.",
    candidates=lambda ctx: [u for u, v in ctx.rig.universes.items() if v.reserve],
)
def in_reserve(ctx: Context, uid: str) -> Iterator[Found]:
    universe = ctx.rig.universes[uid]
    for span in ctx.index.spans_on_universe(uid) if universe.reserve else ():
        hit = next(((a, b) for a, b in universe.reserve if a <= span.last and span.first <= b), None)
        if hit:
            who = ctx.index.word_for_taker(span.key)
            yield Found(
                title=f"{who} stands in the reserve {hit[0]}–{hit[1]} of universe {universe.number}",
                reason=f"{who} takes {span.first} to {span.last}.",
                facts={
                    "thing": who,
                    "universe": universe.number,
                    "first": span.first,
                    "last": span.last,
                    "reserve": f"{hit[0]}–{hit[1]}",
                },
                subject=f"{uid}:{subject_of(span.key)}/{max(0, span.break_no)}",
                where=say_place(universe.number, span.first),
                goes_to=goto_of(span.key),
                items=(span.item_of_span,) if span.item_of_span else (),
                fixes=partial(_move_fixes, ctx, span),
            )


def _sent_short(ctx: Context) -> list[str]:
    """Universes of which less is sent than could be used; none while every sender sends all of each."""
    if all(s.universe_size == SLOTS for s in ctx.rig.senders.values()):
        return []
    return [u for u in ctx.rig.universes if _sent_slots(ctx, u) < ctx.index.limit_of_universe(u).slots]


def _sent_slots(ctx: Context, uid: str) -> int:
    """How many slots of a universe any of its senders sends; 512 when nothing feeds it (that is another finding)."""
    senders = [ctx.rig.senders.get(ctx.rig.feeds[f].sender) for f in ctx.feeds_by_universe.get(uid, ())]
    return max((s.universe_size for s in senders if s), default=SLOTS)


@declare_rule(
    "PATCH-13",
    severity="warning",
    scope="universe",
    group="Clashes",
    title="Channels that nothing ever drives",
    means="Functions of an item lie on slots that no sender of its universe sends.",
    matters="They stay at what the lamp does without data: a dimmer that is never driven keeps it dark.",
    put_right="Move it below the last slot that is sent, or let a sender send more of the universe.",
    candidates=lambda ctx: _sent_short(ctx),
)
def never_driven(ctx: Context, uid: str) -> Iterator[Found]:
    sent = _sent_slots(ctx, uid)
    limit = ctx.index.limit_of_universe(uid).slots
    if sent >= limit:
        return
    number = ctx.rig.universes[uid].number
    for span in ctx.index.spans_on_universe(uid):
        if sent < span.last <= limit:
            who = ctx.index.word_for_taker(span.key)
            first = max(span.first, sent + 1)
            words = words_on(ctx.index, span, first, span.last)
            yield Found(
                title=f"Nothing drives {say_count(span.last - first + 1, 'slot')} of {who}",
                reason=f"Of universe {number} {sent} slots are sent; {', '.join(words[:3])} of {who} lie behind them.",
                facts={"thing": who, "universe": number, "sent": sent, "first": first, "last": span.last},
                subject=f"{uid}:{subject_of(span.key)}/{max(0, span.break_no)}",
                where=say_place(number, first),
                goes_to=goto_of(span.key),
                items=(span.item_of_span,) if span.item_of_span else (),
                fixes=partial(_move_fixes, ctx, span, reach=partial(_sent_slots, ctx)),
            )


@declare_rule(
    "PATCH-15",
    severity="warning",
    scope="item",
    group="Worth knowing",
    title="An element that begins where no whole pixel fits",
    means="An element's address is so near to its universe's end that its first pixel, kept whole, begins in the next "
    "one.",
    matters="The plan says one address, the levels go to another, and whoever reads the list sets the wrong one.",
    put_right="Begin at the highest start where a pixel fits, or at slot 1 of the next universe.",
    candidates=lambda ctx: [
        k for k, e in ctx.rig.elements.items() if e.at.origin_of_place == "typed" and _skips_first_pixel(ctx.rig, e)
    ],
)
def find_skipped_starts(ctx: Context, key: str) -> Iterator[Found]:
    element = ctx.rig.elements.get(key)
    if element is None or not _skips_first_pixel(ctx.rig, element):
        return
    universe = ctx.rig.universes[element.at.universe]
    highest = universe.size - element.slots_per_pixel + 1
    said, best = say_place(universe.number, element.at.address or 0), say_place(universe.number, highest)
    edit = partial(move_item, key=key, break_no=0, universe=element.at.universe, address=highest)
    fix = Fix(f"Begin at {best}", ((f"{element.name} · address", said, best),), edit)
    yield Found(
        title=f"No whole pixel of {element.name} fits at {said}",
        reason=f"It takes {element.slots_per_pixel} slots and begins at {say_place(universe.number + 1, 1)} instead.",
        facts={"element": element.name, "address": said, "highest": best},
        where=element.name,
        goes_to=Goto("item", key),
        items=(key,),
        fixes=[] if element.at.locked else [fix],
    )


def _skips_first_pixel(rig: Rig, element: Element) -> bool:
    """Whether the first pixel of an element with a typed address, kept whole, falls into the next universe."""
    universe, address = rig.universes.get(element.at.universe), element.at.address
    if universe is None or address is None or element.at.origin_of_place != "typed" or not element.whole:
        return False
    return address <= universe.size < address + element.slots_per_pixel - 1 and element.slots_per_pixel <= universe.size


@declare_rule(
    "PATCH-17",
    severity="warning",
    scope="item",
    group="Switches",
    stage="lamp",
    title="A lamp that was set to another value",
    means="A mode or an address was ticked off on the setting card, and the plan says another one by now.",
    matters="The lamp still has what was set then: it takes the levels of other slots, or moves in another way.",
    put_right="Set the lamp anew and tick it off, or take the plan back to what was set.",
    candidates=lambda ctx: [k for k, f in ctx.rig.fixtures.items() if f.entered],
)
def set_before(ctx: Context, key: str) -> Iterator[Found]:
    if key not in ctx.rig.fixtures:
        return
    for step in steps_to_repeat(ctx.index, key):
        yield Found(
            title=f"{step.number} was set to {step.was}, the plan says {step.value}",
            reason=f"{step.what}: ticked{f' by {step.by}' if step.by else ''} when the plan was another one.",
            facts={"fixture": step.number, "set": str(step.was), "plan": str(step.value)},
            subject=f"{key}/{step.key}",
            where=f"{step.number}",
            goes_to=Goto("item", key),
            items=(key,),
            fixes=[
                Fix(
                    "Take the tick back",
                    ((f"{step.number} · {step.what.lower()}", "ticked", "to be set"),),
                    partial(untick_lamps, steps=(step,)),
                )
            ],
        )
