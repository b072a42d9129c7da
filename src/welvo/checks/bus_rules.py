"""Findings about lamp buses: their place in the universe, their time, their gear, their inputs."""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import partial

from welvo.buses.edits import set_bus
from welvo.buses.inputs import inputs_of, truth_table
from welvo.buses.plan import BusHere, bus_at, bus_of, bus_ports, timing_of_bus
from welvo.checks.registry import Context, Fix, Found, PortHere, declare_rule
from welvo.matching.gear import LABELS, can_follow, faults_of_gear, gear_lines, seen_on
from welvo.matching.planned import full_plan
from welvo.observed.values import BusSeen
from welvo.protocols.dali import COLOUR
from welvo.rig.abilities import port_gives_what
from welvo.rig.buses import CONTROLS, Gear
from welvo.rig.counting import SLOTS
from welvo.rig.edits import move_item, plan_setting, set_port
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_count, say_place
from welvo.rig.plan import model_of
from welvo.rig.refs import BUS, Goto, PortRef, SegmentRef
from welvo.survey.effects import effects_of

GROUP = "Lamp buses"
MANY_NAMED = 6


def _bus_here(ctx: Context, here: PortHere) -> BusHere | None:
    return bus_of(ctx.rig, SegmentRef(*here.ref, BUS))


def _with_bus(ctx: Context) -> list[PortRef]:
    return [PortRef(ref.device, ref.port) for ref in sorted(ctx.index.buses)]


def _planned_buses(ctx: Context) -> list[PortRef]:
    return [PortRef(d, label) for d in ctx.rig.devices for label in bus_ports(ctx.rig, d)]


def _goto_gear(ref: PortRef, short: int = -1) -> Goto:
    return Goto("bus", ref.device, ref.port, short)


def _gear_name(gear: Gear | None, short: int) -> str:
    return f"gear {short}{f' {gear.name}' if gear and gear.name else ''}"


