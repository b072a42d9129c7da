"""Writes the parts of the documentation that come from the code: `make docs`."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from welvo.app.commands import key_rows
from welvo.checks import checker  # noqa: F401  (importing it registers the rules)
from welvo.checks.registry import RULES
from welvo.cli.answers import ANSWERS
from welvo.formats.rigfile import rig_schema
from welvo.formats.schema import schemas_of
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


def answers() -> str:
    """`docs/json.md`: what commands print for programs."""
    out = [
        "# Answers for programs",
        "",
        "Made from `cli/answers.py` by `make docs`. What a command prints with `--json` is one JSON value on",
        "standard output; everything that is meant for a person goes to standard error. Exit codes: 0 all is well,",
        "1 something was found to be wrong, 2 it could not be done (also: standard output was closed or full),",
        "130 interrupted.",
        "",
        "**The promise.** Within one first number of Welvo's version no key goes away and none changes what it",
        "holds; new keys may come, so a program passes over what it does not know. Every answer has all of its",
        "keys, `null` or empty where nothing is to be said. [cli.schema.json](cli.schema.json) says it for",
        "programs: `#/$defs/` and the command's name.",
        "",
        "| command | prints |",
        "| --- | --- |",
    ]
    out += [f"| `welvo {name}` | {_shape(kind)} |" for name, kind in ANSWERS.items()]
    for name, kind in cli_schema()["$defs"].items():
        if "properties" not in kind:
            continue
        out += ["", f"## {name}", "", "| key | holds |", "| --- | --- |"]
        out += [f"| `{key}` | {_holds(said)} |" for key, said in kind["properties"].items()]
    return "\n".join(out) + "\n"


def cli_schema() -> dict[str, Any]:
    return schemas_of(ANSWERS, "urn:welvo:cli:1", "Answers of the commands of Welvo")


def _shape(kind: Any) -> str:
    return _holds(cli_schema()["$defs"][next(n for n, k in ANSWERS.items() if k is kind)])


def _holds(said: dict[str, Any]) -> str:
    """A schema in a few words."""
    if "$ref" in said:
        name = said["$ref"].rpartition("/")[2]
        return f"[{name}](#{name.lower()})"
    if "enum" in said:
        return " or ".join(f"`{v}`" for v in said["enum"])
    if "anyOf" in said:
        return " or ".join(_holds(s) for s in said["anyOf"])
    if "prefixItems" in said:
        return "a list of " + ", ".join(_holds(s) for s in said["prefixItems"])
    if said.get("type") == "array":
        return f"list of {_holds(said['items'])}"
    if said.get("type") == "object":
        return f"by name: {_holds(said['additionalProperties'])}"
    words = {
        "string": "text",
        "integer": "whole number",
        "number": "number",
        "boolean": "true or false",
        "null": "`null`",
    }
    kind = said.get("type", "")
    return words.get(kind, kind or "any value")


MADE = {
    "json.md": answers,
    "cli.schema.json": lambda: json.dumps(cli_schema(), indent=1, ensure_ascii=False) + "\n",
    "findings.md": findings,
    "functions.md": words,
    "keys.md": keys,
    "rig.schema.json": lambda: json.dumps(rig_schema(), indent=1, ensure_ascii=False) + "\n",
}

if __name__ == "__main__":
    for name, make in MADE.items():
        (DOCS / name).write_text(make(), "utf-8")
        print(f"docs/{name}")
