"""Adding fixtures: how many of what, from which number, where the first one starts."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.strip import Strip
from welvo.patch.adding import AddWish, add_fixtures, fit_from
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.patched import Fixture
from welvo.rig.readers import Number, read_whole_number

MOST_AT_ONCE = 10_000


class AddFixtures(WishDialog):
    """Says what will happen before it does."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent, "Add fixtures", "Add")
        self._session = session
        rig = session.rig
        self.profile = self.ask_for_choice(
            "Profile",
            "Which fixture type. It must be in the rig; make it in Profiles first.",
            [(k, f"{p.maker} {p.name}".strip()) for k, p in rig.profiles.items()],
            next(iter(rig.profiles), ""),
            self._offer_modes,
        )
        self.mode = self.ask_for_choice("Mode", "Which mode the lamps stand in. Their own menu must say the same.", [])
        self.count = self.ask_for_line("How many", "How many to add, 1 to 10 000.", "12", 84)
        self.number = self.ask_for_line(
            "From number",
            "The first number; the others count up from it.",
            str(max((f.number for f in rig.fixtures.values()), default=100) + 1),
            84,
        )
        self.name = self.ask_for_line("Name", "A name for all of them; # becomes 1, 2, 3.")
        self.start = self.ask_for_line(
            "Starts at",
            "Where the first one starts: 1.1 packed, 1.1 +40 every 40 slots, free for the next free places, or empty.",
            "free",
        )
        self.made: list[str] = []
        self._offer_modes()
        self.show_effects(Strip(session, 30))
        self.finish()
        self.count.setFocus()
        self.count.selectAll()

    def _offer_modes(self) -> None:
        profile = self._session.rig.profiles.get(str(self.profile.currentData()))
        if profile:
            self.mode.set_options(
                [(k, f"{m.name} · {say_count(m.slots_needed, 'slot')}") for k, m in profile.modes.items()],
                next(iter(profile.modes)),
            )

    def wished_fixtures(self) -> tuple[AddWish, int]:
        """What is asked for, and the first number. Raises Refused."""
        profile, mode = str(self.profile.currentData()), str(self.mode.currentData())
        if mode not in getattr(self._session.rig.profiles.get(profile), "modes", {}):
            raise Refused("There is no profile in this rig yet. Make one in Profiles, or take one from the library.")
        number = Number(Fixture, "number", least=1).read_text(self.number.text())
        return AddWish(
            read_whole_number(self.count.text(), 1, MOST_AT_ONCE), profile, mode, self.start.text().strip()
        ), int(number or 1)

    def foresee(self) -> tuple[str, str]:
        wish, _ = self.wished_fixtures()
        mode = self._session.rig.profiles[wish.profile].modes[wish.mode]
        words = f"{wish.count} × {mode.slots_needed} slots = {wish.count * mode.slots_needed} slots."
        if wish.start and wish.start.lower() != "free":
            fits = fit_from(self._session.index, mode.breaks[0].slots, wish.start.split(",")[0])
            rest = ", the rest goes on in the next." if fits < wish.count else "."
            words += f" From there {fits} fit into the universe{rest}"
        return words, f"Add {wish.count}"

    def do(self) -> object:
        wish, number = self.wished_fixtures()
        made = add_fixtures(self._session.index, wish, number, self.name.text().strip())
        self.made = list(self._session.take_over_edit(made).made)
        self._session.select_items(self.made)
        return self.made
