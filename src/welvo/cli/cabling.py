"""`welvo runs`: what is attached to the ports, where every segment stands, and attaching by the same words as in the
window."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from welvo.cli.base import (
    FILE,
    app,
    as_json_option,
    dry_run_option,
    end_dry_run,
    fail_with,
    load_rig,
    rig_file,
    say_json,
)

if TYPE_CHECKING:
    from welvo.rig.document import Rig
    from welvo.runs.cable import Cables, PortStream


@app.command()
@rig_file
@click.option("--device", "--box", default="", help="Only this device, by its name.")
@click.option(
    "--attach",
    "--hang",
    default="",
    help="Attach something to it first: “21 x 55 RGB ribbon, 3 to a port, there and back”.",
)
@click.option("--port", default="", help="From which port on; the first by default.")
@click.option(
    "--begin",
    type=click.IntRange(0, 63999),
    default=0,
    help="Let the device begin at this universe; what is missing is made and fed.",
)
@click.option("--packed", is_flag=True, help="With --begin: ports follow one another without a gap.")
@click.option("--write", type=FILE, help="Write what comes of it into a rig file; else it is only said.")
@dry_run_option
@click.option("--pixels", is_flag=True, help="One line for each pixel as CSV, to hold against another table.")
@as_json_option
def runs(
    file: Path,
    device: str,
    attach: str,
    port: str,
    begin: int,
    packed: bool,
    write: Path | None,
    dry_run: bool,
    pixels: bool,
    as_json: bool,
) -> None:
    """What is attached to every port: segments, slots of the stream, universes and addresses."""
    from welvo.formats.files import RigFileError
    from welvo.formats.models import shipped_pixels
    from welvo.formats.rigfile import save_rig_file
    from welvo.rig.base import Refused
    from welvo.runs.cable import Cables
    from welvo.runs.edits import begin_and_make, first_port_for_pixels
    from welvo.runs.wish import attach_wish

    rig = before = load_rig(file)
    if dry_run and (write or not (attach or begin)):
        fail_with("--dry-run goes with --attach or --begin, and writes nothing.")
    try:
        if attach or begin:
            device_id = _find_device(rig, device)
            first = port or first_port_for_pixels(rig, device_id)
            if attach:
                rig, _ = attach_wish(rig, device_id, first, attach, shipped_pixels())
            if begin:
                rig, _ = begin_and_make(rig, device_id, begin, "packed" if packed else "universe")
        elif device:
            _find_device(rig, device)
        if dry_run:
            end_dry_run(before, rig, None, as_json)
        if write:
            save_rig_file(rig, write)
    except (Refused, RigFileError) as e:
        fail_with(str(e))
    cables = Cables(rig)
    shown = [s for (d, _), s in cables.streams.items() if not device or rig.devices[d].name.lower() == device.lower()]
    if pixels:
        _write_pixels(cables, shown)
        return
    if as_json:
        say_json([_facts_of_stream(cables, s) for s in shown])
        return
    for s in shown:
        sums = _facts_of_stream(cables, s)
        click.echo(
            f"{sums['box']} {s.label}: {s.leds or s.pixels} px, {s.slots} slots, universes "
            f"{', '.join(map(str, sums['universes'])) or 'none'}"
        )
        for one in sums["segments"]:
            where = f"{one['first']} – {one['last']}" if one["first"] else "no address"
            slots = f"slots {one['slot']}–{one['slot'] + one['slots'] - 1}" if one["slots"] else "no slots"
            click.echo(f"  {one['place']:>3} {one['name']:20} {slots:20} {where}")


def _write_pixels(cables: Cables, shown: list[PortStream]) -> None:
    """Every data pixel with all its numbers, in the order they are sent."""
    import csv
    import sys

    from welvo.rig.notation import say_place
    from welvo.runs.along import number_order, piece_name
    from welvo.runs.pixels import device_sums, pixel_table

    out = csv.writer(sys.stdout, lineterminator="\n")
    out.writerow(["box", "port", "segment", "name", "pixel", "port pixel", "box pixel", "stream slot", "first", "last"])
    for stream in shown:
        base = next(x.running for x in device_sums(cables, stream.device_id) if x.stream is stream)
        table = pixel_table(stream)
        names, numbers = {}, {}
        for p in stream.pieces:
            element = cables.rig.elements.get(p.key)
            names[p.n] = piece_name(cables.rig, p)
            plain = element is None or element.kind == "block" or not p.leds or p.segment.kind != "pixels"
            numbers[p.n] = (
                None if plain or element is None else number_order(element, p.segment, p.leds)[:: p.segment.group]
            )
        for n in range(len(table.px)):
            piece = stream.pieces[int(table.piece[n])]
            px = int(table.px[n])
            first = say_place(int(table.universe[n]), int(table.address[n])) if table.universe[n] else ""
            last = say_place(int(table.last_universe[n]), int(table.last_address[n])) if table.last_universe[n] else ""
            own = numbers[piece.n]
            out.writerow(
                [
                    cables.rig.devices[stream.device_id].name,
                    stream.label,
                    piece.n + 1,
                    names[piece.n],
                    px if own is None else int(own[px - 1]),
                    piece.px + px - 1,
                    base + piece.px + px - 2,
                    int(table.slot[n]),
                    first,
                    last,
                ]
            )


def _find_device(rig: Rig, name: str) -> str:
    from welvo.rig.base import Refused

    if not name:
        pixels = [
            d
            for d, v in rig.devices.items()
            if (m := rig.device_models.get(v.model)) and m.kind in ("pixel", "converter")
        ]
        if len(pixels) == 1:
            return pixels[0]
        raise Refused("Say which device with --device NAME.")
    found = next((d for d, v in rig.devices.items() if v.name.lower() == name.lower()), "")
    if not found:
        raise Refused(f"There is no device “{name}” in this rig.")
    return found


def _facts_of_stream(cables: Cables, stream: PortStream) -> dict[str, Any]:
    from welvo.rig.notation import say_place
    from welvo.runs.along import part_name

    segments = []
    for p in stream.pieces:
        first, last = p.place_of_slot(1), p.place_of_slot(p.slots)
        segments.append(
            {
                "place": p.n + 1,
                "kind": p.segment.kind,
                "name": part_name(cables.rig, p),
                "slot": p.stream if p.slots else 0,
                "slots": p.slots,
                "pixel": p.px if p.pixels else 0,
                "pixels": p.pixels,
                "leds": p.leds,
                "first": say_place(*first) if first else "",
                "last": say_place(*last) if last else "",
            }
        )
    return {
        "box": cables.rig.devices[stream.device_id].name,
        "port": stream.label,
        "slots": stream.slots,
        "pixels": stream.pixels,
        "leds": stream.leds,
        "universes": [n for n, _ in stream.used],
        "needed_of_the_last": stream.used[-1][1] if stream.used else 0,
        "segments": segments,
    }
