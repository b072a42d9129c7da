"""How well pasted tables of manuals are read, measured on thirty invented ones."""

from __future__ import annotations

import pytest

from tests.formats.manual_charts import CHARTS, expected
from welvo.formats.chart import read_chart
from welvo.formats.chart_write import write_chart
from welvo.formats.manual import is_heading, meaning_of_row
from welvo.formats.ranges import read_ranges, write_ranges


def judge(text: str, words: str) -> tuple[int, list[str], list[str]]:
    """Rows right, rows wrong with a mark, rows wrong without one."""
    chart = read_chart(text)
    have = {c.slots[0]: (c.slots, c.function, c.pixel) for c in chart.channels}
    marked = {p.slot for p in chart.problems}
    right, told, silent = 0, [], []
    for row in expected(words):
        found = have.get(row[0][0])
        if found == row and (row[1] or row[0][0] in marked):
            right += 1
        elif row[0][0] in marked:
            told.append(f"{row} read as {found}")
        else:
            silent.append(f"{row} read as {found}")
    wanted = {r[0][0] for r in expected(words)}
    silent += [f"slot {s} out of nothing: {have[s]}" for s in have if s not in wanted and s not in marked]
    return right, told, silent


def test_there_are_thirty_charts_in_ten_typographies() -> None:
    assert len(CHARTS) == 30 and len({kind for kind, _, _ in CHARTS}) == 10


@pytest.mark.parametrize(("kind", "text", "words"), CHARTS)
def test_no_row_is_read_wrong_without_a_mark(kind: str, text: str, words: str) -> None:
    _, _, silent = judge(text, words)
    assert silent == []


def test_at_least_95_of_100_rows_are_right() -> None:
    judged = [(judge(text, words), len(expected(words))) for _, text, words in CHARTS]
    right, rows = sum(j[0] for j, _ in judged), sum(n for _, n in judged)
    assert right / rows >= 0.95, [j[1] for j, _ in judged if j[1]]


def test_values_under_a_channel_become_its_ranges() -> None:
    chart = read_chart(next(t for k, t, _ in CHARTS if k == "values"))
    shutter, dimmer, wheel = chart.channels
    assert [(r.first, r.last, r.does) for r in shutter.ranges] == [
        (0, 9, "closed"),
        (10, 127, "strobe"),
        (128, 255, "open"),
    ]
    assert wheel.ranges[1].light == "#ff2a1f" and wheel.ranges[1].name == "Red" and len(dimmer.ranges) == 1
    control = read_chart(CHARTS[19][1]).channels[2]
    assert (control.ranges[2].does, control.ranges[2].hold) == ("reset", 3.0)


@pytest.mark.parametrize(
    ("line", "spans"),
    [
        ("0–6 closed", [(0, 6)]), ("007-121 strobe slow…fast", [(7, 121)]), ("122 ... 239 pulse", [(122, 239)]),
        ("240 to 255: open", [(240, 255)]), ("0% - 50% dim", [(0, 128)]), ("255 = full on", [(255, 255)]),
        ("0-9 a; 10-19 b", [(0, 9), (10, 19)]), ("0-9 | off\n10-255 | on", [(0, 9), (10, 255)]),
        ("0~127 left, 128-255 right", [(0, 127), (128, 255)]), ("DMX 5 > 9 x", [(5, 9)]),
    ],
)  # fmt: skip
def test_tables_of_ranges_in_the_usual_typographies(line: str, spans: list[tuple[int, int]]) -> None:
    ranges, problems = read_ranges(line)
    assert [(r.first, r.last) for r in ranges] == spans and problems == []
    again, _ = read_ranges(write_ranges(ranges))
    assert [(r.first, r.last, r.name) for r in again] == [(r.first, r.last, r.name) for r in ranges]


def test_ranges_that_cannot_be_are_told() -> None:
    ranges, problems = read_ranges("9-3 backwards\n0-300 too wide\nnonsense\n0-9 fine\n\n----")
    assert [r.name for r in ranges] == ["fine"] and [p.line for p in problems] == [0, 1, 2]
    assert read_ranges("0-65535 all", 65535)[0][0].last == 65535


def test_what_words_of_rows_mean() -> None:
    assert meaning_of_row("Red (0-255)").function == "ColorAdd_R" and meaning_of_row("LED 4 Green").pixel == 4
    assert meaning_of_row("Pan LSB") == meaning_of_row("pan fine") and meaning_of_row("Pan fine").fine
    assert (
        meaning_of_row("Zoom control").function == "Zoom"
        and meaning_of_row("Zoom wobble").function == ""
        and not meaning_of_row("Zoom wobble").sure
    )
    assert meaning_of_row("Gobo 2").pixel == 0 and meaning_of_row("fine", "Tilt").function == "Tilt"
    assert not meaning_of_row("shutter dimmer").sure  # a shutter is not a dimmer: it is asked about


def test_headings_make_no_channels() -> None:
    assert all(
        is_heading(h)
        for h in ("Channel  Function  Value", "CH | Function | DMX", "|----|----|", "-----", "DMX channel no.")
    )
    assert not any(is_heading(h) for h in ("dimmer", "?", '"', "1 Function", "function", "red"))


def test_a_fine_byte_without_its_coarse_one_is_told_and_a_bare_slot_guessed() -> None:
    assert "fine of what" in read_chart("1 Zoom fine\n2 Pan").problems[0].message
    chart = read_chart("pan, ?, tilt")
    assert chart.problems[0].offers == ("pan fine",)
    assert read_chart("pan, pan fine, tilt").channels[0].slots == (1, 2)


def test_columns_of_marks_point_at_the_words() -> None:
    chart = read_chart("1\tDimmer\t0-255\n2\tSparkle\t0-255")
    (problem,) = chart.problems
    assert (problem.line, problem.column, problem.length, problem.slot) == (1, 2, 7, 2)


def test_rows_of_values_with_a_gap_or_an_overlap_stay_ranges() -> None:
    chart = read_chart("1 shutter\n0-6 closed\n7-121 strobe\n130-200 pulse\n190-255 open\n2 dimmer")
    shutter, dimmer = chart.channels
    assert [(r.first, r.last) for r in shutter.ranges] == [(0, 6), (7, 121), (130, 200), (190, 255)]
    assert dimmer.slots == (2,) and not chart.problems


def test_as_many_functions_as_slots_are_as_many_channels() -> None:
    assert [(c.function, c.slots) for c in read_chart("1-3 red green blue").channels] == [
        ("ColorAdd_R", (1,)), ("ColorAdd_G", (2,)), ("ColorAdd_B", (3,))
    ]  # fmt: skip


@pytest.mark.parametrize(
    "words", ["1-2 red green blue", "1 wobble (fast), slowly = 3", "1 gap filler", "1 7 x white", "1 red/3 item"]
)
def test_what_nobody_has_described_reads_back_as_it_was_written(words: str) -> None:
    mode = read_chart(words).mode_of_chart("m")
    assert read_chart(write_chart(mode)).mode_of_chart("m", mode) == mode
