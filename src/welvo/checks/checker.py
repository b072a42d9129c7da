"""Runs the rules, all at once or only where a change may have made a difference.

Findings are shown while an edit is still under the hand, so most edits must not ask every rule about everything. A
rule has a scope (universe, item, port, profile, feed, device, the rig), and findings are kept by rule and subject. An
edit says which entries it touched, the index says what moved because of that, and `follow_edit` works out from both
which subjects of each scope can have another answer now: it may ask too many, never too few. A property test holds it
against a checker that asks everything. Two ports of a device that go through one universe can take the same slots, so
touching one asks the other as well; for that the universes of each port before the edit are remembered.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec import Struct

import welvo.checks.attach_rules
import welvo.checks.bus_rules
import welvo.checks.clash_rules
import welvo.checks.device_rules
import welvo.checks.feed_rules
import welvo.checks.lamp_rules
import welvo.checks.line_rules
import welvo.checks.patch_rules
import welvo.checks.profile_rules
import welvo.checks.run_rules
import welvo.checks.sender_rules  # noqa: F401  (importing registers the rules)
from welvo.buses.plan import bus_of
from welvo.checks.registry import RULES, SEVERITIES, Context, Finding, Scope, Subject
from welvo.matching.lamps import LINE
from welvo.observed.presence import is_recent
from welvo.observed.values import NOTHING, Observed
from welvo.patch.index import Followed, Index
from welvo.protocols.rdm import say_uid
from welvo.rig.document import Change, Rig
from welvo.rig.notation import quick_sort_key
from welvo.rig.refs import PortRef
from welvo.runs.cable import Cables


class Report(Struct, frozen=True):
    """Findings in force, by severity then place, and those that are waived."""

    findings: tuple[Finding, ...]
    waived: tuple[tuple[Finding, str], ...]

    def count_findings(self, severity: str) -> int:
        return sum(f.severity == severity for f in self.findings)

    @property
    def codes_found(self) -> set[str]:
        return {f.code for f in self.findings}


def subjects_of_scope(rig: Rig, scope: Scope) -> list[Any]:
    """What the rules of a scope are asked about: ids, and for ports their references."""
    if scope == "universe":
        return list(rig.universes)
    if scope == "item":
        return [*rig.fixtures, *rig.elements]
    if scope in ("profile", "use"):
        return list(rig.profiles)
    if scope == "feed":
        return list(rig.feeds)
    if scope == "device":
        return list(rig.devices)
    if scope == "port":
        return [PortRef(device_id, label) for device_id, d in rig.devices.items() for label in d.ports]
    return [""]


def _universes_of_ports(cables: Cables) -> dict[PortRef, set[int]]:
    """The universes that each port's stream goes through, or is configured to."""
    return {
        k: {n for n, _ in s.used} | (set(range(s.start[0], s.ends[0] + 1)) if s.start and s.ends else set())
        for k, s in cables.streams.items()
    }


def _seen_of(rig: Rig, observed: Observed, device_id: str, now: float) -> tuple[object, ...]:
    """All that a rule about a device can read of what was seen: equal facts give equal findings."""
    d = rig.devices[device_id]
    heard, told = observed.heard.get(d.ip), observed.said.get(d.ip)
    return (
        d,
        observed.listening,
        observed.network,
        (heard.name, heard.mac, heard.macs, heard.ports, is_recent(observed, heard.at, now)) if heard else None,
        (told.active, told.waits, told.test, told.mac, is_recent(observed, told.at, now)) if told else None,
        observed.results.get(device_id),
        [(at, lamps) for at, lamps in observed.lamps.items() if at[0] in (d.ip, LINE)],
        [(at, seen) for at, seen in observed.buses.items() if at[0] == d.ip],
    )


MANY = 200
"""Subjects of a rule, from which on it is asked about its likely ones only."""


def _subjects_that_are(rig: Rig, items: set[str]) -> dict[str, set[Any]]:
    """What there is in a rig for each scope; of items, where few are asked about, these only."""
    return {
        "universe": set(rig.universes),
        "item": set(rig.fixtures) | set(rig.elements)
        if len(items) > 50
        else {t for t in items if t in rig.fixtures or t in rig.elements},
        "profile": set(rig.profiles),
        "use": set(rig.profiles),
        "feed": set(rig.feeds),
        "device": set(rig.devices),
        "rig": {""},
        "port": set(subjects_of_scope(rig, "port")),
    }


