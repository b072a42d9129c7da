"""What can be wrong with a simulated device on purpose, and be switched on and off while it runs."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass
class StandinFaults:
    """What is wrong with a stand-in on purpose. Each can be switched on and off while it runs."""

    unreachable: bool = False
    """As if in another sub-net: nothing comes in, nothing goes out."""
    lossy: int = 0
    """Every so many-th request is lost; 0: none."""
    slow: float = 0.0
    """Seconds before each answer."""
    refuses: tuple[str, ...] = ()
    """Full keys of settings that it refuses."""
    forgets: bool = False
    """Loses even saved settings at a restart: its memory is worn out."""
    twin: bool = False
    """Another device has the same address: two MACs answer in turn."""
    halts: int = 0
    """Loses power after so many settings of a write; 0: never."""
    short: int = 0
    """LEDs that its first segment lacks, whatever is set."""
    swapped: bool = False
    """Puts the first two components out in each other's place, whatever is set."""


FAULTS = tuple(StandinFaults.__dataclass_fields__)
OF_LAMPS = {
    "lamps_deaf": "deaf", "lamps_slow": "slow", "lamps_collide": "collides", "lamps_stubborn": "stubborn",
    "lamps_forget": "forgets", "lamps_new": "new",
}  # fmt: skip
"""Faults of lamps on the ports of nodes, by the numbers of their fixtures; `new` puts them back to address 1 and their
first mode, as they left the factory."""
OF_GEAR = {"gear_deaf": "deaf", "gear_dark": "lamp", "gear_stubborn": "stubborn", "gear_new": "new"}
"""Faults of gear on the buses of gateways, by short address; `new` takes the short address away."""
OF_NODES = ("unreachable", "lossy", "slow", "refuses", "twin")
"""The faults that a node can have: it keeps nothing to forget, and has no strings."""
