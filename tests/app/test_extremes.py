"""Whatever is typed into any field, what the program saves it can open again."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PySide6.QtWidgets import QApplication, QLineEdit, QPlainTextEdit, QWidget

from welvo.app.patch.add_fixtures import AddFixtures
from welvo.app.patch.laying_form import LayForm
from welvo.app.patch.pages import RenumberBlock
from welvo.app.patch.paste import PasteRows
from welvo.app.profiles.range_editor import PasteRanges
from welvo.app.runs.pixel_kinds import PixelKinds
from welvo.app.runs.split import SplitElement
from welvo.app.runs.supplies import Supplies
from welvo.app.session import Selection
from welvo.app.widgets.add_device import AddDevice
from welvo.app.widgets.face_editor import FaceEditor
from welvo.app.widgets.fields import Choice, Field, Tick
from welvo.app.widgets.model_editor import ModelEditor
from welvo.app.window import Window
from welvo.formats.rigfile import rig_from_bytes, rig_to_bytes
from welvo.rig.document import Rig
from welvo.rig.refs import SegmentRef

EXTREMES = (
    "", " ", "0", "-1", "1", "255", "256", "511", "512", "513", "5000", "65535", "70000", "999999", "99999999999",
    "-0.0", "1e5", "1e400", "nan", "inf", "-inf", "1,5", "0.0001", "3.001", "0.0", "999999.512", "63999.512",
    "63999 +512", "x" * 5000, "\x00", "\ud800", "😀", "½", "٣", "²", "RGBW", "RGBWAUCDVL", "rr", "1-3, 5", "5-1",
    "101+", "+", "free", "none", "after 101", "1 2 3 4", "100 0 0 100", "127.0.0.1", "255.255.255.255", "0.0.0.0",
    "50 %", "101 %", "-50 %", "1 a", "\t", "“x”", "../../x",
)  # fmt: skip
TYPED = st.one_of(st.sampled_from(EXTREMES), st.integers(-(10**12), 10**12).map(str), st.text(max_size=12))


def by_name(window: Window, name: str) -> str:
    return next(d for d, v in window.session.rig.devices.items() if v.name == name)


def places(window: Window) -> dict[str, tuple[str, Callable[[], Selection]]]:
    """Station and selection for every kind of panel."""
    pen, leat = by_name(window, "PENSTOCK"), by_name(window, "LEAT")

    def bus(at: Selection) -> Selection:
        window.session.change_selection(at)
        window.devices.show_page("Bus")
        return at

    segment = lambda port, n: Selection("segment", (pen,), on=SegmentRef(pen, port, n))  # noqa: E731
    return {
        "fixture": ("Patch", lambda: Selection("item", ("f207",))),
        "two breaks": ("Patch", lambda: Selection("item", ("f701",))),
        "many": ("Patch", lambda: Selection("item", ("f101", "f102", "e1"))),
        "element": ("Patch", lambda: Selection("item", ("e2",))),
        "universe": ("Patch", lambda: Selection("universe", ("u2",))),
        "feed": ("Patch", lambda: Selection("feed", ("w2",))),
        "sender": ("Patch", lambda: Selection("sender", (next(iter(window.session.rig.senders)),))),
        "show": ("Patch", lambda: Selection("use", (next(iter(window.session.rig.uses)),))),
        "device": ("Runs", lambda: Selection("device", (pen,))),
        "port": ("Runs", lambda: Selection("port", (pen, "1"))),
        "pixels": ("Runs", lambda: segment("1", 0)),
        "bridge": ("Runs", lambda: segment("6", 2)),
        "folded": ("Runs", lambda: segment("7", 0)),
        "profile": ("Profiles", lambda: Selection("profile", ("p2",))),
        "network": ("Devices", lambda: Selection("device", ("d1",))),
        "setting": ("Devices", lambda: Selection("port", ("d1", "A"), setting="A.universe")),
        "bus": ("Devices", lambda: bus(Selection("port", (leat, "BUS 1")))),
        "gear": ("Devices", lambda: bus(Selection("port", (leat, "BUS 1"), place=3))),
    }


PANELS = (
    "fixture", "two breaks", "many", "element", "universe", "feed", "sender", "show", "device", "port", "pixels",
    "bridge", "folded", "profile", "network", "setting", "bus", "gear"
)  # fmt: skip


_opened: list[Rig] = []
"""The rig that was last saved and opened: most of what is typed here is refused, and leaves the very same one."""


def opens_again(window: Window) -> None:
    rig = window.session.rig
    if not _opened or _opened[0] is not rig:
        assert rig_from_bytes(rig_to_bytes(rig)) == rig
        _opened[:] = [rig]


def fields_of(root: QWidget) -> list[str]:
    return [f.accessibleName() for f in root.findChildren(Field) if f.isVisibleTo(root) and f.isEnabled()]


def commit_into(root: QWidget, name: str, typed: str) -> Field | None:
    field = next((f for f in root.findChildren(Field) if f.accessibleName() == name and f.isVisibleTo(root)), None)
    if field is None:
        return None  # an edit before it took its row away
    field.setText(typed)
    if not field.commit():
        assert field.toolTip(), name  # it says why
        field.revert()
    QApplication.processEvents()
    return field


@pytest.mark.parametrize("where", PANELS)
def test_whatever_is_typed_into_a_panel_can_be_saved_and_opened(window: Window, where: str) -> None:
    rig = window.session.rig
    station, select = places(window)[where]

    @settings(max_examples=1, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.data())
    def type_it(data: st.DataObject) -> None:
        window.session.replace_rig(rig, None)
        window.show_station(station)
        window.session.change_selection(select())
        QApplication.processEvents()
        panel: QWidget = window.stations.all_stations()[station].panel
        names = fields_of(panel)
        assert names, where
        for name in names:
            window.session.change_selection(select())
            QApplication.processEvents()
            for typed in data.draw(st.lists(TYPED, min_size=2, max_size=2), label=name):
                commit_into(panel, name, typed)
                opens_again(window)

    type_it()


@pytest.mark.parametrize("where", PANELS)
def test_every_choice_and_tick_of_a_panel_leaves_a_rig_that_opens(window: Window, where: str) -> None:
    rig = window.session.rig
    station, select = places(window)[where]
    window.show_station(station)
    window.session.change_selection(select())
    QApplication.processEvents()
    panel: QWidget = window.stations.all_stations()[station].panel
    kinds = (Choice, Tick)
    for n in range(len(panel.findChildren(QWidget))):
        found = [
            w for w in panel.findChildren(QWidget) if isinstance(w, kinds) and w.isVisibleTo(panel) and w.isEnabled()
        ]
        if n >= len(found):
            break
        w = found[n]
        if isinstance(w, Tick):
            w.click()
        else:
            for i in sorted({0, 1, w.count() // 2, w.count() - 1} & set(range(w.count()))):
                w.setCurrentIndex(i)
                w.activated.emit(i)
                QApplication.processEvents()
                opens_again(window)
                if w not in panel.findChildren(Choice):
                    break  # the panel was built anew
        opens_again(window)
        while window.session.history.undo_label:
            window.session.undo_edit()
        assert window.session.rig == rig
        window.session.change_selection(select())
        QApplication.processEvents()


def dialogs(window: Window) -> dict[str, Callable[[], Any]]:
    s, rig = window.session, window.session.rig
    mode = next(m for p in rig.profiles.values() for m in p.modes.values() if m.count_pixels)
    return {
        "AddFixtures": lambda: AddFixtures(s, window),
        "AddDevice": lambda: AddDevice(s, window),
        "Renumber": lambda: RenumberBlock(s, window),
        "PasteRows": lambda: PasteRows(s, "", window),
        "PasteRanges": lambda: PasteRanges(mode.channels[0], window),
        "Split": lambda: SplitElement(s, window, by_name(window, "PENSTOCK")),
        "Supplies": lambda: Supplies(s, window),
        "PixelKinds": lambda: PixelKinds(s, window),
        "Models": lambda: ModelEditor(s, window, rig.devices[by_name(window, "PENSTOCK")].model),
        "Face": lambda: FaceEditor(mode, None, window),
        "LayOut": lambda: LayForm(s, ["f503", "f504"]),
    }


@pytest.mark.parametrize(
    "name",
    [
        "AddFixtures", "AddDevice", "Renumber", "PasteRows", "PasteRanges", "Split", "Supplies", "PixelKinds",
        "Models", "Face", "LayOut"
    ]
)  # fmt: skip
def test_whatever_is_typed_into_a_dialog_can_be_saved_and_opened(window: Window, name: str) -> None:
    rig = window.session.rig

    @settings(max_examples=3, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.data())
    def type_it(data: st.DataObject) -> None:
        window.session.replace_rig(rig, None)
        dialog = dialogs(window)[name]()
        try:
            for w in dialog.findChildren(QPlainTextEdit):
                w.setPlainText(data.draw(TYPED))
            for w in dialog.findChildren(QLineEdit):
                w.setText(data.draw(TYPED))
                if isinstance(w, Field) and not w.commit():
                    w.revert()
            act = getattr(dialog, "go", None) or getattr(dialog, "add", None) or getattr(dialog, "in_rig", None)
            if act is not None and act.isEnabled():
                act.click()
            opens_again(window)
            if isinstance(dialog, FaceEditor):
                window.profiles.take_face(dialog.mode, dialog.picture)
                opens_again(window)
        finally:
            dialog.close()
            dialog.deleteLater()

    type_it()
