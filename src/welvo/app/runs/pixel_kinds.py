"""Kinds of pixel strings: voltage, currents, chip, order, wires. Each is said once and holds for all elements of it."""

from __future__ import annotations

import re

from msgspec import Struct
from msgspec.structs import replace
from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.flow import keep_least
from welvo.app.widgets.forms import Form, Subject, Typed
from welvo.app.widgets.painting import make_button
from welvo.formats.models import shipped_pixels
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.readers import Number, Order, TextReader, read_decimal
from welvo.rig.runs import PixelType
from welvo.runs.edits import put_pixel_kind


class _Currents(Struct, frozen=True):
    """`16 16 16` → mA of each component."""

    def read_text(self, text: str) -> tuple[float, ...]:
        return tuple(read_decimal(p, 0, 5000, "mA") for p in re.split(r"[\s;/]+", text.strip()) if p)

    def say_value(self, value: tuple[float, ...]) -> str:
        return " ".join(f"{c:g}" for c in value)


class _Wires(Struct, frozen=True):
    """`V+ red, data green, ground white` → function and colour of each wire."""

    def read_text(self, text: str) -> tuple[tuple[str, str], ...]:
        found = []
        for part in (p.strip() for p in text.split(",") if p.strip()):
            function, _, colour = part.rpartition(" ")
            if not function:
                raise Refused(f"“{part}” says no function and colour. Write such as V+ red, data green, ground white.")
            found.append((function.strip(), colour.strip()))
        return tuple(found)

    def say_value(self, value: tuple[tuple[str, str], ...]) -> str:
        return ", ".join(f"{function} {colour}" for function, colour in value)


def _zero_is_empty(field: str) -> Number:
    return Number(PixelType, field, empty=0.0)


ROWS = (
    Typed("Name", "What the string is called by its maker.", "name", TextReader("A kind of pixels needs a name.")),
    Typed("Chip", "The chip type that its port must speak, such as LU-3.", "chip"),
    Typed("Chips take", "The order in which its chips take the components, such as GRB.", "order", Order()),
    Typed("Volts", "The voltage it is made for: 5, 12 or 24. More than that destroys it.", "volts"),
    Typed(
        "At least",
        "The lowest voltage at which its chips still work; 0: nobody said, and nothing is checked.",
        "least",
        _zero_is_empty("least"),
    ),
    Typed(
        "mA at full",
        "Current of each component at full in mA, in the order above: 16 16 16.",
        "currents",
        _Currents(),
    ),
    Typed(
        "mA dark",
        "Current of one pixel that shows nothing, in mA. Long strings add it up.",
        "idle",
        _zero_is_empty("idle"),
    ),
    Typed(
        "µs a slot",
        "How long one component takes on the data wire; ten microseconds for the common classes.",
        "slot_us",
    ),
    Typed(
        "Pitch mm",
        "Millimetres from pixel to pixel; with the cross-section it decides how much voltage is lost.",
        "pitch",
        _zero_is_empty("pitch"),
    ),
    Typed(
        "Area mm²",
        "Cross-section of each supply conductor inside the string; 0: nobody said.",
        "area",
        _zero_is_empty("area"),
    ),
    Typed("Connector", "The family of its connector. Two different ones at a joint are a finding.", "connector"),
    Typed(
        "Wires",
        "What each wire does and its colour: V+ red, data green, ground white.",
        "wires",
        _Wires(),
    ),
)


class PixelKinds(Dialog):
    """The kinds of the rig, and those that ship; what is changed of a shipped one is taken into the rig."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        self._session = session
        self.which = Choice(
            "Which kind of pixels is shown: one of this rig, or one that came with Welvo.", self._choose_kind
        )
        self.which.setAccessibleName("Kind")
        keep_least(self.which, 260)
        new = make_button("New", self._add_kind, "Begins a kind from nothing.")
        super().__init__(parent, "Kinds of pixels", beside=(self.which, new, None), wide=520)
        self.key = next(iter(session.rig.pixel_types), next(iter(shipped_pixels())))
        self.form = Form(self.body, Subject(lambda: self.chosen_kind, self._set_field), PixelType).add(*ROWS)
        self.finish(make_button("Close", self.accept), leave="", room=18)
        session.changed.connect(self._show_kind)
        self._show_kind()

    @property
    def chosen_kind(self) -> PixelType:
        return (
            self._session.rig.pixel_types.get(self.key) or shipped_pixels().get(self.key) or PixelType(name="New kind")
        )

    def _show_kind(self, *_: object) -> None:
        rig = self._session.rig
        have = {v.name for v in rig.pixel_types.values()}
        options = [
            (k, f"{v.name} · {say_count(sum(e.type == k for e in rig.elements.values()), 'element')}")
            for k, v in rig.pixel_types.items()
        ]
        options += [(k, f"{v.name} · came with Welvo") for k, v in shipped_pixels().items() if v.name not in have]
        if self.key not in dict(options):
            options.append((self.key, self.chosen_kind.name))
        self.which.set_options(options, self.key)
        self.form.refresh()

    def _choose_kind(self, key: str) -> None:
        self.key = key
        self._show_kind()

    def _add_kind(self) -> None:
        n = 1
        while f"kind-{n}" in self._session.rig.pixel_types:
            n += 1
        self.key = f"kind-{n}"
        self._session.make_edit(put_pixel_kind, self.key, PixelType(name=f"New kind {n}"))

    def _set_field(self, _: str, **fields: object) -> object:
        new = replace(self.chosen_kind, **fields)
        if new.currents and len(new.currents) != len(new.order):
            raise Refused(
                f"{new.order} has {len(new.order)} components; {say_count(len(new.currents), 'current')} do not fit."
            )
        if new.least > new.volts:
            raise Refused("Its chips cannot need more than the string's own voltage.")
        return self._session.make_edit(put_pixel_kind, self.key, new)
