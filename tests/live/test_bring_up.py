"""Why a device does not answer: every verdict, by hand and in networks that the test makes itself."""

from __future__ import annotations

import asyncio
import json
import subprocess
import sys
from dataclasses import dataclass, field

import pytest

from tests.conftest import own_network
from welvo.formats.models import shipped_models
from welvo.live.bring_up import RealProbes, Search, Wanted, bring_up, neighbour_of
from welvo.live.interfaces import Interface
from welvo.observed.values import DeviceAnswer, Heard
from welvo.patience import steady

AT = Interface("stage0", "10.0.40.7", "255.255.255.0")
PENSTOCK = shipped_models()["penstock-12"]
IP = "10.0.40.21"


@dataclass
class Told:
    """Probes whose answers the test says."""

    interface: Interface = AT
    wrong: str = ""
    held: list[int] = field(default_factory=list)
    macs: dict[str, str] = field(default_factory=dict)
    listens: dict[tuple[str, int], str] = field(default_factory=dict)
    answers: dict[str, Heard] = field(default_factory=dict)
    known: dict[str, Heard] = field(default_factory=dict)
    said: DeviceAnswer | str = "it does not answer"

    def trouble(self) -> str:
        return self.wrong

    def taken(self) -> list[int]:
        return self.held

    def heard(self) -> dict[str, Heard]:
        return {**self.known, **self.answers}

    async def neighbour(self, ip: str) -> str:
        return self.macs.get(ip, "")

    async def connects(self, ip: str, port: int) -> str:
        return self.listens.get((ip, port), "nothing")

    async def polled(self, ip: str) -> Heard | None:
        return self.answers.get(ip)

    async def settings(self, ip: str, port: int, password: str) -> DeviceAnswer | str:
        return self.said


def look(told: Told, **wanted: object) -> Search:
    return asyncio.run(bring_up(Wanted(**{"ip": IP, "model": PENSTOCK, **wanted}), told))  # type: ignore[arg-type]


HERE = {IP: "02:00:00:00:00:01"}
OPEN = {(IP, 8421): "yes"}
SEEN = {IP: Heard(IP, "PENSTOCK", mac="02:00:00:00:00:01", macs=("02:00:00:00:00:01",))}


@pytest.mark.parametrize(
    ("told", "wanted", "code", "proof"),
    [
        (Told(wrong="stage0 has no link: nothing is plugged in"), {}, "no-link", "nothing is plugged in"),
        (Told(wrong="stage0 no longer has the address 10.0.40.7"), {}, "no-address", "no longer has the address"),
        (Told(held=[6454]), {}, "port-taken", "UDP 6454"),
        (Told(), {"ip": "10.0.41.21"}, "other-network", "the third part is 41, and must be 40"),
        (Told(macs=HERE), {}, "wrong-mask", "sends no answer"),
        (Told(), {"model": None}, "silent", "nobody answers"),
        (Told(), {}, "factory-beyond", "127.0.1.12, which 10.0.40.7 with mask 255.255.255.0 cannot reach"),
        (
            Told(known={"10.0.40.99": Heard("10.0.40.99", mac="02:00:00:00:00:0A", dhcp=True)}),
            {"mac": "02:00:00:00:00:0a"}, "moved", "the lease moved",
        ),
        (
            Told(known={"169.254.3.3": Heard("169.254.3.3", mac="02:00:00:00:00:0A")}),
            {"mac": "02:00:00:00:00:0a"}, "temporary", "it chose by itself",
        ),
        (Told(known={"169.254.3.3": Heard("169.254.3.3")}), {"model": None}, "temporary", "chose 169.254.3.3"),
        (
            Told(macs=HERE, listens=OPEN, known={IP: Heard(IP, macs=("02:01", "02:02"))}),
            {}, "twins", "02:01 and 02:02 both answer",
        ),
        (Told(macs=HERE, listens=OPEN, answers=SEEN), {"mac": "02:00:00:00:00:ff"}, "other-device", "planned is"),
        (Told(macs=HERE, listens=OPEN), {}, "deaf", "is alive and does not answer an ArtPoll"),
        (Told(macs=HERE, listens=OPEN, answers=SEEN), {}, "deaf-http", "it does not answer"),
    ],
)  # fmt: skip
def test_each_cause_is_named_with_its_proof(told: Told, wanted: dict[str, object], code: str, proof: str) -> None:
    search = look(told, **wanted)
    assert search.likeliest_cause and search.likeliest_cause.code == code and proof in search.likeliest_cause.proof, (
        search.verdicts
    )
    assert search.likeliest_cause.put_right or code == "deaf-http"


def test_a_device_that_answers_passes_every_test() -> None:
    search = look(
        Told(macs=HERE, listens=OPEN, answers=SEEN, said=DeviceAnswer(1.0, {"name": "X"})), mac="02:00:00:00:00:01"
    )
    assert search.likeliest_cause is None
    assert [v.code for v in search.verdicts] == ["link", "ports", "network", "alive", "one", "artnet", "http"]


