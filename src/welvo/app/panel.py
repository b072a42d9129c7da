"""The detail panel: name line, what it is, the fields, findings with fixes, every way it is said."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from welvo.app import marks
from welvo.app.drawer import run_fix
from welvo.app.fields import Choice, Field, Tick
from welvo.app.paint import RIGHT, button, clear, column, label, row, text, width_of
from welvo.app.session import Session
from welvo.app.stations.tape_paint import kind_name, spine, tint_of
from welvo.app.theme import THEME
from welvo.app.wire import Wire
from welvo.checks.registry import Finding
from welvo.patch.allocate import patch_series
from welvo.patch.path import Target, of_slot, place_ways
from welvo.rig.edits import add_feed, remove_feed, remove_things, set_feed, set_fixtures, set_universe, with_place
from welvo.rig.edits import share as share_edit
from welvo.rig.lookup import call, feeds_of, mode_of
from welvo.rig.notation import NotationError, every_way, plural, read_series, read_wire, say_artnet, say_place, say_wire
from welvo.rig.patched import Place
from welvo.rig.wiring import Feed


def field_row(words: str, *widgets: QWidget | None) -> QHBoxLayout:
    """A field with its label, 84 wide."""
    name = label(words, quiet=True)
    name.setFixedWidth(84)
    made = row(name)
    for w in widgets:
        if w is None:
            made.addStretch(1)
        else:
            made.addWidget(w, 0 if w.maximumWidth() < 1000 else 1)
    return made


class Ways(QWidget):
    """A table of all the ways one number is said, 24 a row."""

    def __init__(self, title: str, ways: tuple[tuple[str, str], ...]) -> None:
        super().__init__()
        self._title, self._ways = title, ways
        self.setFixedHeight(22 + 24 * len(ways))
        self.setAccessibleName("; ".join(f"{a} {b}" for a, b in ways))

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w = self.width()
        text(p, QRectF(0, 0, w, 20), self._title, "quiet", 11)
        for n, (a, b) in enumerate(self._ways):
            y = 22 + 24 * n
            wide = width_of(b) + 6
            text(p, QRectF(0, y, w - wide - 4, 24), a, "quiet", 11)
            text(p, QRectF(w - min(wide, w - 60), y, min(wide, w - 60), 24), b, align=RIGHT)
            p.fillRect(QRectF(0, y + 23, w, 1), THEME.color("line"))


class Title(QWidget):
    """The name line: spine, number or name at 22, the rest beside it."""

    def __init__(self, big: str, beside: str = "", tint: int | None = None) -> None:
        super().__init__()
        self._big, self._beside, self._tint = big, beside, tint
        self.setFixedHeight(30 + THEME.step)
        self.setAccessibleName(f"{big} {beside}")

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        x = 0
        if self._tint is not None:
            spine(p, 0, 3, 22, self._tint, THEME.tint(self._tint)[0])
            x = 12
        wide = width_of(self._big, 22, True)
        text(p, QRectF(x, 0, self.width() - x, 28), self._big, size=22, bold=True)
        text(p, QRectF(x + wide + 8, 5, self.width() - x - wide - 8, 20), self._beside)


def finding_card(session: Session, wire: Wire, finding: Finding) -> QWidget:
    """A card with a bar in the severity's colour, the reason and the fixes."""
    card = QFrame()
    card.setObjectName("card")
    c = THEME.color
    card.setStyleSheet(
        f"#card {{ background: {c('station').name()}; border-left: 4px solid {c(finding.severity).name()}; }}"
    )
    body = column((10, 8, 10, 10), 6)
    head = row(marks.MarkLabel(finding.severity), label(finding.title, 13, True, wrap=True), spacing=6)
    head.setStretch(1, 1)
    body.addLayout(head)
    body.addWidget(label(finding.reason, 11, wrap=True))
    for fix in finding.fixes[:3]:
        body.addWidget(
            button(
                fix.label,
                lambda fix=fix: run_fix(session, wire, fix),
                "; ".join(f"{a}: {b} → {d}" for a, b, d in fix.changes),
            )
        )
    card.setLayout(body)
    return card


