"""Channel charts: a mode's layout as text that can be typed, or pasted from a manual. See docs/chart.md."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Hashable
from dataclasses import dataclass, field
from difflib import get_close_matches
from functools import lru_cache

from msgspec import Struct
from msgspec.structs import replace

from welvo.formats.manual import ChannelRow, Meaning, RangeRow, is_heading, meaning_of_row, read_row
from welvo.formats.ranges import make_range
from welvo.rig.attributes import BY_WORD, LONGEST_WORD, OWN, default_of, family_of, word_for
from welvo.rig.modes import widen_channel
from welvo.rig.notation import say_count
from welvo.rig.profile import Break, Channel, Mode
from welvo.rig.shorts import with_shorts

MOST_SLOTS = 4096
"""A chart that asks for more is refused: no lamp has them, and a mistyped count must not fill the memory."""


MOST_BREAKS = 64
MOST_PROBLEMS = 500
"""So many doubts are told; a text that has more is no chart."""


_DIMS = re.compile(r"\b(dim|intens|bright|fade)", re.IGNORECASE)
"""How the values of a channel that dims are called."""


class Problem(Struct, frozen=True):
    """Something in the text that was not understood. `line` and `column` count from 0."""

    line: int
    column: int
    length: int
    message: str
    error: bool = False
    break_no: int = 0
    slot: int = 0
    offers: tuple[str, ...] = ()


class TextPlace(Struct, frozen=True):
    """Where in the text a channel stands."""

    line: int
    column: int
    length: int


@dataclass
class Chart:
    """What a text means: breaks and channels, and every doubt with its place."""

    breaks: list[Break] = field(default_factory=list)
    channels: list[Channel] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    sources: dict[tuple[int, int], TextPlace] = field(default_factory=dict)
    """By break (from 0) and first slot."""

    def mode_of_chart(self, name: str, old: Mode | None = None) -> Mode:
        """The mode; what the chart cannot say (short names, ranges, places of pixels) is kept from `old`."""
        channels = _keep_what_was_made(self.channels, old.channels) if old else tuple(self.channels)
        made = Mode(name=name, breaks=tuple(self.breaks) or (Break(),), channels=with_shorts(channels))
        if old:
            spots = old.spots[: made.count_pixels] if len(old.spots) >= made.count_pixels else ()
            made = replace(old, name=name, breaks=made.breaks, channels=made.channels, spots=spots)
        return made


class _Word(Struct, frozen=True):
    text: str
    column: int


_TOKEN = re.compile(r'"[^"]*"|[(),;=]|[^\s(),;="]+|"')
_LABEL = re.compile(r"(?:ch(?:annel)?\.?\s*)?(\d{1,4})\s*(?:[-–—]\s*(\d{1,4}))?\s*[:.)]?(?=\s)", re.IGNORECASE)
_SLOTS = re.compile(r"(\d{1,4}(?:\+\d{1,4}){1,3})\s*[:.)]?\s+")
_REPEAT = re.compile(r"(planes\s+)?(\d{1,5})\s*[x×*](?=[\s(])\s*", re.IGNORECASE)
_HEADER = re.compile(r"\s*break\b\s*([^:]*):", re.IGNORECASE)
_WIDTH = {
    "8": 1,
    "16": 2,
    "24": 3,
    "32": 4,
    "8bit": 1,
    "16bit": 2,
    "24bit": 3,
    "32bit": 4,
    "8-bit": 1,
    "16-bit": 2,
    "24-bit": 3,
    "32-bit": 4,
}


_FINE = {"fine", "lsb"}


def _pixel_suffix(text: str) -> tuple[str, int]:
    """`red/5` → red of pixel 5."""
    m = re.fullmatch(r"(.+)/(\d{1,4})", text)
    return (m[1], int(m[2])) if m else (text, 0)


class _Reader:
    def __init__(self, trial: bool = False) -> None:
        self.trial = trial  # only asks how a name would be read
        self.chart = Chart()
        self.break_no = -1
        self.cursor = 1
        self.pixel = 0
        self.line = 0
        self.grouped = False

    # ---- lines and items

    def read_chart(self, text: str) -> Chart:
        for self.line, raw in enumerate(text.splitlines()):
            hash_at = _start_of_comment(raw)
            body = raw[:hash_at] if hash_at >= 0 else raw
            at = 0
            header = _HEADER.match(body)
            if header:
                self._open_break(header[1].strip())
                at = header.end()
            elif is_heading(body):
                continue
            elif not _SLOTS.match(body):
                row = read_row(body, self.cursor, self._last_ranged_value())
                if row:
                    self._take_span(row) if isinstance(row, RangeRow) else self._take_row(row)
                    continue
            body = body.replace("\t", " ")
            for item, column in _split_items(body, at):
                self._take_item(item, column)
                if self.cursor > MOST_SLOTS:
                    self._note_problem(
                        column, len(item), f"More than {MOST_SLOTS} slots: is a count mistyped?", error=True
                    )
                    self._close_break()
                    return self.chart
        self._close_break()
        self._settle_pixels()
        self._ask_about_shutters()
        return self.chart

    def _ask_about_shutters(self) -> None:
        """Some manuals call the dimmer “shutter”. Asked where nothing else could dim the lamp, or its values say so."""
        channels = self.chart.channels
        if any(family_of(c.function) in ("intensity", "colour") for c in channels):
            doubtful = [c for c in channels if any(_DIMS.search(r.name) for r in c.ranges)]
        else:
            doubtful = list(channels)
        if any(c.function == "Dimmer" for c in channels):
            return
        for c in doubtful:
            place = self.chart.sources.get((c.break_no, c.slots[0]))
            if c.function == "Shutter1" and place:
                self.line, at = place.line, c.slots[0]
                says = f"Slot {at}: does this shutter dim the lamp as well? Then it is its dimmer."
                self._note_problem(place.column, place.length, says, slot=at, offers=("dimmer",))

    def _settle_pixels(self) -> None:
        """A single numbered light is no pixel: `red 1` alone belongs to the whole lamp."""
        if max((c.pixel for c in self.chart.channels), default=0) == 1 and not self.grouped:
            self.chart.channels = [replace(c, pixel=0) for c in self.chart.channels]

    # ---- rows of manuals

    def _last_ranged_value(self) -> int | None:
        """The last value that the channel before speaks of; −1 for none, None when there is no channel."""
        if not self.chart.channels or self.break_no < 0:
            return None
        return max((x.last for x in self.chart.channels[-1].ranges), default=-1)

    def _take_span(self, span: RangeRow) -> None:
        c = self.chart.channels[-1]
        if not 0 <= span.first <= span.last <= c.highest_value:
            self._note_problem(
                span.column,
                len(span.words),
                f"{span.first}–{span.last} does not fit this channel: 0 to {c.highest_value}.",
                error=True,
            )
            return
        self.chart.channels[-1] = replace(c, ranges=(*c.ranges, make_range(span.first, span.last, span.words)))

    def _take_row(self, row: ChannelRow) -> None:
        """Exactly one channel (or fine byte) for one row: words that are not all understood leave it undescribed."""
        if self.break_no < 0:
            self._open_break("")
        width = self._take_label(row.first, row.last, *row.label)
        if not row.text.strip():  # a number and nothing behind it: a slot nobody has described
            self._take_channels("?", row.column, width, 0)
            return
        if _is_written_as_chart(row.text, width):
            self._take_channels(row.text, row.column, width, 0)
            return
        before = self.chart.channels[-1].function if self.chart.channels else ""
        found = meaning_of_row(row.text, before)
        wide = width or 1
        if found.fine or (
            found.bits == 16
            and not width
            and found.function
            and self._find_coarse_channel(found.function, found.pixel, 1)
        ):
            if self._widen_by_fine_byte(found.function, found.rest, found.pixel, row.column, len(row.text)):
                if not found.fine:
                    self._note_problem(
                        row.column,
                        len(row.text),
                        "Read as the fine byte of the channel before: is it?",
                        slot=self.cursor - 1,
                    )
                return
        if found.fine:  # what it refines is not there: the slot stays undescribed
            found = Meaning(rest=row.text, sure=False)
        if not width and found.bits in (16, 24, 32) and found.function:
            wide = found.bits // 8
        if wide > 4:
            self._note_problem(
                row.column,
                len(row.text),
                f"One function on {wide} slots? At most 4 (32 bit). Left as a gap behind the first.",
            )
        name = "" if found.function else self._check_name(row.text.strip(" .|-–:"))
        if not found.function:
            self._note_undescribed(row, name, found.rest or name)
        slots = tuple(range(self.cursor, self.cursor + min(wide, 4)))
        self.chart.sources[self.break_no, self.cursor] = TextPlace(self.line, row.column, len(row.text))
        self.chart.channels.append(
            Channel(
                function=found.function,
                name=name,
                slots=slots,
                break_no=self.break_no,
                pixel=found.pixel if found.function else 0,
                default=default_of(found.function, len(slots)),
            )
        )
        self.pixel = max(self.pixel, found.pixel if found.function else 0)
        self.cursor += wide
        for span in row.spans:
            self._take_span(span)

    def _note_undescribed(self, row: ChannelRow, name: str, nearest_to: str) -> None:
        # a fine byte that refines nothing was told already: one row makes one note
        if self.chart.problems and "fine of what" in self.chart.problems[-1].message:
            return
        means = f": “{name}” is no function name." if name else " is not described yet."
        offers = nearest_words(nearest_to) or self._guess_fine_bytes()
        self._note_problem(row.column, len(row.text), f"Slot {self.cursor}{means}", offers=offers)

    def _guess_fine_bytes(self) -> tuple[str, ...]:
        """A slot behind an 8-bit pan or tilt that nobody described is likely its fine byte."""
        last = self.chart.channels[-1] if self.chart.channels else None
        if (
            last
            and last.function in ("Pan", "Tilt")
            and last.slots == (self.cursor - 1,)
            and last.break_no == self.break_no
        ):
            return (f"{word_for(last.function)} fine",)
        return ()

    def _find_coarse_channel(self, function: str, pixel: int, widest: int = 3, name: str = "") -> int | None:
        """Place in `channels` of the nearest channel before that a fine byte can belong to."""
        for n in range(len(self.chart.channels) - 1, -1, -1):
            c = self.chart.channels[n]
            if (
                c.break_no == self.break_no
                and c.pixel == pixel
                and len(c.slots) <= widest
                and c.function == function
                and (function or c.name.lower() == name.lower())
            ):
                return n
        return None

    def _widen_by_fine_byte(self, function: str, name: str, pixel: int, column: int, length: int) -> bool:
        """Give the channel before that has this function one more byte, here. Without one it is told and False."""
        n = self._find_coarse_channel(function, pixel, 3, name) if function or name else None
        if n is None:
            words = word_for(function, name)
            self._note_problem(
                column, length, f"Slot {self.cursor}: fine of what? There is no {words or 'channel'} before it."
            )
            return False
        c = self.chart.channels[n]
        self.chart.channels[n] = widen_channel(c, (*c.slots, self.cursor))
        self.chart.sources[self.break_no, self.cursor] = TextPlace(self.line, column, length)
        self.cursor += 1
        return True

    def _open_break(self, name: str) -> None:
        self._close_break()
        if self.break_no + 1 >= MOST_BREAKS:
            self._note_problem(
                0, len(name) or 1, f"A lamp has {MOST_BREAKS} breaks at most; this is read on.", error=True
            )
            return
        self.break_no += 1
        self.cursor = 1
        self.chart.breaks.append(Break(name=name))

    def _close_break(self) -> None:
        if self.break_no >= 0:
            old = self.chart.breaks[self.break_no]
            self.chart.breaks[self.break_no] = replace(old, slots=min(self.cursor - 1, MOST_SLOTS))

    def _note_problem(
        self,
        column: int,
        length: int,
        message: str,
        *,
        error: bool = False,
        offers: tuple[str, ...] = (),
        slot: int = 0,
    ) -> None:
        if len(self.chart.problems) >= MOST_PROBLEMS:
            return
        self.chart.problems.append(
            Problem(
                self.line, column, max(1, length), message, error, max(0, self.break_no), slot or self.cursor, offers
            )
        )

    def _take_item(self, item: str, column: int) -> None:
        if self.break_no < 0:
            self._open_break("")
        repeat = _REPEAT.match(item)
        if repeat:
            self._take_repeat(
                int(repeat[2]), item[repeat.end() :], column + repeat.end(), column, len(item), bool(repeat[1])
            )
            return
        slots = _SLOTS.match(item)
        if slots:
            self._take_stated_slots(tuple(map(int, slots[1].split("+"))), item[slots.end() :], column, slots.end())
            return
        width = None
        label = _LABEL.match(item)
        if label:
            width = self._take_label(int(label[1]), int(label[2] or label[1]), column, label.end())
            rest = item[label.end() :]
            column += label.end() + len(rest) - len(rest.lstrip())
            item = rest.strip()
        if item.startswith("(") or item.endswith(")"):
            self._note_problem(
                column, len(item), "A bracket needs a count before it, as in 7 x (amber white).", error=True
            )
            item = item.replace("(", " ").replace(")", " ")
        self._take_channels(item, column, width, 0)

    def _take_stated_slots(self, slots: tuple[int, ...], text: str, column: int, length: int) -> None:
        """`4+9 pan 16`: one function whose bytes stand on these slots, coarse first."""
        if len(set(slots)) < len(slots) or not all(1 <= s <= MOST_SLOTS for s in slots):
            self._note_problem(
                column, length, f"Slots {'+'.join(map(str, slots))} cannot be one channel's.", error=True
            )
            return
        behind = max(self.cursor, slots[0] + 1)
        begun, self.cursor = len(self.chart.channels), slots[0]
        self._take_channels(text, column + length, None, 0)
        made = self.chart.channels[begun:]
        self.cursor = behind
        if len(made) != 1:
            self._note_problem(column, length, "Slots joined by + belong to one function.", error=True)
            del self.chart.channels[begun:]
            return
        self.chart.channels[begun] = widen_channel(made[0], slots)

    def _take_label(self, first: int, last: int, column: int, length: int) -> int | None:
        """A slot number from the manual: what is left out becomes a gap, going back is an error. Gives the width of a
        range."""
        if last < first:
            self._note_problem(column, length, f"{first}–{last} runs backwards.", error=True)
            return None
        if first < self.cursor:
            self._note_problem(
                column,
                length,
                f"The chart says slot {first}, but slots up to {self.cursor - 1} are taken. Counted on as "
                f"{self.cursor}.",
                error=True,
            )
        elif first > self.cursor:
            if first > MOST_SLOTS:
                self._note_problem(column, length, f"Slot {first} is far too high.", error=True)
                return None
            missing = f"slot {self.cursor}" if first == self.cursor + 1 else f"slots {self.cursor}–{first - 1}"
            self._note_problem(column, length, f"The chart says nothing of {missing}; left as a gap.")
            self.cursor = first
        return last - first + 1 if last > first else None

    def _take_repeat(self, count: int, body: str, column: int, start: int, length: int, planes: bool) -> None:
        inner = body.strip()
        lead = len(body) - len(body.lstrip())
        if inner.startswith("("):
            if not inner.endswith(")"):
                self._note_problem(start, length, "The bracket is not closed.", error=True)
            inner_text, offset = inner[1:].rstrip(")"), column + lead + 1
        else:
            inner_text, offset = inner, column + lead
        if not inner_text.strip() or not 1 <= count <= 2000:
            self._note_problem(start, length, "Say 1 to 2000 times of what, as in 7 x (amber white).", error=True)
            return
        if _REPEAT.search(inner_text):
            self._note_problem(
                start, length, "A repeat inside a repeat is not understood; write the inner one out.", error=True
            )
            return
        begun, problems = len(self.chart.channels), len(self.chart.problems)
        at = self.cursor
        parts = _split_items(inner_text, 0)
        for part, col in parts:
            self._take_channels(part, offset + col, None, self.pixel + 1)
        made = self.chart.channels[begun:]
        lights = any(family_of(c.function) in ("colour", "intensity", "shutter") for c in made)
        if not lights:
            made = [replace(c, pixel=0) for c in made]
            self.chart.channels[begun:] = made
        stride = self.cursor - at
        if stride == 0 or (len(self.chart.problems) > problems and stride * count > MOST_SLOTS):
            return
        if at + stride * count > MOST_SLOTS:
            self.cursor = at + stride * count
            return
        if planes and lights and sum(len(c.slots) for c in made) != stride:
            self._note_problem(start, length, "Planes hold functions without gaps between them.", error=True)
            return
        self.grouped = True
        if planes and lights:
            self._put_in_planes(made, at, stride, count)
            return
        for n in range(1, count):
            for c in made:
                slots = tuple(s + n * stride for s in c.slots)
                self.chart.channels.append(replace(c, slots=slots, pixel=c.pixel + n if c.pixel else 0))
                self.chart.sources[self.break_no, slots[0]] = self.chart.sources[self.break_no, c.slots[0]]
        self.cursor = at + stride * count
        if lights:
            self.pixel += count

    def _put_in_planes(self, made: list[Channel], at: int, stride: int, count: int) -> None:
        """All pixels' first component, then all pixels' second, and so on."""
        base = self.pixel
        del self.chart.channels[len(self.chart.channels) - len(made) :]
        offset = at
        for c in made:
            width = len(c.slots)
            source = self.chart.sources[self.break_no, c.slots[0]]
            for n in range(count):
                slots = tuple(range(offset + n * width, offset + (n + 1) * width))
                self.chart.channels.append(replace(c, slots=slots, pixel=base + n + 1))
                self.chart.sources[self.break_no, slots[0]] = source
            offset += width * count
        self.cursor = at + stride * count
        self.pixel = base + count

    # ---- words

    def _take_channels(self, text: str, column: int, width: int | None, pixel: int) -> None:
        words = [_Word(m[0], column + m.start()) for m in _TOKEN.finditer(text) if m[0] not in "(),;"]
        n = 0
        single = True
        begun = len(self.chart.channels)
        gap_before = self.cursor
        while n < len(words):
            n, made = self._read_one_function(words, n, pixel)
            single = single and (made or n >= len(words))
        fresh = self.chart.channels[begun:]
        if width and len(fresh) == 1 and len(fresh[0].slots) != width:
            self._widen_channel(fresh[0], width, words)
        elif width and not fresh and self.cursor - gap_before < width:
            self.cursor = gap_before + width
        elif width and len(fresh) > 1 and self.cursor - gap_before != width:
            self._note_problem(
                column, len(text), f"The chart gives {say_count(width, 'slot')} to {len(fresh)} functions.", error=True
            )

    def _widen_channel(self, channel: Channel, width: int, words: list[_Word]) -> None:
        first = channel.slots[0]
        if width > 4:
            at = words[0].column if words else 0
            self._note_problem(
                at, 1, f"One function on {width} slots? At most 4 (32 bit). Left as a gap behind the first.", slot=first
            )
            self.cursor = first + width
            return
        self.chart.channels[-1] = widen_channel(channel, tuple(range(first, first + width)))
        self.cursor = first + width

    def _read_one_function(self, words: list[_Word], n: int, pixel: int) -> tuple[int, bool]:
        """Read one function from word n on; gives the next word and whether a channel was made."""
        word = words[n]
        low = word.text.lower()
        if low == "gap":
            return self._read_gap(words, n), False
        if word.text.startswith('"'):
            return self._read_own_function(words, n, pixel)
        if low in _FINE and self.chart.channels:
            last = self.chart.channels[-1]
            if self._widen_by_fine_byte(last.function, last.name, last.pixel, word.column, len(word.text)):
                return self._take_values(words, n + 1, len(self.chart.channels) - 1), True
        return self._read_known_function(words, n, pixel) or self._read_unknown_words(words, n, pixel)

    def _read_gap(self, words: list[_Word], n: int) -> int:
        word, count = words[n], 1
        if n + 1 < len(words) and words[n + 1].text.isdigit():
            count, n = int(words[n + 1].text), n + 1
        if not 1 <= count <= 512:
            self._note_problem(word.column, 3, "A gap is 1 to 512 slots wide.", error=True)
            count = 1
        self.cursor += count
        return n + 1

    def _read_own_function(self, words: list[_Word], n: int, pixel: int) -> tuple[int, bool]:
        word = words[n]
        own = word.text.strip('"').strip()
        if not own or word.text == '"':
            self._note_problem(
                word.column, len(word.text), "A function of your own needs a name between two quotes.", error=True
            )
            return n + 1, False
        # a pixel's number stands right behind the closing quote: with a blank between, it is a word of its own
        behind = words[n + 1] if n + 1 < len(words) else None
        if behind and behind.column == word.column + len(word.text) and re.fullmatch(r"/\d{1,4}", behind.text):
            n, pixel = n + 1, int(behind.text[1:])
            self.pixel, self.grouped = max(self.pixel, pixel), True
        return self._finish_function(words, n + 1, OWN + own, "", word, len(word.text), pixel)

    def _read_known_function(self, words: list[_Word], n: int, pixel: int) -> tuple[int, bool] | None:
        """The longest function name that begins at word n; None when none does."""
        word = words[n]
        for take in range(min(LONGEST_WORD, len(words) - n), 0, -1):
            text, number = _pixel_suffix(" ".join(w.text.lower() for w in words[n : n + take]))
            found = BY_WORD.get(text)
            if found:
                last_word = words[n + take - 1]
                length = last_word.column + len(last_word.text) - word.column
                number = number or pixel
                self.pixel = max(self.pixel, number) if number != pixel else self.pixel
                self.grouped = self.grouped or number > 0
                if n + take < len(words) and words[n + take].text.lower() in _FINE:
                    if self._widen_by_fine_byte(found.key, "", number, word.column, length + 5):
                        coarse = self._find_coarse_channel(found.key, number, 4)
                        return self._take_values(words, n + take + 1, coarse if coarse is not None else -1), True
                    said = " ".join(w.text for w in words[n : n + take + 1])
                    return self._finish_function(words, n + take + 1, "", said, word, length + 5, number)
                return self._finish_function(words, n + take, found.key, "", word, length, number)
        return None

    def _read_unknown_words(self, words: list[_Word], n: int, pixel: int) -> tuple[int, bool]:
        """Words that are no function name, up to the next that begins something: one undescribed channel."""
        word = words[n]
        low, end = word.text.lower(), n + 1
        while end < len(words) and not self._starts_something(words, end):
            end += 1
        unknown, number = _pixel_suffix(" ".join(w.text for w in words[n:end]))
        if number:
            pixel, self.pixel, self.grouped = number, max(self.pixel, number), True
        length = words[end - 1].column + len(words[end - 1].text) - word.column
        coarse = self._find_coarse_channel("", pixel, 3, unknown)
        if end < len(words) and words[end].text.lower() in _FINE and coarse is not None:
            self._widen_by_fine_byte("", unknown, pixel, word.column, length + 5)
            return self._take_values(words, end + 1, coarse), True
        if unknown == "?":
            self._note_problem(
                word.column, length, f"Slot {self.cursor} is not described yet.", offers=self._guess_fine_bytes()
            )
        elif low in _WIDTH or low == "=" or low == "highlight":
            self._note_problem(word.column, length, f"“{unknown}” belongs behind a function.", error=True)
            return end, False
        else:
            self._note_problem(
                word.column,
                length,
                f"Slot {self.cursor}: “{unknown}” is no function name.",
                offers=nearest_words(unknown) or self._guess_fine_bytes(),
            )
        return self._finish_function(
            words, end, "", "" if unknown == "?" else self._check_name(unknown), word, length, pixel
        )

    def _check_name(self, words: str) -> str:
        return words if self.trial else safe_chart_name(words)

    def _starts_something(self, words: list[_Word], n: int) -> bool:
        low = words[n].text.lower()
        if low in ("gap", "=", "highlight", "?") or low in _WIDTH or low in _FINE or low.startswith('"'):
            return True
        return any(
            " ".join(w.text.lower() for w in words[n : n + take]) in BY_WORD for take in range(1, LONGEST_WORD + 1)
        )

    def _finish_function(
        self, words: list[_Word], n: int, function: str, name: str, word: _Word, length: int, pixel: int
    ) -> tuple[int, bool]:
        """Take width, default and highlight behind a function, then make its channel."""
        width = 1
        if n < len(words) and words[n].text.lower() in _WIDTH:
            width = _WIDTH[words[n].text.lower()]
            n += 1
            if n < len(words) and words[n].text.lower() in ("bit", "bits"):
                n += 1
        slots = tuple(range(self.cursor, self.cursor + width))
        self.cursor += width
        if slots[-1] > MOST_SLOTS:
            return n, True
        self.chart.sources[self.break_no, slots[0]] = TextPlace(self.line, word.column, length)
        self.chart.channels.append(
            Channel(
                function=function,
                name=name,
                slots=slots,
                break_no=self.break_no,
                pixel=pixel,
                default=default_of(function, width),
            )
        )
        return self._take_values(words, n, len(self.chart.channels) - 1), True

    def _take_values(self, words: list[_Word], n: int, at: int) -> int:
        """Take default and highlight behind a function over into the channel at a place; gives the next word."""
        while n < len(words) and words[n].text.lower() in ("=", "highlight"):
            which = words[n].text.lower()
            c = self.chart.channels[at]
            value, n = self._read_value(words, n + 1, c.highest_value, words[n])
            if value is not None:
                self.chart.channels[at] = replace(c, default=value) if which == "=" else replace(c, highlight=value)
        return n

    def _read_value(self, words: list[_Word], n: int, top: int, sign: _Word) -> tuple[int | None, int]:
        if n >= len(words) or not re.fullmatch(r"\d+(\.\d+)?%?", words[n].text):
            self._note_problem(
                sign.column, len(sign.text), f"A number from 0 to {top}, or a percentage, must follow.", error=True
            )
            return None, n
        text = words[n].text
        percent = text.endswith("%") or (n + 1 < len(words) and words[n + 1].text == "%")
        after = n + (2 if percent and not text.endswith("%") else 1)
        number = float(text.rstrip("%"))
        value = round(number * top / 100) if percent else int(number)
        if value > top or (not percent and number != value):
            self._note_problem(words[n].column, len(text), f"{text} does not fit: 0 to {top} here.", error=True)
            return None, after
        return value, after


def _is_written_as_chart(text: str, width: int | None) -> bool:
    """Whether what stands behind a slot's number is written in the chart's own words, not in a manual's."""
    words = text.lower().split()
    if text.startswith('"') or words[0] in ("gap", "?") or "=" in text or " highlight " in text:
        return True
    return bool(width) and len(words) == width and all(w in BY_WORD for w in words)  # `3-5 red green blue`


