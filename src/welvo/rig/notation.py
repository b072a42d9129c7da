"""How numbers are typed and said: addresses, series, number lists, IP addresses."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from functools import cache
from itertools import groupby
from typing import Any

from msgspec import Struct

from welvo.rig.base import Refused
from welvo.rig.counting import HIGHEST_SACN


def say_place(universe: int, address: int) -> str:
    """`3.045`: universe and three-digit address."""
    return f"{universe}.{address:03d}"


def say_thousands(n: int) -> str:
    """A number with narrow spaces between thousands, at which no line breaks."""
    return f"{n:,}".replace(",", "\u202f")


def say_count(n: int, word: str, many: str = "") -> str:
    return f"{say_thousands(n)} {word if n == 1 else many or word + 's'}"


def read_place(text: str) -> tuple[int, int]:
    """`3.45` or `3.045` → (3, 45)."""
    m = re.fullmatch(r"\s*(\d+)\s*[./]\s*(\d+)\s*", text)
    if not m:
        raise Refused(f"“{text.strip()}” is no address. Write universe.address, such as 3.045.")
    universe, address = int(m[1]), int(m[2])
    if not 1 <= universe <= HIGHEST_SACN:
        raise Refused(f"There is no universe {universe}: universes run from 1 to {HIGHEST_SACN}.")
    if not 1 <= address <= 512:
        raise Refused(f"There is no address {address}: a universe has addresses 1 to 512.")
    return universe, address


class Shift(Struct, frozen=True):
    """A step that each value is moved by: slots, numbers, or whole universes and slots (`+1.0`)."""

    by: int
    universes: int = 0


def read_shift(text: str) -> Shift | None:
    """`+8`, `-8` (each value that much on or back), `+1.0` (one universe on, same address); None: no shift."""
    m = re.fullmatch(r"\s*([+\-−])\s*(\d{1,6})(?:\.(\d{1,3}))?\s*", text)
    if not m:
        return None
    sign = 1 if m[1] == "+" else -1
    if m[3] is not None:
        return Shift(sign * int(m[3]), sign * int(m[2]))
    return Shift(sign * int(m[2]))


def count_names(pattern: str, how_many: int, numbers: list[int] | None = None) -> list[str]:
    """Names from a pattern: `Kelp #` counts 1, 2, 3; `##` writes 01, 02; `#7` begins at 7; `&` is the number."""
    found = []
    for n in range(how_many):

        def counted(m: re.Match[str], n: int = n) -> str:
            return str(int(m[2] or 1) + n).zfill(len(m[1]))

        words = re.sub(r"(#+)(\d*)", counted, pattern.strip())
        found.append(words.replace("&", str(numbers[n])) if numbers else words)
    return found


class Series(Struct, frozen=True):
    """A start and what is added for each next one. `spacing` None: packed, one right after the other."""

    start: str
    spacing: int | None = None
    gap: int | None = None


def read_series(text: str) -> Series:
    """`3.1` alone, `3.1 +8` (spacing: start to start), `3.1 gap 2` (free slots between), `101+`."""
    m = re.fullmatch(r"\s*(\S+?)\s*(?:(\+)\s*(\d*)|gap\s+(\d+))?\s*", text)
    if not m:
        raise Refused(f"“{text.strip()}” is no series. Write 3.1, 3.1 +8 (every 8th) or 3.1 gap 2.")
    if m[4] is not None:
        return Series(m[1], gap=int(m[4]))
    if m[2] and m[3] == "0":
        raise Refused("A series with +0 would put all of them on one address. Use a share for that.")
    return Series(m[1], spacing=int(m[3]) if m[3] else (1 if m[2] else None))


def read_numbers(text: str) -> list[int]:
    """`203, 205–207` → [203, 205, 206, 207]; at most 10 000 numbers."""
    found: list[int] = []
    for part in re.split(r"[,;\s]+", text.replace("–", "-").strip()):
        if not part:
            continue
        m = re.fullmatch(r"(\d+)(?:-(\d+))?", part)
        if not m:
            raise Refused(f"“{part}” is no number. Write numbers and ranges, such as 203, 205–207.")
        first, last = int(m[1]), int(m[2] or m[1])
        if last < first:
            raise Refused(f"“{part}” runs backwards.")
        if last - first + len(found) > 10_000:
            raise Refused(f"“{part}” asks for more than 10 000 fixtures.")
        found.extend(range(first, last + 1))
    return found


def say_stretch(first: int, last: int) -> str:
    """`45–96`, or `45` where it is one."""
    return f"{first}–{last}" if last != first else str(first)


def say_numbers(numbers: Iterable[int]) -> str:
    """`203, 205–207`: numbers in order, those that follow one another as a range; “none” for none."""
    runs = [
        [n for _, n in run] for _, run in groupby(enumerate(sorted(set(numbers))), key=lambda pair: pair[1] - pair[0])
    ]
    return ", ".join(say_stretch(r[0], r[-1]) for r in runs) or "none"


_AMOUNT = r"(\d+(?:[.,]\d+)?)"
_FEET = rf"{_AMOUNT}\s*(?:'|′|ft\b|feet\b|foot\b)(?:\s*{_AMOUNT}\s*(?:\"|″|''|in\b|inch(?:es)?\b)|{_AMOUNT})?"
_INCHES = rf"{_AMOUNT}\s*(?:\"|″|in\b|inch(?:es)?\b)"
_FOOT, _INCH = 0.3048, 0.0254


def metric(text: str, unit: str = "m") -> str:
    """Text with feet and inches in it made metric: `41' 6"` → `12.649`, `8 ft` → `2.438` (`mm`: `2438.4`). The rest of
    it stays."""
    per, places = (1000.0, 1) if unit == "mm" else (1.0, 3)

    def number(t: str | None) -> float:
        return float((t or "0").replace(",", "."))

    def say(metres: float) -> str:
        return f"{round(metres * per, places):g}"

    text = re.sub(_FEET, lambda m: say(number(m[1]) * _FOOT + number(m[2] or m[3]) * _INCH), text, flags=re.IGNORECASE)
    return re.sub(_INCHES, lambda m: say(number(m[1]) * _INCH), text, flags=re.IGNORECASE)


def say_numbers_in_order(numbers: Iterable[int]) -> str:
    """As `say_numbers`, but in the order given, which `read_numbers` reads again: `201–203, 301, 204`."""
    runs: list[list[int]] = []
    for n in numbers:
        if runs and n == runs[-1][-1] + 1:
            runs[-1].append(n)
        else:
            runs.append([n])
    return ", ".join(say_stretch(r[0], r[-1]) for r in runs)


def natural_sort_key(words: str) -> Any:
    """Sort key of words as people sort them: Kelp 2 before Kelp 10, large and small letters alike."""
    return _natural_sort_splitter()(words)


@cache
def _natural_sort_splitter() -> Callable[[str], Any]:
    from natsort import natsort_keygen, ns  # a tenth of a second, which no start waits for

    return natsort_keygen(alg=ns.IGNORECASE)


def quick_sort_key(words: str) -> tuple[tuple[int, int, str], ...]:
    """Natural order for what is sorted with every edit, or before the window is there: no package is loaded for it.

    Numbers by their value and before letters, large and small letters alike.
    """
    parts = _DIGITS.split(words.lower())
    return tuple((0, int(p), "") if p.isdecimal() else (1, 0, p) for p in parts if p)


_DIGITS = re.compile(r"(\d+)")


def read_mask(text: str) -> str:
    """A sub-net mask: four parts whose bits are ones and then zeros. Raises Refused."""
    parts = text.strip().split(".")
    if len(parts) != 4 or not all(re.fullmatch(r"\d{1,3}", p) and int(p) <= 255 for p in parts):
        raise Refused(f"“{text.strip()}” is no mask; one has four parts of 0 to 255, such as 255.255.255.0.")
    bits = "".join(f"{int(p):08b}" for p in parts)
    if "01" in bits or "1" not in bits:
        raise Refused(f"{text.strip()} is no mask: its ones must all stand before its zeros, as in 255.255.255.0.")
    return ".".join(str(int(p)) for p in parts)


def read_mac(text: str) -> str:
    """`02:4A:…`, `02-4a-…` or twelve digits → `02:4a:…`; empty stays empty. Raises Refused."""
    digits = re.sub(r"[\s:.-]", "", text).lower()
    if not digits:
        return ""
    if not re.fullmatch(r"[0-9a-f]{12}", digits):
        raise Refused(f"“{text.strip()}” is no MAC. It has six pairs of digits and letters: 02:4a:00:1f:33:07.")
    return ":".join(digits[n : n + 2] for n in range(0, 12, 2))


def read_ip(text: str) -> str:
    """Four parts of 0..255; what cannot be one device's address is refused with the reason."""
    parts = text.strip().split(".")
    if len(parts) != 4:
        raise Refused(f"“{text.strip()}” has {len(parts)} parts; an IP address has four, such as 10.0.40.21.")
    for p in parts:
        if not re.fullmatch(r"\d{1,3}", p) or int(p) > 255:
            raise Refused(f"“{p}” in “{text.strip()}” is not a number from 0 to 255.")
    clean = ".".join(str(int(p)) for p in parts)
    if clean == "0.0.0.0":
        raise Refused("0.0.0.0 means “no address yet”; a device needs one of its own.")
    if int(parts[0]) >= 224:
        raise Refused(f"{clean} is a {'mask' if int(parts[0]) == 255 else 'multicast address'}, not one device.")
    return clean
