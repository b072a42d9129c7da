"""The simulated device: what its ports put out, on a clock that the test holds."""

from __future__ import annotations

from pathlib import Path

import pytest
from msgspec.structs import replace

from tests.conftest import node_model
from welvo.demo.gallery import make_gallery
from welvo.formats.models import shipped_models
from welvo.patch.index import Index
from welvo.protocols import artnet, sacn
from welvo.rig.document import Rig
from welvo.standins.gateway import Gateway
from welvo.standins.gear import SimGear, Wire
from welvo.standins.host import StandInError, describe_devices, read_fault, read_state, responders_on_ports, set_fault
from welvo.standins.lamps import LampPort
from welvo.standins.node import Node


class Clock:
    now = 100.0

    def __call__(self) -> float:
        return self.now


def box(**settings: object) -> tuple[Node, Clock]:
    clock = Clock()
    node = Node(
        "127.0.0.60", node_model(), {"A.protocol": "sacn", "A.universe": 3, "B.universe": 0x12, **settings}, clock
    )  # type: ignore[dict-item]
    return node, clock


def data(
    level: int, cid: int = 1, priority: int = 100, sequence: int = 0, options: int = 0, universe: int = 3
) -> sacn.Data:
    return sacn.Data(bytes([cid] * 16), universe, bytes([level] * 512), "", priority, sequence, options)


def test_factory_settings_count_up_from_one() -> None:
    node = Node("127.0.0.60", node_model(), {}, Clock())
    assert [(p.protocol, p.universe) for p in node.ports] == [("artnet", 1), ("artnet", 2)] and node.name == "NODE"


def test_it_answers_polls_with_one_page_a_port() -> None:
    node, _ = box()
    a, b = (artnet.decode_artnet(r) for r in node.take_artnet(artnet.Poll(), "127.0.0.1"))
    assert isinstance(a, artnet.PollReply) and isinstance(b, artnet.PollReply)
    assert (a.bind_index, a.good_output[0] & 1, a.sw_out) == (1, 1, (3,)) and (
        b.bind_index,
        b.sub,
        b.sw_out,
        b.good_output[0] & 1,
    ) == (2, 1, (2,), 0)


def test_programming_changes_the_page_it_names_and_nothing_else() -> None:
    node, _ = box()
    node.take_artnet(
        artnet.Address(2, 0x81, 0x82, sw_out=(0x84, 0x7F, 0x7F, 0x7F), command=artnet.COMMAND_MERGE_LTP), "127.0.0.1"
    )
    assert (node.ports[1].universe, node.ports[1].merge) == (0x124, "latest") and node.ports[0].universe == 3
    node.take_artnet(artnet.Address(1, command=artnet.COMMAND_TAKE_ARTNET, short_name="STAGE"), "127.0.0.1")
    assert node.ports[0].protocol == "artnet" and node.name == "STAGE" and node.ports[0].universe == 3
    node.take_artnet(artnet.Address(9, sw_out=(0x81,) * 4), "127.0.0.1")
    assert node.report == "config error"
    for command, blinks in ((artnet.COMMAND_LOCATE, True), (artnet.COMMAND_NORMAL, False)):
        node.take_artnet(artnet.Address(command=command), "127.0.0.1")
        assert node.identify is blinks


def test_highest_takes_precedence_or_the_latest_frame() -> None:
    node, _ = box()
    node.take_sacn(data(10, 1), "")
    node.take_sacn(data(5, 2), "")
    assert node.ports[0].merged_levels(100.0)[0] == 10
    latest, clock = box(**{"A.merge": "latest"})
    latest.take_sacn(data(10, 1), "")
    clock.now += 0.1
    latest.take_sacn(data(5, 2), "")
    assert latest.ports[0].merged_levels(clock.now)[0] == 5


def test_only_the_highest_priority_counts() -> None:
    node, _ = box()
    node.take_sacn(data(200, 1, 100), "")
    node.take_sacn(data(5, 2, 120), "")
    assert node.ports[0].merged_levels(100.0)[0] == 5


