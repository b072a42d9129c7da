"""`make install` and `make uninstall` take out what they put there and nothing else. (.ci/run does both for real.)"""

from __future__ import annotations

import os
import runpy
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

ROOT = Path(__file__).parents[1]
SCRIPT = ROOT / "scripts" / "put-in-place.py"
OURS: dict[str, Any] = runpy.run_path(str(SCRIPT))
LIST = OURS["LIST"]


def installed(prefix: Path) -> None:
    """A prefix as an installation leaves it, without the weight of the parts."""
    program = prefix / OURS["PROGRAM"]
    folders = OURS["make_folders"](prefix, program / "lib") | OURS["make_folders"](prefix, prefix / "bin")
    (program / "lib" / "a.py").write_text("a")
    (program / "lib" / "way").symlink_to(prefix)  # a venv has links to folders; what they lead to is not ours
    (prefix / OURS["COMMAND"]).symlink_to(program / "bin" / "welvo")
    OURS["write_list"](prefix, folders)


def uninstall(prefix: str | Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, str(SCRIPT), "uninstall"], env={**os.environ, "PREFIX": str(prefix)},
                          capture_output=True, text=True, timeout=300)  # fmt: skip


def everything(folder: Path) -> set[str]:
    return {str(p.relative_to(folder)) for p in folder.rglob("*")}


def test_all_that_was_put_there_goes_and_the_rest_stays(tmp_path: Path) -> None:
    (tmp_path / "sp").mkdir()
    (tmp_path / "sp" / "precious").write_text("x")  # what an unquoted “…/sp ace” once removed
    prefix = tmp_path / "sp äce"
    installed(prefix)
    compiled = prefix / OURS["PROGRAM"] / "lib" / "__pycache__"
    compiled.mkdir()
    (compiled / "a.cpython-311.pyc").write_text("made while it ran")
    done = uninstall(prefix)
    assert done.returncode == 0, done.stderr
    assert everything(tmp_path) == {"sp", "sp/precious"}


def test_files_of_somebody_else_stay_where_they_are_and_are_told(tmp_path: Path) -> None:
    (tmp_path / "bin").mkdir()
    installed(tmp_path)
    (tmp_path / OURS["PROGRAM"] / "lib" / "mine.txt").write_text("x")
    (tmp_path / OURS["PROGRAM"] / "lib" / "__pycache__").mkdir()
    (tmp_path / OURS["PROGRAM"] / "lib" / "__pycache__" / "notes.txt").write_text("x")
    done = uninstall(tmp_path)
    assert "2 files" in done.stdout and "stay" in done.stdout
    left = {p for p in everything(tmp_path) if (tmp_path / p).is_file()}
    assert left == {f"{OURS['PROGRAM']}/lib/mine.txt", f"{OURS['PROGRAM']}/lib/__pycache__/notes.txt"}
    assert (tmp_path / "bin").is_dir()  # it was there before


def test_a_command_of_another_origin_is_neither_replaced_nor_removed(tmp_path: Path) -> None:
    installed(tmp_path)
    (tmp_path / "bin" / "welvo").unlink()
    (tmp_path / "bin" / "welvo").write_text("somebody's own")
    env = {**os.environ, "PREFIX": str(tmp_path)}
    done = subprocess.run(
        [sys.executable, str(SCRIPT), "install"], env=env, capture_output=True, text=True, timeout=300
    )
    assert done.returncode == 2 and "is not ours" in done.stderr
    assert uninstall(tmp_path).returncode == 0 and (tmp_path / "bin" / "welvo").read_text() == "somebody's own"


@pytest.mark.parametrize(
    ("text", "says"),
    [("", "is empty"), ("  ", "is empty"), ("/", "system itself"), ("here", "no whole path"),
     ("/a/../b", "no whole path"), ("/a:b", "colon"), ("/a\nb", "colon"), (str(SCRIPT), "is a file")],
)  # fmt: skip
def test_an_odd_prefix_is_refused(text: str, says: str) -> None:
    path, why = OURS["read_prefix"](text)
    assert path is None and says in why
    done = uninstall(text)
    assert done.returncode == 2 and says in done.stderr and len(done.stderr.splitlines()) == 1


def test_without_its_list_nothing_is_removed(tmp_path: Path) -> None:
    installed(tmp_path)
    before = everything(tmp_path)
    (tmp_path / LIST).write_text("junk")
    assert uninstall(tmp_path).returncode == 2 and everything(tmp_path) == before
    (tmp_path / LIST).write_text('{"files": ["../x", "/etc/passwd", "share/other"], "folders": [".."]}')
    (tmp_path.parent / "x").write_text("kept")
    uninstall(tmp_path)
    assert (tmp_path.parent / "x").exists() and Path("/etc/passwd").exists()


def test_the_lock_has_every_part_once_for_each_python_and_with_hashes() -> None:
    text = (ROOT / "requirements.lock").read_text("utf-8")
    program, build, tests = (OURS["locked_parts"](s) for s in ("program", "build", "tests"))
    assert program in text and build in text and tests in text
    parts = [e for e in text.split("\n") if e[:1].isalpha()]
    assert all("==" in p and p.rstrip().endswith("\\") for p in parts)
    assert text.count("--hash=sha256:") > 10 * len(parts) and "://" not in text
    assert {"click", "msgspec", "numpy", "pyside6-essentials"} <= {
        p.split("==")[0] for p in program.split("\n") if "==" in p
    }
    assert "pytest==" in tests and "pytest" not in program and "hatchling==" in build


def test_every_part_that_is_imported_is_declared() -> None:
    import ast
    import tomllib

    project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
    declared = {d.split(">")[0].split(";")[0].lower() for d in project["dependencies"]}
    names = {"PySide6": "pyside6-essentials", "shiboken6": "pyside6-essentials", "PIL": "pillow", "serial": "pyserial",
             "tomli_w": "tomli-w", "python_calamine": "python-calamine", "Xlib": "python-xlib"}  # fmt: skip
    found = set()
    for file in (ROOT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text("utf-8"))):
            modules = [node.module] if isinstance(node, ast.ImportFrom) and not node.level else []
            modules += [a.name for a in node.names] if isinstance(node, ast.Import) else []
            found |= {m.split(".")[0] for m in modules if m}
            assert not any("._" in (m or "") and m.split(".")[0] not in ("welvo",) for m in modules), (file, modules)
    outside = {names.get(m, m.lower()) for m in found - set(sys.stdlib_module_names) - {"welvo"}}
    assert outside == declared
    assert all("<" in d for d in project["dependencies"])  # none may take a release that breaks
