"""Findings about profiles."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from welvo.checks.registry import Context, Finding, rule
from welvo.rig.counting import SLOTS
from welvo.rig.notation import plural


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
