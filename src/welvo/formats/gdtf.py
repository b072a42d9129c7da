"""Reads GDTF fixture types (DIN SPEC 15800): description.xml inside a ZIP. Hostile files are refused.

What Welvo has no place for (wheels, models, emitters, macros, protocols, conditions between functions) is kept as it is
in the profile and written back untouched; every doubt is told with its place.
"""

from __future__ import annotations

import itertools
import math
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from welvo.formats.archive import ArchiveBounds, unpack_archive
from welvo.formats.files import RigFileError, read_bytes
from welvo.formats.gdtf_terms import UNITS, Doubt, cie_to_hex, function_of, read_dmx_value, read_matrix
from welvo.formats.ranges import hint_of_name, hold_of
from welvo.rig.attributes import BY_KEY, family_of, word_for
from welvo.rig.base import Refused
from welvo.rig.door import check_whole_value
from welvo.rig.profile import FARTHEST_SPOT, Backdrop, Break, Channel, Facts, Mode, Profile, Range, Spot
from welvo.rig.shorts import with_shorts

if TYPE_CHECKING:
    from lxml.etree import _Element

DESCRIPTION = "description.xml"
MOST_BYTES = 128 * 2**20
BOUNDS = ArchiveBounds("a fixture type", MOST_BYTES, 24 * 2**20, 2000, lambda inside: inside == DESCRIPTION)
OWN_FACTS = "welvo/facts.json"
MOST_OWN = 1 << 20
MOST_CHANNELS = 6000
BEAMS = {
    "Wash": "wash",
    "Spot": "spot",
    "Rectangle": "flood",
    "PC": "spot",
    "Fresnel": "wash",
    "Glow": "glow",
    "None": "none",
}


@dataclass
class ImportedProfile:
    """A fixture type as a profile, with everything that was not taken over as it stands."""

    profile: Profile
    doubts: list[Doubt] = field(default_factory=list)


def read_gdtf(path: Path) -> ImportedProfile:
    """Open a `.gdtf` file. Raises RigFileError with the reason."""
    return loads_gdtf(read_bytes(path, MOST_BYTES, "a fixture type"), path.name)


def loads_gdtf(data: bytes, name: str = "the file") -> ImportedProfile:
    files = _unpack_gdtf(data, name)
    root = parse_xml(files[DESCRIPTION], name)
    kind = root.find("FixtureType")
    if root.tag != "GDTF" or kind is None:
        raise RigFileError(f"{name}: description.xml holds no GDTF fixture type.")
    reader = _Type(kind, name)
    profile = reader.make_profile()
    version = root.get("DataVersion", "")
    if version and not version.startswith("1."):
        reader.note_doubt("DataVersion", f"{version} is newer than this reader; what it does not know is kept.")
    own = files.pop(OWN_FACTS, b"")
    if own:
        profile = _with_own_facts(profile, own)
    try:
        check_whole_value(profile)
    except Refused as e:
        raise RigFileError(f"{name} says what no lamp can have. {e}") from e
    return ImportedProfile(replace(profile, kept=dict(files)), reader.doubts)


class _OwnMode(msgspec.Struct):
    name: str
    breaks: list[str] = []
    backdrop: Backdrop | None = None


class _OwnFacts(msgspec.Struct):
    modes: list[_OwnMode]


def _with_own_facts(profile: Profile, own: bytes) -> Profile:
    """What a file of our own in the archive adds to modes that are still the same; if it is damaged, nothing."""
    try:
        facts = msgspec.json.decode(own[:MOST_OWN], type=_OwnFacts)
    except (msgspec.MsgspecError, ValueError, RecursionError):
        return profile
    modes = dict(profile.modes)
    for (key, mode), said in zip(profile.modes.items(), facts.modes):
        if said.name == mode.name:
            names = said.breaks if len(said.breaks) == len(mode.breaks) else [b.name for b in mode.breaks]
            breaks = tuple(replace(b, name=n) for b, n in zip(mode.breaks, names))
            modes[key] = replace(mode, breaks=breaks, backdrop=said.backdrop)
    return replace(profile, modes=modes)


