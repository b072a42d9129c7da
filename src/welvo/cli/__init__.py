"""Commands for people who script, over the same core as the window. Errors go to stderr."""

from __future__ import annotations

from welvo.cli import (  # noqa: F401  (importing a module registers its commands)
    benching,
    cabling,
    checking,
    comparing,
    converting,
    desktop,
    devicing,
    exchanging,
    lamping,
    opening,
    papers,
    patching,
    sharing,
    stopping,
    wiring,
)
from welvo.cli.base import app, main

__all__ = ["app", "main"]
