"""Wishes as they are typed: `12 x Bar 9 at 1.001; 6 x RGBW at free`, with generics of the library taken in."""

from __future__ import annotations

import re

from msgspec.structs import replace

from welvo.formats.library import find_generic
from welvo.patch.adding import add_fixtures, read_wish
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig, join_changes
from welvo.rig.edits import add_profile
from welvo.rig.notation import say_count


def add_wished(rig: Rig, text: str) -> Edit:
    """Add all that a line asks for, in one act; gives the ids of the new fixtures.

    A name that no profile of the rig has is looked for among the generics. Raises Refused for the first part
    that cannot be read; then nothing is done.
    """
    parts = [p.strip() for p in re.split(r"[;\n]", text) if p.strip()]
    if not parts:
        raise Refused("Say how many of what, and where: 12 x Bar 9 at 1.001")
    if len(parts) > 200:
        raise Refused(f"{len(parts)} wishes are more than 200; add them in parts.")
    changes: list[Change] = []
    made: list[str] = []
    labels = []
    for part in parts:
        rig, change = _take_in(rig, part)
        wish = read_wish(rig, part)
        rig, more = add_fixtures(Index(rig), wish)
        made += more.made
        labels.append(more.label)
        changes += (change, more)
    label = labels[0] if len(labels) == 1 else f"add {say_count(len(made), 'fixture')}"
    return rig, replace(join_changes(label, *changes), made=tuple(made))


def _take_in(rig: Rig, wish: str) -> Edit:
    """The rig with the generic that a wish names, when the rig has no profile of that name itself."""
    m = re.fullmatch(r"\s*(?:\d+\s*[x×*]\s*)?(.+?)(?:\s*\(\s*[^)]*\s*\))?(?:\s+at\s+.+?)?\s*", wish, re.IGNORECASE)
    name = m[1].strip().lower() if m else ""
    if any(name in (p.name.lower(), f"{p.maker} {p.name}".strip().lower()) for p in rig.profiles.values()):
        return rig, Change("", {})
    generic = find_generic(name)
    if generic is None:
        return rig, Change("", {})
    return add_profile(rig, generic)
