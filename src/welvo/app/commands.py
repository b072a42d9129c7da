"""Every command of the window, once: its words, keys, help, when it applies and what it does.

The menus with their Alt letters, the jump box, tooltips, the key page in Help and `docs/keys.md` are made from this
table, so that a key is typed in one place and no page can name another one. A command acts on the window it is given;
this module knows neither Qt nor the window's class, and can be read by the script that writes the docs.

Keys that only work with the focus on a drawing or a list are not commands: they belong to the widget that has the
focus. They are told here, in `KEYS_OF_WIDGETS`, for the pages.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

STATIONS = ("Profiles", "Patch", "Runs", "Devices", "Bench", "Sheets")
"""In the order of the work; Alt and the place goes there."""
PATCH_PAGES = {
    "Tapes": "Every universe as a tape of its slots, and the list of all items.",
    "Wires": "All numbers on the wire in every way of counting, and what each device would get.",
    "Positions": "Where every fixture hangs, from above.",
    "Capacity": "What is used, reserved and possible.",
    "Senders": "Who feeds the universes, and which part of the rig a show uses.",
}
ZOOMS = ("Field", "Fit", "Block", "Slot")
MENUS = ("File", "Edit", "View", "Output", "Help")


def _always_possible(_: Any) -> bool:
    return True


@dataclass(frozen=True)
class Command:
    """`act`, `when` and `shown` are given the window. `shown` says the words where they change with what is there.

    A command whose `menu` is empty has keys only. `line` draws a rule above it.
    """

    id: str
    menu: str
    words: str
    act: Callable[[Any], object]
    keys: tuple[str, ...] = ()
    help: str = ""
    when: Callable[[Any], bool] = _always_possible
    shown: Callable[[Any], str] | None = None
    line: bool = field(default=False, kw_only=True)


def _undo_words(verb: str, what: str) -> str:
    return f"{verb}: {what}" if what else verb


def _station_command(name: str, place: int) -> Command:
    return Command(f"station.{name}", "View", name, lambda w: w.show_station(name), (f"Alt+{place}",))


def _page_command(name: str, help_text: str) -> Command:
    return Command(f"page.{name}", "View", f"Patch: {name}", lambda w: w.stations.show_page(name), help=help_text)


def _zoom_command(name: str, place: int) -> Command:
    return Command(
        f"zoom.{name}", "View", f"Zoom: {name}", lambda w: w.stations.zoom_to(name), (f"Ctrl+{place}",), line=place == 1
    )


FILE = (
    Command("new", "File", "New rig", lambda w: w.files.begin_new(), ("Ctrl+N",), "Begins an empty rig."),
    Command("open", "File", "Open…", lambda w: w.files.ask_open(), ("Ctrl+O",), "Opens a rig in place of this one."),
    Command("demo", "File", "Open the Drift Gallery (demo)", lambda w: w.open_demo and w.open_demo()),
    Command("save", "File", "Save", lambda w: w.files.save_soon(), ("Ctrl+S",), line=True),
    Command("save-as", "File", "Save as…", lambda w: w.files.save_as(), ("Ctrl+Shift+S",)),
    Command(
        "import",
        "File",
        "Import…",
        lambda w: w.files.ask_import(),
        help="A table of fixtures (CSV, XLSX, ODS), a scene (MVR), or a fixture type (GDTF).",
        line=True,
    ),
    Command("export", "File", "Export a list…", lambda w: w.files.export_list(), help="Any list as CSV, XLSX or ODS."),
    Command(
        "export-scene",
        "File",
        "Export a scene…",
        lambda w: w.files.export_scene(),
        help="The rig as MVR, with GDTF in it.",
    ),
    Command(
        "print",
        "File",
        "Print…",
        lambda w: w.stations.print_sheet(),
        ("Ctrl+P",),
        "Prints the sheet that is shown.",
        line=True,
    ),
    Command("rename", "File", "Rename the rig…", lambda w: w.files.rename(), help="What this installation is called."),
    Command("quit", "File", "Quit", lambda w: w.close(), ("Ctrl+Q",), line=True),
)
EDIT = (
    Command(
        "undo",
        "Edit",
        "Undo",
        lambda w: w.session.undo_edit(),
        ("Ctrl+Z",),
        when=lambda w: bool(w.session.history.undo_label),
        shown=lambda w: _undo_words("Undo", w.session.history.undo_label),
    ),
    Command(
        "redo",
        "Edit",
        "Redo",
        lambda w: w.session.redo_edit(),
        ("Ctrl+Shift+Z", "Ctrl+Y"),
        when=lambda w: bool(w.session.history.redo_label),
        shown=lambda w: _undo_words("Redo", w.session.history.redo_label),
    ),
    Command(
        "add",
        "Edit",
        "Add…",
        lambda w: w.stations.add_to_station(),
        ("Ctrl+Shift+I",),
        "Adds what the station holds.",
        line=True,
    ),
    Command(
        "duplicate",
        "Edit",
        "Duplicate…",
        lambda w: w.stations.duplicate_in_station(),
        ("Ctrl+Shift+D",),
        "Copies what is selected.",
    ),
    Command(
        "lay-out",
        "Edit",
        "Lay out…",
        lambda w: w.stations.on_tapes(w.patch.panel.lay_out),
        ("Ctrl+Shift+L",),
        "Gives addresses to what is selected, shown on the tapes first.",
    ),
    Command(
        "pack",
        "Edit",
        "Pack this universe…",
        lambda w: w.stations.on_tapes(w.patch.panel.pack_universe),
        help="Closes its gaps.",
    ),
    Command("paste", "Edit", "Paste from a spreadsheet…", lambda w: w.stations.on_tapes(w.patch.paste_clipboard)),
    Command(
        "next-gap",
        "Edit",
        "Next gap that fits",
        lambda w: w.stations.on_tapes(w.patch.next_gap),
        ("Ctrl+Shift+G",),
        "Goes to the next gap that holds what is selected.",
    ),
    Command("before", "Edit", "Selection before", lambda w: w.session.step_selection(True), ("Alt+Left",), line=True),
    Command("after", "Edit", "Selection after", lambda w: w.session.step_selection(False), ("Alt+Right",)),
    Command(
        "name",
        "Edit",
        "Name it…",
        lambda w: w.focusing.focus_name(w.panel_place),
        ("Ctrl+Shift+N",),
        "Goes to the name in the panel.",
    ),
    Command("filter", "Edit", "Filter the list", lambda w: w.focusing.focus_filter(w.drawer), ("Ctrl+F",)),
    Command(
        "jump",
        "Edit",
        "Jump…",
        lambda w: w.focusing.focus_jump_box(),
        ("Ctrl+K",),
        "Goes to 207, 3.045, ribbon/27, 304/2, 207:5, run 1169, PENSTOCK 6 px 31, an IP address, a name or a command.",
    ),
)
VIEW = (
    *(_station_command(name, n) for n, name in enumerate(STATIONS, 1)),
    *(_page_command(name, words) for name, words in PATCH_PAGES.items()),
    Command("findings", "View", "Findings", lambda w: w.toggle_findings(), ("Alt+0",), line=True),
    Command("next-finding", "View", "Next finding", lambda w: w.step_finding(False), ("F8",)),
    Command("previous-finding", "View", "Previous finding", lambda w: w.step_finding(True), ("Shift+F8",)),
    *(_zoom_command(name, n) for n, name in enumerate(ZOOMS, 1)),
    Command("zoom-in", "View", "Zoom in", lambda w: w.stations.zoom_step(1), ("Ctrl++", "Ctrl+=")),
    Command("zoom-out", "View", "Zoom out", lambda w: w.stations.zoom_step(-1), ("Ctrl+-",)),
    Command("zoom-whole", "View", "Zoom: whole universe", lambda w: w.stations.zoom_to("Fit"), ("Ctrl+0",)),
    Command(
        "theme",
        "View",
        "Light theme",
        lambda w: w.looks.toggle_theme(),
        shown=lambda w: "Dark theme" if w.looks.is_light else "Light theme",
        line=True,
    ),
    Command(
        "text",
        "View",
        "Larger text",
        lambda w: w.looks.toggle_text(),
        shown=lambda w: "Smaller text" if w.looks.is_large else "Larger text",
    ),
    Command(
        "follow-desktop",
        "View",
        "Theme and text as the desktop has them",
        lambda w: w.looks.follow_desktop(),
        when=lambda w: not w.looks.follows_desktop,
        help="Light or dark and the size of text follow the desktop's settings, also when these change.",
    ),
    Command(
        "panel",
        "View",
        "Hide the panel",
        lambda w: w.toggle_panel(),
        shown=lambda w: "Hide the panel" if w.panel_shown else "Show the panel",
    ),
    Command("full-screen", "View", "Full screen", lambda w: w.toggle_full_screen(), ("F11",)),
    Command("next-region", "", "Next region of the window", lambda w: w.focusing.next_region(False), ("F6",)),
    Command(
        "previous-region", "", "Previous region of the window", lambda w: w.focusing.next_region(True), ("Shift+F6",)
    ),
)
OUTPUT = (
    Command(
        "arm",
        "Output",
        "Arm",
        lambda w: w.output.toggle_arm(),
        help="Lets levels leave this computer, or ends all streams. Without arming, only questions for devices leave.",
        shown=lambda w: "Disarm" if w.network.output.is_armed else "Arm",
    ),
    Command(
        "disarm",
        "Output",
        "Disarm at once",
        lambda w: w.network.output.press_key("disarm"),
        ("Shift+F9",),
        "Ends all streams; in a dialog as well, and beside a window that is busy.",
    ),
    Command(
        "blackout",
        "Output",
        "Blackout",
        lambda w: w.network.output.press_key("blackout"),
        ("F9",),
        "Intensity, colour and shutter of everything go out as 0 until you take it away again.",
    ),
    Command(
        "release", "Output", "Release all", lambda w: w.bench.release_all(), help="Gives back everything you hold."
    ),
    Command(
        "lamps",
        "Output",
        "Set the selected lamps",
        lambda w: w.network.lamps.set_items(w.session.selection.ids if w.session.selection.kind == "item" else ()),
        help="Sets address and mode on the lamps of the selection that are known by RDM, and reads them back.",
        line=True,
    ),
    Command(
        "read",
        "Output",
        "Read the devices again",
        lambda w: w.network.hearing.read_again(),
        ("F5", "Shift+F5"),
        "Asks every device for its settings.",
    ),
    Command(
        "rehearse",
        "Output",
        "Rehearse this rig…",
        lambda w: w.open_rehearsal(),
        help="Simulates the planned devices on this computer, with faults to be switched on.",
    ),
    Command(
        "quiet",
        "Output",
        "Send nothing before arming",
        lambda w: w.output.toggle_quiet(),
        help="Before arming, Welvo asks for devices every 2.6 seconds and joins the groups of the universes it hears. "
        "Quiet, not even that leaves this computer, and only what is sent to it or to everyone is heard.",
        shown=lambda w: "Ask for devices again" if w.network.hearing.quiet else "Send nothing before arming",
    ),
)
HELP = (
    Command("help", "Help", "Help on what has the focus", lambda w: w.help.help_on_focused(), ("F1",)),
    Command(
        "messages", "Help", "Messages…", lambda w: w.message.show_all(), help="All messages of this window, with time."
    ),
    Command("guide", "Help", "Guide", lambda w: w.help.show_guide(), help="The guide, with its pictures."),
    Command("keys", "Help", "Keys", lambda w: w.help.show_keys()),
    Command("about", "Help", "About Welvo", lambda w: w.help.show_about()),
)
COMMANDS = (*FILE, *EDIT, *VIEW, *OUTPUT, *HELP)
BY_ID = {c.id: c for c in COMMANDS}

KEYS_OF_WIDGETS = (
    ("in a field", "Enter, Tab", "take the value over"),
    ("in a field", "Ctrl+Enter", "give the value to all that are selected or listed"),
    ("in a field", "Esc", "back to the value it had"),
    ("on tapes", "arrows", "the item before or behind, the tape above or below"),
    ("on tapes", "Enter", "edit the address"),
    ("on tapes", "Space", "open or close the lens"),
    (
        "on tapes",
        "Ctrl+M",
        "pick up: arrows move, Enter puts down, Ctrl+Enter puts a copy down, Shift+Enter swaps, Esc gives back",
    ),
    ("in a list", "Ctrl+C", "copy the selected rows with their headings"),
    ("in the list of items", "F2, Enter", "edit the cell"),
    ("in the list of items", "Ctrl+L", "lock or unlock"),
    ("in the list of items", "Ctrl+V", "paste a table"),
    ("in the list of items", "Del", "remove"),
    ("on the rig from above", "arrows", "move what is selected by one step of the grid; with Shift by four"),
    ("on the rig from above", "Home", "everything that has a place"),
    ("on cables", "arrows", "walk ports and segments; with Shift they carry the segment along"),
    ("on cables", "N", "the next pixel"),
    ("on cables", "Del", "detach a segment"),
    ("on cables", "Ctrl+wheel", "widen the cells"),
    ("on faders", "Left, Right", "the fader before or behind"),
    ("on faders", "Up, Down; PgUp, PgDn", "by 1; by 16"),
    ("on faders", "Home, End", "0, full"),
    ("on faders", "digits", "type a value"),
    ("on faders", "Del", "give back"),
)
"""Where the focus is, the keys, and what they do."""


def said_keys(command_id: str) -> str:
    """The keys of a command as they are written; empty when it has none."""
    return ", ".join(BY_ID[command_id].keys)


def tip_of_command(command_id: str) -> str:
    """Help and keys of a command, for a tooltip."""
    c = BY_ID[command_id]
    keys = said_keys(command_id)
    return f"{c.help or c.words + '.'}{'   ' + keys if keys else ''}"


def key_rows() -> list[tuple[str, str, str]]:
    """Every key there is: where it works, the keys, and what they do."""
    found = [("anywhere", " or ".join(c.keys), c.help or f"{c.words.rstrip('…')}.") for c in COMMANDS if c.keys]
    return [*found, *((where, keys, f"{what[:1].upper()}{what[1:]}.") for where, keys, what in KEYS_OF_WIDGETS)]


def with_mnemonics(words: Iterable[str]) -> list[str]:
    """The words of a menu, each with an `&` before a letter that no entry above it has, where there is one."""
    taken: set[str] = set()
    found = []
    for entry in words:
        plain = entry.replace("&", "&&")
        at = next((n for n, x in enumerate(plain) if x.isascii() and x.isalnum() and x.lower() not in taken), None)
        if at is None:
            found.append(plain)
        else:
            taken.add(plain[at].lower())
            found.append(f"{plain[:at]}&{plain[at:]}")
    return found
