"""How numbers are typed and said: addresses, series, number lists, wire universes, IP addresses."""

from __future__ import annotations

import re
from dataclasses import dataclass

from welvo.rig.base import Refused
from welvo.rig.counting import HIGHEST_PORT_ADDRESS, HIGHEST_SACN, net_sub_universe, port_address


def say_place(universe: int, address: int) -> str:
    """`3.045`: universe and three-digit address."""
    return f"{universe}.{address:03d}"


def thousands(n: int) -> str:
    """A number with thin spaces between thousands."""
    return f"{n:,}".replace(",", "\u2009")


def plural(n: int, word: str, many: str = "") -> str:
    return f"{thousands(n)} {word if n == 1 else many or word + 's'}"


def read_place(text: str) -> tuple[int, int]:
    """`3.45` or `3.045` → (3, 45)."""
    m = re.fullmatch(r"\s*(\d+)\s*[./]\s*(\d+)\s*", text)
    if not m:
        raise Refused(f"“{text.strip()}” is no address. Write universe.address, such as 3.045.")
    universe, address = int(m[1]), int(m[2])
    if not 1 <= universe <= HIGHEST_SACN:
        raise Refused(f"There is no universe {universe}: universes run from 1 to {HIGHEST_SACN}.")
    if not 1 <= address <= 512:
        raise Refused(f"There is no address {address}: a universe has addresses 1 to 512.")
    return universe, address


@dataclass(frozen=True)
class Shift:
    """A step that each value is moved by: slots, numbers, or whole universes and slots (`+1.0`)."""

    by: int
    universes: int = 0


def read_shift(text: str) -> Shift | None:
    """`+8`, `-8` (each value that much on or back), `+1.0` (one universe on, same address); None: no shift."""
    m = re.fullmatch(r"\s*([+\-−])\s*(\d{1,6})(?:\.(\d{1,3}))?\s*", text)
    if not m:
        return None
    sign = 1 if m[1] == "+" else -1
    if m[3] is not None:
        return Shift(sign * int(m[3]), sign * int(m[2]))
    return Shift(sign * int(m[2]))


def count_names(pattern: str, how_many: int, numbers: list[int] | None = None) -> list[str]:
    """Names from a pattern: `Kelp #` counts 1, 2, 3; `##` writes 01, 02; `#7` begins at 7; `&` is the number."""
    found = []
    for n in range(how_many):

        def counted(m: re.Match[str], n: int = n) -> str:
            return str(int(m[2] or 1) + n).zfill(len(m[1]))

        words = re.sub(r"(#+)(\d*)", counted, pattern.strip())
        found.append(words.replace("&", str(numbers[n])) if numbers else words)
    return found


@dataclass(frozen=True)
class Series:
    """A start and what is added for each next one. `spacing` None: packed, one right after the other."""

    start: str
    spacing: int | None = None
    gap: int | None = None


def read_series(text: str) -> Series:
    """`3.1` alone, `3.1 +8` (spacing: start to start), `3.1 gap 2` (free slots between), `101+`."""
    m = re.fullmatch(r"\s*(\S+?)\s*(?:(\+)\s*(\d*)|gap\s+(\d+))?\s*", text)
    if not m:
        raise Refused(f"“{text.strip()}” is no series. Write 3.1, 3.1 +8 (every 8th) or 3.1 gap 2.")
    if m[4] is not None:
        return Series(m[1], gap=int(m[4]))
    if m[2] and m[3] == "0":
        raise Refused("A series with +0 would put all of them on one address. Use a share for that.")
    return Series(m[1], spacing=int(m[3]) if m[3] else (1 if m[2] else None))


def read_numbers(text: str) -> list[int]:
    """`203, 205–207` → [203, 205, 206, 207]; at most 10 000 numbers."""
    found: list[int] = []
    for part in re.split(r"[,;\s]+", text.replace("–", "-").strip()):
        if not part:
            continue
        m = re.fullmatch(r"(\d+)(?:-(\d+))?", part)
        if not m:
            raise Refused(f"“{part}” is no number. Write numbers and ranges, such as 203, 205–207.")
        first, last = int(m[1]), int(m[2] or m[1])
        if last < first:
            raise Refused(f"“{part}” runs backwards.")
        if last - first + len(found) > 10_000:
            raise Refused(f"“{part}” asks for more than 10 000 fixtures.")
        found.extend(range(first, last + 1))
    return found


