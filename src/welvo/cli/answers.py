"""The answers that commands give to programs with `--json`: a promise.

Within a first number of the version (see docs/json.md) a key neither goes away nor changes what it holds; new keys may
come. Every answer always has all of its keys. `docs/cli.schema.json` is made from these types, and the tests hold what
the commands print against it.
"""

from __future__ import annotations

from typing import Any, Literal, TypedDict

Changes = list[tuple[str, str, str]]
"""Rows of what, before, after."""


class FixSaid(TypedDict):
    label: str
    changes: Changes


class FindingSaid(TypedDict):
    code: str
    severity: Literal["error", "warning", "note"]
    where: str
    title: str
    reason: str
    facts: dict[str, str | int]
    subject: str
    fixes: list[FixSaid]


class WaivedSaid(TypedDict):
    code: str
    subject: str
    title: str
    reason: str


class Check(TypedDict):
    file: str
    findings: list[FindingSaid]
    waived: list[WaivedSaid]


class Checks(TypedDict):
    files: list[Check]


class HopSaid(TypedDict):
    role: str
    value: str
    fact: str


class JointSaid(TypedDict):
    mark: str
    sends: str
    takes: str
    word: str


class PathSaid(TypedDict):
    target: str
    name: str
    ways: list[tuple[str, str]]
    hops: list[HopSaid]
    joints: list[JointSaid]


class SpanSaid(TypedDict):
    kind: Literal["fixture", "element", "segment"]
    number: int | None
    name: str
    break_: int
    break_name: str
    universe: int
    first: int
    last: int
    running: int


class MoveSaid(TypedDict):
    what: str
    break_: int
    from_: str | None
    to: str


class Laid(TypedDict):
    moves: list[MoveSaid]
    stays: list[str]
    freed: list[str]
    follows: list[str]
    left: list[str]
    why: str
    last: str | None
    free_behind: int
    written: str | None


class Packed(TypedDict):
    moves: list[MoveSaid]
    stays: list[str]
    last_before: int
    last_after: int
    fewest_proved: bool
    written: str | None


class Fits(TypedDict):
    fit: int
    last: str | None
    left_over: int


class ModeChange(TypedDict):
    what: str
    from_: str
    to: str
    meets: list[str]


class PastEnd(TypedDict):
    what: str
    slots: int
    end: str


class ModeChanges(TypedDict):
    changes: list[ModeChange]
    meets: list[str]
    past: list[PastEnd]
    lost: list[str]
    written: str | None


class CapacityRow(TypedDict):
    kind: str
    name: str
    of: str
    used: int
    reserved: int
    possible: int | None
    free: int | None
    note: str


class Capacity(TypedDict):
    rows: list[CapacityRow]
    holds_nothing: list[int]


class WireSaid(TypedDict):
    wire: str
    from_zero: str
    from_one: str
    hexadecimal: str
    universe: int
    name: str
    sender: str
    shown: str
    to: str
    takers: str
    rate: float
    packets: float
    bits: float
    in_use: bool
    beware: str


class DeviceLoad(TypedDict):
    name: str
    own_bits: int
    multicast_bits: int
    broadcast_bits: int
    packets: int
    of_link: float


class Wires(TypedDict):
    feeds: list[WireSaid]
    boxes: list[DeviceLoad]
    packets: int
    bits: int


class SegmentSaid(TypedDict):
    place: int
    kind: str
    name: str
    slot: int
    slots: int
    pixel: int
    pixels: int
    leds: int
    first: str
    last: str


class RunSaid(TypedDict):
    box: str
    port: str
    slots: int
    pixels: int
    leds: int
    universes: list[int]
    needed_of_the_last: int
    segments: list[SegmentSaid]


class DifferenceSaid(TypedDict):
    kind: str
    part: str
    id: str
    who: str
    what: str
    before: str
    after: str


class MeetingSaid(TypedDict):
    who: str
    what: str
    a: str
    b: str


class Merged(TypedDict):
    taken: int
    meetings: list[MeetingSaid]
    notes: list[str]
    written: bool


class VersionSaid(TypedDict):
    name: str
    at: str
    who: str
    note: str


class StepSaid(TypedDict):
    step: str
    see: str


class RowTaken(TypedDict):
    n: int
    state: Literal["new", "changed", "same", "refused"]
    who: str
    before: str
    after: str
    why: str
    meets: list[str]


class Imported(TypedDict):
    rows: list[RowTaken]
    doubts: list[str]
    written: str | None


class Exported(TypedDict):
    written: str
    count: int
    of: Literal["rows", "fixtures"]


class Named(TypedDict):
    key: str
    title: str


class Lists(TypedDict):
    lists: list[Named]


class SheetSaid(TypedDict):
    key: str
    title: str
    help: str


class SheetList(TypedDict):
    sheets: list[SheetSaid]


class Printed(TypedDict):
    written: list[str]


class Converted(TypedDict):
    written: str
    fixtures: int
    universes: int


class ModeSaid(TypedDict):
    name: str
    slots: list[int]
    channels: int
    pixels: int


class ProfileFinding(TypedDict):
    code: str
    severity: Literal["error", "warning", "note"]
    title: str


class ProfileSaid(TypedDict):
    name: str
    maker: str
    modes: list[ModeSaid]
    doubts: list[str]
    findings: list[ProfileFinding]


