"""The frame of all dialogs: a title, a body, one line for what would happen or is refused, and the acts.

Enter does the primary act, Esc leaves, and no other button takes Enter away from it. What is refused is said in the
dialog and keeps it open, so that nothing that was typed is lost.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QDialog, QLineEdit, QPushButton, QScrollArea, QVBoxLayout, QWidget

from welvo.app.always_keys import carry_over
from welvo.app.widgets.fields import Choice, Tick, restyle, set_help
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.forms import field_row
from welvo.app.widgets.painting import column_of_widgets, make_button, make_label
from welvo.rig.base import Refused

FRAME_HIGH = 40
"""Room for the frame and the title bar of a dialog."""


class Dialog(QDialog):
    """`beside` stands right of the heading, `note` says quietly under it what the dialog is for."""

    def __init__(
        self,
        parent: QWidget | None,
        title: str,
        heading: str = "",
        note: str = "",
        *,
        beside: Sequence[QWidget | int | None] = (),
        wide: int = 460,
        high: int = 0,
    ) -> None:
        # below the whole window: the row that opened it may be built anew while it is open, and would take it along
        super().__init__(parent.window() if parent is not None else None)
        carry_over(self, parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(min(wide, 460))
        if high:
            self.resize(wide, high)
        else:
            self.setMinimumWidth(wide)
        outer = column_of_widgets((20, 16, 20, 16), 10)
        words = make_label(heading or title, 16, True, wrap=not beside)
        outer.addLayout(flow_of_widgets(words, 8, *beside))
        if note:
            outer.addWidget(make_label(note, 11, quiet=True, wrap=True))
        self.body = column_of_widgets(spacing=8)
        outer.addLayout(self.body, 1)
        self.saying = make_label("", 11, wrap=True)
        self.primary: QPushButton | None = None
        self._outer = outer
        self.setLayout(outer)

    def finish(
        self, primary: QPushButton | None, *left: QWidget | int | None, leave: str = "Cancel", room: int = 34
    ) -> None:
        """Put the line of words and the acts below the body; `room` is the height kept for the words."""
        self.saying.setMinimumHeight(room)
        self.saying.setAlignment(Qt.AlignmentFlag.AlignTop)
        self._outer.addWidget(self.saying)
        acts: list[QWidget | int | None] = [*left, None]
        if leave:
            acts.append(make_button(leave, self.reject))
        if primary is not None:
            acts.append(primary)
        self._outer.addLayout(flow_of_widgets(*acts))
        for b in self.findChildren(QPushButton):
            b.setAutoDefault(False)
        self.primary = primary
        if primary is not None:
            primary.setDefault(True)

    def event(self, e: QEvent) -> bool:
        """What stands in it has become higher: so does it, as far as the screen goes, instead of laying parts over
        another."""
        done = super().event(e)
        if e.type() in (QEvent.Type.LayoutRequest, QEvent.Type.Show):
            layout = self.layout()
            need = layout.minimumHeightForWidth(self.width()) if layout and layout.hasHeightForWidth() else 0
            screen = self.screen().availableGeometry().height() - FRAME_HIGH
            if self.height() < min(need, screen):
                self.resize(self.width(), min(need, screen))
        return done

    def exec(self) -> int:
        """Show it until it is closed. Afterwards it goes, with all that is in it: a window lives for days."""
        try:
            return super().exec()
        finally:
            self.deleteLater()

    def say(self, words: str, *, wrong: bool = False) -> None:
        self.saying.setText(words)
        if bool(self.saying.property("refusal")) != wrong:
            self.saying.setProperty("refusal", wrong)
            restyle(self.saying)

    def informed(self, words: str) -> None:
        self.say(words)

    def refused(self, why: str) -> None:
        self.say(why, wrong=True)


class Asks:
    """Lines that are read whenever one of them changes. Mixed into a widget that has `lines` and `look`."""

    lines: QVBoxLayout

    def look(self) -> None:
        """Read the lines again and show what would come of them."""
        raise NotImplementedError

    def ask_for_line(
        self, words: str, help_text: str, value: str = "", width: int = 0, *, after: str = ""
    ) -> QLineEdit:
        """A line to type into; `after` stands quietly behind it."""
        made = line_to_type_into(words, help_text, value, width)
        made.textChanged.connect(lambda _: self.look())
        behind = [make_label(after, 11, quiet=True)] if after else []
        self.lines.addLayout(field_row(words, made, *behind, None) if width else field_row(words, made, *behind))
        return made

    def ask_for_choice(
        self,
        words: str,
        help_text: str,
        options: Sequence[tuple[str, str]],
        value: str = "",
        then: Callable[[], object] | None = None,
    ) -> Choice:
        """A choice; `then` is called when another one is picked, before looking again."""

        def taken(_: str) -> None:
            if then:
                then()
            self.look()

        made = Choice(help_text, taken)
        made.setAccessibleName(words)
        made.set_options(list(options), value)
        self.lines.addLayout(field_row(words, made))
        return made

    def ask_for_tick(self, words: str, help_text: str, on: bool = False) -> Tick:
        made = Tick(words, help_text, lambda _: self.look())
        made.setAccessibleName(words)
        made.setChecked(on)
        self.lines.addLayout(flow_of_widgets(made, None))
        return made


def line_to_type_into(words: str, help_text: str, value: str = "", width: int = 0) -> QLineEdit:
    """A line whose text is read by what stands around it, not committed by itself."""
    made = QLineEdit(value)
    made.setAccessibleName(words)
    set_help(made, help_text)
    if width:
        keep_width(made, width)
    return made


class EffectsShown(Protocol):
    """What shows the effects of an act: a strip in a dialog."""

    def foresee_act(self, act: Callable[[], object] | None) -> None: ...


class WishDialog(Dialog, Asks):
    """A dialog that says what would happen with each change of its lines, and does it when it may."""

    def __init__(
        self,
        parent: QWidget | None,
        title: str,
        act: str,
        heading: str = "",
        note: str = "",
        *,
        wide: int = 460,
        high: int = 0,
    ) -> None:
        super().__init__(parent, title, heading, note, wide=wide, high=high)
        self.lines = self.body
        self.act = act
        self.go = make_button(act, self.take_wish, primary=True)
        self._strip: EffectsShown | None = None

    def show_effects(self, strip: EffectsShown) -> None:
        """Show in a strip what its act would do to others, for as long as it is open. Before `finish`."""
        self._strip = strip
        self.finished.connect(lambda _: strip.foresee_act(None))

    def foresee(self) -> tuple[str, str]:
        """What would happen, and the words of the button that does it; empty when there is nothing to do."""
        raise NotImplementedError

    def do(self) -> object:
        """Do it. A refusal keeps the dialog open."""
        raise NotImplementedError

    def look(self) -> None:
        if self.primary is None:
            return  # still being built
        try:
            words, act = self.foresee()
        except Refused as e:
            self.refused(str(e))
            self.go.setText(self.act)
            self.go.setEnabled(False)
            act = ""
        else:
            self.say(words)
            self.go.setText(act or self.act)
            self.go.setEnabled(bool(act))
        if self._strip:
            self._strip.foresee_act(self.do if act else None)

    def take_wish(self) -> None:
        self.do()
        self.accept()

    def finish(
        self, primary: QPushButton | None = None, *left: QWidget | int | None, leave: str = "Cancel", room: int = 34
    ) -> None:
        if isinstance(self._strip, QWidget):
            self._outer.addWidget(self._strip)
        super().finish(primary or self.go, *left, leave=leave, room=room)
        self.look()


class _Line(WishDialog):
    """One line that is asked for. `act` takes it over; what it refuses stays to be put right."""

    def __init__(
        self,
        parent: QWidget,
        title: str,
        question: str,
        help_text: str,
        value: str,
        go: str,
        act: Callable[[str], object],
    ) -> None:
        super().__init__(parent, title, go, note=question)
        self._act = act
        self.line = line_to_type_into(title, help_text, value)
        self.line.textChanged.connect(lambda _: self.look())
        self.body.addWidget(self.line)
        self.finish(room=18)
        self.line.selectAll()
        self.line.setFocus()

    def foresee(self) -> tuple[str, str]:
        return "", self.act

    def do(self) -> object:
        return self._act(self.line.text())


def ask_line(
    parent: QWidget,
    title: str,
    question: str,
    act: Callable[[str], object],
    *,
    value: str = "",
    go: str = "Take",
    help_text: str = "",
) -> bool:
    """Ask for one line and let `act` take it, which may refuse it. Gives whether it was taken."""
    return bool(_Line(parent, title, question, help_text or question, value, go, act).exec())


class _Which(WishDialog):
    def __init__(
        self, parent: QWidget, title: str, question: str, options: Sequence[tuple[str, str]], go: str, words: str
    ) -> None:
        super().__init__(parent, title, go, note=question)
        self.choice = self.ask_for_choice(words, question, options, options[0][0])
        self.finish(room=4)

    def foresee(self) -> tuple[str, str]:
        return "", self.act

    def do(self) -> object:
        return None


def ask_which(
    parent: QWidget,
    title: str,
    question: str,
    options: Sequence[tuple[str, str]],
    go: str = "Take",
    words: str = "To",
) -> str | None:
    """Ask for one of several options, given as (key, words). Gives its key, or None."""
    dialog = _Which(parent, title, question, options, go, words)
    return str(dialog.choice.currentData()) if dialog.exec() else None


def make_risky(made: QPushButton) -> QPushButton:
    """The look of a button behind which something is lost or mixed up: never that of one that only asks."""
    made.setProperty("risky", True)
    return made


def ask_act(
    parent: QWidget, title: str, text: str, acts: Sequence[tuple[str, str]], leave: str, *, warn: bool = False
) -> str:
    """Say what is the matter and offer acts as (key, words), the primary one last. Gives a key, or "" for leaving.
    Where it is to `warn`, Enter leaves all as it is, and each act has to be meant."""
    dialog = Dialog(parent, title, note=text)
    chosen: list[str] = []

    def made(key: str, words: str, primary: bool) -> QPushButton:
        def act() -> None:
            chosen.append(key)
            dialog.accept()

        return make_button(words, act, primary=primary)

    if warn:
        dialog.finish(
            make_button(leave, dialog.reject, primary=True),
            *(make_risky(made(*a, False)) for a in acts),
            leave="",
            room=4,
        )
        return chosen[0] if dialog.exec() and chosen else ""
    *others, last = acts
    dialog.finish(made(*last, True), *(made(*a, False) for a in others), leave=leave, room=4)
    return chosen[0] if dialog.exec() and chosen else ""


def show_text(parent: QWidget, title: str, html: str) -> None:
    """A page of words to read, as rich text of our own."""
    dialog = Dialog(parent, title, wide=660, high=480)
    area = QScrollArea()
    area.setWidgetResizable(True)
    page = make_label("", 13, wrap=True)
    page.setTextFormat(Qt.TextFormat.RichText)
    page.setText(html)
    area.setWidget(page)
    dialog.body.addWidget(area, 1)
    dialog.finish(make_button("Close", dialog.accept), leave="", room=4)
    dialog.exec()
