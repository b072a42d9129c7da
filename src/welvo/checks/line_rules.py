"""Findings about what is attached behind bridges and converters, about DMX lines, and about power along a run."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from itertools import pairwise

from msgspec.structs import replace

from welvo.checks.registry import Context, Fix, Found, PortHere, declare_rule
from welvo.checks.run_rules import streams_to_check
from welvo.rig.document import Edit, Rig
from welvo.rig.lookup import mode_of, name_of_item
from welvo.rig.notation import say_count, say_place
from welvo.rig.plan import model_of
from welvo.rig.refs import Goto, PortRef, to_run
from welvo.rig.runs import Segment
from welvo.runs.along import components_of, piece_name
from welvo.runs.bridge import demands_of_bridge, first_free, goes_on, meetings_behind, rows_behind_bridge, set_right
from welvo.runs.cable import Piece, PortStream
from welvo.runs.claims import split_ports
from welvo.runs.edits import change_segment
from welvo.runs.lamps import lamps_past_end, not_driven, too_close
from welvo.runs.power import joints_of_port, stretches_of_port
from welvo.survey.lines import UNIT_LOADS, LineSum, Stop, line_sum, plug_of


def _say_bridges(here: PortHere) -> tuple[str, str, PortStream | None, list[Piece]]:
    (device_id, label), stream = here.ref, here.stream
    return device_id, label, stream, [p for p in stream.pieces if p.segment.kind == "bridge"] if stream else []


@declare_rule(
    "RUN-11",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="Something behind a bridge that passes nothing on",
    means="Something is attached to a cable behind a bridge whose model lets nothing follow.",
    matters="It gets no data.",
    put_right="Attach it before the bridge, or to another port.",
    candidates=streams_to_check,
)
def behind_a_bridge(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label, stream, bridges = _say_bridges(here)
    for p in bridges:
        after = [q for q in stream.pieces[p.n + 1 :] if q.segment.takes_slots] if stream else []
        passes, says = goes_on(ctx.index.cables_and_sums, p)
        if after and not passes:
            yield Found(
                title=f"{piece_name(ctx.rig, after[0])} is attached behind {piece_name(ctx.rig, p)} and gets nothing",
                reason=f"{says[:1].upper()}{says[1:]}; {say_count(len(after), 'segment')} are attached behind it.",
                facts={"segment": p.n + 1, "behind": len(after)},
                subject=f"{here.ref}/{p.n}",
                where=here.name,
                goes_to=to_run(device_id, label, after[0].n),
                items=tuple(q.key for q in after if q.key),
            )


@declare_rule(
    "RUN-14",
    severity="error",
    scope="port",
    group="Bridges",
    stage="run",
    title="DMX behind a bridge that comes out wrong",
    means="Something on the way changes the bytes of a bridge's stretch: brightness, gamma, dithering, order, folds "
    "or grouping; or "
    "the stretch is too short, or comes too fast.",
    matters="Lamps behind the bridge are dim, wrong or erratic, and every address seems to be at fault.",
    put_right="Set everything on the way to 100 % and straight; the fix does it at once.",
    candidates=streams_to_check,
)
def dmx_comes_out_wrong(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label, stream, bridges = _say_bridges(here)
    for p in bridges:
        assert stream
        wrong = [d for d in demands_of_bridge(ctx.index.cables_and_sums, stream, p) if not d.holds]
        if not wrong:
            continue
        fixable = [d for d in wrong if d.edit]
        fixes = []
        if len(fixable) == 1 and fixable[0].edit:
            fixes.append(Fix(fixable[0].fix, fixable[0].changes, fixable[0].edit))
        elif fixable:
            changes = tuple(c for d in fixable for c in d.changes)
            fixes.append(
                Fix(
                    f"Set the bridge right ({len(fixable)})",
                    changes,
                    partial(set_right, device_id=device_id, label=label, n=p.n),
                )
            )
        yield Found(
            title=f"DMX behind {piece_name(ctx.rig, p)} comes out wrong",
            reason="; ".join(f"{d.says[:1].upper()}{d.says[1:]}" for d in wrong) + ".",
            facts={d.what: d.says for d in wrong},
            subject=f"{here.ref}/{p.n}",
            where=here.name,
            goes_to=to_run(device_id, label, p.n),
            items=p.segment.fixtures,
            fixes=fixes,
        )


@declare_rule(
    "RUN-15",
    severity="error",
    scope="port",
    group="Bridges",
    stage="run",
    title="Two fixtures on one DMX address of a line",
    means="Behind a bridge, or on a DMX line, two fixtures want the same of its addresses 1 to 512.",
    matters="Each moves with the other.",
    put_right="Move one of them to a free address.",
)
def meet_on_a_line(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label, stream, bridges = _say_bridges(here)
    for p in bridges:
        assert stream
        behind = rows_behind_bridge(ctx.index.cables_and_sums, stream, p)
        for a, b, low, high in meetings_behind(behind)[:5]:
            free = first_free(behind, b.last - b.dmx + 1, skip=b)
            fix = []
            place = ctx.rig.fixtures[b.key].place_of_break(b.break_no)
            if free and place.origin_of_place == "run":
                own = b.key if b.break_no == 0 else f"{b.key}:{b.break_no}"
                edit = partial(
                    change_segment,
                    device_id=device_id,
                    label=label,
                    n=p.n,
                    words=f"{b.name} to DMX {free}",
                    dmx={**p.segment.dmx, own: free},
                    width=_wide_enough(ctx, p, {**p.segment.dmx, own: free}),
                )
                fix = [
                    Fix(
                        f"Move {b.name} to DMX {free}",
                        ((f"{b.name} behind the bridge", f"DMX {b.dmx}", f"DMX {free}"),),
                        edit,
                    )
                ]
            yield Found(
                title=f"{a.name} and {b.name} meet on {say_count(high - low + 1, 'DMX slot')}",
                reason=f"Behind {piece_name(ctx.rig, p)}: {a.name} has {a.dmx}–{a.last}, {b.name} has "
                f"{b.dmx}–{b.last}.",
                facts={"first": a.name, "second": b.name, "slots": f"{low}-{high}"},
                subject=f"{here.ref}/{p.n}/{a.key}/{b.key}",
                where=here.name,
                goes_to=to_run(device_id, label, p.n),
                items=(a.key, b.key),
                fixes=fix,
            )


@declare_rule(
    "RUN-21",
    severity="error",
    scope="port",
    group="Bridges",
    stage="run",
    title="A fixture behind a bridge lies in two universes",
    means="A universe's end goes through the slots of a fixture behind a bridge.",
    matters="The sender cannot patch it: a fixture has one universe.",
    put_right="Begin the bridge at the next universe, or leave the address free.",
    candidates=streams_to_check,
)
def find_torn_fixtures(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label, stream, bridges = _say_bridges(here)
    for p in bridges:
        assert stream
        for r in rows_behind_bridge(ctx.index.cables_and_sums, stream, p):
            if len(r.places) < 2:
                continue
            dmx = next((w for w in _begins_of_universes(p) if w > r.dmx), 0)
            fix = []
            if (
                dmx
                and dmx + r.last - r.dmx <= 512
                and ctx.rig.fixtures[r.key].place_of_break(r.break_no).origin_of_place == "run"
            ):
                own = r.key if r.break_no == 0 else f"{r.key}:{r.break_no}"
                edit = partial(
                    change_segment,
                    device_id=device_id,
                    label=label,
                    n=p.n,
                    words=f"{r.name} to DMX {dmx}",
                    dmx={**p.segment.dmx, own: dmx},
                    width=_wide_enough(ctx, p, {**p.segment.dmx, own: dmx}),
                )
                fix = [
                    Fix(
                        f"Move {r.name} to DMX {dmx}",
                        ((f"{r.name} behind the bridge", f"DMX {r.dmx}", f"DMX {dmx}"),),
                        edit,
                    )
                ]
            (a, _), (b, _) = r.places[0], r.places[1]
            yield Found(
                title=f"{r.name} behind {piece_name(ctx.rig, p)} is cut by a universe's end",
                reason=f"It begins at {say_place(*a)} and goes on at {say_place(*b)}.",
                facts={"fixture": r.name, "from": say_place(*a), "on at": say_place(*b)},
                subject=f"{here.ref}/{p.n}/{r.key}",
                where=here.name,
                goes_to=to_run(device_id, label, p.n),
                items=(r.key,),
                fixes=fix,
            )


def _wide_enough(ctx: Context, piece: Piece, dmx: dict[str, int]) -> int:
    """The width that a bridge needs for its highest address once `dmx` holds: what stands behind moves along."""
    behind = ctx.index.cables_and_sums.fixtures_behind(replace(piece.segment, dmx=dmx), piece)
    return min(512, max([piece.segment.width, *(b.dmx + b.slots - 1 for b in behind)]))


def _begins_of_universes(piece: Piece) -> list[int]:
    """The DMX addresses of a bridge at which a new universe begins."""
    return [p.done + 1 for p in piece.parts[1:]]


@declare_rule(
    "RUN-30",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="Lamps of a converter past address 512",
    means="The lamps behind a converter, counted from its first address on, would end past 512.",
    matters="Those past the end get nothing at all.",
    put_right="Begin lower, put them closer together, or spread them over two converters.",
    candidates=streams_to_check,
)
def past_a_converters_end(ctx: Context, here: PortHere) -> Iterator[Found]:
    for p in here.stream.pieces if here.stream else ():
        over = lamps_past_end(p) if p.segment.kind == "lamps" else 0
        if over:
            yield Found(
                title=f"{say_count(over, 'lamp')} behind {piece_name(ctx.rig, p)} would end past 512",
                reason=f"From address {p.segment.start} every {p.segment.spacing or len(p.segment.functions)} slots, "
                f"{p.pixels} do not fit.",
                facts={"lamps": p.pixels, "over": over},
                subject=f"{here.ref}/{p.n}",
                where=here.name,
                goes_to=to_run(*here.ref, p.n),
            )


@declare_rule(
    "RUN-23",
    severity="warning",
    scope="port",
    group="Runs",
    stage="run",
    title="A converter that cannot drive all of its lamps",
    means="A lamp behind a converter has channels that no function of the converter drives, or that drive a component "
    "which the sender's pixel does not have, such as the white of an RGB pixel.",
    matters="It stays dark, or stays closed: a shutter or a dimmer that nobody drives is zero.",
    put_right="Add a function or a fixed value for the channel, give the pixels that component, or put the lamp into a "
    "simpler mode.",
    candidates=streams_to_check,
)
def find_wrong_converters(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    for p in stream.pieces if stream else ():
        if p.segment.kind != "lamps":
            continue
        told: set[tuple[str, str]] = set()
        for f in p.segment.fixtures:
            fixture = ctx.rig.fixtures.get(f)
            if fixture is None or (fixture.profile, fixture.mode) in told:
                continue
            told.add((fixture.profile, fixture.mode))
            letters = components_of(ctx.rig, p)
            lacks = not_driven(ctx.rig, fixture, p.segment.functions, letters)
            if lacks:
                yield Found(
                    title=f"{say_count(len(lacks), 'channel')} of {fixture.number} cannot be driven",
                    reason=f"{', '.join(lacks[:6])}{' …' if len(lacks) > 6 else ''}: {piece_name(ctx.rig, p)} has no "
                    f"such function there, or its {letters} pixels have no such component.",
                    facts={"fixture": fixture.number, "channels": ", ".join(lacks), "pixels": letters},
                    subject=f"{here.ref}/{p.n}/{f}",
                    where=here.name,
                    goes_to=to_run(device_id, label, p.n),
                    items=(f,),
                )


@declare_rule(
    "RUN-33",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="Lamps of a converter on each other's channels",
    means="A lamp behind a converter has more channels than there are slots from its start to the next lamp's.",
    matters="Its last channels get what is meant for the next lamp: it changes colour, moves or strobes with it.",
    put_right="Make the spacing as large as the lamp's mode, or choose a mode with as many channels as the converter "
    "gives out.",
    candidates=streams_to_check,
)
def too_close_behind_a_converter(ctx: Context, here: PortHere) -> Iterator[Found]:
    for p in here.stream.pieces if here.stream else ():
        key, channels = too_close(ctx.rig, p) if p.segment.kind == "lamps" else ("", 0)
        if not key:
            continue
        step, who = p.segment.lamp_step, name_of_item(ctx.rig, key)
        edit = partial(change_segment, spacing=channels)

        def spread(rig: Rig, n: int = p.n, edit: Callable[..., Edit] = edit) -> Edit:
            return edit(rig, *here.ref, n)[:2]

        change = ((f"{here.name} · spacing", str(step), str(channels)),)
        yield Found(
            title=f"{who} has {say_count(channels, 'channel')}, and the next lamp begins {say_count(step, 'slot')} on",
            reason=f"Behind {piece_name(ctx.rig, p)} channel {step + 1} of {who} is channel 1 of the next lamp.",
            facts={"fixture": who, "channels": channels, "spacing": step},
            subject=f"{here.ref}/{p.n}",
            where=here.name,
            goes_to=to_run(*here.ref, p.n),
            items=(key,),
            fixes=[Fix(f"Space them {channels} apart", change, spread)],
        )


@declare_rule(
    "RUN-36",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="A converter gives out more channels than its lamp has",
    means="A converter drives more channels of each lamp than the mode of one of its lamps has.",
    matters="The channels behind its last one move nothing, or the next lamp.",
    put_right="Take the channels away that the lamp does not have, or put it into a mode with as many.",
    candidates=streams_to_check,
)
def too_many_channels(ctx: Context, here: PortHere) -> Iterator[Found]:
    for p in here.stream.pieces if here.stream else ():
        count = len(p.segment.functions)
        for key in p.segment.fixtures if p.segment.kind == "lamps" else ():
            fixture = ctx.rig.fixtures.get(key)
            mode = mode_of(ctx.rig, fixture) if fixture else None
            have = mode.breaks[0].slots if mode else count
            if have >= count:
                continue
            who = name_of_item(ctx.rig, key)
            yield Found(
                title=f"{who} has {say_count(have, 'channel')}, and {piece_name(ctx.rig, p)} gives out {count}",
                reason=f"Channel {have + 1} of it, {p.segment.functions[have]}, is no channel of this lamp.",
                facts={"fixture": who, "channels": have, "given": count},
                subject=f"{here.ref}/{p.n}/{key}",
                where=here.name,
                goes_to=to_run(*here.ref, p.n),
                items=(key,),
            )
            break  # the lamps of a converter are alike: one says it for all


@declare_rule(
    "RUN-26",
    severity="error",
    scope="port",
    group="Runs",
    stage="run",
    title="A DMX line with lamps of two universes",
    means="A port puts out one universe, and lamps on its line are patched in another.",
    matters="They show the levels of other lamps.",
    put_right="Move them into the port's universe, or attach them to another port.",
)
def two_universes(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label = here.ref
    line = ctx.index.cables_and_sums.lines.get(PortRef(device_id, label))
    if line is None or line.universe not in ctx.rig.universes:
        return
    wrong = [
        f
        for f in line.segment.fixtures
        if (spans := ctx.index.spans_of(f)) and all(s.universe != line.universe for s in spans)
    ]
    if not wrong:
        return
    number = ctx.rig.universes[line.universe].number
    others = sorted({ctx.rig.universes[s.universe].number for f in wrong for s in ctx.index.spans_of(f)})
    names = ", ".join(name_of_item(ctx.rig, f) for f in wrong[:5]) + (" …" if len(wrong) > 5 else "")
    yield Found(
        title=f"Port {label} gives universe {number}, and {say_count(len(wrong), 'lamp')} on its line "
        f"{'is' if len(wrong) == 1 else 'are'} in {', '.join(map(str, others))}",
        reason=f"{names} would show what is sent to other lamps.",
        facts={"port": number, "lamps": ", ".join(map(str, others)), "count": len(wrong)},
        where=here.name,
        goes_to=to_run(device_id, label, line.n),
        items=tuple(wrong),
    )


@declare_rule(
    "RUN-27",
    severity="note",
    scope="rig",
    group="Worth knowing",
    title="One universe on several ports",
    means="Several DMX ports put out the same universe: a split.",
    matters="Lamps of one address on both lines move together.",
    put_right="Nothing, if it is meant.",
)
def find_wrong_splits(ctx: Context, _: str) -> Iterator[Found]:
    for number, ports in sorted(split_ports(ctx.rig, ctx.index.cables_and_sums).items()):
        names = ", ".join(ctx.port_name(p) for p in ports[:6])
        yield Found(
            title=f"Universe {number} comes out of {say_count(len(ports), 'port')}",
            reason=f"{names}.",
            facts={"universe": number, "ports": names},
            subject=f"universe {number}",
            where=f"universe {number}",
            goes_to=to_run(*ports[-1]),
        )


# ---- DMX lines


def _lines_of_port(ctx: Context, here: PortHere) -> list[tuple[int, Segment, LineSum]]:
    """The lines of a port: its own, and those behind its bridges."""
    device_id, label, stream, bridges = _say_bridges(here)
    cables = ctx.index.cables_and_sums
    found = []
    for p in bridges:
        plug = plug_of(ctx.rig, device_id, p.segment) if p.segment.model else ""
        found.append((p.n, p.segment, line_sum(ctx.index, p.segment, p, "", plug)))
    line = cables.lines.get(PortRef(device_id, label))
    if line and stream is None:
        found.append(
            (line.n, line.segment, line_sum(ctx.index, line.segment, None, line.universe, plug_of(ctx.rig, device_id)))
        )
    return found


def _add_booster(device_id: str, label: str, n: int, segment: Segment, before: Stop) -> Fix:
    """A booster before a lamp of a line."""
    boosters = (*segment.boosters, before.key)
    edit = partial(
        change_segment,
        device_id=device_id,
        label=label,
        n=n,
        words=f"a booster before {before.name}",
        boosters=boosters,
    )
    return Fix(f"Put a booster before {before.name}", ((f"line before {before.name}", "cable", "booster"),), edit)


@declare_rule(
    "LINE-01",
    severity="warning",
    scope="port",
    group="Lines",
    title="Too many unit loads on a DMX line",
    means=f"More than {UNIT_LOADS} unit loads are attached to one driver of a DMX line.",
    matters="Levels on the line sag; lamps at its end flicker or do not answer.",
    put_right="Put a splitter or booster into the line.",
)
def unit_loads(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label = here.ref
    for n, segment, line in _lines_of_port(ctx, here):
        if line.heaviest <= UNIT_LOADS:
            continue
        over = next(s for s in line.stops if s.loads > UNIT_LOADS)
        fix = _add_booster(device_id, label, n, segment, over)
        yield Found(
            title=f"{line.heaviest:g} unit loads on one driver, {UNIT_LOADS} are the most",
            reason=f"From {over.name}, the {over.turn}. lamp, on it is too many.",
            facts={"loads": f"{line.heaviest:g}", "from": over.name},
            subject=f"{here.ref}/{n}",
            where=here.name,
            goes_to=to_run(device_id, label, n),
            items=(over.key,),
            fixes=[fix],
        )


@declare_rule(
    "LINE-02",
    severity="warning",
    scope="port",
    group="Lines",
    stage="line",
    title="A DMX line that is too long",
    means="The cable from one driver of the line to its last lamp is longer than the rig's guidance.",
    matters="Signals round off and echo; faults come and go with the weather.",
    put_right="Put a booster into the line, or shorten it. The guidance is a setting of the rig.",
)
def find_lines_too_long(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label = here.ref
    most = ctx.rig.line_metres
    for n, segment, line in _lines_of_port(ctx, here):
        if line.longest <= most:
            continue
        over = next(s for s in line.stops if s.since > most)
        fix = _add_booster(device_id, label, n, segment, over)
        yield Found(
            title=f"{line.longest:g} m of DMX line, {most:g} m are the guidance",
            reason=f"{over.name} is {over.since:g} m behind the driver.",
            facts={"metres": f"{line.longest:g}", "guidance": f"{most:g}"},
            subject=f"{here.ref}/{n}",
            where=here.name,
            goes_to=to_run(device_id, label, n),
            items=(over.key,),
            fixes=[fix] if over.metres <= most else [],
        )


@declare_rule(
    "LINE-03",
    severity="note",
    scope="port",
    group="Worth knowing",
    title="A line whose lamps are not in address order",
    means="Along the cable the DMX addresses go up and down.",
    matters="Nothing is wrong; whoever walks along the line with the list is easily a lamp off.",
    put_right="Attach or number them in order, or leave it.",
)
def not_in_order(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label = here.ref
    for n, _segment, line in _lines_of_port(ctx, here):
        if line.in_order:
            continue
        placed = [s for s in line.stops if s.dmx]
        a, b = next((a, b) for a, b in pairwise(placed) if b.dmx < a.dmx)
        yield Found(
            title=f"The lamps on port {label} are not in address order",
            reason=f"{b.name} at {b.dmx} is attached behind {a.name} at {a.dmx}.",
            facts={"first": a.name, "second": b.name},
            subject=f"{here.ref}/{n}",
            where=here.name,
            goes_to=to_run(device_id, label, n),
            items=(b.key,),
        )


@declare_rule(
    "LINE-04",
    severity="note",
    scope="port",
    group="Worth knowing",
    title="A DMX line that needs adapters",
    means="Two connectors of different kinds meet along the line.",
    matters="Without the adapter in the bag the line ends there.",
    put_right="Pack the adapters that are listed.",
)
def find_needed_adapters(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label = here.ref
    for n, _segment, line in _lines_of_port(ctx, here):
        need = [s for s in line.stops if s.adapter]
        if need:
            yield Found(
                title=f"{say_count(len(need), 'adapter')} on the line of port {label}",
                reason=", ".join(f"{s.adapter} before {s.name}" for s in need[:4]) + ".",
                facts={"adapters": ", ".join(f"{s.name}: {s.adapter}" for s in need)},
                subject=f"{here.ref}/{n}",
                where=here.name,
                goes_to=to_run(device_id, label, n),
                items=tuple(s.key for s in need),
            )


@declare_rule(
    "LINE-05",
    severity="warning",
    scope="port",
    group="Lines",
    title="A DMX line without a terminator",
    means="Somebody noted that the end of the line is not terminated.",
    matters="Echoes from the open end: flicker that comes and goes.",
    put_right="Put a 120 Ω terminator into the last lamp.",
    for_all="Plan {n} terminators",
)
def open_end(ctx: Context, here: PortHere) -> Iterator[Found]:
    device_id, label = here.ref
    for n, segment, line in _lines_of_port(ctx, here):
        if segment.terminated is False and line.stops:
            edit = partial(
                change_segment, device_id=device_id, label=label, n=n, words="terminate the line", terminated=True
            )
            last = line.stops[-1].name
            yield Found(
                title=f"The line of port {label} has an open end",
                reason=f"Its last lamp is {last}.",
                facts={"last": last},
                subject=f"{here.ref}/{n}",
                where=here.name,
                goes_to=to_run(device_id, label, n),
                items=(line.stops[-1].key,),
                fixes=[Fix(f"Plan a terminator in {last}", ((f"line of port {label}", "open", "terminated"),), edit)],
            )


# ---- power


@declare_rule(
    "PWR-01",
    severity="error",
    scope="rig",
    group="Power",
    stage="line",
    title="More current than it is rated for",
    means="The pixels on a port, a device or a supply take more current at full white than it can give.",
    matters="Fuses blow, or the supply shuts down when the picture turns white.",
    put_right="Spread the load, limit the brightness, or take a larger supply.",
)
def find_overloaded_supplies(ctx: Context, _: str) -> Iterator[Found]:
    for load in ctx.loads_of_supplies:
        if not load.rated or load.amps <= load.rated:
            continue
        words = {"port": "Port", "device": "Device", "supply": "Supply"}[load.kind]
        goes = Goto("supply", load.id) if load.kind == "supply" else to_run(load.id, load.port)
        yield Found(
            title=f"{words} {load.name} has to give {load.amps:.1f} A of {load.rated:g} A",
            reason=f"At full white, {100 * load.amps / load.rated:.0f} % of what it is rated for.",
            facts={"amps": f"{load.amps:.1f}", "rated": f"{load.rated:g}"},
            subject=f"{load.kind} {PortRef(load.id, load.port) if load.port else load.id}",
            where=load.name,
            goes_to=goes,
        )


@declare_rule(
    "PWR-02",
    severity="warning",
    scope="port",
    group="Power",
    stage="line",
    title="Too little voltage along a run",
    means="At full white the voltage along a run falls below what its chips need.",
    matters="Colours drift to red, then pixels flicker or stop passing data on.",
    put_right="Feed power in again before that pixel, or use thicker cable.",
    candidates=streams_to_check,
)
def too_little_voltage(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    if stream is None:
        return
    for s in stretches_of_port(ctx.index.cables_and_sums, stream):
        if s.below and s.kind:
            yield Found(
                title=f"{piece_name(ctx.rig, s.piece)} has under {s.kind.least:g} V from pixel {s.below} on",
                reason=f"It begins at {s.volts:.2f} V and ends at {s.end:.2f} V with {s.through:.1f} A; feed in "
                f"again at pixel {s.below} at the latest.",
                facts={"pixel": s.below, "end": f"{s.end:.2f}"},
                subject=f"{here.ref}/{s.piece.n}",
                where=here.name,
                goes_to=to_run(device_id, label, s.piece.n),
                items=(s.piece.key,),
            )
            return


@declare_rule(
    "PWR-03",
    severity="error",
    scope="port",
    group="Power",
    stage="line",
    title="A string on the wrong voltage",
    means="A string gets another voltage than it is made for.",
    matters="At best it stays dark; with too much voltage it is gone.",
    put_right="Feed each string with its own voltage.",
    candidates=streams_to_check,
)
def joined_wrongly(ctx: Context, here: PortHere) -> Iterator[Found]:
    (device_id, label), stream = here.ref, here.stream
    if stream is None:
        return
    model = model_of(ctx.rig, device_id)
    volts, who = 0.0, ""
    for s in stretches_of_port(ctx.index.cables_and_sums, stream):
        supply = ctx.rig.supplies.get(s.piece.segment.supply)
        if supply:
            volts, who = supply.volts, supply.name
        if s.kind is None:
            continue
        if not volts:
            volts, who = s.kind.volts, piece_name(ctx.rig, s.piece)
            if model and model.volts and s.kind.volts not in model.volts and not s.fed:
                volts, who = model.volts[0], f"port {label}"
        if volts != s.kind.volts:
            yield Found(
                title=f"{piece_name(ctx.rig, s.piece)} is made for {s.kind.volts:g} V and gets {volts:g} V",
                reason=f"Its power comes from {who}.",
                facts={"made for": f"{s.kind.volts:g}", "gets": f"{volts:g}"},
                subject=f"{here.ref}/{s.piece.n}",
                where=here.name,
                goes_to=to_run(device_id, label, s.piece.n),
                items=(s.piece.key,),
            )


@declare_rule(
    "PWR-04",
    severity="warning",
    scope="port",
    group="Power",
    stage="line",
    title="Connectors or wires that do not go together",
    means="Two ends of a joint have other connectors, or other wire colours for the same function.",
    matters="Joined by colour instead of by function, the string stays dark, or is gone.",
    put_right="Join wires by what they do; pack the adapter.",
    candidates=streams_to_check,
)
def joints_that_do_not_fit(ctx: Context, here: PortHere) -> Iterator[Found]:
    for j in joints_of_port(ctx.index.cables_and_sums, here.stream) if here.stream else ():
        if j.wrong:
            yield Found(
                title=f"{j.one} and {j.other} do not go together as they are",
                reason=f"{'; '.join(j.wrong)}.",
                facts={"joint": j.n + 1, "wrong": "; ".join(j.wrong)},
                subject=f"{here.ref}/joint {j.n}",
                where=here.name,
                goes_to=to_run(*here.ref, j.n),
            )
