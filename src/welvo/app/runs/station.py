"""The Runs station: the riser above, the selected cable opened below it, then the list of segments."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtCore import QPoint, QPointF, QRectF, QStringListModel, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QCompleter, QMenu, QPushButton, QSplitter, QStackedWidget, QWidget

from welvo.app.jobs.network import Network
from welvo.app.runs.opened import OpenedArea, OpenedCable
from welvo.app.runs.panel import RunsPanel
from welvo.app.runs.riser import Riser
from welvo.app.runs.riser_drawing import At
from welvo.app.runs.segment_list import RunRows, SegmentList
from welvo.app.session import Selection, Session
from welvo.app.widgets.empty import EmptyPage
from welvo.app.widgets.fields import Choice, LineField, set_help
from welvo.app.widgets.flow import HoldsLines, flow_of_widgets, keep_least
from welvo.app.widgets.painting import (
    RIGHT,
    column_of_widgets,
    draw_text_line,
    make_button,
    make_label,
    menu_entry,
)
from welvo.app.widgets.painting import popup_menu as popup_menu
from welvo.app.widgets.station import Station
from welvo.formats.models import shipped_pixels
from welvo.rig.abilities import port_gives_what
from welvo.rig.base import Refused
from welvo.rig.notation import say_count, say_thousands
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef, SegmentRef
from welvo.runs.along import cable_order, element_pixel, pixel_places
from welvo.runs.edits import take_down
from welvo.runs.pixels import universes_of
from welvo.runs.wish import HELP, attach_wish, read_attach

FILTERS = (
    ("device", "This device"),
    ("port", "This port"),
    ("selection", "On the selection"),
    ("loose", "Not attached yet"),
    ("rig", "All devices"),
)


class NeedLabel(QWidget):
    """What the device needs in all, at the right of the toolbar."""

    def __init__(self) -> None:
        super().__init__()
        self.words = ""
        self.setMinimumWidth(120)

    def say_need(self, words: str) -> None:
        self.words = words
        self.setAccessibleName(words)
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        draw_text_line(p, QRectF(self.rect()), self.words, "quiet", 11, align=RIGHT)


class RunsStation(Station):
    """Emits `show_in_patch` with a filter for the list: what is attached to a port."""

    name = "Runs"
    panel: RunsPanel
    splitter: QSplitter

    name = "Runs"
    show_in_patch = Signal(str)

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.device_id = ""
        self.at = At("", -1, 0)
        self._rows = RunRows(session)
        self.device_choice = Choice("Which device's cables are shown.", lambda v: self.choose_device(v))
        keep_least(self.device_choice, 150)
        self.load = NeedLabel()
        self.split_button = make_button(
            "Split…",
            self.split_element,
            "Attaches one element in parts to several ports: rows, order and direction shown on a drawing.",
        )
        self.more = QPushButton("More")
        self.more.setMinimumHeight(28)
        self.more.clicked.connect(self._open_menu)
        bar = flow_of_widgets(
            make_label("Runs", 16, True),
            8,
            self.device_choice,
            make_button("Add device…", self.add_device, "Plans a device: model, name, address."),
            self.split_button,
            self.more,
        )
        bar.addWidget(self.load)
        bar.setContentsMargins(16, 8, 16, 8)
        self.riser = Riser(session)
        self.riser.picked.connect(self.pick_place)
        self.opened = OpenedCable(session, network)
        self.opened.picked.connect(self.pick_place)
        self.opened.fixture.connect(lambda k: session.select_items([k]))
        drawings: tuple[Riser | OpenedCable, ...] = (self.riser, self.opened)
        for drawing in drawings:
            drawing.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            drawing.customContextMenuRequested.connect(partial(self._menu_at, drawing))
        self.area = OpenedArea(self.opened)
        self.filter = Choice("Which segments the list shows.", lambda _: self._fill_rows())
        self.filter.set_options(list(FILTERS), "device")
        keep_least(self.filter, 130)
        self.attach = LineField()  # a command, not a value: it waits for Enter, whatever else is clicked meanwhile
        set_help(self.attach, f"What is to be attached to the selected port, behind what is attached there: {HELP}.")
        self.attach.setAccessibleName("Attach")
        self.attach.setPlaceholderText("21 x 55 RGB ribbon")
        self.attach.textEdited.connect(self._preview_typed)
        self._names = QStringListModel(self)  # what is not attached yet can be named by a few of its letters
        names = QCompleter(self._names, self.attach)
        names.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        names.setFilterMode(Qt.MatchFlag.MatchContains)
        names.activated.connect(self._preview_typed)
        self.attach.setCompleter(names)
        self.attach.returnPressed.connect(self.attach_typed)
        self.saying = make_label("", 11, quiet=True)
        self.go = make_button("Attach", self.attach_typed, "Attaches what was typed to the selected port.   Enter")
        head = flow_of_widgets(make_label("Segments", 13, True), self.filter, 4, self.saying, None)
        head.addWidget(self.attach)
        head.addWidget(self.go)
        keep_least(self.attach, 200)
        head.setContentsMargins(16, 6, 16, 6)
        self.list = SegmentList(self.remove_segment)
        self.list.picked.connect(self._pick_row)
        below = HoldsLines()
        inside = column_of_widgets(spacing=0)
        inside.addLayout(head)
        self.preview = make_label("", 13, wrap=True)  # where what is typed goes, and what it would move, before Enter
        self.preview.setContentsMargins(16, 0, 16, 6)
        self.preview.hide()
        inside.addWidget(self.preview)
        self.list.setMinimumHeight(52)
        inside.addWidget(self.list, 1)
        below.setLayout(inside)
        self.splitter = QSplitter(Qt.Orientation.Vertical)
        for w, stretch in ((self.riser, 42), (self.area, 34), (below, 24)):
            self.splitter.addWidget(w)
            self.splitter.setStretchFactor(self.splitter.count() - 1, stretch)
        self.splitter.setSizes([264, 214, 150])
        self.splitter.setChildrenCollapsible(False)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.splitter)
        self.stack.addWidget(self._empty_page())
        layout = column_of_widgets(spacing=0)
        layout.addLayout(bar)
        layout.addWidget(self.stack, 1)
        self.setLayout(layout)
        self.panel = RunsPanel(self, session, network)
        session.changed.connect(lambda _: self.refresh())
        session.selection_changed.connect(self.refresh)
        self.refresh()

    def _empty_page(self) -> QWidget:
        return EmptyPage(
            "Nothing to attach pixels to yet",
            ("A run is attached to a port. Plan the device that has the port first.",),
            make_button("Add device…", self.add_device, "Plans a device: model, name, address.", primary=True),
        )

    # ---- what is shown

    def homes(self) -> Sequence[QWidget]:
        return (self.riser, self.attach, self.device_choice)

    def forget(self) -> None:
        """Another rig: no device, place or half-typed wish of the former one stays."""
        self.device_id, self.at = "", At("", -1, 0)
        self.attach.clear()
        self.saying.setText("")
        self.filter.set_options(list(FILTERS), "device")
        self.refresh()

    def refresh(self) -> None:
        """Follow the rig and the selection; hidden, only what is cheap is done."""
        if not self.isVisible():
            return
        s = self._session
        rig = s.rig
        self.stack.setCurrentIndex(0 if rig.devices else 1)
        self._follow_selection()
        devices = sorted(rig.devices, key=lambda d: not self._has_pixels(d))
        self.device_choice.set_options([(d, rig.devices[d].name) for d in devices], self.device_id)
        self.riser.show_device(self.device_id, self.at)
        # with the device itself chosen the first cable is open: nothing is gained by an empty third of the station
        self.opened.show_port(self.device_id, self.at if self.at.label else At(self._first_attached(), -1, 0))
        self.area.follow()
        self._fill_rows()
        self._say_load()
        self.split_button.setEnabled(bool(rig.elements) and self._has_pixels(self.device_id))
        self.panel.refresh()

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def _first_attached(self) -> str:
        """The first port of the device that something is attached to."""
        device = self._session.rig.devices.get(self.device_id)
        return next((p for p in self.riser.labels_of_ports if device and p in device.ports and device.ports[p].run), "")

    def _has_pixels(self, device_id: str) -> bool:
        model = model_of(self._session.rig, device_id) if device_id in self._session.rig.devices else None
        return bool(model) and (model.kind in ("pixel", "converter") or bool(model.gives))  # type: ignore[union-attr]

    def _follow_selection(self) -> None:
        """Where the shared selection is on the cables; what is nowhere on them leaves the view as it is."""
        s = self._session
        sel, rig = s.selection, s.rig
        cables = s.index.cables_and_sums
        if self.device_id not in rig.devices:
            self.device_id = next((d for d in rig.devices if self._has_pixels(d)), next(iter(rig.devices), ""))
            self.at = At("", -1, 0)
        if sel.on and sel.on.device in rig.devices:
            self.device_id, self.at = sel.on.device, At(sel.on.port, sel.on.place, sel.led)
        elif sel.kind == "item" and len(sel.ids) == 1 and cables.ports_of_item(sel.first_selected):
            (device_id, port), n = cables.ports_of_item(sel.first_selected)[0]
            led = 0
            if sel.pixel:
                found = pixel_places(cables, sel.first_selected, sel.pixel)
                if found:
                    device_id, port, n = found[0].stream.device_id, found[0].stream.label, found[0].piece.n
                    led = found[0].cable - found[0].piece.led + 1
            self.device_id, self.at = device_id, At(port, n, led)
        elif sel.kind == "slot" and sel.slot:
            self._find_slot(*sel.slot)
        elif sel.kind == "port" and len(sel.ids) > 1 and sel.first_selected in rig.devices:
            self.device_id, self.at = sel.first_selected, At(sel.ids[1], -1, 0)
        elif sel.kind == "device" and sel.first_selected in rig.devices:
            self.device_id, self.at = sel.first_selected, At("", -1, 0)
        device = rig.devices.get(self.device_id)
        model = model_of(rig, self.device_id) if device else None
        if device is None or (
            self.at.label and self.at.label not in device.ports and not (model and self.at.label in model.ports)
        ):
            self.at = At("", -1, 0)
        elif self.at.n >= 0 and self.at.n >= len(
            device.ports[self.at.label].run if self.at.label in device.ports else ()
        ):
            self.at = At(self.at.label, -1, 0)
        stream = cables.streams.get(PortRef(self.device_id, self.at.label))
        piece = stream.pieces[self.at.n] if stream and 0 <= self.at.n < len(stream.pieces) else None
        if self.at.led and (piece is None or piece.segment.kind != "pixels" or self.at.led > piece.leds):
            self.at = At(self.at.label, self.at.n, 0)  # the segment is shorter now, or another one

    def _find_slot(self, universe: str, address: int) -> None:
        number = self._session.rig.universes[universe].number if universe in self._session.rig.universes else 0
        for (device_id, port), stream in self._session.index.cables_and_sums.streams.items():
            for piece in stream.pieces:
                within = piece.slot_at_place(number, address)
                if within:
                    px = (within - 1) // piece.k + 1
                    led = 0
                    if piece.segment.kind == "pixels" and piece.leds:
                        led = cable_order(piece.segment, piece.leds).tolist().index(px) + 1
                    self.device_id, self.at = device_id, At(port, piece.n, led)
                    return

    def _say_load(self) -> None:
        s = self._session
        cables = s.index.cables_and_sums
        streams = [x for k, x in cables.streams.items() if k[0] == self.device_id]
        if not streams:
            self.load.say_need("")
            return
        model = model_of(s.rig, self.device_id)
        need = len(universes_of(cables, self.device_id))
        most = f" of {say_thousands(model.universes)}" if model and model.universes else ""
        self.load.say_need(
            f"{say_count(sum(x.leds for x in streams), 'pixel')} · {say_thousands(need)}{most} "
            f"{'universe' if need == 1 and not most else 'universes'}"
        )

    # ---- the list

    def _fill_rows(self) -> None:
        which = str(self.filter.currentData() or "device")
        lines = (
            self._rows.loose_rows()
            if which == "loose"
            else self._rows.rows_of_segments(which, self.device_id, self.at.label)
        )
        chosen = SegmentRef(self.device_id, self.at.label, self.at.n) if self.at.n >= 0 else None
        self.list.show_lines(lines, chosen)
        if self.list.currentIndex().isValid():
            self.list.scrollTo(self.list.currentIndex())
        if not self.attach.text().strip():
            rig, attached = self._session.rig, self._session.index.cables_and_sums.ports_of_item
            self._names.setStringList([e.name for key, e in rig.elements.items() if e.name and not attached(key)])
            if which == "loose":
                self.saying.setText(f"{say_count(len(lines), 'item')} to drag up onto a cable")
            else:
                first = "" if self.at.label else ", the first with nothing on it"
                self.saying.setText(f"attaches to port {self.port_attached_to}{first}" if self.port_attached_to else "")
        self.go.setEnabled(bool(self.port_attached_to))
        dmx = (
            bool(self.port_attached_to)
            and self.device_id in self._session.rig.devices
            and port_gives_what(self._session.rig, self.device_id, self.port_attached_to) == "dmx"
        )
        self.attach.setEnabled(bool(self.port_attached_to))
        example = "line: 101-112" if dmx else "21 x 55 RGB ribbon"
        self.attach.setPlaceholderText(example if self.port_attached_to else "nothing to attach")

    def segments_of_kind(self, kind: str) -> list[SegmentRef]:
        """The segments of a kind that the list shows: device, port, place in the run."""
        rig = self._session.rig
        found = []
        for line in self.list.rows.lines:
            at = line.id
            if isinstance(at, SegmentRef) and rig.devices[at.device].ports[at.port].run[at.place].kind == kind:
                found.append(at)
        return found

    # ---- picking

    def pick_place(self, port: str, n: int, led: int) -> None:
        """Select a place on the cables of the shown device: the item that is attached there, everywhere in the program.

        `n` is the segment, -1 the port itself. Raises LookupError where there is no such place.
        """
        s = self._session
        device = s.rig.devices[self.device_id]
        model = s.rig.device_models.get(device.model)
        if port not in device.ports and port not in (model.ports if model else ()):
            raise LookupError(f"{device.name} has no port “{port}”")
        if n >= len(device.ports[port].run if port in device.ports else ()):
            raise LookupError(f"port {port} of {device.name} has no segment {n + 1}")
        at = At(port, n, led)
        if self.at != at:
            s.commit_pending()
        stream = s.index.cables_and_sums.streams.get(PortRef(self.device_id, port))
        on = SegmentRef(self.device_id, port, n)
        if n < 0:
            s.change_selection(Selection("port", (self.device_id, port), setting=f"{port}.universe"))
        elif stream is None or not stream.pieces[n].key:
            s.change_selection(Selection("segment", (self.device_id,), on=on, led=led))
        else:
            piece = stream.pieces[n]
            pixel = 0
            if led and piece.leds:
                pixel = element_pixel(s.rig, piece, int(cable_order(piece.segment, piece.leds)[led - 1]))
            s.change_selection(Selection("item", (piece.key,), pixel=pixel, on=on, led=led))

    @property
    def picked_pixel(self) -> int:
        """The element's own number of the pixel that is chosen; 0: none."""
        stream = self._session.index.cables_and_sums.streams.get(PortRef(self.device_id, self.at.label))
        if stream is None or not 0 <= self.at.n < len(stream.pieces) or not self.at.led:
            return 0
        piece = stream.pieces[self.at.n]
        if not piece.key or not 0 < self.at.led <= piece.leds:
            return 0
        return element_pixel(self._session.rig, piece, int(cable_order(piece.segment, piece.leds)[self.at.led - 1]))

    def pick_pixel(self, number: int) -> None:
        """Select a pixel of the chosen segment's element by its own number."""
        stream = self._session.index.cables_and_sums.streams.get(PortRef(self.device_id, self.at.label))
        if stream is None or not 0 <= self.at.n < len(stream.pieces):
            return
        piece = stream.pieces[self.at.n]
        place = next(
            (x for x in pixel_places(self._session.index.cables_and_sums, piece.key, number) if x.piece is piece), None
        )
        if place:
            self.pick_place(self.at.label, self.at.n, place.cable - piece.led + 1)

    def _pick_row(self, id_: SegmentRef | str) -> None:
        if isinstance(id_, str):
            self._session.select_items([id_])
            return
        self.device_id = id_.device
        self.pick_place(id_.port, id_.place, 0)

    def show_place(self, device_id: str, port: str, place: int) -> None:
        """Show a device's cables, and select one of its ports or segments there where it is named."""
        if not port:
            self._session.change_selection(Selection("device", (device_id,)))
            return
        self.device_id = device_id
        planned = self._session.rig.devices[device_id].ports.get(port)
        self.pick_place(port, place if planned and place < len(planned.run) else -1, 0)

    def show_unattached(self) -> None:
        """List what is attached to no cable."""
        self.filter.setCurrentIndex(self.filter.findData("loose"))
        self.refresh()

    def choose_device(self, device_id: str) -> None:
        self._session.change_selection(Selection("device", (device_id,)))

    # ---- acts

    @property
    def port_attached_to(self) -> str:
        """The port that is attached to: the one picked, else the first with nothing on it, else the first for
        pixels."""
        if self.device_id not in self._session.rig.devices:
            return self.at.label
        device = self._session.rig.devices[self.device_id]
        gives = {p: port_gives_what(self._session.rig, self.device_id, p) for p in self.riser.labels_of_ports}
        if self.at.label:
            return self.at.label if gives.get(self.at.label) != "bus" else ""
        labels = [p for p in self.riser.labels_of_ports if gives[p] != "bus"]
        pixels = [p for p in labels if gives[p] == "pixels"] or labels
        return next((p for p in pixels if not (p in device.ports and device.ports[p].run)), pixels[0] if pixels else "")

    def _preview_typed(self, typed: str) -> None:
        """What the typed line would do, and what it would move."""
        self.preview.setVisible(bool(typed.strip()))
        if not typed.strip() or not self.port_attached_to:
            self._session.show_foreseen(None)
            self.preview.setText(
                ""
                if self.port_attached_to
                else "Nothing can be attached here: a bus has gear, on its board in Devices. Choose another device."
                if self.riser.labels_of_ports
                else "This device has no port for pixels. Choose another, or add one."
            )
            self._fill_rows()
            return
        try:
            wish = read_attach(self._session.rig, self.device_id, self.port_attached_to, typed, shipped_pixels())
            self._session.show_foreseen(
                attach_wish(self._session.rig, self.device_id, self.port_attached_to, typed, shipped_pixels())
            )
            self.preview.setText(f"Enter attaches: {wish.says}.")
            self.saying.setText(
                "" if self.at.label else f"to port {self.port_attached_to}, the first with nothing on it"
            )
        except Refused as e:
            self._session.show_foreseen(None)
            self.preview.setText(str(e))

    def attach_typed(self) -> bool:
        """Attach what was typed to the selected port; what cannot be read stays in the field, and the reason is
        said."""
        typed = self.attach.text().strip()
        if not typed:
            return False
        if not self.port_attached_to:
            words = "Pick a port first: click it in the riser, or walk there with the arrows."
            if "bus" in {port_gives_what(self._session.rig, self.device_id, p) for p in self.riser.labels_of_ports}:
                words = "Nothing is attached to a lamp bus here: its gear is planned on its board in Devices."
            self._session.say(words, "error")
            return False
        done = self._session.attempt_edit(attach_wish, self.device_id, self.port_attached_to, typed, shipped_pixels())
        if done is None:
            return False
        self._session.say_done(f"{done.label[:1].upper()}{done.label[1:]}.")
        self.attach.clear()
        self.attach.setFocus()
        self._fill_rows()
        return True

    def remove_segment(self) -> None:
        if self.at.n >= 0:
            self._session.attempt_edit(take_down, self.device_id, self.at.label, [self.at.n])

    def make_menu(self) -> QMenu:
        made = popup_menu(self)
        if self.at.label and self.device_id in self._session.rig.devices:
            name = self._session.rig.devices[self.device_id].name
            menu_entry(
                made,
                f"Show in Patch what is attached to port {self.at.label}",
                lambda: self.show_in_patch.emit(f'on:"{name}/{self.at.label}"'),
            )
            px = self.riser.pixel_at(self.at)
            if px:
                menu_entry(made, f"Insert here, as pixel {px} of port {self.at.label}…", lambda: self._insert_at(px))
        made.addSeparator()
        menu_entry(made, "Supplies…", self.edit_supplies)
        menu_entry(made, "Kinds of pixels…", self.edit_kinds)
        menu_entry(made, "Device models…", self.edit_models)
        made.addSeparator()
        menu_entry(made, "Wider cells", lambda: self.opened.zoom(1.5))
        menu_entry(made, "Narrower cells", lambda: self.opened.zoom(1 / 1.5))
        return made

    def _menu_at(self, widget: Riser | OpenedCable, pos: QPoint) -> None:
        """The menu of the place under the pointer, which is picked first."""
        at = widget.place_at_point(QPointF(pos))
        if at.label and (at.n >= 0 or widget is self.riser):
            self.pick_place(*at)
        self.make_menu().popup(widget.mapToGlobal(pos))

    def _open_menu(self) -> None:
        self.make_menu().exec(self.more.mapToGlobal(QPoint(0, self.more.height())))

    def _insert_at(self, px: int) -> None:
        """Begin a line that inserts at a pixel: what is to come is typed before it."""
        self.attach.setText(f"10 RGB spare at {px}")
        self.attach.setFocus()
        self.attach.setSelection(0, len("10 RGB spare"))
        self._preview_typed(self.attach.text())

    def edit_kinds(self) -> None:
        from welvo.app.runs.pixel_kinds import PixelKinds

        PixelKinds(self._session, self).exec()

    def edit_supplies(self) -> None:
        from welvo.app.runs.supplies import Supplies

        Supplies(self._session, self).exec()

    def edit_models(self) -> None:
        from welvo.app.widgets.model_editor import ModelEditor

        model = self._session.rig.devices[self.device_id].model if self.device_id in self._session.rig.devices else ""
        ModelEditor(self._session, self, model).exec()

    def split_element(self) -> None:
        from welvo.app.runs.split import SplitElement

        self._session.commit_pending()
        SplitElement(self._session, self, self.device_id, self.at.label).exec()

    def add_device(self) -> None:
        from welvo.app.widgets.add_device import AddDevice

        self._session.commit_pending()
        dialog = AddDevice(self._session, self, pixels=True)
        if dialog.exec() and dialog.made:
            self._session.change_selection(Selection("device", (dialog.made,)))

    def restyle(self) -> None:
        self.panel.restyle()
        self.riser.restyle()
        self.opened.update()
