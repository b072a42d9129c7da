"""Every list of a rig as headings and rows of words, for paper and for spreadsheets alike.

One maker for each list, in one table: what it is called, what it is for, and the function that works its rows out from
the index. Nothing is reckoned here; each number comes from the one place that reckons it, so that paper and screen
cannot differ.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property

from welvo.bench.record import record_lines as record_lines
from welvo.bench.record import subject_of_test
from welvo.checks.checker import Report, check_rig
from welvo.matching.planned import compare_device
from welvo.observed.values import NOTHING, Observed
from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.patch.table import keys_of_columns, rank_of_row, text_of_cell, title_of_column
from welvo.rig.attributes import word_for
from welvo.rig.document import Rig
from welvo.rig.lookup import mode_of, name_of_item, profile_of, running_number, universes_in_order
from welvo.rig.modes import channels_in_order, sorted_ranges
from welvo.rig.notation import natural_sort_key, say_place, say_thousands
from welvo.rig.plan import model_of
from welvo.rig.profile import AddressSetting
from welvo.rig.protocol import say_wire
from welvo.rig.switches import say_switches
from welvo.runs.along import part_name
from welvo.runs.pixels import device_sums, streams_of
from welvo.runs.power import frame_ms, joints_of_port, loads_of_supplies, stretches_of_port
from welvo.settings.card import CardStep, card_steps
from welvo.survey.capacity import universe_rows
from welvo.survey.compare import Difference
from welvo.survey.device_tables import KINDS as DEVICE_TABLES
from welvo.survey.device_tables import device_table as device_table
from welvo.survey.fixture_card import LampStep, lamp_card
from welvo.survey.lines import line_sum, plug_of
from welvo.survey.wires import wire_table


@dataclass(frozen=True)
class Material:
    """What lists and sheets are made from. `decimal` is how a fraction is written, `.` or `,`; `day` the form of a
    date as `time.strftime` takes it."""

    index: Index
    observed: Observed = NOTHING
    now: float = 0.0
    known_report: Report | None = None
    since: tuple[str, tuple[Difference, ...]] | None = None
    """The name of the version that changes are counted from, and what has changed since."""
    decimal: str = "."
    day: str = "%Y-%m-%d"

    @property
    def rig(self) -> Rig:
        return self.index.rig

    @cached_property
    def report(self) -> Report:
        return self.known_report or check_rig(self.rig, self.observed, self.now)

    def say_number(self, value: float, digits: int = 1) -> str:
        """A measured value: rounded, with the decimal mark that was chosen. Addresses are never written by this."""
        whole, _, rest = f"{value:.{digits}f}".partition(".")
        said = say_thousands(int(whole)) if abs(int(whole)) >= 10_000 else whole
        rest = rest.rstrip("0")
        return f"{said}{self.decimal}{rest}" if rest else said

    def say_date(self, at: float, clock: bool = False) -> str:
        return datetime.fromtimestamp(at).strftime(f"{self.day} %H:%M" if clock else self.day) if at else ""


@dataclass(frozen=True)
class ColumnHead:
    """A column: `number` is right-aligned and stays a number in a spreadsheet; `wide` may be wrapped first."""

    key: str
    title: str
    kind: str = "text"


@dataclass(frozen=True)
class Listing:
    key: str
    title: str
    heads: tuple[ColumnHead, ...]
    rows: tuple[tuple[str, ...], ...]
    ids: tuple[str, ...] = field(default=(), compare=False)
    """What each row is about, for those who sort or group by more than is shown."""

    def column_of_key(self, key: str) -> int:
        return next(n for n, h in enumerate(self.heads) if h.key == key)

    def with_columns(self, keys: Sequence[str]) -> Listing:
        """The same with some of its columns, in that order; names it does not have are left out."""
        at = [n for k in keys for n, h in enumerate(self.heads) if h.key == k]
        rows = tuple(tuple(r[n] for n in at) for r in self.rows)
        return Listing(self.key, self.title, tuple(self.heads[n] for n in at), rows, self.ids)

    def __bool__(self) -> bool:
        return bool(self.rows)


def make_heads(*names: str) -> tuple[ColumnHead, ...]:
    """Columns from their titles; a title that ends in `#` is of numbers."""
    return tuple(
        ColumnHead(n.rstrip("#").lower(), n.rstrip("#"), "number" if n.endswith("#") else "text") for n in names
    )


# ---- the patch

SET_ON = "set"
BOX = "☐"
PASSWORD = "password"
"""The key of the password of a device's pages, among the secrets that are given for a sheet."""


