"""Findings about what hangs behind bridges and converters, about DMX lines, and about power along a run."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from itertools import pairwise

from msgspec.structs import replace

from welvo.checks.registry import Context, Finding, Fix, just, rule
from welvo.checks.run_rules import _goes, _name, _of, _ports
from welvo.patch.along import piece_name
from welvo.patch.cable import Piece, Stream
from welvo.rig.lookup import call
from welvo.rig.notation import plural, say_place
from welvo.rig.plan import model_of
from welvo.rig.runs import Segment
from welvo.runs.bridge import demands, first_free, goes_on, meets, rows, set_right
from welvo.runs.claims import split_ports
from welvo.runs.edits import change_segment
from welvo.runs.lamps import not_driven, overflow
from welvo.runs.lines import UNIT_LOADS, LineSum, Stop, line_sum, plug_of
from welvo.runs.power import joints, stretches


def _bridges(ctx: Context, subject: str) -> tuple[str, str, Stream | None, list[Piece]]:
    did, label, stream = _of(ctx, subject)
    return did, label, stream, [p for p in stream.pieces if p.segment.kind == "bridge"] if stream else []


@rule(
    "RUN-11", "error", "port", "Something behind a bridge that passes nothing on",
    "Something hangs on a cable behind a bridge whose model lets nothing follow.",
    "It gets no data.", "Hang it before the bridge, or on another port.", among=_ports,
)  # fmt: skip
def behind_a_bridge(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream, bridges = _bridges(ctx, subject)
    for p in bridges:
        after = [q for q in stream.pieces[p.n + 1 :] if q.segment.counts] if stream else []
        passes, says = goes_on(ctx.index.cables, p)
        if after and not passes:
            yield Finding(
                "RUN-11", "error", f"{subject}/{p.n}", _name(ctx, did, label), f"{piece_name(ctx.rig, after[0])} hangs behind {piece_name(ctx.rig, p)} and gets nothing",
                f"{says[:1].upper()}{says[1:]}; {plural(len(after), 'segment')} hang behind it.", {"segment": p.n + 1, "behind": len(after)}, "Runs",
                _goes(did, label, after[0].n), tuple(q.key for q in after if q.key),
            )  # fmt: skip


@rule(
    "RUN-14", "error", "port", "DMX behind a bridge that comes out wrong",
    "Something on the way changes the bytes of a bridge's stretch: brightness, gamma, dithering, order, folds or grouping; or "
    "the stretch is too short, or comes too fast.",
    "Lamps behind the bridge are dim, wrong or erratic, and every address seems to be at fault.",
    "Set everything on the way to 100 % and straight; the fix does it at once.", among=_ports,
)  # fmt: skip
def dmx_comes_out_wrong(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream, bridges = _bridges(ctx, subject)
    for p in bridges:
        assert stream
        wrong = [d for d in demands(ctx.index.cables, stream, p) if not d.holds]
        if not wrong:
            continue
        mendable = [d for d in wrong if d.edit]
        fixes = []
        if len(mendable) == 1 and mendable[0].edit:
            fixes.append(Fix(mendable[0].fix, mendable[0].changes, mendable[0].edit))
        elif mendable:
            changes = tuple(c for d in mendable for c in d.changes)
            fixes.append(
                Fix(
                    f"Set the bridge right ({len(mendable)})",
                    changes,
                    partial(set_right, did=did, label=label, n=p.n),
                )
            )
        yield Finding(
            "RUN-14", "error", f"{subject}/{p.n}", _name(ctx, did, label), f"DMX behind {piece_name(ctx.rig, p)} comes out wrong",
            "; ".join(f"{d.says[:1].upper()}{d.says[1:]}" for d in wrong) + ".", {d.what: d.says for d in wrong}, "Bridges", _goes(did, label, p.n),
            p.segment.fixtures, just(*fixes) if fixes else None,
        )  # fmt: skip


@rule(
    "RUN-15", "error", "port", "Two fixtures on one DMX address of a line",
    "Behind a bridge, or on a DMX line, two fixtures want the same of its addresses 1 to 512.",
    "Each moves with the other.", "Move one of them to a free address.",
)  # fmt: skip
def meet_on_a_line(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream, bridges = _bridges(ctx, subject)
    for p in bridges:
        assert stream
        behind = rows(ctx.index.cables, stream, p)
        for a, b, low, high in meets(behind)[:5]:
            free = first_free(behind, b.last - b.dmx + 1, skip=b)
            fix = None
            place = ctx.rig.fixtures[b.key].place(b.brk)
            if free and place.way == "run":
                own = b.key if b.brk == 0 else f"{b.key}:{b.brk}"
                edit = partial(change_segment, did=did, label=label, n=p.n, words=f"{b.name} to DMX {free}", dmx={**p.segment.dmx, own: free},
                               width=_wide_enough(ctx, p, {**p.segment.dmx, own: free}))  # fmt: skip
                fix = just(
                    Fix(
                        f"Move {b.name} to DMX {free}",
                        ((f"{b.name} behind the bridge", f"DMX {b.dmx}", f"DMX {free}"),),
                        edit,
                    )
                )
            yield Finding(
                "RUN-15", "error", f"{subject}/{p.n}/{a.key}/{b.key}", _name(ctx, did, label), f"{a.name} and {b.name} meet on {plural(high - low + 1, 'DMX slot')}",
                f"Behind {piece_name(ctx.rig, p)}: {a.name} has {a.dmx}–{a.last}, {b.name} has {b.dmx}–{b.last}.",
                {"first": a.name, "second": b.name, "slots": f"{low}-{high}"}, "Bridges", _goes(did, label, p.n), (a.key, b.key), fix,
            )  # fmt: skip


@rule(
    "RUN-21", "error", "port", "A fixture behind a bridge lies in two universes",
    "A universe's end goes through the slots of a fixture behind a bridge.",
    "The sender cannot patch it: a fixture has one universe.", "Begin the bridge at the next universe, or leave the address free.", among=_ports,
)  # fmt: skip
def torn(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream, bridges = _bridges(ctx, subject)
    for p in bridges:
        assert stream
        for r in rows(ctx.index.cables, stream, p):
            if len(r.places) < 2:
                continue
            dmx = next((w for w in _begins(p) if w > r.dmx), 0)
            fix = None
            if dmx and dmx + r.last - r.dmx <= 512 and ctx.rig.fixtures[r.key].place(r.brk).way == "run":
                own = r.key if r.brk == 0 else f"{r.key}:{r.brk}"
                edit = partial(change_segment, did=did, label=label, n=p.n, words=f"{r.name} to DMX {dmx}", dmx={**p.segment.dmx, own: dmx},
                               width=_wide_enough(ctx, p, {**p.segment.dmx, own: dmx}))  # fmt: skip
                fix = just(
                    Fix(
                        f"Move {r.name} to DMX {dmx}",
                        ((f"{r.name} behind the bridge", f"DMX {r.dmx}", f"DMX {dmx}"),),
                        edit,
                    )
                )
            (a, _), (b, _) = r.places[0], r.places[1]
            yield Finding(
                "RUN-21", "error", f"{subject}/{p.n}/{r.key}", _name(ctx, did, label), f"{r.name} behind {piece_name(ctx.rig, p)} is cut by a universe's end",
                f"It begins at {say_place(*a)} and goes on at {say_place(*b)}.", {"fixture": r.name, "from": say_place(*a), "on at": say_place(*b)}, "Bridges",
                _goes(did, label, p.n), (r.key,), fix,
            )  # fmt: skip


def _wide_enough(ctx: Context, piece: Piece, dmx: dict[str, int]) -> int:
    """The width that a bridge needs for its highest address once `dmx` holds: what stands behind moves along."""
    behind = ctx.index.cables.behind(replace(piece.segment, dmx=dmx), piece)
    return min(512, max([piece.segment.width, *(b.dmx + b.slots - 1 for b in behind)]))


def _begins(piece: Piece) -> list[int]:
    """The DMX addresses of a bridge at which a new universe begins."""
    return [p.done + 1 for p in piece.parts[1:]]


@rule(
    "RUN-23", "warning", "port", "A converter that cannot drive all of its lamps",
    "A lamp behind a converter would end past 512, or has channels that no function of the converter drives.",
    "It stays dark, or stays closed: a shutter or a dimmer that nobody drives is zero.",
    "Add a function or a fixed value for the channel, or put the lamp into a simpler mode.", among=_ports,
)  # fmt: skip
def converters(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    for p in stream.pieces if stream else ():
        if p.segment.kind != "lamps":
            continue
        over = overflow(p)
        if over:
            yield Finding(
                "RUN-23", "error", f"{subject}/{p.n}", _name(ctx, did, label), f"{plural(over, 'lamp')} behind {piece_name(ctx.rig, p)} would end past 512",
                f"From address {p.segment.start} every {p.segment.spacing or len(p.segment.functions)} slots, {p.pixels} do not fit.", {"lamps": p.pixels, "over": over},
                "Runs", _goes(did, label, p.n),
            )  # fmt: skip
        told: set[tuple[str, str]] = set()
        for f in p.segment.fixtures:
            fixture = ctx.rig.fixtures.get(f)
            if fixture is None or (fixture.profile, fixture.mode) in told:
                continue
            told.add((fixture.profile, fixture.mode))
            lacks = not_driven(ctx.rig, fixture, p.segment.functions)
            if lacks:
                yield Finding(
                    "RUN-23", "warning", f"{subject}/{p.n}/{f}", _name(ctx, did, label), f"{plural(len(lacks), 'channel')} of {fixture.number} cannot be driven",
                    f"{', '.join(lacks[:6])}{' …' if len(lacks) > 6 else ''}: {piece_name(ctx.rig, p)} has no such function there.", {"fixture": fixture.number, "channels": ", ".join(lacks)},
                    "Runs", _goes(did, label, p.n), (f,),
                )  # fmt: skip


@rule(
    "RUN-26", "error", "port", "A DMX line with lamps of two universes",
    "A port gives out one universe, and lamps on its line are patched in another.",
    "They show the levels of other lamps.", "Move them into the port's universe, or hang them on another port.",
)  # fmt: skip
def two_universes(ctx: Context, subject: str) -> Iterator[Finding]:
    did, _, label = subject.partition(" ")
    line = ctx.index.cables.lines.get((did, label))
    if line is None or line.universe not in ctx.rig.universes:
        return
    wrong = [
        f
        for f in line.segment.fixtures
        if (spans := ctx.index.spans(f)) and all(s.universe != line.universe for s in spans)
    ]
    if not wrong:
        return
    number = ctx.rig.universes[line.universe].number
    others = sorted({ctx.rig.universes[s.universe].number for f in wrong for s in ctx.index.spans(f)})
    names = ", ".join(call(ctx.rig, f) for f in wrong[:5]) + (" …" if len(wrong) > 5 else "")
    yield Finding(
        "RUN-26", "error", subject, _name(ctx, did, label), f"Port {label} gives universe {number}, and {plural(len(wrong), 'lamp')} on its line {'is' if len(wrong) == 1 else 'are'} in {', '.join(map(str, others))}",
        f"{names} would show what is sent to other lamps.", {"port": number, "lamps": ", ".join(map(str, others)), "count": len(wrong)}, "Runs", _goes(did, label, line.n), tuple(wrong),
    )  # fmt: skip


@rule(
    "RUN-27", "note", "rig", "One universe on several ports",
    "Several DMX ports give out the same universe: a split.",
    "Lamps of one address on both lines move together.", "Nothing, if it is meant.",
)  # fmt: skip
def splits(ctx: Context, _: str) -> Iterator[Finding]:
    for number, ports in sorted(split_ports(ctx.rig, ctx.index.cables).items()):
        names = ", ".join(_name(ctx, *p) for p in ports[:6])
        yield Finding(
            "RUN-27", "note", f"universe {number}", f"universe {number}", f"Universe {number} comes out of {plural(len(ports), 'port')}", f"{names}.",
            {"universe": number, "ports": names}, "Worth knowing", _goes(*ports[-1]),
        )  # fmt: skip


# ---- DMX lines


def _lines(ctx: Context, subject: str) -> list[tuple[int, Segment, LineSum]]:
    """The lines of a port: its own, and those behind its bridges."""
    did, label, stream, bridges = _bridges(ctx, subject)
    cables = ctx.index.cables
    found = []
    for p in bridges:
        plug = plug_of(ctx.rig, did, p.segment) if p.segment.model else ""
        found.append((p.n, p.segment, line_sum(ctx.index, p.segment, p, "", plug)))
    line = cables.lines.get((did, label))
    if line and stream is None:
        found.append(
            (line.n, line.segment, line_sum(ctx.index, line.segment, None, line.universe, plug_of(ctx.rig, did)))
        )
    return found


def _booster(did: str, label: str, n: int, segment: Segment, before: Stop) -> Fix:
    """A booster before a lamp of a line."""
    boosters = (*segment.boosters, before.key)
    edit = partial(
        change_segment, did=did, label=label, n=n, words=f"a booster before {before.name}", boosters=boosters
    )
    return Fix(f"Put a booster before {before.name}", ((f"line before {before.name}", "cable", "booster"),), edit)


@rule(
    "LINE-01", "warning", "port", "Too many unit loads on a DMX line",
    f"More than {UNIT_LOADS} unit loads hang on one driver of a DMX line.",
    "Levels on the line sag; lamps at its end flicker or do not answer.", "Put a splitter or booster into the line.",
)  # fmt: skip
def unit_loads(ctx: Context, subject: str) -> Iterator[Finding]:
    did, _, label = subject.partition(" ")
    for n, segment, line in _lines(ctx, subject):
        if line.heaviest <= UNIT_LOADS:
            continue
        over = next(s for s in line.stops if s.loads > UNIT_LOADS)
        fix = _booster(did, label, n, segment, over)
        yield Finding(
            "LINE-01", "warning", f"{subject}/{n}", _name(ctx, did, label), f"{line.heaviest:g} unit loads on one driver, {UNIT_LOADS} are the most",
            f"From {over.name}, the {over.turn}. lamp, on it is too many.", {"loads": f"{line.heaviest:g}", "from": over.name}, "Lines", _goes(did, label, n), (over.key,),
            just(fix),
        )  # fmt: skip


@rule(
    "LINE-02", "warning", "port", "A DMX line that is too long",
    "The cable from one driver of the line to its last lamp is longer than the rig's guidance.",
    "Signals round off and echo; faults come and go with the weather.", "Put a booster into the line, or shorten it. The guidance is a setting of the rig.",
)  # fmt: skip
def too_long(ctx: Context, subject: str) -> Iterator[Finding]:
    did, _, label = subject.partition(" ")
    most = ctx.rig.line_metres
    for n, segment, line in _lines(ctx, subject):
        if line.longest <= most:
            continue
        over = next(s for s in line.stops if s.since > most)
        fix = _booster(did, label, n, segment, over)
        yield Finding(
            "LINE-02", "warning", f"{subject}/{n}", _name(ctx, did, label), f"{line.longest:g} m of DMX line, {most:g} m are the guidance",
            f"{over.name} is {over.since:g} m behind the driver.", {"metres": f"{line.longest:g}", "guidance": f"{most:g}"}, "Lines", _goes(did, label, n), (over.key,),
            just(fix) if over.metres <= most else None,
        )  # fmt: skip


@rule(
    "LINE-03", "note", "port", "A line whose lamps are not in address order",
    "Along the cable the DMX addresses go up and down.",
    "Nothing is wrong; whoever walks along the line with the list is easily a lamp off.", "Hang or number them in order, or leave it.",
)  # fmt: skip
def not_in_order(ctx: Context, subject: str) -> Iterator[Finding]:
    did, _, label = subject.partition(" ")
    for n, _segment, line in _lines(ctx, subject):
        if line.in_order:
            continue
        placed = [s for s in line.stops if s.dmx]
        a, b = next((a, b) for a, b in pairwise(placed) if b.dmx < a.dmx)
        yield Finding(
            "LINE-03", "note", f"{subject}/{n}", _name(ctx, did, label), f"The lamps on port {label} are not in address order", f"{b.name} at {b.dmx} hangs behind {a.name} at {a.dmx}.",
            {"first": a.name, "second": b.name}, "Worth knowing", _goes(did, label, n), (b.key,),
        )  # fmt: skip


@rule(
    "LINE-04", "note", "port", "A DMX line that needs adapters",
    "Two connectors of different kinds meet along the line.", "Without the adapter in the bag the line ends there.", "Pack the adapters that are listed.",
)  # fmt: skip
def adapters(ctx: Context, subject: str) -> Iterator[Finding]:
    did, _, label = subject.partition(" ")
    for n, _segment, line in _lines(ctx, subject):
        need = [s for s in line.stops if s.adapter]
        if need:
            yield Finding(
                "LINE-04", "note", f"{subject}/{n}", _name(ctx, did, label), f"{plural(len(need), 'adapter')} on the line of port {label}",
                ", ".join(f"{s.adapter} before {s.name}" for s in need[:4]) + ".", {"adapters": ", ".join(f"{s.name}: {s.adapter}" for s in need)}, "Worth knowing",
                _goes(did, label, n), tuple(s.key for s in need),
            )  # fmt: skip


@rule(
    "LINE-05", "warning", "port", "A DMX line without a terminator",
    "Somebody noted that the end of the line is not terminated.", "Echoes from the open end: flicker that comes and goes.", "Put a 120 Ω terminator into the last lamp.",
)  # fmt: skip
def open_end(ctx: Context, subject: str) -> Iterator[Finding]:
    did, _, label = subject.partition(" ")
    for n, segment, line in _lines(ctx, subject):
        if segment.terminated is False and line.stops:
            edit = partial(change_segment, did=did, label=label, n=n, words="terminate the line", terminated=True)
            last = line.stops[-1].name
            yield Finding(
                "LINE-05", "warning", f"{subject}/{n}", _name(ctx, did, label), f"The line of port {label} has an open end", f"Its last lamp is {last}.", {"last": last}, "Lines",
                _goes(did, label, n), (line.stops[-1].key,), just(Fix(f"Plan a terminator in {last}", ((f"line of port {label}", "open", "terminated"),), edit)),
            )  # fmt: skip


# ---- power


@rule(
    "PWR-01", "error", "rig", "More current than it is rated for",
    "The pixels on a port, a box or a supply take more current at full white than it can give.",
    "Fuses blow, or the supply shuts down when the picture turns white.", "Spread the load, limit the brightness, or take a larger supply.",
)  # fmt: skip
def overloaded(ctx: Context, _: str) -> Iterator[Finding]:
    for load in ctx.loads:
        if not load.rated or load.amps <= load.rated:
            continue
        words = {"port": "Port", "device": "Box", "supply": "Supply"}[load.kind]
        goes = ("supply" if load.kind == "supply" else "run", load.id.replace(" ", "\t", 1))
        yield Finding(
            "PWR-01", "error", f"{load.kind} {load.id}", load.name, f"{words} {load.name} has to give {load.amps:.1f} A of {load.rated:g} A",
            f"At full white, {100 * load.amps / load.rated:.0f} % of what it is rated for.", {"amps": f"{load.amps:.1f}", "rated": f"{load.rated:g}"}, "Power", goes,
        )  # fmt: skip


@rule(
    "PWR-02", "warning", "port", "Too little voltage along a run",
    "At full white the voltage along a run falls below what its chips need.",
    "Colours drift to red, then pixels flicker or stop passing data on.", "Feed power in again before that pixel, or use thicker cable.", among=_ports,
)  # fmt: skip
def too_little_voltage(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    if stream is None:
        return
    for s in stretches(ctx.index.cables, stream):
        if s.below and s.kind:
            yield Finding(
                "PWR-02", "warning", f"{subject}/{s.piece.n}", _name(ctx, did, label), f"{piece_name(ctx.rig, s.piece)} has under {s.kind.least:g} V from pixel {s.below} on",
                f"It begins at {s.volts:.2f} V and ends at {s.end:.2f} V with {s.through:.1f} A; feed in again at pixel {s.below} at the latest.",
                {"pixel": s.below, "end": f"{s.end:.2f}"}, "Power", _goes(did, label, s.piece.n), (s.piece.key,),
            )  # fmt: skip
            return


@rule(
    "PWR-03", "error", "port", "Voltages, connectors or wires that do not go together",
    "A string gets another voltage than it is made for, or two ends of a joint have other connectors or other wire colours.",
    "At best it stays dark; with too much voltage it is gone.", "Feed each string with its own voltage; join wires by what they do.", among=_ports,
)  # fmt: skip
def joined_wrongly(ctx: Context, subject: str) -> Iterator[Finding]:
    did, label, stream = _of(ctx, subject)
    if stream is None:
        return
    model = model_of(ctx.rig, did)
    volts, who = 0.0, ""
    for s in stretches(ctx.index.cables, stream):
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
            yield Finding(
                "PWR-03", "error", f"{subject}/{s.piece.n}", _name(ctx, did, label), f"{piece_name(ctx.rig, s.piece)} is made for {s.kind.volts:g} V and gets {volts:g} V",
                f"Its power comes from {who}.", {"made for": f"{s.kind.volts:g}", "gets": f"{volts:g}"}, "Power", _goes(did, label, s.piece.n), (s.piece.key,),
            )  # fmt: skip
    for j in joints(ctx.index.cables, stream):
        if j.wrong:
            yield Finding(
                "PWR-03", "warning", f"{subject}/joint {j.n}", _name(ctx, did, label), f"{j.one} and {j.other} do not go together as they are",
                f"{'; '.join(j.wrong)}.", {"joint": j.n + 1, "wrong": "; ".join(j.wrong)}, "Power", _goes(did, label, j.n),
            )  # fmt: skip
