"""Findings about what is attached where: chips, colour order and folds at both ends, attached twice, in part or
nowhere."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

from msgspec.structs import replace

from welvo.checks.registry import Context, Fix, Found, PortHere, declare_rule
from welvo.checks.run_rules import streams_to_check
from welvo.rig.colours import word_of
from welvo.rig.counting import free_between
from welvo.rig.document import Edit, Rig
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_count, say_place, say_stretch, say_thousands
from welvo.rig.patched import NOWHERE, Element
from welvo.rig.plan import model_of
from welvo.rig.refs import Goto, PortRef, to_run
from welvo.runs.along import piece_name
from welvo.runs.cable import Piece
from welvo.runs.edits import (
    change_segment,
    follow_cable,
    follow_runs,
    set_stream,
    take_down,
    what_follows,
)
from welvo.runs.orders import orders_of, setting_for
from welvo.runs.pixels import streams_of
from welvo.runs.power import type_of


@declare_rule(
    "RUN-07",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="Chip types that do not go together",
    means="A port is set to another chip type than the string has, two types are attached to one port, or the device "
    "cannot drive one.",
    matters="Flicker, wrong colours or darkness from the first pixel of the other type on.",
    put_right="Set the port to the string's type; attach other types to other ports.",
    candidates=streams_to_check,
)
def find_mixed_chips(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    if stream is None:
        return
    model = model_of(ctx.rig, device_id)
    set_to = ctx.rig.devices[device_id].ports[label].chip
    seen: dict[str, Piece] = {}
    for p in stream.pieces:
        kind = type_of(ctx.rig, p)
        if kind and kind.chip:
            seen.setdefault(kind.chip, p)
    name = here.name
    if len(seen) > 1:
        (a, p), (b, q) = list(seen.items())[:2]
        yield Found(
            title=f"Two chip types on port {label}: {a} and {b}",
            reason=f"{piece_name(ctx.rig, p)} is {a}, {piece_name(ctx.rig, q)} is {b}; one port speaks one of them.",
            facts={"first": a, "second": b},
            where=name,
            goes_to=to_run(device_id, label, q.n),
            items=(q.key,),
        )
        return
    for chip, p in seen.items():
        if set_to and set_to != chip:
            edit = partial(set_stream, device_id=device_id, label=label, words=f"port {label}: chip {chip}", chip=chip)
            yield Found(
                title=f"Port {label} is set to {set_to}, the string is {chip}",
                reason=f"{piece_name(ctx.rig, p)} does not understand {set_to}.",
                facts={"set": set_to, "string": chip},
                where=name,
                goes_to=to_run(device_id, label, p.n),
                items=(p.key,),
                fixes=[Fix(f"Set port {label} to {chip}", ((f"port {label} · chip", set_to, chip),), edit)],
            )
        elif model and model.chips and chip not in model.chips:
            yield Found(
                title=f"A {model.name} cannot drive {chip}",
                reason=f"{piece_name(ctx.rig, p)} is {chip}; the device drives {', '.join(model.chips)}.",
                facts={"chip": chip, "box": model.name},
                where=name,
                goes_to=to_run(device_id, label, p.n),
                items=(p.key,),
            )


@declare_rule(
    "RUN-08",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="Colour order set at both ends, or at neither",
    means="The sender sends components in one order, the chips take another, and nobody changes it, or both do.",
    matters="Red comes out as green.",
    put_right="Set the order in one place only.",
    candidates=streams_to_check,
)
def find_wrong_colour_order(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    for p in stream.pieces if stream else ():
        element = ctx.rig.elements.get(p.key)
        if element is None or p.segment.kind != "pixels":
            continue
        orders = orders_of(ctx.rig, device_id, p)
        if orders is None:
            continue
        gives, wants, set_to = orders.put_out, orders.taken, p.segment.order
        who = piece_name(ctx.rig, p)
        if (set_to and set(set_to) != set(element.order)) or sorted(wants) != sorted(element.order):
            other = set_to if set_to and set(set_to) != set(element.order) else wants
            yield Found(
                title=f"{who} is sent as {element.order} and wants {other}",
                reason="They do not have the same components.",
                facts={"sent": element.order, "wants": other},
                subject=f"{here.ref}/{p.n}",
                where=here.name,
                goes_to=to_run(device_id, label, p.n),
                items=(p.key,),
            )
            continue
        if orders.is_right:
            continue
        at_both = element.order == wants
        fix = setting_for(element.order, wants, orders.names)
        how = f"The controller is set to {set_to} and so puts out {gives}" if set_to else f"It is put out as {gives}"
        seen = ", ".join(f"{word_of(a)} lights {word_of(b)}" for a, b in orders.shown_components if a != b)
        edit = partial(change_segment, device_id=device_id, label=label, n=p.n, words=f"order {wants}", order=fix)
        yield Found(
            title=f"Colour order of {who} is set at "
            f"{'both ends' if at_both else 'neither end' if not p.segment.order else 'one end, wrongly'}",
            reason=f"The sender sends {element.order}. {how}, and the chips take {wants}: {seen}.",
            facts={"sent": element.order, "given": gives, "taken": wants},
            subject=f"{here.ref}/{p.n}",
            where=here.name,
            goes_to=to_run(device_id, label, p.n),
            items=(p.key,),
            fixes=[
                Fix(
                    "Set the order straight here" if at_both else f"Set the controller to {fix} here",
                    ((f"{who} · colour order", set_to or "straight", fix or "straight"),),
                    edit,
                )
            ],
        )


@declare_rule(
    "RUN-09",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="A fold set at both ends, or at neither",
    means="A string turns back on itself, and nobody puts its pixels in order, or sender and controller both do.",
    matters="Every second stretch shows its picture upside down.",
    put_right="Sort the fold out in one place only.",
    candidates=streams_to_check,
)
def find_odd_folds(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    for p in stream.pieces if stream else ():
        element = ctx.rig.elements.get(p.key)
        if element is None or p.segment.kind != "pixels":
            continue
        want = element.fold if element.unfolds == "box" else 0
        has = p.segment.fold
        courses = element.fold and element.fold < element.pixels
        if (
            not has
            and courses
            and (p.segment.first - 1) // element.fold == (p.segment.first + p.leds - 2) // element.fold
        ):
            continue  # a part that lies in one stretch has nothing to unfold
        if has == want or (not courses and (not element.fold or not has)) or (has and not element.fold):
            continue
        who = piece_name(ctx.rig, p)
        both = element.unfolds == "sender" and bool(has)
        end = "both ends" if both else "neither end" if not has else f"{has} here and lies in {element.fold}"
        edit = partial(change_segment, device_id=device_id, label=label, n=p.n, words=f"fold {want}", fold=want)
        yield Found(
            title=f"The fold of {who} is set at {end}" if not has or both else f"The fold of {who} is {end}",
            reason=f"It turns back every {element.fold} pixels; the "
            f"{'sender' if element.unfolds == 'sender' else 'controller'} is to unfold it, the segment folds "
            f"{has or 'nothing'}.",
            facts={"string": element.fold, "segment": has, "unfolds": element.unfolds},
            subject=f"{here.ref}/{p.n}",
            where=here.name,
            goes_to=to_run(device_id, label, p.n),
            items=(p.key,),
            fixes=[
                Fix(
                    f"Set to fold every {want} here" if want else "Take the fold away here",
                    ((f"{who} · fold", str(has or "none"), str(want or "none")),),
                    edit,
                )
            ],
        )


@declare_rule(
    "RUN-10",
    severity="note",
    scope="port",
    group="Worth knowing",
    title="A fold that does not divide the count",
    means="The last stretch of a folded segment is shorter than the others.",
    matters="It is reversed only when it is an even one; a miscounted ribbon looks like this.",
    put_right="Check the count and the fold.",
    candidates=streams_to_check,
)
def odd_fold(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    for p in stream.pieces if stream else ():
        fold = p.segment.fold
        if not fold or p.segment.kind != "pixels" or not p.leds:
            continue
        who = piece_name(ctx.rig, p)
        if fold >= p.leds:
            words, why = (
                f"A fold of {fold} does nothing to {who}",
                f"It has {say_count(p.leds, 'pixel')}: the first stretch is never full.",
            )
        elif p.leds % fold:
            number = p.leds // fold + 1
            words = f"{fold} does not divide the {p.leds} pixels of {who}"
            why = (
                f"Its last stretch, the {number}., has {p.leds % fold} pixels and runs "
                f"{'back' if number % 2 == 0 else 'forward'}."
            )
        else:
            continue
        yield Found(
            title=words,
            reason=why,
            facts={"pixels": p.leds, "fold": fold},
            subject=f"{here.ref}/{p.n}",
            where=here.name,
            goes_to=to_run(device_id, label, p.n),
            items=(p.key,),
        )


@declare_rule(
    "RUN-16",
    severity="error",
    scope="item",
    group="Runs",
    stage="run",
    title="Attached in two places at once",
    means="The same pixels, or the same fixture, are attached in more than one place.",
    matters="Only one of them can be right; the address is taken from the first.",
    put_right="Take one of them down.",
    candidates=lambda ctx: [k for k, at in ctx.index.cables_and_sums.listed_items().items() if len(at) > 1],
)
def attached_twice(ctx: Context, key: str) -> Iterator[Found]:
    rig = ctx.rig
    attached = list(dict.fromkeys(ctx.index.cables_and_sums.ports_of_item(key)))
    if len(attached) == 1:  # one place that names it more than once, or one place and nothing wrong
        ((device_id, label), n) = attached[0]
        if rig.devices[device_id].ports[label].run[n].fixtures.count(key) < 2:
            return
        attached *= 2
    elif not attached:
        return
    places = [(device_id, label, n, rig.devices[device_id].ports[label].run[n]) for (device_id, label), n in attached]
    element = rig.elements.get(key)
    twice, where = 0, places[1]
    if element:
        seen: list[tuple[int, int]] = []
        for place in places:
            s = place[3]
            first, last = s.first, (s.first + s.count - 1) if s.count else (element.pixels or element.slots)
            for a, b in seen:
                overlap = min(last, b) - max(first, a) + 1
                if overlap > 0:
                    twice, where = twice + overlap, place
            seen.append((first, last))
        if not twice:
            return
    (d1, l1, *_), (d2, l2, n2, s2) = places[0], where
    both = f"{ctx.port_name(PortRef(d1, l1))} and {ctx.port_name(PortRef(d2, l2))}"
    if (d1, l1) == (d2, l2):
        same = places[0][2] == where[2]
        both = f"{ctx.port_name(PortRef(d1, l1))}, {'named twice there' if same else 'in two places of it'}"
    bridge = (
        key in rig.fixtures and any(p[3].kind == "bridge" for p in places) and any(p[3].element == key for p in places)
    )
    what = f"{say_count(twice, 'pixel')} of {element.name}" if element else name_of_item(rig, key)
    if key in s2.fixtures:
        left = (
            tuple(f for f in s2.fixtures if f != key)
            if (d1, l1) != (d2, l2) or places[0][2] != n2
            else tuple(dict.fromkeys(s2.fixtures))
        )
        edit = partial(
            change_segment, device_id=d2, label=l2, n=n2, words=f"take {name_of_item(rig, key)} off", fixtures=left
        )
        fix = Fix(
            f"Take {name_of_item(rig, key)} off {ctx.port_name(PortRef(d2, l2))}",
            ((name_of_item(rig, key), both, ctx.port_name(PortRef(d1, l1))),),
            edit,
        )
    else:
        fix = Fix(
            f"Take it off {ctx.port_name(PortRef(d2, l2))}",
            ((what, both, ctx.port_name(PortRef(d1, l1))),),
            partial(take_down, device_id=d2, label=l2, places=[n2]),
        )
    yield Found(
        title=f"{what} {'are attached' if twice != 1 and element else 'is attached'} twice",
        reason=f"On {both}{': behind the bridge, and on the port itself' if bridge else ''}.",
        facts={"what": what, "places": both},
        where=name_of_item(rig, key),
        goes_to=to_run(d2, l2, n2),
        items=(key,),
        fixes=[fix],
    )


@declare_rule(
    "RUN-17",
    severity="warning",
    scope="item",
    group="Runs",
    title="An element is attached in part only",
    means="Some pixels of an element are attached to a port and others nowhere.",
    matters="The rest stays dark.",
    put_right="Attach the rest, or make the element shorter.",
    candidates=lambda ctx: [k for k in ctx.index.cables_and_sums.listed_items() if k in ctx.rig.elements],
)
def attached_in_part(ctx: Context, key: str) -> Iterator[Found]:
    element = ctx.rig.elements.get(key)
    attached = ctx.index.cables_and_sums.ports_of_item(key)
    if element is None or not attached:
        return
    total = element.slots if element.kind == "block" else element.pixels
    covered: set[tuple[int, int]] = set()
    for (device_id, label), n in attached:
        s = ctx.rig.devices[device_id].ports[label].run[n]
        if s.kind not in ("pixels", "lamps"):
            continue
        covered.add((s.first, min(total, s.first + s.count - 1) if s.count else total))
    missing = free_between(list(covered), total)
    if not missing:
        return
    lost = sum(b - a + 1 for a, b in missing)
    (device_id, label), n = attached[0]
    unit = "slot" if element.kind == "block" else "pixel"
    yield Found(
        title=f"{say_thousands(total - lost)} of {say_count(total, unit)} of {element.name} are attached to a port",
        reason=f"{', '.join(say_stretch(a, b) for a, b in missing[:4])} "
        f"{'is attached' if lost == 1 else 'are attached'} nowhere.",
        facts={"hung": total - lost, "of": total},
        where=element.name,
        goes_to=to_run(device_id, label, n),
        items=(key,),
    )


@declare_rule(
    "RUN-18",
    severity="warning",
    scope="item",
    group="Runs",
    stage="run",
    title="A fixed address that the cable does not reach",
    means="Something on a run has an address of its own, and the stream carries it elsewhere.",
    matters="It shows other slots than those it is patched to.",
    put_right="Let it follow the cable, or begin its segment there.",
    candidates=lambda ctx: list(ctx.index.cables_and_sums.listed_items()),
)
def fixed_elsewhere(ctx: Context, key: str) -> Iterator[Found]:
    rig, cables = ctx.rig, ctx.index.cables_and_sums
    element, fixture = rig.elements.get(key), rig.fixtures.get(key)
    place = element.at if element else fixture.place_of_break(0) if fixture else NOWHERE
    if place.origin_of_place == "run":
        return
    pieces = [(s, p) for s, p in cables.on_runs(key) if p.segment.kind in ("pixels", "bridge") and p.parts]
    if not pieces:
        return
    stream, piece = pieces[0]
    own = ctx.index.spans_of(key)
    name, device_id, label = name_of_item(rig, key), stream.device_id, stream.label
    fixes = [
        Fix(
            "Let it take its address from the cable",
            ((name, _say_spans(ctx, own), "from the cable"),),
            partial(follow_cable, key=key),
        )
    ]
    if piece.segment.kind == "bridge":
        lost = [b for b in cables.fixtures_behind(piece.segment, piece) if b.key == key and not b.dmx]
        if not lost or not own:
            return
        low, high = piece.parts[0], piece.parts[-1]
        words = f"the bridge carries {say_place(low.universe, low.first)} to {say_place(high.universe, high.last)}"
    else:
        words = _where_cable_and_patch_part(ctx, key, piece)
        if not words:
            return
        model = model_of(rig, device_id)
        if (
            model
            and model.own_starts
            and place.origin_of_place == "typed"
            and len(pieces) == 1
            and piece.segment.first == 1
        ):
            fixes.append(
                Fix(
                    f"Begin the segment at {_say_spans(ctx, own)}",
                    ((name, "behind the one before", _say_spans(ctx, own)),),
                    partial(
                        change_segment,
                        device_id=device_id,
                        label=label,
                        n=piece.n,
                        words="begin where it is patched",
                        at=replace(place, locked=False),
                    ),
                )
            )
    yield Found(
        title=f"{name} is fixed at {_say_spans(ctx, own)} and the cable is elsewhere",
        reason=f"{words[:1].upper()}{words[1:]}.",
        facts={"patched": _say_spans(ctx, own), "cable": words},
        where=name,
        goes_to=to_run(device_id, label, piece.n),
        items=(key,),
        fixes=fixes,
    )


def _where_cable_and_patch_part(ctx: Context, key: str, piece: Piece) -> str:
    """The first span that the cable gives an item elsewhere than its address says; empty when they agree."""
    rig, cables = ctx.rig, ctx.index.cables_and_sums
    wanted = [(rig.universes[s.universe].number, s.first, s.last) for s in ctx.index.spans_of(key)]
    parts = [p for p, _ in cables.element_parts(key)] if key in rig.elements else piece.parts
    given = [(p.universe, p.first, p.last) for p in parts]
    if wanted == given or not wanted:
        return ""
    n = next((i for i, (a, b) in enumerate(zip(wanted, given)) if a != b), min(len(wanted), len(given)))
    ours, theirs = wanted[n] if n < len(wanted) else None, given[n] if n < len(given) else None
    words = f"the cable gives it {say_place(*theirs[:2])} to {theirs[2]}" if theirs else "the cable ends before"
    return words + (f" where the patch says {say_place(*ours[:2])} to {ours[2]}" if ours else "")


def _say_spans(ctx: Context, spans: tuple[object, ...]) -> str:
    if not spans:
        return "nowhere"
    first = ctx.index.spans_of(spans[0].key)[0]  # type: ignore[attr-defined]
    return say_place(ctx.rig.universes[first.universe].number, first.first)


@declare_rule(
    "RUN-28",
    severity="note",
    scope="rig",
    group="Worth knowing",
    title="Elements that are attached nowhere",
    means="Some elements are attached to no port although the rig has ports for pixels.",
    matters="Nothing says by which cable they get their light.",
    put_right="Attach them in Runs.",
)
def attached_nowhere(ctx: Context, _: str) -> Iterator[Found]:
    rig = ctx.rig
    if not any(m.kind in ("pixel", "converter") or m.gives for m in (model_of(rig, d) for d in rig.devices) if m):
        return
    loose: list[Element] = [e for k, e in rig.elements.items() if not ctx.index.cables_and_sums.ports_of_item(k)]
    if not loose:
        return
    pixels = sum(e.pixels for e in loose if e.kind != "block")
    names = ", ".join(e.name for e in loose[:5]) + (" …" if len(loose) > 5 else "")
    yield Found(
        title=f"{say_count(len(loose), 'element')} ({say_count(pixels, 'pixel')}) "
        f"{'is attached' if len(loose) == 1 else 'are attached'} nowhere",
        reason=f"{names}.",
        facts={"elements": len(loose), "pixels": pixels},
        subject="rig",
        where="elements",
        goes_to=Goto("unattached"),
        items=tuple(k for k, e in rig.elements.items() if not ctx.index.cables_and_sums.ports_of_item(k))[:100],
    )


@declare_rule(
    "RUN-29",
    severity="warning",
    scope="device",
    group="Runs",
    title="Something on a run has no address",
    means="An item is attached to a port and neither follows the cable nor has an address of its own.",
    matters="The sender cannot reach it.",
    put_right="Let it take its address from the cable.",
)
def no_address(ctx: Context, device_id: str) -> Iterator[Found]:
    have = what_follows(ctx.rig, device_id)
    if not have.new:
        return
    name = ctx.rig.devices[device_id].name
    names = ", ".join(name_of_item(ctx.rig, k) for k in have.new[:5]) + (" …" if len(have.new) > 5 else "")
    yield Found(
        title=f"{say_count(len(have.new), 'item')} on {name} {'has' if len(have.new) == 1 else 'have'} no address",
        reason=f"{names}.",
        facts={"things": len(have.new)},
        where=name,
        goes_to=Goto("run", device_id),
        items=have.new,
        fixes=[
            Fix(
                f"Patch {say_count(len(have.new), 'item')} from the cable",
                tuple((name_of_item(ctx.rig, k), "no address", "from the cable") for k in have.new[:8]),
                partial(follow_runs, device_id=device_id),
            )
        ],
    )


MANY_ALIKE = 4
"""How many segments have to be set alike before another one is worth a question."""


@declare_rule(
    "RUN-35",
    severity="note",
    scope="device",
    group="Worth knowing",
    title="Set otherwise than its neighbours",
    means="Nearly all segments of a device are set to one colour order, or its ports to one chip type, and one is set "
    "to another, without anybody having said what it is made of.",
    matters="On one device that is mostly a slip: one string then shows other colours, or flickers.",
    put_right="Set it as its neighbours, or say what the string is made of.",
    candidates=lambda ctx: list({ref.device for ref in ctx.index.cables_and_sums.streams}),
    for_all="Set {n} as their neighbours are",
)
def unlike_its_neighbours(ctx: Context, device_id: str) -> Iterator[Found]:
    device = ctx.rig.devices[device_id]
    segments = [
        (s.label, p)
        for s in streams_of(ctx.index.cables_and_sums, device_id)
        for p in s.pieces
        if p.segment.kind == "pixels" and p.pixels and p.k > 1
    ]
    usual = _usual_value([(p.segment.order or "straight", p.k) for _, p in segments])
    for label, p in segments:
        order = p.segment.order or "straight"
        if usual is None or p.k != usual[1] or order == usual[0] or type_of(ctx.rig, p):
            continue
        to = "" if usual[0] == "straight" else str(usual[0])
        edit = partial(change_segment, device_id=device_id, label=label, n=p.n, words=f"order {usual[0]}", order=to)
        yield _unlike_finding(
            f"{piece_name(ctx.rig, p)} on port {label}", "colour order", order, str(usual[0]), device.name,
            f"{device_id} {label} {p.n} order", to_run(device_id, label, p.n), _only_edit(edit),
        )  # fmt: skip
    chip = _usual_value([p.chip for p in device.ports.values() if p.chip])
    for label, port in device.ports.items():
        stream = ctx.index.cables_and_sums.streams.get(PortRef(device_id, label))
        known = stream is not None and any((k := type_of(ctx.rig, p)) and k.chip for p in stream.pieces)
        if chip is None or not port.chip or port.chip == chip or known:
            continue
        set_chip = partial(set_stream, device_id=device_id, label=label, words=f"port {label}: chip {chip}", chip=chip)
        yield _unlike_finding(
            f"Port {label}", "chip type", port.chip, str(chip), device.name, f"{device_id} {label} chip",
            to_run(device_id, label), set_chip,
        )  # fmt: skip


def _only_edit(change: Callable[..., Any]) -> Callable[[Rig], Edit]:
    """The rig and the change of an edit that gives more than these."""
    return lambda rig: change(rig)[:2]


def _usual_value(values: list[object]) -> Any:
    """What all but a few of many have; None where there is no such thing."""
    if not values:
        return None
    most, count = Counter(values).most_common(1)[0]
    return most if count >= MANY_ALIKE and count >= 0.75 * len(values) else None


def _unlike_finding(
    who: str, what: str, has: str, usual: str, device: str, subject: str, goes: Goto, edit: Callable[[Rig], Edit]
) -> Found:
    return Found(
        title=f"{who} is set to {has}, its neighbours to {usual}",
        reason=f"The other segments or ports of {device} have {what} {usual}, and nobody said what this one is made "
        "of.",
        facts={"who": who, "what": what, "has": has, "usual": usual},
        subject=subject,
        where=f"{device} · {who}",
        goes_to=goes,
        fixes=[Fix(f"Set it to {usual} as well", ((f"{who} · {what}", has, usual),), edit)],
    )
