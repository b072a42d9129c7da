"""Tables and scenes that nobody wrote: workbooks, texts and scenes mutated by chance, read and worked out into a rig.

Whatever is in them, there is a proposal or the one refusal in a short sentence, within seconds; and what a proposal
would make can be saved.
"""

from __future__ import annotations

import csv
import io
import random
import time
import zipfile
from functools import cache
from pathlib import Path

from msgspec.structs import replace

from tests.fuzz.files import damaged
from welvo.demo.gallery import make_gallery
from welvo.formats.mvr import SCENE, loads_mvr
from welvo.formats.mvr_take import take_scene
from welvo.formats.mvr_write import dumps_mvr
from welvo.formats.rigfile import bytes_of
from welvo.formats.workbooks import grid_of, table_bytes
from welvo.patch.index import Index
from welvo.patience import PatienceLimit
from welvo.rig.base import Refused
from welvo.survey.spreadsheet import Mapping, cells_of_items, guess_mapping, understand_table

WILD = ("", "0", "-1", "1e999", "nan", "=1+1", "@x", "999999999", "1.001", "63999.512", "64000.1", "101", "–",
        "x" * 300, "\u202eabc", "a\nb", "1,2", "½", "512+1", "yes", "\x07", "<b>", "207", "free")  # fmt: skip
SECONDS = 20.0


@cache
def _index() -> Index:
    return Index(make_gallery())


@cache
def _scene() -> bytes:
    return dumps_mvr(_index())[0]


def _table(c: random.Random) -> tuple[bytes, str]:
    heads, *rows = cells_of_items(_index(), list(_index().rig.fixtures)[: c.choice((3, 40))])
    rows = [list(r) for r in rows]
    for _ in range(c.choice((1, 3, 20))):
        row = c.choice(rows)
        row[c.randrange(len(row))] = c.choice(WILD)
    if c.random() < 0.2:
        rows += [list(c.choice(rows)) for _ in range(c.choice((1, 50, 2000)))]
    if c.random() < 0.1:
        heads = [c.choice(WILD) for _ in heads]
    suffix = c.choice((".csv", ".xlsx", ".ods"))
    if suffix == ".csv":
        out = io.StringIO()
        csv.writer(out, delimiter=c.choice((",", ";", "\t"))).writerows([heads, *rows])
        return out.getvalue().encode(c.choice(("utf-8", "utf-8-sig")), "replace"), suffix
    return table_bytes(suffix, "x", heads, rows, []), suffix


def _take_table(c: random.Random) -> None:
    data, suffix = _table(c)
    if c.random() < 0.3:
        data = damaged(c, data)
    grid = grid_of(data, f"x{suffix}")
    columns = list(guess_mapping(_index().rig, grid.rows[0]))
    if c.random() < 0.2:
        c.shuffle(columns)
    found = understand_table(_index(), grid.rows, Mapping(tuple(columns), {}), grid.loose)
    bytes_of(found.rig, Path("x.welvo"))


def _take_scene(c: random.Random) -> None:
    data = _scene()
    if c.random() < 0.7:
        with zipfile.ZipFile(io.BytesIO(data)) as z:
            files = {n: z.read(n) for n in z.namelist()}
        xml = files[SCENE].decode()
        for _ in range(c.choice((1, 2, 8))):
            at = xml.find(">", c.randrange(len(xml))) + 1
            end = xml.find("<", at)
            if 0 < at <= end:
                words = c.choice(WILD).replace("<", "").replace("\x07", "")
                xml = xml[:at] + words + xml[end:]
        if c.random() < 0.3:
            begin, end = xml.find("<Fixture "), xml.rfind("</Fixture>") + 10
            xml = xml[:begin] + xml[begin:end] * c.choice((2, 30)) + xml[end:]
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as z:
            for name, content in {**files, SCENE: xml.encode()}.items():
                z.writestr(name, content)
        data = out.getvalue()
    else:
        data = damaged(c, data)
    found = take_scene(_index(), loads_mvr(data, "x.mvr"))
    bytes_of(replace(found.rig, scenes={}), Path("x.welvo"))


def case(seed: str) -> tuple[int, str]:
    """One file; gives what is wrong."""
    c = random.Random(seed)
    begun, limit = time.process_time(), PatienceLimit(SECONDS)
    kind = c.choice((_take_table, _take_table, _take_scene))
    try:
        kind(c)
    except Refused as e:  # a RigFileError is one
        if len(str(e)) > 1200 or "\n" in str(e).strip():
            return 1, f"{kind.__name__}: a refusal that nobody reads: {str(e)[:300]!r}"
    used = time.process_time() - begun
    return 1, "" if used < SECONDS or limit.lasts() else f"{kind.__name__} took {used:.0f} s"
