"""`welvo diff`, `merge` and `version`."""

from __future__ import annotations

import json
from pathlib import Path

from click.testing import CliRunner
from msgspec.structs import replace

from tests.conftest import small_rig
from welvo.cli import app
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.rig import edits

run = CliRunner().invoke


def test_versions_are_named_compared_and_merged(tmp_path: Path) -> None:
    base, mine, theirs, out = (tmp_path / f"{n}.welvo" for n in ("base", "mine", "theirs", "out"))
    rig = small_rig()
    save_rig_file(rig, base)
    assert "no versions yet" in run(app, ["version", str(base)]).output
    assert "Issue 1" in run(app, ["version", str(base), "--name", "next"]).output
    assert run(app, ["version", str(base), "--name", "issue 1"]).exit_code == 2
    save_rig_file(edits.move_item(load_rig_file(base), "a", 0, "u1", 101)[0], mine)
    save_rig_file(edits.move_item(load_rig_file(base), "a", 0, "u1", 301)[0], theirs)
    same = run(app, ["diff", str(base), f"{base}#issue 1"])
    assert same.exit_code == 0 and "nothing is different" in same.output
    other = run(app, ["diff", f"{mine}#Issue 1", str(mine), "--json"])
    assert other.exit_code == 1 and json.loads(other.output)[0]["after"] == "1.101"
    assert "It has: Issue 1." in run(app, ["diff", f"{mine}#Issue 4", str(mine)]).stderr

    met = run(app, ["merge", str(base), str(mine), str(theirs), "--to", str(out)])
    assert (
        met.exit_code == 1 and not out.exists() and "both changed 101, address: a has 1.101, b has 1.301" in met.output
    )
    done = run(app, ["merge", str(base), str(mine), str(theirs), "--to", str(out), "--prefer", "b", "--json"])
    assert done.exit_code == 0 and json.loads(done.output)["written"]
    assert load_rig_file(out).fixtures["a"].at[0].address == 301
    save_rig_file(replace(load_rig_file(base), name="Other"), theirs)
    assert run(app, ["merge", str(base), str(mine), str(theirs), "--to", str(out)]).exit_code == 0
    assert load_rig_file(out).name == "Other" and load_rig_file(out).fixtures["a"].at[0].address == 101
    assert run(app, ["merge", str(base), str(mine), str(theirs), "--to", str(tmp_path / "x.txt")]).exit_code == 2
