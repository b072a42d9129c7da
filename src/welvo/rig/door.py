"""The door of the rig: what an edit sets is held against the type of its place before anything is taken.

A frozen struct checks nothing when it is made or replaced; msgspec looks at types and bounds only while it decodes. So
whatever an edit touched is written as it would stand in a file and read again. Two items follow: bounds need to stand
nowhere but in the value's type, and whatever can be saved can be opened. Only fields that are not the very object they
were are looked at, many entries in one go, so that moving ten thousand fixtures stays a matter of milliseconds.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cache
from itertools import compress
from operator import attrgetter, is_not
from typing import get_args, get_type_hints

import msgspec

from welvo.rig.base import Refused, Value

_ENCODE = msgspec.json.Encoder().encode


@cache
def _decoder_for(kind: object) -> msgspec.json.Decoder[object]:
    return msgspec.json.Decoder(kind)


@cache
def _hints_of(kind: type) -> dict[str, object]:
    return get_type_hints(kind, include_extras=True)


@cache
def entry_type(holder: type, part: str) -> object:
    """What the values of a mapping of the rig must be."""
    return get_args(_hints_of(holder)[part])[1]


def check_entries(kind: type[Value], entries: Mapping[str, object], before: Mapping[str, object]) -> None:
    """Refuse entries of one part of the rig that no file could hold. None stands for an entry that is taken out."""
    news: list[object] = []
    olds: list[object] = []
    fresh: list[object] = []
    for key, new in entries.items():
        old = before.get(key)
        if type(new) is kind and type(old) is kind:
            news.append(new)
            olds.append(old)
        elif new is not None:
            fresh.append(new)
    for name in kind.__struct_fields__:
        # `map`, `any` and `compress` run in C, field by field: ten thousand fixtures may be moved at once.
        get = attrgetter(name)
        if any(map(is_not, map(get, news), map(get, olds))):
            owners = list(compress(news, map(is_not, map(get, news), map(get, olds))))
            _check_values(list[_hints_of(kind)[name]], list(map(get, owners)), owners, name)  # type: ignore[misc]
    if fresh:
        _check_values(list[kind], fresh, fresh, "")  # type: ignore[valid-type]


def check_field(kind: type[Value], name: str, value: object) -> None:
    """Refuse a value that a field of a struct cannot hold."""
    _check_values(list[_hints_of(kind)[name]], [value], [None], name)  # type: ignore[misc]


def _check_values(kind: object, values: list[object], owners: list[object], field: str) -> None:
    wrong, why = "", ""
    try:
        written = _ENCODE(values)
        read = _decoder_for(kind).decode(written)
        # What is no finite number is written as null, and read as nothing where that is allowed. Everything else that
        # could be read is what was written, and comparing ten thousand values would take longer than all of the rest.
        if b"null" not in written or read == values:
            return
    except msgspec.ValidationError as e:
        wrong = str(e)
    except (UnicodeEncodeError, msgspec.DecodeError):
        why = "it holds characters that are no text"
    except (OverflowError, TypeError, RecursionError, msgspec.MsgspecError) as e:
        why = str(e)
    m = re.search(r" - at `\$\[(\d+)\](.*)`$", wrong)
    if "got `null`" in wrong and re.search(r"\b(inf|nan)\b", repr(values[int(m[1])] if m else values)):
        why = "it is no finite number"
    owner = owners[int(m[1])] if m else next((o for o in owners if o is not None), None)
    place = ".".join(p for p in (field, m[2].lstrip(".") if m else "") if p)
    words = why or (plain_words(wrong[: wrong.index(" - at")] if m else wrong) if wrong else "it is no finite number")
    raise Refused(f"{_name_of_owner(owner)}{_say_place(place)} cannot be that: {words}.")


def _name_of_owner(owner: object) -> str:
    """What the entry is called, as far as it has a number or a name that can be shown."""
    for key in ("number", "name"):
        value = getattr(owner, key, None)
        if isinstance(value, int) or (isinstance(value, str) and value.isprintable() and value):
            return f"{str(value)[:40]}: "
    return ""


def _say_place(place: str) -> str:
    clean = re.sub(r"\[[^\]]*\]", "", place).split(".")[-1].replace("_", " ").strip()
    return clean or "it"


def plain_words(text: str) -> str:
    """msgspec's words for what it expected, in ours."""
    for theirs, ours in (
        ("`str`", "text"),
        ("`int`", "a whole number"),
        ("`float`", "a number"),
        ("`array`", "a list"),
        ("`object`", "an object"),
        ("`bool`", "yes or no"),
        ("`null`", "nothing"),
    ):
        text = text.replace(theirs, ours)
    for sign, end in (("<=", "at most"), (">=", "at least")):
        text = re.sub(rf"(?:of length )?{sign} (-?\d+)(?:\.0)?(?![\d.])", rf"of \1 {end}", text)
        text = re.sub(rf"(?:of length )?{sign} (-?\d+\.\d+)", rf"of \1 {end}", text)
    text = re.sub(r"matching regex .*", "in another form", text)
    return text[:1].lower() + text[1:]


def check_whole_value(value: Value) -> None:
    """Refuse a value that no file could hold: one that an importer made, for example. Raises Refused."""
    _check_values(list[type(value)], [value], [value], "")  # type: ignore[misc]
