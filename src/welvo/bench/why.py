"""Why an item is dark, wrong or flickering: its path walked from the sender to the lamp, with facts at each station.

Every station has a test of its own that looks only at what is known there and says nothing when it knows nothing. They
are asked in the order in which light travels, so that of two faults the one nearer the sender comes first: what lies
behind it cannot be judged before it is put right. Levels are read from the very frame that goes out (or, where somebody
else sends, from what is heard on the wire), not from what was meant, so that blackout, master and tests count too.

Findings of the checks are taken in at their station: whatever the plan itself says is wrong on the way is a cause.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import get_args

from msgspec import Struct
from msgspec.structs import replace

from welvo.bench.levels import Levels, function_key, turned_function
from welvo.bench.light import FrameOf, channel_values, dark_by
from welvo.checks.checker import Report
from welvo.checks.registry import RULES, Finding, Fix, Stage
from welvo.matching.planned import compare_device
from welvo.observed.presence import is_recent
from welvo.observed.values import Observed, SourceSeen
from welvo.observed.wire import name_of_source, rival_sources
from welvo.patch.index import Index, Span
from welvo.rig.attributes import family_of, word_for
from welvo.rig.counting import SLOTS
from welvo.rig.lookup import bench_sender, feeds_of, name_of_item
from welvo.rig.plan import model_of, say_key, say_setting, split_owner
from welvo.rig.protocol import PROTOCOLS, say_wire
from welvo.rig.refs import NOWHERE, Goto
from welvo.settings.artnet import heard_port
from welvo.settings.compare import SettingLine
from welvo.survey.fixture_card import steps_to_repeat
from welvo.survey.path import Path, Reason

STAGES: tuple[Stage, ...] = get_args(Stage)
HOP_OF: dict[Stage, str] = {
    "master": "level",
    "level": "level",
    "patch": "universe",
    "use": "universe",
    "feed": "feed",
    "armed": "level",
    "leaving": "feed",
    "wire": "feed",
    "device": "device",
    "test pattern": "device",
    "port": "port",
    "settings": "port",
    "run": "port",
    "output": "port",
    "line": "line",
    "lamp": "lamp",
}
LIGHT_KEYS = frozenset(
    ("mode", "size", "packs", "brightness", "protocol", "universe", "slot", "slots", "segments", "chip", "order")
    + ("pixels", "nulls", "fold", "reverse", "group", "gamma", "merge")
)
"""Settings that change what leaves a port; a name or a gateway does not."""


class Cause(Struct, frozen=True):
    """`hop` is the number of the hop on the path that is at fault; -1 when none of them is known to be. `proof` is what
    shows it, `do` what puts it right, `goto` where."""

    sentence: str
    hop: int = -1
    certain: bool = True
    stage: Stage = "lamp"
    code: str = ""
    proof: str = ""
    do: str = ""
    goto: Goto = NOWHERE
    finding: Finding | None = None
    fixes: tuple[Fix, ...] = ()

    @property
    def possible_fixes(self) -> tuple[Fix, ...]:
        return self.finding.possible_fixes if self.finding else self.fixes


class Evidence(Struct, frozen=True):
    """Everything that is known when the question is asked.

    `levels` is what the Bench holds, None where nobody is at a Bench (the command line). `meant` gives the frame that
    goes out for a universe, `wire` what is heard there, `port` what the item's port puts out as DMX. `sources` are
    those of the item's wire universe. `listening` says whether anything is listened to at all.
    """

    index: Index
    observed: Observed
    now: float
    key: str
    chain: Path
    report: Report
    levels: Levels | None = None
    armed: bool = False
    trouble: str = ""
    borrowed: frozenset[str] = frozenset()
    meant: FrameOf = lambda _: None
    wire: FrameOf = lambda _: None
    port: bytes | None = None
    sources: tuple[tuple[SourceSeen, bytes], ...] = ()
    listening: bool = True
    settled: bool = True
    """Whether levels have stood long enough that a difference on the way is one."""

    @property
    def universe_of_item(self) -> str:
        span = self.index.span_of_break(self.key)
        return span.universe if span else ""

    @property
    def is_own_sender(self) -> bool:
        """Whether it is the Bench that sends the item's levels."""
        rig = self.index.rig
        bench = bench_sender(rig)
        feeds = feeds_of(rig, self.universe_of_item)
        mine = any(rig.feeds[f].sender == bench for f in feeds) or self.universe_of_item in self.borrowed
        return self.levels is not None and (mine or not feeds)

    @property
    def frame_sent(self) -> FrameOf:
        return self.meant if self.is_own_sender else self.wire

    @property
    def port_ref(self) -> tuple[str, str]:
        """Device id and label of the port on the way; empty where there is none."""
        hop = next((h for h in self.chain.hops if h.role == "port"), None)
        return (hop.goes_to.id, hop.goes_to.port) if hop else ("", "")


