"""What a lamp does with levels: what keeps it dark, what it would look like, and which levels give a colour."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct, field

from welvo.rig.attributes import ATTRIBUTES, BY_KEY, default_of, family_of, word_for
from welvo.rig.colours import linear_rgb
from welvo.rig.modes import adds_light, channels_in_order
from welvo.rig.profile import Channel, Mode, Range

Levels = Mapping[int, int]
"""Values by the channel's place in `mode.channels`, each in its own width; what is missing stands at its default."""

EMITTERS: dict[str, tuple[float, float, float]] = {a.key: linear_rgb(a.light) for a in ATTRIBUTES if a.is_emitter} | {
    "ColorAdd_R": (1.0, 0.0, 0.0),
    "ColorAdd_G": (0.0, 1.0, 0.0),
    "ColorAdd_B": (0.0, 0.0, 1.0),
    "ColorAdd_W": (1.0, 1.0, 0.95),
    "ColorAdd_WW": (1.0, 0.72, 0.36),
    "ColorAdd_CW": (0.82, 0.92, 1.0),
    "ColorAdd_RY": (1.0, 0.55, 0.0),
    "ColorAdd_GY": (0.6, 1.0, 0.05),
    "ColorAdd_UV": (0.32, 0.0, 0.9),
    "ColorAdd_C": (0.0, 0.9, 0.9),
    "ColorAdd_M": (0.9, 0.0, 0.7),
    "ColorAdd_Y": (1.0, 0.85, 0.0),
}
"""Light of each emitter at full, linear RGB: good enough to see which one is meant. An emitter without a truer one here
has the light of its attribute."""
ADDS = 0.5
"""From this share of full on a component of an emitter's light counts as what the emitter adds."""


class _Gates:
    """Who keeps whom dark in a mode, with the channels of every pixel at hand: thousands of pixels are asked about."""

    def __init__(self, mode: Mode) -> None:
        self._of_pixel: dict[int, list[tuple[int, Channel]]] = {}
        self._dimming: dict[int, list[tuple[int, Channel]]] = {}
        for n, c in enumerate(mode.channels):
            self._of_pixel.setdefault(c.pixel, []).append((n, c))
            if c.function in ("Dimmer", "Shutter1"):
                self._dimming.setdefault(c.pixel, []).append((n, c))

    def gates_of_channel(self, c: Channel) -> list[Channel]:
        if c.needs is None and not adds_light(c):
            return []
        among = self._dimming if c.needs is None else self._of_pixel
        near = sorted((*among.get(0, ()), *(among.get(c.pixel, ()) if c.pixel else ())), key=lambda x: x[0])
        if c.needs is not None:
            return [x for _, x in near if x is not c and x.short in c.needs]
        own = c.function == "Dimmer"
        return [x for _, x in near if x is not c and not (own and x.function == "Dimmer" and x.pixel == c.pixel)]


def gating_channels(mode: Mode, c: Channel) -> list[Channel]:
    """The channels that must not be at zero (or closed) for this one to give light.

    Said by the profile (`needs`), else derived: dimmers and shutters of the whole lamp, and those of its own pixel.
    """
    return _Gates(mode).gates_of_channel(c)


def range_at(c: Channel, value: int) -> Range | None:
    return next((r for r in c.ranges if r.first <= value <= r.last), None)


def light_passed(c: Channel, value: int) -> float:
    """How much light a dimmer or shutter lets through at a value, 0 to 1."""
    if family_of(c.function) == "shutter":
        r = range_at(c, value)
        if r is not None and r.does:
            return 0.0 if r.does == "closed" else 1.0
        return 1.0 if value else 0.0
    share = value / c.highest_value
    return 1.0 - share if c.invert else share


class LampLook(Struct, frozen=True):
    """What the lamp shows: colour of each pixel (index 0: pixel 1, or the lamp as one) as linear RGB 0..1.

    `pan` and `tilt` in degrees from the middle, or None. `strobe` in Hz, or None; `words` what ranges mean at present;
    `dark` says what keeps it dark, and is empty when it gives light.
    """

    pixels: tuple[tuple[float, float, float], ...]
    pan: float | None = None
    tilt: float | None = None
    strobe: float | None = None
    words: tuple[tuple[str, str], ...] = ()
    dark: str = ""


def value_of(mode: Mode, n: int, levels: Levels) -> int:
    return levels.get(n, mode.channels[n].default)


def physical_value(c: Channel, value: int) -> float | None:
    """What a value means in the channel's unit: by the range it lies in, else by the whole channel; None when
    unknown."""
    r = range_at(c, value)
    if r is not None and r.low is not None and r.high is not None:
        return r.low + (r.high - r.low) * (value - r.first) / max(1, r.last - r.first)
    if c.low is None or c.high is None:
        return None
    share = value / c.highest_value
    return c.low + (c.high - c.low) * (1 - share if c.invert else share)


