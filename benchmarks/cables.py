"""Runs at scale: a 32-port controller with 100,000 pixels. Sums, an insertion, and what the riser and the opened cable
paint."""

from __future__ import annotations

import os
import statistics
import sys
import time
from collections.abc import Callable

from msgspec.structs import replace

from welvo.checks.checker import Checker
from welvo.checks.foresee import Foreseer
from welvo.formats.models import shipped_models
from welvo.patch.index import Index
from welvo.rig.document import Rig
from welvo.rig.patched import Element, Place
from welvo.rig.runs import Segment
from welvo.rig.wiring import Device, Feed, Port, Sender, Universe
from welvo.runs.cable import Cables
from welvo.runs.edits import attach_segments, insert_pixels
from welvo.runs.pixels import device_sums, pixel_table

Say = Callable[..., None]
Best = Callable[..., float]
PORTS, RIBBONS, PIXELS = 32, 25, 125


def hall_of_pixels(follows: str = "universe") -> Rig:
    """32 ports × 25 ribbons × 125 RGB pixels = 100,000, every second ribbon reversed, folded or grouped here and
    there."""
    model = shipped_models()["penstock-32"]
    elements: dict[str, Element] = {}
    ports: dict[str, Port] = {}
    for n, label in enumerate(model.ports):
        run = []
        for m in range(RIBBONS):
            key = f"e{n * RIBBONS + m}"
            elements[key] = Element(name=f"ribbon {n}.{m}", pixels=PIXELS, at=Place(from_run=True), tint=m % 8)
            run.append(Segment(kind="pixels", element=key, reverse=m % 2 == 1, fold=25 if m % 5 == 4 else 0))
        ports[label] = Port(run=tuple(run), feed="w1" if n == 0 else "", follows="" if n == 0 else follows)  # type: ignore[arg-type]
    needed = PORTS * 19 + 4
    universes = {f"u{n}": Universe(number=n) for n in range(1, needed)}
    feeds = {f"w{n}": Feed(universe=f"u{n}", sender="s", wire=n) for n in range(1, needed)}
    device = Device(name="BIG", model="m", ports=ports, packs="dense")
    return Rig(
        name="pixels", universes=universes, feeds=feeds, senders={"s": Sender(name="Bench", kind="bench")},
        elements=elements, device_models={"m": model}, devices={"d": device},
    )  # fmt: skip


def all_sums(rig: Rig) -> int:
    """Every stream of a rig and every pixel's slot and universe.address, from nothing."""
    cables = Cables(rig)
    return sum(len(pixel_table(s).slot) for s in cables.streams.values()) + len(device_sums(cables, "d"))


def cables(say: Say, best: Best) -> None:
    rig = hall_of_pixels()
    assert all_sums(rig) == PORTS * RIBBONS * PIXELS + PORTS
    took = best(lambda: all_sums(rig))
    say("all sums of 32 ports and 100 000 pixels", f"{took:.1f} ms", "under 100 ms", took < 100)
    took = best(lambda: Checker(Index(rig)), 2)
    say("    index + check of the same", f"{took:.0f} ms")
    now, foreseer = Checker(Index(rig)), Foreseer()
    first = next(iter(rig.devices["d"].ports))
    keys = [insert_pixels(rig, "d", first, 0, n) for n in range(10, 17)]  # each key another number
    foreseer.foresee(now, keys[0])
    turn = iter(keys * 3)
    took = best(lambda: foreseer.foresee(now, next(turn)).strip, 7)
    say("ten pixels more on the first port: what that would do", f"{took:.1f} ms", "under 50 ms", took < 50)
    _painted(say, best)


def _painted(say: Say, best: Best) -> None:
    """In the real window, offscreen: insert ten pixels on one port, see it summed and painted; paint the riser anew."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    import tempfile
    from pathlib import Path

    from PySide6.QtCore import QPoint
    from PySide6.QtGui import QPixmap, QRegion
    from PySide6.QtWidgets import QApplication

    from welvo.app.computer import Computer
    from welvo.app.main import make_window
    from welvo.app.session import Session

    app = QApplication.instance() or QApplication(sys.argv[:1])
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_CONFIG_HOME"] = os.environ["XDG_DATA_HOME"] = folder
        for words, follows in (
            ("a universe each", "universe"),
            ("all packed", "packed"),
        ):
            rig = hall_of_pixels(follows)
            rig = replace(rig, elements={**rig.elements, "x": Element(name="spare", pixels=10)})
            window = make_window(Session(rig), Computer(width=1280, height=800), "127.0.0.1", Path(folder))
            window.show()
            window.show_station("Runs")
            window.runs.pick_place("A2", 3, 5)
            app.processEvents()
            runs = window.runs

            def insert() -> tuple[float, float]:
                """(summed anew and the cables painted, the whole edit with findings, list, panel and the window)."""
                session = window.session  # noqa: B023
                new, change = attach_segments(session.rig, "d", "A1", [Segment(kind="pixels", element="x")], 3)
                index = Index(session.rig)
                begun = time.perf_counter()
                index.follow_change(new, change)
                summed = 1000 * (time.perf_counter() - begun)
                begun = time.perf_counter()
                session.take_over_edit((new, change))
                runs.riser.repaint()  # noqa: B023
                whole = 1000 * (time.perf_counter() - begun)
                picture = QPixmap(runs.riser.size())  # noqa: B023
                begun = time.perf_counter()
                runs.riser.restyle()  # noqa: B023
                runs.riser.render(picture)  # noqa: B023
                runs.opened.render(picture, QPoint(), QRegion(runs.opened.visibleRegion().boundingRect()))  # noqa: B023
                painted = 1000 * (time.perf_counter() - begun)
                session.undo_edit()
                app.processEvents()
                return summed + painted, whole

            insert()
            found = [insert() for _ in range(7)]
            took, whole = (statistics.median(x) for x in zip(*found))
            goal = "under 30 ms" if follows == "universe" else ""
            say(f"ten pixels inserted, summed, painted; ports {words}", f"{took:.1f} ms", goal, took < 30)
            say("    with findings, lists, panel and the whole window", f"{whole:.1f} ms")

            def paint() -> None:
                runs.riser.restyle()  # noqa: B023
                runs.riser.repaint()  # noqa: B023

            if follows == "universe":
                took = best(paint, 9)
                say("the riser painted anew, 32 ports", f"{took:.1f} ms", "under 10 ms", took < 10)
            window.files.may_leave = lambda: True  # type: ignore[method-assign]
            window.end_everything()
            window.close()
