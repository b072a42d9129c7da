"""Addresses and masks: who can reach whom, which part differs, and what is free."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable
from functools import lru_cache

from welvo.rig.base import Refused


@lru_cache(64)
def network_of(at: str) -> ipaddress.IPv4Network:
    """The network of `address/mask`."""
    return ipaddress.IPv4Network(at, strict=False)


@lru_cache(8192)
def same_network(ip: str, at: str) -> bool:
    return ipaddress.IPv4Address(ip) in network_of(at)


def say_network(at: str) -> str:
    """`10.0.40.7 with mask 255.255.255.0`."""
    ip, _, mask = at.partition("/")
    return f"{ip} with mask {mask}"


def check_host(ip: str, mask: str) -> None:
    """Refuse an address that no single device of its network can have."""
    network = network_of(f"{ip}/{mask}")
    if network.num_addresses > 2 and ip == str(network.broadcast_address):
        raise Refused(f"{ip} is the broadcast address of its network (mask {mask}): it means every device there.")
    if network.num_addresses > 2 and ip == str(network.network_address):
        raise Refused(f"{ip} is the name of its network (mask {mask}), not one device's address.")


def differing_part(ip: str, at: str) -> str:
    """Which part of an address keeps it out of a network, in words; empty when it is in it."""
    network = network_of(at)
    mask = int(network.netmask)
    theirs, ours = ipaddress.IPv4Address(ip), network.network_address
    for n, word in enumerate(("first", "second", "third", "fourth")):
        shift = 24 - 8 * n
        part = mask >> shift & 255
        a, b = int(theirs) >> shift & 255, int(ours) >> shift & 255
        if a & part != b & part:
            return f"the {word} part is {a}, and must be {_say_wanted_form(b, part)}"
    return ""


def _say_wanted_form(first: int, part: int) -> str:
    last = first | (255 & ~part)
    return str(first) if last == first else f"{first} to {last}"


def free_address(at: str, taken: Iterable[str], near: str = "") -> str:
    """An address of a network that nobody has: the first behind `near`, else the first of all; empty: there is none."""
    network = network_of(at)
    used = {int(ipaddress.IPv4Address(t)) for t in taken if t} | {int(ipaddress.IPv4Address(at.partition("/")[0]))}
    low, high = int(network.network_address) + 1, int(network.broadcast_address) - 1
    begin = int(ipaddress.IPv4Address(near)) + 1 if near and same_network(near, at) else low
    for first, last in ((begin, high), (low, begin - 1)):
        for n in range(first, min(last, first + 70_000) + 1):
            if n not in used:
                return str(ipaddress.IPv4Address(n))
    return ""
