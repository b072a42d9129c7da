"""Giving a list away as a table."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QWidget

from welvo.app.disk import wait_for
from welvo.app.session import Session
from welvo.app.widgets.dialogs import ask_which
from welvo.app.widgets.file_dialog import FileDialog
from welvo.formats.files import write_atomic
from welvo.formats.workbooks import SUFFIXES
from welvo.rig.notation import say_count
from welvo.sheets.lists import LISTS, Material
from welvo.sheets.tables import list_bytes

FILTERS = ";;".join(f"{words} (*{suffix})" for suffix, words in SUFFIXES.items())


def ask_export(session: Session, parent: QWidget) -> None:
    """Ask which list, and where to."""
    options = [(k, words) for k, (words, _) in LISTS.items() if k != "changes"]
    question = "As a table for a spreadsheet. Fixtures and elements come back by Import."
    key = ask_which(parent, "Export a list", question, options, "Choose a file…", "List")
    if key is None:
        return
    folder = session.path.parent if session.path else Path.home()
    start = str(folder / f"{session.rig.name} {LISTS[key][0].lower()}.xlsx")
    name = FileDialog.ask_to_save(parent, "Export a list", start, FILTERS)
    if name:
        export_list(session, key, Path(name))


def export_list(session: Session, key: str, path: Path) -> None:
    """Write a list. Raises Refused for a kind of file that there is not, or one that cannot be written."""
    path = path if path.suffix else path.with_suffix(".csv")
    m = Material(session.index, session.observed, session.now(), session.report)

    def work() -> int:
        data, count = list_bytes(m, key, path.suffix)
        write_atomic(path, data, keep=True)
        return count

    session.say(f"{say_count(wait_for(work, f'Writing {path.name}'), 'row')} written to {path.name}.")
