"""One table says which field refers to what; every field of text is in it, or is known to be free text."""

from __future__ import annotations

from typing import Any, get_args, get_type_hints

import pytest
from msgspec.structs import replace

from tests.conftest import at, small_rig
from welvo.rig import edits
from welvo.rig.buses import Bus, Gear
from welvo.rig.document import PARTS, Picture, Rig
from welvo.rig.patched import Element, Place, Share
from welvo.rig.profile import Backdrop
from welvo.rig.reference_table import (
    DROPPED,
    MENTIONS,
    TABLE,
    drop_entries,
    entries_of,
    held_by,
    lost_references,
    references_of,
    text_fields,
    with_mentions,
    with_references,
)
from welvo.rig.references import broken_by, broken_references
from welvo.rig.renaming import with_ids
from welvo.rig.runs import PixelType, Segment, Supply, dmx_key
from welvo.rig.scene import Ground
from welvo.rig.wiring import Show

FREE = {
    "profiles": "name maker code revision notes source connector kept.# modes.# modes.*.name modes.*.breaks.*.name "
    "modes.*.channels.*.function modes.*.channels.*.name modes.*.channels.*.short modes.*.channels.*.unit "
    "modes.*.channels.*.needs.* modes.*.channels.*.ranges.*.name modes.*.channels.*.ranges.*.light modes.*.note",
    "pictures": "name media",
    "fixtures": "name mode fields.# fields.* note uid uuid entered.# entered.*.value entered.*.who",
    "elements": "name order code note",
    "universes": "name",
    "senders": "name computer",
    "feeds": "to",
    "device_models": "name maker ports.* gives.# modes.*.name modes.*.off.* modes.*.note firmwares.*.version "
    "firmwares.*.note does.* chips.* connector wires.*.* settings.*.key settings.*.label settings.*.page "
    "settings.*.counts settings.*.options.* settings.*.unit settings.*.help settings.*.factory counts.# factory_ip "
    "tests.* lights.*.* note",
    "devices": "name ip settings.# settings.* ports.# ports.*.settings.# ports.*.settings.* ports.*.run.*.name "
    "ports.*.run.*.order ports.*.run.*.functions.* ports.*.run.*.data_in ports.*.chip ports.*.bus.gear.*.name mode "
    "firmware note snapshots.*.why snapshots.*.values.# snapshots.*.values.* snapshots.*.mac snapshots.*.firmware "
    "readdressed.*.port entered.# entered.*.value entered.*.who lacks.*",
    "pixel_types": "name chip order connector wires.*.* note",
    "supplies": "name note",
    "shares": "reason",
    "groups": "name",
    "waivers": "code facts reason",
    "tests": "tests.*.what tests.*.who tests.*.note tests.*.facts",
    "versions": "name who note",
    "scenes": "name taken.*",
    "uses": "name",
    "rig": "name note columns.*",
}
"""Fields of text that hold no id of the rig, by part. `mode` is the key of a mode inside of its profile, which is held
beside the table."""


def fields_of(part: str) -> set[str]:
    hints = get_type_hints(Rig, include_extras=True)
    if part != "rig":
        return {".".join(path) for _, _, path in text_fields(get_args(hints[part])[1])}
    own = [n for n in Rig.__struct_fields__ if n not in (*PARTS, "extra")]
    return {".".join((n, *path)) for n in own for _, _, path in text_fields(hints[n])}


@pytest.mark.parametrize("part", [*PARTS, "rig"])
def test_every_field_of_text_is_a_reference_or_known_to_be_free(part: str) -> None:
    in_table = {".".join(r.path) for r in TABLE if r.part == part}
    in_table |= {".".join(path) for p, path in MENTIONS if p == part and path != ("#",)}
    free = set(FREE.get(part, "").split())
    assert fields_of(part) == in_table | free, "say whether a new field refers to something, or is free text"
    assert not in_table & free


def whole() -> Rig:
    """A rig in which every row of the table has something to refer to."""
    rig = small_rig()
    line = Segment(kind="line", fixtures=("a", "b"), dmx={"a": 1, dmx_key("b", 1): 9}, lengths={"b": 2.0},
                   boosters=("b",), supply="v", model="mod", at=at(1, 1)[0])  # fmt: skip
    pixels = Segment(kind="pixels", element="e", at=Place(after="c"), supply="v")
    device = rig.devices["d"]
    bus = Bus(gear=(Gear(at=3, fixture="c"),))
    ports = {
        "A": replace(device.ports["A"], run=(line, pixels)),
        "B": replace(device.ports["B"], bus=bus),
    }
    head = rig.profiles["head"]
    mode = replace(head.modes["m"], backdrop=Backdrop(picture="pic"))
    return replace(
        rig,
        pictures={"pic": Picture(name="Front")},
        profiles={**rig.profiles, "head": replace(head, revises="bar", modes={"m": mode})},
        elements={"e": replace(rig.elements["e"], type="silk", at=Place(after="c")),
                  "e2": Element(name="more", pixels=1, order="RGB", at=at(2, 200)[0])},
        fixtures={**rig.fixtures, "b": replace(rig.fixtures["b"], at=(Place(after="a"),))},
        pixel_types={"silk": PixelType(name="Silk", order="RGB")},
        supplies={"v": Supply(name="Supply")},
        devices={"d": replace(device, ports=ports)},
        shares={"x": Share(members=("a", "b"))},
        groups={"g": edits.put_in_groups(rig, ["a", "e"], ["Front"])[0].groups.popitem()[1]},
        uses={"y": Show(name="Opening", universes_off=("u2",), devices_off=("d",))},
        use="y",
        ground=Ground(picture="pic"),
    )  # fmt: skip


