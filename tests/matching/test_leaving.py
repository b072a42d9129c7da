"""What a simulated device gives out, held against what was sent: the path is proved up to the lamp."""

from __future__ import annotations

import pytest

from tests.standins.test_pixel import INDEX, PENSTOCK, RIG, light, penstock
from welvo.matching.leaving import Proof, proof_of_pixel
from welvo.observed.values import NOTHING
from welvo.patch.index import Index
from welvo.runs.bridge import set_right
from welvo.survey.path import Light, path_to_target
from welvo.survey.place_ways import on_cable
from welvo.survey.target import find_target


def seen(typed: str, universe: int, address: int, *levels: int, sent: int | None, index: Index = INDEX) -> Proof | None:
    device, _ = penstock(index)
    light(device, universe, address, *levels)
    on = on_cable(index, find_target(index, typed))
    assert on
    label = on[0].label
    return proof_of_pixel(index.cables_and_sums, on, device.octets_of_port(label), device.levels_behind(label), sent)


@pytest.mark.parametrize(
    ("typed", "universe", "address", "level"),
    [("ceiling 2/36", 201, 271, 255), ("bell 1/12", 205, 34, 99), ("swarm/101", 207, 301, 7), ("rim/30", 206, 88, 255)],
)
def test_a_pixel_is_seen_where_the_plan_puts_it(typed: str, universe: int, address: int, level: int) -> None:
    target = find_target(INDEX, typed)
    assert (target.universe, target.address) == (f"u{universe}", address)
    found = seen(typed, universe, address, level, 0, 3, sent=level)
    by = 80 if typed.startswith("rim") else 100
    assert found and found.mark == "matches" and found.fact == f"R {level * by // 100} G 0 B {3 * by // 100}"
    other = seen(typed, universe, address, level, 0, 0, sent=level - 2)
    assert other and other.mark == "differs" and other.takes == f"gives {level * by // 100}"
    assert seen(typed, universe, address, level, sent=None).mark == "unknown"  # type: ignore[union-attr]


def test_behind_the_bridge_the_fault_is_seen_and_then_put_right() -> None:
    found = seen("534", 206, 123, 255, sent=255)
    assert found == Proof("DMX 33 gives 204", "differs", "sends 255", "gives 204", "DMX 33 gives 204")
    right = Index(set_right(RIG, PENSTOCK, "6", 2)[0])
    found = seen("534", 206, 123, 255, sent=255, index=right)
    assert found and (found.mark, found.lamp) == ("matches", "DMX 33 gives 255")


def test_the_path_shows_what_was_seen() -> None:
    target = find_target(INDEX, "534")
    light = Light(proof=Proof("DMX 33 gives 204", "differs", "sends 255", "gives 204", "DMX 33"))
    chain = path_to_target(INDEX, NOTHING, target, 0.0, light)
    roles = [h.role for h in chain.hops]
    joint = chain.joints[roles.index("bridge") - 1]
    assert (joint.mark, joint.sends, joint.takes) == ("differs", "sends 255", "gives 204")
    assert chain.joints[-1].mark == "upstream" and chain.hops[roles.index("bridge")].fact == "DMX 33 gives 204"


def test_a_short_string_leaves_nothing_at_the_end() -> None:
    on = on_cable(INDEX, find_target(INDEX, "534"))
    assert on
    found = proof_of_pixel(INDEX.cables_and_sums, on, bytes(60), [], 255)
    assert found and (found.mark, found.takes) == ("differs", "nothing leaves there")
    assert proof_of_pixel(INDEX.cables_and_sums, on, b"", [], 255) is None
