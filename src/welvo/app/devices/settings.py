"""The settings of one device as plan | reported | action lines; only what differs is loud."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial
from typing import NamedTuple

from PySide6.QtCore import QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QFrame, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from welvo.app.devices.papers import CopyPort
from welvo.app.jobs.device_work import OUTCOMES
from welvo.app.jobs.network import Network
from welvo.app.session import Selection, Session
from welvo.app.widgets import marks
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.flow import flow_of_widgets, keep_least
from welvo.app.widgets.literal import literal_text
from welvo.app.widgets.painting import (
    clear_layout,
    draw_frame,
    draw_text_line,
    fitting_size,
    make_button,
    make_label,
    width_of,
)
from welvo.app.widgets.theme import THEME
from welvo.matching.plan_back import plan_reported
from welvo.matching.planned import compare_device
from welvo.rig.document import Rig
from welvo.rig.edits import set_port
from welvo.rig.notation import say_count
from welvo.rig.plan import model_of, pages_of, say_setting, split_owner
from welvo.rig.protocol import USUAL, say_wire
from welvo.rig.wiring import Port
from welvo.settings.compare import SettingLine, lines_that_differ


def words_of_line(line: SettingLine, lines: dict[str, SettingLine]) -> tuple[str, str]:
    """Plan and reported of a line in words; a universe is said in the protocol of its own side."""
    protocol = lines.get(f"{line.port}.protocol")
    plan_p = str(protocol.plan) if protocol and protocol.plan else USUAL
    has_p = str(protocol.reported) if protocol and protocol.reported else plan_p
    return say_setting(line.spec, line.plan, plan_p), say_setting(line.spec, line.reported, has_p)


class SettingRow(QFrame):
    """One setting. Its buttons name the value they push or plan, as far as there is room for it."""

    picked = Signal()

    def __init__(
        self,
        line: SettingLine,
        plan: str,
        has: str,
        crowded: bool,
        push: Callable[[], object],
        take: Callable[[], object],
        needs: Needs,
    ) -> None:
        super().__init__()
        self.line, self._needs = line, needs
        self._plan, self._has = plan, has
        self._loud = line.mark == "differs"
        self._wash = self._loud and not crowded
        self.chosen = False
        self.setFixedHeight((36 if self._loud else 28) + THEME.step)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(f"{line.spec.label}: plan {plan}, reported {has}, {marks.WORDS[line.mark]}")
        self.setToolTip(literal_text(line.spec.help))
        parts: list[QWidget | int | None] = [None]
        if self._loud:
            if line.spec.writable:
                parts.append(self._small_button(f"Push {plan}", push, f"Sends {plan} to the device. {line.spec.help}"))
            if line.reported is not None:
                parts.append(
                    self._small_button(
                        f"Plan {has}",
                        take,
                        f"Makes {has} the plan, as the device has it. Everything that follows from it moves too.",
                    )
                )
        self._acts = [w for w in parts if isinstance(w, QPushButton)]
        self._whole = [w.text() for w in self._acts]
        self._wanted = self._taken = sum(w.sizeHint().width() + 4 for w in self._acts)
        made = flow_of_widgets(*parts, spacing=4)
        made.setContentsMargins(0, 0, 4, 0)
        self.setLayout(made)

    def resizeEvent(self, e: QResizeEvent) -> None:
        """Values that there is no room for stand in the row anyway, and in the button's help."""
        words = state_of_setting(self.line)[0]
        beside = width_of(words, 11) + 8 if words else 0
        fits = self._wanted + beside <= self.width() - _columns_of_row(self.width(), self._needs)[2]
        for w, whole in zip(self._acts, self._whole):
            w.setText(whole if fits else whole.partition(" ")[0])
        self._taken = sum(w.sizeHint().width() + 4 for w in self._acts)
        super().resizeEvent(e)

    def _small_button(self, words: str, act: Callable[[], object], help_text: str) -> QWidget:
        made = make_button(words, act, help_text)
        made.setStyleSheet("padding: 0 8px;")
        made.setFixedHeight(28)
        return made

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        r = QRectF(self.rect())
        if self._wash:
            p.fillRect(r, THEME.color("error_wash"))
        elif self.chosen:
            p.fillRect(r, THEME.color("select"))
        if self._loud:
            p.fillRect(QRectF(0, 0, 4, r.height()), THEME.color("error"))
        p.fillRect(QRectF(0, r.bottom() - 1, r.width(), 1), THEME.color("line"))
        h = r.height()
        at = _columns_of_row(r.width(), self._needs)
        rooms = ((self._plan, at[1] - at[0] - 6), (self._has, at[2] - at[1] - 24))
        size, bold = (min(fitting_size(*x) for x in rooms), True) if self._loud else (13, False)
        token = "text" if self._loud else "quiet"
        draw_text_line(p, QRectF(10, 0, at[0] - 12, h), self.line.spec.label)
        silent = self.line.mark == "silent"
        draw_text_line(
            p,
            QRectF(at[0], 0, at[1] - at[0] - 6, h),
            "not planned" if silent else self._plan,
            "quiet" if silent else token,
            13 if silent else size,
            bold and not silent,
        )
        marks.draw_mark(p, self.line.mark, at[1], h / 2 - 6, 12)
        draw_text_line(p, QRectF(at[1] + 20, 0, at[2] - at[1] - 24, h), self._has, token, size, bold)
        words, token = state_of_setting(self.line)
        if words and not (self._loud and not self.line.waits and self.line.result is None):
            room = r.width() - at[2] - (self._taken if self._loud else 0)
            draw_text_line(p, QRectF(at[2], 0, room, h), words, token, 11)
        if self.chosen or self.hasFocus():
            draw_frame(p, r.adjusted(0, 0, 0, -1), None, "accent" if self.hasFocus() else "text", 2, 2)

    def mousePressEvent(self, _: QMouseEvent) -> None:
        self.setFocus()
        self.picked.emit()

    def focusInEvent(self, e: object) -> None:
        super().focusInEvent(e)  # type: ignore[arg-type]
        self.update()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.picked.emit()
        elif e.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            table = self.parentWidget()
            rows = [w for w in table.findChildren(SettingRow) if w.isVisible()] if table else [self]
            n = rows.index(self) + (1 if e.key() == Qt.Key.Key_Down else -1)
            if 0 <= n < len(rows):
                rows[n].setFocus()
                rows[n].picked.emit()
        else:
            super().keyPressEvent(e)


