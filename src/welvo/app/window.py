"""The window: head, rail, station, panel and path, put together. What its menus do is done by its parts: `stations`,
`files`, `looks`, `output`, `focusing`, `help`, `lost` and the network."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, Qt, QTimer
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QShowEvent,
)
from PySide6.QtWidgets import QToolTip, QWidget

from welvo.app.computer import Computer
from welvo.app.disk import SMALL_FILES
from welvo.app.faults import FaultLog
from welvo.app.findings import Drawer
from welvo.app.focusing import Focusing
from welvo.app.head import HeadBar, JumpBox, Rail
from welvo.app.help_pages import Help
from welvo.app.jobs.network import Network
from welvo.app.looks import Looks
from welvo.app.lost_work import LostWork
from welvo.app.menus import Menus
from welvo.app.output_acts import OutputActs
from welvo.app.panel_place import PanelPlace
from welvo.app.path import Ribbon
from welvo.app.recovery import Keeper
from welvo.app.rig_files import RigFiles
from welvo.app.session import Session
from welvo.app.stations import Stations
from welvo.app.widgets.fields import commit_focus
from welvo.app.widgets.file_dialog import FOLDERS
from welvo.app.widgets.literal import visible_letters
from welvo.app.widgets.message import Message
from welvo.app.widgets.painting import column_of_widgets, row_of_widgets
from welvo.app.widgets.start import Start
from welvo.app.widgets.strip import Strip
from welvo.app.widgets.theme import THEME
from welvo.live.worker import Fault

if TYPE_CHECKING:
    from welvo.app.bench.station import BenchStation
    from welvo.app.devices.rehearse import Rehearsal
    from welvo.app.devices.station import DevicesStation
    from welvo.app.patch.station import PatchStation
    from welvo.app.profiles.station import ProfilesStation
    from welvo.app.runs.station import RunsStation
    from welvo.app.sheets.station import SheetsStation

SMALLEST = (960, 540)
"""A screen of 1920 × 1080 at twice the size."""


class Window(QWidget):
    """One window over one session. `open_demo` is called by the menu's Drift Gallery entry."""

    def __init__(
        self, session: Session, network: Network, computer: Computer, state_folder: Path | None = None
    ) -> None:
        super().__init__()
        self.session, self.network, self.computer = session, network, computer
        FOLDERS.keep_in(computer)
        self.open_demo: Callable[[], object] | None = None
        self.on_close: list[Callable[[], object]] = []
        self.keeper = Keeper(session, state_folder or Computer.state_folder())
        self.fault_log = FaultLog()
        self.files = RigFiles(self, session, computer, self.keeper.faults)
        self.lost = LostWork(self, session, self.keeper)
        self.looks = Looks(computer)
        self.setMinimumSize(*SMALLEST)
        self.setAcceptDrops(True)
        self.menus = Menus(self)
        self.menus.insert_menu("Open recent", "File", "demo", self.files.fill_recent)
        self.stations = Stations(session, network, computer)
        self.output = OutputActs(self, session, network, computer, self.stations)
        self.menus.insert_menu("Interface", "Output", "read", self.output.fill_interfaces)
        self.help = Help(self, session)
        self.stations.begins.connect(self._follow_beginning)
        self.jump = JumpBox(session, self.menus.offered_commands, self.go)
        self.head = HeadBar(session, network, self.menus.bar, self.jump)
        self.rail = Rail()
        self.ribbon = Ribbon(session, network)
        self.focusing = Focusing(self, session, self.stations, self.head, self.jump, self.rail, self.ribbon)
        self.stations.enter_station(self.patch)
        layout = column_of_widgets(spacing=0)
        layout.addWidget(self.head)
        middle = row_of_widgets(self.rail, spacing=0)
        middle.addWidget(self.stations.stack, 1)
        self.panel_place = PanelPlace(self, computer, self.stations.panels, self.stations.stack, middle)
        layout.addLayout(middle, 1)
        self.strip = Strip(session)
        layout.addWidget(self.strip)
        layout.addWidget(self.ribbon)
        self.message = Message(session.clock_time)
        layout.addWidget(self.message)
        self.setLayout(layout)
        self.drawer = Drawer(session, network, self)
        self._connect_parts()
        self.show_station("Patch" if session.rig.profiles else "Profiles")
        self._say_state()

    def _connect_parts(self) -> None:
        session = self.session
        self.patch.panel.wanted.connect(self.panel_place.open_panel)
        session.said.connect(self.message.say)
        session.working.connect(self._say_working)
        session.search_wanted.connect(self._find_device)
        session.place_wanted.connect(self.go)
        session.done.connect(lambda words: self.message.say(words, "note", undo=True))
        self.message.undo.connect(session.undo_edit)
        session.changed.connect(lambda _: self.message.no_undo())
        session.about_to_act.connect(commit_focus)
        session.changed.connect(lambda _: self._say_state())
        session.replaced.connect(self._follow_replaced)
        session.changed.connect(lambda _: self.files.offer_starts())
        self.stations.shown.connect(self._station_shown)
        self.rail.picked.connect(self.show_station)
        self.jump.jumped.connect(self.focusing.focus_home)
        self.head.counts.clicked.connect(self.toggle_findings)
        self.head.arm.toggled.connect(self.output.toggle_arm)
        self.head.arm.choose.connect(lambda: self.output.choose_interface(self.head.arm))
        self.ribbon.go.connect(self.go)
        self.drawer.go.connect(self.go)
        self.network.armed_changed.connect(self._say_state)
        self.network.failed.connect(self.tell_fault)
        self.looks.changing.connect(session.commit_pending)
        self.looks.changed.connect(self.restyle)

    def foresee_act(self, act: Callable[[], object] | None) -> None:
        """Show what the edit that an act would make does to others; None: it is not about to be done any more."""
        self.strip.foresee_act(act)

    def informed(self, words: str) -> None:
        """What a widget below this window did and has to say."""
        self.session.say(words)

    def refused(self, why: str) -> None:
        """Where nothing nearer shows a refusal, the message line does."""
        self.session.say(why, "error")

    def tell_fault(self, fault: Fault) -> None:
        """Something unexpected happened: its trace goes into the log, and the rig into the journal."""
        words = self.fault_log.take_fault(fault)
        if words:
            if self.session.has_unsaved_edits:
                self.keeper.write_journal()
            self.session.say(words, "error")

    # ---- stations

    @property
    def profiles(self) -> ProfilesStation:
        return self.stations.profiles

    @property
    def patch(self) -> PatchStation:
        return self.stations.patch

    @property
    def runs(self) -> RunsStation:
        return self.stations.runs

    @property
    def devices(self) -> DevicesStation:
        return self.stations.devices

    @property
    def bench(self) -> BenchStation:
        return self.stations.bench

    @property
    def sheets(self) -> SheetsStation:
        return self.stations.sheets

    @property
    def station(self) -> str:
        return self.stations.current

    @property
    def go(self) -> Callable[..., None]:
        """Go to where something is set."""
        return self.stations.go_to_place

    @property
    def show_station(self) -> Callable[[str], None]:
        return self.stations.show_named

    def _follow_beginning(self, start: Start) -> None:
        start.demo.connect(self.menus.actions["demo"].trigger)
        self.files.begin_at(start)

    def _station_shown(self, name: str) -> None:
        other = name != self.rail.current
        self.rail.set_station(name)
        self.ribbon.station = name
        self.ribbon.update()
        if other and self.isActiveWindow():
            self.focusing.focus_home()

    def _follow_replaced(self) -> None:
        """Another rig stands there: whatever belonged to the former one goes with it."""
        self.network.output.disarm_output()
        self.network.meant.levels.release_items()
        self.network.meant.note_touched()
        self.jump.clear()
        self.message.forget_shown()
        self.drawer.forget()
        if "rehearsal" in self.__dict__ and self.rehearsal.is_running:
            self.rehearsal.stop_rehearsal()
            self.session.say("The simulated devices were those of the former rig; they have ended.", "note")
        for station in self.stations.built:
            station.forget()
        self.files.offer_starts()
        self.show_station("Patch" if self.session.rig.profiles else "Profiles")

    def _say_working(self, words: str) -> None:
        """Say at once, before the window is busy, what it is busy with."""
        self.message.say_now(words)

    def _find_device(self, device_id: str) -> None:
        """Wherever a device is said to be silent, the tests that tell why are a click away."""
        from welvo.app.devices.find import FindDevice

        if device_id in self.session.rig.devices:
            FindDevice(self.session, self.network, device_id, self).exec()

    def _say_state(self) -> None:
        """Title and menus say how things stand."""
        rig = self.session.rig
        file = f" · {self.session.path.name}" if self.session.path else ""
        state = " · not saved" if self.session.has_unsaved_edits else ""
        self.setWindowTitle(f"{visible_letters(rig.name)}{visible_letters(file)}{state} · Welvo")
        self.menus.bring_up_to_date()

    def restyle(self) -> None:
        self.menus.bring_up_to_date()
        self.panel_place.fit_to_window()
        for station in self.stations.built:
            station.restyle()
        self.drawer.refresh()
        for w in self.findChildren(QWidget):
            w.update()

    # ---- places in the window

    def toggle_findings(self) -> None:
        self._place_drawer()
        self.drawer.toggle_drawer()

    def _place_drawer(self) -> None:
        wide = min(600, self.width() - 300)
        self.drawer.setGeometry(self.width() - wide, 44, wide, self.height() - 44 - 84 - self.message.height())

    def step_finding(self, back: bool) -> None:
        if not self.drawer.isVisible():
            self.toggle_findings()
        self.drawer.step_to_finding(back)

    def showEvent(self, e: QShowEvent) -> None:
        """The keys begin at the station's first useful control, not at the jump box, which would swallow them."""
        super().showEvent(e)
        if self.focusWidget() in (None, self.jump):
            self.focusing.focus_home()

    def resizeEvent(self, e: QResizeEvent) -> None:
        super().resizeEvent(e)
        self.panel_place.fit_to_window()
        self._place_drawer()

    @property
    def panel_shown(self) -> bool:
        return self.panel_place.is_shown

    def toggle_panel(self) -> None:
        self.panel_place.toggle_panel()
        self.menus.bring_up_to_date()

    # ---- rehearsing

    @cached_property
    def rehearsal(self) -> Rehearsal:
        """The simulated devices of this window; they end with it."""
        from welvo.app.devices.rehearse import Rehearsal

        made = Rehearsal()
        self.on_close.append(made.stop_rehearsal)
        return made

    def open_rehearsal(self) -> None:
        from welvo.app.devices.rehearse import RehearseRig

        self.session.commit_pending()
        RehearseRig(self.session, self.rehearsal, self).exec()

    # ---- coming, going, and help

    def dragEnterEvent(self, e: QDragEnterEvent) -> None:
        if e.mimeData().hasUrls():
            e.acceptProposedAction()

    def dropEvent(self, e: QDropEvent) -> None:
        """Files that are dropped anywhere on the window."""
        dropped = [Path(u.toLocalFile()) for u in e.mimeData().urls() if u.isLocalFile()]
        e.acceptProposedAction()
        QTimer.singleShot(
            0, self, lambda: self.files.take_dropped(dropped)
        )  # whoever dropped must not wait for a question

    def come_forward(self) -> None:
        """Somebody wants to see this window."""
        if self.isMinimized():
            self.showNormal()
        self.raise_()
        self.activateWindow()

    def toggle_full_screen(self) -> None:
        self.showNormal() if self.isFullScreen() else self.showFullScreen()

    def closeEvent(self, e: QCloseEvent) -> None:
        if not self.files.may_leave():
            e.ignore()
            return
        self.computer.width, self.computer.height = self.width(), self.height()
        self.stations.remember_splits()
        self.computer.interface = self.network.hearing.missing or self.network.hearing.interface.ip
        self.computer.save_settings()
        self.end_everything()
        e.accept()

    def end_everything(self) -> None:
        """End output, listening and what was started with the window; the journal is not needed any more."""
        self.network.end_network()
        self.files.close()
        self.keeper.close()
        for act in (*self.stations.on_close, *self.on_close):
            act()
        SMALL_FILES.close()
        self.stations.on_close.clear()
        self.on_close.clear()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() == Qt.Key.Key_Escape and self.patch.panel.form is not None and not self.drawer.isVisible():
            self.patch.panel.form.leave()
        elif e.key() == Qt.Key.Key_Escape and self.drawer.isVisible():
            self.drawer.toggle_drawer()
        else:
            super().keyPressEvent(e)

    def event(self, e: QEvent) -> bool:
        if e.type() == QEvent.Type.WindowDeactivate:
            QToolTip.hideText()
        return super().event(e)

    def paintEvent(self, _: QPaintEvent) -> None:
        QPainter(self).fillRect(self.rect(), THEME.color("station"))
