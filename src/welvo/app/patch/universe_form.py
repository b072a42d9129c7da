"""A universe and its feeds in the panel of Patch."""

from __future__ import annotations

import re
from collections.abc import Callable

from msgspec.structs import replace
from PySide6.QtWidgets import QVBoxLayout

from welvo.app.session import Session
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.foreseeing import edit_button
from welvo.app.widgets.forms import Row, Subject, Ticked, Typed, ValueChoice
from welvo.app.widgets.line_choice import line_row
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.panels import FormPanel, Title, Ways
from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS
from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.edits import add_feed, change_show, remove_feed, remove_universe, set_feed, set_universe
from welvo.rig.lookup import feeds_of, is_in_use
from welvo.rig.notation import say_count, say_place, say_stretch, say_thousands
from welvo.rig.protocol import PROTOCOLS, every_way, read_protocol, say_wire
from welvo.rig.readers import read_whole_number
from welvo.rig.wiring import Feed, Universe
from welvo.survey.octets import octet_feeds, stream_key, stream_of
from welvo.survey.traffic import say_bits, traffic_of_rig

SHAPE = (
    Typed(
        "Number",
        "The rig's own number of this universe. What is patched here keeps its place and is called otherwise.",
        "number",
        width=84,
    ),
    Typed("Name", "What this universe is for, in words.", "name"),
)
PRIORITY = Typed(
    "Priority",
    "0 to 200, 100 when nobody chose. Only the highest counts; two senders of one priority flicker.",
    "priority",
    width=84,
)
SYNC_BY = Typed(
    "Sync by",
    "The sACN universe that releases the frames, so that devices change together; 0: none. A device that never "
    "hears it "
    "may freeze.",
    "sync",
    width=84,
)
AT_DISARM = ValueChoice(
    "At disarm",
    "What the devices are left with when you disarm, since Art-Net has no end of stream: hold keeps the light as "
    "it is.",
    "at_disarm",
    (("hold", "hold the last levels"), ("zero", "zero"), ("defaults", "defaults")),
)
ART_SYNC = Ticked(
    "ArtSync behind the frames",
    "Devices show the frames together when ArtSync comes. One that misses it shows them late.",
)
KEEPS = Ticked(
    "Keeps running numbers",
    "Every slot keeps its running number in the stream; off, free slots never enter it and all moves together.",
)
RATE = Typed(
    "Frames a s",
    "At most so many frames a second. 44 is all a DMX line can take; slower lines need less.",
    "rate",
    width=84,
    words="rate",
)
SENT = ValueChoice(
    "Sent",
    "When frames go out. On change with keep-alive is the standards' way; always keeps devices with short "
    "memories lit; "
    "without keep-alive they forget.",
    "rule",
    (("change", "on change, keep-alive"), ("always", "always"), ("bare", "on change only")),
)


def read_reserve(text: str, size: int) -> tuple[tuple[int, int], ...]:
    """`481-512, 100`: stretches that are kept free, in order and joined where they touch."""
    found: list[tuple[int, int]] = []
    for part in re.split(r"[,;\s]+", text.replace("–", "-").strip()):
        if not part:
            continue
        m = re.fullmatch(r"(\d{1,3})(?:-(\d{1,3}))?", part)
        first, last = (int(m[1]), int(m[2] or m[1])) if m else (0, 0)
        if not m or not 1 <= first <= last <= size:
            raise Refused(f"“{part}” is no stretch of slots from 1 to {size}. Write such as 481-512.")
        found.append((first, last))
    joined: list[tuple[int, int]] = []
    for a, b in sorted(found):
        if joined and a <= joined[-1][1] + 1:
            joined[-1] = (joined[-1][0], max(b, joined[-1][1]))
        else:
            joined.append((a, b))
    return tuple(joined)


