"""Findings about runs: what a port can take, what its stream needs, and where the two ends of a setting differ."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from msgspec.structs import replace

from welvo.checks.registry import Context, Fix, Found, PortHere, declare_rule
from welvo.rig.abilities import ability_of_port
from welvo.rig.counting import HIGHEST_SACN
from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.edits import set_port
from welvo.rig.lookup import universe_ids
from welvo.rig.notation import say_count, say_numbers, say_place, say_thousands
from welvo.rig.patched import NOWHERE
from welvo.rig.plan import model_of, nothing_out, universe_size
from welvo.rig.protocol import say_protocol, say_wire
from welvo.rig.refs import Goto, PortRef, to_run
from welvo.rig.wiring import ABILITIES
from welvo.runs.along import element_pixel, piece_name
from welvo.runs.cable import PortStream
from welvo.runs.claims import meetings_of_claims
from welvo.runs.edits import (
    begin_and_make,
    change_segment,
    first_free_universe,
    make_to_fit,
    set_device_way,
    set_stream,
    slots_not_laid,
)
from welvo.runs.pixels import Astray, cut_pixels, cuts_of_device, ports_led_astray, streams_of, universes_of
from welvo.runs.power import frame_ms


def streams_to_check(ctx: Context) -> list[PortRef]:
    """The ports whose streams are worth asking about."""
    return list(ctx.index.cables_and_sums.streams)


def _reach_of_stream(ctx: Context, device_id: str, label: str, stream: PortStream) -> set[int]:
    """The universes that a port's stream goes through, what it is only configured for included."""
    numbers = {n for n, _ in stream.used}
    if stream.start and stream.ends and ctx.rig.devices[device_id].ports[label].pixels:
        numbers |= set(range(stream.start[0], stream.ends[0] + 1))
    return numbers


def _keys_behind(stream: PortStream, from_led: int = 0) -> tuple[str, ...]:
    return tuple(dict.fromkeys(p.key for p in stream.pieces if p.key and p.led + p.leds > from_led))


