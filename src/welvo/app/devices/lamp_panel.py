"""One lamp that answers on a port, in the panel: who it is, plan and reported side by side, what it tells of itself."""

from __future__ import annotations

import time
from collections.abc import Callable

from msgspec import Struct
from PySide6.QtWidgets import QWidget

from welvo.app.devices.notices import BothLine
from welvo.app.jobs.device_work import OUTCOMES
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import Subject, Typed
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.panels import FormPanel, Title, Ways, finding_card
from welvo.matching.lamps import (
    LampPair,
    LampSettingLine,
    bind_responder,
    draft_profile,
    port_lamps,
    take_addresses,
    unbind_responder,
    wishes_for_lamps,
)
from welvo.observed.values import Lamp
from welvo.protocols.rdm import say_uid
from welvo.rig.base import Refused
from welvo.rig.edits import add_profile
from welvo.rig.notation import say_count
from welvo.rig.patched import Fixture
from welvo.rig.refs import PortRef

WORDS = {"address": "Address", "personality": "Mode", "label": "Label"}


class LampHands(Struct, frozen=True):
    """What the panel can do with a lamp, beside editing the rig."""

    blink: Callable[[int], object]
    blinks: Callable[[int], bool]
    read: Callable[[int], object]
    push: Callable[[LampPair, str], object]
    drafted: Callable[[str], object]


def show_lamp(panel: FormPanel, ref: PortRef, pair: LampPair, hands: LampHands) -> None:
    """Who it is, where it stands, what it can be told, what it says."""
    s = panel.session
    lamp = pair.lamp
    assert lamp is not None
    f = s.rig.fixtures.get(pair.fixture)
    said = say_uid(lamp.uid)
    panel.body.addWidget(Title(str(f.number), f.name) if f else Title(said))
    model = " · ".join(x for x in (f"{lamp.maker} {lamp.model_name}".strip(), said) if x)
    how = f"It is {f.number} {pair.why}." if f else "Nothing planned on this port is like it."
    panel.words(f"{model}. {how}" if f else f"{lamp.model_name or 'A lamp'} that is not in the plan. {how}")
    if lamp.failed:
        panel.words(f"Found, but: {lamp.failed}", quiet=False)
    _field_of_fixture(panel, ref, pair, lamp)
    on = hands.blinks(lamp.uid)
    blink = make_button(
        "Stop blinking" if on else "Let it blink",
        lambda: hands.blink(lamp.uid),
        "Lets this one lamp show itself, until you stop it or go to another.   Space",
    )
    ask = make_button("Read again", lambda: hands.read(lamp.uid), "Asks this lamp for everything it knows.   F5")
    panel.body.addLayout(flow_of_widgets(blink, ask))
    for line in pair.lines:
        panel.body.addWidget(BothLine(WORDS[line.key], line.plan, line.reported, line.mark, "lamp"))
        _acts_of_line(panel, pair, line, hands)
    for finding in [x for x in s.report.findings if x.goes_to.kind == "lamps" and x.goes_to.place == lamp.uid][:3]:
        panel.body.addWidget(finding_card(s, panel.network, finding))
    panel.body.addWidget(Ways("What it says of itself", _facts_of_lamp(lamp)))
    if lamp.names:
        rows = tuple((f"{n}  {words}", say_count(slots, "slot")) for n, slots, words in lamp.names)
        panel.body.addWidget(Ways("Its personalities", rows))
    if lamp.slots:
        primary = [(offset, words) for offset, kind, _, words in lamp.slots if kind == 0]
        shown = tuple((f"slot {offset + 1}", words or "–") for offset, words in primary[:24])
        panel.body.addWidget(Ways("What its slots do", shown))
    if lamp.names and not lamp.failed:
        help_text = "Makes a profile out of what the lamp says, to be looked through: what it leaves open stays open."
        panel.body.addLayout(
            flow_of_widgets(
                make_button("Draft a profile of it", lambda: _draft_from_lamp(panel, lamp, hands), help_text), None
            )
        )