def list_items(m: Material, keys: Iterable[str] | None = None) -> Listing:
    """Fixtures by number, then elements, in all columns of the list, with what is set on the lamp itself."""
    rig, index = m.rig, m.index
    wanted = list(keys) if keys is not None else [*rig.fixtures, *rig.elements]
    wanted.sort(key=lambda k: rank_of_row(index, k, "number"))
    shown = keys_of_columns(rig)
    made = tuple(ColumnHead(c, title_of_column(c), "number" if c in ("number", "slots") else "text") for c in shown)
    made += (ColumnHead("universe", "Universe", "number"), ColumnHead("running", "Running number", "number"),
             ColumnHead(SET_ON, "To set on it"), ColumnHead("on", "Attached to"))  # fmt: skip
    rows = []
    for key in wanted:
        places = _begins_of_breaks(index, key)
        rows.append(
            (
                *(text_of_cell(index, key, c) for c in shown),
                ", ".join(str(number) for number, _ in places),
                ", ".join(str(running_number(rig, number, first)) for number, first in places),
                _to_set(index, key),
                attached_to(index, key),
            )
        )
    return Listing("patch", "Patch", made, tuple(rows), tuple(wanted))


def _begins_of_breaks(index: Index, key: str) -> list[tuple[int, int]]:
    """Universe and first slot of each break of an item; of an element where it begins."""
    begins: dict[int, tuple[int, int]] = {}
    for s in index.spans_of(key):
        begins.setdefault(max(0, s.break_no), (index.rig.universes[s.universe].number, s.first))
    return [begins[b] for b in sorted(begins)]


def list_spans(m: Material, keys: Iterable[str] | None = None) -> Listing:
    """The patch span by span, universe by universe: a lamp with two breaks, and a ribbon over two universes, stand in
    both; so does a stretch of a cable that takes slots for no lamp. What is not patched comes last."""
    rig, index = m.rig, m.index
    base = list_items(m, keys)
    known = dict(zip(base.ids, base.rows))
    at = {h.key: n for n, h in enumerate(base.heads)}
    rows: list[tuple[str, ...]] = []
    ids: list[str] = []
    for uid in universes_in_order(rig):
        number = rig.universes[uid].number
        for s in index.spans_on_universe(uid):
            if s.item_of_span and s.item_of_span not in known:
                continue
            if not s.item_of_span and keys is not None:
                continue
            row = list(known.get(s.item_of_span, ("",) * len(base.heads)))
            if not s.item_of_span:
                row[at["number"]], row[at["name"]], row[at["profile"]] = (
                    "–",
                    index.word_for_taker(s.key),
                    index.name_of_taker(s.key),
                )
            fixture = rig.fixtures.get(s.item_of_span)
            mode = mode_of(rig, fixture) if fixture else None
            if mode and len(mode.breaks) > 1:
                name = mode.breaks[max(0, s.break_no)].name or str(s.break_no + 1)
                row[at["profile"]] += f" · {name}"
                setting = profile_of(rig, fixture) if fixture else None
                on = set_on(index, s.item_of_span, max(0, s.break_no))
                row[at[SET_ON]] = _said_set(setting.address if setting else None, on.address)
            row[at["first"]], row[at["last"]] = say_place(number, s.first), say_place(number, s.last)
            row[at["slots"]] = str(s.last - s.first + 1)
            row[at["universe"]], row[at["running"]] = str(number), str(running_number(rig, number, s.first))
            rows.append(tuple(row))
            ids.append(s.item_of_span)
    left = [k for k in base.ids if not index.spans_of(k)]
    return Listing("spans", "Patch", base.heads, (*rows, *(known[k] for k in left)), (*ids, *left))


