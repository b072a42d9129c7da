"""Find it: why a planned device does not answer, test by test, and what would put it right."""

from __future__ import annotations

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from welvo.app.jobs.device_work import speaks_http
from welvo.app.jobs.network import Network
from welvo.app.runner import Job
from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.fields import restyle
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.live.bring_up import RealProbes, Search, Wanted
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of
from welvo.rig.wiring import BY_ARTNET


class FindDevice(Dialog):
    """Tests run while it is open; nothing is changed unless its button is pressed."""

    def __init__(self, session: Session, network: Network, device_id: str, parent: QWidget) -> None:
        device = session.rig.devices[device_id]
        note = (
            "Tests in order, from this computer's plug to the device's protocol. The first that fails names the cause."
        )
        super().__init__(parent, f"Find {device.name}", note=note, wide=720, high=460)
        self._session, self._network, self._device_id = session, network, device_id
        heads = (Column("", 26, "mark"), Column("Test", 190), Column("What was found", 400))
        self.list = RowList("Tests", heads)
        self.body.addWidget(self.list, 1)
        self.cause = make_label("", 13, True, wrap=True)
        self.advice = make_label("", 13, wrap=True)
        self.body.addWidget(self.cause)
        self.body.addWidget(self.advice)
        self.renumber = make_button(
            "", self._give_address, "New address, save, restart; then it is followed to the new address."
        )
        self.renumber.hide()
        self.again = make_button("Test again", self.begin_tests, "Runs all tests anew.", primary=True)
        self.finish(self.again, self.renumber, leave="Close", room=18)
        self.search: Search | None = None
        self._job: Job[Search] | None = None
        self._timer = QTimer(self, interval=100)
        self._timer.timeout.connect(lambda: network.runner.take_over(self))
        self.finished.connect(self._end_tests)
        self.begin_tests()

    def begin_tests(self) -> None:
        """Begin the tests."""
        rig, network = self._session.rig, self._network
        device = rig.devices.get(self._device_id)
        if device is None:
            self.reject()
            return
        listener = network.hearing.listener
        if listener is None:
            self.say("Nothing is listened to: choose an interface under Output › Interface first.", wrong=True)
            return
        if not device.ip:
            self.say("It has no address planned, so there is nowhere to look.", wrong=True)
            return
        model = model_of(rig, self._device_id)
        mac = str(device.settings.get("mac", ""))
        wanted = Wanted(device.ip, model, mac, network.devices.password_of(device.ip), device.name)
        probes = RealProbes(
            network.hearing.interface, listener.heard_devices, listener.poll_one, lambda: listener.taken
        )
        taken = [d.ip for d in rig.devices.values() if d.ip]
        self._job = network.devices.begin_finding(self, wanted, probes, taken, self._show_found)
        self.again.setEnabled(False)
        self.renumber.hide()
        self.again.setDefault(True)
        self.again.setProperty("primary", True)
        restyle(self.again)
        self.say("Testing …")
        self._timer.start()

    def _end_tests(self) -> None:
        """The tests end with the dialog: nobody is there to see what they find."""
        self._timer.stop()
        if self._job:
            self._job.cancel()
        self._network.runner.forget(self)

    def _show_found(self, job: Job[Search]) -> None:
        self._timer.stop()
        self.again.setEnabled(True)
        if job.error or job.was_cancelled:
            self.say(f"The tests ended early: {job.error or 'they were stopped'}.", wrong=True)
            return
        self.search = search = job.result
        rows = [
            ListRow(n, ("matches" if v.passed else "error", v.test, v.proof), (n,) * 3)
            for n, v in enumerate(search.verdicts)
        ]
        self.list.show_lines(rows)
        cause = search.likeliest_cause
        self.cause.setText(
            f"{cause.proof[:1].upper()}{cause.proof[1:]}." if cause else "It answers, and nothing is wrong."
        )
        self.advice.setText(cause.put_right if cause else "")
        failed = sum(not v.passed for v in search.verdicts)
        count = say_count(len(search.verdicts), "test")
        self.say(f"Done: {count}, {failed} failed." if failed else f"Done: {count}, none failed.")
        device, model = self._session.rig.devices[self._device_id], model_of(self._session.rig, self._device_id)
        if search.found and model and (speaks_http(model) or BY_ARTNET in model.links):
            self.renumber.setText(f"Give it {device.ip}")
            self.renumber.show()
            self.renumber.setDefault(True)
            self.renumber.setProperty("primary", True)
            self.again.setProperty("primary", False)
            for b in (self.renumber, self.again):
                restyle(b)

    def _give_address(self) -> None:
        if self.search is None or not self.search.found:
            raise Refused("It was not found anywhere yet.")
        give_found_address(self._session, self._network, self._device_id, self.search.found)
        device = self._session.rig.devices[self._device_id]
        self.say(f"Giving it {device.ip}; it restarts, and is silent meanwhile.")


def give_found_address(session: Session, network: Network, device_id: str, at: str) -> None:
    """Have a device that answers at another address take its planned one: given, saved, restarted, then followed."""
    device, model = session.rig.devices[device_id], model_of(session.rig, device_id)
    if model and speaks_http(model):
        network.devices.begin_push(device_id, {"ip": device.ip}, ("save", "restart"), at=at)
    else:
        network.pushing.give_address(device_id, at)