@declare_rule(
    "RUN-01",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="More pixels than the port can take",
    means="The pixels on a port's cable, null pixels included, are more than its model, its mode or its firmware "
    "allows.",
    matters="Everything past the limit stays dark, or shows what it showed last.",
    put_right="Attach some of them to another port, or choose a mode that takes more.",
    candidates=streams_to_check,
)
def too_many_pixels(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    if stream is None:
        return
    able = ability_of_port(ctx.rig, device_id, label)
    leds = max(stream.leds, ctx.rig.devices[device_id].ports[label].pixels)
    if not able.pixels or leds <= able.pixels:
        return
    over = leds - able.pixels
    first = next((p for p in stream.pieces if p.led <= able.pixels + 1 < p.led + p.leds), None)
    where = (
        f" The first dark one is {piece_name(ctx.rig, first)}, place {able.pixels + 2 - first.led} of it."
        if first
        else ""
    )
    yield Found(
        title=f"Port {label} has {say_thousands(leds)} pixels and takes {say_thousands(able.pixels)}",
        reason=f"{able.of} takes {say_thousands(able.pixels)} on a port; {say_count(over, 'pixel')} too many.{where}",
        facts={"port": label, "pixels": leds, "most": able.pixels},
        where=here.name,
        goes_to=to_run(device_id, label),
        items=_keys_behind(stream, able.pixels),
    )


@declare_rule(
    "RUN-02",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="More slots than the port can take",
    means="The stream of a port is longer than the slots its device can put out there.",
    matters="Everything past the limit stays dark.",
    put_right="Attach some of it to another port.",
    candidates=streams_to_check,
)
def too_many_slots(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    able = ability_of_port(ctx.rig, device_id, label) if stream else None
    if stream is None or able is None or not able.slots or stream.slots <= able.slots:
        return
    first = next(p for p in stream.pieces if p.stream + p.slots > able.slots + 1)
    yield Found(
        title=f"Port {label} needs {say_thousands(stream.slots)} slots and puts out {say_thousands(able.slots)}",
        reason=f"From slot {say_thousands(able.slots + 1)} of its stream on, in {piece_name(ctx.rig, first)}, nothing "
        "comes.",
        facts={"port": label, "slots": stream.slots, "most": able.slots},
        where=here.name,
        goes_to=to_run(device_id, label, first.n),
    )


@declare_rule(
    "RUN-03",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="A stream runs past what is fed",
    means="A port's stream goes through universes that the rig does not have, or that nothing feeds, or it has no "
    "start at all.",
    matters="Those pixels get no data.",
    put_right="Make and feed the universes, or start lower.",
    candidates=streams_to_check,
)
def past_what_is_fed(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    if stream is None or not stream.slots:
        return
    name = here.name
    if stream.start is None and not any(p.parts for p in stream.pieces):
        yield _no_universe_to_begin_at(ctx, here, stream)
        return
    numbers = universe_ids(ctx.rig)
    gone = [n for n, _ in stream.used if n not in numbers]
    unfed = [n for n, _ in stream.used if n in numbers and not ctx.feeds_by_universe.get(numbers[n])]
    reach = stream.used[-1][0] if stream.used else stream.start[0] if stream.start else 0
    past = slots_not_laid(stream) if reach >= HIGHEST_SACN else 0
    if past:
        yield Found(
            title=f"Port {label} needs universes past {HIGHEST_SACN}",
            reason=f"{say_thousands(past)} of its {say_thousands(stream.slots)} slots have no universe: there are no "
            "higher ones.",
            facts={"port": label, "slots": past},
            where=name,
            cause=f"{ctx.rig.devices[device_id].name} is not fed",
            goes_to=to_run(device_id, label),
            items=_keys_behind(stream),
        )
        return
    if not gone and not unfed:
        return
    yield _dark_universes(ctx, here, stream, gone, unfed)


def _no_universe_to_begin_at(ctx: Context, here: PortHere, stream: PortStream) -> Found:
    device_id, label = here.ref
    number = first_free_universe(ctx.rig)
    box = ctx.rig.devices[device_id].name
    fixes = [
        Fix(
            f"{words}, from universe {number}",
            (
                (f"{box} · begins at", "no universe", f"{number}.001"),
                (f"{box} · universes", "none", "made and fed"),
            ),
            partial(begin_and_make, device_id=device_id, number=number, follows=follows),
        )
        for words, follows in (("Each port its own", "universe"), ("Ports packed", "packed"))
    ]
    return Found(
        title=f"Port {label} has no universe to begin at",
        reason=f"{say_count(stream.slots, 'slot')} are attached to it and nothing says where they are.",
        facts={"port": label, "start": "none"},
        where=here.name,
        cause=f"{box} is not fed",
        goes_to=to_run(device_id, label),
        items=_keys_behind(stream),
        fixes=fixes,
    )


def _dark_universes(ctx: Context, here: PortHere, stream: PortStream, gone: list[int], unfed: list[int]) -> Found:
    """Universes of a stream that the rig does not have (`gone`) or that nothing feeds, by number."""
    device_id, label = here.ref
    dark = {*gone, *unfed}
    first = min(dark)
    lost = sum(p.last - p.first + 1 for piece in stream.pieces for p in piece.parts if p.universe in dark)
    parts = [f"{say_count(len(gone), 'universe')} not there ({say_numbers(gone)})"] if gone else []
    parts += [f"{say_count(len(unfed), 'universe')} not fed ({say_numbers(unfed)})"] if unfed else []
    changes = tuple((f"universe {n}", "not fed" if n in unfed else "none", "made and fed") for n in sorted(dark)[:40])
    need = stream.used[-1][1]
    return Found(
        title=f"Port {label} needs universe {first}, which is {'not there' if first in gone else 'not fed'}",
        reason=f"{say_thousands(lost)} of its {say_thousands(stream.slots)} slots: {' and '.join(parts)}. Its last "
        f"universe "
        f"is {stream.used[-1][0]}, up to slot {need}.",
        facts={"port": label, "not there": say_numbers(gone), "not fed": say_numbers(unfed)},
        where=here.name,
        cause=f"{ctx.rig.devices[device_id].name} is not fed",
        goes_to=to_run(device_id, label),
        items=_keys_behind(stream),
        fixes=[
            Fix(
                f"Make and feed {say_count(len(gone) + len(unfed), 'universe')}",
                changes,
                partial(make_to_fit, device_id=device_id),
            )
        ],
    )


@declare_rule(
    "RUN-04",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="Two segments on one slot",
    means="Two segments, or two ports of one device, that are connected take the same slots of a universe.",
    matters="They show the same light; moving one moves the other.",
    put_right="Start one of them elsewhere.",
    candidates=streams_to_check,
)
def two_on_one_slot(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    if stream is None:
        return
    streams = ctx.index.cables_and_sums.streams
    for m in meetings_of_claims(
        ctx.index.cables_and_sums, device_id, label, {n for n, _ in stream.used}, 50, ctx.claims_by_device
    ):
        if m.a.n < 0 or m.b.n < 0:
            continue  # only configured: a note, for nothing of it is seen
        sides = [
            f"{piece_name(ctx.rig, streams[PortRef(c.device_id, c.label)].pieces[c.n])} on port {c.label}"
            for c in (m.a, m.b)
        ]
        place = say_place(m.universe, m.first)
        fixes = []
        if ctx.rig.devices[device_id].ports[label].follows == "" and m.a.label != label:
            edit = partial(
                set_stream,
                device_id=device_id,
                label=label,
                words=f"port {label} follows",
                follows="packed",
                start=1,
                feed="",
            )
            fixes.append(
                Fix(
                    f"Let port {label} follow the one before",
                    (
                        (
                            f"port {label} · begins",
                            say_place(*stream.start) if stream.start else "—",
                            "right behind the port before",
                        ),
                    ),
                    edit,
                )
            )
        yield Found(
            title=f"{sides[0][:1].upper()}{sides[0][1:]} and {sides[1]} share "
            f"{say_count(m.last - m.first + 1, 'slot')}",
            reason=f"They meet from {place} to {say_place(m.universe, m.last)}.",
            facts={"first": place, "slots": m.last - m.first + 1, "one": sides[0], "other": sides[1]},
            subject=f"{here.ref}/{m.universe}.{m.first}",
            where=here.name,
            goes_to=to_run(device_id, label, max(0, m.b.n)),
            fixes=fixes,
        )


@declare_rule(
    "RUN-05",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="A start of its own that the device cannot do",
    means="A segment has an address of its own, and the device's segments only follow one another.",
    matters="The device will put it right behind the segment before.",
    put_right="Let it follow, or use another device.",
    candidates=streams_to_check,
)
def no_own_start(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    model = model_of(ctx.rig, device_id)
    if stream is None or model is None or model.own_starts:
        return
    for p in stream.pieces:
        if p.segment.at.origin_of_place == "typed" and p.segment.at.universe in ctx.rig.universes:
            at = say_place(ctx.rig.universes[p.segment.at.universe].number, p.segment.at.address or 1)
            edit = partial(change_segment, device_id=device_id, label=label, n=p.n, words="let it follow", at=NOWHERE)
            yield Found(
                title=f"{piece_name(ctx.rig, p)} cannot begin at {at} of its own",
                reason=f"On a {model.name} each segment follows the one before.",
                facts={"segment": p.n + 1, "at": at},
                subject=f"{here.ref}/{p.n}",
                where=here.name,
                goes_to=to_run(device_id, label, p.n),
                fixes=[Fix("Let it follow", ((piece_name(ctx.rig, p), at, "behind the one before"),), edit)],
            )


def _cut_pixels(
    ctx: Context, device_id: str, straddles: bool
) -> tuple[list[str], str, dict[str, str | int], Goto, list[Fix]] | None:
    """The pixels that a device's universes cut, if its model is one that takes cut pixels, or one that does not."""
    model, device = model_of(ctx.rig, device_id), ctx.rig.devices[device_id]
    if model is None or device.packs == "whole" or model.straddles != straddles:
        return None
    found = cut_pixels(ctx.index.cables_and_sums, device_id)
    first = next(iter(cuts_of_device(ctx.index.cables_and_sums, device_id, 1)), None) if found else None
    if first is None:
        return None
    edit = partial(set_device_way, device_id=device_id, words=f"whole pixels on {device.name}", packs="whole")
    fix = Fix("Keep pixels whole", ((f"{device.name} · pixels", "dense", "whole"),), edit)
    span = f"from {say_place(*first.first)} to {say_place(*first.last)}"
    words = f"The first is pixel {first.pixel} of {first.name} on port {first.label}: {span}."
    facts: dict[str, str | int] = {"cut": len(found), "first": say_place(*first.first)}
    return [say_count(len(found), "cut pixel"), device.name], words, facts, to_run(device_id, first.label), [fix]


@declare_rule(
    "RUN-06",
    severity="error",
    scope="device",
    group="Runs",
    stage="run",
    title="Pixels are cut and the device cannot take that",
    means="Pixels lie across a universe's end, on a device that takes whole ones only.",
    matters="The cut pixels, and often all behind them, come out wrong.",
    put_right="Keep pixels whole, or make the universes 510 slots long.",
)
def cuts_it_cannot_take(ctx: Context, device_id: str) -> Iterator[Found]:
    cut = _cut_pixels(ctx, device_id, straddles=False)
    if cut:
        (count, name), words, facts, goes_to, fixes = cut
        title = f"{name} cannot take {count}"
        yield Found(title=title, reason=words, facts=facts, where=name, goes_to=goes_to, fixes=fixes)


@declare_rule(
    "RUN-31",
    severity="note",
    scope="device",
    group="Worth knowing",
    title="Pixels are cut by a universe's end",
    means="Pixels lie across a universe's end, on a device that can take that.",
    matters="A lost packet shows in a wrong colour; another receiver may not be able to take it.",
    put_right="Keep pixels whole, or leave it.",
)
def cuts_it_can_take(ctx: Context, device_id: str) -> Iterator[Found]:
    cut = _cut_pixels(ctx, device_id, straddles=True)
    if cut:
        (count, name), words, facts, goes_to, fixes = cut
        reason = f"{words} The device can take that; a lost packet shows in a wrong colour."
        yield Found(title=f"{name} has {count}", reason=reason, facts=facts, where=name, goes_to=goes_to, fixes=fixes)


@declare_rule(
    "RUN-12",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="Something is attached where nothing comes out",
    means="Something is attached to a port, or a feed is planned for it, and the planned mode switches the port off or "
    "turns it into something else, or the model lacks it.",
    matters="All of it stays dark.",
    put_right="Choose another mode, or attach and feed it elsewhere.",
)
def dead_port(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label = here.ref
    device, model = ctx.rig.devices[device_id], model_of(ctx.rig, device_id)
    run, feed = device.ports[label].run, ctx.rig.feeds.get(device.ports[label].feed)
    if not (run or feed) or model is None:
        return
    able = ability_of_port(ctx.rig, device_id, label)
    dead = nothing_out(ctx.rig, device_id, label)
    why = f"{dead[0].upper()}{dead[1:]}." if dead else ""
    if dead:
        pass
    elif able.gives != "pixels" and any(s.takes_slots for s in run):
        why = (
            f"It gives {_GIVES[able.gives]}{f' in mode “{device.mode}”' if device.mode else ''}, and pixels are "
            "attached to it."
        )
    elif able.gives == "pixels" and any(s.kind == "line" for s in run):
        why = (
            f"It gives pixel data{f' in mode “{device.mode}”' if device.mode else ''}, and a DMX line is attached "
            "to it without a bridge."
        )
    if why:
        fed = say_wire(feed.protocol, feed.wire) if feed else ""
        yield Found(
            title=f"Nothing reaches what is attached to port {label}"
            if run
            else f"Port {label} is planned to take {fed}, and nothing comes out of it",
            reason=why,
            facts={"port": label, "mode": device.mode or "none", "gives": able.gives},
            where=here.name,
            goes_to=to_run(device_id, label),
            items=tuple(dict.fromkeys(k for s in run for k in (s.element, *s.fixtures) if k)),
            fixes=[_take_nothing(here, fed)] if dead and not run else (),
        )


def _take_nothing(here: PortHere, fed: str) -> Fix:
    edit = partial(set_port, device_id=here.ref.device, port=here.ref.port, label=f"unfeed {here.ref.port}", feed="")
    return Fix(f"Let port {here.ref.port} take nothing", ((f"{here.name} · takes", fed, "nothing"),), edit)


_GIVES = {"dmx": "DMX", "pixels": "pixel data", "bus": "a lamp bus"}


@declare_rule(
    "RUN-34",
    severity="warning",
    scope="port",
    group="Runs",
    title="A port that begins where no whole pixel fits",
    means="The start of a port's stream is so near to its universe's end that its first pixel, kept whole, begins in "
    "the next one.",
    matters="The plan's start says one place, the light takes another: everything on the port is one universe on.",
    put_right="Begin at the highest start where a pixel fits, or at slot 1 of the next universe.",
    candidates=streams_to_check,
)
def find_skipped_stream_starts(ctx: Context, here: PortHere) -> Iterator[Found]:
    stream, port = here.stream, here.port
    first = next((p for p in stream.pieces if p.parts), None) if stream else None
    if (
        stream is None
        or first is None
        or port.follows
        or first.segment.at.origin_of_place == "typed"
        or not stream.start
    ):
        return
    number, address = stream.start
    if first.parts[0][:2] == stream.start:
        return
    to = first.parts[0]
    highest = ctx.index.cables_and_sums.size_of_universe(number, number) - first.k + 1
    label = here.ref.port
    fixes = []
    if highest >= 1:
        edit = partial(set_stream, device_id=here.ref.device, label=label, words=f"start at {highest}", start=highest)
        change = ((f"{here.name} · at slot", str(address), str(highest)),)
        fixes.append(Fix(f"Begin at {say_place(number, highest)}", change, edit))
    yield Found(
        title=f"Port {label} is to begin at {say_place(number, address)} and begins at "
        f"{say_place(to.universe, to.first)}",
        reason=f"A pixel of {first.k} slots is kept whole and does not fit there any more.",
        facts={"start": say_place(number, address), "begins": say_place(to.universe, to.first)},
        where=here.name,
        goes_to=to_run(*here.ref),
        items=_keys_behind(stream),
        fixes=fixes,
    )


@declare_rule(
    "RUN-13",
    severity="warning",
    scope="port",
    group="Runs",
    title="A cable too long for its refresh",
    means="Sending one frame along a port's cable takes longer than the time between two frames.",
    matters="The device leaves frames out: movement stutters.",
    put_right="Spread the pixels over more ports, or send fewer frames.",
    candidates=streams_to_check,
)
def find_slow_streams(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    if stream is None or not stream.used:
        return
    numbers = universe_ids(ctx.rig)
    fids = {f for n, _ in stream.used for f in ctx.feeds_by_universe.get(numbers.get(n, ""), ())}
    rate = max((ctx.rig.feeds[f].rate for f in fids), default=0.0)
    ms = frame_ms(ctx.index.cables_and_sums, stream)
    if not rate or ms * rate <= 1000:
        return
    most = int(1000 / ms)

    def edit(rig: Rig) -> Edit:
        feeds = {
            f: replace(rig.feeds[f], rate=float(max(1, most)))
            for f in fids
            if f in rig.feeds and rig.feeds[f].rate > most
        }
        return put_entries(rig, f"send {most} frames a second", feeds=feeds)

    yield Found(
        title=f"Port {label} follows {most} of {rate:g} frames a second",
        reason=f"One frame takes {ms:.1f} ms on its cable; {rate:g} a second leave {1000 / rate:.1f}.",
        facts={"frame": f"{ms:.1f}", "rate": f"{rate:g}"},
        where=here.name,
        goes_to=to_run(device_id, label),
        fixes=[Fix(f"Send {most} a second", (("feeds · frames a second", f"{rate:g}", str(most)),), edit)],
    )


@declare_rule(
    "RUN-19",
    severity="error",
    scope="device",
    group="Runs",
    stage="run",
    title="Sender and device count universes differently",
    means="The sender uses one number of slots of a universe, the device assumes another.",
    matters="From the first universe's end on everything is shifted, each universe more; and on a device whose ports "
    "follow one another, every port behind that too.",
    put_right="Give both ends the same size.",
    candidates=lambda ctx: [d for d in ctx.rig.devices if universe_size(ctx.rig, d)],
)
def sizes_differ(ctx: Context, device_id: str) -> Iterator[Found]:
    found = ports_led_astray(ctx.index.cables_and_sums, device_id)
    if not found:
        return
    device, first = ctx.rig.devices[device_id], found[0]
    within = first.pixel - first.piece.px + 1
    which = element_pixel(ctx.rig, first.piece, within) or within
    fixes = _size_fixes(ctx, device_id, first)
    ports = [f"port {f.label} from slot {say_thousands(f.slot)} on" for f in found]
    ours, theirs = first.running_slots
    off = abs(ours - theirs)
    whole = off // first.piece.k
    by = say_count(off, "slot") + (f", {say_count(whole, 'pixel')}" if whole else "")
    landmark = (
        f"{say_place(*first.landmark)} is running slot {say_thousands(ours)} for the sender and "
        f"{say_thousands(theirs)} for the "
        f"device: {by} {'early' if theirs < ours else 'late'}."
    )
    shifted = sum(f.pixels for f in found)
    yield Found(
        title=f"{device.name} counts {first.device_size} slots of a universe, the sender {first.sender_size}: "
        f"{say_count(len(found), 'port')} astray",
        reason=f"Pixel {which} of {piece_name(ctx.rig, first.piece)}: the sender puts it at "
        f"{say_place(*first.sender)}, the device takes it from {say_place(*first.box)}. {landmark} "
        f"{say_count(shifted, 'pixel')} are shifted: {', '.join(ports[:6])}"
        f"{f' and {len(ports) - 6} ports more' if len(ports) > 6 else ''}.",
        facts={
            "slot": first.slot,
            "sender": say_place(*first.sender),
            "box": say_place(*first.box),
            "ports": ", ".join(f"{f.label}:{f.slot}" for f in found),
            "pixels": shifted,
        },
        where=device.name,
        cause=f"{device.name} counts {first.device_size} slots",
        goes_to=to_run(device_id, first.label, first.piece.n),
        items=tuple(
            dict.fromkeys(
                k
                for f in found
                for k in _keys_behind(ctx.index.cables_and_sums.streams[PortRef(device_id, f.label)], f.piece.led)
            )
        ),
        fixes=fixes,
    )


def _size_fixes(ctx: Context, device_id: str, first: Astray) -> list[Fix]:
    """Both ends can give in: the device, where its size can be set, and the sender."""
    device, model = ctx.rig.devices[device_id], model_of(ctx.rig, device_id)
    fixes = []
    if model and not model.universe_size:
        edit = partial(set_device_way, device_id=device_id, words=f"{device.name}: as the sender", size=0)
        fixes.append(
            Fix(
                f"Set {device.name} to the sender's {first.sender_size}",
                ((f"{device.name} · universe size", str(first.device_size), str(first.sender_size)),),
                edit,
            )
        )
    numbers = list(universes_of(ctx.index.cables_and_sums, device_id))

    def resize(rig: Rig) -> Edit:
        universes = {k: replace(u, size=first.device_size) for k, u in rig.universes.items() if u.number in numbers}
        return put_entries(rig, f"universes of {first.device_size} slots", universes=universes)

    fixes.append(
        Fix(
            f"Let the sender use {first.device_size}",
            tuple((f"universe {n} · size", str(first.sender_size), str(first.device_size)) for n in numbers[:6]),
            resize,
        )
    )
    return fixes


def _as_connected(here: PortHere, connected: int) -> Fix:
    label = here.ref.port
    edit = partial(set_stream, device_id=here.ref.device, label=label, words=f"port {label}: as connected", pixels=0)
    changes = ((f"port {label} · pixels", str(here.port.pixels), f"{connected}, as connected"),)
    return Fix(f"Configure it for {say_thousands(connected)}", changes, edit)


@declare_rule(
    "RUN-20",
    severity="note",
    scope="device",
    group="Worth knowing",
    title="Configured for more than is attached",
    means="Ports of a device are configured for more pixels than are connected to them.",
    matters="Nothing, as long as no more is connected: the device works out light that nobody sees. Connect more, and "
    "it shows what the universes there carry, which may be another port's light.",
    put_right="Nothing, if it is meant; else configure the ports for what is attached to them.",
    candidates=lambda ctx: list({ref.device for ref in ctx.index.cables_and_sums.streams}),
    for_all="Configure {n} devices for what is connected",
)
def configured_for_more(ctx: Context, device_id: str) -> Iterator[Found]:
    device = ctx.rig.devices[device_id]
    more = [s for s in streams_of(ctx.index.cables_and_sums, device_id) if device.ports[s.label].pixels > s.pixels]
    if not more:
        return
    said = [
        f"port {x.label} for {say_thousands(device.ports[x.label].pixels)} with {say_thousands(x.pixels)}, to "
        f"{_say_configured_end(ctx, x)}"
        for x in more
    ]
    would = _if_more_were_connected(ctx, device_id)

    def edit(rig: Rig) -> Edit:
        box = rig.devices[device_id]
        labels = {s.label for s in more}
        ports = {p: replace(v, pixels=0) if p in labels else v for p, v in box.ports.items()}
        return put_entries(rig, f"{box.name} as connected", devices={device_id: replace(box, ports=ports)})

    changes = tuple(
        (f"port {s.label} · pixels", str(device.ports[s.label].pixels), f"{s.pixels}, as connected") for s in more[:12]
    )
    yield Found(
        title=f"{say_count(len(more), 'port')} of {device.name} {'is' if len(more) == 1 else 'are'} configured for "
        f"more "
        "than is attached",
        reason=f"P{'; '.join(said[:4])[1:]}{f' and {len(said) - 4} more' if len(said) > 4 else ''}.{would}",
        facts={
            "ports": ", ".join(s.label for s in more),
            "configured": sum(device.ports[s.label].pixels for s in more),
            "connected": sum(s.pixels for s in more),
        },
        where=device.name,
        goes_to=to_run(device_id, more[0].label),
        fixes=[Fix("Configure for what is connected", changes, edit)],
    )


def _if_more_were_connected(ctx: Context, device_id: str) -> str:
    """What pixels would show that a port is configured for and that are not there, where another port's light is."""
    cables = ctx.index.cables_and_sums
    for stream in streams_of(cables, device_id):
        reach = _reach_of_stream(ctx, device_id, stream.label, stream)
        for m in meetings_of_claims(cables, device_id, stream.label, reach, 50, ctx.claims_by_device):
            ours, theirs = (m.a, m.b) if m.a.n < 0 else (m.b, m.a)
            if ours.n < 0 <= theirs.n:
                own = cables.streams[PortRef(device_id, ours.label)]
                pixel = (ours.before + m.first - ours.first) // (own.pieces[0].k if own.pieces else 3) + 1
                return (
                    f" If more were connected to port {ours.label}, it would show the light of port {theirs.label} "
                    f"from pixel {say_thousands(pixel)} on."
                )
    return ""


def _say_configured_end(ctx: Context, stream: PortStream) -> str:
    """The last slot that a port is configured to reach."""
    if stream.ends is None:
        return "nowhere"
    universe, behind = stream.ends
    if behind > 1:
        return say_place(universe, behind - 1)
    return say_place(universe - 1, ctx.index.cables_and_sums.size_of_universe(universe - 1, universe - 1))


@declare_rule(
    "RUN-32",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="Configured for less than is attached",
    means="A port is configured for fewer pixels than are connected to it.",
    matters="The end of the cable stays dark.",
    put_right="Configure the port for what is attached to it.",
    candidates=streams_to_check,
    for_all="Configure {n} ports for what is attached",
)
def configured_for_less(ctx: Context, here: PortHere) -> Iterator[Found]:
    stream, configured, label = here.stream, here.port.pixels, here.ref.port
    if stream is None or not 0 < configured < stream.pixels:
        return
    last = next(p for p in stream.pieces if p.px <= configured + 1 < p.px + p.pixels)
    dark = f"dark from pixel {configured + 2 - last.px} of {piece_name(ctx.rig, last)} on"
    yield Found(
        title=f"The last {say_count(stream.pixels - configured, 'pixel')} of port {label} get nothing",
        reason=f"It is configured for {say_thousands(configured)}, {say_thousands(stream.pixels)} are connected; "
        f"{dark}.",
        facts={"configured": configured, "connected": stream.pixels},
        where=here.name,
        goes_to=to_run(*here.ref, last.n),
        fixes=[_as_connected(here, stream.pixels)],
    )


@declare_rule(
    "RUN-22",
    severity="warning",
    scope="device",
    group="Devices",
    title="A firmware with a warning",
    means="The firmware planned for a device is noted as a bad one in its model, or its model does not know it.",
    matters="What the note says.",
    put_right="Choose a version that is known good.",
)
def find_old_firmware(ctx: Context, device_id: str) -> Iterator[Found]:
    device, model = ctx.rig.devices[device_id], model_of(ctx.rig, device_id)
    if model is None or not device.firmware or not model.firmwares:
        return
    known = next((f for f in model.firmwares if f.version == device.firmware), None)
    if known and known.good:
        return
    good = [f.version for f in model.firmwares if f.good]
    fixes = [
        Fix(
            f"Plan {v}",
            ((f"{device.name} · firmware", device.firmware, v),),
            partial(set_device_way, device_id=device_id, words=f"{device.name}: firmware {v}", firmware=v),
        )
        for v in good[-1:]
    ]
    yield Found(
        title=f"{device.name} has firmware {device.firmware}{'' if known else ', which nobody has tried'}",
        reason=known.note if known and known.note else f"Known good: {', '.join(good) or 'none'}.",
        facts={"firmware": device.firmware},
        where=device.name,
        goes_to=Goto("device", device_id),
        fixes=fixes,
    )


@declare_rule(
    "RUN-24",
    severity="error",
    scope="port",
    group="Runs",
    stage="settings",
    title="A setting the device does not have",
    means="A segment is grouped, folded, reversed, dimmed or re-ordered, or null pixels are planned, on a device "
    "that cannot do it.",
    matters="It cannot be entered there; pixels come out as if it had not been planned.",
    put_right="Take it away, or use another device.",
    candidates=streams_to_check,
)
def cannot_do(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    model = model_of(ctx.rig, device_id)
    if stream is None or model is None or set(ABILITIES) <= set(model.does):
        return
    for p in stream.pieces:
        s = p.segment
        asked = {
            "null": s.kind == "null",
            "fold": s.fold,
            "group": s.group > 1,
            "order": s.order,
            "brightness": s.brightness < 1,
            "gamma": s.gamma != 1,
            "reverse": s.reverse,
        }
        lacks = [k for k, on in asked.items() if on and k not in model.does]
        if lacks:
            yield Found(
                title=f"A {model.name} has no {' and no '.join(lacks)}",
                reason=f"{piece_name(ctx.rig, p)} on port {label} needs it.",
                facts={"segment": p.n + 1, "lacks": ", ".join(lacks)},
                subject=f"{here.ref}/{p.n}",
                where=here.name,
                goes_to=to_run(device_id, label, p.n),
                items=(p.key,) if p.key else (),
            )


@declare_rule(
    "RUN-37",
    severity="error",
    scope="device",
    group="Runs",
    stage="run",
    title="A mode or a chip type that the model does not have",
    means="A device is planned in an output mode, or a port with a chip type, that its model does not know.",
    matters="It cannot be set like that, and what the plan reckons with it is wrong.",
    put_right="Choose one that the model has.",
    candidates=lambda ctx: [k for k, d in ctx.rig.devices.items() if d.mode or any(p.chip for p in d.ports.values())],
)
def not_of_the_model(ctx: Context, device_id: str) -> Iterator[Found]:
    device, model = ctx.rig.devices[device_id], model_of(ctx.rig, device_id)
    if model is None:
        return
    if device.mode and not model.output_mode(device.mode):
        have = ", ".join(f"“{m.name}”" for m in model.modes) or "none"
        edit = partial(set_device_way, device_id=device_id, words=f"no mode of {device.name}", mode="")
        yield Found(
            title=f"A {model.name} has no mode “{device.mode}”",
            reason=f"{device.name} is planned in it. Its model has: {have}.",
            facts={"mode": device.mode},
            subject=f"{device_id}/mode",
            where=device.name,
            goes_to=to_run(device_id, ""),
            fixes=[Fix("Plan no mode", ((f"{device.name} · mode", device.mode, "none"),), edit)],
        )
    for label, port in device.ports.items():
        if port.chip and model.chips and port.chip not in model.chips:
            edit = partial(set_stream, device_id=device_id, label=label, words=f"port {label}: chip", chip="")
            yield Found(
                title=f"A {model.name} has no chip type {port.chip}",
                reason=f"Port {label} of {device.name} is set to it. Its model has: {', '.join(model.chips)}.",
                facts={"chip": port.chip, "port": label},
                subject=f"{device_id}/{label}",
                where=f"{device.name} · {label}",
                goes_to=to_run(device_id, label),
                fixes=[
                    Fix(
                        f"Let port {label} speak the string's",
                        ((f"port {label} · chip", port.chip, "the string's"),),
                        edit,
                    )
                ],
            )


@declare_rule(
    "RUN-25",
    severity="error",
    scope="port",
    group="Feeds",
    stage="run",
    title="A protocol the device does not take",
    means="The feed of a port goes out by a protocol that the device's model does not know.",
    matters="The port stays dark.",
    put_right="Feed it by a protocol it takes, or use another device.",
)
def wrong_protocol(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label = here.ref
    model = model_of(ctx.rig, device_id)
    feed = ctx.rig.feeds.get(ctx.rig.devices[device_id].ports[label].feed)
    if model is None or feed is None or not model.protocols or feed.protocol in model.protocols:
        return
    takes = " and ".join(say_protocol(p) for p in model.protocols)
    yield Found(
        title=f"Port {label} is fed by {say_protocol(feed.protocol)}, and a {model.name} takes {takes}",
        reason="It does not listen to that.",
        facts={"fed by": feed.protocol, "takes": takes},
        where=here.name,
        goes_to=Goto("feed", ctx.rig.devices[device_id].ports[label].feed),
    )
