"""Starts the demo's stand-ins, and runs the whole example without a window, verifying every step."""

from __future__ import annotations

import asyncio
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from welvo.bench.levels import Levels
from welvo.checks.checker import Checker, check_rig
from welvo.demo.gallery import EXPECTED_LIVE, EXPECTED_ON_PAPER, make_gallery, state_file
from welvo.formats.chart import read_chart
from welvo.formats.chart_write import write_chart
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.live.device_link import HttpLink, Push, open_session, read_settings
from welvo.live.engine import EngineProcess
from welvo.live.interfaces import LOOPBACK
from welvo.live.links import ArtNetLink, LinkError
from welvo.live.listener import Listener
from welvo.live.output import rows_of, streams_to_send
from welvo.live.status import read_status
from welvo.matching.leaving import Proof, proof_of_pixel
from welvo.matching.planned import full_plan
from welvo.observed.values import NOTHING, DeviceAnswer, Observed
from welvo.patch.index import Index
from welvo.patience import TURN, PatienceLimit
from welvo.rig.document import Rig
from welvo.rig.lookup import joined_wires
from welvo.rig.notation import say_place
from welvo.rig.plan import planned_settings
from welvo.runs.bridge import demands_of_bridge, rows_behind_bridge, set_right
from welvo.runs.edits import make_to_fit
from welvo.runs.pixels import cuts_of_device
from welvo.settings.compare import compare_settings
from welvo.standins.process import StandIns
from welvo.survey.path import Light, path_to_target
from welvo.survey.place_ways import on_cable
from welvo.survey.target import find_target


class Untrue(Exception):
    """A step of the demo that did not come out as it says."""


class TooBusy(Exception):
    """A step of which nobody can tell, because this machine did not get to it."""


def _wait_until_true(what: str, condition: Callable[[], bool], seconds: float = 8.0) -> float:
    """Wait for something to come true; gives how long it took. A device that does not answer in time is asked again.

    Raises Untrue, or TooBusy when the wait was long by the clock and yet short of turns.
    """
    limit = PatienceLimit(seconds)
    silent = ""
    while True:
        try:
            if condition():
                return limit.waited
            silent = ""
        except LinkError as e:
            silent = f" ({e})"
        if not limit.lasts():
            break
        time.sleep(TURN)
    if limit.stretched:
        raise TooBusy(f"waited {limit.waited:.0f} s for this: {what}{silent}")
    raise Untrue(f"{what} did not come true within {seconds:.0f} s{silent}")


def _must_be_true(what: str, true: bool) -> None:
    if not true:
        raise Untrue(what)


def run_headless(say: Callable[[str], None] = print) -> int:
    """The whole example on loopback. Gives 0 when everything it says was seen to be true, 1 when something was not, and
    2 when this machine was too busy to tell."""
    with tempfile.TemporaryDirectory(prefix="welvo-demo-") as folder:
        try:
            _run_example(Path(folder), say)
        except TooBusy as e:
            say(f"This machine is too busy: {e}.")
            return 2
        except (Untrue, RuntimeError, LinkError) as e:
            say(f"NOT TRUE: {e}")
            return 1
    say("Everything above was verified.")
    return 0


def _run_example(folder: Path, say: Callable[[str], None]) -> None:
    say("Drift Gallery, the opening night of the jellyfish hall. Everything stays on 127.0.0.x.")
    chart = read_chart("pan 16, tilt 16, dimmer, shutter = 255, 7 x (amber white)")
    mode = chart.mode_of_chart("20 slot")
    _must_be_true("the chart gives 20 slots", mode.slots_needed == 20 and mode.count_pixels == 7 and not chart.problems)
    _must_be_true("the chart is the same after writing", read_chart(write_chart(mode)).mode_of_chart("20 slot") == mode)
    say("1  profile   a chart line became 20 slots with 7 pixels, and reads back the same")

    rig = make_gallery()
    file = folder / "drift-gallery.welvo"
    save_rig_file(rig, file)
    rig = load_rig_file(file)
    _must_be_true("the file gives the same rig", rig == make_gallery())
    say(f"2  file      {len(rig.fixtures)} fixtures saved and reopened, equal in every value")

    report = check_rig(rig)
    _must_be_true(
        f"findings on paper are exactly those meant ({sorted(report.codes_found ^ EXPECTED_ON_PAPER)})",
        report.codes_found == EXPECTED_ON_PAPER,
    )
    clash = next(f for f in report.findings if f.code == "PATCH-01")
    say(
        f"3  check     {len(report.findings)} findings of {len(report.codes_found)} kinds, exactly those built in; "
        f"{clash.title}, {clash.where}"
    )
    fixed, _ = clash.possible_fixes[0].edit(rig)  # type: ignore[misc]
    _must_be_true("the fix of the clash leaves no clash", "PATCH-01" not in check_rig(fixed).codes_found)
    say(f"             its fix “{clash.possible_fixes[0].label}” leaves no clash")

    _show_cables(rig, say)

    stand_ins = StandIns(file, state_file())
    listener: Listener | None = None
    engine: EngineProcess | None = None
    try:
        say("4  stand-ins " + stand_ins.wait_ready())
        listener = Listener(LOOPBACK, joined_wires(rig))
        _must_be_true("; ".join(listener.find_problems), not listener.find_problems)
        listener.start_listening()
        engine = _show_live(rig, listener, say)
    finally:
        if engine:
            engine.stop()
        if listener:
            listener.close()
        stand_ins.stop_process()


