"""Why: one fault at a time is put into the plan, the devices, the wire or the Bench, and is named first.

The list is data: a further fault is a further line. `code` is the cause that must come first.
"""

from __future__ import annotations

import itertools
import random
from dataclasses import dataclass

import pytest
from msgspec.structs import replace

from tests.bench.world import Act, Other, World, dmx_world, pixel_world, settle
from welvo.bench.why import STAGES, first_cause
from welvo.rig import edits
from welvo.rig.document import put_entries
from welvo.rig.entered import Entered
from welvo.rig.patched import Place
from welvo.rig.profile import AddressSetting
from welvo.rig.wiring import Sender
from welvo.standins.pixel import PixelDevice


@dataclass(frozen=True)
class Fault:
    name: str
    code: str
    act: Act


def held(function: str, value: float) -> Act:
    return lambda w: w.levels.hold_function([w.key], function, value)


def planned(change: object) -> Act:
    """Change the plan only: the devices stay as they are."""

    def act(w: World) -> None:
        w.rig = change(w.rig)[0]  # type: ignore[operator]

    return act


def fixture(**fields: object) -> Act:
    return lambda w: setattr(w, "rig", edits.set_fixtures(w.rig, "", {w.key: fields})[0])


def feed(**fields: object) -> Act:
    return planned(lambda rig: edits.set_feed(rig, "w1", "", **fields))


def node(**fields: object) -> Act:
    def act(w: World) -> None:
        port = w.devices["127.0.0.60"].ports[0]  # type: ignore[union-attr]
        for name, value in fields.items():
            setattr(port, name, value)

    return act


def switched_off(w: World) -> None:
    w.rig, change = edits.change_show(w.rig, "", "", name="Matinee", universes_off=("u1",))
    w.rig, _ = edits.set_show(w.rig, change.made[0])


def fed_by_desk(w: World) -> None:
    w.rig, _ = put_entries(w.rig, "", senders={"x": Sender(name="Desk", kind="desk")})
    w.rig, _ = edits.set_feed(w.rig, "w1", "", sender="x")
    w.others.append(Other("Desk", 1, level=255))


def cannot_reach(w: World) -> None:
    head = replace(w.rig.profiles["head"], address=AddressSetting(by="switches"))
    w.rig, _ = put_entries(w.rig, "", profiles={"head": head})
    w.rig, _ = edits.set_fixtures(w.rig, "", {"a": {"at": (Place(universe="u1", address=512),)}})


def two_meet(w: World) -> None:
    w.rig, _ = edits.set_fixtures(w.rig, "", {"b": {"at": (Place(universe="u1", address=5),)}})


def ticked(key: str, value: object) -> Act:
    return fixture(entered={key: Entered(value=value, who="Ann", at=1.0)})  # type: ignore[arg-type]


def with_two_modes(w: World) -> None:
    head = w.rig.profiles["head"]
    long = replace(head.modes["m"], name="Long")
    w.rig, _ = put_entries(w.rig, "", profiles={"head": replace(head, modes={**head.modes, "long": long})})
    ticked("mode", "Long")(w)


def no_port(w: World) -> None:
    d = w.rig.devices["d"]
    ports = {k: replace(p, feed="", run=()) for k, p in d.ports.items()}
    w.rig, _ = put_entries(w.rig, "", devices={"d": replace(d, ports=ports)})


def other_feed(w: World) -> None:
    d = w.rig.devices["d"]
    w.rig, _ = put_entries(
        w.rig, "", devices={"d": replace(d, ports={**d.ports, "A": replace(d.ports["A"], feed="w2")})}
    )


def pixels(w: World) -> PixelDevice:
    return next(d for d in w.devices.values() if isinstance(d, PixelDevice))


two_on_one_number = planned(lambda r: edits.set_feed(r, "w2", "", protocol="sacn", wire=1, to="multicast"))
MAC = "02:00:00:00:00:0"


