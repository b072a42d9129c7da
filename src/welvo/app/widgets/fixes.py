"""Doing what a fix says, wherever one is offered."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QApplication, QPushButton, QWidget

from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import dialogs
from welvo.app.widgets.foreseeing import edit_button
from welvo.app.widgets.painting import break_lines, make_button
from welvo.checks.registry import Fix
from welvo.matching.lamps import wishes_for_lamps
from welvo.matching.planned import full_plan
from welvo.protocols import artnet
from welvo.rig.base import Refused
from welvo.rig.protocol import say_wire

IN_PANEL, IN_DRAWER = 226, 500
"""Pixels of a line of a fix's words: where there is less room, they take more lines, and all of them are read."""


def fix_button(
    session: Session, network: Network, fix: Fix, primary: bool = False, room: int = IN_PANEL
) -> QPushButton:
    """The button of a fix; what it changes is its help."""
    words = "; ".join(f"{a}: {b} → {d}" for a, b, d in fix.changes)
    act = partial(run_fix, session, network, fix)
    label = break_lines(fix.label, room)
    if fix.edit:
        return edit_button(session, label, act, words, primary=primary)
    return make_button(label, act, words, primary=primary)


def run_fix(session: Session, network: Network, fix: Fix) -> None:
    """Do what a fix says: an edit of the rig, a push to a device or a lamp, or a search for a device."""
    if fix.edit:
        before = session.rig
        if session.attempt_edit(fix.edit) is None:
            return
        if session.rig is before:
            session.say(f"“{fix.label}” changed nothing: the rig is like that already.", "warning")
        else:
            session.say_done(f"Done: {fix.label}.")
    elif fix.find:
        session.search_wanted.emit(fix.find)
    elif fix.end_test:
        session.attempt_act(lambda: network.devices.begin_test(fix.end_test, ""))
    elif fix.push:
        push_with_warning(session, network, *fix.push)
    elif fix.lamp:
        ref, uid, key = fix.lamp
        here = [p for p in session.pairs_on_port(ref) if p.lamp and p.lamp.uid == uid]
        session.attempt_act(
            lambda: network.lamps.push_wishes(
                network.lamps.place_of_port(ref), wishes_for_lamps(session.index, here, (key,))
            )
        )


def push_with_warning(
    session: Session, network: Network, device: str, keys: tuple[str, ...], parent: QWidget | None = None
) -> bool:
    """Push planned values; ports that it would take along are shown first, and then it is for the operator to say."""
    session.commit_pending()
    try:
        _, along = network.pushing.whole_push(device, keys)
    except Refused as e:
        session.say(str(e), "error")
        return False
    at = parent or QApplication.activeWindow()
    if along and at:
        plan = full_plan(session.index, device)
        lines = []
        for port in along:
            protocol = str(plan.get(f"{port.label}.protocol") or artnet.KEY)
            why = "as planned" if port.planned else "nothing is planned for it"
            lines.append(
                f"port {port.label} from {say_wire(protocol, port.before)} to {say_wire(protocol, port.after)} ({why})"
            )
        words = (
            f"Net and Sub-Net are common to ports of one page of {session.rig.devices[device].name}. With this push go "
            f"{'; '.join(lines)}."
        )
        if not dialogs.ask_act(at, "Ports that go along", words, [("push", "Push all of them")], "Leave all as it is"):
            return False
    return network.pushing.push_planned(device, keys)
