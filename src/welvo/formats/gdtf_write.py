"""Writes a profile as a GDTF fixture type (DIN SPEC 15800, data version 1.2).

A profile that came from a GDTF file keeps that file: modes that were not changed, and everything Welvo has no place
for,
are written back as they stood.
"""

from __future__ import annotations

import uuid
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from welvo.formats.archive import pack_archive
from welvo.formats.elements import child_node
from welvo.formats.gdtf import BEAMS, DESCRIPTION, OWN_FACTS, loads_gdtf, parse_xml
from welvo.formats.gdtf_terms import (
    FEATURES,
    UNITS,
    Doubt,
    attribute_name,
    hex_to_cie,
    safe_gdtf_name,
    say_matrix,
    say_value,
)
from welvo.rig.attributes import BY_KEY, OWN, family_of, word_for
from welvo.rig.modes import sorted_ranges
from welvo.rig.profile import Channel, Facts, Mode, Profile

if TYPE_CHECKING:
    from lxml.etree import _Element

PITCH = 0.05
"""Metres between neighbouring pixels where nothing else is known."""


def dumps_gdtf(profile: Profile) -> tuple[bytes, list[Doubt]]:
    """The bytes of a `.gdtf` file, and what of the profile the standard has no place for."""
    writer = _Writer(profile)
    tree = writer.build_root()
    from lxml import etree

    xml = etree.tostring(tree, xml_declaration=True, encoding="UTF-8", standalone=False, pretty_print=True)
    entries = [(DESCRIPTION, xml)]
    entries += [(name, data) for name, data in profile.kept.items() if name not in (DESCRIPTION, OWN_FACTS)]
    if own := own_facts(profile):
        entries.append((OWN_FACTS, own))
    if writer.thumbnail:
        entries.append((f"{writer.thumbnail}.svg", _draw_thumbnail(profile)))
    return pack_archive(entries), writer.doubts


def own_facts(profile: Profile) -> bytes:
    """What GDTF has no place for and a file of our own in the archive holds: names of breaks, and backdrops."""
    modes = [
        {
            "name": m.name,
            "breaks": [b.name for b in m.breaks],
            **({"backdrop": msgspec.to_builtins(m.backdrop)} if m.backdrop else {}),
        }
        for m in profile.modes.values()
    ]
    said = any(m.backdrop or any(b.name for b in m.breaks) for m in profile.modes.values())
    return msgspec.json.encode({"modes": modes}) if said else b""


def _draw_thumbnail(profile: Profile) -> bytes:
    """A drawing of the first mode's face."""
    mode = next(iter(profile.modes.values()))
    spots = mode.spots or ()
    xs, ys = [s.x for s in spots] or [0.0], [s.y for s in spots] or [0.0]
    w, h = max(xs) - min(xs) + 2, max(ys) - min(ys) + 2
    dots = (
        "".join(f'<circle cx="{s.x - min(xs) + 1:.2f}" cy="{s.y - min(ys) + 1:.2f}" r="0.42"/>' for s in spots)
        or '<circle cx="1" cy="1" r="0.7"/>'
    )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {w:.2f} {h:.2f}"><g fill="none" stroke="black" '
        f'stroke-width="0.08">{dots}</g></svg>\n'
    ).encode()


