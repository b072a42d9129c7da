"""A mode's channel table as CSV, for spreadsheets: one row per channel, one column per fact. Reads what it writes.

Columns: break, slots (coarse first, joined by `+`), function, own name, pixel, short, default, highlight, release,
low, high, unit, invert, snap, master, ranges (`0–9 closed; 10–255 open`). Missing columns keep their defaults.
"""

from __future__ import annotations

import csv
import io
import math

from welvo.formats.files import RigFileError
from welvo.formats.ranges import read_ranges
from welvo.rig.attributes import BY_WORD, default_of, word_for
from welvo.rig.modes import channels_in_order, sorted_ranges
from welvo.rig.profile import Break, Channel, Mode
from welvo.rig.shorts import with_shorts

MOST_PIXELS = 4096
COLUMNS = (
    "break",
    "slots",
    "function",
    "attribute",
    "pixel",
    "short",
    "default",
    "highlight",
    "release",
    "low",
    "high",
    "unit",
    "invert",
    "snap",
    "master",
    "ranges",
)


def write_csv(mode: Mode) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(COLUMNS)
    for n in channels_in_order(mode):
        c = mode.channels[n]
        ranges = "; ".join(f"{r.first}–{r.last} {r.name}".strip() for r in sorted_ranges(c.ranges))
        numbers = [
            "" if v is None else f"{v:g}" if isinstance(v, float) else str(v)
            for v in (c.highlight, c.release, c.low, c.high)
        ]
        writer.writerow(
            [
                mode.breaks[c.break_no].name or c.break_no + 1,
                "+".join(map(str, c.slots)),
                word_for(c.function, c.name),
                c.function,
                c.pixel or "",
                c.short,
                c.default,
                *numbers,
                c.unit,
                "yes" if c.invert else "",
                "yes" if c.snap else "",
                "" if c.master == "auto" else c.master,
                ranges,
            ]
        )
    return out.getvalue()


def read_csv(text: str, name: str = "mode") -> tuple[Mode, list[str]]:
    """A mode from a table, and what was not understood, row by row. Raises RigFileError when it is no such table."""
    try:
        clean = text.removeprefix("\ufeff")
        first = clean.lstrip().split("\n", 1)[0]
        rows = list(csv.reader(io.StringIO(clean), delimiter=max(",;\t", key=first.count)))
    except csv.Error as e:
        raise RigFileError(f"This is no CSV table: {e}.") from e
    if not rows or "slots" not in (head := [h.strip().lower() for h in rows[0]]):
        raise RigFileError("The table's first row must name its columns, and one of them must be “slots”.")
    problems: list[str] = []
    breaks: dict[str, int] = {}
    channels: list[Channel] = []
    taken: set[tuple[int, int]] = set()
    for number, row in enumerate(rows[1:], 2):
        cells = {h: v.strip() for h, v in zip(head, row)}
        if not any(cells.values()):
            continue
        try:
            slots = tuple(
                _read_integer(s, "slot") for s in cells.get("slots", "").replace("+", " ").replace("-", " ").split()
            )
            if not 1 <= len(slots) <= 4 or len(set(slots)) != len(slots) or not all(1 <= s <= 4096 for s in slots):
                raise ValueError(f"“{cells.get('slots', '')}” are no one to four slots")
            break_no = breaks.setdefault(cells.get("break", "") or "1", len(breaks))
            if taken & {(break_no, s) for s in slots}:
                raise ValueError("its slot is taken by a row before")
            c = _read_channel(cells, slots, break_no)
        except (ValueError, IndexError) as e:
            problems.append(f"Row {number}: {e}.")
            continue
        if not c.function:
            problems.append(f"Row {number}: “{c.name}” is no function name.")
        taken |= {(break_no, s) for s in slots}
        channels.append(c)
    if not channels:
        raise RigFileError("The table has no row that is a channel. " + " ".join(problems[:3]))
    parts = tuple(
        Break(
            name="" if k.isdigit() else k,
            slots=max((s for c in channels if c.break_no == b for s in c.slots), default=0),
        )
        for k, b in breaks.items()
    )
    return Mode(
        name=name, breaks=parts, channels=with_shorts(sorted(channels, key=lambda c: (c.break_no, c.slots[0])))
    ), problems


def _read_integer(text: str, what: str) -> int:
    if not text.lstrip("+-").isascii() or not text.lstrip("+-").isdigit() or len(text) > 20:
        raise ValueError(f"{what} “{text[:20]}” is no whole number")
    return int(text)


def _read_pixel(text: str) -> int:
    n = _read_integer(text, "pixel")
    if not 0 <= n <= MOST_PIXELS:
        raise ValueError(f"pixel {n} is not 0 to {MOST_PIXELS}")
    return n


def _read_channel(cells: dict[str, str], slots: tuple[int, ...], break_no: int) -> Channel:
    word = cells.get("function", "")
    known = BY_WORD.get(word.lower())
    function = cells.get("attribute", "") or (known.key if known else "")
    top = 256 ** len(slots) - 1

    def whole(key: str) -> int | None:
        if not cells.get(key):
            return None
        value = _read_integer(cells[key], key)
        if not 0 <= value <= top:
            raise ValueError(f"{key} {value} does not fit 0 to {top}")
        return value

    def number(key: str) -> float | None:
        if not cells.get(key):
            return None
        try:
            value = float(cells[key].replace(",", "."))
        except ValueError:
            value = math.nan
        if not math.isfinite(value):
            raise ValueError(f"{key} “{cells[key][:20].split()[0]}” is no number")
        return value

    default = whole("default")
    ranges, wrong = read_ranges(cells.get("ranges", ""), top)
    if wrong:
        raise ValueError(wrong[0].message.rstrip("."))
    return Channel(
        function=function,
        name="" if function else word,
        short=cells.get("short", "")[:8],
        slots=slots,
        break_no=break_no,
        pixel=_read_pixel(cells.get("pixel") or "0"),
        default=default_of(function, len(slots)) if default is None else default,
        highlight=whole("highlight"),
        release=whole("release"),
        low=number("low"),
        high=number("high"),
        unit=cells.get("unit", "")[:8],
        invert=cells.get("invert", "").lower() in ("yes", "true", "1"),
        snap=cells.get("snap", "").lower() in ("yes", "true", "1"),
        master={"yes": "yes", "no": "no"}.get(cells.get("master", "").lower(), "auto"),  # type: ignore[arg-type]
        ranges=ranges,
    )
