"""`welvo diff`, `merge` and `version`: two rigs held against each other, two people's work made one."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.exceptions import Exit

from welvo.cli.base import (
    FILE,
    STANDARD,
    app,
    as_json_option,
    check_rig_target,
    dry_run_option,
    end_dry_run,
    fail_with,
    load_rig,
    rig_file,
    save_rig,
    say_json,
)

if TYPE_CHECKING:
    from welvo.rig.document import Rig

out_option = click.option("--to", type=FILE, required=True, help="Where to write the merged rig: .welvo or .json.")
_OF = "A rig; FILE#NAME is a version that is kept in it, REVISION:FILE what git has."


def rig_or_version(text: str) -> Rig:
    """A rig from `FILE`, the version `NAME` inside of it from `FILE#NAME`, or what git has as `REVISION:FILE`."""
    from welvo.formats.files import RigFileError
    from welvo.formats.versions import unpack_version

    if text == "-":
        return load_rig(STANDARD)
    if ":" in text and not os.path.exists(text):
        return _from_git(text)
    path, mark, name = text.rpartition("#") if "#" in text and not os.path.exists(text) else (text, "", "")
    rig: Rig = load_rig(Path(path))
    if not mark:
        return rig
    found = next((v for v in rig.versions.values() if v.name.lower() == name.strip().lower()), None)
    if found is None:
        have = ", ".join(v.name for v in rig.versions.values()) or "none"
        fail_with(f"{Path(path).name} has no version “{name}”. It has: {have}.")
    try:
        return unpack_version(found, rig)
    except RigFileError as e:
        fail_with(str(e))


def _from_git(text: str) -> Rig:
    """`HEAD~1:hall.welvo`; in a merge that is not settled `:1:hall.welvo` is what both began with, `:2:` one's own."""
    import subprocess

    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import rig_from_bytes

    try:
        done = subprocess.run(["git", "cat-file", "blob", text], capture_output=True, timeout=60, check=False)
    except OSError:
        fail_with(f"There is no file “{text}”, and no git on this computer that could have it.")
    if done.returncode:
        fail_with(f"There is no file “{text}”, and git has nothing of that name here.")
    try:
        return rig_from_bytes(done.stdout, text)
    except RigFileError as e:
        fail_with(str(e))


@app.command()
@click.argument("a", help=_OF)
@click.argument("b", help="The later one, said in the same way.")
@as_json_option
def diff(a: str, b: str, as_json: bool) -> None:
    """Say what is different from one rig to another. Exit code 1 when something is."""
    from welvo.patch.index import Index
    from welvo.survey.compare import compare_rigs, count_differences

    found = compare_rigs(Index(rig_or_version(a)), Index(rig_or_version(b)))
    if as_json:
        keys = ("kind", "part", "id", "who", "what", "before", "after")
        say_json([{k: getattr(d, k) for k in keys} for d in found])
    else:
        for d in found:
            click.echo(f"{d.kind:13} {d.who:24} {d.what:22} {d.before or '–'} → {d.after or '–'}")
        click.echo(count_differences(found))
    raise Exit(1 if found else 0)


