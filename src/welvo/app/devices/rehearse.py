"""Rehearse this rig: every planned device simulated on this computer, with faults to be switched on.

Simulated devices live on 127.x and nowhere else, so only those that are planned there can be rehearsed; the others are
named. They end with the window, or when the rehearsal is ended.
"""

from __future__ import annotations

import ipaddress
import tempfile
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QSizePolicy, QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog, line_to_type_into
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.painting import make_button, make_label, row_of_widgets
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.formats.files import RigFileError
from welvo.formats.rigfile import save_rig_file
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of
from welvo.standins.process import StandIns

FAULTS: dict[str, tuple[str, str, object]] = {
    "unreachable": ("wrong sub-net: cannot be reached", "", False),
    "lossy": ("loses one answer of", "3", 0),
    "slow": ("answers late, by seconds", "1.5", 0),
    "refuses": ("refuses these settings", "6.brightness", []),
    "forgets": ("forgets what was saved at a restart", "", False),
    "twin": ("another device has its address too", "", False),
    "halts": ("loses power in a write, after", "2", 0),
    "short": ("first segments shorter, by LEDs", "1", 0),
    "swapped": ("puts two colours out in each other's place", "", False),
    "test": ("a test pattern was left on", "red", ""),
    "lamps_deaf": ("lamps answer nothing, by number", "207", []),
    "lamps_slow": ("lamps put their answers off, by number", "207", []),
    "lamps_collide": ("lamps damage each other's answers, by number", "207", []),
    "lamps_stubborn": ("lamps refuse to be set, by number", "207", []),
    "lamps_forget": ("lamps say yes and stay as they were, by number", "207", []),
    "lamps_new": ("lamps are back at address 1, by number", "207", []),
    "gear_deaf": ("gear answers nothing, by short address", "3", []),
    "gear_dark": ("gear whose lamp is dead, by short address", "3", []),
    "gear_stubborn": ("gear takes no setting, by short address", "3", []),
    "gear_new": ("gear has lost its short address", "3", []),
}
"""What each fault is called, the value it is offered with (empty: it is on or off), and the value that ends it."""


def read_fault_value(fault: str, typed: str) -> object:
    """What was typed for a fault. Raises Refused."""
    off = FAULTS[fault][2]
    t = typed.strip()
    if isinstance(off, bool):
        return True
    if isinstance(off, list):
        return [k for k in t.replace(",", " ").split() if k]
    if isinstance(off, str):
        return t
    try:
        value = float(t)
    except ValueError:
        raise Refused(f"“{t}” is no number.") from None
    if not 0 <= value <= 600:
        raise Refused("A number from 0 to 600.")
    return value if fault == "slow" else int(value)


class Rehearsal:
    """The simulated devices of one rig, and which faults are on."""

    def __init__(self) -> None:
        self.stand_ins: StandIns | None = None
        self.on: dict[tuple[str, str], object] = {}
        self._folder: tempfile.TemporaryDirectory[str] | None = None

    @property
    def is_running(self) -> bool:
        return self.stand_ins is not None and self.stand_ins.is_running

    def start_rehearsal(self, rig: Rig, as_planned: bool) -> None:
        """Raises Refused when the rig cannot be written beside."""
        self.stop_rehearsal()
        self._folder = tempfile.TemporaryDirectory(prefix="welvo-rehearsal-")
        file = Path(self._folder.name) / "rig.welvo"
        try:
            save_rig_file(rig, file)
            self.stand_ins = StandIns(file, None, as_planned)
        except (RigFileError, OSError) as e:
            raise Refused(f"The simulated devices cannot be started: {e}") from e

    def stop_rehearsal(self) -> None:
        if self.stand_ins:
            self.stand_ins.stop_process()
        if self._folder:
            self._folder.cleanup()
        self.stand_ins, self._folder = None, None
        self.on.clear()

    def switch_fault(self, ip: str, name: str, value: object) -> None:
        """Switch a fault on, or off with the value that ends it."""
        if self.stand_ins is None:
            raise Refused("Nothing is simulated at present.")
        self.stand_ins.order_fault(ip, name, value)
        if value == FAULTS[name][2] or value is False:
            self.on.pop((ip, name), None)
        else:
            self.on[ip, name] = value


