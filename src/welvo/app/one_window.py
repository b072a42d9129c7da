"""One window for each file: a second double-click brings the first window to the front.

A window that has a file open listens at a socket named after it, for this user alone. Whoever is asked to open a file
looks there first. A name that nobody answers at is left over from a program that died, and is taken.
"""

from __future__ import annotations

import hashlib
import os
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from welvo.app.window import Window

WAIT = 300
"""Milliseconds in which a living window answers."""


def socket_name(path: Path) -> str:
    """The name of the socket of a file, whatever way leads to it."""
    real = os.path.realpath(path)
    return f"welvo-{os.getuid()}-{hashlib.sha256(os.fsencode(real)).hexdigest()[:24]}"


def raise_other(path: Path) -> bool:
    """Bring the window that has a file open to the front; False where there is none."""
    from PySide6.QtNetwork import QLocalSocket

    socket = QLocalSocket()
    socket.connectToServer(socket_name(path))
    if not socket.waitForConnected(WAIT):
        return False
    answered = socket.waitForReadyRead(WAIT) and bytes(socket.readAll().data()).startswith(b"here")
    socket.disconnectFromServer()
    return answered


class Doorbell:
    """Listens for those who want the file of a window, and follows it from file to file."""

    def __init__(self, window: Window) -> None:
        self._window = window
        self._server: object | None = None
        self.name = ""
        window.session.changed.connect(lambda _: self.follow_file())
        self.follow_file()

    def follow_file(self) -> None:
        """Listen for the file that is open now."""
        path = self._window.session.path
        name = socket_name(path) if path else ""
        if name == self.name:
            return
        self.close()
        self.name = name
        if path:
            self._listen_for_file(name)

    def _listen_for_file(self, name: str) -> None:
        from PySide6.QtNetwork import QLocalServer, QLocalSocket

        server = QLocalServer(self._window)
        server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        if not server.listen(name):
            probe = QLocalSocket()
            probe.connectToServer(name)
            if probe.waitForConnected(WAIT):
                server.deleteLater()
                return  # another window has it open; both go on, and saving notices it
            QLocalServer.removeServer(name)
            server.listen(name)

        def ring() -> None:
            while server.hasPendingConnections():
                guest = server.nextPendingConnection()
                guest.write(b"here")
                guest.flush()
                guest.disconnected.connect(guest.deleteLater)
            self._window.come_forward()

        server.newConnection.connect(ring)
        self._server = server

    def close(self) -> None:
        from PySide6.QtNetwork import QLocalServer

        if isinstance(self._server, QLocalServer):
            self._server.close()
            self._server.deleteLater()
        self._server = None
        self.name = ""
