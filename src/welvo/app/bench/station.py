"""The Bench: pick, raise, and see the very levels at the sender, on the wire and at the port side by side."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QGridLayout, QPushButton, QScrollArea, QStackedWidget, QWidget

from welvo.app.bench.cycle_page import CyclePage
from welvo.app.bench.faders import FOOT, HIGHEST, TOP, FaderBank
from welvo.app.bench.holding import HeldList, HoldColour, Spread
from welvo.app.bench.panel import BenchPanel
from welvo.app.bench.record_page import RecordPage
from welvo.app.bench.wire_page import WirePage
from welvo.app.commands import said_keys
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.dialogs import ask_line
from welvo.app.widgets.empty import EmptyPage
from welvo.app.widgets.fields import Field
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.painting import (
    CENTRE,
    NameLabel,
    clear_layout,
    column_of_widgets,
    draw_text_line,
    make_button,
    make_label,
    row_of_widgets,
    tall_page,
    touching_widgets,
)
from welvo.app.widgets.station import Station
from welvo.app.widgets.theme import THEME
from welvo.bench.borrowing import choose_borrowed, lent_universes, say_borrowed
from welvo.bench.levels import light_up, pixel_functions, read_function_value, reveal_item
from welvo.bench.picking import PickedItems, pick_items
from welvo.bench.seeing import port_for
from welvo.patch.index import Index
from welvo.patch.slot_words import channel_words, slot_word
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.lookup import name_of_item, profile_of, universes_in_order
from welvo.rig.notation import say_count, say_numbers, say_place
from welvo.rig.refs import Goto
from welvo.survey.target import find_target

PAGES = {
    "Drive": "Faders, colours and single slots.",
    "Test": "Cycles that go step by step, with what must be seen.",
    "Wire": "What is really there, from all senders; recordings.",
    "Tested": "What was tested, when, by whom, with which result.",
}
SETTLE = 0.4
"""Seconds after a change of levels in which the rows are not held against each other: packets take their time."""
CELL = 34
GUTTER = 96


class Arrived(QWidget):
    """Three rows of the same slots: meant, on the wire, port gives. A cell that differs is washed and outlined."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Meant, on the wire, port gives")
        self.first = 1
        self.words: list[tuple[int, int, str]] = []
        self.rows: tuple[bytes | None, bytes | None, bytes | None] = (None, None, None)
        self.names = ("meant", "on the wire", "port gives")
        self.loose = False
        self.setFixedHeight(38 + 3 * 36)

    @property
    def cell(self) -> int:
        """How wide the column of a slot is."""
        return THEME.scale_length(CELL)

    @property
    def gutter(self) -> int:
        """How wide the names of the rows are."""
        return THEME.scale_length(GUTTER)

    def show_slots(self, first: int, words: list[tuple[int, int, str]]) -> None:
        """`words`: (slot from 0, slots wide, short name)."""
        self.first, self.words = first, words
        self.setMinimumWidth(self.gutter + self.cell * self._count_arrived())
        self.update()

    def _count_arrived(self) -> int:
        return max((a + b for a, b, _ in self.words), default=0)

    def sizeHint(self) -> QSize:
        return QSize(self.gutter + self.cell * self._count_arrived(), 146)

    def set_levels(
        self, rows: tuple[bytes | None, bytes | None, bytes | None], names: tuple[str, str, str], loose: bool
    ) -> None:
        if (rows, names, loose) != (self.rows, self.names, self.loose):
            self.rows, self.names, self.loose = rows, names, loose
            self.update()

    def differing_slots(self, n: int) -> list[int]:
        """Slots (from 0) on which row n is not what was meant."""
        meant, other = self.rows[0], self.rows[n]
        if meant is None or other is None or self.loose:
            return []
        return [i for i in range(min(len(meant), len(other), self._count_arrived())) if meant[i] != other[i]]

    def paintEvent(self, e: QPaintEvent) -> None:
        p = QPainter(self)
        count = self._count_arrived()
        for n in range(count):
            x = self.gutter + self.cell * n
            draw_text_line(p, QRectF(x, 0, self.cell, 16), str(self.first + n), "quiet", 11, align=CENTRE, elide=False)
        for at, wide, words in self.words:
            draw_text_line(
                p, QRectF(self.gutter + self.cell * at, 16, self.cell * wide, 16), words, size=11, align=CENTRE
            )
        for r in range(3):
            y = 38 + 36 * r
            off = set(self.differing_slots(r)) if r else set()
            draw_text_line(
                p, QRectF(0, y, self.gutter - 8, 30), self.names[r], "text" if off else "quiet", 11, bool(off)
            )
            levels = self.rows[r]
            for n in range(count):
                cell = QRectF(self.gutter + self.cell * n, y, self.cell - 2, 30)
                p.fillRect(cell, THEME.color("error_wash" if n in off else "field"))
                value = levels[n] if levels is not None and n < len(levels) else None
                if value and n not in off:
                    h = cell.height() * value / 255
                    p.fillRect(QRectF(cell.left(), cell.bottom() - h, cell.width(), h), THEME.color("accent_wash"))
                p.setPen(THEME.color("error" if n in off else "line"))
                p.drawRect(cell.adjusted(0, 0, -1, -1))
                shown = "–" if value is None else str(value)
                draw_text_line(
                    p, cell, shown, "text" if value or n in off else "quiet", 13, bool(value), CENTRE, elide=False
                )


