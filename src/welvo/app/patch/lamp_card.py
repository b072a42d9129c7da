"""The setting card of fixtures on the screen: what to set on each lamp, ticked off by whoever stands at it."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.painting import make_button
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.app.widgets.who import name_of_user, say_when
from welvo.rig.notation import say_count
from welvo.survey.fixture_card import LampStep, lamp_card, tick_lamps, untick_lamps


def words_of_step(step: LampStep) -> str:
    """How far a step is, in words."""
    by = f" by {step.by}" if step.by else ""
    at = f", {say_when(step.at)}" if step.at else ""
    return {"open": "", "ticked": f"ticked{by}{at}", "woken": f"was {step.was}, ticked{by}{at}"}[step.state]


class LampCard(Dialog):
    """Mode and address of each chosen fixture."""

    def __init__(self, session: Session, fixtures: list[str], parent: QWidget) -> None:
        note = (
            "What to set on each lamp by hand. A tick says that it was done; it wakes when the plan says otherwise. "
            "Right click copies the card or saves it as CSV."
        )
        super().__init__(
            parent, f"Setting card of {say_count(len(fixtures), 'fixture')}", note=note, wide=860, high=520
        )
        self._session, self._fixtures = session, fixtures
        self.list = RowList(
            "Setting card",
            (
                Column("No.", 50),
                Column("Name", 110),
                Column("On", 110),
                Column("Set", 80),
                Column("Value", 80),
                Column("How", 150),
                Column("", 220),
            ),
        )
        self.list.setSelectionMode(RowList.SelectionMode.ExtendedSelection)
        self.body.addWidget(self.list, 1)
        self.tick = make_button("Tick off", self._tick_chosen, "The chosen rows are set on the lamps.", primary=True)
        self.back = make_button("Take back", self._untick_chosen, "The chosen rows are not set after all.")
        self.finish(self.tick, self.back, leave="Close", room=18)
        self._steps: list[LampStep] = []
        session.changed.connect(self._fill_steps)
        self._fill_steps()

    def _fill_steps(self, *_: object) -> None:
        s = self._session
        steps = lamp_card(s.index, [k for k in self._fixtures if k in s.rig.fixtures])
        if steps == self._steps and steps:
            return
        self._steps = steps
        rows = []
        for n, x in enumerate(steps):
            cells = (str(x.number), x.name, x.on, x.what, str(x.value), x.how, words_of_step(x))
            rows.append(ListRow(n, cells, (n,) * len(cells), x.state == "ticked"))
        self.list.show_lines(rows)
        left, again = sum(x.state != "ticked" for x in steps), sum(x.state == "woken" for x in steps)
        words = f"{say_count(left, 'setting')} left to set"
        self.say(f"{words}, {again} of them for another value than was ticked." if again else f"{words}.")

    def _chosen_steps(self) -> list[LampStep]:
        rows = self.list.selectionModel().selectedRows()
        return [self._steps[int(self.list.rows.ids[i.row()])] for i in rows]

    def _tick_chosen(self) -> None:
        self._session.make_edit(tick_lamps, self._chosen_steps(), name_of_user(), self._session.clock_time())

    def _untick_chosen(self) -> None:
        self._session.make_edit(untick_lamps, self._chosen_steps())