@declare_rule(
    "BUS-01",
    severity="error",
    scope="port",
    group=GROUP,
    stage="line",
    title="A bus ends past 512",
    means="A lamp bus takes more slots than are left in its universe from its first slot on.",
    matters="Its last places get no levels: that gear never follows.",
    put_right="Let it begin earlier, speak to groups instead of each gear, or to fewer slots a place.",
    candidates=_with_bus,
)
def find_gear_past_the_end(ctx: Context, here: PortHere) -> Iterator[Found]:
    found = _bus_here(ctx, here)
    if found is None:
        return
    last = found.first + found.bus.slots_needed - 1
    if last <= SLOTS:
        return
    device = ctx.rig.devices[here.ref.device].name
    past = last - SLOTS
    lost = -(-past // found.bus.slots_per_place)
    start = SLOTS - found.bus.slots_needed + 1
    number = ctx.rig.universes[found.universe].number
    edit = partial(
        set_port, device_id=here.ref.device, port=here.ref.port, label=f"begin {here.ref.port} at {start}", start=start
    )
    old, new = say_place(number, found.first), say_place(number, max(1, start))
    yield Found(
        title=f"{here.ref.port} of {device} ends {say_count(past, 'slot')} past 512",
        reason=f"{say_count(found.bus.slots_needed, 'slot')} from {found.first} on; its last "
        f"{say_count(lost, 'place')} get nothing.",
        facts={"first": found.first, "slots": found.bus.slots_needed, "past": past},
        where=say_place(number, found.first),
        goes_to=_goto_gear(here.ref),
        fixes=[Fix(f"Begin at {new}", ((f"{here.ref.port} · first slot", old, new),), edit)]
        if start >= 1 and not any(e.kind == "meets" for e in effects_of(ctx.index, edit(ctx.rig)))
        else (),
    )


@declare_rule(
    "BUS-02",
    severity="warning",
    scope="port",
    group=GROUP,
    title="A bus is slower than wanted",
    means="A change of all places of a lamp bus takes longer than the plan allows: it carries 36 frames a second.",
    matters="The last gear follows visibly late, and a fade becomes a row of steps.",
    put_right="Speak to groups or to all at once, use scenes with fade times, or allow it more time.",
    candidates=_with_bus,
)
def find_slow_buses(ctx: Context, here: PortHere) -> Iterator[Found]:
    found = _bus_here(ctx, here)
    if found is None:
        return
    t = timing_of_bus(found.bus)
    if t.seconds <= found.bus.every:
        return
    device = ctx.rig.devices[here.ref.device].name
    seconds = round(t.seconds, 1)
    more = float(math.ceil(t.seconds))
    edit = partial(set_bus, ref=here.ref, label=f"allow {here.ref.port} {more:g} s", every=more)
    yield Found(
        title=f"{here.ref.port} of {device} takes {seconds:g} s for a change of everything",
        reason=f"{say_count(t.places, 'place')} of {CONTROLS[found.bus.control][0]} are "
        f"{say_count(t.frames, 'frame')}; "
        f"{found.bus.every:g} s are wanted.",
        facts={"seconds": str(seconds), "wanted": str(found.bus.every), "frames": t.frames},
        where=f"{device} · {here.ref.port}",
        goes_to=_goto_gear(here.ref),
        fixes=[
            Fix(f"Allow {more:g} s", ((f"{here.ref.port} · may take", f"{found.bus.every:g} s", f"{more:g} s"),), edit)
        ],
    )


@declare_rule(
    "BUS-03",
    severity="error",
    scope="port",
    group=GROUP,
    stage="line",
    title="Colour is sent to gear that has none",
    means="A lamp bus is planned to send colour, and gear on it is not of the colour type.",
    matters="That gear ignores every colour: it stays as it was.",
    put_right="Send intensity to it, or put gear of the colour type there.",
    live=True,
    candidates=_planned_buses,
)
def find_colourless_gear(ctx: Context, here: PortHere) -> Iterator[Found]:
    if port_gives_what(ctx.rig, *here.ref) != "bus":
        return
    bus, seen = bus_at(ctx.rig, here.ref), seen_on(ctx.rig, ctx.observed, here.ref)
    if not bus.needs_colour_gear:
        return
    known = {g.at: can_follow(g) for g in (seen.gear if seen else ()) if g.kinds}
    planned = {g.at: g.kind == COLOUR for g in bus.gear if g.kind >= 0}
    without = sorted(n for n, follows in {**planned, **known}.items() if not follows)
    if without:
        names = ", ".join(map(str, without[:MANY_NAMED])) + (" …" if len(without) > MANY_NAMED else "")
        yield Found(
            title=f"{say_count(len(without), 'gear', 'gear')} on {here.ref.port} cannot follow "
            f"{CONTROLS[bus.control][0]}",
            reason=f"Gear {names}: not of the colour type.",
            facts={"gear": ", ".join(map(str, without)), "control": bus.control},
            where=here.name,
            goes_to=_goto_gear(here.ref, without[0]),
            fixes=[
                Fix(
                    "Send intensity",
                    ((f"{here.ref.port} · control", CONTROLS[bus.control][0], "intensity"),),
                    partial(set_bus, ref=here.ref, label=f"send intensity on {here.ref.port}", control="intensity"),
                )
            ],
        )  # fmt: skip


@declare_rule(
    "BUS-04",
    severity="warning",
    scope="port",
    group=GROUP,
    title="A lamp of a bus stands elsewhere than its gear",
    means="A fixture is driven by a gear of a lamp bus, and is not patched where the bus has that gear's slots.",
    matters="What is sent for the fixture reaches another gear, or none.",
    put_right="Move the fixture to its gear's slots, or say which gear drives it.",
    candidates=_with_bus,
)
def lamp_elsewhere(ctx: Context, here: PortHere) -> Iterator[Found]:
    found = _bus_here(ctx, here)
    if found is None or found.bus.addressing != "gear":
        return
    number = ctx.rig.universes[found.universe].number
    for gear in found.bus.gear:
        span = ctx.index.span_of_break(gear.fixture) if gear.fixture in ctx.rig.fixtures else None
        slot = found.first + found.bus.slot_of_place(gear.at) - 1
        if span is None or (span.universe, span.first) == (found.universe, slot) or slot > SLOTS:
            continue
        name, new = name_of_item(ctx.rig, gear.fixture), say_place(number, slot)
        old = say_place(ctx.rig.universes[span.universe].number, span.first)
        edit = partial(move_item, key=gear.fixture, break_no=0, universe=found.universe, address=slot)
        place = ctx.rig.fixtures[gear.fixture].place_of_break(0)
        yield Found(
            title=f"{name} stands at {old}, gear {gear.at} listens to {new}",
            reason=f"G{_gear_name(gear, gear.at)[1:]} on {here.ref.port} drives it.",
            facts={"item": name, "stands": old, "gear": new},
            subject=f"{here.ref} {gear.at}",
            where=old,
            goes_to=_goto_gear(here.ref, gear.at),
            items=(gear.fixture,),
            fixes=[Fix(f"Move {name} to {new}", ((name, old, new),), edit)]
            if place.origin_of_place == "typed" and not place.locked
            else (),
        )


@declare_rule(
    "BUS-05",
    severity="warning",
    scope="device",
    group=GROUP,
    title="An alarm whose broken wire nobody notices",
    means="An input of a gateway is planned as an alarm with a contact that rests open.",
    matters="A cut wire looks just like rest: the alarm is dead, and that shows when it is needed.",
    put_right="Use a contact that rests closed, and say so at the input.",
)
def dead_alarm(ctx: Context, device_id: str) -> Iterator[Found]:
    model = model_of(ctx.rig, device_id)
    if model is None or model.kind != "gateway":
        return
    device = ctx.rig.devices[device_id]
    for i in inputs_of(model, full_plan(ctx.index, device_id)):
        if i.use == "alarm" and not all(case.good for case in truth_table(i)):
            key = f"in{i.number}_contact"
            edit = partial(plan_setting, device_id=device_id, setting=key, value="normally closed")
            yield Found(
                title=f"A cut wire at input {i.number} of {device.name} goes unnoticed",
                reason="It is an alarm, and its contact rests open.",
                facts={"input": i.number, "contact": "normally open"},
                subject=f"{device_id}/in{i.number}",
                where=f"{device.name} · input {i.number}",
                goes_to=Goto("device", device_id),
                fixes=[
                    Fix(
                        "Plan a contact that rests closed",
                        ((f"Contact of input {i.number}", "normally open", "normally closed"),),
                        edit,
                    )
                ],
            )  # fmt: skip


# ---- what a search found


def _searched_buses(ctx: Context, device_id: str) -> Iterator[tuple[PortRef, str, BusSeen]]:
    for label in bus_ports(ctx.rig, device_id):
        ref = PortRef(device_id, label)
        seen = seen_on(ctx.rig, ctx.observed, ref)
        if seen is not None:
            yield ref, f"{ctx.rig.devices[device_id].name} · {label}", seen


def _seen_devices(ctx: Context) -> list[str]:
    ips = {ip for ip, _ in ctx.observed.buses}
    return [k for k, d in ctx.rig.devices.items() if d.ip in ips]


@declare_rule(
    "BUS-06",
    severity="error",
    scope="device",
    group=GROUP,
    stage="line",
    title="Two gear at one short address",
    means="A search of a lamp bus got several answers at one short address, and not the same.",
    matters="Both follow one place, and neither can be told or asked by itself.",
    put_right="Set them apart in Devices: only these are addressed anew.",
    live=True,
    candidates=_seen_devices,
)
def find_doubled_gear(ctx: Context, device_id: str) -> Iterator[Found]:
    for ref, where, seen in _searched_buses(ctx, device_id):
        for gear in seen.gear:
            if gear.doubled:
                yield Found(
                    title=f"Several gear at short address {gear.at} of {ref.port}",
                    reason="Their answers lie over each other.",
                    facts={"short": gear.at},
                    subject=f"{ref} {gear.at}",
                    where=where,
                    goes_to=_goto_gear(ref, gear.at),
                )


@declare_rule(
    "BUS-07",
    severity="warning",
    scope="device",
    group=GROUP,
    title="Planned gear does not answer",
    means="A search of a lamp bus did not find gear that is planned there.",
    matters="It has no power, its wires are off, or it has another short address or none.",
    put_right="Look for gear that is too many on the bus; it may be the same one. Else look at its power.",
    live=True,
    candidates=_seen_devices,
)
def find_missing_gear(ctx: Context, device_id: str) -> Iterator[Found]:
    for ref, where, seen in _searched_buses(ctx, device_id):
        there = {g.at for g in seen.gear}
        gone = [g for g in bus_at(ctx.rig, ref).gear if g.at not in there]
        if gone:
            names = ", ".join(_gear_name(g, g.at) for g in gone[:3]) + (" …" if len(gone) > 3 else "")
            yield Found(
                title=f"{say_count(len(gone), 'gear', 'gear')} of {ref.port} did not answer",
                reason=f"Planned and not found: {names}.",
                facts={"gear": ", ".join(str(g.at) for g in gone)},
                subject=str(ref),
                where=where,
                goes_to=_goto_gear(ref, gone[0].at),
                items=tuple(g.fixture for g in gone if g.fixture in ctx.rig.fixtures),
            )


@declare_rule(
    "BUS-08",
    severity="note",
    scope="device",
    group="Worth knowing",
    title="Gear that is not planned",
    means="A search of a lamp bus found gear at short addresses where none is planned, or without a short address.",
    matters="It follows broadcasts and whatever is sent to its place; gear without an address follows broadcasts only.",
    put_right="Plan it, or address what has no address yet.",
    live=True,
    candidates=_seen_devices,
)
def unplanned_gear(ctx: Context, device_id: str) -> Iterator[Found]:
    for ref, where, seen in _searched_buses(ctx, device_id):
        planned = {g.at for g in bus_at(ctx.rig, ref).gear}
        extra = [g.at for g in seen.gear if g.at not in planned]
        if not extra and not seen.strays:
            continue
        parts = (
            [f"{say_count(len(extra), 'gear', 'gear')} at {', '.join(map(str, extra[:MANY_NAMED]))}"] if extra else []
        )
        parts += ["gear without a short address"] if seen.strays else []
        yield Found(
            title=f"{ref.port} has {' and '.join(parts)} that nobody planned",
            reason="It answered the search.",
            facts={"extra": ", ".join(map(str, extra)), "without address": "yes" if seen.strays else "no"},
            subject=str(ref),
            where=where,
            goes_to=_goto_gear(ref, extra[0] if extra else -1),
        )


@declare_rule(
    "BUS-09",
    severity="error",
    scope="device",
    group=GROUP,
    stage="line",
    title="Gear reports a fault",
    means="Gear on a lamp bus says that its lamp does not light, that it fails itself, or that a limit was exceeded.",
    matters="Whatever is sent, there is no light there.",
    put_right="Look at the lamp and its plug, then at the gear.",
    live=True,
    candidates=_seen_devices,
)
def gear_fault(ctx: Context, device_id: str) -> Iterator[Found]:
    for ref, where, seen in _searched_buses(ctx, device_id):
        bus = bus_at(ctx.rig, ref)
        for gear in seen.gear:
            wrong = faults_of_gear(gear)
            if wrong:
                planned = bus.gear_at(gear.at)
                yield Found(
                    title=f"G{_gear_name(planned, gear.at)[1:]} on {ref.port}: {wrong[0]}",
                    reason=f"It says so itself: {', '.join(wrong)}.",
                    facts={"short": gear.at, "faults": ", ".join(wrong)},
                    subject=f"{ref} {gear.at}",
                    where=where,
                    goes_to=_goto_gear(ref, gear.at),
                    items=(planned.fixture,) if planned and planned.fixture in ctx.rig.fixtures else (),
                )


@declare_rule(
    "BUS-10",
    severity="warning",
    scope="device",
    group=GROUP,
    title="Gear is set otherwise than planned",
    means="Gear on a lamp bus was read, and something stored in it is not what the plan has.",
    matters="It fades, limits, joins groups or recalls scenes in another way than was meant.",
    put_right="Write what is planned in Devices, or plan what it has.",
    live=True,
    candidates=_seen_devices,
)
def set_otherwise(ctx: Context, device_id: str) -> Iterator[Found]:
    for ref, where, seen in _searched_buses(ctx, device_id):
        off = {
            g.at: [x for x in gear_lines(g, has) if x.mark == "differs"]
            for g in bus_at(ctx.rig, ref).gear
            if (has := seen.gear_at(g.at)) and not has.doubled
        }
        off = {k: v for k, v in off.items() if v}
        if not off:
            continue
        first = next(iter(off))
        said = "; ".join(f"{LABELS[x.key].lower()} plan {x.plan}, gear {x.reported}" for x in off[first][:3])
        facts = "; ".join(f"{n} {x.key} {x.plan}≠{x.reported}" for n, lines in off.items() for x in lines)
        yield Found(
            title=f"{say_count(len(off), 'gear', 'gear')} on {ref.port} {'is' if len(off) == 1 else 'are'} set "
            f"otherwise",
            reason=f"Gear {first}: {said}.",
            facts={"settings": facts},
            subject=str(ref),
            where=where,
            goes_to=_goto_gear(ref, first),
        )
