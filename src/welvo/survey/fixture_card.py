"""The setting card of fixtures: what to set on each lamp by hand, to tick off by whoever stands at it.

A tick is a claim of its value. When the plan says another one, the tick wakes: the lamp has to be set again.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec import Struct
from msgspec.structs import replace

from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.entered import Entered, SettingValue
from welvo.rig.notation import say_count
from welvo.rig.switches import say_switches


class LampStep(Struct, frozen=True):
    """One thing to set on one lamp. `state` is `open`, `ticked`, or `woken` (ticked for another value)."""

    fixture: str
    key: str
    number: int
    name: str
    what: str
    value: SettingValue
    how: str
    on: str
    """Which line the address counts on: its universe, or the bridge or converter it hangs behind."""
    state: str = "open"
    by: str = ""
    at: float = 0.0
    was: SettingValue = ""
    """The value that was ticked, when it is another one by now."""


def lamp_card(index: Index, fixtures: Iterable[str]) -> list[LampStep]:
    """Mode and addresses of fixtures, in order of their numbers. What has no address has none to set."""
    rig = index.rig
    found: list[LampStep] = []
    for key in sorted(fixtures, key=lambda k: rig.fixtures[k].number):
        f = rig.fixtures[key]
        for what, name, value, how, on in _to_set(index, key):
            tick = f.entered.get(what)
            state = "open" if tick is None else "ticked" if tick.value == value else "woken"
            more = (tick.who, tick.at, tick.value if state == "woken" else "") if tick else ("", 0.0, "")
            found.append(LampStep(key, what, f.number, f.name, name, value, how, on, state, *more))
    return found


def steps_to_repeat(index: Index, fixture: str) -> list[LampStep]:
    """What was set on a lamp and has another value in the plan by now. Most lamps were never ticked."""
    if not index.rig.fixtures[fixture].entered:
        return []
    return [step for step in lamp_card(index, (fixture,)) if step.state == "woken"]


def _to_set(index: Index, key: str) -> Iterator[tuple[str, str, SettingValue, str, str]]:
    rig = index.rig
    f = rig.fixtures[key]
    profile = rig.profiles.get(f.profile)
    if profile is None:
        return
    mode = profile.modes.get(f.mode)
    if mode is not None and len(profile.modes) > 1:
        yield "mode", "Mode", mode.name, f"{say_count(mode.slots_needed, 'slot')} in its menu", ""
    breaks = len(mode.breaks) if mode else 1
    for n in range(breaks):
        where = set_on(index, key, n)
        if where.address:
            what = "Address" if breaks == 1 else f"Address of part {n + 1}"
            how = say_switches(profile.address, where.address)
            span = index.span_of_break(key, n)
            on = where.behind or (f"universe {rig.universes[span.universe].number}" if span else "")
            yield f"address {n + 1}" if n else "address", what, where.address, how, on


def tick_lamps(rig: Rig, steps: Iterable[LampStep], who: str, at: float) -> Edit:
    """Tick steps off as set by somebody. Raises Refused when there are none."""
    made: dict[str, dict[str, Entered]] = {}
    for step in steps:
        made.setdefault(step.fixture, {})[step.key] = Entered(value=step.value, who=who, at=at)
    if not made:
        raise Refused("There is nothing to tick off.")
    fixtures = {k: replace(rig.fixtures[k], entered={**rig.fixtures[k].entered, **of}) for k, of in made.items()}
    return put_entries(rig, f"tick {say_count(sum(map(len, made.values())), 'setting')} of lamps", fixtures=fixtures)


def untick_lamps(rig: Rig, steps: Iterable[LampStep]) -> Edit:
    """Take ticks back: these steps are not set after all."""
    gone: dict[str, set[str]] = {}
    for step in steps:
        gone.setdefault(step.fixture, set()).add(step.key)
    fixtures = {
        k: replace(rig.fixtures[k], entered={w: e for w, e in rig.fixtures[k].entered.items() if w not in keys})
        for k, keys in gone.items()
    }
    return put_entries(rig, f"take {say_count(sum(map(len, gone.values())), 'tick')} of lamps back", fixtures=fixtures)
