"""How a lamp is told its address, in the panel: the way, the picture of its switches, and where it really answers."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec.structs import replace
from PySide6.QtWidgets import QLabel

from welvo.app.patch.switch_picture import SwitchPicture
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import button, label, row
from welvo.app.widgets.panels import field_row
from welvo.patch import table
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.notation import say_place
from welvo.rig.profile import AddressSetting
from welvo.rig.switches import one_slip_away, reach, say_setting, why_there

if TYPE_CHECKING:
    from welvo.app.patch.panel import PatchPanel


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def show_switches(panel: PatchPanel, key: str) -> None:
    """How the address is set on the lamp, drawn; what another picture would say; who answers elsewhere and why."""
    s = panel.session
    pid = s.rig.fixtures[key].profile
    panel.rule()

    def setting() -> AddressSetting | None:
        profile = s.rig.profiles.get(pid)
        return profile.address if profile else None

    def address() -> int:
        spans = s.index.spans(key)
        return spans[0].first if spans else 1

    def set_way(**fields: object) -> object:
        made = replace(setting() or AddressSetting(), **fields)
        name = s.rig.profiles[pid].name
        return s.edit(edits.set_profile, pid, f"how {name} is addressed", address=made)

    ways = [("menu", "in its menu"), ("switches", "address switches"), ("dials", "three dials"), ("rdm", "by RDM")]
    panel.choice(
        "Set", "How the address is set on lamps of this profile. It changes for all of them.",
        lambda: (ways, (setting() or AddressSetting()).by), lambda v: set_way(by=v),
    )  # fmt: skip
    how = label("", 13, True, wrap=True)
    panel.body.addWidget(how)
    now = setting()
    if now and now.by in ("switches", "dials"):
        _picture(panel, key, how, now.by == "switches")
    else:
        panel.refreshers.append(lambda: how.setText(_capital(say_setting(setting(), address()))))
    if now and now.by == "switches":
        panel.choice(
            "Switches", "How many address switches there are, and what the leftmost weighs.",
            lambda: ([("9 lowest", "9, first is 1"), ("9 highest", "9, first is 256"), ("10 lowest", "10, first is 1"), ("10 highest", "10, first is 512")],
                     f"{(setting() or now).switches} {(setting() or now).first}"),
            lambda v: set_way(switches=int(v.split()[0]), first=v.split()[1]),
        )  # fmt: skip
        panel.choice(
            "ON is", "Which way of the switch is printed ON.",
            lambda: ([("up", "up"), ("down", "down")], (setting() or now).on), lambda v: set_way(on=v),
        )  # fmt: skip
    if now and now.by != "rdm":
        panel.choice(
            "Counts", "Whether the lamp shows the address, or the address less one: all switches off are 1 then.",
            lambda: ([("1", "from 1"), ("0", "from 0: address − 1")], str((setting() or now).base)), lambda v: set_way(base=int(v)),
        )  # fmt: skip
    if now is None or now.by == "menu":
        panel.field(
            "Menu up to", "The last start the lamp's menu offers. An address above it is a finding.",
            lambda: str(reach(setting())[1]), lambda t: set_way(highest=table.whole(t, 1, 512)), narrow=64,
        )  # fmt: skip


def _picture(panel: PatchPanel, key: str, how: QLabel, slips: bool) -> None:
    s = panel.session
    picture = SwitchPicture()
    panel.body.addWidget(picture)
    said = label("", 11, wrap=True)
    take = button(
        "Plan it",
        lambda: _take_picture(panel, key, picture),
        "Moves the fixture in the plan to what the switches say.",
    )
    back = button("Show the plan's", lambda: show(), "Draws the switches for the planned address again.")
    panel.body.addWidget(said)
    acts = row(take, back, None)
    panel.body.addLayout(acts)
    answers = Field(
        "Where the lamp really answers, 1 to 512. Says which slip makes that of the plan.", lambda t: explain(t)
    )
    answers.setAccessibleName("Answers at")
    answers.setFixedWidth(64)
    answers.setPlaceholderText("?")
    why = label("", 11, wrap=True)
    why.hide()
    panel.body.addLayout(field_row("Answers at", answers, None))
    panel.body.addWidget(why)

    def setting() -> AddressSetting:
        return s.rig.profiles[s.rig.fixtures[key].profile].address or AddressSetting()

    def address() -> int:
        spans = s.index.spans(key)
        return spans[0].first if spans else 1

    def show() -> None:
        picture.show_address(setting(), address())
        how.setText(_capital(say_setting(setting(), address())))
        read(address())

    def read(now: int) -> None:
        same = now == address()
        take.setVisible(not same)
        back.setVisible(not same)
        if not same:
            possible = 1 <= now <= 512
            said.setText(
                f"This picture says {now}, the plan says {address()}. {why_there(setting(), address(), now)}"
                if possible
                else f"This picture says {now}, which no lamp can have."
            )
            take.setText(f"Plan {now}")
            take.setEnabled(possible)
            return
        low, high = reach(setting())
        if slips and low <= address() <= high:
            near = ", ".join(str(a) for _, a in one_slip_away(setting(), address()))
            said.setText(f"One switch wrong, and it answers at {near}.")
        else:
            said.setText("" if low <= address() <= high else f"Reaches {low} to {high} only.")

    def explain(typed: str) -> bool:
        why.setVisible(bool(typed.strip()))
        if not typed.strip():
            return True
        try:
            why.setText(why_there(setting(), address(), table.whole(typed, 1, 512)))
        except Refused as e:
            why.setText(str(e))
            raise
        return True

    picture.read.connect(read)
    panel.refreshers.append(show)


def _take_picture(panel: PatchPanel, key: str, picture: SwitchPicture) -> None:
    spans = panel.session.index.spans(key)
    universe = spans[0].universe if spans else next(iter(panel.session.rig.universes), "")
    if universe:
        number = panel.session.rig.universes[universe].number
        panel.session.edit(lambda _: table.change_first(panel.session.index, [key], say_place(number, picture.said)))
