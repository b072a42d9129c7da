"""`welvo why`, `record`, `play` and `cycle` over simulated devices, as somebody at a terminal uses them."""

from __future__ import annotations

import contextlib
import json
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from click.testing import CliRunner

from tests.cli.test_json import hold
from tests.conftest import slowed, small_rig
from welvo.cli import app
from welvo.demo.gallery import make_gallery
from welvo.formats.pcap import Datagram
from welvo.formats.rigfile import save_rig_file
from welvo.live.engine import EngineProcess
from welvo.live.messages import UniverseOut
from welvo.live.recording import Recording, load_recording
from welvo.patience import wait_until
from welvo.protocols import sacn
from welvo.standins.process import StandIns

run = CliRunner().invoke


@pytest.fixture
def rehearsed(tmp_path: Path) -> Iterator[Path]:
    """The gallery with everything as planned, but one port of a node on another universe."""
    file, state = tmp_path / "rig.welvo", tmp_path / "state.toml"
    save_rig_file(make_gallery(), file)
    state.write_text('["127.0.0.21"]\nplanned = true\n["127.0.0.21".A]\nuniverse = 9\n')
    stand_ins = StandIns(file, state, as_planned=True)
    stand_ins.wait_ready()
    yield file
    stand_ins.stop_process()


@pytest.fixture
def sender() -> Iterator[None]:
    """Somebody who sends universes 3 and 206, all at full."""
    engine = EngineProcess("127.0.0.1", 2, "Desk")
    engine.write(b"\xff" * 1024)
    engine.set_streams(
        [UniverseOut(str(w), "sacn", w, (f"239.255.0.{w}",), row=n, rule="always") for n, w in enumerate((3, 206))]
    )
    yield
    engine.stop()


def test_why_names_the_cause_and_what_to_do(rehearsed: Path, sender: None) -> None:
    found = run(app, ["why", str(rehearsed), "207", "--seconds", "1.5", "--json"])
    said = hold("why", json.loads(found.stdout))
    assert found.exit_code == 1 and said["target"] == "207"
    ports = [c for c in said["causes"] if c["stage"] == "port"]
    assert ports and ports[0]["what"].startswith("Port A takes 9.") and "Push" in ports[0]["do"]
    words = run(app, ["why", str(rehearsed), "207", "--seconds", "1"])
    assert words.exit_code == 1 and "Port A takes 9." in words.stdout
    for wrong, why in (("999", "no fixture 999"), ("12.1", "Nothing is patched at 12.001")):
        refused = run(app, ["why", str(rehearsed), wrong, "--seconds", "0.2"])
        assert refused.exit_code != 0 and why in refused.output


def test_recorded_told_and_played_again(tmp_path: Path, sender: None) -> None:
    file = tmp_path / "wire.pcap"
    done = run(app, ["record", str(file), "--universes", "3,206", "--seconds", "1", "--json"])
    recording = load_recording(file)
    # a window of another test may be armed meanwhile: what it sends is recorded too
    assert {("sacn", 3), ("sacn", 206)} <= set(recording.recorded_wires) and len(recording.frames) > 60
    assert done.exit_code == 0 and hold("record", json.loads(done.stdout))["universes"] == len(recording.recorded_wires)
    told = hold("play", json.loads(run(app, ["play", str(file), "--json"]).stdout))
    ours = [u for u in told["universes"] if u["wire"] in ("sACN 3", "sACN 206")]
    assert [u["slots"] for u in ours] == [512, 512] and all("Desk" in u["sources"] for u in ours)
    at = json.loads(run(app, ["play", str(file), "--at", "0.5", "--json"]).stdout)
    assert at["sACN 3"] == [255] * 512
    assert "1=255" in run(app, ["play", str(file), "--at", "0.5"]).stdout


@contextlib.contextmanager
def recording_beside(file: Path, seconds: float, universe: str = "77") -> Iterator[None]:
    """A universe recorded by another process, from when it listens until it ends. (Two command runners in one process
    would share one standard output.)"""
    words = ["record", str(file), "--universes", universe, "--seconds", "300"]
    process = subprocess.Popen(
        [sys.executable, "-m", "welvo.cli", *words], stderr=subprocess.PIPE, text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # which is ignored behind some shells
    )  # fmt: skip
    assert process.stderr is not None
    assert "recording on" in process.stderr.readline()
    try:
        begun = time.monotonic()
        yield
        time.sleep(max(0.3, seconds - (time.monotonic() - begun)))  # at least so long, and until it was all there
        process.send_signal(signal.SIGINT)
        assert process.wait(60) == 0
    finally:
        process.kill()
        process.wait()
        process.stderr.close()


def test_a_stream_ends_where_it_ended_in_the_capture_and_never_falls_back(tmp_path: Path) -> None:
    def packet(at: float, universe: int, level: int, sequence: int, ended: bool = False) -> Datagram:
        data = sacn.Data(
            bytes([universe]) * 16, universe, bytes([level]) * 512, "Desk", 100, sequence, sacn.TERMINATED * ended
        )
        return Datagram(100.0 + at, "127.0.0.9", 5568, f"239.255.0.{universe}", 5568, sacn.encode_sacn(data))

    file, heard = tmp_path / "wire.pcap", tmp_path / "again.pcap"
    short = [packet(0.0, 77, 10, 0), packet(0.2, 77, 99, 1), packet(0.4, 77, 99, 2, ended=True)]
    Recording([*short, *(packet(n / 10, 78, 5, n) for n in range(11))]).save_recording(file)
    with recording_beside(heard, 2.0):
        done = run(app, ["play", str(file), "--send", "--json"])
    assert hold("play", json.loads(done.stdout))["sent"]["errors"] == 0
    frames = [f for f in load_recording(heard).frames if f.wire == ("sacn", 77) and f.name == "Welvo play"]
    levels = [f.levels[0] for f in frames if not f.ended]
    assert levels == sorted(levels) and {10, 99} == set(levels)  # from its first state to its last, and never back
    assert frames[-1].ended and frames[-1].at - frames[0].at < 0.9  # not only when the whole capture was over