def _said_set(setting: AddressSetting | None, address: int) -> str:
    if not address:
        return ""
    how = say_switches(setting, address)
    return f"{address:03d}" + ("" if how.startswith("set ") else f" ({how})")


def _to_set(index: Index, key: str) -> str:
    f = index.rig.fixtures.get(key)
    if f is None:
        return ""
    profile = profile_of(index.rig, f)
    mode = profile.modes.get(f.mode) if profile else None
    said = []
    for n in range(len(mode.breaks) if mode else 1):
        on = set_on(index, key, n)
        said.append(_said_set(profile.address if profile else None, on.address))
    return ", ".join(w for w in said if w)


def attached_to(index: Index, key: str) -> str:
    """Devices and ports that an item is attached to."""
    refs = dict.fromkeys(ref for ref, _ in index.cables_and_sums.ports_of_item(key))
    return ", ".join(f"{index.rig.devices[d].name} {p}" for d, p in refs)


def list_universes(m: Material) -> Listing:
    rig = m.rig
    rows = []
    capacity = {r.id: r for r in universe_rows(m.index)}
    for uid in universes_in_order(rig):
        u, room = rig.universes[uid], capacity[uid]
        feeds = ", ".join(say_wire(f.protocol, f.wire) for f in rig.feeds.values() if f.universe == uid)
        rows.append(
            (str(u.number), u.name, str(u.size), str(room.used), str(room.reserved), str(room.free_slots), feeds)
        )
    names = make_heads("Universe#", "Name", "Size#", "Used#", "Reserved#", "Free#", "Feeds")
    return Listing("universes", "Universes", names, tuple(rows), tuple(universes_in_order(rig)))


# ---- network and devices


def list_feeds(m: Material) -> Listing:
    rows = [
        (
            str(r.universe), r.name, r.wire, r.from_zero, r.from_one, r.hexadecimal, r.sender, r.to, r.takers,
            m.say_number(r.rate, 0), r.beware,
        )
        for r in wire_table(m.index)
    ]  # fmt: skip
    names = make_heads(
        "Universe#", "Name", "On the wire", "From 0#", "From 1#", "Hexadecimal", "Sender", "To", "Ports", "Rate#",
        "Beware",
    )  # fmt: skip
    return Listing("feeds", "Feeds", names, tuple(sorted(rows, key=lambda r: (natural_sort_key(r[0]), r[2]))))


def list_devices(m: Material) -> Listing:
    rig = m.rig
    rows = []
    for device_id in sorted(rig.devices, key=lambda d: natural_sort_key(rig.devices[d].name)):
        d, model = rig.devices[device_id], model_of(rig, device_id)
        heard, said = m.observed.heard.get(d.ip), m.observed.said.get(d.ip)
        plan = d.settings
        mac = str(plan.get("mac", "")) or (said.mac if said else "") or (heard.mac if heard else "")
        takes = dict.fromkeys(
            rig.universes[f.universe].number
            for p in d.ports.values()
            if (f := rig.feeds.get(p.feed)) and f.universe in rig.universes
        )
        rows.append(
            (
                d.name,
                model.name if model else "",
                d.ip,
                str(plan.get("mask", "")),
                mac,
                d.firmware or (said.firmware if said else ""),
                d.mode,
                ", ".join(map(str, takes)),
                d.note,
            )
        )
    names = make_heads("Device", "Model", "Address", "Mask", "MAC", "Firmware", "Output mode", "Universes", "Note")
    return Listing("devices", "Devices", names, tuple(rows))


