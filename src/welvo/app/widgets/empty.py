"""The page of a station that has nothing to show yet: what belongs here, and the first item to do."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget

from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import column_of_widgets, make_label


class EmptyPage(QWidget):
    """A title, one or two sentences, and the widgets to begin with; under them a hint, and what stands below it."""

    def __init__(
        self, title: str, words: tuple[str, ...], *begin: QWidget, hint: bool = False, below: QWidget | None = None
    ) -> None:
        super().__init__()
        body = column_of_widgets((40, 40, 40, 40), 10)
        body.addStretch(1)
        self.words = [_centred_label(make_label(w, 13, wrap=True)) for w in words]
        for line in (_centred_label(make_label(title, 22, True)), *self.words):
            body.addWidget(line)
        if begin:
            body.addLayout(flow_of_widgets(None, *begin, None))
        self.hint = _centred_label(make_label("", 11, quiet=True, wrap=True))
        if hint:
            body.addWidget(self.hint)
        if below:
            body.addWidget(below)
        body.addStretch(2)
        self.setLayout(body)


def _centred_label(made: QLabel) -> QLabel:
    made.setAlignment(Qt.AlignmentFlag.AlignCenter)
    return made
