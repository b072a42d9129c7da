"""The panel of Devices: one setting with plan and report side by side, or the whole box."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QWidget

from welvo.app.devices.settings import said
from welvo.app.network import Wire
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.painting import CENTRE, button, clear, column, label, row, text
from welvo.app.widgets.panels import Panel, Title, Ways, field_row, finding_card
from welvo.app.widgets.theme import THEME
from welvo.observed.values import Heard
from welvo.rig.base import Refused
from welvo.rig.edits import plan_setting, remove_device, set_device, who_else
from welvo.rig.plan import model_of, read_setting, say_setting
from welvo.rig.protocol import say_artnet, say_wire
from welvo.rig.wiring import DeviceModel, SettingValue
from welvo.settings.compare import Line, is_live

if TYPE_CHECKING:
    from welvo.app.devices.station import DevicesStation


class States(QWidget):
    """How far a setting has come: planned, entered, saved, active, verified."""

    WORDS = ("planned", "entered", "saved", "active", "verified")

    def __init__(self, states: tuple[str, ...]) -> None:
        super().__init__()
        self._states = states
        self.setFixedHeight(40)
        self.setAccessibleName(", ".join(f"{w}: {marks.WORDS[m]}" for w, m in zip(self.WORDS, states)))

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        wide = self.width() / 5
        for n, (words, mark) in enumerate(zip(self.WORDS, self._states)):
            x = wide * (n + 0.5)
            if n:
                p.setPen(THEME.color("edge"))
                p.drawLine(int(x - wide + 9), 9, int(x - 9), 9)
            marks.draw(p, mark, x - 6, 3, 12)
            text(p, QRectF(wide * n, 20, wide, 18), words, "text" if mark == "agrees" else "quiet", 11, align=CENTRE)


def states_of(line: Line, model: DeviceModel | None, pushed: bool) -> tuple[str, ...]:
    """Marks of the five states. A model that needs no save, apply or restart is active as soon as it took a value."""
    planned = "agrees" if line.plan is not None else "silent"
    equal = line.plan is not None and line.plan == line.reported
    entered = "agrees" if equal else "claimed" if pushed else "unknown"
    needs = line.spec.needs if model else ()
    saved = entered if "save" not in needs else "unknown"
    active = entered if not {"apply", "restart"} & set(needs) else "unknown"
    return planned, entered, saved, active, "agrees" if line.mark == "agrees" else "unknown"


class DevicesPanel(Panel):
    """One setting with both values, or the box as a whole, or a stranger."""

    def __init__(self, station: DevicesStation, session: Session, wire: Wire) -> None:
        super().__init__(session, wire)
        self._station = station
        self._state: object = None
        self._identifying: set[str] = set()
        session.selection_changed.connect(self.refresh)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Build anew only when something that is shown is another one."""
        s = self.session
        sel = s.selection
        did = sel.first if sel.kind in ("device", "port") and sel.first in s.rig.devices else ""
        heard = s.observed.heard.get(s.rig.devices[did].ip if did else sel.first if sel.kind == "heard" else "")
        known = (heard.name, heard.mac, heard.report[8:], heard.ports) if heard else None
        lines = [(x.key, x.plan, x.reported, x.mark) for x in self._station.settings.lines]
        state = (
            sel,
            s.rig.devices.get(did),
            s.rig.feeds,
            known,
            lines,
            [e for e in s.observed.log if e.device == did],
            self._cards(did),
            THEME.name,
            THEME.step,
        )
        if state == self._state:
            return
        typing = self.focusWidget()
        if isinstance(typing, Field) and typing.hasFocus() and typing.pending and self._state and sel == self._state[0]:  # type: ignore[index]
            return  # never take a field away under the operator's hands
        self._state = state
        clear(self.body)
        if did and sel.setting:
            line = next((x for x in self._station.settings.lines if x.key == sel.setting), None)
            if line:
                self._setting(did, line, heard)
        elif did:
            self._device(did, heard)
        elif sel.kind == "heard" and heard:
            self._stranger(heard)
        else:
            self.nothing()
            return
        self.body.addStretch(1)

    def _cards(self, did: str) -> list[object]:
        return [
            f
            for f in self.session.report.findings
            if did and f.goes_to.kind in ("device", "port") and f.goes_to.id == did
        ]

    def _typed(self, words: str, help_text: str, value: str, apply: object) -> Field:
        field = Field(help_text, apply)  # type: ignore[arg-type]
        field.say = lambda why: self.session.say(why, "error")
        field.setAccessibleName(words)
        field.set_value(value)
        self.body.addLayout(field_row(words, field))
        return field

    # ---- one setting

    def _setting(self, did: str, line: Line, heard: Heard | None) -> None:
        s = self.session
        device, model = s.rig.devices[did], model_of(s.rig, did)
        by_key = {x.key: x for x in self._station.settings.lines}
        plan, has = said(line, by_key)
        where = f"{device.name}, port {line.port}" if line.port else device.name
        self.body.addWidget(Title(line.spec.label, where))
        self.body.addWidget(label(line.spec.help, 11, wrap=True))
        if line.spec.writable or line.key == "ip":
            self._plan_field(did, line, plan)
        self.body.addWidget(
            _Both(line, plan, has, self._sentence(line, by_key, model), self._box_says(line, by_key, model))
        )
        self.body.addWidget(label("How far this setting has come", 11, quiet=True))
        pushed = line.key in s.observed.written.get(did, {})
        self.body.addWidget(States(states_of(line, model, pushed)))
        if line.port:
            self._dependents(did, line.port)
        self._log(did, line.key)
        self._buttons(did, heard)

    def _plan_field(self, did: str, line: Line, plan: str) -> None:
        s = self.session
        port = s.rig.devices[did].ports.get(line.port)
        from_feed = bool(line.port) and line.spec.key in ("universe", "protocol")
        if from_feed and (port is None or not port.feed):
            self.body.addWidget(
                label("It follows from the feed; choose what this port gives out first.", 11, quiet=True, wrap=True)
            )
            return
        if line.spec.type == "choice":
            made = Choice(line.spec.help, lambda v: s.edit(plan_setting, did, line.key, v or None))
            none = [] if from_feed else [("", "not planned")]
            made.set_options(
                [*none, *((o, say_setting(line.spec, o)) for o in line.spec.options)], str(line.plan or "")
            )
            made.setAccessibleName("Plan")
            self.body.addLayout(field_row("Plan", made))
        else:
            self._typed(
                "Plan",
                line.spec.help,
                "" if line.plan is None else plan,
                lambda t: s.edit(plan_setting, did, line.key, self._read(did, line, t)),
            )
        others = who_else(s.rig, did, line.port) if from_feed else []
        if from_feed:
            moves = f"; so do {', '.join(others)}" if others else ""
            self.body.addWidget(
                label(f"Planning another value changes the feed itself{moves}.", 11, quiet=True, wrap=True)
            )

    def _read(self, did: str, line: Line, typed: str) -> SettingValue | None:
        port = self.session.rig.devices[did].ports.get(line.port)
        feed = self.session.rig.feeds.get(port.feed) if port else None
        return read_setting(line.spec, typed, feed.protocol if feed else "sacn")

    def _box_says(self, line: Line, by_key: dict[str, Line], model: DeviceModel | None) -> tuple[str, str]:
        """Both values in the counting of the box's own pages."""
        if line.spec.type != "universe" or model is None:
            return "", ""
        protocol = by_key.get(f"{line.port}.protocol")

        def one(value: SettingValue | None, p: SettingValue | None) -> str:
            if not isinstance(value, int) or not p:
                return ""
            if p == "artnet":
                return f"box's page says {value + model.counts.get('artnet', 0)}"
            return f"box's page says {value - 1 + model.counts.get('sacn', 1)}"

        return one(line.plan, protocol.plan if protocol else None), one(
            line.reported, protocol.reported if protocol else None
        )

    def _sentence(self, line: Line, by_key: dict[str, Line], model: DeviceModel | None) -> str:
        if line.mark != "differs":
            return {
                "agrees": "Read back, and equal.", "claimed": "Pushed; the box has not said it yet.",
                "unknown": "The box has not said this.", "silent": "The plan does not care about it.",
            }.get(line.mark, "")  # fmt: skip
        if line.spec.type == "universe" and isinstance(line.plan, int) and isinstance(line.reported, int):
            protocol = by_key.get(f"{line.port}.protocol")
            if protocol and protocol.plan != protocol.reported:
                return "The protocol differs as well; set that first, the numbers count otherwise in each."
            by = line.reported - line.plan
            if abs(by) == 1 and protocol:
                base = model.counts.get(str(protocol.plan), 1) if model else 1
                usual = 1 if protocol.plan == "sacn" else 0
                same = (
                    f"counts from {base} too, so counting is not the cause"
                    if base == usual
                    else f"counts from {base}: somebody may have typed the plan's number there"
                )
                return f"One {'more' if by > 0 else 'less'} than planned. Its own page {same}."
            if protocol and protocol.plan == "artnet":
                return f"The box takes {say_artnet(line.reported)}, the plan sends {say_artnet(line.plan)}."
        return "The box has another value than the plan."

    def _dependents(self, did: str, port: str) -> None:
        s = self.session
        feed = s.rig.feeds.get(s.rig.devices[did].ports[port].feed) if port in s.rig.devices[did].ports else None
        spans = s.index.on(feed.universe) if feed else []
        ways = [("Things on it", str(len({x.key for x in spans})))]
        if feed and spans:
            top = max(x.last for x in spans)
            ways.append(("Highest slot used", f"{s.rig.universes[feed.universe].number}.{min(512, top):03d}"))
        ways.append(("Fed by", f"{say_wire(feed.protocol, feed.wire)}, prio {feed.priority}" if feed else "nothing"))
        self.body.addWidget(Ways("Who depends on it", tuple(ways)))

    def _log(self, did: str, key: str = "") -> None:
        events = [e for e in self.session.observed.log if e.device == did and (not key or e.setting == key)][-6:]
        if not events:
            return
        self.body.addWidget(label("What happened", 11, quiet=True))
        for e in reversed(events):
            stamp = label(time.strftime("%H:%M:%S", time.localtime(e.at)), 11, quiet=True)
            stamp.setFixedWidth(60 + 4 * THEME.step)
            self.body.addLayout(row(stamp, label(e.what, 11, wrap=True)))

    def _buttons(self, did: str, heard: Heard | None) -> None:
        s = self.session
        ip = s.rig.devices[did].ip
        read = button("Read again", self.wire.read_again, "Asks all boxes for their settings now.   F5")
        on = ip in self._identifying
        blink = button(
            "Stop blinking" if on else "Identify",
            lambda: self._identify(ip, not on),
            "Lets the box blink, so that you find it.",
        )
        live = is_live(heard, s.now())
        blink.setEnabled(live)
        if not live:
            blink.setToolTip("The box is silent; it cannot be told to blink.")
        self.body.addLayout(row(read, blink))

    def _identify(self, ip: str, on: bool) -> None:
        if self.wire.identify(ip, on):
            (self._identifying.add if on else self._identifying.discard)(ip)
        self._state = None
        self.refresh()

    # ---- the box

    def _device(self, did: str, heard: Heard | None) -> None:
        s = self.session
        device, model = s.rig.devices[did], model_of(s.rig, did)
        self.body.addWidget(Title(device.name))
        self.body.addWidget(
            label(f"{model.maker} {model.name}. {model.note}" if model else "unknown model", 11, quiet=True, wrap=True)
        )
        self._typed(
            "Name",
            "What the box is called, up to 17 letters; pushed to it as its name. Two of one name are easily mixed up.",
            device.name,
            lambda t: self._rename(did, t),
        )
        self._typed(
            "Address",
            "Where the box is planned: four numbers, such as 10.0.40.21. A wrong one makes it look silent.",
            device.ip,
            lambda t: s.edit(plan_setting, did, "ip", t.strip() or None),
        )
        self._typed(
            "Note",
            "Where it stands, which key opens it. Free words; nothing depends on them.",
            device.note,
            lambda t: s.edit(set_device, did, f"note on {device.name}", note=t),
        )
        for f in self._cards(did)[:3]:
            self.body.addWidget(finding_card(s, self.wire, f))  # type: ignore[arg-type]
        if heard:
            self.body.addWidget(Ways("What it says of itself", _facts(heard, s.now())))
        else:
            words = (
                f"Planned at {device.ip}, never heard on {self.wire.interface.name}. The plan stands; nothing is known about the box."
                if device.ip
                else "It has no address yet, so it cannot be heard."
            )
            self.body.addWidget(label(words, 11, wrap=True))
        self._log(did)
        self._buttons(did, heard)
        self.body.addLayout(
            row(
                button("Its runs", lambda: self._station.runs.emit(did), "Shows what hangs on its ports, in Runs."),
                None,
                button(
                    "Remove",
                    lambda: s.edit(remove_device, did),
                    "Takes the box and what hangs on it out of the plan. Undo brings it back.",
                ),
            )
        )

    def _rename(self, did: str, t: str) -> object:
        if not 1 <= len(t.strip()) <= 17:
            raise Refused("A box's name has 1 to 17 letters.")
        return self.session.edit(plan_setting, did, "name", t.strip())

    def _stranger(self, heard: Heard) -> None:
        self.body.addWidget(Title(heard.name or heard.ip))
        self.body.addWidget(
            label(
                "Heard, and not in the plan. It may be a spare, somebody else's, or a planned box at a wrong address.",
                11,
                quiet=True,
                wrap=True,
            )
        )
        self.body.addWidget(
            button(
                "Plan this box…", lambda: self._station.add_device(heard.ip), "Takes it into the rig with its address."
            )
        )
        self.body.addWidget(Ways("What it says of itself", _facts(heard, self.session.now())))


