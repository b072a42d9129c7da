"""Commands for people who script, over the same core as the window. Errors go to stderr."""

from __future__ import annotations

import asyncio
import contextlib
import importlib
import json
import os
import re
import time
from pathlib import Path
from typing import Annotated, Any

import typer

from welvo.cli.base import AsJson, InterfaceIp, RigFile, app, fail, interface_at, load_rig
from welvo.cli.benching import cycle  # noqa: F401  (importing registers the command)
from welvo.cli.cabling import runs  # noqa: F401  (likewise)
from welvo.cli.comparing import diff  # noqa: F401  (likewise)
from welvo.cli.desktop import desktop_  # noqa: F401  (likewise)
from welvo.cli.devicing import devices  # noqa: F401  (likewise)
from welvo.cli.exchanging import import_  # noqa: F401  (likewise)
from welvo.cli.lamping import lamps  # noqa: F401  (likewise)
from welvo.cli.papers import sheets_  # noqa: F401  (likewise)
from welvo.cli.patching import patch  # noqa: F401  (importing registers the command)


@app.command("open")
def open_(file: Annotated[Path | None, typer.Argument(help="The rig to open.", show_default=False)] = None) -> None:
    """Open the window, with a rig or empty."""
    # Looked up by name, so that no command but this one and demo ever loads Qt.
    raise typer.Exit(importlib.import_module("welvo.app.main").run([str(file)] if file else []))


@app.command()
def demo(
    headless: Annotated[
        bool, typer.Option("--headless", help="Run the example without a window and verify every step.")
    ] = False,
) -> None:
    """Open the Drift Gallery with its stand-ins. Without a display the whole example runs headless.

    Headless it exits with 1 if anything it says turns out to be untrue.
    """
    if headless or not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        from welvo.demo.run import headless as run

        raise typer.Exit(run(typer.echo))
    raise typer.Exit(importlib.import_module("welvo.app.main").run(["--demo"]))


@app.command()
def check(file: RigFile, as_json: AsJson = False) -> None:
    """List what is wrong, doubtful or worth knowing. Exits with 1 when there are errors."""
    from welvo.checks.checker import check as run

    report = run(load_rig(file))
    if as_json:
        found = [
            {
                "code": f.code,
                "severity": f.severity,
                "where": f.where,
                "title": f.title,
                "reason": f.reason,
                "facts": f.facts,
                "subject": f.subject,
                "fixes": [{"label": x.label, "changes": [list(c) for c in x.changes]} for x in f.fixes],
            }
            for f in report.findings
        ]
        waived = [{"code": f.code, "subject": f.subject, "title": f.title, "reason": why} for f, why in report.waived]
        typer.echo(json.dumps({"findings": found, "waived": waived}, indent=1, ensure_ascii=False))
    else:
        for f in report.findings:
            typer.echo(f"{f.severity:7} {f.code:8} {f.where:24} {f.title}")
            typer.echo(f"{'':17}{f.reason}")
            for fix in f.fixes[:1]:
                typer.echo(f"{'':17}fix: {fix.label}")
        counts = ", ".join(f"{report.count(s)} {s}s" for s in ("error", "warning", "note"))
        typer.echo(f"{counts}, {len(report.waived)} waived")
    raise typer.Exit(1 if report.count("error") else 0)


@app.command("path")
def path_(
    file: RigFile,
    target: Annotated[
        str, typer.Argument(help="A fixture number, NAME/PIXEL, or universe.address.", show_default=False)
    ],
    as_json: AsJson = False,
) -> None:
    """Every way of saying where something is, and each hop on its way to the light."""
    from welvo.observed.values import NOTHING
    from welvo.patch.index import Index
    from welvo.patch.path import find_target
    from welvo.patch.path import path as chain_of
    from welvo.rig.base import Refused

    index = Index(load_rig(file))
    try:
        found = find_target(index, target)
    except Refused as e:
        fail(str(e))
    chain = chain_of(index, NOTHING, found, 0.0)
    if as_json:
        typer.echo(
            json.dumps(
                {
                    "target": chain.target,
                    "name": chain.name,
                    "ways": [list(w) for w in chain.ways],
                    "hops": [{"role": h.role, "value": h.value, "fact": h.fact} for h in chain.hops],
                    "joints": [
                        {"mark": j.mark, "sends": j.sends, "takes": j.takes, "word": j.word} for j in chain.joints
                    ],
                },
                indent=1,
                ensure_ascii=False,
            )
        )
        return
    typer.echo(f"{chain.target}  {chain.name}")
    for word, way in chain.ways:
        typer.echo(f"  {word:26} {way}")
    for n, hop in enumerate(chain.hops):
        mark = chain.joints[n - 1].mark if n else ""
        typer.echo(f"  {hop.role:10} {hop.value:20} {hop.fact}" + (f"  [{mark}]" if mark else ""))


