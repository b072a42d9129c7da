"""Pushes, acts and tests of devices that are asked over HTTP, in progress beside the window.

The window starts them, shows how far they are, can stop them, and is told what became of each setting. What the device
said at the end goes into the observations; a device that moved to another address takes its planned address along.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from msgspec.structs import replace
from PySide6.QtCore import QObject, Signal

from welvo.app.runner import Job, JobRunner
from welvo.app.session import Session
from welvo.formats.models import shipped_models
from welvo.live.bring_up import Probes, Search, Wanted, bring_up
from welvo.live.device_link import HttpLink, Push, open_session
from welvo.live.interfaces import Interface
from welvo.live.sweep import look_further
from welvo.observed.values import DeviceAnswer, Event, Result
from welvo.rig.base import Refused
from welvo.rig.entered import SettingValue
from welvo.rig.notation import say_count
from welvo.rig.plan import link_of, model_of, say_key, say_setting, spec_of
from welvo.rig.wiring import DeviceModel, Need
from welvo.settings.snapshots import take_snapshot

ACTS: dict[Need, str] = {"save": "saved", "apply": "applied", "restart": "restarted"}
OUTCOMES = {
    "taken": "taken and read back",
    "refused": "refused",
    "otherwise": "reads back otherwise",
    "waits": "waiting",
    "not sent": "not sent",
    "unknown": "not known",
}


def by_http(model: DeviceModel, key: str) -> bool:
    spec = spec_of(model, key)
    return spec is not None and link_of(model, spec) == "http"


def speaks_http(model: DeviceModel) -> bool:
    """Whether any of its settings travels over HTTP."""
    return bool(model.status_port) and any(link_of(model, s) == "http" for s in model.settings)


class DeviceWork(QObject):
    """`changed` whenever something in progress is further; `take_over_ended` has to be called a few times a second."""

    changed = Signal()

    def __init__(self, rig_session: Session, runner: JobRunner) -> None:
        super().__init__()
        self._session, self._runner = rig_session, runner
        self.pushes: dict[str, Push] = {}
        """What is in progress, by device."""
        self._shown: dict[str, tuple[int, str]] = {}
        self.interface = ""
        """The address of the interface through which devices are asked."""
        self.is_looking = False
        """Whether a search of the whole network is in progress."""
        self.passwords: dict[str, str] = {}
        """By address. They stand in no rig and no message."""
        self.remember: Callable[[dict[str, str]], None] = lambda _: None

    def stop_all(self) -> None:
        for push in self.pushes.values():
            push.stop_push()

    def password_of(self, ip: str) -> str:
        return self.passwords.get(ip, "")

    def set_password(self, ip: str, typed: str) -> None:
        """Use a password for a device from now on; empty: none."""
        self.passwords = {k: v for k, v in self.passwords.items() if k != ip} | ({ip: typed} if typed else {})
        self.remember(self.passwords)

    def enter_secret(self, device: str, key: str, typed: str) -> None:
        """Give a device a secret: it goes there and nowhere else, is not planned, and cannot be read back."""
        if not typed:
            raise Refused("Nothing was typed.")
        self.begin_push(device, {key: typed}, ("save",))

    def push_under_way(self, device: str) -> Push | None:
        return self.pushes.get(device)

    def stop_push(self, device: str) -> None:
        push = self.pushes.get(device)
        if push:
            push.stop_push()

    def begin_push(
        self, device: str, values: dict[str, SettingValue], acts: tuple[Need, ...] = (), at: str = ""
    ) -> bool:
        """Begin to push values, and to do acts after them: to a device at its planned address, or where it was found.
        Refused while the device is busy."""
        rig = self._session.rig
        d, model = rig.devices[device], model_of(rig, device)
        if model is None or not d.ip:
            raise Refused(f"{d.name} has no address yet, so nothing can be sent to it.")
        if device in self.pushes:
            raise Refused(f"{d.name} is busy: {self.pushes[device].doing}.")
        if "restart" in acts and "ip" in values:
            acts = tuple(a for a in acts if a != "restart") + ("restart",)
        if "restart" in acts:
            self._keep_snapshot(device, "before a restart")
        push = self.pushes[device] = Push(values, acts, model.restart_takes)
        ip, port, password, interface = at or d.ip, model.status_port, self.password_of(d.ip), self.interface

        async def work() -> None:
            async with open_session(interface) as opened:
                await push.run_push(HttpLink(opened, ip, port, password, lambda: push.stopped))

        self._runner.start(self, work, lambda job: self._take_over_push(device, self.pushes.pop(device), job))
        self.changed.emit()
        return True

    def begin_finding(
        self, owner: object, wanted: Wanted, probes: Probes, taken: list[str], then: Callable[[Job[Search]], None]
    ) -> Job[Search]:
        """Look for a device that does not answer, for an owner that takes the result over by itself."""
        return self._runner.start(owner, lambda: bring_up(wanted, probes, taken), then)

    def look_further(self, interface: Interface) -> None:
        """Ask every address of the interface's network, and for DDP displays; what answers is listed as heard."""
        rig = self._session.rig
        models = list(rig.device_models.values())
        ports = sorted({m.status_port for m in (*models, *shipped_models().values()) if m.status_port})
        also = [m.factory_ip for m in (*models, *shipped_models().values())] + [d.ip for d in rig.devices.values()]
        self._runner.start(self, lambda: look_further(interface, ports, also), self._take_over_search)
        self.is_looking = True
        self.changed.emit()

    def begin_test(self, device: str, pattern: str) -> None:
        """Begin an on-board test, or end it (empty)."""
        self._give_order(device, lambda link: link.show_test(pattern), f"test “{pattern}”" if pattern else "test ended")

    def _keep_snapshot(self, device: str, why: str) -> None:
        """A snapshot before something that may lose settings; a device that has said nothing has none to keep."""
        s = self._session
        said = s.observed.said.get(s.rig.devices[device].ip)
        if said and said.active:
            s.make_edit(take_snapshot, device, said, s.clock_time(), why)

    def reset_to_factory(self, device: str) -> None:
        self._keep_snapshot(device, "before factory settings")
        self._give_order(device, lambda link: link.reset_to_factory(), "factory settings")

    def identify_device(self, device: str, on: bool) -> None:
        self._give_order(device, lambda link: link.identify(on), "blinks" if on else "blinks no more")

    def _give_order(self, device: str, do: Callable[[HttpLink], Awaitable[object]], words: str) -> None:
        rig = self._session.rig
        d, model = rig.devices[device], model_of(rig, device)
        if model is None or not d.ip:
            raise Refused(f"{d.name} has no address yet, so nothing can be sent to it.")
        ip, port, password, interface = d.ip, model.status_port, self.password_of(d.ip), self.interface

        async def work() -> str:
            async with open_session(interface) as opened:
                await do(HttpLink(opened, ip, port, password))
            return words

        self._runner.start(self, work, lambda job: self._take_over_order(device, job))

    # ---- following

    def take_over_ended(self) -> None:
        """Take over what has ended; tell whoever shows progress."""
        self._runner.take_over(self)
        now = {device: (push.done, push.doing) for device, push in self.pushes.items()}
        if now != self._shown:
            self._shown = now
            self.changed.emit()

    def _take_over_search(self, job: Job[dict[str, DeviceAnswer]]) -> None:
        s = self._session
        self.is_looking = False
        if job.error or job.was_cancelled:
            s.say(f"The search ended early: {job.error or 'it was stopped'}.", "error")
            return
        found = job.result
        fresh = [ip for ip in found if ip not in s.observed.said and ip not in s.observed.heard]
        known = {ip: told for ip, told in s.observed.said.items() if ip not in found or told.at > found[ip].at}
        s.observe(said={**found, **known})
        s.say(f"{say_count(len(found), 'device')} answered, {len(fresh)} of them not heard before.")
        self.changed.emit()

    def _take_over_order(self, device: str, job: Job[str]) -> None:
        if job.was_cancelled or device not in self._session.rig.devices:
            return
        what = str(job.error) if job.error else job.result
        if job.error:
            self._session.say(what, "error")
        self._note_in_log(device, {"": what})

    def _note_in_log(self, device: str, said: dict[str, str]) -> None:
        observed = self._session.observed
        for key, words in said.items():
            observed = observed.note_event(Event(self._session.clock_time(), device, key, words))
        self._session.observe(log=observed.log)

    def _take_over_push(self, device: str, push: Push, job: Job[None]) -> None:
        s = self._session
        if job.was_cancelled or device not in s.rig.devices:
            return
        if job.error is not None:
            push.failed = str(job.error)
        d, model = s.rig.devices[device], model_of(s.rig, device)
        results = dict(s.observed.results)
        results[device] = {**results.get(device, {}), **_without_secrets(model, push.results)}
        said = dict(s.observed.said)
        if push.said:
            said[push.ip] = push.said
        observed = s.observed
        for key, r in push.results.items():
            value = say_setting(spec_of(model, key), r.value) if model else ""
            more = f", {r.why}" if r.why else f" for {', '.join(r.needs)}" if r.needs else ""
            words = f"{say_key(model, key)}{f' to {value}' if value else ''}: {OUTCOMES[r.outcome]}{more}"
            observed = observed.note_event(Event(s.clock_time(), device, key, words))
        done = [ACTS[a] for a in push.acts] if not push.failed else []
        if done:
            observed = observed.note_event(Event(s.clock_time(), device, "", f"{', '.join(done)}"))
        if push.failed:
            observed = observed.note_event(Event(s.clock_time(), device, "", f"broke off: {push.failed}"))
        s.observe(results=results, said=said, log=observed.log)
        s.say(*summary_of_push(d.name, push, model))
        self.changed.emit()


