"""A sender, or a show, in the panel of Patch."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout

from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import Subject, Typed, ValueChoice
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.panels import FormPanel, Title
from welvo.rig.base import Refused
from welvo.rig.edits import change_show, remove_sender, remove_show, set_sender, set_show
from welvo.rig.lookup import universe_by_number
from welvo.rig.notation import natural_sort_key, read_numbers, say_count, say_numbers
from welvo.rig.readers import Percent, TextReader
from welvo.rig.wiring import Sender, Show

KINDS = {"bench": "Welvo's own Bench", "desk": "a desk", "program": "a program"}
NAME = Typed("Name", "What this sender is called; feeds name it.", "name", TextReader("It needs a name."))
KIND = ValueChoice(
    "Kind",
    "Whether it is a desk or a program on a computer. Only for whoever reads it.",
    "kind",
    (("desk", "a desk"), ("program", "a program")),
)
ROWS = (
    Typed("Computer", "The computer it runs on, by name or address. Only for whoever reads it.", "computer"),
    Typed(
        "Universe size",
        "How many slots of each universe it uses: 512, or 510 for whole RGB pixels. Another number than the receivers' "
        "shifts everything behind the first universe.",
        "universe_size",
        width=84,
        words="universe size",
    ),
    ValueChoice(
        "Counts from",
        "Whether its pages count universes from 0 or from 1. An off-by-one between two pages hides here.",
        "counts_from",
        (("0", "0"), ("1", "1")),
        words="counting",
        read=int,
    ),
    Typed("Lowest", "The lowest universe its pages can number. A feed below it is a finding.", "lowest", width=84),
    Typed("Highest", "The highest universe its pages can number. A feed above it is a finding.", "highest", width=84),
    Typed(
        "Priority",
        "The sACN priority its new feeds get, 0 to 200. Two senders of one priority flicker.",
        "priority",
        width=84,
    ),
    Typed(
        "Frames a s",
        "The rate its new feeds get. 44 is all a DMX line of 512 slots can take.",
        "rate",
        width=84,
        words="rate",
    ),
    Typed(
        "Brightness",
        "Its master in per cent. Pixel data that is going to become DMX must leave at 100 %, or every value is off.",
        "brightness",
        Percent(),
        width=84,
    ),
    Typed(
        "Player",
        "Brightness of what plays in it in per cent, where that is a fader of its own. It multiplies with all the "
        "others; behind a bridge all must be 100.",
        "player",
        Percent(),
        width=84,
    ),
)


def show_sender(panel: FormPanel, sid: str) -> None:
    """Everything that is known of a sender."""
    s = panel.session

    def head(into: QVBoxLayout) -> None:
        sender = s.rig.senders[sid]
        feeds = sum(f.sender == sid for f in s.rig.feeds.values())
        into.addWidget(Title(sender.name))
        into.addWidget(make_label(f"{KINDS[sender.kind]} · {say_count(feeds, 'feed')}", 11, quiet=True))

    def change(what: str, **fields: object) -> object:
        return s.make_edit(set_sender, sid, f"{what} of {s.rig.senders[sid].name}", **fields)

    panel.shown(head)
    own = s.rig.senders[sid].kind == "bench"
    panel.new_form(Subject(lambda: s.rig.senders.get(sid), change), Sender).add(NAME, *(() if own else (KIND,)), *ROWS)
    if not own:
        gone = make_button(
            "Remove",
            lambda: s.make_edit(remove_sender, sid),
            "Takes the sender and its feeds out; ports that listened to them listen to nothing then.",
        )
        panel.body.addLayout(flow_of_widgets(None, gone))


def show_use(panel: FormPanel, uid: str) -> None:
    """One show: what it leaves off."""
    s = panel.session

    def head(into: QVBoxLayout) -> None:
        into.addWidget(Title(s.rig.uses[uid].name))
        into.addWidget(make_label("in use" if s.rig.use == uid else "not in use", 11, quiet=True))

    def change(what: str, **fields: object) -> object:
        return s.make_edit(change_show, uid, f"{what} of show {s.rig.uses[uid].name}", **fields)

    def universes(typed: str) -> object:
        wanted = read_numbers(typed)
        missing = next((n for n in wanted if not universe_by_number(s.rig, n)), None)
        if missing is not None:
            raise Refused(f"There is no universe {missing} in this rig.")
        return change("universes off", universes_off=tuple(universe_by_number(s.rig, n) for n in wanted))

    def devices(typed: str) -> object:
        ids = []
        for name in (n.strip() for n in typed.split(",") if n.strip()):
            device_id = next((k for k, d in s.rig.devices.items() if d.name.lower() == name.lower()), "")
            if not device_id:
                raise Refused(f"There is no device “{name}” in this rig.")
            ids.append(device_id)
        return change("devices off", devices_off=tuple(ids))

    def universes_off(use: Show) -> str:
        numbers = [s.rig.universes[u].number for u in use.universes_off if u in s.rig.universes]
        return say_numbers(numbers) if numbers else ""

    def devices_off(use: Show) -> str:
        names = (s.rig.devices[d].name for d in use.devices_off if d in s.rig.devices)
        return ", ".join(sorted(names, key=natural_sort_key))

    panel.shown(head)
    panel.new_form(Subject(lambda: s.rig.uses.get(uid), change), Show).add(
        Typed(
            "Name", "What this show is called, such as Rehearsal. Free words.", "name", TextReader("It needs a name.")
        ),
        Typed(
            "Universes off",
            "Universes that this show does not send, such as 7-9, 12. They stay in the rig and are listed as not "
            "in use.",
            name="Universes off",
            shown=universes_off,
            take=universes,
        ),
        Typed(
            "Devices off",
            "Names of devices that this show leaves off, with commas between. They are not missed when they are "
            "silent.",
            shown=devices_off,
            take=devices,
        ),
    )
    now = make_button(
        "Use this show",
        lambda: s.make_edit(set_show, uid),
        "Switches to this show. Universes that are off are not sent any more.",
        primary=True,
    )
    off = make_button(
        "Use everything", lambda: s.make_edit(set_show, ""), "Ends this show: the whole rig is used again."
    )
    gone = make_button("Remove", lambda: s.make_edit(remove_show, uid), "Forgets this show; nothing else is touched.")

    def which() -> None:
        now.setVisible(s.rig.use != uid)
        off.setVisible(s.rig.use == uid)

    panel.refreshers.append(which)
    panel.body.addLayout(flow_of_widgets(now, off, None, gone))
