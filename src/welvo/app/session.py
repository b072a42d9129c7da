"""The one session of a window: the present rig, what was observed, history and selection."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Literal

import msgspec
from msgspec import Struct, field
from PySide6.QtCore import QObject, Signal

from welvo.app.collecting import leave_out_what_is_there
from welvo.app.disk import wait_for
from welvo.checks.checker import Checker, Report
from welvo.checks.foresee import MANY as MANY_FORESEEN
from welvo.checks.foresee import Foreseen, Foreseer
from welvo.formats.files import ChangedOnDisk, RigFileError, Stamp
from welvo.formats.rigfile import open_rig
from welvo.formats.rigfile import save_rig_file as write_rig
from welvo.matching.lamps import LampPair, pairs_on_port
from welvo.observed.values import NOTHING, Event, Observed, Written
from welvo.patch.index import Followed, Index, Taker
from welvo.patience import clock_moved, steady
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig, change_of_everything
from welvo.rig.entered import SettingValue
from welvo.rig.history import History
from welvo.rig.notation import say_thousands
from welvo.rig.references import broken_by
from welvo.rig.refs import BUS, PortRef, SegmentRef
from welvo.rig.wiring import Port
from welvo.survey.target import Target, find_target, of_item, of_pixel, of_segment, of_slot

NO_PORT = Port()
MANY = 20_000
"""Items of one edit from which on it is said that it takes a moment."""


SelectionKind = Literal[
    "none", "item", "universe", "slot", "feed", "device", "port", "segment", "profile", "sender", "use", "heard"
]


class Selection(Struct, frozen=True):
    """What is selected, shared by all stations."""

    kind: SelectionKind = "none"
    ids: tuple[str, ...] = ()
    """Ids of what is selected; for a port the device and the label, for a segment its device."""
    break_no: int = 0
    slot: tuple[str, int] | None = None
    pixel: int = 0
    setting: str = ""
    on: SegmentRef | None = None
    """Where in the runs it was picked; place −1 is the port itself."""
    led: int = 0
    """Which place along that segment, from 1; 0: none."""
    place: int = -1
    """Which place of the port's lamp bus, from 0; −1: none."""
    lamp: int = 0
    """Which lamp that answers on a port, by its UID; 0: none."""

    @property
    def first_selected(self) -> str:
        return self.ids[0] if self.ids else ""


class Since(Struct, frozen=True):
    """What has changed since a version, for those who draw it: how by item, and where items stood before, as (first,
    last, what it is called) by universe."""

    name: str = ""
    kinds: dict[str, str] = field(default_factory=dict)
    before: dict[str, tuple[tuple[int, int, str], ...]] = field(default_factory=dict)


NOT_COMPARED = Since()


class _Caught(BaseException):
    """The edit of an act that is only tried: it leaves the act before anything is taken over or follows from it.

    No `Exception`, so that nothing on the way holds it for an error.
    """

    def __init__(self, edit: Edit) -> None:
        super().__init__()
        self.edit = edit


