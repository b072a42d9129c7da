"""Edits that need no index. Each gives the new rig and what it touched."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from urllib.parse import quote, unquote

from msgspec.structs import replace

from welvo.rig.addresses import check_host
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Picture, Rig, fresh_id, fresh_ids, join_changes, put_entries, put_rig
from welvo.rig.entered import SettingValue
from welvo.rig.lookup import bench_sender, code_for, lowest_free_tint, name_of_item, universe_by_number
from welvo.rig.notation import read_ip, say_count
from welvo.rig.patched import Element, Fixture, Group, Place, Share, Waiver
from welvo.rig.plan import model_of, ports_taking, say_key, spec_of, split_key
from welvo.rig.profile import CARRIED_PICTURES, Mode, Profile
from welvo.rig.protocol import DESTINATION_WORDS, PROTOCOLS, USUAL, Protocol, say_wire
from welvo.rig.reference_table import drop_entries
from welvo.rig.wiring import Device, DeviceModel, Feed, Port, Sender, Show, Universe


def rename_rig(rig: Rig, name: str) -> Edit:
    return put_rig(rig, f"name the rig {name}", name=name)


def add_profile(rig: Rig, profile: Profile) -> Edit:
    """Take a profile in; it gets the lowest free tint and a three-letter code of its own."""
    pid = fresh_id(rig.profiles, "p")
    profile, pictures = unpack_profile(rig, profile)
    own = replace(profile, tint=lowest_free_tint(rig), code=code_for(rig, profile.name))
    return put_entries(rig, f"add profile {profile.name}", profiles={pid: own}, pictures=pictures, made=(pid,))


def pack_profile(rig: Rig, profile: Profile) -> Profile:
    """A profile of a rig with its reference pictures among its kept files, to be taken elsewhere."""
    used = dict.fromkeys(m.backdrop.picture for m in profile.modes.values() if m.backdrop)
    mine = {CARRIED_PICTURES + quote(k, safe=""): rig.pictures[k].data for k in used if k in rig.pictures}
    others = {k: v for k, v in profile.kept.items() if not k.startswith(CARRIED_PICTURES)}
    return replace(profile, kept={**others, **mine})


def unpack_profile(rig: Rig, profile: Profile) -> tuple[Profile, dict[str, Picture]]:
    """A profile from elsewhere as it stands in a rig, and the pictures it brings, by ids that are free there.

    Ids of pictures mean something in their own rig only: a backdrop whose picture did not come along is left out,
    whatever picture of this rig has that id.
    """
    found: dict[str, Picture] = {}
    ids: dict[str, str] = {}
    for name, data in profile.kept.items():
        if name.startswith(CARRIED_PICTURES):
            old = unquote(name[len(CARRIED_PICTURES) :])
            there = rig.pictures.get(old)
            ids[old] = old if there and there.data == data else fresh_id({**rig.pictures, **found}, "pic")
            if not there or ids[old] != old:
                media = "image/jpeg" if data[:3] == b"\xff\xd8\xff" else "image/png"
                found[ids[old]] = Picture(name=profile.name, media=media, data=data)

    def placed(mode: Mode) -> Mode:
        back = mode.backdrop
        if back is None:
            return mode
        return replace(mode, backdrop=replace(back, picture=ids[back.picture]) if back.picture in ids else None)

    kept = {k: v for k, v in profile.kept.items() if not k.startswith(CARRIED_PICTURES)}
    return replace(profile, kept=kept, modes={k: placed(m) for k, m in profile.modes.items()}), found


def set_profile(rig: Rig, pid: str, label: str, **fields: object) -> Edit:
    """Change a profile. A code that was made of its name follows the name; one that somebody chose stays."""
    old = rig.profiles[pid]
    name = fields.get("name")
    if isinstance(name, str) and name != old.name and "code" not in fields:
        others = put_entries(rig, "", profiles={pid: replace(old, code="")})[0]
        if old.code == code_for(others, old.name):
            fields["code"] = code_for(others, name)
    return put_entries(rig, label, profiles={pid: replace(old, **fields)})


def remove_profile(rig: Rig, pid: str) -> Edit:
    users = [f.number for f in rig.fixtures.values() if f.profile == pid]
    if users:
        raise Refused(f"{rig.profiles[pid].name} is used by {say_count(len(users), 'fixture')}; remove those first.")
    return take_out(rig, f"remove profile {rig.profiles[pid].name}", "profiles", [pid])


def set_fixtures(rig: Rig, label: str, changes: Mapping[str, Mapping[str, object]]) -> Edit:
    return put_entries(rig, label, fixtures={fid: replace(rig.fixtures[fid], **c) for fid, c in changes.items()})


def move_item(rig: Rig, key: str, break_no: int, universe: str, address: int) -> Edit:
    """Type an address for one break of a fixture, or for an element. Locked places stay."""
    element = rig.elements.get(key)
    old = element.at if element else rig.fixtures[key].place_of_break(break_no)
    if old.locked:
        raise Refused(f"{name_of_item(rig, key)} is locked. Unlock it first.")
    place = Place(universe=universe, address=address)
    where = f"{rig.universes[universe].number}.{address:03d}"
    if element:
        return put_entries(rig, f"move {element.name} to {where}", elements={key: replace(element, at=place)})
    fixture = rig.fixtures[key]
    return put_entries(
        rig,
        f"move {fixture.number} to {where}",
        fixtures={key: replace(fixture, at=with_place(fixture, break_no, place))},
    )


def with_place(fixture: Fixture, break_no: int, place: Place) -> tuple[Place, ...]:
    at = list(fixture.at) + [Place()] * (break_no + 1 - len(fixture.at))
    at[break_no] = place
    return tuple(at)


def take_out(rig: Rig, label: str, part: str, ids: Collection[str]) -> Edit:
    """Take entries out of a part, with all that refers to them as the table of references says."""
    changes = drop_entries(rig, {part: ids})
    own = changes.pop("rig", None)
    made, change = put_entries(rig, label, **changes)
    if own is None:
        return made, change
    made, more = put_rig(made, label, **own)
    return made, join_changes(label, change, more)


def take_out_items(rig: Rig, keys: list[str]) -> Edit:
    """Take fixtures and elements out of the rig, out of its shares, groups and buses, and off its cables.

    What stands after one of them has no place then; `patch/removing.py` keeps it where it is.
    """
    what = name_of_item(rig, keys[0]) if len(keys) == 1 else say_count(len(keys), "item")
    fixtures, elements = [k for k in keys if k in rig.fixtures], [k for k in keys if k in rig.elements]
    changes = drop_entries(rig, {"fixtures": fixtures, "elements": elements})
    return put_entries(rig, f"remove {what}", **changes)


def add_element(rig: Rig, element: Element) -> Edit:
    eid = fresh_id(rig.elements, "e")
    own = replace(element, tint=lowest_free_tint(rig), code=code_for(rig, element.name))
    return put_entries(rig, f"add {element.name}", elements={eid: own}, made=(eid,))


def add_universe(rig: Rig, number: int | None = None, name: str = "") -> Edit:
    """A new universe; without a number it gets the one after the highest."""
    n = number if number is not None else max((u.number for u in rig.universes.values()), default=0) + 1
    if universe_by_number(rig, n):
        raise Refused(f"There is a universe {n} already.")
    if not 1 <= n <= 63999:
        raise Refused(f"There is no universe {n}: universes run from 1 to 63999.")
    uid = fresh_id(rig.universes, "u")
    return put_entries(rig, f"add universe {n}", universes={uid: Universe(number=n, name=name)}, made=(uid,))


def set_universe(rig: Rig, uid: str, label: str, **fields: object) -> Edit:
    number = fields.get("number")
    if isinstance(number, int) and universe_by_number(rig, number) not in ("", uid):
        raise Refused(f"There is a universe {number} already.")
    return put_entries(rig, label, universes={uid: replace(rig.universes[uid], **fields)})


def remove_universe(rig: Rig, uid: str) -> Edit:
    """Remove a universe and its feeds; what was patched there is not patched afterwards."""
    return take_out(rig, f"remove universe {rig.universes[uid].number}", "universes", [uid])


def add_feed(rig: Rig, universe: str, protocol: Protocol = USUAL, wire: int | None = None, sender: str = "") -> Edit:
    """Feed a universe, from the Bench unless said otherwise; the wire number is the universe's own by default."""
    senders: dict[str, Sender] = {}
    who = sender or bench_sender(rig)
    if not who:
        who = fresh_id(rig.senders, "s")
        senders[who] = Sender(name="Bench", kind="bench")
    number = rig.universes[universe].number
    fid = fresh_id(rig.feeds, "w")
    record = PROTOCOLS[protocol]
    if wire is None:
        lines = [f.wire for f in rig.feeds.values() if f.protocol == protocol]
        behind = max(lines, default=0) + 1 if record.carries == "line" else 1
        on_wire = record.nearest_number(number) if record.has_universe_numbers else behind
    else:
        on_wire = wire
    owner = rig.senders.get(who, senders.get(who))
    feed = Feed(
        universe=universe,
        sender=who,
        protocol=protocol,
        wire=on_wire,
        to=record.destinations[0],
        rate=owner.rate if owner else 44,
        priority=owner.priority if owner else 100,
    )
    label = f"feed universe {number} by {say_wire(protocol, on_wire)}"
    return put_entries(rig, label, senders=senders, feeds={fid: feed}, made=(fid,))


