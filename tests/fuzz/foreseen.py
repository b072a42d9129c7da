"""What is foreseen of a random edit, against what two indexes that know nothing of each other say of both rigs."""

from __future__ import annotations

from collections.abc import Callable
from itertools import combinations

from tests.fuzz.random_edits import EDITS, Trail
from welvo.checks.foresee import Foreseen, Foreseer, foresee_once
from welvo.patch.index import Index, Span
from welvo.rig.abilities import ability_of_port
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.survey.effect_words import concerns_others
from welvo.survey.effects import Effect, effects_between

Fact = tuple[object, ...]


class Facts:
    """A rig reckoned apart from the program's own comparison: by brute force, from the spans of an index built anew."""

    def __init__(self, rig: Rig) -> None:
        self.index = Index(rig)
        self.places, self.overlaps, self.past = _places(self.index), _overlaps(self.index), _past(self.index)


def knock(seed: str, count: int, go_on: Callable[[], bool]) -> tuple[int, str]:
    """Foresee `count` random edits; gives how many were, and what is wrong with the first that is."""
    trail, foreseer = Trail(f"foreseen {seed}"), Foreseer()
    facts = Facts(trail.history.rig)
    done = 0
    while done < count and go_on():
        name = trail.chance.choice(list(EDITS))
        rig = trail.history.rig
        if facts.index.rig is not rig:
            facts = Facts(rig)
        try:
            edit = EDITS[name](trail.chance, rig, trail.index)
        except (Refused, IndexError):
            continue
        foreseen, after = foreseer.foresee(trail.checker, edit), Facts(edit[0])
        wrong = wrong_in(foreseen, facts, after, findings=done % 10 == 0)
        if wrong:
            return done, f"{name}, edit {done}: {wrong}"
        done += 1
        if trail.chance.random() < 0.7 and edit[0] != rig:
            trail.history.push_change(*edit)
            trail._follow(edit[1])
            facts = after
        elif trail.chance.random() < 0.2:
            trail.step()
    return done, ""


def wrong_in(foreseen: Foreseen, old: Facts, new: Facts, findings: bool) -> str:
    """What is foreseen and not so, or so and not foreseen; empty when the list is right entry by entry."""
    reckoned = [e for e in foreseen.effects if e.kind in KINDS_RECKONED and not _is_of_a_bridge(e)]
    said, true = {_fact(e) for e in reckoned}, reckon(old, new)
    if said != true:
        return f"said only {sorted(map(str, said - true))[:3]}, true only {sorted(map(str, true - said))[:3]}"
    if len(said) < len(reckoned):
        return "something is said twice"
    anew = effects_between(old.index, new.index, foreseen.change)
    if anew != foreseen.effects:
        a, b = set(map(str, foreseen.effects)), set(map(str, anew))
        return f"followed only {sorted(a - b)[:2]}, anew only {sorted(b - a)[:2]}"
    if findings:
        other = foresee_once(old.index.rig, (foreseen.rig, foreseen.change))
        if (other.comes, other.goes) != (foreseen.comes, foreseen.goes):
            a, b = ({(f.code, f.subject) for f in x.comes + x.goes} for x in (foreseen, other))
            return f"findings: followed only {sorted(a - b)[:2]}, anew only {sorted(b - a)[:2]}"
    return wrong_words(foreseen)


def wrong_words(foreseen: Foreseen) -> str:
    """What the strip says that the list does not."""
    shown = concerns_others(foreseen.effects)
    if bool(shown) > bool(foreseen.strip):
        return "somebody is touched and nothing is said"
    for e in shown[:1]:
        if e.who not in foreseen.strip:
            return f"{e.who} is not named in {foreseen.strip!r}"
    return "" if len(foreseen.lines) == len(foreseen.effects) + len(foreseen.comes) + len(foreseen.goes) else "lines"


# ---- reckoned apart from the program's own comparison: by brute force, from the spans alone

KINDS_RECKONED = ("moves", "slots", "placed", "unplaced", "gone", "made", "meets", "parts", "past")


