"""Edits of one mode: its channels, breaks, pixel channels and ranges. Each gives a new mode or channel."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct
from msgspec.structs import replace

from welvo.rig.attributes import default_of, family_of, word_for
from welvo.rig.base import Refused
from welvo.rig.colours import FUNCTIONS
from welvo.rig.profile import Break, Channel, Mode, Range
from welvo.rig.shorts import with_shorts


def channels_in_order(mode: Mode) -> list[int]:
    """Numbers of the channels (places in `mode.channels`) by break and first slot."""
    return sorted(range(len(mode.channels)), key=lambda n: (mode.channels[n].break_no, mode.channels[n].slots[0]))


def label_channel(mode: Mode, break_no: int, slot: int, label: str) -> Mode:
    """The channel on a slot, if it has a function, called by a label of the user's own."""
    return replace(
        mode,
        channels=tuple(
            replace(c, name=label) if c.break_no == break_no and slot in c.slots and c.function and not c.name else c
            for c in mode.channels
        ),
    )


def say_channel(c: Channel) -> str:
    """What a channel is called in messages: `red of pixel 3`."""
    word = word_for(c.function, c.name or "undescribed slot")
    return f"{word} of pixel {c.pixel}" if c.pixel else word


# ---- channels


def set_channels(mode: Mode, which: Collection[int], **fields: object) -> Mode:
    """Give several channels the same fields. Values must fit each one's width; else Refused names the first."""
    channels = list(mode.channels)
    for n in which:
        c = replace(channels[n], **fields)
        for key in ("default", "highlight", "release"):
            value = getattr(c, key)
            if value is not None and not 0 <= value <= c.highest_value:
                raise Refused(f"{value} does not fit {say_channel(c)}: 0 to {c.highest_value}.")
        channels[n] = c
    return replace(mode, channels=tuple(channels))


def set_function(mode: Mode, which: Collection[int], function: str) -> Mode:
    """Give channels a function; the short name follows it, and a default that was the old function's own."""
    channels = list(mode.channels)
    for n in which:
        c = channels[n]
        own = c.default == default_of(c.function, len(c.slots))
        default = default_of(function, len(c.slots)) if own else c.default
        channels[n] = replace(c, function=function, name="", short="", default=default)
    return replace(mode, channels=with_shorts(channels))


def set_short(mode: Mode, n: int, short: str) -> Mode:
    """Name a channel in up to four letters; refused when another of the same pixel has the name."""
    c = mode.channels[n]
    clean = short.strip()
    if not 1 <= len(clean) <= 4:
        raise Refused("A short name has one to four letters.")
    rival = next((x for m, x in enumerate(mode.channels) if m != n and x.pixel == c.pixel and x.short == clean), None)
    if rival:
        raise Refused(f"“{clean}” is {say_channel(rival)} already.")
    return set_channels(mode, [n], short=clean)


def set_slots(mode: Mode, n: int, slots: tuple[int, ...]) -> Mode:
    """Put a channel on these slots of its break, coarse first; values are carried over to another width in proportion.

    Refused when another channel has one of them.
    """
    c = mode.channels[n]
    if not 1 <= len(slots) <= 4 or len(set(slots)) != len(slots) or not all(1 <= s <= 4096 for s in slots):
        raise Refused("A channel has one to four different slots, from 1 on.")
    for m, x in enumerate(mode.channels):
        both = set(x.slots) & set(slots) if m != n and x.break_no == c.break_no else set()
        if both:
            raise Refused(f"Slot {min(both)} is {say_channel(x)} already.")
    made = widen_channel(c, slots)
    breaks = list(mode.breaks)
    if max(slots) > breaks[c.break_no].slots:
        breaks[c.break_no] = replace(breaks[c.break_no], slots=max(slots))
    channels = tuple(made if m == n else x for m, x in enumerate(mode.channels))
    return replace(mode, channels=channels, breaks=tuple(breaks))


