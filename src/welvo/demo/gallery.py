"""Builds the demo rig. All names of makers, models and places are made up."""

from __future__ import annotations

import math
from importlib.resources import files
from pathlib import Path

from msgspec.structs import replace

from welvo.demo.tunnel import with_tunnel
from welvo.formats.chart import read_chart
from welvo.formats.models import shipped_models, shipped_pixels
from welvo.rig import layout
from welvo.rig.document import Rig
from welvo.rig.edits import add_device
from welvo.rig.lookup import code_for, lowest_free_tint
from welvo.rig.patched import Element, Fixture, Group, Place, Share
from welvo.rig.profile import AddressSetting, Mode, Profile, Range, Spot
from welvo.rig.runs import Segment, Supply
from welvo.rig.wiring import Device, Feed, Port, Sender, Show, Universe

EXPECTED_ON_PAPER = {
    "PROF-01", "PROF-02", "PROF-03", "PROF-04", "PROF-18", "PATCH-01", "PATCH-02", "PATCH-03", "PATCH-04", "PATCH-05",
    "PATCH-06", "PATCH-07", "PATCH-08", "PATCH-09", "PATCH-11", "PATCH-12", "FEED-01", "FEED-02", "FEED-03", "FEED-04",
    "FEED-05", "FEED-06", "FEED-07", "FEED-13", "DEV-01", "RUN-03", "RUN-14", "RUN-28", "RUN-31", "LINE-03", "PWR-04",
}  # fmt: skip
"""Codes that the rig alone must show: one deliberate fault of each kind."""
EXPECTED_LIVE = EXPECTED_ON_PAPER | {"DEV-02", "DEV-03", "DEV-04", "WIRE-01", "WIRE-02", "WIRE-05"}
"""Codes that it must show with its stand-ins running."""

EDDY = (
    "pan 16, tilt 16, movement speed, dimmer 16, shutter, red, green, blue, white, zoom, focus, gobo, iris, "
    "prism, colour wheel, macro, fan, reset, control"
)
UNDERTOW = (
    "break head: pan 16, tilt 16, dimmer, shutter = 255, zoom 16, gap, swell, reset\nbreak pixels: 14 x (red "
    "green blue white)"
)


def _demo_mode(name: str, chart: str, spots: tuple[Spot, ...] = ()) -> Mode:
    return replace(read_chart(chart).mode_of_chart(name), spots=spots)


def _eddy_profile() -> Profile:
    mode = _demo_mode("22 slot", EDDY)
    ranges = (
        Range(first=0, last=9, name="closed", does="closed"),
        Range(first=10, last=127, name="strobe, slow to fast", does="strobe"),
        Range(first=128, last=239, name="pulse, slow to fast", does="strobe"),
        Range(first=240, last=255, name="open", does="open"),
    )
    channels = tuple(replace(c, ranges=ranges) if c.function == "Shutter1" else c for c in mode.channels)
    basic = _demo_mode("9 slot", "pan, tilt, dimmer, shutter = 255, red, green, blue, white, zoom")
    return Profile(name="Eddy head", maker="Tarnwick", modes={"m1": replace(mode, channels=channels), "m2": basic})


def _demo_profiles() -> list[Profile]:
    doubled = _demo_mode("draft", "dimmer, red, green, blue")
    twice = tuple(replace(c, slots=(2,)) if c.function == "ColorAdd_G" else c for c in doubled.channels)
    return [
        Profile(
            name="Bar 9", maker="Osmer", address=AddressSetting(by="menu", highest=470),
            modes={"m1": _demo_mode("38 slot", "dimmer, shutter = 255, 9 x (red green blue white)",
            layout.lay_out_row(9))}
        ), _eddy_profile(),
        Profile(
            name="Drop 14", maker="Pellucid", address=AddressSetting(by="dials"),
            modes={"m1": _demo_mode("44 slot", "dimmer, shutter = 255, 14 x (red green blue)", layout.lay_out_rows(14,
            2))}
        ),
        Profile(
            name="Lagoon flood", maker="Osmer", address=AddressSetting(by="switches"),
            modes={"m1": _demo_mode("8 slot", "red, green, blue, amber, uv, white, dimmer, shutter = 255")}
        ), Profile(name="Undertow wash", maker="Osmer", modes={"m1": _demo_mode("split", UNDERTOW,
        layout.two_rings(14))}),
        Profile(
            name="Tide panel (draft)", maker="Pellucid",
            notes="Not finished: green sits on red's slot, and the long mode is longer than a universe.",
            modes={
                "m1": replace(doubled, channels=twice),
                "m2": _demo_mode("170 pixels", "170 x (red green blue white)", layout.lay_out_rows(170, 10))
            }
        ),
    ]  # fmt: skip


