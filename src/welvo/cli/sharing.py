"""`welvo git` and `text`: a rig that several people keep in one git repository.

Git knows two hooks for files it cannot read: a merge driver, which is given three files under names of git's own and
writes the result over the second, and a text conversion for showing differences. Both are this program.
"""

from __future__ import annotations

import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import click

from welvo.cli.base import FOLDER, app, as_json_option, fail_with, load_rig, rig_file, say_json

ATTRIBUTES = "*.welvo merge=welvo diff=welvo"
"""The line in `.gitattributes`, which goes along with the repository."""
COMMENT = "# Rigs of Welvo: merged and shown by Welvo itself. Each clone says once: welvo git"


@app.command("text")
@rig_file
def text_(file: Path) -> None:
    """Write a rig as lines of text, one fact a line: to be read, searched, or compared by version control."""
    from welvo.formats.text_listing import list_whole_rig
    from welvo.patch.index import Index

    click.echo(list_whole_rig(Index(load_rig(file))), nl=False)


@app.command("git")
@click.argument("folder", type=FOLDER, default=Path("."), help="The repository, or a folder in it.")
@click.option("--remove", is_flag=True, help="Take the settings out of this clone again; .gitattributes stays.")
@as_json_option
def git_(folder: Path, remove: bool, as_json: bool) -> None:
    """Let git merge and show rigs in a repository: two people's branches come together as `welvo merge` would do it,
    and `git diff` is readable. Says what it did; nothing is committed."""
    top = Path(_ask_git(folder, "rev-parse", "--show-toplevel"))
    did = _forget_settings(top) if remove else [*_change_attributes(top), *_change_settings(top)]
    if as_json:
        say_json({"repository": str(top), "did": did})
        return
    for words in did or ["nothing was left to do"]:
        click.echo(words)


def _ask_git(folder: Path, *words: str, may_fail: bool = False) -> str:
    """What git answers. Fails in words where there is no git or no repository."""
    if not shutil.which("git"):
        fail_with("There is no git on this computer.")
    done = subprocess.run(["git", "-C", str(folder), *words], capture_output=True, text=True, timeout=60, check=False)
    if done.returncode and not may_fail:
        fail_with(f"git: {done.stderr.strip().splitlines()[-1] if done.stderr.strip() else 'it failed'}")
    return done.stdout.strip()


def _program_for_git() -> str:
    """How git calls this program, from any folder and by a shell."""
    found = shutil.which(sys.argv[0]) if Path(sys.argv[0]).name.startswith("welvo") else None
    beside = Path(sys.executable).with_name("welvo")
    if found or beside.exists():
        return shlex.quote(str(Path(found).absolute() if found else beside))
    return f"{shlex.quote(sys.executable)} -m welvo.cli"


def _wanted_settings() -> dict[str, str]:
    program = _program_for_git()
    return {
        "merge.welvo.name": "two people's work on a rig",
        "merge.welvo.driver": f"{program} merge --driver %O %A %B --to %A",
        "diff.welvo.textconv": f"{program} text",
        "diff.welvo.cachetextconv": "false",
    }


def _change_settings(top: Path) -> list[str]:
    did = []
    for key, value in _wanted_settings().items():
        if _ask_git(top, "config", "--local", "--get", key, may_fail=True) != value:
            _ask_git(top, "config", "--local", key, value)
            did.append(f"set {key} = {value}")
    return did


def _change_attributes(top: Path) -> list[str]:
    file = top / ".gitattributes"
    try:
        before = file.read_text("utf-8") if file.exists() else ""
        if ATTRIBUTES in (line.strip() for line in before.splitlines()):
            return []
        gap = "" if not before or before.endswith("\n") else "\n"
        file.write_text(f"{before}{gap}{COMMENT}\n{ATTRIBUTES}\n", "utf-8")
    except (OSError, UnicodeDecodeError) as e:
        fail_with(f".gitattributes cannot be written: {getattr(e, 'strerror', '') or e}.")
    return [f"wrote “{ATTRIBUTES}” into .gitattributes: commit it, so that it goes along with the repository"]


def _forget_settings(top: Path) -> list[str]:
    did = []
    for section in ("merge.welvo", "diff.welvo"):
        if _ask_git(top, "config", "--local", "--get-regexp", rf"^{section}\.", may_fail=True):
            _ask_git(top, "config", "--local", "--remove-section", section)
            did.append(f"took {section} out of this clone's settings")
    return did
