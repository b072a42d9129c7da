"""Scenes: taken in, merged, written back around what Welvo does not hold; hostile ones refused."""

from __future__ import annotations

import io
import random
import time
import zipfile

import pytest
from lxml import etree
from msgspec.structs import replace

from tests.conftest import at, profile, slowed, small_rig
from welvo.demo.gallery import make_gallery
from welvo.formats.files import RigFileError
from welvo.formats.gdtf_write import dumps_gdtf
from welvo.formats.mvr import MOST_FIXTURES, SCENE, loads_mvr
from welvo.formats.mvr_take import take_scene
from welvo.formats.mvr_write import dumps_mvr
from welvo.formats.rigfile import rig_from_bytes, rig_to_bytes
from welvo.patch.arrange import FreeNumbers
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.patched import Fixture
from welvo.rig.references import broken_references

EEL = replace(profile("Eel", "dimmer, red, green, blue"), maker="Osmer")
"""A fixture type of 4 slots, in mode “only”."""

XML = """<?xml version="1.0" encoding="UTF-8"?>
<GeneralSceneDescription verMajor="1" verMinor="6" provider="Reef planner" providerVersion="2">
 <UserData><Data provider="Reef planner" ver="1"><Water level="3"/></Data></UserData>
 <Scene>
  <AUXData>
   <Class uuid="C0000000-0000-4000-8000-000000000001" name="Glow"/>
   <Position uuid="B0000000-0000-4000-8000-000000000001" name="Truss 1"/>
  </AUXData>
  <Layers>
   <Layer uuid="A0000000-0000-4000-8000-000000000001" name="Ceiling">
    <Matrix>{{1,0,0}}{{0,1,0}}{{0,0,1}}{{1000,0,4000}}</Matrix>
    <ChildList>
     <Truss uuid="D0000000-0000-4000-8000-000000000001" name="long truss">
      <Matrix>{{0,1,0}}{{-1,0,0}}{{0,0,1}}{{500,0,0}}</Matrix>
      <Geometries><Geometry3D fileName="truss.glb"/></Geometries>
      <ChildList>
       <Fixture uuid="F0000000-0000-4000-8000-000000000001" name="Eel left">
        <Matrix>{{1,0,0}}{{0,1,0}}{{0,0,1}}{{2000,0,-250}}</Matrix>
        <Classing>C0000000-0000-4000-8000-000000000001</Classing>
        <GDTFSpec>Osmer@Eel.gdtf</GDTFSpec><GDTFMode>only</GDTFMode>
        <Focus>E0000000-0000-4000-8000-000000000001</Focus>
        <DMXInvertPan>true</DMXInvertPan>
        <Position>B0000000-0000-4000-8000-000000000001</Position>
        <FixtureID>11</FixtureID><FixtureIDNumeric>11</FixtureIDNumeric><UnitNumber>3</UnitNumber>
        <Addresses><Address break="0">{absolute}</Address><Network geometry="ethernet_1" ipv4="127.0.0.9"/></Addresses>
       </Fixture>
      </ChildList>
     </Truss>
     <Fixture uuid="F0000000-0000-4000-8000-000000000002" name="Eel right">
      <Matrix>{{1,0,0}}{{0,1,0}}{{0,0,1}}{{0,3000,0}}</Matrix>
      <GDTFSpec>Osmer@Eel</GDTFSpec><GDTFMode>only</GDTFMode>
      <FixtureID>12</FixtureID><UnitNumber>0</UnitNumber>
      <Addresses><Address break="0">2.45</Address></Addresses>
     </Fixture>
     <Fixture uuid="F0000000-0000-4000-8000-000000000003" name="Puzzle">
      <GDTFSpec>Nobody@Knows.gdtf</GDTFSpec><GDTFMode>x</GDTFMode><FixtureID>S1</FixtureID><UnitNumber>0</UnitNumber>
     </Fixture>
    </ChildList>
   </Layer>
  </Layers>
 </Scene>
</GeneralSceneDescription>"""


