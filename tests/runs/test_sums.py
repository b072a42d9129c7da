"""Stream sums against a slow model that walks pixel by pixel, and against numbers worked out by hand."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from welvo.checks.checker import check_rig
from welvo.patch.index import Index
from welvo.rig.document import Rig
from welvo.rig.patched import Element, Place
from welvo.rig.runs import Segment
from welvo.rig.wiring import Device, DeviceModel, Feed, Port, Universe
from welvo.runs.along import cable_order, fold_order, number_order, pixel_places
from welvo.runs.cable import Cables
from welvo.runs.pixels import cuts_of_device, device_sums, packing_choices, pixel_table, ports_led_astray, universes_of

BOX = DeviceModel(name="Penstock", kind="pixel", ports=("1", "2", "3"), own_starts=True)


def box(
    *runs: tuple[Segment, ...],
    elements: dict[str, Element] | None = None,
    size: int = 512,
    many: int = 40,
    follows: str = "packed",
    start: int = 1,
    **device: object,
) -> Rig:
    """A rig of one controller whose first port begins at universe 1; the others follow."""
    universes = {f"u{n}": Universe(number=n, size=size) for n in range(1, many + 1)}
    feeds = {f"w{n}": Feed(universe=f"u{n}", sender="s", wire=n) for n in range(1, many + 1)}
    ports = {
        str(n + 1): Port(
            run=run, feed="w1" if n == 0 else "", start=start if n == 0 else 1, follows="" if n == 0 else follows
        )  # type: ignore[arg-type]
        for n, run in enumerate(runs)
    }
    made = Device(name="PEN", model="m", ports=ports, **device)  # type: ignore[arg-type]
    models = {"m": BOX, "slot": DeviceModel(name="Spout", kind="bridge", passes="slot")}
    return Rig(universes=universes, feeds=feeds, device_models=models, devices={"d": made}, elements=elements or {})


def strip(pixels: int, order: str = "RGB") -> Element:
    return Element(name=f"e{pixels}", pixels=pixels, order=order, at=Place(from_run=True))


# ---- a slow model


def walk(rig: Rig) -> list[list[tuple[int, int, int, int, int]]]:
    """For each port every slot of its stream: (segment, data pixel, component, universe, address), walked one by
    one."""
    device = rig.devices["d"]
    sizes = {u.number: u.size for u in rig.universes.values()}
    universe, address = 1, device.ports["1"].start
    ports = []
    for port in device.ports.values():
        if port.follows == "universe" and address > 1:
            universe, address = universe + 1, 1
        slots = []
        for n, s in enumerate(port.run):
            if s.kind == "pixels":
                element = rig.elements[s.element]
                k = len(element.order)
                leds = s.count or element.pixels - s.first + 1
                pixels = (leds + s.group - 1) // s.group
            elif s.kind == "bridge":
                k, pixels = 3, (s.width + 2) // 3
            else:
                continue
            if s.at.address:
                universe, address = int(s.at.universe[1:]), s.at.address
            total = s.width if s.model == "slot" else pixels * k
            for px in range(1, pixels + 1):
                if device.packs == "whole" and address + k - 1 > sizes[universe]:
                    universe, address = universe + 1, 1
                for c in range(1, k + 1):
                    if (px - 1) * k + c > total:
                        break
                    if address > sizes[universe]:
                        universe, address = universe + 1, 1
                    slots.append((n, px, c, universe, address))
                    address += 1
        if address > sizes[universe]:
            universe, address = universe + 1, 1
        ports.append(slots)
    return ports


ELEMENTS = {f"e{n}{o}": strip(n, o) for n in (1, 7, 55, 171) for o in ("RGB", "GRBW")}
segment = st.one_of(
    st.builds(
        lambda e, g, r, f: Segment(kind="pixels", element=e, group=g, reverse=r, fold=f),
        st.sampled_from(sorted(ELEMENTS)), st.integers(1, 4), st.booleans(), st.sampled_from([0, 3, 10]),
    ), st.builds(lambda n: Segment(kind="null", count=n), st.integers(1, 9)),
    st.builds(
        lambda w, m: Segment(kind="bridge", width=w, model=m), st.integers(1, 200), st.sampled_from(["", "slot"])
    ),
    st.builds(
        lambda u, a: Segment(kind="pixels", element="e55RGB", at=Place(universe=f"u{u}", address=a)),
        st.integers(1, 3), st.integers(1, 7),
    ), st.builds(lambda m: Segment(kind="extension", length=m), st.floats(0, 9)),
)  # fmt: skip
run = st.lists(segment, max_size=5).map(tuple)


@settings(max_examples=150, deadline=None)
@given(
    st.lists(run, min_size=1, max_size=3), st.sampled_from([512, 510, 100, 7]), st.sampled_from(["whole", "dense"]),
    st.sampled_from(["packed", "universe"]), st.integers(1, 512),
)  # fmt: skip
def test_sums_are_those_of_a_walk_along_the_cable(
    runs: list[tuple[Segment, ...]], size: int, packs: str, follows: str, start: int
) -> None:
    rig = box(
        *runs,
        elements=ELEMENTS,
        size=size,
        many=1200,
        follows=follows,
        start=min(start, size - size % 12 or 1),
        packs=packs,
    )
    cables = Cables(rig)
    for label, slots in zip(rig.devices["d"].ports, walk(rig)):
        stream = cables.streams.get(("d", label))
        if stream is None:
            assert not slots
            continue
        assert stream.slots == len(slots)
        table = pixel_table(stream)
        firsts = [s for s in slots if s[2] == 1]
        assert [(int(a), int(b)) for a, b in zip(table.piece, table.px)] == [(s[0], s[1]) for s in firsts]
        assert [(int(a), int(b)) for a, b in zip(table.universe, table.address)] == [(s[3], s[4]) for s in firsts]
        at = 0
        for piece in stream.pieces:
            for within in range(1, piece.slots + 1):
                assert piece.place_of_slot(within) == slots[at][3:]
                assert piece.slot_at_place(*slots[at][3:]) == within
                assert piece.stream + within - 1 == at + 1
                at += 1
        last: dict[int, int] = {}
        for *_, universe, address in slots:
            last[universe] = max(last.get(universe, 0), address)
        assert dict(stream.used) == last


@settings(max_examples=100, deadline=None)
@given(st.integers(1, 300), st.integers(0, 40), st.booleans(), st.integers(1, 5))
def test_the_order_along_the_cable_is_that_of_a_list_turned_by_hand(
    n: int, fold: int, reverse: bool, group: int
) -> None:
    data = [i // group + 1 for i in range(n)]
    if reverse:
        data.reverse()
    if 0 < fold < n:
        stretches = [data[i : i + fold] for i in range(0, n, fold)]
        data = [v for i, s in enumerate(stretches) for v in (s[::-1] if i % 2 else s)]
    assert cable_order(Segment(kind="pixels", reverse=reverse, fold=fold, group=group), n).tolist() == data
    assert fold_order(n, fold)[fold_order(n, fold)].tolist() == list(range(n))  # folding twice undoes it


def test_a_fold_that_does_not_divide_the_count_and_one_that_is_too_long() -> None:
    assert (fold_order(7, 3) + 1).tolist() == [1, 2, 3, 6, 5, 4, 7]
    assert (fold_order(5, 3) + 1).tolist() == [1, 2, 3, 5, 4]
    assert fold_order(5, 5).tolist() == fold_order(5, 9).tolist() == fold_order(5, 0).tolist() == [0, 1, 2, 3, 4]


def test_dense_cuts_the_171st_pixel_and_whole_pixels_leave_two_slots() -> None:
    """512 = 170 · 3 + 2: dense, pixel 171 has red and green on 511 and 512 and blue on 1 of the next."""
    run = (Segment(kind="pixels", element="e"),)
    dense = Cables(box(run, elements={"e": strip(200)}, packs="dense"))
    assert [(c.pixel, c.first, c.last) for c in cuts_of_device(dense, "d")] == [(171, (1, 511), (2, 1))]
    assert universes_of(dense, "d") == {1: 512, 2: 88}
    whole = Cables(box(run, elements={"e": strip(200)}))
    assert cuts_of_device(whole, "d") == () and universes_of(whole, "d") == {1: 510, 2: 90}
    ways = packing_choices(box(run, elements={"e": strip(340)}), "d")
    assert [(c.universes, len(c.cut), c.padding) for c in ways] == [(2, 0, 0), (2, 0, 0), (2, 1, 0)]
    ways = packing_choices(box(run, elements={"e": strip(341)}), "d")
    assert [(c.universes, len(c.cut)) for c in ways] == [(3, 0), (3, 0), (2, 1)]


def test_sender_and_box_of_two_sizes_part_at_the_first_slot_behind_the_shorter() -> None:
    """The sender uses 510 of a universe, the device takes 512: slot 511 of the stream is 2.001 here and 1.511 there."""
    run = (Segment(kind="pixels", element="e"),)
    rig = box(run, elements={"e": strip(200)}, size=510, packs="dense")
    cables = Cables(rig)
    assert ports_led_astray(cables, "d") == []
    rig = replace(rig, devices={"d": replace(rig.devices["d"], size=512)})
    cables = Cables(rig)
    (found,) = ports_led_astray(cables, "d")
    assert (found.slot, found.pixel, found.sender, found.box, found.pixels) == (511, 171, (2, 1), (1, 511), 30)


def test_behind_a_port_that_is_astray_every_port_that_follows_is() -> None:
    """Four packed ports of 540 slots each. The sender uses 510 of a universe, the device 512."""
    runs = [(Segment(kind="pixels", element=f"e{n}"),) for n in range(4)]
    rig = box(*runs, elements={f"e{n}": strip(180) for n in range(4)}, size=510)
    ports = rig.devices["d"].ports
    rig = replace(rig, devices={"d": replace(rig.devices["d"], size=512, packs="dense")})
    found = ports_led_astray(Cables(rig), "d")
    # Port 1: stream slot 511 is 2.001 for the sender, 1.511 for the device. Port 2 begins at stream slot 541: 2.031
    # for the sender, 2.029 for the device (512 + 29 = 541). Port 3 at 1081: 3.061 and 3.057; port 4: 4.091, 4.085.
    assert [(f.label, f.slot, f.sender, f.box) for f in found] == [
        ("1", 511, (2, 1), (1, 511)), ("2", 1, (2, 31), (2, 29)),
        ("3", 1, (3, 61), (3, 57)), ("4", 1, (4, 91), (4, 85)),
    ]  # fmt: skip
    # 4.091 counted through by each end: 3 · 510 + 91 and 3 · 512 + 91
    assert found[3].running_slots == (1621, 1627) and sum(f.pixels for f in found) == 10 + 3 * 180
    (told,) = (f for f in check_rig(rig).findings if f.code == "RUN-19")
    assert "4 ports astray" in told.title and "port 2 from slot 1 on" in told.reason
    assert "2.001 is running slot 511 for the sender and 513 for the device: 2 slots late" in told.reason
    typed = {**ports, "3": replace(ports["3"], follows="", feed=ports["1"].feed, start=1)}
    rig = replace(rig, devices={"d": replace(rig.devices["d"], ports=typed)})
    assert [(f.label, f.slot) for f in ports_led_astray(Cables(rig), "d")] == [
        ("1", 511),
        ("2", 1),
        ("3", 511),
        ("4", 1),
    ]


def test_elements_get_their_addresses_from_the_cable_and_everything_behind_moves() -> None:
    elements = {"a": strip(100), "b": strip(100), "c": strip(10)}
    run = tuple(Segment(kind="pixels", element=k) for k in ("a", "b"))
    rig = box(run, (Segment(kind="pixels", element="c"),), elements=elements)
    index = Index(rig)
    spans = [(s.universe, s.first, s.last, s.offset) for s in index.spans_of("b")]
    assert spans == [("u1", 301, 510, 0), ("u2", 1, 90, 210)]
    assert [(s.universe, s.first, s.last) for s in index.spans_of("c")] == [("u2", 91, 120)]
    ports = rig.devices["d"].ports
    longer = {**ports, "1": replace(ports["1"], run=(run[0], Segment(kind="pixels", element="x"), run[1]))}
    new = replace(rig, devices={"d": replace(rig.devices["d"], ports=longer)}, elements={**elements, "x": strip(10)})
    from welvo.rig.document import Change

    followed = index.follow_change(new, Change("", {"devices": frozenset("d"), "elements": frozenset("x")}))
    assert {"b", "c", "x"} <= followed.items and "a" not in followed.items
    assert followed.ports == {("d", "1"), ("d", "2")}
    assert [(s.universe, s.first, s.last) for s in index.spans_of("c")] == [("u2", 121, 150)]
    fresh = Index(new)
    assert {k: set(index.spans_of(k)) for k in "abcx"} == {k: set(fresh.spans_of(k)) for k in "abcx"}


def test_null_pixels_lengthen_the_cable_and_grouping_shortens_the_stream() -> None:
    elements = {"a": strip(10), "b": strip(10)}
    run = (
        Segment(kind="pixels", element="a", group=3), Segment(kind="null", count=5),
        Segment(kind="pixels", element="b", reverse=True),
    )  # fmt: skip
    cables = Cables(box(run, elements=elements))
    a, null, b = cables.streams["d", "1"].pieces
    assert (a.slots, a.pixels, a.leds) == (12, 4, 10)
    assert (null.slots, null.led, null.leds) == (0, 11, 5)
    assert (b.stream, b.px, b.led) == (13, 5, 16)
    (where,) = pixel_places(cables, "b", 1)
    assert (where.slot, where.on_port, where.places, where.cable) == (13, 5, ((1, 13), (1, 14), (1, 15)), 25)
    (where,) = pixel_places(cables, "a", 9)
    assert (where.data, where.slot, where.cable) == (3, 7, 7)
    (port,) = device_sums(cables, "d")
    assert (port.running, port.universes, port.ends, port.stream.leds) == (1, 1, 42, 25)


def test_a_sender_that_unfolds_sends_along_the_cable() -> None:
    element = replace(strip(9), fold=3, unfolds="sender")
    assert number_order(element, Segment(kind="pixels"), 9).tolist() == [1, 2, 3, 6, 5, 4, 7, 8, 9]
    cables = Cables(box((Segment(kind="pixels", element="e"),), elements={"e": element}))
    (where,) = pixel_places(cables, "e", 6)
    assert (where.slot, where.cable) == (10, 4)


def test_a_stream_ends_with_the_last_universe_there_can_be() -> None:
    """2 000 × 100 000 pixels would need over a million universes: sums stop at 63 999 and stay quick."""
    run = tuple(Segment(kind="pixels", element="e") for _ in range(2000))
    rig = box(run, elements={"e": strip(100_000)})
    stream = Cables(rig).streams["d", "1"]
    assert stream.slots == 2000 * 300_000 and stream.used[-1][0] == 63999 and len(stream.used) == 63999
    assert check_rig(rig).codes_found >= {"RUN-03"}
