"""Makes sheets out of the window's way: one thread, the newest wish, with progress, and stopped when nobody waits.

A sheet is made from values: the rig as it is at the moment of the wish, with an index of its own, so that edits go on
meanwhile and nothing is half of one rig and half of another.
"""

from __future__ import annotations

from threading import Event

from msgspec import Struct
from PySide6.QtCore import QObject, Signal

from welvo.app.disk import Newest
from welvo.app.session import Session
from welvo.app.turns import TURNS
from welvo.checks.checker import Report
from welvo.formats.versions import latest_version, unpack_version
from welvo.live.worker import WorkerFaults
from welvo.observed.values import Observed
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.steps import Stopped
from welvo.rig.versions import Version
from welvo.sheets.catalogue import make_pdf
from welvo.sheets.lists import Material
from welvo.sheets.paper import Choices
from welvo.survey.compare import compare_rigs


class SheetWish(Struct, frozen=True):
    """Which sheet, of what."""

    key: str
    choices: Choices
    rig: Rig
    observed: Observed
    report: Report
    now: float
    since: Version | None
    until: Version | None = None
    """Where changes are counted up to, if that is not now."""

    @classmethod
    def wish_of_session(
        cls, session: Session, key: str, choices: Choices, since: str = "", until: str = ""
    ) -> SheetWish:
        rig = session.rig
        version = rig.versions.get(since) or latest_version(rig)
        return cls(
            key, choices, rig, session.observed, session.report, session.clock_time(), version, rig.versions.get(until)
        )

    def material_of_wish(self) -> Material:
        index = Index(self.rig)
        since = None
        if self.since is not None:
            later = Index(unpack_version(self.until, self.rig)) if self.until else index
            name = f"{self.since.name}, up to {self.until.name}" if self.until else self.since.name
            since = (name, tuple(compare_rigs(Index(unpack_version(self.since, self.rig)), later)))
        return Material(index, self.observed, self.now, self.report, since)


class Maker(QObject):
    """`made` carries the wish and its PDF, `failed` the wish and why there is none, `told` how far it is."""

    made = Signal(object, bytes)
    failed = Signal(object, str)
    told = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.faults = WorkerFaults()
        self._newest = Newest("making sheets", self.faults)
        self._stop = Event()

    def make_sheet(self, wish: SheetWish) -> None:
        """Make a sheet; one that is being made is given up."""
        self._stop.set()
        stop = self._stop = Event()
        self._newest.put_job(lambda: self._make_wished(wish, stop))

    def stop_making(self) -> None:
        self._stop.set()

    def wait_until_settled(self, seconds: float) -> bool:
        return self._newest.wait_until_settled(seconds)

    def close(self) -> None:
        self._stop.set()
        self._newest.finish_and_stop(2.0)

    def _make_wished(self, wish: SheetWish, stop: Event) -> None:
        if stop.is_set():
            return
        last = -1

        def progress(done: int, of: int) -> None:
            nonlocal last
            if stop.is_set():
                raise Stopped
            percent = 100 * done // max(1, of)
            if percent != last:
                last = percent
                self.told.emit(done, of)

        TURNS.begin_busy()
        try:
            data = make_pdf(wish.material_of_wish(), wish.key, wish.choices, progress)
        except Stopped:
            return
        except Refused as e:
            self.failed.emit(wish, str(e))
        except Exception as e:  # whatever it is, the station says it instead of waiting for ever
            self.faults.note_fault("making sheets", e)
            self.failed.emit(wish, f"The sheet could not be made: {e}.")
        else:
            if not stop.is_set():
                self.made.emit(wish, data)
        finally:
            TURNS.end_busy()
