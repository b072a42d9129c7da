"""Things that many tests need: small rigs built by hand."""

from __future__ import annotations

import ctypes
import fcntl
import gc
import os
import socket
import struct
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import settings
from pytestqt.qtbot import QtBot

from welvo.formats.chart import read_chart
from welvo.patience import PatienceLimit, crowding
from welvo.rig.document import Rig
from welvo.rig.patched import Element, Fixture, Place
from welvo.rig.profile import Profile
from welvo.rig.runs import Segment
from welvo.rig.wiring import Device, DeviceModel, Feed, Port, Sender, SettingSpec, Universe

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

# On CI the same examples every time; at a desk new ones, which find what nobody thought of.
settings.register_profile("ci", derandomize=True, deadline=None)
settings.register_profile("desk", deadline=None)
settings.load_profile("ci" if os.environ.get("CI") else "desk")


WHOLE_EVERY = 20
_done = 0


_alone = False
"""Whether this process has a network of its own, so that its tests hear nobody else and need not wait for anybody."""
_NEW_NETWORK, _GET_FLAGS, _SET_FLAGS, _UP = 0x40000000, 0x8913, 0x8914, 0x1


def pytest_make_parametrize_id(config: pytest.Config, val: object, argname: str) -> str | None:
    """Octets and long texts are no name for a test: an archive holds the time of day, and several workers that do not
    find tests of the same names run none at all."""
    return argname if isinstance(val, bytes) or (isinstance(val, str) and len(val) > 60) else None


def _own_loopback() -> bool:
    """Give this process a network of its own, with nothing but its loopback interface; False where it may not."""
    if ctypes.CDLL(None, use_errno=True).unshare(_NEW_NETWORK):
        return False
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sock:
        asked = b"lo".ljust(16, b"\0")
        flags = struct.unpack_from("H", fcntl.ioctl(sock, _GET_FLAGS, asked + bytes(16)), 16)[0]
        fcntl.ioctl(sock, _SET_FLAGS, asked + struct.pack("H", flags | _UP) + bytes(14))
    return True


def pytest_configure() -> None:
    """Of several workers each gets a network of its own, where the system lets it. As in the program (see
    welvo.app.collecting) no thread but the first one ever collects, so that none can free the Python side of a widget
    that another test has left to Qt. And what is waited for is waited for in turns."""
    global _alone
    _alone = "PYTEST_XDIST_WORKER" in os.environ and _own_loopback()
    gc.disable()
    QtBot.waitUntil = QtBot.wait_until = patiently_until  # type: ignore[method-assign, assignment]


def patiently_until(self: QtBot, callback: Callable[[], object], *, timeout: int = 5000) -> None:
    """Run the event loop until a condition holds; on a busy machine for longer than the plain milliseconds."""
    limit, why = PatienceLimit(timeout / 1000), ""
    while True:
        try:
            if callback() in (True, None):
                return
        except AssertionError as e:
            why = f": {e}"
        if not limit.lasts():
            raise QtBot.TimeoutError(f"it did not come true in {limit.waited:.1f} s (of {timeout} ms){why}")
        self.wait(10)


def pytest_runtest_logfinish() -> None:
    global _done
    _done += 1
    gc.collect(2 if _done % WHOLE_EVERY == 0 else 1)


def slowed(seconds: float) -> float:
    """A bound for something that must not wait: the plain seconds, or on a crowded machine as many times more as there
    are processes for each processor, twice over because they take turns unevenly."""
    crowd = crowding()
    return seconds if crowd < 1.5 else 2 * crowd * seconds


def own_network() -> None:
    """Skip a test that makes a network of its own where this machine does not let it."""
    pair = ["unshare", "-n", "ip", "link", "add", "d0", "type", "veth", "peer", "name", "d1"]
    if os.getuid() or not Path("/usr/sbin/ip").exists() or subprocess.run(pair, capture_output=True).returncode:
        pytest.skip("this machine does not let a test make a network of its own")


def at(universe: int, address: int, **more: object) -> tuple[Place, ...]:
    return (Place(universe=f"u{universe}", address=address, **more),)  # type: ignore[arg-type]


