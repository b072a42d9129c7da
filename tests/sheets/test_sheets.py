"""Sheets as PDF: what is printed is what the rig says, whole rows, edges where the knife was."""

from __future__ import annotations

import json
import re
import time
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from tests.conftest import slowed, small_rig
from welvo.cli import app
from welvo.demo.gallery import make_gallery
from welvo.formats.rigfile import save_rig_file
from welvo.formats.versions import name_version
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import waive_finding
from welvo.rig.steps import Stopped
from welvo.sheets import lists
from welvo.sheets.blocks import Rows
from welvo.sheets.catalogue import SHEETS, choices_about, columns_of, file_name, issue_of, make_pdf
from welvo.sheets.labels import labels_of
from welvo.sheets.lists import Material
from welvo.sheets.pages import Pages, pages_as_pngs
from welvo.sheets.paper import PAPERS, STOCKS, Choices, Stock, read_stock
from welvo.sheets.pdf import share_width
from welvo.sheets.pen import count_lacking, fit_line, printable_words, width_of_line, wrap_lines
from welvo.survey.compare import compare_rigs


def material(rig: Rig) -> Material:
    return Material(Index(rig), now=1_800_000_000.0)


def printed(data: bytes) -> list[str]:
    pages = Pages(data)
    try:
        return [pages.text_of_page(n) for n in range(len(pages))]
    finally:
        pages.close_pages()


@pytest.fixture(scope="module")
def hall() -> Material:
    return material(make_gallery())


@pytest.mark.parametrize("key", list(SHEETS))
def test_every_sheet_of_the_demo_rig_carries_rig_issue_date_and_page(hall: Material, key: str) -> None:
    pages = printed(make_pdf(hall, key, Choices()))
    if key == "labels":
        assert all("page" not in p for p in pages)
        return
    for n, words in enumerate(pages, 1):
        assert f"page {n} of {len(pages)}" in words and "2027-01-15" in words
        assert "Drift Gallery" in words and "not issued" in words and SHEETS[key].title in words


@pytest.mark.parametrize("key", list(SHEETS))
def test_every_sheet_of_an_empty_rig_says_so_and_is_no_blank_page(key: str) -> None:
    pages = printed(make_pdf(material(Rig()), key, Choices()))
    assert len(pages) == 1 and len(pages[0]) > 60


def test_every_printed_address_equals_the_patch_that_is_told_by_the_command_line(
    hall: Material, tmp_path: Path
) -> None:
    save_rig_file(hall.rig, tmp_path / "hall.welvo")
    told = json.loads(CliRunner().invoke(app, ["patch", str(tmp_path / "hall.welvo"), "--json"]).output)
    wanted = {
        (r["number"], f"{r['universe']}.{r['first']:03d}") for r in told if r["kind"] == "fixture" and r["break"] == 1
    }
    for key in ("patch", "numbers", "positions", "circuits"):
        found = set()
        for page in printed(make_pdf(hall, key, Choices())):
            found |= {(int(n), a) for n, a in re.findall(r"^(\d{3})\b[^\n]*?(\d+\.\d{3})", page, re.MULTILINE)}
        assert wanted <= found, key
    universes = printed(make_pdf(hall, "patch", Choices()))
    heads = [int(n) for page in universes for n in re.findall(r"^Universe (\d+)", page, re.MULTILINE)]
    assert heads == sorted({r["universe"] for r in told})


def test_a_thousand_fixtures_lose_no_row_at_a_page_s_end() -> None:
    rig = small_rig()
    lamp = rig.fixtures["a"]
    many = {f"f{n}": replace(lamp, number=1000 + n, name=f"Lamp {n}", at=()) for n in range(1000)}
    begun = time.monotonic()
    pages = printed(make_pdf(material(replace(rig, fixtures=many)), "numbers", Choices(paper="A5")))
    assert time.monotonic() - begun < slowed(30) and len(pages) > 20
    numbers = [
        int(n)
        for page in pages
        for n in re.findall(r"^(\d{4}) Lamp \d+$|^(\d{4})\b", page, re.MULTILINE)
        for n in n
        if n
    ]
    assert numbers == list(range(1000, 2000))
    assert all("No." in page for page in pages)


