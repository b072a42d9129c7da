"""The Wire page: what is really there, from all senders; recorded, compared, and played again.

Live and recorded are looked at in the same way. A recording goes onto the wire only as a part of what the Bench sends:
universes that the Bench feeds take the recording's frames while it plays and output is armed.
"""

from __future__ import annotations

import time
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QScrollArea, QSlider, QStackedWidget, QWidget

from welvo.app.bench.cells import Cells, LevelRows
from welvo.app.disk import wait_for
from welvo.app.jobs.network import Network
from welvo.app.session import Session
from welvo.app.widgets.fields import Choice, set_help
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.painting import NameLabel, column_of_widgets, make_button, make_label, row_of_widgets
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.formats.files import RigFileError
from welvo.live.recording import Recorder, Recording, Wire, load_recording
from welvo.observed.values import SourceSeen
from welvo.observed.wire import judge_sources, merge_sources, rival_sources
from welvo.patch.slot_words import slot_word
from welvo.patience import steady
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.protocol import NUMBERED, say_wire

Heard = list[tuple[SourceSeen, bytes]]


class WirePage(QWidget):
    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.wire: Wire | None = None
        self.recorder: Recorder | None = None
        self.recording: Recording | None = None
        self._wires: list[Wire] = []
        self._listed: object = None
        self._rows: list[ListRow] = []
        self._named: tuple[object, object, dict[Wire, str]] = (None, None, {})
        self._played_at = 0.0
        self.list = RowList(
            "Universes", (Column("", 24, "mark"), Column("Wire", 74), Column("Universe", 84), Column("From", 36))
        )
        self.list.picked.connect(self._pick_wire)
        keep_width(self.list, 226)
        self.cells, self.rows = Cells(), LevelRows()
        self.rows.picked.connect(lambda n: self._pick_wire(self._wires[n]))
        self.cells.picked.connect(self._say_slot)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.rows)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.cells)
        self.stack.addWidget(scroll)
        self.all = make_button("All as rows", self._toggle_rows, "Shows every universe as a strip of 512 levels.")
        self.all.setCheckable(True)
        self.takes = Choice(
            "What a receiver makes of sources of one rank: the highest level of each slot, or the newest frame whole.",
            lambda _: self.tick(),
        )
        self.takes.setAccessibleName("Receivers take")
        self.takes.set_options([("highest", "highest of each slot"), ("latest", "newest frame")], "highest")
        self.hold = make_button(
            "Hold", self._hold_comparison, "Keeps these levels; what differs from then on is outlined."
        )
        self.hold.setCheckable(True)
        self.anew = make_button(
            "Count anew", self._begin_anew, "Forgets losses and silences so far, to see whether they go on."
        )
        self.record = make_button("Record", self._start_recording, "Keeps everything that is heard, until you stop it.")
        self.open = make_button("Open…", self._ask_open, "Opens a recording, or a capture of a network tool.")
        self.save = make_button("Save…", self._ask_save, "Saves the recording as a capture that network tools read.")
        self.live = make_button("Live", self.to_live, "Back to what is on the wire now.")
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setAccessibleName("Moment of the recording")
        set_help(self.slider, "The moment of the recording that is shown.")
        self.slider.valueChanged.connect(lambda _: self._moved_to())
        self.run = make_button("Play", self._play_recording, "Lets the recording run; Space does it too.")
        self.run.setCheckable(True)
        self.onto = make_button(
            "Onto the wire", self._play_onto_wire, "Sends the recording by the Bench's own feeds, while armed."
        )
        self.onto.setCheckable(True)
        self.title = NameLabel("", 13, True)
        self.lit = make_label("", 13, True)
        self.note = make_label("", 11, quiet=True, wrap=True)
        self.sources = RowList(
            "Sources",
            (
                Column("Source", 116), Column("Address", 84), Column("Rank", 40), Column("Rate", 44),
                Column("Jitter", 72), Column("Lost", 40), Column("Late", 38), Column("Silence", 56), Column("", 40),
            ),
        )  # fmt: skip
        self.sources.setFixedHeight(104)
        self.said = make_label("", 11, wrap=True)
        left = column_of_widgets((16, 0, 8, 8), 6)
        left.addWidget(self.list, 1)
        left.addWidget(self.note)
        right = column_of_widgets((8, 0, 16, 8), 6)
        right.addLayout(
            flow_of_widgets(self.title, self.lit, None, make_label("Receivers take", 11, quiet=True), self.takes)
        )
        right.addWidget(self.stack, 1)
        right.addLayout(flow_of_widgets(self.all, self.hold, self.anew, None, self.record, self.open, self.save))
        self.moment = make_label("", 11, quiet=True)
        self._player = QWidget()
        player = flow_of_widgets(self.run, self.slider, self.moment, self.onto, self.live)
        player.setContentsMargins(0, 0, 0, 0)
        self._player.setLayout(player)
        right.addWidget(self._player)
        right.addWidget(self.said)
        right.addWidget(self.sources)
        body = row_of_widgets(spacing=0)
        body.addLayout(left)
        body.addLayout(right, 1)
        body.setContentsMargins(0, 0, 0, 0)
        self.setLayout(body)
        self._clock = QTimer(self, interval=40)
        self._clock.timeout.connect(self._on_clock)
        self._lister = QTimer(self, interval=500)  # apart from the levels, so that neither waits for the other
        self._lister.timeout.connect(lambda: self._list_wires() if self.isVisible() else None)
        self._lister.start()
        self._player.hide()
        self.save.setEnabled(False)

    # ---- what is looked at

    def _all_heard(self) -> dict[Wire, Heard]:
        if self.recording:
            return self.recording.sources_at(self.moment_shown)
        listener = self._network.hearing.listener
        found: dict[Wire, Heard] = {}
        for s in self._session.observed.sources:
            levels = listener.source_levels(s.protocol, s.wire, s.key) if listener else None
            found.setdefault((s.protocol, s.wire), []).append((s, levels or b""))
        return found

    def _heard_levels(self, wire: Wire) -> Heard:
        if self.recording:
            return self.recording.sources_at(self.moment_shown).get(wire, [])
        listener = self._network.hearing.listener
        return listener.sources_of_universe(*wire, steady()) if listener else []

    @property
    def moment_shown(self) -> float:
        return self.slider.value() / 1000

    def _names_of_wires(self) -> dict[Wire, str]:
        """What each number on the wire is in the rig."""
        rig = self._session.rig
        if self._named[0] is not rig.feeds or self._named[1] is not rig.universes:
            found = {}
            for f in rig.feeds.values():
                u = rig.universes.get(f.universe)
                if u and (f.protocol, f.wire) not in found:
                    found[f.protocol, f.wire] = f"{u.number} {u.name}".strip()
            self._named = (rig.feeds, rig.universes, found)
        return self._named[2]

    def _name_of_wire(self, wire: Wire) -> str:
        return self._names_of_wires().get(wire, "not in the rig")

    def _pick_wire(self, wire: object) -> None:
        if isinstance(wire, tuple):
            self.wire = wire
            self.cells.kept = None
            self.hold.setChecked(False)
            self.all.setChecked(False)
            self.stack.setCurrentIndex(0)
            self.tick(fresh=True)

    def tick(self, fresh: bool = False) -> None:
        """Show what is there now; only while it is looked at."""
        if not self.isVisible():
            return
        if fresh:
            self._list_wires()
        if self.all.isChecked():
            heard = self._all_heard()
            takes = self.takes.currentData()
            frames = [merge_sources(heard.get(w, []), takes).levels for w in self._wires]
            self.rows.show_frames([say_wire(*w) for w in self._wires], frames)
        elif self.wire:
            mine = self._heard_levels(self.wire)
            found = merge_sources(mine, self.takes.currentData())
            self.cells.show_levels(found.levels, found.owners, fresh)
            self._tell_sources(mine, found.levels)
        if self.recorder:
            self.record.setText(f"Stop · {self.recorder.count_taken:,} packets".replace(",", " "))

    def _list_wires(self) -> None:
        heard = self._all_heard()
        planned = {(f.protocol, f.wire) for f in self._session.rig.feeds.values() if f.protocol in NUMBERED}
        self._wires = sorted(planned | set(heard), key=lambda w: (NUMBERED.index(w[0]), w[1]))
        names = self._names_of_wires()
        now = (self._wires, names, [(len(heard.get(w, ())), self._several_lead(heard.get(w, []))) for w in self._wires])
        if now != self._listed:
            self._listed = now
            rows = []
            for w, (count, rivals_) in zip(self._wires, now[2]):
                mark = "error" if rivals_ else "matches" if count else "silent"
                cells = (mark, say_wire(*w), names.get(w, "not in the rig"), str(count) if count else "–")
                rows.append(ListRow(w, cells, (mark, w, w[1], -count), not count))
            self._rows = rows
            self.list.show_lines(self._rows, self.wire)
        elif self.list.currentIndex().row() < 0 and self.wire:
            self.list.show_lines(self._rows, self.wire)
        if self.wire is None and self._wires:
            self.wire = next((w for w in self._wires if heard.get(w)), self._wires[0])
        silent = sum(w not in heard for w in self._wires)
        total = "in the recording" if self.recording else "on the wire"
        listener = self._network.hearing.listener
        drops = listener.own_drops() if listener and not self.recording else 0
        mine = f"; {drops} packets lost in this computer" if drops else ""
        self.note.setText(f"{say_count(len(heard), 'universe')} {total}, {silent} silent{mine}")

    def _several_lead(self, mine: Heard) -> bool:
        """Whether several sources lead on one universe."""
        return len(mine) > 1 and bool(rival_sources([s for s, _ in mine]))

    def _tell_sources(self, mine: Heard, levels: bytes) -> None:
        assert self.wire is not None
        lit = sum(map(bool, levels))
        self.title.setText(f"{say_wire(*self.wire)} · {self._name_of_wire(self.wire)}")
        self.lit.setText(f"{lit} of {len(levels)} above 0")
        rows = []
        for n, (s, _) in enumerate(mine):
            flags = " ".join(w for w, on in (("ours", s.own), ("preview", s.preview), (f"sync {s.sync}", s.sync)) if on)
            cells = (
                s.name or s.key, s.ip, str(s.priority), f"{s.rate:.0f}/s", f"{1000 * s.jitter:.1f} ms", str(s.lost),
                str(s.disordered), f"{s.gap:.2f} s", flags,
            )  # fmt: skip
            rows.append(ListRow(n, cells, (n,) * len(cells)))
        self.sources.show_lines(rows)
        said = [words for _, words in judge_sources([s for s, _ in mine])]
        off = self.cells.differing_slots()
        if self.cells.kept is not None:
            first = f", the first is {off[0]}" if off else ""
            said.insert(0, f"{say_count(len(off), 'slot')} not as held{first}.")
        if not mine:
            said.append("Nobody sends it." if not self.recording else "Nobody sends it at this moment.")
        self.said.setText(" ".join(said[:3]))

    def _say_slot(self, slot: int) -> None:
        rig, index = self._session.rig, self._session.index
        wire = self.wire
        feed = next((f for f in rig.feeds.values() if wire and (f.protocol, f.wire) == wire), None)
        here = index.spans_at_slot(feed.universe, slot) if feed and feed.universe in rig.universes else ()
        what = " and ".join(f"{index.word_for_taker(x.key)} · {slot_word(index, x, slot)}" for x in here[:2])
        value = self.cells.levels[slot - 1] if slot <= len(self.cells.levels) else 0
        owner = self.cells.owners[slot - 1] if slot <= len(self.cells.owners) else -1
        mine = self._heard_levels(wire) if wire else []
        who = f", from {mine[owner][0].name or mine[owner][0].ip}" if 0 <= owner < len(mine) else ""
        self.said.setText(f"Slot {slot}: {value}{who}. {what or 'Nothing is patched there'}.")

    # ---- acts

    def _toggle_rows(self) -> None:
        self.stack.setCurrentIndex(1 if self.all.isChecked() else 0)
        self.tick()

    def _hold_comparison(self) -> None:
        self.cells.kept = self.cells.levels if self.hold.isChecked() else None
        self.cells.update()
        self.tick()

    def _begin_anew(self) -> None:
        if self._network.hearing.listener:
            self._network.hearing.listener.count_anew()
        self.tick()

    def _start_recording(self) -> None:
        listener = self._network.hearing.listener
        if listener is None:
            raise Refused("Nothing is listened to: choose an interface under Output › Interface first.")
        if self.recorder is None:
            self.recorder = Recorder()
            listener.record_into(self.recorder)
            return
        listener.record_into(None)
        done, self.recorder = self.recorder, None
        self.record.setText("Record")
        if not done.count_taken:
            raise Refused("Nothing was heard meanwhile.")
        self.show_recording(done.finish_recording())
        if done.full:
            self._session.say("The recording was full and ended early.", "warning")

    def show_recording(self, recording: Recording) -> None:
        self.recording = recording
        self.slider.setRange(0, max(1, round(1000 * recording.length_in_seconds)))
        self.slider.setValue(0)
        self._player.show()
        self.save.setEnabled(True)
        self.cells.kept = None
        self.hold.setChecked(False)
        self.wire = None
        self._show_moment()
        self.tick(fresh=True)

    def to_live(self) -> None:
        self.recording = None
        self.run.setChecked(False)
        self.onto.setChecked(False)
        self._stop_playing()
        self._player.hide()
        self.save.setEnabled(False)
        self.tick(fresh=True)

    def _ask_open(self) -> None:
        name = FileDialog.ask_to_open(self, "Open a recording", "", "Captures (*.pcap *.pcapng *.cap)")
        if name:
            self.open_file(Path(name))

    def open_file(self, path: Path) -> None:
        try:
            self.show_recording(wait_for(lambda: load_recording(path), f"Reading {path.name}"))
        except RigFileError as e:
            raise Refused(str(e)) from e

    def _ask_save(self) -> None:
        name = FileDialog.ask_to_save(self, "Save the recording", "wire.pcap", "Captures (*.pcap)")
        if name:
            self.save_file(Path(name))

    def save_file(self, path: Path) -> None:
        recording = self.recording
        if recording is None:
            raise Refused("There is no recording to save.")
        try:
            wait_for(lambda: recording.save_recording(path))
        except RigFileError as e:
            raise Refused(str(e)) from e
        self._session.say(f"{len(recording.datagrams)} packets saved in {path.name}.")

    # ---- playing

    def _play_recording(self) -> None:
        if self.recording is None:
            return
        if self.run.isChecked():
            if self.slider.value() >= self.slider.maximum():
                self.slider.setValue(0)
            self._played_at = time.monotonic() - self.moment_shown
            self._clock.start()
        else:
            self._clock.stop()
        self._put_on_wire()

    def _play_onto_wire(self) -> None:
        if self.onto.isChecked() and not self._network.output.is_armed:
            self.onto.setChecked(False)
            raise Refused("Arm first: nothing leaves this computer before that.")
        self._put_on_wire()

    def _on_clock(self) -> None:
        if self.recording is None or not self.run.isChecked():
            return
        now = time.monotonic() - self._played_at
        self.slider.setValue(round(1000 * min(now, self.recording.length_in_seconds)))
        self._show_moment()
        if now >= self.recording.length_in_seconds:
            self.run.setChecked(False)
            self._clock.stop()
        if self.onto.isChecked() and not self._network.output.is_armed:
            self.onto.setChecked(False)
            self._stop_playing()
        self._put_on_wire()

    def _moved_to(self) -> None:
        self._show_moment()
        self._list_wires()
        self.tick()

    def _show_moment(self) -> None:
        whole = self.recording.length_in_seconds if self.recording else 0.0
        self.moment.setText(f"{self.moment_shown:.1f} of {whole:.1f} s")

    def _put_on_wire(self) -> None:
        """Have the Bench send the frames of this moment on universes that it feeds under the same numbers."""
        if not self.onto.isChecked() or self.recording is None:
            self._stop_playing()
            return
        levels = self.recording.levels_at(self.moment_shown, self.takes.currentData())
        feeds = self._session.rig.feeds.values()
        played = {f.universe: levels[f.protocol, f.wire] for f in feeds if (f.protocol, f.wire) in levels}
        if played != self._network.meant.levels.playback:
            self._network.meant.levels.playback = played
            self._network.meant.note_touched()

    def _stop_playing(self) -> None:
        if self._network.meant.levels.playback:
            self._network.meant.levels.playback = {}
            self._network.meant.note_touched()

    def forget(self) -> None:
        """Another rig."""
        self.wire = None
        self.to_live()