Needs = tuple[float, float, float]
"""How wide the widest label, planned and reported value of a table are."""


FREE_TEXT = 12
"""Letters of a free text that have room in any case."""


def needs_of_rows(rows: Iterable[tuple[str, str, str]]) -> Needs:
    """What a table's columns need for their labels and values; a value that is a long text has no more than a name."""
    most = THEME.scale_length(240)
    wide = [0.0, 0.0, 0.0]
    for row in rows:
        wide = [max(w, min(most, width_of(words, 13, n > 0))) for n, (w, words) in enumerate(zip(wide, row))]
    return wide[0], wide[1], wide[2]


def _measured(line: SettingLine, by_key: dict[str, SettingLine]) -> tuple[str, str, str]:
    """The words of a row, for its room. A free text may end in “…”: it must not push the acts out of sight."""
    plan, has = words_of_line(line, by_key)
    return (
        (line.spec.label, plan[:FREE_TEXT], has[:FREE_TEXT])
        if line.spec.type == "text"
        else (line.spec.label, plan, has)
    )


def _columns_of_row(width: float, needs: Needs) -> tuple[float, float, float]:
    """Where plan, mark and action begin: as far apart as the table needs, in even steps where there is room."""
    wide = min(width, 760.0)
    label, plan, has = needs
    first = max(100.0, label + 20, wide * 0.22 if label + 20 < wide * 0.22 else 0.0)
    mark = first + max(96.0, plan + 12, wide * 0.19)
    return first, mark, mark + 20 + max(92.0, has + 12, wide * 0.18)