@app.command()
def send(
    levels: Annotated[list[str], typer.Argument(help="slot=level pairs, such as 1=255 10=50%.", show_default=False)],
    protocol: Annotated[str, typer.Option(help="sacn or artnet.")] = "sacn",
    universe: Annotated[str, typer.Option(help="sACN universe, or Art-Net address as 0/0/3, 3 or 0x003.")] = "1",
    to: Annotated[str, typer.Option(help="multicast (sACN), broadcast (Art-Net), or an IPv4 address.")] = "",
    interface: InterfaceIp = "127.0.0.1",
    seconds: Annotated[float, typer.Option(help="How long to send, at most one hour.", min=0.1, max=3600)] = 5.0,
    rate: Annotated[float, typer.Option(help="Frames per second.", min=1, max=1000)] = 44.0,
    priority: Annotated[int, typer.Option(help="sACN priority.", min=0, max=200)] = 100,
    always: Annotated[
        bool, typer.Option("--always", help="Send every frame, not only changes and keep-alive.")
    ] = False,
) -> None:
    """Send one universe for a while, then end the stream properly."""
    from welvo.live.engine import EngineError, EngineProcess
    from welvo.protocols import sacn as acn
    from welvo.rig.base import Refused
    from welvo.rig.notation import read_ip
    from welvo.rig.protocol import BROADCAST, MULTICAST, NUMBERED, PROTOCOLS

    if protocol not in NUMBERED:
        fail(f"“{protocol}” is no protocol here: {' or '.join(NUMBERED)}.")
    record = PROTOCOLS[protocol]
    where = interface_at(interface)
    frame = bytearray(512)
    try:
        wire = record.read(universe)
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
            target = acn.group(wire)
        elif to == BROADCAST and BROADCAST in record.destinations:
            target = where.broadcast
            typer.echo("welvo: broadcast makes every device on the network read every frame", err=True)
        else:
            target = read_ip(to)
    except Refused as e:
        fail(str(e))
    try:
        engine = EngineProcess(where.ip, 1, "Welvo send")
    except EngineError as e:
        fail(str(e))
    try:
        engine.write(bytes(frame))
        engine.set_streams(
            [
                {
                    "id": "cli",
                    "row": 0,
                    "protocol": protocol,
                    "wire": wire,
                    "to": [target],
                    "priority": priority,
                    "rate": rate,
                    "rule": "always" if always else "change",
                }
            ]
        )
        time.sleep(seconds)
        sent = engine.status()
    except KeyboardInterrupt:
        sent = {}
    finally:
        engine.stop()
    if sent:
        typer.echo(f"{sent['sent']} packets to {target}, {sent['errors']} not taken by the network")
        if sent["errors"]:
            raise typer.Exit(1)


@app.command()
def listen(
    interface: InterfaceIp = "127.0.0.1",
    universes: Annotated[str, typer.Option(help="sACN universes to join as multicast, such as 1-8,20.")] = "1-16",
    seconds: Annotated[float, typer.Option(help="How long to listen, at most one hour.", min=0.1, max=3600)] = 3.0,
    as_json: AsJson = False,
) -> None:
    """Say what is on the wire: sources, universes, rates, levels, and the devices that answer."""
    from welvo.live.groups import raise_limit
    from welvo.live.listener import Listener
    from welvo.rig.base import Refused
    from welvo.rig.notation import read_numbers
    from welvo.rig.protocol import say_wire

    where = interface_at(interface)
    try:
        wanted = read_numbers(universes)
    except Refused as e:
        fail(str(e))
    if any(not 1 <= u <= 63999 for u in wanted):
        fail("sACN universes run from 1 to 63999.")
    raise_limit()
    listener = Listener(where, wanted)
    for problem in listener.problems:
        typer.echo(f"welvo: {problem}", err=True)
    listener.start()
    with contextlib.suppress(KeyboardInterrupt):
        time.sleep(seconds)
    now = time.time()
    sources, heard = listener.sources(now), listener.heard()
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
                "cid": s.key if s.protocol == "sacn" else None,
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
        typer.echo(json.dumps({"sources": rows, "devices": boxes, **noise}, indent=1, ensure_ascii=False))
        raise typer.Exit(1 if listener.problems else 0)
    for r in rows:
        lit = r["levels"]
        first = " ".join(f"{k}={v}" for k, v in list(lit.items())[:8]) + (" …" if len(lit) > 8 else "")
        typer.echo(
            f"{say_wire(r['protocol'], r['universe']):12} {r['ip']:15} {r['source']:20} prio {r['priority']:3}  "
            f"{r['rate']:5.1f}/s  {first or 'all at 0'}"
        )
    for b in boxes:
        ports = ", ".join(say_wire(p["protocol"], p["universe"]) for p in b["ports"])
        typer.echo(f"{b['name']:18} {b['ip']:15} {ports}")
    typer.echo(f"{noise['packets']} packets, {noise['noise']} that are neither Art-Net nor sACN")
    raise typer.Exit(1 if listener.problems else 0)


