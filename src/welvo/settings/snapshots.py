"""All settings of a device at one moment, kept in the rig: taken before what may lose them, compared, written back."""

from __future__ import annotations

from welvo.observed.values import DeviceAnswer
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.edits import set_device
from welvo.rig.entered import SettingValue
from welvo.rig.plan import model_of, spec_of
from welvo.rig.wiring import Snapshot

MOST = 20
"""Snapshots kept of one device; the oldest goes first."""
Difference = tuple[str, SettingValue | None, SettingValue | None]


def take_snapshot(rig: Rig, device_id: str, said: DeviceAnswer | None, at: float, why: str = "by hand") -> Edit:
    """Keep what a device says of its settings now. Raises Refused when it has said nothing."""
    device = rig.devices[device_id]
    if said is None or not said.active:
        raise Refused(f"{device.name} has not said its settings, so there is nothing to keep.")
    made = Snapshot(at=at, why=why, values={**said.active, **said.saved}, mac=said.mac, firmware=said.firmware)
    kept = (*device.snapshots, made)[-MOST:]
    return set_device(rig, device_id, f"snapshot of {device.name}", snapshots=kept)


def remove_snapshot(rig: Rig, device_id: str, at: float) -> Edit:
    device = rig.devices[device_id]
    left = tuple(s for s in device.snapshots if s.at != at)
    if len(left) == len(device.snapshots):
        raise Refused("This snapshot is not there any more.")
    return set_device(rig, device_id, f"remove a snapshot of {device.name}", snapshots=left)


def differences_of_snapshots(before: dict[str, SettingValue], after: dict[str, SettingValue]) -> list[Difference]:
    """(full key, before, after) of every setting that is not the same in both, by key; None: it is in one only."""
    keys = sorted({*before, *after})
    return [(k, before.get(k), after.get(k)) for k in keys if before.get(k) != after.get(k)]


def to_write_back(
    rig: Rig, device_id: str, snapshot: Snapshot, now: dict[str, SettingValue]
) -> dict[str, SettingValue]:
    """What has to be given to a device so that it is set as a snapshot says, without what cannot be set from here."""
    model = model_of(rig, device_id)
    found: dict[str, SettingValue] = {}
    for key, had, _ in differences_of_snapshots(snapshot.values, now):
        spec = spec_of(model, key) if model else None
        if had is not None and spec is not None and spec.writable and not spec.secret:
            found[key] = had
    return found
