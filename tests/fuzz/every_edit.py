"""Every function of the core that gives an edit, and where its preview is held: the table in docs/trials.md."""

from __future__ import annotations

import inspect
import pkgutil
import re
from importlib import import_module
from pathlib import Path

HERE = Path(__file__).parent
PACKAGES = ("rig", "runs", "patch", "buses", "matching", "survey", "settings")
EXCUSED = {
    "rig.diff.set_places": "any value at any place, for merging and taking back: `tests/fuzz/merges.py`",
    "rig.merge.as_edit": "a merge: `tests/cli/test_dry_run.py`, `tests/fuzz/merges.py`",
    "survey.compare.take_back": "takes one difference of two versions back, by `set_places`",
    "runs.edits.keep_locked": "no edit of its own: refuses one that would push what is locked",
    "matching.lamps.bind_all": "writes UIDs only, as `bind_responder`",
    "matching.lamps.take_addresses": "moves lamps to what they answered: `tests/app/test_lamps_window.py`",
    "settings.card.tick_settings": "ticks of a card, as `tick_lamps`",
    "settings.card.untick_settings": "ticks of a card, as `untick_lamps`",
    "settings.heard.plan_heard": "a device that was heard, as `add_device`",
    "settings.heard.link_device": "writes an address that was heard, as `set_device`",
    "settings.snapshots.take_snapshot": "keeps what a device says; nothing is placed by it",
    "settings.snapshots.remove_snapshot": "keeps what a device says; nothing is placed by it",
}
"""Edits that no random trail draws, and why."""


def edit_functions() -> list[str]:
    """`package.module.function` of everything that gives an edit."""
    found = []
    for package in PACKAGES:
        for info in pkgutil.iter_modules(import_module(f"welvo.{package}").__path__, f"welvo.{package}."):
            for name, f in vars(import_module(info.name)).items():
                gives = str(getattr(f, "__annotations__", {}).get("return", ""))
                own = inspect.isfunction(f) and f.__module__ == info.name and not name.startswith("_")
                if own and gives in ("Edit", "tuple[Edit, list[str]]"):
                    found.append(f"{info.name.removeprefix('welvo.')}.{name}")
    return sorted(found)


def where_held(function: str) -> str:
    """What holds the preview of an edit to what it does; empty when nothing does."""
    if function in EXCUSED:
        return EXCUSED[function]
    name = function.rpartition(".")[2]
    drawn = re.search(rf"\b{name}\b", (HERE / "random_edits.py").read_text())
    return "drawn by chance: `tests/fuzz/foreseen.py`" if drawn else ""


def table() -> str:
    """The table of docs/trials.md."""
    lines = ["| edit | what holds its preview |", "| --- | --- |"]
    return "\n".join([*lines, *(f"| `{f}` | {where_held(f)} |" for f in edit_functions())]) + "\n"


if __name__ == "__main__":
    print(table(), end="")
