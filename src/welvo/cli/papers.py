"""`welvo sheets`: a rig on paper, without a window."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec.structs import replace

from welvo.cli.base import (
    FILE,
    STANDARD,
    app,
    as_json_option,
    complete_words,
    fail_with,
    load_rig,
    rig_file,
    say_json,
    write_output,
)

if TYPE_CHECKING:
    from welvo.rig.document import Rig
    from welvo.sheets.lists import Material
    from welvo.survey.compare import Difference


def make_material(rig: Rig, since: str = "") -> Material:
    """What sheets are made from; changes are counted from a version, by default the last one."""
    from welvo.formats.files import RigFileError
    from welvo.formats.versions import in_time, unpack_version
    from welvo.patch.index import Index
    from welvo.sheets.lists import Material
    from welvo.survey.compare import compare_rigs

    index = Index(rig)
    order = in_time(rig)
    wanted = [v for v in order if not since or rig.versions[v].name.lower() == since.lower()]
    if since and not wanted:
        fail_with(
            f"There is no version “{since}”. There are: {', '.join(rig.versions[v].name for v in order) or 'none'}."
        )
    changed: tuple[str, tuple[Difference, ...]] | None = None
    if wanted:
        version = rig.versions[wanted[-1]]
        try:
            changed = (version.name, tuple(compare_rigs(Index(unpack_version(version, rig)), index)))
        except RigFileError as e:
            fail_with(str(e))
    return Material(index, now=time.time(), since=changed)


def _offered_sheets() -> list[tuple[str, str]]:
    from welvo.sheets.catalogue import SHEETS

    return [(s.key, s.title) for s in SHEETS.values()] + [("all", "every sheet"), ("list", "which there are")]


def _offered_papers() -> list[tuple[str, str]]:
    from welvo.sheets.paper import PAPERS

    return [(name, "") for name in PAPERS]


def _offered_orientations() -> list[tuple[str, str]]:
    return [("portrait", ""), ("landscape", "")]


@app.command("sheets")
@rig_file
@click.option(
    "--which",
    default="list",
    shell_complete=complete_words(_offered_sheets, lists=True),
    help="Sheets by their keys, such as patch,labels; “all”, or “list” to see them.",
)
@click.option("--to", type=FILE, help="A folder, or for one sheet a .pdf file; - is the PDF on standard output.")
@click.option("--paper", default="A4", shell_complete=complete_words(_offered_papers), help="A4, A5, A3 or Letter.")
@click.option(
    "--orientation",
    "--turned",
    "orientation",
    default="",
    shell_complete=complete_words(_offered_orientations),
    help="“portrait” or “landscape”; empty: as the sheet is best.",
)
@click.option("--of", default="", help="Only this universe (number), device or profile (name).")
@click.option("--sort", default="", help="The column to sort by.")
@click.option("--group", default="", help="The column to split by.")
@click.option("--columns", default="", help="Columns to show, with commas between.")
@click.option("--stock", default="", help="Label stock, such as “63.5 x 38.1, 3 x 7 on A4, left 7.2, top 15.1”.")
@click.option("--first-label", type=click.IntRange(1), default=1, help="The first free label of the first sheet.")
@click.option("--cut-marks", is_flag=True, help="Print the corners of each label.")
@click.option("--header", default="", help="A line for the head of each page.")
@click.option("--logo", type=FILE, help="A picture for the head of each page.")
@click.option("--comma", is_flag=True, help="Write 2,5 for two and a half.")
@click.option("--since", default="", help="The version that changes are counted from; the last one by default.")
@click.option("--png", is_flag=True, help="Write the pages as pictures instead.")
@as_json_option
def sheets_(
    file: Path,
    which: str,
    to: Path | None,
    paper: str,
    orientation: str,
    of: str,
    sort: str,
    group: str,
    columns: str,
    stock: str,
    first_label: int,
    cut_marks: bool,
    header: str,
    logo: Path | None,
    comma: bool,
    since: str,
    png: bool,
    as_json: bool,
) -> None:
    """Print a rig: patch, labels, maps, cards, cables, findings, changes, as PDF or PNG."""
    from welvo.formats.files import RigFileError, read_bytes
    from welvo.rig.base import Refused
    from welvo.sheets.catalogue import SHEETS, choices_about, columns_of, file_name, make_pdf, possible_groupings
    from welvo.sheets.pages import pages_as_pngs
    from welvo.sheets.paper import Choices, read_stock

    rig: Rig = load_rig(file)
    if which == "list":
        if as_json:
            say_json({"sheets": [{"key": s.key, "title": s.title, "help": s.help} for s in SHEETS.values()]})
            return
        for s in SHEETS.values():
            click.echo(f"{s.key:10} {s.title:28} {s.help}")
        return
    keys = list(SHEETS) if which == "all" else [k.strip() for k in which.split(",") if k.strip()]
    unknown = next((k for k in keys if k not in SHEETS), "")
    if unknown or not keys:
        fail_with(f"There is no sheet “{unknown}”; there are {', '.join(SHEETS)}.")
    if to is None:
        fail_with("Say where to write to: --to FOLDER, or for one sheet --to FILE.pdf.")
    one = to == STANDARD or to.suffix.lower() == ".pdf"
    if one and (len(keys) > 1 or png):
        fail_with("Several sheets, or pictures, need a folder: --to FOLDER.")
    if orientation not in ("", "portrait", "landscape"):
        fail_with(f"“{orientation}” is neither portrait nor landscape.")
    m = make_material(rig, since)
    try:
        common = Choices(
            paper=paper,
            landscape=None if not orientation else orientation == "landscape",
            header=header,
            logo=read_bytes(logo, 16 * 2**20, "a picture") if logo else b"",
            decimal="," if comma else ".",
            stock=read_stock(stock) if stock else Choices().stock,
            first_label=first_label,
            cut_marks=cut_marks,
        )
        written: list[str] = []
        for key in keys:
            sheet = SHEETS[key]
            options = choices_about(rig, sheet.about)
            about = next((k for k, words in options if of.lower() in (k.lower(), words.lower())), "")
            if of and sheet.about and not about and len(keys) == 1:
                fail_with(f"There is no {sheet.about} “{of}” in this rig.")
            named = [(k.lower(), w.lower(), k) for k, w in (*columns_of(m, sheet), *possible_groupings(m))]

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
                files = [(to / f"{name} {n}.png", page) for n, page in enumerate(pages_as_pngs(data), 1)]
            else:
                files = [(to / f"{name}.pdf", data)]
            for target, content in files:
                if target != STANDARD:
                    target.parent.mkdir(parents=True, exist_ok=True)
                written.append(write_output(target, content))
                if not as_json and target != STANDARD:
                    click.echo(target.name)
    except (Refused, RigFileError) as e:
        fail_with(str(e))
    except OSError as e:
        if to == STANDARD:
            raise
        fail_with(f"{to.name} cannot be written to: {e.strerror}.")
    if to == STANDARD:
        return
    if as_json:
        say_json({"written": written})
    else:
        click.echo(f"{len(written)} files written")
