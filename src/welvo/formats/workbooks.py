"""Tables to and from spreadsheets: CSV, XLSX and ODS.

A spreadsheet likes to take things for what they are not: `3.100` for a number (and then it is 3.1), `=` at the start of
a name for a formula. So only what a list itself calls a number is written as one, everything else as text; and on the
way in a fraction that stood as a number is remembered, because nobody can tell any more how many zeros it had.
"""

from __future__ import annotations

import csv
import html
import io
import re
from collections.abc import Iterable, Sequence
from pathlib import Path

from msgspec import Struct

from welvo.formats.archive import ArchiveBounds, is_zip, pack_archive, unpack_archive
from welvo.formats.files import RigFileError, read_bytes, shown_name
from welvo.formats.sheet_size import sheet_size
from welvo.rig.notation import say_thousands

SUFFIXES = {".csv": "CSV table", ".xlsx": "XLSX workbook", ".ods": "ODS spreadsheet"}
MOST_FILE = 16 * 2**20
MOST_ROWS, MOST_COLUMNS = 20_000, 200
MOST_CELLS = 1_000_000
"""Cells from the first to the last that holds anything, empty ones included: a reader makes room for all of them."""
BOUNDS = ArchiveBounds("a spreadsheet", 96 * 2**20, 64 * 2**20, 4096, lambda inside: inside.endswith((".xml", ".rels")))


class Grid(Struct, frozen=True):
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
        entries = unpack_archive(
            data, name, BOUNDS, "is damaged ({why}).", lambda inside: inside.endswith((".xml", ".rels"))
        )
        rows, columns = sheet_size(entries, name)
        if columns > MOST_COLUMNS:
            raise too_wide(name, columns)
        if rows > MOST_ROWS:
            raise table_too_long(name, rows)
        if rows * columns > MOST_CELLS:
            raise RigFileError(f"{name} has {say_thousands(rows)} rows of {columns} columns; take less at once.")
        return _trim_grid(_from_workbook(data, name), name)
    return _trim_grid(_from_csv(data, name), name)


Cells = list[list[tuple[str, bool]]]


def _trim_grid(cells: Cells, name: str) -> Grid:
    """Without empty rows and trailing empty columns; the rows are numbered after that."""
    rows = [r for r in cells if any(words for words, _ in r)]
    if not rows:
        raise RigFileError(f"{name} holds no table.")
    if len(rows) > MOST_ROWS:
        raise table_too_long(name, len(rows))
    wide = max(n + 1 for r in rows for n, (words, _) in enumerate(r) if words)
    if wide > MOST_COLUMNS:
        raise too_wide(name, wide)
    full = [[*r, *[("", False)] * (wide - len(r))][:wide] for r in rows]
    loose = frozenset((n, c) for n, r in enumerate(full) for c, (_, odd) in enumerate(r) if odd)
    return Grid(tuple(tuple(words for words, _ in r) for r in full), loose)


def table_too_long(name: str, rows: int) -> RigFileError:
    return RigFileError(f"{name} has {say_thousands(rows)} rows; take at most {say_thousands(MOST_ROWS)} at once.")


def too_wide(name: str, columns: int) -> RigFileError:
    return RigFileError(f"{name} has {say_thousands(columns)} columns; no list needs more than {MOST_COLUMNS}.")


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
    found: Cells = []
    try:
        for row in csv.reader(io.StringIO(text.replace("\r\n", "\n").replace("\r", "\n")), delimiter=mark):
            if len(row) > MOST_COLUMNS and any(c.strip() for c in row[MOST_COLUMNS:]):
                raise too_wide(name, len(row))
            if len(found) > MOST_ROWS:
                raise table_too_long(name, text.count("\n"))
            if any(row):
                found.append([(plain_cell(c.strip()), False) for c in row[:MOST_COLUMNS]])
    except csv.Error as e:
        raise RigFileError(f"{name} cannot be read as a table: {e}.") from e
    return found


def _from_workbook(data: bytes, name: str) -> Cells:
    """The first sheet of an XLSX or ODS file, as its values are shown."""
    import python_calamine as calamine

    try:
        with calamine.CalamineWorkbook.from_filelike(io.BytesIO(data)) as book:
            sheet = book.get_sheet_by_index(0)
            rows = sheet.to_python(skip_empty_area=False, nrows=MOST_ROWS + 2)
    except (calamine.CalamineError, OSError, ValueError) as e:
        raise RigFileError(f"{name} is damaged, or no spreadsheet: {type(e).__name__}.") from e
    except BaseException as e:
        if type(e).__name__ != "PanicException":  # of the reader, which is written in Rust; it is no Exception
            raise
        raise RigFileError(f"{name} is damaged: its reader gave up.") from e
    return [[_say_cell(v) for v in row] for row in rows]


def _say_cell(value: object) -> tuple[str, bool]:
    if value is None:
        return "", False
    if isinstance(value, bool):
        return ("yes" if value else "no"), False
    if isinstance(value, float):
        return (str(int(value)), False) if value.is_integer() else (f"{value:.10g}", True)
    return str(value).strip(), False


