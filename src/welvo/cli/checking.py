"""`welvo check` and `path`: what is wrong with a rig, and the way from a number to its light."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.exceptions import Exit

from welvo.cli.base import FILE, FOUND_WRONG, app, as_json_option, fail_with, input_name, load_rig, rig_file, say_json

if TYPE_CHECKING:
    from welvo.checks.checker import Report


@app.command()
@click.argument("files", type=FILE, nargs=-1, required=True, help="Rigs; - is standard input.")
@as_json_option
def check(files: tuple[Path, ...], as_json: bool) -> None:
    """List what is wrong, doubtful or worth knowing. Exits with 1 when there are errors, with 2 when a file cannot be
    read; the others are checked all the same."""
    worst, answers = 0, []
    for file in files:
        try:
            report = _report_of_file(file)
        except Exit as e:
            worst = max(worst, e.exit_code)
            continue
        worst = max(worst, FOUND_WRONG if report.count_findings("error") else 0)
        if as_json:
            answers.append({"file": input_name(file), **_for_programs(report)})
            continue
        if len(files) > 1:
            click.echo(f"{input_name(file)}:")
        _print_report(report)
    if as_json:
        say_json({"files": answers} if len(files) > 1 else answers[0] if answers else {"files": []})
    raise Exit(worst)


def _report_of_file(file: Path) -> Report:
    from welvo.checks.checker import check_rig as run

    return run(load_rig(file))


def _for_programs(report: Report) -> dict[str, Any]:
    found = [
        {
            "code": f.code,
            "severity": f.severity,
            "where": f.where,
            "title": f.title,
            "reason": f.reason,
            "facts": f.facts,
            "subject": f.subject,
            "fixes": [{"label": x.label, "changes": [list(c) for c in x.changes]} for x in f.possible_fixes],
        }
        for f in report.findings
    ]
    waived = [{"code": f.code, "subject": f.subject, "title": f.title, "reason": why} for f, why in report.waived]
    return {"findings": found, "waived": waived}


def _print_report(report: Report) -> None:
    for f in report.findings:
        click.echo(f"{f.severity:7} {f.code:8} {f.where:24} {f.title}")
        click.echo(f"{'':17}{f.reason}")
        for fix in f.possible_fixes[:1]:
            click.echo(f"{'':17}fix: {fix.label}")
    counts = ", ".join(f"{report.count_findings(s)} {s}s" for s in ("error", "warning", "note"))
    click.echo(f"{counts}, {len(report.waived)} waived")


@app.command("path")
@rig_file
@click.argument("target", help="A fixture number, NAME/PIXEL, or universe.address.")
@as_json_option
def path_(file: Path, target: str, as_json: bool) -> None:
    """Every way of saying where something is, and each hop on its way to the light."""
    from welvo.observed.values import NOTHING
    from welvo.patch.index import Index
    from welvo.rig.base import Refused
    from welvo.survey.path import path_to_target as chain_of
    from welvo.survey.target import find_target

    index = Index(load_rig(file))
    try:
        found = find_target(index, target)
    except Refused as e:
        fail_with(str(e))
    chain = chain_of(index, NOTHING, found, 0.0)
    if as_json:
        say_json(
            {
                "target": chain.target,
                "name": chain.name,
                "ways": [list(w) for w in chain.ways],
                "hops": [{"role": h.role, "value": h.value, "fact": h.fact} for h in chain.hops],
                "joints": [
                    {"mark": j.mark, "sends": j.sends, "takes": j.takes, "word": j.word_for_joint} for j in chain.joints
                ],
            }
        )
        return
    click.echo(f"{chain.target}  {chain.name}")
    for word, way in chain.ways:
        click.echo(f"  {word:26} {way}")
    for n, hop in enumerate(chain.hops):
        mark = chain.joints[n - 1].mark if n else ""
        click.echo(f"  {hop.role:10} {hop.value:20} {hop.fact}" + (f"  [{mark}]" if mark else ""))
