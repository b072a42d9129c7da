"""Findings about what hangs where: chips, colour order and folds at both ends, hung twice, in part or nowhere."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from msgspec.structs import replace

from welvo.checks.registry import Context, Finding, Fix, just, rule
from welvo.checks.run_rules import _goes, _name, _of, _ports
from welvo.patch.along import piece_name
from welvo.patch.cable import Piece
from welvo.rig.lookup import call
from welvo.rig.notation import plural, say_place, thousands
from welvo.rig.patched import NOWHERE, Element
from welvo.rig.plan import model_of
from welvo.runs.edits import (
    change_segment,
    follow_cable,
    follow_runs,
    hanging,
    set_stream,
    take_down,
)  # fmt: skip
from welvo.runs.power import type_of


@rule(
    "RUN-07", "error", "port", "Chip types that do not go together",
    "A port is set to another chip type than the string has, two types hang on one port, or the box cannot drive one.",
    "Flicker, wrong colours or darkness from the first pixel of the other type on.",
    "Set the port to the string's type; hang other types on other ports.", among=_ports,
)  # fmt: skip
def chips(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    if stream is None:
        return
    model = model_of(ctx.rig, did)
    set_to = ctx.rig.devices[did].ports[label].chip
    seen: dict[str, Piece] = {}
    for p in stream.pieces:
        kind = type_of(ctx.rig, p)
        if kind and kind.chip:
            seen.setdefault(kind.chip, p)
    name = _name(ctx, did, label)
    if len(seen) > 1:
        (a, p), (b, q) = list(seen.items())[:2]
        yield Finding(
            "RUN-07", "error", subject, name, f"Two chip types on port {label}: {a} and {b}",
            f"{piece_name(ctx.rig, p)} is {a}, {piece_name(ctx.rig, q)} is {b}; one port speaks one of them.",
            {"first": a, "second": b}, "Runs", _goes(did, label, q.n), (q.key,),
        )  # fmt: skip
        return
    for chip, p in seen.items():
        if set_to and set_to != chip:
            edit = partial(set_stream, did=did, label=label, words=f"port {label}: chip {chip}", chip=chip)
            yield Finding(
                "RUN-07", "error", subject, name, f"Port {label} is set to {set_to}, the string is {chip}",
                f"{piece_name(ctx.rig, p)} does not understand {set_to}.", {"set": set_to, "string": chip}, "Runs", _goes(did, label, p.n), (p.key,),
                just(Fix(f"Set port {label} to {chip}", ((f"port {label} · chip", set_to, chip),), edit)),
            )  # fmt: skip
        elif model and model.chips and chip not in model.chips:
            yield Finding(
                "RUN-07", "error", subject, name, f"A {model.name} cannot drive {chip}",
                f"{piece_name(ctx.rig, p)} is {chip}; the box drives {', '.join(model.chips)}.", {"chip": chip, "box": model.name}, "Runs",
                _goes(did, label, p.n), (p.key,),
            )  # fmt: skip


@rule(
    "RUN-08", "error", "port", "Colour order set at both ends, or at neither",
    "The sender sends components in one order, the chips take another, and nobody changes it, or both do.",
    "Red comes out as green.", "Set the order in one place only.", among=_ports,
)  # fmt: skip
def colour_order(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    for p in stream.pieces if stream else ():
        element, kind = ctx.rig.elements.get(p.key), type_of(ctx.rig, p)
        if element is None or p.segment.kind != "pixels":
            continue
        gives = p.segment.order or element.order
        wants = kind.order if kind else gives if set(gives) == set(element.order) else element.order
        who = piece_name(ctx.rig, p)
        if set(gives) != set(element.order) or sorted(wants) != sorted(element.order):
            other = gives if set(gives) != set(element.order) else wants
            yield Finding(
                "RUN-08", "error", f"{subject}/{p.n}", _name(ctx, did, label), f"{who} is sent as {element.order} and wants {other}",
                "They do not have the same components.", {"sent": element.order, "wants": other}, "Runs", _goes(did, label, p.n), (p.key,),
            )  # fmt: skip
            continue
        if gives == wants:
            continue
        at_both = element.order == wants
        fix = "" if at_both else wants
        edit = partial(change_segment, did=did, label=label, n=p.n, words=f"order {wants}", order=fix)
        yield Finding(
            "RUN-08", "error", f"{subject}/{p.n}", _name(ctx, did, label),
            f"Colour order of {who} is set at {'both ends' if at_both else 'neither end' if not p.segment.order else 'one end, wrongly'}",
            f"The sender sends {element.order}, the controller gives out {gives}, the chips take {wants}.",
            {"sent": element.order, "given": gives, "taken": wants}, "Runs", _goes(did, label, p.n), (p.key,),
            just(Fix("Set the order straight here" if at_both else f"Give out {wants} here", ((f"{who} · colour order", gives, wants),), edit)),
        )  # fmt: skip


@rule(
    "RUN-09", "error", "port", "A fold set at both ends, or at neither",
    "A string turns back on itself, and nobody puts its pixels in order, or sender and controller both do.",
    "Every second stretch shows its picture upside down.", "Unfold in one place only.", among=_ports,
)  # fmt: skip
def folds(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    for p in stream.pieces if stream else ():
        element = ctx.rig.elements.get(p.key)
        if element is None or p.segment.kind != "pixels":
            continue
        want = element.fold if element.unfolds == "box" else 0
        has = p.segment.fold
        lies = element.fold and element.fold < element.pixels
        if not has and lies and (p.segment.first - 1) // element.fold == (p.segment.first + p.leds - 2) // element.fold:
            continue  # a part that lies in one stretch has nothing to unfold
        if has == want or (not lies and (not element.fold or not has)) or (has and not element.fold):
            continue
        who = piece_name(ctx.rig, p)
        both = element.unfolds == "sender" and bool(has)
        end = "both ends" if both else "neither end" if not has else f"{has} here and lies in {element.fold}"
        edit = partial(change_segment, did=did, label=label, n=p.n, words=f"fold {want}", fold=want)
        yield Finding(
            "RUN-09", "error", f"{subject}/{p.n}", _name(ctx, did, label), f"The fold of {who} is set at {end}" if not has or both else f"The fold of {who} is {end}",
            f"It turns back every {element.fold} pixels; the {'sender' if element.unfolds == 'sender' else 'controller'} is to unfold it, the segment folds {has or 'nothing'}.",
            {"string": element.fold, "segment": has, "unfolds": element.unfolds}, "Runs", _goes(did, label, p.n), (p.key,),
            just(Fix(f"Fold every {want} here" if want else "Take the fold away here", ((f"{who} · fold", str(has or "none"), str(want or "none")),), edit)),
        )  # fmt: skip


@rule(
    "RUN-10", "note", "port", "A fold that does not divide the count",
    "The last stretch of a folded segment is shorter than the others.",
    "It is reversed only when it is an even one; a miscounted ribbon looks like this.", "Check the count and the fold.", among=_ports,
)  # fmt: skip
def odd_fold(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    for p in stream.pieces if stream else ():
        fold = p.segment.fold
        if not fold or p.segment.kind != "pixels" or not p.leds:
            continue
        who = piece_name(ctx.rig, p)
        if fold >= p.leds:
            words, why = (
                f"A fold of {fold} does nothing to {who}",
                f"It has {plural(p.leds, 'pixel')}: the first stretch is never full.",
            )
        elif p.leds % fold:
            number = p.leds // fold + 1
            words = f"{fold} does not divide the {p.leds} pixels of {who}"
            why = f"Its last stretch, the {number}., has {p.leds % fold} pixels and runs {'back' if number % 2 == 0 else 'forward'}."
        else:
            continue
        yield Finding(
            "RUN-10", "note", f"{subject}/{p.n}", _name(ctx, did, label), words, why, {"pixels": p.leds, "fold": fold}, "Worth knowing",
            _goes(did, label, p.n), (p.key,),
        )  # fmt: skip


@rule(
    "RUN-16", "error", "thing", "Hung in two places at once",
    "The same pixels, or the same fixture, hang in more than one place.",
    "Only one of them can be right; the address is taken from the first.", "Take one of them down.",
    among=lambda ctx: [k for k in (*ctx.rig.elements, *ctx.rig.fixtures) if len(ctx.index.cables.hung(k)) > 1],
)  # fmt: skip
def hung_twice(ctx: Context, key: str) -> Iterator[Finding]:
    hung = ctx.index.cables.hung(key)
    if len(hung) < 2:
        return
    rig = ctx.rig
    places = [(did, label, n, rig.devices[did].ports[label].run[n]) for (did, label), n in hung]
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
    both = f"{_name(ctx, d1, l1)} and {_name(ctx, d2, l2)}"
    bridge = (
        key in rig.fixtures and any(p[3].kind == "bridge" for p in places) and any(p[3].element == key for p in places)
    )
    what = f"{plural(twice, 'pixel')} of {element.name}" if element else call(rig, key)
    if key in s2.fixtures:
        left = (
            tuple(f for f in s2.fixtures if f != key)
            if (d1, l1) != (d2, l2) or places[0][2] != n2
            else tuple(dict.fromkeys(s2.fixtures))
        )
        edit = partial(change_segment, did=d2, label=l2, n=n2, words=f"take {call(rig, key)} off", fixtures=left)
        fix = Fix(
            f"Take {call(rig, key)} off {_name(ctx, d2, l2)}", ((call(rig, key), both, _name(ctx, d1, l1)),), edit
        )
    else:
        fix = Fix(
            f"Take it off {_name(ctx, d2, l2)}",
            ((what, both, _name(ctx, d1, l1)),),
            partial(take_down, did=d2, label=l2, places=[n2]),
        )
    yield Finding(
        "RUN-16", "error", key, call(rig, key), f"{what} {'hang' if twice != 1 and element else 'hangs'} twice",
        f"On {both}{': behind the bridge, and on the port itself' if bridge else ''}.", {"what": what, "places": both}, "Runs", _goes(d2, l2, n2), (key,), just(fix),
    )  # fmt: skip


@rule(
    "RUN-17", "warning", "thing", "An element hangs in part only",
    "Some pixels of an element hang on a port and others nowhere.",
    "The rest stays dark.", "Hang the rest, or make the element shorter.",
    among=lambda ctx: [k for k in ctx.rig.elements if ctx.index.cables.hung(k)],
)  # fmt: skip
def hung_in_part(ctx: Context, key: str) -> Iterator[Finding]:
    element = ctx.rig.elements.get(key)
    hung = ctx.index.cables.hung(key)
    if element is None or not hung:
        return
    total = element.slots if element.kind == "block" else element.pixels
    covered: set[tuple[int, int]] = set()
    for (did, label), n in hung:
        s = ctx.rig.devices[did].ports[label].run[n]
        if s.kind not in ("pixels", "lamps"):
            continue
        covered.add((s.first, min(total, s.first + s.count - 1) if s.count else total))
    at, missing = 1, list[tuple[int, int]]()
    for a, b in sorted(covered):
        if a > at:
            missing.append((at, a - 1))
        at = max(at, b + 1)
    if at <= total:
        missing.append((at, total))
    if not missing:
        return
    lost = sum(b - a + 1 for a, b in missing)
    (did, label), n = hung[0]
    unit = "slot" if element.kind == "block" else "pixel"
    yield Finding(
        "RUN-17", "warning", key, element.name, f"{thousands(total - lost)} of {plural(total, unit)} of {element.name} hang on a port",
        f"{', '.join(f'{a}–{b}' if a < b else str(a) for a, b in missing[:4])} {'hangs' if lost == 1 else 'hang'} nowhere.",
        {"hung": total - lost, "of": total}, "Runs", _goes(did, label, n), (key,),
    )  # fmt: skip


@rule(
    "RUN-18", "warning", "thing", "A fixed address that the cable does not reach",
    "Something on a run has an address of its own, and the stream carries it elsewhere.",
    "It shows other slots than those it is patched to.", "Let it follow the cable, or begin its segment there.",
    among=lambda ctx: [k for k in (*ctx.rig.elements, *ctx.rig.fixtures) if ctx.index.cables.hung(k)],
)  # fmt: skip
def fixed_elsewhere(ctx: Context, key: str) -> Iterator[Finding]:
    rig, cables = ctx.rig, ctx.index.cables
    element, fixture = rig.elements.get(key), rig.fixtures.get(key)
    place = element.at if element else fixture.place(0) if fixture else NOWHERE
    if place.way == "run":
        return
    pieces = [(s, p) for s, p in cables.on_runs(key) if p.segment.kind in ("pixels", "bridge") and p.parts]
    if not pieces:
        return
    stream, piece = pieces[0]
    own = ctx.index.spans(key)
    name, did, label = call(rig, key), stream.did, stream.label
    fixes = [
        Fix(
            "Let it take its address from the cable",
            ((name, _says(ctx, own), "from the cable"),),
            partial(follow_cable, key=key),
        )
    ]
    if piece.segment.kind == "bridge":
        lost = [b for b in cables.behind(piece.segment, piece) if b.key == key and not b.dmx]
        if not lost or not own:
            return
        low, high = piece.parts[0], piece.parts[-1]
        words = f"the bridge carries {say_place(low.universe, low.first)} to {say_place(high.universe, high.last)}"
    else:
        wanted = [(rig.universes[s.universe].number, s.first, s.last) for s in own]
        given = [(p.universe, p.first, p.last) for p in (p for p, _ in cables.element_parts(key))] if element else [
            (p.universe, p.first, p.last) for p in piece.parts
        ]  # fmt: skip
        if wanted == given or not wanted:
            return
        n = next((i for i, (a, b) in enumerate(zip(wanted, given)) if a != b), min(len(wanted), len(given)))
        ours, theirs = wanted[n] if n < len(wanted) else None, given[n] if n < len(given) else None
        words = f"the cable gives it {say_place(*theirs[:2])} to {theirs[2]}" if theirs else "the cable ends before"
        words += f" where the patch says {say_place(*ours[:2])} to {ours[2]}" if ours else ""
        model = model_of(rig, did)
        if model and model.own_starts and place.way == "typed" and len(pieces) == 1 and piece.segment.first == 1:
            fixes.append(
                Fix(f"Begin the segment at {_says(ctx, own)}", ((name, "behind the one before", _says(ctx, own)),),
                    partial(change_segment, did=did, label=label, n=piece.n, words="begin where it is patched", at=replace(place, locked=False)))
            )  # fmt: skip
    yield Finding(
        "RUN-18", "warning", key, name, f"{name} is fixed at {_says(ctx, own)} and the cable is elsewhere", f"{words[:1].upper()}{words[1:]}.",
        {"patched": _says(ctx, own), "cable": words}, "Runs", _goes(did, label, piece.n), (key,), just(*fixes),
    )  # fmt: skip


def _says(ctx: Context, spans: tuple[object, ...]) -> str:
    if not spans:
        return "nowhere"
    first = ctx.index.spans(spans[0].key)[0]  # type: ignore[attr-defined]
    return say_place(ctx.rig.universes[first.universe].number, first.first)


@rule(
    "RUN-28", "note", "rig", "Elements that hang nowhere",
    "Some elements hang on no port although the rig has ports for pixels.",
    "Nothing says by which cable they get their light.", "Hang them in Runs.",
)  # fmt: skip
def hung_nowhere(ctx: Context, _: str) -> Iterator[Finding]:
    rig = ctx.rig
    if not any(m.kind in ("pixel", "converter") or m.gives for m in (model_of(rig, d) for d in rig.devices) if m):
        return
    loose: list[Element] = [e for k, e in rig.elements.items() if not ctx.index.cables.hung(k)]
    if not loose:
        return
    pixels = sum(e.pixels for e in loose if e.kind != "block")
    names = ", ".join(e.name for e in loose[:5]) + (" …" if len(loose) > 5 else "")
    yield Finding(
        "RUN-28", "note", "rig", "elements", f"{plural(len(loose), 'element')} ({plural(pixels, 'pixel')}) {'hangs' if len(loose) == 1 else 'hang'} nowhere",
        f"{names}.", {"elements": len(loose), "pixels": pixels}, "Worth knowing", ("runs", "loose"),
        tuple(k for k, e in rig.elements.items() if not ctx.index.cables.hung(k))[:100],
    )  # fmt: skip


@rule(
    "RUN-29", "warning", "device", "Something on a run has no address",
    "A thing hangs on a port and neither follows the cable nor has an address of its own.",
    "The sender cannot reach it.", "Let it take its address from the cable.",
)  # fmt: skip
def no_address(ctx: Context, did: str) -> Iterator[Finding]:
    have = hanging(ctx.rig, did)
    if not have.new:
        return
    name = ctx.rig.devices[did].name
    names = ", ".join(call(ctx.rig, k) for k in have.new[:5]) + (" …" if len(have.new) > 5 else "")
    yield Finding(
        "RUN-29", "warning", did, name, f"{plural(len(have.new), 'thing')} on {name} {'has' if len(have.new) == 1 else 'have'} no address",
        f"{names}.", {"things": len(have.new)}, "Runs", ("run", did), have.new,
        just(Fix(f"Patch {plural(len(have.new), 'thing')} from the cable", tuple((call(ctx.rig, k), "no address", "from the cable") for k in have.new[:8]), partial(follow_runs, did=did))),
    )  # fmt: skip
