"""Kinds of pixel strings: voltage, currents, chip, order, wires. Each is said once and holds for all elements of it."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from msgspec.structs import replace
from PySide6.QtWidgets import QDialog, QWidget

from welvo.app.session import Session
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.forms import field_row
from welvo.app.widgets.painting import button, column, label, row
from welvo.formats.models import shipped_pixels
from welvo.rig.base import Refused
from welvo.rig.colours import read_order
from welvo.rig.notation import plural
from welvo.rig.runs import PixelType
from welvo.runs.edits import put_pixel_kind


def decimals(text: str, low: float, high: float, what: str) -> float:
    try:
        value = float(text.strip().replace(",", ".") or "0")
    except ValueError:
        raise Refused(f"“{text.strip()}” is no number for {what}.") from None
    if not low <= value <= high:
        raise Refused(f"{what[:1].upper()}{what[1:]}: {low:g} to {high:g}.")
    return value


def read_currents(text: str) -> tuple[float, ...]:
    """`16 16 16` → mA of each component."""
    return tuple(decimals(p, 0, 5000, "a current in mA") for p in re.split(r"[\s;/]+", text.strip()) if p)


def read_wires(text: str) -> tuple[tuple[str, str], ...]:
    """`V+ red, data green, ground white` → function and colour of each wire."""
    found = []
    for part in (p.strip() for p in text.split(",") if p.strip()):
        function, _, colour = part.rpartition(" ")
        if not function:
            raise Refused(f"“{part}” says no function and colour. Write such as V+ red, data green, ground white.")
        found.append((function.strip(), colour.strip()))
    return tuple(found)


class PixelKinds(QDialog):
    """The kinds of the rig, and those that ship; what is changed of a shipped one is taken into the rig."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Kinds of pixels")
        self.setMinimumWidth(520)
        body = column((20, 16, 20, 16), 8)
        self.which = Choice(
            "Which kind of pixels is shown: one of this rig, or one that came with Welvo.", self._choose
        )
        self.which.setAccessibleName("Kind")
        self.which.setMinimumWidth(260)
        body.addLayout(
            row(
                label("Kinds of pixels", 16, True),
                8,
                self.which,
                button("New", self._new, "Begins a kind from nothing."),
                None,
            )
        )
        self.key = next(iter(session.rig.pixel_types), next(iter(shipped_pixels())))
        self._refresh: list[Callable[[], None]] = []

        def line(
            words: str, help_text: str, read: Callable[[PixelType], str], apply: Callable[[str], dict[str, Any]]
        ) -> None:
            made = Field(help_text, lambda t: self._set(apply(t)))
            made.setAccessibleName(words)
            self._refresh.append(lambda: made.set_value(read(self.kind)))
            body.addLayout(field_row(words, made))

        line("Name", "What the string is called by its maker.", lambda k: k.name, lambda t: {"name": _named(t)})
        line(
            "Chip",
            "The chip type that its port must speak, such as LU-3.",
            lambda k: k.chip,
            lambda t: {"chip": t.strip()},
        )
        line(
            "Chips take",
            "The order in which its chips take the components, such as GRB.",
            lambda k: k.order,
            lambda t: {"order": read_order(t)},
        )
        line(
            "Volts",
            "The voltage it is made for: 5, 12 or 24. More than that destroys it.",
            lambda k: f"{k.volts:g}",
            lambda t: {"volts": decimals(t, 0.1, 60, "voltage")},
        )
        line(
            "At least",
            "The lowest voltage at which its chips still work; 0: nobody said, and nothing is checked.",
            lambda k: f"{k.least:g}",
            lambda t: {"least": decimals(t, 0, 60, "voltage")},
        )
        line(
            "mA at full",
            "Current of each component at full in mA, in the order above: 16 16 16.",
            lambda k: " ".join(f"{c:g}" for c in k.currents),
            lambda t: {"currents": read_currents(t)},
        )
        line(
            "mA dark",
            "Current of one pixel that shows nothing, in mA. Long strings add it up.",
            lambda k: f"{k.idle:g}",
            lambda t: {"idle": decimals(t, 0, 5000, "a current in mA")},
        )
        line(
            "µs a slot",
            "How long one component takes on the data wire; ten microseconds for the common classes.",
            lambda k: f"{k.slot_us:g}",
            lambda t: {"slot_us": decimals(t, 0.01, 10_000, "a time in µs")},
        )
        line(
            "Pitch mm",
            "Millimetres from pixel to pixel; with the cross-section it decides how much voltage is lost.",
            lambda k: f"{k.pitch:g}",
            lambda t: {"pitch": decimals(t, 0, 10_000, "pitch in mm")},
        )
        line(
            "Area mm²",
            "Cross-section of each supply conductor inside the string; 0: nobody said.",
            lambda k: f"{k.area:g}",
            lambda t: {"area": decimals(t, 0, 1000, "a cross-section in mm²")},
        )
        line(
            "Connector",
            "The family of its connector. Two different ones at a joint are a finding.",
            lambda k: k.connector,
            lambda t: {"connector": t.strip()},
        )
        line(
            "Wires",
            "What each wire does and its colour: V+ red, data green, ground white.",
            lambda k: ", ".join(f"{f} {c}" for f, c in k.wires),
            lambda t: {"wires": read_wires(t)},
        )
        self.saying = label("", 11, quiet=True, wrap=True)
        self.saying.setMinimumHeight(30)
        body.addWidget(self.saying)
        body.addLayout(row(None, button("Done", self.accept)))
        self.setLayout(body)
        session.changed.connect(self._changed)
        self._show()

    @property
    def kind(self) -> PixelType:
        return (
            self._session.rig.pixel_types.get(self.key) or shipped_pixels().get(self.key) or PixelType(name="New kind")
        )

    def _changed(self, _: object) -> None:
        self._show()

    def _show(self) -> None:
        rig = self._session.rig
        have = {v.name for v in rig.pixel_types.values()}
        options = [
            (k, f"{v.name} · {plural(sum(e.type == k for e in rig.elements.values()), 'element')}")
            for k, v in rig.pixel_types.items()
        ]
        options += [(k, f"{v.name} · came with Welvo") for k, v in shipped_pixels().items() if v.name not in have]
        if self.key not in dict(options):
            options.append((self.key, self.kind.name))
        self.which.set_options(options, self.key)
        for r in self._refresh:
            r()

    def _choose(self, key: str) -> None:
        self.key = key
        self.saying.setText("")
        self._show()

    def _new(self) -> None:
        n = 1
        while f"kind-{n}" in self._session.rig.pixel_types:
            n += 1
        self.key = f"kind-{n}"
        self._session.edit(put_pixel_kind, self.key, PixelType(name=f"New kind {n}"))

    def _set(self, fields: dict[str, Any]) -> object:
        new = replace(self.kind, **fields)
        if new.currents and len(new.currents) != len(new.order):
            raise Refused(
                f"{new.order} has {len(new.order)} components; {plural(len(new.currents), 'current')} do not fit."
            )
        if new.least > new.volts:
            raise Refused("Its chips cannot need more than the string's own voltage.")
        self.saying.setText("")
        return self._session.edit(put_pixel_kind, self.key, new)


def _named(text: str) -> str:
    if not text.strip():
        raise Refused("A kind of pixels needs a name.")
    return text.strip()
