"""The address plan at scale: checks, one move, the overlap sweep, laying out, painting the tapes."""

from __future__ import annotations

import gc
import statistics
import time
from collections.abc import Callable

import numpy as np
from msgspec.structs import replace

from welvo.checks.checker import Checker
from welvo.checks.foresee import Foreseer
from welvo.formats.chart import read_chart
from welvo.patch.index import Index
from welvo.patch.laying import Laying, lay_out_items, take_layout
from welvo.patch.repack import repack_universe
from welvo.patch.table import change_cells
from welvo.rig.document import Rig
from welvo.rig.edits import move_item
from welvo.rig.patched import Fixture, Place
from welvo.rig.profile import AddressSetting, Profile
from welvo.rig.wiring import Feed, Sender, Universe

Say = Callable[..., None]
MOST_UNIVERSES = 32_768
CHARTS = {
    "bar": "dimmer, shutter = 255, 9 x (red green blue white)",
    "spot": "pan 16, tilt 16, dimmer 16, shutter, red, green, blue, white, zoom, focus, gobo, iris",
    "flood": "red, green, blue, amber, uv, white, dimmer, shutter = 255", "cell": "12 x (red green blue)",
    "dim": "dimmer",
}  # fmt: skip
FOOTPRINTS = {"bar": 38, "spot": 14, "flood": 8, "cell": 36, "dim": 1}