def diagnose_item(look: Evidence) -> list[Cause]:
    """Every cause that is known, the one nearest to the sender first; empty when nothing is wrong up to the lamp."""
    found: list[Cause] = []
    for test in _TESTS:
        found += test(look)
    found.sort(key=lambda c: STAGES.index(c.stage))
    roles = [h.role for h in look.chain.hops]
    return [replace(c, hop=_hop_of_role(roles, HOP_OF[c.stage])) for c in found]


def first_cause(look: Evidence) -> Cause:
    """The first cause, or what is left to look at when none is known."""
    found = diagnose_item(look)
    if found:
        return found[0]
    return Cause(
        "Nothing up to the port is at fault. Look at the lamp: power, its own address and mode, the cable behind "
        "the port.",
        len(look.chain.hops) - 1,
        certain=False,
    )


def _hop_of_role(roles: list[str], role: str) -> int:
    if role in roles:
        return roles.index(role)
    order = ["level", "universe", "feed", "device", "port", "line", "lamp"]
    behind = [n for n, r in enumerate(roles) if r in order and order.index(r) <= order.index(role)]
    return behind[-1] if behind else 0


# ---- the level


def _causes_in_level(look: Evidence) -> Iterator[Cause]:
    levels = look.levels
    goto = Goto("bench", look.key)
    if levels is not None and look.is_own_sender:
        who = name_of_item(look.index.rig, look.key)
        if levels.blackout:
            words = "Blackout is on: intensity, colour and shutter go out as 0."
            yield Cause(words, stage="master", code="blackout", do="Take the blackout away.", goto=goto)
            return
        if levels.master == 0:
            words = "The master is at 0: whatever follows it goes out as 0."
            yield Cause(words, stage="master", code="master", do="Raise the master.", goto=goto)
            return
        if levels.only and look.key not in levels.only and look.key not in levels.test_items:
            words = f"Only others are driven: {who} is not among them."
            yield Cause(words, stage="master", code="only", do="Let everything go out again.", goto=goto)
            return
    if look.is_own_sender and not look.index.spans_of(look.key):
        return  # nothing goes out for it; that is the patch's fault, said there
    dark = dark_by(look.index, look.key, look.frame_sent)
    if dark:
        testing = levels is not None and look.key in levels.test_items
        more = "A test cycle holds it." if testing else ""
        do = "End the test." if testing else "Light it up." if look.is_own_sender else "Raise it at whoever sends."
        yield Cause(dark, stage="level", code="dark", proof=more, do=do, goto=goto)
    strobe = _say_strobe(look)
    if strobe:
        yield Cause(strobe, stage="level", code="strobe", do="Open the shutter.", goto=goto)


def _say_strobe(look: Evidence) -> str:
    for c, value in channel_values(look.index, look.key, look.frame_sent):
        for r in c.ranges:
            if r.first <= value <= r.last and r.does in ("strobe", "pulse", "random"):
                return f"Its {word_for(c.function)} stands at {value}, “{r.name}”: it flickers on purpose."
    return ""


# ---- the plan


def _causes_in_findings(look: Evidence) -> Iterator[Cause]:
    """What the checks say of this item, its universe, its feed, its port or its device."""
    device, label = look.port_ref
    feeds = set(feeds_of(look.index.rig, look.universe_of_item)) if look.universe_of_item else set()
    for f in look.report.findings:
        stage = RULES[f.code].stage
        if stage and _is_about_item(f, look, device, label, feeds):
            do = f.possible_fixes[0].label if f.possible_fixes else ""
            if f.code == "PATCH-01" and not _is_spoiled(look):
                stage = "lamp"  # worth knowing; what this lamp gets is what is meant for it all the same
            yield Cause(f"{f.title}.", stage=stage, code=f.code, proof=f.reason, do=do, goto=f.goes_to, finding=f)


