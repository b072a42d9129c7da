"""Copies of items: how many, what they are called, and where they would stand, before they are made."""

from __future__ import annotations

from welvo.app.patch.laying_form import Proposal
from welvo.app.session import Session
from welvo.patch.arrange import make_copies
from welvo.patch.index import Index
from welvo.patch.table import text_of_cell
from welvo.rig.base import Refused
from welvo.rig.document import Edit
from welvo.rig.lookup import name_of_item
from welvo.rig.notation import say_count
from welvo.rig.readers import read_whole_number

MOST = 1000


class CopyForm(Proposal):
    """So many of what is selected, with free numbers, names that count on, and the next free places."""

    def __init__(self, session: Session, keys: list[str]) -> None:
        who = name_of_item(session.rig, keys[0]) if len(keys) == 1 else say_count(len(keys), "item")
        super().__init__(session, f"Copies of {who}", "Make")
        self.keys = keys
        self._made: Edit | None = None
        self.count = self.ask_for_line("How many", f"How many copies of each, up to {MOST}.", "1", 64)
        self.patched = self.ask_for_tick(
            "Patch them", "On the next free places behind the originals. Off: without an address."
        )
        self.patched.setChecked(True)
        self.finish()

    def update_preview(self) -> None:
        s = self.session
        self._made = None
        self.keys = [k for k in self.keys if k in s.rig.fixtures or k in s.rig.elements]
        try:
            times = read_whole_number(self.count.text() or "1", 1, MOST)
            if not self.keys:
                raise Refused("What was to be copied is gone.")
            (new, change), left = make_copies(s.index, self.keys, times, self.patched.isChecked())
        except Refused as e:
            self.say(str(e), [], "Copy", False)
            self.foresee(None)
            return
        self._made = new, change
        then = Index(new)
        rows = []
        for key in change.made:
            at = text_of_cell(then, key, "first")
            f = new.fixtures.get(key)
            rows.append((name_of_item(new, key), f.name if f else "", at))
        made = say_count(len(change.made), "copy", "copies")
        words = f"{made} with the next free numbers."
        if left:
            more = f" and {len(left) - 6} more" if len(left) > 6 else ""
            words = f"{len(change.made) - len(left)} of {made} find a place; without one: {', '.join(left[:6])}{more}."
        self.say(words, rows, f"Make {made}", True)
        self.foresee(self._made)

    def do(self) -> None:
        made = self._made
        if made is None:
            return
        change = self.session.make_edit(lambda _: made)
        self.leave()
        self.session.select_items(list(change.made))
        self.session.say_done(f"{say_count(len(change.made), 'copy', 'copies')} made.")
