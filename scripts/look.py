"""Looks at every state of the window for what is cut, covered or pale: `look.py [SIZE] [PART]`; 1 when it found some.

SIZE is one of the sizes (1280x800), PART words that a state must have in it; without them everything is looked at.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
sys.path.insert(0, str(Path(__file__).parents[1]))

from PySide6.QtWidgets import QApplication
from tests.look.audit import Eyes
from tests.look.looking import EVERY_LOOK, both_rigs, look_through, shown_window


def main(size: str, part: str) -> int:
    app = QApplication.instance() or QApplication(["look"])
    assert isinstance(app, QApplication)
    app.setStyle("Fusion")
    looks = [x for x in EVERY_LOOK if size in f"{x.size[0]}x{x.size[1]} +{x.step} {x.theme}"]
    eyes, begun = Eyes(), time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
            os.environ[name] = folder
        with shown_window(Path(folder)) as window:
            look_through(eyes, window, looks, both_rigs(window.session.rig), part)
    for seen, state in sorted(eyes.found.items()):
        print(seen, "| first in:", state)
    kinds = ", ".join(f"{n} {kind}" for kind, n in Counter(s.kind for s in eyes.found).items()) or "nothing wrong"
    print(f"{eyes.states} states, {eyes.texts} texts in {time.monotonic() - begun:.0f} s: {kinds}")
    return 1 if eyes.found else 0


if __name__ == "__main__":
    sys.exit(main(*(sys.argv[1:] + ["", ""])[:2]))
