"""The rig: everything a `.welvo` file holds."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping
from typing import Annotated, Any, cast

import msgspec
from msgspec import Meta

from welvo.rig.base import Name, Value
from welvo.rig.door import check_entries, check_field, entry_type
from welvo.rig.patched import Element, Fixture, Group, Share, Waiver
from welvo.rig.profile import Profile
from welvo.rig.runs import PixelType, Supply
from welvo.rig.scene import Ground, Scene
from welvo.rig.tested import TestRecord
from welvo.rig.versions import Version
from welvo.rig.wiring import Device, DeviceModel, Feed, Sender, Show, Universe

FORMAT = 7
"""The number of the file format this version writes."""


HANG_POINT = "Hang point"
"""The column that says what a lamp hangs on: a bar, a truss; a scene's `Position`."""


class Picture(Value, frozen=True, kw_only=True):
    """A reference picture that travels with the rig."""

    name: Name
    media: str = "image/png"
    data: bytes = b""


class Rig(Value, frozen=True, kw_only=True):
    """One installation's hardware, whole. All parts stand in mappings by id; an id never changes."""

    format: Annotated[int, Meta(ge=1)] = FORMAT
    name: Name = "New rig"
    note: str = ""
    profiles: dict[str, Profile] = {}
    pictures: dict[str, Picture] = {}
    fixtures: dict[str, Fixture] = {}
    elements: dict[str, Element] = {}
    universes: dict[str, Universe] = {}
    senders: dict[str, Sender] = {}
    feeds: dict[str, Feed] = {}
    device_models: dict[str, DeviceModel] = {}
    devices: dict[str, Device] = {}
    pixel_types: dict[str, PixelType] = {}
    supplies: dict[str, Supply] = {}
    shares: dict[str, Share] = {}
    groups: dict[str, Group] = {}
    waivers: dict[str, Waiver] = {}
    tests: dict[str, TestRecord] = {}
    """The test record by subject (`item/f1`, `port/d1/6`). Undo leaves it as it is."""
    versions: dict[str, Version] = {}
    scenes: dict[str, Scene] = {}
    uses: dict[str, Show] = {}
    use: str = ""
    """Which of `uses` is in force; empty: everything is used."""
    columns: tuple[str, ...] = (HANG_POINT, "Circuit", "Use")
    """The rig's own columns of the list; fixtures hold their values in `fields`."""
    line_metres: Annotated[float, Meta(gt=0, le=1e4)] = 300.0
    """How long a DMX line may be here before it is worth a finding."""
    ground: Ground | None = None
    """The picture that positions are drawn over."""


PARTS = (
    "profiles",
    "pictures",
    "fixtures",
    "elements",
    "universes",
    "senders",
    "feeds",
    "device_models",
    "devices",
    "pixel_types",
    "supplies",
    "shares",
    "groups",
    "waivers",
    "tests",
    "versions",
    "scenes",
    "uses",
)


class Change(msgspec.Struct, frozen=True):
    """What an edit touched: `label` for the undo menu, ids by part of the rig, and the ids of what it `made`."""

    label: str
    touched: dict[str, frozenset[str]]
    made: tuple[str, ...] = ()
    note: str = ""
    """What the operator should hear of it, where an edit did only a part of what was asked."""

    def changed_ids(self, part: str) -> frozenset[str]:
        return self.touched.get(part, frozenset())


Edit = tuple[Rig, Change]
"""What every edit gives: the new rig, and what is different in it."""


def put_entries(rig: Rig, label: str, *, made: Iterable[str] = (), **parts: Mapping[str, object]) -> Edit:
    """Set entries in parts of the rig; a value of None removes the entry. The rest is shared with the old rig.

    Raises Refused when an entry is not what its part can hold.
    """
    new: dict[str, dict[str, Any]] = {}
    touched: dict[str, frozenset[str]] = {}
    for part, entries in parts.items():
        if not entries:
            continue
        before = getattr(rig, part)
        check_entries(cast(type[Value], entry_type(Rig, part)), entries, before)
        mapping = dict(before)
        for key, value in entries.items():
            if value is None:
                mapping.pop(key, None)
            else:
                mapping[key] = value
        new[part] = mapping
        touched[part] = frozenset(entries)
    return msgspec.structs.replace(rig, **new), Change(label, touched, tuple(made))


def put_rig(rig: Rig, label: str, **fields: object) -> Edit:
    """Set fields of the rig itself: its name, its columns, the use in force."""
    for name, value in fields.items():
        check_field(Rig, name, value)
    return msgspec.structs.replace(rig, **fields), Change(label, {"rig": frozenset(fields)})


def join_changes(label: str, *changes: Change) -> Change:
    """Several edits, one after the other, as one change."""
    touched: dict[str, frozenset[str]] = {}
    for change in changes:
        for part, ids in change.touched.items():
            touched[part] = touched.get(part, frozenset()) | ids
    return Change(label, touched, tuple(m for c in changes for m in c.made))


def change_of_everything(rig: Rig, label: str) -> Change:
    """The change that says all of a rig is new."""
    return Change(label, {part: frozenset(getattr(rig, part)) for part in PARTS})


def fresh_ids(stem: str, *taken: Collection[str]) -> Iterator[str]:
    """Ids that start with `stem` and are in none of `taken`, which may grow meanwhile; no one is given twice."""
    n = sum(map(len, taken))
    while True:
        n += 1
        if not any(f"{stem}{n}" in those for those in taken):
            yield f"{stem}{n}"


def fresh_id(taken: Collection[str], stem: str) -> str:
    """An id that starts with `stem` and is not in `taken`. For many at once take `fresh_ids`."""
    return next(fresh_ids(stem, taken))
