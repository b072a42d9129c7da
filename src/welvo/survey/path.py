"""The whole chain of one item, hop by hop, with what agrees and what differs between each two."""

from __future__ import annotations

from enum import StrEnum

from msgspec import Struct

from welvo.buses.plan import BusHere, bus_of, place_word
from welvo.matching.gear import faults_of_gear, seen_on
from welvo.matching.lamps import lamp_lines, own_lamp
from welvo.matching.leaving import Proof
from welvo.matching.planned import compare_device
from welvo.observed.presence import Presence, presence_of
from welvo.observed.values import Heard, Lamp, Observed
from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.rig.lookup import feeds_of, is_in_use
from welvo.rig.notation import say_place, say_thousands
from welvo.rig.plan import device_at, feed_reaches, model_of, nothing_out
from welvo.rig.protocol import PROTOCOLS, ProtocolRecord, every_way, say_wire
from welvo.rig.refs import BUS, NOWHERE, Goto, PortRef, SegmentRef, to_run
from welvo.rig.wiring import Feed
from welvo.runs.along import piece_name
from welvo.runs.cable import Piece
from welvo.settings.artnet import heard_port
from welvo.settings.compare import Mark
from welvo.survey.place_ways import on_cable, place_ways, port_of_target
from welvo.survey.target import Target


class Reason(StrEnum):
    """Why two hops stand to each other as they do. Whoever judges goes by the member; its value is the words for it."""

    NONE = ""
    NO_ADDRESS = "no address"
    SWITCHED_OFF = "not in use"
    SENDING = "sending"
    NOT_ARMED = "not armed"
    NO_FEED = "no feed"
    KEPT_BACK = "not sent"
    BY_CABLE = "by cable"
    NOBODY_TAKES_IT = "nobody takes it"
    SENT_ELSEWHERE = "sent elsewhere"
    HEARD = "heard"
    SILENT = "silent"
    NOT_HEARD = "not heard"
    NOTHING_COMES_OUT = "nothing comes out"
    OTHER_UNIVERSE = "another universe"
    OTHER_FEED = "port takes another feed"
    AS_DRAWN = "as drawn"
    SEEN = "seen"
    OTHER_LEVEL = "another level leaves"
    NOT_SEARCHED = "not searched"
    EMPTY_GROUP = "an empty group"
    OTHER_GEAR = "not as planned"
    ANSWERED = "it answered"
    SAYS_SO = "as it says"
    OTHER_ADDRESS = "another address"
    OTHER_MODE = "another mode"
    BEHIND = "see before"


def state_of_presence(presence: Presence) -> Reason:
    """Whether a device is there, as the path says it."""
    return {"heard": Reason.HEARD, "silent": Reason.SILENT, "never": Reason.NOT_HEARD}[presence.state]


class Hop(Struct, frozen=True):
    """One station of the chain: its role, the number that matters there, one fact, where it is set."""

    role: str
    value: str
    fact: str = ""
    goes_to: Goto = NOWHERE
    ways: tuple[tuple[str, str], ...] = ()


class Joint(Struct, frozen=True):
    """What stands between two hops, and why. Where the two differ, `sends` and `takes` say both sides."""

    mark: Mark
    sends: str = ""
    takes: str = ""
    why: Reason = Reason.NONE
    told: str = ""
    """Where somebody else gave the reason: in these words."""

    @property
    def word_for_joint(self) -> str:
        return self.told or ("" if self.why is Reason.OTHER_FEED else self.why.value)


class Path(Struct, frozen=True):
    """`hops[i]` and `hops[i + 1]` are joined by `joints[i]`. `ways` says the target's place in every way."""

    target: str
    name: str
    hops: tuple[Hop, ...]
    joints: tuple[Joint, ...]
    ways: tuple[tuple[str, str], ...] = ()
    key: str = ""
    feeds: tuple[str, ...] = ()


