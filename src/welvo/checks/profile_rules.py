"""Findings about profiles."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from functools import partial

from welvo.checks.registry import Context, Finding, Fix, rule
from welvo.patch.consequences import consequences, in_mode, matching_mode, say_all
from welvo.rig.attributes import OWN, family_of, word_for
from welvo.rig.counting import SLOTS
from welvo.rig.document import Edit, Rig, put
from welvo.rig.lamp import dimmer_paths, look
from welvo.rig.lookup import used_by
from welvo.rig.modes import components, range_gaps, range_overlaps, say_channel
from welvo.rig.notation import plural
from welvo.rig.profile import Channel, Mode


@rule(
    "PROF-01", "warning", "profile", "A channel is not described",
    "A slot of the profile carries a word that is no known function, or no word at all.",
    "Nobody can drive a function by name that has none; the lamp may react to it all the same.",
    "Open the profile, go to the marked slot, and pick a function or make the word your own.",
)  # fmt: skip
def not_described(ctx: Context, pid: str) -> Iterator[Finding]:
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        open_ = [c for c in mode.channels if not c.described]
        if open_:
            first = open_[0]
            yield Finding(
                "PROF-01", "warning", f"{pid}/{mid}", f"{profile.name} · {mode.name}",
                f"{profile.name}: {plural(len(open_), 'channel')} not described",
                f"Slot {first.slots[0]} of break {first.brk + 1} says “{first.name or '?'}”, which is no known function.",
                {"channels": len(open_), "first slot": first.slots[0], "word": first.name}, "Profiles", ("profile", pid),
            )  # fmt: skip


@rule(
    "PROF-02", "error", "profile", "Two channels on one slot, or a slot outside the break",
    "The mode's chart puts two functions on one slot, or a function past the footprint.",
    "Every fixture of the mode would move two things with one fader, or reach into its neighbour.",
    "Correct the slot numbers in the chart line.",
)  # fmt: skip
def double_use(ctx: Context, pid: str) -> Iterator[Finding]:
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        used = Counter((c.brk, s) for c in mode.channels for s in c.slots)
        twice = sorted(k for k, n in used.items() if n > 1)
        beyond = sorted(k for k in used if k[0] >= len(mode.breaks) or k[1] > mode.breaks[k[0]].slots)
        if twice or beyond:
            brk, slot = (twice or beyond)[0]
            why = "is used by two channels" if twice else "lies outside the break's footprint"
            yield Finding(
                "PROF-02", "error", f"{pid}/{mid}", f"{profile.name} · {mode.name}",
                f"{profile.name}: slot {slot} {why}",
                f"In mode {mode.name}, slot {slot} of break {brk + 1} {why}.",
                {"slot": slot, "break": brk + 1, "double": len(twice), "outside": len(beyond)}, "Profiles", ("profile", pid),
            )  # fmt: skip


@rule(
    "PROF-03", "error", "profile", "A break is longer than a universe",
    "One break of a mode needs more than 512 slots.",
    "A fixture may not leave its universe, so this mode can never be patched.",
    "Split the mode into breaks, or make it an element, which may span universes.",
)  # fmt: skip
def too_long(ctx: Context, pid: str) -> Iterator[Finding]:
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        for b, part in enumerate(mode.breaks):
            if part.slots > SLOTS:
                yield Finding(
                    "PROF-03", "error", f"{pid}/{mid}/{b}", f"{profile.name} · {mode.name}",
                    f"{profile.name}: break {b + 1} needs {part.slots} slots",
                    f"Break {b + 1} of mode {mode.name} has {part.slots} slots; a universe has 512.",
                    {"break": b + 1, "slots": part.slots}, "Profiles", ("profile", pid),
                )  # fmt: skip


@rule(
    "PROF-04", "note", "profile", "A shutter that is closed by default",
    "The shutter's default lies in a range that the profile calls closed.",
    "Raising dimmer and colour shows nothing: the most common reason for a dark lamp.",
    "Nothing, if the operator knows. Otherwise give the shutter a default that is open, as in “shutter = 255”.",
)  # fmt: skip
def dark_default(ctx: Context, pid: str) -> Iterator[Finding]:
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        for c in mode.channels:
            shut = [r for r in c.ranges if r.first <= c.default <= r.last and r.does == "closed"]
            if c.function == "Shutter1" and shut:
                yield Finding(
                    "PROF-04", "note", f"{pid}/{mid}", f"{profile.name} · {mode.name}",
                    f"{profile.name}: shutter closed by default",
                    f"In mode {mode.name} the shutter stands at {c.default}, “{shut[0].name}”: it stays dark until that is raised.",
                    {"default": c.default, "range": shut[0].name}, "Worth knowing", ("profile", pid),
                )  # fmt: skip


def _modes(ctx: Context, pid: str) -> Iterator[tuple[str, Mode, str]]:
    """Mode id, mode, and what findings call the place."""
    profile = ctx.rig.profiles[pid]
    for mid, mode in profile.modes.items():
        yield mid, mode, f"{profile.name} · {mode.name}"


@rule(
    "PROF-05", "note", "profile", "A channel's ranges leave values out",
    "Between the named ranges of a channel, or behind the last, there are values that nothing is said of.",
    "What the lamp does there is not known; a fader passes through it all the same.",
    "Look in the manual, and add the range or move a border.",
)  # fmt: skip
def range_gap(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        found = [(c, g) for c in mode.channels if c.pixel <= 1 for g in range_gaps(c)]
        if found:
            c, (first, last) = found[0]
            yield Finding(
                "PROF-05", "note", f"{pid}/{mid}", where, f"{say_channel(c).capitalize()}: nothing is said of {first}–{last}",
                f"In mode {mode.name}, {plural(len(found), 'stretch', 'stretches')} of values lie in no range.",
                {"channel": say_channel(c), "first": first, "last": last, "stretches": len(found)}, "Profiles", ("profile", pid),
            )  # fmt: skip


@rule(
    "PROF-06", "error", "profile", "Two ranges of a channel overlap",
    "One value of a channel lies in two named ranges.",
    "It cannot mean both; one of the two was typed wrongly.",
    "Move the border between them.",
)  # fmt: skip
def range_overlap(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        for c in mode.channels:
            for first, last, a, b in range_overlaps(c)[:1]:
                yield Finding(
                    "PROF-06", "error", f"{pid}/{mid}/{c.brk}.{c.slots[0]}", where, f"{say_channel(c).capitalize()}: “{a}” and “{b}” overlap",
                    f"Both claim {first}–{last}.", {"channel": say_channel(c), "first": first, "last": last}, "Profiles", ("profile", pid),
                )  # fmt: skip


@rule(
    "PROF-07", "error", "profile", "A value that does not fit the channel's width",
    "A default, highlight, release value or range lies above the highest value that the channel's slots can carry.",
    "Only a part of it would be sent: the lamp does something else than written.",
    "Correct the value, or the width of the channel.",
)  # fmt: skip
def out_of_width(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        for c in mode.channels:
            values = {
                "default": c.default,
                "highlight": c.highlight or 0,
                "release": c.release or 0,
                "range": max((r.last for r in c.ranges), default=0),
            }
            wrong = next((k for k, v in values.items() if v > c.top), "")
            if wrong:
                yield Finding(
                    "PROF-07", "error", f"{pid}/{mid}/{c.brk}.{c.slots[0]}", where, f"{say_channel(c).capitalize()}: {wrong} {values[wrong]} does not fit",
                    f"{plural(len(c.slots), 'slot')} carry 0 to {c.top}.", {"channel": say_channel(c), "value": values[wrong], "top": c.top}, "Profiles", ("profile", pid),
                )  # fmt: skip
                break


@rule(
    "PROF-08", "warning", "profile", "A fine byte without its coarse one",
    "A slot is called fine, and no channel before it is what it belongs to.",
    "The slot cannot be driven; what it refines moves in coarse steps.",
    "Name the coarse channel the same way, before it in the chart.",
)  # fmt: skip
def lone_fine(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        for c in mode.channels:
            if not c.function and any(w in ("fine", "lsb") for w in c.name.lower().split()):
                yield Finding(
                    "PROF-08", "warning", f"{pid}/{mid}/{c.brk}.{c.slots[0]}", where, f"“{c.name}” refines nothing",
                    f"Slot {c.slots[0]} is fine of a channel that is not there.", {"slot": c.slots[0], "word": c.name}, "Profiles", ("profile", pid),
                )  # fmt: skip


@rule(
    "PROF-09", "warning", "profile", "A pixel number without channels",
    "The pixels of a mode are not numbered without a gap.",
    "The face shows a pixel that nothing drives, or the numbers of the manual were read wrongly.",
    "Number the pixels from 1 on in the chart.",
)  # fmt: skip
def empty_pixel(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        missing = sorted(set(range(1, mode.pixels + 1)) - {c.pixel for c in mode.channels})
        if missing:
            yield Finding(
                "PROF-09", "warning", f"{pid}/{mid}", where, f"Pixel {missing[0]} has no channels",
                f"{plural(len(missing), 'pixel')} of {mode.pixels} in mode {mode.name} are driven by nothing.",
                {"pixel": missing[0], "missing": len(missing), "pixels": mode.pixels}, "Profiles", ("profile", pid),
            )  # fmt: skip


@rule(
    "PROF-10", "warning", "profile", "Places and pixels do not match",
    "The face has places for another number of pixels than the mode has channels for.",
    "What is drawn is not what is driven; a pixel map made from it is shifted.",
    "Arrange the face anew, or correct the count in the chart.",
)  # fmt: skip
def places_differ(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        if mode.spots and len(mode.spots) != mode.pixels:
            yield Finding(
                "PROF-10", "warning", f"{pid}/{mid}", where, f"{plural(len(mode.spots), 'place')} for {plural(mode.pixels, 'pixel')}",
                f"Mode {mode.name} drives {mode.pixels} pixels, its face has {len(mode.spots)} places.",
                {"places": len(mode.spots), "pixels": mode.pixels}, "Profiles", ("profile", pid),
            )  # fmt: skip


@rule(
    "PROF-11", "warning", "profile", "Two pixels in one place",
    "Two pixels of the face lie on each other.",
    "One hides the other: which is which cannot be seen.",
    "Move one of them, or arrange the face anew.",
)  # fmt: skip
def same_place(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        seen: dict[tuple[int, int], int] = {}
        for n, s in enumerate(mode.spots, 1):
            key = round(s.x * 20), round(s.y * 20)
            if key in seen:
                yield Finding(
                    "PROF-11", "warning", f"{pid}/{mid}", where, f"Pixels {seen[key]} and {n} lie on each other",
                    f"Both are at {s.x:g}, {s.y:g} on the face of mode {mode.name}.", {"first": seen[key], "second": n}, "Profiles", ("profile", pid),
                )  # fmt: skip
                break
            seen[key] = n


@rule(
    "PROF-12", "warning", "profile", "Two channels of one short name",
    "Two channels of a mode (or of one pixel) have the same short name.",
    "On tapes, labels and sheets nobody can tell them apart.",
    "Give one of them another short name.",
)  # fmt: skip
def same_short(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        twice = [k for k, n in Counter((c.pixel, c.short) for c in mode.channels if c.short).items() if n > 1]
        if twice:
            yield Finding(
                "PROF-12", "warning", f"{pid}/{mid}", where, f"“{twice[0][1]}” stands for two channels",
                f"In mode {mode.name}, {plural(len(twice), 'short name')} are used twice.", {"short": twice[0][1], "names": len(twice)}, "Profiles", ("profile", pid),
            )  # fmt: skip


@rule(
    "PROF-13", "note", "rig", "One function of your own, written in two ways",
    "Two profiles have a function of your own whose names differ only in capitals, spaces or marks.",
    "A fader that drives one of them does not drive the other.",
    "Write both the same way.",
)  # fmt: skip
def own_names(ctx: Context, _: str) -> Iterator[Finding]:
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
                yield Finding(
                    "PROF-13", "note", f"{pid}/{key}", profile.name, f"“{name}” and “{seen[key][0]}” are one function?",
                    f"{profile.name} writes it one way, {other.name} the other.", {"first": seen[key][0], "second": name}, "Profiles", ("profile", pid),
                )  # fmt: skip
            seen.setdefault(key, (name, pid))


@rule(
    "PROF-14", "warning", "profile", "Nothing makes the lamp darker",
    "A mode has neither a dimmer nor colours that could be lowered, though it has a shutter or moves.",
    "It is on or off and nothing between; most likely the dimmer's channel was forgotten.",
    "Look for the dimmer in the manual. A shutter is not a dimmer.",
)  # fmt: skip
def no_dimmer(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        families = {family_of(c.function) for c in mode.channels if c.function}
        if mode.channels and not dimmer_paths(mode) and families & {"shutter", "position", "beam"}:
            yield Finding(
                "PROF-14", "warning", f"{pid}/{mid}", where, f"{ctx.rig.profiles[pid].name}: no dimmer in {mode.name}",
                "There is no dimmer, no colour that adds or takes away light, and no iris.", {"mode": mode.name, "channels": len(mode.channels)}, "Profiles", ("profile", pid),
            )  # fmt: skip


@rule(
    "PROF-15", "warning", "profile", "A highlight that stays dark",
    "With all channels at their highlight values (defaults where none is given) the lamp gives no light.",
    "Highlighting is how a lamp is found in the rig; this one cannot be found.",
    "Give dimmer, shutter and a colour highlight values.",
)  # fmt: skip
def dark_highlight(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        if any(c.highlight is not None for c in mode.channels):
            shown = look(mode, {n: c.highlight for n, c in enumerate(mode.channels) if c.highlight is not None})
            if shown.dark:
                yield Finding(
                    "PROF-15", "warning", f"{pid}/{mid}", where, f"{ctx.rig.profiles[pid].name}: dark at highlight",
                    f"In mode {mode.name} it stays dark: {shown.dark}.", {"mode": mode.name, "why": shown.dark}, "Profiles", ("profile", pid),
                )  # fmt: skip


@rule(
    "PROF-16", "error", "profile", "A channel needs one that is not there",
    "A channel says which others must not be at zero, and one of those names is no channel of the mode.",
    "Why a lamp is dark would be told wrongly.",
    "Correct the names under “dark while at zero”.",
)  # fmt: skip
def needs_missing(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        for c in mode.channels:
            have = {x.short for x in mode.channels if x.pixel in (0, c.pixel)}
            lost = [x for x in c.needs or () if x not in have]
            if lost:
                yield Finding(
                    "PROF-16", "error", f"{pid}/{mid}/{c.brk}.{c.slots[0]}", where, f"{say_channel(c).capitalize()} needs “{lost[0]}”, which is not there",
                    f"Mode {mode.name} has no channel of that short name.", {"channel": say_channel(c), "name": lost[0]}, "Profiles", ("profile", pid),
                )  # fmt: skip
                break


@rule(
    "PROF-17", "note", "use", "A newer revision is there",
    "Fixtures use a profile of which the rig or this computer's library holds a newer revision.",
    "The older one may have a fault that was put right since.",
    "Look at the differences, then bring the fixtures over in one act.", live=True,
)  # fmt: skip
def newer(ctx: Context, pid: str) -> Iterator[Finding]:
    profile = ctx.rig.profiles[pid]
    nid = next((k for k, p in ctx.rig.profiles.items() if p.revises == pid and k != pid), "")
    shelf = ctx.observed.library.get(profile.source, "") if profile.source else ""
    if not nid and (not shelf or shelf <= profile.revision):
        return
    users = used_by(ctx.rig, pid)
    if not users:
        return
    what = ctx.rig.profiles[nid].revision or "newer" if nid else shelf

    def mend() -> list[Fix]:
        rig = ctx.index.rig
        if not nid or nid not in rig.profiles or pid not in rig.profiles:
            return []
        after, _ = _bring_over(rig, pid, nid)
        said = say_all(consequences(ctx.index, after))
        edit = partial(_bring_over, pid=pid, nid=nid)
        return [
            Fix(
                f"Bring {plural(len(users), 'fixture')} over",
                ((profile.name, profile.revision or "older", what), ("addresses", "", said)),
                edit,
            )
        ]

    yield Finding(
        "PROF-17", "note", pid, profile.name, f"{profile.name}: revision {what} is there",
        f"{plural(len(users), 'fixture')} use revision {profile.revision or 'without a name'}.", {"have": profile.revision, "newer": what, "fixtures": len(users)},
        "Profiles", ("profile", pid), tuple(users), mend,
    )  # fmt: skip


def _bring_over(rig: Rig, pid: str, nid: str) -> Edit:
    old, new = rig.profiles[pid], rig.profiles[nid]
    fixtures = {
        f: in_mode(rig, f, nid, matching_mode(old, v.mode, new)) for f, v in rig.fixtures.items() if v.profile == pid
    }
    return put(rig, f"bring {plural(len(fixtures), 'fixture')} over to {new.name}", fixtures=fixtures)


@rule(
    "PROF-18", "note", "profile", "Slots that nothing is said of",
    "The mode takes slots that no channel of the chart uses.",
    "They are sent as 0. If the manual gives them a function, it cannot be used; if the count is wrong, everything behind is shifted.",
    "Compare with the manual's table, slot by slot.",
)  # fmt: skip
def unused_slots(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        for b, part in enumerate(mode.breaks):
            used = {s for c in mode.channels if c.brk == b for s in c.slots}
            free = [s for s in range(1, part.slots + 1) if s not in used]
            if free:
                yield Finding(
                    "PROF-18", "note", f"{pid}/{mid}/{b}", where, f"{plural(len(free), 'slot')} of {mode.name} without a function",
                    f"The first is slot {free[0]} of break {b + 1}.", {"slots": len(free), "first": free[0], "break": b + 1}, "Worth knowing", ("profile", pid),
                )  # fmt: skip


@rule(
    "PROF-19", "warning", "profile", "A pixel with other components than its neighbours",
    "Not all pixels of a break have the same components in the same order.",
    "A colour sent to all of them looks different on some; mostly one row of the chart was read wrongly.",
    "Compare the pixel's rows with the manual.",
)  # fmt: skip
def odd_pixel(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        for b in range(len(mode.breaks)):
            usual = components(mode, b)
            by_pixel: dict[int, list[Channel]] = {}
            for c in sorted((c for c in mode.channels if c.brk == b and c.pixel), key=lambda c: c.slots[0]):
                by_pixel.setdefault(c.pixel, []).append(c)
            odd = next((p for p, cs in sorted(by_pixel.items()) if [c.function for c in cs] != usual), 0)
            if odd:
                have = ", ".join(word_for(c.function, c.name or "?") for c in by_pixel[odd])
                yield Finding(
                    "PROF-19", "warning", f"{pid}/{mid}/{b}", where, f"Pixel {odd} has other components than pixel {min(by_pixel)}",
                    f"It has {have}; the first has {', '.join(word_for(f) for f in usual)}.", {"pixel": odd, "components": have}, "Profiles", ("profile", pid),
                )  # fmt: skip


@rule(
    "PROF-20", "warning", "profile", "A pixel that would be cut by a universe's end",
    "A break is so long that one of its pixels lies across slot 512.",
    "Some receivers cannot take a pixel whose parts come in two universes.",
    "Split the break before that pixel.",
)  # fmt: skip
def cut_pixel(ctx: Context, pid: str) -> Iterator[Finding]:
    for mid, mode, where in _modes(ctx, pid):
        for b in range(len(mode.breaks)):
            ends: dict[int, tuple[int, int]] = {}
            for c in mode.channels:
                if c.brk == b and c.pixel:
                    low, high = ends.get(c.pixel, (9999, 0))
                    ends[c.pixel] = (min(low, *c.slots), max(high, *c.slots))
            cut = next((p for p, (low, high) in sorted(ends.items()) if low <= SLOTS < high and high - low < 16), 0)
            if cut:
                yield Finding(
                    "PROF-20", "warning", f"{pid}/{mid}/{b}", where, f"Pixel {cut} would be cut at 512",
                    f"It takes slots {ends[cut][0]} to {ends[cut][1]} of break {b + 1}.", {"pixel": cut, "first": ends[cut][0], "last": ends[cut][1]}, "Profiles", ("profile", pid),
                )  # fmt: skip
