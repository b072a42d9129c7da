"""Blackout and disarm beside a window that is busy: by its keys, and by commands."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from click.testing import CliRunner

from tests.app.test_platforms import x_server
from tests.cli.test_json import hold
from tests.live.test_engine_process import SPEC, collect, ear  # noqa: F401
from welvo.bench.levels import Levels
from welvo.cli import app
from welvo.demo.gallery import make_gallery
from welvo.live.beside import GRACE, SAME, Presses
from welvo.live.engine import BY_KEY, EngineProcess
from welvo.patch.index import Index
from welvo.patience import wait_until


class Clock:
    now = 100.0

    def __call__(self) -> float:
        return self.now


def test_a_press_is_done_once_whoever_is_late() -> None:
    clock = Clock()
    presses = Presses(clock)
    presses.note_press("blackout")
    assert presses.due_presses() == []  # the window has its time
    assert not presses.dealt_with("blackout")
    clock.now += 2 * GRACE
    assert presses.due_presses() == []
    assert not presses.dealt_with("disarm")  # the window was told first
    clock.now += SAME / 2
    presses.note_press("disarm")
    clock.now += 2 * GRACE
    assert presses.due_presses() == []
    presses.note_press("blackout")
    clock.now += GRACE
    assert presses.due_presses() == ["blackout"]
    clock.now += SAME / 2
    assert presses.dealt_with("blackout")  # both did it
    presses.note_press("blackout")
    clock.now += 5.0
    assert presses.due_presses() == ["blackout"]
    clock.now += 5.0
    assert not presses.dealt_with("blackout")  # another press, which the keyboard has not told of yet
    clock.now += 5.0
    presses.note_press("blackout")
    clock.now += GRACE
    assert presses.due_presses() == ["blackout"]  # and that one is not it any more


def test_what_stays_lit_is_what_the_window_leaves_lit() -> None:
    index = Index(make_gallery())
    levels = Levels()
    for key in index.rig.fixtures:
        for function in ("Dimmer", "Pan", "Tilt", "ColorAdd_R", "Shutter1"):
            levels.hold_function([key], function, 0.7)
    lit = levels.frames_of_rig(index)
    levels.blackout = True
    for uid, dark in levels.frames_of_rig(index).items():
        assert np.array_equal(np.where(levels.slots_staying_lit(index, uid), lit[uid], 0), dark), index.rig.universes[
            uid
        ].number
    assert any(levels.slots_staying_lit(index, uid).any() for uid in index.rig.universes)


def shown(ear: socket.socket, level: Callable[[bytes], bool]) -> bool:  # noqa: F811
    return wait_until(lambda: any(level(p.slots) for p in collect(ear, 0.05)), 5)


def test_signals_darken_and_end_what_leaves_and_the_parent_is_told(ear: socket.socket) -> None:  # noqa: F811
    engine = EngineProcess("127.0.0.1", 1, "Test")
    try:
        engine.set_stays(np.packbits(np.arange(512) == 3, bitorder="little").tobytes())
        engine.write(b"\x2a" * 512)
        engine.set_streams([SPEC])
        assert shown(ear, lambda s: s[0] == 0x2A)
        mine = str(os.getpid())
        done = CliRunner().invoke(app, ["blackout", "--of", mine, "--json"])
        assert engine.pid in hold("blackout", json.loads(done.stdout))["processes"]
        assert shown(ear, lambda s: s[0] == 0 and s[3] == 0x2A)
        engine.write(b"\x2b" * 512)  # a window that is busy writes nothing; one that does not know it yet does
        assert shown(ear, lambda s: s[0] == 0 and s[3] == 0x2B)
        assert wait_until(lambda: engine.take_done() == ["blackout"], 5)
        engine.lighten()
        assert shown(ear, lambda s: s[0] == 0x2B)
        while collect(ear, 0.0, 1):
            pass
        done = CliRunner().invoke(app, ["disarm", "--of", mine, "--json"])
        assert hold("disarm", json.loads(done.stdout)) == {"processes": [engine.pid]}
        assert wait_until(lambda: not engine.alive, 5)
        assert engine.state.why == BY_KEY
        assert sum(p.is_terminated for p in collect(ear, 1.0)) == 3
    finally:
        engine.stop()
    nobody = CliRunner().invoke(app, ["disarm", "--of", str(os.getpid())])
    assert nobody.exit_code == 1 and "nothing is armed here" in nobody.stderr


BLOCKED = """
import ctypes, json, os, sys, threading, time
from pathlib import Path
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from Xlib import X, XK, display
from Xlib.ext import xtest
from welvo.app.computer import Computer
from welvo.app.main import make_window
from welvo.app.session import Session
from welvo.app.widgets.dialogs import Dialog
from welvo.patience import PatienceLimit
from welvo.rig.document import Rig
from welvo.rig.wiring import Feed, Sender, Universe
feeds = {"w": Feed(universe="a", sender="s", wire=5, to="127.0.0.71", rule="always")}
rig = Rig(name="x", universes={"a": Universe(number=1)}, senders={"s": Sender(name="Bench", kind="bench")}, feeds=feeds)
app = QApplication([])
window = make_window(Session(rig), Computer(), "127.0.0.1", Path(sys.argv[1]))
window.files.may_leave = lambda: True
window.show()
window.network.start_network()
def spin(until, seconds=20):
    limit = PatienceLimit(seconds)
    while limit.lasts() and not until():
        app.processEvents()
        time.sleep(0.005)
    return bool(until())
