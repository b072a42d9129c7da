"""Many findings of one kind at once: which stand together as one line, and one fix for all of them.

A fix for all exists only where the single fixes do not stand in each other's way: pushes to one device, and the edits
of rules that declare it (`for_all`). Two fixtures that were both offered the next free place would land on each other.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from welvo.checks.registry import RULES, Finding, Fix
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig, join_changes
from welvo.rig.notation import natural_sort_key, say_count

MANY = 4
"""From more findings of one kind than this on they are one line."""
SHOWN = 40
"""How many of its changes a fix for all names."""


def in_bundles(findings: Iterable[Finding]) -> list[list[Finding]]:
    """Findings in groups that are shown as one line each; a group of one is a finding on its own. The kinds keep their
    order, and within a kind they stand as people count: universe 2 before universe 10."""
    kinds: dict[str, list[Finding]] = {}
    for f in findings:
        kinds.setdefault(f.code, []).append(f)
    found: list[list[Finding]] = []
    for members in kinds.values():
        ordered = sorted(members, key=lambda f: (natural_sort_key(f.where), natural_sort_key(f.title)))
        found += [ordered] if len(ordered) > MANY else [[f] for f in ordered]
    return found


def fix_for_all(findings: Sequence[Finding]) -> Fix | None:
    """One fix that puts all of them right, out of the first fix of each; None where there is none."""
    words = RULES[findings[0].code].for_all
    begin = next(iter(findings[0].possible_fixes), None)
    if begin is None or not (words or begin.push):
        return None  # and the others are not even asked: a place for each of thousands takes its time
    fixes: list[Fix] = []
    for f in findings:
        first = next(iter(f.possible_fixes), None)
        if first is None:
            return None
        fixes.append(first)
    changes = tuple(c for x in fixes for c in x.changes)
    more = len(changes) - SHOWN
    if more > 0:
        changes = (*changes[:SHOWN], ("and more", "", say_count(more, "change")))
    pushes = [x.push for x in fixes if x.push]
    if len(pushes) == len(fixes) and len({device for device, _ in pushes}) == 1:
        keys = tuple(dict.fromkeys(k for _, some in pushes for k in some))
        return Fix(f"Push {say_count(len(keys), 'setting')}", changes, push=(pushes[0][0], keys))
    edits = [x.edit for x in fixes if x.edit]
    if not words or len(edits) < len(fixes):
        return None
    label = words.format(n=len(findings))

    def edit(rig: Rig) -> Edit:
        """Each on what the one before made; what does not go any more by then is left out."""
        done: list[Change] = []
        why = ""
        for one in edits:
            try:
                rig, change = one(rig)
            except Refused as e:
                why = str(e)
                continue
            done.append(change)
        if not done:
            raise Refused(why)
        return rig, join_changes(label[:1].lower() + label[1:], *done)

    return Fix(label, changes, edit)
