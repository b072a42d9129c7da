"""The form of one segment: what is attached here, how it is counted, every number it has, its power."""

from __future__ import annotations

import re
from functools import partial

from PySide6.QtWidgets import QVBoxLayout

from welvo.app.runs.common import INSTEAD, Here, own_start, say_what_it_is
from welvo.app.runs.element_face import ElementFace, spots_of_element
from welvo.app.runs.line_form import show_bridge, show_converter, show_line
from welvo.app.runs.order_rows import OrderRows
from welvo.app.widgets.face_editor import FaceEditor
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.foreseeing import edit_button
from welvo.app.widgets.forms import (
    CaptionBeside,
    Form,
    Row,
    Subject,
    Ticked,
    Together,
    Typed,
    ValueChoice,
)
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.panels import Rows, Title
from welvo.formats.models import shipped_pixels
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig, join_changes
from welvo.rig.notation import say_count
from welvo.rig.patched import Element
from welvo.rig.profile import Break, Channel, Mode
from welvo.rig.readers import Number, Order, Percent, TextReader
from welvo.rig.refs import SegmentRef
from welvo.rig.runs import PixelType, Segment
from welvo.rig.tints import tint_of
from welvo.runs.along import piece_name
from welvo.runs.bridge import pixels_worth
from welvo.runs.cable import Piece, PortStream
from welvo.runs.edits import (
    change_many,
    fix_addresses,
    follow_cable,
    set_pixel_type,
    set_pixels,
    take_down,
)
from welvo.runs.orders import Orders, orders_of
from welvo.runs.power import joints_of_port, stretches_of_port

MOST_BY_HAND = 10_000
"""Pixels up to which an element can be arranged by hand."""

NULL = Typed(
    "Count",
    "How many pixels of the cable the sender knows nothing of. They lengthen the cable, not the stream.",
    "count",
    width=84,
)
ELEMENT_NAME = Typed(
    "Name",
    "What the element is called; its pixels are NAME/1, NAME/2 and so on.",
    "name",
    TextReader("It needs a name; its pixels are called by it."),
)
BLOCK = Typed(
    "Slots",
    "How many slots the block has. What comes behind it on its cable moves.",
    "slots",
    Number(Element, "slots", least=1),
    width=84,
)
PIXELS = Together(
    "Pixels",
    (
        Typed(
            "Pixels",
            "How many pixels the element has. What comes behind it on its cable moves.",
            "pixels",
            Number(Element, "pixels", least=1),
            width=84,
        ),
        Typed(
            "Sender order",
            "In which order the sender sends the components of one pixel, such as RGB or GRBW. The controller takes "
            "them to be straight (RGB), whatever they are; so set another order in one place only.",
            "order",
            Order(),
            width=64,
            words="order",
        ),
        None,
    ),
)
LIES = (
    Together(
        "Folded every",
        (
            Typed(
                "Folded every",
                "After how many pixels the string really turns back; 0: it does not. Its pixels are numbered as if it "
                "never did.",
                "fold",
                width=84,
                words="fold",
            ),
            CaptionBeside("pixels"),
            None,
        ),
    ),
    ValueChoice(
        "Sorted out by",
        "Who puts folded pixels in order: the controller, or the sender's own map. It must be one of them, never both.",
        "unfolds",
        (("box", "the controller"), ("sender", "the sender")),
        words="who sorts the fold out",
    ),
)
ALL_LISTED = " Ctrl+Enter gives it to all listed."
CONTROLLER = (
    Together(
        "Set to fold",
        (
            Typed(
                "Set to fold",
                "After how many LEDs the controller turns the order round; 0 is no fold. Set it in one place only."
                + ALL_LISTED,
                "fold",
                width=84,
                words="fold",
                to_all=True,
            ),
            CaptionBeside("LEDs"),
            None,
        ),
    ),
    Ticked("Reversed", "The data comes in at the far end: the controller counts from there.", "reverse"),
    Typed(
        "Group by",
        "How many LEDs show one pixel's colour. Grouping shortens the stream, not the cable." + ALL_LISTED,
        "group",
        width=84,
        words="grouping",
        to_all=True,
    ),
    Typed(
        "Control. order",
        "The colour order that the controller is set to, as its own page says it; empty: straight. It moves components "
        "to other places, whatever they are: set it at one end only. The rows below show what comes out." + ALL_LISTED,
        "order",
        Order(empty=True),
        width=84,
        placeholder="straight",
        words="order",
        name="Controller order",
        to_all=True,
    ),
    Together(
        "Brightness",
        (
            Typed(
                "Brightness",
                "Brightness of this segment in per cent, one factor of the product. Behind a bridge all of them must "
                "be 100.",
                "brightness",
                Percent(),
                width=64,
            ),
            Typed(
                "Gamma",
                "The gamma curve of this segment; 1 is none. Behind a bridge it must be 1.",
                "gamma",
                width=48,
            ),
            None,
        ),
    ),
    INSTEAD,
)
CABLE = (
    Together(
        "Cable",
        (
            Typed(
                "Cable",
                "Metres of cable before this segment. Length and cross-section decide how much voltage is lost.",
                "length",
                Number(Segment, "length", "m", empty=0.0),
                width=64,
                words="cable length",
            ),
            Typed(
                "Cross-section",
                "Cross-section of each supply conductor of the cable before it, in mm². 0: not known, no loss is "
                "worked out.",
                "area",
                Number(Segment, "area", "mm²", empty=0.0),
                width=64,
            ),
            None,
        ),
    ),
    Typed(
        "Data in",
        "Which end the data comes in at, in your words: left, bottom, at the door. Nothing depends on it.",
        "data_in",
    ),
)
PLACED = {
    "run": "address: from the cable",
    "typed": "address: typed",
    "anchored": "address: behind another",
    "none": "address: none yet",
}


def as_mode(element: Element) -> Mode:
    """An element as a mode of plain pixels, for the editor of faces."""
    k = len(element.order)
    channels = tuple(Channel(function="ColorAdd_R", slots=(p * k + 1,), pixel=p + 1) for p in range(element.pixels))
    return Mode(
        name=element.name,
        breaks=(Break(slots=element.slots_needed),),
        channels=channels,
        spots=spots_of_element(element),
    )


def show_segment_form(here: Here) -> None:
    """All of one segment, by its kind."""
    panel, kind = here.panel, here.segment.kind
    panel.shown(lambda into: _head_of_form(here, into))
    if kind == "pixels":
        _pixel_fields(here)
    elif kind == "null":
        panel.new_form(here.subject, Segment).add(NULL)
        say_what_it_is(here)
    elif kind == "extension":
        say_what_it_is(here)
    elif kind == "bridge":
        show_bridge(here)
    elif kind == "lamps":
        show_converter(here)
    else:
        show_line(here)
    if kind != "line":
        _cable_fields(here)
    off = edit_button(
        here.session,
        "Detach",
        lambda: here.session.make_edit(take_down, here.device_id, here.at.label, [here.at.n]),
        "Takes the segment off the cable; what followed it there has no address then. Undo brings it back.   Del",
    )
    panel.body.addLayout(flow_of_widgets(None, off))


def _head_of_form(here: Here, into: QVBoxLayout) -> None:
    rig, one, piece = here.session.rig, here.segment, here.piece
    name = piece_name(rig, piece[1]) if piece else one.name or "DMX line"
    into.addWidget(Title(name, "", tint_of(rig, one.element) if one.element else None))
    into.addWidget(make_label(_say_what_it_is(here, one, piece), 11, quiet=True, wrap=True))


def _say_what_it_is(here: Here, one: Segment, piece: tuple[PortStream, Piece] | None) -> str:
    where = f"{here.session.rig.devices[here.device_id].name}, port {here.at.label}, place {here.at.n + 1}"
    if piece is None:
        return f"{say_count(len(one.fixtures), 'lamp')} on {where}"
    p = piece[1]
    if one.kind == "bridge":
        return f"{where} · {one.width} slots, {say_count(pixels_worth(p), 'pixel')}' worth of the port"
    if one.kind == "lamps":
        return f"{where} · {say_count(p.pixels, 'lamp')}, one pixel each"
    if one.kind in ("null", "extension"):
        return f"{where} · takes no slots of the stream"
    more = f" as {say_count(p.pixels, 'pixel')}" if one.group > 1 else ""
    return f"{where} · {say_count(p.leds or p.pixels, 'LED')}{more} × {p.k} = {say_count(p.slots, 'slot')}"


# ---- pixels


def _pixel_fields(here: Here) -> None:
    panel, rig = here.panel, here.session.rig
    element = rig.elements.get(here.segment.element)
    own = panel.new_form(_element_subject(here), Element)
    if element is not None:
        own.add(ELEMENT_NAME, BLOCK if element.kind == "block" else PIXELS)
    panel.new_form(here.subject, Segment).add(_part_field(here))
    if element is not None:
        _face_of_element(here, element)
    say_what_it_is(here)
    panel.rule()
    if element is not None and element.kind != "block":
        panel.new_form(_element_subject(here), Element).add(*LIES)
    panel.new_form(here.subject, Segment, partial(_to_all, here)).add(*CONTROLLER, own_start(here))
    if element is not None and element.kind != "block":
        rows = OrderRows()
        panel.refreshers.append(lambda: rows.show_orders(_orders_here(here)))
        panel.body.addWidget(rows)
    if element is not None:
        _kind_and_address(here, panel.new_form(_element_subject(here), Element))


def _orders_here(here: Here) -> Orders | None:
    return orders_of(here.session.rig, here.device_id, here.piece[1]) if here.piece else None


def _element_subject(here: Here) -> Subject:
    def change(words: str, **fields: object) -> object:
        return here.session.make_edit(set_pixels, here.segment.element, words, **fields)

    return Subject(lambda: here.session.rig.elements.get(here.segment.element), change)


def _part_field(here: Here) -> Typed:
    def take_typed(typed: str) -> object:
        element = here.session.rig.elements.get(here.segment.element)
        most = (element.slots if element.kind == "block" else element.pixels) if element else 0
        return here.change("which pixels", **read_part(typed, most))

    return Typed(
        "Attached here",
        "Which pixels of it are attached here: all, or such as 1-120. The rest can be on another port.",
        width=110,
        shown=lambda one: _say_part(one, here.piece),
        take=take_typed,
    )


def _face_of_element(here: Here, element: Element) -> None:
    face = ElementFace(here.view.pick_pixel)

    def show() -> None:
        face.show_element(here.session.rig.elements.get(here.segment.element), here.segment, here.view.picked_pixel)

    here.panel.refreshers.append(show)
    here.panel.body.addWidget(face)
    if element.kind != "block" and element.pixels <= MOST_BY_HAND:
        arrange = make_button(
            "Arrange…",
            lambda: _arrange_pixels(here),
            "Places the pixels in rows, rings, lines or by hand, and renumbers them.",
        )
        here.panel.body.addLayout(flow_of_widgets(None, arrange))


def _arrange_pixels(here: Here) -> None:
    """The same editor that places the pixels of a lamp."""
    eid = here.segment.element
    dialog = FaceEditor(as_mode(here.session.rig.elements[eid]), None, here.panel)
    if dialog.exec():
        here.session.make_edit(set_pixels, eid, "places", spots=dialog.mode.spots, kind="free")


def _kind_and_address(here: Here, form: Form) -> None:
    s = here.session

    def take_typed(key: str) -> object:
        return s.make_edit(set_pixel_type, [here.segment.element], key, _offered_kinds(s.rig).get(key))

    form.add(
        ValueChoice(
            "Made of",
            "Which kind of pixels the string has. It says voltage, current, chip and the order its chips take.",
            options=lambda: [("", "not known"), *((k, t.name) for k, t in _offered_kinds(s.rig).items())],
            shown=lambda e: str(e.type),
            take=take_typed,
        )
    )
    placed = make_label("", 11, quiet=True)
    fix = make_button(
        "Keep it",
        lambda: s.make_edit(fix_addresses, s.index.cables_and_sums, [here.segment.element]),
        "Types the address it has now, so that it stays when the cable changes.",
    )
    follow = make_button(
        "Follow it", lambda: s.make_edit(follow_cable, here.segment.element), "Lets the cable decide its address."
    )

    def which() -> None:
        element = s.rig.elements.get(here.segment.element)
        origin = element.at.origin_of_place if element else "none"
        placed.setText(PLACED[origin] if element else "")
        fix.setVisible(origin == "run")
        follow.setVisible(origin != "run")

    here.panel.refreshers.append(which)
    here.panel.body.addLayout(flow_of_widgets(placed, None, fix, follow))


