"""The guide inside the program: its pages with their pictures, links between them, and a field to find words."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QTextCursor, QTextDocument
from PySide6.QtWidgets import QLineEdit, QTextBrowser, QWidget

from welvo.app.widgets.dialogs import Dialog
from welvo.app.widgets.fields import set_help
from welvo.app.widgets.flow import keep_width
from welvo.app.widgets.painting import make_button
from welvo.app.widgets.theme import THEME
from welvo.formats.handbook import handbook_folder


class GuideText(QTextBrowser):
    """Reads the pages of the handbook and nothing else: no page leads out of its folder or onto the network."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self._folder = folder
        self.setOpenLinks(False)
        self.setAccessibleName("Guide")
        self.anchorClicked.connect(self.follow_link)
        self.document().setDefaultStyleSheet(f"a {{ color: {THEME.color('accent').name()}; }}")

    def follow_link(self, link: QUrl) -> None:
        """Open a page of the handbook, or a heading of the present one."""
        target = self.source().resolved(link) if link.path() else self.source()
        path = Path(target.toLocalFile())
        if path.suffix == ".md" and path.is_file() and self._folder in path.resolve().parents:
            if path != Path(self.source().toLocalFile()):
                self.setSource(QUrl.fromLocalFile(str(path)), QTextDocument.ResourceType.MarkdownResource)
            if link.fragment():
                self.find_heading(link.fragment())

    def find_heading(self, fragment: str) -> None:
        """Go to the heading that a link names: its words in small letters, with dashes for blanks."""
        block = self.document().begin()
        while block.isValid():
            words = "".join(c for c in block.text().lower() if c.isalnum() or c in " -").replace(" ", "-")
            if block.blockFormat().headingLevel() and words == fragment.lower():
                self.setTextCursor(QTextCursor(block))
                self.verticalScrollBar().setValue(self.verticalScrollBar().value() + self.cursorRect().top())
                return
            block = block.next()

    def find_next(self, words: str) -> bool:
        """Go to the next place where some words stand; from the end it begins anew. Gives whether there is one."""
        if not words:
            return False
        if not self.find(words):
            self.moveCursor(QTextCursor.MoveOperation.Start)
            return self.find(words)
        return True


class Guide(Dialog):
    """The window of the guide."""

    def __init__(self, parent: QWidget, folder: Path) -> None:
        self.field = QLineEdit()
        self.field.setPlaceholderText("find in this page")
        self.field.setAccessibleName("Find in the guide")
        set_help(self.field, "Words to look for in this page. Enter goes to the next place.")
        keep_width(self.field, 220)
        super().__init__(parent, "Guide", beside=(None, self.field), wide=860, high=620)
        self.field.returnPressed.connect(lambda: self._look_for_words(self.field.text()))
        self.text = GuideText(folder)
        self.text.setSource(QUrl.fromLocalFile(str(folder / "guide.md")), QTextDocument.ResourceType.MarkdownResource)
        self.body.addWidget(self.text, 1)
        back = make_button("Back", self.text.backward, "The page before.")
        self.finish(None, back, leave="Close", room=4)
        self.text.setFocus(Qt.FocusReason.OtherFocusReason)

    def _look_for_words(self, words: str) -> None:
        found = self.text.find_next(words.strip())
        self.say("" if found else f"“{words.strip()}” does not stand in this page.")


def open_guide(parent: QWidget) -> str:
    """Show the guide; gives why it cannot be shown, or nothing."""
    folder = handbook_folder()
    if folder is None:
        return "The guide was not installed with this program. It is in docs/guide.md of its source."
    guide = Guide(parent, folder.resolve())
    guide.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    guide.show()
    return ""
