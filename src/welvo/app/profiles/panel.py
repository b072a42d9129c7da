"""The panel of the Profiles station: face, selected channels, names, and what is known of the lamp."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import QTimer

from welvo.app.jobs.network import Network
from welvo.app.profiles.channel_form import ChannelFields
from welvo.app.session import Session
from welvo.app.widgets.face import Face
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import Subject, Typed, ValueChoice
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.panels import FormPanel
from welvo.rig.base import Refused
from welvo.rig.edits import set_profile
from welvo.rig.modes import name_break, name_mode
from welvo.rig.notation import say_count
from welvo.rig.profile import Facts, Mode, Profile
from welvo.rig.readers import Number, TextReader
from welvo.survey.lines import PINS

NAMES = (
    Typed(
        "Name",
        "What this fixture type is called. Fixtures are added by this name.",
        "name",
        TextReader("A profile needs a name."),
    ),
    Typed("Maker", "Who makes it. Only words; nothing depends on it.", "maker"),
)
REVISION = (
    Typed(
        "Revision",
        "Which edition of this profile it is. A newer one in the library is shown as a finding.",
        "revision",
    ),
    Typed("Notes", "Anything worth knowing about it. Printed on sheets later.", "notes", TextReader(longest=4000)),
)
BEAMS = [(k, k or "not known") for k in ("", "wash", "spot", "beam", "flood", "glow", "none")]
BEAM = ValueChoice("Beam", "What kind of beam it gives, where it is known. Only for hand-over.", "beam", BEAMS)
FACTS = tuple(
    Typed(
        f"{words} {unit}",
        f"{words} of the lamp in {unit}, where it is known. Only for hand-over; 0 or empty when nobody knows.",
        key,
        Number(Facts, key, empty=0.0, shown_empty=True, length="mm" if unit == "mm" else ""),
    )
    for key, words, unit in (
        ("angle", "Angle", "°"),
        ("kelvin", "White", "K"),
        ("watts", "Power", "W"),
        ("weight", "Weight", "kg"),
        ("width", "Width", "mm"),
        ("height", "Height", "mm"),
        ("depth", "Depth", "mm"),
    )
)
UNIT_LOADS = Typed(
    "Unit loads",
    "What its DMX input loads a line with: one for a plain receiver, less for a lighter one. A driver takes 32.",
    "unit_load",
    Number(Profile, "unit_load", empty=1.0),
)


class ProfileView(Protocol):
    """What the panel asks of the station: which profile and mode are shown, and how the mode is edited."""

    profile_id: str

    @property
    def profile(self) -> Profile | None: ...

    @property
    def mode(self) -> Mode | None: ...

    @property
    def chosen_break(self) -> int: ...

    def chosen_channels(self) -> list[int]: ...

    def edit_mode(self, edit: Callable[[Mode], Mode], words: str) -> object: ...

    def picture_of(self, mode: Mode | None) -> bytes | None: ...

    def arrange_pixels(self) -> None: ...


class ProfilesPanel(FormPanel):
    """The face, then the selected channels, then what the profile is called and what is known of the lamp."""

    def __init__(self, view: ProfileView, session: Session, network: Network) -> None:
        super().__init__(session, network)
        self._view = view
        self.face = Face()
        self._walk = QTimer(self, interval=250)
        self._walk.timeout.connect(self.face.walk_pixels)
        self._walk_button = make_button(
            "Walk", self._toggle_walk, "Lights the pixels in number order, to compare with the real lamp."
        )
        self.arrange_button = make_button(
            "Arrange…", view.arrange_pixels, "Rows, rings, a line, or by hand over a picture of the fixture's front."
        )
        self._face_title = make_label("Face", 16, True)
        self.body.addLayout(flow_of_widgets(self._face_title, None, self._walk_button, self.arrange_button, spacing=4))
        self.body.addWidget(self.face)
        self.channel = ChannelFields(view.edit_mode)
        self.body.addWidget(self.channel)
        self.rule()
        self.words("Profile", quiet=False, bold=True, size=13)
        self._profile_rows()
        self.words("The lamp", quiet=False, bold=True, size=13)
        facts = self.new_form(Subject(self._facts_of_profile, self._set_facts), Facts).add(BEAM, *FACTS)
        line = self.new_form(Subject(lambda: self._view.profile, self._set_field), Profile).add(
            UNIT_LOADS,
            Typed(
                "DMX plug",
                "What its DMX input is made of: 5-pin, 3-pin or RJ45. Lines say then which adapters are needed.",
                shown=lambda profile: str(profile.connector),
                take=self._set_connector,
            ),
        )
        self._widgets = [*self._names.fields.values(), *facts.fields.values(), *line.fields.values()]
        self.body.addStretch(1)

    def _profile_rows(self) -> None:
        mode = Typed(
            "Mode",
            "What this mode is called in the lamp's own menu. Whoever sets the lamp looks for these words.",
            shown=lambda _: self._view.mode.name if self._view.mode else "",
            take=lambda t: self._view.edit_mode(lambda m: name_mode(m, t), f"name the mode {t.strip()}"),
        )
        break_no = Typed(
            "Break",
            "A break is a part of the mode that is patched at an address of its own. What the one of the selected "
            "channel "
            "is called, such as head or pixels.",
            shown=lambda _: self._break_name(),
            take=self._name_break,
        )
        code = Typed(
            "Code",
            "Up to four letters that stand for it on the tapes. Must be its own in this rig.",
            shown=lambda profile: str(profile.code),
            take=self._set_code,
        )
        self._names = self.new_form(Subject(lambda: self._view.profile, self._set_field), Profile)
        self._names.add(*NAMES, code, mode, break_no, *REVISION)

    # ---- edits

    def _set_field(self, words: str, **fields: object) -> object:
        profile = self._view.profile
        return (
            self.session.make_edit(set_profile, self._view.profile_id, f"{words} of {profile.name}", **fields)
            if profile
            else None
        )

    def _facts_of_profile(self) -> Facts | None:
        profile = self._view.profile
        return (profile.facts or Facts()) if profile else None

    def _set_facts(self, words: str, **fields: object) -> object:
        from msgspec.structs import replace

        now = self._facts_of_profile()
        if now is None:
            return None
        facts = replace(now, **fields)
        return self._set_field(words, facts=facts if facts != Facts() else None)

    def _set_code(self, typed: str) -> object:
        code = typed.strip().upper()
        others = (p.code for k, p in self.session.rig.profiles.items() if k != self._view.profile_id)
        if not 1 <= len(code) <= 4 or code in others:
            raise Refused("A code is one to four letters that no other profile of the rig has.")
        return self._set_field("code", code=code)

    def _set_connector(self, typed: str) -> object:
        wanted = typed.strip().lower()
        found = next((c for c in PINS if c.lower() == wanted), "")
        if wanted and not found:
            raise Refused(f"“{typed.strip()}” is no plug of DMX lines here: {', '.join(PINS)}.")
        return self._set_field("DMX plug", connector=found)

    def _break_name(self) -> str:
        mode, break_no = self._view.mode, self._view.chosen_break
        return mode.breaks[break_no].name if mode and break_no < len(mode.breaks) else ""

    def _name_break(self, typed: str) -> object:
        break_no, name = self._view.chosen_break, typed.strip()
        return self._view.edit_mode(lambda m: name_break(m, break_no, name), f"name the break {name}")

    # ---- showing

    def _toggle_walk(self) -> None:
        if self._walk.isActive():
            self._walk.stop()
            self.face.lit = 0
            self.face.update()
        else:
            self._walk.start()
        self._walk_button.setText("Stop" if self._walk.isActive() else "Walk")

    def refresh(self) -> None:
        view = self._view
        profile, mode = view.profile, view.mode
        self.face.set_mode(mode, view.picture_of(mode))
        pixels = mode.count_pixels if mode else 0
        self._walk_button.setEnabled(bool(pixels))
        self.arrange_button.setEnabled(bool(pixels))
        self._face_title.setText(say_count(pixels, "pixel") if pixels else "Face")
        super().refresh()
        for widget in self._widgets:
            widget.setEnabled(profile is not None)
        self.channel.show_channels(mode, view.chosen_channels())
