"""Draws the pictures of the documentation from the demo rig: `python -m welvo.app.screens FOLDER`."""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QBuffer, QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QImage, QPainter, QPixmap
from PySide6.QtWidgets import QApplication, QDialog, QWidget

from welvo.app.computer import Computer
from welvo.app.devices.find import FindDevice
from welvo.app.main import Demo, destroy_window, make_window
from welvo.app.session import Selection, Session
from welvo.app.widgets.face_editor import FaceEditor
from welvo.app.widgets.fields import Field
from welvo.app.window import Window
from welvo.formats.rigfile import save_rig_file
from welvo.formats.versions import name_version
from welvo.matching.lamps import bind_all
from welvo.patience import PatienceLimit
from welvo.rig import edits
from welvo.rig.profile import Spot
from welvo.rig.refs import Goto
from welvo.runs.edits import change_segment
from welvo.settings.compare import lines_that_differ
from welvo.standins.process import StandIns


def wait(condition: Callable[[], bool] | None = None, seconds: float = 6.0) -> bool:
    """Run the event loop until a condition holds, or for a moment when there is none."""
    limit = PatienceLimit(seconds if condition else 0.15)
    turns = 0
    while limit.lasts() or (turns < 5 and not condition):
        turns += 1
        QApplication.processEvents()
        if condition and condition():
            return True
        time.sleep(0.01)
    return condition is None


def drawn_front(cells: int = 14) -> bytes:
    """A page of a manual as it might be photographed: the front of a blinder with two staggered rows, as PNG."""
    image = QImage(900, 420, QImage.Format.Format_RGB32)
    image.fill(QColor("linen"))
    p = QPainter(image)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.setPen(QColor("darkslategray"))
    p.drawText(QPointF(40, 40), "Fig. 4  Front, numbering of the cells from above left")
    p.setBrush(QColor("tan"))
    p.drawRoundedRect(QRectF(60, 90, 780, 250), 18, 18)
    p.drawRect(QRectF(20, 190, 40, 50))
    p.drawRect(QRectF(840, 190, 40, 50))
    for at in front_places(cells):
        p.setBrush(QColor("gray"))
        p.drawEllipse(at, 46, 46)
        p.setBrush(QColor("ivory"))
        p.drawEllipse(at, 34, 34)
    p.drawText(QRectF(60, 350, 780, 30), Qt.AlignmentFlag.AlignCenter, "780 mm")
    p.end()
    buffer = QBuffer()
    buffer.open(QBuffer.OpenModeFlag.WriteOnly)
    image.save(buffer, "PNG")  # type: ignore[call-overload]
    return bytes(buffer.data().data())


def front_places(cells: int = 14) -> list[QPointF]:
    """Where the cells of `drawn_front` sit in the picture: the lower row stands half a cell to the right."""
    half = cells // 2
    return [QPointF(125 + 101 * (n % half) + (43 if n >= half else 0), 155 if n < half else 270) for n in range(cells)]


def _profiles(w: Window) -> None:
    w.session.change_selection(Selection("profile", ("p5",)))
    w.show_station("Profiles")
    w.profiles.ruler.pick_slot(0, 8)


def _face(w: Window) -> QDialog:
    w.session.change_selection(Selection("profile", ("p5",)))
    dialog = FaceEditor(w.profiles.mode, None, w)  # type: ignore[arg-type]
    with tempfile.TemporaryDirectory() as folder:
        picture = Path(folder) / "front.png"
        picture.write_bytes(drawn_front())
        dialog.load_path(picture)
    dialog.show()
    wait()
    for first, last in ((0, 6), (7, 13)):
        dialog.canvas.selected = set(range(first + 1, last + 2))
        dialog.canvas.place_in_series([on_picture(dialog, front_places()[n]) for n in (first, last)])
    dialog.set_tool("Number")
    dialog.canvas.clicked = [1, 8, 2, 9]
    return dialog


def on_picture(dialog: FaceEditor, at: QPointF) -> Spot:
    """The place, in pitches, of a point of the picture that `drawn_front` draws."""
    b = dialog.mode.backdrop
    assert b is not None
    return Spot(x=b.x + (at.x() / 900 - 0.5) * b.wide, y=b.y + (at.y() / 420 - 0.5) * b.wide * 420 / 900)


