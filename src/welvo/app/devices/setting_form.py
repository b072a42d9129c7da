"""One setting of a device in the panel: plan and report side by side, how far it has come, who depends on it."""

from __future__ import annotations

import time

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QWidget

from welvo.app.devices.settings import words_of_line
from welvo.app.jobs.device_work import OUTCOMES
from welvo.app.widgets import marks
from welvo.app.widgets.fields import Field
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import Subject, Typed, ValueChoice
from welvo.app.widgets.painting import CENTRE, column_of_widgets, draw_text_line, make_button, make_label
from welvo.app.widgets.panels import FormPanel, Title, Ways
from welvo.app.widgets.theme import THEME
from welvo.app.widgets.who import say_when
from welvo.observed.values import Written
from welvo.rig.edits import plan_setting, set_lacking, who_else
from welvo.rig.entered import Entered, SettingValue
from welvo.rig.notation import say_place
from welvo.rig.plan import link_of, model_of, read_setting, say_setting, setting_key, split_owner
from welvo.rig.protocol import PROTOCOLS, USUAL, say_wire
from welvo.rig.wiring import DeviceModel
from welvo.settings.card import say_owner_place
from welvo.settings.compare import SettingLine

SENTENCES = {
    "matches": "Read back, and equal.",
    "claimed": "Pushed; the device has not said it yet.",
    "unknown": "The device has not said this.",
    "silent": "The plan does not care about it.",
}


LINKS = {"artnet": "Art-Net", "http": "HTTP", "ddp": "DDP"}


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
            marks.draw_mark(p, mark, x - 6, 3, 12)
            draw_text_line(
                p, QRectF(wide * n, 20, wide, 18), words, "text" if mark == "matches" else "quiet", 11, align=CENTRE
            )


def states_of(line: SettingLine, claimed: bool) -> tuple[str, ...]:
    """Marks of the five states. A device that tells its entered and saved values is taken at its word; of any other,
    what it works by was entered, and saved as far as it has to be. `claimed`: pushed or ticked, and not read since."""
    if line.plan is None:
        return ("silent",) * 5
    equal = line.plan == line.reported
    if line.entered is not None:
        entered = "matches" if line.entered == line.plan else "differs"
        saved = ("matches" if line.saved == line.plan else "differs") if "save" in line.spec.needs else entered
    else:
        entered = "matches" if equal else "claimed" if claimed else "unknown"
        saved = entered if "save" not in line.spec.needs else "unknown"
    active = "matches" if equal else "differs" if line.reported is not None else "unknown"
    return "matches", entered, saved, active, "matches" if line.mark == "matches" else "unknown"


def say_where_it_came(line: SettingLine, pushed: Written | None, ticked: Entered | None, link: str) -> str:
    """When the setting came as far as it did, and by what."""
    said = []
    if ticked and ticked.value == line.plan:
        said.append(f"ticked off{f' by {ticked.who}' if ticked.who else ''}, {say_when(ticked.at)}")
    if pushed:
        said.append(f"pushed at {_say_time(pushed.at)}{'' if pushed.answered else ', no answer yet'}")
    if line.result and line.result.at:
        said.append(f"{OUTCOMES[line.result.outcome]} at {_say_time(line.result.at)}")
    if line.reported is not None and line.at:
        said.append(f"last said by the device at {_say_time(line.at)}{f' by {LINKS[link]}' if link in LINKS else ''}")
    words = "; ".join(said)
    return f"{words[:1].upper()}{words[1:]}." if words else "Nobody has entered it yet."


def _say_time(at: float) -> str:
    return time.strftime("%H:%M:%S", time.localtime(at))


