"""Every edit function with valid arguments by chance, on a rig with bridges, converters, anchors, folds and many ports.

Following an edit must give the very index, findings and streams that building anew gives; so must undo and redo.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import Any

import numpy as np
from msgspec.structs import replace

from welvo.buses import edits as buses
from welvo.checks.checker import Checker, check_rig
from welvo.demo.gallery import make_gallery
from welvo.formats.chart import read_chart
from welvo.matching import lamps, plan_back
from welvo.observed.values import NOTHING
from welvo.patch import adding, arrange, laying, mode_edits, positions, steps, table
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.abilities import port_gives_what
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig, put_entries, put_rig
from welvo.rig.history import History
from welvo.rig.patched import Element, Place
from welvo.rig.profile import Profile
from welvo.rig.references import broken_references
from welvo.rig.refs import PortRef, SegmentRef
from welvo.rig.runs import PixelType, Segment
from welvo.runs import bridge, wish
from welvo.runs import edits as runs
from welvo.runs.edits import PortShare
from welvo.survey import capacity, fixture_card

Draw = Callable[["Chance", Rig, Index], Edit]


class Chance(random.Random):
    """Draws arguments that are valid for a rig."""

    def item(self, rig: Rig) -> str:
        return self.choice([*rig.fixtures, *rig.elements])

    def items(self, rig: Rig, most: int = 4) -> list[str]:
        every = [*rig.fixtures, *rig.elements]
        return self.sample(every, min(len(every), self.randint(1, most)))

    def lamp(self, rig: Rig) -> str:
        return self.choice(list(rig.fixtures))

    def lamps(self, rig: Rig, most: int = 4) -> list[str]:
        return self.sample(list(rig.fixtures), min(len(rig.fixtures), self.randint(1, most)))

    def key_of(self, part: dict[str, Any]) -> str:
        return self.choice(list(part))

    def place(self, rig: Rig, of: str = "") -> Place:
        kind = self.randrange(8)
        if kind < 4:
            return Place(universe=self.key_of(rig.universes), address=self.randint(1, 512))
        if kind < 6:
            return Place(after=self.item(rig), gap=self.choice((0, 0, 3, 40)))
        return Place(from_run=True) if kind == 6 else Place()

    def port(self, rig: Rig) -> tuple[str, str]:
        device = self.key_of(rig.devices)
        model = rig.device_models[rig.devices[device].model]
        return device, self.choice(model.ports)

    def bus(self, rig: Rig) -> PortRef:
        return self.choice(
            [PortRef(d, p) for d, v in rig.devices.items() for p in v.ports if port_gives_what(rig, d, p) == "bus"]
        )

    def run(self, rig: Rig) -> tuple[str, str, int]:
        """A segment that is there: device, label, place."""
        there = [
            (d, label, n)
            for d, v in rig.devices.items()
            for label, port in v.ports.items()
            for n in range(len(port.run))
        ]
        if not there:
            raise Refused("nothing is attached")
        return self.choice(there)

    def segment(self, rig: Rig) -> Segment:
        kind = self.choice(("pixels", "pixels", "null", "bridge", "bridge", "lamps", "extension", "line"))
        some = tuple(self.lamps(rig, 3))
        if kind == "pixels":
            key = self.item(rig) if self.random() < 0.3 else self.key_of(rig.elements)
            first = self.choice((1, 1, 5, 30))
            return Segment(
                kind="pixels",
                element=key,
                first=first,
                count=self.choice((0, 0, 10, 60)),
                reverse=self.random() < 0.3,
                fold=self.choice((0, 0, 7)),
                group=self.choice((1, 1, 2, 3)),
                at=self.place(rig) if self.random() < 0.1 else Place(),
            )
        if kind == "bridge":
            dmx = {some[0]: self.randint(1, 60)} if self.random() < 0.3 else {}
            return Segment(kind="bridge", width=self.choice((0, 20, 66, 512)), fixtures=some, dmx=dmx)
        if kind == "lamps":
            return Segment(
                kind="lamps", fixtures=some, functions=("V", "R", "=128"), spacing=4, count=self.randint(0, 5)
            )
        if kind == "line":
            return Segment(kind="line", fixtures=some)
        return Segment(kind=kind, count=self.randint(0, 9), length=self.choice((0.0, 2.5)))  # type: ignore[arg-type]

    def mode(self) -> Any:
        chart = self.choice(
            ("gap 5", "dimmer, red, green, blue", "8 x (red green blue)", "pan 16, tilt 16, dimmer", "gap 200",
             "break A: dimmer, red\nbreak B: 3 x (red green blue)")
        )  # fmt: skip
        return read_chart(chart).mode_of_chart("m")


def _change_run(c: Chance, rig: Rig, _: Index) -> Edit:
    device, label, n = c.run(rig)
    field = c.choice(
        ("fixtures", "fixtures", "width", "count", "reverse", "fold", "group", "dmx", "at", "first", "order")
    )
    old = rig.devices[device].ports[label].run[n]
    value: Any = {
        "fixtures": tuple(old.fixtures[:-1]) if c.random() < 0.5 else tuple(c.lamps(rig, 3)),
        "width": c.choice((0, 5, 30, 66)), "count": c.choice((0, 3, 40)), "reverse": not old.reverse,
        "fold": c.choice((0, 4, 9)), "group": c.choice((1, 2)), "order": c.choice(("", "GRB")),
        "first": c.choice((1, 9)), "dmx": {f: c.randint(1, 50) for f in old.fixtures[:1]}, "at": c.place(rig),
    }[field]  # fmt: skip
    return runs.change_segment(rig, device, label, n, "", **{field: value})


def _laid(c: Chance, rig: Rig, index: Index) -> Edit:
    keys = [(k, 0) for k in c.items(rig, 5)]
    start = (c.key_of(rig.universes), c.randint(1, 512)) if c.random() < 0.7 else None
    wanted = laying.Laying(start, c.choice(("packed", "gap", "spacing", "round")), c.choice((0, 5, 50)))  # type: ignore[arg-type]
    return laying.take_layout(rig, laying.lay_out_items(index, keys, wanted, keep_runs=c.random() < 0.7))


def _new_place(c: Chance, rig: Rig, _: Index) -> Edit:
    key = c.item(rig)
    if key in rig.elements:
        return put_entries(rig, "", elements={key: replace(rig.elements[key], at=c.place(rig))})
    count = len(rig.fixtures[key].at) or 1
    return edits.set_fixtures(rig, "", {key: {"at": tuple(c.place(rig) for _ in range(c.randint(1, count)))}})


def _element(c: Chance, rig: Rig, _: Index) -> Edit:
    key = c.key_of(rig.elements)
    fields: dict[str, Any] = c.choice(
        ({"pixels": c.randint(0, 300)}, {"order": c.choice(("RGB", "RGBW", "V"))}, {"whole": False}, {"fold": 7},
         {"kind": "block", "slots": c.randint(1, 700)}, {"unfolds": "sender"})
    )  # fmt: skip
    return runs.set_pixels(rig, key, "", **fields)


def _revised(c: Chance, rig: Rig, _: Index) -> Edit:
    pid = c.key_of(rig.profiles)
    old = rig.profiles[pid]
    modes = {m: replace(c.mode(), name=v.name) for m, v in old.modes.items()}
    return mode_edits.revise_profile(rig, pid, replace(old, modes=modes, revision=str(c.random())), c.random() < 0.5)


def _split(c: Chance, rig: Rig, _: Index) -> Edit:
    device = c.key_of(rig.devices)
    ports = rig.device_models[rig.devices[device].model].ports
    shares = [PortShare(p, 1 + 10 * n, 10, c.random() < 0.5) for n, p in enumerate(ports[: c.randint(1, 3)])]
    return runs.split_over_ports(rig, c.key_of(rig.elements), device, shares, c.choice((0, 5)))


def _port_fields(c: Chance, rig: Rig) -> dict[str, Any]:
    feed = c.key_of(rig.feeds) if rig.feeds and c.random() < 0.8 else ""
    return c.choice(
        ({"feed": feed}, {"start": c.randint(1, 512)}, {"follows": c.choice(("", "packed", "universe"))},
         {"pixels": c.choice((0, 10, 400))}, {"run": tuple(c.segment(rig) for _ in range(c.randint(0, 3)))})
    )  # fmt: skip


def _model(c: Chance, rig: Rig) -> tuple[str, Any]:
    key = c.key_of(rig.device_models)
    old = rig.device_models[key]
    return key, replace(old, passes=c.choice(("nothing", "pixel", "slot")), straddles=not old.straddles)


def _segments(c: Chance, rig: Rig) -> list[Segment]:
    return [c.segment(rig) for _ in range(c.randint(1, 2))]


def _bridge_model(c: Chance, rig: Rig, _: Index) -> Edit:
    device, label, n = c.run(rig)
    return runs.set_bridge_model(rig, device, label, n, c.key_of(rig.device_models))


def _cells(c: Chance, rig: Rig, index: Index) -> Edit:
    column = c.choice([k for k in table.keys_of_columns(rig) if k not in ("device", "port")])
    typed = c.choice(("", "5", "3.100", "free", "run", "after 101 +2", "Front #", "7-12", "1", "x"))
    return table.change_cells(index, c.lamps(rig), column, typed)


def _consequence_mode(c: Chance, rig: Rig, _: Index) -> Edit:
    pid = c.key_of(rig.profiles)
    return mode_edits.with_mode(rig, pid, c.key_of(rig.profiles[pid].modes), c.mode(), "")


def _change_mode(c: Chance, rig: Rig, _: Index) -> Edit:
    pid = c.key_of(rig.profiles)
    return mode_edits.change_mode(rig, c.lamps(rig), pid, c.key_of(rig.profiles[pid].modes))


def _remove_mode(c: Chance, rig: Rig, _: Index) -> Edit:
    pid = c.key_of(rig.profiles)
    modes = list(rig.profiles[pid].modes)
    return mode_edits.remove_mode(rig, pid, c.choice(modes), c.choice(modes))


def _order(c: Chance, rig: Rig, _: Index) -> Edit:
    pid = c.key_of(rig.profiles)
    modes = list(rig.profiles[pid].modes)
    return mode_edits.order_modes(rig, pid, c.sample(modes, len(modes)))


def _universe_fields(c: Chance) -> dict[str, Any]:
    return c.choice(
        (
            {"size": c.choice((96, 120, 510, 512))}, {"name": "x"}, {"reserve": ((500, 512),)},
            {"number": c.randint(1, 60)}
        )
    )  # fmt: skip


def _show(c: Chance, rig: Rig, _: Index) -> Edit:
    uid = c.choice(["", *rig.uses])
    return edits.change_show(
        rig, uid, "", name="Matinee", universes_off=tuple(c.sample(list(rig.universes), min(2, len(rig.universes))))
    )


def _laid_tracks(c: Chance, rig: Rig, index: Index) -> Edit:
    """All breaks of some lamps, each in its own universe."""
    keys = [(k, b) for k in c.items(rig) for b in (0, 1) if index.span_of_break(k, b)]
    return laying.take_layout(rig, laying.lay_out_tracks(index, keys, laying.Laying()))


def _pieces(index: Index) -> list[Any]:
    return [p for s in index.cables_and_sums.streams.values() for p in s.pieces if p.segment.kind == "bridge"]


EDITS: dict[str, Draw] = {
    "rename_rig": lambda c, r, i: edits.rename_rig(r, c.choice(("A", "B"))), "put_rig": lambda c, r,
    i: put_rig(r, "", line_metres=c.choice((100.0, 300.0))), "add_profile": lambda c, r,
    i: edits.add_profile(r, Profile(name="P", modes={"m": c.mode()})), "set_profile": lambda c, r,
    i: edits.set_profile(r, c.key_of(r.profiles), "", notes=str(c.random())), "remove_profile": lambda c, r,
    i: edits.remove_profile(r, c.key_of(r.profiles)), "place": _new_place, "element": _element, "laying": _laid,
    "revise": _revised, "split": _split, "cells": _cells, "move": lambda c, r,
    i: edits.move_item(r, c.item(r), 0, c.key_of(r.universes), c.randint(1, 512)), "remove_items": lambda c, r,
    i: edits.take_out_items(r, c.items(r, 2)), "add_element": lambda c, r,
    i: edits.add_element(r, Element(name="new", pixels=c.randint(1, 99), at=c.place(r))), "add_universe": lambda c, r,
    i: edits.add_universe(r, c.choice((None, c.randint(1, 40)))), "set_universe": lambda c, r,
    i: edits.set_universe(r, c.key_of(r.universes), "", **_universe_fields(c)), "remove_universe": lambda c, r,
    i: edits.remove_universe(r, c.key_of(r.universes)), "add_feed": lambda c, r,
    i: edits.add_feed(r, c.key_of(r.universes), c.choice(("sacn", "artnet", "ddp"))), "set_feed": lambda c, r,
    i: edits.set_feed(r, c.key_of(r.feeds), "", universe=c.key_of(r.universes)), "remove_feed": lambda c, r,
    i: edits.remove_feed(r, c.key_of(r.feeds)), "add_device": lambda c, r,
    i: edits.add_device(r, r.device_models[c.key_of(r.device_models)], "NEW"), "set_device": lambda c, r,
    i: edits.set_device(r, c.key_of(r.devices), "", packs=c.choice(("dense", "whole"))), "remove_device": lambda c, r,
    i: edits.remove_device(r, c.key_of(r.devices)), "plan_setting": lambda c, r,
    i: edits.plan_setting(r, *(d := c.port(r))[:1], f"{d[1]}.universe", c.randint(1, 9)), "set_port": lambda c, r,
    i: edits.set_port(r, *c.port(r), "", **_port_fields(c, r)), "share": lambda c, r, i: edits.share_places(r,
    c.lamps(r, 3)),
    "overlay": lambda c, r, i: edits.declare_overlay(r, c.items(r, 3)), "unshare": lambda c, r,
    i: edits.end_share(r, c.key_of(r.shares)), "groups": lambda c, r, i: edits.put_in_groups(r, c.items(r), ["Front"]),
    "explain_share": lambda c, r, i: edits.explain_share(r, c.key_of(r.shares), "on purpose"),
    "set_lacking": lambda c, r, i: edits.set_lacking(r, c.key_of(r.devices), "brightness", c.choice((True, False))),
    "set_columns": lambda c, r, i: edits.set_columns(r, c.choice((["Use"], ["Circuit", "extra"]))),
    "set_field": lambda c, r, i: edits.set_field(r, (k := c.lamps(r)), c.choice(r.columns), ["x"] * len(k)),
    "lock": lambda c, r, i: edits.lock_items(r, c.items(r), c.random() < 0.5), "add_sender": lambda c, r,
    i: edits.add_sender(r, "Desk"), "set_sender": lambda c, r,
    i: edits.set_sender(r, c.key_of(r.senders), "", universe_size=c.choice((120, 510, 512))),
    "remove_sender": lambda c, r, i: edits.remove_sender(r, c.key_of(r.senders)), "set_show": lambda c, r,
    i: edits.set_show(r, c.choice(["", *r.uses])), "change_show": _show, "remove_show": lambda c, r,
    i: edits.remove_show(r, c.key_of(r.uses)), "waive": lambda c, r,
    i: edits.waive_finding(r, "FEED-03", c.key_of(r.feeds), "", "so"), "unwaive": lambda c, r,
    i: edits.end_waiver(r, *(w := r.waivers[c.key_of(r.waivers)], (w.code, w.subject))[1]), "add_fixtures": lambda c, r,
    i: adding.add_fixtures(
        i, adding.AddWish(c.randint(1, 5), (p := c.key_of(r.profiles)), c.key_of(r.profiles[p].modes), "free")
    ), "series": lambda c, r,
    i: adding.patch_series(i, [(k, 0) for k in c.lamps(r)], c.choice(("3.001 +20", "free", "5.1"))), "copy": lambda c,
    r, i: arrange.copy_items(r, c.items(r, 3)), "swap": lambda c, r,
    i: arrange.swap_items(i, (c.lamp(r), 0), (c.lamp(r), 0)), "trim": lambda c, r, i: capacity.trim_universes(i),
    "with_mode": _consequence_mode, "change_mode": _change_mode, "remove_mode": _remove_mode, "order_modes": _order,
    "steps": lambda c, r,
    i: steps.apply_steps(r, [steps.PatchStep(k, 0, c.key_of(r.universes), c.randint(1, 500)) for k in c.items(r)], ""),
    "first": lambda c, r, i: table.change_first(i, c.items(r), c.choice(("4.001", "free", "3.1 +9"))),
    "unpatch": lambda c, r, i: table.unpatch_breaks(r, [(k, 0) for k in c.items(r)]), "numbers": lambda c, r,
    i: table.number_series(r, c.lamps(r), str(c.randint(1000, 9000))), "names": lambda c, r,
    i: table.name_series(r, c.lamps(r), "Bar #"), "full_brightness": lambda c, r,
    i: bridge.full_brightness(r, *c.run(r)), "flat": lambda c, r, i: bridge.flatten_gamma(r, *c.run(r)),
    "still": lambda c, r,
    i: bridge.take_effects_off(r, *c.port(r)), "set_right": lambda c, r, i: bridge.set_right(r, *c.run(r)),
    "follow_runs": lambda c, r, i: runs.follow_runs(r, *c.port(r), all_of_them=c.random() < 0.5),
    "fix_addresses": lambda c, r, i: runs.fix_addresses(r, i.cables_and_sums, c.items(r)),
    "change_segment": _change_run,
    "change_many": lambda c, r, i: runs.change_many(r, [SegmentRef(*c.run(r))], "", group=c.choice((1, 2))),
    "take_down": lambda c, r, i: runs.take_down(r, *(x := c.run(r))[:2], [x[2]]), "move_segment": lambda c, r,
    i: runs.move_segment(r, *c.run(r), c.port(r)[1], c.randint(0, 3)), "insert_at_pixel": lambda c, r,
    i: runs.insert_at_pixel(r, *c.port(r), c.randint(1, 90), _segments(c, r)), "begin_at": lambda c, r,
    i: runs.begin_at(r, c.key_of(r.devices), c.randint(1, 30), c.choice(("packed", "universe"))),
    "make_to_fit": lambda c, r, i: runs.make_to_fit(r, c.key_of(r.devices), c.choice((0, 1))),
    "begin_and_make": lambda c, r, i: runs.begin_and_make(r, c.key_of(r.devices), c.randint(1, 20), "packed"),
    "device_way": lambda c, r, i: runs.set_device_way(r, c.key_of(r.devices), "", size=c.choice((0, 510))),
    "set_stream": lambda c, r, i: runs.set_stream(r, *c.port(r), "", pixels=c.choice((0, 50))), "add_supply": lambda c,
    r, i: runs.add_supply(r, "S", 5.0, 10.0), "remove_supply": lambda c, r,
    i: runs.remove_supply(r, c.key_of(r.supplies)), "pixel_type": lambda c, r,
    i: runs.set_pixel_type(r, [c.key_of(r.elements)], "k", PixelType(name="K", order="GRB")), "pixel_kind": lambda c,
    r, i: runs.put_pixel_kind(r, "k", PixelType(name="K", order="RGBW")), "follow_cable": lambda c, r,
    i: runs.follow_cable(r, c.item(r)), "guidance": lambda c, r, i: runs.set_guidance(r, 250.0),
    "bridge_model": _bridge_model, "set_model": lambda c, r, i: runs.set_model(r, *_model(c, r)), "attach": lambda c,
    r, i: runs.attach_segments(r, *c.port(r), _segments(c, r), follow=c.random() < 0.7), "attach_wish": lambda c, r,
    i: wish.attach_wish(r, *c.port(r), c.choice(("ribbon 20", "3 null", "bridge 66: 101, 102"))),
    "copies": lambda c, r, i: arrange.make_copies(i, c.items(r, 2), c.randint(1, 3))[0],
    "laid_tracks": _laid_tracks,
    "spots": lambda c, r, i: positions.place_fixtures(r, c.lamps(r), "0, 2, 4 to 10, 2, 4"),
    "move_spots": lambda c, r, i: positions.move_fixtures(r, c.lamps(r), 1.0, 2.0),
    "put_down": lambda c, r, i: positions.put_down(r, c.lamps(r), 1.0, 1.0, 0.5),
    "groups_of_each": lambda c, r, i: edits.put_each_in_groups(r, {k: ["Back"] for k in c.items(r)}),
    "take_out": lambda c, r, i: edits.take_out(r, "", "pixel_types", [c.key_of(r.pixel_types)]),
    "slow_down": lambda c, r, i: bridge.slow_down_bridge(r, c.choice(_pieces(i)), 30.0),
    "insert_pixels": lambda c, r, i: runs.insert_pixels(r, *c.run(r), 10),
    "set_bus": lambda c, r, i: buses.set_bus(r, c.bus(r), "", addressing=c.choice(("gear", "group", "broadcast"))),
    "set_gear": lambda c, r, i: buses.set_gear(r, c.bus(r), [c.randint(0, 20)], "", fixture=c.lamp(r)),
    "plan_gear": lambda c, r, i: buses.plan_gear(r, c.bus(r), c.choice(("0-3 Cove", "7"))),
    "remove_gear": lambda c, r, i: buses.remove_gear(r, c.bus(r), [c.randint(0, 20)]),
    "toggle_group": lambda c, r, i: buses.toggle_group(r, c.bus(r), c.randint(0, 20), c.randint(0, 15)),
    "set_scene": lambda c, r, i: buses.set_scene(r, c.bus(r), c.randint(0, 15), {c.randint(0, 20): 100}),
    "readdressed": lambda c, r, i: buses.remember_addressing(r, c.bus(r), 1.0, [(1, 2)]),
    "copy_gear": lambda c, r, i: buses.copy_gear(r, (b := c.bus(r)), c.randint(0, 20), [(b, c.randint(0, 63))]),
    "bind": lambda c, r, i: lamps.bind_responder(r, c.lamp(r), c.randint(1, 1 << 40)),
    "unbind": lambda c, r, i: lamps.unbind_responder(r, c.lamp(r)),
    "plan_reported": lambda c, r, i: plan_back.plan_reported(r, *(d := c.port(r))[:1], f"{d[1]}.pixels", 50),
    "copy_port": lambda c, r, i: plan_back.copy_port(r, *c.port(r), [c.port(r)]),
    "tick_lamps": lambda c, r, i: fixture_card.tick_lamps(r, fixture_card.lamp_card(i, c.lamps(r)), "Ann", 1.0),
    "untick_lamps": lambda c, r, i: fixture_card.untick_lamps(r, fixture_card.lamp_card(i, c.lamps(r))),
}  # fmt: skip


def state(index: Index) -> dict[str, Any]:
    """Everything an index answers, comparable between one that followed and one that was built."""
    rig = index.rig
    live = np.flatnonzero(index.uni[: index._used] >= 0)
    rows = {n: u for u, n in index._uni_row.items()}
    return {
        "spans": {k: index.spans_of(k) for k in (*rig.fixtures, *rig.elements) if index.spans_of(k)},
        "on": {u: index.spans_on_universe(u) for u in rig.universes},
        "columns": sorted((rows[int(index.uni[n])], int(index.first[n]), int(index.last[n])) for n in live),
        "missing": dict(index.missing), "flagged": index.universes_with_overlaps(), "past": index.past_the_end(),
        "lost": set(index.lost), "open": set(index.open), "streams": index.cables_and_sums.streams,
        "lines": index.cables_and_sums.lines,
        "limits": {u: index.limit_of_universe(u) for u in rig.universes},
        "free": {u: index.free_stretches(u) for u in rig.universes},
        "behind": {k: index.items_that_follow(k) for k in (*rig.fixtures, *rig.elements)},
        "attached": {k: index.cables_and_sums.ports_of_item(k) for k in (*rig.fixtures, *rig.elements)},
    }  # fmt: skip


def difference(followed: dict[str, Any], built: dict[str, Any]) -> str:
    for part, there in built.items():
        if followed[part] != there:
            if isinstance(there, dict):
                keys = {k for k in {*there, *followed[part]} if there.get(k) != followed[part].get(k)}
                key = sorted(keys, key=str)[0]
                return f"{part} of {key}: followed {followed[part].get(key)!r}, built {there.get(key)!r}"
            return f"{part}: followed {followed[part]!r}, built {there!r}"
    return ""


class Trail:
    """A rig that is edited by chance, with an index and findings that follow."""

    def __init__(self, seed: int | str, rig: Rig | None = None) -> None:
        self.chance = Chance(seed)
        start = rig or make_gallery()
        self.history = History(start)
        self.index = Index(start)
        self.checker = Checker(self.index, NOTHING, 0.0)
        self.done: list[str] = []
        self.made = 0

    def step(self) -> str:
        """One edit, undo or redo; gives its name."""
        rig = self.history.rig
        if self.chance.random() < 0.15:
            change = self.history.undo_edit() if self.chance.random() < 0.6 else self.history.redo_edit()
            if change:
                self.done.append("undo or redo")
                self._follow(change)
            return "undo or redo"
        name = self.chance.choice(list(EDITS))
        try:
            new, change = EDITS[name](self.chance, rig, self.index)
        except (Refused, IndexError):  # refused, or there is nothing of the kind any more
            return ""
        if new == rig:
            return ""
        self.made += 1
        self.done.append(name)
        self.history.push_change(new, change)
        self._follow(change)
        return name

    def _follow(self, change: Change) -> None:
        followed = self.index.follow_change(self.history.rig, change)
        self.checker.follow_edit(change, followed)

    def wrong(self, findings: bool = True) -> str:
        """What following has come to that building does not, and what no file may hold; empty when all is well."""
        lost = broken_references(self.history.rig)
        if lost:
            return f"after {self.done[-3:]}: {lost[0]}"
        built = Index(self.history.rig)
        found = difference(state(self.index), state(built))
        if not found and findings:
            mine, theirs = self.checker.report_findings, check_rig(self.history.rig, NOTHING, 0.0)
            if mine != theirs:
                a, b = set(map(repr, mine.findings)), set(map(repr, theirs.findings))
                found = f"findings: only followed {sorted(a - b)[:2]}, only built {sorted(b - a)[:2]}"
        return found and f"after {self.done[-3:]}: {found}"
