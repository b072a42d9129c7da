"""Hears many multicast groups, with few descriptors where there are few.

A socket bound to a group's own address hears that group and nothing else, and never stands in the way of another
program, whichever of the two begins first. So every group gets a socket of its own as long as there are descriptors;
the limit of open files is raised for it as far as the system allows. Where that is not far enough, because nothing
could be saved any more, the rest share sockets, as many on one as the kernel allows (20 as a rule). A shared socket
cannot be bound to an address of its own: it is bound to the interface instead, and a filter in the kernel lets pass
only what was sent to a group, so that it hears no more than the others do. It does stand in the way of programs that
want the port for themselves, and they in its way, which is why it comes last.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import resource
import select
import socket
import struct
from collections.abc import Callable, Iterable
from pathlib import Path

from welvo.live.interfaces import Interface
from welvo.protocols import sacn

RESERVE = 160
"""Descriptors that are left alone, for files, pipes and devices."""
_IP_MULTICAST_ALL = 49
"""Linux socket option; 0 = only groups joined on this very socket. Not named in Python's socket module."""
_SO_ATTACH_FILTER = 26


def raise_limit(wanted: int = 16384) -> int:
    """Allow this process more open files, as far as the system lets it; gives how many it may open."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    most = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
    if soft != resource.RLIM_INFINITY and soft < most:
        with contextlib.suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
            return most
    return soft if soft != resource.RLIM_INFINITY else 1 << 20


def free_descriptors() -> int:
    """How many descriptors may be taken without touching the reserve."""
    soft, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft == resource.RLIM_INFINITY:
        return 1 << 20
    return max(0, soft - len(os.listdir("/proc/self/fd")) - RESERVE)


def groups_per_socket() -> int:
    """How many groups the kernel lets one socket join."""
    try:
        return max(1, int(Path("/proc/sys/net/ipv4/igmp_max_memberships").read_text("ascii")))
    except (OSError, ValueError):
        return 20


def _only_groups(sock: socket.socket) -> None:
    """Let pass only packets to 239.255.x.x: a classic filter that looks at the destination in the IP header."""
    lines = (
        (0x20, 0, 0, 0xFFF00000 + 16),  # load the destination address (offset 16 from the network header)
        (0x54, 0, 0, 0xFFFF0000),  # its first two octets
        (0x15, 0, 1, 0xEFFF0000),  # 239.255?
        (0x06, 0, 0, 0xFFFFFFFF),  # take the packet
        (0x06, 0, 0, 0),  # drop it
    )
    code = ctypes.create_string_buffer(b"".join(struct.pack("HBBI", *line) for line in lines))
    sock.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, struct.pack("HP", len(lines), ctypes.addressof(code)))


class Ears:
    """Sockets that are listened to, and which of them have something: with a thousand of them the general selector
    takes more time than the packets do. Opened and closed by any thread while another one waits."""

    def __init__(self) -> None:
        self._epoll = select.epoll()
        self._sockets: dict[int, tuple[socket.socket, bool]] = {}

    def add_socket(self, sock: socket.socket, many: bool = True) -> None:
        """`many`: it is emptied at once; else one datagram is taken each time, as the next one is not to be expected
        sooner."""
        self._sockets[sock.fileno()] = (sock, many)
        self._epoll.register(sock.fileno(), select.EPOLLIN)

    def drop_socket(self, sock: socket.socket) -> None:
        fd = sock.fileno()
        if self._sockets.pop(fd, None):
            with contextlib.suppress(OSError):
                self._epoll.unregister(fd)

    def ready_sockets(self, seconds: float) -> list[tuple[socket.socket, bool]]:
        """Those that have something, waited for so long at the most; each with whether it has many."""
        known = self._sockets
        return [known[fd] for fd, _ in self._epoll.poll(seconds, 4096) if fd in known]

    def open_descriptors(self) -> list[int]:
        return list(self._sockets)

    def close(self) -> None:
        self._epoll.close()


class Groups:
    """The groups joined on one interface. Their sockets are listened to by `ears`."""

    def __init__(self, interface: Interface, ears: Ears) -> None:
        self._interface = interface
        self._ears = ears
        self._alone: dict[int, socket.socket] = {}
        self._shared: list[tuple[socket.socket, set[int]]] = []
        self.room = groups_per_socket()
        self.free: Callable[[], int] = free_descriptors

    @property
    def joined_universes(self) -> set[int]:
        return set(self._alone).union(*(held for _, held in self._shared))

    @property
    def count_sockets(self) -> int:
        return len(self._alone) + len(self._shared)

    def renew_groups(self, universes: Iterable[int]) -> list[str]:
        """Hear universes with fresh sockets: those of an interface that was pulled hear nothing any more."""
        self.close()
        return self.join_universes(universes)

    def join_universes(self, universes: Iterable[int]) -> list[str]:
        """Hear these universes and no others any more; gives what cannot be heard, in words."""
        wanted = set(universes)
        for universe in self.joined_universes - wanted:
            self._leave_universe(universe)
        new = sorted(wanted - self.joined_universes)
        if new and self.free() < len(new):
            raise_limit(len(new) + len(self.joined_universes) + 4 * RESERVE)
        spare = self.free() if new else 0
        kept_to_share = 0 if spare >= len(new) else -(-len(new) // self.room)
        failed: list[int] = []
        why = ""
        for universe in new:
            try:
                if spare <= kept_to_share:
                    spare -= self._share_socket(universe, spare)
                    continue
                self._alone[universe] = self._open_socket(sacn.group_of_universe(universe), universe)
                spare -= 1
            except OSError as e:
                failed.append(universe)
                why = why or e.strerror or str(e)
        if not failed:
            return []
        which = (
            f"universe {failed[0]}" if len(failed) == 1 else f"{len(failed)} universes, {failed[0]} to {failed[-1]},"
        )
        return [f"sACN {which} cannot be heard as multicast: {why}."]

    def _share_socket(self, universe: int, spare: int) -> int:
        """Hear a universe on a socket of several; gives how many descriptors that took."""
        place = next((s for s in reversed(self._shared) if len(s[1]) < self.room), None)
        if place is not None:
            self._change_membership(place[0], universe, socket.IP_ADD_MEMBERSHIP)
            place[1].add(universe)
            return 0
        if spare <= 0:
            raise OSError(errno.EMFILE, "no more files may be open at once (ulimit -n)")
        try:
            self._shared.append((self._open_socket("", universe), {universe}))
        except OSError:  # another program wants the port for itself on some address: then one more of its own
            self._alone[universe] = self._open_socket(sacn.group_of_universe(universe), universe)
        return 1

    def _open_socket(self, address: str, universe: int) -> socket.socket:
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
            sock.setsockopt(socket.IPPROTO_IP, _IP_MULTICAST_ALL, 0)
            if not address:
                with contextlib.suppress(OSError):  # the filter and the membership hold even where this is not allowed
                    sock.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, self._interface.name.encode() + b"\0")
                _only_groups(sock)
            sock.bind((address, sacn.PORT))
            self._change_membership(sock, universe, socket.IP_ADD_MEMBERSHIP)
            sock.setblocking(False)
            self._ears.add_socket(sock, many=not address)
        except OSError:
            sock.close()
            raise
        return sock

    def _change_membership(self, sock: socket.socket, universe: int, option: int) -> None:
        member = socket.inet_aton(sacn.group_of_universe(universe)) + socket.inet_aton(self._interface.ip)
        sock.setsockopt(socket.IPPROTO_IP, option, member)

    def _leave_universe(self, universe: int) -> None:
        sock = self._alone.pop(universe, None)
        if sock is None:
            n, (shared, held) = next((n, s) for n, s in enumerate(self._shared) if universe in s[1])
            held.discard(universe)
            if held:
                with contextlib.suppress(OSError):
                    self._change_membership(shared, universe, socket.IP_DROP_MEMBERSHIP)
                return
            del self._shared[n]
            sock = shared
        self._ears.drop_socket(sock)
        sock.close()

    def close(self) -> None:
        for sock in (*self._alone.values(), *(s for s, _ in self._shared)):
            self._ears.drop_socket(sock)
            sock.close()
        self._alone.clear()
        self._shared.clear()
