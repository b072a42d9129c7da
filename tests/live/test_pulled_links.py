"""Cables, adapters and addresses that go away for a moment, armed and not."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

from tests.conftest import own_network


def test_everything_hears_and_leaves_again_and_nothing_names_ourselves() -> None:
    own_network()
    done = subprocess.run(
        ["unshare", "-n", sys.executable, "-m", "tests.live.pulled_links", "10", "0.3", "4"],
        cwd=Path(__file__).parents[2], capture_output=True, text=True, timeout=300,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-3000:]
    found = json.loads(done.stdout.splitlines()[-1])
    assert found["rounds"] == 10 and found["wrong"] == [], found
