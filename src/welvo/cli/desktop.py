"""`welvo desktop`: Welvo among the programs of a user's desktop, and out of it again; man page and shell completion.

Everything is made from what is there already: the man page from the commands' own help, the completions by the package
that reads them, the rest from files beside the program. What was put somewhere is listed in one file, so that taking it
out again needs no guess.
"""

from __future__ import annotations

import contextlib
import json
import shutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path
from typing import Annotated, Any, Literal

import typer

from welvo.cli.base import app, fail

LIST = "share/welvo/installed.json"
PLACES = {
    "welvo.desktop": "share/applications/welvo.desktop",
    "welvo-rig.xml": "share/mime/packages/welvo.xml",
    "desktop.welvo.Welvo.metainfo.xml": "share/metainfo/desktop.welvo.Welvo.metainfo.xml",
    "welvo.svg": "share/icons/hicolor/scalable/apps/welvo.svg",
    "welvo-rig.svg": "share/icons/hicolor/scalable/mimetypes/application-x-welvo-rig.svg",
}
SHELLS: dict[str, str] = {
    "bash": "share/bash-completion/completions/welvo",
    "zsh": "share/zsh/site-functions/_welvo",
    "fish": "share/fish/vendor_completions.d/welvo.fish",
}
MAN = "share/man/man1/welvo.1"
REFRESH = (
    ("update-mime-database", "share/mime"),
    ("update-desktop-database", "share/applications"),
    ("gtk-update-icon-cache", "share/icons/hicolor"),
)


def man_page() -> str:
    """The man page in roff, made from the help of all commands."""
    from welvo import __version__

    root = typer.main.get_command(app)
    lines = [
        f'.TH WELVO 1 "" "Welvo {__version__}"', ".SH NAME", "welvo \\- plan, patch, set and prove a lighting rig",
        ".SH SYNOPSIS", ".B welvo", "[open] [FILE.welvo]", ".br", ".B welvo", ".I COMMAND", "[OPTIONS] ARGUMENTS",
        ".SH DESCRIPTION", _roff(str(root.help or "")),
        "Every command reads the same rig files as the window, and with \\-\\-json says its answer for programs.",
        ".SH COMMANDS",
    ]  # fmt: skip
    commands: dict[str, Any] = getattr(root, "commands", {})
    for name, command in sorted(commands.items()):
        if command.hidden:
            continue
        wanted = (p for p in command.params if p.param_type_name == "argument")
        arguments = " ".join((p.metavar or p.name or "").upper() for p in wanted)
        lines += [f'.SS "welvo {_roff(name)} {_roff(arguments)}"', _roff(_flat(command.help or ""))]
        for p in command.params:
            if p.param_type_name == "option" and not getattr(p, "hidden", False) and "--help" not in p.opts:
                words = ", ".join(p.opts)
                lines += [".TP", f"\\fB{_roff(words)}\\fR", _roff(_flat(getattr(p, "help", "") or ""))]
    lines += [
        ".SH EXIT STATUS",
        "0 when all is well, 1 when something was found to be wrong, 2 when it could not be done.",
        ".SH FILES", ".TP", "~/.config/welvo", "settings of this computer, passwords of devices; never in a rig",
        ".TP", "~/.local/state/welvo", "the recovery journal",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _flat(words: str) -> str:
    return " ".join(words.split())


def _roff(words: str) -> str:
    made = words.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line.startswith((".", "'")) else line for line in made.splitlines())


def completion(shell: str) -> str:
    """The completion script of a shell."""
    from typer._completion_shared import get_completion_script

    return get_completion_script(prog_name="welvo", complete_var="_WELVO_COMPLETE", shell=shell)


def what_is_installed(program: Path) -> dict[str, str]:
    """Every file by its place under the prefix."""
    from welvo import __version__

    made = {}
    for name, place in PLACES.items():
        words = (files("welvo") / "data" / "desktop" / name).read_text("utf-8")
        made[place] = words.replace("@BIN@", str(program)).replace("@VERSION@", __version__)
    return made | {MAN: man_page()} | {place: completion(shell) for shell, place in SHELLS.items()}


def install(prefix: Path, program: Path) -> list[Path]:
    """Put everything below a prefix; gives what was written. Raises OSError."""
    written = []
    for place, words in what_is_installed(program).items():
        target = prefix / place
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(words, "utf-8")
        written.append(target)
    (prefix / LIST).parent.mkdir(parents=True, exist_ok=True)
    (prefix / LIST).write_text(json.dumps([str(w.relative_to(prefix)) for w in written], indent=1), "utf-8")
    _refresh(prefix)
    return written


def uninstall(prefix: Path) -> int:
    """Take out what was put below a prefix, and folders of our own that are empty then; gives how many files."""
    try:
        listed = json.loads((prefix / LIST).read_text("utf-8"))
    except (OSError, ValueError):
        listed = list(what_is_installed(Path("welvo")))
    gone = 0
    for place in [*listed, LIST]:
        target = prefix / str(place)
        if ".." not in Path(str(place)).parts and target.is_file():
            target.unlink()
            gone += place != LIST
    with contextlib.suppress(OSError):
        (prefix / LIST).parent.rmdir()
    _refresh(prefix)
    return gone


def _refresh(prefix: Path) -> None:
    """Tell the desktop; where it has no such tool it looks by itself."""
    for tool, folder in REFRESH:
        found = shutil.which(tool)
        if found and (prefix / folder).is_dir():
            more = ["-q", "-t", "-f"] if tool.startswith("gtk") else []
            with contextlib.suppress(OSError, subprocess.TimeoutExpired):
                subprocess.run([found, *more, str(prefix / folder)], capture_output=True, timeout=30, check=False)


@app.command("desktop")
def desktop_(
    act: Annotated[Literal["install", "uninstall", "man", "bash", "zsh", "fish"], typer.Argument(show_default=False)],
    prefix: Annotated[Path, typer.Option(help="Below which folder.")] = Path("~/.local"),
) -> None:
    """Put Welvo among the programs of this user's desktop, with its file type, man page and completions, or take it
    out; print the man page or a completion script."""
    if act == "man":
        typer.echo(man_page(), nl=False)
        return
    if act in SHELLS:
        typer.echo(completion(act))
        return
    where = prefix.expanduser().absolute()
    try:
        if act == "install":
            program = shutil.which(sys.argv[0]) or shutil.which("welvo") or "welvo"
            beside = where / "bin" / "welvo"
            written = install(where, beside if beside.exists() else Path(program).absolute())
            typer.echo(f"{len(written)} files below {prefix}")
        else:
            typer.echo(f"{uninstall(where)} files taken out below {prefix}")
    except OSError as e:
        fail(f"{e.filename or where} cannot be written: {e.strerror}.")
