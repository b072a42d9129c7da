"""A rig in a git repository, with a real git: two branches that both changed it, a clash, and differences in words."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from click.testing import CliRunner

from tests.cli.test_json import hold
from tests.conftest import small_rig
from welvo.cli import app
from welvo.formats.rigfile import load_rig_file, rig_from_bytes, rig_to_bytes, save_rig_file
from welvo.formats.text_listing import list_whole_rig
from welvo.patch.index import Index
from welvo.rig import edits

pytestmark = pytest.mark.skipif(not shutil.which("git"), reason="no git on this machine")
WELVO = str(Path(sys.executable).with_name("welvo"))


class Repository:
    def __init__(self, top: Path) -> None:
        self.top = top
        self.rig = top / "hall.welvo"
        self.git("init", "-q", "-b", "main")
        for key, value in (("user.name", "Crew"), ("user.email", "crew@gallery.invalid"), ("commit.gpgsign", "false")):
            self.git("config", key, value)

    def git(self, *words: str, code: int = 0) -> str:
        done = subprocess.run(["git", *words], cwd=self.top, capture_output=True, text=True, timeout=300,
                              env={**os.environ, "GIT_CONFIG_NOSYSTEM": "1", "HOME": str(self.top)})  # fmt: skip
        assert done.returncode == code, (words, done.returncode, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def commit(self, words: str) -> None:
        self.git("add", "-A")
        self.git("commit", "-q", "-m", words)


@pytest.fixture
def repository(tmp_path: Path) -> Repository:
    top = tmp_path / "öpening night"  # a blank and an umlaut in every path git hands over
    top.mkdir()
    made = Repository(top)
    save_rig_file(small_rig(), made.rig)
    done = subprocess.run([WELVO, "git", str(top), "--json"], capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stderr
    said = hold("git", json.loads(done.stdout))
    assert said["repository"] == str(top) and len(said["did"]) == 5
    made.commit("the hall")
    return made


def test_it_says_what_it_did_once_and_can_be_taken_out(repository: Repository) -> None:
    assert (repository.top / ".gitattributes").read_text().endswith("*.welvo merge=welvo diff=welvo\n")
    run = CliRunner().invoke
    assert (
        "nothing was left" in subprocess.run([WELVO, "git"], cwd=repository.top, capture_output=True, text=True).stdout
    )
    assert "took merge.welvo" in run(app, ["git", str(repository.top), "--remove"]).stdout
    assert "merge.welvo" not in repository.git("config", "--local", "--list")
    none = run(app, ["git", str(repository.top.parent)])
    assert none.exit_code == 2 and "not a git repository" in none.stderr


def change(repository: Repository, branch: str, new: object, words: str) -> None:
    repository.git("checkout", "-q", "-B", branch, "main")
    save_rig_file(new, repository.rig)  # type: ignore[arg-type]
    repository.commit(words)


def test_two_branches_that_both_changed_the_rig_come_together(repository: Repository) -> None:
    rig = small_rig()
    change(repository, "left", edits.move_item(rig, "a", 0, "u1", 101)[0], "101 to 1.101")
    change(repository, "right", edits.set_fixtures(rig, "name", {"c": {"name": "Bar of the tunnel"}})[0], "a name")
    repository.git("merge", "-q", "-m", "both", "left")
    both = load_rig_file(repository.rig)
    assert both.fixtures["a"].at[0].address == 101 and both.fixtures["c"].name == "Bar of the tunnel"
    assert sorted(p.name for p in repository.top.iterdir()) == [".git", ".gitattributes", "hall.welvo"]
    assert not repository.git("status", "--porcelain")


def test_a_clash_is_listed_and_settled(repository: Repository) -> None:
    rig = small_rig()
    change(repository, "left", edits.move_item(rig, "a", 0, "u1", 101)[0], "101 to 1.101")
    change(repository, "right", edits.move_item(rig, "a", 0, "u1", 201)[0], "101 to 1.201")
    said = repository.git("merge", "left", code=1)
    assert "both changed 101, address: a has 1.201, b has 1.101" in said and "CONFLICT" in said
    assert load_rig_file(repository.rig).fixtures["a"].at[0].address == 201  # ours, whole, until it is decided
    stages = [f":{n}:hall.welvo" for n in (1, 2, 3)]
    done = subprocess.run([WELVO, "merge", *stages, "--to", "hall.welvo", "--prefer", "b"], cwd=repository.top,
                          capture_output=True, text=True, timeout=300)  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert load_rig_file(repository.rig).fixtures["a"].at[0].address == 101
    repository.commit("settled")


def test_differences_are_read_in_words(repository: Repository) -> None:
    save_rig_file(edits.move_item(small_rig(), "a", 0, "u1", 101)[0], repository.rig)
    said = repository.git("diff")
    changed = [line for line in said.splitlines() if line[:1] in "+-" and line[:3] not in ("+++", "---")]
    assert changed == ["-  stands at 1.001", "-  at.1.address = 1", "+  stands at 1.101", "+  at.1.address = 101"]
    asked = subprocess.run([WELVO, "diff", "HEAD:hall.welvo", "hall.welvo"], cwd=repository.top, capture_output=True,
                           text=True, timeout=300)  # fmt: skip
    assert "1.001 → 1.101" in asked.stdout
    none = subprocess.run([WELVO, "diff", "HEAD:gone.welvo", "hall.welvo"], cwd=repository.top, capture_output=True,
                          text=True, timeout=300)  # fmt: skip
    assert none.returncode == 2 and "git has nothing of that name" in none.stderr


def test_a_rig_that_was_not_changed_changes_no_byte(repository: Repository) -> None:
    before, stamp = repository.rig.read_bytes(), repository.rig.stat().st_mtime_ns
    save_rig_file(load_rig_file(repository.rig), repository.rig)
    assert repository.rig.read_bytes() == before and repository.rig.stat().st_mtime_ns == stamp
    assert rig_to_bytes(load_rig_file(repository.rig)) == before == rig_to_bytes(small_rig())
    save_rig_file(edits.move_item(small_rig(), "a", 0, "u1", 101)[0], repository.rig)
    save_rig_file(small_rig(), repository.rig)  # there and back again
    assert not repository.git("status", "--porcelain")
    assert load_rig_file(repository.top / ".git" / "welvo" / "hall.welvo~").fixtures["a"].at[0].address == 101


def test_the_driver_takes_an_empty_beginning_and_keeps_json_as_json(tmp_path: Path) -> None:
    base, a, b = tmp_path / ".merge_file_a", tmp_path / ".merge_file_b", tmp_path / ".merge_file_c"
    base.write_bytes(b"")
    save_rig_file(small_rig(), tmp_path / "x.json")
    a.write_bytes((tmp_path / "x.json").read_bytes())
    b.write_bytes(rig_to_bytes(small_rig()))
    done = CliRunner().invoke(app, ["merge", "--driver", str(base), str(a), str(b), "--to", str(a)])
    assert done.exit_code == 0, done.output
    assert a.read_bytes().startswith(b"{") and rig_from_bytes(a.read_bytes()) == small_rig()


def test_the_listing_names_everything_and_hides_nothing() -> None:
    lines = list_whole_rig(Index(small_rig())).splitlines()
    assert "fixture 101 (a)" in lines and "  stands at 1.009" in lines and "universe Universe 1 (u1)" in lines
    assert "  ports.A.run.1.fixtures = a, b" in lines
    assert [line for line in lines if line.startswith("fixture")] == [
        "fixture 101 (a)", "fixture 102 (b)", "fixture 201 (c)",
    ]  # fmt: skip