def make_gallery() -> Rig:
    """The rig of the opening night. `rig.note` says where the deliberate faults are."""
    rig = Rig(name="Drift Gallery", note=NOTE)
    profiles: dict[str, Profile] = {}
    for n, p in enumerate(_demo_profiles(), 1):
        rig = replace(rig, profiles=profiles)
        profiles = {**profiles, f"p{n}": replace(p, tint=lowest_free_tint(rig), code=code_for(rig, p.name))}
    names = {
        1: "Kelp wall A", 2: "Kelp wall B", 3: "Ray basin", 4: "Entrance", 5: "Ribbons 1–2", 6: "Ribbons 3–4",
        7: "Pool rim", 8: "Pool floor", 9: "Jelly drum", 10: "Reserve", 11: "Cloakroom", 12: "Lift lobby"
    }  # fmt: skip
    universes = {f"u{n}": Universe(number=n, name=name) for n, name in names.items()}
    universes["u4"] = replace(universes["u4"], reserve=((321, 400),))
    universes["u2"] = replace(universes["u2"], reserve=((433, 512),))
    fixtures = _demo_fixtures()
    elements = {
        "e1": Element(
            name="ribbon", pixels=240, order="RGBW", kind="line", at=Place(universe="u5", address=1), tint=6,
            code="RIB", note="Along the tunnel, there and back."
        ),
        "e2": Element(
            name="drum", pixels=150, order="RGB", kind="ring", at=Place(universe="u12", address=101), tint=7,
            code="DRU", spots=layout.lay_out_ring(150), note="PATCH-08: needs universe 13."
        ),
        "e3": Element(name="pumps", kind="block", slots=16, at=Place(universe="u9", address=481), tint=8, code="PUM"),
        "e4": Element(
            name="coat rail", pixels=14, order="RGB", at=Place(universe="u11", address=103), tint=9, code="COA",
            note="The pixels of 525, once more on their own."
        ),
    }  # fmt: skip
    shares = {
        "x1": Share(members=("f501", "f502"), reason="Both hoods light the ticket desk together."),
        "x2": Share(members=("f511", "f512"), reason="The two window floods."),
        "x3": Share(
            members=("f525", "e4"),
            kind="overlay",
            reason="The rail as one lamp for the house, as pixels for the opening.",
        ),
    }
    senders = {
        "s1": Sender(name="Bench", kind="bench"),
        "s2": Sender(name="Aquarium desk", kind="desk", computer="desk-1", highest=512),
    }
    feeds = {
        "w1": Feed(universe="u1", sender="s1", wire=1),
        "w2": Feed(universe="u2", sender="s1", wire=2),
        "w3": Feed(universe="u3", sender="s1", wire=3),
        "w4": Feed(universe="u4", sender="s1", protocol="artnet", wire=4, to="subscribers"),
        "w5": Feed(universe="u5", sender="s1", wire=5),
        "w6": Feed(universe="u6", sender="s1", wire=6),
        "w7": Feed(universe="u7", sender="s1", wire=7),
        "w8": Feed(universe="u8", sender="s1", wire=7),
        "w10": Feed(universe="u10", sender="s1", wire=10),
        "w11": Feed(universe="u11", sender="s1", protocol="artnet", wire=0, to="subscribers"),
        "w12": Feed(universe="u12", sender="s1", protocol="artnet", wire=0x0C, to="broadcast"),
        "w20": Feed(universe="u2", sender="s2", wire=2),
    }
    rig = replace(
        rig, profiles=profiles, universes=universes, fixtures=fixtures, elements=elements, shares=shares,
        senders=senders, feeds=feeds, groups=_demo_groups(),
        uses={"y1": Show(name="School morning", universes_off=("u7", "u8", "u9"), devices_off=("d3",))},
    )  # fmt: skip
    rig = _add_devices(rig)
    places = _places_of_lamps()
    hung = {k: replace(f, spot=places.get(k)) for k, f in rig.fixtures.items()}
    return replace(rig, fixtures=hung)


