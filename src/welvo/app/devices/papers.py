"""What is kept beside a device's settings: its setting card, its tables, its snapshots."""

from __future__ import annotations

from PySide6.QtWidgets import QApplication, QWidget

from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.flow import flow_of_widgets, keep_least
from welvo.app.widgets.painting import make_button, make_label, row_of_widgets
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.app.widgets.who import name_of_user, say_when
from welvo.matching.plan_back import copy_port, copy_targets
from welvo.matching.planned import compare_device, full_plan
from welvo.rig.base import Refused
from welvo.rig.entered import SettingValue
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of, say_key, say_setting, spec_of
from welvo.rig.protocol import PROTOCOLS
from welvo.rig.wiring import Port, Snapshot
from welvo.settings import snapshots
from welvo.settings.card import LIGHT, CardStep, card_steps, tick_settings, untick_settings
from welvo.survey.device_tables import KINDS, device_table, hold_against_plan, read_table

STATES = {"open": "", "ticked": "ticked", "proved": "the device says so", "woken": "ticked for another value"}


class SettingCard(Dialog):
    """Every planned setting in the order and the counting of the device's own pages, to be ticked off."""

    def __init__(self, session: Session, device_id: str, parent: QWidget) -> None:
        device, model = session.rig.devices[device_id], model_of(session.rig, device_id)
        names = {k: r.word for k, r in PROTOCOLS.items()}
        counts = ", ".join(f"{names.get(k, k)} from {v}" for k, v in model.counts.items()) if model else ""
        note = (
            f"In the counting of its own pages ({counts}). A tick says that you entered it; only what the device says "
            "itself is proved. Right click copies the card or saves it as CSV."
        )
        super().__init__(parent, f"Setting card of {device.name}", note=note, wide=760, high=560)
        self._session, self._device_id = session, device_id
        self.list = RowList(
            "Setting card",
            (Column("Page", 90), Column("Where", 150), Column("Setting", 150), Column("Value", 120), Column("", 200)),
        )
        self.list.setSelectionMode(RowList.SelectionMode.ExtendedSelection)
        self.body.addWidget(self.list, 1)
        self.tick = make_button(
            "Tick off", self._tick_chosen, "The chosen rows are entered on the device's page.", primary=True
        )
        self.back = make_button("Take back", self._untick_chosen, "The chosen rows are not entered after all.")
        self.finish(self.tick, self.back, leave="Close", room=18)
        session.changed.connect(self._fill_steps)
        session.observed_changed.connect(self._fill_steps)
        self._steps: list[CardStep] = []
        self._fill_steps()

    def _fill_steps(self, *_: object) -> None:
        s = self._session
        model = model_of(s.rig, self._device_id) if self._device_id in s.rig.devices else None
        if model is None:
            self.reject()
            return
        steps = card_steps(s.rig, self._device_id, model, compare_device(s.index, s.observed, self._device_id, s.now()))
        if steps == self._steps:
            return
        self._steps = steps
        rows = []
        for n, step in enumerate(steps):
            said = STATES[step.state] + (f" by {step.by}, {say_when(step.at)}" if step.by and step.at else "")
            rows.append(
                ListRow(n, (step.page, step.where, step.what, step.value, said), (n,) * 5, step.state == "proved")
            )
        self.list.show_lines(rows)
        left = sum(x.state in ("open", "woken") for x in steps if x.key and not x.key.startswith(LIGHT))
        self.say(f"{say_count(left, 'setting')} to enter, {sum(x.state == 'proved' for x in steps)} proved.")

    def _chosen_steps(self) -> list[CardStep]:
        rows = self.list.selectionModel().selectedRows()
        return [self._steps[int(self.list.rows.ids[i.row()])] for i in rows]

    def _tick_chosen(self) -> None:
        plan = full_plan(self._session.index, self._device_id)
        values = {
            x.key: plan.get(x.key, x.value) for x in self._chosen_steps() if x.key in plan or x.key.startswith(LIGHT)
        }
        self._session.make_edit(tick_settings, self._device_id, values, name_of_user(), self._session.clock_time())

    def _untick_chosen(self) -> None:
        self._session.make_edit(untick_settings, self._device_id, {x.key for x in self._chosen_steps()})