class BenchStation(Station):
    name = "Bench"
    panel: BenchPanel

    name = "Bench"

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self._meant_at = 0.0
        self._meant: bytes | None = None
        self._raw_here = self._raw_value = ""
        self._offered: object = None
        self.pixels: dict[str, tuple[int, ...]] = {}
        """Items of which single pixels are driven, and which."""
        self._typed_pixels = ""
        self._pixel_seen: tuple[tuple[str, ...], int] = ((), 0)
        """Which pixel of which item was picked elsewhere when this was looked at last; 0: none."""
        self._kept_for: tuple[str, ...] = ()
        self._warned = False
        self.pick = Field(
            "Picks what you drive: numbers and ranges such as 203, 205–207, an address such as 3.150, or an "
            "element's name. Sends nothing.",
            self._take_picked,
        )
        self.pick.setPlaceholderText("203, 205–207")
        keep_width(self.pick, 170)
        self.pick.setAccessibleName("Pick")
        self._what = make_label("", 11, quiet=True)
        self.light_up = make_button(
            "Light up",
            self._light_selection,
            "Holds dimmer and colours of what is picked at full, and opens its shutter. It may be bright.",
        )
        self.zero = make_button(
            "Zero all", self._hold_at_zero, "Holds every function of what is picked at 0; heads keep their position."
        )
        self.release = make_button(
            "Release all", self.release_all, "Gives back everything you hold; every channel goes to its default."
        )
        self.blackout = make_button(
            f"Blackout   {said_keys('blackout')}",
            self.toggle_blackout,
            "Intensity, colour and shutter of everything go out as 0 until you take it away again.",
            strong=True,
        )
        self.blackout.setCheckable(True)
        self.reveal = make_button(
            "Reveal",
            self._reveal_selection,
            "Makes it visible in one act: open, white, no strobe, in the middle of its movement.",
        )
        self.only = make_button(
            "Only these", self._only_these, "Everything else goes to its default, until you press it again."
        )
        self.only.setCheckable(True)
        self.colour = make_button(
            "Colour…", self._hold_colour, "One colour or colour temperature for all that is picked."
        )
        self.spread = make_button("Spread…", self._spread_over_selection, "Spreads a function over the selection.")
        self.held = make_button("Held…", self._held_list, "Lists everything that is held, each with its release.")
        self.master = Field("The master: everything that follows it goes out at this share.", self._master_typed)
        keep_width(self.master, 54)
        self.master.setAccessibleName("Master")
        self.master.set_value("100 %")
        self.pages: dict[str, QPushButton] = {}
        segments: list[QWidget | int | None] = []
        for name, help_text in PAGES.items():
            b = make_button(name, partial(self.show_page, name), help_text)
            b.setCheckable(True)
            b.setProperty("segment", True)
            self.pages[name] = b
            segments.append(b)
        self._title = make_label("Bench", 16, True)
        bar = flow_of_widgets(self._title, 4, touching_widgets(segments), 4, self.pick, self._what, None, self.blackout)
        bar.setContentsMargins(16, 8, 16, 8)
        acts = flow_of_widgets(
            self.light_up, self.reveal, self.zero, self.colour, self.spread, self.only, None,
            make_label("Master", 11, quiet=True), self.master, self.held, self.release, spacing=4,
        )  # fmt: skip
        acts.setContentsMargins(16, 0, 16, 4)
        self.bank = FaderBank(session, network.meant.levels)
        self.bank.moved.connect(self._follow_fader)
        self._network.blackout_changed.connect(self._follow_levels)
        self.bank.heads.connect(self._heads_move)
        self.bank.asked.connect(self._ask_value)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.bank)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setMinimumHeight(self.bank.minimumHeight() + 12)
        scroll.setMaximumHeight(TOP + HIGHEST + FOOT + 12)
        self._arrived_title = NameLabel("Meant and arrived", 13, True)
        self._arrived_note = make_label("", 11, quiet=True)
        self.arrived = Arrived()
        rows = QScrollArea()
        rows.setWidgetResizable(True)
        rows.setWidget(self.arrived)
        rows.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        rows.setFixedHeight(self.arrived.height() + 12)
        self._mark = marks.MarkLabel("unknown", 12)
        self._sentence = make_label("", 11, wrap=True)
        self.raw_place = Field(
            "A universe and address such as 3.150, or 3.150–160: what is to be held, whatever is patched there. A "
            "wrong one moves another lamp.",
            self._raw_place_typed,
        )
        keep_width(self.raw_place, 84)
        self.raw_place.setPlaceholderText("3.150")
        self.raw_place.setAccessibleName("Slot")
        self.raw_level = Field(
            "The level for these slots, 0 to 255 or a percentage such as 50 %. It wins over the faders until you "
            "release all.",
            self._raw_level_typed,
        )
        keep_width(self.raw_level, 64)
        self.raw_level.setPlaceholderText("255")
        self.raw_level.setAccessibleName("Level")
        self._raw_words = make_label("", 11, quiet=True)
        hold = make_button("Hold slot", self._hold_raw, "Holds the slot at the level until you release all.")
        whole = column_of_widgets(spacing=0)
        whole.addLayout(bar)
        body = column_of_widgets(spacing=4)
        body.addLayout(acts)
        self._faders = QWidget()
        inside = column_of_widgets(spacing=4)
        title = flow_of_widgets(
            make_label("By function", 13, True),
            make_label(
                "filled: you hold it · outline: at its default · right click or Del gives it back", 11, quiet=True
            ),
            None,
        )
        for layout in (title,):
            layout.setContentsMargins(16, 4, 16, 0)
            inside.addLayout(layout)
        band = column_of_widgets((16, 0, 16, 0), 0)
        band.addWidget(scroll)
        inside.addLayout(band, 1)
        head = flow_of_widgets(self._arrived_title, self._arrived_note, None)
        head.setContentsMargins(16, 6, 16, 0)
        inside.addLayout(head)
        band = column_of_widgets((16, 0, 16, 0), 4)
        band.addWidget(rows)
        said = flow_of_widgets(self._mark, self._sentence, spacing=8)
        band.addLayout(said)
        inside.addLayout(band)
        inside.addStretch(0)
        self._faders.setLayout(inside)
        self._empty = EmptyPage(
            "Nothing picked",
            ("Type a number, a range or an address above. Nothing leaves the computer before you arm.",),
        )
        self.borrowed = Field(
            "Universes that another sender feeds, and that the Bench sends too while it is armed: numbers such as 3, "
            "5–7, or all. It takes that sender's routes: numbers, receivers and priority. The rig stays as it is.",
            self._borrow_universes,
        )
        keep_width(self.borrowed, 110)
        self.borrowed.setPlaceholderText("no universe")
        self.borrowed.setAccessibleName("Borrowed")
        self._borrowed_words = make_label("Borrowed", 13, True)
        self._offers = QGridLayout()
        self._offers.setSpacing(6)
        under = column_of_widgets()
        under.addWidget(self._empty)
        centred = row_of_widgets(None, None)
        centred.insertLayout(1, self._offers)
        under.addLayout(centred)
        under.addStretch(1)
        self._nothing = QWidget()
        self._nothing.setLayout(under)
        body.addWidget(self._faders, 1)
        body.addWidget(self._nothing, 1)
        raw = flow_of_widgets(
            make_label("Slot", 13, True),
            self.raw_place,
            8,
            make_label("Level", 13, True),
            self.raw_level,
            hold,
            self._raw_words,
            None,
            self._borrowed_words,
            self.borrowed,
        )
        raw.setContentsMargins(16, 8, 16, 12)
        body.addLayout(raw)
        body.addStretch(0)
        drive = QWidget()
        drive.setLayout(body)
        self.cycles = CyclePage(session, network)
        self.wire = WirePage(session, network)
        self.record = RecordPage(session)
        self.stack = QStackedWidget()
        for page in (drive, self.cycles, self.wire, self.record):
            self.stack.addWidget(tall_page(page))
        whole.addWidget(self.stack, 1)
        self.setLayout(whole)
        self.cycles.changed.connect(self.tick)
        self.page = "Drive"
        self.show_page("Drive")
        self.panel = BenchPanel(session, network)
        session.selection_changed.connect(self.refresh)
        session.changed.connect(lambda _: self.refresh())
        network.ticked.connect(self.tick)
        network.armed_changed.connect(self.tick)
        self.refresh()

    # ---- what is picked

    @property
    def selected_keys(self) -> list[str]:
        s = self._session
        return (
            [k for k in s.selection.ids if k in s.rig.fixtures or k in s.rig.elements]
            if s.selection.kind == "item"
            else []
        )

    def _offer_beginnings(self) -> None:
        """Buttons to begin with: groups, what was selected before, universes with something in them."""
        s = self._session
        groups = [(g.name, tuple(g.members)) for g in s.rig.groups.values()][:8]
        before = list(dict.fromkeys(x.ids for x in reversed(s.selected_before) if x.kind == "item" and len(x.ids) > 1))[
            :4
        ]
        here = {*s.rig.fixtures, *s.rig.elements}
        recent = [(self._names_of_universes(ids), ids) for ids in before if set(ids) <= here]
        order = [u for u in universes_in_order(s.rig) if s.index.items_on(u)][:8]
        universes = [(f"{s.rig.universes[u].number} {s.rig.universes[u].name}".strip(), u) for u in order]
        state = (groups, recent, universes)
        if state == self._offered:
            return
        self._offered = state
        clear_layout(self._offers)
        made: list[tuple[str, list[QWidget]]] = [
            ("Groups", [make_button(n, lambda m=m: s.select_items(list(m))) for n, m in groups if m]),
            ("Selected before", [make_button(n, lambda m=m: s.select_items(list(m))) for n, m in recent]),
            ("Universes", [make_button(n, lambda u=u: s.select_items(s.index.items_on(u))) for n, u in universes]),
        ]
        line = 0
        for words, buttons in made:
            if buttons:
                self._offers.addWidget(make_label(words, 13, quiet=True), line, 0)
            for n, b in enumerate(buttons):
                self._offers.addWidget(b, line + n // 4, 1 + n % 4)
            line += -(-len(buttons) // 4)

    def _borrow_universes(self, typed: str) -> object:
        s = self._session
        self._network.output.borrow_universes(choose_borrowed(s.rig, typed))
        self.borrowed.set_value(say_borrowed(s.rig, self._network.output.borrowed))
        return True

    def _names_of_universes(self, ids: tuple[str, ...]) -> str:
        rig = self._session.rig
        names = ", ".join(name_of_item(rig, k) for k in ids[:3])
        return f"{names}{f' and {len(ids) - 3} more' if len(ids) > 3 else ''}"

    def _take_picked(self, typed: str) -> object:
        s = self._session
        t = typed.strip()
        if not t:
            s.select_items([])
            return True
        try:
            picked = pick_items(s.index, t)
        except Refused:
            if re.search(r"[,;–-]", t):
                raise
            found = find_target(s.index, t)  # also what the jump box knows: a running number, a slot within an item
            picked = PickedItems((found.key,)) if found.key else PickedItems(slots=((found.universe, found.address),))
        if picked.slots and not (picked.items or picked.pixels):
            self._pick_slots(picked)
            return True
        self.pixels = dict(picked.pixels)
        self._typed_pixels = t if picked.pixels else ""
        keys = list(dict.fromkeys([*picked.items, *self.pixels]))
        self._kept_for = tuple(keys)
        s.select_items(keys)
        self.refresh()
        return True

    def _pick_slots(self, picked: PickedItems) -> None:
        """Slots go to the line below; a single one with something patched there picks that too."""
        s = self._session
        here = s.index.spans_at_slot(*picked.slots[0]) if len(picked.slots) == 1 else ()
        self.raw_place.set_value(_say_slots(s.rig, picked))
        self.raw_place.commit()
        if here and here[0].item_of_span:
            s.select_items([here[0].item_of_span], max(0, here[0].break_no))
            self._show_pick()
        elif len(picked.slots) == 1:
            number = s.rig.universes[picked.slots[0][0]].number
            where = say_place(number, picked.slots[0][1])
            raise Refused(f"Nothing is patched at {where}; it stands under Slot instead.")

    def homes(self) -> Sequence[QWidget]:
        return (self.bank, self.pick)

    def forget(self) -> None:
        """Another rig: nothing picked or typed for the former one stays."""
        self._network.output.borrowed = frozenset()
        self.cycles.stop_cycle()
        self.wire.forget()
        self.panel.forget_answers()
        self.pixels, self._typed_pixels = {}, ""
        for line in (self.pick, self.raw_place, self.raw_level, self.borrowed):
            line.set_value("")
            line.revert()
        self._raw_here = self._raw_value = ""
        self._offered = None
        self._raw_words.setText("")
        self.refresh()

    def _show_pick(self) -> None:
        """The picked numbers as one would type them."""
        s = self._session
        if self._typed_pixels:
            self.pick.set_value(self._typed_pixels)
            return
        numbers = sorted(s.rig.fixtures[k].number for k in self.selected_keys if k in s.rig.fixtures)
        words = [say_numbers(numbers)] if numbers else []
        words += [s.rig.elements[k].name for k in self.selected_keys if k in s.rig.elements]
        self.pick.set_value(", ".join(words))

    def _take_picked_pixel(self) -> None:
        """A pixel that was picked in another station is what is driven here, not the whole string."""
        s = self._session
        now = (s.selection.ids, s.selection.pixel if s.selection.kind == "item" else 0)
        if now == self._pixel_seen:
            return
        before, self._pixel_seen = self._pixel_seen, now
        if now[1] and len(now[0]) == 1:
            self.pixels = {now[0][0]: (now[1],)}
            self._typed_pixels = f"{name_of_item(s.rig, now[0][0])}/{now[1]}"
            self._kept_for = now[0]
        elif before[1] and before[0] == now[0]:
            self.pixels, self._typed_pixels = {}, ""

    def refresh(self) -> None:
        s = self._session
        keys = self.selected_keys
        if self.pixels and s.selection.ids != self._kept_for:
            self.pixels, self._typed_pixels = {}, ""  # something else was picked elsewhere
        self._take_picked_pixel()
        self._show_pick()
        lending = bool(lent_universes(s.rig))
        self.borrowed.setVisible(lending)
        self._borrowed_words.setVisible(lending)
        self.borrowed.set_value(say_borrowed(s.rig, self._network.output.borrowed))
        kinds = dict.fromkeys(
            (p.name if (p := profile_of(s.rig, s.rig.fixtures[k])) else "?") if k in s.rig.fixtures else "element"
            for k in keys
        )
        self._what.setText(
            f"{say_count(len(keys), 'item')} · {', '.join(list(kinds)[:2])}{' …' if len(kinds) > 2 else ''}"
            if keys
            else ""
        )
        self._faders.setVisible(bool(keys))
        self._nothing.setVisible(not keys)
        if not keys:
            self._offer_beginnings()
        for b in (self.light_up, self.zero, self.reveal, self.colour, self.spread):
            b.setEnabled(bool(keys))
        self.only.setEnabled(bool(keys) or bool(self._network.meant.levels.only))
        self.bank.show_items(keys, self.pixels)
        self.cycles.show_step()
        self._show_slots()
        self.tick()

    def _show_slots(self) -> None:
        s = self._session
        spans = s.index.spans_of(self.selected_keys[0]) if self.selected_keys else ()
        break_no = s.selection.break_no
        self._span = next((x for x in spans if x.break_no == break_no), spans[0] if spans else None)
        if self._span is None:
            who = name_of_item(s.rig, self.selected_keys[0]) if self.selected_keys else ""
            self._arrived_title.setText(f"Meant and arrived, {who}: not patched" if who else "Meant and arrived")
            self.arrived.show_slots(1, [])
            return
        span = self._span
        words = [(first - 1 - span.offset, wide, short) for first, wide, short, _, _ in channel_words(s.index, span)][
            :256
        ]
        self._arrived_title.setText(
            f"Meant and arrived, {s.index.word_for_taker(span.key)} from "
            f"{say_place(s.rig.universes[span.universe].number, span.first)}"
        )
        self.arrived.show_slots(span.first, words)

    # ---- acting

    def _follow_fader(self) -> None:
        self._network.meant.note_touched()
        self.tick()

    def _light_selection(self) -> None:
        self._hold_for_picked(light_up)

    def _reveal_selection(self) -> None:
        self._hold_for_picked(reveal_item)

    def _hold_for_picked(self, wanted: Callable[[Index, str], dict[str, float]]) -> None:
        """Hold what makes each picked item visible. Where single pixels are picked, theirs alone are held, and what
        the whole lamp needs besides: its dimmer, its shutter."""
        index, levels = self._session.index, self._network.meant.levels
        for key in self.selected_keys:
            pixels = self.pixels.get(key, ())
            single = pixel_functions(index, key) if pixels else ()
            for function, level in wanted(index, key).items():
                if levels.move_from(index, [key], function):
                    self._heads_move()
                if function in single:
                    levels.hold_pixels(key, pixels, function, level)
                else:
                    levels.hold_function([key], function, level)
        self._follow_levels()

    def _heads_move(self) -> None:
        """The first movement of a run is said: somebody may stand beside it."""
        if self._network.output.is_armed and not self._warned:
            self._warned = True
            self._session.say("Heads move now, slowly. Keep clear of them.", "warning")

    def _only_these(self) -> None:
        on = self.only.isChecked() and bool(self.selected_keys)
        self._network.meant.levels.only_these(self.selected_keys if on else ())
        self._follow_levels()

    def _hold_colour(self) -> None:
        HoldColour(self._session, self._network, self.selected_keys, self, self._follow_levels).exec()

    def _spread_over_selection(self) -> None:
        Spread(self._session, self._network, self.selected_keys, self.bank.faders, self, self._follow_levels).exec()

    def _held_list(self) -> None:
        HeldList(self._session, self._network, self, self._follow_levels).exec()

    def _ask_value(self, n: int) -> None:
        fader = self.bank.faders[n]
        words = f"{fader.word[:1].upper()}{fader.word[1:]}"

        def take_typed(typed: str) -> None:
            self.bank.hold_fader(
                n, read_function_value(self._session.index, self.selected_keys[0], fader.function, typed)
            )

        question = "A value, a percentage or degrees: 128, 50 %, 45°."
        ask_line(self, words, question, take_typed, go="Hold")

    def _master_typed(self, typed: str) -> object:
        m = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*%?\s*", typed)
        if not m or not 0 <= float(m[1].replace(",", ".")) <= 100:
            raise Refused("The master is 0 to 100 %.")
        self._network.meant.levels.master = float(m[1].replace(",", ".")) / 100
        self.master.set_value(f"{100 * self._network.meant.levels.master:g} %")
        self._follow_levels()
        return True

    def show_page(self, name: str) -> None:
        """Drive, Test, Wire or Tested."""
        self.page = name
        for key, b in self.pages.items():
            b.setChecked(key == name)
        self.stack.setCurrentIndex(list(PAGES).index(name))
        self.tick()
        if name == "Wire":
            self.wire.tick(fresh=True)

    def _hold_at_zero(self) -> None:
        levels, index = self._network.meant.levels, self._session.index
        levels.hold_at_zero(index, [k for k in self.selected_keys if k not in self.pixels])
        for key, pixels in self.pixels.items():
            for function in pixel_functions(index, key):
                levels.hold_pixels(key, pixels, function, 0.0)
        self._follow_levels()

    def release_all(self) -> None:
        self._network.meant.levels.release_items()
        self._follow_levels()

    def toggle_blackout(self) -> None:
        self._network.output.toggle_blackout()

    def _follow_levels(self) -> None:
        self.bank.update()
        self._follow_fader()
        self.panel.refresh()

    def _raw_place_typed(self, typed: str) -> None:
        if typed.strip():
            index = self._session.index
            slots = pick_items(index, typed).slots
            if not slots:
                raise Refused(f"“{typed.strip()}” is no slot. Write 3.150, or 3.150–160.")
            here = index.spans_at_slot(*slots[0])
            first = " and ".join(
                f"{index.word_for_taker(x.key)} · {slot_word(index, x, slots[0][1])}" for x in here[:2]
            )
            self._raw_here = (f"{len(slots)} slots, the first: " if len(slots) > 1 else "") + (
                first or "nothing patched there"
            )
        else:
            self._raw_here = ""
        self._raw_words.setText(" · ".join(w for w in (self._raw_here, self._raw_value) if w))

    def _raw_level_typed(self, typed: str) -> None:
        n = read_typed_level(typed) if typed.strip() else None
        self._raw_value = f"{n} = {100 * n / 255:.0f} % = 0x{n:02X}" if n is not None else ""
        self._raw_words.setText(" · ".join(w for w in (self._raw_here, self._raw_value) if w))

    def _hold_raw(self) -> None:
        if not (self.raw_place.commit() and self.raw_level.commit()):
            return
        place, level = self.raw_place.value.strip(), self.raw_level.value.strip()
        if not place or not level:
            self._session.say("Say which slot and at what level, such as 3.150 at 255.", "warning")
            return
        for uid, address in pick_items(self._session.index, place).slots:
            self._network.meant.levels.hold_slot(uid, address, read_typed_level(level))
        self._follow_levels()

    # ---- looking

    def tick(self) -> None:
        levels = self._network.meant.levels
        self.blackout.setChecked(levels.blackout)
        self.only.setChecked(bool(levels.only))
        self.only.setText(f"Only {len(levels.only)}" if levels.only else "Only these")
        count = len(levels.held) + len(levels.raw) + sum(map(len, levels.pixels.values()))
        self.held.setText(f"Held {count}…" if count else "Held…")
        if not self._network.output.is_armed:
            self._warned = False
        if not self.isVisible():
            return
        if self.page == "Wire":
            self.wire.tick()
        if not self.selected_keys or self.page != "Drive":
            return
        s, network, span = self._session, self._network, self._span
        if span is None:
            self._show_verdict("unknown", "It has no address, so there is nothing to compare.")
            return
        frame = network.meant.meant_frame(span.universe)
        cut = slice(span.first - 1, min(span.last, 512))
        meant = frame[cut].tobytes() if frame is not None else b""
        if meant != self._meant:
            self._meant, self._meant_at = meant, time.monotonic()
        whole = network.hearing.on_wire(span.universe)
        on_wire = whole[cut] if whole is not None else None
        port = port_for(s.rig, span.universe, span.item_of_span)
        given = network.hearing.port_gives(*port) if port else None
        gives = given[cut] if given is not None else None
        name = f"port {port[1]} gives" if port else "port gives"
        loose = time.monotonic() - self._meant_at < SETTLE or not network.output.is_armed
        self.arrived.set_levels((meant, on_wire, gives), ("meant", "on the wire", name), loose)
        going = network.output.sending
        words = "nothing leaves" if going.is_stuck and not going.leaving else "live"
        self._arrived_note.setText(words if network.output.is_armed else "not armed: nothing is sent")
        self._judge_port(port, on_wire, gives)

    def _judge_port(self, port: tuple[str, str] | None, on_wire: bytes | None, gives: bytes | None) -> None:
        """One sentence that names the cause."""
        s, network, span = self._session, self._network, self._span
        assert span is not None
        if not network.output.is_armed:
            self._show_verdict(
                "unknown", "Not armed: what you hold stands under “meant” only. Arm in the head to send it."
            )
            return
        trouble, why = network.output.sending.trouble, self._why_stuck(span.universe)
        if trouble or why:
            words = f"{trouble}." if trouble else f"What you mean does not leave this computer: {why}."
            self._show_verdict("differs", f"{words[:1].upper()}{words[1:]}")
            return
        off_wire, off_port = self.arrived.differing_slots(1), self.arrived.differing_slots(2)
        if off_wire:
            rivals = [
                x
                for x in s.observed.sources
                if not x.own
                and any(
                    f.universe == span.universe and (f.protocol, f.wire) == (x.protocol, x.wire)
                    for f in s.rig.feeds.values()
                )
            ]
            who = f" {rivals[0].name or rivals[0].ip} sends it too, at priority {rivals[0].priority}." if rivals else ""
            self._show_verdict(
                "differs", f"Other levels than meant are on the wire on {say_count(len(off_wire), 'slot')}.{who}"
            )
        elif off_port and port:
            device = s.rig.devices[port[0]].name
            wrong = next(
                (f for f in s.report.findings if f.code == "WIRE-01" and f.goes_to == Goto("port", *port)),
                None,
            )
            why = f" {wrong.title}." if wrong else " Another source, a limit of the port or its merge mode may be why."
            self._show_verdict(
                "differs",
                f"Port {port[1]} of {device} puts out other levels than were sent on "
                f"{say_count(len(off_port), 'slot')}.{why}",
            )
        elif gives is not None and self.arrived.loose:
            self._show_verdict("unknown", "Sent just now; looking whether it arrives.")
        elif gives is not None:
            words = (
                "What you mean is on the wire and at the port."
                if on_wire is not None
                else "What you mean is what the port puts out; unicast cannot be overheard here."
            )
            self._show_verdict("matches", words)
        elif on_wire is not None:
            self._show_verdict(
                "unknown",
                "It is on the wire. What the port puts out is not known: the device does not say."
                if port
                else "It is on the wire. No port of the rig is planned to give it out.",
            )
        else:
            self._show_verdict(
                "unknown",
                "Nothing of it is heard on the wire: no feed from the Bench, or unicast that cannot be overheard here.",
            )

    def _why_stuck(self, universe: str) -> str:
        """Why none of the feeds of a universe leaves; empty when one of them does."""
        s = self._session
        feeds = [fid for fid, f in s.rig.feeds.items() if f.universe == universe]
        whys = [s.observed.stuck[fid] for fid in feeds if fid in s.observed.stuck]
        return whys[0] if whys and len(whys) == len(feeds) else ""

    def _show_verdict(self, mark: str, words: str) -> None:
        if self._mark.mark != mark:
            self._mark.set_mark(mark)
        if self._sentence.text() != words:
            self._sentence.setText(words)

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.tick()

    def restyle(self) -> None:
        self._title.setVisible(not THEME.step)  # larger text needs the room; the rail says it too
        self.panel.restyle()
        self.refresh()
        self.panel.refresh()


def _say_slots(rig: Rig, picked: PickedItems) -> str:
    """Slots the way they are typed: `3.150–160`."""
    found: list[str] = []
    for uid, address in picked.slots:
        number = rig.universes[uid].number
        if found and found[-1].startswith(f"{number}.") and int(re.split(r"[.–]", found[-1])[-1]) == address - 1:
            found[-1] = f"{found[-1].split('–')[0]}–{address}"
        else:
            found.append(f"{number}.{address:03d}")
    return ", ".join(found)


def read_typed_level(typed: str) -> int:
    """`255`, `50 %` → a level of 0 to 255."""
    m = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(%?)\s*", typed)
    if not m:
        raise Refused(f"“{typed.strip()}” is no level. Write 0 to 255, or a percentage such as 50 %.")
    value = round(float(m[1]) * 255 / 100) if m[2] else float(m[1])
    if value > 255 or value != int(value):
        raise Refused(f"{typed.strip()} is out of reach: a level is a whole number from 0 to 255, or 0 to 100 %.")
    return int(value)
