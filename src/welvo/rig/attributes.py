"""Standard functions of channels: GDTF attribute names underneath, plain words in the interface.

Attribute names are those of the open GDTF standard (DIN SPEC 15800, annex A).
"""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

Family = Literal["intensity", "shutter", "colour", "position", "beam", "control"]
OWN = "own:"


class Attribute(Struct, frozen=True):
    """`key` is the GDTF name, `word` the plain one, `short` at most four letters, `also` what manuals write."""

    key: str
    word: str
    short: str
    family: Family
    also: tuple[str, ...] = ()
    light: str = ""
    """sRGB of the light it adds, as hex, for colour channels."""


def _a(key: str, word: str, short: str, family: Family, also: str = "", light: str = "") -> Attribute:
    return Attribute(key, word, short, family, tuple(w for w in also.split(", ") if w), light)


ATTRIBUTES: tuple[Attribute, ...] = (
    _a("Dimmer", "dimmer", "Dim", "intensity", "intensity, brightness, master dimmer, dim, dmr, int, level"),
    _a("Shutter1", "shutter", "Shut", "shutter", "shutter strobe, strobe shutter, shut, shtr"),
    _a("Shutter1Strobe", "strobe", "Stro", "shutter", "strobe rate, strobe speed, flash, flash rate, strb"),
    _a("Shutter1StrobePulse", "strobe pulse", "Puls", "shutter", "pulse strobe, pulse"),
    _a("StrobeDuration", "strobe duration", "SDur", "shutter", "flash duration, flash length"),
    _a("ColorAdd_R", "red", "R", "colour", "r", "#ff3b30"),
    _a("ColorAdd_G", "green", "G", "colour", "g, grn", "#30d158"),
    _a("ColorAdd_B", "blue", "B", "colour", "b, blu", "#3478f6"),
    _a("ColorAdd_W", "white", "W", "colour", "w, wht, pure white", "#fff8ec"),
    _a("ColorAdd_WW", "warm white", "WW", "colour", "ww", "#ffd6a0"),
    _a("ColorAdd_CW", "cool white", "CW", "colour", "cold white, cw", "#dcecff"),
    _a("ColorAdd_RY", "amber", "A", "colour", "a, amb", "#ffb000"),
    _a("ColorAdd_GY", "lime", "L", "colour", "yellow green", "#b8ff2e"),
    _a("ColorAdd_C", "cyan emitter", "Cy", "colour", "", "#22e0e8"),
    _a("ColorAdd_M", "magenta emitter", "Mg", "colour", "", "#ff35d0"),
    _a("ColorAdd_Y", "yellow emitter", "Ye", "colour", "", "#ffe630"),
    _a("ColorAdd_UV", "uv", "UV", "colour", "ultraviolet, ultra violet", "#7a3cff"),
    _a("ColorSub_C", "cyan", "C", "colour", "c, cyn"),
    _a("ColorSub_M", "magenta", "M", "colour", "m, mag"),
    _a("ColorSub_Y", "yellow", "Y", "colour", "y, yel"),
    _a("CTO", "warm correction", "CTO", "colour", "cto"),
    _a("CTB", "cold correction", "CTB", "colour", "ctb"),
    _a("CTC", "colour temperature", "CCT", "colour", "color temperature, cct, ctc"),
    _a("Tint", "tint", "Tint", "colour", "green magenta, plus minus green"),
    _a("HSB_Hue", "hue", "Hue", "colour"),
    _a("HSB_Saturation", "saturation", "Sat", "colour", "sat"),
    _a("Color1", "colour wheel", "Col", "colour", "color wheel, colour, color"),
    _a("ColorMacro1", "colour macro", "CMac", "colour", "color macro, colour macros, color macros"),
    _a("Pan", "pan", "Pan", "position", "x axis, pan movement"),
    _a("Tilt", "tilt", "Tilt", "position", "y axis, tilt movement"),
    _a("PanRotate", "pan rotation", "PRot", "position", "endless pan, continuous pan"),
    _a("TiltRotate", "tilt rotation", "TRot", "position", "endless tilt, continuous tilt"),
    _a("PositionMSpeed", "movement speed", "Spd", "position", "pan tilt speed, p/t speed, xy speed, motion speed"),
    _a("Zoom", "zoom", "Zoom", "beam", "beam angle"),
    _a("Focus1", "focus", "Foc", "beam", "fcs"),
    _a("Iris", "iris", "Iris", "beam"),
    _a("Frost1", "frost", "Fros", "beam", "diffusion, frst"),
    _a("Prism1", "prism", "Pris", "beam", "prsm"),
    _a("Prism1Pos", "prism rotation", "PrRt", "beam", "prism index"),
    _a("Gobo1", "gobo", "Gobo", "beam", "gobo wheel, static gobo, gob"),
    _a("Gobo1Pos", "gobo rotation", "GoRt", "beam", "gobo index, rotating gobo"),
    _a("Gobo1WheelShake", "gobo shake", "GoSh", "beam"),
    _a("AnimationWheel1", "animation wheel", "Anim", "beam", "animation"),
    _a(
        "Effects1",
        "effect",
        "Eff",
        "control",
        "effects, programme, programmes, program, programs, auto program, auto programs, auto programme, auto "
        "programmes",
    ),
    _a(
        "Effects1Rate",
        "effect speed",
        "ESpd",
        "control",
        "effects speed, program speed, programme speed, auto speed, macro speed",
    ),
    _a("Effects1Fade", "effect fade", "EFad", "control", "crossfade"),
    _a("DimmerMode", "dimmer mode", "DimM", "control", "dimming mode"),
    _a("DimmerCurve", "dimmer curve", "DimC", "control", "dimming curve, dimmer speed"),
    _a("Fan1", "fan", "Fan", "control", "fan speed, fans, fan mode"),
    _a("Fog1", "fog", "Fog", "control", "smoke, fog output"),
    _a("Haze1", "haze", "Haze", "control", "haze output"),
    _a("Function", "macro", "Mac", "control", "macros, function, functions, auto macro"),
    _a("Control1", "control", "Ctl", "control", "ctrl, special, special functions, settings, lamp control"),
    _a("FixtureGlobalReset", "reset", "Rst", "control", "reboot"),
    _a("NoFeature", "reserved", "Rsv", "control", "not used, no function, nothing"),
)

BY_KEY: dict[str, Attribute] = {a.key: a for a in ATTRIBUTES}
BY_WORD: dict[str, Attribute] = {w: a for a in ATTRIBUTES for w in (a.word, *a.also)}
for _attribute in ATTRIBUTES:  # every short form is understood as well, where nothing else is written so
    BY_WORD.setdefault(_attribute.short.lower(), _attribute)
LONGEST_WORD = max(len(w.split()) for w in BY_WORD)


def word_for(function: str, fallback: str = "") -> str:
    """The plain word for a function, an own function's name, or `fallback`."""
    if function.startswith(OWN):
        return function[len(OWN) :]
    found = BY_KEY.get(function)
    return found.word if found else (function or fallback)


def family_of(function: str) -> Family:
    found = BY_KEY.get(function)
    return found.family if found else "control"


def default_of(function: str, slots: int) -> int:
    """What a lamp wants on a channel nobody touches: pan and tilt stand in the middle, all else at zero."""
    return int(256**slots) // 2 if function in ("Pan", "Tilt") else 0
