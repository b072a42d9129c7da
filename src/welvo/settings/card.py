"""The setting card of a device that is set by hand: what to enter where, in its own counting and order, to tick off.

A value that was ticked is claimed, not proved; when the plan says another one, the tick wakes.
"""

from __future__ import annotations

from msgspec import Struct

from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.edits import set_device
from welvo.rig.entered import Entered, SettingValue
from welvo.rig.plan import on_page, pages_of, say_setting, split_owner
from welvo.rig.protocol import PROTOCOLS, USUAL
from welvo.rig.wiring import DeviceModel, Need, SettingSpec
from welvo.settings.compare import SettingLine

LIGHT = "light: "
"""How the key of a status light begins that was seen, among what was ticked."""
ACTS: tuple[Need, ...] = ("save", "apply", "restart")


class CardStep(Struct, frozen=True):
    """One line of a card: a setting to enter, or an act (`key` empty) where the device's page wants it.

    `state` is `open`, `ticked`, `proved` (the device says so itself) or `woken` (ticked for another value).
    """

    page: str
    where: str
    what: str
    value: str
    key: str = ""
    state: str = "open"
    by: str = ""
    at: float = 0.0


def as_on_page(model: DeviceModel, spec: SettingSpec, value: SettingValue | None, protocol: str = USUAL) -> str:
    """A value as the device's own page shows it, in that page's counting."""
    if spec.type == "universe" and isinstance(value, int):
        record = PROTOCOLS[protocol]
        if record.has_universe_numbers:
            return str(record.from_zero(value) + model.counts.get(record.key, record.base))
    return say_setting(spec, on_page(model, spec, value), protocol)


def say_owner_place(owner: str) -> str:
    label, number = split_owner(owner)
    return f"port {label}, segment {number}" if number else f"port {label}" if label else "device"


def card_steps(rig: Rig, device_id: str, model: DeviceModel, lines: list[SettingLine]) -> list[CardStep]:
    """The steps for everything that is planned, in the order of the device's pages. Save and apply stand behind the
    settings of each page that need them, a restart at the very end."""
    ticked = rig.devices[device_id].entered
    protocols = {x.port: str(x.plan) for x in lines if x.spec.key == "protocol" and x.plan}
    pages: dict[str, list[SettingLine]] = {}
    named = pages_of(model)
    for x in lines:
        if x.plan is not None and (x.spec.writable or x.key == "ip"):
            pages.setdefault(named[x.spec.scope, x.spec.key], []).append(x)
    steps: list[CardStep] = []
    restart = False
    for name, of in pages.items():
        for x in of:
            protocol = protocols.get(x.port) or protocols.get(split_owner(x.port)[0]) or USUAL
            tick = ticked.get(x.key)
            state = "open"
            if x.mark == "matches":
                state = "proved"
            elif tick:
                state = "ticked" if tick.value == x.plan else "woken"
            words = as_on_page(model, x.spec, x.plan, protocol)
            by = tick.who if tick and state in ("ticked", "woken") else ""
            steps.append(
                CardStep(name, say_owner_place(x.port), x.spec.label, words, x.key, state, by, tick.at if tick else 0.0)
            )
        needs = {n for x in of for n in x.spec.needs}
        steps += [CardStep(name, "device", act.capitalize(), "on its page") for act in ACTS[:2] if act in needs]
        restart = restart or "restart" in needs
    if restart:
        usual = f"about {model.restart_takes:g} s"
        steps.append(CardStep("", "device", "Restart", usual))
    for look, meaning in model.lights:
        done = ticked.get(f"{LIGHT}{look}")
        state, by, at = ("ticked", done.who, done.at) if done else ("open", "", 0.0)
        steps.append(CardStep("Lights", "on the device", look, meaning, f"{LIGHT}{look}", state, by, at))
    return steps


def tick_settings(rig: Rig, device_id: str, values: dict[str, SettingValue], who: str, at: float) -> Edit:
    """Tick settings off as entered by somebody."""
    device = rig.devices[device_id]
    if not values:
        raise Refused("There is nothing to tick off.")
    made = {k: Entered(value=v, who=who, at=at) for k, v in values.items()}
    words = (
        f"tick {len(made)} settings of {device.name}" if len(made) > 1 else f"tick {next(iter(made))} of {device.name}"
    )
    return set_device(rig, device_id, words, entered={**device.entered, **made})


def untick_settings(rig: Rig, device_id: str, keys: set[str]) -> Edit:
    device = rig.devices[device_id]
    left = {k: v for k, v in device.entered.items() if k not in keys}
    return set_device(rig, device_id, f"take ticks of {device.name} back", entered=left)
