"""A sender, or a use, in the panel."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QVBoxLayout

from welvo.app.widgets.painting import button, clear, label, row
from welvo.app.widgets.panels import Title
from welvo.patch.table import whole
from welvo.rig.base import Refused
from welvo.rig.edits import change_use, remove_sender, remove_use, set_sender, set_use
from welvo.rig.lookup import universe_by_number
from welvo.rig.notation import plural, read_numbers
from welvo.rig.wiring import Sender, Use

if TYPE_CHECKING:
    from welvo.app.patch.panel import PatchPanel


def show_sender(panel: PatchPanel, sid: str) -> None:
    """Everything that is known of a sender."""
    s = panel.session

    def sender() -> Sender:
        return s.rig.senders[sid]

    def change(what: str, **fields: object) -> object:
        return s.edit(set_sender, sid, f"{what} of {sender().name}", **fields)

    title = QVBoxLayout()
    panel.body.addLayout(title)

    def head() -> None:
        clear(title)
        feeds = sum(f.sender == sid for f in s.rig.feeds.values())
        title.addWidget(Title(sender().name))
        kind = {"bench": "Welvo's own Bench", "desk": "a desk", "program": "a program"}[sender().kind]
        title.addWidget(label(f"{kind} · {plural(feeds, 'feed')}", 11, quiet=True))

    panel.refreshers.append(head)
    panel.field(
        "Name",
        "What this sender is called; feeds name it.",
        lambda: sender().name,
        lambda t: change("name", name=_named(t)),
    )
    if sender().kind != "bench":
        panel.choice("Kind", "Whether it is a desk or a program on a computer. Only for whoever reads it.",
                     lambda: ([("desk", "a desk"), ("program", "a program")], sender().kind), lambda v: change("kind", kind=v))  # fmt: skip
    panel.field(
        "Computer",
        "The computer it runs on, by name or address. Only for whoever reads it.",
        lambda: sender().computer,
        lambda t: change("computer", computer=t.strip()),
    )
    panel.field("Slots", "How many slots of each universe it uses: 512, or 510 for whole RGB pixels. Another number than the receivers' shifts everything behind the first universe.",
                lambda: str(sender().universe_size), lambda t: change("slots", universe_size=whole(t, 1, 512)), narrow=84)  # fmt: skip
    panel.choice("Counts from", "Whether its pages count universes from 0 or from 1. An off-by-one between two pages hides here.",
                 lambda: ([("0", "0"), ("1", "1")], str(sender().counts_from)), lambda v: change("counting", counts_from=int(v)))  # fmt: skip
    panel.field(
        "Lowest",
        "The lowest universe its pages can number. A feed below it is a finding.",
        lambda: str(sender().lowest),
        lambda t: change("lowest", lowest=whole(t, 0, 63999)),
        narrow=84,
    )
    panel.field(
        "Highest",
        "The highest universe its pages can number. A feed above it is a finding.",
        lambda: str(sender().highest),
        lambda t: change("highest", highest=whole(t, 0, 63999)),
        narrow=84,
    )
    panel.field(
        "Priority",
        "The sACN priority its new feeds get, 0 to 200. Two senders of one priority flicker.",
        lambda: str(sender().priority),
        lambda t: change("priority", priority=whole(t, 0, 200)),
        narrow=84,
    )
    panel.field(
        "Frames a s",
        "The rate its new feeds get. 44 is all a DMX line of 512 slots can take.",
        lambda: f"{sender().rate:g}",
        lambda t: change("rate", rate=float(whole(t, 1, 1000))),
        narrow=84,
    )
    panel.field("Brightness %", "Its master. Pixel data that is going to become DMX must leave at 100 %, or every value is off.",
                lambda: f"{100 * sender().brightness:g}", lambda t: change("brightness", brightness=whole(t, 0, 100) / 100), narrow=84)  # fmt: skip
    panel.field("Player %", "Brightness of what plays in it, where that is a fader of its own. It multiplies with all the others; behind a bridge all must be 100.",
                lambda: f"{100 * sender().player:g}", lambda t: change("player", player=whole(t, 0, 100) / 100), narrow=84)  # fmt: skip
    if sender().kind != "bench":
        panel.body.addLayout(
            row(
                None,
                button(
                    "Remove",
                    lambda: s.edit(remove_sender, sid),
                    "Takes the sender and its feeds out; ports that took them take nothing then.",
                ),
            )
        )


def show_use(panel: PatchPanel, uid: str) -> None:
    """One use: what it leaves off."""
    s = panel.session

    def use() -> Use:
        return s.rig.uses[uid]

    title = QVBoxLayout()
    panel.body.addLayout(title)

    def head() -> None:
        clear(title)
        title.addWidget(Title(use().name))
        title.addWidget(label("in force" if s.rig.use == uid else "not in force", 11, quiet=True))

    panel.refreshers.append(head)
    panel.field(
        "Name",
        "What this use is called, such as the show's name.",
        lambda: use().name,
        lambda t: s.edit(change_use, uid, f"name use {t}", name=_named(t)),
    )

    def universes(typed: str) -> object:
        wanted = read_numbers(typed)
        missing = next((n for n in wanted if not universe_by_number(s.rig, n)), None)
        if missing is not None:
            raise Refused(f"There is no universe {missing} in this rig.")
        return s.edit(
            change_use,
            uid,
            f"universes off in {use().name}",
            universes_off=tuple(universe_by_number(s.rig, n) for n in wanted),
        )

    panel.field("Univ. off", "Universes that this use does not send, such as 7-9, 12. They stay in the rig and are listed as not in use.",
                lambda: ", ".join(str(s.rig.universes[u].number) for u in use().universes_off if u in s.rig.universes), universes)  # fmt: skip

    def devices(typed: str) -> object:
        names = [n.strip() for n in typed.split(",") if n.strip()]
        ids = []
        for n in names:
            did = next((k for k, d in s.rig.devices.items() if d.name.lower() == n.lower()), "")
            if not did:
                raise Refused(f"There is no box “{n}” in this rig.")
            ids.append(did)
        return s.edit(change_use, uid, f"boxes off in {use().name}", devices_off=tuple(ids))

    panel.field("Boxes off", "Names of boxes that this use leaves off, with commas between. They are not missed when they are silent.",
                lambda: ", ".join(s.rig.devices[d].name for d in use().devices_off if d in s.rig.devices), devices)  # fmt: skip
    now = button(
        "Use it",
        lambda: s.edit(set_use, uid),
        "Switches to this use. Universes that are off are not sent any more.",
        primary=True,
    )
    off = button("Use everything", lambda: s.edit(set_use, ""), "Ends this use: the whole rig is used again.")
    gone = button("Remove", lambda: s.edit(remove_use, uid), "Forgets this use; nothing else is touched.")

    def which() -> None:
        now.setVisible(s.rig.use != uid)
        off.setVisible(s.rig.use == uid)

    panel.refreshers.append(which)
    panel.body.addLayout(row(now, off, None, gone))


def _named(t: str) -> str:
    if not t.strip():
        raise Refused("It needs a name.")
    return t.strip()