def test_a_lost_source_leaves_and_the_last_frame_of_the_last_one_is_held() -> None:
    node, clock = box()
    node.take_sacn(data(10, 1), "")
    clock.now += 2.0
    node.take_sacn(data(5, 2), "")
    assert node.ports[0].merged_levels(102.6)[0] == 5  # 2.5 s are over for the first
    assert node.ports[0].merged_levels(140.0)[0] == 5
    node.take_sacn(data(0, 2, sequence=1, options=sacn.TERMINATED), "")
    assert node.ports[0].merged_levels(140.0)[0] == 5  # terminated: its levels are ignored, the last ones held


def test_old_sequence_numbers_previews_and_other_universes_change_nothing() -> None:
    node, _ = box()
    node.take_sacn(data(10, sequence=50), "")
    for packet in (
        data(1, sequence=45),
        data(2, sequence=51, options=sacn.PREVIEW),
        data(3, universe=4),
        sacn.SyncPacket(bytes([1] * 16), 1),
    ):
        node.take_sacn(packet, "")
    assert node.ports[0].merged_levels(100.0)[0] == 10


def test_artnet_levels_reach_the_port_and_a_third_source_is_ignored() -> None:
    node, _ = box()
    for n, level in enumerate((10, 20, 250)):
        node.take_artnet(artnet.Dmx(0x12, bytes([level, 1])), f"127.0.0.{n + 1}")
    assert node.ports[1].merged_levels(100.0)[:3] == b"\x14\x01\x00" and node.noise == 1


def test_a_port_told_to_put_out_fewer_slots_does() -> None:
    node, _ = box(slots=96)
    node.take_sacn(data(7), "")
    out = node.ports[0].merged_levels(100.0)
    assert out[95] == 7 and out[96] == 0
    status = node.status_page()
    assert status.name == "NODE" and status.ports[0].slots == 96


def test_stand_ins_are_the_rigs_boxes_on_loopback(rig: Rig, tmp_path: Path) -> None:
    (one,) = describe_devices(rig, {}, {})
    assert (one.ip, one.model.name, one.settings) == ("127.0.0.60", "Node", {})
    assert describe_devices(rig, {}, {}, as_planned=True)[0].settings["A.universe"] == 1
    state = {"127.0.0.60": {"off": True}, "127.0.0.80": {"model": "x", "name": "NEW", "A": {"universe": 9}}}
    assert describe_devices(rig, state, {"x": node_model()})[0].settings == {"name": "NEW", "A.universe": 9}
    for bad, says in (
        ({"127.0.0.80": {"model": "nope"}}, "no device model"),
        ({"10.0.0.1": {"model": "x"}}, "not in 127"),
        ({"127.0.0.60": {"colour": 1}}, "no setting “colour”"),
    ):
        with pytest.raises(StandInError, match=says):
            describe_devices(rig, bad, {"x": node_model()})
    (tmp_path / "bad.toml").write_text("= 3")
    with pytest.raises(StandInError, match="bad.toml is no TOML"):
        read_state(tmp_path / "bad.toml")


def test_ports_of_one_page_share_net_and_sub_net() -> None:
    model = replace(node_model(), page_ports=2)
    node = Node("127.0.0.60", model, {"A.universe": 0x12, "B.universe": 0x14}, Clock())
    (page,) = (artnet.decode_artnet(r) for r in node.poll_replies())
    assert isinstance(page, artnet.PollReply) and (page.sub, page.sw_out, page.count_ports) == (1, (2, 4), 2)
    node.take_artnet(
        artnet.Address(1, 0x82, 0x83, sw_out=(0x7F, 0x85, 0x7F, 0x7F), command=artnet.COMMAND_MERGE_LTP + 1), ""
    )
    assert [(p.universe, p.merge) for p in node.ports] == [(0x232, "highest"), (0x235, "latest")]
    node.take_artnet(artnet.Address(1, command=artnet.COMMAND_TAKE_SACN + 1), "")
    assert [p.protocol for p in node.ports] == ["artnet", "sacn"]