def show_setting(panel: FormPanel, device_id: str, line: SettingLine, lines: dict[str, SettingLine]) -> None:
    """A setting of a device; `lines` are all of the device's, by full key."""
    s = panel.session
    device, model = s.rig.devices[device_id], model_of(s.rig, device_id)
    plan, has = words_of_line(line, lines)
    panel.body.addWidget(
        Title(line.spec.label, f"{device.name}, {say_owner_place(line.port)}" if line.port else device.name)
    )
    panel.words(line.spec.help, quiet=False)
    if line.spec.secret:
        _secret_field(panel, device_id, line)
    elif line.spec.writable or line.key == "ip":
        _planned_field(panel, device_id, line, plan)
    panel.body.addWidget(_Both(line, plan, has, sentence_on_line(line, lines, model), device_says(line, lines, model)))
    _offer_lacking(panel, device_id, line)
    panel.words("How far this setting has come")
    pushed, ticked = s.observed.written.get(device_id, {}).get(line.key), device.entered.get(line.key)
    claimed = pushed is not None or (ticked is not None and ticked.value == line.plan)
    panel.body.addWidget(States(states_of(line, claimed)))
    panel.words(say_where_it_came(line, pushed, ticked, link_of(model, line.spec) if model else ""))
    if line.port:
        _dependents_of_port(panel, device_id, split_owner(line.port)[0])


def _offer_lacking(panel: FormPanel, device_id: str, line: SettingLine) -> None:
    """A firmware may lack what its model has: then it nags nobody."""
    s = panel.session
    lacks = line.key in s.rig.devices[device_id].lacks
    if lacks:
        panel.words("This device does not have it: it is not planned, and not on its card.", quiet=False)
        words, help_text = "It has it after all", "From then on it is planned and compared again."
    elif line.reported is None and line.plan is not None:
        words = "This device lacks it"
        help_text = "Its firmware does not have this setting: it is no difference any more, and not on its card."
    else:
        return
    mark = make_button(words, lambda: s.make_edit(set_lacking, device_id, line.key, not lacks), help_text)
    panel.body.addLayout(flow_of_widgets(mark, None))


def _secret_field(panel: FormPanel, device_id: str, line: SettingLine) -> None:
    """What is typed goes to the device and nowhere else."""
    field = Field(line.spec.help, lambda t: panel.network.devices.enter_secret(device_id, line.key, t) if t else None)
    field.setEchoMode(Field.EchoMode.Password)
    field.setAccessibleName(line.spec.label)
    panel.body.addLayout(flow_of_widgets(make_label("Enter", quiet=True), field))
    panel.words("It is sent to the device when you press Enter, and kept neither in the rig nor on this computer.")


def _planned_field(panel: FormPanel, device_id: str, line: SettingLine, plan: str) -> None:
    """The field of the planned value. A universe and its protocol are the feed's: planning one changes the feed."""
    s = panel.session
    port = s.rig.devices[device_id].ports.get(line.port)
    feed = s.rig.feeds.get(port.feed) if port else None
    from_feed = bool(line.port) and line.spec.key in ("universe", "protocol")
    if from_feed and feed is None:
        panel.words("It follows from the feed; choose what this port listens to first.")
        return
    protocol = feed.protocol if feed else USUAL
    form = panel.new_form(Subject(lambda: line, lambda *_, **__: None))
    if line.spec.type == "choice":
        none = [] if from_feed else [("", "not planned")]
        form.add(
            ValueChoice(
                "Plan",
                line.spec.help,
                options=[*none, *((o, say_setting(line.spec, o)) for o in line.spec.options)],
                shown=lambda x: str(x.plan or ""),
                take=lambda v: s.make_edit(plan_setting, device_id, line.key, v or None),
            )
        )
    else:
        form.add(
            Typed(
                "Plan",
                line.spec.help,
                shown=lambda x: "" if x.plan is None else plan,
                take=lambda t: s.make_edit(plan_setting, device_id, line.key, read_setting(line.spec, t, protocol)),
            )
        )
    if from_feed:
        others = who_else(s.rig, device_id, line.port)
        moves = f"; so do {', '.join(others)}" if others else ""
        panel.words(f"Planning another value changes the feed itself{moves}.")