def widen_channel(c: Channel, slots: tuple[int, ...]) -> Channel:
    """The channel on other slots; defaults, highlights and ranges in proportion when the width is another one."""
    old, new = c.highest_value, int(256 ** len(slots)) - 1
    if old == new:
        return replace(c, slots=slots)
    step = (new + 1) // (old + 1) if new > old else 0

    def value(v: int) -> int:
        return v * (new + 1) // (old + 1)

    def end(v: int) -> int:
        return (v + 1) * step - 1 if step else value(v)

    half = c.default == default_of(c.function, len(c.slots))
    default = default_of(c.function, len(slots)) if half else (new if c.default == old else value(c.default))
    return replace(
        c,
        slots=slots,
        default=default,
        highlight=None if c.highlight is None else (new if c.highlight == old else value(c.highlight)),
        release=None if c.release is None else (new if c.release == old else value(c.release)),
        ranges=tuple(replace(r, first=value(r.first), last=end(r.last)) for r in c.ranges),
    )


def remove_channels(mode: Mode, which: Collection[int]) -> Mode:
    """Take channels out; the slots behind them close up."""
    return _close_slots(
        replace(mode, channels=tuple(c for n, c in enumerate(mode.channels) if n not in set(which))),
        [mode.channels[n] for n in which],
    )


def _close_slots(mode: Mode, gone: Sequence[Channel]) -> Mode:
    """Close the slots that channels left free."""
    channels, breaks = list(mode.channels), list(mode.breaks)
    for break_no in {c.break_no for c in gone}:
        free = sorted(s for c in gone if c.break_no == break_no for s in c.slots)
        kept = {s for c in channels if c.break_no == break_no for s in c.slots}
        free = [s for s in free if s not in kept]
        for n, c in enumerate(channels):
            if c.break_no == break_no:
                channels[n] = replace(c, slots=tuple(s - sum(f < s for f in free) for s in c.slots))
        breaks[break_no] = replace(breaks[break_no], slots=breaks[break_no].slots - len(free))
    return replace(mode, channels=tuple(channels), breaks=tuple(breaks))


def move_channels(mode: Mode, which: Sequence[int], break_no: int, slot: int) -> Mode:
    """Move channels, in their order, to start at a slot of a break; what was behind closes up, what is there makes
    room."""
    if not 0 <= break_no < len(mode.breaks):
        raise Refused(f"There is no break {break_no + 1} in this mode.")
    moving = sorted(which, key=lambda n: (mode.channels[n].break_no, mode.channels[n].slots[0]))
    carried = [mode.channels[n] for n in moving]
    before = sum(1 for c in carried if c.break_no == break_no for s in c.slots if s < slot)
    left = _close_slots(
        replace(mode, channels=tuple(c for n, c in enumerate(mode.channels) if n not in set(moving))), carried
    )
    at = max(1, min(slot - before, left.breaks[break_no].slots + 1))
    wide = sum(len(c.slots) for c in carried)
    channels = [
        replace(c, slots=tuple(s + wide if s >= at else s for s in c.slots)) if c.break_no == break_no else c
        for c in left.channels
    ]
    for c in carried:
        channels.append(replace(c, break_no=break_no, slots=tuple(range(at, at + len(c.slots)))))
        at += len(c.slots)
    breaks = tuple(replace(b, slots=b.slots + wide) if n == break_no else b for n, b in enumerate(left.breaks))
    made = replace(left, channels=tuple(channels), breaks=breaks)
    return replace(made, channels=tuple(made.channels[n] for n in channels_in_order(made)))


# ---- breaks


