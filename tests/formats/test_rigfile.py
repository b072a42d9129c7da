from __future__ import annotations

import io
import json
import os
import stat
import zipfile
from itertools import count
from pathlib import Path

import pytest
from msgspec.structs import replace

from welvo.demo.gallery import make_gallery
from welvo.formats.files import RigFileError, backup_of
from welvo.formats.plain import MOST_DEEP
from welvo.formats.rigfile import load_rig_file, rig_from_bytes, rig_schema, rig_to_bytes, save_rig_file, to_json
from welvo.patch.index import Index
from welvo.rig.document import FORMAT, Picture, Rig

CORPUS = Path(__file__).parent / "corpus"


def test_a_saved_rig_opens_as_the_same_values(rig: Rig, tmp_path: Path) -> None:
    whole = replace(make_gallery(), pictures={"k": Picture(name="manual.png", data=b"\x89PNG\x00\xff")})
    for name in ("a.welvo", "a.json"):
        save_rig_file(whole, tmp_path / name)
        assert load_rig_file(tmp_path / name) == whole
    with zipfile.ZipFile(tmp_path / "a.welvo") as z:
        assert set(z.namelist()) == {"rig.json", "pictures/=k"}
        assert z.read("rig.json").startswith(b'{\n "format": 7,\n "name": "Drift Gallery"')  # readable, format first
    assert rig_from_bytes(rig_to_bytes(rig)) == rig and rig_from_bytes(b"\xef\xbb\xbf" + to_json(rig)) == rig


def test_saving_keeps_the_former_file_and_never_half_writes(
    rig: Rig, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "hall.welvo"
    save_rig_file(rig, file)
    os.chmod(file, 0o640)
    save_rig_file(replace(rig, name="Second"), file)
    assert load_rig_file(backup_of(file)).name == "Test rig" and load_rig_file(file).name == "Second"
    assert stat.S_IMODE(file.stat().st_mode) == 0o640
    monkeypatch.setattr(os, "fsync", lambda _: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(RigFileError, match="No space left on device. Nothing was lost"):
        save_rig_file(replace(rig, name="Third"), file)
    assert load_rig_file(file).name == "Second" and sorted(p.name for p in tmp_path.iterdir()) == [
        "hall.welvo",
        "hall.welvo~",
    ]


def test_saving_where_nobody_may_write_says_so(rig: Rig, tmp_path: Path) -> None:
    with pytest.raises(RigFileError, match="could not be written"):
        save_rig_file(rig, tmp_path / "no such folder" / "a.welvo")


def test_every_older_format_of_the_corpus_opens() -> None:
    old = load_rig_file(CORPUS / "format-1.json")
    assert old.format == FORMAT
    assert (old.fixtures["f1"].at[0].universe, old.fixtures["f1"].at[0].address) == ("u1", 1)
    assert (old.fixtures["f2"].at[0].universe, old.fixtures["f2"].at[0].address) == ("u7", 100)
    assert old.fixtures["f3"].place_of_break(0).origin_of_place == "none" and old.elements["e1"].at.address == 101
    assert {(f.protocol, f.wire, f.universe) for f in old.feeds.values()} == {("sacn", 1, "u1"), ("artnet", 0, "u1")}
    assert [s.kind for s in old.senders.values()] == ["bench"]
    assert load_rig_file(CORPUS / "format-2.json").fixtures["f1"].at[0].address == 1
    new = load_rig_file(CORPUS / "format-3.json")
    assert new.fixtures["f1"].turns == ("pan inverted",) and new.fixtures["f1"].fields == {"Colour": "L201"}
    assert (
        new.groups["g1"].members == ("f1",)
        and new.uses[new.use].universes_off
        and new.columns == ("Hang point", "Colour")
    )
    runs = load_rig_file(CORPUS / "format-4.json")
    port = runs.devices["d1"].ports["1"]
    assert [s.kind for s in port.run] == ["pixels", "null", "pixels", "bridge", "lamps"] and port.pixels == 250
    assert runs.pixel_types["silk"].order == "GRB" and runs.line_metres == 200 and runs.senders["s1"].player == 0.8
    # a dimmer behind a converter was D, which is warm white in the one alphabet: it is V since format 5
    new_letters = load_rig_file(CORPUS / "format-5.json").devices["d1"].ports["1"].run[4].functions
    assert port.run[4].functions == new_letters == ("V", "R", "=128")
    # 100 + 90 pixels of 3 slots, the bridge behind them on slot 571: its address 7 is slot 577, 67 of the second
    # universe
    spans = Index(runs).spans_of("f1")
    assert [(s.universe, s.first) for s in spans] == [("u2", 67)]
    assert (new.feeds["w9"].protocol, new.feeds["w9"].keeps, new.feeds["w9"].rule) == ("ddp", False, "bare")


def test_what_this_version_does_not_know_is_written_back_where_it_stood(tmp_path: Path) -> None:
    save_rig_file(load_rig_file(CORPUS / "format-2.json"), tmp_path / "again.json")
    again = json.loads((tmp_path / "again.json").read_text())
    assert again["made_by"] == {"tool": "a script", "version": 3}
    profile = again["profiles"]["p1"]
    assert profile["weight_kg"] == 2.5 and profile["modes"]["m1"]["breaks"][0]["colour"] == "blue"
    assert (
        profile["modes"]["m1"]["channels"][0]["curve"] == "square"
        and again["fixtures"]["f1"]["at"][0]["hung"] == "truss 2"
    )


def zipped(**entries: bytes) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as z:
        for name, data in entries.items():
            z.writestr(name.replace("__", "."), data)
    return buffer.getvalue()


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"", "is empty"), (b"   ", "is empty"), (b"GIF89a", "neither a .welvo file nor JSON"),
        (b"\x00\x01\x02", "neither"), (b"[1]", "neither"), (b"{", "damaged JSON"), (b'{"format": 99}', "newer Welvo"),
        (b'{"format": "two"}', "must be a number"), (b'{"format": true}', "must be a number"),
        (b'{"format": 0}', "must be a number"), (b"PK\x03\x04 not a zip", "is damaged"),
        (zipped(other__json=b"{}"), "without rig.json"), (zipped(rig__json=b"{}")[:-30], "is damaged"),
        (b'{"name": 5}', "at name: Expected text, got a whole number"),
        (b'{"fixtures": []}', "at fixtures: Expected an object, got a list"),
        (b'{"universes": {"u1": {}}}', "missing required field “number”"),
        (
            b'{"universes": {"u": {"number": 1}},'
            b' "elements": {"e": {"name": "x", "at": {"universe": "u", "address": "513"}}}}',
            "elements.e"
        ), (b'{"universes": {"a": {"number": 1}, "b": {"number": 1}}}', "both have number 1"),
        (b'{"fixtures": {"f": {"number": 1, "profile": "p", "mode": "m"}}}', "not in the rig"),
        (
            b'{"senders": {"s": {"name": "x"}}, "universes": {"u": {"number": 1}},'
            b' "feeds": {"w": {"universe": "u", "sender": "s", "wire": 0}}}',
            "no sACN universe 0"
        ),
        (b'{"feeds": {"w": {"universe": "u", "sender": "s", "wire": 1}}}', "universe “u”, which is not in the rig"),
        (
            b'{"device_models": {"m": {"name": "x"}}, "devices": {"d": {"name": "x", "model": "m", "ip": "10.0.40"}}}',
            "3 parts"
        ), (b'{"devices": {"d": {"name": "x", "model": "nope"}}}', "of model “nope”"),
        (b'{"profiles": {"p": {"name": "x", "modes": {}}}}', "profiles.p.modes"),
        (b'{"a":' * 5000 + b"1" + b"}" * 5000, "nested deeper"), (b'{"name": "\xff"}', "no text in UTF-8"),
    ], ids=count(),  # an archive holds the time it was made: an id made of its bytes would change from run to run

)  # fmt: skip
def test_bad_files_are_refused_with_the_reason(data: bytes, says: str) -> None:
    with pytest.raises(RigFileError, match=says):
        rig_from_bytes(data)


