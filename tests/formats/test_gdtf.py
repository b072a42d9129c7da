from __future__ import annotations

import io
import time
import zipfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import slowed
from tests.formats.gdtf_files import FILES, archive
from tests.formats.test_chart import texts
from welvo.demo.gallery import make_gallery
from welvo.formats.channel_csv import read_csv, write_csv
from welvo.formats.chart import read_chart
from welvo.formats.files import RigFileError
from welvo.formats.gdtf import ImportedProfile, loads_gdtf, read_gdtf
from welvo.formats.gdtf_terms import cie_to_hex, hex_to_cie, read_dmx_value, read_matrix, safe_gdtf_name
from welvo.formats.gdtf_write import _bare_mode, dumps_gdtf
from welvo.formats.rigfile import rig_from_bytes, rig_to_bytes
from welvo.rig.document import Rig, put_entries
from welvo.rig.profile import Facts, Mode, Profile, Range


def read(name: str) -> ImportedProfile:
    return loads_gdtf(archive(FILES[name]), name)


def only(name: str) -> Mode:
    return next(iter(read(name).profile.modes.values()))


def table(mode: Mode) -> list[tuple[str, tuple[int, ...], int, int]]:
    return [(c.function, c.slots, c.break_no, c.pixel) for c in mode.channels]


def test_there_are_ten_files_written_by_hand() -> None:
    assert len(FILES) == 10
    for name in FILES:
        assert read(name).profile.modes, name


def test_what_a_plain_dimmer_says() -> None:
    imported = read("dimmer")
    p, (c,) = imported.profile, only("dimmer").channels
    assert (p.name, p.maker, p.notes, p.revision) == ("Spot One", "Osmer", "by hand", "first") and imported.doubts == []
    assert (c.function, c.slots, c.highlight, c.master) == ("Dimmer", (1,), 255, "auto")
    assert p.facts == Facts(beam="wash", angle=40, kelvin=5600, watts=120)


def test_widths_defaults_and_physical_ranges() -> None:
    pan, tilt, zoom, dimmer = only("head").channels
    assert (pan.slots, pan.default, pan.low, pan.high, pan.unit) == (
        (1, 2),
        0x8080,
        -270,
        270,
        "°",
    )  # 128/1 is mirrored
    assert (tilt.default, tilt.low, zoom.default, zoom.high, dimmer.slots) == (32768, -132.5, 128, 45, (6,))


def test_fine_bytes_may_stand_anywhere() -> None:
    assert [(c.function, c.slots) for c in only("apart").channels] == [
        ("Pan", (1, 4)),
        ("Tilt", (2, 5)),
        ("Dimmer", (3,)),
    ]


def test_functions_and_sets_become_ranges_and_relations_what_keeps_it_dark() -> None:
    imported = read("shutter")
    shutter, dimmer, red = only("shutter").channels
    assert [(r.first, r.last, r.name, r.does) for r in shutter.ranges] == [
        (0, 9, "Closed", "closed"),
        (16, 239, "Strobe", "strobe"),
        (240, 255, "Open", "open"),
    ]
    assert (shutter.ranges[1].low, shutter.ranges[1].high, shutter.snap, shutter.default) == (1, 20, True, 255)
    assert red.needs == (dimmer.short,) and dimmer.needs is None
    assert any("override" in d.message for d in imported.doubts)


def test_wheels_give_ranges_their_light() -> None:
    white, red, spin = only("wheel").channels[0].ranges
    assert (white.first, white.last, red.first, red.last, spin.last) == (0, 19, 20, 127, 255)
    assert (
        red.light == "#ff0000"
        and white.light.startswith("#ff")
        and spin.does == "rotation"
        and (spin.low, spin.high) == (-10, 10)
    )


def test_references_become_pixels_in_place() -> None:
    mode = only("bar")
    assert mode.slots_needed == 44 and mode.count_pixels == 14
    assert [c.slots for c in mode.channels if c.pixel == 14] == [(42,), (43,), (44,)]
    assert [(s.x, s.y) for s in mode.spots[:8]] == [(0, 0), (1, 0), (2, 0), (3, 0), (4, 0), (5, 0), (6, 0), (0, 1)]
    assert [c.slots for c in only("planes").channels if c.pixel == 2] == [(2,), (6,), (10,)]


def test_breaks_are_patched_apart() -> None:
    mode = only("breaks")
    assert [b.slots for b in mode.breaks] == [3, 12]
    assert [c.slots for c in mode.channels if c.pixel == 3] == [(9,), (10,), (11,), (12,)] and {
        c.break_no for c in mode.channels if c.pixel
    } == {1}


def test_what_is_not_taken_over_is_told() -> None:
    imported = read("own")
    told = " / ".join(f"{d.where}: {d.message}" for d in imported.doubts)
    assert "channel Body_Dimmer: is virtual" in told and "1 macros" in told and "1 emitters" in told
    bubbles = only("own").channels[0]
    assert (
        bubbles.function == "Bubbles"
        and imported.profile.facts
        and imported.profile.facts.weight == 7.5
        and imported.profile.facts.width == 400
    )


