"""The Sheets station: the sheets on the left, their pages in the middle, what is chosen on the right; versions beside
them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QHideEvent, QShowEvent
from PySide6.QtWidgets import QPushButton, QStackedWidget, QWidget

from welvo.app.computer import Computer
from welvo.app.disk import wait_for
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.sheets.choices import ChoicesPanel
from welvo.app.sheets.maker import Maker, SheetWish
from welvo.app.sheets.preview import SheetPreview
from welvo.app.sheets.versions import VersionsPage
from welvo.app.widgets.empty import EmptyPage
from welvo.app.widgets.file_dialog import FOLDERS, FileDialog
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.painting import column_of_widgets, make_button, make_label, row_of_widgets, touching_widgets
from welvo.app.widgets.station import Station
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.formats.files import write_atomic
from welvo.rig.base import Refused
from welvo.rig.document import Change
from welvo.rig.notation import say_count
from welvo.rig.steps import last_step
from welvo.sheets.catalogue import SHEETS, file_name
from welvo.sheets.lists import Material
from welvo.sheets.pages import pages_as_pngs

SOON = 350
"""Milliseconds from the last edit to the pages being made anew."""
PAGES = {"Sheets": "Paper for the rig, as it will be printed.", "Versions": "Issues of the rig, and what has changed."}


class SheetsStation(Station):
    name = "Sheets"
    to_patch = Signal()
    """Somebody wants to go where fixtures are added."""
    panel: QStackedWidget

    def __init__(self, session: Session, network: Network, computer: Computer) -> None:
        super().__init__()
        self._session, self._computer = session, computer
        self.choices = ChoicesPanel(session, computer)
        self.choices.set_acts(
            ("PDF…", self.ask_pdf, "Writes the sheet as a PDF.   Ctrl+P prints it"),
            ("Print…", self.print_sheet, "Prints the pages as they are shown.   Ctrl+P"),
            ("PNG…", self.ask_png, "Writes every page as a picture."),
            ("All sheets…", self.ask_all, "Writes several sheets into one folder, each as a PDF."),
        )
        self.maker = Maker()
        self.maker.made.connect(self._show_made)
        self.maker.failed.connect(self._show_failure)
        self.maker.told.connect(self._show_progress)
        self.data: bytes | None = None
        self._wish: SheetWish | None = None
        self._shown_key = ""
        """Of which sheet the pages are that are shown."""
        self._stale = True
        self._again = QTimer(self, singleShot=True, interval=SOON)
        self._again.timeout.connect(self.refresh)
        self.choices.changed.connect(self._again.start)
        self._slow = QTimer(self, singleShot=True, interval=300)
        self._slow.timeout.connect(self._say_slow)
        self.list = RowList("Sheets", (Column("Sheet", 200),))
        self.list.horizontalHeader().hide()
        keep_width(self.list, 216)
        self.list.setSortingEnabled(False)
        rows = [ListRow(k, (s.title,)) for k, s in SHEETS.items()]
        self.list.show_lines(rows, self.choices.key)
        self.list.picked.connect(lambda key: self.choose_sheet(str(key)))
        self.preview = SheetPreview()
        self.preview.turned.connect(lambda _: self._say_page())
        self.place = make_label("", 13)
        self.place.setMinimumWidth(90)
        self.place.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.progress = make_label("", 11, quiet=True)
        self.stop_button = make_button("Stop", self.stop_making, "Gives up making the pages.")
        self.stop_button.hide()
        self._fits: dict[str, QPushButton] = {}
        for key, words in (("page", "Whole page"), ("width", "Page width")):
            b = make_button(words, lambda key=key: self._fit_pages(key), "Ctrl+0" if key == "page" else "")
            b.setCheckable(True)
            b.setProperty("segment", True)
            self._fits[key] = b
        self.bar = QWidget()
        tools = flow_of_widgets(
            make_button("‹", lambda: self.preview.go_to(self.preview.page_in_view - 1), "The page before.   PgUp"),
            self.place,
            make_button("›", lambda: self.preview.go_to(self.preview.page_in_view + 1), "The next page.   PgDn"),
            None,
            self.progress,
            self.stop_button,
            None,
            make_button("−", lambda: self._zoom_pages(-1), "Smaller.   Ctrl+-"),
            make_button("+", lambda: self._zoom_pages(1), "Larger.   Ctrl++"),
            touching_widgets([*self._fits.values()]),
        )
        tools.setContentsMargins(12, 6, 12, 6)
        self.bar.setLayout(tools)
        middle = column_of_widgets(spacing=0)
        middle.addWidget(self.bar)
        middle.addWidget(self.preview, 1)
        page = QWidget()
        inside = row_of_widgets(self.list, spacing=0)
        inside.addLayout(middle, 1)
        page.setLayout(inside)
        self.versions = VersionsPage(session)
        self.panel = QStackedWidget()
        self.panel.addWidget(self.choices)
        self.panel.addWidget(self.versions.panel)
        self.empty = EmptyPage(
            "Nothing to print yet",
            ("Sheets are made from the patch.", "Add fixtures first."),
            make_button("Go to Patch", lambda: self.to_patch.emit(), primary=True),
        )
        self.stack = QStackedWidget()
        for w in (page, self.versions, self.empty):
            self.stack.addWidget(w)
        self._pages: dict[str, QPushButton] = {}
        for name, help_text in PAGES.items():
            b = make_button(name, lambda name=name: self.show_page(name), help_text)
            b.setCheckable(True)
            b.setProperty("segment", True)
            self._pages[name] = b
        bar = flow_of_widgets(
            make_label("Sheets", 16, True), 4, touching_widgets([*self._pages.values()]), None, spacing=6
        )
        bar.setContentsMargins(16, 8, 16, 8)
        layout = column_of_widgets(spacing=0)
        layout.addLayout(bar)
        layout.addWidget(self.stack, 1)
        self.setLayout(layout)
        self.page = "Sheets"
        self.choices.fill()
        self.show_page("Sheets")
        session.changed.connect(self._follow_change)
        session.selection_changed.connect(self._follow_selection)
        self._fit_pages("page")

    # ---- pages of the station

    def show_page(self, name: str) -> None:
        self.page = name
        for key, b in self._pages.items():
            b.setChecked(key == name)
        self._fill_which()

    def _fill_which(self) -> None:
        rig = self._session.rig
        if self.page == "Versions":
            self.stack.setCurrentIndex(1)
        else:
            self.stack.setCurrentIndex(0 if rig.fixtures or rig.elements or rig.devices or rig.universes else 2)
        self.panel.setCurrentIndex(int(self.page == "Versions"))
        self.choices.setEnabled(self.stack.currentIndex() != 2)

    def choose_sheet(self, key: str) -> None:
        """Show another sheet."""
        self.choices.show_sheet(key)
        if self.list.rows.row_of(key) != self.list.currentIndex().row():
            self.list.selectRow(self.list.rows.row_of(key))
        self.refresh()

    # ---- making

    def _follow_change(self, change: Change) -> None:
        if not change.touched:
            return
        self._stale = True
        if self.isVisible():
            self._fill_which()
            if change.changed_ids("pictures") or change.changed_ids("versions") or change.changed_ids("rig"):
                self.choices.fill()
            self._again.start()

    def _follow_selection(self) -> None:
        if self.choices.only_selected:
            self._stale = True
            if self.isVisible():
                self._again.start()

    def showEvent(self, e: QShowEvent) -> None:
        super().showEvent(e)
        self._fill_which()
        if self._stale:
            self.choices.fill()
            self.refresh()

    def hideEvent(self, e: QHideEvent) -> None:
        super().hideEvent(e)
        self._again.stop()

    def refresh(self) -> None:
        """Make the pages anew, out of the window's way."""
        if not self.isVisible() or self.stack.currentIndex() == 2:
            return
        self._stale = False
        try:
            choices = self.choices.chosen_choices()
        except Refused as e:
            self.preview.say(str(e))
            return
        self._wish = SheetWish.wish_of_session(
            self._session, self.choices.key, choices, self.choices.since, self.choices.until
        )
        self._slow.start()
        title = SHEETS[self.choices.key].title
        self.preview.wait_for_others(f"Making “{title}” …", at_once=self.choices.key != self._shown_key)
        self._say_page()
        self.maker.make_sheet(self._wish)

    def stop_making(self) -> None:
        self.maker.stop_making()
        self._wish = None
        words = "Stopped. Choose the sheet again to make it."
        self._show_quiet_words(words)
        self.data, self._shown_key = None, ""
        self.preview.say(words)
        self._say_page()

    def _say_slow(self) -> None:
        if self._wish is not None:
            self.stop_button.show()
            self.preview.dim_pages()

    def _show_progress(self, done: int, of: int) -> None:
        if self._wish is not None and self.stop_button.isVisible():
            far = f"{100 * done // max(1, of)} %"
            self.progress.setText(f"making the pages, {far}")
            self.preview.wait_for_others(f"Making “{SHEETS[self.choices.key].title}”: {far}")

    def _show_quiet_words(self, words: str = "") -> None:
        self._slow.stop()
        self.stop_button.hide()
        self.progress.setText(words)

    def _show_made(self, wish: SheetWish, data: bytes) -> None:
        if wish is not self._wish:
            return
        self._wish, self.data, self._shown_key = None, data, wish.key
        self._show_quiet_words()
        self.preview.show_pdf(data)
        self._say_page()

    def _show_failure(self, wish: SheetWish, why: str) -> None:
        if wish is self._wish:
            self._wish, self.data = None, None
            self._show_quiet_words()
            self.preview.say(why)
            self._say_page()

    @property
    def is_making(self) -> bool:
        return self._wish is not None or self._again.isActive()

    # ---- looking

    def _say_page(self) -> None:
        count = self.preview.count_pages if not self.preview.is_dimmed else 0
        self.place.setText(
            f"{self.preview.page_in_view} of {count}" if count else "…" if self.is_making else "no pages"
        )

    def _zoom_pages(self, by: int) -> None:
        self.preview.step_pages(by)
        for b in self._fits.values():
            b.setChecked(False)

    def zoom(self, by: int) -> None:
        self._zoom_pages(by)

    def _fit_pages(self, key: str) -> None:
        self.preview.set_fit(key)
        for k, b in self._fits.items():
            b.setChecked(k == key)

    # ---- giving away

    def _pages_ready(self) -> bytes:
        if self.data is None or self.is_making:
            raise Refused("The pages are still being made; try again in a moment.")
        return self.data

    def _name_of_file(self) -> str:
        m = Material(self._session.index)
        return file_name(m, self.choices.key)

    def _start_of_path(self, suffix: str) -> str:
        folder = self._session.path.parent if self._session.path else Path.home()
        return str(folder / f"{self._name_of_file()}{suffix}")

    def ask_pdf(self) -> None:
        self._pages_ready()
        name = FileDialog.ask_to_save(self, "Write the sheet", self._start_of_path(".pdf"), "PDF (*.pdf)")
        if name:
            self.write_pdf(Path(name))

    def write_pdf(self, path: Path) -> None:
        """Write the PDF that is shown. Raises Refused when it cannot be written."""
        data = self._pages_ready()
        path = path if path.suffix else path.with_suffix(".pdf")
        wait_for(lambda: write_atomic(path, data, keep=True))
        self._session.say(f"{say_count(self.preview.count_pages, 'page')} written to {path.name}.")

    def ask_png(self) -> None:
        self._pages_ready()
        name = FileDialog.ask_to_save(self, "Write the pages", self._start_of_path(".png"), "Pictures (*.png)")
        if name:
            self.write_png(Path(name))

    def write_png(self, path: Path) -> None:
        """Write each page as a picture: `NAME 1.png`, `NAME 2.png` …"""
        data = self._pages_ready()

        def work() -> int:
            made = pages_as_pngs(data)
            last_step()
            for n, page in enumerate(made, 1):
                target = path.with_suffix(".png") if len(made) == 1 else path.with_name(f"{path.stem} {n}.png")
                write_atomic(target, page, keep=True)
            return len(made)

        count = wait_for(work, "Writing pictures")
        self._session.say(f"{say_count(count, 'picture')} written to {path.parent.name or path.parent}.")

    def ask_all(self) -> None:
        from welvo.app.sheets.all_sheets import AllSheets

        path = self._session.path
        folder = path.parent if path else next(iter(FOLDERS.recent), Path.home())
        AllSheets(self._computer, folder, self.write_all, self.window()).exec()

    def write_all(self, keys: list[str], folder: Path) -> None:
        """Write sheets into a folder, each with what is chosen for it. Raises Refused, Stopped."""
        from welvo.app.sheets.all_sheets import write_sheets

        s, choices = self._session, self.choices
        wishes = [SheetWish.wish_of_session(s, k, choices.chosen_for(k), choices.since, choices.until) for k in keys]
        made, failed = wait_for(lambda: write_sheets(wishes, folder), "Writing sheets")
        more = "".join(f" {title}: {why}" for title, why in failed.items())
        where = folder.name or str(folder)
        s.say(f"{say_count(len(made), 'sheet')} written to {where}.{more}", "warning" if failed else "note")

    def print_sheet(self) -> None:
        from welvo.app.sheets.printing import PrintSheet, print_pdf

        data, title = self._pages_ready(), SHEETS[self.choices.key].title

        def do(command: list[str]) -> None:
            wait_for(lambda: print_pdf(data, command), "Giving the pages to the printer")
            self._session.say(f"{title}: given to the printer.")

        PrintSheet(title, self.preview.count_pages, do, self.window()).exec()

    # ---- what every station has

    def homes(self) -> Sequence[QWidget]:
        return (self.list, self.preview)

    def forget(self) -> None:
        self.data = None
        self._stale = True
        self.choices.about = self.choices.since = self.choices.until = ""
        self.versions.forget()

    def close_all(self) -> None:
        """End the threads."""
        self.maker.close()
        self.preview.close_pages()

    def restyle(self) -> None:
        self.choices.fill()
        self.preview.viewport().update()
