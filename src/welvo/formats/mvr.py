"""Reads scenes (MVR, DIN SPEC 15801): GeneralSceneDescription.xml and fixture types inside a ZIP. Hostile files are
refused.

Of a scene Welvo holds the fixtures: number, name, mode, addresses, where they hang, position, layer and class. All else
(trusses, models, focus points, groups, what other programs added) stays in the archive, which travels with the rig and
is written back around the fixtures (`formats.mvr_write`).
"""

from __future__ import annotations

import re
import uuid as uuids
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt
from msgspec import Struct

from welvo.formats.archive import ArchiveBounds, unpack_archive
from welvo.formats.files import RigFileError, read_bytes, shown_name
from welvo.formats.gdtf import ImportedProfile, loads_gdtf, parse_xml
from welvo.rig.notation import say_thousands
from welvo.rig.patched import Turn
from welvo.rig.steps import take_step

if TYPE_CHECKING:
    from lxml.etree import _Element

SCENE = "GeneralSceneDescription.xml"
MOST_FILE = 192 * 2**20
BOUNDS = ArchiveBounds("a scene", 768 * 2**20, 64 * 2**20, 20_000, lambda inside: inside == SCENE)
MOST_FIXTURES, MOST_NODES, MOST_TYPES = 20_000, 400_000, 1000
"""Fixtures, objects of any kind that are looked through for them, and fixture types that they name."""
Matrix = npt.NDArray[np.float64]
"""4 × 3: the three axes, then the offset in millimetres. A point is a row that is multiplied from the left."""
_SPACE = uuids.uuid5(uuids.NAMESPACE_OID, "welvo scene")
IDENTITY: Matrix = np.vstack([np.eye(3), np.zeros(3)])


class SceneFixture(Struct, frozen=True):
    """One fixture of a scene. `addresses` are (break, universe, address); `spot` is metres from the left, from the
    front, above the floor."""

    uuid: str
    name: str
    number: int
    spec: str
    mode: str
    addresses: tuple[tuple[int, int, int], ...] = ()
    spot: tuple[float, float, float] | None = None
    position: str = ""
    layer: str = ""
    kind: str = ""
    turns: tuple[Turn, ...] = ()


@dataclass
class SceneFile:
    """A scene that was read: its fixtures, its fixture types by the name in the archive, and what was doubtful."""

    name: str
    data: bytes
    fixtures: list[SceneFixture]
    types: dict[str, ImportedProfile]
    doubts: list[str] = field(default_factory=list)


def read_mvr(path: Path) -> SceneFile:
    """Open an `.mvr` file. Raises RigFileError with the reason."""
    return loads_mvr(read_bytes(path, MOST_FILE, "a scene"), shown_name(path))


def loads_mvr(data: bytes, name: str = "the file") -> SceneFile:
    files = unpack_archive(
        data,
        name,
        BOUNDS,
        "is no scene, or is damaged ({why}).",
        lambda inside: inside == SCENE or inside.lower().endswith(".gdtf"),
    )
    root = scene_root(files, name)
    doubts: list[str] = []
    found: list[SceneFixture] = []
    for fixture in _read_fixtures(root, doubts, name):
        found.append(fixture)
        if len(found) > MOST_FIXTURES:
            raise RigFileError(f"{name} holds more than {say_thousands(MOST_FIXTURES)} fixtures, and was not read.")
    named = list(dict.fromkeys(f.spec for f in found if f.spec))
    if len(named) > MOST_TYPES:
        raise RigFileError(f"{name} names more than {say_thousands(MOST_TYPES)} fixture types, and was not read.")
    entries = {_stem_of_entry(k): k for k in reversed(files)}  # of several of one name the first
    types: dict[str, ImportedProfile] = {}
    for n, spec in enumerate(named):
        take_step("fixture types", n, len(named), every=1)
        entry = entries.get(_stem_of_entry(spec.strip()))
        if not entry:
            continue
        try:
            types[spec] = loads_gdtf(files[entry], spec)
        except RigFileError as e:
            doubts.append(str(e))
    return SceneFile(name, data, found, types, doubts)


def scene_root(files: dict[str, bytes], name: str) -> _Element:
    """The root of a scene's description. Raises RigFileError."""
    if SCENE not in files:
        raise RigFileError(f"{name} is a ZIP without {SCENE}; it is no scene.")
    root = parse_xml(files[SCENE], name, SCENE)
    if root.tag != "GeneralSceneDescription" or root.find("Scene") is None:
        raise RigFileError(f"{name}: {SCENE} holds no scene.")
    return root


def _stem_of_entry(entry: str) -> str:
    """What a fixture type is called, in the archive and by a fixture."""
    return entry.rpartition("/")[2].lower().removesuffix(".gdtf")


def _text_of_tag(node: _Element, tag: str) -> str:
    found = node.find(tag)
    return (found.text or "").strip() if found is not None else ""


