"""Lines of manuals' channel tables, in their usual typographies: which slot, which words, which values.

A line that is none of these is left to the chart notation itself (`chart.py`).
"""

from __future__ import annotations

import re

from msgspec import Struct, field

from welvo.formats.ranges import SPAN, read_span
from welvo.rig.attributes import BY_WORD, family_of

_NUMBER = r"(?:ch(?:annel)?s?\.?\s*|slots?\s*|dmx\s*(?:ch(?:annel)?\.?\s*)?|no\.?\s*|#\s*)?(\d{1,4})"
_TO = r"(?:\s*(?:[-–—/+&]|to|and|\.{2,3}|…)\s*(?:ch\.?\s*)?(\d{1,4})(?![\d%.]))?"
LABEL = re.compile(rf"\s*(?:[•·*]\s*|\|\s*|-\s+)?{_NUMBER}{_TO}\s*(?:\||\t|[:.)=](?=\s|\||$)|[-–—](?=\s))?", re.I)
_REVERSED = re.compile(
    rf"^\s*(?:[•·*]\s*)?([A-Za-z][^|\t]*?)\s*(?:\.{{2,}}|…+|\s{{3,}}|\t|\|)\s*{_NUMBER}{_TO}\s*\|?\s*$", re.I
)
_HEADING = {
    "ch",
    "chan",
    "channel",
    "channels",
    "slot",
    "slots",
    "dmx",
    "function",
    "functions",
    "value",
    "values",
    "range",
    "ranges",
    "description",
    "no",
    "number",
    "mode",
    "name",
    "parameter",
    "feature",
    "attribute",
    "address",
    "type",
    "use",
    "default",
    "from",
    "to",
    "and",
    "of",
    "the",
    "table",
    "chart",
    "protocol",
    "bit",
    "percent",
    "%",
    "decimal",
    "dec",
    "hex",
    "details",
    "meaning",
}
_FULL = re.compile(
    r"\s*[(\[]?\s*(?:0{1,3}\s*(?:%|)\s*(?:[-–—~]|to|\.{2,3}|…)\s*(?:255|100\s*%|65535))\s*[)\]]?\s*$", re.I
)
_PARTS = r"(?:pixel|px|led|cell|head|eye|zone|segment|section|part|pod|lamp|group|spot)"
_NOISE = {
    "control",
    "adjust",
    "adjustment",
    "channel",
    "value",
    "level",
    "setting",
    "settings",
    "selection",
    "select",
    "leds",
    "led",
    "colour",
    "color",
}
_AFTER_COLOUR = _NOISE | {"brightness", "intensity", "dimmer", "dimming", "chip"}


class RangeRow(Struct, frozen=True):
    """Values and what they do: belongs to the channel before."""

    first: int
    last: int
    words: str
    column: int


class ChannelRow(Struct, frozen=True):
    """One channel of a table: its slots as numbered, its words and where they stand, values in further cells."""

    first: int
    last: int
    label: tuple[int, int]
    text: str
    column: int
    spans: tuple[RangeRow, ...] = ()


class Meaning(Struct, frozen=True):
    """What a row's words mean. `function` is empty when they are not known; `fine` continues an earlier channel."""

    function: str = ""
    pixel: int = 0
    fine: bool = False
    bits: int = 0
    sure: bool = True
    rest: str = field(default="")


def is_heading(line: str) -> bool:
    """A line of nothing but table headings, or a rule of dashes; such a line makes no channel."""
    words = [w for w in re.split(r"[^A-Za-z%]+", line.lower()) if w]
    if not words:
        return bool(line.strip()) and all(c in "-–—=_|+. \t:" for c in line)
    return (
        len(words) >= 2
        and all(w in _HEADING for w in words)
        and not re.search(r"\d", re.sub(r"\b\d+\s*-?\s*(?:ch|bit)", "", line.lower()))
    )


