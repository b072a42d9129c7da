"""What to do with an error nobody expected: keep its trace in a file, say it in words, and leave the rig as it is."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path

import platformdirs

from welvo.app.runner import begin_thread
from welvo.live.worker import Fault

MOST_LOG = 1 << 20
"""Bytes after which the log begins anew; the former one is kept beside it."""
USUALLY_WRITTEN = 0.1
"""Seconds in which a trace is written, as a rule; a disk that takes longer is not waited for."""


def log_file() -> Path:
    return Path(platformdirs.user_log_dir("welvo")) / "errors.log"


class FaultLog:
    """Writes traces into the log, and gives the sentence that names it. The same fault is told once in a while."""

    def __init__(self, file: Path | None = None, again: float = 30.0) -> None:
        self.file = file or log_file()
        self._again = again
        self._told: dict[str, float] = {}

    def take_fault(self, fault: Fault, now: float | None = None) -> str:
        """Log a fault; gives what is to be said of it, or nothing when it was said a moment ago."""
        at = time.time() if now is None else now
        last = fault.trace.rstrip().splitlines()[-3:]
        key = "\n".join(last)
        if at - self._told.get(key, -1e9) < self._again:
            return ""
        if len(self._told) > 200:
            self._told.clear()
        self._told[key] = at
        where = f" while {fault.where}" if fault.where else ""
        written: list[bool] = []
        begin_thread("fault log", lambda: written.append(self._write_fault(fault, at))).join(USUALLY_WRITTEN)
        if not written:
            file = f"The trace is being written to {self.file}"
        else:
            file = f"The trace is in {self.file}" if written[0] else f"No trace could be written to {self.file}"
        return f"Something went wrong inside Welvo{where} ({fault.words[:120]}). Your rig is as it was. {file}."

    def _write_fault(self, fault: Fault, at: float) -> bool:
        with contextlib.suppress(OSError):
            self.file.parent.mkdir(parents=True, exist_ok=True)
            if self.file.exists() and self.file.stat().st_size > MOST_LOG:
                self.file.replace(self.file.with_suffix(".old.log"))
            with self.file.open("a", encoding="utf-8", errors="replace") as f:
                f.write(f"{time.strftime('%Y-%m-%d %H:%M:%S', time.localtime(at))}  {fault.where}\n{fault.trace}\n")
            return True
        return False