def scene_uuid(kind: str, words: str) -> str:
    """A UUID that is the same whenever the same rig is written."""
    return str(uuids.uuid5(_SPACE, f"{kind}/{words}")).upper()


def names_in_scene(root: _Element, tag: str) -> dict[str, str]:
    """Names by UUID of the scene's positions or classes."""
    return {(n.get("uuid") or "").upper(): n.get("name") or "" for n in root.iterfind(f"Scene/AUXData/{tag}")}


def walk_fixtures(root: _Element, name: str = "the file") -> Iterator[tuple[_Element, str, Matrix]]:
    """Every fixture of a scene, with the name of its layer and the transform of what it stands in. Raises RigFileError
    for one that no show has the size of."""
    seen = 0
    for layer in root.iterfind("Scene/Layers/Layer"):
        stack = [(layer, IDENTITY)]
        while stack:
            seen += 1
            take_step("objects", seen)
            if seen > MOST_NODES:
                raise RigFileError(f"{name} holds more than {say_thousands(MOST_NODES)} objects, and was not read.")
            node, outer = stack.pop()
            if node.tag == "Fixture":
                yield node, layer.get("name") or "", outer
            children = node.find("ChildList")
            if children is not None:
                inner = combine_transforms(matrix_of(node), outer)
                stack += [(child, inner) for child in reversed(children) if isinstance(child.tag, str)]


def matrix_of(node: _Element) -> Matrix:
    """`{u}{v}{w}{o}` of a node; without one, or with one that makes no sense, nothing is turned or moved."""
    numbers = re.findall(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?", _text_of_tag(node, "Matrix"))
    if len(numbers) != 12:
        return IDENTITY
    made = np.array([float(n) for n in numbers]).reshape(4, 3)
    return made if np.all(np.isfinite(made)) and np.all(np.abs(made) < 1e8) else IDENTITY


def combine_transforms(inner: Matrix, outer: Matrix) -> Matrix:
    """A transform inside of another one."""
    return np.vstack([inner[:3] @ outer[:3], inner[3] @ outer[:3] + outer[3]])


def spot_of(matrix: Matrix) -> tuple[float, float, float]:
    """The offset in metres, to the millimetre."""
    x, y, z = (round(float(v) / 1000, 3) + 0.0 for v in matrix[3])
    return x, y, z


def number_of(node: _Element) -> int:
    """The number of a fixture; 0 where it has none that Welvo can hold."""
    for tag in ("FixtureIDNumeric", "FixtureID"):
        text = _text_of_tag(node, tag)
        if text.isascii() and text.isdecimal() and 1 <= int(text[:9]) <= 999_999 and len(text) < 9:
            return int(text)
    return 0


def addresses_of(node: _Element, doubts: list[str]) -> tuple[tuple[int, int, int], ...]:
    """(break, universe, address) of a fixture's DMX addresses, in the order of the breaks."""
    found = []
    for a in node.iterfind("Addresses/Address"):
        text = (a.text or "").strip()
        m = re.fullmatch(r"(?:(\d{1,5})\.)?(\d{1,9})", text)
        place = a.get("break") or "0"
        if not m or not re.fullmatch(r"\d{1,3}", place):
            if text:
                doubts.append(f"“{text[:30]}” of {node.get('name') or 'a fixture'} is no address.")
            continue
        universe, address = (int(m[1]), int(m[2])) if m[1] else divmod(int(m[2]) - 1, 512)
        if not m[1]:
            universe, address = universe + 1, address + 1
        if int(m[2]) == 0:
            continue  # not patched
        if not 1 <= universe <= 63999 or not 1 <= address <= 512:
            doubts.append(f"“{text[:30]}” of {node.get('name') or 'a fixture'} is out of reach.")
            continue
        found.append((int(place), universe, address))
    return tuple(sorted(found))


def _read_fixtures(root: _Element, doubts: list[str], name: str) -> Iterator[SceneFixture]:
    positions, classes = names_in_scene(root, "Position"), names_in_scene(root, "Class")
    for node, layer, outer in walk_fixtures(root, name):
        turns: list[Turn] = []
        if _text_of_tag(node, "DMXInvertPan").lower() == "true":
            turns.append("pan inverted")
        if _text_of_tag(node, "DMXInvertTilt").lower() == "true":
            turns.append("tilt inverted")
        yield SceneFixture(
            uuid=(node.get("uuid") or "").upper()[:80],
            name=(node.get("name") or "").strip()[:200],
            number=number_of(node),
            spec=_text_of_tag(node, "GDTFSpec"),
            mode=_text_of_tag(node, "GDTFMode"),
            addresses=addresses_of(node, doubts),
            spot=spot_of(combine_transforms(matrix_of(node), outer)) if node.find("Matrix") is not None else None,
            position=positions.get(_text_of_tag(node, "Position").upper(), "") or "",
            layer=layer,
            kind=classes.get(_text_of_tag(node, "Classing").upper(), "") or "",
            turns=tuple(turns),
        )
