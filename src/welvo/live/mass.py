"""Many packets in one call of the kernel.

A thousand universes are 44,000 packets a second. One by one, a third of a core goes into entering the kernel and into
calls between; `sendmmsg` takes a whole group at once, and `recvmmsg` gives all that waits. What is sent are the
streams' own buffers, so nothing is copied here: what a stream writes into its packet is what leaves.
"""

from __future__ import annotations

import ctypes
import os
import socket
from collections.abc import Sequence
from typing import Any, Protocol

WORTH_IT = 8
"""From so many packets on; below it the arrays cost more than they save."""


class DueStream(Protocol):
    """What is sent: one packet to some targets, when it is due. `wrong` says why the network did not take it."""

    packet: bytearray
    targets: list[tuple[str, int]]
    wrong: str

    def make_due(self, number: int, levels: bytes, now: float) -> bool: ...


class _Piece(ctypes.Structure):
    _fields_ = [("base", ctypes.c_void_p), ("size", ctypes.c_size_t)]


class _Header(ctypes.Structure):
    _fields_ = [
        ("name", ctypes.c_void_p),
        ("name_size", ctypes.c_uint32),
        ("pieces", ctypes.POINTER(_Piece)),
        ("piece_count", ctypes.c_size_t),
        ("control", ctypes.c_void_p),
        ("control_size", ctypes.c_size_t),
        ("flags", ctypes.c_int),
    ]


class _Message(ctypes.Structure):
    _fields_ = [("header", _Header), ("sent", ctypes.c_uint)]


_send: Any = getattr(ctypes.CDLL(None, use_errno=True), "sendmmsg", None)


def can_send_in_mass(sock: object, streams: Sequence[object]) -> bool:
    """Whether a group of streams can be sent in one call on a socket."""
    return _send is not None and isinstance(sock, socket.socket) and len(streams) >= WORTH_IT


class Mass:
    """A group of streams of one socket, in the order in which they leave."""

    def __init__(self, sock: socket.socket, streams: Sequence[DueStream]) -> None:
        self._streams = list(streams)
        self._fd = sock.fileno()
        count = sum(len(s.targets) for s in streams)
        self._messages = (_Message * max(1, count))()
        self._size = ctypes.sizeof(_Message)
        self._at = ctypes.addressof(self._messages)
        self._kept: list[object] = []
        self._first: list[int] = []
        """For each stream the number of its first message; one more at the end."""
        self._owner: list[int] = []
        n = 0
        for which, s in enumerate(streams):
            self._first.append(n)
            view = (ctypes.c_char * len(s.packet)).from_buffer(s.packet)
            piece = _Piece(ctypes.addressof(view), len(s.packet))
            self._kept += [view, piece]
            for ip, port in s.targets:
                raw = socket.AF_INET.to_bytes(2, "little") + port.to_bytes(2, "big") + socket.inet_aton(ip) + bytes(8)
                name = ctypes.create_string_buffer(raw, 16)
                self._kept.append(name)
                header = self._messages[n].header
                header.name, header.name_size = ctypes.addressof(name), 16
                header.pieces, header.piece_count = ctypes.pointer(piece), 1
                self._owner.append(which)
                n += 1
        self._first.append(n)

    def send_due(self, number: int, levels: bytes, now: float) -> int:
        """Send what is due, in as few calls as there are gaps; gives how many packets the network did not take."""
        failed = 0
        begin = -1
        for n, s in enumerate(self._streams):
            if s.make_due(number, levels, now):
                if begin < 0:
                    begin = n
            elif begin >= 0:
                failed += self._send_out(begin, n)
                begin = -1
        return failed + (self._send_out(begin, len(self._streams)) if begin >= 0 else 0)

    def _send_out(self, first: int, behind: int) -> int:
        at, end = self._first[first], self._first[behind]
        failed: dict[int, str] = {}
        missed = 0
        while at < end:
            sent = _send(self._fd, ctypes.c_void_p(self._at + at * self._size), end - at, 0)
            if sent > 0:
                at += sent
                continue
            failed[self._owner[at]] = os.strerror(ctypes.get_errno())  # of the first that is left; the others follow
            missed += 1
            at += 1
        for n in range(first, behind):
            s = self._streams[n]
            why = failed.get(n, "")
            if why or (s.wrong and s.targets):
                s.wrong = why
        return missed


_receive: Any = getattr(ctypes.CDLL(None, use_errno=True), "recvmmsg", None)
AT_ONCE, LARGEST = 64, 2048
_DONT_WAIT = 0x40


class Gather:
    """Takes what waits at a socket: up to 64 datagrams with their senders' addresses, in one call where that is
    possible."""

    def __init__(self) -> None:
        self._buffer = bytearray(AT_ONCE * LARGEST)
        self._view = memoryview(self._buffer)
        self._names = bytearray(AT_ONCE * 16)
        self._name_view = memoryview(self._names)
        self._known: dict[bytes, str] = {}
        whole = (ctypes.c_char * len(self._buffer)).from_buffer(self._buffer)
        names = (ctypes.c_char * len(self._names)).from_buffer(self._names)
        self._messages = (_Message * AT_ONCE)()
        self._kept: list[object] = [whole, names]
        for n in range(AT_ONCE):
            piece = _Piece(ctypes.addressof(whole) + n * LARGEST, LARGEST)
            self._kept.append(piece)
            header = self._messages[n].header
            header.name, header.name_size = ctypes.addressof(names) + 16 * n, 16
            header.pieces, header.piece_count = ctypes.pointer(piece), 1

    def take_datagrams(self, sock: socket.socket) -> list[tuple[bytes, str]]:
        """Datagrams that wait, the oldest first; empty when none do, or the socket is closed."""
        if _receive is None:
            return _one_by_one(sock)
        count = _receive(sock.fileno(), self._messages, AT_ONCE, _DONT_WAIT, None)
        found = []
        for n in range(count):
            name = bytes(self._name_view[16 * n + 4 : 16 * n + 8])
            ip = self._known.get(name)
            if ip is None:
                if len(self._known) > 4096:
                    self._known.clear()
                ip = self._known[name] = socket.inet_ntoa(name)
            message = self._messages[n]
            found.append((bytes(self._view[n * LARGEST : n * LARGEST + message.sent]), ip))
        return found


def _one_by_one(sock: socket.socket) -> list[tuple[bytes, str]]:
    found = []
    for _ in range(AT_ONCE):
        try:
            raw, sender = sock.recvfrom(LARGEST)
        except OSError:
            break
        found.append((raw, sender[0]))
    return found