def scene(absolute: str = "515", xml: str = XML, **files: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr(SCENE, xml.format(absolute=absolute))
        z.writestr("Osmer@Eel.gdtf", dumps_gdtf(EEL)[0])
        z.writestr("truss.glb", b"a model")
        for name, data in files.items():
            z.writestr(name, data)
    return out.getvalue()


def taken(rig: Rig, data: bytes) -> Rig:
    return take_scene(Index(rig), loads_mvr(data, "reef.mvr")).rig


def fixture(rig: Rig, number: int) -> Fixture:
    return next(f for f in rig.fixtures.values() if f.number == number)


def test_a_scene_into_an_empty_rig() -> None:
    found = take_scene(Index(Rig()), loads_mvr(scene(), "reef.mvr"))
    rig = found.rig
    assert [(r.state, r.who, r.after) for r in found.rows if r.state == "new"] == [
        ("new", "11", "2.003 Eel left"), ("new", "12", "2.045 Eel right"),
    ]  # fmt: skip  # 515 is 512 + 3
    assert [r.why for r in found.rows_in_state("refused")] == [
        "its fixture type Nobody@Knows.gdtf is not in the scene, nor in this rig"
    ]
    left, right = fixture(rig, 11), fixture(rig, 12)
    # 2000 along the truss's own x, which points to the back: 1000 + 500 from the left, 2000 from the front
    assert left.spot == (1.5, 2.0, 3.75) and right.spot == (1.0, 3.0, 4.0)
    assert left.fields == {"Hang point": "Truss 1", "Layer": "Ceiling", "Class": "Glow"} and right.fields == {
        "Layer": "Ceiling"
    }
    assert left.turns == ("pan inverted",) and left.uuid.endswith("0001") and rig.columns[-2:] == ("Layer", "Class")
    assert {u.number for u in rig.universes.values()} == {2} and not broken_references(rig)
    (eel,) = rig.profiles.values()
    assert (eel.maker, eel.name, [m.slots_needed for m in eel.modes.values()]) == ("Osmer", "Eel", [4])
    assert rig_from_bytes(rig_to_bytes(rig)) == rig  # the scene travels with the rig


def test_what_welvo_does_not_hold_is_written_back() -> None:
    rig = taken(Rig(), scene())
    rig, _ = edits.move_item(
        rig, next(k for k, f in rig.fixtures.items() if f.number == 11), 0, next(iter(rig.universes)), 100
    )
    data, _ = dumps_mvr(Index(rig))
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        assert {SCENE, "truss.glb", "Osmer@Eel.gdtf"} <= set(z.namelist()) and z.read("truss.glb") == b"a model"
        root = etree.fromstring(z.read(SCENE))
    assert root.find("UserData/Data/Water").get("level") == "3"  # type: ignore[union-attr]
    left = next(n for n in root.iter("Fixture") if n.get("name") == "Eel left")
    assert left.findtext("Addresses/Address") == "612" and left.find("Addresses/Network") is not None
    assert left.getparent().getparent().tag == "Truss"  # type: ignore[union-attr]
    assert left.findtext("Matrix") == "{1,0,0}{0,1,0}{0,0,1}{2000,0,-250}" and left.findtext("Focus", "").startswith(
        "E0"
    )
    assert left.findtext("UnitNumber") == "3"
    puzzle = next(n for n in root.iter("Fixture") if n.get("name") == "Puzzle")
    assert puzzle.findtext("FixtureID") == "S1"  # it never came in, so it stays
    again = take_scene(Index(rig), loads_mvr(data, "reef.mvr"))
    assert {r.state for r in again.rows} == {"same", "refused"}


def test_moved_new_and_removed_fixtures_are_in_the_scene_as_the_rig_has_them() -> None:
    rig = taken(Rig(), scene())
    keys = {f.number: k for k, f in rig.fixtures.items()}
    rig, _ = edits.set_fixtures(rig, "x", {keys[11]: {"spot": (4.0, 5.0, 6.0), "fields": {"Hang point": "Pole"}}})
    rig, _ = edits.take_out_items(rig, [keys[12]])
    lamp = rig.fixtures[keys[11]]
    new = replace(lamp, number=20, name="Third", uuid="", spot=(0.5, 0.0, 1.0), fields={"Layer": "Floor"}, turns=())
    rig = replace(rig, fixtures={**rig.fixtures, "n": new})
    data, _ = dumps_mvr(Index(rig))
    again = taken(Rig(), data)
    assert sorted(f.number for f in again.fixtures.values()) == [11, 20]
    assert fixture(again, 11).spot == (4.0, 5.0, 6.0) and fixture(again, 11).fields["Hang point"] == "Pole"
    assert fixture(again, 20).fields == {"Layer": "Floor"} and fixture(again, 20).spot == (0.5, 0.0, 1.0)
    assert fixture(again, 20).uuid and dumps_mvr(Index(rig))[0] == data  # the same rig, the same bytes


def test_a_scene_merges_into_a_rig_by_uuid_and_number() -> None:
    rig = taken(Rig(), scene())
    key = next(k for k, f in rig.fixtures.items() if f.number == 11)
    rig, _ = edits.set_fixtures(rig, "x", {key: {"note": "lens cracked", "number": 99}})
    found = take_scene(Index(rig), loads_mvr(scene("600"), "reef.mvr"))
    assert [(r.state, r.who) for r in found.rows] == [("changed", "11"), ("same", "12"), ("refused", "–")]
    back = found.rig.fixtures[key]
    assert (
        back.note == "lens cracked" and back.number == 11 and back.at[0].address == 88 and len(found.rig.profiles) == 1
    )
    hand = replace(
        small_rig(),
        fixtures={**small_rig().fixtures, "x": Fixture(number=12, name="Mine", profile="bar", mode="m", at=at(2, 300))},
    )
    merged = take_scene(Index(hand), loads_mvr(scene("1"), "reef.mvr"))
    by_number = {r.who: r for r in merged.rows}
    assert by_number["12"].state == "changed" and merged.rig.fixtures["x"].at[0].address == 45
    assert by_number["11"].meets == ("101",)  # 1.001 is taken in the small rig


def test_a_locked_address_stays() -> None:
    rig = taken(Rig(), scene())
    key = next(k for k, f in rig.fixtures.items() if f.number == 11)
    rig, _ = edits.lock_items(rig, [key], True)
    assert take_scene(Index(rig), loads_mvr(scene("600"), "reef.mvr")).rig.fixtures[key].at[0].address == 3


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"", "is no scene, or is damaged"), (b"PK\x03\x04", "is damaged"),
        (scene(xml="<a>{absolute}</a>"), "holds no scene"), (scene(xml="<GeneralSceneDescription>"), "is damaged"),
        (scene(xml="<!DOCTYPE a [<!ENTITY b 'c'>]><GeneralSceneDescription/>"), "declares entities"),
        (scene(**{"../evil": b"1"}), "points outside"),
    ],
)  # fmt: skip
def test_hostile_archives_are_refused(data: bytes, says: str) -> None:
    with pytest.raises(RigFileError, match=says):
        loads_mvr(data, "x.mvr")