class Session(QObject):
    """Edits come in through `make_edit`; `changed` carries the Change of every edit, undo and redo."""

    changed = Signal(object)
    replaced = Signal()
    observed_changed = Signal()
    selection_changed = Signal()
    said = Signal(str, str)
    done = Signal(str)
    """What was just done, where undoing it is to be offered beside the words."""
    since_changed = Signal()
    place_wanted = Signal(object)
    """Somebody wants to go to where something is set, as a Goto."""
    search_wanted = Signal(str)
    """A device is to be looked for, by its id."""
    working = Signal(str)
    """Before an edit of very many is followed: what is going to take a moment."""
    about_to_act = Signal()
    foreseen = Signal(object)
    """What an edit would do that is typed, dragged or armed, as a Foreseen; None once there is no such edit."""

    def __init__(self, rig: Rig | None = None) -> None:
        super().__init__()
        self.path: Path | None = None
        self.stamp: Stamp | None = None
        """What the file was when it was opened or saved."""
        self.now: Callable[[], float] = steady
        """What time it is for what is live (see `patience.steady`); for what is written down take `clock_time`."""
        self.observed: Observed = NOTHING
        self._trying = False
        self._foreseer = Foreseer()
        self._set_rig(rig or Rig())

    def _set_rig(self, rig: Rig) -> None:
        self.history = History(rig)
        self.index = Index(rig)
        self.checker = Checker(self.index, self.observed, self.now())
        self.since = NOT_COMPARED
        """What the rig is compared with, as far as it is shown elsewhere than in its list."""
        self.followed = Followed(frozenset(rig.universes), frozenset())
        """Universes and items that the last edit touched."""
        self.selection = Selection()
        self._before: list[Selection] = []
        self._after: list[Selection] = []

    @property
    def rig(self) -> Rig:
        return self.history.rig

    @property
    def report(self) -> Report:
        return self.checker.report_findings

    @property
    def has_unsaved_edits(self) -> bool:
        return self.history.has_unsaved_edits

    # ---- saying

    def clock_time(self) -> float:
        """What time it is by the computer's clock, for records, versions and lists of what happened."""
        return self.now() + clock_moved()

    def say(self, text: str, severity: str = "note") -> None:
        """Tell the operator something in the message line."""
        if not self._trying:
            self.said.emit(text, severity)

    def say_done(self, words: str) -> None:
        """Tell the operator what was done, with a way to take it back."""
        self.done.emit(words)

    def commit_pending(self) -> None:
        """Commit a value that is still being typed, wherever it is."""
        self.about_to_act.emit()

    # ---- editing

    def make_edit(self, function: Callable[..., Edit], *args: object, **kwargs: object) -> Change:
        """Run an edit on the present rig and take its result over. Raises Refused; then nothing has changed."""
        return self.take_over_edit(function(self.rig, *args, **kwargs))

    def attempt_edit(self, function: Callable[..., Edit], *args: object, **kwargs: object) -> Change | None:
        """An edit by a gesture that has no field to stand beside: what is refused is said, and gives None."""
        try:
            return self.make_edit(function, *args, **kwargs)
        except Refused as e:
            self.say(str(e), "error")
            return None

    def attempt_act(self, act: Callable[[], object]) -> bool:
        """Do something that is no edit; what is refused is said."""
        try:
            act()
        except Refused as e:
            self.say(str(e), "error")
            return False
        return True

    def edit_of_act(self, act: Callable[[], object]) -> Edit | None:
        """The edit that an act would make, by doing it up to there: the very function that will make it. None where it
        is refused, or makes none. Only for acts that do nothing else before."""
        self._trying = True
        try:
            act()
        except _Caught as caught:
            return caught.edit
        except Refused:
            return None
        finally:
            self._trying = False
        return None

    def foresee_edit(self, edit: Edit, findings: bool = True) -> Foreseen:
        """What an edit would do to everything in the rig, before it is made."""
        return self._foreseer.foresee(self.checker, edit, findings)

    def show_foreseen(self, edit: Edit | None) -> Foreseen | None:
        """Show in every station what an edit would do to others; None: nothing is about to be done any more.

        Findings of an edit of very many are left to whoever opens the list: they would take longer than a key may.
        """
        found = None
        if edit is not None:
            many = sum(len(edit[1].changed_ids(p)) for p in ("fixtures", "elements")) > MANY_FORESEEN
            found = self.foresee_edit(edit, findings=not many)
        self.foreseen.emit(found)
        return found

    def take_over_edit(self, result: Edit) -> Change:
        """Take over an edit that was worked out elsewhere. One that changes nothing leaves no step to undo.

        Raises Refused when it would leave a reference to something that is not there.
        """
        if self._trying:
            raise _Caught(result)
        rig, change = result
        same = rig is self.rig or (
            rig == self.rig and _modes_in_order(rig, change) == _modes_in_order(self.rig, change)
        )
        if not same:
            lost = broken_by(self.rig, rig, change)
            if lost:
                raise Refused(lost[0] + (f" And {len(lost) - 1} more like it." if len(lost) > 1 else ""))
            self.history.push_change(rig, change)
            self._follow_change(change)
            if change.note:
                self.say(change.note, "warning")
        return change

    def amend_record(self, part: str, entries: Mapping[str, object]) -> None:
        """Set entries of a part that is no plan: the test record. Undo leaves it; saving and recovery take it along."""
        self._follow_change(self.history.amend_all(part, entries))

    def _follow_change(self, change: Change) -> None:
        many = len(change.changed_ids("fixtures")) + len(change.changed_ids("elements"))
        if many > MANY:
            self.working.emit(f"Working out what changes with {say_thousands(many)} items …")
        self.followed = self.index.follow_change(self.rig, change)
        self.checker.follow_edit(change, self.followed)
        self._drop_lost_selection()
        self.changed.emit(change)
        if many > MANY:  # values hold no cycles, and a hundred thousand new ones would be looked through for some
            leave_out_what_is_there()

    def undo_edit(self) -> None:
        self.commit_pending()
        change = self.history.undo_edit()
        if change:
            self._follow_change(change)
            self.say(f"Undone: {change.label}")

    def redo_edit(self) -> None:
        self.commit_pending()
        change = self.history.redo_edit()
        if change:
            self._follow_change(change)
            self.say(f"Done again: {change.label}")

    # ---- files

    def replace_rig(self, rig: Rig, path: Path | None, saved: bool = True) -> None:
        """Put another rig in place of the present one."""
        self.path, self.stamp = path, None
        # what was pushed, ticked off and found for devices of the former rig is not said of those of this one, which
        # may have the same ids; who answers on the network is as true as before
        self.observed = msgspec.structs.replace(
            self.observed, written={}, results={}, log=(), stuck={}, lamps={}, buses={}
        )
        self._set_rig(rig)
        leave_out_what_is_there()  # a large rig is not looked through for cycles again and again; it has none
        if not saved:
            self.history.saved = None
        self.replaced.emit()
        self.changed.emit(change_of_everything(rig, "open"))
        self.selection_changed.emit()

    def open_file(self, path: Path) -> bool:
        """Open a file; when that fails the present rig stays, and the reason is said."""
        try:
            opened = wait_for(lambda: open_rig(path), f"Opening {path.name}")
        except RigFileError as e:
            self.say(str(e), "error")
            return False
        self.replace_rig(opened.rig, path, saved=not opened.mended)
        self.stamp = opened.stamp
        if opened.mended:
            self.say(f"{opened.words_of_mending} The file is unchanged until you save.", "warning")
        return True

    def save_file(self, path: Path, over: bool = False) -> bool:
        """Write the rig and wait for it, without holding up the window. What keeps it from being written is said.

        Raises ChangedOnDisk when the file is not the one that was opened or saved before, unless it is to be written
        `over`.
        """
        self.commit_pending()
        rig = self.rig
        try:
            stamp = wait_for(lambda: write_rig(rig, path, self.expected_on_disk(path, over)))
        except ChangedOnDisk:
            raise
        except RigFileError as e:
            self.say(str(e), "error")
            return False
        self.was_saved(rig, path, stamp)
        return True

    def expected_on_disk(self, path: Path, over: bool = False) -> Stamp | None:
        """What the file at a path must still be, if it is the one of this rig."""
        return self.stamp if path == self.path and not over else None

    def was_saved(self, rig: Rig, path: Path, stamp: Stamp | None) -> None:
        """A rig stands in a file now; it may no longer be the present one."""
        self.path, self.stamp = path, stamp
        self.history.saved = rig
        self.changed.emit(Change("save", {}))

    def show_since(self, since: Since) -> None:
        """Show on tapes and lists what has changed since a version; NOT_COMPARED shows nothing."""
        if since is not self.since:
            self.since = since
            self.since_changed.emit()

    # ---- observing

    def observe(self, **parts: object) -> None:
        """Take over new observations; undo never touches them."""
        self.observed = msgspec.structs.replace(self.observed, **parts)
        self.checker.take_observations(self.observed, self.now(), parts.keys() <= {"lamps", "buses", "log"})
        self.observed_changed.emit()

    def pairs_on_port(self, ref: PortRef) -> list[LampPair]:
        """The lamps found on a port beside those planned there."""
        return pairs_on_port(self.index, self.observed, ref)

    def note_written(self, device: str, values: Mapping[str, SettingValue], what: str) -> None:
        """A push went out: its values are claimed until the device says them itself."""
        now = self.now()
        written = dict(self.observed.written)
        written[device] = {**written.get(device, {}), **{k: Written(v, now) for k, v in values.items()}}
        observed = self.observed
        for key in values:
            observed = observed.note_event(Event(now, device, key, what))
        self.observe(written=written, log=observed.log)

    # ---- selection

    def change_selection(self, selection: Selection) -> None:
        if selection == self.selection:
            return
        if self.selection.kind != "none":
            self._before = [*self._before[-99:], self.selection]
        self._after.clear()
        self.selection = selection
        self.selection_changed.emit()

    def select_items(self, keys: list[str], break_no: int = 0, slot: tuple[str, int] | None = None) -> None:
        self.change_selection(Selection("item", tuple(keys), break_no, slot) if keys else Selection())

    def select_taker(self, taker: Taker, break_no: int = 0, slot: tuple[str, int] | None = None) -> None:
        """Select what takes slots: an item, or the segment of a cable."""
        if isinstance(taker, SegmentRef) and taker.place == BUS:
            self.change_selection(Selection("port", (taker.device, taker.port)))
        elif isinstance(taker, SegmentRef):
            self.change_selection(Selection("segment", (taker.device,), on=taker))
        else:
            self.select_items([taker], max(0, break_no), slot)

    @property
    def selected_before(self) -> list[Selection]:
        """What was selected before, the latest last."""
        return self._before

    def step_selection(self, back: bool) -> None:
        """Alt+Left and Alt+Right: what was selected before, and after."""
        source, target = (self._before, self._after) if back else (self._after, self._before)
        if source:
            target.append(self.selection)
            self.selection = source.pop()
            self._drop_lost_selection()
            self.selection_changed.emit()

    def _drop_lost_selection(self) -> None:
        s = self.selection
        if s.kind == "slot" and s.slot and s.slot[0] not in self.rig.universes:
            self.selection = Selection()
            self.selection_changed.emit()
            return
        part = {
            "item": {**self.rig.fixtures, **self.rig.elements} if s.kind == "item" and len(s.ids) > 1 else None,
            "universe": self.rig.universes,
            "feed": self.rig.feeds,
            "device": self.rig.devices,
            "port": self.rig.devices,
            "segment": self.rig.devices,
            "profile": self.rig.profiles,
            "sender": self.rig.senders,
            "use": self.rig.uses,
        }.get(s.kind)
        if s.kind == "item" and len(s.ids) == 1:
            left = tuple(i for i in s.ids if i in self.rig.fixtures or i in self.rig.elements)
        elif part is None:
            return
        elif s.kind in ("port", "segment"):
            there = s.first_selected in self.rig.devices and (not s.on or s.on.device in self.rig.devices)
            left = s.ids if there else ()
            if s.on and left and s.on.place >= len(self.rig.devices[s.on.device].ports.get(s.on.port, NO_PORT).run):
                self.selection = Selection("port", (s.on.device, s.on.port))
                self.selection_changed.emit()
                return
        else:
            left = tuple(i for i in s.ids if i in part)
        if left != s.ids:
            self.selection = Selection(s.kind, left, s.break_no) if left else Selection()
            self.selection_changed.emit()

    def target_of_path(self) -> Target | None:
        """What the path is shown for: the selected item, pixel or slot."""
        s = self.selection
        try:
            if s.kind == "item":
                if s.slot and s.slot[0] in self.rig.universes:
                    return Target(
                        s.first_selected, s.break_no, s.slot[0], s.slot[1], of_item(self.index, s.first_selected).label
                    )
                return (
                    of_pixel(self.index, s.first_selected, s.pixel)
                    if s.pixel
                    else of_item(self.index, s.first_selected, s.break_no)
                )
            if s.kind == "slot" and s.slot:
                return of_slot(self.index, *s.slot)
            if s.kind == "segment" and s.on:
                return of_segment(self.index, *s.on)
        except (Refused, KeyError):
            return None
        return None

    def go_to(self, text: str) -> bool:
        """Select the place that a text names, however it is said."""
        try:
            found = find_target(self.index, text)
        except Refused:
            return False
        typed = text.strip().lower()
        if found.pixel and found.key in self.rig.elements:
            self.change_selection(Selection("item", (found.key,), pixel=found.pixel))
        elif typed.isdigit() or (found.key in self.rig.elements and typed == self.rig.elements[found.key].name.lower()):
            self.change_selection(Selection("item", (found.key,)))
        elif found.key:
            self.change_selection(Selection("item", (found.key,), found.break_no, (found.universe, found.address)))
        else:
            self.change_selection(Selection("slot", (), slot=(found.universe, found.address)))
        return True


def _modes_in_order(rig: Rig, change: Change) -> list[list[str]]:
    """Dictionaries that differ in their order alone are equal; the order of modes is the operator's, and counts."""
    return [list(rig.profiles[pid].modes) for pid in change.changed_ids("profiles") if pid in rig.profiles]
