"""A rig as lines of text, one fact a line: what version control shows of two states of it, and what a person can read.

The lines stand in an order that does not hang on how the rig came about, so that only what was changed differs.
"""

from __future__ import annotations

import hashlib
from typing import Any

from welvo.formats.unknown import to_plain
from welvo.patch.index import Index
from welvo.rig.document import FORMAT, PARTS
from welvo.rig.notation import natural_sort_key
from welvo.survey.compare import PART_WORDS, name_of_entry_in, say_start

LONGEST = 400


def list_whole_rig(index: Index) -> str:
    """The whole rig: its own facts, then every entry of every part under a line that names it."""
    rig = index.rig
    lines = [f"rig “{rig.name}”, format {FORMAT}"]
    own = {k: v for k, v in to_plain(rig).items() if k not in (*PARTS, "name", "format")}
    lines += [f"  {place} = {value}" for place, value in _facts_of_value(own)]
    for part in PARTS:
        entries = getattr(rig, part)
        for key in sorted(entries, key=lambda k, p=part: (natural_sort_key(name_of_entry_in(rig, p, k)), k)):  # type: ignore[misc]
            lines += ["", f"{PART_WORDS.get(part, part.rstrip('s'))} {name_of_entry_in(rig, part, key)} ({key})"]
            if part in ("fixtures", "elements"):
                lines.append(f"  stands at {say_start(index, key)}")
            lines += [f"  {place} = {value}" for place, value in _facts_of_value(to_plain(entries[key]))]
    return "\n".join(lines) + "\n"


def _facts_of_value(value: Any, place: str = "") -> list[tuple[str, str]]:
    """Every plain value inside of one, with the way to it; the first of a list is 1, as people count."""
    if isinstance(value, dict) and value:
        inner = sorted(value.items(), key=lambda kv: natural_sort_key(str(kv[0])))
        return [row for k, v in inner for row in _facts_of_value(v, f"{place}.{k}".lstrip("."))]
    if isinstance(value, list | tuple) and any(isinstance(v, dict | list | tuple) for v in value):
        return [row for n, v in enumerate(value, 1) for row in _facts_of_value(v, f"{place}.{n}".lstrip("."))]
    return [(place, _say_fact(value))]


def _say_fact(value: Any) -> str:
    if isinstance(value, bytes | bytearray):
        return f"{len(value)} bytes, {hashlib.sha256(value).hexdigest()[:12]}"
    if isinstance(value, list | tuple):
        return ", ".join(_say_fact(v) for v in value)
    if isinstance(value, bool) or value is None:
        return {True: "yes", False: "no", None: "nothing"}[value]
    words = str(value).replace("\n", " ⏎ ")
    if len(words) > LONGEST:
        return f"{len(words)} letters, {hashlib.sha256(words.encode('utf-8', 'replace')).hexdigest()[:12]}"
    return words
