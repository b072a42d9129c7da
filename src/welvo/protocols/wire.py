"""What all codecs share."""

from __future__ import annotations

import re

UNSEEN = "\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200b-\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff\ud800-\udfff"
"""Control and direction characters, as a regular expression takes them in brackets; tabs and line ends are not among
them."""
_UNSEEN = re.compile(f"[\t\n{UNSEEN}]")
MARK = "\ufffd"
"""Stands for octets that are no text, and for characters that cannot be seen or would turn the writing around."""


class WireError(ValueError):
    """Bytes that are no such packet; `field` names the part that is wrong."""

    def __init__(self, field: str, why: str) -> None:
        super().__init__(f"{field}: {why}")
        self.field = field


def text_field(text: str, length: int) -> bytes:
    """UTF-8, cut at a character boundary so that at least one zero ends the field, zero-padded."""
    raw = text.encode("utf-8")[: length - 1]
    while raw:
        try:
            raw.decode("utf-8")
            break
        except UnicodeDecodeError:
            raw = raw[:-1]
    return raw.ljust(length, b"\0")


def read_text(raw: bytes) -> str:
    """The text of a field as it is kept: up to the first zero, with a mark for everything that is no plain text. Names
    come from anybody on the network, and go on into files, lists and papers."""
    return seen(raw.split(b"\0", 1)[0].decode("utf-8", "replace"))


def seen(text: str) -> str:
    """A text with a mark for each character that cannot be seen or would turn the writing around."""
    return text if text.isprintable() else _UNSEEN.sub(MARK, text)


def step_of(last: int, new: int) -> int:
    """How far a sequence number of one octet went on, −128 to 127: back is negative."""
    d = (new - last) & 0xFF
    return d - 256 if d >= 128 else d
