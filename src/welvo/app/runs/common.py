"""What the fields and tables of the Runs panel have in common."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QVBoxLayout

from welvo.app.network import Wire
from welvo.app.runs.riser_drawing import At
from welvo.app.session import Session
from welvo.app.widgets.fields import Tick
from welvo.app.widgets.painting import clear
from welvo.app.widgets.panels import FormPanel, Ways, finding_card
from welvo.checks.registry import Finding
from welvo.patch.along import cable_order, element_pixel, piece_name
from welvo.rig.base import Refused
from welvo.rig.lookup import call, universe_by_number
from welvo.rig.notation import plural, read_place, say_place, thousands
from welvo.rig.patched import NOWHERE, Place
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef
from welvo.rig.runs import Segment
from welvo.runs.consequences import if_longer
from welvo.runs.pixels import box_sums

if TYPE_CHECKING:
    from welvo.app.runs.station import RunsStation


def share(text: str) -> float:
    """`80`, `80 %` → 0.8."""
    m = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*%?\s*", text)
    value = float(m[1].replace(",", ".")) if m else -1
    if not 0 <= value <= 100:
        raise Refused(f"“{text.strip()}” is no brightness; it runs from 0 to 100 %.")
    return value / 100


def number(text: str, low: float, high: float, what: str) -> float:
    try:
        value = float(text.strip().replace(",", ".").removesuffix("m").removesuffix("mm²").strip() or "0")
    except ValueError:
        raise Refused(f"“{text.strip()}” is no number for {what}.") from None
    if not low <= value <= high:
        raise Refused(f"{what[:1].upper()}{what[1:]} runs from {low:g} to {high:g}.")
    return value


class RunsFields(FormPanel):
    """A panel over one place of a box's runs: its cards, its tables, its fields."""

    def __init__(self, station: RunsStation, session: Session, wire: Wire) -> None:
        super().__init__(session, wire)
        self._station = station
        self._built: tuple[object, ...] = ()
        self.levels = [255, 0, 0]
        self.colour = [255, 160, 0, 255]

    def _cards(self) -> list[Finding]:
        at, did = self._station.at, self._station.did
        found = []
        for f in self.session.report.findings:
            to = f.goes_to
            same_port = to.port == at.label
            here = not at.label or (same_port and (at.n < 0 or to.place == at.n))
            if to.kind == "run" and to.id == did and here:
                found.append(f)
        return found

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

    def _tick(self, words: str, help_text: str, read: Callable[[], bool], apply: Callable[[bool], object]) -> Tick:
        return self.tick(words, help_text, read, apply)

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
            uid = universe_by_number(s.rig, universe)
            if not uid:
                raise Refused(f"There is no universe {universe} in this rig.")
            model = model_of(s.rig, did)
            if model and not model.own_starts:
                raise Refused(f"On a {model.name} segments only follow one another; it has no starts of their own.")
            return change(at=Place(universe=uid, address=address))

        self.field("Starts at", "An address of its own, such as 6.241, where the model can do that; empty: right behind the segment before it.",
                   read, apply, narrow=110, placeholder="follows")  # fmt: skip

    def refresh(self) -> None:
        """Show the present values; the panel itself decides what has to be built anew."""
        for r in self.refreshers:
            r()

    def _said(self, did: str, at: At, kind: str) -> None:
        """What is wrong with it, every number it has, and what a longer one would move."""
        self._show_cards()
        if kind != "line":
            self._table("Every way it is said", lambda: self._ways(did, at))
            self._table("Ten pixels more behind it would move", lambda: self._longer(did, at))

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
        stream = cables.streams.get(PortRef(did, at.label))
        if stream is None or sum(len(x.pieces) for k, x in cables.streams.items() if k[0] == did) > 400:
            return ()
        would = if_longer(cables, did, at.label, at.n)
        names = ", ".join(call(self.session.rig, k) for k in would.things[:2]) + (" …" if len(would.things) > 2 else "")
        more = len(would.after) - len(would.before)
        ways = [(names or "nothing behind it", plural(len(would.things), "thing") if would.things else "stays")]
        if more:
            ways.append(("universes needed", f"{len(would.before)} → {len(would.after)}"))
        return tuple(ways)
