"""What the window asks of a station, so that it can hold any of them without knowing which."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from PySide6.QtWidgets import QSplitter, QWidget

from welvo.app.widgets.start import Start


class Station(QWidget):
    """A place of work: it stands in the middle of the window, its panel at the right."""

    name: ClassVar[str]
    """Its word on the rail."""
    panel: QWidget
    """What stands at the right: the form of what is selected."""
    splitter: QSplitter | None = None
    """Its division into two, which is remembered from one day to the next."""
    start: Start | None = None
    """Where to begin while the rig has nothing in it."""

    def homes(self) -> Sequence[QWidget]:
        """Its useful controls, the best first: the focus goes to the first of them that takes it."""
        raise NotImplementedError

    def forget(self) -> None:
        """Another rig stands there: let go of whatever belonged to the former one."""
        raise NotImplementedError

    def restyle(self) -> None:
        """Theme or text size are others now."""
        raise NotImplementedError
