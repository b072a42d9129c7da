"""Box models made and edited in the window: fields and the model's file side by side, each following the other."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import platformdirs
from msgspec.structs import replace
from PySide6.QtWidgets import QDialog, QLineEdit, QPlainTextEdit, QScrollArea, QWidget

from welvo.app.session import Session
from welvo.app.widgets.fields import Choice, Tick, set_help
from welvo.app.widgets.forms import field_row
from welvo.app.widgets.painting import button, column, label, row
from welvo.formats.models import check_model, from_folder, read_model, save_model, shipped, write_model
from welvo.formats.rigfile import RigFileError
from welvo.rig.base import Refused
from welvo.rig.protocol import PROTOCOLS
from welvo.rig.wiring import DeviceModel, OutputMode
from welvo.runs.edits import set_model

KINDS = (("node", "node with DMX ports"), ("pixel", "pixel controller"), ("converter", "converter, pixels or DMX"), ("gateway", "bus gateway"),
         ("serial", "serial DMX line"), ("fixture", "fixture with a network socket"), ("bridge", "bridge on a cable"))  # fmt: skip
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
        raise Refused("A box has 512 ports at most.")
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


class ModelEditor(QDialog):
    """Choose a model, change what it says, save it among one's own; a model that the rig uses is changed there too."""

    def __init__(self, session: Session, parent: QWidget, used: str = "") -> None:
        super().__init__(parent)
        self._session = session
        self.setWindowTitle("Box models")
        self.resize(980, 680)
        self._busy = False
        own, self._problems = from_folder(own_folder())
        self._models: dict[str, DeviceModel] = {f"rig {k}": m for k, m in session.rig.device_models.items()}
        self._models |= {f"own {k}": m for k, m in own.items()} | {f"shipped {k}": m for k, m in shipped().items()}
        self.model = self._models.get(f"rig {used}") or next(iter(self._models.values()))
        body = column((20, 16, 20, 16), 8)
        self.which = Choice(
            "Which model to begin with: one of this rig, one of your own, or one that came with Welvo.", self._choose
        )
        words = {"rig": "in this rig", "own": "your own", "shipped": "came with Welvo"}
        self.which.set_options(
            [(k, f"{m.maker} {m.name} · {words[k.split(' ')[0]]}".strip()) for k, m in self._models.items()],
            f"rig {used}",
        )
        self.which.setAccessibleName("Model")
        self.which.setMinimumWidth(340)
        body.addLayout(
            row(
                label("Box models", 16, True),
                8,
                self.which,
                button("New", self._new, "Begins a model from nothing."),
                None,
            )
        )
        self._fields: list[Callable[[], None]] = []
        left = QWidget()
        form = column((0, 0, 12, 0), 6)
        left.setLayout(form)
        self._form = form
        self._build()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(left)
        scroll.setMinimumWidth(430)
        self.text = QPlainTextEdit()
        self.text.setAccessibleName("The model's file")
        set_help(
            self.text,
            "The model as its file has it, in TOML. What is typed here stands in the fields, and the other way round.",
        )
        self.text.textChanged.connect(self._from_text)
        right = column(spacing=4)
        right.addWidget(label("Its file: everything, with the settings of its own pages", 11, quiet=True))
        right.addWidget(self.text, 1)
        middle = row(scroll, spacing=12)
        middle.addLayout(right, 1)
        body.addLayout(middle, 1)
        self.saying = label("; ".join(self._problems), 11, quiet=True, wrap=True)
        self.saying.setMinimumHeight(32)
        body.addWidget(self.saying)
        self.in_rig = button(
            "Use it in this rig",
            self._put,
            "Puts it in place of the model of that name in this rig. Undo brings the old one back.",
        )
        self.keep = button("Save as my own", self._save, "Writes it into your own folder, for every rig.", primary=True)
        body.addLayout(row(None, button("Close", self.reject), self.in_rig, self.keep))
        self.setLayout(body)
        self._show()

    # ---- fields

    def _build(self) -> None:
        self._text("Name", "What the box is called by its maker.", "name")
        self._text("Maker", "Who makes it; it stands before the name in lists.", "maker")
        self._pick(
            "Kind", "What sort of box it is. It decides what its ports give where nothing else is said.", "kind", KINDS
        )
        self._line(
            "Ports",
            "The labels printed on the box, in their order: 1-12, or A1-A8, B1-B8.",
            lambda: say_labels(self.model.ports),
            lambda t: {"ports": read_labels(t)},
        )
        self._count("Pixels a port", "How many pixels one port takes; 0: nobody said.", "pixels_per_port", 100_000)
        self._count("DMX slots", "How many slots a DMX port, or a bridge, gives out: 1 to 512.", "slots_per_port", 512)
        self._count("Stream slots", "How many slots a pixel port can put out; 0: nobody said.", "stream_slots", 400_000)
        self._count("Universes", "How many universes it takes in all; 0: as many as it has ports.", "universes", 63999)
        self._count(
            "Slots each",
            "How many slots of a universe it takes, where that is fixed; 0: it can be told.",
            "universe_size",
            512,
        )
        self._line(
            "Protocols",
            f"What it listens to: {', '.join(PROTOCOLS)}.",
            lambda: ", ".join(self.model.protocols),
            lambda t: {"protocols": _words(t, tuple(PROTOCOLS))},
        )
        self._line(
            "Chip types",
            "Which chip types it drives, with commas; empty: any.",
            lambda: ", ".join(self.model.chips),
            lambda t: {"chips": tuple(w.strip() for w in t.split(",") if w.strip())},
        )
        self._ticks()
        self._pick(
            "Behind it",
            "For a bridge: whether anything may follow on its cable, and where that begins.",
            "passes",
            PASSES,
        )
        self._line(
            "Counts from",
            "From which number its own pages count: sacn 1, artnet 0, slot 1, pixel 0.",
            lambda: ", ".join(f"{k} {v}" for k, v in self.model.counts.items()),
            _read_counts,
        )
        self._line(
            "Amperes",
            "Amperes each port, and the whole box, can hand on; 0: nobody said.",
            lambda: f"{self.model.port_amps:g} · {self.model.amps:g}",
            _read_amps,
        )
        self._line(
            "Connector",
            "What its ports are made of: 5-pin, 3-pin, RJ45, or a screw terminal.",
            lambda: self.model.connector,
            lambda t: {"connector": t.strip()},
        )
        self._text("Note", "What somebody should know before planning or touching it.", "note")
        self._form.addWidget(label("Output modes, one a line", 11, quiet=True))
        self.modes = QPlainTextEdit()
        self.modes.setFixedHeight(84)
        self.modes.setAccessibleName("Output modes")
        set_help(
            self.modes,
            "One mode a line, such as: 6 long ports: off 2, 4, 6; pixels 1360. A mode can switch ports off or change what they give.",
        )
        self.modes.textChanged.connect(
            lambda: self._take(lambda: {"modes": self._with_notes(read_modes(self.modes.toPlainText()))})
        )
        self._fields.append(lambda: self.modes.setPlainText(say_modes(self.model.modes)))
        self._form.addWidget(self.modes)
        self._form.addStretch(1)

    def _with_notes(self, modes: tuple[OutputMode, ...]) -> tuple[OutputMode, ...]:
        """Notes and stream limits of modes are in the file only; a mode of the same name keeps its own."""
        old = {m.name: m for m in self.model.modes}
        return tuple(
            replace(m, note=old[m.name].note, stream_slots=old[m.name].stream_slots) if m.name in old else m
            for m in modes
        )

    def _line(
        self, words: str, help_text: str, read: Callable[[], str], apply: Callable[[str], dict[str, object]]
    ) -> None:
        made = QLineEdit()
        set_help(made, help_text)
        made.setAccessibleName(words)
        made.textEdited.connect(lambda t: self._take(lambda: apply(t)))
        self._fields.append(lambda: made.setText(read()))
        self._form.addLayout(field_row(words, made))

    def _text(self, words: str, help_text: str, key: str) -> None:
        self._line(words, help_text, lambda: str(getattr(self.model, key)), lambda t: {key: t})

    def _count(self, words: str, help_text: str, key: str, most: int) -> None:
        def apply(t: str) -> dict[str, object]:
            low = 1 if key == "slots_per_port" else 0
            if not t.strip().isdigit() or not low <= int(t) <= most:
                raise Refused(f"{words}: a whole number from {low} to {most}.")
            return {key: int(t)}

        self._line(words, help_text, lambda: str(getattr(self.model, key)), apply)

    def _pick(self, words: str, help_text: str, key: str, options: tuple[tuple[str, str], ...]) -> None:
        made = Choice(help_text, lambda v: self._take(lambda: {key: v}))
        made.setAccessibleName(words)
        self._fields.append(lambda: made.set_options(list(options), str(getattr(self.model, key))))
        self._form.addLayout(field_row(words, made))

    def _ticks(self) -> None:
        starts = Tick(
            "Segments can have starts of their own",
            "Off: each segment follows the one before it.",
            lambda v: self._take(lambda: {"own_starts": v}),
        )
        cut = Tick(
            "Takes pixels that a universe's end cuts",
            "Off: it takes whole pixels only.",
            lambda v: self._take(lambda: {"straddles": v}),
        )
        self._fields.append(lambda: starts.setChecked(self.model.own_starts))
        self._fields.append(lambda: cut.setChecked(self.model.straddles))
        self._form.addWidget(starts)
        self._form.addWidget(cut)

    # ---- following

    def _take(self, read: Callable[[], dict[str, object]]) -> None:
        """A field was changed: the model and its file follow; what cannot be is said, and nothing is lost."""
        if self._busy:
            return
        try:
            new = replace(self.model, **read())
            check_model(new)
        except (Refused, ValueError, TypeError) as e:
            self._say(str(e), False)
            return
        self.model = new
        self._busy = True
        self.text.setPlainText(write_model(new))
        self._busy = False
        self._say("", True)

    def _from_text(self) -> None:
        if self._busy:
            return
        try:
            new = read_model(self.text.toPlainText(), "The file")
            check_model(new)
        except (RigFileError, Refused) as e:
            self._say(str(e), False)
            return
        self.model = new
        self._busy = True
        for f in self._fields:
            f()
        self._busy = False
        self._say("", True)

    def _say(self, words: str, fits: bool) -> None:
        self.saying.setText(words)
        for b in (self.keep, self.in_rig):
            b.setEnabled(fits)

    def _show(self) -> None:
        self._busy = True
        for f in self._fields:
            f()
        self.text.setPlainText(write_model(self.model))
        self._busy = False
        self._say("; ".join(self._problems), True)

    def _choose(self, key: str) -> None:
        self.model = self._models[key]
        self._show()

    def _new(self) -> None:
        self.model = DeviceModel(name="New box", kind="pixel", ports=("1", "2", "3", "4"))
        self._show()

    # ---- keeping

    def _save(self) -> None:
        try:
            file = save_model(self.model, own_folder())
        except (RigFileError, Refused) as e:
            self._say(str(e), True)
            return
        self._say(f"Saved as {file.name} among your own models.", True)

    def _put(self) -> None:
        rig = self._session.rig
        key = next((k for k, m in rig.device_models.items() if m.name == self.model.name), "")
        if not key:
            self._say(f"No box of this rig is a {self.model.name}. Save it, then plan a box of it.", True)
            return
        self._session.edit(set_model, key, self.model)
        self._say(f"{self.model.name} is changed in this rig.", True)


def _words(text: str, allowed: tuple[str, ...]) -> tuple[str, ...]:
    found = tuple(w.strip().lower() for w in text.split(",") if w.strip())
    wrong = next((w for w in found if w not in allowed), "")
    if wrong:
        raise Refused(f"“{wrong}” is none of {', '.join(allowed)}.")
    return found


def _read_counts(text: str) -> dict[str, object]:
    found: dict[str, int] = {}
    for part in (p.strip() for p in text.split(",") if p.strip()):
        m = re.fullmatch(r"(sacn|artnet|ddp|slot|pixel|port)\s+([01])", part.lower())
        if not m:
            raise Refused(f"“{part}” says nothing. Write such as sacn 1, artnet 0, pixel 0.")
        found[m[1]] = int(m[2])
    return {"counts": found}


def _read_amps(text: str) -> dict[str, object]:
    m = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*[·/ ]\s*(\d+(?:[.,]\d+)?)\s*", text)
    if not m:
        raise Refused("Write two numbers: amperes of a port, then of the box, such as 5 · 40.")
    return {"port_amps": float(m[1].replace(",", ".")), "amps": float(m[2].replace(",", "."))}