def _patch(w: Window) -> None:
    w.show_station("Patch")
    w.session.select_items(["f207"])
    w.patch.tapes.set_level("Fit")
    w.patch.tapes.toggle_lens("u3", 145)


def _runs(w: Window) -> None:
    w.patch.panel.close_form()
    w.patch.show_page("Tapes")
    w.go(Goto("run", device_named(w, "PENSTOCK"), "1"))
    w.runs.pick_place("1", 1, 18)


def _runs_bridge(w: Window) -> None:
    w.runs.pick_place("6", 2, 0)


def device_named(w: Window, name: str) -> str:
    return next(k for k, d in w.session.rig.devices.items() if d.name == name)


def _foreseen_run(w: Window) -> None:
    """A longer string before a bridge: who would move, said and drawn hollow while the number is typed."""
    w.runs.pick_place("6", 0, 0)
    wait()
    fields = (f for f in w.runs.panel.findChildren(Field) if f.isVisible())
    pixels = next(f for f in fields if f.accessibleName() == "Pixels")
    pixels.setFocus()
    pixels.setText("60")
    w.foresee_act(lambda: pixels.try_apply("60") if pixels.try_apply else None)
    pixels.held = True  # the picture is of the moment before Enter


def _foreseen_mode(w: Window) -> None:
    """Another mode that runs past its universe's end, before it is taken."""
    for field in w.runs.panel.findChildren(Field):
        field.revert()
        field.held = False
    w.show_station("Patch")
    spare = next(k for k, f in w.session.rig.fixtures.items() if f.name == "Kelp, spare")
    w.session.select_items([spare])
    drop = next(k for k, p in w.session.rig.profiles.items() if p.name == "Drop 14")
    w.patch.panel.what_if([spare], drop, next(iter(w.session.rig.profiles[drop].modes)))


def _findings(w: Window) -> None:
    w.show_station("Patch")
    if w.patch.panel.form:
        w.patch.panel.form.leave()
    w.session.select_items(["f207"])
    w.patch.tapes.set_level("Fit")
    w.toggle_findings()
    w.drawer.open_finding(next(f for f in w.session.report.findings if f.code == "PATCH-01"))


def _penstock(w: Window) -> str:
    """The pixel controller, with three settings that it does not have as planned."""
    while w.session.history.undo_label:
        w.session.undo_edit()
    found = next(k for k, d in w.session.rig.devices.items() if d.name == "PENSTOCK")
    w.session.make_edit(edits.plan_setting, found, "description", "Under the drum")
    w.session.make_edit(edits.plan_setting, found, "6.brightness", 60)
    w.session.make_edit(change_segment, found, "1", 1, fold=5)
    w.go(Goto("device", found))
    return found


def _devices(w: Window) -> None:
    if w.drawer.isVisible():
        w.drawer.toggle_drawer()
    _penstock(w)
    wait(lambda: len(lines_that_differ(w.devices.settings.lines)) == 3, 8)


def _lamps(w: Window) -> None:
    """The lamps of a port after a search: one in another mode, one never addressed, one without power."""
    while w.session.history.undo_label:
        w.session.undo_edit()
    found = next(k for k, d in w.session.rig.devices.items() if d.name == "WEIR-2")
    w.go(Goto("lamps", found, "A"))
    page = w.devices.lamps
    page.search.click()
    wait(lambda: bool(page.pairs) and not page.work.searches, 15)
    w.session.make_edit(bind_all, page.pairs)
    short = next(p for p in page.pairs if p.lamp and p.lines and p.lines[1].mark == "differs")
    page.list.picked.emit(short.lamp.uid if short.lamp else 0)
    wait(seconds=1.5, condition=lambda: False)


