"""Findings about runs: what a port can take, what its stream needs, and where the two ends of a setting differ."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from msgspec.structs import replace

from welvo.checks.registry import Context, Finding, Fix, just, rule
from welvo.patch.along import element_pixel, piece_name
from welvo.patch.cable import Stream
from welvo.rig.abilities import ability
from welvo.rig.counting import HIGHEST_SACN
from welvo.rig.document import Edit, Rig, put
from welvo.rig.notation import plural, say_place, thousands
from welvo.rig.patched import NOWHERE
from welvo.rig.plan import model_of
from welvo.rig.protocol import say_protocol
from welvo.rig.wiring import ABILITIES
from welvo.runs.claims import meetings
from welvo.runs.edits import (
    begin_and_make,
    change_segment,
    first_free_universe,
    make_to_fit,
    set_device_way,
    set_stream,
    unlaid,
)  # fmt: skip
from welvo.runs.pixels import astray, cut_pixels, cuts
from welvo.runs.power import frame_ms


def _of(ctx: Context, subject: str) -> tuple[str, str, Stream | None]:
    did, _, label = subject.partition(" ")
    return did, label, ctx.index.cables.streams.get((did, label))


def _ports(ctx: Context) -> list[str]:
    """The ports whose streams are worth asking about."""
    return [f"{did} {label}" for did, label in ctx.index.cables.streams]


def _name(ctx: Context, did: str, label: str) -> str:
    return f"{ctx.rig.devices[did].name} · {label}"


def _goes(did: str, label: str, n: int = -1) -> tuple[str, str]:
    """Where to go: `DEVICE`, port and place in the run, with tabs between them since labels may hold spaces."""
    return ("run", "\t".join((did, label, str(n)) if n >= 0 else (did, label)))


def _reach(ctx: Context, did: str, label: str, stream: Stream) -> set[int]:
    """The universes that a port's stream goes through, what it is only configured for included."""
    numbers = {n for n, _ in stream.used}
    if stream.start and stream.ends and ctx.rig.devices[did].ports[label].pixels:
        numbers |= set(range(stream.start[0], stream.ends[0] + 1))
    return numbers


def _keys(stream: Stream, from_led: int = 0) -> tuple[str, ...]:
    return tuple(dict.fromkeys(p.key for p in stream.pieces if p.key and p.led + p.leds > from_led))


