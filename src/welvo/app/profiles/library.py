"""The library: search generics, the user's folder and the rig; take, revise, import, export."""

from __future__ import annotations

from pathlib import Path

import platformdirs
from msgspec.structs import replace
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QScrollArea, QWidget

from welvo.app.disk import wait_for
from welvo.app.profiles.compare import AddressPreview
from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.fields import LineField, set_help
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.painting import draw_frame, draw_text_line, make_button
from welvo.app.widgets.refusals import do_guarded
from welvo.app.widgets.theme import THEME
from welvo.formats.library import (
    Book,
    generic_books,
    list_revision_differences,
    newest_revisions,
    open_any,
    own_books,
    rig_books,
    save_profile,
    search_books,
)
from welvo.patch.mode_edits import revise_profile
from welvo.rig.edits import add_profile, pack_profile
from welvo.rig.lookup import used_by
from welvo.rig.notation import say_count
from welvo.rig.profile import Profile

ROW = 56


def library_folder() -> Path:
    """The user's own profiles."""
    return Path(platformdirs.user_data_dir("welvo")) / "profiles"


def know_library(session: Session) -> None:
    """Tell the checks which revisions this computer's library holds. A folder that cannot be read is left out."""
    session.observe(library=newest_revisions([*own_books(library_folder())[0], *generic_books()]))


def draw_thumbnail(p: QPainter, r: QRectF, profile: Profile) -> None:
    """The face of the first mode with pixels, small; one dot for a lamp driven as one."""
    mode = next((m for m in profile.modes.values() if m.count_pixels), next(iter(profile.modes.values())))
    draw_frame(p, r, "field", "edge", 4)
    spots = [(s.x, s.y) for s in mode.spots] or [(float(n), 0.0) for n in range(max(1, min(200, mode.count_pixels)))]
    x0, y0 = min(x for x, _ in spots), min(y for _, y in spots)
    wide, high = max(x for x, _ in spots) - x0 + 1, max(y for _, y in spots) - y0 + 1
    scale = min((r.width() - 8) / wide, (r.height() - 8) / high, 18)
    p.setRenderHint(QPainter.RenderHint.Antialiasing, True)
    p.setPen(QPen(THEME.color("quiet"), 1 if scale > 5 else 0.4))
    p.setBrush(THEME.color("raised"))
    for x, y in spots[:2000]:
        p.drawEllipse(
            QPointF(
                r.center().x() + (x - x0 + 0.5 - wide / 2) * scale, r.center().y() + (y - y0 + 0.5 - high / 2) * scale
            ),
            max(0.8, scale * 0.42),
            max(0.8, scale * 0.42),
        )
    p.setRenderHint(QPainter.RenderHint.Antialiasing, False)


