"""`welvo devices`, `push`, `snapshot` and `bring-up`: devices found, compared, set and looked for without a window."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from click.exceptions import Exit

from welvo.cli.base import (
    FILE,
    app,
    as_json_option,
    fail_with,
    interface_at,
    interface_option,
    load_rig,
    print_note,
    rig_file,
    say_json,
)
from welvo.patience import steady

if TYPE_CHECKING:
    from welvo.live.interfaces import Interface
    from welvo.live.listener import Listener
    from welvo.observed.values import DeviceAnswer, Observed
    from welvo.rig.document import Rig

seconds_option = click.option(
    "--seconds", type=click.FloatRange(0.2, 600), default=3.0, help="How long to listen for answers."
)
device_argument = click.argument("device", help="The device, by its name or address.")
password_option = click.option(
    "--password", envvar="WELVO_PASSWORD", default="", help="The device's password; never shown."
)


@contextlib.contextmanager
def listen_on(where: Interface, universes: Iterable[int] = ()) -> Iterator[Listener]:
    """A listener on an interface, for as long as it is needed; what is in its way is said."""
    from welvo.live.listener import Listener

    listener = Listener(where, universes)
    for problem in listener.find_problems:
        print_note(problem)
    listener.start_listening()
    try:
        yield listener
    finally:
        listener.close()


def observe_rig(rig: Rig, where: Interface, listener: Listener, seconds: float, password: str = "") -> Observed:
    """What answers within some seconds, and what those that can be asked say of their settings."""
    import asyncio

    from welvo.observed.values import Observed

    end = time.monotonic() + seconds
    said = asyncio.run(_ask_settings(rig, where, password))
    time.sleep(max(0.0, end - time.monotonic()))
    now = steady()
    return Observed(
        heard=listener.heard_devices(), sources=tuple(listener.heard_sources(now)), said=said, listening=True
    )


async def _ask_settings(rig: Rig, where: Interface, password: str) -> dict[str, DeviceAnswer]:
    import asyncio

    from welvo.live.device_link import HttpLink, open_session
    from welvo.live.links import LinkError
    from welvo.rig.plan import link_of, model_of

    found: dict[str, DeviceAnswer] = {}
    async with open_session(where.ip) as opened:

        async def one(ip: str, port: int) -> None:
            with contextlib.suppress(LinkError):
                found[ip] = await HttpLink(opened, ip, port, password).read()

        asked = []
        for device_id, d in rig.devices.items():
            model = model_of(rig, device_id)
            if model and model.status_port and d.ip and where.holds_address(d.ip):
                if any(link_of(model, s) == "http" for s in model.settings):
                    asked.append(one(d.ip, model.status_port))
        await asyncio.gather(*asked)
    return found


def _find_device(rig: Rig, name: str) -> str:
    from welvo.rig.plan import device_at

    found = next((k for k, d in rig.devices.items() if d.name.lower() == name.lower()), "") or device_at(rig, name)
    if not found:
        fail_with(
            f"The rig has no device “{name}”. It has {', '.join(d.name for d in rig.devices.values()) or 'none'}."
        )
    return found


def _plain_value(value: object) -> str:
    return "—" if value is None else str(value)


@app.command()
@rig_file
@interface_option
@seconds_option
@click.option("--differing", is_flag=True, help="Only settings that differ or wait.")
@password_option
@as_json_option
def devices(file: Path, interface: str, seconds: float, differing: bool, password: str, as_json: bool) -> None:
    """Planned devices beside what answers: found, silent, what differs, what waits. Exit code 1 when anything does."""
    from welvo.matching.planned import compare_device
    from welvo.patch.index import Index
    from welvo.rig.plan import device_at, say_key, say_setting

    rig, where = load_rig(file), interface_at(interface)
    with listen_on(where) as listener:
        observed = observe_rig(rig, where, listener, seconds, password)
    index, now = Index(rig), steady()
    rows: list[dict[str, Any]] = []
    for device_id, d in rig.devices.items():
        heard, said = observed.heard.get(d.ip), observed.said.get(d.ip)
        lines = compare_device(index, observed, device_id, now)
        rows.append(
            {
                "name": d.name,
                "ip": d.ip,
                "state": "found" if heard or said else "silent" if d.ip else "no address",
                "mac": said.mac if said else heard.mac if heard else "",
                "firmware": said.firmware if said else "",
                "test": said.test if said else "",
                "equal": sum(x.mark == "matches" for x in lines),
                "differs": [
                    {"setting": x.key, "plan": x.plan, "reported": x.reported} for x in lines if x.mark == "differs"
                ],
                "waits": {x.key: list(x.waits) for x in lines if x.waits},
                "settings": {x.key: x.mark for x in lines} if not differing else {},
            }
        )
    strangers = [
        {"ip": ip, "name": h.name, "mac": h.mac} for ip, h in sorted(observed.heard.items()) if not device_at(rig, ip)
    ]
    wrong = any(r["state"] == "silent" or r["differs"] or r["waits"] or r["test"] for r in rows)
    if as_json:
        say_json({"devices": rows, "strangers": strangers})
        raise Exit(1 if wrong else 0)
    for r in rows:
        model = rig.device_models.get(next(d.model for d in rig.devices.values() if d.name == r["name"]))
        words = f"{r['equal']} equal" if r["equal"] else ""
        if r["differs"]:
            words += f", {len(r['differs'])} differ"
        click.echo(f"{r['name']:18} {r['ip'] or '–':15} {r['state']:10} {words}")
        for x in r["differs"]:
            spec = model.spec_of_setting(x["setting"].rpartition(".")[2]) if model else None
            plan, has = say_setting(spec, x["plan"]), say_setting(spec, x["reported"])
            click.echo(f"    {say_key(model, x['setting'])}: plan {plan}, device {has}")
        for key, needs in r["waits"].items():
            click.echo(f"    {say_key(model, key)} still needs {', '.join(needs)}")
        if r["test"]:
            click.echo(f"    its on-board test “{r['test']}” runs")
    for s in strangers:
        click.echo(f"{s['name'] or '–':18} {s['ip']:15} not in the plan")
    raise Exit(1 if wrong else 0)


@app.command()
@rig_file
@device_argument
@click.argument(
    "settings", nargs=-1, required=False, help="Which settings, by key, such as 6.brightness; all that differ without."
)
@interface_option
@seconds_option
@click.option("--acts", default="save,apply", help="What to do afterwards: save, apply, restart, or none.")
@password_option
@as_json_option
def push(
    file: Path,
    device: str,
    settings: tuple[str, ...],
    interface: str,
    seconds: float,
    acts: str,
    password: str,
    as_json: bool,
) -> None:
    """Send planned values to a device, and say what became of each. Exit code 1 when one was not taken."""
    import asyncio

    from welvo.live.device_link import HttpLink, Push, open_session
    from welvo.live.links import ArtNetLink
    from welvo.matching.planned import compare_device, full_plan
    from welvo.patch.index import Index
    from welvo.rig.base import Refused
    from welvo.rig.plan import link_of, model_of, say_key, spec_of

    rig, where = load_rig(file), interface_at(interface)
    device_id = _find_device(rig, device)
    d, model = rig.devices[device_id], model_of(rig, device_id)
    wanted_acts = [a.strip() for a in acts.split(",") if a.strip() and a.strip() != "none"]
    if any(a not in ("save", "apply", "restart") for a in wanted_acts):
        fail_with(f"--acts are save, apply and restart, or none; “{acts}” is something else.")
    if model is None or not d.ip:
        fail_with(f"{d.name} has no {'model' if model is None else 'address'}, so nothing can be sent to it.")
    index = Index(rig)
    plan = full_plan(index, device_id)
    unknown = [k for k in settings or [] if k not in plan]
    if unknown:
        fail_with(f"Nothing is planned for “{unknown[0]}” of {d.name}.")
    results: dict[str, dict[str, Any]] = {}
    with listen_on(where) as listener:
        observed = observe_rig(rig, where, listener, seconds, password)
        lines = compare_device(index, observed, device_id, steady())
        keys = settings or [x.key for x in lines if x.mark == "differs" and x.spec.writable]
        web = {k: plan[k] for k in keys if (s := spec_of(model, k)) and link_of(model, s) == "http"}
        rest = {k: plan[k] for k in keys if k not in web}
        if web:
            made = Push(web, tuple(wanted_acts), model.restart_takes)  # type: ignore[arg-type]

            async def work() -> None:
                async with open_session(where.ip) as opened:
                    await made.run_push(HttpLink(opened, d.ip, model.status_port, password))

            asyncio.run(work())
            for k, r in made.results.items():
                results[k] = {"value": r.value, "outcome": r.outcome, "why": r.why, "needs": list(r.needs)}
        if rest:
            try:
                ArtNetLink(listener).push_settings(model, listener.heard_devices().get(d.ip), d.ip, rest)
            except Refused as e:
                results |= {k: {"value": v, "outcome": "not sent", "why": str(e), "needs": []} for k, v in rest.items()}
            else:
                time.sleep(0.5)
                listener.poll_everybody()
                time.sleep(1.0)
                after = compare_device(index, observe_rig(rig, where, listener, 0.2, password), device_id, steady())
                marks = {x.key: x for x in after}
                for k, v in rest.items():
                    same = k in marks and marks[k].reported == v
                    why = "" if same else f"it reads back {_plain_value(marks[k].reported if k in marks else None)}"
                    results[k] = {"value": v, "outcome": "taken" if same else "otherwise", "why": why, "needs": []}
    bad = [k for k, r in results.items() if r["outcome"] not in ("taken", "waits")]
    if as_json:
        say_json({"device": d.name, "results": results})
    elif not results:
        click.echo(f"{d.name}: nothing differs.")
    else:
        for k, row in results.items():
            more = f": {row['why']}" if row["why"] else f" for {', '.join(row['needs'])}" if row["needs"] else ""
            click.echo(f"{say_key(model, k)} {_plain_value(row['value'])} · {row['outcome']}{more}")
    raise Exit(1 if bad else 0)


@app.command()
@rig_file
@device_argument
@interface_option
@click.option("--why", default="by hand", help="The occasion, in words.")
@click.option("--compare", is_flag=True, help="Only say what differs from the latest snapshot; takes none.")
@click.option("--write", type=FILE, help="The rig file to write it into; the one that was read without.")
@password_option
@as_json_option
def snapshot(
    file: Path, device: str, interface: str, why: str, compare: bool, write: Path | None, password: str, as_json: bool
) -> None:
    """Keep all settings of a device in the rig, or compare them with the latest that was kept."""
    import asyncio

    from welvo.formats.files import RigFileError
    from welvo.formats.rigfile import save_rig_file
    from welvo.rig.base import Refused
    from welvo.settings.snapshots import differences_of_snapshots, take_snapshot

    rig, where = load_rig(file), interface_at(interface)
    device_id = _find_device(rig, device)
    d = rig.devices[device_id]
    said = asyncio.run(_ask_settings(rig, where, password)).get(d.ip)
    if compare:
        if said is None or not d.snapshots:
            fail_with(f"{d.name} {'does not say its settings' if said is None else 'has no snapshot yet'}.")
        found = differences_of_snapshots(d.snapshots[-1].values, said.active)
        if as_json:
            rows = [{"setting": k, "snapshot": a, "now": b} for k, a, b in found]
            say_json({"device": d.name, "differences": rows})
        else:
            for k, a, b in found:
                click.echo(f"{k}: was {_plain_value(a)}, is {_plain_value(b)}")
            click.echo(f"{len(found)} of {len(said.active)} settings differ")
        raise Exit(1 if found else 0)
    try:
        kept, _ = take_snapshot(rig, device_id, said, time.time(), why)
        save_rig_file(kept, write or file)
    except (Refused, RigFileError) as e:
        fail_with(str(e))
    count = len(kept.devices[device_id].snapshots[-1].values)
    if as_json:
        say_json({"device": d.name, "settings": count, "why": why})
    else:
        click.echo(f"{d.name}: {count} settings kept in {(write or file).name}")


@app.command("bring-up")
@click.argument("address", help="Where the device should be.")
@click.option("--rig", type=FILE, help="The rig that plans it: says its model and MAC.")
@click.option("--model", default="", help="Its model, by the name of a shipped one, such as penstock-12.")
@interface_option
@password_option
@as_json_option
def bring_up_(address: str, rig: Path | None, model: str, interface: str, password: str, as_json: bool) -> None:
    """Find out why a device does not answer, test by test. Exit code 1 when there is a cause."""
    import asyncio

    from welvo.formats.models import shipped_models
    from welvo.live.bring_up import RealProbes, Wanted, bring_up
    from welvo.rig.base import Refused
    from welvo.rig.notation import read_ip
    from welvo.rig.plan import device_at

    where = interface_at(interface)
    try:
        ip = read_ip(address)
    except Refused as e:
        fail_with(str(e))
    planned = load_rig(rig) if rig else None
    device_id = device_at(planned, ip) if planned else ""
    device = planned.devices[device_id] if planned and device_id else None
    known = planned.device_models.get(device.model) if planned and device else shipped_models().get(model)
    if model and known is None:
        fail_with(f"There is no shipped model “{model}”. There are {', '.join(shipped_models())}.")
    mac = str(device.settings.get("mac", "")) if device else ""
    others = [d.ip for d in planned.devices.values() if d.ip] if planned else []
    with listen_on(where) as listener:
        probes = RealProbes(where, listener.heard_devices, listener.poll_one, lambda: listener.taken)
        search = asyncio.run(bring_up(Wanted(ip, known, mac, password), probes, others))
    cause = search.likeliest_cause
    if as_json:
        rows = [
            {"code": v.code, "test": v.test, "passed": v.passed, "proof": v.proof, "put_right": v.put_right}
            for v in search.verdicts
        ]
        whole = {"address": ip, "cause": cause.code if cause else "", "found": search.found, "tests": rows}
        say_json(whole)
    else:
        for v in search.verdicts:
            click.echo(f"{'passed' if v.passed else 'FAILED':7} {v.test}: {v.proof}")
        click.echo(cause.put_right if cause else "It answers, and nothing is wrong.")
    raise Exit(1 if cause else 0)
