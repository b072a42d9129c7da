"""Responders beside the plan: which fixture of the rig each of them is, what it was set to and what it is set to.

Nobody knows at first which responder is which lamp: a UID is printed inside the case. So it is guessed from what both
say (address, model, footprint, label), the guess says on what it rests, and it stays a guess until somebody confirms
it; then the UID stands in the fixture, and nothing has to be guessed again.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal, NamedTuple

import numpy as np
import numpy.typing as npt
from msgspec import Struct
from msgspec.structs import replace

from welvo.observed.values import Lamp, Observed, PortAt
from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.protocols import rdm
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.kept import keep_last_two, table_of
from welvo.rig.lookup import mode_of, profile_of
from welvo.rig.modes import say_channel
from welvo.rig.notation import say_count
from welvo.rig.patched import Fixture, Place
from welvo.rig.plan import model_of
from welvo.rig.profile import Break, Channel, Mode, Profile
from welvo.rig.protocol import PROTOCOLS
from welvo.rig.refs import PortRef
from welvo.rig.shorts import with_shorts
from welvo.rig.wiring import BY_ARTNET
from welvo.settings.artnet import heard_port

Mark = Literal["matches", "differs", "unknown"]
LINES = ("address", "personality", "label")


# ---- ports and their lamps

LINE = "line"
"""In place of a gateway's address: a serial line of this computer; its number stands for the Port-Address."""


def address_by_rdm(rig: Rig, observed: Observed, device_id: str, label: str) -> PortAt | None:
    """Where a port is reached by RDM: the device's address and the Port-Address it says it listens to, else the
    planned one."""
    device, model = rig.devices[device_id], model_of(rig, device_id)
    if model is not None and model.kind == "serial":
        line = rig.feeds.get(device.ports[label].feed) if label in device.ports else None
        return (LINE, line.wire) if line and PROTOCOLS[line.protocol].carries == "line" else None
    if not device.ip or model is None or label not in model.ports or BY_ARTNET not in model.links:
        return None
    heard = observed.heard.get(device.ip)
    port = heard_port(model, heard, label) if heard else None
    if port is not None:
        return device.ip, port.wire
    feed = rig.feeds.get(device.ports[label].feed) if label in device.ports else None
    return (
        (device.ip, feed.wire)
        if feed and PROTOCOLS[feed.protocol].has_universe_numbers and feed.wire <= 0x7FFF
        else None
    )


def ports_with_lamps(index: Index, only: str = "") -> list[PortRef]:
    """The ports whose lamps could be asked: DMX ports of nodes and serial lines with something on their line. `only`
    asks for those of one device."""
    rig = index.rig
    found = []
    for device_id, device in rig.devices.items() if not only else [(only, rig.devices[only])]:
        model = model_of(rig, device_id)
        if model is None or not (model.kind == "serial" or (model.kind == "node" and BY_ARTNET in model.links)):
            continue
        found += [PortRef(device_id, p) for p in model.ports if p in device.ports and port_lamps(index, device_id, p)]
    return found


def port_lamps(index: Index, device_id: str, label: str) -> list[str]:
    """The fixtures that hang on a port: those of its line as drawn, else all that stand in the universe it takes and on
    no other line."""
    rig = index.rig
    port = rig.devices[device_id].ports.get(label)
    if port is None:
        return []
    drawn = [f for s in port.run if s.kind == "line" for f in s.fixtures if f in rig.fixtures]
    if drawn:
        return drawn
    feed = rig.feeds.get(port.feed)
    if feed is None or feed.universe not in rig.universes:
        return []
    here = dict.fromkeys(
        s.item_of_span for s in index.spans_on_universe(feed.universe) if s.item_of_span in rig.fixtures
    )
    return [k for k in here if not index.cables_and_sums.ports_of_item(k)]


# ---- pairing


class LampSettingLine(NamedTuple):
    """One setting of a lamp: what is planned, what it says, and how they stand."""

    key: str
    plan: str
    reported: str
    mark: Mark


