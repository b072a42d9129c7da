"""Planning a device: which model, its name, its address; prefilled when it was heard already."""

from __future__ import annotations

from pathlib import Path

import platformdirs
from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.model_editor import ModelEditor
from welvo.app.widgets.painting import make_button
from welvo.formats.generic import GENERICS, MOST_PORTS, GenericKind, generic_model
from welvo.formats.models import from_folder, shipped_models
from welvo.observed.values import Heard
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import add_device
from welvo.rig.notation import read_ip, say_count
from welvo.rig.plan import device_at
from welvo.rig.protocol import PROTOCOLS, read_protocol
from welvo.rig.readers import read_whole_number
from welvo.rig.wiring import DeviceModel
from welvo.settings.heard import feed_of, plan_heard

GENERIC = "generic "
"""How the keys of the generic models begin in the choice; a model's own key never ends in a blank and a kind."""


def known_models(rig: Rig) -> dict[str, DeviceModel]:
    """Models to choose from: those in the rig, those shipped, those in the user's own folder."""
    own, _ = from_folder(Path(platformdirs.user_data_dir("welvo")) / "models")
    found: dict[str, DeviceModel] = {}
    for m in (*rig.device_models.values(), *shipped_models().values(), *own.values()):
        if (
            m not in found.values() and m.kind != "bridge"
        ):  # a bridge is attached to a cable; it is no device of its own on the network
            found[f"{m.maker} {m.name}".strip()] = m
    return found


def guess_model(models: dict[str, DeviceModel], heard: Heard) -> str:
    """The model a heard device seems to be: named in its long name, else of as many outputs."""
    named = next((k for k, m in models.items() if m.name.lower() in heard.long_name.lower()), "")
    outputs = sum(p.output for p in heard.ports)
    return named or next((k for k, m in models.items() if len(m.ports) == outputs), next(iter(models), ""))


class AddDevice(WishDialog):
    """Which model, what it is called, at which address. Prefilled when it was heard already."""

    def __init__(self, session: Session, parent: QWidget, heard: Heard | None = None, pixels: bool = False) -> None:
        heading = f"Plan {heard.name or 'this device'}" if heard else "Plan a device"
        super().__init__(parent, "Plan a device", "Plan it", heading)
        self._session = session
        self._models = known_models(session.rig)
        if pixels:  # whoever comes from Runs wants a device with pixel ports first
            self._models = dict(sorted(self._models.items(), key=lambda m: m[1].kind != "pixel"))
        self.model = self.ask_for_choice(
            "Model",
            "What kind of device it is. The model says which ports and settings it has, and how its pages count.",
            self._offered_models(),
            guess_model(self._models, heard) if heard else next(iter(self._models), ""),
            self._follow_model,
        )
        self.ports = self.ask_for_line("Ports", "How many ports it has; they are called 1, 2, 3 and so on.", "4", 64)
        self.limit = self.ask_for_line(
            "Each of", "How much one of its ports puts out: slots of DMX, or pixels.", "512", 64
        )
        self.protocols = self.ask_for_line(
            "Listens to", f"What it understands: {', '.join(PROTOCOLS)}.", "sacn, artnet"
        )
        self._generic = [self.ports, self.limit, self.protocols]
        self.name = self.ask_for_line(
            "Name",
            "What the device is called, up to 17 letters. Two devices of one name are easily mixed up.",
            heard.name if heard else "",
        )
        self.ip = self.ask_for_line(
            "Address",
            "The device's IP address: four numbers, such as 10.0.40.21. A wrong one makes it look silent.",
            heard.ip if heard else "",
        )
        self._heard = heard
        outputs = [p for p in heard.ports if p.output] if heard else []
        fed = [p for p in outputs if feed_of(session.rig, p.protocol, p.wire)]
        self.take_ports = self.ask_for_tick(
            f"Take the feeds of {say_count(len(fed), 'port')} that it is set to",
            "Its ports are planned as they are set.",
            True,
        )
        self.take_ports.setVisible(bool(fed))
        self.made = ""
        own = make_button("My own model…", self._own_model, "Describe a device that is not listed, and plan one of it.")
        self.finish(None, own)
        self._follow_model()

    def _offered_models(self) -> list[tuple[str, str]]:
        found = [(k, f"{k} · {say_count(len(m.ports), 'port')}") for k, m in self._models.items()]
        return found + [(f"{GENERIC}{k}", f"Generic {g.words}") for k, g in GENERICS.items()]

    @property
    def _generic_kind(self) -> GenericKind | None:
        chosen = str(self.model.currentData() or "")
        return next((k for k in GENERICS if chosen == f"{GENERIC}{k}"), None)

    def _follow_model(self) -> None:
        """A generic model is described in three fields; any other says for itself what it can do."""
        kind = self._generic_kind
        for line in self._generic:
            line.setEnabled(kind is not None)
        if kind and not self.limit.isModified():
            self.limit.setText(str(GENERICS[kind].usual))

    def _own_model(self) -> None:
        before = dict(self._models)
        ModelEditor(self._session, self).exec()
        self._models = known_models(self._session.rig)
        fresh = next((k for k in self._models if k not in before), str(self.model.currentData()))
        self.model.set_options(self._offered_models(), fresh)
        self.look()

    def _wished_device(self) -> tuple[DeviceModel, str, str]:
        rig = self._session.rig
        kind = self._generic_kind
        if kind:
            ports, limit = (
                read_whole_number(self.ports.text(), 1, MOST_PORTS),
                read_whole_number(self.limit.text(), 0, 100_000),
            )
            known = (read_protocol(p) for p in self.protocols.text().split(",") if p.strip())
            model = generic_model(kind, ports, limit, tuple(dict.fromkeys(known)))
        else:
            model = self._models[str(self.model.currentData())]
        name = self.name.text().strip() or (model.name if not kind else f"{kind.upper()} {len(model.ports)}")
        if len(name) > 17:
            raise Refused(f"“{name}” has {len(name)} letters; a device's name has 17 at most.")
        ip = read_ip(self.ip.text()) if self.ip.text().strip() else ""
        there = device_at(rig, ip) if ip else ""
        if there:
            raise Refused(f"{rig.devices[there].name} is planned at {ip} already.")
        return model, name, ip

    def foresee(self) -> tuple[str, str]:
        model, name, ip = self._wished_device()
        where = f"at {ip}" if ip else "without an address yet"
        ports = ", ".join(model.ports[:16]) + (f" … {model.ports[-1]}" if len(model.ports) > 16 else "")
        return f"{name}: {model.name} {where}, ports {ports}. {model.note}", "Plan it"

    def do(self) -> object:
        wish = self._wished_device()
        if self._heard is not None:
            ports = self.take_ports.isChecked()
            self.made = self._session.make_edit(plan_heard, *wish, self._heard, ports).made[0]
        else:
            self.made = self._session.make_edit(add_device, *wish).made[0]
        return self.made
