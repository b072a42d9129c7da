"""`welvo convert` and `profile`: rigs and fixture profiles from one kind of file into another."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
from click.exceptions import Exit

from welvo.cli.base import (
    FILE,
    STANDARD,
    app,
    as_json_option,
    check_rig_target,
    fail_with,
    load_rig,
    on_disk,
    print_note,
    rig_file,
    save_rig,
    say_json,
    write_output,
)


@app.command()
@rig_file
@click.argument(
    "target", type=FILE, help="Where to write: .welvo, or .json for the bare text; - is JSON on standard output."
)
@as_json_option
def convert(file: Path, target: Path, as_json: bool) -> None:
    """Write a rig anew, as .welvo or as bare JSON; older formats are brought up to date."""
    from welvo.formats.files import RigFileError

    check_rig_target(target)
    rig = load_rig(file)
    try:
        written = save_rig(rig, target)
    except RigFileError as e:
        fail_with(str(e))
    if as_json and target != STANDARD:
        say_json({"written": written, "fixtures": len(rig.fixtures), "universes": len(rig.universes)})


def _kind_of_profile(data: bytes) -> str:
    """The suffix of a profile by what it begins with: an archive, an object, a table with commas, else a chart."""
    if data.startswith(b"PK"):
        return ".gdtf"
    if data.lstrip().startswith(b"{"):
        return ".json"
    head = data.removeprefix(b"\xef\xbb\xbf").lstrip().split(b"\n", 1)[0].lower().split(b",")
    return ".csv" if {b"slots", b"function"} <= {h.strip() for h in head} else ".txt"


@app.command("profile")
@click.argument(
    "source",
    type=FILE,
    help="A .gdtf, .json or .csv profile, or a .txt with a channel chart; - is standard input, in any of these.",
)
@click.option("--to", type=FILE, help="Write it as .gdtf, .json or .csv (one mode); - is JSON on standard output.")
@click.option("--mode", default="", help="Which mode a .csv holds; the first one by default.")
@as_json_option
def profile_(source: Path, to: Path | None, mode: str, as_json: bool) -> None:
    """Read one fixture profile, say what is doubtful about it, and write it in another format."""
    from welvo.checks.checker import check_rig as run
    from welvo.formats.channel_csv import write_csv
    from welvo.formats.files import RigFileError
    from welvo.formats.gdtf_write import dumps_gdtf
    from welvo.formats.library import open_any, profile_json
    from welvo.rig.base import Refused
    from welvo.rig.document import Rig
    from welvo.rig.edits import add_profile, pack_profile

    try:
        with on_disk(source, _kind_of_profile) as there:
            found, doubts = open_any(there)
        rig, change = add_profile(Rig(), found)
        found = pack_profile(rig, rig.profiles[change.made[0]])
        findings = run(rig).findings
        if to:
            picked = next(
                (m for m in found.modes.values() if m.name == mode), None if mode else next(iter(found.modes.values()))
            )
            if picked is None:
                fail_with(
                    f"{found.name} has no mode “{mode}”. It has: "
                    + ", ".join(m.name for m in found.modes.values())
                    + "."
                )
            if to.suffix == ".gdtf":
                data, lost = dumps_gdtf(found)
                doubts += [f"writing, {d.where}: {d.message}" for d in lost]
            elif to.suffix == ".json" or to == STANDARD:
                data = profile_json(found)
            elif to.suffix == ".csv":
                data = write_csv(picked).encode()
            else:
                fail_with(f"{to.name}: the name must end in .gdtf, .json or .csv.")
            write_output(to, data, keep=True)
            if to != STANDARD:
                open_any(to)  # what is written can be read
    except (Refused, RigFileError) as e:
        fail_with(str(e))
    modes: list[dict[str, Any]] = [
        {"name": m.name, "slots": [b.slots for b in m.breaks], "channels": len(m.channels), "pixels": m.count_pixels}
        for m in found.modes.values()
    ]
    if to == STANDARD:
        for d in doubts:
            print_note(f"doubt: {d}")
    elif as_json:
        said = [{"code": f.code, "severity": f.severity, "title": f.title} for f in findings]
        say_json({"name": found.name, "maker": found.maker, "modes": modes, "doubts": doubts, "findings": said})
    else:
        click.echo(f"{found.maker} {found.name}".strip())
        for m in modes:
            click.echo(
                f"  {m['name']:24} {' + '.join(map(str, m['slots'])):>9} slots  {m['channels']:4} channels  "
                f"{m['pixels']:4} pixels"
            )
        for d in doubts:
            click.echo(f"  doubt: {d}")
        for f in findings:
            click.echo(f"  {f.severity} {f.code}: {f.title}")
    raise Exit(1 if any(f.severity == "error" for f in findings) else 0)
