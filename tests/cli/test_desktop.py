"""Welvo among the programs of a desktop: files, man page, completions, and the wheel by itself."""

from __future__ import annotations

import configparser
import os
import re
import shutil
import subprocess
import sys
import venv
from pathlib import Path
from urllib.parse import unquote

import pytest
from click.testing import CliRunner
from lxml import etree

from tests.conftest import small_rig
from welvo.cli import app
from welvo.cli.desktop import APP_ID, LIST, MAN, PLACES, SHELLS, install_below, man_page, uninstall_from
from welvo.formats.rigfile import save_rig_file

run = CliRunner().invoke
ROOT = Path(__file__).parent.parent.parent


def test_what_is_installed_is_whole_and_goes_again(tmp_path: Path) -> None:
    (tmp_path / "share/applications").mkdir(parents=True)
    (tmp_path / "share/applications/other.desktop").write_text("[Desktop Entry]\n")
    written = install_below(tmp_path, Path("/opt/bin/welvo"))
    assert len(written) == len(PLACES) + 1 + len(SHELLS) and all(w.exists() for w in written)
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str  # type: ignore[assignment, method-assign]
    entry.read(tmp_path / PLACES["desktop-entry"])
    main = entry["Desktop Entry"]
    assert main["Exec"] == '"/opt/bin/welvo" open %f' and main["MimeType"] == "application/x-welvo-rig;"
    mime = etree.parse(str(tmp_path / PLACES["welvo-rig.xml"])).getroot()
    space = "{http://www.freedesktop.org/standards/shared-mime-info}"
    assert mime.find(f"{space}mime-type/{space}glob").get("pattern") == "*.welvo"  # type: ignore[union-attr]
    for name in ("metainfo.xml", "welvo.svg", "welvo-rig.svg"):
        etree.parse(str(tmp_path / PLACES[name]))
    assert "@" not in (tmp_path / PLACES["desktop-entry"]).read_text() + (tmp_path / PLACES["metainfo.xml"]).read_text()
    assert uninstall_from(tmp_path) == len(written)
    left = {str(p.relative_to(tmp_path)) for p in tmp_path.rglob("*")} - {"share/applications/mimeinfo.cache"}
    assert left == {"share", "share/applications", "share/applications/other.desktop"}  # no folder of ours either


@pytest.mark.parametrize("folder", ["/opt/bin", "/x/sp äce", '/a"b$c`d\\e/100%'])
def test_the_entry_and_the_component_are_valid_wherever_the_program_is(folder: str, tmp_path: Path) -> None:
    install_below(tmp_path, Path(folder) / "welvo")
    entry = tmp_path / PLACES["desktop-entry"]
    component = tmp_path / PLACES["metainfo.xml"]
    assert entry.name == etree.parse(str(component)).findtext("launchable") == f"{APP_ID}.desktop"
    pictures = [e.text or "" for e in etree.parse(str(component)).iter("image")]
    assert len(pictures) == 4 and all(Path(unquote(p.removeprefix("file://"))).is_file() for p in pictures)
    if shutil.which("desktop-file-validate"):
        said = subprocess.run(["desktop-file-validate", str(entry)], capture_output=True, text=True)
        assert said.returncode == 0 and not said.stdout, said.stdout
    if shutil.which("appstreamcli"):  # Welvo has no site on the web; its pictures are files beside it
        said = subprocess.run(["appstreamcli", "validate", "--no-net", str(component)], capture_output=True, text=True)
        assert not [
            line for line in said.stdout.splitlines() if line.startswith("E:") and "web-url-expected" not in line
        ], said.stdout
    # what a desktop makes of the line (Desktop Entry Specification): one escape of the file, one of the quotes
    line = next(x for x in entry.read_text().splitlines() if x.startswith("Exec=")).removeprefix("Exec=")
    word = re.match(r'"((?:[^"\\]|\\.)*)" open %f$', line.replace("\\\\", "\\"))
    assert word and re.sub(r"\\(.)", r"\1", word[1]).replace("%%", "%") == f"{folder}/welvo"