def _is_spoiled(look: Evidence) -> bool:
    """Whether something else writes other levels onto the slots of a lamp than are held for it."""
    levels, fixture = look.levels, look.index.rig.fixtures.get(look.key)
    if levels is None or fixture is None or not look.is_own_sender or look.key in levels.test_items:
        return True
    for c, value in channel_values(look.index, look.key, look.frame_sent):
        function, _ = turned_function(fixture, function_key(c), 0.0)
        held = levels.held.get((look.key, function))
        if (look.key, function) in levels.moving:
            continue
        if held is None and family_of(c.function) not in ("intensity", "shutter"):
            continue  # a zoom or a wheel that stands elsewhere makes nothing dark
        want = (
            c.default if held is None else round(turned_function(fixture, function_key(c), held)[1] * c.highest_value)
        )
        if value != want and not (fixture.turns and held is None):
            return True
    return False


def _is_about_item(f: Finding, look: Evidence, device: str, label: str, feeds: set[str]) -> bool:
    if look.key in f.items:
        return True
    if f.items and f.code.startswith("PATCH-"):
        return False
    kind, key = f.goes_to.kind, f.goes_to.id
    if kind == "device":
        return bool(device) and key == device and f.code.startswith(("DEV-", "RUN-22"))
    if kind in ("port", "run"):
        return bool(device) and (key, f.goes_to.port) == (device, label)
    if kind == "feed":
        rig = look.index.rig
        other = rig.feeds.get(key)
        mine = {(rig.feeds[f].protocol, rig.feeds[f].wire) for f in feeds}
        return key in feeds or (f.code == "FEED-01" and other is not None and (other.protocol, other.wire) in mine)
    if kind == "universe":
        return bool(look.universe_of_item) and key == look.universe_of_item and f.code.startswith("FEED-")
    return False


def _causes_in_patch(look: Evidence) -> Iterator[Cause]:
    roles = [h.role for h in look.chain.hops]
    who = name_of_item(look.index.rig, look.key)
    if roles[-1] == "universe":
        words = f"{who} has no address, so no level ever reaches it."
        yield Cause(
            words, stage="patch", code="no address", do="Give it an address in Patch.", goto=Goto("patch", look.key)
        )
    use = look.index.rig.uses.get(look.index.rig.use)
    if use and any(j.why is Reason.SWITCHED_OFF for j in look.chain.joints):
        words = f"Its universe is switched off in the use “{use.name}”: nothing of it is sent."
        yield Cause(
            words,
            stage="use",
            code="use",
            do="Switch it on under Senders, or end the use.",
            goto=Goto("use", look.index.rig.use),
        )


# ---- from the feed to the wire


def _causes_in_feed(look: Evidence) -> Iterator[Cause]:
    rig = look.index.rig
    if not look.universe_of_item:
        return
    feeds = feeds_of(rig, look.universe_of_item)
    number = rig.universes[look.universe_of_item].number
    if not feeds:
        words = f"Feed: nothing carries this universe. Universe {number} has no feed."
        yield Cause(
            words, stage="feed", code="no feed", do="Add a feed in Patch.", goto=Goto("universe", look.universe_of_item)
        )
        return
    if look.levels is not None and not look.is_own_sender and any(k == look.key for k, _ in look.levels.held):
        sender = rig.senders[rig.feeds[feeds[0]].sender].name
        words = f"Universe {number} is fed by {sender}, not by the Bench: what you hold does not go out."
        yield Cause(
            words, stage="feed", code="not ours", do="Borrow the universe on the Bench.", goto=Goto("bench", look.key)
        )


