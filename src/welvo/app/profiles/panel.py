"""The panel of the Profiles station: face, selected channels, names, and what is known of the lamp."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from msgspec.structs import replace
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from welvo.app.network import Wire
from welvo.app.profiles.channel_form import ChannelFields
from welvo.app.session import Session
from welvo.app.widgets.face import Face
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.painting import button, label, row
from welvo.app.widgets.panels import Panel, field_row
from welvo.app.widgets.theme import THEME
from welvo.rig.base import Refused
from welvo.rig.edits import set_profile
from welvo.rig.modes import name_break
from welvo.rig.notation import plural
from welvo.rig.profile import Facts
from welvo.runs.lines import PINS

if TYPE_CHECKING:
    from welvo.app.profiles.station import ProfilesStation


def rule() -> QWidget:
    line = QWidget()
    line.setFixedHeight(1)
    line.setProperty("rule", True)
    line.setStyleSheet(f"background: {THEME.color('line').name()};")
    return line


class ProfilesPanel(Panel):
    """The face, then the selected channels, then what the profile is called and what is known of the lamp."""

    def __init__(self, station: ProfilesStation, session: Session, wire: Wire) -> None:
        super().__init__(session, wire)
        self._station = station
        self.face = Face()
        self._fields: dict[str, Field] = {}
        self._walk = QTimer(self, interval=250)
        self._walk.timeout.connect(self.face.walk)
        self._walk_button = button(
            "Walk", self._toggle_walk, "Lights the pixels in number order, to compare with the real lamp."
        )
        self.arrange_button = button(
            "Arrange…", station.arrange, "Rows, rings, a line, or by hand over a picture of the fixture's front."
        )
        self._face_title = label("Face", 16, True)
        self.body.addLayout(row(self._face_title, None, self._walk_button, self.arrange_button, spacing=4))
        self.body.addWidget(self.face)
        self.channel = ChannelFields(session, station.edit_mode)
        self.body.addWidget(self.channel)
        self.body.addWidget(rule())
        self.body.addWidget(label("Profile", 13, True))
        for key, words, help_text in (
            ("name", "Name", "What this fixture type is called. Fixtures are added by this name."),
            ("maker", "Maker", "Who makes it. Only words; nothing depends on it."),
            ("code", "Code", "Up to four letters that stand for it on the tapes. Must be its own in this rig."),
            (
                "mode",
                "Mode",
                "What this mode is called in the lamp's own menu. Whoever sets the lamp looks for these words.",
            ),
            (
                "break",
                "Break",
                "What the break of the selected channel is called, such as head or pixels. Each is patched at an address of its own.",
            ),
            (
                "revision",
                "Revision",
                "Which edition of this profile it is. A newer one in the library is shown as a finding.",
            ),
            ("notes", "Notes", "Anything worth knowing about it. Printed on sheets later."),
        ):
            self._add_field(key, words, help_text, partial(self._set, key))
        self.body.addWidget(label("The lamp", 13, True))
        self.beam = Choice("What kind of beam it gives, where it is known. Only for hand-over.", self._set_beam)
        self.beam.setAccessibleName("Beam")
        self.body.addLayout(field_row("Beam", self.beam))
        for key, words, unit in (
            ("angle", "Angle", "°"),
            ("kelvin", "White", "K"),
            ("watts", "Power", "W"),
            ("weight", "Weight", "kg"),
            ("width", "Width", "mm"),
            ("height", "Height", "mm"),
            ("depth", "Depth", "mm"),
        ):
            self._add_field(
                key,
                f"{words} {unit}",
                f"{words} of the lamp in {unit}, where it is known. Only for hand-over; 0 or empty when nobody knows.",
                partial(self._fact, key),
            )
        self._add_field(
            "unit_load", "Unit loads",
            "What its DMX input loads a line with: one for a plain receiver, less for a lighter one. A driver takes 32.",
            partial(self._line_fact, "unit_load"),
        )  # fmt: skip
        self._add_field(
            "connector", "DMX plug",
            "What its DMX input is made of: 5-pin, 3-pin or RJ45. Lines say then which adapters are needed.",
            partial(self._line_fact, "connector"),
        )  # fmt: skip
        self.body.addStretch(1)

    def _line_fact(self, key: str, typed: str) -> object:
        """What a lamp is on a DMX line: its unit loads, its plug."""
        if self._station.profile is None:
            return True
        value: str | float = typed.strip()
        if key == "connector":
            value = next((c for c in PINS if c.lower() == typed.strip().lower()), "")
            if typed.strip() and not value:
                raise Refused(f"“{typed.strip()}” is no plug of DMX lines here: {', '.join(PINS)}.")
        else:
            try:
                value = float(typed.replace(",", ".")) if typed.strip() else 1.0
            except ValueError:
                raise Refused(f"“{typed.strip()}” is no number.") from None
            if not 0 <= value <= 64:
                raise Refused("Unit loads run from 0 to 64; a plain receiver is 1.")
        return self.session.edit(
            set_profile, self._station.profile_id, f"{key.replace('_', ' ')} {value}", **{key: value}
        )

    def _add_field(self, key: str, words: str, help_text: str, apply: Callable[[str], object]) -> None:
        field = Field(help_text, apply)
        field.say = lambda why: self.session.say(why, "error")
        field.setAccessibleName(words)
        self._fields[key] = field
        self.body.addLayout(field_row(words, field))

    def _toggle_walk(self) -> None:
        if self._walk.isActive():
            self._walk.stop()
            self.face.lit = 0
            self.face.update()
        else:
            self._walk.start()
        self._walk_button.setText("Stop" if self._walk.isActive() else "Walk")

    def _set(self, key: str, value: str) -> object:
        s, pid = self._station, self._station.profile_id
        if not pid:
            return True
        value = value.strip()
        if key == "mode":
            if not value:
                raise Refused("A mode needs a name.")
            return s.edit_mode(lambda m: replace(m, name=value), f"name the mode {value}")
        if key == "break":
            return s.edit_mode(lambda m: name_break(m, s.ruler.selected[0], value), f"name the break {value}")
        if key == "name" and not value:
            raise Refused("A profile needs a name.")
        if key == "code":
            value = value.upper()
            if (
                not value
                or len(value) > 4
                or any(p.code == value for k, p in self.session.rig.profiles.items() if k != pid)
            ):
                raise Refused("A code is one to four letters that no other profile of the rig has.")
        return self.session.edit(set_profile, pid, f"give the profile {key} {value}", **{key: value})

    def _set_beam(self, kind: str) -> None:
        profile = self._station.profile
        if profile:
            facts = replace(profile.facts or Facts(), beam=kind)
            self.session.edit(
                set_profile, self._station.profile_id, "note the beam", facts=facts if facts != Facts() else None
            )

    def _fact(self, key: str, typed: str) -> object:
        profile = self._station.profile
        if profile is None:
            return True
        try:
            value = float(typed.replace(",", ".")) if typed.strip() else 0.0
        except ValueError:
            raise Refused(f"“{typed.strip()}” is no number.") from None
        if not 0 <= value <= 100_000:
            raise Refused("A number from 0 to 100 000.")
        facts = replace(profile.facts or Facts(), **{key: value})
        return self.session.edit(
            set_profile, self._station.profile_id, f"note the {key}", facts=facts if facts != Facts() else None
        )

    def refresh(self) -> None:
        s = self._station
        profile, mode = s.profile, s.mode
        self.face.set_mode(mode, s.picture_of(mode))
        pixels = mode.pixels if mode else 0
        self._walk_button.setEnabled(bool(pixels))
        self.arrange_button.setEnabled(bool(pixels))
        self._face_title.setText(plural(pixels, "pixel") if pixels else "Face")
        for key, field in self._fields.items():
            if key == "mode":
                words = mode.name if mode else ""
            elif key == "break":
                brk = s.ruler.selected[0]
                words = mode.breaks[brk].name if mode and brk < len(mode.breaks) else ""
            elif key in Facts.__struct_fields__:
                value = getattr(profile.facts, key) if profile and profile.facts else 0
                words = f"{value:g}" if value else ""
            elif key == "unit_load":
                words = f"{profile.unit_load:g}" if profile else ""
            else:
                words = str(getattr(profile, key, "")) if profile else ""
            field.set_value(words)
            field.setEnabled(profile is not None)
        facts = profile.facts if profile and profile.facts else Facts()
        self.beam.set_options(
            [(k, k or "not known") for k in ("", "wash", "spot", "beam", "flood", "glow", "none")], facts.beam
        )
        self.beam.setEnabled(profile is not None)
        self.channel.show_channels(mode, s.ruler.chosen())
