"""What all commands share: the application, its options, standard input and output as files, and how they fail.

Exit codes are a promise: 0 all is well, 1 something was found to be wrong, 2 it could not be done (130 when it was
interrupted). A pipe that closed or a full disk is the third kind, never the second: a script that reads 1 believes that
the rig has errors.
"""

from __future__ import annotations

import contextlib
import errno
import gc
import json
import os
import re
import signal
import sys
import tempfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

import click
from click.exceptions import Exit
from click.shell_completion import CompletionItem

if TYPE_CHECKING:
    from welvo.live.interfaces import Interface
    from welvo.rig.document import Change, Rig

FOUND_WRONG, NOT_DONE, INTERRUPTED = 1, 2, 130
STANDARD = Path("-")
"""A file name that means standard input where a file is read, and standard output where one is written."""


class Commands(click.Group):
    """The commands; a file's name in place of a command opens it, and no argument at all opens the window."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        name = args[0]
        if self.get_command(ctx, name) is None and (Path(name).suffix in RIG_SUFFIXES or os.path.isfile(name)):
            args = ["open", *args]
        return super().resolve_command(ctx, args)

    def add_command(self, cmd: click.Command, name: str | None = None) -> None:
        for p in cmd.params:
            if isinstance(p, click.Option) and p.default in ("", 0):
                p.show_default = False  # nothing is no default worth a word
        super().add_command(cmd, name)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Each command with its whole first sentence; click's own list cuts it."""
        rows = [
            (name, re.split(r"(?<=[.])\s", " ".join((c.help or "").split()))[0])
            for name in self.list_commands(ctx)
            if not (c := self.commands[name]).hidden
        ]
        with formatter.section("Commands"):
            formatter.write_dl(rows)


RIG_SUFFIXES = (".welvo", ".json")


def _print_version(ctx: click.Context, _: click.Parameter, wanted: bool) -> None:
    if wanted and not ctx.resilient_parsing:
        from welvo import __version__

        click.echo(f"welvo {__version__}")
        ctx.exit()


@click.group(
    cls=Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "show_default": True, "max_content_width": 120},
)
@click.option(
    "--version",
    is_flag=True,
    expose_value=False,
    is_eager=True,
    callback=_print_version,
    help="Say which version this is.",
)
@click.pass_context
def app(ctx: click.Context) -> None:
    """Define fixture profiles, patch them into Art-Net and sACN universes, set the devices, prove it with light.

    `welvo FILE.welvo` opens a rig in the window, `welvo` alone an empty one. Where a command reads or writes one file,
    "-" is standard input or output.
    """
    if ctx.invoked_subcommand is None:
        command = app.get_command(ctx, "open")
        assert command is not None
        ctx.invoke(command)


FILE = click.Path(path_type=Path, allow_dash=True)
FOLDER = click.Path(path_type=Path)

rig_file = click.argument("file", type=FILE, help="A .welvo file, or a rig as bare JSON; - is standard input.")
as_json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON instead of text.")
dry_run_option = click.option(
    "--dry-run",
    is_flag=True,
    help="Write nothing and say everything that would be different. Exit code 1 when something would run past an end "
    "or lose its place.",
)
interface_option = click.option(
    "--interface", default="127.0.0.1", help="IPv4 address of the interface to use. Nothing else is touched."
)


def complete_words(names: Callable[[], Sequence[tuple[str, str]]], lists: bool = False) -> object:
    """What a shell offers for a word: names with their help; in a list with commas, for its last part."""

    def complete(_: click.Context, __: click.Parameter, typed: str) -> list[CompletionItem]:
        before, comma, last = typed.rpartition(",") if lists else ("", "", typed)
        return [CompletionItem(before + comma + name, help=words) for name, words in names() if name.startswith(last)]

    return complete


# ---- saying


def say_json(answer: object) -> None:
    """The answer of a command for programs; its shape is promised in docs/json.md."""
    click.echo(json.dumps(answer, indent=1, ensure_ascii=False))


def end_dry_run(rig: Rig, made: Rig, change: Change | None, as_json: bool) -> NoReturn:
    """Say everything that an edit would make different, as the window says it before it is done, and end. Without a
    `change` all that differs between the two rigs is what the edit is about."""
    from welvo.checks.foresee import change_between, foresee_once

    found = foresee_once(rig, (made, change or change_between(rig, made)))
    if as_json:
        say_json(
            {
                "strip": found.strip,
                "effects": [
                    {
                        "kind": e.kind, "who": e.who, "own": e.own, "break": e.break_no + 1, "before": e.was_at,
                        "after": e.is_at, "slots": e.slots, "with": e.with_whom, "end": e.end,
                    }
                    for e in found.effects
                ],
                "come": [{"code": f.code, "severity": f.severity, "title": f.title} for f in found.comes],
                "go": [{"code": f.code, "severity": f.severity, "title": f.title} for f in found.goes],
            }
        )  # fmt: skip
    else:
        click.echo(found.strip or "Nobody else is touched.")
        for who, happens, before, after in found.lines:
            click.echo(f"  {who:16} {happens:28} {before}{' → ' if before and after else ''}{after}".rstrip())
    raise Exit(FOUND_WRONG if found.harms else 0)


