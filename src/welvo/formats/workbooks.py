"""Tables to and from spreadsheets: CSV, XLSX and ODS.

A spreadsheet likes to take things for what they are not: `3.100` for a number (and then it is 3.1), `=` at the start of
a name for a formula. So only what a list itself calls a number is written as one, everything else as text; and on the
way in a fraction that stood as a number is remembered, because nobody can tell any more how many zeros it had.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from welvo.formats.archive import Bounds, is_zip, unpack
from welvo.formats.files import RigFileError, read_bytes, shown_name
from welvo.rig.notation import thousands

SUFFIXES = {".csv": "CSV table", ".xlsx": "XLSX workbook", ".ods": "ODS spreadsheet"}
MOST_FILE = 64 * 2**20
MOST_ROWS, MOST_COLUMNS = 20_000, 200
BOUNDS = Bounds("a spreadsheet", 256 * 2**20, 200 * 2**20, 4096, lambda inside: inside.endswith((".xml", ".rels")))


@dataclass(frozen=True)
class Grid:
    """Rows of cells as text. `loose` are the (row, column) of fractions that stood there as numbers."""

    rows: tuple[tuple[str, ...], ...]
    loose: frozenset[tuple[int, int]] = frozenset()


# ---- reading


def read_grid(path: Path) -> Grid:
    """The first table of a file. Raises RigFileError."""
    data = read_bytes(path, MOST_FILE, "a table")
    return grid_of(data, shown_name(path))


def grid_of(data: bytes, name: str) -> Grid:
    """The first table of the bytes of a CSV, XLSX or ODS file, whatever it is called."""
    if is_zip(data):
        entries = unpack(
            data, name, BOUNDS, "is damaged ({why}).", lambda inside: inside in ("content.xml", "mimetype")
        )
        if "content.xml" in entries:
            return _trimmed(_from_ods(data, name), name)
        return _trimmed(_from_xlsx(data, name), name)
    return _trimmed(_from_csv(data, name), name)


Cells = list[list[tuple[str, bool]]]


def _trimmed(cells: Cells, name: str) -> Grid:
    """Without empty rows and trailing empty columns; the rows are numbered after that."""
    rows = [r for r in cells if any(words for words, _ in r)]
    if not rows:
        raise RigFileError(f"{name} holds no table.")
    if len(rows) > MOST_ROWS:
        raise RigFileError(f"{name} has {thousands(len(rows))} rows; take at most {thousands(MOST_ROWS)} at once.")
    wide = max(n + 1 for r in rows for n, (words, _) in enumerate(r) if words)
    if wide > MOST_COLUMNS:
        raise RigFileError(f"{name} has {wide} columns; no list needs more than {MOST_COLUMNS}.")
    full = [[*r, *[("", False)] * (wide - len(r))][:wide] for r in rows]
    loose = frozenset((n, c) for n, r in enumerate(full) for c, (_, odd) in enumerate(r) if odd)
    return Grid(tuple(tuple(words for words, _ in r) for r in full), loose)


def _from_csv(data: bytes, name: str) -> Cells:
    for code in ("utf-8-sig", "cp1252"):
        try:
            text = data.decode(code)
            break
        except UnicodeDecodeError:
            continue
    else:
        raise RigFileError(f"{name} is no text that can be read.")
    if "\0" in text:
        raise RigFileError(f"{name} is neither a table nor a spreadsheet.")
    head = text.lstrip().split("\n", 1)[0]
    mark = max("\t;,", key=head.count)
    try:
        rows = list(csv.reader(io.StringIO(text.replace("\r\n", "\n").replace("\r", "\n")), delimiter=mark))
    except csv.Error as e:
        raise RigFileError(f"{name} cannot be read as a table: {e}.") from e
    return [[(c.strip(), False) for c in row] for row in rows]


def _from_xlsx(data: bytes, name: str) -> Cells:
    import openpyxl

    try:
        book = openpyxl.load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        rows: Cells = []
        for row in sheet.iter_rows(max_row=MOST_ROWS + 2, max_col=MOST_COLUMNS + 1, values_only=True):
            rows.append([_said(v) for v in row])
        book.close()
    except Exception as e:  # a damaged workbook raises nearly anything
        raise RigFileError(f"{name} is damaged, or no spreadsheet: {type(e).__name__}.") from e
    return rows


def _from_ods(data: bytes, name: str) -> Cells:
    try:
        from odf.opendocument import load
        from odf.table import CoveredTableCell, Table, TableCell, TableRow
        from odf.teletype import extractText
        from odf.text import P

        document = load(io.BytesIO(data))
        table = document.spreadsheet.getElementsByType(Table)[0]
        rows: Cells = []
        for row in table.getElementsByType(TableRow):
            cells: list[tuple[str, bool]] = []
            for cell in row.childNodes:
                if cell.qname not in (
                    TableCell(check_grammar=False).qname,
                    CoveredTableCell(check_grammar=False).qname,
                ):
                    continue
                said = _of_ods(cell, "\n".join(map(extractText, cell.getElementsByType(P))).strip())
                repeat = min(int(cell.getAttribute("numbercolumnsrepeated") or 1), MOST_COLUMNS + 1 - len(cells))
                cells += [said] * max(0, repeat)
            repeat = int(row.getAttribute("numberrowsrepeated") or 1)
            rows += [cells] * (min(repeat, MOST_ROWS + 1 - len(rows)) if any(w for w, _ in cells) else 1)
    except Exception as e:  # a damaged document raises nearly anything
        raise RigFileError(f"{name} is damaged, or no spreadsheet: {type(e).__name__}.") from e
    return rows


def _of_ods(cell: Any, words: str) -> tuple[str, bool]:
    if cell.getAttribute("valuetype") == "float":
        value = float(cell.getAttribute("value"))
        return _said(int(value) if value.is_integer() else value)
    return words, False


def _said(value: Any) -> tuple[str, bool]:
    if value is None:
        return "", False
    if isinstance(value, bool):
        return ("yes" if value else "no"), False
    if isinstance(value, float):
        return (str(int(value)), False) if value.is_integer() else (f"{value:.10g}", True)
    return str(value).strip(), False


# ---- writing


def table_bytes(
    suffix: str, title: str, heads: Sequence[str], rows: Iterable[Sequence[str]], numbers: Iterable[int] = ()
) -> bytes:
    """A table as the bytes of a file of that kind; `numbers` are the columns whose cells are numbers.

    Raises RigFileError for a kind that there is not.
    """
    kind = suffix.lower()
    if kind not in SUFFIXES:
        raise RigFileError(f"A table is written as {', '.join(SUFFIXES)}, not as “{suffix}”.")
    as_numbers = frozenset(numbers)
    if kind == ".csv":
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerows([heads, *rows])
        return out.getvalue().encode("utf-8")
    return (_xlsx if kind == ".xlsx" else _ods)(title, heads, rows, as_numbers)


def _number(words: str) -> int | float | None:
    if re.fullmatch(r"\d+\.\d{3}", words):
        return None  # an address: as a number it would lose its zeros
    plain = words.replace("\u202f", "").replace(" ", "")
    try:
        return int(plain)
    except ValueError:
        try:
            return float(plain.replace(",", "."))
        except ValueError:
            return None


def _clean(words: str) -> str:
    """Without the control characters that no XML can hold."""
    return "".join(
        c for c in words if c in "\t\n" or (c >= " " and not "\ud800" <= c <= "\udfff" and c not in "\ufffe\uffff")
    )


def _xlsx(title: str, heads: Sequence[str], rows: Iterable[Sequence[str]], numbers: frozenset[int]) -> bytes:
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font

    book = Workbook(write_only=True)
    sheet = book.create_sheet(_clean("".join(c for c in title if c not in "[]:*?/\\"))[:31] or "List")
    sheet.freeze_panes = "A2"
    bold = Font(bold=True)

    def cell(words: str, strong: bool = False) -> Any:
        made = WriteOnlyCell(sheet, value=_clean(words))
        made.data_type = "s"  # a name that begins with “=” is a name
        if strong:
            made.font = bold
        return made

    sheet.append([cell(h, True) for h in heads])
    for row in rows:
        made: list[Any] = []
        for n, words in enumerate(row):
            value = _number(words) if n in numbers else None
            made.append(value if value is not None else cell(words) if words else None)
        sheet.append(made)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _ods(title: str, heads: Sequence[str], rows: Iterable[Sequence[str]], numbers: frozenset[int]) -> bytes:
    from odf.opendocument import OpenDocumentSpreadsheet
    from odf.table import Table, TableCell, TableRow
    from odf.text import P

    document = OpenDocumentSpreadsheet()
    table = Table(name=_clean(title)[:31] or "List")

    def add(words: Sequence[str], head: bool) -> None:
        row = TableRow()
        for n, said in enumerate(words):
            value = _number(said) if n in numbers and not head else None
            cell = (
                TableCell(valuetype="float", value=str(value)) if value is not None else TableCell(valuetype="string")
            )
            for line in _clean(said).split("\n"):
                cell.addElement(P(text=line))
            row.addElement(cell)
        table.addElement(row)

    add(heads, True)
    for row in rows:
        add(row, False)
    document.spreadsheet.addElement(table)
    out = io.BytesIO()
    document.write(out)
    return out.getvalue()