def _causes_in_arming(look: Evidence) -> Iterator[Cause]:
    if look.is_own_sender and not look.armed:
        words = "Output is not armed: nothing leaves this computer."
        yield Cause(
            words, stage="armed", code="armed", do="Arm with the switch in the head.", goto=Goto("bench", look.key)
        )
    elif look.is_own_sender and look.trouble:
        words = f"{look.trouble[:1].upper()}{look.trouble[1:]}."
        yield Cause(
            words, stage="leaving", code="trouble", do="Choose an interface under Output.", goto=Goto("bench", "")
        )
    elif look.is_own_sender:
        for n, joint in enumerate(look.chain.joints):
            if joint.why is Reason.KEPT_BACK:
                hop = look.chain.hops[n + 1]
                words = f"{hop.value} does not leave this computer: {joint.word_for_joint}."
                yield Cause(words, stage="leaving", code="stuck", proof=joint.word_for_joint, goto=hop.goes_to)


def _causes_on_wire(look: Evidence) -> Iterator[Cause]:
    """Who sends on the wire universe of the item, and whether that is what was meant."""
    rig = look.index.rig
    feeds = [rig.feeds[f] for f in feeds_of(rig, look.universe_of_item)] if look.universe_of_item else []
    feeds = [f for f in feeds if PROTOCOLS[f.protocol].has_universe_numbers]
    if not look.listening or not feeds or (look.is_own_sender and not look.armed):
        return
    seen = [s for s, _ in look.sources if not s.preview]
    feed = feeds[0]
    wire = say_wire(feed.protocol, feed.wire)
    goto = Goto("feed", next(k for k, f in rig.feeds.items() if f is feed))
    heard_here = feed.to in ("multicast", "broadcast")
    if not look.is_own_sender and not seen and heard_here:
        sender = rig.senders[feed.sender].name
        preview = any(s.preview for s, _ in look.sources)
        words = f"{sender} sends {wire} for preview only." if preview else f"Nobody sends {wire}: {sender} is silent."
        yield Cause(
            words, stage="wire", code="preview" if preview else "silent sender", goto=goto, do=f"Start {sender}."
        )
        return
    above = [s for s in seen if not s.own and PROTOCOLS[s.protocol].has_priority and s.priority > feed.priority]
    if above:
        s = max(above, key=lambda s: s.priority)
        mine = "the Bench" if look.is_own_sender else rig.senders[feed.sender].name
        rank = f"priority {s.priority}: receivers follow it, not {mine} ({feed.priority})"
        words = f"{name_of_source(s)} sends {wire} too, at {rank}."
        if look.is_own_sender or (rig.senders[feed.sender].name != s.name):
            proof = f"Heard at {s.rate:.0f} frames a second."
            yield Cause(
                words, stage="wire", code="overridden", proof=proof, do=f"Close {name_of_source(s)}.", goto=goto
            )
    leading = rival_sources(seen)
    if leading and not all(s.own for s in leading):
        others = [s for s in leading if not s.own] if any(s.own for s in leading) else list(leading)
        names = " and ".join(name_of_source(s) for s in others[:3])
        words = (
            f"{names} {'send' if len(others) > 1 else 'sends'} {wire} too, at the same rank: receivers merge, or jump."
        )
        yield Cause(words, stage="wire", code="rival", do=f"Close {name_of_source(others[0])}.", goto=goto)
    for s in seen:
        limit = PROTOCOLS[s.protocol].lost_after
        if s.gap > limit:
            who = "The Bench" if s.own else name_of_source(s)
            words = f"{who} was silent for {s.gap:.1f} s on {wire}: receivers lose it after {limit:g} s."
            yield Cause(words, stage="wire", code="gap", do="Send it all the time, or with keep-alive.", goto=goto)
        if s.lost > 0.02 * max(50, s.frames):
            words = f"{s.lost} of {s.frames + s.lost} frames of {wire} were lost on the way: it flickers or stutters."
            yield Cause(words, stage="wire", code="lost", do="Look at the switch and the wireless way.", goto=goto)
    if look.is_own_sender and look.settled and not above and not leading:
        yield from _not_as_meant(look, wire, goto)


def _not_as_meant(look: Evidence, wire: str, goto: Goto) -> Iterator[Cause]:
    for span in look.index.spans_of(look.key):
        if span.universe != look.universe_of_item:
            continue
        meant, heard = look.meant(span.universe), look.wire(span.universe)
        cut = slice(span.first - 1, min(span.last, SLOTS))
        if meant is not None and heard is not None and meant[cut] != heard[cut][: len(meant[cut])]:
            n = (
                next(i for i, (a, b) in enumerate(zip(meant[cut], heard[cut])) if a != b)
                if len(heard) > cut.start
                else 0
            )
            words = f"Other levels are on the wire than were meant: slot {span.first + n} of {wire}."
            yield Cause(words, stage="wire", code="other levels", goto=goto, do="See on the Wire page who sends there.")
            return


