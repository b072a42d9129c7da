from __future__ import annotations

from collections.abc import Callable

import pytest
from msgspec.structs import replace

from tests.conftest import profile
from welvo.bench.levels import Levels, faders_of_selection, light_up
from welvo.bench.light import dark_by, words_of_light
from welvo.bench.seeing import chain_to_target
from welvo.bench.why import Cause, Evidence, first_cause
from welvo.checks.checker import check_rig
from welvo.demo.gallery import make_gallery
from welvo.observed.values import NOTHING
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Fixture, Place
from welvo.rig.profile import Profile
from welvo.survey.path import Light, path_to_target
from welvo.survey.target import of_item, of_slot


def test_defaults_stand_on_every_patched_slot(rig: Rig) -> None:
    frame = Levels().frames_of_rig(Index(rig))["u1"]
    assert frame[:8].tolist() == [128, 0, 128, 0, 0, 255, 0, 0] and frame[8:16].tolist() == frame[:8].tolist()
    assert not frame[16:].any()


def test_what_is_held_goes_to_its_slots_coarse_and_fine(rig: Rig) -> None:
    levels = Levels()
    levels.hold_function(["a"], "Pan", 0.25)  # 0.25 × 65535 = 16384 = 0x4000
    levels.hold_function(["a", "b"], "Dimmer", 1.0)
    levels.hold_function(["c"], "ColorAdd_G", 0.5)
    frames = levels.frames_of_rig(Index(rig))
    assert frames["u1"][:2].tolist() == [0x40, 0x00] and frames["u1"][4] == frames["u1"][12] == 255
    assert frames["u2"][:14].tolist() == [0, 0, 0, 128, 0, 0, 128, 0, 0, 128, 0, 0, 128, 0]


def test_elements_get_their_components_in_their_own_order(rig: Rig) -> None:
    order, _ = put_entries(rig, "", elements={"e": replace(rig.elements["e"], order="GRB", pixels=2)})
    levels = Levels()
    levels.hold_function(["e"], "ColorAdd_R", 1.0)
    assert levels.frames_of_rig(Index(order))["u2"][100:107].tolist() == [0, 255, 0, 0, 255, 0, 0]


def test_raw_slots_win_and_blackout_wins_over_all_but_position(rig: Rig) -> None:
    levels = Levels()
    levels.hold_function(["a"], "Dimmer", 1.0)
    levels.hold_slot("u1", 5, 7)
    levels.hold_slot("u1", 400, 99)
    frame = levels.frames_of_rig(Index(rig))["u1"]
    assert (frame[4], frame[399]) == (7, 99)
    levels.blackout = True
    dark = levels.frames_of_rig(Index(rig))["u1"]
    assert dark[:8].tolist() == [128, 0, 128, 0, 0, 0, 0, 0] and dark[399] == 0
    for universe, address, level in (("u1", 0, 1), ("u1", 513, 1), ("u1", 1, 256), ("u1", 1, -1)):
        with pytest.raises(ValueError, match="1 to 512"):
            levels.hold_slot(universe, address, level)


def test_release_gives_back_and_zero_leaves_heads_where_they_are(rig: Rig) -> None:
    levels = Levels()
    levels.hold_at_zero(Index(rig), ["a"])
    assert levels.frames_of_rig(Index(rig))["u1"][:8].tolist() == [128, 0, 128, 0, 0, 0, 0, 0]
    levels.hold_function(["b"], "Dimmer", 1.0)
    levels.release_items(["a"])
    assert levels.held_value(["a"], "Dimmer") is None and levels.held_value(["b"], "Dimmer") == 1.0
    levels.release_items()
    assert levels.held == {} and levels.frames_of_rig(Index(rig), defaults_only=True)["u1"][5] == 255


def _with(rig: Rig, chart: str, **channels: dict[str, object]) -> Rig:
    """The rig's fixture c in a mode of this chart, with further facts of its channels by short name."""
    made = profile("Odd", chart, 7).modes["m"]
    mode = replace(made, channels=tuple(replace(c, **channels.get(c.short, {})) for c in made.channels))
    odd = replace(profile("Odd", chart, 7), modes={"m": mode})
    lamp = replace(rig.fixtures["c"], profile="odd", mode="m", at=(Place(universe="u2", address=1),))
    return put_entries(rig, "", profiles={"odd": odd}, fixtures={"c": lamp})[0]


def test_a_blackout_takes_along_what_the_profile_lets_follow(rig: Rig) -> None:
    made = _with(rig, "dimmer, red, zoom, fog", Dim={"master": "no"}, Fog={"master": "yes"})
    levels = Levels()
    for function in ("Dimmer", "ColorAdd_R", "Zoom", "Fog1"):
        levels.hold_function(["c"], function, 1.0)
    levels.blackout = True
    assert levels.frames_of_rig(Index(made))["u2"][:4].tolist() == [255, 0, 255, 0]