def hall(count: int, patched: bool = True) -> Rig:
    """`count` fixtures of five kinds, a clash every hundred, over as many universes as Art-Net can number at most.

    About three fixtures stand in a universe up to 32 768 of them, so that universes grow with the rig.
    """
    profiles = {
        k: Profile(
            name=k,
            code=k[:3].upper(),
            tint=n,
            address=AddressSetting(by="switches"),
            modes={"m": read_chart(c).mode_of_chart("m")},
        )
        for n, (k, c) in enumerate(CHARTS.items())
    }
    kinds = list(CHARTS)
    universes_wanted = min(MOST_UNIVERSES, max(1, count // 3))
    universes = {f"u{n}": Universe(number=n + 1) for n in range(universes_wanted)}
    fixtures: dict[str, Fixture] = {}
    at, before = 1, -1
    for n in range(count):
        here = n * universes_wanted // count
        at = at if here == before else 1
        kind = kinds[n % 5]
        start = at - 5 if n % 100 == 98 and at > 5 else at
        before = here
        place = Place(universe=f"u{here}", address=start)
        fixtures[f"f{n}"] = Fixture(
            number=n + 1, name=f"{kind} {n}", profile=kind, mode="m", at=(place,) if patched else ()
        )
        at = start + FOOTPRINTS[kind] + 4
    feeds = {f"w{n}": Feed(universe=u, sender="s", wire=v.number) for n, (u, v) in enumerate(universes.items())}
    return Rig(
        name="hall",
        profiles=profiles,
        universes=universes,
        fixtures=fixtures,
        feeds=feeds,
        senders={"s": Sender(name="Bench", kind="bench")},
    )


def quickest(run: Callable[[], object], times: int) -> float:
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        run()
        found.append(1000 * (time.perf_counter() - begun))
    return min(found)


def plain_pass(rig: Rig) -> dict[str, dict[str, tuple[str, str, int, int]]]:
    """What any index has to do at least: one span a fixture, kept by universe. Memory sets its growth."""
    found: dict[str, dict[str, tuple[str, str, int, int]]] = {}
    for key, f in rig.fixtures.items():
        place = f.at[0]
        slots = rig.profiles[f.profile].modes[f.mode].breaks[0].slots
        found.setdefault(place.universe, {})[key] = (
            key,
            place.universe,
            place.address or 0,
            (place.address or 0) + slots - 1,
        )
    return found


def patching(say: Say) -> None:
    took: dict[int, float] = {}
    plainly: dict[int, float] = {}
    for count, times in ((1_000, 7), (10_000, 7), (100_000, 2)):
        rig = hall(count)
        gc.collect()
        gc.freeze()  # as the program does once it has read a rig
        took[count] = quickest(lambda: Checker(Index(rig)).report_findings, times)  # noqa: B023
        plainly[count] = quickest(lambda: plain_pass(rig), times)  # noqa: B023
        goal = "under 150 ms" if count == 10_000 else ""
        words = f"resolve + all checks, {count:,} fixtures, {len(rig.universes):,} universes".replace(",", " ")
        say(words, f"{took[count]:.1f} ms", goal, took[count] < 150)
        index = Index(rig)
        starts = index.uni[: index._used].astype(np.int64) * 1024 + index.first[: index._used]
        sweep, plain = quickest(index.universes_with_overlaps, 30), quickest(lambda: np.sort(starts), 30)  # noqa: B023
        say(
            f"    overlap check / plain sort of the same {len(starts)} spans",
            f"{sweep / plain:.1f} ({sweep:.2f} ms)",
            "at most 5",
            sweep <= 5 * plain,
        )
        say(f"    universes with a clash among {count}", str(len(index.universes_with_overlaps())))
    ratio, bare_ratio = took[100_000] / took[10_000], plainly[100_000] / plainly[10_000]
    say("    100 000 against 10 000", f"{ratio:.1f} times")
    say("    the same for one plain pass that makes as many spans", f"{bare_ratio:.1f} times")
    say(
        "    growth beyond that of the plain pass",
        f"{ratio / bare_ratio:.2f}",
        "at most 1.5",
        ratio <= 1.5 * bare_ratio,
    )

    rig = hall(10_000)
    index, moves = Index(rig), []
    checker = Checker(index)
    for n in range(60):
        begun = time.perf_counter()
        rig, change = move_item(rig, f"f{n * 31}", 0, f"u{n * 7}", 200 + n)
        checker.follow_edit(change, index.follow_change(rig, change))
        _ = checker.report_findings
        moves.append(1000 * (time.perf_counter() - begun))
    say("one move at 10 000, edit + index + checks, median of 60", f"{statistics.median(moves):.1f} ms")

    _foreseeing(say)
    bare = hall(10_000, patched=False)
    empty = Index(bare)
    keys = [(k, 0) for k in bare.fixtures]
    for words, laying in (
        ("packed", Laying()), ("spacing 40, by number", Laying(pattern="spacing", by=40, order="number")),
        ("groups, headroom 12", Laying(headroom=12, pattern="round", by=5, order="name")),
    ):  # fmt: skip
        laid = quickest(lambda: take_layout(bare, lay_out_items(empty, keys, laying)), 3)  # noqa: B023
        say(f"10 000 fixtures laid out and edited in, {words}", f"{laid:.0f} ms", "under 1 000 ms", laid < 1000)
    crowded = replace(
        bare,
        fixtures={
            f"f{n}": replace(bare.fixtures[f"f{n}"], at=(Place(universe="u0", address=1 + n * 40),)) for n in range(12)
        },
    )
    packed = quickest(lambda: repack_universe(Index(crowded), "u0"), 3)
    say("a universe of 12 things of five widths packed anew", f"{packed:.0f} ms")


def _foreseeing(say: Say) -> None:
    """What a typed key would do, from the edit to the words of the strip."""
    rig = hall(10_000)
    gc.collect()
    gc.freeze()
    now, foreseer, took = Checker(Index(rig)), Foreseer(), []
    _ = now.report_findings
    for n in range(21):
        edit = move_item(rig, "f5000", 0, "u33", 300 + n)
        begun = time.perf_counter()
        _ = foreseer.foresee(now, edit).strip
        took.append(1000 * (time.perf_counter() - begun))
    one = statistics.median(took[1:])
    say("a key typed into one address at 10 000: what it would do", f"{one:.1f} ms", "under 16 ms", one < 16)
    say("    the first of them, which builds its own index", f"{took[0]:.0f} ms")
    edit = change_cells(Index(rig), list(rig.fixtures), "first", "+1")
    every = quickest(lambda: foreseer.foresee(now, edit, findings=False).strip, 5)
    say("a key typed for all 10 000: the same", f"{every:.0f} ms", "under 100 ms", every < 100)
    gc.unfreeze()


def tapes(say: Say) -> None:
    from PySide6.QtWidgets import QApplication

    from welvo.app.patch.tapes import Tapes
    from welvo.app.session import Session

    app = QApplication.instance() or QApplication(["bench"])
    rig = hall(3_000)
    rig = replace(rig, universes={f"u{n}": Universe(number=n + 1) for n in range(1000)})
    widget = Tapes(Session(rig))
    widget.resize(908, 430)
    widget.show()
    app.processEvents()
    for level in ("Field", "Fit", "Block", "Slot"):
        widget.set_level(level)
        app.processEvents()
        bar, took = widget.verticalScrollBar(), []
        for n in range(15):
            widget._cache.pop(f"u{n}", None)
            widget._fresh = {f"u{n}"}
            begun = time.perf_counter()
            widget.viewport().repaint()
            took.append(1000 * (time.perf_counter() - begun))
        say(
            f"tapes at {level}, 1 000 universes, one row changed",
            f"{statistics.median(took):.1f} ms",
            "under 8 ms",
            statistics.median(took) < 8,
        )
        took = []
        for n in range(15):
            bar.setValue(min(bar.maximum(), 400 + 26 * n))
            begun = time.perf_counter()
            widget.viewport().repaint()
            took.append(1000 * (time.perf_counter() - begun))
        say("    the same, scrolling by one row", f"{statistics.median(took):.1f} ms")
    session = Session(hall(10_000))
    widget = Tapes(session)
    widget.resize(908, 430)
    widget.show()
    for level in ("Field", "Fit", "Slot"):
        widget.set_level(level)
        session.select_items(["f100"])
        app.processEvents()
        took = []
        for n in range(31):
            begun = time.perf_counter()
            session.make_edit(move_item, "f100", 0, "u33", 300 + n % 7)
            widget.viewport().repaint()
            took.append(1000 * (time.perf_counter() - begun))
        say(
            f"one move at 10 000: edit, checks, tapes at {level} painted",
            f"{statistics.median(took):.1f} ms",
            "under 16 ms",
            statistics.median(took) < 16,
        )
