"""Welvo: DMX fixture profiles, patch, universes and devices held as one rig, from channel chart to light."""

__version__ = "0.2.0"
__date__ = "2026-12-01"
"""When this version was made."""
APP_ID = "desktop.welvo.Welvo"
"""How a desktop knows the program: the id of its AppStream component, its entry and its windows."""