def _is_of_a_bridge(e: Effect) -> bool:
    return e.end == "bridge"


def _fact(e: Effect) -> Fact:
    if e.kind in ("meets", "parts"):
        return (e.kind, *sorted((_named(e.key, e.who), _named(e.other, e.with_whom))), e.slots)
    if e.kind == "past":
        return (e.kind, e.end, _named(e.key, e.who) if e.end == "universe" else e.key, e.break_no, e.slots)
    return (e.kind, e.key, e.break_no, e.before, e.after)


def _named(key: str, words: str) -> str:
    """An item by its id, a segment by its words: its place in the run shifts with what is before it."""
    return words if ":" in key or "/" in key or " " in key else key


def reckon(old: Facts, new: Facts) -> set[Fact]:
    found: set[Fact] = set()
    a, b = old.places, new.places
    for key in {*a, *b}:
        if key not in b or key not in a:
            kind = "gone" if key in a else "made"
            every = tuple(x for n in sorted(a.get(key, b.get(key, {}))) for x in (a.get(key) or b.get(key) or {})[n])
            found.add((kind, key, 0, every if kind == "gone" else (), every if kind == "made" else ()))
            continue
        for n in {*a[key], *b[key]}:
            was, is_ = a[key].get(n, ()), b[key].get(n, ())
            if was != is_:
                kind = "placed" if not was else "unplaced" if not is_ else "moves"
                kind = "slots" if kind == "moves" and was[0][:2] == is_[0][:2] else kind
                found.add((kind, key, n, was, is_))
    pairs_before, pairs_after = old.overlaps, new.overlaps
    found |= {("meets", *p, n) for p, n in pairs_after.items() if n > pairs_before.get(p, 0)}
    found |= {("parts", *p, n) for p, n in pairs_before.items() if p not in pairs_after}
    past_before, past_after = old.past, new.past
    return found | {("past", *k, n) for k, n in past_after.items() if n > past_before.get(k, 0)}


def _places(index: Index) -> dict[str, dict[int, tuple[tuple[int, int, int], ...]]]:
    found: dict[str, dict[int, tuple[tuple[int, int, int], ...]]] = {}
    for key in (*index.rig.fixtures, *index.rig.elements):
        mine = found[key] = {}
        for s in index.spans_of(key):
            number = index.rig.universes[s.universe].number
            mine[max(0, s.break_no)] = (*mine.get(max(0, s.break_no), ()), (number, s.first, s.last))
    return found


def _overlaps(index: Index) -> dict[tuple[str, str], int]:
    """Every two spans of a universe that lie on the same slots, held against each other one by one."""
    by_universe: dict[str, list[Span]] = {}
    for s in index.all_spans():
        by_universe.setdefault(s.universe, []).append(s)
    found: dict[tuple[str, str], int] = {}
    for spans in by_universe.values():
        for x, y in combinations(spans, 2):
            slots = min(x.last, y.last) - max(x.first, y.first) + 1
            if slots > 0 and not index.is_meant_overlap(x, y) and not index.is_meant_overlap(y, x):
                a, b = sorted(z.item_of_span or index.word_for_taker(z.key) for z in (x, y))
                found[a, b] = found.get((a, b), 0) + slots
    return found


def _past(index: Index) -> dict[tuple[str, str, int], int]:
    rig = index.rig
    found: dict[tuple[str, str, int], int] = {}
    for s in index.all_spans():
        over = s.last - index.limit_of_universe(s.universe).slots
        if over > 0:
            found["universe", s.item_of_span or index.word_for_taker(s.key), max(0, s.break_no)] = over
    for key in index.missing:
        e = rig.elements.get(key)
        lack = e.slots_needed - sum(s.last - s.first + 1 for s in index.spans_of(key)) if e else 0
        if lack > 0:
            found["rig", key, 0] = lack
    for ref, stream in index.cables_and_sums.streams.items():
        most = ability_of_port(rig, *ref).slots
        if most and stream.slots > most:
            found["port", str(ref), 0] = stream.slots - most
    return found