def test_what_waits_hears_how_far_it_is_and_can_stop(hall: Material) -> None:
    heard: list[tuple[int, int]] = []
    make_pdf(hall, "cards", Choices(), lambda done, of: heard.append((done, of)))
    assert heard[-1][0] == heard[-1][1] and len(heard) > 20

    def stop(done: int, of: int) -> None:
        if done > 3:
            raise Stopped

    with pytest.raises(Stopped):
        make_pdf(hall, "cards", Choices(), stop)


def test_sheets_follow_what_is_chosen(hall: Material) -> None:
    one = printed(make_pdf(hall, "map", Choices(of="3")))
    assert len(one) == 1 and "Universe 3" in one[0] and "207" in one[0]
    with pytest.raises(Refused, match="no universe 99"):
        make_pdf(hall, "map", Choices(of="99"))
    with pytest.raises(Refused, match="no paper “B7”"):
        make_pdf(hall, "patch", Choices(paper="B7"))
    with pytest.raises(Refused, match="no sheet “roll”"):
        make_pdf(hall, "roll", Choices())
    few = printed(make_pdf(hall, "numbers", Choices(columns=("number", "name"), items=("f207", "f101"))))
    assert "207" in few[0] and "101" in few[0] and "3.145" not in few[0] and "2 items" in few[0]
    device = next(k for k, w in choices_about(hall.rig, "device") if w == "PENSTOCK")
    cards = printed(make_pdf(hall, "cards", Choices(of=device)))
    assert "PENSTOCK" in cards[0] and not any("BRINE" in page for page in cards)
    landscape = Pages(make_pdf(hall, "patch", Choices(paper="Letter")))
    assert [round(v, 1) for v in landscape.sizes[0]] == [279.4, 215.9]
    assert ("first", "First") in columns_of(hall, SHEETS["patch"])
    comma = printed(make_pdf(hall, "cables", Choices(decimal=",", day="%d.%m.%Y")))
    assert "15.01.2027" in comma[0] and re.search(r"\d,\d", " ".join(comma))
    assert hall.say_number(12345.5) == "12\u202f345.5" and hall.say_number(2.0) == "2"


def test_findings_waivers_and_changes_are_printed_with_their_reasons() -> None:
    rig = make_gallery()
    finding = next(f for f in material(rig).report.findings if f.severity == "warning")
    rig, _ = waive_finding(rig, finding.code, finding.subject, finding.fingerprint_of_facts, "spare lamp until Friday")
    pages = " ".join(printed(make_pdf(material(rig), "findings", Choices()))).replace("\r\n", " ")
    assert "PATCH-01" in pages and "spare lamp until Friday" in pages
    issued, _ = name_version(rig, "Issue 3", "Ines", "", 5.0)
    moved, _ = edits.move_item(issued, "f207", 0, "u3", 401)
    m = replace_since(moved, issued, "Issue 3")
    assert issue_of(m) == "Issue 3, changed since"
    changes = " ".join(printed(make_pdf(m, "changes", Choices())))
    assert "re-addressed" in changes and "3.145" in changes and "3.401" in changes
    assert issue_of(replace_since(issued, issued, "Issue 3")) == "Issue 3"


def replace_since(rig: Rig, old: Rig, name: str) -> Material:
    index = Index(rig)
    return Material(index, now=1_800_000_000.0, since=(name, tuple(compare_rigs(Index(old), index))))


def test_secrets_are_printed_only_where_they_are_given() -> None:
    rig = make_gallery()
    device = next(k for k, d in rig.devices.items() if d.name == "PENSTOCK")
    rig, _ = edits.plan_setting(rig, device, "description", "Under the drum")
    m = material(rig)
    assert "Under the drum" in " ".join(printed(make_pdf(m, "cards", Choices(of=device))))
    given = Choices(of=device, secrets={device: {"description": "hidden word", "password": "eel"}})
    words = " ".join(printed(make_pdf(m, "cards", given)))
    assert "hidden word" in words and "Under the drum" not in words and "Password of its pages eel" in words


# ---- labels


def dark(page: np.ndarray) -> np.ndarray:
    return page.min(axis=2) < 110