def set_feed(rig: Rig, fid: str, label: str, **fields: object) -> Edit:
    """Change a feed; another protocol takes its own first destination along where the old one cannot serve it."""
    old = rig.feeds[fid]
    feed = replace(old, **fields)
    if feed.protocol != old.protocol and "to" not in fields:
        record = PROTOCOLS[feed.protocol]
        if feed.to in DESTINATION_WORDS or not record.addresses:
            feed = replace(feed, to=record.destinations[0])
    check_feed(feed)
    if feed.to not in DESTINATION_WORDS and feed.to:
        feed = replace(feed, to=read_ip(feed.to))  # 127.0.0.021 is 127.0.0.21
    return put_entries(rig, label, feeds={fid: feed})


def check_feed(feed: Feed) -> None:
    """Refuse what no wire can carry: numbers and destinations that do not fit the protocol."""
    record = PROTOCOLS[feed.protocol]
    record.check_number(feed.wire)
    if feed.to not in record.destinations:
        if feed.to in DESTINATION_WORDS or not record.addresses:
            raise Refused(f"{record.word} cannot be sent to “{feed.to}”.")
        read_ip(feed.to)


def remove_feed(rig: Rig, fid: str) -> Edit:
    feed = rig.feeds[fid]
    return take_out(rig, f"remove feed {say_wire(feed.protocol, feed.wire)}", "feeds", [fid])