window.activateWindow()
assert spin(lambda: window.isActiveWindow())
window.network.meant.levels.raw["a", 1] = 200
window.network.meant.note_touched()
assert window.network.output.arm_output()
engine = window.network.output.engine
assert spin(lambda: engine.state.kind == "sending")
spin(lambda: False, 1.0)
keyboard = display.Display()
def press(shift=False):
    f9, held = keyboard.keysym_to_keycode(XK.XK_F9), keyboard.keysym_to_keycode(XK.XK_Shift_L)
    down, up = X.KeyPress, X.KeyRelease
    for kind, key in [(down, held)] * shift + [(down, f9), (up, f9)] + [(up, held)] * shift:
        xtest.fake_input(keyboard, kind, key)
    keyboard.sync()
def light_again():
    press()
    spin(lambda: not window.network.meant.levels.blackout, 5)
    spin(lambda: False, 1.5)
def hang(seconds):
    # no thread of this process runs meanwhile: the interpreter is not let go
    press_later = os.fork()
    if press_later == 0:
        time.sleep(0.3)
        os.execv(sys.executable, [sys.executable, "-c", sys.argv[2], hang.shift])
    ctypes.PyDLL(None).usleep(int(seconds * 1e6))
    os.waitpid(press_later, 0)
said = []
window.session.said.connect(lambda words, _: said.append(words))
def tell(*words):
    print(json.dumps(words), flush=True)
    sys.stdin.readline()
tell("lit", window.network.meant.levels.blackout)
press()
assert spin(lambda: window.network.meant.levels.blackout, 5)
spin(lambda: False, 1.5)
tell("by the window", window.network.meant.levels.blackout)
light_again()
tell("lit again", window.network.meant.levels.blackout)
dialog = Dialog(window, "A dialog")
dialog.finish(None)
QTimer.singleShot(300, press)
QTimer.singleShot(1500, dialog.reject)
dialog.exec()
window.activateWindow()  # as a window manager would
assert spin(window.isActiveWindow)
tell("in a dialog", window.network.meant.levels.blackout)
light_again()
print(json.dumps(["hangs"]), flush=True)
hang.shift = ""
hang(4.0)
spin(lambda: False, 1.5)
tell("hung", window.network.meant.levels.blackout, said)
light_again()
print(json.dumps(["hangs"]), flush=True)
hang.shift = "shift"
hang(4.0)
spin(lambda: not window.network.output.is_armed, 5)
tell("disarmed", window.network.output.is_armed, said)
window.end_everything()
os._exit(0)
"""
PRESS = """
import sys
from Xlib import X, XK, display
from Xlib.ext import xtest
keyboard = display.Display()
f9, held = keyboard.keysym_to_keycode(XK.XK_F9), keyboard.keysym_to_keycode(XK.XK_Shift_L)
shift = bool(sys.argv[1])
down, up = X.KeyPress, X.KeyRelease
for kind, key in [(down, held)] * shift + [(down, f9), (up, f9)] + [(up, held)] * shift:
    xtest.fake_input(keyboard, kind, key)
keyboard.sync()
"""


def test_the_keys_work_while_the_window_hangs(tmp_path: Path, ear: socket.socket) -> None:  # noqa: F811
    """For four seconds nothing of the window's process runs; F9 and Shift+F9 are done all the same, and once."""
    with x_server("1400x900") as display:
        own = {n: str(tmp_path) for n in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME")}
        env = {**os.environ, **own, "DISPLAY": display, "QT_QPA_PLATFORM": "xcb"}
        window = subprocess.Popen([sys.executable, "-c", BLOCKED, str(tmp_path), PRESS], env=env, text=True,
                                  stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
        assert window.stdin and window.stdout and window.stderr

        def told() -> list[object]:
            line = window.stdout.readline()  # type: ignore[union-attr]
            assert line, window.stderr.read()[-3000:]  # type: ignore[union-attr]
            found: list[object] = json.loads(line)
            return found

        def go_on() -> None:
            while collect(ear, 0.0, 1):
                pass
            window.stdin.write("\n")  # type: ignore[union-attr]
            window.stdin.flush()  # type: ignore[union-attr]

        try:
            assert told() == ["lit", False] and shown(ear, lambda s: s[0] == 200)
            go_on()
            assert told() == ["by the window", True] and shown(ear, lambda s: s[0] == 0)
            go_on()
            assert told() == ["lit again", False]
            go_on()
            assert told() == ["in a dialog", True] and shown(ear, lambda s: s[0] == 0)
            go_on()
            assert told() == ["hangs"]
            assert shown(ear, lambda s: s[0] == 200)
            hangs = time.monotonic()
            assert shown(ear, lambda s: s[0] == 0)
            assert time.monotonic() - hangs < 4.0, "it was dark only when the window was free again"
            kind, dark, said = told()
            assert (kind, dark) == ("hung", True) and any("while the window was busy" in s for s in said)  # type: ignore[union-attr]
            assert shown(ear, lambda s: s[0] == 0)  # and it stays dark
            go_on()
            assert told() == ["hangs"]
            assert shown(ear, lambda s: s[0] == 200)
            hangs = time.monotonic()
            assert wait_until(lambda: any(p.is_terminated for p in collect(ear, 0.05)), 5)
            assert time.monotonic() - hangs < 4.0
            kind, armed, said = told()
            assert (kind, armed) == ("disarmed", False) and any("Disarmed beside" in s for s in said), said  # type: ignore[union-attr]
            go_on()
            assert window.wait(20) == 0
        finally:
            window.send_signal(signal.SIGKILL)
            window.wait()
            for pipe in (window.stdin, window.stdout, window.stderr):
                pipe.close()
