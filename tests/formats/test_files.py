"""Files on disk: whole or not at all, on any medium, through links, beside other writers; and what is refused."""

from __future__ import annotations

import errno
import io
import json
import os
import resource
import stat
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import pytest
from msgspec.structs import replace

from tests.conftest import slowed
from welvo.demo.gallery import make_gallery
from welvo.formats import files, rigfile
from welvo.formats.files import (
    ChangedOnDisk,
    RigFileError,
    backup_of,
    free_name,
    path_to_text,
    read_bytes,
    read_text_file,
    text_to_path,
    write_atomic,
)
from welvo.formats.library import open_any, read_profile
from welvo.formats.models import read_model
from welvo.formats.plain import read_json, read_toml
from welvo.formats.rigfile import load_rig_file, open_rig, read_rig, rig_from_bytes, save_rig_file, to_json
from welvo.rig.document import Picture, Rig

# ---- writing


def test_without_second_names_the_backup_is_a_copy(rig: Rig, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """FAT and exFAT refuse `link`."""

    def refuse(*_: object) -> None:
        raise OSError(errno.EPERM, "Operation not permitted")

    monkeypatch.setattr(os, "link", refuse)
    file = tmp_path / "hall.welvo"
    save_rig_file(rig, file)
    save_rig_file(replace(rig, name="Second"), file)
    assert load_rig_file(file).name == "Second" and load_rig_file(backup_of(file)).name == "Test rig"
    assert backup_of(file).stat().st_ino != file.stat().st_ino


def test_where_a_copy_does_not_fit_the_former_file_is_moved_aside(
    rig: Rig, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_: object, **__: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    file = tmp_path / "hall.welvo"
    save_rig_file(rig, file)
    monkeypatch.setattr(os, "link", full)
    monkeypatch.setattr(files.shutil, "copyfileobj", full)
    save_rig_file(replace(rig, name="Second"), file)
    assert load_rig_file(file).name == "Second" and load_rig_file(backup_of(file)).name == "Test rig"
    assert len(list(tmp_path.iterdir())) == 2


def test_media_without_rights_and_without_flushing_of_folders_are_written(
    rig: Rig, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: object, **__: object) -> None:
        raise OSError(errno.EPERM, "Operation not permitted")

    good = os.fsync

    def no_folders(handle: int) -> None:
        if stat.S_ISDIR(os.fstat(handle).st_mode):
            raise OSError(errno.EINVAL, "Invalid argument")
        good(handle)

    for name in ("chmod", "chown", "link"):
        monkeypatch.setattr(os, name, refuse)
    monkeypatch.setattr(os, "fsync", no_folders)
    save_rig_file(rig, tmp_path / "a.welvo")
    save_rig_file(replace(rig, name="Second"), tmp_path / "a.welvo")
    assert load_rig_file(tmp_path / "a.welvo").name == "Second"


def test_a_link_stays_a_link_and_its_target_is_written(rig: Rig, tmp_path: Path) -> None:
    (tmp_path / "real").mkdir()
    target, link = tmp_path / "real" / "hall.welvo", tmp_path / "hall.welvo"
    save_rig_file(rig, target)
    link.symlink_to(target)
    save_rig_file(replace(rig, name="Second"), link)
    assert (
        link.is_symlink()
        and load_rig_file(target).name == "Second"
        and load_rig_file(backup_of(link)).name == "Test rig"
    )
    assert backup_of(link).parent == target.parent
    dangling = tmp_path / "new.welvo"
    dangling.symlink_to(tmp_path / "real" / "new.welvo")
    save_rig_file(rig, dangling)
    assert dangling.is_symlink() and load_rig_file(tmp_path / "real" / "new.welvo") == rig


def test_owner_group_and_mode_stay(rig: Rig, tmp_path: Path) -> None:
    file = tmp_path / "hall.welvo"
    save_rig_file(rig, file)
    os.chmod(file, 0o664)
    if os.getuid() == 0:
        os.chown(file, 1234, 2345)
    before = file.stat()
    save_rig_file(replace(rig, name="Second"), file)
    after = file.stat()
    assert (after.st_uid, after.st_gid, after.st_mode) == (before.st_uid, before.st_gid, before.st_mode)


def test_what_killed_programs_left_is_swept_and_nothing_else(rig: Rig, tmp_path: Path) -> None:
    gone = subprocess.Popen([sys.executable, "-c", ""])
    gone.wait()
    file = tmp_path / "hall.welvo"
    mine = [f".hall.welvo.part-{gone.pid}.abc", f".hall.welvo.part-{gone.pid}.xyz~"]
    others = [f".hall.welvo.part-{os.getpid()}.abc", ".other.welvo.part-1.abc", ".hall.welvo", "hall.welvo.part-9"]
    for name in (*mine, *others):
        (tmp_path / name).write_text("x")
    old = tmp_path / ".hall.welvo.part-elsewhere.abc"  # written by another computer
    old.write_text("x")
    os.utime(old, (time.time() - 2 * files.OLD_PART,) * 2)
    save_rig_file(rig, file)
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted(["hall.welvo", *others])


def test_long_names_and_names_that_are_no_text_are_written(rig: Rig, tmp_path: Path) -> None:
    for name in ("ü" * 120 + ".welvo", os.fsdecode(b"\xff\xfe hall.welvo")):
        file = tmp_path / name
        save_rig_file(rig, file)
        save_rig_file(replace(rig, name="Second"), file)
        assert load_rig_file(file).name == "Second"
        assert text_to_path(path_to_text(file)) == file and path_to_text(file).encode()
    assert "\ufffd" in files.shown_name(file)
    assert text_to_path("") is None and path_to_text(None) == ""


def test_a_file_that_somebody_else_wrote_is_not_written_over(rig: Rig, tmp_path: Path) -> None:
    file = tmp_path / "hall.welvo"
    save_rig_file(rig, file)
    opened = open_rig(file)
    assert save_rig_file(opened.rig, file, opened.stamp)
    opened = open_rig(file)
    save_rig_file(replace(rig, name="Theirs"), file)
    with pytest.raises(ChangedOnDisk, match=r"hall\.welvo was changed by another program or window"):
        save_rig_file(replace(rig, name="Mine"), file, opened.stamp)
    assert load_rig_file(file).name == "Theirs"
    opened = open_rig(file)
    os.utime(file, (1.0, 1.0))  # touched, and the same all the same
    stamp = save_rig_file(rig, file, opened.stamp)
    file.unlink()
    with pytest.raises(ChangedOnDisk, match="no longer there"):
        save_rig_file(rig, file, stamp)
    save_rig_file(rig, file)
    assert free_name(file).name == "hall 2.welvo"


def test_what_could_not_be_opened_again_is_not_written(
    rig: Rig, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "hall.welvo"
    save_rig_file(rig, file)
    wild = replace(rig, line_metres=1e9)  # past the door: the file would be mended when it is opened
    with pytest.raises(RigFileError, match=r"would read as another rig \(its own fields\)"):
        save_rig_file(wild, file)
    lost = replace(rig, fixtures={"a": replace(rig.fixtures["a"], profile="nowhere")})
    with pytest.raises(RigFileError, match="could not be opened again.*which is not in the rig"):
        save_rig_file(lost, file)
    with pytest.raises(RigFileError, match="could not be opened again"):
        save_rig_file(replace(rig, name="\ud800"), file)
    assert load_rig_file(file) == rig


# ---- names that no id can break


def test_ids_and_names_of_any_text_survive(tmp_path: Path) -> None:
    rig = make_gallery()
    hard = ["extra", "../../etc/passwd", "a/b", "", ".", "100%", "%2F", "\u202e", "a\nb", "=x"]
    device = rig.devices["d1"]
    ports = {**device.ports, "extra": next(iter(device.ports.values()))}
    made = replace(
        rig,
        devices={**rig.devices, "extra": replace(device, ports=ports)},
        pictures={k: Picture(name=k, data=k.encode() + b"!") for k in hard},
        profiles={
            **rig.profiles,
            **{k: replace(next(iter(rig.profiles.values())), kept={n: n.encode() for n in hard}) for k in hard},
        },
        fixtures={k: replace(f, fields={"extra": "7", "a": "b"}) for k, f in rig.fixtures.items()},
        columns=("extra", "Circuit"),
    )  # fmt: skip
    for name in ("a.welvo", "a.json"):
        save_rig_file(made, tmp_path / name)
        assert load_rig_file(tmp_path / name) == made


def test_the_archives_of_format_5_keep_their_pictures(rig: Rig) -> None:
    with_picture = replace(rig, pictures={"k%41": Picture(name="k")})
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as z:
        z.writestr("rig.json", to_json(with_picture, pictures=False).replace(b'"format": 7', b'"format": 5'))
        z.writestr("pictures/k%41", b"picture")
    assert rig_from_bytes(buffer.getvalue()).pictures["k%41"].data == b"picture"


# ---- limits


@pytest.mark.parametrize(
    ("way", "value", "says"),
    [
        (("feeds", "w1", "wire"), 64000, r"feeds\.w1\.wire is 64000, and there is no such number"),
        (("universes", "u1", "number"), 70000, r"universes\.u1\.number is 70000"),
        (("fixtures", "a", "number"), 0, r"fixtures\.a\.number is 0"),
    ],
)
def test_a_number_that_names_something_is_never_moved_to_another(
    rig: Rig, way: tuple[str, ...], value: int, says: str
) -> None:
    raw = json.loads(to_json(rig))
    at = raw
    for step in way[:-1]:
        at = at[step]
    at[way[-1]] = value
    with pytest.raises(RigFileError, match=says):
        rig_from_bytes(json.dumps(raw).encode())


def test_where_it_may_be_empty_a_number_that_is_none_is_left_empty_and_told(rig: Rig) -> None:
    raw = json.loads(to_json(rig))
    raw["fixtures"]["b"]["at"][0]["address"] = 513
    opened = read_rig(json.dumps(raw).encode())
    assert opened.rig.fixtures["b"].at[0].address is None and "address was 513, now empty" in opened.words_of_mending


def test_an_id_that_no_archive_can_hold_is_refused(rig: Rig) -> None:
    raw = json.loads(to_json(rig))
    raw["pictures"] = {"x" * 70_000: {"name": "a"}}
    with pytest.raises(RigFileError, match="an id in pictures is 70000 letters long; 400 are the most"):
        rig_from_bytes(json.dumps(raw).encode())


def test_a_file_beyond_its_limits_is_opened_with_those_values_mended_and_said(rig: Rig, tmp_path: Path) -> None:
    raw = json.loads(to_json(rig))
    raw["line_metres"] = 99999
    raw["universes"]["u1"]["size"] = 0
    raw["elements"]["e"]["at"]["address"] = 700
    raw["fixtures"]["a"]["at"][0]["gap"] = 70000
    raw["profiles"]["head"]["code"] = "TOO LONG"
    raw["profiles"]["head"]["facts"] = {"kelvin": 56000, "angle": -3, "weight": 1e5}
    raw["profiles"]["head"]["modes"]["m"]["breaks"] *= 70
    file = tmp_path / "old.json"
    file.write_text(json.dumps(raw).replace("99999", "1e999"))
    opened = open_rig(file)
    made = opened.rig
    assert made.line_metres == 1e4 and made.elements["e"].at.address is None
    assert made.fixtures["a"].at[0].gap == 65535 and made.profiles["head"].code == "TOO "
    facts = made.profiles["head"].facts
    assert facts and (facts.kelvin, facts.angle, facts.weight) == (50000, 0, 1e4)
    assert len(made.profiles["head"].modes["m"].breaks) == 64 and opened.mended_count == 9
    assert "line_metres was beyond all bounds, now 10000" in opened.mended
    assert "profiles.head.facts.kelvin was 56000, now 50000, and 6 more" in opened.words_of_mending
    save_rig_file(made, file, opened.stamp)
    assert load_rig_file(file) == made and open_rig(file).words_of_mending == ""


def test_another_kind_of_value_is_damage_and_refused() -> None:
    for text, says in (
        (b'{"line_metres": "far"}', "at line_metres: Expected a number"),
        (b'{"universes": {"u": {"number": 1.5}}}', "universes.u"),
        (b'{"name": "a", "name": "b"}', r"^the file: the key “name” is there twice in one object\.$"),
        (b'{"universes": {"u": {"number": 1, "number": 2}}}', "“number” is there twice"),
        (b'{"note": ' + b"7" * 5000 + b"}", "far too many digits"),
        (b'{"x": ' + b"[" * 100_000, "nested deeper"),
        (b'{"x": [' + b"{}," * 3_000_000 + b"{}]}", "more items than any rig"),
        (b'{"x": "' + b"y" * (65 << 20) + b'"}', "65 MiB of text"),
    ):
        with pytest.raises(RigFileError, match=says) as e:
            rig_from_bytes(text)
        assert len(str(e.value)) < 300 and "\n" not in str(e.value)


def test_special_files_are_refused_at_once(tmp_path: Path) -> None:
    pipe = tmp_path / "pipe.welvo"
    os.mkfifo(pipe)
    begun = time.monotonic()
    for path, says in ((pipe, "no ordinary file"), (Path("/dev/zero"), "no ordinary file"), (tmp_path, "a folder")):
        with pytest.raises(RigFileError, match=says):
            load_rig_file(path)
    with pytest.raises(RigFileError, match="no ordinary file"):
        read_profile(pipe)
    with pytest.raises(RigFileError, match="no ordinary file"):
        write_atomic(pipe, b"x")
    assert time.monotonic() - begun < slowed(1.0) and stat.S_ISFIFO(pipe.stat().st_mode)
    with pytest.raises(RigFileError, match="cannot be read"):
        read_bytes(tmp_path / "a\0b", 10, "a rig")


@pytest.mark.parametrize("method", [zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA])
def test_other_compressions_are_refused(method: int) -> None:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", method) as z:
        z.writestr("rig.json", b"{}" * 1000)
    with pytest.raises(RigFileError, match="packed in a way that a rig never is"):
        rig_from_bytes(buffer.getvalue())


def test_the_same_entry_twice_is_refused(tmp_path: Path) -> None:
    buffer = io.BytesIO()
    with pytest.warns(UserWarning, match="Duplicate"), zipfile.ZipFile(buffer, "w") as z:
        z.writestr("rig.json", b"{}")
        z.writestr("rig.json", b'{"name": "other"}')
    with pytest.raises(RigFileError, match="holds “rig.json” twice"):
        rig_from_bytes(buffer.getvalue())


BOMB = """
from welvo.patience import crowding
import io, resource, sys, time, zipfile
from welvo.formats.files import RigFileError
from welvo.formats.rigfile import read_rig, rig_from_bytes
from welvo.formats.gdtf import loads_gdtf
kinds = {
    "objects": b'{"x": [' + b"{}," * 80_000_000 + b"{}]}",
    "lists": b'{"x": ' + b"[" * 500_000_000,
    "numbers": b'{"x": [' + b"1," * 200_000_000 + b"1]}",
    "words": b'{"fixtures": {' + b'"a":{},' * 60_000_000 + b'"b":{}}}',
}
begun = time.monotonic()
for name, text in list(kinds.items()):
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as z:
        z.writestr("rig.json", text)
        z.writestr("description.xml", text)
    kinds[name] = buffer.getvalue()
    del text
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
for name, data in kinds.items():
    begun = time.monotonic()
    for read in (rig_from_bytes, loads_gdtf):
        try:
            read(data)
            print("taken", name)
        except RigFileError as e:
            assert len(str(e)) < 200, e
    assert time.monotonic() - begun < 5 * crowding(), name
print("refused", (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) >> 10)
"""


def test_small_files_never_need_large_memory() -> None:
    """Files of half a megabyte that unpack to 500: refused at once. The limit is on what reading adds."""
    small = BOMB.replace("80_000_000", "28_000_000").replace("500_000_000", "80_000_000")
    small = small.replace("200_000_000", "40_000_000").replace("60_000_000", "12_000_000")
    done = subprocess.run([sys.executable, "-c", small], capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stderr
    word, grown = done.stdout.split()
    assert word == "refused" and int(grown) < 1024


def test_a_chart_or_table_never_builds_more_than_a_lamp_has(tmp_path: Path) -> None:
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.monotonic()
    for name, text in (
        ("a.txt", "2000 x (red green blue)"), ("b.txt", "red/99999999, green/9999"), ("c.txt", "gap 512\n" * 50_000),
        ("d.txt", "1999 x (" + "red " * 5000 + ")"), ("e.csv", "slots,function,pixel\n1,red,99999999\n2,green,-5\n"),
        ("f.csv", "slots,function,default\n" + "1,red," + "9" * 5000 + "\n"), ("g.txt", "break A: red\n" * 5000),
        ("h.csv", "slots,function,low,high\n1,pan,nan,inf\n2,tilt,1e999,-1e999\n"),
    ):  # fmt: skip
        (tmp_path / name).write_text(text)
        try:
            profile, problems = open_any(tmp_path / name)
        except RigFileError as e:
            assert len(str(e)) < 400, name
            continue
        made = Rig(profiles={"p": profile})
        save_rig_file(made, tmp_path / "x.welvo")  # whatever was taken can be saved and opened
        assert load_rig_file(tmp_path / "x.welvo") == made, (name, problems)
    assert time.monotonic() - begun < slowed(10)
    assert (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) >> 10 < 300


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("name = 'x'\nvolts = [inf]", "finite"), ("name = 'x'\nport_amps = nan", "port_amps|finite|port amps"),
        ("x = " + "[" * 20_000, "nested deeper"), ("x = " + "9" * 5000, "too many digits"), ("name = 5", "str|text"),
        ("[[settings]]\nkey = 1", "name|key"), ("name = 'x'\nports = 'abc'", "array|list"), ("\x00", "no TOML"),
    ],
)  # fmt: skip
def test_models_that_say_what_no_device_can_have_are_refused(text: str, says: str) -> None:
    with pytest.raises(RigFileError, match=says) as e:
        read_model(text, "box.toml")
    assert str(e.value).startswith("box.toml") and len(str(e.value)) < 300


def test_texts_are_utf8(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_bytes(b"red\xff")
    with pytest.raises(RigFileError, match="no text in UTF-8"):
        read_text_file(tmp_path / "a.txt", 100, "a chart")
    assert read_json(b"[1, 2]", "x") == [1, 2] and read_toml("a = 1", "x") == {"a": 1}
    with pytest.raises(RigFileError, match="MiB of text"):
        read_toml("#" * (3 << 20), "x")


EXFAT = """
set -e
truncate -s 12M {image}
mkfs.exfat {image} >/dev/null 2>&1 || mkfs.vfat {image} >/dev/null 2>&1
mount -o loop {image} {folder}
"""


def test_a_real_stick_is_saved_to_twice(rig: Rig, tmp_path: Path) -> None:
    folder = tmp_path / "stick"
    folder.mkdir()
    script = EXFAT.format(image=tmp_path / "image", folder=folder)
    if os.getuid() or subprocess.run(["sh", "-c", script], capture_output=True).returncode:
        pytest.skip("this machine cannot make or mount a FAT image")
    try:
        save_rig_file(rig, folder / "hall.welvo")
        save_rig_file(replace(rig, name="Second"), folder / "hall.welvo")
        assert (
            load_rig_file(folder / "hall.welvo").name == "Second"
            and load_rig_file(folder / "hall.welvo~").name == "Test rig"
        )
    finally:
        subprocess.run(["umount", str(folder)], check=False)
    assert rigfile.FORMAT == 7


def test_a_refusal_names_the_backup_only_where_it_can_be_opened(rig: Rig, tmp_path: Path) -> None:
    file = tmp_path / "hall.welvo"
    save_rig_file(rig, file)
    save_rig_file(replace(rig, name="Second"), file)
    for bad in (b"", b"\xff\xfe", b'{"name": "cut', file.read_bytes()[:200]):
        file.write_bytes(bad)
        with pytest.raises(RigFileError, match=r"Its backup, hall\.welvo~, can be opened\.$"):
            open_rig(file)
    file.unlink()
    with pytest.raises(RigFileError, match=r"cannot be read: No such file.* hall\.welvo~, can be opened"):
        open_rig(file)
    file.write_bytes(b"{")
    backup_of(file).write_bytes(b"{")
    with pytest.raises(RigFileError) as refused:
        open_rig(file)
    assert "backup" not in str(refused.value)


def test_a_folder_without_a_name_is_named_as_it_was_typed() -> None:
    with pytest.raises(RigFileError, match=r"^\. is a folder"):
        open_rig(Path("."))


def test_a_save_after_one_that_was_killed_between_backup_and_file(rig: Rig, tmp_path: Path) -> None:
    """Found by chance: then file and backup are one file of two names, and renaming one to the other does nothing."""
    file = tmp_path / "hall.welvo"
    save_rig_file(rig, file)
    os.link(file, tmp_path / "hall.welvo~")
    save_rig_file(rig, file)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["hall.welvo", "hall.welvo~"]
