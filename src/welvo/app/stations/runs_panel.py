"""The panel of the Runs station: a segment, a port, or the whole box."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QVBoxLayout

from welvo.app.fields import Field, Tick
from welvo.app.paint import button, clear, label, row
from welvo.app.panel import FormPanel, Title, Ways, field_row, finding_card
from welvo.app.session import Session
from welvo.app.stations.element_face import ElementFace
from welvo.app.stations.riser import At
from welvo.app.stations.tape_paint import tint_of
from welvo.app.theme import THEME
from welvo.app.wire import Wire
from welvo.checks.registry import Finding
from welvo.patch.along import cable_order, element_pixel, piece_name
from welvo.patch.cable import Piece, Stream
from welvo.patch.table import whole
from welvo.rig.abilities import ability
from welvo.rig.lookup import call
from welvo.rig.notation import NotationError, plural, read_numbers, read_place, say_place, say_wire, thousands
from welvo.rig.patched import NOWHERE, Place
from welvo.rig.plan import model_of
from welvo.rig.runs import PixelType, Segment
from welvo.rig.wiring import Port
from welvo.runs.bridge import demands, first_free, rows, set_right, substitute, worth
from welvo.runs.consequences import if_longer
from welvo.runs.edits import (
    begin_and_make,
    change_segment,
    first_free_universe,
    fit,
    fix_addresses,
    follow_cable,
    follow_runs,
    hanging,
    make_to_fit,
    set_bridge_model,
    set_device_way,
    set_guidance,
    set_pixel_type,
    set_stream,
    take_down,
)  # fmt: skip
from welvo.runs.lamps import driven, read_functions, say_functions, sends
from welvo.runs.lines import LineSum, contacts, line_sum, plug_of
from welvo.runs.pixels import box_sums, choices, universes_of
from welvo.runs.power import frame_ms, joints, loads, stretches

if TYPE_CHECKING:
    from welvo.app.stations.runs import RunsStation


def share(text: str) -> float:
    """`80`, `80 %` → 0.8."""
    m = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*%?\s*", text)
    value = float(m[1].replace(",", ".")) if m else -1
    if not 0 <= value <= 100:
        raise NotationError(f"“{text.strip()}” is no brightness; it runs from 0 to 100 %.")
    return value / 100


def number(text: str, low: float, high: float, what: str) -> float:
    try:
        value = float(text.strip().replace(",", ".").removesuffix("m").removesuffix("mm²").strip() or "0")
    except ValueError:
        raise NotationError(f"“{text.strip()}” is no number for {what}.") from None
    if not low <= value <= high:
        raise NotationError(f"{what[:1].upper()}{what[1:]} runs from {low:g} to {high:g}.")
    return value


class RunsPanel(FormPanel):
    """Built anew for another place; refreshed for another value."""

    def __init__(self, station: RunsStation, session: Session, wire: Wire) -> None:
        super().__init__(session, wire)
        self._station = station
        self._built: tuple[object, ...] = ()
        self.levels = [255, 0, 0]
        self.colour = [255, 160, 0, 255]

    # ---- when what is built

    def refresh(self) -> None:
        if not self.isVisible():
            self._built = ()
            return
        shape = self._shape()
        if shape != self._built:
            typing = self.focusWidget()
            if isinstance(typing, Field) and typing.hasFocus() and typing.pending and shape[:2] == self._built[:2]:
                return
            self._built = shape
            self.refreshers.clear()
            clear(self.body)
            self._build()
            self.body.addStretch(1)
        for r in self.refreshers:
            r()

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def _shape(self) -> tuple[object, ...]:
        at, did = self._station.at, self._station.did
        rig = self.session.rig
        device = rig.devices.get(did)
        port = device.ports.get(at.label) if device else None
        segment = port.run[at.n] if port and 0 <= at.n < len(port.run) else None
        cards = [(f.code, f.fingerprint) for f in self._cards()]
        kind = (segment.kind, segment.fixtures, segment.element) if segment else None
        supplies = tuple((k, v.name) for k, v in rig.supplies.items())
        return (
            did,
            at,
            kind,
            supplies,
            tuple(rig.pixel_types),
            cards,
            device.model if device else "",
            THEME.name,
            THEME.step,
        )

    def _cards(self) -> list[Finding]:
        at, did = self._station.at, self._station.did
        place = "\t".join((did, *((at.label,) if at.label else ()), *((str(at.n),) if at.n >= 0 else ())))
        found = []
        for f in self.session.report.findings:
            kind, where = f.goes_to
            if kind != "run":
                continue
            mine = (
                where == place
                or (at.n < 0 and at.label and where.startswith(place + "\t"))
                or (not at.label and where.split("\t")[0] == did)
            )
            if mine:
                found.append(f)
        return found

    def _build(self) -> None:
        at, did = self._station.at, self._station.did
        rig = self.session.rig
        if did not in rig.devices:
            self.nothing()
            return
        port = rig.devices[did].ports.get(at.label, Port()) if at.label else None
        if port is None:
            self._box(did)
        elif 0 <= at.n < len(port.run):
            self._segment(did, at)
        else:
            self._port(did, at.label)

    def _show_cards(self, most: int = 3) -> None:
        for f in self._cards()[:most]:
            self.body.addWidget(finding_card(self.session, self.wire, f))

    def _table(self, title: str, ways: Callable[[], tuple[tuple[str, str], ...]]) -> None:
        """A table that is made again with every refresh."""
        holder = QVBoxLayout()
        self.body.addLayout(holder)
        shown: list[tuple[tuple[str, str], ...]] = []

        def again() -> None:
            now = ways()
            if shown and shown[-1] == now:
                return
            shown[:] = [now]
            clear(holder)
            if now:
                holder.addWidget(Ways(title, now))

        self.refreshers.append(again)

    # ---- one segment

    def _segment(self, did: str, at: At) -> None:
        s = self.session

        def now() -> Segment:
            run = s.rig.devices[did].ports.get(at.label, Port()).run if did in s.rig.devices else ()
            return run[at.n] if at.n < len(run) else Segment(kind="null")

        def change(**fields: object) -> object:
            return s.edit(change_segment, did, at.label, at.n, **fields)

        def piece() -> tuple[Stream, Piece] | None:
            stream = s.index.cables.streams.get((did, at.label))
            return (stream, stream.pieces[at.n]) if stream and at.n < len(stream.pieces) else None

        title = QVBoxLayout()
        self.body.addLayout(title)

        def head() -> None:
            clear(title)
            here = piece()
            one = now()
            name = piece_name(s.rig, here[1]) if here else one.name or "DMX line"
            key = one.element
            title.addWidget(Title(name, "", tint_of(s.rig, key) if key else None))
            title.addWidget(label(self._what(did, at, one, here), 11, quiet=True, wrap=True))

        self.refreshers.append(head)
        kind = now().kind
        if kind == "pixels":
            self._pixel_fields(did, at, now, change, piece)
        elif kind == "null":
            self.field("Count", "How many pixels of the cable the sender knows nothing of. They lengthen the cable, not the stream.",
                       lambda: str(now().count), lambda t: change(count=whole(t, 1, 100_000)), narrow=84)  # fmt: skip
        elif kind == "bridge":
            self._bridge_fields(did, at, now, change, piece)
        elif kind == "lamps":
            self._lamp_fields(did, at, now, change, piece)
        elif kind == "line":
            self._line_fields(did, at, now, change)
        if kind == "pixels" and now().element in s.rig.elements:
            face = ElementFace(lambda n: self._station.pick_pixel(n))
            self.refreshers.append(
                lambda: face.show_element(s.rig.elements.get(now().element), now(), self._station.pixel)
            )
            self.body.addWidget(face)
        self._show_cards()
        if kind != "line":
            self._table("Every way it is said", lambda: self._ways(did, at))
            self._table("Ten pixels more behind it would move", lambda: self._longer(did, at))
            self._cable_fields(did, at, now, change, piece)
        self.body.addLayout(
            row(
                None,
                button(
                    "Take it down",
                    lambda: s.edit(take_down, did, at.label, [at.n]),
                    "Takes the segment off the cable; what followed it there has no address then. Undo brings it back.   Del",
                ),
            )
        )

    def _what(self, did: str, at: At, one: Segment, here: tuple[Stream, Piece] | None) -> str:
        where = f"{self.session.rig.devices[did].name}, port {at.label}, place {at.n + 1}"
        if here is None:
            return f"{plural(len(one.fixtures), 'lamp')} on {where}"
        p = here[1]
        if one.kind == "bridge":
            return f"{where} · {one.width} slots, {plural(worth(p), 'pixel')}' worth of the port"
        if one.kind == "lamps":
            return f"{where} · {plural(p.pixels, 'lamp')}, one pixel each"
        if one.kind in ("null", "extension"):
            return f"{where} · takes no slots of the stream"
        more = f" as {plural(p.pixels, 'pixel')}" if one.group > 1 else ""
        return f"{where} · {plural(p.leds or p.pixels, 'LED')}{more} × {p.k} = {plural(p.slots, 'slot')}"

    def _pixel_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], piece: Callable[[], tuple[Stream, Piece] | None]) -> None:  # fmt: skip
        s = self.session
        element = s.rig.elements.get(now().element)
        self.field("Pixels", "Which pixels of the thing hang here: all, or such as 1-120. The rest can hang on another port.",
                   lambda: _say_part(now(), piece()), lambda t: change(**_read_part(t, element.pixels if element and element.kind != "block" else element.slots if element else 0)), narrow=110)  # fmt: skip
        self.field("Fold every", "After how many LEDs the string turns back and the controller turns the order round; 0 is no fold. Set it in one place only.",
                   lambda: str(now().fold), lambda t: change(fold=whole(t, 0, 100_000)), narrow=64,
                   beside=self._tick("Reversed", "The data comes in at the far end: the controller counts from there.", lambda: now().reverse, lambda v: change(reverse=v)))  # fmt: skip
        self.field("Group by", "How many LEDs show one pixel's colour. Grouping shortens the stream, not the cable.",
                   lambda: str(now().group), lambda t: change(group=whole(t, 1, 10_000)), narrow=84)  # fmt: skip
        self.field("Gives order", "The order in which the controller gives the components out, such as GRB; empty is straight, as they are sent. Set it at one end only.",
                   lambda: now().order, lambda t: change(order=_order(t)), narrow=84, placeholder="straight")  # fmt: skip
        self._bright(now, change)
        self._own_start(did, at, now, change)
        if element is not None:
            self.choice("Made of", "Which kind of pixels the string has. It says voltage, current, chip and the order its chips take.",
                        lambda: ([("", "not known"), *((k, t.name) for k, t in self._types().items())], s.rig.elements[now().element].type if now().element in s.rig.elements else ""),
                        lambda v: s.edit(set_pixel_type, now().element, v, self._types().get(v)))  # fmt: skip
            self._address(did, now)

    def _types(self) -> dict[str, PixelType]:
        """Kinds of pixels of the rig, and those that ship and are not in it yet."""
        from welvo.formats.models import shipped_pixels

        rig = self.session.rig
        have = {v.name for v in rig.pixel_types.values()}
        return {**rig.pixel_types, **{k: v for k, v in shipped_pixels().items() if v.name not in have}}

    def _address(self, did: str, now: Callable[[], Segment]) -> None:
        s = self.session

        def words() -> str:
            e = s.rig.elements.get(now().element)
            return (
                ""
                if e is None
                else {
                    "run": "address: from the cable",
                    "typed": "address: typed",
                    "anchored": "address: behind another",
                    "none": "address: none yet",
                }[e.at.way]
            )

        beside = label("", 11, quiet=True)
        self.refreshers.append(lambda: beside.setText(words()))
        fix = button(
            "Keep it",
            lambda: s.edit(fix_addresses, s.index.cables, [now().element]),
            "Types the address it has now, so that it stays when the cable changes.",
        )
        follow = button("Follow it", lambda: s.edit(follow_cable, now().element), "Lets the cable decide its address.")

        def which() -> None:
            e = s.rig.elements.get(now().element)
            follows = bool(e and e.at.way == "run")
            fix.setVisible(follows)
            follow.setVisible(not follows)

        self.refreshers.append(which)
        self.body.addLayout(row(beside, None, fix, follow))

    def _tick(self, words: str, help_text: str, read: Callable[[], bool], apply: Callable[[bool], object]) -> Tick:
        return self.tick(words, help_text, read, apply)

    def _bright(self, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        gamma = Field(
            "The gamma curve of this segment; 1 is none. Behind a bridge it must be 1.",
            lambda t: change(gamma=number(t, 0.01, 5, "gamma")),
            right=True,
        )
        gamma.say = lambda why: self.session.say(why, "error")
        gamma.setAccessibleName("Gamma")
        gamma.setFixedWidth(48)
        self.refreshers.append(lambda: gamma.set_value(f"{now().gamma:g}"))
        self.field("Brightness", "Brightness of this segment in per cent, one factor of the product. Behind a bridge all of them must be 100.",
                   lambda: f"{now().brightness * 100:g} %", lambda t: change(brightness=share(t)), narrow=64, beside=gamma)  # fmt: skip

    def _own_start(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        s = self.session

        def read() -> str:
            place = now().at
            uid = place.universe
            return (
                say_place(s.rig.universes[uid].number, place.address or 1)
                if place.way == "typed" and uid in s.rig.universes
                else ""
            )

        def apply(t: str) -> object:
            if not t.strip() or t.strip().lower() in ("follows", "behind"):
                return change(at=NOWHERE)
            universe, address = read_place(t)
            uid = next((k for k, u in s.rig.universes.items() if u.number == universe), "")
            if not uid:
                raise NotationError(f"There is no universe {universe} in this rig.")
            model = model_of(s.rig, did)
            if model and not model.own_starts:
                raise NotationError(
                    f"On a {model.name} segments only follow one another; it has no starts of their own."
                )
            return change(at=Place(universe=uid, address=address))

        self.field("Starts at", "An address of its own, such as 6.241, where the model can do that; empty: right behind the segment before it.",
                   read, apply, narrow=110, placeholder="follows")  # fmt: skip

    def _cable_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], piece: Callable[[], tuple[Stream, Piece] | None]) -> None:  # fmt: skip
        s = self.session
        self.rule()
        self.choice("Fed by", "Which supply feeds power in at this segment's data-in end. None: power comes along the cable from before.",
                    lambda: ([("", "from before"), *((k, f"{v.name} · {v.volts:g} V {v.amps:g} A") for k, v in s.rig.supplies.items())], now().supply), lambda v: change(supply=v))  # fmt: skip
        area = Field(
            "Cross-section of each supply conductor of the cable before it, in mm². 0: not known, no loss is worked out.",
            lambda t: change(area=number(t, 0, 1000, "cross-section")),
            right=True,
        )
        area.say = lambda why: s.say(why, "error")
        area.setAccessibleName("Cross-section")
        area.setFixedWidth(64)
        self.refreshers.append(lambda: area.set_value(f"{now().area:g} mm²"))
        self.field("Cable", "Metres of cable before this segment. Length and cross-section decide how much voltage is lost.",
                   lambda: f"{now().length:g} m", lambda t: change(length=number(t, 0, 10_000, "a cable's length")), narrow=64, beside=area)  # fmt: skip
        self.field("Data in", "Which end the data comes in at, in your words: left, bottom, at the door. Nothing depends on it.",
                   lambda: now().data_in, lambda t: change(data_in=t.strip()[:60]))  # fmt: skip
        self._table("Power at full white", lambda: self._power(did, at))
        self._table("Joint before it: function, wire here, wire there", lambda: self._joint(did, at))

    def _power(self, did: str, at: At) -> tuple[tuple[str, str], ...]:
        stream = self.session.index.cables.streams.get((did, at.label))
        found = (
            next((x for x in stretches(self.session.index.cables, stream) if x.piece.n == at.n), None)
            if stream
            else None
        )
        if found is None or not found.through:
            return ()
        ways = [
            ("Takes · passes its beginning", f"{found.amps:.2f} A · {found.through:.2f} A"),
            ("Voltage", f"{found.volts:.2f} V → {found.end:.2f} V"),
        ]
        if found.kind:
            ways.append(("Chips need", f"{found.kind.least:g} V" if found.kind.least else "not known"))
        if found.below:
            ways.append(("Feed in again", f"at LED {found.below} at the latest"))
        return tuple(ways)

    def _joint(self, did: str, at: At) -> tuple[tuple[str, str], ...]:
        stream = self.session.index.cables.streams.get((did, at.label))
        joint = next((j for j in joints(self.session.index.cables, stream) if j.n == at.n), None) if stream else None
        if joint is None or not joint.wires:
            return ()
        return tuple((function, f"{here} → {there}") for function, here, there in joint.wires)

    # ---- numbers

    def _ways(self, did: str, at: At) -> tuple[tuple[str, str], ...]:
        s = self.session
        sums = {x.stream.label: x for x in box_sums(s.index.cables, did)}
        here = sums.get(at.label)
        if here is None or at.n >= len(here.stream.pieces):
            return ()
        p = here.stream.pieces[at.n]
        if not p.pixels:
            return (("Place on the cable", f"{p.led}" if p.leds <= 1 else f"{p.led} – {p.led + p.leds - 1}"),)
        if not at.led:
            first, last = p.place(1), p.place(p.slots)
            ways = [
                (
                    "Universe.address",
                    f"{say_place(*first)} – {say_place(*last)}" if first and last else "no universe yet",
                ),
                ("Slot in the stream", f"{thousands(p.stream)} – {thousands(p.stream + p.slots - 1)}"),
                ("On the port", f"{thousands(p.px)} – {thousands(p.px + p.pixels - 1)}"),
                (
                    "Running in device",
                    f"px {thousands(here.running + p.px - 1)} · slot {thousands(here.slot + p.stream - 1)}",
                ),
            ]
            if p.leds:
                ways.append(("Place on the cable", f"{thousands(p.led)} – {thousands(p.led + p.leds - 1)}"))
            return tuple(ways)
        px = int(cable_order(p.segment, p.leds)[at.led - 1])
        slot = (px - 1) * p.k + 1
        own = element_pixel(s.rig, p, px) or px
        first, last = p.place(slot), p.place(slot + p.k - 1)
        ways = [
            (
                f"{piece_name(s.rig, p)}/{own}",
                f"{say_place(*first)} – {say_place(*last)}" if first and last else "no universe yet",
            )
        ]
        element = s.rig.elements.get(p.key)
        if element and element.kind != "block":
            places = [(c, p.place(slot + n)) for n, c in enumerate(element.order)]
            home = places[0][1][0] if places[0][1] else 0
            says = [
                f"{c} {w[1]:03d}" if w and w[0] == home else f"{c} {say_place(*w)}" if w else f"{c} —"
                for c, w in places
            ]
            ways.append(("Components", "  ".join(says)))
        if first and last and first[0] != last[0]:
            ways.append(("Cut by the universe's end", f"{first[0]} and {last[0]}"))
        base = (model_of(s.rig, did).counts if model_of(s.rig, did) else {}).get("pixel", 1)  # type: ignore[union-attr]
        ways += [
            ("Slot in the stream", f"{thousands(p.stream + slot - 1)} – {thousands(p.stream + slot + p.k - 2)}"),
            (
                "On the port",
                f"{thousands(p.px + px - 1)} of {thousands(here.stream.pixels)}"
                + (f" · box says {p.px + px - 1 + base - 1}" if base != 1 else ""),
            ),
            (
                "Running in device",
                f"px {thousands(here.running + p.px + px - 2)} · slot {thousands(here.slot + p.stream + slot - 2)}",
            ),
            ("Place on the cable", f"{thousands(p.led + at.led - 1)} of {thousands(here.stream.leds)}"),
        ]
        return tuple(ways)

    def _longer(self, did: str, at: At) -> tuple[tuple[str, str], ...]:
        cables = self.session.index.cables
        stream = cables.streams.get((did, at.label))
        if stream is None or sum(len(x.pieces) for k, x in cables.streams.items() if k[0] == did) > 400:
            return ()
        would = if_longer(cables, did, at.label, at.n)
        names = ", ".join(call(self.session.rig, k) for k in would.things[:2]) + (" …" if len(would.things) > 2 else "")
        more = len(would.after) - len(would.before)
        ways = [(names or "nothing behind it", plural(len(would.things), "thing") if would.things else "stays")]
        if more:
            ways.append(("universes needed", f"{len(would.before)} → {len(would.after)}"))
        return tuple(ways)

    # ---- bridges

    def _bridge_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], piece: Callable[[], tuple[Stream, Piece] | None]) -> None:  # fmt: skip
        s = self.session
        self.field(
            "Name",
            "What the crew calls this bridge. Free words.",
            lambda: now().name,
            lambda t: change(name=t.strip()[:60]),
        )
        self.choice("Model", "What kind of bridge it is. The model says how many slots it has and whether anything may follow it.",
                    lambda: ([("", "not known"), *((k, v) for k, v in self._bridges().items())], now().model), lambda v: self._set_model(did, at, v))  # fmt: skip
        self.field("Width", "How many slots of the stream become DMX, 1 to 512. Lamps above it get nothing.",
                   lambda: str(now().width), lambda t: change(width=whole(t, 1, 512)), narrow=84)  # fmt: skip
        self._behind_field(did, at, now, change)
        self._own_start(did, at, now, change)
        here = piece()
        if here:
            for r in rows(s.index.cables, *here)[:24]:
                self._dmx_field(did, at, now, change, r.key, r.brk, r.name)

            def terms() -> tuple[tuple[str, str], ...]:
                live = piece()
                return (
                    tuple((d.what, "yes" if d.holds else "no") for d in demands(s.index.cables, *live)) if live else ()
                )

            self._table("For DMX to come out right", terms)
            right = button(
                "Set it right",
                lambda: s.edit(set_right, did, at.label, at.n),
                "Sets every brightness on the way to 100 % and takes away what would change the bytes.",
            )

            def wrong() -> None:
                live = piece()
                right.setEnabled(bool(live) and any(not d.holds and d.edit for d in demands(s.index.cables, *live)))  # type: ignore[misc]

            self.refreshers.append(wrong)
            self.body.addLayout(row(None, right))
            self._substitution(piece)
            self.rule()
            self._daisy(now, change)
            self._table("The line behind it, lamp by lamp", lambda: self._stops(did, at, now()))
            self._table("Adapters, contact by contact", lambda: self._contacts(did, at, now()))

    def _bridges(self) -> dict[str, str]:
        from welvo.formats.models import shipped

        rig = self.session.rig
        have = {k: f"{v.maker} {v.name}".strip() for k, v in rig.device_models.items() if v.kind == "bridge"}
        more = {
            f"+{k}": f"{v.maker} {v.name}".strip()
            for k, v in shipped().items()
            if v.kind == "bridge" and v not in rig.device_models.values()
        }
        return {**have, **more}

    def _set_model(self, did: str, at: At, key: str) -> object:
        from welvo.formats.models import shipped

        model = shipped()[key[1:]] if key.startswith("+") else None
        return self.session.edit(set_bridge_model, did, at.label, at.n, key, model)

    def _behind_field(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        s = self.session

        def read() -> str:
            return ", ".join(call(s.rig, f) for f in now().fixtures)

        def apply(t: str) -> object:
            by = {f.number: k for k, f in s.rig.fixtures.items()}
            keys = []
            for n in read_numbers(t):
                if n not in by:
                    raise NotationError(f"There is no fixture {n} in this rig.")
                keys.append(by[n])
            left = {k: v for k, v in now().dmx.items() if k.split(":")[0] in keys}
            return change(fixtures=tuple(dict.fromkeys(keys)), dmx=left)

        self.field(
            "Fixtures",
            "The lamps behind it in cable order, by number: 201-205, 301. Those without an address get theirs from here.",
            read,
            apply,
            placeholder="201-205",
        )

    def _dmx_field(
        self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], key: str, brk: int, name: str
    ) -> None:
        s = self.session
        own = key if brk == 0 else f"{key}:{brk}"

        def stream_rows() -> list[tuple[int, str]]:
            stream = s.index.cables.streams.get((did, at.label))
            if stream is None or at.n >= len(stream.pieces):
                return []
            found = [r for r in rows(s.index.cables, stream, stream.pieces[at.n]) if (r.key, r.brk) == (key, brk)]
            return [(r.dmx, say_place(*r.places[0][0]) if r.places else "not carried") for r in found]

        def apply(t: str) -> object:
            if not t.strip():
                return change(dmx={k: v for k, v in now().dmx.items() if k != own})
            place = s.rig.fixtures[key].place(brk)
            if place.way != "run":
                raise NotationError(f"{name} has an address of its own; let it follow the cable first.")
            if t.strip().lower() == "free":
                stream = s.index.cables.streams[did, at.label]
                here = rows(s.index.cables, stream, stream.pieces[at.n])
                mine = next(r for r in here if (r.key, r.brk) == (key, brk))
                return change(dmx={**now().dmx, own: first_free(here, mine.last - mine.dmx + 1, mine)})
            return change(dmx={**now().dmx, own: whole(t, 1, 512)})

        beside = label("", 11, quiet=True)
        self.refreshers.append(lambda: beside.setText(next((w for _, w in stream_rows()), "")))
        self.field(f"{name} DMX", "Its DMX address behind the bridge, 1 to 512; empty: right behind the one before it; free: the first gap.",
                   lambda: next((str(d) for d, _ in stream_rows()), ""), apply, narrow=64, beside=beside)  # fmt: skip

    def _substitution(self, piece: Callable[[], tuple[Stream, Piece] | None]) -> None:
        """Which colour a plain pixel shows in the bridge's place, for levels of its first three slots."""
        s = self.session
        self.rule()
        self.body.addWidget(
            label(
                "Substitution test: put a plain RGB pixel in the bridge's place. With these levels on its first three DMX addresses it shows …",
                11,
                wrap=True,
            )
        )

        def apply(t: str) -> object:
            parts = [p for p in re.split(r"[\s,;/]+", t.strip()) if p]
            if len(parts) != 3 or not all(p.isdigit() and int(p) <= 255 for p in parts):
                raise NotationError("Write three levels from 0 to 255, such as 255 0 0.")
            self.levels = [int(p) for p in parts]
            self.refresh()
            return True

        self.field("Levels", "Levels of the first three slots behind the bridge, 0 to 255 each. Nothing is sent from here.",
                   lambda: " ".join(map(str, self.levels)), apply, narrow=110)  # fmt: skip

        def shown() -> tuple[tuple[str, str], ...]:
            here = piece()
            if here is None:
                return ()
            got = substitute(s.index.cables, *here, (self.levels[0], self.levels[1], self.levels[2]))
            return ((f"red {got.red} · green {got.green} · blue {got.blue}", got.word),)

        self._table("The plain pixel shows", shown)

    # ---- converters

    def _lamp_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], piece: Callable[[], tuple[Stream, Piece] | None]) -> None:  # fmt: skip
        s = self.session
        self.field("Channels", "What each channel of a lamp does, in order: dimmer red green blue white, or a fixed value such as =128.",
                   lambda: say_functions(now().functions), lambda t: change(functions=read_functions(t)))  # fmt: skip
        spacing = Field(
            "Start to start of two lamps in slots; 0: packed.", lambda t: change(spacing=whole(t, 0, 512)), right=True
        )
        spacing.say = lambda why: s.say(why, "error")
        spacing.setAccessibleName("Spacing")
        spacing.setFixedWidth(48)
        self.refreshers.append(lambda: spacing.set_value(f"{now().spacing or len(now().functions)}"))
        self.field("First · every", "DMX address of the first lamp on the converter's line, and how many slots from start to start.",
                   lambda: str(now().start), lambda t: change(start=whole(t, 1, 512)), narrow=64, beside=spacing)  # fmt: skip
        self._behind_field(did, at, now, change)

        def apply(t: str) -> object:
            parts = [p for p in re.split(r"[\s,;/]+", t.strip()) if p]
            if len(parts) != 4 or not all(p.isdigit() and int(p) <= 255 for p in parts):
                raise NotationError("Write red, green, blue and brightness from 0 to 255, such as 255 160 0 200.")
            self.colour = [int(p) for p in parts]
            self.refresh()
            return True

        self.field("Colour", "A colour and a brightness, 0 to 255 each, to see what every slot gets. Nothing is sent from here.",
                   lambda: " ".join(map(str, self.colour)), apply, narrow=140)  # fmt: skip

        def out() -> tuple[tuple[str, str], ...]:
            f = now().functions
            values = sends(f, dict(zip("RGB", self.colour)), self.colour[3])
            return tuple(
                (f"DMX {now().start + n} · {say_functions((x,))}", str(v)) for n, (x, v) in enumerate(zip(f, values))
            )

        self._table("The first lamp's slots get", out)

        def fits() -> tuple[tuple[str, str], ...]:
            first = s.rig.fixtures.get(now().fixtures[0]) if now().fixtures else None
            if first is None:
                return ()
            return tuple(
                (f"{d.slot} {d.name}", (d.gets if d.fits else f"{d.gets or 'nothing'} — not driven"))
                for d in driven(s.rig, first, now().functions)
            )

        self._table("Channels of the first lamp", fits)

    # ---- DMX lines

    def _line_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        s = self.session
        self.field(
            "Name",
            "What the crew calls this line. Free words.",
            lambda: now().name,
            lambda t: change(name=t.strip()[:60]),
        )
        self._behind_field(did, at, now, change)

        self._daisy(now, change)
        self.field("Guidance", "How many metres of DMX line are worth a finding in this rig; 300 is a common one.",
                   lambda: f"{s.rig.line_metres:g} m", lambda t: s.edit(set_guidance, number(t, 1, 10_000, "the guidance")), narrow=84)  # fmt: skip

        self._table("Lamp by lamp", lambda: self._stops(did, at, now()))
        self._table("Adapters, contact by contact", lambda: self._contacts(did, at, now()))

    def _daisy(self, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        """What is said of a daisy chain: cables, boosters, its far end."""
        s = self.session

        def lengths(t: str) -> object:
            values = [
                number(p, 0, 10_000, "a cable's length")
                for p in re.split(r"[;\s]+|,\s+", t.replace("m", " ").strip())
                if p
            ]
            lamps = now().fixtures
            if len(values) == 1:
                return change(lengths=dict.fromkeys(lamps, values[0]) if values[0] else {})
            if len(values) != len(lamps):
                raise NotationError(
                    f"{len(values)} lengths for {plural(len(lamps), 'lamp')}: write one for all, or one for each in cable order."
                )
            return change(lengths={k: v for k, v in zip(lamps, values) if v})

        def read_lengths() -> str:
            values = [now().lengths.get(f, 0.0) for f in now().fixtures]
            return f"{values[0]:g}" if len(set(values)) == 1 else "; ".join(f"{v:g}" for v in values) if values else "0"

        self.field("Cables m", "Metres of cable before each lamp: one number for all, or one for each in cable order, such as 12; 3; 3.", read_lengths, lengths)  # fmt: skip

        def boosters(t: str) -> object:
            by = {s.rig.fixtures[k].number: k for k in now().fixtures if k in s.rig.fixtures}
            keys = []
            for n in read_numbers(t):
                if n not in by:
                    raise NotationError(f"{n} does not hang on this line.")
                keys.append(by[n])
            return change(boosters=tuple(keys))

        self.field("Boosters", "Before which lamps a splitter or booster stands, by number. It begins unit loads and length anew.",
                   lambda: ", ".join(call(s.rig, k) for k in now().boosters), boosters, placeholder="none")  # fmt: skip
        self.choice("Far end", "Whether the last lamp has a terminator. An open end echoes.",
                    lambda: ([("", "not known"), ("yes", "terminated"), ("no", "open")], {None: "", True: "yes", False: "no"}[now().terminated]),
                    lambda v: change(terminated={"": None, "yes": True, "no": False}[v]))  # fmt: skip

    def _line_sum(self, did: str, at: At, one: Segment) -> LineSum | None:
        """The sums of a line, on a port of its own or behind a bridge."""
        s = self.session
        stream = s.index.cables.streams.get((did, at.label))
        if stream and at.n < len(stream.pieces):
            return line_sum(s.index, one, stream.pieces[at.n], "", plug_of(s.rig, did, one) if one.model else "")
        line = s.index.cables.lines.get((did, at.label))
        return line_sum(s.index, one, None, line.universe, plug_of(s.rig, did)) if line else None

    def _stops(self, did: str, at: At, one: Segment) -> tuple[tuple[str, str], ...]:
        total = self._line_sum(did, at, one)
        if total is None or not total.stops:
            return ()
        ways = [
            ("Unit loads · metres", f"{total.heaviest:g} of 32 · {total.longest:g} m"),
            ("Order", "by address" if total.in_order else "not by address"),
        ]
        ways += [
            (
                f"{x.turn}. {x.name}{' · booster' if x.booster else ''}",
                f"set {x.dmx or '—'}"
                + (f" · {x.metres:g} m" if x.metres else "")
                + (f" · {x.adapter}" if x.adapter else ""),
            )
            for x in total.stops[:40]
        ]
        return tuple(ways)

    def _contacts(self, did: str, at: At, one: Segment) -> tuple[tuple[str, str], ...]:
        total = self._line_sum(did, at, one)
        found: list[tuple[str, str]] = []
        for need in total.adapters if total else ():
            a, b = need.split(" to ")
            found += [(f"{need} · {function}", f"{here} → {there}") for function, here, there in contacts(a, b)]
        return tuple(found)

    # ---- a port

    def _port(self, did: str, port_label: str) -> None:
        s = self.session

        def now() -> Port:
            return s.rig.devices[did].ports.get(port_label, Port()) if did in s.rig.devices else Port()

        def change(words: str, **fields: object) -> object:
            return s.edit(set_stream, did, port_label, words, **fields)

        able = ability(s.rig, did, port_label)
        self.body.addWidget(Title(f"Port {port_label}", s.rig.devices[did].name))
        what = {"dmx": "gives DMX", "pixels": "gives pixel data", "bus": "gives a lamp bus"}[able.gives]
        limit = f", {thousands(able.pixels)} pixels at most ({able.of})" if able.pixels else ""
        self.body.addWidget(
            label(
                f"It {what}{limit}." + (f" Mode “{able.off}” switches it off." if able.off else ""),
                11,
                quiet=True,
                wrap=True,
            )
        )
        self.choice("Takes", "Which feed's universe the port begins with. It runs on over the universes behind it.",
                    lambda: ([("", "nothing"), *((f, f"{say_wire(v.protocol, v.wire)} · {s.rig.universes[v.universe].number}") for f, v in s.rig.feeds.items() if v.universe in s.rig.universes)], now().feed),
                    lambda v: change(f"port {port_label} takes another feed", feed=v, follows=""))  # fmt: skip
        if able.gives == "pixels":
            self.choice("Begins", "Where its stream begins: at the feed's universe, right behind the port before, or at the next universe.",
                        lambda: ([("", "at its own universe"), ("packed", "right behind the port before"), ("universe", "at the next universe")], now().follows),
                        lambda v: change(f"port {port_label} begins otherwise", follows=v))  # fmt: skip
            self.field("At slot", "The slot of that universe at which the stream begins, 1 to 512.",
                       lambda: str(now().start), lambda t: change(f"port {port_label} at slot {t}", start=whole(t, 1, 512)), narrow=84)  # fmt: skip
            self.field("Configured", "How many pixels the box is configured for on this port; 0: as many as are connected. Too many reach into what comes behind.",
                       lambda: str(now().pixels), lambda t: change(f"port {port_label}: {t} pixels", pixels=whole(t, 0, 100_000)), narrow=84)  # fmt: skip
            self.field("Brightness", "Brightness of the port in per cent, one factor of the product. With a bridge on it, it must be 100.",
                       lambda: f"{now().brightness * 100:g} %", lambda t: change(f"port {port_label} at {t}", brightness=share(t)), narrow=84)  # fmt: skip
            self.field("Gamma", "The gamma curve of the port; 1 is none. With a bridge on it, it must be 1.",
                       lambda: f"{now().gamma:g}", lambda t: change(f"port {port_label}: gamma {t}", gamma=number(t, 0.01, 5, "gamma")), narrow=64,
                       beside=self._tick("Dithering", "Trembles the lowest bit for finer steps. With a bridge on the port it must be off.", lambda: now().dither, lambda v: change(f"dithering on port {port_label}", dither=v)))  # fmt: skip
            model = model_of(s.rig, did)
            chips = list(
                dict.fromkeys(
                    (*(model.chips if model else ()), *(t.chip for t in s.rig.pixel_types.values() if t.chip))
                )
            )
            self.choice("Chip type", "Which chip type the port is set to speak. Empty: the string's own.",
                        lambda: ([("", "the string's"), *((c, c) for c in chips)], now().chip), lambda v: change(f"port {port_label}: chip {v}", chip=v))  # fmt: skip
        self._show_cards()
        self._table("Its stream", lambda: self._stream_ways(did, port_label))
        self._patch_buttons(did, port_label)

    def _stream_ways(self, did: str, port_label: str) -> tuple[tuple[str, str], ...]:
        s = self.session
        stream = s.index.cables.streams.get((did, port_label))
        if stream is None:
            return ()
        able = ability(s.rig, did, port_label)
        amps = next((x for x in loads(s.index.cables) if x.id == f"{did} {port_label}"), None)
        used = stream.used
        last = used[-1] if used else (0, 0)
        ways = [
            ("Begins", say_place(*stream.start) if stream.start else "no universe yet"),
            ("Pixels on the cable", thousands(stream.leds) + (f" of {thousands(able.pixels)}" if able.pixels else "")),
            ("Slots of the stream", thousands(stream.slots)),
            (
                "Universes",
                f"{len(used)}: {used[0][0]}–{last[0]}" if len(used) > 1 else f"1: {last[0]}" if used else "none",
            ),
            ("Needed of the last", f"{last[1]} slots" if used else "—"),
            ("One frame takes", f"{frame_ms(s.index.cables, stream):.1f} ms"),
        ]
        if amps:
            ways.append(
                ("From the port at white", f"{amps.amps:.1f} A" + (f" of {amps.rated:g}" if amps.rated else ""))
            )
        return tuple(ways)

    def _patch_buttons(self, did: str, port_label: str = "") -> None:
        """Unpatched only, or replace all: a clear choice, with the counts on it."""
        s = self.session
        new = button(
            "Patch",
            lambda: s.edit(follow_runs, did, port_label),
            "Lets what has no address yet take it from the cable.",
        )
        every = button(
            "Replace all",
            lambda: s.edit(follow_runs, did, port_label, True),
            "Lets everything take its address from the cable, typed addresses included; locked ones stay.",
        )

        def say() -> None:
            if did not in s.rig.devices:
                return
            have = hanging(s.rig, did, port_label)
            new.setText(f"Patch {len(have.new)} unpatched")
            new.setEnabled(bool(have.new))
            every.setText(
                f"Replace all {len(have.new) + len(have.typed)}"
                + (f", {len(have.locked)} locked stay" if have.locked else "")
            )
            every.setEnabled(bool(have.typed))

        self.refreshers.append(say)
        self.body.addLayout(row(new, None))
        self.body.addLayout(row(every, None))

    # ---- the box

    def _box(self, did: str) -> None:
        s = self.session
        model = model_of(s.rig, did)

        def way(words: str, **fields: object) -> object:
            return s.edit(set_device_way, did, words, **fields)

        self.body.addWidget(Title(s.rig.devices[did].name))
        self.body.addWidget(
            label(f"{model.maker} {model.name}. {model.note}" if model else "unknown model", 11, quiet=True, wrap=True)
        )
        if model and model.modes:
            self.choice("Mode", "Which of its output modes the box is set to. A mode can switch ports off or change what they give.",
                        lambda: ([("", "not chosen"), *((m.name, m.name) for m in model.modes)], s.rig.devices[did].mode if did in s.rig.devices else ""), lambda v: way(f"mode {v}", mode=v))  # fmt: skip
        if model and model.firmwares:
            self.choice("Firmware", "Which firmware the box has. Some are known good, some carry a warning.",
                        lambda: ([("", "not known"), *((f.version, f"{f.version}{'' if f.good else ' · warned of'}") for f in model.firmwares)], s.rig.devices[did].firmware if did in s.rig.devices else ""), lambda v: way(f"firmware {v}", firmware=v))  # fmt: skip
        if not s.index.cables.streams or not any(k[0] == did for k in s.index.cables.streams):
            self._show_cards()
            self.body.addWidget(
                label(
                    "Nothing hangs on it in pixels. Pick a port, then type what hangs there.", 11, quiet=True, wrap=True
                )
            )
            return
        self.field("Slots each", "How many slots of a universe the box takes: 512, 510, or 0 for as many as the sender uses. Both ends must agree.",
                   lambda: str(s.rig.devices[did].size) if did in s.rig.devices else "", lambda t: way(f"universes of {t}", size=whole(t, 0, 512)), narrow=84)  # fmt: skip
        self.choice("Pixels", "Whole: a pixel that a universe's end would cut begins in the next. Dense: it is cut, and slots are saved.",
                    lambda: ([("whole", "kept whole"), ("dense", "dense, may be cut")], s.rig.devices[did].packs if did in s.rig.devices else "whole"), lambda v: way(f"pixels {v}", packs=v))  # fmt: skip
        self.field("Brightness", "Brightness of the whole box in per cent, one factor of the product.",
                   lambda: f"{s.rig.devices[did].brightness * 100:g} %" if did in s.rig.devices else "", lambda t: way(f"brightness {t}", brightness=share(t)), narrow=84)  # fmt: skip
        self._show_cards(2)
        self._begin(did)
        self._table("Universes", lambda: self._fit_ways(did))
        self._table("What each way costs: universes · cut pixels", lambda: self._costs(did))
        self._patch_buttons(did)
        self._table("Power at full white", lambda: self._loads(did))

    def _begin(self, did: str) -> None:
        s = self.session
        first = Field(
            "The number of the universe that the first port begins at. It is made and fed when it is not there.",
            lambda t: bool(whole(t, 1, 63999)),
            right=True,
        )
        first.say = lambda why: s.say(why, "error")
        first.setAccessibleName("First universe")
        first.setFixedWidth(64)
        streams = [x for k, x in s.index.cables.streams.items() if k[0] == did]
        start = next((x.start for x in streams if x.start), None)
        first.set_value(str(start[0] if start else first_free_universe(s.rig)))

        def begin(how: str) -> None:
            first.commit()
            if first.property("wrong"):
                return
            s.edit(begin_and_make, did, whole(first.text(), 1, 63999), how)

        each = button(
            "A universe each",
            lambda: begin("universe"),
            "Every port begins at a universe of its own, from this number on. What is missing is made and fed.",
        )
        packed = button(
            "Packed",
            lambda: begin("packed"),
            "The ports follow one another without a gap, from this number on. What is missing is made and fed.",
        )
        self.body.addLayout(field_row("Begin at", first, None))
        self.body.addLayout(row(each, packed, None))
        spare = Field(
            "How many spare universes to make and feed behind the last one that is needed.",
            lambda t: whole(t, 0, 1000) >= 0,
            right=True,
        )
        spare.say = lambda why: s.say(why, "error")
        spare.setAccessibleName("Headroom")
        spare.setFixedWidth(40)
        spare.set_value("0")
        make = button(
            "Make and feed",
            lambda: s.edit(make_to_fit, did, whole(spare.text() or "0", 0, 1000)),
            "Makes and feeds every universe the box needs, and the spare ones, like the first.",
        )

        def say() -> None:
            if did in s.rig.devices:
                need = fit(s.rig, s.index.cables, did)
                make.setText(f"Make and feed {len(need.missing) + len(need.unfed)}")

        self.refreshers.append(say)
        self.body.addLayout(row(make, label("spare", quiet=True), spare, None))

    def _fit_ways(self, did: str) -> tuple[tuple[str, str], ...]:
        s = self.session
        if did not in s.rig.devices:
            return ()
        need = fit(s.rig, s.index.cables, did)
        if not need.numbers:
            return (("Universes", "no port has a start yet"),)
        model = model_of(s.rig, did)
        most = f" of {model.universes}" if model and model.universes else ""
        return (
            ("Needed", f"{len(need.numbers)}{most}: {need.numbers[0]}–{need.numbers[-1]}"),
            ("Not there · not fed", f"{len(need.missing)} · {len(need.unfed)}"),
            (f"Needed of the last, {need.last[0]}", f"{need.last[1]} slots"),
        )

    def _costs(self, did: str) -> tuple[tuple[str, str], ...]:
        s = self.session
        if did not in s.rig.devices or sum(x.pixels for k, x in s.index.cables.streams.items() if k[0] == did) > 20_000:
            return ()
        if not universes_of(s.index.cables, did):
            return ()
        found = []
        for c in choices(s.rig, did):
            words = f"{c.universes} · {len(c.cut)} cut"
            if c.cut:
                words += f": {', '.join(f'{x.name}/{x.pixel}' for x in c.cut[:2])}{' …' if len(c.cut) > 2 else ''}"
            found.append((c.words, words))
        return tuple(found)

    def _loads(self, did: str) -> tuple[tuple[str, str], ...]:
        found = []
        for x in loads(self.session.index.cables):
            if x.kind == "supply" or x.id.split(" ")[0] == did:
                if x.kind == "port" and not x.rated:
                    continue
                found.append((x.name, f"{x.amps:.1f} A" + (f" of {x.rated:g}" if x.rated else "")))
        return tuple(found[:16])


def _say_part(s: Segment, here: tuple[Stream, Piece] | None) -> str:
    if s.first == 1 and not s.count:
        return "all"
    last = s.first + (s.count or (here[1].leds or here[1].pixels if here else 1)) - 1
    return f"{s.first}-{last}"


def _read_part(text: str, most: int) -> dict[str, int]:
    if text.strip().lower() in ("all", ""):
        return {"first": 1, "count": 0}
    m = re.fullmatch(r"\s*(\d+)\s*[-–]\s*(\d+)\s*", text)
    if not m or not 1 <= int(m[1]) <= int(m[2]) <= max(1, most):
        raise NotationError(f"“{text.strip()}” is no part of 1 to {most}. Write all, or such as 1-{most}.")
    return {"first": int(m[1]), "count": int(m[2]) - int(m[1]) + 1}


def _order(text: str) -> str:
    t = text.strip().upper()
    if t in ("", "STRAIGHT"):
        return ""
    if not re.fullmatch("[RGBWAUCDV]{1,6}", t) or len(set(t)) < len(t):
        raise NotationError(
            f"“{text.strip()}” is no colour order. Write letters such as GRB, each once, or leave it empty."
        )
    return t
