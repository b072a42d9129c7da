"""The list of items: fixtures and elements, sorted, filtered and edited, several at once if wanted."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import (
    QItemSelection,
    QItemSelectionModel,
    QRect,
    QRectF,
    Qt,
    Signal,
)
from PySide6.QtGui import QKeyEvent, QKeySequence, QPainter, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QWidget,
)

from welvo.app.session import Session
from welvo.app.widgets import dialogs, marks
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import LEFT, RIGHT, draw_text_line
from welvo.app.widgets.tables import AnyIndex, Column, ListModel, ListView
from welvo.app.widgets.theme import THEME
from welvo.app.widgets.tints import draw_spine
from welvo.checks.registry import SEVERITIES
from welvo.matching.planned import compare_device
from welvo.patch import table
from welvo.patch.removing import remove_items
from welvo.rig.document import Change
from welvo.rig.edits import lock_items, set_columns
from welvo.rig.tints import tint_of
from welvo.rig.wiring import Device
from welvo.settings.compare import SettingLine
from welvo.survey import spreadsheet

SHOWN_FIRST = ("mark", "number", "name", "profile", "first", "last", "slots", "port", "matches")
"""Columns in the order shown; the rest of the table's follow. Mark, port and matches are this list's own."""
OWN_TITLES = {"mark": "", "port": "Port", "matches": "Matches"}
WIDTHS = {
    "mark": 28,
    "number": 58,
    "name": 180,
    "profile": 200,
    "first": 78,
    "last": 68,
    "slots": 50,
    "port": 104,
    "matches": 108,
    "groups": 120,
    "turns": 80,
    "spot": 90,
    "note": 180,
}
RIGHT_COLUMNS = ("number", "first", "last", "slots")
FEW = 300


def _head_of_column(column: str) -> Column:
    kind = "mark" if column == "mark" else "number" if column in RIGHT_COLUMNS else "text"
    title = OWN_TITLES[column] if column in OWN_TITLES else table.title_of_column(column)
    return Column(title, WIDTHS.get(column, 96), kind, table.help_for(column), column)


class ItemModel(ListModel):
    """Fixtures and elements, over the session. What an edit did not touch is not looked at."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.sorted_by = (1, Qt.SortOrder.AscendingOrder)
        self._cells: dict[tuple[str, str], str] = {}
        self._worst: dict[str, str] = {}
        self._by_universe: dict[str, tuple[str, str]] = {}
        self._on_line: dict[str, tuple[str, str]] = {}
        self._port_marks: dict[tuple[str, str], tuple[str, str]] = {}
        self._marks_of: dict[str, tuple[list[SettingLine], Device, PortMarks]] = {}
        self.asleep: Callable[[], bool] = lambda: False
        """Whether nobody looks: then an edit is only remembered, and looked at by `wake_up`."""
        self._slept = False
        session.changed.connect(self._follow_change)
        session.observed_changed.connect(self._follow_observations)
        self.rebuild_rows()

    @property
    def columns(self) -> tuple[str, ...]:
        return tuple(h.key for h in self.heads)

    def _follow_change(self, change: Change) -> None:
        """Take over an edit: a few touched rows are looked at again, or the whole list where more is attached to it."""
        if self.asleep():
            self._slept = True
            return
        everything = any(
            change.changed_ids(p)
            for p in ("profiles", "universes", "devices", "feeds", "device_models", "groups", "rig")
        )
        touched = set(self._session.followed.items) | change.changed_ids("fixtures") | change.changed_ids("elements")
        rig = self._session.rig
        here = [k in rig.fixtures or k in rig.elements for k in touched]
        if everything or len(touched) > FEW or not all(here) or any(k not in self._ranks for k in touched):
            self.rebuild_rows()
            return
        before = self._worst
        self._find_worst()
        assert self.sorted_by
        n = self.sorted_by[0]
        moved = False
        for k in touched:
            for c in self.columns:
                self._cells.pop((k, c), None)
            rank = self.rank(k, n)
            moved = moved or rank != self._ranks[k] or bool(self._filter)
            self._ranks[k] = rank
        if moved or (self.heads[n].key == "mark" and before != self._worst) or "is:" in self._filter:
            self._ranks = self._ranks if moved else {}
            self.arrange()
            return
        self._tell_rows({self._row_of[k] for k in touched if k in self._row_of})
        if before != self._worst:
            changed = {k for k in before.keys() | self._worst.keys() if before.get(k) != self._worst.get(k)}
            self._tell_rows({self._row_of[k] for k in changed if k in self._row_of})

    def wake_up(self) -> None:
        """Look at the whole rig again when edits were slept through."""
        if self._slept:
            self._slept = False
            self.rebuild_rows()

    def _tell_rows(self, rows: set[int]) -> None:
        last = len(self.heads) - 1
        if len(rows) > 100:
            self.dataChanged.emit(self.index(min(rows), 0), self.index(max(rows), last))
            return
        for n in rows:
            self.dataChanged.emit(self.index(n, 0), self.index(n, last))

    def rebuild_rows(self) -> None:
        """Look at the whole rig again."""
        rest = [c for c in table.keys_of_columns(self._session.rig) if c not in SHOWN_FIRST]
        shown = (*SHOWN_FIRST, *rest)
        self._cells.clear()
        self._ranks = {}
        self._look_at_rig()
        if shown == self.columns:
            self.arrange()
            return
        before = self.columns[self.sorted_by[0]] if self.heads and self.sorted_by else "number"
        self.beginResetModel()
        self.heads = tuple(_head_of_column(c) for c in shown)
        if self.sorted_by:
            self.sorted_by = (shown.index(before if before in shown else "number"), self.sorted_by[1])
        self.take_order(self.wanted())
        self.endResetModel()

    def all_ids(self) -> list[str]:
        return [*self._session.rig.fixtures, *self._session.rig.elements]

    def matches(self, id_: str, words: str) -> bool:
        return table.row_matches(self._session.index, id_, words, self._worst.get(id_, ""))

    def _find_worst(self) -> None:
        self._worst = {}
        for f in reversed(self._session.report.findings):
            if f.code not in ("WIRE-01", "FEED-02"):
                for k in f.items:
                    self._worst[k] = f.severity

    def _look_at_rig(self) -> None:
        """What is asked per row while painting, gathered once."""
        s = self._session
        self._look_at_network()
        self._by_universe = {}
        for device_id, d in s.rig.devices.items():
            for label, port in d.ports.items():
                feed = s.rig.feeds.get(port.feed)
                if feed:
                    self._by_universe.setdefault(feed.universe, (device_id, label))
        self._on_line = {
            f: (device_id, label)
            for device_id, d in s.rig.devices.items()
            for label, p in d.ports.items()
            for seg in p.run
            for f in (*seg.fixtures, *((seg.element,) if seg.element else ()))
        }

    def _look_at_network(self) -> None:
        """The part of it that what is heard can change."""
        s = self._session
        self._find_worst()
        marks: dict[tuple[str, str], tuple[str, str]] = {}
        for device_id, d in s.rig.devices.items():
            lines = compare_device(s.index, s.observed, device_id, s.now())
            known = self._marks_of.get(device_id)
            if known is None or known[0] is not lines or known[1] is not d:
                known = self._marks_of[device_id] = (lines, d, _port_marks(device_id, d, lines))
            marks |= known[2]
        self._port_marks = marks

    def _port_of_item(self, key: str) -> tuple[str, str] | None:
        spans = self._session.index.spans_of(key)
        return self._on_line.get(key) or (self._by_universe.get(spans[0].universe) if spans else None)

    def _follow_observations(self) -> None:
        before = (self._worst, self._port_marks)
        self._look_at_network()
        if before != (self._worst, self._port_marks) and self.ids:
            for key in [k for k in self._cells if k[1] in ("matches", "port")]:
                del self._cells[key]
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.ids) - 1, len(self.heads) - 1))

    def rank(self, id_: str, column: int) -> Any:
        key = self.heads[column].key
        if key == "mark":
            return (SEVERITIES.index(self._worst[id_]) if id_ in self._worst else 9,)
        if key in OWN_TITLES:
            return super().rank(id_, column)
        return table.rank_of_row(self._session.index, id_, key)

    def text_of_cell(self, key: str, column: str) -> str:
        """What a cell says, worked out once until an edit touches its row."""
        if column == "mark":
            return self._worst.get(key, "")
        found = self._cells.get((key, column))
        if found is None:
            if column in ("port", "matches"):
                port = self._port_of_item(key)
                device = self._session.rig.devices.get(port[0]) if port else None
                found = f"{device.name} · {port[1]}" if port and device else ""
                if column == "matches":
                    found = self._port_marks.get(port, ("unknown", "not read"))[1] if port else ""
            else:
                found = table.text_of_cell(self._session.index, key, column)
            self._cells[key, column] = found
        return found

    def cell(self, id_: str, column: int) -> str:
        return self.text_of_cell(id_, self.heads[column].key)

    def mark_of_item(self, key: str) -> str:
        port = self._port_of_item(key)
        return self._port_marks.get(port, ("unknown", ""))[0] if port else ""

    def is_locked(self, key: str) -> bool:
        rig = self._session.rig
        f, e = rig.fixtures.get(key), rig.elements.get(key)
        return any(p.locked for p in f.at) if f else bool(e and e.at.locked)

    # ---- Qt's side

    def data(self, index: AnyIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.EditRole and index.isValid():
            value = self.cell(self.ids[index.row()], index.column())
            return "" if value == "not patched" else value
        if role == Qt.ItemDataRole.ToolTipRole:
            return self.heads[index.column()].help
        return super().data(index, role)

    def flags(self, index: AnyIndex) -> Qt.ItemFlag:
        if not index.isValid():
            return USABLE
        column = self.heads[index.column()].key
        lamp = self.ids[index.row()] in self._session.rig.fixtures
        return EDITABLE if table.help_for(column) and (lamp or column in ("first", "groups", "note")) else USABLE

    def change_column(self, keys: list[str], column: str, typed: str) -> bool:
        """Edit one column of one or several rows; a series counts through them in list order."""
        s = self._session
        return s.attempt_edit(lambda _: table.change_cells(s.index, keys, column, typed)) is not None


PortMarks = dict[tuple[str, str], tuple[str, str]]


def _port_marks(device_id: str, device: Device, lines: list[SettingLine]) -> PortMarks:
    """A mark and a word for each port of a device: whether it is set to what is planned."""
    by_key = {x.key: x.mark for x in lines}
    found: PortMarks = {}
    for label in device.ports:
        pair = {by_key.get(f"{label}.universe", "unknown"), by_key.get(f"{label}.protocol", "unknown")}
        mark = next((m for m in ("differs", "claimed", "unknown", "silent") if m in pair), "matches")
        words = {"matches": "port matches", "claimed": "pushed"}.get(mark, "not read")
        found[device_id, label] = ("upstream", f"see port {label}") if mark == "differs" else (mark, words)
    return found


USABLE = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
EDITABLE = USABLE | Qt.ItemFlag.ItemIsEditable
"""Made once: putting flags together for each cell of each painting costs more than looking at the cell."""


class ItemPainter(QStyledItemDelegate):
    """Paints marks, spines and aligned numbers; edits with the project's own field."""

    def __init__(self, table: ItemList) -> None:
        super().__init__(table)
        self._table = table

    def paint(self, p: QPainter, option: QStyleOptionViewItem, index: AnyIndex) -> None:
        model = self._table.items
        key = model.ids[index.row()]
        column = model.heads[index.column()].key
        r = QRectF(option.rect)
        selected = bool(option.state & QStyle.StateFlag.State_Selected)
        if selected:
            p.fillRect(r, THEME.color("select"))
            if column == "mark":
                p.fillRect(QRectF(r.left(), r.top(), 3, r.height()), THEME.color("accent"))
        p.fillRect(QRectF(r.left(), r.bottom() - 1, r.width(), 1), THEME.color("line"))
        words = model.text_of_cell(key, column)
        inner = r.adjusted(6, 0, -6, 0)
        if column == "mark":
            if words:
                marks.draw_mark(p, words, r.left() + 8, r.top() + 6, 12)
        elif column == "profile":
            k = tint_of(self._table.session.rig, key)
            draw_spine(p, inner.left(), r.top() + 4, 16, k, THEME.colours_of_tint(k)[0])
            draw_text_line(p, inner.adjusted(12, 0, 0, 0), words)
        elif column == "matches":
            if model.mark_of_item(key):
                marks.draw_mark(p, model.mark_of_item(key), inner.left(), r.top() + 6, 12)
            draw_text_line(p, inner.adjusted(18, 0, 0, 0), words, "quiet", 11)
        elif column == "first" and (words == "not patched" or "–" in words):
            draw_text_line(p, inner, words, "warning", 11, align=RIGHT)
        else:
            if column == "first" and model.is_locked(key):
                marks.draw_padlock(p, r.left() + 1, r.top() + 7, THEME.color("quiet"))
            right = column in RIGHT_COLUMNS
            draw_text_line(
                p,
                inner,
                words,
                bold=column == "number",
                align=RIGHT if right else LEFT,
            )

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: AnyIndex) -> QWidget:
        model = self._table.items
        key, column = model.ids[index.row()], model.heads[index.column()].key
        keys = self._table.chosen_ids()
        editor = Field(table.help_for(column), lambda t: model.change_column([key], column, t), parent)
        editor.apply_to_all = lambda t: model.change_column(keys if key in keys else [key], column, t)
        editor.try_apply = lambda t: model.change_column([key], column, t)
        editor.setAccessibleName(table.title_of_column(column))
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