def _field_of_fixture(panel: FormPanel, ref: PortRef, pair: LampPair, lamp: Lamp) -> None:
    """Which fixture it is, to be typed; the number stands there once somebody has confirmed it."""
    s = panel.session
    sure = s.rig.fixtures.get(pair.fixture) if pair.sure else None

    def take_typed(typed: str) -> None:
        number = typed.strip()
        if not number:
            if sure:
                s.make_edit(unbind_responder, pair.fixture)
            return
        key = next((k for k in port_lamps(s.index, *ref) if str(s.rig.fixtures[k].number) == number), "")
        if not key:
            have = ", ".join(str(s.rig.fixtures[k].number) for k in port_lamps(s.index, *ref))
            raise Refused(f"There is no lamp {number} on this port. There are: {have or 'none'}.")
        s.make_edit(bind_responder, key, lamp.uid)

    guess = s.rig.fixtures.get(pair.fixture)
    panel.new_form(Subject(lambda: s.rig, lambda *_: None), Fixture).add(
        Typed(
            "It is number",
            "Which fixture of the rig this lamp is. Its UID is kept there, and nothing has to be guessed again.",
            shown=lambda _: str(sure.number) if sure else "",
            placeholder=f"{guess.number}?" if guess and not sure else "",
            width=72,
            take=take_typed,
        )
    )
    if guess and not sure:
        words = f"Yes, it is {guess.number}"
        act = make_button(
            words,
            lambda: s.make_edit(bind_responder, pair.fixture, lamp.uid),
            "Keeps the UID of this lamp in the fixture.",
        )
        panel.body.addLayout(flow_of_widgets(act, None))


def _acts_of_line(panel: FormPanel, pair: LampPair, line: LampSettingLine, hands: LampHands) -> None:
    """The buttons of a line that differs, each naming its value; and what became of what was sent last."""
    s, lamp = panel.session, pair.lamp
    assert lamp is not None
    acts: list[QWidget] = []
    if line.mark != "matches" and wishes_for_lamps(s.index, [pair], (line.key,)):
        short = line.plan if len(line.plan) <= 16 else line.plan[:15] + "…"
        help_text = f"Sets the lamp's {WORDS[line.key].lower()} to {line.plan}, and reads it back."
        acts.append(
            make_button(f"Push {WORDS[line.key].lower()} {short}", lambda: hands.push(pair, line.key), help_text)
        )
    elif line.mark == "differs" and line.key == "personality":
        panel.words("The lamp has no personality like the planned mode.", quiet=False)
    if line.mark == "differs" and line.key == "address":
        help_text = "Moves the fixture in the patch to where the lamp stands."
        acts.append(
            make_button(f"Plan {line.reported}", lambda: s.take_over_edit(take_addresses(s.index, [pair])), help_text)
        )  # fmt: skip
    if acts:
        panel.body.addLayout(flow_of_widgets(*acts, None, spacing=4))
    result = panel.network.lamps.results.get(lamp.uid, {}).get(line.key)
    if result and (result.outcome != "taken" or line.mark == "matches"):
        why = f": {result.why}" if result.why else ""
        panel.body.addWidget(make_label(f"Pushed last: {OUTCOMES[result.outcome]}{why}.", 11, wrap=True))


def _draft_from_lamp(panel: FormPanel, lamp: Lamp, hands: LampHands) -> None:
    change = panel.session.make_edit(lambda rig: add_profile(rig, draft_profile(lamp)))
    if change.made:
        hands.drafted(change.made[0])


def _facts_of_lamp(lamp: Lamp) -> tuple[tuple[str, str], ...]:
    """What a lamp says, in lines."""
    words = next((w for n, _, w in lamp.names if n == lamp.personality), "")
    rows = [
        ("UID", say_uid(lamp.uid)),
        ("Model", f"{lamp.model_name or '–'}"),
        ("Maker", lamp.maker or "–"),
        ("Address", f"{lamp.address:03d}" if lamp.address else "takes none"),
        ("Personality", f"{lamp.personality} of {lamp.personalities}{f', {words}' if words else ''}"),
        ("Slots", str(lamp.footprint)),
        ("Label", lamp.label or "–"),
    ]
    if lamp.deep:
        rows.append(("Software", lamp.software or "–"))
        rows += [(k[:1].upper() + k[1:], f"{v:,}".replace(",", "\u202f")) for k, v in lamp.counters.items()]
        rows += list(lamp.sensors)
        rows += [
            (f"Sub-device {n}", f"{address:03d}, {say_count(wide, 'slot')}") for n, address, wide in lamp.parts[:32]
        ]
    rows.append(("Read at", time.strftime("%H:%M:%S", time.localtime(lamp.at)) if lamp.at else "–"))
    return tuple(rows)
