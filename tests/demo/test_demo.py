from __future__ import annotations

import json

import pytest
from click.testing import CliRunner

from tests.cli.test_json import hold
from welvo.cli import app
from welvo.demo import run as demo
from welvo.demo.gallery import make_gallery
from welvo.rig.document import Rig


def test_the_whole_example_runs_headless_and_is_true() -> None:
    done = CliRunner().invoke(app, ["demo", "--json"])
    answer = hold("demo", json.loads(done.stdout))
    said = answer["steps"]
    assert done.exit_code == 0 and answer["verified"], said
    assert said[-1] == "Everything above was verified." and any(
        "came out" in s or "comes out at port A" in s for s in said
    )


def test_something_untrue_is_told_and_gives_1(monkeypatch: pytest.MonkeyPatch) -> None:
    def half() -> Rig:
        from msgspec.structs import replace

        return replace(make_gallery(), shares={})

    monkeypatch.setattr(demo, "make_gallery", half)
    said: list[str] = []
    assert demo.run_headless(said.append) == 1 and said[-1].startswith("NOT TRUE: findings on paper")
