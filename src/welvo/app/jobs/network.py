"""The window's side of the network: its parts put together, and the beat that keeps them true.

Ten times a second what was heard is taken over, output is looked after, and work that ended is told. The parts know
their own subject: what is heard, which levels are meant, what leaves, what is pushed, and long work with devices, lamps
and buses.
"""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

from welvo.app.jobs.bus_work import BusWork
from welvo.app.jobs.device_work import DeviceWork
from welvo.app.jobs.hearing import Hearing
from welvo.app.jobs.lamp_work import LampWork
from welvo.app.jobs.meant import MeantLevels
from welvo.app.jobs.output import Output
from welvo.app.jobs.pushing import Pushing
from welvo.app.runner import JobRunner
from welvo.app.session import Session
from welvo.live.interfaces import LOOPBACK, Interface
from welvo.rig.document import Change


class Network(QObject):
    """`armed_changed` tells the head; `ticked` comes ten times a second with news."""

    armed_changed = Signal()
    ticked = Signal()
    blackout_changed = Signal()
    failed = Signal(object)
    """A Fault: something unexpected in one of the threads."""

    def __init__(self, session: Session, interface: str = LOOPBACK.ip, quiet: bool = False) -> None:
        super().__init__()
        self._session = session
        self.runner = JobRunner()
        self.devices = DeviceWork(session, self.runner)
        self.hearing = Hearing(session, interface, quiet, self.devices)
        self.meant = MeantLevels(session)
        self.output = Output(session, self.hearing, self.meant)
        self.pushing = Pushing(session, self.hearing, self.devices)
        self.lamps = LampWork(session, self.runner, lambda: self.hearing.listener, lambda: self.output.lines)
        self.buses = BusWork(
            session,
            self.runner,
            lambda: self.hearing.interface.ip,
            self.devices.password_of,
            lambda: self.hearing.quiet or bool(self.hearing.missing),
        )
        self._count = 0
        self._tick = QTimer(self, interval=100)
        self._tick.timeout.connect(self._on_tick)
        self.hearing.changed.connect(self.armed_changed)
        self.output.changed.connect(self.armed_changed)
        self.output.blackout_changed.connect(self.blackout_changed)
        self.meant.touched.connect(self._on_touch)
        session.changed.connect(self._on_change)

    # ---- beginning and ending

    def start_network(self) -> None:
        """Begin to listen on the interface in use; what is in the way is said."""
        self.hearing.start_asking()
        self._tick.start()
        if not self.hearing.missing:
            self._listen_anew()

    def _listen_anew(self) -> None:
        self.lamps.forget()
        self.buses.forget()
        self.hearing.listen_anew(self.output.is_ending)

    def use_interface(self, interface: Interface) -> None:
        """Change the interface: output is disarmed first, then everything is heard anew."""
        self.output.disarm_output()
        self.hearing.choose_interface(interface)
        if self._tick.isActive():
            self._listen_anew()
        self.armed_changed.emit()

    def set_quiet(self, quiet: bool) -> None:
        """Let nothing out before arming, or ask for devices and join groups again."""
        self.output.disarm_output()
        self.hearing.quiet = quiet
        if self._tick.isActive() and not self.hearing.missing:
            self._listen_anew()
        self.armed_changed.emit()

    def end_network(self) -> None:
        """End all that runs beside the window: streams first, then questions, then listening."""
        self.output.disarm_output()
        self._tick.stop()
        self.devices.stop_all()
        self.lamps.stop_all()
        self.buses.stop_all()
        self.runner.close()
        self.hearing.stop_hearing()
        self.output.end_output()

    # ---- the beat

    def _on_touch(self) -> None:
        if not self.output.is_armed:
            self.ticked.emit()

    def _on_change(self, change: Change) -> None:
        self.meant.follow_change(change)
        self.hearing.follow_change(change)
        self.output.follow_change(change)

    def _on_tick(self) -> None:
        self._count += 1
        self.hearing.look_at_interface()
        self.output.look_after()
        if self._count % 3 == 0:
            self.hearing.gather_sources()
        elif self.hearing.listener and self._count % 3 == 1:  # of a thousand sources each of the two takes its time
            self.hearing.take_over()
            self.output.refresh_streams()
        if self.meant.levels.moving and not self.output.is_armed:
            self.meant.advance_fades(self._tick.interval() / 1000)
        self.devices.take_over_ended()
        if self._count % 3 != 1:  # what was heard is taken over in that turn, which is enough for one
            self.lamps.take_over_ended()
        self.buses.take_over_ended()
        self.pushing.follow_moves()
        for fault in self.hearing.take_faults():
            self.failed.emit(fault)
        self.ticked.emit()
