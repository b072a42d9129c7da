"""The other pages of the Patch station: numbers on the wire, capacity, senders and shows."""

from __future__ import annotations

from PySide6.QtWidgets import QVBoxLayout, QWidget

from welvo.app.session import Selection, SelectionKind, Session
from welvo.app.widgets.dialogs import Dialog, WishDialog
from welvo.app.widgets.fields import LineField, set_help
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.moves import Moves
from welvo.app.widgets.painting import clear_layout, column_of_widgets, make_button, make_label
from welvo.app.widgets.strip import Strip
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.patch.arrange import renumber_universes
from welvo.rig.base import Refused
from welvo.rig.document import Change, Rig
from welvo.rig.edits import add_sender, change_show, set_show
from welvo.rig.lookup import universe_by_number, universes_in_order
from welvo.rig.notation import read_numbers, say_count, say_thousands
from welvo.rig.protocol import say_wire
from welvo.rig.readers import read_whole_number
from welvo.survey import capacity
from welvo.survey.traffic import say_bits, traffic_of_rig
from welvo.survey.wires import wire_table


class Page(QWidget):
    """A page that fills itself when it is looked at and whenever the rig changes while it is."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.lines = column_of_widgets(spacing=0)
        self.setLayout(self.lines)
        session.changed.connect(self._changed)
        session.selection_changed.connect(self._changed)
        session.observed_changed.connect(self._changed)

    def _changed(self, *_: object) -> None:
        if self.isVisible():
            self.fill()

    def showEvent(self, e: object) -> None:
        self.fill()

    def fill(self) -> None:
        """Show the present rig."""

    def add_strip(self, *widgets: QWidget | int | None) -> None:
        """A line of widgets over a table."""
        made = flow_of_widgets(*widgets)
        made.setContentsMargins(16, 4, 16, 6)
        self.lines.addLayout(made)


WIRE_COLUMNS = (
    Column("", 28, "mark"),
    Column("On the wire", 84),
    Column("From 0", 52, "number", "The number as pages write it that count from 0."),
    Column("From 1", 52, "number", "The number as pages write it that count from 1."),
    Column("Hex", 66, "number"),
    Column("Universe", 64, "number"),
    Column("Name", 100),
    Column("Sender", 100),
    Column("To", 90),
    Column("Taken by", 110),
    Column("Easily taken for", 244, "text", "What an off-by-one, or the other protocol, would hit."),
    Column("Sender says", 80, "number", "The number on the sender's own pages, counted its way."),
    Column("Frames/s", 66, "number"),
    Column("Packets/s", 72, "number", "What leaves the sender while everything moves."),
    Column("kbit/s", 66, "number"),
)
DEVICE_COLUMNS = (
    Column("", 28, "mark"),
    Column("Device", 130),
    Column("Link", 90),
    Column("Its own", 90, "number"),
    Column("Others' multicast", 116, "number", "Comes along where no switch filters multicast."),
    Column("Broadcast", 84, "number"),
    Column("Of its link", 80, "number", "All of it together, where no switch filters."),
    Column("Packets/s", 76, "number"),
    Column("If all were broadcast", 150, "number"),
)


class WiresPage(Page):
    """Every feed with its number in all ways of counting; under it what each device would have to listen to."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.filter = LineField()
        self.filter.setPlaceholderText("Filter")
        keep_width(self.filter, 130)
        set_help(self.filter, "Shows only feeds with this word in any column. Hides the others; nothing is changed.")
        self.filter.textChanged.connect(lambda _: self.fill())
        self.total = make_label("", 11, quiet=True)
        self.add_strip(
            make_label("Numbers on the wire", 13, True),
            self.filter,
            self.total,
            None,
            make_button(
                "Renumber a block…",
                self.ask_to_renumber,
                "Counts universes anew with everything that refers to them, shown first.",
            ),
        )
        self.feeds = RowList("Feeds", WIRE_COLUMNS)
        self.feeds.picked.connect(lambda fid: session.change_selection(Selection("feed", (fid,))))
        self.lines.addWidget(self.feeds, 3)
        self.add_strip(
            make_label("What each device would get", 13, True),
            make_label("at the planned rates, while everything moves", 11, quiet=True),
            None,
        )
        self.boxes = RowList("Devices", DEVICE_COLUMNS)
        self.boxes.picked.connect(lambda device_id: session.change_selection(Selection("device", (device_id,))))
        self.lines.addWidget(self.boxes, 2)

    def fill(self) -> None:
        s = self.session
        worst = {f.goes_to.id: str(f.severity) for f in reversed(s.report.findings) if f.goes_to.kind == "feed"}
        lines = []
        word = self.filter.text().strip().lower()
        load = traffic_of_rig(s.index)
        rows = wire_table(s.index, load)
        for r in rows:
            beware = ("not in use · " if not r.in_use else "") + r.beware
            cells = (
                worst.get(r.feed, ""),
                r.wire,
                r.from_zero,
                r.from_one,
                r.hexadecimal,
                str(r.universe),
                r.name,
                r.sender,
                r.to,
                r.takers,
                beware,
                r.shown,
                f"{r.rate:g}",
                say_thousands(round(r.packets)),
                say_thousands(round(r.bits / 1000)),
            )
            if word and word not in " ".join(cells).lower():
                continue
            zero = int(r.from_zero or -1)
            ranks = (
                cells[0] or "z",
                (r.wire.split()[0], zero),
                zero,
                zero,
                zero,
                r.universe,
                r.name.lower(),
                r.sender.lower(),
                r.to,
                r.takers.lower(),
                beware or "~",
                int(r.shown or -1),
                r.rate,
                r.packets,
                r.bits,
            )
            lines.append(ListRow(r.feed, cells, ranks, quiet=not r.in_use))
        chosen = s.selection.first_selected if s.selection.kind == "feed" else ""
        self.feeds.show_lines(lines, chosen)
        self.total.setText(
            f"{say_count(len(rows), 'feed')} · {say_thousands(round(load.total.packets))} packets and "
            f"{say_bits(load.total.bits)} a second leave"
        )
        marks_of = {f.goes_to.id: str(f.severity) for f in reversed(s.report.findings) if f.code == "DEV-06"}
        found = []
        for device_id, b in load.devices.items():
            link = f"{b.link} Mbit/s{' radio' if b.wireless else ''}"
            found.append(
                ListRow(
                    device_id,
                    (
                        marks_of.get(device_id, ""),
                        s.rig.devices[device_id].name,
                        link,
                        say_bits(b.own.bits),
                        say_bits(b.multicast.bits),
                        say_bits(b.broadcast.bits),
                        f"{100 * b.share_of_link:.1f} %",
                        say_thousands(round(b.worst_load.packets)),
                        say_bits(b.if_broadcast.bits),
                    ),
                    (
                        "",
                        s.rig.devices[device_id].name.lower(),
                        b.link,
                        b.own.bits,
                        b.multicast.bits,
                        b.broadcast.bits,
                        b.share_of_link,
                        b.worst_load.packets,
                        b.if_broadcast.bits,
                    ),
                )
            )
        self.boxes.show_lines(found, s.selection.first_selected if s.selection.kind == "device" else "")

    def ask_to_renumber(self) -> None:
        """Ask for a block and its new first number."""
        self.session.commit_pending()
        RenumberBlock(self.session, self).exec()