class Section(NamedTuple):
    """A page of the device, or a port with its segments: what is shown or folded away together."""

    key: str
    title: str
    port: str
    lines: list[SettingLine]

    @property
    def has_differences(self) -> bool:
        return any(line_matters(x) for x in self.lines)


def line_matters(line: SettingLine) -> bool:
    """Whether a line is more than agreement: it differs, waits, or was not taken when it was pushed."""
    return line.mark == "differs" or bool(line.waits) or (line.result is not None and line.result.outcome != "taken")


def state_of_setting(line: SettingLine) -> tuple[str, str]:
    """What became of a push, or what the device still needs, and in which colour that is said."""
    r = line.result
    if line.waits:
        value = line.entered if line.entered is not None else line.saved
        done = "entered" if line.entered is not None else "saved"
        what = done if value == line.plan else f"{say_setting(line.spec, value)} {done}"
        return f"{what}, needs {', '.join(line.waits)}", "warning"
    if r is not None and r.value == line.plan and line.mark != "matches":
        why = f": {r.why}" if r.why else ""
        return f"{OUTCOMES[r.outcome]}{why}", "error" if r.outcome in ("refused", "otherwise") else "warning"
    if line.mark == "claimed":
        return "pushed, not read back yet", "quiet"
    return "", "quiet"


def sections_of(lines: list[SettingLine], pages: dict[tuple[str, str], str]) -> list[Section]:
    """The lines as the device's pages group them; ports with their segments."""
    found: dict[str, Section] = {}
    for x in lines:
        if x.port:
            label, _ = split_owner(x.port)
            key, title, port = f"port {label}", f"Port {label}", label
        else:
            key = title = pages.get((x.spec.scope, x.spec.key), "Network")
            port = ""
        found.setdefault(key, Section(key, title, port, [])).lines.append(x)
    return list(found.values())


MANY = 40
"""With more settings than these, ports that agree are folded away."""