def add_device(rig: Rig, model: DeviceModel, name: str, ip: str = "") -> Edit:
    """Plan a device; its model is copied into the rig."""
    mid = next((k for k, m in rig.device_models.items() if m == model), "")
    models: dict[str, DeviceModel] = {}
    if not mid:
        mid = fresh_id(rig.device_models, "m")
        models[mid] = model
    device_id = fresh_id(rig.devices, "d")
    ports = {label: Port() for label in model.ports}
    device = Device(
        name=name,
        model=mid,
        ip=read_ip(ip) if ip else "",
        ports=ports,
        settings={"name": name} if model.spec_of_setting("name") else {},
    )
    return put_entries(rig, f"add {name}", device_models=models, devices={device_id: device}, made=(device_id,))


def set_device(rig: Rig, device_id: str, label: str, **fields: object) -> Edit:
    return put_entries(rig, label, devices={device_id: replace(rig.devices[device_id], **fields)})


def remove_device(rig: Rig, device_id: str) -> Edit:
    """Take a device out with its runs. What followed its cables, and is attached to no other device, has no address
    then."""
    gone = {k for p in rig.devices[device_id].ports.values() for s in p.run for k in (s.element, *s.fixtures) if k}
    elsewhere = {
        k
        for d, v in rig.devices.items()
        if d != device_id
        for p in v.ports.values()
        for s in p.run
        for k in (s.element, *s.fixtures)
    }
    loose = gone - elsewhere
    elements = {
        k: replace(rig.elements[k], at=Place()) for k in loose if k in rig.elements and rig.elements[k].at.from_run
    }
    fixtures = {
        k: replace(rig.fixtures[k], at=tuple(Place() if p.from_run else p for p in rig.fixtures[k].at))
        for k in loose
        if k in rig.fixtures and any(p.from_run for p in rig.fixtures[k].at)
    }
    changes = drop_entries(rig, {"devices": [device_id]})
    return put_entries(rig, f"remove {rig.devices[device_id].name}", elements=elements, fixtures=fixtures, **changes)