class Light(Struct, frozen=True):
    """What is known of the light at a target, in words; empty where nobody knows."""

    level: str = ""
    """What the Bench holds there."""
    armed: bool = False
    lamp: str = ""
    """What the port was seen to put out."""
    proof: Proof | None = None
    """What was seen to leave, for a place on a cable."""


UNLIT = Light()


def path_to_target(
    index: Index,
    observed: Observed,
    target: Target,
    now: float,
    light: Light = UNLIT,
    which_feed: int = 0,
    in_every_way: bool = True,
) -> Path:
    """The chain level → universe → feed → device → port → line → lamp of one target.

    It ends where the plan ends: at an item without an address, a universe without a feed, a feed that no port takes. A
    joint behind the first one that differs is never better than `upstream`. `which_feed` chooses among several feeds of
    the universe, counted from 0. Without `in_every_way` places are not said in every way, which is half of the work
    when many are asked for.
    """
    walk = _Walk(index, observed, target, now, light)
    walk.from_level_to_lamp(which_feed, place_ways(index, target) if in_every_way else ())
    ways = walk.ways
    return Path(
        target.label,
        walk.name_of_target(),
        tuple(walk.hops),
        tuple(_after_break(walk.joints)),
        ways,
        target.key,
        walk.feeds,
    )


