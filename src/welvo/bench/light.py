"""What levels make of an item: whether they leave it dark, and its light in a word or two."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from welvo.patch.index import BY_PIXEL, Index
from welvo.patch.slot_words import letters_of
from welvo.rig.attributes import family_of, word_for
from welvo.rig.counting import SLOTS
from welvo.rig.lookup import mode_of
from welvo.rig.profile import Channel

FrameOf = Callable[[str], bytes | None]
"""The levels of a universe, 512 octets from slot 1; None where nobody knows."""


def channel_values(index: Index, key: str, frame_of: FrameOf) -> Iterator[tuple[Channel, int]]:
    """Channels of a fixture with the values that a frame has for them, as far as it is known."""
    fixture = index.rig.fixtures.get(key)
    mode = mode_of(index.rig, fixture) if fixture else None
    for span in index.spans_of(key) if mode else ():
        frame = frame_of(span.universe)
        for c in mode.channels if mode and frame is not None else ():
            at = [span.first + slot - 2 for slot in c.slots]
            if c.break_no == span.break_no and frame is not None and at and max(at) < min(len(frame), SLOTS):
                yield c, int.from_bytes(bytes(frame[n] for n in at), "big")


def dark_by(index: Index, key: str, frame_of: FrameOf) -> str:
    """What the levels themselves keep dark: a dimmer at zero, a closed shutter, no colour. Empty when nothing."""
    rig = index.rig
    span = index.span_of_break(key)
    element = rig.elements.get(key)
    if element or (span and span.break_no == BY_PIXEL):
        if element and element.kind == "block":
            return ""
        return _pixels_dark(index, key, frame_of)
    colours, lit = 0, 0
    names: dict[str, None] = {}
    for c, value in channel_values(index, key, frame_of):
        function = c.function
        if function == "Dimmer" and not c.pixel and value == 0:
            return "Its dimmer is at 0."
        if function == "Shutter1":
            inside = next((r for r in c.ranges if r.first <= value <= r.last), None)
            if inside and inside.does == "closed":
                return f"Its shutter stands at {value}, “{inside.name}”."
            if not c.ranges and value == 0:
                return "Its shutter is at 0, and the profile does not say what that means."
        if family_of(function) == "colour" and function.startswith("ColorAdd"):
            colours, lit = colours + 1, lit + (value > 0)
            names[word_for(function)] = None
    if colours and not lit:
        return f"All its colours are at 0: {', '.join(list(names)[:5])}."
    return ""


def _pixels_dark(index: Index, key: str, frame_of: FrameOf) -> str:
    known = False
    for span in index.spans_of(key):
        frame = frame_of(span.universe)
        if frame is None:
            continue
        known = known or bool(letters_of(index, span))
        if any(frame[span.first - 1 : min(span.last, len(frame))]):
            return ""
    return "All its components are at 0." if known else ""


def words_of_light(index: Index, key: str, frame_of: FrameOf) -> str:
    """The light of a whole item in a few letters, for its hop of the path: what keeps it dark, else its dimmer, else
    its colours, each as the octet that is sent (the first of two). Empty where the levels are not known."""
    rig = index.rig
    span = index.span_of_break(key)
    if span is None:
        return ""
    if key in rig.elements or span.break_no == BY_PIXEL:
        return _highest(index, key, frame_of)
    dimmer, shutter, colours = None, "", []
    for c, value in channel_values(index, key, frame_of):
        octet = value >> 8 * (len(c.slots) - 1)
        function = c.function
        if c.pixel:
            continue
        if function == "Dimmer" and dimmer is None:
            dimmer = octet
        if function == "Shutter1":
            inside = next((r for r in c.ranges if r.first <= value <= r.last), None)
            if (inside and inside.does == "closed") or (not c.ranges and value == 0):
                shutter = f"shutter {octet}"
        if family_of(function) == "colour" and function.startswith("ColorAdd"):
            colours.append(octet)
    if dimmer == 0:
        return "dimmer 0"
    if shutter:
        return shutter
    if colours and not any(colours):
        return "colours 0"
    if dimmer is not None:
        return f"dimmer {dimmer}"
    if colours:
        return " ".join(map(str, colours[:4])) + (" …" if len(colours) > 4 else "")
    return _highest(index, key, frame_of)


def _highest(index: Index, key: str, frame_of: FrameOf) -> str:
    """The highest level of all slots: one number says whether there is anything at all."""
    found = -1
    for span in index.spans_of(key):
        frame = frame_of(span.universe)
        if frame is not None:
            found = max([found, *frame[span.first - 1 : min(span.last, len(frame))]])
    return f"up to {found}" if found > 0 else "0" if found == 0 else ""
