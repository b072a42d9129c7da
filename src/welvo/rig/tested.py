"""The test record: what was tested, when, by whom, with which result. It stands beside the plan, and undo leaves it."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from welvo.rig.base import Value

TestResult = Literal["passed", "failed", "doubtful"]
RESULTS: tuple[TestResult, ...] = ("passed", "failed", "doubtful")


class Tested(Value, frozen=True, kw_only=True):
    """One test of one thing. `what` names the test, `facts` says what the plan was then: the record wakes when it is
    another. `at` is in seconds since the epoch."""

    at: Annotated[float, Meta(ge=0)]
    result: TestResult = "passed"
    what: str = ""
    who: str = ""
    note: str = ""
    facts: str = ""


class TestRecord(Value, frozen=True, kw_only=True):
    """All tests of one thing, the oldest first."""

    tests: tuple[Tested, ...] = ()
