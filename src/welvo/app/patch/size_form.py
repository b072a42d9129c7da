"""Another size for a universe: what it would move is shown before it is done."""

from __future__ import annotations

from welvo.app.patch.laying_form import Proposal
from welvo.app.session import Session
from welvo.rig.document import Edit, Rig
from welvo.rig.edits import set_universe


class SizeForm(Proposal):
    """Everything whose slots or running numbers would be others."""

    def __init__(self, session: Session, uid: str, size: int) -> None:
        super().__init__(session, f"Universe {session.rig.universes[uid].number} of {size} slots?", "Change")
        self.uid, self.slots = uid, size
        self.quiet = True
        """Nothing that is patched would move: what shifts in numbers alone stood in the strip while it was typed."""
        self.note_words("The sender, and every device that takes it, must be set to the same size.")
        self.finish()

    def _edit(self, rig: Rig) -> Edit:
        return set_universe(rig, self.uid, f"size of universe {rig.universes[self.uid].number}", size=self.slots)

    def update_preview(self) -> None:
        rig = self.session.rig
        if self.uid not in rig.universes:
            self.leave()
            return
        found = self.foresee(self._edit(rig))
        self.quiet = {e.kind for e in found.effects} <= {"running", "octet"}
        self.say_effects(found, f"Take {self.slots}")

    def do(self) -> None:
        if self.session.make_edit(self._edit) is not None:
            self.leave()
