"""Scenes (MVR): taken in with every change shown first, and written with the fixture types in them."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QWidget

from welvo.app.disk import wait_for
from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.strip import Strip
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.formats.files import write_atomic
from welvo.formats.mvr import read_mvr
from welvo.formats.mvr_take import Taken, take_scene
from welvo.formats.mvr_write import dumps_mvr
from welvo.patch.index import Index
from welvo.rig.notation import say_count

SHOWN = {"new": "added", "changed": "changed", "same": "as it is", "refused": "left out"}


class ImportScene(WishDialog):
    """What a scene would add and change; known fixtures are found by their UUID, else by their number."""

    def __init__(self, session: Session, path: Path, parent: QWidget) -> None:
        index = session.index
        self.taken: Taken = wait_for(lambda: take_scene(index, read_mvr(path)), f"Reading {path.name}")
        super().__init__(
            parent,
            f"Import {path.name}",
            "Import",
            note="Fixtures that the rig has are changed, others are added, nothing is taken away. What Welvo does not "
            "hold of the scene travels with the rig and is written back on export.",
            wide=860,
            high=600,
        )
        self._session = session
        columns = (
            Column("No.", 64), Column("", 80), Column("Before", 220), Column("After, or why not", 400),
        )  # fmt: skip
        self.list = RowList("Fixtures of the scene", columns)
        rows = []
        order = sorted(self.taken.rows, key=lambda r: (r.state != "refused", not r.meets, r.state == "same", r.n))
        for r in order:
            said = r.why if r.state == "refused" else r.after + (f"  meets {', '.join(r.meets[:3])}" if r.meets else "")
            state = "clash" if r.meets else SHOWN[r.state]
            rows.append(
                ListRow(r.n, (r.who, state, r.before, said), quiet=r.state == "same", bold=r.state == "refused")
            )
        self.list.show_lines(rows)
        self.body.addWidget(self.list, 1)
        self.show_effects(Strip(session, 30))
        self.finish(room=48)

    def foresee(self) -> tuple[str, str]:
        t = self.taken
        counts = [f"{len(t.rows_in_state(s))} {w}" for s, w in SHOWN.items() if t.rows_in_state(s)]
        clashing = sum(bool(r.meets) for r in t.rows)
        words = ", ".join(counts) + (f"; {say_count(clashing, 'fixture')} would meet others" if clashing else "") + "."
        if t.doubts:
            words += " " + " ".join(t.doubts[:3]) + (f" And {len(t.doubts) - 3} more." if len(t.doubts) > 3 else "")
        count = len(t.rows_in_state("new")) + len(t.rows_in_state("changed"))
        return words, f"Import {say_count(count, 'fixture')}" if count else ""

    def do(self) -> object:
        done = self._session.take_over_edit((self.taken.rig, self.taken.change))
        self._session.select_items([r.key for r in self.taken.rows if r.state in ("new", "changed")])
        return done


def ask_export_scene(session: Session, parent: QWidget) -> None:
    folder = session.path.parent if session.path else Path.home()
    start = str(folder / f"{session.rig.name}.mvr")
    name = FileDialog.ask_to_save(parent, "Export a scene", start, "Scene (*.mvr)")
    if name:
        export_scene(session, Path(name))


def export_scene(session: Session, path: Path) -> None:
    """Write the rig as MVR. Raises Refused when it cannot be written."""
    path = path if path.suffix else path.with_suffix(".mvr")
    rig = session.rig

    def work() -> list[str]:
        data, doubts = dumps_mvr(Index(rig))
        write_atomic(path, data, keep=True)
        return doubts

    doubts = wait_for(work, f"Writing {path.name}")
    said = f"{say_count(len(rig.fixtures), 'fixture')} written to {path.name}."
    session.say(f"{said} {doubts[0]}" if doubts else said, "warning" if doubts else "note")
