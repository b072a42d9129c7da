"""Devices on the command line, with simulated ones on loopback."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner

from tests.cli.test_json import hold
from welvo.cli import app
from welvo.demo.gallery import make_gallery, state_file
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.rig.document import Rig
from welvo.runs.bridge import set_right
from welvo.standins.process import StandIns

run = CliRunner().invoke


@pytest.fixture
def hall(tmp_path: Path) -> Iterator[tuple[str, StandIns]]:
    """The gallery with the bridge set right in the plan; its controller still has 80 %."""
    rig: Rig = make_gallery()
    pen = next(k for k, d in rig.devices.items() if d.name == "PENSTOCK")
    file, as_is = tmp_path / "hall.welvo", tmp_path / "as-is.welvo"
    save_rig_file(rig, as_is)
    save_rig_file(set_right(rig, pen, "6", 2)[0], file)
    stand_ins = StandIns(as_is, state_file())
    stand_ins.wait_ready()
    yield str(file), stand_ins
    stand_ins.stop_process()


def as_json(*args: str) -> tuple[int, Any]:
    done = run(app, [*args, "--json"])
    return done.exit_code, HOLDS[args[0]](json.loads(done.stdout))


HOLDS = {
    "devices": lambda said: hold("devices", said),
    "push": lambda said: hold("push", said),
    "snapshot": lambda said: hold("snapshot", said),
    "bring-up": lambda said: hold("bring-up", said),
}


def test_devices_are_found_compared_pushed_and_kept(hall: tuple[str, StandIns]) -> None:
    file, stand_ins = hall
    code, found = as_json("devices", file, "--seconds", "1.5")
    rows = {r["name"]: r for r in found["devices"]}
    assert code == 1 and (rows["BRINE"]["state"], rows["PENSTOCK"]["state"]) == ("silent", "found")
    assert rows["PENSTOCK"]["differs"] == [{"setting": "6.brightness", "plan": 100, "reported": 80}]
    assert [s["name"] for s in found["strangers"]] == ["WEIR-SPARE"]
    said = run(app, ["devices", file, "--seconds", "1.5"]).stdout
    assert "Brightness of port 6: plan 100 %, device 80 %" in said
    assert run(app, ["snapshot", file, "PENSTOCK", "--compare"]).exit_code == 2
    said = run(app, ["snapshot", file, "PENSTOCK", "--why", "before the show"]).stdout
    assert " settings kept in hall.welvo" in said
    kept = next(d for d in load_rig_file(Path(file)).devices.values() if d.name == "PENSTOCK").snapshots
    assert kept[-1].why == "before the show" and kept[-1].values["6.brightness"] == 80
    assert run(app, ["snapshot", file, "penstock", "--compare"]).exit_code == 0
    stand_ins.order_fault("127.0.0.50", "refuses", ["6.brightness"])
    assert stand_ins.wait_until_settled()
    code, pushed = as_json("push", file, "PENSTOCK", "--seconds", "1")
    assert code == 1 and pushed["results"]["6.brightness"]["why"] == "this device refuses it"
    stand_ins.order_fault("127.0.0.50", "refuses", [])
    assert stand_ins.wait_until_settled()
    code, pushed = as_json("push", file, "127.0.0.50", "6.brightness", "--seconds", "1")
    assert code == 0 and pushed["results"]["6.brightness"]["outcome"] == "taken"
    code, changed = as_json("snapshot", file, "PENSTOCK", "--compare")
    assert code == 1 and changed["differences"] == [{"setting": "6.brightness", "snapshot": 80, "now": 100}]
    code, pushed = as_json("push", file, "WEIR-2", "A.universe", "--seconds", "1")
    assert code == 0 and pushed["results"]["A.universe"] == {"value": 3, "outcome": "taken", "why": "", "needs": []}
    assert run(app, ["push", file, "PENSTOCK", "--seconds", "1"]).stdout == "PENSTOCK: nothing differs.\n"


def test_why_a_device_is_silent(hall: tuple[str, StandIns]) -> None:
    file, _ = hall
    code, looked = as_json("bring-up", "127.0.0.50", "--rig", file)
    assert (code, looked["cause"]) == (0, "") and looked["tests"][-1]["proof"].startswith("it says ")
    code, looked = as_json("bring-up", "127.0.0.40", "--rig", file)
    assert (code, looked["cause"]) == (1, "silent")
    said = run(app, ["bring-up", "10.0.40.21"])
    assert said.exit_code == 1 and "FAILED  Same network" in said.stdout and "must be 127" in said.stdout


@pytest.mark.parametrize(
    ("args", "why"),
    [
        (["push", "FILE", "NOBODY"], "The rig has no device “NOBODY”"),
        (["push", "FILE", "PENSTOCK", "6.colour"], "Nothing is planned for “6.colour”"),
        (["push", "FILE", "PENSTOCK", "--acts", "explode"], "--acts are save, apply and restart"),
        (["bring-up", "10.0.40"], "has 3 parts"),
        (["bring-up", "127.0.0.50", "--model", "toaster"], "There is no shipped model"),
        (["devices", "FILE", "--interface", "10.99.99.99"], "No interface of this computer has the address"),
    ],
)
def test_what_cannot_be_done_is_said(tmp_path: Path, args: list[str], why: str) -> None:
    save_rig_file(make_gallery(), tmp_path / "g.welvo")
    done = run(app, [str(tmp_path / "g.welvo") if a == "FILE" else a for a in args])
    assert done.exit_code == 2 and why in done.stderr
