"""The chart notation: what is read, what is refused at which word, and that writing gives the same back."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from welvo.demo.gallery import EDDY, UNDERTOW, make_gallery
from welvo.formats.chart import nearest_words, read_chart
from welvo.formats.chart_write import write_chart
from welvo.formats.library import profile_from_plain, profile_json
from welvo.formats.rigfile import rig_from_bytes, to_json
from welvo.rig.attributes import ATTRIBUTES, BY_KEY, BY_WORD
from welvo.rig.document import Rig
from welvo.rig.profile import Mode, Profile, Range


def functions(text: str) -> list[tuple[str, tuple[int, ...]]]:
    return [(c.function, c.slots) for c in read_chart(text).channels]


def test_one_line_becomes_channels_on_slots() -> None:
    assert functions("pan 16, tilt 16, dimmer, shutter = 255, gap 2, zoom") == [
        ("Pan", (1, 2)), ("Tilt", (3, 4)), ("Dimmer", (5,)), ("Shutter1", (6,)), ("Zoom", (9,)),
    ]  # fmt: skip
    chart = read_chart("pan 16, tilt 16, dimmer, shutter = 255, gap 2, zoom")
    assert chart.breaks[0].slots == 9 and chart.problems == []
    assert [c.default for c in chart.channels] == [32768, 32768, 0, 255, 0]  # heads rest in the middle


def test_groups_repeat_as_pixels() -> None:
    mode = read_chart("dimmer, 7 x (amber white)").mode_of_chart("m")
    assert mode.slots_needed == 15 and mode.count_pixels == 7
    last = mode.channels[-1]
    assert (last.function, last.slots, last.pixel) == ("ColorAdd_W", (15,), 7)
    words = read_chart("3 x (red 16, green 16, gap, blue)").mode_of_chart("m")
    assert words.slots_needed == 18 and [c.slots for c in words.channels if c.pixel == 2] == [(7, 8), (9, 10), (12,)]


@pytest.mark.parametrize(
    "text",
    [
        "1 pan\n2 pan fine\n3: tilt\n4. dimmer", "CH1 pan\nCh 2 tilt\nchannel 3 dimmer", "1\tpan\n2\ttilt\n3\tdimmer",
        "1-2 pan\n3–4 tilt\n5 dimmer", "1 Pan; 2 Tilt; 3 DIMMER",
    ],
)  # fmt: skip
def test_numbered_lines_of_manuals(text: str) -> None:
    found = functions(text)
    assert found[0][0] == "Pan" and "Dimmer" in [f for f, _ in found]


def test_a_slot_range_makes_one_wide_channel() -> None:
    assert functions("1-2 pan\n3 dimmer") == [("Pan", (1, 2)), ("Dimmer", (3,))]


@pytest.mark.parametrize(
    ("text", "line", "column", "says"),
    [
        ("pan, wobble", 0, 5, "no function name"), ("dimmer\n  blink fast", 1, 2, "no function name"),
        ("dimmer = 300", 0, 9, "0 to 255"), ("dimmer =", 0, 7, "must follow"), ("7 x", 0, 2, "no function name"),
        ("9999 x (red)", 0, 0, "1 to 2000"), ("(red green)", 0, 0, "count before it"),
        ("3 x (red", 0, 0, "not closed"), ("2 x (3 x (red))", 0, 0, "inside a repeat"), ('"', 0, 0, "needs a name"),
        ("gap 900", 0, 0, "1 to 512"), ("5 pan\n2 tilt", 1, 0, "taken"), ("4-2 pan", 0, 0, "backwards"),
        ("1 pan\n4 tilt", 1, 0, "says nothing of slots 2–3"), ("16", 0, 0, "belongs behind"),
        ("9999 pan", 0, 0, "far too high"),
    ],
)  # fmt: skip
def test_errors_point_at_the_word(text: str, line: int, column: int, says: str) -> None:
    import re

    problems = read_chart(text).problems
    assert any((p.line, p.column) == (line, column) and re.search(says, p.message) for p in problems), problems


def test_a_word_that_is_not_known_stays_visible_and_gets_an_offer() -> None:
    chart = read_chart("pan, dimer, tilt")
    (problem,) = chart.problems
    assert problem.offers[0] == "dimmer" and problem.slot == 2
    assert chart.channels[1].name == "dimer" and not chart.channels[1].is_described and chart.channels[2].slots == (3,)
    assert nearest_words("colur wheel")[0] == "colour wheel" and nearest_words("qqqq") == ()


def test_functions_of_ones_own_percent_highlight_and_comments() -> None:
    (own, dim) = read_chart('"bubble pump" # no standard word\ndimmer = 50% highlight 255').channels
    assert own.function == "own:bubble pump" and (dim.default, dim.highlight) == (128, 255)


def test_breaks_have_slots_of_their_own() -> None:
    mode = read_chart(UNDERTOW).mode_of_chart("split")
    assert [(b.name, b.slots) for b in mode.breaks] == [("head", 11), ("pixels", 56)] and mode.count_pixels == 14
    assert {c.slots[0] for c in mode.channels if c.break_no == 1 and c.pixel == 1} == {1, 2, 3, 4}


def test_an_absurd_count_is_refused_before_it_fills_the_memory() -> None:
    chart = read_chart("2000 x (red green blue white)")
    assert any("4096" in p.message for p in chart.problems) and len(chart.channels) < 5000


def test_what_the_chart_cannot_say_is_kept_from_the_mode_before() -> None:
    from msgspec.structs import replace

    old = read_chart("dimmer, shutter").mode_of_chart("m")
    ranged = replace(
        old,
        channels=(
            old.channels[0],
            replace(old.channels[1], ranges=(Range(first=0, last=9, name="closed"),), short="Sht"),
        ),
    )
    new = read_chart("pan, dimmer, shutter").mode_of_chart("m", ranged)
    assert new.channels[2].ranges[0].name == "closed" and new.channels[2].short == "Sht"


def test_short_names_are_unique_in_their_pixel_and_four_letters_long() -> None:
    mode = read_chart(EDDY + ", gobo, gobo, 2 x (red green blue)").mode_of_chart("m")
    for pixel in {c.pixel for c in mode.channels}:
        shorts = [c.short for c in mode.channels if c.pixel == pixel]
        assert len(shorts) == len(set(shorts)) and all(1 <= len(s) <= 4 for s in shorts)


def test_every_word_means_one_function() -> None:
    assert len(BY_KEY) == len(ATTRIBUTES)
    words = [w for a in ATTRIBUTES for w in (a.word, *a.also)]
    assert len(words) == len(set(words)) and set(words) <= set(BY_WORD)
    assert all(len(a.short) <= 4 for a in ATTRIBUTES)
    for a in ATTRIBUTES:  # a short form means its function, or another that writes it so
        assert BY_WORD[a.short.lower()] is a or a.short.lower() in words, a.word
    read = read_chart("dim, shut, stro, foc, zoom, spd, wht, grn, blu, amb, frst, prsm, gob")
    assert not read.problems and [c.function for c in read.channels][:4] == [
        "Dimmer", "Shutter1", "Shutter1Strobe", "Focus1",
    ]  # fmt: skip


def test_a_shutter_that_may_be_the_dimmer_is_asked_about() -> None:
    for chart, asked in (
        ("shutter, pan, tilt", True), ("shutter, red, green, blue", False), ("dimmer, shutter, pan", False),
        ("CH1 Shutter\n000-200 Dimming\n201-255 open\nCH2 Red", True),
    ):  # fmt: skip
        found = [p for p in read_chart(chart).problems if "dim the lamp as well" in p.message]
        assert bool(found) is asked, chart
        assert not asked or (found[0].offers == ("dimmer",) and found[0].slot == 1 and not found[0].error)


def test_the_demos_charts_read_back_the_same() -> None:
    for profile in make_gallery().profiles.values():
        for mode in profile.modes.values():
            if "draft" not in mode.name:
                again = read_chart(write_chart(mode)).mode_of_chart(mode.name, mode)
                assert again == mode, mode.name


names = st.sampled_from([a.word for a in ATTRIBUTES] + ['"own item"', "wobble", "?"])
items = st.one_of(
    names,
    st.builds(
        lambda n, w: f"{n} {w}", names.filter(lambda n: n not in ("wobble", "?")), st.sampled_from([8, 16, 24, 32])
    ), st.builds(lambda n, v: f"{n} = {v}", names.filter(lambda n: n not in ("wobble", "?")), st.integers(0, 255)),
    st.builds(lambda n: f"gap {n}", st.integers(1, 9)),
    st.sampled_from(
        [
            "pan, tilt, pan fine, tilt fine = 77", "red/3", "blue/9 16", "dimmer, gap, dimmer fine highlight 65535",
            "red, fine, fine"
        ]
    ),
    st.builds(
        lambda n, c: f"planes {n} x ({c})", st.integers(1, 6),
        st.sampled_from(["red green blue", "white 16, amber = 3"])
    ),
    st.builds(
        lambda n, c: f"{n} x ({c})", st.integers(1, 6),
        st.sampled_from(["red green blue", "dimmer, red 16, gap, blue", "white", "pan, tilt"])
    ),
)  # fmt: skip
breaks = st.lists(items, min_size=1, max_size=8).map(", ".join)
texts = st.lists(breaks, min_size=1, max_size=3).map(
    lambda b: b[0] if len(b) == 1 else "\n".join(f"break {n}: {t}" for n, t in enumerate(b))
)


@settings(max_examples=300, deadline=None)
@given(texts)
def test_writing_and_reading_give_the_same_mode(text: str) -> None:
    mode: Mode = read_chart(text).mode_of_chart("m")
    again = read_chart(write_chart(mode)).mode_of_chart("m")
    assert again == mode, write_chart(mode)


@settings(max_examples=200, deadline=None)
@given(st.text(alphabet='abcdimer 0123456789x(),;:=%"#\n\t-–*?', max_size=120))
@example("0 ;\t")
def test_nonsense_never_raises_and_its_marks_lie_inside_the_text(text: str) -> None:
    chart = read_chart(text)
    lines = text.replace("\t", " ").splitlines()
    for p in chart.problems:
        assert 0 <= p.line < len(lines) and 0 <= p.column <= len(lines[p.line])
    write_chart(chart.mode_of_chart("m"))


parts = st.sampled_from(
    [
        "red", "green", "pan", "16", "dimmer", "gap", "3", "wobble", "\n", "\n1 ", "\n5-7 ", "2 x (", "planes 3 x (",
        ")", ",", "; ", "=", "50%", "?", '"own"', "highlight", "/2", "0-6 closed", "007-121 strobe", "\tspeed\t",
        "CH3", "break a:", "zoom 24 bit", "#x", "x", "white", "Cell 2 red",
    ]
)  # fmt: skip


@settings(max_examples=300, deadline=None)
@given(st.lists(parts, max_size=14).map(" ".join))
def test_whatever_was_made_of_a_text_reads_back_as_the_same(text: str) -> None:
    mode = read_chart(text).mode_of_chart("m")
    assert read_chart(write_chart(mode)).mode_of_chart("m", mode) == mode, write_chart(mode)


@settings(max_examples=100, deadline=None)
@given(st.lists(texts, min_size=1, max_size=3))
def test_profiles_go_through_json(charts: list[str]) -> None:
    modes = {f"m{n}": read_chart(text).mode_of_chart(f"mode {n}") for n, text in enumerate(charts)}
    profile = Profile(name="any", modes=modes)
    assert profile_from_plain(msgspec.json.decode(profile_json(profile))) == profile
    rig = Rig(name="any", profiles={"p": profile})
    assert rig_from_bytes(to_json(rig)) == rig
