"""Two modes side by side, with what each has that the other has not; and consequences before they are done."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QScrollArea, QWidget

from welvo.app.widgets.dialogs import Asks, Dialog
from welvo.app.widgets.effect_list import EffectList
from welvo.app.widgets.painting import draw_text_line, make_button
from welvo.app.widgets.theme import THEME
from welvo.checks.foresee import Foreseen
from welvo.rig.modes import ModeRow, compare_modes
from welvo.rig.notation import say_count
from welvo.rig.profile import Mode, Profile
from welvo.survey.effect_words import say_all


class CompareTable(QWidget):
    """One row per function: its slots in both modes, loud only where they differ."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[ModeRow] = []
        self.names = ("", "")
        self.setAccessibleName("Modes side by side")

    def show_rows(self, rows: list[ModeRow], names: tuple[str, str]) -> None:
        self.rows, self.names = rows, names
        self.setMinimumHeight(28 + 24 * len(rows))
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w = self.width()
        columns = (8.0, w * 0.46, w * 0.74)
        for x, words in zip(columns, ("Function", *self.names)):
            draw_text_line(p, QRectF(x, 0, w * 0.26, 26), words, "quiet", 11, True)
        for n, r in enumerate(self.rows):
            y = 28 + 24 * n
            only = "–" in (r.left, r.right)
            if not r.same:
                p.fillRect(QRectF(0, y, w, 23), THEME.color("warning_wash" if only else "note_wash"))
            for x, words in zip(columns, (r.word, r.left, r.right)):
                draw_text_line(
                    p,
                    QRectF(x + 4, y, w * 0.27, 23),
                    words,
                    "quiet" if r.same else "text",
                    13,
                    not r.same and words != "–" and x > 20,
                )
            p.fillRect(QRectF(0, y + 23, w, 1), THEME.color("line"))


class CompareModes(Dialog, Asks):
    """Two modes of a profile; nothing is changed here."""

    def __init__(self, profile: Profile, left: str, parent: QWidget) -> None:
        title = "Modes side by side"
        super().__init__(parent, title, f"{profile.name}: {title.lower()}", wide=620, high=560)
        self._profile = profile
        self.lines = self.body
        right = next((k for k in profile.modes if k != left), left)
        options = [
            (k, f"{m.name} · {' + '.join(str(b.slots) for b in m.breaks)} slots") for k, m in profile.modes.items()
        ]
        self.left = self.ask_for_choice("Left", "The mode on the left. Nothing is changed here.", options, left)
        self.right = self.ask_for_choice("Right", "The mode on the right. Nothing is changed here.", options, right)
        self.table = CompareTable()
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(self.table)
        self.body.addWidget(area, 1)
        self.finish(make_button("Close", self.accept), leave="", room=18)
        self.look()

    def look(self) -> None:
        a, b = self._profile.modes[str(self.left.currentData())], self._profile.modes[str(self.right.currentData())]
        rows = compare_modes(a, b)
        self.table.show_rows(rows, (a.name, b.name))
        self.say(summary_of_comparison(a, b, rows))


def summary_of_comparison(a: Mode, b: Mode, rows: list[ModeRow]) -> str:
    only_a, only_b = sum(r.right == "–" for r in rows), sum(r.left == "–" for r in rows)
    other = sum(not r.same and "–" not in (r.left, r.right) for r in rows)
    return (
        f"{a.name} has {say_count(only_a, 'function')} more, {b.name} has {only_b} more; "
        f"{say_count(other, 'function')} "
        "stand elsewhere or behave otherwise."
    )


class AddressPreview(Dialog):
    """Everything that an act would make different, before it is done."""

    def __init__(self, title: str, found: Foreseen, act: str, parent: QWidget) -> None:
        high = min(560, 220 + 24 * len(found.lines))
        super().__init__(parent, title, note=say_all(found.effects), wide=800, high=high)
        self.list = EffectList(found.lines)
        self.body.addWidget(self.list, 1)
        self.finish(make_button(act, self.accept, primary=True), leave="Leave it as it is", room=4)