def _places_of_lamps() -> dict[str, tuple[float, float, float]]:
    """Where the lamps hang, in metres: two kelp walls, a basin with two rings around it, the drum behind. Spares and
    what stands in its case have no place."""
    found: dict[str, tuple[float, float, float]] = {}

    def line(first: int, count: int, x: float, y: float, dx: float, dy: float, z: float) -> None:
        for n in range(count):
            found[f"f{first + n}"] = (round(x + n * dx, 3), round(y + n * dy, 3), z)

    def ring(first: int, count: int, x: float, y: float, radius: float, z: float) -> None:
        for n in range(count):
            turn = 2 * math.pi * n / count
            found[f"f{first + n}"] = (round(x - radius * math.sin(turn), 3), round(y - radius * math.cos(turn), 3), z)

    line(101, 12, 0.5, 1.0, 0.0, 1.0, 3.2)
    line(113, 6, 15.5, 1.0, 0.0, 1.0, 3.2)
    ring(201, 8, 8.0, 4.5, 3.4, 5.5)
    line(304, 4, 4.2, 8.5, 2.5, 0.0, 4.0)
    ring(311, 10, 8.0, 11.2, 1.8, 2.6)
    found["f321"] = (8.0, 11.2, 2.6)
    line(401, 8, 4.5, 0.0, 1.0, 0.0, 0.4)
    line(501, 2, 1.0, -1.5, 1.0, 0.0, 2.4)
    line(503, 4, 5.0, -1.5, 2.0, 0.0, 0.2)
    line(511, 2, 0.5, 0.0, 15.0, 0.0, 2.8)
    line(521, 5, 13.0, -1.5, 0.6, 0.0, 2.2)
    line(531, 5, 4.0, 13.8, 2.0, 0.0, 1.0)
    ring(601, 8, 8.0, 4.5, 2.3, 0.6)
    ring(611, 8, 8.0, 4.5, 1.2, 0.1)
    line(701, 2, 3.0, 12.0, 10.0, 0.0, 5.0)
    return found


def _series_of_fixtures(
    number: int, count: int, name: str, profile: str, universe: int, start: int, spacing: int
) -> dict[str, Fixture]:
    return {
        f"f{number + n}": Fixture(
            number=number + n, name=f"{name} {n + 1}" if count > 1 else name, profile=profile, mode="m1",
            at=(Place(universe=f"u{universe}", address=start + n * spacing),),
        )
        for n in range(count)
    }  # fmt: skip


def _demo_fixtures() -> dict[str, Fixture]:
    found = {
        **_series_of_fixtures(101, 12, "Kelp", "p1", 1, 1, 40),
        **_series_of_fixtures(113, 6, "Kelp", "p1", 2, 1, 40),
        **_series_of_fixtures(401, 8, "Urchin", "p4", 2, 257, 8),
        **_series_of_fixtures(201, 6, "Eddy, basin", "p2", 3, 1, 24),
        **_series_of_fixtures(207, 1, "Eddy, ray pool left", "p2", 3, 145, 22),
        **_series_of_fixtures(304, 1, "Drop, pool rim east", "p3", 3, 160, 44),
        **_series_of_fixtures(305, 3, "Drop, pool rim", "p3", 3, 208, 48),
        **_series_of_fixtures(501, 1, "Lagoon, hood left", "p4", 4, 401, 8),
        **_series_of_fixtures(502, 1, "Lagoon, hood right", "p4", 4, 401, 8),
        **_series_of_fixtures(503, 4, "Lagoon, sand bed", "p4", 4, 411, 10),
        **_series_of_fixtures(511, 1, "Lagoon, window left", "p4", 4, 301, 8),
        **_series_of_fixtures(512, 1, "Lagoon, window right", "p4", 4, 309, 8),
        **_series_of_fixtures(601, 8, "Drop, rim", "p3", 7, 1, 48),
        **_series_of_fixtures(611, 8, "Drop, floor", "p3", 8, 1, 48),
        **_series_of_fixtures(311, 10, "Drum", "p3", 9, 1, 48),
        **_series_of_fixtures(521, 4, "Lagoon, coats", "p4", 11, 1, 8),
        **_series_of_fixtures(525, 1, "Drop, coat rail", "p3", 11, 101, 44),
    }
    found["f208"] = Fixture(
        number=208, name="Eddy, ray pool right", profile="p2", mode="m1", at=(Place(after="f207", gap=260),),
        note="Anchored: always 260 free slots behind 207.",
    )  # fmt: skip
    found["f321"] = Fixture(
        number=321, name="Drum, last", profile="p3", mode="m1", at=(Place(universe="u9", address=500),),
        note="PATCH-02: ends past 512."
    )  # fmt: skip
    found["f118b"] = Fixture(
        number=118, name="Kelp, spare", profile="p1", mode="m1", at=(Place(universe="u2", address=472),),
        note="PATCH-04: 118 is taken. PATCH-11: its menu ends at 470. PATCH-12: it stands in the reserve."
    )  # fmt: skip
    found["f701"] = Fixture(
        number=701, name="Undertow, stage left", profile="p5", mode="m1",
        at=(Place(universe="u4", address=1), Place(universe="u4", address=21))
    )  # fmt: skip
    found["f702"] = Fixture(
        number=702, name="Undertow, stage right", profile="p5", mode="m1", at=(Place(universe="u4", address=101),),
        note="PATCH-03: its pixels have no address."
    )  # fmt: skip
    found["f703"] = Fixture(
        number=703, name="Undertow, spare", profile="p5", mode="m1", at=(Place(after="f704"), Place(after="f704")),
        note="PATCH-05: stands behind 704, which is nowhere."
    )  # fmt: skip
    found["f704"] = Fixture(number=704, name="Undertow, in the case", profile="p5", mode="m1")
    return {
        k: replace(f, fields=_attached_columns(f.number)) if _attached_columns(f.number) else f
        for k, f in found.items()
    }