def read_row(line: str, cursor: int, ranged: int | None) -> ChannelRow | RangeRow | None:
    """Read one line. `cursor` is the slot that comes next; `ranged` the last value that the channel before speaks of.

    `ranged` is −1 when that channel has no ranges yet, None when there is no channel before.
    """
    span = _as_span(line, cursor, ranged)
    if span:
        return span
    m = LABEL.match(line)
    if m and (m.end() == len(line.rstrip()) or not line[m.end() : m.end() + 1].isdigit()):
        rest = line[m.end() :]
        apart = m[0][-1:] in " \t|:.)=-–—" or rest[:1] in (" ", "\t", "|")
        if not rest.strip(" |\t") or re.match(r"\s*[x×*](?=[\s(])", rest) or not apart:
            return None
        if _lists_several_channels(rest):
            return None
        cells, column = _cells_behind_label(rest, m.end())
        first, last = int(m[1]), int(m[2] or m[1])
        lead = len(m[0]) - len(m[0].lstrip(" |•·*-\t"))
        return ChannelRow(
            first, last, (lead, m.end() - lead), cells[0], column, _read_value_spans(cells[1:], column + len(cells[0]))
        )
    m = _REVERSED.match(line)
    if m and not line.lstrip().lower().startswith(("gap", "break")):
        return ChannelRow(int(m[2]), int(m[3] or m[2]), (m.start(2), len(m[2])), m[1].strip(), m.start(1))
    return None


def _as_span(line: str, cursor: int, ranged: int | None) -> RangeRow | None:
    if ranged is None:
        return None
    found = read_span(line.strip(" |\t"), 255)
    if not found or re.match(r"\s*[x×*(]", line.strip(" |\t")[len(str(found[0])) :]):
        return None
    first, last, words = found
    padded = re.match(r"[\s|\t]*0\d\d", line) is not None
    follows = ranged >= 0 and first == ranged + 1 and (last > first or first != cursor)
    if (
        (first == 0 and last <= 65535)
        or (padded and last <= 255 and last >= first)
        or follows
        or (last - first > 3 and (first < cursor or (ranged >= 0 and first != cursor and last <= 255)))
    ):
        m = SPAN.match(line)
        return RangeRow(first, last, words, m.end() if m else 0)
    return None


def _lists_several_channels(rest: str) -> bool:
    """Whether a labelled line lists several channels, as the chart notation allows: `1 pan, 2 tilt` or `5 red,
    green`."""
    depth = 0
    for n, c in enumerate(rest):
        depth += (c in "([") - (c in ")]")
        if c in ",;" and depth == 0 and "\t" not in rest and "|" not in rest:
            head = rest[:n].strip(" .:-–|").lower()
            behind = rest[n + 1 :].strip().lower()
            return head in BY_WORD and (
                behind[:1].isdigit()
                or any(behind.startswith(w) for w in BY_WORD)
                or behind.startswith(("gap", "?", '"'))
            )
    return False


def _cells_behind_label(rest: str, at: int) -> tuple[list[str], int]:
    """Cells of what stands behind a label, and the column of the first."""
    if "|" in rest or "\t" in rest:
        cells = re.split(r"[|\t]", rest)
        skip = 0
        while skip < len(cells) - 1 and not re.search(r"[A-Za-z?]", cells[skip]):
            skip += 1
        column = at + sum(len(c) + 1 for c in cells[:skip])
        cells = cells[skip:]
    else:
        cells, column = re.split(r"\s{3,}", rest.strip()), at + len(rest) - len(rest.lstrip())
        return cells, column
    return [c.strip() for c in cells], column + len(cells[0]) - len(cells[0].lstrip())


