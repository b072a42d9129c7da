"""The tint of a fixture or element: which one it has, and the spine and body that are drawn in it."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter

from welvo.app.widgets.theme import NO_TINT, THEME, weave
from welvo.rig.document import Rig
from welvo.rig.refs import SegmentRef


def tint_of(rig: Rig, key: str | SegmentRef) -> int:
    """The number of a tint; a segment that takes slots has none of its own."""
    if isinstance(key, SegmentRef):
        return NO_TINT
    fixture = rig.fixtures.get(key)
    if fixture:
        profile = rig.profiles.get(fixture.profile)
        return profile.tint if profile else 0
    element = rig.elements.get(key)
    return element.tint if element else 0


def code_of(rig: Rig, key: str | SegmentRef) -> str:
    if isinstance(key, SegmentRef):
        return ""
    fixture = rig.fixtures.get(key)
    if fixture:
        profile = rig.profiles.get(fixture.profile)
        return profile.code if profile else ""
    element = rig.elements.get(key)
    return element.code if element else ""


def kind_name(rig: Rig, key: str | SegmentRef) -> str:
    if isinstance(key, SegmentRef):
        return "slots for no lamp"
    fixture = rig.fixtures.get(key)
    if fixture:
        profile = rig.profiles.get(fixture.profile)
        return profile.name if profile else "?"
    element = rig.elements.get(key)
    return f"{element.pixels} px {element.order}" if element and element.kind != "block" else "slots"


def spine(p: QPainter, x: float, y: float, h: float, k: int, color: QColor) -> None:
    """The spine at a block's left edge, in the weave of its tint."""
    kind = weave(k)
    if kind == 0:
        p.fillRect(QRectF(x, y, 3, h), color)
    elif kind == 1:
        p.fillRect(QRectF(x, y, 2, h), color)
        p.fillRect(QRectF(x + 4, y, 2, h), color)
    else:
        at = y
        while at < y + h:
            p.fillRect(QRectF(x, at, 4, min(3, y + h - at)), color)
            at += 6


def body(p: QPainter, r: QRectF, k: int) -> None:
    """Body, spine and the spine-coloured foot of a block."""
    line, fill = THEME.tint(k)
    p.fillRect(r, fill)
    p.fillRect(QRectF(r.left(), r.bottom() - 1, r.width(), 1), line)
    spine(p, r.left(), r.top(), r.height(), k, line)