@pytest.mark.parametrize("name", list(STOCKS))
def test_label_edges_lie_within_half_a_millimetre_in_the_rendered_page(hall: Material, name: str) -> None:
    stock = STOCKS[name]
    data = make_pdf(hall, "labels", Choices(stock=stock, cut_marks=True))
    pages = Pages(data)
    assert [round(v, 1) for v in pages.sizes[0]] == [round(v, 1) for v in stock.page]
    dpi = 300
    ink = dark(np.asarray(pages.picture_of_page(0, dpi).convert("RGB")))
    mm = dpi / 25.4
    inside = [
        x
        for n in range(stock.across)
        for x in (stock.left + n * stock.step_x, stock.left + n * stock.step_x + stock.wide)
    ]
    down = [
        y for n in range(stock.down) for y in (stock.top + n * stock.step_y, stock.top + n * stock.step_y + stock.high)
    ]
    marks = [(x, y) for x in inside for y in down if 1 < x < stock.page[0] - 1 and 1 < y < stock.page[1] - 1]
    for x, y in marks:
        # beside the corner there is only the mark: a column of ink above or below it, a row beside it
        around = ink[int((y - 2) * mm) : int((y + 2) * mm), int((x - 0.8) * mm) : int((x + 0.8) * mm)]
        column = np.flatnonzero(around.sum(0) > 1.5 * mm)
        assert column.size and abs((int((x - 0.8) * mm) + column.mean()) / mm - x) < 0.5, (x, y)
        beside = ink[int((y - 0.8) * mm) : int((y + 0.8) * mm), int((x - 2) * mm) : int((x + 2) * mm)]
        line = np.flatnonzero(beside.sum(1) > 1.5 * mm)
        assert line.size and abs((int((y - 0.8) * mm) + line.mean()) / mm - y) < 0.5, (x, y)


def test_labels_say_what_is_set_and_begin_where_it_is_wanted(hall: Material) -> None:
    stock = STOCKS["70 × 37 mm, 24 on A4"]
    made = {x.number: x for x in labels_of(hall, Choices())}
    assert made["207"].places == "3.145" and made["207"].set_to == ((145, "set 145 in its menu"),)
    assert made["531"].set_to[0][0] == 1 and "behind the bridge" in made["531"].where  # 206.001 is DMX 1 of the bridge
    first = printed(make_pdf(hall, "labels", Choices(stock=stock, items=("f101", "f102"))))
    assert len(first) == 1 and "101" in first[0] and "1.041" in first[0]
    late = make_pdf(hall, "labels", Choices(stock=stock, first_label=24, items=("f101", "f102")))
    assert [("101" in p, "102" in p) for p in printed(late)] == [(True, False), (False, True)]
    with pytest.raises(Refused, match="labels 1 to 24"):
        make_pdf(hall, "labels", Choices(stock=stock, first_label=25))


def test_a_stock_is_read_by_its_measures() -> None:
    s = read_stock("63.5 x 38,1, 3 x 7 on A4, left 7.2, top 15.1, step 66 x 38.1")
    assert (s.wide, s.high, s.left, s.top, s.place_of_label(4)) == (63.5, 38.1, 7.2, 15.1, (7.2 + 66, 15.1 + 38.1))
    assert read_stock("70 × 37 mm, 24 on A4") is STOCKS["70 × 37 mm, 24 on A4"]
    touching = read_stock("100 x 50, 2 x 5 on letter")
    assert touching.left == pytest.approx((PAPERS["Letter"][0] - 200) / 2) and touching.labels_per_sheet == 10
    for wrong, why in (
        ("big ones", "no label stock"), ("70 x 37, 4 x 8 on A4", "do not fit"), ("70 x 37, 3 x 8 on B4", "no paper"),
        ("0 x 37, 3 x 8 on A4", "needs a width"), ("70 x 37, 3 x 8 on A4, left 5", "do not fit"),
    ):  # fmt: skip
        with pytest.raises(Refused, match=why):
            read_stock(wrong)
    assert isinstance(s, Stock)


# ---- lists and letters


def test_every_list_has_as_many_cells_as_headings(hall: Material) -> None:
    for key, (words, make) in lists.LISTS.items():
        listing = make(hall)
        assert words and listing.heads and all(len(r) == len(listing.heads) for r in listing.rows), key
    items = lists.list_items(hall)
    by_number = dict(zip(items.ids, items.rows))
    assert by_number["f531"][items.column_of_key("set")].startswith("001")
    by_place = lists.sorted_by(hall, items, "first")
    firsts = [r[items.column_of_key("first")] for r in by_place.rows if r[items.column_of_key("universe")]]
    assert firsts == sorted(firsts, key=lambda p: [int(x) for x in p.split(",")[0].split(".")])
    assert [h.key for h in items.with_columns(["name", "nothing", "number"]).heads] == ["name", "number"]