def test_every_doubt_about_a_wrong_file_has_its_place() -> None:
    imported = read("wrong")
    told = [f"{d.where}: {d.message}" for d in imported.doubts]
    for says in (
        "“Gone”, which does not exist",
        "“Nowhere” is not part",
        "“x” is no list of slots",
        "“999/1” does not fit",
        "slot 2 of break 1 is both",
        "takes 5 slots",
        "“Mystery” is defined nowhere",
        "no 4 × 4 matrix",
        "mode “lost”: geometry “Nowhere” does not exist",
    ):
        assert any(says in t for t in told), says


@pytest.mark.parametrize("name", FILES)
def test_an_untouched_file_is_written_back_with_everything_it_held(name: str) -> None:
    data = archive(FILES[name], models__gltf__body=b"3D", thumbnail__png=b"\x89PNG")
    first = loads_gdtf(data).profile
    written, _ = dumps_gdtf(first)
    again = loads_gdtf(written).profile
    assert (
        again.modes == first.modes
        and again.kept.keys() == first.kept.keys()
        and again.kept["models/gltf/body"] == b"3D"
    )
    for tag in (b"<Wheel ", b"<Emitter ", b"<FTMacro ", b"Override"):
        assert (tag in first.kept["description.xml"]) == (tag in again.kept["description.xml"])


def test_a_changed_mode_is_written_anew_and_its_neighbours_are_not() -> None:
    first = read("own").profile
    mode = first.modes["m1"]
    changed = replace(
        first,
        modes={
            **first.modes,
            "m1": replace(mode, channels=(replace(mode.channels[0], default=77), *mode.channels[1:])),
        },
    )
    again = loads_gdtf(dumps_gdtf(changed)[0]).profile
    assert again.modes["m1"].channels[0].default == 77 and again.modes["m2"] == first.modes["m2"]
    more = replace(first, modes={**first.modes, "m3": read_chart("red, green, blue").mode_of_chart("new")})
    assert [m.name for m in loads_gdtf(dumps_gdtf(more)[0]).profile.modes.values()] == ["fun", "empty", "new"]


def test_the_demos_profiles_go_out_and_come_back() -> None:
    for p in make_gallery().profiles.values():
        data, _ = dumps_gdtf(p)
        back = loads_gdtf(data).profile
        for old, new in zip(p.modes.values(), back.modes.values()):
            if "draft" not in old.name:
                assert (
                    table(old)[:400]
                    == [
                        (f if f != "NoFeature" or g[0] else "", s, b, x)
                        for (f, s, b, x), g in zip(table(new), table(old))
                    ][:400]
                )
        with zipfile.ZipFile(io.BytesIO(data)) as z:
            assert set(z.namelist()) - {"welvo/facts.json"} == {"description.xml", "thumbnail.svg"}


@settings(max_examples=60, deadline=None)
@given(texts)
def test_any_chart_goes_through_gdtf(text: str) -> None:
    mode = read_chart(text).mode_of_chart("m")
    if not mode.channels or mode.count_pixels > 60:
        return
    back = next(iter(loads_gdtf(dumps_gdtf(Profile(name="X", modes={"m": mode}))[0]).profile.modes.values()))
    wanted = [(c.function or "NoFeature", c.slots, c.break_no, c.default, c.highlight) for c in mode.channels]
    used = sorted({c.break_no for c in mode.channels})
    wanted = sorted((f, s, used.index(b), d, h) for f, s, b, d, h in wanted)  # type: ignore[type-var]
    assert sorted((c.function, c.slots, c.break_no, c.default, c.highlight) for c in back.channels) == wanted  # type: ignore[type-var]


def test_what_gdtf_has_no_place_for_is_said() -> None:
    mode = read_chart("dimmer, wobble").mode_of_chart("m")
    odd = replace(
        mode,
        channels=(
            replace(
                mode.channels[0],
                release=5,
                ranges=(Range(first=0, last=20, name="a"), Range(first=10, last=30, name="b")),
            ),
            mode.channels[1],
        ),
    )
    told = " ".join(d.message for d in dumps_gdtf(Profile(name="X", modes={"m": odd}))[1])
    assert "release" in told and "overlaps" in told and "not described" in told


@pytest.mark.parametrize(
    ("xml", "says"),
    [
        (b'<!DOCTYPE x [<!ENTITY a "b">]><GDTF><FixtureType/></GDTF>', "declares entities"), (b"<GDTF>", "damaged"),
        (b"<other/>", "no GDTF fixture type"), (b'<GDTF><FixtureType Name="x"/></GDTF>', "no DMX modes"),
        (b"<GDTF>" + b"<a>" * 400 + b"</a>" * 400 + b"</GDTF>", "damaged|no GDTF"), (b"\x00\x01", "damaged"),
        (
            b'<!DOCTYPE l [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;&a;&a;">]><GDTF>&b;</GDTF>',
            "declares|damaged"
        ),
        (
            b'<!DOCTYPE g SYSTEM "file:///etc/hostname"><GDTF><FixtureType/></GDTF>',
            "declares|no DMX modes|document type"
        ),
    ],
)  # fmt: skip
def test_hostile_descriptions_are_refused(xml: bytes, says: str) -> None:
    with pytest.raises(RigFileError, match=says):
        loads_gdtf(archive(xml))