class _Walk:
    """One walk along the chain; every method adds the hops of its stretch and the joints before them."""

    def __init__(self, index: Index, observed: Observed, target: Target, now: float, light: Light) -> None:
        self.index, self.rig, self.observed = index, index.rig, observed
        self.target, self.now, self.light = target, now, light
        self.hops: list[Hop] = []
        self.joints: list[Joint] = []
        self.ways: tuple[tuple[str, str], ...] = ()
        self.feeds: tuple[str, ...] = ()
        self.attached = on_cable(index, target)

    def name_of_target(self) -> str:
        """What the target is, in words: an item's name, or the port whose cable a bare slot leaves by."""
        key = self.target.key
        if self.attached and not key:
            stream = self.attached[0]
            return f"{self.rig.devices[stream.device_id].name}, port {stream.label}"
        fixture = self.rig.fixtures.get(key)
        return fixture.name if fixture else "element" if key in self.rig.elements else "free slot"

    def add_hop(self, joint: Joint, hop: Hop) -> None:
        self.joints.append(joint)
        self.hops.append(hop)

    def from_level_to_lamp(self, which_feed: int, ways: tuple[tuple[str, str], ...]) -> None:
        key, armed, self.ways = self.target.key, self.light.armed, ways
        self.hops.append(Hop("level", self.light.level or "—", "armed" if armed else "not armed", Goto("bench", key)))
        if not self.walk_universe():
            return
        feeds = feeds_of(self.rig, self.target.universe)
        if not feeds:
            nowhere = Hop("feed", "no feed", "nothing carries this universe", Goto("universe", self.target.universe))
            self.add_hop(Joint("unknown", why=Reason.NO_FEED), nowhere)
            return
        self.feeds = tuple(feeds)
        port = port_of_target(self.index, self.target)
        feed = self.walk_feed(feeds, which_feed, port)
        if not port:
            self.device_without_port(feed)
            return
        device_id, label, nth = port
        heard = self.walk_device(feed, device_id)
        self.walk_port(feed, PortRef(device_id, label), heard)
        self.along_cable()
        self.behind_gateway(PortRef(device_id, label))
        if nth:
            line = Hop("line", f"{_say_ordinal(nth)} on {label}", "in cable order", Goto("device", device_id))
            self.add_hop(Joint("claimed", why=Reason.AS_DRAWN), line)
        self.walk_lamp(PortRef(device_id, label))

    def walk_universe(self) -> bool:
        """The hop of the universe; gives whether the target has an address there."""
        if not self.target.universe:
            hop = Hop("universe", "not patched", "has no address yet", Goto("patch", self.target.key))
            self.add_hop(Joint("unknown", why=Reason.NO_ADDRESS), hop)
            return False
        universe, armed = self.rig.universes[self.target.universe], self.light.armed
        is_used = is_in_use(self.rig, "universes", self.target.universe)
        goes = Goto("universe", self.target.universe)
        fact = universe.name if is_used else Reason.SWITCHED_OFF.value
        why = Reason.SWITCHED_OFF if not is_used else Reason.SENDING if armed else Reason.NOT_ARMED
        sends = armed and is_used and bool(feeds_of(self.rig, self.target.universe))
        place = say_place(universe.number, self.target.address)
        self.add_hop(Joint("matches" if sends else "unknown", why=why), Hop("universe", place, fact, goes, self.ways))
        return True

    def walk_feed(self, feeds: list[str], which: int, port: tuple[str, str, int] | None) -> Feed:
        """The hop of the feed that is looked at: the port's own, unless another is asked for."""
        chosen = feeds[which % len(feeds)]
        planned = self.rig.devices[port[0]].ports.get(port[1]) if port else None
        if planned and not which and planned.feed in feeds:
            chosen = planned.feed
        feed = self.rig.feeds[chosen]
        many = f" · {feeds.index(chosen) + 1} of {len(feeds)}" if len(feeds) > 1 else ""
        why = self.observed.stuck.get(chosen, "") if self.light.armed else ""
        kept_back = Joint("differs", "armed", Reason.KEPT_BACK.value, Reason.KEPT_BACK, why)
        words, fact = say_wire(feed.protocol, feed.wire), f"{feed.to} · prio {feed.priority}{many}"
        hop = Hop("feed", words, fact, Goto("feed", chosen), tuple(every_way(feed.protocol, feed.wire)))
        self.add_hop(kept_back if why else Joint("matches"), hop)
        return feed

    def device_without_port(self, feed: Feed) -> None:
        """The last hop of a feed that no port takes: nobody, a stream to a device, or a line of the sender's own."""
        record = PROTOCOLS[feed.protocol]
        if record.has_universe_numbers:
            hop = Hop("device", "none", "no port takes this feed", Goto("devices", ""))
            self.add_hop(Joint("unknown", why=Reason.NOBODY_TAKES_IT), hop)
            return
        taker = device_at(self.rig, feed.to) if record.carries == "octets" else ""
        goes = Goto("device", taker) if taker else self.hops[-1].goes_to
        if _on_a_line(record):
            hop, why = Hop("device", f"line {feed.wire}", "a line of its own", goes), Reason.BY_CABLE
        else:
            name = self.rig.devices[taker].name if taker else feed.to or "no address"
            hop, why = Hop("device", name, "one stream", goes), Reason.NOT_HEARD
        self.add_hop(Joint("unknown", why=why), hop)

    def walk_device(self, feed: Feed, device_id: str) -> Heard | None:
        """The hop of the device; gives what is heard of it, if that is recent."""
        device, on_line = self.rig.devices[device_id], _on_a_line(PROTOCOLS[feed.protocol])
        heard = self.observed.heard.get(device.ip)
        presence = presence_of(self.observed, device.ip, self.now)
        live, state = presence.is_there, state_of_presence(presence)
        where = f"line {feed.wire} · serial" if on_line else f"{device.ip or 'no address'} · {state.value}"
        if feed_reaches(feed, device.ip):
            joint = Joint("matches" if live else "unknown", why=Reason.BY_CABLE if on_line else state)
        else:
            joint = Joint("differs", f"to {feed.to}", device.ip, Reason.SENT_ELSEWHERE)
        self.add_hop(joint, Hop("device", device.name, where, Goto("device", device_id)))
        return heard if live else None

    def walk_port(self, feed: Feed, ref: PortRef, heard: Heard | None) -> None:
        """The hop of the port: what it is set to, held against what is sent."""
        rig, label = self.rig, ref.port
        model = model_of(rig, ref.device)
        takes = heard_port(model, heard, label) if model and heard else None
        says = say_wire(takes.protocol, takes.wire) if takes else "not known"
        on_line = _on_a_line(PROTOCOLS[feed.protocol])
        has = "nothing to set" if on_line else f"set to {says}" if takes else "not read"
        hop = Hop("port", label, has, Goto("port", ref.device, label))
        planned = rig.devices[ref.device].ports.get(label)
        fed = planned is not None and planned.feed in self.feeds
        if self.attached and not fed:
            takes = None  # its stream runs on from another universe: the number it is set to is that of the first
        lines = {line.key: line.mark for line in compare_device(self.index, self.observed, ref.device, self.now)}
        own = {lines.get(f"{label}.universe", "unknown"), lines.get(f"{label}.protocol", "unknown")}
        off = takes is not None and (
            "differs" in own if self.attached else (takes.protocol, takes.wire) != (feed.protocol, feed.wire)
        )
        dead = nothing_out(rig, ref.device, label)
        if dead:
            joint = Joint("differs", "planned", dead, Reason.NOTHING_COMES_OUT)
        elif takes and off:
            bare = takes.protocol == feed.protocol and PROTOCOLS[feed.protocol].is_plain
            sent, taken = (str(feed.wire), str(takes.wire)) if bare else (say_wire(feed.protocol, feed.wire), says)
            joint = Joint("differs", f"sends {sent}", f"takes {taken}", Reason.OTHER_UNIVERSE)
        elif not self.attached and not fed:
            other = Reason.OTHER_FEED
            joint = Joint("differs", say_wire(feed.protocol, feed.wire), other.value, other)
        else:
            joint = Joint("claimed" if "claimed" in own else "matches" if takes else "unknown")
        self.add_hop(joint, hop)

    def along_cable(self) -> None:
        """The hop along the cable: the segment with its pixel, or a bridge's or a converter's number."""
        if not self.attached:
            return
        stream, piece, within = self.attached
        segment, proof = piece.segment, self.light.proof
        goes = to_run(stream.device_id, stream.label, piece.n)
        px = (within - 1) // piece.k + 1
        seen = proof.fact if proof else ""
        name = seen or piece_name(self.rig, piece)
        if segment.kind == "bridge":
            hop = Hop("bridge", f"DMX {within}", name, goes)
        elif segment.kind == "lamps":
            hop = Hop("converter", f"lamp {px}", name, goes)
        else:
            hop = Hop("segment", f"px {say_thousands(piece.px + px - 1)}", seen or _say_laid(piece), goes)
        if proof is None:
            joint = Joint("claimed", why=Reason.AS_DRAWN)
        elif proof.mark == "differs":
            joint = Joint("differs", proof.sends, proof.takes, Reason.OTHER_LEVEL)
        else:
            joint = Joint(proof.mark, why=Reason.SEEN if proof.mark == "matches" else Reason.AS_DRAWN)
        self.add_hop(joint, hop)

    def behind_gateway(self, ref: PortRef) -> None:
        """The hop on a lamp bus: the gear or group that a slot speaks to, held against what a search found there."""
        here = bus_of(self.rig, SegmentRef(ref.device, ref.port, BUS))
        within = self.target.address - here.first + 1 if here and here.universe == self.target.universe else 0
        if not here or not 1 <= within <= here.bus.slots_needed:
            return
        place = (within - 1) // here.bus.slots_per_place
        if here.bus.addressing == "gear":
            self.walk_gear(ref, here, place)
            return
        seen = seen_on(self.rig, self.observed, ref)
        members = [g for g in (seen.gear if seen else ()) if here.bus.addressing == "broadcast" or place in g.groups]
        words = place_word(here.bus, place)
        joint = Joint("matches" if members else "unknown")
        if seen and not members:
            joint = Joint("differs", words, "nobody in it", Reason.EMPTY_GROUP)
        fact = f"{len(members)} gear in it" if seen else Reason.NOT_SEARCHED.value
        self.add_hop(joint, Hop("gear", words, fact, Goto("bus", ref.device, ref.port, -1)))

    def walk_gear(self, ref: PortRef, here: BusHere, place: int) -> None:
        """The hop of one gear by its short address."""
        words, goes = f"gear {place}", Goto("bus", ref.device, ref.port, place)
        seen = seen_on(self.rig, self.observed, ref)
        gear, planned = seen.gear_at(place) if seen else None, here.bus.gear_at(place)
        name = planned.name if planned else ""
        if seen is None:
            self.add_hop(Joint("unknown", why=Reason.NOT_SEARCHED), Hop("gear", words, name or "not searched", goes))
        elif gear is None or gear.doubled or faults_of_gear(gear):
            has = "no answer" if gear is None else "several" if gear.doubled else faults_of_gear(gear)[0]
            self.add_hop(Joint("differs", words, has, Reason.OTHER_GEAR), Hop("gear", words, has, goes))
        else:
            self.add_hop(Joint("matches", why=Reason.ANSWERED), Hop("gear", words, name or f"level {gear.level}", goes))

    def walk_lamp(self, ref: PortRef) -> None:
        """The last hop: the lamp with the address to set on it, and what reaches it."""
        key, proof = self.target.key, self.light.proof
        fixture = self.rig.fixtures.get(key)
        if not fixture and key not in self.rig.elements:
            return
        at = str(set_on(self.index, key, self.target.break_no).address or self.target.address) if fixture else ""
        seen = (proof.lamp if proof else "") or self.light.lamp
        if proof:
            joint = Joint(proof.mark if proof.mark != "differs" else "upstream")
        else:
            joint = Joint("matches" if seen else "unknown")
        goes = Goto("patch", key)
        told = own_lamp(self.rig, self.observed, key) if not self.target.break_no else None
        if told:
            goes = Goto("lamps", ref.device, ref.port, told.uid)
            seen, joint = self.as_lamp_says(told, seen, joint)
        self.add_hop(joint, Hop("lamp", at if fixture else self.target.label, seen or "not read", goes))

    def as_lamp_says(self, told: Lamp, seen: str, joint: Joint) -> tuple[str, Joint]:
        """What a lamp says of itself by RDM is held against the plan: the words for its hop, and the joint before it.
        What was seen to reach it says more than that it stands right."""
        lines = {x.key: x for x in lamp_lines(self.index, self.target.key, told)}
        off = next((lines[k] for k in ("address", "personality") if lines[k].mark == "differs"), None)
        if off is None:
            if seen:
                return seen, joint
            return f"says {told.address:03d} itself", Joint("matches", why=Reason.SAYS_SO)
        why = Reason.OTHER_ADDRESS if off.key == "address" else Reason.OTHER_MODE
        return f"says {off.reported}", Joint("differs", f"plan {off.plan}", f"has {off.reported}", why)


def _on_a_line(record: ProtocolRecord) -> bool:
    return record.carries == "line"


def _say_laid(piece: Piece) -> str:
    """How a segment's pixels lie: their order, and whatever turns, folds or gathers them."""
    s = piece.segment
    facts = [s.order or "straight"] if s.kind == "pixels" else []
    facts += ["reversed"] * s.reverse
    facts += [f"fold {s.fold}"] * bool(s.fold)
    facts += [f"by {s.group}"] * (s.group > 1)
    return " · ".join(facts)


def _after_break(joints: list[Joint]) -> list[Joint]:
    """Behind the first joint that differs nothing agrees any more: it only suffers."""
    found: list[Joint] = []
    broken = False
    for joint in joints:
        if broken and joint.mark in ("matches", "differs"):
            joint = Joint("upstream", why=Reason.BEHIND)
        broken = broken or joint.mark == "differs"
        found.append(joint)
    return found


def _say_ordinal(n: int) -> str:
    suffix = "th" if 10 <= n % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n}{suffix}"