def set_lacking(rig: Rig, device_id: str, setting: str, lacks: bool) -> Edit:
    """Note that a device does not have a setting of its model, or that it has it after all. What it lacks is planned no
    more: no difference, no line on its card."""
    device, model = rig.devices[device_id], model_of(rig, device_id)
    if model is None or spec_of(model, setting) is None:
        raise Refused(f"{device.name} has no setting “{setting}”.")
    kept = tuple(k for k in device.lacks if k != setting)
    words = f"{device.name} {'lacks' if lacks else 'has'} {say_key(model, setting)}"
    return set_device(rig, device_id, words, lacks=(*kept, setting) if lacks else kept)


def plan_setting(rig: Rig, device_id: str, setting: str, value: SettingValue | None) -> Edit:
    """Plan a value for a setting (None: the plan does not care).

    A port's universe and protocol are never kept twice: planning one changes the feed that the port takes.
    If other ports take that feed as well, they move with it.
    """
    device = rig.devices[device_id]
    label, key = split_key(setting)
    model = model_of(rig, device_id)
    spec = spec_of(model, setting) if model else None
    if spec and spec.secret:
        raise Refused(f"{spec.label} is a secret: it is given to the device itself, and a rig never holds it.")
    words = f"plan {device.name} {label + ' ' if label else ''}{key} {value}"
    if setting == "ip":
        ip = read_ip(str(value)) if value else ""
        mask = str(device.settings.get("mask", ""))
        if ip and mask:
            check_host(ip, mask)
        return set_device(rig, device_id, words, ip=ip)
    if label and key in ("universe", "protocol"):
        feed_id = device.ports[label].feed
        if not feed_id:
            raise Refused(f"Port {label} takes no feed yet; choose one first.")
        if key == "universe":
            if not isinstance(value, int):
                raise Refused(f"“{value}” is no universe number.")
            return set_feed(rig, feed_id, words, wire=value)
        return set_feed(rig, feed_id, words, protocol=value)
    if label:
        port = device.ports.get(label, Port())
        settings = {k: v for k, v in port.settings.items() if k != key} | ({key: value} if value is not None else {})
        return set_device(rig, device_id, words, ports={**device.ports, label: replace(port, settings=settings)})
    settings = {k: v for k, v in device.settings.items() if k != key} | ({key: value} if value is not None else {})
    if key == "name" and isinstance(value, str) and value:
        return set_device(rig, device_id, words, settings=settings, name=value)
    return set_device(rig, device_id, words, settings=settings)


def set_port(rig: Rig, device_id: str, port: str, label: str, **fields: object) -> Edit:
    device, model = rig.devices[device_id], model_of(rig, device_id)
    if fields.get("feed") and model and port not in model.ports:
        raise Refused(f"A {model.name} has no port {port}; it has {', '.join(model.ports) or 'none'}.")
    return set_device(
        rig, device_id, label, ports={**device.ports, port: replace(device.ports.get(port, Port()), **fields)}
    )


