"""Questions that are asked of a rig everywhere."""

from __future__ import annotations

from bisect import bisect_left

from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.kept import keep_last_two
from welvo.rig.notation import say_count
from welvo.rig.patched import Element, Fixture
from welvo.rig.profile import Mode, Profile
from welvo.rig.protocol import PROTOCOLS
from welvo.rig.wiring import Feed, Universe


def mode_of(rig: Rig, fixture: Fixture) -> Mode | None:
    profile = rig.profiles.get(fixture.profile)
    return profile.modes.get(fixture.mode) if profile else None


def profile_of(rig: Rig, fixture: Fixture) -> Profile | None:
    return rig.profiles.get(fixture.profile)


@keep_last_two
def _ids_by_number(universes: dict[str, Universe]) -> dict[int, str]:
    found: dict[int, str] = {}
    for uid, u in universes.items():
        found.setdefault(u.number, uid)
    return found


@keep_last_two
def _in_order(universes: dict[str, Universe]) -> list[str]:
    return sorted(universes, key=lambda u: (universes[u].number, u))


@keep_last_two
def _common_size(universes: dict[str, Universe]) -> int:
    sizes = {u.size for u in universes.values()}
    return sizes.pop() if len(sizes) == 1 else SLOTS


@keep_last_two
def _unlike_universes(universes: dict[str, Universe]) -> tuple[list[int], list[int]]:
    """Numbers of the universes whose size is not the common one, lowest first, and how many slots all up to each have
    more (or fewer) than if it were."""
    size, total = _common_size(universes), 0
    numbers, more = [], []
    for u in sorted((u for u in universes.values() if u.size != size), key=lambda u: u.number):
        total += u.size - size
        numbers.append(u.number)
        more.append(total)
    return numbers, more


@keep_last_two
def _by_universe(feeds: dict[str, Feed]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for fid, f in feeds.items():
        found.setdefault(f.universe, []).append(fid)
    return found


def universe_by_number(rig: Rig, number: int) -> str:
    """The id of the universe with a number, or an empty string."""
    return _ids_by_number(rig.universes).get(number, "")


def universe_ids(rig: Rig) -> dict[int, str]:
    """Ids of all universes by number, for whoever asks for more than one."""
    return dict(_ids_by_number(rig.universes))


def common_size(rig: Rig) -> int:
    """Slots that a universe the rig does not have counts for: the size all others have, else 512."""
    return _common_size(rig.universes)


def running_number(rig: Rig, number: int, address: int) -> int:
    """The running slot of an address: every universe of a lower number counts with its own size."""
    numbers, more = _unlike_universes(rig.universes)
    before = bisect_left(numbers, number)
    return (number - 1) * common_size(rig) + (more[before - 1] if before else 0) + address


def joined_wires(rig: Rig) -> list[int]:
    """The numbers on the wire whose groups have to be joined to hear them."""
    return [f.wire for f in rig.feeds.values() if PROTOCOLS[f.protocol].in_groups]


def said_size(rig: Rig) -> str:
    """What stands behind a running number where universes have not 512 slots each; empty where all have."""
    if _unlike_universes(rig.universes)[0]:
        return " (each with its own size)"
    size = common_size(rig)
    return "" if size == SLOTS else f" (of {size})"


def place_of_running(rig: Rig, running: int) -> tuple[int, int]:
    """Number of the universe and address that a running slot falls on."""
    size = common_size(rig)
    number, left = 1, running
    for u in sorted(rig.universes.values(), key=lambda u: u.number):
        between = (u.number - number) * size  # universes the rig does not have
        if left <= between:
            break
        number, left = u.number, left - between
        if left <= u.size:
            return number, left
        number, left = number + 1, left - u.size
    return number + (left - 1) // size, (left - 1) % size + 1


def universes_in_order(rig: Rig) -> list[str]:
    return list(_in_order(rig.universes))


def feeds_of(rig: Rig, universe: str) -> list[str]:
    """The feeds of a universe, in the rig's order."""
    return list(_by_universe(rig.feeds).get(universe, ()))


def bench_sender(rig: Rig) -> str:
    """The id of the sender that is Welvo's own Bench, or an empty string."""
    return next((sid for sid, s in rig.senders.items() if s.kind == "bench"), "")


def main_sender(rig: Rig) -> str:
    """Who drives the rig in the show: its sender that is not Welvo's own Bench if there is just one, else the Bench."""
    others = [sid for sid, s in rig.senders.items() if s.kind != "bench"]
    return others[0] if len(others) == 1 else bench_sender(rig)


def find_item(rig: Rig, key: str) -> Fixture | Element | None:
    return rig.fixtures.get(key) or rig.elements.get(key)


def name_of_item(rig: Rig, key: str) -> str:
    """What the crew calls an item: a fixture's number, an element's name."""
    fixture = rig.fixtures.get(key)
    if fixture:
        return str(fixture.number)
    element = rig.elements.get(key)
    return element.name if element else key


def find_item_named(rig: Rig, name: str) -> str:
    """The id of what the crew calls so: a fixture by its number, an element by its name. Empty when there is none."""
    wanted = name.strip().lower()
    return next((k for k, f in rig.fixtures.items() if str(f.number) == wanted), "") or next(
        (k for k, e in rig.elements.items() if e.name.lower() == wanted), ""
    )


def fixtures_by_number(rig: Rig, numbers: list[int]) -> list[str]:
    """Ids for numbers, in the order asked; an unknown number is an error that names it."""
    by_number: dict[int, str] = {}
    for fid, f in rig.fixtures.items():
        by_number.setdefault(f.number, fid)
    missing = [n for n in numbers if n not in by_number]
    if missing:
        first = ", ".join(str(n) for n in missing[:3])
        more = f" and {say_count(len(missing) - 3, 'more')}" if len(missing) > 3 else ""
        raise Refused(f"There is no fixture {first}{more} in this rig.")
    return [by_number[n] for n in numbers]


def used_by(rig: Rig, profile: str, mode: str | None = None) -> list[str]:
    return [fid for fid, f in rig.fixtures.items() if f.profile == profile and (mode is None or f.mode == mode)]


def is_in_use(rig: Rig, part: str, key: str) -> bool:
    """Whether a universe or a device takes part in the use in force; without one everything does."""
    use = rig.uses.get(rig.use)
    if use is None:
        return True
    return key not in (use.universes_off if part == "universes" else use.devices_off)


def lowest_free_tint(rig: Rig) -> int:
    taken = {p.tint for p in rig.profiles.values()} | {e.tint for e in rig.elements.values()}
    k = 0
    while k in taken:
        k += 1
    return k


def code_for(rig: Rig, name: str) -> str:
    """Three letters out of a name that no other profile or element of the rig has."""
    taken = {p.code for p in rig.profiles.values()} | {e.code for e in rig.elements.values()}
    letters = "".join(c for c in name.upper() if c.isalnum()) or "FIX"
    candidates = [letters[:3].ljust(3, "X")]
    candidates += [
        letters[0] + letters[i] + letters[j] for i in range(1, len(letters)) for j in range(i + 1, len(letters))
    ]
    candidates += [f"{letters[:1]}{n:02d}" for n in range(100)]
    return next((c for c in candidates if c not in taken), letters[:3])
