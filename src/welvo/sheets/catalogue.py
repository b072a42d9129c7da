"""Every sheet there is: what it is called, what it is for, what it can be about, and what it is made of."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Literal

from msgspec import Struct

from welvo.formats.versions import latest_version
from welvo.patch.index import Index
from welvo.patch.table import keys_of_columns, title_of_column
from welvo.rig.base import Refused
from welvo.rig.document import HANG_POINT, Rig
from welvo.rig.lookup import universe_by_number, universes_in_order
from welvo.rig.notation import natural_sort_key, say_count
from welvo.rig.plan import model_of
from welvo.sheets import lists
from welvo.sheets.blocks import Block, Heading, Rows, WordsBlock
from welvo.sheets.drawings import draw_risers, from_above, universe_map
from welvo.sheets.labels import label_pages
from welvo.sheets.lists import Listing, Material, sorted_by
from welvo.sheets.paper import FOOT, HEAD, MARGIN, Choices
from welvo.sheets.pdf import Paper, Progress, _tell_nobody, render_pdf

About = Literal["", "universe", "device", "profile"]
Maker = Callable[[Material, Choices], Iterator[Block]]


class Sheet(Struct, frozen=True):
    """`about` is what one copy of it can be about; `columns` are those it shows unless others are chosen; `sorts` and
    `groups` are what it can be ordered and split by."""

    key: str
    title: str
    help: str
    make: Maker
    about: About = ""
    landscape: bool = False
    columns: tuple[str, ...] = ()
    sort: str = ""
    group: str = ""
    table: Callable[[Material], Listing] | None = None
    """The list it is made of, where its columns and order can be chosen."""


def _room_on_paper(choices: Choices, landscape: bool) -> tuple[float, float]:
    wide, high = choices.page_size(landscape)
    margin = MARGIN if wide > 120 else 6.0
    return wide - 2 * margin, high - 2 * margin - HEAD - FOOT


def _patch_sheet(
    key: str, words: str, help_text: str, group: str, sort: str, rows: Callable[..., Listing] = lists.list_items
) -> Sheet:
    shown = (
        "number",
        "name",
        "profile",
        "first",
        "last",
        lists.SET_ON,
        f"own:{HANG_POINT}",
        "own:Circuit",
        "on",
        "note",
    )

    def make(m: Material, c: Choices) -> Iterator[Block]:
        listing = rows(m, c.items or None)
        by = c.group or group
        # a column that no rig has (a crew's own that was renamed) leaves the list whole, in order of numbers
        listing = sorted_by(m, listing, c.sort or sort)
        has = {h.key for h in listing.heads}
        if by in has:
            listing = sorted_by(m, listing, by)
        wanted = [k for k in (c.columns or shown) if k in has]
        if not c.columns:
            wanted = [k for k in wanted if any(r[listing.column_of_key(k)] for r in listing.rows)]
        if by in has and by not in wanted:
            wanted.append(by)
        if not listing:
            yield WordsBlock("There is nothing in the patch yet.")
            return
        yield WordsBlock(f"{say_count(len(set(listing.ids)), 'item')}.")
        shown_group = by if by in has else ""
        yield from _tables_by_group(listing, wanted, shown_group, by in (c.columns or ()))

    return Sheet(
        key,
        title=words,
        help=help_text,
        make=make,
        about="",
        landscape=True,
        columns=shown,
        sort=sort,
        group=group,
        table=rows,
    )


def _tables_by_group(listing: Listing, wanted: list[str], group: str, keep: bool) -> Iterator[Block]:
    """One table for each value of the grouping column, under its own heading."""
    strong = ("number", "first", lists.SET_ON)
    if not group:
        yield Rows(listing.with_columns(wanted), strong)
        return
    at = listing.column_of_key(group)
    inside = [k for k in wanted if k != group or keep]
    values = list(dict.fromkeys(r[at] for r in listing.rows))
    for value in sorted(values, key=lambda v: (not v, natural_sort_key(v))):
        rows = [n for n, r in enumerate(listing.rows) if r[at] == value]
        part = Listing(
            listing.key, listing.title, listing.heads, tuple(listing.rows[n] for n in rows),
            tuple(listing.ids[n] for n in rows) if listing.ids else (),
        )  # fmt: skip
        words = {"universe": "Universe"}.get(group, listing.heads[at].title)
        yield Heading(f"{words} {value}" if value else f"No {words.lower()}", say_count(len(rows), "item"))
        yield Rows(part.with_columns(inside), strong, listing.with_columns(inside))


def _plain_sheet(
    key: str, words: str, help_text: str, made: Callable[[Material], Listing], *more: Callable[[Material], Listing],
    landscape: bool = True, strong: tuple[str, ...] = (),
) -> Sheet:  # fmt: skip
    def make(m: Material, c: Choices) -> Iterator[Block]:
        for n, of in enumerate((made, *more)):
            listing = of(m)
            if c.sort and n == 0:
                listing = sorted_by(m, listing, c.sort)
            wanted = [h.key for h in listing.heads]
            if n == 0 and c.columns:
                wanted = [k for k in c.columns if k in wanted] or wanted
            else:
                wanted = [k for k in wanted if any(r[listing.column_of_key(k)] for r in listing.rows)] or wanted
            yield Heading(listing.title, say_count(len(listing.rows), "line"))
            if n == 0 and c.group and c.group in {h.key for h in listing.heads}:
                yield from _tables_by_group(sorted_by(m, listing, c.group), wanted, c.group, c.group in c.columns)
            else:
                yield Rows(listing.with_columns(wanted), strong=strong)

    return Sheet(key, words, help_text, make, "", landscape, table=made)


def _label_blocks(m: Material, c: Choices) -> Iterator[Block]:
    made = label_pages(m, c)
    if made:
        yield from made
    else:
        yield WordsBlock("No fixture has an address yet, so there is nothing to stick on one.")


def _map_blocks(m: Material, c: Choices) -> Iterator[Block]:
    uids = universes_in_order(m.rig)
    if c.of:
        one = universe_by_number(m.rig, int(c.of)) if c.of.isdecimal() else ""
        if not one:
            raise Refused(f"There is no universe {c.of} in this rig.")
        uids = [one]
    else:
        uids = [u for u in uids if m.index.spans_on_universe(u)]
    if not uids:
        yield WordsBlock("There is no universe with anything in it yet.")
    for uid in uids:
        u = m.rig.universes[uid]
        feeds = next((r[6] for r in lists.list_universes(m).rows if r[0] == str(u.number)), "")
        free = f"{m.index.free_slots(uid)} of {u.size} slots free"
        yield Heading(f"Universe {u.number} {u.name}".strip(), f"{free}    {feeds}", page=True)
        yield universe_map(m.index, uid, _room_on_paper(c, False)[1] - 9)


def _chart_blocks(m: Material, c: Choices) -> Iterator[Block]:
    rig = m.rig
    used = {(f.profile, f.mode) for f in rig.fixtures.values()}
    for pid in sorted(rig.profiles, key=lambda p: natural_sort_key(rig.profiles[p].name)):
        if c.of and c.of != pid:
            continue
        profile = rig.profiles[pid]
        for mid, mode in profile.modes.items():
            if not c.of and (pid, mid) not in used:
                continue
            users = sum((f.profile, f.mode) == (pid, mid) for f in rig.fixtures.values())
            of = f"{say_count(mode.slots_needed, 'slot')}, {say_count(users, 'fixture')}"
            yield Heading(f"{profile.maker} {profile.name} · {mode.name}".strip(), of)
            yield Rows(lists.list_channels(m, pid, mid), strong=("slot",))


def _card_blocks(m: Material, c: Choices) -> Iterator[Block]:
    rig = m.rig
    chosen = [d for d in rig.devices if not c.of or d == c.of]
    if not chosen:
        yield WordsBlock("There is no device to set.")
    for device_id in sorted(chosen, key=lambda d: natural_sort_key(rig.devices[d].name)):
        device, model = rig.devices[device_id], model_of(rig, device_id)
        yield Heading(device.name, f"{model.name if model else ''}   {device.ip}", page=True)
        if model and model.counts:
            counts = ", ".join(f"{k} from {v}" for k, v in model.counts.items())
            yield WordsBlock(f"In the counting of its own pages: {counts}.")
        yield Rows(lists.device_card(m, device_id, c.secrets.get(device_id)), strong=("value",))
        for listing in lists.device_pages(m, device_id):
            yield Heading(listing.title, "as its own pages show them")
            yield Rows(listing)


def _lamp_cards(m: Material, c: Choices) -> Iterator[Block]:
    listing = lists.lamp_cards(m, [k for k in c.items if k in m.rig.fixtures] or None)
    if c.sort:
        listing = sorted_by(m, listing, c.sort)
    yield Rows(listing, strong=("no.", "value"))


def _riser_blocks(m: Material, c: Choices) -> Iterator[Block]:
    rig = m.rig
    wide, high = _room_on_paper(c, False)
    found = False
    for device_id in sorted(rig.devices, key=lambda d: natural_sort_key(rig.devices[d].name)):
        if c.of and c.of != device_id:
            continue
        for n, drawing in enumerate(draw_risers(m.index, device_id, wide, high - 12)):
            found = True
            if n == 0:
                yield Heading(rig.devices[device_id].name, page=True)
            yield drawing
        listing = lists.list_segments(m, device_id)
        if listing:
            shown = ("port", "no.", "what", "pixels", "first", "last", "order", "fold", "turned", "lamps")
            yield Heading(f"Segments of {rig.devices[device_id].name}")
            yield Rows(
                listing.with_columns([k for k in shown if any(r[listing.column_of_key(k)] for r in listing.rows)])
            )
    if not found:
        yield WordsBlock("Nothing is attached to a port yet.")


def _finding_blocks(m: Material, c: Choices) -> Iterator[Block]:
    yield Heading("Findings", ", ".join(say_count(m.report.count_findings(s), s) for s in ("error", "warning", "note")))
    yield Rows(lists.list_findings(m), strong=("severity",))
    if m.report.waived:
        yield Heading("Waived")
        yield Rows(lists.list_waivers(m))


def _test_blocks(m: Material, c: Choices) -> Iterator[Block]:
    plan, done = lists.list_tests(m, plan=True), lists.list_tests(m)
    yield Heading("Still to test", say_count(len(plan.rows), "thing"))
    yield Rows(plan)
    yield Heading("Tested", say_count(len(done.rows), "thing"))
    yield Rows(done)


def _change_blocks(m: Material, c: Choices) -> Iterator[Block]:
    if m.since is None:
        yield WordsBlock("No version has been named yet, so there is nothing to count changes from.")
        return
    listing = lists.list_changes(m)
    yield Heading(listing.title, say_count(len(listing.rows), "difference"))
    yield Rows(listing, strong=("of",))


def _view_from_above(m: Material, c: Choices) -> Iterator[Block]:
    yield from_above(m.index, _room_on_paper(c, True)[1] - 2, c.items)


SHEETS: dict[str, Sheet] = {
    s.key: s
    for s in (
        _patch_sheet("patch", "Patch by universe", "Who starts where, universe by universe.", "universe", "",
        lists.list_spans),
        _patch_sheet("numbers", "Patch by number", "The list as the crew calls the lamps.", "", "number"),
        _patch_sheet("positions", "Patch by position", "What hangs on each hang point.", f"own:{HANG_POINT}", "number"),
        _patch_sheet("circuits", "Patch by circuit", "What each circuit feeds.", "own:Circuit", "number"),
        Sheet("labels", "Address labels", "One for each lamp, with the picture of its switches.", _label_blocks),
        Sheet("map", "Channel maps", "All 512 slots of a universe.", _map_blocks, "universe"),
        Sheet("charts", "Channel charts", "What each channel of each mode does.", _chart_blocks, "profile"),
        Sheet("cards", "Setting cards of devices", "What to enter on each device's pages, to tick.", _card_blocks,
        "device"),
        Sheet("lamps", "Setting cards of lamps", "Mode and address to set on each lamp, to tick.", _lamp_cards,
              table=lists.lamp_cards),
        Sheet("risers", "Devices with their runs", "Every cable to scale, and its segments.", _riser_blocks, "device"),
        _plain_sheet("ports", "Port table", "What each port listens to and puts out.", lists.list_ports),
        _plain_sheet("cables", "Cables and power", "Lengths, loads, adapters, amperes and volts.", lists.list_lines,
               lists.list_strings, lists.list_power),
        _plain_sheet("joints", "Joints and wire colours", "Which wire meets which, by function.", lists.wire_joints),
        _plain_sheet("network", "Network list", "Addresses, MACs, universes, feeds.", lists.list_devices,
        lists.list_feeds,
               lists.list_universes, strong=("address",)),
        Sheet("findings", "Findings and waivers", "What is wrong, doubtful or accepted.", _finding_blocks, "", True),
        Sheet("tests", "Test plan and record", "What is still to be tested, and what was.", _test_blocks),
        Sheet("changes", "Changes since the last issue", "What to do over, where an older sheet hangs.",
        _change_blocks, "",
              True),
        Sheet("plan", "Rig from above", "Where each fixture hangs.", _view_from_above, "", True),
    )
}  # fmt: skip


def choices_about(rig: Rig, about: About) -> list[tuple[str, str]]:
    """(key, words) of what a sheet can be about."""
    if about == "universe":
        made = (rig.universes[u] for u in universes_in_order(rig))
        return [(str(u.number), f"{u.number} {u.name}".strip()) for u in made]
    if about == "device":
        return sorted(((k, d.name) for k, d in rig.devices.items()), key=lambda p: natural_sort_key(p[1]))
    if about == "profile":
        return sorted(((k, p.name) for k, p in rig.profiles.items()), key=lambda p: natural_sort_key(p[1]))
    return []


def columns_of(m: Material, sheet: Sheet) -> list[tuple[str, str]]:
    """(key, title) of the columns that can be chosen for a sheet; none where it has no list of its own."""
    if sheet.table is None:
        return []
    bare = Material(Index(Rig(columns=m.rig.columns)))  # headings need no rows: there may be thousands
    return [(h.key, h.title) for h in sheet.table(bare).heads if h.title]


def possible_groupings(m: Material) -> list[tuple[str, str]]:
    """(key, title) of what the patch can be split by."""
    own = [(c, title_of_column(c)) for c in keys_of_columns(m.rig) if c.startswith("own:")]
    return [("universe", "Universe"), ("profile", "Profile"), ("on", "Device and port"), *own]


def issue_of(m: Material) -> str:
    """The issue that stands on every page: the last version's name, and whether the rig has gone on since."""
    last = latest_version(m.rig)
    if last is None:
        return "not issued"
    changed = m.since is not None and m.since[0] == last.name and bool(m.since[1])
    return f"{last.name}, changed since" if changed else last.name


def make_pdf(m: Material, key: str, choices: Choices, progress: Progress = _tell_nobody) -> bytes:
    """A sheet as PDF. Raises Refused for an unknown one or for choices it cannot be made with, Stopped."""
    sheet = SHEETS.get(key)
    if sheet is None:
        raise Refused(f"There is no sheet “{key}”; there are {', '.join(SHEETS)}.")
    m = replace(m, decimal=choices.decimal, day=choices.day)
    paper = Paper(m.rig.name, sheet.title, issue_of(m), m.say_date(m.now), choices.header, choices.logo)
    return render_pdf(list(sheet.make(m, choices)), choices, paper, sheet.landscape, progress)


def file_name(m: Material, key: str) -> str:
    """What the file of a sheet is called, as any file system takes it."""
    words = f"{m.rig.name} {SHEETS[key].title}"
    return "".join(c if c.isalnum() or c in " -_" else "-" for c in words).strip() or "sheet"
