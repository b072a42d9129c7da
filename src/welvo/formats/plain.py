"""JSON and TOML from files, within bounds: how much, how deep, no key twice. Each refusal is one sentence."""

from __future__ import annotations

import json
import re
import tomllib

import msgspec
import numpy as np

from welvo.formats.files import RigFileError

MOST_TEXT = 64 * 2**20
MOST_BRACKETS, MOST_ITEMS = 2_000_000, 5_000_000
"""Objects and lists, and items of them, that a file may hold. A rig of 100,000 fixtures has a tenth of that."""
MOST_DEEP = 400
"""How deep objects and lists may stand in one another. A rig needs a dozen levels; how many a reader can bear depends
on the release of Python and of the package that reads, and that must not decide what is opened."""
WILDEST = 1e300
MOST_TOML = 2 * 2**20


def read_json(data: bytes, name: str) -> object:
    """A decoded JSON text. Raises RigFileError.

    Where numbers are too large for any float the object is Wild, so that whoever knows the limits can mend them.
    """
    _check_size(data, name)
    try:
        try:
            raw = msgspec.json.decode(data)
        except msgspec.ValidationError:  # a number that no float holds
            return _wild_text(json.loads(data, object_pairs_hook=_no_twins, parse_float=_finite_float))
        if len(msgspec.json.encode(raw)) != len(msgspec.json.format(data, indent=-1)):
            json.loads(data, object_pairs_hook=_no_twins)
    except _Twin as e:
        raise RigFileError(f"{name}: the key “{e}” is there twice in one object.") from e
    except RecursionError as e:
        raise RigFileError(f"{name} is nested deeper than any rig.") from e
    except (msgspec.MsgspecError, ValueError) as e:
        raise RigFileError(_why_damaged(data, name)) from e
    return raw


def _why_damaged(data: bytes, name: str) -> str:
    """Where a JSON text is damaged. The packages that read it each say it in words of their own, so it is looked up
    with the standard library, which counts lines."""
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        return f"{name} holds characters that are no text in UTF-8."
    try:
        json.loads(text)
    except json.JSONDecodeError as e:
        return f"{name} holds damaged JSON, at line {e.lineno}, column {e.colno}: {e.msg[:80]}."
    except RecursionError:
        return f"{name} is nested deeper than any rig."
    except ValueError:
        return f"{name} holds damaged JSON: a number has far too many digits."
    return f"{name} holds damaged JSON."


class Wild(dict[str, object]):
    """An object that held numbers beyond all bounds; they stand in it as the largest there are."""


def _wild_text(raw: object) -> object:
    return Wild(raw) if isinstance(raw, dict) else raw


def _finite_float(digits: str) -> float:
    return min(max(float(digits), -WILDEST), WILDEST)


class _Twin(Exception):
    pass


def _no_twins(pairs: list[tuple[str, object]]) -> dict[str, object]:
    found: dict[str, object] = {}
    for key, value in pairs:
        if key in found:
            raise _Twin(key[:60])
        found[key] = value
    return found


def _check_size(data: bytes, name: str) -> None:
    """Refuse a text that would take far more memory than its size: it is counted before anything is built."""
    if len(data) > MOST_TEXT:
        raise RigFileError(f"{name} holds {len(data) >> 20} MiB of text; no rig needs that much.")
    if data.count(b"{") + data.count(b"[") > MOST_BRACKETS or data.count(b",") + data.count(b":") > MOST_ITEMS:
        raise RigFileError(f"{name} holds more items than any rig; it was not opened.")
    if (
        _depth_of_brackets(data) > MOST_DEEP
        and _depth_of_brackets(re.sub(rb'"(?:[^"\\]|\\.)*"', b"", data)) > MOST_DEEP
    ):
        raise RigFileError(f"{name} is nested deeper than any rig.")


def _depth_of_brackets(data: bytes) -> int:
    """How deep brackets stand in one another; those in texts are counted as well, so it may be too many."""
    octets = np.frombuffer(data, np.uint8)
    opened = (octets == ord("{")) | (octets == ord("["))
    closed = (octets == ord("}")) | (octets == ord("]"))
    return int(np.cumsum(opened.astype(np.int8) - closed.astype(np.int8), dtype=np.int32).max(initial=0))


def read_toml(text: str, name: str) -> dict[str, object]:
    """A decoded TOML text. Raises RigFileError."""
    if len(text) > MOST_TOML:
        raise RigFileError(f"{name} holds {len(text) >> 20} MiB of text; no such file needs that much.")
    try:
        return tomllib.loads(text)
    except RecursionError as e:
        raise RigFileError(f"{name} is nested deeper than any such file.") from e
    except ValueError as e:  # TOMLDecodeError is one, and so are numbers of thousands of digits
        why = "a number has far too many digits" if "digits" in str(e) and "limit" in str(e) else str(e)[:160]
        raise RigFileError(f"{name} is no TOML: {why.rstrip('.')}.") from e