def _attached_columns(number: int) -> dict[str, str]:
    """Where a fixture is attached and what feeds it, for the rig's own columns."""
    if 101 <= number <= 118:
        return {
            "Hang point": f"K{(number - 101) // 6 + 1}.{(number - 101) % 6 + 1}",
            "Circuit": f"C{(number - 101) // 6 + 1}",
        }
    if 501 <= number <= 512:
        return {"Hang point": "desk hood" if number < 503 else "sand bed", "Circuit": "C7", "Use": "house light"}
    return {}


def _demo_groups() -> dict[str, Group]:
    return {
        "g1": Group(name="Kelp left", members=tuple(f"f{n}" for n in range(101, 107))),
        "g2": Group(name="Kelp right", members=tuple(f"f{n}" for n in range(107, 113))),
        "g3": Group(name="House light", members=tuple(f"f{n}" for n in (501, 502, 503, 504, 505, 506, 511, 512))),
    }


def _add_devices(rig: Rig) -> Rig:
    models = shipped_models()
    for name, model, ip in (
        ("WEIR-2", "weir-2", "127.0.0.21"), ("SLUICE-N", "sluice-4", "127.0.0.31"),
        ("SLUICE-S", "sluice-4", "127.0.0.32"), ("BRINE", "weir-2", "127.0.0.40"), (
            "SPARE", "sluice-4", "127.0.0.32"
        ),
    ):  # fmt: skip
        rig, _ = add_device(rig, models[model], name, ip)
    line = tuple(f"f{n}" for n in (*range(201, 209), *range(304, 308)))
    plans = {
        "d1": {
            "A": Port(
                feed="w3", settings={"merge": "highest"},
                run=(Segment(kind="line", fixtures=line, name="Ray basin line"),)
            ), "B": Port(feed="w4")
        },
        "d2": {
            "1": Port(feed="w1"), "2": Port(feed="w2", settings={"merge": "highest"}), "3": Port(feed="w5"),
            "4": Port(feed="w6")
        }, "d3": {"1": Port(feed="w7"), "2": Port(feed="w8"), "3": Port(feed="w11"), "4": Port(feed="w10")},
    }  # fmt: skip
    devices: dict[str, Device] = {
        device_id: replace(d, ports={**d.ports, **plans.get(device_id, {})}) for device_id, d in rig.devices.items()
    }
    return with_tunnel(_add_ceiling(replace(rig, devices=devices)))