def test_what_makes_no_sense_inside_is_told_and_loses_nothing_else() -> None:
    for text in ("99999999", "0.600", "x", "-4", "70000.1"):
        found = take_scene(Index(Rig()), loads_mvr(scene(text), "x.mvr"))
        assert fixture(found.rig, 11).at == () and fixture(found.rig, 12).at[0].address == 45 and found.doubts
    bent = XML.replace("{{1000,0,4000}}", "{{1e999,0,4000}}")
    assert fixture(taken(Rig(), scene(xml=bent)), 12).spot == (0.0, 3.0, 0.0)
    nothing = XML.replace("Osmer@Eel", "Nobody@Knows")
    with pytest.raises(Refused, match="holds no fixture that could be taken"):
        taken(Rig(), scene(xml=nothing))


def test_the_demo_rig_goes_out_and_comes_back_and_a_thousand_are_quick() -> None:
    rig = make_gallery()
    data, doubts = dumps_mvr(Index(rig))
    assert any("elements of pixels" in d for d in doubts)
    again = take_scene(Index(rig), loads_mvr(data, "hall.mvr"))
    states = [r.state for r in again.rows]
    assert states.count("refused") == 0 and states.count("new") == 0
    empty = taken(Rig(), data)
    index, back = Index(rig), Index(empty)
    wanted = sorted(
        (rig.universes[s.universe].number, s.first, s.last) for k in rig.fixtures for s in index.spans_of(k)
    )
    assert wanted == sorted(
        (empty.universes[s.universe].number, s.first, s.last) for k in empty.fixtures for s in back.spans_of(k)
    )
    lamp = replace(rig.fixtures["f101"], at=())
    many = replace(
        rig, fixtures={f"f{n}": replace(lamp, number=n + 1) for n in range(1000)}, groups={}, shares={}, devices={}
    )
    begun = time.monotonic()
    assert len(taken(Rig(), dumps_mvr(Index(many))[0]).fixtures) == 1000
    assert time.monotonic() - begun < slowed(20)


