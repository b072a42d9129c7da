from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner

from tests.cli.test_json import hold
from welvo.cli import app
from welvo.demo.gallery import EXPECTED_ON_PAPER, make_gallery
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.rig.document import Rig

run = CliRunner().invoke


@pytest.fixture
def file(rig: Rig, tmp_path: Path) -> str:
    save_rig_file(rig, tmp_path / "hall.json")
    return str(tmp_path / "hall.json")


@pytest.fixture(scope="module")
def demo_file(tmp_path_factory: pytest.TempPathFactory) -> str:
    path = tmp_path_factory.mktemp("demo") / "gallery.welvo"
    save_rig_file(make_gallery(), path)
    return str(path)


def test_every_command_has_real_help() -> None:
    whole = run(app, ["--help"]).output
    for name in ("open", "demo", "check", "patch", "path", "send", "listen", "standins", "convert"):
        assert name in whole
        found = run(app, [name, "--help"])
        assert found.exit_code == 0 and len(found.output.splitlines()) > 6, name


def test_check_lists_findings_and_exits_with_1_on_errors(file: str, demo_file: str) -> None:
    fine = run(app, ["check", file])
    assert fine.exit_code == 0 and "0 errors, 0 warnings, 0 notes, 0 waived" in fine.output
    bad = run(app, ["check", demo_file, "--json"])
    found = json.loads(bad.output)["findings"]
    assert bad.exit_code == 1 and {f["code"] for f in found} == EXPECTED_ON_PAPER
    clash = next(f for f in found if f["code"] == "PATCH-01")
    assert clash["facts"]["slots"] == 7 and clash["fixes"][0]["changes"] == [["304 · address", "3.160", "3.348"]]
    assert set(clash) == {"code", "severity", "where", "title", "reason", "facts", "subject", "fixes"}


def test_patch_lists_every_span_with_running_numbers(file: str) -> None:
    rows = json.loads(run(app, ["patch", file, "--json"]).output)
    assert [(r["number"], r["universe"], r["first"], r["last"], r["running"]) for r in rows] == [
        (101, 1, 1, 8, 1), (102, 1, 9, 16, 9), (201, 2, 1, 14, 513), (None, 2, 101, 130, 613),
    ]  # fmt: skip
    assert rows[3]["kind"] == "element" and rows[3]["name"] == "ribbon" and rows[0]["break"] == 1
    assert "1.009 – 016" in run(app, ["patch", file]).output


def test_path_says_every_way_and_each_hop(file: str) -> None:
    found = json.loads(run(app, ["path", file, "ribbon/4", "--json"]).output)
    assert found["target"] == "ribbon/4" and ["Component 3 · B", "2.112"] in found["ways"]
    assert [h["role"] for h in found["hops"]][:3] == ["level", "universe", "feed"]
    assert "2nd on A" in run(app, ["path", file, "102"]).output
    wrong = run(app, ["path", file, "999"])
    assert wrong.exit_code == 2 and "There is no fixture 999" in wrong.stderr and wrong.stdout == ""


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["1=255", "--universe", "0"], "no sACN universe 0"),
        (["1=255", "--universe", "70000"], "no sACN universe 70000"), (["513=1"], "slots run from 1 to 512"),
        (["1=256"], "levels from 0 to 255"), (["1:5"], "no slot=level pair"), (["1=1", "--to", "10.0.40"], "3 parts"),
        (["1=1", "--to", "0.0.0.0"], "no address yet"), (["1=1", "--protocol", "artnet"], "needs --to"),
        (["1=1", "--protocol", "artnet", "--universe", "255.255.255.0", "--to", "127.0.0.9"], "mask"),
        (["1=1", "--protocol", "midi"], "no protocol here"), (["1=1", "--interface", "192.0.2.9"], "No interface"),
    ],
)  # fmt: skip
def test_send_refuses_what_no_wire_can_carry(arguments: list[str], says: str) -> None:
    found = run(app, ["send", *arguments])
    assert found.exit_code == 2 and says in found.stderr


