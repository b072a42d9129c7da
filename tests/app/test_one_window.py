"""A second double-click on a rig brings its window to the front."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtNetwork import QLocalServer
from pytestqt.qtbot import QtBot

from tests.conftest import small_rig
from welvo.app.one_window import Doorbell, raise_other, socket_name
from welvo.app.window import Window
from welvo.formats.rigfile import save_rig_file
from welvo.rig.document import Rig


def asked(path: Path, qtbot: QtBot) -> bool:
    """Ask as another program would, while this one's window goes on."""
    import subprocess
    import sys

    code = "import sys; from pathlib import Path; from welvo.app.one_window import raise_other\n"
    code += "from PySide6.QtCore import QCoreApplication; a = QCoreApplication([])\n"
    code += "sys.exit(0 if raise_other(Path(sys.argv[1])) else 3)"
    done = subprocess.Popen([sys.executable, "-c", code, str(path)])
    qtbot.waitUntil(lambda: done.poll() is not None, timeout=20_000)
    return done.returncode == 0


def test_the_window_of_a_file_answers_and_comes_forward(
    make: Callable[[Rig], Window], tmp_path: Path, qtbot: QtBot
) -> None:
    file, other = tmp_path / "a.welvo", tmp_path / "b.welvo"
    save_rig_file(small_rig(), file)
    (tmp_path / "link.welvo").symlink_to(file)
    window = make(Rig())
    raised: list[bool] = []
    window.come_forward = lambda: raised.append(True)  # type: ignore[method-assign]
    bell = Doorbell(window)
    assert not raise_other(file)
    assert window.files.open(file)
    assert bell.name == socket_name(file) and asked(tmp_path / "link.welvo", qtbot) and raised
    assert window.session.save_file(other, over=True)  # saved as another file, it is that one's window
    assert not raise_other(file) and asked(other, qtbot) and len(raised) == 2
    bell.close()
    assert not raise_other(other)


def test_a_name_left_by_a_program_that_died_is_taken(
    make: Callable[[Rig], Window], tmp_path: Path, qtbot: QtBot
) -> None:
    file = tmp_path / "a.welvo"
    save_rig_file(small_rig(), file)
    dead = QLocalServer()
    assert dead.listen(socket_name(file))
    stale = dead.fullServerName()
    dead.close()
    Path(stale).touch()
    window = make(Rig())
    bell = Doorbell(window)
    assert window.files.open(file) and asked(file, qtbot)
    second = make(Rig())
    other = Doorbell(second)
    assert second.files.open(file)  # two windows may have one file; the first one still answers
    assert asked(file, qtbot)
    other.close()
    bell.close()
