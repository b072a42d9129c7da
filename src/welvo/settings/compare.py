"""Plan beside reported: one line per setting, each with the mark it deserves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from welvo.observed.values import SILENT_AFTER, Heard, Observed
from welvo.rig.document import Rig
from welvo.rig.plan import all_settings, model_of, planned
from welvo.rig.wiring import SettingSpec, SettingValue
from welvo.settings.artnet import reported

Mark = Literal["matches", "differs", "unknown", "claimed", "silent", "upstream"]


@dataclass(frozen=True)
class SettingLine:
    """One setting of one device: what is planned, what the device says, and how the two stand."""

    key: str
    port: str
    spec: SettingSpec
    plan: SettingValue | None
    reported: SettingValue | None
    mark: Mark
    at: float = 0.0


def is_live(heard: Heard | None, now: float) -> bool:
    return heard is not None and now - heard.at <= SILENT_AFTER


def compare(rig: Rig, observed: Observed, device: str, now: float) -> list[SettingLine]:
    """All settings of a device's model. Nobody heard: `unknown`; pushed and not read back since: `claimed`."""
    model = model_of(rig, device)
    if model is None:
        return []
    plan = planned(rig, device)
    heard = observed.heard.get(rig.devices[device].ip)
    says = reported(model, heard) if heard else {}
    written = observed.written.get(device, {})
    lines = []
    for key, port, spec in all_settings(model):
        want, have = plan.get(key), says.get(key)
        pushed = written.get(key)
        mark: Mark
        if want is None:
            mark = "silent"
        elif pushed and pushed.value == want and (heard is None or pushed.at > heard.at):
            mark = "claimed"
        elif have is None or not is_live(heard, now):
            mark = "unknown"
        else:
            mark = "matches" if have == want else "differs"
        lines.append(SettingLine(key, port, spec, want, have, mark, heard.at if heard else 0.0))
    return lines


def differing(lines: list[SettingLine]) -> list[SettingLine]:
    return [line for line in lines if line.mark == "differs"]
