"""The inputs of a gateway: what each contact does, as a table of all that can happen to it, a broken wire included.

A contact that rests open reads the same when its wire is cut: nobody notices until it is needed. One that rests closed
reads as open then, so a broken wire acts, which for an alarm is what one wants.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import NamedTuple

from welvo.rig.entered import SettingValue
from welvo.rig.wiring import DeviceModel


class ContactInput(NamedTuple):
    """One contact by its settings; `scene` as on the bus, from 0."""

    number: int
    use: str
    closed: bool
    """Whether it rests closed."""
    bus: str
    scene: int


class Case(NamedTuple):
    """One thing that can happen to a contact: what it is, whether the loop is closed then, what the gateway does, a
    remark on that, and whether it is what one would want."""

    what: str
    loop: str
    does: str
    remark: str
    good: bool


def inputs_of(model: DeviceModel, settings: Mapping[str, SettingValue]) -> list[ContactInput]:
    """The inputs that a model has, by what its settings say; settings that are not there are as from the factory."""
    numbers = sorted({int(m[1]) for s in model.settings if (m := re.fullmatch(r"in(\d+)_use", s.key))})

    def value(key: str) -> SettingValue:
        spec = model.spec_of_setting(key)
        return settings.get(key, spec.factory if spec else "")

    return [
        ContactInput(
            n, str(value(f"in{n}_use") or "off"), value(f"in{n}_contact") == "normally closed",
            str(value(f"in{n}_bus") or "both"), int(value(f"in{n}_scene") or 0),
        )
        for n in numbers
    ]  # fmt: skip


def truth_table(i: ContactInput) -> list[Case]:
    """Rest, act, and a broken wire."""
    if i.use == "off":
        return [Case("anything", "–", "nothing", "the input is off", True)]
    acts = f"scene {i.scene} on {'both buses' if i.bus == 'both' else i.bus}"
    held = "held while it lasts" if i.use == "alarm" else ""
    rest, act = ("closed", "open") if i.closed else ("open", "closed")
    broken = (acts, "it is noticed") if i.closed else ("nothing", "nobody notices")
    good = i.closed if i.use == "alarm" else not i.closed
    return [
        Case("at rest", rest, "nothing", "", True),
        Case("acts", act, acts, held, True),
        Case("wire broken", "open", *broken, good),
    ]