class Panel(QScrollArea):
    """Base of all panels: a column that is built anew for another selection and refreshed for another value."""

    def __init__(self, session: Session, wire: Wire) -> None:
        super().__init__()
        self.session = session
        self.wire = wire
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Details")
        inner = QWidget()
        inner.setObjectName("panelInner")
        self.body = QVBoxLayout(inner)
        self.body.setContentsMargins(16, 12, 12, 16)
        self.body.setSpacing(8)
        self.setWidget(inner)
        self.restyle()

    def restyle(self) -> None:
        ground = THEME.color("raised").name()
        self.setStyleSheet(f"#panelInner {{ background: {ground}; }}")

    def nothing(self) -> None:
        self.body.addWidget(Title("Nothing selected"))
        self.body.addWidget(
            label(
                "What you select stands here with its settings, its findings and every way to say its place.",
                11,
                quiet=True,
                wrap=True,
            )
        )
        self.body.addStretch(1)


class PatchPanel(Panel):
    """Fixtures, elements, universes and their feeds, free slots."""

    go = Signal(str, str)

    def __init__(self, session: Session, wire: Wire) -> None:
        super().__init__(session, wire)
        self._built_for: object = None
        self._refreshers: list[Callable[[], None]] = []
        self.address: Field | None = None
        self._live = QVBoxLayout()
        session.selection_changed.connect(self.build)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self._cards_if_changed)
        wire.armed_changed.connect(self.refresh)
        self._card_state: object = None
        self.build()

    # ---- building

    def build(self) -> None:
        s = self.session.selection
        clear(self.body)
        self._refreshers = []
        self.address = None
        self._live = QVBoxLayout()
        self._live.setSpacing(8)
        self._card_state = None
        kind = s.kind
        if kind == "thing" and len(s.ids) == 1:
            self._thing(s.first)
        elif kind == "thing":
            self._many(list(s.ids))
        elif kind == "universe":
            self._universe(s.first)
        elif kind == "feed":
            self._universe(self.session.rig.feeds[s.first].universe)
        elif kind == "slot" and s.slot:
            self._slot(s.slot)
        else:
            self.nothing()
            self._built_for = self._shape()
            return
        self.body.addLayout(self._live)
        self.body.addStretch(1)
        self._built_for = self._shape()
        self.refresh()

    def _shape(self) -> object:
        """What the form depends on: when it is another, the fields themselves must be others."""
        s, rig = self.session.selection, self.session.rig
        if s.kind == "thing" and len(s.ids) == 1 and s.first in rig.fixtures:
            f = rig.fixtures[s.first]
            mode = mode_of(rig, f)
            return s, f.profile, f.mode, len(mode.breaks) if mode else 0, THEME.name, THEME.step
        if s.kind in ("universe", "feed"):
            uid = s.first if s.kind == "universe" else rig.feeds[s.first].universe
            return s, tuple((f, rig.feeds[f].protocol) for f in feeds_of(rig, uid)), THEME.name, THEME.step
        return s, THEME.name, THEME.step

    def refresh(self) -> None:
        if self._shape() != self._built_for:
            self.build()
            return
        for r in self._refreshers:
            r()
        self._card_state = None
        self._cards_if_changed()

    def _cards_if_changed(self) -> None:
        s = self.session.selection
        if s.kind not in ("thing", "universe", "feed", "slot"):
            return
        cards = self._findings()
        target = self._target()
        ways = place_ways(self.session.index, target) if target and (target.key or target.universe) else ()
        state = (cards, ways)
        if state == self._card_state:
            return
        self._card_state = state
        clear(self._live)
        for f in cards[:3]:
            self._live.addWidget(finding_card(self.session, self.wire, f))
        if len(cards) > 3:
            self._live.addWidget(label(f"and {len(cards) - 3} more findings", 11, quiet=True))
        if s.kind in ("thing", "slot") and ways and len(s.ids) < 2:
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
        if s.kind == "thing":
            wanted = set(s.ids)
            return [
                f
                for f in self.session.report.findings
                if wanted & set(f.things) and f.code not in ("WIRE-01", "FEED-02")
            ] + [f for f in self.session.report.findings if wanted & set(f.things) and f.code == "FEED-02"]
        uid = s.first if s.kind == "universe" else self.session.rig.feeds[s.first].universe if s.kind == "feed" else ""
        feeds = set(feeds_of(self.session.rig, uid)) if uid else set()
        return [
            f
            for f in self.session.report.findings
            if f.goes_to == ("universe", uid) or (f.goes_to[0] == "feed" and f.goes_to[1] in feeds)
        ]

    def _field(
        self,
        words: str,
        help_text: str,
        read: Callable[[], str],
        apply: Callable[[str], object],
        *,
        narrow: int = 0,
        beside: QWidget | None = None,
    ) -> Field:
        field = Field(help_text, apply, right=bool(narrow))
        field.say = lambda why: self.session.say(why, "error")
        field.setAccessibleName(words)
        if narrow:
            field.setFixedWidth(narrow)
        self._refreshers.append(lambda: field.set_value(read()))
        self.body.addLayout(field_row(words, field, beside, None) if narrow else field_row(words, field))
        return field

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

        self._refreshers.append(retitle)
        if fixture:
            mode = mode_of(rig, fixture)
            for b, part in enumerate(mode.breaks if mode else ()):
                self._address(
                    key, b, "Address" if not mode or len(mode.breaks) == 1 else f"{part.name or f'break {b + 1}'}"[:12]
                )
            self._field(
                "Number", "The crew's name for this lamp. Two lamps of one number are never both meant.",
                lambda: str(self.session.rig.fixtures[key].number), lambda t: self._set(key, number=_number(t)), narrow=84,
            )  # fmt: skip
            self._field(
                "Name", "What this lamp is or where it hangs, in words. Free text; nothing depends on it.",
                lambda: self.session.rig.fixtures[key].name, lambda t: self._set(key, name=t),
            )  # fmt: skip
            modes = Choice(
                "Which mode the lamp stands in. The lamp's own menu must say the same, or every function is off.",
                lambda m: self._set(key, mode=m),
            )
            modes.setAccessibleName("Mode")

            def show_modes() -> None:
                f = self.session.rig.fixtures[key]
                p = self.session.rig.profiles[f.profile]
                modes.set_options([(k, f"{m.name} ({m.footprint})") for k, m in p.modes.items()], f.mode)

            self._refreshers.append(show_modes)
            self.body.addLayout(field_row("Mode", modes))
            lock = Tick(
                "Locked",
                "A locked place is never moved by anything but your own hand, after unlocking.",
                lambda on: self._lock(key, on),
            )
            self._refreshers.append(lambda: lock.setChecked(any(p.locked for p in self.session.rig.fixtures[key].at)))
            remove = button(
                "Remove",
                lambda: self.session.edit(remove_things, [key]),
                "Takes it out of the rig, its shares and its cable. Undo brings it back.",
            )
            self.body.addLayout(row(lock, None, remove))
            if fixture.note:
                self.body.addWidget(label(fixture.note, 11, quiet=True, wrap=True))
        else:
            self._element(key)

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

        def apply(t: str) -> object:
            return self._patch(key, brk, t)

        field = self._field(
            words, "Where it starts: 3.145, “free” for the next free place, “after 207 + 4”, or empty. The lamp must be set to the same.",
            read, apply, narrow=84, beside=until,
        )  # fmt: skip
        if self.address is None:
            self.address = field

    def _patch(self, key: str, brk: int, t: str) -> object:
        t = t.strip()
        rig = self.session.rig
        if not t or t.lower().startswith("after"):
            place = Place()
            if t:
                place = self._anchor(t)
            element = rig.elements.get(key)
            if element:
                from msgspec.structs import replace as fresh

                from welvo.rig.document import put

                return self.session.edit(
                    lambda r: put(r, f"place {element.name}", elements={key: fresh(element, at=place)})
                )
            f = rig.fixtures[key]
            if f.place(brk).locked:
                raise NotationError(f"{f.number} is locked. Unlock it first.")
            label_ = f"place {f.number} {t}" if t else f"unpatch {f.number}"
            return self.session.edit(set_fixtures, label_, {key: {"at": with_place(f, brk, place)}})
        index = self.session.index
        result = patch_series(index, [(key, brk)], t)  # raises NotationError, which marks the field
        return self.session.take(result)

    def _anchor(self, t: str) -> Place:
        import re

        m = re.fullmatch(r"after\s+(.+?)(?:\s*\+\s*(\d+))?", t.strip(), re.IGNORECASE)
        rig = self.session.rig
        name = m[1].strip() if m else ""
        found = next((k for k, f in rig.fixtures.items() if str(f.number) == name), "") or next(
            (k for k, e in rig.elements.items() if e.name.lower() == name.lower()), ""
        )
        if not m or not found:
            raise NotationError(f"“{t}” names nothing to stand behind. Write: after 207 + 4")
        return Place(after=found, gap=int(m[2] or 0))

    def _set(self, key: str, **fields: object) -> object:
        what = ", ".join(f"{k} {v}" for k, v in fields.items())
        return self.session.edit(
            set_fixtures, f"give {self.session.rig.fixtures[key].number} {what}", {key: dict(fields)}
        )

    def _lock(self, key: str, on: bool) -> None:
        from msgspec.structs import replace as fresh

        f = self.session.rig.fixtures[key]
        places = tuple(fresh(p, locked=on) for p in (f.at or (Place(),)))
        self.session.edit(set_fixtures, f"{'lock' if on else 'unlock'} {f.number}", {key: {"at": places}})

    def _element(self, key: str) -> None:
        from msgspec.structs import replace as fresh

        from welvo.rig.document import put

        def change(**fields: object) -> object:
            e = self.session.rig.elements[key]
            return self.session.edit(lambda r: put(r, f"change {e.name}", elements={key: fresh(e, **fields)}))

        self._address(key, 0, "Address")
        self._field(
            "Name",
            "What it is called; its pixels are NAME/1, NAME/2 and so on.",
            lambda: self.session.rig.elements[key].name,
            lambda t: change(name=_words(t)),
        )
        element = self.session.rig.elements[key]
        if element.kind == "block":
            self._field(
                "Slots",
                "How many slots it takes, 1 to 512 per universe.",
                lambda: str(self.session.rig.elements[key].slots),
                lambda t: change(slots=_whole(t, 1, 32767)),
                narrow=84,
            )
        else:
            self._field(
                "Pixels",
                "How many pixels it has, 1 to 100 000. What comes behind it on a cable moves.",
                lambda: str(self.session.rig.elements[key].pixels),
                lambda t: change(pixels=_whole(t, 1, 100_000)),
                narrow=84,
            )
            self._field(
                "Colour order",
                "Components of one pixel in sending order, such as RGB or GRBW. Set it in one place only, here or in the box.",
                lambda: self.session.rig.elements[key].order,
                lambda t: change(order=_order(t)),
                narrow=84,
            )
            whole = Tick(
                "Keep pixels whole",
                "Never cut a pixel at a universe's end; some receivers cannot take cut ones. Costs a few slots each universe.",
                lambda on: change(whole=on),
            )
            self._refreshers.append(lambda: whole.setChecked(self.session.rig.elements[key].whole))
            self.body.addWidget(whole)
        self.body.addLayout(
            row(
                None,
                button(
                    "Remove",
                    lambda: self.session.edit(remove_things, [key]),
                    "Takes it out of the rig. Undo brings it back.",
                ),
            )
        )

    # ---- several

    def _many(self, ids: list[str]) -> None:
        rig = self.session.rig
        fixtures = [k for k in ids if k in rig.fixtures]
        self.body.addWidget(Title(plural(len(ids), "thing"), ""))
        names = ", ".join(call(rig, k) for k in ids[:12]) + (" …" if len(ids) > 12 else "")
        self.body.addWidget(label(names, 11, quiet=True, wrap=True))
        if not fixtures:
            return
        self.address = self._field(
            "Address", "Patches all of them in this order: 3.1 packed, 3.1 +8 every 8 slots, 3.1 gap 2 with 2 slots free between, or free.",
            lambda: "", lambda t: bool(t.strip()) and self.session.take(patch_series(self.session.index, [(k, 0) for k in fixtures], t)),
        )  # fmt: skip
        self.address.setPlaceholderText("3.1 +8")
        self._field(
            "Number", "Numbers all of them in this order: 101+ counts up from 101, 101 +10 in tens.",
            lambda: "", lambda t: bool(t.strip()) and self.session.edit(number_series, fixtures, t),
        ).setPlaceholderText("101+")  # fmt: skip
        self._field(
            "Name", "Gives all of them this name; # becomes 1, 2, 3 in this order.",
            lambda: "", lambda t: bool(t.strip()) and self.session.edit(name_series, fixtures, t),
        ).setPlaceholderText("Kelp #")  # fmt: skip
        buttons = []
        if len(fixtures) == len(ids) and len(fixtures) > 1:
            buttons.append(
                button(
                    "Share",
                    lambda: self.session.edit(share_edit, fixtures),
                    "Declares that these use the same slots on purpose. They must stand at one start in one mode.",
                )
            )
        buttons.append(
            button(
                f"Remove {len(ids)}",
                lambda: self.session.edit(remove_things, ids),
                "Takes them out of the rig. Undo brings them back.",
            )
        )
        self.body.addLayout(row(None, *buttons))

    # ---- a universe

    def _universe(self, uid: str) -> None:
        s = self.session

        def head() -> None:
            clear(title)
            u = s.rig.universes[uid]
            title.addWidget(Title(f"Universe {u.number}", u.name))
            things = len({x.key for x in s.index.on(uid)})
            title.addWidget(
                label(f"{plural(things, 'thing')} · {s.index.free_slots(uid)} of {u.size} slots free", 11, quiet=True)
            )

        title = QVBoxLayout()
        self.body.addLayout(title)
        self._refreshers.append(head)
        self._field("Number", "The rig's own number of this universe. What is patched here keeps its place and is called otherwise.",
                    lambda: str(s.rig.universes[uid].number), lambda t: s.edit(set_universe, uid, f"number universe {t}", number=_whole(t, 1, 63999)) is not None, narrow=84)  # fmt: skip
        self._field(
            "Name",
            "What this universe is for, in words.",
            lambda: s.rig.universes[uid].name,
            lambda t: s.edit(set_universe, uid, f"name universe {t}", name=t),
        )
        self._field("Slots used", "How many slots the sender uses of it: 512, or 510 for whole RGB pixels. Sender and receiver must agree.",
                    lambda: str(s.rig.universes[uid].size), lambda t: s.edit(set_universe, uid, f"universe size {t}", size=_whole(t, 1, 512)), narrow=84)  # fmt: skip
        for n, fid in enumerate(feeds_of(s.rig, uid)):
            self._feed(fid, n)
        self.body.addLayout(row(
            button("Feed by sACN", lambda: s.edit(add_feed, uid, "sacn"), "Sends this universe as sACN multicast under its own number."),
            button("Feed by Art-Net", lambda: s.edit(add_feed, uid, "artnet", min(32767, s.rig.universes[uid].number)), "Sends this universe as Art-Net to the boxes that ask for it."), None,
        ))  # fmt: skip

    def _feed(self, fid: str, n: int) -> None:
        s = self.session
        line = QFrame()
        line.setFixedHeight(1)
        line.setStyleSheet(f"background: {THEME.color('line').name()};")
        self.body.addWidget(line)

        def feed() -> Feed:
            return s.rig.feeds[fid]

        name = label("", 13, True)
        self._refreshers.append(
            lambda: name.setText(f"{say_wire(feed().protocol, feed().wire)} from {s.rig.senders[feed().sender].name}")
        )
        remove = button(
            "Remove",
            lambda: s.edit(remove_feed, fid),
            "Stops planning this feed. Ports that take it take nothing then.",
        )
        self.body.addLayout(row(name, None, remove))

        def change(label_: str, **fields: object) -> object:
            return s.edit(set_feed, fid, label_, **fields)

        protocol = Choice(
            "How the levels travel. The box's port must be set to the same, or it stays dark.",
            lambda v: change(
                f"send by {v}", protocol=v, wire=max(1, feed().wire) if v == "sacn" else min(feed().wire, 32767)
            ),
        )
        self._refreshers.append(
            lambda: protocol.set_options([("sacn", "sACN"), ("artnet", "Art-Net")], feed().protocol)
        )
        protocol.setAccessibleName("Protocol")
        self.body.addLayout(field_row("Protocol", protocol))
        self._field("On the wire", "The universe's number on the wire: 3 for sACN; 0/0/3, 3 or 0x003 for Art-Net, counted from 0. A wrong one lights another port, or none.",
                    lambda: str(feed().wire) if feed().protocol == "sacn" else say_artnet(feed().wire),
                    lambda t: change(f"send as {t}", wire=read_wire(feed().protocol, t)), narrow=84)  # fmt: skip
        self._field("To", "multicast (sACN), subscribers or broadcast (Art-Net), or one IP address. Broadcast makes every box read every frame.",
                    lambda: feed().to, lambda t: change(f"send to {t}", to=t.strip().lower()))  # fmt: skip
        if feed().protocol == "sacn":
            self._field("Priority", "0 to 200, 100 when nobody chose. Only the highest counts; two senders of one priority flicker.",
                        lambda: str(feed().priority), lambda t: change(f"priority {t}", priority=_whole(t, 0, 200)), narrow=84)  # fmt: skip
        else:
            end = Choice(
                "What the boxes are left with when you disarm, since Art-Net has no end of stream: hold keeps the light as it is.",
                lambda v: change(f"leave {v} at disarm", at_disarm=v),
            )
            self._refreshers.append(
                lambda: end.set_options(
                    [("hold", "hold the last levels"), ("zero", "zero"), ("defaults", "defaults")], feed().at_disarm
                )
            )
            end.setAccessibleName("At disarm")
            self.body.addLayout(field_row("At disarm", end))
        self._field("Frames a s", "At most so many frames a second. 44 is all a DMX line can take; slower lines need less.",
                    lambda: f"{feed().rate:g}", lambda t: change(f"rate {t}", rate=float(_whole(t, 1, 1000))), narrow=84)  # fmt: skip
        rule = Choice(
            "When frames go out. On change with keep-alive is the standards' way; always keeps boxes with short memories lit.",
            lambda v: change(f"send {v}", rule=v),
        )
        self._refreshers.append(
            lambda: rule.set_options([("change", "on change, keep-alive"), ("always", "always")], feed().rule)
        )
        rule.setAccessibleName("Sent")
        self.body.addLayout(field_row("Sent", rule))
        self.body.addWidget(label(f"Leaves through {self.wire.interface.label}", 11, quiet=True))
        ways = QVBoxLayout()

        def show_ways() -> None:
            clear(ways)
            ways.addWidget(
                Ways("This wire universe, every way it is said", tuple(every_way(feed().protocol, feed().wire)))
            )

        self._refreshers.append(show_ways)
        self.body.addLayout(ways)

    def _slot(self, slot: tuple[str, int]) -> None:
        number = self.session.rig.universes[slot[0]].number
        here = self.session.index.at(*slot)
        self.body.addWidget(
            Title(say_place(number, slot[1]), ", ".join(call(self.session.rig, s.key) for s in here) or "free")
        )


