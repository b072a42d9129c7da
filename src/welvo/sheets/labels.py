"""Address labels: what a lamp is called, what is set on it, and the picture of its switches, on stock of any measures.

The edges have to lie where the knife of the maker was, so everything is placed in millimetres from the corner of the
paper and nothing flows.
"""

from __future__ import annotations

from functools import partial

from msgspec import Struct

from welvo.patch.set_on import set_on
from welvo.patch.table import rank_of_row
from welvo.rig.base import Refused
from welvo.rig.document import HANG_POINT
from welvo.rig.lookup import mode_of, profile_of
from welvo.rig.profile import AddressSetting
from welvo.rig.switches import dial_digits, say_switches, switch_positions, weights_of_switches
from welvo.sheets.blocks import FullPage
from welvo.sheets.lists import Material, attached_to
from welvo.sheets.paper import Choices, Stock
from welvo.sheets.pen import PT, Pen, width_of_line, wrap_lines
from welvo.survey.compare import say_start


class LabelText(Struct, frozen=True):
    """What stands on one label. `places` is where its breaks begin, `set_to` what is set on the lamp."""

    number: str
    name: str
    mode: str
    places: str
    set_to: tuple[tuple[int, str], ...]
    setting: AddressSetting | None
    where: str


def labels_of(m: Material, choices: Choices) -> list[LabelText]:
    """Labels for the fixtures that have an address, in the order that was chosen."""
    rig, index = m.rig, m.index
    keys = [k for k in (choices.items or rig.fixtures) if k in rig.fixtures and index.spans_of(k)]
    keys.sort(key=lambda k: rank_of_row(index, k, choices.sort or "number"))
    found = []
    for key in keys:
        f = rig.fixtures[key]
        profile, mode = profile_of(rig, f), mode_of(rig, f)
        setting = profile.address if profile else None
        on = [set_on(index, key, n) for n in range(len(mode.breaks) if mode else 1)]
        set_to = tuple((o.address, say_switches(setting, o.address)) for o in on if o.address)
        behind = next((o.behind for o in on if o.behind), "")
        where = ", ".join(w for w in (f.fields.get(HANG_POINT, ""), behind or attached_to(index, key)) if w)
        what = f"{profile.name if profile else '?'} · {mode.name if mode else '?'}"
        found.append(LabelText(str(f.number), f.name, what, say_start(index, key), set_to, setting, where))
    return found


def label_pages(m: Material, choices: Choices) -> list[FullPage]:
    """Whole pages of labels. Raises Refused for a first label that the stock does not have."""
    stock = choices.stock
    if not 1 <= choices.first_label <= stock.labels_per_sheet:
        raise Refused(
            f"A sheet of this stock has labels 1 to {stock.labels_per_sheet}; it cannot begin at {choices.first_label}."
        )
    made = labels_of(m, choices)
    slots: list[LabelText | None] = [None] * (choices.first_label - 1) + list(made)
    pages = [slots[n : n + stock.labels_per_sheet] for n in range(0, len(slots), stock.labels_per_sheet)]
    return [
        FullPage(*stock.page, paint=partial(_draw_label_page, labels=page, stock=stock, marks=choices.cut_marks))
        for page in pages
        if any(page)
    ]


def _draw_label_page(pen: Pen, labels: list[LabelText | None], stock: Stock, marks: bool) -> None:
    for n, label in enumerate(labels):
        x, y = stock.place_of_label(n)
        if label:
            draw_label(pen, x, y, stock.wide, stock.high, label)
        if marks:
            _cut_marks(pen, x, y, stock.wide, stock.high)


def _cut_marks(pen: Pen, x: float, y: float, wide: float, high: float) -> None:
    arm = min(3.0, wide / 8, high / 8)
    for cx, dx in ((x, 1), (x + wide, -1)):
        for cy, dy in ((y, 1), (y + high, -1)):
            pen.draw_line(cx, cy, cx + dx * arm, cy, 0.1)
            pen.draw_line(cx, cy, cx, cy + dy * arm, 0.1)