ON_DMX = (
    Fault("blackout", "blackout", lambda w: setattr(w.levels, "blackout", True)),
    Fault("master down", "master", lambda w: setattr(w.levels, "master", 0.0)),
    Fault("only others", "only", lambda w: w.levels.only_these(["b"])),
    Fault("dimmer at zero", "dark", held("Dimmer", 0.0)),
    Fault("shutter closed", "dark", held("Shutter1", 0.0)),
    Fault("no address", "no address", fixture(at=())),
    Fault("two on the same slots", "PATCH-01", two_meet),
    Fault("past the universe's end", "PATCH-02", fixture(at=(Place(universe="u1", address=509),))),
    Fault("universe switched off", "use", switched_off),
    Fault("no feed", "no feed", planned(lambda rig: edits.remove_feed(rig, "w1"))),
    Fault("fed by a desk", "not ours", fed_by_desk),
    Fault("not armed", "armed", lambda w: setattr(w, "armed", False)),
    Fault("interface gone", "trouble", lambda w: setattr(w, "trouble", "eth0 has no link")),
    Fault("feed does not leave", "stuck", lambda w: w.stuck.update(w1="Network is unreachable")),
    Fault("a sender above", "overridden", lambda w: w.others.append(Other("Desk", 1, 150))),
    Fault("a sender of the same rank", "rival", lambda w: w.others.append(Other("Desk", 1))),
    Fault("our stream breaks off", "gap", lambda w: setattr(w, "bench_gap", 3.1)),
    Fault("two universes on one number", "FEED-01", two_on_one_number),
    Fault("sent to somebody else", "sent elsewhere", feed(to="127.0.0.99")),
    Fault("nobody takes it", "no port", no_port),
    Fault("the device is silent", "silent", lambda w: w.silent.add("127.0.0.60")),
    Fault("two devices at one address", "DEV-07", lambda w: w.macs.update({"127.0.0.60": (MAC + "1", MAC + "2")})),
    Fault("a spare in its place", "DEV-08", planned(lambda r: edits.plan_setting(r, "d", "mac", MAC + "9"))),
    Fault("port on another universe", "other universe", node(universe=7)),
    Fault("port on another protocol", "other universe", node(protocol="artnet")),
    Fault("the line on another feed", "port", other_feed),
    Fault("set to another address", "PATCH-17", ticked("address", 33)),
    Fault("set to another mode", "PATCH-17", with_two_modes),
    Fault("its switches do not reach", "PATCH-02", cannot_reach),
)  # fmt: skip

ON_A_BRIDGE = (
    Fault("a test pattern left on", "test", lambda w: setattr(pixels(w), "test", "red")),
    Fault("brightness of the port", "6.brightness", lambda w: settle(w, p6_brightness=80)),
    Fault("brightness of the device", "brightness", lambda w: settle(w, brightness=50)),
    Fault("one LED too few before it", "6/1.pixels", lambda w: settle(w, p6__1_pixels=119)),
    Fault("null pixels forgotten", "6/2.nulls", lambda w: settle(w, p6__2_nulls=0)),
    Fault("another start", "6.slot", lambda w: settle(w, p6_slot=4)),
    Fault("another universe", "other universe", lambda w: settle(w, p6_universe=9)),
    Fault("another universe size", "size", lambda w: settle(w, size=510)),
    Fault("gamma", "6.gamma", lambda w: settle(w, p6_gamma=2.2)),
    Fault("strings shorter than set", "output", lambda w: setattr(pixels(w).faults, "short", 1)),
    Fault("the device is silent", "silent", lambda w: w.silent.add("127.0.0.50")),
)


def swapped(w: World) -> None:
    w.levels.hold_function(["c2"], "ColorAdd_G", 0.0)
    pixels(w).faults.swapped = True


