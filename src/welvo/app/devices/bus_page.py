"""The lamp buses of a gateway: the board of 64 places, groups, scenes and inputs, planned beside found.

Searching and addressing are kept apart on purpose: the one is a plain button that changes nothing, the other stands
alone at the far end, opens a warning that names how many gear get other addresses, and remembers what it did.
"""

from __future__ import annotations

import time

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QPushButton, QScrollArea, QStackedWidget, QWidget

from welvo.app.devices.bus_board import BusBoard, mark_of_place
from welvo.app.devices.bus_groups import GroupMatrix
from welvo.app.devices.bus_lists import InputList, SceneList, planned_level
from welvo.app.devices.notices import make_notice
from welvo.app.jobs.network import Network
from welvo.app.session import Selection, Session
from welvo.app.widgets import dialogs
from welvo.app.widgets.fields import Choice, CommandLine, Field
from welvo.app.widgets.flow import flow_of_widgets, keep_least, keep_width
from welvo.app.widgets.painting import (
    clear_layout,
    column_of_widgets,
    make_button,
    make_label,
    touching_widgets,
)
from welvo.app.widgets.theme import THEME
from welvo.buses.edits import plan_gear, set_scene, toggle_group
from welvo.buses.inputs import inputs_of
from welvo.buses.plan import bus_at, bus_ports
from welvo.matching.gear import GearPlace, board_of_bus, gear_wishes, read_gear_level, seen_on
from welvo.matching.planned import full_plan
from welvo.observed.values import BusSeen, GearSeen
from welvo.protocols.dali import SCENES, SHORT_ADDRESSES
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef

PAGES = {
    "Board": "The 64 places of the bus: what is planned there, and what answered.",
    "Groups": "Which gear is in which group, by plan and by its own word.",
    "Scenes": "The levels that gear keeps for a scene.",
    "Inputs": "What each contact at the gateway does, a broken wire included.",
}


