"""The fields of the channel that is chosen on the ruler, or of several at once."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCompleter, QWidget

from welvo.app.session import Session
from welvo.app.widgets.fields import Choice, Field, Tick
from welvo.app.widgets.painting import column, label, row
from welvo.app.widgets.panels import field_row
from welvo.formats.chart import nearest
from welvo.rig.attributes import ATTRIBUTES, BY_KEY, BY_WORD, OWN, word_for
from welvo.rig.base import Refused
from welvo.rig.lamp import gates
from welvo.rig.modes import say_channel, set_channels, set_function, set_short, set_slots
from welvo.rig.notation import plural
from welvo.rig.profile import Channel, Mode

Edit = Callable[[Mode], Mode]
MASTER = (("auto", "as its function does"), ("yes", "follows"), ("no", "stays"))


class ChannelFields(QWidget):
    """`change(edit, label)` runs an edit of the mode. Empty fields of a multi-selection mean “not all the same”."""

    def __init__(self, session: Session, change: Callable[[Edit, str], object]) -> None:
        super().__init__()
        self._session, self._change = session, change
        self.mode: Mode | None = None
        self.which: list[int] = []
        self._title = label("", 16, True)
        self._where = label("", 11, quiet=True)
        self._gdtf = label("", 11, quiet=True)
        body = column(spacing=6)
        body.addLayout(row(self._title, None, self._where))
        body.addWidget(self._gdtf)
        self.function = self._field(
            "Function",
            "What this channel does, in plain words: type to search. A wrong one moves something else on the lamp.",
            self._set_function,
        )
        words = sorted({a.word for a in ATTRIBUTES} | {w for a in ATTRIBUTES for w in a.also})
        completer = QCompleter(words, self.function)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        self.function.setCompleter(completer)
        self.slots = self._field(
            "Slots",
            "Which slots of its break it takes, coarse first: 5, or 1 4 when the fine byte stands apart. A wrong one shifts nothing else.",
            self._set_slots,
            62,
        )
        self.short = self._field(
            "Short",
            "One to four letters for tapes and sheets, its own in the mode (or in its pixel).",
            self._set_short,
            52,
        )
        self.default = self._field(
            "Default",
            "The value while nobody touches it. A shutter that is closed by default keeps the lamp dark.",
            lambda t: self._value("default", t),
            62,
        )
        self.highlight = self._field(
            "Highlight",
            "The value that makes the lamp easy to find. Empty: its default.",
            lambda t: self._value("highlight", t),
            62,
        )
        self.release = self._field(
            "At release",
            "The value when output is released. Empty: its default.",
            lambda t: self._value("release", t),
            62,
        )
        self.low = self._field(
            "Low",
            "What the lowest value means physically, such as 0 or 8. Only for display and hand-over.",
            lambda t: self._number("low", t),
            44,
        )
        self.high = self._field(
            "High",
            "What the highest value means physically, such as 540 or 45. Only for display and hand-over.",
            lambda t: self._number("high", t),
            44,
        )
        self.unit = self._field(
            "Unit", "The unit of both: °, Hz, K, %, or empty.", lambda t: self._set(unit=t.strip()[:8]), 38
        )
        self.needs = self._field(
            "Dark while",
            "Short names of the channels that keep this one dark while at zero, such as Dim Shut. Empty: as the functions say; “none”: nothing does.",
            self._set_needs,
        )
        self.master = Choice(
            "Whether a master fader and blackout take this channel along. Heads should not swing at blackout.",
            lambda v: self._set(master=v),
        )
        self.master.setAccessibleName("Master")
        self.snap = Tick(
            "Snaps",
            "It jumps to its value instead of fading there, as wheels and macros do.",
            lambda on: self._set(snap=on),
        )
        self.invert = Tick(
            "Inverted",
            "The highest value means the lowest: swaps the two ends of its physical range.",
            lambda on: self._set(invert=on),
        )
        body.addLayout(field_row("Function", self.function))
        body.addLayout(field_row("Slots", self.slots, None, label("short", 11, quiet=True), self.short))
        body.addLayout(field_row("Default", self.default, None))
        body.addLayout(field_row("Highlight", self.highlight, None, self.snap))
        body.addLayout(field_row("At release", self.release, None, self.invert))
        body.addLayout(field_row("Means", self.low, label("to", 11, quiet=True), self.high, self.unit))
        body.addLayout(field_row("Dark while", self.needs))
        body.addLayout(field_row("Master", self.master))
        self.setLayout(body)

    def _field(self, words: str, help_text: str, apply: Callable[[str], object], wide: int = 0) -> Field:
        made = Field(help_text, apply, right=bool(wide))
        made.setAccessibleName(words)
        made.say = lambda why: self._session.say(why, "error")
        if wide:
            made.setFixedWidth(wide)
        return made

    # ---- showing

    def show_channels(self, mode: Mode | None, which: list[int]) -> None:
        self.mode, self.which = mode, [n for n in which if mode and n < len(mode.channels)]
        self.setVisible(bool(self.which))
        if not mode or not self.which:
            return
        chosen = [mode.channels[n] for n in self.which]
        c = chosen[0]
        single = len(chosen) == 1
        self._title.setText(
            say_channel(c)[:1].upper() + say_channel(c)[1:] if single else plural(len(chosen), "channel")
        )
        where = (
            f"slot {c.slots[0]}"
            + (f"–{c.slots[-1]}" if len(c.slots) > 1 else "")
            + (f" of break {c.brk + 1}" if len(mode.breaks) > 1 else "")
        )
        self._where.setText(where if single else "")
        known = BY_KEY.get(c.function)
        self._gdtf.setText(
            f"GDTF attribute {c.function} · {8 * len(c.slots)} bit"
            if known and single
            else f"{8 * len(c.slots)} bit"
            if single
            else "a value typed here goes to all of them"
        )
        self.function.set_value(self._same(chosen, lambda x: word_for(x.function, x.name)))
        self.slots.set_value(" ".join(map(str, c.slots)) if single else "")
        self.short.set_value(c.short if single else "")
        self.slots.setEnabled(single)
        self.short.setEnabled(single)
        self.default.set_value(self._same(chosen, lambda x: str(x.default)))
        self.highlight.set_value(self._same(chosen, lambda x: "" if x.highlight is None else str(x.highlight)))
        self.release.set_value(self._same(chosen, lambda x: "" if x.release is None else str(x.release)))
        self.low.set_value(self._same(chosen, lambda x: "" if x.low is None else f"{x.low:g}"))
        self.high.set_value(self._same(chosen, lambda x: "" if x.high is None else f"{x.high:g}"))
        self.unit.set_value(self._same(chosen, lambda x: x.unit))
        self.needs.set_value(self._same(chosen, lambda x: "" if x.needs is None else " ".join(x.needs) or "none"))
        derived = " ".join(g.short for g in gates(mode, c)) if c.needs is None else ""
        self.needs.setPlaceholderText(f"as derived: {derived or 'nothing'}")
        self.master.set_options(list(MASTER), c.master)
        self.snap.setChecked(all(x.snap for x in chosen))
        self.invert.setChecked(all(x.invert for x in chosen))

    @staticmethod
    def _same(chosen: list[Channel], read: Callable[[Channel], str]) -> str:
        values = {read(c) for c in chosen}
        return values.pop() if len(values) == 1 else ""

    # ---- editing

    def _label(self, what: str) -> str:
        assert self.mode
        c = self.mode.channels[self.which[0]]
        return (
            f"{what} of {say_channel(c)}" if len(self.which) == 1 else f"{what} of {plural(len(self.which), 'channel')}"
        )

    def _set(self, **fields: Any) -> object:
        which = list(self.which)
        return self._change(lambda m: set_channels(m, which, **fields), self._label(", ".join(fields)))

    def _set_function(self, typed: str) -> object:
        t, which = typed.strip(), list(self.which)
        found = BY_WORD.get(t.lower())
        function = (
            found.key
            if found
            else BY_KEY[t].key
            if t in BY_KEY
            else OWN + t.strip('"')
            if t.startswith('"') and t.strip('"')
            else ""
        )
        if not function and t:
            offers = nearest(t)
            near = f" Did you mean {' or '.join(offers[:2])}?" if offers else ""
            raise Refused(f"“{t}” is no function.{near} In quotes it becomes one of your own.")
        return self._change(lambda m: set_function(m, which, function), self._label("function"))

    def _set_slots(self, typed: str) -> object:
        numbers = re.findall(r"\d+", typed)
        if not numbers:
            raise Refused("Say one to four slots, coarse first, such as 5 or 1 4.")
        slots = tuple(int(x) for x in numbers)
        if re.fullmatch(r"\s*\d+\s*[-–]\s*\d+\s*", typed) and 0 < slots[1] - slots[0] < 4:
            slots = tuple(range(slots[0], slots[1] + 1))
        n = self.which[0]
        return self._change(lambda m: set_slots(m, n, slots), self._label("slots"))

    def _set_short(self, typed: str) -> object:
        n = self.which[0]
        return self._change(lambda m: set_short(m, n, typed), self._label("short name"))

    def _value(self, key: str, typed: str) -> object:
        t = typed.strip()
        if not t and key == "default":
            return True if len(self.which) > 1 else self._set(default=0)
        which = list(self.which)
        m = re.fullmatch(r"(\d+(?:\.\d+)?)\s*(%?)", t) if t else None
        if t and not m:
            raise Refused(f"“{t}” is no value; write a whole number, or a percentage such as 50 %.")

        def edit(mode: Mode) -> Mode:
            for n in which:
                value = (
                    None if m is None else round(float(m[1]) * mode.channels[n].top / 100) if m[2] else int(float(m[1]))
                )
                mode = set_channels(mode, [n], **{key: value})
            return mode

        return self._change(edit, self._label(key))

    def _number(self, key: str, typed: str) -> object:
        try:
            value = float(typed.replace(",", ".")) if typed.strip() else None
        except ValueError:
            raise Refused(f"“{typed.strip()}” is no number.") from None
        return self._set(**{key: value})

    def _set_needs(self, typed: str) -> object:
        t = typed.strip()
        names = None if not t else () if t.lower() == "none" else tuple(x for x in re.split(r"[\s,;]+", t) if x)
        assert self.mode
        for n in self.which:
            c = self.mode.channels[n]
            have = {x.short for x in self.mode.channels if x.pixel in (0, c.pixel)}
            lost = [x for x in names or () if x not in have]
            if lost:
                raise Refused(f"There is no channel “{lost[0]}” here. Short names: {', '.join(sorted(have)[:8])}.")
        return self._set(needs=names)
