"""Pushes that break off anywhere: each ends in a state that is described truly."""

from __future__ import annotations

import asyncio
import random

import msgspec
import pytest

from tests.standins.test_pixel import penstock
from welvo.live.device_link import DeviceLink, Push, SettingAnswer, Values, _decode_answer, _Staged
from welvo.live.links import MOST_TEXT, LinkError, read_page
from welvo.observed.values import DeviceAnswer
from welvo.rig.wiring import Need
from welvo.standins.pixel import PixelDevice, PowerLost


class Wire:
    """A link to a simulated device without sockets: what would be lost on the way is a LinkError here."""

    def __init__(self, device: PixelDevice, clock: object, ip: str = "127.0.0.50", lose: float = 0.0, seed: int = 0):
        self.device, self.clock, self.ip = device, clock, ip
        self.lose, self.chance = lose, random.Random(seed)
        self.requests = 0

    def at(self, ip: str) -> DeviceLink:
        moved = Wire(self.device, self.clock, ip, self.lose)
        moved.chance = self.chance
        return moved

    def _reach(self) -> bool:
        """Whether the answer will arrive. What does not reach the device at all raises."""
        self.requests += 1
        here = str(self.device.store.active["ip"])
        if self.device.is_silent or self.ip != here or self.chance.random() < self.lose / 2:
            raise LinkError(f"{self.ip} does not answer.")
        return self.chance.random() >= self.lose / 2

    async def read(self) -> DeviceAnswer:
        if not self._reach():
            raise LinkError("The answer is lost.")
        return msgspec.convert({"at": 1.0, **self.device.about_device(), **self.device.all_values()}, DeviceAnswer)

    async def stage(self, values: Values) -> dict[str, SettingAnswer]:
        arrives = self._reach()
        try:
            answers = self.device.stage_values(values)
        except PowerLost:
            raise LinkError("It hung up.") from None
        if not arrives:
            raise LinkError("The answer is lost.")
        return msgspec.convert(answers, dict[str, SettingAnswer])

    async def act(self, act: Need) -> None:
        arrives = self._reach()
        {"save": self.device.save_settings, "apply": self.device.apply_settings, "restart": self.device.restart_device}[
            act
        ]()
        if not arrives:
            raise LinkError("The answer is lost.")


def push(values: Values, acts: tuple[Need, ...] = (), faults: dict[str, object] | None = None, **wire: float):
    device, clock = penstock()
    for name, value in (faults or {}).items():
        setattr(device.faults, name, value)
    link = Wire(device, clock, lose=wire.get("lose", 0.0), seed=int(wire.get("seed", 0)))

    async def wait(seconds: float) -> None:
        clock.now += seconds

    made = Push(values, acts, device.model.restart_takes)
    asyncio.run(made.run_push(link, wait))
    return made, device


def outcomes(made: Push) -> dict[str, str]:
    return {k: r.outcome for k, r in made.results.items()}


def test_each_setting_gets_its_own_result() -> None:
    made, device = push(
        {"1.brightness": 50, "1/1.pixels": 54, "mode": "none", "1.chip": "LU-4"}, faults={"refuses": ("1.chip",)}
    )
    assert outcomes(made) == {"1.brightness": "waits", "1/1.pixels": "waits", "mode": "refused", "1.chip": "refused"}
    assert made.results["1.brightness"].needs == ("save",) and made.results["1/1.pixels"].needs == ("save", "apply")
    assert made.results["1.chip"].why == "this device refuses it" and "is one of" in made.results["mode"].why
    made, device = push({"1.brightness": 50, "1/1.pixels": 54}, ("save", "apply"))
    assert set(outcomes(made).values()) == {"taken"} and device.store.saved["1/1.pixels"] == 54


def test_a_device_is_followed_to_its_new_address() -> None:
    made, _ = push({"ip": "127.0.0.66", "1.chip": "LU-4"}, ("save", "restart"))
    assert outcomes(made) == {"ip": "taken", "1.chip": "taken"} and made.ip == "127.0.0.66" and not made.failed


def test_a_device_that_does_not_come_back_is_said() -> None:
    made, _ = push({"ip": "127.0.0.66"}, ("save", "restart"), {"forgets": True})
    assert not made.failed
    device, clock = penstock()

    async def never(_: float) -> None:
        device.faults.unreachable = True

    made = Push({"name": "LOST"}, ("save", "restart"), 0.5)
    asyncio.run(made.run_push(Wire(device, clock), never))
    assert "did not come back" in made.failed and outcomes(made) == {"name": "unknown"}