def _unpack_gdtf(data: bytes, name: str) -> dict[str, bytes]:
    """All files of the archive, within bounds."""
    files = unpack_archive(data, name, BOUNDS, "is no GDTF file, or is damaged ({why}).", lambda inside: True)
    if DESCRIPTION not in files:
        raise RigFileError(f"{name} is a ZIP without {DESCRIPTION}; it is no GDTF file.")
    return files


def parse_xml(data: bytes, name: str, entry: str = DESCRIPTION) -> _Element:
    """The root element, without entities, network or huge trees. Raises RigFileError."""
    from lxml import etree

    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True
    )
    try:
        root = etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as e:
        raise RigFileError(f"{name}: {entry} is damaged: {str(e)[:160]}.") from e
    if root.getroottree().docinfo.internalDTD is not None:
        raise RigFileError(f"{name}: {entry} declares entities or a document type; that is never needed, and refused.")
    return root


class _Place(Struct, frozen=True):
    """One instance of a geometry: which pixel it is (0: the lamp), its breaks as offset by number, where it sits."""

    pixel: int
    breaks: tuple[tuple[int, int], ...]
    x: float
    y: float
    z: float


class _Type:
    def __init__(self, node: _Element, name: str) -> None:
        self.node = node
        self.name = name
        self.doubts: list[Doubt] = []
        self.units = {
            a.get("Name", ""): UNITS.get(a.get("PhysicalUnit", ""), "")
            for a in node.iterfind("AttributeDefinitions/Attributes/Attribute")
        }
        self.wheels = {
            w.get("Name", ""): [(s.get("Name", ""), cie_to_hex(s.get("Color"))) for s in w.iterfind("Slot")]
            for w in node.iterfind("Wheels/Wheel")
        }
        self.tops = {g.get("Name", ""): g for g in node.iterfind("Geometries/*")}

    def note_doubt(self, where: str, message: str) -> None:
        if len(self.doubts) < 200:
            self.doubts.append(Doubt(where, message))

    def make_profile(self) -> Profile:
        n = self.node
        modes: dict[str, Mode] = {}
        for i, m in enumerate(n.iterfind("DMXModes/DMXMode"), 1):
            if i > 200:
                self.note_doubt("DMXModes", "More than 200 modes; the rest is kept in the file only.")
                break
            modes[f"m{i}"] = self.read_mode(m)
        if not modes:
            raise RigFileError(f"{self.name}: the fixture type has no DMX modes.")
        for tag, words in (
            ("FTPresets/*", "presets"),
            ("Protocols/*", "protocols"),
            ("PhysicalDescriptions/Emitters/*", "emitters"),
            ("PhysicalDescriptions/Filters/*", "filters"),
        ):
            count = len(n.findall(tag))
            if count:
                self.note_doubt(tag.split("/")[0], f"{count} {words} are kept in the file and not shown.")
        last = [r.get("Text", "") for r in n.iterfind("Revisions/Revision")]
        title = n.get("LongName") or n.get("Name") or "unnamed fixture"
        return Profile(
            name=(n.get("Name") or title)[:80],
            maker=n.get("Manufacturer", "")[:80],
            code="",
            notes=n.get("Description", "")[:2000],
            revision=(last[-1] if last else "")[:80],
            source=f"gdtf:{n.get('FixtureTypeID', '') or title}",
            facts=self.read_facts(),
            modes=modes,
        )

    def read_facts(self) -> Facts | None:
        beam = next(self.node.iter("Beam"), None)
        model = next((m for m in self.node.iterfind("Models/Model")), None)
        weight = self.node.find("PhysicalDescriptions/Properties/Weight")

        def number(node: _Element | None, key: str, times: float = 1.0, most: float = 1e5) -> float:
            if node is None:
                return 0.0
            try:
                value = float(node.get(key, "0")) * times
            except ValueError:
                self.note_doubt(f"{node.tag} {node.get('Name', '')}", f"{key} “{node.get(key)}” is no number.")
                return 0.0
            return min(most, max(0.0, value)) if math.isfinite(value) else 0.0

        made = Facts(
            beam=BEAMS.get(beam.get("BeamType", ""), "") if beam is not None else "",  # type: ignore[arg-type]
            angle=number(beam, "BeamAngle", most=360),
            kelvin=number(beam, "ColorTemperature", most=50000),
            watts=number(beam, "PowerConsumption", most=1e6),
            width=number(model, "Length", 1000),
            depth=number(model, "Width", 1000),
            height=number(model, "Height", 1000),
            weight=number(weight, "Value", most=1e4),
        )
        return made if made != Facts() else None

    # ---- geometry

    def places_of_geometries(self, mode: _Element, where: str) -> dict[str, list[_Place]]:
        """Every geometry reachable from the mode's root, with its instances; references count up the pixels."""
        root = self.tops.get(mode.get("Geometry", ""))
        found: dict[str, list[_Place]] = defaultdict(list)
        if root is None:
            self.note_doubt(
                where, f"geometry “{mode.get('Geometry')}” does not exist; its channels are taken as the whole lamp's."
            )
            return found
        counter = 0
        driven = {c.get("Geometry", "") for c in mode.iterfind("DMXChannels/DMXChannel")}
        stack: list[tuple[_Element, tuple[float, float, float]]] = [(root, (0.0, 0.0, 0.0))]
        steps = 0
        while stack:
            g, (ox, oy, oz) = stack.pop()
            steps += 1
            if steps > 20_000:
                self.note_doubt(where, "more than 20 000 geometries; the rest is left out.")
                break
            x, y, z = (a + b for a, b in zip((ox, oy, oz), self._read_position(g, where)))
            if g.tag == "GeometryReference":
                template = self.tops.get(g.get("Geometry", ""))
                if template is None:
                    self.note_doubt(
                        where, f"reference “{g.get('Name')}” points to “{g.get('Geometry')}”, which does not exist."
                    )
                    continue
                names = [
                    t.get("Name", "") for t in template.iter() if isinstance(t.tag, str) and t.tag not in ("Break",)
                ]
                if not driven & set(names):
                    continue
                counter += 1
                breaks = tuple(
                    (self._read_integer(b, "DMXBreak", 1), self._read_integer(b, "DMXOffset", 1))
                    for b in g.iterfind("Break")
                ) or ((1, 1),)
                for inner in names:
                    found[inner].append(_Place(counter, breaks, x, y, z))
                continue
            found[g.get("Name", "")].append(_Place(0, (), x, y, z))
            stack += [
                (child, (x, y, z)) for child in reversed(list(g)) if isinstance(child.tag, str) and child.tag != "Break"
            ]
        return found

    def _read_position(self, g: _Element, where: str) -> tuple[float, float, float]:
        try:
            return read_matrix(g.get("Position"))
        except ValueError as e:
            self.note_doubt(where, f"{g.get('Name', g.tag)}: {e}; taken as in place.")
            return 0.0, 0.0, 0.0

    def _read_integer(self, node: _Element, key: str, default: int) -> int:
        try:
            return int(node.get(key, default))
        except ValueError:
            self.note_doubt(f"{node.tag}", f"{key} “{node.get(key)}” is no number; taken as {default}.")
            return default

    # ---- modes and channels

    def read_mode(self, node: _Element) -> Mode:
        name = node.get("Name", "") or "unnamed"
        where = f"mode “{name}”"
        places = self.places_of_geometries(node, where)
        single = {p.pixel for ps in places.values() for p in ps} == {0, 1}
        raw: list[tuple[int, Channel, str]] = []
        for c in node.iterfind("DMXChannels/DMXChannel"):
            for item in self.read_channel(c, places, where):
                raw.append(item)
                if len(raw) > MOST_CHANNELS:
                    break
            if len(raw) > MOST_CHANNELS:
                self.note_doubt(where, f"more than {MOST_CHANNELS} channels; the rest is left out.")
                break
        numbers = sorted({b for b, _, _ in raw}) or [1]
        channels = [replace(c, break_no=numbers.index(b), pixel=0 if single else c.pixel) for b, c, _ in raw]
        names = {id(c): full for c, (_, _, full) in zip(channels, raw)}
        channels = self.clean_channels(channels, where)
        breaks = tuple(
            Break(
                name="" if len(numbers) == 1 else f"break {b}",
                slots=max((s for c in channels if c.break_no == i for s in c.slots), default=0),
            )
            for i, b in enumerate(numbers)
        )
        order = sorted(channels, key=lambda c: (c.break_no, c.slots[0]))
        full = [names.get(id(c), "") for c in order]
        made = with_shorts(order)
        made = self.read_relations(node, made, full, where)
        spots = () if single else self.spots_on_face(places)
        pixels = max((c.pixel for c in made), default=0)
        macros = len(node.findall("FTMacros/FTMacro"))
        if macros:
            self.note_doubt(where, f"{macros} macros are kept in the file and not shown.")
        return Mode(
            name=name[:80],
            note=node.get("Description", "")[:500],
            breaks=breaks or (Break(),),
            channels=made,
            spots=spots if len(spots) == pixels else (),
        )

    def clean_channels(self, channels: list[Channel], where: str) -> list[Channel]:
        """Leave out what lies past 4096, and tell what lies on each other."""
        kept: list[Channel] = []
        taken: dict[tuple[int, int], str] = {}
        for c in channels:
            if max(c.slots) > 4096 or min(c.slots) < 1:
                self.note_doubt(where, f"{word_for(c.function)} lies on slot {max(c.slots)}; left out.")
                continue
            for s in c.slots:
                if (c.break_no, s) in taken:
                    self.note_doubt(
                        where,
                        f"slot {s} of break {c.break_no + 1} is both {taken[c.break_no, s]} and "
                        f"{word_for(c.function)}.",
                    )
                taken[c.break_no, s] = word_for(c.function)
            kept.append(c)
        return kept

    def read_channel(
        self, node: _Element, places: dict[str, list[_Place]], where: str
    ) -> Iterator[tuple[int, Channel, str]]:
        """Break number, channel and full name of every instance of one DMXChannel."""
        geometry = node.get("Geometry", "")
        logical = node.findall("LogicalChannel")
        attribute = logical[0].get("Attribute", "") if logical else ""
        full = f"{geometry}_{attribute}"
        here = f"{where}, channel {full}"
        offset = node.get("Offset", "")
        if not offset.strip() or offset.strip() == "None":
            self.note_doubt(here, "is virtual: it takes no slots, and is kept in the file only.")
            return
        try:
            offsets = [int(o) for o in offset.split(",")]
        except ValueError:
            self.note_doubt(here, f"Offset “{offset}” is no list of slots; left out.")
            return
        if len(offsets) > 4 or len(set(offsets)) != len(offsets):
            self.note_doubt(
                here, f"takes {len(offsets)} slots ({offset}); Welvo knows one to four different ones. Left out."
            )
            return
        made = self.read_functions(node, logical, attribute, len(offsets), here)
        instances = places.get(geometry) or []
        if not instances:
            if places:
                self.note_doubt(here, f"geometry “{geometry}” is not part of this mode; taken as the whole lamp's.")
            instances = [_Place(0, (), 0, 0, 0)]
        overwrite = node.get("DMXBreak", "1") == "Overwrite"
        for p in instances:
            number = (
                p.breaks[-1][0]
                if overwrite and p.breaks
                else (1 if overwrite else self._read_integer(node, "DMXBreak", 1))
            )
            ahead = next((o for b, o in (reversed(p.breaks) if overwrite else p.breaks) if b == number), 1) - 1
            slots = tuple(o + ahead for o in offsets)
            if min(slots) < 1 or max(slots) > 4096:
                self.note_doubt(here, f"lies on slot {max(slots)}; left out.")
                continue
            yield number, replace(made, slots=slots, pixel=min(10000, p.pixel)), full

    def read_functions(
        self, node: _Element, logical: list[_Element], attribute: str, width: int, where: str
    ) -> Channel:
        """What the channel does: its first attribute, and every function and set as ranges."""
        if not logical:
            self.note_doubt(where, "has no logical channel; not described.")
            return Channel(function="", name=node.get("Geometry", ""), slots=tuple(range(1, width + 1)))
        top = 256**width - 1
        function = function_of(attribute)
        if attribute not in BY_KEY and not function.startswith("own:") and attribute not in self.units:
            self.note_doubt(where, f"attribute “{attribute}” is defined nowhere; kept by its name.")
        entries: list[tuple[int, _Element, _Element]] = []
        for lc in logical:
            if lc is not logical[0] and lc.get("Attribute") != attribute:
                self.note_doubt(
                    where, f"also is {word_for(lc.get('Attribute', ''))} in part of its values; shown as a range."
                )
            for cf in lc.iterfind("ChannelFunction"):
                entries.append((self._read_dmx_value(cf, "DMXFrom", width, where) or 0, lc, cf))
                if cf.get("ModeMaster"):
                    self.note_doubt(
                        where,
                        f"function “{cf.get('Name', '')}” depends on {cf.get('ModeMaster')}; the condition is kept "
                        "in the file only.",
                    )
        entries.sort(key=lambda e: e[0])
        initial = self._find_initial_function(node, entries)
        default = self._read_dmx_value(initial, "Default", width, where) if initial is not None else None
        if default is None:
            default = self._read_dmx_value(node, "Default", width, where)
        highlight = self._read_dmx_value(node, "Highlight", width, where)
        ranges: list[Range] = []
        for n, (first, lc, cf) in enumerate(entries):
            last = max(first, (entries[n + 1][0] - 1) if n + 1 < len(entries) else top)
            ranges += self.read_channel_sets(cf, lc, first, last, width, len(entries) > 1, where)
        low = high = None
        if len(entries) == 1 or all(cf.get("Attribute", attribute) == attribute for _, _, cf in entries[:1]):
            if len(entries) == 1:
                cf = entries[0][2]
                low, high = self._read_float(cf, "PhysicalFrom"), self._read_float(cf, "PhysicalTo")
        first_lc = logical[0]
        master = first_lc.get("Master", "None")
        follows = family_of(function) in ("intensity", "colour", "shutter")
        return Channel(
            function=function if attribute else "",
            name="" if attribute else node.get("Geometry", ""),
            slots=tuple(range(1, width + 1)),
            default=default or 0,
            highlight=highlight,
            snap=first_lc.get("Snap", "No") in ("Yes", "On"),
            master="auto" if (master != "None") == follows else ("yes" if master != "None" else "no"),
            low=low,
            high=high,
            unit=self.units.get(attribute, "") if low is not None else "",
            ranges=tuple(ranges),
        )

    def _find_initial_function(self, node: _Element, entries: list[tuple[int, _Element, _Element]]) -> _Element | None:
        wanted = node.get("InitialFunction", "").rsplit(".", 1)[-1]
        return next((cf for _, _, cf in entries if cf.get("Name") == wanted), entries[0][2] if entries else None)

    def read_channel_sets(
        self, cf: _Element, lc: _Element, first: int, last: int, width: int, several: bool, where: str
    ) -> list[Range]:
        """Ranges of one function: its named sets, or itself when it is one of several."""
        attribute = cf.get("Attribute", "") or lc.get("Attribute", "")
        low, high = self._read_float(cf, "PhysicalFrom"), self._read_float(cf, "PhysicalTo")
        wheel = self.wheels.get(cf.get("Wheel", ""), [])
        starts = sorted(
            ((self._read_dmx_value(s, "DMXFrom", width, where) or 0, s) for s in cf.iterfind("ChannelSet")),
            key=lambda x: x[0],
        )
        named = [s for s in starts if s[1].get("Name", "").strip()]
        if not named:
            if not several:
                return []
            word = word_for(function_of(attribute))
            name = cf.get("Name", "").strip()
            words = word if not name or name.startswith(attribute) else name
            return [self._make_range(first, last, words, low, high, attribute, "")]
        found = []
        for n, (at, s) in enumerate(starts):
            end = (starts[n + 1][0] - 1) if n + 1 < len(starts) else last
            if not s.get("Name", "").strip() or end < at:
                continue
            slot = self._read_integer(s, "WheelSlotIndex", 0)
            light = wheel[slot - 1][1] if 1 <= slot <= len(wheel) else ""
            a, b = self._read_float(s, "PhysicalFrom"), self._read_float(s, "PhysicalTo")
            found.append(self._make_range(at, min(end, last), s.get("Name", "").strip(), a, b, attribute, light))
        return found

    def _make_range(
        self, first: int, last: int, name: str, low: float | None, high: float | None, attribute: str, light: str
    ) -> Range:
        does, guessed = hint_of_name(name)
        if not does and "Strobe" in attribute:
            does = "strobe"
        light = light or guessed
        return Range(
            first=first,
            last=last,
            name=name[:80],
            does=does,
            low=low if high is not None else None,
            high=high if low is not None else None,
            light=light if does in ("colour", "") else "",
            hold=hold_of(name) if does == "reset" else 0.0,
        )

    def _read_dmx_value(self, node: _Element, key: str, width: int, where: str) -> int | None:
        try:
            return read_dmx_value(node.get(key), width)
        except ValueError as e:
            self.note_doubt(where, f"{key}: {e}; left out.")
            return None

    def _read_float(self, node: _Element, key: str) -> float | None:
        try:
            value = float(node.get(key, ""))
        except ValueError:
            return None
        return value if math.isfinite(value) else None

    def read_relations(
        self, node: _Element, channels: tuple[Channel, ...], full: list[str], where: str
    ) -> tuple[Channel, ...]:
        """What keeps a channel dark, where the file says it: a relation that multiplies."""
        needs: dict[str, list[str]] = defaultdict(list)
        other = 0
        for r in node.iterfind("Relations/Relation"):
            if r.get("Type") == "Multiply":
                needs[r.get("Follower", "").split(".")[0]].append(r.get("Master", "").split(".")[0])
            else:
                other += 1
        if other:
            self.note_doubt(where, f"{other} relations that override are kept in the file and not shown.")
        by_name: dict[str, list[Channel]] = defaultdict(list)
        for c, name in zip(channels, full):
            by_name[name].append(c)
        made = []
        for c, name in zip(channels, full):
            masters = [x.short for m in needs.get(name, ()) for x in by_name.get(m, ()) if x.pixel in (0, c.pixel)]
            made.append(replace(c, needs=tuple(dict.fromkeys(masters))) if masters else c)
        return tuple(made)

    def spots_on_face(self, places: dict[str, list[_Place]]) -> tuple[Spot, ...]:
        """Places of the pixels on the face, in pitches; empty when the file puts them all into one spot."""
        by_pixel: dict[int, _Place] = {}
        for ps in places.values():
            for p in ps:
                if p.pixel:
                    by_pixel.setdefault(p.pixel, p)
        points = [by_pixel[n] for n in sorted(by_pixel)]
        if len(points) < 2 or len(points) > 10_000:
            return ()
        flat = max(p.y for p in points) - min(p.y for p in points) < 1e-9
        xy = [(p.x, -p.z if flat else -p.y) for p in points]
        distances = [math.dist(a, b) for a, b in itertools.pairwise(xy) if math.dist(a, b) > 1e-9]
        if not distances:
            return ()
        pitch = min(distances)
        if max(abs(v) for point in xy for v in point) / pitch > FARTHEST_SPOT / 2:
            return ()  # two pixels all but on each other: such a face cannot be drawn
        x0, y0 = min(x for x, _ in xy), min(y for _, y in xy)
        return tuple(Spot(x=round((x - x0) / pitch, 4), y=round((y - y0) / pitch, 4)) for x, y in xy)
