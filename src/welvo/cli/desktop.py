"""`welvo desktop`: Welvo among the programs of a user's desktop, and out of it again; man page and shell completion.

Everything is made from what is there already: the man page from the commands' own help, the completions by the package
that reads them, the rest from files beside the program. What was put somewhere, and which folders were made for it, is
listed in one file, so that taking it out again needs no guess and takes nothing else.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import shutil
import subprocess
import sys
from importlib.resources import files
from pathlib import Path
from xml.sax.saxutils import escape

import click
from click.shell_completion import get_completion_class

from welvo import APP_ID
from welvo.cli.base import FOLDER, app, as_json_option, fail_with, say_json
from welvo.formats.handbook import handbook_folder

LIST = "share/welvo/installed.json"
PLACES = {
    "desktop-entry": f"share/applications/{APP_ID}.desktop",
    "welvo-rig.xml": "share/mime/packages/welvo.xml",
    "metainfo.xml": f"share/metainfo/{APP_ID}.metainfo.xml",
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


# ---- what is made


def man_page() -> str:
    """The man page in roff, made from the help of all commands."""
    from welvo import __version__

    ctx = click.Context(app, info_name="welvo")
    lines = [
        f'.TH WELVO 1 "" "Welvo {__version__}"', ".SH NAME", "welvo \\- plan, patch, set and prove a lighting rig",
        ".SH SYNOPSIS", ".B welvo", "[open] [FILE.welvo]", ".br", ".B welvo", ".I COMMAND", "[OPTIONS] ARGUMENTS",
        ".SH DESCRIPTION", _roff_words(_plain_words(app.help or "")),
        "Every command reads the same rig files as the window. With \\-\\-json, where it is listed below, a command "
        "says its answer for programs; docs/json.md promises its shape.",
        ".SH COMMANDS",
    ]  # fmt: skip
    for name in app.list_commands(ctx):
        command = app.commands[name]
        if command.hidden:
            continue
        arguments = " ".join(p.human_readable_name for p in command.params if isinstance(p, click.Argument))
        lines += [
            f'.SS "welvo {_roff_words(name)} {_roff_words(arguments)}"',
            _roff_words(_plain_words(command.help or "")),
        ]
        for p in command.params:
            if isinstance(p, click.Argument):
                lines += [
                    ".TP",
                    f"\\fI{_roff_words(p.human_readable_name)}\\fR",
                    _roff_words(_plain_words(p.help or "")),
                ]
            elif isinstance(p, click.Option) and not p.hidden:
                lines += [".TP", f"\\fB{_roff_words(', '.join(p.opts))}\\fR", _roff_words(_plain_words(p.help or ""))]
    lines += [
        ".SH EXIT STATUS",
        "0 when all is well, 1 when something was found to be wrong, 2 when it could not be done, also when standard "
        "output was closed or full, 130 when it was interrupted.",
        ".SH FILES", ".TP", "~/.config/welvo", "settings of this computer, passwords of devices; never in a rig",
        ".TP", "~/.local/state/welvo", "the recovery journal, and backups of rigs that lie in a git repository",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


def _plain_words(words: str) -> str:
    return " ".join(words.split())


def _roff_words(words: str) -> str:
    made = words.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join(f"\\&{line}" if line.startswith((".", "'")) else line for line in made.splitlines())


def completion_script(shell: str) -> str:
    """The completion script of a shell."""
    made = get_completion_class(shell)
    assert made is not None  # bash, zsh and fish are click's own
    return made(app, {}, "welvo", "_WELVO_COMPLETE").source()


def exec_word(text: str) -> str:
    """One word of an `Exec` line: quoted, and escaped once for the quotes and once for the file (Desktop Entry
    Specification, “The Exec key”)."""
    quoted = re.sub(r'(["`$\\])', r"\\\1", text).replace("%", "%%")
    return '"' + quoted.replace("\\", "\\\\") + '"'


def string_value(text: str) -> str:
    """A value of type string in a desktop entry, whose backslashes are escapes."""
    return text.replace("\\", "\\\\")


PICTURES = (("patch.png", "Patch: tapes, lens, list, panel and path"), ("runs.png", "Runs: a folded ceiling"),
            ("devices.png", "Devices: plan beside reported"), ("bench.png", "Bench: why it is dark"))  # fmt: skip


def appstream_pictures() -> str:
    """The pictures for the AppStream component, from the handbook that came with the program."""
    folder = handbook_folder()
    found = [(folder / "screenshots" / name, words) for name, words in PICTURES] if folder else []
    made = ""
    for n, (picture, words) in enumerate((p, w) for p, w in found if p.is_file()):
        kind = ' type="default"' if n == 0 else ""
        caption, image = escape(words), escape(picture.as_uri())
        made += f"<screenshot{kind}><caption>{caption}</caption><image>{image}</image></screenshot>"
    return made


def what_is_installed(program: Path) -> dict[str, str]:
    """Every file by its place under the prefix."""
    from welvo import __date__, __version__

    made = {}
    for name, place in PLACES.items():
        words = (files("welvo") / "data" / "desktop" / name).read_text("utf-8")
        words = words.replace("@EXEC@", exec_word(str(program))).replace("@TRYEXEC@", string_value(str(program)))
        words = words.replace("@SCREENSHOTS@", appstream_pictures()).replace("@DATE@", __date__)
        made[place] = words.replace("@VERSION@", __version__)
    return made | {MAN: man_page()} | {place: completion_script(shell) for shell, place in SHELLS.items()}


# ---- putting it there and taking it out


def install_below(prefix: Path, program: Path) -> list[Path]:
    """Put everything below a prefix; gives what was written. Raises OSError."""
    written, made = [], set(_listed_files(prefix)[1])
    for place, words in what_is_installed(program).items():
        target = prefix / place
        made |= set(make_folders(prefix, target.parent))
        target.write_text(words, "utf-8")
        written.append(target)
    made |= set(make_folders(prefix, (prefix / LIST).parent))
    listed = {"files": sorted(str(w.relative_to(prefix)) for w in written), "folders": sorted(made)}
    (prefix / LIST).write_text(json.dumps(listed, indent=1), "utf-8")
    _refresh_desktop(prefix)
    return written


def make_folders(prefix: Path, folder: Path) -> list[str]:
    """Make a folder with its parents; gives those that were not there, as places below the prefix."""
    missing = []
    at = folder
    while at != prefix and not at.exists():
        missing.append(at)
        at = at.parent
    folder.mkdir(parents=True, exist_ok=True)
    return [str(m.relative_to(prefix)) for m in missing]


def uninstall_from(prefix: Path) -> int:
    """Take out what was put below a prefix, and the folders that were made for it and are empty then; gives how many
    files."""
    places, folders = _listed_files(prefix)
    gone = 0
    for place in [*places, LIST]:
        target = prefix / place
        if _is_below(place) and (target.is_file() or target.is_symlink()):
            target.unlink()
            gone += place != LIST
    _refresh_desktop(prefix)
    for cache in ("share/applications/mimeinfo.cache", "share/icons/hicolor/icon-theme.cache"):
        if str(Path(cache).parent) in folders:  # made by the desktop's tools in a folder that only we needed
            (prefix / cache).unlink(missing_ok=True)
    if "share/mime/packages" in folders and not any((prefix / "share/mime/packages").glob("*.xml")):
        _remove_mime_index(prefix / "share/mime")
    for folder in sorted(folders, key=len, reverse=True):
        if _is_below(folder):
            with contextlib.suppress(OSError):  # somebody else's files are in it
                (prefix / folder).rmdir()
    return gone


MIME_INDEX = ("XMLnamespaces", "aliases", "generic-icons", "globs", "globs2", "icons", "magic", "mime.cache",
              "subclasses", "treemagic", "types", "version")  # fmt: skip
"""What `update-mime-database` makes of the packages."""


def _remove_mime_index(folder: Path) -> None:
    """The index over no package at all, with the folder of the type that was ours."""
    for name in MIME_INDEX:
        (folder / name).unlink(missing_ok=True)
    for kind in ("application/x-welvo-rig.xml",):
        (folder / kind).unlink(missing_ok=True)
    with contextlib.suppress(OSError):
        (folder / "application").rmdir()


def _is_below(place: str) -> bool:
    return not Path(place).is_absolute() and ".." not in Path(place).parts


def _listed_files(prefix: Path) -> tuple[list[str], list[str]]:
    """The files and folders that were put below a prefix; where no list can be read, the files there always are."""
    try:
        said = json.loads((prefix / LIST).read_text("utf-8"))
        if isinstance(said, list):
            return [str(p) for p in said], []
        return [str(p) for p in said["files"]], [str(p) for p in said["folders"]]
    except (OSError, ValueError, KeyError, TypeError):
        return list(what_is_installed(Path("welvo"))), []


def _refresh_desktop(prefix: Path) -> None:
    """Tell the desktop; where it has no such tool it looks by itself."""
    for tool, folder in REFRESH:
        found = shutil.which(tool)
        if found and (prefix / folder).is_dir():
            more = ["-q", "-t", "-f"] if tool.startswith("gtk") else []
            with contextlib.suppress(OSError, subprocess.TimeoutExpired):
                subprocess.run([found, *more, str(prefix / folder)], capture_output=True, timeout=30, check=False)


@app.command("desktop")
@click.argument(
    "act",
    type=click.Choice(["install", "uninstall", "man", *SHELLS]),
    help="What to do, or which of the pages to print.",
)
@click.option("--prefix", type=FOLDER, default=Path("~/.local"), help="Below which folder.")
@as_json_option
def desktop_(act: str, prefix: Path, as_json: bool) -> None:
    """Put Welvo among the programs of this user's desktop, with its file type, man page and completions, or take it
    out; print the man page or a completion script."""
    if act == "man" or act in SHELLS:
        click.echo(man_page() if act == "man" else completion_script(act), nl=False)
        return
    where = Path(os.path.abspath(prefix.expanduser()))
    try:
        if act == "install":
            program = shutil.which(sys.argv[0]) or shutil.which("welvo") or "welvo"
            beside = where / "bin" / "welvo"
            count = len(install_below(where, beside if beside.exists() else Path(program).absolute()))
        else:
            count = uninstall_from(where)
    except OSError as e:
        fail_with(f"{e.filename or where} cannot be written: {e.strerror}.")
    if as_json:
        say_json({"act": act, "files": count})
    else:
        click.echo(f"{count} files {'below' if act == 'install' else 'taken out below'} {prefix}")
