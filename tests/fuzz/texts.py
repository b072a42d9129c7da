"""Charts and models by chance, written and read again: they must come back as the same."""

from __future__ import annotations

import random
from typing import Any

from welvo.formats.chart import read_chart
from welvo.formats.chart_write import write_chart
from welvo.formats.models import check_model, read_model, write_model
from welvo.rig.base import Refused
from welvo.rig.profile import Break, Channel, Mode
from welvo.rig.wiring import DeviceModel, Firmware, OutputMode, SettingSpec

PARTS = (
    "red", "green", "blue", "white", "amber", "pan", "tilt", "16", "24 bit", "dimmer", "shutter = 255", "gap", "gap 3",
    "wobble", "\n", "\n1 ", "\n5-7 ", "2 x (", "planes 3 x (", ")", ",", ";", "fine", "pan fine", "tilt fine", "= 50%",
    "highlight 255", "/2", "red/1", "red/3", "blue/2", '"own words"', "?", "3 red", "x", "-", "break A:", "\nbreak B:",
    "zoom", "red 2", "white 1", "4 x (red green blue)", "2 x red", "\n12 blue", "lsb", "# said", "gobo", "=", "7",
)  # fmt: skip
FUNCTIONS = (
    "Dimmer", "Pan", "Tilt", "ColorAdd_R", "ColorAdd_G", "ColorAdd_B", "ColorAdd_W", "Zoom", "Shutter1",
    "own:fan speed", "", "", "Gobo1"
)  # fmt: skip


def chart_text(chance: random.Random) -> str:
    return " ".join(chance.choice(PARTS) for _ in range(chance.randint(1, 14)))


def channels_of(chance: random.Random) -> Mode:
    """A mode as hands make it: breaks, gaps, fine bytes that stand apart, pixels in any order."""
    breaks: list[Break] = []
    channels: list[Channel] = []
    for b in range(chance.choice((1, 1, 1, 2, 3))):
        slot = 1
        apart: list[int] = []
        for _ in range(chance.randint(0, 9)):
            slot += chance.choice((0, 0, 0, 0, 1, 4))
            function = chance.choice(FUNCTIONS)
            width = chance.choice((1, 1, 1, 2, 3))
            slots = tuple(range(slot, slot + width))
            slot += width
            name = chance.choice(("", "wobble", "thing_2")) if not function else ""
            channels.append(
                Channel(
                    function=function,
                    name=name,
                    slots=slots,
                    break_no=b,
                    pixel=chance.choice((0, 0, 0, 1, 2, 3, 5)),
                    default=chance.randrange(256) if chance.random() < 0.2 else 0,
                    highlight=chance.randrange(256) if chance.random() < 0.1 else None,
                )
            )
            if width == 1 and chance.random() < 0.12:
                apart.append(len(channels) - 1)
        for n in apart:  # its fine byte stands at the end
            c = channels[n]
            channels[n] = Channel(
                function=c.function, name=c.name, slots=(*c.slots, slot), break_no=b, pixel=c.pixel, default=c.default
            )
            slot += 1
        breaks.append(Break(name=chance.choice(("", "", f"part {b}")), slots=slot - 1 + chance.choice((0, 0, 2))))
    return Mode(name="m", breaks=tuple(breaks), channels=tuple(channels))


def wrong_chart(mode: Mode) -> str:
    """What differs after writing and reading; empty when nothing does."""
    text = write_chart(mode)
    again = read_chart(text).mode_of_chart("m", mode)

    def facts(m: Mode) -> list[Any]:
        found = sorted((c.break_no, c.slots, c.function, c.pixel, c.default, c.highlight) for c in m.channels)
        return [m.breaks, [tuple(-1 if v is None else v for v in f) for f in found]]

    try:
        if facts(again) != facts(mode):
            return f"{text!r} reads as {facts(again)}, not {facts(mode)}"
    except TypeError:
        return f"{text!r}: not comparable"
    return ""


def hunt_text(chance: random.Random) -> str:
    text = chart_text(chance)
    mode = read_chart(text).mode_of_chart("m")
    again = read_chart(write_chart(mode)).mode_of_chart("m", mode)
    return "" if again == mode else f"{text!r} is written as {write_chart(mode)!r}"


def hunt_channels(chance: random.Random) -> str:
    return wrong_chart(channels_of(chance))


def _word(chance: random.Random) -> str:
    return "".join(chance.choice("aB 3-_.'\"\\#=[]\n\tü€\u2028") for _ in range(chance.randint(0, 6)))


def model_of_chance(chance: random.Random) -> DeviceModel:
    ports = tuple(dict.fromkeys(_word(chance) or "1" for _ in range(chance.randint(0, 4))))
    return DeviceModel(
        name=_word(chance).strip() or "x",
        maker=_word(chance),
        kind=chance.choice(("node", "pixel", "converter", "gateway", "bridge")),  # type: ignore[arg-type]
        ports=ports,
        gives=dict.fromkeys(ports[:1], "dmx") if chance.random() < 0.3 else {},
        modes=tuple(
            OutputMode(name=f"{_word(chance)}{n}", off=ports[:1], pixels_per_port=chance.randrange(900))
            for n in range(chance.randint(0, 2))
        ),
        firmwares=tuple(
            Firmware(version=_word(chance) or "1", note=_word(chance)) for _ in range(chance.randint(0, 2))
        ),
        settings=tuple(
            SettingSpec(
                key=f"k{n}",
                label=_word(chance),
                type="number",
                help=_word(chance),
                factory=chance.choice((0, "x", True)),
            )
            for n in range(chance.randint(0, 2))
        ),
        counts={_word(chance): chance.randint(-1, 3) for _ in range(chance.randint(0, 2))},
        volts=tuple(chance.choice((5.0, 12.0, 1e-7, 1e20, 24.5)) for _ in range(chance.randint(0, 2))),
        wires=((_word(chance), _word(chance)),) if chance.random() < 0.4 else (),
        amps=chance.choice((0.0, 40.0, 0.1)),
        chips=tuple(_word(chance) for _ in range(chance.randint(0, 2))),
        note=_word(chance),
        extra={"later": chance.choice((1, "x", [1, 2], {"a": 1}))} if chance.random() < 0.2 else None,
    )


def hunt_model(chance: random.Random) -> str:
    model = model_of_chance(chance)
    try:
        check_model(model)
    except Refused:
        return ""
    text = write_model(model)
    again = read_model(text, "x")
    return "" if again == model else f"{model} reads as {again} from {text!r}"