def test_faults_of_a_node() -> None:
    node, poll = Node("127.0.0.9", node_model(), {"A.universe": 3}, lambda: 0.0), artnet.Poll()
    set_fault(node, "lossy", 2)
    assert [bool(node.take_artnet(poll, "127.0.0.1")) for _ in range(4)] == [True, False, True, False]
    set_fault(node, "lossy", 0)
    set_fault(node, "twin", True)
    macs = {artnet.decode_artnet(node.poll_replies()[0]).mac for _ in range(2)}  # type: ignore[union-attr]
    assert len(macs) == 2
    set_fault(node, "refuses", ["name", "A.universe"])
    before = node.name
    for page in (1, 2):
        node.take_artnet(artnet.Address(short_name="NEW", sw_out=(0x86, 0, 0, 0), bind_index=page), "127.0.0.1")
    assert (node.name, node.ports[0].universe, node.ports[1].universe & 15) == (before, 3, 6)
    set_fault(node, "unreachable", True)
    assert node.is_silent
    for wrong in ("test", "forgets", "nonsense"):
        with pytest.raises(StandInError, match=f"has no fault “{wrong}”; there are unreachable"):
            set_fault(node, wrong, True)


def test_faults_are_written_for_the_command_line() -> None:
    state = read_fault("127.0.0.9:slow=1.5", {"127.0.0.9": {"name": "A", "faults": {"twin": True}}})
    state = read_fault("127.0.0.9:test=red", read_fault('127.0.0.9:refuses=["name"]', state))
    assert state["127.0.0.9"] == {
        "name": "A",
        "faults": {"twin": True, "slow": 1.5, "refuses": ["name"], "test": "red"},
    }
    assert read_fault("127.0.0.8:unreachable", {}) == {"127.0.0.8": {"faults": {"unreachable": True}}}
    for wrong, words in (
        ("nine:slow", "no fault; write ADDRESS"),
        ("127.0.0.9", "no fault “”"),
        ("127.0.0.9:x", "“x”"),
    ):
        with pytest.raises(StandInError, match=words):
            read_fault(wrong, {})


def test_lamps_and_gear_can_be_broken_while_they_run() -> None:
    index = Index(make_gallery())
    device = next(k for k, d in index.rig.devices.items() if d.name == "WEIR-2")
    node = Node("127.0.0.21", shipped_models()["weir-2"], {}, lambda: 0.0)
    node.lines = {k: LampPort(v) for k, v in responders_on_ports(index, device, {"planned": True}, False).items()}
    by_name = {r.name: r for r in node.lines["A"].responders}
    set_fault(node, "lamps_deaf", ["207", "203"])
    assert {n for n, r in by_name.items() if r.fault == "deaf"} == {"207", "203"}
    set_fault(node, "lamps_slow", ["207"])
    set_fault(node, "lamps_deaf", [])
    assert {r.fault for r in by_name.values()} == {"", "slow"} and by_name["203"].address == 49
    set_fault(node, "lamps_new", ["203"])
    assert by_name["203"].address == 1
    with pytest.raises(StandInError, match="There is no 999 here; there are 201"):
        set_fault(node, "lamps_deaf", ["999"])
    with pytest.raises(StandInError, match="has no fault “gear_deaf”"):
        set_fault(node, "gear_deaf", ["3"])
    leat = Gateway(
        "127.0.0.70", shipped_models()["leat-2"], {}, lambda: 0.0, {"BUS 1": Wire([SimGear(short=3, groups=1)])}
    )
    gear = leat.wires["BUS 1"].gear[0]
    set_fault(leat, "gear_dark", ["3"])
    assert gear.fault == "lamp"
    set_fault(leat, "gear_new", [3])
    assert (gear.short, gear.fault, gear.groups) == (255, "", 0)
