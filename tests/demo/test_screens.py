"""The pictures of the documentation: each shows what it is said to show, and no two are the same."""

from __future__ import annotations

import hashlib
import os
import subprocess
import sys
from itertools import combinations
from pathlib import Path

import pytest
from PIL import Image

from tests.app.conftest import make  # noqa: F401
from welvo.app.screens import SHOTS, SHOWN
from welvo.demo.gallery import make_gallery
from welvo.rig.refs import Goto

PICTURES = Path(__file__).parents[2] / "docs" / "screenshots"


def content(picture: Path) -> str:
    return hashlib.sha256(Image.open(picture).convert("RGB").tobytes()).hexdigest()


def test_no_two_pictures_of_the_documentation_are_the_same() -> None:
    assert {p.stem for p in PICTURES.glob("*.png")} == set(SHOTS) == set(SHOWN) and len(SHOTS) < 20
    known = {p.stem: content(p) for p in PICTURES.glob("*.png")}
    assert [(a, b) for a, b in combinations(known, 2) if known[a] == known[b]] == []


def test_pictures_are_drawn_of_what_they_are_said_to_show(tmp_path: Path) -> None:
    own = {n: str(tmp_path / "home") for n in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME")}
    few = {"profiles", "face-editor", "patch", "runs", "foreseen-run", "foreseen-mode", "devices-find"}  # of all
    words = [sys.executable, "-m", "welvo.app.screens", str(tmp_path / "made"), *few]
    done = subprocess.run(words, env={**os.environ, **own},
                          capture_output=True, text=True, timeout=580)  # fmt: skip
    assert done.returncode == 0, done.stderr[-1500:]  # it holds each picture against SHOWN itself
    made = {p.stem: content(p) for p in (tmp_path / "made").glob("*.png")}
    assert set(made) == few and len(few) > 5 and len(set(made.values())) == len(made)


def test_a_pick_of_what_is_not_there_is_refused_aloud(make) -> None:  # type: ignore[no-untyped-def]  # noqa: F811
    window = make(make_gallery())
    window.show_station("Runs")
    devices = {d.name: k for k, d in window.session.rig.devices.items()}
    window.go(Goto("device", devices["WEIR-2"]))
    window.show_station("Runs")
    before = window.session.selection
    for port, n, says in (("2", 1, "WEIR-2 has no port “2”"), ("A", 7, "no segment 8"), ("", 0, "no port")):
        with pytest.raises(LookupError, match=says):
            window.runs.pick_place(port, n, 18)
    assert window.session.selection == before
    window.runs.pick_place("A", 0, 0)
    assert window.session.selection != before