def _bus(w: Window) -> None:
    """A lamp bus after a search; two gear are about to be exchanged."""
    found = next(k for k, d in w.session.rig.devices.items() if d.name == "LEAT")
    w.go(Goto("bus", found, "BUS 1"))
    page = w.devices.bus
    page.search.click()
    wait(lambda: page.bus_shown not in page.work.progress and bool(page.places[0].seen), 20)
    page.board.moved.emit(3, 5)
    page.board.picked.emit(11)


def _bus_initialise(w: Window) -> None:
    """The warning before all gear gets new addresses, over the window."""
    page = w.devices.bus
    page.work.drop_staged(page.bus_shown)
    page.show_page("Board")
    w.session.change_selection(Selection("port", (page.device_id, page.port)))
    wait()

    def draw() -> None:
        dialog = QApplication.activeModalWidget()
        if dialog is not None:
            ground, above = w.grab(), dialog.grab()
            p = QPainter(ground)
            p.drawPixmap((w.width() - dialog.width()) // 2, (w.height() - dialog.height()) // 2, above)
            p.end()
            OVER["bus-initialise"] = ground
            dialog.close()

    QTimer.singleShot(400, draw)
    page.address.click()


def _find(w: Window) -> QDialog:
    """The same controller as it comes out of its box, at its factory address."""
    w.looks.choose_look("dark", 0)
    STAND_INS[0].stop_process()
    folder = tempfile.mkdtemp(prefix="welvo-screens-")
    file, state = Path(folder) / "rig.welvo", Path(folder) / "state.toml"
    save_rig_file(w.session.rig, file)
    state.write_text('["127.0.0.50"]\ninstead = "127.0.1.12"\n')
    STAND_INS[0] = StandIns(file, state)
    STAND_INS[0].wait_ready()
    dialog = FindDevice(w.session, w.network, _penstock(w), w)
    dialog.show()
    wait(lambda: dialog.search is not None, 15)
    shutil.rmtree(folder)
    return dialog


def _bench(w: Window) -> None:
    w.session.select_items(["f207"])
    w.show_station("Bench")
    w.network.output.arm_output()
    w.network.meant.levels.hold_function(["f207"], "Dimmer", 1.0)
    w.network.meant.levels.hold_function(["f207"], "Shutter1", 247 / 255)
    w.network.meant.levels.hold_function(["f207"], "ColorAdd_G", 1.0)
    w.network.meant.levels.hold_function(["f207"], "ColorAdd_B", 0.4)
    w.network.meant.note_touched()
    wait(seconds=2.0, condition=lambda: False)


def _bench_wire(w: Window) -> None:
    w.bench.cycles.stop_cycle()
    w.bench.show_page("Wire")
    w.bench.wire.tick(fresh=True)
    w.bench.wire._pick_wire(("sacn", 6))
    wait(seconds=1.5, condition=lambda: False)


def _sheets_ready(w: Window) -> None:
    station = w.sheets
    wait(lambda: not station.is_making and station.preview.is_drawn(), 15)


def _sheets(w: Window) -> None:
    w.network.output.disarm_output()
    w.network.meant.levels.release_items()
    while w.session.history.undo_label:
        w.session.undo_edit()
    s = w.session
    s.make_edit(name_version, "Issue 1", "Ines", "to the crew, before the drum was hung", s.clock_time() - 86_400)
    w.show_station("Sheets")
    w.sheets.choose_sheet("patch")
    _sheets_ready(w)


def _sheet_map(w: Window) -> None:
    w.looks.choose_look("light", 0)
    w.sheets.choices.only_selected = False
    w.sheets.choices.about = "3"
    w.sheets.choose_sheet("map")
    w.session.select_items(["f207"])
    _sheets_ready(w)


def _versions(w: Window) -> None:
    w.looks.choose_look("dark", 0)
    s = w.session
    s.make_edit(edits.move_item, "f207", 0, "u3", 431)
    s.make_edit(edits.take_out_items, ["f118b"])
    s.make_edit(edits.set_field, ["f102", "f103"], "Circuit", ["C2"])
    s.make_edit(edits.set_fixtures, "hang", {"f321": {"spot": (8.0, 13.0, 2.6)}})
    found = next(k for k, d in s.rig.devices.items() if d.name == "PENSTOCK")
    s.make_edit(change_segment, found, "1", 1, fold=5)
    w.sheets.show_page("Versions")
    w.sheets.versions.choose_versions(next(iter(s.rig.versions)), "now")
    w.sheets.versions.differences.selectRow(2)


def _positions(w: Window) -> None:
    w.show_station("Patch")
    w.patch.show_page("Positions")
    w.session.select_items([f"f{n}" for n in range(601, 609)])
    w.patch.positions_page.plan.fit_everything()


SHOTS: dict[str, Callable[[Window], QWidget | None]] = {
    "profiles": _profiles,
    "face-editor": _face,
    "patch": _patch,
    "runs": _runs,
    "runs-bridge": _runs_bridge,
    "foreseen-run": _foreseen_run,
    "foreseen-mode": _foreseen_mode,
    "findings": _findings,
    "devices": _devices,
    "lamps": _lamps,
    "bus": _bus,
    "bus-initialise": _bus_initialise,
    "bench": _bench,
    "bench-wire": _bench_wire,
    "sheets": _sheets,
    "sheets-map": _sheet_map,
    "versions": _versions,
    "positions": _positions,
    "devices-find": _find,
}
SHOWN = {
    "profiles": "UND", "face-editor": "UND", "patch": "207", "runs": "ceiling 2/38", "runs-bridge": "sill bridge",
    "findings": "304", "devices": "PENSTOCK", "lamps": "203", "bus": "LEAT", "foreseen-run": "rim",
    "foreseen-mode": "118", "bus-initialise": "LEAT", "bench": "207", "bench-wire": "207", "sheets": "207",
    "sheets-map": "207", "versions": "207", "positions": "8 items", "devices-find": "PENSTOCK",
}  # fmt: skip
"""What the path must be of when a picture is taken: what its caption says is selected."""
OVER: dict[str, QPixmap] = {}
"""Pictures that were taken while a dialog stood over the window."""
STAND_INS: list[StandIns] = []
"""The stand-ins that run at present."""


def main(folder: Path, only: list[str] | None = None, size: tuple[int, int] = (1280, 800)) -> int:
    """Write one PNG per main view. Gives 1 when the stand-ins were not heard."""
    app = QApplication.instance() or QApplication(["screens"])
    assert isinstance(app, QApplication)
    app.setStyle("Fusion")
    folder.mkdir(parents=True, exist_ok=True)
    demo = Demo()
    with tempfile.TemporaryDirectory() as state:
        try:
            demo.stand_ins.wait_ready()
            STAND_INS.append(demo.stand_ins)
            os.environ["XDG_CONFIG_HOME"] = state  # the pictures' own settings, not the user's
            computer = Computer(width=size[0], height=size[1], theme="dark", text_step=0)
            window = make_window(Session(demo.rig), computer, "127.0.0.1", Path(state))
            window.resize(1280, 800)  # the screen that draws may be smaller
            window.show()
            window.network.start_network()
            heard = wait(
                lambda: len(window.session.observed.heard) > 3 and "DEV-02" in window.session.report.codes_found, 15
            )
            for name, act in SHOTS.items():
                if only and name not in only:
                    continue
                shown = act(window)
                window.message.forget_shown()
                wait()
                of = window.ribbon.path_shown.target if window.ribbon.path_shown else ""
                if of != SHOWN[name]:
                    raise RuntimeError(f"the picture {name} is of {of or 'nothing'}, not of {SHOWN[name]}")
                (OVER.get(name) or (shown or window).grab()).save(str(folder / f"{name}.png"))
                if shown is not None:
                    shown.close()
            window.end_everything()
            destroy_window(window)
        finally:
            STAND_INS[0].stop_process()
            demo.stop()
    return 0 if heard else 1


if __name__ == "__main__":
    where = Path(sys.argv[1]) if len(sys.argv) > 1 else Path("docs/screenshots")
    wide = next((a for a in sys.argv[2:] if "x" in a and a.replace("x", "").isdigit()), "1280x800")
    width, height = (int(n) for n in wide.split("x"))
    sys.exit(main(where, [a for a in sys.argv[2:] if a != wide], (width, height)))
