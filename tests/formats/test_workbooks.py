"""CSV, XLSX and ODS: what goes out comes back, and what a spreadsheet does to numbers is noticed."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path

import openpyxl
import pytest

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


def test_numbers_are_numbers_and_names_are_never_formulas() -> None:
    book = openpyxl.load_workbook(io.BytesIO(table_bytes(".xlsx", "x", HEADS, ROWS, numbers=[0, 2, 3])))
    sheet = book.worksheets[0]
    assert [c.value for c in sheet[2]] == [101, "=1+1", "3.100", 2.5] and sheet["B2"].data_type == "s"
    assert sheet["D4"].value == "x" and sheet["A1"].font.bold
    with pytest.raises(RigFileError, match=r"not as “\.doc”"):
        table_bytes(".doc", "x", HEADS, ROWS)


def test_a_fraction_that_stood_as_a_number_is_remembered() -> None:
    book = openpyxl.Workbook()
    assert book.active is not None
    book.active.append(["No.", "Address"])
    book.active.append([101, 3.1])
    book.active.append([102.0, "3.100"])
    out = io.BytesIO()
    book.save(out)
    assert grid_of(out.getvalue(), "x") == Grid(
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