class _Writer:
    def __init__(self, profile: Profile) -> None:
        self.profile = profile
        self.doubts: list[Doubt] = []
        self.thumbnail = ""

    def note_doubt(self, where: str, message: str) -> None:
        self.doubts.append(Doubt(where, message))

    def build_root(self) -> _Element:
        from lxml import etree

        kept = self.profile.kept.get(DESCRIPTION)
        if kept:
            root = parse_xml(kept, self.profile.name)
            self._merge_modes(root)
            return root
        root = etree.Element("GDTF", DataVersion="1.2")
        p = self.profile
        self.thumbnail = "thumbnail"
        kind = etree.SubElement(
            root,
            "FixtureType",
            Name=safe_gdtf_name(p.name),
            ShortName=p.code or safe_gdtf_name(p.name)[:8],
            LongName=f"{p.maker} {p.name}".strip(),
            Manufacturer=p.maker,
            Description=p.notes,
            FixtureTypeID=str(uuid.uuid5(uuid.NAMESPACE_URL, f"welvo/{p.maker}/{p.name}")).upper(),
            Thumbnail=self.thumbnail,
            RefFT="",
            CanHaveChildren="No",
        )
        self._add_attributes(kind)
        self._add_wheels(kind)
        self._add_physical(kind)
        etree.SubElement(kind, "Models")
        self._add_models(kind)
        geometries = etree.SubElement(kind, "Geometries")
        modes = etree.SubElement(kind, "DMXModes")
        for n, mode in enumerate(p.modes.values(), 1):
            self._add_mode(geometries, modes, mode, f"Body {n}")
        revisions = etree.SubElement(kind, "Revisions")
        etree.SubElement(
            revisions,
            "Revision",
            Text=p.revision or "written by Welvo",
            Date="2026-01-01T00:00:00",
            UserID="0",
            ModifiedBy="Welvo",
        )
        etree.SubElement(kind, "FTPresets")
        etree.SubElement(kind, "Protocols")
        return root

    def _merge_modes(self, root: _Element) -> None:
        """Put changed and new modes into the kept file; unchanged ones stay as they stand, removed ones go."""
        kind = child_node(root, "FixtureType")
        before = loads_gdtf(_zip_description(self.profile.kept[DESCRIPTION])).profile
        holder = child_node(kind, "DMXModes")
        nodes = list(holder.iterfind("DMXMode"))
        same = {m.name: (m, node) for m, node in zip(before.modes.values(), nodes)}
        geometries = child_node(kind, "Geometries")
        order = []
        for n, mode in enumerate(self.profile.modes.values(), 1):
            old = same.get(mode.name)
            if old and _bare_mode(old[0]) == _bare_mode(mode):
                order.append(old[1])
                continue
            self._declare_attributes(kind, mode)
            made = self._add_mode(geometries, holder, mode, f"Welvo body {n}")
            order.append(made)
        for node in list(holder):
            holder.remove(node)
        holder.extend(order)
        kind.set("Name", safe_gdtf_name(self.profile.name))
        kind.set("Manufacturer", self.profile.maker)

    def _declare_attributes(self, kind: _Element, mode: Mode) -> None:
        """Make sure that the attributes of a mode are defined in a kept file."""
        from lxml import etree

        holder = kind.find("AttributeDefinitions/Attributes")
        if holder is None:
            self._add_attributes(kind)
            return
        have = {a.get("Name") for a in holder}
        groups = kind.find("AttributeDefinitions/FeatureGroups")
        for c in mode.channels:
            name = attribute_name(c.function)
            if name not in have:
                have.add(name)
                group, feature = FEATURES[family_of(c.function)]
                if groups is not None and groups.find(f"FeatureGroup[@Name='{group}']") is None:
                    etree.SubElement(
                        etree.SubElement(groups, "FeatureGroup", Name=group, Pretty=group), "Feature", Name=feature
                    )
                etree.SubElement(
                    holder,
                    "Attribute",
                    Name=name,
                    Pretty=c.short or name,
                    Feature=f"{group}.{feature}",
                    PhysicalUnit=_gdtf_unit(c.unit),
                )

    # ---- the parts of a file of our own

    def _add_attributes(self, kind: _Element) -> None:
        from lxml import etree

        definitions = etree.SubElement(kind, "AttributeDefinitions")
        etree.SubElement(definitions, "ActivationGroups")
        groups = etree.SubElement(definitions, "FeatureGroups")
        for group in dict.fromkeys(g for g, _ in FEATURES.values()):
            node = etree.SubElement(groups, "FeatureGroup", Name=group, Pretty=group)
            for feature in dict.fromkeys(f for g, f in FEATURES.values() if g == group):
                etree.SubElement(node, "Feature", Name=feature)
        holder = etree.SubElement(definitions, "Attributes")
        seen: dict[str, str] = {}
        for c in (c for m in self.profile.modes.values() for c in m.channels):
            name = attribute_name(c.function)
            unit = _gdtf_unit(c.unit)
            if seen.get(name, "None") == "None":
                seen[name] = unit
        for name, unit in seen.items():
            function = OWN + name[4:] if name.startswith("Own ") else name
            group, feature = FEATURES[family_of(function)]
            pretty = BY_KEY[name].short if name in BY_KEY else name[:12]
            etree.SubElement(
                holder, "Attribute", Name=name, Pretty=pretty, Feature=f"{group}.{feature}", PhysicalUnit=unit
            )

    def _add_wheels(self, kind: _Element) -> None:
        from lxml import etree

        holder = etree.SubElement(kind, "Wheels")
        done = set()
        for mode in self.profile.modes.values():
            for c in mode.channels:
                coloured = [r for r in sorted_ranges(c.ranges) if r.light]
                if coloured and c.function not in done:
                    done.add(c.function)
                    wheel = etree.SubElement(holder, "Wheel", Name=attribute_name(c.function))
                    for r in coloured:
                        etree.SubElement(wheel, "Slot", Name=safe_gdtf_name(r.name), Color=hex_to_cie(r.light))

    def _add_physical(self, kind: _Element) -> None:
        from lxml import etree

        holder = etree.SubElement(kind, "PhysicalDescriptions")
        for tag in ("ColorSpace", "Emitters", "Filters", "DMXProfiles", "CRIs"):
            node = etree.SubElement(holder, tag)
            if tag == "ColorSpace":
                node.set("Mode", "sRGB")
        properties = etree.SubElement(holder, "Properties")
        facts = self.profile.facts or Facts()
        if facts.weight:
            etree.SubElement(properties, "Weight", Value=f"{facts.weight:g}")

    def _add_models(self, kind: _Element) -> None:
        from lxml import etree

        facts = self.profile.facts or Facts()
        holder = child_node(kind, "Models")
        etree.SubElement(
            holder,
            "Model",
            Name="Body",
            Length=f"{(facts.width or 300) / 1000:.6f}",
            Width=f"{(facts.depth or 200) / 1000:.6f}",
            Height=f"{(facts.height or 200) / 1000:.6f}",
            PrimitiveType="Cube",
            File="",
        )
        etree.SubElement(
            holder,
            "Model",
            Name="Pixel",
            Length=f"{PITCH:.6f}",
            Width=f"{PITCH:.6f}",
            Height="0.010000",
            PrimitiveType="Cylinder",
            File="",
        )

    def _add_beam(self, parent: _Element, name: str, model: str = "Pixel") -> _Element:
        from lxml import etree

        f = self.profile.facts or Facts()
        kind = next((k for k, v in BEAMS.items() if v == f.beam), "Wash")
        return etree.SubElement(
            parent,
            "Beam",
            Name=name,
            Model=model,
            Position=say_matrix(0, 0, 0),
            LampType="LED",
            BeamType=kind,
            BeamAngle=f"{f.angle or 25:.6f}",
            FieldAngle=f"{f.angle or 25:.6f}",
            BeamRadius=f"{PITCH / 2:.6f}",
            ColorTemperature=f"{f.kelvin or 6000:.6f}",
            PowerConsumption=f"{f.watts:.6f}",
            LuminousFlux="10000.000000",
            ColorRenderingIndex="100",
            RectangleRatio="1.777700",
            ThrowRatio="1.000000",
        )

    def _add_mode(self, geometries: _Element, modes: _Element, mode: Mode, body: str) -> _Element:
        from lxml import etree

        geometry = etree.SubElement(geometries, "Geometry", Name=body, Model="Body", Position=say_matrix(0, 0, 0))
        self._add_beam(geometry, f"{body} light")
        node = etree.SubElement(modes, "DMXMode", Name=safe_gdtf_name(mode.name), Description=mode.note, Geometry=body)
        holder = etree.SubElement(node, "DMXChannels")
        names: dict[int, tuple[str, str]] = {}
        pixels = [c for c in mode.channels if c.pixel]
        template = f"{body} pixel"
        bases = _uniform_pixel_slots(pixels)
        if bases:
            self._add_beam(geometries, template)
            for p, offsets in sorted(bases.items()):
                spot = mode.spots[p - 1] if p <= len(mode.spots) else None
                x, y = (spot.x, spot.y) if spot else (float(p - 1), 0.0)
                reference = etree.SubElement(
                    geometry,
                    "GeometryReference",
                    Name=f"{body} {p}",
                    Model="Pixel",
                    Geometry=template,
                    Position=say_matrix(x * PITCH, -y * PITCH, 0),
                )
                for break_no, offset in sorted(offsets.items()):
                    etree.SubElement(reference, "Break", DMXBreak=str(break_no + 1), DMXOffset=str(offset + 1))
        for n, c in enumerate(mode.channels):
            if c.pixel and bases and c.pixel != 1:
                names[n] = (template, attribute_name(c.function))
                continue
            where = body
            if c.pixel and bases:
                where = template
            elif c.pixel:
                where = f"{body} pixel {c.pixel}"
                if geometry.find(f"Beam[@Name='{where}']") is None:
                    self._add_beam(geometry, where)
            names[n] = (where, attribute_name(c.function))
            self._add_channel(holder, c, where)
        if pixels and not bases:
            self.note_doubt(
                f"mode “{mode.name}”",
                "its pixels do not repeat, so they are written as geometries of their own; GDTF does not number these.",
            )
        self._add_relations(etree.SubElement(node, "Relations"), mode, names)
        etree.SubElement(node, "FTMacros")
        if mode.slots_needed != sum(
            max((s for c in mode.channels if c.break_no == b for s in c.slots), default=0)
            for b in range(len(mode.breaks))
        ):
            self.note_doubt(f"mode “{mode.name}”", "free slots at the end of a break have no place in GDTF.")
        return node

    def _add_channel(self, holder: _Element, c: Channel, geometry: str) -> None:
        from lxml import etree

        width, attribute = len(c.slots), attribute_name(c.function)
        if not c.function:
            self.note_doubt(c.name or "undescribed slot", "is not described; written as reserved.")
        if c.release is not None:
            self.note_doubt(word_for(c.function), "a value at release has no place in GDTF.")
        node = etree.SubElement(
            holder,
            "DMXChannel",
            DMXBreak=str(c.break_no + 1),
            Offset=",".join(map(str, c.slots)),
            InitialFunction=f"{geometry}_{attribute}.{attribute}.{attribute} 1",
            Highlight=say_value(c.highlight, width) if c.highlight is not None else "None",
            Geometry=geometry,
        )
        usual = family_of(c.function) in ("intensity", "colour", "shutter")
        follows = usual if c.master == "auto" else c.master == "yes"
        logical = etree.SubElement(
            node,
            "LogicalChannel",
            Attribute=attribute,
            Snap="Yes" if c.snap else "No",
            Master="Grand" if follows else "None",
            MibFade="0",
            DMXChangeTimeLimit="0",
        )
        self._add_ranges(self._add_function(logical, c, attribute), c, attribute)

    def _add_function(self, logical: _Element, c: Channel, attribute: str) -> _Element:
        from lxml import etree

        width = len(c.slots)
        low, high = (c.low, c.high) if c.low is not None and c.high is not None else (0.0, 1.0)
        if c.invert:  # GDTF has no word for it: the physical values run the other way
            low, high = high, low
        return etree.SubElement(
            logical,
            "ChannelFunction",
            Name=f"{attribute} 1",
            Attribute=attribute,
            OriginalAttribute="",
            DMXFrom=say_value(0, width),
            Default=say_value(c.default, width),
            PhysicalFrom=f"{low:.6f}",
            PhysicalTo=f"{high:.6f}",
            RealFade="0.000000",
        )

    def _add_ranges(self, function: _Element, c: Channel, attribute: str) -> None:
        """Each range begins where it says and ends where the next begins: gaps between them need sets without name."""
        from lxml import etree

        width = len(c.slots)
        coloured = [r for r in sorted_ranges(c.ranges) if r.light]
        if coloured:
            function.set("Wheel", attribute)
        reach = -1
        for r in sorted_ranges(c.ranges):
            if r.first <= reach:
                self.note_doubt(
                    word_for(c.function),
                    f"“{r.name}” overlaps the range before it; GDTF cannot hold both, so it begins at {reach + 1}.",
                )
            first = max(r.first, reach + 1)
            if first > r.last:
                continue
            if first > reach + 1:
                etree.SubElement(function, "ChannelSet", Name="", DMXFrom=say_value(reach + 1, width))
            made = etree.SubElement(
                function, "ChannelSet", Name=safe_gdtf_name(r.name) if r.name else "-", DMXFrom=say_value(first, width)
            )
            if r.low is not None and r.high is not None:
                made.set("PhysicalFrom", f"{r.low:.6f}")
                made.set("PhysicalTo", f"{r.high:.6f}")
            if r.light:
                made.set("WheelSlotIndex", str(coloured.index(r) + 1))
            reach = max(reach, r.last)
        if c.ranges and reach < c.highest_value:
            etree.SubElement(function, "ChannelSet", Name="", DMXFrom=say_value(reach + 1, width))

    def _add_relations(self, holder: _Element, mode: Mode, names: dict[int, tuple[str, str]]) -> None:
        from lxml import etree

        done = set()
        for n, c in enumerate(mode.channels):
            for short in c.needs or ():
                master = next(
                    (m for m, x in enumerate(mode.channels) if x.short == short and x.pixel in (0, c.pixel)), None
                )
                if master is None:
                    continue
                a, b = "_".join(names[master]), "_".join(names[n])
                if (a, b) not in done:
                    done.add((a, b))
                    attribute = names[n][1]
                    etree.SubElement(
                        holder,
                        "Relation",
                        Name=f"{len(done)} {safe_gdtf_name(short)}",
                        Master=a,
                        Follower=f"{b}.{attribute}.{attribute} 1",
                        Type="Multiply",
                    )
            if c.needs == ():
                self.note_doubt(word_for(c.function), "that nothing keeps it dark has no place in GDTF.")


