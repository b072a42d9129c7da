"""Who does something by hand, and when: for ticks on cards."""

from __future__ import annotations

import getpass
import time


def name_of_user() -> str:
    """Who sits here, as the computer knows it."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return ""


def say_when(at: float) -> str:
    return time.strftime("%d.%m. %H:%M", time.localtime(at))