def _start_of_comment(line: str) -> int:
    quoted = False
    for n, c in enumerate(line):
        if c == '"':
            quoted = not quoted
        elif c == "#" and not quoted:
            return n
    return -1


def _split_items(text: str, start: int) -> list[tuple[str, int]]:
    """Items between commas and semicolons outside brackets and quotes, with the column each starts at."""
    found, depth, begin, quoted = [], 0, start, False
    for n in range(start, len(text) + 1):
        c = text[n] if n < len(text) else ","
        if c == '"':
            quoted = not quoted
        if n < len(text) and quoted:
            continue
        if c == "(":
            depth += 1
        elif c == ")":
            depth = max(0, depth - 1)
        if (c in ",;" and depth == 0) or n == len(text):
            piece = text[begin:n]
            if piece.strip():
                found.append((piece.strip(), begin + len(piece) - len(piece.lstrip())))
            begin = n + 1
    return found


def safe_chart_name(name: str) -> str:
    """A word for a channel nobody has described, such that a chart with it reads back as the same: spaces and signs
    that would mean something become `_`. Empty when nothing is left."""
    if not name or _as_itself(name):
        return name
    joined = re.sub(r'[\s(),;="#:]+', "_", name).strip("_")
    return joined if _as_itself(joined) else ""


@lru_cache(4096)
def _as_itself(name: str) -> bool:
    """Whether a name is read as one undescribed channel of this name, alone, first on its line and behind others."""
    for before in ("", "gap, ", '"-", '):
        for behind, width in (("", 1), (", gap", 1), (" 16", 2)):
            made = _Reader(trial=True).read_chart(f"{before}{name}{behind}").channels
            first = 2 if before else 1
            if [(c.function, c.name, c.slots, c.pixel) for c in made if not c.function] != [
                ("", name, tuple(range(first, first + width)), 0)
            ] or any(len(c.slots) > 1 for c in made if c.function):
                return False
    return True


