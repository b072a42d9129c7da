"""The Profiles station: the chart line, the rulers, the ranges; the face in the panel."""

from __future__ import annotations

from functools import partial
from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QRectF, QTimer
from PySide6.QtGui import QFocusEvent, QPainter, QPaintEvent, QTextCharFormat, QTextCursor
from PySide6.QtWidgets import QHBoxLayout, QPlainTextEdit, QScrollArea, QStackedWidget, QTextEdit, QVBoxLayout, QWidget

from welvo.app import marks
from welvo.app.fields import Choice, Field, set_help
from welvo.app.paint import RIGHT, box, button, clear, column, label, row, text, width_of
from welvo.app.panel import Panel, field_row
from welvo.app.session import Selection, Session
from welvo.app.stations.face import Face
from welvo.app.stations.ruler import Ruler
from welvo.app.theme import THEME
from welvo.app.wire import Wire
from welvo.formats.chart import Chart, Problem, read_chart
from welvo.formats.chart_write import write_chart
from welvo.rig.attributes import word_for
from welvo.rig.document import Change, Rig
from welvo.rig.edits import add_profile, remove_profile, set_profile
from welvo.rig.layout import SHAPES
from welvo.rig.lookup import used_by
from welvo.rig.notation import NotationError, plural
from welvo.rig.profile import Channel, Mode, Profile


class ChartLine(QPlainTextEdit):
    """The layout as text. Live with the ruler: a pause in typing takes it over; unknown words are underlined."""

    def __init__(self, commit: Any) -> None:
        super().__init__()
        self._commit = commit
        self._committed = ""
        self.setMinimumHeight(60)
        self.setMaximumHeight(190)
        self.setTabChangesFocus(True)
        self.setAccessibleName("Chart line")
        set_help(
            self,
            "The mode's channels in slot order, typed or pasted from the manual. A wrong line shifts every slot behind it.",
        )
        self._pause = QTimer(self, singleShot=True, interval=350)
        self._pause.timeout.connect(self.commit)
        self.textChanged.connect(self._typed)

    def set_text(self, words: str) -> None:
        """Show a chart, unless another one is being typed."""
        self._committed = words
        if self.toPlainText() != words:
            self.blockSignals(True)
            self.setPlainText(words)
            self.blockSignals(False)
        self._fit()

    @property
    def pending(self) -> bool:
        return self.toPlainText() != self._committed

    def _fit(self) -> None:
        lines = max(2, min(8, self.document().lineCount()))
        self.setFixedHeight(int(lines * self.fontMetrics().lineSpacing() + 18))

    def _typed(self) -> None:
        self._fit()
        self._pause.start()

    def commit(self) -> None:
        self._pause.stop()
        words = self.toPlainText()
        if words != self._committed:
            self._committed = words
            self._commit(words)

    def focusOutEvent(self, e: QFocusEvent) -> None:
        self.commit()
        super().focusOutEvent(e)

    def underline(self, problems: list[Problem]) -> None:
        """A wave of 2 px under every word that was not understood."""
        marked = []
        for p in problems:
            block = self.document().findBlockByNumber(p.line)
            if not block.isValid():
                continue
            selection = QTextEdit.ExtraSelection()
            form = QTextCharFormat()
            form.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            form.setUnderlineColor(THEME.color("error" if p.error else "warning"))
            selection.format = form
            cursor = QTextCursor(block)
            cursor.movePosition(
                QTextCursor.MoveOperation.Right, QTextCursor.MoveMode.MoveAnchor, min(p.column, block.length() - 1)
            )
            cursor.movePosition(
                QTextCursor.MoveOperation.Right,
                QTextCursor.MoveMode.KeepAnchor,
                min(p.length, block.length() - 1 - p.column),
            )
            selection.cursor = cursor
            marked.append(selection)
        self.setExtraSelections(marked)


