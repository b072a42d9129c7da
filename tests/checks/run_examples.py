"""Worked examples of findings about runs: a pixel device beside the plain rig, with one item wrong."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec.structs import replace

from tests.conftest import profile
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Element, Fixture, Place
from welvo.rig.runs import PixelType, Segment, Supply
from welvo.rig.wiring import Device, DeviceModel, Feed, Firmware, OutputMode, Port, Universe

Example = Callable[[Rig], tuple[Rig, str]]
RUN = Place(from_run=True)
SILK = PixelType(
    name="Silk", chip="SK-3", order="RGB", volts=5, least=4, currents=(20, 20, 20), pitch=20, area=0.5,
    connector="JST", sex="male", wires=(("V+", "red"), ("data", "green"), ("ground", "black")),
)  # fmt: skip


def px(count: int, order: str = "RGB", **more: Any) -> Element:
    return Element(name="reef", pixels=count, order=order, at=RUN, **more)


def cabled(
    words: str,
    *run: Segment,
    element: Element | None = None,
    second: Port | None = None,
    rig: dict[str, Any] | None = None,
    **fields: Any,
) -> Example:
    """A device of two ports with `run` on its first; fields that begin with `m_`, `p_` and `d_` are the model's,
    port's, device's."""

    def pick(prefix: str) -> dict[str, Any]:
        return {k[2:]: v for k, v in fields.items() if k.startswith(prefix)}

    def make(plain: Rig) -> tuple[Rig, str]:
        model = DeviceModel(
            **{"name": "Penstock 2", "kind": "pixel", "ports": ("1", "2"), "universes": 40, **pick("m_")}
        )
        port = Port(**{"feed": "w11", "run": run, **pick("p_")})
        box = Device(
            **{"name": "PEN", "model": "pen", "ports": {"1": port, **({"2": second} if second else {})}, **pick("d_")}
        )
        universes = {f"u{n}": Universe(number=n) for n in range(11, 15)}
        feeds = {f"w{n}": Feed(universe=f"u{n}", sender="s", wire=n) for n in range(11, 15)}
        parts: dict[str, Any] = {"elements": {"r": element or px(10)}, "pixel_types": {"silk": SILK}}
        for part, entries in (rig or {}).items():
            parts[part] = {**parts.get(part, {}), **entries}
        universes |= parts.pop("universes", {})
        feeds |= parts.pop("feeds", {})
        models = {"pen": model, **parts.pop("device_models", {})}
        return put_entries(
            plain, "", device_models=models, devices={"p": box}, universes=universes, feeds=feeds, **parts
        )[0], words

    return make


def reef(**fields: Any) -> Segment:
    return Segment(kind="pixels", element="r", **fields)


def _lamps(count: int, chart: str = "dimmer, red, green, blue") -> dict[str, Any]:
    """Fixtures 301 … of a profile that follow a cable."""
    return {
        "profiles": {"glow": profile("Glow", chart, 9)},
        "fixtures": {
            f"g{n}": Fixture(number=300 + n, profile="glow", mode="m", at=(RUN,)) for n in range(1, count + 1)
        },
    }


def bridge(width: int = 64, fixtures: tuple[str, ...] = (), **fields: Any) -> Segment:
    return Segment(kind="bridge", width=width, fixtures=fixtures, **fields)


def _line(
    words: str,
    lamps: int = 3,
    chart: str = "dimmer",
    unit_load: float = 1,
    connector: str = "",
    metres: float = 10,
    model: str = "",
    **fields: Any,
) -> Example:
    """Port B of the plain rig's node with a DMX line of lamps."""

    def make(rig: Rig) -> tuple[Rig, str]:
        glow = replace(profile("Glow", chart, 9), unit_load=unit_load, connector=connector)
        made = {f"g{n}": Fixture(number=300 + n, profile="glow", mode="m", at=(RUN,)) for n in range(1, lamps + 1)}
        segment = Segment(kind="line", **{"fixtures": tuple(made), "lengths": dict.fromkeys(made, metres), **fields})
        node = rig.devices["d"]
        ports = {"A": node.ports["A"], "B": Port(feed="w3", run=(segment,))}
        models = {"mod": replace(rig.device_models["mod"], connector=model)} if model else {}
        return put_entries(
            rig, "", profiles={"glow": glow}, fixtures=made, universes={"u3": Universe(number=3)},
            device_models=models, feeds={"w3": Feed(universe="u3", sender="s", wire=3), "w2": None},
            elements={"e": None}, devices={"d": replace(node, ports=ports)},
        )[0], words  # fmt: skip

    return make


