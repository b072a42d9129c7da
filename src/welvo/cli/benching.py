"""`welvo why`, `cycle`, `record` and `play`: testing, watching the wire and asking why, without a window."""

from __future__ import annotations

import contextlib
import time
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.exceptions import Exit

from welvo.cli.base import (
    FILE,
    STANDARD,
    app,
    as_json_option,
    fail_with,
    input_name,
    interface_at,
    interface_option,
    load_rig,
    print_note,
    read_input,
    rig_file,
    say_json,
    write_output,
)
from welvo.cli.devicing import listen_on, observe_rig, password_option, seconds_option
from welvo.patience import steady

if TYPE_CHECKING:
    from welvo.bench.cycles import Cycle
    from welvo.live.interfaces import Interface
    from welvo.live.listener import Listener
    from welvo.live.recording import Recording, Wire
    from welvo.observed.values import SourceSeen
    from welvo.patch.index import Index
    from welvo.protocols.status_page import LevelsBehind, StatusPage
    from welvo.rig.document import Rig

capture_argument = click.argument(
    "file", type=FILE, help="A capture file (pcap; pcapng is read too); - is standard input or output."
)
universes_option = click.option(
    "--universes", default="1-16", help="sACN universes to join as multicast, such as 1-8,20."
)


class _Sight:
    """What can be seen from a command: the wire, and the outputs of devices that tell them."""

    def __init__(self, rig: Rig, listener: Listener) -> None:
        self._rig, self._listener = rig, listener
        self._pages: dict[str, StatusPage | None] = {}

    def meant(self, universe: str) -> bytes | None:
        return self.on_wire(universe)

    def sources_on(self, universe: str) -> list[tuple[SourceSeen, bytes]]:
        from welvo.rig.lookup import feeds_of
        from welvo.rig.protocol import PROTOCOLS

        feeds = [self._rig.feeds[f] for f in feeds_of(self._rig, universe)]
        feed = next((f for f in feeds if PROTOCOLS[f.protocol].has_universe_numbers), None)
        return self._listener.sources_of_universe(feed.protocol, feed.wire, steady()) if feed else []

    def on_wire(self, universe: str) -> bytes | None:
        from welvo.observed.wire import merge_sources

        return merge_sources(self.sources_on(universe)).levels or None

    def _page_of_device(self, device: str) -> StatusPage | None:
        from welvo.live.links import LinkError
        from welvo.live.status import read_status
        from welvo.rig.plan import model_of

        if device not in self._pages:
            self._pages[device] = None
            model, ip = model_of(self._rig, device), self._rig.devices[device].ip
            if model and model.status_port and ip and self._listener.interface.holds_address(ip):
                with contextlib.suppress(LinkError):
                    self._pages[device] = read_status(ip, model.status_port)
        return self._pages[device]

    def port_gives(self, device: str, label: str) -> bytes | None:
        page = self._page_of_device(device)
        return page.levels_of_port(label) if page else None

    def port_leaves(self, device: str, label: str) -> tuple[bytes, tuple[LevelsBehind, ...]] | None:
        page = self._page_of_device(device)
        return page.octets_of_port(label) if page else None


@app.command("why")
@rig_file
@click.argument("target", help="What is dark or wrong: a number, NAME/PIXEL, an address.")
@interface_option
@seconds_option
@password_option
@as_json_option
def why_(file: Path, target: str, interface: str, seconds: float, password: str, as_json: bool) -> None:
    """Say why something is dark, wrong or flickering: the first cause from the sender to the lamp. Nothing is sent but
    questions. Exit code 1 when there is a cause."""
    from welvo.bench.questions import behind_the_facts, questions_about
    from welvo.bench.seeing import chain_to_target, port_for
    from welvo.bench.why import Evidence, diagnose_item
    from welvo.checks.checker import check_rig
    from welvo.patch.index import Index
    from welvo.rig.base import Refused
    from welvo.rig.lookup import joined_wires
    from welvo.survey.target import find_target

    rig = load_rig(file)
    index = Index(rig)
    try:
        asked = find_target(index, target)
    except Refused as e:
        fail_with(str(e))
    if not asked.key:
        fail_with(f"Nothing is patched at {asked.label}; ask for a lamp or an element.")
    where = interface_at(interface)
    with listen_on(where, joined_wires(rig)) as listener:
        observed = observe_rig(rig, where, listener, seconds, password)
        sight = _Sight(rig, listener)
        now = steady()
        port = port_for(rig, asked.universe, asked.key) if asked.universe else None
        found = chain_to_target(index, observed, now, sight, asked, False)
        look = Evidence(
            index=index,
            observed=observed,
            now=now,
            key=asked.key,
            chain=found,
            report=check_rig(rig, observed, now),
            wire=sight.on_wire,
            port=sight.port_gives(*port) if port else None,
            sources=tuple(sight.sources_on(asked.universe)) if asked.universe else (),
        )
        causes = diagnose_item(look)
    left = questions_about(index, asked.key)[0] if not causes else None
    if as_json:
        rows = [{"stage": c.stage, "code": c.code, "what": c.sentence, "proof": c.proof, "do": c.do} for c in causes]
        said = {"target": found.target, "causes": rows, "next_question": left.words if left else None}
        say_json(said)
    elif causes:
        for n, c in enumerate(causes):
            click.echo(f"{'' if n == 0 else 'then: '}{c.sentence}")
            for more in (c.proof, c.do) if n == 0 else ():
                if more:
                    click.echo(f"  {more}")
    else:
        click.echo("Nothing up to the port is at fault. What may be wrong behind it:")
        for p in behind_the_facts(index, asked.key).possible:
            click.echo(f"  {p.words}: {p.do}")
    raise Exit(1 if causes else 0)