class Shelf(QWidget):
    """Rows of 56 with a thumbnail each."""

    taken = Signal(object)
    picked = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.books: list[Book] = []
        self.current = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Profiles of the library")

    @property
    def chosen_book(self) -> Book | None:
        return self.books[self.current] if self.current < len(self.books) else None

    def show_books(self, books: list[Book]) -> None:
        self.books, self.current = books, 0
        self.setMinimumHeight(ROW * max(1, len(books)))
        self.update()
        self.picked.emit()

    def paintEvent(self, e: QPaintEvent) -> None:
        p = QPainter(self)
        w = self.width()
        for n, b in enumerate(self.books):
            y = ROW * n
            if y > e.rect().bottom() or y + ROW < e.rect().top():
                continue
            if n == self.current:
                p.fillRect(0, y, w, ROW - 1, THEME.color("select"))
                p.fillRect(0, y, 3, ROW - 1, THEME.color("accent"))
            draw_thumbnail(p, QRectF(10, y + 5, 64, ROW - 11), b.profile)
            draw_text_line(p, QRectF(86, y + 6, w - 250, 20), f"{b.profile.maker} {b.profile.name}".strip(), bold=True)
            prints = ", ".join(
                m.name if str(m.slots_needed) in m.name.split() else f"{m.name} ({m.slots_needed})"
                for m in b.profile.modes.values()
            )
            draw_text_line(p, QRectF(86, y + 28, w - 250, 18), prints, "quiet", 11)
            users = len(used_by(self._session.rig, b.source[4:])) if b.where == "this rig" else 0
            where = f"{b.where}, {say_count(users, 'fixture')}" if users else b.where
            draw_text_line(
                p,
                QRectF(w - 160, y + 6, 150, 20),
                where,
                "quiet",
                11,
                align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
            )
            if b.profile.revision:
                draw_text_line(
                    p,
                    QRectF(w - 160, y + 28, 150, 18),
                    f"revision {b.profile.revision}",
                    "quiet",
                    11,
                    align=Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                )
            p.fillRect(0, y + ROW - 1, w, 1, THEME.color("line"))
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()), None, "accent", 2, 2)

    def _go_to_book(self, n: int) -> None:
        if 0 <= n < len(self.books):
            self.current = n
            self.update()
            self.picked.emit()

    def mousePressEvent(self, e: QMouseEvent) -> None:
        self._go_to_book(int(e.position().y() // ROW))

    def mouseDoubleClickEvent(self, e: QMouseEvent) -> None:
        if self.chosen_book:
            self.taken.emit(self.chosen_book)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self._go_to_book(self.current + (1 if e.key() == Qt.Key.Key_Down else -1))
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.chosen_book:
            self.taken.emit(self.chosen_book)
        else:
            super().keyPressEvent(e)


def import_profile(session: Session, path: Path) -> tuple[str, list[str]]:
    """Take a file's profile into the rig; gives its id there and what was doubtful. Raises Refused when it cannot be
    read."""
    profile, doubts = wait_for(lambda: open_any(path), f"Reading {path.name}")
    made = session.make_edit(add_profile, replace(profile, revises="")).made[0]
    if doubts:
        more = f" And {len(doubts) - 2} more." if len(doubts) > 2 else ""
        session.say(f"{profile.name}: {say_count(len(doubts), 'doubt')}. " + " ".join(doubts[:2]) + more, "warning")
    else:
        session.say_done(f"{profile.name} is in the rig.")
    return made, list(doubts)


class Library(Dialog):
    """`made` is the profile of the rig that the dialog leaves chosen."""

    def __init__(self, session: Session, parent: QWidget, pid: str = "") -> None:
        self.filter = LineField()
        self.filter.setPlaceholderText("Maker, name, footprint or function: rgbw, 44, gobo")
        set_help(
            self.filter,
            "Searches maker, name, footprint and functions. Shows only what has every word; nothing is changed.",
        )
        files = (
            make_button("Import file…", self.import_file, "Reads a .gdtf, .csv, .txt or .json into the rig."),
            make_button(
                "Export…", self.export_profile, "Writes the profile shown in the station as .gdtf, .csv or .json."
            ),
        )
        super().__init__(parent, "Library", beside=(self.filter, *files), wide=760, high=600)
        self._session = session
        self._pid = pid if pid in session.rig.profiles else ""
        self.made = ""
        self.doubts: list[str] = []
        self.filter.textChanged.connect(lambda _: self.refresh())
        self.shelf = Shelf(session)
        self.shelf.taken.connect(lambda _: do_guarded(self, self.take_book))
        self.shelf.picked.connect(self._pick_book)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self.shelf)
        self.body.addWidget(area, 1)
        self.take_button = make_button(
            "Take into the rig",
            self.take_book,
            "Copies the profile into the rig. The library itself is not changed.",
            primary=True,
        )
        self.revise_button = make_button(
            "Revise…",
            self.revise_profile,
            "Brings this one in as a newer revision of the profile shown in the station.",
        )
        self.save_button = make_button(
            "Keep in my folder",
            self.keep_profile,
            "Puts the profile shown in the station into your own folder, for other rigs.",
        )
        self.finish(self.take_button, self.save_button, self.revise_button, leave="Close", room=48)
        self._own, self._problems = own_books(library_folder())
        self.refresh()
        self.filter.setFocus()

    def found_books(self) -> list[Book]:
        return [*rig_books(self._session.rig), *self._own, *generic_books()]

    def refresh(self) -> None:
        self.shelf.show_books(search_books(self.found_books(), self.filter.text()))
        if self._problems:
            self.say("In your folder: " + " ".join(self._problems[:2]))

    def _pick_book(self) -> None:
        b = self.shelf.chosen_book
        self.take_button.setEnabled(b is not None)
        self.take_button.setText("Duplicate" if b and b.where == "this rig" else "Take into the rig")
        self.revise_button.setEnabled(bool(b and self._pid and b.source != f"rig:{self._pid}"))
        self.save_button.setEnabled(bool(self._pid))
        if b is None:
            self.say(
                f"Nothing has “{self.filter.text()}”. Import the maker's GDTF file, or paste the manual's table in "
                "the station."
            )
        else:
            now = self._session.rig.profiles.get(self._pid)
            related = now is not None and b.source != f"rig:{self._pid}" and b.profile.name == now.name
            self.say(
                "Differences: " + "; ".join(list_revision_differences(now, b.profile)[:3] or ["none"])
                if related and now
                else b.profile.notes
            )

    def take_book(self) -> None:
        b = self.shelf.chosen_book
        if b:
            name = f"{b.profile.name} copy" if b.where == "this rig" else b.profile.name
            self._add_profile(replace(b.profile, name=name, source="" if b.where == "this rig" else b.source))

    def _add_profile(self, profile: Profile) -> None:
        self.made = self._session.make_edit(add_profile, replace(profile, revises="")).made[0]
        self.accept()

    def revise_profile(self) -> None:
        """Bring the chosen book in as a newer revision of the station's profile, with every address shown first."""
        b = self.shelf.chosen_book
        if not b or not self._pid:
            return
        after, change = revise_profile(self._session.rig, self._pid, replace(b.profile, source=b.source), True)
        nid = change.made[0]
        old = self._session.rig.profiles[self._pid]
        found = self._session.foresee_edit((after, change))
        said = "; ".join(list_revision_differences(old, b.profile)[:3]) or "no difference"
        users = len(used_by(self._session.rig, self._pid))
        if AddressPreview(f"{old.name}: {said}", found, f"Bring {say_count(users, 'fixture')} over", self).exec():
            self._session.take_over_edit((after, change))
            self.made = nid
            self.accept()

    def keep_profile(self) -> None:
        path = save_profile(library_folder(), pack_profile(self._session.rig, self._session.rig.profiles[self._pid]))
        self._own, self._problems = own_books(library_folder())
        know_library(self._session)
        self.refresh()
        self.say(f"Kept as {path.name}. It is there for every rig of this computer now.")

    def import_file(self) -> None:
        name = FileDialog.ask_to_open(
            self, "Import a profile", str(Path.home()), "Profiles (*.gdtf *.csv *.txt *.json);;All files (*)"
        )
        if name:
            self.import_path(Path(name))

    def import_path(self, path: Path) -> None:
        """Take a file's profile into the rig. Raises Refused when it cannot be read."""
        self.made, self.doubts = import_profile(self._session, path)
        self.accept()

    def export_profile(self) -> None:
        if not self._pid:
            return
        name = FileDialog.ask_to_save(
            self,
            "Export the profile",
            str(Path.home() / f"{self._session.rig.profiles[self._pid].name}.gdtf"),
            "GDTF (*.gdtf);;Channel table (*.csv);;Welvo profile (*.json)",
        )
        if name:
            self.export_path(Path(name))

    def export_path(self, path: Path) -> None:
        """Write the station's profile in the format of the file's suffix. Raises Refused when it cannot be written."""
        from welvo.formats.channel_csv import write_csv
        from welvo.formats.files import write_atomic
        from welvo.formats.gdtf_write import dumps_gdtf
        from welvo.formats.library import profile_json

        profile = pack_profile(self._session.rig, self._session.rig.profiles[self._pid])
        lost: list[str] = []
        if path.suffix == ".csv":
            data = write_csv(next(iter(profile.modes.values()))).encode()
            lost = ["a table holds one mode, so the first was written"] if len(profile.modes) > 1 else []
        elif path.suffix == ".json":
            data = profile_json(profile)
        else:
            path = path if path.suffix == ".gdtf" else path.with_name(path.name + ".gdtf")
            data, doubts = dumps_gdtf(profile)
            lost = [f"{d.where}: {d.message}" for d in doubts]
        wait_for(lambda: write_atomic(path, data, keep=True))
        self.say(f"Written as {path.name}." + (" Not held by that format: " + "; ".join(lost[:3]) if lost else ""))
