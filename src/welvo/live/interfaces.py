"""The computer's network interfaces, and who holds a port."""

from __future__ import annotations

import contextlib
import fcntl
import ipaddress
import socket
import struct
from pathlib import Path

from msgspec import Struct

from welvo.rig.addresses import same_network


class Interface(Struct, frozen=True):
    name: str
    ip: str
    mask: str

    @property
    def broadcast(self) -> str:
        return str(ipaddress.IPv4Network(f"{self.ip}/{self.mask}", strict=False).broadcast_address)

    def holds(self, ip: str) -> bool:
        """Whether an address is in the interface's own network, so that packets to it leave here and nowhere else."""
        return same_network(ip, f"{self.ip}/{self.mask}")

    @property
    def label(self) -> str:
        return f"{self.name} · {self.ip}"


LOOPBACK = Interface("lo", "127.0.0.1", "255.0.0.0")


def interfaces() -> list[Interface]:
    """All IPv4 interfaces that are up, loopback first: the choice that lets nothing out of the computer."""
    import psutil

    found = [LOOPBACK]
    stats = psutil.net_if_stats()
    for name, addresses in psutil.net_if_addrs().items():
        for a in addresses:
            if a.family == socket.AF_INET and a.netmask and name in stats and stats[name].isup:
                if not a.address.startswith("127."):
                    found.append(Interface(name, a.address, a.netmask))
    return found


def interface_of(ip: str) -> Interface | None:
    """The interface that has an address of its own; any 127.x.x.x counts as loopback with that address."""
    try:
        if ipaddress.IPv4Address(ip).is_loopback:
            return Interface("lo", ip, "255.0.0.0")
    except ValueError:
        return None
    return next((i for i in interfaces() if i.ip == ip), None)


_SIOCGIFFLAGS, _UP, _RUNNING = 0x8913, 0x1, 0x40


def trouble_of(interface: Interface) -> str:
    """What keeps an interface from being used now: it is gone, down, without a link or its address. Empty: nothing.

    Three calls into the kernel that never wait, so that it may be asked several times a second.
    """
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    try:
        name = interface.name.encode()[:15].ljust(32, b"\0")
        flags = struct.unpack_from("H", fcntl.ioctl(sock, _SIOCGIFFLAGS, name), 16)[0]
        if not flags & _UP:
            return f"{interface.name} is switched off"
        if not flags & _RUNNING:
            return f"{interface.name} has no link: nothing is plugged in"
        sock.bind((interface.ip, 0))
    except OSError as e:
        if e.errno == 19:  # no such device
            return f"{interface.name} is gone"
        return f"{interface.name} no longer has the address {interface.ip}"
    finally:
        sock.close()
    return ""


ROLES = {6454: "Art-Net", 5568: "sACN"}


def port_taken(ip: str, port: int) -> str:
    """In words: which role's port is taken where, and by whom if the system tells."""
    import psutil

    holder = ""
    try:
        for c in psutil.net_connections("udp4"):
            if c.laddr and c.laddr.port == port and c.laddr.ip in (ip, "0.0.0.0") and c.pid:
                holder = f" by {psutil.Process(c.pid).name()} (process {c.pid})"
                break
    except (psutil.Error, OSError):
        pass
    return (
        f"The {ROLES.get(port, 'UDP')} port (UDP {port}) on {ip} is taken{holder or ' by another program'}. "
        f"End that program, or choose another interface."
    )


def dropped_by(inodes: set[int], table: str = "/proc/net/udp") -> int:
    """Datagrams that the kernel had for some sockets and had to drop, because they were not taken in time."""
    total = 0
    with contextlib.suppress(OSError, ValueError, IndexError):
        for line in Path(table).read_text("ascii").splitlines()[1:]:
            parts = line.split()
            if int(parts[9]) in inodes:
                total += int(parts[12])
    return total
