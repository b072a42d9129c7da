"""Colour orders from the sender to the chip: three facts that are easily taken for each other.

The sender sends the components of a pixel in an order of its own; the controller may put them out in another one; the
chips take them in the order they are made for. The controller knows nothing of the sender: it takes what comes to be
in straight order (RGB, RGBW), whatever it is, and moves the first, second, third to other places. So “set to GRB”
behind a sender that sends GRB already changes the places a second time.

Devices name that setting in two ways. Most name what they *put out*: set to BRG, they give out blue, red, green. Some
name what *comes in*: set to BRG, they take the first component for blue. For RGB and GRB the two are alike, for BRG and
GBR each is the other, which is why such a set-up works with some strings and not with others.
"""

from __future__ import annotations

from itertools import permutations
from typing import Literal, NamedTuple

from welvo.rig.colours import straight_order
from welvo.rig.document import Rig
from welvo.rig.plan import model_of
from welvo.runs.cable import Piece
from welvo.runs.power import type_of

Names = Literal["out", "in"]


class Orders(NamedTuple):
    """The components of one pixel on their way: as sent, as put out, and as the chips take them."""

    sent: str
    set_to: str
    names: Names
    put_out: str
    taken: str

    @property
    def is_right(self) -> bool:
        return self.put_out == self.taken

    @property
    def shown_components(self) -> tuple[tuple[str, str], ...]:
        """(component that the sender drives, component that lights), in straight order of what is driven."""
        lit = dict(zip(self.put_out, self.taken))
        return tuple((c, lit.get(c, "")) for c in straight_order(self.sent))


def places_of_components(set_to: str, names: Names) -> tuple[int, ...]:
    """Which component that comes in (from 0) stands at each place that goes out, for a controller's setting."""
    left = list(enumerate(straight_order(set_to)))
    out = tuple(left.pop(next(i for i, (_, b) in enumerate(left) if b == c))[0] for c in set_to)
    return out if names == "out" else tuple(out.index(n) for n in range(len(out)))


def put_out(sent: str, set_to: str, names: Names = "out") -> str:
    """The sender's components in the order they leave the controller; as they came where nothing is set, or where the
    setting is of other components."""
    if not set_to or sorted(set_to) != sorted(sent):
        return sent
    return "".join(sent[n] for n in places_of_components(set_to, names))


def setting_for(sent: str, taken: str, names: Names = "out") -> str:
    """What a controller must be set to so that chips that take `taken` get what is sent as `sent`; empty: nothing."""
    if sent == taken:
        return ""
    return next((s for p in permutations(sent) if put_out(sent, s := "".join(p), names) == taken), "")


def names_of_orders(rig: Rig, device_id: str) -> Names:
    """Which way the pages of a device name a colour order."""
    model = model_of(rig, device_id)
    return model.order_names if model else "out"


def orders_of(rig: Rig, device_id: str, piece: Piece) -> Orders | None:
    """The colour orders of a segment of pixels; None where it has none. Chips that nobody described are taken to want
    what is put out."""
    element = rig.elements.get(piece.key)
    if element is None or element.kind == "block" or piece.segment.kind != "pixels":
        return None
    names, kind = names_of_orders(rig, device_id), type_of(rig, piece)
    out = put_out(element.order, piece.segment.order, names)
    return Orders(element.order, piece.segment.order, names, out, kind.order if kind else out)
