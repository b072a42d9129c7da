"""Lets tshark judge what Welvo sends: `make referee` (needs tshark, and the right to capture on lo).

Runs the demo's stand-ins and an armed engine on loopback for a few seconds and counts packets by kind. Exits with 1
when one is malformed, other than the kinds tshark itself cannot read (sACN synchronization and discovery).
"""

from __future__ import annotations

import asyncio
import collections
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from welvo.demo.gallery import make_gallery, state_file
from welvo.formats.rigfile import save_rig_file
from welvo.live.engine import EngineProcess
from welvo.live.interfaces import LOOPBACK
from welvo.live.links import ArtNetLink
from welvo.live.listener import Listener
from welvo.live.output import rows_of, streams_to_send
from welvo.live.rdm_link import Gateways, ResponderTalk, find_responders
from welvo.matching.lamps import address_by_rdm
from welvo.observed.values import Observed
from welvo.protocols import artnet
from welvo.rig.document import Rig
from welvo.rig.plan import planned_settings
from welvo.standins.process import StandIns

FIELDS = [
    "frame.protocols",
    "udp.length",
    "artnet.header.opcode",
    "acn.dmx.universe",
    "acn.dmx.priority",
    "acn.dmx.source_name",
    "_ws.malformed",
    "_ws.expert.message",
    "rdm.pid",
]


async def ask_lamps(rig: Rig, listener: Listener) -> None:
    """Search a port for lamps, read one of them in full, and set it."""
    at = address_by_rdm(rig, Observed(heard=listener.heard_devices()), "d1", "A")
    assert at
    port = Gateways(listener).port_at(*at)
    found = await find_responders(port, True)
    talk, uid = ResponderTalk(port), found[0].uid
    await talk.read_responder(uid, deep=True)
    await talk.set_label(uid, "Seen by the referee")
    await talk.set_address(uid, 17)
    await talk.identify_responder(uid, True)
    await talk.identify_responder(uid, False)


def main() -> int:
    rig = make_gallery()
    with tempfile.TemporaryDirectory() as folder:
        capture = Path(folder) / "lo.pcapng"
        quiet = {**os.environ, "WIRESHARK_EXTCAP_DIR": folder + "/none"}
        shark = subprocess.Popen(
            ["tshark", "-i", "lo", "-w", str(capture), "-f", "udp port 5568 or udp port 6454", "-a", "duration:12"],
            stderr=subprocess.DEVNULL,
            env=quiet,
        )
        time.sleep(1.5)
        save_rig_file(rig, Path(folder) / "rig.welvo")
        stand_ins = StandIns(Path(folder) / "rig.welvo", state_file())
        stand_ins.wait_ready()
        listener = Listener(LOOPBACK, [1, 2, 3])
        listener.start_listening()
        engine = None
        try:
            time.sleep(1.0)
            engine = EngineProcess(LOOPBACK.ip, len(rig.universes), "Welvo referee", listener.artnet_fd)
            engine.write(os.urandom(512 * len(rows_of(rig))))
            engine.set_streams(streams_to_send(rig, LOOPBACK, listener.heard_devices(), {}))
            time.sleep(1.5)
            model = rig.device_models[rig.devices["d1"].model]
            values = {k: v for k, v in planned_settings(rig, "d1").items() if "." in k}
            ArtNetLink(listener).push_settings(model, listener.heard_devices()["127.0.0.21"], "127.0.0.21", values)
            listener.send_artnet(artnet.IpProg(), "127.0.0.50")  # only asks; the controller answers
            listener.send_artnet(artnet.ArtInput(1, (True, False)), "127.0.0.21")
            time.sleep(1.0)
            asyncio.run(ask_lamps(rig, listener))
        finally:
            if engine:
                engine.stop()
            listener.close()
            stand_ins.stop_process()
        shark.wait(20)
        read = [
            "tshark",
            "-r",
            str(capture),
            "--enable-heuristic",
            "acn",
            "-o",
            "acn.dmx_enable:TRUE",
            "-T",
            "fields",
            "-E",
            "separator=|",
        ]
        for field in FIELDS:
            read += ["-e", field]
        lines = subprocess.run(read, capture_output=True, text=True, env=quiet, check=True).stdout.splitlines()
    kinds: collections.Counter[str] = collections.Counter()
    bad = []
    for line in lines:
        protocols, _, opcode, universe, _, name, malformed, message, pid = (*line.split("|"), *[""] * 9)[:9]
        kind = (
            f"Art-Net opcode {opcode}"
            if opcode
            else f"sACN data from {name}"
            if universe
            else protocols.rsplit(":", 1)[-1] + " (not read by tshark)"
        )
        kinds[f"{kind}, RDM" if pid else kind] += 1
        if malformed or "alformed" in message or "hecksum" in message:
            bad.append(line)
    for kind, count in sorted(kinds.items()):
        print(f"{count:6}  {kind}")
    print(f"{len(bad)} malformed of {len(lines)}")
    for line in bad[:5]:
        print(line)
    return 1 if bad or not lines else 0


if __name__ == "__main__":
    sys.exit(main())
