from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from welvo.app.widgets.fields import Tick
from welvo.app.widgets.theme import THEME, TOKENS, apply_theme, contrast_of_colours
from welvo.rig.tints import oklch_hex, tint_hex, weave_of_tint

APP = Path(__file__).parents[2] / "src" / "welvo" / "app"
DUSK = (
    "#a37640/#462d0b #71c4aa/#245748 #bac8fe/#4e577b #b19454/#4d3d15 #2f918a/#033b38 #b0a8e7/#4b466b "
    "#d6cd88/#605a31 #49a8b2/#07484e"
)
PAPER = (
    "#a97c46/#fce3c8 #046852/#b1d8ca #343d72/#b7bfdf #866b29/#e8d9ba #369890/#c7f2ed #584e87/#cdc9ea "
    "#4b4303/#c6c3a1 #0b7d87/#b9e4e8"
)


@pytest.mark.parametrize(("theme", "wanted"), [("dark", DUSK), ("light", PAPER)])
def test_the_first_eight_tints(theme: str, wanted: str) -> None:
    for k, pair in enumerate(wanted.split()):
        for have, want in zip(tint_hex(k, theme), pair.split("/")):
            off = [abs(int(have[i : i + 2], 16) - int(want[i : i + 2], 16)) for i in (1, 3, 5)]
            assert max(off) <= 1, (k, have, want)
    assert [weave_of_tint(k) for k in (0, 7, 8, 16, 24)] == [0, 0, 1, 2, 0]


@pytest.mark.parametrize("theme", ["dark", "light"])
def test_contrasts(theme: str) -> None:
    t = TOKENS[theme]
    for ground in ("station", "raised", "select"):
        for token in ("text", "quiet", "accent", "error", "warning", "note"):
            assert contrast_of_colours(t[token], t[ground]) >= 4.5, (token, ground)
    for wash in ("error", "warning", "note"):
        ground = t[f"{wash}_wash"]
        assert (
            contrast_of_colours(t["text"], ground) >= 10
            and contrast_of_colours(t["quiet"], ground) >= 5.3
            and contrast_of_colours(t[wash], ground) >= 4.7
        )
    assert (
        contrast_of_colours(t["accent_ink"], t["accent"]) >= 5.9 and contrast_of_colours(t["edge"], t["station"]) >= 3.8
    )
    for k in range(64):
        spine, body = tint_hex(k, theme)
        floor = 5.55 if k < 8 else 4.5
        assert contrast_of_colours(t["text"], body) >= floor and contrast_of_colours(spine, t["field"]) >= 3.3, k
    assert TOKENS["dark"].keys() == TOKENS["light"].keys()


def test_a_colour_that_does_not_exist_loses_chroma_until_it_does() -> None:
    assert oklch_hex(1.0, 0.2, 120) == "#ffffff" and oklch_hex(0.0, 0.2, 20) == "#000000"


def test_no_colour_is_written_anywhere_else() -> None:
    for file in APP.rglob("*.py"):
        if file.name != "theme.py":
            assert not re.findall(
                r"#[0-9a-fA-F]{6}\b|QColor\(\d|rgba?\(|GlobalColor\.(?!transparent)", file.read_text()
            ), file.name


def test_twenty_thousand_updates_do_not_end_the_interpreter() -> None:
    code = """
from PySide6.QtWidgets import QApplication, QWidget
app = QApplication([])
w = QWidget(); w.resize(50, 50); w.show()
for n in range(20000):
    w.update()
    if n % 1000 == 0: app.processEvents()
print("alive")
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=300)
    assert done.stdout.strip() == "alive", done.stderr[-300:]


@pytest.mark.parametrize("theme", ["dark", "light"])
def test_a_ticked_box_has_a_tick_and_is_not_told_by_colour_alone(qtbot: QtBot, theme: str) -> None:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    THEME.name = theme
    apply_theme(app)
    box = Tick("Locked", "", lambda _: None)
    qtbot.addWidget(box)
    box.show()

    def shades() -> int:
        """How many clearly different shades of grey its box has."""
        image = box.grab().toImage().convertToFormat(QImage.Format.Format_Grayscale8)
        return len({image.pixelColor(x, y).lightness() // 24 for x in range(3, 13) for y in range(6, box.height() - 6)})

    empty = shades()
    box.setChecked(True)
    assert shades() > empty
    THEME.name = "dark"
    apply_theme(app)
