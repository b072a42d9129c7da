"""Many findings of one kind as one line, and one fix for all of them."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.checks.examples import EXAMPLES
from tests.checks.test_every_rule import case
from tests.conftest import small_rig
from welvo.checks.checker import check_rig
from welvo.checks.device_rules import AS_IT_CAME
from welvo.checks.registry import RULES, Finding, Fix
from welvo.checks.together import MANY, fix_for_all, in_bundles
from welvo.demo.gallery import make_gallery
from welvo.matching.planned import compare_device
from welvo.observed.values import NOTHING, DeviceAnswer, Observed
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Place


def unfed(count: int) -> Rig:
    """Universes 1 to `count` with a fixture each and no feed."""
    rig = small_rig()
    head = rig.fixtures["a"]
    return put_entries(
        replace(rig, feeds={}, universes={}, fixtures={}, elements={}, devices={}, shares={}),
        "",
        universes={f"n{n}": replace(rig.universes["u1"], number=n, name="") for n in range(1, count + 1)},
        fixtures={
            f"x{n}": replace(head, number=n, at=(Place(universe=f"n{n}", address=1),)) for n in range(1, count + 1)
        },
    )[0]


def found(rig: Rig, code: str) -> list[Finding]:
    return [f for f in check_rig(rig).findings if f.code == code]


def test_many_of_a_kind_are_one_line_in_the_order_people_count() -> None:
    few, many = in_bundles(found(unfed(MANY), "FEED-02")), in_bundles(found(unfed(12), "FEED-02"))
    assert [len(b) for b in few] == [1] * MANY
    (bundle,) = many
    assert [f.where for f in bundle] == [f"universe {n}" for n in range(1, 13)]


def test_one_fix_for_all_does_what_the_single_ones_do() -> None:
    rig = unfed(12)
    fix = fix_for_all(found(rig, "FEED-02"))
    assert fix and fix.edit and fix.label == "Feed 12 universes, each by the sACN of its number"
    assert len(fix.changes) == 12
    after, change = fix.edit(rig)
    assert not found(after, "FEED-02") and sorted(f.wire for f in after.feeds.values()) == list(range(1, 13))
    assert change.label.startswith("feed 12 universes") and len(change.made) == 12
    assert change.changed_ids("feeds") == frozenset(after.feeds)
    large = fix_for_all(found(unfed(60), "FEED-02"))
    assert large and len(large.changes) == 41 and large.changes[-1] == ("and more", "", "20 changes")


def test_what_does_not_go_any_more_is_left_out_and_nothing_left_is_refused() -> None:
    first, *_ = found(unfed(3), "FEED-02")

    def never(_: Rig) -> tuple[Rig, object]:
        raise Refused("no such luck")

    bad = Finding("FEED-02", "warning", "x", "", "", "", made_fixes=(Fix("x", edit=never),))  # type: ignore[arg-type]
    some, none = fix_for_all([first, bad]), fix_for_all([bad])
    assert some and some.edit and none and none.edit
    assert len(some.edit(unfed(3))[0].feeds) == 1
    with pytest.raises(Refused, match="no such luck"):
        none.edit(unfed(3))


def test_fixes_that_stand_in_each_others_way_have_none_for_all() -> None:
    """Two fixtures that were offered the same next free place would land on each other."""
    rig = unfed(3)
    loose = put_entries(rig, "", fixtures={k: replace(f, at=()) for k, f in rig.fixtures.items()})[0]
    unpatched = found(loose, "PATCH-03")
    assert len(unpatched) == 3 and unpatched[0].possible_fixes and fix_for_all(unpatched) is None


@pytest.mark.parametrize("code", [c for c, r in RULES.items() if r.for_all])
def test_every_declared_fix_for_all_takes_its_findings_away(code: str, rig: Rig) -> None:
    faulty, _, findings = case(code, rig)
    fix = fix_for_all(findings)
    assert code in EXAMPLES or findings
    assert fix and fix.edit and str(len(findings)) in fix.label
    assert not found(fix.edit(faulty)[0], code)


def test_a_device_that_is_as_it_came_is_one_finding() -> None:
    """Nobody has set it yet: one finding and one push. As soon as somebody set a part of it, each is told of."""
    rig = make_gallery()
    pen, device = next((k, d) for k, d in rig.devices.items() if d.name == "PENSTOCK")
    lines = compare_device(Index(rig), NOTHING, pen, 0.0)
    as_it_came = {x.key: x.spec.factory for x in lines if x.spec.factory is not None}
    as_it_came["ip"] = device.ip

    def differing(active: dict[str, object]) -> list[Finding]:
        said = {device.ip: DeviceAnswer(100.0, active)}  # type: ignore[arg-type]
        report = check_rig(rig, Observed(said=said, listening=True), 101.0)
        return [f for f in report.findings if f.code == "DEV-04" and f.goes_to.id == pen]

    (one,) = differing(as_it_came)
    count = int(one.facts["settings"])
    assert one.title == f"PENSTOCK is as it came: {count} settings to be set" and count > AS_IT_CAME
    assert one.possible_fixes[0].label == f"Push {count} settings"
    assert one.possible_fixes[0].push and len(one.possible_fixes[0].push[1]) == count
    keys = [k for k in one.possible_fixes[0].push[1] if isinstance(as_it_came.get(k), int)]
    touched = differing({**as_it_came, keys[0]: 77})
    assert len(touched) == count and all(" of PENSTOCK: plan " in f.title for f in touched)
    all_of_them = fix_for_all(touched)
    assert all_of_them and all_of_them.push and set(all_of_them.push[1]) == set(one.possible_fixes[0].push[1])
