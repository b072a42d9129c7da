"""Device models and kinds of pixels: TOML files in the package and in the user's own folder."""

from __future__ import annotations

import os
import re
import tomllib
from functools import cache
from importlib.resources import files
from pathlib import Path

import msgspec
import tomli_w

from welvo.formats.files import RigFileError, read_text_file, shown_name, write_atomic
from welvo.formats.plain import read_toml
from welvo.formats.unknown import gather_unknown, to_plain
from welvo.rig.base import Refused
from welvo.rig.door import check_whole_value
from welvo.rig.runs import PixelType
from welvo.rig.wiring import DeviceModel

MOST_MODEL = 2 * 2**20


def read_model(text: str, name: str) -> DeviceModel:
    """A model from TOML. Raises RigFileError with the place that is wrong."""
    raw = read_toml(text, name)
    try:
        model = msgspec.convert(gather_unknown(raw, DeviceModel), DeviceModel)
        check_whole_value(model)
    except (msgspec.ValidationError, Refused) as e:
        raise RigFileError(f"{name}: {e}" + ("" if str(e).endswith(".") else ".")) from e
    except (TypeError, AttributeError, RecursionError) as e:
        raise RigFileError(f"{name} does not have the shape of a model ({e}).") from e
    return model


def check_model(model: DeviceModel) -> None:
    """Refuse what contradicts itself: a port said twice, a mode or a setting that names what is not there."""
    if not model.name.strip():
        raise Refused("A model needs a name.")
    twice = next((p for p in model.ports if model.ports.count(p) > 1), "")
    if twice:
        raise Refused(f"Port {twice} is there twice.")
    for mode in model.modes:
        lost = next((p for p in mode.off if p not in model.ports), "")
        if lost:
            raise Refused(f"Mode “{mode.name}” switches port {lost} off, which is not there.")
    lost = next((p for p in model.gives if p not in model.ports), "")
    if lost:
        raise Refused(f"What port {lost} gives is said, and there is no such port.")
    names = [m.name for m in model.modes]
    if len(set(names)) < len(names):
        raise Refused("Two modes carry one name.")


def write_model(model: DeviceModel) -> str:
    """A model as TOML, readable by `read_model`."""
    return tomli_w.dumps(to_plain(model))


def save_model(model: DeviceModel, folder: Path) -> Path:
    """Write a model into a folder of own models; gives the file. Raises RigFileError."""
    check_model(model)
    stem = re.sub(r"[^a-z0-9]+", "-", model.name.lower()).strip("-") or "model"
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise RigFileError(f"{folder.name} could not be made: {e.strerror or e}.") from e
    file = folder / f"{stem}.toml"
    write_atomic(file, write_model(model).encode())
    return file


@cache
def shipped_pixels() -> dict[str, PixelType]:
    """The kinds of pixels that come with Welvo, by key."""
    text = (files("welvo") / "data" / "pixels.toml").read_text("utf-8")
    return {key: msgspec.convert(value, PixelType) for key, value in tomllib.loads(text).items()}


def shipped_models() -> dict[str, DeviceModel]:
    """The models that come with Welvo, by file name without suffix."""
    return dict(_read_shipped())


@cache
def _read_shipped() -> dict[str, DeviceModel]:
    folder = files("welvo") / "data" / "models"
    return {
        f.name.removesuffix(".toml"): read_model(f.read_text("utf-8"), f.name)
        for f in sorted(folder.iterdir(), key=lambda f: f.name)
        if f.name.endswith(".toml")
    }


def from_folder(folder: Path) -> tuple[dict[str, DeviceModel], list[str]]:
    """The user's own models, and what is wrong with those that could not be read."""
    models: dict[str, DeviceModel] = {}
    problems: list[str] = []
    for f in sorted(folder.glob("*.toml")) if os.path.isdir(folder) else []:
        try:
            models[f.stem] = read_model(read_text_file(f, MOST_MODEL, "a device model"), shown_name(f))
        except RigFileError as e:
            problems.append(str(e))
    return models, problems
