"""Why a device does not answer: tests in order, from this computer's plug to the device's protocol, each with a proof.

The first test that fails names the cause, and what lies behind it is not known. Nothing is changed, neither on the
device nor on this computer: where the computer would need another address, one is proposed and said how to set.
"""

from __future__ import annotations

import contextlib
import ipaddress
import socket
from collections.abc import Awaitable, Callable, Iterable
from dataclasses import dataclass, field
from typing import Protocol

from msgspec import Struct

from welvo.live.device_link import read_settings
from welvo.live.interfaces import Interface, port_taken, trouble_of
from welvo.live.links import LinkError
from welvo.observed.values import SILENT_AFTER, DeviceAnswer, Heard
from welvo.patience import PatienceLimit, patient, rest, steady
from welvo.protocols import artnet
from welvo.rig.addresses import differing_part, free_address, same_network, say_network
from welvo.rig.wiring import DeviceModel

NEIGHBOURS = "/proc/net/arp"
PATIENCE = 1.5
"""Seconds that a device is given to answer one question."""
WHOSE_ADDRESS = 2.5
"""Seconds in which the system finds out whose an address is. It asks once a second and gives up after three: where
it is just giving up after an earlier test, it begins anew with the next packet, so one second is not enough."""


class Verdict(Struct, frozen=True):
    """One test: what it is about, whether it passed, what was found, and what to do. `code` is for programs."""

    code: str
    test: str
    passed: bool
    proof: str
    put_right: str = ""


class Wanted(Struct, frozen=True):
    """The device that is looked for: where it is planned, its model, and its MAC where that is known."""

    ip: str
    model: DeviceModel | None = None
    mac: str = ""
    password: str = ""
    name: str = "the device"


class Probes(Protocol):
    """What can be found out. Each gives an answer within `PATIENCE`."""

    @property
    def interface(self) -> Interface: ...
    def trouble(self) -> str: ...
    def taken(self) -> list[int]: ...
    async def neighbour(self, ip: str) -> str:
        """The MAC that answers for an address on this network; empty: nobody. `local` where there are no MACs."""

    async def connects(self, ip: str, port: int) -> str:
        """`yes`, `refused` (somebody is there, and nothing listens) or `nothing`."""

    async def polled(self, ip: str) -> Heard | None: ...
    async def settings(self, ip: str, port: int, password: str) -> DeviceAnswer | str:
        """What it says of itself, or why it says nothing."""

    def heard(self) -> dict[str, Heard]:
        """Who answered lately, by address: what was heard long ago proves nothing."""


@dataclass
class Search:
    """The tests so far. `found` is where the device answers, where that is another address than the planned one."""

    verdicts: list[Verdict] = field(default_factory=list)
    found: str = ""

    def add_verdict(self, code: str, test: str, passed: bool, proof: str, put_right: str = "") -> bool:
        self.verdicts.append(Verdict(code, test, passed, proof, put_right))
        return passed

    @property
    def likeliest_cause(self) -> Verdict | None:
        """What is wrong, as far as the tests went; a later one knows more."""
        return next((v for v in reversed(self.verdicts) if not v.passed), None)


async def bring_up(wanted: Wanted, probes: Probes, taken_addresses: Iterable[str] = ()) -> Search:
    """All tests that make sense, up to the first that fails."""
    search = Search()
    for test in (_test_link, _test_ports, _test_network):
        if not test(wanted, probes, search, list(taken_addresses)):
            return search
    if not await _test_alive(wanted, probes, search):
        await _look_elsewhere(wanted, probes, search)
        return search
    if not _one_device(wanted, probes, search):
        return search
    await _test_speaks(wanted, probes, search)
    return search


def _test_link(wanted: Wanted, probes: Probes, search: Search, _: list[str]) -> bool:
    at = probes.interface
    trouble = probes.trouble()
    if not trouble:
        return search.add_verdict("link", "This computer's plug", True, f"{at.name} has a link and the address {at.ip}")
    if "address" in trouble:
        return search.add_verdict(
            "no-address",
            "This computer's address",
            False,
            trouble,
            f"Give {at.name} an address in the network's settings, then choose it again under Output › Interface.",
        )
    return search.add_verdict(
        "no-link", "This computer's plug", False, trouble, "Plug the cable in, or choose another interface."
    )


def _test_ports(wanted: Wanted, probes: Probes, search: Search, _: list[str]) -> bool:
    taken = probes.taken()
    if taken:
        return search.add_verdict(
            "port-taken",
            "Ports of this computer",
            False,
            port_taken(probes.interface.ip, taken[0]),
            "End the other program; until then no answer reaches Welvo.",
        )
    return search.add_verdict("ports", "Ports of this computer", True, "no other program holds them")


