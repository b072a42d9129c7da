"""A colour held on many kinds of lamps at once: which of their emitters make it, and how far.

Colours are linear RGB from 0 to 1. A colour temperature is the colour of a black body on the Planckian locus, by the
approximation of its chromaticity that is good from 1,667 to 25,000 K.
"""

from __future__ import annotations

import re

from welvo.bench.levels import function_key
from welvo.patch.index import BY_PIXEL, Index
from welvo.patch.slot_words import letters_of
from welvo.rig.base import Refused
from welvo.rig.colours import FUNCTIONS, linear_light
from welvo.rig.lamp import drive_colour, emitter_share
from welvo.rig.lookup import mode_of

Rgb = tuple[float, float, float]
COLDEST, WARMEST = 25_000, 1_667


def of_temperature(kelvin: float) -> Rgb:
    """The colour of a black body, its brightest component 1. Raises Refused outside 1,667 to 25,000 K."""
    if not WARMEST <= kelvin <= COLDEST:
        raise Refused(f"A colour temperature is {WARMEST} to {COLDEST} K.")
    t = 1e3 / kelvin
    x = (
        -0.2661239 * t**3 - 0.2343589 * t**2 + 0.8776956 * t + 0.179910
        if kelvin <= 4000
        else -3.0258469 * t**3 + 2.1070379 * t**2 + 0.2226347 * t + 0.240390
    )
    if kelvin <= 2222:
        y = -1.1063814 * x**3 - 1.34811020 * x**2 + 2.18555832 * x - 0.20219683
    elif kelvin <= 4000:
        y = -0.9549476 * x**3 - 1.37418593 * x**2 + 2.09137015 * x - 0.16748867
    else:
        y = 3.0817580 * x**3 - 5.87338670 * x**2 + 3.75112997 * x - 0.37001483
    big_x, big_z = x / y, (1 - x - y) / y
    rgb = (
        3.2404542 * big_x - 1.5371385 - 0.4985314 * big_z,
        -0.9692660 * big_x + 1.8760108 + 0.0415560 * big_z,
        0.0556434 * big_x - 0.2040259 + 1.0572252 * big_z,
    )
    most = max(rgb)
    r, g, b = (max(0.0, c / most) for c in rgb)
    return r, g, b


def read_colour(text: str) -> tuple[Rgb, float]:
    """`#ff8800`, `255 136 0` or `3200 K`: linear colour with its brightest component 1, and its brightness."""
    t = text.strip().lower()
    if m := re.fullmatch(r"(\d{3,5})\s*k", t):
        return of_temperature(float(m[1])), 1.0
    if m := re.fullmatch(r"#?([0-9a-f]{2})([0-9a-f]{2})([0-9a-f]{2})", t):
        parts = [int(x, 16) for x in m.groups()]
    elif m := re.fullmatch(r"(\d{1,3})[\s,]+(\d{1,3})[\s,]+(\d{1,3})", t):
        parts = [int(x) for x in m.groups()]
        if max(parts) > 255:
            raise Refused("The parts of a colour run from 0 to 255.")
    else:
        raise Refused(f"“{text.strip()}” is no colour. Write #ff8800, 255 136 0, or a temperature such as 3200 K.")
    r, g, b = (linear_light(p / 255) for p in parts)
    most = max(r, g, b)
    return ((r / most, g / most, b / most), most) if most else ((0.0, 0.0, 0.0), 0.0)


def colour_of(index: Index, key: str, rgb: Rgb, brightness: float = 1.0) -> tuple[dict[str, float], tuple[str, ...]]:
    """What to hold on an item for a colour, by function as shares of full, and what to know about it."""
    rig = index.rig
    span = index.span_of_break(key)
    element, fixture = rig.elements.get(key), rig.fixtures.get(key)
    if element or (span and span.break_no == BY_PIXEL):
        order = letters_of(index, span) if span else element.order if element else ""
        functions = {FUNCTIONS[x] for x in order}
        white = min(rgb)
        return {f: emitter_share(f, rgb, white, functions) * brightness for f in functions}, ()
    mode = mode_of(rig, fixture) if fixture else None
    if mode is None:
        return {}, ()
    answer = drive_colour(mode, rgb, brightness)
    found = {}
    for n, value in answer.levels.items():
        c = mode.channels[n]
        found[function_key(c)] = value / c.highest_value
    return found, answer.warnings
