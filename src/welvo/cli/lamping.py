"""`welvo lamps`: what lamps say of themselves by RDM, beside the plan; set and taken without a window."""

from __future__ import annotations

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.exceptions import Exit

from welvo.cli.base import (
    FILE,
    app,
    as_json_option,
    dry_run_option,
    end_dry_run,
    fail_with,
    interface_at,
    interface_option,
    load_rig,
    rig_file,
    say_json,
)
from welvo.cli.devicing import listen_on

if TYPE_CHECKING:
    from welvo.live.lamp_push import LampPush
    from welvo.live.listener import Listener
    from welvo.live.rdm_link import Gateways, RdmPort
    from welvo.matching.lamps import LampPair, LampWish
    from welvo.observed.values import Lamp, Observed, PortAt
    from welvo.patch.index import Index
    from welvo.rig.document import Rig
    from welvo.rig.refs import PortRef

port_option = click.option(
    "--port", default="", help="One port, as DEVICE/PORT, such as WEIR-2/A; all with lamps without."
)


@app.command()
@rig_file
@port_option
@interface_option
@click.option("--search", is_flag=True, help="Let the gateways search anew, instead of telling whom they know.")
@click.option("--push", is_flag=True, help="Set addresses and modes as planned, and read them back.")
@click.option("--label", is_flag=True, help="With --push: give each lamp its number as a label.")
@click.option("--confirm", is_flag=True, help="Take all guesses which lamp is which, and keep the UIDs in the rig.")
@click.option("--take", is_flag=True, help="Plan the addresses that the lamps have.")
@click.option("--serial", multiple=True, help="Which serial port a line is, as NUMBER=PORT, such as 1=/dev/ttyUSB0.")
@click.option("--write", type=FILE, help="The rig file to write; the one that was read without.")
@dry_run_option
@as_json_option
def lamps(
    file: Path,
    port: str,
    interface: str,
    search: bool,
    push: bool,
    label: bool,
    confirm: bool,
    take: bool,
    serial: tuple[str, ...],
    write: Path | None,
    dry_run: bool,
    as_json: bool,
) -> None:
    """Lamps that answer by RDM, beside the plan. Exit code 1 when one differs, is missing, or was not set."""
    import asyncio

    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import save_rig_file
    from welvo.matching.lamps import LINES, bind_all, pair_responders, port_lamps, take_addresses, wishes_for_lamps
    from welvo.patch.index import Index
    from welvo.rig.base import Refused

    rig, where = load_rig(file), interface_at(interface)
    lines = _lines_by_number(serial)
    if dry_run and push:
        fail_with("--dry-run sets nothing on lamps; leave --push out.")
    if push and take:
        fail_with("Either the lamps are set as planned (--push), or the plan as the lamps are (--take).")
    with listen_on(where) as listener:
        listener.poll_everybody()
        time.sleep(1.0)  # what ports of nodes listen to is told by their answer to a poll
        from welvo.observed.values import Observed

        observed = Observed(heard=listener.heard_devices(), listening=True)
        index = Index(rig)
        asked = _ports_to_ask(index, observed, port)
        found = asyncio.run(_find_lamps(listener, [at for _, at in asked], search, lines))
        before, said = rig, {}
        for ref, at in asked:
            if isinstance(found[at], str):
                continue
            here = pair_responders(index, port_lamps(index, *ref), found[at])  # type: ignore[arg-type]
            try:
                if confirm and any(p.fixture and not p.sure for p in here):
                    rig, _ = bind_all(rig, here)
                    index = Index(rig)
                    here = pair_responders(index, port_lamps(index, *ref), found[at])  # type: ignore[arg-type]
                if take and any(p.lines and p.lines[0].mark == "differs" for p in here):
                    rig, _ = take_addresses(index, here)
                    index = Index(rig)
            except Refused as e:
                fail_with(str(e))
            if push:
                wished = wishes_for_lamps(index, here, LINES if label else LINES[:2])
                doubtful = sum(p.doubt and p.lamp.uid in wished for p in here if p.lamp)
                if doubtful:
                    fail_with(
                        f"Which is which of {doubtful} lamps on {_name_of_port(rig, ref)} is only guessed. Tell them "
                        f"apart in "
                        "the window, or take the guesses with --confirm."
                    )
                said[ref] = asyncio.run(_push_wishes(listener, at, found[at], wished, lines))  # type: ignore[arg-type]
                found[at] = list(said[ref].lamps.values())
    rows = [_row_of_port(index, ref, found[at], said.get(ref)) for ref, at in asked]
    if dry_run:
        end_dry_run(before, rig, None, as_json)
    if rig is not before:
        try:
            save_rig_file(rig, write or file)
        except RigFileError as e:
            fail_with(str(e))
    if as_json:
        say_json({"ports": rows})
    else:
        _print_rows(rows)
    raise Exit(1 if any(r["wrong"] for r in rows) else 0)


def _name_of_port(rig: Rig, ref: PortRef) -> str:
    return f"{rig.devices[ref.device].name}/{ref.port}"


def _ports_to_ask(index: Index, observed: Observed, wanted: str) -> list[tuple[PortRef, PortAt]]:
    """The ports to be asked and where each is reached. Fails in words when one cannot be."""
    from welvo.matching.lamps import address_by_rdm, ports_with_lamps

    rig = index.rig
    ports = ports_with_lamps(index)
    if wanted:
        ports = [ref for ref in ports if _name_of_port(rig, ref).lower() == wanted.lower()]
    if not ports:
        have = ", ".join(_name_of_port(rig, ref) for ref in ports_with_lamps(index)) or "none"
        fail_with(f"There is no port “{wanted}” with lamps on it. There are: {have}.")
    found = [(ref, address_by_rdm(rig, observed, *ref)) for ref in ports]
    unreached = [_name_of_port(rig, ref) for ref, at in found if at is None]
    if wanted and unreached:
        fail_with(f"{unreached[0]} has no address or no universe, so its lamps cannot be asked.")
    return [(ref, at) for ref, at in found if at]