# ---- the device


def _causes_in_device(look: Evidence) -> Iterator[Cause]:
    roles = [h.role for h in look.chain.hops]
    for n, joint in enumerate(look.chain.joints):
        hop = look.chain.hops[n + 1]
        if hop.role != "device":
            continue
        if joint.why is Reason.NOBODY_TAKES_IT:
            words = "Device: no port takes this feed."
            yield Cause(
                words, stage="device", code="no port", do="Give the feed to a port in Devices.", goto=hop.goes_to
            )
        elif joint.why is Reason.SENT_ELSEWHERE:
            words = f"The feed goes {joint.sends}; {hop.value} is at {joint.takes}."
            yield Cause(
                words, stage="device", code="sent elsewhere", do="Send it to the device's address.", goto=hop.goes_to
            )
        elif joint.why in (Reason.SILENT, Reason.NOT_HEARD) and look.listening:
            words = f"Device: {hop.fact or joint.word_for_joint}."
            do = "Find it… in Devices tests why."
            yield Cause(
                words, stage="device", code="silent", proof=f"{hop.value} does not answer.", do=do, goto=hop.goes_to,
                fixes=(Fix(f"Find {hop.value}…", find=hop.goes_to.id),),
            )  # fmt: skip
    if "port" not in roles:
        return
    device, label = look.port_ref
    rig = look.index.rig
    lines = compare_device(look.index, look.observed, device, look.now)
    yield from _causes_in_port(look, device, label, lines)
    yield from _causes_in_settings(look, device, label, lines)
    said = look.observed.said.get(rig.devices[device].ip)
    if said and said.test and is_recent(look.observed, said.at, look.now):
        words = f"{rig.devices[device].name} shows its on-board test “{said.test}” instead of what is sent."
        yield Cause(
            words,
            stage="test pattern",
            code="test",
            do="End the test in Devices.",
            goto=Goto("device", device),
            fixes=(Fix("End the test", end_test=device),),
        )


def _causes_in_port(look: Evidence, device: str, label: str, lines: list[SettingLine]) -> Iterator[Cause]:
    rig = look.index.rig
    goto = Goto("port", device, label)
    name = rig.devices[device].name
    finding = next((f for f in look.report.findings if f.code == "WIRE-01" and f.goes_to == goto), None)
    off = [
        x
        for x in lines
        if x.mark == "differs" and split_owner(x.port)[0] == label and x.spec.key in ("universe", "protocol")
    ]
    for joint, hop in zip(look.chain.joints, look.chain.hops[1:]):
        if hop.role == "port" and joint.mark == "differs":
            feed = next((h.value for h in look.chain.hops if h.role == "feed"), joint.sends)
            if joint.why is Reason.OTHER_UNIVERSE:
                words = (
                    f"Port {hop.value} {joint.takes}. Your levels for {name_of_item(rig, look.key)} go out as {feed}."
                )
                yield Cause(
                    words, stage="port", code="other universe", goto=goto, do=f"Push it to {name}.", finding=finding
                )
            else:
                words = f"{name} port {label}: {joint.takes}."
                yield Cause(
                    words, stage="port", code="port", goto=goto, do="Look at the port in Devices.", finding=finding
                )
            return
    if off:
        x = off[0]
        words = f"{say_key_of(look, device, x)}."
        yield Cause(words, stage="port", code="other universe", goto=goto, do=f"Push it to {name}.", finding=finding)
        return
    heard = look.observed.heard.get(rig.devices[device].ip)
    if heard and is_recent(look.observed, heard.at, look.now) and any(p.merging for p in heard.ports if p.output):
        model = model_of(rig, device)
        port = heard_port(model, heard, label) if model else None
        if port and port.merging:
            words = f"Two sources meet at port {label} of {name}: it merges them."
            yield Cause(words, stage="port", code="merging", goto=goto, do="Close the one that should not send.")