def test_hostile_archives_are_refused(tmp_path: Path) -> None:
    for data, says in (
        (b"", "no GDTF file"),
        (b"PK\x03\x04", "no GDTF file"),
        (archive(FILES["dimmer"])[:-40], "no GDTF file"),
    ):
        with pytest.raises(RigFileError, match=says):
            loads_gdtf(data)
    for files, says in (({"..__evil": b"x"}, "outside"), ({f"f{n}": b"" for n in range(2100)}, "more than a fixture")):
        with pytest.raises(RigFileError, match=says):
            loads_gdtf(archive(FILES["dimmer"], **files))
    with pytest.raises(RigFileError, match="a fixture type never needs that much"):
        loads_gdtf(archive(b"<GDTF>" + b" " * (100 << 20) + b"</GDTF>"))
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as z:
        z.writestr("other.xml", b"")
    with pytest.raises(RigFileError, match=r"without description\.xml"):
        loads_gdtf(buffer.getvalue())
    with pytest.raises(RigFileError, match="cannot be read"):
        read_gdtf(tmp_path / "missing.gdtf")


def test_deep_and_circular_geometries_end() -> None:
    loop = FILES["bar"].replace(
        b'<Beam Name="Cell"',
        b'<Geometry Name="Loop"><GeometryReference Name="again" Geometry="Loop"/></Geometry><Beam Name="Cell"',
    )
    begun = time.perf_counter()
    assert loads_gdtf(archive(loop)).profile.modes["m1"].count_pixels == 14
    assert time.perf_counter() - begun < slowed(5)


def test_values_matrices_and_colours() -> None:
    assert [
        read_dmx_value(t, w)
        for t, w in (("255/1", 2), ("255/1s", 2), ("128/1", 1), ("32768/2", 1), ("7", 1), ("None", 1), (None, 1))
    ] == [65535, 65280, 128, 128, 7, None, None]
    for bad in ("x", "256/1", "1/9", "-1/1"):
        with pytest.raises(ValueError, match="DMX value|does not fit"):
            read_dmx_value(bad, 1)
    assert read_matrix("{1,0,0,0.5}{0,1,0,-2}{0,0,1,3}{0,0,0,1}") == (0.5, -2, 3) and read_matrix(None) == (0, 0, 0)
    assert read_matrix("{1,0,0,0}{0,1,0,0}{0,0,1,0}{4,5,6,1}") == (4, 5, 6)
    for colour in ("#ff0000", "#00ff00", "#0000ff", "#ffffff"):
        assert all(
            abs(int(cie_to_hex(hex_to_cie(colour))[i : i + 2], 16) - int(colour[i : i + 2], 16)) <= 3 for i in (1, 3, 5)
        ), colour
    assert cie_to_hex("rubbish") == "" and safe_gdtf_name("a.b\nc") == "a b c"


def test_kept_files_travel_inside_the_rig_and_not_in_its_json(rig: Rig) -> None:
    profile = loads_gdtf(archive(FILES["wheel"], models__x=b"\x00" * 1000)).profile
    whole, _ = put_entries(rig, "", profiles={"g": profile})
    data = rig_to_bytes(whole)
    with zipfile.ZipFile(io.BytesIO(data)) as z:
        assert "kept/=g/=models%2Fx" in z.namelist() and b"AAAA" not in z.read("rig.json")
    assert rig_from_bytes(data) == whole


@settings(max_examples=80, deadline=None)
@given(texts, st.booleans())
def test_channel_tables_go_through_csv(text: str, semicolons: bool) -> None:
    mode = read_chart(text).mode_of_chart("m")
    if not mode.channels:
        return
    table_ = write_csv(mode)
    if semicolons and ";" not in table_ and '"' not in table_:
        table_ = table_.replace(",", ";")
    back, problems = read_csv("\ufeff" + table_, "m")
    bare = lambda m: [replace(c, break_no=0, name=c.name.lower()) for c in m.channels]  # noqa: E731
    assert bare(back) == bare(mode) and all("no function name" in p for p in problems)


def test_csv_that_is_wrong_is_told_row_by_row() -> None:
    mode, problems = read_csv("slots,function,default\n1,dimmer,0\n1,red,0\nx,blue,0\n3,green,999\n4,wobble,\n")
    assert [c.function for c in mode.channels] == ["Dimmer", ""] and [p[:6] for p in problems] == [
        "Row 3:",
        "Row 4:",
        "Row 5:",
        "Row 6:",
    ]
    for bad, says in (("", "first row"), ("a,b\n1,2", "slots"), ("slots\nx", "no row that is a channel")):
        with pytest.raises(RigFileError, match=says):
            read_csv(bad)


def test_bare_modes_ignore_what_gdtf_cannot_say() -> None:
    mode = only("shutter")
    assert _bare_mode(mode) == _bare_mode(replace(mode, pixel_shape="square"))
