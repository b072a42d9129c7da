"""Rehearse this rig: every planned device simulated on this computer, with faults to be switched on.

Simulated devices live on 127.x and nowhere else, so only those that are planned there can be rehearsed; the others are
named. They end with the window, or when the rehearsal is ended.
"""

from __future__ import annotations

import ipaddress
import tempfile
from functools import partial
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QSizePolicy, QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog, line_to_type_into
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.flow import FlowRow, flow_of_widgets
from welvo.app.widgets.painting import clear_layout, make_button, make_label
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.formats.files import RigFileError
from welvo.formats.rigfile import save_rig_file
from welvo.matching.planned import compare_device
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of, say_key
from welvo.rig.protocol import PROTOCOLS
from welvo.standins.process import StandIns

FAULTS: dict[str, tuple[str, str, object]] = {
    "unreachable": ("wrong sub-net: cannot be reached", "", False),
    "lossy": ("loses one answer of", "3", 0),
    "slow": ("answers late, by seconds", "1.5", 0),
    "refuses": ("refuses a setting", "", []),
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
OF_SETTINGS = "refuses"
"""The fault whose value is picked among the settings of the device."""


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
        self.value = line_to_type_into("Value", "What the fault needs: a number, or a test pattern.", "", 130)
        self.setting = Choice("Which setting the device is to refuse.", lambda _: None)
        self.setting.setAccessibleName("Setting")
        self.on = make_button("Switch on", self._switch_fault_on, "The chosen device has this fault from now on.")
        self.fault.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.value.setMaximumWidth(110)
        self.list.picked.connect(lambda _: self._offer_faults())
        self.body.addLayout(flow_of_widgets(make_label("Fault"), self.fault, self.value, self.setting, self.on))
        self.ends = FlowRow(6)
        self._ends_shown: object = None
        self.body.addLayout(self.ends)
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
        fault = str(self.fault.currentData())
        offered = FAULTS[fault][1]
        self.value.setText(offered)
        self.value.setVisible(bool(offered))
        self.setting.setVisible(fault == OF_SETTINGS)
        if fault == OF_SETTINGS:
            self.setting.set_options(list(self._settings_of_chosen().items()) or [("", "choose a device first")], "")

    def _settings_of_chosen(self) -> dict[str, str]:
        """What the settings of the chosen device are called, by key."""
        s, device = self._session, self._chosen_device()
        if device not in s.rig.devices:
            return {}
        lines = compare_device(s.index, s.observed, device, s.now())
        return {x.key: say_key(model_of(s.rig, device), x.key) for x in lines}

    def _offer_ends(self) -> None:
        """A button for each fault that is on: what was switched on is switched off where it is said."""
        on = {k: v for k, v in self.rehearsal.on.items() if self.rehearsal.is_running}
        if on == self._ends_shown:
            return
        self._ends_shown = on
        clear_layout(self.ends)
        names = {d.ip: d.name for d in self._session.rig.devices.values()}
        for (ip, fault), value in on.items():
            end = partial(self._switch_fault, ip, fault, FAULTS[fault][2])
            words = f"End: {names.get(ip, ip)} {self._say_fault(ip, fault, value)}"
            self.ends.addWidget(make_button(words, end, "Switches this fault off again."))

    def _say_fault(self, ip: str, fault: str, value: object) -> str:
        words = FAULTS[fault][0]
        if value is True:
            return words
        if fault == OF_SETTINGS and isinstance(value, list):
            s = self._session
            device = next((k for k, d in s.rig.devices.items() if d.ip == ip), "")
            model = model_of(s.rig, device) if device else None
            return f"refuses {', '.join(say_key(model, k) for k in value)}"
        return f"{words} {', '.join(map(str, value)) if isinstance(value, list) else value}"

    def _fill_devices(self) -> None:
        running, rig = self.rehearsal.is_running, self._session.rig
        rows = []
        lines = sum(PROTOCOLS[f.protocol].carries == "line" for f in rig.feeds.values())
        here = lines
        for device_id, d in rig.devices.items():
            model = model_of(rig, device_id)
            local = bool(d.ip) and ipaddress.ip_address(d.ip).is_loopback
            here += local
            state = "no address" if not d.ip else "only 127.x can be" if not local else "yes" if running else "not yet"
            faults = ", ".join(self._say_fault(d.ip, f, v) for (ip, f), v in self.rehearsal.on.items() if ip == d.ip)
            if model and model.kind == "serial":
                state = "no line is fed" if not lines else "its lines" if running else "not yet"
            rows.append(ListRow(device_id, (d.name, d.ip or "–", state, faults)))
        chosen = self._chosen_device()
        self.list.show_lines(rows, chosen)
        for b in (self.on, self.stop):
            b.setEnabled(running)
        self._offer_ends()
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
        device = self._session.rig.devices.get(self._chosen_device())
        if device is None or not device.ip:
            raise Refused("Choose a device with an address in the list first.")
        fault = str(self.fault.currentData())
        if fault == OF_SETTINGS:
            before = self.rehearsal.on.get((device.ip, fault), [])
            key = str(self.setting.currentData() or "")
            if not key:
                raise Refused(f"{device.name} has no settings that it could refuse.")
            value: object = [*(before if isinstance(before, list) else []), key]
        else:
            value = read_fault_value(fault, self.value.text())
        self._switch_fault(device.ip, fault, value)

    def _switch_fault(self, ip: str, fault: str, value: object) -> None:
        self.rehearsal.switch_fault(ip, fault, value)
        self.say("")
        self._fill_devices()
