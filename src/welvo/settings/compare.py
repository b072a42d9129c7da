"""Plan beside reported: one line per setting, each with the mark it deserves."""

from __future__ import annotations

from typing import Literal, NamedTuple

from welvo.observed.presence import is_recent
from welvo.observed.values import SILENT_AFTER, Observed, Result
from welvo.rig.document import Rig
from welvo.rig.entered import SettingValue
from welvo.rig.plan import all_settings, link_of, model_of, planned_settings, split_key, split_owner
from welvo.rig.wiring import DeviceModel, Need, SettingSpec
from welvo.settings.artnet import reported_settings

Mark = Literal["matches", "differs", "unknown", "claimed", "silent", "upstream"]


class SettingLine(NamedTuple):
    """One setting of one device: what is planned, what the device says, and how the two stand.

    `port` is its owner: a port's label, with a stroke and a number for a segment, empty for the device. `waits` is what
    the device still needs before what was entered is what it works by.
    """

    key: str
    port: str
    spec: SettingSpec
    plan: SettingValue | None
    reported: SettingValue | None
    mark: Mark
    at: float = 0.0
    entered: SettingValue | None = None
    saved: SettingValue | None = None
    waits: tuple[Need, ...] = ()
    result: Result | None = None


def segment_counts(keys: dict[str, SettingValue], more: dict[str, SettingValue]) -> dict[str, int]:
    """How many segments each port has, in the plan or on the device, whichever has more."""
    found: dict[str, int] = {}
    for table in (keys, more):
        for key in table:
            if "/" in key:
                label, number = split_owner(split_key(key)[0])
                if number:
                    found[label] = max(found.get(label, 0), number)
    return found


def what_device_says(model: DeviceModel, observed: Observed, ip: str) -> tuple[dict[str, SettingValue], float]:
    """All that a device says of its settings, by whatever link, and when it said the latest of it."""
    heard, said = observed.heard.get(ip), observed.said.get(ip)
    found = reported_settings(model, heard) if heard else {}
    if said:
        found = {**found, **said.active} if not heard or said.at >= heard.at - SILENT_AFTER else found
    return found, max(heard.at if heard else 0.0, said.at if said else 0.0)


def compare_settings(
    rig: Rig, observed: Observed, device: str, now: float, plan: dict[str, SettingValue] | None = None
) -> list[SettingLine]:
    """All settings of a device's model. Nobody heard: `unknown`; pushed and not read back since: `claimed`.

    `plan` is the whole plan with what follows from runs; without it, what the rig plans by hand.
    """
    model = model_of(rig, device)
    if model is None:
        return []
    plan = planned_settings(rig, device) if plan is None else plan
    ip = rig.devices[device].ip
    said = observed.said.get(ip) if ip else None
    has, at = what_device_says(model, observed, ip) if ip else ({}, 0.0)
    live = is_recent(observed, at, now)
    told = said is not None and is_recent(observed, said.at, now)
    written = observed.written.get(device, {})
    ticked, lacks = rig.devices[device].entered, rig.devices[device].lacks
    results = observed.results.get(device, {})
    entered = said.entered if said else {}
    saved = said.saved if said else {}
    waits = said.waits if said else {}
    by_http = {id(s) for s in model.settings if link_of(model, s) == "http" and not s.secret} if told else ()
    new = tuple.__new__
    lines: list[SettingLine] = []
    for key, owner, spec in all_settings(model, segment_counts(plan, has)):
        want, have = plan.get(key), has.get(key)
        needs = waits.get(key, ())
        mark: Mark
        if want is None or key in lacks:
            want, mark = None, "silent"
        elif have == want and live and not written:
            mark = "matches"
        elif (pushed := written.get(key)) and pushed.value == want and pushed.at > at:
            mark = "claimed"
        elif have is None and id(spec) in by_http:
            # it told everything it has, and this is not among it: a segment it does not know; what would stand at its
            # factory value anyway is no difference
            mark = "unknown" if want == spec.factory else "differs"
        elif have is None or not live:
            mark = "claimed" if (by_hand := ticked.get(key)) and by_hand.value == want else "unknown"
        elif have == want:
            mark = "matches"
        else:
            mark = "claimed" if needs and want in (entered.get(key), saved.get(key)) else "differs"
        # made directly: fifteen thousand lines are compared at once, and a constructor is half of their cost
        of = (key, owner, spec, want, have, mark, at, entered.get(key), saved.get(key), needs, results.get(key))
        lines.append(new(SettingLine, of))
    return lines


def lines_that_differ(lines: list[SettingLine]) -> list[SettingLine]:
    return [line for line in lines if line.mark == "differs"]


def lines_that_wait(lines: list[SettingLine]) -> dict[Need, list[SettingLine]]:
    """The settings that wait for each act, in the order the acts come: save, apply, restart."""
    acts: tuple[Need, ...] = ("save", "apply", "restart")
    found = {act: [x for x in lines if act in x.waits] for act in acts}
    return {act: of for act, of in found.items() if of}