class Settings(QWidget):
    """The table of one device, rebuilt only when a value or a mark is another one."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.device_id = ""
        self.only_differing = False
        self._state: object = None
        self._opened: dict[tuple[str, str], bool] = {}
        """Sections that the operator opened or folded away, by device and section."""
        self.lines: list[SettingLine] = []
        self._body = QVBoxLayout()
        self._body.setContentsMargins(16, 8, 16, 16)
        self._body.setSpacing(0)
        self.setLayout(self._body)
        session.changed.connect(lambda _: self.refresh())
        session.observed_changed.connect(self.refresh)
        session.selection_changed.connect(self._on_selection)

    def show_device(self, device_id: str) -> None:
        self.device_id = device_id
        self.refresh()

    def show_only_differing(self, only: bool) -> None:
        self.only_differing = only
        self.refresh()

    def refresh(self) -> None:
        s = self._session
        if self.device_id not in s.rig.devices:
            self.lines, self._state = [], None
            clear_layout(self._body)
            return
        self.lines = compare_device(s.index, s.observed, self.device_id, s.now())
        if not self.isVisible() and self._state is not None:
            return  # built when it is looked at
        device = s.rig.devices[self.device_id]
        feeds = tuple((fid, f.protocol, f.wire, s.rig.universes[f.universe].name) for fid, f in s.rig.feeds.items())
        state = (
            self.device_id,
            [
                (x.key, x.plan, x.reported, x.mark, x.waits, x.entered, x.result and x.result.outcome)
                for x in self.lines
            ],
            [(k, p.feed) for k, p in device.ports.items()],
            feeds,
            THEME.name,
            THEME.step,
            self.only_differing,
            tuple(self._opened.items()),
            self._chosen_section(),
        )
        if state != self._state:
            self._state = state
            self._build_sections(device.ports)

    def showEvent(self, e: object) -> None:
        super().showEvent(e)  # type: ignore[arg-type]
        self.refresh()

    def _chosen_section(self) -> str:
        wanted = self._session.selection.setting
        owner = next((x.port for x in self.lines if x.key == wanted), "")
        return f"port {split_owner(owner)[0]}" if owner else ""

    def _is_open(self, section: Section) -> bool:
        known = self._opened.get((self.device_id, section.key))
        if known is not None:
            return known
        return (
            len(self.lines) <= MANY
            or not section.port
            or section.has_differences
            or section.key == self._chosen_section()
        )

    def _toggle_section(self, section: Section) -> None:
        self._opened[self.device_id, section.key] = not self._is_open(section)
        self.refresh()

    def _build_sections(self, ports: dict[str, Port]) -> None:
        focus = next((w.line.key for w in self.findChildren(SettingRow) if w.hasFocus()), "")
        clear_layout(self._body)
        crowded = 3 * len(lines_that_differ(self.lines)) > len(self.lines)
        by_key = {x.key: x for x in self.lines}
        needs = needs_of_rows(_measured(x, by_key) for x in self.lines)
        self._body.addWidget(_Heading(needs))
        least = int(_columns_of_row(0, needs)[2]) + THEME.scale_length(132)
        self.setMinimumWidth(least)  # with less room it is scrolled
        self.setMaximumWidth(max(least, THEME.scale_length(1160)))
        shown = 0
        model = model_of(self._session.rig, self.device_id)
        for section in sections_of(self.lines, pages_of(model) if model else {}):
            if self.only_differing and not section.has_differences:
                continue
            self._head_of_section(section, ports)
            if not self._is_open(section):
                continue
            owner = section.lines[0].port
            for x in section.lines:
                if self.only_differing and not line_matters(x):
                    continue
                if x.port != owner and split_owner(x.port)[1]:
                    owner = x.port
                    words = f"Segment {split_owner(owner)[1]}"
                    under = flow_of_widgets(make_label(words, 11, quiet=True), None)
                    under.setContentsMargins(10, 8, 4, 0)
                    self._body.addLayout(under)
                line = self._make_row(x, by_key, crowded, needs)
                shown += 1
                if x.key == focus:
                    line.setFocus()
        if not shown and self.only_differing:
            self._body.addWidget(make_label("Nothing differs, nothing waits.", 13, quiet=True))
        self._body.addStretch(1)
        self._mark_chosen()

    def _head_of_section(self, section: Section, ports: dict[str, Port]) -> None:
        mine = section.lines
        off, waits = len(lines_that_differ(mine)), sum(bool(x.waits) for x in mine)
        agree = sum(x.mark == "matches" for x in mine)
        words = (
            f"{off} of {len(mine)} {'differs' if off == 1 else 'differ'}" if off else f"{agree} match" if agree else ""
        )
        words += f" · {waits} waiting" if waits else ""
        parts: list[QWidget | int | None]
        folds = section.port and len(self.lines) > MANY
        if folds:
            arrow = "▾" if self._is_open(section) else "▸"
            fold = make_button(
                f"{arrow} {section.title}", lambda: self._toggle_section(section), "Shows or folds away its settings."
            )
            fold.setAccessibleName(section.title)
            fold.setStyleSheet("padding: 0 10px; text-align: left;")
            parts = [fold]
        else:
            parts = [make_label(section.title, 13, True)]
        if section.port and (not folds or self._is_open(section)):
            parts += [
                make_label("listens to", 11, quiet=True),
                self._feed_choice(section.port, ports.get(section.port, Port()).feed),
            ]
            copy = partial(CopyPort, self._session, self.device_id, section.port, self)
            parts.append(
                make_button("Copy to…", lambda: copy().exec(), "Gives this port's settings to others, shown first.")
            )
        head = flow_of_widgets(*parts, None, make_label(words, 11, quiet=not (off or waits)))
        head.setContentsMargins(4, 12 if not folds else 6, 4, 4)
        self._body.addLayout(head)

    def _make_row(self, x: SettingLine, by_key: dict[str, SettingLine], crowded: bool, needs: Needs) -> SettingRow:
        plan, has = words_of_line(x, by_key)
        push = partial(self._network.pushing.push_planned, self.device_id, (x.key,))
        take = partial(self._session.make_edit, plan_reported, self.device_id, x.key, x.reported)
        line = SettingRow(x, plan, has, crowded, push, take, needs)
        line.picked.connect(partial(self._pick_line, x))
        self._body.addWidget(line)
        return line

    def _feed_choice(self, port: str, feed: str) -> Choice:
        rig = self._session.rig

        def take_typed(fid: str) -> None:
            f = rig.feeds.get(fid)
            words = f"put out {say_wire(f.protocol, f.wire)} on {port}" if f else f"put out nothing on {port}"
            self._session.make_edit(set_port, self.device_id, port, words, feed=fid)

        made = Choice(
            "Which feed this port is planned to put out. Its protocol and universe follow from it.", take_typed
        )
        made.setAccessibleName(f"Feed of port {port}")
        made.set_options(feed_options(rig), feed)
        keep_least(made, 104)
        made.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        made.setMaximumWidth(260)
        return made

    def _pick_line(self, line: SettingLine) -> None:
        s = self._session
        kind = (
            Selection("port", (self.device_id, line.port), setting=line.key)
            if line.port
            else Selection("device", (self.device_id,), setting=line.key)
        )
        s.change_selection(kind)

    def _on_selection(self) -> None:
        self.refresh()
        self._mark_chosen()

    def _mark_chosen(self) -> None:
        wanted = self._session.selection.setting
        for w in self.findChildren(SettingRow):
            if w.chosen != (w.line.key == wanted):
                w.chosen = w.line.key == wanted
                w.update()
                if w.chosen:
                    QTimer.singleShot(0, w, partial(_into_view, w))


def _into_view(line: SettingRow) -> None:
    """Scroll the table so that a row is seen, once its place is known."""
    holder = line.parentWidget()
    while holder is not None and not isinstance(holder, QScrollArea):
        holder = holder.parentWidget()
    if isinstance(holder, QScrollArea):
        holder.ensureWidgetVisible(line, 0, 90)
        holder.horizontalScrollBar().setValue(0)  # what the setting is called stands at its beginning


def feed_options(rig: Rig) -> list[tuple[str, str]]:
    """Feeds as choices, in the order of the rig's universes."""
    order = sorted(rig.feeds, key=lambda fid: (rig.universes[rig.feeds[fid].universe].number, fid))
    found = [("", "nothing")]
    for fid in order:
        f = rig.feeds[fid]
        u = rig.universes[f.universe]
        found.append((fid, f"{say_wire(f.protocol, f.wire)} · universe {u.number}{' ' + u.name if u.name else ''}"))
    return found


class _Heading(QWidget):
    def __init__(self, needs: Needs) -> None:
        super().__init__()
        self._needs = needs
        self.setFixedHeight(24 + THEME.step)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        at = _columns_of_row(self.width(), self._needs)
        for x, words in zip((10.0, at[0], at[1] + 20, at[2]), ("Setting", "Plan", "Reported", "Action")):
            draw_text_line(p, QRectF(x, 0, 120, 24 + THEME.step), words, "quiet", 11)
        p.fillRect(0, self.height() - 1, self.width(), 1, THEME.color("edge"))


def summary_of_lines(lines: list[SettingLine]) -> str:
    """`2 of 14 settings differ`, in words."""
    off = len(lines_that_differ(lines))
    if off:
        return f"{off} of {say_count(len(lines), 'setting')} {'differs' if off == 1 else 'differ'}"
    agree = sum(x.mark == "matches" for x in lines)
    return (
        f"{agree} of {say_count(len(lines), 'setting')} read back and equal"
        if agree
        else "nothing known of its settings"
    )
