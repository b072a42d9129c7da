"""What all codecs share."""

from __future__ import annotations

from welvo.rig.letters import mark_unseen_letters


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


def read_text_field(raw: bytes) -> str:
    """The text of a field as it is kept: up to the first zero, with a mark for everything that is no plain text. Names
    come from anybody on the network, and go on into files, lists and papers."""
    return mark_unseen_letters(raw.split(b"\0", 1)[0].decode("utf-8", "replace"))


def step_of(last: int, new: int) -> int:
    """How far a sequence number of one octet went on, −128 to 127: back is negative."""
    d = (new - last) & 0xFF
    return d - 256 if d >= 128 else d
