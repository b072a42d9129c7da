"""The tests' share of `make fuzz`: half a minute with fixed seeds, and each input that ever broke something."""

from __future__ import annotations

import importlib.util
import random
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from msgspec.structs import replace
from PySide6.QtWidgets import QApplication

from tests.app.conftest import Recorder, make, own_folders  # noqa: F401
from tests.fuzz import captures, every_edit, files, foreseen, gateways, merges, packets, tables, texts
from tests.fuzz.acts import Acts, widgets
from tests.fuzz.random_edits import EDITS, Trail
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.formats.chart import read_chart
from welvo.formats.chart_write import write_chart
from welvo.rig import edits
from welvo.rig.document import Rig
from welvo.rig.patched import Place

ON = lambda: True  # noqa: E731


def test_packets() -> None:
    assert packets.knock(11, 40_000, ON) == (40_000, "")


def test_files(own_folders: None) -> None:  # noqa: F811
    assert files.knock(11, 250, ON) == (250, "")


def test_charts_and_models() -> None:
    for hunt, count in ((texts.hunt_text, 250), (texts.hunt_channels, 250), (texts.hunt_model, 500)):
        for n in range(count):
            assert hunt(random.Random(f"share {n}")) == "", (hunt.__name__, n)


def test_edits_follow_undo_and_come_again() -> None:
    done: set[str] = set()
    for seed in range(6):
        trail = Trail(seed)
        for step in range(25):
            trail.step()
            assert trail.wrong(findings=step % 8 == 7) == "", seed
        done |= set(trail.done)
    assert len(done) > 40 and len(EDITS) >= 66


def test_what_is_foreseen_is_what_comes() -> None:
    for seed in range(4):
        assert foreseen.knock(f"share {seed}", 40, ON) == (40, "")


def test_every_edit_there_is_has_its_preview_held() -> None:
    assert [f for f in every_edit.edit_functions() if not every_edit.where_held(f)] == []
    assert set(every_edit.EXCUSED) < set(every_edit.edit_functions()) and len(every_edit.edit_functions()) > 100
    trials = (Path(__file__).parents[2] / "docs" / "trials.md").read_text()
    assert every_edit.table() in trials, "print it anew: python -m tests.fuzz.every_edit"


def test_kills_while_saving_lose_nothing(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "tests.fuzz.kills", "11", "15", str(tmp_path)]
    done = subprocess.run(command, capture_output=True, text=True, cwd=Path(__file__).parents[2], timeout=300)
    assert done.returncode == 0, done.stdout + done.stderr


def test_acts_in_the_window(make: Callable[[Rig], Window], engines: list[Recorder]) -> None:  # noqa: F811
    window = make(make_gallery())
    for seed in (21, 22):
        window.session.replace_rig(make_gallery(), None)
        assert Acts(window, seed).run(60, 30.0) == ""
    window.session.replace_rig(make_gallery(), None)


@pytest.fixture
def engines(monkeypatch: pytest.MonkeyPatch) -> list[Recorder]:
    made: list[Recorder] = []

    def start(*args: object, **more: object) -> Recorder:
        made.append(Recorder(*args, **more))  # type: ignore[arg-type]
        return made[-1]

    monkeypatch.setattr("welvo.app.jobs.output.EngineProcess", start)
    return made


def test_a_window_does_not_grow_with_what_is_opened_and_closed(make: Callable[[Rig], Window]) -> None:  # noqa: F811
    from tests.app.conftest import in_dialog

    window = make(make_gallery())
    runs = window.runs
    counts: list[int] = []
    for _ in range(4):
        for open_ in (
            window.files.rename,
            runs.edit_kinds,
            runs.edit_supplies,
            runs.edit_models,
            window.patch.add_fixtures,
        ):
            in_dialog(lambda d: d.done(0))
            open_()
        for menu in (runs.make_menu(), window.patch.item_menu()):
            menu.popup(window.mapToGlobal(window.rect().center()))
            menu.close()
        QApplication.processEvents()
        counts.append(widgets(window))
    assert counts[1:] == [counts[1]] * 3, counts


# ---- each input that ever broke something


