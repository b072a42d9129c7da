"""What the first window costs: nothing is imported for it that only later work needs."""

from __future__ import annotations

import subprocess
import sys

import pytest

LATER = {
    "aiohttp": "asking devices",
    "asyncio": "asking devices",
    "natsort": "sorting a list",
    "lxml": "scenes and fixture files",
    "PIL": "pictures in sheets",
    "pypdfium2": "pictures in sheets",
    "python_calamine": "reading tables",
    "reportlab": "sheets",
    "Xlib": "keys beside the window",
    "xlsxwriter": "writing tables",
}


@pytest.mark.parametrize("module", ["welvo.app.main", "welvo.cli"])
def test_what_only_later_work_needs_is_not_imported_at_the_start(module: str) -> None:
    code = f"import sys, {module}; print(*sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=300, check=True)
    loaded = set(done.stdout.split())
    assert module in loaded
    assert not {name: why for name, why in LATER.items() if name in loaded}
