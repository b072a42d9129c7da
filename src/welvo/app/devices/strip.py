"""Above the settings of a device: what is in progress, what the device still needs, and a test pattern left on."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from welvo.app.devices.notices import make_notice
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import dialogs
from welvo.app.widgets.painting import clear_layout, column_of_widgets, make_button
from welvo.app.widgets.theme import THEME
from welvo.rig.plan import model_of, say_key
from welvo.rig.wiring import Need
from welvo.settings.compare import SettingLine, lines_that_wait

HELP: dict[Need, str] = {
    "save": "Writes what was entered into the device's memory. Without it, a restart loses it.",
    "apply": "Lets the device work by what was entered.",
    "restart": "Restarts the device: its outputs go dark meanwhile, and it comes back with what was saved.",
}


class Strip(QWidget):
    """Rows with their buttons; empty when there is nothing to say."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self._state: object = None
        self._body = column_of_widgets(spacing=4)
        self.setLayout(self._body)

    def show_device(self, device_id: str, lines: list[SettingLine]) -> None:
        s, work = self._session, self._network.devices
        push = work.push_under_way(device_id) if device_id else None
        said = s.observed.said.get(s.rig.devices[device_id].ip) if device_id in s.rig.devices else None
        differing = any(x.mark == "differs" and x.spec.writable for x in lines)
        """Then giving the device what is planned comes first, before it saves, applies and restarts."""
        waits = {act: len(of) for act, of in lines_that_wait(lines).items()}
        state = (
            device_id,
            (push.done, len(push.values), push.doing, push.giving, push.stopped) if push else None,
            tuple(waits.items()),
            differing,
            said.test if said else "",
            THEME.name,
            THEME.step,
        )
        if state == self._state:
            return
        self._state = state
        clear_layout(self._body)
        if push:
            usual = f", usually {push.restart_takes:g} s" if push.doing == "restarting" else ""
            done = f" · {push.done} of {len(push.values)}" if len(push.values) > 1 else ""
            stop = make_button(
                "Stop", lambda: work.stop_push(device_id), "Ends it after the request that is on its way."
            )
            stop.setEnabled(not push.stopped)
            what = f" {say_key(model_of(s.rig, device_id), push.giving)}" if push.doing == "giving" else ""
            self._add_row("note", f"{push.doing[:1].upper()}{push.doing[1:]}{what}{usual}{done} …", stop)
        if waits and not push:
            words = ", ".join(f"{n} to {act}" for act, n in waits.items())
            unsaved = " A restart loses what is not saved." if "save" in waits else ""
            acts = [
                make_button(
                    act.capitalize(),
                    lambda act=act: self._do_act(device_id, act),
                    HELP[act],
                    primary=n == 0 and not differing,
                )
                for n, act in enumerate(waits)
            ]
            self._add_row("warning", f"Settings waiting: {words}.{unsaved}", *acts)
        if said and said.test:
            end = make_button(
                "End the test", lambda: self._start_test(device_id, ""), "The device shows what is sent again."
            )
            self._add_row("error", f"Its on-board test “{said.test}” runs: nothing that is sent is shown.", end)

    def _add_row(self, severity: str, words: str, *acts: QWidget) -> None:
        self._body.addWidget(make_notice(severity, words, *acts))

    def _do_act(self, device_id: str, act: Need) -> None:
        s = self._session
        if act == "restart" and not dialogs.ask_act(
            self,
            f"Restart {s.rig.devices[device_id].name}",
            f"Its outputs go dark for about {self._seconds_it_takes(device_id):g} s. What was entered and not saved "
            f"is lost.",
            [("restart", "Restart")],
            "Leave it running",
        ):
            return
        s.attempt_act(lambda: self._network.devices.begin_push(device_id, {}, (act,)))

    def _seconds_it_takes(self, device_id: str) -> float:
        model = model_of(self._session.rig, device_id)
        return model.restart_takes if model else 5.0

    def _start_test(self, device_id: str, pattern: str) -> None:
        self._session.attempt_act(lambda: self._network.devices.begin_test(device_id, pattern))
