"""Edits that need no index. Each gives the new rig and what it touched."""

from __future__ import annotations

from typing import Any

from msgspec.structs import replace

from welvo.rig.document import Change, Rig, fresh_id, put
from welvo.rig.lookup import bench_sender, call, code_for, lowest_free_tint, universe_by_number
from welvo.rig.notation import NotationError, plural, read_ip, say_wire
from welvo.rig.patched import Element, Fixture, Place, Share, Waiver
from welvo.rig.plan import ports_taking, split_key
from welvo.rig.profile import Profile
from welvo.rig.wiring import Device, DeviceModel, Feed, Port, Sender, SettingValue, Universe

Edit = tuple[Rig, Change]


def rename_rig(rig: Rig, name: str) -> Edit:
    return replace(rig, name=name), Change(f"name the rig {name}", {"rig": frozenset({"name"})})


def add_profile(rig: Rig, profile: Profile) -> tuple[Rig, Change, str]:
    """Take a profile in; it gets the lowest free tint and a three-letter code of its own."""
    pid = fresh_id(rig.profiles, "p")
    own = replace(profile, tint=lowest_free_tint(rig), code=code_for(rig, profile.name))
    return *put(rig, f"add profile {profile.name}", profiles={pid: own}), pid


def set_profile(rig: Rig, pid: str, label: str, **fields: Any) -> Edit:
    return put(rig, label, profiles={pid: replace(rig.profiles[pid], **fields)})


def remove_profile(rig: Rig, pid: str) -> Edit:
    users = [f.number for f in rig.fixtures.values() if f.profile == pid]
    if users:
        raise NotationError(f"{rig.profiles[pid].name} is used by {plural(len(users), 'fixture')}; remove those first.")
    return put(rig, f"remove profile {rig.profiles[pid].name}", profiles={pid: None})


def set_fixtures(rig: Rig, label: str, changes: dict[str, dict[str, Any]]) -> Edit:
    return put(rig, label, fixtures={fid: replace(rig.fixtures[fid], **c) for fid, c in changes.items()})


def move(rig: Rig, key: str, brk: int, universe: str, address: int) -> Edit:
    """Type an address for one break of a fixture, or for an element. Locked places stay."""
    element = rig.elements.get(key)
    old = element.at if element else rig.fixtures[key].place(brk)
    if old.locked:
        raise NotationError(f"{call(rig, key)} is locked. Unlock it first.")
    place = Place(universe=universe, address=address)
    where = f"{rig.universes[universe].number}.{address:03d}"
    if element:
        return put(rig, f"move {element.name} to {where}", elements={key: replace(element, at=place)})
    fixture = rig.fixtures[key]
    return put(
        rig, f"move {fixture.number} to {where}", fixtures={key: replace(fixture, at=with_place(fixture, brk, place))}
    )


def with_place(fixture: Fixture, brk: int, place: Place) -> tuple[Place, ...]:
    at = list(fixture.at) + [Place()] * (brk + 1 - len(fixture.at))
    at[brk] = place
    return tuple(at)


def remove_things(rig: Rig, keys: list[str]) -> Edit:
    """Take fixtures and elements out of the rig, out of its shares and off its cables."""
    gone = set(keys)
    shares: dict[str, Share | None] = {}
    for sid, share in rig.shares.items():
        left = tuple(m for m in share.members if m not in gone)
        if len(left) != len(share.members):
            shares[sid] = replace(share, members=left) if len(left) > 1 else None
    devices: dict[str, Device] = {}
    for did, device in rig.devices.items():
        ports = {
            label: replace(
                port,
                run=tuple(
                    replace(s, fixtures=tuple(f for f in s.fixtures if f not in gone))
                    for s in port.run
                    if s.element not in gone
                ),
            )
            for label, port in device.ports.items()
            if any(s.element in gone or gone & set(s.fixtures) for s in port.run)
        }
        if ports:
            devices[did] = replace(device, ports={**device.ports, **ports})
    what = call(rig, keys[0]) if len(keys) == 1 else plural(len(keys), "thing")
    return put(
        rig, f"remove {what}",
        fixtures={k: None for k in keys if k in rig.fixtures}, elements={k: None for k in keys if k in rig.elements},
        shares=shares, devices=devices,
    )  # fmt: skip


def add_element(rig: Rig, element: Element) -> tuple[Rig, Change, str]:
    eid = fresh_id(rig.elements, "e")
    own = replace(element, tint=lowest_free_tint(rig), code=code_for(rig, element.name))
    return *put(rig, f"add {element.name}", elements={eid: own}), eid