def nearest_words(word: str, most: int = 3) -> tuple[str, ...]:
    """The plain function words nearest to one that is not known."""
    low = word.lower()
    inside = [a for w, a in BY_WORD.items() if len(low) > 2 and (low in w or (len(w) > 3 and w in low))]
    close = [BY_WORD[w] for w in get_close_matches(low, BY_WORD, most, 0.6)]
    return tuple(dict.fromkeys(a.word for a in (*close, *inside)))[:most]


def read_chart(text: str) -> Chart:
    """Read a chart; never raises for bad text, every doubt stands in `problems`."""
    return _Reader().read_chart(text)


def _keep_what_was_made(new: list[Channel], old: tuple[Channel, ...]) -> tuple[Channel, ...]:
    """Carry over what the chart cannot say to the channels that are still the same function, or the same word.

    A slot without a word is the undescribed one that was there. Then those of the same width are matched in their
    order; then what is left, whatever its width: its values are brought to the new one.
    """
    kept: list[Channel | None] = [None] * len(new)
    left = list(old)
    for what in (_place_of_undescribed, _kind_of_channel, _kind_of_any_width):
        seen: dict[Hashable, list[Channel]] = {}
        for c in left:
            seen.setdefault(what(c), []).append(c)
        for n, c in enumerate(new):
            key = None if what is _place_of_undescribed and c.name else what(c)
            same = seen.get(key) if kept[n] is None and key is not None else None
            if same:
                kept[n] = _carry_over(c, same.pop(0))
        left = [c for cs in seen.values() for c in cs]
    return tuple(c if k is None else k for k, c in zip(kept, new))


