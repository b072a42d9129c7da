"""How the library's generics say where their pixels sit."""

from __future__ import annotations

import pytest

from welvo.formats.library import face_of
from welvo.rig.profile import Arrangement


@pytest.mark.parametrize(
    ("words", "pixels", "face"),
    [
        ("rows 2", 14, Arrangement(rows=2, columns=7)),
        ("rows 4", 14, Arrangement(rows=4, columns=4)),
        ("line", 10, Arrangement(kind="line", columns=10)),
        ("rings 16 8", 24, Arrangement(kind="rings", rings=(16, 8))),
        ("", 5, None),
        ("cloud 3", 5, None),
    ],
)
def test_a_face_from_its_words(words: str, pixels: int, face: Arrangement | None) -> None:
    assert face_of(words, pixels) == face
