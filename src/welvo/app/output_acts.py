"""What the operator does about output: arming, keeping quiet, choosing the interface."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QMenu, QWidget

from welvo.app.computer import Computer
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.stations import Stations
from welvo.app.widgets import dialogs
from welvo.app.widgets.literal import menu_words
from welvo.app.widgets.painting import popup_menu as popup_menu
from welvo.live.interfaces import list_interfaces


class OutputActs:
    def __init__(
        self, window: QWidget, session: Session, network: Network, computer: Computer, stations: Stations
    ) -> None:
        self._window, self._session, self._network = window, session, network
        self._computer, self._stations = computer, stations

    def toggle_arm(self) -> None:
        if self._network.output.is_armed:
            self._network.output.disarm_output()
        elif not self._network.output.arm_output() and self._network.output.nothing_fed:
            self._stations.show_named("Bench")
            self._stations.bench.borrowed.setFocus()

    def toggle_quiet(self) -> None:
        self._computer.quiet = not self._network.hearing.quiet
        self._computer.save_settings()
        self._network.set_quiet(self._computer.quiet)
        self._session.say(
            "Quiet: nothing at all leaves this computer before you arm, and devices are not asked for."
            if self._computer.quiet
            else "Devices are asked for every 2.6 seconds, and the groups of the rig's universes are joined."
        )

    def ask_interface(self) -> None:
        """The interface that was used last time is not there: which one instead is for the operator to say."""
        found = list_interfaces()
        wanted = dialogs.ask_which(
            self._window,
            "Interface",
            f"The interface with {self._network.hearing.missing}, which was used last time, is not there. "
            "Welvo hears and sends nothing until you choose another one.",
            [(i.ip, i.label) for i in found],
            "Use it",
            "Instead",
        )
        for i in found:
            if i.ip == wanted:
                self._network.use_interface(i)

    def fill_interfaces(self, menu: QMenu) -> None:
        menu.clear()
        for i in list_interfaces():
            action = menu.addAction(menu_words(i.label), partial(self._network.use_interface, i))
            action.setCheckable(True)
            action.setChecked(i.ip == self._network.hearing.interface.ip)

    def choose_interface(self, below: QWidget) -> None:
        menu = popup_menu(self._window)
        self.fill_interfaces(menu)
        menu.exec(below.mapToGlobal(below.rect().bottomLeft()))
