"""Interfaces that go away and come back, under the whole of the program's network side.

Run in a network of its own: `unshare -n python -m tests.live.pulled_links ROUNDS LONGEST SEED`. A veth pair stands for
the cable; behind it a second network of its own sends, answers polls and looks at what leaves. Adapters are pulled,
cables drawn, interfaces switched off, addresses taken away and changed, armed and not, for up to LONGEST seconds; after
each everything has to be heard and to leave again within three seconds. Prints what was not, as JSON.
"""

from __future__ import annotations

import json
import random
import subprocess
import sys
import time
from collections.abc import Callable

from welvo.patience import PatienceLimit

WITHIN = 3.0
PAUSES = (0.02, 0.3, 1.0, 4.0, 40.0)

FAR = r"""
import socket, struct, subprocess, sys, threading, time
from welvo.protocols import artnet, sacn
def send():
    while True:
        try:
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
                s.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
                s.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton("10.9.8.9"))
                s.bind(("10.9.8.9", 0))
                now = int(time.monotonic() * 20)
                for u in (5, 500):
                    data = sacn.Data(b"f" * 16, u, bytes(8), "Far", 100, now & 255)
                    s.sendto(sacn.encode_sacn(data), (sacn.group_of_universe(u), 5568))
                s.sendto(artnet.encode_artnet(artnet.Dmx(9, bytes(8), now % 255 + 1)), ("10.9.8.255", 6454))
                reply = artnet.PollReply(ip=(10, 9, 8, 9), short_name="Far", long_name="Far", report="", style=0)
                s.sendto(artnet.encode_artnet(reply), ("10.9.8.7", 6454))
        except OSError:
            pass
        time.sleep(0.05)
seen = {}
raw = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.ntohs(0x0800))
def capture():
    while True:
        try:
            got = raw.recv(4096)
        except OSError:  # its interface went away
            time.sleep(0.01)
            continue
        if len(got) > 52 and got[23] == 17 and got[26:30] == bytes((10, 9, 8, 7)):
            port, code = struct.unpack(">H", got[36:38])[0], got[50:52]
            kind = "sACN" if port == 5568 else {b"\x00\x50": "ArtDmx", b"\x00\x20": "ArtPoll"}.get(code)
            if kind:
                seen[kind] = time.monotonic()
for work in (send, capture):
    threading.Thread(target=work, daemon=True).start()
print("ready", flush=True)
for line in sys.stdin:
    if line.strip() == "seen":
        now = time.monotonic()
        print(" ".join(f"{k}={now - at:.3f}" for k, at in seen.items()), flush=True)
    else:
        subprocess.run(line.split(), capture_output=True)
        print("done", flush=True)
"""


def ip(*words: str) -> None:
    subprocess.run(["ip", *words], check=True, capture_output=True)


class Cable:
    """This end and the far end of it."""

    def __init__(self) -> None:
        ip("link", "set", "lo", "up")
        command = ["unshare", "-n", sys.executable, "-u", "-c", FAR]
        self.far = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        assert self.far.stdout and self.far.stdout.readline() == "ready\n"
        self.plug()

    def tell(self, words: str) -> str:
        assert self.far.stdin and self.far.stdout
        self.far.stdin.write(words + "\n")
        self.far.stdin.flush()
        return self.far.stdout.readline()

    def seen(self) -> dict[str, float]:
        """How many seconds ago the far end saw each kind of packet leave here."""
        return {k: float(age) for k, age in (w.split("=") for w in self.tell("seen").split())}

    def address(self) -> None:
        ip("addr", "add", "10.9.8.7/24", "brd", "+", "dev", "stage0")

    def plug(self) -> None:
        ip("link", "add", "stage0", "type", "veth", "peer", "name", "far0")
        ip("link", "set", "far0", "netns", str(self.far.pid))
        self.address()
        ip("link", "set", "stage0", "up")
        self.tell("ip addr add 10.9.8.9/24 dev far0")
        self.tell("ip link set far0 up")

    # each way to lose it: what is done first, and what brings it back

    def drawn(self, wait: Callable[[], None]) -> None:
        self.tell("ip link set far0 down")
        wait()
        self.tell("ip link set far0 up")

    def switched_off(self, wait: Callable[[], None]) -> None:
        ip("link", "set", "stage0", "down")
        wait()
        ip("link", "set", "stage0", "up")

    def without_address(self, wait: Callable[[], None]) -> None:
        ip("addr", "flush", "dev", "stage0")
        wait()
        self.address()

    def with_another_address(self, wait: Callable[[], None]) -> None:
        ip("addr", "flush", "dev", "stage0")
        ip("addr", "add", "10.77.1.7/24", "dev", "stage0")
        wait()
        ip("addr", "flush", "dev", "stage0")
        self.address()

    def pulled(self, wait: Callable[[], None]) -> None:
        ip("link", "del", "stage0")
        wait()
        self.plug()


