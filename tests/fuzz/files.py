"""Files that nobody wrote: rigs, fixture types, tables, charts, models, journals and settings, mutated by chance.

Whatever is in them, a reader gives a value or its one refusal, in a short sentence; and what it gives can be saved
and opened again.
"""

from __future__ import annotations

import copy
import io
import json
import random
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec

from tests.fuzz.texts import chart_text
from welvo.demo.gallery import make_gallery
from welvo.formats import journal
from welvo.formats.channel_csv import read_csv, write_csv
from welvo.formats.files import RigFileError
from welvo.formats.gdtf import loads_gdtf
from welvo.formats.gdtf_write import dumps_gdtf
from welvo.formats.library import check_profile, profile_from_plain, profile_json
from welvo.formats.models import read_model, shipped_models, write_model
from welvo.formats.plain import read_json
from welvo.formats.rigfile import bytes_of, read_rig, rig_to_bytes, to_json
from welvo.rig.document import Rig
from welvo.rig.profile import Profile

WILD: tuple[Any, ...] = (
    None, True, -1, 0, 1, 513, 70_000, 10**19, 1e308, 0.5, "", "x", "extra", "\u202e", "/../", [], {}, [[]], {"a": 1},
    "9" * 300, ["a", "b"], {"extra": {"x": 1}},
)  # fmt: skip


def _spots(value: Any, found: list[tuple[Any, Any]]) -> None:
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        found.append((value, key))
        _spots(inner, found)


def mutated(chance: random.Random, raw: Any) -> Any:
    """A decoded JSON text with a few values, keys and entries made otherwise."""
    raw = msgspec.json.decode(msgspec.json.encode(raw))
    for _ in range(chance.choice((1, 1, 1, 2, 4))):
        found: list[tuple[Any, Any]] = []
        _spots(raw, found)
        if not found:
            return raw
        holder, key = chance.choice(found)
        kind = chance.randrange(6)
        if kind < 3:
            holder[key] = copy.deepcopy(chance.choice(WILD))
        elif kind == 3 and isinstance(holder, dict):
            holder[chance.choice(("extra", "x", "", "number", "at"))] = holder.pop(key)
        elif kind == 4 and isinstance(holder, dict):
            del holder[key]
        elif isinstance(holder, list):
            holder.append(copy.deepcopy(holder[key]))
    return raw


def damaged(chance: random.Random, data: bytes) -> bytes:
    hurt = bytearray(data)
    for _ in range(chance.choice((1, 2, 5, 30))):
        if hurt:
            hurt[chance.randrange(len(hurt))] = chance.randrange(256)
    if chance.random() < 0.2:
        del hurt[chance.randrange(len(hurt) + 1) :]
    return bytes(hurt)


