"""What the fields and tables of the Runs panel have in common."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QVBoxLayout

from welvo.app.fields import Tick
from welvo.app.paint import clear
from welvo.app.panel import FormPanel, Ways, finding_card
from welvo.app.session import Session
from welvo.app.stations.riser import At
from welvo.app.wire import Wire
from welvo.checks.registry import Finding
from welvo.rig.notation import NotationError, read_place, say_place
from welvo.rig.patched import NOWHERE, Place
from welvo.rig.plan import model_of
from welvo.rig.runs import Segment

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

    def refresh(self) -> None:
        """Show the present values; the panel itself decides what has to be built anew."""
        for r in self.refreshers:
            r()

    def _said(self, did: str, at: At, kind: str) -> None:
        """What is wrong with a segment and every number it has; said by who knows segments."""
        raise NotImplementedError
