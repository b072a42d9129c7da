"""How a lamp is told its address, in the panel: the way, the picture of its switches, and where it really answers."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace
from PySide6.QtWidgets import QLabel

from welvo.app.patch.switch_picture import SwitchPicture
from welvo.app.session import Session
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import Row, Subject, Typed, ValueChoice
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.panels import FormPanel
from welvo.patch import table
from welvo.patch.set_on import set_on
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.notation import say_place
from welvo.rig.profile import AddressSetting
from welvo.rig.readers import read_whole_number
from welvo.rig.switches import one_slip_away, reach_of_switches, say_switches, why_there
from welvo.runs.edits import change_segment

WAY = ValueChoice(
    "Set",
    "How the address is set on lamps of this profile. It changes for all of them.",
    "by",
    (("menu", "in its menu"), ("switches", "address switches"), ("dials", "three dials"), ("rdm", "by RDM")),
)
SWITCHES = (
    ("9 lowest", "9, first is 1"),
    ("9 highest", "9, first is 256"),
    ("10 lowest", "10, first is 1"),
    ("10 highest", "10, first is 512"),
)
ON_IS = ValueChoice("ON is", "Which way of the switch is printed ON.", "on", (("up", "up"), ("down", "down")))
COUNTS = ValueChoice(
    "Counts",
    "Whether the lamp shows the address, or the address less one: all switches off are 1 then.",
    "base",
    (("1", "from 1"), ("0", "from 0: address − 1")),
    read=int,
)
MENU_UP_TO = Typed(
    "Menu up to",
    "The last start the lamp's menu offers. An address above it is a finding.",
    "highest",
    width=64,
    shown=lambda a: str(reach_of_switches(a)[1]),
)


def _with_capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def show_switches(panel: FormPanel, one: list[str]) -> None:
    """How the address is set on the lamp, drawn; what another picture would say; who answers elsewhere and why.

    `one` is a list of the fixture's id alone, as in the form above it.
    """
    s = panel.session
    panel.rule()

    def pid() -> str:
        fixture = s.rig.fixtures.get(one[0])
        return fixture.profile if fixture else ""

    def setting() -> AddressSetting | None:
        profile = s.rig.profiles.get(pid())
        return profile.address if profile else None

    def address() -> int:
        return set_on(s.index, one[0]).address

    def words() -> str:
        on = set_on(s.index, one[0])
        how_to = _with_capital(say_switches(setting(), on.address))
        return f"{how_to}, {on.behind}" if on.address and on.behind else how_to

    def change(_: str, **fields: object) -> object:
        made = replace(setting() or AddressSetting(), **fields)
        return s.make_edit(edits.set_profile, pid(), f"how {s.rig.profiles[pid()].name} is addressed", address=made)

    subject = Subject(lambda: setting() or AddressSetting(), change)
    panel.new_form(subject, AddressSetting).add(WAY)
    how = make_label("", 13, True, wrap=True)
    panel.body.addWidget(how)
    now = setting()
    if now and now.by in ("switches", "dials"):
        _Picture(panel, one, setting, how, words, slips=now.by == "switches")
    else:
        panel.refreshers.append(lambda: how.setText(words()))
    rows: list[Row] = []
    if now and now.by == "switches":

        def switches(choice: str) -> object:
            count, first = choice.split()
            return change("", switches=int(count), first=first)

        rows += [
            ValueChoice(
                "Switches",
                "How many address switches there are, and what the leftmost weighs.",
                options=SWITCHES,
                shown=lambda a: f"{a.switches} {a.first}",
                take=switches,
            ),
            ON_IS,
        ]
    if now and now.by != "rdm":
        rows.append(COUNTS)
    if now is None or now.by == "menu":
        rows.append(MENU_UP_TO)
    panel.new_form(subject, AddressSetting).add(*rows)


class _Picture:
    """The switches as they are to stand, and what it means when they stand otherwise."""

    def __init__(
        self,
        panel: FormPanel,
        one: list[str],
        setting: Callable[[], AddressSetting | None],
        how: QLabel,
        words: Callable[[], str],
        slips: bool,
    ) -> None:
        self._one, self._how, self._slips = one, how, slips
        self._shown = one[0]
        self._session: Session = panel.session
        self._planned_setting, self._words = setting, words
        self._picture = SwitchPicture()
        self._said = make_label("", 11, wrap=True)
        self._take = make_button(
            "Plan it", self._plan_address, "Moves the fixture in the plan to what the switches say."
        )
        self._back = make_button("Show the plan's", self.show, "Draws the switches for the planned address again.")
        self._why = make_label("", 11, wrap=True)
        self._why.hide()
        panel.body.addWidget(self._picture)
        panel.body.addWidget(self._said)
        panel.body.addLayout(flow_of_widgets(self._take, self._back, None))
        panel.new_form(Subject(lambda: self, lambda *_, **__: None)).add(
            Typed(
                "Answers at",
                "Where the lamp really answers, 1 to 512. Says which slip makes that of the plan.",
                width=64,
                placeholder="?",
                shown=lambda me: me.answers,
                take=self._explain_typed,
                acts=True,
            )
        )
        self.answers = ""
        panel.body.addWidget(self._why)
        self._picture.read.connect(self._read_picture)
        panel.refreshers.append(self.show)

    def _address_shown(self) -> int:
        return set_on(self._session.index, self._one[0]).address

    def _setting_shown(self) -> AddressSetting:
        return self._planned_setting() or AddressSetting()

    def show(self) -> None:
        if self._shown != self._one[0]:  # another lamp: what was asked about the one before says nothing of it
            self._shown, self.answers = self._one[0], ""
            self._why.hide()
        address = self._address_shown()
        self._how.setText(self._words())
        self._picture.setVisible(bool(address))
        if address:
            self._picture.show_address(self._setting_shown(), address)
            self._read_picture(address)
        else:
            self._said.setText("")
            self._take.hide()
            self._back.hide()

    def _read_picture(self, now: int) -> None:
        """What the picture says, beside what the plan says."""
        planned, setting = self._address_shown(), self._setting_shown()
        same = now == planned
        self._take.setVisible(not same)
        self._back.setVisible(not same)
        low, high = reach_of_switches(setting)
        if not same:
            possible = 1 <= now <= 512
            self._said.setText(
                f"This picture says {now}, the plan says {planned}. {why_there(setting, planned, now)}"
                if possible
                else f"This picture says {now}, which no lamp can have."
            )
            self._take.setText(f"Plan {now}")
            self._take.setEnabled(possible)
        elif not low <= planned <= high:
            self._said.setText(f"Reaches {low} to {high} only.")
        elif self._slips:
            near = ", ".join(str(a) for _, a in one_slip_away(setting, planned))
            self._said.setText(f"One switch wrong, and it answers at {near}.")
        else:
            self._said.setText("")

    def _explain_typed(self, typed: str) -> None:
        self._why.hide()
        if typed.strip():
            self._why.setText(why_there(self._setting_shown(), self._address_shown(), read_whole_number(typed, 1, 512)))
            self._why.show()
        self.answers = typed

    def _plan_address(self) -> None:
        on = set_on(self._session.index, self._one[0])
        if on.place:
            device, port, n = on.place
            segment = self._session.rig.devices[device].ports[port].run[n]
            if segment.kind != "bridge":
                raise Refused("Its address follows from its place behind the converter: move it there.")
            words = f"plan DMX {self._picture.address_it_says} behind the bridge"
            dmx = {**segment.dmx, self._one[0]: self._picture.address_it_says}
            self._session.make_edit(change_segment, device, port, n, words, dmx=dmx)
            return
        spans = self._session.index.spans_of(self._one[0])
        universe = spans[0].universe if spans else next(iter(self._session.rig.universes), "")
        if not universe:
            raise Refused("There is no universe yet to plan it in.")
        self._session.make_edit(self._planned_edit, universe)

    def _planned_edit(self, rig: Rig, universe: str) -> Edit:
        where = say_place(rig.universes[universe].number, self._picture.address_it_says)
        return table.change_first(self._session.index, [self._one[0]], where)
