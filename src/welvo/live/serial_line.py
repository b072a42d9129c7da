"""DMX lines on serial ports of this computer: which there are, and frames put out on them.

Each line has a thread of its own. A frame takes 23 ms on the cable, and ends with waiting until the last octet has
left: nothing else may wait for that. The thread always sends the newest frame it was offered, so a line that is slower
than its plan drops frames and never falls behind. A port that is missing, busy or pulled out is tried again every
second, and why it does not work is in `wrong`.

The lowest layer (break, mark, octets) is behind `Layer`, because breaks do not cross a pseudo-terminal: simulated lines
take the same calls as datagrams of a local socket (see `welvo.standins.line`).
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple, Protocol

from welvo.protocols import dmx512

TRY_AGAIN = 1.0
"""Seconds between two attempts to open a port that could not be opened."""
WRITE_WITHIN = 0.5
"""Seconds that a port may take for one frame before it counts as stuck."""
REHEARSAL = "rehearsal:"
"""How the name of a simulated line begins; its number follows."""


class LineError(Exception):
    """A port that cannot be used; the message says why."""


class SerialPort(NamedTuple):
    """A serial port of this computer: what opens it, what it is called, what is known of it."""

    name: str
    words: str


class Layer(Protocol):
    """The lowest layer of a line."""

    def line_break(self, seconds: float, mark: float) -> None: ...

    def write(self, octets: bytes) -> None:
        """Gives back when the last octet is on the line."""

    def read(self, most: int, seconds: float) -> bytes:
        """What came in: as soon as there is something, or nothing after so long."""

    def close(self) -> None: ...


def serial_ports() -> list[SerialPort]:
    """The serial ports that are plugged in, by a name that stays the same when they are plugged in elsewhere."""
    from serial.tools import list_ports

    stable = {}
    with contextlib.suppress(OSError):
        stable = {os.path.realpath(link): str(link) for link in Path("/dev/serial/by-id").iterdir()}
    found = []
    for port in sorted(list_ports.comports(), key=lambda p: str(p.device)):
        told = (port.manufacturer, port.product or port.description, port.serial_number)
        more = [w for w in told if w and w != "n/a"]
        name = stable.get(os.path.realpath(port.device), port.device)
        found.append(SerialPort(name, " · ".join([Path(port.device).name, *more])))
    return found


class _Device:
    """A real serial port, by pyserial."""

    def __init__(self, name: str) -> None:
        import serial

        try:
            self._port = serial.Serial(
                name, dmx512.BAUD, stopbits=serial.STOPBITS_TWO, exclusive=True, write_timeout=WRITE_WITHIN
            )
        except (OSError, ValueError) as e:  # SerialException is an OSError
            raise LineError(_reason_of_error(name, e)) from e

    def line_break(self, seconds: float, mark: float) -> None:
        self._port.break_condition = True
        _at_least(seconds)
        self._port.break_condition = False
        _at_least(mark)

    def write(self, octets: bytes) -> None:
        begun = time.monotonic()
        self._port.write(octets)
        self._port.flush()
        # Some adapters say that they are done when the octets are in their own buffer: a break would cut them short.
        left = dmx512.SLOT * len(octets) - (time.monotonic() - begun)
        if left > 0:
            time.sleep(left)

    def read(self, most: int, seconds: float) -> bytes:
        self._port.timeout = seconds
        first: bytes = self._port.read(1)
        return first + self._port.read(min(most - 1, self._port.in_waiting)) if first else b""

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._port.close()


def is_rehearsed(number: int) -> bool:
    """Whether a simulated line of that number is running."""
    try:
        _Rehearsed(f"{REHEARSAL}{number}").close()
    except LineError:
        return False
    return True


class _Rehearsed:
    """A simulated line."""

    def __init__(self, name: str) -> None:
        from welvo.standins.line import HEAD, rehearsal_address

        self._head = HEAD
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        self._socket.bind(b"")  # any free name, so that what is on the line can answer
        try:
            self._socket.connect(rehearsal_address(name.removeprefix(REHEARSAL)))
        except OSError as e:
            self._socket.close()
            raise LineError(f"no simulated line {name.removeprefix(REHEARSAL)} is running") from e
        self._socket.settimeout(WRITE_WITHIN)

    def line_break(self, seconds: float, mark: float) -> None:
        self._socket.send(self._head.pack(b"B", seconds, mark))

    def write(self, octets: bytes) -> None:
        self._socket.send(self._head.pack(b"D", 0, 0) + octets)
        time.sleep(dmx512.SLOT * len(octets))

    def read(self, most: int, seconds: float) -> bytes:
        self._socket.settimeout(max(0.001, seconds))
        try:
            return self._socket.recv(most)
        except TimeoutError:
            return b""
        finally:
            self._socket.settimeout(WRITE_WITHIN)

    def close(self) -> None:
        self._socket.close()


def open_layer(name: str) -> Layer:
    """Raises LineError in words."""
    return _Rehearsed(name) if name.startswith(REHEARSAL) else _Device(name)


def _reason_of_error(name: str, error: Exception) -> str:
    number = getattr(error, "errno", None)
    if number is None and error.args and isinstance(error.args[0], str):  # some carry it in their text alone
        m = re.search(r"\((\d+), ", error.args[0])
        number = int(m[1]) if m else None
    short = Path(name).name
    if number in (errno.ENOENT, errno.ENODEV, errno.ENXIO):
        return f"serial port {short} is not there"
    if number in (errno.EBUSY, errno.EAGAIN, errno.EWOULDBLOCK) or "exclusively lock" in str(error):
        return f"serial port {short} is used by another program"
    if number in (errno.EACCES, errno.EPERM):
        return f"serial port {short} may not be opened by you; the group of serial ports (dialout) may"
    if number in (errno.ENOTTY, errno.EINVAL) or isinstance(error, ValueError):
        return f"{short} is no serial port that does 250 000 baud"
    return f"serial port {short}: {getattr(error, 'strerror', None) or error}"


def _at_least(seconds: float) -> None:
    """Wait so long or longer: a sleep of microseconds ends late, which a break and a mark may."""
    until = time.perf_counter() + seconds
    time.sleep(seconds)
    while time.perf_counter() < until:
        pass


class OfferedLine:
    """One line that frames are offered to. Its thread begins at once and ends with `close`."""

    def __init__(self, name: str, opened: Callable[[str], Layer] = open_layer) -> None:
        self.name = name
        self.sent = 0
        self.dropped = 0
        self.wrong = ""
        self._open = opened
        self._news = threading.Condition()
        self._frame: bytes | None = None
        self._closing = False
        self._thread = threading.Thread(target=self._send_frames, name=f"line {name}", daemon=True)
        self._thread.start()

    def offer_frame(self, slots: bytes) -> None:
        """The newest frame; it takes the place of one that still waits."""
        with self._news:
            self.dropped += self._frame is not None
            self._frame = slots
            self._news.notify_all()

    def close(self, within: float = 0.3) -> None:
        """Put out what waits, and that once more, then let the port go; never longer than `within` seconds."""
        with self._news:
            self._closing = True
            self._news.notify_all()
        self._thread.join(within)

    def _send_frames(self) -> None:
        layer: Layer | None = None
        last, again = b"", 1  # many receivers take a packet only at the next break, so the last one is repeated
        while True:
            if layer is None:
                try:
                    layer = self._open(self.name)
                    self.wrong = ""
                except LineError as e:
                    self.wrong = str(e)
                    with self._news:
                        if self._closing or self._news.wait_for(lambda: self._closing, TRY_AGAIN):
                            return
                    continue
            with self._news:
                self._news.wait_for(lambda: self._frame is not None or self._closing)
                frame, self._frame = self._frame, None
            if frame is None:
                if not again or not self.sent:
                    layer.close()
                    return
                frame, again = last, again - 1
            begun = time.monotonic()
            try:
                layer.line_break(dmx512.BREAK, dmx512.MARK)
                layer.write(dmx512.dmx_packet(frame))
            except OSError as e:  # it was pulled out, or does not take anything any more
                self.wrong = _say_gone(self.name, e)
                layer.close()
                layer = None
                continue
            self.sent += 1
            last = frame
            left = dmx512.SHORTEST_PACKET - (time.monotonic() - begun)
            if left > 0:
                time.sleep(left)


def _say_gone(name: str, error: OSError) -> str:
    if name.startswith(REHEARSAL):
        return f"the simulated line {name.removeprefix(REHEARSAL)} ended"
    if "timeout" in type(error).__name__.lower() or isinstance(error, TimeoutError):
        return f"serial port {Path(name).name} takes no more octets"
    return f"serial port {Path(name).name} was pulled out, or failed: {error.strerror or error}"