def crowd(count: int, each: str) -> bytes:
    """A scene of many fixtures; `each` says what is in one, by its number."""
    inside = "".join(f'<Fixture uuid="U{n}" name="x">{each.format(n=n)}</Fixture>' for n in range(1, count + 1))
    layer = f'<Layer name="l"><ChildList>{inside}</ChildList></Layer>'
    return scene(xml=f"<GeneralSceneDescription><Scene><Layers>{layer}</Layers></Scene></GeneralSceneDescription>")


EEL_AT = "<GDTFSpec>Osmer@Eel</GDTFSpec><GDTFMode>only</GDTFMode><Addresses><Address>{at}</Address></Addresses>"


@pytest.mark.parametrize("number, at", [("0", "1"), ("7", "1"), ("{n}", "{n}"), ("0", "{n}.1")])
def test_small_scenes_of_many_fixtures_are_worked_out_in_seconds(number: str, at: str) -> None:
    """Without numbers of their own each looked for a free one through all that the others had taken."""
    data = crowd(MOST_FIXTURES, f"<FixtureID>{number}</FixtureID>" + EEL_AT.replace("{at}", at))
    begun = time.process_time()
    found = take_scene(Index(Rig()), loads_mvr(data, "reef.mvr"))
    assert time.process_time() - begun < 40  # a bound that only what grows with the square meets
    numbers = [f.number for f in found.rig.fixtures.values()]
    assert len(set(numbers)) == len(numbers) == MOST_FIXTURES and not broken_references(found.rig)


def test_scenes_of_more_than_any_show_has_are_refused() -> None:
    for data, says in (
        (crowd(MOST_FIXTURES + 1, ""), "more than 20\u202f000 fixtures"),
        (crowd(1001, "<GDTFSpec>T{n}</GDTFSpec>"), "more than 1\u202f000 fixture types"),
        (crowd(1, "<ChildList>" + "<SceneObject/>" * 400_000 + "</ChildList>"), "more than 400\u202f000 objects"),
    ):
        with pytest.raises(RigFileError, match=f"reef.mvr .* {says}, and was not read"):
            loads_mvr(data, "reef.mvr")


def test_free_numbers_are_those_that_counting_finds() -> None:
    chance = random.Random(5)
    taken = {chance.randrange(1, 60) for _ in range(20)}
    numbers = FreeNumbers(taken)
    for _ in range(200):
        wanted = chance.randrange(1, 70)
        free = next(n for n in range(wanted, 1000) if n not in taken)
        assert numbers.at_or_above(wanted) == free and (wanted in numbers) == (wanted in taken)
        taken.add(free)
        numbers.take_number(free)