class Knocks:
    """Every kind of file by name: how one is made by chance, and read."""

    def __init__(self) -> None:
        self.rig = make_gallery()
        small = msgspec.structs.replace(self.rig, profiles=dict(list(self.rig.profiles.items())[:3]), fixtures={})
        self.raw = json.loads(to_json(self.rig))
        self.small = json.loads(to_json(small))
        self.zip = rig_to_bytes(self.rig)
        self.profiles = list(self.rig.profiles.values())
        self.gdtf = [dumps_gdtf(p)[0] for p in self.profiles[:4]]
        self.models = [write_model(m) for m in shipped_models().values()]
        self.folder = Path(tempfile.mkdtemp(prefix="welvo-fuzz-"))
        self.kinds: dict[str, Callable[[random.Random], None]] = {
            "rig": self._rig, "rig bytes": self._rig_bytes, "archive": self._archive, "fixture type": self._gdtf,
            "profile": self._profile, "table": self._table, "chart": self._chart, "model": self._model,
            "journal": self._journal, "settings": self._settings,
        }  # fmt: skip

    def _keep(self, rig: Rig) -> None:
        """What was taken can be saved and opened as the same."""
        bytes_of(rig, Path("x.welvo"))

    def _rig(self, c: random.Random) -> None:
        raw = mutated(c, self.raw if c.random() < 0.2 else self.small)
        self._keep(read_rig(msgspec.json.encode(raw), "x").rig)

    def _rig_bytes(self, c: random.Random) -> None:
        self._keep(read_rig(damaged(c, msgspec.json.encode(self.small)), "x").rig)

    def _archive(self, c: random.Random) -> None:
        self._keep(read_rig(damaged(c, self.zip), "x").rig)

    def _gdtf(self, c: random.Random) -> None:
        data = c.choice(self.gdtf)
        if c.random() < 0.7:
            with zipfile.ZipFile(io.BytesIO(data)) as z:
                xml = z.read("description.xml")
            words = (b"0", b"1e999", b"-1", b"None", b"nan", b"99999999999", b"", b"1,2,3", b"<x/>", b"&e;", b'"')
            for _ in range(c.choice((1, 2, 6))):
                at = xml.find(b'"', c.randrange(len(xml)))
                end = xml.find(b'"', at + 1)
                if 0 < at < end:
                    xml = xml[: at + 1] + c.choice(words) + xml[end:]
            buffer = io.BytesIO()
            with zipfile.ZipFile(buffer, "w") as z:
                z.writestr("description.xml", xml)
            data = buffer.getvalue()
        else:
            data = damaged(c, data)
        self._keep(Rig(profiles={"p": loads_gdtf(data, "x").profile}))

    def _profile(self, c: random.Random) -> None:
        raw = mutated(c, json.loads(profile_json(c.choice(self.profiles))))
        found = profile_from_plain(read_json(msgspec.json.encode(raw), "x"), "x")
        self._keep(Rig(profiles={"p": check_profile(found, "x")}))

    def _table(self, c: random.Random) -> None:
        text = write_csv(next(iter(c.choice(self.profiles).modes.values())))
        rows = text.split("\n")
        for _ in range(c.choice((1, 2, 5))):
            n = c.randrange(len(rows))
            cells = rows[n].split(",")
            cells[c.randrange(len(cells))] = c.choice(("", "-1", "1e999", "99999999999", "nan", '"', "a+b", "1+1", "²"))
            rows[n] = ",".join(cells)
        mode, _ = read_csv("\n".join(rows))
        self._keep(Rig(profiles={"p": check_profile(Profile(name="x", modes={"m": mode}), "x")}))

    def _chart(self, c: random.Random) -> None:
        from welvo.formats.chart import read_chart

        mode = read_chart(chart_text(c) + c.choice(("", " " + c.randbytes(8).decode("latin-1")))).mode_of_chart("m")
        self._keep(Rig(profiles={"p": check_profile(Profile(name="x", modes={"m": mode}), "x")}))

    def _model(self, c: random.Random) -> None:
        text = c.choice(self.models)
        lines = text.split("\n")
        for _ in range(c.choice((1, 2))):
            n = c.randrange(len(lines))
            lines[n] = c.choice(("", "x = 1", "ports = 5", "volts = [nan]", "[[", lines[n] * 2, "amps = inf"))
        model = read_model("\n".join(lines), "x")
        self._keep(msgspec.structs.replace(self.rig, device_models={**self.rig.device_models, "x": model}))

    def _journal(self, c: random.Random) -> None:
        rig = msgspec.Raw(msgspec.json.encode(mutated(c, self.small)))
        data = msgspec.json.encode(journal.Entry(1.0, "", "x", rig))
        (self.folder / "journal-1.json").write_bytes(damaged(c, data) if c.random() < 0.5 else data)
        for found in journal.find_abandoned(self.folder)[0]:
            self._keep(found.rig)

    def _settings(self, c: random.Random) -> None:
        from welvo.app.computer import Computer

        raw = mutated(c, {"interface": "127.0.0.1", "theme": "dark", "text_step": 0, "recent": ["a"], "width": 1280})
        file = Computer.settings_file()
        file.parent.mkdir(parents=True, exist_ok=True)
        data = msgspec.json.encode(raw)
        file.write_bytes(damaged(c, data) if c.random() < 0.4 else data)
        found = Computer.load_settings()
        assert found.theme in ("desktop", "dark", "light") and 200 <= found.width <= 16000
        found.save_settings()

    def one(self, seed: str) -> tuple[int, str]:
        """One file of some kind; gives what is wrong."""
        chance = random.Random(seed)
        name = chance.choice(list(self.kinds))
        try:
            self.kinds[name](chance)
        except RigFileError as e:
            return 1, f"{name}: {e}" if len(str(e)) > 1200 or "was not written" in str(e) else ""
        return 1, ""


def knock(seed: int, count: int, go_on: Callable[[], bool]) -> tuple[int, str]:
    """How many files were read, and what broke; empty when nothing did."""
    knocks = Knocks()
    for n in range(1, count + 1):
        try:
            _, wrong = knocks.one(f"{seed} {n}")
        except Exception as e:
            wrong = repr(e)
        if wrong:
            return n, f"file “{seed} {n}”: {wrong}"
        if not go_on():
            return n, ""
    return count, ""