class RenumberBlock(WishDialog):
    """A block of universes counted anew, with what it changes said before."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent, "Renumber a block", "Renumber", "Renumber a block of universes")
        self._session = session
        numbers = [session.rig.universes[u].number for u in universes_in_order(session.rig)]
        self.block = self.ask_for_line(
            "Universes",
            "Which universes, by their present numbers, such as 5-9, 12. What is patched in them goes along.",
            f"{numbers[0]}-{numbers[-1]}" if len(numbers) > 1 else "".join(map(str, numbers)),
        )
        self.first = self.ask_for_line(
            "New first", "The number the first of them gets; the others count up from it.", width=84
        )
        self.wires = self.ask_for_tick(
            "Their numbers on the wire too",
            "Feeds go up or down by as much; ports that listen to them follow. Devices that hold a copy must be "
            "set anew.",
            on=True,
        )
        self._moves = QVBoxLayout()
        self.body.addLayout(self._moves)
        self.show_effects(Strip(session, 30))
        self.finish()

    def _renumbered_rig(self) -> tuple[Rig, Change, list[tuple[str, str, str]]]:
        rig = self._session.rig
        wanted = read_numbers(self.block.text())
        missing = next((n for n in wanted if not universe_by_number(rig, n)), None)
        if not wanted or missing is not None:
            raise Refused(f"There is no universe {missing}." if wanted else "Which universes? Write such as 5-9.")
        first = read_whole_number(self.first.text(), 1, 63999)
        return renumber_universes(rig, [universe_by_number(rig, n) for n in wanted], first, self.wires.isChecked())

    def foresee(self) -> tuple[str, str]:
        clear_layout(self._moves)
        _, _, said = self._renumbered_rig()
        self._moves.addWidget(Moves(said, 10))
        if not said:
            return "That changes nothing.", ""
        others = say_count(len(said), "number")
        return f"{others} would be others. Addresses, names and ports keep their universes.", f"Change {others}"

    def do(self) -> object:
        made, change, _ = self._renumbered_rig()
        return self._session.take_over_edit((made, change))


CAPACITY_COLUMNS = (
    Column("", 28, "mark"),
    Column("What", 180),
    Column("Of", 76),
    Column("Used", 60, "number"),
    Column("Reserved", 68, "number"),
    Column("Possible", 68, "number"),
    Column("Free", 60, "number"),
    Column("", 100, "bar"),
    Column("", 250),
)


class CapacityPage(Page):
    """What is used, reserved and possible, for the rig, its universes, senders and devices."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.trim = make_button(
            "Trim…", self.ask_trim, "Takes out universes in which nothing stands, with their feeds; says first which."
        )
        self.words = make_label("", 11, quiet=True)
        self.add_strip(make_label("Capacity", 13, True), self.words, None, self.trim)
        self.table = RowList("Capacity", CAPACITY_COLUMNS)
        self.table.picked.connect(self._pick_row)
        self.lines.addWidget(self.table, 1)

    def fill(self) -> None:
        s = self.session
        rows = [
            *capacity.total_capacity(s.index),
            *capacity.universe_rows(s.index),
            *capacity.sender_rows(s.rig),
            *capacity.device_rows(s.index),
        ]
        worst: dict[tuple[str, str], str] = {
            (f.goes_to.kind, f.goes_to.id): str(f.severity) for f in reversed(s.report.findings)
        }
        lines = []
        for n, r in enumerate(rows):
            name = {"rig": "The whole rig", "universe": f"Universe {r.name}", "sender": r.name, "device": r.name}[
                r.kind
            ]
            cells = (
                worst.get((r.kind, r.id), ""),
                name,
                r.unit,
                say_thousands(r.used),
                say_thousands(r.reserved) if r.reserved else "",
                say_thousands(r.possible),
                say_thousands(r.free_slots),
                f"{r.used}/{r.reserved}/{r.possible}",
                r.note,
            )
            ranks = (
                "",
                n,
                r.unit,
                r.used,
                r.reserved,
                r.possible,
                r.free_slots,
                r.used / r.possible if r.possible else 0,
                r.note,
            )
            lines.append(
                ListRow((r.kind, r.id, r.unit), cells, ranks, quiet="not in use" in r.note, bold=r.kind == "rig")
            )
        self.table.show_lines(
            lines, ("universe", s.selection.first_selected, "slots") if s.selection.kind == "universe" else None
        )
        left = capacity.empty_universes(s.index)
        self.words.setText(
            f"{say_count(len(left), 'universe')} {'holds' if len(left) == 1 else 'hold'} nothing"
            if left
            else "Every universe holds something or is reserved."
        )
        self.trim.setEnabled(bool(left))

    def _pick_row(self, row_: tuple[SelectionKind, str, str]) -> None:
        kind, id_, _ = row_
        if kind in ("universe", "device", "sender"):
            self.session.change_selection(Selection(kind, (id_,)))

    def ask_trim(self) -> None:
        """Show what a trim would take out, and do it if wanted."""
        self.session.commit_pending()
        Trim(self.session, self).exec()