def test_a_list_of_files_that_was_tampered_with_takes_nothing_else_out(tmp_path: Path) -> None:
    victim = tmp_path / "victim"
    victim.write_text("x")
    prefix = tmp_path / "prefix"
    install_below(prefix, Path("welvo"))
    (prefix / LIST).write_text('["../victim", "share/../../victim"]')
    uninstall_from(prefix)
    assert victim.exists()
    (prefix / LIST).parent.mkdir(parents=True, exist_ok=True)
    (prefix / LIST).write_text("junk")
    assert uninstall_from(prefix) == len(PLACES) + 1 + len(SHELLS)


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
    asked = {**os.environ, "_WELVO_COMPLETE": "bash_complete", "COMP_WORDS": "welvo she", "COMP_CWORD": "1"}
    said = subprocess.run(
        [str(Path(sys.executable).parent / "welvo")], env=asked, capture_output=True, text=True, timeout=300
    )
    assert said.stdout.split() == ["plain,sheets"], said.stderr
    typed = {"COMP_WORDS": "welvo sheets hall.welvo --which patch,lab", "COMP_CWORD": "4"}
    said = subprocess.run(
        [str(Path(sys.executable).parent / "welvo")], env=asked | typed, capture_output=True, text=True, timeout=300
    )
    assert said.stdout.split() == ["plain,patch,labels"], said.stderr


def test_the_built_wheel_runs_by_itself_in_a_clean_environment(tmp_path: Path) -> None:
    """Nothing of this checkout is on its path: what the wheel lacks is missing there."""
    home = {k: v for k, v in os.environ.items() if k not in ("PYTHONPATH", "VIRTUAL_ENV", "PYTHONHOME")}
    pip_wheel = [sys.executable, "-m", "pip", "wheel", "-q", "--no-deps", "--no-build-isolation"]
    built = subprocess.run(
        [*pip_wheel, "-w", str(tmp_path), str(ROOT)],
        capture_output=True, text=True, env=home, timeout=300,
    )  # fmt: skip
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
    subprocess.run([*pip, str(wheel)], check=True, capture_output=True, env=home, timeout=300)
    rig = tmp_path / "a.welvo"
    save_rig_file(small_rig(), rig)

    def welvo(*arguments: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([str(site.parents[2] / "bin" / "welvo"), *arguments], cwd=tmp_path, env=home,
                              capture_output=True, text=True, timeout=300)  # fmt: skip

    where = subprocess.run([str(python), "-c", "import welvo; print(welvo.__file__)"], cwd=tmp_path, env=home,
                           capture_output=True, text=True)  # fmt: skip
    assert str(tmp_path) in where.stdout
    assert welvo("check", str(rig)).returncode in (0, 1)
    assert welvo("sheets", str(rig), "--which", "patch", "--to", str(tmp_path / "p.pdf")).returncode == 0
    assert (tmp_path / "p.pdf").read_bytes().startswith(b"%PDF")
    done = welvo("desktop", "install", "--prefix", str(tmp_path / "own"))
    assert done.returncode == 0 and (tmp_path / "own" / PLACES["desktop-entry"]).exists(), done.stderr
    shown = subprocess.run(
        [str(python), "-c", "from PySide6.QtWidgets import QApplication; a = QApplication([])\n"
         "from welvo.app.main import make_window; from welvo.app.session import Session\n"
         "from welvo.app.computer import Computer; from welvo.demo.gallery import make_gallery\n"
         "w = make_window(Session(make_gallery()), Computer(), '127.0.0.1'); w.show()\n"
         "w.show_station('Sheets'); print(w.station); w.end_everything()"],
        cwd=tmp_path, env=home | {"QT_QPA_PLATFORM": "offscreen", "XDG_STATE_HOME": str(tmp_path)},
        capture_output=True, text=True, timeout=300,
    )  # fmt: skip
    assert shown.stdout.strip() == "Sheets", shown.stderr[-500:]
