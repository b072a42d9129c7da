"""The panel of Devices: one setting with plan and report side by side, or the whole device, or a stranger."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial

from PySide6.QtCore import Signal

from welvo.app.devices.bus_page import BusPage
from welvo.app.devices.bus_panel import show_bus, show_place, show_places
from welvo.app.devices.find import give_found_address
from welvo.app.devices.lamp_page import LampPage
from welvo.app.devices.lamp_panel import LampHands, show_lamp
from welvo.app.devices.pairs import clock_words
from welvo.app.devices.papers import DeviceTables, SettingCard, Snapshots
from welvo.app.devices.setting_form import show_setting
from welvo.app.jobs.device_work import speaks_http
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import dialogs
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.forms import Subject, Typed
from welvo.app.widgets.line_choice import line_row
from welvo.app.widgets.painting import clear_layout, make_button, make_label
from welvo.app.widgets.panels import FormPanel, Title, Ways, finding_card
from welvo.app.widgets.theme import THEME
from welvo.checks.registry import Finding
from welvo.observed.presence import Presence, is_recent, presence_of
from welvo.observed.values import DeviceAnswer, Heard
from welvo.rig.base import Refused
from welvo.rig.edits import plan_setting, remove_device, set_device
from welvo.rig.notation import read_mac, say_count
from welvo.rig.plan import away_from_factory, device_at, model_of
from welvo.rig.protocol import PROTOCOLS, say_wire
from welvo.rig.wiring import Device, DeviceModel
from welvo.settings.compare import SettingLine
from welvo.settings.heard import likely_devices, link_device

LONGEST_NAME = 17
"""Letters of a short name that Art-Net can carry."""


class DevicesPanel(FormPanel):
    """Emits `runs` with the id of a device whose cables are to be shown, `plan` with the address of a stranger,
    `profile` with the id of one that was drafted."""

    tries = True

    runs = Signal(str)
    plan = Signal(str)
    profile = Signal(str)

    def __init__(self, lines: Callable[[], list[SettingLine]], session: Session, network: Network) -> None:
        super().__init__(session, network)
        self._lines = lines
        self._state: object = None
        self._shown_for: object = None
        self._identifying: set[str] = set()
        self.lamps: LampPage | None = None
        """The page of lamps, once it is there: what is chosen on it is shown here."""
        self.bus: BusPage | None = None
        """The page of lamp buses, likewise."""
        session.selection_changed.connect(self.refresh)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self.refresh)
        network.lamps.changed.connect(self.refresh)
        network.buses.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Build anew only when something that is shown is another one."""
        s = self.session
        sel = s.selection
        device_id = sel.first_selected if sel.kind in ("device", "port") and sel.first_selected in s.rig.devices else ""
        heard = s.observed.heard.get(
            s.rig.devices[device_id].ip if device_id else sel.first_selected if sel.kind == "heard" else ""
        )
        said = s.observed.said.get(s.rig.devices[device_id].ip if device_id else sel.first_selected)
        model = model_of(s.rig, device_id) if device_id else None
        # this panel may be told of another device before the pages are: what they still show is of the former one
        on_bus = bool(device_id and self.bus and self.bus.isVisible() and self.bus.labels_of_buses(device_id))
        if on_bus and self.bus:
            self.bus.show_device(device_id, sel.ids[1] if len(sel.ids) > 1 else self.bus.port)
        place = self.bus.selected_place() if self.bus and on_bus else None
        of_lamps = self.lamps if self.lamps and device_id and self.lamps.device_id == device_id else None
        lamp = of_lamps.chosen_pair() if of_lamps and sel.lamp else None
        state = (
            s.rig.devices.get(device_id),
            s.rig.feeds,
            (heard.name if heard else "", _facts_of_device(heard, said, model)) if heard or said else None,
            [(x.key, x.plan, x.reported, x.mark) for x in self._lines()],
            [e for e in s.observed.log if e.device == device_id],
            self._finding_cards(device_id),
            self._answers_before(device_id),
            self.network.hearing.why_unread(s.rig.devices[device_id].ip) if device_id else "",
            (THEME.name, THEME.step),
            (
                self.bus.isVisible(),
                self.bus.bus_shown,
                place,
                self.bus.also,
                self.network.buses.staged.get(self.bus.bus_shown),
            )
            if self.bus
            else None,
            (lamp, self.lamps.lamp_blinks(sel.lamp), self.network.lamps.results.get(sel.lamp)) if self.lamps else None,
        )
        if (sel, state) == (self._shown_for, self._state):
            return
        typing = self.focusWidget()
        if isinstance(typing, Field) and typing.hasFocus() and typing.pending and sel == self._shown_for:
            return  # never take a field away under the operator's hands
        self._shown_for, self._state = sel, state
        clear_layout(self.body)
        self.refreshers.clear()
        lines = {x.key: x for x in self._lines()}
        if on_bus and self.bus:
            if place and len(self.bus.chosen_places) > 1:
                show_places(self, self.bus, self.bus.chosen_places)
            elif place:
                show_place(self, self.bus, place)
            else:
                show_bus(self, self.bus)
        elif device_id and lamp and self.lamps:
            page = self.lamps
            hands = LampHands(page.blink_lamp, page.lamp_blinks, page.read_again, page.push_one, self.profile.emit)
            show_lamp(self, page.port_shown, lamp, hands)
        elif device_id and sel.setting in lines:
            show_setting(self, device_id, lines[sel.setting], lines)
            self._log_lines(device_id, sel.setting)
            self._add_buttons(device_id, heard)
        elif device_id and not sel.setting:
            self._show_device(device_id, heard)
        elif sel.kind == "heard" and (heard or sel.first_selected in s.observed.said):
            self._show_stranger(sel.first_selected, heard)
        elif not device_id:
            self.nothing()
            return
        self.body.addStretch(1)
        super().refresh()

    def _plan_address(self, device_id: str, typed: str) -> object:
        """Plan another address. Where the device answers at the former one, it is offered to be given the new one."""
        s = self.session
        before = s.rig.devices[device_id].ip
        change = s.make_edit(plan_setting, device_id, "ip", typed.strip() or None)
        if presence_of(s.observed, before, s.now()).is_there and not device_at(s.rig, before):
            self.network.pushing.planned_before[device_id] = before
        return change

    def _answers_before(self, device_id: str) -> str:
        """Where a device was planned before, while it answers there and nobody at its new address."""
        s, before = self.session, self.network.pushing.planned_before.get(device_id, "")
        ip = s.rig.devices[device_id].ip if device_id in s.rig.devices else ""
        if not before or not ip or presence_of(s.observed, ip, s.now()).is_there:
            return ""
        return before if presence_of(s.observed, before, s.now()).is_there else ""

    def _offer_to_follow(self, device_id: str) -> None:
        """A device that still answers where it was planned before can be given its new address from here."""
        s, before = self.session, self._answers_before(device_id)
        if not before:
            return
        device = s.rig.devices[device_id]
        self.words(f"It answers at {before}, where it was planned before.", quiet=False)
        give = make_button(
            f"Give it {device.ip}",
            lambda: give_found_address(s, self.network, device_id, before),
            "Sends the new address, saves, restarts; then the device is followed there.",
            primary=True,
        )
        self.body.addLayout(flow_of_widgets(give, None))

    def _offer_search(self, device_id: str, presence: Presence) -> None:
        """The way to the tests, where no finding offers it already."""
        offered = any(f.code == "DEV-02" for f in self._finding_cards(device_id)[:3])
        if not presence.is_there and not offered:
            want = partial(self.session.search_wanted.emit, device_id)
            find = make_button("Find it…", want, "Tests why it is silent.")
            self.body.addLayout(flow_of_widgets(find, None))

    def _finding_cards(self, device_id: str) -> list[Finding]:
        kinds = ("device", "port") if device_id else ()
        return [f for f in self.session.report.findings if f.goes_to.kind in kinds and f.goes_to.id == device_id]

    def _log_lines(self, device_id: str, key: str = "") -> None:
        events = [e for e in self.session.observed.log if e.device == device_id and (not key or e.setting == key)][-6:]
        if not events:
            return
        self.body.addWidget(make_label("What happened", 11, quiet=True))
        for e in reversed(events):
            stamp = make_label(time.strftime("%H:%M:%S", time.localtime(e.at)), 11, quiet=True)
            keep_width(stamp, 60)
            self.body.addLayout(flow_of_widgets(stamp, make_label(e.what, 11, wrap=True)))

    def _add_buttons(self, device_id: str, heard: Heard | None) -> None:
        s = self.session
        ip = s.rig.devices[device_id].ip
        read = make_button(
            "Read again", self.network.hearing.read_again, "Asks all devices for their settings now.   F5"
        )
        on = ip in self._identifying
        blink = make_button(
            "Stop blinking" if on else "Identify",
            lambda: self._identify_device(ip, not on),
            "Lets the device blink, so that you find it.",
        )
        live = heard is not None and is_recent(s.observed, heard.at, s.now())
        blink.setEnabled(live)
        if not live:
            blink.setToolTip("The device is silent; it cannot be told to blink.")
        self.body.addLayout(flow_of_widgets(read, blink))

    def _add_acts(self, device_id: str, model: DeviceModel, said: DeviceAnswer | None) -> None:
        """What the device can be told to do: a test of its own, a restart, factory settings."""
        if model.tests:
            tests = Choice(
                "A test pattern that the device shows by itself, whatever is sent.",
                lambda v: self._start_test(device_id, model, v),
            )
            tests.setAccessibleName("On-board test")
            tests.set_options([("", "no test"), *((t, t) for t in model.tests)], said.test if said else "")
            self.body.addLayout(flow_of_widgets(make_label("On-board test", quiet=True), tests))
        if model.lights:
            lights = "; ".join(f"{look}: {means}" for look, means in model.lights)
            self.body.addWidget(make_label(f"Its status light, {lights}.", 11, wrap=True))
        reset = make_button(
            "Factory settings…",
            lambda: self._reset_to_factory(device_id, model, said),
            "Takes everything back to how it came.",
        )
        again = make_button(
            "Restart…", lambda: self._restart_device(device_id, model), "Its outputs go dark meanwhile."
        )
        for act in (reset, again):
            act.setEnabled(said is not None)
        self.body.addLayout(flow_of_widgets(again, reset))

    def _start_test(self, device_id: str, model: DeviceModel, pattern: str) -> None:
        """A gateway's test drives all its gear at once, so it is asked for."""
        name = self.session.rig.devices[device_id].name
        if pattern and model.kind == "gateway":
            words = f"All gear on every bus of {name} goes to {pattern.removeprefix('all ')} at once, whatever is sent."
            if not dialogs.ask_act(self, f"Test of {name}", words, [("test", "Start the test")], "Leave it", warn=True):
                self._state = None
                self.refresh()
                return
        self.network.devices.begin_test(device_id, pattern)

    def _restart_device(self, device_id: str, model: DeviceModel) -> None:
        name = self.session.rig.devices[device_id].name
        words = f"Its outputs go dark for about {model.restart_takes:g} s. What was entered and not saved is lost."
        if dialogs.ask_act(self, f"Restart {name}", words, [("restart", "Restart")], "Leave it running"):
            self.session.attempt_act(lambda: self.network.devices.begin_push(device_id, {}, ("restart",)))

    def _reset_to_factory(self, device_id: str, model: DeviceModel, said: DeviceAnswer | None) -> None:
        name = self.session.rig.devices[device_id].name
        other = away_from_factory(model, said.active) if said else 0
        words = (
            f"{say_count(other, 'setting')} of {name} are lost. It may come back at its factory address"
            f"{f' {model.factory_ip}' if model.factory_ip else ''}, where it is not heard from here."
        )
        if dialogs.ask_act(
            self,
            f"Factory settings for {name}",
            words,
            [("reset", f"Lose {say_count(other, 'setting')}")],
            "Keep them",
            warn=True,
        ):
            self.session.attempt_act(lambda: self.network.devices.reset_to_factory(device_id))

    def _identify_device(self, ip: str, on: bool) -> None:
        if self.network.pushing.identify_device(ip, on):
            (self._identifying.add if on else self._identifying.discard)(ip)
        self._state = None
        self.refresh()

    # ---- the device

    def _show_device(self, device_id: str, heard: Heard | None) -> None:
        s = self.session
        device, model = s.rig.devices[device_id], model_of(s.rig, device_id)

        def change(what: str, **fields: object) -> object:
            return s.make_edit(set_device, device_id, f"{what} of {s.rig.devices[device_id].name}", **fields)

        def rename(typed: str) -> object:
            if not 1 <= len(typed.strip()) <= LONGEST_NAME:
                raise Refused(f"A device's name has 1 to {LONGEST_NAME} letters.")
            return s.make_edit(plan_setting, device_id, "name", typed.strip())

        self.body.addWidget(Title(device.name))
        self.words(f"{model.maker} {model.name}. {model.note}" if model else "unknown model")
        self.new_form(Subject(lambda: s.rig.devices.get(device_id), change), Device).add(
            Typed(
                "Name",
                "What the device is called, up to 17 letters; pushed to it as its name. Two of one name are easily "
                "mixed up.",
                shown=lambda d: str(d.name),
                take=rename,
            ),
            Typed(
                "Address",
                "Where the device is planned: four numbers, such as 10.0.40.21. A wrong one makes it look silent.",
                shown=lambda d: str(d.ip),
                take=lambda t: self._plan_address(device_id, t),
            ),
            Typed(
                "MAC",
                "The MAC printed on the device. Another device at its address is found out, and this one elsewhere.",
                shown=lambda d: str(d.settings.get("mac", "")),
                take=lambda t: s.make_edit(plan_setting, device_id, "mac", read_mac(t) or None),
            ),
            Typed("Firmware", "Which firmware the device has, as its page says it.", "firmware"),
            Typed("Note", "Where it stands, which key opens it. Free words; nothing depends on them.", "note"),
        )
        if "password" in self.network.hearing.why_unread(device.ip):
            help_text = "The password of its settings. It is kept on this computer only, and stands in no rig."
            secret = Field(help_text, lambda t: self.network.devices.set_password(device.ip, t))
            secret.setEchoMode(Field.EchoMode.Password)
            secret.setAccessibleName("Password")
            self.words(self.network.hearing.why_unread(device.ip), quiet=False)
            self.body.addLayout(flow_of_widgets(make_label("Password", quiet=True), secret))
        for f in self._finding_cards(device_id)[:3]:
            self.body.addWidget(finding_card(s, self.network, f))
        said = s.observed.said.get(device.ip)
        self._offer_to_follow(device_id)
        presence = presence_of(s.observed, device.ip, s.now())
        if heard or said:
            of = "What it says of itself" if presence.is_there else f"What it said until {clock_words(presence.last)}"
            self.body.addWidget(Ways(of, _facts_of_device(heard, said, model)))
            self._offer_search(device_id, presence)
        elif device.ip:
            where = f"Planned at {device.ip}, never heard on {self.network.hearing.interface.name}."
            self.words(f"{where} The plan stands; nothing is known about the device.", quiet=False)
            self._offer_search(device_id, presence)
        elif model and model.kind == "serial":
            self._serial_lines(device)
        else:
            self.words("It has no address yet, so it cannot be heard.", quiet=False)
        self._log_lines(device_id)
        if not model or model.kind != "serial":
            self._add_buttons(device_id, heard)
        if mac := (said.mac if said else "") or (heard.mac if heard else ""):
            if not device.settings.get("mac"):
                keep = partial(s.make_edit, plan_setting, device_id, "mac", mac)
                help_text = "From then on another device at this address is found out, and this one at another address."
                self.body.addLayout(flow_of_widgets(make_button("Remember its MAC", keep, help_text), None))
        if model and speaks_http(model):
            self._add_acts(device_id, model, said)
        if model and model.settings:
            papers = [
                make_button(
                    "Card…", lambda: SettingCard(s, device_id, self).exec(), "What to enter by hand, to tick off."
                ),
                make_button("Tables…", lambda: DeviceTables(s, device_id, self).exec(), "The tables of its own pages."),
            ]
            if speaks_http(model):
                help_text = "What it was set to at other times: compare, write back."
                act = make_button("Snapshots…", lambda: Snapshots(s, self.network, device_id, self).exec(), help_text)
                papers.append(act)
            self.body.addLayout(flow_of_widgets(*papers, spacing=4))
        runs = make_button(
            "Its runs", lambda: self.runs.emit(device_id), "Shows what is attached to its ports, in Runs."
        )
        gone = make_button(
            "Remove",
            lambda: s.make_edit(remove_device, device_id),
            "Takes the device and what is attached to it out of the plan. Undo brings it back.",
        )
        self.body.addLayout(flow_of_widgets(runs, None, gone))

    def _serial_lines(self, device: Device) -> None:
        """Which port of this computer each of its lines is."""
        feeds = [self.session.rig.feeds.get(p.feed) for p in device.ports.values()]
        lines = [f.wire for f in feeds if f and PROTOCOLS[f.protocol].carries == "line"]
        for number in lines:
            self.body.addLayout(line_row(self.network, number))
        if not lines:
            self.words("Choose the feed of its port: a serial line of a universe, added in Patch.", quiet=False)

    def _show_stranger(self, ip: str, heard: Heard | None) -> None:
        s = self.session
        said = s.observed.said.get(ip)
        mac = (said.mac if said else "") or (heard.mac if heard else "")
        self.body.addWidget(Title((heard.name if heard else said.name if said else "") or ip))
        self.words(
            "Heard, and not in the plan. It may be a spare, somebody else's, or a planned device at a wrong address."
        )
        take = make_button("Plan this device…", lambda: self.plan.emit(ip), "Takes it into the rig with its address.")
        self.body.addWidget(take)
        planned = likely_devices(s.rig, s.observed, ip)
        if planned:
            names = [("", "a new one"), *((k, s.rig.devices[k].name) for k in planned)]
            help_text = "A planned device that this one is: it gets this address, and its MAC is remembered."
            which = Choice(help_text, lambda k: s.make_edit(link_device, k, ip, mac) if k else None)
            which.setAccessibleName("It is")
            which.set_options(names, "")
            self.body.addLayout(flow_of_widgets(make_label("It is", quiet=True), which))
        self.body.addWidget(Ways("What it says of itself", _facts_of_device(heard, said)))


