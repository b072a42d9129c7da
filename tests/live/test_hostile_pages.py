"""Devices that answer with anything, and clients that ask for anything: a share of what `make fuzz` does."""

from __future__ import annotations

from tests.fuzz import pages


def test_hostile_devices_are_refused_in_a_line() -> None:
    for n in range(40):
        assert pages.ask(f"share {n}")[1] == "", n


def test_hostile_clients_keep_no_good_one_away() -> None:
    assert pages.serve("share")[1] == ""
