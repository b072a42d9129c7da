"""Terms that reading and writing GDTF (DIN SPEC 15800) share: values, matrices, colours, units, features."""

from __future__ import annotations

import re

from msgspec import Struct

from welvo.rig.attributes import OWN


class Doubt(Struct, frozen=True):
    """Something that was not taken over as it stands: where in the file, and why."""

    where: str
    message: str


UNITS = {
    "Angle": "°",
    "Frequency": "Hz",
    "Percent": "%",
    "Temperature": "K",
    "AngularSpeed": "°/s",
    "Time": "s",
    "Length": "m",
}
"""Physical units of the standard that Welvo shows; others are kept in the file and shown as none."""

FEATURES = {
    "intensity": ("Dimmer", "Dimmer"),
    "shutter": ("Beam", "Beam"),
    "colour": ("Color", "RGB"),
    "position": ("Position", "PanTilt"),
    "beam": ("Beam", "Beam"),
    "control": ("Control", "Control"),
}
"""Feature group and feature by Welvo's family of functions."""

OWN_PREFIX = "Own "


def attribute_name(function: str) -> str:
    """The attribute that stands for a function in a file: its own name, or `Own WORDS` for a user's."""
    if function.startswith(OWN):
        return OWN_PREFIX + safe_gdtf_name(function[len(OWN) :])
    return function or "NoFeature"


def function_of(attribute: str) -> str:
    return OWN + attribute[len(OWN_PREFIX) :] if attribute.startswith(OWN_PREFIX) else attribute


def safe_gdtf_name(text: str) -> str:
    """A text as a GDTF name: without the characters that divide names (`.`, `_` at joints and the like)."""
    clean = re.sub(r"[^\w \-+#°%&'()/:<>=@\"*!?;,\[\]]", " ", text).replace(".", " ").strip()
    return re.sub(r"\s+", " ", clean)[:80] or "unnamed"


def read_dmx_value(text: str | None, width: int) -> int | None:
    """`128/1` in a channel of `width` bytes; None for an empty or `None` value. Raises ValueError for anything else.

    A value with fewer bytes is mirrored (255/1 is 65535 in 16 bit); with an `s` behind, shifted (255/1s is 65280).
    """
    if text is None or text.strip() in ("", "None"):
        return None
    m = re.fullmatch(r"\s*(\d+)\s*(?:/\s*(\d)\s*(s?))?\s*", text)
    if not m:
        raise ValueError(f"“{text}” is no DMX value such as 128/1")
    value, count = int(m[1]), int(m[2] or 1)
    if not 1 <= count <= 8 or value >= 256**count:
        raise ValueError(f"“{text}” does not fit {count} bytes")
    if count >= width:
        return int(value >> 8 * (count - width))
    if m[3]:
        return int(value << 8 * (width - count))
    raw = value.to_bytes(count, "big")
    return int.from_bytes((raw * width)[:width], "big")


def say_value(value: int, width: int) -> str:
    return f"{value}/{width}"


FARTHEST = 1e4
"""Metres between a part of a fixture and its middle, at most."""


def read_matrix(text: str | None) -> tuple[float, float, float]:
    """The translation of a position matrix in metres; zero when there is none. Raises ValueError for rubbish."""
    if not text or not text.strip():
        return 0.0, 0.0, 0.0
    numbers = [float(x) for x in re.findall(r"[-+]?\d*\.?\d+(?:[eE][-+]?\d+)?", text)]
    if not all(abs(n) <= FARTHEST for n in numbers):  # written this way round, “nan” is refused too
        raise ValueError(f"“{text[:40]}” lies farther away than any lamp")
    if len(numbers) == 16:
        column, row = (numbers[3], numbers[7], numbers[11]), (numbers[12], numbers[13], numbers[14])
        return column if any(column) else row
    if len(numbers) == 12:
        return numbers[9], numbers[10], numbers[11]
    raise ValueError(f"“{text[:40]}” is no 4 × 4 matrix")


def say_matrix(x: float, y: float, z: float) -> str:
    def rows(*line: float) -> str:
        return "{" + ",".join(f"{v:.6f}" for v in line) + "}"

    return rows(1, 0, 0, x) + rows(0, 1, 0, y) + rows(0, 0, 1, z) + rows(0, 0, 0, 1)


def cie_to_hex(text: str | None) -> str:
    """A CIE colour `x,y,Y` as `#rrggbb`; empty when there is none."""
    try:
        x, y, luminance = (float(v) for v in (text or "").split(","))
        if y <= 0:
            return ""
    except ValueError:
        return ""
    lum = min(1.0, max(0.05, luminance / 100))
    big_x, big_z = x * lum / y, (1 - x - y) * lum / y
    linear = (
        3.2406 * big_x - 1.5372 * lum - 0.4986 * big_z,
        -0.9689 * big_x + 1.8758 * lum + 0.0415 * big_z,
        0.0557 * big_x - 0.2040 * lum + 1.0570 * big_z,
    )
    top = max(*linear, 1e-6)
    parts = [min(1.0, max(0.0, v / top)) for v in linear]
    return "#" + "".join(
        f"{round(255 * (12.92 * v if v <= 0.0031308 else 1.055 * v ** (1 / 2.4) - 0.055)):02x}" for v in parts
    )


def hex_to_cie(colour: str) -> str:
    """`#rrggbb` as a CIE colour `x,y,Y`."""
    r, g, b = (
        (v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4)
        for v in (int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5))
    )
    x, y, z = (
        0.4124 * r + 0.3576 * g + 0.1805 * b,
        0.2126 * r + 0.7152 * g + 0.0722 * b,
        0.0193 * r + 0.1192 * g + 0.9505 * b,
    )
    total = x + y + z or 1.0
    return f"{x / total:.6f},{y / total:.6f},{100 * y:.6f}"
