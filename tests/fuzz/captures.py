"""Captures that nobody made: damaged and mutated ones are told, saved, and played onto the wire."""

from __future__ import annotations

import random
import tempfile
import time
from pathlib import Path

from tests.fuzz.files import damaged
from tests.fuzz.packets import packet
from welvo.cli.benching import _send_recording
from welvo.formats import pcap
from welvo.formats.files import RigFileError
from welvo.formats.pcap import Datagram
from welvo.live.interfaces import Interface
from welvo.live.recording import Recording, in_use, recording_of
from welvo.patience import PatienceLimit
from welvo.protocols import artnet, sacn

HERE = Interface("lo", "127.0.0.1", "255.0.0.0")
TO = "127.0.0.98"
PLAYED_EVERY = 40


def capture(c: random.Random) -> bytes:
    """Half a second of good and bad packets; the clock may jump."""
    now, found = c.choice((0.0, 1000.0, 4e9)), []
    for n in range(c.choice((1, 20, 300))):
        now += c.choice((0.0, 0.001, 0.01, -0.5, 0.02)) if c.random() < 0.99 else c.choice((1e5, -1e5))
        levels, cid = c.randbytes(c.choice((1, 512))), bytes([1 + n % 4]) * 16
        good = sacn.encode_sacn(sacn.Data(cid, 1 + n % 5, levels, "x", sequence=n & 255))
        raw = c.choice((good, artnet.encode_artnet(artnet.Dmx(n % 9, b"ab", 1 + n % 255)), packet(c)[1][:1400]))
        found.append(Datagram(max(0.0, min(now, 4.2e9)), "127.0.0.9", 5568, "239.255.0.1", 5568, raw))
    return pcap.write_capture(found)


def case(seed: str) -> tuple[int, str]:
    c = random.Random(seed)
    data = capture(c)
    if c.random() < 0.6:
        data = damaged(c, data)
    limit = PatienceLimit(20.0)
    try:
        recording = recording_of(data, "x.pcap")
    except RigFileError as e:
        return 1, "" if len(str(e)) < 600 else f"a refusal that nobody reads: {str(e)[:300]!r}"
    in_use(recording.frames)
    for at in (-1.0, 0.0, recording.length_in_seconds / 2, recording.length_in_seconds, 1e12):
        recording.levels_at(at)
    with tempfile.TemporaryDirectory() as folder:
        recording.save_recording(Path(folder) / "x.pcap")
        again = recording_of((Path(folder) / "x.pcap").read_bytes(), "x.pcap")
    if [f.levels for f in again.frames] != [f.levels for f in recording.frames]:
        return 1, "written and read again it is another capture"
    if c.randrange(PLAYED_EVERY) == 0:
        short = Recording([d for d in recording.datagrams if d.at - recording.begun < 0.5])
        if short.frames:
            begun = time.monotonic()
            sent = _send_recording(short, HERE, TO, 2.0)
            if sent["errors"]:
                return 1, f"{sent['errors']} packets were not taken by the network"
            if time.monotonic() - begun > 10 and not limit.lasts():
                return 1, "playing did not end"
    return 1, "" if limit.lasts() else "it took too long"
