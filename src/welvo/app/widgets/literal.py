"""Names from files and from the network, shown as the letters they are.

Qt reads a text that begins like a tag as rich text, and would open the picture that a device's name asks for; a menu
takes `&` for a letter to press; and a mark that turns the direction of writing can make one name look like another.
So everything that is not our own words goes through here before it is shown.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterable

from welvo.rig.letters import MARK, UNSEEN

_UNSEEN = re.compile(f"[{UNSEEN}]")
_JOINER = "\u2060"


def visible_letters(text: str) -> str:
    """A text with a mark for each control or direction character, so that no name looks like another."""
    return _UNSEEN.sub(MARK, text) if not text.isprintable() else text


def literal_text(text: str) -> str:
    """A text that Qt shows letter by letter wherever it would guess: in tooltips and messages.

    A character without width behind `<` and `&` keeps it from being read as a tag or an entity.
    """
    shown = visible_letters(text)
    return shown.replace("<", "<" + _JOINER).replace("&", "&" + _JOINER) if "<" in shown or "&" in shown else shown


def menu_words(text: str) -> str:
    """A text for a menu or a button, where `&` would underline the next letter."""
    return visible_letters(text).replace("&", "&&")


def rows_tip(head: str, rows: Iterable[tuple[str, str]] = (), under: str = "") -> str:
    """A tooltip of a bold head, a line under it and rows of two columns, everything in it shown as it is."""

    def e(text: object) -> str:
        return html.escape(visible_letters(str(text)))

    table = "".join(f"<tr><td>{e(a)}&nbsp;&nbsp;</td><td align='right'>{e(b)}</td></tr>" for a, b in rows)
    return f"<b>{e(head)}</b>" + (f"<br>{e(under)}" if under else "") + (f"<table>{table}</table>" if table else "")


def literal_paragraph(text: str) -> str:
    """One paragraph of rich text that shows a text as it is."""
    return f"<p>{html.escape(visible_letters(text))}</p>"
