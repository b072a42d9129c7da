"""Paper, label stocks and everything that can be chosen for a sheet. All measures are millimetres."""

from __future__ import annotations

import re

from msgspec import Struct, field

from welvo.rig.base import Refused

PAPERS: dict[str, tuple[float, float]] = {
    "A4": (210.0, 297.0),
    "A5": (148.0, 210.0),
    "A3": (297.0, 420.0),
    "Letter": (215.9, 279.4),
}
MARGIN = 12.0
HEAD = 14.0
FOOT = 9.0


class Stock(Struct, frozen=True):
    """A sheet of labels: the paper, how wide and high a label is, how many there are, where the first one begins, and
    from one label's edge to the next one's."""

    name: str
    page: tuple[float, float]
    wide: float
    high: float
    across: int
    down: int
    left: float
    top: float
    step_x: float
    step_y: float

    @property
    def labels_per_sheet(self) -> int:
        return self.across * self.down

    def place_of_label(self, n: int) -> tuple[float, float]:
        """Left and upper edge of label n (from 0) of a sheet, row by row."""
        return self.left + n % self.across * self.step_x, self.top + n // self.across * self.step_y


def centred_stock(name: str, paper: str, wide: float, high: float, across: int, down: int, gap: float = 0.0) -> Stock:
    """A stock whose labels stand in the middle of the paper, `gap` apart from left to right."""
    page = PAPERS[paper]
    left = (page[0] - across * wide - (across - 1) * gap) / 2
    return Stock(
        name,
        page=page,
        wide=wide,
        high=high,
        across=across,
        down=down,
        left=left,
        top=(page[1] - down * high) / 2,
        step_x=wide + gap,
        step_y=high,
    )


STOCKS: dict[str, Stock] = {
    s.name: s
    for s in (
        centred_stock("70 × 37 mm, 24 on A4", "A4", 70, 37, 3, 8),
        centred_stock("63.5 × 38.1 mm, 21 on A4", "A4", 63.5, 38.1, 3, 7, 2.5),
        centred_stock("105 × 57 mm, 10 on A4", "A4", 105, 57, 2, 5),
        centred_stock("52.5 × 29.7 mm, 40 on A4", "A4", 52.5, 29.7, 4, 10),
        centred_stock("66.7 × 25.4 mm, 30 on Letter", "Letter", 66.7, 25.4, 3, 10, 3.2),
        Stock(
            "62 × 29 mm, one by one",
            page=(62, 29),
            wide=62,
            high=29,
            across=1,
            down=1,
            left=0,
            top=0,
            step_x=62,
            step_y=29,
        ),
    )
}
"""Stocks by their measures; any other one can be typed."""


def read_stock(text: str) -> Stock:
    """One of the named stocks, or `63.5 x 38.1, 3 x 7 on A4, left 7.2, top 15.1, step 66 x 38.1`.

    Left, top and step may be missing: then the labels touch and stand in the middle. Raises Refused.
    """
    words = text.strip()
    if words in STOCKS:
        return STOCKS[words]
    number = r"(\d{1,4}(?:[.,]\d{1,3})?)"
    m = re.fullmatch(
        rf"{number}\s*[x×]\s*{number}(?:\s*mm)?\s*,\s*(\d{{1,2}})\s*[x×]\s*(\d{{1,2}})\s*on\s*(\w+)"
        rf"(?:\s*,\s*left\s*{number})?(?:\s*,\s*top\s*{number})?(?:\s*,\s*step\s*{number}\s*[x×]\s*{number})?",
        words,
        re.IGNORECASE,
    )
    if not m:
        raise Refused(f"“{words}” is no label stock. Write 63.5 x 38.1, 3 x 7 on A4, left 7.2, top 15.1.")
    paper = next((p for p in PAPERS if p.lower() == m[5].lower()), "")
    if not paper:
        raise Refused(f"There is no paper “{m[5]}”; there are {', '.join(PAPERS)}.")
    wide, high, left, top, step_x, step_y = (
        float(v.replace(",", ".")) if v else None for v in m.group(1, 2, 6, 7, 8, 9)
    )
    assert wide is not None and high is not None
    across, down = int(m[3]), int(m[4])
    if not wide or not high or not across or not down:
        raise Refused("A label needs a width and a height, and there must be some of them.")
    page = PAPERS[paper]
    dx, dy = step_x or wide, step_y or high
    x = left if left is not None else (page[0] - (across - 1) * dx - wide) / 2
    y = top if top is not None else (page[1] - (down - 1) * dy - high) / 2
    made = Stock(words, page=page, wide=wide, high=high, across=across, down=down, left=x, top=y, step_x=dx, step_y=dy)
    if (
        x < -0.01
        or y < -0.01
        or x + (across - 1) * dx + wide > page[0] + 0.01
        or y + (down - 1) * dy + high > page[1] + 0.01
    ):
        raise Refused(f"{across} × {down} labels of {wide:g} × {high:g} mm do not fit on {paper}.")
    return made


class Choices(Struct, frozen=True):
    """What is chosen for a sheet. `of` is what it is about, where it is about one thing: a universe's number, the id
    of a device, a profile; empty means all of them. `columns`, `sort` and `group` name columns by their keys; empty
    is the sheet's own. `secrets` are shown only where they are given, by device and full key."""

    paper: str = "A4"
    landscape: bool | None = None
    of: str = ""
    sort: str = ""
    group: str = ""
    columns: tuple[str, ...] = ()
    header: str = ""
    logo: bytes = b""
    decimal: str = "."
    day: str = "%Y-%m-%d"
    stock: Stock = field(default_factory=lambda: next(iter(STOCKS.values())))
    first_label: int = 1
    cut_marks: bool = False
    items: tuple[str, ...] = ()
    """Only these items, where the sheet is of items; empty: all."""
    secrets: dict[str, dict[str, str]] = field(default_factory=dict)

    def page_size(self, landscape: bool) -> tuple[float, float]:
        """Width and height of the paper, turned as it is wanted."""
        if self.paper not in PAPERS:
            raise Refused(f"There is no paper “{self.paper}”; there are {', '.join(PAPERS)}.")
        wide, high = PAPERS[self.paper]
        turned = landscape if self.landscape is None else self.landscape
        return (high, wide) if turned else (wide, high)
