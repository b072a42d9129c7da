"""Printing: the pages of the PDF, drawn at the printer's own dots, so that what was looked at is what comes out."""

from __future__ import annotations

from PySide6.QtCore import QMarginsF, QRectF, QSizeF
from PySide6.QtGui import QImage, QPageLayout, QPageSize, QPainter
from PySide6.QtPrintSupport import QPrintDialog, QPrinter
from PySide6.QtWidgets import QWidget

from welvo.rig.base import Refused
from welvo.sheets.pages import Pages

MOST_DPI = 400


def print_pages(data: bytes, printer: QPrinter) -> int:
    """Print the pages that the printer was told to; gives how many. Raises Refused where it takes none."""
    pages = Pages(data)
    try:
        first = max(1, printer.fromPage() or 1)
        last = min(len(pages), printer.toPage() or len(pages))
        painter: QPainter | None = None
        for number in range(first, last + 1):
            wide, high = pages.sizes[number - 1]
            turned = wide > high
            size = QSizeF(high, wide) if turned else QSizeF(wide, high)
            way = QPageLayout.Orientation.Landscape if turned else QPageLayout.Orientation.Portrait
            printer.setPageLayout(QPageLayout(QPageSize(size, QPageSize.Unit.Millimeter), way, QMarginsF(0, 0, 0, 0)))
            printer.setFullPage(True)
            if painter is None:
                painter = QPainter()
                if not painter.begin(printer):
                    raise Refused(f"{printer.printerName() or 'The printer'} takes nothing to print.")
            else:
                printer.newPage()
            dpi = min(MOST_DPI, printer.resolution())
            picture = pages.picture_of_page(number - 1, dpi).convert("RGB")
            image = QImage(
                picture.tobytes(), picture.width, picture.height, picture.width * 3, QImage.Format.Format_RGB888
            )
            dots = printer.resolution() / 25.4
            painter.drawImage(QRectF(0, 0, wide * dots, high * dots), image)
        if painter is not None:
            painter.end()
        return last - first + 1
    finally:
        pages.close_pages()


def ask_and_print(data: bytes, title: str, parent: QWidget) -> int:
    """The system's own question for a printer, then printing; 0 where it was left."""
    printer = QPrinter(QPrinter.PrinterMode.HighResolution)
    printer.setDocName(title)
    dialog = QPrintDialog(printer, parent)
    dialog.setWindowTitle(f"Print {title}")
    dialog.setOption(QPrintDialog.PrintDialogOption.PrintPageRange, True)
    return print_pages(data, printer) if dialog.exec() else 0