class DeviceTables(Dialog):
    """The tables of the device's own pages, and one of its pages held against them."""

    def __init__(self, session: Session, device_id: str, parent: QWidget) -> None:
        note = (
            "As its pages show them, in their counting. Right click copies or saves as CSV. Copy a table from the "
            "device's page or a spreadsheet, with its headings, and compare: the first row that differs is named."
        )
        super().__init__(parent, f"Tables of {session.rig.devices[device_id].name}", note=note, wide=760, high=560)
        self._session, self._device_id = session, device_id
        self.kind = Choice("Which table of the device's pages.", lambda _: self._fill_table())
        self.kind.setAccessibleName("Table")
        self.kind.set_options(list(KINDS.items()), "universes")
        self.body.addLayout(flow_of_widgets(make_label("Table"), self.kind, None))
        self.holder = row_of_widgets()
        self.body.addLayout(self.holder, 1)
        self.list: RowList | None = None
        self.compare = make_button("Compare what I copied", self._compare_typed, "Reads the clipboard.", primary=True)
        self.finish(self.compare, leave="Close")
        self._fill_table()

    def _fill_table(self) -> None:
        shown = device_table(self._session.index, self._device_id, str(self.kind.currentData()))
        if self.list is not None:
            self.holder.removeWidget(self.list)
            self.list.deleteLater()
        heads = tuple(Column(h, 70 if len(h) < 9 else 110) for h in shown.heads) or (Column("", 80),)
        self.list = RowList("Table", heads)
        self.list.show_lines([ListRow(n, r, (n,) * len(r)) for n, r in enumerate(shown.rows)])
        self.holder.addWidget(self.list)
        self.say("" if shown.rows else "Nothing of the kind is planned for this device.")

    def _compare_typed(self) -> None:
        kind = str(self.kind.currentData())
        found = hold_against_plan(
            self._session.index, self._device_id, kind, read_table(QApplication.clipboard().text())
        )
        if found is None:
            self.say("Every cell that both have is equal.")
            return
        words = f"Row {found.row}, {found.column}: plan {found.plan}, page {found.has}."
        self.say(f"{words} {found.landmark}{'.' if found.landmark else ''}", wrong=True)
        if self.list is not None and found.row <= len(self.list.rows.ids):
            self.list.selectRow(found.row - 1)


