"""The product of all brightness factors on the way to a pixel, and what it makes of a byte."""

from __future__ import annotations

from fractions import Fraction
from typing import NamedTuple

from welvo.rig.document import Rig
from welvo.runs.cable import Piece, PortStream


class Factor(NamedTuple):
    """One brightness on the way: whose it is, the id of where it is set, and its value 0…1."""

    who: str
    where: tuple[str, str]
    value: float


def brightness_factors(rig: Rig, stream: PortStream, piece: Piece) -> list[Factor]:
    """sender × player × controller × port × segment, in that order; several senders count with the darkest.

    What the sender scales stays scaled: an override reaches no further up than the device.
    """
    numbers = {p.universe for p in piece.parts}
    senders = {
        f.sender
        for f in rig.feeds.values()
        if f.universe in rig.universes and rig.universes[f.universe].number in numbers and f.sender in rig.senders
    }
    found: list[Factor] = []
    if senders:
        darkest = min(senders, key=lambda s: (rig.senders[s].brightness, s))
        found.append(
            Factor(f"sender {rig.senders[darkest].name}", ("sender", darkest), rig.senders[darkest].brightness)
        )
        darkest = min(senders, key=lambda s: (rig.senders[s].player, s))
        found.append(Factor(f"player of {rig.senders[darkest].name}", ("player", darkest), rig.senders[darkest].player))
    return found + on_the_device(rig, stream, piece)


def on_the_device(rig: Rig, stream: PortStream, piece: Piece) -> list[Factor]:
    """Controller × port × segment. Where a port or a segment may override, its value replaces those before it."""
    device = rig.devices[stream.device_id]
    port, segment = device.ports[stream.label], piece.segment
    own = Factor("segment", ("segment", f"{stream.device_id} {stream.label} {piece.n}"), segment.brightness)
    if segment.overrides:
        return [own]
    ports = Factor(f"port {stream.label}", ("port", f"{stream.device_id} {stream.label}"), port.brightness)
    if port.overrides:
        return [ports, own]
    return [Factor(device.name, ("device", stream.device_id), device.brightness), ports, own]


def product_of_factors(chain: list[Factor]) -> Fraction:
    """The exact product: percentages are taken as the decimals they were typed as."""
    made = Fraction(1)
    for f in chain:
        made *= Fraction(str(f.value))
    return made


def scale_byte(byte: int, by: Fraction) -> tuple[str, int]:
    """What a byte becomes: the exact value as text, and the truncated byte that goes out."""
    exact = byte * by
    words = str(exact.numerator) if exact.denominator == 1 else f"{float(exact):.2f}".rstrip("0").rstrip(".")
    return words, int(exact)


def say_percent(by: Fraction) -> str:
    return f"{float(by * 100):.4g} %"