def show_universe(
    panel: FormPanel, uid: str, pack: Callable[[str], object], resize: Callable[[str, int], object]
) -> None:
    """Number, name, size, reserve, what is switched off, and every feed. `pack` closes the universe's gaps, `resize`
    shows what another size would move."""
    s = panel.session

    def head(into: QVBoxLayout) -> None:
        u = s.rig.universes[uid]
        items = len({x.key for x in s.index.spans_on_universe(uid)})
        limit = s.index.limit_of_universe(uid)
        free = f"{say_count(items, 'item')} · {s.index.free_slots(uid)} of {limit.slots} slots free"
        into.addWidget(Title(f"Universe {u.number}", u.name))
        into.addWidget(make_label(free, 11, quiet=True))
        if limit.why:
            into.addWidget(make_label(f"Ends at {limit.slots}: {limit.why}.", 11, wrap=True))

    def change(what: str, **fields: object) -> object:
        return s.make_edit(set_universe, uid, f"{what} of universe {s.rig.universes[uid].number}", **fields)

    def reserve(u: Universe) -> str:
        return ", ".join(say_stretch(a, b) for a, b in u.reserve)

    panel.shown(head)
    form = panel.new_form(Subject(lambda: s.rig.universes.get(uid), change), Universe).add(
        *SHAPE,
        Typed(
            "Universe size",
            "How many slots the sender uses of it: 512, or 510 for whole RGB pixels. Sender and receiver must match.",
            width=84,
            shown=lambda u: str(u.size),
            take=lambda t: _resize_universe(s, uid, resize, t),
            tried=lambda t: change("size", size=read_whole_number(t, 1, SLOTS)),
        ),
        Typed(
            "Reserve",
            "Slots kept free on purpose, such as 481-512. Nothing is laid out there by itself; your hand still may.",
            shown=reserve,
            take=lambda t: change("reserve", reserve=read_reserve(t, s.rig.universes[uid].size)),
        ),
    )
    if s.rig.uses.get(s.rig.use):
        form.add(
            Ticked(
                f"Used in “{s.rig.uses[s.rig.use].name}”",
                "Whether the show in use sends this universe. Off: it stays in the rig and is not sent.",
                shown=lambda _: is_in_use(s.rig, "universes", uid),
                take=lambda on: _switch_sending(s, uid, on),
            )
        )
    close = make_button("Pack…", lambda: pack(uid), "Closes the gaps with the fewest moves, shown on the tape first.")
    gone = edit_button(
        s,
        "Remove",
        lambda: s.make_edit(remove_universe, uid),
        "Takes the universe and its feeds out; what is patched here is not patched then.",
    )
    panel.body.addLayout(flow_of_widgets(close, None, gone))
    for fid in feeds_of(s.rig, uid):
        _feed_fields(panel, fid)
    panel.rule()
    panel.words("One more feed")
    more = [
        make_button(
            record.word[:1].upper() + record.word[1:] if " " in record.word else record.word,
            lambda p=record.key: s.make_edit(add_feed, uid, p),
            record.means,
        )
        for record in PROTOCOLS.values()
    ]
    panel.body.addLayout(flow_of_widgets(*more[:2], None, spacing=4))
    panel.body.addLayout(flow_of_widgets(*more[2:], None, spacing=4))


def _switch_sending(s: Session, uid: str, on: bool) -> object:
    """Let the show in use send a universe, or leave it off."""
    use = s.rig.uses[s.rig.use]
    off = tuple(u for u in use.universes_off if u != uid) + (() if on else (uid,))
    number = s.rig.universes[uid].number
    return s.make_edit(change_show, s.rig.use, f"switch universe {number} {'on' if on else 'off'}", universes_off=off)


def _resize_universe(s: Session, uid: str, resize: Callable[[str, int], object], typed: str) -> None:
    size = read_whole_number(typed, 1, SLOTS)
    if size != s.rig.universes[uid].size:
        resize(uid, size)


