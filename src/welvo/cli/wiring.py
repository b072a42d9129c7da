"""`welvo send`, `listen` and `standins`: the wire, from this computer, without a rig in a window."""

from __future__ import annotations

import contextlib
import re
import sys
import time
from pathlib import Path
from typing import Any

import click
from click.exceptions import Exit

from welvo.cli.base import (
    FILE,
    FOUND_WRONG,
    app,
    as_json_option,
    fail_with,
    interface_at,
    interface_option,
    load_rig,
    print_note,
    rig_file,
    say_json,
)
from welvo.patience import steady


@app.command()
@click.argument("levels", nargs=-1, help="slot=level pairs, such as 1=255 10=50%.")
@click.option("--protocol", default="sacn", help="sacn or artnet.")
@click.option("--universe", default="1", help="sACN universe, or Art-Net address as 0/0/3, 3 or 0x003.")
@click.option("--to", default="", help="multicast (sACN), broadcast (Art-Net), or an IPv4 address.")
@interface_option
@click.option("--seconds", type=click.FloatRange(0.1, 3600), default=5.0, help="How long to send, at most one hour.")
@click.option("--rate", type=click.FloatRange(1, 1000), default=44.0, help="Frames per second.")
@click.option("--priority", type=click.IntRange(0, 200), default=100, help="sACN priority.")
@click.option("--always", is_flag=True, help="Send every frame, not only changes and keep-alive.")
@as_json_option
def send(
    levels: tuple[str, ...],
    protocol: str,
    universe: str,
    to: str,
    interface: str,
    seconds: float,
    rate: float,
    priority: int,
    always: bool,
    as_json: bool,
) -> None:
    """Send one universe for a while, then end the stream properly."""
    from welvo.live.engine import EngineError, EngineProcess
    from welvo.live.messages import SendRule, UniverseOut
    from welvo.protocols import sacn as acn
    from welvo.rig.base import Refused
    from welvo.rig.notation import read_ip
    from welvo.rig.protocol import BROADCAST, MULTICAST, NUMBERED, PROTOCOLS

    if protocol not in NUMBERED:
        fail_with(f"“{protocol}” is no protocol here: {' or '.join(NUMBERED)}.")
    record = PROTOCOLS[protocol]
    where = interface_at(interface)
    frame = bytearray(512)
    try:
        wire = record.read_wire(universe)
        for pair in levels:
            m = re.fullmatch(r"(\d+)=(\d+)(%?)", pair)
            if not m:
                raise Refused(f"“{pair}” is no slot=level pair, such as 10=255 or 10=50%.")
            slot, level = int(m[1]), round(int(m[2]) * 255 / 100) if m[3] else int(m[2])
            if not 1 <= slot <= 512 or not 0 <= level <= 255:
                raise Refused(f"“{pair}”: slots run from 1 to 512, levels from 0 to 255.")
            frame[slot - 1] = level
        to = to or (MULTICAST if MULTICAST in record.destinations else "")
        if not to:
            raise Refused("Art-Net needs --to with the device's address (or broadcast, with care).")
        if to == MULTICAST and MULTICAST in record.destinations:
            target = acn.group_of_universe(wire)
        elif to == BROADCAST and BROADCAST in record.destinations:
            target = where.broadcast_address
            print_note("broadcast makes every device on the network read every frame")
        else:
            target = read_ip(to)
    except Refused as e:
        fail_with(str(e))
    try:
        engine = EngineProcess(where.ip, 1, "Welvo send")
    except EngineError as e:
        fail_with(str(e))
    try:
        engine.write(bytes(frame))
        rule: SendRule = "always" if always else "change"
        engine.set_streams([UniverseOut("cli", record.key, wire, (target,), priority=priority, rate=rate, rule=rule)])
        print_note(f"sending to {target} for {seconds:g} s")
        time.sleep(seconds)
        sent = engine.status()
    except KeyboardInterrupt:
        sent = engine.status()
    finally:
        engine.stop()
    if as_json:
        say_json({"to": target, "packets": sent.sent, "errors": sent.errors})
    else:
        click.echo(f"{sent.sent} packets to {target}, {sent.errors} not taken by the network")
    if sent.errors:
        raise Exit(FOUND_WRONG)


