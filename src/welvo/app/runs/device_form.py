"""Fields of a port and of a whole box in Runs."""

from __future__ import annotations

from welvo.app.runs.common import number, share
from welvo.app.runs.line_form import LineFields
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import button, label, row
from welvo.app.widgets.panels import Title, field_row
from welvo.patch.cable import Stream
from welvo.patch.table import whole
from welvo.rig.abilities import ability
from welvo.rig.lookup import universe_by_number
from welvo.rig.notation import say_place, thousands
from welvo.rig.plan import model_of
from welvo.rig.protocol import PROTOCOLS, say_wire
from welvo.rig.refs import PortRef
from welvo.rig.wiring import Port
from welvo.runs.edits import (
    begin_and_make,
    first_free_universe,
    fit,
    follow_runs,
    hanging,
    make_to_fit,
    set_device_way,
    set_stream,
)  # fmt: skip
from welvo.runs.pixels import choices, universes_of
from welvo.runs.power import frame_ms, loads


class BoxFields(LineFields):
    """Where streams begin, how a box packs them, what it has to carry."""

    # ---- a port

    def _port(self, did: str, port_label: str) -> None:
        s = self.session

        def now() -> Port:
            return s.rig.devices[did].ports.get(port_label, Port()) if did in s.rig.devices else Port()

        def change(words: str, **fields: object) -> object:
            return s.edit(set_stream, did, port_label, words, **fields)

        able = ability(s.rig, did, port_label)
        self.body.addWidget(Title(f"Port {port_label}", s.rig.devices[did].name))
        what = {"dmx": "gives DMX", "pixels": "gives pixel data", "bus": "gives a lamp bus"}[able.gives]
        limit = f", {thousands(able.pixels)} pixels at most ({able.of})" if able.pixels else ""
        self.body.addWidget(
            label(
                f"It {what}{limit}." + (f" Mode “{able.off}” switches it off." if able.off else ""),
                11,
                quiet=True,
                wrap=True,
            )
        )
        self.choice("Takes", "Which feed's universe the port begins with. It runs on over the universes behind it.",
                    lambda: ([("", "nothing"), *((f, f"{say_wire(v.protocol, v.wire)} · {s.rig.universes[v.universe].number}") for f, v in s.rig.feeds.items() if v.universe in s.rig.universes)], now().feed),
                    lambda v: change(f"port {port_label} takes another feed", feed=v, follows=""))  # fmt: skip
        if able.gives == "pixels":
            self.choice("Begins", "Where its stream begins: at the feed's universe, right behind the port before, or at the next universe.",
                        lambda: ([("", "at its own universe"), ("packed", "right behind the port before"), ("universe", "at the next universe")], now().follows),
                        lambda v: change(f"port {port_label} begins otherwise", follows=v))  # fmt: skip
            self.field("At slot", "The slot of that universe at which the stream begins, 1 to 512.",
                       lambda: str(now().start), lambda t: change(f"port {port_label} at slot {t}", start=whole(t, 1, 512)), narrow=84)  # fmt: skip
            self.field("Configured", "How many pixels the box is configured for on this port; 0: as many as are connected. Too many reach into what comes behind.",
                       lambda: str(now().pixels), lambda t: change(f"port {port_label}: {t} pixels", pixels=whole(t, 0, 100_000)), narrow=84)  # fmt: skip
            self.field("Brightness", "Brightness of the port in per cent, one factor of the product. With a bridge on it, it must be 100.",
                       lambda: f"{now().brightness * 100:g} %", lambda t: change(f"port {port_label} at {t}", brightness=share(t)), narrow=84)  # fmt: skip
            self.field("Gamma", "The gamma curve of the port; 1 is none. With a bridge on it, it must be 1.",
                       lambda: f"{now().gamma:g}", lambda t: change(f"port {port_label}: gamma {t}", gamma=number(t, 0.01, 5, "gamma")), narrow=64,
                       beside=self._tick("Dithering", "Trembles the lowest bit for finer steps. With a bridge on the port it must be off.", lambda: now().dither, lambda v: change(f"dithering on port {port_label}", dither=v)))  # fmt: skip
            model = model_of(s.rig, did)
            chips = list(
                dict.fromkeys(
                    (*(model.chips if model else ()), *(t.chip for t in s.rig.pixel_types.values() if t.chip))
                )
            )
            self.choice("Chip type", "Which chip type the port is set to speak. Empty: the string's own.",
                        lambda: ([("", "the string's"), *((c, c) for c in chips)], now().chip), lambda v: change(f"port {port_label}: chip {v}", chip=v))  # fmt: skip
        self._show_cards()
        self._table("Its stream", lambda: self._stream_ways(did, port_label))
        self._patch_buttons(did, port_label)

    def _stream_ways(self, did: str, port_label: str) -> tuple[tuple[str, str], ...]:
        s = self.session
        stream = s.index.cables.streams.get(PortRef(did, port_label))
        if stream is None:
            return ()
        able = ability(s.rig, did, port_label)
        amps = next((x for x in loads(s.index.cables) if (x.id, x.port) == (did, port_label)), None)
        used = stream.used
        last = used[-1] if used else (0, 0)
        ways = [
            ("Begins", say_place(*stream.start) if stream.start else "no universe yet"),
            *self._own_page(did, stream),
            ("Pixels on the cable", thousands(stream.leds) + (f" of {thousands(able.pixels)}" if able.pixels else "")),
            ("Slots of the stream", thousands(stream.slots)),
            (
                "Universes",
                f"{len(used)}: {used[0][0]}–{last[0]}" if len(used) > 1 else f"1: {last[0]}" if used else "none",
            ),
            ("Needed of the last", f"{last[1]} slots" if used else "—"),
            ("One frame takes", f"{frame_ms(s.index.cables, stream):.1f} ms"),
        ]
        if amps:
            ways.append(
                ("From the port at white", f"{amps.amps:.1f} A" + (f" of {amps.rated:g}" if amps.rated else ""))
            )
        return tuple(ways)

    def _own_page(self, did: str, stream: Stream) -> list[tuple[str, str]]:
        """The first universe and slot in the counting of the box's own pages."""
        rig = self.session.rig
        model = model_of(rig, did)
        if model is None or stream.start is None or not model.counts:
            return []
        uid = universe_by_number(rig, stream.start[0])
        feed = next((f for f in rig.feeds.values() if f.universe == uid and PROTOCOLS[f.protocol].numbered), None)
        if feed is None:
            return []
        record = PROTOCOLS[feed.protocol]
        shown = record.from_zero(feed.wire) + model.counts.get(feed.protocol, record.base)
        return [("On its own page", f"universe {shown}, slot {stream.start[1] + model.counts.get('slot', 1) - 1}")]

    def _patch_buttons(self, did: str, port_label: str = "") -> None:
        """Unpatched only, or replace all: a clear choice, with the counts on it."""
        s = self.session
        new = button(
            "Patch",
            lambda: s.edit(follow_runs, did, port_label),
            "Lets what has no address yet take it from the cable.",
        )
        every = button(
            "Replace all",
            lambda: s.edit(follow_runs, did, port_label, True),
            "Lets everything take its address from the cable, typed addresses included; locked ones stay.",
        )

        def say() -> None:
            if did not in s.rig.devices:
                return
            have = hanging(s.rig, did, port_label)
            new.setText(f"Patch {len(have.new)} unpatched")
            new.setEnabled(bool(have.new))
            every.setText(
                f"Replace all {len(have.new) + len(have.typed)}"
                + (f", {len(have.locked)} locked stay" if have.locked else "")
            )
            every.setEnabled(bool(have.typed))

        self.refreshers.append(say)
        self.body.addLayout(row(new, None))
        self.body.addLayout(row(every, None))

    # ---- the box

    def _box(self, did: str) -> None:
        s = self.session
        model = model_of(s.rig, did)

        def way(words: str, **fields: object) -> object:
            return s.edit(set_device_way, did, words, **fields)

        self.body.addWidget(Title(s.rig.devices[did].name))
        self.body.addWidget(
            label(f"{model.maker} {model.name}. {model.note}" if model else "unknown model", 11, quiet=True, wrap=True)
        )
        if model and model.modes:
            self.choice("Mode", "Which of its output modes the box is set to. A mode can switch ports off or change what they give.",
                        lambda: ([("", "not chosen"), *((m.name, m.name) for m in model.modes)], s.rig.devices[did].mode if did in s.rig.devices else ""), lambda v: way(f"mode {v}", mode=v))  # fmt: skip
        if model and model.firmwares:
            self.choice("Firmware", "Which firmware the box has. Some are known good, some carry a warning.",
                        lambda: ([("", "not known"), *((f.version, f"{f.version}{'' if f.good else ' · warned of'}") for f in model.firmwares)], s.rig.devices[did].firmware if did in s.rig.devices else ""), lambda v: way(f"firmware {v}", firmware=v))  # fmt: skip
        if not s.index.cables.streams or not any(k[0] == did for k in s.index.cables.streams):
            self._show_cards()
            self.body.addWidget(
                label(
                    "Nothing hangs on it in pixels. Pick a port, then type what hangs there.", 11, quiet=True, wrap=True
                )
            )
            return
        self.field("Slots each", "How many slots of a universe the box takes: 512, 510, or 0 for as many as the sender uses. Both ends must agree.",
                   lambda: str(s.rig.devices[did].size) if did in s.rig.devices else "", lambda t: way(f"universes of {t}", size=whole(t, 0, 512)), narrow=84)  # fmt: skip
        self.choice("Pixels", "Whole: a pixel that a universe's end would cut begins in the next. Dense: it is cut, and slots are saved.",
                    lambda: ([("whole", "kept whole"), ("dense", "dense, may be cut")], s.rig.devices[did].packs if did in s.rig.devices else "whole"), lambda v: way(f"pixels {v}", packs=v))  # fmt: skip
        self.field("Brightness", "Brightness of the whole box in per cent, one factor of the product.",
                   lambda: f"{s.rig.devices[did].brightness * 100:g} %" if did in s.rig.devices else "", lambda t: way(f"brightness {t}", brightness=share(t)), narrow=84)  # fmt: skip
        self._show_cards(2)
        self._begin(did)
        self._table("Universes", lambda: self._fit_ways(did))
        self._table("What each way costs: universes · cut pixels", lambda: self._costs(did))
        self._patch_buttons(did)
        self._table("Power at full white", lambda: self._loads(did))

    def _begin(self, did: str) -> None:
        s = self.session
        first = Field(
            "The number of the universe that the first port begins at. It is made and fed when it is not there.",
            lambda t: bool(whole(t, 1, 63999)),
            right=True,
        )
        first.say = lambda why: s.say(why, "error")
        first.setAccessibleName("First universe")
        first.setFixedWidth(64)
        streams = [x for k, x in s.index.cables.streams.items() if k[0] == did]
        start = next((x.start for x in streams if x.start), None)
        first.set_value(str(start[0] if start else first_free_universe(s.rig)))

        def begin(how: str) -> None:
            if first.commit():
                s.edit(begin_and_make, did, int(first.value), how)

        each = button(
            "A universe each",
            lambda: begin("universe"),
            "Every port begins at a universe of its own, from this number on. What is missing is made and fed.",
        )
        packed = button(
            "Packed",
            lambda: begin("packed"),
            "The ports follow one another without a gap, from this number on. What is missing is made and fed.",
        )
        self.body.addLayout(field_row("Begin at", first, None))
        self.body.addLayout(row(each, packed, None))
        spare = Field(
            "How many spare universes to make and feed behind the last one that is needed.",
            lambda t: whole(t, 0, 1000) >= 0,
            right=True,
        )
        spare.say = lambda why: s.say(why, "error")
        spare.setAccessibleName("Headroom")
        spare.setFixedWidth(40)
        spare.set_value("0")
        make = button(
            "Make and feed",
            lambda: s.edit(make_to_fit, did, int(spare.value or "0")) if spare.commit() else None,
            "Makes and feeds every universe the box needs, and the spare ones, like the first.",
        )

        def say() -> None:
            if did in s.rig.devices:
                need = fit(s.rig, s.index.cables, did)
                make.setText(f"Make and feed {len(need.missing) + len(need.unfed)}")

        self.refreshers.append(say)
        self.body.addLayout(row(make, label("spare", quiet=True), spare, None))

    def _fit_ways(self, did: str) -> tuple[tuple[str, str], ...]:
        s = self.session
        if did not in s.rig.devices:
            return ()
        need = fit(s.rig, s.index.cables, did)
        if not need.numbers:
            return (("Universes", "no port has a start yet"),)
        model = model_of(s.rig, did)
        most = f" of {model.universes}" if model and model.universes else ""
        return (
            ("Needed", f"{len(need.numbers)}{most}: {need.numbers[0]}–{need.numbers[-1]}"),
            ("Not there · not fed", f"{len(need.missing)} · {len(need.unfed)}"),
            (f"Needed of the last, {need.last[0]}", f"{need.last[1]} slots"),
        )

    def _costs(self, did: str) -> tuple[tuple[str, str], ...]:
        s = self.session
        if did not in s.rig.devices or sum(x.pixels for k, x in s.index.cables.streams.items() if k[0] == did) > 20_000:
            return ()
        if not universes_of(s.index.cables, did):
            return ()
        found = []
        ways = choices(s.rig, did)
        for c in ways:
            found.append((c.words, f"{c.universes} · {len(c.cut)} cut"))
        dense = next((c for c in ways if c.cut), None)
        for x in dense.cut[:12] if dense else ():
            found.append((f"dense cuts {x.name}/{x.pixel}", f"{say_place(*x.first)} | {say_place(*x.last)}"))
        if dense and len(dense.cut) > 12:
            found.append(("and so on", f"{len(dense.cut) - 12} more"))
        return tuple(found)

    def _loads(self, did: str) -> tuple[tuple[str, str], ...]:
        found = []
        for x in loads(self.session.index.cables):
            if x.kind == "supply" or x.id == did:
                if x.kind == "port" and not x.rated:
                    continue
                found.append((x.name, f"{x.amps:.1f} A" + (f" of {x.rated:g}" if x.rated else "")))
        return tuple(found[:16])
