"""`welvo import` and `welvo export`: tables and scenes in and out of a rig, without a window."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from welvo.cli.base import AsJson, RigFile, app, fail, load_rig
from welvo.cli.papers import material

if TYPE_CHECKING:
    from collections.abc import Sequence

    from welvo.patch.spreadsheet import Row
    from welvo.rig.document import Rig


@app.command("import")
def import_(
    file: RigFile,
    source: Annotated[Path, typer.Argument(help="A table (.csv, .xlsx, .ods) or a scene (.mvr).", show_default=False)],
    to: Annotated[
        Path | None, typer.Option(help="Where to write the rig; without it nothing is written.", show_default=False)
    ] = None,
    columns: Annotated[
        list[str] | None,
        typer.Option("--column", help="What a column is: “Truss=hang point”, “Fix=number”.", show_default=False),
    ] = None,
    types: Annotated[
        list[str] | None,
        typer.Option("--type", help="What a type is: “B9=Bar 9 · 38 slot”, or “B9=draft”.", show_default=False),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Say what a table or a scene would add to a rig and change in it, and with --to do it. Exit code 1 when rows are
    left out."""
    from welvo.formats.files import RigFileError
    from welvo.formats.mvr import read_mvr
    from welvo.formats.mvr_take import take_scene
    from welvo.formats.rigfile import save
    from welvo.patch.index import Index
    from welvo.rig.base import Refused

    rig: Rig = load_rig(file)
    if to is not None and to.suffix not in (".welvo", ".json"):
        fail(f"{to.name}: the name must end in .welvo or .json.")
    doubts: Sequence[str] = ()
    try:
        if source.suffix.lower() == ".mvr":
            scene = take_scene(Index(rig), read_mvr(source))
            made, rows, doubts = scene.rig, scene.rows, scene.doubts
        else:
            made, rows, doubts = _table(rig, source, columns or [], types or [])
        if to is not None:
            save(made, to)
    except (Refused, RigFileError) as e:
        fail(str(e))
    if as_json:
        keys = ("n", "state", "who", "before", "after", "why", "meets")
        said = {"rows": [{k: getattr(r, k) for k in keys} for r in rows], "doubts": list(doubts)}
        typer.echo(json.dumps(said | {"written": to.name if to else None}, indent=1, ensure_ascii=False))
    else:
        for r in rows:
            meets = f"  meets {', '.join(r.meets)}" if r.meets else ""
            typer.echo(f"{r.n:>5} {r.state:8} {r.who:>6}  {r.why or f'{r.before} → {r.after}'}{meets}")
        for d in doubts:
            typer.echo(f"welvo: {d}", err=True)
        count = {s: sum(r.state == s for r in rows) for s in ("new", "changed", "same", "refused")}
        typer.echo(", ".join(f"{n} {s}" for s, n in count.items()) + (f"; written to {to.name}" if to else ""))
    raise typer.Exit(1 if any(r.state == "refused" for r in rows) else 0)


def _table(rig: Rig, source: Path, said: list[str], types: list[str]) -> tuple[Rig, tuple[Row, ...], list[str]]:
    from welvo.formats.workbooks import read_grid
    from welvo.patch.index import Index
    from welvo.patch.spreadsheet import DRAFT, Mapping, guess, readable, understand
    from welvo.patch.table import read_mode
    from welvo.rig.base import Refused

    grid = read_grid(source)
    heads = grid.rows[0]
    found = list(guess(rig, heads))
    known = {w.lower(): k for k, w in readable(rig)} | {k.lower(): k for k, _ in readable(rig)}
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
    done = understand(Index(rig), grid.rows, Mapping(tuple(found), kinds), grid.loose)
    doubts = [f"not read: {', '.join(done.unread)}"] if done.unread else []
    doubts += [f"no profile for “{name}” ({count} rows): say --type “{name}=…”" for name, count in done.unknown]
    return done.rig, done.rows, doubts


@app.command("export")
def export_(
    file: RigFile,
    to: Annotated[
        Path, typer.Option(help="Where to write: .csv, .xlsx, .ods, or .mvr for a scene.", show_default=False)
    ],
    which: Annotated[str, typer.Option("--list", help="Which list; “list” shows them.")] = "patch",
    since: Annotated[str, typer.Option(help="For the list of changes: the version they are counted from.")] = "",
) -> None:
    """Write a list of a rig as a table for a spreadsheet, or the rig as a scene (MVR)."""
    from welvo.formats.files import RigFileError, write_atomic
    from welvo.formats.mvr_write import dumps_mvr
    from welvo.rig.base import Refused
    from welvo.sheets.lists import LISTS
    from welvo.sheets.tables import list_bytes

    rig: Rig = load_rig(file)
    if which == "list":
        for key, (words, _) in LISTS.items():
            typer.echo(f"{key:10} {words}")
        return
    if which not in LISTS:
        fail(f"There is no list “{which}”; there are {', '.join(LISTS)}.")
    m = material(rig, since)
    try:
        if to.suffix.lower() == ".mvr":
            data, doubts = dumps_mvr(m.index)
            for d in doubts:
                typer.echo(f"welvo: {d}", err=True)
            said = f"{len(rig.fixtures)} fixtures"
        else:
            data, count = list_bytes(m, which, to.suffix)
            said = f"{count} rows"
        write_atomic(to, data, keep=True)
    except (Refused, RigFileError) as e:
        fail(str(e))
    typer.echo(f"{said} written to {to.name}")
