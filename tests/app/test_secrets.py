"""Passwords and secrets: they reach the device and are found nowhere else."""

from __future__ import annotations

import stat
from collections.abc import Iterator
from pathlib import Path

import aiohttp  # noqa: F401  importing it takes a while, which is no part of what is waited for
import msgspec
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from tests.app.conftest import beside_stand_ins, field_of
from welvo.app.computer import load_passwords, passwords_file, save_passwords
from welvo.app.session import Selection
from welvo.app.window import Window
from welvo.formats.models import shipped_models
from welvo.formats.rigfile import save_rig_file
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import add_device, plan_setting

PASSWORD, KEY = "moon-jelly-7", "lagoon-key-31"
IP = "127.0.0.77"


def rig_with_drifter() -> Rig:
    return add_device(Rig(name="Guarded"), shipped_models()["drifter"], "DRIFT", IP)[0]


@pytest.fixture
def guarded(tmp_path: Path, qtbot: QtBot) -> Iterator[Window]:
    """A wireless controller that asks for a password."""
    rig = rig_with_drifter()
    with beside_stand_ins(rig, f'["{IP}"]\npassword = "{PASSWORD}"\n', tmp_path) as (window, _):
        window.show_station("Devices")
        window.session.change_selection(Selection("device", (next(iter(rig.devices)),)))
        yield window


def test_a_password_opens_a_device_and_a_secret_goes_there_alone(
    guarded: Window, qtbot: QtBot, tmp_path: Path, caplog: pytest.LogCaptureFixture
) -> None:
    s, work = guarded.session, guarded.network.devices
    device, told = s.selection.first_selected, []
    s.said.connect(lambda words, _: told.append(words))
    qtbot.waitUntil(lambda: "password" in guarded.network.hearing.why_unread(IP), timeout=10_000)
    assert IP not in s.observed.said

    qtbot.waitUntil(lambda: field_of(guarded, "Password") is not None, timeout=5000)
    field = field_of(guarded, "Password")
    assert field.echoMode() == field.EchoMode.Password
    field.setText("not this one")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: "this is not it" in guarded.network.hearing.why_unread(IP), timeout=10_000)
    qtbot.waitUntil(lambda: field_of(guarded, "Password") is not None, timeout=5000)
    field = field_of(guarded, "Password")
    field.setText(PASSWORD)
    qtbot.keyClick(field, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: IP in s.observed.said, timeout=10_000)
    assert not guarded.network.hearing.why_unread(IP)
    assert "key" not in s.observed.said[IP].entered and "key" not in s.observed.said[IP].active

    with pytest.raises(Refused, match="Nothing was typed"):
        work.enter_secret(device, "key", "")
    work.enter_secret(device, "key", KEY)
    qtbot.waitUntil(lambda: "key" in s.observed.results.get(device, {}), timeout=10_000)
    result = s.observed.results[device]["key"]
    assert (result.outcome, result.value) == ("unknown", "")  # it went in, and a secret cannot be read back

    file = tmp_path / "kept.json"
    save_rig_file(s.rig, file)
    everything = file.read_text() + msgspec.json.encode(s.observed).decode() + caplog.text + " ".join(told)
    assert PASSWORD not in everything and KEY not in everything
    assert KEY not in passwords_file().read_text()


def test_passwords_are_kept_for_their_owner_alone() -> None:
    assert load_passwords() == {}
    save_passwords({IP: PASSWORD})
    assert load_passwords() == {IP: PASSWORD}
    assert stat.S_IMODE(passwords_file().stat().st_mode) == 0o600
    save_passwords({})
    assert load_passwords() == {}
    passwords_file().write_bytes(b"[1, 2")
    assert load_passwords() == {}


def test_a_rig_cannot_hold_a_planned_secret() -> None:
    rig = rig_with_drifter()
    with pytest.raises(Refused, match="secret"):
        plan_setting(rig, next(iter(rig.devices)), "key", KEY)