def _add_ceiling(rig: Rig) -> Rig:
    """The jellyfish ceiling on a pixel controller: folded ribbons, two panels, a bridge with floods, a chain of
    beads."""
    models, kinds = shipped_models(), shipped_pixels()
    rig, change = add_device(rig, models["penstock-12"], "PENSTOCK")
    device_id = change.made[0]
    rig, change = add_device(rig, models["siphon-64"], "x")
    gone = change.made[0]
    siphon = rig.devices[gone].model
    names = {
        201: "Ceiling 1–3", 202: "Ceiling 4–6", 203: "Ceiling 7–9", 204: "Ceiling 10–12", 205: "Bells",
        206: "Rim and sill", 207: "Swarm", 208: "Swarm"
    }  # fmt: skip
    universes = {f"u{n}": Universe(number=n, name=name) for n, name in names.items()}
    feeds = {f"w{n}": Feed(universe=f"u{n}", sender="s1", wire=n) for n in names}
    follow = Place(from_run=True)
    elements = {
        f"c{n}": Element(name=f"ceiling {n}", pixels=55, at=follow, type="silk", tint=10, code="CEI")
        for n in range(1, 13)
    }
    elements |= {
        f"b{n}": Element(
            name=f"bell {n}", kind="rows", pixels=64, at=follow, type="silk", fold=8, spots=layout.lay_out_rows(64, 8),
            tint=11, code="BEL"
        ) for n in (1, 2)
    }  # fmt: skip
    elements["rim"] = Element(name="rim", pixels=30, at=follow, type="silk", tint=12, code="RIM")
    elements["sw"] = Element(
        name="swarm", pixels=400, fold=100, at=follow, type="bead", tint=13, code="SWA",
        note="RUN-03: needs universe 209. RUN-31: dense, so that universe ends cut its pixels."
    )  # fmt: skip
    floods = {
        f"f{n}": Fixture(number=n, name=f"Lagoon, sill {n - 530}", profile="p4", mode="m1", at=(follow,))
        for n in range(531, 536)
    }

    def attach(key: str, **more: object) -> Segment:
        order = "BGR" if key == "sw" else "GRB"
        return Segment(kind="pixels", element=key, order=order, supply="v2" if key == "sw" else "v1", **more)  # type: ignore[arg-type]

    ports = {
        str(p): Port(
            feed="w201" if p == 1 else "", follows="" if p == 1 else "universe",
            run=tuple(attach(f"c{3 * p - 2 + n}", reverse=n == 1) for n in range(3)),
        )
        for p in range(1, 5)
    }  # fmt: skip
    ports["5"] = Port(follows="universe", run=(attach("b1", fold=8), attach("b2", fold=8)))
    behind = Segment(
        kind="bridge", width=64, fixtures=tuple(floods), model=siphon, dmx={"f534": 33}, name="sill bridge"
    )
    ports["6"] = Port(follows="universe", brightness=0.8, run=(attach("rim"), Segment(kind="null", count=3), behind))
    ports["7"] = Port(follows="universe", run=(attach("sw", fold=100),))
    devices = {k: d for k, d in rig.devices.items() if k != gone}
    devices[device_id] = replace(
        devices[device_id],
        ip="127.0.0.50",
        packs="dense",
        mode="12 ports",
        firmware="2.3",
        ports={**devices[device_id].ports, **ports},
    )
    return replace(
        rig, universes={**rig.universes, **universes}, feeds={**rig.feeds, **feeds},
        elements={**rig.elements, **elements}, fixtures={**rig.fixtures, **floods}, devices=devices,
        pixel_types={"silk": kinds["silk-60"], "bead": kinds["bead-10"]},
        supplies={
            "v1": Supply(name="Ceiling tin", volts=5, amps=60), "v2": Supply(name="Swarm tin", volts=24, amps=15)
        },
    )  # fmt: skip


NOTE = """The opening night of the jellyfish hall. One fault of every kind stands in here on purpose:
207 and 304 meet on 3.160–166 (PATCH-01). 321 ends past universe 9 (PATCH-02). 702 is half patched and 704 not at
all (PATCH-03). 118 exists twice (PATCH-04). 703 follows 704, which is nowhere (PATCH-05). 501 and 502 share, which
is fine (PATCH-06); 511 and 512 were meant to (PATCH-07). The drum needs universe 13 (PATCH-08), the ribbon runs
over two universes (PATCH-09). The spare bar cannot be set to 472 (PATCH-11) and stands in the reserve (PATCH-12).
525 and the coat rail are an overlay. 7 and 8 go out under
one number (FEED-01, FEED-13), 9 not at all (FEED-02), 10 is empty (FEED-03), 12 is broadcast (FEED-04) and no port
takes it
(FEED-07), 11 uses 0/0/0 (FEED-05), the desk and the Bench both send 2 (FEED-06). The spare Sluice has the south one's
address (DEV-01). The swarm of beads needs universe 209 (RUN-03), is packed densely (RUN-31) and has another connector
than
its controller (PWR-04); port 6 of the controller stands at 80 %, so that the floods behind its bridge come out wrong
(RUN-14). Ribbon, drum, pumps and coat rail are attached nowhere yet (RUN-28); 304 is attached behind 208 (LINE-03).
Undertow's “swell” is no function (PROF-01), the Tide panel is a draft (PROF-02, PROF-03), Eddy's
shutter is closed by default (PROF-04), one slot of Undertow has no function (PROF-18). With the stand-ins running:
Brine is off (DEV-02), a stranger answers (DEV-03),
Sluice north merges otherwise (DEV-04), Weir's port A takes universe 2 (WIRE-01), a laptop sends 6 as well
(WIRE-02), and the stranger listens to numbers that nobody sends (WIRE-05)."""


def state_file() -> Path:
    """What the demo's stand-ins hold themselves."""
    return Path(str(files("welvo") / "demo" / "standins.toml"))
