"""Giving entries other ids, with everything in the rig that refers to them.

Two people who each add a fixture to their copy of a rig give it the same next id. Before their rigs can be one, the
newer of the two entries needs an id of its own, and every reference to it has to follow.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec.structs import replace

from welvo.rig.document import Rig
from welvo.rig.patched import Place
from welvo.rig.runs import Segment, dmx_key, dmx_owner

Names = dict[str, dict[str, str]]
"""For each part of a rig, the new ids by the old ones."""


def with_ids(rig: Rig, names: Names) -> Rig:
    """The same rig with other ids. Ids that are not named stay."""
    names = {part: changed for part, of in names.items() if (changed := {a: b for a, b in of.items() if a != b})}
    if not names:
        return rig

    def of(part: str) -> Callable[[str], str]:
        known = names.get(part, {})
        return lambda key: known.get(key, key)

    items = names.get("fixtures", {}) | names.get("elements", {})

    def item(key: str) -> str:
        return items.get(key, key)

    def placed(at: Place) -> Place:
        return replace(at, universe=of("universes")(at.universe), after=item(at.after))

    def segment(s: Segment) -> Segment:
        keys = set(s.fixtures)

        def typed(key: str) -> str:
            owner = dmx_owner(key, keys)
            number = int(key.rpartition(":")[2]) if owner and owner != key else 0
            return dmx_key(item(owner), number) if owner else key

        return replace(
            s,
            element=item(s.element),
            at=placed(s.at),
            fixtures=tuple(map(item, s.fixtures)),
            model=of("device_models")(s.model),
            dmx={typed(k): v for k, v in s.dmx.items()},
            lengths={item(k): v for k, v in s.lengths.items()},
            boosters=tuple(map(item, s.boosters)),
            supply=of("supplies")(s.supply),
        )

    changes: dict[str, Callable[[Any], Any]] = {
        "profiles": lambda p: replace(
            p,
            revises=of("profiles")(p.revises),
            modes={
                k: replace(m, backdrop=replace(m.backdrop, picture=of("pictures")(m.backdrop.picture)))
                if m.backdrop
                else m
                for k, m in p.modes.items()
            },
        ),
        "fixtures": lambda f: replace(f, profile=of("profiles")(f.profile), at=tuple(map(placed, f.at))),
        "elements": lambda e: replace(e, type=of("pixel_types")(e.type), at=placed(e.at)),
        "feeds": lambda f: replace(f, universe=of("universes")(f.universe), sender=of("senders")(f.sender)),
        "devices": lambda d: replace(
            d,
            model=of("device_models")(d.model),
            ports={k: replace(p, feed=of("feeds")(p.feed), run=tuple(map(segment, p.run))) for k, p in d.ports.items()},
        ),
        "shares": lambda s: replace(s, members=tuple(map(item, s.members))),
        "groups": lambda g: replace(g, members=tuple(map(item, g.members))),
        "uses": lambda u: replace(
            u,
            universes_off=tuple(map(of("universes"), u.universes_off)),
            devices_off=tuple(map(of("devices"), u.devices_off)),
        ),
    }
    parts: dict[str, Any] = {}
    for part in {*names, *changes}:
        change = changes.get(part, lambda v: v)
        parts[part] = {of(part)(k): change(v) for k, v in getattr(rig, part).items()}
    parts["tests"] = {_subject(k, names): v for k, v in rig.tests.items()}
    ground = rig.ground and replace(rig.ground, picture=of("pictures")(rig.ground.picture))
    return replace(rig, use=of("uses")(rig.use), ground=ground, **parts)


def _subject(key: str, names: Names) -> str:
    """The subject of a test record with the new id of what it is about."""
    kind, stroke, rest = key.partition("/")
    part = {"item": "fixtures", "universe": "universes", "device": "devices", "port": "devices"}.get(kind)
    if not part or not stroke:
        return key
    known = names.get(part, {}) | (names.get("elements", {}) if kind == "item" else {})
    if kind != "port":
        return f"{kind}/{known.get(rest, rest)}"
    device, _, label = rest.partition("/")
    return f"{kind}/{known.get(device, device)}/{label}"
