"""Lamps that answer on the ports of a device, beside the plan: found, told apart, set, read back.

The rows say what differs; below them stand the acts on the whole port, each with how much it will change. Which lamp is
which is a guess at first, and where several are alike the guess is no better than chance: then lamps are let blink one
after the other, and the number that is typed for each is what binds it.
"""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QGridLayout, QScrollArea, QWidget

from welvo.app.devices.lamp_list import LampList
from welvo.app.devices.notices import make_notice
from welvo.app.jobs.network import Network
from welvo.app.session import Selection, Session
from welvo.app.widgets import dialogs
from welvo.app.widgets.fields import Choice, CommandLine
from welvo.app.widgets.flow import flow_of_widgets, keep_least, keep_width
from welvo.app.widgets.painting import clear_layout, column_of_widgets, make_button, make_label
from welvo.app.widgets.theme import THEME
from welvo.matching.lamps import (
    LINES,
    LampPair,
    address_by_rdm,
    bind_all,
    bind_responder,
    meeting_responders,
    port_lamps,
    ports_with_lamps,
    take_addresses,
    wishes_for_lamps,
)
from welvo.observed.values import PortAt
from welvo.protocols.rdm import say_uid
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.refs import PortRef


class LampPage(QWidget):
    """The right side of the station while lamps are looked at."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.work = network.lamps
        self.device_id = ""
        self.port = ""
        self.pairs: list[LampPair] = []
        self._apart: list[int] = []
        """Lamps that are still to be told apart; the first of them blinks."""
        self._strip_state: object = None
        self._acts_state: object = None
        self.ports = Choice("Which port's lamps are shown here.", self._choose_port)
        self.ports.setAccessibleName("Port")
        keep_least(self.ports, 150)
        self.search = make_button(
            "Search", self._search_port, "Lets the device look for lamps on this port. It changes nothing."
        )
        self.everywhere = make_button(
            "Search all", self._search_all, "Looks for lamps on every port of the rig that has some planned."
        )
        self._counts = make_label("", 13, wrap=True)
        bar = flow_of_widgets(self.ports, self.search, self.everywhere, None, spacing=6)
        bar.setContentsMargins(16, 6, 16, 2)
        self._strip = column_of_widgets(spacing=4)
        self._strip.setContentsMargins(16, 2, 16, 0)
        self.list = LampList(session, self.work)
        self.list.picked.connect(self._pick_lamp)
        self.list.blink.connect(self.blink_lamp)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setWidget(self.list)
        self.list.reveal = lambda top, height: self._scroll.ensureVisible(0, top + height // 2, 0, height)
        self._acts = QGridLayout()
        self._acts.setSpacing(6)
        self._acts.setContentsMargins(16, 6, 16, 8)
        counts = flow_of_widgets(self._counts, None)
        counts.setContentsMargins(16, 2, 16, 4)
        inside = column_of_widgets(spacing=0)
        inside.addLayout(bar)
        inside.addLayout(counts)
        inside.addLayout(self._strip)
        inside.addWidget(self._scroll, 1)
        inside.addLayout(self._acts)
        self.setLayout(inside)
        self.work.changed.connect(self.refresh)

    # ---- what is shown

    def labels_of_ports(self, device_id: str) -> list[str]:
        """The ports of a device whose lamps can be asked."""
        s = self._session
        return [ref.port for ref in ports_with_lamps(s.index, device_id)] if device_id in s.rig.devices else []

    def show_device(self, device_id: str, port: str = "") -> None:
        labels = self.labels_of_ports(device_id)
        wanted = port if port in labels else self.port if device_id == self.device_id and self.port in labels else ""
        wanted = wanted or (labels[0] if labels else "")
        if (device_id, wanted) != (self.device_id, self.port):
            self._end_apart()
        self.device_id, self.port = device_id, wanted
        self.refresh()

    @property
    def port_shown(self) -> PortRef:
        return PortRef(self.device_id, self.port)

    @property
    def place_of_port(self) -> PortAt | None:
        s = self._session
        return (
            address_by_rdm(s.rig, s.observed, *self.port_shown)
            if self.device_id in s.rig.devices and self.port
            else None
        )

    def refresh(self) -> None:
        if not self.isVisible():
            return
        s = self._session
        labels = self.labels_of_ports(self.device_id)
        if self.port not in labels:
            self.port = labels[0] if labels else ""
        self.ports.set_options([(p, self._port_words(p)) for p in labels], self.port)
        at = self.place_of_port
        self.pairs = s.pairs_on_port(self.port_shown) if self.port else []
        if not self.pairs and self.port:
            self.pairs = (
                [LampPair(None, k) for k in port_lamps(s.index, *self.port_shown)] if at in s.observed.lamps else []
            )
        self.list.show_pairs(self.pairs)
        lamp = s.selection.lamp
        self.list.choose_pair(lamp or (self.list.chosen if isinstance(self.list.chosen, str) else 0))
        busy = self.work.words_if_busy(at) if at else ""
        self.search.setEnabled(bool(at) and not busy)
        self._counts.setText(self._count_words())
        self._show_strip(busy)
        self._show_acts(bool(busy))

    def _port_words(self, port: str) -> str:
        planned = len(port_lamps(self._session.index, self.device_id, port))
        return f"Port {port} · {say_count(planned, 'lamp')}"

    def _count_words(self) -> str:
        at = self.place_of_port
        if at is None:
            return "This port has no address or no universe yet, so its lamps cannot be asked."
        if at in self.work.failed:
            return self.work.failed[at]
        if at not in self._session.observed.lamps:
            return "Not searched yet. Searching changes nothing on the lamps."
        answered = sum(p.lamp is not None for p in self.pairs)
        if not answered:
            return "Nobody answered. These lamps do not speak RDM, or have no power."
        missing, strange = sum(p.lamp is None for p in self.pairs), sum(not p.fixture for p in self.pairs)
        off = sum(p.differs_from_plan and not p.doubt for p in self.pairs)
        parts = [f"{answered} answered"]
        parts += [f"{missing} did not"] if missing else []
        parts += [f"{strange} not in the plan"] if strange else []
        parts += [f"{off} {'differs' if off == 1 else 'differ'}"] if off else []
        for here in meeting_responders(self.pairs)[:2]:
            assert here[0].lamp
            parts.append(f"{len(here)} at address {here[0].lamp.address:03d}")
        if len(parts) == 1:
            parts.append("all as planned")
        return " · ".join(parts)

    def _show_strip(self, busy: str) -> None:
        doubts = [p for p in self.pairs if p.doubt]
        state = (busy, tuple(self._apart), len(doubts), self.port, self.device_id, THEME.name, THEME.step)
        if state == self._strip_state:
            return
        self._strip_state = state
        clear_layout(self._strip)
        if busy:
            self._show_notice(
                "note", busy, make_button("Stop", self._stop_work, "Ends it after the lamp that is on its way.")
            )
        elif self._apart:
            self._ask_which()
        elif doubts:
            self._show_notice(
                "warning",
                f"{say_count(len(doubts), 'lamp')} say the same of themselves, so which is which is only guessed.",
                make_button(
                    "Tell apart", self.tell_apart, "Lets one after the other blink; you type which number it is."
                ),
            )

    def _show_notice(self, severity: str, words: str, *acts: QWidget) -> None:
        self._strip.addWidget(make_notice(severity, words, *acts))

    def _show_acts(self, busy: bool) -> None:
        found = [p for p in self.pairs if p.lamp and p.fixture and p.lines]
        push = sum(len(w.wished_settings) for w in wishes_for_lamps(self._session.index, found).values())
        labels = len(wishes_for_lamps(self._session.index, found, ("label",)))
        guesses = sum(not p.sure for p in found)
        take = sum(p.lines[0].mark == "differs" for p in found)
        state = (busy, push, labels, guesses, take, THEME.name, THEME.step)
        if state == self._acts_state:
            return
        self._acts_state = state
        clear_layout(self._acts)
        acts: list[QWidget] = []
        if push:
            words = f"Push {say_count(push, 'change')}"
            help_text = "Sets planned addresses and modes on the lamps, one after the other, and reads each back."
            acts.append(make_button(words, self._push_planned, help_text, primary=guesses < len(found)))
        if take:
            words = f"Plan {say_count(take, 'address', 'addresses')}"
            help_text = "Moves the fixtures in the patch to the addresses that their lamps have."
            acts.append(make_button(words, self._take_into_plan, help_text))
        if guesses:
            words = f"Confirm {say_count(guesses, 'guess', 'guesses')}"
            help_text = "Keeps the UIDs in the rig as they are guessed here. Nothing has to be guessed again."
            acts.append(make_button(words, self._confirm_pairs, help_text))
        if labels:
            help_text = "Gives each lamp its number and name as its label, so that it can be known by them."
            acts.append(make_button(f"Label {say_count(labels, 'lamp')}", self._label_lamp, help_text))
        for n, act in enumerate(acts):
            act.setEnabled(not busy)
            self._acts.addWidget(act, n // 2, n % 2)

    # ---- acts

    def _choose_port(self, port: str) -> None:
        self._end_apart()
        self.port = port
        self._session.change_selection(Selection("port", (self.device_id, port)))
        self.refresh()

    def _search_port(self) -> None:
        self._end_apart()
        self.work.search_ports([self.port_shown])

    def _search_all(self) -> None:
        self._end_apart()
        self.work.search_ports(ports_with_lamps(self._session.index))

    def _stop_work(self) -> None:
        if self.place_of_port:
            self.work.stop_work(self.place_of_port)

    def _pick_lamp(self, key: int | str) -> None:
        self.list.choose_pair(key)
        lamp = key if isinstance(key, int) else 0
        self._session.change_selection(Selection("port", (self.device_id, self.port), lamp=lamp))
        known = next((p.lamp for p in self.pairs if p.lamp and p.lamp.uid == lamp), None)
        if (
            known
            and not known.deep
            and not known.failed
            and self.place_of_port
            and not self.work.words_if_busy(self.place_of_port)
        ):
            self._session.attempt_act(
                lambda: self.work.read_lamp(self._place_or_refusal(), lamp)
            )  # what it tells is wanted now

    def blink_lamp(self, uid: int) -> None:
        """Let a lamp blink, or stop it."""
        if self.place_of_port is None:
            return
        on = self.work.blinking != (self.place_of_port, uid)
        self._session.attempt_act(lambda: self.work.identify_lamp(self._place_or_refusal(), uid if on else 0))

    def _place_or_refusal(self) -> PortAt:
        return self.work.place_of_port(self.port_shown)

    def _push_planned(self) -> None:
        s = self._session
        wished = wishes_for_lamps(s.index, self.pairs)
        doubtful = sum(p.doubt and p.lamp is not None and p.lamp.uid in wished for p in self.pairs)
        if doubtful:
            words = (
                f"{say_count(doubtful, 'lamp')} say the same of themselves. Pushed by the guesses, each gets an "
                f"address "
                "of its own, but maybe its neighbour's."
            )
            acts = [("apart", "Tell them apart first"), ("push", "Push by the guesses")]
            answer = dialogs.ask_act(self, "Which lamp is which?", words, acts, "Leave them as they are")
            if answer == "apart":
                self.tell_apart()
            if answer != "push":
                return
            s.make_edit(bind_all, [p for p in self.pairs if p.doubt])  # else the guesses would be other ones afterwards
            self.refresh()
        self._end_apart()
        self.work.push_wishes(self._place_or_refusal(), wishes_for_lamps(s.index, self.pairs))

    def _label_lamp(self) -> None:
        self.work.push_wishes(self._place_or_refusal(), wishes_for_lamps(self._session.index, self.pairs, LINES[2:]))

    def _confirm_pairs(self) -> None:
        self._session.make_edit(bind_all, self.pairs)

    def _take_into_plan(self) -> None:
        s = self._session
        s.take_over_edit(take_addresses(s.index, self.pairs))

    # ---- for the panel

    def chosen_pair(self) -> LampPair | None:
        """The lamp that is selected, with what is planned for it."""
        s = self._session
        uid = s.selection.lamp
        if not uid or self.device_id not in s.rig.devices:
            return None
        return next((p for p in s.pairs_on_port(self.port_shown) if p.lamp and p.lamp.uid == uid), None)

    def lamp_blinks(self, uid: int) -> bool:
        return self.work.blinking == (self.place_of_port, uid)

    def read_again(self, uid: int) -> None:
        self.work.read_lamp(self._place_or_refusal(), uid)

    def push_one(self, pair: LampPair, key: str) -> None:
        """Set one thing on one lamp."""
        self.work.push_wishes(self._place_or_refusal(), wishes_for_lamps(self._session.index, [pair], (key,)))

    # ---- telling apart

    def tell_apart(self) -> None:
        """Go through the lamps that nobody has confirmed: each blinks until its number is typed."""
        self._apart = [p.lamp.uid for p in self.pairs if p.lamp and not p.sure and not p.lamp.failed]
        self._show_next()

    def _show_next(self) -> None:
        known = {p.lamp.uid for p in self.pairs if p.lamp and p.sure}
        self._apart = [uid for uid in self._apart if uid not in known]
        at = self.place_of_port
        if not self._apart or at is None:
            self._apart = []
            self.work.identify_lamp(("", 0), 0)
            self.refresh()
            return
        self.work.identify_lamp(at, self._apart[0])
        self._pick_lamp(self._apart[0])
        self.refresh()

    def _ask_which(self) -> None:
        uid = self._apart[0]
        field = CommandLine("The number of the fixture that blinks now. It is bound to this lamp.", self._confirm_lamp)
        field.setAccessibleName("Number of the lamp that blinks")
        field.setPlaceholderText("number")
        keep_width(field, 80)
        skip = make_button("Skip", self._skip_lamp, "Leaves this one unknown and goes on to the next.")
        end = make_button("End", self._finish_sorting, "Ends it; what was typed so far stays.")
        left = f", {len(self._apart)} to go" if len(self._apart) > 1 else ""
        self._show_notice("note", f"{say_uid(uid)} blinks{left}. Which number is it?", field, skip, end)
        field.setFocus()

    def _confirm_lamp(self, typed: str) -> None:
        s = self._session
        planned = port_lamps(s.index, *self.port_shown)
        number = typed.strip()
        key = next((k for k in planned if str(s.rig.fixtures[k].number) == number), "")
        if not key:
            have = ", ".join(str(s.rig.fixtures[k].number) for k in planned if not s.rig.fixtures[k].uid)
            raise Refused(f"There is no lamp {number} on this port. Still without a lamp: {have or 'none'}.")
        if s.rig.fixtures[key].uid:
            raise Refused(f"{number} is {s.rig.fixtures[key].uid} already.")
        s.make_edit(bind_responder, key, self._apart[0])
        self.pairs = s.pairs_on_port(self.port_shown)
        self._show_next()

    def _skip_lamp(self) -> None:
        self._apart = self._apart[1:]
        self._show_next()

    def _finish_sorting(self) -> None:
        self._end_apart()
        self.refresh()

    def _end_apart(self) -> None:
        if self._apart:
            self._apart = []
            self._session.attempt_act(partial(self.work.identify_lamp, ("", 0), 0))

    def hideEvent(self, e: object) -> None:
        super().hideEvent(e)  # type: ignore[arg-type]
        self._end_apart()
        if self.work.blinking:
            self._session.attempt_act(partial(self.work.identify_lamp, ("", 0), 0))