def read_ip(text: str) -> str:
    """Four parts of 0..255; what cannot be one box's address is refused with the reason."""
    parts = text.strip().split(".")
    if len(parts) != 4:
        raise Refused(f"“{text.strip()}” has {len(parts)} parts; an IP address has four, such as 10.0.40.21.")
    for p in parts:
        if not re.fullmatch(r"\d{1,3}", p) or int(p) > 255:
            raise Refused(f"“{p}” in “{text.strip()}” is not a number from 0 to 255.")
    clean = ".".join(str(int(p)) for p in parts)
    if clean == "0.0.0.0":
        raise Refused("0.0.0.0 means “no address yet”; a box needs one of its own.")
    if int(parts[0]) >= 224:
        raise Refused(f"{clean} is a {'mask' if int(parts[0]) == 255 else 'multicast address'}, not one box.")
    return clean


def read_sacn(text: str) -> int:
    m = re.fullmatch(r"\s*(?:sacn\s*)?(\d+)\s*", text.lower())
    if not m:
        raise Refused(f"“{text.strip()}” is no sACN universe. Write a number from 1 to {HIGHEST_SACN}.")
    n = int(m[1])
    if not 1 <= n <= HIGHEST_SACN:
        raise Refused(f"There is no sACN universe {n}: they run from 1 to {HIGHEST_SACN}.")
    return n


def read_artnet(text: str) -> int:
    """`0/0/3` (net/sub-net/universe), `3` (the 15-bit number), `0x003` (hexadecimal) → Port-Address."""
    t = re.sub(r"^\s*art(-?net)?\s*", "", text.lower()).strip()
    if re.fullmatch(r"\d+\.\d+\.\d+\.\d+", t):
        raise Refused(f"“{text.strip()}” looks like a network mask. Art-Net's sub-net is a number from 0 to 15.")
    m = re.fullmatch(r"(\d+)\s*[/:.]\s*(\d+)\s*[/:.]\s*(\d+)", t)
    if m:
        net, sub, uni = (int(g) for g in m.groups())
        for value, top, word in ((net, 127, "net"), (sub, 15, "sub-net"), (uni, 15, "universe")):
            if value > top:
                raise Refused(f"Art-Net's {word} runs from 0 to {top}; {value} is too high.")
        return port_address(net, sub, uni)
    m = re.fullmatch(r"0x([0-9a-f]+)|(\d+)", t)
    if not m:
        raise Refused(f"“{text.strip()}” is no Art-Net address. Write net/sub/universe (0/0/3), 3 or 0x003.")
    n = int(m[1], 16) if m[1] else int(m[2])
    if n > HIGHEST_PORT_ADDRESS:
        raise Refused(f"Art-Net addresses run from 0 to {HIGHEST_PORT_ADDRESS}; {n} is too high.")
    return n


def read_wire(protocol: str, text: str) -> int:
    """The number a feed has on its wire: an sACN universe, a Port-Address, a DDP destination or a serial line."""
    if protocol in ("sacn", "artnet"):
        return read_sacn(text) if protocol == "sacn" else read_artnet(text)
    low, high, what = (1, 249, "DDP destination") if protocol == "ddp" else (1, 999, "serial line")
    m = re.fullmatch(r"\s*(?:ddp|line|serial)?\s*(\d+)\s*", text.lower())
    if not m or not low <= int(m[1]) <= high:
        raise Refused(f"“{text.strip()}” is no {what}. Write a number from {low} to {high}.")
    return int(m[1])


def say_artnet(address: int) -> str:
    return "{}/{}/{}".format(*net_sub_universe(address))


def say_wire(protocol: str, wire: int) -> str:
    """`sACN 3`, `Art 0/0/3`, `DDP 1` or `line 2`."""
    if protocol in ("ddp", "serial"):
        return f"DDP {wire}" if protocol == "ddp" else f"line {wire}"
    return f"sACN {wire}" if protocol == "sacn" else f"Art {say_artnet(wire)}"


def say_protocol(protocol: str) -> str:
    return {"sacn": "sACN", "artnet": "Art-Net", "ddp": "DDP", "serial": "serial line"}[protocol]


def every_way(protocol: str, wire: int) -> list[tuple[str, str]]:
    """All the ways the trade writes one wire universe, so that an off-by-one cannot hide."""
    if protocol == "ddp":
        return [("DDP destination id", f"{wire}{' (display)' if wire == 1 else ''}")]
    if protocol == "serial":
        return [("Serial line", str(wire))]
    if protocol == "sacn":
        return [
            ("sACN universe", str(wire)),
            ("Multicast group", f"239.255.{wire >> 8}.{wire & 255}"),
            ("Counted from 0", str(wire - 1)),
            ("Hexadecimal", f"0x{wire:04X}"),
            ("Art-Net of that number", f"{say_artnet(wire)} = {wire}" if wire <= HIGHEST_PORT_ADDRESS else "none"),
        ]
    return [
        ("Art-Net net/sub/uni", say_artnet(wire)),
        ("One number, from 0", str(wire)),
        ("One number, from 1", str(wire + 1)),
        ("Hexadecimal", f"0x{wire:04X}"),
        ("sACN of that number", str(wire) if wire else "none: sACN has no 0"),
    ]
