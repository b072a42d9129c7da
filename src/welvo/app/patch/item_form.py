"""Fixtures and elements in the panel of Patch: one of them, or several at once."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from functools import partial

from msgspec import Struct
from PySide6.QtWidgets import QWidget

from welvo.app.patch.switch_form import show_switches
from welvo.app.session import Session
from welvo.app.widgets.fields import Field
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.foreseeing import edit_button
from welvo.app.widgets.forms import CaptionBeside, Form, Subject, Ticked, Together, Typed, ValueChoice, field_row
from welvo.app.widgets.painting import column_of_widgets, make_button, make_label
from welvo.app.widgets.panels import FormPanel, Title
from welvo.patch import table
from welvo.patch.adding import patch_series
from welvo.patch.arrange import swap_items
from welvo.patch.mode_edits import change_mode
from welvo.patch.removing import remove_items
from welvo.rig import edits
from welvo.rig.lookup import mode_of, name_of_item, profile_of
from welvo.rig.notation import say_count, say_place
from welvo.rig.patched import Element, Fixture
from welvo.rig.readers import Number, Order, TextReader
from welvo.rig.tints import kind_name, tint_of
from welvo.runs.edits import set_pixels

ADDRESS_HELP = (
    "Where it starts: 3.145, “free” for the next free place, +8, “after 207 + 4”, or empty. "
    "The lamp must be set to the same."
)
FIXTURE_ROWS = (
    Typed("Number", "The crew's name for this lamp. Two lamps of one number are never both meant.", "number", width=84),
    Typed("Name", "What this lamp is or where it hangs, in words. Free text; nothing depends on it.", "name"),
)
ELEMENT_NAME = Typed(
    "Name",
    "What it is called; its pixels are NAME/1, NAME/2 and so on.",
    "name",
    TextReader("It needs a name; its pixels are called by it."),
)
BLOCK_ROWS = (
    Typed(
        "Slots",
        "How many slots it takes, 1 to 512 per universe.",
        "slots",
        Number(Element, "slots", least=1),
        width=84,
    ),
)
PIXEL_ROWS = (
    Typed(
        "Pixels",
        "How many pixels it has, up to 100 000. What comes behind it on a cable moves.",
        "pixels",
        Number(Element, "pixels", least=1),
        width=84,
    ),
    Typed(
        "Colour order",
        "Components of one pixel in sending order, such as RGB or GRBW. Set it in one place only, here or in the "
        "device.",
        "order",
        Order(),
        width=84,
    ),
    Ticked(
        "Keep pixels whole",
        "Never cut a pixel at a universe's end; some receivers cannot take cut ones. Costs a few slots each universe.",
        "whole",
    ),
)
MANY_ADDRESS_HELP = (
    "Patches all of them in this order: 3.1 packed, 3.1 +8 every 8 slots, 3.1 gap 2, free; "
    "+8 moves each on, +1.0 a universe on."
)
MANY_NUMBER_HELP = "Numbers all of them in this order: 101+ counts up from 101, 101 +10 in tens, +8 adds 8 to each."
MANY_NAME_HELP = "Gives all of them this name; # becomes 1, 2, 3; ## 01, 02; #7 begins at 7; & is the number."


class Acts(Struct, frozen=True):
    """What the panel does beyond an edit: copies, another mode with what it would move, laying out."""

    copy: Callable[[list[str]], object]
    what_if: Callable[[list[str], str, str], object]
    lay_out: Callable[[], object]


def show_item(panel: FormPanel, one: list[str], acts: Acts) -> Field | None:
    """Fields of one fixture or element; gives the one of its (first) address.

    `one` is a list of its id alone. The panel may put another id of the same kind into it: then the same fields speak
    of that one, which is quicker than building them anew.
    """
    s = panel.session
    _head_of_form(panel, one)
    fixture = s.rig.fixtures.get(one[0])
    if fixture is None:
        return _element_fields(panel, one, acts)
    mode = mode_of(s.rig, fixture)

    def change(what: str, **fields: object) -> object:
        number = s.rig.fixtures[one[0]].number
        return s.make_edit(edits.set_fixtures, f"{what} of {number}", {one[0]: dict(fields)})

    form = panel.new_form(Subject(lambda: s.rig.fixtures.get(one[0]), change), Fixture)
    breaks = mode.breaks if mode else ()
    for b, part in enumerate(breaks):
        words = "Address" if len(breaks) == 1 else f"{part.name or f'break {b + 1}'}"[:12]
        _address_field(form, s, one, b, words)
    form.add(*FIXTURE_ROWS, _mode_choice(s, one, acts))
    _buttons_of_form(panel, one, acts)
    found = form.fields.get("Address") or next((f for f in form.fields.values() if isinstance(f, Field)), None)
    return found if isinstance(found, Field) and breaks else None


def _head_of_form(panel: FormPanel, one: list[str]) -> None:
    """The name line, and what it is."""
    s = panel.session
    title, what = Title(""), make_label("", 11, quiet=True, wrap=True)
    panel.body.addWidget(title)
    panel.body.addWidget(what)

    def say() -> None:
        f, e = s.rig.fixtures.get(one[0]), s.rig.elements.get(one[0])
        if f:
            profile, mode = profile_of(s.rig, f), mode_of(s.rig, f)
            maker = f"{profile.maker} {profile.name}".strip() if profile else "?"
            slots = say_count(mode.slots_needed if mode else 0, "slot")
            title.say(str(f.number), f.name, tint_of(s.rig, one[0]))
            what.setText(f"{maker} · mode “{mode.name if mode else '?'}” · {slots}")
        elif e:
            title.say(e.name, "", e.tint)
            what.setText(f"element · {kind_name(s.rig, one[0])} · {say_count(e.slots_needed, 'slot')}")

    panel.refreshers.append(say)


def _element_fields(panel: FormPanel, one: list[str], acts: Acts) -> Field | None:
    s = panel.session
    element = s.rig.elements[one[0]]
    form = panel.new_form(
        Subject(
            lambda: s.rig.elements.get(one[0]), lambda what, **fields: s.make_edit(set_pixels, one[0], what, **fields)
        ),
        Element,
    )
    _address_field(form, s, one, 0, "Address")
    form.add(ELEMENT_NAME, *(BLOCK_ROWS if element.kind == "block" else PIXEL_ROWS))
    _buttons_of_form(panel, one, acts)
    found = form.fields["Address"]
    return found if isinstance(found, Field) else None


def _address_field(form: Form, s: Session, one: list[str], break_no: int, words: str) -> None:
    """Where one break starts, and beside it where it ends."""

    def first(_: object) -> str:
        span = s.index.span_of_break(one[0], break_no)
        return say_place(s.rig.universes[span.universe].number, span.first) if span else ""

    def until(_: object) -> str:
        key = one[0]
        spans = [x for x in s.index.spans_of(key) if max(0, x.break_no) == break_no]
        if not spans:
            return "not patched"
        last = spans[-1]
        place = s.rig.fixtures[key].place_of_break(break_no) if key in s.rig.fixtures else s.rig.elements[key].at
        how = f"\nafter {name_of_item(s.rig, place.after)} + {place.gap}" if place.after else ""
        return f"to {say_place(s.rig.universes[last.universe].number, last.last)}{how}"

    field = Typed(words, ADDRESS_HELP, width=84, shown=first, take=lambda t: _patch_break(s, one[0], break_no, t))
    form.add(Together(words, (field, CaptionBeside(until))))


def _patch_break(s: Session, key: str, break_no: int, typed: str) -> None:
    """Take an address over, and say what moved along because it stood behind."""
    index = s.index
    text = typed.strip()
    behind = index.items_that_follow(key)
    before = {k: index.spans_of(k) for k in behind}
    if break_no == 0:
        s.make_edit(lambda _: table.change_first(index, [key], text.replace(",", ".")))
    elif not text:
        s.make_edit(table.unpatch_breaks, [(key, break_no)])
    else:
        s.make_edit(lambda _: patch_series(index, [(key, break_no)], text))
    moved = [k for k in behind if s.index.spans_of(k) != before[k]]
    if moved:
        names = ", ".join(name_of_item(s.rig, k) for k in moved[:6]) + (" …" if len(moved) > 6 else "")
        s.say(f"{names} stood behind {name_of_item(s.rig, key)} and moved along.")


def _mode_choice(s: Session, keys: list[str], acts: Acts) -> ValueChoice:
    """Another mode for fixtures of one profile; what it would hit is shown before it is done."""

    def pid() -> str:
        fixture = s.rig.fixtures.get(keys[0])
        return fixture.profile if fixture else ""

    def here() -> set[str]:
        return {s.rig.fixtures[k].mode for k in keys if k in s.rig.fixtures}

    def options() -> list[tuple[str, str]]:
        profile = s.rig.profiles.get(pid())
        found = [(k, f"{m.name} ({m.slots_needed})") for k, m in profile.modes.items()] if profile else []
        return found if len(here()) == 1 else [("", "several"), *found]

    return ValueChoice(
        "Mode",
        "Which mode the lamp stands in; shows first what it would hit. The lamp's own menu must say the same.",
        options=options,
        shown=lambda _: next(iter(here())) if len(here()) == 1 else "",
        take=lambda mode: acts.what_if(list(keys), pid(), mode) if mode else None,
        tried=lambda mode: s.make_edit(change_mode, list(keys), pid(), mode) if mode else None,
    )


def _reason_of_share(panel: FormPanel, keys: list[str]) -> None:
    """Why these use the same slots as others on purpose; there only while they do."""
    s = panel.session

    def share_id() -> str:
        return next((sid for sid, x in s.rig.shares.items() if not set(keys).isdisjoint(x.members)), "")

    row = QWidget()
    lines = column_of_widgets(spacing=2)
    form = panel.new_form(Subject(lambda: s.rig.shares.get(share_id()), lambda *_, **__: None))
    reason = form.widget_of_row(
        Typed(
            "Reason",
            "Why these use the same slots on purpose, for whoever reads it later. The finding says it too.",
            shown=lambda share: share.reason if share else "",
            take=lambda t: s.make_edit(edits.explain_share, share_id(), t),
        )
    )
    lines.addLayout(field_row("Reason", reason))
    row.setLayout(lines)
    panel.body.addWidget(row)
    panel.refreshers.append(lambda: row.setVisible(bool(share_id())))


def _buttons_of_form(panel: FormPanel, keys: list[str], acts: Acts) -> None:
    _reason_of_share(panel, keys)
    s = panel.session

    def all_locked(_: object) -> bool:
        rig, any_place = s.rig, False
        for k in keys:
            f, e = rig.fixtures.get(k), rig.elements.get(k)
            for p in f.at if f else (e.at,) if e else ():
                if not p.locked:
                    return False
                any_place = True
        return any_place

    lock = Ticked(
        "Locked",
        "A locked place is never moved by anything but your own hand, after unlocking.",
        shown=all_locked,
        take=lambda on: s.make_edit(edits.lock_items, list(keys), on),
    )
    made = make_button(
        "Duplicate…",
        lambda: acts.copy(list(keys)),
        "More of it, with the next free numbers and places, shown first.   Ctrl+Shift+D",
    )
    gone = edit_button(
        s,
        "Remove" if len(keys) == 1 else f"Remove {len(keys)}",
        lambda: s.make_edit(remove_items, list(keys)),
        "Out of the rig, its shares, groups and cable. Undo brings it back.",
    )
    form = panel.new_form(Subject(lambda: keys, lambda *_, **__: None))
    panel.body.addWidget(form.widget_of_row(lock))
    panel.body.addLayout(flow_of_widgets(None, made, gone))


def show_more(panel: FormPanel, one: list[str]) -> None:
    """What stands further down: switches, groups, own columns, remark."""
    s = panel.session
    fixture = s.rig.fixtures.get(one[0])
    if fixture:
        show_switches(panel, one)
    panel.rule()
    panel.words("More about it")
    columns = (
        ["groups", *(f"own:{c}" for c in s.rig.columns), "turns", "spot", "note"] if fixture else ["groups", "note"]
    )
    form = panel.new_form(Subject(lambda: one[0], lambda *_, **__: None))
    for column in columns:
        form.add(
            Typed(
                table.title_of_column(column),
                table.help_for(column),
                shown=partial(_cell_field, s, column),
                take=partial(_change_column, s, one, column),
            )
        )


def _cell_field(s: Session, column: str, key: str) -> str:
    return table.text_of_cell(s.index, key, column)


def _change_column(s: Session, keys: list[str], column: str, typed: str) -> object:
    return s.make_edit(lambda _: table.change_cells(s.index, list(keys), column, typed))


def show_many(panel: FormPanel, ids: list[str], acts: Acts) -> Field | None:
    """Several items: what is given to all of them at once; gives the field of their addresses."""
    s = panel.session
    rig = s.rig
    fixtures = [k for k in ids if k in rig.fixtures]
    kinds = Counter((f.profile, f.mode) for k in fixtures for f in (rig.fixtures[k],))
    modes = ((rig.profiles[p].modes.get(m), n) for (p, m), n in kinds.items() if p in rig.profiles)
    slots = sum(mode.slots_needed * n for mode, n in modes if mode)
    slots += sum(rig.elements[k].slots_needed for k in ids if k in rig.elements)
    names = ", ".join(name_of_item(rig, k) for k in ids[:12]) + (" …" if len(ids) > 12 else "")
    panel.body.addWidget(Title(say_count(len(ids), "item"), ""))
    panel.words(f"{names} · {say_count(slots, 'slot')}")

    def given(words: str, help_text: str, column: str, keys: list[str], placeholder: str) -> Typed:
        def take_typed(typed: str) -> object:
            return _change_column(s, keys, column, typed) if typed.strip() else None

        return Typed(words, help_text, placeholder=placeholder, shown=lambda _: "", take=take_typed, command=True)

    form = panel.new_form(Subject(lambda: ids, lambda *_, **__: None))
    form.add(given("Address", MANY_ADDRESS_HELP, "first", ids, "3.1 +8"))
    address = form.fields["Address"]
    lay = make_button(
        "Lay out…",
        acts.lay_out,
        "Gives them addresses by rules, shown on the tapes first.   Ctrl+Shift+L",
        primary=True,
    )
    panel.body.addLayout(flow_of_widgets(lay, None))
    if fixtures:
        form.add(
            given("Number", MANY_NUMBER_HELP, "number", fixtures, "101+"),
            given("Name", MANY_NAME_HELP, "name", fixtures, "Kelp #"),
        )
        if len({rig.fixtures[k].profile for k in fixtures}) == 1:
            form.add(_mode_choice(s, fixtures, acts))
    form.add(
        Typed(
            "Groups",
            "Puts all of them into these groups, and out of all others. Names with commas between.",
            shown=lambda _: _common_groups(s, ids),
            take=partial(_change_column, s, ids, "groups"),
        )
    )
    _buttons_of_form(panel, ids, acts)
    alike = len(fixtures) == len(ids) and len({(rig.fixtures[k].profile, rig.fixtures[k].mode) for k in ids}) == 1
    together = make_button(
        "Share" if alike else "Overlay",
        lambda: s.make_edit(edits.share_places if alike else edits.declare_overlay, ids),
        "Declares that these use the same slots on purpose: one start, one mode."
        if alike
        else "Declares that these lie over each other on purpose, one profile over another.",
    )
    swap = edit_button(
        s,
        "Swap places",
        lambda: s.make_edit(lambda _: swap_items(s.index, (ids[0], 0), (ids[1], 0))),
        "Each of the two starts where the other starts now.",
    )
    panel.body.addLayout(flow_of_widgets(None, together, *((swap,) if len(ids) == 2 else ())))
    if fixtures:
        form.add(
            *(
                given(table.title_of_column(c), table.help_for(c), c, fixtures, "C#")
                for c in (f"own:{x}" for x in rig.columns)
            )
        )
    return address if isinstance(address, Field) else None


def _common_groups(s: Session, ids: list[str]) -> str:
    """Groups that all of them are in."""
    wanted = set(ids)
    return ", ".join(g.name for g in s.rig.groups.values() if wanted <= set(g.members))