def split_break(mode: Mode, break_no: int, slot: int, name: str = "") -> Mode:
    """From a slot on, a break becomes one of its own. It stands last, so that the places of the others keep their
    turn."""
    old = mode.breaks[break_no]
    if not 1 < slot <= old.slots:
        raise Refused(f"Split break {break_no + 1} at a slot from 2 to {old.slots}.")
    torn = next((c for c in mode.channels if c.break_no == break_no and min(c.slots) < slot <= max(c.slots)), None)
    if torn:
        raise Refused(f"Slot {slot} lies inside {say_channel(torn)}; a channel cannot be in two breaks.")
    new = len(mode.breaks)
    channels = tuple(
        replace(c, break_no=new, slots=tuple(s - slot + 1 for s in c.slots))
        if c.break_no == break_no and c.slots[0] >= slot
        else c
        for c in mode.channels
    )
    breaks = list(mode.breaks)
    breaks[break_no] = replace(old, slots=slot - 1)
    breaks.append(Break(name=name or f"part {new + 1}", slots=old.slots - slot + 1))
    made = replace(mode, channels=channels, breaks=tuple(breaks))
    return replace(made, channels=tuple(made.channels[n] for n in channels_in_order(made)))


def join_break(mode: Mode, break_no: int) -> Mode:
    """Put a break behind the one before it."""
    if not 0 < break_no < len(mode.breaks):
        raise Refused("The first break has nothing before it to join.")
    ahead = mode.breaks[break_no - 1].slots
    channels = tuple(
        replace(c, break_no=break_no - 1, slots=tuple(s + ahead for s in c.slots))
        if c.break_no == break_no
        else replace(c, break_no=c.break_no - 1)
        if c.break_no > break_no
        else c
        for c in mode.channels
    )
    breaks = list(mode.breaks)
    breaks[break_no - 1] = replace(breaks[break_no - 1], slots=ahead + breaks[break_no].slots)
    del breaks[break_no]
    return replace(mode, channels=channels, breaks=tuple(breaks))


def name_mode(mode: Mode, name: str) -> Mode:
    if not name.strip():
        raise Refused("A mode needs a name.")
    return replace(mode, name=name.strip())


def name_break(mode: Mode, break_no: int, name: str) -> Mode:
    return replace(mode, breaks=tuple(replace(b, name=name) if n == break_no else b for n, b in enumerate(mode.breaks)))


# ---- pixel channels


def components_of_pixel(mode: Mode, break_no: int) -> list[str]:
    """Functions of one pixel in slot order, by the first pixel of a break."""
    mine = sorted((c for c in mode.channels if c.break_no == break_no and c.pixel), key=lambda c: c.slots[0])
    return [c.function for c in mine if c.pixel == mine[0].pixel] if mine else []


def arrange_pixels(mode: Mode, break_no: int, order: Sequence[str], planes: bool) -> Mode:
    """Lay the pixel channels of a break anew: components in `order`, pixel by pixel or plane by plane.

    They keep the stretch of slots they have; channels before and behind stay. Refused when something else stands
    between the pixels, or when pixels have other components than `order` names.
    """
    mine = [n for n, c in enumerate(mode.channels) if c.break_no == break_no and c.pixel]
    if not mine:
        raise Refused("This break has no pixels.")
    first = min(s for n in mine for s in mode.channels[n].slots)
    last = max(s for n in mine for s in mode.channels[n].slots)
    between = next(
        (c for c in mode.channels if c.break_no == break_no and not c.pixel and any(first < s < last for s in c.slots)),
        None,
    )
    if between:
        raise Refused(f"{say_channel(between).capitalize()} stands between the pixels; move it first.")
    by_pixel: dict[int, dict[str, int]] = {}
    for n in mine:
        by_pixel.setdefault(mode.channels[n].pixel, {})[mode.channels[n].function] = n
    odd = next(
        (
            p
            for p, f in by_pixel.items()
            if sorted(f) != sorted(order) or sum(mode.channels[n].pixel == p for n in mine) != len(order)
        ),
        None,
    )
    if odd:
        raise Refused(f"Pixel {odd} does not have just the components {', '.join(word_for(f) for f in order)}.")
    pixels = sorted(by_pixel)
    sequence = (
        [by_pixel[p][f] for f in order for p in pixels] if planes else [by_pixel[p][f] for p in pixels for f in order]
    )
    channels = list(mode.channels)
    at = first
    for n in sequence:
        width = len(channels[n].slots)
        channels[n] = replace(channels[n], slots=tuple(range(at, at + width)))
        at += width
    made = replace(mode, channels=tuple(channels))
    return replace(made, channels=tuple(made.channels[n] for n in channels_in_order(made)))


