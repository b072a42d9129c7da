"""Blackout and disarm by key, whatever the window is doing. This runs inside the process that streams.

A window that works something out, asks a slow disk or hangs does not read its keys. So the streaming process has a
connection to the X server of its own and is told of every press (XInput 2, raw events, which take the key from
nobody). It counts only while the keyboard belongs to a window of the program that started it. The window says of each
press that it has dealt with it; what it has not dealt with after half a second is done here. On Wayland no program may
listen beside its window; there, and from another computer's terminal, `welvo blackout` and `welvo disarm` do the same
by a signal.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any, Literal

Act = Literal["blackout", "disarm"]
GRACE = 0.5
"""Seconds in which the window may deal with a press itself."""
SAME = 0.3
"""Seconds by which keyboard and window may tell of one press one after the other."""
_RAW_PRESS, _RAW_RELEASE = 13, 14
_SHIFT, _CONTROL, _ALT, _SUPER = 0, 2, 3, 6
"""Their places among the modifiers of an X server."""


class Presses:
    """Which presses are left to be done, as told by the keyboard and by the window, in any order. `clock` in seconds.
    The keyboard may be asked about in another thread than the rest."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._lock = threading.Lock()
        self._waiting: list[tuple[float, Act]] = []
        self._seen: list[tuple[float, Act]] = []
        self._done: list[tuple[float, Act]] = []

    def note_press(self, act: Act) -> None:
        """The keyboard told of a press."""
        with self._lock:
            if not self._take_act(self._seen, act):
                self._waiting.append((self._clock(), act))

    def dealt_with(self, act: Act) -> bool:
        """The window did it. Gives True when it was done here as well, just before."""
        with self._lock:
            if self._take_act(self._waiting, act):
                return False
            if self._take_act(self._done, act):
                return True
            self._seen.append((self._clock(), act))
            return False

    def due_presses(self) -> list[Act]:
        """Presses that the window has not dealt with in time; they are done here."""
        with self._lock:
            now = self._clock()
            found = [act for at, act in self._waiting if now - at >= GRACE]
            self._waiting = [w for w in self._waiting if now - w[0] < GRACE]
            self._done += [(now, act) for act in found]
            return found

    def _take_act(self, of: list[tuple[float, Act]], act: Act) -> bool:
        """Take one of an act out of a list from which all go that are too old to be the same press."""
        now = self._clock()
        of[:] = [x for x in of if now - x[0] <= (SAME if of is not self._waiting else GRACE)]
        for n, (_, other) in enumerate(of):
            if other == act:
                del of[n]
                return True
        return False


def listen_for_keys(owner: int, presses: Presses) -> None:
    """Tell of presses while the keyboard belongs to a window of process `owner`, in a thread of its own. Where there is
    no X server, or it does not allow it, nothing is told."""
    threading.Thread(target=_listen_quietly, args=(owner, presses), name="keys beside", daemon=True).start()


def _listen_quietly(owner: int, presses: Presses) -> None:
    try:
        _listen_to_display(owner, presses)
    except Exception:  # no X server, one without XInput 2, or one that went away: the window still has its keys
        return


def _listen_to_display(owner: int, presses: Presses) -> None:
    from Xlib import XK, X, display
    from Xlib.ext import xinput

    screen = display.Display()
    root = screen.screen().root
    screen.xinput_query_version()
    root.xinput_select_events([(xinput.AllMasterDevices, xinput.RawKeyPressMask | xinput.RawKeyReleaseMask)])
    modifiers = screen.get_modifier_mapping()
    which = {code: n for n in (_SHIFT, _CONTROL, _ALT, _SUPER) for code in modifiers[n] if code}
    held: set[int] = set()
    """Modifiers that are down, by key code, in the order of events: to ask for them would tell of a later moment."""
    key = screen.keysym_to_keycode(XK.XK_F9)
    pid = screen.intern_atom("_NET_WM_PID")
    screen.flush()
    while True:
        event = screen.next_event()
        if event.type != screen.extension_event.GenericEvent or event.evtype not in (_RAW_PRESS, _RAW_RELEASE):
            continue
        code = int.from_bytes(bytes(event.data)[6:10], "little")  # behind device and time, in the computer's own order
        if code in which:
            (held.add if event.evtype == _RAW_PRESS else held.discard)(code)
        if (
            code != key
            or event.evtype != _RAW_PRESS
            or _owner_of(screen.get_input_focus().focus, pid, X.AnyPropertyType) != owner
        ):
            continue
        down = {which[code] for code in held}
        if down <= {_SHIFT}:
            presses.note_press("disarm" if down else "blackout")


def _owner_of(window: Any, pid: int, any_type: int) -> int:
    """The process of a window, or of what it stands in; 0 when nobody says."""
    for _ in range(20):
        if isinstance(window, int) or window is None:
            return 0
        found = window.get_full_property(pid, any_type)
        if found and found.value:
            return int(found.value[0])
        window = window.query_tree().parent
    return 0