def _kind_of_channel(c: Channel) -> Hashable:
    return c.function, "" if c.function else c.name, c.pixel, len(c.slots)


def _kind_of_any_width(c: Channel) -> Hashable:
    return c.function, "" if c.function else c.name, c.pixel


def _place_of_undescribed(c: Channel) -> Hashable:
    """A slot nobody has described keeps the word that a manual had for it, where a chart can only say `?`."""
    return None if c.function else (c.break_no, c.slots)


def _carry_over(c: Channel, before: Channel) -> Channel:
    """A channel of a new chart with what was made by hand on the one it was."""
    if len(before.slots) != len(c.slots):
        before = widen_channel(before, c.slots)
    return replace(
        before,
        slots=c.slots,
        break_no=c.break_no,
        pixel=c.pixel,
        default=c.default,
        highlight=c.highlight,
        ranges=c.ranges or before.ranges,
    )


def _by_hand(c: Channel) -> tuple[object, ...]:
    """What is said of a channel that no chart can say."""
    return (c.ranges, c.release, c.low, c.high, c.unit, c.invert, c.snap, c.master != "auto", c.needs)


_NOTHING_BY_HAND = _by_hand(Channel(slots=(1,)))


def lost_by_hand(old: Mode, new: Mode) -> list[str]:
    """What was made by hand on a mode and is not on the new one, in words: places of pixels, ranges, other facts."""
    found: list[str] = []
    if len(new.spots) < len(old.spots):
        found.append(f"the places of {say_count(len(old.spots) - len(new.spots), 'pixel')}")
    before, after = (
        Counter(_kind_of_any_width(c) for c in m.channels if _by_hand(c) != _NOTHING_BY_HAND) for m in (old, new)
    )
    lost = sum((before - after).values())
    if lost:
        found.append(f"ranges and flags of {say_count(lost, 'channel')}")
    return found
