"""`welvo patch`: list, lay out, pack, reckon, and write what comes of it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.exceptions import Exit

from welvo.cli.base import (
    FILE,
    app,
    as_json_option,
    check_rig_target,
    dry_run_option,
    end_dry_run,
    fail_with,
    load_rig,
    rig_file,
    say_json,
)

if TYPE_CHECKING:
    from welvo.patch.index import Index
    from welvo.patch.laying import Laying
    from welvo.patch.steps import PatchStep
    from welvo.rig.document import Edit, Rig


@app.command()
@rig_file
@as_json_option
@click.option("--lay", default="", help="Lay out fixtures: numbers (101-112), a group's name, or unpatched.")
@click.option("--from", "start", default="free", help="Where the first one starts, such as 3.1; free by default.")
@click.option("--spacing", type=click.IntRange(0, 512), default=0, help="Slots from start to start.")
@click.option("--gap", type=click.IntRange(0, 512), default=0, help="Free slots between.")
@click.option("--round", "every", type=click.IntRange(0, 512), default=0, help="Starts at 1, 1 + n, 1 + 2n and so on.")
@click.option("--order", default="list", help="list, number, name, left to right, front to back.")
@click.option("--into", default="", help="Universes to go through, such as 3-6.")
@click.option(
    "--headroom", type=click.IntRange(0, 511), default=0, help="Slots that stay free at the end of each universe."
)
@click.option("--together", is_flag=True, help="Keep every group in one universe.")
@click.option("--over", is_flag=True, help="Over what is there, except what is locked.")
@click.option("--pack", type=click.IntRange(0), default=0, help="Pack a universe, by number, with the fewest moves.")
@click.option(
    "--how-many",
    type=click.IntRange(0, 512),
    default=0,
    help="How many items of so many slots fit, with --from and a way.",
)
@click.option("--mode", default="", help="What if: 201-206=9 slot. Every item it would hit is said.")
@click.option("--capacity", is_flag=True, help="What is used, reserved and possible.")
@click.option("--wires", is_flag=True, help="All numbers on the wire, in every way of counting.")
@click.option("--write", type=FILE, help="Write the rig with it done. Without, nothing is changed anywhere.")
@dry_run_option
def patch(
    file: Path,
    as_json: bool,
    lay: str,
    start: str,
    spacing: int,
    gap: int,
    every: int,
    order: str,
    into: str,
    headroom: int,
    together: bool,
    over: bool,
    pack: int,
    how_many: int,
    mode: str,
    capacity: bool,
    wires: bool,
    write: Path | None,
    dry_run: bool,
) -> None:
    """List every span of slots; or lay out, pack, reckon what fits and what another mode would do.

    Exits with 1 when something found no place or would meet others.
    """
    from welvo.patch.index import Index
    from welvo.rig.base import Refused

    rig = load_rig(file)
    index = Index(rig)
    asked = [bool(lay), bool(pack), bool(how_many), bool(mode), capacity, wires]
    if sum(asked) > 1:
        fail_with("One of --lay, --pack, --how-many, --mode, --capacity and --wires at a time.")
    if sum(map(bool, (spacing, gap, every))) > 1:
        fail_with("One of --spacing (start to start), --gap (free between) and --round at a time.")
    if (write or dry_run) and not (lay or pack or mode):
        fail_with(f"{'--write' if write else '--dry-run'} goes with --lay, --pack or --mode.")
    if write and dry_run:
        fail_with("--dry-run writes nothing; leave --write out.")
    edit: Edit | None = None
    try:
        if lay or how_many:
            laying = _read_laying(
                rig,
                start=start,
                spacing=spacing,
                gap=gap,
                every=every,
                order=order,
                into=into,
                headroom=headroom,
                together=together,
                over=over,
            )
            if lay:
                answer, edit = _lay_out(index, lay, laying)
            else:
                answer = _how_many(index, how_many, laying)
        elif pack:
            answer, edit = _pack_universe(index, pack)
        elif mode:
            answer, edit = _change_mode(index, mode)
        elif capacity or wires:
            answer = _answer_capacity(index) if capacity else _answer_wires(index)
        else:
            _list_spans(index, as_json)
            return
        if dry_run:
            made, change = edit or (rig, None)
            end_dry_run(rig, made, change, as_json)
        if lay or pack or mode:
            answer["written"] = _write_rig(edit[0], write) if edit else None
    except Refused as e:
        fail_with(str(e))
    if as_json:
        say_json(answer)
    else:
        _say_answer(answer)
    raise Exit(1 if answer.get("left") or answer.get("meets") or answer.get("past") or answer.get("lost") else 0)


def _find_keys(rig: Rig, what: str) -> list[str]:
    """Fixtures by number, by group, or all that are not patched."""
    from welvo.patch.index import Index
    from welvo.rig.base import Refused
    from welvo.rig.lookup import fixtures_by_number
    from welvo.rig.notation import read_numbers

    if what.strip().lower() == "unpatched":
        found = Index(rig).open
        keys = [k for k in rig.fixtures if k in found]
        if not keys:
            raise Refused("Every fixture has an address already.")
        return keys
    group = next((g for g in rig.groups.values() if g.name.lower() == what.strip().lower()), None)
    if group:
        return [m for m in group.members if m in rig.fixtures or m in rig.elements]
    return fixtures_by_number(rig, read_numbers(what))


def _read_laying(
    rig: Rig,
    start: str,
    spacing: int,
    gap: int,
    every: int,
    order: str,
    into: str,
    headroom: int,
    together: bool,
    over: bool,
) -> Laying:
    from welvo.patch.laying import ORDERS, Laying
    from welvo.rig.base import Refused
    from welvo.rig.lookup import universe_by_number
    from welvo.rig.notation import read_numbers, read_place

    place = None
    if start.strip().lower() not in ("", "free"):
        number, address = read_place(start)
        uid = universe_by_number(rig, number)
        if not uid:
            raise Refused(f"There is no universe {number} in this rig.")
        place = (uid, address)
    chosen = next((o for o in ORDERS if o == order), None)
    if chosen is None:
        raise Refused(f"“{order}” is no order: {', '.join(ORDERS)}.")
    universes = []
    for number in read_numbers(into):
        universes.append(universe_by_number(rig, number))
        if not universes[-1]:
            raise Refused(f"There is no universe {number} in this rig.")
    if place and universes and place[0] not in universes:
        raise Refused(f"{start} lies in none of the universes {into}.")
    pattern, by = (
        ("spacing", spacing) if spacing else ("gap", gap) if gap else ("round", every) if every else ("packed", 0)
    )
    return Laying(place, pattern, by, chosen, tuple(universes), headroom, together, over)  # type: ignore[arg-type]


def _moves_of_steps(index: Index, steps: list[PatchStep]) -> list[dict[str, Any]]:
    from welvo.rig.notation import say_place

    rig = index.rig
    now = {(s.key, s.break_no): s for k in {x.key for x in steps} for s in reversed(index.spans_of(k))}
    rows = []
    for s in steps:
        old = now.get((s.key, s.break_no))
        was = say_place(rig.universes[old.universe].number, old.first) if old else None
        rows.append(
            {
                "what": index.word_for_taker(s.key),
                "break": s.break_no + 1,
                "from": was,
                "to": say_place(rig.universes[s.universe].number, s.address),
            }
        )
    return rows


def _lay_out(index: Index, what: str, laying: Laying) -> tuple[dict[str, Any], Edit | None]:
    from welvo.patch.laying import items_that_follow_layout, steps_that_change, take_layout
    from welvo.patch.laying import lay_out_tracks as lay_out
    from welvo.rig.lookup import mode_of, name_of_item
    from welvo.rig.notation import say_place

    rig = index.rig
    keys = []
    for key in _find_keys(rig, what):
        fixture = rig.fixtures.get(key)
        parts = mode_of(rig, fixture) if fixture else None
        have = {max(0, s.break_no) for s in index.spans_of(key)} if what.strip().lower() == "unpatched" else set()
        keys += (
            [(key, b) for b, part in enumerate(parts.breaks) if part.slots and b not in have] if parts else [(key, 0)]
        )
    laid = lay_out(index, keys, laying)
    answer: dict[str, Any] = {
        "moves": _moves_of_steps(index, steps_that_change(index, laid)),
        "stays": [name_of_item(rig, k) for k in laid.stays],
        "freed": [name_of_item(rig, k) for k in laid.freed],
        "follows": [name_of_item(rig, k) for k in items_that_follow_layout(index, laid)],
        "left": [name_of_item(rig, k) for k, _ in laid.left],
        "why": laid.why,
        "last": say_place(rig.universes[laid.last[0]].number, laid.last[2]) if laid.steps else None,
        "free_behind": laid.free_after,
    }
    return answer, take_layout(rig, laid) if laid.steps else None


def _how_many(index: Index, width: int, laying: Laying) -> dict[str, Any]:
    from welvo.patch.laying import how_many
    from welvo.rig.notation import say_place

    fit = how_many(index, width, laying)
    where = index.rig.universes[fit.universe].number if fit.count else 0
    return {
        "fit": fit.count,
        "last": f"{say_place(where, fit.first)}–{fit.last:03d}" if fit.count else None,
        "left_over": fit.left_over,
    }


def _pack_universe(index: Index, number: int) -> tuple[dict[str, Any], Edit]:
    from welvo.patch.repack import repack_universe
    from welvo.patch.steps import apply_steps
    from welvo.rig.base import Refused
    from welvo.rig.lookup import universe_by_number

    uid = universe_by_number(index.rig, number)
    if not uid:
        raise Refused(f"There is no universe {number} in this rig.")
    found = repack_universe(index, uid)
    steps = list(found.steps)
    edit = apply_steps(index.rig, steps, f"pack universe {number}")
    answer = {
        "moves": _moves_of_steps(index, steps),
        "stays": [f"{who} ({why})" for who, why in found.fixed],
        "last_before": found.before,
        "last_after": found.after,
        "fewest_proved": found.exact,
    }
    return answer, edit


def _change_mode(index: Index, wish: str) -> tuple[dict[str, Any], Edit]:
    from welvo.patch.mode_edits import change_mode
    from welvo.patch.table import read_mode
    from welvo.rig.base import Refused
    from welvo.survey.effects import effects_of, order_of_name

    rig = index.rig
    what, sign, mode = wish.partition("=")
    if not sign:
        raise Refused(f"“{wish}” says no mode. Write numbers=mode, such as 201-206=9 slot.")
    keys = [k for k in _find_keys(rig, what) if k in rig.fixtures]
    if not keys:
        raise Refused(f"“{what}” names no fixture.")
    edit = change_mode(rig, keys, *read_mode(rig, mode, rig.fixtures[keys[0]].profile))
    found = effects_of(index, edit)
    meets: dict[str, list[str]] = {}
    for e in found:
        if e.kind == "meets":
            meets.setdefault(e.key, []).append(e.with_whom)
            meets.setdefault(e.other, []).append(e.who)
    moved = [e for e in found if e.kind in ("moves", "slots", "placed", "unplaced")]
    answer = {
        "changes": [
            {"what": e.who, "from": e.was_at, "to": e.is_at, "meets": meets.get(e.key, [])}
            for e in sorted(moved, key=lambda e: order_of_name(e.who))
        ],
        "meets": sorted({w for names in meets.values() for w in names}, key=order_of_name),
        "past": [{"what": e.who, "slots": e.slots, "end": e.with_whom} for e in found if e.kind == "past"],
        "lost": [e.who for e in found if e.kind == "unplaced"],
    }
    return answer, edit


def _answer_capacity(index: Index) -> dict[str, Any]:
    from welvo.survey.capacity import device_rows, empty_universes, sender_rows, total_capacity, universe_rows

    rows = [*total_capacity(index), *universe_rows(index), *sender_rows(index.rig), *device_rows(index)]
    return {
        "rows": [
            {
                "kind": r.kind,
                "name": r.name,
                "of": r.unit,
                "used": r.used,
                "reserved": r.reserved,
                "possible": r.possible,
                "free": r.free_slots,
                "note": r.note,
            }
            for r in rows
        ],
        "holds_nothing": [index.rig.universes[u].number for u, _ in empty_universes(index)],
    }


def _answer_wires(index: Index) -> dict[str, Any]:
    import dataclasses

    from welvo.survey.traffic import traffic_of_rig
    from welvo.survey.wires import wire_table

    found = traffic_of_rig(index)
    boxes = [
        {
            "name": index.rig.devices[d].name,
            "own_bits": round(b.own.bits),
            "multicast_bits": round(b.multicast.bits),
            "broadcast_bits": round(b.broadcast.bits),
            "packets": round(b.worst_load.packets),
            "of_link": round(b.share_of_link, 4),
        }
        for d, b in found.devices.items()
    ]
    feeds = [{k: v for k, v in dataclasses.asdict(r).items() if k != "feed"} for r in wire_table(index, found)]
    return {"feeds": feeds, "boxes": boxes, "packets": round(found.total.packets), "bits": round(found.total.bits)}


def _write_rig(rig: Rig, path: Path | None) -> str | None:
    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import save_rig_file

    if path is None:
        return None
    check_rig_target(path)
    try:
        save_rig_file(rig, path)
    except RigFileError as e:
        fail_with(str(e))
    return path.name


def _say_answer(answer: dict[str, Any]) -> None:
    """The same answer for people: rows as columns, the rest as words."""
    for key, value in answer.items():
        if isinstance(value, list) and value and isinstance(value[0], dict):
            heads = list(value[0])
            cells = [[_word_for_value(row[h]) for h in heads] for row in value]
            wide = [max(len(h), *(len(c[n]) for c in cells)) for n, h in enumerate(heads)]
            click.echo("  ".join(h.ljust(w) for h, w in zip(heads, wide)).rstrip())
            for row in cells:
                click.echo("  ".join(c.ljust(w) for c, w in zip(row, wide)).rstrip())
        elif value not in (None, "", []):
            words = ", ".join(_word_for_value(v) for v in value) if isinstance(value, list) else _word_for_value(value)
            click.echo(f"{key.replace('_', ' ')}: {words}")
    if "moves" in answer and not answer["moves"]:
        click.echo("nothing moves")


def _word_for_value(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(map(str, value))
    if isinstance(value, float):
        return f"{value:g}"
    return "–" if value in (None, "") else str(value)


def _list_spans(index: Index, as_json: bool) -> None:
    from welvo.patch.index import span_sort_key
    from welvo.rig.lookup import mode_of, running_number
    from welvo.rig.notation import say_place

    rig = index.rig
    spans = sorted(index.all_spans(), key=lambda s: (rig.universes[s.universe].number, *span_sort_key(s)))
    rows: list[dict[str, Any]] = []
    for s in spans:
        fixture = rig.fixtures.get(s.item_of_span)
        mode = mode_of(rig, fixture) if fixture else None
        break_no = max(0, s.break_no)  # what a converter drives is its first
        rows.append(
            {
                "kind": "fixture" if fixture else "element" if s.item_of_span else "segment",
                "number": fixture.number if fixture else None,
                "name": fixture.name if fixture else index.word_for_taker(s.key),
                "break": break_no + 1,
                "break_name": mode.breaks[break_no].name if mode else "",
                "universe": rig.universes[s.universe].number,
                "first": s.first,
                "last": s.last,
                "running": running_number(rig, rig.universes[s.universe].number, s.first),
            }
        )
    if as_json:
        say_json(rows)
        return
    for r in rows:
        which = str(r["number"]) if r["number"] is not None else "–"
        click.echo(
            f"{which:>6}  {r['name']:28} {r['break']:>2}  {say_place(r['universe'], r['first'])} – {r['last']:03d}  "
            f"{r['running']:>8}"
        )
