from __future__ import annotations

import pytest

from welvo.formats.files import RigFileError
from welvo.live.links import LinkError
from welvo.rig.base import Refused
from welvo.rig.letters import MARK, mark_unseen_letters
from welvo.rig.steps import Stopped


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("Eddy “head” – 3 → ☐", "Eddy “head” – 3 → ☐"),
        ("co\ntent.xml", f"co{MARK}tent.xml"),
        ("a\tb\rc\x00d", f"a{MARK}b{MARK}c{MARK}d"),
        ("tips\u202egnp.exe", f"tips{MARK}gnp.exe"),
        ("no\u00a0break", "no\u00a0break"),
        ("\ud800", MARK),
    ],
)
def test_what_cannot_be_seen_is_marked(text: str, shown: str) -> None:
    assert mark_unseen_letters(text) == shown


@pytest.mark.parametrize("kind", [Refused, RigFileError, LinkError, Stopped])
def test_a_refusal_is_one_line_whatever_it_names(kind: type[Refused]) -> None:
    assert str(kind("x.ods holds “co\ntent\u202e.xml”.")) == f"x.ods holds “co{MARK}tent{MARK}.xml”."
