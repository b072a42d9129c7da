"""Writes the parts of the documentation that come from the code: `make docs`."""

from __future__ import annotations

import json
from pathlib import Path

from welvo.app.commands import key_rows
from welvo.checks import checker  # noqa: F401  (importing it registers the rules)
from welvo.checks.registry import RULES
from welvo.formats.rigfile import schema
from welvo.rig.attributes import ATTRIBUTES

DOCS = Path(__file__).parent.parent / "docs"
AREAS = {
    "PROF": "Profiles",
    "PATCH": "Patch",
    "FEED": "Feeds",
    "RUN": "Runs",
    "LINE": "DMX lines",
    "PWR": "Power",
    "DEV": "Devices",
    "LAMP": "Lamps",
    "BUS": "Lamp buses",
    "WIRE": "The wire",
    "USE": "Shows",
}


def findings() -> str:
    """`docs/findings.md`: what each code means, why it matters, how to put it right."""
    out = [
        "# Findings",
        "",
        "Made from the registry of rules by `make docs`. An error cannot be waived; a warning or note can, with a "
        "reason.",
    ]
    areas = dict.fromkeys(AREAS) | dict.fromkeys(code.split("-")[0] for code in RULES)
    for area in areas:  # an area without words of its own is listed all the same
        words = AREAS.get(area, area)
        out += ["", f"## {words}"]
        for rule in sorted((r for r in RULES.values() if r.code.split("-")[0] == area), key=lambda r: r.code):
            live = " Needs Welvo to listen." if rule.live else ""
            out += [
                "",
                f"### {rule.code} · {rule.severity} · {rule.title}",
                "",
                f"{rule.means}{live}",
                "",
                f"*Why it matters.* {rule.matters}",
                "",
                f"*To put it right.* {rule.put_right}",
            ]
    return "\n".join(out) + "\n"


def keys() -> str:
    """`docs/keys.md`: every key, from the table of commands."""
    out = [
        "# Keys",
        "",
        "Made from `app/commands.py` by `make docs`. Menus open with Alt and their underlined letter.",
        "",
        "| where | keys | what they do |",
        "| --- | --- | --- |",
        *(f"| {where} | {said} | {what} |" for where, said, what in key_rows()),
    ]
    return "\n".join(out) + "\n"


def words() -> str:
    """`docs/functions.md`: the words a chart understands."""
    out = [
        "# Functions that a chart understands",
        "",
        "Made from `rig/attributes.py` by `make docs`. Attribute names are GDTF's.",
        "",
        "| word | also written | attribute | short |",
        "| --- | --- | --- | --- |",
    ]
    out += [f"| {a.word} | {', '.join(a.also) or '–'} | `{a.key}` | {a.short} |" for a in ATTRIBUTES]
    return "\n".join(out) + "\n"


MADE = {
    "findings.md": findings,
    "functions.md": words,
    "keys.md": keys,
    "rig.schema.json": lambda: json.dumps(schema(), indent=1, ensure_ascii=False) + "\n",
}

if __name__ == "__main__":
    for name, make in MADE.items():
        (DOCS / name).write_text(make(), "utf-8")
        print(f"docs/{name}")
