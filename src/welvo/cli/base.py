"""What all commands share: the application, its options, and how they fail."""

from __future__ import annotations

import gc
from pathlib import Path
from typing import Annotated, Any, NoReturn

import typer

app = typer.Typer(
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    help="Define fixture profiles, patch them into Art-Net and sACN universes, set the devices, prove it with light.",
    context_settings={"help_option_names": ["-h", "--help"]},
)

RigFile = Annotated[Path, typer.Argument(help="A .welvo file, or a rig as bare JSON.", show_default=False)]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON instead of text.")]
InterfaceIp = Annotated[
    str, typer.Option("--interface", help="IPv4 address of the interface to use. Nothing else is touched.")
]


def fail(message: str, code: int = 2) -> NoReturn:
    typer.echo(f"welvo: {message}", err=True)
    raise typer.Exit(code)


def load_rig(file: Path) -> Any:
    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import open_rig

    try:
        opened = open_rig(file)
    except RigFileError as e:
        fail(str(e))
    if opened.words:
        typer.echo(f"welvo: {opened.words}", err=True)
    rig = opened.rig
    gc.freeze()  # a large rig is not looked through for cycles again and again; it has none
    return rig


def interface_at(ip: str) -> Any:
    from welvo.live.interfaces import interface_of, interfaces

    found = interface_of(ip)
    if found is None:
        have = ", ".join(i.label for i in interfaces())
        fail(f"No interface of this computer has the address {ip}. There are: {have}.")
    return found
