"""Findings about lamps that were asked by RDM: what stands on the lamp itself, beside what is planned for it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

from welvo.checks.registry import Context, Fix, Found, declare_rule
from welvo.matching.lamps import (
    LampPair,
    LampSettingLine,
    against_profile,
    meeting_responders,
    port_lamps,
    say_seen_on_stage,
    take_addresses,
    wishes_for_lamps,
)
from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.protocols.rdm import say_uid
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.notation import say_count, say_place
from welvo.rig.refs import Goto, PortRef

GROUP = "Lamps"
WORDS_OF_KEYS = {"address": "address", "personality": "mode", "label": "label"}


def _devices_with_lamps(ctx: Context) -> list[str]:
    return list(ctx.lamp_ports)


def _on_ports(ctx: Context, device_id: str) -> Iterator[tuple[str, str, list[LampPair]]]:
    """Each searched port of a device: its label, its name for the eye, its pairs."""
    for label, found in ctx.lamps_of_device(device_id).items():
        yield label, f"{ctx.rig.devices[device_id].name} · {label}", found


def _known_pairs(ctx: Context, device_id: str) -> Iterator[tuple[str, LampPair]]:
    """The pairs of a device of which there is no doubt which lamp they are."""
    for label, _, found in _on_ports(ctx, device_id):
        for p in found:
            if p.lamp and p.fixture and not p.doubt and p.lines:
                yield label, p


def _name_of_lamp(ctx: Context, key: str) -> str:
    f = ctx.rig.fixtures[key]
    return f"{f.number} {f.name}".strip()


def _at_lamp(ctx: Context, ref: PortRef, uid: int, fixture: str) -> dict[str, Any]:
    """What every finding about one lamp says of its place: the port is the cause that groups them."""
    device = ctx.rig.devices[ref.device].name
    return {
        "subject": f"{ref.device}/{ref.port}/{say_uid(uid)}",
        "where": f"{device} · {ref.port}",
        "cause": f"Lamps on port {ref.port} of {device}",
        "goes_to": Goto("lamps", ref.device, ref.port, uid),
        "items": (fixture,),
    }


@declare_rule(
    "LAMP-01",
    severity="error",
    scope="device",
    group=GROUP,
    stage="lamp",
    title="A lamp stands at another address than planned",
    means="A lamp was asked by RDM, and its address is not the one of the plan.",
    matters="It shows the levels that are meant for another lamp, or none.",
    put_right="Push the planned address to it in Devices, or take its own into the patch.",
    live=True,
    candidates=_devices_with_lamps,
)
def other_address(ctx: Context, device_id: str) -> Iterator[Found]:
    for label, p in _known_pairs(ctx, device_id):
        line = p.lines[0]
        if line.mark != "differs" or not p.lamp:
            continue
        name = _name_of_lamp(ctx, p.fixture)
        yield Found(
            title=f"{name} stands at {line.reported}, planned at {line.plan}",
            reason=f"The lamp {say_uid(p.lamp.uid)} says so; it is {name} {p.why}.",
            facts={"lamp": say_uid(p.lamp.uid), "plan": line.plan, "reported": line.reported},
            **_at_lamp(ctx, PortRef(device_id, label), p.lamp.uid, p.fixture),
            fixes=partial(_address_fixes, ctx, PortRef(device_id, label), p),
        )


def _address_fixes(ctx: Context, ref: PortRef, p: LampPair) -> list[Fix]:
    """To set the lamp as planned, or to plan it as it is; worked out when somebody looks."""
    return [_push_it(ref, p, p.lines[0], _name_of_lamp(ctx, p.fixture)), *_plan_it(ctx, p)]


def _push_it(ref: PortRef, p: LampPair, line: LampSettingLine, name: str) -> Fix:
    """To set a lamp as planned."""
    assert p.lamp
    label = f"Push {WORDS_OF_KEYS[line.key]} {line.plan}"
    return Fix(label, ((name, line.reported, line.plan),), lamp=(ref, p.lamp.uid, line.key))


def _plan_it(ctx: Context, p: LampPair) -> list[Fix]:
    """To plan the address that a lamp has, where its place can be typed."""
    try:
        take_addresses(ctx.index, [p])
    except Refused:
        return []
    span = ctx.index.span_of_break(p.fixture)
    if span is None or not p.lamp:
        return []
    universe = ctx.rig.universes[span.universe].number
    old, new = say_place(universe, set_on(ctx.index, p.fixture).address), say_place(universe, p.lamp.address)

    def edit(rig: Rig) -> Edit:
        return take_addresses(Index(rig), [p])

    return [Fix(f"Plan {new}", ((_name_of_lamp(ctx, p.fixture), old, new),), edit)]


@declare_rule(
    "LAMP-02",
    severity="error",
    scope="device",
    group=GROUP,
    stage="lamp",
    title="A lamp works in another mode than planned",
    means="A lamp was asked by RDM, and its personality is not the mode that the plan has.",
    matters="Its slots mean something else: it moves where colour was meant, or reads the slots of its neighbour.",
    put_right="Push the planned mode to it in Devices, or choose the lamp's mode in Patch.",
    live=True,
    candidates=_devices_with_lamps,
)
def other_mode(ctx: Context, device_id: str) -> Iterator[Found]:
    for label, p in _known_pairs(ctx, device_id):
        line = p.lines[1]
        if line.mark != "differs" or not p.lamp:
            continue
        name = _name_of_lamp(ctx, p.fixture)
        yield Found(
            title=f"{name} works in {line.reported}, planned {line.plan}",
            reason=say_seen_on_stage(ctx.index, p.fixture, p.lamp),
            facts={"lamp": say_uid(p.lamp.uid), "plan": line.plan, "reported": line.reported},
            **_at_lamp(ctx, PortRef(device_id, label), p.lamp.uid, p.fixture),
            fixes=[_push_it(PortRef(device_id, label), p, line, name)]
            if wishes_for_lamps(ctx.index, [p], ("personality",))
            else (),
        )


@declare_rule(
    "LAMP-03",
    severity="warning",
    scope="device",
    group=GROUP,
    stage="lamp",
    title="A lamp does not answer where others do",
    means="Other lamps of the port answered by RDM; this one was not found, or did not answer what it was asked.",
    matters="It has no power, its cable ends before it, or it does not speak RDM: nobody knows its address.",
    put_right="Look at its power and at the cable to it, then search the port again.",
    live=True,
    candidates=_devices_with_lamps,
)
def does_not_answer(ctx: Context, device_id: str) -> Iterator[Found]:
    for label, where, found in _on_ports(ctx, device_id):
        if not any(p.lamp for p in found):
            continue  # nobody speaks RDM there
        for p in found:
            if p.lamp and p.lamp.failed:
                yield Found(
                    title=f"{say_uid(p.lamp.uid)} is found, and does not answer",
                    reason=p.lamp.failed,
                    facts={"lamp": say_uid(p.lamp.uid), "why": p.lamp.failed},
                    subject=f"{device_id}/{label}/{say_uid(p.lamp.uid)}",
                    where=where,
                    goes_to=Goto("lamps", device_id, label, p.lamp.uid),
                    items=(p.fixture,) if p.fixture else (),
                )
        missing = [p.fixture for p in found if p.lamp is None]
        if missing:
            names = ", ".join(_name_of_lamp(ctx, k) for k in missing[:3]) + (" …" if len(missing) > 3 else "")
            yield Found(
                title=f"{say_count(len(missing), 'lamp')} of port {label} did not answer",
                reason=f"{names}: planned there, not found, while {sum(p.lamp is not None for p in found)} answered.",
                facts={"lamps": ", ".join(map(str, sorted(ctx.rig.fixtures[k].number for k in missing)))},
                subject=f"{device_id}/{label}",
                where=where,
                goes_to=Goto("lamps", device_id, label),
                items=tuple(missing),
            )


@declare_rule(
    "LAMP-04",
    severity="note",
    scope="device",
    group="Worth knowing",
    title="A lamp that is not in the plan",
    means="A lamp answered on a port by RDM that is none of the fixtures planned there.",
    matters="It may be a spare, or stand on the wrong cable; it takes slots that nobody thinks of.",
    put_right="Plan it, attach it where it is, or leave it.",
    live=True,
    candidates=_devices_with_lamps,
)
def find_unplanned_lamps(ctx: Context, device_id: str) -> Iterator[Found]:
    for label, where, found in _on_ports(ctx, device_id):
        for p in found:
            if p.lamp is None or p.fixture or p.lamp.failed:
                continue
            lamp = p.lamp
            what = f"{lamp.maker} {lamp.model_name}".strip() or say_uid(lamp.uid)
            takes = (
                f"takes slots {lamp.address}–{lamp.address + lamp.footprint - 1}"
                if lamp.address and lamp.footprint
                else "takes no slots"
            )
            yield Found(
                title=f"{what} on port {label} is not in the plan",
                reason=f"{say_uid(lamp.uid)} answers there and {takes}.",
                facts={"lamp": say_uid(lamp.uid), "address": lamp.address, "footprint": lamp.footprint},
                subject=f"{device_id}/{label}/{say_uid(lamp.uid)}",
                where=where,
                goes_to=Goto("lamps", device_id, label, lamp.uid),
            )


@declare_rule(
    "LAMP-05",
    severity="error",
    scope="device",
    group=GROUP,
    stage="lamp",
    title="Several lamps stand at one address",
    means="Two or more lamps of a port say by RDM that they have the same address, and that is not planned.",
    matters="They do the same thing: what is sent to one of them moves all.",
    put_right="Let each blink to see which it is, then push the planned addresses.",
    live=True,
    candidates=_devices_with_lamps,
)
def one_address(ctx: Context, device_id: str) -> Iterator[Found]:
    for label, where, found in _on_ports(ctx, device_id):
        for here in meeting_responders(found):
            lamps = [p.lamp for p in here if p.lamp]
            uids = ", ".join(say_uid(x.uid) for x in lamps[:3]) + (" …" if len(lamps) > 3 else "")
            yield Found(
                title=f"{say_count(len(lamps), 'lamp')} of port {label} stand at address {lamps[0].address:03d}",
                reason=f"{uids} say so themselves.",
                facts={"address": lamps[0].address, "lamps": ", ".join(sorted(say_uid(x.uid) for x in lamps))},
                subject=f"{device_id}/{label}/{lamps[0].address}",
                where=where,
                cause=f"Lamps on port {label} of {ctx.rig.devices[device_id].name}",
                goes_to=Goto("lamps", device_id, label),
                items=tuple(p.fixture for p in here if p.fixture and not p.doubt),
            )


@declare_rule(
    "LAMP-06",
    severity="warning",
    scope="device",
    group=GROUP,
    stage="lamp",
    title="A lamp and its profile contradict each other",
    means="What a lamp tells of its personalities and slots is not what the rig's profile of it says.",
    matters="One of them is wrong, and the lamp is right: levels reach another function than was meant.",
    put_right="Look at the profile, or draft a new one out of what the lamp tells.",
    live=True,
    candidates=_devices_with_lamps,
)
def other_profile(ctx: Context, device_id: str) -> Iterator[Found]:
    told: set[str] = set()
    for label, p in _known_pairs(ctx, device_id):
        profile = ctx.rig.fixtures[p.fixture].profile
        if profile in told or not p.lamp or profile not in ctx.rig.profiles:
            continue
        said = against_profile(ctx.rig.profiles[profile], p.lamp)
        if not said:
            continue
        told.add(profile)
        yield Found(
            title=f"{ctx.rig.profiles[profile].name}: the lamp says otherwise",
            reason=" ".join(said[:2]) + (f" And {len(said) - 2} more." if len(said) > 2 else ""),
            facts={"said": " ".join(said)},
            subject=f"{device_id}/{profile}",
            where=f"{ctx.rig.devices[device_id].name} · {label}",
            goes_to=Goto("profile", profile),
            items=(p.fixture,),
        )


@declare_rule(
    "LAMP-07",
    severity="note",
    scope="device",
    group="Worth knowing",
    title="Which lamp is which is only guessed",
    means="Lamps that answer by RDM were told apart by what they say, and several of them say the same.",
    matters="An address pushed on a guess may land on the neighbour.",
    put_right="Let each blink, and confirm or exchange the guesses in Devices.",
    live=True,
    candidates=_devices_with_lamps,
)
def find_guessed_lamps(ctx: Context, device_id: str) -> Iterator[Found]:
    for label, where, found in _on_ports(ctx, device_id):
        unsure = [p for p in found if p.lamp and p.fixture and p.doubt]
        if unsure:
            yield Found(
                title=f"Which is which of {say_count(len(unsure), 'lamp')} on port {label} is only guessed",
                reason="They are alike in all that they say. Let each blink, and confirm it.",
                facts={"lamps": ", ".join(sorted(say_uid(p.lamp.uid) for p in unsure if p.lamp))},
                subject=f"{device_id}/{label}",
                where=where,
                goes_to=Goto("lamps", device_id, label),
                items=tuple(p.fixture for p in unsure),
            )


@declare_rule(
    "LAMP-08",
    severity="warning",
    scope="device",
    group=GROUP,
    stage="lamp",
    title="A lamp answers on another port than planned",
    means="A lamp whose UID stands in the rig answered by RDM on a port where its fixture is not planned.",
    matters="It gets the levels of another universe, whatever its address is.",
    put_right="Plug it where it is planned, or plan it where it is.",
    live=True,
    candidates=_devices_with_lamps,
)
def other_port(ctx: Context, device_id: str) -> Iterator[Found]:
    for label, where, found in _on_ports(ctx, device_id):
        here = set(port_lamps(ctx.index, device_id, label))
        for p in found:
            if not p.lamp or not p.sure or p.fixture in here:
                continue
            name = _name_of_lamp(ctx, p.fixture)
            yield Found(
                title=f"{name} answers on {where}",
                reason=f"{say_uid(p.lamp.uid)} hangs there; {name} is planned elsewhere, or nowhere.",
                facts={"lamp": say_uid(p.lamp.uid), "port": where},
                **_at_lamp(ctx, PortRef(device_id, label), p.lamp.uid, p.fixture),
            )