class RehearseRig(Dialog):
    """Start, look, break something, mend it."""

    def __init__(self, session: Session, rehearsal: Rehearsal, parent: QWidget) -> None:
        note = (
            "Simulated devices stand in for the planned ones, on this computer alone (127.x). They hold settings, take "
            "Art-Net, sACN and DDP, and say what leaves their ports."
        )
        super().__init__(parent, "Rehearse this rig", note=note, wide=700, high=480)
        self._session, self.rehearsal = session, rehearsal
        self.list = RowList(
            "Devices", (Column("Device", 140), Column("Address", 110), Column("Simulated", 120), Column("Faults", 200))
        )
        self.body.addWidget(self.list, 1)
        self.fault = Choice("What is to go wrong with the chosen device.", lambda _: self._offer_faults())
        self.fault.setAccessibleName("Fault")
        self.fault.set_options([(k, words) for k, (words, _, _) in FAULTS.items()], "refuses")
        self.value = line_to_type_into(
            "Value", "What the fault needs: a number, settings by key, a test pattern.", "6.brightness", 130
        )
        self.on = make_button("Switch on", self._switch_fault_on, "The chosen device has this fault from now on.")
        self.off = make_button("Switch off", self._switch_fault_off, "Ends this fault of the chosen device.")
        self.fault.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.value.setMaximumWidth(110)
        self.body.addLayout(row_of_widgets(make_label("Fault"), self.fault, self.value, self.on, self.off))
        self.planned = make_button(
            "Start as planned", lambda: self._start_stand_ins(True), "Every device is set as the plan says."
        )
        self.factory = make_button(
            "Start with factory settings",
            lambda: self._start_stand_ins(False),
            "As if all of them came out of their boxes.",
        )
        self.stop = make_button("End the rehearsal", self._stop_stand_ins, "The simulated devices go.")
        self.finish(None, self.planned, self.factory, self.stop, leave="Close", room=18)
        self._timer = QTimer(self, interval=500)
        self._timer.timeout.connect(self._fill_devices)
        self._timer.start()
        self._fill_devices()

    def _offer_faults(self) -> None:
        offered = FAULTS[str(self.fault.currentData())][1]
        self.value.setText(offered)
        self.value.setVisible(bool(offered))

    def _fill_devices(self) -> None:
        running, rig = self.rehearsal.is_running, self._session.rig
        rows = []
        here = 0
        for device_id, d in rig.devices.items():
            model = model_of(rig, device_id)
            local = bool(d.ip) and ipaddress.ip_address(d.ip).is_loopback
            here += local
            state = "no address" if not d.ip else "only 127.x can be" if not local else "yes" if running else "not yet"
            faults = ", ".join(
                FAULTS[f][0] + ("" if v is True else f" {', '.join(v) if isinstance(v, list) else v}")
                for (ip, f), v in self.rehearsal.on.items()
                if ip == d.ip
            )
            if model and model.kind == "serial":
                state = "its lines" if running else "not yet"
            rows.append(ListRow(device_id, (d.name, d.ip or "–", state, faults)))
        chosen = self._chosen_device()
        self.list.show_lines(rows, chosen)
        for b in (self.on, self.off, self.stop):
            b.setEnabled(running)
        for b in (self.planned, self.factory):
            b.setEnabled(bool(here))
        failed = self.rehearsal.stand_ins.why_failed() if self.rehearsal.stand_ins else ""
        if failed:
            self.say(f"The simulated devices ended: {failed.splitlines()[-1] if failed else ''}", wrong=True)

    def _chosen_device(self) -> str:
        at = self.list.currentIndex().row()
        return str(self.list.rows.lines[at].id) if 0 <= at < len(self.list.rows.lines) else ""

    def _start_stand_ins(self, as_planned: bool) -> None:
        self.rehearsal.start_rehearsal(self._session.rig, as_planned)
        self.say(f"{say_count(len(self._session.rig.devices), 'device')} planned; those on 127.x are simulated now.")
        self._fill_devices()

    def _stop_stand_ins(self) -> None:
        self.rehearsal.stop_rehearsal()
        self.say("Ended.")
        self._fill_devices()

    def _switch_fault_on(self) -> None:
        self._switch_fault(read_fault_value(str(self.fault.currentData()), self.value.text()))

    def _switch_fault_off(self) -> None:
        self._switch_fault(FAULTS[str(self.fault.currentData())][2])

    def _switch_fault(self, value: object) -> None:
        device = self._session.rig.devices.get(self._chosen_device())
        if device is None or not device.ip:
            raise Refused("Choose a device with an address in the list first.")
        self.rehearsal.switch_fault(device.ip, str(self.fault.currentData()), value)
        self.say("")
        self._fill_devices()