def list_ports(m: Material, only: str = "") -> Listing:
    rig, cables = m.rig, m.index.cables_and_sums
    rows = []
    for device_id in sorted(rig.devices, key=lambda d: natural_sort_key(rig.devices[d].name)):
        if only and device_id != only:
            continue
        d = rig.devices[device_id]
        sums = {s.stream.label: s for s in device_sums(cables, device_id)}
        for label, port in d.ports.items():
            feed = rig.feeds.get(port.feed)
            universe = rig.universes.get(feed.universe) if feed else None
            s = sums.get(label)
            stream = s.stream if s else None
            items = ", ".join(part_name(rig, p) for p in stream.pieces) if stream else ""
            lamps = [name_of_item(rig, f) for seg in port.run for f in seg.fixtures if seg.kind == "line"]
            rows.append(
                (
                    d.name,
                    label,
                    say_wire(feed.protocol, feed.wire) if feed else "",
                    str(universe.number) if universe else str(stream.start[0]) if stream and stream.start else "",
                    say_place(*stream.start) if stream and stream.start else "",
                    str(stream.pixels) if stream and stream.pixels else "",
                    str(s.running) if s and s.stream.pixels else "",
                    str(stream.slots) if stream and stream.slots else "",
                    m.say_number(frame_ms(cables, stream)) if stream and stream.slots else "",
                    items or ", ".join(lamps),
                )
            )
    names = make_heads(
        "Device", "Port", "Listens to", "Universe#", "Starts", "Pixels#", "Running pixel#", "Slots#", "Frame ms#",
        "Attached",
    )  # fmt: skip
    return Listing("ports", "Ports", names, tuple(rows))


def list_segments(m: Material, only: str = "") -> Listing:
    rig, cables = m.rig, m.index.cables_and_sums
    rows = []
    for device_id in sorted(rig.devices, key=lambda d: natural_sort_key(rig.devices[d].name)):
        for stream in streams_of(cables, device_id) if not only or device_id == only else ():
            for p in stream.pieces:
                s = p.segment
                first, last = (p.place_of_slot(1), p.place_of_slot(p.slots)) if p.slots else (None, None)
                rows.append(
                    (
                        rig.devices[device_id].name,
                        stream.label,
                        str(p.n + 1),
                        s.kind,
                        part_name(rig, p),
                        f"{p.px}–{p.px + p.pixels - 1}" if p.pixels else "",
                        f"{p.led}–{p.led + p.leds - 1}" if p.leds else "",
                        str(p.stream) if p.slots else "",
                        say_place(*first) if first else "",
                        say_place(*last) if last else "",
                        s.order,
                        str(s.fold or ""),
                        "reversed" if s.reverse else "",
                        s.data_in,
                        ", ".join(name_of_item(rig, f) for f in s.fixtures),
                    )
                )
    names = make_heads(
        "Device", "Port", "No.#", "Kind", "What", "Pixels", "LEDs of the cable", "Slot of the stream#", "First", "Last",
        "Order", "Fold#", "Turned", "Data in", "Lamps",
    )  # fmt: skip
    return Listing("segments", "Segments", names, tuple(rows))


def device_pages(m: Material, device_id: str) -> list[Listing]:
    """The tables of a device's own pages, in its own counting."""
    found = []
    for kind, words in DEVICE_TABLES.items():
        t = device_table(m.index, device_id, kind)
        made = tuple(ColumnHead(h.lower(), h) for h in t.heads)
        found.append(Listing(f"device {kind}", words, made, t.rows))
    return [x for x in found if x]


