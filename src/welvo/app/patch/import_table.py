"""Taking somebody else's table in: which column is what, which type is which mode, and row by row what comes of it."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QScrollArea, QWidget

from welvo.app.computer import Computer
from welvo.app.disk import wait_for
from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.painting import clear_layout, column_of_widgets, make_label, row_of_widgets
from welvo.app.widgets.strip import Strip
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.formats.workbooks import Grid, read_grid
from welvo.rig.base import Refused
from welvo.rig.notation import natural_sort_key, say_count
from welvo.survey.spreadsheet import DRAFT, Mapping, Pasted, guess_mapping, readable_columns, understand_table

NEW_COLUMN = "new"
SHOWN = {"new": "added", "changed": "changed", "same": "as it is", "refused": "left out"}
MOST_REMEMBERED = 40


def signature_of_headings(heads: tuple[str, ...]) -> str:
    """What a kind of table is recognised by: its headings."""
    return "\t".join(h.strip().lower() for h in heads)


class ImportTable(WishDialog):
    """A file of rows becomes fixtures. What was said of the columns and the types is remembered for the next one."""

    def __init__(self, session: Session, computer: Computer, path: Path, parent: QWidget) -> None:
        self.grid: Grid = wait_for(lambda: read_grid(path), f"Reading {path.name}")
        super().__init__(
            parent,
            f"Import {path.name}",
            "Import",
            note="The number says which fixture a row is about: known ones are changed, new ones added, nothing is "
            "taken away. Nothing happens before you press the button, and undo takes it back.",
            wide=1080,
            high=660,
        )
        self._session, self._computer = session, computer
        heads = self.grid.rows[0]
        self._key = signature_of_headings(heads)
        known = computer.mappings.get(self._key, {})
        columns = guess_mapping(session.rig, heads)
        self.columns = [known.get(f"column {n}", c) for n, c in enumerate(columns)]
        self.types = {k[5:]: v for k, v in known.items() if k.startswith("type ") and self._is_mode(v)}
        self.found: Pasted | None = None
        self._grid = QGridLayout()
        self._grid.setSpacing(4)
        self._type_lines = column_of_widgets(spacing=4)
        left = QWidget()
        inside = column_of_widgets((0, 0, 8, 0), 8)
        inside.addWidget(make_label("Columns of the table", 13, True))
        inside.addLayout(self._grid)
        self._types_head = make_label("Types that this rig does not know", 13, True)
        inside.addWidget(self._types_head)
        inside.addLayout(self._type_lines)
        inside.addStretch(1)
        left.setLayout(inside)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(left)
        keep_width(area, 430)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list = RowList(
            "Rows",
            (
                Column("Row", 44, "number"),
                Column("", 76),
                Column("No.", 56),
                Column("Before", 130),
                Column("After, or why not", 250),
            ),
        )
        self.body.addLayout(row_of_widgets(area, self.list))
        self._choices: list[Choice] = []
        self._shown_types: tuple[tuple[str, int], ...] | None = None
        self._fill_columns()
        self.show_effects(Strip(session, 30))
        self.finish(room=30)

    def _is_mode(self, value: str) -> bool:
        pid, tab, mid = value.partition("\t")
        profile = self._session.rig.profiles.get(pid)
        return value == DRAFT or bool(tab and profile and mid in profile.modes)

    # ---- which column is what

    def _fill_columns(self) -> None:
        clear_layout(self._grid)
        self._choices = []
        options = [("", "not read"), *readable_columns(self._session.rig), (NEW_COLUMN, "a new column")]
        for n, head in enumerate(self.grid.rows[0]):
            example = next((r[n] for r in self.grid.rows[1:] if r[n]), "")
            name = make_label(head or f"column {n + 1}", 13)
            keep_width(name, 120)
            seen = make_label(example, 11, quiet=True)
            keep_width(seen, 110)
            made = Choice(f"What “{head or n + 1}” is here.", partial(self.take_column, n))
            made.setAccessibleName(f"Column {head or n + 1}")
            now = self.columns[n]
            extra = [(now, now[4:])] if now.startswith("own:") and now not in dict(options) else []
            made.set_options([*options, *extra], now)
            self._choices.append(made)
            for at, w in enumerate((name, seen, made)):
                self._grid.addWidget(w, n, at)

    def take_column(self, n: int, key: str) -> None:
        """Take a column of the table for one of ours; what was taken for it before is not read any more."""
        if key == NEW_COLUMN:
            key = f"own:{self.grid.rows[0][n] or f'Column {n + 1}'}"
        self.columns = ["" if c == key and i != n else c for i, c in enumerate(self.columns)]
        self.columns[n] = key
        self._fill_columns()
        self.look()

    # ---- which type is what

    def _fill_types(self, unknown: tuple[tuple[str, int], ...]) -> None:
        every = tuple(sorted({**{t: 0 for t in self.types if self._in_table(t)}, **dict(unknown)}.items()))
        if every == self._shown_types:
            return
        self._shown_types = every
        clear_layout(self._type_lines)
        self._types_head.setVisible(bool(every))
        rig = self._session.rig
        modes = [
            (f"{pid}\t{mid}", f"{p.name} · {m.name}")
            for pid, p in sorted(rig.profiles.items(), key=lambda x: natural_sort_key(x[1].name))
            for mid, m in p.modes.items()
        ]
        options = [("", "leave these rows out"), (DRAFT, "a new profile, by its footprint"), *modes]
        for name, count in every:
            words = make_label(name + (f"  ({count})" if count else ""), 13)
            keep_width(words, 200)
            made = Choice(f"Which profile and mode “{name}” is here.", partial(self.take_type, name))
            made.setAccessibleName(f"Type {name}")
            made.set_options(options, self.types.get(name, ""))
            self._type_lines.addLayout(flow_of_widgets(words, made))

    def _in_table(self, name: str) -> bool:
        at = {c: n for n, c in enumerate(self.columns) if c}
        wanted = [at[c] for c in ("profile", "mode") if c in at]
        return any(" · ".join(r[n] for n in wanted if r[n]) == name for r in self.grid.rows[1:])

    def take_type(self, name: str, key: str) -> None:
        self.types = {k: v for k, v in self.types.items() if k != name} | ({name: key} if key else {})
        self.look()

    # ---- what comes of it

    def foresee(self) -> tuple[str, str]:
        self.found = None
        self.list.show_lines([])
        mapping = Mapping(tuple(self.columns), dict(self.types))
        index, grid = self._session.index, self.grid
        words = f"Working out {say_count(len(grid.rows) - 1, 'row')}"
        self.found = found = wait_for(lambda: understand_table(index, grid.rows, mapping, grid.loose), words)
        self._fill_types(found.unknown)
        rows = []
        for r in sorted(found.rows, key=lambda r: (r.state != "refused", not r.meets, r.state == "same", r.n)):
            said = r.why if r.state == "refused" else r.after + (f"  meets {', '.join(r.meets[:3])}" if r.meets else "")
            state = "clash" if r.meets else SHOWN[r.state]
            rows.append(ListRow(r.n, (str(r.n), state, r.who, r.before, said), (r.n, state, r.who, r.before, said),
                                quiet=r.state == "same", bold=r.state == "refused" or bool(r.meets)))  # fmt: skip
        self.list.show_lines(rows)
        counts = [f"{len(found.rows_in_state(s))} {w}" for s, w in SHOWN.items() if found.rows_in_state(s)]  # type: ignore[arg-type]
        clashing = sum(bool(r.meets) for r in found.rows)
        words = ", ".join(counts) + (f"; {say_count(clashing, 'row')} would meet others" if clashing else "") + "."
        if found.unread:
            words += f" Not read: {', '.join(found.unread[:6])}."
        count = len(found.new_rows) + len(found.changed_rows)
        return words, f"Import {say_count(count, 'row')}" if count else ""

    def do(self) -> object:
        if self.found is None:
            raise Refused("There is nothing to import.")
        done = self._session.take_over_edit((self.found.rig, self.found.change))
        said = {f"column {n}": c for n, c in enumerate(self.columns)} | {f"type {k}": v for k, v in self.types.items()}
        others = {k: v for k, v in self._computer.mappings.items() if k != self._key}
        self._computer.mappings = dict([*others.items(), (self._key, said)][-MOST_REMEMBERED:])
        self._computer.save_settings()
        self._session.select_items([*self.found.new_rows, *self.found.changed_rows])
        return done