def test_brackets_in_a_text_are_no_depth_and_real_depth_is_bounded_wherever_it_runs() -> None:
    assert rig_from_bytes(json.dumps({"note": "[{" * 3000}).encode()).note == "[{" * 3000
    for deep in (MOST_DEEP + 1, 100_000):
        with pytest.raises(RigFileError, match="nested deeper than any rig"):
            rig_from_bytes(b'{"a":' * deep + b"1" + b"}" * deep)
    assert rig_from_bytes(b'{"a":' * 60 + b"1" + b"}" * 60).extra is not None  # what is unknown is kept


def test_hostile_archives_are_refused() -> None:
    with pytest.raises(RigFileError, match="points outside"):
        rig_from_bytes(zipped(**{"rig__json": b"{}", "../evil": b"x"}))
    bomb = io.BytesIO()
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("rig.json", b"{}")
        for n in range(5):
            z.writestr(f"pictures/{n}", bytes(120 << 20))
    with pytest.raises(RigFileError, match="more than a rig can hold"):
        rig_from_bytes(bomb.getvalue())
    with pytest.raises(RigFileError, match="more than a rig can hold"):
        rig_from_bytes(zipped(**{f"pictures/{n}": b"" for n in range(5000)}))


def test_a_file_that_lies_about_its_size_is_refused() -> None:
    data = bytearray(zipped(rig__json=b'{"name": "' + b"x" * 5000 + b'"}'))
    for mark, at in ((b"PK\x03\x04", 22), (b"PK\x01\x02", 24)):  # the size it announces, in both headers
        start = data.index(mark) + at
        data[start : start + 4] = (20).to_bytes(4, "little")
    with pytest.raises(RigFileError):
        rig_from_bytes(bytes(data))


def test_files_that_cannot_be_read_say_so(tmp_path: Path) -> None:
    with pytest.raises(RigFileError, match="cannot be read"):
        load_rig_file(tmp_path / "missing.welvo")
    with pytest.raises(RigFileError):
        load_rig_file(tmp_path)
    with open(tmp_path / "huge.welvo", "wb") as f:
        f.truncate(300 << 20)
    with pytest.raises(RigFileError, match="300 MiB"):
        load_rig_file(tmp_path / "huge.welvo")


def test_the_schema_describes_every_part_and_hides_what_is_ours() -> None:
    made = json.dumps(rig_schema())
    assert made.count('"extra"') == 0
    for word in ('"fixtures"', '"at_disarm"', '"maximum": 63999', "DMX address, 1 to 512"):
        assert word in made


def test_a_zip_that_is_whole_but_no_rig_is_not_called_damaged() -> None:
    with pytest.raises(RigFileError, match=r"^the file is a ZIP without rig\.json; it is no rig\.$"):
        rig_from_bytes(zipped(other__json=b"{}"))
    with pytest.raises(RigFileError, match=r"^the file holds an entry that points outside of it .* refused\.$"):
        rig_from_bytes(zipped(**{"..//x__json": b"{}"}))
