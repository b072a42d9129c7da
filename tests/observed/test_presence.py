"""Whether a device is there: one answer, whichever link it spoke by, and longer patience on a computer that is late."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from welvo.observed.presence import NEVER, is_recent, presence_of
from welvo.observed.values import NOTHING, SILENT_AFTER, DeviceAnswer, Heard, Observed

IP = "127.0.0.60"


def seen(heard: float = 0.0, said: float = 0.0) -> Observed:
    return Observed(
        heard={IP: Heard(IP, at=heard)} if heard else {}, said={IP: DeviceAnswer(said)} if said else {}
    )  # fmt: skip


@pytest.mark.parametrize(
    ("heard", "said", "now", "state", "last"),
    [
        (0.0, 0.0, 100.0, "never", 0.0), (100.0, 0.0, 100.0 + SILENT_AFTER, "heard", 100.0),
        (100.0, 0.0, 100.1 + SILENT_AFTER, "silent", 100.0), (0.0, 100.0, 101.0, "heard", 100.0),
        (50.0, 100.0, 105.0, "heard", 100.0), (100.0, 50.0, 105.0, "heard", 100.0), (50.0, 40.0, 105.0, "silent", 50.0),
    ],
)  # fmt: skip
def test_the_newest_word_by_any_link_counts(heard: float, said: float, now: float, state: str, last: float) -> None:
    found = presence_of(seen(heard, said), IP, now)
    assert (found.state, found.last, found.is_there) == (state, last, state == "heard")


def test_without_an_address_nobody_is_there() -> None:
    assert presence_of(seen(100.0), "", 100.0) is NEVER and presence_of(NOTHING, IP, 1.0) is NEVER
    assert not is_recent(NOTHING, 0.0, 0.0)  # never said is not said just now


def test_on_a_late_computer_more_time_is_given() -> None:
    late = replace(seen(100.0), patience=SILENT_AFTER + 5)
    assert presence_of(late, IP, 104.0 + SILENT_AFTER).is_there
    assert not presence_of(seen(100.0), IP, 104.0 + SILENT_AFTER).is_there
