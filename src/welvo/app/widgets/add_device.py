"""Planning a box: which model, its name, its address; prefilled when it was heard already."""

from __future__ import annotations

from pathlib import Path

import platformdirs
from PySide6.QtWidgets import QDialog, QLineEdit, QWidget

from welvo.app.session import Session
from welvo.app.widgets.fields import Choice, set_help
from welvo.app.widgets.forms import field_row
from welvo.app.widgets.painting import button, column, label, row
from welvo.formats.models import from_folder, shipped
from welvo.observed.values import Heard
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import add_device
from welvo.rig.notation import plural, read_ip
from welvo.rig.plan import device_at
from welvo.rig.wiring import DeviceModel


def known_models(rig: Rig) -> dict[str, DeviceModel]:
    """Models to choose from: those in the rig, those shipped, those in the user's own folder."""
    own, _ = from_folder(Path(platformdirs.user_data_dir("welvo")) / "models")
    found: dict[str, DeviceModel] = {}
    for m in (*rig.device_models.values(), *shipped().values(), *own.values()):
        if m not in found.values() and m.kind != "bridge":  # a bridge hangs on a cable; it is no box of its own
            found[f"{m.maker} {m.name}".strip()] = m
    return found


def guess_model(models: dict[str, DeviceModel], heard: Heard) -> str:
    """The model a heard box seems to be: named in its long name, else of as many outputs."""
    named = next((k for k, m in models.items() if m.name.lower() in heard.long_name.lower()), "")
    outputs = sum(p.output for p in heard.ports)
    return named or next((k for k, m in models.items() if len(m.ports) == outputs), next(iter(models), ""))


class AddDevice(QDialog):
    """Which model, what it is called, at which address. Prefilled when it was heard already."""

    def __init__(self, session: Session, parent: QWidget, heard: Heard | None = None, pixels: bool = False) -> None:
        super().__init__(parent)
        self._session = session
        self._models = known_models(session.rig)
        if pixels:  # whoever comes from Runs wants a box with pixel ports first
            self._models = dict(sorted(self._models.items(), key=lambda m: m[1].kind != "pixel"))
        self.setWindowTitle("Plan a box")
        self.setMinimumWidth(440)
        body = column((20, 16, 20, 16), 10)
        body.addWidget(label(f"Plan {heard.name or 'this box'}" if heard else "Plan a box", 16, True))
        first = guess_model(self._models, heard) if heard else next(iter(self._models), "")
        self.model = Choice(
            "What kind of box it is. The model says which ports and settings it has, and how its pages count.",
            lambda _: self._say(),
        )
        self.model.set_options([(k, f"{k} · {plural(len(m.ports), 'port')}") for k, m in self._models.items()], first)
        self.name = QLineEdit(heard.name if heard else "")
        set_help(self.name, "What the box is called, up to 17 letters. Two boxes of one name are easily mixed up.")
        self.ip = QLineEdit(heard.ip if heard else "")
        set_help(self.ip, "The box's IP address: four numbers, such as 10.0.40.21. A wrong one makes it look silent.")
        for words, w in (("Model", self.model), ("Name", self.name), ("Address", self.ip)):
            w.setAccessibleName(words)
            body.addLayout(field_row(words, w))
        self._saying = label("", 11, quiet=True, wrap=True)
        self._saying.setMinimumHeight(34)
        body.addWidget(self._saying)
        self.add = button("Plan it", self._add, primary=True)
        self.add.setDefault(True)
        body.addLayout(row(None, button("Cancel", self.reject), self.add))
        self.setLayout(body)
        self.name.textChanged.connect(lambda _: self._say())
        self.ip.textChanged.connect(lambda _: self._say())
        self.made = ""
        self._say()

    def _wish(self) -> tuple[DeviceModel, str, str]:
        model = self._models[str(self.model.currentData())]
        name = self.name.text().strip() or model.name
        if len(name) > 17:
            raise Refused(f"“{name}” has {len(name)} letters; a box's name has 17 at most.")
        ip = read_ip(self.ip.text()) if self.ip.text().strip() else ""
        if ip and device_at(self._session.rig, ip):
            raise Refused(
                f"{self._session.rig.devices[device_at(self._session.rig, ip)].name} is planned at {ip} already."
            )
        return model, name, ip

    def _say(self) -> None:
        try:
            model, name, ip = self._wish()
            where = f"at {ip}" if ip else "without an address yet"
            self._saying.setText(f"{name}: {model.name} {where}, ports {', '.join(model.ports)}. {model.note}")
            self.add.setEnabled(True)
        except (Refused, KeyError) as e:
            self._saying.setText(str(e))
            self.add.setEnabled(False)

    def _add(self) -> None:
        try:
            wish = self._wish()
        except Refused as e:
            self._saying.setText(str(e))
            return
        self.made = self._session.edit(add_device, *wish).made[0]
        self.accept()
