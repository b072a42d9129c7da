"""The computer's network interfaces, and who holds a port."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import ipaddress
import os
import socket
import struct
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct

from welvo.rig.addresses import same_network


class Interface(Struct, frozen=True):
    name: str
    ip: str
    mask: str

    @property
    def broadcast_address(self) -> str:
        return str(ipaddress.IPv4Network(f"{self.ip}/{self.mask}", strict=False).broadcast_address)

    def holds_address(self, ip: str) -> bool:
        """Whether an address is in the interface's own network, so that packets to it leave here and nowhere else."""
        return same_network(ip, f"{self.ip}/{self.mask}")

    @property
    def label(self) -> str:
        return f"{self.name} · {self.ip}"


LOOPBACK = Interface("lo", "127.0.0.1", "255.0.0.0")


def list_interfaces() -> list[Interface]:
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
    return next((i for i in list_interfaces() if i.ip == ip), None)


_SIOCGIFFLAGS, _SIOCGIFINDEX, _UP, _RUNNING = 0x8913, 0x8933, 0x1, 0x40


class State(NamedTuple):
    """How an interface is now: what keeps it from being used (empty: nothing), and its number in the kernel, which is
    another one when an adapter was pulled and put in again."""

    trouble: str
    number: int


def state_of(interface: Interface) -> State:
    """Whether an interface can be used now, or is gone, down, without a link or its address.

    A few calls into the kernel that never wait, so that it may be asked several times a second.
    """
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    number = 0
    try:
        name = interface.name.encode()[:15].ljust(32, b"\0")
        number = struct.unpack_from("i", fcntl.ioctl(sock, _SIOCGIFINDEX, name), 16)[0]
        flags = struct.unpack_from("H", fcntl.ioctl(sock, _SIOCGIFFLAGS, name), 16)[0]
        if not flags & _UP:
            return State(f"{interface.name} is switched off", number)
        if not flags & _RUNNING:
            return State(f"{interface.name} has no link: nothing is plugged in", number)
        sock.bind((interface.ip, 0))
    except OSError as e:
        if e.errno == errno.ENODEV:
            return State(f"{interface.name} is gone", number)
        return State(f"{interface.name} no longer has the address {interface.ip}", number)
    finally:
        sock.close()
    return State("", number)


def trouble_of(interface: Interface) -> str:
    """What keeps an interface from being used now, in words; empty when nothing does."""
    return state_of(interface).trouble


ROLES = {6454: "Art-Net", 5568: "sACN"}


def _is_ours(pid: int) -> bool:
    """Whether a process is this one, or was started by it."""
    import psutil

    try:
        return pid == os.getpid() or any(p.pid == os.getpid() for p in psutil.Process(pid).parents())
    except psutil.Error:
        return False


def port_taken(ip: str, port: int) -> str:
    """In words: which role's port is taken where, and by whom if the system tells.

    A process of our own is never called a program to end.
    """
    import psutil

    what = f"The {ROLES.get(port, 'UDP')} port (UDP {port}) on {ip}"
    holder = ""
    try:
        for c in psutil.net_connections("udp4"):
            if c.laddr and c.laddr.port == port and c.laddr.ip in (ip, "0.0.0.0") and c.pid:
                if _is_ours(c.pid):
                    return f"{what} is held by Welvo itself: by a rehearsed device, or by output that is just ending."
                holder = f" by {psutil.Process(c.pid).name()} (process {c.pid})"
                break
    except (psutil.Error, OSError):
        pass
    return f"{what} is taken{holder or ' by another program'}. End that program, or choose another interface."


def dropped_by(inodes: set[int], table: str = "/proc/net/udp") -> int:
    """Datagrams that the kernel had for some sockets and had to drop, because they were not taken in time."""
    total = 0
    with contextlib.suppress(OSError, ValueError, IndexError):
        for line in Path(table).read_text("ascii").splitlines()[1:]:
            parts = line.split()
            if int(parts[9]) in inodes:
                total += int(parts[12])
    return total