class CauseSaid(TypedDict):
    stage: str
    code: str
    what: str
    proof: str
    do: str


class Why(TypedDict):
    target: str
    causes: list[CauseSaid]
    next_question: str | None


class Recorded(TypedDict):
    written: str
    seconds: float
    packets: int
    universes: int
    full: bool


class CapturedUniverse(TypedDict):
    wire: str
    frames: int
    sources: list[str]
    slots: int


class PlayedPackets(TypedDict):
    packets: int
    errors: int


class Played(TypedDict):
    seconds: float
    packets: int
    universes: list[CapturedUniverse]
    sent: PlayedPackets | None


class Sent(TypedDict):
    to: str
    packets: int
    errors: int


class SourceHeard(TypedDict):
    protocol: str
    universe: int
    source: str
    ip: str
    cid: str | None
    priority: int
    rate: float
    levels: dict[str, int]


class PortHeard(TypedDict):
    page: int
    protocol: str
    universe: int


class DeviceHeard(TypedDict):
    ip: str
    name: str
    long_name: str
    mac: str
    ports: list[PortHeard]


class Listened(TypedDict):
    sources: list[SourceHeard]
    devices: list[DeviceHeard]
    packets: int
    noise: int
    last_noise: str


class Differs(TypedDict):
    setting: str
    plan: Any
    reported: Any


class DeviceCompared(TypedDict):
    name: str
    ip: str
    state: Literal["found", "silent", "no address"]
    mac: str
    firmware: str
    test: str
    equal: int
    differs: list[Differs]
    waits: dict[str, list[str]]
    settings: dict[str, str]


class Stranger(TypedDict):
    ip: str
    name: str
    mac: str


class DevicesCompared(TypedDict):
    devices: list[DeviceCompared]
    strangers: list[Stranger]


class PushResult(TypedDict):
    value: Any
    outcome: str
    why: str
    needs: list[str]


class Pushed(TypedDict):
    device: str
    results: dict[str, PushResult]


class SnapshotDifference(TypedDict):
    setting: str
    snapshot: Any
    now: Any


class SnapshotCompared(TypedDict):
    device: str
    differences: list[SnapshotDifference]


class SnapshotTaken(TypedDict):
    device: str
    settings: int
    why: str


class TestSaid(TypedDict):
    code: str
    test: str
    passed: bool
    proof: str
    put_right: str


class BroughtUp(TypedDict):
    address: str
    cause: str
    found: str
    tests: list[TestSaid]


class LampLine(TypedDict):
    plan: Any
    reported: Any
    mark: str


class LampSet(TypedDict):
    outcome: str
    why: str


class LampSaid(TypedDict):
    number: int
    name: str
    uid: str
    model: str
    why: str
    sure: bool
    failed: str
    lines: dict[str, LampLine]
    differs: list[str]
    set: dict[str, LampSet]


class AtOneAddress(TypedDict):
    address: int
    lamps: int


PortLamps = TypedDict(
    "PortLamps",
    {"port": str, "failed": str, "lamps": list[LampSaid], "at one address": list[AtOneAddress], "wrong": bool},
)


class Lamps(TypedDict):
    ports: list[PortLamps]


class Ready(TypedDict):
    ready: list[str]


class Demonstrated(TypedDict):
    verified: bool
    steps: list[str]


class Installed(TypedDict):
    act: Literal["install", "uninstall"]
    files: int


class Asked(TypedDict):
    """The processes that were asked, by number."""

    processes: list[int]


class GitSet(TypedDict):
    repository: str
    did: list[str]


EffectSaid = TypedDict(
    "EffectSaid",
    {"kind": str, "who": str, "own": bool, "break": int, "before": str, "after": str, "slots": int, "with": str,
     "end": str},
)  # fmt: skip


class FindingNamed(TypedDict):
    code: str
    severity: str
    title: str


class DryRun(TypedDict):
    """What a command with `--dry-run` would make different. `own`: what the edit is about; findings `come` and `go`."""

    strip: str
    effects: list[EffectSaid]
    come: list[FindingNamed]
    go: list[FindingNamed]


ANSWERS: dict[str, Any] = {
    "blackout": Asked,
    "bring-up": BroughtUp,
    "check": Check | Checks,
    "convert": Converted,
    "cycle": list[StepSaid],
    "demo": Demonstrated,
    "desktop": Installed,
    "devices": DevicesCompared,
    "diff": list[DifferenceSaid],
    "disarm": Asked,
    "export": Exported | Lists,
    "git": GitSet,
    "import": Imported | DryRun,
    "lamps": Lamps | DryRun,
    "listen": Listened,
    "merge": Merged | DryRun,
    "patch": list[SpanSaid] | Laid | Packed | Fits | ModeChanges | Capacity | Wires | DryRun,
    "path": PathSaid,
    "play": Played | dict[str, list[int]],
    "profile": ProfileSaid,
    "push": Pushed,
    "record": Recorded,
    "runs": list[RunSaid] | DryRun,
    "send": Sent,
    "sheets": SheetList | Printed,
    "snapshot": SnapshotTaken | SnapshotCompared,
    "standins": Ready,
    "version": list[VersionSaid],
    "why": Why,
}
"""What each command with `--json` prints. Where it is one of several, the command's options say which."""
