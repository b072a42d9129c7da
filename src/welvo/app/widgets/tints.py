"""Spine and body that items are drawn in."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter

from welvo.app.widgets.theme import THEME
from welvo.rig.tints import weave_of_tint


def draw_spine(p: QPainter, x: float, y: float, h: float, k: int, color: QColor) -> None:
    """The spine at a block's left edge, in the weave of its tint."""
    kind = weave_of_tint(k)
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


def draw_body(p: QPainter, r: QRectF, k: int) -> None:
    """Body, spine and the spine-coloured foot of a block."""
    line, fill = THEME.colours_of_tint(k)
    p.fillRect(r, fill)
    p.fillRect(QRectF(r.left(), r.bottom() - 1, r.width(), 1), line)
    draw_spine(p, r.left(), r.top(), r.height(), k, line)