class LampPair(Struct, frozen=True):
    """A responder and the fixture it is, as far as both are known. `sure` when its UID stands in the fixture; else
    `why` says what the guess rests on."""

    lamp: Lamp | None
    fixture: str = ""
    sure: bool = False
    why: str = ""
    doubt: bool = False
    """Whether another guess would be as good: such a pair says which lamp it may be, not which it is."""
    lines: tuple[LampSettingLine, ...] = ()

    @property
    def differs_from_plan(self) -> bool:
        return any(x.mark == "differs" for x in self.lines)


def planned_address(index: Index, fixture: str) -> int:
    return set_on(index, fixture).address


def personality_for(mode: Mode | None, lamp: Lamp) -> int:
    """Which of a responder's personalities is a mode: of its name, else the only one as wide; 0: none, or not clear."""
    if mode is None:
        return 0
    named = [n for n, _, words in lamp.names if words.strip().lower() == mode.name.strip().lower()]
    if named:
        return named[0]
    wide = [n for n, slots, _ in lamp.names if slots == mode.slots_needed]
    if len(wide) == 1:
        return wide[0]
    return lamp.personality if lamp.personality in wide else 0


def mode_for(profile: Profile, lamp: Lamp) -> str:
    """The mode of a profile that a responder's present personality is; empty: it has none like it."""
    words = next((w for n, _, w in lamp.names if n == lamp.personality), "")
    named = [k for k, m in profile.modes.items() if m.name.strip().lower() == words.strip().lower() and words]
    wide = [k for k, m in profile.modes.items() if m.slots_needed == lamp.footprint]
    return named[0] if named else wide[0] if len(wide) == 1 else ""


@keep_last_two
def _by_uid(fixtures: dict[str, Fixture]) -> dict[str, str]:
    return {f.uid: k for k, f in fixtures.items() if f.uid}


def pair_responders(index: Index, fixtures: Sequence[str], lamps: Sequence[Lamp]) -> list[LampPair]:
    """Responders of a port beside its fixtures: by UID, else by the likeliest; those that are left over stand alone."""
    rig = index.rig
    by_uid = _by_uid(rig.fixtures)
    taken = {x.uid: _Taken(key, True, "by its UID") for x in lamps if (key := by_uid.get(rdm.say_uid(x.uid), ""))}
    met = {t.key for t in taken.values()}
    faces = [_face_of_fixture(index, k) for k in fixtures if k not in met and not rig.fixtures[k].uid]
    taken |= _guess_pairs(faces, [x for x in lamps if x.uid not in taken and not x.failed])
    found: list[LampPair] = []
    for lamp in lamps:
        t = taken.get(lamp.uid, _Taken())
        lines = lamp_lines(index, t.key, lamp) if t.key and not lamp.failed else ()
        if t.doubt:  # what only this one fixture would have says nothing while it may be another
            lines = tuple(LampSettingLine(*x[:3], "unknown") if x.key != "personality" else x for x in lines)
        found.append(LampPair(lamp, t.key, t.sure, t.why, t.doubt, lines))
    met = {p.fixture for p in found}
    found += [LampPair(None, k) for k in fixtures if k not in met]
    place = {k: n for n, k in enumerate(fixtures)}
    return sorted(found, key=lambda p: place.get(p.fixture, len(place)))  # along the cable, strangers last


LIKE = 3
"""From which likeness on a responder is taken for a fixture."""


class _Taken(NamedTuple):
    key: str = ""
    sure: bool = False
    why: str = ""
    doubt: bool = False


class _Face(NamedTuple):
    """What a fixture can be known by."""

    key: str
    labels: tuple[str, ...]
    models: tuple[str, ...]
    address: int
    footprint: int


def _face_of_fixture(index: Index, key: str) -> _Face:
    f = index.rig.fixtures[key]
    profile, mode = profile_of(index.rig, f), mode_of(index.rig, f)
    models = (profile.name.lower(), f"{profile.maker} {profile.name}".strip().lower()) if profile else ()
    labels = tuple(x for x in (f.name.strip(), str(f.number), label_for(f)) if x)
    return _Face(key, labels, models, planned_address(index, key), mode.slots_needed if mode else 0)


