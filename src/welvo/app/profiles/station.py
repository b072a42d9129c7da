"""The Profiles station: chart line, rulers, ranges and try-out; face, channel and profile in the panel."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from difflib import get_close_matches
from functools import lru_cache, partial

from msgspec.structs import replace
from PySide6.QtGui import QTextCursor
from PySide6.QtWidgets import QHBoxLayout, QMenu, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from welvo.app.jobs.network import Network
from welvo.app.profiles.chart_line import ChartLine
from welvo.app.profiles.compare import AddressPreview, CompareModes
from welvo.app.profiles.panel import ProfilesPanel
from welvo.app.profiles.range_editor import RangeEditor
from welvo.app.profiles.ruler import Ruler
from welvo.app.profiles.tryout import TryOut
from welvo.app.session import Selection, Session
from welvo.app.widgets import dialogs, marks
from welvo.app.widgets.empty import EmptyPage
from welvo.app.widgets.face_editor import FaceEditor
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.flow import FlowRow, flow_of_widgets, keep_least
from welvo.app.widgets.painting import (
    clear_layout,
    column_of_widgets,
    make_button,
    make_label,
    menu_entry,
)
from welvo.app.widgets.painting import popup_menu as popup_menu
from welvo.app.widgets.start import Start
from welvo.app.widgets.station import Station
from welvo.app.widgets.theme import THEME
from welvo.checks.foresee import Foreseen
from welvo.formats.chart import Chart, Problem, lost_by_hand, read_chart
from welvo.formats.chart_write import write_chart
from welvo.patch.mode_edits import order_modes, remove_mode, with_mode
from welvo.rig.attributes import word_for
from welvo.rig.base import Refused
from welvo.rig.colours import FUNCTIONS, LETTERS, read_order
from welvo.rig.document import Change, Edit, Picture, Rig, fresh_id, put_entries
from welvo.rig.edits import add_profile, remove_profile, set_profile
from welvo.rig.lookup import used_by
from welvo.rig.modes import (
    arrange_pixels,
    components_of_pixel,
    join_break,
    label_channel,
    move_channels,
    remove_channels,
    split_break,
    strip_mode,
)
from welvo.rig.notation import say_count
from welvo.rig.profile import Channel, Mode, Profile
from welvo.survey.effect_words import say_all

read_once = lru_cache(8)(read_chart)
"""The station asks for the same text a few times over while it takes one change in."""


class ProfilesStation(Station):
    name = "Profiles"
    panel: ProfilesPanel
    start: Start

    name = "Profiles"

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session = session
        self.profile_id = next(iter(session.rig.profiles), "")
        self.mode_id = ""
        self.chart: Chart = Chart()
        self._label: tuple[int, int, str] | None = None
        """Break, slot and word of an offer that is being taken: the word stays as the channel's label."""
        self.waiting: tuple[str, str, Mode, str, Foreseen] | None = None
        """Profile, mode, its new value, what the change is called, what it would do: waits for the operator's word."""
        self._make_bar()
        self.line = ChartLine(self._chart_typed)
        session.about_to_act.connect(self._commit_chart)
        self._says = QVBoxLayout()
        self._says.setSpacing(4)
        self._asks = QVBoxLayout()
        self.ruler = Ruler()
        self.ruler.picked.connect(self._follow_picked)
        self.ruler.moved.connect(self._move_channel)
        self.ranges = RangeEditor(self._range_changed)
        self.tryout = TryOut()
        self.tryout.pointed.connect(self._point_on_scale)
        self.panel = ProfilesPanel(self, session, network)
        inner = QWidget()
        body = column_of_widgets(spacing=4)
        title = flow_of_widgets(
            make_label("Chart line", 13, True), make_label("type it, or paste the manual's table", 11, quiet=True), None
        )
        title.setContentsMargins(16, 4, 16, 0)
        body.addLayout(title)
        box_ = column_of_widgets((16, 0, 16, 0), 4)
        box_.addWidget(self.line)
        box_.addLayout(self._says)
        box_.addLayout(self._asks)
        body.addLayout(box_)
        body.addLayout(self._ruler_bar())
        body.addWidget(self.ruler)
        body.addWidget(self.ranges)
        body.addSpacing(4)
        body.addWidget(self.tryout, 1)
        inner.setLayout(body)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inner)
        self._stack = QStackedWidget()
        self._stack.addWidget(scroll)
        self._stack.addWidget(self._empty_page())
        layout = column_of_widgets(spacing=0)
        layout.addLayout(self._top)
        layout.addWidget(self._stack, 1)
        self.setLayout(layout)
        session.changed.connect(self._on_change)
        session.selection_changed.connect(self._on_selection)
        self.refresh()
        self._on_selection()  # what was selected before this station was first looked at

    def _make_bar(self) -> None:
        self.picker = Choice("Which profile of the rig is shown.", self.show_profile)
        self.picker.setAccessibleName("Profile")
        keep_least(self.picker, 150)
        self._modes = QHBoxLayout()
        self._modes.setSpacing(4)
        self._modes.setContentsMargins(0, 0, 0, 0)
        modes = QWidget()
        modes.setLayout(self._modes)
        self.used = make_label("", 11, quiet=True)
        self.library = make_button(
            "Library…", self.open_library, "Generics, your own folder, import and export of GDTF and CSV."
        )
        self.new = make_button("New", self._new_menu, "An empty profile, or a plain strip of pixels.")
        self._top = flow_of_widgets(
            make_label("Profiles", 16, True), 4, self.picker, modes, None, self.used, self.library, self.new, spacing=6
        )
        self._top.setContentsMargins(16, 8, 16, 8)

    def _ruler_bar(self) -> FlowRow:
        self._alike = make_button(
            "All alike",
            self.ruler.choose_alike,
            "Selects every channel of the mode that has the same function, such as red of all pixels.",
        )
        self._split = make_button(
            "Split break",
            self.split_here,
            "From the selected channel on, the channels become a break with an address of its own.",
        )
        self._join = make_button(
            "Join breaks", self.join_here, "Puts the selected channel's break behind the one before it."
        )
        self._order = make_button(
            "Pixel order…",
            self.pixel_order,
            "Which colour comes first in each pixel, and whether they go pixel by pixel or plane by plane.",
        )
        self._drop = make_button(
            "Remove", self.remove_selected, "Takes the selected channels out; the slots behind them close up."
        )
        made = flow_of_widgets(
            make_label("Channel ruler", 13, True),
            None,
            self._alike,
            self._split,
            self._join,
            self._order,
            self._drop,
            spacing=6,
        )
        for b in (self._alike, self._split, self._join, self._order, self._drop):
            b.setFixedHeight(26)
        made.setContentsMargins(16, 4, 16, 0)
        return made

    # ---- what is shown

    @property
    def profile(self) -> Profile | None:
        return self._session.rig.profiles.get(self.profile_id)

    @property
    def mode(self) -> Mode | None:
        """The mode as shown: with a change that still waits for the operator's word."""
        profile = self.profile
        if profile is None:
            return None
        if self.waiting and self.waiting[:2] == (self.profile_id, self.mode_key):
            return self.waiting[2]
        return profile.modes[self.mode_key]

    @property
    def mode_key(self) -> str:
        profile = self.profile
        if profile is None:
            return ""
        return self.mode_id if self.mode_id in profile.modes else next(iter(profile.modes))

    @property
    def channel(self) -> Channel | None:
        mode = self.mode
        break_no, slot = self.ruler.selected
        return next((c for c in mode.channels if c.break_no == break_no and slot in c.slots), None) if mode else None

    def picture_of(self, mode: Mode | None) -> bytes | None:
        found = self._session.rig.pictures.get(mode.backdrop.picture) if mode and mode.backdrop else None
        return found.data if found else None

    def show_profile(self, pid: str, mode: str = "") -> None:
        self.line.commit()
        self.profile_id, self.mode_id = pid, mode
        self.ruler.selected, self.ruler.also = (0, 1), set()
        self._session.change_selection(Selection("profile", (pid,)))
        self.refresh()

    def show_mode(self, mode: str) -> None:
        self.line.commit()
        self.mode_id = mode
        self.ruler.selected, self.ruler.also = (0, 1), set()
        self.refresh()

    def _on_selection(self) -> None:
        s = self._session.selection
        if (
            s.kind == "profile"
            and s.first_selected in self._session.rig.profiles
            and s.first_selected != self.profile_id
        ):
            self.profile_id, self.mode_id = s.first_selected, ""
            self.refresh()
        elif s.kind == "item" and s.first_selected in self._session.rig.fixtures:
            f = self._session.rig.fixtures[s.first_selected]
            if (f.profile, f.mode) != (self.profile_id, self.mode_key):
                self.profile_id, self.mode_id = f.profile, f.mode
                self.refresh()

    def _on_change(self, change: Change) -> None:
        if self.waiting and (
            self.waiting[0] in change.changed_ids("profiles") or self.waiting[0] not in self._session.rig.profiles
        ):
            self.waiting = None
        if change.changed_ids("profiles") or change.changed_ids("fixtures") or change.changed_ids("pictures"):
            self.refresh()

    def homes(self) -> Sequence[QWidget]:
        return (self.line, self.first, self.new)

    def forget(self) -> None:
        """Another rig: no profile, chart or waiting change of the former one stays."""
        self.profile_id = self.mode_id = ""
        self.waiting = None
        self.line.set_text("")
        self.chart = Chart()
        self.ruler.selected, self.ruler.also = (0, 1), set()
        self.refresh()

    def refresh(self) -> None:
        rig = self._session.rig
        if self.profile_id not in rig.profiles:
            self.profile_id, self.mode_id = next(iter(rig.profiles), ""), ""
        self.picker.set_options([(k, f"{p.maker} {p.name}".strip()) for k, p in rig.profiles.items()], self.profile_id)
        self.picker.setVisible(bool(rig.profiles))
        self._stack.setCurrentIndex(0 if rig.profiles else 1)
        self._mode_buttons()
        mode = self.mode
        if mode and not self.line.pending:
            # What the operator wrote stays as written while it means the same.
            if read_once(self.line.toPlainText()).mode_of_chart(mode.name, mode) != mode:
                self.line.set_text(write_chart(mode))
            self._judge_chart(self.line.toPlainText())
        self.ruler.set_mode(mode)
        self.tryout.set_mode(mode)
        self._show_channel()
        self._ask_before_change()

    def _show_channel(self) -> None:
        self.ranges.show_channel(self.channel)
        self.panel.refresh()
        mode, break_no = self.mode, self.ruler.selected[0]
        chosen = self.ruler.chosen_places()
        self._alike.setEnabled(bool(chosen))
        self._split.setEnabled(bool(chosen) and self.ruler.selected[1] > 1)
        self._join.setEnabled(bool(mode) and 0 < break_no < len(mode.breaks) if mode else False)
        self._order.setEnabled(bool(mode and mode.count_pixels))
        self._drop.setEnabled(bool(chosen))

    def _mode_buttons(self) -> None:
        clear_layout(self._modes)
        profile = self.profile
        if not profile:
            self.used.setText("")
            return
        shown = list(profile.modes.items())
        for key, m in shown[:3] if len(shown) > 4 else shown:
            b = make_button(
                f"{m.name}   {' + '.join(str(x.slots) for x in m.breaks)}",
                partial(self.show_mode, key),
                "Shows this mode.",
            )
            b.setCheckable(True)
            b.setChecked(key == self.mode_key)
            self._modes.addWidget(b)
        if len(shown) > 4:
            rest = Choice("The other modes of this profile.", self.show_mode)
            rest.setAccessibleName("Mode")
            rest.set_options([(k, f"{m.name} ({m.slots_needed})") for k, m in shown], self.mode_key)
            self._modes.addWidget(rest)
        self._mode_menu = make_button("Mode ▾", self._open_mode_menu, "Add a mode, compare, move, remove.")
        self._modes.addWidget(self._mode_menu)
        users = len(used_by(self._session.rig, self.profile_id, self.mode_key))
        self.used.setText(f"used by {say_count(users, 'fixture')}" if users else "not used")

    @property
    def chosen_break(self) -> int:
        return self.ruler.selected[0]

    def chosen_channels(self) -> list[int]:
        return self.ruler.chosen_places()

    # ---- editing

    def edit_mode(self, edit: Callable[[Mode], Mode], words: str) -> object:
        """Run an edit of the shown mode. Raises Refused, which marks the field it came from."""
        mode = self.mode
        return self.change_mode(edit(mode), words) if mode else True

    def change_mode(self, mode: Mode, words: str, pictures: dict[str, Picture | None] | None = None) -> object:
        """Take a changed mode over. One that moves addresses of patched fixtures waits until they were shown."""
        profile = self.profile
        if profile is None:
            return None
        pid, mid = self.profile_id, self.mode_key
        if used_by(self._session.rig, pid, mid) and [b.slots for b in mode.breaks] != [
            b.slots for b in profile.modes[mid].breaks
        ]:
            found = self._session.foresee_edit(with_mode(self._session.rig, pid, mid, mode, words))
            if found.effects:
                self.waiting = (pid, mid, mode, words, found)
                self.refresh()
                return True
        waited, self.waiting = self.waiting is not None, None

        def edit(rig: Rig) -> Edit:
            new = replace(rig.profiles[pid], modes={**rig.profiles[pid].modes, mid: mode})
            return put_entries(rig, words, profiles={pid: new}, pictures=pictures or {})

        result = self._session.make_edit(edit)
        if waited:
            self.refresh()  # also when the mode is again what it was, and nothing else follows
        return result

    def _ask_before_change(self) -> None:
        """The strip that shows what a change would do to addresses, with both answers."""
        clear_layout(self._asks)
        if not self.waiting or self.waiting[:2] != (self.profile_id, self.mode_key):
            return
        found = self.waiting[4]
        meets = any(e.kind in ("meets", "past", "unplaced") for e in found.effects)
        says = make_label(say_all(found.effects), 11, wrap=True)
        do = make_button(
            f"Change {self._say_users()}",
            self.take_waiting,
            "Takes the changed mode over, for all fixtures that stand in it.",
            primary=True,
        )
        show = make_button("Show them…", self.show_waiting, "Every address, before and after.")
        leave = make_button("Leave as it was", self.leave_waiting, "Throws the change of the mode away.")
        strip = flow_of_widgets(marks.MarkLabel("error" if meets else "warning", 14), says, show, leave, do, spacing=8)
        self._asks.addLayout(strip)

    def _say_users(self) -> str:
        """How many stand in the mode that is shown: these are changed."""
        return say_count(len(used_by(self._session.rig, self.profile_id, self.mode_key)), "fixture")

    def take_waiting(self) -> None:
        if self.waiting:
            pid, mid, mode, words, _ = self.waiting
            self.waiting = None
            self._session.attempt_edit(with_mode, pid, mid, mode, words)

    def leave_waiting(self) -> None:
        self.waiting = None
        mode = self.mode
        if mode:
            self.line.set_text(write_chart(mode))
        self.refresh()

    def show_waiting(self) -> None:
        if self.waiting:
            found = self.waiting[4]
            if AddressPreview(f"Change of {self.waiting[2].name}", found, f"Change {self._say_users()}", self).exec():
                self.take_waiting()

    def _commit_chart(self) -> None:
        self.line.commit()
        if self.waiting:
            name = self._session.rig.profiles[self.waiting[0]].name
            self._session.say(
                f"The change of {name} is not in the rig yet: in Profiles it waits for your word on "
                f"{self._say_users()}.",
                "warning",
            )

    def _chart_typed(self, words: str, paused: bool = False) -> bool:
        """Take the chart over. Gives False at a pause in which something made by hand would be lost: a digit that is
        being typed anew must not cost twelve placed pixels."""
        mode = self.mode
        self._judge_chart(words)
        if mode is None:
            return True
        made = self.chart.mode_of_chart(mode.name, mode)
        if self._label:
            made = label_channel(made, *self._label)
        if made == mode:
            return True
        lost = lost_by_hand(mode, made)
        if lost and paused:
            self.ruler.set_mode(made)
            self._says.addWidget(
                make_label(
                    f"Taken over when you leave the line, because it drops {' and '.join(lost)}.", 11, quiet=True
                )
            )
            return False
        self.change_mode(made, f"chart of {self.profile.name if self.profile else ''}")
        if lost:
            self._session.say(
                f"The new chart has no place for {' and '.join(lost)}; they are dropped. Undo brings them back.",
                "warning",
            )
        return True

    def _judge_chart(self, words: str) -> None:
        """Read the chart, underline what is not understood, and offer what may be meant."""
        self.chart = read_once(words)
        self.line.underline_problems(self.chart.problems)
        clear_layout(self._says)
        for problem in self.chart.problems[:3]:
            parts: list[QWidget | int | None] = [
                marks.MarkLabel("error" if problem.error else "warning", 12),
                make_label(f"Line {problem.line + 1}: {problem.message}", 11),
            ]
            if problem.offers:
                parts.append(make_label("Did you mean", 11, quiet=True))
                parts += [
                    make_button(o, partial(self._replace_word, problem, o), "Puts this function there.")
                    for o in problem.offers[:2]
                ]
            if not problem.error and "no function name" in problem.message:
                parts.append(
                    make_button(
                        "make it my own",
                        partial(self._is_own_problem, problem),
                        "Keeps the word as a function of your own.",
                    )
                )
            self._says.addLayout(flow_of_widgets(*parts, None, spacing=6))
        if len(self.chart.problems) > 3:
            self._says.addWidget(
                make_label(f"and {len(self.chart.problems) - 3} more, underlined above", 11, quiet=True)
            )

    def _is_own_problem(self, problem: Problem) -> None:
        line = self.line.toPlainText().splitlines()[problem.line]
        self._replace_word(problem, f'"{line[problem.column : problem.column + problem.length]}"')

    def _replace_word(self, problem: Problem, words: str) -> None:
        """Put an offer where a word was not understood. The word stays as the channel's own label, unless it was only
        a slip of the pen."""
        lines = self.line.toPlainText().splitlines()
        old = lines[problem.line]
        typed = old[problem.column : problem.column + problem.length].strip()
        if (
            "no function name" in problem.message
            and not words.startswith('"')
            and not get_close_matches(typed.lower(), [words], 1, 0.75)
        ):
            self._label = (problem.break_no, problem.slot, typed)
        lines[problem.line] = old[: problem.column] + words + old[problem.column + problem.length :]
        self.line.setPlainText("\n".join(lines))
        self.line.commit()
        self._label = None

    def _range_changed(self, channel: Channel, words: str) -> object:
        old = self.channel
        return self.edit_mode(
            lambda m: replace(m, channels=tuple(channel if c is old else c for c in m.channels)),
            f"{words} of {word_for(channel.function, channel.name or '?')}",
        )

    # ---- the ruler

    def _follow_picked(self, break_no: int, slot: int) -> None:
        self._show_channel()
        source = self.chart.sources.get((break_no, slot))
        if source and not self.line.hasFocus():
            cursor = QTextCursor(self.line.document().findBlockByNumber(source.line))
            cursor.movePosition(QTextCursor.MoveOperation.Right, QTextCursor.MoveMode.MoveAnchor, source.column)
            self.line.setTextCursor(cursor)

    def _point_on_scale(self, n: int, value: int) -> None:
        """A try-out fader was moved: show on the scale where it stands."""
        mode = self.mode
        if mode and n < len(mode.channels):
            c = mode.channels[n]
            if self.channel is not c:
                self.ruler.pick_slot(c.break_no, c.slots[0])
            self.ranges.scale.pointer = value
            self.ranges.scale.update()

    def _try_edit(self, edit: Callable[[Mode], Mode], words: str) -> None:
        try:
            self.edit_mode(edit, words)
        except Refused as e:
            self._session.say(str(e), "error")

    def _move_channel(self, break_no: int, slot: int) -> None:
        chosen = self.ruler.chosen_places()
        self.ruler.also = set()
        self._try_edit(lambda m: move_channels(m, chosen, break_no, slot), f"move {say_count(len(chosen), 'channel')}")

    def split_here(self) -> None:
        break_no, slot = self.ruler.selected
        self._try_edit(lambda m: split_break(m, break_no, slot), "split a break")

    def join_here(self) -> None:
        break_no = self.ruler.selected[0]
        self.ruler.selected = (break_no - 1, 1)
        self._try_edit(lambda m: join_break(m, break_no), "join two breaks")

    def remove_selected(self) -> None:
        chosen = self.ruler.chosen_places()
        self.ruler.also = set()
        self._try_edit(lambda m: remove_channels(m, chosen), f"remove {say_count(len(chosen), 'channel')}")

    def pixel_order(self) -> None:
        """Ask for the order of components, as letters, and whether planes follow each other."""
        mode, break_no = self.mode, self.ruler.selected[0]
        if not mode:
            return
        now = components_of_pixel(mode, break_no) or next(
            (components_of_pixel(mode, b) for b in range(len(mode.breaks)) if components_of_pixel(mode, b)), []
        )
        break_no = (
            break_no
            if components_of_pixel(mode, break_no)
            else next((b for b in range(len(mode.breaks)) if components_of_pixel(mode, b)), 0)
        )
        letters = "".join(LETTERS.get(f, "?") for f in now)
        dialogs.ask_line(
            self,
            "Pixel order",
            "Components of one pixel in sending order, such as GRB. Write “planes” behind it for all reds, then all "
            "greens …",
            lambda typed: self.set_pixel_order(break_no, typed),
            value=letters,
        )

    def set_pixel_order(self, break_no: int, typed: str) -> None:
        planes = "plane" in typed.lower()
        letters = typed.upper().replace("PLANES", "").replace("PLANE", "").strip()
        order = [FUNCTIONS[x] for x in read_order(letters)]
        self.edit_mode(lambda m: arrange_pixels(m, break_no, order, planes), f"pixel order {letters}")

    # ---- modes and profiles

    def mode_menu(self) -> QMenu:
        menu = popup_menu(self)
        menu_entry(menu, "Add a mode like this one", self._add_mode)
        menu_entry(menu, "Compare modes…", self.compare_revisions)
        menu.addSeparator()
        menu_entry(menu, "Move to the front", partial(self.move_mode, -1))
        menu_entry(menu, "Move to the back", partial(self.move_mode, 1))
        menu_entry(menu, "Remove this mode…", self.remove_mode)
        menu.addSeparator()
        menu_entry(menu, "Remove the whole profile", self._remove_profile)
        return menu

    def _open_mode_menu(self) -> None:
        self.mode_menu().exec(self._mode_menu.mapToGlobal(self._mode_menu.rect().bottomLeft()))

    def _add_mode(self) -> None:
        profile, mode = self.profile, self.mode
        if profile is None or mode is None:
            return
        n = len(profile.modes) + 1
        while f"m{n}" in profile.modes:
            n += 1
        modes = {**profile.modes, f"m{n}": replace(mode, name=f"mode {n}")}
        if self._session.attempt_edit(set_profile, self.profile_id, f"add a mode to {profile.name}", modes=modes):
            self.show_mode(f"m{n}")

    def compare_revisions(self) -> None:
        if self.profile:
            CompareModes(self.profile, self.mode_key, self).exec()

    def move_mode(self, by: int) -> None:
        if self.profile:
            keys = list(self.profile.modes)
            keys.remove(self.mode_key)
            key = self.mode_key
            self._session.attempt_edit(order_modes, self.profile_id, [key, *keys] if by < 0 else [*keys, key])
            self.mode_id = key

    def remove_mode(self) -> None:
        """Take the mode out; fixtures in it go over to a mode the operator names, with every address shown first."""
        profile = self.profile
        if profile is None:
            return
        users = used_by(self._session.rig, self.profile_id, self.mode_key)
        others = [(k, m.name) for k, m in profile.modes.items() if k != self.mode_key]
        into = ""
        if users and others:
            chosen = dialogs.ask_which(
                self,
                "Remove a mode",
                f"{say_count(len(users), 'fixture')} stand in it. They go over to:",
                others,
                "Look at it",
            )
            if chosen is None:
                return
            into = chosen
        try:
            after, change = remove_mode(self._session.rig, self.profile_id, self.mode_key, into)
        except Refused as e:
            self._session.say(str(e), "error")
            return
        found = self._session.foresee_edit((after, change))
        title, act = f"Without mode {profile.modes[self.mode_key].name}", f"Change {self._say_users()}"
        if not found.effects or AddressPreview(title, found, act, self).exec():
            self.mode_id = into
            self._session.take_over_edit((after, change))

    def arrange_pixels(self) -> None:
        """The face editor; what it leaves is taken over as one edit."""
        mode = self.mode
        if mode and mode.count_pixels:
            dialog = FaceEditor(mode, self.picture_of(mode), self)
            if dialog.exec():
                self.take_face(dialog.mode, dialog.picture, dialog.media)

    def take_face(self, mode: Mode, picture: bytes | None, media: str = "image/png") -> None:
        rig, pictures = self._session.rig, {}
        if mode.backdrop and picture is not None:
            same = next((k for k, p in rig.pictures.items() if p.data == picture), "")
            key = same or fresh_id(rig.pictures, "pic")
            if not same:
                pictures[key] = Picture(
                    name=f"{self.profile.name if self.profile else 'face'}", media=media, data=picture
                )
            mode = replace(mode, backdrop=replace(mode.backdrop, picture=key))
        self.change_mode(mode, "arrange the pixels", pictures)  # type: ignore[arg-type]

    def open_library(self) -> None:
        from welvo.app.profiles.library import Library  # not before it is wanted: the window opens sooner

        self.line.commit()
        dialog = Library(self._session, self, self.profile_id)
        if dialog.exec() and dialog.made:
            self.show_profile(dialog.made)

    def new_menu(self) -> QMenu:
        menu = popup_menu(self)
        menu_entry(menu, "Empty profile", self.new_profile)
        menu_entry(menu, "Plain strip of pixels…", self.ask_strip)
        menu_entry(menu, "From the library…", self.open_library)
        return menu

    def _new_menu(self) -> None:
        self.new_menu().exec(self.new.mapToGlobal(self.new.rect().bottomLeft()))

    def ask_strip(self) -> None:
        dialogs.ask_line(
            self,
            "A plain strip",
            "How many pixels, in which order: 60 RGB, 144 GRBW, 50 RGB 16 bit.",
            self.new_strip,
            value="60 RGB",
            go="Make it",
        )

    def new_strip(self, typed: str) -> str:
        """A profile of a plain strip from `60 GRB`; gives its id. Raises Refused."""
        words = typed.upper().replace("BIT", "").split()
        if len(words) < 2 or not words[0].isdecimal():
            raise Refused("Say how many pixels and their components: 60 RGB, 144 GRBW.")
        mode = strip_mode(int(words[0]), words[1], 2 if "16" in words[2:] else 1)
        made = Profile(name=f"Strip {words[0]} {words[1]}", maker="Generic", modes={"m1": mode})
        pid = self._session.make_edit(add_profile, made).made[0]
        self.show_profile(pid)
        return pid

    def new_profile(self, chart: str = "dimmer") -> None:
        self.line.commit()
        n = 1 + sum(p.name.startswith("New profile") for p in self._session.rig.profiles.values())
        mode = read_chart(chart).mode_of_chart("mode 1")
        made = Profile(name=f"New profile {n}" if n > 1 else "New profile", modes={"m1": mode})
        change = self._session.attempt_edit(add_profile, made)
        if change:
            self.show_profile(change.made[0])
            self.line.setPlainText(chart)
            self.line.commit()
            self.line.setFocus()
            self.line.selectAll()

    def _remove_profile(self) -> None:
        self._session.attempt_edit(remove_profile, self.profile_id)

    def _empty_page(self) -> QWidget:
        self.first = Field(
            "A channel table: pan 16, tilt 16, dimmer, 7 x (amber white). Makes a new profile of it.", self._add_first
        )
        self.first.setPlaceholderText("pan 16, tilt 16, dimmer, 7 x (amber white)")
        self.first.setFixedWidth(420)
        self.start = Start()
        return EmptyPage(
            "No profiles yet",
            (
                "A profile is one fixture type, as its manual's channel table says.",
                "Paste the table here, type it, or take a generic.",
            ),
            self.first,
            make_button("Make profile", self.first.commit, primary=True),
            make_button("Library…", self.open_library, "Generics, your own folder, GDTF files."),
            below=self.start,
        )

    def _add_first(self, words: str) -> object:
        if words.strip():
            self.new_profile(words)
            self.first.set_value("")
        return True

    def restyle(self) -> None:
        self.panel.restyle()
        for w in self.panel.findChildren(QWidget):
            if w.property("rule"):
                w.setStyleSheet(f"background: {THEME.color('line').name()};")
        self.refresh()
