"""The panel of the Patch station: what is selected, by its kind; or a form that stays open meanwhile."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QApplication, QVBoxLayout, QWidget

from welvo.app.jobs.network import Network
from welvo.app.patch.copy_form import CopyForm
from welvo.app.patch.item_form import Acts, show_item, show_many, show_more
from welvo.app.patch.laying_form import LayForm, ModeForm, PackForm, Proposal
from welvo.app.patch.sender_form import show_sender, show_use
from welvo.app.patch.size_form import SizeForm
from welvo.app.patch.slot_form import show_segment_on_tape, show_slot
from welvo.app.patch.universe_form import show_universe
from welvo.app.session import Session
from welvo.app.widgets.fields import Field, commit_focus
from welvo.app.widgets.painting import clear_layout, drop_widget, focus_again, make_label
from welvo.app.widgets.panels import FormPanel, Ways, finding_card
from welvo.app.widgets.theme import THEME
from welvo.checks.registry import Finding
from welvo.rig.lookup import feeds_of, mode_of
from welvo.rig.refs import Goto
from welvo.survey.place_ways import place_ways
from welvo.survey.target import Target, of_slot

MOST_SHEETS = 8
"""Kinds of items whose fields are kept, so that selecting one again costs nothing but new values."""


class KindForm:
    """The fields for one kind of item, kept while others are looked at."""

    def __init__(self) -> None:
        self.widget = QWidget()
        self.body = QVBoxLayout(self.widget)
        self.body.setContentsMargins(16, 12, 12, 16)
        self.body.setSpacing(8)
        self.refreshers: list[Callable[[], None]] = []
        self.one: list[str] = []
        """The id of the one item that its fields speak of."""
        self.address: Field | None = None
        self.live = QVBoxLayout()


class PatchPanel(FormPanel):
    """What is selected, or a form that stays open over changes of the selection."""

    tries = True

    wanted = Signal()

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__(session, network)
        self._built_for: object = None
        inner = QWidget()
        inner.setObjectName("panelInner")
        self._holder = QVBoxLayout(inner)
        """All sheets, of which one is shown. They stay in the window: taken out, each would be styled anew."""
        self._holder.setContentsMargins(0, 0, 0, 0)
        self.setWidget(inner)
        self._common = KindForm()
        """What everything but a single item is shown on."""
        self._sheets: dict[object, KindForm] = {}
        self._sheet = self._common
        self.address: Field | None = None
        self.form: Proposal | None = None
        self._live = QVBoxLayout()
        self._card_state: object = None
        self._acts = Acts(self.copy_items, self.what_if, self.lay_out)
        session.selection_changed.connect(self._follow_selection)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self._cards_if_changed)
        session.replaced.connect(self._forget)
        network.armed_changed.connect(self.refresh)
        self.build_form()

    # ---- forms

    def open_form(self, form: Proposal) -> None:
        """Show a form in place of what is selected."""
        self.close_form()
        self.form = form
        self.wanted.emit()
        form.closed.connect(self.close_form)
        self.build_form()
        form.update_preview()

    def close_form(self) -> None:
        if self.form is not None:
            self.form = None
            self.session.show_foreseen(None)
            self.build_form()

    def lay_out(self) -> None:
        """Lay out what is selected."""
        keys = list(self.session.selection.ids) if self.session.selection.kind == "item" else []
        if not keys:
            self.session.say("Select what to lay out first: rows of the list, or blocks on the tapes.", "warning")
            return
        self.open_form(LayForm(self.session, keys))

    def pack_universe(self, universe: str = "") -> None:
        """Pack the universe that is selected, or that of the first selected item."""
        s = self.session.selection
        spans = self.session.index.spans_of(s.first_selected) if s.kind == "item" else ()
        uid = universe or (
            s.first_selected if s.kind == "universe" else spans[0].universe if spans else s.slot[0] if s.slot else ""
        )
        if uid in self.session.rig.universes:
            self.open_form(PackForm(self.session, uid))
        else:
            self.session.say("Select a universe, or something in it, to pack it.", "warning")

    def what_if(self, keys: list[str], profile: str, mode: str) -> None:
        """Another mode for fixtures: shown first where anything would move, done at once where nothing does."""
        rig = self.session.rig
        if all(rig.fixtures[k].profile == profile and rig.fixtures[k].mode == mode for k in keys):
            return
        form = ModeForm(self.session, keys, profile, mode)
        if form.quiet:
            form.do()
        else:
            self.open_form(form)

    def other_size(self, uid: str, size: int) -> None:
        """Another size for a universe: shown first where anything would move, done at once where nothing does."""
        form = SizeForm(self.session, uid, size)
        if form.quiet:
            form.do()
        else:
            self.open_form(form)

    def copy_items(self, keys: list[str]) -> None:
        """Copies of items: how many, and where they would stand, is asked and shown first."""
        self.open_form(CopyForm(self.session, keys))

    def _follow_selection(self) -> None:
        s = self.session.selection
        if isinstance(self.form, LayForm):
            if s.kind == "item" and s.ids:
                self.form.choose_items(list(s.ids))
            elif s.kind == "slot" and s.slot:
                self.form.from_here(*s.slot)
            else:
                self.close_form()
            return
        if self.form is not None:
            self.close_form()
            return
        if not self._speak_of_another():
            self.build_form()

    def _speak_of_another(self) -> bool:
        """Let fields that are there speak of another item of their kind; gives False when there are none."""
        s = self.session.selection
        if s.kind != "item" or len(s.ids) != 1:
            return False
        kind = self._kind_of(s.first_selected)
        sheet = self._sheets.get(kind)
        if sheet is None or not commit_focus() or any(f.pending for f in self.findChildren(Field)):
            return False  # what is half typed, or was refused, belongs to the one before
        self._sheets[kind] = self._sheets.pop(kind)
        self._show_sheet(sheet)
        sheet.one[0] = s.first_selected
        self._built_for = self._shape_of_form()
        self._card_state = None
        self.refresh()
        return True

    def _show_sheet(self, sheet: KindForm) -> None:
        """Put other fields into the panel. The focus goes to the field of the same name, if there is such."""
        self._sheet = sheet
        self.body, self.refreshers, self.address, self._live = sheet.body, sheet.refreshers, sheet.address, sheet.live
        if not sheet.widget.isHidden() and self._holder.indexOf(sheet.widget) >= 0:
            return
        focus = QApplication.focusWidget()
        inside = focus is not None and self.isAncestorOf(focus)
        name, kind = (focus.accessibleName(), type(focus)) if inside and focus else ("", QWidget)
        if inside and focus:
            focus.clearFocus()
        for n in range(self._holder.count()):
            item = self._holder.itemAt(n)
            other = item.widget() if item else None
            if other is not None and other is not sheet.widget:
                other.hide()
        if self._holder.indexOf(sheet.widget) < 0:
            self._holder.addWidget(sheet.widget)
        sheet.widget.show()
        if inside:
            QTimer.singleShot(0, self, lambda: focus_again(self, name, kind))

    def _sheet_for(self, kind: object) -> KindForm:
        """The kept fields of a kind, or a new sheet for them; the one not looked at for longest goes."""
        sheet = self._sheets.pop(kind, None) or KindForm()
        self._sheets[kind] = sheet
        others = [k for k in self._sheets if self._sheets[k] is not self._sheet]
        for old in others[: max(0, len(self._sheets) - MOST_SHEETS)]:
            drop_widget(self._sheets.pop(old).widget)
        return sheet

    def _forget(self) -> None:
        """Another rig: nothing that was built for the one before speaks of anything."""
        self._show_sheet(self._common)
        for sheet in self._sheets.values():
            drop_widget(sheet.widget)
        self._sheets.clear()
        self.close_form()

    def _kind_of(self, key: str) -> object:
        """What decides which fields there are for an item."""
        rig = self.session.rig
        look = (THEME.name, THEME.step, rig.columns)
        f, e = rig.fixtures.get(key), rig.elements.get(key)
        if f is None:
            return ("element", e.kind == "block" if e else None, look)
        mode, profile = mode_of(rig, f), rig.profiles.get(f.profile)
        by = profile.address.by if profile and profile.address else ""
        return ("fixture", tuple(b.name for b in mode.breaks) if mode else (), by, look)

    # ---- building

    def build_form(self) -> None:
        s = self.session.selection
        single = s.kind == "item" and len(s.ids) == 1 and self.form is None
        self._show_sheet(self._sheet_for(self._kind_of(s.first_selected)) if single else self._common)
        clear_layout(self.body)
        self.refreshers.clear()
        self.address = None
        self._live = QVBoxLayout()
        self._live.setSpacing(8)
        self._card_state = None
        if self.form is not None:
            self.body.addWidget(self.form)
            self.body.addStretch(1)
            self._built_for = self._shape_of_form()
            return
        kind = s.kind
        if single:
            self._sheet.one = [s.first_selected]
            self.address = show_item(self, self._sheet.one, self._acts)
        elif kind == "item":
            self.address = show_many(self, list(s.ids), self._acts)
        elif kind == "universe":
            show_universe(self, s.first_selected, self.pack_universe, self.other_size)
        elif kind == "feed":
            show_universe(self, self.session.rig.feeds[s.first_selected].universe, self.pack_universe, self.other_size)
        elif kind == "slot" and s.slot:
            show_slot(self, s.slot)
        elif kind == "segment" and s.on and s.on.place >= 0:
            show_segment_on_tape(self, s.on)
        elif kind == "sender":
            show_sender(self, s.first_selected)
        elif kind == "use":
            show_use(self, s.first_selected)
        else:
            self.nothing()
            self._built_for = self._shape_of_form()
            return
        self._sheet.address, self._sheet.live = self.address, self._live
        self.body.addLayout(self._live)
        if single:
            show_more(self, self._sheet.one)
        self.body.addStretch(1)
        self._built_for = self._shape_of_form()
        self.refresh()

    def _shape_of_form(self) -> object:
        """What the form depends on: when it is another, the fields themselves must be others."""
        s, rig = self.session.selection, self.session.rig
        look = (THEME.name, THEME.step, rig.columns)
        if self.form is not None:
            return self.form
        if s.kind == "item" and len(s.ids) == 1:
            return s, self._kind_of(s.first_selected)
        if s.kind == "segment" and s.on:
            return s, self.session.index.piece_of_taker(s.on), self.session.index.spans_of(s.on), look
        if s.kind in ("universe", "feed"):
            uid = s.first_selected if s.kind == "universe" else rig.feeds[s.first_selected].universe
            return s, tuple((f, rig.feeds[f].protocol) for f in feeds_of(rig, uid)), look
        return s, look

    def refresh(self) -> None:
        if self.form is not None:
            self.form.update_preview()
            return
        if self._shape_of_form() != self._built_for:
            self.build_form()
            return
        for r in self.refreshers:
            r()
        self._cards_if_changed()

    def _cards_if_changed(self) -> None:
        s = self.session.selection
        if s.kind not in ("item", "universe", "feed", "slot", "segment") or self.form is not None:
            return
        cards = self._findings_shown()
        target = self._target_shown()
        ways = place_ways(self.session.index, target) if target and (target.key or target.universe) else ()
        state = (cards, ways, [[(x.label, x.changes) for x in f.possible_fixes[:5]] for f in cards[:3]])
        if state == self._card_state:
            return
        said = s.kind in ("item", "slot", "segment") and ways and len(s.ids) < 2
        title = "First slot, every way it is said" if not s.slot and not s.pixel else "This slot, every way it is said"
        self._card_state = state
        item = self._live.itemAt(0)
        table = item.widget() if item else None
        if not cards and said and isinstance(table, Ways) and self._live.count() == 1:
            table.say(title, ways)
            return
        clear_layout(self._live)
        for f in cards[:3]:
            self._live.addWidget(finding_card(self.session, self.network, f))
        if len(cards) > 3:
            self._live.addWidget(make_label(f"and {len(cards) - 3} more findings", 11, quiet=True))
        if said:
            self._live.addWidget(Ways(title, ways))

    def _target_shown(self) -> Target | None:
        s = self.session.selection
        if s.kind == "slot" and s.slot and s.slot[0] in self.session.rig.universes:
            return of_slot(self.session.index, *s.slot)
        return self.session.target_of_path()

    def _findings_shown(self) -> list[Finding]:
        s = self.session.selection
        if s.kind == "item":
            wanted = set(s.ids)
            return [
                f
                for f in self.session.report.findings
                if wanted & set(f.items) and f.code not in ("WIRE-01", "FEED-02")
            ] + [f for f in self.session.report.findings if wanted & set(f.items) and f.code == "FEED-02"]
        uid = (
            s.first_selected
            if s.kind == "universe"
            else self.session.rig.feeds[s.first_selected].universe
            if s.kind == "feed"
            else ""
        )
        feeds = set(feeds_of(self.session.rig, uid)) if uid else set()
        return [
            f
            for f in self.session.report.findings
            if f.goes_to == Goto("universe", uid) or (f.goes_to.kind == "feed" and f.goes_to.id in feeds)
        ]
