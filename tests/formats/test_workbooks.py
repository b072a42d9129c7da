"""CSV, XLSX and ODS: what goes out comes back, and what a spreadsheet does to numbers is noticed."""

from __future__ import annotations

import io
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
import xlsxwriter
from lxml import etree

from tests.conftest import slowed
from welvo.formats.archive import pack_archive
from welvo.formats.files import RigFileError
from welvo.formats.workbooks import MOST_ROWS, SUFFIXES, Grid, grid_of, read_grid, table_bytes

HEADS = ["No.", "Name", "Address", "Metres"]
ROWS = [
    ["101", "=1+1", "3.100", "2.5"],
    ["102", "Kelp “links”, ümlaut; tab\there", "3.045", "-3"],
    ["7", "two\nlines", "", "x"],
]


@pytest.mark.parametrize("suffix", list(SUFFIXES))
def test_a_table_comes_back_as_it_was(suffix: str, tmp_path: Path) -> None:
    file = tmp_path / f"list{suffix}"
    file.write_bytes(table_bytes(suffix, "Patch: list [1]", HEADS, ROWS, numbers=[0, 2, 3]))
    grid = read_grid(file)
    wanted = [HEADS, *([c.strip() for c in r] for r in ROWS)]
    got = [[c.replace("\n", " ") for c in r] for r in grid.rows]
    assert got == [[c.replace("\n", " ") for c in r] for r in wanted]
    # an address is never written as a number, so only the metres can have lost their zeros
    assert grid.loose <= {(1, 3)}


def workbook(rows: list[list[object]]) -> bytes:
    """An XLSX file as a spreadsheet writes it, with numbers as numbers."""
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out)
    sheet = book.add_worksheet()
    for n, row in enumerate(rows):
        sheet.write_row(n, 0, row)
    book.close()
    return out.getvalue()


def test_blanks_and_tabs_in_a_cell_of_an_ods_stand_as_the_standard_wants_them() -> None:
    data = table_bytes(".ods", "x", ["a"], [["two  blanks\tand <marks> & “more”"]])
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        assert z.infolist()[0].filename == "mimetype" and z.infolist()[0].compress_type == zipfile.ZIP_STORED
        content = etree.fromstring(z.read("content.xml"))
    text = content.findall(".//{*}p")[1]
    assert [e.tag.rpartition("}")[2] for e in text] == ["s"] and text.text == "two "
    assert grid_of(data, "x").rows[1][0] == "two  blanks\tand <marks> & “more”"


def test_numbers_are_numbers_and_names_are_never_formulas() -> None:
    with zipfile.ZipFile(io.BytesIO(table_bytes(".xlsx", "x", HEADS, ROWS, numbers=[0, 2, 3]))) as z:
        sheet = etree.fromstring(z.read("xl/worksheets/sheet1.xml"))
        fonts = etree.fromstring(z.read("xl/styles.xml")).find("{*}fonts")
        strings = ["".join(e.itertext()) for e in etree.fromstring(z.read("xl/sharedStrings.xml")).iter("{*}si")]
    cells = {c.get("r"): strings[int("".join(c.itertext()))] if c.get("t") == "s" else float("".join(c.itertext()))
             for c in sheet.iter("{*}c")}  # fmt: skip
    assert [cells[r] for r in ("A2", "B2", "C2", "D2")] == [101, "=1+1", "3.100", 2.5]
    assert cells["D4"] == "x" and not sheet.findall(".//{*}f")
    assert fonts is not None and fonts[1].find("{*}b") is not None  # the second style, which the headings have
    assert sheet.find(".//{*}c[@r='A1']").get("s") == "1"  # type: ignore[union-attr]
    with pytest.raises(RigFileError, match=r"not as “\.doc”"):
        table_bytes(".doc", "x", HEADS, ROWS)


def test_a_fraction_that_stood_as_a_number_is_remembered() -> None:
    assert grid_of(workbook([["No.", "Address"], [101, 3.1], [102.0, "3.100"]]), "x") == Grid(
        (("No.", "Address"), ("101", "3.1"), ("102", "3.100")), frozenset({(1, 1)})
    )


def test_other_people_s_csv_is_read_with_any_mark_and_in_an_older_code() -> None:
    assert grid_of("\ufeffNo;Name\r\n1;Bühne\r\n\r\n;\r\n".encode(), "x").rows == (("No", "Name"), ("1", "Bühne"))
    assert grid_of("No\tName\n1\tB\xfchne".encode("cp1252"), "x").rows[1] == ("1", "Bühne")
    assert grid_of(b'No,Name\n1,"a, b"', "x").rows[1] == ("1", "a, b")


