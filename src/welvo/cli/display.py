"""Whether a window can be opened here, found out before Qt is loaded.

Qt itself ends the process with a core dump when it has no display or lacks a library, and its hint names a library that
is often there. So each thing it will need is tried first, in the order in which it will need it, and the first that
fails is said in one sentence with what to do.
"""

from __future__ import annotations

import contextlib
import ctypes
import importlib.util
import os
import re
import socket
from importlib.resources import files
from pathlib import Path

NO_DISPLAY = (
    "There is no display for the window: neither DISPLAY nor WAYLAND_DISPLAY is set. Start Welvo in a desktop session, "
    "or use its commands (welvo --help)."
)


def why_no_window() -> str:
    """Why no window can be opened, in one sentence with what to do; empty when one can."""
    found = importlib.util.find_spec("PySide6")
    if found is None or not found.submodule_search_locations:
        return "The window needs Qt for Python, which is not installed: pip install PySide6-Essentials."
    qt = Path(next(iter(found.submodule_search_locations))) / "Qt"
    if why := _why_not_loaded(qt / "lib" / "libQt6Gui.so.6"):
        return why
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    if chosen and not chosen.startswith(("xcb", "wayland")):
        return ""  # an offscreen window needs nothing more
    reasons = {name: _why_not_on(name, qt) for name in _platforms_to_try(chosen)}
    if not reasons:
        return NO_DISPLAY
    usable = [name for name, why in reasons.items() if not why]
    if usable and len(usable) < len(reasons) and not chosen:
        os.environ["QT_QPA_PLATFORM"] = usable[0]  # Qt gives up at the first one that it prefers
    return "" if usable else next(iter(reasons.values()))


def _platforms_to_try(chosen: str) -> list[str]:
    there = [n for n, v in (("wayland", "WAYLAND_DISPLAY"), ("xcb", "DISPLAY")) if os.environ.get(v)]
    return [n for n in there if not chosen or chosen.split(":")[0].split("-")[0] in n]


def _why_not_on(platform: str, qt: Path) -> str:
    plugins = qt / "plugins" / "platforms"
    names = {"xcb": ("libqxcb.so",), "wayland": ("libqwayland.so", "libqwayland-generic.so")}[platform]
    plugin = next((plugins / n for n in names if (plugins / n).exists()), None)
    if plugin is None:
        return f"This build of Qt cannot open a window on {platform}; start Welvo in an X11 session."
    answers = _x_answers() if platform == "xcb" else _wayland_answers()
    if not answers:
        name = os.environ["DISPLAY" if platform == "xcb" else "WAYLAND_DISPLAY"]
        return (
            f"The display “{name}” does not answer: nothing runs there, or it does not let this user in. Start Welvo "
            "in a desktop session, or use its commands (welvo --help)."
        )
    return _why_not_loaded(plugin)


def _x_answers() -> bool:
    """Whether an X server takes a connection; True where the library to ask with is missing (Qt's own tells then)."""
    try:
        xcb = ctypes.CDLL("libxcb.so.1")
    except OSError:
        return True
    xcb.xcb_connect.restype = ctypes.c_void_p
    connection = ctypes.c_void_p(xcb.xcb_connect(None, None))
    try:
        return not xcb.xcb_connection_has_error(connection)
    finally:
        xcb.xcb_disconnect(connection)


def _wayland_answers() -> bool:
    where = Path(os.environ.get("XDG_RUNTIME_DIR", "/nowhere")) / os.environ["WAYLAND_DISPLAY"]
    with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX) as s:
        s.settimeout(2.0)
        s.connect(str(where))
        return True
    return False


def _why_not_loaded(library: Path) -> str:
    """What a library of Qt lacks. It stays loaded, as Qt will want it in a moment anyhow."""
    try:
        ctypes.CDLL(str(library))
    except OSError as e:
        return missing_library(str(e))
    return ""


def missing_library(words: str) -> str:
    """The loader's words as a sentence with the package to install, where it names a library that is known."""
    m = re.match(r"(?:.*/)?(lib[^/:]*\.so[^/:]*):", words)
    if not m:
        return f"Qt cannot be loaded here: {words}."
    package = needed_packages().get(m[1])
    put_right = f"On Debian and Ubuntu: apt install {package}." if package else "Install the package that has it."
    return f"The window needs {m[1]}, which is missing or damaged on this computer. {put_right}"


def needed_packages() -> dict[str, str]:
    """Debian's package of each library that the window needs."""
    lines = (files("welvo") / "data" / "libraries.txt").read_text("utf-8").splitlines()
    return {line.split()[0]: line.split()[1] for line in lines if line and not line.startswith("#")}
