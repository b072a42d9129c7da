"""Everything that an edit would make different, line by line."""

from __future__ import annotations

from collections.abc import Sequence

from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.survey.effect_words import Line

HEADS = (Column("Who", 150), Column("What happens", 230), Column("Before", 180), Column("After", 190))


class EffectList(RowList):
    """Who, what happens, before, after."""

    def __init__(self, lines: Sequence[Line]) -> None:
        super().__init__("Everything that would be different", HEADS)
        self.show_lines([ListRow(n, line) for n, line in enumerate(lines)])
