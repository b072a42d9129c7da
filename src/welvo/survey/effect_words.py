"""Effects of an edit in words: the sentence of the strip, and the lines of the whole list.

Both are made of the same effects, and every number in the sentence counts lines of the list.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from welvo.rig.notation import say_count, say_thousands
from welvo.survey.effects import Effect, EffectKind

NAMED = 2
"""How many of a kind are named in the sentence; the rest is counted."""
QUIET: frozenset[EffectKind] = frozenset({"placed", "made", "universe filled", "parts"})
"""Kinds that trouble nobody: they stand in the list, and make no strip by themselves."""
OWN_MATTERS: frozenset[EffectKind] = frozenset({"past", "meets", "lock", "share", "unplaced"})
"""What is told of the edited items too: that they move was asked for, that they fall off their bridge was not."""


def concerns_others(effects: Iterable[Effect]) -> list[Effect]:
    """The effects that are worth a strip: what happens to others, and what goes wrong with the edited items."""
    return [e for e in effects if e.kind not in QUIET and (not e.own or e.kind in OWN_MATTERS)]


def say_strip(effects: Sequence[Effect]) -> str:
    """What an edit does to others, in a few words; empty when it does nothing to anybody."""
    return _say(concerns_others(effects))


def say_all(effects: Sequence[Effect]) -> str:
    """What an edit does to anybody, those included that it is about."""
    return _say([e for e in effects if e.kind not in QUIET]) or "Nobody moves, and nobody meets anybody."


def _say(shown: Sequence[Effect]) -> str:
    kinds: dict[EffectKind, list[Effect]] = {}
    for e in shown:
        kinds.setdefault(e.kind, []).append(e)
    words = "; ".join(_say_kind(kind, found) for kind, found in kinds.items())
    return f"{words[:1].upper()}{words[1:]}." if words else ""


def _say_kind(kind: EffectKind, found: list[Effect]) -> str:
    counted, one = _WORDS[kind]
    named = ", ".join(one(e) for e in found[:NAMED])
    more = f" and {say_thousands(len(found) - NAMED)} more" if len(found) > NAMED else ""
    return f"{counted(len(found))}: {named}{more}"


def _verb(one: str, many: str) -> Callable[[int], str]:
    """“1 moves”, “3 move”."""
    return lambda n: f"{say_thousands(n)} {one if n == 1 else many}"


def _noun(one: str, many: str = "") -> Callable[[int], str]:
    return lambda n: say_count(n, one, many)


def _with_break(e: Effect) -> str:
    return f"{e.who} break {e.break_no + 1}" if e.break_no else e.who


def _from_to(e: Effect) -> str:
    return f"{_with_break(e)} from {_begin(e.was_at)} to {_begin(e.is_at)}"


def _begin(places: str) -> str:
    """Where it begins, of a list of stretches."""
    return places.split("–")[0].split(",")[0]


def _number(digits: str) -> str:
    return say_thousands(int(digits))


_WORDS: dict[EffectKind, tuple[Callable[[int], str], Callable[[Effect], str]]] = {
    "unplaced": (_verb("loses its place", "lose their places"), lambda e: f"{_with_break(e)} at {_begin(e.was_at)}"),
    "past": (
        _verb("runs past an end", "run past an end"),
        lambda e: f"{_with_break(e)} by {say_count(e.slots, 'slot')} ({e.with_whom})",
    ),
    "lock": (_verb("is locked and would move", "are locked and would move"), _from_to),
    "share": (_noun("share is broken", "shares are broken"), lambda e: f"{e.who} with {e.with_whom}"),
    "meets": (
        _noun("pair meets", "pairs meet"),
        lambda e: f"{e.who} and {e.with_whom} at {_begin(e.is_at)} ({say_count(e.slots, 'slot')})",
    ),
    "moves": (_verb("moves", "move"), _from_to),
    "slots": (
        _verb("takes other slots", "take other slots"),
        lambda e: f"{_with_break(e)} {e.is_at} instead of {e.was_at}",
    ),
    "set": (
        _noun("address that is set on a lamp changes", "addresses that are set on lamps change"),
        lambda e: f"{_with_break(e)} from {e.was} to {e.becomes}",
    ),
    "octet": (
        _verb("stands elsewhere in its octets", "stand elsewhere in their octets"),
        lambda e: f"{_with_break(e)} from octet {_number(e.was)} to {_number(e.becomes)}",
    ),
    "running": (
        _noun("universe gets other running numbers", "universes get other running numbers"),
        lambda e: f"universe {e.who} from {_number(e.was)} to {_number(e.becomes)}",
    ),
    "gone": (_verb("is taken out", "are taken out"), lambda e: e.who),
    "placed": (_verb("gets a place", "get places"), lambda e: f"{_with_break(e)} at {_begin(e.is_at)}"),
    "made": (_verb("is new", "are new"), lambda e: e.who),
    "universe made": (_noun("universe is made", "universes are made"), lambda e: e.who),
    "universe gone": (_noun("universe is taken out", "universes are taken out"), lambda e: e.who),
    "universe emptied": (_noun("universe is emptied", "universes are emptied"), lambda e: e.who),
    "universe filled": (_noun("empty universe is used", "empty universes are used"), lambda e: e.who),
    "universe fed": (
        _noun("universe is fed otherwise", "universes are fed otherwise"),
        lambda e: f"universe {e.who} by {e.becomes}",
    ),
    "parts": (_noun("pair no longer meets", "pairs no longer meet"), lambda e: f"{e.who} and {e.with_whom}"),
}

Line = tuple[str, str, str, str]
"""Who, what happens, before, after."""
_HAPPENS: dict[EffectKind, str] = {
    "unplaced": "loses its place", "past": "runs past an end", "lock": "is locked and would move",
    "share": "share is broken", "meets": "meets", "moves": "moves", "slots": "takes other slots",
    "set": "is set to another address",
    "octet": "other octet", "running": "other running numbers", "gone": "is taken out", "placed": "gets a place",
    "made": "is new", "universe made": "universe is made", "universe gone": "universe is taken out",
    "universe emptied": "is emptied", "universe filled": "is used", "universe fed": "is fed otherwise",
    "parts": "no longer meets",
}  # fmt: skip


def line_of_effect(e: Effect) -> Line:
    """One line of the list."""
    of_universe = e.kind.startswith("universe") or e.kind == "running"
    who = f"universe {e.who}" if of_universe else _with_break(e)
    happens, slots = _HAPPENS[e.kind], say_count(e.slots, "slot")
    match e.kind:
        case "meets":
            was = f"on {say_count(int(e.was), 'slot')}" if e.was else ""
            return who, f"{happens} {e.with_whom}", was, f"{e.is_at}, {slots} in all"
        case "parts":
            return who, f"{happens} {e.with_whom}", f"{e.was_at}, {slots} in all", ""
        case "past":
            return who, f"{happens}: {e.with_whom}", f"by {e.was}" if e.was else "", f"by {slots}"
        case "share":
            return who, f"{happens}: with {e.with_whom}", "on the same slots", "not on the same slots"
        case "made" | "placed":
            return who, happens, "", e.is_at
        case "gone":
            return who, happens, e.was_at, ""
        case "universe made" | "universe gone" | "universe emptied" | "universe filled":
            return who, happens, "", ""
        case "running" | "octet":
            return who, happens, _number(e.was), _number(e.becomes)
    return who, happens, e.was_at, e.is_at
