"""Where the guide and its pictures lie: inside an installed program, or beside a checkout that is worked on."""

from __future__ import annotations

from pathlib import Path


def handbook_folder() -> Path | None:
    """The folder with `guide.md`; None where it was left out."""
    package = Path(__file__).resolve().parent.parent
    for folder in (package / "data" / "docs", package.parent.parent / "docs"):
        if (folder / "guide.md").is_file():
            return folder
    return None
