"""Writes a mode as a chart; reading it again gives the same mode.

The short way of writing can be ambiguous: `pan fine` belongs to the nearest pan before it, and a bracket counts on from
the pixels before it. So what was written is read again, and where it means something else it is written in a longer way
that says each slot.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from welvo.formats.chart import read_chart, safe_chart_name
from welvo.rig.attributes import BY_WORD, OWN, default_of, word_for
from welvo.rig.profile import Break, Channel, Mode

Token = tuple[int, int, str]
"""First slot, slots wide, text."""


def write_chart(mode: Mode) -> str:
    """The chart of a mode: one line per break, repeated pixels as brackets where they repeat exactly."""
    text = ""
    for way in WAYS:
        text = _write_mode(mode, way)
        if _reads_as_channels(text, mode, way.words):
            break
    return text


class Way(NamedTuple):
    """How a chart is written: pixels that repeat once, in `brackets`; slots that stand `apart` named, as in
    `4+9 pan 16`; the `words` of slots that nobody has described, or `?`."""

    brackets: bool
    apart: bool
    words: bool


WAYS = (Way(True, False, True), Way(True, True, True), Way(False, True, True), Way(False, True, False))
"""The short way first."""


def _reads_as_channels(text: str, mode: Mode, words: bool) -> bool:
    """Whether a chart reads as the channels of a mode."""
    again = read_chart(text)
    breaks = [(b.name, b.slots) for b in again.breaks or [Break()]]
    same = breaks == [(b.name, b.slots) for b in mode.breaks]
    return same and _facts_of_channels(again.channels, words) == _facts_of_channels(mode.channels, words)


def _facts_of_channels(channels: Iterable[Channel], words: bool) -> set[tuple[object, ...]]:
    return {
        (c.break_no, c.slots, c.function, c.name if words else "", c.pixel, c.default, c.highlight) for c in channels
    }


def _write_mode(mode: Mode, way: Way) -> str:
    lines = []
    seen = 0
    for b, part in enumerate(mode.breaks):
        mine = sorted((c for c in mode.channels if c.break_no == b), key=lambda c: c.slots[0])
        items, seen = _items_of_break(mine, part.slots, seen, way)
        head = f"break {part.name}: ".replace(" :", ":") if len(mode.breaks) > 1 or part.name else ""
        lines.append(head + ", ".join(items))
    return "\n".join(lines)


def _word_for_channel(c: Channel) -> str:
    if c.function.startswith(OWN):
        return f'"{c.function[len(OWN) :]}"'
    if not c.function:
        return safe_chart_name(c.name) or "?"
    return word_for(c.function, c.name) or "?"


def _tokens_of_channel(c: Channel, pixel: bool, apart: bool = False, words: bool = True) -> list[Token]:
    """The texts of one channel: the coarse run, then each byte that stands apart as `pan fine`, or all by their
    slots."""
    run = 1
    while run < len(c.slots) and c.slots[run] == c.slots[0] + run:
        run += 1
    word = (_word_for_channel(c) if words or c.function else "?") + (f"/{c.pixel}" if pixel and c.pixel else "")
    wide = len(c.slots)
    if apart and run < wide:
        texts = [(c.slots[0], 1, f"{'+'.join(map(str, c.slots))} {word} {8 * wide}")]
    else:
        texts = [(c.slots[0], run, word + (f" {8 * run}" if run > 1 else ""))]
        texts += [(s, 1, f"{word} fine") for s in c.slots[run:]]
    values = f" = {c.default}" if c.default != default_of(c.function, len(c.slots)) else ""
    values += f" highlight {c.highlight}" if c.highlight is not None else ""
    first, wide, text = texts[-1]
    texts[-1] = (first, wide, text + values)
    return texts


def _items_of_break(channels: list[Channel], footprint: int, seen: int, way: Way) -> tuple[list[str], int]:
    """Items of one break, and how many pixels were spoken of by now (brackets count on from there)."""
    tokens: list[Token] = []
    n = 0
    while n < len(channels):
        c = channels[n]
        group = (
            _write_planes(channels, n, seen) or _write_bracket(channels, n, footprint, seen)
            if c.pixel and way.brackets
            else None
        )
        if group:
            text, taken, end, count = group
            tokens.append((c.slots[0], end - c.slots[0], text))
            n, seen = n + taken, seen + count
            continue
        tokens += _tokens_of_channel(c, True, way.apart, way.words)
        seen = max(seen, c.pixel)
        n += 1
    return _space_out_tokens(sorted(tokens), footprint), seen


def _space_out_tokens(tokens: list[Token], footprint: int) -> list[str]:
    items, cursor = [], 1
    for first, wide, text in tokens:
        if first > cursor:
            items.append(_write_gap(first - cursor))
        items.append(text)
        cursor = max(cursor, first + wide)
    if cursor <= footprint:
        items.append(_write_gap(footprint - cursor + 1))
    return items


def _write_gap(slots: int) -> str:
    return "gap" if slots == 1 else f"gap {slots}"


def _plain_bracket(inside: list[str]) -> str:
    colours = all(" " not in item and item in BY_WORD and BY_WORD[item].family == "colour" for item in inside)
    return (" " if colours else ", ").join(inside)


def _relative_channel(c: Channel, start: int) -> Channel:
    from msgspec.structs import replace

    return replace(c, slots=tuple(s - start + 1 for s in c.slots), pixel=0)


def _is_moved_copy(c: Channel, other: Channel, by: int) -> bool:
    """Whether a channel is another one, moved by some slots."""
    return (
        _word_for_channel(c) == _word_for_channel(other)
        and tuple(s + by for s in c.slots) == other.slots
        and (c.default, c.highlight) == (other.default, other.highlight)
    )


def _holds_light(channels: list[Channel]) -> bool:
    """What a bracket must hold to be read as pixels."""
    from welvo.rig.attributes import family_of

    return any(family_of(c.function) in ("colour", "intensity", "shutter") for c in channels)


def _write_bracket(channels: list[Channel], n: int, footprint: int, seen: int) -> tuple[str, int, int, int] | None:
    """One bracket: text, channels taken, the slot behind it, pixels. None when the pixels there do not repeat as
    one."""

    def pixel(at: int) -> list[Channel]:
        end = at
        while end < len(channels) and channels[end].pixel == channels[at].pixel:
            end += 1
        return channels[at:end]

    first = pixel(n)
    start = first[0].slots[0]
    own = max(s for c in first for s in c.slots) + 1 - start
    if first[0].pixel != seen + 1 or not _holds_light(first):
        return None
    if (n and channels[n - 1].slots[-1] > start) or any(x.pixel == first[0].pixel for x in channels[n + len(first) :]):
        return None
    stride, count, at = own, 1, n + len(first)
    if at < len(channels) and channels[at].pixel == first[0].pixel + 1:
        stride = max(own, channels[at].slots[0] - start)
    while at < len(channels) and channels[at].pixel == first[0].pixel + count:
        again = pixel(at)
        if len(again) != len(first) or not all(_is_moved_copy(a, b, count * stride) for a, b in zip(first, again)):
            break
        count += 1
        at += len(again)
    behind = channels[at].slots[0] if at < len(channels) else footprint + 1
    if (
        start + count * stride > behind
    ):  # a gap inside the bracket would reach past the last pixel: that one stands alone
        count -= 1
        at -= len(first)
        if count <= 1:
            count, at, stride = 1, n + len(first), own
    inside = _space_out_tokens(
        sorted(t for c in first for t in _tokens_of_channel(_relative_channel(c, start), False)), stride
    )
    return f"{count} x ({_plain_bracket(inside)})", at - n, start + count * stride, count


def _write_planes(channels: list[Channel], n: int, seen: int) -> tuple[str, int, int, int] | None:
    """Pixels plane by plane: all first components, then all second ones."""
    count = 0
    while (
        n + count < len(channels)
        and channels[n + count].pixel == seen + 1 + count
        and _is_moved_copy(channels[n], channels[n + count], count * len(channels[n].slots))
    ):
        count += 1
    if count < 2:
        return None
    first = [channels[n]]
    at = n + count
    while at + count <= len(channels) and channels[at].pixel == seen + 1 and len(first) < 8:
        wide = len(channels[at].slots)
        plane = channels[at : at + count]
        if channels[at].slots[0] != channels[at - 1].slots[-1] + 1 or any(
            x.pixel != seen + 1 + k or not _is_moved_copy(plane[0], x, k * wide) for k, x in enumerate(plane)
        ):
            break
        first.append(channels[at])
        at += count
    if (
        len(first) < 2
        or any(c.slots != tuple(range(c.slots[0], c.slots[0] + len(c.slots))) for c in first)
        or not _holds_light(first)
    ):
        return None
    start = channels[n].slots[0]
    inside = [t[2] for c in first for t in _tokens_of_channel(_relative_channel(c, c.slots[0]), False)]
    return (
        f"planes {count} x ({_plain_bracket(inside)})",
        at - n,
        start + count * sum(len(c.slots) for c in first),
        count,
    )
