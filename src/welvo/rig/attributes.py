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

    @property
    def is_emitter(self) -> bool:
        """Whether a channel of it adds light of a colour by itself."""
        return self.key.startswith("ColorAdd_") and bool(self.light)


def _make_attribute(key: str, word: str, short: str, family: Family, also: str = "", light: str = "") -> Attribute:
    return Attribute(key, word, short, family, tuple(w for w in also.split(", ") if w), light)


ATTRIBUTES: tuple[Attribute, ...] = (
    _make_attribute(
        "Dimmer", "dimmer", "Dim", "intensity", "intensity, brightness, master dimmer, dim, dmr, int, level"
    ),
    _make_attribute("Shutter1", "shutter", "Shut", "shutter", "shutter strobe, strobe shutter, shut, shtr"),
    _make_attribute(
        "Shutter1Strobe", "strobe", "Stro", "shutter", "strobe rate, strobe speed, flash, flash rate, strb"
    ),
    _make_attribute("Shutter1StrobePulse", "strobe pulse", "Puls", "shutter", "pulse strobe, pulse"),
    _make_attribute("StrobeDuration", "strobe duration", "SDur", "shutter", "flash duration, flash length"),
    _make_attribute("ColorAdd_R", "red", "R", "colour", "r", "#ff3b30"),
    _make_attribute("ColorAdd_G", "green", "G", "colour", "g, grn", "#30d158"),
    _make_attribute("ColorAdd_B", "blue", "B", "colour", "b, blu", "#3478f6"),
    _make_attribute("ColorAdd_W", "white", "W", "colour", "w, wht, pure white", "#fff8ec"),
    _make_attribute("ColorAdd_WW", "warm white", "WW", "colour", "ww", "#ffd6a0"),
    _make_attribute("ColorAdd_CW", "cool white", "CW", "colour", "cold white, cw", "#dcecff"),
    _make_attribute("ColorAdd_RY", "amber", "A", "colour", "a, amb", "#ffb000"),
    _make_attribute("ColorAdd_GY", "lime", "L", "colour", "yellow green", "#b8ff2e"),
    _make_attribute("ColorAdd_C", "cyan emitter", "Cy", "colour", "", "#22e0e8"),
    _make_attribute("ColorAdd_M", "magenta emitter", "Mg", "colour", "", "#ff35d0"),
    _make_attribute("ColorAdd_Y", "yellow emitter", "Ye", "colour", "", "#ffe630"),
    _make_attribute("ColorAdd_UV", "uv", "UV", "colour", "ultraviolet, ultra violet", "#7a3cff"),
    _make_attribute("ColorSub_C", "cyan", "C", "colour", "c, cyn"),
    _make_attribute("ColorSub_M", "magenta", "M", "colour", "m, mag"),
    _make_attribute("ColorSub_Y", "yellow", "Y", "colour", "y, yel"),
    _make_attribute("CTO", "warm correction", "CTO", "colour", "cto"),
    _make_attribute("CTB", "cold correction", "CTB", "colour", "ctb"),
    _make_attribute("CTC", "colour temperature", "CCT", "colour", "color temperature, cct, ctc"),
    _make_attribute("Tint", "tint", "Tint", "colour", "green magenta, plus minus green"),
    _make_attribute("HSB_Hue", "hue", "Hue", "colour"),
    _make_attribute("HSB_Saturation", "saturation", "Sat", "colour", "sat"),
    _make_attribute("Color1", "colour wheel", "Col", "colour", "color wheel, colour, color"),
    _make_attribute("ColorMacro1", "colour macro", "CMac", "colour", "color macro, colour macros, color macros"),
    _make_attribute("Pan", "pan", "Pan", "position", "x axis, pan movement"),
    _make_attribute("Tilt", "tilt", "Tilt", "position", "y axis, tilt movement"),
    _make_attribute("PanRotate", "pan rotation", "PRot", "position", "endless pan, continuous pan"),
    _make_attribute("TiltRotate", "tilt rotation", "TRot", "position", "endless tilt, continuous tilt"),
    _make_attribute(
        "PositionMSpeed", "movement speed", "Spd", "position", "pan tilt speed, p/t speed, xy speed, motion speed"
    ),
    _make_attribute("Zoom", "zoom", "Zoom", "beam", "beam angle"),
    _make_attribute("Focus1", "focus", "Foc", "beam", "fcs"),
    _make_attribute("Iris", "iris", "Iris", "beam"),
    _make_attribute("Frost1", "frost", "Fros", "beam", "diffusion, frst"),
    _make_attribute("Prism1", "prism", "Pris", "beam", "prsm"),
    _make_attribute("Prism1Pos", "prism rotation", "PrRt", "beam", "prism index"),
    _make_attribute("Gobo1", "gobo", "Gobo", "beam", "gobo wheel, static gobo, gob"),
    _make_attribute("Gobo1Pos", "gobo rotation", "GoRt", "beam", "gobo index, rotating gobo"),
    _make_attribute("Gobo1WheelShake", "gobo shake", "GoSh", "beam"),
    _make_attribute("AnimationWheel1", "animation wheel", "Anim", "beam", "animation"),
    _make_attribute(
        "Effects1",
        "effect",
        "Eff",
        "control",
        "effects, programme, programmes, program, programs, auto program, auto programs, auto programme, auto "
        "programmes",
    ),
    _make_attribute(
        "Effects1Rate",
        "effect speed",
        "ESpd",
        "control",
        "effects speed, program speed, programme speed, auto speed, macro speed",
    ),
    _make_attribute("Effects1Fade", "effect fade", "EFad", "control", "crossfade"),
    _make_attribute("DimmerMode", "dimmer mode", "DimM", "control", "dimming mode"),
    _make_attribute("DimmerCurve", "dimmer curve", "DimC", "control", "dimming curve, dimmer speed"),
    _make_attribute("Fan1", "fan", "Fan", "control", "fan speed, fans, fan mode"),
    _make_attribute("Fog1", "fog", "Fog", "control", "smoke, fog output"),
    _make_attribute("Haze1", "haze", "Haze", "control", "haze output"),
    _make_attribute("Function", "macro", "Mac", "control", "macros, function, functions, auto macro"),
    _make_attribute(
        "Control1", "control", "Ctl", "control", "ctrl, special, special functions, settings, lamp control"
    ),
    _make_attribute("FixtureGlobalReset", "reset", "Rst", "control", "reboot"),
    _make_attribute("NoFeature", "reserved", "Rsv", "control", "not used, no function, nothing"),
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
