"""The panel of the Patch station: fixtures, elements, several at once, free slots; and the forms that open in it."""

from __future__ import annotations

from functools import partial

from msgspec.structs import replace
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout

from welvo.app.network import Wire
from welvo.app.patch.laying_form import Form, LayForm, ModeForm, PackForm
from welvo.app.patch.sender_form import show_sender, show_use
from welvo.app.patch.switch_form import show_switches
from welvo.app.patch.universe_form import show_universe
from welvo.app.session import Selection, Session
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import button, clear, label, row
from welvo.app.widgets.panels import FormPanel, Title, Ways, field_row, finding_card
from welvo.app.widgets.theme import THEME
from welvo.app.widgets.tints import kind_name, tint_of
from welvo.checks.registry import Finding
from welvo.patch import table
from welvo.patch.adding import patch_series
from welvo.patch.arrange import copy_things
from welvo.patch.path import Target, of_slot, place_ways
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.colours import read_order
from welvo.rig.document import put
from welvo.rig.lookup import call, feeds_of, mode_of
from welvo.rig.notation import plural, say_place
from welvo.rig.refs import Goto


class PatchPanel(FormPanel):
    """What is selected, or a form that stays open over changes of the selection. Emits `preview` for the tapes."""

    preview = Signal(object)

    def __init__(self, session: Session, wire: Wire) -> None:
        super().__init__(session, wire)
        self._built_for: object = None
        self.address: Field | None = None
        self.form: Form | None = None
        self._live = QVBoxLayout()
        self._card_state: object = None
        session.selection_changed.connect(self._selected)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self._cards_if_changed)
        session.replaced.connect(self.close_form)
        wire.armed_changed.connect(self.refresh)
        self.build()

    # ---- forms

    def open_form(self, form: Form) -> None:
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
            self.session.say("Select what to lay out first: rows of the roll, or blocks on the tapes.", "warning")
            return
        self.open_form(LayForm(self.session, keys))

    def pack(self, universe: str = "") -> None:
        """Pack the universe that is selected, or that of the first selected thing."""
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
        self.refreshers = []
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
            self._thing(s.first)
        elif kind == "item":
            self._many(list(s.ids))
        elif kind == "universe":
            show_universe(self, s.first)
        elif kind == "feed":
            show_universe(self, self.session.rig.feeds[s.first].universe)
        elif kind == "slot" and s.slot:
            self._slot(s.slot)
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
            self._more(s.first)
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
        if s.kind not in ("item", "universe", "feed", "slot") or self.form is not None:
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
            self._live.addWidget(finding_card(self.session, self.wire, f))
        if len(cards) > 3:
            self._live.addWidget(label(f"and {len(cards) - 3} more findings", 11, quiet=True))
        if s.kind in ("item", "slot") and ways and len(s.ids) < 2:
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

    # ---- one fixture or element

    def _thing(self, key: str) -> None:
        rig = self.session.rig
        fixture = rig.fixtures.get(key)
        title = QVBoxLayout()
        self.body.addLayout(title)

        def retitle() -> None:
            r = self.session.rig
            clear(title)
            f = r.fixtures.get(key)
            if f:
                profile = r.profiles.get(f.profile)
                mode = mode_of(r, f)
                title.addWidget(Title(str(f.number), f.name, tint_of(r, key)))
                maker = f"{profile.maker} {profile.name}".strip() if profile else "?"
                title.addWidget(
                    label(
                        f"{maker} · mode “{mode.name if mode else '?'}” · {plural(mode.footprint if mode else 0, 'slot')}",
                        11,
                        quiet=True,
                        wrap=True,
                    )
                )
            elif key in r.elements:
                e = r.elements[key]
                title.addWidget(Title(e.name, "", e.tint))
                title.addWidget(label(f"element · {kind_name(r, key)} · {plural(e.footprint, 'slot')}", 11, quiet=True))

        self.refreshers.append(retitle)
        if fixture is None:
            self._element(key)
            return
        mode = mode_of(rig, fixture)
        for b, part in enumerate(mode.breaks if mode else ()):
            words = "Address" if not mode or len(mode.breaks) == 1 else f"{part.name or f'break {b + 1}'}"[:12]
            self._address(key, b, words)
        self.field(
            "Number", "The crew's name for this lamp. Two lamps of one number are never both meant.",
            lambda: str(self.session.rig.fixtures[key].number), lambda t: self._set(key, number=table.whole(t, 1, 999_999)), narrow=84,
        )  # fmt: skip
        self.field(
            "Name", "What this lamp is or where it hangs, in words. Free text; nothing depends on it.",
            lambda: self.session.rig.fixtures[key].name, lambda t: self._set(key, name=t),
        )  # fmt: skip
        self._mode_choice([key])
        self._buttons([key])

    def _mode_choice(self, keys: list[str]) -> None:
        """Another mode for fixtures of one profile; what it would hit is shown before it is done."""
        pid = self.session.rig.fixtures[keys[0]].profile

        def options() -> tuple[list[tuple[str, str]], str]:
            rig = self.session.rig
            here = {rig.fixtures[k].mode for k in keys if k in rig.fixtures}
            found = [(k, f"{m.name} ({m.footprint})") for k, m in rig.profiles[pid].modes.items()]
            return found if len(here) == 1 else [("", "several"), *found], here.pop() if len(here) == 1 else ""

        def choose(mode: str) -> None:
            if mode:
                self.what_if(keys, pid, mode)

        self.choice(
            "Mode", "Which mode the lamp stands in; shows first what it would hit. The lamp's own menu must say the same.",
            options, choose,
        )  # fmt: skip

    def _buttons(self, keys: list[str]) -> None:
        s = self.session

        def all_locked() -> bool:
            rig = s.rig
            places = [p for k in keys if k in rig.fixtures for p in rig.fixtures[k].at]
            places += [rig.elements[k].at for k in keys if k in rig.elements]
            return bool(places) and all(p.locked for p in places)

        lock = self.tick(
            "Locked", "A locked place is never moved by anything but your own hand, after unlocking.", all_locked,
            lambda on: s.edit(edits.lock, keys, on),
        )  # fmt: skip
        made = button(
            "Duplicate",
            lambda: self.copy(keys),
            "One more of it, with the next free number, not patched yet.   Ctrl+Shift+D",
        )
        words = "Remove" if len(keys) == 1 else f"Remove {len(keys)}"
        gone = button(
            words,
            lambda: s.edit(edits.remove_things, keys),
            "Out of the rig, its shares, groups and cable. Undo brings it back.",
        )
        self.body.addLayout(row(lock, None, made, gone))

    def copy(self, keys: list[str]) -> None:
        """Copies of things, selected afterwards."""
        made = self.session.edit(copy_things, keys).made
        if made:
            self.session.select_items(list(made))
            self.session.say(f"{plural(len(made), 'copy', 'copies')} made, not patched yet.")

    def _address(self, key: str, brk: int, words: str) -> None:
        until = label("", quiet=True)

        def read() -> str:
            spans = [s for s in self.session.index.spans(key) if s.brk == brk]
            rig = self.session.rig
            if not spans:
                until.setText("not patched")
                return ""
            s = spans[0]
            last = spans[-1]
            where = say_place(rig.universes[last.universe].number, last.last)
            place = rig.fixtures[key].place(brk) if key in rig.fixtures else rig.elements[key].at
            how = f" · after {call(rig, place.after)} + {place.gap}" if place.after else ""
            until.setText(f"to {where}{how}")
            return say_place(rig.universes[s.universe].number, s.first)

        field = self.field(
            words, "Where it starts: 3.145, “free” for the next free place, +8, “after 207 + 4”, or empty. The lamp must be set to the same.",
            read, partial(self._patch, key, brk), narrow=84, beside=until,
        )  # fmt: skip
        if self.address is None:
            self.address = field

    def _patch(self, key: str, brk: int, typed: str) -> object:
        """Take an address over; refusals are raised, so that the field shows them."""
        index = self.session.index
        text = typed.strip()
        behind = index.dependents(key)
        before = {k: index.spans(k) for k in behind}
        if brk == 0:
            done = self.session.take(table.change_first(index, [key], text.replace(",", ".")))
        elif not text:
            done = self.session.take(table.unpatch(index.rig, [(key, brk)]))
        else:
            done = self.session.take(patch_series(index, [(key, brk)], text))
        moved = [k for k in behind if self.session.index.spans(k) != before[k]]
        if moved:
            names = ", ".join(call(self.session.rig, k) for k in moved[:6]) + (" …" if len(moved) > 6 else "")
            self.session.say(f"{names} stood behind {call(self.session.rig, key)} and moved along.")
        return done

    def _set(self, key: str, **fields: object) -> object:
        what = ", ".join(f"{k} {v}" for k, v in fields.items())
        return self.session.edit(
            edits.set_fixtures, f"give {self.session.rig.fixtures[key].number} {what}", {key: dict(fields)}
        )

    def _element(self, key: str) -> None:
        def change(**fields: object) -> object:
            e = self.session.rig.elements[key]
            return self.session.edit(lambda r: put(r, f"change {e.name}", elements={key: replace(e, **fields)}))

        self._address(key, 0, "Address")
        self.field(
            "Name", "What it is called; its pixels are NAME/1, NAME/2 and so on.",
            lambda: self.session.rig.elements[key].name, lambda t: change(name=_words(t)),
        )  # fmt: skip
        element = self.session.rig.elements[key]
        if element.kind == "block":
            self.field(
                "Slots", "How many slots it takes, 1 to 512 per universe.",
                lambda: str(self.session.rig.elements[key].slots), lambda t: change(slots=table.whole(t, 1, 32767)), narrow=84,
            )  # fmt: skip
        else:
            self.field(
                "Pixels", "How many pixels it has, 1 to 100 000. What comes behind it on a cable moves.",
                lambda: str(self.session.rig.elements[key].pixels), lambda t: change(pixels=table.whole(t, 1, 100_000)), narrow=84,
            )  # fmt: skip
            self.field(
                "Colour order",
                "Components of one pixel in sending order, such as RGB or GRBW. Set it in one place only, here or in the box.",
                lambda: self.session.rig.elements[key].order, lambda t: change(order=read_order(t)), narrow=84,
            )  # fmt: skip
            whole = self.tick(
                "Keep pixels whole",
                "Never cut a pixel at a universe's end; some receivers cannot take cut ones. Costs a few slots each universe.",
                lambda: self.session.rig.elements[key].whole,
                lambda on: change(whole=on),
            )
            self.body.addWidget(whole)
        self._buttons([key])

    # ---- what stands further down: switches, groups, own columns

    def _more(self, key: str) -> None:
        s = self.session
        fixture = s.rig.fixtures.get(key)
        if fixture:
            show_switches(self, key)
        self.rule()
        self.body.addWidget(label("More about it", 11, quiet=True))
        wanted = (
            ["groups", *(f"own:{c}" for c in s.rig.columns), "turns", "spot", "note"] if fixture else ["groups", "note"]
        )
        for column in wanted:

            def read(column: str = column) -> str:
                return table.cell(s.index, key, column)

            def apply(typed: str, column: str = column) -> object:
                return s.take(table.change(s.index, [key], column, typed))

            self.field(table.title(column), table.help_for(column), read, apply)

    # ---- several

    def _many(self, ids: list[str]) -> None:
        rig, s = self.session.rig, self.session
        fixtures = [k for k in ids if k in rig.fixtures]
        self.body.addWidget(Title(plural(len(ids), "thing"), ""))
        slots = sum(int(table.cell(s.index, k, "slots") or 0) for k in ids)
        names = ", ".join(call(rig, k) for k in ids[:12]) + (" …" if len(ids) > 12 else "")
        self.body.addWidget(label(f"{names} · {plural(slots, 'slot')}", 11, quiet=True, wrap=True))

        def give(column: str, typed: str, keys: list[str]) -> object:
            return bool(typed.strip()) and s.take(table.change(s.index, keys, column, typed))

        self.address = self.field(
            "Address", "Patches all of them in this order: 3.1 packed, 3.1 +8 every 8 slots, 3.1 gap 2, free; +8 moves each on, +1.0 a universe on.",
            lambda: "", lambda t: give("first", t, ids), placeholder="3.1 +8",
        )  # fmt: skip
        lay = button(
            "Lay out…",
            self.lay_out,
            "Gives them addresses by rules, shown on the tapes first.   Ctrl+Shift+L",
            primary=True,
        )
        self.body.addLayout(row(lay, None))
        if fixtures:
            self.field("Number", "Numbers all of them in this order: 101+ counts up from 101, 101 +10 in tens, +8 adds 8 to each.",
                       lambda: "", lambda t: give("number", t, fixtures), placeholder="101+")  # fmt: skip
            self.field("Name", "Gives all of them this name; # becomes 1, 2, 3; ## 01, 02; #7 begins at 7; & is the number.",
                       lambda: "", lambda t: give("name", t, fixtures), placeholder="Kelp #")  # fmt: skip
            if len({rig.fixtures[k].profile for k in fixtures}) == 1:
                self._mode_choice(fixtures)
        self.field("Groups", "Puts all of them into these groups, and out of all others. Names with commas between.",
                   lambda: _common(s, ids), lambda t: s.take(table.change(s.index, ids, "groups", t)))  # fmt: skip
        self._buttons(ids)
        together = []
        if len(fixtures) == len(ids) and len({(rig.fixtures[k].profile, rig.fixtures[k].mode) for k in ids}) == 1:
            together.append(
                button(
                    "Share",
                    lambda: s.edit(edits.share, ids),
                    "Declares that these use the same slots on purpose: one start, one mode.",
                )
            )
        else:
            together.append(
                button(
                    "Overlay",
                    lambda: s.edit(edits.overlay, ids),
                    "Declares that these lie over each other on purpose, one profile over another.",
                )
            )
        if len(ids) == 2:
            together.append(
                button("Swap places", lambda: self._swap(ids), "Each of the two starts where the other starts now.")
            )
        self.body.addLayout(row(None, *together))
        for column in (f"own:{c}" for c in rig.columns) if fixtures else ():

            def give_own(typed: str, column: str = column) -> object:
                return give(column, typed, fixtures)

            self.field(table.title(column), table.help_for(column), lambda: "", give_own, placeholder="C#")

    def _swap(self, ids: list[str]) -> None:
        from welvo.patch.arrange import swap_things

        self.session.edit(lambda _: swap_things(self.session.index, (ids[0], 0), (ids[1], 0)))

    # ---- a slot

    def _slot(self, slot: tuple[str, int]) -> None:
        s = self.session
        universe = s.rig.universes[slot[0]]
        here = s.index.at(*slot)
        self.body.addWidget(
            Title(say_place(universe.number, slot[1]), ", ".join(call(s.rig, x.key) for x in here) or "free")
        )
        stretch = next(((a, b) for a, b in s.index.free_stretches(slot[0]) if a <= slot[1] <= b), None)
        if stretch is None:
            if not here:
                kept = any(a <= slot[1] <= b for a, b in universe.reserve)
                self.body.addWidget(
                    label(
                        "declared as reserve" if kept else s.index.limit(slot[0]).why or "behind the last slot used",
                        11,
                        quiet=True,
                    )
                )
            return
        a, b = stretch
        words = f"Free from {say_place(universe.number, a)} to {b:03d}: {plural(b - a + 1, 'slot')}."
        fitting = []
        for p in list(s.rig.profiles.values())[:40]:
            mode = next(iter(p.modes.values()))
            if len(mode.breaks) == 1 and 0 < mode.footprint <= b - a + 1:
                fitting.append(f"{(b - a + 1) // mode.footprint} × {p.name}")
        self.body.addWidget(label(words + (f" Room for {', '.join(fitting[:4])}." if fitting else ""), 11, wrap=True))
        gap = Field(
            "The next gap of at least so many slots behind here, in this or a later universe. Enter goes there.",
            lambda t: self._next_gap(slot, t),
        )
        gap.say = lambda why: s.say(why, "warning")
        gap.setAccessibleName("Next gap of")
        gap.setFixedWidth(64)
        gap.setPlaceholderText(str(b - a + 1))
        self.body.addLayout(field_row("Next gap of", gap, label("slots", quiet=True), None))

    def _next_gap(self, slot: tuple[str, int], typed: str) -> bool:
        found = next_gap(self.session, slot, table.whole(typed, 1, 512))
        if found is None:
            raise Refused(f"No gap of {typed.strip()} slots is free behind here.")
        self.session.select(Selection("slot", (), slot=found))
        return True


def next_gap(session: Session, slot: tuple[str, int], width: int) -> tuple[str, int] | None:
    """The next free stretch of at least `width` slots that begins behind a slot."""
    from welvo.rig.lookup import universes_in_order

    order = universes_in_order(session.rig)
    for uid in order[order.index(slot[0]) :]:
        for a, b in session.index.free_stretches(uid):
            if b - a + 1 >= width and (uid != slot[0] or a > slot[1]):
                return uid, a
    return None


def _common(session: Session, ids: list[str]) -> str:
    """Groups that all of them are in."""
    sets = [set(edits.groups_of(session.rig, k)) for k in ids]
    return ", ".join(g.name for g in session.rig.groups.values() if all(g.name in s for s in sets))


def _words(t: str) -> str:
    if not t.strip():
        raise Refused("It needs a name; its pixels are called by it.")
    return t.strip()
