"""`welvo blackout` and `welvo disarm`: the two things that must work when a window does not answer."""

from __future__ import annotations

import os
import signal

import click
from click.exceptions import Exit

from welvo.cli.base import app, as_json_option, print_note, say_json

OUTPUT = "welvo.live.engine_main"


of_option = click.option("--of", type=int, help="Only what the process of this number began, such as one window.")


def output_processes(of: int | None = None) -> list[int]:
    """The processes of this user that send levels, whatever window or command began them; or those of one process."""
    import psutil

    found = []
    for process in psutil.process_iter(["cmdline", "uids", "ppid"]):
        uids, words = process.info["uids"], process.info["cmdline"] or ()
        if uids and uids.real == os.getuid() and OUTPUT in words and of in (None, process.info["ppid"]):
            found.append(process.pid)
    return sorted(found)


def _ask_processes(what: signal.Signals, words: str, of: int | None, as_json: bool) -> None:
    asked = []
    for pid in output_processes(of):
        try:
            os.kill(pid, what)
        except ProcessLookupError:
            continue  # it ended by itself just now
        asked.append(pid)
    if as_json:
        say_json({"processes": asked})
    else:
        click.echo(f"{words}: {len(asked)} output{'s' * (len(asked) != 1)}.") if asked else print_note(
            "nothing is armed here"
        )
    if not asked:
        raise Exit(1)


@app.command()
@of_option
@as_json_option
def blackout(of: int | None, as_json: bool) -> None:
    """Take intensity, colour and shutter of all that is armed here to 0, or end that: F9 for a window that is stuck.

    It is done by the processes that send, whatever their windows are doing. Bind it to a key of the desktop where the
    window cannot hear its keys while it is busy (Wayland). Exit code 1 when nothing is armed.
    """
    _ask_processes(signal.SIGUSR1, "Blackout turned on or off", of, as_json)


@app.command()
@of_option
@as_json_option
def disarm(of: int | None, as_json: bool) -> None:
    """End all output of this user on this computer properly: Shift+F9 for a window that is stuck.

    Exit code 1 when nothing is armed.
    """
    _ask_processes(signal.SIGUSR2, "Disarmed", of, as_json)