def test_power_lost_in_the_middle_of_a_write() -> None:
    values: Values = {f"{n}.brightness": 50 for n in range(1, 8)}
    made, device = push(values, ("save",), {"halts": 3})
    assert "hung up" in made.failed and set(outcomes(made).values()) == {"otherwise"}, "what was not saved is gone"
    assert all(device.store.active[k] == (80 if k == "6.brightness" else 100) for k in values)


def test_a_stopped_push_says_what_was_not_sent() -> None:
    device, clock = penstock()
    values: Values = {f"{p}/{n}.pixels": 50 for p in range(1, 5) for n in (1, 2, 3)} | {
        f"{p}.brightness": 50 for p in range(1, 8)
    }
    made = Push(values, ("save", "apply"))
    link = Wire(device, clock)
    real = link.stage

    async def stage(some: Values) -> dict[str, SettingAnswer]:
        made.stop_push()
        return await real(some)

    link.stage = stage  # type: ignore[method-assign]
    asyncio.run(made.run_push(link))
    assert list(outcomes(made).values()).count("not sent") == 3 and made.failed == "it was stopped"
    assert device.store.saved["1/1.pixels"] != 50, "nothing was saved either"


@pytest.mark.parametrize("block", range(10))
def test_a_thousand_faulty_pushes_end_in_a_state_that_is_described_truly(block: int) -> None:
    for seed in range(100 * block, 100 * block + 100):
        chance = random.Random(seed)
        keys: Values = {
            "1.brightness": chance.randint(0, 99), "1/1.pixels": chance.randint(1, 54), "1.chip": "LU-4",
            "name": "A" * chance.randint(1, 20), "mode": chance.choice(["12 ports", "6 long ports", "wrong"]),
            "2/2.order": chance.choice(["BGR", "RRG"]), "3.slot": chance.randint(0, 513),
            "size": chance.randint(1, 511),
            **{f"{p}.gamma": float(chance.randint(2, 5)) for p in range(1, 12)},
        }  # fmt: skip
        values = {k: keys[k] for k in chance.sample(list(keys), chance.randint(1, len(keys)))}
        acts: tuple[Need, ...] = chance.choice(
            [(), ("save",), ("apply",), ("save", "apply"), ("save", "apply", "restart")]
        )
        faults: dict[str, object] = {}
        if chance.random() < 0.4:
            faults["refuses"] = tuple(chance.sample(list(values), 1))
        if chance.random() < 0.3:
            faults["halts"] = chance.randint(1, len(values))
        if chance.random() < 0.2:
            faults["forgets"] = True
        made, device = push(values, acts, faults, lose=chance.choice([0, 0, 0.2, 0.5, 0.9]), seed=seed)
        store = device.store
        assert made.results.keys() == values.keys() and made.doing == ""
        for key, r in made.results.items():
            has, where = store.active.get(key), (seed, key, r)
            if r.outcome == "taken":
                assert has == r.value and not store.waiting_settings().get(key), where
            elif r.outcome == "waits":
                assert r.value in (has, store.entered.get(key), store.saved.get(key)), where
                assert store.waiting_settings().get(key) == r.needs != (), where
            elif r.outcome == "refused":
                assert r.why, where
            elif r.outcome == "otherwise":
                assert has != r.value and str(has) in r.why, where
            elif r.outcome == "not sent":
                assert made.failed, where
            else:
                assert made.said is None and made.failed, where


def test_texts_of_a_page_are_cut_and_cleaned_before_they_are_kept() -> None:
    raw = msgspec.json.encode(
        {"values": {"name\u202e": "Eel\x1b[1m\n", "long": "x" * 9000}, "ports": ["a\u200b", 7, None]}
    )
    assert read_page(raw) == {
        "values": {"name\ufffd": "Eel\ufffd[1m\ufffd", "long": "x" * MOST_TEXT}, "ports": ["a\ufffd", 7, None]
    }  # fmt: skip
    assert (
        _decode_answer(b'{"results": {"a": {"taken": false, "why": "no\\u202e!"}}}', _Staged, "").results["a"].why
        == "no\ufffd!"
    )
    for wrong in (b"{", b"[" * 4000 + b"]" * 4000, b'{"results": 1}'):
        with pytest.raises(LinkError, match="no settings"):
            _decode_answer(wrong, _Staged, "127.0.0.9")