@app.command()
@click.argument("base", help="What both began with. " + _OF)
@click.argument("a", help="The first one's rig.")
@click.argument("b", help="The other one's rig.")
@out_option
@click.option(
    "--prefer",
    type=click.Choice(["", "a", "b"]),
    default="",
    help="Whose value is taken where both changed the same place.",
)
@click.option(
    "--driver", is_flag=True, help="As git's merge driver: files may have any name, and an empty one is an empty rig."
)
@dry_run_option
@as_json_option
def merge(base: str, a: str, b: str, to: Path, prefer: str, driver: bool, dry_run: bool, as_json: bool) -> None:
    """Merge the work of two people. What both changed is listed; nothing is written until it is decided (exit code
    1)."""
    from welvo.formats.files import RigFileError
    from welvo.patch.index import Index
    from welvo.rig.base import Refused
    from welvo.rig.merge import Side
    from welvo.rig.merge import merge_rigs as merged
    from welvo.survey.compare import say_meeting

    if not driver and not dry_run:
        check_rig_target(to)
    root, mine, theirs = (_empty_or_rig(x) if driver else rig_or_version(x) for x in (base, a, b))
    side: Side = "theirs" if prefer == "b" else "mine"
    try:
        found = merged(root, mine, theirs)
        if found.meetings and prefer:
            found = merged(root, mine, theirs, {m.meeting_place: side for m in found.meetings})
    except Refused as e:
        fail_with(str(e))
    if dry_run and (not found.meetings or prefer):
        end_dry_run(mine, found.rig, None, as_json)
    indexes = Index(mine), Index(found.theirs)
    meetings: list[dict[str, Any]] = [
        dict(zip(("who", "what", "a", "b"), say_meeting(*indexes, m))) for m in found.meetings
    ]
    written = (not found.meetings or bool(prefer)) and not dry_run
    name = ""
    if written:
        try:
            name = _save_like(found.rig, to) if driver else save_rig(found.rig, to)
        except RigFileError as e:
            fail_with(str(e))
    beside = to == STANDARD
    if as_json and not beside:
        said = {"taken": len(found.taken), "meetings": meetings, "notes": list(found.notes), "written": written}
        say_json(said)
    else:
        for row in meetings:
            click.echo(f"both changed {row['who']}, {row['what']}: a has {row['a']}, b has {row['b']}", err=beside)
        for words in found.notes:
            click.echo(words, err=beside)
        click.echo(f"{len(found.taken)} changes of b taken, {len(meetings)} places both changed", err=beside)
        decide = f"nothing written: decide with {_say_how_to_settle(driver)}--prefer a or --prefer b"
        click.echo(f"written to {name}" if written else decide, err=beside)
    raise Exit(0 if written else 1)


def _empty_or_rig(name: str) -> Rig:
    """One of git's three files. Where both sides are new, what they began with is an empty file."""
    from welvo.rig.document import Rig

    path = Path(name)
    return Rig() if os.path.isfile(path) and not path.stat().st_size else load_rig(path)


def _save_like(rig: Rig, path: Path) -> str:
    """Write a rig over a file that git named, as JSON where it held JSON. Raises RigFileError."""
    from welvo.formats.archive import is_zip
    from welvo.formats.files import write_atomic
    from welvo.formats.rigfile import bytes_of

    packed = is_zip(path.read_bytes()[:2])
    write_atomic(path, bytes_of(rig, Path("rig.welvo" if packed else "rig.json")))
    return path.name


def _say_how_to_settle(driver: bool) -> str:
    """What to type after git has stopped at a clash."""
    return "“welvo merge :1:FILE :2:FILE :3:FILE --to FILE” and " if driver else ""


@app.command("version")
@rig_file
@click.option("--name", default="", help="Name the rig as it is, such as “Issue 2”; “next” counts on.")
@click.option("--note", default="", help="What it was handed out for.")
@as_json_option
def version_(file: Path, name: str, note: str, as_json: bool) -> None:
    """List the versions that are kept in a rig, or name its present state as one."""
    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import save_rig_file
    from welvo.formats.versions import in_time, name_version, next_version_name
    from welvo.rig.base import Refused

    rig: Rig = load_rig(file)
    if name:
        try:
            rig, _ = name_version(rig, next_version_name(rig) if name == "next" else name, "", note, time.time())
            save_rig_file(rig, file)
        except (Refused, RigFileError) as e:
            fail_with(str(e))
    rows = [(v.name, time.strftime("%Y-%m-%d %H:%M", time.localtime(v.at)), v.who, v.note)
            for k in in_time(rig) if (v := rig.versions[k])]  # fmt: skip
    if as_json:
        keys = ("name", "at", "who", "note")
        say_json([dict(zip(keys, r)) for r in rows])
        return
    for r in rows:
        click.echo(f"{r[0]:16} {r[1]}  {r[2]:12} {r[3]}".rstrip())
    if not rows:
        click.echo("no versions yet")
