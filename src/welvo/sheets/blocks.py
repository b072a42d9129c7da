"""What a sheet is made of: headings, words, tables, drawings, whole drawn pages."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from welvo.sheets.lists import Listing
from welvo.sheets.pen import Pen


@dataclass(frozen=True)
class Heading:
    """A heading that stays with what follows; with `page` it begins a new page."""

    words: str
    beside: str = ""
    page: bool = False


@dataclass(frozen=True)
class Words:
    words: str


@dataclass(frozen=True)
class Rows:
    """A table; `strong` names columns that are printed bold."""

    listing: Listing
    strong: tuple[str, ...] = ()
    like: Listing | None = None
    """Its columns are as wide as those of this list: one that it is a part of."""


@dataclass(frozen=True)
class Drawing:
    """A drawing across the page, `high` millimetres. `paint` is given the pen and the width."""

    high: float
    paint: Callable[[Pen, float], None]


@dataclass(frozen=True)
class FullPage:
    """A page that is drawn whole, edge to edge, without header and footer: label stock."""

    wide: float
    high: float
    paint: Callable[[Pen], None]


Block = Heading | Words | Rows | Drawing | FullPage
