"""The panel of the Runs station: a segment, a port, or the whole device."""

from __future__ import annotations

from welvo.app.jobs.network import Network
from welvo.app.runs.common import CableView, Here, cards_at
from welvo.app.runs.device_form import show_device
from welvo.app.runs.port_form import show_port
from welvo.app.runs.segment_form import show_segment_form
from welvo.app.session import Session
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import clear_layout
from welvo.app.widgets.panels import FormPanel
from welvo.app.widgets.theme import THEME
from welvo.rig.refs import PortRef
from welvo.rig.wiring import Port


class RunsPanel(FormPanel):
    """Built anew for another place; refreshed for another value."""

    tries = True

    def __init__(self, view: CableView, session: Session, network: Network) -> None:
        super().__init__(session, network)
        self._view = view
        self._built: tuple[object, ...] = ()

    def refresh(self) -> None:
        if not self.isVisible():
            self._built = ()
            return
        shape = self._shape_of_form()
        if shape != self._built:
            typing = self.focusWidget()
            if isinstance(typing, Field) and typing.hasFocus() and typing.pending and shape[:2] == self._built[:2]:
                return
            self._built = shape
            self.refreshers.clear()
            clear_layout(self.body)
            self._build_form()
            self.body.addStretch(1)
        super().refresh()

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def _shape_of_form(self) -> tuple[object, ...]:
        """What the fields depend on: when it is another, they must be others."""
        at, device_id = self._view.at, self._view.device_id
        rig = self.session.rig
        device = rig.devices.get(device_id)
        port = device.ports.get(at.label) if device else None
        segment = port.run[at.n] if port and 0 <= at.n < len(port.run) else None
        return (
            device_id,
            at,
            (segment.kind, segment.fixtures, segment.element) if segment else None,
            tuple((k, v.name) for k, v in rig.supplies.items()),
            tuple(rig.pixel_types),
            [(f.code, f.fingerprint_of_facts) for f in cards_at(self.session, device_id, at)],
            device.model if device else "",
            THEME.name,
            THEME.step,
        )

    def _build_form(self) -> None:
        at, device_id = self._view.at, self._view.device_id
        device = self.session.rig.devices.get(device_id)
        if device is None:
            self.nothing()
        elif not at.label:
            show_device(self, device_id)
        elif 0 <= at.n < len(device.ports.get(at.label, Port()).run):
            show_segment_form(Here(self, self._view, device_id, at))
        else:
            show_port(self, PortRef(device_id, at.label))