def test_what_is_given_back_stands_at_its_release_value(rig: Rig) -> None:
    made = _with(rig, "dimmer = 10, fan = 20, zoom", Fan={"release": 200}, Zoom={"release": 0})
    levels, index = Levels(), Index(made)
    assert levels.frames_of_rig(index)["u2"][:3].tolist() == [10, 20, 0]
    assert levels.frames_of_rig(index, defaults_only=True)["u2"][:3].tolist() == [10, 200, 0]


def test_lighting_up_takes_the_profiles_highlight_or_what_shows_the_lamp(rig: Rig) -> None:
    made = _with(rig, "pan 16, dimmer, shutter, strobe = 30, red, amber, zoom", Zoom={"highlight": 51})
    assert light_up(Index(made), "c") == {
        "Dimmer": 1.0, "Shutter1": 1.0, "Shutter1Strobe": 0.0, "ColorAdd_R": 1.0, "Zoom": 0.2,
    }  # fmt: skip
    assert light_up(Index(rig), "e") == dict.fromkeys(("ColorAdd_R", "ColorAdd_G", "ColorAdd_B"), 1.0)


def test_faders_stand_once_for_a_selection(rig: Rig) -> None:
    assert [f.word for f in faders_of_selection(Index(rig), ["a", "b"])] == [
        "pan",
        "tilt",
        "dimmer",
        "shutter",
        "zoom",
        "gobo",
    ]
    assert [f.short for f in faders_of_selection(Index(rig), ["c", "e"])] == ["Dim", "Shut", "R", "G", "B"]
    pan = faders_of_selection(Index(rig), ["a"])[0]
    assert (pan.slots, pan.top, pan.default) == (2, 65535, 32768)


def test_a_fixture_past_the_end_of_its_universe_drives_only_slots_that_are_there(rig: Rig) -> None:
    late, _ = edits.set_fixtures(rig, "", {"a": {"at": (Place(universe="u1", address=509),)}})
    assert Levels().frames_of_rig(Index(late))["u1"][508:].tolist() == [128, 0, 128, 0]


def asked(rig: Rig, levels: Levels, key: str, armed: bool = True) -> Cause:
    index = Index(rig)
    chain = path_to_target(index, NOTHING, of_item(index, key), 0.0, Light(armed=armed))

    def meant(universe: str) -> bytes:
        return levels.frame_of_universe(index, universe).tobytes()

    return first_cause(Evidence(index, NOTHING, 0.0, key, chain, check_rig(rig), levels, armed, meant=meant))


def cause(rig: Rig, levels: Levels, key: str, armed: bool = True) -> str:
    return asked(rig, levels, key, armed).sentence


def test_why_a_thing_is_dark_begins_at_the_level(rig: Rig) -> None:
    levels = Levels()
    assert cause(rig, levels, "c") == "Its dimmer is at 0."
    levels.hold_function(["c"], "Dimmer", 1.0)
    assert cause(rig, levels, "c") == "Its shutter is at 0, and the profile does not say what that means."
    levels.hold_function(["c"], "Shutter1", 1.0)
    assert cause(rig, levels, "c") == "All its colours are at 0: red, green, blue."
    levels.hold_function(["c"], "ColorAdd_R", 1.0)
    assert cause(rig, levels, "c", armed=False).startswith("Output is not armed")
    assert cause(rig, levels, "c").startswith("Device: 127.0.0.60 · not heard")
    levels.blackout = True
    assert cause(rig, levels, "c").startswith("Blackout is on")
    levels.blackout = False
    bare, _ = edits.set_fixtures(rig, "", {"c": {"at": ()}})
    assert cause(bare, levels, "c") == "201 has no address, so no level ever reaches it."
    unfed, _ = edits.remove_feed(rig, "w2")
    assert cause(unfed, levels, "c").startswith("Feed: nothing carries this universe")
    assert cause(rig, levels, "e") == "All its components are at 0."


def test_a_closed_shutter_is_named_by_its_range() -> None:
    rig = make_gallery()
    levels = Levels()
    levels.hold_function(["f207"], "Dimmer", 1.0)
    assert (
        dark_by(Index(rig), "f207", lambda uid: levels.frame_of_universe(Index(rig), uid).tobytes())
        == "Its shutter stands at 0, “closed”."
    )


def test_movement_that_is_swapped_and_inverted_in_the_plan(rig: Rig) -> None:
    turned, _ = edits.set_fixtures(
        rig, "", {"a": {"turns": ("pan inverted",)}, "b": {"turns": ("pan and tilt swapped", "tilt inverted")}}
    )
    levels = Levels()
    levels.hold_function(["a", "b"], "Pan", 0.25)
    frame = levels.frame_of_universe(Index(turned), "u1").astype(int)
    assert frame[0] * 256 + frame[1] == round(0.75 * 65535)  # 101: pan runs the other way
    assert frame[8] * 256 + frame[9] == 32768  # 102: its pan channel follows tilt, which nobody holds
    assert frame[10] * 256 + frame[11] == round(0.75 * 65535)  # and its tilt channel follows pan, the other way
    assert (
        levels.frames_of_rig(Index(turned))["u1"].tolist() == frame.tolist()
        and levels.frame_of_universe(Index(turned), "u2").sum() >= 0
    )
    plain = levels.frames_of_rig(Index(turned), defaults_only=True)["u1"].astype(int)
    assert plain[0] * 256 + plain[1] == 65535 - 32768 and plain[8] * 256 + plain[9] == 32768


