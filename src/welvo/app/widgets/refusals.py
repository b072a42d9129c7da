"""Where a refusal is shown: beside the field that was typed into, else in the dialog, else in the window's message."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject

from welvo.rig.base import Refused


def show_refusal(source: QObject, why: str) -> None:
    """Say why something was refused, in the nearest widget around `source` that has a place for it."""
    at: QObject | None = source
    while at is not None:
        shown = getattr(at, "refused", None)
        if callable(shown):
            shown(why)
            return
        at = at.parent()


def guarded(source: QObject, act: Callable[..., object], *args: object) -> bool:
    """Do what a widget is for. A refusal is shown near the widget; gives False then."""
    try:
        act(*args)
    except Refused as e:
        show_refusal(source, str(e))
        return False
    return True