@app.command()
@capture_argument
@interface_option
@universes_option
@click.option("--seconds", type=click.FloatRange(0.1, 3600), default=10.0, help="How long to record, at most one hour.")
@as_json_option
def record(file: Path, interface: str, universes: str, seconds: float, as_json: bool) -> None:
    """Record what is heard of sACN and Art-Net into a capture file that network tools read."""
    from welvo.formats import pcap
    from welvo.formats.files import RigFileError
    from welvo.live.recording import Recorder
    from welvo.rig.base import Refused
    from welvo.rig.notation import read_numbers, say_count

    try:
        wanted = read_numbers(universes)
    except Refused as e:
        fail_with(str(e))
    recorder = Recorder()
    with listen_on(interface_at(interface), wanted) as listener:
        listener.record_into(recorder)
        print_note(f"recording on {interface} for {seconds:g} s")
        end = time.monotonic() + seconds
        with contextlib.suppress(KeyboardInterrupt):
            while time.monotonic() < end and not recorder.full:
                time.sleep(min(0.1, max(0.0, end - time.monotonic())))
        listener.record_into(None)
    recording = recorder.finish_recording()
    try:
        written = write_output(file, pcap.write_capture(recording.datagrams))
    except RigFileError as e:
        fail_with(str(e))
    if recorder.full:
        print_note("the recording was full and ended early")
    packets, universes_heard = len(recording.datagrams), len(recording.recorded_wires)
    if as_json and file != STANDARD:
        seconds = round(recording.length_in_seconds, 3)
        answer = {"seconds": seconds, "packets": packets, "universes": universes_heard, "full": recorder.full}
        say_json({"written": written, **answer})
    else:
        told = (
            f"{say_count(packets, 'packet')} of {recording.length_in_seconds:.1f} s, "
            f"{say_count(universes_heard, 'universe')}"
        )
        click.echo(told, err=file == STANDARD)


@app.command()
@capture_argument
@click.option("--send", is_flag=True, help="Send it; without, it is only told.")
@interface_option
@click.option("--at", type=click.FloatRange(0), help="Tell the levels at this second.")
@click.option("--to", default="", help="Send to this address; sACN goes as multicast without.")
@click.option("--speed", type=click.FloatRange(0.05, 20), default=1.0, help="How fast, 1 as it was.")
@as_json_option
def play(file: Path, send: bool, interface: str, at: float | None, to: str, speed: float, as_json: bool) -> None:
    """Tell what a capture holds, the levels at a moment, or send it again from this computer."""
    from welvo.formats.files import RigFileError
    from welvo.live.recording import MOST_OCTETS, in_use, recording_of
    from welvo.rig.protocol import say_wire

    try:
        recording = recording_of(read_input(file, MOST_OCTETS, "a capture"), input_name(file))
    except RigFileError as e:
        fail_with(str(e))
    if at is not None:
        levels = recording.levels_at(at)
        if as_json:
            say_json({say_wire(*w): list(v) for w, v in sorted(levels.items())})
            return
        for wire, frame in sorted(levels.items()):
            lit = [f"{n}={v}" for n, v in enumerate(frame, 1) if v]
            words = f"{' '.join(lit[:16])}{' …' if len(lit) > 16 else ''}" if lit else "all at 0"
            click.echo(f"{say_wire(*wire):12} {words}")
        return
    slots = in_use(recording.frames)
    counts = Counter(f.wire for f in recording.frames)
    sources: dict[Wire, set[str]] = {}
    for f in recording.frames:
        sources.setdefault(f.wire, set()).add(f.name or f.ip)
    rows: list[dict[str, Any]] = [
        {"wire": say_wire(*w), "frames": counts[w], "sources": sorted(sources[w]), "slots": len(slots[w])}
        for w in recording.recorded_wires
    ]
    sent = _send_recording(recording, interface_at(interface), to, speed) if send and as_json else None
    if as_json:
        said = {
            "seconds": round(recording.length_in_seconds, 3),
            "packets": len(recording.datagrams),
            "universes": rows,
        }
        say_json(said | {"sent": sent})
    else:
        click.echo(
            f"{recording.length_in_seconds:.1f} s, {len(recording.datagrams)} packets, {recording.left_out} of "
            f"another kind"
        )
        for r in rows:
            click.echo(f"{r['wire']:12} {r['frames']:6} frames  {r['slots']:3} slots lit  {', '.join(r['sources'])}")
    if send and not as_json:
        done = _send_recording(recording, interface_at(interface), to, speed)
        click.echo(f"{done['packets']} packets sent, {done['errors']} not taken by the network")


