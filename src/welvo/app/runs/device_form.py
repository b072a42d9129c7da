"""The form of a whole device in Runs: how it packs its streams, what it has to carry, where they begin."""

from __future__ import annotations

from welvo.app.runs.common import show_cards
from welvo.app.runs.port_form import patch_buttons
from welvo.app.runs.riser_drawing import At
from welvo.app.widgets.fields import Field
from welvo.app.widgets.flow import flow_of_widgets, keep_width
from welvo.app.widgets.forms import Subject, Typed, ValueChoice, field_row
from welvo.app.widgets.painting import make_button, make_label
from welvo.app.widgets.panels import FormPanel, Rows, Title
from welvo.rig.notation import say_count, say_place
from welvo.rig.plan import model_of
from welvo.rig.readers import Percent, read_whole_number
from welvo.rig.wiring import Device
from welvo.runs.edits import (
    begin_and_make,
    first_free_universe,
    fit_universes,
    make_to_fit,
    set_device_way,
    switched_off,
)
from welvo.runs.pixels import packing_choices, universes_of
from welvo.runs.power import loads_of_supplies

MOST_COSTED = 20_000
"""Pixels of a device up to which all ways of packing them are worked out."""
ROWS = (
    Typed(
        "Universe size",
        "How many slots of a universe the device takes: 512, 510, or 0 for as many as the sender uses. Both ends "
        "must match.",
        "size",
        width=84,
        words="universe size",
    ),
    ValueChoice(
        "Pixels",
        "Whole: a pixel that a universe's end would cut begins in the next. Dense: it is cut, and slots are saved.",
        "packs",
        (("whole", "kept whole"), ("dense", "dense, may be cut")),
    ),
    Typed(
        "Brightness",
        "Brightness of the whole device in per cent, one factor of the product.",
        "brightness",
        Percent(),
        width=84,
    ),
)


def show_device(panel: FormPanel, device_id: str) -> None:
    s = panel.session
    model = model_of(s.rig, device_id)

    def change(words: str, **fields: object) -> object:
        mode = fields.get("mode")
        ports, items = switched_off(s.rig, device_id, mode) if isinstance(mode, str) else ([], [])
        done = s.make_edit(set_device_way, device_id, f"{words} of {s.rig.devices[device_id].name}", **fields)
        if ports:
            said = ", ".join(ports[:6]) + (" …" if len(ports) > 6 else "")
            lost = f", with {say_count(len(items), 'item')} that get nothing then" if items else ""
            s.say(f"That mode switches off {say_count(len(ports), 'port')} in use: {said}{lost}.", "warning")
        return done

    panel.body.addWidget(Title(s.rig.devices[device_id].name))
    panel.words(f"{model.maker} {model.name}. {model.note}" if model else "unknown model")
    form = panel.new_form(Subject(lambda: s.rig.devices.get(device_id), change), Device)
    if model and model.modes:
        form.add(
            ValueChoice(
                "Mode",
                "Which of its output modes the device is set to. A mode can switch ports off or change what they "
                "put out.",
                "mode",
                [("", "not chosen"), *((m.name, m.name) for m in model.modes)],
            )
        )
    if model and model.firmwares:
        known = [(f.version, f"{f.version}{'' if f.good else ' · warned of'}") for f in model.firmwares]
        form.add(
            ValueChoice(
                "Firmware",
                "Which firmware the device has. Some are known good, some carry a warning.",
                "firmware",
                [("", "not known"), *known],
            )
        )
    if not any(k.device == device_id for k in s.index.cables_and_sums.streams):
        show_cards(panel, device_id, At("", -1, 0))
        panel.words("No pixels are attached to it. Pick a port, then type what is attached there.")
        return
    form.add(*ROWS)
    show_cards(panel, device_id, At("", -1, 0), 2)
    _begin(panel, device_id)
    panel.table("Universes", lambda: _fit(panel, device_id))
    panel.table("What each way costs: universes · cut pixels", lambda: _costs(panel, device_id))
    patch_buttons(panel, device_id)
    panel.table("Power at full white", lambda: _loads(panel, device_id))


