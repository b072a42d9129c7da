"""The stations of a window: each is built when it is first wanted, one is shown, and everything has its station."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cached_property
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtWidgets import QStackedWidget, QWidget

from welvo.app.computer import Computer
from welvo.app.jobs.network import Network
from welvo.app.patch.station import PatchStation
from welvo.app.session import Selection, Session
from welvo.app.widgets.start import Start
from welvo.app.widgets.station import Station
from welvo.rig.document import Rig
from welvo.rig.plan import setting_key
from welvo.rig.refs import Goto, to_run

if TYPE_CHECKING:
    from welvo.app.bench.station import BenchStation
    from welvo.app.devices.station import DevicesStation
    from welvo.app.profiles.station import ProfilesStation
    from welvo.app.runs.station import RunsStation
    from welvo.app.sheets.station import SheetsStation

_GOES: dict[str, tuple[str, Callable[[Goto], Selection] | None]] = {
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


class Stations(QObject):
    """All but Patch are built when they are first wanted: a start must not wait for what nobody looks at."""

    shown = Signal(str)
    """Another station stands in the middle; its name."""
    begins = Signal(Start)
    """A station was built that has a place to begin at."""

    def __init__(self, session: Session, network: Network, computer: Computer) -> None:
        super().__init__()
        self._session, self._network, self._computer = session, network, computer
        self.stack, self.panels = QStackedWidget(), QStackedWidget()
        self.built: list[Station] = []
        self.on_close: list[Callable[[], object]] = []
        """What ends with the window because a station began it."""
        self.current = "Patch"
        self.patch = PatchStation(session, network)
        self._makers: dict[str, Callable[[], Station]] = {
            "Profiles": lambda: self.profiles,
            "Patch": lambda: self.patch,
            "Runs": lambda: self.runs,
            "Devices": lambda: self.devices,
            "Bench": lambda: self.bench,
            "Sheets": lambda: self.sheets,
        }

    def enter_station(self, station: Station) -> None:
        """Take a station in, divided as it was left."""
        self.built.append(station)
        self.stack.addWidget(station)
        self.panels.addWidget(station.panel)
        sizes = self._computer.splits.get(type(station).__name__, [])
        if station.splitter and len(sizes) == station.splitter.count() and any(sizes):
            station.splitter.setSizes(sizes)
        if station.start:
            self.begins.emit(station.start)

    def remember_splits(self) -> None:
        """Have the computer remember how stations are divided; those that were not built stay as they were."""
        now = {type(x).__name__: x.splitter.sizes() for x in self.built if x.splitter}
        self._computer.splits = {**self._computer.splits, **now}

    # ---- one by one

    @cached_property
    def profiles(self) -> ProfilesStation:
        from welvo.app.profiles.station import ProfilesStation

        made = ProfilesStation(self._session, self._network)
        self.enter_station(made)
        return made

    @cached_property
    def runs(self) -> RunsStation:
        from welvo.app.runs.station import RunsStation

        made = RunsStation(self._session, self._network)
        made.show_in_patch.connect(self.show_in_patch)
        self.enter_station(made)
        return made

    @cached_property
    def devices(self) -> DevicesStation:
        from welvo.app.devices.station import DevicesStation

        made = DevicesStation(self._session, self._network)
        made.runs.connect(lambda device_id: self.go_to_place(to_run(device_id)))
        made.panel.profile.connect(lambda pid: self.go_to_place(Goto("profile", pid)))
        self.enter_station(made)
        return made

    @cached_property
    def bench(self) -> BenchStation:
        from welvo.app.bench.station import BenchStation

        made = BenchStation(self._session, self._network)
        self.enter_station(made)
        return made

    @cached_property
    def sheets(self) -> SheetsStation:
        from welvo.app.sheets.station import SheetsStation

        made = SheetsStation(self._session, self._network, self._computer)
        made.to_patch.connect(lambda: self.show_named("Patch"))
        self.on_close.append(made.close_all)
        self.enter_station(made)
        return made

    def all_stations(self) -> dict[str, Station]:
        """All stations by name, in the order of the work; those that nobody has looked at yet are built by it."""
        return {name: make() for name, make in self._makers.items()}

    # ---- which one is shown

    def show_named(self, name: str) -> None:
        self._session.commit_pending()
        station = self._makers[name]()
        self.current = station.name
        self.stack.setCurrentWidget(station)
        self.panels.setCurrentWidget(station.panel)
        if name == "Devices":
            self.devices.choose_first()
        self.shown.emit(name)

    def show_page(self, name: str) -> None:
        """Show a page of Patch."""
        self.show_named("Patch")
        self.patch.show_page(name)

    def show_in_patch(self, wanted: str) -> None:
        """Show only those rows of the list that answer a filter."""
        self.show_page("Tapes")
        self.patch.filter.setText(wanted)

    def on_tapes(self, act: Callable[[], object] | None = None) -> None:
        """Bring the tapes to the front, for acts that belong to them."""
        self.show_page("Tapes")
        if act:
            act()

    def home(self) -> QWidget | None:
        """The first useful control of the station that is shown."""
        wanted = self._makers[self.current]().homes()
        usable = (w for w in wanted if w.isVisible() and w.isEnabled() and w.focusPolicy() != Qt.FocusPolicy.NoFocus)
        return next(usable, None) or self.first_in(self.stack)

    def first_in(self, region: QWidget) -> QWidget | None:
        """The first control of a region that takes the focus."""
        if region.focusPolicy() != Qt.FocusPolicy.NoFocus:
            return region
        if region is self.stack and self.current == "Patch" and self.patch.tapes.isVisible():
            return self.patch.tapes
        return next(
            (
                w
                for w in region.findChildren(QWidget)
                if w.isVisible() and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus
            ),
            None,
        )

    def go_to_place(self, to: Goto) -> None:
        """Go to where something is set, and select it there. What is gone leaves the selection as it was."""
        rig = self._session.rig
        if to.kind == "wire":
            same = (f for f, v in rig.feeds.items() if (v.protocol, v.wire) == (to.id, to.place))
            to = Goto("feed", next(same, ""))
        station, select = _GOES[to.kind]
        if to.kind in ("item", "patch", "universe", "slot"):
            self.patch.show_page("Tapes")
        there = to.id in _entries_of_part(rig, to)
        if there and select:
            self._session.change_selection(select(to))
        self.show_named(station)
        if station == "Devices":
            self.devices.show_page({"lamps": "Lamps", "bus": "Bus"}.get(to.kind, "Settings"))
        if to.kind in ("sender", "use"):
            self.patch.show_page("Senders")
        elif to.kind == "unattached":
            self.runs.show_unattached()
        elif to.kind == "run" and there:
            self.runs.show_place(to.id, to.port, to.place)

    # ---- acts that every station has in its own way

    def add_to_station(self) -> None:
        """Add what the station holds."""
        if self.current == "Patch":
            self.patch.add_fixtures()
        elif self.current == "Runs":
            self.runs.attach.setFocus()
        elif self.current == "Devices":
            self.devices.add_device()
        elif self.current == "Profiles":
            self.profiles.new_profile()

    def duplicate_in_station(self) -> None:
        if self.current == "Patch":
            self.patch.duplicate_items()

    def zoom_to(self, level: str) -> None:
        self.on_tapes()
        self.patch.tapes.set_level(level)

    def zoom_step(self, by: int) -> None:
        if self.current == "Sheets":
            self.sheets.zoom(by)
        elif self.current == "Patch" and self.patch.page == "Positions":
            self.patch.positions_page.plan.zoom_by(1.4 if by > 0 else 1 / 1.4)
        elif self.current == "Runs":
            self.runs.opened.zoom(1.5 if by > 0 else 1 / 1.5)
        else:
            self.patch.tapes.zoom_by(by)

    def print_sheet(self) -> None:
        """Show the sheet that was chosen last; from there it is printed."""
        is_shown = self.current == "Sheets"
        self.show_named("Sheets")
        if is_shown:
            self.sheets.print_sheet()
        else:
            self._session.say("This is the sheet that is chosen; Ctrl+P again prints it.")


def _entries_of_part(rig: Rig, to: Goto) -> Iterable[str]:
    """The ids among which a place's id has to be."""
    if to.kind in ("item", "patch"):
        return {**rig.fixtures, **rig.elements}
    if to.kind in ("device", "port", "lamps", "bus", "run"):
        return rig.devices
    by_kind: dict[str, Iterable[str]] = {
        "universe": rig.universes,
        "feed": rig.feeds,
        "sender": rig.senders,
        "use": rig.uses,
        "profile": rig.profiles,
        "heard": (to.id,),
    }
    return by_kind.get(to.kind, ())
