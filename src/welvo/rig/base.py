"""What all values of a rig have in common."""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec import Meta

from welvo.rig.letters import mark_unseen_letters

Name = Annotated[str, Meta(max_length=200)]
"""What somebody calls a thing. It stands on labels, in lists and on paper, so it has an end."""


class Refused(ValueError):
    """What was typed, asked for or read cannot be taken; the message says what, why, and what would do.

    The one exception of every reader and every edit: whoever catches it shows the message where the wish was made. The
    message is one line that can be read, whatever stood in the text, the file or the answer that it names.
    """

    def __init__(self, why: str) -> None:
        super().__init__(mark_unseen_letters(why))


class Value(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, gc=False):
    """An immutable part of a rig; change it with `msgspec.structs.replace`.

    `extra` holds what a file said that this version does not know. It is written back where it stood.
    """

    extra: dict[str, object] | None = None