def test_what_is_sent_is_heard_by_listen() -> None:
    words = ["1=255", "10=50%", "--universe", "41", "--priority", "150", "--interface", "127.0.0.1"]
    command = [sys.executable, "-m", "welvo.cli", "send", *words, "--seconds", "60"]
    sender = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    try:
        assert sender.stderr is not None and "sending to 239.255.0.41" in sender.stderr.readline()
        ear = ["listen", "--interface", "127.0.0.75", "--universes", "41-42", "--seconds", "3", "--json"]
        done = subprocess.run([sys.executable, "-m", "welvo.cli", *ear], stdout=subprocess.PIPE, timeout=300)
    finally:
        sender.terminate()
        sender.communicate()
    (source,) = [s for s in hold("listen", json.loads(done.stdout))["sources"] if s["universe"] == 41]
    assert source["levels"] == {"1": 255, "10": 128} and source["priority"] == 150 and source["source"] == "Welvo send"
    sent = run(app, ["send", *words, "--seconds", "0.3"])
    assert sent.exit_code == 0 and "packets to 239.255.0.41, 0 not taken" in sent.output
    told = hold("send", json.loads(run(app, ["send", *words, "--seconds", "0.3", "--json"]).stdout))
    assert told["packets"] > 3 and told["errors"] == 0 and told["to"] == "239.255.0.41"


def test_files_that_cannot_be_opened_are_said_on_stderr(tmp_path: Path) -> None:
    (tmp_path / "x.welvo").write_bytes(b"nonsense")
    for command in (["check"], ["patch"], ["standins"]):
        found = run(app, [*command, str(tmp_path / "x.welvo")])
        assert found.exit_code == 2 and "neither a .welvo file nor JSON" in found.stderr
    assert run(app, ["listen", "--universes", "0"]).exit_code == 2


def test_stand_ins_live_on_loopback_only(rig: Rig, tmp_path: Path) -> None:
    from welvo.rig.edits import plan_setting

    save_rig_file(plan_setting(rig, "d", "ip", "10.0.0.5")[0], tmp_path / "a.json")
    found = run(app, ["standins", str(tmp_path / "a.json")])
    assert found.exit_code == 2 and "stand-ins live nowhere else" in found.stderr


def test_stand_ins_say_once_that_they_are_ready_and_end_when_told(file: str) -> None:
    running = subprocess.Popen(
        [sys.executable, "-m", "welvo.cli", "standins", file, "--json"], stdout=subprocess.PIPE, text=True
    )
    assert running.stdout is not None
    try:
        said = "".join(iter(running.stdout.readline, "}\n")) + "}"
        assert hold("standins", json.loads(said))["ready"] == ["NODE at 127.0.0.60"]
    finally:
        running.terminate()
        running.communicate()
    assert running.returncode == 0


def test_convert_brings_old_files_up_to_date(tmp_path: Path) -> None:
    old = Path(__file__).parent.parent / "formats" / "corpus" / "format-1.json"
    assert run(app, ["convert", str(old), str(tmp_path / "new.welvo")]).exit_code == 0
    assert load_rig_file(tmp_path / "new.welvo") == load_rig_file(old)
    assert run(app, ["convert", str(old), str(tmp_path / "new.txt")]).exit_code == 2


# ---- the patch: lay out, pack, reckon, write


def patch(*args: str) -> tuple[int, dict[str, Any]]:
    done = run(app, ["patch", *args, "--json"])
    return done.exit_code, json.loads(done.output) if done.exit_code < 2 else {
        "error": done.output + (done.stderr or "")
    }


def test_patch_lays_out_packs_and_writes_only_when_told(demo_file: str, tmp_path: Path) -> None:
    code, found = patch(demo_file, "--lay", "503-506", "--from", "10.1", "--spacing", "40")
    assert code == 0 and [(m["from"], m["to"]) for m in found["moves"]] == [
        ("4.411", "10.001"), ("4.421", "10.041"), ("4.431", "10.081"), ("4.441", "10.121"),
    ]  # fmt: skip
    assert (found["last"], found["free_behind"], found["written"]) == ("10.128", 384, None)
    out = tmp_path / "new.welvo"
    code, found = patch(demo_file, "--lay", "kelp left", "--into", "10", "--write", str(out))
    assert code == 0 and found["written"] == "new.welvo" and load_rig_file(out).fixtures["f102"].at[0].address == 39
    assert load_rig_file(Path(demo_file)).fixtures["f102"].at[0].address == 41  # the file that was read stays as it was
    code, found = patch(demo_file, "--lay", "101-106", "--into", "9")
    assert code == 1 and found["left"] == [str(n) for n in range(101, 107)] and "found no place" in found["why"]
    code, found = patch(demo_file, "--pack", "3")
    assert (found["last_before"], found["last_after"], found["fewest_proved"]) == (347, 342, True)
    code, found = patch(demo_file, "--lay", "unpatched")
    assert [(m["what"], m["break"]) for m in found["moves"]] == [("702", 2), ("704", 1), ("704", 2)] and found[
        "follows"
    ] == ["703"]


