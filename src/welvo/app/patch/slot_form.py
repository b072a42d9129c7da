"""A slot in the panel of Patch: what is on it, the free stretch around it, and the next gap behind it."""

from __future__ import annotations

from welvo.app.session import Selection, Session
from welvo.app.widgets.forms import Said, Subject, Together, Typed
from welvo.app.widgets.panels import FormPanel, Title
from welvo.rig.base import Refused
from welvo.rig.lookup import universes_in_order
from welvo.rig.notation import plural, say_place
from welvo.rig.readers import whole


def show_slot(panel: FormPanel, slot: tuple[str, int]) -> None:
    s = panel.session
    universe = s.rig.universes[slot[0]]
    here = s.index.at(*slot)
    on_it = ", ".join(s.index.call(x.key) for x in here) or "free"
    panel.body.addWidget(Title(say_place(universe.number, slot[1]), on_it))
    stretch = next(((a, b) for a, b in s.index.free_stretches(slot[0]) if a <= slot[1] <= b), None)
    if stretch is None:
        if not here:
            kept = any(a <= slot[1] <= b for a, b in universe.reserve)
            panel.words("declared as reserve" if kept else s.index.limit(slot[0]).why or "behind the last slot used")
        return
    a, b = stretch
    room = b - a + 1
    fitting = []
    for p in list(s.rig.profiles.values())[:40]:
        mode = next(iter(p.modes.values()))
        if len(mode.breaks) == 1 and 0 < mode.footprint <= room:
            fitting.append(f"{room // mode.footprint} × {p.name}")
    words = f"Free from {say_place(universe.number, a)} to {b:03d}: {plural(room, 'slot')}."
    panel.words(words + (f" Room for {', '.join(fitting[:4])}." if fitting else ""), quiet=False)

    def go(typed: str) -> None:
        found = next_gap(s, slot, whole(typed, 1, 512))
        if found is None:
            raise Refused(f"No gap of {typed.strip()} slots is free behind here.")
        s.select(Selection("slot", (), slot=found))

    gap = Typed(
        "Next gap of",
        "The next gap of at least so many slots behind here, in this or a later universe. Enter goes there.",
        width=64,
        placeholder=str(room),
        shown=lambda _: "",
        take=go,
    )
    panel.new_form(Subject(lambda: slot, lambda *_, **__: None)).add(Together(gap.label, (gap, Said("slots"), None)))


def next_gap(session: Session, slot: tuple[str, int], width: int) -> tuple[str, int] | None:
    """The next free stretch of at least `width` slots that begins behind a slot."""
    order = universes_in_order(session.rig)
    for uid in order[order.index(slot[0]) :]:
        for a, b in session.index.free_stretches(uid):
            if b - a + 1 >= width and (uid != slot[0] or a > slot[1]):
                return uid, a
    return None
