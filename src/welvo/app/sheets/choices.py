"""What is chosen for a sheet, beside its pages. What is chosen once is chosen for the next time on this computer."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QScrollArea, QSizePolicy, QWidget

from welvo.app.computer import Computer, load_passwords
from welvo.app.disk import wait_for
from welvo.app.session import Session
from welvo.app.widgets.fields import Choice, Field, Tick
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import field_row
from welvo.app.widgets.literal import menu_words
from welvo.app.widgets.painting import (
    clear_layout,
    column_of_widgets,
    make_button,
    make_label,
    popup_menu,
)
from welvo.app.widgets.theme import THEME
from welvo.formats.files import read_bytes
from welvo.formats.versions import in_time
from welvo.rig.base import Refused
from welvo.rig.document import Picture, put_entries
from welvo.rig.readers import read_whole_number
from welvo.sheets.catalogue import SHEETS, Sheet, choices_about, columns_of, possible_groupings
from welvo.sheets.lists import PASSWORD, Material
from welvo.sheets.paper import PAPERS, STOCKS, Choices, read_stock

COMMON = ("paper", "header", "decimal", "day")
"""What is chosen for all sheets at once."""
LOGO = "logo"
"""The id under which the logo travels with the rig, among its pictures."""
DAYS = {"%Y-%m-%d": "2027-01-15", "%d.%m.%Y": "15.01.2027", "%d/%m/%Y": "15/01/2027", "%m/%d/%Y": "01/15/2027"}
MOST_LOGO = 4 * 2**20


class ChoicesPanel(QWidget):
    """Emits `changed` when anything else is wanted than before."""

    changed = Signal()

    def __init__(self, session: Session, computer: Computer) -> None:
        super().__init__()
        self._session, self._computer = session, computer
        self.key = next(iter(SHEETS))
        self.about = ""
        self.since = self.until = ""
        """Between which versions the sheet of changes counts; without the second one up to now."""
        self.only_selected = False
        self.with_passwords = False
        """Asked for anew each time: nothing remembers it."""
        self._built: tuple[object, ...] | None = None
        self._fields: dict[str, QWidget] = {}
        self._lines = column_of_widgets((16, 12, 16, 12), 8)
        inner = QWidget()
        inner.setLayout(self._lines)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inner)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        outer = column_of_widgets(spacing=0)
        outer.addWidget(area)
        self.setLayout(outer)
        self._acts: tuple[tuple[str, Callable[[], object], str], ...] = ()

    @property
    def sheet_shown(self) -> Sheet:
        return SHEETS[self.key]

    def chosen_value(self, name: str, default: str = "") -> str:
        """What was chosen, for this sheet or for all."""
        return self._computer.sheets.get("" if name in COMMON else self.key, {}).get(name, default)

    def take_choice(self, name: str, value: str) -> None:
        of = "" if name in COMMON else self.key
        kept = {**self._computer.sheets.get(of, {}), name: value}
        self._computer.sheets = {**self._computer.sheets, of: {k: v for k, v in kept.items() if v}}
        self._computer.save_settings()
        self.changed.emit()

    # ---- what the pages are made with

    def chosen_choices(self) -> Choices:
        """Everything as it is chosen. Raises Refused for a stock that can no longer be read."""
        picture = self._session.rig.pictures.get(LOGO)
        turned = self.chosen_value("turned")
        known = {
            k
            for k, _ in (
                *columns_of(self._material_of_sheet(), self.sheet_shown),
                *possible_groupings(self._material_of_sheet()),
            )
        }
        items: tuple[str, ...] = ()
        if self.only_selected and self._session.selection.kind == "item":
            items = self._session.selection.ids
        first = self.chosen_value("first label", "1")
        return Choices(
            paper=self.chosen_value("paper", "A4") if self.chosen_value("paper", "A4") in PAPERS else "A4",
            landscape=None if not turned else turned == "landscape",
            of=self.about if self.sheet_shown.about else "",
            sort=self.chosen_value("sort") if self.chosen_value("sort") in known else "",
            group=self.chosen_value("group") if self.chosen_value("group") in known else "",
            columns=tuple(c for c in self.chosen_value("columns").split("\t") if c in known),
            header=self.chosen_value("header"),
            logo=picture.data if picture else b"",
            decimal=self.chosen_value("decimal", ".") or ".",
            day=self.chosen_value("day") if self.chosen_value("day") in DAYS else next(iter(DAYS)),
            stock=read_stock(self.chosen_value("stock") or next(iter(STOCKS))),
            first_label=int(first) if first.isdecimal() else 1,
            cut_marks=bool(self.chosen_value("cut marks")),
            items=items,
            secrets=self._known_passwords(),
        )

    def chosen_for(self, key: str) -> Choices:
        """As it is chosen for another sheet: of everything there is, without passwords."""
        now = (self.key, self.about, self.only_selected, self.with_passwords)
        try:
            self.key, self.about, self.only_selected, self.with_passwords = key, "", False, False
            return self.chosen_choices()
        finally:
            self.key, self.about, self.only_selected, self.with_passwords = now

    def _known_passwords(self) -> dict[str, dict[str, str]]:
        """The passwords this computer knows of the rig's devices, where they are asked for."""
        if not (self.with_passwords and self.key == "cards"):
            return {}
        known = load_passwords()
        devices = self._session.rig.devices.items()
        return {k: {PASSWORD: known[d.ip]} for k, d in devices if d.ip in known}

    def _material_of_sheet(self) -> Material:
        return Material(self._session.index, self._session.observed, self._session.now())

    # ---- the fields

    def set_acts(self, *acts: tuple[str, Callable[[], object], str]) -> None:
        self._acts = acts

    def show_sheet(self, key: str) -> None:
        self.with_passwords = self.with_passwords and key == self.key
        self.key = key
        self.fill()

    def _state_of_fields(self) -> tuple[object, ...]:
        """All that the fields depend on."""
        rig, m = self._session.rig, self._material_of_sheet()
        return (
            self.key, self.about, self.since, self.until, self.only_selected, self.with_passwords, LOGO in rig.pictures,
            tuple(choices_about(rig, self.sheet_shown.about)), tuple(v.name for v in rig.versions.values()),
            tuple(columns_of(m, self.sheet_shown)), tuple(possible_groupings(m)), THEME.step,
            tuple(sorted((of, *p) for of in ("", self.key) for p in self._computer.sheets.get(of, {}).items())),
        )  # fmt: skip

    def fill(self) -> None:
        """Build the fields for the sheet that is shown; those that would be the same stay."""
        state = self._state_of_fields()
        if state == self._built:
            return
        self._built = state
        clear_layout(self._lines)
        self._fields = {}
        sheet, rig = self.sheet_shown, self._session.rig
        self._lines.addWidget(make_label(sheet.title, 16, True, wrap=True))
        self._lines.addWidget(make_label(sheet.help, 11, quiet=True, wrap=True))
        first, *others = self._acts
        self._lines.addWidget(make_button(first[0], first[1], first[2], primary=True))
        self._lines.addLayout(flow_of_widgets(*(make_button(*a) for a in others)))
        if sheet.about:
            options = [("", "all of them"), *choices_about(rig, sheet.about)]
            if self.about not in dict(options):
                self.about = ""
            self._add_choice(
                "Of", "Prints only one of them, or all one behind the other.", options, self.about, self._take_about
            )
        if sheet.key == "changes":
            versions = [(v, rig.versions[v].name) for v in reversed(in_time(rig))]
            if versions:
                if self.since not in dict(versions):
                    self.since = versions[0][0]
                self._add_choice("Changes since", "The version that changes are counted from.", versions, self.since,
                             self._take_since)  # fmt: skip
                if self.until not in dict(versions):
                    self.until = ""
                self._add_choice("Up to", "The later one of the two: the rig as it is now, or a version.",
                             [("", "as it is now"), *versions], self.until, self._take_until)  # fmt: skip
        if sheet.key == "labels":
            self._label_fields()
        m = self._material_of_sheet()
        shown = columns_of(m, sheet)
        if shown:
            orders = [("", "the sheet's own"), *shown]
            self._add_choice(
                "Sorted by",
                "The column that decides the order.",
                orders,
                self.chosen_value("sort"),
                self._taker_of_choice("sort"),
            )
            if sheet.key in ("patch", "numbers", "positions", "circuits"):
                splits = [("", "as usual for it"), *possible_groupings(m)]
                self._add_choice("Split by", "Each value of it gets a table of its own.", splits,
                self.chosen_value("group"),
                             self._taker_of_choice("group"))  # fmt: skip
            said = self._say_columns(shown)
            which = make_button(said, lambda: self._pick_columns(shown), "Which columns are printed.")
            which.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            self._lines.addLayout(field_row("Columns", which))
        self._add_tick("Only what is selected", "Prints only the items that are selected in Patch.", self.only_selected,
                   self._take_only)  # fmt: skip
        if sheet.key == "cards":
            self._add_tick("With passwords",
            "Prints the passwords of the devices' pages that this computer knows. Whoever "
                       "finds the paper has them.", self.with_passwords, self._take_passwords)  # fmt: skip
        if sheet.key != "labels":
            papers = [(p, p) for p in PAPERS]
            self._add_choice("Paper", "The size of the paper in the printer.", papers, self.chosen_value("paper", "A4"),
                         self._taker_of_choice("paper"))  # fmt: skip
            ways = [("", "as it fits best"), ("portrait", "upright"), ("landscape", "lying")]
            self._add_choice(
                "Turned",
                "Which way the paper lies in the printer.",
                ways,
                self.chosen_value("turned"),
                self._taker_of_choice("turned"),
            )
            self._add_line("Header", "A line under the title of each page, such as the venue. Empty: the rig's name.",
                       self.chosen_value("header"), self._taker_of_choice("header"))  # fmt: skip
            marks = [(".", "2.5"), (",", "2,5")]
            self._add_choice("Numbers", "How a fraction is written. Addresses are always 3.045.", marks,
                         self.chosen_value("decimal", "."), self._taker_of_choice("decimal"))  # fmt: skip
            self._add_choice(
                "Dates",
                "How dates are written at the foot of pages and in tables.",
                list(DAYS.items()),
                self.chosen_value("day"),
                self._taker_of_choice("day"),
            )
            there = LOGO in rig.pictures
            words = "A picture at the head of each page. It is kept in the rig."
            acts: list[Any] = [make_button("Logo…", self.ask_logo, words)]
            if there:
                acts.append(make_button("Without logo", self.drop_logo, "Takes the logo out of the rig."))
            self._lines.addLayout(flow_of_widgets(*acts, None))
        self._lines.addStretch(1)

    def _label_fields(self) -> None:
        self._add_choice("Stock", "The sheet of labels, by its measures.", [(s, s) for s in STOCKS] + (
            [] if self.chosen_value("stock", next(iter(STOCKS))) in STOCKS else [(self.chosen_value("stock"),
            "as typed")]
        ), self.chosen_value("stock", next(iter(STOCKS))), self._taker_of_choice("stock"))  # fmt: skip
        self._add_line(
            "Measures", "Another stock: 63.5 x 38.1, 3 x 7 on A4, left 7.2, top 15.1, step 66 x 38.1. Millimetres.",
            "" if self.chosen_value("stock", next(iter(STOCKS))) in STOCKS else self.chosen_value("stock"),
            self._take_stock,
        )  # fmt: skip
        self._add_line("First label", "The first free label of the sheet in the printer, row by row from 1.",
                   self.chosen_value("first label", "1"), self._take_first)  # fmt: skip
        self._add_tick("Cut marks", "Prints the corners of each label, for paper that is cut.",
        bool(self.chosen_value("cut marks")),
                   lambda on: self.take_choice("cut marks", "yes" if on else ""))  # fmt: skip

    def _taker_of_choice(self, name: str) -> Callable[[str], object]:
        return lambda value: self.take_choice(name, value)

    def _add_choice(
        self, words: str, help_text: str, options: list[tuple[str, str]], value: str, take: Callable[[str], object]
    ) -> None:
        made = Choice(help_text, take)
        made.setAccessibleName(words)
        made.set_options(options, value)
        self._fields[words] = made
        self._lines.addLayout(field_row(words, made))

    def _add_line(self, words: str, help_text: str, value: str, take: Callable[[str], object]) -> None:
        made = Field(help_text, take)
        made.setAccessibleName(words)
        made.set_value(value)
        self._fields[words] = made
        self._lines.addLayout(field_row(words, made))
        self._lines.addWidget(made.refusal)

    def _add_tick(self, words: str, help_text: str, on: bool, take: Callable[[bool], object]) -> None:
        made = Tick(words, help_text, take)
        made.setAccessibleName(words)
        made.setChecked(on)
        self._fields[words] = made
        self._lines.addWidget(made)

    # ---- taking

    def _take_about(self, key: str) -> None:
        self.about = key
        self.changed.emit()

    def _take_since(self, key: str) -> None:
        self.since = key
        self.changed.emit()

    def _take_only(self, on: bool) -> None:
        self.only_selected = on
        self.changed.emit()

    def _take_passwords(self, on: bool) -> None:
        self.with_passwords = on
        self.changed.emit()

    def _take_until(self, key: str) -> None:
        self.until = key
        self.changed.emit()

    def _take_first(self, typed: str) -> None:
        count = read_stock(self.chosen_value("stock") or next(iter(STOCKS))).labels_per_sheet
        self.take_choice("first label", str(read_whole_number(typed, 1, count)))

    def _take_stock(self, typed: str) -> None:
        stock = read_stock(typed).name if typed.strip() else next(iter(STOCKS))
        self.take_choice("stock", stock)
        self.fill()

    def _say_columns(self, shown: list[tuple[str, str]]) -> str:
        chosen = [c for c in self.chosen_value("columns").split("\t") if c in dict(shown)]
        return f"{len(chosen)} of {len(shown)}" if chosen else "as usual for it"

    def _pick_columns(self, shown: list[tuple[str, str]]) -> None:
        chosen = (
            [c for c in self.chosen_value("columns").split("\t") if c]
            or list(self.sheet_shown.columns)
            or [k for k, _ in shown]
        )
        popup = popup_menu(self)
        for key, words in shown:
            act = popup.addAction(menu_words(words))
            act.setCheckable(True)
            act.setChecked(key in chosen)
            act.triggered.connect(lambda on, key=key: self.set_column(key, on))
        popup.addSeparator()
        popup.addAction("As the sheet is meant", self.usual_columns)
        popup.popup(self.mapToGlobal(self.rect().center()))

    def usual_columns(self) -> None:
        self.take_choice("columns", "")
        self.fill()

    def set_column(self, key: str, on: bool) -> None:
        """Print a column, or leave it out. The last one stays."""
        keys = [k for k, _ in columns_of(self._material_of_sheet(), self.sheet_shown)]
        chosen = [c for c in self.chosen_value("columns").split("\t") if c] or list(self.sheet_shown.columns) or keys
        wanted = [k for k in keys if (k in chosen or k == key) and (on or k != key)]
        if not wanted:
            raise Refused("A sheet needs one column at least.")
        self.take_choice("columns", "\t".join(wanted))
        self.fill()

    def ask_logo(self) -> None:
        name = FileDialog.ask_to_open(self, "A logo", str(Path.home()), "Pictures (*.png *.jpg *.jpeg)")
        if name:
            self.set_logo(Path(name))

    def set_logo(self, path: Path) -> None:
        """Keep a picture in the rig as its logo. Raises Refused for what is no picture, or a very large one."""
        data = wait_for(lambda: read_bytes(path, MOST_LOGO, "a picture"))
        if not data.startswith((b"\x89PNG\r\n", b"\xff\xd8\xff")):
            raise Refused(f"{path.name} is no PNG or JPEG.")
        media = "image/png" if data.startswith(b"\x89PNG") else "image/jpeg"
        self._session.make_edit(
            put_entries, "set the logo", pictures={LOGO: Picture(name=path.name, media=media, data=data)}
        )
        self.fill()
        self.changed.emit()

    def drop_logo(self) -> None:
        self._session.make_edit(put_entries, "take the logo out", pictures={LOGO: None})
        self.fill()
        self.changed.emit()