def who_else(rig: Rig, device_id: str, port: str) -> list[str]:
    """Names of the other ports that take the same feed, so that planning one moves them too."""
    feed = rig.devices[device_id].ports.get(port, Port()).feed
    return [f"{rig.devices[d].name} {p}" for d, p in ports_taking(rig, feed) if feed and (d, p) != (device_id, port)]


def share_places(rig: Rig, members: list[str], reason: str = "") -> Edit:
    """Declare that fixtures of one profile, mode and start use the same slots on purpose."""
    return put_entries(
        rig,
        f"share {names_of_few(rig, members)}",
        shares=_gather_shares(rig, members, Share(members=tuple(members), reason=reason)),
    )


def declare_overlay(rig: Rig, members: list[str], reason: str = "") -> Edit:
    """Declare that items of different profiles lie over each other on purpose."""
    made = Share(members=tuple(members), kind="overlay", reason=reason)
    return put_entries(
        rig, f"lay {names_of_few(rig, members)} over each other", shares=_gather_shares(rig, members, made)
    )


def explain_share(rig: Rig, sid: str, reason: str) -> Edit:
    """Note why items use the same slots on purpose, for whoever reads it later."""
    share = rig.shares[sid]
    return put_entries(rig, f"why {share.kind}", shares={sid: replace(share, reason=reason.strip())})


def end_share(rig: Rig, sid: str) -> Edit:
    gone = rig.shares[sid]
    return put_entries(rig, f"end the {gone.kind} of {names_of_few(rig, list(gone.members))}", shares={sid: None})


def names_of_few(rig: Rig, keys: list[str]) -> str:
    return " and ".join(name_of_item(rig, k) for k in keys) if len(keys) < 5 else say_count(len(keys), "item")


def _gather_shares(rig: Rig, members: list[str], made: Share) -> dict[str, Share | None]:
    """A new share takes the place of older ones of the same kind that it holds whole."""
    inside = {s: None for s, v in rig.shares.items() if v.kind == made.kind and set(v.members) <= set(members)}
    return {**inside, fresh_id(rig.shares, "x"): made}


# ---- groups, own columns, inversions


def put_in_groups(rig: Rig, keys: list[str], names: list[str]) -> Edit:
    """Let items stand in just the groups named, which are made where they are missing; emptied ones go."""
    rig, change = put_each_in_groups(rig, dict.fromkeys(keys, names))
    return rig, replace(change, label=f"put {names_of_few(rig, keys)} into {', '.join(names) or 'no group'}")


def put_each_in_groups(rig: Rig, wishes: Mapping[str, Sequence[str]]) -> Edit:
    """Let each item, by its key, stand in just the groups that are named for it."""
    joining: dict[str, list[str]] = {}
    spelt: dict[str, str] = {}
    for key, names in wishes.items():
        for name in {n.strip().lower(): n.strip() for n in names if n.strip()}.values():
            joining.setdefault(name.lower(), []).append(key)
            spelt.setdefault(name.lower(), name)
    groups: dict[str, Group | None] = {}
    for gid, g in rig.groups.items():
        come = joining.pop(g.name.lower(), [])
        stay = frozenset(come)
        here = [m for m in g.members if m not in wishes or m in stay]
        members = tuple(dict.fromkeys([*here, *come]))
        if members != g.members:
            groups[gid] = replace(g, members=members) if members else None
    ids = fresh_ids("g", rig.groups)
    for name, members_of_it in joining.items():
        groups[next(ids)] = Group(name=spelt[name], members=tuple(members_of_it))
    return put_entries(rig, f"put {say_count(len(wishes), 'item')} into groups", groups=groups)


def groups_of(rig: Rig, key: str) -> list[str]:
    return [g.name for g in rig.groups.values() if key in g.members]


def groups_by_member(rig: Rig) -> dict[str, list[str]]:
    """The names of the groups that each item stands in, for who asks about many."""
    found: dict[str, list[str]] = {}
    for g in rig.groups.values():
        for key in g.members:
            found.setdefault(key, []).append(g.name)
    return found