def _likenesses(face: _Face, lamp: Lamp) -> dict[str, int]:
    """In what a responder is like a fixture, and how much each of it counts."""
    model = lamp.model_name.strip().lower()
    said = {
        "label": 4 if lamp.label and lamp.label.strip() in face.labels else 0,
        "model": 0 if not model or not face.models else 2 if model in face.models else -2,
        "address": 3 if lamp.address and lamp.address == face.address else 0,
        "footprint": 1 if lamp.footprint and lamp.footprint == face.footprint else 0,
    }
    return {k: v for k, v in said.items() if v}


def _guess_pairs(faces: list[_Face], lamps: list[Lamp]) -> dict[int, _Taken]:
    """The likeliest fixture of each responder, the best guesses first. How many would have done as well is told: where
    there is one, the guess says which lamp it may be and not which it is."""
    if not faces or not lamps:
        return {}
    # on a long line most are alike in all but label and address: the rest is asked once for each kind of lamp
    base: dict[tuple[object, ...], npt.NDArray[np.int8]] = {}
    score = np.zeros((len(faces), len(lamps)), np.int8)
    by_label: dict[str, list[int]] = {}
    for m, lamp in enumerate(lamps):
        by_label.setdefault(lamp.label.strip(), []).append(m)
    by_label.pop("", None)
    kinds = {(x.model_name, x.footprint): x for x in lamps}
    of_kind = {kind: k for k, kind in enumerate(kinds)}
    kind_of = np.array([of_kind[x.model_name, x.footprint] for x in lamps])
    addresses = np.array([x.address or -1 for x in lamps])
    for n, face in enumerate(faces):
        facts = (face.models, face.footprint)
        if facts not in base:
            alike = (_likenesses(face, x) for x in kinds.values())
            base[facts] = np.array([a.get("model", 0) + a.get("footprint", 0) for a in alike], np.int8)
        score[n] = base[facts][kind_of]
        score[n] += 3 * (addresses == face.address)
        score[n, sorted({m for x in face.labels for m in by_label.get(x, ())})] += 4
    taken: dict[int, _Taken] = {}
    free_n, free_m = np.ones(len(faces), bool), np.ones(len(lamps), bool)
    rival_n, rival_m, level = free_n.copy(), free_m.copy(), 0
    for at in np.argsort(-score, axis=None, kind="stable"):
        n, m = divmod(int(at), len(lamps))
        s = score[n, m]
        if s < LIKE:
            break
        if not free_n[n] or not free_m[m]:
            continue
        if s != level:  # who was taken by as good a guess is a rival still: the last of alike ones is no surer
            rival_n, rival_m, level = free_n.copy(), free_m.copy(), s
        twins = max(int((score[n, rival_m] == s).sum()), int((score[rival_n, m] == s).sum())) - 1
        words = [k for k, v in _likenesses(faces[n], lamps[m]).items() if v > 0]
        why = "by its " + " and ".join([", ".join(words[:-1]), words[-1]] if len(words) > 1 else words)
        doubt = f", but {say_count(twins, 'other')} would do as well" if twins else ""
        taken[lamps[m].uid] = _Taken(faces[n].key, False, why + doubt, twins > 0)
        free_n[n] = free_m[m] = False
    return taken


def searched_ports(rig: Rig, observed: Observed) -> list[PortRef]:
    """The ports of the rig that were searched for lamps, whatever was found there."""
    ips = {ip for ip, _ in observed.lamps}
    serial = {m for m, v in rig.device_models.items() if v.kind == "serial"} if LINE in ips else set()
    return [
        PortRef(device_id, label)
        for device_id, d in rig.devices.items()
        if d.ip in ips or d.model in serial
        for label in d.ports
        if address_by_rdm(rig, observed, device_id, label) in observed.lamps
    ]


def pairs_on_port(index: Index, observed: Observed, ref: PortRef) -> list[LampPair]:
    """What was found on a port, beside what is planned there; nothing before it was searched. Rules, page, panel and
    path ask for the same, so the last answer about each port is kept. Do not change it."""
    at = address_by_rdm(index.rig, observed, ref.device, ref.port)
    lamps = observed.lamps.get(at) if at else None
    if lamps is None:
        return []
    last: dict[PortRef, tuple[Rig, tuple[Lamp, ...], list[LampPair]]] = table_of("lamps of a port", MOST_PORTS)
    known = last.get(ref)
    if known is None or known[0] is not index.rig or known[1] is not lamps:
        found = pair_responders(index, port_lamps(index, ref.device, ref.port), lamps)
        known = last[ref] = (index.rig, lamps, found)
    return known[2]