def _number(t: str) -> int:
    return _whole(t, 1, 999_999)


def _whole(t: str, low: int, high: int) -> int:
    """A whole number in bounds, or a NotationError that says the bounds."""
    try:
        n = int(t.strip())
    except ValueError:
        raise NotationError(f"“{t.strip()}” is no whole number. Write one from {low} to {high}.") from None
    if not low <= n <= high:
        raise NotationError(f"{n} is out of reach: {low} to {high}.")
    return n


def _order(t: str) -> str:
    import re

    clean = t.strip().upper()
    if not re.fullmatch("[RGBWAUCDV]{1,6}", clean):
        raise NotationError(f"“{t.strip()}” is no colour order. Use letters such as RGB, GRBW, RGBA.")
    return clean


def _words(t: str) -> str:
    if not t.strip():
        raise NotationError("It needs a name; its pixels are called by it.")
    return t.strip()


def number_series(rig: object, ids: list[str], t: str) -> object:
    """Number fixtures in order: `101+`, `101 +10`. Numbers that others have are refused."""
    from welvo.rig.document import Rig

    assert isinstance(rig, Rig)
    series = read_series(t)
    start, step = _whole(series.start, 1, 999_999), series.spacing or 1
    others = {f.number for k, f in rig.fixtures.items() if k not in ids}
    wanted = [start + n * step for n in range(len(ids))]
    taken = [n for n in wanted if n in others]
    if taken:
        raise NotationError(
            f"Number {taken[0]} is taken already by “{next(f.name for f in rig.fixtures.values() if f.number == taken[0])}”."
        )
    return set_fixtures(rig, f"number {plural(len(ids), 'fixture')}", {k: {"number": n} for k, n in zip(ids, wanted)})


def name_series(rig: object, ids: list[str], t: str) -> object:
    from welvo.rig.document import Rig

    assert isinstance(rig, Rig)
    return set_fixtures(
        rig,
        f"name {plural(len(ids), 'fixture')}",
        {k: {"name": t.strip().replace("#", str(n + 1))} for n, k in enumerate(ids)},
    )
