"""Ten fixture types written by hand from the standard, none by Welvo's own writer; all makers and models are
invented."""

from __future__ import annotations

import io
import zipfile

ATTRIBUTES = """<AttributeDefinitions><ActivationGroups/><FeatureGroups><FeatureGroup Name="Dimmer"
Pretty="Dimmer"><Feature Name="Dimmer"/></FeatureGroup></FeatureGroups>
<Attributes><Attribute Name="Dimmer" Pretty="Dim" Feature="Dimmer.Dimmer" PhysicalUnit="LuminousIntensity"/><Attribute
Name="Pan" Pretty="P" Feature="Position.PanTilt" PhysicalUnit="Angle"/>
<Attribute Name="Tilt" Pretty="T" Feature="Position.PanTilt" PhysicalUnit="Angle"/><Attribute Name="Zoom" Pretty="Zoom"
Feature="Focus.Focus" PhysicalUnit="Angle"/>
<Attribute Name="Shutter1" Pretty="Sh1" Feature="Beam.Beam"/><Attribute Name="Shutter1Strobe" Pretty="Strobe1"
Feature="Beam.Beam" PhysicalUnit="Frequency"/>
<Attribute Name="ColorAdd_R" Pretty="R" Feature="Color.RGB"/><Attribute Name="ColorAdd_G" Pretty="G"
Feature="Color.RGB"/><Attribute Name="ColorAdd_B" Pretty="B" Feature="Color.RGB"/>
<Attribute Name="ColorAdd_W" Pretty="W" Feature="Color.RGB"/><Attribute Name="Color1" Pretty="C1"
Feature="Color.Color"/><Attribute Name="Control1" Pretty="Ctrl" Feature="Control.Control"/>
<Attribute Name="Bubbles" Pretty="Bub" Feature="Control.Control"/></Attributes></AttributeDefinitions>"""
UNIT = "{1,0,0,0}{0,1,0,0}{0,0,1,0}{0,0,0,1}"


def at(x: float, y: float, z: float = 0.0) -> str:
    return "{1,0,0,%g}{0,1,0,%g}{0,0,1,%g}{0,0,0,1}" % (x, y, z)  # noqa: UP031


def channel(
    geometry: str,
    attribute: str,
    offset: str,
    default: str = "0/1",
    *,
    break_no: str = "1",
    highlight: str = "None",
    physical: tuple[float, float] = (0, 1),
    sets: str = "",
    snap: str = "No",
    master: str = "None",
    more: str = "",
) -> str:
    return (
        f'<DMXChannel DMXBreak="{break_no}" Offset="{offset}" '
        f'InitialFunction="{geometry}_{attribute}.{attribute}.{attribute} 1" Highlight="{highlight}" '
        f'Geometry="{geometry}">'
        f'<LogicalChannel Attribute="{attribute}" Snap="{snap}" Master="{master}" MibFade="0" DMXChangeTimeLimit="0">'
        f'<ChannelFunction Name="{attribute} 1" Attribute="{attribute}" DMXFrom="0/1" Default="{default}" '
        f'PhysicalFrom="{physical[0]}" PhysicalTo="{physical[1]}">{sets}</ChannelFunction>{more}'
        "</LogicalChannel></DMXChannel>"
    )


def mode(name: str, geometry: str, channels: str, more: str = "") -> str:
    return f'<DMXMode Name="{name}" Geometry="{geometry}"><DMXChannels>{channels}</DMXChannels>{more}</DMXMode>'


def gdtf(
    name: str, geometries: str, modes: str, before: str = "", version: str = "1.2", attributes: str = ATTRIBUTES
) -> bytes:
    return (
        f'<?xml version="1.0" encoding="UTF-8"?><GDTF DataVersion="{version}"><FixtureType Name="{name}" '
        f'ShortName="X" LongName="Osmer {name}" Manufacturer="Osmer" '
        f'Description="by hand" FixtureTypeID="6E1D38E4-0000-4000-8000-00000000000{len(name) % 10}" '
        f'RefFT="">{attributes}{before}'
        f'<Geometries>{geometries}</Geometries><DMXModes>{modes}</DMXModes><Revisions><Revision Text="first" '
        'Date="2026-01-01T00:00:00" UserID="0"/></Revisions></FixtureType></GDTF>'
    ).encode()


