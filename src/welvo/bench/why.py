"""Why an item is dark: the first hop on its way that keeps light from it, in one sentence."""

from __future__ import annotations

from dataclasses import dataclass

from welvo.bench.levels import Levels, function_key
from welvo.patch.index import Index
from welvo.patch.path import NOT_LEAVING, Path
from welvo.rig.attributes import family_of, word_for
from welvo.rig.colours import FUNCTIONS
from welvo.rig.lookup import call, mode_of


@dataclass(frozen=True)
class Cause:
    """`hop` is the number of the hop on the path that is at fault; -1 when none of them is known to be."""

    sentence: str
    hop: int = -1
    certain: bool = True


def held_dark(index: Index, levels: Levels, key: str) -> str:
    """What the held levels themselves keep dark: a dimmer at zero, a closed shutter, no colour. Empty when nothing."""
    fixture = index.rig.fixtures.get(key)
    if fixture is None:
        element = index.rig.elements.get(key)
        if element is None or element.kind == "block":
            return ""
        on = any(levels.held.get((key, FUNCTIONS[x]), 0.0) > 0 for x in element.order)
        return "" if on else "All its components are at 0."
    mode = mode_of(index.rig, fixture)
    if mode is None:
        return ""
    colours, lit = 0, 0
    for c in mode.channels:
        held = levels.held.get((key, function_key(c)))
        value = c.default if held is None else round(held * c.top)
        family = family_of(c.function)
        if c.function == "Dimmer" and not c.pixel and value == 0:
            return "Its dimmer is at 0."
        if c.function == "Shutter1":
            inside = next((r for r in c.ranges if r.first <= value <= r.last), None)
            if inside and inside.does == "closed":
                return f"Its shutter stands at {value}, “{inside.name}”."
            if not c.ranges and value == 0:
                return "Its shutter is at 0, and the profile does not say what that means."
        if family == "colour" and c.function.startswith("ColorAdd"):
            colours, lit = colours + 1, lit + (value > 0)
    if colours and not lit:
        names = dict.fromkeys(word_for(c.function) for c in mode.channels if c.function.startswith("ColorAdd"))
        return f"All its colours are at 0: {', '.join(list(names)[:5])}."
    return ""


def why_dark(index: Index, levels: Levels, key: str, chain: Path, armed: bool) -> Cause:
    """The first cause along the path, from the level to the lamp."""
    who = call(index.rig, key)
    if levels.blackout:
        return Cause("Blackout is on: intensity, colour and shutter go out as 0.", 0)
    dark = held_dark(index, levels, key)
    if dark:
        return Cause(dark, 0)
    roles = [h.role for h in chain.hops]
    if roles[-1] == "universe":
        return Cause(f"{who} has no address, so no level ever reaches it.", len(roles) - 1)
    use = index.rig.uses.get(index.rig.use)
    if use and any(j.word == "not in use" for j in chain.joints):
        return Cause(f"Its universe is switched off in the use “{use.name}”: nothing of it is sent.", 1)
    if not armed:
        return Cause("Output is not armed: nothing leaves this computer.", 0)
    for n, joint in enumerate(chain.joints):
        nxt = chain.hops[n + 1]
        if joint.mark == "differs":
            return Cause(_difference(chain, n, who), n + 1)
        if joint.word in ("no feed", "nobody takes it", "silent", "not heard"):
            return Cause(f"{nxt.role.capitalize()}: {nxt.fact or joint.word}.", n + 1)
    return Cause(
        "Nothing up to the port is at fault. Look at the lamp: power, its own address and mode, the cable behind "
        "the port.",
        len(roles) - 1,
        certain=False,
    )


def _difference(chain: Path, n: int, who: str) -> str:
    """The joint behind hop n in words."""
    joint, before, after = chain.joints[n], chain.hops[n], chain.hops[n + 1]
    if after.role == "port" and joint.takes.startswith("takes"):
        feed = next((h.value for h in chain.hops if h.role == "feed"), joint.sends)
        return f"Port {after.value} {joint.takes}. Your levels for {who} go out as {feed}."
    if joint.takes == NOT_LEAVING:
        return f"{after.value} does not leave this computer: {joint.word}."
    if after.role == "device":
        return f"The feed goes {joint.sends}; {after.value} is at {joint.takes}."
    sides = f": {joint.sends}, {joint.takes}" if joint.sends else ""
    return f"{before.role.capitalize()} {before.value} and {after.role} {after.value} differ{sides}."