@app.command()
def standins(
    file: RigFile,
    state: Annotated[
        Path | None, typer.Option(help="TOML with what each simulated device holds itself.", show_default=False)
    ] = None,
    as_planned: Annotated[
        bool, typer.Option("--as-planned", help="Start with the rig's plan instead of factory settings.")
    ] = False,
    faults: Annotated[
        list[str] | None,
        typer.Option(
            "--fault", help="What is wrong with a device: ADDRESS:FAULT or ADDRESS:FAULT=VALUE.", show_default=False
        ),
    ] = None,
    with_parent: Annotated[bool, typer.Option("--with-parent", hidden=True)] = False,
) -> None:
    """Run simulated devices for the devices of a rig that are planned on 127.x, until Ctrl+C."""
    from welvo.formats.models import shipped
    from welvo.standins.host import StandInError, describe, lines_of, read_fault, read_state, run

    rig = load_rig(file)
    try:
        boxes = read_state(state) if state else {}
        for fault in faults or ():
            boxes = read_fault(fault, boxes)
        described = describe(rig, boxes, shipped(), as_planned)
        lines = lines_of(rig, boxes, as_planned)
        if not described and not lines:
            fail("No device of this rig is planned on 127.x; stand-ins live nowhere else.")
        if lost := [f for f in faults or () if f.partition(":")[0] not in {d.ip for d in described}]:
            fail(f"There is no stand-in at {lost[0].partition(':')[0]}.")
        asyncio.run(run(described, boxes, with_parent, lines))
    except (StandInError, ValueError, TypeError) as e:
        fail(str(e))


@app.command("convert")
def convert(
    source: RigFile,
    target: Annotated[
        Path, typer.Argument(help="Where to write: .welvo, or .json for the bare text.", show_default=False)
    ],
) -> None:
    """Write a rig anew, as .welvo or as bare JSON; older formats are brought up to date."""
    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import save

    if target.suffix not in (".welvo", ".json"):
        fail(f"{target.name}: the name must end in .welvo or .json.")
    try:
        save(load_rig(source), target)
    except RigFileError as e:
        fail(str(e))


@app.command("profile")
def profile_(
    source: Annotated[
        Path, typer.Argument(help="A .gdtf, .json or .csv profile, or a .txt with a channel chart.", show_default=False)
    ],
    to: Annotated[
        Path | None, typer.Option(help="Write it as .gdtf, .json or .csv (one mode).", show_default=False)
    ] = None,
    mode: Annotated[str, typer.Option(help="Which mode a .csv holds; the first one by default.")] = "",
    as_json: AsJson = False,
) -> None:
    """Read one fixture profile, say what is doubtful about it, and write it in another format."""
    from welvo.checks.checker import check as run
    from welvo.formats.channel_csv import write_csv
    from welvo.formats.files import RigFileError, write_atomic
    from welvo.formats.gdtf_write import dumps_gdtf
    from welvo.formats.library import open_any, profile_json
    from welvo.rig.base import Refused
    from welvo.rig.document import Rig
    from welvo.rig.edits import add_profile, packed

    try:
        found, doubts = open_any(source)
        rig, change = add_profile(Rig(), found)
        found = packed(rig, rig.profiles[change.made[0]])
        findings = run(rig).findings
        if to:
            picked = next(
                (m for m in found.modes.values() if m.name == mode), None if mode else next(iter(found.modes.values()))
            )
            if picked is None:
                fail(
                    f"{found.name} has no mode “{mode}”. It has: "
                    + ", ".join(m.name for m in found.modes.values())
                    + "."
                )
            if to.suffix == ".gdtf":
                data, lost = dumps_gdtf(found)
                doubts += [f"writing, {d.where}: {d.message}" for d in lost]
            elif to.suffix == ".json":
                data = profile_json(found)
            elif to.suffix == ".csv":
                data = write_csv(picked).encode()
            else:
                fail(f"{to.name}: the name must end in .gdtf, .json or .csv.")
            write_atomic(to, data, keep=True)
            open_any(to)  # what is written can be read
    except (Refused, RigFileError) as e:
        fail(str(e))
    modes: list[dict[str, Any]] = [
        {"name": m.name, "slots": [b.slots for b in m.breaks], "channels": len(m.channels), "pixels": m.pixels}
        for m in found.modes.values()
    ]
    if as_json:
        said = [{"code": f.code, "severity": f.severity, "title": f.title} for f in findings]
        typer.echo(
            json.dumps(
                {"name": found.name, "maker": found.maker, "modes": modes, "doubts": doubts, "findings": said},
                indent=1,
                ensure_ascii=False,
            )
        )
    else:
        typer.echo(f"{found.maker} {found.name}".strip())
        for m in modes:
            typer.echo(
                f"  {m['name']:24} {' + '.join(map(str, m['slots'])):>9} slots  {m['channels']:4} channels  "
                f"{m['pixels']:4} pixels"
            )
        for d in doubts:
            typer.echo(f"  doubt: {d}")
        for f in findings:
            typer.echo(f"  {f.severity} {f.code}: {f.title}")
    raise typer.Exit(1 if any(f.severity == "error" for f in findings) else 0)


def main() -> None:
    """Entry point of the `welvo` command."""
    if "_WELVO_COMPLETE" in os.environ:  # a shell asks what could be typed next
        importlib.import_module("typer._completion_classes").completion_init()
    app()