def _gdtf_unit(unit: str) -> str:
    return next((k for k, v in UNITS.items() if v == unit), "None")


def _uniform_pixel_slots(pixels: list[Channel]) -> dict[int, dict[int, int]] | None:
    """Slots that each pixel lies behind pixel 1, by break; None when the pixels do not repeat exactly."""
    if not pixels:
        return None
    by_pixel: dict[int, list[Channel]] = {}
    for c in sorted(pixels, key=lambda c: (c.function, c.short, c.break_no, c.slots[0])):
        by_pixel.setdefault(c.pixel, []).append(c)
    first = by_pixel.get(1)
    if not first or len(by_pixel) < 2 or sorted(by_pixel) != list(range(1, len(by_pixel) + 1)):
        return None
    found: dict[int, dict[int, int]] = {}
    for p, mine in by_pixel.items():
        if len(mine) != len(first):
            return None
        offsets: dict[int, int] = {}
        for a, b in zip(first, mine):
            by = b.slots[0] - a.slots[0]
            if (
                replace(b, slots=a.slots, pixel=1, short=a.short) != a
                or a.break_no != b.break_no
                or tuple(s + by for s in a.slots) != b.slots
                or offsets.setdefault(a.break_no, by) != by
            ):
                return None
        if any(v < 0 for v in offsets.values()):
            return None
        found[p] = offsets
    return found


def _bare_mode(mode: Mode) -> Mode:
    """A mode without what GDTF has no place for, to see whether it was changed."""
    channels = tuple(
        replace(c, short="", release=None, ranges=tuple(replace(r, hold=0.0, does="", light="") for r in c.ranges))
        for c in mode.channels
    )
    return replace(mode, channels=channels, arrangement=None, backdrop=None, pixel_shape="round", pixel_size=0.86)


def _zip_description(description: bytes) -> bytes:
    return pack_archive([(DESCRIPTION, description)])
