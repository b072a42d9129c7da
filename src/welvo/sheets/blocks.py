"""What a sheet is made of: headings, words, tables, drawings, whole drawn pages."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from welvo.sheets.lists import Listing
from welvo.sheets.pen import Pen


class Heading(Struct, frozen=True):
    """A heading that stays with what follows; with `page` it begins a new page."""

    words: str
    beside: str = ""
    page: bool = False


class WordsBlock(Struct, frozen=True):
    words: str


class Rows(Struct, frozen=True):
    """A table; `strong` names columns that are printed bold."""

    listing: Listing
    strong: tuple[str, ...] = ()
    like: Listing | None = None
    """Its columns are as wide as those of this list: one that it is a part of."""


class Drawing(Struct, frozen=True):
    """A drawing across the page, `high` millimetres. `paint` is given the pen and the width."""

    high: float
    paint: Callable[[Pen, float], None]


class FullPage(Struct, frozen=True):
    """A page that is drawn whole, edge to edge, without header and footer: label stock."""

    wide: float
    high: float
    paint: Callable[[Pen], None]


Block = Heading | WordsBlock | Rows | Drawing | FullPage
