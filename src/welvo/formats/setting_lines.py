"""The settings of a device model as lines that are quickly typed: one setting a line, as it stands on its page.

    Brightness: 0-100 %, factory 100
    port Chip: A | B | C, factory A
    Fan: switch, factory on; needs restart

What a line does not say (help, page, the way it is sent) is kept where the model has a setting of that name already.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Literal, get_args

from msgspec.structs import replace

from welvo.rig.base import Refused
from welvo.rig.entered import SettingValue
from welvo.rig.wiring import DeviceModel, Need, SettingSpec

Scope = Literal["device", "port", "segment"]
Known = dict[tuple[Scope, str], SettingSpec]
SCOPES: dict[str, Scope] = {"port": "port", "segment": "segment"}
PLAIN = ("text", "ip", "mask", "universe", "decimal", "order")
"""Types that are said by their name alone."""
NEEDS: tuple[Need, ...] = get_args(Need)
ON = {"on": True, "off": False}
MOST = 400


def read_setting_lines(text: str, model: DeviceModel) -> tuple[SettingSpec, ...]:
    """Settings out of lines, for a model. Raises Refused with the line that cannot be read."""
    found: list[SettingSpec] = []
    known: Known = {(s.scope, s.label.lower()): s for s in model.settings}
    for line in (x.strip() for x in text.splitlines()):
        if line:
            found.append(_read_line(line, known, model))
    twice = next((s for n, s in enumerate(found) if any((o.scope, o.key) == (s.scope, s.key) for o in found[:n])), None)
    if twice:
        raise Refused(f"“{twice.label}” is there twice.")
    if len(found) > MOST:
        raise Refused(f"A model has {MOST} settings at most.")
    return tuple(found)


def _read_line(line: str, known: Known, model: DeviceModel) -> SettingSpec:
    head, colon, rest = line.partition(":")
    first, _, others = head.strip().partition(" ")
    scope: Scope = SCOPES[first] if first in SCOPES and others.strip() else "device"
    label = others.strip() if scope != "device" else head.strip()
    if not label or not colon or not rest.strip():
        raise Refused(f"“{line}” is no setting. Write a name, a colon and what it may be: Brightness: 0-100 %.")
    what, _, needs = rest.partition(";")
    kind, _, factory = what.partition(", factory ")
    key = re.sub(r"[^a-z0-9]+", "_", label.lower()).strip("_") or "setting"
    link: Literal["", "hand"] = "" if model.links else "hand"
    made = known.get((scope, label.lower())) or SettingSpec(
        key=key, label=label, scope=scope, link=link, help=f"{label}, as it stands on the device's own page."
    )
    made = _with_kind(replace(made, label=label), kind.strip(), line)
    return replace(made, factory=_read_factory(factory.strip(), made, line), needs=_read_needs(needs.strip(), line))


def _with_kind(spec: SettingSpec, kind: str, line: str) -> SettingSpec:
    span = re.fullmatch(r"(-?\d+)\s*[-–]\s*(-?\d+)\s*(\D\S*)?", kind)
    letters = re.fullmatch(r"text (\d+)", kind)
    if span:
        low, high = int(span[1]), int(span[2])
        if low >= high:
            raise Refused(f"“{line}”: {low} to {high} is no range.")
        return replace(spec, type="number", low=low, high=high, unit=span[3] or "", options=())
    if "|" in kind:
        options = tuple(dict.fromkeys(w.strip() for w in kind.split("|") if w.strip()))
        if len(options) < 2:
            raise Refused(f"“{line}”: a choice has two options or more.")
        return replace(spec, type="choice", options=options)
    if letters:
        return replace(spec, type="text", longest=max(1, min(int(letters[1]), 1000)), options=())
    if kind == "switch" or kind in PLAIN:
        return replace(spec, type=kind, options=())
    plain = ", ".join(PLAIN)
    raise Refused(f"“{line}”: what it may be is a range (0-100), a choice (a | b), or one of switch, {plain}.")


def _read_factory(text: str, spec: SettingSpec, line: str) -> SettingValue:
    if not text:
        return False if spec.type == "switch" else spec.low if spec.type == "number" else ""
    if spec.type == "switch":
        if text not in ON:
            raise Refused(f"“{line}”: a switch comes on or off.")
        return ON[text]
    if spec.type in ("number", "universe"):
        if not re.fullmatch(r"-?\d+", text) or not spec.low <= int(text) <= spec.high:
            raise Refused(f"“{line}”: “{text}” is no number from {spec.low} to {spec.high}.")
        return int(text)
    if spec.type == "decimal":
        try:
            return float(text)
        except ValueError:
            raise Refused(f"“{line}”: “{text}” is no number.") from None
    if spec.type == "choice" and text not in spec.options:
        raise Refused(f"“{line}”: “{text}” is none of {', '.join(spec.options)}.")
    return text


def _read_needs(text: str, line: str) -> tuple[Need, ...]:
    if not text:
        return ()
    words = text.removeprefix("needs").replace(",", " ").split()
    wrong = next((w for w in words if w not in NEEDS), "")
    if wrong or not text.startswith("needs"):
        raise Refused(f"“{line}”: behind the stroke stands needs, and {', '.join(NEEDS)}.")
    return tuple(n for n in NEEDS if n in words)


def say_setting_lines(settings: Iterable[SettingSpec]) -> str:
    """The lines that `read_setting_lines` reads again."""
    return "\n".join(map(_say_line, settings))


def _say_line(spec: SettingSpec) -> str:
    scope = f"{spec.scope} " if spec.scope != "device" else ""
    kind: str = spec.type
    if spec.type == "number":
        kind = f"{spec.low}-{spec.high} {spec.unit}".rstrip()
    elif spec.type == "choice":
        kind = " | ".join(spec.options)
    elif spec.type == "text" and spec.longest != 64:
        kind = f"text {spec.longest}"
    said = {True: "on", False: "off"}.get(spec.factory) if isinstance(spec.factory, bool) else str(spec.factory)
    plain = spec.factory in ("", spec.low if spec.type == "number" else False) and not (
        spec.type == "number" and spec.factory == ""
    )
    factory = "" if plain else f", factory {said}"
    needs = f"; needs {' '.join(spec.needs)}" if spec.needs else ""
    return f"{scope}{spec.label}: {kind}{factory}{needs}"
