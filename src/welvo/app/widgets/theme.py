"""All colours, sizes and type of the interface, in one table of tokens for two themes."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from PySide6.QtGui import QColor, QFont, QFontMetrics, QPalette
from PySide6.QtWidgets import QApplication

from welvo.rig.attributes import ATTRIBUTES
from welvo.rig.tints import NO_TINT, tint_hex

TOKENS: dict[str, dict[str, str]] = {
    "dark": {
        "ground": "#0f151b", "station": "#151c24", "raised": "#1d2630", "field": "#0b1015", "line": "#2c3845",
        "edge": "#6b7a89", "text": "#ece6da", "quiet": "#b1ab9e", "select": "#27384a", "accent": "#58c9a6",
        "accent_ink": "#08130f", "accent_wash": "#173a33", "error": "#ff8577", "error_wash": "#45201f",
        "warning": "#f2bd4e", "warning_wash": "#3d3118", "note": "#93bce6", "note_wash": "#1e3044",
    },
    "light": {
        "ground": "#eae5da", "station": "#f6f2e9", "raised": "#fffdf8", "field": "#ffffff", "line": "#d2cbbc",
        "edge": "#7d776a", "text": "#1b2229", "quiet": "#51585f", "select": "#dde4ea", "accent": "#08705a",
        "accent_ink": "#ffffff", "accent_wash": "#d3ebe2", "error": "#ad2318", "error_wash": "#fbdcd6",
        "warning": "#815300", "warning_wash": "#f8e7c2", "note": "#285a8a", "note_wash": "#d9e6f4",
    },
}  # fmt: skip

STRONG: dict[str, dict[str, str]] = {
    "dark": {
        "ground": "#000000", "station": "#000000", "raised": "#0c0c0c", "field": "#000000", "line": "#9a9a9a",
        "edge": "#f2f2f2", "text": "#ffffff", "quiet": "#e4e4e4", "select": "#0b3a66", "accent": "#7af0cb",
        "error": "#ffb3aa", "warning": "#ffd97f", "note": "#b9d8ff",
    },
    "light": {
        "ground": "#ffffff", "station": "#ffffff", "raised": "#ffffff", "field": "#ffffff", "line": "#6a6a6a",
        "edge": "#101010", "text": "#000000", "quiet": "#1f1f1f", "select": "#cfe3ff", "accent": "#00543f",
        "error": "#8a0f06", "warning": "#5c3a00", "note": "#0c3d6b",
    },
}  # fmt: skip
"""What is other where the desktop asks for high contrast."""

LIGHT = {a.key: a.light for a in ATTRIBUTES if a.is_emitter} | {
    "ColorAdd_R": "#e5534b", "ColorAdd_G": "#45a862", "ColorAdd_B": "#4a7fe0", "ColorAdd_W": "#f4efe2",
    "ColorAdd_WW": "#ffdca6", "ColorAdd_CW": "#dcecff", "ColorAdd_RY": "#f0a030", "ColorAdd_GY": "#b6e04a",
    "ColorAdd_UV": "#8052e0", "ColorAdd_C": "#36cfd6", "ColorAdd_M": "#e04ac0", "ColorAdd_Y": "#ecd640",
}  # fmt: skip
"""Colours of actual light: content, not tokens; always drawn with an outline. An emitter without a softer one here is
drawn in its attribute's."""

PAPER = QColor("white")
"""What sheets are printed on: content, in both themes."""
SIZES = (11, 13, 16, 22)


@dataclass
class Theme:
    """The theme in force. `step` is added to all four type sizes, `strong` is for high contrast."""

    name: str = "dark"
    step: int = 0
    family: str = ""
    strong: bool = False

    @property
    def tokens(self) -> dict[str, str]:
        return _tokens_of_theme(self.name, self.strong)

    def color(self, token: str) -> QColor:
        return _colour_of_hex(self.tokens[token])

    def font(self, size: int = 13, bold: bool = False) -> QFont:
        return _font_of_size(self.family, size + self.step, bold)

    def metrics(self, size: int = 13, bold: bool = False) -> QFontMetrics:
        return _metrics_of_font(self.family, size + self.step, bold)

    def scale_length(self, pixels: int) -> int:
        """A length that was chosen for normal text, as the text is now."""
        return round(pixels * (13 + self.step) / 13)

    def colours_of_tint(self, k: int) -> tuple[QColor, QColor]:
        """Spine and body of tint k."""
        if k == NO_TINT:
            return self.color("edge"), self.color("line")
        spine, body = tint_hex(k, self.name)
        return _colour_of_hex(spine), _colour_of_hex(body)