def test_a_universe_that_is_not_in_use_is_the_cause_of_darkness(rig: Rig) -> None:
    made, change = edits.change_show(rig, "", "", name="Matinee", universes_off=("u1",))
    key = change.made[0]
    made, _ = edits.set_show(made, key)
    levels = Levels()
    for function in ("Dimmer", "Shutter1"):
        levels.hold_function(["a"], function, 1.0)
    found = asked(made, levels, "a")
    assert found.sentence == "Its universe is switched off in the use “Matinee”: nothing of it is sent."
    assert found.hop == 1


class Sees:
    """Nothing but what the Bench means."""

    def __init__(self, meant: Callable[[str], bytes]) -> None:
        self.meant = meant

    def on_wire(self, _: str) -> None:
        return None

    def port_gives(self, *_: str) -> None:
        return None

    port_leaves = port_gives

    def sources_on(self, _: str) -> tuple[()]:
        return ()


def test_the_level_of_a_whole_item_speaks_of_its_light(rig: Rig) -> None:
    """Not of its first slot, which is the pan of a head."""
    index, levels = Index(rig), Levels()

    def frame(universe: str) -> bytes:
        return levels.frame_of_universe(index, universe).tobytes()

    assert frame("u1")[0] == 128 and words_of_light(index, "a", frame) == "dimmer 0"
    levels.hold_function(["a"], "Dimmer", 0.5)
    assert words_of_light(index, "a", frame) == "dimmer 128"
    assert words_of_light(index, "e", frame) == "0"
    levels.hold_pixels("e", [3], "ColorAdd_G", 1.0)
    assert words_of_light(index, "e", frame) == "up to 255"
    assert words_of_light(index, "a", lambda _: None) == "" and words_of_light(index, "nobody", frame) == ""
    sight = Sees(frame)
    chain = chain_to_target(index, NOTHING, 0.0, sight, of_item(index, "a"), False)
    assert (chain.hops[0].role, chain.hops[0].value) == ("level", "dimmer 128")
    slot = chain_to_target(index, NOTHING, 0.0, sight, of_slot(index, "u1", 1), False)
    assert slot.hops[0].value == "128"


@pytest.mark.parametrize(("held", "says"), [({}, "colours 0"), ({"ColorAdd_R": 1.0, "ColorAdd_B": 0.5}, "255 0 128")])
def test_a_lamp_without_a_dimmer_is_said_by_its_colours(held: dict[str, float], says: str) -> None:
    rig = Rig()
    rig, _ = edits.add_universe(rig, 1)
    uid = next(iter(rig.universes))
    made = profile("Wash", "red green blue")
    mode = next(iter(made.modes))
    rig, _ = put_entries(
        rig, "", profiles={"p": made},
        fixtures={"x": Fixture(number=1, profile="p", mode=mode, at=(Place(universe=uid, address=1),))},
    )  # fmt: skip
    levels = Levels()
    for function, level in held.items():
        levels.hold_function(["x"], function, level)
    index = Index(rig)
    assert words_of_light(index, "x", lambda u: levels.frame_of_universe(index, u).tobytes()) == says


def test_a_fader_that_moves_the_lamp_knows_its_degrees_where_all_agree() -> None:
    rig = make_gallery()
    key = rig.fixtures["f207"].profile
    old = rig.profiles[key]

    def reaching(low: float) -> Profile:
        modes = {
            k: replace(
                m, channels=tuple(replace(c, low=low, high=270.0) if c.function == "Pan" else c for c in m.channels)
            )
            for k, m in old.modes.items()
        }
        return replace(old, modes=modes)

    rig, _ = put_entries(rig, "", profiles={key: reaching(-270.0)})
    fader = next(f for f in faders_of_selection(Index(rig), ["f207"]) if f.function == "Pan")
    assert (
        fader.degrees == (-270.0, 270.0)
        and fader.degrees_at(0.0) == fader.degrees[0]
        and fader.degrees_at(1.0) == fader.degrees[1]
    )
    assert fader.degrees_at(0.5) == pytest.approx(sum(fader.degrees) / 2)
    dimmer = next(f for f in faders_of_selection(Index(rig), ["f207"]) if f.function == "Dimmer")
    assert dimmer.degrees is None and dimmer.degrees_at(0.5) is None
    # another head whose profile says something else: then the fader says nothing
    both, _ = put_entries(
        rig, "", profiles={"other": reaching(-10.0)},
        fixtures={"f206": replace(rig.fixtures["f206"], profile="other", mode=rig.fixtures["f207"].mode)},
    )  # fmt: skip
    mixed = next(f for f in faders_of_selection(Index(both), ["f207", "f206"]) if f.function == "Pan")
    assert mixed.degrees is None
