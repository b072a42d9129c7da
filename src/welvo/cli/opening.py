"""`welvo open` and `demo`: the window, and the example that runs without one."""

from __future__ import annotations

import gc
import importlib
import os
from pathlib import Path

import click
from click.exceptions import Exit

from welvo.cli.base import app, as_json_option, fail_with, say_json


@app.command("open")
@click.argument("file", type=click.Path(path_type=Path), required=False, help="The rig to open.")
def open_(file: Path | None) -> None:
    """Open the window, with a rig or empty."""
    raise Exit(_open_window([str(file)] if file else []))


@app.command()
@click.option("--headless", is_flag=True, help="Run the example without a window and verify every step.")
@as_json_option
def demo(headless: bool, as_json: bool) -> None:
    """Open the Drift Gallery with its stand-ins. Without a display the whole example runs headless.

    Headless it exits with 1 if anything it says turns out to be untrue, and with 2 if this machine is too busy to tell.
    """
    if headless or as_json or not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        from welvo.demo.run import run_headless as run

        steps: list[str] = []
        code = run(steps.append if as_json else click.echo)
        if as_json:
            say_json({"verified": code == 0, "steps": steps})
        raise Exit(code)
    raise Exit(_open_window(["--demo"]))


def _open_window(arguments: list[str]) -> int:
    """Open the window, or say in one sentence why there can be none."""
    from welvo.cli.display import why_no_window

    if why := why_no_window():
        fail_with(why)
    gc.disable()  # the window sees to it itself (welvo.app.collecting), and what a start makes is not garbage
    # Looked up by name, so that no command but these two ever loads Qt.
    return int(importlib.import_module("welvo.app.main").run(arguments))
