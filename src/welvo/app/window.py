"""The window: head, rail, station, panel and path, and what the menus do."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from PySide6.QtCore import QEvent, QObject, Qt, QTimer, Signal
from PySide6.QtGui import (
    QAction,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QGuiApplication,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QShowEvent,
)
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QMenu,
    QMenuBar,
    QStackedWidget,
    QToolTip,
    QWhatsThis,
    QWidget,
)

from welvo.app import always_keys, commands
from welvo.app.computer import Computer
from welvo.app.disk import Newest, wait_for
from welvo.app.faults import FaultLog
from welvo.app.findings import Drawer
from welvo.app.head import Head, JumpBox, Rail
from welvo.app.network import Network
from welvo.app.panel_place import PanelPlace
from welvo.app.patch.station import PatchStation
from welvo.app.path import Ribbon
from welvo.app.recovery import Keeper
from welvo.app.session import Selection, Session
from welvo.app.widgets import dialogs, theme
from welvo.app.widgets.desktop_look import desktop_look
from welvo.app.widgets.fields import Field, commit_focus
from welvo.app.widgets.literal import literal, menu_words, paragraph, visible
from welvo.app.widgets.message import Message
from welvo.app.widgets.painting import column, focus_is_due, row
from welvo.app.widgets.painting import menu as popup_menu
from welvo.app.widgets.refusals import guarded
from welvo.app.widgets.theme import THEME
from welvo.formats import journal
from welvo.formats.files import (
    ChangedOnDisk,
    RigFileError,
    Stamp,
    backup_words,
    free_name,
    path_to_text,
    shown_name,
    text_to_path,
)
from welvo.formats.rigfile import save as write_rig
from welvo.live.interfaces import interfaces
from welvo.live.worker import Fault
from welvo.rig.document import Rig
from welvo.rig.edits import rename_rig
from welvo.rig.notation import plural
from welvo.rig.plan import setting_key
from welvo.rig.refs import Goto, to_run

if TYPE_CHECKING:
    from welvo.app.bench.station import BenchStation
    from welvo.app.devices.rehearse import Rehearsal
    from welvo.app.devices.station import DevicesStation
    from welvo.app.profiles.station import ProfilesStation
    from welvo.app.runs.station import RunsStation
    from welvo.app.sheets.station import SheetsStation

    Station = ProfilesStation | PatchStation | RunsStation | DevicesStation | BenchStation | SheetsStation


SMALLEST = (960, 540)
"""A screen of 1920 × 1080 at twice the size."""


class Window(QWidget):
    """One window over one session. `open_demo` is called by the menu's Drift Gallery entry."""

    _outcome = Signal(object)

    def __init__(
        self, session: Session, network: Network, computer: Computer, state_folder: Path | None = None
    ) -> None:
        super().__init__()
        self.session, self.network, self.computer = session, network, computer
        self.open_demo: Callable[[], object] | None = None
        self.on_close: list[Callable[[], object]] = []
        self.keeper = Keeper(session, state_folder or Computer.state_folder())
        self.fault_log = FaultLog()
        self._saver = Newest("saving", self.keeper.faults)
        self._followed_by: dict[Stamp | None, Stamp] = {}
        """What each file that was saved over has become."""
        self.setMinimumSize(*SMALLEST)
        self.setAcceptDrops(True)
        self.patch = PatchStation(session, network)
        self._built: list[Station] = []
        self.stack, self.panels = QStackedWidget(), QStackedWidget()
        self._menus()
        self.jump = JumpBox(session, self._offered, self.go)
        self.head = Head(session, network, self.menus, self.jump)
        self.rail = Rail()
        self.ribbon = Ribbon(session, network)
        self._enter(self.patch)
        layout = column(spacing=0)
        layout.addWidget(self.head)
        middle = row(self.rail, spacing=0)
        middle.addWidget(self.stack, 1)
        self.panel_place = PanelPlace(self, self.panels, self.stack, middle)
        layout.addLayout(middle, 1)
        layout.addWidget(self.ribbon)
        self.setLayout(layout)
        self.drawer = Drawer(session, network, self)
        self.message = Message(self)
        self._connect()
        self.show_station("Patch" if session.rig.profiles else "Profiles")
        self._titles()

    def informed(self, words: str) -> None:
        """What a widget below this window did and has to say."""
        self.session.say(words)

    def refused(self, why: str) -> None:
        """Where nothing nearer shows a refusal, the message line does."""
        self.session.say(why, "error")

    def _connect(self) -> None:
        self.patch.panel.wanted.connect(self.panel_place.open)
        hints = QGuiApplication.styleHints()
        hints.colorSchemeChanged.connect(self.desktop_changed)
        hints.accessibility().contrastPreferenceChanged.connect(self.desktop_changed)
        self.session.said.connect(self.message.say)
        self.session.working.connect(self._working)
        self.session.done.connect(lambda words: self.message.say(words, "note", undo=True))
        self.message.undo.connect(self.session.undo)
        self.session.changed.connect(lambda _: self.message.no_undo())
        self._homing = QTimer(self, singleShot=True, interval=30)
        self._homing.timeout.connect(self._focus_again)
        self.session.changed.connect(lambda _: self._homing.start())
        self.session.selection_changed.connect(self._homing.start)
        self.session.about_to_act.connect(commit_focus)
        self.session.changed.connect(lambda _: self._titles())
        self.session.replaced.connect(self._replaced)
        self.session.changed.connect(lambda _: self._offer_start())
        self.rail.picked.connect(self.show_station)
        self.head.counts.clicked.connect(self.toggle_findings)
        self.head.arm.toggled.connect(self.toggle_arm)
        self.head.arm.choose.connect(self._choose_interface)
        self.ribbon.go.connect(self.go)
        self.drawer.go.connect(self.go)
        self.network.armed_changed.connect(self._titles)
        self.network.failed.connect(self.tell_fault)
        self._outcome.connect(self._saved_soon, Qt.ConnectionType.QueuedConnection)

    def tell_fault(self, fault: Fault) -> None:
        """Something unexpected happened: its trace goes into the log, and the rig into the journal."""
        words = self.fault_log.take(fault)
        if words:
            if self.session.dirty:
                self.keeper.write()
            self.session.say(words, "error")

    # ---- stations

    def _enter(self, station: Station) -> None:
        self._built.append(station)
        self.stack.addWidget(station)
        self.panels.addWidget(station.panel)
        sizes = self.computer.splits.get(type(station).__name__, [])
        if isinstance(station, PatchStation) or hasattr(station, "splitter"):
            if len(sizes) == station.splitter.count() and any(sizes):
                station.splitter.setSizes(sizes)
        if hasattr(station, "start"):
            station.start.open_file.connect(self.open_dialog)
            station.start.open_recent.connect(self._open_recent)
            station.start.demo.connect(self.actions_by_id["demo"].trigger)
            self._offer_start()

    # All stations but Patch are built when they are first wanted: a start must not wait for what nobody looks at.

    @cached_property
    def profiles(self) -> ProfilesStation:
        from welvo.app.profiles.station import ProfilesStation

        made = ProfilesStation(self.session, self.network)
        self._enter(made)
        return made

    @cached_property
    def runs(self) -> RunsStation:
        from welvo.app.runs.station import RunsStation

        made = RunsStation(self.session, self.network)
        made.show_in_patch.connect(self._show_in_patch)
        self._enter(made)
        return made

    def _show_in_patch(self, wanted: str) -> None:
        """Show only those rows of the list that answer a filter."""
        self.show_page("Tapes")
        self.patch.filter.setText(wanted)

    @cached_property
    def devices(self) -> DevicesStation:
        from welvo.app.devices.station import DevicesStation

        made = DevicesStation(self.session, self.network)
        made.runs.connect(lambda device_id: self.go(to_run(device_id)))
        made.panel.profile.connect(lambda pid: self.go(Goto("profile", pid)))
        self._enter(made)
        return made

    @cached_property
    def bench(self) -> BenchStation:
        from welvo.app.bench.station import BenchStation

        made = BenchStation(self.session, self.network)
        self._enter(made)
        return made

    @cached_property
    def sheets(self) -> SheetsStation:
        from welvo.app.sheets.station import SheetsStation

        made = SheetsStation(self.session, self.network, self.computer)
        self.on_close.append(made.close_all)
        self._enter(made)
        return made

    def print_sheet(self) -> None:
        """Show the sheet that was chosen last; from there it is printed."""
        shown = self.station == "Sheets"
        self.show_station("Sheets")
        if shown:
            self.sheets.print()
        else:
            self.session.say("This is the sheet that is chosen; Ctrl+P again prints it.")

    @property
    def stations(self) -> dict[str, Station]:
        """All stations by name; those that nobody has looked at yet are built by it."""
        return {
            "Profiles": self.profiles,
            "Patch": self.patch,
            "Runs": self.runs,
            "Devices": self.devices,
            "Bench": self.bench,
            "Sheets": self.sheets,
        }

    @property
    def station(self) -> str:
        return self.rail.current

    def _home(self) -> QWidget | None:
        """The first useful control of the station that is shown."""
        shown = self.stack.currentWidget()
        wanted = {
            "Profiles": ("line", "first", "new"),
            "Patch": ("tapes", "wish", "list"),
            "Runs": ("riser", "attach", "box"),
            "Devices": ("pairs", "add"),
            "Bench": ("bank", "pick"),
            "Sheets": ("list", "preview"),
        }[self.station]
        found = (getattr(shown, name) for name in wanted)
        usable = (w for w in found if w.isVisible() and w.isEnabled() and w.focusPolicy() != Qt.FocusPolicy.NoFocus)
        return next(usable, None) or self._first_in(self.stack)

    def _focus_again(self) -> None:
        """After an act whose button is gone, the focus stands nowhere: it goes to the station, where keys do things."""
        if focus_is_due():
            self._homing.start()
        elif QApplication.focusWidget() is None and self.isActiveWindow():
            home = self._home()
            if home:
                home.setFocus()

    def show_station(self, name: str) -> None:
        self.session.commit_pending()
        other = name != self.station
        self.rail.set(name)
        shown: Station = getattr(self, name.lower())
        self.stack.setCurrentWidget(shown)
        self.panels.setCurrentWidget(shown.panel)
        self.ribbon.station = name
        self.ribbon.update()
        if name == "Devices":
            self.devices.choose_first()
        if other and self.isActiveWindow():
            home = self._home()
            if home:
                home.setFocus()

    def go(self, to: Goto) -> None:
        """Go to where something is set, and select it there. What is gone leaves the selection as it was."""
        rig = self.session.rig
        parts: dict[str, Iterable[str]] = {
            "item": {**rig.fixtures, **rig.elements},
            "patch": {**rig.fixtures, **rig.elements},
            "universe": rig.universes,
            "feed": rig.feeds,
            "device": rig.devices,
            "port": rig.devices,
            "lamps": rig.devices,
            "bus": rig.devices,
            "run": rig.devices,
            "sender": rig.senders,
            "use": rig.uses,
            "profile": rig.profiles,
            "heard": (to.id,),
        }
        if to.kind == "wire":
            same = (f for f, v in rig.feeds.items() if (v.protocol, v.wire) == (to.id, to.place))
            to = Goto("feed", next(same, ""))
        station, select = self._GOES[to.kind]
        if to.kind in ("item", "patch", "universe", "slot"):
            self.patch.show_page("Tapes")
        there = to.kind in parts and to.id in parts[to.kind]
        if there and select:
            self.session.select(select(to))
        self.show_station(station)
        if station == "Devices":
            self.devices.show_page({"lamps": "Lamps", "bus": "Bus"}.get(to.kind, "Settings"))
        if to.kind in ("sender", "use"):
            self.patch.show_page("Senders")
        elif to.kind == "unattached":
            self.runs.show_unattached()
        elif to.kind == "run" and there:
            self.runs.show_place(to.id, to.port, to.place)

    _GOES: ClassVar[dict[str, tuple[str, Callable[[Goto], Selection] | None]]] = {
        "": ("Patch", None),
        "item": ("Patch", lambda to: Selection("item", (to.id,))),
        "patch": ("Patch", lambda to: Selection("item", (to.id,))),
        "slot": ("Patch", None),
        "universe": ("Patch", lambda to: Selection("universe", (to.id,))),
        "feed": ("Patch", lambda to: Selection("feed", (to.id,))),
        "device": ("Devices", lambda to: Selection("device", (to.id,))),
        "port": ("Devices", lambda to: Selection("port", (to.id, to.port), setting=setting_key(to.port, "universe"))),
        "lamps": ("Devices", lambda to: Selection("port", (to.id, to.port), lamp=max(0, to.place))),
        "bus": ("Devices", lambda to: Selection("port", (to.id, to.port), place=to.place)),
        "run": ("Runs", None),
        "unattached": ("Runs", None),
        "supply": ("Runs", None),
        "heard": ("Devices", lambda to: Selection("heard", (to.id,))),
        "sender": ("Patch", lambda to: Selection("sender", (to.id,))),
        "use": ("Patch", lambda to: Selection("use", (to.id,))),
        "profile": ("Profiles", lambda to: Selection("profile", (to.id,))),
        "devices": ("Devices", None),
        "bench": ("Bench", None),
    }
    """For each kind of place: its station, and what is selected there."""

    def _working(self, words: str) -> None:
        """Say at once, before the window is busy, what it is busy with."""
        self.message.say(words, "note")
        self.message.repaint()

    def toggle_findings(self) -> None:
        self._place_drawer()
        self.drawer.toggle()

    def _place_drawer(self) -> None:
        wide = min(600, self.width() - 300)
        self.drawer.setGeometry(self.width() - wide, 44, wide, self.height() - 44 - 84)

    def showEvent(self, e: QShowEvent) -> None:
        """The keys begin at the station's first useful control, not at the jump box, which would swallow them."""
        super().showEvent(e)
        home = self._home()
        if home and self.focusWidget() in (None, self.jump):
            home.setFocus()

    def resizeEvent(self, e: QResizeEvent) -> None:
        super().resizeEvent(e)
        self.panel_place.fit()
        self._place_drawer()
        if self.message.isVisible():
            self.message._place()

    # ---- commands

    def _menus(self) -> None:
        """Build the menus from the table of commands; what is in none of them has its keys all the same."""
        self.menus = QMenuBar()
        self.menus.setNativeMenuBar(False)
        self.actions_by_id: dict[str, QAction] = {}
        self._menu_of: dict[str, QMenu] = {
            name: self.menus.addMenu(words)
            for name, words in zip(commands.MENUS, commands.with_mnemonics(commands.MENUS))
        }
        for menu in self._menu_of.values():
            menu.setToolTipsVisible(True)
        for c in commands.COMMANDS:
            action = QAction(self)
            action.triggered.connect(lambda *_, c=c: guarded(self, c.act, self))
            action.setShortcuts([QKeySequence(k) for k in c.keys])
            action.setToolTip(commands.tip(c.id))
            self.addAction(action)
            self.actions_by_id[c.id] = action
            if c.id in ("blackout", "disarm"):
                always_keys.mark(action)
            if c.menu:
                menu = self._menu_of[c.menu]
                if c.line:
                    menu.addSeparator()
                menu.addAction(action)
        self._recent = QMenu("Open recent", self)
        self._menu_of["File"].insertMenu(self.actions_by_id["demo"], self._recent)
        self._recent.aboutToShow.connect(self._fill_recent)
        interface = QMenu("Interface", self)
        self._menu_of["Output"].insertMenu(self.actions_by_id["read"], interface)
        interface.aboutToShow.connect(lambda: self._fill_interfaces(interface))

    def _show_commands(self) -> None:
        """Bring words and whether it applies up to date, with Alt letters that no two entries of a menu share."""
        for name in self._menu_of:
            of_menu = [c for c in commands.COMMANDS if c.menu == name]
            said = commands.with_mnemonics(c.shown(self) if c.shown else c.words for c in of_menu)
            for c, words in zip(of_menu, said):
                action = self.actions_by_id[c.id]
                if action.text() != words:
                    action.setText(words)
                action.setEnabled(c.when(self))

    def _offered(self) -> dict[str, Callable[[], object]]:
        """What the jump box can do: every command with words in a menu that applies now."""
        return {
            (c.shown(self) if c.shown else c.words): self.actions_by_id[c.id].trigger
            for c in commands.COMMANDS
            if c.menu and c.when(self)
        }

    @property
    def light(self) -> bool:
        return THEME.name == "light"

    @property
    def large(self) -> bool:
        return bool(THEME.step)

    @property
    def panel_shown(self) -> bool:
        return self.panel_place.shown

    def focus_jump(self) -> None:
        self.jump.setFocus()
        self.jump.selectAll()

    def next_region(self, back: bool) -> None:
        """F6: head, rail, station, panel, path."""
        regions: list[QWidget] = [self.head, self.rail, self.stack, self.panels, self.ribbon]
        focus = QApplication.focusWidget()
        now = next((n for n, r in enumerate(regions) if focus and (focus is r or r.isAncestorOf(focus))), -1)
        for step in range(1, len(regions) + 1):
            region = regions[(now + (-step if back else step)) % len(regions)]
            target = self.jump if region is self.head else self._first_in(region)
            if target:
                target.setFocus(Qt.FocusReason.TabFocusReason)
                return

    def _first_in(self, region: QWidget) -> QWidget | None:
        if region.focusPolicy() != Qt.FocusPolicy.NoFocus:
            return region
        if region is self.stack and self.station == "Patch" and self.patch.tapes.isVisible():
            return self.patch.tapes
        return next(
            (
                w
                for w in region.findChildren(QWidget)
                if w.isVisible() and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus
            ),
            None,
        )

    def _titles(self) -> None:
        rig = self.session.rig
        file = f" · {self.session.path.name}" if self.session.path else ""
        state = " · not saved" if self.session.dirty else ""
        self.setWindowTitle(f"{visible(rig.name)}{visible(file)}{state} · Welvo")
        self._show_commands()

    def _replaced(self) -> None:
        """Another rig stands there: whatever belonged to the former one goes with it."""
        self.network.disarm()
        self.network.levels.release()
        self.network.touch()
        self.jump.clear()
        self.drawer.forget()
        for station in self._built:
            station.forget()
        self._offer_start()
        self.show_station("Patch" if self.session.rig.profiles else "Profiles")

    # ---- files

    def may_leave(self) -> bool:
        """Ask what to do with a rig that is not saved. False means stay."""
        self.session.commit_pending()
        if not self.session.dirty:
            return True
        wanted = dialogs.ask_act(
            self,
            "Not saved",
            f"“{self.session.rig.name}” has changes that are in no file yet.",
            [("discard", "Discard them"), ("save", "Save them")],
            "Stay here",
        )
        return self.save() if wanted == "save" else wanted == "discard"

    def new_rig(self) -> None:
        if self.may_leave():
            self.session.replace(Rig(), None)

    def open_dialog(self) -> None:
        if self.may_leave():
            name, _ = QFileDialog.getOpenFileName(
                self, "Open a rig", self._folder(), "Rigs (*.welvo *.json);;All files (*)"
            )
            if name:
                self.open_file(Path(name))

    def dragEnterEvent(self, e: QDragEnterEvent) -> None:
        if e.mimeData().hasUrls():
            e.acceptProposedAction()

    def dropEvent(self, e: QDropEvent) -> None:
        """Files that are dropped anywhere on the window."""
        files = [Path(u.toLocalFile()) for u in e.mimeData().urls() if u.isLocalFile()]
        e.acceptProposedAction()
        QTimer.singleShot(0, self, lambda: self.take_files(files))  # whoever dropped them must not wait for a question

    def take_files(self, files: list[Path]) -> None:
        """Open a rig, take profiles into the rig; of anything else is said what it is not."""
        rigs = [f for f in files if f.suffix.lower() in (".welvo", ".json")]
        profiles = [f for f in files if f.suffix.lower() in (".gdtf", ".csv", ".txt")]
        tables = [f for f in files if f.suffix.lower() in (".xlsx", ".ods", ".mvr")]
        others = [f for f in files if f not in rigs and f not in profiles and f not in tables]
        if others:
            name = visible(others[0].name)
            words = f"{name} is no rig (.welvo, .json), no profile (.gdtf, .csv, .txt), no table and no scene."
            self.session.say(words, "warning")
        elif tables and len(files) == 1:
            guarded(self, self.import_file, tables[0])
        elif len(rigs) > 1 or tables or (rigs and profiles):
            self.session.say("Drop one rig, or profiles for the one that is open.", "warning")
        elif rigs:
            if self.may_leave():
                self.open_file(rigs[0])
        elif profiles:
            from welvo.app.profiles.library import import_profile

            for file in profiles:
                guarded(self, import_profile, self.session, file)

    def import_dialog(self) -> None:
        kinds = "What can be imported (*.csv *.xlsx *.ods *.mvr *.gdtf);;All files (*)"
        name, _ = QFileDialog.getOpenFileName(self, "Import", self._folder(), kinds)
        if name:
            self.import_file(Path(name))

    def import_file(self, path: Path) -> None:
        """A table, a scene or a fixture type into the rig that is open. Raises Refused for what cannot be read."""
        kind = path.suffix.lower()
        if kind == ".gdtf":
            from welvo.app.profiles.library import import_profile

            import_profile(self.session, path)
        elif kind == ".mvr":
            from welvo.app.patch.scenes import ImportScene

            ImportScene(self.session, path, self).exec()
        else:
            from welvo.app.patch.import_table import ImportTable

            ImportTable(self.session, self.computer, path, self).exec()

    def export_list(self) -> None:
        from welvo.app.patch.export import ask_export

        ask_export(self.session, self)

    def export_scene(self) -> None:
        from welvo.app.patch.scenes import ask_export_scene

        ask_export_scene(self.session, self)

    def open_file(self, path: Path) -> bool:
        """Open a file in place of the present rig; what cannot be opened changes nothing."""
        if not self.session.open(path):
            return False
        self.computer.remember(path)
        self.computer.save()
        return True

    def save(self) -> bool:
        """Save and wait until it is done; the window goes on meanwhile."""
        if self.session.path is None:
            return self.save_as()
        return self._save_to(self.session.path)

    def save_soon(self) -> None:
        """Save without waiting for the disk; what comes of it is said."""
        session = self.session
        session.commit_pending()
        path = session.path
        if path is None:
            self.save_as()
            return
        rig, expected = session.rig, session.expected(path)

        def work() -> None:
            now = expected
            while now in self._followed_by:  # a save before this one, which nobody knew the end of yet
                now = self._followed_by[now]
            try:
                outcome: object = write_rig(rig, path, now)
            except RigFileError as e:
                outcome = e
            if now and isinstance(outcome, Stamp) and outcome != now:
                self._followed_by[now] = outcome
            self._outcome.emit((rig, path, outcome))

        self._saver.put(work)

    def _saved_soon(self, what: tuple[Rig, Path, object]) -> None:
        rig, path, outcome = what
        if isinstance(outcome, ChangedOnDisk):
            self._save_beside(path, str(outcome))
        elif isinstance(outcome, RigFileError):
            self.session.say(str(outcome), "error")
        elif path == self.session.path:  # else another rig was opened meanwhile
            assert outcome is None or isinstance(outcome, Stamp)
            self.session.was_saved(rig, path, outcome)
            self._say_saved(path)

    def save_as(self) -> bool:
        self.session.commit_pending()
        start = str(Path(self._folder()) / f"{self.session.rig.name or 'rig'}.welvo")
        name, _ = QFileDialog.getSaveFileName(self, "Save the rig", start, "Rig (*.welvo);;Rig as bare JSON (*.json)")
        if not name:
            return False
        path = Path(name)
        path = path if path.suffix in (".welvo", ".json") else path.with_name(path.name + ".welvo")
        return self._save_to(path, over=True)

    def _save_to(self, path: Path, over: bool = False) -> bool:
        wait_for(lambda: self._saver.settle(60.0))
        try:
            if not self.session.save(path, over):
                return False
        except ChangedOnDisk as e:
            return self._save_beside(path, str(e))
        self._say_saved(path)
        return True

    def _save_beside(self, path: Path, why: str) -> bool:
        """The file is another one than was opened: keep both, or write over it, as the operator says."""
        other = free_name(path)
        wanted = dialogs.ask_act(
            self,
            "Changed meanwhile",
            f"{why} Your rig is not saved yet. Keep both, yours as {shown_name(other)}? Written over, the other is "
            f"kept as {backup_words(path)}.",
            [("over", "Write over it"), ("keep", "Keep both")],
            "Not now",
        )
        if wanted == "over":
            return self._save_to(path, over=True)
        return wanted == "keep" and self._save_to(other, over=True)

    def _say_saved(self, path: Path) -> None:
        self.computer.remember(path)
        self.computer.save()
        self.session.say(f"Saved as {shown_name(path)}.")

    def _folder(self) -> str:
        return str(self.session.path.parent) if self.session.path else str(Path.home())

    def _fill_recent(self) -> None:
        self._recent.clear()
        for path in self._recent_files():
            entry = self._recent.addAction(menu_words(shown_name(path)), partial(self._open_recent, path))
            entry.setToolTip(literal(path_to_text(path)))
        if not self.computer.recent:
            self._recent.addAction("nothing opened yet").setEnabled(False)

    def _recent_files(self) -> list[Path]:
        return [p for p in map(text_to_path, self.computer.recent) if p]

    def _offer_start(self) -> None:
        """Where there is nothing at all yet, the empty pages also say where else to begin."""
        rig = self.session.rig
        nothing = not (rig.profiles or rig.fixtures or rig.elements or rig.devices or self.session.path)
        for start in (x.start for x in self._built if hasattr(x, "start")):
            if nothing:
                start.offer(self._recent_files())
            start.setVisible(nothing)

    def _open_recent(self, path: Path) -> None:
        if self.may_leave():
            self.open_file(path)

    def rename(self) -> None:
        self.session.commit_pending()
        dialogs.ask_line(
            self,
            "Rename the rig",
            "What this installation is called.",
            lambda name: self.session.edit(rename_rig, name.strip()),
            value=self.session.rig.name,
            go="Rename",
        )

    def look_for_lost(self) -> None:
        """Offer back what windows that ended without saving have left."""
        found, damaged = wait_for(lambda: journal.abandoned(self.keeper.folder))
        self.offer_recovery(found)
        if damaged:
            self.session.say(
                f"{plural(len(damaged), 'kept rig')} of an earlier window cannot be read, and is left as it is: "
                f"{damaged[0]}.",
                "warning",
            )

    def offer_recovery(self, found: list[journal.Recovered]) -> None:
        """Rigs of windows that ended without saving are offered back, newest first."""
        for r in found:
            when = time.strftime("%d %b, %H:%M:%S", time.localtime(r.written))
            wanted = dialogs.ask_act(
                self,
                "Not saved last time",
                f"“{r.name}” was open when Welvo ended without saving. Its last edits, of {when}, are kept.",
                [("discard", "Discard it"), ("open", "Open it")],
                "Ask again later",
            )
            if wanted == "open":
                self.recover(r)
                return
            if wanted == "discard":
                journal.discard(r.file)

    def recover(self, r: journal.Recovered) -> None:
        self.session.replace(r.rig, r.path, saved=False)
        self.keeper.write()
        if wait_for(self.keeper.settle) and not self.keeper.problem:
            journal.discard(r.file)
        self.session.say(f"“{r.name}” is back as it was; it is not saved yet.")

    def closeEvent(self, e: QCloseEvent) -> None:
        if not self.may_leave():
            e.ignore()
            return
        self.computer.width, self.computer.height = self.width(), self.height()
        self.computer.splits = {type(x).__name__: x.splitter.sizes() for x in self._built if hasattr(x, "splitter")} | {
            k: v for k, v in self.computer.splits.items() if k not in {type(x).__name__ for x in self._built}
        }
        self.computer.interface = self.network.missing or self.network.interface.ip
        self.computer.save()
        self.shut()
        e.accept()

    def shut(self) -> None:
        """End output, listening and what was started with the window; the journal is not needed any more."""
        self.network.close()
        self._saver.stop(60.0)
        self.keeper.close()
        for act in self.on_close:
            act()
        self.on_close.clear()

    # ---- acting

    def toggle_quiet(self) -> None:
        self.computer.quiet = not self.network.quiet
        self.computer.save()
        self.network.set_quiet(self.computer.quiet)
        self.session.say(
            "Quiet: nothing at all leaves this computer before you arm, and devices are not asked for."
            if self.computer.quiet
            else "Devices are asked for every 2.6 seconds, and the groups of the rig's universes are joined."
        )

    def ask_interface(self) -> None:
        """The interface that was used last time is not there: which one instead is for the operator to say."""
        found = interfaces()
        wanted = dialogs.ask_which(
            self,
            "Interface",
            f"The interface with {self.network.missing}, which was used last time, is not there. Welvo hears and sends "
            "nothing until you choose another one.",
            [(i.ip, i.label) for i in found],
            "Use it",
            "Instead",
        )
        for i in found:
            if i.ip == wanted:
                self.network.use(i)

    def toggle_arm(self) -> None:
        if self.network.armed:
            self.network.disarm()
        elif not self.network.arm() and self.network.nothing_fed:
            self.show_station("Bench")
            self.bench.borrowed.setFocus()

    def _fill_interfaces(self, menu: QMenu) -> None:
        menu.clear()
        for i in interfaces():
            action = menu.addAction(menu_words(i.label), partial(self.network.use, i))
            action.setCheckable(True)
            action.setChecked(i.ip == self.network.interface.ip)

    def _choose_interface(self) -> None:
        menu = popup_menu(self)
        self._fill_interfaces(menu)
        menu.exec(self.head.arm.mapToGlobal(self.head.arm.rect().bottomLeft()))

    def add_here(self) -> None:
        if self.station == "Patch":
            self.patch.add_fixtures()
        elif self.station == "Runs":
            self.runs.attach.setFocus()
        elif self.station == "Devices":
            self.devices.add_device()
        elif self.station == "Profiles":
            self.profiles.new_profile()

    def on_tapes(self, act: Callable[[], object] | None = None) -> None:
        """Bring the tapes to the front, for acts that belong to them."""
        self.show_station("Patch")
        self.patch.show_page("Tapes")
        if act:
            act()

    def duplicate(self) -> None:
        if self.station == "Patch":
            self.patch.duplicate()

    def show_page(self, name: str) -> None:
        self.show_station("Patch")
        self.patch.show_page(name)

    @cached_property
    def rehearsal(self) -> Rehearsal:
        """The simulated devices of this window; they end with it."""
        from welvo.app.devices.rehearse import Rehearsal

        made = Rehearsal()
        self.on_close.append(made.stop)
        return made

    def rehearse(self) -> None:
        from welvo.app.devices.rehearse import RehearseRig

        self.session.commit_pending()
        RehearseRig(self.session, self.rehearsal, self).exec()

    def focus_name(self) -> None:
        """The name of what the panel is about, ready to be typed over."""
        self.panel_place.open()
        named = (f for f in self.panels.findChildren(Field) if f.accessibleName() == "Name")
        field = next((f for f in named if f.isVisible() and f.isEnabled()), None)
        if field is None:
            self.session.say("Nothing is selected whose name stands in the panel.")
            return
        field.setFocus()
        field.selectAll()

    def focus_filter(self) -> None:
        field = self.drawer.filter if self.drawer.isVisible() else self.patch.filter
        if not self.drawer.isVisible():
            self.show_station("Patch")
        field.setFocus()
        field.selectAll()

    def step_finding(self, back: bool) -> None:
        if not self.drawer.isVisible():
            self.toggle_findings()
        self.drawer.step(back)

    def zoom_to(self, level: str) -> None:
        self.on_tapes()
        self.patch.tapes.set_level(level)

    def zoom_step(self, by: int) -> None:
        if self.station == "Sheets":
            self.sheets.zoom(by)
            return
        if self.station == "Patch" and self.patch.page == "Positions":
            self.patch.positions.plan.zoom(1.4 if by > 0 else 1 / 1.4)
            return
        if self.station == "Runs":
            self.runs.opened.zoom(1.5 if by > 0 else 1 / 1.5)
        else:
            self.patch.tapes.zoom(by)

    def toggle_panel(self) -> None:
        self.panel_place.toggle()
        self._show_commands()

    def come_forward(self) -> None:
        """Somebody wants to see this window."""
        if self.isMinimized():
            self.showNormal()
        self.raise_()
        self.activateWindow()

    def toggle_full_screen(self) -> None:
        self.showNormal() if self.isFullScreen() else self.showFullScreen()

    def toggle_theme(self) -> None:
        self.set_look("dark" if self.light else "light", THEME.step)

    def toggle_text(self) -> None:
        self.set_look(THEME.name, 0 if THEME.step else 2)

    def set_look(self, name: str, step: int) -> None:
        """Choose a theme and a size of text; from now on the desktop's wishes are not followed."""
        self.computer.theme, self.computer.text_step = "light" if name == "light" else "dark", step
        self.computer.save()
        THEME.name, THEME.step = name, step
        self._put_on()

    @property
    def follows_desktop(self) -> bool:
        return self.computer.theme == "desktop" and self.computer.text_step < 0

    def follow_desktop(self) -> None:
        """Light or dark, and how large text is, as the desktop has it, also when it changes its mind."""
        self.computer.theme, self.computer.text_step = "desktop", -1
        self.computer.save()
        self.desktop_changed()

    def desktop_changed(self) -> None:
        """What was not chosen here follows the desktop."""
        wished = desktop_look()
        THEME.strong = wished.strong
        THEME.name = wished.name if self.computer.theme == "desktop" else THEME.name
        THEME.step = wished.step if self.computer.text_step < 0 else THEME.step
        self._put_on()

    def _put_on(self) -> None:
        self.session.commit_pending()
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply(app)
        self._show_commands()
        self.restyle()

    def restyle(self) -> None:
        for station in self._built:
            station.restyle()
        self.drawer.refresh()
        for w in self.findChildren(QWidget):
            w.update()

    def help_here(self) -> None:
        """F1: what the focused field does and what it risks, beside it."""
        w: QObject | None = QApplication.focusWidget()
        while isinstance(w, QWidget) and not w.whatsThis():
            w = w.parentWidget()
        if isinstance(w, QWidget) and w.whatsThis():
            at = w.mapToGlobal(w.rect().bottomLeft())
            QWhatsThis.showText(at, paragraph(w.whatsThis()), w)
        else:
            self.show_keys()

    def show_keys(self) -> None:
        rows = "".join(
            f"<tr><td>{where}</td><td><b>{keys}</b></td><td>{what}</td></tr>"
            for where, keys, what in commands.key_rows()
        )
        dialogs.show_text(self, "Keys", f'<table cellpadding="3">{rows}</table>')

    def show_guide(self) -> None:
        from welvo.app.guide import open_guide

        if why := open_guide(self):
            self.session.say(why, "warning")

    def show_about(self) -> None:
        from welvo import __version__

        dialogs.show_text(
            self,
            "About Welvo",
            f"<p>Welvo {__version__}. Define fixture profiles, patch them into universes, set the devices, and prove "
            "it with light.</p>"
            "<p>Speaks Art-Net 4 and sACN (ANSI E1.31). Art-Net™ is a trademark of its owner.</p>",
        )

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() == Qt.Key.Key_Escape and self.patch.panel.form is not None and not self.drawer.isVisible():
            self.patch.panel.form.leave()
        elif e.key() == Qt.Key.Key_Escape and self.drawer.isVisible():
            self.drawer.toggle()
        else:
            super().keyPressEvent(e)

    def event(self, e: QEvent) -> bool:
        if e.type() == QEvent.Type.WindowDeactivate:
            QToolTip.hideText()
        return super().event(e)

    def paintEvent(self, _: QPaintEvent) -> None:
        QPainter(self).fillRect(self.rect(), THEME.color("station"))