def draw_label(pen: Pen, x: float, y: float, wide: float, high: float, label: LabelText) -> None:
    """One label inside its edges: the number and what is set are as large as they can be."""
    inset = min(3.0, wide * 0.05, high * 0.1)
    left, top, room, tall = x + inset, y + inset, wide - 2 * inset, high - 2 * inset
    picture = bool(label.setting and label.setting.by in ("switches", "dials") and label.set_to)
    half = room * (0.42 if picture else 0.48)
    size = _largest_type(label.number, half, tall * 0.44)
    pen.draw_text(left, top + size * PT * 0.74, label.number, size, True)
    line = top + tall * 0.46
    small = max(5.5, min(10.0, tall * 0.15 / PT))
    step = small * PT * 1.2
    right, space = left + half + room * 0.03, room * 0.97 - half
    big = _largest_type(label.places, space, tall * 0.3)
    pen.draw_text(right, top + big * PT * 0.74, label.places, big, True, room=space)
    at = top + big * PT * 0.74 + small * PT * 1.25
    for address, how in label.set_to[:2]:
        said = [f"set to {address:03d}"] if picture else wrap_lines(how, space, small, most=2)
        for words in said:
            pen.draw_text(right, at, words, small, room=space)
            at += step
    lines = [w for w in (label.name, label.mode, label.where) if w]
    for n, words in enumerate(lines[: max(1, int((y + high - inset - line) / step))]):
        base = line + step * (n + 0.85)
        free = room if not picture and base - small * PT > at - step + 0.5 else half - 1
        pen.draw_text(left, base, words, small, n == 0 and bool(label.name), room=free)
    if picture and label.setting:
        below = min(y + high - inset - (at - small * PT * 0.8), 14.0)
        if below > 6:
            address = label.set_to[0][0]
            draw_setting(pen, right, y + high - inset - below, space, below, label.setting, address)


def _largest_type(words: str, room: float, tall: float) -> float:
    """The largest type at which a line fits a room of so many millimetres."""
    size = min(60.0, tall / PT / 0.74)
    wide = width_of_line(words, size, True)
    return size if wide <= room else max(6.0, size * room / wide)


def draw_setting(pen: Pen, x: float, y: float, wide: float, high: float, setting: AddressSetting, address: int) -> None:
    """The switches or dials of a lamp as they have to stand, with their numbers."""
    if setting.by == "dials":
        side = min(high, wide / 3.4)
        for n, digit in enumerate(dial_digits(setting, address)):
            left = x + n * side * 1.1
            pen.draw_frame(left, y, side, side, None, 0.0, 0.3)
            pen.draw_text(left + side / 2, y + side * 0.74, str(digit), side / PT * 0.8, True, "centre")
        return
    try:
        states = switch_positions(setting, address)
    except Refused:
        pen.draw_text(x, y + high / 2, f"cannot be set to {address}", 7, room=wide)
        return
    count = len(states)
    pitch = min((wide - 6) / count, high * 0.62)
    tall = min(high * 0.6, pitch * 1.9)
    size = min(6.5, pitch / PT * 0.62)
    top = y + size * PT * 1.1
    for n, (on, weight) in enumerate(zip(states, weights_of_switches(setting))):
        left = x + n * pitch
        pen.draw_frame(left + pitch * 0.12, top, pitch * 0.76, tall, 1.0, 0.0, 0.25)
        up = on == (setting.on == "up")
        knob = tall * 0.46
        pen.draw_frame(
            left + pitch * 0.2, top + (tall * 0.05 if up else tall * 0.49), pitch * 0.6, knob, 0.0 if on else 0.75, None
        )
        pen.draw_text(left + pitch / 2, top + tall + size * PT * 1.1, str(n + 1), size, on, "centre")
        pen.draw_text(left + pitch / 2, top - size * PT * 0.3, str(weight), size * 0.8, align="centre", grey=0.35)
    pen.draw_text(x + count * pitch + 0.6, top + (tall * 0.4 if setting.on == "up" else tall), "ON", size, True)
