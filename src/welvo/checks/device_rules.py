"""Findings about devices: what is planned for them and what they say themselves."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from welvo.checks.registry import Context, Fix, Found, declare_rule
from welvo.matching.planned import compare_device, full_plan
from welvo.observed.presence import is_recent, presence_of
from welvo.observed.values import DeviceAnswer, Heard, HeardPort
from welvo.rig.addresses import differing_part, same_network, say_network
from welvo.rig.edits import plan_setting
from welvo.rig.lookup import is_in_use
from welvo.rig.notation import say_count
from welvo.rig.plan import device_at, devices_at, model_of, say_key, say_setting, spec_of
from welvo.rig.protocol import Protocol, say_wire
from welvo.rig.refs import Goto
from welvo.rig.wiring import Port
from welvo.settings.artnet import heard_port
from welvo.settings.card import untick_settings
from welvo.settings.compare import SettingLine


@declare_rule(
    "DEV-01",
    severity="error",
    scope="device",
    group="Devices",
    stage="device",
    title="Two devices planned at one address",
    means="Two devices of the rig have the same IP address.",
    matters="Both answer, or neither: levels and settings reach one of them by chance.",
    put_right="Give one of them another address.",
)
def same_ip(ctx: Context, device_id: str) -> Iterator[Found]:
    device = ctx.rig.devices[device_id]
    for other_id in devices_at(ctx.rig, device.ip):
        other = ctx.rig.devices[other_id]
        if other_id < device_id:
            yield Found(
                title=f"{other.name} and {device.name} are both at {device.ip}",
                reason="Two devices cannot have one address.",
                facts={"ip": device.ip, "first": other.name, "second": device.name},
                where=device.ip,
                goes_to=Goto("device", device_id),
            )


def _is_doubled(ctx: Context, device_id: str) -> bool:
    """Another device is planned at the same address: what is heard there is held against that one only (DEV-01)."""
    return any(d < device_id for d in devices_at(ctx.rig, ctx.rig.devices[device_id].ip))


@declare_rule(
    "DEV-02",
    severity="warning",
    scope="device",
    group="Devices",
    title="A planned device is silent",
    means="Welvo is listening, and a planned device has not answered for 10 seconds.",
    matters="It is off, on another network, or at another address; nothing is known of its settings.",
    put_right="Check power and cable, then the first three parts of both addresses.",
    live=True,
)
def find_silent_devices(ctx: Context, device_id: str) -> Iterator[Found]:
    device = ctx.rig.devices[device_id]
    if not ctx.observed.listening or not device.ip or not is_in_use(ctx.rig, "devices", device_id):
        return
    presence = presence_of(ctx.observed, device.ip, ctx.now)
    if presence.is_there:
        return
    before = presence.state == "silent"
    ever = "It answered before and stopped." if before else "It has never answered here."
    yield Found(
        title=f"{device.name} is silent",
        reason=f"Planned at {device.ip}. {ever}",
        facts={"device": device.name, "ip": device.ip, "heard before": "yes" if before else "no"},
        where=device.ip,
        goes_to=Goto("device", device_id),
        fixes=[Fix("Find it…", find=device_id)],
    )


@declare_rule(
    "DEV-03",
    severity="note",
    scope="rig",
    group="Worth knowing",
    title="A device that is not in the plan",
    means="A device answered on the network that the rig does not know.",
    matters="It may be a spare, somebody else's, or a planned one at a wrong address.",
    put_right="Plan it in Devices, or leave it.",
    live=True,
)
def find_strangers(ctx: Context, _: str) -> Iterator[Found]:
    for ip, heard in ctx.observed.heard.items():
        if is_recent(ctx.observed, heard.at, ctx.now) and not device_at(ctx.rig, ip):
            yield Found(
                title=f"{heard.name or ip} is not in the plan",
                reason=f"A device called “{heard.name}” answers at {ip}.",
                facts={"ip": ip, "name": heard.name},
                subject=ip,
                where=ip,
                goes_to=Goto("heard", ip),
            )


AS_IT_CAME = 5
"""From more settings at their factory values than this on a device is taken to have just come out of its box."""


def _as_it_came(name: str, device_id: str, lines: list[SettingLine]) -> Found:
    """One finding for all settings of a device that nobody has set yet."""
    keys = tuple(x.key for x in lines if x.spec.writable)
    count = say_count(len(lines), "setting")
    change = (f"{name} · {count}", "as it came", "as planned")
    return Found(
        title=f"{name} is as it came: {count} to be set",
        reason=f"{count} that the plan has otherwise stand at their factory values.",
        facts={"settings": len(lines)},
        subject=device_id,
        where=name,
        cause=f"{name} is set otherwise than planned",
        goes_to=Goto("device", device_id),
        fixes=[Fix(f"Push {say_count(len(keys), 'setting')}", (change,), push=(device_id, keys))] if keys else [],
    )


@declare_rule(
    "DEV-04",
    severity="warning",
    scope="device",
    group="Devices",
    title="A setting of a device differs from the plan",
    means="The device reports another value for a setting than the plan has.",
    matters="What was planned is not what happens.",
    put_right="Push the plan's value, or plan the device's.",
    live=True,
)
def find_differing_settings(ctx: Context, device_id: str) -> Iterator[Found]:
    device = ctx.rig.devices[device_id]
    if _is_doubled(ctx, device_id) or not is_in_use(ctx.rig, "devices", device_id):
        return
    lines = []
    for line in compare_device(ctx.index, ctx.observed, device_id, ctx.now):
        told = line.spec.scope == "port" and device.ports.get(line.port, Port()).feed  # WIRE-01 tells of these
        if line.mark == "differs" and not (told and line.spec.key in ("universe", "protocol")):
            lines.append(line)
    if len(lines) > AS_IT_CAME and all(x.reported in (x.spec.factory, None) for x in lines):
        yield _as_it_came(device.name, device_id, lines)
        return
    for line in lines:
        plan, has = say_setting(line.spec, line.plan), say_setting(line.spec, line.reported)
        what = f"{device.name} · {say_key(model_of(ctx.rig, device_id), line.key)}"
        label = f"Push {line.spec.label}: {plan}"
        push = [Fix(label, ((what, has, plan),), push=(device_id, (line.key,)))] if line.spec.writable else []
        yield Found(
            title=f"{line.spec.label} of {device.name}: plan {plan}, device {has}",
            reason=f"{what} is planned as {plan}; the device says {has}.",
            facts={"setting": line.key, "plan": plan, "reported": has},
            subject=f"{device_id}/{line.key}",
            where=what,
            cause=f"{device.name} is set otherwise than planned",
            goes_to=Goto("device", device_id),
            fixes=push,
        )


def _live_said(ctx: Context, device_id: str) -> DeviceAnswer | None:
    """What a device said lately of its settings; None when it is silent."""
    said = ctx.observed.said.get(ctx.rig.devices[device_id].ip)
    return said if said and is_recent(ctx.observed, said.at, ctx.now) else None


@declare_rule(
    "DEV-11",
    severity="warning",
    scope="device",
    group="Devices",
    title="A device holds settings that are not saved",
    means="Settings were entered into a device, and it says that they still have to be saved, applied, or need a "
    "restart.",
    matters="What was not saved is gone after the next restart; what was not applied does nothing yet.",
    put_right="Save, apply or restart it in Devices.",
    live=True,
)
def not_saved(ctx: Context, device_id: str) -> Iterator[Found]:
    device, said = ctx.rig.devices[device_id], _live_said(ctx, device_id)
    if not said or not said.waits:
        return
    counts = {act: sum(act in needs for needs in said.waits.values()) for act in ("save", "apply", "restart")}
    words = ", ".join(f"{n} to {act}" for act, n in counts.items() if n)
    yield Found(
        title=f"{device.name} has {say_count(len(said.waits), 'setting')} waiting: {words}",
        reason="They were entered, and do not hold yet: "
        + "; ".join(say_key(model_of(ctx.rig, device_id), k) for k in sorted(said.waits)[:4])
        + (" …" if len(said.waits) > 4 else "."),
        facts={"device": device.name, **{f"to {act}": n for act, n in counts.items() if n}},
        where=device.name,
        goes_to=Goto("device", device_id),
    )


@declare_rule(
    "DEV-13",
    severity="warning",
    scope="device",
    group="Devices",
    title="A setting that was entered by hand with another value",
    means="A setting was ticked off on the setting card, and the plan says another value by now.",
    matters="The device still has what was entered then, and it cannot say so itself.",
    put_right="Enter it anew and tick it off, or take the plan back to what was entered.",
    candidates=lambda ctx: [k for k, d in ctx.rig.devices.items() if d.entered],
)
def entered_before(ctx: Context, device_id: str) -> Iterator[Found]:
    device, model = ctx.rig.devices.get(device_id), model_of(ctx.rig, device_id)
    if device is None or model is None or not device.entered:
        return
    plan = full_plan(ctx.index, device_id)
    said = _live_said(ctx, device_id)
    proved = said.active if said else {}
    old = [k for k, e in device.entered.items() if k in plan and plan[k] not in (e.value, proved.get(k))]
    if not old:
        return
    key = old[0]
    spec = spec_of(model, key)
    was, now = say_setting(spec, device.entered[key].value), say_setting(spec, plan[key])
    more = f", and {say_count(len(old) - 1, 'setting')} more" if len(old) > 1 else ""
    yield Found(
        title=f"{device.name} was set to {say_key(model, key)} {was}, the plan says {now}{more}",
        reason="They were ticked off on its setting card when the plan was another one."
        if more
        else "It was ticked off on its setting card when the plan was another one.",
        facts={"device": device.name, "settings": len(old)},
        where=device.name,
        goes_to=Goto("device", device_id),
        fixes=[
            Fix(
                "Take the ticks back" if more else "Take the tick back",
                ((f"{device.name} · {say_key(model, key)}", "ticked", "to be entered"),),
                partial(untick_settings, device_id=device_id, keys=set(old)),
            )
        ],
    )


@declare_rule(
    "DEV-12",
    severity="error",
    scope="device",
    group="Devices",
    stage="test pattern",
    title="A device shows a test pattern of its own",
    means="A device says that its on-board test runs.",
    matters="Nothing that is sent to it is shown, and nobody sees why.",
    put_right="End the test in Devices, or on its own page.",
    live=True,
)
def test_left_on(ctx: Context, device_id: str) -> Iterator[Found]:
    device, said = ctx.rig.devices[device_id], _live_said(ctx, device_id)
    if said and said.test:
        yield Found(
            title=f"{device.name} shows its on-board test “{said.test}”",
            reason="It shows the test instead of what is sent.",
            facts={"device": device.name, "test": said.test},
            where=device.name,
            goes_to=Goto("device", device_id),
            fixes=[Fix("End the test", end_test=device_id)],
        )


@declare_rule(
    "DEV-07",
    severity="error",
    scope="rig",
    group="Devices",
    stage="device",
    title="Two devices answer at one address",
    means="Replies from one IP address carry different MAC addresses.",
    matters="Levels and settings reach one of the two by chance, now this one, now that one.",
    put_right="Unplug one of them, and give the other another address.",
    live=True,
)
def find_twin_addresses(ctx: Context, _: str) -> Iterator[Found]:
    for ip, heard in sorted(ctx.observed.heard.items()):
        if len(heard.macs) > 1 and is_recent(ctx.observed, heard.at, ctx.now):
            device_id = device_at(ctx.rig, ip)
            yield Found(
                title=f"{say_count(len(heard.macs), 'device')} answer at {ip}",
                reason=f"Their MACs are {' and '.join(heard.macs)}.",
                facts={"ip": ip, "macs": ", ".join(heard.macs)},
                subject=ip,
                where=ip,
                goes_to=Goto("device", device_id) if device_id else Goto("heard", ip),
            )


@declare_rule(
    "DEV-08",
    severity="error",
    scope="device",
    group="Devices",
    stage="device",
    title="Another device answers in place of a planned one",
    means="The device at a planned address has another MAC than the one that was planned there.",
    matters="A spare or a stranger took the address: its settings are its own, and so is what hangs on it.",
    put_right="Find the planned device, or plan the new one's MAC.",
    live=True,
)
def other_mac(ctx: Context, device_id: str) -> Iterator[Found]:
    device = ctx.rig.devices[device_id]
    wanted = str(device.settings.get("mac", "")).lower()
    heard, said = ctx.observed.heard.get(device.ip), _live_said(ctx, device_id)
    has = said.mac if said else heard.mac if heard and is_recent(ctx.observed, heard.at, ctx.now) else ""
    if not wanted or not has or has.lower() == wanted or _is_doubled(ctx, device_id):
        return
    elsewhere = next((ip for ip, h in ctx.observed.heard.items() if h.mac.lower() == wanted), "")
    yield Found(
        title=f"{device.name} is another device: MAC {has}",
        reason=f"Planned is {wanted}{f', which answers at {elsewhere}' if elsewhere else ''}.",
        facts={"device": device.name, "planned": wanted, "heard": has},
        where=device.ip,
        goes_to=Goto("device", device_id),
        fixes=[
            Fix(
                f"Plan {has}",
                ((f"{device.name} · MAC", wanted, has),),
                partial(plan_setting, device_id=device_id, setting="mac", value=has),
            )
        ],
    )


@declare_rule(
    "DEV-09",
    severity="warning",
    scope="device",
    group="Devices",
    stage="device",
    title="A planned address cannot be reached from this computer",
    means="A device is planned at an address outside the network of the interface in use.",
    matters="Nothing reaches it and it is never heard, however right its settings are.",
    put_right="Choose the other interface, or give the device or this computer an address of the same network.",
    live=True,
)
def find_devices_out_of_reach(ctx: Context, device_id: str) -> Iterator[Found]:
    device = ctx.rig.devices[device_id]
    if not ctx.observed.network or not device.ip or not is_in_use(ctx.rig, "devices", device_id):
        return
    if not same_network(device.ip, ctx.observed.network):
        yield Found(
            title=f"{device.name} at {device.ip} is outside this computer's network",
            reason=f"The interface in use has {say_network(ctx.observed.network)}: "
            f"{differing_part(device.ip, ctx.observed.network)}.",
            facts={"device": device.name, "ip": device.ip, "interface": ctx.observed.network},
            where=device.ip,
            goes_to=Goto("device", device_id),
        )


@declare_rule(
    "DEV-10",
    severity="warning",
    scope="rig",
    group="Devices",
    stage="device",
    title="A device at a factory or temporary address",
    means="A device answers at the address it came with, or at one it chose by itself for want of another.",
    matters="The next new device of its kind comes with the same address; a temporary one is another after a restart.",
    put_right="Give it an address of its own, and save it.",
    live=True,
)
def factory_address(ctx: Context, _: str) -> Iterator[Found]:
    factory = {m.factory_ip: m.name for m in ctx.rig.device_models.values() if m.factory_ip}
    for ip in sorted({*ctx.observed.heard, *ctx.observed.said}):
        heard, said = ctx.observed.heard.get(ip), ctx.observed.said.get(ip)
        live = presence_of(ctx.observed, ip, ctx.now).is_there
        temporary = ip.startswith("169.254.")
        if not live or not (temporary or ip in factory):
            continue
        name = (said.name if said else "") or (heard.name if heard else "") or ip
        device_id = device_at(ctx.rig, ip)
        what = "chose a temporary address" if temporary else f"has the factory address of a {factory[ip]}"
        yield Found(
            title=f"{name} {what}, {ip}",
            reason="It is another one after a restart." if temporary else "Every new device of its kind has it too.",
            facts={"ip": ip, "name": name},
            subject=ip,
            where=ip,
            goes_to=Goto("device", device_id) if device_id else Goto("heard", ip),
        )


@declare_rule(
    "WIRE-01",
    severity="error",
    scope="device",
    group="Devices",
    title="A port takes another universe than the plan sends",
    means="The device says that a port takes another protocol or universe than the feed planned for it.",
    matters="Everything on that port shows the levels of another universe, or nothing.",
    put_right="Push the plan to the port, or plan what the port has.",
    live=True,
)
def port_differs(ctx: Context, device_id: str) -> Iterator[Found]:
    device = ctx.rig.devices[device_id]
    if _is_doubled(ctx, device_id) or not is_in_use(ctx.rig, "devices", device_id):
        return
    lines = {line.key: line for line in compare_device(ctx.index, ctx.observed, device_id, ctx.now)}
    for label, port in device.ports.items():
        feed = ctx.rig.feeds.get(port.feed)
        uni, proto = lines.get(f"{label}.universe"), lines.get(f"{label}.protocol")
        if not feed or not uni or not proto or "differs" not in (uni.mark, proto.mark):
            continue
        has = say_wire(str(proto.reported), int(uni.reported)) if uni.reported is not None else "nothing"
        sends = say_wire(feed.protocol, feed.wire)
        lamps = tuple(sorted(ctx.index.items_on(feed.universe))) if feed.universe in ctx.rig.universes else ()
        keys = tuple(
            k for k, line in ((f"{label}.universe", uni), (f"{label}.protocol", proto)) if line.mark == "differs"
        )
        yield Found(
            title=f"Port {label} takes {has}, the plan sends {sends}",
            reason=f"{say_count(len(lamps), 'fixture')} on port {label} show the levels of {has}, or nothing.",
            facts={"device": device.name, "port": label, "takes": has, "sends": sends, "fixtures": len(lamps)},
            subject=f"{device_id}/{label}",
            where=f"{device.name} · {label}",
            cause=f"Port {label} of {device.name} takes {has}",
            goes_to=Goto("port", device_id, label),
            items=lamps,
            fixes=[Fix(f"Push {sends}", ((f"{device.name} · port {label}", has, sends),), push=(device_id, keys))],
        )


@declare_rule(
    "WIRE-02",
    severity="warning",
    scope="rig",
    group="Feeds",
    title="Two sources send one universe",
    means="Two sources are heard on one wire universe at the same highest priority.",
    matters="Random flicker: the receiver merges them or jumps from one to the other.",
    put_right="Stop one of them, or give it a lower priority.",
    live=True,
)
def two_sources(ctx: Context, _: str) -> Iterator[Found]:
    for (protocol, wire), seen in ctx.sources_by_wire.items():
        if len(seen) < 2:
            continue
        sources = [s for s in seen if not s.preview]
        top = max((s.priority for s in sources), default=0)
        rivals = sorted((s for s in sources if s.priority == top), key=lambda s: (not s.own, s.name, s.ip))
        if len(rivals) < 2:
            continue
        names = " and ".join(f"{s.name or 'a source'} ({s.ip})" for s in rivals[:3])
        yield Found(
            title=f"{say_count(len(rivals), 'source')} send {say_wire(protocol, wire)}",
            reason=f"{names} all send it at priority {top}.",
            facts={"wire": say_wire(protocol, wire), "sources": names, "priority": top},
            subject=f"{protocol}:{wire}",
            where=say_wire(protocol, wire),
            goes_to=Goto("wire", protocol, place=wire),
        )


def _on_wire(protocol: Protocol, wire: int, title: str, reason: str, facts: dict[str, str | int]) -> Found:
    """A finding about a number on the wire, whoever sends it."""
    said = say_wire(protocol, wire)
    return Found(
        title=title,
        reason=reason,
        facts={"wire": said, **facts},
        subject=f"{protocol}:{wire}",
        where=said,
        goes_to=Goto("wire", protocol, place=wire),
    )


@declare_rule(
    "WIRE-03",
    severity="note",
    scope="rig",
    group="Feeds",
    title="A universe is sent for preview only",
    means="All that is heard of a wire universe is marked as a preview.",
    matters="Receivers leave a preview dark: it is for pictures on a screen, not for lamps.",
    put_right="At the sender, switch preview off for that universe, or leave it so before the show.",
    live=True,
)
def preview_only(ctx: Context, _: str) -> Iterator[Found]:
    for (protocol, wire), sources in ctx.sources_by_wire.items():
        if all(s.preview for s in sources):
            names = " and ".join(f"{s.name or 'a source'} ({s.ip})" for s in sources[:3])
            yield _on_wire(
                protocol,
                wire,
                f"{say_wire(protocol, wire)} is sent for preview only",
                f"{names} mark it as a preview, which no lamp shows.",
                {"sources": names},
            )


@declare_rule(
    "WIRE-04",
    severity="note",
    scope="rig",
    group="Feeds",
    stage="wire",
    title="A universe waits for a synchronization",
    means="A source sends levels that receivers hold until its synchronization packet comes.",
    matters="Without that packet the lamps stand still, or follow one after the other, though levels arrive.",
    put_right="See that the synchronization universe reaches the same devices, or switch it off at the sender.",
    live=True,
)
def waits_for_sync(ctx: Context, _: str) -> Iterator[Found]:
    for (protocol, wire), sources in ctx.sources_by_wire.items():
        waiting = [s for s in sources if s.sync and not s.own]
        if waiting:
            s = waiting[0]
            yield _on_wire(
                protocol,
                wire,
                f"{say_wire(protocol, wire)} waits for synchronization universe {s.sync}",
                f"{s.name or 'A source'} ({s.ip}) lets receivers show it only with that packet.",
                {"sync": s.sync, "source": s.name or s.ip},
            )


@declare_rule(
    "WIRE-05",
    severity="note",
    scope="rig",
    group="Worth knowing",
    title="A device listens where nobody sends",
    means="A port of a device that answers is set to a number on the wire that no feed has and nobody is heard to "
    "send.",
    matters="Whatever hangs on that port stays dark, or holds what it showed last.",
    put_right="Set the port to a number that is sent, or leave it if nothing hangs on it.",
    live=True,
)
def listens_for_nothing(ctx: Context, _: str) -> Iterator[Found]:
    if not ctx.observed.listening:
        return
    sent = {(f.protocol, f.wire) for f in ctx.rig.feeds.values()} | set(ctx.sources_by_wire)
    for ip, heard in sorted(ctx.observed.heard.items()):
        if not is_recent(ctx.observed, heard.at, ctx.now):
            continue
        idle = [p for p in heard.ports if p.output and (p.protocol, p.wire) not in sent]
        device_id = device_at(ctx.rig, ip) if idle else ""
        planned = _planned_ports(ctx, device_id, heard) if device_id else set()
        idle = [p for p in idle if p not in planned]
        if not idle:
            continue
        name = ctx.rig.devices[device_id].name if device_id else heard.name or ip
        wires = ", ".join(dict.fromkeys(say_wire(p.protocol, p.wire) for p in idle))
        yield Found(
            title=f"{name} listens to {wires}, which nobody sends",
            reason=f"{say_count(len(idle), 'port')} of the device at {ip} get nothing; no feed of the rig has such a "
            "number.",
            facts={"device": name, "wires": wires},
            subject=ip,
            where=ip,
            goes_to=Goto("device", device_id) if device_id else Goto("heard", ip),
        )


def _planned_ports(ctx: Context, device_id: str, heard: Heard) -> set[HeardPort]:
    """The heard ports for which a feed is planned: where they are set otherwise, that is a finding of its own."""
    model = model_of(ctx.rig, device_id)
    ports = ctx.rig.devices[device_id].ports
    found = (heard_port(model, heard, label) for label, p in ports.items() if p.feed) if model else ()
    return {p for p in found if p}


@declare_rule(
    "OUT-01",
    severity="error",
    scope="feed",
    group="Feeds",
    stage="leaving",
    title="An armed feed does not leave this computer",
    means="Output is armed, and the network does not take the packets of a feed.",
    matters="Its lamps see nothing of what is held, though the program is armed.",
    put_right="Look at the interface that was chosen, its plug and its address; then arm again.",
    live=True,
    candidates=lambda ctx: list(ctx.observed.stuck),
)
def does_not_leave(ctx: Context, fid: str) -> Iterator[Found]:
    feed, why = ctx.rig.feeds.get(fid), ctx.observed.stuck.get(fid)
    if not feed or not why or feed.universe not in ctx.rig.universes:
        return
    alike = ctx.feeds_by_wire.get((feed.protocol, feed.wire), ())
    if len({ctx.rig.feeds[f].universe for f in alike}) > 1:
        return  # two universes under one number: the plan says so already
    wire = say_wire(feed.protocol, feed.wire)
    yield Found(
        title=f"{wire} is armed and does not leave",
        reason=f"Universe {ctx.rig.universes[feed.universe].number}: {why}.",
        facts={"wire": wire, "why": why},
        where=wire,
        goes_to=Goto("feed", fid),
    )