@app.command()
@interface_option
@click.option("--universes", default="1-16", help="sACN universes to join as multicast, such as 1-8,20.")
@click.option("--seconds", type=click.FloatRange(0.1, 3600), default=3.0, help="How long to listen, at most one hour.")
@as_json_option
def listen(interface: str, universes: str, seconds: float, as_json: bool) -> None:
    """Say what is on the wire: sources, universes, rates, levels, and the devices that answer."""
    from welvo.live.groups import raise_limit
    from welvo.live.listener import Listener
    from welvo.protocols import sacn
    from welvo.rig.base import Refused
    from welvo.rig.notation import read_numbers
    from welvo.rig.protocol import say_wire

    where = interface_at(interface)
    try:
        wanted = read_numbers(universes)
    except Refused as e:
        fail_with(str(e))
    if any(not 1 <= u <= 63999 for u in wanted):
        fail_with("sACN universes run from 1 to 63999.")
    raise_limit()
    listener = Listener(where, wanted)
    for problem in listener.find_problems:
        print_note(problem)
    listener.start_listening()
    with contextlib.suppress(KeyboardInterrupt):
        time.sleep(seconds)
    now = steady()
    sources, heard = listener.heard_sources(now), listener.heard_devices()
    rows: list[dict[str, Any]] = []
    for s in sorted(sources, key=lambda s: (s.protocol, s.wire, -s.priority)):
        levels = listener.source_levels(s.protocol, s.wire, s.key) or b""
        lit = {n + 1: v for n, v in enumerate(levels) if v}
        rows.append(
            {
                "protocol": s.protocol,
                "universe": s.wire,
                "source": s.name,
                "ip": s.ip,
                "cid": s.key if s.protocol == sacn.KEY else None,
                "priority": s.priority,
                "rate": s.rate,
                "levels": lit,
            }
        )
    boxes: list[dict[str, Any]] = [
        {
            "ip": h.ip,
            "name": h.name,
            "long_name": h.long_name,
            "mac": h.mac,
            "ports": [{"page": p.page, "protocol": p.protocol, "universe": p.wire} for p in h.ports if p.output],
        }
        for h in heard.values()
    ]
    noise = {"packets": listener.packets, "noise": listener.noise, "last_noise": listener.last_noise}
    listener.close()
    if as_json:
        say_json({"sources": rows, "devices": boxes, **noise})
        raise Exit(1 if listener.find_problems else 0)
    for r in rows:
        lit = r["levels"]
        first = " ".join(f"{k}={v}" for k, v in list(lit.items())[:8]) + (" …" if len(lit) > 8 else "")
        click.echo(
            f"{say_wire(r['protocol'], r['universe']):12} {r['ip']:15} {r['source']:20} prio {r['priority']:3}  "
            f"{r['rate']:5.1f}/s  {first or 'all at 0'}"
        )
    for b in boxes:
        ports = ", ".join(say_wire(p["protocol"], p["universe"]) for p in b["ports"])
        click.echo(f"{b['name']:18} {b['ip']:15} {ports}")
    click.echo(f"{noise['packets']} packets, {noise['noise']} that are neither Art-Net nor sACN")
    raise Exit(1 if listener.find_problems else 0)


@app.command()
@rig_file
@click.option("--state", type=FILE, help="TOML with what each simulated device holds itself.")
@click.option("--as-planned", is_flag=True, help="Start with the rig's plan instead of factory settings.")
@click.option(
    "--fault", "faults", multiple=True, help="What is wrong with a device: ADDRESS:FAULT or ADDRESS:FAULT=VALUE."
)
@click.option("--with-parent", is_flag=True, hidden=True)
@as_json_option
def standins(
    file: Path, state: Path | None, as_planned: bool, faults: tuple[str, ...], with_parent: bool, as_json: bool
) -> None:
    """Run simulated devices for the devices of a rig that are planned on 127.x, until Ctrl+C. What is ready is said
    once all of them are."""
    import asyncio

    from welvo.formats.models import shipped_models
    from welvo.standins.host import StandInError, describe_devices, lines_of, read_fault, read_state, run_host

    rig = load_rig(file)
    try:
        boxes = read_state(state) if state else {}
        for fault in faults or ():
            boxes = read_fault(fault, boxes)
        described = describe_devices(rig, boxes, shipped_models(), as_planned)
        lines = lines_of(rig, boxes, as_planned)
        if not described and not lines:
            fail_with("No device of this rig is planned on 127.x; stand-ins live nowhere else.")
        if lost := [f for f in faults or () if f.partition(":")[0] not in {d.ip for d in described}]:
            fail_with(f"There is no stand-in at {lost[0].partition(':')[0]}.")

        def ready(names: list[str]) -> None:
            if as_json:
                say_json({"ready": names})
            else:
                click.echo(f"{len(names)} stand-ins ready: {', '.join(names)}")
            sys.stdout.flush()

        asyncio.run(run_host(described, boxes, with_parent, lines, ready))
    except (StandInError, ValueError, TypeError) as e:
        fail_with(str(e))