def _without_secrets(model: DeviceModel | None, results: dict[str, Result]) -> dict[str, Result]:
    """Results without the values of secrets."""
    return {
        k: replace(r, value="") if model and (spec := spec_of(model, k)) and spec.secret else r
        for k, r in results.items()
    }


def summary_of_push(name: str, push: Push, model: DeviceModel | None) -> tuple[str, str]:
    """One sentence on a push that ended, and how bad it is."""
    counts: dict[str, int] = {}
    for r in push.results.values():
        counts[r.outcome] = counts.get(r.outcome, 0) + 1
    words = ", ".join(f"{n} {OUTCOMES[o]}" for o, n in counts.items())
    refused = next((f" {say_key(model, k)}: {r.why}." for k, r in push.results.items() if r.outcome == "refused"), "")
    if push.failed:
        return f"{name}: it broke off, {push.failed}. {words[:1].upper()}{words[1:]}{'.' if words else ''}", "error"
    if not push.results:
        return f"{name}: {', '.join(ACTS[a] for a in push.acts)}.", "note"
    bad = {"refused", "otherwise", "not sent", "unknown"} & counts.keys()
    waits = sorted({n for r in push.results.values() for n in r.needs})
    left = f" Still needs: {', '.join(waits)}." if waits else ""
    return f"{name}: {say_count(len(push.results), 'setting')}, {words}.{refused}{left}", "error" if bad else "note"
