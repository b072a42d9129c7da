"""`welvo import` and `welvo export`."""

from __future__ import annotations

import json
from pathlib import Path

from click.testing import CliRunner

from tests.conftest import small_rig
from welvo.cli import app
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.formats.workbooks import read_grid

run = CliRunner().invoke


def test_lists_go_out_and_tables_come_in(tmp_path: Path) -> None:
    rig = tmp_path / "a.welvo"
    save_rig_file(small_rig(), rig)
    assert "segments" in run(app, ["export", str(rig), "--to", "x.csv", "--list", "list"]).output
    for name in ("p.csv", "p.xlsx", "p.ods"):
        assert run(app, ["export", str(rig), "--to", str(tmp_path / name)]).exit_code == 0
        same = run(app, ["import", str(rig), str(tmp_path / name), "--json"])
        assert {r["state"] for r in json.loads(same.output)["rows"]} == {"same"}, same.output
    assert run(app, ["export", str(rig), "--to", str(tmp_path / "f.ods"), "--list", "findings"]).exit_code == 0
    assert read_grid(tmp_path / "f.ods").rows[0][0] == "Severity"

    table = tmp_path / "other.csv"
    table.write_text("Fix,What,Uni,Adr,Rig\n301,B4,2,50,T1\n302,odd,2,90,T1\n")
    out = tmp_path / "out.welvo"
    wrong = run(app, ["import", str(rig), str(table), "--to", str(out)])
    assert wrong.exit_code == 2 and "which column is the number" in wrong.stderr and not out.exists()
    said = ["--column", "Fix=number", "--column", "What=profile", "--column", "Adr=first", "--column", "Rig=Truss"]
    half = run(app, ["import", str(rig), str(table), "--to", str(out), *said, "--type", "B4=Bar · only"])
    assert half.exit_code == 1 and "1 new, 0 changed, 0 same, 1 refused; written to out.welvo" in half.output
    assert "no profile for “odd” (1 rows)" in half.stderr
    made = next(f for f in load_rig_file(out).fixtures.values() if f.number == 301)
    assert made.fields == {"Truss": "T1"} and made.at[0].address == 50
    for more, why in ((["--column", "Hat=number"], "names no column"), (["--type", "B4"], "says no mode")):
        assert why in run(app, ["import", str(rig), str(table), *more]).stderr


def test_a_scene_goes_out_and_comes_in(tmp_path: Path) -> None:
    rig, scene, out = tmp_path / "a.welvo", tmp_path / "a.mvr", tmp_path / "b.welvo"
    save_rig_file(small_rig(), rig)
    done = run(app, ["export", str(rig), "--to", str(scene)])
    assert done.exit_code == 0 and "3 fixtures written to a.mvr" in done.output and "1 element" in done.stderr
    again = run(app, ["import", str(rig), str(scene), "--to", str(out)])
    assert again.exit_code == 0 and len(load_rig_file(out).fixtures) == 3, again.output
    (tmp_path / "bad.mvr").write_bytes(b"junk")
    assert run(app, ["import", str(rig), str(tmp_path / "bad.mvr")]).exit_code == 2
    assert run(app, ["import", str(rig), str(scene), "--to", "x.doc"]).exit_code == 2
    assert "no list “hats”" in run(app, ["export", str(rig), "--to", "x.csv", "--list", "hats"]).stderr
    assert run(app, ["export", str(rig), "--to", str(tmp_path / "x.doc")]).exit_code == 2
