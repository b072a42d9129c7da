"""The one model and the one view of all lists: sorted in natural order, filtered, with columns to hide, copied from and
exported.

A list is rows by id. The model keeps the order and the filter, and moves rows instead of building them anew, so that an
open editor and the selection stay with their row; what a cell says and what it is sorted by comes from a subclass. One
subclass here takes finished rows; the list of items works its cells out while they are painted, because a rig has
thousands of them.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Hashable, Sequence
from functools import lru_cache, partial
from pathlib import Path
from typing import Any, NamedTuple

from msgspec import Struct
from PySide6.QtCore import (
    QAbstractTableModel,
    QEvent,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    QPoint,
    QRectF,
    Qt,
    QTimer,
    Signal,
)
from PySide6.QtGui import QKeyEvent, QKeySequence, QPainter, QResizeEvent, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QApplication,
    QHeaderView,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from welvo.app.disk import wait_for
from welvo.app.widgets import marks
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.fitting import fit_parts
from welvo.app.widgets.literal import literal_text, menu_words, visible_letters
from welvo.app.widgets.painting import LEFT, RIGHT, draw_frame, draw_text_line, width_of
from welvo.app.widgets.painting import popup_menu as popup_menu
from welvo.app.widgets.refusals import do_guarded, inform_near
from welvo.app.widgets.theme import THEME
from welvo.formats.files import write_atomic
from welvo.formats.workbooks import SUFFIXES, table_bytes
from welvo.rig.notation import natural_sort_key, say_count

AnyIndex = QModelIndex | QPersistentModelIndex


class Column(Struct, frozen=True):
    """One column: `kind` text, number (right-aligned), mark, or bar (a cell of `used/reserved/possible`)."""

    title: str
    width: int
    kind: str = "text"
    help: str = ""
    key: str = ""


class ListModel(QAbstractTableModel):
    """Rows by id under columns. Subclasses say which ids there are, what a cell says and what it is sorted by."""

    def __init__(self, heads: tuple[Column, ...] = ()) -> None:
        super().__init__()
        self.heads = heads
        self.ids: list[Any] = []
        self.sorted_by: tuple[int, Qt.SortOrder] | None = None
        self._filter = ""
        self._ranks: dict[Any, Any] = {}
        self._row_of: dict[Any, int] = {}

    # ---- what a subclass says

    def all_ids(self) -> list[Any]:
        raise NotImplementedError

    def cell(self, id_: Any, column: int) -> str:
        raise NotImplementedError

    def rank(self, id_: Any, column: int) -> Any:
        """What a row is sorted by in a column; the default is natural order, empty cells at one end."""
        words = self.cell(id_, column)
        return (not words, natural_sort_key(words))

    def matches(self, id_: Any, words: str) -> bool:
        """Whether a row is shown under a filter that is not empty."""
        have = " ".join(self.cell(id_, n) for n in range(len(self.heads))).lower()
        return all(w in have for w in words.lower().split())

    # ---- order and filter

    def set_filter(self, words: str) -> None:
        self._filter = words.strip()
        self.arrange()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self.sorted_by = (column, order) if column >= 0 else None
        self._ranks = {}
        self.arrange()

    def row_of(self, id_: Any) -> int:
        """The row of an id, or −1 when the filter hides it."""
        return self._row_of.get(id_, -1)

    def rows_of(self, ids: Sequence[Any]) -> list[int]:
        """The rows of ids that are shown, from above; many are asked for in one go."""
        if len(ids) == len(self.ids) and set(ids) == self._row_of.keys():
            return list(range(len(ids)))
        return sorted(self._row_of[x] for x in ids if x in self._row_of)

    def wanted(self) -> list[Any]:
        """The ids to show, filtered and in order."""
        ids = self.all_ids()
        if self.sorted_by:  # what came in since is ranked too: a filter may be typed before anybody says so
            self._ranks |= {i: self.rank(i, self.sorted_by[0]) for i in ids if i not in self._ranks}
        if self._filter:
            ids = [i for i in ids if self.matches(i, self._filter)]
        if self.sorted_by:
            ids.sort(key=self._ranks.__getitem__, reverse=self.sorted_by[1] == Qt.SortOrder.DescendingOrder)
        return ids

    def take_order(self, ids: list[object]) -> None:
        self.ids = ids
        self._row_of = {i: n for n, i in enumerate(ids)}

    def arrange(self) -> None:
        """Filter and sort again. Rows that only move are moved, so that an open editor stays with its row."""
        ids = self.wanted()
        if len(ids) != len(self.ids) or set(ids) != set(self.ids):
            self.beginResetModel()
            self.take_order(ids)
            self.endResetModel()
            return
        if ids != self.ids:
            self.layoutAboutToBeChanged.emit()
            row_of = {i: n for n, i in enumerate(ids)}
            before = self.persistentIndexList()
            after = [self.index(row_of[self.ids[x.row()]], x.column()) for x in before]
            self.take_order(ids)
            self.changePersistentIndexList(before, after)
            self.layoutChanged.emit()
        self.tell_all()

    def tell_all(self) -> None:
        if self.ids:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.ids) - 1, len(self.heads) - 1))

    # ---- Qt's side

    def rowCount(self, parent: AnyIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.ids)

    def columnCount(self, parent: AnyIndex = QModelIndex()) -> int:  # noqa: B008
        return len(self.heads)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if orientation != Qt.Orientation.Horizontal or section >= len(self.heads):
            return None
        head = self.heads[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return head.title
        if role == Qt.ItemDataRole.ToolTipRole:
            return head.help or None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return int(RIGHT) if head.kind == "number" else int(LEFT)
        return None

    def data(self, index: AnyIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if index.isValid() and role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            value = self.cell(self.ids[index.row()], index.column())
            shown = literal_text if role == Qt.ItemDataRole.ToolTipRole else visible_letters
            return shown(value) if isinstance(value, str) else value
        return None


class ListRow(Struct, frozen=True):
    """One row: an id, its cells, what each is sorted by (the cell itself when absent), and whether it is quiet."""

    id: Hashable
    cells: tuple[str, ...]
    ranks: tuple[object, ...] = ()
    quiet: bool = False
    bold: bool = False


class RowModel(ListModel):
    """Finished rows, shown anew as a whole; only what became another is told."""

    def __init__(self, heads: tuple[Column, ...]) -> None:
        super().__init__(heads)
        self.rows: dict[object, ListRow] = {}

    @property
    def lines(self) -> list[ListRow]:
        """The rows as they stand, filtered and in order."""
        return [self.rows[i] for i in self.ids]

    def show(self, rows: Sequence[ListRow]) -> None:
        now = {r.id: r for r in rows}
        if now == self.rows and list(now) == list(self.rows):
            return
        self.rows = now
        self._ranks = {}
        self.arrange()

    def all_ids(self) -> list[Any]:
        return list(self.rows)

    def cell(self, id_: Any, column: int) -> str:
        return self.rows[id_].cells[column]

    def rank(self, id_: Any, column: int) -> Any:
        row = self.rows[id_]
        value = row.ranks[column] if column < len(row.ranks) else row.cells[column]
        return (True, natural_sort_key(value)) if isinstance(value, str) else (False, value)


class RowPainter(QStyledItemDelegate):
    def __init__(self, shown: RowList) -> None:
        super().__init__(shown)
        self._rows = shown.rows

    def paint(self, p: QPainter, option: QStyleOptionViewItem, index: AnyIndex) -> None:
        head = self._rows.heads[index.column()]
        line = self._rows.rows[self._rows.ids[index.row()]]
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
                marks.draw_mark(p, words, r.left() + 8, r.top() + 6, 12)
        elif head.kind == "bar":
            _draw_bar(p, inner, words)
        else:
            if " · " in words:
                words = fit_parts(words, inner.width(), partial(width_of, bold=line.bold))
            draw_text_line(
                p,
                inner,
                words,
                "quiet" if line.quiet else "text",
                bold=line.bold,
                align=RIGHT if head.kind == "number" else LEFT,
            )


def _draw_bar(p: QPainter, r: QRectF, words: str) -> None:
    """Used solid, reserved hatched, the rest empty."""
    try:
        used, kept, possible = (int(w) for w in words.split("/"))
    except ValueError:
        return
    bar = QRectF(r.left(), r.center().y() - 5, r.width(), 10)
    draw_frame(p, bar, "field", "edge", 0, 1)
    if possible <= 0:
        return
    inside = bar.adjusted(1, 1, -1, -1)
    wide = inside.width() * min(1.0, used / possible)
    p.fillRect(
        QRectF(inside.left(), inside.top(), wide, inside.height()), THEME.color("error" if used > possible else "quiet")
    )
    marks.draw_hatch(
        p,
        QRectF(inside.left() + wide, inside.top(), inside.width() * min(1.0, kept / possible), inside.height()),
        THEME.color("edge"),
        5,
        1,
    )


def write_cells(cells: Sequence[Sequence[str]], between: str) -> str:
    """Rows of cells as text; what holds the character between them is quoted."""
    out = io.StringIO()
    csv.writer(out, delimiter=between, lineterminator="\n").writerows(cells)
    return out.getvalue()


def copy_cells(cells: Sequence[Sequence[str]]) -> str:
    """Put headings and rows on the clipboard, as a spreadsheet takes them, and say so."""
    QApplication.clipboard().setText(write_cells(cells, "\t"))
    return f"{say_count(len(cells) - 1, 'row')} copied, with headings."


_SHORT = 38
"""Letters up to which a cell is always shown whole: addresses, protocols with their number, plain words."""
_NAME_ROOM = 150
"""Pixels that a long name has at least, in normal text."""
_MOST_ROWS = 80


class _Wish(NamedTuple):
    """What a column needs at least, for all that stands in it, and what it was declared; whether it may have less."""

    must: int
    all: int
    declared: int
    roomy: bool


@lru_cache(16384)
def _advance(words: str, size: int, bold: bool, step: int) -> int:
    return THEME.metrics(size, bold).horizontalAdvance(words)


class ListView(QTableView):
    """What every list has: whole rows, columns to hide, copying and export."""

    def __init__(self, name: str, model: ListModel) -> None:
        super().__init__()
        self.listed = model
        self.hidden: set[str] = set()
        self._dragged: set[int] = set()
        """Columns whose width was given by hand."""
        self._is_fitting = False
        self._only_wider = True
        self._fit_timer = QTimer(self, singleShot=True)
        self._fit_timer.timeout.connect(self._fit_now)
        self.setModel(model)
        self.setAccessibleName(name)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setShowGrid(False)
        self.setWordWrap(False)
        side = self.verticalHeader()
        side.setVisible(False)
        side.setDefaultSectionSize(24)
        side.setMinimumSectionSize(24)
        header = self.horizontalHeader()
        header.setMinimumSectionSize(24)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        header.setStretchLastSection(True)
        header.setHighlightSections(False)
        for one in (side, header):  # else each painting of a header asks of every row whether it is selected
            one.setSelectionModel(QItemSelectionModel(model, one))
        header.sectionResized.connect(self._column_resized)
        for changed in (model.modelReset, model.dataChanged, model.layoutChanged):
            changed.connect(lambda *_: self._fit_soon())
        self.verticalScrollBar().valueChanged.connect(lambda _: self._fit_soon(True))
        header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        header.customContextMenuRequested.connect(lambda at: self.column_menu().popup(header.mapToGlobal(at)))
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._offer_columns)

    # ---- columns

    def widths(self) -> None:
        """Hide the columns that are not wanted, and fit the others to what stands in them."""
        for n, head in enumerate(self.listed.heads):
            self.setColumnHidden(n, (head.key or head.title) in self.hidden)
        self.fit_columns()

    def room_before(self, column: int) -> int:
        """How many pixels of a cell something else stands in, before its words."""
        return 0

    def holds_numbers(self, column: int) -> bool:
        """Whether a column shows numbers only, of which none may ever be cut."""
        return self.listed.heads[column].kind == "number"

    def fit_columns(self, *, only_wider: bool = False) -> None:
        """Give every column what its heading and its cells need: all of it to numbers and short words, and what is
        left to long names, which may end in “…”. A column that was dragged stays as it was put."""
        columns = [n for n in range(len(self.listed.heads)) if not self.isColumnHidden(n) and n not in self._dragged]
        wishes = {n: self._wish_of_column(n) for n in columns}
        wide = {n: max(w.must, min(w.declared, w.all)) if w.roomy else w.must for n, w in wishes.items()}
        if only_wider:
            wide = {n: max(w, self.columnWidth(n)) for n, w in wide.items()}
        left = self.viewport().width() - sum(wide.values()) - sum(self.columnWidth(n) for n in self._dragged)
        for n, w in sorted(wishes.items(), key=lambda one: one[1].all):  # names that need least first: most are whole
            more = max(0, min(left, max(w.all, w.declared if left > 0 else 0) - wide[n]))
            wide[n] += more
            left -= more
        self._is_fitting = True
        for n, w_ in wide.items():
            if self.columnWidth(n) != w_:
                self.setColumnWidth(n, w_)
        self._is_fitting = False

    def _wish_of_column(self, n: int) -> _Wish:
        head = self.listed.heads[n]
        declared = THEME.scale_length(head.width)
        sorted_by = self.listed.sorted_by is not None and self.listed.sorted_by[0] == n
        title = _advance(head.title, 11, False, THEME.step) + 14 + (12 if sorted_by else 0) if head.title else 0
        if head.kind in ("mark", "bar"):
            return _Wish(max(declared, title), max(declared, title), max(declared, title), False)
        before, numbers = self.room_before(n) + 14, self.holds_numbers(n)
        must = whole = title
        for words in dict.fromkeys(self._seen_cells(n)):
            need = _advance(words, 13, True, THEME.step) + before
            whole = max(whole, need)
            must = max(must, need if numbers or len(words) <= _SHORT else min(need, THEME.scale_length(_NAME_ROOM)))
        return _Wish(must, whole, declared, not numbers)

    def _seen_cells(self, column: int) -> list[str]:
        """What the rows that are seen say in a column."""
        ids, first = self.listed.ids, max(0, self.rowAt(0))
        last = self.rowAt(self.viewport().height() - 1)
        last = len(ids) - 1 if last < 0 else last
        shown = ids[first : min(last + 1, first + _MOST_ROWS)]
        return [w for i in shown if isinstance(w := self.listed.cell(i, column), str)]

    def _fit_soon(self, only_wider: bool = False) -> None:
        """Fit the columns when all that happens now is over; once, however much it is."""
        self._only_wider = only_wider and (self._only_wider or not self._fit_timer.isActive())
        if not self._fit_timer.isActive():
            self._fit_timer.start(0)

    def _fit_now(self) -> None:
        if self.isVisible():
            self.fit_columns(only_wider=self._only_wider)
        self._only_wider = True

    def _column_resized(self, column: int, _before: int, _now: int) -> None:
        if not self._is_fitting and QApplication.mouseButtons() & Qt.MouseButton.LeftButton:
            self._dragged.add(column)

    def resizeEvent(self, e: QResizeEvent) -> None:
        super().resizeEvent(e)
        self._fit_soon()

    def showEvent(self, e: QShowEvent) -> None:
        super().showEvent(e)
        self._fit_soon()

    def changeEvent(self, e: QEvent) -> None:
        super().changeEvent(e)
        if e.type() in (QEvent.Type.FontChange, QEvent.Type.StyleChange):
            high = max(24, THEME.metrics(13).height() + 6)
            self.verticalHeader().setDefaultSectionSize(high)
            self._fit_soon()

    def column_menu(self) -> QMenu:
        """Which columns are shown."""
        menu = popup_menu(self)
        for head in self.listed.heads:
            if head.title:
                act = menu.addAction(menu_words(head.title), partial(self._toggle_column, head.key or head.title))
                act.setCheckable(True)
                act.setChecked((head.key or head.title) not in self.hidden)
        return menu

    def _toggle_column(self, key: str) -> None:
        self.hidden ^= {key}
        self.widths()

    # ---- copying

    def row_menu(self) -> QMenu:
        """What can be done with the rows: here, what every list has."""
        menu = popup_menu(self)
        self.add_copying(menu)
        return menu

    def add_copying(self, menu: QMenu) -> None:
        menu.addAction("Copy rows", self.copy_rows).setEnabled(bool(self.chosen_ids()))
        menu.addAction("Copy the whole list", partial(self.copy_rows, whole=True))
        menu.addAction("Export…", self.export_list)

    def _offer_columns(self, at: QPoint) -> None:
        self.row_menu().popup(self.viewport().mapToGlobal(at))

    def chosen_ids(self) -> list[Any]:
        """Ids of the selected rows, from top to bottom."""
        rows: set[int] = set()
        for r in self.selectionModel().selection().toList():
            rows.update(range(r.top(), r.bottom() + 1))
        return [self.listed.ids[n] for n in sorted(rows) if n < len(self.listed.ids)]

    def as_cells(self, ids: Sequence[Any]) -> list[list[str]]:
        """Headings and rows as they are shown, without marks, bars and hidden columns."""
        shown = [
            n
            for n, h in enumerate(self.listed.heads)
            if h.title and h.kind not in ("mark", "bar") and not self.isColumnHidden(n)
        ]
        titles = [self.listed.heads[n].title for n in shown]
        return [titles, *([self.listed.cell(i, n) for n in shown] for i in ids)]

    def copy_rows(self, *, whole: bool = False) -> None:
        """Put the selected rows, or all, on the clipboard, with headings, as a spreadsheet takes them."""
        ids = self.listed.ids if whole else self.chosen_ids()
        if ids:
            inform_near(self, copy_cells(self.as_cells(ids)))

    def export_list(self) -> None:
        """Ask for a file and write the whole list into it."""
        start = str(Path.home() / f"{self.accessibleName()}.csv")
        kinds = ";;".join(f"{words} (*{suffix})" for suffix, words in SUFFIXES.items())
        name = FileDialog.ask_to_save(self, "Export the list", start, kinds)
        if name:
            do_guarded(self, self.export_to, Path(name))

    def export_to(self, path: Path) -> None:
        """Write all rows that are shown, as CSV, XLSX or ODS. Raises Refused when the file cannot be written."""
        path = path if path.suffix else path.with_suffix(".csv")
        titles, *rows = self.as_cells(self.listed.ids)
        numbers = [
            n for n, t in enumerate(titles) if any(h.title == t and h.kind == "number" for h in self.listed.heads)
        ]

        def work() -> None:
            data = table_bytes(path.suffix, self.accessibleName(), titles, rows, numbers)
            write_atomic(path, data, keep=True)

        wait_for(work)
        inform_near(self, f"{say_count(len(self.listed.ids), 'row')} written to {path.name}.")

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.matches(QKeySequence.StandardKey.Copy):
            self.copy_rows()
        else:
            super().keyPressEvent(e)


class RowList(ListView):
    """Emits `picked` with the id of the row that was chosen by hand."""

    picked = Signal(object)

    def __init__(self, name: str, heads: tuple[Column, ...], parent: QWidget | None = None) -> None:
        self.rows = RowModel(heads)
        super().__init__(name, self.rows)
        self.setItemDelegate(RowPainter(self))
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.widths()
        self.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.setSortingEnabled(True)
        self._busy = False
        self.selectionModel().currentRowChanged.connect(self._follow_current)

    def _follow_current(self, now: QModelIndex, _: QModelIndex) -> None:
        if now.isValid() and not self._busy:
            self.picked.emit(self.rows.ids[now.row()])

    def show_lines(self, lines: list[ListRow], chosen: Hashable = None) -> None:
        """Show other rows; the row of `chosen` is selected without telling anybody."""
        self._busy = True
        self.rows.show(lines)
        row = self.rows.row_of(chosen) if chosen not in (None, "") else -1
        if row >= 0:
            self.selectRow(row)
        else:
            self.clearSelection()
            self.setCurrentIndex(QModelIndex())
        self._busy = False
