"""The Patch station: tapes above, the list below."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import (
    QApplication,
    QMenu,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QWidget,
)

from welvo.app.commands import PATCH_PAGES, ZOOMS
from welvo.app.jobs.network import Network
from welvo.app.patch.add_fixtures import AddFixtures
from welvo.app.patch.item_list import ItemList
from welvo.app.patch.laying_form import ghosts_of
from welvo.app.patch.panel import PatchPanel
from welvo.app.patch.slot_form import next_gap
from welvo.app.patch.tapes import Tapes
from welvo.app.session import Selection, Session
from welvo.app.widgets.empty import EmptyPage
from welvo.app.widgets.fields import Choice, CommandLine, LineField, set_help
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.painting import (
    RIGHT,
    column_of_widgets,
    draw_frame,
    draw_text_line,
    make_button,
    make_label,
    menu_entry,
    touching_widgets,
)
from welvo.app.widgets.painting import popup_menu as popup_menu
from welvo.app.widgets.start import Start
from welvo.app.widgets.station import Station
from welvo.checks.foresee import Foreseen
from welvo.patch.removing import remove_items
from welvo.patch.steps import footprint_of
from welvo.rig.document import Change
from welvo.rig.edits import add_element, add_universe, lock_items
from welvo.rig.lookup import universes_in_order
from welvo.rig.notation import say_count
from welvo.rig.patched import Element, Place

if TYPE_CHECKING:
    from welvo.app.patch.pages import CapacityPage, SendersPage, WiresPage
    from welvo.app.patch.positions import PositionsPage


class PatchStation(Station):
    name = "Patch"
    panel: PatchPanel
    splitter: QSplitter
    start: Start

    name = "Patch"

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session = session
        self.panel = PatchPanel(session, network)
        self.tapes = Tapes(session)
        self.list = ItemList(session)
        self.add = make_button(
            "Add…", self.add_fixtures, "Fixtures: how many of what, and where the first one starts.   Ctrl+Shift+I"
        )
        self.lay = make_button(
            "Lay out…",
            self.panel.lay_out,
            "Gives what is selected addresses by rules, shown on the tapes first.   Ctrl+Shift+L",
        )
        self.more = make_button("More", self._pop_more, "Universes, elements, packing, pasting, copying.")
        self._pages: dict[str, QPushButton] = {}
        pages: list[QWidget | int | None] = []
        for name, help_ in PATCH_PAGES.items():
            b = make_button(name, lambda name=name: self.show_page(name), help_)
            b.setCheckable(True)
            b.setProperty("segment", True)
            self._pages[name] = b
            pages.append(b)
        self._zoom = {}
        zooms: list[QWidget | int | None] = []
        for n, name in enumerate(ZOOMS):
            b = make_button(name, lambda name=name: self.tapes.set_level(name), f"Ctrl+{n + 1}")
            b.setCheckable(True)
            b.setProperty("segment", True)
            self._zoom[name] = b
            zooms.append(b)
        self.tapes.zoomed.connect(self._follow_zoom)
        self.tapes.edit_address.connect(self.edit_address)
        self.filter = LineField()
        self.filter.setPlaceholderText("Filter")
        keep_width(self.filter, 130)
        set_help(
            self.filter, "Shows only rows of the list with this word. Hides the others; nothing is changed.   Ctrl+F"
        )
        self.filter.textChanged.connect(self.list.items.set_filter)
        self._zooms = touching_widgets(zooms)
        bar = flow_of_widgets(touching_widgets(pages), 4, self.add, self.lay, self.more, None, self._zooms, spacing=6)
        bar.setContentsMargins(16, 8, 16, 8)
        self.group = Choice(
            "Selects the items of a group. A group keeps its items through renumbering and moving.",
            self._select_group,
        )
        self.group.setAccessibleName("Group")
        keep_width(self.group, 130)
        self.wish = CommandLine(
            "Says how many of what and where: 12 x Bar 9 at 1.001. Adds them at once; undo takes them away.",
            self._take_wished,
        )
        self.quick = CommandLine(
            "Adds at once how many of what, and where: 12 x Bar 9 at 1.001; 6 x RGBW at 3.1 +24. Names of the rig's "
            "profiles or of the library's generics. Undo takes them away.",
            self._wished_quick,
        )
        self.quick.setAccessibleName("Add")
        keep_width(self.quick, 230)
        for field in (self.wish, self.quick):
            field.setPlaceholderText("12 x Bar 9 at 1.001")
            field.try_apply = self._take_wished
        keep_width(self.wish, 340)
        self._tapes_or_empty = QStackedWidget()
        self._tapes_or_empty.addWidget(self.tapes)
        self.start = Start()
        self._empty = _EmptyTapes(
            "No fixtures yet",
            (
                "A fixture is one lamp of a profile, at an address.",
                "Say how many of what, and where the first one starts.",
            ),
            self.wish,
            make_button("Add", self.wish.commit, primary=True),
            hint=True,
            below=self.start,
        )
        self._tapes_or_empty.addWidget(self._empty)
        split = self.splitter = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(self._tapes_or_empty)
        below = QWidget()
        under = column_of_widgets(spacing=0)
        strip = flow_of_widgets(
            make_label("List", 13, True),
            self.filter,
            self.group,
            None,
            make_label("Add", 11, quiet=True),
            self.quick,
        )
        strip.setContentsMargins(16, 4, 16, 4)
        under.addLayout(strip)
        under.addWidget(self.list, 1)
        below.setLayout(under)
        self._below = below
        split.addWidget(below)
        split.setStretchFactor(0, 64)
        split.setStretchFactor(1, 36)
        split.setSizes([400, 226])
        split.setChildrenCollapsible(False)
        below.setMinimumHeight(216)
        layout = column_of_widgets(spacing=0)
        layout.addLayout(bar)
        self.stack = QStackedWidget()
        self._tapes_page = split
        self.stack.addWidget(split)
        layout.addWidget(self.stack, 1)
        self.setLayout(layout)
        self.page = "Tapes"
        self.show_page("Tapes")
        session.foreseen.connect(self._show_foreseen)
        self.list.paste.connect(self.paste_clipboard)
        self.list.acts = self.item_menu
        self.tapes.menu_wanted.connect(lambda at: self.item_menu().popup(at))
        session.changed.connect(self._follow_change)
        self._follow_zoom(self.tapes.level_name)
        self._fill_which()
        self._fill_groups()

    def _show_foreseen(self, found: Foreseen | None) -> None:
        """Draw hollow on the tapes where everything would stand that an edit moves, before it is done."""
        self.tapes.show_ghosts(ghosts_of(self._session.rig, found) if found else [])

    # ---- pages and menus

    @cached_property
    def wires_page(self) -> WiresPage:
        from welvo.app.patch.pages import WiresPage

        made = WiresPage(self._session)
        self.stack.addWidget(made)
        return made

    @cached_property
    def positions_page(self) -> PositionsPage:
        from welvo.app.patch.positions import PositionsPage

        made = PositionsPage(self._session)
        self.stack.addWidget(made)
        return made

    @cached_property
    def capacity_page(self) -> CapacityPage:
        from welvo.app.patch.pages import CapacityPage

        made = CapacityPage(self._session)
        self.stack.addWidget(made)
        return made

    @cached_property
    def senders_page(self) -> SendersPage:
        from welvo.app.patch.pages import SendersPage

        made = SendersPage(self._session)
        self.stack.addWidget(made)
        return made

    def show_page(self, name: str) -> None:
        """Tapes and list, or one of the tables."""
        self._session.commit_pending()
        if name != "Tapes":
            self.panel.close_form()
        self.page = name
        self.stack.setCurrentWidget(self._page_named(name))
        for key, b in self._pages.items():
            b.setChecked(key == name)
        self._zooms.setVisible(name == "Tapes")
        self.lay.setEnabled(name == "Tapes")

    def _page_named(self, name: str) -> QWidget:
        """A page by the name on its button; it is built when it is first wanted."""
        match name:
            case "Wires":
                return self.wires_page
            case "Capacity":
                return self.capacity_page
            case "Senders":
                return self.senders_page
            case "Positions":
                return self.positions_page
            case _:
                return self._tapes_page

    def _pop_more(self) -> None:
        self.more_menu().popup(self.more.mapToGlobal(self.more.rect().bottomLeft()))

    def more_menu(self) -> QMenu:
        """What does not fit into the toolbar."""
        menu = popup_menu(self)
        menu_entry(menu, "Add universe", self._add_universe)
        menu_entry(menu, "Add element", self._add_element)
        menu_entry(menu, "Add block of slots", self._add_block)
        menu.addSeparator()
        menu_entry(menu, "Paste from a spreadsheet…", self.paste_clipboard)
        menu_entry(menu, "Copy the selected rows", self.list.copy_rows)
        menu.addSeparator()
        menu_entry(menu, "Pack this universe…", self.panel.pack_universe)
        menu_entry(menu, "Next gap that fits", self.next_gap)
        menu_entry(menu, "Name the rig's own columns…", self.list.name_columns)
        menu.addSeparator()
        every = list(self._session.rig.fixtures)
        menu_entry(menu, "Setting card of all fixtures…", lambda: self.open_card(every))
        return menu

    def item_menu(self) -> QMenu:
        """Acts on what is selected, for the list and the tapes."""
        menu = popup_menu(self)
        s = self._session
        keys = list(s.selection.ids) if s.selection.kind == "item" else []
        if not keys:
            menu_entry(menu, "Add fixtures…", self.add_fixtures)
            menu_entry(menu, "Paste from a spreadsheet…", self.paste_clipboard)
            self.list.add_copying(menu)
            return menu
        menu_entry(menu, "Edit the address", self.edit_address)
        menu_entry(menu, "Lay out…", self.panel.lay_out)
        menu_entry(menu, "Pick up", self.tapes.pick_up)
        menu.addSeparator()
        locked = all(self.list.items.is_locked(k) for k in keys)
        menu_entry(menu, "Unlock" if locked else "Lock", lambda: s.attempt_edit(lock_items, keys, not locked))
        menu_entry(menu, "Duplicate…", lambda: self.panel.copy_items(keys))
        lamps = [k for k in keys if k in s.rig.fixtures]
        if lamps:
            menu_entry(menu, "Setting card…", lambda: self.open_card(lamps))
        self.list.add_copying(menu)
        menu_entry(menu, "Pack this universe…", self.panel.pack_universe)
        menu_entry(menu, "Next gap that fits", self.next_gap)
        menu.addSeparator()
        menu_entry(menu, "Remove", lambda: s.attempt_edit(remove_items, keys))
        return menu

    def open_card(self, fixtures: list[str]) -> None:
        """What to set on lamps by hand, to tick off."""
        from welvo.app.patch.lamp_card import LampCard

        LampCard(self._session, fixtures, self).exec()

    def paste_clipboard(self) -> None:
        """Read the clipboard as a table; what it would do is said first."""
        self._session.commit_pending()
        from welvo.app.patch.paste import PasteRows

        PasteRows(self._session, QApplication.clipboard().text(), self).exec()

    def next_gap(self) -> None:
        """Go to the next free stretch that holds what is selected (or one slot), behind it."""
        s = self._session
        spans = s.index.spans_of(s.selection.first_selected) if s.selection.kind == "item" else ()
        width = (
            spans[0].last - spans[0].first + 1
            if spans
            else footprint_of(s.rig, s.selection.first_selected)
            if s.selection.kind == "item"
            else 1
        )
        at = (spans[0].universe, spans[0].last) if spans else s.selection.slot
        if at is None:
            first = next(iter(universes_in_order(s.rig)), "")
            at = (s.selection.first_selected if s.selection.kind == "universe" else first, 0)
        found = next_gap(s, at, max(1, width)) if at[0] else None
        if found:
            s.change_selection(Selection("slot", (), slot=found))
        else:
            s.say(f"No gap of {say_count(max(1, width), 'slot')} is free behind here.", "warning")

    def duplicate_items(self) -> None:
        if self._session.selection.kind == "item":
            self.panel.copy_items(list(self._session.selection.ids))

    def _select_group(self, gid: str) -> None:
        group = self._session.rig.groups.get(gid)
        self.group.setCurrentIndex(0)
        if group:
            self._session.select_items(
                [m for m in group.members if m in self._session.rig.fixtures or m in self._session.rig.elements]
            )

    def _follow_change(self, change: Change) -> None:
        self._fill_which()
        if change.changed_ids("groups"):
            self._fill_groups()

    def _fill_groups(self) -> None:
        groups = [(gid, f"{g.name} ({len(g.members)})") for gid, g in self._session.rig.groups.items()]
        self.group.set_options([("", "Group"), *groups], "")
        self.group.setEnabled(bool(groups))

    def _fill_which(self) -> None:
        rig = self._session.rig
        empty = not rig.fixtures and not rig.elements
        self._tapes_or_empty.setCurrentIndex(1 if empty else 0)
        self._below.setVisible(not empty)
        names = ", ".join(p.name for p in list(rig.profiles.values())[:4])
        self._empty.hint.setText(
            f"This rig's profiles: {names}, and every generic of the library: RGBW, Moving head, spot, Strip RGB …"
            if names
            else "Every generic of the library can be named: 12 x RGBW at 1.1; 4 x Moving head, spot at 2.1 +24"
        )

    def _follow_zoom(self, name: str) -> None:
        for key, b in self._zoom.items():
            b.setChecked(key == name)

    def homes(self) -> Sequence[QWidget]:
        return (self.tapes, self.wish, self.list)

    def forget(self) -> None:
        """Another rig: nothing typed, filtered or opened for the former one stays."""
        self.tapes.lens = None
        self.panel.close_form()
        self.filter.clear()
        for line in (self.wish, self.quick):
            line.set_value("")
            line.revert()

    def _take_wished(self, text: str) -> object:
        if not text.strip():
            return True
        from welvo.formats.wishes import add_wished  # with the library, which is not loaded before it is wanted

        before = set(self._session.rig.universes)
        made = list(self._session.make_edit(add_wished, text).made)
        fresh = [str(u.number) for k, u in self._session.rig.universes.items() if k not in before]
        more = (
            f" New: {'universe' if len(fresh) == 1 else 'universes'} "
            f"{', '.join(fresh[:8])}{' …' if len(fresh) > 8 else ''}."
            if fresh
            else ""
        )
        self._session.say(f"Added {say_count(len(made), 'fixture')}.{more}")
        self.wish.set_value("")
        self._session.select_items(made)
        return True

    def _wished_quick(self, text: str) -> object:
        done = self._take_wished(text)
        self.quick.set_value("")
        return done

    def add_fixtures(self) -> None:
        self._session.commit_pending()
        if not self._session.rig.profiles:
            self._session.say("There is no profile yet. Make one in Profiles first (Alt+1).", "warning")
            return
        AddFixtures(self._session, self).exec()

    def _add_universe(self) -> None:
        change = self._session.attempt_edit(add_universe)
        if change:
            self._session.change_selection(Selection("universe", change.made))

    def _add_element(self) -> None:
        rig = self._session.rig
        taken = {e.name for e in rig.elements.values()}
        name = next(f"ribbon {n}" for n in range(1, 10_000) if f"ribbon {n}" not in taken)
        change = self._session.make_edit(add_element, Element(name=name, pixels=60, order="RGB", at=Place()))
        self._session.select_items(list(change.made))

    def _add_block(self) -> None:
        """A plain block of slots: something that takes slots and is no lamp."""
        rig = self._session.rig
        taken = {e.name for e in rig.elements.values()}
        name = next(f"block {n}" for n in range(1, 10_000) if f"block {n}" not in taken)
        change = self._session.make_edit(add_element, Element(name=name, kind="block", slots=16, at=Place()))
        self._session.select_items(list(change.made))

    def edit_address(self) -> None:
        if self.panel.address:
            self.panel.address.setFocus()
            self.panel.address.selectAll()

    def restyle(self) -> None:
        self.tapes.restyle()
        self.panel.restyle()
        self.panel.build_form()


class _EmptyTapes(EmptyPage):
    """Where there is nothing yet the tapes stay as empty shapes."""

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        for n in range(3):
            draw_text_line(p, QRectF(16, 12 + 26 * n, 24, 20), str(n + 1), "line", 16, True, RIGHT)
            draw_frame(p, QRectF(272, 12 + 26 * n, self.width() - 296, 20), None, "line", 0, 1, dashed=True)
