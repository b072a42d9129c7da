"""Welvo among the programs of a desktop: files, man page, completions, and the wheel by itself."""

from __future__ import annotations

import configparser
import os
import shutil
import subprocess
import sys
import venv
from pathlib import Path

import pytest
from lxml import etree
from typer.testing import CliRunner

from tests.conftest import small_rig
from welvo.cli import app
from welvo.cli.desktop import LIST, MAN, PLACES, SHELLS, install, man_page, uninstall
from welvo.formats.rigfile import save

run = CliRunner().invoke
ROOT = Path(__file__).parent.parent.parent


def test_what_is_installed_is_whole_and_goes_again(tmp_path: Path) -> None:
    (tmp_path / "share/applications").mkdir(parents=True)
    (tmp_path / "share/applications/other.desktop").write_text("[Desktop Entry]\n")
    written = install(tmp_path, Path("/opt/bin/welvo"))
    assert len(written) == len(PLACES) + 1 + len(SHELLS) and all(w.exists() for w in written)
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str  # type: ignore[assignment, method-assign]
    entry.read(tmp_path / PLACES["welvo.desktop"])
    main = entry["Desktop Entry"]
    assert main["Exec"] == "/opt/bin/welvo open %f" and main["MimeType"] == "application/x-welvo-rig;"
    mime = etree.parse(str(tmp_path / PLACES["welvo-rig.xml"])).getroot()
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    assert mime.find(f"{space}mime-type/{space}glob").get("pattern") == "*.welvo"  # type: ignore[union-attr]
    for name in ("desktop.welvo.Welvo.metainfo.xml", "welvo.svg", "welvo-rig.svg"):
        etree.parse(str(tmp_path / PLACES[name]))
    assert (
        "@"
        not in (tmp_path / PLACES["welvo.desktop"]).read_text()
        + (tmp_path / PLACES["desktop.welvo.Welvo.metainfo.xml"]).read_text()
    )
    assert uninstall(tmp_path) == len(written)
    left = {str(p.relative_to(tmp_path)) for p in tmp_path.rglob("*") if p.is_file()}
    assert {p for p in left if "mimeinfo.cache" not in p and "share/mime" not in p and "icon-theme.cache" not in p} == {
        "share/applications/other.desktop"
    }


def test_a_list_of_files_that_was_tampered_with_takes_nothing_else_out(tmp_path: Path) -> None:
    victim = tmp_path / "victim"
    victim.write_text("x")
    prefix = tmp_path / "prefix"
    install(prefix, Path("welvo"))
    (prefix / LIST).write_text('["../victim", "share/../../victim"]')
    uninstall(prefix)
    assert victim.exists()
    (prefix / LIST).parent.mkdir(parents=True, exist_ok=True)
    (prefix / LIST).write_text("junk")
    assert uninstall(prefix) == len(PLACES) + 1 + len(SHELLS)


def test_the_man_page_tells_every_command_and_renders(tmp_path: Path) -> None:
    page = man_page()
    for command in ("open", "sheets", "diff", "merge", "import", "export", "why", "standins"):
        assert f'.SS "welvo {command}' in page
    assert "\\-\\-cut\\-marks" in page and run(app, ["desktop", "man"]).output == page
    if shutil.which("man"):
        (tmp_path / "welvo.1").write_text(page)
        shown = subprocess.run(["man", "-l", "-P", "cat", str(tmp_path / "welvo.1")], capture_output=True, text=True)
        assert "welvo sheets" in shown.stdout and not shown.stderr.strip()
    assert MAN.endswith("welvo.1")


@pytest.mark.parametrize("shell", list(SHELLS))
def test_completions_name_the_commands(shell: str) -> None:
    script = run(app, ["desktop", shell]).output
    assert "_WELVO_COMPLETE" in script and "welvo" in script
    if shell != "bash":
        return
    asked = {**os.environ, "_WELVO_COMPLETE": "complete_bash", "COMP_WORDS": "welvo she", "COMP_CWORD": "1"}
    said = subprocess.run(
        [str(Path(sys.executable).parent / "welvo")], env=asked, capture_output=True, text=True, timeout=60
    )
    assert said.stdout.split() == ["sheets"], said.stderr


def test_the_built_wheel_runs_by_itself_in_a_clean_environment(tmp_path: Path) -> None:
    """Nothing of this checkout is on its path: what the wheel lacks is missing there."""
    home = {k: v for k, v in os.environ.items() if k not in ("PYTHONPATH", "VIRTUAL_ENV", "PYTHONHOME")}
    built = subprocess.run(
        [sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "-w", str(tmp_path), str(ROOT)],
        capture_output=True, text=True, env=home, timeout=80,
    )  # fmt: skip
    if built.returncode and "No matching distribution" in built.stderr:
        pytest.skip("no package registry can be reached")
    assert built.returncode == 0, built.stderr
    (wheel,) = tmp_path.glob("welvo-*.whl")
    venv.create(tmp_path / "env", with_pip=False)
    python = tmp_path / "env" / "bin" / "python"
    site = next((tmp_path / "env" / "lib").glob("python*")) / "site-packages"
    # the packages it needs are those that are installed here; only Welvo itself comes from the wheel
    here = Path(next(p for p in sys.path if p.endswith("site-packages")))
    for other in here.iterdir():
        if not other.name.lower().startswith(("welvo", "_welvo", "_editable")) and other.suffix != ".pth":
            (site / other.name).symlink_to(other)
    pip = [sys.executable, "-m", "pip", "--python", str(python), "install", "-q", "--no-deps", "--no-index"]
    subprocess.run([*pip, str(wheel)], check=True, capture_output=True, env=home, timeout=80)
    rig = tmp_path / "a.welvo"
    save(small_rig(), rig)

    def welvo(*arguments: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([str(site.parents[2] / "bin" / "welvo"), *arguments], cwd=tmp_path, env=home,
                              capture_output=True, text=True, timeout=80)  # fmt: skip

    where = subprocess.run([str(python), "-c", "import welvo; print(welvo.__file__)"], cwd=tmp_path, env=home,
                           capture_output=True, text=True)  # fmt: skip
    assert str(tmp_path) in where.stdout
    assert welvo("check", str(rig)).returncode in (0, 1)
    assert welvo("sheets", str(rig), "--which", "patch", "--to", str(tmp_path / "p.pdf")).returncode == 0
    assert (tmp_path / "p.pdf").read_bytes().startswith(b"%PDF")
    done = welvo("desktop", "install", "--prefix", str(tmp_path / "own"))
    assert done.returncode == 0 and (tmp_path / "own" / PLACES["welvo.desktop"]).exists(), done.stderr
    shown = subprocess.run(
        [str(python), "-c", "from PySide6.QtWidgets import QApplication; a = QApplication([])\n"
         "from welvo.app.main import make_window; from welvo.app.session import Session\n"
         "from welvo.app.computer import Computer; from welvo.demo.gallery import gallery\n"
         "w = make_window(Session(gallery()), Computer(), '127.0.0.1'); w.show()\n"
         "w.show_station('Sheets'); print(w.station); w.shut()"],
        cwd=tmp_path, env=home | {"QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": str(tmp_path)},
        capture_output=True, text=True, timeout=80,
    )  # fmt: skip
    assert shown.stdout.strip() == "Sheets", shown.stderr[-500:]
