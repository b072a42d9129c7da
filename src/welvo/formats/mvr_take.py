"""Takes a scene into a rig: an empty one, or one that is there already, with every change told before it is made.

A fixture of the scene is one of the rig's when it carries the same UUID, else when it has the same number. Fixture
types that the rig has in the same modes are used as they are; others come in as profiles. Where a scene says nothing (a
remark, a group, what hangs on which cable), the rig's own word stands.
"""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct
from msgspec.structs import replace

from welvo.formats.mvr import SceneFile, SceneFixture, scene_uuid
from welvo.patch.arrange import FreeNumbers
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import HANG_POINT, Change, Rig, fresh_id, fresh_ids, join_changes, put_entries, put_rig
from welvo.rig.lookup import universe_ids
from welvo.rig.notation import say_count
from welvo.rig.patched import Fixture, Place
from welvo.rig.profile import Profile
from welvo.rig.scene import Scene
from welvo.rig.steps import take_step
from welvo.rig.wiring import Universe
from welvo.survey.compare import say_start
from welvo.survey.spreadsheet import Row, with_meets

LAYER, CLASS = "Layer", "Class"
"""The rig's own columns that keep a scene's layers and classes."""
MOST_KEPT = 64 * 2**20
"""A larger archive does not travel with the rig."""


class Taken(Struct, frozen=True):
    """What taking a scene in would do: the new rig, fixture by fixture what becomes of it, and what is doubtful."""

    rig: Rig
    change: Change
    rows: tuple[Row, ...]
    doubts: tuple[str, ...] = ()

    def rows_in_state(self, state: str) -> list[Row]:
        return [r for r in self.rows if r.state == state]


def take_scene(index: Index, scene: SceneFile) -> Taken:
    """Work out a scene's fixtures into a rig. Raises Refused when it holds none that could be taken."""
    rig, doubts = index.rig, list(scene.doubts)
    made, done, kinds = _with_types(rig, scene, doubts)
    ids = fresh_ids("f", rig.fixtures)
    matched = _match_fixtures(rig, scene)
    numbers = universe_ids(rig)
    universes: dict[str, Universe] = {}
    fixtures: dict[str, Fixture] = {}
    frees = FreeNumbers(f.number for f in rig.fixtures.values())
    rows: list[Row] = []
    for n, s in enumerate(scene.fixtures):
        take_step("fixtures", n, len(scene.fixtures))
        who = str(s.number or "–")
        kind = kinds.get((s.spec, s.mode))
        if kind is None:
            rows.append(Row(n + 1, "refused", who, why=_why_not(scene, s)))
            continue
        key = matched.get(n, "")
        old = rig.fixtures.get(key)
        number = _number_for(s, old, frees, doubts)
        fixture = replace(
            old or Fixture(number=number, profile=kind[0], mode=kind[1]),
            number=number,
            name=s.name or (old.name if old else made.profiles[kind[0]].name),
            profile=kind[0],
            mode=kind[1],
            at=_places_from_scene(s, kind[2], old, numbers, universes, made),
            fields=_fields_from_scene(s, old),
            spot=s.spot or (old.spot if old else None),
            # a scene knows which axes are inverted and nothing of swapped ones: those stay as the rig has them
            turns=tuple(t for t in (old.turns if old else ()) if t == "pan and tilt swapped") + s.turns,
            uuid=s.uuid,
        )
        if fixture == old:
            rows.append(Row(n + 1, "same", str(number), key=key))
            continue
        key = key or next(ids)
        fixtures[key] = fixture
        before = f"{say_start(index, key)} {old.name}" if old else ""
        rows.append(Row(n + 1, "changed" if old else "new", str(number), before, fixture.name, key=key))
    if not any(r.state != "refused" for r in rows):
        why = f" {rows[0].why}." if rows else ""
        raise Refused(f"{scene.name} holds no fixture that could be taken.{why}")
    label = f"import {scene.name}"
    columns = tuple(
        c for c in (HANG_POINT, LAYER, CLASS) if c not in made.columns and any(c in f.fields for f in fixtures.values())
    )
    if columns:
        made, change = put_rig(made, label, columns=(*made.columns, *columns))
        done.append(change)
    scenes = _keep_archive(made, scene, [*fixtures.values(), *(rig.fixtures[k] for k in matched.values())], doubts)
    made, change = put_entries(made, label, fixtures=fixtures, universes=universes, scenes=scenes)
    change = join_changes(label, *done, change)
    return Taken(made, change, tuple(with_meets(index, (made, change), rows)), tuple(doubts))


def _match_fixtures(rig: Rig, scene: SceneFile) -> dict[int, str]:
    """Which fixture of the rig each of the scene's is, by its place in the scene."""
    by_uuid = {f.uuid or scene_uuid("fixture", k): k for k, f in rig.fixtures.items()}
    by_number: dict[int, str] = {}
    for k, f in rig.fixtures.items():
        by_number.setdefault(f.number, k)
    matched: dict[int, str] = {}
    used: set[str] = set()
    for n, s in enumerate(scene.fixtures):
        key = by_uuid.get(s.uuid, "") if s.uuid else ""
        if key and key not in used:
            matched[n] = key
            used.add(key)
    # By number only after all identities are taken, and only one that never had another identity: else a fixture that
    # was renumbered in the scene would be merged into a stranger.
    for n, s in enumerate(scene.fixtures):
        key = by_number.get(s.number, "")
        if n not in matched and key and key not in used and not rig.fixtures[key].uuid:
            matched[n] = key
            used.add(key)
    return matched


