"""Dialogs of the Bench: what is held, with a release for each; spreading a value; a colour for everything picked."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QColorDialog, QWidget

from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog, WishDialog, line_to_type_into
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.bench.colour import colour_of, read_colour
from welvo.bench.levels import Fader, read_function_value, spread_values
from welvo.rig.attributes import word_for
from welvo.rig.base import Refused
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_count, say_place

SPREADS = tuple((how, how) for how in ("first to last", "centre out", "every 2nd", "every 3rd"))


class HeldList(Dialog):
    """Everything that is held, each with its release."""

    def __init__(self, session: Session, network: Network, parent: QWidget, moved: Callable[[], object]) -> None:
        super().__init__(
            parent, "What is held", note="It stays until it is released, armed or not.", wide=520, high=420
        )
        self._session, self._network, self._moved = session, network, moved
        self.list = RowList("Held", (Column("What", 170), Column("Function", 170), Column("Value", 90)))
        self.list.setSelectionMode(RowList.SelectionMode.ExtendedSelection)
        self.body.addWidget(self.list, 1)
        self.release = make_button(
            "Release chosen", self._release_chosen, "The chosen rows go to their defaults.", primary=True
        )
        self.finish(self.release, leave="Close", room=18)
        self._fill_list()

    def _rows_of_held(self) -> list[tuple[tuple[str, ...], tuple[str, str, str]]]:
        rig, levels = self._session.rig, self._network.meant.levels
        found: list[tuple[tuple[str, ...], tuple[str, str, str]]] = []
        for (key, function), value in levels.held.items():
            found.append((("f", key, function), (name_of_item(rig, key), word_for(function), f"{100 * value:.0f} %")))
        for key, single in levels.pixels.items():
            for (n, function), value in single.items():
                words = (f"{name_of_item(rig, key)}/{n}", word_for(function), f"{100 * value:.0f} %")
                found.append((("p", key, str(n), function), words))
        for (uid, address), level in levels.raw.items():
            place = say_place(rig.universes[uid].number, address) if uid in rig.universes else uid
            found.append((("s", uid, str(address)), (place, "slot", str(level))))
        return found

    def _fill_list(self) -> None:
        rows = self._rows_of_held()
        self.list.show_lines([ListRow(k, cells, cells) for k, cells in rows])
        self.say(f"{say_count(len(rows), 'value')} held." if rows else "Nothing is held.")
        self.release.setEnabled(bool(rows))

    def _release_chosen(self) -> None:
        levels = self._network.meant.levels
        chosen = [self.list.rows.ids[i.row()] for i in self.list.selectionModel().selectedRows()]
        for k in chosen:
            assert isinstance(k, tuple)
            if k[0] == "f":
                levels.held.pop((k[1], k[2]), None)
            elif k[0] == "p":
                levels.pixels.get(k[1], {}).pop((int(k[2]), k[3]), None)
            else:
                levels.raw.pop((k[1], int(k[2])), None)
        if not chosen:
            raise Refused("Choose rows in the list first.")
        self._moved()
        self._fill_list()


class Spread(WishDialog):
    """One function over a selection: from one value to another, from the middle out, or on every second one."""

    def __init__(
        self,
        session: Session,
        network: Network,
        keys: list[str],
        of: list[Fader],
        parent: QWidget,
        moved: Callable[[], object],
    ) -> None:
        note = f"Over {say_count(len(keys), 'item')}, in the order they were picked."
        super().__init__(parent, "Spread over the selection", "Hold", note=note)
        self._session, self._network, self._keys, self._moved = session, network, keys, moved
        self.function = Choice("Which function is spread.", lambda _: self.look())
        self.function.setAccessibleName("Function")
        self.function.set_options([(f.function, f.word) for f in of], of[0].function if of else "")
        self.how = Choice("How the values lie over the selection.", lambda _: self.look())
        self.how.setAccessibleName("How")
        self.how.set_options(list(SPREADS), "first to last")
        self.first = line_to_type_into("From", "The value of the first one, such as 0, 20 % or 45°.", "0 %", 90)
        self.last = line_to_type_into("To", "The value of the last one; with every 2nd, of those between.", "100 %", 90)
        for field in (self.first, self.last):
            field.textChanged.connect(lambda _: self.look())
        self.body.addLayout(
            flow_of_widgets(make_label("Function", quiet=True), self.function, make_label("lies", quiet=True), self.how)
        )
        self.body.addLayout(
            flow_of_widgets(make_label("From", quiet=True), self.first, make_label("to", quiet=True), self.last, None)
        )
        self.finish(room=18)

    def _wished_values(self) -> dict[str, float]:
        function = str(self.function.currentData())
        index = self._session.index
        a, b = (read_function_value(index, self._keys[0], function, f.text()) for f in (self.first, self.last))
        return spread_values(self._keys, a, b, str(self.how.currentData()))

    def foresee(self) -> tuple[str, str]:
        values = [f"{100 * v:.0f}" for v in self._wished_values().values()]
        return f"{', '.join(values[:8])}{' …' if len(values) > 8 else ''} %", "Hold"

    def do(self) -> object:
        function = str(self.function.currentData())
        levels, index = self._network.meant.levels, self._session.index
        levels.move_from(index, self._keys, function)
        for key, value in self._wished_values().items():
            levels.hold_function([key], function, value)
        self._moved()
        return True


class HoldColour(WishDialog):
    """One colour for lamps of many kinds: each makes it with the emitters it has."""

    def __init__(
        self, session: Session, network: Network, keys: list[str], parent: QWidget, moved: Callable[[], object]
    ) -> None:
        super().__init__(
            parent, "A colour for all of them", "Hold", note="Each lamp makes it with the emitters it has."
        )
        self._session, self._network, self._keys, self._moved = session, network, keys, moved
        self.line = line_to_type_into(
            "Colour", "Red, green and blue such as 255 136 0, or a colour temperature such as 3200 K.", "3200 K", 150
        )
        self.line.textChanged.connect(lambda _: self.look())
        self.body.addLayout(
            flow_of_widgets(self.line, make_button("Choose…", self._choose_colour, "Picks a colour by eye."), None)
        )
        self.finish(room=54)

    def _choose_colour(self) -> None:
        found = QColorDialog.getColor(QColor("white"), self, "Which colour?")
        if found.isValid():
            self.line.setText(found.name())

    def foresee(self) -> tuple[str, str]:
        rgb, brightness = read_colour(self.line.text())
        index = self._session.index
        made: dict[tuple[str, str], dict[str, float]] = {}
        words = []
        for key in self._keys:
            fixture = index.rig.fixtures.get(key)
            kind = (fixture.profile, fixture.mode) if fixture else ("", key)
            if kind in made:
                continue
            values, warnings = colour_of(index, key, rgb, brightness)
            made[kind] = values
            lit = ", ".join(f"{word_for(f)} {100 * v:.0f} %" for f, v in values.items() if v and f != "Shutter1")
            words.append(f"{name_of_item(index.rig, key)}: {lit or 'nothing'}{f' ({warnings[0]})' if warnings else ''}")
        return "; ".join(words[:3]) + (" …" if len(words) > 3 else ""), "Hold"

    def do(self) -> object:
        rgb, brightness = read_colour(self.line.text())
        for key in self._keys:
            for function, value in colour_of(self._session.index, key, rgb, brightness)[0].items():
                self._network.meant.levels.hold_function([key], function, value)
        self._moved()
        return True