def device_card(m: Material, device_id: str, secrets: dict[str, str] | None = None) -> Listing:
    """The setting card of a device. `secrets` by full key are shown only where they are given."""
    model = model_of(m.rig, device_id)
    steps: list[CardStep] = []
    if model:
        steps = card_steps(m.rig, device_id, model, compare_device(m.index, m.observed, device_id, m.now))
    words = {"proved": "proved", "ticked": "ticked", "woken": "do again"}
    rows = []
    if secrets and PASSWORD in secrets:
        rows.append((BOX, "", "device", "Password of its pages", secrets[PASSWORD], ""))
    for s in steps:
        by = f"{words.get(s.state, '')}{f' {s.by} {m.say_date(s.at)}' if s.by else ''}"
        rows.append((box_for(s.state), s.page, s.where, s.what, (secrets or {}).get(s.key, s.value), by.strip()))
    return Listing(
        "device card", "Setting card", make_heads("", "Page", "Where", "Setting", "Value", "Done"), tuple(rows)
    )


def box_for(state: str) -> str:
    """The box to tick on paper, empty or ticked."""
    return "☑" if state in ("ticked", "proved") else BOX


def lamp_cards(m: Material, keys: Iterable[str] | None = None) -> Listing:
    """What is set by hand on each lamp, with a box to tick."""
    steps: list[LampStep] = lamp_card(m.index, keys if keys is not None else m.rig.fixtures)
    rows = []
    for s in steps:
        value = f"{s.value:03d}" if isinstance(s.value, int) and not isinstance(s.value, bool) else str(s.value)
        by = f"{s.by} {m.say_date(s.at)}".strip() if s.state == "ticked" else "do again" if s.state == "woken" else ""
        rows.append((box_for(s.state), str(s.number), s.name, s.what, value, s.how, s.on, by))
    names = make_heads("", "No.#", "Name", "What", "Value", "How", "Counted on", "Done")
    return Listing("lamp card", "Lamps to set by hand", names, tuple(rows), tuple(s.fixture for s in steps))


# ---- cables and power


def list_lines(m: Material) -> Listing:
    """DMX lines lamp by lamp: the order of the chain, cable, loads, adapters."""
    rig, cables, index = m.rig, m.index.cables_and_sums, m.index
    rows = []
    for device_id in sorted(rig.devices, key=lambda d: natural_sort_key(rig.devices[d].name)):
        d = rig.devices[device_id]
        for label, port in d.ports.items():
            feed = rig.feeds.get(port.feed)
            stream = cables.streams.get((device_id, label))  # type: ignore[call-overload]
            for n, s in enumerate(port.run):
                if s.kind not in ("line", "bridge"):
                    continue
                piece = stream.pieces[n] if stream and s.kind == "bridge" else None
                plug = plug_of(rig, device_id, s if s.kind == "bridge" else None)
                of = line_sum(index, s, piece, feed.universe if feed else "", plug)
                where = f"{d.name} {label}" + (f", {part_name(rig, piece)}" if piece else "")
                for stop in of.stops:
                    rows.append(
                        (
                            where, str(stop.turn), stop.name, f"{stop.dmx:03d}" if stop.dmx else "",
                            m.say_number(stop.metres), m.say_number(stop.since), m.say_number(stop.loads, 2),
                            "booster before it" if stop.booster else "", stop.adapter,
                        )
                    )  # fmt: skip
    names = make_heads("Line", "Turn#", "Lamp", "DMX", "Metres#", "Since driver#", "Unit loads#", "Booster", "Adapter")
    return Listing("lines", "DMX lines", names, tuple(rows))


