"""A slot in the panel of Patch: what is on it, the free stretch around it, and the next gap behind it."""

from __future__ import annotations

from welvo.app.session import Selection, Session
from welvo.app.widgets.forms import CaptionBeside, Subject, Together, Typed
from welvo.app.widgets.panels import FormPanel, Title
from welvo.rig.base import Refused
from welvo.rig.lookup import name_of_item, universe_ids, universes_in_order
from welvo.rig.notation import say_count, say_place
from welvo.rig.readers import read_whole_number
from welvo.rig.refs import SegmentRef


def show_slot(panel: FormPanel, slot: tuple[str, int]) -> None:
    s = panel.session
    universe = s.rig.universes[slot[0]]
    here = s.index.spans_at_slot(*slot)
    on_it = ", ".join(s.index.word_for_taker(x.key) for x in here) or "free"
    panel.body.addWidget(Title(say_place(universe.number, slot[1]), on_it))
    stretch = next(((a, b) for a, b in s.index.free_stretches(slot[0]) if a <= slot[1] <= b), None)
    if stretch is None:
        if not here:
            kept = any(a <= slot[1] <= b for a, b in universe.reserve)
            panel.words(
                "declared as reserve" if kept else s.index.limit_of_universe(slot[0]).why or "behind the last slot used"
            )
        return
    a, b = stretch
    room = b - a + 1
    fitting = []
    for p in list(s.rig.profiles.values())[:40]:
        mode = next(iter(p.modes.values()))
        if len(mode.breaks) == 1 and 0 < mode.slots_needed <= room:
            fitting.append(f"{room // mode.slots_needed} × {p.name}")
    words = f"Free from {say_place(universe.number, a)} to {b:03d}: {say_count(room, 'slot')}."
    panel.words(words + (f" Room for {', '.join(fitting[:4])}." if fitting else ""), quiet=False)

    def go(typed: str) -> None:
        found = next_gap(s, slot, read_whole_number(typed, 1, 512))
        if found is None:
            raise Refused(f"No gap of {typed.strip()} slots is free behind here.")
        s.change_selection(Selection("slot", (), slot=found))

    gap = Typed(
        "Next gap of",
        "The next gap of at least so many slots behind here, in this or a later universe. Enter goes there.",
        width=64,
        placeholder=str(room),
        shown=lambda _: "",
        take=go,
        acts=True,
    )
    panel.new_form(Subject(lambda: slot, lambda *_, **__: None)).add(
        Together(gap.label, (gap, CaptionBeside("slots"), None))
    )


def show_segment_on_tape(panel: FormPanel, ref: SegmentRef) -> None:
    """A segment that takes slots of its own on the tapes: which they are, and whose they may be."""
    index = panel.session.index
    rig = index.rig
    piece = index.piece_of_taker(ref)
    if piece is None:
        panel.nothing()
        return
    panel.body.addWidget(Title(index.name_of_taker(ref), f"port {ref.port} of {rig.devices[ref.device].name}"))
    numbers = {n: rig.universes[uid] for n, uid in universe_ids(rig).items()}
    parts = [f"{say_place(p.universe, p.first)} to {p.last:03d}" for p in piece.parts if p.universe in numbers]
    panel.words(f"It takes {' and '.join(parts) or 'no slots yet'}, its lamps and what lies between them.", quiet=False)
    own = sum(x.last - x.first + 1 for x in index.spans_of(ref))
    lamps = [name_of_item(rig, k) for k in piece.segment.fixtures]
    panel.words(
        (f"Lamps on it: {', '.join(lamps[:8])}{' …' if len(lamps) > 8 else ''}. " if lamps else "No lamp is on it. ")
        + f"{say_count(own, 'slot')} of it {'drives' if own == 1 else 'drive'} none."
    )
    panel.words("Its place follows from the cable: it is moved, widened and filled in Runs.")


def next_gap(session: Session, slot: tuple[str, int], width: int) -> tuple[str, int] | None:
    """The next free stretch of at least `width` slots that begins behind a slot."""
    order = universes_in_order(session.rig)
    for uid in order[order.index(slot[0]) :]:
        for a, b in session.index.free_stretches(uid):
            if b - a + 1 >= width and (uid != slot[0] or a > slot[1]):
                return uid, a
    return None