def test_patch_reckons_what_fits_and_what_another_mode_hits(demo_file: str) -> None:
    assert patch(demo_file, "--how-many", "38", "--from", "10.1", "--spacing", "40", "--into", "10")[1] == {
        "fit": 12, "last": "10.441–478", "left_over": 34,
    }  # fmt: skip
    code, found = patch(demo_file, "--mode", "207=9 slot")
    assert code == 0 and found["changes"][0] == {"what": "207", "from": "3.145–166", "to": "3.145–153", "meets": []}
    assert found["changes"][1]["what"] == "208"  # it stands behind 207
    whole = patch(demo_file, "--capacity")[1]
    assert whole["holds_nothing"] == [10] and whole["rows"][0]["of"] == "slots"
    wires = patch(demo_file, "--wires")[1]
    assert next(f for f in wires["feeds"] if f["universe"] == 8)["beware"] == "universe 7 goes out under it too"
    assert (
        "easily" not in run(app, ["patch", demo_file, "--wires"]).output
        and "sACN 3" in run(app, ["patch", demo_file, "--wires"]).output
    )


@pytest.mark.parametrize(
    "args, why",
    [
        (("--lay", "999"), "There is no fixture 999"), (("--lay", "101", "--from", "77.1"), "no universe 77"),
        (("--lay", "101", "--order", "odd"), "no order"),
        (("--lay", "101", "--spacing", "4", "--gap", "2"), "One of --spacing"),
        (("--lay", "101", "--pack", "3"), "at a time"), (("--pack", "99"), "no universe 99"),
        (("--mode", "101"), "says no mode"), (("--mode", "101=tall"), "no mode|no profile"),
        (("--capacity", "--write", "x.welvo"), "--write goes with"),
        (("--lay", "101", "--from", "3.1", "--into", "5"), "in none of the universes"),
        (("--pack", "3", "--write", "x.txt"), "must end in"),
        (("--lay", "101", "--from", "1.512", "--headroom", "100"), "lies past the last slot"),
    ]
)  # fmt: skip
def test_patch_refuses_what_cannot_be_read(demo_file: str, args: tuple[str, ...], why: str) -> None:
    code, found = patch(demo_file, *args)
    assert code == 2 and re.search(why, found["error"]), found


def test_runs_lists_streams_and_hangs_by_the_same_words(demo_file: str, tmp_path: Path) -> None:
    shown = run(app, ["runs", demo_file, "--box", "penstock", "--json"])
    streams = json.loads(shown.output)
    assert [s["port"] for s in streams] == [str(n) for n in range(1, 8)]
    assert streams[6]["universes"] == [207, 208, 209] and streams[6]["needed_of_the_last"] == 176
    assert streams[5]["segments"][2] == {
        "place": 3, "kind": "bridge", "name": "sill bridge", "slot": 91, "slots": 66, "pixel": 31, "pixels": 22,
        "leds": 22, "first": "206.091", "last": "206.156",
    }  # fmt: skip
    table = run(app, ["runs", demo_file, "--pixels"]).output.splitlines()
    assert len(table) == 1 + 4 * 165 + 128 + 52 + 400 and table[0].startswith("box,port,segment,name,pixel")
    assert "PENSTOCK,7,1,swarm,171,171,1011,511,207.511,208.001" in table
    assert "PENSTOCK,6,3,sill bridge,1,31,819,91,206.091,206.093" in table
    out = tmp_path / "more.welvo"
    made = run(
        app,
        [
            "runs", demo_file, "--hang", "4 x 50 moss of Silk 60, 2 to a port", "--port", "8", "--begin", "301",
            "--packed", "--write", str(out)
        ]
    )  # fmt: skip
    assert made.exit_code == 0 and "PENSTOCK 9: 100 px, 300 slots" in made.output
    rig = load_rig_file(out)
    assert {u.number for u in rig.universes.values()} >= set(range(301, 310)) and rig.devices["d6"].ports[
        "9"
    ].follows == "packed"
    for args, words in (
        (["--hang", "wobble"], "nothing of this rig"),
        (["--box", "TUB"], "no device “TUB”"),
        (["--begin", "63999"], "they end at 63999"),
    ):
        bad = run(app, ["runs", demo_file, *args])
        assert bad.exit_code != 0 and words in bad.output, bad.output