def main(rounds: int, longest: float, seed: str) -> dict[str, object]:
    cable = Cable()
    from PySide6.QtCore import QCoreApplication, QEventLoop, QTimer

    from welvo.app.jobs.network import Network
    from welvo.app.session import Session
    from welvo.rig.document import Rig
    from welvo.rig.wiring import Feed, Sender, Universe

    _app = QCoreApplication([])
    feeds = {f"z{n}": Feed(universe="a", sender="other", wire=n) for n in (5, *range(400, 501))}
    feeds["x"] = Feed(universe="a", sender="s", wire=6)
    feeds["y"] = Feed(universe="b", sender="s", protocol="artnet", wire=3, to="broadcast")
    universes = {"a": Universe(number=1), "b": Universe(number=2)}
    bench = {"s": Sender(name="Bench", kind="bench")}
    session = Session(Rig(name="Links", universes=universes, senders=bench, feeds=feeds))
    said: list[str] = []
    session.said.connect(lambda words, _: said.append(words))
    network = Network(session, "10.9.8.7")
    assert not network.hearing.missing
    network.start_network()

    def spin(seconds: float) -> None:
        loop = QEventLoop()
        QTimer.singleShot(int(1000 * seconds), loop.quit)
        loop.exec()

    def missing(since: float) -> list[str]:
        """What is not heard, or does not leave, again since a moment."""
        now, age, heard = time.time(), time.monotonic() - since, network.hearing.listener
        assert heard
        wires = [("sacn", 5), ("sacn", 500), ("artnet", 9)]
        found = [
            f"{p} {w}" for p, w in wires if not any(now - s.at < age for s, _ in heard.sources_of_universe(p, w, now))
        ]
        found += [] if any(now - h.at < age for h in heard.heard_devices().values()) else ["replies"]
        seen = cable.seen()
        out = ["ArtPoll", "sACN", "ArtDmx"] if network.output.is_armed else ["ArtPoll"]
        return found + [f"{kind} leaves" for kind in out if seen.get(kind, 1e9) > age]

    chance = random.Random(seed)
    ways = (cable.drawn, cable.switched_off, cable.without_address, cable.with_another_address, cable.pulled)
    wrong: list[object] = []
    slowest = 0.0
    try:
        for n in range(rounds):
            lose, armed = ways[n % len(ways)], n // len(ways) % 2 == 1
            if armed != network.output.is_armed:
                network.output.arm_output() if armed else network.output.disarm_output()
                spin(0.8)
            pause = chance.choice([s for s in PAUSES if s <= longest])
            said.clear()
            lose(lambda pause=pause: spin(pause))  # type: ignore[misc]
            back, limit = time.monotonic(), PatienceLimit(WITHIN)
            while (left := missing(back)) and limit.lasts():
                spin(0.05)
            slowest = max(slowest, time.monotonic() - back)
            blamed = [words for words in said if "UDP" in words]
            if left or blamed or armed != network.output.is_armed:
                wrong.append([n, lose.__name__, "armed" if armed else "not armed", pause, left, said[:]])
    finally:
        network.end_network()
        cable.far.kill()
    return {"rounds": n + 1, "slowest": round(slowest, 2), "wrong": wrong}


if __name__ == "__main__":
    found = main(int(sys.argv[1]), float(sys.argv[2]), sys.argv[3])
    print(json.dumps(found))
    sys.exit(1 if found["wrong"] else 0)