def test_a_factory_address_in_reach_is_followed_and_a_free_address_proposed() -> None:
    local = Interface("lo", "127.0.0.1", "255.0.0.0")
    told = Told(interface=local, listens={("127.0.1.12", 8421): "yes"})
    search = look(told, ip="127.0.0.50")
    assert search.likeliest_cause and (search.likeliest_cause.code, search.found) == ("factory", "127.0.1.12")
    beyond = look(Told(), ip="10.0.41.21")
    assert beyond.likeliest_cause and "10.0.41.22 with mask 255.255.255.0" in beyond.likeliest_cause.put_right
    assert neighbour_of("10.99.99.99", "lo") == ""


def test_what_was_heard_long_ago_is_no_proof() -> None:
    local = Interface("lo", "127.0.0.1", "255.0.0.0")
    old, new = Heard("127.0.1.12", at=steady() - 60), Heard("127.0.1.13", at=steady())
    gone = look(Told(interface=local, known={old.ip: old}), ip="127.0.0.50")
    assert gone.likeliest_cause and (gone.likeliest_cause.code, gone.found) == ("silent", "")
    real = RealProbes(local, lambda: {h.ip: h for h in (old, new)}, lambda _: None, list)
    assert list(real.heard()) == [new.ip]


NETWORK = r"""
import asyncio, json, subprocess, sys, time
def run(*a): subprocess.run(a, check=True, capture_output=True)
other = subprocess.Popen(["unshare", "-n", "sleep", "290"])
time.sleep(0.3)
pid = str(other.pid)
run("ip", "link", "add", "stage0", "type", "veth", "peer", "name", "far0")
run("ip", "link", "set", "far0", "netns", pid)
run("ip", "addr", "add", "10.9.8.7/24", "dev", "stage0")
def far(*a): run("nsenter", "-t", pid, "-n", *a)
from welvo.formats.models import shipped_models
from welvo.live.bring_up import RealProbes, Wanted, bring_up
from welvo.live.interfaces import Interface
from welvo.live.listener import Listener
import msgspec
at = Interface("stage0", "10.9.8.7", "255.255.255.0")
known = shipped_models()["weir-2"]
unknown = msgspec.structs.replace(known, factory_ip="")
found = {}
def look(name, ip="10.9.8.21", at=at, taken=(), model=unknown):
    listener = Listener(at, poll=False)
    listener.start_listening()
    probes = RealProbes(at, listener.heard_devices, listener.poll_one, lambda: listener.taken)
    search = asyncio.run(bring_up(Wanted(ip, model), probes, taken))
    listener.close()
    cause = search.likeliest_cause
    found[name] = [cause.code, cause.proof] if cause else ["", ""]
try:
    run("ip", "link", "set", "stage0", "up")
    time.sleep(0.2)
    look("unplugged")
    far("ip", "link", "set", "far0", "up")
    time.sleep(1.5)
    look("no address", at=Interface("stage0", "10.9.8.9", "255.255.255.0"))
    look("other network", "10.9.9.21")
    look("silent")
    look("as it left the factory", model=known)
    far("ip", "addr", "add", "10.9.8.21/30", "dev", "far0")
    look("wrong mask")
    far("ip", "addr", "flush", "dev", "far0")
    far("ip", "addr", "add", "10.9.8.21/24", "dev", "far0")
    look("deaf")
    code = (
        "import time,asyncio\nfrom welvo.formats.models import shipped_models\nfrom welvo.standins.node import Node\n"
        "from welvo.protocols import artnet\nimport socket\n"
        "n=Node('10.9.8.21', shipped_models()['weir-2'], {}, time.monotonic)\n"
        "s=socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind(('10.9.8.21', 6454)); print('ready', flush=True)\n"
        "while True:\n  raw, who = s.recvfrom(2000)\n"
        "  [s.sendto(r, who) for r in n.take_artnet(artnet.decode_artnet(raw), who[0])]\n"
    )
    node = subprocess.Popen(["nsenter", "-t", pid, "-n", sys.executable, "-c", code], stdout=subprocess.PIPE)
    node.stdout.readline()
    look("answers")
    node.kill()
    import socket
    held = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    held.bind(("10.9.8.7", 6454))
    look("port taken")
finally:
    other.kill()
print(json.dumps(found))
"""


def test_verdicts_on_a_real_network() -> None:
    own_network()
    done = subprocess.run(["unshare", "-n", sys.executable, "-c", NETWORK], capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout.splitlines()[-1])
    assert {name: code for name, (code, _) in found.items()} == {
        "unplugged": "no-link", "no address": "no-address", "other network": "other-network", "silent": "silent",
        "as it left the factory": "factory-beyond",
        "wrong mask": "wrong-mask", "deaf": "deaf", "answers": "", "port taken": "port-taken",
    }, found  # fmt: skip
