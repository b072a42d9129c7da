"""What belongs to this computer and not to a rig: interface, theme, text size, recent files, window."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Annotated, Literal, get_type_hints

import msgspec
import platformdirs
from msgspec import Meta

from welvo.app.disk import SMALL_FILES
from welvo.formats.files import RigFileError, path_to_text, read_bytes, write_atomic

_OCTET = "(25[0-5]|2[0-4][0-9]|1?[0-9]{1,2})"
_ADDRESS = rf"^{_OCTET}(\.{_OCTET}){{3}}$"


class Computer(msgspec.Struct, kw_only=True):
    """Kept in the user's configuration folder. What cannot be read or makes no sense is replaced by these defaults."""

    interface: Annotated[str, Meta(pattern=_ADDRESS)] = "127.0.0.1"
    theme: Literal["desktop", "dark", "light"] = "desktop"
    text_step: Annotated[int, Meta(ge=-1, le=6)] = -1
    """Pixels by which text is larger than usual; −1: as large as the desktop's."""
    recent: Annotated[list[str], Meta(max_length=50)] = []
    folders: Annotated[list[str], Meta(max_length=50)] = []
    """Folders that files were opened from and saved to lately."""
    width: Annotated[int, Meta(ge=200, le=16000)] = 1280
    height: Annotated[int, Meta(ge=200, le=16000)] = 800
    panel_width: Annotated[int, Meta(ge=0, le=16000)] = 0
    """How wide the panel was drawn by hand, in pixels of normal text; 0: by itself."""
    splits: dict[str, Annotated[list[Annotated[int, Meta(ge=0, le=16000)]], Meta(max_length=8)]] = {}
    """How each station's parts share its height, in pixels, by its name."""
    lines: dict[str, Annotated[str, Meta(max_length=4096)]] = {}
    """The serial port of each DMX line, by the line's number."""
    sheets: dict[str, dict[str, Annotated[str, Meta(max_length=4096)]]] = {}
    """What was chosen for each sheet, by its key; under an empty key what is chosen for all of them."""
    mappings: dict[str, dict[str, Annotated[str, Meta(max_length=4096)]]] = {}
    """How the columns and the names of tables were understood, by their headings."""
    quiet: bool = False
    """Whether nothing at all leaves before arming."""

    @staticmethod
    def settings_file() -> Path:
        return Path(platformdirs.user_config_dir("welvo")) / "computer.json"

    @staticmethod
    def state_folder() -> Path:
        """Where the recovery journal lives."""
        return Path(platformdirs.user_state_dir("welvo"))

    @classmethod
    def load_settings(cls) -> Computer:
        return cls.load_said()[0]

    @classmethod
    def load_said(cls) -> tuple[Computer, str]:
        """The settings, and what is to be said about them: what is damaged is replaced by defaults, value by value."""
        SMALL_FILES.settle()
        file = cls.settings_file()
        try:
            raw = msgspec.json.decode(read_bytes(file, 1 << 20, "a file of settings"))
            if not isinstance(raw, dict):
                raise ValueError("it is no object")
        except (ValueError, RecursionError, msgspec.MsgspecError):  # RigFileError is a ValueError
            if not file.exists():
                return cls(), ""
            return cls(), f"The settings of this computer ({file}) could not be read; defaults are used."
        found = cls()
        wrong: list[str] = []
        raw["theme"] = _THEMES_BEFORE.get(str(raw.get("theme")), raw.get("theme", found.theme))
        for name, kind in get_type_hints(cls, include_extras=True).items():
            if name in raw:
                try:
                    setattr(found, name, msgspec.convert(raw[name], kind))
                except msgspec.ValidationError:
                    wrong.append(name.replace("_", " "))
        if wrong:
            return found, f"Settings of this computer that made no sense were left out: {', '.join(wrong)}."
        return found, ""

    def save_settings(self) -> None:
        """Written soon, as it is now. Best effort: a full disk must not stop the work."""
        file, as_now = self.settings_file(), msgspec.json.format(msgspec.json.encode(self))

        def write() -> None:
            with contextlib.suppress(RigFileError, OSError, ValueError):
                file.parent.mkdir(parents=True, exist_ok=True)
                write_atomic(file, as_now, flush=False)

        SMALL_FILES.write_soon("settings", write)

    def remember_file(self, path: Path) -> None:
        text = path_to_text(path)
        self.recent = [text, *[p for p in self.recent if p != text]][:8]


_THEMES_BEFORE = {"dusk": "dark", "paper": "light"}
"""As they were called once."""


def passwords_file() -> Path:
    """Passwords of devices stand here and nowhere else: never in a rig, a log or a message."""
    return Path(platformdirs.user_config_dir("welvo")) / "device-passwords.json"


def load_passwords() -> dict[str, str]:
    """By address; none where the file is not there or cannot be read."""
    SMALL_FILES.settle()
    try:
        return msgspec.json.decode(read_bytes(passwords_file(), 1 << 20, "a file of passwords"), type=dict[str, str])
    except (ValueError, RecursionError, msgspec.MsgspecError):
        return {}


def save_passwords(known: dict[str, str]) -> None:
    """Readable by nobody but their owner. Written soon, best effort, as the other settings of this computer."""
    file, as_now = passwords_file(), msgspec.json.encode(known)

    def write() -> None:
        with contextlib.suppress(RigFileError, OSError, ValueError):
            file.parent.mkdir(parents=True, exist_ok=True)
            if not file.exists():
                file.touch(0o600)
            file.chmod(0o600)
            write_atomic(file, as_now, flush=False)
            file.chmod(0o600)

    SMALL_FILES.write_soon("passwords", write)
