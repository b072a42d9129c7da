"""What the list of Runs shows: segments of ports with their sums, or what is attached nowhere yet."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QDrag, QKeyEvent, QMouseEvent
from PySide6.QtWidgets import QApplication

from welvo.app.runs.riser import write_mime
from welvo.app.session import Session
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.rig.lookup import mode_of
from welvo.rig.notation import say_count, say_place, say_thousands
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef, SegmentRef
from welvo.rig.runs import Segment
from welvo.runs.along import part_name
from welvo.runs.cable import Piece

HEADS = (
    Column("", 26, "mark"),
    Column("Port", 52, "text", "The port it is attached to, as printed on the device."),
    Column("Pl.", 34, "number", "Its place in the run."),
    Column("What", 140),
    Column("Pixels", 64, "number", "Pixels on the cable."),
    Column("Port px", 84, "number", "Running pixel on the port, first to last."),
    Column("Slots", 56, "number"),
    Column("First", 84, "number", "Universe and address of its first slot."),
    Column("Last", 84, "number"),
    Column("How", 140, "text", "Direction, fold, grouping, order, brightness."),
    Column("Device", 110),
)


class SegmentList(RowList):
    """The list of segments: rows can be dragged onto the riser; Del detaches."""

    def __init__(self, remove: Callable[[], None]) -> None:
        super().__init__("Segments", HEADS)
        self._remove = remove
        self._press: QPointF | None = None

    def mousePressEvent(self, e: QMouseEvent) -> None:
        self._press = e.position()
        super().mousePressEvent(e)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        far = (
            self._press is not None
            and (e.position() - self._press).manhattanLength() > QApplication.startDragDistance()
        )
        if far and e.buttons() & Qt.MouseButton.LeftButton:
            self._press = None
            row_ = self.currentIndex().row()
            picked = self.rows.lines[row_].id if 0 <= row_ < len(self.rows.lines) else None
            if isinstance(picked, str):
                drag = QDrag(self)
                drag.setMimeData(write_mime([picked]))
                drag.exec(Qt.DropAction.CopyAction)
            return
        super().mouseMoveEvent(e)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() == Qt.Key.Key_Delete:
            self._remove()
            return
        super().keyPressEvent(e)


class RunRows:
    """Rows of the list over the session; those of a port whose stream did not change are not made again."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._kept: dict[tuple[str, str], tuple[tuple[object, ...], list[ListRow]]] = {}
        """Rows of each port, with what they were made from."""
        session.replaced.connect(self._kept.clear)

    def rows_of_segments(self, which: str, chosen: str, port: str) -> list[ListRow]:
        rig = self._session.rig
        worst = self._worst_by_segment()
        found: list[ListRow] = []
        keep = self.on_selection(chosen, port) if which == "selection" else None
        for device_id, device in rig.devices.items():
            if which in ("device", "port") and device_id != chosen:
                continue
            for port_label, planned in device.ports.items():
                if which == "port" and port_label != port:
                    continue
                stream = self._session.index.cables_and_sums.streams.get(PortRef(device_id, port_label))
                marks_ = tuple((k, v) for k, v in worst.items() if k[:2] == (device_id, port_label)) if worst else ()
                facts = (stream, planned, device.name, marks_)
                kept = self._kept.get((device_id, port_label))
                if kept is None or kept[0][0] is not stream or kept[0][1] is not planned or kept[0][2:] != facts[2:]:
                    lines = [
                        self._row_of_segment(
                            device_id,
                            port_label,
                            n,
                            s,
                            stream.pieces[n] if stream and n < len(stream.pieces) else None,
                            worst.get(SegmentRef(device_id, port_label, n), ""),
                        )
                        for n, s in enumerate(planned.run)
                    ]
                    kept = self._kept[device_id, port_label] = (facts, lines)
                found += (
                    kept[1]
                    if keep is None
                    else [x for n, x in enumerate(kept[1]) if (device_id, port_label, n) in keep]
                )
        return found

    def _row_of_segment(self, device_id: str, port: str, n: int, s: Segment, piece: Piece | None, mark: str) -> ListRow:
        rig = self._session.rig
        name = part_name(rig, piece) if piece else s.name or "DMX line"
        first, last = (
            (piece.place_of_slot(1), piece.place_of_slot(piece.slots)) if piece and piece.slots else (None, None)
        )
        how = [
            w
            for w in (
                "reversed" if s.reverse else "",
                f"fold {s.fold}" if s.fold else "",
                f"groups of {s.group}" if s.group > 1 else "",
                s.order,
                f"{s.brightness * 100:g} %" if s.brightness < 1 else "",
                say_count(len(s.fixtures), "lamp") if s.fixtures else "",
            )
            if w
        ]
        leds = (piece.leds if piece and s.kind in ("pixels", "null") else piece.pixels if piece else 0) if piece else 0
        px = f"{piece.px}–{piece.px + piece.pixels - 1}" if piece and piece.pixels else ""
        cells = (
            mark,
            port,
            str(n + 1),
            name,
            say_thousands(leds) if leds else "",
            px,
            say_thousands(piece.slots) if piece and piece.slots else "",
            say_place(*first) if first else "",
            say_place(*last) if last else "",
            " · ".join(how),
            rig.devices[device_id].name,
        )
        model = model_of(rig, device_id)
        order = model.ports.index(port) if model and port in model.ports else 0
        ranks = (
            {"error": 0, "warning": 1, "note": 2}.get(mark, 3),
            order,
            n,
            name.lower(),
            leds,
            piece.px if piece else 0,
            piece.slots if piece else 0,
            first or (0, 0),
            last or (0, 0),
            cells[9],
            cells[10],
        )
        return ListRow(SegmentRef(device_id, port, n), cells, ranks, quiet=s.kind in ("null", "extension"))

    def _worst_by_segment(self) -> dict[SegmentRef, str]:
        order = {"error": 3, "warning": 2, "note": 1}
        found: dict[SegmentRef, str] = {}
        for f in self._session.report.findings:
            where = SegmentRef(f.goes_to.id, f.goes_to.port, f.goes_to.place)
            if f.goes_to.kind == "run" and order[f.severity] > order.get(found.get(where, ""), 0):
                found[where] = f.severity
        return found

    def loose_rows(self) -> list[ListRow]:
        """Elements, and fixtures without an address, that are attached to no cable."""
        rig, cables = self._session.rig, self._session.index.cables_and_sums
        found = []
        for key, e in rig.elements.items():
            if not cables.ports_of_item(key):
                size = e.slots if e.kind == "block" else e.pixels
                cells = (
                    "",
                    "",
                    "",
                    e.name,
                    say_thousands(size) if e.kind != "block" else "",
                    "",
                    say_thousands(e.slots_needed),
                    *self._say_patched(key),
                    f"{e.kind} · {e.order}" if e.kind != "block" else "block of slots",
                    "",
                )
                found.append(ListRow(key, cells))
        for key, f in rig.fixtures.items():
            mode = mode_of(rig, f)
            if not cables.ports_of_item(key) and mode and f.place_of_break(0).origin_of_place == "none":
                cells = (
                    "",
                    "",
                    "",
                    f"{f.number} {f.name}",
                    "",
                    "",
                    say_thousands(mode.slots_needed),
                    "",
                    "",
                    f"fixture · {mode.name}",
                    "",
                )
                found.append(ListRow(key, cells))
        return found

    def _say_patched(self, key: str) -> tuple[str, str]:
        spans = self._session.index.spans_of(key)
        rig = self._session.rig
        if not spans:
            return "", ""
        return say_place(rig.universes[spans[0].universe].number, spans[0].first), say_place(
            rig.universes[spans[-1].universe].number, spans[-1].last
        )

    def on_selection(self, device: str, port: str) -> set[tuple[str, str, int]]:
        """The segments that carry what is selected, or that the selected device, port, universe or feed carries."""
        s = self._session
        sel, rig, cables = s.selection, s.rig, s.index.cables_and_sums
        found: set[tuple[str, str, int]] = set()
        if sel.kind == "item":
            found |= {(*port, n) for key in sel.ids for port, n in cables.ports_of_item(key)}
        numbers: set[int] = set()
        if sel.kind == "universe":
            numbers = {rig.universes[u].number for u in sel.ids if u in rig.universes}
        elif sel.kind == "feed" and sel.first_selected in rig.feeds:
            universe = rig.universes.get(rig.feeds[sel.first_selected].universe)
            numbers = {universe.number} if universe else set()
        elif sel.kind == "slot" and sel.slot and sel.slot[0] in rig.universes:
            number = rig.universes[sel.slot[0]].number
            return {
                (*k, p.n) for k, st in cables.streams.items() for p in st.pieces if p.slot_at_place(number, sel.slot[1])
            }
        for key, stream in cables.streams.items():
            for p in stream.pieces:
                on_it = sel.kind == "device" and key[0] == sel.first_selected
                on_it = on_it or (sel.kind in ("port", "segment") and key == (device, port))
                if on_it or any(part.universe in numbers for part in p.parts):
                    found.add((*key, p.n))
        if numbers:
            ids = {u for u, v in rig.universes.items() if v.number in numbers}
            found |= {(*key, line.n) for key, line in cables.lines.items() if line.universe in ids}
        return found