def _test_network(wanted: Wanted, probes: Probes, search: Search, others: list[str]) -> bool:
    at = f"{probes.interface.ip}/{probes.interface.mask}"
    if same_network(wanted.ip, at):
        return search.add_verdict(
            "network", "Same network", True, f"{wanted.ip} is in the network of {say_network(at)}"
        )
    theirs = f"{wanted.ip}/{probes.interface.mask}"
    free = free_address(theirs, [*others, wanted.ip], near=wanted.ip)
    return search.add_verdict(
        "other-network",
        "Same network",
        False,
        f"{wanted.ip} is not in the network of {say_network(at)}: {differing_part(wanted.ip, at)}",
        f"In the network settings of {probes.interface.name}, give this computer also {free} with mask "
        f"{probes.interface.mask}; no device of the plan has it. Welvo does not change it."
        if free
        else "",
    )


async def _test_alive(wanted: Wanted, probes: Probes, search: Search) -> bool:
    mac = await probes.neighbour(wanted.ip)
    ports = [p for p in (wanted.model.status_port if wanted.model else 0, 80) if p]
    tries = [await probes.connects(wanted.ip, p) for p in ports[:2]]
    # on the loopback interface the computer itself refuses for everybody
    answers = "yes" in tries or ("refused" in tries and mac != "local")
    heard = await probes.polled(wanted.ip) if not answers or not mac else None
    shown = "" if mac in ("", "local") else f" (MAC {mac})"
    if answers or heard:
        return search.add_verdict("alive", "Somebody at that address", True, f"{wanted.ip} answers{shown}")
    if mac and mac != "local":
        return search.add_verdict(
            "wrong-mask",
            "Answers come back",
            False,
            f"{wanted.ip} says whose it is{shown}, and sends no answer to anything that is asked",
            "Its mask is most likely wrong: it takes this computer for one of another network. Set mask and address on "
            "the device itself.",
        )
    return search.add_verdict(
        "silent", "Somebody at that address", False, f"nobody answers at {wanted.ip}", "Check power and cable."
    )


async def _look_elsewhere(wanted: Wanted, probes: Probes, search: Search) -> None:
    """Where else a silent device may be: at its factory address, at a temporary one, at another lease."""
    if search.verdicts[-1].code != "silent":
        return
    silent = search.verdicts.pop()
    for ip, heard in sorted(probes.heard().items()):
        if wanted.mac and heard.mac.lower() == wanted.mac.lower() and ip != wanted.ip:
            search.found = ip
            temporary = ip.startswith("169.254.")
            code = "temporary" if temporary else "moved"
            how = "an address it chose by itself" if temporary else "another address"
            lease = " Its address comes by DHCP: the lease moved." if heard.dhcp else ""
            search.add_verdict(
                code,
                "The same MAC elsewhere",
                False,
                f"{wanted.mac} answers at {ip}, {how}.{lease}",
                f"Renumber it to {wanted.ip}, save and restart, or plan {ip}.",
            )
            return
    factory = wanted.model.factory_ip if wanted.model else ""
    at = f"{probes.interface.ip}/{probes.interface.mask}"
    if factory and factory != wanted.ip:
        if not same_network(factory, at):
            part = differing_part(factory, at)
            search.verdicts.append(silent)
            search.add_verdict(
                "factory-beyond",
                "Its factory address",
                False,
                f"a new one is at {factory}, which {say_network(at)} cannot reach: {part}",
                "Give this computer an address there as well, and look again.",
            )
            return
        port = wanted.model.status_port if wanted.model else 0
        if await probes.polled(factory) is not None or (port and await probes.connects(factory, port) == "yes"):
            search.found = factory
            search.add_verdict(
                "factory",
                "Its factory address",
                False,
                f"a device answers at the factory address {factory}",
                f"Give it {wanted.ip}, save and restart.",
            )
            return
    chosen = next((ip for ip in sorted(probes.heard()) if ip.startswith("169.254.")), "")
    if chosen:
        search.found = chosen
        search.add_verdict(
            "temporary",
            "Temporary addresses",
            False,
            f"a device without an address chose {chosen}",
            f"If it is this one, give it {wanted.ip}, save and restart: a restart alone gives it another one.",
        )
        return
    search.verdicts.append(silent)