def profile(name: str, chart: str, tint: int = 0) -> Profile:
    return Profile(name=name, code=name[:3].upper(), tint=tint, modes={"m": read_chart(chart).mode_of_chart("only")})


@pytest.fixture
def rig() -> Rig:
    return small_rig()


def small_rig() -> Rig:
    """Two universes, a head of 8 slots, a bar of 14 (one dimmer, shutter, 4 × RGB), a ribbon and a node on sACN.

    101 stands on 1.001–008, 102 on 1.009–016, 201 on 2.001–014; the ribbon of 10 RGB pixels on 2.101–130.
    """
    return Rig(
        name="Test rig",
        profiles={
            "head": profile("Head", "pan 16, tilt 16, dimmer, shutter = 255, zoom, gobo"),
            "bar": profile("Bar", "dimmer, shutter, 4 x (red green blue)", 1)
        }, universes={"u1": Universe(number=1, name="One"), "u2": Universe(number=2, name="Two")},
        fixtures={
            "a": Fixture(number=101, name="Left", profile="head", mode="m", at=at(1, 1)),
            "b": Fixture(number=102, name="Right", profile="head", mode="m", at=at(1, 9)),
            "c": Fixture(number=201, name="Bar", profile="bar", mode="m", at=at(2, 1)),
        }, elements={"e": Element(name="ribbon", pixels=10, order="RGB", at=at(2, 101)[0], tint=2, code="RIB")},
        senders={"s": Sender(name="Bench", kind="bench")},
        feeds={
            "w1": Feed(universe="u1", sender="s", wire=1),
            "w2": Feed(universe="u2", sender="s", protocol="artnet", wire=2, to="subscribers")
        }, device_models={"mod": node_model()},
        devices={
            "d": Device(
                name="NODE", model="mod", ip="127.0.0.60",
                ports={"A": Port(feed="w1", run=(Segment(kind="line", fixtures=("a", "b")),)), "B": Port(feed="w2")},
            )
        },
    )  # fmt: skip


def node_model() -> DeviceModel:
    help_ = "What it does and what it risks, in one sentence."
    return DeviceModel(
        name="Node", kind="node", ports=("A", "B"), links=("artnet", "http"), status_port=8499,
        counts={"sacn": 1, "artnet": 0},
        settings=(
            SettingSpec(key="ip", label="Address", type="ip", writable=False, help=help_),
            SettingSpec(key="name", label="Name", longest=17, factory="NODE", help=help_),
            SettingSpec(
                key="protocol", label="Protocol", scope="port", type="choice", options=("artnet", "sacn"),
                factory="artnet", help=help_
            ),
            SettingSpec(
                key="universe", label="Universe", scope="port", type="universe", high=63999, factory=1, help=help_
            ),
            SettingSpec(
                key="merge", label="Merge", scope="port", type="choice", options=("highest", "latest"),
                factory="highest", help=help_
            ),
        ),
    )  # fmt: skip


ON_THE_NETWORK = {
    "live",
    "demo",
    "standins",
    "cli",
    "test_live.py",
    "test_bring_up_window.py",
    "test_lamps_window.py",
    "test_bus_window.py",
    "test_secrets.py",
    "test_five_faults.py",
}
"""Folders and files whose tests use sockets on loopback …"""
WITHOUT_SOCKETS = {
    "test_bus_link.py", "test_device_link.py", "test_engine_main.py", "test_lamp_push.py", "test_output.py",
    "test_rdm_link.py", "test_serial_line.py", "test_node.py", "test_pixel.py", "test_comparing.py",
    "test_exchanging.py", "test_desktop.py", "test_rdm_serial.py", "test_hostile_pages.py", "test_pulled_links.py",
    "test_nothing_leaves.py",
}  # fmt: skip
"""… but for these, which need not wait for anybody: they use none, or addresses or a network of their own."""


@pytest.fixture(autouse=True)
def alone_on_the_network(request: pytest.FixtureRequest) -> Iterator[None]:
    """Tests of several processes that use the same ports, and hear each other's broadcasts, wait for one another."""
    parts = set(request.path.parts)
    if _alone or not ON_THE_NETWORK & parts or WITHOUT_SOCKETS & parts:
        yield
        return
    with (Path(tempfile.gettempdir()) / f"welvo-tests-{os.getuid()}.lock").open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield
