"""Fields and numbers of one segment in Runs."""

from __future__ import annotations

import re
from collections.abc import Callable

from PySide6.QtWidgets import QVBoxLayout

from welvo.app.runs.common import number, share
from welvo.app.runs.device_form import BoxFields
from welvo.app.runs.element_face import ElementFace, spots_of
from welvo.app.runs.riser_drawing import At
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import button, clear, label, row
from welvo.app.widgets.panels import Title
from welvo.app.widgets.tints import tint_of
from welvo.patch.along import piece_name
from welvo.patch.cable import Piece, Stream
from welvo.patch.table import whole
from welvo.rig.base import Refused
from welvo.rig.colours import read_order
from welvo.rig.document import joined
from welvo.rig.notation import plural
from welvo.rig.patched import Element
from welvo.rig.profile import Break, Channel, Mode
from welvo.rig.refs import PortRef
from welvo.rig.runs import PixelType, Segment
from welvo.rig.wiring import Port
from welvo.runs.bridge import worth
from welvo.runs.edits import (
    change_many,
    change_segment,
    fix_addresses,
    follow_cable,
    set_pixel_type,
    set_pixels,
    take_down,
)  # fmt: skip
from welvo.runs.power import joints, stretches

MOST_BY_HAND = 10_000
"""Pixels up to which an element can be arranged by hand."""


def as_mode(element: Element) -> Mode:
    """An element as a mode of plain pixels, for the editor of faces."""
    k = len(element.order)
    channels = tuple(Channel(function="ColorAdd_R", slots=(p * k + 1,), pixel=p + 1) for p in range(element.pixels))
    return Mode(name=element.name, breaks=(Break(slots=element.footprint),), channels=channels, spots=spots_of(element))


class SegmentFields(BoxFields):
    """What hangs here, how it is counted, every number it has, its power."""

    # ---- one segment

    def _segment(self, did: str, at: At) -> None:
        s = self.session

        def now() -> Segment:
            run = s.rig.devices[did].ports.get(at.label, Port()).run if did in s.rig.devices else ()
            return run[at.n] if at.n < len(run) else Segment(kind="null")

        def change(**fields: object) -> object:
            return s.edit(change_segment, did, at.label, at.n, **fields)

        def piece() -> tuple[Stream, Piece] | None:
            stream = s.index.cables.streams.get(PortRef(did, at.label))
            return (stream, stream.pieces[at.n]) if stream and at.n < len(stream.pieces) else None

        title = QVBoxLayout()
        self.body.addLayout(title)

        def head() -> None:
            clear(title)
            here = piece()
            one = now()
            name = piece_name(s.rig, here[1]) if here else one.name or "DMX line"
            key = one.element
            title.addWidget(Title(name, "", tint_of(s.rig, key) if key else None))
            title.addWidget(label(self._what(did, at, one, here), 11, quiet=True, wrap=True))

        self.refreshers.append(head)
        kind = now().kind
        if kind == "pixels":
            self._pixel_fields(did, at, now, change, piece)
        elif kind == "null":
            self.field("Count", "How many pixels of the cable the sender knows nothing of. They lengthen the cable, not the stream.",
                       lambda: str(now().count), lambda t: change(count=whole(t, 1, 100_000)), narrow=84)  # fmt: skip
        elif kind == "bridge":
            self._bridge_fields(did, at, now, change, piece)
        elif kind == "lamps":
            self._lamp_fields(did, at, now, change, piece)
        elif kind == "line":
            self._line_fields(did, at, now, change)
        if kind in ("null", "extension", "line"):
            self._said(did, at, kind)
        if kind != "line":
            self._cable_fields(did, at, now, change, piece)
        self.body.addLayout(
            row(
                None,
                button(
                    "Take it down",
                    lambda: s.edit(take_down, did, at.label, [at.n]),
                    "Takes the segment off the cable; what followed it there has no address then. Undo brings it back.   Del",
                ),
            )
        )

    def _what(self, did: str, at: At, one: Segment, here: tuple[Stream, Piece] | None) -> str:
        where = f"{self.session.rig.devices[did].name}, port {at.label}, place {at.n + 1}"
        if here is None:
            return f"{plural(len(one.fixtures), 'lamp')} on {where}"
        p = here[1]
        if one.kind == "bridge":
            return f"{where} · {one.width} slots, {plural(worth(p), 'pixel')}' worth of the port"
        if one.kind == "lamps":
            return f"{where} · {plural(p.pixels, 'lamp')}, one pixel each"
        if one.kind in ("null", "extension"):
            return f"{where} · takes no slots of the stream"
        more = f" as {plural(p.pixels, 'pixel')}" if one.group > 1 else ""
        return f"{where} · {plural(p.leds or p.pixels, 'LED')}{more} × {p.k} = {plural(p.slots, 'slot')}"

    def _pixel_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], piece: Callable[[], tuple[Stream, Piece] | None]) -> None:  # fmt: skip
        s = self.session
        element = s.rig.elements.get(now().element)
        if element is not None:
            self._element_fields(now)
        self.field("Hang here", "Which pixels of the thing hang here: all, or such as 1-120. The rest can hang on another port.",
                   lambda: _say_part(now(), piece()), lambda t: change(**_read_part(t, self._most(now()))), narrow=110)  # fmt: skip
        if element is not None:
            face = ElementFace(lambda n: self._station.pick_pixel(n))
            self.refreshers.append(
                lambda: face.show_element(s.rig.elements.get(now().element), now(), self._station.pixel)
            )
            self.body.addWidget(face)
            if element.kind != "block" and element.pixels <= MOST_BY_HAND:
                arrange = button(
                    "Arrange…",
                    lambda: self._arrange(now().element),
                    "Places the pixels in rows, rings, lines or by hand, and renumbers them.",
                )
                self.body.addLayout(row(None, arrange))
        self._said(did, at, "pixels")
        self.rule()
        if element is not None and element.kind != "block":
            self._lie_fields(now)
        fold = self.field("Fold every", "After how many LEDs the string turns back and the controller turns the order round; 0 is no fold. Set it in one place only. Ctrl+Enter gives it to all listed.",
                   lambda: str(now().fold), lambda t: change(fold=whole(t, 0, 100_000)), narrow=64,
                   beside=self._tick("Reversed", "The data comes in at the far end: the controller counts from there.", lambda: now().reverse, lambda v: change(reverse=v)))  # fmt: skip
        fold.apply_to_all = lambda t: self._to_all(now().kind, "fold", fold=whole(t, 0, 100_000))
        group = self.field("Group by", "How many LEDs show one pixel's colour. Grouping shortens the stream, not the cable. Ctrl+Enter gives it to all listed.",
                   lambda: str(now().group), lambda t: change(group=whole(t, 1, 10_000)), narrow=84)  # fmt: skip
        group.apply_to_all = lambda t: self._to_all(now().kind, "grouping", group=whole(t, 1, 10_000))
        order = self.field("Gives order", "The order in which the controller gives the components out, such as GRB; empty is straight, as they are sent. Set it at one end only. Ctrl+Enter gives it to all listed.",
                   lambda: now().order, lambda t: change(order=read_order(t, empty=True)), narrow=84, placeholder="straight")  # fmt: skip
        order.apply_to_all = lambda t: self._to_all(now().kind, "order", order=read_order(t, empty=True))
        self._bright(now, change)
        self._own_start(did, at, now, change)
        if element is not None:
            self.choice("Made of", "Which kind of pixels the string has. It says voltage, current, chip and the order its chips take.",
                        lambda: ([("", "not known"), *((k, t.name) for k, t in self._types().items())], s.rig.elements[now().element].type if now().element in s.rig.elements else ""),
                        lambda v: s.edit(set_pixel_type, [now().element], v, self._types().get(v)))  # fmt: skip
            self._address(did, now)

    def _most(self, one: Segment) -> int:
        element = self.session.rig.elements.get(one.element)
        return (element.slots if element.kind == "block" else element.pixels) if element else 0

    def _element_fields(self, now: Callable[[], Segment]) -> None:
        """What the element itself is: name, pixels, how it lies. It holds wherever the element hangs."""
        s = self.session

        def element() -> Element:
            return s.rig.elements.get(now().element, Element(name=""))

        def set_(words: str, **fields: object) -> object:
            return s.edit(set_pixels, now().element, words, **fields)

        self.field("Name", "What the element is called; its pixels are NAME/1, NAME/2 and so on.", lambda: element().name, lambda t: set_("name", name=t.strip()[:60]))  # fmt: skip
        if element().kind == "block":
            self.field("Slots", "How many slots the block has. What comes behind it on its cable moves.", lambda: str(element().slots), lambda t: set_("slots", slots=whole(t, 1, 32767)), narrow=84)  # fmt: skip
            return
        sent = Field(
            "Components of one pixel in the order the sender sends them, such as RGB or GRBW. Set the order in one place only.",
            lambda t: set_("order", order=read_order(t)),
            right=True,
        )
        sent.say = lambda why: s.say(why, "error")
        sent.setAccessibleName("Sent as")
        sent.setFixedWidth(64)
        self.refreshers.append(lambda: sent.set_value(element().order))
        self.field("Pixels", "How many pixels the element has, and beside it the order its components are sent in. What comes behind it on its cable moves.",
                   lambda: str(element().pixels), lambda t: set_("pixels", pixels=whole(t, 1, 100_000)), narrow=84, beside=sent)  # fmt: skip

    def _arrange(self, eid: str) -> None:
        """The same editor that places the pixels of a lamp."""
        from welvo.app.widgets.face_editor import FaceEditor

        element = self.session.rig.elements[eid]
        dialog = FaceEditor(as_mode(element), None, self)
        if dialog.exec():
            self.session.edit(set_pixels, eid, "places", spots=dialog.mode.spots, kind="free")

    def _lie_fields(self, now: Callable[[], Segment]) -> None:
        """How the string really lies, and who puts its pixels in order."""
        s = self.session

        def element() -> Element:
            return s.rig.elements.get(now().element, Element(name=""))

        def set_(words: str, **fields: object) -> object:
            return s.edit(set_pixels, now().element, words, **fields)

        self.field("Lies folded", "After how many pixels the string really turns back; 0: it does not. Its pixels are numbered as if it never did.",
                   lambda: str(element().fold), lambda t: set_("fold", fold=whole(t, 0, 100_000)), narrow=84)  # fmt: skip
        self.choice("Unfolded by", "Who puts folded pixels in order: the controller, or the sender's own map. It must be one of them, never both.",
                    lambda: ([("box", "the controller"), ("sender", "the sender")], element().unfolds), lambda v: set_("unfolding", unfolds=v))  # fmt: skip

    def _to_all(self, kind: str, words: str, **fields: object) -> object:
        """Ctrl+Enter: give a value to all segments of a kind that the list shows."""
        places = self._station.listed(kind)
        return self.session.edit(change_many, places, words, **fields) if places else True

    def _as_this(self, now: Callable[[], Segment]) -> None:
        """Give kind, supply and cable of this segment to all listed ones."""
        s, one = self.session, now()
        places = self._station.listed("pixels")
        keys = list(dict.fromkeys(s.rig.devices[d].ports[p].run[n].element for d, p, n in places))
        element = s.rig.elements.get(one.element)
        if not places or element is None:
            return
        kind = s.rig.pixel_types.get(element.type)
        now_rig, first = change_many(
            s.rig, places, "supply and cable", supply=one.supply, length=one.length, area=one.area
        )
        new, second = set_pixel_type(now_rig, [k for k in keys if k in now_rig.elements], element.type, kind)
        s.take((new, joined(first.label, first, second)))

    def _types(self) -> dict[str, PixelType]:
        """Kinds of pixels of the rig, and those that ship and are not in it yet."""
        from welvo.formats.models import shipped_pixels

        rig = self.session.rig
        have = {v.name for v in rig.pixel_types.values()}
        return {**rig.pixel_types, **{k: v for k, v in shipped_pixels().items() if v.name not in have}}

    def _address(self, did: str, now: Callable[[], Segment]) -> None:
        s = self.session

        def words() -> str:
            e = s.rig.elements.get(now().element)
            return (
                ""
                if e is None
                else {
                    "run": "address: from the cable",
                    "typed": "address: typed",
                    "anchored": "address: behind another",
                    "none": "address: none yet",
                }[e.at.way]
            )

        beside = label("", 11, quiet=True)
        self.refreshers.append(lambda: beside.setText(words()))
        fix = button(
            "Keep it",
            lambda: s.edit(fix_addresses, s.index.cables, [now().element]),
            "Types the address it has now, so that it stays when the cable changes.",
        )
        follow = button("Follow it", lambda: s.edit(follow_cable, now().element), "Lets the cable decide its address.")

        def which() -> None:
            e = s.rig.elements.get(now().element)
            follows = bool(e and e.at.way == "run")
            fix.setVisible(follows)
            follow.setVisible(not follows)

        self.refreshers.append(which)
        self.body.addLayout(row(beside, None, fix, follow))

    def _bright(self, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        gamma = Field(
            "The gamma curve of this segment; 1 is none. Behind a bridge it must be 1.",
            lambda t: change(gamma=number(t, 0.01, 5, "gamma")),
            right=True,
        )
        gamma.say = lambda why: self.session.say(why, "error")
        gamma.setAccessibleName("Gamma")
        gamma.setFixedWidth(48)
        self.refreshers.append(lambda: gamma.set_value(f"{now().gamma:g}"))
        self.field("Brightness", "Brightness of this segment in per cent, one factor of the product. Behind a bridge all of them must be 100.",
                   lambda: f"{now().brightness * 100:g} %", lambda t: change(brightness=share(t)), narrow=64, beside=gamma)  # fmt: skip

    def _cable_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], piece: Callable[[], tuple[Stream, Piece] | None]) -> None:  # fmt: skip
        s = self.session
        self.rule()
        self.choice("Fed by", "Which supply feeds power in at this segment's data-in end. None: power comes along the cable from before.",
                    lambda: ([("", "from before"), *((k, f"{v.name} · {v.volts:g} V {v.amps:g} A") for k, v in s.rig.supplies.items())], now().supply), lambda v: change(supply=v))  # fmt: skip
        area = Field(
            "Cross-section of each supply conductor of the cable before it, in mm². 0: not known, no loss is worked out.",
            lambda t: change(area=number(t, 0, 1000, "cross-section")),
            right=True,
        )
        area.say = lambda why: s.say(why, "error")
        area.setAccessibleName("Cross-section")
        area.setFixedWidth(64)
        self.refreshers.append(lambda: area.set_value(f"{now().area:g} mm²"))
        self.field("Cable", "Metres of cable before this segment. Length and cross-section decide how much voltage is lost.",
                   lambda: f"{now().length:g} m", lambda t: change(length=number(t, 0, 10_000, "a cable's length")), narrow=64, beside=area)  # fmt: skip
        self.field("Data in", "Which end the data comes in at, in your words: left, bottom, at the door. Nothing depends on it.",
                   lambda: now().data_in, lambda t: change(data_in=t.strip()[:60]))  # fmt: skip
        if now().kind == "pixels":
            self.body.addLayout(
                row(
                    None,
                    button(
                        "Kind and supply to all listed",
                        lambda: self._as_this(now),
                        "Gives the kind of pixels, the supply and the cable of this segment to all segments of pixels that the list shows.",
                    ),
                )
            )
        self._table("Power at full white", lambda: self._power(did, at))
        self._table("Joint before it: function, wire here, wire there", lambda: self._joint(did, at))

    def _power(self, did: str, at: At) -> tuple[tuple[str, str], ...]:
        stream = self.session.index.cables.streams.get(PortRef(did, at.label))
        found = (
            next((x for x in stretches(self.session.index.cables, stream) if x.piece.n == at.n), None)
            if stream
            else None
        )
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

    def _joint(self, did: str, at: At) -> tuple[tuple[str, str], ...]:
        stream = self.session.index.cables.streams.get(PortRef(did, at.label))
        joint = next((j for j in joints(self.session.index.cables, stream) if j.n == at.n), None) if stream else None
        if joint is None or not joint.wires:
            return ()
        return tuple((function, f"{here} → {there}") for function, here, there in joint.wires)

    # ---- numbers


def _say_part(s: Segment, here: tuple[Stream, Piece] | None) -> str:
    if s.first == 1 and not s.count:
        return "all"
    last = s.first + (s.count or (here[1].leds or here[1].pixels if here else 1)) - 1
    return f"{s.first}-{last}"


def _read_part(text: str, most: int) -> dict[str, int]:
    if text.strip().lower() in ("all", ""):
        return {"first": 1, "count": 0}
    m = re.fullmatch(r"\s*(\d+)\s*[-–]\s*(\d+)\s*", text)
    if not m or not 1 <= int(m[1]) <= int(m[2]) <= max(1, most):
        raise Refused(f"“{text.strip()}” is no part of 1 to {most}. Write all, or such as 1-{most}.")
    return {"first": int(m[1]), "count": int(m[2]) - int(m[1]) + 1}
