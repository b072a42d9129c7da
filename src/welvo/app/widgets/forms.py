"""Forms as tables: a field is a row of data, and one builder makes, fills, commits and refuses for all of them.

A row says what a field is called, what it does and risks, which attribute of the form's subject it shows, and how its
text is read. The subject is read anew at each refresh, so that no field keeps a value of its own; an edit goes out
through the subject's `change`. What is refused stays in the field, and why stands under it until it is right.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

import msgspec
from msgspec import Struct
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from welvo.app.widgets.fields import Choice, CommandLine, Field, Tick
from welvo.app.widgets.flow import FlowRow, flow_of_widgets, keep_width
from welvo.app.widgets.painting import make_label
from welvo.rig.readers import Reader, text_reader

LABEL_WIDTH = 98
Options = Sequence[tuple[str, str]]


class Subject(Struct, frozen=True):
    """What a form is about: its value as it is now (None: gone), and the edit that sets fields of it.

    `change(words, **fields)` raises Refused; `words` say in the undo menu what was changed.
    """

    value: Callable[[], Any]
    change: Callable[..., object]


def change_attribute(owner: Any, key: str) -> Any:
    return getattr(owner, key) if owner is not None else None


class Typed(Struct, frozen=True):
    """A line that is typed into. Without a reader the type of the attribute decides how it is read.

    `shown` and `take` stand in for the attribute where a field shows or does something else; `words` name the edit.
    With `to_all`, Ctrl+Enter gives the value to everything that the form's `to_all` means.
    """

    label: str
    help: str
    key: str = ""
    reader: Reader | None = None
    width: int = 0
    placeholder: str = ""
    words: str = ""
    name: str = ""
    """What it is called for screen readers and tests, where the label is another."""
    to_all: bool = False
    command: bool = False
    """Whether it does something to many, which only Enter may do: a series that is half typed never runs by itself."""
    shown: Callable[[Any], str] | None = None
    take: Callable[[str], object] | None = None
    preview: Callable[[str], str] | None = None
    """As what the text would be taken, where that is not the text itself; said under the field while it is typed."""
    tried: Callable[[str], object] | None = None
    """The bare edit of a field whose `take` asks or shows something first; what it would do is shown while typing."""
    acts: bool = False
    """What it does is no edit of the rig: it is never tried."""


class ValueChoice(Struct, frozen=True):
    """A choice among named values. Options are given or worked out; `read` makes the value of an option's key."""

    label: str
    help: str
    key: str = ""
    options: Options | Callable[[], Options] = ()
    words: str = ""
    name: str = ""
    read: Callable[[str], Any] = str
    say: Callable[[Any], str] = str
    shown: Callable[[Any], str] | None = None
    take: Callable[[str], object] | None = None
    tried: Callable[[str], object] | None = None
    """As in `Typed`: the bare edit, where `take` shows something first."""


class Ticked(Struct, frozen=True):
    """A tick; its words stand behind it."""

    label: str
    help: str
    key: str = ""
    words: str = ""
    shown: Callable[[Any], bool] | None = None
    take: Callable[[bool], object] | None = None

    @property
    def name(self) -> str:
        return self.label


class CaptionBeside(Struct, frozen=True):
    """A caption beside a field, made from the subject with each refresh."""

    words: Callable[[Any], str] | str
    name: str = ""


Row = Typed | ValueChoice | Ticked


class Together(Struct, frozen=True):
    """Fields side by side under one label, or without one from the left edge."""

    label: str | None
    parts: tuple[Row | CaptionBeside | None, ...]
    """None stretches."""


