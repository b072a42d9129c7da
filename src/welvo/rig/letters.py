"""Characters that cannot be seen, or would turn the direction of writing, are marked.

Texts come from files, from clipboards and from anybody on the network. They go on into names, lists, papers and
messages, where a line end in the middle, or a character that writes backwards, lets one thing look like another.
"""

from __future__ import annotations

import re

UNSEEN = "\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b-\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff\ud800-\udfff"
"""Control and direction characters, as a regular expression takes them in brackets; tabs and line ends are not among
them."""
MARK = "\ufffd"
"""Stands for octets that are no text, and for characters that cannot be seen or would turn the writing around."""
_ON_A_LINE = re.compile(f"[\t\n{UNSEEN}]")


def mark_unseen_letters(text: str) -> str:
    """A text as one line, with a mark for each character that cannot be seen or would turn the writing around."""
    return text if text.isprintable() else _ON_A_LINE.sub(MARK, text)
