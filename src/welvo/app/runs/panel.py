"""The panel of the Runs station: a segment, a port, or the whole box."""

from __future__ import annotations

from welvo.app.runs.segment_form import SegmentFields
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import clear
from welvo.app.widgets.theme import THEME
from welvo.rig.wiring import Port


class RunsPanel(SegmentFields):
    """Built anew for another place; refreshed for another value."""

    def refresh(self) -> None:
        if not self.isVisible():
            self._built = ()
            return
        shape = self._shape()
        if shape != self._built:
            typing = self.focusWidget()
            if isinstance(typing, Field) and typing.hasFocus() and typing.pending and shape[:2] == self._built[:2]:
                return
            self._built = shape
            self.refreshers.clear()
            clear(self.body)
            self._build()
            self.body.addStretch(1)
        for r in self.refreshers:
            r()

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def _shape(self) -> tuple[object, ...]:
        at, did = self._station.at, self._station.did
        rig = self.session.rig
        device = rig.devices.get(did)
        port = device.ports.get(at.label) if device else None
        segment = port.run[at.n] if port and 0 <= at.n < len(port.run) else None
        cards = [(f.code, f.fingerprint) for f in self._cards()]
        kind = (segment.kind, segment.fixtures, segment.element) if segment else None
        supplies = tuple((k, v.name) for k, v in rig.supplies.items())
        return (
            did,
            at,
            kind,
            supplies,
            tuple(rig.pixel_types),
            cards,
            device.model if device else "",
            THEME.name,
            THEME.step,
        )

    def _build(self) -> None:
        at, did = self._station.at, self._station.did
        rig = self.session.rig
        if did not in rig.devices:
            self.nothing()
            return
        port = rig.devices[did].ports.get(at.label, Port()) if at.label else None
        if port is None:
            self._box(did)
        elif 0 <= at.n < len(port.run):
            self._segment(did, at)
        else:
            self._port(did, at.label)
