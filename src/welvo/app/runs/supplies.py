"""The rig's power supplies: what each gives, what it feeds, what it has to give at full white."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog, line_to_type_into
from welvo.app.widgets.forms import field_row
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.rig.notation import say_count
from welvo.rig.readers import Number
from welvo.rig.runs import Supply
from welvo.runs.edits import add_supply, remove_supply
from welvo.runs.power import loads_of_supplies

HEADS = (
    Column("Name", 180),
    Column("Volts", 70, "number"),
    Column("Gives", 80, "number"),
    Column("At white", 90, "number"),
    Column("Feeds", 110),
)


class Supplies(Dialog):
    """A list with one line to add to it. Segments are given their supply in the panel of Runs."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        note = "What each segment is fed by is said in its panel. At full white is what all of them take together."
        super().__init__(parent, "Supplies", note=note, wide=600, high=380)
        self._session = session
        self.list = RowList("Supplies", HEADS)
        self.body.addWidget(self.list, 1)
        self.name = line_to_type_into("Name", "What the crew calls the supply, such as Tin by the door.")
        self.volts = line_to_type_into(
            "Volts", "Volts it gives: 5, 12, 24. A string must be made for the same.", "5", 64
        )
        self.amps = line_to_type_into(
            "Amperes", "Amperes it is rated for. More than that at full white is a finding.", "20", 64
        )
        self.add = make_button("Add", self._add_supply, "Adds a supply of that name.", primary=True)
        volts, amps = make_label("V", quiet=True), make_label("A", quiet=True)
        self.body.addLayout(field_row("New", self.name, self.volts, volts, self.amps, amps, self.add))
        self.remove = make_button(
            "Remove", self._remove_supply, "Takes the chosen supply out; what it fed gets its power from before."
        )
        self.finish(None, self.remove, leave="Close", room=18)
        self.add.setDefault(True)
        session.changed.connect(self._follow_change)
        self.fill()

    def _follow_change(self, _: object) -> None:
        self.fill()

    def fill(self) -> None:
        rig = self._session.rig
        takes = {x.id: x.amps for x in loads_of_supplies(self._session.index.cables_and_sums) if x.kind == "supply"}
        feeds = {
            sid: sum(s.supply == sid for d in rig.devices.values() for p in d.ports.values() for s in p.run)
            for sid in rig.supplies
        }
        lines = []
        for sid, s in rig.supplies.items():
            at_white, segments = f"{takes.get(sid, 0):.1f} A", say_count(feeds[sid], "segment")
            lines.append(ListRow(sid, (s.name, f"{s.volts:g}", f"{s.amps:g} A", at_white, segments)))
        self.list.show_lines(lines, self._chosen_supply())
        self.remove.setEnabled(bool(rig.supplies))

    def _chosen_supply(self) -> str:
        at = self.list.currentIndex().row()
        return str(self.list.rows.lines[at].id) if 0 <= at < len(self.list.rows.lines) else ""

    def _add_supply(self) -> None:
        volts = Number(Supply, "volts", "V").read_text(self.volts.text())
        amps = Number(Supply, "amps", "A").read_text(self.amps.text())
        self._session.make_edit(add_supply, self.name.text(), volts, amps)
        self.name.clear()
        self.say("")

    def _remove_supply(self) -> None:
        if self._chosen_supply():
            self._session.make_edit(remove_supply, self._chosen_supply())
