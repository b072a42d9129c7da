"""Lamps on the command line, with simulated ones behind simulated nodes."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from tests.cli.test_json import hold
from welvo.cli import app
from welvo.demo.gallery import make_gallery
from welvo.formats.models import shipped_models
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.rig.edits import add_device, set_port
from welvo.rig.wiring import Feed
from welvo.standins.process import StandIns

run = CliRunner().invoke


@pytest.fixture
def hall(tmp_path: Path) -> Iterator[tuple[str, StandIns]]:
    file = tmp_path / "hall.welvo"
    save_rig_file(make_gallery(), file)
    state = tmp_path / "state.toml"  # its lamps as they left the factory
    state.write_text('["127.0.0.21"]\nA = { protocol = "sacn", universe = 3 }\n')
    stand_ins = StandIns(file, state)
    stand_ins.wait_ready()
    yield str(file), stand_ins
    stand_ins.stop_process()


def as_json(*args: str) -> tuple[int, Any]:
    done = run(app, ["lamps", *args, "--json"])
    return done.exit_code, hold("lamps", json.loads(done.stdout))["ports"]


def test_lamps_are_found_confirmed_set_and_taken(hall: tuple[str, StandIns]) -> None:
    file, _ = hall
    code, [port] = as_json(file, "--port", "weir-2/a", "--search")
    assert code == 1 and port["port"] == "WEIR-2/A" and port["failed"] == ""
    assert len(port["lamps"]) == 12 and all(x["uid"] and not x["sure"] for x in port["lamps"])
    assert port["at one address"] == [{"address": 1, "lamps": 12}]
    said = run(app, ["lamps", file, "--port", "WEIR-2/A"])
    assert "12 lamps stand at address 001" in said.stdout and "others would do as well" in said.stdout
    doubtful = run(app, ["lamps", file, "--port", "WEIR-2/A", "--push"])
    assert doubtful.exit_code == 2 and "only guessed" in doubtful.stderr
    other = Path(file).with_name("as-lamps.welvo")
    code, [port] = as_json(file, "--port", "WEIR-2/A", "--take", "--confirm", "--write", str(other))
    taken, keys = load_rig_file(other), [f for f in load_rig_file(other).fixtures.values() if f.uid]
    assert {x["lines"]["address"]["mark"] for x in port["lamps"]} == {"matches"} and len(keys) == 12
    assert {f.at[0].address for f in keys} == {1} and taken.fixtures.keys() == make_gallery().fixtures.keys()
    code, [port] = as_json(file, "--port", "WEIR-2/A", "--push", "--confirm", "--label")
    assert code == 0 and port["at one address"] == []
    assert {v["outcome"] for x in port["lamps"] for v in x["set"].values()} == {"taken"}
    assert all(x["sure"] and not x["differs"] for x in port["lamps"])
    kept = load_rig_file(Path(file))
    assert {x["uid"] for x in port["lamps"]} <= {f.uid for f in kept.fixtures.values()}
    first = next(f for f in kept.fixtures.values() if f.number == port["lamps"][0]["number"])
    assert port["lamps"][0]["lines"]["label"]["reported"] == f"{first.number} {first.name}".strip()


def test_what_cannot_be_asked_is_said(hall: tuple[str, StandIns]) -> None:
    file, _ = hall
    nowhere = run(app, ["lamps", file, "--port", "WEIR-2/Z"])
    assert nowhere.exit_code == 2 and "There are: " in nowhere.stderr and "WEIR-2/A" in nowhere.stderr
    for wrong in ("1", "x=/dev/y", "1="):
        assert "NUMBER=PORT" in run(app, ["lamps", file, "--serial", wrong]).stderr
    both = run(app, ["lamps", file, "--push", "--take"])
    assert both.exit_code == 2 and "Either" in both.stderr


def test_lamps_on_a_serial_line_are_asked_through_its_port(tmp_path: Path) -> None:
    rig = make_gallery()
    rig, change = add_device(rig, shipped_models()["rush"], "RUSH")
    made = change.made[0]
    label = next(iter(rig.devices[made].ports))
    line = Feed(universe="u8", sender="s1", protocol="serial", wire=974, to="")
    rig = replace(rig, feeds={**rig.feeds, "w974": line})
    rig, _ = set_port(rig, made, label, "", feed="w974")
    file, state = tmp_path / "line.welvo", tmp_path / "state.toml"
    save_rig_file(rig, file)
    state.write_text('["line 974"]\nplanned = true\n')
    stand_ins = StandIns(file, state)
    stand_ins.wait_ready()
    try:
        port = f"RUSH/{label}"
        unsaid = run(app, ["lamps", str(file), "--port", port])
        assert unsaid.exit_code == 1 and "--serial 974=PORT" in unsaid.stdout
        code, [row] = as_json(str(file), "--port", port, "--serial", "974=rehearsal:974")
        assert row["failed"] == "" and len(row["lamps"]) > 3 and all(x["uid"] for x in row["lamps"])
        assert code in (0, 1) and not any(x["differs"] for x in row["lamps"])
    finally:
        stand_ins.stop_process()