def test_a_lamp_that_leaves_a_bridge_moves_those_behind_it() -> None:
    """The live index showed them where they had been, and sent them there."""
    from welvo.patch.index import Index

    rig = make_gallery()
    device, label, n = next(
        (d, p, n)
        for d, v in rig.devices.items()
        for p, port in v.ports.items()
        for n, s in enumerate(port.run)
        if s.kind == "bridge" and len(s.fixtures) > 2
    )
    lamps = rig.devices[device].ports[label].run[n].fixtures
    at = {k: (Place(from_run=True),) for k in lamps}
    rig, _ = edits.set_fixtures(rig, "", {k: {"at": v} for k, v in at.items()})
    index = Index(rig)
    left, change = edits.set_fixtures(rig, "", {lamps[0]: {"at": (Place(universe="u1", address=400),)}})
    index.follow_change(left, change)
    built = Index(left)
    assert [index.spans_of(k) for k in lamps] == [built.spans_of(k) for k in lamps]
    assert index.spans_of(lamps[1]) != Index(rig).spans_of(lamps[1])


@pytest.mark.parametrize(
    "text",
    [
        "blue/2 lsb 2 x ( planes 3 x ( gap 3 amber amber \n5-7  x ; \n5-7 ", "gap - wobble , planes 3 x ( , lsb green",
        "red/3 lsb = ? 16 zoom \nbreak B: \n1  /2 blue/2 \n5-7  gobo", "red/1 fine zoom", "1+4 ?/5 16, gap, red, gap",
        ", gap wobble \n1  red/3 pan fine pan - gap 3 highlight 255 red red/1 , lsb",
        "planes 3 x ( blue/2 pan red/3 pan - highlight 255 pan fine lsb white amber lsb gap 3",
    ],
)  # fmt: skip
def test_charts_that_read_otherwise_when_written_back(text: str) -> None:
    mode = read_chart(text).mode_of_chart("m")
    assert read_chart(write_chart(mode)).mode_of_chart("m", mode) == mode, write_chart(mode)


def test_slots_that_stand_apart_are_named() -> None:
    mode = read_chart('pan 16, "fan speed", 4+9 pan 16 = 700, 5+7 red/2 16').mode_of_chart("m")
    assert [c.slots for c in mode.channels] == [(1, 2), (3,), (4, 9), (5, 7)]
    assert mode.channels[2].default == 700 and mode.channels[3].pixel == 2
    assert replace(read_chart(write_chart(mode)).mode_of_chart("m", mode)) == mode
    for bad, says in (("4+4 pan", "cannot be one"), ("1+5000 pan", "cannot be one"), ("1+3 pan, tilt", "")):
        problems = [p.message for p in read_chart(bad).problems]
        assert not says or any(says in p for p in problems), (bad, problems)
    assert any("belong to one function" in p.message for p in read_chart("red, 2+5 pan tilt").problems)


def test_merges_lose_nothing_of_either_in_silence() -> None:
    assert merges.knock(1, 250, ON) == (250, "")
    assert [merges.hostile(f"share {n}") for n in range(15)] == [""] * 15


@pytest.mark.parametrize("case, count", [(tables.case, 60), (gateways.case, 20), (captures.case, 60)])
def test_imports_lamps_and_captures(case: Callable[[str], tuple[int, str]], count: int) -> None:
    for n in range(count):
        assert case(f"share {n}")[1] == "", n


def test_kills_while_editing_lose_nothing_older_than_a_second(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "tests.fuzz.killed_edits", "share", "3", str(tmp_path)]
    done = subprocess.run(command, capture_output=True, text=True, cwd=Path(__file__).parents[2], timeout=300)
    assert done.returncode == 0, done.stdout + done.stderr


def test_the_trial_goes_on_after_a_failure_and_says_how_to_have_it_again(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
        monkeypatch.setenv(name, "/nowhere")  # so that what the script sets ends with this test
    spec = importlib.util.spec_from_file_location("fuzz", Path(__file__).parents[2] / "scripts" / "fuzz.py")
    assert spec and spec.loader
    fuzz = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(fuzz)
    tried: list[str] = []

    def case(seed: str) -> tuple[int, str]:
        tried.append(seed)
        if seed == "7 3":
            raise ValueError("something nobody expected")
        return 10, "it broke" if seed in ("7 1", "7 5") else ""

    kind = fuzz.Kind("things", 1.0, 80, case)
    assert fuzz.run("some", kind, 7, 60.0, None) == 3
    said = capsys.readouterr().out
    assert tried == [f"7 {n}" for n in range(9)] and "81 things" in said.splitlines()[-1]
    assert "again: make fuzz KINDS=some SEED=7 CASE=1" in said and "something nobody expected" in said
    tried.clear()
    assert fuzz.run("some", kind, 7, 60.0, 5) == 1 and tried == ["7 5"]