def archive(description: bytes, **files: bytes) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("description.xml", description)
        for name, data in files.items():
            z.writestr(name.replace("__", "/"), data)
    return buffer.getvalue()


BODY = (
    f'<Geometry Name="Body" Model="" Position="{UNIT}"><Beam Name="Light" Position="{UNIT}" BeamType="Wash" '
    'BeamAngle="40" ColorTemperature="5600" PowerConsumption="120"/></Geometry>'
)
PIXEL = f'<Beam Name="Cell" Position="{UNIT}" BeamType="Glow" BeamAngle="120"/>'


def references(count: int, stride: int, first: int = 1, columns: int = 99, break_no: int = 1) -> str:
    return "".join(
        f'<GeometryReference Name="P{n + 1}" Geometry="Cell" '
        f'Position="{at(0.1 * (n % columns), -0.1 * (n // columns))}"><Break DMXBreak="{break_no}" '
        f'DMXOffset="{first + n * stride}"/></GeometryReference>'
        for n in range(count)
    )


RGB = "".join(channel("Cell", f"ColorAdd_{c}", str(n)) for n, c in enumerate("RGB", 1))

FILES: dict[str, bytes] = {
    # a plain dimmer of one slot
    "dimmer": gdtf(
        "Spot One", BODY, mode("1 slot", "Body", channel("Body", "Dimmer", "1", highlight="255/1", master="Grand"))
    ),
    # 16 bit movement, values of several widths, physical ranges
    "head": gdtf(
        "Heron",
        f'<Geometry Name="Body" Position="{UNIT}"><Axis Name="Yoke" Position="{UNIT}"><Axis '
        f'Name="Head" Position="{UNIT}"><Beam Name="Light" Position="{UNIT}"/></Axis></Axis></Geometry>',
        mode(
            "16 bit", "Body",
            channel("Yoke", "Pan", "1,2", "128/1", physical=(-270, 270)) + channel(
                "Head", "Tilt", "3,4", "32768/2", physical=(-132.5, 132.5)
            ) + channel("Light", "Zoom", "5", "128/1s", physical=(8, 45)) + channel("Light", "Dimmer", "6")
        )
    ),
    # fine bytes apart from their coarse ones, and a channel out of order
    "apart": gdtf(
        "Crane", BODY,
        mode(
            "split", "Body",
            channel("Body", "Pan", "1,4", "128/1") + channel("Body", "Tilt", "2,5") + channel("Body", "Dimmer", "3")
        )
    ),
    # a shutter of several functions and named sets
    "shutter": gdtf(
        "Wink", BODY,
        mode(
            "3 slot", "Body",
            channel(
                "Light", "Shutter1", "1", "255/1", snap="Yes",
                sets='<ChannelSet Name="Closed" DMXFrom="0/1"/><ChannelSet Name="" DMXFrom="10/1"/>',
                more='<ChannelFunction Name="Strobe" Attribute="Shutter1Strobe" DMXFrom="16/1" Default="16/1" '
                'PhysicalFrom="1" PhysicalTo="20"/><ChannelFunction Name="Open" Attribute="Shutter1" '
                'DMXFrom="240/1" Default="255/1"/>'
            ) + channel("Light", "Dimmer", "2") + channel("Light", "ColorAdd_R", "3"),
            '<Relations><Relation Name="r" Master="Light_Dimmer" '
            'Follower="Light_ColorAdd_R.ColorAdd_R.ColorAdd_R 1" Type="Multiply"/><Relation Name="o" '
            'Master="Light_Shutter1" Follower="Light_Dimmer.Dimmer.Dimmer 1" Type="Override"/></Relations>'
        )
    ),
    # a colour wheel with CIE colours
    "wheel": gdtf(
        "Prism Tide", BODY,
        mode(
            "wheel", "Body",
            channel(
                "Light", "Color1", "1",
                sets='<ChannelSet Name="White" DMXFrom="0/1" WheelSlotIndex="1"/><ChannelSet Name="Red" '
                'DMXFrom="20/1" WheelSlotIndex="2"/><ChannelSet Name="Spin" DMXFrom="128/1" PhysicalFrom="-10" '
                'PhysicalTo="10"/>'
            ).replace('PhysicalFrom="0" PhysicalTo="1">', 'PhysicalFrom="0" PhysicalTo="1" Wheel="W">') + channel(
                "Light", "Dimmer", "2"
            )
        ),
        '<Wheels><Wheel Name="W"><Slot Name="White" Color="0.3127,0.3290,100"/><Slot Name="Red" '
        'Color="0.6400,0.3300,21"/></Wheel></Wheels>'
    ),
    # fourteen pixels by references, two rows, with a header
    "bar": gdtf(
        "Ebb bar", f'<Geometry Name="Body" Position="{UNIT}">{references(14, 3, 3, 7)}</Geometry>{PIXEL}',
        mode("44 slot", "Body", channel("Body", "Dimmer", "1") + channel("Body", "Shutter1", "2", "255/1") + RGB)
    ),
    # planes: all reds, all greens, all blues
    "planes": gdtf(
        "Slack", f'<Geometry Name="Body" Position="{UNIT}">{references(4, 1)}</Geometry>{PIXEL}',
        mode(
            "planes", "Body",
            channel("Cell", "ColorAdd_R", "1") + channel("Cell", "ColorAdd_G", "5") + channel(
                "Cell", "ColorAdd_B", "9"
            )
        )
    ),
    # two breaks: movement in one, pixels in another; the template says Overwrite
    "breaks": gdtf(
        "Undertow two",
        f'<Geometry Name="Body" Position="{UNIT}"><Axis Name="Yoke" '
        f'Position="{UNIT}"/>{references(3, 4, 1, 99, 2)}</Geometry>{PIXEL}',
        mode(
            "two", "Body",
            channel("Yoke", "Pan", "1,2") + channel("Yoke", "Dimmer", "3") + "".join(
                channel("Cell", f"ColorAdd_{c}", str(n), break_no="Overwrite") for n, c in enumerate("RGBW", 1)
            )
        )
    ),
    # an attribute of the maker's own, a virtual channel, presets and macros
    "own": gdtf(
        "Bubbler", BODY,
        mode(
            "fun", "Body",
            channel("Body", "Bubbles", "1") + channel("Body", "Dimmer", "") + channel("Body", "Control1", "2"),
            '<FTMacros><FTMacro Name="m"/></FTMacros>'
        ) + mode("empty", "Body", ""),
        "<PhysicalDescriptions><Emitters><Emitter Name='e'/></Emitters><Properties><Weight "
        "Value='7.5'/></Properties></PhysicalDescriptions><Models><Model Name='M' Length='0.4' Width='0.3' "
        "Height='0.5'/></Models>"
    ),
    # items that are wrong: a missing geometry, a bad offset, a bad value, two channels on one slot, five bytes
    "wrong": gdtf(
        "Wreck", '<Geometry Name="Body" Position="nonsense"><GeometryReference Name="r" Geometry="Gone"/></Geometry>',
        mode(
            "bad", "Body",
            channel("Nowhere", "Dimmer", "1") + channel("Body", "Pan", "x")
            + channel("Body", "Tilt", "2", "999/1") + channel(
                "Body", "Zoom", "2"
            ) + channel("Body", "Control1", "5,6,7,8,9") + channel("Body", "Mystery", "3")
        ) + mode("lost", "Nowhere", channel("Body", "Dimmer", "1"))
    ),
}  # fmt: skip