def _facts_of_device(
    heard: Heard | None, said: DeviceAnswer | None, model: DeviceModel | None = None
) -> tuple[tuple[str, str], ...]:
    """What a device says of itself, by whatever link. Nothing in it changes from second to second."""
    facts: list[tuple[str, str]] = []
    if heard:
        facts.append(("Address", heard.ip))
    mac = (said.mac if said else "") or (heard.mac if heard else "")
    facts.append(("MAC", mac or "–"))
    version = said.firmware if said else f"{heard.firmware >> 8}.{heard.firmware & 255}" if heard else "–"
    known = next((f for f in model.firmwares if f.version == version), None) if model else None
    facts.append(("Firmware", version + ("" if known is None else ", known good" if known.good else ", with a fault")))
    if said:
        facts.append(("Serial number", said.serial or "–"))
        facts.append(("Running since", time.strftime("%H:%M", time.localtime(said.at - said.uptime))))
    elif heard:
        facts.append(("Its report", heard.report.split("] ", 1)[-1] if heard.report else "–"))
    outputs = [p for p in heard.ports if p.output] if heard else []
    if len(outputs) > 4:
        first = outputs[0]
        facts.append(("Outputs", f"{len(outputs)}, the first takes {say_wire(first.protocol, first.wire)}"))
    else:
        facts += [
            (f"Output {n}", say_wire(p.protocol, p.wire) + (" · merging" if p.merging else ""))
            for n, p in enumerate(outputs, 1)
        ]
    return tuple(facts)