def _offered_kinds(rig: Rig) -> dict[str, PixelType]:
    """Kinds of pixels of the rig, and those that ship and are not in it yet."""
    have = {v.name for v in rig.pixel_types.values()}
    return {**rig.pixel_types, **{k: v for k, v in shipped_pixels().items() if v.name not in have}}


def _to_all(here: Here, one: Row, value: object) -> object:
    """Ctrl+Enter: give a value to all segments of a kind that the list shows."""
    places = here.view.segments_of_kind(here.segment.kind)
    return here.session.make_edit(change_many, places, one.words, **{one.key: value}) if places else None


# ---- cable and power


def _cable_fields(here: Here) -> None:
    panel, s = here.panel, here.session
    panel.rule()
    fed = ValueChoice(
        "Fed by",
        "Which supply feeds power in at this segment's data-in end. None: power comes along the cable from before.",
        "supply",
        lambda: [
            ("", "from before"),
            *((k, f"{v.name} · {v.volts:g} V {v.amps:g} A") for k, v in s.rig.supplies.items()),
        ],
    )
    panel.new_form(here.subject, Segment).add(fed, *CABLE)
    if here.segment.kind == "pixels":
        give = make_button(
            "Kind and supply to all listed",
            lambda: _as_this(here),
            "Gives the kind of pixels, the supply and the cable of this segment to all segments of pixels that "
            "the list "
            "shows.",
        )
        panel.body.addLayout(flow_of_widgets(None, give))
    panel.table("Power at full white", lambda: _power_rows(here))
    panel.table("Joint before it: function, wire here, wire there", lambda: _joint_rows(here))


def _as_this(here: Here) -> None:
    """Give kind, supply and cable of this segment to all listed ones."""
    places = here.view.segments_of_kind("pixels")
    if places and here.segment.element in here.session.rig.elements:
        here.session.make_edit(_give_places, here.segment, places)


def _give_places(rig: Rig, one: Segment, places: list[SegmentRef]) -> Edit:
    keys = dict.fromkeys(rig.devices[d].ports[p].run[n].element for d, p, n in places)
    kind = rig.elements[one.element].type
    new, cables = change_many(rig, places, "supply and cable", supply=one.supply, length=one.length, area=one.area)
    new, kinds = set_pixel_type(new, [k for k in keys if k in new.elements], kind, rig.pixel_types.get(kind))
    return new, join_changes(cables.label, cables, kinds)


def _power_rows(here: Here) -> Rows:
    cables, stream = here.session.index.cables_and_sums, here.stream
    found = next((x for x in stretches_of_port(cables, stream) if x.piece.n == here.at.n), None) if stream else None
    if found is None or not found.through:
        return ()
    ways = [
        ("Takes · passes its beginning", f"{found.amps:.2f} A · {found.through:.2f} A"),
        ("Voltage", f"{found.volts:.2f} V → {found.end:.2f} V"),
    ]
    if found.kind:
        ways.append(("Chips need", f"{found.kind.least:g} V" if found.kind.least else "not known"))
    if found.below:
        ways.append(("Feed in again", f"at LED {found.below} at the latest"))
    return tuple(ways)


def _joint_rows(here: Here) -> Rows:
    cables, stream = here.session.index.cables_and_sums, here.stream
    joint = next((j for j in joints_of_port(cables, stream) if j.n == here.at.n), None) if stream else None
    return tuple((function, f"{mine} → {theirs}") for function, mine, theirs in joint.wires) if joint else ()


def _say_part(s: Segment, piece: tuple[PortStream, Piece] | None) -> str:
    if s.first == 1 and not s.count:
        return "all"
    last = s.first + (s.count or (piece[1].leds or piece[1].pixels if piece else 1)) - 1
    return f"{s.first}-{last}"


def read_part(text: str, most: int) -> dict[str, int]:
    """`all`, or `1-120` of so many: the first pixel and how many; a count of 0 is all that follow."""
    if text.strip().lower() in ("all", ""):
        return {"first": 1, "count": 0}
    m = re.fullmatch(r"\s*(\d{1,6})\s*[-–]\s*(\d{1,6})\s*", text)
    if not m or not 1 <= int(m[1]) <= int(m[2]) <= max(1, most):
        raise Refused(f"“{text.strip()}” is no part of 1 to {most}. Write all, or such as 1-{most}.")
    return {"first": int(m[1]), "count": int(m[2]) - int(m[1]) + 1}