def strip_mode(pixels: int, order: str = "RGB", width: int = 1, name: str = "") -> Mode:
    """A plain strip: `pixels` pixels of the components of `order`, 8 or 16 bit each, nothing else."""
    letters = order.strip().upper()
    if not 1 <= pixels <= 4096 or not letters or len(set(letters)) != len(letters) or set(letters) - set(FUNCTIONS):
        raise Refused("A strip has 1 to 4096 pixels and components such as RGB, GRB, RGBW.")
    if width not in (1, 2) or pixels * len(letters) * width > 4096:
        raise Refused("8 or 16 bit, and at most 4096 slots altogether.")
    channels, at = [], 1
    for p in range(1, pixels + 1):
        for letter in letters:
            channels.append(Channel(function=FUNCTIONS[letter], slots=tuple(range(at, at + width)), pixel=p))
            at += width
    words = name or f"{pixels} px {letters}{' 16 bit' if width == 2 else ''}"
    return Mode(name=words, breaks=(Break(slots=at - 1),), channels=with_shorts(channels))


# ---- ranges


def sorted_ranges(ranges: Sequence[Range]) -> tuple[Range, ...]:
    return tuple(sorted(ranges, key=lambda r: (r.first, r.last)))


def range_gaps(c: Channel) -> list[tuple[int, int]]:
    """Stretches of values that no range speaks of; none at all when the channel has no ranges."""
    found, reach = [], -1
    for r in sorted_ranges(c.ranges):
        if r.first > reach + 1:
            found.append((reach + 1, r.first - 1))
        reach = max(reach, r.last)
    if c.ranges and reach < c.highest_value:
        found.append((reach + 1, c.highest_value))
    return found


def range_overlaps(c: Channel) -> list[tuple[int, int, str, str]]:
    """Values that two ranges claim: first, last, both names."""
    ranges, found = sorted_ranges(c.ranges), []
    for a, b in ((a, b) for i, a in enumerate(ranges) for b in ranges[i + 1 :]):
        if b.first <= a.last:
            found.append((b.first, min(a.last, b.last), a.name, b.name))
    return found


def move_border(c: Channel, n: int, value: int) -> Channel:
    """Move the border between range n and the one before it (in order) so that n begins at `value`.

    The border stays inside the two: each keeps at least one value.
    """
    ranges = list(sorted_ranges(c.ranges))
    if not 0 < n < len(ranges):
        raise Refused("There is no border there.")
    value = max(ranges[n - 1].first + 1, min(ranges[n].last, value))
    ranges[n - 1] = replace(ranges[n - 1], last=value - 1)
    ranges[n] = replace(ranges[n], first=value)
    return replace(c, ranges=tuple(ranges))


def split_range(c: Channel, at: int) -> Channel:
    """Split the range that holds a value in two there; a channel without ranges gets two; a gap gets a range of its
    own."""
    if not 0 < at <= c.highest_value:
        raise Refused(f"Split at a value from 1 to {c.highest_value}.")
    ranges = list(sorted_ranges(c.ranges))
    if not ranges:
        return replace(c, ranges=(Range(first=0, last=at - 1), Range(first=at, last=c.highest_value)))
    hit = next((n for n, r in enumerate(ranges) if r.first <= at <= r.last), None)
    if hit is None:
        first, last = next(g for g in range_gaps(c) if g[0] <= at <= g[1])
        return replace(c, ranges=sorted_ranges([*ranges, Range(first=first, last=last)]))
    r = ranges[hit]
    if at == r.first:
        raise Refused(f"“{r.name}” begins at {at} already.")
    ranges[hit : hit + 1] = [replace(r, last=at - 1), replace(r, first=at, name="", does="")]
    return replace(c, ranges=tuple(ranges))