MOST_PORTS = 500


@keep_last_two
def _lamps_by_uid(lamps: dict[PortAt, tuple[Lamp, ...]]) -> dict[str, Lamp]:
    return {rdm.say_uid(x.uid): x for here in lamps.values() for x in here}


def own_lamp(rig: Rig, observed: Observed, key: str) -> Lamp | None:
    """What the lamp of a fixture said of itself; none while nobody has confirmed which one it is, or it is silent."""
    f = rig.fixtures.get(key)
    found = _lamps_by_uid(observed.lamps).get(f.uid) if f and f.uid and observed.lamps else None
    return found if found and not found.failed else None


def meeting_responders(found: Sequence[LampPair]) -> list[list[LampPair]]:
    """Responders that sit on one address and are not planned to, address by address."""
    at: dict[int, list[LampPair]] = {}
    for p in found:
        if p.lamp and p.lamp.address and not p.lamp.failed:
            at.setdefault(p.lamp.address, []).append(p)
    return [
        here
        for _, here in sorted(at.items())
        if len(here) > 1 and not all(p.sure and p.lines and p.lines[0].mark == "matches" for p in here)
    ]


def say_seen_on_stage(index: Index, key: str, lamp: Lamp) -> str:
    """What is seen of a lamp that works in another personality than its fixture's mode, in one sentence."""
    f = index.rig.fixtures[key]
    profile, mode = profile_of(index.rig, f), mode_of(index.rig, f)
    if profile is None or mode is None:
        return ""
    wide, own = lamp.footprint, mode.slots_needed
    first = lamp.address or planned_address(index, key)
    after = ""
    if wide > own:
        after = f" It also takes slots {first + own}–{min(512, first + wide - 1)}, which are not its own."
    elif wide < own:
        after = f" It never looks at its slots {wide + 1}–{own}."
    real = profile.modes.get(mode_for(profile, lamp))
    if real is None:
        return f"What each of its {wide} slots does there, the profile does not say.{after}"
    ours, theirs = _words_by_slot(mode), _words_by_slot(real)
    slot = next((s for s in range(1, max(wide, own) + 1) if ours.get(s) != theirs.get(s)), 0)
    if not slot:
        return f"Its first slots do the same.{after}".strip()
    meant, does = ours.get(slot, "nothing"), theirs.get(slot, "nothing")
    return f"From slot {slot} on it does something else: {meant} is sent, {does} is done.{after}"


def _words_by_slot(mode: Mode) -> dict[int, str]:
    return {s: say_channel(c) for c in mode.channels if c.break_no == 0 for s in c.slots}


def lamp_lines(index: Index, key: str, lamp: Lamp) -> tuple[LampSettingLine, ...]:
    """Address, personality and label of a lamp, plan beside reported."""
    rig = index.rig
    f = rig.fixtures[key]
    mode = mode_of(rig, f)
    address = planned_address(index, key)
    wanted = personality_for(mode, lamp)
    now = next(
        (f"{words or f'personality {n}'} ({slots})" for n, slots, words in lamp.names if n == lamp.personality), ""
    )
    now = now or f"personality {lamp.personality} ({lamp.footprint})"
    plan = f"{mode.name} ({mode.slots_needed})" if mode else "–"
    wide = mode.slots_needed if mode else -1
    same = lamp.personality == wanted if wanted else lamp.footprint == wide
    label = label_for(f)
    return (
        LampSettingLine(
            "address", f"{address:03d}" if address else "–", f"{lamp.address:03d}" if lamp.address else "–",
            "unknown" if not address else "matches" if address == lamp.address else "differs",
        ),
        LampSettingLine("personality", plan, now, "matches" if same else "differs"),
        LampSettingLine("label", label, lamp.label or "–", "matches" if lamp.label == label else "unknown"),
    )  # fmt: skip


def label_for(f: Fixture) -> str:
    """What a lamp is labelled: its number and name, as far as 32 octets hold it."""
    return rdm.encode_text(f"{f.number} {f.name}".strip()).decode("utf-8")


# ---- setting a whole port