def _show_cables(rig: Rig, say: Callable[[str], None]) -> None:
    """The jellyfish ceiling: where pixels, cut pixels and lamps behind a bridge are, and what setting it right does."""
    index = Index(rig)
    device_id, stream = next((k[0], s) for k, s in index.cables_and_sums.streams.items() if s.label == "6")
    pixel = find_target(index, "ceiling 2/36")
    _must_be_true(
        "pixel 36 of the folded second ribbon is at 201.271", (pixel.universe, pixel.address) == ("u201", 271)
    )
    cut = cuts_of_device(index.cables_and_sums, device_id)
    _must_be_true(
        "the swarm is cut twice",
        [(c.pixel, c.first, c.last) for c in cut] == [(171, (207, 511), (208, 1)), (342, (208, 512), (209, 2))],
    )
    bridge = stream.pieces[2]
    lamp = next(r for r in rows_behind_bridge(index.cables_and_sums, stream, bridge) if r.name == "534")
    _must_be_true("534 behind the bridge is DMX 33 and 206.123", (lamp.dmx, lamp.places[0][0]) == (33, (206, 123)))
    wrong = [d.says for d in demands_of_bridge(index.cables_and_sums, stream, bridge) if not d.holds]
    right, _ = set_right(rig, device_id, "6", 2)
    right, _ = make_to_fit(right, device_id)
    _must_be_true(
        "set right, nothing of the device is an error",
        not [f for f in check_rig(right).findings if f.severity == "error" and f.code[:3] == "RUN"],
    )
    say(
        "             runs: ceiling 2/36 at 201.271, swarm/171 cut at 207.511, 534 at DMX 33 = 206.123; set right "
        f"at once: {wrong[0].split(' and ')[0]}"
    )


def _show_live(rig: Rig, listener: Listener, say: Callable[[str], None]) -> EngineProcess:
    index = Index(rig)

    def seen() -> Observed:
        now = time.time()
        return msgspec.structs.replace(
            NOTHING, heard=listener.heard_devices(), sources=tuple(listener.heard_sources(now)), listening=True
        )

    took = _wait_until_true("five devices and a stranger are heard", lambda: len(listener.heard_devices()) == 6)
    say(
        f"5  devices   5 devices heard after {took:.1f} s: "
        + ", ".join(f"{h.name} at {ip}" for ip, h in sorted(listener.heard_devices().items()))
    )

    engine = EngineProcess(LOOPBACK.ip, len(rig.universes), "Welvo demo", listener.artnet_fd)
    listener.own_streams(engine.cid.bytes)
    levels = Levels()
    rows = rows_of(rig)

    def send() -> None:
        frames = levels.frames_of_rig(index)
        engine.write(b"".join(frames[uid].tobytes() for uid in rows))

    send()
    engine.set_streams(streams_to_send(rig, LOOPBACK, listener.heard_devices(), {}))
    _must_be_true(
        "the engine took the streams", engine.wait_for(lambda answer: answer.groups is not None, 2.0) is not None
    )

    span = index.spans_of("f207")[0]
    at = span.first + 5  # dimmer, coarse byte
    levels.hold_function(["f207"], "Dimmer", 1.0)
    send()
    where = say_place(3, at)

    def wire() -> int:
        found = listener.levels_on_wire("sacn", 3)
        return found[at - 1] if found else -1

    def lamp() -> int:
        found = read_status("127.0.0.21", 8421).levels_of_port("A")
        return found[at - 1] if found else -1

    took = _wait_until_true("the level is on the wire", lambda: wire() == 255)
    say(f"6  armed     dimmer of 207 at full: 255 on {where}, seen on the wire as sACN 3 after {1000 * took:.0f} ms")
    time.sleep(0.3)
    _must_be_true("the level has not reached the lamp yet", lamp() != 255)
    now = time.time()
    _wait_until_true(
        "all findings with live data are exactly those meant",
        lambda: _codes_of_findings(index, seen(), now) == EXPECTED_LIVE,
        12.0,
    )
    chain = path_to_target(index, seen(), find_target(index, "207"), time.time(), Light("Dim 255", armed=True))
    joint = next(j for j in chain.joints if j.mark == "differs")
    _must_be_true("the path names both sides", (joint.sends, joint.takes) == ("sends 3", "takes 2"))
    say(
        f"7  path      207 is dark at the lamp ({lamp()}): Weir's port A — {joint.sends}, {joint.takes}. Findings "
        "live: exactly those built in"
    )

    plan = planned_settings(rig, "d1")
    values = {k: v for k, v in plan.items() if k in ("A.universe", "A.protocol")}
    ArtNetLink(listener).push_settings(
        rig.device_models[rig.devices["d1"].model], listener.heard_devices()["127.0.0.21"], "127.0.0.21", values
    )

    def agrees() -> bool:
        lines = {x.key: x for x in compare_settings(rig, seen(), "d1", time.time())}
        return lines["A.universe"].mark == "matches" and lines["A.universe"].reported == 3

    took = _wait_until_true("the device reads back what was pushed", agrees)
    say(f"8  push      universe 3 pushed to port A; read back equal after {1000 * took:.0f} ms")
    took = _wait_until_true("the level arrives at the lamp", lambda: lamp() == 255)
    say(f"9  light     {where} = 255 comes out at port A after {1000 * took:.0f} ms more: the very level that was sent")
    levels.hold_function(["c2"], "ColorAdd_R", 1.0)
    send()

    def ribbon() -> int:
        found = listener.levels_on_wire("sacn", 201)
        return found[165] if found else -1

    took = _wait_until_true("the second ribbon's red is on the wire", lambda: ribbon() == 255)
    say(f"             and red of ceiling 2 is 255 on 201.166, where its cable puts it, after {1000 * took:.0f} ms")
    _must_be_true("WIRE-01 is gone", "WIRE-01" not in _codes_of_findings(index, seen(), time.time()))
    _show_middle(index, levels, send, say)

    levels.release_items()
    send()
    took = _wait_until_true("the released dimmer is down at the lamp", lambda: lamp() == 0)
    say(f"10 release   the dimmer is back at its default, 0, at the lamp after {1000 * took:.0f} ms")
    engine.stop()
    _must_be_true("the streaming process is gone", not engine.alive)
    took = _wait_until_true(
        "all own streams ended",
        lambda: not [s for s in listener.heard_sources(time.time()) if s.own and s.protocol == "sacn"],
        3.0,
    )
    say(f"11 disarm    streams ended by termination after {1000 * took:.0f} ms; the process is gone")
    return engine


