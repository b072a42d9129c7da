"""Where a refusal is shown: beside the field that was typed into, else in the dialog, else in the window's message.

Widgets that stand in several places do not know which of these is around them, so they ask upwards: `refused` and
`informed` are methods of dialogs and of the window.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject

from welvo.rig.base import Refused


def _nearest(source: QObject, method: str, words: str) -> None:
    at: QObject | None = source
    while at is not None:
        shown = getattr(at, method, None)
        if callable(shown):
            shown(words)
            return
        at = at.parent()


def show_refusal(source: QObject, why: str) -> None:
    """Say why something was refused, in the nearest widget around `source` that has a place for it."""
    _nearest(source, "refused", why)


def inform(source: QObject, words: str) -> None:
    """Say what was done, in the nearest widget around `source` that has a place for it."""
    _nearest(source, "informed", words)


def guarded(source: QObject, act: Callable[..., object], *args: object) -> bool:
    """Do what a widget is for. A refusal is shown near the widget; gives False then."""
    try:
        act(*args)
    except Refused as e:
        show_refusal(source, str(e))
        return False
    return True