def test_letters_that_no_face_has_are_a_box_and_are_counted() -> None:
    assert printable_words("Kelp – 3 → ☐") == "Kelp – 3 → ☐" and count_lacking("Kelp") == 0
    assert printable_words("\u4e00") == "□" and count_lacking("a\u4e00") == 1
    assert fit_line("Undertow wash", 10, 9).endswith("…") and width_of_line(fit_line("Undertow wash", 10, 9), 9) <= 10
    lines = wrap_lines("a very long remark about averyveryverylongwordthatnobodyneeds", 20, 9)
    assert all(width_of_line(x, 9) <= 20 for x in lines) and "".join(lines).replace(" ", "").startswith(
        "averylongremark"
    )
    assert len(wrap_lines("word " * 200, 20, 9, most=5)) == 5
    assert sum(share_width([100, 20, 20], [10, 10, 10], 90)) == pytest.approx(90)
    assert share_width([100, 20, 20], [10, 10, 10], 90)[1:] == [20, 20]  # the widest gives way


def test_the_command_line_writes_a_folder_of_paper(hall: Material, tmp_path: Path) -> None:
    rig, out = tmp_path / "hall.welvo", tmp_path / "paper"
    save_rig_file(hall.rig, rig)
    run = CliRunner().invoke
    assert "labels" in run(app, ["sheets", str(rig)]).output
    done = run(app, ["sheets", str(rig), "--which", "all", "--to", str(out)])
    assert done.exit_code == 0 and len(list(out.glob("*.pdf"))) == len(SHEETS), done.output
    assert file_name(hall, "patch") == "Drift Gallery Patch by universe"
    one = run(app, ["sheets", str(rig), "--which", "numbers", "--to", str(tmp_path / "n.pdf"), "--columns", "No.,Name",
                    "--sort", "name", "--group", "universe", "--paper", "A5", "--comma"])  # fmt: skip
    assert one.exit_code == 0 and "Kelp 1" in printed((tmp_path / "n.pdf").read_bytes())[0]
    pictures = run(app, ["sheets", str(rig), "--which", "plan", "--to", str(out), "--png"])
    assert pictures.exit_code == 0 and next(out.glob("*.png")).read_bytes().startswith(b"\x89PNG")
    for wrong, why in (
        (["--which", "roll", "--to", str(out)], "no sheet “roll”"), (["--which", "patch"], "Say where to write to"),
        (["--which", "patch,map", "--to", "x.pdf"], "need a folder"),
        (["--which", "map", "--of", "77", "--to", str(out)], "no universe “77”"),
        (["--which", "patch", "--sort", "shoe", "--to", str(out)], "no column “shoe”"),
        (["--which", "labels", "--stock", "big", "--to", str(out)], "no label stock"),
        (["--which", "changes", "--since", "Issue 9", "--to", str(out)], "no version “Issue 9”"),
        (["--which", "patch", "--turned", "over", "--to", str(out)], "neither portrait"),
    ):  # fmt: skip
        failed = run(app, ["sheets", str(rig), *wrong])
        assert failed.exit_code == 2 and why in failed.stderr, failed.output
    assert pages_as_pngs(make_pdf(hall, "plan", Choices()), 30)[0].startswith(b"\x89PNG")


def test_a_sheet_of_several_lists_sorts_and_groups_the_first_and_leaves_the_others(hall: Material) -> None:
    def printed_lists(choices: Choices) -> list[lists.Listing]:
        return [b.listing for b in SHEETS["network"].make(hall, choices) if isinstance(b, Rows)]

    devices, *others = printed_lists(Choices())
    sorted_devices, *same_others = printed_lists(Choices(sort="address"))
    at = devices.column_of_key("address")
    known = [r[at] for r in sorted_devices.rows if r[at]]
    assert known == sorted(known, key=lambda ip: [int(p) for p in ip.split(".")]) and len(known) > 4
    assert sorted(sorted_devices.rows) == sorted(devices.rows) and sorted_devices.rows != devices.rows
    assert others and same_others == others
    parts = printed_lists(Choices(group="model"))
    models = len({r[devices.column_of_key("model")] for r in devices.rows})
    assert models > 2 and parts[models:] == others and sum(len(p.rows) for p in parts[:models]) == len(devices.rows)
    few, *still_others = printed_lists(Choices(columns=("address", "device")))
    assert [h.key for h in few.heads] == ["address", "device"] and still_others == others
