"""Values of a file that break a limit: brought within it and told, instead of refusing all of a rig for one of them.

Only limits are mended: numbers out of their range, texts and lists that are too long, numbers that are not finite.
What is of another kind than it must be (a text for a number) is damage, and is refused. So is a number that names
something, a universe or an address: the nearest one that is allowed is another universe, and a lamp elsewhere. Where it
may be empty it is left empty, and told.
"""

from __future__ import annotations

import math
from functools import cache
from types import UnionType

import msgspec.inspect as look

from welvo.formats.files import RigFileError
from welvo.formats.plain import WILDEST
from welvo.rig.base import Value

MOST_TOLD = 20
NAMING = frozenset({"wire", "number", "address", "at", "start", "dmx", "universe"})
"""Fields whose number names something. (A place holds its `address`, a gear stands `at` one, a feed has its `wire`.)"""


@cache
def _shape_of_kind(kind: type[Value]) -> look.Type:
    return look.type_info(kind)


class Mended:
    """What was brought within its limits; `told` says it value by value, the first of them."""

    def __init__(self) -> None:
        self.count = 0
        self.told: list[str] = []

    def note_mending(self, place: str, was: object, now: object) -> None:
        self.count += 1
        if len(self.told) < MOST_TOLD:
            self.told.append(f"{place.removeprefix('.')} was {_shorten_value(was)}, now {_shorten_value(now)}")


def _shorten_value(value: object) -> str:
    if isinstance(value, float) and abs(value) >= WILDEST:
        return "beyond all bounds"
    text = f"{value:g}" if isinstance(value, float) else str(value)
    return text if len(text) <= 24 else f"{text[:20]}…"


def mend_values(raw: object, kind: type[Value], mended: Mended) -> object:
    """Builtins of a file with every value brought within the limits of its type; `raw` is not changed."""
    return _mend_value(raw, _shape_of_kind(kind), "", mended)


def _mend_value(raw: object, shape: look.Type, place: str, mended: Mended) -> object:
    if isinstance(shape, look.Metadata):
        return _mend_value(raw, shape.type, place, mended)
    if isinstance(shape, look.UnionType):
        fits = next((t for t in shape.types if _fits_shape(raw, t)), None)
        number = fits.type if isinstance(fits, look.Metadata) else fits
        if (
            _names_something(place)
            and isinstance(number, look.IntType)
            and isinstance(raw, int | float)
            and not _is_within_limits(raw, number)
        ):
            if any(isinstance(t, look.NoneType) for t in shape.types):
                mended.note_mending(place, raw, "empty")
                return None
        return raw if fits is None else _mend_value(raw, fits, place, mended)
    if isinstance(raw, bool) or raw is None:
        return raw
    if isinstance(shape, look.StructType) and isinstance(raw, dict):
        fields = {f.encode_name: f for f in shape.fields}
        found = {}
        for key, value in raw.items():
            f = fields.get(key)
            found[key] = value if f is None or key == "extra" else _mend_value(value, f.type, f"{place}.{key}", mended)
        return found
    if isinstance(shape, look.DictType) and isinstance(raw, dict):
        return {k: _mend_value(v, shape.value_type, f"{place}.{k}", mended) for k, v in raw.items()}
    if isinstance(shape, look.VarTupleType | look.ListType) and isinstance(raw, list):
        items = raw
        if shape.max_length is not None and len(raw) > shape.max_length:
            items = raw[: shape.max_length]
            mended.note_mending(place, f"{len(raw)} long", f"{shape.max_length} long")
        return [_mend_value(v, shape.item_type, f"{place}.{n}", mended) for n, v in enumerate(items)]
    if isinstance(shape, look.IntType | look.FloatType) and isinstance(raw, int | float):
        return _mend_number(raw, shape, place, mended)
    if isinstance(shape, look.StrType) and isinstance(raw, str):
        if shape.max_length is not None and len(raw) > shape.max_length:
            mended.note_mending(place, f"“{raw[:12]}…”", f"“{raw[: shape.max_length]}”")
            return raw[: shape.max_length]
    return raw


def _fits_shape(raw: object, shape: look.Type) -> bool:
    if isinstance(shape, look.Metadata):
        return _fits_shape(raw, shape.type)
    if isinstance(raw, bool):
        return isinstance(shape, look.BoolType)
    kinds: tuple[tuple[type, type | UnionType], ...] = (
        (dict, look.StructType | look.DictType),
        (list, look.VarTupleType | look.ListType),
        (str, look.StrType | look.LiteralType),
        (int, look.IntType | look.FloatType),
        (float, look.FloatType),
        (type(None), look.NoneType),
    )
    return any(isinstance(raw, k) and isinstance(shape, s) for k, s in kinds)


def _names_something(place: str) -> bool:
    """Whether the number at a place names something: by its own field, or by the mapping it is a value of."""
    steps = place.split(".")
    return steps[-1] in NAMING or (len(steps) > 1 and steps[-2] == "dmx")


def _is_within_limits(raw: float, shape: look.IntType | look.FloatType) -> bool:
    low = (shape.ge is None or raw >= shape.ge) and (shape.gt is None or raw > shape.gt)
    return low and (shape.le is None or raw <= shape.le) and (shape.lt is None or raw < shape.lt)


def _mend_number(raw: float, shape: look.IntType | look.FloatType, place: str, mended: Mended) -> float:
    whole = isinstance(shape, look.IntType)
    if _names_something(place) and not _is_within_limits(raw, shape):
        raise RigFileError(
            f"{place.removeprefix('.')} is {_shorten_value(raw)}, and there is no such number. It was not changed, "
            f"because "
            "another one would mean something else; put it right in the file."
        )
    if whole and isinstance(raw, float) and math.isfinite(raw):
        return raw  # another kind of number: not a matter of limits
    step = 1 if whole else 1e-3
    low = shape.ge if shape.ge is not None else shape.gt + step if shape.gt is not None else None
    high = shape.le if shape.le is not None else shape.lt - step if shape.lt is not None else None
    if math.isnan(raw):
        now: float = low or 0
    elif high is not None and raw > high:
        now = high
    elif low is not None and raw < low:
        now = low
    elif math.isinf(raw) or abs(raw) >= WILDEST:
        now = math.copysign(1e9, raw)
    else:
        return raw
    now = int(now) if whole else float(now)
    mended.note_mending(place, raw, now)
    return now