THEME = Theme()


@lru_cache(4)
def _tokens_of_theme(name: str, strong: bool) -> dict[str, str]:
    return {**TOKENS[name], **(STRONG[name] if strong else {})}


@lru_cache(256)
def _colour_of_hex(hex_: str) -> QColor:
    return QColor(hex_)


@lru_cache(32)
def _font_of_size(family: str, size: int, bold: bool) -> QFont:
    font = QFont(family) if family else QFont()
    font.setPixelSize(size)
    font.setBold(bold)
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


@lru_cache(32)
def _metrics_of_font(family: str, size: int, bold: bool) -> QFontMetrics:
    return QFontMetrics(_font_of_size(family, size, bold))


# ---- the whole application


def apply_theme(app: QApplication) -> None:
    """Put the theme on the application: palette, font and the few rules of style."""
    if app.property("desktop palette") is None:
        app.setProperty("desktop palette", app.palette())  # as the desktop has it, before ours takes its place
    c = THEME.color
    palette = QPalette()
    for role, token in (
        (QPalette.ColorRole.Window, "station"), (QPalette.ColorRole.WindowText, "text"),
        (QPalette.ColorRole.Base, "field"), (QPalette.ColorRole.AlternateBase, "station"),
        (QPalette.ColorRole.Text, "text"), (QPalette.ColorRole.Button, "raised"),
        (QPalette.ColorRole.ButtonText, "text"), (QPalette.ColorRole.Highlight, "select"),
        (QPalette.ColorRole.HighlightedText, "text"), (QPalette.ColorRole.ToolTipBase, "raised"),
        (QPalette.ColorRole.ToolTipText, "text"), (QPalette.ColorRole.PlaceholderText, "quiet"),
    ):  # fmt: skip
        palette.setColor(role, c(token))
    app.setPalette(palette)
    app.setFont(THEME.font(13))
    app.setStyleSheet(_style_sheet())


