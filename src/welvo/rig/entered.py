"""What somebody says to have entered by hand: on a device's own page, on a lamp itself."""

from __future__ import annotations

from typing import Annotated

from msgspec import Meta

from welvo.rig.base import Value

SettingValue = str | bool | int | float


class Entered(Value, frozen=True, kw_only=True):
    """A value that was ticked off on a setting card, with who did and when (seconds since the epoch)."""

    value: SettingValue
    who: str = ""
    at: Annotated[float, Meta(ge=0)] = 0.0