def _show_middle(index: Index, levels: Levels, send: Callable[[], None], say: Callable[[str], None]) -> None:
    """The middle of the rig, proved by what leaves it: a folded string, and a bridge that a dimmed port spoils."""
    device_id, ip = next((k, d.ip) for k, d in index.rig.devices.items() if d.name == "PENSTOCK")
    port = index.rig.device_models[index.rig.devices[device_id].model].status_port

    def leaves(at: Index, typed: str) -> Proof | None:
        on = on_cable(at, find_target(at, typed))
        found = read_status(ip, port).octets_of_port(on[0].label) if on else None
        return proof_of_pixel(at.cables_and_sums, on, *found, 255) if on and found else None

    took = _wait_until_true(
        "pixel 36 of the reversed ribbon is red", lambda: _say_fact(leaves(index, "ceiling 2/36")) == "R 255 G 0 B 0"
    )
    took_ms = f"{1000 * took:.0f} ms"
    say(f"             and pixel 36 leaves PENSTOCK's port 1 red, at its place on the folded cable: {took_ms}")
    levels.hold_function(["f534"], "ColorAdd_R", 1.0)
    send()
    _wait_until_true(
        "255 arrives as 204 behind the bridge", lambda: _say_fact(leaves(index, "534")) == "DMX 33 gives 204"
    )
    found = leaves(index, "534")
    _must_be_true("that is found", found is not None and found.mark == "differs")
    kept: list[DeviceAnswer] = []

    def was_told() -> bool:
        kept[:] = [asyncio.run(read_settings(ip, port))]
        return True

    _wait_until_true("PENSTOCK says its settings", was_told)
    says = kept[0]
    plan = full_plan(index, device_id)
    _must_be_true("the device has every setting as planned", all(says.active.get(k) == v for k, v in plan.items()))
    right = Index(set_right(index.rig, device_id, "6", 2)[0])
    wanted = {k: v for k, v in full_plan(right, device_id).items() if says.active.get(k) != v}
    _must_be_true("one setting differs from the plan that was set right", wanted == {"6.brightness": 100})
    push = Push(wanted, ("save",))
    asyncio.run(_push_and_wait(push, ip, port))
    _must_be_true("it was taken and read back", [r.outcome for r in push.results.values()] == ["taken"])
    took = _wait_until_true("255 arrives as 255", lambda: _say_fact(leaves(right, "534")) == "DMX 33 gives 255")
    say(
        f"             {len(plan)} settings of PENSTOCK read, all as planned; 255 for 534 arrived as 204 behind its "
        f"bridge; brightness 100 % of port 6 pushed, saved, read back: it arrives as 255 after {1000 * took:.0f} ms"
    )


def _say_fact(found: Proof | None) -> str:
    return found.fact if found else ""


async def _push_and_wait(push: Push, ip: str, port: int) -> None:
    async with open_session(LOOPBACK.ip) as opened:
        await push.run_push(HttpLink(opened, ip, port))


def _codes_of_findings(index: Index, observed: Observed, now: float) -> set[str]:
    return Checker(index, observed, max(now, time.time())).report_findings.codes_found
