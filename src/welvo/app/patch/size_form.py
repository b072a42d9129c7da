"""Another size for a universe: what it would move is shown before it is done."""

from __future__ import annotations

from welvo.app.patch.laying_form import Proposal
from welvo.app.session import Session
from welvo.patch.consequences import list_consequences, say_all
from welvo.rig.document import Edit, Rig
from welvo.rig.edits import set_universe
from welvo.rig.lookup import running_number
from welvo.rig.notation import say_place, say_thousands


class SizeForm(Proposal):
    """Everything whose slots or running numbers would be others."""

    def __init__(self, session: Session, uid: str, size: int) -> None:
        super().__init__(session, f"Universe {session.rig.universes[uid].number} of {size} slots?", "Change")
        self.uid, self.slots = uid, size
        self.quiet = True
        """Nothing that is patched would move."""
        self.note_words("The sender, and every device that takes it, must be set to the same size.")
        self.finish()

    def _edit(self, rig: Rig) -> Edit:
        return set_universe(rig, self.uid, f"size of universe {rig.universes[self.uid].number}", size=self.slots)

    def update_preview(self) -> None:
        rig = self.session.rig
        if self.uid not in rig.universes:
            self.leave()
            return
        after, _ = self._edit(rig)
        found = list_consequences(self.session.index, after)
        self.quiet = not found
        rows = [(c.who, c.before, c.after + (f" meets {', '.join(c.meets[:2])}" if c.meets else "")) for c in found]
        self.say(f"{say_all(found)} {said_of_running(rig, after, self.uid)}".strip(), rows, f"Take {self.slots}", True)

    def do(self) -> None:
        if self.session.make_edit(self._edit) is not None:
            self.leave()


def said_of_running(before: Rig, after: Rig, uid: str) -> str:
    """What becomes of running numbers behind a universe whose size changes; empty when there is nothing behind it."""
    number = before.universes[uid].number
    behind = min((u.number for u in before.universes.values() if u.number > number), default=0)
    if not behind:
        return ""
    old, new = running_number(before, behind, 1), running_number(after, behind, 1)
    if old == new:
        return ""
    return (
        f"Running numbers behind it change by {new - old:+d}: {say_place(behind, 1)} was running slot "
        f"{say_thousands(old)} "
        f"and is {say_thousands(new)} then."
    )
