"""Thirty invented channel tables in ten typographies, with what each row means: slots and function, `/n` for a pixel.

`?` stands for a row that no vocabulary can know; it counts as right when it is marked.
"""

from __future__ import annotations

R, G, B, W, A, UV = "ColorAdd_R", "ColorAdd_G", "ColorAdd_B", "ColorAdd_W", "ColorAdd_RY", "ColorAdd_UV"

CHARTS: list[tuple[str, str, str]] = [
    # 1. numbered lines
    (
        "numbered",
        "1 Pan\n2 Pan fine\n3 Tilt\n4 Tilt fine\n5 Pan/Tilt speed\n6 Dimmer\n7 Shutter\n8 Red\n9 "
        "Green\n10 Blue\n11 White\n12 Colour macro\n13 Zoom\n14 Reset",
        "Pan:1,2 Tilt:3,4 PositionMSpeed:5 Dimmer:6 Shutter1:7 R:8 G:9 B:10 W:11 ColorMacro1:12 "
        "Zoom:13 FixtureGlobalReset:14"
    ),
    (
        "numbered",
        "1 Master dimmer\n2 Strobe\n3 Red\n4 Green\n5 Blue\n6 Amber\n7 UV\n8 Auto programs\n9 Program speed",
        "Dimmer:1 Shutter1Strobe:2 R:3 G:4 B:5 A:6 UV:7 Effects1:8 Effects1Rate:9"
    ),
    (
        "numbered",
        "1 Intensity\n2 Cyan\n3 Magenta\n4 Yellow\n5 CTO\n6 Gobo wheel\n7 Gobo rotation\n8 Prism\n9 "
        "Prism rotation\n10 Frost\n11 Iris\n12 Focus\n13 Focus fine\n14 Lamp control",
        "Dimmer:1 ColorSub_C:2 ColorSub_M:3 ColorSub_Y:4 CTO:5 Gobo1:6 Gobo1Pos:7 Prism1:8 Prism1Pos:9 "
        "Frost1:10 Iris:11 Focus1:12,13 Control1:14"
    ),
    # 2. numbers with dots, brackets and colons
    (
        "dotted", "1. Red\n2. Green\n3. Blue\n4. Dimmer\n5. Strobe rate\n6. Dimmer curve",
        "R:1 G:2 B:3 Dimmer:4 Shutter1Strobe:5 DimmerCurve:6"
    ),
    (
        "dotted",
        "1: Dimmer (coarse)\n2: Dimmer (fine)\n3: Red 1\n4: Green 1\n5: Blue 1\n6: Red 2\n7: Green "
        "2\n8: Blue 2\n9: Fan speed", "Dimmer:1,2 R:3/1 G:4/1 B:5/1 R:6/2 G:7/2 B:8/2 Fan1:9"
    ), ("dotted", "01) Fog output\n02) Fan\n03) Bubble motor", "Fog1:1 Fan1:2 ?:3"),
    # 3. CH numbers
    (
        "ch",
        "CH1 Pan 16 bit coarse\nCH2 Pan fine\nCH3 Tilt\nCH4 Tilt fine\nCH5 Dimmer\nCH6 Strobe\nCH7 "
        "Color wheel\nCH8 Gobo\nCH9 Gobo shake",
        "Pan:1,2 Tilt:3,4 Dimmer:5 Shutter1Strobe:6 Color1:7 Gobo1:8 Gobo1WheelShake:9"
    ),
    (
        "ch", "Ch. 1: Warm white\nCh. 2: Cool white\nCh. 3: Dimmer\nCh. 4: Dimmer mode",
        "ColorAdd_WW:1 ColorAdd_CW:2 Dimmer:3 DimmerMode:4"
    ),
    (
        "ch",
        "Channel 1 - Hue\nChannel 2 - Saturation\nChannel 3 - Brightness\nChannel 4 - Strobe\nChannel "
        "5 - Sparkle density", "HSB_Hue:1 HSB_Saturation:2 Dimmer:3 Shutter1Strobe:4 ?:5"
    ),
    # 4. tabs, with values and descriptions behind
    (
        "tabs",
        "Channel\tFunction\tValue\n1\tDimmer\t0-255\n2\tShutter\t0-255\n3\tRed\t0-255\n4\tGreen\t0-255\n5\tBlue\t0-255\n6\tWhite\t0-255",
        "Dimmer:1 Shutter1:2 R:3 G:4 B:5 W:6"
    ),
    (
        "tabs",
        "1\tPan\t0-255\tmovement of the yoke\n2\tTilt\t0-255\tmovement of the "
        "head\n3\tFunction\t0-9\tno function\n4\tStrobe\t0-255\tslow to fast\n5\tDimmer\t0-100 %\tlinear",
        "Pan:1 Tilt:2 Function:3 Shutter1Strobe:4 Dimmer:5"
    ),
    (
        "tabs",
        "Slot\tParameter\tDefault\n1\tRed led\t0\n2\tGreen led\t0\n3\tBlue "
        "led\t0\n4\tLime\t0\n5\tColour temperature\t128\n6\tTint\t128\n7\tSmoke machine timer\t0",
        "R:1 G:2 B:3 ColorAdd_GY:4 CTC:5 Tint:6 ?:7"
    ),
    # 5. pipes
    (
        "pipes",
        "| CH | Function | DMX |\n|----|----------|-----|\n| 1 | Dimmer | 000-255 |\n| 2 | Strobe | "
        "000-255 |\n| 3 | Red | 000-255 |\n| 4 | Green | 000-255 |\n| 5 | Blue | 000-255 |",
        "Dimmer:1 Shutter1Strobe:2 R:3 G:4 B:5"
    ),
    (
        "pipes", "|1-2|Pan|16 bit|\n|3-4|Tilt|16 bit|\n|5|Zoom|0…255|\n|6|Shutter|0-9|closed|\n|7|Dimmer|0-255|",
        "Pan:1,2 Tilt:3,4 Zoom:5 Shutter1:6 Dimmer:7"
    ),
    (
        "pipes", "1 | Red | 0-255\n2 | Green | 0-255\n3 | Blue | 0-255\n4 | Macro | 0-255\n5 | Macro speed | 0-255",
        "R:1 G:2 B:3 Function:4 Effects1Rate:5"
    ),
    # 6. ranges of slots
    (
        "ranges", "1–2 pan 16 bit\n3–4 tilt 16 bit\n5 dimmer\n6 shutter\n7–8 zoom\n9–10 focus",
        "Pan:1,2 Tilt:3,4 Dimmer:5 Shutter1:6 Zoom:7,8 Focus1:9,10"
    ),
    (
        "ranges", "1+2 Pan\n3+4 Tilt\n5+6 Dimmer\n7 Strobe\n8/9 Iris",
        "Pan:1,2 Tilt:3,4 Dimmer:5,6 Shutter1Strobe:7 Iris:8,9"
    ),
    (
        "ranges",
        "CH 1-2: Pan (16-bit)\nCH 3-4: Tilt (16-bit)\nCH 5: Gobo 1\nCH 6: Gobo 2\nCH 7: Prism\nCH 8 to "
        "9: Dimmer 16bit", "Pan:1,2 Tilt:3,4 Gobo1:5 Gobo1:6 Prism1:7 Dimmer:8,9"
    ),
    # 7. values under each channel
    (
        "values",
        "1 Shutter\n  000-009 Closed\n  010-127 Strobe slow to fast\n  128-255 Open\n2 Dimmer\n  "
        "000-255 0 to 100 %\n3 Colour wheel\n  0-15 White\n  16-31 Red\n  32-47 Deep blue\n  48-255 Rainbow",
        "Shutter1:1 Dimmer:2 Color1:3"
    ),
    (
        "values",
        "CH1 DIMMER\n0-255 dark to bright\nCH2 STROBE\n0-10 no function\n11-255 slow...fast\nCH3 "
        "CONTROL\n0-99 no function\n100-199 sound\n200-255 reset (hold 3 s)", "Dimmer:1 Shutter1Strobe:2 Control1:3"
    ),
    (
        "values",
        "1 Gobo wheel\n0 - 9   Open\n10 - 19   Dots\n20 - 255   Rotation\n2 Prism\n0 - 127   No "
        "prism\n128 - 255   Prism in", "Gobo1:1 Prism1:2"
    ),
    # 8. dot leaders, name first
    (
        "leaders",
        "Dimmer ........... 1\nStrobe ........... 2\nRed .............. 3\nGreen ............ 4\nBlue "
        "............. 5\nWhite ............ 6", "Dimmer:1 Shutter1Strobe:2 R:3 G:4 B:5 W:6"
    ),
    (
        "leaders", "Pan......1-2\nTilt.....3-4\nShutter..5\nDimmer...6\nZoom.....7",
        "Pan:1,2 Tilt:3,4 Shutter1:5 Dimmer:6 Zoom:7"
    ), ("leaders", "Haze output      1\nFan      2\nAroma      3", "Haze1:1 Fan1:2 ?:3"),
    # 9. one line, commas
    (
        "commas", "Pan, Tilt, Pan fine, Tilt fine, Dimmer, Shutter, Red, Green, Blue",
        "Pan:1,3 Tilt:2,4 Dimmer:5 Shutter1:6 R:7 G:8 B:9"
    ), ("commas", "1 dimmer, 2 red, 3 green, 4 blue, 5 strobe", "Dimmer:1 R:2 G:3 B:4 Shutter1Strobe:5"),
    (
        "commas", "R, G, B, W, Dim, Strobe, Fan mode; Reset",
        "R:1 G:2 B:3 W:4 Dimmer:5 Shutter1Strobe:6 Fan1:7 FixtureGlobalReset:8"
    ),
    # 10. pixels, numbered in several ways
    (
        "pixels",
        "1 Dimmer\n2 Strobe\n3 Pixel 1 Red\n4 Pixel 1 Green\n5 Pixel 1 Blue\n6 Pixel 2 Red\n7 Pixel 2 "
        "Green\n8 Pixel 2 Blue", "Dimmer:1 Shutter1Strobe:2 R:3/1 G:4/1 B:5/1 R:6/2 G:7/2 B:8/2"
    ),
    (
        "pixels", "CH1\tR1\nCH2\tR2\nCH3\tR3\nCH4\tG1\nCH5\tG2\nCH6\tG3\nCH7\tB1\nCH8\tB2\nCH9\tB3",
        "R:1/1 R:2/2 R:3/3 G:4/1 G:5/2 G:6/3 B:7/1 B:8/2 B:9/3"
    ),
    (
        "pixels",
        "1: Cell 1 amber\n2: Cell 1 white\n3: Cell 2 amber\n4: Cell 2 white\n5: Cell 3 amber\n6: Cell "
        "3 white\n7: Master dimmer\n8: Cell wobble", "A:1/1 W:2/1 A:3/2 W:4/2 A:5/3 W:6/3 Dimmer:7 ?:8"
    ),
]  # fmt: skip

SHORT = {"R": R, "G": G, "B": B, "W": W, "A": A, "UV": UV, "?": ""}


def expected(words: str) -> list[tuple[tuple[int, ...], str, int]]:
    """(slots, function, pixel) of each row, from the short writing above."""
    found = []
    for word in words.split():
        name, _, rest = word.partition(":")
        slots, _, pixel = rest.partition("/")
        found.append((tuple(int(s) for s in slots.split(",")), SHORT.get(name, name), int(pixel or 0)))
    return found
