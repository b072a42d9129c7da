"""Noise on the wire: 20,000 packets a second beside a few good ones, to the listener and to the stand-ins.

Every good packet must be seen, and the memory must stay what it was.
"""

from __future__ import annotations

import os
import random
import socket
import subprocess
import sys
import time
from pathlib import Path

import psutil

from tests.fuzz.packets import packet
from welvo.demo.gallery import make_gallery, state_file
from welvo.formats.rigfile import save_rig_file
from welvo.live.interfaces import Interface
from welvo.live.listener import Listener
from welvo.live.status import read_status
from welvo.protocols import artnet, sacn
from welvo.standins.process import StandIns

HERE = Interface("lo", "127.0.0.79", "255.0.0.0")
CID = bytes([0x5A]) * 16
GOOD_EVERY = 0.02

SENDER = """
import sys
from tests.fuzz.noise import send
send(sys.argv[1], float(sys.argv[2]), int(sys.argv[3]), sys.argv[4].split(","))
"""


def send(seed: str, seconds: float, rate: int, to: list[str]) -> None:
    """Send noise at a rate to some addresses, and good packets of one source in between; print how many good ones."""
    chance = random.Random(seed)
    noise = [packet(chance)[1][:1400] or b"x" for _ in range(4000)]
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.bind(("127.0.0.80", 0))
    ports = (sacn.PORT, artnet.PORT)
    begun = time.monotonic()
    sent = good = 0
    next_good = begun
    while (now := time.monotonic()) - begun < seconds:
        if now >= next_good:
            next_good += GOOD_EVERY
            data = sacn.encode_sacn(sacn.Data(CID, 4242, bytes([good & 255]) * 8, "good", sequence=good & 255))
            for ip in to:
                sock.sendto(data, (ip, sacn.PORT))
            good += 1
        due = int((now - begun) * rate)
        for _ in range(min(64, due - sent)):
            sock.sendto(noise[sent % len(noise)], (to[sent % len(to)], ports[sent & 1]))
            sent += 1
        if sent >= due:
            time.sleep(0.0003)
    print(good, sent, flush=True)


def knock(seed: int | str, seconds: float, rate: int, folder: Path) -> tuple[str, str]:
    """What was measured, and what was wrong; empty when nothing was."""
    file = folder / "r.welvo"
    save_rig_file(make_gallery(), file)
    stand_ins = StandIns(file, state_file())
    listener = Listener(HERE, poll=False)
    try:
        stand_ins.wait_ready()
        listener.start_listening()
        child = psutil.Process(stand_ins._process.pid)
        before = psutil.Process().memory_info().rss, child.memory_info().rss
        sender = subprocess.Popen(
            [sys.executable, "-c", SENDER, str(seed), str(seconds), str(rate), f"{HERE.ip},127.0.0.31"],
            stdout=subprocess.PIPE,
            text=True,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)},
        )
        out, _ = sender.communicate(timeout=seconds + 30)
        good, sent = map(int, out.split())
        time.sleep(0.5)
        seen = sum(x.frames for x in listener.heard_sources(time.time()) if x.wire == 4242 and x.name == "good")
        after = psutil.Process().memory_info().rss, child.memory_info().rss
        answers = read_status("127.0.0.31", 8421)  # its name may be another: some of the noise programs it
        grown = [(b - a) >> 20 for a, b in zip(before, after)]
        words = (
            f"{sent} packets of noise in {seconds:g} s, {seen} of {good} good ones seen, "
            f"{listener.packets} taken; memory of listener and stand-ins grew by {grown[0]} and {grown[1]} MB"
        )
        wrong = []
        if seen < good:
            wrong.append(f"{good - seen} good packets were not seen")
        if max(grown) > 60:
            wrong.append("memory grew")
        if listener.faults.count or not listener.is_running:
            wrong.append("listening broke")
        if len(answers.ports) != 4 or not stand_ins.is_running:
            wrong.append("the stand-ins broke")
        return words, "; ".join(wrong)
    finally:
        listener.close()
        stand_ins.stop_process()