class Move(Struct, frozen=True):
    """One lamp is set to an address. `parks` when that is only for the meantime, because two change places."""

    uid: int
    address: int
    parks: bool = False


class LampWish(Struct, frozen=True):
    """What a lamp shall be set to; 0 and None leave a setting alone."""

    address: int = 0
    personality: int = 0
    label: str | None = None

    @property
    def wished_settings(self) -> tuple[str, ...]:
        return tuple(
            k for k, v in zip(LINES, (self.address, self.personality, self.label is not None)) if v
        )  # fmt: skip


def wishes_for_lamps(
    index: Index, found: Iterable[LampPair], keys: Iterable[str] = ("address", "personality")
) -> dict[int, LampWish]:
    """What has to be sent to lamps so that they are as planned, by UID: only what is not so already, and only to those
    that are taken for a fixture. A mode that the lamp does not have cannot be wished."""
    made: dict[int, LampWish] = {}
    keys = set(keys)
    for p in found:
        if p.lamp is None or not p.fixture or not p.lines:
            continue
        off = {x.key for x in p.lines if x.mark != "matches" and x.plan != x.reported} & keys
        f = index.rig.fixtures[p.fixture]
        wish = LampWish(
            planned_address(index, p.fixture) if "address" in off else 0,
            personality_for(mode_of(index.rig, f), p.lamp) if "personality" in off else 0,
            label_for(f) if "label" in off else None,
        )
        if wish.wished_settings:
            made[p.lamp.uid] = wish
    return made


def order_of_moves(lamps: Sequence[Lamp], wanted: dict[int, int]) -> list[Move]:
    """In which order lamps get their addresses, so that none comes to sit where another one still is.

    Who goes to a free place goes first. Where all that are left wait for each other, one of them is parked at an
    address that nobody has or wants; where there is none left, the meeting cannot be avoided.
    """
    at = {x.uid: x.address for x in lamps}
    goes = {u: a for u, a in wanted.items() if at.get(u) != a}
    moves: list[Move] = []
    while goes:
        # an address is free when nobody stands there who is still to go somewhere else
        leaving = {at[u] for u in goes}
        free = next((u for u, a in goes.items() if a not in leaving or all(at[v] != a or v == u for v in goes)), None)
        if free is None:
            wanted_by = set(goes.values())
            uid = next(u for u in goes if at[u] in wanted_by)
            busy = set(at.values()) | wanted_by
            width = max((x.footprint for x in lamps if x.uid == uid), default=1)
            spare = next((a for a in range(max(1, 513 - max(1, width)), 0, -1) if a not in busy), 0)
            if spare:
                moves.append(Move(uid, spare, True))
                at[uid] = spare
                continue
            free = uid
        address = goes.pop(free)
        moves.append(Move(free, address))
        at[free] = address
    return moves


# ---- edits


def bind_responder(rig: Rig, fixture: str, uid: int) -> Edit:
    """Say that a responder is this fixture; whoever had the UID before has it no more."""
    said = rdm.say_uid(uid)
    others = {k: replace(f, uid="") for k, f in rig.fixtures.items() if f.uid == said and k != fixture}
    label = f"{rig.fixtures[fixture].number} is {said}"
    return put_entries(rig, label, fixtures={**others, fixture: replace(rig.fixtures[fixture], uid=said)})


def unbind_responder(rig: Rig, fixture: str) -> Edit:
    f = rig.fixtures[fixture]
    return put_entries(rig, f"{f.number} is not {f.uid}", fixtures={fixture: replace(f, uid="")})


def bind_all(rig: Rig, found: Iterable[LampPair]) -> Edit:
    """Take all pairs of a port as they were guessed."""
    fixtures = {
        p.fixture: replace(rig.fixtures[p.fixture], uid=rdm.say_uid(p.lamp.uid))
        for p in found
        if p.lamp and p.fixture and not p.sure
    }
    if not fixtures:
        raise Refused("There is no guess to be confirmed.")
    return put_entries(rig, f"confirm {say_count(len(fixtures), 'lamp')}", fixtures=fixtures)