def _style_sheet() -> str:
    t = THEME.tokens
    s, m = 11 + THEME.step, 13 + THEME.step
    labels = " ".join(f'QLabel[px="{n}"] {{ font-size: {n + THEME.step}px; }}' for n in SIZES)
    return f"""
    QWidget {{ color: {t["text"]}; font-size: {m}px; }}
    QToolTip {{ background: {t["raised"]}; color: {t["text"]}; border: 1px solid {t["edge"]}; padding: 4px; }}
    QLabel[quiet="true"] {{ color: {t["quiet"]}; }}
    QLabel[refusal="true"] {{ color: {t["error"]}; }}
    QLabel[bold="true"] {{ font-weight: bold; }}
    {labels}
    QLineEdit, QPlainTextEdit, QSpinBox {{ background: {t["field"]}; border: 1px solid {t["edge"]}; border-radius: 3px;
        padding: 2px 6px; min-height: 22px; selection-background-color: {t["select"]}; selection-color: {t["text"]}; }}
    QLineEdit:focus, QPlainTextEdit:focus {{ border: 2px solid {t["accent"]}; padding: 1px 5px; }}
    QLineEdit[pending="true"] {{ border-left: 2px solid {t["warning"]}; }}
    QLineEdit[wrong="true"] {{ border: 2px solid {t["error"]}; padding: 1px 5px; }}
    QLineEdit:disabled {{ color: {t["quiet"]}; background: {t["station"]}; }}
    QPushButton {{ background: {t["raised"]}; border: 1px solid {t["edge"]}; border-radius: 4px; padding: 0 12px;
        min-height: 26px; }}
    QPushButton:hover {{ border-color: {t["text"]}; }}
    QPushButton:pressed, QPushButton:checked {{ background: {t["select"]}; border-color: {t["text"]}; }}
    QPushButton:focus {{ border: 2px solid {t["accent"]}; padding: 0 11px; min-height: 24px; }}
    QPushButton:disabled {{ color: {t["quiet"]}; border-color: {t["line"]}; }}
    QProgressBar {{ background: {t["station"]}; border: 1px solid {t["edge"]}; max-height: 12px; }}
    QProgressBar::chunk {{ background: {t["accent"]}; }}
    QPushButton[primary="true"] {{ background: {t["accent"]}; color: {t["accent_ink"]}; border-color: {t["accent"]};
        font-weight: bold; min-height: 30px; }}
    QPushButton[primary="true"]:focus {{ border: 2px solid {t["text"]}; }}
    QPushButton[primary="true"]:disabled {{ background: {t["raised"]}; color: {t["quiet"]};
        border-color: {t["line"]}; }}
    QPushButton[risky="true"] {{ border: 2px dashed {t["warning"]}; }}
    QPushButton[strong="true"] {{ border: 2px solid {t["text"]}; font-weight: bold; }}
    QPushButton[strong="true"]:checked {{ background: {t["text"]}; color: {t["station"]}; }}
    QPushButton[segment="true"] {{ border-radius: 0; padding: 0 10px; background: {t["field"]}; }}
    QPushButton[segment="true"]:checked {{ background: {t["select"]}; border: 2px solid {t["accent"]};
        padding: 0 9px; min-height: 24px; }}
    QPushButton[segment="true"]:checked:focus {{ border: 2px solid {t["text"]}; }}
    QPushButton[strong="true"]:focus {{ border: 2px dashed {t["accent"]}; }}
    QPushButton[slim="true"] {{ min-height: 18px; padding: 0 8px; border-color: {t["line"]}; }}
    QLabel#balloon {{ background: {t["raised"]}; border: 1px solid {t["text"]}; color: {t["text"]}; }}
    QPushButton[flat="true"] {{ border: none; background: transparent; text-align: left; padding: 0 4px; }}
    QComboBox {{ background: {t["field"]}; border: 1px solid {t["edge"]}; border-radius: 3px; padding: 2px 6px;
        min-height: 22px; }}
    QComboBox::drop-down {{ border: none; width: 18px; }}
    QComboBox:focus {{ border: 2px solid {t["accent"]}; padding: 1px 5px; }}
    QComboBox QAbstractItemView {{ background: {t["raised"]}; selection-background-color: {t["select"]};
        border: 1px solid {t["edge"]}; }}
    QMenuBar {{ background: transparent; spacing: 0; font-weight: normal; }}
    QMenuBar::item {{ padding: {7 - THEME.step}px 8px; background: transparent; border-radius: 4px; }}
    QMenuBar::item:selected {{ background: {t["select"]}; }}
    QMenu {{ background: {t["raised"]}; border: 1px solid {t["edge"]}; padding: 4px; }}
    QMenu::item {{ padding: 5px 24px 5px 12px; }}
    QMenu::item:selected {{ background: {t["select"]}; }}
    QMenu::item:disabled {{ color: {t["quiet"]}; }}
    QMenu::separator {{ height: 1px; background: {t["line"]}; margin: 4px 8px; }}
    QTableView {{ background: {t["station"]}; border: none; gridline-color: {t["line"]};
        selection-background-color: {t["select"]};
        selection-color: {t["text"]}; outline: none; }}
    QTableView:focus {{ border: 2px solid {t["accent"]}; }}
    QHeaderView::section {{ background: {t["raised"]}; color: {t["quiet"]}; border: none;
        border-bottom: 1px solid {t["line"]};
        padding: 0 6px; font-size: {s}px; height: 24px; }}
    QScrollArea {{ border: 1px solid transparent; background: transparent; }}
    QScrollArea:focus {{ border-color: {t["accent"]}; }}
    QAbstractScrollArea::corner {{ background: transparent; }}
    QHeaderView::up-arrow, QHeaderView::down-arrow {{ subcontrol-origin: padding; subcontrol-position: center left;
        width: 8px; height: 8px; left: 2px; }}
    QScrollBar:vertical {{ width: 10px; background: transparent; }}
    QScrollBar:horizontal {{ height: 10px; background: transparent; }}
    QScrollBar::handle {{ background: {t["edge"]}; border-radius: 3px; margin: 2px; min-height: 24px;
        min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page,
        QScrollBar::sub-page {{ background: transparent; border: none;
        width: 0; height: 0; }}
    QSplitter::handle {{ background: {t["line"]}; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {t["edge"]}; border-radius: 3px;
        background: {t["field"]}; }}
    QCheckBox::indicator:checked {{ background: {t["accent"]}; border-color: {t["text"]}; }}
    QCheckBox:focus {{ color: {t["accent"]}; }}
    QDialog {{ background: {t["station"]}; }}
    """


def contrast_of_colours(a: str, b: str) -> float:
    """WCAG contrast of two hex colours."""

    def luminance(h: str) -> float:
        parts = [int(h[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        r, g, bl = (v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4 for v in parts)
        return 0.2126 * r + 0.7152 * g + 0.0722 * bl

    hi, lo = sorted((luminance(a), luminance(b)), reverse=True)
    return (hi + 0.05) / (lo + 0.05)