def _begin(panel: FormPanel, device_id: str) -> None:
    """Where its streams begin: a universe for each port, or packed; and spare universes behind them."""
    s = panel.session
    # what is typed here is no value of the rig: it waits for one of the buttons behind it
    first = Field(
        "The number of the universe that the first port begins at. It is made and fed when it is not there.",
        lambda t: read_whole_number(t, 1, 63999),
        right=True,
    )
    first.setAccessibleName("First universe")
    keep_width(first, 64)
    streams = [x for k, x in s.index.cables_and_sums.streams.items() if k.device == device_id]
    start = next((x.start for x in streams if x.start), None)
    first.set_value(str(start[0] if start else first_free_universe(s.rig)))

    def begin(follows: str) -> None:
        if first.commit():
            s.make_edit(begin_and_make, device_id, int(first.value), follows)

    each = make_button(
        "A universe each",
        lambda: begin("universe"),
        "Every port begins at a universe of its own, from this number on. What is missing is made and fed.",
    )
    packed = make_button(
        "Packed",
        lambda: begin("packed"),
        "The ports follow one another without a gap, from this number on. What is missing is made and fed.",
    )
    panel.body.addLayout(field_row("Begin at", first, None))
    panel.body.addWidget(first.refusal)
    panel.body.addLayout(flow_of_widgets(each, packed, None))
    spare = Field(
        "How many spare universes to make and feed behind the last one that is needed.",
        lambda t: read_whole_number(t, 0, 1000),
        right=True,
    )
    spare.setAccessibleName("Headroom")
    keep_width(spare, 40)
    spare.set_value("0")
    make = make_button(
        "Make and feed",
        lambda: s.make_edit(make_to_fit, device_id, int(spare.value or "0")) if spare.commit() else None,
        "Makes and feeds every universe the device needs, and the spare ones, like the first.",
    )

    def say() -> None:
        if device_id in s.rig.devices:
            need = fit_universes(s.rig, s.index.cables_and_sums, device_id)
            make.setText(f"Make and feed {len(need.missing) + len(need.unfed)}")

    panel.refreshers.append(say)
    panel.body.addLayout(flow_of_widgets(make, make_label("spare", quiet=True), spare, None))
    panel.body.addWidget(spare.refusal)


def _fit(panel: FormPanel, device_id: str) -> Rows:
    s = panel.session
    if device_id not in s.rig.devices:
        return ()
    need = fit_universes(s.rig, s.index.cables_and_sums, device_id)
    if not need.numbers:
        return (("Universes", "no port has a start yet"),)
    model = model_of(s.rig, device_id)
    most = f" of {model.universes}" if model and model.universes else ""
    return (
        ("Needed", f"{len(need.numbers)}{most}: {need.numbers[0]}–{need.numbers[-1]}"),
        ("Not there · not fed", f"{len(need.missing)} · {len(need.unfed)}"),
        (f"Needed of the last, {need.last[0]}", f"{need.last[1]} slots"),
    )


def _costs(panel: FormPanel, device_id: str) -> Rows:
    s = panel.session
    cables = s.index.cables_and_sums
    pixels = sum(x.pixels for k, x in cables.streams.items() if k.device == device_id)
    if device_id not in s.rig.devices or pixels > MOST_COSTED or not universes_of(cables, device_id):
        return ()
    ways = packing_choices(s.rig, device_id)
    found = [(c.words, f"{c.universes} · {len(c.cut)} cut") for c in ways]
    dense = next((c for c in ways if c.cut), None)
    for x in dense.cut[:12] if dense else ():
        found.append((f"dense cuts {x.name}/{x.pixel}", f"{say_place(*x.first)} | {say_place(*x.last)}"))
    if dense and len(dense.cut) > 12:
        found.append(("and so on", f"{len(dense.cut) - 12} more"))
    return tuple(found)


def _loads(panel: FormPanel, device_id: str) -> Rows:
    mine = [
        x for x in loads_of_supplies(panel.session.index.cables_and_sums) if x.kind == "supply" or x.id == device_id
    ]
    rated = [x for x in mine if x.kind != "port" or x.rated]
    return tuple((x.name, f"{x.amps:.1f} A" + (f" of {x.rated:g}" if x.rated else "")) for x in rated[:16])
