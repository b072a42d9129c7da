"""The library: search, take, keep, revise, import and export."""

from __future__ import annotations

from pathlib import Path

import pytest
from msgspec.structs import replace
from pytestqt.qtbot import QtBot

from tests.app.test_profiles_station import show
from welvo.app.profiles import library
from welvo.app.profiles.library import Library, know_library, library_folder
from welvo.app.window import Window
from welvo.formats.chart import read_chart
from welvo.formats.library import read_profile, save_profile
from welvo.rig.base import Refused


def dialog(window: Window, pid: str = "") -> Library:
    window.show_station("Profiles")
    return Library(window.session, window, pid)


@pytest.mark.parametrize("words, found", [("blinder 4", "Blinder of 4"), ("rgbw batten", "Batten of 12"), ("zzz", "")])
def test_every_word_must_be_found(small: Window, qtbot: QtBot, words: str, found: str) -> None:
    d = dialog(small)
    qtbot.keyClicks(d.filter, words)
    names = [b.profile.name for b in d.shelf.books]
    assert (found in names) if found else (not names and "zzz" in d.saying.text() and not d.take_button.isEnabled())


def test_a_generic_is_taken_and_a_profile_of_the_rig_is_duplicated(small: Window, qtbot: QtBot) -> None:
    d = dialog(small)
    qtbot.keyClicks(d.filter, "blinder 4")
    d.take_book()
    made = small.session.rig.profiles[d.made]
    assert made.name == "Blinder of 4" and made.source.startswith("library:") and made.code
    d = dialog(small, "head")
    qtbot.keyClicks(d.filter, "Head")
    d.shelf.current = next(n for n, b in enumerate(d.shelf.books) if b.source == "rig:head")
    d._pick_book()
    assert d.take_button.text() == "Duplicate"
    d.take_book()
    copy = small.session.rig.profiles[d.made]
    assert copy.name == "Head copy" and copy.code != "HEA" and not d.grab().isNull()


def test_a_kept_profile_is_there_for_the_next_rig_and_a_newer_one_is_a_finding(
    small: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    show(small, "head")
    d = dialog(small, "head")
    d.keep_profile()
    (kept,) = list(library_folder().iterdir())
    assert kept.name in d.saying.text()
    book = next(b for b in d.found_books() if b.where != "this rig" and b.profile.name == "Head")
    # the rig's own copy came from there, at revision 1; somebody keeps a revision 2
    small.session.make_edit(
        lambda rig: (
            replace(
                rig,
                profiles={**rig.profiles, "head": replace(rig.profiles["head"], source=book.source, revision="1")}
            ), library_change(),
        )
    )  # fmt: skip
    longer = replace(
        small.session.rig.profiles["head"],
        revision="2",
        modes={"m": read_chart("pan 16, tilt 16, dimmer, shutter, zoom, gobo, iris").mode_of_chart("only")},
    )
    save_profile(library_folder(), longer)
    know_library(small.session)
    assert "PROF-17" in small.session.report.codes_found
    d = dialog(small, "head")
    d.shelf.current = next(n for n, b in enumerate(d.shelf.books) if b.profile.name == "Head" and b.where != "this rig")
    d._pick_book()
    assert "Differences" in d.saying.text()
    shown: list[str] = []
    monkeypatch.setattr(library.AddressPreview, "exec", lambda self: bool(shown.append(self.windowTitle())))
    before = small.session.rig
    d.revise_profile()
    assert shown and small.session.rig is before
    monkeypatch.setattr(library.AddressPreview, "exec", lambda self: True)
    d.revise_profile()
    rig = small.session.rig
    assert {rig.fixtures[k].profile for k in "ab"} == {d.made} and rig.profiles[d.made].revision == "2"
    assert rig.profiles[d.made].revises == "" and "head" not in rig.profiles  # what is gone is referred to by nothing
    assert "PROF-17" not in small.session.report.codes_found and "PATCH-01" in small.session.report.codes_found
    small.session.undo_edit()
    assert small.session.rig is before


def library_change() -> object:
    from welvo.rig.document import Change

    return Change("take the source", {"profiles": frozenset({"head"})})


@pytest.mark.parametrize("suffix", [".gdtf", ".json", ".csv"])
def test_a_profile_goes_out_and_comes_back(small: Window, tmp_path: Path, suffix: str) -> None:
    d = dialog(small, "bar")
    path = tmp_path / f"bar{suffix}"
    d.export_path(path)
    assert path.exists()
    d.import_path(path)
    made = small.session.rig.profiles[d.made]
    old = small.session.rig.profiles["bar"]
    assert [(c.function, c.slots, c.pixel) for c in next(iter(made.modes.values())).channels] == [
        (c.function, c.slots, c.pixel) for c in old.modes["m"].channels
    ]
    if suffix == ".gdtf":
        assert read_profile(path).name == "Bar"


@pytest.mark.parametrize(
    "name, data",
    [
        ("x.gdtf", b"no zip at all"), ("x.json", b"{"), ("x.csv", b"\xff\xfe\x00"), ("gone.gdtf", None),
        ("x.exe", b"MZ")
    ]
)  # fmt: skip
def test_a_file_that_is_none_is_refused_with_the_reason(
    small: Window, tmp_path: Path, name: str, data: bytes | None
) -> None:
    d = dialog(small)
    before = small.session.rig
    if data is not None:
        (tmp_path / name).write_bytes(data)
    with pytest.raises(Refused, match=".+"):
        d.import_path(tmp_path / name)
    assert small.session.rig is before


def test_a_folder_that_cannot_be_written_is_said(
    small: Window, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    (tmp_path / "file").write_text("no folder")
    monkeypatch.setattr(library, "library_folder", lambda: tmp_path / "file" / "profiles")
    d = dialog(small, "head")
    d.save_button.click()
    assert d.saying.text() and "Kept" not in d.saying.text() and d.saying.property("refusal")
    with pytest.raises(Refused, match="could not be written"):
        d.export_path(tmp_path / "file" / "x.gdtf")