def look_at_levels(mode: Mode, levels: Levels) -> LampLook:
    """What a lamp in this mode would show at these levels."""
    values = {id(c): value_of(mode, n, levels) for n, c in enumerate(mode.channels)}
    count = max(1, mode.count_pixels)
    added = [[0.0, 0.0, 0.0] for _ in range(count)]
    emitters = [c for c in mode.channels if adds_light(c)]
    blockers: dict[str, None] = {}
    lit = False
    dims = [c for c in mode.channels if c.function in ("Dimmer", "Shutter1")]
    keeping = _Gates(mode)
    for c in emitters:
        share = light_passed(c, values[id(c)]) if c.function == "Dimmer" else values[id(c)] / c.highest_value
        for gate in keeping.gates_of_channel(c):
            through = light_passed(gate, values[id(gate)])
            if not through and share:
                blockers[_say_closed(gate, values[id(gate)])] = None
            share *= through
        r, g, b = EMITTERS.get(c.function, (1.0, 1.0, 1.0))
        lit = lit or share > 0
        for p in range(count) if not c.pixel else (c.pixel - 1,):
            added[p][0] += r * share
            added[p][1] += g * share
            added[p][2] += b * share
    if not emitters:
        share = 1.0
        for c in dims:
            through = light_passed(c, values[id(c)])
            if not through:
                blockers[_say_closed(c, values[id(c)])] = None
            share *= through
        lit = share > 0 and bool(dims or _white_source(mode))
        tint = _filtered_white(mode, values)
        added = [[share * x for x in tint] if lit else [0.0, 0.0, 0.0] for _ in range(count)]
    dark = ""
    if not lit:
        at_zero = [word_for(c.function) for c in emitters if not values[id(c)]]
        dark = next(iter(blockers), "") or (
            f"no colour is raised ({', '.join(dict.fromkeys(at_zero))})"
            if at_zero
            else "nothing in this mode gives light"
        )
    return LampLook(
        tuple((min(1.0, a), min(1.0, b), min(1.0, c)) for a, b, c in added),
        _angle_of_function(mode, values, "Pan"),
        _angle_of_function(mode, values, "Tilt"),
        _strobe_rate(mode, values),
        _words_of_values(mode, values),
        dark,
    )


def _say_closed(c: Channel, value: int) -> str:
    r = range_at(c, value)
    return f"{word_for(c.function)} at {value}" + (f", “{r.name}”" if r and r.name else "")


def _white_source(mode: Mode) -> bool:
    return any(family_of(c.function) in ("colour", "beam") for c in mode.channels)


def _filtered_white(mode: Mode, values: dict[int, int]) -> tuple[float, float, float]:
    """White light behind subtractive mixing and a colour wheel."""
    rgb = [1.0, 0.97, 0.92]
    for c in mode.channels:
        for n, key in enumerate(("ColorSub_C", "ColorSub_M", "ColorSub_Y")):
            if c.function == key:
                rgb[n] *= 1 - values[id(c)] / c.highest_value
        r = range_at(c, values[id(c)])
        if r is not None and r.light:
            rgb = [a * (int(r.light[i : i + 2], 16) / 255) ** 2.2 for a, i in zip(rgb, (1, 3, 5))]
    return rgb[0], rgb[1], rgb[2]


def _angle_of_function(mode: Mode, values: dict[int, int], function: str) -> float | None:
    c = next((c for c in mode.channels if c.function == function), None)
    if c is None:
        return None
    low, high = (
        (c.low, c.high)
        if c.low is not None and c.high is not None
        else (-270.0, 270.0)
        if function == "Pan"
        else (-135.0, 135.0)
    )
    share = values[id(c)] / c.highest_value
    middle = (low + high) / 2
    return low + (high - low) * (1 - share if c.invert else share) - middle


def _strobe_rate(mode: Mode, values: dict[int, int]) -> float | None:
    for c in mode.channels:
        value = values[id(c)]
        r = range_at(c, value)
        if family_of(c.function) == "shutter" and (
            r.does == "strobe" if r else c.function == "Shutter1Strobe" and value > 0
        ):
            known = physical_value(c, value)
            if known is not None:
                return known
            span = (value - r.first) / max(1, r.last - r.first) if r else value / c.highest_value
            return 1.0 + 19.0 * span
    return None


def _words_of_values(mode: Mode, values: dict[int, int]) -> tuple[tuple[str, str], ...]:
    found = []
    for n in channels_in_order(mode):
        c = mode.channels[n]
        r = range_at(c, values[id(c)])
        known = physical_value(c, values[id(c)])
        said = (r.name if r else "") + (f" {known:.4g} {c.unit}".rstrip() if known is not None and c.unit else "")
        if said.strip() and not c.pixel:
            found.append((word_for(c.function, c.name or "?"), said.strip()))
    return tuple(found)


# ---- the other way round: which levels give a colour


class ColourAnswer(Struct, frozen=True):
    """Levels that give a wanted colour and brightness, and what would keep it dark all the same."""

    levels: dict[int, int] = field(default_factory=dict)
    warnings: tuple[str, ...] = ()


