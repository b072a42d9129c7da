"""The tint of a fixture or element: which one it has, and its colours, for screens and paper alike."""

from __future__ import annotations

import math
from functools import lru_cache

from welvo.rig.document import Rig
from welvo.rig.refs import BUS, SegmentRef

NO_TINT = -1
"""What takes slots and is no fixture or element: drawn in greys."""


def tint_of(rig: Rig, key: str | SegmentRef) -> int:
    """The number of a tint; a segment that takes slots has none of its own."""
    if isinstance(key, SegmentRef):
        return NO_TINT
    fixture = rig.fixtures.get(key)
    if fixture:
        profile = rig.profiles.get(fixture.profile)
        return profile.tint if profile else 0
    element = rig.elements.get(key)
    return element.tint if element else 0


def code_of(rig: Rig, key: str | SegmentRef) -> str:
    if isinstance(key, SegmentRef):
        return ""
    fixture = rig.fixtures.get(key)
    if fixture:
        profile = rig.profiles.get(fixture.profile)
        return profile.code if profile else ""
    element = rig.elements.get(key)
    return element.code if element else ""


def kind_name(rig: Rig, key: str | SegmentRef) -> str:
    if isinstance(key, SegmentRef):
        return "lamp bus" if key.place == BUS else "slots for no lamp"
    fixture = rig.fixtures.get(key)
    if fixture:
        profile = rig.profiles.get(fixture.profile)
        return profile.name if profile else "?"
    element = rig.elements.get(key)
    return f"{element.pixels} px {element.order}" if element and element.kind != "block" else "slots"


# ---- colours: OKLCH, lowered in chroma until inside sRGB


def _linear_light(lightness: float, chroma: float, hue: float) -> tuple[float, float, float]:
    a, b = chroma * math.cos(math.radians(hue)), chroma * math.sin(math.radians(hue))
    l3 = (lightness + 0.3963377774 * a + 0.2158037573 * b) ** 3
    m3 = (lightness - 0.1055613458 * a - 0.0638541728 * b) ** 3
    s3 = (lightness - 0.0894841775 * a - 1.2914855480 * b) ** 3
    return (
        4.0767416621 * l3 - 3.3077115913 * m3 + 0.2309699292 * s3,
        -1.2684380046 * l3 + 2.6097574011 * m3 - 0.3413193965 * s3,
        -0.0041960863 * l3 - 0.7034186147 * m3 + 1.7076147010 * s3,
    )


def oklch_hex(lightness: float, chroma: float, hue: float) -> str:
    """An OKLCH colour as sRGB hex; chroma is lowered by .002 until the colour exists."""
    rgb = _linear_light(lightness, chroma, hue)
    while chroma > 0 and not all(-1e-4 <= v <= 1.0001 for v in rgb):
        chroma -= 0.002
        rgb = _linear_light(lightness, max(0.0, chroma), hue)
    out = []
    for v in rgb:
        v = min(1.0, max(0.0, v))
        out.append(round(255 * (12.92 * v if v <= 0.0031308 else 1.055 * v ** (1 / 2.4) - 0.055)))
    return "#{:02x}{:02x}{:02x}".format(*out)


@lru_cache(1024)
def tint_hex(k: int, theme: str) -> tuple[str, str]:
    """Spine and body of tint k as hex."""
    hue = (55 + (15 + 102 * k) % 290) % 360
    in_dark = (0.60, 0.76, 0.84, 0.68)[k % 4]
    light = in_dark if theme == "dark" else 1.22 - in_dark
    spine = oklch_hex(light, 0.09, hue)
    if theme == "dark":
        return spine, oklch_hex(0.32 + 0.6 * (light - 0.60), 0.06, hue)
    return spine, oklch_hex(0.93 - 0.5 * (0.62 - light), 0.045, hue)


def weave_of_tint(k: int) -> int:
    """0 solid, 1 two lines, 2 dashes: tells tints of like hue apart."""
    return (k // 8) % 3
