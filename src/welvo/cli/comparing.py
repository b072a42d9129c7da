"""`welvo diff`, `merge` and `version`: two rigs held against each other, two people's work made one."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from welvo.cli.base import AsJson, RigFile, app, fail, load_rig

if TYPE_CHECKING:
    from welvo.rig.document import Rig

Out = Annotated[Path, typer.Option("--to", help="Where to write the merged rig: .welvo or .json.", show_default=False)]
_OF = "A rig; FILE#NAME is a version that is kept in it."


def rig_or_version(text: str) -> Rig:
    """A rig from `FILE`, or the version `NAME` inside of it from `FILE#NAME`."""
    from welvo.formats.files import RigFileError
    from welvo.formats.versions import unpack

    path, mark, name = text.rpartition("#") if "#" in text and not Path(text).exists() else (text, "", "")
    rig: Rig = load_rig(Path(path))
    if not mark:
        return rig
    found = next((v for v in rig.versions.values() if v.name.lower() == name.strip().lower()), None)
    if found is None:
        have = ", ".join(v.name for v in rig.versions.values()) or "none"
        fail(f"{Path(path).name} has no version “{name}”. It has: {have}.")
    try:
        return unpack(found, rig)
    except RigFileError as e:
        fail(str(e))


@app.command()
def diff(
    a: Annotated[str, typer.Argument(help=_OF, show_default=False)],
    b: Annotated[str, typer.Argument(help="The later one, said in the same way.", show_default=False)],
    as_json: AsJson = False,
) -> None:
    """Say what is different from one rig to another. Exit code 1 when something is."""
    from welvo.patch.compare import compare, counted
    from welvo.patch.index import Index

    found = compare(Index(rig_or_version(a)), Index(rig_or_version(b)))
    if as_json:
        keys = ("kind", "part", "id", "who", "what", "before", "after")
        typer.echo(json.dumps([{k: getattr(d, k) for k in keys} for d in found], indent=1, ensure_ascii=False))
    else:
        for d in found:
            typer.echo(f"{d.kind:13} {d.who:24} {d.what:22} {d.before or '–'} → {d.after or '–'}")
        typer.echo(counted(found))
    raise typer.Exit(1 if found else 0)


@app.command()
def merge(
    base: Annotated[str, typer.Argument(help="What both began with. " + _OF, show_default=False)],
    a: Annotated[str, typer.Argument(help="The first one's rig.", show_default=False)],
    b: Annotated[str, typer.Argument(help="The other one's rig.", show_default=False)],
    to: Out,
    prefer: Annotated[
        Literal["", "a", "b"], typer.Option(help="Whose value is taken where both changed the same place.")
    ] = "",
    as_json: AsJson = False,
) -> None:
    """Merge the work of two people. What both changed is listed; nothing is written until it is decided (exit code
    1)."""
    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import save
    from welvo.patch.compare import say_meeting
    from welvo.patch.index import Index
    from welvo.rig.base import Refused
    from welvo.rig.merge import Side
    from welvo.rig.merge import merge as merged

    if to.suffix not in (".welvo", ".json"):
        fail(f"{to.name}: the name must end in .welvo or .json.")
    root, mine, theirs = (rig_or_version(x) for x in (base, a, b))
    side: Side = "theirs" if prefer == "b" else "mine"
    try:
        found = merged(root, mine, theirs)
        if found.meetings and prefer:
            found = merged(root, mine, theirs, {m.place: side for m in found.meetings})
    except Refused as e:
        fail(str(e))
    indexes = Index(mine), Index(found.theirs)
    meetings: list[dict[str, Any]] = [
        dict(zip(("who", "what", "a", "b"), say_meeting(*indexes, m))) for m in found.meetings
    ]
    written = not found.meetings or bool(prefer)
    if written:
        try:
            save(found.rig, to)
        except RigFileError as e:
            fail(str(e))
    if as_json:
        said = {"taken": len(found.taken), "meetings": meetings, "notes": list(found.notes), "written": written}
        typer.echo(json.dumps(said, indent=1, ensure_ascii=False))
    else:
        for row in meetings:
            typer.echo(f"both changed {row['who']}, {row['what']}: a has {row['a']}, b has {row['b']}")
        for note in found.notes:
            typer.echo(note)
        typer.echo(f"{len(found.taken)} changes of b taken, {len(meetings)} places both changed")
        typer.echo(f"written to {to.name}" if written else "nothing written: decide with --prefer a or --prefer b")
    raise typer.Exit(0 if written else 1)


@app.command("version")
def version_(
    file: RigFile,
    name: Annotated[str, typer.Option(help="Name the rig as it is, such as “Issue 2”; “next” counts on.")] = "",
    note: Annotated[str, typer.Option(help="What it was handed out for.")] = "",
    as_json: AsJson = False,
) -> None:
    """List the versions that are kept in a rig, or name its present state as one."""
    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import save
    from welvo.formats.versions import in_time, name_version, next_name
    from welvo.rig.base import Refused

    rig: Rig = load_rig(file)
    if name:
        try:
            rig, _ = name_version(rig, next_name(rig) if name == "next" else name, "", note, time.time())
            save(rig, file)
        except (Refused, RigFileError) as e:
            fail(str(e))
    rows = [(v.name, time.strftime("%Y-%m-%d %H:%M", time.localtime(v.at)), v.who, v.note)
            for k in in_time(rig) if (v := rig.versions[k])]  # fmt: skip
    if as_json:
        keys = ("name", "at", "who", "note")
        typer.echo(json.dumps([dict(zip(keys, r)) for r in rows], indent=1, ensure_ascii=False))
        return
    for r in rows:
        typer.echo(f"{r[0]:16} {r[1]}  {r[2]:12} {r[3]}".rstrip())
    if not rows:
        typer.echo("no versions yet")