def _other_universe(rig: Rig) -> tuple[Rig, str]:
    ports = {**rig.devices["d"].ports, "A": Port(feed="w1", run=(Segment(kind="line", fixtures=("a", "b", "c")),))}
    return put_entries(rig, "", devices={"d": replace(rig.devices["d"], ports=ports)})[
        0
    ], "Port A gives universe 1, and 1 lamp on its line is in 2"


def _split(rig: Rig) -> tuple[Rig, str]:
    return put_entries(
        rig, "", devices={"d": replace(rig.devices["d"], ports={**rig.devices["d"].ports, "B": Port(feed="w1")})}
    )[0], "Universe 1 comes out of 2 ports"


RUN_EXAMPLES: dict[str, Example] = {
    "RUN-01": cabled(
        "takes 8 on a port; 2 pixels too many. The first dark one is reef, place 9 of it", reef(), m_pixels_per_port=8
    ), "RUN-02": cabled("From slot 25 of its stream on, in reef", reef(), m_stream_slots=24),
    "RUN-03": cabled(
        "Port 1 needs universe 15, which is not there 51 of its 2\u202f091 slots: 1 universe not there "
        "(15). Its last universe is 15, up to slot 51", reef(), element=px(697)
    ),
    "RUN-04": cabled(
        "Reef on port 1 and spar on port 2 share 10 slots They meet from 11.021 to 11.030", reef(),
        second=Port(feed="w11", start=21, run=(Segment(kind="pixels", element="q"),)),
        rig={"elements": {"q": replace(px(20), name="spar")}}
    ), "RUN-05": cabled("reef cannot begin at 12.001 of its own", reef(at=Place(universe="u12", address=1))),
    "RUN-06": cabled(
        "PEN cannot take 1 cut pixel The first is pixel 171 of reef on port 1: from 11.511 to 12.001", reef(),
        element=px(200), m_straddles=False, d_packs="dense"
    ),
    "RUN-07": cabled("Port 1 is set to SK-9, the string is SK-3", reef(), element=px(10, type="silk"), p_chip="SK-9"),
    "RUN-08": cabled(
        "Colour order of reef is set at both ends The sender sends RGB. The controller is set to GRB and so puts out "
        "GRB, and the chips take RGB: red lights green, green lights red",
        reef(order="GRB"), element=px(10, type="silk")
    ), "RUN-09": cabled("The fold of reef is set at neither end", reef(), element=px(10, fold=5)),
    "RUN-10": cabled(
        "4 does not divide the 10 pixels of reef Its last stretch, the 3., has 2 pixels and runs forward",
        reef(fold=4), element=px(10, fold=4)
    ),
    "RUN-11": cabled(
        "reef is attached behind bridge 64 and gets nothing Nothing may follow a bridge of no stated model", bridge(),
        reef()
    ),
    "RUN-12": cabled(
        "Mode “half” switches it off", reef(), m_modes=(OutputMode(name="half", off=("1",)),), d_mode="half"
    ),
    "RUN-13": cabled(
        "Port 1 follows 22 of 44 frames a second One frame takes 45.3 ms", reef(), element=px(1500),
        rig={
            "universes": {f"u{n}": Universe(number=n) for n in range(15, 20)},
            "feeds": {f"w{n}": Feed(universe=f"u{n}", sender="s", wire=n) for n in range(15, 20)}
        }
    ), "RUN-14": cabled("Port 1 80 %: 255 arrives as 204 and every level reads low", bridge(), p_brightness=0.8),
    "RUN-15": cabled("301 and 302 meet on 2 DMX slots", bridge(64, ("g1", "g2"), dmx={"g2": 3}), rig=_lamps(2)),
    "RUN-16": cabled("4 pixels of reef are attached twice", reef(count=7), reef(first=4)),
    "RUN-17": cabled(
        "6 of 10 pixels of reef are attached to a port 1–2, 9–10 are attached nowhere", reef(first=3, count=6)
    ),
    "RUN-18": cabled(
        "reef is fixed at 12.001 and the cable is elsewhere The cable gives it 11.001 to 30 where the "
        "patch says 12.001 to 30", reef(), element=replace(px(10), at=Place(universe="u12", address=1))
    ),
    "RUN-19": cabled(
        "PEN counts 508 slots of a universe, the sender 512: 1 port astray Pixel 170 of reef: the sender puts it at "
        "11.508, the device takes it from 12.001", reef(), element=px(200), d_size=508
    ),
    "RUN-20": cabled(
        "1 port of PEN is configured for more than is attached Port 1 for 170 with 10, to 11.510. If more were "
        "connected to port 1, it would show the light of port 2 from pixel 11 on", reef(), p_pixels=170,
        second=Port(feed="w11", start=31, run=(Segment(kind="pixels", element="q"),)),
        rig={"elements": {"q": replace(px(20), name="spar")}}
    ),
    "RUN-21": cabled(
        "303 behind bridge 12 is cut by a universe's end It begins at 11.510 and goes on at 12.001", reef(),
        bridge(12, ("g1", "g2", "g3")), element=px(167), rig=_lamps(3)
    ),
    "RUN-22": cabled(
        "PEN has firmware 1.1 Drops port 2", reef(),
        m_firmwares=(Firmware(version="1.0"), Firmware(version="1.1", good=False, note="Drops port 2")),
        d_firmware="1.1"
    ),
    "RUN-23": cabled(
        "1 channel of 301 cannot be driven dimmer: reef has no such function there, or its RGB pixels have no such "
        "component",
        Segment(kind="lamps", element="r", functions=("=0",), fixtures=("g1",)), element=px(1),
        rig=_lamps(1, "gap, dimmer")
    ),
    "RUN-30": cabled(
        "10 lamps behind lamps would end past 512 From address 2 every 50 slots, 21 do not fit",
        Segment(kind="lamps", count=21, functions=("R",), start=2, spacing=50)
    ),
    "RUN-35": cabled(
        "spar on port 2 is set to straight, its neighbours to GRB The other segments or ports of PEN have colour order "
        "GRB", *(reef(first=n, count=2, order="GRB") for n in (1, 3, 5, 7, 9)),
        second=Port(feed="w12", run=(Segment(kind="pixels", element="q"),)),
        rig={"elements": {"q": replace(px(2), name="spar")}}
    ),
    "RUN-34": cabled(
        "Port 1 is to begin at 11.511 and begins at 12.001 A pixel of 3 slots is kept whole and does not fit there",
        reef(), p_start=511
    ),
    "RUN-33": cabled(
        "301 has 4 channels, and the next lamp begins 3 slots on Behind lamps channel 4 of 301 is channel 1 of the "
        "next lamp",
        Segment(kind="lamps", count=2, functions=("R", "G", "B"), fixtures=("g1", "g2")), rig=_lamps(2)
    ),
    "RUN-36": cabled(
        "301 has 4 channels, and lamps gives out 5 Channel 5 of it, =0, is no channel of this lamp",
        Segment(kind="lamps", count=2, functions=("V", "R", "G", "B", "=0"), spacing=6, fixtures=("g1", "g2")),
        rig=_lamps(2)
    ),
    "RUN-37": cabled(
        "A Penstock 2 has no mode “long” PEN is planned in it. Its model has: none", reef(), d_mode="long"
    ),
    "RUN-31": cabled(
        "PEN has 1 cut pixel The first is pixel 171 of reef on port 1: from 11.511 to 12.001. The "
        "device can take that", reef(), element=px(200), d_packs="dense"
    ),
    "RUN-32": cabled(
        "The last 4 pixels of port 1 get nothing It is configured for 6, 10 are connected; dark from "
        "pixel 7 of reef on", reef(), p_pixels=6
    ),
    "RUN-24": cabled(
        "A Penstock 2 has no fold reef on port 1 needs it", reef(fold=5), element=px(10, fold=5),
        m_does=("null", "reverse")
    ),
    "RUN-25": cabled(
        "Port 1 is fed by sACN, and a Penstock 2 takes Art-Net and DDP", reef(), m_protocols=("artnet", "ddp")
    ), "RUN-26": _other_universe, "RUN-27": _split,
    "RUN-28": cabled("1 element (10 pixels) is attached nowhere", reef()),
    "RUN-29": cabled("1 item on PEN has no address", reef(), element=replace(px(10), at=Place())),
    "LINE-01": _line(
        "40 unit loads on one driver, 32 are the most From 309, the 9. lamp, on it is too many", lamps=10, unit_load=4
    ), "LINE-02": _line("303 is 360 m behind the driver", metres=120),
    "LINE-03": _line("302 at 1 is attached behind 301 at 9", lamps=2, dmx={"g1": 9, "g2": 1}),
    "LINE-04": _line("5-pin to 3-pin before 301", lamps=2, connector="3-pin", model="5-pin"),
    "LINE-05": _line("Its last lamp is 303", terminated=False),
    "PWR-01": cabled(
        "Supply Tin has to give 12.0 A of 10 A", reef(supply="tin"), element=px(200, type="silk"),
        rig={"supplies": {"tin": Supply(name="Tin", volts=5, amps=10)}}
    ), "PWR-02": cabled("reef has under 4 V from pixel", reef(), element=px(160, type="silk")),
    "PWR-04": cabled(
        "port 1 and reef do not go together as they are both sides are male", reef(), element=px(10, type="silk"),
        m_connector="JST", m_sex="male"
    ),
    "PWR-03": cabled(
        "reef is made for 5 V and gets 12 V Its power comes from Big", reef(supply="big"), element=px(10, type="silk"),
        rig={"supplies": {"big": Supply(name="Big", volts=12)}}
    ),
}  # fmt: skip
