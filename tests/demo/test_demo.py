from __future__ import annotations

import pytest

from welvo.demo import run as demo
from welvo.demo.gallery import gallery
from welvo.rig.document import Rig


def test_the_whole_example_runs_headless_and_is_true() -> None:
    said: list[str] = []
    assert demo.headless(said.append) == 0, said
    assert said[-1] == "Everything above was verified." and any(
        "came out" in s or "comes out at port A" in s for s in said
    )


def test_something_untrue_is_told_and_gives_1(monkeypatch: pytest.MonkeyPatch) -> None:
    def half() -> Rig:
        from msgspec.structs import replace

        return replace(gallery(), shares={})

    monkeypatch.setattr(demo, "gallery", half)
    said: list[str] = []
    assert demo.headless(said.append) == 1 and said[-1].startswith("NOT TRUE: findings on paper")
