"""Device models made and edited in the window: fields and the model's file side by side, each following the other."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import platformdirs
from msgspec import Struct
from msgspec.structs import replace
from PySide6.QtWidgets import QPlainTextEdit, QScrollArea, QWidget

from welvo.app.disk import wait_for
from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog, ask_act
from welvo.app.widgets.fields import Choice, commit_focus, set_help
from welvo.app.widgets.flow import keep_least
from welvo.app.widgets.forms import Form, Subject, Ticked, Typed, ValueChoice
from welvo.app.widgets.painting import column_of_widgets, make_button, make_label, row_of_widgets
from welvo.formats.files import RigFileError
from welvo.formats.models import check_model, from_folder, read_model, save_model, shipped_models, write_model
from welvo.formats.setting_lines import read_setting_lines, say_setting_lines
from welvo.rig.base import Refused
from welvo.rig.protocol import PROTOCOLS
from welvo.rig.readers import TextReader
from welvo.rig.wiring import DeviceModel, OutputMode
from welvo.runs.edits import set_model

KINDS = (
    ("node", "node with DMX ports"),
    ("pixel", "pixel controller"),
    ("converter", "converter, pixels or DMX"),
    ("gateway", "bus gateway"),
    ("serial", "serial DMX line"),
    ("fixture", "fixture with a network socket"),
    ("bridge", "bridge on a cable"),
)
FIRST_SETTINGS = """Name: text 32
Universe size: 1-512, factory 510
port Brightness: 0-100 %, factory 100
port Colour order: RGB | RBG | GRB | GBR | BRG | BGR, factory RGB"""
"""What a new model begins with: settings that many devices have; each line may go."""
PASSES = (
    ("nothing", "nothing may follow"),
    ("pixel", "from the next whole pixel"),
    ("slot", "from the very next slot"),
)


def own_folder() -> Path:
    return Path(platformdirs.user_data_dir("welvo")) / "models"


def read_labels(text: str) -> tuple[str, ...]:
    """`1-12` or `A1-A8, B1-B8` or `A, B` → labels in the order printed."""
    found: list[str] = []
    for part in (p.strip() for p in text.replace("–", "-").split(",")):
        m = re.fullmatch(r"([A-Za-z ]*)(\d+)-([A-Za-z ]*)(\d+)", part)
        if m and m[3] in ("", m[1]):
            first, last = int(m[2]), int(m[4])
            if last < first or last - first > 511:
                raise Refused(f"“{part}” is no series of ports.")
            found += [f"{m[1]}{n}" for n in range(first, last + 1)]
        elif part:
            found.append(part)
    if len(found) > 512:
        raise Refused("A device has 512 ports at most.")
    return tuple(found)


def say_labels(ports: tuple[str, ...]) -> str:
    """The shortest way to write labels that `read_labels` reads again."""
    found: list[str] = []
    at = 0
    while at < len(ports):
        m = re.fullmatch(r"([A-Za-z ]*)(\d+)", ports[at])
        end = at
        while m and end + 1 < len(ports) and ports[end + 1] == f"{m[1]}{int(m[2]) + end + 1 - at}":
            end += 1
        found.append(f"{ports[at]}-{ports[end]}" if end > at + 1 else ports[at])
        at = end + 1 if end > at + 1 else at + 1
    return ", ".join(found)


def read_modes(text: str) -> tuple[OutputMode, ...]:
    """One mode a line: `6 long ports: off 2, 4, 6; pixels 1360; gives dmx`."""
    found: list[OutputMode] = []
    for line in (x.strip() for x in text.splitlines()):
        if not line:
            continue
        name, _, rest = line.partition(":")
        made = OutputMode(name=name.strip() or "?")
        for part in (p.strip() for p in rest.split(";") if p.strip()):
            word, _, value = part.partition(" ")
            if word == "off":
                made = replace(made, off=read_labels(value))
            elif word in ("pixels", "slots", "universes") and value.strip().isdigit():
                key = {"pixels": "pixels_per_port", "slots": "slots_per_port", "universes": "universes"}[word]
                made = replace(made, **{key: int(value)})
            elif word == "gives" and value.strip() in ("dmx", "pixels", "bus"):
                made = replace(made, gives=value.strip())
            else:
                raise Refused(
                    f"“{part}” says nothing of a mode. Write off 2, 4; pixels 1360; slots 512; universes 4; gives dmx."
                )
        found.append(made)
    return tuple(found)


def say_modes(modes: tuple[OutputMode, ...]) -> str:
    lines = []
    for m in modes:
        parts = [f"off {say_labels(m.off)}"] if m.off else []
        parts += [
            f"{w} {v}"
            for w, v in (("pixels", m.pixels_per_port), ("slots", m.slots_per_port), ("universes", m.universes))
            if v
        ]
        parts += [f"gives {m.gives}"] if m.gives else []
        lines.append(f"{m.name}: {'; '.join(parts)}" if parts else m.name)
    return "\n".join(lines)


class _Listed(Struct, frozen=True):
    """Words with commas; `allowed` names those there are, none: any."""

    allowed: tuple[str, ...] = ()

    def read_text(self, text: str) -> tuple[str, ...]:
        found = tuple(w.strip() for w in text.split(",") if w.strip())
        if not self.allowed:
            return found
        found = tuple(w.lower() for w in found)
        wrong = next((w for w in found if w not in self.allowed), "")
        if wrong:
            raise Refused(f"“{wrong}” is none of {', '.join(self.allowed)}.")
        return found

    def say_value(self, value: tuple[str, ...]) -> str:
        return ", ".join(value)


class _Labels(Struct, frozen=True):
    def read_text(self, text: str) -> tuple[str, ...]:
        return read_labels(text)

    def say_value(self, value: tuple[str, ...]) -> str:
        return say_labels(value)


class _Counts(Struct, frozen=True):
    """`sacn 1, artnet 0, slot 1` → from which number each is counted."""

    def read_text(self, text: str) -> dict[str, int]:
        found: dict[str, int] = {}
        for part in (p.strip() for p in text.split(",") if p.strip()):
            m = re.fullmatch(rf"({'|'.join((*PROTOCOLS, 'slot', 'pixel', 'port'))})\s+([01])", part.lower())
            if not m:
                raise Refused(f"“{part}” says nothing. Write such as sacn 1, artnet 0, pixel 0.")
            found[m[1]] = int(m[2])
        return found

    def say_value(self, value: dict[str, int]) -> str:
        return ", ".join(f"{k} {v}" for k, v in value.items())


ROWS = (
    Typed("Name", "What the device is called by its maker.", "name", TextReader("A model needs a name.")),
    Typed("Maker", "Who makes it; it stands before the name in lists.", "maker"),
    ValueChoice(
        "Kind",
        "What sort of device it is. It decides what its ports put out where nothing else is said.",
        "kind",
        KINDS,
    ),
    Typed("Ports", "The labels printed on the device, in their order: 1-12, or A1-A8, B1-B8.", "ports", _Labels()),
    Typed("Pixels a port", "How many pixels one port takes; 0: nobody said.", "pixels_per_port"),
    Typed("DMX slots", "How many slots a DMX port, or a bridge, puts out: 1 to 512.", "slots_per_port"),
    Typed("Stream slots", "How many slots a pixel port can put out; 0: nobody said.", "stream_slots"),
    Typed("Universes", "How many universes it listens to in all; 0: as many as it has ports.", "universes"),
    Typed(
        "Universe size",
        "How many slots of a universe it reads, where that is fixed; 0: it can be told.",
        "universe_size",
    ),
    Typed("Protocols", f"What it listens to: {', '.join(PROTOCOLS)}.", "protocols", _Listed(tuple(PROTOCOLS))),
    ValueChoice(
        "Colour order",
        "What a colour order on its pages names. For BRG and GBR the two are each other's opposite; try one string.",
        "order_names",
        (("out", "names what it puts out"), ("in", "names what comes in")),
    ),
    Typed("Chip types", "Which chip types it drives, with commas; empty: any.", "chips", _Listed()),
    Ticked("Segments can have starts of their own", "Off: each segment follows the one before it.", "own_starts"),
    Ticked("Takes pixels that a universe's end cuts", "Off: it takes whole pixels only.", "straddles"),
    ValueChoice(
        "Behind it",
        "For a bridge: whether anything may follow on its cable, and where that begins.",
        "passes",
        PASSES,
    ),
    Typed(
        "Counts from", "From which number its own pages count: sacn 1, artnet 0, slot 1, pixel 0.", "counts", _Counts()
    ),
    Typed("A of a port", "Amperes that each port can hand on; 0: nobody said.", "port_amps"),
    Typed("A in all", "Amperes that the whole device can hand on; 0: nobody said.", "amps"),
    Typed("Connector", "What its ports are made of: 5-pin, 3-pin, RJ45, or a screw terminal.", "connector"),
    Typed("Note", "What somebody should know before planning or touching it.", "note", TextReader(longest=4000)),
)


class ModelEditor(Dialog):
    """Choose a model, change what it says, save it among one's own; a model that the rig uses is changed there too."""

    def __init__(self, session: Session, parent: QWidget, used: str = "") -> None:
        self._session = session
        self._busy = False
        own, self._problems = from_folder(own_folder())
        self._models: dict[str, DeviceModel] = {f"rig {k}": m for k, m in session.rig.device_models.items()}
        self._models |= {f"own {k}": m for k, m in own.items()} | {
            f"shipped {k}": m for k, m in shipped_models().items()
        }
        self.model = self._models.get(f"rig {used}") or next(iter(self._models.values()))
        self._chosen = next(k for k, m in self._models.items() if m is self.model)
        self._kept = self.model
        """The model as it was chosen or last kept; what differs from it would be lost."""
        self.which = Choice(
            "Which model to begin with: one of this rig, one of your own, or one that came with Welvo.",
            self._choose_model,
        )
        words = {"rig": "in this rig", "own": "your own", "shipped": "came with Welvo"}
        self.which.set_options(
            [(k, f"{m.maker} {m.name} · {words[k.split(' ')[0]]}".strip()) for k, m in self._models.items()],
            self._chosen,
        )
        self.which.setAccessibleName("Model")
        keep_least(self.which, 340)
        new = make_button("New", self._new_model, "Begins a model from nothing.")
        super().__init__(parent, "Device models", beside=(self.which, new, None), wide=980, high=680)
        lines = column_of_widgets((0, 0, 12, 0), 6)
        self.form = Form(lines, Subject(lambda: self.model, self._set_field), DeviceModel).add(*ROWS)
        lines.addWidget(make_label("Output modes, one a line", 11, quiet=True))
        self.modes = _text_field(
            "Output modes",
            "One mode a line, such as: 6 long ports: off 2, 4, 6; pixels 1360. A mode can switch ports off or change "
            "what they put out.",
            self._from_modes,
        )
        self.modes.setFixedHeight(84)
        lines.addWidget(self.modes)
        lines.addWidget(make_label("Settings of its own pages, one a line", 11, quiet=True))
        self.settings = _text_field(
            "Settings",
            "One setting a line, such as: Brightness: 0-100 %, factory 100 · port Chip: A | B · Fan: switch; needs "
            "restart. They are planned, compared with what the device says, and stand on its card.",
            self._from_settings,
        )
        self.settings.setFixedHeight(120)
        lines.addWidget(self.settings)
        lines.addStretch(1)
        left = QWidget()
        left.setLayout(lines)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(left)
        scroll.setMinimumWidth(430)
        self.text = _text_field(
            "The model's file",
            "The model as its file has it, in TOML. What is typed here stands in the fields, and the other way round.",
            self._from_text,
        )
        right = column_of_widgets(spacing=4)
        right.addWidget(make_label("Its file: everything, with the settings of its own pages", 11, quiet=True))
        right.addWidget(self.text, 1)
        middle = row_of_widgets(scroll, spacing=12)
        middle.addLayout(right, 1)
        self.body.addLayout(middle, 1)
        self.in_rig = make_button(
            "Use it in this rig",
            self._put_in_rig,
            "Puts it in place of the model of that name in this rig. Undo brings the old one back.",
        )
        self.keep = make_button(
            "Save as my own", self._save_model, "Writes it into your own folder, for every rig.", primary=True
        )
        self.finish(self.keep, self.in_rig, leave="Close")
        self._show_model()
        self.say("; ".join(self._problems))

    # ---- following

    def _set_field(self, _: str, **fields: object) -> object:
        """A field was changed: the model and its file follow. What cannot be is refused, and nothing is lost."""
        self._take_model(replace(self.model, **fields))
        self._show_model()
        return self.model

    def _take_model(self, new: DeviceModel) -> None:
        try:
            check_model(new)
        except (ValueError, TypeError) as e:
            raise Refused(str(e)) from None
        self.model = new
        self._enable_by_fit(True)

    def _enable_by_fit(self, fits: bool) -> None:
        for b in (self.keep, self.in_rig):
            b.setEnabled(fits)
        if fits:
            self.say("")

    def _follow_typed(self, read: Callable[[], DeviceModel], shows: Callable[[], None]) -> None:
        """Text was typed: the model follows it as soon as it can be read, and `shows` brings the rest up to date."""
        if self._busy:
            return
        try:
            self._take_model(read())
        except (RigFileError, Refused) as e:
            self.refused(str(e))
            self._enable_by_fit(False)
            return
        self._busy = True
        shows()
        self._busy = False

    def _from_text(self) -> None:
        self._follow_typed(lambda: read_model(self.text.toPlainText(), "The file"), self._show_fields)

    def _from_modes(self) -> None:
        def read() -> DeviceModel:
            return replace(self.model, modes=self._with_notes(read_modes(self.modes.toPlainText())))

        self._follow_typed(read, lambda: self.text.setPlainText(write_model(self.model)))

    def _from_settings(self) -> None:
        def read() -> DeviceModel:
            return replace(self.model, settings=read_setting_lines(self.settings.toPlainText(), self.model))

        self._follow_typed(read, lambda: self.text.setPlainText(write_model(self.model)))

    def _with_notes(self, modes: tuple[OutputMode, ...]) -> tuple[OutputMode, ...]:
        """Notes and stream limits of modes are in the file only; a mode of the same name keeps its own."""
        old = {m.name: m for m in self.model.modes}
        return tuple(
            replace(m, note=old[m.name].note, stream_slots=old[m.name].stream_slots) if m.name in old else m
            for m in modes
        )

    def _show_fields(self) -> None:
        self.form.refresh()
        self.modes.setPlainText(say_modes(self.model.modes))
        self.settings.setPlainText(say_setting_lines(self.model.settings))

    def _show_model(self) -> None:
        self._busy = True
        self._show_fields()
        self.text.setPlainText(write_model(self.model))
        self._busy = False
        self._enable_by_fit(True)

    def _choose_model(self, key: str) -> None:
        if not self._may_drop():
            self.which.setCurrentIndex(self.which.findData(self._chosen))
            return
        self._chosen = key
        self.model = self._kept = self._models[key]
        self._show_model()

    def _new_model(self) -> None:
        if self._may_drop():
            self.model = self._kept = DeviceModel(
                name="New model",
                kind="pixel",
                ports=("1", "2", "3", "4"),
                settings=read_setting_lines(FIRST_SETTINGS, DeviceModel(name="New model", kind="pixel")),
            )
            self._show_model()

    def _may_drop(self) -> bool:
        """Whether what was changed may go: it is kept, or the operator says so."""
        commit_focus()
        if self.model == self._kept and self.keep.isEnabled():
            return True
        words = f"“{self.model.name}” has changes that are neither saved nor used in this rig."
        wanted = ask_act(
            self, "Not saved", words, [("drop", "Drop them"), ("save", "Save as my own")], "Go on changing it"
        )
        if wanted == "save":
            self._save_model()
        return bool(wanted)

    def reject(self) -> None:
        if self._may_drop():
            super().reject()

    # ---- keeping

    def _save_model(self) -> None:
        model = self.model
        file = wait_for(lambda: save_model(model, own_folder()))
        self._kept = self.model
        self.say(f"Saved as {file.name} among your own models.")

    def _put_in_rig(self) -> None:
        rig = self._session.rig
        key = next((k for k, m in rig.device_models.items() if m.name == self.model.name), "")
        if not key:
            raise Refused(f"No device of this rig is a {self.model.name}. Save it, then plan a device of it.")
        self._session.make_edit(set_model, key, self.model)
        self._kept = self.model
        self.say(f"{self.model.name} is changed in this rig.")


def _text_field(name: str, help_text: str, changed: Callable[[], None]) -> QPlainTextEdit:
    made = QPlainTextEdit()
    made.setAccessibleName(name)
    set_help(made, help_text)
    made.textChanged.connect(changed)
    return made