class BusPage(QWidget):
    """The right side of the station while a lamp bus is looked at."""

    also_changed = Signal()
    """Other places are chosen besides the selected one."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.work = network.buses
        self.device_id = self.port = ""
        self.page = "Board"
        self.scene = 0
        self.places: list[GearPlace] = []
        self._seen: BusSeen | None = None
        """What was found on the bus that is shown, as of the last refresh; `places` are of the same look."""
        self._apart: list[int] = []
        """Gear that is still to be told apart; the first of it blinks."""
        self._states: dict[str, object] = {}
        self.ports = Choice("Which bus of the gateway is shown here.", self._choose_port)
        self.ports.setAccessibleName("Bus")
        keep_least(self.ports, 92)
        self.search = make_button(
            "Search", self._search_bus, "Asks who is on the bus, and what they know. Changes nothing."
        )
        self.address = make_button(
            "Initialise…",
            self._ask_to_address,
            "Gives gear new short addresses. It is shown first how many change, and it can be put back.",
        )
        dialogs.make_risky(self.address)
        self._tabs: dict[str, QPushButton] = {}
        tabs: list[QWidget | int | None] = []
        for name, help_ in PAGES.items():
            b = make_button(name, lambda name=name: self.show_page(name), help_)
            b.setCheckable(True)
            b.setStyleSheet("padding: 0 8px;")
            self._tabs[name] = b
            tabs.append(b)
        bar = flow_of_widgets(self.ports, touching_widgets(tabs), None, spacing=6)
        bar.setContentsMargins(16, 6, 16, 2)
        self._counts = make_label("", 13)
        second = flow_of_widgets(self.search, 4, self._counts, None, self.address, spacing=6)
        second.setContentsMargins(16, 2, 16, 4)
        self._strip = column_of_widgets(spacing=4)
        self._strip.setContentsMargins(16, 0, 16, 2)
        self.board = BusBoard()
        self.also: frozenset[int] = frozenset()
        """Places that are chosen besides the selected one."""
        self._also_of = -1
        self.board.picked.connect(self._pick_place)
        self.board.added.connect(self._add_place)
        self.board.moved.connect(self._stage_move)
        self.board.blink.connect(self.blink_gear)
        held = QWidget()
        inside = column_of_widgets((16, 0, 16, 0))
        inside.addWidget(self.board, 1)
        held.setLayout(inside)
        self.groups = GroupMatrix()
        self.groups.toggled.connect(self._toggle_group)
        self.groups.picked.connect(self._pick_place)
        self._scenes, self._inputs = QWidget(), QWidget()
        self._stack = QStackedWidget()
        for w in (held, self.groups, self._scenes, self._inputs):
            scroll = QScrollArea()
            scroll.setWidgetResizable(True)
            if w is not self.groups:  # sixteen groups have their width, and are moved sideways where there is no room
                scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            scroll.setWidget(w)
            self._stack.addWidget(scroll)
        self._build_scenes()
        self._build_inputs()
        self.quick = CommandLine("Gear to be planned: places and a name, such as 0–19 Cove.", self._plan_gear)
        self.quick.setAccessibleName("Plan gear")
        self.quick.setPlaceholderText("plan gear: 0–19 Cove")
        self._acts: list[QWidget] = []
        self._foot = flow_of_widgets(self.quick, spacing=6)
        self._foot.setContentsMargins(16, 6, 16, 8)
        whole = column_of_widgets(spacing=0)
        whole.addLayout(bar)
        whole.addLayout(second)
        whole.addLayout(self._strip)
        whole.addWidget(self._stack, 1)
        whole.addLayout(self._foot)
        self.setLayout(whole)
        self.work.changed.connect(self.refresh)

    def _build_scenes(self) -> None:
        self.which_scene = Choice("The scene that is shown, counted as on the bus.", self._choose_scene)
        self.which_scene.setAccessibleName("Scene")
        keep_least(self.which_scene, 200)
        recall = make_button(
            "Recall", lambda: self.work.recall_scene(self.bus_shown, self.scene), "Lets all gear go to this scene."
        )
        store = make_button(
            "Store present levels", self._store_scene, "Each gear keeps the level it has now as this scene."
        )
        take = make_button(
            "Plan what is stored", self._take_scene, "Takes the levels that gear has stored into the plan."
        )
        self.scene_level = Field(
            "The level that this gear shall keep for the scene: 0 to 254, a share such as 10 %, or none.",
            self._plan_scene,
        )
        keep_width(self.scene_level, 170)
        self._scene_words = make_label("", 13)
        self._nothing_here = make_label("Nothing is planned on this bus, and nothing was found.", 13, wrap=True)
        self.scene_list = SceneList()
        self.scene_list.picked.connect(self._pick_place)
        body = column_of_widgets((16, 4, 16, 8), 6)
        body.addLayout(flow_of_widgets(self.which_scene, recall, None, spacing=6))
        body.addLayout(flow_of_widgets(store, take, None, spacing=6))
        body.addLayout(flow_of_widgets(self._scene_words, self.scene_level, None, spacing=6))
        body.addWidget(self._nothing_here)
        body.addWidget(self.scene_list, 1)
        self._scenes.setLayout(body)

    def _build_inputs(self) -> None:
        self.input_list = InputList()
        self._input_words = make_label("", 11, wrap=True)
        body = column_of_widgets((16, 4, 16, 8), 4)
        body.addWidget(self.input_list, 1)
        body.addWidget(self._input_words)
        self._inputs.setLayout(body)

    # ---- what is shown

    @property
    def bus_shown(self) -> PortRef:
        return PortRef(self.device_id, self.port)

    def labels_of_buses(self, device_id: str) -> list[str]:
        return bus_ports(self._session.rig, device_id) if device_id in self._session.rig.devices else []

    def show_device(self, device_id: str, port: str = "") -> None:
        labels = self.labels_of_buses(device_id)
        wanted = port if port in labels else self.port if device_id == self.device_id and self.port in labels else ""
        wanted = wanted or (labels[0] if labels else "")
        if (device_id, wanted) != (self.device_id, self.port):
            self._apart = []
        self.device_id, self.port = device_id, wanted
        self.refresh()

    def show_page(self, name: str) -> None:
        self.page = name
        self.refresh()

    @property
    def chosen_places(self) -> list[int]:
        """The places that are chosen on the board: those taken along, and the one that is selected."""
        place = self._session.selection.place
        return sorted({place, *self.also}) if place >= 0 else []

    def _add_place(self, place: int, between: bool) -> None:
        """Take a place to what is chosen, or away again; `between` takes all from the selected one to it."""
        now = self._session.selection.place
        if now < 0:
            self._pick_place(place)
            return
        if between:
            self.also = frozenset(range(min(now, place), max(now, place) + 1)) - {now}
        elif place == now:
            if self.also:
                first = min(self.also)
                also = self.also - {first}
                self._pick_place(first)
                self.also = also
        else:
            self.also = self.also ^ {place}
        self.refresh()
        self.also_changed.emit()

    def selected_place(self) -> GearPlace | None:
        """The place that is selected."""
        n = self._session.selection.place
        s = self._session
        if n < 0 or self.device_id not in s.rig.devices or self.port not in s.rig.devices[self.device_id].ports:
            return None
        return board_of_bus(s.rig, s.observed, self.bus_shown)[n]

    def refresh(self) -> None:
        s = self._session
        if not self.isVisible() or self.device_id not in s.rig.devices:
            return
        labels = self.labels_of_buses(self.device_id)
        if self.port not in labels:
            self.port = labels[0] if labels else ""
        if not self.port:
            return
        self.ports.set_options([(p, p) for p in labels], self.port)
        for name, b in self._tabs.items():
            b.setChecked(name == self.page)
        self._stack.setCurrentIndex(list(PAGES).index(self.page))
        seen = self._seen = seen_on(s.rig, s.observed, self.bus_shown)
        self.places = board_of_bus(s.rig, s.observed, self.bus_shown)
        blinking = self.work.blinking
        self.board.show_places(
            self.places, seen is not None, dict(self.work.staged.get(self.bus_shown, {})),
            blinking[1] if blinking and blinking[0] == self.bus_shown else -1,
        )  # fmt: skip
        if s.selection.place != self._also_of:
            self._also_of, self.also = s.selection.place, frozenset()
        self.board.choose_place(s.selection.place, self.also)
        self.groups.show_places(self.places, self.counted_from())
        busy = self.work.words_if_busy(self.bus_shown)
        self.search.setEnabled(not busy)
        self.address.setEnabled(not busy and seen is not None)
        self._counts.setText(self._count_words())
        self._show_strip(busy)
        self._show_scenes()
        self._show_inputs()
        self._show_acts(bool(busy))

    def _count_words(self) -> str:
        seen = self._seen
        planned = sum(p.planned is not None for p in self.places)
        if self.bus_shown in self.work.failed:
            return self.work.failed[self.bus_shown]
        if seen is None:
            return f"{planned} planned · not searched yet"
        missing = sum(mark_of_place(p) == "warning" for p in self.places)
        extra = sum(p.planned is None and p.seen is not None for p in self.places)
        off = sum(p.differs_from_plan for p in self.places)
        parts = [f"{len(seen.gear)} answered"]
        parts += [f"{missing} missing"] if missing else []
        parts += [f"{extra} not planned"] if extra else []
        parts += ["gear without address"] if seen.strays else []
        parts += [f"{off} set otherwise"] if off else []
        return " · ".join(parts)

    def _part_has_changed(self, part: str, state: object) -> bool:
        """Whether a part of the page has to be made anew."""
        state = (state, self.bus_shown, THEME.name, THEME.step)
        if self._states.get(part) == state:
            return False
        self._states[part] = state
        return True

    # ---- the strip

    def _show_strip(self, busy: str) -> None:
        s, seen = self._session, self._seen
        staged = self.work.staged.get(self.bus_shown, {})
        doubled = [g.at for g in seen.gear if g.doubled] if seen else []
        strays = bool(seen and seen.strays)
        last = next((r for r in reversed(s.rig.devices[self.device_id].readdressed) if r.port == self.port), None)
        moved = bool(
            last and seen and any(a != b for a, b in last.changes) and _stands_as_addressed(last.changes, seen.gear)
        )
        state = (busy, tuple(self._apart), tuple(staged.items()), tuple(doubled), strays, last if moved else None)
        if not self._part_has_changed("strip", state):
            return
        clear_layout(self._strip)
        if busy:
            self._show_notice(
                "note",
                busy,
                make_button("Stop", lambda: self.work.stop_work(self.bus_shown), "Ends it at its next step."),
            )
            return
        if self._apart:
            self._ask_where()
            return
        if staged:
            pairs = ", ".join(f"{a} → {b}" for a, b in list(staged.items())[:4]) + (" …" if len(staged) > 4 else "")
            self._show_notice(
                "note", f"{say_count(len(staged), 'gear', 'gear')} to be moved: {pairs}. Nothing has happened yet.",
                make_button(f"Write {say_count(len(staged), 'move')}", lambda: self.work.write_moves(self.bus_shown),
                       "Gives this gear its new short addresses, and looks whether it is there.", primary=True),
                make_button("Discard", lambda: self.work.drop_staged(self.bus_shown), "Leaves all gear where it is."),
            )  # fmt: skip
            return
        if doubled:
            self._show_notice(
                "error", f"Several gear answer at {', '.join(map(str, doubled[:4]))}.",
                make_button("Set apart", lambda: self._set_apart(doubled[0]),
                "Addresses anew only gear that shares one."),
            )  # fmt: skip
        elif strays:
            self._show_notice(
                "warning", "There is gear without a short address on this bus.",
                make_button("Address it", lambda: self.work.address_gear(self.bus_shown, 0xFF),
                       "Gives free short addresses to gear that has none. All other gear keeps its own."),
            )  # fmt: skip
        elif moved and last:
            when = time.strftime("%d %b %H:%M", time.localtime(last.at))
            pairs = ", ".join(f"{a if a >= 0 else 'none'} → {b}" for a, b in last.changes[:6])
            more = " …" if len(last.changes) > 6 else ""
            self._show_notice(
                "note", f"Addressed anew {when}: {pairs}{more}",
                make_button("Put back", lambda: self.work.put_back(self.bus_shown, last.changes),
                       "Gives each gear the short address that it had before."),
            )  # fmt: skip

    def _show_notice(self, severity: str, words: str, *acts: QWidget) -> None:
        self._strip.addWidget(make_notice(severity, words, *acts))

    # ---- scenes and inputs

    def _show_scenes(self) -> None:
        if self.page != "Scenes":
            return
        base = self.counted_from()
        self.which_scene.set_options(
            [(str(n), f"Scene {n}{f' · {n + base} on its page' if base else ''}") for n in range(SCENES)],
            str(self.scene),
        )
        shown = [p for p in self.places if p.planned or p.seen]
        place = self._session.selection.place
        self.scene_list.show_scene(shown, self.scene, place)
        at = next((p for p in shown if p.at == place), None)
        value = planned_level(at, self.scene) if at else ""
        if not self._part_has_changed("scene level", (at.at if at else -1, self.scene, value, bool(shown))):
            return  # what is being typed stays
        self.scene_level.setEnabled(at is not None)
        self.scene_level.setAccessibleName(f"Scene level of gear {at.at}" if at else "Scene level of the chosen gear")
        self.scene_level.setPlaceholderText("" if at else "choose gear in the list")
        self.scene_level.set_value(value)
        name = f"{at.at}  {at.planned.name if at.planned else ''}".strip() if at else "the chosen gear"
        self._scene_words.setText(f"Level of {name}")
        self._nothing_here.setVisible(not shown)

    def _show_inputs(self) -> None:
        if self.page != "Inputs":
            return
        model = model_of(self._session.rig, self.device_id)
        inputs = inputs_of(model, full_plan(self._session.index, self.device_id)) if model else []
        self.input_list.show_inputs(inputs)
        words = "They are set under Settings: use, contact, bus and scene." if inputs else "This gateway has no inputs."
        self._input_words.setText(words)

    def _show_acts(self, busy: bool) -> None:
        bus, seen = bus_at(self._session.rig, self.bus_shown), self._seen
        count = sum(map(len, gear_wishes(bus, seen).values())) if seen else 0
        found = sum(p.seen is not None for p in self.places)
        if not self._part_has_changed("acts", (busy, count, found)):
            return
        for act in self._acts:
            act.hide()
            act.deleteLater()
        acts: list[QWidget] = []
        if count:
            help_text = "Writes what is planned into the gear and reads it back: groups, scenes, fades, limits."
            acts.append(
                make_button(
                    f"Write {say_count(count, 'setting')}",
                    lambda: self.work.write_planned(self.bus_shown),
                    help_text,
                    primary=True,
                )
            )
        if found > 1:
            help_text = "Lets one gear after the other blink; you type at which place it belongs."
            acts.append(make_button("Tell apart", self.tell_apart, help_text))
        for act in acts:
            act.setEnabled(not busy)
            self._foot.addWidget(act)
        self._acts = acts

    def counted_from(self) -> int:
        """The number from which the device's own pages count gear, groups and scenes; 0: as the bus does."""
        model = model_of(self._session.rig, self.device_id)
        return model.counts.get("group", 0) if model else 0

    # ---- acts

    def _choose_port(self, port: str) -> None:
        self._apart = []
        self.port = port
        self._session.change_selection(Selection("port", (self.device_id, port)))
        self.refresh()

    def _pick_place(self, place: int) -> None:
        had, self.also = self.also, frozenset()
        self._session.change_selection(Selection("port", (self.device_id, self.port), place=place))
        if had:
            self.refresh()
            self.also_changed.emit()

    def _search_bus(self) -> None:
        self._apart = []
        self.work.search_bus(self.bus_shown)

    def _stage_move(self, one: int, two: int) -> None:
        self._session.attempt_act(lambda: self.work.stage_move(self.bus_shown, one, two))
        self._pick_place(two)

    def move_to(self, one: int, typed: str) -> None:
        """Let the gear at a place go to another, as typed."""
        if not typed.strip().isdecimal():
            raise Refused(f"“{typed.strip()}” is no place; there are 0 to {SHORT_ADDRESSES - 1}.")
        self.work.stage_move(self.bus_shown, one, int(typed))
        self._pick_place(int(typed))

    def blink_gear(self, place: int) -> None:
        """Let the gear that answers at a place show itself."""
        self._session.attempt_act(lambda: self.work.identify_gear(self.bus_shown, place))

    def _plan_gear(self, typed: str) -> None:
        self._session.make_edit(plan_gear, self.bus_shown, typed)
        self.quick.set_value("")

    def _toggle_group(self, place: int, group: int) -> None:
        self._session.attempt_edit(toggle_group, self.bus_shown, place, group)

    def _choose_scene(self, scene: str) -> None:
        self.scene = int(scene)
        self.refresh()

    def _plan_scene(self, typed: str) -> None:
        """Plan the level of the gear that is chosen in the list, and go on to the next."""
        place, ids = self._session.selection.place, self.scene_list.rows.ids
        level = read_gear_level(typed, "none")
        self._session.make_edit(set_scene, self.bus_shown, self.scene, dict.fromkeys(self.chosen_places, level))
        after = self.scene_list.rows.row_of(place) + 1
        if self.scene_level.hasFocus() and 0 < after < len(ids):
            self._pick_place(ids[after])
            self.scene_level.selectAll()

    def _store_scene(self) -> None:
        self.work.store_scene(self.bus_shown, self.scene, [p.at for p in self.places if p.seen and not p.seen.doubled])

    def _take_scene(self) -> None:
        levels = {p.at: p.seen.scenes[self.scene] for p in self.places if p.seen and p.seen.scenes}
        if not levels:
            raise Refused("Search the bus first: nothing is known of what is stored.")
        self._session.make_edit(set_scene, self.bus_shown, self.scene, levels)

    def _set_apart(self, short: int) -> None:
        self.work.address_gear(self.bus_shown, short << 1 | 1)

    def _ask_to_address(self) -> None:
        """The warning before all gear is addressed anew: how many, what becomes of it, and what changes less."""
        s = self._session
        seen = seen_on(s.rig, s.observed, self.bus_shown)
        if seen is None:
            raise Refused("Search the bus first, so that it is known what would change.")
        name = s.rig.devices[self.device_id].name
        count = len(seen.gear)
        acts = [("new", "Only new gear")] if seen.strays else []
        acts += [("all", f"Address all {count} anew")]
        words = (
            f"All {count} gear on {self.port} of {name} get new short addresses, in an order that nobody can tell "
            "beforehand: what is sent to one place then reaches another lamp. What each had is remembered and can be "
            "put back. Search is enough to see who is there."
        )
        answer = dialogs.ask_act(self, f"Initialise {self.port}", words, acts, "Leave all as it is", warn=True)
        if answer:
            self.work.address_gear(self.bus_shown, 0 if answer == "all" else 0xFF)

    # ---- telling apart

    def tell_apart(self) -> None:
        """Go through the gear: each blinks until the place is typed at which it belongs."""
        self._apart = [p.at for p in self.places if p.seen and not p.seen.doubled]
        self._blink_first()

    def _blink_first(self) -> None:
        if self._apart:
            self._pick_place(self._apart[0])
            self._session.attempt_act(lambda: self.work.identify_gear(self.bus_shown, self._apart[0]))
        else:
            self.work.blinking = None
        self.refresh()

    def _ask_where(self) -> None:
        at = self._apart[0]
        field = CommandLine(
            "The place at which this gear belongs. Enter alone leaves it where it is.", self._confirm_gear
        )
        field.setAccessibleName("Place of the gear that blinks")
        field.setPlaceholderText(str(at))
        keep_width(field, 64)
        left = f", {len(self._apart)} to go" if len(self._apart) > 1 else ""
        self._show_notice(
            "note", f"Gear {at} blinks{left}. At which place does it belong?", field,
            make_button("Again", lambda: self.work.identify_gear(self.bus_shown, at), "Lets it blink once more."),
            make_button("Skip", self._skip_gear, "Leaves it where it is and goes on to the next."),
            make_button("End", self._end_sorting, "Ends it; what was typed so far stays, and is not written yet."),
        )  # fmt: skip
        field.returnPressed.connect(lambda: None if field.text().strip() else self._skip_gear())
        field.setFocus()

    def _confirm_gear(self, typed: str) -> None:
        at = self._apart[0]
        t = typed.strip()
        if not t.isdecimal() or int(t) >= SHORT_ADDRESSES:
            raise Refused(f"“{t}” is no place; there are 0 to {SHORT_ADDRESSES - 1}.")
        staged = self.work.staged.get(self.bus_shown, {})
        here = staged.get(at, at)
        told = {staged.get(p.at, p.at) for p in self.places if p.seen and p.at not in self._apart}
        if int(t) in told:
            raise Refused(f"Place {t} was given to another gear a moment ago.")
        if int(t) != here:
            self.work.stage_move(self.bus_shown, here, int(t))
        self._skip_gear()

    def _skip_gear(self) -> None:
        self._apart = self._apart[1:]
        self._blink_first()

    def _end_sorting(self) -> None:
        self._apart = []
        self._blink_first()

    def hideEvent(self, e: object) -> None:
        super().hideEvent(e)  # type: ignore[arg-type]
        self._apart = []


def _stands_as_addressed(changes: tuple[tuple[int, int], ...], gear: tuple[GearSeen, ...]) -> bool:
    """Whether the gear of an addressing still stands where that put it, as far as can be told from who is there."""
    return {now for _, now in changes} <= {g.at for g in gear}
