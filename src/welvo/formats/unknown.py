"""Keeps what a file says and this version does not know: it is written back where it stood."""

from __future__ import annotations

import types
import typing
from functools import cache
from typing import get_args, get_origin, get_type_hints

import msgspec

from welvo.rig.base import Value


@cache
def _fields_of_kind(kind: type[Value]) -> dict[str, object]:
    """What each key of a file holds. A few fields have a plainer name in the code than their key, which stays."""
    hints = get_type_hints(kind)
    return {key: _value_type(hints[name]) for name, key in zip(kind.__struct_fields__, kind.__struct_encode_fields__)}


def _value_type(t: object) -> object:
    """The Value type inside an annotation: itself, ('map', V) or ('list', V); None when there is none."""
    if isinstance(t, type) and issubclass(t, Value):
        return t
    origin, args = get_origin(t), get_args(t)
    if origin is dict:
        inner = _value_type(args[1])
        return ("map", inner) if inner else None
    if origin is tuple:
        inner = _value_type(args[0]) if args else None
        return ("list", inner) if inner else None
    if origin in (typing.Union, types.UnionType):
        return next((v for v in (_value_type(a) for a in args) if v), None)
    return None


def gather_unknown(raw: object, kind: object) -> object:
    """Move unknown keys of JSON objects into `extra`, all the way down. Gives `raw` itself where nothing is unknown."""
    if kind is None:
        return raw
    if isinstance(kind, tuple):
        shape, inner = kind
        if shape == "map" and isinstance(raw, dict):
            return {k: gather_unknown(v, inner) for k, v in raw.items()}
        if shape == "list" and isinstance(raw, list):
            return [gather_unknown(v, inner) for v in raw]
        return raw
    if not isinstance(raw, dict):
        return raw
    fields = _fields_of_kind(kind)
    known = {
        k: gather_unknown(v, fields[k]) if fields[k] else v for k, v in raw.items() if k in fields and k != "extra"
    }
    unknown = {k: v for k, v in raw.items() if k not in fields or k == "extra"}
    if unknown:
        known["extra"] = unknown
    return known


def scatter_unknown(raw: object, kind: object) -> object:
    """The reverse on builtins made from a value of that kind: unknown keys go back beside the known ones.

    It follows the types, as `gather_unknown` does: a mapping whose key happens to be called `extra` is a mapping.
    """
    if kind is None:
        return raw
    if isinstance(kind, tuple):
        shape, inner = kind
        if shape == "map":
            return {k: scatter_unknown(v, inner) for k, v in raw.items()} if isinstance(raw, dict) else raw
        return [scatter_unknown(v, inner) for v in raw] if isinstance(raw, list | tuple) else raw
    if not isinstance(raw, dict):
        return raw
    fields = _fields_of_kind(kind)
    plain = {k: scatter_unknown(v, fields[k]) if fields[k] else v for k, v in raw.items() if k != "extra"}
    return {**(raw.get("extra") or {}), **plain}


def to_plain(value: Value) -> dict[str, object]:
    """A value as JSON-ready builtins with unknown fields back in their places."""
    plain = scatter_unknown(msgspec.to_builtins(value), type(value))
    assert isinstance(plain, dict)  # a Value is written as an object
    return plain