def test_a_capture_goes_through_pipes(tmp_path: Path) -> None:
    file = tmp_path / "wire.pcap"
    raw = sacn.encode_sacn(sacn.Data(b"c" * 16, 77, b"\x63" * 512, "Desk"))
    Recording([Datagram(100.0, "127.0.0.9", 5568, "239.255.0.77", 5568, raw)]).save_recording(file)
    told = CliRunner().invoke(app, ["play", "-", "--at", "0"], input=file.read_bytes())
    assert told.exit_code == 0 and "sACN 77" in told.stdout and "1=99" in told.stdout
    done = subprocess.run([sys.executable, "-m", "welvo.cli", "record", "-", "--universes", "77", "--seconds", "0.2"],
                          capture_output=True, timeout=300)  # fmt: skip
    assert done.returncode == 0 and done.stdout[:4] in (b"\xd4\xc3\xb2\xa1", b"\xa1\xb2\xc3\xd4", b"\x4d\x3c\xb2\xa1")


def test_a_capture_is_sent_by_a_source_of_its_own(tmp_path: Path) -> None:
    engine = EngineProcess("127.0.0.1", 1, "Desk")
    file = tmp_path / "wire.pcap"
    try:
        engine.write(b"\x63" * 512)
        engine.set_streams([UniverseOut("x", "sacn", 77, ("239.255.0.77",), rule="always")])
        assert wait_until(lambda: engine.status().sent > 0, 20)
        recorded = run(app, ["record", str(file), "--universes", "77", "--seconds", str(slowed(0.8))])
        wires = load_recording(file).recorded_wires  # others may be armed meanwhile
        said = f"{len(wires)} universe{'s' * (len(wires) != 1)}\n"
        assert ("sacn", 77) in wires and recorded.stdout.endswith(said)
    finally:
        engine.stop()
    heard = tmp_path / "again.pcap"
    with recording_beside(heard, slowed(1.6)):
        sent = run(app, ["play", str(file), "--send"])
    assert sent.exit_code == 0 and "0 not taken by the network" in sent.stdout
    frames = [f for f in load_recording(heard).frames if f.wire == ("sacn", 77)]  # others may be armed meanwhile
    assert {f.name for f in frames} == {"Welvo play"} and bytes(frames[0].levels) == b"\x63" * 512
    assert frames[-1].ended  # and it ended properly


def test_a_universe_that_is_heard_later_never_begins_with_a_blackout(tmp_path: Path) -> None:
    packet = sacn.Data(b"c" * 16, 77, b"\x63" * 512, "Desk")
    early, late = (Datagram(100.0 + at, "127.0.0.9", 5568, "239.255.0.77", 5568, raw) for at, raw in (
        (0.0, b"something else that was on the wire"), (0.4, sacn.encode_sacn(packet))
    ))  # fmt: skip
    file, heard = tmp_path / "wire.pcap", tmp_path / "again.pcap"
    Recording([early, late]).save_recording(file)
    with recording_beside(heard, 1.6):
        run(app, ["play", str(file), "--send"])
    frames = [f for f in load_recording(heard).frames if f.wire == ("sacn", 77)]  # others may be armed meanwhile
    assert frames and bytes(frames[0].levels) == b"\x63" * 512


def test_a_cycle_is_listed_and_sent(tmp_path: Path) -> None:
    file = tmp_path / "rig.welvo"
    save_rig_file(small_rig(), file)
    listed = run(app, ["cycle", str(file), "colours", "--of", "ribbon"])
    assert listed.exit_code == 0 and listed.stdout.startswith("Red ")
    ramp = json.loads(run(app, ["cycle", str(file), "ramp", "--of", "101", "--json"]).stdout)
    assert ramp[0]["step"] == "0 %"
    heard = tmp_path / "wire.pcap"
    with recording_beside(heard, 2.0, "1"):
        done = run(app, ["cycle", str(file), "all on", "--of", "101", "--send", "--speed", "2"])
    assert done.exit_code == 0
    dimmers = [f.levels[4] for f in load_recording(heard).frames if f.wire == ("sacn", 1)]
    assert dimmers[0] == 255 and dimmers[-1] == 0
    for wrong, why in ((["disco"], "no cycle"), (["ramp", "x"], "is nothing here")):
        refused = run(app, ["cycle", str(file), wrong[0], "--of", wrong[-1] if len(wrong) > 1 else "101"])
        assert refused.exit_code != 0 and why in refused.output


def test_what_cannot_be_recorded_or_played_is_said(tmp_path: Path) -> None:
    junk = tmp_path / "junk.pcap"
    junk.write_bytes(b"nothing of the kind, whatever it says")
    assert "no capture file" in run(app, ["play", str(junk)]).output
    assert run(app, ["play", str(tmp_path / "none.pcap")]).exit_code != 0
    assert run(app, ["record", str(tmp_path / "no" / "such" / "x.pcap"), "--seconds", "0.1"]).exit_code != 0
    assert "is no number" in run(app, ["record", str(junk), "--universes", "many"]).output
