"""Welvo: DMX fixture profiles, patch, universes and devices held as one rig, from channel chart to light."""

__version__ = "0.1.0"