def _lines_by_number(typed: tuple[str, ...]) -> dict[int, str]:
    """Serial ports by the number of their line."""
    found: dict[int, str] = {}
    for t in typed:
        number, equals, name = t.partition("=")
        if not equals or not number.strip().isdecimal() or not name.strip():
            fail_with(f"“{t}” is no line; write NUMBER=PORT, such as 1=/dev/ttyUSB0.")
        found[int(number)] = name.strip()
    return found


def _way_to_port(gateways: Gateways, at: PortAt, lines: dict[int, str]) -> RdmPort:
    """The way to a port's lamps. Raises LinkError for a line of which nobody said which serial port it is."""
    from welvo.live.links import LinkError
    from welvo.live.rdm_serial import SerialRdm
    from welvo.matching.lamps import LINE

    if at[0] != LINE:
        return gateways.port_at(*at)
    if at[1] not in lines:
        raise LinkError(f"Say which serial port line {at[1]} is: --serial {at[1]}=PORT.")
    return SerialRdm(lines[at[1]])


async def _find_lamps(
    listener: Listener, ports: list[PortAt], search: bool, lines: dict[int, str]
) -> dict[PortAt, list[Lamp] | str]:
    """What answers on each port, or why nothing is known of it."""
    import asyncio

    from welvo.live.links import LinkError
    from welvo.live.rdm_link import Gateways, find_responders

    gateways = Gateways(listener)
    found: dict[PortAt, list[Lamp] | str] = {}

    async def one(at: PortAt) -> None:
        try:
            found[at] = await find_responders(_way_to_port(gateways, at, lines), search)
        except LinkError as e:
            found[at] = str(e)

    await asyncio.gather(*(one(at) for at in dict.fromkeys(ports)))
    return found


async def _push_wishes(
    listener: Listener, at: PortAt, here: list[Lamp], wished: dict[int, LampWish], lines: dict[int, str]
) -> LampPush:
    from welvo.live.lamp_push import LampPush
    from welvo.live.rdm_link import Gateways

    made = LampPush(here, wished)
    await made.run_push(_way_to_port(Gateways(listener), at, lines))
    return made


def _row_of_port(index: Index, ref: PortRef, found: list[Lamp] | str, pushed: LampPush | None) -> dict[str, Any]:
    from welvo.matching.lamps import meeting_responders, pair_responders, port_lamps

    name = _name_of_port(index.rig, ref)
    if isinstance(found, str):
        return {"port": name, "failed": found, "lamps": [], "at one address": [], "wrong": True}
    here = pair_responders(index, port_lamps(index, *ref), found)
    results = pushed.results if pushed else {}
    outcomes: dict[int, dict[str, object]] = {}
    for (uid, key), r in results.items():
        outcomes.setdefault(uid, {})[key] = {"outcome": r.outcome, "why": r.why}
    lamps_ = [_facts_of_lamp(index, p, outcomes) for p in here]
    bad = any(r.outcome != "taken" for r in results.values())
    wrong = bad or bool(meeting_responders(here)) or any(x["differs"] or not x["uid"] or x["failed"] for x in lamps_)
    at_one = [{"address": m[0].lamp.address, "lamps": len(m)} for m in meeting_responders(here) if m[0].lamp]
    return {"port": name, "failed": "", "lamps": lamps_, "at one address": at_one, "wrong": wrong}


def _facts_of_lamp(index: Index, p: LampPair, outcomes: dict[int, dict[str, object]]) -> dict[str, Any]:
    from welvo.protocols.rdm import say_uid

    f = index.rig.fixtures.get(p.fixture)
    return {
        "number": f.number if f else 0,
        "name": f.name if f else "",
        "uid": say_uid(p.lamp.uid) if p.lamp else "",
        "model": p.lamp.model_name if p.lamp else "",
        "why": p.why,
        "sure": p.sure,
        "failed": p.lamp.failed if p.lamp else "",
        "lines": {x.key: {"plan": x.plan, "reported": x.reported, "mark": x.mark} for x in p.lines},
        "differs": [x.key for x in p.lines if x.mark == "differs"],
        "set": outcomes.get(p.lamp.uid, {}) if p.lamp else {},
    }


def _print_rows(rows: list[dict[str, Any]]) -> None:
    for row in rows:
        count = sum(bool(x["uid"]) for x in row["lamps"])
        click.echo(f"{row['port']}: {row['failed'] or f'{count} answered'}")
        for m in row["at one address"]:
            click.echo(f"    {m['lamps']} lamps stand at address {m['address']:03d}")
        for x in row["lamps"]:
            who = f"{x['number']} {x['name']}".strip() if x["number"] else "not in the plan"
            if not x["uid"]:
                click.echo(f"    {who:24} did not answer")
                continue
            words = [f"{k} plan {v['plan']}, lamp {v['reported']}" for k, v in x["lines"].items() if k in x["differs"]]
            words += [f"{k} {v['outcome']}{': ' if v['why'] else ''}{v['why']}" for k, v in x["set"].items()]
            doubt = "" if x["sure"] or not x["number"] else f"  ({x['why']})"
            told = x["failed"] or "; ".join(words) or ("as planned" if x["number"] else x["model"])
            click.echo(f"    {who:24} {x['uid']}  {told}{doubt}")
