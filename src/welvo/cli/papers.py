"""`welvo sheets`: a rig on paper, without a window."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from welvo.cli.base import RigFile, app, fail, load_rig

if TYPE_CHECKING:
    from welvo.patch.compare import Difference
    from welvo.rig.document import Rig
    from welvo.sheets.lists import Material


def material(rig: Rig, since: str = "") -> Material:
    """What sheets are made from; changes are counted from a version, by default the last one."""
    from welvo.formats.files import RigFileError
    from welvo.formats.versions import in_time, unpack
    from welvo.patch.compare import compare
    from welvo.patch.index import Index
    from welvo.sheets.lists import Material

    index = Index(rig)
    order = in_time(rig)
    wanted = [v for v in order if not since or rig.versions[v].name.lower() == since.lower()]
    if since and not wanted:
        fail(f"There is no version “{since}”. There are: {', '.join(rig.versions[v].name for v in order) or 'none'}.")
    changed: tuple[str, tuple[Difference, ...]] | None = None
    if wanted:
        version = rig.versions[wanted[-1]]
        try:
            changed = (version.name, tuple(compare(Index(unpack(version, rig)), index)))
        except RigFileError as e:
            fail(str(e))
    return Material(index, now=time.time(), since=changed)


@app.command("sheets")
def sheets_(
    file: RigFile,
    which: Annotated[
        str, typer.Option(help="Sheets by their keys, such as patch,labels; “all”, or “list” to see them.")
    ] = "list",
    to: Annotated[Path | None, typer.Option(help="A folder, or for one sheet a .pdf file.", show_default=False)] = None,
    paper: Annotated[str, typer.Option(help="A4, A5, A3 or Letter.")] = "A4",
    turned: Annotated[str, typer.Option(help="“portrait” or “landscape”; empty: as the sheet is best.")] = "",
    of: Annotated[str, typer.Option(help="Only this universe (number), device or profile (name).")] = "",
    sort: Annotated[str, typer.Option(help="The column to sort by.")] = "",
    group: Annotated[str, typer.Option(help="The column to split by.")] = "",
    columns: Annotated[str, typer.Option(help="Columns to show, with commas between.")] = "",
    stock: Annotated[
        str, typer.Option(help="Label stock, such as “63.5 x 38.1, 3 x 7 on A4, left 7.2, top 15.1”.")
    ] = "",
    first_label: Annotated[int, typer.Option(help="The first free label of the first sheet.", min=1)] = 1,
    cut_marks: Annotated[bool, typer.Option("--cut-marks", help="Print the corners of each label.")] = False,
    header: Annotated[str, typer.Option(help="A line for the head of each page.")] = "",
    logo: Annotated[Path | None, typer.Option(help="A picture for the head of each page.", show_default=False)] = None,
    comma: Annotated[bool, typer.Option("--comma", help="Write 2,5 for two and a half.")] = False,
    since: Annotated[
        str, typer.Option(help="The version that changes are counted from; the last one by default.")
    ] = "",
    png: Annotated[bool, typer.Option("--png", help="Write the pages as pictures instead.")] = False,
) -> None:
    """Print a rig: patch, labels, maps, cards, cables, findings, changes, as PDF or PNG."""
    from welvo.formats.files import RigFileError, read_bytes, write_atomic
    from welvo.rig.base import Refused
    from welvo.sheets.catalogue import SHEETS, choices_about, columns_of, file_name, groupings, make_pdf
    from welvo.sheets.pages import pngs
    from welvo.sheets.paper import Choices, read_stock

    rig: Rig = load_rig(file)
    if which == "list":
        for s in SHEETS.values():
            typer.echo(f"{s.key:10} {s.title:28} {s.help}")
        return
    keys = list(SHEETS) if which == "all" else [k.strip() for k in which.split(",") if k.strip()]
    unknown = next((k for k in keys if k not in SHEETS), "")
    if unknown or not keys:
        fail(f"There is no sheet “{unknown}”; there are {', '.join(SHEETS)}.")
    if to is None:
        fail("Say where to write to: --to FOLDER, or for one sheet --to FILE.pdf.")
    one = to.suffix.lower() == ".pdf"
    if one and (len(keys) > 1 or png):
        fail("Several sheets, or pictures, need a folder: --to FOLDER.")
    if turned not in ("", "portrait", "landscape"):
        fail(f"“{turned}” is neither portrait nor landscape.")
    m = material(rig, since)
    try:
        common = Choices(
            paper=paper,
            landscape=None if not turned else turned == "landscape",
            header=header,
            logo=read_bytes(logo, 16 * 2**20, "a picture") if logo else b"",
            decimal="," if comma else ".",
            stock=read_stock(stock) if stock else Choices().stock,
            first_label=first_label,
            cut_marks=cut_marks,
        )
        written = 0
        for key in keys:
            sheet = SHEETS[key]
            options = choices_about(rig, sheet.about)
            about = next((k for k, words in options if of.lower() in (k.lower(), words.lower())), "")
            if of and sheet.about and not about and len(keys) == 1:
                fail(f"There is no {sheet.about} “{of}” in this rig.")
            named = [(k.lower(), w.lower(), k) for k, w in (*columns_of(m, sheet), *groupings(m))]

            def key_of(typed: str, named: list[tuple[str, str, str]] = named) -> str:
                word = typed.strip().lower()
                found = next((k for low, words, k in named if word in (low, words)), "")
                if word and not found and len(keys) == 1:
                    raise Refused(f"This sheet has no column “{typed.strip()}”.")
                return found

            choices = replace(
                common,
                of=about,
                sort=key_of(sort),
                group=key_of(group),
                columns=tuple(k for c in columns.split(",") if c.strip() and (k := key_of(c))),
            )
            data = make_pdf(m, key, choices)
            name = file_name(m, key)
            if one:
                files = [(to, data)]
            elif png:
                files = [(to / f"{name} {n}.png", page) for n, page in enumerate(pngs(data), 1)]
            else:
                files = [(to / f"{name}.pdf", data)]
            for target, content in files:
                target.parent.mkdir(parents=True, exist_ok=True)
                write_atomic(target, content)
                written += 1
                typer.echo(target.name)
    except (Refused, RigFileError) as e:
        fail(str(e))
    except OSError as e:
        fail(f"{to.name} cannot be written to: {e.strerror}.")
    typer.echo(f"{written} files written")
