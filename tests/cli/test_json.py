"""What commands print with `--json` is what docs/json.md promises."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import click
import jsonschema
import pytest
from click.testing import CliRunner

from welvo.cli import app
from welvo.cli.answers import ANSWERS
from welvo.demo.gallery import make_gallery
from welvo.formats.rigfile import save_rig_file
from welvo.formats.schema import schemas_of
from welvo.formats.versions import name_version
from welvo.rig.document import Rig

SCHEMA = schemas_of(ANSWERS, "urn:x", "x")
AFTER_A_DEVICE = {"blackout", "bring-up", "demo", "devices", "disarm", "git", "lamps", "listen", "play", "push",
                  "record", "send", "snapshot", "standins", "why"}  # fmt: skip
"""Commands that are held against the schema where a test runs them for real."""


def hold(command: str, answer: Any) -> Any:
    """An answer, held against what is promised for the command."""
    jsonschema.validate(answer, {**SCHEMA, "$ref": f"#/$defs/{command}"})
    return answer


@pytest.fixture(scope="module")
def hall(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("json") / "hall.welvo"
    save_rig_file(name_version(make_gallery(), "Issue 1", "", "to the crew", 1e9)[0], path)
    return path


def test_every_command_with_json_has_a_promise_and_no_other() -> None:
    with_json = {n for n, c in app.commands.items() if any("--json" in p.opts for p in c.params)}
    assert with_json == set(ANSWERS) and set(app.commands) - with_json == {"open", "text"}


ASKED = [
    ["check", "@"], ["check", "@", "@"], ["convert", "@", "new.json"], ["cycle", "@", "colours", "--of", "203"],
    ["diff", "empty.json", "@"], ["export", "@", "--to", "list.csv"], ["export", "@", "--to", "x", "--list", "list"],
    ["import", "@", "list.csv"], ["merge", "@", "@", "@", "--to", "m.welvo"], ["patch", "@"],
    ["patch", "@", "--lay", "503-506"], ["patch", "@", "--pack", "3"], ["patch", "@", "--how-many", "20"],
    ["patch", "@", "--mode", "201-206=9 slot"], ["patch", "@", "--capacity"], ["patch", "@", "--wires"],
    ["path", "@", "207"], ["profile", "p.txt"], ["runs", "@"], ["sheets", "@"],
    ["sheets", "@", "--which", "patch", "--to", "p.pdf"], ["version", "@"], ["desktop", "install", "--prefix", "own"],
    ["desktop", "uninstall", "--prefix", "own"],
]  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("answers")
    save_rig_file(Rig(), made / "empty.json")
    (made / "p.txt").write_text("pan 16, tilt 16, dimmer")
    return made


@pytest.mark.parametrize("words", ASKED, ids=" ".join)
def test_an_answer_is_as_promised(words: list[str], hall: Path, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(folder)
    if words[:2] == ["import", "@"]:
        CliRunner().invoke(app, ["export", str(hall), "--to", "list.csv"])
    done = CliRunner().invoke(app, [w.replace("@", str(hall)) for w in words] + ["--json"])
    assert done.exit_code in (0, 1), done.stderr
    answer = hold(words[0], json.loads(done.stdout))
    assert answer not in ({}, []), "an empty answer promises nothing"


def test_the_promise_can_be_broken() -> None:
    with pytest.raises(jsonschema.ValidationError):
        hold("path", {"target": "1"})
    good = {"written": "x", "fixtures": 1, "universes": 2}
    assert hold("convert", good)
    with pytest.raises(jsonschema.ValidationError):
        hold("convert", {**good, "more": 1})


def test_every_promise_is_held_by_a_test() -> None:
    assert {words[0] for words in ASKED} | AFTER_A_DEVICE == set(ANSWERS)
    tests = "".join(p.read_text() for p in Path(__file__).parents[1].glob("*/test_*.py"))
    for command in AFTER_A_DEVICE:
        assert f'hold("{command}"' in tests, command


def test_every_option_and_argument_has_words() -> None:
    for name, command in app.commands.items():
        for p in command.params:
            if isinstance(p, click.Option | click.Argument) and not getattr(p, "hidden", False):
                assert p.help, (name, p.name)