def _number_for(s: SceneFixture, old: Fixture | None, frees: FreeNumbers, doubts: list[str]) -> int:
    """The number it gets: the scene's, where nobody else has it."""
    number = s.number
    if old is not None and number == old.number:
        return number
    if not number or number in frees:
        free = frees.at_or_above(max(1, number))
        if number and old is None:
            doubts.append(f"Number {number} is there twice; {s.name or 'one of them'} becomes {free}.")
        number = old.number if old else free
    frees.take_number(number)
    return number


def _fields_from_scene(s: SceneFixture, old: Fixture | None) -> dict[str, str]:
    fields = dict(old.fields) if old else {}
    for column, value in ((HANG_POINT, s.position), (LAYER, s.layer), (CLASS, s.kind)):
        if value:
            fields[column] = value
    return fields


def _why_not(scene: SceneFile, s: SceneFixture) -> str:
    if not s.spec:
        return f"{s.name or 'it'} names no fixture type"
    if s.spec not in scene.types:
        return f"its fixture type {s.spec} is not in the scene, nor in this rig"
    return f"{s.spec} has no mode “{s.mode}”"


def _with_types(
    rig: Rig, scene: SceneFile, doubts: list[str]
) -> tuple[Rig, list[Change], dict[tuple[str, str], tuple[str, str, int]]]:
    """The rig with the profiles that it needs, and for each type and mode: profile, mode and number of breaks."""
    done: list[Change] = []
    kinds: dict[tuple[str, str], tuple[str, str, int]] = {}
    modes: dict[str, dict[str, None]] = {}
    for f in scene.fixtures:
        modes.setdefault(f.spec, {})[f.mode] = None
    for n, (spec, wanted) in enumerate(modes.items()):
        take_step("fixture types", n, len(modes))
        found = scene.types.get(spec)
        pid = _same_profile(rig, spec, found.profile if found else None, wanted)
        if not pid and found:
            rig, change = edits.add_profile(rig, replace(found.profile, revises=""))
            pid = change.made[0]
            done.append(change)
            if found.doubts:
                doubts.append(f"{found.profile.name}: {say_count(len(found.doubts), 'doubt')}.")
        for mode in wanted if pid else ():
            profile = rig.profiles[pid]
            mid = next((k for k, m in profile.modes.items() if m.name.lower() == mode.lower()), "")
            if not mid and (not mode or len(profile.modes) == 1):
                mid = next(iter(profile.modes))
            if mid:
                kinds[spec, mode] = (pid, mid, len(profile.modes[mid].breaks))
    return rig, done, kinds


def _same_profile(rig: Rig, spec: str, found: Profile | None, modes: Iterable[str]) -> str:
    """A profile of the rig that is this type: of the same name, with every mode that is wanted, as wide."""
    stem = spec.rpartition("/")[2].removesuffix(".gdtf")
    names = {stem.lower(), stem.replace("@", " ").lower()}
    if found:
        names |= {f"{found.maker} {found.name}".strip().lower()}
    for pid, p in rig.profiles.items():
        if f"{p.maker} {p.name}".strip().lower() not in names and (found or p.name.lower() not in names):
            continue
        wide = {m.name.lower(): [b.slots for b in m.breaks] for m in p.modes.values()}
        theirs = {m.name.lower(): [b.slots for b in m.breaks] for m in found.modes.values()} if found else wide
        if all(wide.get(m.lower()) == theirs.get(m.lower()) and m.lower() in wide for m in modes):
            return pid
    return ""


def _places_from_scene(
    s: SceneFixture,
    breaks: int,
    old: Fixture | None,
    numbers: dict[int, str],
    universes: dict[str, Universe],
    rig: Rig,
) -> tuple[Place, ...]:
    """The addresses as places; one that is anchored, locked or from a cable stays as the rig has it."""
    if not s.addresses:
        return old.at if old else ()
    places: list[Place] = []
    for n, (_, number, address) in enumerate(s.addresses[:breaks]):
        before = old.place_of_break(n) if old else Place()
        if before.locked or before.origin_of_place in ("anchored", "run"):
            places.append(before)
            continue
        uid = numbers.get(number)
        if uid is None:
            uid = next(fresh_ids("u", rig.universes, universes))
            universes[uid] = Universe(number=number)
            numbers[number] = uid
        places.append(Place(universe=uid, address=address))
    return tuple(places) + (old.at[len(places) :] if old else ())


def _keep_archive(rig: Rig, scene: SceneFile, taken: Iterable[Fixture], doubts: list[str]) -> dict[str, Scene]:
    """The archive, to travel with the rig; an older one of the same name gives way."""
    if len(scene.data) > MOST_KEPT:
        doubts.append(f"The scene has {len(scene.data) >> 20} MiB; what Welvo does not hold of it is not kept.")
        return {}
    key = next((k for k, v in rig.scenes.items() if v.name == scene.name), "") or fresh_id(rig.scenes, "z")
    uuids = tuple(dict.fromkeys(f.uuid for f in taken if f.uuid))
    return {key: Scene(name=scene.name, data=scene.data, taken=uuids)}
