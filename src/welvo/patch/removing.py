"""Taking items out of a rig without taking the places of others along.

A lamp may stand “after 105”. When 105 goes, the lamp stays where it stands: its place is typed from then on, at the
address that it had, and that is said. (Where nothing stands any more it has no place, as before.)
"""

from __future__ import annotations

from msgspec.structs import replace

from welvo.patch.resolve import Resolver
from welvo.rig import edits
from welvo.rig.document import Edit, Rig, join_changes, put_entries
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_count, say_place
from welvo.rig.patched import Place


def remove_items(rig: Rig, keys: list[str]) -> Edit:
    """Remove fixtures and elements; what stood after one of them keeps its address."""
    gone = set(keys)
    followers = {k: f.at for k, f in rig.fixtures.items() if k not in gone and any(p.after in gone for p in f.at)} | {
        k: (e.at,) for k, e in rig.elements.items() if k not in gone and e.at.after in gone
    }
    if not followers:
        return edits.take_out_items(rig, keys)
    stands = Resolver(rig)
    said: list[str] = []

    def stays(key: str, n: int, place: Place) -> Place:
        start = stands.start_of_break(key, n) if place.after in gone else None
        if start is None:
            return place
        said.append(f"{name_of_item(rig, key)} stays at {say_place(rig.universes[start[0]].number, start[1])}")
        return replace(place, universe=start[0], address=start[1], after="", gap=0)

    places = {k: tuple(stays(k, n, p) for n, p in enumerate(at)) for k, at in followers.items()}
    typed, first = put_entries(
        rig,
        "",
        fixtures={k: replace(rig.fixtures[k], at=at) for k, at in places.items() if k in rig.fixtures},
        elements={k: replace(rig.elements[k], at=at[0]) for k, at in places.items() if k in rig.elements},
    )
    made, change = edits.take_out_items(typed, keys)
    more = f" and {len(said) - 3} more" if len(said) > 3 else ""
    what = (
        say_count(len(said), "item") + " followed what was removed: " + ", ".join(said[:3]) + more + "." if said else ""
    )
    return made, replace(join_changes(change.label, first, change), note=what)
