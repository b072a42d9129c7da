"""A file on a network share that goes away: everything on it fails with the errors that a share gives, and every way to
it says so in a sentence; nothing is lost, and it is saved elsewhere or later."""

from __future__ import annotations

import builtins
import errno
import io
import os
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from welvo.app.session import Session
from welvo.demo.gallery import make_gallery
from welvo.formats import journal
from welvo.formats.files import RigFileError, backup_of, backup_words, free_name, read_bytes, stamp_of, write_atomic
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.rig.edits import rename_rig

GONE = (errno.ESTALE, errno.EHOSTDOWN, errno.EIO, errno.ETIMEDOUT, errno.ENOTCONN)


@pytest.fixture
def share(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Callable[[int], Path]:
    """A folder in which nothing works any more, by an error number; 0: it is there again."""
    folder = tmp_path / "share"
    folder.mkdir()
    fails = 0

    def broken(real: Callable[..., Any]) -> Callable[..., Any]:
        def call(*args: Any, **more: Any) -> Any:
            places = [a for a in (*args, *more.values()) if isinstance(a, str | os.PathLike)]
            if fails and any(str(folder) in os.fspath(p) for p in places):
                raise OSError(fails, os.strerror(fails))
            return real(*args, **more)

        return call

    for name in (
        "stat",
        "lstat",
        "open",
        "replace",
        "rename",
        "unlink",
        "link",
        "scandir",
        "listdir",
        "mkdir",
        "chmod",
    ):
        monkeypatch.setattr(os, name, broken(getattr(os, name)))
    for module, name in ((builtins, "open"), (io, "open"), (tempfile, "mkstemp")):
        monkeypatch.setattr(module, name, broken(getattr(module, name)))

    def go(error: int) -> Path:
        nonlocal fails
        fails = error
        return folder

    return go


@pytest.mark.parametrize("error", GONE, ids=errno.errorcode.get)
def test_every_way_to_a_file_that_is_gone_is_a_sentence(share: Callable[[int], Path], error: int) -> None:
    file = share(0) / "hall.welvo"
    save_rig_file(make_gallery(), file)
    share(error)
    for way in (lambda: load_rig_file(file), lambda: read_bytes(file, 10**9, "a rig"),
    lambda: save_rig_file(make_gallery(), file),
                lambda: write_atomic(file, b"x", keep=True)):  # fmt: skip
        with pytest.raises(RigFileError) as said:
            way()
        assert "hall.welvo" in str(said.value) and "\n" not in str(said.value)
    assert stamp_of(file, b"") is None and backup_of(file).name == "hall.welvo~" and "hall.welvo~" in backup_words(file)
    assert free_name(file).name == "hall 2.welvo"
    share(0)
    assert load_rig_file(file) == make_gallery()


def test_the_window_keeps_what_it_has_and_saves_elsewhere_and_later(
    share: Callable[[int], Path], tmp_path: Path
) -> None:
    file = share(0) / "hall.welvo"
    save_rig_file(make_gallery(), file)
    session = Session(make_gallery())
    said: list[tuple[str, str]] = []
    session.said.connect(lambda words, severity: said.append((words, severity)))
    assert session.open_file(file)
    session.make_edit(rename_rig, "Later")
    share(errno.ESTALE)
    assert (
        not session.save_file(file)
        and session.has_unsaved_edits
        and said[-1][1] == "error"
        and "hall.welvo" in said[-1][0]
    )
    journal.Journal(tmp_path / "state").write_journal(session.rig, session.path, 1.0)  # recovery goes on beside it
    assert session.save_file(tmp_path / "else.welvo") and load_rig_file(tmp_path / "else.welvo").name == "Later"
    session.make_edit(rename_rig, "Later still")
    share(0)
    assert session.save_file(file, over=True) and load_rig_file(file).name == "Later still"