def test_every_row_of_the_table_is_found_renamed_and_taken_out() -> None:
    rig = whole()
    assert broken_references(rig) == []
    seen = {r for part in [*PARTS, "rig"] for _, e in entries_of(rig, part) for r, _ in references_of(part, e)}
    assert seen == set(TABLE), "the rig above has no example of a row"
    names = {part: {k: f"new-{k}" for k in getattr(rig, part)} for part in PARTS if part not in ("tests", "versions")}
    renamed = with_ids(rig, names)
    for part in [*PARTS, "rig"]:
        for _, entry in entries_of(renamed, part):
            assert [(r.path, to) for r, to in lost_references(renamed, part, entry)] == []
            assert all(to.startswith("new-") for _, to in references_of(part, entry)), part
    back = with_ids(renamed, {part: {v: k for k, v in of.items()} for part, of in names.items()})
    assert back == rig


@pytest.mark.parametrize("part", [p for p in PARTS if any(p in r.to for r in TABLE)])
def test_whatever_is_taken_out_leaves_nothing_that_refers_to_it(part: str) -> None:
    rig = whole()
    for key in getattr(rig, part):
        if held_by(rig, part, key):
            continue  # what is used like that is not taken out at all
        changes = drop_entries(rig, {part: [key]})
        own = changes.pop("rig", {})
        parts = {p: {**{k: v for k, v in getattr(rig, p).items() if k not in of},
                        **{k: v for k, v in of.items() if v is not None}} for p, of in changes.items()}  # fmt: skip
        made = replace(rig, **parts, **own)
        assert key not in getattr(made, part)
        left = [
            (p, k, r.path)
            for p in [*PARTS, "rig"]
            for k, e in entries_of(made, p)
            for r, to in lost_references(made, p, e)
        ]
        assert left == [], (part, key)


def test_taking_a_lamp_out_takes_its_gear_cable_group_and_share_along_and_nothing_else() -> None:
    rig = whole()
    made, change = edits.take_out_items(rig, ["a"])
    run = made.devices["d"].ports["A"].run
    assert (
        run[0].fixtures == ("b",)
        and run[0].dmx == {dmx_key("b", 1): 9}
        and run[1] == rig.devices["d"].ports["A"].run[1]
    )
    assert made.shares == {} and made.groups["g"].members == ("e",) and made.fixtures["b"].at == (Place(),)
    assert set(change.touched) == {"fixtures", "devices", "shares", "groups"}
    made, _ = edits.take_out_items(rig, ["c"])
    assert made.devices["d"].ports["B"].bus.gear[0].fixture == ""  # type: ignore[union-attr]
    assert made.devices["d"].ports["A"].run[1].at == Place()


def test_the_door_refuses_an_edit_that_leaves_something_behind() -> None:
    rig = whole()
    for part, key, says in (
        ("supplies", "v", "is fed by supply “v”"), ("pixel_types", "silk", "is of the kind of pixels “silk”"),
        ("fixtures", "c", "drives “c”"), ("fixtures", "a", "stands after “a”"),
        ("pictures", "pic", "shows picture “pic”"),
        ("uses", "y", "is in show “y”"), ("profiles", "bar", "revises profile “bar”"),
        ("universes", "u2", "which is not in the rig"), ("senders", "s", "comes from sender “s”"),
    ):  # fmt: skip
        made = replace(rig, **{part: {k: v for k, v in getattr(rig, part).items() if k != key}})
        change = edits.put_entries(rig, "x", **{part: {key: None}})[1]
        assert any(says in words for words in broken_by(rig, made, change)), (part, key)


def test_what_led_nowhere_before_an_edit_does_not_keep_it_from_being_made() -> None:
    rig = whole()
    old = replace(rig, supplies={})  # as an older version may have saved it
    made, change = edits.set_fixtures(old, "name", {"a": {"name": "Other"}})
    assert broken_by(old, made, change) == [] and broken_references(old) == []


def test_texts_that_mention_ids_follow() -> None:
    assert with_mentions("port/d1/6", lambda w: {"d1": "d9"}.get(w, w)) == "port/d9/6"
    assert (
        with_mentions("u3:f1+f12/0", {"f1": "f7", "u3": "u4"}.get and (lambda w: {"f1": "f7"}.get(w, w)))
        == "u3:f7+f12/0"
    )
    rig = replace(
        small_rig(), waivers={"w": edits.waive_finding(small_rig(), "X-1", "a/0", "f", "why")[0].waivers.popitem()[1]}
    )
    assert with_ids(rig, {"fixtures": {"a": "z"}}).waivers["w"].subject == "z/0"


def test_a_reference_that_is_dropped_ends_where_the_table_says() -> None:
    rig = whole()

    def visit(reference: Any, key: str) -> Any:
        return DROPPED if key in ("e", "a") else key

    made = with_references("devices", rig.devices["d"], visit)
    assert [s.kind for s in made.ports["A"].run] == ["line"]
    assert made.ports["A"].run[0].fixtures == ("b",) and made.ports["B"] == rig.devices["d"].ports["B"]
    assert with_references("feeds", rig.feeds["w1"], lambda r, k: DROPPED if k == "s" else k) is DROPPED
    assert with_references("feeds", rig.feeds["w1"], lambda r, k: k) is rig.feeds["w1"]
