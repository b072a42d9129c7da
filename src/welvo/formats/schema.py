"""JSON Schema (draft 2020-12) of values, made from their types.

It is made here and not by the package that reads the values, because it is a promise to other people's programs: a new
release of that package once wrote the same promise in other words. What is told is what the reader holds: types,
limits, defaults, and that a key which no value has is a mistake.
"""

from __future__ import annotations

import inspect
import types
import typing
from collections.abc import Mapping
from typing import Any, Literal, get_args, get_origin, get_type_hints

import msgspec
from msgspec import Meta

DRAFT = "https://json-schema.org/draft/2020-12/schema"
_PLAIN: dict[Any, dict[str, Any]] = {
    str: {"type": "string"},
    bool: {"type": "boolean"},
    int: {"type": "integer"},
    float: {"type": "number"},
    bytes: {"type": "string", "contentEncoding": "base64"},
    type(None): {"type": "null"},
    Any: {},
}
_LIMITS = (("ge", "minimum"), ("gt", "exclusiveMinimum"), ("le", "maximum"), ("lt", "exclusiveMaximum"))
_LENGTHS = {"string": "Length", "array": "Items", "object": "Properties"}


def schema_of(kind: Any, identity: str, title: str) -> dict[str, Any]:
    """The schema of documents that hold one value of a type.

    Every struct and typed dictionary that it reaches stands in `$defs` under its own name.
    """
    made = _Making()
    said = made.schema_of(kind)
    return {"$schema": DRAFT, "$id": identity, "title": title, **said, "$defs": made.definitions}


def schemas_of(kinds: Mapping[str, Any], identity: str, title: str) -> dict[str, Any]:
    """One schema for several kinds of documents: each stands in `$defs` under the name that is given for it."""
    made = _Making()
    named = {name: made.schema_of(kind) for name, kind in kinds.items()}
    return {"$schema": DRAFT, "$id": identity, "title": title, "$defs": {**named, **made.definitions}}


class _Making:
    def __init__(self) -> None:
        self.definitions: dict[str, dict[str, Any]] = {}
        self._kinds: dict[str, Any] = {}

    def schema_of(self, kind: Any) -> dict[str, Any]:
        if get_origin(kind) is typing.Annotated:
            inner, *more = get_args(kind)
            said = self.schema_of(inner)
            for meta in more:
                if isinstance(meta, Meta):
                    said = _with_limits(said, meta)
            return said
        if (_is_hashable(kind) and kind in _PLAIN) or kind is Any:
            return dict(_PLAIN[kind])
        if typing.is_typeddict(kind) or (isinstance(kind, type) and issubclass(kind, msgspec.Struct)):
            return self._schema_by_reference(kind)
        return self._schema_of_compound(kind)

    def _schema_of_compound(self, kind: Any) -> dict[str, Any]:
        origin, args = get_origin(kind), get_args(kind)
        if origin is Literal:
            return {"enum": sorted(args, key=str)}
        if origin in (typing.Union, types.UnionType):
            return {"anyOf": [self.schema_of(a) for a in args]}
        if origin is dict:
            return {"type": "object", "additionalProperties": self.schema_of(args[1])}
        if origin is tuple and not (len(args) == 2 and args[1] is Ellipsis):
            count = len(args)
            each = [self.schema_of(a) for a in args]
            return {"type": "array", "prefixItems": each, "items": False, "minItems": count, "maxItems": count}
        if origin in (tuple, list):
            return {"type": "array", "items": self.schema_of(args[0])}
        raise TypeError(f"no schema is known for {kind!r}")

    def _schema_by_reference(self, kind: Any) -> dict[str, Any]:
        name = kind.__name__
        if self._kinds.setdefault(name, kind) is not kind:
            raise TypeError(f"two types are called {name}")
        if name not in self.definitions:
            self.definitions[name] = {}  # a type may hold itself
            self.definitions[name] = self._schema_of_object(kind)
        return {"$ref": f"#/$defs/{name}"}

    def _schema_of_object(self, kind: Any) -> dict[str, Any]:
        rows = _keys_of_object(kind)
        properties = {}
        for key, hint, default in rows:
            said = self.schema_of(hint)
            properties[key] = said if default is _REQUIRED else {**said, "default": default}
        made: dict[str, Any] = {"title": kind.__name__}
        if kind.__doc__ and not kind.__doc__.startswith("dict("):
            made["description"] = inspect.cleandoc(kind.__doc__)
        made |= {"type": "object", "properties": properties}
        required = [key for key, _, default in rows if default is _REQUIRED]
        return made | ({"required": required} if required else {}) | {"additionalProperties": False}


_REQUIRED = object()


def _keys_of_object(kind: Any) -> list[tuple[str, Any, Any]]:
    """Each key of an object with its type and its default, as JSON has it."""
    hints = get_type_hints(kind, include_extras=True)
    if typing.is_typeddict(kind):
        if kind.__optional_keys__:
            raise TypeError(f"{kind.__name__}: an answer always has all its keys")
        return [(key.removesuffix("_"), hint, _REQUIRED) for key, hint in hints.items()]  # `from_` is the key “from”
    found = []
    for field in msgspec.structs.fields(kind):
        if field.encode_name == "extra":
            continue  # what a newer version wrote; nobody writes it by hand
        default: Any = _REQUIRED
        if field.default is not msgspec.NODEFAULT:
            default = msgspec.to_builtins(field.default)
        elif field.default_factory is not msgspec.NODEFAULT:
            default = msgspec.to_builtins(field.default_factory())
        found.append((field.encode_name, hints[field.name], default))
    return found


def _is_hashable(kind: Any) -> bool:
    return getattr(kind, "__hash__", None) is not None


def _with_limits(said: dict[str, Any], meta: Meta) -> dict[str, Any]:
    made = dict(said)
    if meta.description:
        made["description"] = meta.description
    for ours, theirs in _LIMITS:
        if (limit := getattr(meta, ours)) is not None:
            made[theirs] = limit
    if meta.pattern is not None:
        made["pattern"] = meta.pattern
    ending = _LENGTHS.get(str(said.get("type")), "")
    if meta.min_length is not None:
        made[f"min{ending}"] = meta.min_length
    if meta.max_length is not None:
        made[f"max{ending}"] = meta.max_length
    return made
