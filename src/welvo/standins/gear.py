"""Simulated gear on a lamp bus, frame by frame: each obeys and answers what IEC 62386-102 has it obey and answer.

Nothing here knows what Welvo wants. A frame goes to all gear of the wire; who is meant obeys, whoever has an answer
answers, and answers that are not the same lie over each other. Configuration is only taken when it comes twice in a
row within 100 ms of the bus's own time, which passes as slowly as on a real wire and is waited for at another speed.
"""

from __future__ import annotations

import random as chance
from collections.abc import Iterable
from dataclasses import dataclass, field

from welvo.protocols import dali
from welvo.protocols.dali import SEVERAL, Forward

TWICE_WITHIN = 0.1
BLINKS_FOR = 10.0
GEAR_FAULTS = ("deaf", "lamp", "stubborn")
"""deaf: neither obeys nor answers. lamp: its lamp does not light. stubborn: takes no setting."""
NO_ADDRESS = 255


@dataclass
class SimGear:
    """One gear's memory. `short` is 0 to 63, or 255 while it has none."""

    name: str = ""
    short: int = NO_ADDRESS
    kinds: tuple[int, ...] = (6,)
    random: int = 0xFFFFFF
    level: int = 254
    physical: int = 85
    least: int = 85
    greatest: int = 254
    power_on: int = 254
    failure: int = 254
    fade_time: int = 0
    fade_rate: int = 7
    groups: int = 0
    scenes: list[int] = field(default_factory=lambda: [dali.MASK] * dali.SCENES)
    fault: str = ""
    blinks_until: float = 0.0
    colour: tuple[int, ...] = ()
    """The colour it shows, as the three or six levels that were activated last."""
    dtr: list[int] = field(default_factory=lambda: [0, 0, 0])
    search: int = 0xFFFFFF
    addressing: bool = False
    withdrawn: bool = False
    enabled: int = -1
    cycled: bool = True
    kind_turn: int = 0
    prepared: dict[int, tuple[int, int, int]] = field(default_factory=dict)

    def as_new(self) -> None:
        """As it left the factory: without a short address, nothing stored."""
        self.short, self.fault = NO_ADDRESS, ""
        self._obey_setting(dali.RESET, 0.0)

    def is_meant(self, octet: int) -> bool:
        """Whether an address octet of a level or command speaks to it."""
        octet &= 0xFE
        if octet == 0xFE:
            return True
        if octet == 0xFC:
            return self.short == NO_ADDRESS
        if octet & 0x80:
            return bool(self.groups >> (octet >> 1 & 15) & 1) and octet < 0xA0
        return self.short == octet >> 1

    # ---- frames

    def take_frame(self, f: Forward, twice: bool, now: float, dice: chance.Random) -> int | None:
        """Obey a frame; gives its answer, or None for silence. `twice`: the same frame came just before."""
        if self.fault == "deaf":
            return None
        enabled, self.enabled = self.enabled, -1
        if f.address & 1 and 0xA1 <= f.address <= 0xC9:
            return self._obey_special(f, twice, dice)
        if not self.is_meant(f.address):
            return None
        if not f.address & 1:
            if f.data != dali.MASK:
                self._go_to_level(f.data)
            return None
        if f.data >= 0xE0:
            return self._obey_colour_command(f.data) if enabled == dali.COLOUR and dali.COLOUR in self.kinds else None
        if f.data >= 0x90:
            return self._answer_query(f.data)
        if f.data in dali.TWICE:
            if twice and self.fault != "stubborn":
                self._obey_setting(f.data, now)
            return None
        self._obey_command(f.data)
        return None

    def _go_to_level(self, level: int) -> None:
        self.level = 0 if level == 0 else max(self.least, min(self.greatest, level))

    def _obey_command(self, code: int) -> None:
        if code == dali.OFF:
            self.level = 0
        elif code == dali.RECALL_MAX:
            self.level = self.greatest
        elif code == dali.RECALL_MIN:
            self.level = self.least
        elif code in (dali.UP, dali.STEP_UP) and self.level:
            self._go_to_level(
                self.level + (1 if code == dali.STEP_UP else max(1, round(dali.fade_rate(self.fade_rate) * 0.2)))
            )
        elif code in (dali.DOWN, dali.STEP_DOWN) and self.level:
            step = 1 if code == dali.STEP_DOWN else max(1, round(dali.fade_rate(self.fade_rate) * 0.2))
            self._go_to_level(max(1, self.level - step))
        elif dali.GO_TO_SCENE <= code < dali.GO_TO_SCENE + dali.SCENES:
            stored = self.scenes[code - dali.GO_TO_SCENE]
            if stored != dali.MASK:
                self._go_to_level(stored)

    def _obey_setting(self, code: int, now: float) -> None:
        value = self.dtr[0]
        if code == dali.RESET:
            self.least, self.greatest, self.level = self.physical, 254, 254
            self.power_on, self.failure, self.fade_time, self.fade_rate, self.groups = 254, 254, 0, 7, 0
            self.scenes, self.random = [dali.MASK] * dali.SCENES, 0xFFFFFF
        elif code == dali.STORE_ACTUAL_LEVEL:
            self.dtr[0] = self.level
        elif code == dali.IDENTIFY:
            self.blinks_until = now + BLINKS_FOR
        elif code == dali.SET_MAX:
            self.greatest = max(self.least, min(254, value))
        elif code == dali.SET_MIN:
            self.least = max(self.physical, min(self.greatest, value))
        elif code == dali.SET_FAILURE:
            self.failure = value
        elif code == dali.SET_POWER_ON:
            self.power_on = value
        elif code == dali.SET_FADE_TIME:
            self.fade_time = min(15, value)
        elif code == dali.SET_FADE_RATE:
            self.fade_rate = max(1, min(15, value))
        elif dali.SET_SCENE <= code < dali.SET_SCENE + dali.SCENES:
            self.scenes[code - dali.SET_SCENE] = value
        elif dali.REMOVE_FROM_SCENE <= code < dali.REMOVE_FROM_SCENE + dali.SCENES:
            self.scenes[code - dali.REMOVE_FROM_SCENE] = dali.MASK
        elif dali.ADD_TO_GROUP <= code < dali.ADD_TO_GROUP + dali.GROUPS:
            self.groups |= 1 << code - dali.ADD_TO_GROUP
        elif dali.REMOVE_FROM_GROUP <= code < dali.REMOVE_FROM_GROUP + dali.GROUPS:
            self.groups &= ~(1 << code - dali.REMOVE_FROM_GROUP)
        elif code == dali.SET_SHORT_ADDRESS:
            self._take_address(value)

    def _take_address(self, value: int) -> None:
        if value == NO_ADDRESS:
            self.short = NO_ADDRESS
        elif value & 1 and not value & 0x80:
            self.short = value >> 1

    def _answer_query(self, code: int) -> int | None:
        yes = 255
        dark = self.fault == "lamp"
        status = (dark << 1) | ((self.level > 0 and not dark) << 2) | ((self.short == NO_ADDRESS) << 6)
        status |= self.cycled << 7
        if code == dali.QUERY_TYPE:
            self.kind_turn = 0
            return self.kinds[0] if len(self.kinds) == 1 else 255 if self.kinds else 254
        if code == dali.QUERY_NEXT_TYPE:
            self.kind_turn += 1
            return self.kinds[self.kind_turn - 1] if self.kind_turn <= len(self.kinds) > 1 else 254
        plain = {
            dali.QUERY_STATUS: status, dali.QUERY_PRESENT: yes, dali.QUERY_LAMP_FAILURE: yes if dark else None,
            dali.QUERY_LAMP_ON: yes if self.level and not dark else None,
            dali.QUERY_NO_ADDRESS: yes if self.short == NO_ADDRESS else None, dali.QUERY_DTR0: self.dtr[0],
            dali.QUERY_PHYSICAL_MIN: self.physical, dali.QUERY_LEVEL: self.level, dali.QUERY_MAX: self.greatest,
            dali.QUERY_MIN: self.least, dali.QUERY_POWER_ON: self.power_on, dali.QUERY_FAILURE: self.failure,
            dali.QUERY_FADE: self.fade_time << 4 | self.fade_rate, dali.QUERY_GROUPS_LOW: self.groups & 255,
            dali.QUERY_GROUPS_HIGH: self.groups >> 8, dali.QUERY_RANDOM_H: self.random >> 16,
            dali.QUERY_RANDOM_M: self.random >> 8 & 255, dali.QUERY_RANDOM_L: self.random & 255,
        }  # fmt: skip
        if dali.QUERY_SCENE <= code < dali.QUERY_SCENE + dali.SCENES:
            return self.scenes[code - dali.QUERY_SCENE]
        return plain.get(code)

    def _obey_colour_command(self, code: int) -> int | None:
        if code == dali.QUERY_COLOUR_FEATURES:
            return 0x82  # tunable white, and four channels
        if code == dali.ACTIVATE:
            self.colour = tuple(x for c in sorted(self.prepared) for x in self.prepared[c])
            rgb = self.prepared.get(dali.SET_RGB)
            if rgb:
                self.level = max(x for x in rgb if x != dali.MASK) if any(x != dali.MASK for x in rgb) else self.level
            self.prepared = {}
        elif code in (dali.SET_X, dali.SET_Y, dali.SET_TC, dali.SET_PRIMARY, dali.SET_RGB, dali.SET_WAF):
            self.prepared[code] = (self.dtr[0], self.dtr[1], self.dtr[2])
        return None

    def _obey_special(self, f: Forward, twice: bool, dice: chance.Random) -> int | None:
        code, data = f.address, f.data
        if code in (dali.DTR0, dali.DTR1, dali.DTR2):
            self.dtr[{dali.DTR0: 0, dali.DTR1: 1, dali.DTR2: 2}[code]] = data
        elif code == dali.ENABLE_TYPE:
            self.enabled = data
        elif code == dali.TERMINATE:
            self.addressing = self.withdrawn = False
        elif code == dali.INITIALISE and twice:
            mine = data == 0 or (data == 255 and self.short == NO_ADDRESS) or (data & 1 and data >> 1 == self.short)
            self.addressing, self.withdrawn = bool(mine), False
        elif not self.addressing:
            return None
        elif code == dali.RANDOMISE and twice:
            self.random = dice.randrange(1 << 24)
        elif code in (dali.SEARCH_H, dali.SEARCH_M, dali.SEARCH_L):
            shift = {dali.SEARCH_H: 16, dali.SEARCH_M: 8, dali.SEARCH_L: 0}[code]
            self.search = self.search & ~(255 << shift) | data << shift
        elif code == dali.COMPARE:
            return 255 if not self.withdrawn and self.random <= self.search else None
        elif code == dali.WITHDRAW:
            self.withdrawn = self.withdrawn or self.random == self.search
        elif code == dali.PROGRAM_SHORT and self.random == self.search and self.fault != "stubborn":
            self._take_address(data)
        elif code == dali.VERIFY_SHORT:
            return 255 if self.short == data >> 1 else None
        elif code == dali.QUERY_SHORT and self.random == self.search:
            return NO_ADDRESS if self.short == NO_ADDRESS else self.short << 1 | 1
        return None


class Wire:
    """One lamp bus: its gear, and the time that frames take on it."""

    def __init__(self, gear: Iterable[SimGear] = (), seed: int = 1) -> None:
        self.gear = list(gear)
        self.now = 0.0
        """Seconds of the bus's own time."""
        self.frames = 0
        self._dice = chance.Random(seed)
        self._last: tuple[bytes, float] = (b"", -1.0)
        for g in self.gear:
            if g.random == 0xFFFFFF:
                g.random = self._dice.randrange(1 << 24)

    def put_octets(self, octets: bytes) -> int | None:
        """A forward frame of two octets onto the wire: what comes back, `SEVERAL` for answers over each other."""
        f = Forward(octets[0], octets[1])
        twice = self._last[0] == octets and self.now - self._last[1] <= TWICE_WITHIN
        answers = {a for g in self.gear if (a := g.take_frame(f, twice, self.now, self._dice)) is not None}
        self._last = (octets, self.now)
        self.frames += 1
        self.now += dali.FORWARD_S + dali.PAUSE_S + (dali.BACKWARD_S + 0.0105 if answers else 0.0)
        if not answers:
            return None
        return answers.pop() if len(answers) == 1 else SEVERAL
