"""Where a refusal is shown: beside the field that was typed into, else in the dialog, else in the window's message.

Widgets that stand in several places do not know which of these is around them, so they ask upwards: `refused` and
`informed` are methods of dialogs and of the window.
"""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject

from welvo.rig.base import Refused


def _nearest_teller(source: QObject, method: str, words: str) -> None:
    at: QObject | None = source
    while at is not None:
        shown = getattr(at, method, None)
        if callable(shown):
            shown(words)
            return
        at = at.parent()


def show_refusal(source: QObject, why: str) -> None:
    """Say why something was refused, in the nearest widget around `source` that has a place for it."""
    _nearest_teller(source, "refused", why)


def inform_near(source: QObject, words: str) -> None:
    """Say what was done, in the nearest widget around `source` that has a place for it."""
    _nearest_teller(source, "informed", words)


GONE = "welvo gone"
"""Set on what was taken out of the window and is deleted when the event at hand is over."""


def _is_gone(source: QObject) -> bool:
    at: QObject | None = source
    while at is not None:
        if at.property(GONE):
            return True
        at = at.parent()
    return False


def do_guarded(source: QObject, act: Callable[..., object], *args: object) -> bool:
    """Do what a widget is for. A refusal is shown near the widget; gives False then.

    A widget that an earlier event took out of the window does nothing any more: the list of a choice, a window of its
    own, can stay open for longer than what it was to choose for.
    """
    if _is_gone(source):
        return False
    try:
        act(*args)
    except Refused as e:
        show_refusal(source, str(e))
        return False
    return True
