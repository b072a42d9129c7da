"""The window: Qt 6 Widgets. The only part of Welvo that imports PySide6; may import everything else."""