def add_universe(rig: Rig, number: int | None = None, name: str = "") -> tuple[Rig, Change, str]:
    """A new universe; without a number it gets the one after the highest."""
    n = number if number is not None else max((u.number for u in rig.universes.values()), default=0) + 1
    if universe_by_number(rig, n):
        raise NotationError(f"There is a universe {n} already.")
    if not 1 <= n <= 63999:
        raise NotationError(f"There is no universe {n}: universes run from 1 to 63999.")
    uid = fresh_id(rig.universes, "u")
    return *put(rig, f"add universe {n}", universes={uid: Universe(number=n, name=name)}), uid


def set_universe(rig: Rig, uid: str, label: str, **fields: Any) -> Edit:
    number = fields.get("number")
    if number is not None and universe_by_number(rig, number) not in ("", uid):
        raise NotationError(f"There is a universe {number} already.")
    return put(rig, label, universes={uid: replace(rig.universes[uid], **fields)})


def remove_universe(rig: Rig, uid: str) -> Edit:
    """Remove a universe and its feeds; what was patched there is not patched afterwards."""
    number = rig.universes[uid].number
    fixtures = {
        fid: replace(f, at=tuple(Place() if p.universe == uid else p for p in f.at))
        for fid, f in rig.fixtures.items()
        if any(p.universe == uid for p in f.at)
    }
    elements = {eid: replace(e, at=Place()) for eid, e in rig.elements.items() if e.at.universe == uid}
    feeds = {fid: None for fid, f in rig.feeds.items() if f.universe == uid}
    devices = _without_feeds(rig, set(feeds))
    return put(rig, f"remove universe {number}", universes={uid: None}, fixtures=fixtures, elements=elements, feeds=feeds, devices=devices)  # fmt: skip


def _without_feeds(rig: Rig, feeds: set[str]) -> dict[str, Device]:
    found: dict[str, Device] = {}
    for did, d in rig.devices.items():
        if any(p.feed in feeds for p in d.ports.values()):
            ports = {k: replace(p, feed="") if p.feed in feeds else p for k, p in d.ports.items()}
            found[did] = replace(d, ports=ports)
    return found


def add_feed(
    rig: Rig, universe: str, protocol: str = "sacn", wire: int | None = None, sender: str = ""
) -> tuple[Rig, Change, str]:
    """Feed a universe, from the Bench unless said otherwise; the wire number is the universe's own by default."""
    senders: dict[str, Sender] = {}
    who = sender or bench_sender(rig)
    if not who:
        who = fresh_id(rig.senders, "s")
        senders[who] = Sender(name="Bench", kind="bench")
    number = rig.universes[universe].number
    on_wire = wire if wire is not None else number
    fid = fresh_id(rig.feeds, "w")
    to = "multicast" if protocol == "sacn" else "subscribers"
    feed = Feed(
        universe=universe, sender=who, protocol="artnet" if protocol == "artnet" else "sacn", wire=on_wire, to=to
    )
    label = f"feed universe {number} by {say_wire(protocol, on_wire)}"
    return *put(rig, label, senders=senders, feeds={fid: feed}), fid


def set_feed(rig: Rig, fid: str, label: str, **fields: Any) -> Edit:
    feed = replace(rig.feeds[fid], **fields)
    if "protocol" in fields and fields["protocol"] != rig.feeds[fid].protocol and "to" not in fields:
        if feed.to in ("multicast", "subscribers", "broadcast"):
            feed = replace(feed, to="multicast" if feed.protocol == "sacn" else "subscribers")
    check_feed(feed)
    return put(rig, label, feeds={fid: feed})


def check_feed(feed: Feed) -> None:
    """Refuse what no wire can carry: numbers and destinations that do not fit the protocol."""
    if feed.protocol == "sacn" and not 1 <= feed.wire <= 63999:
        raise NotationError(f"There is no sACN universe {feed.wire}: they run from 1 to 63999.")
    if feed.protocol == "artnet" and feed.wire > 32767:
        raise NotationError(f"Art-Net addresses run from 0 to 32767; {feed.wire} is too high.")
    words = ("multicast",) if feed.protocol == "sacn" else ("subscribers", "broadcast")
    if feed.to not in words:
        if feed.to in ("multicast", "subscribers", "broadcast"):
            raise NotationError(f"{'sACN' if feed.protocol == 'sacn' else 'Art-Net'} cannot be sent to “{feed.to}”.")
        read_ip(feed.to)


