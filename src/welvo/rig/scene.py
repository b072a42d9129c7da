"""What ties a rig to a place: scenes that were imported with it, and the picture its positions are drawn over."""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta

from welvo.rig.base import Name, Value

Metre = Annotated[float, Meta(ge=-1e5, le=1e5)]


class Scene(Value, frozen=True, kw_only=True):
    """An MVR archive as it was imported: what Welvo does not hold of it is written back from here."""

    name: Name
    data: bytes = b""
    taken: tuple[str, ...] = ()
    """UUIDs of its fixtures that came into the rig: one of them that is gone was taken out here."""


class Ground(Value, frozen=True, kw_only=True):
    """A reference picture under the positions, seen from above.

    `picture` is an id of the rig, `left` and `front` are where its lower left corner lies and `wide` how wide it is, in
    metres; `fade` 0 hides it, 1 shows it in full.
    """

    picture: str
    left: Metre = 0.0
    front: Metre = 0.0
    wide: Annotated[float, Meta(gt=0, le=1e5)] = 10.0
    fade: Annotated[float, Meta(ge=0, le=1)] = 0.5