class Checker:
    """Keeps the findings of a rig. `follow_edit` re-checks only what an edit or a new observation can have touched."""

    def __init__(self, index: Index, observed: Observed = NOTHING, now: float = 0.0) -> None:
        self.context = Context(index.rig, index, observed, now)
        self._found: dict[str, dict[Subject, tuple[Finding, ...]]] = {code: {} for code in RULES}
        """What each rule found, by what it was asked about."""
        self._report: Report | None = None
        self._seen: dict[str, tuple[object, ...]] = {}
        """What was seen of each device when its rules last ran: of two hundred, mostly none says anything new."""
        self._near = _universes_of_ports(index.cables_and_sums)
        self._left = self._near
        """Universes that each port's stream went through when it was last looked at."""
        everything = {
            scope: subjects_of_scope(index.rig, scope)
            for scope in ("universe", "item", "profile", "use", "feed", "device", "port", "rig")
        }
        self._run_rules(everything, narrow=True)

    def _run_rules(
        self,
        todo: dict[str, list[Any]],
        live_only: bool = False,
        narrow: bool = False,
        skip: frozenset[str] = frozenset(),
    ) -> None:
        """Ask the rules about their subjects. `narrow`: nothing was found before, so only likely ones are asked."""
        among: dict[str, set[Any]] = {}
        for code, rule in RULES.items():
            if (live_only and not rule.live) or code in skip:
                continue
            wanted = todo.get(rule.scope, ())
            known = self._found[code]
            asked: Iterable[Any] = wanted
            if rule.candidates and (narrow or len(wanted) > MANY):
                asked = rule.candidates(self.context)
                if not narrow:  # of many, most cannot have a finding: what they had goes without asking
                    if rule.scope not in among:
                        among[rule.scope] = set(wanted)
                    here = among[rule.scope]
                    asked = [x for x in asked if x in here]
                    for subject in [x for x in known if x in here]:
                        del known[subject]
            for subject in asked:
                found = rule.findings_about(self.context, subject)
                if found:
                    known[subject] = found
                else:
                    known.pop(subject, None)
        self._report = None

    def follow_edit(self, change: Change, followed: Followed) -> None:
        """Take over an edit that the index has followed already."""
        before, rig = self.context.rig, self.context.index.rig
        skip = frozenset(code for code, r in RULES.items() if r.touched and not r.touched(before, rig, change))
        self.context = self.context.context_after(rig)
        touched = self._touched_subjects(before, rig, change, followed)
        alive = _subjects_that_are(rig, touched["item"])
        gone = {
            (scope, s)
            for scope, ids in {
                **touched,
                "feed": touched["feed"] | set(change.changed_ids("feeds")),
                "device": touched["device"] | set(change.changed_ids("devices")),
            }.items()
            for s in ids
            if s not in alive[scope]
        }
        for code, known in self._found.items():
            for subject in [x for x in known if (RULES[code].scope, x) in gone] if gone else ():
                del known[subject]
        self._run_rules({scope: [s for s in ids if s in alive[scope]] for scope, ids in touched.items()}, skip=skip)

    def _touched_subjects(self, before: Rig, rig: Rig, change: Change, followed: Followed) -> dict[str, set[Any]]:
        """What rules may say otherwise about after an edit, for each scope. Too many cost time, too few cost truth."""
        universes = set(followed.universes) | set(change.changed_ids("universes"))
        if change.changed_ids("shares"):
            universes |= set(rig.universes)
        came_or_went = any((d in before.devices) != (d in rig.devices) for d in change.changed_ids("devices"))
        # Who feeds what can reach everything: then all universes, feeds and devices are looked at again.
        wires = bool(
            change.changed_ids("feeds")
            or change.changed_ids("universes")
            or change.changed_ids("senders")
            or came_or_went
            or change.changed_ids("device_models")
            or change.changed_ids("uses")
            or "use" in change.changed_ids("rig")
        )
        ports = self._ports_affected(before, rig, change, followed)
        if not wires:
            universes |= self._universes_carried(before, rig, change, ports)
        feeds = set(rig.feeds) if wires else {f for f, v in rig.feeds.items() if v.universe in universes}
        if wires:
            universes |= set(rig.universes)
        items = (
            set(followed.items)
            | set(followed.on_ports)
            | set(change.changed_ids("fixtures"))
            | set(change.changed_ids("elements"))
        )
        items |= self._on_renamed(before, rig, change)
        users = {before.fixtures[f].profile for f in change.changed_ids("fixtures") if f in before.fixtures} | {
            rig.fixtures[f].profile for f in change.changed_ids("fixtures") if f in rig.fixtures
        }
        return {
            "universe": universes,
            "item": items,
            "profile": set(change.changed_ids("profiles")),
            "feed": feeds,
            "use": set(rig.profiles) | set(change.changed_ids("profiles")) if change.changed_ids("profiles") else users,
            "device": set(rig.devices)
            if wires or change.changed_ids("devices")
            else {device_id for device_id, _ in followed.ports}
            | self._giving_out(universes)
            | self._devices_asked(before, change),
            "rig": {""},
            "port": ports,
        }

    def _on_renamed(self, before: Rig, rig: Rig, change: Change) -> set[str]:
        """What is attached to devices that are called otherwise now: findings about it say where it is."""
        cables = self.context.index.cables_and_sums
        renamed = {
            d
            for d in change.changed_ids("devices")
            if d in before.devices and d in rig.devices and before.devices[d].name != rig.devices[d].name
        }
        ports = ((d, p.run) for d in renamed for p in rig.devices[d].ports.values())
        found = {k for _, run in ports for s in run for k in (s.element, *s.fixtures) if k}
        return {k for k in found if cables.ports_of_item(k)}

    def _giving_out(self, universes: set[str]) -> set[str]:
        """The devices whose ports give out some universes: what stands in these is theirs to tell about too."""
        context = self.context
        feeds = (f for uid in universes for f in context.feeds_by_universe.get(uid, ()))
        return {port[0] for fid in feeds for port in context.ports_by_feed.get(fid, ())}

    def _devices_asked(self, before: Rig, change: Change) -> set[str]:
        """The devices whose lamps were looked for and that an edit can matter to, though nothing moved: which
        responder is which depends on names, modes and UIDs as well."""
        ctx, rig = self.context, self.context.rig
        fixtures = change.changed_ids("fixtures")
        if not ctx.observed.lamps or not (fixtures or change.changed_ids("profiles")):
            return set()
        if change.changed_ids("profiles") or len(fixtures) > MANY:
            return set(ctx.lamp_ports)
        uids = {state.fixtures[k].uid for state in (before, rig) for k in fixtures if k in state.fixtures}
        ips = {ip for (ip, _), lamps in ctx.observed.lamps.items() if any(say_uid(x.uid) in uids for x in lamps)}
        spans = (ctx.index.span_of_break(k) for k in fixtures if k in rig.fixtures)
        near = self._giving_out({s.universe for s in spans if s})
        near |= {ref.device for k in fixtures for ref, _ in ctx.index.cables_and_sums.ports_of_item(k)}
        near |= set(ctx.lamp_ports) if LINE in ips else set()
        return near | {k for k, d in rig.devices.items() if d.ip in ips}

    def _universes_carried(self, before: Rig, rig: Rig, change: Change, ports: set[PortRef]) -> set[str]:
        """The universes that the ports of an edit took before, and take now: by their feeds, and by their streams."""
        found: set[str] = set()
        for device_id in change.changed_ids("devices"):
            for state in (before, rig):
                device = state.devices.get(device_id)
                for port in device.ports.values() if device else ():
                    feed = state.feeds.get(port.feed)
                    if feed:
                        found.add(feed.universe)
        numbers: set[int] = set()
        for subject in ports:
            numbers |= self._near.get(subject, set()) | self._left.get(subject, set())
        return found | {uid for uid, u in rig.universes.items() if u.number in numbers}

    def _ports_affected(self, before: Rig, rig: Rig, change: Change, followed: Followed) -> set[PortRef]:
        """The ports whose findings an edit can have changed: all of them when it touched what they have in common."""
        common = ("feeds", "universes", "senders", "device_models", "pixel_types", "supplies", "profiles", "uses")
        if any(change.changed_ids(p) for p in common) or change.changed_ids("rig"):
            self._left, self._near = self._near, _universes_of_ports(self.context.index.cables_and_sums)
            return set(subjects_of_scope(rig, "port")) | set(subjects_of_scope(before, "port"))
        found = set(followed.ports)
        for device_id in change.changed_ids("devices"):
            old, new = before.devices.get(device_id), rig.devices.get(device_id)
            if (
                old
                and new
                and all(
                    getattr(old, f) == getattr(new, f)
                    for f in ("model", "mode", "firmware", "size", "packs", "brightness", "name")
                )
            ):
                found |= {
                    PortRef(device_id, p) for p in {*old.ports, *new.ports} if old.ports.get(p) is not new.ports.get(p)
                }
            else:
                found |= {PortRef(device_id, p) for d in (old, new) if d for p in d.ports}
        cables = self.context.index.cables_and_sums
        touched = change.changed_ids("elements") | change.changed_ids("fixtures") | followed.items
        for at in self.context.index.buses:
            bus = bus_of(rig, at)
            if bus and any(g.fixture in touched for g in bus.bus.gear):
                found.add(PortRef(at.device, at.port))
        for key in touched & cables.listed_items().keys():
            found |= {ref for ref, _ in cables.ports_of_item(key)}
        # what shares a universe with them on the same device may share slots with them now, or no longer
        self._left, self._near = self._near, _universes_of_ports(cables)
        before_ = self._left
        near: dict[str, set[int]] = {}
        for subject in found:
            here = near.setdefault(subject.device, set())
            here |= self._near.get(subject, set()) | before_.get(subject, set())
        found |= {ref for ref, numbers in self._near.items() if numbers & near.get(ref.device, set())}
        return found

    def take_observations(self, observed: Observed, now: float, lamps_only: bool = False) -> None:
        """Take over what was seen; only rules that read observations run again. `lamps_only`: nothing else was seen
        than what hangs on devices, so that none but rules about devices and ports can find something else."""
        rig = self.context.rig
        self.context = Context(rig, self.context.index, observed, now)
        todo = {s: subjects_of_scope(rig, s) for s in ("feed", "use", "rig")} if not lamps_only else {}
        seen = {d: _seen_of(rig, observed, d, now) for d in rig.devices}
        todo["device"] = [d for d, facts in seen.items() if observed.written.get(d) or facts != self._seen.get(d)]
        self._seen = seen
        todo["port"] = [PortRef(d, label) for d in todo["device"] for label in rig.devices[d].ports]
        self._run_rules(todo, live_only=True)

    @property
    def report_findings(self) -> Report:
        if self._report is None:
            waivers = {(w.code, w.subject): w for w in self.context.rig.waivers.values()}
            findings, waived = [], []
            for found in (f for known in self._found.values() for f in known.values()):
                for f in found:
                    waiver = waivers.get((f.code, f.subject))
                    if waiver and f.severity != "error" and waiver.facts == f.fingerprint_of_facts:
                        waived.append((f, waiver.reason))
                    else:
                        findings.append(f)
            # down to the reason: in what order they were found depends on the edits before, and shall not be seen
            findings.sort(key=_order_of_finding)
            waived.sort(key=lambda entry: _order_of_finding(entry[0]))
            self._report = Report(tuple(findings), tuple(waived))
        return self._report


def _order_of_finding(f: Finding) -> tuple[object, ...]:
    cause, where = quick_sort_key(f.cause or f.code), quick_sort_key(f.where)
    return (SEVERITIES.index(f.severity), cause, where, quick_sort_key(f.subject), f.code, f.reason)


def check_rig(rig: Rig, observed: Observed = NOTHING, now: float = 0.0) -> Report:
    """All findings of a rig and of what was observed."""
    return Checker(Index(rig), observed, now).report_findings