@rule(
    "RUN-01", "error", "port", "More pixels than the port can take",
    "The pixels on a port's cable, null pixels included, are more than its model, its mode or its firmware allows.",
    "Everything past the limit stays dark, or shows what it showed last.",
    "Hang some of them on another port, or choose a mode that takes more.", among=_ports,
)  # fmt: skip
def too_many_pixels(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    if stream is None:
        return
    able = ability(ctx.rig, did, label)
    leds = max(stream.leds, ctx.rig.devices[did].ports[label].pixels)
    if not able.pixels or leds <= able.pixels:
        return
    over = leds - able.pixels
    first = next((p for p in stream.pieces if p.led <= able.pixels + 1 < p.led + p.leds), None)
    where = (
        f" The first dark one is {piece_name(ctx.rig, first)}, place {able.pixels + 2 - first.led} of it."
        if first
        else ""
    )
    yield Finding(
        "RUN-01", "error", subject, _name(ctx, did, label),
        f"Port {label} has {thousands(leds)} pixels and takes {thousands(able.pixels)}",
        f"{able.of} takes {thousands(able.pixels)} on a port; {plural(over, 'pixel')} too many.{where}",
        {"port": label, "pixels": leds, "most": able.pixels}, "Runs", _goes(did, label), _keys(stream, able.pixels),
    )  # fmt: skip


@rule(
    "RUN-02", "error", "port", "More slots than the port can take",
    "The stream of a port is longer than the slots its box can put out there.",
    "Everything past the limit stays dark.", "Hang some of it on another port.", among=_ports,
)  # fmt: skip
def too_many_slots(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    able = ability(ctx.rig, did, label) if stream else None
    if stream is None or able is None or not able.slots or stream.slots <= able.slots:
        return
    first = next(p for p in stream.pieces if p.stream + p.slots > able.slots + 1)
    yield Finding(
        "RUN-02", "error", subject, _name(ctx, did, label),
        f"Port {label} needs {thousands(stream.slots)} slots and puts out {thousands(able.slots)}",
        f"From slot {thousands(able.slots + 1)} of its stream on, in {piece_name(ctx.rig, first)}, nothing comes.",
        {"port": label, "slots": stream.slots, "most": able.slots}, "Runs", _goes(did, label, first.n),
    )  # fmt: skip


@rule(
    "RUN-03", "error", "port", "A stream runs past what is fed",
    "A port's stream goes through universes that the rig does not have, or that nothing feeds, or it has no start at all.",
    "Those pixels get no data.", "Make and feed the universes, or start lower.", among=_ports,
)  # fmt: skip
def past_what_is_fed(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    if stream is None or not stream.slots:
        return
    name = _name(ctx, did, label)
    if stream.start is None and not any(p.parts for p in stream.pieces):
        number = first_free_universe(ctx.rig)
        box = ctx.rig.devices[did].name
        fixes = [
            Fix(f"{words}, from universe {number}", ((f"{box} · begins at", "no universe", f"{number}.001"), (f"{box} · universes", "none", "made and fed")),
                partial(begin_and_make, did=did, number=number, way=way))
            for words, way in (("Each port its own", "universe"), ("Ports packed", "packed"))
        ]  # fmt: skip
        yield Finding(
            "RUN-03", "error", subject, name, f"Port {label} has no universe to begin at",
            f"{plural(stream.slots, 'slot')} hang on it and nothing says where they are.", {"port": label, "start": "none"},
            f"{box} is not fed", _goes(did, label), _keys(stream), just(*fixes),
        )  # fmt: skip
        return
    numbers = {u.number: uid for uid, u in ctx.rig.universes.items()}
    gone = [n for n, _ in stream.used if n not in numbers]
    unfed = [n for n, _ in stream.used if n in numbers and not ctx.feeds_by_universe.get(numbers[n])]
    reach = stream.used[-1][0] if stream.used else stream.start[0] if stream.start else 0
    past = unlaid(stream) if reach >= HIGHEST_SACN else 0
    if past:
        yield Finding(
            "RUN-03", "error", subject, name, f"Port {label} needs universes past {HIGHEST_SACN}",
            f"{thousands(past)} of its {thousands(stream.slots)} slots have no universe: there are no higher ones.", {"port": label, "slots": past},
            f"{ctx.rig.devices[did].name} is not fed", _goes(did, label), _keys(stream),
        )  # fmt: skip
        return
    if not gone and not unfed:
        return
    dark = {*gone, *unfed}
    first = min(dark)
    lost = sum(p.last - p.first + 1 for piece in stream.pieces for p in piece.parts if p.universe in dark)
    parts = [f"{plural(len(gone), 'universe')} not there ({_series(gone)})"] if gone else []
    parts += [f"{plural(len(unfed), 'universe')} not fed ({_series(unfed)})"] if unfed else []
    changes = tuple((f"universe {n}", "not fed" if n in numbers else "none", "made and fed") for n in sorted(dark)[:40])
    need = stream.used[-1][1]
    yield Finding(
        "RUN-03", "error", subject, name, f"Port {label} needs universe {first}, which is {'not there' if first in gone else 'not fed'}",
        f"{thousands(lost)} of its {thousands(stream.slots)} slots: {' and '.join(parts)}. Its last universe is {stream.used[-1][0]}, up to slot {need}.",
        {"port": label, "not there": _series(gone), "not fed": _series(unfed)},
        f"{ctx.rig.devices[did].name} is not fed", _goes(did, label), _keys(stream),
        just(Fix(f"Make and feed {plural(len(gone) + len(unfed), 'universe')}", changes, partial(make_to_fit, did=did))),
    )  # fmt: skip


def _series(numbers: list[int]) -> str:
    if not numbers:
        return "none"
    runs: list[list[int]] = []
    for n in sorted(numbers):
        if runs and n == runs[-1][-1] + 1:
            runs[-1].append(n)
        else:
            runs.append([n])
    return ", ".join(str(r[0]) if len(r) == 1 else f"{r[0]}–{r[-1]}" for r in runs)


@rule(
    "RUN-04", "error", "port", "Two segments on one slot",
    "Two segments, or two ports of one box, take the same slots of a universe: connected, or only configured.",
    "They show the same light; moving one moves the other.",
    "Start one of them elsewhere, or configure the port for what hangs on it.", among=_ports,
)  # fmt: skip
def two_on_one_slot(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    if stream is None:
        return
    streams = ctx.index.cables.streams
    for m in meetings(ctx.index.cables, did, label, _reach(ctx, did, label, stream), 5):
        sides = []
        for c in (m.a, m.b):
            own = streams[c.did, c.label]
            what = (
                f"what port {c.label} is configured for"
                if c.n < 0
                else f"{piece_name(ctx.rig, own.pieces[c.n])} on port {c.label}"
            )
            sides.append(what)
        place = say_place(m.universe, m.first)
        fixes = []
        for c in (m.a, m.b):
            if c.n < 0:
                have = streams[c.did, c.label].pixels
                edit = partial(set_stream, did=c.did, label=c.label, words=f"port {c.label}: {have} pixels", pixels=0)
                fixes.append(
                    Fix(f"Configure port {c.label} for its {have}", ((f"port {c.label} · pixels", str(ctx.rig.devices[did].ports[c.label].pixels), f"{have}, as connected"),), edit)
                )  # fmt: skip
        if ctx.rig.devices[did].ports[label].follows == "" and m.a.label != label:
            edit = partial(
                set_stream, did=did, label=label, words=f"port {label} follows", follows="packed", start=1, feed=""
            )
            fixes.append(Fix(f"Let port {label} follow the one before", ((f"port {label} · begins", say_place(*stream.start) if stream.start else "—", "right behind the port before"),), edit))  # fmt: skip
        yield Finding(
            "RUN-04", "error", f"{subject}/{m.universe}.{m.first}", _name(ctx, did, label),
            f"{sides[0][:1].upper()}{sides[0][1:]} and {sides[1]} share {plural(m.last - m.first + 1, 'slot')}",
            f"They meet from {place} to {say_place(m.universe, m.last)}.",
            {"first": place, "slots": m.last - m.first + 1, "one": sides[0], "other": sides[1]}, "Runs",
            _goes(did, label, max(0, m.b.n)), (), just(*fixes) if fixes else None,
        )  # fmt: skip


@rule(
    "RUN-05", "error", "port", "A start of its own that the box cannot do",
    "A segment has an address of its own, and the box's segments only follow one another.",
    "The box will put it right behind the segment before.", "Let it follow, or use another box.", among=_ports,
)  # fmt: skip
def no_own_start(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    model = model_of(ctx.rig, did)
    if stream is None or model is None or model.own_starts:
        return
    for p in stream.pieces:
        if p.segment.at.way == "typed" and p.segment.at.universe in ctx.rig.universes:
            at = say_place(ctx.rig.universes[p.segment.at.universe].number, p.segment.at.address or 1)
            edit = partial(change_segment, did=did, label=label, n=p.n, words="let it follow", at=NOWHERE)
            yield Finding(
                "RUN-05", "error", f"{subject}/{p.n}", _name(ctx, did, label), f"{piece_name(ctx.rig, p)} cannot begin at {at} of its own",
                f"On a {model.name} each segment follows the one before.", {"segment": p.n + 1, "at": at}, "Runs", _goes(did, label, p.n), (),
                just(Fix("Let it follow", ((piece_name(ctx.rig, p), at, "behind the one before"),), edit)),
            )  # fmt: skip


@rule(
    "RUN-06", "error", "device", "Pixels are cut and the box cannot take that",
    "Pixels lie across a universe's end, on a box that takes whole ones only.",
    "The cut pixels, and often all behind them, come out wrong.", "Keep pixels whole, or make the universes 510 slots long.",
)  # fmt: skip
def straddles(ctx: Context, did: str) -> Iterator[Finding]:
    model = model_of(ctx.rig, did)
    if model is None or ctx.rig.devices[did].packs == "whole":
        return
    found = cut_pixels(ctx.index.cables, did)
    first = cuts(ctx.index.cables, did, 1) if found else ()
    if not first:
        return
    c = first[0]
    name = ctx.rig.devices[did].name
    edit = partial(set_device_way, did=did, words=f"whole pixels on {name}", packs="whole")
    fix = just(Fix("Keep pixels whole", ((f"{name} · pixels", "dense", "whole"),), edit))
    words = f"The first is pixel {c.pixel} of {c.name} on port {c.label}: from {say_place(*c.first)} to {say_place(*c.last)}."
    facts: dict[str, str | int] = {"cut": len(found), "first": say_place(*c.first)}
    if model.straddles:
        yield Finding(
            "RUN-06", "note", did, name, f"{plural(len(found), 'pixel')} of {name} {'is' if len(found) == 1 else 'are'} cut by a universe's end",
            f"{words} The box can take that; a lost packet shows in a wrong colour.", facts, "Worth knowing", _goes(did, c.label), (), fix,
        )  # fmt: skip
    else:
        yield Finding(
            "RUN-06", "error", did, name, f"{name} cannot take {plural(len(found), 'cut pixel')}", words, facts, "Runs", _goes(did, c.label), (), fix,
        )  # fmt: skip


@rule(
    "RUN-12", "error", "port", "Something hangs where nothing comes out",
    "Something hangs on a port that the planned mode switches off or turns into something else, or that the model lacks.",
    "All of it stays dark.", "Choose another mode, or hang it elsewhere.",
)  # fmt: skip
def dead_port(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, _ = _of(ctx, subject)
    device, model = ctx.rig.devices[did], model_of(ctx.rig, did)
    run = device.ports[label].run
    if not run or model is None:
        return
    able = ability(ctx.rig, did, label)
    why = ""
    if label not in model.ports:
        why = f"A {model.name} has no port {label}."
    elif able.off:
        why = f"Mode “{able.off}” switches it off."
    elif able.gives != "pixels" and any(s.counts for s in run):
        why = (
            f"It gives {_GIVES[able.gives]}{f' in mode “{device.mode}”' if device.mode else ''}, and pixels hang on it."
        )
    elif able.gives == "pixels" and any(s.kind == "line" for s in run):
        why = f"It gives pixel data{f' in mode “{device.mode}”' if device.mode else ''}, and a DMX line hangs on it without a bridge."
    if why:
        yield Finding(
            "RUN-12", "error", subject, _name(ctx, did, label), f"Nothing reaches what hangs on port {label}", why,
            {"port": label, "mode": device.mode or "none", "gives": able.gives}, "Runs", _goes(did, label),
            tuple(dict.fromkeys(k for s in run for k in (s.element, *s.fixtures) if k)),
        )  # fmt: skip


_GIVES = {"dmx": "DMX", "pixels": "pixel data", "bus": "a lamp bus"}


@rule(
    "RUN-13", "warning", "port", "A cable too long for its refresh",
    "Sending one frame along a port's cable takes longer than the time between two frames.",
    "The box leaves frames out: movement stutters.", "Spread the pixels over more ports, or send fewer frames.", among=_ports,
)  # fmt: skip
def too_slow(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    if stream is None or not stream.used:
        return
    numbers = {u.number: uid for uid, u in ctx.rig.universes.items()}
    fids = {f for n, _ in stream.used for f in ctx.feeds_by_universe.get(numbers.get(n, ""), ())}
    rate = max((ctx.rig.feeds[f].rate for f in fids), default=0.0)
    ms = frame_ms(ctx.index.cables, stream)
    if not rate or ms * rate <= 1000:
        return
    most = int(1000 / ms)

    def edit(rig: Rig) -> Edit:
        feeds = {
            f: replace(rig.feeds[f], rate=float(max(1, most)))
            for f in fids
            if f in rig.feeds and rig.feeds[f].rate > most
        }
        return put(rig, f"send {most} frames a second", feeds=feeds)

    yield Finding(
        "RUN-13", "warning", subject, _name(ctx, did, label), f"Port {label} follows {most} of {rate:g} frames a second",
        f"One frame takes {ms:.1f} ms on its cable; {rate:g} a second leave {1000 / rate:.1f}.", {"frame": f"{ms:.1f}", "rate": f"{rate:g}"},
        "Runs", _goes(did, label), (), just(Fix(f"Send {most} a second", (("feeds · frames a second", f"{rate:g}", str(most)),), edit)),
    )  # fmt: skip


@rule(
    "RUN-19", "error", "port", "Sender and box count universes differently",
    "The sender uses one number of slots of a universe, the box assumes another.",
    "From the first universe's end on everything is shifted, each universe more.",
    "Give both ends the same size.", among=_ports,
)  # fmt: skip
def sizes_differ(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    found = astray(ctx.index.cables, stream) if stream else None
    if stream is None or found is None:
        return
    device = ctx.rig.devices[did]
    model = model_of(ctx.rig, did)
    piece = next(p for p in stream.pieces if p.stream <= found.slot < p.stream + p.slots)
    within = (found.slot - piece.stream) // piece.k + 1
    which = element_pixel(ctx.rig, piece, within) or within
    fixes = []
    if model and not model.universe_size:
        edit = partial(set_device_way, did=did, words=f"{device.name}: as the sender", size=0)
        fixes.append(Fix(f"Set {device.name} to the sender's {found.sender_size}", ((f"{device.name} · universe size", str(found.box_size), str(found.sender_size)),), edit))  # fmt: skip
    numbers = [n for n, _ in stream.used]

    def resize(rig: Rig) -> Edit:
        universes = {k: replace(u, size=found.box_size) for k, u in rig.universes.items() if u.number in numbers}
        return put(rig, f"universes of {found.box_size} slots", universes=universes)

    fixes.append(Fix(f"Let the sender use {found.box_size}", tuple((f"universe {n} · size", str(found.sender_size), str(found.box_size)) for n in numbers[:6]), resize))  # fmt: skip
    yield Finding(
        "RUN-19", "error", subject, _name(ctx, did, label), f"From slot {thousands(found.slot)} of port {label} on, sender and box differ",
        f"Pixel {which} of {piece_name(ctx.rig, piece)}: the sender puts it at {say_place(*found.sender)}, the box takes it from {say_place(*found.box)}. "
        f"{thousands(found.pixels)} pixels are shifted: universes of {found.sender_size} there, of {found.box_size} here.",
        {"slot": found.slot, "sender": say_place(*found.sender), "box": say_place(*found.box)},
        f"{device.name} counts {found.box_size} slots", _goes(did, label, piece.n), _keys(stream, piece.led), just(*fixes),
    )  # fmt: skip


@rule(
    "RUN-20", "warning", "port", "Configured for another count than hangs on it",
    "What a port is configured for and what is connected to it are two numbers, and they differ.",
    "With too few the end stays dark; with too many the rest reaches into what comes behind it.",
    "Configure the port for what hangs on it.", among=_ports,
)  # fmt: skip
def configured(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    port = ctx.rig.devices[did].ports[label]
    if stream is None or not port.pixels or port.pixels == stream.pixels:
        return
    edit = partial(set_stream, did=did, label=label, words=f"port {label}: as connected", pixels=0)
    fix = Fix(
        f"Configure it for {thousands(stream.pixels)}",
        ((f"port {label} · pixels", str(port.pixels), f"{stream.pixels}, as connected"),),
        edit,
    )
    facts: dict[str, str | int] = {"configured": port.pixels, "connected": stream.pixels}
    if port.pixels < stream.pixels:
        last = next(p for p in stream.pieces if p.px <= port.pixels + 1 < p.px + p.pixels)
        yield Finding(
            "RUN-20", "error", subject, _name(ctx, did, label), f"The last {plural(stream.pixels - port.pixels, 'pixel')} of port {label} get nothing",
            f"It is configured for {thousands(port.pixels)}, {thousands(stream.pixels)} are connected; dark from pixel {port.pixels + 2 - last.px} of {piece_name(ctx.rig, last)} on.",
            facts, "Runs", _goes(did, label, last.n), (), just(fix),
        )  # fmt: skip
    else:
        ends = say_place(stream.ends[0], stream.ends[1] - 1) if stream.ends and stream.ends[1] > 1 else say_place(stream.ends[0] - 1, 512) if stream.ends else "nowhere"  # fmt: skip
        yield Finding(
            "RUN-20", "warning", subject, _name(ctx, did, label), f"Port {label} is configured for {thousands(port.pixels)} pixels and has {thousands(stream.pixels)}",
            f"Its stream reaches to {ends} instead of ending with what hangs on it.", facts, "Runs", _goes(did, label), (), just(fix),
        )  # fmt: skip


@rule(
    "RUN-22", "warning", "device", "A firmware with a warning",
    "The firmware planned for a box is noted as a bad one in its model, or its model does not know it.",
    "What the note says.", "Choose a version that is known good.",
)  # fmt: skip
def firmware(ctx: Context, did: str) -> Iterator[Finding]:
    device, model = ctx.rig.devices[did], model_of(ctx.rig, did)
    if model is None or not device.firmware or not model.firmwares:
        return
    known = next((f for f in model.firmwares if f.version == device.firmware), None)
    if known and known.good:
        return
    good = [f.version for f in model.firmwares if f.good]
    fixes = [
        Fix(f"Plan {v}", ((f"{device.name} · firmware", device.firmware, v),), partial(set_device_way, did=did, words=f"{device.name}: firmware {v}", firmware=v))
        for v in good[-1:]
    ]  # fmt: skip
    yield Finding(
        "RUN-22", "warning", did, device.name, f"{device.name} has firmware {device.firmware}{'' if known else ', which nobody has tried'}",
        known.note if known and known.note else f"Known good: {', '.join(good) or 'none'}.", {"firmware": device.firmware}, "Devices", ("device", did), (), just(*fixes),
    )  # fmt: skip


@rule(
    "RUN-24", "error", "port", "A setting the box does not have",
    "A segment is grouped, folded, reversed, dimmed or re-ordered, or null pixels are planned, on a box that cannot do it.",
    "It cannot be entered there; pixels come out as if it had not been planned.", "Take it away, or use another box.", among=_ports,
)  # fmt: skip
def cannot_do(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    model = model_of(ctx.rig, did)
    if stream is None or model is None or set(ABILITIES) <= set(model.does):
        return
    for p in stream.pieces:
        s = p.segment
        asked = {
            "null": s.kind == "null", "fold": s.fold, "group": s.group > 1, "order": s.order, "brightness": s.brightness < 1,
            "gamma": s.gamma != 1, "reverse": s.reverse,
        }  # fmt: skip
        lacks = [k for k, on in asked.items() if on and k not in model.does]
        if lacks:
            yield Finding(
                "RUN-24", "error", f"{subject}/{p.n}", _name(ctx, did, label), f"A {model.name} has no {' and no '.join(lacks)}",
                f"{piece_name(ctx.rig, p)} on port {label} needs it.", {"segment": p.n + 1, "lacks": ", ".join(lacks)}, "Runs", _goes(did, label, p.n), (p.key,) if p.key else (),
            )  # fmt: skip


@rule(
    "RUN-25", "error", "port", "A protocol the box does not take",
    "The feed of a port goes out by a protocol that the box's model does not know.",
    "The port stays dark.", "Feed it by a protocol it takes, or use another box.",
)  # fmt: skip
def wrong_protocol(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, _ = _of(ctx, subject)
    model = model_of(ctx.rig, did)
    feed = ctx.rig.feeds.get(ctx.rig.devices[did].ports[label].feed)
    if model is None or feed is None or not model.protocols or feed.protocol in model.protocols:
        return
    takes = " and ".join(say_protocol(p) for p in model.protocols)
    yield Finding(
        "RUN-25", "error", subject, _name(ctx, did, label), f"Port {label} is fed by {say_protocol(feed.protocol)}, and a {model.name} takes {takes}",
        "It does not listen to that.", {"fed by": feed.protocol, "takes": takes}, "Feeds", ("feed", ctx.rig.devices[did].ports[label].feed),
    )  # fmt: skip
