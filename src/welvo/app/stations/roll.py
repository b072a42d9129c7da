"""The roll: fixtures and elements as a list that is sorted, filtered and edited, several at once if wanted."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import (
    QAbstractTableModel,
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    QRect,
    QRectF,
    Qt,
)
from PySide6.QtGui import QKeyEvent, QPainter
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from welvo.app import marks
from welvo.app.fields import Field
from welvo.app.paint import RIGHT, text
from welvo.app.panel import name_series, number_series
from welvo.app.session import Session
from welvo.app.stations.tape_paint import kind_name, spine, tint_of
from welvo.app.theme import THEME
from welvo.checks.registry import SEVERITIES
from welvo.observed.compare import compare
from welvo.patch.allocate import patch_series
from welvo.rig.counting import running_of
from welvo.rig.edits import remove_things
from welvo.rig.lookup import call, mode_of
from welvo.rig.notation import NotationError, say_place
from welvo.rig.plan import ports_taking

COLUMNS = ("", "No.", "Name", "Profile · mode", "First", "Last", "Slots", "Port", "Agrees")
WIDTHS = (28, 58, 190, 200, 68, 68, 50, 104, 108)
EDITABLE = {1: "number", 2: "name", 4: "first"}
HELP = {
    1: "The crew's number. 101+ numbers a selection upwards.",
    2: "What it is or where it hangs. # becomes 1, 2, 3 in a selection.",
    4: "Where it starts. 3.1 +8 patches a selection every 8 slots; free takes the next free places.",
}
AnyIndex = QModelIndex | QPersistentModelIndex


class RollModel(QAbstractTableModel):
    """Rows over the session, with an order and a filter of its own."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.keys: list[str] = []
        self._filter = ""
        self._sort = (1, Qt.SortOrder.AscendingOrder)
        self._worst: dict[str, str] = {}
        self._ports: dict[str, str] = {}
        self._agrees: dict[str, tuple[str, str]] = {}
        session.changed.connect(lambda _: self.rebuild())
        session.observed_changed.connect(self._observe)
        self.rebuild()

    def rebuild(self) -> None:
        """Look at the rig again. Rows that only move are moved, so that an open editor stays with its row."""
        rig = self._session.rig
        self._look()
        word = self._filter.lower()
        keys = [
            k
            for k in (*rig.fixtures, *rig.elements)
            if not word or word in " ".join(str(self.cell(k, c)) for c in range(1, 9)).lower()
        ]
        column, order = self._sort
        keys.sort(key=lambda k: self._key(k, column), reverse=order == Qt.SortOrder.DescendingOrder)
        if len(keys) != len(self.keys) or set(keys) != set(self.keys):
            self.beginResetModel()
            self.keys = keys
            self.endResetModel()
            return
        if keys != self.keys:
            self.layoutAboutToBeChanged.emit()
            row_of = {k: n for n, k in enumerate(keys)}
            before = self.persistentIndexList()
            after = [self.index(row_of[self.keys[i.row()]], i.column()) for i in before]
            self.keys = keys
            self.changePersistentIndexList(before, after)
            self.layoutChanged.emit()
        if keys:
            self.dataChanged.emit(self.index(0, 0), self.index(len(keys) - 1, len(COLUMNS) - 1))

    def _look(self) -> None:
        """What is asked per row while painting, gathered once."""
        s = self._session
        self._worst = {}
        for f in reversed(s.report.findings):
            if f.code not in ("WIRE-01", "FEED-02"):
                for k in f.things:
                    self._worst[k] = f.severity
        self._agrees = {}
        self._ports = {}
        by_universe: dict[str, tuple[str, str]] = {}
        for fid, feed in s.rig.feeds.items():
            for port in ports_taking(s.rig, fid):
                by_universe.setdefault(feed.universe, port)
        marks_of: dict[tuple[str, str], tuple[str, str]] = {}
        for did, d in s.rig.devices.items():
            lines = {x.key: x.mark for x in compare(s.rig, s.observed, did, s.now())}
            for label in d.ports:
                pair = {lines.get(f"{label}.universe", "unknown"), lines.get(f"{label}.protocol", "unknown")}
                mark = next((m for m in ("differs", "claimed", "unknown", "silent") if m in pair), "agrees")
                marks_of[did, label] = (
                    ("upstream", f"see port {label}")
                    if mark == "differs"
                    else (mark, {"agrees": "port agrees", "claimed": "pushed"}.get(mark, "not read"))
                )
        on_line = {
            f: (did, label)
            for did, d in s.rig.devices.items()
            for label, p in d.ports.items()
            for seg in p.run
            for f in seg.fixtures
        }
        for k in (*s.rig.fixtures, *s.rig.elements):
            spans = s.index.spans(k)
            found = on_line.get(k) or (by_universe.get(spans[0].universe) if spans else None)
            if found:
                self._ports[k] = f"{s.rig.devices[found[0]].name} · {found[1]}"
                self._agrees[k] = marks_of.get(found, ("unknown", "not read"))

    def _observe(self) -> None:
        before = (self._worst, self._agrees)
        self._look()
        if before != (self._worst, self._agrees) and self.keys:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.keys) - 1, len(COLUMNS) - 1))

    def _key(self, key: str, column: int) -> tuple[Any, ...]:
        s = self._session
        if column in (4, 5):
            spans = s.index.spans(key)
            if not spans:
                return (1, 0)
            return (
                0,
                running_of(s.rig.universes[spans[0].universe].number, spans[0].first if column == 4 else spans[0].last),
            )
        if column == 1:
            f = s.rig.fixtures.get(key)
            return (0, f.number, "") if f else (1, 0, s.rig.elements[key].name)
        if column == 6:
            return (int(str(self.cell(key, 6)) or 0),)
        if column == 0:
            return (SEVERITIES.index(self._worst[key]) if key in self._worst else 9,)
        return (str(self.cell(key, column)).lower(),)

    def cell(self, key: str, column: int) -> object:
        s = self._session
        f, e = s.rig.fixtures.get(key), s.rig.elements.get(key)
        if f is None and e is None:
            return ""
        if column == 1:
            return f.number if f else "–"
        if column == 2:
            return f.name if f else call(s.rig, key)
        if column == 3:
            mode = mode_of(s.rig, f) if f else None
            return f"{kind_name(s.rig, key)} · {mode.name}" if mode else f"element · {kind_name(s.rig, key)}"
        spans = s.index.spans(key)
        if column == 4:
            return say_place(s.rig.universes[spans[0].universe].number, spans[0].first) if spans else "not patched"
        if column == 5:
            return say_place(s.rig.universes[spans[-1].universe].number, spans[-1].last) if spans else ""
        if column == 6:
            mode = mode_of(s.rig, f) if f else None
            return mode.footprint if mode else (e.footprint if e else 0)
        if column == 7:
            return self._ports.get(key, "")
        if column == 8:
            return self._agrees.get(key, ("", ""))[1]
        return self._worst.get(key, "")

    def mark(self, key: str) -> str:
        return self._agrees.get(key, ("", ""))[0]

    def set_filter(self, word: str) -> None:
        self._filter = word.strip()
        self.rebuild()

    # ---- Qt's side

    def rowCount(self, parent: AnyIndex = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.keys)

    def columnCount(self, parent: AnyIndex = QModelIndex()) -> int:  # noqa: B008
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole and section in (1, 4, 5, 6):
            return int(RIGHT)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return int(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        return None

    def data(self, index: AnyIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid():
            return None
        key = self.keys[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return str(self.cell(key, index.column()))
        if role == Qt.ItemDataRole.EditRole:
            value = str(self.cell(key, index.column()))
            return "" if value == "not patched" else value
        if role == Qt.ItemDataRole.ToolTipRole:
            return HELP.get(index.column(), "")
        return None

    def flags(self, index: AnyIndex) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        key = self.keys[index.row()] if index.isValid() else ""
        if index.column() in EDITABLE and (key in self._session.rig.fixtures or index.column() == 4):
            flags |= Qt.ItemFlag.ItemIsEditable
        return flags

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        self._sort = (column, order)
        self.rebuild()

    def change(self, keys: list[str], column: int, typed: str) -> bool:
        """Edit one column of one or several rows; a series counts through them in list order."""
        s = self._session
        fixtures = [k for k in keys if k in s.rig.fixtures]
        try:
            if column == 4:
                return s.take(patch_series(s.index, [(k, 0) for k in keys], typed)) is not None
        except NotationError as e:
            s.say(str(e), "error")
            return False
        return s.edit(number_series if column == 1 else name_series, fixtures, typed) is not None


class _Delegate(QStyledItemDelegate):
    """Paints marks, spines and aligned numbers; edits with the project's own field."""

    def __init__(self, table: Roll) -> None:
        super().__init__(table)
        self._table = table

    def paint(self, p: QPainter, option: QStyleOptionViewItem, index: AnyIndex) -> None:
        model = self._table.roll
        key = model.keys[index.row()]
        column = index.column()
        r = QRectF(option.rect)
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        if selected:
            p.fillRect(r, THEME.color("select"))
            if column == 0:
                p.fillRect(QRectF(r.left(), r.top(), 3, r.height()), THEME.color("accent"))
        p.fillRect(QRectF(r.left(), r.bottom() - 1, r.width(), 1), THEME.color("line"))
        words = str(model.cell(key, column))
        inner = r.adjusted(6, 0, -6, 0)
        if column == 0:
            if words:
                marks.draw(p, words, r.left() + 8, r.top() + 6, 12)
        elif column == 3:
            k = tint_of(self._table.session.rig, key)
            spine(p, inner.left(), r.top() + 4, 16, k, THEME.tint(k)[0])
            text(p, inner.adjusted(12, 0, 0, 0), words)
        elif column == 8:
            if model.mark(key):
                marks.draw(p, model.mark(key), inner.left(), r.top() + 6, 12)
            text(p, inner.adjusted(18, 0, 0, 0), words, "quiet", 11)
        elif column == 4 and words == "not patched":
            text(p, inner, words, "warning", 11, align=RIGHT)
        else:
            right = column in (1, 4, 5, 6)
            text(
                p,
                inner,
                words,
                bold=column == 1,
                align=RIGHT if right else Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
            )

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: AnyIndex) -> QWidget:
        model, column = self._table.roll, index.column()
        key = model.keys[index.row()]
        keys = self._table.chosen()
        editor = Field(HELP[column], lambda t: model.change([key], column, t), parent)
        editor.apply_to_all = lambda t: model.change(keys if key in keys else [key], column, t)
        editor.setAccessibleName(COLUMNS[column])
        return editor

    def setEditorData(self, editor: QWidget, index: AnyIndex) -> None:
        if isinstance(editor, Field) and not editor.pending:
            editor.set_value(str(index.data(Qt.ItemDataRole.EditRole)))
            editor.selectAll()

    def setModelData(self, editor: QWidget, model: object, index: AnyIndex) -> None:
        if isinstance(editor, Field):
            editor.commit()

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: AnyIndex) -> None:
        editor.setGeometry(QRect(option.rect).adjusted(0, -1, 0, 1))


class Roll(QTableView):
    """Selection here is the session's selection, both ways."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._busy = False
        self.roll = RollModel(session)
        self.setModel(self.roll)
        self.setItemDelegate(_Delegate(self))
        self.setAccessibleName("Roll of fixtures and elements")
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed)
        self.setShowGrid(False)
        self.setWordWrap(False)
        self.verticalHeader().setVisible(False)
        self.verticalHeader().setDefaultSectionSize(24)
        self.verticalHeader().setMinimumSectionSize(24)
        header = self.horizontalHeader()
        header.setMinimumSectionSize(24)
        header.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        header.setStretchLastSection(True)
        header.setHighlightSections(False)
        for n, w in enumerate(WIDTHS):
            self.setColumnWidth(n, w)
        self.setSortingEnabled(True)
        self.sortByColumn(1, Qt.SortOrder.AscendingOrder)
        self.roll.modelReset.connect(self._show)
        session.selection_changed.connect(self._show)

    def chosen(self) -> list[str]:
        """Keys of the selected rows, from top to bottom."""
        rows: set[int] = set()
        for r in self.selectionModel().selection().toList():
            rows.update(range(r.top(), r.bottom() + 1))
        return [self.roll.keys[n] for n in sorted(rows) if n < len(self.roll.keys)]

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        super().selectionChanged(selected, deselected)
        if not self._busy:
            self._busy = True
            self.session.select_things(self.chosen())
            self._busy = False

    def _show(self) -> None:
        """Select in the list what is selected elsewhere, and bring it into view."""
        if self._busy:
            return
        self._busy = True
        ids = set(self.session.selection.ids) if self.session.selection.kind == "thing" else set()
        picked = QItemSelection()
        first = -1
        for n, k in enumerate(self.roll.keys):
            if k in ids:
                at = self.roll.index(n, 0)
                picked.select(at, self.roll.index(n, len(COLUMNS) - 1))
                first = n if first < 0 else first
        self.selectionModel().select(picked, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if first >= 0:
            self.selectionModel().setCurrentIndex(
                self.roll.index(first, max(1, self.currentIndex().column())), QItemSelectionModel.SelectionFlag.NoUpdate
            )
            self.scrollTo(self.roll.index(first, 0))
        self._busy = False

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if self.state() == QAbstractItemView.State.EditingState:
            e.accept()  # what the editor let through must not reach the list
        elif e.key() == Qt.Key.Key_Delete and self.chosen():
            self.session.edit(remove_things, self.chosen())
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.edit(self.currentIndex())
        else:
            super().keyPressEvent(e)