def set_columns(rig: Rig, columns: list[str]) -> Edit:
    """Name the rig's own columns; values under a name that goes stay with the fixtures, in case it comes back."""
    clean = [c.strip() for c in columns if c.strip()]
    if len({c.lower() for c in clean}) != len(clean):
        raise Refused("Two columns cannot carry one name.")
    return put_rig(rig, "name the columns", columns=tuple(clean))


def set_field(rig: Rig, keys: list[str], column: str, values: list[str]) -> Edit:
    """Give fixtures a value each in one of the rig's own columns; an empty one takes it out."""
    fixtures: dict[str, Fixture] = {}
    for key, value in zip(keys, values):
        fields = {k: v for k, v in rig.fixtures[key].fields.items() if k != column}
        if value.strip():
            fields[column] = value.strip()
        fixtures[key] = replace(rig.fixtures[key], fields=fields)
    return put_entries(rig, f"{column} of {names_of_few(rig, keys)}", fixtures=fixtures)


def lock_items(rig: Rig, keys: list[str], on: bool) -> Edit:
    """Lock or unlock every place of some items: nothing but the operator's hand moves a locked one."""
    fixtures = {
        k: replace(rig.fixtures[k], at=tuple(replace(p, locked=on) for p in (rig.fixtures[k].at or (Place(),))))
        for k in keys
        if k in rig.fixtures
    }
    elements = {
        k: replace(rig.elements[k], at=replace(rig.elements[k].at, locked=on)) for k in keys if k in rig.elements
    }
    return put_entries(
        rig, f"{'lock' if on else 'unlock'} {names_of_few(rig, keys)}", fixtures=fixtures, elements=elements
    )


# ---- senders and uses


def add_sender(rig: Rig, name: str) -> Edit:
    sid = fresh_id(rig.senders, "s")
    return put_entries(rig, f"add sender {name}", senders={sid: Sender(name=name)}, made=(sid,))


def set_sender(rig: Rig, sid: str, label: str, **fields: object) -> Edit:
    sender = replace(rig.senders[sid], **fields)
    if sender.lowest > sender.highest:
        raise Refused(
            f"{sender.name} would number universes from {sender.lowest} to {sender.highest}: the lowest comes first."
        )
    return put_entries(rig, label, senders={sid: sender})


def remove_sender(rig: Rig, sid: str) -> Edit:
    """Remove a sender and all its feeds; ports that took them take nothing then."""
    return take_out(rig, f"remove sender {rig.senders[sid].name}", "senders", [sid])


def set_show(rig: Rig, uid: str) -> Edit:
    """Choose which part of the rig is used now; an empty id means all of it."""
    name = rig.uses[uid].name if uid else "everything"
    return put_rig(rig, f"show {name}", use=uid)


def change_show(rig: Rig, uid: str, label: str, **fields: object) -> Edit:
    """Make a show (empty id) or change one; one without a name is refused."""
    made = replace(rig.uses[uid] if uid else Show(name=""), **fields)
    if not made.name.strip():
        raise Refused("A show needs a name, such as Opening night.")
    key = uid or fresh_id(rig.uses, "y")
    return put_entries(rig, label, uses={key: made}, made=(key,))


def remove_show(rig: Rig, uid: str) -> Edit:
    return take_out(rig, f"remove show {rig.uses[uid].name}", "uses", [uid])


def waive_finding(rig: Rig, code: str, subject: str, facts: str, reason: str) -> Edit:
    if not reason.strip():
        raise Refused("A waiver needs a reason, for whoever reads it next.")
    wid = fresh_id(rig.waivers, "v")
    return put_entries(
        rig, f"waive {code}", waivers={wid: Waiver(code=code, subject=subject, facts=facts, reason=reason.strip())}
    )


def end_waiver(rig: Rig, code: str, subject: str) -> Edit:
    gone = {wid: None for wid, w in rig.waivers.items() if (w.code, w.subject) == (code, subject)}
    return put_entries(rig, f"wake {code}", waivers=gone)
