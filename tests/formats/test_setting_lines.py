"""Settings of device models as lines: shipped models survive the way there and back, and what is wrong is said."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from welvo.formats.models import shipped_models
from welvo.formats.setting_lines import MOST, read_setting_lines, say_setting_lines
from welvo.rig.base import Refused
from welvo.rig.wiring import DeviceModel

BARE = DeviceModel(name="Own", kind="pixel", ports=("1", "2"))


@pytest.mark.parametrize("name", shipped_models())
def test_the_settings_of_every_shipped_model_survive_the_way_there_and_back(name: str) -> None:
    model = shipped_models()[name]
    assert read_setting_lines(say_setting_lines(model.settings), model) == model.settings


def test_lines_say_what_a_setting_may_be_and_how_it_came() -> None:
    some = read_setting_lines(
        "Brightness: 0-100 %, factory 100\n\nport Chip type: A1 | B2, factory B2; needs save, restart\nFan: switch\n"
        "Title: text 12\nStart: universe, factory 7\nGamma: decimal, factory 2.2\nsegment Lift: -5–5",
        BARE,
    )
    by_key = {s.key: s for s in some}
    assert [s.scope for s in some] == ["device", "port", "device", "device", "device", "device", "segment"]
    bright, chip = by_key["brightness"], by_key["chip_type"]
    assert (bright.type, bright.low, bright.high, bright.unit, bright.factory) == ("number", 0, 100, "%", 100)
    assert (chip.options, chip.factory, chip.needs) == (("A1", "B2"), "B2", ("save", "restart"))
    assert by_key["fan"].factory is False and by_key["title"].longest == 12 and by_key["start"].factory == 7
    assert by_key["gamma"].factory == 2.2 and (by_key["lift"].low, by_key["lift"].factory) == (-5, -5)
    assert {s.link for s in some} == {"hand"}  # nothing carries them: they are entered by hand
    linked = replace(BARE, links=("http",))
    assert read_setting_lines("Fan: switch", linked)[0].link == ""


def test_a_changed_line_keeps_what_it_does_not_say() -> None:
    model = shipped_models()["penstock-12"]
    old = next(s for s in model.settings if s.scope == "port" and s.type == "number")
    (new,) = read_setting_lines(f"port {old.label}: 1-9, factory 3", model)
    assert (new.key, new.help, new.page, new.link) == (old.key, old.help, old.page, old.link)
    assert (new.low, new.high, new.factory) == (1, 9, 3)


@pytest.mark.parametrize(
    ("line", "why"),
    [
        ("Brightness", "is no setting"), (": 0-9", "is no setting"), ("Fan:", "is no setting"),
        ("Fan: maybe", "what it may be is a range"), ("Fan: switch, factory 7", "comes on or off"),
        ("Level: 9-1", "is no range"), ("Level: 0-9, factory 12", "no number from 0 to 9"),
        ("Level: 0-9, factory x", "no number from 0 to 9"), ("Chip: A |", "two options or more"),
        ("Chip: A | B, factory C", "none of A, B"), ("Gamma: decimal, factory x", "is no number"),
        ("Fan: switch; needs luck", "stands needs, and save, apply, restart"), ("Fan: switch; save", "stands needs"),
        ("Fan: switch\nFan: text", "is there twice"),
        ("\n".join(f"S{n}: switch" for n in range(MOST + 1)), f"{MOST} settings at most"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_named_with_its_line(line: str, why: str) -> None:
    with pytest.raises(Refused, match=why):
        read_setting_lines(line, BARE)