def say_key_of(look: Evidence, device: str, x: SettingLine) -> str:
    """`Brightness of port 6 is 80 % on PENSTOCK, the plan says 100 %`."""
    rig = look.index.rig
    model = model_of(rig, device)
    has = "not set" if x.reported is None else say_setting(x.spec, x.reported)
    what = say_key(model, x.key)
    name, plan = rig.devices[device].name, say_setting(x.spec, x.plan)
    return f"{what[:1].upper()}{what[1:]} is {has} on {name}, the plan says {plan}"


def _causes_in_settings(look: Evidence, device: str, label: str, lines: list[SettingLine]) -> Iterator[Cause]:
    """What the device has otherwise than planned, of what changes this item's light."""
    mine = _segments_before(look, device, label)
    by_subject = {f.subject: f for f in look.report.findings if f.code == "DEV-04"}
    for x in lines:
        if x.mark != "differs" or x.spec.key not in LIGHT_KEYS or x.spec.key in ("universe", "protocol"):
            continue
        owner, number = split_owner(x.port)
        if owner not in ("", label) or (number and number not in mine):
            continue
        words = f"{say_key_of(look, device, x)}."
        finding = by_subject.get(f"{device}/{x.key}")
        yield Cause(
            words,
            stage="settings",
            code=x.key,
            proof="The device says so itself.",
            do="Push the plan's value.",
            goto=Goto("port", device, label) if owner else Goto("device", device),
            finding=finding,
        )


def _segments_before(look: Evidence, device: str, label: str) -> set[int]:
    """The segments of the port up to the one the item is on, from 1: a wrong count of any of them moves it."""
    on = [
        p.n
        for stream, p in look.index.cables_and_sums.on_runs(look.key)
        if (stream.device_id, stream.label) == (device, label)
    ]
    return set(range(1, max(on) + 2)) if on else set()


def _causes_in_output(look: Evidence) -> Iterator[Cause]:
    """What was seen to leave the port, held against what was sent there."""
    if look.is_own_sender and not (look.armed and look.settled):
        return
    for n, joint in enumerate(look.chain.joints):
        hop = look.chain.hops[n + 1]
        if hop.role in ("segment", "bridge", "converter") and joint.mark == "differs":
            words = f"{hop.role.capitalize()} {hop.value}: {joint.sends}, {joint.takes}."
            yield Cause(
                words, stage="output", code="output", proof="The device tells what leaves its port.", goto=hop.goes_to
            )
            return
    device, label = look.port_ref
    span = look.index.span_of_break(look.key)
    wire = look.wire(look.universe_of_item) if look.universe_of_item else None
    if (
        device
        and span
        and wire is not None
        and look.port is not None
        and not look.index.cables_and_sums.on_runs(look.key)
    ):
        cut = _slice_of_span(span)
        if look.port[cut] != wire[cut]:
            at = next((i for i, (a, b) in enumerate(zip(wire[cut], look.port[cut])) if a != b), 0)
            name = look.index.rig.devices[device].name
            gives, sent = look.port[cut][at], wire[cut][at]
            words = f"Port {label} of {name} puts out {gives} on slot {span.first + at}, sent was {sent}."
            yield Cause(
                words, stage="output", code="output", goto=Goto("port", device, label), do="Look for a second source."
            )


def _slice_of_span(span: Span) -> slice:
    return slice(span.first - 1, min(span.last, SLOTS))


# ---- the lamp


def _causes_in_lamp(look: Evidence) -> Iterator[Cause]:
    if look.key not in look.index.rig.fixtures or any(f.code == "PATCH-17" for f in look.report.findings):
        return
    for step in steps_to_repeat(look.index, look.key):
        words = f"{step.number} was set to {step.was}, the plan says {step.value}."
        yield Cause(words, stage="lamp", code="set before", do="Set it anew.", goto=Goto("item", look.key))


_TESTS: tuple[Callable[[Evidence], Iterator[Cause]], ...] = (
    _causes_in_level,
    _causes_in_patch,
    _causes_in_feed,
    _causes_in_arming,
    _causes_on_wire,
    _causes_in_device,
    _causes_in_output,
    _causes_in_findings,
    _causes_in_lamp,
)
