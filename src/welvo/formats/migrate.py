"""Named steps from older file formats to the present one. Each takes and gives the plain JSON object."""

from __future__ import annotations

import re
from collections.abc import Callable

from welvo.rig.document import FORMAT


def places_from_text(raw: dict[str, object]) -> dict[str, object]:
    """Format 1 → 2: an address was the text `3.145`; now it is a place that names the universe by id.

    Format 1 also kept one list of feeds under each universe instead of a mapping of the rig.
    """
    ids: dict[int, str] = {}
    universes = raw.get("universes")
    feeds, senders = _table_in(raw, "feeds"), _table_in(raw, "senders")
    if isinstance(universes, dict):
        for uid, universe in universes.items():
            if not isinstance(universe, dict):
                continue
            if isinstance(universe.get("number"), int):
                ids[universe["number"]] = uid
            for feed in universe.pop("feeds", []):
                bench = next((s for s, v in senders.items() if v.get("kind") == "bench"), "")
                if not bench:
                    bench = "bench"
                    senders[bench] = {"name": "Bench", "kind": "bench"}
                feeds[f"w{len(feeds) + 1}"] = {"universe": uid, "sender": bench, **feed}
    if feeds:
        raw["feeds"], raw["senders"] = feeds, senders
    for part in ("fixtures", "elements"):
        items = raw.get(part)
        for item in items.values() if isinstance(items, dict) else ():
            at = item.get("at") if isinstance(item, dict) else None
            if isinstance(at, str):
                place = _migrate_place(at, ids)
                item["at"] = [place] if part == "fixtures" else place
    return raw


def _table_in(raw: dict[str, object], part: str) -> dict[str, dict[str, object]]:
    found = raw.get(part)
    return dict(found) if isinstance(found, dict) else {}


def _migrate_place(text: str, ids: dict[int, str]) -> dict[str, object]:
    m = re.fullmatch(r"\s*(\d+)\.(\d+)\s*", text)
    if not m:
        return {}
    return {"universe": ids.get(int(m[1]), m[1]), "address": int(m[2])}


def more_to_say(raw: dict[str, object]) -> dict[str, object]:
    """Format 2 → 3: groups, uses, own columns, overlays, reserves and feeds by DDP and serial lines came in.

    Nothing that format 2 could say is said otherwise now; the number keeps an older program from half reading it.
    """
    return raw


def runs_in_full(raw: dict[str, object]) -> dict[str, object]:
    """Format 3 → 4: runs of pixels, bridges and converters, kinds of pixels, supplies, modes and limits of boxes came
    in.

    Nothing that format 3 could say is said otherwise now.
    """
    return raw


def one_alphabet(raw: dict[str, object]) -> dict[str, object]:
    """Format 4 → 5: the functions of a converter's lamps are spelled in the alphabet that orders are spelled in.

    Before, D was a dimmer, C cyan and V violet there, while they were warm white, cool white and a single dimmer in an
    element's order. Violet becomes U, the letter next to it: no channel of a profile was ever taken for violet.

    Rules that said two severities are two rules now, so that waivers of the milder one follow it to its own code.
    """
    milder = {"PWR-03": "PWR-04", "RUN-06": "RUN-31"}
    waivers = raw.get("waivers")
    for waiver in waivers.values() if isinstance(waivers, dict) else ():
        if isinstance(waiver, dict) and waiver.get("code") in milder:
            waiver["code"] = milder[waiver["code"]]
    letters = {"D": "V", "C": "N", "V": "U"}
    devices = raw.get("devices")
    for device in devices.values() if isinstance(devices, dict) else ():
        ports = device.get("ports") if isinstance(device, dict) else None
        for port in ports.values() if isinstance(ports, dict) else ():
            run = port.get("run") if isinstance(port, dict) else None
            for segment in run if isinstance(run, list) else ():
                functions = segment.get("functions") if isinstance(segment, dict) else None
                if isinstance(functions, list):
                    segment["functions"] = [letters.get(f, f) if isinstance(f, str) else f for f in functions]
    return raw


def names_quoted(raw: dict[str, object]) -> dict[str, object]:
    """Format 5 → 6: the names of the ZIP's entries for pictures and kept files hold ids of any text.

    The JSON says nothing else; the reader of the ZIP looks at the number (`rigfile.NAMES_QUOTED_SINCE`).
    """
    return raw


def versions_and_scenes(raw: dict[str, object]) -> dict[str, object]:
    """Format 6 → 7: named versions, scenes and the ground of positions came in, some as entries of the ZIP.

    Nothing that format 6 could say is said otherwise now; the number keeps an older program from dropping them.
    """
    return raw


STEPS: dict[int, Callable[[dict[str, object]], dict[str, object]]] = {
    1: places_from_text,
    2: more_to_say,
    3: runs_in_full,
    4: one_alphabet,
    5: names_quoted,
    6: versions_and_scenes,
}
"""From which format each step leads to the next."""


def migrate_rig(raw: dict[str, object]) -> dict[str, object]:
    """Bring an object of any older format to the present one; `format` says which it is (absent: the present)."""
    number = raw.get("format", FORMAT)
    while isinstance(number, int) and number < FORMAT and number in STEPS:
        raw = STEPS[number](raw)
        number += 1
        raw["format"] = number
    return raw
