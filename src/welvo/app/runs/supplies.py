"""The rig's power supplies: what each gives, what hangs on it, what it has to give at full white."""

from __future__ import annotations

from PySide6.QtWidgets import QDialog, QLineEdit, QWidget

from welvo.app.session import Session
from welvo.app.widgets.fields import set_help
from welvo.app.widgets.forms import field_row
from welvo.app.widgets.painting import button, column, label, row
from welvo.app.widgets.tables import Head, Ledger, Line
from welvo.rig.base import Refused
from welvo.rig.notation import plural
from welvo.runs.edits import add_supply, remove_supply
from welvo.runs.power import loads

HEADS = (
    Head("Name", 180),
    Head("Volts", 70, "number"),
    Head("Gives", 80, "number"),
    Head("At white", 90, "number"),
    Head("Feeds", 110),
)


class Supplies(QDialog):
    """A list with one line to add to it. Segments are given their supply in the panel of Runs."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Supplies")
        self.setMinimumSize(600, 380)
        body = column((20, 16, 20, 16), 10)
        body.addWidget(label("Supplies", 16, True))
        body.addWidget(
            label(
                "What each segment is fed by is said in its panel. At full white is what all of them take together.",
                11,
                quiet=True,
                wrap=True,
            )
        )
        self.list = Ledger("Supplies", HEADS)
        body.addWidget(self.list, 1)
        self.name, self.volts, self.amps = QLineEdit(), QLineEdit("5"), QLineEdit("20")
        for w, words, wide in (
            (self.name, "What the crew calls the supply, such as Tin by the door.", 0),
            (self.volts, "Volts it gives: 5, 12, 24. A string must be made for the same.", 64),
            (self.amps, "Amperes it is rated for. More than that at full white is a finding.", 64),
        ):
            set_help(w, words)
            if wide:
                w.setFixedWidth(wide)
        for w, words in ((self.name, "Name"), (self.volts, "Volts"), (self.amps, "Amperes")):
            w.setAccessibleName(words)
        line = field_row("New", self.name, self.volts)
        line.addWidget(label("V", quiet=True))
        line.addWidget(self.amps)
        line.addWidget(label("A", quiet=True))
        self.add = button("Add", self._add, "Adds a supply of that name.")
        line.addWidget(self.add)
        body.addLayout(line)
        self.saying = label("", 11, quiet=True, wrap=True)
        body.addWidget(self.saying)
        self.gone = button(
            "Remove", self._remove, "Takes the chosen supply out; what it fed gets its power from before."
        )
        body.addLayout(row(self.gone, None, button("Done", self.accept)))
        self.setLayout(body)
        session.changed.connect(self._changed)
        self.fill()

    def _changed(self, _: object) -> None:
        self.fill()

    def fill(self) -> None:
        rig = self._session.rig
        takes = {x.id: x.amps for x in loads(self._session.index.cables) if x.kind == "supply"}
        feeds = {
            sid: sum(s.supply == sid for d in rig.devices.values() for p in d.ports.values() for s in p.run)
            for sid in rig.supplies
        }
        self.list.show_lines([
            Line(sid, (s.name, f"{s.volts:g}", f"{s.amps:g} A", f"{takes.get(sid, 0):.1f} A", plural(feeds[sid], "segment")))
            for sid, s in rig.supplies.items()
        ], self._chosen())  # fmt: skip
        self.gone.setEnabled(bool(rig.supplies))

    def _chosen(self) -> str:
        at = self.list.currentIndex().row()
        return str(self.list.rows.lines[at].id) if 0 <= at < len(self.list.rows.lines) else ""

    def _add(self) -> None:
        try:
            volts, amps = float(self.volts.text().replace(",", ".")), float(self.amps.text().replace(",", "."))
            made = add_supply(self._session.rig, self.name.text(), volts, amps)
        except Refused as e:
            self.saying.setText(str(e))
            return
        except ValueError:
            self.saying.setText("Volts and amperes are numbers, such as 5 and 20.")
            return
        self._session.take(made)
        self.name.clear()
        self.saying.setText("")

    def _remove(self) -> None:
        if self._chosen():
            self._session.edit(remove_supply, self._chosen())
