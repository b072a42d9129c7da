"""Fields for what stands behind bridges and converters, and for DMX lines."""

from __future__ import annotations

import re
from collections.abc import Callable

from welvo.app.runs.common import RunsFields, number
from welvo.app.runs.riser_drawing import At
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import button, label, row
from welvo.patch.cable import Piece, Stream
from welvo.patch.table import whole
from welvo.rig.base import Refused
from welvo.rig.lookup import call
from welvo.rig.notation import plural, read_numbers, say_place
from welvo.rig.refs import PortRef
from welvo.rig.runs import Segment
from welvo.runs.bridge import demands, first_free, rows, set_right, substitute
from welvo.runs.edits import (
    set_bridge_model,
    set_guidance,
)  # fmt: skip
from welvo.runs.lamps import driven, read_functions, say_functions, sends, slot_map
from welvo.runs.lines import LineSum, contacts, line_sum, plug_of


class LineFields(RunsFields):
    """Bridges, converters and lines, with the lamps on them."""

    # ---- bridges

    def _bridge_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], piece: Callable[[], tuple[Stream, Piece] | None]) -> None:  # fmt: skip
        s = self.session
        self.field(
            "Name",
            "What the crew calls this bridge. Free words.",
            lambda: now().name,
            lambda t: change(name=t.strip()[:60]),
        )
        self.choice("Model", "What kind of bridge it is. The model says how many slots it has and whether anything may follow it.",
                    lambda: ([("", "not known"), *((k, v) for k, v in self._bridges().items())], now().model), lambda v: self._set_model(did, at, v))  # fmt: skip
        self.field("Width", "How many slots of the stream become DMX, 1 to 512. Lamps above it get nothing.",
                   lambda: str(now().width), lambda t: change(width=whole(t, 1, 512)), narrow=84)  # fmt: skip
        self._behind_field(did, at, now, change)
        self._said(did, at, "bridge")
        self.rule()
        self._own_start(did, at, now, change)
        here = piece()
        if here:
            for r in rows(s.index.cables, *here)[:24]:
                self._dmx_field(did, at, now, change, r.key, r.brk, r.name)

            def terms() -> tuple[tuple[str, str], ...]:
                live = piece()
                return (
                    tuple((d.what, "yes" if d.holds else "no") for d in demands(s.index.cables, *live)) if live else ()
                )

            self._table("For DMX to come out right", terms)
            right = button(
                "Set it right",
                lambda: s.edit(set_right, did, at.label, at.n),
                "Sets every brightness on the way to 100 % and takes away what would change the bytes.",
            )

            def wrong() -> None:
                live = piece()
                right.setEnabled(bool(live) and any(not d.holds and d.edit for d in demands(s.index.cables, *live)))  # type: ignore[misc]

            self.refreshers.append(wrong)
            self.body.addLayout(row(None, right))
            self._substitution(piece)
            self.rule()
            self._daisy(now, change)
            self._table("The line behind it, lamp by lamp", lambda: self._stops(did, at, now()))
            self._table("Adapters, contact by contact", lambda: self._contacts(did, at, now()))

    def _bridges(self) -> dict[str, str]:
        from welvo.formats.models import shipped

        rig = self.session.rig
        have = {k: f"{v.maker} {v.name}".strip() for k, v in rig.device_models.items() if v.kind == "bridge"}
        more = {
            f"+{k}": f"{v.maker} {v.name}".strip()
            for k, v in shipped().items()
            if v.kind == "bridge" and v not in rig.device_models.values()
        }
        return {**have, **more}

    def _set_model(self, did: str, at: At, key: str) -> object:
        from welvo.formats.models import shipped

        model = shipped()[key[1:]] if key.startswith("+") else None
        return self.session.edit(set_bridge_model, did, at.label, at.n, key, model)

    def _behind_field(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        s = self.session

        def read() -> str:
            return ", ".join(call(s.rig, f) for f in now().fixtures)

        def apply(t: str) -> object:
            by = {f.number: k for k, f in s.rig.fixtures.items()}
            keys = []
            for n in read_numbers(t):
                if n not in by:
                    raise Refused(f"There is no fixture {n} in this rig.")
                keys.append(by[n])
            left = {k: v for k, v in now().dmx.items() if k.split(":")[0] in keys}
            return change(fixtures=tuple(dict.fromkeys(keys)), dmx=left)

        self.field(
            "Fixtures",
            "The lamps behind it in cable order, by number: 201-205, 301. Those without an address get theirs from here.",
            read,
            apply,
            placeholder="201-205",
        )

    def _dmx_field(
        self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], key: str, brk: int, name: str
    ) -> None:
        s = self.session
        own = key if brk == 0 else f"{key}:{brk}"

        def stream_rows() -> list[tuple[int, str]]:
            stream = s.index.cables.streams.get(PortRef(did, at.label))
            if stream is None or at.n >= len(stream.pieces):
                return []
            found = [r for r in rows(s.index.cables, stream, stream.pieces[at.n]) if (r.key, r.brk) == (key, brk)]
            return [(r.dmx, say_place(*r.places[0][0]) if r.places else "not carried") for r in found]

        def apply(t: str) -> object:
            if not t.strip():
                return change(dmx={k: v for k, v in now().dmx.items() if k != own})
            place = s.rig.fixtures[key].place(brk)
            if place.way != "run":
                raise Refused(f"{name} has an address of its own; let it follow the cable first.")
            if t.strip().lower() == "free":
                stream = s.index.cables.streams[PortRef(did, at.label)]
                here = rows(s.index.cables, stream, stream.pieces[at.n])
                mine = next(r for r in here if (r.key, r.brk) == (key, brk))
                return change(dmx={**now().dmx, own: first_free(here, mine.last - mine.dmx + 1, mine)})
            return change(dmx={**now().dmx, own: whole(t, 1, 512)})

        beside = label("", 11, quiet=True)
        self.refreshers.append(lambda: beside.setText(next((w for _, w in stream_rows()), "")))
        self.field(f"{name} DMX", "Its DMX address behind the bridge, 1 to 512; empty: right behind the one before it; free: the first gap.",
                   lambda: next((str(d) for d, _ in stream_rows()), ""), apply, narrow=64, beside=beside)  # fmt: skip

    def _substitution(self, piece: Callable[[], tuple[Stream, Piece] | None]) -> None:
        """Which colour a plain pixel shows in the bridge's place, for levels of its first three slots."""
        s = self.session
        self.rule()
        self.body.addWidget(
            label(
                "Substitution test: put a plain RGB pixel in the bridge's place. With these levels on its first three DMX addresses it shows …",
                11,
                wrap=True,
            )
        )

        def apply(t: str) -> object:
            parts = [p for p in re.split(r"[\s,;/]+", t.strip()) if p]
            if len(parts) != 3 or not all(p.isdigit() and int(p) <= 255 for p in parts):
                raise Refused("Write three levels from 0 to 255, such as 255 0 0.")
            self.levels = [int(p) for p in parts]
            self.refresh()
            return True

        self.field("Levels", "Levels of the first three slots behind the bridge, 0 to 255 each. Nothing is sent from here.",
                   lambda: " ".join(map(str, self.levels)), apply, narrow=110)  # fmt: skip

        def shown() -> tuple[tuple[str, str], ...]:
            here = piece()
            if here is None:
                return ()
            got = substitute(s.index.cables, *here, (self.levels[0], self.levels[1], self.levels[2]))
            return ((f"red {got.red} · green {got.green} · blue {got.blue}", got.word),)

        self._table("The plain pixel shows", shown)

    # ---- converters

    def _lamp_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object], piece: Callable[[], tuple[Stream, Piece] | None]) -> None:  # fmt: skip
        s = self.session
        self.field("Channels", "What each channel of a lamp does, in order: dimmer red green blue white, or a fixed value such as =128.",
                   lambda: say_functions(now().functions), lambda t: change(functions=read_functions(t)))  # fmt: skip
        spacing = Field(
            "Start to start of two lamps in slots; 0: packed.", lambda t: change(spacing=whole(t, 0, 512)), right=True
        )
        spacing.say = lambda why: s.say(why, "error")
        spacing.setAccessibleName("Spacing")
        spacing.setFixedWidth(48)
        self.refreshers.append(lambda: spacing.set_value(f"{now().spacing or len(now().functions)}"))
        self.field("First · every", "DMX address of the first lamp on the converter's line, and how many slots from start to start.",
                   lambda: str(now().start), lambda t: change(start=whole(t, 1, 512)), narrow=64, beside=spacing)  # fmt: skip
        self._behind_field(did, at, now, change)
        self._said(did, at, "lamps")
        self.rule()

        def apply(t: str) -> object:
            parts = [p for p in re.split(r"[\s,;/]+", t.strip()) if p]
            if len(parts) != 4 or not all(p.isdigit() and int(p) <= 255 for p in parts):
                raise Refused("Write red, green, blue and brightness from 0 to 255, such as 255 160 0 200.")
            self.colour = [int(p) for p in parts]
            self.refresh()
            return True

        self.field("Colour", "A colour and a brightness, 0 to 255 each, to see what every slot gets. Nothing is sent from here.",
                   lambda: " ".join(map(str, self.colour)), apply, narrow=140)  # fmt: skip

        def out() -> tuple[tuple[str, str], ...]:
            f = now().functions
            values = sends(f, dict(zip("RGB", self.colour)), self.colour[3])
            return tuple(
                (f"DMX {now().start + n} · {say_functions((x,))}", str(v)) for n, (x, v) in enumerate(zip(f, values))
            )

        self._table("The first lamp's slots get", out)

        def listed() -> tuple[tuple[str, str], ...]:
            here = piece()
            slots = slot_map(s.index.cables, *here) if here else []
            rows_ = [
                (
                    f"DMX {x.dmx} · {say_functions((x.function,))}",
                    f"lamp {x.lamp} · px {x.pixel}{f' · {say_place(*x.place)}' if x.place else ''}",
                )
                for x in slots[:96]
            ]
            return (*rows_, *((("and so on", f"{len(slots) - 96} more slots"),) if len(slots) > 96 else ()))

        self._table("Slot map: lamp's side, sender's side", listed)

        def fits() -> tuple[tuple[str, str], ...]:
            first = s.rig.fixtures.get(now().fixtures[0]) if now().fixtures else None
            if first is None:
                return ()
            return tuple(
                (f"{d.slot} {d.name}", (d.gets if d.fits else f"{d.gets or 'nothing'} — not driven"))
                for d in driven(s.rig, first, now().functions)
            )

        self._table("Channels of the first lamp", fits)

    # ---- DMX lines

    def _line_fields(self, did: str, at: At, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        s = self.session
        self.field(
            "Name",
            "What the crew calls this line. Free words.",
            lambda: now().name,
            lambda t: change(name=t.strip()[:60]),
        )
        self._behind_field(did, at, now, change)

        self._daisy(now, change)
        self.field("Guidance", "How many metres of DMX line are worth a finding in this rig; 300 is a common one.",
                   lambda: f"{s.rig.line_metres:g} m", lambda t: s.edit(set_guidance, number(t, 1, 10_000, "the guidance")), narrow=84)  # fmt: skip

        self._table("Lamp by lamp", lambda: self._stops(did, at, now()))
        self._table("Adapters, contact by contact", lambda: self._contacts(did, at, now()))

    def _daisy(self, now: Callable[[], Segment], change: Callable[..., object]) -> None:
        """What is said of a daisy chain: cables, boosters, its far end."""
        s = self.session

        def lengths(t: str) -> object:
            values = [
                number(p, 0, 10_000, "a cable's length")
                for p in re.split(r"[;\s]+|,\s+", t.replace("m", " ").strip())
                if p
            ]
            lamps = now().fixtures
            if len(values) == 1:
                return change(lengths=dict.fromkeys(lamps, values[0]) if values[0] else {})
            if len(values) != len(lamps):
                raise Refused(
                    f"{len(values)} lengths for {plural(len(lamps), 'lamp')}: write one for all, or one for each in cable order."
                )
            return change(lengths={k: v for k, v in zip(lamps, values) if v})

        def read_lengths() -> str:
            values = [now().lengths.get(f, 0.0) for f in now().fixtures]
            return f"{values[0]:g}" if len(set(values)) == 1 else "; ".join(f"{v:g}" for v in values) if values else "0"

        self.field("Cables m", "Metres of cable before each lamp: one number for all, or one for each in cable order, such as 12; 3; 3.", read_lengths, lengths)  # fmt: skip

        def boosters(t: str) -> object:
            by = {s.rig.fixtures[k].number: k for k in now().fixtures if k in s.rig.fixtures}
            keys = []
            for n in read_numbers(t):
                if n not in by:
                    raise Refused(f"{n} does not hang on this line.")
                keys.append(by[n])
            return change(boosters=tuple(keys))

        self.field("Boosters", "Before which lamps a splitter or booster stands, by number. It begins unit loads and length anew.",
                   lambda: ", ".join(call(s.rig, k) for k in now().boosters), boosters, placeholder="none")  # fmt: skip
        self.choice("Far end", "Whether the last lamp has a terminator. An open end echoes.",
                    lambda: ([("", "not known"), ("yes", "terminated"), ("no", "open")], {None: "", True: "yes", False: "no"}[now().terminated]),
                    lambda v: change(terminated={"": None, "yes": True, "no": False}[v]))  # fmt: skip

    def _line_sum(self, did: str, at: At, one: Segment) -> LineSum | None:
        """The sums of a line, on a port of its own or behind a bridge."""
        s = self.session
        stream = s.index.cables.streams.get(PortRef(did, at.label))
        if stream and at.n < len(stream.pieces):
            return line_sum(s.index, one, stream.pieces[at.n], "", plug_of(s.rig, did, one) if one.model else "")
        line = s.index.cables.lines.get(PortRef(did, at.label))
        return line_sum(s.index, one, None, line.universe, plug_of(s.rig, did)) if line else None

    def _stops(self, did: str, at: At, one: Segment) -> tuple[tuple[str, str], ...]:
        total = self._line_sum(did, at, one)
        if total is None or not total.stops:
            return ()
        ways = [
            ("Unit loads · metres", f"{total.heaviest:g} of 32 · {total.longest:g} m"),
            ("Order", "by address" if total.in_order else "not by address"),
        ]
        ways += [
            (
                f"{x.turn}. {x.name}{' · booster' if x.booster else ''}",
                f"set {x.dmx or '—'}"
                + (f" · {x.metres:g} m" if x.metres else "")
                + (f" · {x.adapter}" if x.adapter else ""),
            )
            for x in total.stops[:40]
        ]
        return tuple(ways)

    def _contacts(self, did: str, at: At, one: Segment) -> tuple[tuple[str, str], ...]:
        total = self._line_sum(did, at, one)
        found: list[tuple[str, str]] = []
        for need in total.adapters if total else ():
            a, b = need.split(" to ")
            found += [(f"{need} · {function}", f"{here} → {there}") for function, here, there in contacts(a, b)]
        return tuple(found)
