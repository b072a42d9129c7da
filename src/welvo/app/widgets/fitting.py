"""Making words fit a room that is too narrow for them, so that no number, address or unit is ever cut.

What may be shortened is the longest stretch without a digit: in “PENSTOCK over the great basin, port 6” that is the
name that somebody gave, and the port stays whole. A list of places is shortened by whole places (“sACN 1, sACN 2 and
12 more”). Only where neither helps do words lose their end, which an audit of the screens then finds.
"""

from __future__ import annotations

import re
from collections.abc import Callable

_LIST = re.compile(r", | and ")
_MORE = re.compile(r"(\d+) more$")
_STRETCH = re.compile(r"[^\d·]+")
_ENDS = re.compile(r"(?:,? (?:port|of|is|at|on))? \S{1,8}$")
"""What stays at the end of words without a number: “, port A”, “ dark?”, “ is silent”."""
_SHORTEST = 3
"""Letters that stay of a stretch that is shortened: fewer say nothing."""
_PLACE = re.compile(r"(?:[^\W\d]{1,12} ){0,2}[\d./:–-]{1,18}")
"""One of a list of places: 207, 3.145, sACN 62001, port 6."""
DOTS = "…"


def fit_words(words: str, room: float, width: Callable[[str], float]) -> str:
    """Words as they fit a room; `width` says how much one text needs, in the same unit."""
    if width(words) <= room:
        return words
    return _fit_list(words, room, width) or _fit_stretch(words, room, width) or _fit_end(words, room, width)


def fit_parts(words: str, room: float, width: Callable[[str], float]) -> str:
    """As `fit_words`, but parts behind a “ · ” go as a whole first: what is left is said in full."""
    parts = words.split(" · ")
    for n in range(len(parts), 0, -1):
        fewer = " · ".join(parts[:n])
        if width(fewer) <= room:
            return fewer
    return fit_words(words, room, width)


def _fit_list(words: str, room: float, width: Callable[[str], float]) -> str:
    """Whole places of a list, and how many more there are; empty where it is no list, or not even one fits."""
    parts = _LIST.split(words)
    more = _MORE.search(parts[-1])
    already = int(more[1]) if more else 0
    if more:
        parts.pop()
    if len(parts) + bool(already) < 2 or not all(_PLACE.fullmatch(x) for x in parts):
        return ""
    for n in range(len(parts) - 1, 0, -1):
        fewer = f"{', '.join(parts[:n])} and {already + len(parts) - n} more"
        if width(fewer) <= room:
            return fewer
    shortest = f"{parts[0]} + {already + len(parts) - 1}"
    return shortest if width(shortest) <= room else ""


def _fit_stretch(words: str, room: float, width: Callable[[str], float]) -> str:
    """The longest stretch without a digit shortened; empty where that is not enough."""
    longest = max(_STRETCH.finditer(words), key=lambda found: (len(found[0]), found.start()), default=None)
    if longest is None:
        return ""
    before, stretch, behind = words[: longest.start()], longest[0], words[longest.end() :]
    # what joins the stretch to the number behind it stays with the number: “ · ”, “, port ”, “ #”
    joint = re.search(r"(?:[,;]? ?\S*|\s·)\s?$", stretch) if behind else _ENDS.search(stretch)
    if joint and joint.start() > _SHORTEST:
        behind, stretch = joint[0] + behind, stretch[: joint.start()]
    if not behind:
        return ""
    low, high = 0, len(stretch)
    while low < high:  # the most letters that fit
        middle = (low + high + 1) // 2
        if width(before + stretch[:middle].rstrip() + DOTS + behind) <= room:
            low = middle
        else:
            high = middle - 1
    return before + stretch[:low].rstrip() + DOTS + behind if low >= _SHORTEST else ""


def _fit_end(words: str, room: float, width: Callable[[str], float]) -> str:
    low, high = 0, len(words)
    while low < high:
        middle = (low + high + 1) // 2
        if width(words[:middle].rstrip() + DOTS) <= room:
            low = middle
        else:
            high = middle - 1
    return words[:low].rstrip() + DOTS
