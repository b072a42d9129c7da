"""A good citizen of the shell: pipes, full disks, files in place of commands, and windows that cannot be opened."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path

import pytest
from click.testing import CliRunner

from tests.cli.test_json import hold
from tests.conftest import small_rig
from welvo import __version__
from welvo.cli import app, display, opening
from welvo.cli.display import NO_DISPLAY, missing_library, needed_packages
from welvo.demo.gallery import make_gallery
from welvo.formats.rigfile import load_rig_file, rig_from_bytes, rig_to_bytes, save_rig_file
from welvo.patience import wait_until
from welvo.rig.edits import move_item

run = CliRunner().invoke
WELVO = [sys.executable, "-m", "welvo.cli"]


@pytest.fixture
def rig_file(tmp_path: Path) -> Path:
    save_rig_file(small_rig(), tmp_path / "hall.welvo")
    return tmp_path / "hall.welvo"


@pytest.fixture(scope="module")
def large(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("large") / "gallery.welvo"
    save_rig_file(make_gallery(), path)
    return path


# ---- files in place of commands


def test_a_file_opens_and_nothing_opens_an_empty_window(rig_file: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    opened: list[list[str]] = []
    monkeypatch.setattr(opening, "_open_window", lambda arguments: opened.append(arguments) or 0)
    for words in ([str(rig_file)], ["open", str(rig_file)], [], ["gone.welvo"]):
        assert run(app, words).exit_code == 0
    assert opened == [[str(rig_file)], [str(rig_file)], [], ["gone.welvo"]]
    wrong = run(app, ["chek", str(rig_file)])
    assert wrong.exit_code == 2 and "No such command" in wrong.stderr and len(opened) == 4


def test_the_version_is_said() -> None:
    assert run(app, ["--version"]).stdout == f"welvo {__version__}\n"


# ---- standard input and output


def test_a_rig_goes_through_pipes(rig_file: Path) -> None:
    text = run(app, ["convert", str(rig_file), "-"])
    assert rig_from_bytes(text.stdout.encode()) == small_rig() and not text.stderr
    for data in (rig_to_bytes(small_rig()), text.stdout.encode()):
        found = run(app, ["path", "-", "101", "--json"], input=data)
        assert json.loads(found.stdout)["target"] == "101"
    both = run(app, ["diff", "-", str(rig_file)], input=rig_to_bytes(move_item(small_rig(), "a", 0, "u1", 101)[0]))
    assert both.exit_code == 1 and "1.101 → 1.001" in both.stdout
    broken = run(app, ["check", "-"], input=b"GIF89a")
    assert broken.exit_code == 2 and "standard input is neither a .welvo file nor JSON" in broken.stderr


def test_tables_sheets_and_profiles_go_through_pipes(rig_file: Path, tmp_path: Path) -> None:
    table = run(app, ["export", str(rig_file), "--to", "-"])
    assert table.stdout.splitlines()[0].startswith("No") and "rows written" in table.stderr
    taken = run(app, ["import", str(rig_file), "-", "--json"], input=table.stdout)
    assert {r["state"] for r in hold("import", json.loads(taken.stdout))["rows"]} == {"same"}
    written = run(app, ["import", str(rig_file), "-", "--to", "-"], input=table.stdout)
    assert rig_from_bytes(written.stdout.encode()) == small_rig() and "4 same" in written.stderr
    run(app, ["export", str(rig_file), "--to", str(tmp_path / "x.mvr")])
    scene = run(app, ["import", str(rig_file), "-"], input=(tmp_path / "x.mvr").read_bytes())
    assert scene.exit_code == 0 and "0 refused" in scene.stdout and "101" in scene.stdout
    page = run(app, ["sheets", str(rig_file), "--which", "patch", "--to", "-"])
    assert page.stdout_bytes.startswith(b"%PDF") and page.stdout_bytes.rstrip().endswith(b"%%EOF")
    for text, name in ((b"pan 16, dimmer", "pan"), (b"break,slots,function\n1,1,Dimmer\n", "Dimmer")):
        profile = run(app, ["profile", "-", "--to", "-"], input=text)
        assert profile.exit_code == 0 and name.lower() in profile.stdout.lower(), profile.stderr
        again = run(app, ["profile", "-", "--json"], input=profile.stdout)
        assert hold("profile", json.loads(again.stdout))["modes"][0]["channels"] >= 1


def test_several_files_are_checked_and_the_worst_counts(rig_file: Path, large: Path, tmp_path: Path) -> None:
    bad = tmp_path / "bad.welvo"
    bad.write_bytes(b"junk")
    both = run(app, ["check", str(rig_file), str(large), "--json"])
    told = hold("check", json.loads(both.stdout))
    assert both.exit_code == 1 and [f["file"] for f in told["files"]] == ["hall.welvo", "gallery.welvo"]
    worst = run(app, ["check", str(bad), str(rig_file)])
    assert worst.exit_code == 2 and "bad.welvo is neither" in worst.stderr and "0 errors" in worst.stdout


# ---- what standard output may do


def test_a_closed_pipe_ends_with_one_line_and_2(large: Path) -> None:
    for words in (["text", str(large)], ["check", str(large)], ["patch", str(large), "--json"]):
        process = subprocess.Popen([*WELVO, *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        assert process.stdout and process.stderr
        process.stdout.close()  # as `head` does when it has enough
        said = process.stderr.read()
        process.stderr.close()
        assert process.wait(300) == 2, words
        assert said == "welvo: standard output cannot be written: broken pipe\n"


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="this system has no device that is always full")
def test_a_full_disk_behind_standard_output_is_no_error_of_the_rig(large: Path) -> None:
    with open("/dev/full", "w") as full:
        for words in (["check", str(large)], ["sheets", str(large), "--which", "patch", "--to", "-"], ["--help"]):
            done = subprocess.run([*WELVO, *words], stdout=full, stderr=subprocess.PIPE, text=True, timeout=300)
            assert (done.returncode, done.stderr) == (
                2, "welvo: standard output cannot be written: no space left on device\n"
            )  # fmt: skip


def test_an_interruption_says_so_and_ends_with_130(rig_file: Path) -> None:
    process = subprocess.Popen(
        [*WELVO, "standins", str(rig_file)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    ask = subprocess.Popen(
        [*WELVO, "path", "-", "101"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # what a shell starts behind itself ignores it
    )  # fmt: skip
    assert process.stdout and "ready" in process.stdout.readline()
    process.send_signal(2)
    process.communicate(timeout=300)
    assert process.returncode == 0  # told to end, it ends: that is what it waits for
    assert ask.stdin  # it reads, and waits for the end of what it reads
    assert wait_until(lambda: "welvo" in Path(f"/proc/{ask.pid}/cmdline").read_text(), 10)
    assert wait_until(lambda: Path(f"/proc/{ask.pid}/wchan").exists() and reads(ask.pid), 30)
    ask.send_signal(2)
    _, said = ask.communicate(timeout=300)
    assert ask.returncode == 130 and "Traceback" not in said


def reads(pid: int) -> bool:
    """Whether a process waits for its standard input (the first number in this file is the call it is in)."""
    try:
        return Path(f"/proc/{pid}/syscall").read_text().split()[:2] == ["0", "0x0"]
    except OSError:
        return False


# ---- windows that cannot be opened


def ask_for_a_window(env: Mapping[str, str], drop: tuple[str, ...] = ()) -> subprocess.CompletedProcess[str]:
    kept = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM", *drop)}
    return subprocess.run([*WELVO, "open"], env={**kept, **env}, capture_output=True, text=True, timeout=300)


def test_without_a_display_it_says_so() -> None:
    done = ask_for_a_window({})
    assert (done.returncode, done.stderr) == (2, f"welvo: {NO_DISPLAY}\n")


@pytest.mark.parametrize(
    "env", [{"DISPLAY": ":7897"}, {"WAYLAND_DISPLAY": "wayland-none", "XDG_RUNTIME_DIR": "/nowhere"}]
)
def test_a_display_that_does_not_answer_is_named(env: dict[str, str]) -> None:
    done = ask_for_a_window(env)
    name = next(iter(env.values()))
    assert done.returncode == 2 and f"display “{name}” does not answer" in done.stderr
    assert len(done.stderr.splitlines()) == 1


@pytest.mark.parametrize("library", ["libEGL.so.1", "libfontconfig.so.1"])
def test_a_library_that_is_missing_is_named_with_its_package(library: str, tmp_path: Path) -> None:
    (tmp_path / library).write_bytes(b"")  # found first, and good for nothing: as good as not there
    done = ask_for_a_window({"DISPLAY": ":7897", "LD_LIBRARY_PATH": str(tmp_path)})
    assert done.returncode == 2 and len(done.stderr.splitlines()) == 1
    assert f"needs {library}" in done.stderr and f"apt install {needed_packages()[library]}" in done.stderr


def test_without_qt_it_says_what_to_install(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(display.importlib.util, "find_spec", lambda name: None)
    assert "pip install PySide6-Essentials" in display.why_no_window()
    done = run(app, ["open"])
    assert done.exit_code == 2 and "Qt for Python, which is not installed" in done.stderr


def test_what_the_loader_says_becomes_a_sentence() -> None:
    known = missing_library("libxcb-cursor.so.0: cannot open shared object file: No such file or directory")
    assert known == (
        "The window needs libxcb-cursor.so.0, which is missing or damaged on this computer. On Debian and Ubuntu: "
        "apt install libxcb-cursor0."
    )
    assert "Install the package that has it." in missing_library("/usr/lib/libodd.so.3: file too short")
    assert missing_library("something odd") == "Qt cannot be loaded here: something odd."


def test_one_list_of_libraries_serves_the_installer_and_the_program(tmp_path: Path) -> None:
    script = Path(__file__).parents[2] / "scripts" / "system-packages"
    if not shutil.which("sh"):
        pytest.skip("no shell")
    # with a cache of libraries that has nothing, and without apt-get: every one is named, with its package
    tools = tmp_path / "bin"
    tools.mkdir()
    for name in ("sh", "dirname", "find", "head", "id", "cat"):
        (tools / name).symlink_to(shutil.which(name) or f"/bin/{name}")
    text = script.read_text().replace("/sbin/ldconfig -p", "true").replace("|| ldconfig -p", "|| true")
    (tmp_path / "scripts").mkdir()
    (tmp_path / "scripts" / "system-packages").write_text(text)
    (tmp_path / "src" / "welvo" / "data").mkdir(parents=True)
    source = Path(display.__file__).parents[1] / "data" / "libraries.txt"
    (tmp_path / "src" / "welvo" / "data" / "libraries.txt").write_text(source.read_text())
    done = subprocess.run([str(tools / "sh"), str(tmp_path / "scripts" / "system-packages")], env={"PATH": str(tools)},
                          capture_output=True, text=True, timeout=300)  # fmt: skip
    assert done.returncode == 1 and "no apt-get" in done.stderr
    needed = [line.split() for line in source.read_text().splitlines() if line and not line.startswith("#")]
    for library, package, *only in needed:
        assert (f" {library}" in done.stderr) is (not only) and (f" {package}" in done.stderr) is (not only), library
    assert load_rig_file  # the list is read by the program as well
    assert needed_packages() == {n[0]: n[1] for n in needed}
