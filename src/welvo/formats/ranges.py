"""Tables of ranges as manuals print them: `0–6 closed`, `007-121 strobe slow…fast`, one line or item each."""

from __future__ import annotations

import re

from msgspec import Struct

from welvo.rig.profile import Does, Range

SPAN = re.compile(
    r"\s*(?:dmx\s*)?(\d{1,5})\s*(%?)\s*(?:(?:[-–—~/]|\bto\b|\.{2,3}|…|>)\s*(\d{1,5})\s*(%?))?\s*(?:[:.)=|,]|[-–—](?=\s))?\s*(?:\||\t)?\s*",
    re.I,
)
COLOURS = {
    "red": "#ff2a1f",
    "orange": "#ff8a1f",
    "amber": "#ffb000",
    "yellow": "#ffe630",
    "lime": "#b8ff2e",
    "green": "#22c947",
    "cyan": "#22d8e8",
    "turquoise": "#22d8c0",
    "light blue": "#7ab8ff",
    "blue": "#2a52ff",
    "congo": "#3a14c8",
    "uv": "#6a2cff",
    "violet": "#8a3cff",
    "purple": "#9a30d8",
    "lavender": "#b49cff",
    "magenta": "#ff35d0",
    "pink": "#ff7ab8",
    "white": "#ffffff",
    "cto": "#ffd6a0",
    "ctb": "#c8dcff",
}
HINTS: tuple[tuple[str, Does], ...] = (
    (r"\breset|re-?calibrat|re-?home|reboot", "reset"),
    (r"\bclosed?\b|black-?out|no light|shut\b|\boff\b|no output", "closed"),
    (r"strob|puls|flash|random|lightning", "strobe"),
    (r"\bopen\b|full on|\bon\b|no strobe", "open"),
    (r"rotat|spin|cw\b|ccw\b|clockwise|forward|backward|scroll", "rotation"),
    (r"\bindex|position", "index"),
    (r"macro|program|auto|sound|chase|scene|effect|demo", "macro"),
    (r"colou?r", "colour"),
)


class RangeProblem(Struct, frozen=True):
    """What was not understood of a table: line from 0, and why."""

    line: int
    message: str


def hint_of_name(name: str) -> tuple[Does, str]:
    """What a range's words say that the lamp does, and the light it gives if they name a colour."""
    low = name.lower()
    light = next((c for w, c in COLOURS.items() if re.search(rf"\b{w}\b", low)), "")
    does = next((d for pattern, d in HINTS if re.search(pattern, low)), "")
    if light and does in ("", "open", "colour"):
        return "colour", light
    return does, ""  # type: ignore[return-value]


def hold_of(name: str) -> float:
    """Seconds that a command must be held, if the words say so: `reset (hold 3 s)`, `after 5 sec`."""
    m = re.search(r"(?:hold|after|for|wait)?\s*(\d+(?:\.\d+)?)\s*(?:s|sec|secs|seconds)\b", name, re.I)
    return min(3600.0, float(m[1])) if m else 0.0


def read_span(text: str, top: int) -> tuple[int, int, str] | None:
    """First value, last value and the words behind, or None when a line does not begin with values of this width."""
    m = SPAN.match(text)
    if not m or not text[m.end() :].strip():
        return None

    def value(number: str, percent: str) -> int:
        return round(int(number) * top / 100) if percent else int(number)

    first = value(m[1], m[2])
    last = value(m[3], m[4] or m[2]) if m[3] else first
    return first, last, text[m.end() :].strip(" \t|")


def make_range(first: int, last: int, words: str) -> Range:
    does, light = hint_of_name(words)
    return Range(
        first=first,
        last=last,
        name=re.sub(r"\s+", " ", words)[:80],
        does=does,
        light=light,
        hold=hold_of(words) if does == "reset" else 0.0,
    )


def read_ranges(text: str, top: int = 255) -> tuple[tuple[Range, ...], list[RangeProblem]]:
    """Read a pasted table; never raises. Lines that are none, run backwards or do not fit the width are told."""
    found: list[Range] = []
    problems: list[RangeProblem] = []
    for n, line in enumerate(text.splitlines()):
        for item in re.split(r";(?=\s*\d)|,(?=\s*\d+\s*[-–—])", line):
            if not item.strip(" \t|-–—"):
                continue
            span = read_span(item.strip(" |\t"), top)
            if span is None:
                problems.append(
                    RangeProblem(n, f"“{item.strip()[:40]}” does not begin with values, such as 0–6 closed.")
                )
            elif span[1] < span[0] or span[1] > top:
                problems.append(RangeProblem(n, f"{span[0]}–{span[1]} does not fit: from 0 to {top}, lower first."))
            else:
                found.append(make_range(*span))
    return tuple(sorted(found, key=lambda r: (r.first, r.last))), problems


def write_ranges(ranges: tuple[Range, ...]) -> str:
    """The table of a channel's ranges as text; reading it again gives the same values and names."""
    return "\n".join(
        f"{r.first}–{r.last} {r.name or '?'}" if r.last != r.first else f"{r.first} {r.name or '?'}" for r in ranges
    )
