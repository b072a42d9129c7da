"""`welvo import` and `welvo export`: tables and scenes in and out of a rig, without a window."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click
from click.exceptions import Exit

from welvo.cli.base import (
    FILE,
    STANDARD,
    app,
    as_json_option,
    check_rig_target,
    complete_words,
    dry_run_option,
    end_dry_run,
    fail_with,
    input_name,
    load_rig,
    print_note,
    read_input,
    rig_file,
    save_rig,
    say_json,
    write_output,
)
from welvo.cli.papers import make_material

if TYPE_CHECKING:
    from collections.abc import Sequence

    from welvo.rig.document import Rig
    from welvo.survey.spreadsheet import Row


@app.command("import")
@rig_file
@click.argument("source", type=FILE, help="A table (.csv, .xlsx, .ods) or a scene (.mvr); - is standard input.")
@click.option("--to", type=FILE, help="Where to write the rig; without it nothing is written.")
@click.option("--column", "columns", multiple=True, help="What a column is: “Truss=hang point”, “Fix=number”.")
@click.option("--type", "types", multiple=True, help="What a type is: “B9=Bar 9 · 38 slot”, or “B9=draft”.")
@dry_run_option
@as_json_option
def import_(
    file: Path,
    source: Path,
    to: Path | None,
    columns: tuple[str, ...],
    types: tuple[str, ...],
    dry_run: bool,
    as_json: bool,
) -> None:
    """Say what a table or a scene would add to a rig and change in it, and with --to do it. Exit code 1 when rows are
    left out."""
    from welvo.formats.archive import holds_entry
    from welvo.formats.files import RigFileError
    from welvo.formats.mvr import MOST_FILE, SCENE, loads_mvr
    from welvo.formats.mvr_take import take_scene
    from welvo.patch.index import Index
    from welvo.rig.base import Refused

    rig: Rig = load_rig(file)
    if dry_run and to is not None:
        fail_with("--dry-run writes nothing; leave --to out.")
    if to is not None:
        check_rig_target(to)
    doubts: Sequence[str] = ()
    written = None
    try:
        data = read_input(source, MOST_FILE, "a list")
        if source.suffix.lower() == ".mvr" or (source == STANDARD and holds_entry(data, SCENE)):
            scene = take_scene(Index(rig), loads_mvr(data, input_name(source)))
            made, rows, doubts = scene.rig, scene.rows, scene.doubts
        else:
            made, rows, doubts = _take_table(rig, data, input_name(source), columns, types)
        if dry_run:
            end_dry_run(rig, made, None, as_json)
        if to is not None:
            written = save_rig(made, to)
    except (Refused, RigFileError) as e:
        fail_with(str(e))
    if as_json and to != STANDARD:
        keys = ("n", "state", "who", "before", "after", "why", "meets")
        said = {"rows": [{k: getattr(r, k) for k in keys} for r in rows], "doubts": list(doubts)}
        say_json(said | {"written": written})
    else:
        for r in rows:
            meets = f"  meets {', '.join(r.meets)}" if r.meets else ""
            click.echo(
                f"{r.n:>5} {r.state:8} {r.who:>6}  {r.why or f'{r.before} → {r.after}'}{meets}", err=to == STANDARD
            )
        for d in doubts:
            print_note(d)
        count = {s: sum(r.state == s for r in rows) for s in ("new", "changed", "same", "refused")}
        click.echo(
            ", ".join(f"{n} {s}" for s, n in count.items()) + (f"; written to {written}" if written else ""),
            err=to == STANDARD,
        )
    raise Exit(1 if any(r.state == "refused" for r in rows) else 0)


def _take_table(
    rig: Rig, data: bytes, name: str, said: Sequence[str], types: Sequence[str]
) -> tuple[Rig, tuple[Row, ...], list[str]]:
    from welvo.formats.workbooks import grid_of
    from welvo.patch.index import Index
    from welvo.patch.table import read_mode
    from welvo.rig.base import Refused
    from welvo.survey.spreadsheet import DRAFT, Mapping, guess_mapping, readable_columns, understand_table

    grid = grid_of(data, name)
    heads = grid.rows[0]
    found = list(guess_mapping(rig, heads))
    known = {w.lower(): k for k, w in readable_columns(rig)} | {k.lower(): k for k, _ in readable_columns(rig)}
    for pair in said:
        head, sign, what = pair.partition("=")
        at = next((n for n, h in enumerate(heads) if h.lower() == head.strip().lower()), -1)
        if not sign or at < 0:
            raise Refused(f"“{pair}” names no column of the table. It has: {', '.join(heads)}.")
        key = known.get(what.strip().lower(), f"own:{what.strip()}" if what.strip() else "")
        found = ["" if c == key else c for c in found]
        found[at] = key
    kinds: dict[str, str] = {}
    for pair in types:
        name, sign, mode = pair.partition("=")
        if not sign:
            raise Refused(f"“{pair}” says no mode. Write THEIRS=Profile · mode.")
        kinds[name.strip()] = DRAFT if mode.strip().lower() == DRAFT else "\t".join(read_mode(rig, mode))
    done = understand_table(Index(rig), grid.rows, Mapping(tuple(found), kinds), grid.loose)
    doubts = [f"not read: {', '.join(done.unread)}"] if done.unread else []
    doubts += [f"no profile for “{name}” ({count} rows): say --type “{name}=…”" for name, count in done.unknown]
    return done.rig, done.rows, doubts


def _offered_lists() -> list[tuple[str, str]]:
    from welvo.sheets.lists import LISTS

    return [(key, words) for key, (words, _) in LISTS.items()]


@app.command("export")
@rig_file
@click.option(
    "--to",
    type=FILE,
    required=True,
    help="Where to write: .csv, .xlsx, .ods, or .mvr for a scene; - is CSV on standard output.",
)
@click.option(
    "--list",
    "which",
    default="patch",
    shell_complete=complete_words(_offered_lists),
    help="Which list; “list” shows them.",
)
@click.option("--since", default="", help="For the list of changes: the version they are counted from.")
@as_json_option
def export_(file: Path, to: Path, which: str, since: str, as_json: bool) -> None:
    """Write a list of a rig as a table for a spreadsheet, or the rig as a scene (MVR)."""
    from welvo.formats.files import RigFileError
    from welvo.formats.mvr_write import dumps_mvr
    from welvo.rig.base import Refused
    from welvo.sheets.lists import LISTS
    from welvo.sheets.tables import list_bytes

    rig: Rig = load_rig(file)
    if which == "list":
        if as_json:
            say_json({"lists": [{"key": key, "title": words} for key, words in _offered_lists()]})
            return
        for key, words in _offered_lists():
            click.echo(f"{key:10} {words}")
        return
    if which not in LISTS:
        fail_with(f"There is no list “{which}”; there are {', '.join(LISTS)}.")
    m = make_material(rig, since)
    try:
        if to.suffix.lower() == ".mvr":
            data, doubts = dumps_mvr(m.index)
            for d in doubts:
                print_note(d)
            count, what = len(rig.fixtures), "fixtures"
        else:
            data, count = list_bytes(m, which, ".csv" if to == STANDARD else to.suffix)
            what = "rows"
        written = write_output(to, data, keep=True)
    except (Refused, RigFileError) as e:
        fail_with(str(e))
    if as_json and to != STANDARD:
        say_json({"written": written, "count": count, "of": what})
    else:
        click.echo(f"{count} {what} written to {written}", err=to == STANDARD)