def _feed_fields(panel: FormPanel, fid: str) -> None:
    s = panel.session
    panel.rule()

    def feed() -> Feed:
        return s.rig.feeds[fid]

    def change(what: str, **fields: object) -> object:
        return s.make_edit(set_feed, fid, f"{what} of {say_wire(feed().protocol, feed().wire)}", **fields)

    name = make_label("", 13, True)
    panel.refreshers.append(lambda: name.setText(say_wire(feed().protocol, feed().wire)))
    remove = edit_button(
        s,
        "Remove",
        lambda: s.make_edit(remove_feed, fid),
        "Stops planning this feed. Ports that listen to it listen to nothing then.",
    )
    panel.body.addLayout(flow_of_widgets(name, None, remove))
    record = PROTOCOLS[feed().protocol]
    rows: list[Row] = [
        ValueChoice(
            "From",
            "Who sends it in the show. Each sender has its own universe size, counting and limits.",
            "sender",
            lambda: [(k, v.name) for k, v in s.rig.senders.items()],
            words="sender",
        ),
        ValueChoice(
            "Protocol",
            "How the levels travel. The device's port must be set to the same, or it stays dark.",
            options=[(p, r.word) for p, r in PROTOCOLS.items()],
            shown=lambda f: str(f.protocol),
            take=lambda p: change("protocol", protocol=p, wire=_fitting_number(feed(), p, s.rig)),
        ),
        Typed(
            "On the wire",
            "The number on the wire: 3 for sACN; 0/0/3, 3 or 0x003 for Art-Net, counted from 0. A wrong one lights "
            "another port, or none.",
            width=84,
            shown=lambda f: PROTOCOLS[f.protocol].write(f.wire),
            take=lambda t: change("number", wire=PROTOCOLS[feed().protocol].read_wire(t)),
        ),
    ]
    if record.addresses:
        rows.append(
            Typed(
                "To",
                "multicast (sACN), subscribers or broadcast (Art-Net), or one IP address. Broadcast makes every device "
                "read every frame.",
                shown=lambda f: str(f.to),
                take=lambda t: change("destination", to=t.strip().lower()),
            )
        )
    if record.has_priority:
        rows += [PRIORITY, SYNC_BY]
    elif record.has_universe_numbers:
        sync = replace_row(ART_SYNC, lambda f: bool(f.sync), lambda on: change("ArtSync", sync=int(on)))
        rows += [AT_DISARM, sync]
    elif record.carries == "octets":
        rows.append(replace_row(KEEPS, lambda f: bool(f.keeps), lambda on: s.make_edit(_keep_running_numbers, fid, on)))
    panel.new_form(Subject(lambda: s.rig.feeds.get(fid), change), Feed).add(*rows, RATE, SENT)
    if record.carries == "line":
        panel.body.addLayout(line_row(panel.network, s.rig.feeds[fid].wire))
    panel.shown(lambda into: _facts_of_feed(panel, fid, into))


def replace_row(one: Ticked, shown: Callable[[Feed], bool], take: Callable[[bool], object]) -> Ticked:
    """A tick that shows and does something of its own."""
    return Ticked(one.label, one.help, one.key, one.words, shown, take)


def _facts_of_feed(panel: FormPanel, fid: str, into: QVBoxLayout) -> None:
    """What the feed loads, where it leaves, and every way its number is said."""
    s = panel.session
    feed = s.rig.feeds[fid]
    load = traffic_of_rig(s.index).feeds.get(fid)
    if load and load.copies:
        packets = f"{say_thousands(round(load.one.packets))} packets and {say_bits(load.one.bits)} a second, {load.how}"
        into.addWidget(make_label(packets, 11, quiet=True, wrap=True))
    if PROTOCOLS[feed.protocol].carries != "line":
        into.addWidget(make_label(f"Leaves through {panel.network.hearing.interface.label}", 11, quiet=True))
    ways = every_way(feed.protocol, feed.wire)
    if PROTOCOLS[feed.protocol].carries == "octets":
        ways += _offsets_of_feed(s, fid)
    into.addWidget(Ways("This number on the wire, every way it is said", tuple(ways)))


def _keep_running_numbers(rig: Rig, fid: str, on: bool) -> Edit:
    """Running numbers are kept or not by the whole stream to a device."""
    feed = rig.feeds[fid]
    alike = {
        k: replace(f, keeps=on)
        for k, f in rig.feeds.items()
        if (f.protocol, f.to, f.wire) == (feed.protocol, feed.to, feed.wire)
    }
    return put_entries(rig, f"{'keep' if on else 'drop'} running numbers in the stream", feeds=alike)


def _offsets_of_feed(s: Session, fid: str) -> list[tuple[str, str]]:
    """Where this universe and its items begin in the stream, in octets from 0."""
    feed = s.rig.feeds[fid]
    pieces, length = stream_of(s.index, octet_feeds(s.index)[stream_key(feed)])
    number = s.rig.universes[feed.universe].number
    mine = [p for p in pieces if p.universe == feed.universe][:8]
    rows = [("Whole stream", say_count(length, "octet"))]
    rows += [
        (f"{s.index.word_for_taker(p.key)} at {say_place(number, p.first)}", f"octet {say_thousands(p.offset)}")
        for p in mine
    ]
    return rows


def _fitting_number(feed: Feed, protocol: str, rig: Rig) -> int:
    """A number on the wire that fits another protocol."""
    record = PROTOCOLS[read_protocol(protocol)]
    if not record.has_universe_numbers:
        return record.lowest
    numbered = PROTOCOLS[feed.protocol].has_universe_numbers
    return record.nearest_number(feed.wire if numbered else rig.universes[feed.universe].number)
