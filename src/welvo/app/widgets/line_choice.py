"""Which serial port of this computer is a DMX line of the rig: lines have numbers there, ports belong to a computer."""

from __future__ import annotations

from PySide6.QtWidgets import QHBoxLayout

from welvo.app.network import Network
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.painting import button, label, row
from welvo.live.serial_line import REHEARSAL, rehearsed, serial_ports


def line_row(network: Network, number: int) -> QHBoxLayout:
    """A row to choose the port of a line; the ports are looked up again on request, as they come and go."""
    choice = Choice(
        "The serial port of this computer that this line leaves by. It is kept on this computer, not in the rig.",
        lambda chosen: network.set_line(number, str(chosen)),
    )
    choice.setAccessibleName(f"Serial port of line {number}")

    def fill() -> None:
        chosen = network.lines.get(str(number), "")
        options = [("", "none chosen"), *serial_ports()]
        if rehearsed(number):
            options.append((f"{REHEARSAL}{number}", f"simulated line {number}"))
        if chosen and chosen not in [name for name, _ in options]:
            options.append((chosen, f"{chosen.rsplit('/', 1)[-1]} · not there"))
        choice.set_options([(name, words) for name, words in options], chosen)

    fill()
    again = button("Look again", fill, "Looks for ports that were plugged in since.")
    return row(label("Serial port", quiet=True), choice, again)
