"""Writes a rig as a scene (MVR, DIN SPEC 15801), around what the scenes held that it came from.

Each fixture is written into the node that carries its UUID, and only what is different there; a new one gets a node in
the layer its column names. A node whose fixture was taken out of the rig goes; one that never came in stays.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

import numpy as np

from welvo.formats.archive import pack_archive, unpack_archive
from welvo.formats.elements import child_node
from welvo.formats.gdtf_write import dumps_gdtf
from welvo.formats.mvr import (
    BOUNDS,
    IDENTITY,
    SCENE,
    Matrix,
    _text_of_tag,
    addresses_of,
    combine_transforms,
    matrix_of,
    names_in_scene,
    number_of,
    scene_root,
    scene_uuid,
    spot_of,
    walk_fixtures,
)
from welvo.formats.mvr_take import CLASS, LAYER
from welvo.patch.index import Index
from welvo.rig.document import HANG_POINT, Rig
from welvo.rig.edits import pack_profile
from welvo.rig.lookup import mode_of
from welvo.rig.notation import say_count
from welvo.rig.patched import Fixture

if TYPE_CHECKING:
    from lxml.etree import _Element

OWN_LAYER = "Rig"


def dumps_mvr(index: Index) -> tuple[bytes, list[str]]:
    """The bytes of an `.mvr`, and what could not be said in it. Raises RigFileError when a kept scene is damaged."""
    from lxml import etree

    rig = index.rig
    doubts: list[str] = []
    root, files = _base_scene(rig)
    writer = _Writer(index, root)
    specs = _write_types(rig, files, doubts)
    nodes = {(n.get("uuid") or "").upper(): (n, outer) for n, _, outer in walk_fixtures(root)}
    taken = {u for s in rig.scenes.values() for u in s.taken}
    mine = set()
    for key in sorted(rig.fixtures, key=lambda k: rig.fixtures[k].number):
        fixture = rig.fixtures[key]
        uuid = fixture.uuid or scene_uuid("fixture", key)
        mine.add(uuid)
        node, outer = nodes.get(uuid, (None, IDENTITY))
        if node is None:
            node, outer = writer.new_node(uuid, fixture), IDENTITY
        writer.write_fixture(node, outer, key, fixture, specs)
    for uuid, (node, _) in nodes.items():
        holder = node.getparent()
        if uuid in taken and uuid not in mine and holder is not None:
            holder.remove(node)
    if rig.elements:
        doubts.append(f"{say_count(len(rig.elements), 'element')} of pixels are no fixtures, and are not in the scene.")
    etree.indent(root)
    scene = etree.tostring(root, xml_declaration=True, encoding="UTF-8")
    return pack_archive([(SCENE, scene), *files.items()]), doubts


def _base_scene(rig: Rig) -> tuple[_Element, dict[str, bytes]]:
    """The scenes the rig came from as one, and their other files."""
    from lxml import etree

    root: _Element | None = None
    files: dict[str, bytes] = {}
    for kept in rig.scenes.values():
        entries = unpack_archive(kept.data, kept.name, BOUNDS, "is damaged ({why}).", lambda inside: True)
        one = scene_root(entries, kept.name)
        entries.pop(SCENE)
        for name, data in entries.items():
            files.setdefault(name, data)
        if root is None:
            root = one
            continue
        for part in ("AUXData", "Layers"):
            for node in one.iterfind(f"Scene/{part}/*"):
                known = {n.get("uuid") for n in root.iterfind(f"Scene/{part}/*")}
                if node.get("uuid") not in known:
                    child_node(child_node(root, "Scene"), part).append(node)
    if root is None:
        root = etree.Element("GeneralSceneDescription", verMajor="1", verMinor="6")
        etree.SubElement(root, "Scene")
    root.set("provider", "Welvo")
    scene = child_node(root, "Scene")
    aux, layers = child_node(scene, "AUXData"), child_node(scene, "Layers")
    scene.insert(0, aux)
    scene.insert(1, layers)
    return root, files


def _write_types(rig: Rig, files: dict[str, bytes], doubts: list[str]) -> dict[str, str]:
    """The fixture types in use, written along; their names in the archive by profile."""
    specs: dict[str, str] = {}
    for pid in dict.fromkeys(f.profile for f in rig.fixtures.values()):
        profile = rig.profiles[pid]
        plain = (re.sub(r"[^\w .-]", "-", w) for w in (profile.maker or "Unknown", profile.name))
        stem = "@".join(plain)
        name, n = f"{stem}.gdtf", 1
        while name in specs.values():
            n += 1
            name = f"{stem} {n}.gdtf"
        data, said = dumps_gdtf(pack_profile(rig, profile))
        doubts += [f"{profile.name}: {d}" for d in said[:2]]
        files[name] = data
        specs[pid] = name
    return specs


class _Writer:
    def __init__(self, index: Index, root: _Element) -> None:
        self._index, self._root = index, root
        self._layers: dict[str, Any] = {}
        for layer in root.iterfind("Scene/Layers/Layer"):
            self._layers.setdefault(layer.get("name") or "", layer)
        self._positions = {v: k for k, v in reversed(names_in_scene(root, "Position").items())}
        self._classes = {v: k for k, v in reversed(names_in_scene(root, "Class").items())}
        self._positions_by_id = names_in_scene(root, "Position")
        self._classes_by_id = names_in_scene(root, "Class")

    def new_node(self, uuid: str, fixture: Fixture) -> _Element:
        """A node for a fixture that no scene knows yet, in the layer that its column names."""
        from lxml import etree

        name = fixture.fields.get(LAYER, "") or OWN_LAYER
        layer = self._layers.get(name)
        if layer is None or not np.allclose(matrix_of(layer), IDENTITY):
            layer = etree.SubElement(
                child_node(child_node(self._root, "Scene"), "Layers"),
                "Layer",
                name=name,
                uuid=scene_uuid("layer", name),
            )
            self._layers[name] = layer
        return etree.SubElement(child_node(layer, "ChildList"), "Fixture", uuid=uuid, name=fixture.name)

    def write_fixture(self, node: _Element, outer: Matrix, key: str, fixture: Fixture, specs: dict[str, str]) -> None:
        rig = self._index.rig
        if (node.get("name") or "").strip() != fixture.name:
            node.set("name", fixture.name)
        self._write_place(node, outer, fixture)
        self._refer_by_name(
            node, "Classing", "Class", fixture.fields.get(CLASS, ""), self._classes, self._classes_by_id
        )
        mode = mode_of(rig, fixture)
        _set_text(node, "GDTFSpec", specs[fixture.profile])
        _set_text(node, "GDTFMode", mode.name if mode else "")
        self._refer_by_name(node, "Position", "Position", fixture.fields.get(HANG_POINT, ""), self._positions,
                  self._positions_by_id)  # fmt: skip
        for tag, turn in (("DMXInvertPan", "pan inverted"), ("DMXInvertTilt", "tilt inverted")):
            if (turn in fixture.turns) != (_text_of_tag(node, tag).lower() == "true"):
                _set_text(node, tag, "true" if turn in fixture.turns else "false")
        if number_of(node) != fixture.number:
            _set_text(node, "FixtureID", str(fixture.number))
            _set_text(node, "FixtureIDNumeric", str(fixture.number))
        if not _text_of_tag(node, "UnitNumber"):
            _set_text(node, "UnitNumber", "0")
        self._write_addresses(node, key)

    def _write_place(self, node: _Element, outer: Matrix, fixture: Fixture) -> None:
        own = matrix_of(node)
        if fixture.spot is None:
            return
        if node.find("Matrix") is not None and np.allclose(
            spot_of(combine_transforms(own, outer)), fixture.spot, atol=2e-3
        ):
            return
        try:
            offset = (np.array(fixture.spot) * 1000 - outer[3]) @ np.linalg.inv(outer[:3])
        except np.linalg.LinAlgError:
            return  # what it stands in is squeezed flat; where it hangs cannot be said in there
        made = np.vstack([own[:3], offset])
        _set_text(node, "Matrix", "".join("{" + ",".join(f"{v:.6f}" for v in line) + "}" for line in made), first=True)

    def _refer_by_name(
        self, node: _Element, tag: str, kind: str, name: str, by_name: dict[str, str], by_id: dict[str, str]
    ) -> None:
        """A reference to a position or a class by its name, which is made where the scene has none."""
        from lxml import etree

        if by_id.get(_text_of_tag(node, tag).upper(), "") == name:
            return
        if not name:
            gone = node.find(tag)
            if gone is not None:
                node.remove(gone)
            return
        uuid = by_name.get(name)
        if uuid is None:
            uuid = by_name[name] = scene_uuid(kind.lower(), name)
            by_id[uuid] = name
            etree.SubElement(child_node(child_node(self._root, "Scene"), "AUXData"), kind, uuid=uuid, name=name)
        _set_text(node, tag, uuid)

    def _write_addresses(self, node: _Element, key: str) -> None:
        from lxml import etree

        rig = self._index.rig
        wanted = tuple(
            (n, rig.universes[s.universe].number, s.first)
            for n, s in enumerate(s for s in self._index.spans_of(key) if s.offset == 0)
        )
        present = addresses_of(node, [])
        if [p[1:] for p in present] == [w[1:] for w in wanted]:
            return
        holder = child_node(node, "Addresses")
        for old in holder.findall("Address"):
            holder.remove(old)
        for n, universe, address in wanted:
            made = etree.SubElement(holder, "Address", attrib={"break": str(n)})
            made.text = str((universe - 1) * 512 + address)


def _set_text(node: _Element, tag: str, words: str, first: bool = False) -> None:
    from lxml import etree

    found = node.find(tag)
    if found is None:
        found = etree.Element(tag)
        node.insert(0, found) if first else node.append(found)
    if (found.text or "") != words:
        found.text = words