def _read_value_spans(cells: list[str], column: int) -> tuple[RangeRow, ...]:
    """Values in the cells behind the function: `0-9` then words, or both in one cell; a full range says nothing."""
    found, n = [], 0
    while n < len(cells):
        cell = cells[n].strip()
        both = read_span(cell, 255)
        alone = SPAN.fullmatch(cell)
        if both and alone is None and not (both[0] == 0 and both[1] >= 255):
            found.append(RangeRow(both[0], both[1], both[2], column))
        elif alone and n + 1 < len(cells) and cells[n + 1].strip() and not SPAN.fullmatch(cells[n + 1].strip()):
            first, last = int(alone[1]), int(alone[3] or alone[1])
            if not (first == 0 and last >= 255):
                found.append(RangeRow(first, last, cells[n + 1].strip(), column))
            n += 1
        n += 1
    return tuple(found)


def meaning_of_row(text: str, before: str = "") -> Meaning:
    """What a row's words mean. `before` is the function of the channel before, for a bare `fine`."""
    low = _FULL.sub("", text.lower()).strip(" .:-–—=*\"'")
    inside = " ".join(re.findall(r"[(\[]([^)\]]*)[)\]]", low))
    low = re.sub(r"[(\[][^)\]]*[)\]]?", " ", low)
    low = re.sub(r"[_/]", lambda m: m[0] if m[0] == "/" else " ", low)
    bits = 0
    m = re.search(r"\b(8|16|24|32)\s*-?\s*bits?\b", f"{low} {inside}")
    if m:
        bits = int(m[1])
        low = re.sub(r"\b(8|16|24|32)\s*-?\s*bits?\b", " ", low)
    if re.search(r"\b(coarse|msb|high byte|hi byte)\b", f"{low} {inside}"):
        bits = 0  # one byte of a wider channel: the other one has a row of its own
    fine = bool(re.search(r"\b(fine|lsb|low byte|lo byte|least)\b", f"{low} {inside}"))
    low = re.sub(r"\b(fine|lsb|low byte|lo byte|coarse|msb|high byte|hi byte)\b", " ", low)
    words = [w.strip(".,:;-–") for w in low.split()]
    words = [w for w in words if w]
    if not words:
        return Meaning(before, fine=True, bits=bits, sure=bool(before)) if fine else Meaning(sure=False, rest=text)
    pixel = 0
    joined = " ".join(words)
    m = re.match(rf"{_PARTS}\s*#?(\d+)\s*[-:]?\s*(.+)", joined)
    if m:
        pixel, joined = int(m[1]), m[2]
    else:
        m = re.fullmatch(rf"(.+?)\s*,?\s*{_PARTS}\s*#?(\d+)", joined) or re.fullmatch(r"(.+?)\s*#?(\d{1,4})", joined)
        if m and _known_function(m[1]):
            found = _known_function(m[1])
            light = family_of(found) in ("colour", "intensity", "shutter") and found not in (
                "Color1",
                "ColorMacro1",
                "CTO",
                "CTB",
                "CTC",
            )
            return Meaning(found, int(m[2]) if light else 0, fine, bits)
    function = _known_function(joined) or _known_function(joined.replace("/", " "))
    if function:
        return Meaning(function, pixel, fine, bits)
    return Meaning("", pixel, fine, bits, False, joined)


def _known_function(words: str) -> str:
    """The function of a whole phrase, with words left out that say nothing; empty when it is not known."""
    phrase = " ".join(words.split())
    if phrase in BY_WORD:
        return BY_WORD[phrase].key
    parts = phrase.split()
    for cut in range(1, len(parts)):
        head, tail = " ".join(parts[:-cut]), parts[-cut:]
        found = BY_WORD.get(head)
        if found:
            noise = _AFTER_COLOUR if found.family == "colour" else _NOISE
            return found.key if all(t in noise for t in tail) else ""
    if len(parts) > 1 and parts[0] in ("master", "led", "main", "the", "all") and " ".join(parts[1:]) in BY_WORD:
        return BY_WORD[" ".join(parts[1:])].key
    if len(parts) == 2 and parts[0] in ("speed", "mode") and parts[1] in BY_WORD:
        return ""
    return ""
