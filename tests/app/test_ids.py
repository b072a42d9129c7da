"""An id may be any text: the demo works the same with ids that hold blanks, tabs, colons, slashes and brackets."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner

from welvo.checks.checker import check_rig
from welvo.cli import app
from welvo.demo.gallery import make_gallery
from welvo.formats.rigfile import from_plain, save_rig_file, to_json
from welvo.patch.index import Index
from welvo.rig.document import Rig

PARTS = (
    "profiles",
    "fixtures",
    "elements",
    "universes",
    "senders",
    "feeds",
    "devices",
    "uses",
    "supplies",
    "groups",
    "shares",
)


def nasty(rig: Rig) -> tuple[Rig, dict[str, str]]:
    """The same rig, its ids replaced by ones that no string of several ids could be taken apart at."""
    plain = json.loads(to_json(rig))
    new = {key: f"{part} {n}\t:{key}/[1]+; “{n}”" for part in PARTS for n, key in enumerate(plain.get(part, {}))}

    def walk(value: Any) -> Any:
        if isinstance(value, dict):
            return {changed(k): v if k in ("name", "code") else walk(v) for k, v in value.items()}
        if isinstance(value, list):
            return [walk(v) for v in value]
        return new.get(value, value) if isinstance(value, str) else value

    def changed(key: str) -> str:
        owner, colon, rest = key.rpartition(":")  # a break behind a bridge: fixture:1
        return new.get(key) or (f"{new[owner]}:{rest}" if colon and owner in new else key)

    moved = {part: walk(value) for part, value in plain.items() if part != "name"}
    return from_plain({**moved, "name": rig.name}), new


@pytest.fixture(scope="module")
def both() -> tuple[Rig, Rig, dict[str, str]]:
    rig = make_gallery()
    return rig, *nasty(rig)


def test_checks_and_index_say_the_same(both: tuple[Rig, Rig, dict[str, str]]) -> None:
    rig, other, new = both
    told = lambda r: sorted((f.code, f.title, f.where) for f in check_rig(r).findings)  # noqa: E731
    assert told(other) == told(rig) and len(told(rig)) > 30
    a, b = Index(rig), Index(other)
    for key in (*rig.fixtures, *rig.elements):
        old, now = a.spans_of(key), b.spans_of(new[key])
        assert [(new[s.universe], s.first, s.last) for s in old] == [(s.universe, s.first, s.last) for s in now]


def test_the_command_line_and_a_file_take_them(both: tuple[Rig, Rig, dict[str, str]], tmp_path: Path) -> None:
    rig, other, _ = both
    for name, r in (("plain", rig), ("nasty", other)):
        save_rig_file(r, tmp_path / f"{name}.welvo")
    for args in (["check"], ["path", "207"], ["runs"], ["patch", "--wires"], ["patch", "--capacity"]):
        said = [CliRunner().invoke(app, [args[0], str(tmp_path / f"{n}.welvo"), *args[1:]]) for n in ("plain", "nasty")]
        assert said[0].exit_code == said[1].exit_code, (args, said[1].output, said[1].exception)
        assert said[0].output.replace("plain", "") == said[1].output.replace("nasty", ""), args


def test_the_window_goes_everywhere_and_edits(both: tuple[Rig, Rig, dict[str, str]], make: Any) -> None:
    _, other, _ = both
    window = make(other)
    for f in window.session.report.findings:
        window.go(f.goes_to)
        for fix in f.possible_fixes[:1]:
            if fix.edit:
                window.session.make_edit(fix.edit)
                window.session.undo_edit()
    for key in other.devices:
        window.show_station("Runs")
        window.runs.choose_device(key)
    assert window.session.rig == other