def _one_device(wanted: Wanted, probes: Probes, search: Search) -> bool:
    heard = probes.heard().get(wanted.ip)
    if heard and len(heard.macs) > 1:
        return search.add_verdict(
            "twins",
            "One device at that address",
            False,
            f"{' and '.join(heard.macs)} both answer at {wanted.ip}",
            "Unplug one of them, and give the other another address.",
        )
    if heard and wanted.mac and heard.mac and heard.mac.lower() != wanted.mac.lower():
        return search.add_verdict(
            "other-device",
            "The planned device",
            False,
            f"{heard.mac} answers at {wanted.ip}, planned is {wanted.mac}",
            "Another device took the address. Find the planned one, or plan this one's MAC.",
        )
    return search.add_verdict("one", "One device at that address", True, f"one device has {wanted.ip}")


async def _test_speaks(wanted: Wanted, probes: Probes, search: Search) -> None:
    links = wanted.model.links if wanted.model else ("artnet",)
    if "artnet" in links:
        heard = await probes.polled(wanted.ip)
        if heard is None:
            search.add_verdict(
                "deaf",
                "Art-Net",
                False,
                f"{wanted.ip} is alive and does not answer an ArtPoll",
                "Switch Art-Net on in the device, or see whether a firewall stands between.",
            )
            return
        search.add_verdict("artnet", "Art-Net", True, f"it answers as {heard.name or 'a device without a name'}")
    if "http" in links and wanted.model and wanted.model.status_port and wanted.model.kind != "node":
        said = await probes.settings(wanted.ip, wanted.model.status_port, wanted.password)
        if isinstance(said, str):
            search.add_verdict(
                "deaf-http", "Its settings", False, said, "Restart it; look at its own page in a browser."
            )
        else:
            search.add_verdict("http", "Its settings", True, f"it says {len(said.active)} settings")


class RealProbes:
    """Finds out on the chosen interface. `heard` and `poll` are the listener's."""

    def __init__(
        self,
        interface: Interface,
        heard: Callable[[], dict[str, Heard]],
        poll: Callable[[str], object],
        taken: Callable[[], list[int]],
        sleep: Callable[[float], Awaitable[None]] = rest,
    ) -> None:
        self._interface, self._heard, self._poll, self._taken, self._sleep = interface, heard, poll, taken, sleep

    @property
    def interface(self) -> Interface:
        return self._interface

    def trouble(self) -> str:
        return trouble_of(self._interface)

    def taken(self) -> list[int]:
        return self._taken()

    def heard(self) -> dict[str, Heard]:
        now = steady()
        return {ip: h for ip, h in self._heard().items() if now - h.at <= SILENT_AFTER}

    async def neighbour(self, ip: str) -> str:
        if ipaddress.IPv4Address(ip).is_loopback:
            return "local"
        with contextlib.closing(socket.socket(socket.AF_INET, socket.SOCK_DGRAM)) as sock:
            with contextlib.suppress(OSError):
                sock.bind((self._interface.ip, 0))
            limit, turn = PatienceLimit(WHOSE_ADDRESS, turn=0.1), 0
            while limit.lasts():
                if turn % 3 == 0:
                    with contextlib.suppress(OSError):  # makes the system ask whose address it is
                        sock.sendto(artnet.encode_artnet(artnet.Poll()), (ip, artnet.PORT))
                turn += 1
                await self._sleep(0.1)
                mac = neighbour_of(ip, self._interface.name)
                if mac:
                    return mac
        return ""

    async def connects(self, ip: str, port: int) -> str:
        import asyncio

        local = (self._interface.ip, 0)
        try:
            async with patient(PATIENCE):
                _, writer = await asyncio.open_connection(ip, port, local_addr=local)
        except ConnectionRefusedError:
            return "refused"
        except (OSError, TimeoutError):
            return "nothing"
        writer.close()
        return "yes"

    async def polled(self, ip: str) -> Heard | None:
        before = self._heard().get(ip)
        self._poll(ip)
        limit = PatienceLimit(PATIENCE, turn=0.1)
        while limit.lasts():
            await self._sleep(0.1)
            now = self._heard().get(ip)
            if now and (before is None or now.at > before.at):
                return now
        return None

    async def settings(self, ip: str, port: int, password: str) -> DeviceAnswer | str:
        try:
            return await read_settings(ip, port, password, self._interface.ip)
        except LinkError as e:
            return str(e)


def neighbour_of(ip: str, interface: str) -> str:
    """The MAC that the system has learned for an address on an interface; empty when there is none."""
    try:
        with open(NEIGHBOURS, encoding="ascii") as table:
            for line in list(table)[1:]:
                cells = line.split()
                if len(cells) >= 6 and cells[0] == ip and cells[5] == interface and int(cells[2], 16) & 2:
                    return cells[3]
    except (OSError, ValueError):
        pass
    return ""
