"""A plain table for what is looked up and compared: sorted by any column, one row selected, bars where there is room."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, QRectF, Qt, Signal
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from welvo.app.widgets import marks
from welvo.app.widgets.painting import LEFT, RIGHT, box, text
from welvo.app.widgets.theme import THEME
from welvo.rig.notation import natural

AnyIndex = QModelIndex | QPersistentModelIndex


@dataclass(frozen=True)
class Head:
    """One column: `kind` text, number (right-aligned), mark, or bar (a cell of `used/reserved/possible`)."""

    title: str
    width: int
    kind: str = "text"
    help: str = ""


@dataclass(frozen=True)
class Line:
    """One row: an id, its cells, what each is sorted by (the cell itself when absent), and whether it is quiet."""

    id: Hashable
    cells: tuple[str, ...]
    ranks: tuple[Any, ...] = ()
    quiet: bool = False
    bold: bool = False


class _Model(QAbstractTableModel):
    def __init__(self, heads: tuple[Head, ...]) -> None:
        super().__init__()
        self.heads = heads
        self.lines: list[Line] = []
        self._sort: tuple[int, Qt.SortOrder] | None = None

    def show(self, lines: list[Line]) -> None:
        wanted = self._sorted(lines)
        if wanted == self.lines:
            return
        if [x.id for x in wanted] == [x.id for x in self.lines]:
            self.lines = wanted
            self.dataChanged.emit(self.index(0, 0), self.index(len(wanted) - 1, len(self.heads) - 1))
            return
        self.beginResetModel()
        self.lines = wanted
        self.endResetModel()

    def _sorted(self, lines: list[Line]) -> list[Line]:
        if self._sort is None:
            return lines
        column, order = self._sort

        def rank(line: Line) -> tuple[Any, ...]:
            value = line.ranks[column] if column < len(line.ranks) else line.cells[column]
            return (True, natural(value)) if isinstance(value, str) else (False, value)

        return sorted(lines, key=rank, reverse=order == Qt.SortOrder.DescendingOrder)

    def rowCount(self, parent: AnyIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.lines)

    def columnCount(self, parent: AnyIndex = QModelIndex()) -> int:  # noqa: B008
        return len(self.heads)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        head = self.heads[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return head.title
        if role == Qt.ItemDataRole.ToolTipRole:
            return head.help or None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return int(RIGHT) if head.kind == "number" else int(LEFT)
        return None

    def data(self, index: AnyIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if index.isValid() and role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return self.lines[index.row()].cells[index.column()]
        return None

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self._sort = (column, order) if column >= 0 else None
        self.show(list(self.lines))


class _Delegate(QStyledItemDelegate):
    def __init__(self, ledger: Ledger) -> None:
        super().__init__(ledger)
        self._ledger = ledger

    def paint(self, p: QPainter, option: QStyleOptionViewItem, index: AnyIndex) -> None:
        head = self._ledger.rows.heads[index.column()]
        line = self._ledger.rows.lines[index.row()]
        words = line.cells[index.column()]
        r = QRectF(option.rect)
        if option.state & QStyle.StateFlag.State_Selected:
            p.fillRect(r, THEME.color("select"))
            if index.column() == 0:
                p.fillRect(QRectF(r.left(), r.top(), 3, r.height()), THEME.color("accent"))
        p.fillRect(QRectF(r.left(), r.bottom() - 1, r.width(), 1), THEME.color("line"))
        inner = r.adjusted(6, 0, -6, 0)
        if head.kind == "mark":
            if words:
                marks.draw(p, words, r.left() + 8, r.top() + 6, 12)
        elif head.kind == "bar":
            _bar(p, inner, words)
        else:
            text(
                p,
                inner,
                words,
                "quiet" if line.quiet else "text",
                bold=line.bold,
                align=RIGHT if head.kind == "number" else LEFT,
            )


def _bar(p: QPainter, r: QRectF, words: str) -> None:
    """Used solid, reserved hatched, the rest empty."""
    try:
        used, kept, possible = (int(w) for w in words.split("/"))
    except ValueError:
        return
    bar = QRectF(r.left(), r.center().y() - 5, r.width(), 10)
    box(p, bar, "field", "edge", 0, 1)
    if possible <= 0:
        return
    inside = bar.adjusted(1, 1, -1, -1)
    wide = inside.width() * min(1.0, used / possible)
    p.fillRect(
        QRectF(inside.left(), inside.top(), wide, inside.height()), THEME.color("error" if used > possible else "quiet")
    )
    marks.hatch(
        p,
        QRectF(inside.left() + wide, inside.top(), inside.width() * min(1.0, kept / possible), inside.height()),
        THEME.color("edge"),
        5,
        1,
    )


def plain(table: QTableView) -> QHeaderView:
    """What every list has: whole rows of 24, no grid, columns of a width of their own. Gives its header."""
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
    table.setShowGrid(False)
    table.setWordWrap(False)
    side = table.verticalHeader()
    side.setVisible(False)
    side.setDefaultSectionSize(24)
    side.setMinimumSectionSize(24)
    header = table.horizontalHeader()
    header.setMinimumSectionSize(24)
    header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
    header.setStretchLastSection(True)
    header.setHighlightSections(False)
    return header


class Ledger(QTableView):
    """Emits `picked` with the id of the row that was chosen by hand."""

    picked = Signal(object)

    def __init__(self, name: str, heads: tuple[Head, ...], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.rows = _Model(heads)
        self.setModel(self.rows)
        self.setItemDelegate(_Delegate(self))
        self.setAccessibleName(name)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        header = plain(self)
        for n, head in enumerate(heads):
            self.setColumnWidth(n, head.width)
        header.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.setSortingEnabled(True)
        self._busy = False
        self.selectionModel().currentRowChanged.connect(self._current)

    def _current(self, now: QModelIndex, _: QModelIndex) -> None:
        if now.isValid() and not self._busy:
            self.picked.emit(self.rows.lines[now.row()].id)

    def show_lines(self, lines: list[Line], chosen: Hashable = None) -> None:
        """Show other rows; the row of `chosen` is selected without telling anybody."""
        self._busy = True
        self.rows.show(lines)
        row = next((n for n, line in enumerate(self.rows.lines) if chosen not in (None, "") and line.id == chosen), -1)
        if row >= 0:
            self.selectRow(row)
        else:
            self.clearSelection()
            self.setCurrentIndex(QModelIndex())
        self._busy = False
