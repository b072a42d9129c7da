"""Entered, saved and active settings of a simulated device, by what each setting needs."""

from __future__ import annotations

import pytest

from welvo.rig.wiring import DeviceModel, Need, SettingSpec
from welvo.standins.store import Store


def model(*specs: SettingSpec) -> DeviceModel:
    return DeviceModel(name="Sill 1", settings=specs)


def number(key: str, *needs: Need, factory: int = 1) -> SettingSpec:
    return SettingSpec(key=key, label=key, help="", type="number", low=0, high=100, factory=factory, needs=needs)


NEEDS: list[tuple[Need, ...]] = [(), ("save",), ("restart",), ("save", "restart"), ("apply",), ("save", "apply")]


@pytest.mark.parametrize("needs", NEEDS, ids=lambda n: "+".join(n) or "nothing")
def test_a_value_works_and_stays_after_what_it_needs_and_not_before(needs: tuple[Need, ...]) -> None:
    store = Store(model(number("x", *needs)), {})
    assert store.active == {"x": 1} and store.enter_value("x", 7) == ""
    works_at_once = not needs or needs == ("save",)
    assert (store.active["x"] == 7) is works_at_once
    assert store.waiting_settings() == ({"x": needs} if needs else {})
    for act in needs:
        {"save": store.save_entered, "apply": store.apply_entered, "restart": store.restart_with_saved}[act]()
    if needs == ("restart",):  # nothing was saved: a restart alone gives it up
        assert store.active["x"] == 1
        return
    assert store.active["x"] == 7 and store.waiting_settings() == {}
    store.restart_with_saved()
    assert store.active["x"] == 7


def test_what_was_not_saved_is_gone_after_a_restart() -> None:
    store = Store(model(number("x", "save"), number("y", "save", "restart")), {"y": 5})
    store.enter_value("x", 9)
    store.enter_value("y", 9)
    store.restart_with_saved()
    assert store.active == {"x": 1, "y": 5} and not store.entered and not store.waiting_settings()


def test_what_is_saved_is_no_longer_only_entered_unless_it_waits_to_be_applied() -> None:
    store = Store(model(number("x", "save", "restart"), number("y", "save", "apply")), {})
    store.enter_value("x", 9)
    store.enter_value("y", 9)
    store.save_entered()
    assert store.entered == {"y": 9} and store.saved == {"x": 9, "y": 9} and store.active == {"x": 1, "y": 1}
    assert store.waiting_settings() == {"x": ("restart",), "y": ("apply",)}
    store.apply_entered()
    assert store.active == {"x": 1, "y": 9} and not store.entered


def test_a_value_that_goes_back_waits_for_nothing() -> None:
    store = Store(model(number("x", "save")), {"x": 3})
    store.enter_value("x", 9)
    assert store.waiting_settings() == {"x": ("save",)}
    store.enter_value("x", 3)
    assert store.waiting_settings() == {} and not store.entered


def test_factory_settings_count_what_they_take_back() -> None:
    store = Store(model(number("x"), number("y", factory=2)), {"x": 50, "old": 5})
    assert store.reset_to_factory() == 2  # x, and what this model does not know
    assert store.active == store.saved == {"x": 1, "y": 2} and store.reset_to_factory() == 0


WRONG = [
    ("nobody", 1, "unknown setting"), ("fixed", 1, "cannot be set from here"), ("n", "seven", "not a number"),
    ("n", True, "not a number"), ("n", 101, "only 0 to 100"), ("n", -1, "only 0 to 100"), ("n", 1.5, "not a number"),
    ("on", 1, "on or off"), ("on", "on", "on or off"), ("mode", "stage", ""), ("mode", "moon", "one of stage, hall"),
    ("ip", "10.0.0", "10.0.0"),
    ("d", 1.5, ""), ("d", 200.0, "only 0 to 100"), ("ip", "", ""), ("on", False, ""),
]  # fmt: skip


@pytest.mark.parametrize("key, value, why", WRONG)
def test_wrong_values_are_refused_in_words_and_change_nothing(key: str, value: object, why: str) -> None:
    specs = (
        number("n"),
        SettingSpec(key="fixed", label="Fixed", help="", type="number", low=0, high=9, factory=1, writable=False),
        SettingSpec(key="on", label="On", help="", type="switch", factory=True),
        SettingSpec(key="mode", label="Mode", help="", type="choice", options=("stage", "hall"), factory="hall"),
        SettingSpec(key="ip", label="IP", help="", type="ip", factory="127.0.0.1"),
        SettingSpec(key="d", label="D", help="", type="decimal", low=0, high=100, factory=1),
    )  # fmt: skip
    store = Store(model(*specs), {})
    before = dict(store.active)
    said = store.enter_value(key, value)  # type: ignore[arg-type]
    assert why in said and bool(said) is bool(why)
    assert (store.active == before) is bool(why)
    store.refuses[key] = "the page is busy"
    if not why:
        assert store.enter_value(key, value) == "the page is busy"  # type: ignore[arg-type]