def set_range(c: Channel, n: int, **fields: object) -> Channel:
    """Change one range (in order); its values must lie in the channel's width and not run backwards."""
    ranges = list(sorted_ranges(c.ranges))
    r = replace(ranges[n], **fields)
    if not 0 <= r.first <= r.last <= c.highest_value:
        raise Refused(f"{r.first}–{r.last} does not fit: from 0 to {c.highest_value}, lower first.")
    ranges[n] = r
    return replace(c, ranges=sorted_ranges(ranges))


def remove_range(c: Channel, n: int) -> Channel:
    """Take a range out; the one before it (or behind it, for the first) takes over its values."""
    ranges = list(sorted_ranges(c.ranges))
    gone = ranges.pop(n)
    if ranges and n:
        ranges[n - 1] = replace(ranges[n - 1], last=max(ranges[n - 1].last, gone.last))
    elif ranges:
        ranges[0] = replace(ranges[0], first=gone.first)
    return replace(c, ranges=tuple(ranges))


# ---- comparing


class ModeRow(Struct, frozen=True):
    """One function in two modes: its slots in each (`–` where one lacks it). `same` when nothing else differs
    either."""

    word: str
    left: str
    right: str
    same: bool


def compare_modes(a: Mode, b: Mode) -> list[ModeRow]:
    """Both modes function by function; the pixels of a mode stand as one row per component."""
    left, right = _by_function(a), _by_function(b)
    found = []
    for key in dict.fromkeys((*left, *right)):
        one, two = left.get(key, []), right.get(key, [])
        word = word_for(key[0], key[1]) + (" of each pixel" if key[2] else "") + (f" ({key[3]}.)" if key[3] > 1 else "")
        found.append(
            ModeRow(
                word,
                _say_channels(a, one),
                _say_channels(b, two),
                bool(one and two) and _say_channels(a, one) == _say_channels(b, two) and _are_alike(one, two),
            )
        )
    return found


def _by_function(mode: Mode) -> dict[tuple[str, str, bool, int], list[Channel]]:
    found: dict[tuple[str, str, bool, int], list[Channel]] = {}
    count: dict[tuple[str, str, int], int] = {}
    for n in channels_in_order(mode):
        c = mode.channels[n]
        times = count[c.function, c.name, c.pixel] = count.get((c.function, c.name, c.pixel), 0) + 1
        found.setdefault((c.function, c.name, c.pixel > 0, times), []).append(c)
    return found


def _say_channels(mode: Mode, channels: list[Channel]) -> str:
    if not channels:
        return "–"
    c = channels[0]
    where = f"{c.break_no + 1}: " if len(mode.breaks) > 1 else ""
    slots = (
        str(c.slots[0])
        if len(c.slots) == 1
        else f"{c.slots[0]}–{c.slots[-1]}"
        if c.slots == tuple(range(c.slots[0], c.slots[-1] + 1))
        else ", ".join(map(str, c.slots))
    )
    return f"{where}{slots}" + (f" … {len(channels)}×" if len(channels) > 1 else "")


def _are_alike(a: list[Channel], b: list[Channel]) -> bool:
    """Whether two functions behave alike wherever they stand."""

    def facts(c: Channel) -> tuple[object, ...]:
        return len(c.slots), c.default, c.highlight, c.release, c.invert, c.snap, c.low, c.high, c.ranges

    return facts(a[0]) == facts(b[0]) and len(a) == len(b)


def adds_light(c: Channel) -> bool:
    """Whether a channel itself adds light of a colour."""
    return c.function.startswith("ColorAdd_") or (family_of(c.function) == "intensity" and c.pixel > 0)
