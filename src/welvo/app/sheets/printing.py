"""Printing: the very PDF that was looked at goes to the printing system, as text and lines, never as a picture of them.

`lp` takes it: on the desktops that Welvo runs on it belongs to the printing system itself. It is started beside the
window, which may be used meanwhile, and which may stop it.
"""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Callable, Sequence

from PySide6.QtPrintSupport import QPrinterInfo
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.dialogs import Asks, Dialog
from welvo.app.widgets.painting import column_of_widgets, make_button
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.steps import last_step

PATIENCE = 60.0
"""Seconds that the printing system may take to accept the pages."""
LOOK = 0.1
SIDES = {
    "": "as the printer is set",
    "one-sided": "one side",
    "two-sided-long-edge": "both sides, turned like a book",
    "two-sided-short-edge": "both sides, turned like a calendar",
}
"""How the sides of the paper are used, by the printing system's own word."""


def command_to_print(printer: str, title: str, *, copies: int = 1, pages: str = "", sides: str = "") -> list[str]:
    """The command that takes a PDF from its standard input. `pages` as in `2-5,8`; empty for all."""
    made = ["lp", "-s", "-t", title, "-n", str(copies)]
    made += ["-d", printer] if printer else []
    made += ["-P", pages] if pages else []
    return made + (["-o", f"sides={sides}"] if sides else [])


def read_pages(text: str, count: int) -> str:
    """Which pages were typed, of `count`: `3`, `2-5`, `1, 4-6`; empty for all. Raises Refused."""
    found: list[str] = []
    for part in text.replace("–", "-").replace(" ", "").split(","):
        if not part:
            continue
        first, dash, last = part.partition("-")
        if not first.isdecimal() or (dash and not last.isdecimal()):
            raise Refused(f"“{part}” is no page. Write 3, 2-5 or 1, 4-6.")
        a, b = int(first), int(last or first)
        if not 1 <= a <= b <= count:
            raise Refused(f"There are pages 1 to {count}; {part} is not among them.")
        found.append(f"{a}-{b}" if b > a else str(a))
    return ",".join(found)


def print_pdf(data: bytes, command: Sequence[str]) -> None:
    """Give a PDF to the printing system; it may be stopped. Raises Refused with what the system says."""
    tool = shutil.which(command[0])
    if tool is None:
        raise Refused("This computer has no printing system. Write the PDF and print it elsewhere.")
    last_step()  # what was handed over cannot be taken back
    try:
        done = subprocess.run([tool, *command[1:]], input=data, capture_output=True, timeout=PATIENCE, check=False)
    except subprocess.TimeoutExpired:
        raise Refused(f"The printing system took no pages in {PATIENCE:g} s.") from None
    except OSError as e:
        raise Refused(f"The printing system cannot be started: {e.strerror or e}.") from e
    if done.returncode:
        words = done.stderr.decode(errors="replace").strip().splitlines()
        raise Refused(f"The printing system refused: {words[-1] if words else f'error {done.returncode}'}")


class PrintSheet(Asks, Dialog):
    """Which printer, which pages, how many copies; `do` gets the command that prints."""

    def __init__(self, title: str, count: int, do: Callable[[list[str]], object], parent: QWidget) -> None:
        super().__init__(parent, "Print", f"Print {title}", wide=460)
        self._title, self._count, self._do = title, count, do
        self.lines = column_of_widgets(spacing=6)
        self.body.addLayout(self.lines)
        names = list(QPrinterInfo.availablePrinterNames())
        self.printer = self.ask_for_choice(
            "Printer",
            "Where the pages come out.",
            [(n, n) for n in names] or [("", "the usual one")],
            QPrinterInfo.defaultPrinterName() if names else "",
        )
        self.pages = self.ask_for_line(
            "Pages", "Which pages: 3, 2-5 or 1, 4-6; empty for all.", "", 120, after="empty: all"
        )
        self.copies = self.ask_for_line("Copies", "How many of each page, 1 to 99.", "1", 60)
        self.sides = self.ask_for_choice("Sides", "How the sides of the paper are used.", list(SIDES.items()), "")
        self.act = make_button("Print", self._print, "Sends the pages to the printer.", primary=True)
        self.finish(self.act)
        self.look()

    def look(self) -> None:
        """Say at once what would be printed, or what cannot be."""
        try:
            pages, copies = self._what()
        except Refused as e:
            self.act.setEnabled(False)
            self.refused(str(e))
            return
        self.act.setEnabled(True)
        which = f"pages {pages.replace(',', ', ')}" if pages else say_count(self._count, "page")
        self.say(f"Prints {which}{f', {copies} copies' if copies > 1 else ''}.")

    def _what(self) -> tuple[str, int]:
        copies = self.copies.text().strip()
        if not copies.isdecimal() or not 1 <= int(copies) <= 99:
            raise Refused("Copies: a number from 1 to 99.")
        return read_pages(self.pages.text(), self._count), int(copies)

    def _print(self) -> None:
        pages, copies = self._what()
        sides = str(self.sides.currentData() or "")
        name = str(self.printer.currentData() or "")
        self._do(command_to_print(name, self._title, copies=copies, pages=pages, sides=sides))
        self.accept()