def take_addresses(index: Index, found: Iterable[LampPair]) -> Edit:
    """Plan the addresses that lamps say they have. Raises Refused where none differs, or one cannot be moved."""
    rig = index.rig
    fixtures: dict[str, Fixture] = {}
    for p in found:
        if not p.lamp or not p.fixture or not p.lamp.address or p.lamp.address == planned_address(index, p.fixture):
            continue
        f = rig.fixtures[p.fixture]
        place = f.place_of_break(0)
        span = index.span_of_break(p.fixture)
        if place.locked:
            raise Refused(f"{f.number} is locked. Unlock it first.")
        if place.from_run or set_on(index, p.fixture).behind:
            raise Refused(f"{f.number} has its address from its cable; change it in Runs.")
        if span is None:
            raise Refused(f"{f.number} is not patched, so its universe is not known.")
        fixtures[p.fixture] = replace(f, at=(Place(universe=span.universe, address=p.lamp.address), *f.at[1:]))
    if not fixtures:
        raise Refused("Every lamp has the address that is planned for it.")
    return put_entries(rig, f"take {say_count(len(fixtures), 'address', 'addresses')} from lamps", fixtures=fixtures)


# ---- what a lamp tells of itself


def against_profile(profile: Profile, lamp: Lamp) -> list[str]:
    """Where a responder and a profile of the rig contradict each other, in sentences."""
    said = []
    for n, slots, words in lamp.names:
        named = next((m for m in profile.modes.values() if m.name.strip().lower() == words.strip().lower()), None)
        if named is None and not any(m.slots_needed == slots for m in profile.modes.values()):
            said.append(
                f"The profile lacks its personality {n}, {words or 'without a name'}, of {say_count(slots, 'slot')}."
            )
        elif named is not None and named.slots_needed != slots:
            said.append(f"Mode {named.name} has {named.slots_needed} slots here, the lamp says {slots}.")
    mode = profile.modes.get(mode_for(profile, lamp))
    if mode is None or not lamp.slots:
        return said
    ours: dict[int, Channel] = {s: c for c in mode.channels if c.break_no == 0 for s in c.slots}
    for offset, kind, label, words in lamp.slots:
        if kind:
            continue
        theirs = rdm.SLOT_WORDS.get(label, "")
        channel = ours.get(offset + 1)
        if channel is None:
            said.append(f"Slot {offset + 1} is {words or theirs or 'something'} there, and nothing here.")
        elif theirs and channel.function and channel.function.rstrip("0123456789") != theirs.rstrip("0123456789"):
            said.append(f"Slot {offset + 1} is {channel.function} here, the lamp says {words or theirs}.")
    return said


def draft_profile(lamp: Lamp) -> Profile:
    """A new profile out of what a responder tells: all personalities by their width, the present one slot by slot. What
    its slots do not say stays undescribed, which is a finding."""
    modes: dict[str, Mode] = {}
    for n, slots, words in lamp.names or ((1, lamp.footprint, ""),):
        channels: tuple[Channel, ...] = ()
        if n == lamp.personality or not lamp.names:
            channels = _draft_channels(lamp)
        width = max([slots, *(s for c in channels for s in c.slots)], default=slots)
        modes[f"m{n}"] = Mode(
            name=words or f"personality {n}", breaks=(Break(slots=min(4096, width)),), channels=channels
        )
    notes = f"Drafted from what {rdm.say_uid(lamp.uid)} tells of itself by RDM; look through it before you rely on it."
    return Profile(
        name=lamp.model_name or f"Model {lamp.model:04X}", maker=lamp.maker, revision=lamp.software, notes=notes,
        modes=modes,
    )  # fmt: skip


def _draft_channels(lamp: Lamp) -> tuple[Channel, ...]:
    fine: dict[int, list[int]] = {}
    for offset, kind, label, _ in lamp.slots:
        if kind == 1:
            fine.setdefault(label, []).append(offset)
    made = []
    for offset, kind, label, words in sorted(lamp.slots):
        if kind == 1 or offset + 1 > 4096:
            continue
        function = rdm.SLOT_WORDS.get(label, "") if kind == 0 else ""
        slots = (offset + 1, *(s + 1 for s in fine.get(offset, ())[:3]))
        made.append(Channel(function=function, name="" if function else words or f"slot {offset + 1}", slots=slots))
    return with_shorts(made)
