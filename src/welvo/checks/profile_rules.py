"""Findings about profiles."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from functools import partial

from welvo.checks.registry import Context, Fix, Found, declare_rule
from welvo.patch.mode_edits import in_mode, matching_mode
from welvo.rig.attributes import OWN, family_of, word_for
from welvo.rig.counting import SLOTS
from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.lamp import dimmer_paths, highlight_values, look_at_levels
from welvo.rig.lookup import used_by
from welvo.rig.modes import range_gaps, range_overlaps, say_channel
from welvo.rig.notation import say_count
from welvo.rig.profile import Channel, Mode
from welvo.rig.refs import Goto
from welvo.survey.effect_words import say_all
from welvo.survey.effects import effects_of

_TOPS = tuple(int(256**n) - 1 for n in range(5))
"""The highest value of a channel by its number of slots."""


def _by_break(mode: Mode) -> list[list[Channel]]:
    """The channels of each break. A mode may have 64 breaks and thousands of channels: it is walked once."""
    found: list[list[Channel]] = [[] for _ in mode.breaks]
    for c in mode.channels:
        if c.break_no < len(found):
            found[c.break_no].append(c)
    return found


@declare_rule(
    "PROF-01",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="A channel is not described",
    means="A slot of the profile carries a word that is no known function, or no word at all.",
    matters="Nobody can drive a function by name that has none; the lamp may react to it all the same.",
    put_right="Open the profile, go to the marked slot, and pick a function or make the word your own.",
)
def not_described(ctx: Context, pid: str) -> Iterator[Found]:
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        open_ = [c for c in mode.channels if not c.is_described]
        if open_:
            first = open_[0]
            yield Found(
                title=f"{profile.name}: {say_count(len(open_), 'channel')} not described",
                reason=f"Slot {first.slots[0]} of break {first.break_no + 1} says “{first.name or '?'}”, which is no "
                "known function.",
                facts={"channels": len(open_), "first slot": first.slots[0], "word": first.name},
                subject=f"{pid}/{mid}",
                where=f"{profile.name} · {mode.name}",
                goes_to=Goto("profile", pid),
            )


@declare_rule(
    "PROF-02",
    severity="error",
    scope="profile",
    group="Profiles",
    title="Two channels on one slot, or a slot outside the break",
    means="The mode's chart puts two functions on one slot, or a function past the footprint.",
    matters="Every fixture of the mode would move two things with one fader, or reach into its neighbour.",
    put_right="Correct the slot numbers in the chart line.",
)
def double_use(ctx: Context, pid: str) -> Iterator[Found]:
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        used = Counter((c.break_no, s) for c in mode.channels for s in c.slots)
        twice = sorted(k for k, n in used.items() if n > 1)
        beyond = sorted(k for k in used if k[0] >= len(mode.breaks) or k[1] > mode.breaks[k[0]].slots)
        if twice or beyond:
            break_no, slot = (twice or beyond)[0]
            why = "is used by two channels" if twice else "lies outside the break's footprint"
            yield Found(
                title=f"{profile.name}: slot {slot} {why}",
                reason=f"In mode {mode.name}, slot {slot} of break {break_no + 1} {why}.",
                facts={"slot": slot, "break": break_no + 1, "double": len(twice), "outside": len(beyond)},
                subject=f"{pid}/{mid}",
                where=f"{profile.name} · {mode.name}",
                goes_to=Goto("profile", pid),
            )


@declare_rule(
    "PROF-03",
    severity="error",
    scope="profile",
    group="Profiles",
    title="A break is longer than a universe",
    means="One break of a mode needs more than 512 slots.",
    matters="A fixture may not leave its universe, so this mode can never be patched.",
    put_right="Split the mode into breaks, or make it an element, which may span universes.",
)
def find_modes_too_long(ctx: Context, pid: str) -> Iterator[Found]:
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        for b, part in enumerate(mode.breaks):
            if part.slots > SLOTS:
                yield Found(
                    title=f"{profile.name}: break {b + 1} needs {part.slots} slots",
                    reason=f"Break {b + 1} of mode {mode.name} has {part.slots} slots; a universe has 512.",
                    facts={"break": b + 1, "slots": part.slots},
                    subject=f"{pid}/{mid}/{b}",
                    where=f"{profile.name} · {mode.name}",
                    goes_to=Goto("profile", pid),
                )


@declare_rule(
    "PROF-04",
    severity="note",
    scope="profile",
    group="Worth knowing",
    title="A shutter that is closed by default",
    means="The shutter's default lies in a range that the profile calls closed.",
    matters="Raising dimmer and colour shows nothing: the most common reason for a dark lamp.",
    put_right="Nothing, if the operator knows. Otherwise give the shutter a default that is open, as in “shutter "
    "= 255”.",
)
def dark_default(ctx: Context, pid: str) -> Iterator[Found]:
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        for c in mode.channels:
            shut = [r for r in c.ranges if r.first <= c.default <= r.last and r.does == "closed"]
            if c.function == "Shutter1" and shut:
                yield Found(
                    title=f"{profile.name}: shutter closed by default",
                    reason=f"In mode {mode.name} the shutter stands at {c.default}, “{shut[0].name}”: it stays dark "
                    "until that is raised.",
                    facts={"default": c.default, "range": shut[0].name},
                    subject=f"{pid}/{mid}",
                    where=f"{profile.name} · {mode.name}",
                    goes_to=Goto("profile", pid),
                )


def _modes_of_profile(ctx: Context, pid: str) -> Iterator[tuple[str, Mode, str]]:
    """Mode id, mode, and what findings call the place."""
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        yield mid, mode, f"{profile.name} · {mode.name}"


@declare_rule(
    "PROF-05",
    severity="note",
    scope="profile",
    group="Profiles",
    title="A channel's ranges leave values out",
    means="Between the named ranges of a channel, or behind the last, there are values that nothing is said of.",
    matters="What the lamp does there is not known; a fader passes through it all the same.",
    put_right="Look in the manual, and add the range or move a border.",
)
def range_gap(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        found = [(c, g) for c in mode.channels if c.pixel <= 1 for g in range_gaps(c)]
        if found:
            c, (first, last) = found[0]
            yield Found(
                title=f"{say_channel(c).capitalize()}: nothing is said of {first}–{last}",
                reason=f"In mode {mode.name}, {say_count(len(found), 'stretch', 'stretches')} of values lie in no "
                f"range.",
                facts={"channel": say_channel(c), "first": first, "last": last, "stretches": len(found)},
                subject=f"{pid}/{mid}",
                where=where,
                goes_to=Goto("profile", pid),
            )


@declare_rule(
    "PROF-06",
    severity="error",
    scope="profile",
    group="Profiles",
    title="Two ranges of a channel overlap",
    means="One value of a channel lies in two named ranges.",
    matters="It cannot mean both; one of the two was typed wrongly.",
    put_right="Move the border between them.",
)
def range_overlap(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        for c in (c for c in mode.channels if len(c.ranges) > 1):
            for first, last, a, b in range_overlaps(c)[:1]:
                yield Found(
                    title=f"{say_channel(c).capitalize()}: “{a}” and “{b}” overlap",
                    reason=f"Both claim {first}–{last}.",
                    facts={"channel": say_channel(c), "first": first, "last": last},
                    subject=f"{pid}/{mid}/{c.break_no}.{c.slots[0]}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )


@declare_rule(
    "PROF-07",
    severity="error",
    scope="profile",
    group="Profiles",
    title="A value that does not fit the channel's width",
    means="A default, highlight, release value or range lies above the highest value that the channel's slots can "
    "carry.",
    matters="Only a part of it would be sent: the lamp does something else than written.",
    put_right="Correct the value, or the width of the channel.",
)
def out_of_width(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        for c in mode.channels:
            top = _TOPS[len(c.slots)]
            if c.default <= top and c.highlight is None and c.release is None and not c.ranges:
                continue  # nearly all of them, and there may be a hundred thousand
            values = {
                "default": c.default,
                "highlight": c.highlight or 0,
                "release": c.release or 0,
                "range": max((r.last for r in c.ranges), default=0),
            }
            wrong = next((k for k, v in values.items() if v > c.highest_value), "")
            if wrong:
                yield Found(
                    title=f"{say_channel(c).capitalize()}: {wrong} {values[wrong]} does not fit",
                    reason=f"{say_count(len(c.slots), 'slot')} carry 0 to {c.highest_value}.",
                    facts={"channel": say_channel(c), "value": values[wrong], "top": c.highest_value},
                    subject=f"{pid}/{mid}/{c.break_no}.{c.slots[0]}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )
                break


@declare_rule(
    "PROF-08",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="A fine byte without its coarse one",
    means="A slot is called fine, and no channel before it is what it belongs to.",
    matters="The slot cannot be driven; what it refines moves in coarse steps.",
    put_right="Name the coarse channel the same way, before it in the chart.",
)
def lone_fine(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        for c in mode.channels:
            if not c.function and any(w in ("fine", "lsb") for w in c.name.lower().split()):
                yield Found(
                    title=f"“{c.name}” refines nothing",
                    reason=f"Slot {c.slots[0]} is fine of a channel that is not there.",
                    facts={"slot": c.slots[0], "word": c.name},
                    subject=f"{pid}/{mid}/{c.break_no}.{c.slots[0]}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )


@declare_rule(
    "PROF-09",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="A pixel number without channels",
    means="The pixels of a mode are not numbered without a gap.",
    matters="The face shows a pixel that nothing drives, or the numbers of the manual were read wrongly.",
    put_right="Number the pixels from 1 on in the chart.",
)
def empty_pixel(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        missing = sorted(set(range(1, mode.count_pixels + 1)) - {c.pixel for c in mode.channels})
        if missing:
            yield Found(
                title=f"Pixel {missing[0]} has no channels",
                reason=f"{say_count(len(missing), 'pixel')} of {mode.count_pixels} in mode {mode.name} are driven by "
                f"nothing.",
                facts={"pixel": missing[0], "missing": len(missing), "pixels": mode.count_pixels},
                subject=f"{pid}/{mid}",
                where=where,
                goes_to=Goto("profile", pid),
            )


@declare_rule(
    "PROF-10",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="Places and pixels do not match",
    means="The face has places for another number of pixels than the mode has channels for.",
    matters="What is drawn is not what is driven; a pixel map made from it is shifted.",
    put_right="Arrange the face anew, or correct the count in the chart.",
)
def places_differ(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        if mode.spots and len(mode.spots) != mode.count_pixels:
            yield Found(
                title=f"{say_count(len(mode.spots), 'place')} for {say_count(mode.count_pixels, 'pixel')}",
                reason=f"Mode {mode.name} drives {mode.count_pixels} pixels, its face has {len(mode.spots)} places.",
                facts={"places": len(mode.spots), "pixels": mode.count_pixels},
                subject=f"{pid}/{mid}",
                where=where,
                goes_to=Goto("profile", pid),
            )


@declare_rule(
    "PROF-11",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="Two pixels in one place",
    means="Two pixels of the face lie on each other.",
    matters="One hides the other: which is which cannot be seen.",
    put_right="Move one of them, or arrange the face anew.",
)
def same_place(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        seen: dict[tuple[int, int], int] = {}
        for n, s in enumerate(mode.spots, 1):
            key = round(s.x * 20), round(s.y * 20)
            if key in seen:
                yield Found(
                    title=f"Pixels {seen[key]} and {n} lie on each other",
                    reason=f"Both are at {s.x:g}, {s.y:g} on the face of mode {mode.name}.",
                    facts={"first": seen[key], "second": n},
                    subject=f"{pid}/{mid}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )
                break
            seen[key] = n


@declare_rule(
    "PROF-12",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="Two channels of one short name",
    means="Two channels of a mode (or of one pixel) have the same short name.",
    matters="On tapes, labels and sheets nobody can tell them apart.",
    put_right="Give one of them another short name.",
)
def same_short(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        twice = [k for k, n in Counter((c.pixel, c.short) for c in mode.channels if c.short).items() if n > 1]
        if twice:
            yield Found(
                title=f"“{twice[0][1]}” stands for two channels",
                reason=f"In mode {mode.name}, {say_count(len(twice), 'short name')} are used twice.",
                facts={"short": twice[0][1], "names": len(twice)},
                subject=f"{pid}/{mid}",
                where=where,
                goes_to=Goto("profile", pid),
            )


@declare_rule(
    "PROF-13",
    severity="note",
    scope="rig",
    group="Profiles",
    title="One function of your own, written in two ways",
    means="Two profiles have a function of your own whose names differ only in capitals, spaces or marks.",
    matters="A fader that drives one of them does not drive the other.",
    put_right="Write both the same way.",
)
def own_names(ctx: Context, _: str) -> Iterator[Found]:
    seen: dict[str, tuple[str, str]] = {}
    told: set[str] = set()
    for pid, profile in ctx.rig.profiles.items():
        for name in sorted(
            {c.function[len(OWN) :] for m in profile.modes.values() for c in m.channels if c.function.startswith(OWN)}
        ):
            key = "".join(x for x in name.lower() if x.isalnum())
            if key in seen and seen[key][0] != name and key not in told:
                told.add(key)
                other = ctx.rig.profiles[seen[key][1]]
                yield Found(
                    title=f"“{name}” and “{seen[key][0]}” are one function?",
                    reason=f"{profile.name} writes it one way, {other.name} the other.",
                    facts={"first": seen[key][0], "second": name},
                    subject=f"{pid}/{key}",
                    where=profile.name,
                    goes_to=Goto("profile", pid),
                )
            seen.setdefault(key, (name, pid))


@declare_rule(
    "PROF-14",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="Nothing makes the lamp darker",
    means="A mode has neither a dimmer nor colours that could be lowered, though it has a shutter or moves.",
    matters="It is on or off and nothing between; most likely the dimmer's channel was forgotten.",
    put_right="Look for the dimmer in the manual. A shutter is not a dimmer.",
)
def no_dimmer(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        families = {family_of(c.function) for c in mode.channels if c.function}
        if mode.channels and not dimmer_paths(mode) and families & {"shutter", "position", "beam"}:
            yield Found(
                title=f"{ctx.rig.profiles[pid].name}: no dimmer in {mode.name}",
                reason="There is no dimmer, no colour that adds or takes away light, and no iris.",
                facts={"mode": mode.name, "channels": len(mode.channels)},
                subject=f"{pid}/{mid}",
                where=where,
                goes_to=Goto("profile", pid),
            )


@declare_rule(
    "PROF-15",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="A highlight that stays dark",
    means="With all channels at their highlight values (where none is given: dimmer and shutter open, strobe off, "
    "colours white) the lamp gives no light.",
    matters="Highlighting is how a lamp is found in the rig; this one cannot be found.",
    put_right="Give dimmer, shutter and a colour highlight values.",
)
def dark_highlight(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        typed = any(c.highlight is not None for c in mode.channels)
        if typed or any(family_of(c.function) in ("intensity", "colour") for c in mode.channels):
            shown = look_at_levels(mode, highlight_values(mode))
            if shown.dark:
                yield Found(
                    title=f"{ctx.rig.profiles[pid].name}: dark at highlight",
                    reason=f"In mode {mode.name} it stays dark: {shown.dark}.",
                    facts={"mode": mode.name, "why": shown.dark},
                    subject=f"{pid}/{mid}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )


@declare_rule(
    "PROF-16",
    severity="error",
    scope="profile",
    group="Profiles",
    title="A channel needs one that is not there",
    means="A channel says which others must not be at zero, and one of those names is no channel of the mode.",
    matters="Why a lamp is dark would be told wrongly.",
    put_right="Correct the names under “dimmed by”.",
)
def needs_missing(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        for c in (c for c in mode.channels if c.needs):
            have = {x.short for x in mode.channels if x.pixel in (0, c.pixel)}
            lost = [x for x in c.needs or () if x not in have]
            if lost:
                yield Found(
                    title=f"{say_channel(c).capitalize()} needs “{lost[0]}”, which is not there",
                    reason=f"Mode {mode.name} has no channel of that short name.",
                    facts={"channel": say_channel(c), "name": lost[0]},
                    subject=f"{pid}/{mid}/{c.break_no}.{c.slots[0]}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )
                break


@declare_rule(
    "PROF-17",
    severity="note",
    scope="use",
    group="Profiles",
    title="A newer revision is there",
    means="Fixtures use a profile of which the rig or this computer's library holds a newer revision.",
    matters="The older one may have a fault that was put right since.",
    put_right="Look at the differences, then bring the fixtures over in one act.",
    live=True,
)
def find_newer_profiles(ctx: Context, pid: str) -> Iterator[Found]:
    profile = ctx.rig.profiles[pid]
    nid = next((k for k, p in ctx.rig.profiles.items() if p.revises == pid and k != pid), "")
    shelf = ctx.observed.library.get(profile.source, "") if profile.source else ""
    if not nid and (not shelf or shelf <= profile.revision):
        return
    users = used_by(ctx.rig, pid)
    if not users:
        return
    what = ctx.rig.profiles[nid].revision or "newer" if nid else shelf

    def offer() -> list[Fix]:
        rig = ctx.index.rig
        if not nid or nid not in rig.profiles or pid not in rig.profiles:
            return []
        said = say_all(effects_of(ctx.index, _bring_over(rig, pid, nid)))
        edit = partial(_bring_over, pid=pid, nid=nid)
        return [
            Fix(
                f"Bring {say_count(len(users), 'fixture')} over",
                ((profile.name, profile.revision or "older", what), ("addresses", "", said)),
                edit,
            )
        ]

    yield Found(
        title=f"{profile.name}: revision {what} is there",
        reason=f"{say_count(len(users), 'fixture')} use revision {profile.revision or 'without a name'}.",
        facts={"have": profile.revision, "newer": what, "fixtures": len(users)},
        where=profile.name,
        goes_to=Goto("profile", pid),
        items=tuple(users),
        fixes=offer,
    )


def _bring_over(rig: Rig, pid: str, nid: str) -> Edit:
    old, new = rig.profiles[pid], rig.profiles[nid]
    fixtures = {
        f: in_mode(rig, f, nid, matching_mode(old, v.mode, new)) for f, v in rig.fixtures.items() if v.profile == pid
    }
    return put_entries(rig, f"bring {say_count(len(fixtures), 'fixture')} over to {new.name}", fixtures=fixtures)


@declare_rule(
    "PROF-18",
    severity="note",
    scope="profile",
    group="Worth knowing",
    title="Slots that nothing is said of",
    means="The mode takes slots that no channel of the chart uses.",
    matters="They are sent as 0. If the manual gives them a function, it cannot be used; if the count is wrong, "
    "everything behind is shifted.",
    put_right="Compare with the manual's table, slot by slot.",
)
def unused_slots(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        for b, (part, channels) in enumerate(zip(mode.breaks, _by_break(mode))):
            used = {s for c in channels for s in c.slots}
            free = [s for s in range(1, part.slots + 1) if s not in used] if len(used) < part.slots else []
            if free:
                yield Found(
                    title=f"{say_count(len(free), 'slot')} of {mode.name} without a function",
                    reason=f"The first is slot {free[0]} of break {b + 1}.",
                    facts={"slots": len(free), "first": free[0], "break": b + 1},
                    subject=f"{pid}/{mid}/{b}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )


@declare_rule(
    "PROF-19",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="A pixel with other components than its neighbours",
    means="Not all pixels of a break have the same components in the same order.",
    matters="A colour sent to all of them looks different on some; mostly one row of the chart was read wrongly.",
    put_right="Compare the pixel's rows with the manual.",
)
def odd_pixel(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        for b, channels in enumerate(_by_break(mode)):
            by_pixel: dict[int, list[Channel]] = {}
            for c in sorted((c for c in channels if c.pixel), key=lambda c: c.slots[0]):
                by_pixel.setdefault(c.pixel, []).append(c)
            usual = [c.function for c in next(iter(by_pixel.values()), [])]
            odd = next((p for p, cs in sorted(by_pixel.items()) if [c.function for c in cs] != usual), 0)
            if odd:
                have = ", ".join(word_for(c.function, c.name or "?") for c in by_pixel[odd])
                yield Found(
                    title=f"Pixel {odd} has other components than pixel {min(by_pixel)}",
                    reason=f"It has {have}; the first has {', '.join(word_for(f) for f in usual)}.",
                    facts={"pixel": odd, "components": have},
                    subject=f"{pid}/{mid}/{b}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )


@declare_rule(
    "PROF-20",
    severity="warning",
    scope="profile",
    group="Profiles",
    title="A pixel that would be cut by a universe's end",
    means="A break is so long that one of its pixels lies across slot 512.",
    matters="Some receivers cannot take a pixel whose parts come in two universes.",
    put_right="Split the break before that pixel.",
)
def find_modes_that_cut_pixels(ctx: Context, pid: str) -> Iterator[Found]:
    for mid, mode, where in _modes_of_profile(ctx, pid):
        for b, (part, channels) in enumerate(zip(mode.breaks, _by_break(mode))):
            if part.slots <= SLOTS:
                continue
            ends: dict[int, tuple[int, int]] = {}
            for c in channels:
                if c.pixel:
                    low, high = ends.get(c.pixel, (9999, 0))
                    ends[c.pixel] = (min(low, *c.slots), max(high, *c.slots))
            cut = next((p for p, (low, high) in sorted(ends.items()) if low <= SLOTS < high and high - low < 16), 0)
            if cut:
                yield Found(
                    title=f"Pixel {cut} would be cut at 512",
                    reason=f"It takes slots {ends[cut][0]} to {ends[cut][1]} of break {b + 1}.",
                    facts={"pixel": cut, "first": ends[cut][0], "last": ends[cut][1]},
                    subject=f"{pid}/{mid}/{b}",
                    where=where,
                    goes_to=Goto("profile", pid),
                )


@declare_rule(
    "PROF-21",
    severity="note",
    scope="rig",
    group="Profiles",
    title="One colour with different names",
    means="Profiles call channels of one colour differently, or call channels of different colours the same.",
    matters="“All ambers” then means one thing on one lamp and another on the next, and a colour comes out mixed.",
    put_right="Give the channels one name, or the function that they really have. If the lamps differ, leave it.",
    touched=lambda before, after, change: bool(change.changed_ids("profiles")),
)
def colour_names(ctx: Context, _: str) -> Iterator[Found]:
    called: dict[str, dict[str, str]] = {}
    """By function what it is called, and in which profile."""
    name_of = {pid: p.name for pid, p in ctx.rig.profiles.items()}
    for pid, profile in ctx.rig.profiles.items():
        for mode in profile.modes.values():
            for c in mode.channels:
                if family_of(c.function) == "colour" and c.name:
                    called.setdefault(c.function, {}).setdefault(c.name.strip().lower(), pid)
    for function, names in sorted(called.items()):
        if len(names) > 1:
            said = [f"“{n}” in {name_of[p]}" for n, p in sorted(names.items())]
            title = f"{word_for(function).capitalize()} is called {' and '.join(said[:3])}"
            yield _colour_names(function, said, title, max(names.values()))
    by_name: dict[str, list[tuple[str, str]]] = {}
    for function, names in sorted(called.items()):
        for name, where in names.items():
            by_name.setdefault(name, []).append((function, where))
    for name, functions in sorted(by_name.items()):
        if len(functions) > 1:
            said = [f"{word_for(f)} in {name_of[p]}" for f, p in functions]
            yield _colour_names(name, said, f"“{name}” is {' and '.join(said[:3])}", functions[-1][1])


def _colour_names(subject: str, said: list[str], title: str, pid: str) -> Found:
    return Found(
        title=title,
        reason=f"{'; '.join(said[:8])}.",
        facts={"names": "; ".join(said)},
        subject=subject,
        where="profiles",
        goes_to=Goto("profile", pid),
    )
