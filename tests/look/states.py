"""The states of the window that are looked at: every station, page, kind of selection, form and dialog."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from PySide6.QtWidgets import QWidget

from welvo.app.bench.holding import HeldList
from welvo.app.bench.station import PAGES as BENCH_PAGES
from welvo.app.commands import PATCH_PAGES
from welvo.app.devices.bus_page import PAGES as BUS_PAGES
from welvo.app.devices.find import FindDevice
from welvo.app.devices.papers import CopyPort, DeviceTables, SettingCard, Snapshots
from welvo.app.devices.rehearse import RehearseRig
from welvo.app.guide import Guide
from welvo.app.patch.add_fixtures import AddFixtures
from welvo.app.patch.lamp_card import LampCard
from welvo.app.patch.pages import RenumberBlock, Trim
from welvo.app.patch.paste import PasteRows
from welvo.app.patch.positions import GroundPicture
from welvo.app.profiles.library import Library
from welvo.app.profiles.range_editor import PasteRanges
from welvo.app.runs.pixel_kinds import PixelKinds
from welvo.app.runs.split import SplitElement
from welvo.app.runs.supplies import Supplies
from welvo.app.session import Selection
from welvo.app.sheets.all_sheets import AllSheets
from welvo.app.sheets.merging import MergeRigs
from welvo.app.sheets.printing import PrintSheet
from welvo.app.sheets.station import PAGES as SHEETS_PAGES
from welvo.app.sheets.versions import NameVersion
from welvo.app.widgets.add_device import AddDevice
from welvo.app.widgets.face_editor import FaceEditor
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.message import AllSaid, Said
from welvo.app.widgets.model_editor import ModelEditor
from welvo.app.window import Window
from welvo.rig.document import Rig, put_entries
from welvo.rig.refs import SegmentRef

Show = Callable[[Window], QWidget | None]
"""Brings a state about; gives the dialog to look at, or None for the window."""
LONG = "Kreuzgewölbe über dem großen Quallenbecken, zweite Traverse, links"
"""A name of more than sixty letters."""
ELSEWHERE = "Wartungsgang hinter dem Haifischtunnel, dritte Leiter, ganz rechts"
"""Another one, which no rig has."""


def long_names(rig: Rig) -> Rig:
    """The same rig, everything in it called something long and numbered as high as numbers go."""
    fixtures = {
        k: replace(f, number=f.number + 64_000, name=f"{f.name} {LONG}", fields=dict.fromkeys(rig.columns, LONG))
        for k, f in rig.fixtures.items()
    }
    return put_entries(
        rig,
        "long names",
        fixtures=fixtures,
        elements={k: replace(e, name=f"{e.name} {LONG}") for k, e in rig.elements.items()},
        universes={k: replace(u, number=u.number + 31_000, name=f"{u.name} {LONG}") for k, u in rig.universes.items()},
        senders={k: replace(s, name=f"{s.name} {LONG}") for k, s in rig.senders.items()},
        devices={k: replace(d, name=f"{d.name} {LONG}") for k, d in rig.devices.items()},
        profiles={k: replace(p, name=f"{p.name} {LONG}") for k, p in rig.profiles.items()},
        feeds={
            k: replace(f, wire=f.wire + (62_000 if f.protocol == "sacn" else 32_000)) if f.protocol != "dmx" else f
            for k, f in rig.feeds.items()
            if f.protocol in ("sacn", "artnet")
        },
    )[0]


def by_name(w: Window, name: str) -> str:
    return next(k for k, d in w.session.rig.devices.items() if d.name.startswith(name))


def stations_and_selections(w: Window) -> dict[str, Show]:
    """Every page of every station with every kind of selection that it shows."""
    pen, leat, weir = by_name(w, "PENSTOCK"), by_name(w, "LEAT"), by_name(w, "WEIR-2")
    rig = w.session.rig

    def patch(page: str, at: Selection) -> Show:
        def show(window: Window) -> None:
            window.stations.show_page(page)
            window.session.change_selection(at)

        return show

    def at(station: str, where: Selection, page: str = "") -> Show:
        def show(window: Window) -> None:
            window.session.change_selection(where)
            window.show_station(station)
            if page:
                window.stations.all_stations()[station].show_page(page)  # type: ignore[attr-defined]

        return show

    def segment(port: str, n: int) -> Selection:
        return Selection("segment", (pen,), on=SegmentRef(pen, port, n))

    items = {
        "nothing": Selection(),
        "a fixture that meets others": Selection("item", ("f207",)),
        "two breaks": Selection("item", ("f701",)),
        "several": Selection("item", ("f101", "f102", "e1")),
        "everything": Selection("item", (*rig.fixtures, *rig.elements)),
        "an element": Selection("item", ("e2",)),
        "behind a bridge": Selection("item", ("f531",)),
        "a universe": Selection("universe", ("u2",)),
        "a feed": Selection("feed", ("w2",)),
        "a sender": Selection("sender", (next(iter(rig.senders)),)),
        "a show": Selection("use", (next(iter(rig.uses)),)),
    }
    found: dict[str, Show] = {}
    for words, where in items.items():
        found[f"Patch, Tapes, {words}"] = patch("Tapes", where)
    for page in (p for p in PATCH_PAGES if p != "Tapes"):
        for words in ("nothing", "a fixture that meets others", "everything"):
            found[f"Patch, {page}, {words}"] = patch(page, items[words])
    for words, where in {
        "the controller": Selection("device", (pen,)),
        "a port": Selection("port", (pen, "1")),
        "pixels": segment("1", 0),
        "a bridge": segment("6", 2),
        "folded": segment("7", 0),
        "a node": Selection("device", (weir,)),
        "a port of a node": Selection("port", (weir, "A")),
        "a gateway": Selection("device", (leat,)),
    }.items():
        found[f"Runs, {words}"] = at("Runs", where)
    for n, k in enumerate(rig.profiles):
        found[f"Profiles, {n + 1}"] = at("Profiles", Selection("profile", (k,)))
    for k, d in rig.devices.items():
        found[f"Devices, {d.name[:20]}"] = at("Devices", Selection("device", (k,)), "Settings")
    found["Devices, a setting"] = at("Devices", Selection("port", (weir, "A"), setting="A.universe"), "Settings")
    found["Devices, lamps"] = at("Devices", Selection("port", (weir, "A")), "Lamps")
    for page in BUS_PAGES:
        found[f"Devices, bus, {page}"] = _bus(leat, page, -1)
    found["Devices, a gear"] = _bus(leat, "Board", 3)
    for page in BENCH_PAGES:
        found[f"Bench, {page}"] = at("Bench", Selection("item", ("f207",)), page)
    found["Bench, an element"] = at("Bench", Selection("item", ("e2",)), "Drive")
    for page in SHEETS_PAGES:
        found[f"Sheets, {page}"] = at("Sheets", Selection("item", ("f207",)), page)
    found["Findings"] = _findings
    for words, said in MESSAGES.items():
        found[f"Patch, {words} is said"] = partial(_message, said)
    return found


MESSAGES = {
    "a note": [("3 fixtures moved to 12.001 to 12.090.", "note")],
    "an error of several lines": [
        (
            f"Ports A, B of this device share one Net and Sub-Net: {ELSEWHERE} cannot have 1/2/3 and 4/5/6. " * 3,
            "error",
        ),
        ("8 levels held.", "note"),
        ("9 levels held.", "note"),
    ],
}


def _message(said: list[tuple[str, str]], w: Window) -> None:
    w.stations.show_page("Tapes")
    w.message.forget_shown()
    for words, severity in said:
        w.message.say(words, severity, undo=severity == "note")


def _bus(leat: str, page: str, place: int) -> Show:
    def show(w: Window) -> None:
        w.session.change_selection(Selection("port", (leat, "BUS 1"), place=place))
        w.show_station("Devices")
        w.devices.show_page("Bus")
        w.devices.bus.show_page(page)

    return show


def _findings(w: Window) -> None:
    w.stations.show_page("Tapes")
    if not w.drawer.isVisible():
        w.toggle_findings()


def dialogs(w: Window) -> dict[str, Callable[[], Any]]:
    """Every dialog over the window, made but not shown."""
    s, rig = w.session, w.session.rig
    pen, weir = by_name(w, "PENSTOCK"), by_name(w, "WEIR-2")
    mode = next(m for p in rig.profiles.values() for m in p.modes.values() if m.count_pixels)
    return {
        "add fixtures": lambda: AddFixtures(s, w),
        "add a device": lambda: AddDevice(s, w),
        "renumber": lambda: RenumberBlock(s, w),
        "paste rows": lambda: PasteRows(s, "Number\tName\n1\tWash", w),
        "paste ranges": lambda: PasteRanges(mode.channels[0], w),
        "split": lambda: SplitElement(s, w, pen),
        "supplies": lambda: Supplies(s, w),
        "pixel kinds": lambda: PixelKinds(s, w),
        "models": lambda: ModelEditor(s, w, rig.devices[pen].model),
        "face": lambda: FaceEditor(mode, None, w),
        "trim": lambda: Trim(s, w),
        "library": lambda: Library(s, w),
        "merge": lambda: MergeRigs(s, w),
        "name a version": lambda: NameVersion(s, w),
        "ground picture": lambda: GroundPicture(s, w),
        "rehearse": lambda: RehearseRig(s, w.rehearsal, w),
        "find": lambda: FindDevice(s, w.network, pen, w),
        "a device's card": lambda: SettingCard(s, pen, w),
        "tables of a device": lambda: DeviceTables(s, pen, w),
        "snapshots": lambda: Snapshots(s, w.network, pen, w),
        "copy a port": lambda: CopyPort(s, weir, "A", w),
        "a lamp's card": lambda: LampCard(s, ["f207"], w),
        "what is held": lambda: HeldList(s, w.network, w, lambda: None),
        "what was said": lambda: AllSaid([Said(0.0, f"{ELSEWHERE} was moved.", "error")] * 3, w),
        "all sheets": lambda: AllSheets(w.computer, Path("/"), lambda *_: None, w),
        "print": lambda: PrintSheet("Setting cards of devices", 180, lambda _: None, w),
        "open a file": lambda: FileDialog(w, "Open a rig", "/", "Rigs (*.welvo *.json);;All files (*)"),
        "guide": lambda: Guide(w, Path("docs")),
    }
