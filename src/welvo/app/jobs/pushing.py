"""Settings and addresses given to devices by Art-Net, and what became of them.

A device that takes another address restarts, and is silent meanwhile: it is followed there, and where it is found, or
that it is not, is said.
"""

from __future__ import annotations

from PySide6.QtCore import QTimer

from welvo.app.jobs.device_work import DeviceWork, by_http
from welvo.app.jobs.hearing import Hearing
from welvo.app.session import Session
from welvo.live.links import ArtNetLink
from welvo.matching.planned import full_plan
from welvo.observed.values import Event
from welvo.rig.base import Refused
from welvo.rig.entered import SettingValue
from welvo.rig.plan import model_of, say_setting, split_key
from welvo.rig.protocol import USUAL
from welvo.rig.wiring import BY_ARTNET
from welvo.settings.artnet import TakenAlong, whole_pages

FOLLOW_FOR = 8.0
"""Seconds beyond its usual restart for which a device is awaited at its new address."""


class Pushing:
    """Gives devices what is planned for them. `follow_moves` has to be called ten times a second."""

    def __init__(self, session: Session, hearing: Hearing, devices: DeviceWork) -> None:
        self._session, self._hearing, self._devices = session, hearing, devices
        self._moving: dict[str, tuple[str, str, float]] = {}
        """Devices that were given another address: their MAC and address before, and until when they are awaited."""
        self._turns = 0
        self.planned_before: dict[str, str] = {}
        """Where devices answered when another address was planned for them, by their id."""
        session.replaced.connect(self.forget)

    def forget(self) -> None:
        """Another rig: nothing of the former one is awaited or offered any more."""
        self._moving.clear()
        self.planned_before.clear()

    def whole_push(self, device: str, keys: tuple[str, ...]) -> tuple[dict[str, SettingValue], list[TakenAlong]]:
        """What a push of planned values sends, and which ports it takes along. Raises Refused when it cannot go."""
        rig = self._session.rig
        model = model_of(rig, device)
        d = rig.devices[device]
        plan = full_plan(self._session.index, device)
        values: dict[str, SettingValue] = {k: plan[k] for k in keys if k in plan}
        heard = self._hearing.listener.heard_devices().get(d.ip) if self._hearing.listener else None
        if not model or heard is None or BY_ARTNET not in model.links:
            return values, []
        return whole_pages(model, heard, values, plan)

    def push_planned(self, device: str, keys: tuple[str, ...]) -> bool:
        """Push planned values to a device. Afterwards they are claimed until the device says them itself."""
        self._session.commit_pending()
        rig = self._session.rig
        model = model_of(rig, device)
        d = rig.devices[device]
        plan = full_plan(self._session.index, device)
        if not model or not self._hearing.listener:
            return False
        over_http = {k: plan[k] for k in keys if k in plan and by_http(model, k)}
        if over_http:
            try:
                self._devices.begin_push(device, over_http)
            except Refused as e:
                self._session.say(str(e), "error")
                return False
            keys = tuple(k for k in keys if k not in over_http)
            if not keys:
                return True
        try:
            values, _ = self.whole_push(device, keys)
            if not values:
                return False
            ArtNetLink(self._hearing.listener).push_settings(
                model, self._hearing.listener.heard_devices().get(d.ip), d.ip, values
            )
        except Refused as e:
            self._session.say(str(e), "error")
            self._session.observe(
                log=self._session.observed.note_event(
                    Event(self._session.clock_time(), device, keys[0], f"push failed: {e}")
                ).log
            )
            return False
        said = []
        for key, value in values.items():
            owner, setting = split_key(key)
            protocol = str(plan.get(f"{owner}.protocol", USUAL))  # a universe is said as the protocol counts it
            said.append(f"{key} {say_setting(model.spec_of_setting(setting), value, protocol)}")
        names = ", ".join(said)
        self._session.note_written(device, values, f"pushed {names}")
        QTimer.singleShot(150, self._hearing, self._hearing.read_again)
        return True

    def give_address(self, device: str, at: str) -> None:
        """Have a device that was found elsewhere take its planned address by Art-Net; then it is followed there."""
        rig = self._session.rig
        d, model = rig.devices[device], model_of(rig, device)
        if not self._hearing.listener or model is None or not d.ip:
            raise Refused(f"{d.name} has no address yet, or nothing is listened to.")
        heard = self._hearing.listener.heard_devices().get(at)
        ArtNetLink(self._hearing.listener).give_address(model, at, d.ip, str(d.settings.get("mask", "")))
        self._note_in_log(device, "ip", f"address {d.ip} sent to {at}; it restarts")
        self._moving[device] = (heard.mac if heard else "", at, self._session.now() + model.restart_takes + FOLLOW_FOR)

    def follow_moves(self) -> None:
        """Tell what became of devices that were given another address: there, there with another MAC, or silent."""
        self._turns += 1
        for device, (mac, at, until) in list(self._moving.items()):
            d = self._session.rig.devices.get(device)
            heard = self._hearing.listener.heard_devices().get(d.ip) if d and self._hearing.listener else None
            now = self._session.now()
            if d and heard and now - heard.at < 2.0:
                same = not mac or not heard.mac or heard.mac == mac
                words = f"{d.name} answers at {d.ip} now" + ("." if same else f", with another MAC than at {at}.")
                self._session.say(words, "note" if same else "error")
            elif d and now < until:
                if self._hearing.listener and self._turns % 10 == 0:
                    self._hearing.listener.poll_one(d.ip)
                continue
            elif d:
                words = f"{d.name} does not answer at {d.ip} after its new address was sent to {at}. Find it again."
                self._session.say(words, "error")
            else:
                words = ""
            del self._moving[device]
            if words:
                self._note_in_log(device, "ip", words)

    def _note_in_log(self, device: str, setting: str, words: str) -> None:
        self._session.observe(
            log=self._session.observed.note_event(Event(self._session.clock_time(), device, setting, words)).log
        )

    def identify_device(self, ip: str, on: bool) -> bool:
        """Let a device blink, or stop it."""
        if not self._hearing.listener:
            return False
        try:
            ArtNetLink(self._hearing.listener).identify_device(ip, on)
        except Refused as e:
            self._session.say(str(e), "error")
            return False
        return True