def list_strings(m: Material) -> Listing:
    """Pixel cables segment by segment: length, current, voltage at both ends, and who feeds them."""
    rig, cables = m.rig, m.index.cables_and_sums
    rows = []
    for device_id in sorted(rig.devices, key=lambda d: natural_sort_key(rig.devices[d].name)):
        for stream in streams_of(cables, device_id):
            for s in stretches_of_port(cables, stream):
                p = s.piece
                metres = p.segment.length + (p.leds * s.kind.pitch / 1000 if s.kind else 0.0)
                supply = rig.supplies.get(s.fed)
                rows.append(
                    (
                        rig.devices[device_id].name, stream.label, part_name(rig, p), m.say_number(metres, 2),
                        m.say_number(p.segment.area, 2) if p.segment.area else "", m.say_number(s.amps, 2),
                        m.say_number(s.through, 2), m.say_number(s.volts, 2) if s.volts else "",
                        m.say_number(s.end, 2) if s.volts else "", supply.name if supply else "the port",
                    )
                )  # fmt: skip
    names = make_heads(
        "Device", "Port", "What", "Metres#", "mm²#", "Amperes#", "Passing#", "Volts in#", "Volts at the end#", "Fed by"
    )
    return Listing("strings", "Pixel cables and power", names, tuple(rows))


def list_power(m: Material) -> Listing:
    rows = [
        (
            x.kind, x.name, m.say_number(x.amps, 2), m.say_number(x.rated) if x.rated else "",
            "too much" if 0 < x.rated < x.amps else "",
        )
        for x in loads_of_supplies(m.index.cables_and_sums)
    ]  # fmt: skip
    return Listing(
        "power", "Supplies and ports", make_heads("Kind", "What", "Amperes#", "Rated#", "Beware"), tuple(rows)
    )


def wire_joints(m: Material) -> Listing:
    rig, cables = m.rig, m.index.cables_and_sums
    rows = []
    for device_id in sorted(rig.devices, key=lambda d: natural_sort_key(rig.devices[d].name)):
        for stream in streams_of(cables, device_id):
            for j in joints_of_port(cables, stream):
                wires = "; ".join(f"{f}: {a} to {b}" for f, a, b in j.wires)
                rows.append((rig.devices[device_id].name, stream.label, j.one, j.other, wires, "; ".join(j.wrong)))
    names = make_heads("Device", "Port", "From", "To", "Wires by function", "Beware")
    return Listing("joints", "Joints and wire colours", names, tuple(rows))


# ---- profiles


def list_channels(m: Material, pid: str, mid: str) -> Listing:
    """The channel chart of a mode."""
    profile = m.rig.profiles[pid]
    mode = profile.modes[mid]
    rows = []
    for n in channels_in_order(mode):
        c = mode.channels[n]
        ranges = "; ".join(f"{r.first}–{r.last} {r.name}".strip() for r in sorted_ranges(c.ranges))
        physical = f"{c.low:g} to {c.high:g} {c.unit}".strip() if c.low is not None and c.high is not None else ""
        rows.append(
            (
                (mode.breaks[c.break_no].name or str(c.break_no + 1)) if len(mode.breaks) > 1 else "",
                "+".join(map(str, c.slots)),
                word_for(c.function, c.name),
                str(c.pixel or ""),
                c.short,
                str(c.default),
                "snap" if c.snap else "",
                physical,
                ranges,
            )
        )
    names = make_heads("Break", "Slot", "Function", "Pixel#", "Short", "Default#", "Snap", "Physical", "Ranges")
    made = Listing(f"chart {pid} {mid}", f"{profile.name} · {mode.name}", names, tuple(rows))
    empty = {h.key for n, h in enumerate(made.heads) if not any(r[n] for r in made.rows)}
    return made.with_columns([h.key for h in made.heads if h.key not in empty])


# ---- findings, tests, changes


def list_findings(m: Material) -> Listing:
    rows = [(f.severity, f.code, f.where, f.title, f.reason) for f in m.report.findings]
    return Listing("findings", "Findings", make_heads("Severity", "Code", "Where", "What", "Why"), tuple(rows))


def list_waivers(m: Material) -> Listing:
    rows = [(f.severity, f.code, f.where, f.title, why) for f, why in m.report.waived]
    return Listing(
        "waivers", "Waived findings", make_heads("Severity", "Code", "Where", "What", "Waived because"), tuple(rows)
    )


