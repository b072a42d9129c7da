"""Where the keys are: the region of the window that has the focus, and where it goes when it stood nowhere."""

from __future__ import annotations

from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtWidgets import QApplication, QWidget

from welvo.app.findings import Drawer
from welvo.app.head import HeadBar, JumpBox, Rail
from welvo.app.panel_place import PanelPlace
from welvo.app.path import Ribbon
from welvo.app.session import Session
from welvo.app.stations import Stations
from welvo.app.widgets.fields import Field
from welvo.app.widgets.painting import focus_is_due


class Focusing(QObject):
    """`window` with the parts that the focus goes to."""

    def __init__(
        self,
        window: QWidget,
        session: Session,
        stations: Stations,
        head: HeadBar,
        jump: JumpBox,
        rail: Rail,
        ribbon: Ribbon,
    ) -> None:
        super().__init__(window)
        self._window, self._session, self._stations = window, session, stations
        self._head, self._jump = head, jump
        self._regions: list[QWidget] = [head, rail, stations.stack, stations.panels, ribbon]
        self._homing = QTimer(self, singleShot=True, interval=30)
        self._homing.timeout.connect(self.focus_again)
        session.changed.connect(lambda _: self._homing.start())
        session.selection_changed.connect(self._homing.start)

    def focus_home(self) -> None:
        """To the first useful control of the station."""
        found = self._stations.home()
        if found:
            found.setFocus()

    def focus_again(self) -> None:
        """After an act whose button is gone, the focus stands nowhere: it goes to the station, where keys do things."""
        if focus_is_due():
            self._homing.start()
        elif QApplication.focusWidget() is None and self._window.isActiveWindow():
            self.focus_home()

    def focus_jump_box(self) -> None:
        self._jump.setFocus()
        self._jump.selectAll()

    def next_region(self, back: bool) -> None:
        """F6: head, rail, station, panel, path."""
        regions, focus = self._regions, QApplication.focusWidget()
        now = next((n for n, r in enumerate(regions) if focus and (focus is r or r.isAncestorOf(focus))), -1)
        for step in range(1, len(regions) + 1):
            region = regions[(now + (-step if back else step)) % len(regions)]
            target = self._jump if region is self._head else self._stations.first_in(region)
            if target:
                target.setFocus(Qt.FocusReason.TabFocusReason)
                return

    def focus_filter(self, drawer: Drawer) -> None:
        """To the filter of what is listed: of the findings while they are shown, else of Patch."""
        field = drawer.filter if drawer.isVisible() else self._stations.patch.filter
        if not drawer.isVisible():
            self._stations.show_named("Patch")
        field.setFocus()
        field.selectAll()

    def focus_name(self, place: PanelPlace) -> None:
        """To the name of what the panel is about, ready to be typed over."""
        place.open_panel()
        named = (f for f in self._stations.panels.findChildren(Field) if f.accessibleName() == "Name")
        field = next((f for f in named if f.isVisible() and f.isEnabled()), None)
        if field is None:
            self._session.say("Nothing is selected whose name stands in the panel.")
            return
        field.setFocus()
        field.selectAll()
