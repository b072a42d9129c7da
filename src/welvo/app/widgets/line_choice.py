"""Which serial port of this computer is a DMX line of the rig: lines have numbers there, ports belong to a computer."""

from __future__ import annotations

from PySide6.QtWidgets import QSizePolicy

from welvo.app.jobs.network import Network
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.flow import FlowRow, flow_of_widgets
from welvo.app.widgets.painting import make_label
from welvo.live.serial_line import REHEARSAL, is_rehearsed, serial_ports


class LineChoice(Choice):
    """The serial port of one line. Ports come and go, so they are looked up whenever the list is opened."""

    def __init__(self, network: Network, number: int) -> None:
        super().__init__(
            "The serial port of this computer that this line leaves by. It is kept on this computer, not in the rig.",
            lambda chosen: network.output.set_line(number, chosen),
        )
        self._network, self._number = network, number
        self.setAccessibleName(f"Serial port of line {number}")
        self.fill_ports()

    def fill_ports(self) -> None:
        chosen = self._network.output.lines.get(str(self._number), "")
        options = [("", "none chosen"), *((p.name, p.words) for p in serial_ports())]
        if is_rehearsed(self._number):
            options.append((f"{REHEARSAL}{self._number}", f"simulated line {self._number}"))
        if chosen and chosen not in [name for name, _ in options]:
            options.append((chosen, f"{chosen.rsplit('/', 1)[-1]}: not there"))
        self.set_options(options, chosen)

    def showPopup(self) -> None:
        self.fill_ports()
        super().showPopup()


def line_row(network: Network, number: int) -> FlowRow:
    """A row to choose the port of a line."""
    choice = LineChoice(network, number)
    choice.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
    return flow_of_widgets(make_label(f"Line {number}", quiet=True), 24, choice)
