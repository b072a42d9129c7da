"""What a finding is, and the registry of rules that make them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal, NamedTuple

from welvo.matching.lamps import LampPair, pairs_on_port, searched_ports
from welvo.observed.values import Observed, SourceSeen
from welvo.patch.index import Index, Taker
from welvo.rig.document import Change, Edit, Rig
from welvo.rig.protocol import PROTOCOLS, Protocol
from welvo.rig.refs import BUS, NOWHERE, Goto, PortRef, to_run
from welvo.rig.wiring import Feed, Port
from welvo.runs.cable import PortStream
from welvo.runs.claims import Claim
from welvo.runs.power import Load, loads_of_supplies
from welvo.survey.traffic import Traffic, traffic_facts, traffic_of_rig
from welvo.survey.wires import ports_by_feed

Severity = Literal["error", "warning", "note"]
Scope = Literal["universe", "item", "profile", "use", "feed", "device", "port", "rig"]
"""`profile` rules look at a profile alone, `use` rules at a profile and who uses it. A rule about `port`s is given the
port with its stream, every other one the id of its subject."""
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")
Stage = Literal[
    "master", "patch", "level", "use", "feed", "armed", "leaving", "wire", "device", "test pattern", "port", "settings",
    "run", "output", "line", "lamp",
]  # fmt: skip
"""Where light can be lost on its way to the lamp, in the order in which it travels."""


@dataclass(frozen=True)
class Fix:
    """A way to put a finding right: an edit of the rig, a push of planned values to a device, to a lamp by RDM,
    or a search for a device.

    `changes` is the preview: (item, old, new). `edit` gives the new rig; `push` names (device id, setting keys), `lamp`
    a port, the UID of a lamp that answers there, and which of its settings.
    """

    label: str
    changes: tuple[tuple[str, str, str], ...] = ()
    edit: Callable[[Rig], Edit] | None = None
    push: tuple[str, tuple[str, ...]] | None = None
    lamp: tuple[PortRef, int, str] | None = None
    find: str = ""
    """A device that is to be looked for, test by test."""
    end_test: str = ""
    """A device whose on-board test is to be ended."""


Fixes = Iterable[Fix] | Callable[[], Iterable[Fix]]


@dataclass(frozen=True)
class Found:
    """What a rule says when it finds something: the facts, and nothing that its declaration says already.

    `subject` names the place for waivers, where it is not simply what the rule was asked about; `where` names it for
    the eye. `cause` is the one item that this and other findings come from; without it the rule's group stands there.
    Fixes that take work (a free place for each of many clashes) are given as a function, called when somebody looks.
    """

    title: str
    reason: str
    where: str
    facts: dict[str, str | int] = field(default_factory=dict)
    subject: str = ""
    cause: str = ""
    goes_to: Goto = NOWHERE
    items: tuple[str, ...] = ()
    fixes: Fixes = ()


def goto_of(taker: Taker) -> Goto:
    """Where to go for what takes slots: an item, or a segment on its cable."""
    if isinstance(taker, str):
        return Goto("item", taker)
    return Goto("bus", taker.device, taker.port) if taker.place == BUS else to_run(*taker)


def subject_of(taker: Taker) -> str:
    """What takes slots, as a part of a finding's subject."""
    if isinstance(taker, str):
        return taker
    return f"{PortRef(taker.device, taker.port)} {'bus' if taker.place == BUS else taker.place + 1}"


@dataclass(frozen=True)
class Finding:
    """One finding of a rig: what its rule declares, and what the rule found. `goes_to` is where it is put right."""

    code: str
    severity: Severity
    subject: str
    where: str
    title: str
    reason: str
    facts: dict[str, str | int] = field(default_factory=dict)
    cause: str = ""
    goes_to: Goto = NOWHERE
    items: tuple[str, ...] = ()
    universe: str = ""
    """The universe it was found in, for rules that look at universes."""
    made_fixes: Fixes = field(default=(), compare=False, repr=False)

    @property
    def possible_fixes(self) -> tuple[Fix, ...]:
        """The ways to put it right, for the rig as it is now; the best one first."""
        return tuple(self.made_fixes() if callable(self.made_fixes) else self.made_fixes)

    @property
    def fingerprint_of_facts(self) -> str:
        """The facts as one line: a waiver is bound to it and wakes when it changes."""
        return "; ".join(f"{k}={v}" for k, v in sorted(self.facts.items()))


