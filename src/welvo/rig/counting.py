"""The arithmetic of slots. Everything is counted from 1 unless it says otherwise."""

from __future__ import annotations

SLOTS = 512
HIGHEST_SACN = 63999
HIGHEST_PORT_ADDRESS = 32767
Stretch = tuple[int, int]
"""First and last slot."""


def last_slot(start: int, footprint: int) -> int:
    return start + footprint - 1


def place_of(running: int, size: int = SLOTS) -> tuple[int, int]:
    """Which universe (0 = the first) and address a running slot falls on when `size` slots are used of each."""
    return (running - 1) // size, (running - 1) % size + 1


def running_of(universe: int, address: int, size: int = SLOTS) -> int:
    """The running slot of an address in the universe counted from 0."""
    return universe * size + address


def how_many_fit(start: int, spacing: int, footprint: int, size: int = SLOTS) -> int:
    """How many things of a footprint fit from `start` to the end of a universe, one every `spacing` slots."""
    return max(0, (size - footprint - start + 1) // spacing + 1)


def port_address(net: int, sub: int, universe: int) -> int:
    """Art-Net's 15-bit number out of its three parts, all counted from 0 (Art-Net 4, Port-Address)."""
    return net << 8 | sub << 4 | universe


def net_sub_universe(address: int) -> tuple[int, int, int]:
    return address >> 8 & 0x7F, address >> 4 & 0xF, address & 0xF


def pixel_slot(stream_start: int, components: int, pixel: int, component: int) -> int:
    """Running slot of component c of pixel p on a stream that starts at running slot S: S + (p−1)·k + (c−1)."""
    return stream_start + (pixel - 1) * components + component - 1


def pixel_place(address: int, pixel: int, component: int, components: int, size: int, whole: bool) -> tuple[int, int]:
    """Universe (0 = the one it starts in) and address of one component of one pixel of an element.

    Dense streams run on over the universe's end. Whole pixels never straddle it: what is left of a universe
    that cannot hold a pixel stays empty, and the next universe starts again at 1.
    """
    if not whole:
        return place_of(pixel_slot(address, components, pixel, component), size)
    room = max(0, (size - address + 1) // components)
    if pixel <= room:
        return 0, address + (pixel - 1) * components + component - 1
    per = max(1, size // components)
    behind = pixel - room - 1
    return 1 + behind // per, behind % per * components + component


def stretches(address: int, footprint: int, unit: int, size: int, whole: bool) -> list[tuple[int, int, int, int]]:
    """The stretches an element covers: (universe from its first, first slot, last slot, its own slots before)."""
    found: list[tuple[int, int, int, int]] = []
    universe, at, done = 0, address, 0
    while done < footprint:
        room = max(0, size - at + 1)
        if whole and unit > 1:
            room -= room % unit
        take = min(room, footprint - done)
        if take > 0:
            found.append((universe, at, at + take - 1, done))
        elif at == 1:
            break  # a pixel wider than the universe fits nowhere
        done += take
        universe, at = universe + 1, 1
    return found


def free_between(taken: list[Stretch], limit: int) -> list[Stretch]:
    """The stretches of 1..limit that nothing takes."""
    free: list[Stretch] = []
    at = 1
    for a, b in sorted(taken):
        if a > at:
            free.append((at, min(a - 1, limit)))
        at = max(at, b + 1)
        if at > limit:
            break
    if at <= limit:
        free.append((at, limit))
    return [(a, b) for a, b in free if a <= b]
