"""What the documentation says is what the code does."""

from __future__ import annotations

import json
import re
import runpy
from pathlib import Path

import jsonschema
import pytest

from tests.standins.test_pixel import penstock
from welvo.demo.gallery import make_gallery
from welvo.formats.chart import read_chart
from welvo.formats.rigfile import rig_from_bytes, to_json
from welvo.protocols.status_page import encode_status_page
from welvo.rig.document import Rig

ROOT = Path(__file__).parents[1]
MADE = runpy.run_path(str(ROOT / "scripts" / "make-docs.py"))["MADE"]


@pytest.mark.parametrize("name", MADE)
def test_generated_pages_are_up_to_date(name: str) -> None:
    assert (ROOT / "docs" / name).read_text("utf-8") == MADE[name](), "run make docs"


def blocks(page: str, kind: str) -> list[str]:
    return re.findall(rf"```{kind}\n(.*?)```", (ROOT / "docs" / page).read_text("utf-8"), re.S)


def test_every_chart_in_the_documentation_is_understood() -> None:
    charts = blocks("chart.md", "chart")
    assert len(charts) >= 6
    for chart in charts:
        assert [p for p in read_chart(chart).problems if p.error] == [], chart


def test_the_rig_in_the_documentation_opens_and_fits_the_schema() -> None:
    (text,) = blocks("rig-format.md", "json")
    rig = rig_from_bytes(text.encode())
    assert rig.fixtures and rig.feeds and rig.devices
    parts = json.loads((ROOT / "docs" / "rig.schema.json").read_text())["$defs"]["Rig"]["properties"]
    assert set(json.loads(text)) <= set(parts)


def test_the_schema_takes_what_the_program_writes_and_refuses_what_it_would_ignore() -> None:
    schema = json.loads((ROOT / "docs" / "rig.schema.json").read_text("utf-8"))
    jsonschema.Draft202012Validator.check_schema(schema)
    assert schema["$id"].startswith("urn:welvo:rig:format-") and "example" not in schema["$id"]
    (text,) = blocks("rig-format.md", "json")
    for rig in (json.loads(text), json.loads(to_json(make_gallery())), json.loads(to_json(Rig()))):
        jsonschema.validate(rig, schema)
    wrong = json.loads(text)
    fixture = next(iter(wrong["fixtures"].values()))
    for change in ({"nmae": "Left"}, {"number": "101"}, {"number": 0}):
        kept = dict(fixture)
        fixture.update(change)
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate(wrong, schema)
        fixture.clear()
        fixture.update(kept)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**wrong, "fixturs": {}}, schema)


def test_links_and_pictures_lead_somewhere() -> None:
    pages = [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]
    for page in pages:
        for target in re.findall(r"\]\(([^)#]+?)(?:#[^)]*)?\)", page.read_text("utf-8")):
            assert (page.parent / target).exists(), (page.name, target)
    readme = pages[0].read_text("utf-8")
    for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert picture.name in readme, picture.name


def test_the_settings_protocol_its_examples_and_the_simulated_devices_agree() -> None:
    (text,) = blocks("device-settings.md", "schema")
    schema = json.loads(text)

    def must(kind: str, value: object) -> None:
        jsonschema.validate(value, {**schema, "$ref": f"#/$defs/{kind}"})

    kinds = ("About", "Values", "Stage", "Staged", "Waits", "Status")
    for kind in kinds:
        (example,) = blocks("device-settings.md", kind)
        must(kind, json.loads(example))
    device, _ = penstock()
    staged = device.stage_values({"1.brightness": 50, "1.chip": "LU-9", "1/1.pixels": 3})
    for kind, said in (
        ("About", device.about_device()),
        ("Values", device.all_values()),
        ("Staged", {"results": staged}),
        ("Waits", {"waits": {k: list(v) for k, v in device.store.waiting_settings().items()}}),
        ("Status", json.loads(encode_status_page(device.status_page()))),
    ):
        must(kind, json.loads(json.dumps(said)))
    with pytest.raises(jsonschema.ValidationError):
        must("Staged", {"results": {"x": {"why": "no"}}})
