"""--dry-run: every command that edits says what it would make different, writes nothing, and exits 1 for harm."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner

from tests.cli.test_json import hold
from tests.survey.test_effects import rig_of_runs
from welvo.checks.foresee import foresee_once
from welvo.cli import app
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.patch.mode_edits import change_mode


@pytest.fixture
def file(tmp_path: Path) -> Path:
    path = tmp_path / "hall.welvo"
    save_rig_file(rig_of_runs(), path)
    return path


def run(*words: str) -> tuple[int, str]:
    done = CliRunner().invoke(app, list(words))
    return done.exit_code, done.stdout + (done.stderr if done.exit_code == 2 else "")


def test_another_mode_says_what_the_engine_says(file: Path) -> None:
    before = file.read_bytes()
    code, said = run("patch", str(file), "--mode", "303=twenty", "--dry-run", "--json")
    answer = hold("patch", json.loads(said))
    rig = load_rig_file(file)
    found = foresee_once(rig, change_mode(rig, ["c"], "p", "w"))
    assert (code, answer["strip"]) == (0, found.strip) and file.read_bytes() == before
    assert [(e["kind"], e["who"]) for e in answer["effects"]] == [(e.kind, e.who) for e in found.effects]
    code, said = run("patch", str(file), "--mode", "303=twenty", "--dry-run")
    assert code == 0 and said.startswith(found.strip) and len(said.splitlines()) == 1 + len(found.lines)


def test_what_runs_past_an_end_or_loses_its_place_exits_with_1(file: Path) -> None:
    code, said = run("runs", str(file), "--attach", "100 RGB moss at 1", "--port", "1", "--dry-run")
    assert code == 0 and "301 from 1.031 to 1.331" in said
    code, said = run("runs", str(file), "--attach", "340 RGB moss at 1", "--port", "1", "--dry-run", "--json")
    answer = hold("runs", json.loads(said))
    assert code in (0, 1) and answer["effects"]
    code, _ = run("patch", str(file), "--lay", "303", "--from", "1.480", "--dry-run")
    assert code == 0  # 304 stands two slots behind, and ends at 497
    code, said = run("patch", str(file), "--lay", "303", "--from", "1.500", "--dry-run")
    assert (code, "304 by 5 slots (universe 1)" in said) == (1, True)


def test_the_first_port_is_taken_where_none_is_named(file: Path) -> None:
    code, said = run("runs", str(file), "--attach", "5 RGB moss", "--dry-run", "--json")
    moss = next(e for e in json.loads(said)["effects"] if e["who"] == "moss")
    assert code == 0 and moss["kind"] == "made" and moss["after"] == "1.055–069"  # behind all that is on port 1


def test_imports_and_merges_are_foreseen(file: Path, tmp_path: Path) -> None:
    table = tmp_path / "list.csv"
    table.write_text("No.,Name,Profile,Mode,Universe,Address\n303,left,Lamp,eight,1,35\n")
    code, said = run("import", str(file), str(table), "--dry-run", "--json")
    answer = hold("import", json.loads(said))
    assert code == 0 and {"meets", "moves"} <= {e["kind"] for e in answer["effects"]}
    other = tmp_path / "theirs.welvo"
    rig = load_rig_file(file)
    save_rig_file(change_mode(rig, ["c"], "p", "w")[0], other)
    new = tmp_path / "m.welvo"
    code, said = run("merge", str(file), str(file), str(other), "--to", str(new), "--dry-run", "--json")
    assert code == 0 and hold("merge", json.loads(said))["effects"] and not new.exists()


@pytest.mark.parametrize("words", [["patch", "@", "--dry-run"], ["runs", "@", "--dry-run"],
                                   ["patch", "@", "--lay", "303", "--dry-run", "--write", "x.welvo"]])  # fmt: skip
def test_nothing_to_try_is_said(file: Path, words: list[str]) -> None:
    code, said = run(*[w.replace("@", str(file)) for w in words])
    assert code == 2 and "--dry-run" in said