def _facts(heard: Heard, now: float) -> tuple[tuple[str, str], ...]:
    outputs = [p for p in heard.ports if p.output]
    ports = tuple(
        (f"Output {n}", say_wire(p.protocol, p.wire) + (" · merging" if p.merging else ""))
        for n, p in enumerate(outputs, 1)
    )
    report = heard.report.split("] ", 1)[-1] if heard.report else "–"
    return (
        ("Address", heard.ip), ("MAC", heard.mac), ("Firmware", f"{heard.firmware >> 8}.{heard.firmware & 255}"),
        ("Its report", report), *ports,
    )  # fmt: skip


class _Both(QFrame):
    """Plan and reported at 22, and one sentence on how they stand."""

    def __init__(self, line: Line, plan: str, has: str, sentence: str, pages: tuple[str, str]) -> None:
        super().__init__()
        differs = line.mark == "differs"
        c = THEME.color
        self.setObjectName("both")
        self.setStyleSheet(
            f"#both {{ background: {c('station').name()}; border-left: 4px solid {c('error' if differs else 'edge').name()}; }}"
        )
        body = column((12, 8, 12, 10), 2)
        when = time.strftime("%H:%M:%S", time.localtime(line.at)) if line.at else ""
        for title, value, page in (
            ("plan", plan if line.plan is not None else "not planned", pages[0]),
            (f"reported {when}".strip(), has, pages[1]),
        ):
            body.addWidget(label(title, 11, quiet=True))
            size = 22 if len(value) < 14 else 16
            body.addLayout(row(label(value, size, True), None, label(page, 11, quiet=True)))
        body.addWidget(label(sentence, 11, wrap=True))
        self.setLayout(body)
