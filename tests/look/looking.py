"""Goes through the states of a window that stands beside the demo's simulated devices, in every size and look."""

from __future__ import annotations

import gc
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from PySide6.QtWidgets import QDialog

from tests.look.audit import Eyes, settle
from tests.look.states import LONG, dialogs, long_names, stations_and_selections
from welvo.app.computer import Computer
from welvo.app.main import Demo, destroy_window, make_window
from welvo.app.session import Selection, Session
from welvo.app.widgets.theme import THEME
from welvo.app.window import Window
from welvo.patience import PatienceLimit
from welvo.rig.document import Rig

SIZES = ((960, 540), (1120, 640), (1280, 800), (1920, 1080))
STEPS = (0, 2)
DEMO = "the demo"
THEMES = ("dark", "light")


class Look(NamedTuple):
    """A size of the window, of its text, and a theme."""

    size: tuple[int, int]
    step: int
    theme: str

    def __str__(self) -> str:
        return f"{self.size[0]}×{self.size[1]} +{self.step} {self.theme}"


EVERY_LOOK = tuple(Look(size, step, theme) for size in SIZES for step in STEPS for theme in THEMES)


@contextmanager
def shown_window(folder: Path) -> Iterator[Window]:
    """A window that has heard the demo's simulated devices."""
    demo = Demo()
    try:
        demo.stand_ins.wait_ready()
        window = make_window(Session(demo.rig), Computer(theme="dark", text_step=0), "127.0.0.1", folder)
        window.files.may_leave = lambda: True  # type: ignore[method-assign]
        window.show()
        window.network.start_network()
        limit = PatienceLimit(10)
        while limit.lasts() and len(window.session.observed.heard) < 4:
            settle()
        try:
            yield window
        finally:
            window.end_everything()
            destroy_window(window)
            THEME.name, THEME.step = "dark", 0
    finally:
        demo.stop()


def look_through(
    eyes: Eyes,
    window: Window,
    looks: Sequence[Look],
    rigs: dict[str, Rig],
    part: str = "",
    every: int = 1,
    first: int = 0,
) -> None:
    """Look at the states whose words have `part` in them, each `every`-th of them, in every look, over every rig."""
    n = first
    for rig_words, rig in rigs.items():
        window.session.replace_rig(rig, None)
        eyes.former_rig = LONG if rig_words == DEMO else ""
        for look in looks:
            window.looks.choose_look(look.theme, look.step)
            window.resize(*look.size)
            settle()
            states = stations_and_selections(window)
            for words, show in states.items():
                n += 1
                if part in words and n % every == 0:
                    show(window)
                    settle()
                    limit = PatienceLimit(10)
                    while words.startswith("Sheets") and window.sheets.is_making and limit.lasts():
                        settle()
                    window.patch.tapes.restyle()  # what it keeps as pictures is looked at as well
                    eyes.look_at(window, f"{words}; {rig_words}; {look}", rig, colours=look.size == (1280, 800))
            if window.drawer.isVisible():
                window.toggle_findings()
            window.session.change_selection(Selection())
            for words, make in dialogs(window).items():
                n += 1
                if part in f"dialog {words}" and n % every == 0:
                    dialog = make()
                    assert isinstance(dialog, QDialog)
                    dialog.show()
                    settle()
                    eyes.look_at(dialog, f"dialog {words}; {rig_words}; {look}", rig, colours=True)
                    dialog.close()
                    dialog.deleteLater()
                    settle()
            gc.collect()


def both_rigs(rig: Rig) -> dict[str, Rig]:
    """First one whose names can be told from all others: what is left over of it in the second one is seen."""
    return {"long names": long_names(rig), DEMO: rig}