# ---- cells that a spreadsheet would carry out

_CARRIED_OUT = ("=", "+", "-", "@", "\t", "\r")


def safe_cell(words: str) -> str:
    """A cell of a CSV file as a spreadsheet shows it: one that it would take for a formula gets an apostrophe before
    it, which spreadsheets know for “text”."""
    return "'" + words if words.startswith(_CARRIED_OUT) else words


def plain_cell(words: str) -> str:
    """The same the other way round."""
    return words[1:] if words[:1] == "'" and words[1:].startswith(_CARRIED_OUT) else words


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

        def guarded(row: Sequence[str]) -> list[str]:
            return [c if n in as_numbers and _read_number(c) is not None else safe_cell(c) for n, c in enumerate(row)]

        csv.writer(out, lineterminator="\n").writerows([[safe_cell(h) for h in heads], *map(guarded, rows)])
        return out.getvalue().encode("utf-8")
    return (_write_xlsx if kind == ".xlsx" else _write_ods)(title, heads, rows, as_numbers)


def _read_number(words: str) -> int | float | None:
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


def _clean_for_xml(words: str) -> str:
    """Without the control characters that no XML can hold."""
    return "".join(
        c for c in words if c in "\t\n" or (c >= " " and not "\ud800" <= c <= "\udfff" and c not in "\ufffe\uffff")
    )


def _write_xlsx(title: str, heads: Sequence[str], rows: Iterable[Sequence[str]], numbers: frozenset[int]) -> bytes:
    import xlsxwriter

    out = io.BytesIO()
    book = xlsxwriter.Workbook(out, {"in_memory": True})
    sheet = book.add_worksheet(
        "".join(c for c in _clean_for_xml(title) if c not in "[]:*?/\\")[:31].strip("'") or "List"
    )
    sheet.freeze_panes(1, 0)
    bold = book.add_format({"bold": True})
    for c, words in enumerate(heads):
        sheet.write_string(0, c, _clean_for_xml(words), bold)
    for n, row in enumerate(rows, 1):
        for c, words in enumerate(row):
            value = _read_number(words) if c in numbers else None
            if value is not None:
                sheet.write_number(n, c, value)
            elif words:
                sheet.write_string(n, c, _clean_for_xml(words))  # a name that begins with “=” is a name
    book.close()
    return out.getvalue()


_ODF = "urn:oasis:names:tc:opendocument:xmlns"
_CONTENT = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    f'<office:document-content xmlns:office="{_ODF}:office:1.0" xmlns:table="{_ODF}:table:1.0" '
    f'xmlns:text="{_ODF}:text:1.0" office:version="1.3"><office:body><office:spreadsheet>'
)
_MANIFEST = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    f'<manifest:manifest xmlns:manifest="{_ODF}:manifest:1.0" manifest:version="1.3">'
    '<manifest:file-entry manifest:full-path="/" manifest:media-type="{kind}"/>'
    '<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>'
)
_ODS_KIND = "application/vnd.oasis.opendocument.spreadsheet"


def _write_ods(title: str, heads: Sequence[str], rows: Iterable[Sequence[str]], numbers: frozenset[int]) -> bytes:
    """An OpenDocument 1.3 spreadsheet of one table of plain cells. Of the packages that write one, the kept one takes
    22 s for 5000 rows; what is needed of the standard is this much."""
    parts = [_CONTENT, f'<table:table table:name="{html.escape(_clean_for_xml(title)[:31] or "List")}">']
    parts.append(_ods_row(heads, frozenset()))
    parts += [_ods_row(row, numbers) for row in rows]
    parts.append("</table:table></office:spreadsheet></office:body></office:document-content>")
    entries = {"mimetype": _ODS_KIND, "content.xml": "".join(parts)}
    entries["META-INF/manifest.xml"] = _MANIFEST.format(kind=_ODS_KIND)
    # the kind is first and not packed, so that it can be told
    return pack_archive(((name, text.encode("utf-8")) for name, text in entries.items()), stored=("mimetype",))


def _ods_row(words: Sequence[str], numbers: frozenset[int]) -> str:
    cells = []
    for n, said in enumerate(words):
        value = _read_number(said) if n in numbers else None
        kind = 'office:value-type="string"' if value is None else f'office:value-type="float" office:value="{value}"'
        lines = "".join(f"<text:p>{_ods_text(line)}</text:p>" for line in _clean_for_xml(said).split("\n"))
        cells.append(f"<table:table-cell {kind}>{lines}</table:table-cell>")
    return f"<table:table-row>{''.join(cells)}</table:table-row>"


def _ods_text(line: str) -> str:
    """Text in XML. Blanks after the first are an element there, or they would be lost. A tab stays the character, which
    programs read as a blank or a tab: some pass over its element, and then words grow together."""
    return re.sub(r"(?<= ) +|^ +", lambda m: f'<text:s text:c="{len(m[0])}"/>', html.escape(line, quote=False))