ON_A_STRING = (
    Fault("another colour order", "1/2.order", lambda w: settle(w, p1__2_order="RGB")),
    Fault("not reversed", "1/2.reverse", lambda w: settle(w, p1__2_reverse=False)),
    Fault("folded at the device too", "1/2.fold", lambda w: settle(w, p1__2_fold=5)),
    Fault("grouped", "1/2.group", lambda w: settle(w, p1__2_group=2)),
    Fault("colours swapped inside the device", "output", swapped),
    Fault("dark pixels", "dark", lambda w: w.levels.held.clear()),
)


def named_first(w: World, fault: Fault) -> None:
    fault.act(w)
    found = w.causes()
    assert found, fault.name
    assert found[0].code == fault.code, [(c.stage, c.code, c.sentence) for c in found]
    assert found[0].sentence.endswith(".") and 0 <= found[0].hop < len(w.look().chain.hops)


@pytest.mark.parametrize("fault", ON_DMX, ids=lambda f: f.name)
def test_a_fault_on_the_way_to_a_lamp_is_named_first(fault: Fault) -> None:
    named_first(dmx_world(), fault)


@pytest.mark.parametrize("fault", ON_A_BRIDGE, ids=lambda f: f.name)
def test_a_fault_on_the_way_behind_a_bridge_is_named_first(fault: Fault) -> None:
    named_first(pixel_world("f534"), fault)


@pytest.mark.parametrize("fault", ON_A_STRING, ids=lambda f: f.name)
def test_a_fault_on_the_way_to_a_string_is_named_first(fault: Fault) -> None:
    named_first(pixel_world("c2"), fault)


@pytest.mark.parametrize("world", [dmx_world(), pixel_world("f534"), pixel_world("c2"), pixel_world("rim")])
def test_nothing_is_named_where_nothing_is_wrong(world: World) -> None:
    assert world.causes() == []
    assert not first_cause(world.look()).certain


def pairs() -> list[tuple[Fault, Fault]]:
    """Two faults of different stations, in the order of the way; chosen once and for all."""
    spared = {"no address", "past the universe's end", "its switches do not reach", "fed by a desk", "nobody takes it"}
    stage = {}
    for f in ON_DMX:
        world = dmx_world()
        f.act(world)
        stage[f] = next((STAGES.index(c.stage) for c in world.causes()), -1)
    masked = ("two on the same slots", "dark")  # what is held wins over what lies there and is not held
    found = [
        (a, b)
        for a, b in itertools.permutations(ON_DMX, 2)
        if stage[a] < stage[b] and not {a.name, b.name} & spared and (a.name, b.code) != masked
    ]
    return random.Random(14).sample(found, 40)


@pytest.mark.parametrize("near, far", pairs(), ids=lambda f: f.name)
def test_of_two_faults_the_one_nearer_the_sender_is_named_first(near: Fault, far: Fault) -> None:
    world = dmx_world()
    far.act(world)
    near.act(world)
    found = world.causes()
    assert found[0].code == near.code, [(c.stage, c.code) for c in found]


def test_what_is_seen_from_the_command_line() -> None:
    """Nobody holds anything there: levels are those on the wire."""
    world = dmx_world()
    fed_by_desk(world)
    world.others[0].level = 255
    assert world.causes(bench=False) == []
    world.others[0].level = 0
    (first, *_) = world.causes(bench=False)
    assert (first.code, first.sentence) == ("dark", "Its dimmer is at 0.")
    world.others.clear()
    assert world.causes(bench=False)[0].sentence == "Nobody sends sACN 1: Desk is silent."
    world.others.append(Other("Desk", 1, level=255, preview=True))
    assert world.causes(bench=False)[0].code == "preview"
    world.others[:] = [Other("Desk", 1, level=255, lost=90)]
    assert world.causes(bench=False)[0].code == "lost"


def test_a_cause_brings_the_fix_of_its_finding() -> None:
    world = dmx_world()
    node(universe=7)(world)
    cause = world.causes()[0]
    assert cause.possible_fixes and cause.possible_fixes[0].label.startswith("Push")
    assert cause.sentence == "Port A takes 7. Your levels for 101 go out as sACN 1."