def remove_feed(rig: Rig, fid: str) -> Edit:
    feed = rig.feeds[fid]
    return put(
        rig, f"remove feed {say_wire(feed.protocol, feed.wire)}", feeds={fid: None}, devices=_without_feeds(rig, {fid})
    )


def add_device(rig: Rig, model: DeviceModel, name: str, ip: str = "") -> tuple[Rig, Change, str]:
    """Plan a box; its model is copied into the rig."""
    mid = next((k for k, m in rig.device_models.items() if m == model), "")
    models: dict[str, DeviceModel] = {}
    if not mid:
        mid = fresh_id(rig.device_models, "m")
        models[mid] = model
    did = fresh_id(rig.devices, "d")
    ports = {label: Port() for label in model.ports}
    device = Device(
        name=name,
        model=mid,
        ip=read_ip(ip) if ip else "",
        ports=ports,
        settings={"name": name} if model.spec("name") else {},
    )
    return *put(rig, f"add {name}", device_models=models, devices={did: device}), did


def set_device(rig: Rig, did: str, label: str, **fields: Any) -> Edit:
    return put(rig, label, devices={did: replace(rig.devices[did], **fields)})


def remove_device(rig: Rig, did: str) -> Edit:
    return put(rig, f"remove {rig.devices[did].name}", devices={did: None})


def plan_setting(rig: Rig, did: str, full: str, value: SettingValue | None) -> Edit:
    """Plan a value for a setting (None: the plan does not care).

    A port's universe and protocol are never kept twice: planning one changes the feed that the port takes.
    If other ports take that feed as well, they move with it.
    """
    device = rig.devices[did]
    label, key = split_key(full)
    words = f"plan {device.name} {label + ' ' if label else ''}{key} {value}"
    if full == "ip":
        return set_device(rig, did, words, ip=read_ip(str(value)) if value else "")
    if label and key in ("universe", "protocol"):
        feed_id = device.ports[label].feed
        if not feed_id:
            raise NotationError(f"Port {label} takes no feed yet; choose one first.")
        if key == "universe":
            if not isinstance(value, int):
                raise NotationError(f"“{value}” is no universe number.")
            return set_feed(rig, feed_id, words, wire=value)
        return set_feed(rig, feed_id, words, protocol=value)
    if label:
        port = device.ports.get(label, Port())
        settings = {k: v for k, v in port.settings.items() if k != key} | ({key: value} if value is not None else {})
        return set_device(rig, did, words, ports={**device.ports, label: replace(port, settings=settings)})
    settings = {k: v for k, v in device.settings.items() if k != key} | ({key: value} if value is not None else {})
    if key == "name" and isinstance(value, str) and value:
        return set_device(rig, did, words, settings=settings, name=value)
    return set_device(rig, did, words, settings=settings)


def set_port(rig: Rig, did: str, port: str, label: str, **fields: Any) -> Edit:
    device = rig.devices[did]
    return set_device(rig, did, label, ports={**device.ports, port: replace(device.ports.get(port, Port()), **fields)})


def who_else(rig: Rig, did: str, port: str) -> list[str]:
    """Names of the other ports that take the same feed, so that planning one moves them too."""
    feed = rig.devices[did].ports.get(port, Port()).feed
    return [f"{rig.devices[d].name} {p}" for d, p in ports_taking(rig, feed) if feed and (d, p) != (did, port)]


def share(rig: Rig, members: list[str], reason: str = "") -> Edit:
    sid = fresh_id(rig.shares, "x")
    names = " and ".join(call(rig, m) for m in members)
    return put(rig, f"share {names}", shares={sid: Share(members=tuple(members), reason=reason)})


def waive(rig: Rig, code: str, subject: str, facts: str, reason: str) -> Edit:
    if not reason.strip():
        raise NotationError("A waiver needs a reason, for whoever reads it next.")
    wid = fresh_id(rig.waivers, "v")
    return put(
        rig, f"waive {code}", waivers={wid: Waiver(code=code, subject=subject, facts=facts, reason=reason.strip())}
    )


def unwaive(rig: Rig, code: str, subject: str) -> Edit:
    gone = {wid: None for wid, w in rig.waivers.items() if (w.code, w.subject) == (code, subject)}
    return put(rig, f"wake {code}", waivers=gone)
