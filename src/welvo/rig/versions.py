"""Named versions of a rig, kept inside its file: what was handed out as issue 1, issue 2 …"""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta

from welvo.rig.base import Value


class Version(Value, frozen=True, kw_only=True):
    """The whole rig as it was at a time (seconds since the epoch). `data` is packed by `formats.versions`."""

    name: Annotated[str, Meta(min_length=1, max_length=80)]
    at: Annotated[float, Meta(ge=0)] = 0.0
    who: str = ""
    note: str = ""
    data: bytes = b""
