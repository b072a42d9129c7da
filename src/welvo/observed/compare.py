"""Plan beside reported: one line per setting, each with the mark it deserves."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from welvo.observed.values import SILENT_AFTER, Heard, HeardPort, Observed
from welvo.rig.document import Rig
from welvo.rig.plan import all_settings, model_of, planned
from welvo.rig.wiring import DeviceModel, SettingSpec, SettingValue

Mark = Literal["agrees", "differs", "unknown", "claimed", "silent", "upstream"]


@dataclass(frozen=True)
class Line:
    """One setting of one device: what is planned, what the box says, and how the two stand."""

    key: str
    port: str
    spec: SettingSpec
    plan: SettingValue | None
    reported: SettingValue | None
    mark: Mark
    at: float = 0.0


def heard_port(model: DeviceModel, heard: Heard, label: str) -> HeardPort | None:
    """The heard port for a label: outputs in page and index order stand in the order printed on the box."""
    order = sorted((p for p in heard.ports if p.output), key=lambda p: (p.page, p.index))
    at = model.ports.index(label) if label in model.ports else -1
    return order[at] if 0 <= at < len(order) else None


def reported(model: DeviceModel, heard: Heard) -> dict[str, SettingValue]:
    """What a heard device says of its settings, by full key."""
    said: dict[str, SettingValue] = {"ip": heard.ip, "name": heard.name, "long_name": heard.long_name}
    for label in model.ports:
        port = heard_port(model, heard, label)
        if port:
            said[f"{label}.protocol"] = port.protocol
            said[f"{label}.universe"] = port.wire
            said[f"{label}.merge"] = "latest" if port.ltp else "highest"
    return said


def is_live(heard: Heard | None, now: float) -> bool:
    return heard is not None and now - heard.at <= SILENT_AFTER


def compare(rig: Rig, observed: Observed, device: str, now: float) -> list[Line]:
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
            mark = "agrees" if have == want else "differs"
        lines.append(Line(key, port, spec, want, have, mark, heard.at if heard else 0.0))
    return lines


def differing(lines: list[Line]) -> list[Line]:
    return [line for line in lines if line.mark == "differs"]
