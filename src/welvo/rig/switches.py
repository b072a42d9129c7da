"""Address switches and dials: the picture for an address, the address for a picture, and the slips of one switch."""

from __future__ import annotations

from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS
from welvo.rig.profile import AddressSetting


def weights_of_switches(setting: AddressSetting) -> tuple[int, ...]:
    """What each switch weighs, left to right: 1, 2, 4 … or the other way round."""
    rising = tuple(1 << n for n in range(setting.switches))
    return rising if setting.first == "lowest" else rising[::-1]


def reach_of_switches(setting: AddressSetting | None) -> tuple[int, int]:
    """The lowest and highest start that can be set. Nine switches reach 511, or 512 when they encode address − 1."""
    if setting is None or setting.by == "rdm":
        return 1, SLOTS
    if setting.by == "switches":
        return 1, min(SLOTS, (1 << setting.switches) - setting.base)
    if setting.by == "dials":
        return 1, SLOTS
    return 1, setting.highest


def switch_positions(setting: AddressSetting, address: int) -> tuple[bool, ...]:
    """Which switches stand ON, left to right. Raises Refused for an address they cannot say."""
    low, high = reach_of_switches(setting)
    if not low <= address <= high:
        raise Refused(f"These switches reach {low} to {high}; {address} cannot be set on them.")
    code = address - 1 + setting.base
    return tuple(bool(code & w) for w in weights_of_switches(setting))


def address_of(setting: AddressSetting, switches: tuple[bool, ...]) -> int:
    """The address a picture of switches says; outside 1..512 it is one no lamp can have."""
    return sum(w for w, on in zip(weights_of_switches(setting), switches) if on) + 1 - setting.base


def one_slip_away(setting: AddressSetting, address: int) -> list[tuple[int, int]]:
    """(switch from the left, address) for each single switch set wrong; only addresses a lamp can have."""
    right = switch_positions(setting, address)
    found = []
    for n in range(len(right)):
        wrong = address_of(setting, tuple(not s if i == n else s for i, s in enumerate(right)))
        if 1 <= wrong <= SLOTS:
            found.append((n + 1, wrong))
    return found


def why_there(setting: AddressSetting, meant: int, answers: int) -> str:
    """Why a lamp meant for one address may answer at another: one switch, the count's start, the order, ON side."""
    if meant == answers:
        return "It answers where it should."
    if setting.by == "switches":
        for n, address in one_slip_away(setting, meant):
            if address == answers:
                return f"Switch {n} stands the other way: that alone makes {answers} of {meant}."
        right = switch_positions(setting, meant)
        if address_of(setting, right[::-1]) == answers:
            return "The switches were set from the other end: the first is taken for the last."
        if address_of(setting, tuple(not s for s in right)) == answers:
            return "All switches stand the other way: ON is on the other side."
    if abs(meant - answers) == 1:
        return "One more or less: the lamp counts from the other start, 0 or 1."
    if setting.by == "dials" and sorted(f"{meant:03d}") == sorted(f"{answers:03d}"):
        return "The same digits in another order."
    return "No single slip explains that; look at the mode, and at who else is set to that address."


def dial_digits(setting: AddressSetting, address: int) -> tuple[int, int, int]:
    """The three decimal digits to dial."""
    code = address - 1 + setting.base
    return code // 100, code // 10 % 10, code % 10


def say_switches(setting: AddressSetting | None, address: int) -> str:
    """How to set an address by hand, in words; 0 is no address."""
    if not address:
        return "nothing to set: it has no address"
    if setting is None:
        return f"set {address:03d} in its menu"
    if setting.by == "rdm":
        return f"set {address} by RDM"
    low, high = reach_of_switches(setting)
    if not low <= address <= high:
        return f"cannot be set: it reaches {low} to {high}"
    if setting.by == "dials":
        return "dial {} {} {}".format(*dial_digits(setting, address))
    if setting.by == "menu":
        return f"set {address - 1 + setting.base:03d} in its menu"
    on = [str(n) for n, s in enumerate(switch_positions(setting, address), 1) if s]
    return f"ON: {', '.join(on)}" if on else "all switches off"