class Trim(Dialog):
    """What a trim takes out, said before."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent, "Trim", "Take out what holds nothing")
        self._session = session
        left = capacity.empty_universes(session.index)
        universes = session.rig.universes
        rows = [(f"universe {universes[u].number}", universes[u].name or "–", f"gone {words}") for u, words in left]
        self.body.addWidget(Moves(rows, 12))
        self.go = make_button(f"Take out {say_count(len(left), 'universe')}", self.do, primary=True)
        self.go.setEnabled(bool(left))
        self.finish(self.go)
        self.say("Reserved universes stay. Undo brings all of it back.")

    def do(self) -> None:
        self._session.make_edit(lambda _: capacity.trim_universes(self._session.index))
        self.accept()


SENDER_COLUMNS = (
    Column("", 28, "mark"),
    Column("Sender", 130),
    Column("Computer", 90),
    Column("Slots", 50, "number", "How many slots of each universe it uses."),
    Column("Counts from", 84, "number"),
    Column("Lowest", 56, "number"),
    Column("Highest", 62, "number"),
    Column("Priority", 60, "number"),
    Column("Frames/s", 64, "number"),
    Column("Brightness", 76, "number"),
    Column("Feeds", 200),
)
SHOW_COLUMNS = (
    Column("", 28, "mark"),
    Column("Show", 200),
    Column("Universes off", 240),
    Column("Devices off", 240),
    Column("", 100),
)


class SendersPage(Page):
    """Who feeds the universes in the show, and which part of the rig a show uses."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.add_strip(
            make_label("Senders", 13, True),
            make_label("desks and programs that feed universes, with what they can number", 11, quiet=True),
            None,
            make_button("Add sender", self.add_sender, "A desk or a program that feeds universes in the show."),
        )
        self.senders = RowList("Senders", SENDER_COLUMNS)
        self.senders.picked.connect(lambda sid: session.change_selection(Selection("sender", (sid,))))
        self.lines.addWidget(self.senders, 1)
        self.add_strip(
            make_label("Shows", 13, True),
            make_label("what one show leaves switched off; nothing is taken out of the rig", 11, quiet=True),
            None,
            make_button("Everything", lambda: session.make_edit(set_show, ""), "Use the whole rig again."),
            make_button("Add show", self.add_show, "A show that uses only a part of the rig."),
        )
        self.uses = RowList("Shows", SHOW_COLUMNS)
        self.uses.picked.connect(lambda uid: session.change_selection(Selection("use", (uid,))))
        self.lines.addWidget(self.uses, 1)

    def fill(self) -> None:
        s = self.session
        lines = []
        for sid, v in s.rig.senders.items():
            feeds = [say_wire(f.protocol, f.wire) for f in s.rig.feeds.values() if f.sender == sid]
            words = ", ".join(feeds[:8]) + (f" and {len(feeds) - 8} more" if len(feeds) > 8 else "")
            cells = (
                "",
                v.name,
                v.computer or "–",
                str(v.universe_size),
                str(v.counts_from),
                str(v.lowest),
                str(v.highest),
                str(v.priority),
                f"{v.rate:g}",
                f"{100 * v.brightness:g} %",
                words or "none",
            )
            ranks = (
                "",
                v.name.lower(),
                v.computer,
                v.universe_size,
                v.counts_from,
                v.lowest,
                v.highest,
                v.priority,
                v.rate,
                v.brightness,
                len(feeds),
            )
            lines.append(ListRow(sid, cells, ranks))
        self.senders.show_lines(lines, s.selection.first_selected if s.selection.kind == "sender" else "")
        found = []
        for uid, u in s.rig.uses.items():
            numbers = sorted(s.rig.universes[x].number for x in u.universes_off if x in s.rig.universes)
            boxes = ", ".join(s.rig.devices[d].name for d in u.devices_off if d in s.rig.devices)
            now = uid == s.rig.use
            found.append(
                ListRow(
                    uid,
                    (
                        "matches" if now else "",
                        u.name,
                        ", ".join(map(str, numbers)) or "none",
                        boxes or "none",
                        "in force" if now else "",
                    ),
                    bold=now,
                )
            )
        self.uses.show_lines(found, s.selection.first_selected if s.selection.kind == "use" else "")

    def add_sender(self) -> None:
        taken = {v.name for v in self.session.rig.senders.values()}
        change = self.session.make_edit(
            add_sender, next(f"Desk {n}" for n in range(1, 1000) if f"Desk {n}" not in taken)
        )
        self.session.change_selection(Selection("sender", change.made))

    def add_show(self) -> None:
        taken = {v.name for v in self.session.rig.uses.values()}
        name = next(f"Show {n}" for n in range(1, 1000) if f"Show {n}" not in taken)
        change = self.session.make_edit(change_show, "", f"add show {name}", name=name)
        self.session.change_selection(Selection("use", change.made))
