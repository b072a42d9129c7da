"""The panel of the Patch station: what is selected, by its kind; or a form that stays open meanwhile."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout

from welvo.app.network import Network
from welvo.app.patch.item_form import Acts, show_item, show_many, show_more
from welvo.app.patch.laying_form import LayForm, ModeForm, PackForm, Proposal
from welvo.app.patch.sender_form import show_sender, show_use
from welvo.app.patch.size_form import SizeForm
from welvo.app.patch.slot_form import show_segment, show_slot
from welvo.app.patch.universe_form import show_universe
from welvo.app.session import Session
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import clear, label
from welvo.app.widgets.panels import FormPanel, Ways, finding_card
from welvo.app.widgets.theme import THEME
from welvo.checks.registry import Finding
from welvo.patch.arrange import copy_items
from welvo.patch.path import Target, of_slot, place_ways
from welvo.rig.lookup import feeds_of, mode_of
from welvo.rig.notation import plural
from welvo.rig.refs import Goto


class PatchPanel(FormPanel):
    """What is selected, or a form that stays open over changes of the selection. Emits `preview` for the tapes."""

    preview = Signal(object)

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__(session, network)
        self._built_for: object = None
        self.address: Field | None = None
        self.form: Proposal | None = None
        self._live = QVBoxLayout()
        self._card_state: object = None
        self._acts = Acts(self.copy, self.what_if, self.lay_out)
        session.selection_changed.connect(self._selected)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self._cards_if_changed)
        session.replaced.connect(self.close_form)
        network.armed_changed.connect(self.refresh)
        self.build()

    # ---- forms

    def open_form(self, form: Proposal) -> None:
        """Show a form in place of what is selected; the tapes show its ghosts."""
        self.close_form()
        self.form = form
        form.ghosts.connect(self.preview)
        form.closed.connect(self.close_form)
        self.build()
        form.update_preview()

    def close_form(self) -> None:
        if self.form is not None:
            self.form = None
            self.preview.emit([])
            self.build()

    def lay_out(self) -> None:
        """Lay out what is selected."""
        keys = list(self.session.selection.ids) if self.session.selection.kind == "item" else []
        if not keys:
            self.session.say("Select what to lay out first: rows of the list, or blocks on the tapes.", "warning")
            return
        self.open_form(LayForm(self.session, keys))

    def pack(self, universe: str = "") -> None:
        """Pack the universe that is selected, or that of the first selected item."""
        s = self.session.selection
        spans = self.session.index.spans(s.first) if s.kind == "item" else ()
        uid = universe or (
            s.first if s.kind == "universe" else spans[0].universe if spans else s.slot[0] if s.slot else ""
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

    def copy(self, keys: list[str]) -> None:
        """Copies of items, selected afterwards."""
        made = self.session.edit(copy_items, keys).made
        if made:
            self.session.select_items(list(made))
            self.session.say(f"{plural(len(made), 'copy', 'copies')} made, not patched yet.")

    def _selected(self) -> None:
        s = self.session.selection
        if isinstance(self.form, LayForm):
            if s.kind == "item" and s.ids:
                self.form.choose(list(s.ids))
            elif s.kind == "slot" and s.slot:
                self.form.from_here(*s.slot)
            else:
                self.close_form()
            return
        if self.form is not None:
            self.close_form()
            return
        self.build()

    # ---- building

    def build(self) -> None:
        s = self.session.selection
        clear(self.body)
        self.refreshers.clear()
        self.address = None
        self._live = QVBoxLayout()
        self._live.setSpacing(8)
        self._card_state = None
        if self.form is not None:
            self.body.addWidget(self.form)
            self.body.addStretch(1)
            self._built_for = self._shape()
            return
        kind = s.kind
        if kind == "item" and len(s.ids) == 1:
            self.address = show_item(self, s.first, self._acts)
        elif kind == "item":
            self.address = show_many(self, list(s.ids), self._acts)
        elif kind == "universe":
            show_universe(self, s.first, self.pack, self.other_size)
        elif kind == "feed":
            show_universe(self, self.session.rig.feeds[s.first].universe, self.pack, self.other_size)
        elif kind == "slot" and s.slot:
            show_slot(self, s.slot)
        elif kind == "segment" and s.on and s.on.place >= 0:
            show_segment(self, s.on)
        elif kind == "sender":
            show_sender(self, s.first)
        elif kind == "use":
            show_use(self, s.first)
        else:
            self.nothing()
            self._built_for = self._shape()
            return
        self.body.addLayout(self._live)
        if kind == "item" and len(s.ids) == 1:
            show_more(self, s.first)
        self.body.addStretch(1)
        self._built_for = self._shape()
        self.refresh()

    def _shape(self) -> object:
        """What the form depends on: when it is another, the fields themselves must be others."""
        s, rig = self.session.selection, self.session.rig
        look = (THEME.name, THEME.step, rig.columns)
        if self.form is not None:
            return self.form
        if s.kind == "item" and len(s.ids) == 1 and s.first in rig.fixtures:
            f = rig.fixtures[s.first]
            mode = mode_of(rig, f)
            profile = rig.profiles.get(f.profile)
            by = profile.address.by if profile and profile.address else ""
            return s, f.profile, f.mode, len(mode.breaks) if mode else 0, by, look
        if s.kind == "segment" and s.on:
            return s, self.session.index.piece(s.on), self.session.index.spans(s.on), look
        if s.kind in ("universe", "feed"):
            uid = s.first if s.kind == "universe" else rig.feeds[s.first].universe
            return s, tuple((f, rig.feeds[f].protocol) for f in feeds_of(rig, uid)), look
        return s, look

    def refresh(self) -> None:
        if self.form is not None:
            self.form.update_preview()
            return
        if self._shape() != self._built_for:
            self.build()
            return
        for r in self.refreshers:
            r()
        self._cards_if_changed()

    def _cards_if_changed(self) -> None:
        s = self.session.selection
        if s.kind not in ("item", "universe", "feed", "slot", "segment") or self.form is not None:
            return
        cards = self._findings()
        target = self._target()
        ways = place_ways(self.session.index, target) if target and (target.key or target.universe) else ()
        state = (cards, ways, [[(x.label, x.changes) for x in f.fixes[:5]] for f in cards[:3]])
        if state == self._card_state:
            return
        self._card_state = state
        clear(self._live)
        for f in cards[:3]:
            self._live.addWidget(finding_card(self.session, self.network, f))
        if len(cards) > 3:
            self._live.addWidget(label(f"and {len(cards) - 3} more findings", 11, quiet=True))
        if s.kind in ("item", "slot", "segment") and ways and len(s.ids) < 2:
            title = (
                "First slot, every way it is said" if not s.slot and not s.pixel else "This slot, every way it is said"
            )
            self._live.addWidget(Ways(title, ways))

    def _target(self) -> Target | None:
        s = self.session.selection
        if s.kind == "slot" and s.slot and s.slot[0] in self.session.rig.universes:
            return of_slot(self.session.index, *s.slot)
        return self.session.target()

    def _findings(self) -> list[Finding]:
        s = self.session.selection
        if s.kind == "item":
            wanted = set(s.ids)
            return [
                f
                for f in self.session.report.findings
                if wanted & set(f.items) and f.code not in ("WIRE-01", "FEED-02")
            ] + [f for f in self.session.report.findings if wanted & set(f.items) and f.code == "FEED-02"]
        uid = s.first if s.kind == "universe" else self.session.rig.feeds[s.first].universe if s.kind == "feed" else ""
        feeds = set(feeds_of(self.session.rig, uid)) if uid else set()
        return [
            f
            for f in self.session.report.findings
            if f.goes_to == Goto("universe", uid) or (f.goes_to.kind == "feed" and f.goes_to.id in feeds)
        ]