class ItemList(ListView):
    """Selection here is the session's selection, both ways. Emits `paste` when the clipboard is to be read."""

    paste = Signal()

    def __init__(self, session: Session) -> None:
        self.session = session
        self.items = ItemModel(session)
        self._busy = False
        super().__init__("Fixtures and elements", self.items)
        self.acts: Callable[[], QMenu] = super().row_menu
        """What the station offers for the rows."""
        self.items.asleep = self._is_asleep
        self.setItemDelegate(ItemPainter(self))
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed)
        self.widths()
        self.items.modelReset.connect(self.widths)
        self.setSortingEnabled(True)
        self.sortByColumn(1, Qt.SortOrder.AscendingOrder)
        self.items.modelReset.connect(self._show_selected)
        session.selection_changed.connect(self._show_selected)

    def _is_asleep(self) -> bool:
        """Another station is looked at; a window that was never shown counts as awake."""
        return self.window().isVisible() and not self.isVisible()

    def showEvent(self, e: QShowEvent) -> None:
        self.items.wake_up()
        super().showEvent(e)

    def room_before(self, column: int) -> int:
        """The spine of a profile, and the mark of a port."""
        return {"profile": 12, "matches": 18}.get(self.items.heads[column].key, 0)

    def holds_numbers(self, column: int) -> bool:
        return self.items.heads[column].key in RIGHT_COLUMNS

    def column_menu(self) -> QMenu:
        """Which columns are shown, and the rig's own ones."""
        menu = super().column_menu()
        menu.addSeparator()
        menu.addAction("Name the rig's own columns…", self.name_columns)
        return menu

    def name_columns(self) -> None:
        """Ask for the names of the rig's own columns."""
        now = ", ".join(self.session.rig.columns)
        dialogs.ask_line(
            self,
            "The rig's own columns",
            "Names with commas between, such as Position, Circuit, Purpose.",
            lambda names: self.session.make_edit(set_columns, names.split(",")),
            value=now,
        )

    def row_menu(self) -> QMenu:
        return self.acts()

    def as_cells(self, ids: Sequence[Any]) -> list[list[str]]:
        """All columns that can be read back, shown or not."""
        return spreadsheet.cells_of_items(self.session.index, ids)

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        super().selectionChanged(selected, deselected)
        if not self._busy:
            self._busy = True
            self.session.select_items(self.chosen_ids())
            self._busy = False

    def _show_selected(self) -> None:
        """Select in the list what is selected elsewhere, and bring it into view."""
        if self._busy:
            return
        self._busy = True
        ids = self.session.selection.ids if self.session.selection.kind == "item" else ()
        picked = QItemSelection()
        rows = self.items.rows_of(ids)
        first = rows[0] if rows else -1
        last = len(self.items.heads) - 1
        for a, b in _runs_of_rows(rows):
            picked.select(self.items.index(a, 0), self.items.index(b, last))
        self.selectionModel().select(picked, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if first >= 0:
            self.selectionModel().setCurrentIndex(
                self.items.index(first, max(1, self.currentIndex().column())),
                QItemSelectionModel.SelectionFlag.NoUpdate,
            )
            self.scrollTo(self.items.index(first, 0))
        self._busy = False

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if self.state() == QAbstractItemView.State.EditingState:
            e.accept()  # what the editor let through must not reach the list
        elif e.key() == Qt.Key.Key_Delete and self.chosen_ids():
            self.session.attempt_edit(remove_items, self.chosen_ids())
        elif e.matches(QKeySequence.StandardKey.Paste):
            self.paste.emit()
        elif e.key() == Qt.Key.Key_L and e.modifiers() == Qt.KeyboardModifier.ControlModifier and self.chosen_ids():
            keys = self.chosen_ids()
            self.session.attempt_edit(lock_items, keys, not all(self.items.is_locked(k) for k in keys))
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentIndex().isValid():
            self.edit(self.currentIndex())
        else:
            super().keyPressEvent(e)


def _runs_of_rows(rows: list[int]) -> list[tuple[int, int]]:
    """Rows that follow one another, as (first, last)."""
    found: list[tuple[int, int]] = []
    for n in rows:
        if found and found[-1][1] == n - 1:
            found[-1] = (found[-1][0], n)
        else:
            found.append((n, n))
    return found
