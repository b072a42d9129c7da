"""The Devices station: pairs of planned and heard devices, the settings of the chosen one, its panel."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QScrollArea, QStackedWidget, QWidget

from welvo.app.devices.bus_page import BusPage
from welvo.app.devices.lamp_page import LampPage
from welvo.app.devices.pairs import PairList
from welvo.app.devices.panel import DevicesPanel
from welvo.app.devices.settings import Settings, summary_of_lines
from welvo.app.devices.strip import Strip
from welvo.app.jobs.network import Network
from welvo.app.session import Selection, Session
from welvo.app.widgets.add_device import AddDevice
from welvo.app.widgets.empty import EmptyPage
from welvo.app.widgets.fields import Tick
from welvo.app.widgets.fixes import push_with_warning
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.painting import (
    NameLabel,
    column_of_widgets,
    make_button,
    make_label,
    row_of_widgets,
    touching_widgets,
)
from welvo.app.widgets.station import Station
from welvo.observed.presence import is_recent
from welvo.observed.values import Heard
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.settings.compare import lines_that_differ


class DevicesStation(Station):
    """Emits `runs` with the id of a device whose cables are to be shown."""

    name = "Devices"
    panel: DevicesPanel

    name = "Devices"
    runs = Signal(str)

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.page = "Settings"
        self._listening = make_label("", 11, quiet=True)
        self.add = make_button("Add device…", self.add_device, "Plans a device: model, name, address.   Ctrl+Shift+I")
        self._read = make_button(
            "Read all", network.hearing.read_again, "Asks all devices for their settings now.   Shift+F5"
        )
        self.further = make_button(
            "Look further…",
            self._look_further,
            "Asks every address of this interface's network, and for DDP displays. It knocks at every door once.",
        )
        self.only = Tick(
            "Only what differs",
            "Shows only settings that differ, wait, or were not taken.",
            lambda on: self.settings.show_only_differing(on),
        )
        bar = flow_of_widgets(
            make_label("Devices", 16, True), 8, self._listening, None, self.only, 8, self.further, self._read, self.add
        )
        bar.setContentsMargins(16, 8, 16, 8)
        self.pairs = PairList(session)
        self.pairs.plan.connect(self.add_device)
        left = QScrollArea()
        left.setWidgetResizable(True)
        keep_width(left, 384)
        left.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        left.setWidget(self.pairs)
        self._title = NameLabel("", 16, True)
        self._counts = make_label("", 13)
        self.push_all = make_button(
            "Push", self._push_all, "Sends every planned value that differs to the device.", primary=True
        )
        self.settings = Settings(session, network)
        self.strip = Strip(session, network)
        self.strip.setContentsMargins(16, 4, 16, 0)
        self.lamps = LampPage(session, network)
        self.bus = BusPage(session, network)
        self._tabs: dict[str, QPushButton] = {}
        tabs: list[QWidget | int | None] = []
        for name, help_ in (
            ("Settings", "What is planned for the device and what it reports, setting by setting."),
            ("Lamps", "The lamps on its ports that answer by RDM, beside the plan."),
            ("Bus", "The gear on its lamp buses, beside the plan."),
        ):
            b = make_button(name, lambda name=name: self.show_page(name), help_)
            b.setCheckable(True)
            self._tabs[name] = b
            tabs.append(b)
        self._switch = touching_widgets(tabs)
        head = flow_of_widgets(self._title, 8, self._switch, 8, self._counts, None, self.push_all)
        head.setContentsMargins(16, 6, 16, 0)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.settings)
        right = QWidget()
        inside = column_of_widgets(spacing=0)
        inside.addLayout(head)
        inside.addWidget(self.strip)
        self._inside = QStackedWidget()
        self._inside.addWidget(scroll)
        self._inside.addWidget(self.lamps)
        self._inside.addWidget(self.bus)
        inside.addWidget(self._inside, 1)
        right.setLayout(inside)
        self._right = QStackedWidget()
        self._right.addWidget(right)
        self.empty = EmptyPage(
            "No devices yet",
            ("",),
            make_button("Add device…", self.add_device, "Plans a device: model, name, address.", primary=True),
        )
        self._right.addWidget(self.empty)
        self._right.addWidget(QWidget())
        layout = column_of_widgets(spacing=0)
        layout.addLayout(bar)
        below = row_of_widgets(left, spacing=0)
        below.addWidget(self._right, 1)
        layout.addLayout(below, 1)
        self.setLayout(layout)
        self.panel = DevicesPanel(lambda: self.settings.lines, session, network)
        self.panel.lamps, self.panel.bus = self.lamps, self.bus
        self.bus.also_changed.connect(self.panel.refresh)
        self.panel.runs.connect(self.runs)
        self.panel.plan.connect(self.add_device)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self.refresh)
        session.selection_changed.connect(self.refresh)
        network.armed_changed.connect(self.refresh)
        network.devices.changed.connect(self.refresh)
        self.refresh()

    def homes(self) -> Sequence[QWidget]:
        return (self.pairs, self.add)

    def forget(self) -> None:
        """Another rig: no settings of a device of the former one stay."""
        self.settings.show_device("")
        self.refresh()

    def _selected_device(self) -> str:
        s = self._session.selection
        return (
            s.first_selected if s.kind in ("device", "port") and s.first_selected in self._session.rig.devices else ""
        )

    def _selected_port(self) -> str:
        s = self._session.selection
        return s.ids[1] if s.kind == "port" and len(s.ids) > 1 else ""

    def show_page(self, name: str) -> None:
        """Show the settings of the device, or the lamps on its ports."""
        self.page = name
        self.refresh()
        self.panel.refresh()

    def refresh(self) -> None:
        s = self._session
        self._listening.setText(
            f"listening on {self._network.hearing.interface.label}" if s.observed.listening else "not listening"
        )
        device_id = self._selected_device()
        if self.settings.device_id != device_id:
            self.settings.show_device(device_id)
            self.panel.refresh()
        if not s.rig.devices:
            heard = [h for h in s.observed.heard.values() if is_recent(s.observed, h.at, s.now())]
            so_far = (
                f"{say_count(len(heard), 'device', 'devices')} answered; they stand on the left."
                if heard
                else "Nothing has answered so far."
            )
            self.empty.words[0].setText(f"Listening on {self._network.hearing.interface.label}. {so_far}")
        self._right.setCurrentIndex(1 if not s.rig.devices else 0 if device_id else 2)
        has = {"Settings"}
        has |= {"Lamps"} if device_id and self.lamps.labels_of_ports(device_id) else set()
        has |= {"Bus"} if device_id and self.bus.labels_of_buses(device_id) else set()
        self._switch.setVisible(len(has) > 1)
        on = self.page if self.page in has else "Settings"
        for name, b in self._tabs.items():
            b.setVisible(name in has)
            b.setChecked(name == on)
        self._inside.setCurrentIndex(("Settings", "Lamps", "Bus").index(on))
        if on == "Lamps":
            self.lamps.show_device(device_id, self._selected_port())
        elif on == "Bus":
            self.bus.show_device(device_id, self._selected_port())
        self.strip.show_device(device_id, self.settings.lines)
        self.strip.setVisible(on == "Settings")
        looking = self._network.devices.is_looking
        self.further.setText("Looking …" if looking else "Look further…")
        self.further.setEnabled(not looking)
        if device_id:
            self._title.setText(s.rig.devices[device_id].name)
            self._counts.setText(summary_of_lines(self.settings.lines))
            keys = self._pushable_settings()
            self.push_all.setText(f"Push {say_count(len(keys), 'change')}")
            self.push_all.setVisible(bool(keys) and on == "Settings")
            self._counts.setVisible(on == "Settings")

    def _look_further(self) -> None:
        network = self._network
        if network.hearing.quiet or network.hearing.missing:
            raise Refused("Nothing is asked while nothing may be sent, or no interface is chosen (see Output).")
        network.devices.look_further(network.hearing.interface)

    def _pushable_settings(self) -> list[str]:
        return [x.key for x in lines_that_differ(self.settings.lines) if x.spec.writable]

    def _push_all(self) -> None:
        device_id = self._selected_device()
        if device_id:
            push_with_warning(self._session, self._network, device_id, tuple(self._pushable_settings()), self)

    def choose_first(self) -> None:
        """Coming here with nothing chosen shows the first device rather than an empty half."""
        if not self._selected_device() and self._session.rig.devices and self._session.selection.kind != "heard":
            self._session.change_selection(Selection("device", (next(iter(self._session.rig.devices)),)))

    def add_device(self, ip: str = "") -> None:
        self._session.commit_pending()
        observed = self._session.observed
        told = observed.said.get(ip)
        heard = observed.heard.get(ip) or (Heard(ip, told.name, told.model, told.mac) if told else None)
        dialog = AddDevice(self._session, self, heard)
        if dialog.exec() and dialog.made:
            self._session.change_selection(Selection("device", (dialog.made,)))

    def restyle(self) -> None:
        self.panel.restyle()
        self.panel.refresh()
        self.settings.refresh()
