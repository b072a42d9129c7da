"""Whether a device is there, and since when not: one answer for the path, the lists, the cards, the findings and the
command line, whichever link the device spoke by."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from welvo.observed.values import Observed


class Presence(Struct, frozen=True):
    """`heard`: it answered lately, by any link; `silent`: it did once; `never`: not since this program listens.

    `last` is when it answered last, in seconds since the epoch; 0 when it never did.
    """

    state: Literal["heard", "silent", "never"]
    last: float = 0.0

    @property
    def is_there(self) -> bool:
        return self.state == "heard"


NEVER = Presence("never")


def is_recent(observed: Observed, at: float, now: float) -> bool:
    """Whether something that was said at a time still counts: no longer ago than a device may take to answer."""
    return at > 0 and now - at <= observed.patience


def presence_of(observed: Observed, ip: str, now: float) -> Presence:
    """Whether the device at an address is there; without an address it never is."""
    heard, said = observed.heard.get(ip), observed.said.get(ip)
    if not ip or (heard is None and said is None):
        return NEVER
    last = max(heard.at if heard else 0.0, said.at if said else 0.0)
    return Presence("heard" if is_recent(observed, last, now) else "silent", last)
