"""The fields of the channel that is chosen on the ruler, or of several at once."""

from __future__ import annotations

import re
from collections.abc import Callable

from msgspec.structs import replace
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCompleter, QWidget

from welvo.app.widgets.fields import Field
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import CaptionBeside, Form, Subject, Ticked, Together, Typed, ValueChoice
from welvo.app.widgets.painting import column_of_widgets, make_label
from welvo.formats.chart import nearest_words
from welvo.rig.attributes import ATTRIBUTES, BY_KEY, BY_WORD, OWN, word_for
from welvo.rig.base import Refused
from welvo.rig.lamp import gating_channels, highlight_values
from welvo.rig.modes import say_channel, set_channels, set_function, set_short, set_slots
from welvo.rig.notation import say_count, say_stretch
from welvo.rig.profile import Channel, Mode
from welvo.rig.readers import Number, TextReader

Change = Callable[[Callable[[Mode], Mode], str], object]
"""Runs an edit of the mode, named for the undo menu."""
MASTER = (("auto", "as usual for this function"), ("yes", "follows"), ("no", "stays"))
FUNCTION_HELP = "What this channel does, in plain words: type to search. A wrong one moves something else on the lamp."
SLOTS_HELP = (
    "Which slots of its break it takes, coarse first: 5, or 1 4 when the fine byte stands apart. "
    "A wrong one shifts nothing else."
)
SHORT_HELP = "One to four letters for tapes and sheets, its own in the mode (or in its pixel)."
DEFAULT_HELP = "The value while nobody touches it. A shutter that is closed by default keeps the lamp dark."
HIGHLIGHT_HELP = (
    "The value that makes the lamp easy to find. Empty: the one shown, with dimmer and shutter open, strobe off, "
    "colours white, movement in the middle."
)
RELEASE_HELP = "The value a receiver is left with when output is disarmed and gives defaults. Empty: its default."
NEEDS_HELP = (
    "Short names of the channels that keep this one dark while at zero, such as Dim Shut. "
    "Empty: as the functions say; “none”: nothing does."
)