def list_tests(m: Material, plan: bool = False) -> Listing:
    """The test record; as a plan, with boxes for what is still to be tested."""
    rig = m.rig
    subjects = [subject_of_test("device", d) for d in rig.devices]
    subjects += [
        subject_of_test("port", d, p)
        for d, v in rig.devices.items()
        for p, port in v.ports.items()
        if port.feed or port.run
    ]
    subjects += [subject_of_test("universe", u) for u in universes_in_order(rig)]
    subjects += [subject_of_test("item", k) for k in sorted(rig.fixtures, key=lambda k: rig.fixtures[k].number)]
    subjects += [subject_of_test("item", k) for k in rig.elements]
    rows: list[tuple[str, ...]] = []
    for x in record_lines(m.index, subjects):
        t = x.tested
        kind = {"device": "device", "port": "port", "universe": "universe", "item": "lamp"}[x.of.partition("/")[0]]
        if plan:
            if x.standing != "passed":
                rows.append((BOX, kind, x.name, "changed since" if x.standing == "woken" else x.standing, "", ""))
        elif t:
            stands = "changed since" if x.standing == "woken" else x.standing
            rows.append((kind, x.name, stands, m.say_date(t.at, True), t.who, t.what or t.note))
    if plan:
        return Listing(
            "test plan", "Still to test", make_heads("", "Kind", "What", "Standing", "Result", "By"), tuple(rows)
        )
    return Listing("tests", "Test record", make_heads("Kind", "What", "Standing", "When", "By", "Test"), tuple(rows))


def list_groups(m: Material) -> Listing:
    rig = m.rig
    rows = [(g.name, str(len(g.members)), ", ".join(sorted((name_of_item(rig, k) for k in g.members),
    key=natural_sort_key)))
            for g in sorted(rig.groups.values(), key=lambda g: natural_sort_key(g.name))]  # fmt: skip
    return Listing("groups", "Groups", make_heads("Group", "Items#", "Who"), tuple(rows))


def list_changes(m: Material) -> Listing:
    name, found = m.since or ("", ())
    rows = tuple((d.kind, d.who, d.what, d.before, d.after) for d in found)
    words = f"Changes since {name}" if name else "Changes"
    return Listing("changes", words, make_heads("Kind", "Of", "What", "Before", "Now"), rows)


LISTS: dict[str, tuple[str, Callable[[Material], Listing]]] = {
    "patch": ("Fixtures and elements", list_items),
    "universes": ("Universes", list_universes),
    "feeds": ("Feeds", list_feeds),
    "devices": ("Devices", list_devices),
    "ports": ("Ports", list_ports),
    "segments": ("Segments", list_segments),
    "lines": ("DMX lines", list_lines),
    "strings": ("Pixel cables and power", list_strings),
    "power": ("Supplies and ports", list_power),
    "joints": ("Joints and wire colours", wire_joints),
    "lamps": ("Lamps to set by hand", lamp_cards),
    "findings": ("Findings", list_findings),
    "waivers": ("Waived findings", list_waivers),
    "tests": ("Test record", list_tests),
    "groups": ("Groups", list_groups),
    "changes": ("Changes", list_changes),
}
"""Every list that can be taken out as a table: its words, and what makes it."""


def sorted_by(m: Material, listing: Listing, by: str) -> Listing:
    """A list in the order of one of its columns; the patch by address or number as its list sorts them."""
    n = next((n for n, h in enumerate(listing.heads) if h.key == by), None)
    if n is None:
        return listing
    patch_ids = listing.key == "patch" and listing.ids
    order = sorted(
        range(len(listing.rows)),
        key=lambda r: (
            rank_of_row(m.index, listing.ids[r], by)
            if patch_ids and by in keys_of_columns(m.rig)
            else (not listing.rows[r][n], natural_sort_key(listing.rows[r][n]))
        ),
    )
    ids = tuple(listing.ids[r] for r in order) if listing.ids else ()
    return Listing(listing.key, listing.title, listing.heads, tuple(listing.rows[r] for r in order), ids)