def zipped(**entries: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        for name, data in entries.items():
            z.writestr(name.replace("__", "/").replace("_xml", ".xml"), data)
    return out.getvalue()


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"", "holds no table"), (b"\n\n", "holds no table"), (b"\x00\x01", "neither a table"),
        (b"PK\x03\x04junk", "is damaged"), (zipped(xl__workbook_xml=b"<x"), "is damaged, or no spreadsheet"),
        (zipped(content_xml=b"<x"), "is damaged, or no spreadsheet"), (zipped(other=b"1"), "no spreadsheet"),
        (("a\n" * (MOST_ROWS + 5)).encode(), "rows; take at most"), (b",".join([b"a"] * 300), "300 columns"),
        (zipped(content_xml=b"<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>"), "no spreadsheet"),
    ],
)  # fmt: skip
def test_what_is_no_table_is_refused_in_one_sentence(data: bytes, says: str) -> None:
    with pytest.raises(RigFileError, match=says) as e:
        grid_of(data, "x.bin")
    assert str(e.value).startswith("x.bin")


def test_an_archive_that_unpacks_to_gigabytes_is_refused() -> None:
    with pytest.raises(RigFileError, match="unpacks to more|never needs that much"):
        grid_of(zipped(content_xml=b" " * (260 * 2**20)), "bomb.ods")


CELL = '<table:table-cell office:value-type="string"{}><text:p>a</text:p></table:table-cell>'
ROW = "<table:table-row{}>{}</table:table-row>"


def ods_of(rows: str) -> bytes:
    """A spreadsheet as it is written here, with other rows in it."""
    with zipfile.ZipFile(io.BytesIO(table_bytes(".ods", "x", ["a"], []))) as z:
        entries = {n: z.read(n).decode() for n in z.namelist()}
    head, _, tail = entries["content.xml"].partition("<table:table-row>")
    entries["content.xml"] = head + rows + tail.partition("</table:table-row>")[2]
    return pack_archive((n, text.encode()) for n, text in entries.items())


def xlsx_of(rows: str) -> bytes:
    with zipfile.ZipFile(io.BytesIO(workbook([["a"]]))) as z:
        entries = {n: z.read(n) for n in z.namelist()}
    space = 'xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"'
    entries["xl/worksheets/sheet1.xml"] = f"<worksheet {space}><sheetData>{rows}</sheetData></worksheet>".encode()
    return pack_archive(entries.items())


REPEAT = ' table:number-{}-repeated="{}"'.format


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda: ods_of(ROW.format(REPEAT("rows", 1_000_000), CELL.format(""))), "1 000 000 rows; take at most"),
        (lambda: ods_of(ROW.format("", CELL.format(REPEAT("columns", 2_000_000_000)))), "columns; no list needs more"),
        (lambda: ods_of(ROW.format("", CELL.format("") * 5000)), "5 000 columns"),
        (lambda: ods_of(ROW.format(REPEAT("rows", 19_000), CELL.format(REPEAT("columns", 190)))), "take less at once"),
        (lambda: xlsx_of('<row r="1"><c r="A1"><v>1</v></c></row>'
                         '<row r="1048576"><c r="XFD1048576"><v>1</v></c></row>'),
         "16 384 columns"),
        (lambda: xlsx_of("".join(f'<row r="{n}"><c s="0" r="B{n}"><v>1</v></c></row>' for n in range(1, 30_000))),
         "29 999 rows"),
        (lambda: b"a,b\n" * 3_000_000, "rows; take at most"),
    ],
)  # fmt: skip
def test_a_small_file_that_means_a_huge_table_is_refused_at_once(make: Callable[[], bytes], says: str) -> None:
    data = make()  # not before: it would be a part of the test's name, with the time of day in it
    begun = time.monotonic()
    with pytest.raises(RigFileError, match=says):
        grid_of(data, "x")
    assert time.monotonic() - begun < slowed(3)


def test_what_is_empty_to_the_end_of_the_sheet_does_not_count() -> None:
    empty = "<table:table-cell" + REPEAT("columns", 16_384) + "/>"
    rows = ROW.format("", CELL.format("") + empty) + ROW.format(REPEAT("rows", 1_048_000), empty)
    assert grid_of(ods_of(rows), "x").rows == (("a",),)
    far = '<row r="2"><c r="A2"><v>2</v></c><c r="XFD2" s="0"/></row><row r="1048576" s="0"/>'
    assert grid_of(xlsx_of(f'<row r="1"><c r="A1"><v>1</v></c></row>{far}'), "x").rows == (("1",), ("2",))


def test_no_cell_of_a_csv_file_is_a_formula_for_whoever_opens_it() -> None:
    rows = [["101", "=HYPERLINK(1)", "@x", "-3"], ["102", "+1", "-a", "-4,5"], ["103", "'quoted", "plain", "x"]]
    text = table_bytes(".csv", "x", HEADS, rows, numbers=[0, 3]).decode()
    cells = [line.split(",") for line in text.splitlines()[1:]]
    assert cells[0] == ["101", "'=HYPERLINK(1)", "'@x", "-3"] and cells[1][1:3] == ["'+1", "'-a"]
    assert [list(r) for r in grid_of(text.encode(), "x").rows[1:]] == rows
