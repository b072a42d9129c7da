"""Device models: TOML files in the package and in the user's own folder."""

from __future__ import annotations

import tomllib
from importlib.resources import files
from pathlib import Path

import msgspec

from welvo.formats.rigfile import RigFileError
from welvo.rig.wiring import DeviceModel


def read_model(text: str, name: str) -> DeviceModel:
    """A model from TOML. Raises RigFileError with the place that is wrong."""
    try:
        return msgspec.convert(tomllib.loads(text), DeviceModel)
    except tomllib.TOMLDecodeError as e:
        raise RigFileError(f"{name} is no TOML: {e}.") from e
    except msgspec.ValidationError as e:
        raise RigFileError(f"{name}: {e}.") from e


def shipped() -> dict[str, DeviceModel]:
    """The models that come with Welvo, by file name without suffix."""
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
    for f in sorted(folder.glob("*.toml")) if folder.is_dir() else []:
        try:
            models[f.stem] = read_model(f.read_text("utf-8"), f.name)
        except (RigFileError, OSError, UnicodeDecodeError) as e:
            problems.append(str(e))
    return models, problems
