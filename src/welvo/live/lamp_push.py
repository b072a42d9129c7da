"""Setting lamps of a port by RDM, one after the other, and reading each back.

A lamp that says yes is not believed: what counts is what it says when it is asked again. Modes are set first, since a
mode may take the address along; then addresses, in an order in which no lamp comes to sit on another; labels last.
Where a lamp refuses to leave its address, whoever is meant to go there is left where it is, and told so.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec import Struct
from msgspec.structs import replace

from welvo.live.links import LinkError
from welvo.live.rdm_link import RdmPort, RdmRefused, ResponderTalk
from welvo.matching.lamps import LampWish, order_of_moves
from welvo.observed.values import Lamp, Outcome
from welvo.protocols.rdm import say_uid


class LampResult(Struct, frozen=True):
    """What became of one setting of one lamp."""

    outcome: Outcome
    why: str = ""


class LampPush:
    """What is wished of the lamps of one port, and how far it is. Read by the window while it runs."""

    def __init__(self, lamps: Iterable[Lamp], wishes: Mapping[int, LampWish]) -> None:
        self.lamps = {x.uid: x for x in lamps}
        self.wishes = dict(wishes)
        self.results: dict[tuple[int, str], LampResult] = {}
        """By UID and setting (`address`, `personality`, `label`)."""
        self.of = sum(len(w.wished_settings) for w in self.wishes.values()) + len(self.wishes)
        self.done = 0
        self.doing = "begins"
        self._stopped = False

    def stop_push(self) -> None:
        self._stopped = True

    async def run_push(self, port: RdmPort) -> None:
        talk = ResponderTalk(port)
        for uid, wish in self.wishes.items():
            if wish.personality:
                await self._give_order(uid, "personality", talk.set_personality(uid, wish.personality))
        # what a mode took along is known only now
        for uid in [u for u, w in self.wishes.items() if w.personality and not self._stopped]:
            await self._read_back(talk, uid)
        await self._set_addresses(talk)
        for uid, wish in self.wishes.items():
            if wish.label is not None:
                await self._give_order(uid, "label", talk.set_label(uid, wish.label))
        for uid in self.wishes:
            await self._read_back(talk, uid)
            self.done += 1
        self._hold_against()

    async def _set_addresses(self, talk: ResponderTalk) -> None:
        wanted = {u: w.address for u, w in self.wishes.items() if w.address}
        at = {u: x.address for u, x in self.lamps.items()}
        stuck: set[int] = set()
        for move in order_of_moves(list(self.lamps.values()), wanted):
            if move.uid in stuck:
                continue
            holder = next((u for u in stuck if at[u] == move.address), 0)
            if holder:
                stuck.add(move.uid)
                why = f"{say_uid(holder)} still stands at {move.address:03d}"
                self.results[move.uid, "address"] = LampResult("not sent", why)
                continue
            if await self._give_order(move.uid, "address", talk.set_address(move.uid, move.address), not move.parks):
                at[move.uid] = move.address
            else:
                stuck.add(move.uid)
        for uid in wanted:  # those that stood right already
            self.results.setdefault((uid, "address"), LampResult("taken"))

    async def _give_order(self, uid: int, key: str, order: object, counts: bool = True) -> bool:
        """Give one order; `counts` is off for a lamp that is only parked."""
        self.doing = f"{key} of {say_uid(uid)}"
        self.done += counts
        result = LampResult("taken")
        if self._stopped:
            order.close()  # type: ignore[attr-defined]
            result = LampResult("not sent", "it was stopped")
        else:
            try:
                await order  # type: ignore[misc]
            except RdmRefused as e:
                result = LampResult("refused", str(e))
            except LinkError as e:
                result = LampResult("unknown", str(e))
        if counts or result.outcome != "taken":
            self.results[uid, key] = result
        return result.outcome == "taken"

    async def _read_back(self, talk: ResponderTalk, uid: int) -> None:
        self.doing = f"reads {say_uid(uid)} back"
        before = self.lamps.get(uid)
        now = await talk.read_responder(uid)
        if before and before.deep and not now.failed:
            now = replace(
                now, deep=True, maker=before.maker, software=before.software, counters=before.counters,
                sensors=before.sensors, slots=before.slots if now.personality == before.personality else (),
                identify=before.identify,
            )  # fmt: skip
        if before and now.failed:
            now = replace(before, failed=now.failed)
        self.lamps[uid] = now

    def _hold_against(self) -> None:
        """What was said to be taken, held against what the lamp says now."""
        for (uid, key), result in list(self.results.items()):
            lamp, wish = self.lamps[uid], self.wishes[uid]
            if result.outcome != "taken":
                continue
            if lamp.failed:
                self.results[uid, key] = LampResult("unknown", "it could not be read back")
                continue
            wanted = {"address": wish.address, "personality": wish.personality, "label": wish.label}[key]
            has = {"address": lamp.address, "personality": lamp.personality, "label": lamp.label}[key]
            if wanted != has:
                self.results[uid, key] = LampResult("otherwise", f"it reads back {has or 'nothing'}")

    @property
    def summary_of_push(self) -> tuple[str, bool]:
        """One sentence on what became of it all, and whether anything went wrong."""
        words = {
            "taken": "taken and read back", "refused": "refused", "otherwise": "reads back otherwise",
            "not sent": "not sent", "unknown": "not known", "waits": "waiting",
        }  # fmt: skip
        counts: dict[Outcome, int] = {}
        for r in self.results.values():
            counts[r.outcome] = counts.get(r.outcome, 0) + 1
        said = ", ".join(f"{n} {words[o]}" for o, n in counts.items()) or "nothing was sent"
        first = next((f" {r.why[:1].upper()}{r.why[1:].rstrip('.')}." for r in self.results.values() if r.why), "")
        return f"{said}.{first}", bool(counts.keys() - {"taken"})
