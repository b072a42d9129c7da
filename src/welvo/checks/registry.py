"""What a finding is, and the registry of rules that make them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

from welvo.observed.values import Observed
from welvo.patch.index import Index
from welvo.patch.traffic import Traffic, traffic, traffic_facts
from welvo.rig.document import Change, Edit, Rig
from welvo.rig.protocol import PROTOCOLS
from welvo.rig.wiring import Feed
from welvo.runs.power import Load, loads

Severity = Literal["error", "warning", "note"]
Scope = Literal["universe", "thing", "profile", "use", "feed", "device", "port", "rig"]
"""`profile` rules look at a profile alone, `use` rules at a profile and who uses it; a `port` is `DEVICE LABEL`."""
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")


@dataclass(frozen=True)
class Fix:
    """A way to put a finding right: an edit of the rig, or a push of planned values to a device.

    `changes` is the preview: (thing, old, new). `edit` gives the new rig; `push` names (device id, setting keys).
    """

    label: str
    changes: tuple[tuple[str, str, str], ...] = ()
    edit: Callable[[Rig], Edit] | None = None
    push: tuple[str, tuple[str, ...]] | None = None


@dataclass(frozen=True)
class Finding:
    """One finding. `subject` names its place for waivers; `goes_to` is (kind, id) of where it is put right."""

    code: str
    severity: Severity
    subject: str
    where: str
    title: str
    reason: str
    facts: dict[str, str | int] = field(default_factory=dict)
    cause: str = ""
    goes_to: tuple[str, str] = ("", "")
    things: tuple[str, ...] = ()
    mend: Callable[[], list[Fix]] | None = field(default=None, compare=False, repr=False)
    """Works out the fixes when somebody looks at them: finding a free place for each of many clashes takes time."""

    @property
    def fixes(self) -> tuple[Fix, ...]:
        """The ways to put it right, for the rig as it is now; the best one first."""
        return tuple(self.mend()) if self.mend else ()

    @property
    def fingerprint(self) -> str:
        """The facts as one line: a waiver is bound to it and wakes when it changes."""
        return "; ".join(f"{k}={v}" for k, v in sorted(self.facts.items()))


def just(*fixes: Fix) -> Callable[[], list[Fix]]:
    """Fixes that are known already, as a finding wants them."""
    return lambda: list(fixes)


@dataclass(frozen=True)
class Context:
    """What a rule looks at. Tables that many rules ask for are made once, when the first asks."""

    rig: Rig
    index: Index
    observed: Observed
    now: float

    def after(self, rig: Rig) -> Context:
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
            if PROTOCOLS[feed.protocol].numbered:
                found.setdefault((feed.protocol, feed.wire), []).append(fid)
        return found

    @cached_property
    def ports_by_feed(self) -> dict[str, list[tuple[str, str]]]:
        """(device, port) of the ports planned to take each feed, and of those whose streams run on into it."""
        found: dict[str, list[tuple[str, str]]] = {}
        for did, device in self.rig.devices.items():
            for label, port in device.ports.items():
                if port.feed:
                    found.setdefault(port.feed, []).append((did, label))
        numbers = {u.number: uid for uid, u in self.rig.universes.items()}
        for key, stream in self.index.cables.streams.items():
            for number, _ in stream.used:
                for fid in self.feeds_by_universe.get(numbers.get(number, ""), ()):
                    if key not in (ports := found.setdefault(fid, [])):
                        ports.append(key)
        return found

    @cached_property
    def loads(self) -> list[Load]:
        return loads(self.index.cables)

    @cached_property
    def doubled(self) -> list[str]:
        """Feeds that have their number on the wire in common with another."""
        return [fid for fids in self.feeds_by_wire.values() if len(fids) > 1 for fid in fids]

    def feeds_like(self, wanted: Callable[[Feed], object]) -> list[str]:
        return [fid for fid, feed in self.rig.feeds.items() if wanted(feed)]

    @cached_property
    def traffic(self) -> Traffic:
        facts = traffic_facts(self.index)
        self.__dict__["_traffic_facts"] = facts
        before = self.__dict__.get("_traffic_before")
        return before[1] if before and before[0] == facts else traffic(self.index)


Check = Callable[[Context, str], Iterator[Finding]]
Among = Callable[[Context], Iterable[str]]
Touched = Callable[[Rig, Rig, Change], bool]


@dataclass(frozen=True)
class Rule:
    """A registered rule; its text is the documentation (`docs/findings.md` is generated from it)."""

    code: str
    severity: Severity
    scope: Scope
    title: str
    means: str
    matters: str
    put_right: str
    check: Check
    live: bool = False
    """True when the rule reads what was observed, so that it runs again when the network changes."""
    among: Among | None = None
    """The only subjects that can have a finding, where the index knows them: the others are not even asked."""
    touched: Touched | None = None
    """For rules about the whole rig: whether a change from one rig to another can matter to it."""


RULES: dict[str, Rule] = {}


def rule(
    code: str,
    severity: Severity,
    scope: Scope,
    title: str,
    means: str,
    matters: str,
    put_right: str,
    live: bool = False,
    among: Among | None = None,
    touched: Touched | None = None,
) -> Callable[[Check], Check]:
    def register(check: Check) -> Check:
        if code in RULES:
            raise ValueError(f"{code} is registered twice")
        RULES[code] = Rule(code, severity, scope, title, means, matters, put_right, check, live, among, touched)
        return check

    return register