def drive_colour(
    mode: Mode, rgb: tuple[float, float, float], brightness: float, held: Levels | None = None
) -> ColourAnswer:
    """Which values to send for a linear RGB colour (0..1) at a brightness (0..1).

    Dimmers take the brightness where there are any, else the colours do. Shutters are opened where the profile says
    how.
    `held` are values that stay as they are; the answer warns when one of them keeps the lamp dark.
    """
    levels: dict[int, int] = {}
    warnings: list[str] = []
    channels = mode.channels
    coloured = {c.pixel for c in channels if c.function in EMITTERS}
    masters = {
        n
        for n, c in enumerate(channels)
        if c.function == "Dimmer" and not (c.pixel and coloured.isdisjoint((0, c.pixel)))
    }
    scale = 1.0 if masters else brightness
    white = min(rgb)
    functions = {c.function for c in channels}
    for n, c in enumerate(channels):
        if c.function == "Dimmer":
            share = brightness if n in masters else brightness * max(rgb)
            levels[n] = round((1 - share if c.invert else share) * c.highest_value)
        elif c.function == "Shutter1":
            opened = next((r for r in c.ranges if r.does == "open"), None)
            levels[n] = (opened.first + opened.last) // 2 if opened else c.highest_value
            if not opened:
                warnings.append(f"The profile does not say where the {word_for(c.function)} is open; full is a guess.")
        elif c.function in EMITTERS:
            levels[n] = round(emitter_share(c.function, rgb, white, functions) * scale * c.highest_value)
        elif c.function in ("ColorSub_C", "ColorSub_M", "ColorSub_Y"):
            part = rgb[("ColorSub_C", "ColorSub_M", "ColorSub_Y").index(c.function)]
            levels[n] = round((1 - part) * c.highest_value)
    if (
        not any(c.function in EMITTERS or c.function.startswith("ColorSub_") for c in channels)
        and max(rgb) - min(rgb) > 0.02
    ):
        warnings.append("This mode cannot mix colours; only the brightness is set.")
    for n, value in (held or {}).items():
        if n in levels and value != levels[n]:
            levels[n] = value
    shown = look_at_levels(mode, levels)
    if shown.dark and brightness > 0 and max(rgb) > 0:
        warnings.append(f"It would stay dark: {shown.dark}.")
    return ColourAnswer(levels, tuple(warnings))


def highlight_values(mode: Mode) -> dict[int, int]:
    """The values of a mode at highlight, by channel: as the profile says, else what makes the lamp easy to find.

    That is dimmers and shutter open, strobe off, colours white, movement in the middle; the rest at its default.
    """
    levels = drive_colour(mode, (1.0, 1.0, 1.0), 1.0).levels
    for n, c in enumerate(mode.channels):
        if c.function.startswith("Shutter1Strobe"):
            still = next((r for r in c.ranges if r.does == "open"), None)
            levels[n] = (still.first + still.last) // 2 if still else 0
        elif c.function in ("Pan", "Tilt"):
            levels[n] = default_of(c.function, len(c.slots))
        if c.highlight is not None:
            levels[n] = c.highlight
        levels.setdefault(n, c.default)
    return levels


def emitter_share(function: str, rgb: tuple[float, float, float], white: float, functions: set[str]) -> float:
    """One emitter's part of a colour: primaries as they are, white what all three have, the rest where they help."""
    r, g, b = rgb
    primaries = {"ColorAdd_R": r, "ColorAdd_G": g, "ColorAdd_B": b}
    if function in primaries:
        return primaries[function]
    if function in ("ColorAdd_W", "ColorAdd_CW", "ColorAdd_WW"):
        return white if {"ColorAdd_R", "ColorAdd_G", "ColorAdd_B"} <= functions else max(rgb)
    if function == "ColorAdd_RY":
        return max(0.0, min(r, 2 * g) - b) if r > g > b else 0.0
    if function == "ColorAdd_GY":
        return max(0.0, min(g, r) - b) if g >= r > b else 0.0
    light = EMITTERS.get(function, (0.0, 0.0, 0.0))
    adds = [n for n, part in enumerate(light) if part >= ADDS]
    # what adds one component alone is a weaker twin of that primary: beside it, it would only shift the colour
    if not adds or (len(adds) == 1 and ("ColorAdd_R", "ColorAdd_G", "ColorAdd_B")[adds[0]] in functions):
        return 0.0
    others = [rgb[n] for n in range(3) if n not in adds]
    return max(0.0, min(rgb[n] for n in adds) - max(others, default=0.0))


def slot_bytes(mode: Mode, levels: Levels) -> list[bytes]:
    """The raw slots of each break at these levels."""
    found = [bytearray(b.slots) for b in mode.breaks]
    for n, c in enumerate(mode.channels):
        value = value_of(mode, n, levels)
        for k, slot in enumerate(c.slots):
            if c.break_no < len(found) and slot <= len(found[c.break_no]):
                found[c.break_no][slot - 1] = value >> 8 * (len(c.slots) - 1 - k) & 255
    return [bytes(b) for b in found]


def dimmer_paths(mode: Mode) -> Sequence[Channel]:
    """Channels by which the lamp can be made darker at all."""
    return [
        c
        for c in mode.channels
        if adds_light(c)
        or c.function in ("Dimmer", "Iris")
        or (BY_KEY.get(c.function) is not None and c.function.startswith("ColorSub_"))
    ]
