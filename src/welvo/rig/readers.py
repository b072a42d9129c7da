"""Readers: how one field's text becomes a value of the rig, and how the value is written into the field.

Bounds are the value's own. `bounds_of_field` reads them off the annotation of the struct's field, which is what a
file is held against as well, so that a field of a form never says another limit than the rig has.
"""

from __future__ import annotations

import math
import re
from functools import cache
from typing import Any, Protocol, get_type_hints

import msgspec
from msgspec import Struct, inspect

from welvo.rig.base import Refused
from welvo.rig.notation import metric, say_thousands


class Reader(Protocol):
    """`read_text` gives the value of a text or raises Refused; `say_value` writes a value so that `read_text` gives
    it back."""

    def read_text(self, text: str) -> Any: ...

    def say_value(self, value: Any) -> str: ...


class NumberBounds(Struct, frozen=True):
    """What a number of a struct may be. `whole` numbers have no decimals; `above` excludes `low` itself."""

    low: float
    high: float
    whole: bool
    above: bool = False
    optional: bool = False


@cache
def bounds_of_field(kind: type[msgspec.Struct], field: str) -> NumberBounds:
    """The bounds in the annotation of a number; ±infinity where it has none."""
    found = inspect.type_info(get_type_hints(kind, include_extras=True)[field])
    optional = isinstance(found, inspect.UnionType)
    if isinstance(found, inspect.UnionType):
        found = next(t for t in found.types if not isinstance(t, inspect.NoneType))
    while isinstance(found, inspect.Metadata):
        found = found.type
    if not isinstance(found, inspect.IntType | inspect.FloatType):
        raise TypeError(f"{kind.__name__}.{field} is no number")
    low = found.ge if found.ge is not None else found.gt if found.gt is not None else -math.inf
    high = found.le if found.le is not None else found.lt if found.lt is not None else math.inf
    whole = isinstance(found, inspect.IntType)
    if whole and found.gt is not None:
        low += 1
    return NumberBounds(low, high, whole, above=not whole and found.gt is not None, optional=optional)


def read_whole_number(text: str, low: float, high: float) -> int:
    """A whole number in bounds, or a refusal that says the bounds."""
    t = text.strip()
    if not re.fullmatch(r"[+-]?[0-9]{1,12}", t):
        raise Refused(f"“{t}” is no whole number. Write one {_say_bounds(low, high)}.")
    n = int(t)
    if not low <= n <= high:
        raise Refused(f"{n} is out of reach: {_say_bounds(low, high)}.")
    return n


def read_decimal(text: str, low: float, high: float, unit: str = "", above: bool = False) -> float:
    """A number in bounds, its unit written behind it or not; a comma counts as a point."""
    t = text.strip()
    bare = t.removesuffix(unit).strip() if unit else t
    if not re.fullmatch(r"[+-]?([0-9]{1,12}([.,][0-9]{0,12})?|[.,][0-9]{1,12})", bare):
        raise Refused(f"“{t}” is no number. Write one {_say_bounds(low, high)}{unit and ' ' + unit}.")
    value = float(bare.replace(",", "."))
    if not low <= value <= high or (above and value == low):
        raise Refused(
            f"{bare} is out of reach: {'above ' if above else ''}{_say_bounds(low, high)}{unit and ' ' + unit}."
        )
    return value


def _say_bounds(low: float, high: float) -> str:
    if math.isinf(low) and math.isinf(high):
        return "of any size"
    if math.isinf(high):
        return f"of {low:g} or more"
    return f"from {_say_plain_number(low)} to {_say_plain_number(high)}"


def _say_plain_number(n: float) -> str:
    return say_thousands(int(n)) if n == int(n) and abs(n) >= 10_000 else f"{n:g}"


class Number(Struct, frozen=True):
    """A number with the bounds of a struct's field. `unit` is shown behind it; empty text is `empty` where one is
    set."""

    of: type[msgspec.Struct]
    field: str
    unit: str = ""
    empty: float | None = None
    shown_empty: bool = False
    """Whether the value of `empty` is shown as an empty field."""
    length: str = ""
    """Its unit where it is a length and does not show it: then feet and inches are understood as well."""
    least: float | None = None
    """A lower bound where what the field stands for has a narrower one than the type, as pixels of a string have."""

    def read_text(self, text: str) -> float | None:
        b = bounds_of_field(self.of, self.field)
        low = b.low if self.least is None else self.least
        if self.unit in ("m", "mm") or self.length:
            text = metric(text, self.unit or self.length)
        bare = text.strip().removesuffix(self.unit).strip() if self.unit else text.strip()
        if not bare and (b.optional or self.empty is not None):
            return self.empty
        if b.whole:
            return read_whole_number(bare, low, b.high)
        return read_decimal(bare, low, b.high, self.unit, b.above)

    def say_value(self, value: float | None) -> str:
        if value is None or (self.shown_empty and value == self.empty):
            return ""
        return f"{value:g}{self.unit and ' ' + self.unit}" if isinstance(value, float) else str(value)


class Percent(Struct, frozen=True):
    """A share from 0 to 1, written in per cent."""

    def read_text(self, text: str) -> float:
        return read_decimal(text, 0, 100, "%") / 100

    def say_value(self, value: float) -> str:
        return f"{value * 100:g} %"


class TextReader(Struct, frozen=True):
    """Text, blanks at its ends taken off. `needed` is what is said when nothing is left; longer ones are cut."""

    needed: str = ""
    longest: int = 60

    def read_text(self, text: str) -> str:
        t = text.strip()
        if not t and self.needed:
            raise Refused(self.needed)
        return t[: self.longest]

    def say_value(self, value: str) -> str:
        return value


class Order(Struct, frozen=True):
    """A colour order; with `empty` none is an answer too."""

    empty: bool = False

    def read_text(self, text: str) -> str:
        from welvo.rig.colours import read_order

        return read_order(text, self.empty)

    def say_value(self, value: str) -> str:
        return value


class LevelList(Struct, frozen=True):
    """So many levels from 0 to 255, such as `255 0 0`; `what` says which they are."""

    count: int
    what: str
    example: str

    def read_text(self, text: str) -> list[int]:
        parts = [p for p in re.split(r"[\s,;/]+", text.strip()) if p]
        if len(parts) != self.count or not all(re.fullmatch("[0-9]{1,3}", p) and int(p) <= 255 for p in parts):
            raise Refused(f"Write {self.what} from 0 to 255, such as {self.example}.")
        return [int(p) for p in parts]

    def say_value(self, value: list[int]) -> str:
        return " ".join(map(str, value))


def text_reader(kind: type[msgspec.Struct], field: str) -> Reader:
    """The reader that the type of a field asks for."""
    hint = get_type_hints(kind)[field]
    return TextReader() if hint is str else Number(kind, field)
