"""How large the first sheet of a workbook is, found out before a reader makes room for it.

A few hundred bytes can say “this row a million times”, or put one cell in the last corner of a sheet; the reader then
takes gigabytes and minutes, and cannot be stopped. So the markup is gone through first, as a stream, and refused when
it would come to more rows, columns or cells than a list ever has. What is empty does not count: spreadsheets repeat
empty rows and cells to the end of the sheet all the time.
"""

from __future__ import annotations

import io
import posixpath
import re
from collections.abc import Mapping

from welvo.formats.files import RigFileError

_TABLE = "{urn:oasis:names:tc:opendocument:xmlns:table:1.0}"
_RELATION = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_CELL = re.compile(rb'<(?:\w+:)?c\b[^>]*?\br="([A-Z]{1,3})(\d{1,7})"[^>]*(?<!/)>\s*<')


def sheet_size(entries: Mapping[str, bytes], name: str) -> tuple[int, int]:
    """Rows and columns of the first sheet. Raises RigFileError where no sheet can be found."""
    from lxml import etree

    try:
        return _of_ods(entries["content.xml"]) if "content.xml" in entries else _of_xlsx(entries)
    except (etree.LxmlError, KeyError, ValueError, StopIteration) as e:
        raise RigFileError(f"{name} is damaged, or no spreadsheet: {type(e).__name__}.") from e


def _of_ods(content: bytes) -> tuple[int, int]:
    """Rows and columns up to the last cell of the first table that holds anything."""
    from lxml import etree

    rows = columns = above = 0
    left = filled = 0
    parser = etree.iterparse(io.BytesIO(content), events=("end",), resolve_entities=False, no_network=True)
    for _, element in parser:
        if element.tag in (f"{_TABLE}table-cell", f"{_TABLE}covered-table-cell"):
            left += _read_repeat(element, "columns")
            if len(element) or element.get(_VALUE) is not None:
                filled = left
        elif element.tag == f"{_TABLE}table-row":
            above += _read_repeat(element, "rows")
            if filled:
                rows, columns = above, max(columns, filled)
            left = filled = 0
            element.clear()
            if rows > _ENOUGH or columns > _ENOUGH:
                break
        elif element.tag == f"{_TABLE}table":
            break
    return rows, columns


_VALUE = "{urn:oasis:names:tc:opendocument:xmlns:office:1.0}value"
_ENOUGH = 10_000_000


def _read_repeat(element: object, what: str) -> int:
    said = element.get(f"{_TABLE}number-{what}-repeated")  # type: ignore[attr-defined]
    return max(1, int(said)) if said else 1


def _of_xlsx(entries: Mapping[str, bytes]) -> tuple[int, int]:
    """The furthest row and column of a cell that holds anything, in the first sheet of the workbook."""
    rows = columns = 0
    for m in _CELL.finditer(entries[_first_sheet(entries)]):
        column = 0
        for letter in m[1]:
            column = column * 26 + letter - 64
        columns, rows = max(columns, column), max(rows, int(m[2]))
    return rows, columns


def _first_sheet(entries: Mapping[str, bytes]) -> str:
    from lxml import etree

    parser = etree.XMLParser(resolve_entities=False, no_network=True)
    book = etree.fromstring(entries["xl/workbook.xml"], parser)
    first = next(e for e in book.iter("{*}sheet")).get(_RELATION)
    relations = etree.fromstring(entries["xl/_rels/workbook.xml.rels"], parser)
    target = next(e.get("Target", "") for e in relations.iter("{*}Relationship") if e.get("Id") == first)
    return target.lstrip("/") if target.startswith("/") else posixpath.normpath(posixpath.join("xl", target))
