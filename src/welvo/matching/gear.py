"""Gear of a lamp bus beside the plan: what is planned at each of the 64 places, what answered there, where they differ;
and how somebody's words for a level, a fade or a time become the numbers of the standard."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Literal, NamedTuple

from welvo.buses.plan import bus_at
from welvo.observed.values import BusAt, BusSeen, GearSeen, Observed
from welvo.protocols import dali
from welvo.rig.base import Refused
from welvo.rig.buses import Bus, Gear
from welvo.rig.document import Rig
from welvo.rig.refs import PortRef

Mark = Literal["matches", "differs", "unknown", "silent"]


class GearLine(NamedTuple):
    """One setting of a gear: the plan's value, what the gear says, and how they stand."""

    key: str
    plan: str
    reported: str
    mark: Mark


class GearPlace(NamedTuple):
    """One of the 64 places of a bus."""

    at: int
    planned: Gear | None
    seen: GearSeen | None
    lines: tuple[GearLine, ...] = ()

    @property
    def differs_from_plan(self) -> bool:
        return any(x.mark == "differs" for x in self.lines)


LABELS = {
    "kind": "Type", "groups": "Groups", "least": "Least level", "greatest": "Greatest level",
    "power_on": "Level at power-on", "failure": "Level at bus failure", "fade_time": "Fade time",
    "fade_rate": "Fade rate", "scenes": "Scenes",
}  # fmt: skip
WRITABLE = tuple(k for k in LABELS if k != "kind")


def bus_where(rig: Rig, ref: PortRef) -> BusAt | None:
    """Where a bus is reached; none while its gateway has no address."""
    ip = rig.devices[ref.device].ip
    return (ip, ref.port) if ip else None


def seen_on(rig: Rig, observed: Observed, ref: PortRef) -> BusSeen | None:
    """What a search of a bus found; none before there was one."""
    at = bus_where(rig, ref)
    return observed.buses.get(at) if at else None


def board_of_bus(rig: Rig, observed: Observed, ref: PortRef) -> list[GearPlace]:
    """The 64 places of a bus, planned beside found."""
    bus, seen = bus_at(rig, ref), seen_on(rig, observed, ref)
    planned = {g.at: g for g in bus.gear}
    found = {g.at: g for g in seen.gear} if seen else {}
    return [
        GearPlace(
            n, planned.get(n), found.get(n), gear_lines(planned[n], found[n]) if n in planned and n in found else ()
        )
        for n in range(dali.SHORT_ADDRESSES)
    ]


# ---- words


def say_level(level: int | None, unset: str = "–") -> str:
    """`170 (10 %)`; 255 is said as what it means where it is stored."""
    if level is None or level < 0:
        return "–"
    if level == dali.MASK:
        return unset
    percent = dali.percent_of(level)
    return f"{level} ({f'{percent:.1f}' if percent < 10 else f'{percent:.0f}'} %)" if level else "0 (off)"


def say_time(x: int | None) -> str:
    if x is None or x < 0:
        return "–"
    return f"{dali.fade_time(x):.1f} s" if x else "no fade"


def say_rate(x: int | None) -> str:
    if x is None or x < 1:
        return "–"
    rate = dali.fade_rate(x)
    return f"{rate:.0f} steps a second" if rate >= 100 else f"{rate:.1f} steps a second"


def say_groups(groups: Iterable[int] | None, count_from: int = 0) -> str:
    if groups is None:
        return "–"
    return ", ".join(str(g + count_from) for g in sorted(groups)) or "none"


def say_kind(kind: int) -> str:
    return dali.TYPES.get(kind, f"type {kind}") if kind >= 0 else "–"


def say_scenes(scenes: Mapping[int, int] | tuple[tuple[int, int], ...]) -> str:
    pairs = sorted(dict(scenes).items())
    return ", ".join(f"{s}: {v}" for s, v in pairs if v != dali.MASK) or "none"


def read_gear_level(text: str, mask: str = "") -> int | None:
    """A level as it is typed: `170`, `10 %`, `off`; with `mask`, also that word. Nothing typed is nothing planned."""
    t = text.strip().lower()
    if not t:
        return None
    if t == "off":
        return 0
    if mask and t in (mask, "255"):
        return dali.MASK
    m = re.fullmatch(r"(\d{1,3}(?:[.,]\d+)?)\s*(%?)", t)
    if m and m[2]:
        percent = float(m[1].replace(",", "."))
        if 0 <= percent <= 100:
            return dali.level_of(percent)
    elif m and m[1].isdecimal() and int(m[1]) <= dali.HIGHEST_LEVEL:
        return int(m[1])
    more = f", or {mask}" if mask else ""
    raise Refused(f"“{text.strip()}” is no level; write 0 to 254, or a share such as 10 %{more}.")