class Ranges(QWidget):
    """The selected channel's ranges as one scale from 0 to its highest value."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(96)
        self.setAccessibleName("Ranges")
        self.channel: Channel | None = None

    def show_channel(self, channel: Channel | None) -> None:
        self.channel = channel
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        c = self.channel
        if c is None:
            return
        words = word_for(c.function, c.name or "?")
        text(p, QRectF(16, 0, 400, 22), f"Ranges of {words}", bold=True)
        wide = self.width() - 32
        if not c.ranges:
            box(p, QRectF(16, 40, wide, 34), "field", "edge", 0)
            text(p, QRectF(26, 40, wide - 20, 34), f"one stretch, 0 to {c.top}; default {c.default}", "quiet", 11)
            return
        covered = -1
        for r in sorted(c.ranges, key=lambda r: r.first):
            x = 16 + wide * r.first / (c.top + 1)
            w = wide * (r.last + 1 - r.first) / (c.top + 1)
            if r.first > covered + 1:
                gap = 16 + wide * (covered + 1) / (c.top + 1)
                marks.hatch(p, QRectF(gap, 40, x - gap, 34), THEME.color("warning"))
            here = r.first <= c.default <= r.last
            box(p, QRectF(x, 40, w - 1, 34), "select" if here else "field", "edge", 0)
            if width_of(r.name) + 12 < w:
                text(p, QRectF(x + 7, 40, w - 10, 34), r.name, bold=here)
            else:
                text(p, QRectF(x, 22, max(w, width_of(r.name, 11) + 2), 16), r.name, size=11)
            text(p, QRectF(x, 76, 40, 16), str(r.first), "quiet", 11)
            covered = max(covered, r.last)
        at = 16 + wide * (c.default + 0.5) / (c.top + 1)
        text(p, QRectF(self.width() - 220, 0, 204, 22), f"default {c.default}", "accent", 11, align=RIGHT)
        p.fillRect(QRectF(at - 1, 36, 2, 42), THEME.color("accent"))


class ProfilesPanel(Panel):
    """The face, then the selected channel, then what the profile is called."""

    def __init__(self, station: ProfilesStation, session: Session, wire: Wire) -> None:
        super().__init__(session, wire)
        self._station = station
        self.face = Face()
        self._fields: dict[str, Field] = {}
        self.body.addLayout(row(label("Face", 16, True), None))
        self.body.addWidget(self.face)
        self._walk = QTimer(self, interval=250)
        self._walk.timeout.connect(self.face.walk)
        self._walk_button = button(
            "Walk", self._toggle_walk, "Lights the pixels in number order, to compare with the real lamp."
        )
        self._shape = Choice(
            "How the pixels sit. It changes the drawing and which pixel is where, not the addresses.", self._set_shape
        )
        self._shape.setAccessibleName("Pixels sit in")
        self.body.addLayout(row(self._walk_button, self._shape, None))
        self._channel = QVBoxLayout()
        self.body.addLayout(self._channel)
        self.body.addWidget(self._rule())
        self.body.addWidget(label("Profile", 13, True))
        for key, words, help_text in (
            ("name", "Name", "What this fixture type is called. Fixtures are added by this name."),
            ("maker", "Maker", "Who makes it. Only words; nothing depends on it."),
            ("code", "Code", "Up to four letters that stand for it on the tapes. Must be its own in this rig."),
            (
                "mode",
                "Mode",
                "What this mode is called in the lamp's own menu. Whoever sets the lamp looks for these words.",
            ),
            ("notes", "Notes", "Anything worth knowing about it. Printed on sheets later."),
        ):
            field = Field(help_text, partial(self._set, key))
            field.say = lambda why: session.say(why, "error")
            field.setAccessibleName(words)
            self._fields[key] = field
            self.body.addLayout(field_row(words, field))
        self.body.addStretch(1)

    def _rule(self) -> QWidget:
        line = QWidget()
        line.setFixedHeight(1)
        line.setStyleSheet(f"background: {THEME.color('line').name()};")
        return line

    def _toggle_walk(self) -> None:
        if self._walk.isActive():
            self._walk.stop()
            self.face.lit = 0
            self.face.update()
        else:
            self._walk.start()
        self._walk_button.setText("Stop" if self._walk.isActive() else "Walk")

    def _set_shape(self, name: str) -> None:
        mode = self._station.mode
        if mode and mode.pixels:
            self._station.change_mode(replace(mode, spots=SHAPES[name](mode.pixels)), f"put the pixels in {name}")

    def _set(self, key: str, value: str) -> object:
        s, pid = self._station, self._station.profile_id
        if not pid:
            return True
        value = value.strip()
        if key == "mode":
            mode = s.mode
            if not value:
                raise NotationError("A mode needs a name.")
            return s.change_mode(replace(mode, name=value), f"name the mode {value}") if mode else True
        if key == "name" and not value:
            raise NotationError("A profile needs a name.")
        if key == "code":
            value = value.upper()
            if (
                not value
                or len(value) > 4
                or any(p.code == value for k, p in self.session.rig.profiles.items() if k != pid)
            ):
                raise NotationError("A code is one to four letters that no other profile of the rig has.")
        return self.session.edit(set_profile, pid, f"give the profile {key} {value}", **{key: value})

    def refresh(self) -> None:
        s = self._station
        profile, mode = s.profile, s.mode
        self.face.set_mode(mode)
        pixels = mode.pixels if mode else 0
        self._walk_button.setEnabled(bool(pixels))
        options = [(k, k) for k in SHAPES]
        now = next(
            (k for k in SHAPES if mode and pixels and SHAPES[k](pixels) == (mode.spots or SHAPES["row"](pixels))), ""
        )
        self._shape.set_options(options if now else [("", "placed by hand"), *options], now)
        self._shape.setEnabled(bool(pixels))
        for key, field in self._fields.items():
            field.set_value(
                (mode.name if mode else "") if key == "mode" else str(getattr(profile, key, "")) if profile else ""
            )
            field.setEnabled(profile is not None)
        clear(self._channel)
        channel = s.channel
        if channel:
            words = word_for(channel.function, channel.name or "?")
            where = (
                f"slot {channel.slots[0]}"
                + (f"–{channel.slots[-1]}" if len(channel.slots) > 1 else "")
                + f" of break {channel.brk + 1}"
            )
            self._channel.addWidget(self._rule())
            self._channel.addLayout(
                row(label(words[:1].upper() + words[1:], 16, True), None, label(where, 11, quiet=True))
            )
            facts = [f"{8 * len(channel.slots)} bit", f"default {channel.default}", f"short {channel.short}"]
            if channel.pixel:
                facts.insert(0, f"pixel {channel.pixel}")
            self._channel.addWidget(label(" · ".join(facts), 11, quiet=True))
            if channel.function and not channel.function.startswith("own:"):
                self._channel.addWidget(label(f"GDTF attribute {channel.function}", 11, quiet=True))


class ProfilesStation(QWidget):
    name = "Profiles"

    def __init__(self, session: Session, wire: Wire) -> None:
        super().__init__()
        self._session = session
        self.profile_id = next(iter(session.rig.profiles), "")
        self.mode_id = ""
        self.chart: Chart = Chart()
        self.picker = Choice("Which profile of the rig is shown.", self.show_profile)
        self.picker.setAccessibleName("Profile")
        self.picker.setMinimumWidth(190)
        self.new = button("New profile", self.new_profile, "Starts an empty profile; type or paste its chart below.")
        self._modes = QHBoxLayout()
        self._modes.setSpacing(4)
        self.used = label("", 11, quiet=True)
        self.remove = button("Remove", self._remove, "Takes the profile out of the rig, if no fixture uses it.")
        modes = QWidget()
        modes.setLayout(self._modes)
        self._modes.setContentsMargins(0, 0, 0, 0)
        bar = row(label("Profiles", 16, True), 8, self.picker, modes, None, self.used, self.remove, self.new)
        bar.setContentsMargins(16, 8, 16, 8)
        self.line = ChartLine(self._chart_typed)
        session.about_to_act.connect(self.line.commit)
        self._says = QVBoxLayout()
        self.ruler = Ruler()
        self.ruler.picked.connect(self._picked)
        self.ranges = Ranges()
        self.panel = ProfilesPanel(self, session, wire)
        inner = QWidget()
        body = column(spacing=6)
        self._chart_title = row(
            label("Chart line", 13, True),
            label("type or paste the manual's table; the ruler below follows", 11, quiet=True),
            None,
        )
        for widget in (self._chart_title,):
            widget.setContentsMargins(16, 8, 16, 0)
            body.addLayout(widget)
        box_ = column((16, 0, 16, 0), 4)
        box_.addWidget(self.line)
        self._says.setSpacing(4)
        box_.addLayout(self._says)
        body.addLayout(box_)
        title = row(
            label("Channel ruler", 13, True),
            label("each break is patched at an address of its own", 11, quiet=True),
            None,
        )
        title.setContentsMargins(16, 8, 16, 0)
        body.addLayout(title)
        body.addWidget(self.ruler)
        body.addSpacing(8)
        body.addWidget(self.ranges)
        body.addStretch(1)
        inner.setLayout(body)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inner)
        self._stack = QStackedWidget()
        self._stack.addWidget(scroll)
        self._stack.addWidget(self._empty())
        layout = column(spacing=0)
        layout.addLayout(bar)
        layout.addWidget(self._stack, 1)
        self.setLayout(layout)
        session.changed.connect(self._on_change)
        session.selection_changed.connect(self._on_selection)
        self.refresh()

    # ---- what is shown

    @property
    def profile(self) -> Profile | None:
        return self._session.rig.profiles.get(self.profile_id)

    @property
    def mode(self) -> Mode | None:
        profile = self.profile
        if profile is None:
            return None
        return profile.modes.get(self.mode_id) or next(iter(profile.modes.values()))

    @property
    def channel(self) -> Channel | None:
        mode = self.mode
        brk, slot = self.ruler.selected
        return next((c for c in mode.channels if c.brk == brk and slot in c.slots), None) if mode else None

    def _mode_key(self) -> str:
        profile = self.profile
        if profile is None:
            return ""
        return self.mode_id if self.mode_id in profile.modes else next(iter(profile.modes))

    def show_profile(self, pid: str, mode: str = "") -> None:
        self.line.commit()
        self.profile_id, self.mode_id = pid, mode
        self.ruler.selected = (0, 1)
        self._session.select(Selection("profile", (pid,)))
        self.refresh()

    def show_mode(self, mode: str) -> None:
        self.line.commit()
        self.mode_id = mode
        self.ruler.selected = (0, 1)
        self.refresh()

    def _on_selection(self) -> None:
        s = self._session.selection
        if s.kind == "profile" and s.first in self._session.rig.profiles and s.first != self.profile_id:
            self.profile_id, self.mode_id = s.first, ""
            self.refresh()
        elif s.kind == "thing" and s.first in self._session.rig.fixtures:
            f = self._session.rig.fixtures[s.first]
            if (f.profile, f.mode) != (self.profile_id, self._mode_key()):
                self.profile_id, self.mode_id = f.profile, f.mode
                self.refresh()

    def _on_change(self, change: Change) -> None:
        if change.ids("profiles") or change.ids("fixtures"):
            self.refresh()

    def refresh(self) -> None:
        rig = self._session.rig
        if self.profile_id not in rig.profiles:
            self.profile_id, self.mode_id = next(iter(rig.profiles), ""), ""
        self.picker.set_options([(k, f"{p.maker} {p.name}".strip()) for k, p in rig.profiles.items()], self.profile_id)
        self.picker.setVisible(bool(rig.profiles))
        self.remove.setVisible(bool(rig.profiles))
        self._stack.setCurrentIndex(0 if rig.profiles else 1)
        clear(self._modes)
        profile, mode = self.profile, self.mode
        if profile:
            for key, m in profile.modes.items():
                b = button(
                    f"{m.name}   {' + '.join(str(x.slots) for x in m.breaks)}",
                    lambda key=key: self.show_mode(key),
                    "Shows this mode.",
                )
                b.setCheckable(True)
                b.setChecked(key == self._mode_key())
                self._modes.addWidget(b)
            self._modes.addWidget(button("+", self._add_mode, "Adds a mode, as a copy of this one."))
            users = len(used_by(rig, self.profile_id, self._mode_key()))
            self.used.setText(f"used by {plural(users, 'fixture')}" if users else "not used")
        else:
            self.used.setText("")
        if mode and not self.line.pending:
            written = write_chart(mode)
            # What the operator wrote stays as written while it means the same.
            if read_chart(self.line.toPlainText()).mode(mode.name, mode) != mode:
                self.line.set_text(written)
            self._judge(self.line.toPlainText())
        self.ruler.set_mode(mode)
        self.ranges.show_channel(self.channel)
        self.panel.refresh()

    # ---- editing

    def change_mode(self, mode: Mode, label_: str) -> object:
        profile = self.profile
        if profile is None:
            return None
        modes = {**profile.modes, self._mode_key(): mode}
        return self._session.edit(set_profile, self.profile_id, label_, modes=modes)

    def _chart_typed(self, words: str) -> None:
        mode = self.mode
        self._judge(words)
        if mode is None:
            return
        made = self.chart.mode(mode.name, mode)
        if made != mode:
            self.change_mode(made, f"chart of {self.profile.name if self.profile else ''}")

    def _judge(self, words: str) -> None:
        """Read the chart, underline what is not understood, and offer what may be meant."""
        self.chart = read_chart(words)
        self.line.underline(self.chart.problems)
        clear(self._says)
        for problem in self.chart.problems[:3]:
            parts: list[QWidget | int | None] = [
                marks.MarkLabel("error" if problem.error else "warning", 12),
                label(f"Line {problem.line + 1}: {problem.message}", 11),
            ]
            if problem.offers:
                parts.append(label("Did you mean", 11, quiet=True))
                parts += [
                    button(o, lambda p=problem, o=o: self._replace(p, o), "Puts this function there.")
                    for o in problem.offers[:2]
                ]
            if not problem.error and problem.offers is not None and "no function name" in problem.message:
                parts.append(
                    button(
                        "make it my own",
                        lambda p=problem: self._replace(p, f'"{self._word(p)}"'),
                        "Keeps the word as a function of your own.",
                    )
                )
            self._says.addLayout(row(*parts, None, spacing=6))
        if len(self.chart.problems) > 3:
            self._says.addWidget(label(f"and {len(self.chart.problems) - 3} more, underlined above", 11, quiet=True))

    def _word(self, problem: Problem) -> str:
        return self.line.toPlainText().splitlines()[problem.line][problem.column : problem.column + problem.length]

    def _replace(self, problem: Problem, words: str) -> None:
        lines = self.line.toPlainText().splitlines()
        old = lines[problem.line]
        lines[problem.line] = old[: problem.column] + words + old[problem.column + problem.length :]
        self.line.setPlainText("\n".join(lines))
        self.line.commit()

    def _picked(self, brk: int, slot: int) -> None:
        self.ranges.show_channel(self.channel)
        self.panel.refresh()
        source = self.chart.sources.get((brk, slot))
        if source and not self.line.hasFocus():
            cursor = QTextCursor(self.line.document().findBlockByNumber(source.line))
            cursor.movePosition(QTextCursor.MoveOperation.Right, QTextCursor.MoveMode.MoveAnchor, source.column)
            self.line.setTextCursor(cursor)

    def new_profile(self, chart: str = "dimmer") -> None:
        self.line.commit()
        n = 1 + sum(p.name.startswith("New profile") for p in self._session.rig.profiles.values())
        read = read_chart(chart)
        name = f"New profile {n}" if n > 1 else "New profile"
        mode = read.mode("mode 1")
        pid = self._session.edit(add_profile, Profile(name=name, modes={"m1": mode}))
        if pid:
            self.show_profile(pid)
            self.line.setPlainText(chart)
            self.line.commit()
            self.line.setFocus()
            self.line.selectAll()

    def _add_mode(self) -> None:
        profile, mode = self.profile, self.mode
        if profile is None or mode is None:
            return
        n = len(profile.modes) + 1
        while f"m{n}" in profile.modes:
            n += 1
        modes = {**profile.modes, f"m{n}": replace(mode, name=f"mode {n}")}
        if self._session.edit(set_profile, self.profile_id, f"add a mode to {profile.name}", modes=modes):
            self.show_mode(f"m{n}")

    def _remove(self) -> None:
        def edit(rig: Rig) -> tuple[Rig, Change]:
            return remove_profile(rig, self.profile_id)

        self._session.edit(edit)

    def _empty(self) -> QWidget:
        made = QWidget()
        body = column((40, 40, 40, 40), 10)
        body.addStretch(1)
        for words, size in (
            ("No profiles yet", 22), ("A profile is one fixture type, as its manual's channel table says.", 13),
            ("Paste the table here, or type it: pan 16, tilt 16, dimmer, 7 x (amber white)", 13),
        ):  # fmt: skip
            line = label(words, size, size == 22)
            body.addLayout(row(None, line, None))
        self.first = Field(
            "A channel table: pan 16, tilt 16, dimmer, 7 x (amber white). Makes a new profile of it.", self._first
        )
        self.first.setPlaceholderText("pan 16, tilt 16, dimmer, 7 x (amber white)")
        self.first.setFixedWidth(420)
        body.addLayout(row(None, self.first, button("Make profile", self.first.commit, primary=True), None))
        body.addStretch(2)
        made.setLayout(body)
        return made

    def _first(self, words: str) -> object:
        if words.strip():
            self.new_profile(words)
            self.first.set_value("")
        return True

    def restyle(self) -> None:
        self.panel.restyle()
        self.refresh()