def _send_recording(recording: Recording, where: Interface, to: str, speed: float) -> dict[str, int]:
    """Send the levels that receivers had, as one source of this computer's own; gives what left.

    A stream begins with its first levels and ends where it ended in the capture: until then it never falls back to
    an earlier state.
    """
    from welvo.live.engine import EngineError, EngineProcess
    from welvo.live.messages import UniverseOut
    from welvo.protocols import sacn
    from welvo.rig.base import Refused
    from welvo.rig.notation import read_ip
    from welvo.rig.protocol import PROTOCOLS

    wires = recording.recorded_wires
    try:
        target = read_ip(to) if to else ""
    except Refused as e:
        fail_with(str(e))
    if not target and not all(PROTOCOLS[protocol].in_groups for protocol, _ in wires):
        fail_with("It holds Art-Net: say with --to which device it goes to.")
    specs = [
        UniverseOut(f"{protocol} {wire}", protocol, wire, (target or sacn.group_of_universe(wire),), row=n)
        for n, (protocol, wire) in enumerate(wires)
    ]
    try:
        engine = EngineProcess(where.ip, len(wires), "Welvo play")
    except EngineError as e:
        fail_with(str(e))
    # a universe that is heard later in the capture begins with its first levels: never with a blackout of its own
    levels = {f.wire: f.levels for f in reversed(recording.frames) if not f.ended}
    heard: set[Wire] = set()
    on: list[UniverseOut] | None = None
    try:
        begun = time.monotonic()
        with contextlib.suppress(KeyboardInterrupt):
            while (now := (time.monotonic() - begun) * speed) <= recording.length_in_seconds:
                present = recording.levels_at(now)
                levels |= present
                heard |= present.keys()
                engine.write(b"".join(levels.get(w, b"")[:512].ljust(512, b"\0") for w in wires))
                wanted = [spec for wire, spec in zip(wires, specs) if wire in present or wire not in heard]
                if wanted != on:
                    engine.set_streams(wanted)  # a stream that is no longer wanted ends as its protocol says
                    on = wanted
                time.sleep(0.02)
        status = engine.status()
    finally:
        engine.stop()
    return {"packets": status.sent, "errors": status.errors}


@app.command()
@rig_file
@click.argument("kind", help="Which cycle: components, colours, ramp, pixels, numbers …")
@click.option("--of", required=True, help="What to test, such as 203–207, ribbon, universe 3.")
@click.option("--send", is_flag=True, help="Send it; without, the steps are only listed.")
@interface_option
@click.option("--speed", type=click.FloatRange(0.02, 25), default=1.0, help="Steps a second.")
@click.option("--rounds", type=click.IntRange(1, 1000), default=1, help="How often it is gone through.")
@as_json_option
def cycle(file: Path, kind: str, of: str, send: bool, interface: str, speed: float, rounds: int, as_json: bool) -> None:
    """Go through a test cycle over some lamps by the Bench's own feeds, or list its steps."""
    from welvo.bench.cycles import Cycle, steps_of_cycle
    from welvo.bench.picking import pick_items
    from welvo.patch.index import Index
    from welvo.rig.base import Refused

    rig = load_rig(file)
    index = Index(rig)
    try:
        picked = pick_items(index, of)
        keys = list(dict.fromkeys([*picked.items, *(k for k, _ in picked.pixels)]))
        walk = Cycle(steps_of_cycle(index, kind, keys), speed, repeat=rounds > 1)
    except Refused as e:
        fail_with(str(e))
    if as_json:
        say_json([{"step": s.words, "see": s.see} for s in walk.steps])
    elif not send:
        for s in walk.steps:
            click.echo(f"{s.words:28} {s.see}")
    if send:
        _run_cycle(rig, index, walk, keys, interface_at(interface), rounds)


def _run_cycle(rig: Rig, index: Index, walk: Cycle, keys: Sequence[str], where: Interface, rounds: int) -> None:
    from welvo.bench.levels import Levels
    from welvo.live.engine import EngineError, EngineProcess
    from welvo.live.output import rows_of, streams_to_send

    specs = streams_to_send(rig, where, {}, {}, index)
    if not specs:
        fail_with("No universe of this rig has a feed from the Bench.")
    levels = Levels()
    rows = rows_of(rig)
    try:
        engine = EngineProcess(where.ip, len(rows), "Welvo cycle")
    except EngineError as e:
        fail_with(str(e))
    try:
        with contextlib.suppress(KeyboardInterrupt):
            for n in range(rounds * len(walk.steps)):
                levels.start_test(walk.present_step.hold, keys)
                frames = levels.frames_of_rig(index)
                engine.write(b"".join(frames[uid].tobytes() for uid in rows))
                if n == 0:
                    engine.set_streams(specs)
                click.echo(f"{walk.present_step.words:28} {walk.present_step.see}")
                time.sleep(1 / walk.speed)
                walk.step_forward()
    finally:
        engine.stop()