def read_time(text: str) -> int | None:
    """Seconds as they are typed, as the nearest fade time the standard has."""
    t = text.strip().lower().removesuffix("s").strip().replace(",", ".")
    if not t:
        return None
    if t in ("no fade", "none", "no"):
        return 0
    if not re.fullmatch(r"\d{1,3}(\.\d+)?", t):
        raise Refused(f"“{text.strip()}” is no time; write seconds, such as 2.5, or no fade.")
    return dali.nearest_time(float(t))


def read_rate(text: str) -> int | None:
    """Steps a second as they are typed, as the nearest fade rate the standard has."""
    t = text.strip().lower().removesuffix("steps a second").strip().replace(",", ".")
    if not t:
        return None
    if not re.fullmatch(r"\d{1,4}(\.\d+)?", t) or float(t) <= 0:
        raise Refused(f"“{text.strip()}” is no fade rate; write steps a second, such as 45.")
    return dali.nearest_rate(float(t))


def read_groups(text: str) -> tuple[int, ...] | None:
    """Groups as they are typed: `0, 3, 12`, or `none`."""
    t = text.strip().lower()
    if not t:
        return None
    if t == "none":
        return ()
    parts = re.split(r"[\s,;]+", t)
    if not all(p.isdecimal() and int(p) < dali.GROUPS for p in parts):
        raise Refused(f"“{text.strip()}” are no groups; write numbers from 0 to 15, or none.")
    return tuple(sorted({int(p) for p in parts}))


# ---- plan beside reported


def gear_lines(gear: Gear, seen: GearSeen) -> tuple[GearLine, ...]:
    """Every setting of a gear, plan beside reported. What was not asked yet is not known."""

    def line(key: str, plan: object, has: object, said_plan: str, said_has: str, known: bool) -> GearLine:
        mark: Mark = "silent" if plan is None else "unknown" if not known else "matches" if plan == has else "differs"
        return GearLine(key, said_plan if plan is not None else "–", said_has if known else "–", mark)

    kind = gear.kind if gear.kind >= 0 else None
    has_kind = gear.kind if gear.kind in seen.kinds else next(iter(seen.kinds), -1)
    stored = dict(enumerate(seen.scenes))
    wanted = dict(gear.scenes) or None
    same = {s: stored.get(s, dali.MASK) for s in wanted or {}}
    kinds = " and ".join(map(say_kind, seen.kinds)) or "–"
    rows = [
        line("kind", kind, has_kind, say_kind(gear.kind), kinds, bool(seen.kinds)),
        line(
            "groups", gear.groups, seen.groups, say_groups(gear.groups), say_groups(seen.groups), not seen.doubled
        ),
        line("scenes", wanted, same, say_scenes(wanted or {}), say_scenes(stored), bool(seen.scenes)),
    ]  # fmt: skip
    for key, say in (
        ("least", say_level), ("greatest", say_level), ("power_on", _say_last_level), ("failure", _say_last_level),
        ("fade_time", say_time),
        ("fade_rate", say_rate),
    ):  # fmt: skip
        plan, has = getattr(gear, key), getattr(seen, key)
        rows.append(line(key, plan, has, say(plan), say(has), seen.deep and has >= 0))
    return tuple(rows)


def _say_last_level(level: int | None) -> str:
    return say_level(level, "last level")


def faults_of_gear(seen: GearSeen) -> list[str]:
    """What a gear says is wrong with it, in words."""
    if seen.status < 0:
        return []
    bad = {0: "the gear itself fails", 1: "its lamp does not light", 3: "a limit was exceeded"}
    return [words for bit, words in bad.items() if seen.status >> bit & 1]


def status_words(seen: GearSeen) -> str:
    """Everything a gear's status says, in words."""
    if seen.status < 0:
        return "–"
    return ", ".join(w for bit, w in enumerate(dali.STATUS_BITS) if seen.status >> bit & 1) or "nothing to report"


def can_follow(seen: GearSeen) -> bool:
    """Whether gear is of the colour type."""
    return dali.COLOUR in seen.kinds


def gear_wishes(bus: Bus, seen: BusSeen, shorts: Iterable[int] | None = None) -> dict[int, tuple[str, ...]]:
    """Which settings of which gear have to be written so that they are as planned, by short address."""
    wanted = None if shorts is None else set(shorts)
    found = {}
    for gear in bus.gear:
        has = seen.gear_at(gear.at)
        if has is None or has.doubled or (wanted is not None and gear.at not in wanted):
            continue
        keys = tuple(x.key for x in gear_lines(gear, has) if x.key in WRITABLE and x.mark == "differs")
        if keys:
            found[gear.at] = keys
    return found