def _dependents_of_port(panel: FormPanel, device_id: str, port: str) -> None:
    s = panel.session
    planned = s.rig.devices[device_id].ports.get(port)
    feed = s.rig.feeds.get(planned.feed) if planned else None
    spans = s.index.spans_on_universe(feed.universe) if feed else []
    ways = [("Items on it", str(len({x.key for x in spans})))]
    if feed and spans:
        universe = s.rig.universes[feed.universe]
        ways.append(("Highest slot used", say_place(universe.number, min(universe.size, max(x.last for x in spans)))))
    ways.append(("Fed by", f"{say_wire(feed.protocol, feed.wire)}, prio {feed.priority}" if feed else "nothing"))
    panel.body.addWidget(Ways("Who depends on it", tuple(ways)))


def device_says(line: SettingLine, lines: dict[str, SettingLine], model: DeviceModel | None) -> tuple[str, str]:
    """Plan and report in the counting of the device's own pages."""
    if line.spec.type != "universe" or model is None:
        return "", ""
    protocol = lines.get(setting_key(line.port, "protocol"))

    def one(value: SettingValue | None, by: SettingValue | None) -> str:
        record = PROTOCOLS.get(str(by))
        if not isinstance(value, int) or record is None:
            return ""
        return f"device's page says {record.from_zero(value) + model.counts.get(record.key, record.base)}"

    return one(line.plan, protocol.plan if protocol else None), one(
        line.reported, protocol.reported if protocol else None
    )


def sentence_on_line(line: SettingLine, lines: dict[str, SettingLine], model: DeviceModel | None) -> str:
    """How plan and report stand to each other, in one sentence."""
    if line.mark != "differs":
        return SENTENCES.get(line.mark, "")
    if line.spec.type == "universe" and isinstance(line.plan, int) and isinstance(line.reported, int):
        protocol = lines.get(f"{line.port}.protocol")
        if protocol and protocol.plan != protocol.reported:
            return "The protocol differs as well; set that first, the numbers count otherwise in each."
        by = line.reported - line.plan
        if abs(by) == 1 and protocol:
            base = model.counts.get(str(protocol.plan), 1) if model else 1
            usual = PROTOCOLS[str(protocol.plan)].base
            same = (
                f"counts from {base} too, so counting is not the cause"
                if base == usual
                else f"counts from {base}: somebody may have typed the plan's number there"
            )
            return f"One {'more' if by > 0 else 'less'} than planned. Its own page {same}."
        record = PROTOCOLS.get(str(protocol.plan)) if protocol else None
        if record and not record.is_plain:
            return (
                f"The device listens to {record.say_wire(line.reported)}, the plan sends {record.say_wire(line.plan)}."
            )
    return "The device has another value than the plan."


class _Both(QFrame):
    """Plan and reported at 22, and one sentence on how they stand."""

    def __init__(self, line: SettingLine, plan: str, has: str, sentence: str, pages: tuple[str, str]) -> None:
        super().__init__()
        differs = line.mark == "differs"
        c = THEME.color
        self.setObjectName("both")
        self.setStyleSheet(
            f"#both {{ background: {c('station').name()}; border-left: 4px solid "
            f"{c('error' if differs else 'edge').name()}; }}"
        )
        body = column_of_widgets((12, 8, 12, 10), 2)
        when = time.strftime("%H:%M:%S", time.localtime(line.at)) if line.at else ""
        for title, value, page in (
            ("plan", plan if line.plan is not None else "not planned", pages[0]),
            (f"reported {when}".strip(), has, pages[1]),
        ):
            body.addWidget(make_label(title, 11, quiet=True))
            size = 22 if len(value) < 14 else 16
            body.addLayout(flow_of_widgets(make_label(value, size, True), None, make_label(page, 11, quiet=True)))
        body.addWidget(make_label(sentence, 11, wrap=True))
        self.setLayout(body)