def print_note(message: str) -> None:
    """A word to the person beside an answer: it goes to standard error and never into a pipe."""
    click.echo(f"welvo: {message}", err=True)


def fail_with(message: str, code: int = NOT_DONE) -> NoReturn:
    print_note(message)
    raise Exit(code)


# ---- files


def read_input(path: Path, most: int, what: str) -> bytes:
    """All of a file, or of standard input where it is called “-”. Raises RigFileError beyond `most` bytes."""
    from welvo.formats.files import RigFileError, read_bytes

    if path != STANDARD:
        return read_bytes(path, most, what)
    data = sys.stdin.buffer.read(most + 1)
    if len(data) > most:
        raise RigFileError(f"Standard input goes on for more than {most >> 20} MiB; {what} never does.")
    return data


@contextlib.contextmanager
def on_disk(path: Path, kind: Callable[[bytes], str], most: int = 64 << 20) -> Iterator[Path]:
    """A path that can be opened as often as wanted: the file itself, or standard input put beside, with the suffix
    that `kind` finds for its bytes."""
    if path != STANDARD:
        yield path
        return
    data = read_input(path, most, "such a file")
    with tempfile.TemporaryDirectory(prefix="welvo-") as folder:
        there = Path(folder) / f"standard input{kind(data)}"
        there.write_bytes(data)
        yield there


def input_name(path: Path) -> str:
    from welvo.formats.files import shown_name

    return "standard input" if path == STANDARD else shown_name(path)


def write_output(path: Path, data: bytes, keep: bool = False) -> str:
    """Write a file whole, or to standard output where it is called “-”; gives its name for what is said.

    Raises RigFileError; what goes wrong with standard output is told by `main`.
    """
    from welvo.formats.files import write_atomic

    if path == STANDARD:
        sys.stdout.buffer.write(data)
        sys.stdout.buffer.flush()
        return "standard output"
    write_atomic(path, data, keep=keep)
    return path.name


def load_rig(file: Path) -> Rig:
    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import MOST_FILE, open_rig, read_rig

    try:
        opened = (
            read_rig(read_input(file, MOST_FILE, "a rig"), "standard input") if file == STANDARD else open_rig(file)
        )
    except RigFileError as e:
        fail_with(str(e))
    if opened.words_of_mending:
        print_note(opened.words_of_mending)
    rig = opened.rig
    gc.freeze()  # a large rig is not looked through for cycles again and again; it has none
    return rig


def check_rig_target(path: Path) -> None:
    """Fail for a name that is not a rig's, before any work is done for it."""
    if path != STANDARD and path.suffix not in RIG_SUFFIXES:
        fail_with(f"{path.name}: the name must end in .welvo or .json.")


def save_rig(rig: Rig, path: Path) -> str:
    """Write a rig; to standard output as JSON. Gives the name of the file. Raises RigFileError."""
    from welvo.formats.rigfile import bytes_of, save_rig_file

    if path == STANDARD:
        return write_output(path, bytes_of(rig, Path("rig.json")) + b"\n")
    save_rig_file(rig, path)
    return path.name


def interface_at(ip: str) -> Interface:
    from welvo.live.interfaces import interface_of, list_interfaces

    found = interface_of(ip)
    if found is None:
        have = ", ".join(i.label for i in list_interfaces())
        fail_with(f"No interface of this computer has the address {ip}. There are: {have}.")
    return found


# ---- the way in


def run_command_line(arguments: Sequence[str] | None = None) -> int:
    """Carry out a command line; gives the exit code. Nothing it meets ends in a traceback of ours being blamed on the
    rig: what standard output refuses is one sentence and 2."""
    out, err = sys.stdout, sys.stderr
    try:
        code = app.main(args=arguments, prog_name="welvo", standalone_mode=False)
        sys.stdout.flush()
        return code if isinstance(code, int) else 0
    except click.ClickException as e:
        e.show()
        return NOT_DONE
    except (click.Abort, KeyboardInterrupt):
        _close_quietly("welvo: interrupted")
        return INTERRUPTED
    except SystemExit:
        if sys.stdout is out:
            raise
        sys.stdout, sys.stderr = out, err  # click has put others in their place: its way with a closed pipe, and 1
        return _stdout_is_gone(BrokenPipeError(errno.EPIPE, os.strerror(errno.EPIPE)))
    except OSError as e:
        if e.errno not in (errno.EPIPE, errno.ENOSPC, errno.EIO, errno.EBADF, errno.EFBIG, errno.EDQUOT):
            raise
        return _stdout_is_gone(e)


def _stdout_is_gone(e: OSError) -> int:
    _let_go_of_stdout()
    _close_quietly(f"welvo: standard output cannot be written: {(e.strerror or str(e)).lower()}")
    return NOT_DONE


def _close_quietly(words: str) -> None:
    with contextlib.suppress(OSError):  # nobody is left to be told
        print(words, file=sys.stderr, flush=True)


def _let_go_of_stdout() -> None:
    """What is still in the buffer would be tried, and refused, once more when the interpreter ends."""
    try:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    except (OSError, ValueError):
        sys.stdout = None


def main() -> None:
    """Entry point of the `welvo` command."""
    signal.signal(signal.SIGPIPE, signal.SIG_IGN)  # a closed pipe is an error that is told, not a silent end
    raise SystemExit(run_command_line())