class Snapshots(Dialog):
    """What a device was set to at other times: compared with now or with the plan, and written back."""

    def __init__(self, session: Session, network: Network, device_id: str, parent: QWidget) -> None:
        note = "Taken by hand, and by Welvo itself before a restart or factory settings. They are kept in the rig."
        super().__init__(parent, f"Snapshots of {session.rig.devices[device_id].name}", note=note, wide=680, high=520)
        self._session, self._network, self._device_id = session, network, device_id
        self.which = Choice("Which snapshot is compared.", lambda _: self._fill_differences())
        self.which.setAccessibleName("Snapshot")
        keep_least(self.which, 220)
        self.against = Choice("What it is compared with.", lambda _: self._fill_differences())
        self.against.setAccessibleName("Compared with")
        self.take = make_button("Take one now", self._take_snapshot, "Keeps what the device says of its settings now.")
        self.body.addLayout(
            flow_of_widgets(make_label("Snapshot"), self.which, make_label("against"), self.against, None, self.take)
        )
        self.list = RowList(
            "Differences", (Column("Setting", 230), Column("Snapshot", 170), Column("Compared with", 170))
        )
        self.body.addWidget(self.list, 1)
        self.write = make_button(
            "Write back", self._write_snapshot, "Gives the device what the snapshot has.", primary=True
        )
        self.remove = make_button(
            "Remove", self._remove_snapshot, "Takes the snapshot out of the rig. Undo brings it back."
        )
        self.finish(self.write, self.remove, leave="Close", room=18)
        session.changed.connect(self._refresh_list)
        session.observed_changed.connect(self._refresh_list)
        self._refresh_list()

    @property
    def _snapshots_of_device(self) -> tuple[Snapshot, ...]:
        device = self._session.rig.devices.get(self._device_id)
        return device.snapshots if device else ()

    def _refresh_list(self, *_: object) -> None:
        kept = self._snapshots_of_device
        at = self.which.currentData() or (f"{kept[-1].at}" if kept else "")
        options = [(f"{s.at}", f"{say_when(s.at)} · {s.why}") for s in reversed(kept)]
        self.which.set_options(
            options or [("", "none yet")], at if at in dict(options) else options[0][0] if options else ""
        )
        others = [("now", "the device now"), ("plan", "the plan"), *options]
        self.against.set_options(others, str(self.against.currentData() or "now"))
        self._fill_differences()

    def _values_of_snapshot(self, which: str) -> dict[str, SettingValue]:
        s = self._session
        if which == "plan":
            return full_plan(s.index, self._device_id)
        if which == "now":
            device = s.rig.devices.get(self._device_id)
            said = s.observed.said.get(device.ip) if device else None
            return said.active if said else {}
        return next((x.values for x in self._snapshots_of_device if f"{x.at}" == which), {})

    def _fill_differences(self) -> None:
        s = self._session
        model = model_of(s.rig, self._device_id) if self._device_id in s.rig.devices else None
        chosen, other = str(self.which.currentData() or ""), str(self.against.currentData() or "now")
        found = (
            snapshots.differences_of_snapshots(self._values_of_snapshot(chosen), self._values_of_snapshot(other))
            if chosen
            else []
        )
        if other == "plan":
            found = [d for d in found if d[2] is not None]  # what the plan does not care about is no difference

        def say_setting_value(key: str, value: SettingValue | None) -> str:
            return say_setting(spec_of(model, key) if model else None, value)

        self.list.show_lines(
            [ListRow(k, (say_key(model, k), say_setting_value(k, a), say_setting_value(k, b))) for k, a, b in found]
        )
        words = f"{say_count(len(found), 'setting')} {'differs' if len(found) == 1 else 'differ'}."
        self.say(words if chosen else "No snapshot yet.")
        self.write.setEnabled(bool(found) and other == "now" and bool(self._values_of_snapshot("now")))
        self.remove.setEnabled(bool(chosen))

    def _take_snapshot(self) -> None:
        s = self._session
        said = s.observed.said.get(s.rig.devices[self._device_id].ip)
        s.make_edit(snapshots.take_snapshot, self._device_id, said, s.clock_time())

    def _remove_snapshot(self) -> None:
        self._session.make_edit(snapshots.remove_snapshot, self._device_id, float(str(self.which.currentData())))

    def _write_snapshot(self) -> None:
        chosen = str(self.which.currentData() or "")
        one = next((x for x in self._snapshots_of_device if f"{x.at}" == chosen), None)
        if one is None:
            raise Refused("This snapshot is not there any more.")
        values = snapshots.to_write_back(self._session.rig, self._device_id, one, self._values_of_snapshot("now"))
        self._network.devices.begin_push(self._device_id, values, ("save", "apply"))
        self.say(f"Writing {say_count(len(values), 'setting')} back …")


class CopyPort(Dialog):
    """Settings of one port given to others of the same kind: what would change there stands in each row."""

    def __init__(self, session: Session, device_id: str, port: str, parent: QWidget) -> None:
        name = session.rig.devices[device_id].name
        of_bus = session.rig.devices[device_id].ports.get(port, Port()).bus is not None
        note = (
            "How the bus follows its universe, and what was planned by hand. Its gear, first slot and feed stay."
            if of_bus
            else "Brightness, gamma, chip and what was planned by hand. What is attached, and its feed, stay."
        )
        super().__init__(parent, "Copy to other ports", f"Copy {name} {port} to", note, wide=640, high=440)
        self._session, self._device_id, self._port = session, device_id, port
        self.list = RowList("Ports", (Column("Device", 140), Column("Port", 70), Column("Would change", 380)))
        self.list.setSelectionMode(RowList.SelectionMode.ExtendedSelection)
        self.body.addWidget(self.list, 1)
        rows = []
        for t in copy_targets(session.rig, device_id, port):
            words = ", ".join(f"{k} {a} → {b}" for k, a, b in t.changes) or "nothing: it is the same"
            rows.append(
                ListRow(
                    (t.device_id, t.label), (session.rig.devices[t.device_id].name, t.label, words), (), not t.changes
                )
            )
        self.list.show_lines(rows)
        self.go = make_button("Copy to the chosen ports", self._copy_settings, "One step to undo.", primary=True)
        self.finish(self.go, room=18)

    def _copy_settings(self) -> None:
        rows = self.list.selectionModel().selectedRows()
        targets = [self.list.rows.ids[i.row()] for i in rows]
        self._session.make_edit(copy_port, self._device_id, self._port, targets)
        self._session.say_done(f"Settings of port {self._port} copied to {say_count(len(targets), 'port')}.")
        self.accept()