@dataclass
class Form:
    """Builds rows into a layout and keeps what shows their values. `kind` is the type of the subject's value."""

    body: QVBoxLayout
    subject: Subject
    kind: type[msgspec.Struct] | None = None
    to_all: Callable[[Row, Any], object] | None = None
    refreshers: list[Callable[[], None]] = field(default_factory=list)
    fields: dict[str, Field | Choice | Tick] = field(default_factory=dict)
    """Every widget by the name of its row."""
    tries: bool = False
    """Whether what its fields would do to others is shown before it is done: its rows are edits of the rig."""

    def add(self, *rows: Row | Together) -> Form:
        for one in rows:
            if isinstance(one, Together):
                self._add_line(one.label, one.parts)
            elif isinstance(one, Ticked):
                self._add_line(None, (one, None))
            else:
                narrow = isinstance(one, Typed) and one.width
                self._add_line(one.label, (one, None) if narrow else (one,))
        return self

    def refresh(self) -> None:
        for again in self.refreshers:
            again()

    # ---- building

    def _add_line(self, words: str | None, parts: Iterable[Row | CaptionBeside | None]) -> None:
        widgets: list[QWidget | None] = []
        refusals: list[QLabel] = []
        for part in parts:
            if part is None:
                widgets.append(None)
            elif isinstance(part, CaptionBeside):
                widgets.append(self._label_of_row(part))
            else:
                made = self.widget_of_row(part)
                widgets.append(made)
                if isinstance(made, Field):
                    refusals.append(made.refusal)
                    if isinstance(part, Typed) and part.preview:
                        refusals.append(_preview_line(made, part.preview))
        self.body.addLayout(field_row(words, *widgets) if words is not None else flow_of_widgets(*widgets))
        for line in refusals:
            self.body.addWidget(line)

    def widget_of_row(self, one: Row) -> Field | Choice | Tick:
        """The widget of one row, for a layout of the caller's own."""
        made = (
            self._tick_of_row(one)
            if isinstance(one, Ticked)
            else self._choice_of_row(one)
            if isinstance(one, ValueChoice)
            else self._field_of_row(one)
        )
        self.fields[one.name or one.label] = made
        return made

    def _label_of_row(self, one: CaptionBeside) -> QLabel:
        if isinstance(one.words, str):
            return make_label(one.words, 11, quiet=True)
        # It breaks between words where there is no room: no remark widens the panel, and so cuts a number in it.
        made, words = make_label("", 11, quiet=True, wrap=True), one.words
        self.refreshers.append(lambda: made.setText(words(self.subject.value())))
        return made

    def _field_of_row(self, one: Typed) -> Field:
        reader = one.reader or (text_reader(self.kind, one.key) if self.kind and one.key else None)
        made: Field
        if one.command:
            made = CommandLine(one.help, lambda t: self._take_typed(one, reader, t))
        else:
            made = Field(one.help, lambda t: self._take_typed(one, reader, t), right=bool(one.width))
        made.setAccessibleName(one.name or one.label)
        made.setPlaceholderText(one.placeholder)
        if one.width:
            keep_width(made, one.width)
        if self.tries and not one.acts:
            made.try_apply = one.tried or (lambda t: self._take_typed(one, reader, t))
        if one.to_all and self.to_all and reader:
            give, read = self.to_all, reader.read_text
            made.apply_to_all = lambda t: give(one, read(t))

        def show() -> None:
            value = self.subject.value()
            if value is not None:
                made.set_value(
                    one.shown(value) if one.shown else reader.say_value(getattr(value, one.key)) if reader else ""
                )
            else:
                made.set_value("")  # what is gone leaves nothing behind that could be taken for something
                made.revert()

        self.refreshers.append(show)
        return made

    def _take_typed(self, one: Typed, reader: Reader | None, typed: str) -> object:
        if one.take:
            return one.take(typed)
        assert reader
        return self.subject.change(one.words or one.label.lower(), **{one.key: reader.read_text(typed)})

    def _choice_of_row(self, one: ValueChoice) -> Choice:
        def take_typed(key: str) -> object:
            if one.take:
                return one.take(key)
            return self.subject.change(one.words or one.label.lower(), **{one.key: one.read(key)})

        made = Choice(one.help, take_typed)
        made.setAccessibleName(one.name or one.label)
        if self.tries:
            made.try_apply = one.tried or take_typed

        def show() -> None:
            value = self.subject.value()
            if value is not None:
                options = one.options() if callable(one.options) else one.options
                made.set_options(list(options), one.shown(value) if one.shown else one.say(getattr(value, one.key)))
            else:
                made.setCurrentIndex(-1)

        self.refreshers.append(show)
        return made

    def _tick_of_row(self, one: Ticked) -> Tick:
        def take_typed(on: bool) -> object:
            return one.take(on) if one.take else self.subject.change(one.words or one.label.lower(), **{one.key: on})

        made = Tick(one.label, one.help, take_typed)
        made.setAccessibleName(one.label)

        def show() -> None:
            value = self.subject.value()
            if value is not None:
                made.setChecked(one.shown(value) if one.shown else bool(getattr(value, one.key)))

        self.refreshers.append(show)
        return made


def _preview_line(of: Field, preview: Callable[[str], str]) -> QLabel:
    """The line under a field that says as what its text would be taken."""
    line = make_label("", 11, wrap=True)
    line.hide()

    def say() -> None:
        words = preview(of.text()) if of.pending else ""
        line.setText(words)
        line.setVisible(bool(words))

    of.textChanged.connect(lambda _: say())
    of.editingFinished.connect(say)
    return line


def field_row(words: str, *widgets: QWidget | None) -> FlowRow:
    """A field with its label beside it, or above it where there is no room beside."""
    name = make_label(words, quiet=True)
    keep_width(name, LABEL_WIDTH)
    return flow_of_widgets(name, *widgets)
