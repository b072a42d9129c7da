"""What belongs to this computer and not to a rig: interface, theme, text size, recent files, window."""

from __future__ import annotations

import contextlib
from pathlib import Path

import msgspec
import platformdirs

from welvo.formats.rigfile import RigFileError, write_atomic


class Computer(msgspec.Struct, kw_only=True):
    """Kept in the user's configuration folder. Unreadable settings are replaced by these defaults."""

    interface: str = "127.0.0.1"
    theme: str = "dark"
    text_step: int = 0
    recent: list[str] = []
    width: int = 1280
    height: int = 800
    quiet: bool = False
    """Whether nothing at all leaves before arming."""

    @staticmethod
    def file() -> Path:
        return Path(platformdirs.user_config_dir("welvo")) / "computer.json"

    @staticmethod
    def state_folder() -> Path:
        """Where the recovery journal lives."""
        return Path(platformdirs.user_state_dir("welvo"))

    @classmethod
    def load(cls) -> Computer:
        try:
            found = msgspec.json.decode(cls.file().read_bytes(), type=cls)
        except (OSError, msgspec.DecodeError):
            return cls()
        found.theme = {"dusk": "dark", "paper": "light"}.get(found.theme, found.theme)  # as they were called once
        if found.theme not in ("dark", "light"):
            found.theme = "dark"
        return found

    def save(self) -> None:
        """Best effort: a full disk must not stop the work."""
        with contextlib.suppress(RigFileError, OSError):
            self.file().parent.mkdir(parents=True, exist_ok=True)
            write_atomic(self.file(), msgspec.json.format(msgspec.json.encode(self)))

    def remember(self, path: str) -> None:
        self.recent = [path, *[p for p in self.recent if p != path]][:8]
