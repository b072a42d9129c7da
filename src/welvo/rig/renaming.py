"""Giving entries other ids, with everything in the rig that refers to them.

Two people who each add a fixture to their copy of a rig give it the same next id. Before their rigs can be one, the
newer of the two entries needs an id of its own, and every reference to it has to follow. Which those are stands in
`rig/reference_table.py`.
"""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from welvo.rig.document import Rig
from welvo.rig.reference_table import BY_PART, Reference, with_mentions, with_references

Names = dict[str, dict[str, str]]
"""For each part of a rig, the new ids by the old ones."""


def with_ids(rig: Rig, names: Names) -> Rig:
    """The same rig with other ids. Ids that are not named stay."""
    names = {part: changed for part, of in names.items() if (changed := {a: b for a, b in of.items() if a != b})}
    if not names:
        return rig

    def visit(reference: Reference, key: str) -> str:
        return next((new for part in reference.to if (new := names.get(part, {}).get(key))), key)

    parts: dict[str, Any] = {}
    for part in {*names, *BY_PART} - {"rig"}:
        known = names.get(part, {})
        parts[part] = {known.get(k, k): with_references(part, v, visit) for k, v in getattr(rig, part).items()}
    every = {old: new for of in names.values() for old, new in of.items()}

    def mentioned(text: str) -> str:
        return with_mentions(text, lambda word: every.get(word, word))

    parts["tests"] = {mentioned(k): v for k, v in rig.tests.items()}
    parts["waivers"] = {k: replace(w, subject=mentioned(w.subject)) for k, w in rig.waivers.items()}
    return with_references("rig", replace(rig, **parts), visit)  # type: ignore[no-any-return]