class ChannelFields(QWidget):
    """Empty fields of a multi-selection mean “not all the same”; what is typed goes to all of them."""

    def __init__(self, change: Change) -> None:
        super().__init__()
        self._change = change
        self.mode: Mode | None = None
        self.which: list[int] = []
        self._title = make_label("", 16, True)
        self._where = make_label("", 11, quiet=True)
        self._gdtf = make_label("", 11, quiet=True)
        body = column_of_widgets(spacing=6)
        body.addLayout(flow_of_widgets(self._title, None, self._where))
        body.addWidget(self._gdtf)
        self.form = Form(body, Subject(self._chosen_channels, self._set_values), Channel).add(*self._rows_of_fields())
        function = self.field_of_name("Function")
        words = sorted({a.word for a in ATTRIBUTES} | {w for a in ATTRIBUTES for w in a.also})
        completer = QCompleter(words, function)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        function.setCompleter(completer)
        self.setLayout(body)

    def field_of_name(self, name: str) -> Field:
        found = self.form.fields[name]
        assert isinstance(found, Field)
        return found

    def _rows_of_fields(self) -> tuple[Typed | ValueChoice | Together, ...]:
        def value(name: str, key: str, help_text: str) -> Typed:
            def say(c: Channel) -> str:
                now = getattr(c, key)
                return "" if now is None else str(now)

            return Typed(
                name, help_text, width=62, shown=self._what_all_say(say), take=lambda t: self._set_value(key, t)
            )

        def physical(name: str, key: str, help_text: str) -> Typed:
            reader = Number(Channel, key)
            return Typed(
                name,
                help_text,
                width=40,
                shown=self._what_all_say(lambda c: reader.say_value(getattr(c, key))),
                take=lambda t: self._set_values(key, **{key: reader.read_text(t)}),
            )

        function = Typed(
            "Function",
            FUNCTION_HELP,
            shown=self._what_all_say(lambda c: word_for(c.function, c.name)),
            take=self._set_function,
        )
        slots = Typed("Slots", SLOTS_HELP, width=56, shown=self._what_all_say(_say_slots), take=self._set_slots)
        short = Typed("Short", SHORT_HELP, width=50, shown=self._what_all_say(lambda c: c.short), take=self._set_short)
        low = physical("Low", "low", "What the lowest value means physically, such as 0 or 8. Only for hand-over.")
        high = physical("High", "high", "What the highest value means physically, such as 540. Only for hand-over.")
        unit = Typed(
            "Unit",
            "The unit of both: °, Hz, K, %, or empty.",
            width=38,
            shown=self._what_all_say(lambda c: c.unit),
            take=lambda t: self._set_values("unit", unit=TextReader(longest=8).read_text(t)),
        )
        snap = Ticked(
            "Snap, no fade",
            "It jumps to its value instead of fading there, as wheels and macros do.",
            shown=lambda chosen: all(c.snap for c in chosen),
            take=lambda on: self._set_values("snap", snap=on),
        )
        invert = Ticked(
            "Inverted",
            "The highest value means the lowest: swaps the two ends of its physical range.",
            shown=lambda chosen: all(c.invert for c in chosen),
            take=lambda on: self._set_values("inversion", invert=on),
        )
        needs = Typed(
            "Dimmed by",
            NEEDS_HELP,
            shown=self._what_all_say(lambda c: "" if c.needs is None else " ".join(c.needs) or "none"),
            take=self._set_needs,
        )
        master = ValueChoice(
            "Follows master",
            "Whether a master fader and blackout take this channel along. Heads should not swing at blackout.",
            options=MASTER,
            shown=lambda chosen: str(chosen[0].master),
            take=lambda v: self._set_values("master", master=v),
        )
        return (
            function,
            Together("Slots", (slots, CaptionBeside("short"), short)),
            Together("Default", (value("Default", "default", DEFAULT_HELP), None)),
            Together("Highlight", (value("Highlight", "highlight", HIGHLIGHT_HELP), None)),
            Together("When released", (value("When released", "release", RELEASE_HELP), None)),
            Together("Physical range", (low, CaptionBeside("to"), high, unit)),
            Together(None, (snap, invert, None)),
            needs,
            master,
        )

    @staticmethod
    def _what_all_say(say: Callable[[Channel], str]) -> Callable[[list[Channel]], str]:
        """What all of the chosen channels say, or nothing."""

        def shown(chosen: list[Channel]) -> str:
            values = {say(c) for c in chosen}
            return values.pop() if len(values) == 1 else ""

        return shown

    # ---- showing

    def _chosen_channels(self) -> list[Channel] | None:
        return [self.mode.channels[n] for n in self.which] if self.mode and self.which else None

    def show_channels(self, mode: Mode | None, which: list[int]) -> None:
        self.mode, self.which = mode, [n for n in which if mode and n < len(mode.channels)]
        chosen = self._chosen_channels()
        self.setVisible(bool(chosen))
        if mode is None or not chosen:
            return
        c, single = chosen[0], len(chosen) == 1
        said = say_channel(c)
        self._title.setText(said[:1].upper() + said[1:] if single else say_count(len(chosen), "channel"))
        of = f" of break {c.break_no + 1}" if len(mode.breaks) > 1 else ""
        self._where.setText(f"slot {say_stretch(c.slots[0], c.slots[-1])}{of}" if single else "")
        known = f"GDTF attribute {c.function} · " if c.function in BY_KEY else ""
        self._gdtf.setText(f"{known}{8 * len(c.slots)} bit" if single else "a value typed here goes to all of them")
        self.form.refresh()
        for name in ("Slots", "Short"):
            self.field_of_name(name).setEnabled(single)
        derived = " ".join(g.short for g in gating_channels(mode, c)) if c.needs is None else ""
        self.field_of_name("Dimmed by").setPlaceholderText(f"as derived: {derived or 'nothing'}")
        plain = replace(mode, channels=tuple(replace(x, highlight=None) for x in mode.channels))
        self.field_of_name("Highlight").setPlaceholderText(
            str(highlight_values(plain)[self.which[0]]) if single else ""
        )
        self.field_of_name("When released").setPlaceholderText(str(c.default) if single else "")

    # ---- editing

    def _label_slots(self, what: str) -> str:
        chosen = self._chosen_channels() or []
        return f"{what} of {say_channel(chosen[0]) if len(chosen) == 1 else say_count(len(chosen), 'channel')}"

    def _set_values(self, words: str, **fields: object) -> object:
        which = list(self.which)
        return self._change(lambda m: set_channels(m, which, **fields), self._label_slots(words))

    def _set_function(self, typed: str) -> object:
        function, which = read_function(typed), list(self.which)
        return self._change(lambda m: set_function(m, which, function), self._label_slots("function"))

    def _set_slots(self, typed: str) -> object:
        slots, n = read_slots(typed), self.which[0]
        return self._change(lambda m: set_slots(m, n, slots), self._label_slots("slots"))

    def _set_short(self, typed: str) -> object:
        n = self.which[0]
        return self._change(lambda m: set_short(m, n, typed), self._label_slots("short name"))

    def _set_value(self, key: str, typed: str) -> object:
        t, which = typed.strip(), list(self.which)
        if not t and key == "default":
            return None if len(which) > 1 else self._set_values("default", default=0)
        m = re.fullmatch(r"(\d{1,10}(?:\.\d{1,6})?)\s*(%?)", t) if t else None
        if t and not m:
            raise Refused(f"“{t}” is no value; write a whole number, or a percentage such as 50 %.")

        def edit(mode: Mode) -> Mode:
            for n in which:
                top = mode.channels[n].highest_value
                value = None if m is None else round(float(m[1]) * top / 100) if m[2] else int(float(m[1]))
                mode = set_channels(mode, [n], **{key: value})
            return mode

        return self._change(edit, self._label_slots(key))

    def _set_needs(self, typed: str) -> object:
        t = typed.strip()
        names = None if not t else () if t.lower() == "none" else tuple(x for x in re.split(r"[\s,;]+", t) if x)
        for c in self._chosen_channels() or []:
            have = {x.short for x in self.mode.channels if x.pixel in (0, c.pixel)} if self.mode else set()
            lost = next((x for x in names or () if x not in have), "")
            if lost:
                raise Refused(f"There is no channel “{lost}” here. Short names: {', '.join(sorted(have)[:8])}.")
        return self._set_values("what dims it", needs=names)


def _say_slots(c: Channel) -> str:
    return " ".join(map(str, c.slots))


def read_function(typed: str) -> str:
    """A function by its plain word or its GDTF name; words in quotes are one of the user's own. Empty: undescribed."""
    t = typed.strip()
    found = BY_WORD.get(t.lower()) or BY_KEY.get(t)
    if found or not t:
        return found.key if found else ""
    if t.startswith('"') and t.strip('"'):
        return OWN + t.strip('"')
    offers = nearest_words(t)
    near = f" Did you mean {' or '.join(offers[:2])}?" if offers else ""
    raise Refused(f"“{t}” is no function.{near} In quotes it becomes one of your own.")


def read_slots(typed: str) -> tuple[int, ...]:
    """`5`, `1 4` or `5-6`: one to four slots, coarse first."""
    numbers = re.findall(r"\d{1,5}", typed)
    if not numbers:
        raise Refused("Say one to four slots, coarse first, such as 5 or 1 4.")
    slots = tuple(int(x) for x in numbers)
    if re.fullmatch(r"\s*\d+\s*[-–]\s*\d+\s*", typed) and 0 < slots[1] - slots[0] < 4:
        return tuple(range(slots[0], slots[1] + 1))
    return slots