class PortHere(NamedTuple):
    """A port as a rule about ports is given it: what it is called, what is planned there, and its stream.

    `stream` is None where the port puts out no pixels, or nothing is planned for it.
    """

    ref: PortRef
    name: str
    port: Port
    stream: PortStream | None


@dataclass(frozen=True)
class Context:
    """What a rule looks at. Tables that many rules ask for are made once, when the first asks."""

    rig: Rig
    index: Index
    observed: Observed
    now: float

    def context_after(self, rig: Rig) -> Context:
        """The context of the next rig; tables over parts that are the same objects are taken along."""
        made = Context(rig, self.index, self.observed, self.now)
        keep: list[str] = []
        if rig.feeds is self.rig.feeds:
            keep += ["feeds_by_universe", "feeds_by_wire", "doubled"]
        made.__dict__.update({k: self.__dict__[k] for k in keep if k in self.__dict__})
        if "traffic" in self.__dict__:
            made.__dict__["_traffic_before"] = (self.__dict__["_traffic_facts"], self.__dict__["traffic"])
        elif "_traffic_before" in self.__dict__:
            made.__dict__["_traffic_before"] = self.__dict__["_traffic_before"]
        return made

    @cached_property
    def sources_by_wire(self) -> dict[tuple[Protocol, int], list[SourceSeen]]:
        """Who is heard on each number on the wire, in order of protocol and number."""
        found: dict[tuple[Protocol, int], list[SourceSeen]] = {}
        for s in self.observed.sources:
            found.setdefault((s.protocol, s.wire), []).append(s)
        return dict(sorted(found.items()))

    @cached_property
    def claims_by_device(self) -> dict[str, dict[int, list[Claim]]]:
        """What the ports of a device want, by device and universe; filled by the rules that ask for it."""
        return {}

    @cached_property
    def feeds_by_universe(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for fid, feed in self.rig.feeds.items():
            found.setdefault(feed.universe, []).append(fid)
        return found

    @cached_property
    def feeds_by_wire(self) -> dict[tuple[str, int], list[str]]:
        """Feeds by protocol and number on the wire, in order of entry. Serial lines are each sender's own."""
        found: dict[tuple[str, int], list[str]] = {}
        for fid, feed in self.rig.feeds.items():
            if PROTOCOLS[feed.protocol].has_universe_numbers:
                found.setdefault((feed.protocol, feed.wire), []).append(fid)
        return found

    @cached_property
    def ports_by_feed(self) -> dict[str, list[PortRef]]:
        """The ports planned to take each feed, and those whose streams run on into it."""
        return ports_by_feed(self.index)

    @cached_property
    def lamp_ports(self) -> dict[str, list[str]]:
        """The ports that were searched for lamps by RDM, by device."""
        found: dict[str, list[str]] = {}
        for ref in searched_ports(self.rig, self.observed):
            found.setdefault(ref.device, []).append(ref.port)
        return found

    def lamps_of_device(self, device_id: str) -> dict[str, list[LampPair]]:
        """What was found by RDM beside what is planned, by searched port of a device."""
        if device_id not in self._lamps_by_device:
            labels = self.lamp_ports.get(device_id, ())
            self._lamps_by_device[device_id] = {
                x: pairs_on_port(self.index, self.observed, PortRef(device_id, x)) for x in labels
            }
        return self._lamps_by_device[device_id]

    @cached_property
    def _lamps_by_device(self) -> dict[str, dict[str, list[LampPair]]]:
        return {}

    @cached_property
    def loads_of_supplies(self) -> list[Load]:
        return loads_of_supplies(self.index.cables_and_sums)

    @cached_property
    def doubled_feeds(self) -> list[str]:
        """Feeds that have their number on the wire in common with another."""
        return [fid for fids in self.feeds_by_wire.values() if len(fids) > 1 for fid in fids]

    def feeds_like(self, wanted: Callable[[Feed], object]) -> list[str]:
        return [fid for fid, feed in self.rig.feeds.items() if wanted(feed)]

    @cached_property
    def traffic_of_rig(self) -> Traffic:
        facts = traffic_facts(self.index)
        self.__dict__["_traffic_facts"] = facts
        before = self.__dict__.get("_traffic_before")
        return before[1] if before and before[0] == facts else traffic_of_rig(self.index)

    def port_name(self, ref: PortRef) -> str:
        return f"{self.rig.devices[ref.device].name} · {ref.port}"

    def port_here(self, ref: PortRef) -> PortHere:
        return PortHere(
            ref,
            self.port_name(ref),
            self.rig.devices[ref.device].ports[ref.port],
            self.index.cables_and_sums.streams.get(ref),
        )


Subject = str | PortRef
Check = Callable[[Context, Any], Iterator[Found]]
Candidates = Callable[[Context], Iterable[Subject]]
Touched = Callable[[Rig, Rig, Change], bool]


@dataclass(frozen=True)
class Rule:
    """A registered rule. What it declares is said nowhere else: findings take code, severity and group from here, and
    `docs/findings.md` is this registry printed."""

    code: str
    severity: Severity
    scope: Scope
    group: str
    title: str
    means: str
    matters: str
    put_right: str
    check: Check
    stage: Stage | None = None
    """Where what it finds keeps light from a lamp. None: it does not, or the walk to the lamp has a test of its own for
    the same facts."""
    live: bool = False
    """True when the rule reads what was observed, so that it runs again when the network changes."""
    candidates: Candidates | None = None
    """The only subjects that can have a finding, where the index knows them: the others are not even asked."""
    touched: Touched | None = None
    """For rules about the whole rig: whether a change from one rig to another can matter to it."""
    for_all: str = ""
    """What the first fixes of {n} of its findings do together, where each stands on its own; empty: they may not."""

    def findings_about(self, ctx: Context, subject: Subject) -> tuple[Finding, ...]:
        """What the rule finds about one subject."""
        asked = ctx.port_here(subject) if isinstance(subject, PortRef) else subject
        return tuple(
            Finding(
                code=self.code,
                severity=self.severity,
                subject=found.subject or str(subject),
                where=found.where,
                title=found.title,
                reason=found.reason,
                universe=str(subject) if self.scope == "universe" else "",
                facts=found.facts,
                cause=found.cause or self.group,
                goes_to=found.goes_to,
                items=found.items,
                made_fixes=found.fixes,
            )
            for found in self.check(ctx, asked)
        )


RULES: dict[str, Rule] = {}


def declare_rule(
    code: str,
    *,
    severity: Severity,
    scope: Scope,
    group: str,
    title: str,
    means: str,
    matters: str,
    put_right: str,
    stage: Stage | None = None,
    live: bool = False,
    candidates: Candidates | None = None,
    touched: Touched | None = None,
    for_all: str = "",
) -> Callable[[Check], Check]:
    """Declare a rule. A code is given once and never to another rule: waivers in rig files are bound to it."""

    def register(check: Check) -> Check:
        if code in RULES:
            raise ValueError(f"{code} is registered twice")
        RULES[code] = Rule(
            code,
            severity=severity,
            scope=scope,
            group=group,
            title=title,
            means=means,
            matters=matters,
            put_right=put_right,
            check=check,
            stage=stage,
            live=live,
            candidates=candidates,
            touched=touched,
            for_all=for_all,
        )
        return check

    return register
