"""A list as a file for a spreadsheet."""

from __future__ import annotations

from welvo.formats.workbooks import table_bytes
from welvo.sheets.lists import LISTS, Material
from welvo.survey.spreadsheet import cells_of_items

_NUMBERS = ("No.", "Universe", "Address", "Last", "Slots")


def list_bytes(m: Material, key: str, suffix: str) -> tuple[bytes, int]:
    """A list as a file of that kind (`.csv`, `.xlsx`, `.ods`), and how many rows it has. The patch has headings that
    come back. Raises RigFileError for another kind."""
    words, make = LISTS[key]
    if key == "patch":
        keys = [*sorted(m.rig.fixtures, key=lambda k: m.rig.fixtures[k].number), *m.rig.elements]
        heads, *rows = cells_of_items(m.index, keys)
        numbers = [n for n, h in enumerate(heads) if h in _NUMBERS]
        return table_bytes(suffix, words, heads, rows, numbers), len(rows)
    listing = make(m)
    numbers = [n for n, h in enumerate(listing.heads) if h.kind == "number"]
    titles = [h.title for h in listing.heads]
    return table_bytes(suffix, listing.title, titles, listing.rows, numbers), len(listing.rows)
