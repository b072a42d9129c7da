"""A universe and its feeds in the panel."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QVBoxLayout

from welvo.app.widgets.painting import button, clear, label, row
from welvo.app.widgets.panels import Title, Ways
from welvo.patch.stream import boxes, stream_of
from welvo.patch.table import whole
from welvo.patch.traffic import say_bits, traffic
from welvo.rig.base import Refused
from welvo.rig.edits import add_feed, change_use, remove_feed, remove_universe, set_feed, set_universe
from welvo.rig.lookup import feeds_of, used
from welvo.rig.notation import plural, say_place, say_stretch, thousands
from welvo.rig.protocol import (
    PROTOCOLS,
    Protocol,
    every_way,
    read_protocol,
    read_wire,
    say_protocol,
    say_wire,
)
from welvo.rig.wiring import Feed

if TYPE_CHECKING:
    from welvo.app.patch.panel import PatchPanel


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


def show_universe(panel: PatchPanel, uid: str) -> None:
    """Number, name, size, reserve, what is switched off, and every feed."""
    s = panel.session
    title = QVBoxLayout()
    panel.body.addLayout(title)

    def head() -> None:
        clear(title)
        u = s.rig.universes[uid]
        title.addWidget(Title(f"Universe {u.number}", u.name))
        things = len({x.key for x in s.index.on(uid)})
        limit = s.index.limit(uid)
        title.addWidget(
            label(f"{plural(things, 'thing')} · {s.index.free_slots(uid)} of {limit.slots} slots free", 11, quiet=True)
        )
        if limit.why:
            title.addWidget(label(f"Ends at {limit.slots}: {limit.why}.", 11, wrap=True))

    panel.refreshers.append(head)
    panel.field("Number", "The rig's own number of this universe. What is patched here keeps its place and is called otherwise.",
                lambda: str(s.rig.universes[uid].number), lambda t: s.edit(set_universe, uid, f"number universe {t}", number=whole(t, 1, 63999)), narrow=84)  # fmt: skip
    panel.field("Name", "What this universe is for, in words.", lambda: s.rig.universes[uid].name,
                lambda t: s.edit(set_universe, uid, f"name universe {t}", name=t))  # fmt: skip
    panel.field("Slots used", "How many slots the sender uses of it: 512, or 510 for whole RGB pixels. Sender and receiver must agree.",
                lambda: str(s.rig.universes[uid].size), lambda t: s.edit(set_universe, uid, f"universe size {t}", size=whole(t, 1, 512)), narrow=84)  # fmt: skip

    def reserve() -> str:
        return ", ".join(say_stretch(a, b) for a, b in s.rig.universes[uid].reserve)

    panel.field("Reserve", "Slots kept free on purpose, such as 481-512. Nothing is laid out there by itself; your hand still may.",
                reserve, lambda t: s.edit(set_universe, uid, f"reserve {t or 'nothing'}", reserve=read_reserve(t, s.rig.universes[uid].size)))  # fmt: skip
    pack = button("Pack…", lambda: panel.pack(uid), "Closes the gaps with the fewest moves, shown on the tape first.")
    gone = button(
        "Remove",
        lambda: s.edit(remove_universe, uid),
        "Takes the universe and its feeds out; what is patched here is not patched then.",
    )
    line = row(pack, None, gone)
    if s.rig.uses.get(s.rig.use):
        on = panel.tick(
            f"Used in “{s.rig.uses[s.rig.use].name}”", "Whether the use in force sends this universe. Off: it stays in the rig and is not sent.",
            lambda: used(s.rig, "universes", uid), lambda v: _use(panel, uid, v),
        )  # fmt: skip
        panel.body.addWidget(on)
    panel.body.addLayout(line)
    for fid in feeds_of(s.rig, uid):
        _feed(panel, fid)
    panel.rule()
    panel.body.addWidget(label("One more feed", 11, quiet=True))
    made = [
        button(
            record.word[:1].upper() + record.word[1:] if " " in record.word else record.word,
            lambda p=record.key: s.edit(add_feed, uid, p),
            record.means,
        )
        for record in PROTOCOLS.values()
    ]
    panel.body.addLayout(row(*made[:2], None, spacing=4))
    panel.body.addLayout(row(*made[2:], None, spacing=4))


def _use(panel: PatchPanel, uid: str, on: bool) -> None:
    s = panel.session
    use = s.rig.uses[s.rig.use]
    off = tuple(u for u in use.universes_off if u != uid) + (() if on else (uid,))
    number = s.rig.universes[uid].number
    s.edit(change_use, s.rig.use, f"switch universe {number} {'on' if on else 'off'}", universes_off=off)


def _feed(panel: PatchPanel, fid: str) -> None:
    s = panel.session
    panel.rule()

    def feed() -> Feed:
        return s.rig.feeds[fid]

    def change(label_: str, **fields: object) -> object:
        return s.edit(set_feed, fid, label_, **fields)

    name = label("", 13, True)
    panel.refreshers.append(lambda: name.setText(say_wire(feed().protocol, feed().wire)))
    remove = button(
        "Remove", lambda: s.edit(remove_feed, fid), "Stops planning this feed. Ports that take it take nothing then."
    )
    panel.body.addLayout(row(name, None, remove))
    panel.choice(
        "From", "Who sends it in the show. Each sender has its own universe size, counting and limits.",
        lambda: ([(k, v.name) for k, v in s.rig.senders.items()], feed().sender),
        lambda v: change(f"send from {s.rig.senders[v].name}", sender=v),
    )  # fmt: skip
    panel.choice(
        "Protocol", "How the levels travel. The box's port must be set to the same, or it stays dark.",
        lambda: ([(p, r.word) for p, r in PROTOCOLS.items()], feed().protocol),
        lambda v: change(f"send by {say_protocol(v)}", protocol=v, wire=_fitting(feed(), read_protocol(v), s.rig.universes[feed().universe].number)),
    )  # fmt: skip
    protocol = feed().protocol
    panel.field("On the wire", "The number on the wire: 3 for sACN; 0/0/3, 3 or 0x003 for Art-Net, counted from 0. A wrong one lights another port, or none.",
                lambda: PROTOCOLS[feed().protocol].write(feed().wire),
                lambda t: change(f"send as {t}", wire=read_wire(feed().protocol, t)), narrow=84)  # fmt: skip
    record = PROTOCOLS[protocol]
    if record.addresses:
        panel.field("To", "multicast (sACN), subscribers or broadcast (Art-Net), or one IP address. Broadcast makes every box read every frame.",
                    lambda: feed().to, lambda t: change(f"send to {t}", to=t.strip().lower()))  # fmt: skip
    if record.has_priority:
        panel.field("Priority", "0 to 200, 100 when nobody chose. Only the highest counts; two senders of one priority flicker.",
                    lambda: str(feed().priority), lambda t: change(f"priority {t}", priority=whole(t, 0, 200)), narrow=84)  # fmt: skip
        panel.field("Sync by", "The sACN universe that releases the frames, so that boxes change together; 0: none. A box that never hears it may freeze.",
                    lambda: str(feed().sync), lambda t: change(f"sync by {t}", sync=whole(t, 0, 63999)), narrow=84)  # fmt: skip
    elif record.numbered and not record.ends:
        panel.choice("At disarm", "What the boxes are left with when you disarm, since Art-Net has no end of stream: hold keeps the light as it is.",
                     lambda: ([("hold", "hold the last levels"), ("zero", "zero"), ("defaults", "defaults")], feed().at_disarm),
                     lambda v: change(f"leave {v} at disarm", at_disarm=v))  # fmt: skip
        panel.body.addWidget(panel.tick("ArtSync behind the frames", "Boxes show the frames together when ArtSync comes. One that misses it shows them late.",
                                        lambda: bool(feed().sync), lambda on: change("ArtSync on" if on else "ArtSync off", sync=int(on))))  # fmt: skip
    elif record.carries == "octets":
        panel.body.addWidget(panel.tick("Keeps running numbers", "Every slot keeps its running number in the stream; off, free slots never enter it and all moves together.",
                                        lambda: feed().keeps, lambda on: _keep(panel, fid, on)))  # fmt: skip
    panel.field("Frames a s", "At most so many frames a second. 44 is all a DMX line can take; slower lines need less.",
                lambda: f"{feed().rate:g}", lambda t: change(f"rate {t}", rate=float(whole(t, 1, 1000))), narrow=84)  # fmt: skip
    panel.choice("Sent", "When frames go out. On change with keep-alive is the standards' way; always keeps boxes with short memories lit; without keep-alive they forget.",
                 lambda: ([("change", "on change, keep-alive"), ("always", "always"), ("bare", "on change only")], feed().rule),
                 lambda v: change(f"send {v}", rule=v))  # fmt: skip
    facts = QVBoxLayout()

    def show() -> None:
        clear(facts)
        load = traffic(s.index).feeds.get(fid)
        if load and load.copies:
            facts.addWidget(
                label(
                    f"{thousands(round(load.one.packets))} packets and {say_bits(load.one.bits)} a second, {load.how}",
                    11,
                    quiet=True,
                    wrap=True,
                )
            )
        facts.addWidget(label(f"Leaves through {panel.wire.interface.label}", 11, quiet=True))
        ways = every_way(feed().protocol, feed().wire)
        if PROTOCOLS[feed().protocol].carries == "octets":
            ways += _offsets(panel, fid)
        facts.addWidget(Ways("This number on the wire, every way it is said", tuple(ways)))

    panel.refreshers.append(show)
    panel.body.addLayout(facts)


def _keep(panel: PatchPanel, fid: str, on: bool) -> None:
    """Running numbers are kept or not by the whole stream to a box."""
    from welvo.rig.document import Edit, Rig, put

    def edit(rig: Rig) -> Edit:
        from msgspec.structs import replace

        feed = rig.feeds[fid]
        alike = {
            k: replace(f, keeps=on)
            for k, f in rig.feeds.items()
            if (f.protocol, f.to, f.wire) == (feed.protocol, feed.to, feed.wire)
        }
        return put(rig, f"{'keep' if on else 'drop'} running numbers in the stream", feeds=alike)

    panel.session.edit(edit)


def _offsets(panel: PatchPanel, fid: str) -> list[tuple[str, str]]:
    """Where this universe and its things begin in the stream, in octets from 0."""
    s = panel.session
    feed = s.rig.feeds[fid]
    pieces, length = stream_of(s.index, boxes(s.index)[feed.to, feed.wire])
    mine = [p for p in pieces if p.universe == feed.universe]
    number = s.rig.universes[feed.universe].number
    from welvo.rig.lookup import call

    rows = [("Whole stream", plural(length, "octet"))]
    rows += [
        (f"{call(s.rig, p.key)} at {say_place(number, p.first)}", f"octet {thousands(p.offset)}") for p in mine[:8]
    ]
    return rows


def _fitting(feed: Feed, protocol: Protocol, number: int) -> int:
    """A number on the wire that fits another protocol."""
    record = PROTOCOLS[protocol]
    if not record.numbered:
        return record.lowest
    return record.nearest(feed.wire if PROTOCOLS[feed.protocol].numbered else number)
