"""The arithmetic of slots. Everything is counted from 1 unless it says otherwise."""

from __future__ import annotations

SLOTS = 512
HIGHEST_SACN = 63999
HIGHEST_PORT_ADDRESS = 32767
Stretch = tuple[int, int]
"""First and last slot."""


def port_address(net: int, sub: int, universe: int) -> int:
    """Art-Net's 15-bit number out of its three parts, all counted from 0 (Art-Net 4, Port-Address)."""
    return net << 8 | sub << 4 | universe


def net_sub_universe(address: int) -> tuple[int, int, int]:
    return address >> 8 & 0x7F, address >> 4 & 0xF, address & 0xF


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
