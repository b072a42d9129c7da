from __future__ import annotations

from pathlib import Path

import pytest
from msgspec.structs import replace

from tests.formats.gdtf_files import FILES, archive
from welvo.checks.checker import check_rig
from welvo.demo.gallery import make_gallery
from welvo.formats.chart import read_chart
from welvo.formats.files import RigFileError
from welvo.formats.library import (
    generic_books,
    list_revision_differences,
    newest_revisions,
    own_books,
    profile_from_plain,
    read_profile,
    rig_books,
    save_profile,
    search_books,
)
from welvo.rig.document import Rig, put_entries


def test_the_generics_are_whole_and_have_nothing_wrong() -> None:
    books = generic_books()
    assert len(books) >= 20 and len({b.profile.name for b in books}) == len(books)
    rig, _ = put_entries(
        Rig(), "", profiles={f"p{n}": replace(b.profile, code=f"X{n}", tint=n) for n, b in enumerate(books)}
    )
    assert [f for f in check_rig(rig).findings if f.severity == "error" or f.code in ("PROF-01", "PROF-18")] == []
    for b in books:
        for m in b.profile.modes.values():
            digits = m.name.split()[0]
            if "slot" in m.name:
                assert m.slots_needed == int(digits), (b.profile.name, m.name)
            if "pixels" in m.name:
                assert m.count_pixels == int(digits)


@pytest.mark.parametrize(
    ("typed", "first"),
    [
        ("rgbw", "RGBW"),
        ("haze", "Haze machine"),
        ("strip 144", "Strip RGB"),
        ("moving gobo", "Moving head, spot"),
        ("75", "Panel of 5 × 5"),
        ("uv flood", "RGBAWUV flood"),
        ("generic ring 24", "Ring of 24"),
    ],
)
def test_search_by_name_footprint_and_function(typed: str, first: str) -> None:
    assert search_books(generic_books(), typed)[0].profile.name == first
    assert search_books(generic_books(), "no such item") == []


def test_the_users_folder_takes_profiles_and_gives_them_back(tmp_path: Path) -> None:
    bar = replace(make_gallery().profiles["p1"], revision="3")
    path = save_profile(tmp_path / "profiles", bar)
    back = read_profile(path)
    assert back.modes == bar.modes and back.tint == 0 and back.source == "folder:Osmer Bar 9"
    save_profile(tmp_path / "profiles", replace(bar, revision="4"))
    assert (tmp_path / "profiles" / "Osmer Bar 9.json~").exists()
    (tmp_path / "profiles" / "ebb.gdtf").write_bytes(archive(FILES["bar"]))
    (tmp_path / "profiles" / "bad.json").write_text("{")
    (tmp_path / "profiles" / "list.json").write_text("[1]")
    (tmp_path / "profiles" / "odd.json").write_text('{"name": "x", "modes": {"m": {"name": 5}}}')
    books, problems = own_books(tmp_path / "profiles")
    assert [b.profile.name for b in books] == ["Bar 9", "Ebb bar"] and len(problems) == 3
    assert newest_revisions(books)["folder:Osmer Bar 9"] == "4"
    assert own_books(tmp_path / "nowhere") == ([], [])
    with pytest.raises(RigFileError, match="holds no profile"):
        profile_from_plain({"a": 1})


def test_a_newer_revision_on_the_shelf_is_a_finding(rig: Rig) -> None:
    from welvo.observed.values import Observed

    used, _ = put_entries(rig, "", profiles={"head": replace(rig.profiles["head"], source="folder:x", revision="1")})
    shelf = Observed(library={"folder:x": "2"})
    assert [f.code for f in check_rig(used, shelf).findings] == ["PROF-17"] and check_rig(
        used, Observed(library={"folder:x": "1"})
    ).findings == ()


def test_differences_between_revisions_in_words() -> None:
    old = make_gallery().profiles["p2"]
    chart = "pan 16, tilt 16, movement speed, dimmer 16, red, green"
    new = replace(
        old,
        notes="new",
        modes={"m1": read_chart(chart).mode_of_chart("22 slot"), "m3": read_chart("dimmer").mode_of_chart("tiny")},
    )
    found = list_revision_differences(old, new)
    assert "mode 22 slot: 22 → 9 slots" in found and "mode 9 slot: gone" in found and "mode tiny: new, 1 slots" in found
    assert (
        "mode 22 slot, red: slot 9 → 8" in found
        and "mode 22 slot, shutter: slot 8 → –" in found
        and "notes: – → new" in found
    )
    assert list_revision_differences(old, old) == []
    assert [b.where for b in rig_books(make_gallery())] == ["this rig"] * 6
